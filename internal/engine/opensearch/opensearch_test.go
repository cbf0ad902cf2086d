package opensearch_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"testing"

	"pingo/internal/core/retry"
	"pingo/internal/core/shape"
	"pingo/internal/engine"
	"pingo/internal/engine/enginetest"
	"pingo/internal/engine/opensearch"
	"pingo/internal/lab/ostest"
	"pingo/internal/lab/standin"
)

func TestMain(m *testing.M) { ostest.Main(m) }

func TestConformance(t *testing.T) {
	server := httptest.NewServer(&standin.Server{User: "pingo", Password: "p:@/ w"})
	defer server.Close()
	e, err := opensearch.Open(
		engine.Config{URL: "http://pingo:p%3A%40%2F%20w@" + server.Listener.Addr().String()},
	)
	if err != nil {
		t.Fatal(err)
	}
	fault := func(name string) {
		response, err := http.Post(
			server.URL+"/_standin/faults",
			"application/json",
			strings.NewReader(fmt.Sprintf(`{%q: 1}`, name)),
		)
		if err != nil || response.StatusCode != 200 {
			t.Fatal(response, err)
		}
		response.Body.Close()
	}
	enginetest.Run(
		t,
		e,
		enginetest.Faults{
			Busy:       func() func() { fault("busy"); return func() {} },
			LoseAnswer: func() { fault("lose_answer") },
		},
	)
}

// Version 1 has no points in time, and version 3 no sorting by id: neither is asked for.
func TestConformanceWithWhatAllVersionsHave(t *testing.T) {
	stand := &standin.Server{}
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, err := io.ReadAll(r.Body)
		if err != nil {
			t.Error(err)
		}
		if strings.Contains(r.URL.Path, "point_in_time") ||
			strings.Contains(r.URL.Path, "_search") && strings.Contains(string(body), `"_id"`) {
			t.Errorf("%s %s %s", r.Method, r.URL, body)
		}
		r.Body = io.NopCloser(bytes.NewReader(body))
		stand.ServeHTTP(w, r)
	}))
	defer server.Close()
	enginetest.Run(t, open(t, server.URL), enginetest.Faults{})
}

// Headers of the definition go with every request, and are shown nowhere.
func TestHeadersAreSent(t *testing.T) {
	var got []string
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		got = append(got, r.Header.Get("X-Api-Key")+r.Header.Get("Authorization"))
		w.WriteHeader(http.StatusForbidden)
	}))
	defer server.Close()
	c := engine.Config{
		URL:     server.URL,
		Options: []byte(`{"headers": {"X-Api-Key": "s3cret", "Authorization": "Bearer t0ken"}}`),
	}
	e, err := opensearch.Open(c)
	if err != nil {
		t.Fatal(err)
	}
	_, described := e.Describe(t.Context())
	_, recognized := opensearch.Kind.Recognize(t.Context(), c)
	if !slices.Equal(got, []string{"s3cretBearer t0ken", "s3cretBearer t0ken"}) {
		t.Errorf("%q", got)
	}
	// An engine that leads elsewhere does not have them sent there.
	moved := httptest.NewServer(http.RedirectHandler(server.URL, http.StatusTemporaryRedirect))
	defer moved.Close()
	c.URL = moved.URL
	if e, err = opensearch.Open(c); err != nil {
		t.Fatal(err)
	}
	_, led := e.Describe(t.Context())
	if len(got) != 2 {
		t.Errorf("sent on: %q", got)
	}
	for _, err := range []error{described, recognized, led} {
		if err == nil || strings.Contains(err.Error(), "s3cret") || strings.Contains(err.Error(), "t0ken") {
			t.Error(err)
		}
	}
}

