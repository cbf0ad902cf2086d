package sweep

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"pingo/internal/core/drift"
	"pingo/internal/core/reindex"
	"pingo/internal/core/retry"
	"pingo/internal/core/shape"
	"pingo/internal/flow/compare"
	"pingo/internal/flow/deliver"
	"pingo/internal/records"
)

// job is a check or a repair: what is to be done, at which pace, and what has come of it.
type job struct {
	c       *Checker
	began   time.Time
	asked   drift.Asked
	repairs string
	few     int64
	whole   compare.Share
	pace    reindex.Pace

	// listing is what the engine held when a whole check began; nil for others.
	listing *compare.Listing

	mu     sync.Mutex // guards what follows
	out    drift.Outcome
	budget reindex.Budget
	sizer  reindex.Sizer
	// looking and reading are how the source does, asked for keys and for whole documents.
	looking, reading reindex.Strain
	gone             int64 // documents that a repair has deleted
}

// outcome is what has come of it so far.
func (j *job) outcome() drift.Outcome {
	j.mu.Lock()
	defer j.mu.Unlock()
	out := j.out
	out.Kinds, out.Causes = maps.Clone(j.out.Kinds), maps.Clone(j.out.Causes)
	return out
}

func (j *job) tell(do func(o *drift.Outcome)) {
	j.mu.Lock()
	defer j.mu.Unlock()
	do(&j.out)
}

// attempt does something that is done again when it fails: what it has told is forgotten then.
func (j *job) attempt(do func() error) error {
	before := j.outcome()
	err := do()
	if err != nil {
		j.tell(func(o *drift.Outcome) {
			before.Problem = o.Problem
			*o = before
		})
	}
	return err
}

// recast gives another cause to some of the missing documents.
func (j *job) recast(cause drift.Cause, n int64) {
	j.tell(func(o *drift.Outcome) {
		n = min(n, o.Causes[drift.ByEngine])
		o.Causes[drift.ByEngine] -= n
		o.Causes[cause] += n
	})
}

// wait keeps the pace after a number of documents, and lets a source rest whose reads take long.
func (j *job) wait(ctx context.Context, strain *reindex.Strain, documents, bytes int, took time.Duration) error {
	now := time.Now()
	j.mu.Lock()
	if bytes > 0 {
		j.sizer.Saw(documents, bytes)
	}
	rest := strain.Rest(documents, took)
	j.budget.Spend(j.pace, documents, bytes, now)
	wait := max(rest, j.budget.Wait(now))
	j.mu.Unlock()
	if wait > 0 && !retry.Sleep(ctx, wait) {
		return ctx.Err()
	}
	return ctx.Err()
}

// lookedUp is the number of documents of the engine that one read searches in the source.
const lookedUp = 1000

// scan looks up all documents of the engine in the source.
func (j *job) scan(ctx context.Context) error {
	var keys []string
	var orphans []compare.Different
	flush := func() error {
		if len(keys) == 0 {
			return nil
		}
		began := time.Now()
		found, err := j.c.of.Rowless(ctx, keys)
		if err != nil {
			return err
		}
		n := len(keys)
		orphans, keys = append(orphans, found...), keys[:0]
		j.tell(func(o *drift.Outcome) { o.Scanned += int64(n) })
		if len(orphans) > records.MostDifferences { // they are enough to see what is wrong
			return errEnough
		}
		return j.wait(ctx, &j.looking, n, 0, time.Since(began))
	}
	err := j.c.engine.Scan(ctx, j.c.edition.Record.Name(), func(key, _ string) error {
		if keys = append(keys, key); len(keys) < lookedUp {
			return nil
		}
		return flush()
	})
	if err == nil {
		err = flush()
	}
	if err != nil && !errors.Is(err, errEnough) {
		return fmt.Errorf("looking up the documents of %s: %w", j.c.edition.Record.Name(), err)
	}
	_, _, err = j.confirm(ctx, orphans, 0)
	return err
}

