package main

import (
	"bytes"
	"context"
	"fmt"
	"net/http"
	"strconv"
	"sync/atomic"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"
	"golang.org/x/sync/errgroup"

	"pingo/internal/api"
	port "pingo/internal/engine"
	"pingo/internal/engine/opensearch"
	"pingo/internal/source"
	"pingo/internal/source/postgres"
)

const (
	writers  = 4                // connections that change rows
	ahead    = 4000             // changes that writers may be ahead of what is done
	measured = 15 * time.Second // how long each rate is measured
)

// changes measures the stream: single-row changes end to end, as many a second as writers
// and everything that follows them make together on this machine, for Pingo, for the raw
// limit and for an application that writes twice; then Pingo's lag at shares of its rate,
// and while a wide change is worked off.
func (b *bench) changes(ctx context.Context, conn *pgx.Conn) error {
	engine, stop, err := b.engine(ctx)
	if err != nil {
		return err
	}
	defer stop()
	pool, err := pgxpool.New(ctx, b.url)
	if err != nil {
		return err
	}
	defer pool.Close()
	src, err := postgres.Open(source.Config{URL: b.url})
	if err != nil {
		return err
	}
	defer src.Close()
	if err := src.Capture.Remove(ctx); err != nil { // of a service that was measured before
		return err
	}
	s, _, err := b.service(ctx, engine)
	if err != nil {
		return err
	}
	stopped := false
	defer func() {
		if !stopped {
			s.stop()
		}
	}()
	// What was acknowledged, as the service says.
	done := func() (int64, error) {
		status, err := s.client.Status(ctx)
		if err != nil || len(status.Sources) == 0 {
			return 0, err
		}
		return status.Sources[0].Noticed - int64(status.Sources[0].InFlight), nil
	}
	sustained, err := b.sustained(ctx, pool, done)
	if err != nil {
		return err
	}
	b.report(
		"changes, Pingo",
		sustained,
		"/s",
		"single-row changes by %d writers, end to end, with one index of six tables",
		writers,
	)
	for _, share := range []float64{0.1, 0.5, 0.9} {
		lag, err := b.lagAt(ctx, pool, s, sustained*share)
		if err != nil {
			return err
		}
		b.report(
			fmt.Sprintf("lag at %.0f%% of that rate, p50", 100*share),
			lag.P50,
			"ms",
			"from the write until the engine acknowledged; median over the seconds",
		)
		b.report(fmt.Sprintf("lag at %.0f%% of that rate, p99", 100*share), lag.P99, "ms", "")
	}
	if err := b.wide(ctx, pool, s, ""); err != nil {
		return err
	}
	memory, err := peakMemory(s.cmd.Process.Pid)
	if err != nil {
		return err
	}
	b.report(
		"changes, Pingo's peak memory",
		memory,
		"MB",
		"through the fill and all of this; wanted: under 200",
	)
	s.stop()
	stopped = true

	rawRate, err := b.rawChanges(ctx, pool, engine)
	if err != nil {
		return fmt.Errorf("raw: %w", err)
	}
	b.report(
		"changes, raw limit",
		rawRate,
		"/s",
		"the same writers and triggers; poll, one read of the row, one post of bytes made beforehand",
	)
	twice, err := b.dualWrite(ctx, pool, engine)
	if err != nil {
		return fmt.Errorf("dual write: %w", err)
	}
	b.report(
		"changes, an application that writes twice",
		twice,
		"/s",
		"the same writers: update, read what the document needs, post it",
	)
	b.report("changes, Pingo to the raw limit", sustained/rawRate, "of it", "")
	b.report("changes, Pingo to writing twice", sustained/twice, "times", "")
	return nil
}

