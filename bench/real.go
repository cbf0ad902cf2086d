package main

import (
	"context"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strconv"
	"sync/atomic"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"
	"golang.org/x/sync/errgroup"
	"golang.org/x/sys/unix"

	"pingo/internal/lab/osnode"
)

// atOnce is how many requests a fill has under way: as many as it reads chunks side by side.
const atOnce = 4

// real compares a fill of a real engine with posting the same bytes by hand, as many requests
// in parallel, and what both cost the engine; and measures the lag of single changes.
func (b *bench) real(ctx context.Context, _ *pgx.Conn) error {
	return b.againstHand(ctx, "real engine", "")
}

// engineCore is the core that the engine has for itself in the part apart.
const engineCore = 0

// apart is real with an engine that has a core for itself, as it has a machine for itself elsewhere. All else
// keeps away from that core when the bench is started so.
func (b *bench) apart(ctx context.Context, _ *pgx.Conn) error {
	var ours unix.CPUSet
	if err := unix.SchedGetaffinity(0, &ours); err != nil {
		return err
	}
	if ours.IsSet(engineCore) {
		return fmt.Errorf("core %d is the engine's: start the bench without it, with taskset -c 1 on two cores", engineCore)
	}
	return b.againstHand(ctx, "real engine apart", strconv.Itoa(engineCore))
}

// againstHand measures a fill and posting by hand, each with an engine on some cores, all when none are named.
func (b *bench) againstHand(ctx context.Context, name, cores string) error {
	node, err := b.node(ctx, cores)
	if err != nil {
		return err
	}
	defer node.Kill()
	s, took, err := b.service(ctx, node.URL())
	if err != nil {
		return err
	}
	pingoCost, err := node.ProcessorTime()
	if err != nil {
		return err
	}
	n, err := countDocuments(node.URL(), "huts")
	if err != nil {
		return err
	}
	b.report(
		name+", Pingo's fill",
		float64(n)/took.Seconds(),
		"docs/s",
		"%d documents in %.1f s",
		n,
		took.Seconds(),
	)
	pool, err := pgxpool.New(ctx, b.url)
	if err != nil {
		return err
	}
	defer pool.Close()
	for _, rate := range []float64{20, 200} {
		lag, err := b.lagAt(ctx, pool, s, rate)
		if err != nil {
			return err
		}
		b.report(
			fmt.Sprintf("%s, lag at %.0f changes a second, p50", name, rate),
			lag.P50,
			"ms",
			"p99 %.0f ms",
			lag.P99,
		)
	}
	s.stop()
	bodies, err := sameBytes(node.URL())
	if err != nil {
		return err
	}
	if err := node.Stop(); err != nil {
		return err
	}

	other, err := b.node(ctx, cores) // as fresh as the first was
	if err != nil {
		return err
	}
	defer other.Kill()
	if err := b.prepare(ctx, other.URL(), "raw"); err != nil {
		return err
	}
	idle, err := other.ProcessorTime()
	if err != nil {
		return err
	}
	began := time.Now()
	if err := post(ctx, other.URL(), bodies); err != nil {
		return err
	}
	if _, err := countDocuments(other.URL(), "raw"); err != nil { // searches find them
		return err
	}
	byHand := time.Since(began)
	handCost, err := other.ProcessorTime()
	if err != nil {
		return err
	}
	b.report(
		name+", posting the same bytes by hand",
		float64(n)/byHand.Seconds(),
		"docs/s",
		"in %.1f s, %d requests in parallel",
		byHand.Seconds(),
		atOnce,
	)
	b.report(
		name+", Pingo's fill to posting by hand",
		byHand.Seconds()/took.Seconds(),
		"of it",
		"wanted: at least 0.95",
	)
	b.report(
		name+", its processor time for Pingo's fill",
		(pingoCost - idle).Seconds(),
		"s",
		"by hand %.1f s; both without the start",
		(handCost - idle).Seconds(),
	)
	return nil
}

func (b *bench) node(ctx context.Context, cores string) (*osnode.Server, error) {
	dir, err := os.MkdirTemp(b.dir, "engine-")
	if err != nil {
		return nil, err
	}
	return osnode.Start(ctx, osnode.Options{Dir: filepath.Join(dir, "node"), HeapMB: 1024, Cores: cores})
}

// post posts bulk bodies, several in parallel.
func post(ctx context.Context, engine string, bodies [][]byte) error {
	group, ctx := errgroup.WithContext(ctx)
	var next atomic.Int64
	for range atOnce {
		group.Go(func() error {
			for ctx.Err() == nil {
				i := int(next.Add(1)) - 1
				if i >= len(bodies) {
					return nil
				}
				if _, err := call(http.MethodPost, engine+"/raw/_bulk?filter_path=items.*.status", bodies[i]); err != nil {
					return err
				}
			}
			return ctx.Err()
		})
	}
	return group.Wait()
}
