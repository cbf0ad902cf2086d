package reindex

import (
	"slices"
	"sync"
)

// Strip is which chunks of a fill are done, in the order of their keys. Neighbours that are done are one span, so it
// is as long as chunks are open. The zero value is ready. All methods may be used at the same time.
type Strip struct {
	mu    sync.Mutex // guards spans
	spans []Span
}

// Span is some rows of a strip.
type Span struct {
	Rows  int64
	State SpanState
	chunk int // that is open
}

// SpanState is the state of a span: Open here, Lent to another process, or Done.
type SpanState string

// The states of a span.
const (
	SpanOpen SpanState = "open"
	SpanLent SpanState = "lent"
	SpanDone SpanState = "done"
)

// Begin sets the number of rows that were done before the first chunk.
func (s *Strip) Begin(rows int64) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.spans = nil
	if rows > 0 {
		s.spans = []Span{{Rows: rows, State: SpanDone}}
	}
}

// Set notes the state of a chunk that is not done. A new chunk comes last, and has about a number of rows.
func (s *Strip) Set(chunk int, rows int64, state SpanState) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if at := s.at(chunk); at >= 0 {
		s.spans[at].State = state
		return
	}
	s.spans = append(s.spans, Span{rows, state, chunk})
}

// Done notes that a chunk is done, and its number of rows.
func (s *Strip) Done(chunk int, rows int64) {
	s.mu.Lock()
	defer s.mu.Unlock()
	at := s.at(chunk)
	if at < 0 {
		return
	}
	s.spans[at] = Span{Rows: rows, State: SpanDone}
	for _, i := range []int{at + 1, at} { // with the next one, and with the one before
		if i > 0 && i < len(s.spans) && s.spans[i].State == SpanDone && s.spans[i-1].State == SpanDone {
			s.spans[i-1].Rows += s.spans[i].Rows
			s.spans = slices.Delete(s.spans, i, i+1)
		}
	}
}

// Spans lists them.
func (s *Strip) Spans() []Span {
	s.mu.Lock()
	defer s.mu.Unlock()
	return slices.Clone(s.spans)
}

// at is where a chunk is; the caller holds mu.
func (s *Strip) at(chunk int) int {
	return slices.IndexFunc(s.spans, func(x Span) bool { return x.State != SpanDone && x.chunk == chunk })
}