// write changes single rows until the context ends, each time when allowed says so.
func (b *bench) write(
	ctx context.Context,
	pool *pgxpool.Pool,
	written *atomic.Int64,
	allowed func() bool,
) error {
	group, ctx := errgroup.WithContext(ctx)
	for w := range writers {
		group.Go(func() error {
			for n := w; ctx.Err() == nil; n += writers {
				for !allowed() && ctx.Err() == nil {
					time.Sleep(time.Millisecond)
				}
				id := 1 + (n*7919)%b.rows // spread over the table, and no row twice for long
				if _, err := pool.Exec(ctx, "UPDATE huts SET beds = beds + 1 WHERE id = $1", id); err != nil &&
					ctx.Err() == nil {
					return err
				}
				written.Add(1)
			}
			return nil
		})
	}
	return group.Wait()
}

// sustained is how many changes a second are done while writers write as fast as they
// may without running away.
func (b *bench) sustained(
	ctx context.Context,
	pool *pgxpool.Pool,
	done func() (int64, error),
) (float64, error) {
	ctx, cancel := context.WithTimeout(ctx, measured+3*time.Second)
	defer cancel()
	before, err := done()
	if err != nil {
		return 0, err
	}
	var written, finished atomic.Int64
	var rate float64
	group, working := errgroup.WithContext(ctx)
	group.Go(func() error {
		return b.write(working, pool, &written, func() bool { return written.Load()-finished.Load() < ahead })
	})
	group.Go(func() error {
		var first int64
		var began time.Time
		for start := time.Now(); working.Err() == nil; time.Sleep(20 * time.Millisecond) {
			now, err := done()
			if err != nil {
				if working.Err() != nil {
					break
				}
				return err
			}
			finished.Store(now - before)
			switch {
			case began.IsZero() && time.Since(start) > 3*time.Second: // it is under way
				first, began = now, time.Now()
			case !began.IsZero():
				rate = float64(now-first) / time.Since(began).Seconds()
			}
		}
		return nil
	})
	return rate, group.Wait()
}

// lagAt writes at a steady rate, and takes the middle of the percentiles that the service
// told each second.
func (b *bench) lagAt(
	ctx context.Context,
	pool *pgxpool.Pool,
	s *service,
	rate float64,
) (api.Percentiles, error) {
	if err := b.quiet(ctx, s); err != nil {
		return api.Percentiles{}, err
	}
	ctx, cancel := context.WithTimeout(ctx, measured)
	defer cancel()
	var written atomic.Int64
	began := time.Now()
	group, working := errgroup.WithContext(ctx)
	group.Go(func() error {
		return b.write(
			working,
			pool,
			&written,
			func() bool { return float64(written.Load()) < rate*time.Since(began).Seconds() },
		)
	})
	var p50, p99 []float64
	group.Go(func() error {
		time.Sleep(4 * time.Second) // until the last thousand changes are of this rate
		for working.Err() == nil {
			status, err := s.client.Status(working)
			if err != nil {
				if working.Err() != nil {
					break
				}
				return err
			}
			lag := status.Indexes[0].Lag
			p50, p99 = append(p50, lag.P50), append(p99, lag.P99)
			time.Sleep(time.Second)
		}
		return nil
	})
	if err := group.Wait(); err != nil {
		return api.Percentiles{}, err
	}
	if reached := float64(written.Load()) / measured.Seconds(); reached < rate*0.95 {
		say("  writers reached %.0f of %.0f a second", reached, rate)
	}
	return api.Percentiles{P50: median(p50), P99: median(p99)}, nil
}

// quiet waits until everything is done.
func (b *bench) quiet(ctx context.Context, s *service) error {
	for {
		status, err := s.client.Status(ctx)
		if err != nil {
			return err
		}
		if status.Sources[0].InFlight == 0 && status.Indexes[0].Waiting == 0 {
			return nil
		}
		time.Sleep(50 * time.Millisecond)
	}
}

