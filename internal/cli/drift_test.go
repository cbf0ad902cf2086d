package cli_test

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"net/http"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"pingo/internal/api"
	"pingo/internal/core/definition"
	"pingo/internal/lab/pgtest"
)

// saboteur changes documents in an engine behind Pingo's back.
type saboteur interface {
	get(key string) map[string]any
	put(key string, doc map[string]any)
	remove(keys ...string)
}

type httpSaboteur struct {
	t   *testing.T
	url string // of the edition
}

func (s *httpSaboteur) call(method, path, body string) []byte {
	s.t.Helper()
	r, err := http.NewRequest(method, s.url+path, strings.NewReader(body))
	if err != nil {
		s.t.Fatal(err)
	}
	r.Header.Set("Content-Type", "application/json")
	answer, err := http.DefaultClient.Do(r)
	if err != nil {
		s.t.Fatal(err)
	}
	defer answer.Body.Close()
	b, err := io.ReadAll(answer.Body)
	if err != nil || answer.StatusCode > 299 || bytes.Contains(b, []byte(`"errors":true`)) {
		s.t.Fatalf("%s %s: %s %.300s %v", method, path, answer.Status, b, err)
	}
	return b
}

func (s *httpSaboteur) get(key string) map[string]any {
	var out struct {
		Source map[string]any `json:"_source"`
	}
	if err := json.Unmarshal(s.call("GET", "/_doc/"+key, ""), &out); err != nil {
		s.t.Fatal(err)
	}
	return out.Source
}

func (s *httpSaboteur) put(key string, doc map[string]any) {
	b, err := json.Marshal(doc)
	if err != nil {
		s.t.Fatal(err)
	}
	s.call("PUT", "/_doc/"+key+"?refresh=true", string(b))
}

func (s *httpSaboteur) remove(keys ...string) {
	var b strings.Builder
	for _, key := range keys {
		fmt.Fprintf(&b, "{\"delete\":{\"_id\":%q}}\n", key)
	}
	s.call("POST", "/_bulk?refresh=true", b.String())
}

type sqlSaboteur struct {
	t     *testing.T
	conn  *pgx.Conn
	table string
}

func (s *sqlSaboteur) get(key string) (doc map[string]any) {
	if err := s.conn.QueryRow(context.Background(), "SELECT pingo_document FROM "+s.table+" WHERE pingo_key = $1", key).Scan(&doc); err != nil {
		s.t.Fatal(err)
	}
	return doc
}

func (s *sqlSaboteur) put(key string, doc map[string]any) {
	_, err := s.conn.Exec(
		context.Background(),
		"INSERT INTO "+s.table+` (pingo_key, pingo_version, pingo_document) VALUES ($1, 1, $2)
		ON CONFLICT (pingo_key) DO UPDATE SET pingo_document = excluded.pingo_document`,
		key,
		doc,
	)
	if err != nil {
		s.t.Fatal(err)
	}
}

func (s *sqlSaboteur) remove(keys ...string) {
	if _, err := s.conn.Exec(context.Background(), "DELETE FROM "+s.table+" WHERE pingo_key = ANY($1)", keys); err != nil {
		s.t.Fatal(err)
	}
}

func numbers(from, to int) (out []string) {
	for n := from; n <= to; n++ {
		out = append(out, fmt.Sprint(n))
	}
	return out
}

// planted are differences by key: the way to find each.
type planted map[string]string

func (p planted) add(kind, cause string, keys ...string) {
	for _, key := range keys {
		p[key] = kind + ", " + cause
	}
}

// found compares what a check has found with what was planted.
func (w *world) found(index string, want planted) {
	w.t.Helper()
	d, err := w.client.Drift(w.t.Context(), index, "", "", 10_000)
	if err != nil {
		w.t.Fatal(err)
	}
	got := planted{}
	for _, x := range d.Differences {
		got.add(x.Kind, x.Cause, x.Key)
	}
	if maps.Equal(got, want) {
		return
	}
	for _, key := range slices.Sorted(maps.Keys(want)) {
		if got[key] != want[key] {
			w.t.Errorf("%s %s: found %q, planted %q", index, key, got[key], want[key])
		}
	}
	for _, key := range slices.Sorted(maps.Keys(got)) {
		if want[key] == "" {
			w.t.Errorf("%s %s: %s was never planted", index, key, got[key])
		}
	}
}

