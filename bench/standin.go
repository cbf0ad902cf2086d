package main

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"time"

	"github.com/jackc/pgx/v5"
	"golang.org/x/sync/errgroup"

	"pingo/internal/core/query"
	port "pingo/internal/engine"
	"pingo/internal/engine/opensearch"
)

// standin measures what the stand-in is like to a person who searches while 2,000 documents a
// second are written, and how much memory it takes.
func (b *bench) standin(ctx context.Context, _ *pgx.Conn) error {
	address, err := freeAddress()
	if err != nil {
		return err
	}
	cmd, err := b.process(ctx, nil, "standin", "opensearch", "--listen", address)
	if err != nil {
		return err
	}
	defer end(cmd)
	url := "http://" + address
	if err := until(func() error { _, err := call(http.MethodGet, url+"/", nil); return err }); err != nil {
		return err
	}
	if _, _, _, err := b.pingo(ctx, url); err != nil {
		return err
	}
	e, err := opensearch.Open(port.Config{URL: url})
	if err != nil {
		return err
	}
	s, err := b.shape(ctx)
	if err != nil {
		return err
	}
	began := time.Now()
	if _, err := e.Search(ctx, "huts", s, query.Query{Text: "ridge", Limit: 10}); err != nil {
		return err
	}
	b.report(
		"stand-in, first search after a fill",
		float64(time.Since(began).Milliseconds()),
		"ms",
		"of %d rows",
		b.rows,
	)
	bodies, err := sameBytes(url)
	if err != nil {
		return err
	}
	var took []float64
	working, stop := context.WithTimeout(ctx, measured)
	defer stop()
	group, working := errgroup.WithContext(working)
	written := 0
	began = time.Now()
	group.Go(func() error { // the same documents again, as writes that count
		for i := 0; ; i = (i + 1) % len(bodies) {
			for lines := bytes.SplitAfter(bodies[i], []byte("\n")); len(lines) > 200; lines = lines[200:] {
				if working.Err() != nil {
					return nil
				}
				due := began.Add(time.Duration(written) * time.Second / 2000)
				time.Sleep(time.Until(due))
				body := bytes.ReplaceAll(
					bytes.Join(lines[:200], nil),
					[]byte(`"version":1,"version_type":"external"`),
					[]byte(`"require_alias":false`),
				)
				if _, err := call(http.MethodPost, url+"/huts/_bulk?filter_path=items.*.status", body); err != nil {
					return err
				}
				written += 100
			}
		}
	})
	group.Go(func() error {
		filter := query.Filter{Path: "altitude_m", From: &query.Bound{Value: "2000"}}
		for i := 0; working.Err() == nil; i++ {
			q := []query.Query{
				{Text: "ridge hut", Limit: 10},
				{Text: "gran", Limit: 10, Filters: []query.Filter{filter}},
				{Limit: 10, Order: []query.Order{{Path: "altitude_m", Descending: true}}},
				{Text: "winter", Limit: 10, Facets: []string{"region.country"}},
			}[i%4]
			asked := time.Now()
			hits, err := e.Search(ctx, "huts", s, q)
			if err != nil {
				return err
			}
			if hits.Total == 0 {
				words, _ := json.Marshal(q)
				return fmt.Errorf("nothing is found by %s", words)
			}
			took = append(took, float64(time.Since(asked).Microseconds())/1000)
			time.Sleep(50 * time.Millisecond)
		}
		return nil
	})
	if err := group.Wait(); err != nil {
		return err
	}
	b.report(
		"stand-in, searches during writes, p50",
		quantile(took, 0.5),
		"ms",
		"p99 %.0f ms, during %.0f documents a second",
		quantile(took, 0.99),
		float64(written)/measured.Seconds(),
	)
	memory, err := peakMemory(cmd.Process.Pid)
	if err != nil {
		return err
	}
	b.report("stand-in, peak memory", memory, "MB", "the whole process")
	return nil
}
