package deliver

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sync/errgroup"

	"pingo/internal/core/change"
	"pingo/internal/core/document"
	"pingo/internal/core/reindex"
	"pingo/internal/core/retry"
	"pingo/internal/flow/connect"
	"pingo/internal/records"
	"pingo/internal/source"
)

// rebuilds are trees all of whose documents are to be built again, since a change touches most of them: they are read
// by ranges of keys, which costs a source and the records a part of what it costs to ask for them key by key.
type rebuilds struct {
	wake chan struct{}
	// loading is held while the records are asked, so that no older list comes after a newer one. It is taken before mu.
	loading mutex

	mu    sync.Mutex // guards what follows
	list  []records.Rebuild
	doing int64 // the generation that the estimate is of
	reindex.Estimate
	changed chan struct{} // closed and replaced when there are fewer
}

const (
	// rebuildersAtOnce is how many ranges are read and sent side by side while nothing fresh comes.
	rebuildersAtOnce = Lanes
	// besideFresh is how many rows a range has while fresh changes come, one at a time.
	besideFresh = Lanes * wideKeys
	// lookAgain is the interval between checks whether a paused rebuild may continue.
	lookAgain = time.Second
)

func (b *rebuilds) init() {
	b.wake, b.changed, b.loading = make(chan struct{}, 1), make(chan struct{}), make(mutex, 1)
}

// Rows is how many rows the edition's documents are made of, as last counted.
func (e *Edition) Rows() int64 {
	n, _ := e.Stats.Rows.Get()
	if n == nil {
		return 0
	}
	return *n
}

// Rebuild has all documents of a tree built again. When it returns, that is recorded, and the ticket need not wait for
// it. It reports false, and does nothing, while the edition is being filled: a chunk might be sent after a newer one.
func (e *Edition) Rebuild(ctx context.Context, tree int, t *change.Ticket) (bool, error) {
	if !e.filled.Load() {
		return false, nil
	}
	at := t.At
	if at.IsZero() {
		at = time.Now()
	}
	if err := e.store.AddRebuild(ctx, e.Record, tree, at); err != nil {
		return false, fmt.Errorf("recording that all documents are to be built again: %w", err)
	}
	if t.Tally != nil {
		t.Tally.Backlog.Add(e.Rows())
	}
	return true, e.rebuilds.load(ctx, e)
}

// load reads what is to be done from the records.
func (b *rebuilds) load(ctx context.Context, e *Edition) error {
	b.loading.lock()
	defer b.loading.unlock()
	list, err := e.store.Rebuilds(ctx, e.Record)
	if err != nil {
		return fmt.Errorf("reading what is to be built again: %w", err)
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	b.list = list
	close(b.changed)
	b.changed = make(chan struct{})
	nudge(b.wake)
	return nil
}

// next is what is to be done next; nil when nothing is, and paused when that is so since a person has paused it.
func (b *rebuilds) next() (r *records.Rebuild, paused bool) {
	b.mu.Lock()
	defer b.mu.Unlock()
	for i := range b.list {
		if r := b.list[i]; !r.Paused {
			return &r, false
		}
	}
	return nil, len(b.list) > 0
}

// looked notes how far a rebuild is after some more work.
func (b *rebuilds) looked(r records.Rebuild, expected int64, took time.Duration) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.doing != r.Generation {
		b.doing, b.Estimate = r.Generation, reindex.Estimate{}
	}
	b.Looked(r.Rows, expected, took)
}

// Rebuilding is how far the documents are that are built again by ranges of keys.
type Rebuilding struct {
	Rows, Expected int64   // Expected is 0 until the rows are counted
	PerSecond      float64 // 0 when unknown, as Left is
	Left           time.Duration
	Since          time.Time // when the change was made that asks for it
	Paused         bool      // by a person
}

// Rebuilding says how far that is; nil when nothing is to be built again.
func (e *Edition) Rebuilding() *Rebuilding {
	rows, b := e.Rows(), &e.rebuilds
	b.mu.Lock()
	defer b.mu.Unlock()
	if len(b.list) == 0 {
		return nil
	}
	out := &Rebuilding{Since: b.list[0].At, Paused: true}
	for _, r := range b.list {
		out.Rows += r.Rows
		if rows > 0 {
			out.Expected += max(r.Rows, rows)
		}
		out.Paused = out.Paused && r.Paused
	}
	if b.doing == b.list[0].Generation && !out.Paused {
		out.PerSecond, out.Left = b.Rate(), b.Left()
	}
	return out
}

// waiting is the approximate number of documents to build, given the number of rows; at least one while any are.
func (b *rebuilds) waiting(rows int64) (n int64) {
	b.mu.Lock()
	defer b.mu.Unlock()
	for _, r := range b.list {
		n += max(1, rows-r.Rows)
	}
	return n
}

func (b *rebuilds) oldest() (oldest time.Time) {
	b.mu.Lock()
	defer b.mu.Unlock()
	for _, r := range b.list {
		oldest = Earlier(oldest, r.At)
	}
	return oldest
}

