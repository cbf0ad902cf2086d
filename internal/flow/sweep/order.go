package sweep

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"sync"
	"time"

	"pingo/internal/core/document"
	"pingo/internal/core/drift"
	"pingo/internal/core/reindex"
	"pingo/internal/core/retry"
	"pingo/internal/flow/compare"
	"pingo/internal/flow/deliver"
	"pingo/internal/flow/rebuild"
	"pingo/internal/records"
)

// recordEvery is how often it is recorded how far something is that was asked for.
const recordEvery = time.Second

// errStopped says that a person has stopped an order.
var errStopped = errors.New("it was stopped")

// carryOut does what was asked for. When the context ends before it has, it is done again, from where a
// whole check was.
func (c *Checker) carryOut(ctx context.Context, order *records.Order) {
	j := c.newJob(order.Asked)
	if j.asked.Repair {
		j.repairs = drift.RepairAll
	}
	j.out.Began, j.out.Rows = order.Outcome.Began, order.Outcome.Rows
	if j.out.Began {
		j.out = order.Outcome
	}
	doing, stop := context.WithCancelCause(ctx)
	var recording sync.WaitGroup
	recording.Go(func() {
		for first := true; first || retry.Sleep(doing, recordEvery); first = false {
			out := j.outcome()
			if stands, err := c.store.SaveOrder(doing, c.edition.Record, order.ID, &out, false); err == nil && !stands {
				stop(errStopped)
			}
		}
	})
	err := retry.Until(doing, func() error { return c.do(doing, j) }, func(err error, failures int) {
		c.quietly("what was asked for")(err, failures)
		if failures > 1 {
			j.tell(func(o *drift.Outcome) { o.Problem = err.Error() })
		}
	})
	stop(nil)
	recording.Wait()
	if ctx.Err() != nil || errors.Is(context.Cause(doing), errStopped) {
		return
	}
	if err == nil {
		err = retry.Until(ctx, func() error {
			out := j.outcome()
			_, err := c.store.SaveOrder(ctx, c.edition.Record, order.ID, &out, true)
			return err
		}, c.quietly("recording the end of a check"))
	}
	if err == nil {
		out := j.outcome()
		c.log.Info("asked for and done", "order", order.ID, "by", order.By, "compared", out.Compared,
			"differed", out.Differing(), "repaired", out.Repaired, "problem", out.Problem)
	}
}

// do does what a job is for. A permanent failure is recorded as its problem.
func (c *Checker) do(ctx context.Context, j *job) error {
	refuse := func(format string, args ...any) error {
		j.tell(func(o *drift.Outcome) { o.Problem = fmt.Sprintf(format, args...) })
		return nil
	}
	switch state := c.state(); {
	case c.edition.Missed.Load() != nil:
		return refuse("changes may be missing: %s", c.edition.Missed.Load().Reason)
	case !slices.Contains([]reindex.State{
		reindex.Checking, reindex.Ready, reindex.Switched, reindex.Previous, reindex.Returning,
	}, state):
		return refuse("%s is %s, so it is not yet what its rows make", c.edition.Record.Name(), state)
	}
	j.tell(func(o *drift.Outcome) { o.Problem = "" })
	if j.asked.Repair {
		return c.repairAsked(ctx, j)
	}
	n, err := rebuild.CountRows(ctx, c.reader, c.edition.Record.Shape)
	if err != nil {
		return err
	}
	c.edition.Stats.Rows.Set(n)
	j.tell(func(o *drift.Outcome) { o.Rows = n })
	switch {
	case j.asked.Whole():
		err = c.all(ctx, j)
	case j.asked.Most > 0:
		err = j.attempt(func() error { return c.sample(ctx, j, n) })
	default:
		err = j.attempt(func() error { return c.between(ctx, j, refuse) })
	}
	if err != nil {
		return err
	}
	return c.lookAgain(ctx)
}

// all is a whole round.
func (c *Checker) all(ctx context.Context, j *job) error {
	if !j.outcome().Began {
		c.mu.Lock()
		at := c.coverage
		c.mu.Unlock()
		at.Restart()
		if err := c.save(ctx, at); err != nil {
			return err
		}
		j.tell(func(o *drift.Outcome) { o.Began = true })
	}
	for {
		over := false
		err := j.attempt(func() (err error) {
			over, err = c.step(ctx, j, workers)
			return err
		})
		if err != nil {
			return err
		}
		if over {
			c.roundOver(ctx, j)
			return nil
		}
	}
}