// check runs a command of drift or repair that may end with 1, and returns what it says as JSON.
func (w *world) order(want int, args ...string) (o api.DriftOrder) {
	w.t.Helper()
	out, errs, code := w.run(append(args, "-o", "json")...)
	if err := json.Unmarshal([]byte(out), &o); err != nil || code != want {
		w.t.Fatalf("pingo %s: exit %d, %v\n%s%s", strings.Join(args, " "), code, err, out, errs)
	}
	return o
}

// Whatever is done to documents behind Pingo's back, and to rows while no one notices, is found on both engines,
// with its cause, while other rows are written all the time; and it is repaired.
func TestSabotage(t *testing.T) {
	w := newWorld(t)
	w.sabotage(w.engine.URL)
}

func (w *world) sabotage(search string) {
	t := w.t
	lodge := pgtest.Connect(t, w.pg.URL("lodge"))
	pgtest.Exec(t, lodge, `CREATE TABLE tarns (id int PRIMARY KEY, name text, seen int NOT NULL);
		INSERT INTO tarns SELECT i, 'tarn ' || i, 0 FROM generate_series(1, 3000) i`)
	w.serve()
	w.must("apply", "--yes", w.write(tarns("m", "    drift: { sweep: 0 }\n")))
	tables := pgtest.Connect(t, w.pg.URL("tables"))
	engines := map[string]saboteur{
		"tarns": &httpSaboteur{t, search + "/" + w.edition("tarns")},
		"tarns_tables": &sqlSaboteur{
			t, tables, pgx.Identifier{"pingo_search", w.edition("tarns_tables")}.Sanitize(),
		},
	}
	ctx, stop := context.WithCancel(t.Context())
	var work sync.WaitGroup
	defer work.Wait()
	defer stop()
	writer := pgtest.Connect(t, w.pg.URL("lodge"))
	work.Go(func() { // what is planted is among the others
		for n := 0; ctx.Err() == nil; n++ {
			if _, err := writer.Exec(context.Background(), `UPDATE tarns SET seen = seen + 1 WHERE id BETWEEN 2500 + $1 % 500 AND 2503 + $1 % 500`, n*7); err != nil {
				t.Error(err)
				return
			}
			time.Sleep(5 * time.Millisecond)
		}
	})

	for index, engine := range engines {
		if o := w.order(0, "drift", "check", index); o.Differing != 0 || o.Compared < 3000 || o.Scanned < 3000 ||
			o.Unsettled != 0 {
			t.Errorf("%s before anything was done: %+v", index, o)
		}
		want := planted{}
		engine.remove(numbers(1, 8)...)
		want.add("missing", "changed in the engine", numbers(1, 8)...)
		for _, key := range numbers(11, 18) {
			doc := engine.get(key)
			doc["name"] = "somebody was here"
			engine.put(key, doc)
		}
		want.add("altered", "changed in the engine", numbers(11, 18)...)
		for _, key := range numbers(21, 28) {
			doc := engine.get(key)
			doc["name"], doc[definition.FingerprintField] = "and here", "0123456789abcdef"
			engine.put(key, doc)
		}
		want.add("stale", "changed in the engine", numbers(21, 28)...)
		for _, key := range numbers(9001, 9005) {
			engine.put(key, map[string]any{"name": "mine"})
		}
		want.add("orphaned", "changed in the engine", numbers(9001, 9005)...)
		o := w.order(1, "drift", "check", index)
		if o.Differing != 29 || o.Kinds["missing"] != 8 || o.Causes["changed in the engine"] != 29 {
			t.Errorf("%s: %+v", index, o)
		}
		w.found(index, want)
		w.index(10*time.Second, "it is reported", index, func(ix api.IndexStatus) bool {
			return ix.State == api.StateDiffers &&
				strings.Contains(ix.Sentence, "29 documents do not match the database")
		})
		for key, state := range map[string]string{"1": "missing", "11": "altered", "21": "stale", "9001": "orphaned", "900": "good", "99999": "none"} {
			traced, err := w.client.Trace(t.Context(), index, key)
			if err != nil || traced.State != state && traced.State != "waiting" {
				t.Errorf("%s %s: %+v %v, not %s", index, key, traced, err, state)
			}
		}

		if out, _, _ := w.run("repair", index, "--dry-run"); !strings.Contains(out, "29 documents") {
			t.Error(out)
		}
		if o := w.order(0, "repair", index, "1"); o.Repaired != 1 {
			t.Errorf("%+v", o)
		}
		for key, says := range map[string]string{"none": "No row and no document has this key.", "900": "all match their rows; 1 sent again."} {
			if o := w.order(0, "repair", index, key); o.Repaired != 0 || !strings.Contains(o.Sentence, says) {
				t.Errorf("repair of %s: %+v", key, o)
			}
		}
		if o := w.order(0, "repair", index, "--kind", "altered", "--yes"); o.Repaired != 8 {
			t.Errorf("%+v", o)
		}
		if o := w.order(0, "repair", index, "--yes"); o.Repaired != 20 {
			t.Errorf("%+v", o)
		}
		w.found(index, planted{})
		w.order(0, "drift", "check", index)
	}

	// Rows change while capture is off, which no one could see.
	pgtest.Exec(
		t,
		lodge,
		`BEGIN; ALTER TABLE tarns DISABLE TRIGGER USER; UPDATE tarns SET name = 'unseen' WHERE id BETWEEN 31 AND 38;
		DELETE FROM tarns WHERE id BETWEEN 41 AND 48; INSERT INTO tarns SELECT i, 'unseen', 0 FROM generate_series(7001, 7005) i;
		DO $$ DECLARE t name; BEGIN FOR t IN SELECT tgname FROM pg_trigger WHERE tgrelid = 'tarns'::regclass LOOP
			EXECUTE format('ALTER TABLE tarns ENABLE ALWAYS TRIGGER %I', t); END LOOP; END $$; COMMIT`,
	)
	for index := range engines {
		want := planted{}
		want.add("stale", "change not noticed", numbers(31, 38)...)
		want.add("orphaned", "change not noticed", numbers(41, 48)...)
		want.add("missing", "change not noticed", numbers(7001, 7005)...)
		w.order(1, "drift", "check", index)
		w.found(index, want)
		if o := w.order(0, "drift", "check", index, "--repair"); o.Repaired != 21 || o.Held != 0 {
			t.Errorf("%+v", o)
		}
		w.found(index, planted{})
	}

	// An index that a person has emptied is filled by its repair; not more are deleted than may be.
	for index, engine := range engines {
		engine.remove(append(numbers(1, 3000), numbers(7001, 7005)...)...)
		for n := range 60 {
			engine.put(fmt.Sprint(20_000+n), map[string]any{"name": "mine"})
		}
		o := w.order(1, "drift", "check", index, "--repair")
		if o.Causes["engine's index emptied"] < 2000 || o.Kinds["orphaned"] != 60 || o.Held == 0 ||
			o.Repaired+o.Held != o.Differing {
			t.Errorf("%+v", o)
		}
		w.order(0, "repair", index, "--yes", "--deletes")
		w.order(0, "drift", "check", index)
	}
	stop()
	work.Wait()
	for index := range engines {
		w.must("wait", index)
		w.equalTo(lodge, tarns("m", ""), index, 0)
		w.index(10*time.Second, "it is in sync and proven", index, func(ix api.IndexStatus) bool {
			return ix.State == api.StateInSync && ix.Drift != nil && ix.Drift.Hour == 1
		})
	}
}