// empty waits until nothing is to be built again.
func (b *rebuilds) empty(ctx context.Context) error {
	for {
		b.mu.Lock()
		n, changed := len(b.list), b.changed
		b.mu.Unlock()
		if n == 0 {
			return nil
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-changed:
		}
	}
}

// run builds what is to be built again until the context ends.
func (b *rebuilds) run(ctx context.Context, e *Edition) {
	w := &rebuilder{edition: e}
	for ctx.Err() == nil {
		todo, paused := b.next()
		if todo == nil {
			w.forget()
			if paused {
				retry.Sleep(ctx, lookAgain)
				_ = e.Until(ctx, func() error { return b.load(ctx, e) }) // fails when the context has ended
				continue
			}
			select {
			case <-ctx.Done():
			case <-b.wake:
			}
			continue
		}
		r := *todo
		began := time.Now()
		err := e.Until(ctx, func() error {
			next, err := w.ranges(ctx, r)
			if err != nil {
				return err
			}
			if err := e.store.RebuiltTo(ctx, e.Record, next); err != nil {
				return fmt.Errorf("recording how far a rebuild is: %w", err)
			}
			if next.Upto == nil && !r.At.IsZero() {
				e.Stats.Lag.Add(time.Since(r.At))
			}
			b.looked(next, e.Rows(), time.Since(began))
			return b.load(ctx, e) // it may have started again
		})
		if err != nil {
			return
		}
	}
}

// rebuilder has the room in which ranges are built.
type rebuilder struct {
	edition *Edition
	places  [rebuildersAtOnce]*place
	sizer   reindex.Sizer
}

type place struct {
	set   *document.Set
	arena []byte
}

func (w *rebuilder) forget() { w.places = [rebuildersAtOnce]*place{} }

// ranges builds the next few ranges of a tree side by side, and says how far it is then.
func (w *rebuilder) ranges(ctx context.Context, r records.Rebuild) (records.Rebuild, error) {
	e, next := w.edition, r
	at, rows := rebuildersAtOnce, w.sizer.Rows()
	if e.slot.freshOfLate(time.Now()) {
		at, rows = 1, min(rows, besideFresh)
	}
	tree := e.Record.Shape.Trees[r.Tree]
	var group errgroup.Group // no request is given up since another one failed: see rebuild.Fill
	var done atomic.Int64
	var mu sync.Mutex // guards sizer
	for i := range at {
		after := next.Upto
		end, err := e.reader.ChunkEnd(ctx, tree, after, rows)
		if err != nil {
			return r, errors.Join(err, group.Wait())
		}
		group.Go(func() error {
			became, err := w.build(ctx, i, r.Tree, after, end)
			mu.Lock()
			if became.Bytes > 0 {
				w.sizer.Saw(became.Rows, became.Bytes)
			}
			mu.Unlock()
			done.Add(int64(became.Rows))
			return err
		})
		if next.Upto = end; end == nil {
			break
		}
	}
	if err := group.Wait(); err != nil {
		return r, err
	}
	next.Rows += done.Load()
	return next, nil
}

// build builds the documents of a range in a place of its own.
func (w *rebuilder) build(ctx context.Context, i, tree int, after, upto []string) (Chunk, error) {
	e := w.edition
	release, err := e.engine.Bulk.Take(ctx, connect.BatchBytes, func() {})
	if err != nil {
		return Chunk{}, err
	}
	defer release()
	p := w.places[i]
	if p == nil || p.set.Tree() != e.Record.Shape.Trees[tree] {
		p = &place{set: document.NewSet(e.Record.Shape.Trees[tree])}
		w.places[i] = p
	}
	mark := e.BeginChunk()
	defer e.EndChunk(mark)
	version := e.fence.NextVersion() // before the read: see lane.build
	p.set.Reset()
	if err := e.reader.ReadRange(ctx, p.set, after, upto); source.FaultOf(err) == source.BadValue {
		became, failed := w.byKeys(ctx, tree, after, upto)
		if errors.Is(err, source.ErrTooLarge) {
			became.Bytes = p.set.Bytes() // the next one has fewer rows
		}
		return became, failed
	} else if err != nil {
		return Chunk{}, err
	}
	became, arena, err := e.DeliverChunk(ctx, p.set, version, mark, p.arena[:0])
	if p.arena = arena; cap(arena) > 2*reindex.TargetBytes {
		p.arena = nil
	}
	return became, err
}

// byKeys builds the documents of a range with a bad value in it through their lanes, which find the row at fault.
func (w *rebuilder) byKeys(ctx context.Context, tree int, after, upto []string) (Chunk, error) {
	e, n := w.edition, 0
	t := e.Record.Shape.Trees[tree]
	err := change.Await(ctx, nil, func(ticket *change.Ticket) error {
		return e.reader.Keys(ctx, t, after, upto, func(key []string) error {
			n++
			return e.Add(ctx, document.Key(t, key...), ticket, Wide)
		})
	})
	return Chunk{Rows: n}, err
}
