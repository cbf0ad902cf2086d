// Package enginetest is the conformance suite of engines: what each must keep.
package enginetest

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"pingo/internal/core/retry"
	"pingo/internal/core/shape"
	"pingo/internal/engine"
	"pingo/internal/engine/wire"
)

// Shape is what the suite's documents look like.
func Shape() *shape.Shape {
	return &shape.Shape{Index: "huts", Nodes: []*shape.Node{
		{ID: 0, Parent: -1, Key: []string{"id"}, Children: []int{1, 2}, Fields: []shape.Field{
			{Name: "name", Type: shape.Text, Search: 10, Sort: true}, {Name: "summary", Type: shape.Text, Search: 1}, {Name: "beds", Type: shape.Integer, Filter: true},
			{Name: "price", Type: shape.Decimal}, {Name: "open", Type: shape.Boolean}, {Name: "since", Type: shape.Date}, {Name: "at", Type: shape.Timestamp},
			{Name: "position", Type: shape.Geo}, {Name: "facts", Type: shape.Object}, {Name: "code", Type: shape.Keyword}}},
		{ID: 1, Parent: 0, Name: "region", Fields: []shape.Field{{Name: "name", Type: shape.Text, Search: 3}}},
		{ID: 2, Parent: 0, Name: "offers", Many: true, List: true, Fields: []shape.Field{{Name: "label", Type: shape.Text, Search: 1}}},
	}}
}

func doc(key string, version int64, fields string) wire.Document {
	return wire.Document{Key: key, Version: version, Body: []byte(fmt.Sprintf(`{"pingo_fingerprint":"%016d"%s}`, version, fields))}
}

// Faults makes an engine misbehave for the next requests; nil when it cannot.
type Faults struct {
	Busy, LoseAnswer func(requests int)
}

