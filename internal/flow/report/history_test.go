package report

import (
	"context"
	"fmt"
	"log/slog"
	"testing"
	"testing/synctest"
	"time"

	"pingo/internal/api"
	"pingo/internal/core/reindex"
	"pingo/internal/flow/connect"
	"pingo/internal/flow/deliver"
	"pingo/internal/flow/rebuild"
	"pingo/internal/flow/stream"
	"pingo/internal/lab/model"
	"pingo/internal/records"
	"pingo/internal/source"
)

// Each step has a point for each of its lengths, also where the process began in between, and what all of them tell of
// documents comes to what there were.
func TestHistoryHasAPointForEachStep(t *testing.T) {
	synctest.Test(t, func(t *testing.T) { // time begins at midnight
		time.Sleep(14 * time.Minute)
		log := slog.New(slog.DiscardHandler)
		record := &records.Edition{Index: "huts", Number: 1, State: reindex.Switched, Shape: model.Shape()}
		f := &Fed{Edition: deliver.New(record, nil, &connect.Engine{}, nil, nil, log)}
		f.Fill = rebuild.New(rebuild.Options{Record: record, Edition: f.Edition, Log: log})
		st := stream.New("lodge", &source.Source{Reader: model.NewTable(1)}, log)
		points, delivered, last := map[time.Duration]int{}, map[time.Duration]float64{}, map[time.Duration]time.Time{}
		save := func(_ context.Context, step records.Step, at time.Time, list []records.Sample) error {
			p := list[0].Body.(api.HistoryPoint)
			if before := last[step.Every]; !before.IsZero() {
				points[step.Every]++
				delivered[step.Every] += p.Delivered * at.Sub(before).Seconds()
			}
			last[step.Every] = at
			return nil
		}
		ctx, stop := context.WithTimeout(t.Context(), time.Hour+2*time.Minute+time.Second)
		defer stop()
		go func() {
			for range 3000 {
				time.Sleep(time.Second)
				f.Edition.Stats.Delivered.Add(2)
			}
		}()
		History(ctx, st, func() []*Fed { return []*Fed{f} }, save, log)
		// From 00:14 to 01:16: quarters end at 00:15, 00:30, 00:45, 01:00 and 01:15, of which the first has none before it.
		if got := fmt.Sprint(points[10*time.Second], points[time.Minute], points[15*time.Minute]); got != "370 61 4" {
			t.Errorf("points: %s", got)
		}
		for step, n := range delivered { // what came before the first point is not in it
			if n < 6000-2*60*2 || n > 6000 {
				t.Errorf("%v: %.0f documents of 6,000", step, n)
			}
		}
	})
}