// A table that becomes an older copy of itself or leaves its schema and returns, and a whole source that becomes an older copy, are noticed while rows are written all the
// time; both engines hold what is so in the end, and it is proven.
func TestOlderCopies(t *testing.T) {
	w := newWorld(t)
	server, lodge := pgtest.Connect(t, w.pg.URL("postgres")), pgtest.Connect(t, w.pg.URL("lodge"))
	pgtest.Exec(t, lodge, `CREATE TABLE tarns (id int PRIMARY KEY, name text, seen int NOT NULL);
		INSERT INTO tarns SELECT i, 'tarn ' || i, 0 FROM generate_series(1, 2000) i`)
	w.serve()
	w.must("apply", "--yes", w.write(tarns("m", "    drift: { sweep: 0 }\n")))
	editions := func() (names [2]string) {
		for i, index := range []string{"tarns", "tarns_tables"} {
			w.index(30*time.Second, "in sync", index, func(ix api.IndexStatus) bool {
				names[i] = ix.Edition
				return ix.State == api.StateInSync
			})
		}
		return names
	}
	// writing changes rows until stop is called, whatever happens to the database meanwhile.
	writing := func() (stop func()) {
		ctx, cancel := context.WithCancel(t.Context())
		ended := make(chan struct{})
		go func() {
			defer close(ended)
			var conn *pgx.Conn
			for n := 0; ctx.Err() == nil; n++ {
				if conn == nil || conn.IsClosed() {
					conn, _ = pgx.Connect(ctx, w.pg.URL("lodge"))
				}
				if conn != nil {
					conn.Exec(ctx, "UPDATE tarns SET seen = seen + 1 WHERE id BETWEEN 1500 + $1 % 500 AND 1503 + $1 % 500", n*7)
				}
				time.Sleep(5 * time.Millisecond)
			}
			if conn != nil {
				conn.Close(context.Background())
			}
		}()
		return func() { cancel(); <-ended }
	}
	undone := `UPDATE tarns SET name = 'undone' WHERE id % 3 = 0; DELETE FROM tarns WHERE id % 50 = 1;
		INSERT INTO tarns SELECT i, 'undone', 0 FROM generate_series(8001, 8010) i`
	settled := func(before [2]string) {
		t.Helper()
		for i, index := range []string{"tarns", "tarns_tables"} {
			w.index(40*time.Second, "another edition answers", index, func(ix api.IndexStatus) bool {
				return ix.State == api.StateInSync && ix.Edition != before[i]
			})
			if o := w.order(0, "drift", "check", index); o.Differing != 0 || o.Unsettled != 0 {
				t.Errorf("%s: %+v", index, o)
			}
			w.index(10*time.Second, "it is proven", index, func(ix api.IndexStatus) bool { return ix.Drift != nil && ix.Drift.Hour > 0.99 })
		}
	}

	stop := writing()
	pgtest.Exec(t, lodge, "CREATE TABLE older (LIKE tarns INCLUDING ALL); INSERT INTO older SELECT * FROM tarns; "+undone)
	before := editions()
	pgtest.Exec(t, lodge, "BEGIN; DROP TABLE tarns; ALTER TABLE older RENAME TO tarns; COMMIT")
	settled(before)

	before = editions()
	pgtest.Exec(t, lodge, "CREATE SCHEMA elsewhere; ALTER TABLE tarns SET SCHEMA elsewhere")
	for _, index := range []string{"tarns", "tarns_tables"} {
		w.index(20*time.Second, "its changes are missing", index, func(ix api.IndexStatus) bool { return ix.Unnoticed })
	}
	pgtest.Exec(t, lodge, "ALTER TABLE elsewhere.tarns SET SCHEMA public")
	settled(before)

	stop() // a database that is copied has no users
	lodge.Close(t.Context())
	w.kill()
	pgtest.Exec(t, server, "CREATE DATABASE lodge_copy TEMPLATE lodge")
	w.serve()
	lodge = pgtest.Connect(t, w.pg.URL("lodge"))
	stop = writing()
	pgtest.Exec(t, lodge, undone)
	before = editions()
	w.markMovesOn(pgtest.Connect(t, w.pg.URL("pingo")))
	lodge.Close(t.Context())
	pgtest.Exec(t, server, "DROP DATABASE lodge WITH (FORCE)")
	pgtest.Exec(t, server, "ALTER DATABASE lodge_copy RENAME TO lodge")
	settled(before)
	stop()
	lodge = pgtest.Connect(t, w.pg.URL("lodge"))
	for _, index := range []string{"tarns", "tarns_tables"} {
		w.must("wait", index)
		w.equalTo(lodge, tarns("m", ""), index, 0)
	}
	var undoneRows int
	if err := lodge.QueryRow(t.Context(), "SELECT count(*) FROM tarns WHERE name = 'undone'").Scan(&undoneRows); err != nil || undoneRows != 0 {
		t.Errorf("%d rows are not of the copy: %v", undoneRows, err)
	}
}

