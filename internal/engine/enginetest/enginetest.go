// Package enginetest is the conformance suite of engines: what each must keep.
package enginetest

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"pingo/internal/core/query"
	"pingo/internal/core/retry"
	"pingo/internal/core/shape"
	"pingo/internal/engine"
)

// Shape is what the suite's documents look like.
func Shape() *shape.Shape {
	return &shape.Shape{
		Index:    "huts",
		Synonyms: [][]string{{"hut", "refuge"}, {"loo", "dry toilet"}},
		Trees: []*shape.Tree{{Nodes: []*shape.Node{
			{ID: 0, Parent: -1, Key: []string{"id"}, Children: []int{1, 2, 3}, Fields: []shape.Field{
				{
					Name:   "name",
					Type:   shape.Text,
					Search: 10,
					Match:  shape.Prefix,
					Sort:   true,
				}, {Name: "summary", Type: shape.Text, Search: 1, Match: shape.Words}, {Name: "beds", Type: shape.Integer, Filter: true, Sort: true},
				{
					Name:   "price",
					Type:   shape.Decimal,
					Filter: true,
				}, {Name: "open", Type: shape.Boolean, Facet: true}, {Name: "since", Type: shape.Date, Filter: true, Sort: true}, {Name: "at", Type: shape.Timestamp},
				{
					Name:   "position",
					Type:   shape.Geo,
					Filter: true,
				}, {Name: "facts", Type: shape.Object}, {Name: "code", Type: shape.Keyword, Search: 2, Match: shape.Exact, Filter: true},
				{Name: "trail", Type: shape.Text, Search: 1, Match: shape.Infix}}},
			{
				ID:     1,
				Parent: 0,
				Name:   "region",
				Fields: []shape.Field{
					{Name: "name", Type: shape.Text, Search: 3, Match: shape.Words, Facet: true},
				},
			},
			{
				ID:     2,
				Parent: 0,
				Name:   "offers",
				Many:   true,
				List:   true,
				Fields: []shape.Field{
					{Name: "label", Type: shape.Text, Search: 1, Match: shape.Words, Filter: true, Facet: true},
				},
			},
			{
				ID:     3,
				Parent: 0,
				Name:   "stays",
				Many:   true,
				Fields: []shape.Field{
					{Name: "spots", Type: shape.Geo, Array: true, Filter: true},
					{Name: "nights", Type: shape.Integer, Array: true, Filter: true},
				},
			},
		}}},
	}
}

func doc(key string, version int64, fields string) engine.Document {
	return engine.Document{
		Key:     key,
		Version: version,
		Body:    []byte(fmt.Sprintf(`{"pingo_fingerprint":"%016d"%s}`, version, fields)),
	}
}

// What a kind may lack, if its Limits or its refusals say so.
const (
	Any           = "searches for any of several words"
	PlacesInLists = "filters by places in lists"
	ExactAlone    = "finding exact values by nothing but the whole of them"
)

// Faults makes an engine misbehave, and says what it lacks.
type Faults struct {
	// Lacks is what the kind does not do, of the constants above.
	Lacks []string
	// Busy makes it take nothing until over is called; nil where there is no way to.
	Busy func() (over func())
	// LoseAnswer makes it do what the next delivery asks, but not say so.
	LoseAnswer func()
}

