package main

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/jackc/pgx/v5/stdlib"

	"pingo/internal/core/change"
	"pingo/internal/core/definition"
	"pingo/internal/core/document"
	"pingo/internal/core/shape"
	"pingo/internal/kinds"
	"pingo/internal/lab/mariaserver"
	"pingo/internal/source"
)

// ways measures the ways of noticing changes against each other: journals and outboxes of two
// databases, and MariaDB's fill and writes.
func (b *bench) ways(ctx context.Context, _ *pgx.Conn) error {
	if err := b.source.CreateDatabase(ctx, "journals"); err != nil {
		return err
	}
	maria, err := mariaserver.Start(ctx, mariaserver.Options{
		Dir:      filepath.Join(b.dir, "maria"),
		Settings: []string{"--innodb-buffer-pool-size=512M", "--innodb-log-file-size=512M"},
	})
	if err != nil {
		return err
	}
	defer maria.Stop()
	if err := maria.CreateDatabase(ctx, "paths"); err != nil {
		return err
	}
	if err := b.journals(ctx, maria); err != nil {
		return fmt.Errorf("journals: %w", err)
	}
	if err := b.mariaFill(ctx, maria); err != nil {
		return fmt.Errorf("fill of MariaDB: %w", err)
	}
	return b.mariaWrites(ctx, maria)
}

const (
	waysFor = 8 * time.Second
)

// errEnough says that there is no more to do.
var errEnough = errors.New("nothing is left to do")

// together makes a number of goroutines repeat something for a while, and says how many units they did
// a second.
func together(n int, do func(worker int) (units int, err error)) (float64, error) {
	var done atomic.Int64
	var failed atomic.Pointer[error]
	began := time.Now()
	var wg sync.WaitGroup
	for worker := range n {
		wg.Go(func() {
			for time.Since(began) < waysFor && failed.Load() == nil {
				units, err := do(worker)
				if errors.Is(err, errEnough) {
					return
				}
				if err != nil {
					failed.Store(&err)
					return
				}
				done.Add(int64(units))
			}
		})
	}
	wg.Wait()
	if err := failed.Load(); err != nil {
		return 0, *err
	}
	return float64(done.Load()) / time.Since(began).Seconds(), nil
}

// captured installs a source's capture for an index of all rows of a table, and claims it.
func (b *bench) captured(ctx context.Context, src *source.Source, kind, rows string) error {
	s, err := waysShape(ctx, src, kind, rows, "")
	if err != nil {
		return err
	}
	if _, err := src.Capture.Install(ctx, "bench", shape.Capture(s.Source, []*shape.Shape{s})); err != nil {
		return err
	}
	found, err := src.Claimed(ctx)
	if err != nil {
		return err
	}
	return src.Claim(
		ctx,
		found,
		change.Claim{
			Service: "bench",
			Holder:  "A",
			Epoch:   found.Epoch + 1,
			Mark:    found.Mark + 1,
			History: found.History,
		},
	)
}

func waysShape(ctx context.Context, src *source.Source, kind, rows, related string) (*shape.Shape, error) {
	url := "url: \"x://u@h/d\","
	field := "name"
	if kind == "webhook" {
		url, field = "unsigned: allowed, records: { bulletins: {} },", "title"
	} else {
		url = strings.Replace(url, "x:", kind+":", 1)
	}
	text := fmt.Sprintf(
		"sources: { %s: { kind: %s, %s } }\nengines: { main: { kind: opensearch, url: \"http://h\" } }\nindexes: { i: { engine: main, rows: %s, fields: [%s]%s } }\n",
		strings.Split(rows, ".")[0],
		kind,
		url,
		rows,
		field,
		related,
	)
	def, findings := definition.Parse(
		[]definition.File{{Name: "b.yaml", Text: text}},
		kinds.All().Language(),
		nil,
	)
	if len(findings) > 0 {
		return nil, findings
	}
	s, findings, err := source.Compile(ctx, def.Indexes[0], source.Only(src))
	if err != nil {
		return nil, err
	}
	if len(findings) > 0 {
		return nil, findings
	}
	return s, nil
}

const journalRows = 100_000

