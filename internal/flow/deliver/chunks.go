package deliver

import (
	"context"
	"sync"
	"sync/atomic"
	"time"

	"pingo/internal/core/change"
	"pingo/internal/core/reindex"
	"pingo/internal/engine"
)

// chunks are ranges of keys that are read and sent while the lanes build other documents.
type chunks struct {
	touched touched
	lent    lent
	filled  atomic.Bool // no chunk of a fill is open
	// versions are those that documents of chunks were delivered with.
	versions versions
	// prepared is closed when it is recorded which copy of the edition the engine holds. Nothing is sent before: what a
	// copy was sent that was replaced without a trace would be missing in the next one.
	prepared chan struct{}
}

// SetPrepared notes that it is recorded which copy of the edition the engine holds.
func (c *chunks) SetPrepared() {
	select {
	case <-c.prepared:
	default:
		close(c.prepared)
	}
}

// SetFilled notes that no chunk of a fill is open, or will be.
func (c *chunks) SetFilled() { c.filled.Store(true) }

// touched are the keys that were built since the oldest open chunk began to be read.
type touched struct {
	mu  sync.Mutex // guards set
	set reindex.Touched
}

func (t *touched) add(entries []change.Entry) {
	t.mu.Lock()
	defer t.mu.Unlock()
	for i := range entries {
		t.set.Add(entries[i].Key)
	}
}

// drop leaves out the documents of a tree that were built since a mark, and counts them.
func (t *touched) drop(tree int, docs []engine.Document, mark int64) (kept []engine.Document, dropped int) {
	t.mu.Lock()
	defer t.mu.Unlock()
	kept = docs[:0]
	for _, d := range docs {
		if t.set.Has(tree, d.Key, mark) {
			dropped++
			continue
		}
		kept = append(kept, d)
	}
	return kept, dropped
}

// BeginChunk is called before a chunk is read; its mark goes to DeliverChunk and EndChunk.
func (c *chunks) BeginChunk() (mark int64) {
	c.touched.mu.Lock()
	defer c.touched.mu.Unlock()
	return c.touched.set.Begin()
}

// EndChunk is called when all documents of a chunk were delivered, or are given up.
func (c *chunks) EndChunk(mark int64) {
	c.touched.mu.Lock()
	defer c.touched.mu.Unlock()
	c.touched.set.End(mark)
}

// DropChunks has all documents of a tree dropped that open chunks have read: all of them
// are about to be rebuilt. Barrier waits for what is being sent.
func (c *chunks) DropChunks(tree int) {
	c.touched.mu.Lock()
	defer c.touched.mu.Unlock()
	c.touched.set.AddTree(tree)
}

const (
	// ArrivesWithin is how long it may take until a request arrives whose sender is gone.
	ArrivesWithin = 30 * time.Second
	// Permit is how long a helping process may send documents of a lent chunk after its last renewed permission.
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
func (c *chunks) Lend() (ended func(within time.Duration)) {
	l := &c.lent
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
func (c *chunks) Arrived(ctx context.Context) error {
	l := &c.lent
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
