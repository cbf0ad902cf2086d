package main

import (
	"context"
	"fmt"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"time"

	"github.com/jackc/pgx/v5"

	"pingo/internal/api"
)

const (
	// paceRounds is how often each side is measured, in turns.
	paceRounds = 5
	// paceSeconds is how long each of them lasts.
	paceSeconds = 6
)

var tpsLine = regexp.MustCompile(`(?m)^tps = ([0-9.]+)`)

// pace fills an edition at a tenth of what Pingo can, and sees how well that holds, and what it costs
// pgbench on the same server. Both sides are measured in turns, by halting the fill. The engine shares the processors or
// costs nothing, and pgbench asks for all of them or leaves one idle.
func (b *bench) pace(ctx context.Context, conn *pgx.Conn) error {
	programs, err := filepath.Glob("/usr/lib/postgresql/*/bin/pgbench")
	if err != nil || len(programs) == 0 {
		return fmt.Errorf("there is no pgbench: %w", err)
	}
	if err := b.source.CreateDatabase(ctx, "other"); err != nil {
		return err
	}
	pgbench := func(args ...string) ([]byte, error) {
		out, err := exec.CommandContext(ctx, programs[len(programs)-1], append(args, b.source.URL("other"))...).
			CombinedOutput()
		if err != nil {
			err = fmt.Errorf("pgbench: %w: %.300s", err, out)
		}
		return out, err
	}
	if _, err := pgbench("-i", "-q", "-s", "10"); err != nil {
		return err
	}
	for _, c := range []struct {
		engine  string
		clients int
	}{{"the stand-in", 2}, {"a free engine", 2}, {"a free engine", 1}} {
		var s *service
		if c.engine == "the stand-in" {
			s, err = b.alone(ctx, conn)
		} else {
			_, s, err = b.onFree(ctx, conn)
		}
		if err != nil {
			return err
		}
		err = b.paceOn(ctx, s, fmt.Sprintf("on %s, %d clients", c.engine, c.clients), func() ([]byte, error) {
			return pgbench("-n", "-N", "-c", strconv.Itoa(c.clients), "-T", strconv.Itoa(paceSeconds))
		})
		s.stop()
		if err != nil {
			return err
		}
	}
	return nil
}

// paceOn measures it with a service whose index is filled.
func (b *bench) paceOn(ctx context.Context, s *service, where string, pgbench func() ([]byte, error)) error {
	runs, err := s.client.Runs(ctx, "huts")
	if err != nil {
		return err
	}
	free := float64(runs[0].Rows) / runs[0].FilledAt.Sub(*runs[0].BeganAt).Seconds()
	pace := int64(free / 10)
	if _, err := s.client.Reindex(ctx, "huts", api.ReindexAction{Action: api.ReindexStart, Pace: &api.Pace{Documents: pace}}); err != nil {
		return err
	}
	filled := func() (int64, error) {
		status, err := s.client.Status(ctx)
		if err != nil {
			return 0, err
		}
		f := status.Index("huts").Fill
		if f == nil || f.State != api.FillFilling && f.State != api.FillPreparing {
			return 0, fmt.Errorf("the edition was filled before all was measured: take more rows")
		}
		return f.Rows, nil
	}
	var alone, during []float64
	var rows int64
	var took time.Duration
	for range paceRounds {
		for _, step := range []struct {
			action string
			into   *[]float64
		}{{api.ReindexPause, &alone}, {api.ReindexResume, &during}} {
			if _, err := s.client.Reindex(ctx, "huts", api.ReindexAction{Action: step.action}); err != nil {
				return err
			}
			time.Sleep(time.Second) // it is taken up
			began := time.Now()
			before, err := filled()
			if err != nil {
				return err
			}
			out, err := pgbench()
			if err != nil {
				return err
			}
			m := tpsLine.FindSubmatch(out)
			if m == nil {
				return fmt.Errorf("pgbench says no tps: %.300s", out)
			}
			n, err := strconv.ParseFloat(string(m[1]), 64)
			if err != nil {
				return err
			}
			*step.into = append(*step.into, n)
			after, err := filled()
			if err != nil {
				return err
			}
			if step.action == api.ReindexResume {
				rows, took = rows+after-before, took+time.Since(began)
			}
		}
	}
	slices.Sort(alone)
	slices.Sort(during)
	b.report("fill at a tenth "+where+", rows a second", float64(rows)/took.Seconds(), "rows/s", "asked for: %d", pace)
	b.report(
		"fill at a tenth "+where+", to what was asked for",
		float64(rows)/took.Seconds()/float64(pace),
		"of it",
		"wanted: 0.95 to 1.05",
	)
	b.report("pgbench during a fill to alone "+where, during[paceRounds/2]/alone[paceRounds/2], "of it",
		"medians of %d rounds of %d s in turns, %.0f and %.0f transactions a second; wanted: at least 0.95",
		paceRounds, paceSeconds, during[paceRounds/2], alone[paceRounds/2])
	return nil
}
