package connect

import (
	"context"
	"slices"
	"sync"
	"time"

	"pingo/internal/core/retry"
	"pingo/internal/core/stats"
)

// Limiter bounds the number of concurrent requests to an engine: fewer when the
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
	line    []chan struct{} // the waiting requests, first come, first served; closed when it is their turn
}

const (
	mostAtOnce   = 16
	awayAfter    = 6 // requests in a row without an answer
	longestProbe = time.Second
)

// NewLimiter makes a limiter for an engine that is not known to be in trouble.
func NewLimiter() *Limiter { return &Limiter{allowed: mostAtOnce} }

// Acquire waits until a request may be sent; false when the context ended before.
func (l *Limiter) Acquire(ctx context.Context) bool {
	turn := make(chan struct{})
	l.mu.Lock()
	l.line = append(l.line, turn)
	l.admit()
	l.mu.Unlock()
	select {
	case <-turn:
		return true
	case <-ctx.Done():
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	if at := slices.Index(l.line, turn); at >= 0 {
		l.line = slices.Delete(l.line, at, at+1)
	} else { // its turn came just now
		l.busy--
		l.admit()
	}
	return false
}

// admit lets those go on whose turn it is. The caller holds mu.
func (l *Limiter) admit() {
	for len(l.line) > 0 {
		away := l.failed >= awayAfter
		if wait := time.Until(l.next); away && l.busy == 0 && wait > 0 {
			time.AfterFunc(wait, func() {
				l.mu.Lock()
				defer l.mu.Unlock()
				l.admit()
			})
			return
		}
		if away && l.busy > 0 || l.busy >= max(1, int(l.allowed)) {
			return
		}
		l.busy++
		close(l.line[0])
		l.line = l.line[1:]
	}
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
	l.admit()
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
