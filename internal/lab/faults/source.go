package faults

import (
	"context"
	"fmt"
	"slices"
	"sync"
	"time"

	"pingo/internal/core/change"
	"pingo/internal/core/document"
	"pingo/internal/core/shape"
	"pingo/internal/lab/tiny"
	"pingo/internal/source"
)

// Source is a database of some name as a process reaches it. Rows for which bad says so cannot be read.
func Source(p *Process, name string, db *tiny.Database, bad func(row map[string]*string) bool) *source.Source {
	return &source.Source{
		Reader:  &reader{Reader: db.Open().Reader, p: p, name: name, db: db, bad: bad},
		Feed:    &feed{p: p, name: name, db: db, inFlight: map[int64]time.Time{}, committed: map[int64]time.Time{}},
		Capture: &capture{Capture: db.Open().Capture, p: p, name: name},
	}
}

// reader reads from copies: the database as it was when the call arrived.
type reader struct {
	source.Reader
	p    *Process
	name string
	db   *tiny.Database
	bad  func(row map[string]*string) bool
}

func (r *reader) copy(ctx context.Context, what string) (source.Reader, *tiny.Database, error) {
	db, err := call(ctx, r.p, "source", r.name+" "+what, func(bool) (*tiny.Database, error) { return r.db.Copy(), nil })
	if err != nil {
		return nil, nil, err
	}
	return db.Open().Reader, db, nil
}

func (r *reader) Count(ctx context.Context, t *shape.Tree) (int64, error) {
	c, _, err := r.copy(ctx, "count "+t.Index)
	if err != nil {
		return 0, err
	}
	return c.Count(ctx, t)
}

func (r *reader) ChunkEnd(ctx context.Context, t *shape.Tree, after []string, rows int) ([]string, error) {
	c, _, err := r.copy(ctx, fmt.Sprint("chunk end ", t.Index, after))
	if err != nil {
		return nil, err
	}
	return c.ChunkEnd(ctx, t, after, min(rows, chunkRows))
}

// chunkRows makes chunks small, so that there are some.
const chunkRows = 4

func (r *reader) Keys(
	ctx context.Context,
	t *shape.Tree,
	after, upto []string,
	each func([]string) error,
) error {
	c, _, err := r.copy(ctx, fmt.Sprint("keys ", t.Index, after))
	if err != nil {
		return err
	}
	return c.Keys(ctx, t, after, upto, each)
}

func (r *reader) ReadKeys(ctx context.Context, set *document.Set, keys [][]string) error {
	c, db, err := r.copy(ctx, fmt.Sprint("read ", set.Tree().Index, keys[0]))
	if err != nil {
		return err
	}
	for _, row := range db.Rows(set.Tree().Root().Table.Name) {
		if r.bad(row) && slices.ContainsFunc(keys, func(k []string) bool { return k[0] == *row["id"] }) {
			return badRow(row)
		}
	}
	return c.ReadKeys(ctx, set, keys)
}

func (r *reader) ReadBelow(ctx context.Context, set *document.Set, node int) error {
	c, _, err := r.copy(ctx, fmt.Sprint("below ", set.Tree().Index, set.Tree().Name, node))
	if err != nil {
		return err
	}
	return c.ReadBelow(ctx, set, node)
}

func badRow(row map[string]*string) error {
	return &source.Error{Fault: source.BadValue, Err: fmt.Errorf("row %s cannot be read", *row["id"])}
}

func (r *reader) ReadRange(ctx context.Context, set *document.Set, after, upto []string) error {
	c, db, err := r.copy(ctx, fmt.Sprint("range ", set.Tree().Index, after))
	if err != nil {
		return err
	}
	var keys [][]string
	if err := c.Keys(ctx, set.Tree(), after, upto, func(key []string) error {
		keys = append(keys, slices.Clone(key))
		return nil
	}); err != nil {
		return err
	}
	for _, row := range db.Rows(set.Tree().Root().Table.Name) {
		if r.bad(row) && slices.ContainsFunc(keys, func(k []string) bool { return k[0] == *row["id"] }) {
			return badRow(row)
		}
	}
	return c.ReadRange(ctx, set, after, upto)
}

func (r *reader) WalkUp(
	ctx context.Context,
	steps []shape.Step,
	tuples [][]string,
	each func([]string) error,
) error {
	c, _, err := r.copy(ctx, fmt.Sprint("walk up ", tuples[0]))
	if err != nil {
		return err
	}
	return c.WalkUp(ctx, steps, tuples, each)
}

// feed remembers what it has returned in its process, as that of a database does.
type feed struct {
	p    *Process
	name string
	db   *tiny.Database

	mu       sync.Mutex // guards what follows
	inFlight map[int64]time.Time
	// gone were removed; they leave inFlight when the next read begins.
	gone []int64
	// committed is by when changes were seen in the journal that were not returned then.
	committed map[int64]time.Time
	claim     change.Claim
}

