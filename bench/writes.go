package main

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"pingo/internal/core/shape"
	"pingo/internal/source"
	"pingo/internal/source/postgres"
)

// stays is a table that three indexes read, each by a link of its own.
const stays = `
CREATE TABLE stays (id bigint PRIMARY KEY, hut_id bigint, keeper_id int, region_id int, nights int NOT NULL, note text);
INSERT INTO stays SELECT n, 1 + n % $1, 1 + n % 150, 1 + n % 24, n % 9, 'quiet' FROM generate_series(1, $1) n;
CREATE INDEX ON stays (hut_id); CREATE INDEX ON stays (keeper_id); CREATE INDEX ON stays (region_id); VACUUM ANALYZE stays`

const threeLinks = `
sources: { lodge: { kind: postgres, url: "${LODGE_URL}" } }
engines: { main: { kind: opensearch, url: "${SEARCH_URL}" } }
indexes:
  by_hut: { engine: main, rows: lodge.huts, fields: { name: {} }, related: { stays: { many: stays, on: { hut_id: id }, fields: [nights] } } }
  by_keeper: { engine: main, rows: lodge.keepers, fields: { first_name: {} }, related: { stays: { many: stays, on: { keeper_id: id }, fields: [nights] } } }
  by_region: { engine: main, rows: lodge.regions, fields: { name: {} }, related: { stays: { many: stays, on: { region_id: id }, fields: [nights] } } }
`

// writes measures what capture costs the source: single-row updates by four
// clients as pgbench makes them by default, each its own transaction and durable,
// with and without triggers, in rounds that take turns.
func (b *bench) writes(ctx context.Context, conn *pgx.Conn) error {
	src, err := postgres.Open(source.Config{URL: b.url})
	if err != nil {
		return err
	}
	defer src.Close()
	if err := src.Capture.Remove(ctx); err != nil {
		return err
	}
	for _, sql := range strings.Split(stays, ";") {
		if _, err := conn.Exec(ctx, strings.ReplaceAll(sql, "$1", strconv.Itoa(b.rows))); err != nil {
			return err
		}
	}
	shapes, err := b.shapes(ctx, threeLinks)
	if err != nil {
		return err
	}
	compiled, err := b.shape(ctx)
	if err != nil {
		return err
	}
	need := shape.Capture(compiled.Source, append(shapes, compiled))

	if _, err := src.Capture.Install(ctx, "bench", need); err != nil {
		return err
	}
	if err := b.updates(ctx, conn, "", writeRounds); err != nil {
		return err
	}
	if err := b.bulk(ctx, conn, ""); err != nil {
		return err
	}
	// The other way to note changes, in the same run.
	pool, err := postgres.Connect(source.Config{URL: b.url})
	if err != nil {
		return err
	}
	defer pool.Close()
	const aside = " (triggers for each statement)"
	if _, err := postgres.Within(pool, "pingo_capture").Capture.Install(ctx, "bench", need); err != nil {
		return err
	}
	if err := b.updates(ctx, conn, aside, writeRounds/3); err != nil {
		return err
	}
	if err := b.bulk(ctx, conn, aside); err != nil {
		return err
	}
	return src.Capture.Remove(ctx)
}

// updates measures single-row updates; how says how changes are noted.
func (b *bench) updates(ctx context.Context, conn *pgx.Conn, how string, rounds int) error {
	for _, update := range []struct{ of, table, set, wanted string }{
		{"a captured column", "huts", "beds = beds + 1", "0.80"},
		{"a captured column of a related table", "guest_notes", "body = body || '.'", "0.80"},
		{"a captured column of a table with three links", "stays", "nights = nights + 1", "0.80"},
		{"a column that no definition uses", "huts", "visits_counted = visits_counted + 1", "0.90"},
	} {
		say("writes of %s …", update.of)
		var rates [2][]float64 // without triggers, with
		var shares []float64
		for round := range rounds {
			// The two of a round follow each other closely, and which comes first changes
			// every round, so that a machine that speeds up or slows down favours neither.
			for i := range 2 {
				with := (round + i) % 2
				if _, err := conn.Exec(ctx, fmt.Sprintf("ALTER TABLE %s %s TRIGGER USER", update.table, []string{"DISABLE", "ENABLE"}[with])); err != nil {
					return err
				}
				rate := 0.0
				for rate == 0 { // a machine that stood still tells nothing
					var err error
					if rate, err = b.pgbench(ctx, conn, fmt.Sprintf("UPDATE %s SET %s WHERE id = :id;", update.table, update.set)); err != nil {
						return err
					}
				}
				rates[with] = append(rates[with], rate)
			}
			shares = append(shares, rates[1][round]/rates[0][round])
		}
		b.report(
			"updates of "+update.of+", without triggers"+how,
			median(rates[0]),
			"tx/s",
			"median of %d rounds",
			rounds,
		)
		b.report("updates of "+update.of+", with triggers"+how, median(rates[1]), "tx/s", "")
		b.report(
			"updates of "+update.of+", share kept"+how,
			median(shares),
			"of it",
			"median of the rounds' shares, half of them from %.2f to %.2f; wanted: at least %s",
			quantile(shares, 0.25),
			quantile(shares, 0.75),
			update.wanted,
		)
	}
	return nil
}