// wide changes all regions in one statement, which touches every document, while single changes
// go on, and compares the lag of the single changes before and meanwhile, in rounds. on says which engine it is.
func (b *bench) wide(ctx context.Context, pool *pgxpool.Pool, s *service, on string) error {
	const rate, rounds = 100.0, 3
	if err := b.quiet(ctx, s); err != nil {
		return err
	}
	writing, stop := context.WithCancel(ctx)
	defer stop()
	var written atomic.Int64
	began := time.Now()
	group, writing := errgroup.WithContext(writing)
	group.Go(func() error {
		return b.write(
			writing,
			pool,
			&written,
			func() bool { return float64(written.Load()) < rate*time.Since(began).Seconds() },
		)
	})
	var speeds, ratios []float64
	var before, meanwhile [2][]float64 // p50, p99
	for round := range rounds {
		say("a wide change, round %d of %d …", round+1, rounds)
		alone, err := singles(
			ctx,
			s,
			func(passed time.Duration) (bool, error) { return passed > measured, nil },
		)
		if err != nil {
			return err
		}
		if _, err := pool.Exec(ctx, "UPDATE regions SET name = name || '.'"); err != nil {
			return err
		}
		var took time.Duration
		followed := false
		during, err := singles(ctx, s, func(passed time.Duration) (bool, error) {
			took = passed
			status, err := s.client.Status(ctx)
			if err != nil {
				return false, err
			}
			waiting := status.Indexes[0].Waiting
			followed = followed || waiting > b.rows/20
			return followed && waiting <= 200, nil
		})
		if err != nil {
			return err
		}
		speeds = append(speeds, float64(b.rows)/took.Seconds())
		for i, q := range []float64{0.5, 0.99} {
			before[i], meanwhile[i] = append(
				before[i],
				quantile(alone, q),
			), append(
				meanwhile[i],
				quantile(during, q),
			)
		}
		ratios = append(ratios, meanwhile[1][round]/before[1][round])
	}
	stop()
	if err := group.Wait(); err != nil {
		return err
	}
	b.report(
		on+"a wide change, documents a second",
		median(speeds),
		"docs/s",
		"%d documents, with %.0f single changes a second at the same time; medians of %d rounds, here and below",
		b.rows,
		rate,
		rounds,
	)
	for i, name := range []string{"p50", "p99"} {
		b.report(on+"lag of single changes before it, "+name, median(before[i]), "ms", "")
		b.report(on+"lag of single changes meanwhile, "+name, median(meanwhile[i]), "ms", "")
	}
	b.report(
		on+"lag of single changes, p99 meanwhile to before",
		median(ratios),
		"times",
		"half of the rounds from %.1f to %.1f; wanted: at most 2",
		quantile(ratios, 0.25),
		quantile(ratios, 0.75),
	)
	return nil
}

// singles collects the lag of single changes, in milliseconds, until enough says so, which is asked
// once a second.
func singles(
	ctx context.Context,
	s *service,
	enough func(passed time.Duration) (bool, error),
) ([]float64, error) {
	began, seen := time.Now(), map[string]float64{}
	for {
		for range 10 {
			list, err := s.client.Recent(ctx, "lodge")
			if err != nil {
				return nil, err
			}
			for _, f := range list {
				if f.Table == "huts" && f.LagMS != nil && f.Sent > 0 && f.At.After(began) {
					seen[f.Key+f.At.String()] = *f.LagMS
				}
			}
			time.Sleep(100 * time.Millisecond)
		}
		if done, err := enough(time.Since(began)); done || err != nil {
			var lags []float64
			for _, lag := range seen {
				lags = append(lags, lag)
			}
			return lags, err
		}
	}
}

