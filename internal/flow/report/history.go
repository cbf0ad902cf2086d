package report

import (
	"context"
	"log/slog"
	"time"

	"pingo/internal/api"
	"pingo/internal/core/retry"
	"pingo/internal/flow/stream"
	"pingo/internal/records"
)

// stretch is what is known of an index since its last point.
type stretch struct {
	since                                  time.Time
	lags                                   int
	delivered, unchanged, refused, noticed int64
	waiting                                int // the most there were
	oldest                                 float64
}

// point is a sample of the index since the last one, and starts the next.
func (s *stretch) point(f *Fed, st *stream.Stream, now time.Time) api.HistoryPoint {
	e := &f.Edition.Stats
	p := api.HistoryPoint{At: now, Waiting: s.waiting, OldestMS: s.oldest}
	lag, lags := e.Lag.Since(s.lags)
	p.Lag = percentiles(lag)
	if j := st.Journal.Get(); j != nil {
		p.Journal = j.Changes
	}
	next := stretch{
		since: now, lags: lags,
		delivered: e.Delivered.Total(), unchanged: e.Unchanged.Total(), refused: e.Refused.Total(), noticed: st.Noticed.Total(),
	}
	seconds := now.Sub(s.since).Seconds()
	p.Delivered = float64(next.delivered-s.delivered) / seconds
	p.Unchanged = float64(next.unchanged-s.unchanged) / seconds
	p.Refused = float64(next.refused-s.refused) / seconds
	p.Noticed = float64(next.noticed-s.noticed) / seconds
	*s = next
	return p
}

// History records the state of a source's indexes until the context ends. save keeps the points of all of them for
// one step.
func History(
	ctx context.Context,
	st *stream.Stream,
	editions func() []*Fed,
	save func(ctx context.Context, step records.Step, at time.Time, points []records.Sample) error,
	log *slog.Logger,
) {
	spans := make([]map[*Fed]*stretch, len(records.Steps))
	for i := range spans {
		spans[i] = map[*Fed]*stretch{}
	}
	before := time.Now()
	for retry.Sleep(ctx, records.Steps[0].Every) {
		now := time.Now()
		shown := pairs(editions())
		for i, step := range records.Steps {
			var points []records.Sample
			last := spans[i]
			spans[i] = map[*Fed]*stretch{} // those that are fed no longer are left out
			for _, p := range shown {
				f := p.shown()
				s, known := last[f]
				if !known {
					s = &stretch{}
					s.point(f, st, now)
				}
				spans[i][f] = s
				s.waiting, s.oldest = max(s.waiting, f.Edition.Waiting()), max(s.oldest, age(f.Oldest(), now))
				// Coarser points end where their steps do, so that a process which began in between has one, too.
				if due := i == 0 || !now.Truncate(step.Every).Equal(before.Truncate(step.Every)); known && due {
					points = append(points, records.Sample{Index: f.Edition.Record.Index, Body: s.point(f, st, now)})
				}
			}
			if len(points) == 0 {
				continue
			}
			if err := save(ctx, step, now, points); err != nil && ctx.Err() == nil {
				log.Warn("history not kept", "step", step.Every, "error", err)
			}
		}
		before = now
	}
}