var errEnough = errors.New("enough")

// list lists all documents of the engine, for a whole check. Where there are too many, they are searched at
// its end.
func (j *job) list(ctx context.Context) (err error) {
	expected := int64(0)
	if n, _ := j.c.edition.Stats.Documents.Get(); n != nil {
		expected = *n
	}
	j.listing, err = j.c.of.List(ctx, expected, func(n int) {
		j.tell(func(o *drift.Outcome) { o.Scanned += int64(n) })
	})
	if err != nil {
		err = fmt.Errorf("listing the documents of %s: %w", j.c.edition.Record.Name(), err)
	}
	return err
}

// unseen looks at the documents that no row was found for.
func (j *job) unseen(ctx context.Context) error {
	if j.listing == nil {
		return j.scan(ctx)
	}
	found, err := j.c.of.Unseen(ctx, j.listing, records.MostDifferences)
	if err == nil {
		_, _, err = j.confirm(ctx, found, 0)
	}
	return err
}

// span is a range of keys.
type span struct {
	after, upto []string
}

// segment compares about most rows of a tree after a key, with side ranges at the same time.
func (j *job) segment(ctx context.Context, t *shape.Tree, after []string, most, side int) (drift.Segment, error) {
	var spans []span
	s := drift.Segment{Content: j.whole.Of}
	for planned := 0; planned < most; {
		j.mu.Lock()
		rows := min(j.pace.Most(j.sizer.Rows(), j.sizer.BytesPerRow()), most-planned)
		j.mu.Unlock()
		end, err := j.c.reader.ChunkEnd(ctx, t, after, rows)
		if err != nil {
			return s, err
		}
		spans = append(spans, span{after, end})
		planned += rows
		if after, s.Upto = end, end; end == nil {
			break
		}
	}
	var err error
	s.Rows, s.Differing, s.Unsettled, err = j.spans(ctx, t, spans, side)
	return s, err
}

// spans compares ranges of a tree. It returns how many rows there were, how many of their documents differ
// now, and of how many that is unknown.
func (j *job) spans(
	ctx context.Context,
	t *shape.Tree,
	spans []span,
	side int,
) (rows, differing, unsettled int64, err error) {
	var mu sync.Mutex // guards what follows
	var suspects []compare.Different
	group, within := errgroup.WithContext(ctx)
	next := make(chan span)
	group.Go(func() error {
		defer close(next)
		for _, s := range spans {
			select {
			case next <- s:
			case <-within.Done():
				return within.Err()
			}
		}
		return nil
	})
	for range min(side, len(spans)) {
		group.Go(func() error {
			r := j.c.of.Range(t, &j.whole, j.listing)
			for s := range next {
				n, bytes, err := r.Compare(within, s.after, s.upto)
				if err != nil {
					return err
				}
				mu.Lock()
				rows += int64(n)
				suspects = append(suspects, r.Different...)
				mu.Unlock()
				j.tell(func(o *drift.Outcome) {
					o.Compared += int64(r.Compared)
					o.Requests += int64(r.Requests)
					o.Fetched += int64(r.Fetched)
				})
				if err := j.wait(within, &j.reading, n, bytes, r.Took); err != nil {
					return err
				}
			}
			return nil
		})
	}
	if err := group.Wait(); err != nil {
		return 0, 0, 0, err
	}
	differing, unsettled, err = j.confirm(ctx, suspects, rows)
	return rows, differing, unsettled, err
}

