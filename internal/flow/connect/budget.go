package connect

import (
	"context"

	"golang.org/x/sync/semaphore"

	"pingo/internal/core/reindex"
)

// Budget bounds how much memory is taken up by rows that were read and the documents that are made of them, those of all
// indexes of a process together. What changes need is apart from what fills and checks need: these wait for lanes, and
// lanes must not wait for them.
type Budget struct{ bulk, lanes *semaphore.Weighted }

// BatchBytes is what a batch takes up at most: its rows, the documents that are made of them, and a request.
const BatchBytes = 3 * reindex.TargetBytes

// NewBudget makes a budget of a number of bytes, with room for at least one batch for each purpose: a fifth is for changes.
func NewBudget(bytes int64) *Budget {
	return &Budget{
		bulk:  semaphore.NewWeighted(max(BatchBytes, bytes/5*4)),
		lanes: semaphore.NewWeighted(max(BatchBytes, bytes/5)),
	}
}

// Portion is the part of an engine. One batch of its own is beyond the budget, so that an engine which takes nothing
// holds up no index of another one. Without a budget, it is nil and has no bound.
type Portion struct{ own, shared *semaphore.Weighted }

func portionOf(shared *semaphore.Weighted) *Portion {
	return &Portion{own: semaphore.NewWeighted(BatchBytes), shared: shared}
}

// Take takes an amount of memory, BatchBytes at most, until release is called. Before it waits, forget is called: what the
// caller has kept for the next batch is memory, too.
func (p *Portion) Take(ctx context.Context, bytes int64, forget func()) (release func(), err error) {
	bytes = min(bytes, BatchBytes)
	switch {
	case p == nil || bytes == 0:
		return func() {}, nil
	case p.own.TryAcquire(bytes):
		return func() { p.own.Release(bytes) }, nil
	case !p.shared.TryAcquire(bytes):
		forget()
		if err := p.shared.Acquire(ctx, bytes); err != nil {
			return nil, err
		}
	}
	return func() { p.shared.Release(bytes) }, nil
}
