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
	"pingo/internal/flow/connect"
	"pingo/internal/flow/deliver"
	"pingo/internal/flow/rebuild"
	"pingo/internal/flow/stream"
	"pingo/internal/source"
)

// Count counts both sides of an edition now and then, spending little of their time on
// it, until the context ends.
func Count(
	ctx context.Context,
	e *deliver.Edition,
	reader source.Reader,
	eng *connect.Engine,
	log *slog.Logger,
) {
	for {
		began := time.Now()
		if n, err := rebuild.CountRows(ctx, reader, e.Record.Shape); err == nil {
			e.Stats.Rows.Set(n)
		}
		if n, err := eng.Count(ctx, e.Record.Name()); err == nil {
			e.Stats.Documents.Set(n)
		}
		if err := e.ForgetDismissed(ctx); err != nil && ctx.Err() == nil {
			log.Warn("dismissed documents not read", "edition", e.Record.Name(), "error", err)
		}
		if !retry.Sleep(ctx, max(time.Second, 50*time.Since(began))) {
			return
		}
	}
}

// Capture watches the capture of a source.
type Capture struct {
	Source  string
	Capture source.Capture
	Stream  *stream.Stream
	// Editions are those that are fed from the source.
	Editions func() []*deliver.Edition
	// Mend installs capture where it is missing, when no change can have been missed.
	Mend func(ctx context.Context) error
	// Limit is the journal's, and whether capture is to be removed past it.
	Limit func() (bytes int64, remove bool)
	Log   *slog.Logger
}

// HowToMend ends the sentence about changes that went unnoticed.
const HowToMend = ": run pingo apply, which installs them and fills the index anew"

// watchEvery is how often the capture of a source is looked at.
const watchEvery = 3 * time.Second

// Watch looks whether the capture still stands, until the context ends. What is safe is
// mended; of the rest the editions that read the table say that they are no longer in
// sync, until they are filled anew.
func (c *Capture) Watch(ctx context.Context) {
	var trouble stats.TroubleSpot // so that what lasts is said once
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

// Await waits until capture is installed; before that no journal can be read.
func (c *Capture) Await(ctx context.Context) {
	for {
		status, err := c.Capture.Status(ctx)
		if err == nil && status.Installed {
			c.Stream.Trouble.Clear()
			return
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
	gaps, err := c.Capture.Gaps(ctx, shape.Capture(shapes))
	if err != nil {
		return err
	}
	for _, gap := range gaps {
		if !gap.Safe {
			report(editions, gap)
			continue
		}
		if err := c.Mend(ctx); err != nil {
			return err
		}
		c.Log.Info("capture mended", "source", c.Source, "reason", gap.Reason)
	}
	return nil
}

func report(editions []*deliver.Edition, gap source.Gap) {
	for _, e := range editions {
		captured := shape.Capture([]*shape.Shape{e.Record.Shape})
		if slices.ContainsFunc(captured, func(c shape.Captured) bool { return c.Table == gap.Table }) {
			e.Gap.Report(gap.Reason+HowToMend, true)
		}
	}
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
