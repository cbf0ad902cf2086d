package faults

import (
	"context"
	"encoding/json"
	"time"

	"pingo/internal/core/drift"
	"pingo/internal/flow"
	"pingo/internal/records"
)

// Records are records as a process reaches them.
func Records(p *Process, r flow.Records) flow.Records { return &recorded{r, p} }

type recorded struct {
	flow.Records
	p *Process
}

const to = "records"

func (r *recorded) Register(ctx context.Context, p records.Process) error {
	return r.p.do(ctx, to, "register", func() error { return r.Records.Register(context.Background(), p) })
}

func (r *recorded) Heartbeat(ctx context.Context, p records.Process) (records.View, error) {
	return call(ctx, r.p, to, "heartbeat", func(bool) (records.View, error) {
		return r.Records.Heartbeat(context.Background(), p)
	})
}

func (r *recorded) MarkGone(ctx context.Context, p records.Process) error {
	return r.p.do(ctx, to, "gone", func() error { return r.Records.MarkGone(context.Background(), p) })
}

func (r *recorded) Deregister(ctx context.Context, p records.Process) error {
	return r.p.do(ctx, to, "deregister", func() error { return r.Records.Deregister(context.Background(), p) })
}

func (r *recorded) Take(
	ctx context.Context,
	source, process string,
	seen *records.Lease,
	above int64,
) (*records.Lease, error) {
	return call(ctx, r.p, to, "take "+source, func(bool) (*records.Lease, error) {
		return r.Records.Take(context.Background(), source, process, seen, above)
	})
}

func (r *recorded) Renew(ctx context.Context, l *records.Lease, beat int64, status json.RawMessage) error {
	return r.p.do(ctx, to, "renew "+l.Source, func() error {
		return r.Records.Renew(context.Background(), l, beat, status)
	})
}

func (r *recorded) HoldsLease(ctx context.Context, source, fence string) (bool, error) {
	return call(ctx, r.p, to, "holds "+source, func(bool) (bool, error) {
		return r.Records.HoldsLease(context.Background(), source, fence)
	})
}

func (r *recorded) Release(ctx context.Context, l *records.Lease) error {
	return r.p.do(
		ctx,
		to,
		"release "+l.Source,
		func() error { return r.Records.Release(context.Background(), l) },
	)
}

func (r *recorded) Definition(ctx context.Context) (*records.Applied, error) {
	return call(ctx, r.p, to, "definition", func(bool) (*records.Applied, error) {
		return r.Records.Definition(context.Background())
	})
}

func (r *recorded) Editions(ctx context.Context) ([]*records.Edition, error) {
	return call(ctx, r.p, to, "editions", func(bool) ([]*records.Edition, error) {
		return r.Records.Editions(context.Background())
	})
}

func (r *recorded) EditionStates(ctx context.Context) ([]records.EditionState, error) {
	return call(ctx, r.p, to, "states", func(bool) ([]records.EditionState, error) {
		return r.Records.EditionStates(context.Background())
	})
}

// edition is a write that carries the fence of an edition.
func (r *recorded) edition(
	ctx context.Context,
	name string,
	e *records.Edition,
	do func(e *records.Edition) error,
) error {
	sent := *e
	return r.p.do(ctx, to, name+" "+e.Name(), func() error { return do(&sent) })
}

func (r *recorded) SaveCopy(ctx context.Context, e *records.Edition, copy string) error {
	return r.edition(ctx, "copy", e, func(e *records.Edition) error {
		return r.Records.SaveCopy(context.Background(), e, copy)
	})
}

func (r *recorded) SaveEdition(ctx context.Context, e *records.Edition) error {
	return r.edition(ctx, "save", e, func(e *records.Edition) error {
		return r.Records.SaveEdition(context.Background(), e)
	})
}

func (r *recorded) SaveSwitched(ctx context.Context, e *records.Edition, keep time.Duration) error {
	return r.edition(ctx, "switched", e, func(e *records.Edition) error {
		return r.Records.SaveSwitched(context.Background(), e, keep)
	})
}

func (r *recorded) SaveEvent(ctx context.Context, e *records.Edition, what string) error {
	return r.edition(ctx, "event", e, func(e *records.Edition) error {
		return r.Records.SaveEvent(context.Background(), e, what)
	})
}

func (r *recorded) Retire(ctx context.Context, e *records.Edition) (bool, error) {
	sent := *e
	return call(ctx, r.p, to, "retire "+e.Name(), func(bool) (bool, error) {
		return r.Records.Retire(context.Background(), &sent)
	})
}