func (f *feed) Claimed(ctx context.Context) (change.Claim, error) {
	return call(ctx, f.p, "source", f.name+" claimed", func(bool) (change.Claim, error) {
		c, _ := f.db.Copy().Journal()
		return c, nil
	})
}

func (f *feed) Claim(ctx context.Context, found, c change.Claim) error {
	err := f.p.do(
		ctx,
		"source",
		f.name+" claim",
		func() error { return f.db.Open().Claim(context.Background(), found, c) },
	)
	if err == nil {
		f.mu.Lock()
		f.claim = c
		f.mu.Unlock()
	}
	return err
}

func (f *feed) claimNow() change.Claim {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.claim
}

func (f *feed) Beat(ctx context.Context, found change.Claim) (change.Claim, error) {
	now, err := call(ctx, f.p, "source", f.name+" beat", func(bool) (change.Claim, error) { return f.db.Beat(found) })
	if err == nil {
		f.mu.Lock()
		f.claim = now
		f.mu.Unlock()
	}
	return now, err
}

func (f *feed) Changes(ctx context.Context, limit int) ([]change.Change, error) {
	f.mu.Lock()
	for _, seq := range f.gone {
		delete(f.inFlight, seq)
	}
	f.gone = nil
	claim := f.claim
	f.mu.Unlock()
	db, err := call(
		ctx,
		f.p,
		"source",
		f.name+" changes",
		func(bool) (*tiny.Database, error) { return f.db.Copy(), nil },
	)
	if err != nil {
		return nil, err
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	now, rows := db.Journal()
	if err := tiny.Claimed(now, claim); err != nil {
		return nil, err
	}
	var out []change.Change
	for _, c := range rows {
		_, given := f.inFlight[c.Seq]
		_, known := f.committed[c.Seq]
		switch {
		case !given && len(out) < limit:
			f.inFlight[c.Seq] = c.At
			out = append(out, c)
		case !given && !known:
			f.committed[c.Seq] = time.Now()
		}
	}
	return out, nil
}

// CommittedBy is by when a change was seen in the journal before it was returned.
func (f *feed) CommittedBy(seq int64) (by time.Time, known bool) {
	f.mu.Lock()
	defer f.mu.Unlock()
	by, known = f.committed[seq]
	return by, known
}

func (f *feed) Done(ctx context.Context, seqs []int64) error {
	claim := f.claimNow()
	err := f.p.do(ctx, "source", f.name+" done", func() error { return f.db.Remove(claim, seqs) })
	if err == nil {
		f.mu.Lock()
		f.gone = append(f.gone, seqs...)
		f.mu.Unlock()
	}
	return err
}

func (f *feed) Rewind() {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.inFlight, f.gone, f.committed = map[int64]time.Time{}, nil, map[int64]time.Time{}
}

func (f *feed) InFlight() (n int, oldest time.Time) {
	f.mu.Lock()
	defer f.mu.Unlock()
	for _, at := range f.inFlight {
		if oldest.IsZero() || at.Before(oldest) {
			oldest = at
		}
	}
	return len(f.inFlight) - len(f.gone), oldest
}

func (f *feed) Depth(ctx context.Context) (source.Depth, error) {
	return call(ctx, f.p, "source", f.name+" depth", func(bool) (source.Depth, error) {
		return f.db.Open().Depth(context.Background())
	})
}

func (f *feed) ChangesOf(ctx context.Context, table shape.Ref, key []string) ([]change.Change, error) {
	return call(ctx, f.p, "source", f.name+" changes of a row", func(bool) ([]change.Change, error) {
		return f.db.Open().ChangesOf(context.Background(), table, key)
	})
}

type capture struct {
	source.Capture
	p    *Process
	name string
}

func (c *capture) Install(ctx context.Context, owner string, need []shape.Captured) ([]shape.Ref, error) {
	return call(ctx, c.p, "source", c.name+" install", func(bool) ([]shape.Ref, error) {
		return c.Capture.Install(context.Background(), owner, need)
	})
}

func (c *capture) Status(ctx context.Context) (source.CaptureStatus, error) {
	return call(ctx, c.p, "source", c.name+" status", func(bool) (source.CaptureStatus, error) {
		return c.Capture.Status(context.Background())
	})
}

func (c *capture) Gaps(ctx context.Context, need []shape.Captured) ([]source.Gap, error) {
	return call(ctx, c.p, "source", c.name+" gaps", func(bool) ([]source.Gap, error) {
		return c.Capture.Gaps(context.Background(), need)
	})
}
