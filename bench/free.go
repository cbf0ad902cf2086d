package main

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"

	"pingo/internal/api"
	"pingo/internal/client"
	"pingo/internal/lab/demo"
	"pingo/internal/lab/standin"
)

// freeEngine is an engine that costs next to nothing: it takes every document and keeps none. What is not about
// documents is answered by a stand-in.
type freeEngine struct {
	rest standin.Server
	slow atomic.Int64 // nanoseconds that each request with documents takes

	mu       sync.Mutex // guards what follows
	taken    int
	requests int
	keys     map[string]bool
}

func (e *freeEngine) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	switch {
	case strings.HasSuffix(r.URL.Path, "/_bulk"):
		body, err := io.ReadAll(r.Body)
		if err != nil {
			http.Error(w, err.Error(), http.StatusBadRequest)
			return
		}
		time.Sleep(time.Duration(e.slow.Load()))
		w.Header().Set("Content-Type", "application/json")
		w.Write(e.bulk(body))
	case strings.HasSuffix(r.URL.Path, "/_count"):
		e.mu.Lock()
		defer e.mu.Unlock()
		w.Header().Set("Content-Type", "application/json")
		fmt.Fprintf(w, `{"count":%d}`, len(e.keys))
	default:
		e.rest.ServeHTTP(w, r)
	}
}

func (e *freeEngine) bulk(body []byte) []byte {
	out := bytes.NewBufferString(`{"items":[`)
	e.mu.Lock()
	defer e.mu.Unlock()
	e.requests++
	for n := 0; len(body) > 0; n++ {
		line, rest, _ := bytes.Cut(body, []byte("\n"))
		action, _, _ := bytes.Cut(line[len(`{"`):], []byte(`"`))
		id := line[len(`{"":{"_id":"`)+len(action):]
		id = id[:bytes.IndexByte(id, '"')]
		if string(action) == "index" {
			_, rest, _ = bytes.Cut(rest, []byte("\n"))
		}
		if n > 0 {
			out.WriteByte(',')
		}
		fmt.Fprintf(out, `{"%s":{"_id":"%s","status":201}}`, action, id)
		if !e.keys[string(id)] {
			e.keys[string(id)] = true
		}
		e.taken++
		body = rest
	}
	out.WriteString(`]}`)
	return out.Bytes()
}

// took is how many documents were taken so far.
func (e *freeEngine) took() int {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.taken
}

// freeDefinition is the demo's, without what looks into the engine.
var freeDefinition = strings.Replace(demo.Definition, "    engine: main\n",
	"    engine: main\n    reindex: { compare: none, switch: always }\n    drift: { sweep: 0 }\n", 1)

// onFree starts a service on a free engine, with a source that was never captured.
func (b *bench) onFree(ctx context.Context, conn *pgx.Conn) (*freeEngine, *service, error) {
	if _, err := conn.Exec(ctx, "DROP SCHEMA IF EXISTS pingo_capture CASCADE"); err != nil {
		return nil, nil, err
	}
	engine := &freeEngine{keys: map[string]bool{}}
	at := httptest.NewServer(engine)
	s, _, err := b.serviceOf(ctx, at.URL, freeDefinition)
	if err != nil {
		at.Close()
		return nil, nil, err
	}
	end := s.stop
	s.engine, s.stop = at.URL, func() { end(); at.Close() }
	return engine, s, nil
}

// free measures what Pingo makes of the machine when the engine costs nothing: a fill, a wide change of all documents,
// and a million changes that came while it did not run.
func (b *bench) free(ctx context.Context, conn *pgx.Conn) error {
	engine, s, err := b.onFree(ctx, conn)
	if err != nil {
		return err
	}
	defer func() { s.stop() }()
	runs, err := s.client.Runs(ctx, "huts")
	if err != nil {
		return err
	}
	fill := float64(runs[0].Rows) / runs[0].FilledAt.Sub(*runs[0].BeganAt).Seconds()
	b.report("free engine, a fill", fill, "docs/s", "")
	documents := int(runs[0].Rows)
	scripting := time.Now()
	if err := script(ctx, conn, s.engine, "huts-script", false); err != nil {
		return fmt.Errorf("script: %w", err)
	}
	instead := float64(documents) / time.Since(scripting).Seconds()
	b.report("free engine, the script instead", instead, "docs/s", "pages by LIMIT and OFFSET")
	b.report("free engine, a fill to the script", fill/instead, "times", "wanted: at least 8")

	before, began := engine.took(), time.Now()
	if _, err := conn.Exec(ctx, "UPDATE regions SET name = name || '.'"); err != nil {
		return err
	}
	if err := within(10*time.Minute, func() error { return quietAfter(ctx, s.client, engine, before+documents) }); err != nil {
		return err
	}
	wide := float64(documents) / time.Since(began).Seconds()
	b.report("free engine, a wide change", wide, "docs/s", "%d documents were sent for %d", engine.took()-before, documents)
	b.report("free engine, a wide change to a fill", wide/fill, "of it", "wanted: at least 0.7")

	pool, err := pgxpool.New(ctx, b.url)
	if err != nil {
		return err
	}
	defer pool.Close()
	if err := b.wide(ctx, pool, s, "free engine, "); err != nil {
		return err
	}

	const changes = 1_000_000
	end(s.cmd)
	for left := changes; left > 0; left -= b.rows {
		_, err := conn.Exec(ctx, "UPDATE huts SET beds = beds + 1 WHERE id IN (SELECT id FROM huts ORDER BY id LIMIT $1)", min(left, b.rows))
		if err != nil {
			return err
		}
	}
	changed := documents * min(changes, b.rows) / b.rows
	before, began = engine.took(), time.Now()
	cmd, c, err := b.another(ctx, s)
	if err != nil {
		return err
	}
	s.cmd = cmd
	if err := within(10*time.Minute, func() error { return quietAfter(ctx, c, engine, before+changed) }); err != nil {
		return err
	}
	took := time.Since(began)
	peak, err := peakMemory(cmd.Process.Pid)
	if err != nil {
		return err
	}
	var journal float64
	if err := conn.QueryRow(ctx, "SELECT pg_table_size('pingo_capture.journal') / 1e6").Scan(&journal); err != nil {
		return err
	}
	b.report("free engine, catching up after a stop", took.Seconds(), "s", "%d changes of %d rows", changes, min(changes, b.rows))
	b.report("free engine, documents built for each row that changed", float64(engine.took()-before)/float64(changed), "", "")
	b.report("free engine, the journal's file after that", journal, "MB", "")
	time.Sleep(90 * time.Second) // the database looks once a minute which tables are to be vacuumed
	if err := conn.QueryRow(ctx, "SELECT pg_table_size('pingo_capture.journal') / 1e6").Scan(&journal); err != nil {
		return err
	}
	b.report("free engine, the journal's file a minute and a half later", journal, "MB", "")
	b.report("free engine, peak memory while catching up", peak, "MB", "")
	return nil
}

// quietAfter fails until an engine has a number of documents and nothing waits.
func quietAfter(ctx context.Context, c *client.Client, engine *freeEngine, documents int) error {
	status, err := c.Status(ctx)
	if err != nil {
		return err
	}
	if len(status.Indexes) == 0 || engine.took() < documents || status.Indexes[0].Waiting > 0 || status.Sources[0].InFlight > 0 ||
		status.Indexes[0].State != api.StateInSync {
		return fmt.Errorf("%d of %d documents were taken", engine.took(), documents)
	}
	return nil
}
