package opensearch_test

import (
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"pingo/internal/core/retry"
	"pingo/internal/engine/enginetest"
	"pingo/internal/engine/opensearch"
	"pingo/internal/engine/wire"
	"pingo/internal/standin"
)

func TestConformance(t *testing.T) {
	server := httptest.NewServer(&standin.Server{User: "pingo", Password: "p:@/ w"})
	defer server.Close()
	e, err := opensearch.Open("http://pingo:p%3A%40%2F%20w@" + server.Listener.Addr().String())
	if err != nil {
		t.Fatal(err)
	}
	fault := func(name string) {
		response, err := http.Post(server.URL+"/_standin/faults", "application/json", strings.NewReader(fmt.Sprintf(`{%q: 1}`, name)))
		if err != nil || response.StatusCode != 200 {
			t.Fatal(response, err)
		}
		response.Body.Close()
	}
	enginetest.Run(t, e, enginetest.Faults{Busy: func() func() { fault("busy"); return func() {} }, LoseAnswer: func() { fault("lose_answer") }})
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
		e, err := opensearch.Open(c.url)
		if err != nil {
			t.Fatal(err)
		}
		_, err = e.Describe(t.Context())
		if err == nil || !strings.Contains(err.Error(), c.want) || wire.OutcomeOf(err) != c.outcome || strings.Contains(err.Error(), "wrong-secret") {
			t.Errorf("%s\n got %v (%s)\nwant %s (%s)", c.url, err, wire.OutcomeOf(err), c.want, c.outcome)
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
		e, err := opensearch.Open(server.URL)
		if err != nil {
			t.Fatal(err)
		}
		if results, err := e.Deliver(t.Context(), "x", []wire.Document{{Key: "1", Version: 1, Body: []byte("{}")}}); err == nil {
			t.Errorf("%s: %v", items, results)
		}
		server.Close()
	}
}
