package deliver

import (
	"context"
	"sync"
	"time"
)

const (
	// ArrivesWithin is how long it may take until a request arrives whose sender is gone.
	ArrivesWithin = 30 * time.Second
	// Permit is how long a process may send documents of a chunk that it was lent, after it last asked whether it may.
	Permit = 5 * time.Second
)

// lent are the chunks that other processes fill. What they send has the least version of the epoch, so that no
// document steps back; but what is deleted for good, as by a truncated table, must be listed after it has arrived.
type lent struct {
	mu   sync.Mutex // guards what follows
	open map[chan struct{}]bool
}

// Lend notes, before a chunk is offered to other processes, that they may send its documents. ended is called when
// that is over; what they sent by then arrives within some time.
func (e *Edition) Lend() (ended func(within time.Duration)) {
	l := &e.lent
	chunk := make(chan struct{})
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.open == nil {
		l.open = map[chan struct{}]bool{}
	}
	l.open[chunk] = true
	end := func() {
		l.mu.Lock()
		defer l.mu.Unlock()
		delete(l.open, chunk)
		close(chunk)
	}
	return func(within time.Duration) {
		if within <= 0 {
			end()
			return
		}
		time.AfterFunc(within, end)
	}
}

// Arrived waits until all that other processes send of chunks that they have now has arrived.
func (e *Edition) Arrived(ctx context.Context) error {
	l := &e.lent
	l.mu.Lock()
	var open []chan struct{}
	for chunk := range l.open {
		open = append(open, chunk)
	}
	l.mu.Unlock()
	for _, chunk := range open {
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-chunk:
		}
	}
	return nil
}
