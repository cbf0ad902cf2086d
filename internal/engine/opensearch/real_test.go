package opensearch_test

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"pingo/internal/core/query"
	"pingo/internal/core/retry"
	"pingo/internal/core/shape"
	"pingo/internal/engine"
	"pingo/internal/engine/enginetest"
	"pingo/internal/engine/opensearch"
	"pingo/internal/lab/ostest"
	"pingo/internal/lab/standin"
)

func open(t *testing.T, url string) *opensearch.Engine {
	t.Helper()
	e, err := opensearch.Open(engine.Config{URL: url})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(e.Close)
	return e
}

// onBoth runs a test with the stand-in, and with a real server where they are asked for.
func onBoth(t *testing.T, test func(t *testing.T, url string)) {
	t.Run("standin", func(t *testing.T) {
		server := httptest.NewServer(&standin.Server{})
		defer server.Close()
		test(t, server.URL)
	})
	t.Run("real", func(t *testing.T) { test(t, ostest.Server(t, ostest.Strict...).URL()) })
}

// send asks a server something directly, which must not fail.
func send(t *testing.T, method, url string, body any) {
	t.Helper()
	b, err := json.Marshal(body)
	if err != nil {
		t.Fatal(err)
	}
	request, err := http.NewRequestWithContext(context.Background(), method, url, bytes.NewReader(b))
	if err != nil {
		t.Fatal(err)
	}
	request.Header.Set("Content-Type", "application/json")
	response, err := http.DefaultClient.Do(request)
	if err != nil {
		t.Fatal(err)
	}
	defer response.Body.Close()
	if response.StatusCode >= 300 {
		words, _ := io.ReadAll(response.Body)
		t.Fatalf("%s %s: %s %s", method, url, response.Status, words)
	}
}

type object = map[string]any

// The suite that every engine passes; a proxy makes the faults.
func TestRealConformance(t *testing.T) {
	target, err := url.Parse(ostest.Server(t, ostest.Strict...).URL())
	if err != nil {
		t.Fatal(err)
	}
	var busy, lose atomic.Bool
	proxy := httputil.NewSingleHostReverseProxy(target)
	proxy.ModifyResponse = func(*http.Response) error {
		if lose.CompareAndSwap(true, false) {
			return errors.New("the answer is lost")
		}
		return nil
	}
	proxy.ErrorHandler = func(http.ResponseWriter, *http.Request, error) { panic(http.ErrAbortHandler) }
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if busy.CompareAndSwap(true, false) {
			w.WriteHeader(http.StatusTooManyRequests)
			return
		}
		proxy.ServeHTTP(w, r)
	}))
	defer server.Close()
	e := open(t, server.URL)
	defer e.Drop(context.Background(), "huts-e2")
	enginetest.Run(t, e, enginetest.Faults{
		Busy:       func() func() { busy.Store(true); return func() {} },
		LoseAnswer: func() { lose.Store(true) },
	})
}

func plain(settings object) *shape.Shape {
	return &shape.Shape{Index: "tarns", Settings: settings, Trees: []*shape.Tree{{Nodes: []*shape.Node{
		{Parent: -1, Key: []string{"id"}, Fields: []shape.Field{
			{Name: "name", Type: shape.Text, Search: 1},
			{Name: "depth", Type: shape.Integer, Filter: true},
		}},
	}}}}
}

func prepared(t *testing.T, e *opensearch.Engine, edition string, s *shape.Shape) {
	t.Helper()
	if err := e.Prepare(t.Context(), edition, s); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { e.Drop(context.Background(), edition) })
}

func fill(t *testing.T, e *opensearch.Engine, edition string, from, to int) {
	t.Helper()
	for ; from < to; from += 500 {
		var docs []engine.Document
		for id := from; id < min(to, from+500); id++ {
			docs = append(docs, engine.Document{Key: fmt.Sprint(id), Version: 5,
				Body: fmt.Appendf(
					nil,
					`{"pingo_fingerprint":"%016d","name":"tarn %d","depth":%d}`,
					id,
					id,
					id%90,
				)})
		}
		for deadline := time.Now().Add(time.Minute); len(docs) > 0; {
			results, err := e.Deliver(t.Context(), edition, docs)
			var again []engine.Document
			for i := range results {
				if o := results[i].Outcome; o != retry.Done && o != retry.Newer {
					again = append(again, docs[i])
				}
			}
			if err == nil {
				docs = again
			}
			if len(docs) > 0 {
				if time.Now().After(deadline) {
					t.Fatalf(
						"%d documents are not taken: %v %+v",
						len(docs),
						err,
						results[:min(1, len(results))],
					)
				}
				time.Sleep(200 * time.Millisecond)
			}
		}
	}
}

