package webhook

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"time"
)

// A sender says no more than that a record changed: it is read from where it is, tried again where
// that fails, and deleted when it is not there. All of them are listed page by page.
func TestRecordsAreFetched(t *testing.T) {
	var mu sync.Mutex
	records, failures, unauthorized := map[string]string{"7": "one", "a b": "two"}, 2, 0
	server := httptest.NewServer(http.HandlerFunc(func(rw http.ResponseWriter, r *http.Request) {
		mu.Lock()
		defer mu.Unlock()
		if r.Header.Get("X-Key") != "k" {
			unauthorized++
		}
		if failures > 0 {
			failures--
			rw.WriteHeader(http.StatusServiceUnavailable)
			return
		}
		if r.URL.Path == "/all" {
			switch r.URL.Query().Get("after") {
			case "":
				fmt.Fprint(
					rw,
					`{"items": [{"id": "7", "title": "listed"}, {"id": "8", "title": "listed"}], "next": "page 2"}`,
				)
			case "page 2":
				fmt.Fprint(rw, `{"items": [{"id": "9", "title": "listed"}], "next": null}`)
			}
			return
		}
		title, is := records[strings.TrimPrefix(r.URL.Path, "/b/")]
		if !is {
			rw.WriteHeader(http.StatusNotFound)
			return
		}
		fmt.Fprintf(rw, `{"record": {"title": %q}}`, title)
	}))
	defer server.Close()
	options := fmt.Sprintf(
		`{"unsigned": "allowed", "records": {"bulletins": {"key": "/id", "body": "/body", "schema": {"properties": {"title": {"type": "string"}}},
		"fetch": {"url": "%s/b/{key}", "headers": {"X-Key": "k"}, "body": "/record", "per_second": 1000LISTING}}}}`,
		server.URL,
	)
	w := newWorld(t, strings.Replace(options, "LISTING", "", 1))
	shapes := w.compile("  bulletins: { engine: main, rows: conditions.bulletins, fields: [title] }\n")
	w.install(shapes)
	for _, body := range []string{`{"id": "7"}`, `[{"id": "a b"}, {"id": "gone"}, {"id": "sent", "body": {"title": "sent"}}]`} {
		if status, out := w.receive(map[string]string{"content-type": "application/json"}, "", body); status != 200 ||
			strings.Contains(out, "unreadable") {
			t.Fatal(status, out)
		}
	}
	until := func(want string) {
		t.Helper()
		got := ""
		for deadline := time.Now().Add(20 * time.Second); got != want && time.Now().Before(deadline); time.Sleep(20 * time.Millisecond) {
			if _, err := w.src.Changes(t.Context(), 100); err != nil {
				t.Fatal(err)
			}
			got = fmt.Sprint(w.documents(shapes[0]))
		}
		if got != want {
			t.Errorf("%s, want %s", got, want)
		}
	}
	until(`map[7:{"title":"one"} a b:{"title":"two"} sent:{"title":"sent"}]`)
	list, err := w.src.Intake.Receipts(t.Context(), 0, 10, "unreadable")
	if err != nil || len(list) != 2 || !strings.Contains(list[0].Reason, "503") {
		t.Errorf("%+v %v", list, err)
	}
	mu.Lock()
	delete(records, "7")
	records["a b"] = "changed"
	mu.Unlock()
	w.receive(map[string]string{"content-type": "application/json"}, "", `[{"id": "7"}, {"id": "a b"}]`)
	until(`map[a b:{"title":"changed"} sent:{"title":"sent"}]`)
	if unauthorized > 0 {
		t.Errorf("%d requests without their headers", unauthorized)
	}

	// The key of a record in a listing is where the pointer leads without the body's, or id.
	w.src = w.open(
		"conditions",
		strings.Replace(
			options,
			"LISTING",
			fmt.Sprintf(
				`, "listing": {"url": "%s/all?after={cursor}", "items": "/items", "next": "/next"}`,
				server.URL,
			),
			1,
		),
	)
	w.install(shapes)
	until(`map[7:{"title":"listed"} 8:{"title":"listed"} 9:{"title":"listed"}]`)
}

// A key is one part of a path or one value of a query, whatever an event says it is.
func TestKeysAreNoParametersOfURLs(t *testing.T) {
	for key, want := range map[string]string{
		"7": "https://h/b/7/x?id=7&k=1", "a&admin=1": "https://h/b/a&admin=1/x?id=a%26admin%3D1&k=1", "a/../b?c#d": "https://h/b/a%2F..%2Fb%3Fc%23d/x?id=a%2F..%2Fb%3Fc%23d&k=1",
		"ü +%": "https://h/b/%C3%BC%20+%25/x?id=%C3%BC+%2B%25&k=1", "{key}": "https://h/b/%7Bkey%7D/x?id=%7Bkey%7D&k=1",
	} {
		if got, err := withKey("https://h/b/{key}/x?id={key}&k=1", key); err != nil || got != want {
			t.Errorf("%q: %s %v, want %s", key, got, err, want)
		}
	}
	for _, key := range []string{".", ".."} {
		if got, err := withKey("https://h/b/{key}", key); err == nil {
			t.Errorf("%q: %s", key, got)
		}
	}
}
