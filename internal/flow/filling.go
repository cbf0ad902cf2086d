package flow

import (
	"context"
	"fmt"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"pingo/internal/core/change"
	"pingo/internal/core/document"
	"pingo/internal/core/fill"
	"pingo/internal/engine/wire"
	"pingo/internal/records"
	"pingo/internal/source"
)

// fillWorkers read and send chunks side by side.
const fillWorkers = 4

// fill takes an edition from wherever it stands to switched. Every step is recorded
// before it is taken, and can be taken again. caughtUp waits until every change
// noticed so far is delivered.
func (e *editionFlow) fill(ctx context.Context, caughtUp func(context.Context) error) error {
	steps := map[fill.State]func(context.Context) error{
		fill.Preparing:  e.prepare,
		fill.Filling:    e.fillChunks,
		fill.CatchingUp: func(ctx context.Context) error { return e.catchUp(ctx, caughtUp) },
	}
	for attempt := 1; e.record.State != fill.Switched; {
		before := e.record.State
		err := steps[before](ctx)
		switch {
		case ctx.Err() != nil:
			return ctx.Err()
		case err != nil:
			if !e.pause(ctx, attempt, err.Error(), source.Misfit(err)) {
				return ctx.Err()
			}
			attempt++
		default:
			attempt = 1
			e.trouble.clear()
		}
	}
	close(e.switched)
	return nil
}

// enter records the next step.
func (e *editionFlow) enter(ctx context.Context, s fill.State) error {
	next := *e.record
	next.State = s
	if !e.term.holds() {
		return ctx.Err()
	}
	if err := e.records.SaveEdition(ctx, &next); err != nil {
		return fmt.Errorf("recording that %s is %s: %w", e.record.Name(), s, err)
	}
	e.mu.Lock()
	e.record.State, e.state = s, s
	e.mu.Unlock()
	e.log.Info("edition is " + string(s))
	return nil
}

func (e *editionFlow) prepare(ctx context.Context) error {
	if !e.term.holds() {
		return ctx.Err()
	}
	if err := e.engine.Prepare(ctx, e.record.Name(), e.shape); err != nil {
		return fmt.Errorf("creating edition %s: %w", e.record.Name(), err)
	}
	n, err := countRows(ctx, e.source, e.shape)
	if err != nil {
		return err
	}
	now := time.Now()
	e.mu.Lock()
	e.record.Expected, e.record.BeganAt, e.done.Expected = n, &now, n
	e.mu.Unlock()
	return e.enter(ctx, fill.Filling)
}

// planner hands out chunks: first those that were open when a process died, then
// new ones, each recorded before it is read.
type planner struct {
	mu    sync.Mutex
	open  []records.Chunk
	next  int
	tree  int // the tree that chunks are planned in
	after []string
	all   bool
	sizer fill.Sizer
}

func (e *editionFlow) fillChunks(ctx context.Context) error {
	open, err := e.records.OpenChunks(ctx, e.record)
	if err != nil {
		return err
	}
	p := &planner{open: open, tree: e.record.PlannedTree, after: e.record.PlannedTo, all: e.record.Planned}
	for _, c := range open {
		p.next = max(p.next, c.Number+1)
	}
	e.mu.Lock()
	e.done.Began, e.done.Resumed = time.Now(), e.done.Rows
	e.mu.Unlock()
	if e.done.Resumed > 0 {
		e.log.Info("filling goes on", "rows", e.done.Resumed, "openChunks", len(open))
	}
	group, working := errgroup.WithContext(ctx)
	for range fillWorkers {
		group.Go(func() error { return e.fillWorker(working, p) })
	}
	if err := group.Wait(); err != nil {
		return err
	}
	now := time.Now()
	e.record.FilledAt = &now
	return e.enter(ctx, fill.CatchingUp)
}

// chunk gives the next chunk; false when there is none.
func (e *editionFlow) chunk(ctx context.Context, p *planner) (records.Chunk, bool, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if len(p.open) > 0 {
		c := p.open[0]
		p.open = p.open[1:]
		return c, true, nil
	}
	if p.all {
		return records.Chunk{}, false, nil
	}
	end, err := e.source.ChunkEnd(ctx, e.shape.Trees[p.tree], p.after, p.sizer.Rows())
	if err != nil {
		return records.Chunk{}, false, err
	}
	c := records.Chunk{Number: p.next, Tree: p.tree, After: p.after, Upto: end}
	tree, all := p.tree, false
	if end == nil { // the last one of this tree
		tree++
		if all = tree == len(e.shape.Trees); all {
			tree = p.tree
		}
	}
	if err := e.records.PlanChunk(ctx, e.record, c, tree, all); err != nil {
		return c, false, fmt.Errorf("recording a chunk: %w", err)
	}
	p.next++
	p.tree, p.after, p.all = tree, end, all
	e.mu.Lock()
	e.record.PlannedTree, e.record.PlannedTo, e.record.Planned = p.tree, p.after, p.all
	e.mu.Unlock()
	return c, true, nil
}