func listed(t *testing.T, e *opensearch.Engine, edition string) map[string]string {
	t.Helper()
	out := map[string]string{}
	err := e.Scan(t.Context(), edition, func(key, fingerprint string) error {
		if _, twice := out[key]; twice {
			t.Errorf("%s is listed twice", key)
		}
		out[key] = fingerprint
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	return out
}

// Every document is listed once, on several shards and over several pages, whatever goes on
// meanwhile.
func TestRealListingsAreWhole(t *testing.T) {
	onBoth(t, func(t *testing.T, url string) {
		e := open(t, url)
		prepared(t, e, "tarns-e1", plain(object{"number_of_shards": 3}))
		fill(t, e, "tarns-e1", 0, 12_000)
		if all := listed(t, e, "tarns-e1"); len(all) != 12_000 || all["7"] != "0000000000000007" {
			t.Errorf("%d documents are listed", len(all))
		}
	})
}

// An older write that comes after a newer deletion is refused for as long as the setting says,
// and an edition has the setting.
func TestRealDeletionsAreRemembered(t *testing.T) {
	onBoth(t, func(t *testing.T, url string) {
		e := open(t, url)
		prepared(t, e, "tarns-e1", plain(nil))
		docs := func(version int64, body []byte) []engine.Document {
			return []engine.Document{{Key: "1", Version: version, Body: body}}
		}
		body := []byte(`{"name":"x"}`)
		for i, d := range [][]engine.Document{docs(5, body), docs(9, nil)} {
			if results, err := e.Deliver(t.Context(), "tarns-e1", d); err != nil ||
				results[0].Outcome != retry.Done {
				t.Fatal(i, results, err)
			}
		}
		time.Sleep(2 * time.Second)
		if err := e.Refresh(t.Context(), "tarns-e1"); err != nil {
			t.Fatal(err)
		}
		if results, err := e.Deliver(t.Context(), "tarns-e1", docs(7, body)); err != nil ||
			results[0].Outcome != retry.Newer {
			t.Error(results, err)
		}
		// With the setting taken away, the edition is not taken for one that is ready.
		send(t, http.MethodPut, url+"/tarns-e1/_settings", object{"index": object{"gc_deletes": "1s"}})
		if err := e.Prepare(t.Context(), "tarns-e1", plain(nil)); engine.FailureOf(
			err,
		).Outcome != retry.Blocked ||
			!strings.Contains(err.Error(), "deletions must be remembered for 5m0s at least") {
			t.Error(err)
		}
		// Nor with one that lets a crash take what was acknowledged.
		prepared(t, e, "tarns-e2", plain(nil))
		send(t, http.MethodPut, url+"/tarns-e2/_settings", object{"index": object{"translog.durability": "async"}})
		if err := e.Prepare(t.Context(), "tarns-e2", plain(nil)); engine.FailureOf(err).Outcome != retry.Blocked ||
			!strings.Contains(err.Error(), "would lose in a crash what it has acknowledged") {
			t.Error(err)
		}
	})
	for _, settings := range []object{
		{"gc_deletes": "10s"}, {"index.translog.durability": "async"}, {"translog": object{"durability": "async"}},
	} {
		if refused, _ := opensearch.Limits(plain(settings)); len(refused) != 1 {
			t.Error(settings, refused)
		}
	}
}

// Deletions that come before an edition is made, or after it is gone, make nothing: the server would make an index of
// the alias's name for them, which then is in the alias's way.
func TestRealDeletionsMakeNoIndex(t *testing.T) {
	onBoth(t, func(t *testing.T, url string) {
		e := open(t, url)
		gone := []engine.Document{{Key: "1", Version: 5}, {Key: "2", Version: 5}}
		refused := func(when string) {
			t.Helper()
			results, err := e.Deliver(t.Context(), "tarns-e1", gone)
			if err != nil || len(results) != 2 || results[0].Outcome != retry.Blocked || !strings.Contains(results[1].Reason, "has no edition tarns-e1") {
				t.Errorf("%s: %+v %v", when, results, err)
			}
			response, err := http.Get(url + "/tarns-e1-write")
			if err != nil {
				t.Fatal(err)
			}
			response.Body.Close()
			if response.StatusCode != http.StatusNotFound {
				t.Errorf("%s there is tarns-e1-write: %s", when, response.Status)
			}
		}
		refused("before it is made")
		prepared(t, e, "tarns-e1", plain(nil))
		for range 2 {
			if results, err := e.Deliver(t.Context(), "tarns-e1", gone); err != nil || results[0].Outcome != retry.Done && results[0].Outcome != retry.Newer {
				t.Errorf("%+v %v", results, err)
			}
		}
		if err := e.Drop(t.Context(), "tarns-e1"); err != nil {
			t.Fatal(err)
		}
		refused("after it was dropped")
	})
}

// What the engine refuses is found out before, in its words.
func TestRealSettingsAreTried(t *testing.T) {
	onBoth(t, func(t *testing.T, url string) {
		e := open(t, url)
		for name, c := range map[string]struct {
			settings object
			want     string
		}{
			"unknown":      {object{"colour": "red"}, "unknown setting [index.colour]"},
			"too many":     {object{"number_of_shards": 2000}, "must be <= 1024"},
			"after a fill": {object{"refresh_interval": "soon"}, "as a time value"},
			"good":         {object{"number_of_replicas": 0, "codec": "best_compression"}, ""},
		} {
			err := e.Try(t.Context(), plain(c.settings))
			if c.want == "" && err != nil || c.want != "" &&
				(engine.FailureOf(err).Outcome != retry.Blocked || !strings.Contains(err.Error(), c.want)) {
				t.Errorf("%s: %v", name, err)
			}
		}
		if left, err := e.Editions(t.Context()); err != nil || len(left) != 0 {
			t.Errorf("left behind: %v %v", left, err)
		}
	})
}

// Each document gets its own answer, whatever others in the same request are like.
func TestRealRefusalsAreExplained(t *testing.T) {
	onBoth(t, func(t *testing.T, url string) {
		e := open(t, url)
		s := plain(nil)
		s.Trees[0].Nodes[0].Fields = append(s.Trees[0].Nodes[0].Fields,
			shape.Field{Name: "place", Type: shape.Geo}, shape.Field{Name: "facts", Type: shape.Object},
			shape.Field{Name: "since", Type: shape.Date})
		prepared(t, e, "tarns-e1", s)
		cases := []struct{ key, body, field, want string }{
			{"1", `{"name":"good"}`, "", ""},
			{strings.Repeat("k", 513), `{"name":"long key"}`, "", "longer than the 512 bytes"},
			{"2", `{"depth":"deep"}`, "depth", "keeps depth as long"},
			{"3", `{"place":[8,91]}`, "place", "keeps place as geo_point"},
			{"4", `{"facts":{"a":1,"a":2}}`, "", "has the key a twice"},
			{"5", `{"facts":{"n":` + strings.Repeat("9", 1001) + `}}`, "", "more digits than the engine reads"},
			{
				"6",
				`{"facts":` + strings.Repeat("[", 25) + strings.Repeat("]", 25) + `}`,
				"",
				"more deeply than the engine takes",
			},
			{"7", `{"since":"2031-02-30"}`, "since", "keeps since as date"},
			{"8", `{"lift":1}`, "lift", "does not know the field lift"},
			{strings.Repeat("ä", 256), `{"name":"as long as may be"}`, "", ""},
		}
		var docs []engine.Document
		for _, c := range cases {
			docs = append(docs, engine.Document{Key: c.key, Version: 5, Body: []byte(c.body)})
		}
		results, err := e.Deliver(t.Context(), "tarns-e1", docs)
		if err != nil {
			t.Fatal(err)
		}
		for i, c := range cases {
			r := results[i]
			if c.want == "" {
				if r.Outcome != retry.Done {
					t.Errorf("%.20s: %+v", c.body, r)
				}
				continue
			}
			cause := e.Explain(r.Kind, r.Reason)
			if r.Outcome != retry.Refused || cause.Field != c.field ||
				!strings.Contains(cause.Explanation, c.want) {
				t.Errorf("%.20s: %+v\n%+v", c.body, r, cause)
			}
		}
	})
}

// What is wrong with an edition, and not with a document, is reported so.
func TestRealTroubleIsToldApart(t *testing.T) {
	onBoth(t, func(t *testing.T, url string) {
		e := open(t, url)
		prepared(t, e, "tarns-e1", plain(nil))
		deliver := func() string {
			results, err := e.Deliver(
				t.Context(),
				"tarns-e1",
				[]engine.Document{{Key: "1", Version: 5, Body: []byte(`{}`)}},
			)
			if err != nil {
				return err.Error()
			}
			return results[0].Outcome.String() + " " + results[0].Reason
		}
		for _, c := range []struct {
			settings object
			want     string
		}{
			{object{"blocks.write": true}, "writes are blocked"},
			{object{"blocks.read_only": true}, "writes are blocked"},
			{object{"blocks.read_only_allow_delete": true}, "disk is nearly full"},
		} {
			send(t, http.MethodPut, url+"/tarns-e1/_settings", object{"index": c.settings})
			if got := deliver(); !strings.HasPrefix(got, "blocked") || !strings.Contains(got, c.want) {
				t.Errorf("%v: %s", c.settings, got)
			}
			for name := range c.settings {
				send(t, http.MethodPut, url+"/tarns-e1/_settings", object{"index": object{name: nil}})
			}
		}
		send(t, http.MethodPost, url+"/tarns-e1/_close", nil)
		if got := deliver(); !strings.HasPrefix(got, "blocked") ||
			!strings.Contains(got, "the index is closed") {
			t.Errorf("closed: %s", got)
		}
		send(t, http.MethodPost, url+"/tarns-e1/_open", nil)
		for deadline := time.Now().Add(10 * time.Second); !strings.HasPrefix(deliver(), "done") && !strings.HasPrefix(deliver(), "already"); {
			if time.Now().After(deadline) {
				t.Fatal(deliver())
			}
		}
		_, err := e.Search(
			t.Context(),
			"tarns-e1",
			plain(nil),
			query.Query{Text: strings.Repeat("word ", 600), Limit: 1},
		)
		if engine.FailureOf(err).Outcome != retry.Refused ||
			!strings.Contains(err.Error(), "may have 300 words, and this one has 600") {
			t.Error(err)
		}
	})
}

// Templates of another program's add to an edition, and take nothing from it; and a server that
// makes no index by itself is as good as one that does.
func TestRealTemplatesAndNoAutomaticIndices(t *testing.T) {
	server := ostest.Server(t, ostest.Strict...)
	send(t, http.MethodPut, server.URL()+"/_index_template/everything", object{
		"index_patterns": []string{"*"}, "priority": 1,
		"template": object{"settings": object{"index": object{"gc_deletes": "1s", "number_of_shards": 2, "translog.durability": "async"}}},
	})
	send(
		t,
		http.MethodPut,
		server.URL()+"/_cluster/settings",
		object{"transient": object{"action.auto_create_index": "false"}},
	)
	defer func() {
		send(t, http.MethodDelete, server.URL()+"/_index_template/everything", nil)
		send(
			t,
			http.MethodPut,
			server.URL()+"/_cluster/settings",
			object{"transient": object{"action.auto_create_index": nil}},
		)
	}()
	e := open(t, server.URL())
	prepared(t, e, "tarns-e1", plain(nil))
	fill(t, e, "tarns-e1", 0, 100)
	if err := e.Drop(t.Context(), "tarns-e1"); err != nil {
		t.Fatal(err)
	}
	results, err := e.Deliver(
		t.Context(),
		"tarns-e1",
		[]engine.Document{{Key: "1", Version: 9, Body: []byte(`{}`)}},
	)
	if err != nil || results[0].Outcome != retry.Blocked {
		t.Errorf("a deleted edition takes documents: %+v %v", results, err)
	}
}

// A node of two is killed during a fill, and every document is there afterwards.
func TestRealNodeOfTwoIsKilled(t *testing.T) {
	ostest.Wanted(t)
	one, two := ostest.Pair(t)
	e := open(t, one.URL())
	send(t, http.MethodPut, one.URL()+"/_cluster/settings", object{"transient": object{
		"cluster.routing.allocation.disk.threshold_enabled": false}})
	prepared(t, e, "tarns-e1", plain(object{"number_of_shards": 2, "number_of_replicas": 1}))
	send(t, http.MethodGet, one.URL()+"/_cluster/health/tarns-e1?wait_for_status=green&timeout=60s", nil)
	fill(t, e, "tarns-e1", 0, 3000)
	killed := make(chan error)
	go func() { killed <- two.Kill() }()
	fill(t, e, "tarns-e1", 3000, 8000)
	if err := <-killed; err != nil {
		t.Fatal(err)
	}
	fill(t, e, "tarns-e1", 8000, 9000)
	if all := listed(t, e, "tarns-e1"); len(all) != 9000 {
		t.Errorf("%d documents of 9000", len(all))
	}
}

// An index that another program made is replaced by a name in one step, and only by TakeOver.
func TestRealIndexesAreTakenOver(t *testing.T) {
	onBoth(t, func(t *testing.T, url string) {
		e, ctx := open(t, url), t.Context()
		send(t, http.MethodPut, url+"/moors", object{"mappings": object{"properties": object{"name": object{"type": "text"}}}})
		if err := e.Prepare(ctx, "moors-e1", plain(nil)); err != nil {
			t.Fatal(err)
		}
		if err := e.Switch(ctx, "moors", "moors-e1"); err == nil || !strings.Contains(err.Error(), "Pingo did not make") {
			t.Errorf("switched over another user's index: %v", err)
		}
		for range 2 { // a step that is taken again
			if err := e.TakeOver(ctx, "moors", "moors-e1"); err != nil {
				t.Fatal(err)
			}
			if now, err := e.Resolve(ctx, "moors"); err != nil || fmt.Sprint(now) != "[moors-e1]" {
				t.Errorf("%v %v", now, err)
			}
		}
		if err := e.Drop(ctx, "moors-e1"); err != nil {
			t.Error(err)
		}
	})
}