// rawChanges is the least that anybody must do: poll the journal, read each changed row
// once, post bytes made beforehand, delete what is done.
func (b *bench) rawChanges(ctx context.Context, pool *pgxpool.Pool, engine string) (float64, error) {
	if err := b.prepare(ctx, engine, "raw-changes"); err != nil {
		return 0, err
	}
	if _, err := pool.Exec(ctx, "TRUNCATE pingo_capture.journal"); err != nil {
		return 0, err
	}
	e, err := opensearch.Open(port.Config{URL: engine})
	if err != nil {
		return 0, err
	}
	documents, err := e.Get(ctx, "huts", []string{"1000"})
	if err != nil {
		return 0, err
	}
	document := documents["1000"]
	var done atomic.Int64
	follow, stop := context.WithCancel(ctx)
	defer stop()
	group, follow := errgroup.WithContext(follow)
	group.Go(func() error {
		version := 1
		for follow.Err() == nil {
			rows, err := pool.Query(
				follow,
				"SELECT seq, key FROM pingo_capture.journal ORDER BY seq LIMIT 2000",
			)
			if err != nil {
				return err
			}
			var seqs []int64
			var keys []string
			var seq int64
			var key string
			if _, err := pgx.ForEachRow(rows, []any{&seq, &key}, func() error { seqs, keys = append(seqs, seq), append(keys, key); return nil }); err != nil {
				return err
			}
			if len(seqs) == 0 {
				time.Sleep(5 * time.Millisecond)
				continue
			}
			if rows, err = pool.Query(follow, "SELECT id, name, summary, altitude_m, beds, night_price, winter_room, opens_on FROM huts WHERE id = ANY($1::bigint[])", keys); err != nil {
				return err
			}
			for rows.Next() {
				rows.RawValues()
			}
			if err := rows.Err(); err != nil {
				return err
			}
			var body bytes.Buffer
			for _, key := range keys {
				version++
				body.WriteString(
					`{"index":{"_id":"` + key + `","version":` + strconv.Itoa(
						version,
					) + `,"version_type":"external"}}` + "\n",
				)
				body.Write(document)
				body.WriteByte('\n')
			}
			if _, err := call(http.MethodPost, engine+"/raw-changes/_bulk?filter_path=items.*.status", body.Bytes()); err != nil {
				return err
			}
			if _, err := pool.Exec(follow, "DELETE FROM pingo_capture.journal WHERE seq = ANY($1)", seqs); err != nil {
				return err
			}
			done.Add(int64(len(seqs)))
		}
		return nil
	})
	rate, err := b.sustained(ctx, pool, func() (int64, error) { return done.Load(), nil })
	stop()
	if ended := group.Wait(); ended != nil && follow.Err() == nil {
		return 0, ended
	}
	return rate, err
}

// dualWrite is the application that writes to the database and then to the engine: each
// writer updates, reads what the document needs in one statement, and posts it.
func (b *bench) dualWrite(ctx context.Context, pool *pgxpool.Pool, engine string) (float64, error) {
	if _, err := pool.Exec(ctx, "DROP SCHEMA pingo_capture CASCADE"); err != nil {
		return 0, err
	}
	if _, err := call(http.MethodPut, engine+"/twice", []byte(scriptMapping)); err != nil {
		return 0, err
	}
	ctx, cancel := context.WithTimeout(ctx, measured)
	defer cancel()
	var done atomic.Int64
	began := time.Now()
	group, working := errgroup.WithContext(ctx)
	for w := range writers {
		group.Go(func() error {
			for n := w; working.Err() == nil; n += writers {
				id := 1 + (n*7919)%b.rows
				_, err := pool.Exec(working, "UPDATE huts SET beds = beds + 1 WHERE id = $1", id)
				if err == nil {
					var key int64
					var document []byte
					if err = pool.QueryRow(working, byOneStatement, id-1, id).Scan(&key, &document); err == nil {
						_, err = call(
							http.MethodPut,
							engine+"/twice/_doc/"+strconv.FormatInt(key, 10),
							document,
						)
					}
				}
				switch {
				case err == nil:
					done.Add(1)
				case working.Err() == nil && err != pgx.ErrNoRows: // a hut that where keeps out
					return err
				}
			}
			return nil
		})
	}
	err := group.Wait()
	return float64(done.Load()) / time.Since(began).Seconds(), err
}
