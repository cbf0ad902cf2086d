package rebuild

import (
	"context"
	"fmt"
	"sync/atomic"
	"time"

	"pingo/internal/core/reindex"
	"pingo/internal/core/retry"
	"pingo/internal/flow/deliver"
	"pingo/internal/records"
)

// LendingStore is what the records keep of chunks that other processes fill.
type LendingStore interface {
	// Loans lists the chunks that are offered, or were taken by others.
	Loans(ctx context.Context, e *records.Edition) ([]records.Loan, error)
	// TakeBack takes a chunk back from another process, unless its state has changed since it was read.
	TakeBack(ctx context.Context, e *records.Edition, seen records.Loan) (bool, error)
	TakeAllBack(ctx context.Context, e *records.Edition) error
}

const (
	// lookAtLoans is the interval between checks of lent chunks.
	lookAtLoans = 200 * time.Millisecond
	// offeredFor is how long a chunk is offered until this process fills it itself.
	offeredFor = 5 * time.Second
	// stillFor is how long a process may make no progress with a chunk. After that it may no longer send any of it.
	stillFor = deliver.Permit + 2*time.Second
	// mostOffered bounds how many chunks are offered at a time.
	mostOffered = 4 * Workers
)

// lender lets other processes fill chunks, and takes in their outcomes.
type lender struct {
	fill *Fill
	plan *planner
	lent []*loan
}

// loan is a chunk that was offered.
type loan struct {
	chunk records.Chunk
	ended func(within time.Duration)
	seen  records.Loan // as it was last, since then
	since time.Time
}

// lend lets other processes fill chunks until all are planned and none is lent, or it is over.
func lend(ctx context.Context, f *Fill, p *planner, over *atomic.Bool) error {
	l := &lender{fill: f, plan: p}
	defer func() {
		f.update(func(_ *records.Edition, p *reindex.Progress) { p.Helpers = 0 })
		for _, x := range l.lent { // they may go on for a moment, and are taken back before the next try
			x.ended(stillFor + deliver.ArrivesWithin)
		}
	}()
	for !over.Load() {
		if err := l.offer(ctx); err != nil {
			over.Store(true)
			return err
		}
		if !retry.Sleep(ctx, lookAtLoans) {
			return ctx.Err()
		}
		if len(l.lent) == 0 {
			continue
		}
		if err := l.look(ctx); err != nil {
			f.log.Debug("lent chunks not looked at", "reason", err) // the next look may succeed
		}
	}
	return nil
}

// offer offers enough chunks for each process, unless the fill has a pace.
func (l *lender) offer(ctx context.Context) error {
	f, now := l.fill, time.Now()
	pace := f.pacer.Pace()
	if pace.Documents > 0 || pace.Bytes > 0 || pace.Workers > 0 || f.pacer.halted(now) != "" || f.pacer.rests(now) {
		return nil
	}
	free := 0
	for _, x := range l.lent {
		if x.seen.Process == "" {
			free++
		}
	}
	for want := min(mostOffered, Workers*f.others()); free < want; free++ {
		x := &loan{since: now, ended: f.edition.Lend()} // before others may send
		more, err := l.planOne(ctx, x)
		if err != nil {
			x.ended(stillFor + deliver.ArrivesWithin) // it may be recorded, and taken by another process
			return err
		}
		if !more {
			x.ended(0)
			return nil
		}
		l.lent = append(l.lent, x)
	}
	return nil
}

// planOne plans a chunk for others; false when all are planned.
func (l *lender) planOne(ctx context.Context, x *loan) (more bool, err error) {
	p := l.plan
	p.turn <- struct{}{}
	defer func() { <-p.turn }()
	if p.all {
		return false, nil
	}
	if x.chunk, err = p.plan(ctx, l.fill, true); err != nil {
		return false, err
	}
	x.seen.Number = x.chunk.Number
	p.lent++
	return true, nil
}

// look takes in what others did.
func (l *lender) look(ctx context.Context) error {
	f, record := l.fill, l.fill.copy()
	list, err := f.store.Loans(ctx, record)
	if err != nil {
		return fmt.Errorf("reading the lent chunks: %w", err)
	}
	known := map[int]records.Loan{}
	for _, x := range list {
		known[x.Number] = x
	}
	var kept []*loan
	var failed error
	now := time.Now()
	for _, x := range l.lent {
		is, there := known[x.chunk.Number]
		if there && is != x.seen {
			x.seen, x.since = is, now
		}
		still := now.Sub(x.since)
		switch {
		case x.seen.Filled:
			became := deliver.Chunk{Rows: int(x.seen.Rows), Bytes: int(x.seen.Bytes)}
			if err := f.chunkDone(ctx, x.chunk, became); err != nil {
				failed, kept = err, append(kept, x)
				continue
			}
			f.edition.Stats.Built.Add(became.Rows)
			f.edition.Stats.Delivered.Add(became.Rows)
			l.back(x, arrives(x.seen), false)
			continue
		case !there: // it was taken back, which was not answered, or the records were put back
			l.back(x, stillFor+deliver.ArrivesWithin, true)
			continue
		case x.seen.Ended, x.seen.Process == "" && (still > offeredFor || f.pacer.halted(now) != ""), still > stillFor:
			back, err := f.store.TakeBack(ctx, record, x.seen)
			switch {
			case err != nil || !back:
				failed, kept = err, append(kept, x)
			default:
				l.back(x, arrives(x.seen), true)
			}
		default:
			kept = append(kept, x)
		}
	}
	l.lent = kept
	processes := map[string]bool{}
	for _, x := range kept {
		if x.seen.Process != "" {
			processes[x.seen.Process] = true
		}
	}
	f.update(func(_ *records.Edition, p *reindex.Progress) { p.Helpers = len(processes) })
	return failed
}

// arrives is the time within which everything that was sent of a chunk arrives, once no process sends more of it.
func arrives(x records.Loan) time.Duration {
	if x.Process == "" || x.Filled && !x.Late {
		return 0
	}
	return deliver.ArrivesWithin
}

// back ends a loan whose requests have arrived within some time; open says that its chunk is to be filled here.
func (l *lender) back(x *loan, within time.Duration, open bool) {
	x.ended(within)
	if open {
		l.fill.strip.Set(x.chunk.Number, 0, reindex.SpanOpen)
	}
	p := l.plan
	p.turn <- struct{}{}
	defer func() { <-p.turn }()
	p.lent--
	if open {
		p.open = append(p.open, x.chunk)
	}
}