// Why a record is not in search is answered immediately, whatever the reason.
func TestTraceTellsWhy(t *testing.T) {
	w := newWorld(t)
	lodge := pgtest.Connect(t, w.pg.URL("lodge"))
	pgtest.Exec(
		t,
		lodge,
		`CREATE TABLE tarns (id int PRIMARY KEY, name text, depth text, drained boolean NOT NULL DEFAULT false);
		INSERT INTO tarns SELECT i, 'tarn ' || i, i::text, i % 10 = 0 FROM generate_series(1, 500) i`,
	)
	w.serve()
	w.must("apply", "--yes", w.write(`
sources: { lodge: { kind: postgres, url: "${LODGE_URL}" } }
engines: { main: { kind: opensearch, url: "${SEARCH_URL}" } }
indexes:
  tarns:
    engine: main
    rows: lodge.tarns
    where: not drained
    fields: { name: { search: 1 }, depth: { sql: "depth::int", filter: true } }
`))
	is := func(key, state, words string) *api.Traced {
		t.Helper()
		began := time.Now()
		traced, err := w.client.Trace(t.Context(), "tarns", key)
		if err != nil || traced.State != state || !strings.Contains(traced.Verdict, words) {
			t.Errorf("%s: %+v %v, not %s", key, traced, err, state)
		}
		if took := time.Since(began); took > patience*time.Second {
			t.Errorf("%s took %v", key, took)
		}
		return traced
	}
	if known := is("7", "good", "holds what the row makes now").Deliveries; known == nil || len(known.Last) > 0 {
		t.Errorf("delivered by the fill alone: %+v", known)
	}
	is("20", "outside", "where keeps it out of the index: not drained")
	is("9999", "none", "No row and no document")
	pgtest.Exec(t, lodge, "UPDATE tarns SET depth = 'bottomless' WHERE id = 8")
	w.index(10*time.Second, "it is refused", "tarns", func(ix api.IndexStatus) bool { return ix.Failed == 1 })
	if traced := is("8", "refused", "The expression of field depth fails on the row: depth::int"); traced.Failed == nil ||
		!strings.Contains(traced.Failed.Reason, "bottomless") ||
		traced.Next == "" || len(traced.Deliveries.Last) != 1 || traced.Deliveries.Last[0].Outcome != "refused" {
		t.Errorf("%+v", traced)
	}

	// What happened to it recently is reported, the newest first.
	pgtest.Exec(t, lodge, "UPDATE tarns SET depth = '80' WHERE id = 8")
	w.must("wait", "tarns")
	pgtest.Exec(t, lodge, "DELETE FROM tarns WHERE id = 8")
	w.must("wait", "tarns")
	var became []string
	for _, d := range is("8", "none", "No row and no document").Deliveries.Last {
		became = append(became, d.Outcome)
		if d.ChangedAt == nil || d.At.Before(*d.ChangedAt) || time.Since(d.At) > time.Minute {
			t.Errorf("%+v", d)
		}
	}
	if got := strings.Join(became, " "); got != "deleted sent refused" {
		t.Errorf("became %s", got)
	}
	if out := w.must("trace", "tarns", "8"); !strings.Contains(out, "deleted   at ") || !strings.Contains(out, "ms after the change") {
		t.Error(out)
	}

	// A change that is not delivered yet is reported. The read of the document must not be as slow: it would see the
	// change arrive.
	w.fault(`{"slow_bulk_ms": 20000}`)
	pgtest.Exec(t, lodge, "UPDATE tarns SET depth = '90' WHERE id = 9")
	w.eventually(10*time.Second, "it waits", func() error {
		if traced, err := w.client.Trace(t.Context(), "tarns", "9"); err != nil || traced.State != "waiting" || len(traced.Changes) != 1 {
			return fmt.Errorf("%+v %v", traced, err)
		}
		return nil
	})
}