// Whatever stands at the other end, one sentence says what to do.
func TestFailuresSayWhatToDo(t *testing.T) {
	answer := func(status int, kind, body string) string {
		server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("Content-Type", kind)
			w.WriteHeader(status)
			io.WriteString(w, body)
		}))
		t.Cleanup(server.Close)
		return server.URL
	}
	guarded := httptest.NewServer(&standin.Server{User: "a", Password: "b"})
	defer guarded.Close()
	closed, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	closed.Close()
	for _, c := range []struct {
		url     string
		outcome retry.Outcome
		want    string
	}{
		{"http://" + closed.Addr().String(), retry.Later, "does not answer (connection refused): look at the url's host and port, and whether the engine runs"},
		{"http://no-such-host.invalid:9200", retry.Later, "no such host"},
		{"http://a:wrong-secret@" + guarded.Listener.Addr().String(), retry.Blocked, "refused the user or password"},
		{answer(200, "text/html", "<html><title>Welcome</title>"), retry.Blocked, `answered 200 OK with text/html instead of JSON (it begins "<html><title>Welcome</title>"): is the url really the engine's`},
		{answer(502, "text/html", "<h1>Bad Gateway</h1>"), retry.Later, "instead of JSON"},
		{answer(200, "application/json", `{"hello":"world"}`), retry.Blocked, "answers JSON, but not as a search engine does"},
		{answer(200, "application/json", `{"hello"`), retry.Later, "reading the answer"},
		{answer(403, "application/json", `{"error":{"type":"security_exception","reason":"no permissions"},"status":403}`), retry.Blocked, "does not allow this user to do that (no permissions): give the user rights"},
		{answer(503, "application/json", `{"error":"plain words"}`), retry.Later, "says plain words (503)"},
	} {
		e, err := opensearch.Open(engine.Config{URL: c.url})
		if err != nil {
			t.Fatal(err)
		}
		_, err = e.Describe(t.Context())
		if err == nil || !strings.Contains(err.Error(), c.want) || engine.FailureOf(err).Outcome != c.outcome ||
			strings.Contains(err.Error(), "wrong-secret") {
			t.Errorf(
				"%s\n got %v (%s)\nwant %s (%s)",
				c.url,
				err,
				engine.FailureOf(err).Outcome,
				c.want,
				c.outcome,
			)
		}
	}
}

// An answer that does not fit the request proves nothing about any document.
func TestLyingAnswers(t *testing.T) {
	for _, items := range []string{`[]`, `[{"index":{"_id":"2","status":200}}]`, `[{"index":{"_id":"1","status":200}},{"index":{"_id":"1","status":200}}]`} {
		server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("Content-Type", "application/json")
			fmt.Fprintf(w, `{"items":%s}`, items)
		}))
		e, err := opensearch.Open(engine.Config{URL: server.URL})
		if err != nil {
			t.Fatal(err)
		}
		if results, err := e.Deliver(t.Context(), "x", []engine.Document{{Key: "1", Version: 1, Body: []byte("{}")}}); err == nil {
			t.Errorf("%s: %v", items, results)
		}
		server.Close()
	}
}

// Settings that a server takes and does not keep are reported, and put back as they were.
func TestSettingsThatAreNotKept(t *testing.T) {
	for _, kept := range []bool{true, false} {
		settings, puts := map[string]any{"index.number_of_replicas": "1", "index.refresh_interval": "5s"}, 0
		server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("Content-Type", "application/json")
			if r.Method == http.MethodGet {
				json.NewEncoder(w).Encode(map[string]any{"tarns-e1": map[string]any{"settings": settings}})
				return
			}
			puts++
			var body struct{ Index map[string]any }
			d := json.NewDecoder(r.Body)
			d.UseNumber()
			if err := d.Decode(&body); err != nil {
				t.Error(err)
			}
			for name, value := range body.Index {
				if kept || name != "max_result_window" {
					settings["index."+name] = fmt.Sprint(value)
				}
				if value == nil {
					delete(settings, "index."+name)
				}
			}
			io.WriteString(w, `{"acknowledged":true}`)
		}))
		e, err := opensearch.Open(engine.Config{URL: server.URL})
		if err != nil {
			t.Fatal(err)
		}
		s := &shape.Shape{Settings: map[string]any{"number_of_replicas": 2, "index": map[string]any{"max_result_window": 1500000}}}
		err = e.UpdateSettings(t.Context(), "tarns-e1", s)
		now := fmt.Sprint(settings)
		if kept && (err != nil || puts != 1 || !strings.Contains(now, "index.max_result_window:1500000 index.number_of_replicas:2")) {
			t.Errorf("%v, %d puts: %s", err, puts, now)
		}
		if !kept && (err == nil || !strings.Contains(err.Error(), "max_result_window is <nil> instead of 1500000") || puts != 2 ||
			now != "map[index.number_of_replicas:1 index.refresh_interval:5s]") {
			t.Errorf("%v, %d puts: %s", err, puts, now)
		}
		server.Close()
	}
}

// A server that waits for the next page for less than it is asked to is asked for less.
func TestScansOfAServerThatWaitsForLess(t *testing.T) {
	asked := []string{}
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		keep := r.URL.Query().Get("scroll")
		if r.URL.Path == "/_search/scroll" && r.Method == http.MethodPost {
			var body struct{ Scroll string }
			if err := json.NewDecoder(r.Body).Decode(&body); err != nil {
				t.Error(err)
			}
			keep = body.Scroll
		}
		if keep == "" {
			io.WriteString(w, "{}")
			return
		}
		if asked = append(asked, keep); keep != "5s" {
			w.WriteHeader(http.StatusBadRequest)
			fmt.Fprintf(w, `{"error":{"type":"illegal_argument_exception","reason":"Keep alive for request (%s) is too large. It must be less than (10s). This limit can be set by changing the [search.max_keep_alive] cluster level setting."},"status":400}`, keep)
			return
		}
		hits := ""
		if len(asked) == 3 {
			hits = `{"_id":"7","_source":{"pingo_fingerprint":"f"}}`
		}
		fmt.Fprintf(w, `{"_scroll_id":"s","_shards":{"failed":0},"hits":{"total":{"value":1},"hits":[%s]}}`, hits)
	}))
	defer server.Close()
	e, err := opensearch.Open(engine.Config{URL: server.URL})
	if err != nil {
		t.Fatal(err)
	}
	var keys []string
	err = e.Scan(t.Context(), "huts-e1", func(key, _ string) error { keys = append(keys, key); return nil })
	if err != nil || len(keys) != 1 || strings.Join(asked, " ") != "2m 30s 5s 5s" {
		t.Errorf("%v, %v after asking for %v", keys, err, asked)
	}
}

