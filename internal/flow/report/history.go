package report

import (
	"context"
	"log/slog"
	"time"

	"pingo/internal/api"
	"pingo/internal/core/retry"
	"pingo/internal/flow/stream"
)

// sampleEvery is how often the state of an index is kept.
const sampleEvery = 10 * time.Second

// History keeps how the indexes of a source are, until the context ends. save keeps one
// point.
func History(
	ctx context.Context,
	st *stream.Stream,
	editions func() []*Fed,
	save func(ctx context.Context, index string, p api.HistoryPoint) error,
	log *slog.Logger,
) {
	type totals struct {
		at                                     time.Time
		lags                                   int
		delivered, unchanged, refused, noticed int64
	}
	last := map[*Fed]totals{}
	for retry.Sleep(ctx, sampleEvery) {
		now := time.Now()
		for _, p := range pairs(editions()) {
			f := p.shown()
			e := &f.Edition.Stats
			then, known := last[f]
			t := totals{
				at:        now,
				delivered: e.Delivered.Total(),
				unchanged: e.Unchanged.Total(),
				refused:   e.Refused.Total(),
				noticed:   st.Noticed.Total(),
			}
			point := api.HistoryPoint{At: now, Waiting: f.Edition.Waiting(), OldestMS: age(f.Oldest(), now)}
			lag, lags := e.Lag.Since(then.lags)
			point.Lag, t.lags = percentiles(lag), lags
			last[f] = t
			if !known {
				continue
			}
			if j := st.Journal.Get(); j != nil {
				point.Journal = j.Changes
			}
			seconds := now.Sub(then.at).Seconds()
			point.Delivered = float64(t.delivered-then.delivered) / seconds
			point.Unchanged = float64(t.unchanged-then.unchanged) / seconds
			point.Refused = float64(t.refused-then.refused) / seconds
			point.Noticed = float64(t.noticed-then.noticed) / seconds
			if err := save(ctx, f.Edition.Record.Index, point); err != nil && ctx.Err() == nil {
				log.Warn("history not kept", "index", f.Edition.Record.Index, "error", err)
			}
		}
	}
}