// However slow or away the engine is, and whatever happens to the service, the status never says that an index is in sync while the
// engine lacks a change that was committed before Pingo last read the changes, and that is older than nearly all changes take.
func TestInSyncIsNeverSaidTooEarly(t *testing.T) {
	w := newWorld(t)
	lodge := pgtest.Connect(t, w.pg.URL("lodge"))
	pgtest.Exec(t, lodge, `CREATE TABLE tarns (id int PRIMARY KEY, n int NOT NULL);
		INSERT INTO tarns SELECT i, 0 FROM generate_series(1, 20) i`)
	w.serve()
	w.must("apply", "--yes", w.write(`
sources: { lodge: { kind: postgres, url: "${LODGE_URL}" } }
engines: { main: { kind: opensearch, url: "${SEARCH_URL}" } }
indexes:
  tarns: { engine: main, rows: lodge.tarns, fields: { n: { filter: true } } }
`))
	edition := w.edition("tarns")
	type commit struct {
		n  int
		at time.Time
	}
	var mu sync.Mutex
	commits := map[int][]commit{}
	ctx, stop := context.WithCancel(t.Context())
	var work sync.WaitGroup
	defer work.Wait()
	defer stop()
	writer := pgtest.Connect(t, w.pg.URL("lodge"))
	work.Go(func() {
		for n := 1; ctx.Err() == nil; n++ {
			id := n*7%20 + 1
			if _, err := writer.Exec(context.Background(), "UPDATE tarns SET n = $2 WHERE id = $1", id, n); err != nil {
				t.Error(err)
				return
			}
			mu.Lock()
			commits[id] = append(commits[id], commit{n, time.Now()})
			mu.Unlock()
			pause := 3 * time.Millisecond
			if n%200 == 0 {
				pause = 1200 * time.Millisecond // it is quiet now and then
			}
			time.Sleep(pause)
		}
	})
	work.Go(func() {
		for turn := 0; ctx.Err() == nil; turn++ {
			w.fault([]string{`{}`, `{"slow_ms": 250}`, `{}`, `{"unavailable": 10}`}[turn%4])
			time.Sleep(1500 * time.Millisecond)
		}
	})
	keys, err := json.Marshal(map[string]any{"ids": numbers(1, 20)})
	if err != nil {
		t.Fatal(err)
	}
	said, lies, killed := 0, 0, false
	for began := time.Now(); time.Since(began) < 10*time.Second && lies < 3; time.Sleep(5 * time.Millisecond) {
		if since := time.Since(began); since > 5*time.Second && !killed {
			killed = true
			w.kill()
			w.serve()
		}
		status, err := w.client.Status(t.Context())
		if err != nil || len(status.Indexes) == 0 || status.Indexes[0].State != api.StateInSync {
			continue
		}
		said++
		ix := status.Indexes[0]
		before := status.At.Add(-max(250*time.Millisecond, time.Duration(ix.Lag.P99*float64(time.Millisecond))))
		if ix.ReadAt.Before(before) {
			before = *ix.ReadAt
		}
		answer, err := http.Post(w.engine.URL+"/"+edition+"/_mget", "application/json", bytes.NewReader(keys))
		if err != nil {
			continue // it is away just now
		}
		var docs struct {
			Docs []struct {
				ID     string          `json:"_id"`
				Source struct{ N int } `json:"_source"`
			}
		}
		err = json.NewDecoder(answer.Body).Decode(&docs)
		answer.Body.Close()
		if err != nil || answer.StatusCode != 200 {
			continue
		}
		mu.Lock()
		for _, d := range docs.Docs {
			var id int
			fmt.Sscan(d.ID, &id)
			for _, c := range commits[id] {
				if c.n > d.Source.N && c.at.Before(before) {
					t.Errorf("%s at %s, with %.0f ms at p99: %s has %d, and not %d of %v before",
						ix.Sentence, status.At.Format("05.000"), ix.Lag.P99, d.ID, d.Source.N, c.n, status.At.Sub(c.at))
					lies++
					break
				}
			}
		}
		mu.Unlock()
	}
	if said < 50 {
		t.Errorf("in sync was reported %d times only", said)
	}
}