func (r *recorded) SaveMissed(ctx context.Context, e *records.Edition, reason string, refill bool) error {
	return r.edition(ctx, "missed", e, func(e *records.Edition) error {
		return r.Records.SaveMissed(context.Background(), e, reason, refill)
	})
}

func (r *recorded) SaveAllMissed(ctx context.Context, source, fence, reason string) error {
	return r.p.do(ctx, to, "all missed "+source, func() error {
		return r.Records.SaveAllMissed(context.Background(), source, fence, reason)
	})
}

func (r *recorded) Live(
	ctx context.Context,
	instead *records.Edition,
) (live *records.Edition, failed int64, err error) {
	type both struct {
		live   *records.Edition
		failed int64
	}
	b, err := call(ctx, r.p, to, "live next to "+instead.Name(), func(bool) (b both, err error) {
		b.live, b.failed, err = r.Records.Live(context.Background(), instead)
		return b, err
	})
	return b.live, b.failed, err
}

func (r *recorded) Decided(ctx context.Context, e *records.Edition) (bool, error) {
	return call(ctx, r.p, to, "decided "+e.Name(), func(bool) (bool, error) {
		return r.Records.Decided(context.Background(), e)
	})
}

func (r *recorded) Refill(ctx context.Context, e *records.Edition) (*records.Edition, error) {
	return call(ctx, r.p, to, "refill "+e.Name(), func(bool) (*records.Edition, error) {
		return r.Records.Refill(context.Background(), e)
	})
}

func (r *recorded) DeleteEdition(ctx context.Context, e *records.Edition) error {
	return r.edition(ctx, "delete", e, func(e *records.Edition) error {
		return r.Records.DeleteEdition(context.Background(), e)
	})
}

func (r *recorded) PlanChunk(
	ctx context.Context,
	e *records.Edition,
	c records.Chunk,
	tree int,
	all, offered bool,
) error {
	return r.edition(ctx, "plan", e, func(e *records.Edition) error {
		return r.Records.PlanChunk(context.Background(), e, c, tree, all, offered)
	})
}

func (r *recorded) AddRebuild(ctx context.Context, e *records.Edition, tree int, at time.Time) error {
	return r.edition(ctx, "add rebuild", e, func(e *records.Edition) error {
		return r.Records.AddRebuild(context.Background(), e, tree, at)
	})
}

func (r *recorded) Rebuilds(ctx context.Context, e *records.Edition) ([]records.Rebuild, error) {
	return call(ctx, r.p, to, "rebuilds "+e.Name(), func(bool) ([]records.Rebuild, error) {
		return r.Records.Rebuilds(context.Background(), e)
	})
}

func (r *recorded) RebuiltTo(ctx context.Context, e *records.Edition, b records.Rebuild) error {
	return r.edition(ctx, "rebuilt to", e, func(e *records.Edition) error {
		return r.Records.RebuiltTo(context.Background(), e, b)
	})
}

func (r *recorded) Loans(ctx context.Context, e *records.Edition) ([]records.Loan, error) {
	return call(ctx, r.p, to, "loans "+e.Name(), func(bool) ([]records.Loan, error) {
		return r.Records.Loans(context.Background(), e)
	})
}

func (r *recorded) TakeBack(ctx context.Context, e *records.Edition, seen records.Loan) (bool, error) {
	sent := *e
	return call(ctx, r.p, to, "take back "+e.Name(), func(bool) (bool, error) {
		return r.Records.TakeBack(context.Background(), &sent, seen)
	})
}

func (r *recorded) TakeAllBack(ctx context.Context, e *records.Edition) error {
	return r.edition(ctx, "take all back", e, func(e *records.Edition) error {
		return r.Records.TakeAllBack(context.Background(), e)
	})
}

func (r *recorded) TakeChunk(ctx context.Context, e *records.Edition, process string, definition int) (*records.Task, error) {
	sent := *e
	return call(ctx, r.p, to, "take chunk "+e.Name(), func(bool) (*records.Task, error) {
		return r.Records.TakeChunk(context.Background(), &sent, process, definition)
	})
}

func (r *recorded) KeepChunk(ctx context.Context, e *records.Edition, number int, process string) error {
	return r.edition(ctx, "keep chunk", e, func(e *records.Edition) error {
		return r.Records.KeepChunk(context.Background(), e, number, process)
	})
}

func (r *recorded) ReturnChunk(ctx context.Context, e *records.Edition, became records.Loan) error {
	return r.edition(ctx, "return chunk", e, func(e *records.Edition) error {
		return r.Records.ReturnChunk(context.Background(), e, became)
	})
}