// bulk measures statements that write many rows, each in a transaction that is rolled back, with and without
// triggers by turns; how says how changes are noted.
func (b *bench) bulk(ctx context.Context, conn *pgx.Conn, how string) error {
	for _, statement := range []struct {
		of, table string
		do        func(tx pgx.Tx) error
	}{
		{"UPDATE of 10,000 rows", "huts", func(tx pgx.Tx) error {
			_, err := tx.Exec(ctx, "UPDATE huts SET beds = beds + 1 WHERE id <= 10000")
			return err
		}},
		{"UPDATE of a column that no definition uses, 10,000 rows", "huts", func(tx pgx.Tx) error {
			_, err := tx.Exec(ctx, "UPDATE huts SET visits_counted = visits_counted + 1 WHERE id <= 10000")
			return err
		}},
		{"COPY of 100,000 rows", "stays", func(tx pgx.Tx) error {
			_, err := tx.CopyFrom(ctx, pgx.Identifier{"stays"}, []string{"id", "hut_id", "keeper_id", "region_id", "nights", "note"},
				pgx.CopyFromSlice(100_000, func(i int) ([]any, error) {
					return []any{int64(b.rows + 1 + i), int64(1 + i%b.rows), int32(1 + i%150), int32(1 + i%24), int32(i % 9), "quiet"}, nil
				}))
			return err
		}},
	} {
		say("%s …", statement.of)
		var shares []float64
		for round := range bulkRounds {
			var took [2]time.Duration // without triggers, with
			for i := range 2 {
				with := (round + i) % 2
				if _, err := conn.Exec(ctx, fmt.Sprintf("ALTER TABLE %s %s TRIGGER USER", statement.table, []string{"DISABLE", "ENABLE"}[with])); err != nil {
					return err
				}
				tx, err := conn.Begin(ctx)
				if err != nil {
					return err
				}
				began := time.Now()
				if err := statement.do(tx); err != nil {
					return err
				}
				took[with] = time.Since(began)
				if err := tx.Rollback(ctx); err != nil {
					return err
				}
				if _, err := conn.Exec(ctx, "VACUUM "+statement.table); err != nil {
					return err
				}
			}
			shares = append(shares, took[0].Seconds()/took[1].Seconds())
		}
		b.report(statement.of+", share kept"+how, median(shares), "of it", "median of the rounds' shares of the speed without triggers, half of them from %.2f to %.2f",
			quantile(shares, 0.25), quantile(shares, 0.75))
	}
	return nil
}

const (
	writeRounds = 24
	bulkRounds  = 9
)

func median(list []float64) float64 { return quantile(list, 0.5) }

func quantile(list []float64, q float64) float64 {
	s := slices.Sorted(slices.Values(list))
	return s[int(q*float64(len(s)-1)+0.5)]
}

var tps = regexp.MustCompile(`tps = ([0-9.]+) \(without`)

func (b *bench) pgbench(ctx context.Context, conn *pgx.Conn, script string) (float64, error) {
	if _, err := conn.Exec(ctx, "CHECKPOINT"); err != nil {
		return 0, err
	}
	file := filepath.Join(b.dir, "update.sql")
	if err := os.WriteFile(file, []byte(fmt.Sprintf("\\set id random(1, %d)\n%s\n", b.rows, script)), 0o644); err != nil {
		return 0, err
	}
	program := "pgbench"
	if found, _ := filepath.Glob("/usr/lib/postgresql/*/bin/pgbench"); len(found) > 0 {
		program = found[len(found)-1]
	}
	out, err := exec.CommandContext(ctx, program, "-n", "-c", "4", "-j", "2", "-T", "1", "-f", file, b.url).
		CombinedOutput()
	if bytes.Contains(out, []byte("transactions actually processed: 0\n")) {
		return 0, nil
	}
	if err != nil {
		return 0, fmt.Errorf("pgbench: %w: %.300s", err, out)
	}
	m := tps.FindSubmatch(out)
	if m == nil {
		return 0, fmt.Errorf("pgbench printed no rate: %.300s", out)
	}
	return strconv.ParseFloat(string(m[1]), 64)
}