// A check that is under way when its process dies goes on where it was; one can be stopped; a sample says how sure
// it is, and a range is no more than that.
func TestChecksGoOnAfterARestart(t *testing.T) {
	w := newWorld(t)
	lodge := pgtest.Connect(t, w.pg.URL("lodge"))
	pgtest.Exec(t, lodge, `CREATE TABLE tarns (id int PRIMARY KEY, name text, seen int NOT NULL);
		INSERT INTO tarns SELECT i, 'tarn ' || i, 0 FROM generate_series(1, 3000) i`)
	w.serve()
	w.must("apply", "--yes", w.write(tarns("m", "    drift: { sweep: 0 }\n")))
	ask := func(args ...string) (o api.DriftOrder) {
		t.Helper()
		if err := json.Unmarshal([]byte(w.must(append(args, "-o", "json")...)), &o); err != nil {
			t.Fatal(err)
		}
		return o
	}
	until := func(what string, id int64, ok func(o *api.DriftOrder) bool) (o *api.DriftOrder) {
		t.Helper()
		w.eventually(20*time.Second, what, func() (err error) {
			if o, err = w.client.DriftOrder(t.Context(), "tarns", id); err == nil && !ok(o) {
				err = fmt.Errorf("%+v", o)
			}
			return err
		})
		return o
	}
	o := ask("drift", "check", "tarns", "--documents", "400", "--no-wait")
	until("it has begun", o.ID, func(o *api.DriftOrder) bool { return o.Compared > 1000 })
	w.kill()
	w.serve()
	done := until("it ends", o.ID, func(o *api.DriftOrder) bool { return o.EndedAt != nil })
	if done.Differing != 0 || done.Problem != "" || done.Compared < 3000 || done.Compared > 4000 {
		t.Errorf("%+v", done)
	}
	w.index(10*time.Second, "all of it is proven", "tarns", func(ix api.IndexStatus) bool { return ix.Drift.Hour == 1 })

	o = ask("drift", "check", "tarns", "--documents", "50", "--no-wait")
	until("it has begun", o.ID, func(o *api.DriftOrder) bool { return o.Compared > 0 })
	if out := w.must("drift", "stop", "tarns", fmt.Sprint(o.ID)); !strings.Contains(out, "it was stopped") {
		t.Error(out)
	}
	if _, errs, code := w.run("drift", "stop", "tarns", fmt.Sprint(o.ID)); code != 1 ||
		!strings.Contains(errs, "has ended already") {
		t.Errorf("%d %s", code, errs)
	}
	if o := ask("drift", "check", "tarns", "--sample", "500"); o.Compared < 400 || o.Compared > 700 || o.Most < 0.001 ||
		o.Most > 0.02 ||
		!strings.Contains(o.Sentence, "95% certain") {
		t.Errorf("%+v", o)
	}
	if o := ask("drift", "check", "tarns", "--after", "100", "--upto", "350"); o.Compared != 250 || o.Rows != 250 {
		t.Errorf("%+v", o)
	}
	for args, words := range map[string]string{
		"drift check lakes": "is not known", "drift check tarns --content much": "a share such as 10%",
		"drift check tarns --sample 5 --after 7": "leave out after and upto", "repair tarns --kind odd": "missing, stale, altered or orphaned",
		"drift check tarns --edition tarns-e9": "is not known", "drift stop tarns seven": "has a number", "repair": "takes an index",
	} {
		if _, errs, code := w.run(append(strings.Fields(args), "-o", "json")...); code == 0 ||
			!strings.Contains(errs, words) {
			t.Errorf("%s: exit %d: %s", args, code, errs)
		}
	}
}
