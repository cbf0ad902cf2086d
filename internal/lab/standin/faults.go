package standin

import (
	"encoding/json"
	"fmt"
	"net/http"
	"strings"
	"sync"
	"time"
)

// Faults is what the control endpoint /_standin/faults takes: POST sets, DELETE
// clears, GET shows. A number counts the next requests it strikes; -1 means until
// it is cleared.
type Faults struct {
	SlowMS      int `json:"slow_ms"`      // the delay of every request
	SlowBulkMS  int `json:"slow_bulk_ms"` // the delay of bulk requests, in addition
	Busy        int `json:"busy"`         // 429
	Unavailable int `json:"unavailable"`  // 503
	Close       int `json:"close"`        // the connection is closed unanswered
	LoseAnswer  int `json:"lose_answer"`  // applied, then the connection is closed
	// Refuse lists documents that bulk requests refuse, each with the reason.
	Refuse map[string]string `json:"refuse"`
}

// Before puts the faults of a stand-in before another server. It refuses no documents.
func Before(next http.Handler) http.Handler {
	f := &faults{}
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/_standin/faults" {
			f.serve(w, r)
			return
		}
		lose, stopped := f.strike(w, r)
		if stopped {
			return
		}
		if !lose {
			next.ServeHTTP(w, r)
			return
		}
		next.ServeHTTP(&unheard{header: http.Header{}}, r)
		panic(http.ErrAbortHandler)
	})
}

// unheard takes an answer that is lost.
type unheard struct{ header http.Header }

func (u *unheard) Header() http.Header         { return u.header }
func (u *unheard) Write(b []byte) (int, error) { return len(b), nil }
func (u *unheard) WriteHeader(int)             {}

type faults struct {
	mu  sync.RWMutex // guards now
	now Faults
}

func (f *faults) serve(w http.ResponseWriter, r *http.Request) {
	f.mu.Lock()
	defer f.mu.Unlock()
	switch r.Method {
	case http.MethodDelete:
		f.now = Faults{}
	case http.MethodPost:
		var fresh Faults
		decoder := json.NewDecoder(r.Body)
		decoder.DisallowUnknownFields()
		if err := decoder.Decode(&fresh); err != nil {
			write(
				w,
				r,
				http.StatusBadRequest,
				object{
					"error": fmt.Sprintf(
						"faults: %s; known: slow_ms, slow_bulk_ms, busy, unavailable, close, lose_answer, refuse",
						err,
					),
				},
			)
			return
		}
		f.now = fresh
	}
	write(w, r, http.StatusOK, f.now)
}

// strike carries out the fault whose turn it is. lose says that the answer must be
// lost after applying; stopped that the request has been dealt with.
func (f *faults) strike(w http.ResponseWriter, r *http.Request) (lose, stopped bool) {
	f.mu.Lock()
	due := func(n *int) bool {
		if *n > 0 {
			*n--
			return true
		}
		return *n < 0
	}
	slow := time.Duration(f.now.SlowMS) * time.Millisecond
	if strings.HasSuffix(r.URL.Path, "/_bulk") {
		slow += time.Duration(f.now.SlowBulkMS) * time.Millisecond
	}
	busy := due(&f.now.Busy)
	unavailable := !busy && due(&f.now.Unavailable)
	closed := !busy && !unavailable && due(&f.now.Close)
	lose = !busy && !unavailable && !closed && due(&f.now.LoseAnswer)
	f.mu.Unlock()
	if slow > 0 {
		select {
		case <-time.After(slow):
		case <-r.Context().Done():
		}
	}
	var api *apiError
	switch {
	case busy:
		api = &apiError{
			429,
			"circuit_breaking_exception",
			"[parent] Data too large (a fault that was asked for)",
			nil,
		}
	case unavailable:
		api = &apiError{
			503,
			"cluster_manager_not_discovered_exception",
			"no cluster manager (a fault that was asked for)",
			nil,
		}
	case closed:
		panic(http.ErrAbortHandler)
	default:
		return lose, false
	}
	status, body := problem(api)
	write(w, r, status, body)
	return false, true
}

func (f *faults) refused(id string) string {
	f.mu.RLock()
	defer f.mu.RUnlock()
	return f.now.Refuse[id]
}
