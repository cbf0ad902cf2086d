package main

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"

	"github.com/jackc/pgx/v5"

	"pingo/internal/core/definition"
	"pingo/internal/core/shape"
	"pingo/internal/demo"
	"pingo/internal/flow"
	"pingo/internal/source/postgres"
)

// writes measures what capture costs the source: single-row updates by four
// clients as pgbench makes them by default, each its own transaction and durable,
// with and without triggers, in rounds that take turns.
func (b *bench) writes(ctx context.Context, conn *pgx.Conn) error {
	src, err := postgres.Open(b.url, 0)
	if err != nil {
		return err
	}
	defer src.Close()
	if err := src.RemoveCapture(ctx); err != nil {
		return err
	}
	os.Setenv("LODGE_URL", b.url)
	os.Setenv("SEARCH_URL", "http://127.0.0.1:1")
	def, findings := definition.Parse([]definition.File{{Name: "pingo.yaml", Text: demo.Definition}}, flow.Environment)
	if len(findings) > 0 {
		return findings
	}
	tables, expressions := shape.Questions(def.Indexes[0])
	facts, err := src.Facts(ctx, tables, expressions)
	if err != nil {
		return err
	}
	compiled, findings := shape.Compile(def.Indexes[0], facts)
	if len(findings) > 0 {
		return findings
	}
	need := shape.Capture([]*shape.Shape{compiled})

	const captured = "UPDATE huts SET beds = beds + 1 WHERE id = :id;"
	const linked = "UPDATE guest_notes SET body = body || '.' WHERE id = :id;"
	const unused = "UPDATE huts SET visits_counted = visits_counted + 1 WHERE id = :id;"
	scripts := []string{captured, linked, unused}
	with, without := make([][]float64, len(scripts)), make([][]float64, len(scripts))
	for round := range 7 {
		say("writes, round %d …", round+1)
		for _, triggers := range []bool{false, true} {
			if triggers {
				if _, err := src.InstallCapture(ctx, "bench", need); err != nil {
					return err
				}
			}
			for i, script := range scripts {
				rate, err := b.pgbench(ctx, conn, script)
				if err != nil {
					return err
				}
				if triggers {
					with[i] = append(with[i], rate)
				} else {
					without[i] = append(without[i], rate)
				}
			}
		}
		if err := src.RemoveCapture(ctx); err != nil {
			return err
		}
	}
	for i, name := range []string{"a captured column", "a captured column of a related table", "a column that no definition uses"} {
		share := median(with[i]) / median(without[i])
		b.report("updates of "+name+", without triggers", median(without[i]), "tx/s", "median of 7 rounds")
		b.report("updates of "+name+", with triggers", median(with[i]), "tx/s", "")
		b.report("updates of "+name+", share kept", share, "of it", "wanted: at least %s", []string{"0.75", "0.75", "0.95"}[i])
	}
	return nil
}

func median(list []float64) float64 {
	s := slices.Sorted(slices.Values(list))
	return s[len(s)/2]
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
	out, err := exec.CommandContext(ctx, program, "-n", "-c", "4", "-j", "2", "-T", "3", "-f", file, b.url).CombinedOutput()
	if err != nil {
		return 0, fmt.Errorf("pgbench: %w: %.300s", err, out)
	}
	m := tps.FindSubmatch(out)
	if m == nil {
		return 0, fmt.Errorf("pgbench printed no rate: %.300s", out)
	}
	return strconv.ParseFloat(string(m[1]), 64)
}
