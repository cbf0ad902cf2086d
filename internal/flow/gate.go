package flow

import (
	"context"
	"sync"
	"time"

	"pingo/internal/core/retry"
)

// gate stands before an engine: it bounds how many requests are on their way at once,
// fewer when the engine is busy, and lets only one through at a time, now and then, while
// the engine does not answer at all. All editions of the engine share it.
type gate struct {
	mu      sync.Mutex
	allowed float64
	busy    int
	failed  int       // requests in a row without an answer
	next    time.Time // while it is away: when the next one may try
	since   time.Time // when it went away
	words   string
	changed chan struct{} // closed and made anew when a request ends
}

const (
	mostAtOnce  = 16
	awayAfter   = 6 // requests in a row without an answer
	probeLonger = time.Second
)

func newGate() *gate { return &gate{allowed: mostAtOnce, changed: make(chan struct{})} }

// enter waits until a request may be sent; false when the context ended before.
func (g *gate) enter(ctx context.Context) bool {
	for ctx.Err() == nil {
		g.mu.Lock()
		away := g.failed >= awayAfter
		wait := time.Until(g.next)
		if away && g.busy == 0 && wait <= 0 || !away && g.busy < max(1, int(g.allowed)) {
			g.busy++
			g.mu.Unlock()
			return true
		}
		changed := g.changed
		g.mu.Unlock()
		if !away || wait <= 0 {
			wait = time.Minute // until another one ends
		}
		select {
		case <-ctx.Done():
		case <-changed:
		case <-time.After(wait):
		}
	}
	return false
}

// leave says how a request ended: answered, busy, or without an answer.
func (g *gate) leave(answered, busy bool, words string) {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.busy--
	switch {
	case busy:
		g.failed, g.allowed = 0, max(1, g.allowed/2)
	case answered:
		g.failed, g.allowed = 0, min(mostAtOnce, g.allowed+1/g.allowed)
	default:
		g.failed++
		if g.failed == awayAfter {
			g.since = time.Now()
		}
		g.words = words
		g.next = time.Now().Add(min(retry.Backoff(g.failed), probeLonger))
	}
	close(g.changed)
	g.changed = make(chan struct{})
}

// EngineStatus is one engine, as the deliveries meet it.
type EngineStatus struct {
	Name string `json:"name"`
	// AtOnce is how many requests may be on their way: fewer while it is busy.
	AtOnce int `json:"atOnce"`
	// Trouble is there while it does not answer; its indexes wait, and only one request
	// now and then looks whether it is back.
	Trouble *Trouble `json:"trouble,omitempty"`
}

func (g *gate) status(name string) EngineStatus {
	g.mu.Lock()
	defer g.mu.Unlock()
	s := EngineStatus{Name: name, AtOnce: max(1, int(g.allowed))}
	if g.failed >= awayAfter {
		s.AtOnce = 1
		s.Trouble = &Trouble{Since: g.since, Message: g.words}
	}
	return s
}
