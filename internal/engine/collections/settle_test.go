package collections_test

import (
	"encoding/json"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"pingo/internal/core/retry"
	"pingo/internal/engine"
	"pingo/internal/engine/collections"
	"pingo/internal/engine/enginetest"
)

// queued is a server that carries out the writes to its collection in order, some time after it received them, and closes
// the connection of an import without an answer.
type queued struct {
	order   sync.Mutex // held by the write that is carried out
	takes   time.Duration
	applied atomic.Int64
	shape   string
}

func (q *queued) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	w.Header().Set("Content-Type", "application/json")
	switch {
	case strings.HasSuffix(r.URL.Path, "/import"):
		io.Copy(io.Discard, r.Body)
		q.order.Lock() // it is in the queue before the connection is closed
		go func() {
			defer q.order.Unlock()
			time.Sleep(q.takes)
			q.applied.Add(1)
		}()
		panic(http.ErrAbortHandler)
	case r.Method == http.MethodDelete:
		q.order.Lock()
		defer q.order.Unlock()
		io.WriteString(w, `{"num_deleted":0}`)
	case strings.HasPrefix(r.URL.Path, "/collections/pingo_editions/documents/"):
		json.NewEncoder(w).Encode(map[string]string{"id": "huts-e1", "shape": q.shape})
	default:
		http.Error(w, `{"message":"not expected: `+r.Method+" "+r.URL.Path+`"}`, http.StatusBadRequest)
	}
}

// A request whose answer was lost is carried out before Deliver returns, or else before the next delivery, also that of
// another process: it would overwrite a newer document.
func TestRequestsOfUnknownOutcomeAreSettled(t *testing.T) {
	shape, err := json.Marshal(enginetest.Shape())
	if err != nil {
		t.Fatal(err)
	}
	q := &queued{takes: 300 * time.Millisecond, shape: string(shape)}
	server := httptest.NewServer(q)
	defer server.Close()
	server.Config.ErrorLog = nil
	process := func() *collections.Engine {
		e, err := collections.Open(engine.Config{URL: server.URL})
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(e.Close)
		return e
	}
	docs := []engine.Document{{Key: "1", Version: 1, Body: []byte(`{"name":"x"}`)}}
	one := process()
	if _, err := one.Deliver(t.Context(), "huts-e1", docs); err == nil || engine.FailureOf(err).Outcome != retry.Later {
		t.Errorf("a lost answer: %v", err)
	}
	if n := q.applied.Load(); n != 1 {
		t.Errorf("Deliver returned before the request was carried out (%d)", n)
	}
	// Another process has not sent it, and waits for it all the same.
	q.order.Lock()
	go func() {
		defer q.order.Unlock()
		time.Sleep(q.takes)
		q.applied.Add(1)
	}()
	gone := []engine.Document{{Key: "1", Version: 2}}
	if results, err := process().Deliver(t.Context(), "huts-e1", gone); err != nil || results[0].Outcome != retry.Done {
		t.Error(results, err)
	}
	if n := q.applied.Load(); n != 2 {
		t.Errorf("another process delivered before an earlier request was carried out (%d)", n)
	}
}