// Run checks an engine that holds nothing yet.
func Run(t *testing.T, e engine.Engine, faults Faults) {
	ctx, s := t.Context(), Shape()
	has := func(what string) bool { return !slices.Contains(faults.Lacks, what) }
	if !has(PlacesInLists) {
		s.Trees[0].Nodes[3].Fields[0].Filter = false
	}
	if words, err := e.Describe(ctx); err != nil || words == "" {
		t.Fatal(words, err)
	}
	for range 2 { // a step that is taken again
		if err := e.Prepare(ctx, "huts-e1", s); err != nil {
			t.Fatal(err)
		}
	}
	copyOf := func(edition string) string {
		t.Helper()
		copy, err := e.Copy(ctx, edition)
		if err != nil {
			t.Fatal(err)
		}
		return copy
	}
	made := copyOf("huts-e1")
	if made == "" || copyOf("huts-e1") != made || copyOf("huts-e99") != "" {
		t.Errorf("the copies are %q and then %q; of an edition that is not there: %q", made, copyOf("huts-e1"), copyOf("huts-e99"))
	}
	deliver := func(edition string, docs ...engine.Document) string {
		t.Helper()
		results, err := e.Deliver(ctx, edition, docs)
		if err != nil {
			return "error: " + engine.FailureOf(err).Outcome.String()
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
	gone := func(key string, version int64) engine.Document { return engine.Document{Key: key, Version: version} }
	full := `,"name":"Grim Ridge Hut","summary":"Stone hut","beds":9007199254740993,"price":12.5,"open":true,"since":"2031-06-01","at":"2031-06-01T10:20:30.123456Z","position":[8.5,46.5],"facts":{"any":[1,"x"]},"code":"A-1","trail":"Sonnwendjoch","region":{"name":"Tarn Country"},"offers":["wood stove",null],"stays":[{"spots":[[8.5,46.5],[8.6,46.6]],"nights":[[1,2],[null]]},{"spots":null,"nights":[3]}]`
	want("every type", deliver("huts-e1", doc("1", 5, full)), "done")
	want(
		"nulls, and a key that needs escaping",
		deliver("huts-e1", doc(`a~1"\ü`, 5, `,"name":null,"region":null,"offers":[]`)),
		"done",
	)
	if _, refuses := e.(engine.Versioned); refuses {
		for _, d := range []engine.Document{doc("1", 4, ""), doc("1", 5, "")} {
			if results, err := e.Deliver(ctx, "huts-e1", []engine.Document{d}); err != nil || results[0].Held != 5 {
				t.Errorf("version %d: %+v %v, want one that says that version 5 is held", d.Version, results, err)
			}
		}
		want(
			"versions",
			deliver(
				"huts-e1",
				doc("1", 4, ""),
				doc("1", 5, ""),
				doc("2", 5, `,"name":"Dusk Pass Hut"`),
				gone("2", 6),
				doc("2", 5, ""),
				gone("3", 7),
				doc("3", 6, ""),
			),
			"already newer already newer done done already newer done already newer",
		)
	} else {
		want("deletions", deliver("huts-e1", doc("2", 5, ""), gone("2", 6), gone("3", 7)), "done done done")
	}
	want(
		"one bad document among good ones",
		deliver(
			"huts-e1",
			doc("4", 8, `,"beds":"many"`),
			doc(
				"5",
				8,
				`,"name":"Falk Spire Refuge","summary":"grim weather, dry toilet","beds":7,"open":false,"since":"-0043-03-15","code":"b 2","region":{"name":"Tarn Country"},"offers":["wood stove","stable"]`,
			),
			doc("6", 8, `,"unknown":1`),
			doc("7", 8, `,"since":"yesterday"`),
			doc("8", 8, `,"position":[1,200]`),
		),
		"refused done refused refused refused",
	)
	want("an edition that is not there", deliver("huts-e9", doc("1", 1, "")), "blocked")

	stored, err := e.Get(ctx, "huts-e1", []string{"1", "2", "5", "none"})
	if err != nil || len(stored) != 2 || !strings.Contains(string(stored["1"]), "9007199254740993") {
		t.Errorf("stored: %s %v", stored, err)
	}
	prints, err := e.Fingerprints(ctx, "huts-e1", []string{"1", "2", "5", "none"})
	want("fingerprints", fmt.Sprint(prints, err), "map[1:0000000000000005 5:0000000000000008] <nil>")
	if err := e.FinishFill(ctx, "huts-e1", s); err != nil {
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

	if now, err := e.Resolve(ctx, "huts"); err != nil || len(now) != 0 {
		t.Errorf("before the switch: %v %v", now, err)
	}
	for range 2 {
		if err := e.Switch(ctx, "huts", "huts-e1"); err != nil {
			t.Fatal(err)
		}
	}
	find := func(q query.Query) string {
		t.Helper()
		q.Limit = 10
		hits, err := e.Search(ctx, "huts", s, q)
		if err != nil {
			t.Errorf("%+v: %v", q, err)
		}
		out := []string{fmt.Sprint(hits.Total)}
		for _, h := range hits.Hits {
			out = append(out, h.Key)
		}
		for _, path := range q.Facets {
			out = append(out, fmt.Sprint(hits.Facets[path]))
		}
		return strings.Join(out, " ")
	}
	search := func(text string) string { t.Helper(); return find(query.Query{Text: text}) }
	want("a heavier field comes first", search("grim"), "2 1 5")
	want("words in several fields, one begun, in any case", search("RIDG tarn stove"), "1 1")
	want("words are found whole only", search("weath"), "0")
	want("any part of a word", search("wendjo"), "1 1")
	want("exact values, whole", search("a-1"), "1 1")
	want("exact values, with blanks in them", search("B 2"), "1 5")
	if has(ExactAlone) {
		want("exact values, not in part", search("a"), "0")
	}
	want("a synonym", search("spire hut"), "1 5")
	want("a synonym of two words", search("loo"), "1 5")
	want("a word that is not there", search("grim absent"), "0")
	want("no words", search("")[:1], "3")
	filtered := func(filters ...string) string {
		t.Helper()
		var q query.Query
		for _, text := range filters {
			f, err := query.ReadFilter(s, text)
			if err != nil {
				t.Fatal(err)
			}
			q.Filters = append(q.Filters, f)
		}
		return find(q)
	}
	want("filter by number", filtered("beds=7"), "1 5")
	want("filter by a number that a double cannot hold", filtered("beds=9007199254740993"), "1 1")
	want("filter by one of several", filtered("beds=7|9|10"), "1 5")
	want("filter by a range", filtered("beds>5", "beds<=7"), "1 5")
	want("filter by a range with a broken number", filtered("beds=6.5..7.5"), "1 5")
	want("filter by a range that ends before", filtered("beds<7"), "0")
	want("filter by a decimal", filtered("price>12.4"), "1 1")
	want("filter by a boolean", filtered("open=false"), "1 5")
	want("filter by a whole text in a list", filtered("offers=stable"), "1 5")
	want("filter by a part of a text", filtered("offers=wood"), "0")
	want("filter by a number in a list of lists", filtered("stays.nights=2"), "1 1")
	want("filter by a range in a list: one value in all of it", filtered("stays.nights=2..2.5"), "1 1")
	want("filter by a range in a list: none in all of it", filtered("stays.nights=2.2..2.8"), "0")
	want("filter by a keyword as it is written", filtered("code=A-1"), "1 1")
	want("filter by a day before the first year", filtered("since=-0043-03-15"), "1 5")
	want("filter by a year", filtered("since=2031"), "1 1")
	want("filter by days from and to", filtered("since=2031-05..2031-06-01"), "1 1")
	want("filter by days before", filtered("since<2031-06-01"), "1 5")
	want("filter by a place near another", filtered("position=near(46.5,8.6,10km)"), "1 1")
	want("filter by a place too far from another", filtered("position=near(46.5,8.7,10km)"), "0")
	want("filter by a box", filtered("position=within(46,8,47,9)"), "1 1")
	want("filter by a box across the date line", filtered("position=within(46,170,47,8.4)"), "0")
	if has(PlacesInLists) {
		want("filter by places in a list", filtered("stays.spots=near(46.6,8.6,1km)"), "1 1")
	}
	either := query.Query{Text: "absent weather sonnwend", Any: true, Order: []query.Order{{Path: "beds"}}, Limit: 10}
	if has(Any) {
		want("any of the words", find(either), "2 5 1")
	} else if _, err := e.Search(ctx, "huts", s, either); err == nil || engine.FailureOf(err).Outcome != retry.Refused {
		t.Errorf("any of the words: %v, want a refusal", err)
	}
	want("a phrase", find(query.Query{Phrases: []string{"ridge hut"}}), "1 1")
	want("a phrase in another order", find(query.Query{Phrases: []string{"hut ridge"}}), "0")
	want("a phrase of whole words", find(query.Query{Phrases: []string{"grim rid"}}), "0")
	want("a phrase and a word", find(query.Query{Text: "stone", Phrases: []string{"grim ridge"}}), "1 1")
	want("order", find(query.Query{Order: []query.Order{{Path: "since"}}}), `3 5 1 a~1"\ü`)
	want(
		"order, downwards",
		find(query.Query{Text: "grim", Order: []query.Order{{Path: "beds", Descending: true}}}),
		"2 1 5",
	)
	want("order by text", find(query.Query{Text: "grim", Order: []query.Order{{Path: "name"}}}), "2 5 1")
	want(
		"facets",
		find(
			query.Query{
				Text:   "grim",
				Facets: []string{"offers", "region.name", "open"},
				Order:  []query.Order{{Path: "beds"}},
			},
		),
		"2 5 1 [{wood stove 2} {stable 1}] [{Tarn Country 2}] [{false 1} {true 1}]",
	)
	if u, ok := e.(engine.SettingsUpdater); ok {
		if err := u.UpdateSettings(ctx, "huts-e1", s); err != nil {
			t.Error(err)
		}
	}

	if err := e.Prepare(ctx, "huts-e2", s); err != nil {
		t.Fatal(err)
	}
	want("the second edition", deliver("huts-e2", doc("9", 9, `,"name":"Other"`)), "done")
	if err := e.FinishFill(ctx, "huts-e2", s); err != nil {
		t.Fatal(err)
	}
	if err := e.Switch(ctx, "huts", "huts-e2"); err != nil {
		t.Fatal(err)
	}
	if now, err := e.Resolve(ctx, "huts"); err != nil || !slices.Equal(now, []string{"huts-e2"}) {
		t.Errorf("after the switch: %v %v", now, err)
	}
	want("after the switch", search("other"), "1 9")
	want("the copy after all that", copyOf("huts-e1"), made)
	for range 2 {
		if err := e.Drop(ctx, "huts-e1"); err != nil {
			t.Fatal(err)
		}
	}
	want("a dropped edition is not recreated", deliver("huts-e1", doc("1", 99, "")), "blocked")
	want("the copy of a dropped edition", copyOf("huts-e1"), "")
	if err := e.Prepare(ctx, "huts-e1", s); err != nil {
		t.Fatal(err)
	}
	if again := copyOf("huts-e1"); again == "" || again == made {
		t.Errorf("the copy of an edition that was made again is %q, as before", again)
	}
	if err := e.Drop(ctx, "huts-e1"); err != nil {
		t.Fatal(err)
	}

	want(
		"small changes",
		deliver(
			"huts-e2",
			doc("10", 9, `,"name":"Fresh Snow"`),
			doc("13", 9, `,"name":"Freshwater Hut"`),
			doc("14", 9, `,"name":"Fresher Bothy"`),
		),
		"done done done",
	)
	for deadline := time.Now().Add(5 * time.Second); search("fresh snow") != "1 10"; time.Sleep(20 * time.Millisecond) {
		if time.Now().After(deadline) {
			t.Fatal("a change is not found by searches")
		}
	}
	want("whole words before beginnings", strings.Join(strings.Fields(search("fresh"))[:2], " "), "3 10")
	want("one more", deliver("huts-e2", doc("15", 9, `,"name":"Soon Found"`)), "done")
	if err := e.Refresh(ctx, "huts-e2"); err != nil {
		t.Fatal(err)
	}
	want("immediately after a refresh", search("soon found"), "1 15")
	if tries, ok := e.(engine.Trier); ok {
		if err := tries.Try(ctx, s); err != nil {
			t.Errorf("trying a shape: %v", err)
		}
	}
	if list, err := e.Editions(ctx); err != nil || !slices.Equal(list, []string{"huts-e2"}) {
		t.Errorf("editions: %v %v", list, err)
	}
	if err := errors.Join(e.Prepare(ctx, "bothies-e1", s), e.FinishFill(ctx, "bothies-e1", s), e.Switch(ctx, "bothies", "bothies-e1"), e.Drop(ctx, "bothies-e1")); err != nil {
		t.Fatal(err)
	}
	if names, err := e.Resolve(ctx, "bothies"); err != nil || len(names) > 0 {
		t.Errorf("the public name of a dropped edition leads to %v, %v", names, err)
	}
	if faults.Busy == nil {
		return
	}
	over := faults.Busy()
	want("busy", deliver("huts-e2", doc("11", 9, "")), "error: later")
	over()
	faults.LoseAnswer()
	want("lost answer", deliver("huts-e2", doc("12", 9, "")), "error: later")
	want("sent again after both", deliver("huts-e2", doc("11", 9, ""), doc("12", 9, "")), "done already newer")
}
