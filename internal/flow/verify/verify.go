// Package verify looks whether what is believed is so: the counts of both sides, and
// whether the capture of a source is whole.
package verify

import (
	"context"
	"log/slog"
	"slices"
	"time"

	"pingo/internal/core/retry"
	"pingo/internal/core/shape"
	"pingo/internal/core/stats"
	"pingo/internal/flow/deliver"
	"pingo/internal/flow/stream"
	"pingo/internal/source"
)

// apart looks whether the counts of both sides fit together.
type apart struct {
	delivered int64
	times     int
	since     time.Time
}

// apartTimes is how many counts must be apart with nothing delivered between them: an engine shows what it has
// taken a moment later.
const apartTimes = 4

// look takes in counts that were begun at a time. It returns since when they are apart; nil when they are not,
// or it is unknown, since documents are pending.
func (a *apart) look(e *deliver.Edition, at time.Time) *time.Time {
	rows, _ := e.Stats.Rows.Get()
	documents, _ := e.Stats.Documents.Get()
	delivered := e.Stats.Delivered.Total()
	quiet := delivered == a.delivered && e.Waiting() == 0
	a.delivered = delivered
	// A failed document may be there as it was before.
	if rows == nil || documents == nil || !quiet || *documents <= *rows && *documents >= *rows-int64(e.Failed()) {
		a.times = 0
		return nil
	}
	if a.times == 0 {
		a.since = at
	}
	if a.times++; a.times < apartTimes {
		return nil
	}
	since := a.since
	return &since
}

// Capture watches the capture of a source.
type Capture struct {
	Source  string
	Capture source.Capture
	Stream  *stream.Stream
	// Editions are those that are fed from the source.
	Editions func() []*deliver.Edition
	// Repair installs capture where it is missing.
	Repair func(ctx context.Context) error
	// Missed records that changes of a table may be missing in the editions that read it,
	// and whether they are to be refilled.
	Missed func(ctx context.Context, table shape.Ref, reason string, refill bool) error
	// Limit is the journal's, and whether capture is to be removed past it.
	Limit func() (bytes int64, remove bool)
	Log   *slog.Logger
}

// watchEvery is the interval between checks of the capture of a source.
const watchEvery = 3 * time.Second

// Watch checks that the capture is complete, until the context ends. It is repaired, and
// editions that may lack changes are refilled, unless a person removed it: then the
// editions say that they are no longer in sync.
func (c *Capture) Watch(ctx context.Context) {
	var trouble stats.TroubleSpot // so that a lasting failure is logged once
	for retry.Sleep(ctx, watchEvery) {
		err := c.closeGaps(ctx)
		if err == nil {
			err = c.measure(ctx)
		}
		switch {
		case err == nil:
			trouble.Clear()
		case ctx.Err() == nil && trouble.Report(err.Error(), false):
			c.Log.Warn("capture not watched", "source", c.Source, "reason", err)
		}
	}
}

// Await waits until capture is installed; before that no journal can be read. Until then the editions say what is
// missing: the database may be another one than when they were filled.
func (c *Capture) Await(ctx context.Context) {
	var looked time.Time
	for {
		status, err := c.Capture.Status(ctx)
		if err == nil && status.Installed {
			c.Stream.Trouble.Clear()
			return
		}
		if err == nil && time.Since(looked) >= watchEvery {
			looked = time.Now()
			err = c.closeGaps(ctx)
		}
		if err != nil && ctx.Err() == nil && c.Stream.Trouble.Report(err.Error(), false) {
			c.Log.Warn("source unavailable", "source", c.Source, "reason", err)
		}
		if !retry.Sleep(ctx, 200*time.Millisecond) {
			return
		}
	}
}

func (c *Capture) closeGaps(ctx context.Context) error {
	editions := c.Editions()
	shapes := make([]*shape.Shape, len(editions))
	for i, e := range editions {
		shapes[i] = e.Record.Shape
	}
	gaps, err := c.Capture.Gaps(ctx, shape.Capture(c.Source, shapes))
	if err != nil {
		return err
	}
	if len(gaps) > 0 {
		missing, err := c.Capture.MissingRights(ctx, shape.Capture(c.Source, shapes))
		if err != nil {
			return err
		}
		for i := range gaps { // a gap that Pingo may not close waits for a person, and nothing is refilled before
			if len(missing) > 0 && !gaps[i].Deliberate {
				gaps[i].Deliberate = true
				gaps[i].Reason += source.AskOwner
			}
		}
	}
	for _, gap := range gaps {
		if !gap.Safe { // first what was missed, then what closes it, or it would be forgotten
			if err := c.Missed(ctx, gap.Table, gap.Reason, !gap.Deliberate); err != nil {
				return err
			}
		}
		if gap.Deliberate {
			continue
		}
		if err := c.Repair(ctx); err != nil {
			return err
		}
		c.Log.Info("capture repaired", "source", c.Source, "reason", gap.Reason)
	}
	return c.refillReturned(ctx, editions, gaps)
}

// refillReturned asks for a refill of each edition that waits for a person to restore capture, once all of its capture is
// there again: its table has got its name back, or its triggers fire again. An edition of several sources keeps waiting,
// since the capture of another source may be missing.
func (c *Capture) refillReturned(ctx context.Context, editions []*deliver.Edition, gaps []source.Gap) error {
	for _, e := range editions {
		s, missed := e.Record.Shape, e.Missed.Load()
		waits := missed != nil && !missed.Refill && len(s.Sources()) == 1
		if !waits || slices.ContainsFunc(gaps, func(g source.Gap) bool { return s.Captures(c.Source, g.Table) }) {
			continue
		}
		table := shape.Capture(c.Source, []*shape.Shape{s})[0].Table
		if err := c.Missed(ctx, table, missed.Reason, true); err != nil {
			return err
		}
	}
	return nil
}

// measure measures the journal, and does what the definition says when it is too large.
func (c *Capture) measure(ctx context.Context) error {
	limit, remove := c.Limit()
	tooLarge, err := c.Stream.Measure(ctx, limit, !remove)
	if err != nil || !tooLarge || !remove {
		return err
	}
	c.Log.Error("capture removed, as past_limit says: its indexes are no longer in sync", "source", c.Source)
	return c.Capture.Remove(ctx)
}