// confirm compares differing documents again, out of the number compared, and records and repairs those that
// still differ. It returns how many differ then, and of how many that is unknown.
func (j *job) confirm(
	ctx context.Context,
	suspects []compare.Different,
	compared int64,
) (left, unsettled int64, err error) {
	missing := drift.Found{Compared: compared, Kinds: map[drift.Kind]int64{}}
	for _, d := range suspects {
		missing.Kinds[d.Kind]++
	}
	emptied := missing.CauseOfMissing() == drift.Emptied
	for some := range slices.Chunk(suspects, lookedUp) {
		wrong, err := j.c.of.Confirm(ctx, some, compare.Confirming{CaughtUp: j.c.settle, Failing: j.c.edition.Failing})
		if errors.Is(err, errUnsettled) {
			j.tell(func(o *drift.Outcome) { o.Unsettled += int64(len(some)) })
			unsettled += int64(len(some))
			continue
		}
		if err != nil {
			return left, unsettled, err
		}
		n, err := j.found(ctx, wrong, emptied)
		left += n
		if err != nil {
			return left, unsettled, err
		}
	}
	return left, unsettled, nil
}

// found records documents that are not what their rows make, and repairs those that may be.
func (j *job) found(ctx context.Context, wrong []compare.Different, emptied bool) (left int64, err error) {
	if len(wrong) == 0 {
		return 0, nil
	}
	policy := j.c.policy()
	entering := slices.ContainsFunc(j.c.edition.Record.Shape.Trees, func(t *shape.Tree) bool {
		return policy.Names(t.Root().Where)
	})
	list := make([]records.Difference, len(wrong))
	for i, d := range wrong {
		cause := drift.CauseOf(drift.Evidence{
			Kind: d.Kind, Ours: d.Ours, Unstable: len(policy.Functions) > 0, Refreshed: policy.Refresh > 0, Entering: entering,
		})
		if emptied && d.Kind == drift.Missing {
			cause = drift.Emptied
		}
		list[i] = records.Difference{Key: d.Key, Kind: d.Kind, Cause: cause}
	}
	j.tell(func(o *drift.Outcome) {
		for _, d := range list {
			o.Add(d.Kind, d.Cause)
		}
	})
	if err := j.c.note(ctx, list, nil); err != nil {
		return int64(len(list)), err
	}
	still, err := j.repair(ctx, wrong)
	return int64(len(still)), err
}

// repair repairs the documents that may be repaired without a decision, and returns those that differ afterwards.
func (j *job) repair(ctx context.Context, wrong []compare.Different) (still []compare.Different, err error) {
	if j.repairs == drift.ReportOnly {
		return wrong, nil
	}
	var repaired []compare.Different
	documents := int64(0)
	if n, _ := j.c.edition.Stats.Documents.Get(); n != nil {
		documents = *n
	}
	done := j.outcome().Repaired
	for _, d := range wrong {
		switch {
		case j.repairs == drift.RepairFew && done+int64(len(repaired)) >= j.few,
			d.Kind == drift.Orphaned && !j.asked.Deletes && j.gone >= drift.MostDeleted(documents):
			still = append(still, d)
			continue
		case d.Kind == drift.Orphaned:
			j.gone++
		}
		repaired = append(repaired, d)
	}
	if n := int64(len(still)); n > 0 {
		j.tell(func(o *drift.Outcome) { o.Held += n })
	}
	for some := range slices.Chunk(repaired, lookedUp) {
		keys := make([]string, len(some))
		for i, d := range some {
			keys[i] = d.Key
		}
		if err := deliver.Repair(ctx, j.c.edition, keys); err != nil {
			return append(still, some...), err
		}
		now, err := j.c.of.Keys(ctx, keys)
		if err == nil {
			now, err = j.c.of.Confirm(ctx, now, compare.Confirming{CaughtUp: j.c.settle, Failing: j.c.edition.Failing})
		}
		if err != nil {
			return append(still, some...), err
		}
		var list []records.Difference
		for _, d := range now {
			list = append(list, records.Difference{Key: d.Key, Kind: d.Kind, Cause: drift.Unrepaired})
			keys = slices.DeleteFunc(keys, func(key string) bool { return key == d.Key })
		}
		still = append(still, now...)
		if err := j.c.note(ctx, list, keys); err != nil {
			return still, err
		}
		n := int64(len(some) - len(now))
		j.tell(func(o *drift.Outcome) { o.Repaired += n })
	}
	return still, nil
}
