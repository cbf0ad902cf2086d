package model

import (
	"context"
	"errors"
	"slices"

	"pingo/internal/core/reindex"
	"pingo/internal/records"
)

type chunk struct {
	edition
	n int
}

// planned is a chunk; offered is the fence of the process that lets others fill it, empty for none.
type planned struct {
	records.Chunk
	offered string
	loan    records.Loan
}

// PlanChunk records a chunk.
func (r *Records) PlanChunk(_ context.Context, e *records.Edition, c records.Chunk, tree int, all, offered bool) error {
	return r.fenced(e, func(known records.Edition) error {
		if _, twice := r.chunks[chunk{of(e), c.Number}]; twice {
			return errors.New("a chunk of that number is planned already")
		}
		p := planned{Chunk: c, loan: records.Loan{Number: c.Number}}
		if offered {
			p.offered = e.Fence
		}
		r.chunks[chunk{of(e), c.Number}] = p
		known.PlannedTree, known.PlannedTo, known.Planned = tree, c.Upto, all
		r.editions[of(e)] = known
		return nil
	})
}

// inOrder lists the chunks of an edition; the caller holds mu.
func (r *Records) inOrder(e *records.Edition) (out []planned) {
	for name, c := range r.chunks {
		if name.edition == of(e) {
			out = append(out, c)
		}
	}
	slices.SortFunc(out, func(a, b planned) int { return a.Number - b.Number })
	return out
}

// OpenChunks lists the chunks that are not done.
func (r *Records) OpenChunks(_ context.Context, e *records.Edition) (out []records.Chunk, err error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, c := range r.inOrder(e) {
		out = append(out, c.Chunk)
	}
	return out, nil
}

// ChunkDone records that a chunk is done.
func (r *Records) ChunkDone(_ context.Context, e *records.Edition, c records.Chunk, rows, bytes int64) error {
	return r.fenced(e, func(known records.Edition) error {
		if _, open := r.chunks[chunk{of(e), c.Number}]; open {
			delete(r.chunks, chunk{of(e), c.Number})
			known.Rows, known.Bytes = known.Rows+rows, known.Bytes+bytes
			r.editions[of(e)] = known
		}
		return nil
	})
}

// Loans lists the chunks that are offered, or were taken by others.
func (r *Records) Loans(_ context.Context, e *records.Edition) (out []records.Loan, err error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, c := range r.inOrder(e) {
		if c.offered != "" {
			out = append(out, c.loan)
		}
	}
	return out, nil
}

// TakeBack keeps other processes from filling a chunk.
func (r *Records) TakeBack(_ context.Context, e *records.Edition, seen records.Loan) (back bool, err error) {
	err = r.fenced(e, func(records.Edition) error {
		c, open := r.chunks[chunk{of(e), seen.Number}]
		if back = open && c.loan.Process == seen.Process && c.loan.Beat == seen.Beat && !c.loan.Filled; back {
			r.chunks[chunk{of(e), seen.Number}] = planned{Chunk: c.Chunk, loan: records.Loan{Number: c.Number}}
		}
		return nil
	})
	if errors.Is(err, records.ErrLost) {
		err = nil // as the database has it: nothing is changed
	}
	return back, err
}

// TakeAllBack keeps other processes from filling chunks of an edition.
func (r *Records) TakeAllBack(_ context.Context, e *records.Edition) error {
	return r.fenced(e, func(records.Edition) error {
		for _, c := range r.inOrder(e) {
			r.chunks[chunk{of(e), c.Number}] = planned{Chunk: c.Chunk, loan: records.Loan{Number: c.Number}}
		}
		return nil
	})
}

// TakeChunk gives a process a chunk that another one offers.
func (r *Records) TakeChunk(_ context.Context, e *records.Edition, process string, definition int) (*records.Task, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	l := r.leases[e.Shape.Source]
	known := r.editions[of(e)]
	if l.Holder == "" || l.Holder == process || known.State != reindex.Filling || known.Birth != e.Birth ||
		len(r.applied) > definition {
		return nil, nil
	}
	for _, c := range r.inOrder(e) {
		if c.offered == l.Fence() && c.loan.Process == "" {
			c.loan.Process = process
			r.chunks[chunk{of(e), c.Number}] = c
			return &records.Task{Chunk: c.Chunk, Epoch: l.Epoch, Fence: l.Fence()}, nil
		}
	}
	return nil, nil
}

// taken changes a chunk that a process fills.
func (r *Records) taken(e *records.Edition, number int, process string, do func(l *records.Loan)) error {
	return r.fenced(e, func(known records.Edition) error {
		name := chunk{of(e), number}
		c, open := r.chunks[name]
		if !open || c.loan.Process != process || c.loan.Ended || c.offered != e.Fence ||
			known.State != reindex.Filling || known.Birth != e.Birth {
			return records.ErrLost
		}
		do(&c.loan)
		r.chunks[name] = c
		return nil
	})
}

// KeepChunk moves the beat of a chunk that a process fills.
func (r *Records) KeepChunk(_ context.Context, e *records.Edition, number int, process string) error {
	return r.taken(e, number, process, func(l *records.Loan) { l.Beat++ })
}

// ReturnChunk records that a process is done with a chunk.
func (r *Records) ReturnChunk(_ context.Context, e *records.Edition, became records.Loan) error {
	return r.taken(e, became.Number, became.Process, func(l *records.Loan) {
		beat := l.Beat
		*l = became
		l.Beat, l.Ended = beat, true
	})
}

// offers reports whether any process may fill some chunks of an edition.
func (r *Records) offers(e *records.Edition) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	return slices.ContainsFunc(r.inOrder(e), func(c planned) bool { return c.offered != "" && c.loan.Process == "" })
}
