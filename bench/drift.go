package main

import (
	"context"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"

	"pingo/internal/api"
)

// drift fills an index, compares all of it with its rows, and both again: a check against a fill of the same rows.
// Then it asks why records are, or are not, in search.
func (b *bench) drift(ctx context.Context, conn *pgx.Conn) error {
	s, err := b.alone(ctx, conn)
	if err != nil {
		return err
	}
	defer s.stop()
	var fills, checks []float64
	var last *api.DriftOrder
	rounds := 2
	if b.rows > 1_000_000 { // each takes long enough for itself
		rounds = 1
	}
	for range rounds {
		runs, err := s.client.Runs(ctx, "huts")
		if err != nil {
			return err
		}
		r := runs[0]
		fills = append(fills, float64(r.Rows)/r.FilledAt.Sub(*r.BeganAt).Seconds())
		for range 2 {
			o, err := s.client.AskDrift(ctx, "huts", api.DriftAction{Action: api.DriftCheck})
			for err == nil && o.EndedAt == nil {
				time.Sleep(50 * time.Millisecond)
				o, err = s.client.DriftOrder(ctx, "huts", o.ID)
			}
			if err != nil {
				return err
			}
			if o.Differing > 0 || o.Compared < int64(b.rows)/2 {
				return fmt.Errorf("the check came to something else: %+v", o)
			}
			checks = append(checks, float64(o.Compared)/o.EndedAt.Sub(*o.BeganAt).Seconds())
			last = o
		}
		done, err := s.client.Reindex(ctx, "huts", api.ReindexAction{Action: api.ReindexStart})
		if err != nil {
			return err
		}
		for {
			status, err := s.client.Status(ctx)
			if err != nil {
				return err
			}
			if done.Shown(status) {
				break
			}
			time.Sleep(50 * time.Millisecond)
		}
	}
	memory, err := peakMemory(s.cmd.Process.Pid)
	if err != nil {
		return err
	}
	fill, check := median(fills), median(checks)
	b.report("drift/fill", fill, "rows/s", "from its beginning until all rows are sent")
	b.report(
		"drift/check",
		check,
		"rows/s",
		"all documents looked up in the source, all rows compared, a tenth of them as a whole",
	)
	b.report("drift/ratio", check/fill, "", "a check against a fill")
	b.report(
		"drift/load",
		float64(last.Requests)/float64(last.Compared)*1000,
		"requests",
		"to the engine for 1,000 documents, in addition to the listing; %d documents read as a whole",
		last.Fetched,
	)
	b.report("drift/memory", memory, "MB", "most that the service had, fills and checks")
	return b.trace(ctx, conn, s)
}