func (r *recorded) OpenChunks(ctx context.Context, e *records.Edition) ([]records.Chunk, error) {
	return call(ctx, r.p, to, "chunks "+e.Name(), func(bool) ([]records.Chunk, error) {
		return r.Records.OpenChunks(context.Background(), e)
	})
}

func (r *recorded) ChunkDone(
	ctx context.Context,
	e *records.Edition,
	c records.Chunk,
	rows, bytes int64,
) error {
	return r.edition(ctx, "chunk done", e, func(e *records.Edition) error {
		return r.Records.ChunkDone(context.Background(), e, c, rows, bytes)
	})
}

func (r *recorded) FailedKeys(ctx context.Context, e *records.Edition, cause string) ([]string, error) {
	return call(ctx, r.p, to, "failed "+e.Name(), func(bool) ([]string, error) {
		return r.Records.FailedKeys(context.Background(), e, cause)
	})
}

func (r *recorded) SaveFailed(ctx context.Context, e *records.Edition, f records.Failed) error {
	return r.edition(ctx, "fail "+f.Key, e, func(e *records.Edition) error {
		return r.Records.SaveFailed(context.Background(), e, f)
	})
}

func (r *recorded) ResolveFailed(ctx context.Context, e *records.Edition, key string) error {
	return r.edition(ctx, "resolve "+key, e, func(e *records.Edition) error {
		return r.Records.ResolveFailed(context.Background(), e, key)
	})
}

func (r *recorded) AddToBacklog(
	ctx context.Context,
	e *records.Edition,
	keys []string,
	at []time.Time,
) (added int64, err error) {
	return call(ctx, r.p, to, "to backlog "+e.Name(), func(bool) (int64, error) {
		return r.Records.AddToBacklog(context.Background(), e, keys, at)
	})
}

func (r *recorded) Backlog(
	ctx context.Context,
	e *records.Edition,
	after string,
	n int,
) ([]records.BacklogEntry, error) {
	return call(ctx, r.p, to, "backlog "+e.Name(), func(bool) ([]records.BacklogEntry, error) {
		return r.Records.Backlog(context.Background(), e, after, n)
	})
}

func (r *recorded) RemoveFromBacklog(
	ctx context.Context,
	e *records.Edition,
	list []records.BacklogEntry,
) error {
	return r.edition(ctx, "from backlog", e, func(e *records.Edition) error {
		return r.Records.RemoveFromBacklog(context.Background(), e, list)
	})
}

func (r *recorded) BacklogSize(
	ctx context.Context,
	e *records.Edition,
) (n int64, oldest *time.Time, err error) {
	type both struct {
		n      int64
		oldest *time.Time
	}
	b, err := call(ctx, r.p, to, "backlog size "+e.Name(), func(bool) (b both, err error) {
		b.n, b.oldest, err = r.Records.BacklogSize(context.Background(), e)
		return b, err
	})
	return b.n, b.oldest, err
}

func (r *recorded) Coverage(ctx context.Context, e *records.Edition) (*drift.Coverage, error) {
	return call(ctx, r.p, to, "coverage "+e.Name(), func(bool) (*drift.Coverage, error) {
		return r.Records.Coverage(context.Background(), e)
	})
}

func (r *recorded) SaveCoverage(ctx context.Context, e *records.Edition, c *drift.Coverage) error {
	return r.edition(ctx, "save coverage", e, func(e *records.Edition) error {
		return r.Records.SaveCoverage(context.Background(), e, c)
	})
}

func (r *recorded) Differences(ctx context.Context, e *records.Edition) ([]records.Difference, error) {
	return call(ctx, r.p, to, "differences "+e.Name(), func(bool) ([]records.Difference, error) {
		return r.Records.Differences(context.Background(), e)
	})
}

func (r *recorded) SaveDifferences(
	ctx context.Context,
	e *records.Edition,
	found []records.Difference,
	settled []string,
) error {
	return r.edition(ctx, "save differences", e, func(e *records.Edition) error {
		return r.Records.SaveDifferences(context.Background(), e, found, settled)
	})
}

func (r *recorded) NextOrder(ctx context.Context, e *records.Edition) (*records.Order, error) {
	return call(ctx, r.p, to, "order "+e.Name(), func(bool) (*records.Order, error) {
		return r.Records.NextOrder(context.Background(), e)
	})
}

func (r *recorded) SaveOrder(
	ctx context.Context,
	e *records.Edition,
	id int64,
	o *drift.Outcome,
	ended bool,
) (stands bool, err error) {
	err = r.edition(ctx, "save order", e, func(e *records.Edition) (err error) {
		stands, err = r.Records.SaveOrder(context.Background(), e, id, o, ended)
		return err
	})
	return stands, err
}
