package main

import (
	"context"
	"fmt"
	"strings"
	"sync/atomic"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"
	"golang.org/x/sync/errgroup"

	"pingo/internal/api"
)

// busyFor is how long each rate is measured, after as long as the percentiles need to be of it.
const busyFor, busyBefore = 20 * time.Second, 5 * time.Second

// cost is what some time cost: transactions of the source, processor time, requests to the engine and documents in them.
type cost struct {
	transactions        float64
	service, source     time.Duration
	requests, documents int
	written             int64
}

func (c cost) minus(o cost) cost {
	return cost{
		c.transactions - o.transactions, c.service - o.service, c.source - o.source,
		c.requests - o.requests, c.documents - o.documents, c.written - o.written,
	}
}

// busy measures what single changes at steady rates cost the source, the service and the engine, by number of indexes
// on the same tables, on an engine that costs nothing. What the writers cost alone, triggers included, is taken off.
func (b *bench) busy(ctx context.Context, conn *pgx.Conn) error {
	pool, err := pgxpool.New(ctx, b.url)
	if err != nil {
		return err
	}
	defer pool.Close()
	engine, s, err := b.onFree(ctx, conn)
	if err != nil {
		return err
	}
	defer s.stop()
	var written atomic.Int64
	runs := false // the service
	look := func() (out cost, err error) {
		list, err := transactions(ctx, conn)
		if err != nil {
			return out, err
		}
		out.transactions, out.written = list[0], written.Load()
		engine.mu.Lock()
		out.requests, out.documents = engine.requests, engine.taken
		engine.mu.Unlock()
		if runs {
			out.service, out.source, err = b.processorTime(s)
		} else {
			out.source, err = b.databaseTime()
		}
		return out, err
	}
	at := func(rate float64) (c cost, err error) {
		ctx, stop := context.WithCancel(ctx)
		defer stop()
		began, first := time.Now(), written.Load()
		group, working := errgroup.WithContext(ctx)
		group.Go(func() error {
			return b.write(working, pool, &written, func() bool {
				return float64(written.Load()-first) < rate*time.Since(began).Seconds()
			})
		})
		time.Sleep(busyBefore)
		before, err := look()
		if err != nil {
			return c, err
		}
		time.Sleep(busyFor)
		after, err := look()
		stop()
		if ended := group.Wait(); err == nil {
			err = ended
		}
		return after.minus(before), err
	}
	rates := []float64{20, 500}
	// No process reads the journal then, so it grows.
	alone := map[float64]cost{}
	end(s.cmd)
	for _, rate := range rates {
		if alone[rate], err = at(rate); err != nil {
			return err
		}
	}
	cmd, c, err := b.another(ctx, s)
	if err != nil {
		return err
	}
	s.cmd, s.client, runs = cmd, c, true
	for _, n := range []int{1, 2} {
		if n > 1 {
			if _, err := s.client.Apply(ctx, []api.File{{Name: "pingo.yaml", Text: severalHuts(n)}}, "huts"); err != nil {
				return err
			}
		}
		if err := within(10*time.Minute, func() error {
			status, err := s.client.Status(ctx)
			if err != nil || len(status.Indexes) < n || status.Sources[0].InFlight > 0 {
				return fmt.Errorf("not all is done: %v", err)
			}
			for _, ix := range status.Indexes {
				if !ix.Live || ix.State != api.StateInSync {
					return fmt.Errorf("%s is %s", ix.Name, ix.State)
				}
			}
			return nil
		}); err != nil {
			return err
		}
		for _, rate := range rates {
			of, err := at(rate)
			if err != nil {
				return err
			}
			status, err := s.client.Status(ctx)
			if err != nil {
				return err
			}
			lag := status.Indexes[0].Lag
			name := fmt.Sprintf("%.0f changes a second, %d indexes: ", rate, n)
			changes, seconds := float64(of.written), busyFor.Seconds()
			b.report(name+"documents in a request", float64(of.documents)/float64(of.requests), "", "")
			b.report(name+"transactions in the source for each change",
				(of.transactions-alone[rate].transactions)/changes, "", "in addition to the writers' own")
			b.report(name+"the source", 100*(of.source-alone[rate].source).Seconds()/seconds, "% of a core",
				"in addition to the %.1f of the writers and triggers", 100*alone[rate].source.Seconds()/seconds)
			b.report(name+"the service", 100*of.service.Seconds()/seconds, "% of a core", "")
			if rate*busyBefore.Seconds() > 1024 { // else there are older ones among those that percentiles are of
				b.report(name+"lag, p50", lag.P50, "ms", "p99 %.0f ms", lag.P99)
			}
		}
	}
	return nil
}

// severalHuts is the definition of the benchmark with several copies of its index.
func severalHuts(n int) string {
	head, index, _ := strings.Cut(freeDefinition, "indexes:\n")
	out := head + "indexes:\n" + index
	for i := 1; i < n; i++ {
		out += strings.Replace(index, "  huts:\n", fmt.Sprintf("  huts%d:\n", i), 1)
	}
	return out
}