// sample compares some documents, spread over the keys of all rows.
func (c *Checker) sample(ctx context.Context, j *job, rows int64) error {
	for _, t := range c.edition.Record.Shape.Trees {
		var spans []span
		err := compare.Spread(ctx, c.reader, t, rows, j.asked.Most, func(after, upto []string) error {
			spans = append(spans, span{after, upto})
			return nil
		})
		if err == nil {
			_, _, _, err = j.spans(ctx, t, spans, workers)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// between compares the rows after one key up to and with another.
func (c *Checker) between(ctx context.Context, j *job, refuse func(string, ...any) error) error {
	bounds := [2][]string{}
	tree := -1
	for i, key := range []string{j.asked.After, j.asked.Upto} {
		if key == "" {
			continue
		}
		at, values, err := document.ParseKey(c.edition.Record.Shape, key)
		if err != nil {
			return refuse("%v", err)
		}
		if tree >= 0 && at != tree {
			return refuse("the keys %s and %s are of two tables", j.asked.After, j.asked.Upto)
		}
		tree, bounds[i] = at, values
	}
	t := c.edition.Record.Shape.Trees[tree]
	var spans []span
	rows := int64(0)
	last := bounds[0]
	err := c.reader.Keys(ctx, t, bounds[0], bounds[1], func(key []string) error {
		if rows++; rows%lookedUp == 0 {
			spans = append(spans, span{last, slices.Clone(key)})
			last = slices.Clone(key)
		}
		return nil
	})
	if err != nil {
		return err
	}
	j.tell(func(o *drift.Outcome) { o.Rows = rows })
	_, _, _, err = j.spans(ctx, t, append(spans, span{last, bounds[1]}), workers)
	return err
}

// repairAsked builds documents again that a person has named, or that are known to differ.
func (c *Checker) repairAsked(ctx context.Context, j *job) error {
	keys := j.asked.Keys
	if len(keys) == 0 {
		c.mu.Lock()
		for _, d := range c.standing {
			if (j.asked.Kind == "" || j.asked.Kind == d.Kind) && (j.asked.Cause == "" || j.asked.Cause == d.Cause) {
				keys = append(keys, d.Key)
			}
		}
		c.mu.Unlock()
		slices.Sort(keys)
	}
	j.tell(func(o *drift.Outcome) { *o = drift.Outcome{Rows: int64(len(keys))} })
	j.gone = 0
	for some := range slices.Chunk(keys, lookedUp) {
		now, err := c.of.Keys(ctx, some)
		if err != nil {
			return err
		}
		same := map[string]bool{}
		for _, key := range some {
			same[key] = true
		}
		j.tell(func(o *drift.Outcome) { o.Compared += int64(len(some)) })
		for _, d := range now {
			delete(same, d.Key)
			j.tell(func(o *drift.Outcome) { o.Add(d.Kind, c.causeKnown(d.Key)) })
		}
		if _, err := j.repair(ctx, now); err != nil {
			return err
		}
		if len(j.asked.Keys) > 0 { // a person wants them sent, whatever they seem to be
			if err := j.resend(ctx, slices.Sorted(maps.Keys(same))); err != nil {
				return err
			}
		}
		if err := c.note(ctx, nil, slices.Sorted(maps.Keys(same))); err != nil {
			return err
		}
	}
	return nil
}

// resend sends documents again that match their rows.
func (j *job) resend(ctx context.Context, keys []string) error {
	if len(keys) == 0 {
		return nil
	}
	there, err := j.c.engine.Fingerprints(ctx, j.c.edition.Record.Name(), keys)
	if err != nil {
		return err
	}
	absent := int64(len(keys) - len(there))
	keys = slices.DeleteFunc(keys, func(key string) bool { _, is := there[key]; return !is })
	if err := deliver.Repair(ctx, j.c.edition, keys); err != nil {
		return err
	}
	j.tell(func(o *drift.Outcome) { o.Absent, o.Resent = o.Absent+absent, o.Resent+int64(len(keys)) })
	return nil
}

// causeKnown is the cause that was found for a document before.
func (c *Checker) causeKnown(key string) drift.Cause {
	c.mu.Lock()
	defer c.mu.Unlock()
	if d, known := c.standing[key]; known {
		return d.Cause
	}
	return drift.ByEngine
}
