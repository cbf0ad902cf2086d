package connect

import (
	"context"
	"sync"
	"time"

	"pingo/internal/core/retry"
	"pingo/internal/core/stats"
)

// Limiter bounds how many requests to an engine are under way at once: fewer when the
// engine is busy, and one at a time, now and then, while it does not answer at all. All
// editions of the engine share it.
type Limiter struct {
	mu      sync.Mutex // guards what follows
	allowed float64
	busy    int
	failed  int       // requests in a row without an answer
	next    time.Time // while it is away: when the next one may try
	waits   retry.Waits
	since   time.Time // when it went away
	reason  string
	changed chan struct{} // closed and made anew when a request ends
}

const (
	mostAtOnce   = 16
	awayAfter    = 6 // requests in a row without an answer
	longestProbe = time.Second
)

// NewLimiter makes a limiter for an engine that is not known to be in trouble.
func NewLimiter() *Limiter { return &Limiter{allowed: mostAtOnce, changed: make(chan struct{})} }

// Acquire waits until a request may be sent; false when the context ended before.
func (l *Limiter) Acquire(ctx context.Context) bool {
	for ctx.Err() == nil {
		l.mu.Lock()
		away := l.failed >= awayAfter
		wait := time.Until(l.next)
		if away && l.busy == 0 && wait <= 0 || !away && l.busy < max(1, int(l.allowed)) {
			l.busy++
			l.mu.Unlock()
			return true
		}
		changed := l.changed
		l.mu.Unlock()
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

// Release says how a request ended: answered, busy, or without an answer and why.
func (l *Limiter) Release(answered, busy bool, reason string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.busy--
	switch {
	case busy:
		l.failed, l.allowed, l.waits = 0, max(1, l.allowed/2), retry.Waits{}
	case answered:
		l.failed, l.allowed, l.waits = 0, min(mostAtOnce, l.allowed+1/l.allowed), retry.Waits{}
	default:
		l.failed++
		if l.failed == awayAfter {
			l.since = time.Now()
		}
		l.reason = reason
		l.next = time.Now().Add(min(l.waits.Next(), longestProbe))
	}
	close(l.changed)
	l.changed = make(chan struct{})
}

// State is how many requests may be under way, and why and since when the engine does
// not answer; nil while it does.
func (l *Limiter) State() (allowed int, trouble *stats.Trouble) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.failed >= awayAfter {
		return 1, &stats.Trouble{Since: l.since, Message: l.reason}
	}
	return max(1, int(l.allowed)), nil
}