// Run checks an engine that holds nothing yet.
func Run(t *testing.T, e engine.Engine, faults *Faults) {
	ctx, s := t.Context(), Shape()
	if words, err := e.Describe(ctx); err != nil || words == "" {
		t.Fatal(words, err)
	}
	for range 2 { // a step that is taken again
		if err := e.Prepare(ctx, "huts-e1", s); err != nil {
			t.Fatal(err)
		}
	}
	deliver := func(edition string, docs ...wire.Document) string {
		t.Helper()
		results, err := e.Deliver(ctx, edition, docs)
		if err != nil {
			return "error: " + engine.OutcomeOf(err).String()
		}
		words := make([]string, len(results))
		for i, r := range results {
			words[i] = r.Outcome.String()
			if r.Outcome == retry.Refused && r.Reason == "" {
				t.Errorf("%s is refused without a reason", docs[i].Key)
			}
		}
		return strings.Join(words, " ")
	}
	want := func(what, got, want string) {
		t.Helper()
		if got != want {
			t.Errorf("%s: %s, want %s", what, got, want)
		}
	}
	gone := func(key string, version int64) wire.Document { return wire.Document{Key: key, Version: version} }
	full := `,"name":"Grim Ridge Hut","summary":"Stone hut","beds":9007199254740993,"price":12.5,"open":true,"since":"2031-06-01","at":"2031-06-01T10:20:30.123456Z","position":[8.5,46.5],"facts":{"any":[1,"x"]},"code":"A-1","region":{"name":"Tarn Country"},"offers":["wood stove",null]`
	want("every type", deliver("huts-e1", doc("1", 5, full)), "done")
	want("nulls, and a key that needs escaping", deliver("huts-e1", doc(`a~1"\ü`, 5, `,"name":null,"region":null,"offers":[]`)), "done")
	want("versions", deliver("huts-e1", doc("1", 4, ""), doc("1", 5, ""), doc("2", 5, `,"name":"Dusk Pass Hut"`), gone("2", 6), doc("2", 5, ""), gone("3", 7), doc("3", 6, "")), "already newer already newer done done already newer done already newer")
	want("one bad document among good ones", deliver("huts-e1", doc("4", 8, `,"beds":"many"`), doc("5", 8, `,"name":"Falk Spire Refuge","summary":"grim weather"`), doc("6", 8, `,"unknown":1`), doc("7", 8, `,"since":"yesterday"`), doc("8", 8, `,"position":[1,200]`)), "refused done refused refused refused")
	want("an edition that is not there", deliver("huts-e9", doc("1", 1, "")), "blocked")

	stored, err := e.Get(ctx, "huts-e1", []string{"1", "2", "5", "none"})
	if err != nil || len(stored) != 2 || !strings.Contains(string(stored["1"]), "9007199254740993") {
		t.Errorf("stored: %s %v", stored, err)
	}
	if err := e.Filled(ctx, "huts-e1"); err != nil {
		t.Fatal(err)
	}
	if n, err := e.Count(ctx, "huts-e1"); n != 3 || err != nil {
		t.Errorf("%d documents, %v", n, err)
	}
	scan := func(edition string) (out []string) {
		t.Helper()
		if err := e.Scan(ctx, edition, func(key, fingerprint string) error { out = append(out, key+" "+fingerprint); return nil }); err != nil {
			t.Error(err)
		}
		slices.Sort(out)
		return out
	}
	want("scan", fmt.Sprint(scan("huts-e1")), `[1 0000000000000005 5 0000000000000008 a~1"\ü 0000000000000005]`)
	stop := errors.New("enough")
	if err := e.Scan(ctx, "huts-e1", func(string, string) error { return stop }); !errors.Is(err, stop) {
		t.Errorf("a scan that is stopped: %v", err)
	}

	if now, err := e.Answering(ctx, "huts"); err != nil || len(now) != 0 {
		t.Errorf("before the switch: %v %v", now, err)
	}
	for range 2 {
		if err := e.Switch(ctx, "huts", "huts-e1"); err != nil {
			t.Fatal(err)
		}
	}
	fields := []wire.Weighted{}
	for _, f := range s.Searched() {
		fields = append(fields, wire.Weighted{Path: f.Path, Weight: f.Weight})
	}
	search := func(text string) string {
		t.Helper()
		hits, err := e.Search(ctx, "huts", wire.Query{Text: text, Fields: fields, Limit: 10})
		if err != nil {
			t.Error(err)
		}
		keys := []string{fmt.Sprint(hits.Total)}
		for _, h := range hits.Hits {
			keys = append(keys, h.Key)
		}
		return strings.Join(keys, " ")
	}
	want("a heavier field comes first", search("grim"), "2 1 5")
	want("words in several fields, the last one begun", search("ridge tarn sto"), "1 1")
	want("a word that is not there", search("grim absent"), "0")
	want("no words", search("")[:1], "3")

	if err := e.Prepare(ctx, "huts-e2", s); err != nil {
		t.Fatal(err)
	}
	want("the second edition", deliver("huts-e2", doc("9", 9, `,"name":"Other"`)), "done")
	if err := e.Filled(ctx, "huts-e2"); err != nil {
		t.Fatal(err)
	}
	if err := e.Switch(ctx, "huts", "huts-e2"); err != nil {
		t.Fatal(err)
	}
	if now, err := e.Answering(ctx, "huts"); err != nil || !slices.Equal(now, []string{"huts-e2"}) {
		t.Errorf("after the switch: %v %v", now, err)
	}
	want("after the switch", search("other"), "1 9")
	for range 2 {
		if err := e.Drop(ctx, "huts-e1"); err != nil {
			t.Fatal(err)
		}
	}
	want("a dropped edition is not made anew", deliver("huts-e1", doc("1", 99, "")), "blocked")

	want("small changes", deliver("huts-e2", doc("10", 9, `,"name":"Fresh Snow"`)), "done")
	for deadline := time.Now().Add(5 * time.Second); search("fresh snow") != "1 10"; time.Sleep(20 * time.Millisecond) {
		if time.Now().After(deadline) {
			t.Fatal("a change is not found by searches")
		}
	}
	if faults == nil {
		return
	}
	faults.Busy(1)
	want("busy", deliver("huts-e2", doc("11", 9, "")), "error: later")
	faults.LoseAnswer(1)
	want("lost answer", deliver("huts-e2", doc("12", 9, "")), "error: later")
	want("sent again after both", deliver("huts-e2", doc("11", 9, ""), doc("12", 9, "")), "done already newer")
}
