package verify

import (
	"context"
	"log/slog"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"pingo/internal/core/reindex"
	"pingo/internal/core/retry"
	"pingo/internal/core/shape"
	"pingo/internal/flow/connect"
	"pingo/internal/flow/deliver"
	"pingo/internal/flow/rebuild"
	"pingo/internal/lab/model"
	"pingo/internal/records"
)

// large is a table that takes some time to count.
type large struct {
	*model.Table
	takes  time.Duration
	counts atomic.Int64
}

func (l *large) Count(ctx context.Context, t *shape.Tree) (int64, error) {
	l.counts.Add(1)
	retry.Sleep(ctx, l.takes)
	return l.Table.Count(ctx, t)
}

// While nothing happens, the indexes of a table count it at most for a two-hundredth of the time together, and every
// half a minute where that is cheap.
func TestIdleCounts(t *testing.T) {
	for takes, least := range map[time.Duration]int64{time.Millisecond: 100, time.Second: 3, 20 * time.Second: 0} {
		synctest.Test(t, func(t *testing.T) {
			table := &large{Table: model.NewTable(0), takes: takes}
			var counts Counts
			ctx, stop := context.WithCancel(t.Context())
			for i := range 10 {
				record := &records.Edition{
					Index: "huts", Number: i + 1, State: reindex.Switched, Shape: model.Shape(), Engine: "main",
				}
				eng := &connect.Engine{Engine: model.NewEngine(), Name: "main", Limiter: connect.NewLimiter()}
				store, fence, log := model.NewRecords(record), &model.Fence{}, slog.New(slog.DiscardHandler)
				e := deliver.New(record, table, eng, store, fence, log)
				fill := rebuild.New(rebuild.Options{
					Record: record, Edition: e, Reader: table, Engine: eng, Store: store, Log: log,
				})
				go Count(ctx, e, fill, &counts, table, eng, log)
				time.Sleep(7 * time.Second)
			}
			time.Sleep(time.Hour) // what was counted at first is counted again soon
			before := table.counts.Load()
			time.Sleep(time.Hour)
			n := table.counts.Load() - before
			if spent := time.Duration(n) * takes; n < least || spent > max(time.Hour/200, takes) {
				t.Errorf("a table that takes %v to count was counted %d times in an hour, for %v", takes, n, spent)
			}
			stop()
			synctest.Wait()
		})
	}
}
