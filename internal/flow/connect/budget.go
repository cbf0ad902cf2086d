package connect

import (
	"context"

	"golang.org/x/sync/semaphore"

	"pingo/internal/core/reindex"
)

// Budget bounds how much memory is taken up by what fills and checks have read, those of all indexes of a process
// together.
type Budget struct{ batches *semaphore.Weighted }

// batchBytes is what a batch takes up at most: its rows, the documents that are made of them, and a request.
const batchBytes = 3 * reindex.TargetBytes

// NewBudget makes a budget of so many bytes, of one batch at least.
func NewBudget(bytes int64) *Budget {
	return &Budget{semaphore.NewWeighted(max(1, bytes/batchBytes))}
}

// Portion is the part of an engine. One batch of its own is beyond the budget, so that an engine which takes nothing
// holds up no index of another one. Without a budget, it is nil and has no bound.
type Portion struct{ own, shared *semaphore.Weighted }

func (b *Budget) portion() *Portion {
	if b == nil {
		return nil
	}
	return &Portion{semaphore.NewWeighted(1), b.batches}
}

// Take takes memory for a batch, until release is called. Before it waits, forget is called: what the caller has
// kept for the next batch is memory, too.
func (p *Portion) Take(ctx context.Context, forget func()) (release func(), err error) {
	switch {
	case p == nil:
		return func() {}, nil
	case p.own.TryAcquire(1):
		return func() { p.own.Release(1) }, nil
	case !p.shared.TryAcquire(1):
		forget()
		if err := p.shared.Acquire(ctx, 1); err != nil {
			return nil, err
		}
	}
	return func() { p.shared.Release(1) }, nil
}