// journals measures how many changes a second are read from a journal or an outbox that is full,
// and taken out of it.
func (b *bench) journals(ctx context.Context, maria *mariaserver.Server) error {
	pool, err := pgxpool.New(ctx, b.source.URL("journals"))
	if err != nil {
		return err
	}
	defer pool.Close()
	dbs := map[string]*sql.DB{"postgres": stdlib.OpenDBFromPool(pool)}
	if dbs["mariadb"], err = mariaserver.Open(maria.URL("paths")); err != nil {
		return err
	}
	defer dbs["mariadb"].Close()
	urls := map[string]string{"postgres": b.source.URL("journals"), "mariadb": maria.URL("paths")}
	series := map[string]string{"postgres": "generate_series(1, %d) AS n(seq)", "mariadb": "seq_1_to_%d AS n"}
	base := 0.0
	for _, kind := range []string{"postgres", "mariadb"} {
		db := dbs[kind]
		exec := func(statements ...string) error {
			for _, s := range statements {
				if _, err := db.ExecContext(ctx, s); err != nil {
					return fmt.Errorf("%s: %w", s, err)
				}
			}
			return nil
		}
		rows := fmt.Sprintf(series[kind], journalRows)
		id := map[string]string{"postgres": "bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY", "mariadb": "bigint AUTO_INCREMENT PRIMARY KEY"}[kind]
		err := exec(
			"CREATE TABLE items (id int PRIMARY KEY, name varchar(50))",
			fmt.Sprintf(
				"CREATE TABLE outbox (id %s, record varchar(50), record_key varchar(50), operation varchar(20), body varchar(200))",
				id,
			),
		)
		if err != nil {
			return err
		}
		for _, way := range []struct{ name, capture, options, fill string }{
			{"triggers", "triggers", `{}`, "INSERT INTO items SELECT seq, 'item' FROM " + rows},
			{"an outbox", "outbox", `{"outbox": {"table": "outbox", "operation": "operation"}}`, "INSERT INTO outbox (record, record_key, operation) SELECT 'items', seq, 'updated' FROM " + rows},
			{"an outbox with bodies", "outbox", `{"outbox": {"table": "outbox", "operation": "operation", "body": "body", "records": {"items": {"schema": {"properties": {"name": {"type": "string"}}}}}}}`,
				"INSERT INTO outbox (record, record_key, operation, body) SELECT 'items', seq, 'updated', '{\"name\": \"item\", \"n\": 1}' FROM " + rows},
		} {
			name := "s_" + strings.ReplaceAll(way.name, " ", "_") + "_" + kind
			src, err := kinds.All().
				OpenSource(kind, source.Config{Name: name, URL: urls[kind], Capture: way.capture, Options: []byte(way.options), Records: b.source.URL("intake")})
			if err != nil {
				return err
			}
			if err := b.captured(ctx, src, kind, name+".items"); err != nil {
				return err
			}
			if err := exec(way.fill); err != nil {
				return err
			}
			began, got := time.Now(), 0
			for got < journalRows {
				changes, err := src.Changes(ctx, 2000)
				if err != nil {
					return err
				}
				seqs := make([]int64, len(changes))
				for i, c := range changes {
					seqs[i] = c.Seq
				}
				if got += len(seqs); len(seqs) > 0 {
					if err := src.Done(ctx, seqs); err != nil {
						return err
					}
				}
			}
			perSecond := journalRows / time.Since(began).Seconds()
			if base == 0 {
				base = perSecond
			}
			b.report(
				fmt.Sprintf("%s: changes by %s", kind, way.name),
				perSecond,
				"/s",
				"%.2f of PostgreSQL's triggers, read and removed",
				perSecond/base,
			)
			if way.capture == "triggers" {
				if err := src.Capture.Remove(ctx); err != nil {
					return err
				}
			}
			src.Close()
		}
	}
	return nil
}

const mariaRows = 100_000

// mariaFill measures how fast documents of two tables are made, compared with a program that reads both in
// order and writes the same JSON by hand.
func (b *bench) mariaFill(ctx context.Context, maria *mariaserver.Server) error {
	db, err := mariaserver.Open(maria.URL("paths"))
	if err != nil {
		return err
	}
	defer db.Close()
	for _, s := range []string{
		"CREATE TABLE trails (id int PRIMARY KEY, name varchar(50), grade varchar(20))",
		"CREATE TABLE stages (trail_id int, no int, title varchar(50), PRIMARY KEY (trail_id, no))",
		fmt.Sprintf("INSERT INTO trails SELECT seq, concat('Trail ', seq), 'hard' FROM seq_1_to_%d", mariaRows),
		fmt.Sprintf("INSERT INTO stages SELECT 1 + seq div 3, seq mod 3, concat('up to the saddle ', seq) FROM seq_1_to_%d", 3*mariaRows-4),
		"ANALYZE TABLE trails, stages",
	} {
		if _, err := db.ExecContext(ctx, s); err != nil {
			return fmt.Errorf("%s: %w", s, err)
		}
	}
	src, err := kinds.All().OpenSource("mariadb", source.Config{Name: "paths", URL: maria.URL("paths")})
	if err != nil {
		return err
	}
	defer src.Close()
	s, err := waysShape(
		ctx,
		src,
		"mariadb",
		"paths.trails",
		", related: { stages: { many: stages, on: { trail_id: id }, fields: [no, title] } }",
	)
	if err != nil {
		return err
	}
	var pingo, hand []float64
	for range 3 {
		began := time.Now()
		n, err := readAll(ctx, src, s.Trees[0])
		if err != nil {
			return err
		}
		pingo = append(pingo, float64(n)/time.Since(began).Seconds())
		began = time.Now()
		if n, err = byHand(ctx, db); err != nil {
			return err
		}
		hand = append(hand, float64(n)/time.Since(began).Seconds())
	}
	b.report(
		"mariadb: documents read and made",
		median(pingo),
		"/s",
		"%.2f of two ordered reads merged and written by hand (%.0f/s)",
		median(pingo)/median(hand),
		median(hand),
	)
	return nil
}