// fillWorker fills chunk after chunk with buffers of its own.
func (e *editionFlow) fillWorker(ctx context.Context, p *planner) error {
	sets := newSets(e.shape)
	var arena []byte
	var byLane [lanes][]wire.Document
	for {
		c, ok, err := e.chunk(ctx, p)
		if err != nil || !ok {
			return err
		}
		e.mu.Lock()
		mark := e.touched.Begin()
		e.mu.Unlock()
		arena, err = e.fillChunk(ctx, p, c, mark, sets[c.Tree], arena[:0], &byLane)
		e.mu.Lock()
		e.touched.End(mark)
		e.mu.Unlock()
		if err != nil {
			return err
		}
		if cap(arena) > 4*fill.TargetBytes {
			arena = nil
		}
	}
}

// fillChunk reads a chunk, and delivers each lane's share in that lane, without the
// documents that the stream has built since the chunk began.
func (e *editionFlow) fillChunk(ctx context.Context, p *planner, c records.Chunk, mark int64, set *document.Set, arena []byte, byLane *[lanes][]wire.Document) ([]byte, error) {
	version := e.term.nextVersion()
	set.Reset()
	if err := e.source.ReadRange(ctx, set, c.After, c.Upto); err != nil {
		if source.DataFault(err) {
			return arena, e.fillByKeys(ctx, c)
		}
		return arena, err
	}
	for i := range byLane {
		byLane[i] = byLane[i][:0]
	}
	_, arena = e.assemble(set, version, nil, arena, func(d wire.Document) {
		i := change.Lane([]byte(d.Key), lanes)
		byLane[i] = append(byLane[i], d)
	})
	rows := set.Rows(0).Len()
	p.mu.Lock()
	p.sizer.Saw(rows, len(arena))
	p.mu.Unlock()
	dropped := 0
	for i, l := range e.lanes {
		n, ok := e.deliverShare(ctx, l, byLane[i], mark)
		if !ok {
			return arena, ctx.Err()
		}
		dropped += n
	}
	return arena, e.chunkDone(ctx, c, rows, len(arena), dropped)
}

func (e *editionFlow) deliverShare(ctx context.Context, l *lane, docs []wire.Document, mark int64) (dropped int, ok bool) {
	l.sending.Lock()
	defer l.sending.Unlock()
	kept := docs[:0]
	e.mu.Lock()
	for _, d := range docs {
		if e.touched.Has(d.Key, mark) {
			dropped++
			continue
		}
		kept = append(kept, d)
	}
	e.mu.Unlock()
	e.built.add(len(kept))
	return dropped, e.deliver(ctx, l, kept)
}

// fillByKeys fills a chunk with a bad value in it key by key through the lanes,
// which find the row at fault.
func (e *editionFlow) fillByKeys(ctx context.Context, c records.Chunk) error {
	settled := make(chan struct{})
	ticket := change.NewTicket(time.Time{}, func() { close(settled) })
	rows := 0
	tree := e.shape.Trees[c.Tree]
	err := e.source.Keys(ctx, tree, c.After, c.Upto, func(key []string) error {
		rows++
		return e.add(ctx, document.Key(tree, key...), ticket, wide)
	})
	if err != nil {
		return err
	}
	ticket.Close()
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-settled:
		return e.chunkDone(ctx, c, rows, 0, 0)
	}
}

func (e *editionFlow) chunkDone(ctx context.Context, c records.Chunk, rows, bytes, dropped int) error {
	if err := e.records.ChunkDone(ctx, e.record, c, int64(rows), int64(bytes)); err != nil {
		return fmt.Errorf("recording a finished chunk: %w", err)
	}
	e.mu.Lock()
	e.done.Rows += int64(rows)
	e.done.Bytes += int64(bytes)
	e.done.Dropped += int64(dropped)
	e.mu.Unlock()
	return nil
}

// catchUp waits for the stream, makes the edition searchable, and switches to it.
func (e *editionFlow) catchUp(ctx context.Context, caughtUp func(context.Context) error) error {
	if err := caughtUp(ctx); err != nil {
		return err
	}
	if err := e.engine.Filled(ctx, e.record.Name(), e.shape); err != nil {
		return fmt.Errorf("making %s searchable: %w", e.record.Name(), err)
	}
	if !e.term.holds() {
		return ctx.Err()
	}
	if err := e.engine.Switch(ctx, e.record.Index, e.record.Name()); err != nil {
		return fmt.Errorf("switching %s to %s: %w", e.record.Index, e.record.Name(), err)
	}
	if n, err := e.engine.Count(ctx, e.record.Name()); err == nil {
		e.engineN.set(n)
	}
	if n, err := countRows(ctx, e.source, e.shape); err == nil {
		e.sourceN.set(n)
	}
	return e.enter(ctx, fill.Switched)
}
