package tasks_test

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"pingo/internal/core/retry"

	"pingo/internal/engine"
	"pingo/internal/engine/enginetest"
	"pingo/internal/engine/tasks"
	"pingo/internal/lab/taskserver"
)

func open(t *testing.T, url, options string) *tasks.Engine {
	t.Helper()
	e, err := tasks.Open(engine.Config{URL: url, Options: []byte(options)})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(e.Close)
	return e
}

func TestConformance(t *testing.T) {
	server := httptest.NewServer(&taskserver.Server{Key: "master"})
	t.Cleanup(server.Close)
	enginetest.Run(t, open(t, server.URL, `{"key": "master"}`), enginetest.Faults{Lacks: []string{enginetest.Any, enginetest.PlacesInLists, enginetest.ExactAlone}})
}

func TestDocuments(t *testing.T) {
	server := httptest.NewServer(&taskserver.Server{})
	t.Cleanup(server.Close)
	enginetest.Documents(t, open(t, server.URL, `{}`))
}

// One document that the server refuses fails the task of all that were sent with it: the others are sent again.
func TestAFailedTaskHarmsOneDocument(t *testing.T) {
	server := httptest.NewServer(&taskserver.Server{Refuses: func(d map[string]any) string {
		if fmt.Sprint(d["beds"]) == "13" {
			return "this number is not taken"
		}
		return ""
	}})
	t.Cleanup(server.Close)
	e := open(t, server.URL, `{}`)
	if err := e.Prepare(t.Context(), "huts-e1", enginetest.Shape()); err != nil {
		t.Fatal(err)
	}
	var docs []engine.Document
	for n := range 30 {
		docs = append(docs, engine.Document{Key: fmt.Sprint(n), Version: 1, Body: []byte(fmt.Sprintf(`{"beds":%d}`, n))})
	}
	results, err := e.Deliver(t.Context(), "huts-e1", docs)
	if err != nil {
		t.Fatal(err)
	}
	for n, r := range results {
		if refused := r.Outcome == retry.Refused; refused != (n == 13) || refused && !strings.Contains(r.Reason, "not taken") {
			t.Errorf("%d: %+v", n, r)
		}
	}
	if n, err := e.Count(t.Context(), "huts-e1"); err != nil || n != 29 {
		t.Errorf("%d documents, %v", n, err)
	}
}

// A task that no one waits for any longer does not overwrite what is sent after it.
func TestSlowTasksDoNotStepBack(t *testing.T) {
	server := httptest.NewServer(&taskserver.Server{Takes: 40 * time.Millisecond})
	t.Cleanup(server.Close)
	one, other := open(t, server.URL, `{}`), open(t, server.URL, `{}`)
	if err := one.Prepare(t.Context(), "huts-e1", enginetest.Shape()); err != nil {
		t.Fatal(err)
	}
	doc := func(n int) []engine.Document {
		return []engine.Document{{Key: "1", Version: int64(n), Body: []byte(fmt.Sprintf(`{"beds":%d}`, n))}}
	}
	for n := range 20 {
		hurried, stop := context.WithTimeout(t.Context(), time.Duration(5+n*4)*time.Millisecond)
		_, err := one.Deliver(hurried, "huts-e1", doc(2*n))
		stop()
		if err == nil {
			continue
		}
		if results, err := other.Deliver(t.Context(), "huts-e1", doc(2*n+1)); err != nil || results[0].Outcome != retry.Done {
			t.Fatal(results, err)
		}
		time.Sleep(100 * time.Millisecond)
		stored, err := other.Get(t.Context(), "huts-e1", []string{"1"})
		if err != nil || string(stored["1"]) != fmt.Sprintf(`{"beds":%d}`, 2*n+1) {
			t.Fatalf("round %d: %s %v", n, stored["1"], err)
		}
	}
}

// The exchange of two indexes is believed by what the server says, not by what another process has exchanged since.
func TestExchangesByAnotherProcessAreSeen(t *testing.T) {
	server := httptest.NewServer(&taskserver.Server{})
	t.Cleanup(server.Close)
	one, other := open(t, server.URL, `{}`), open(t, server.URL, `{}`)
	for n := 1; n <= 2; n++ {
		edition := fmt.Sprint("huts-e", n)
		if err := one.Prepare(t.Context(), edition, enginetest.Shape()); err != nil {
			t.Fatal(err)
		}
		if _, err := one.Deliver(t.Context(), edition, []engine.Document{{Key: "1", Version: 1, Body: []byte(fmt.Sprintf(`{"beds":%d}`, n))}}); err != nil {
			t.Fatal(err)
		}
		if err := other.Switch(t.Context(), "huts", edition); err != nil {
			t.Fatal(err)
		}
		if now, err := one.Resolve(t.Context(), "huts"); err != nil || len(now) != 1 || now[0] != edition {
			t.Errorf("after the switch to %s: %v %v", edition, now, err)
		}
		if left, err := one.Editions(t.Context()); err != nil || len(left) != n {
			t.Errorf("editions: %v %v", left, err)
		}
	}
	time.Sleep(1100 * time.Millisecond) // until a process looks again
	for n := 1; n <= 2; n++ {
		edition := fmt.Sprint("huts-e", n)
		if _, err := one.Deliver(t.Context(), edition, []engine.Document{{Key: "2", Version: 2, Body: []byte(fmt.Sprintf(`{"beds":%d}`, 10*n))}}); err != nil {
			t.Fatal(err)
		}
		stored, err := other.Get(t.Context(), edition, []string{"1", "2"})
		if err != nil || string(stored["1"]) != fmt.Sprintf(`{"beds":%d}`, n) || string(stored["2"]) != fmt.Sprintf(`{"beds":%d}`, 10*n) {
			t.Errorf("%s: %s %v", edition, stored, err)
		}
	}
	response, err := http.Post(server.URL+"/indexes/huts/search", "application/json", strings.NewReader(`{"filter": "beds = 20"}`))
	if err != nil {
		t.Fatal(err)
	}
	defer response.Body.Close()
	var found struct{ Hits []map[string]any }
	if err := json.NewDecoder(response.Body).Decode(&found); err != nil || len(found.Hits) != 1 {
		t.Errorf("searches by the public name: %+v %v", found, err)
	}
}

// A key that may do too little is named with what to look at.
func TestKeysWithRights(t *testing.T) {
	server := httptest.NewServer(&taskserver.Server{Key: "master"})
	t.Cleanup(server.Close)
	for key, want := range map[string]string{"": "missing_authorization_header", "wrong": "invalid_api_key"} {
		_, err := open(t, server.URL, fmt.Sprintf(`{"key": %q}`, key)).Describe(t.Context())
		if f := engine.FailureOf(err); err == nil || f.Outcome != retry.Blocked || !strings.Contains(f.Message, want) {
			t.Errorf("%q: %v", key, err)
		}
	}
	if is, err := tasks.Kind.Recognize(t.Context(), engine.Config{URL: server.URL}); !is || err != nil {
		t.Errorf("not recognized: %v", err)
	}
}