func readAll(ctx context.Context, src *source.Source, tree *shape.Tree) (n int, err error) {
	set := document.NewSet(tree)
	var arena []byte
	for after, last := []string(nil), false; !last; {
		end, err := src.ChunkEnd(ctx, tree, after, 2000)
		if err != nil {
			return n, err
		}
		set.Reset()
		if err := src.ReadRange(ctx, set, after, end); err != nil {
			return n, err
		}
		arena = arena[:0]
		for row := range set.Rows(0).Len() {
			arena = set.Append(arena, row)
			n++
		}
		after, last = end, end == nil
	}
	return n, nil
}

// byHand is what a careful person would write: both tables in order of the key, merged, a struct
// for each document.
func byHand(ctx context.Context, db *sql.DB) (n int, err error) {
	type stage struct {
		No    int    `json:"no"`
		Title string `json:"title"`
	}
	type trail struct {
		Name   string  `json:"name"`
		Stages []stage `json:"stages"`
	}
	trails, err := db.QueryContext(ctx, "SELECT id, name FROM trails ORDER BY id")
	if err != nil {
		return 0, err
	}
	defer trails.Close()
	stages, err := db.QueryContext(ctx, "SELECT trail_id, no, title FROM stages ORDER BY trail_id, no")
	if err != nil {
		return 0, err
	}
	defer stages.Close()
	var of int
	var s stage
	more := stages.Next()
	if more {
		err = stages.Scan(&of, &s.No, &s.Title)
	}
	size := 0
	for err == nil && trails.Next() {
		var id int
		t := trail{Stages: []stage{}}
		if err = trails.Scan(&id, &t.Name); err != nil {
			return n, err
		}
		for more && of <= id {
			if of == id {
				t.Stages = append(t.Stages, s)
			}
			if more = stages.Next(); more {
				if err = stages.Scan(&of, &s.No, &s.Title); err != nil {
					return n, err
				}
			}
		}
		text, err := json.Marshal(t)
		if err != nil {
			return n, err
		}
		size += len(text)
		n++
	}
	return n, err
}

// mariaWrites measures what capture costs: single-row updates by four clients, each its own
// transaction and durable, with and without triggers, in rounds that take turns.
func (b *bench) mariaWrites(ctx context.Context, maria *mariaserver.Server) error {
	db, err := mariaserver.Open(maria.URL("paths"))
	if err != nil {
		return err
	}
	defer db.Close()
	src, err := kinds.All().OpenSource("mariadb", source.Config{Name: "paths", URL: maria.URL("paths")})
	if err != nil {
		return err
	}
	defer src.Close()
	update := func(column string) func(worker int) (int, error) {
		return func(int) (int, error) {
			_, err := db.ExecContext(
				ctx,
				fmt.Sprintf("UPDATE trails SET %s = ? WHERE id = ?", column),
				fmt.Sprint("x", rand.IntN(1_000_000)),
				1+rand.IntN(mariaRows),
			)
			return 1, err
		}
	}
	var without, captured, other []float64
	for range 3 {
		if err := src.Capture.Remove(ctx); err != nil {
			return err
		}
		rate, err := together(4, update("name"))
		if err != nil {
			return err
		}
		without = append(without, rate)
		if err := b.captured(ctx, src, "mariadb", "paths.trails"); err != nil {
			return err
		}
		if rate, err = together(4, update("name")); err != nil {
			return err
		}
		captured = append(captured, rate)
		if rate, err = together(4, update("grade")); err != nil {
			return err
		}
		other = append(other, rate)
	}
	b.report(
		"mariadb: updates of a captured column",
		median(captured),
		"/s",
		"%.2f of the rate without capture (%.0f/s)",
		median(captured)/median(without),
		median(without),
	)
	b.report(
		"mariadb: updates of another column",
		median(other),
		"/s",
		"%.2f of the rate without capture",
		median(other)/median(without),
	)
	return nil
}