// A listing that is not whole is an error, not an index with less in it.
func TestListingsAreWholeOrFail(t *testing.T) {
	for name, c := range map[string]struct{ page, want string }{
		"a shard failed": {`{"timed_out":false,"_shards":{"total":2,"failed":1},"hits":{"hits":[{"_id":"a","_source":{},"sort":[1]}]}}`, "1 of its shards failed"},
		"out of time":    {`{"timed_out":true,"_shards":{"failed":0},"hits":{"hits":[]}}`, "a part of huts-e1 only"},
		"no progress":    {`{"_shards":{"failed":0},"hits":{"hits":[{"_id":"a","_source":{},"sort":[1]}]}}`, "the same documents of huts-e1 again and again"},
		"too few":        {`{"_shards":{"failed":0},"hits":{"total":{"value":3},"hits":[]}}`, "listed 0 documents of huts-e1, which has 3"},
	} {
		server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("Content-Type", "application/json")
			io.WriteString(w, c.page)
		}))
		e, err := opensearch.Open(engine.Config{URL: server.URL})
		if err != nil {
			t.Fatal(err)
		}
		if err := e.Scan(t.Context(), "huts-e1", func(string, string) error { return nil }); err == nil ||
			!strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %v, want %s", name, err, c.want)
		}
		server.Close()
	}
}

// Whatever a server answers, a document counts as taken only when the answer says so of it:
// in its place, by its key, for what was asked.
func FuzzAnswers(f *testing.F) {
	for _, seed := range []string{
		`{"items":[{"index":{"_id":"a","status":201}},{"delete":{"_id":"b","status":404}}]}`,
		`{"items":[{"index":{"_id":"a","status":409,"error":{"type":"version_conflict_engine_exception","reason":"[a]: newer"}}},{"delete":{"_id":"b","status":200}}]}`,
		`{"items":[{},{}]}`,
		`{"items":[{"delete":{"_id":"a","status":404}},{"index":{"_id":"b","status":200}}]}`,
		`{"items":[{"index":{"_id":"b","status":200}},{"delete":{"_id":"a","status":200}}]}`,
		`{"items":[{"index":{"_id":"a","status":200},"delete":{"_id":"a","status":200}},{"delete":{"_id":"b"}}]}`,
		`{"items":[{"index":{"_id":"a","status":200}}]}`,
		`{"items":null,"errors":false}`, `[]`, `{"items":[null,null]}`, `<html>`, ``,
	} {
		f.Add(seed)
	}
	var body string
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		io.WriteString(w, body)
	}))
	f.Cleanup(server.Close)
	e, err := opensearch.Open(engine.Config{URL: server.URL})
	if err != nil {
		f.Fatal(err)
	}
	docs := []engine.Document{{Key: "a", Version: 7, Body: []byte(`{"n":1}`)}, {Key: "b", Version: 7}}
	f.Fuzz(func(t *testing.T, answer string) {
		body = answer
		results, err := e.Deliver(t.Context(), "huts-e1", docs)
		if err != nil {
			return
		}
		if len(results) != len(docs) {
			t.Fatalf("%d results", len(results))
		}
		type said struct {
			ID     string `json:"_id"`
			Status int
		}
		var told struct {
			Items []struct{ Index, Delete *said }
		}
		if err := json.Unmarshal([]byte(answer), &told); err != nil || len(told.Items) != len(docs) {
			t.Fatalf("%q was taken for an answer", answer)
		}
		for i, r := range results {
			about := told.Items[i].Index
			if docs[i].Body == nil {
				about = told.Items[i].Delete
			}
			if about == nil || about.ID != docs[i].Key {
				t.Fatalf("%q says nothing of %s", answer, docs[i].Key)
			}
			taken := about.Status >= 200 && about.Status < 300 ||
				about.Status == http.StatusNotFound && docs[i].Body == nil
			if r.Outcome == retry.Done && !taken {
				t.Errorf("%q was taken for success of %s", answer, docs[i].Key)
			}
		}
	})
}
