package cli_test

import (
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"pingo/internal/api"
	"pingo/internal/lab/pgtest"
)

// A role that owns no table does its work after its first day, too: a definition changes, a table is put into the place of
// another one, and each time the owner runs what pingo capture show prints. Until then one sentence says so, and no edition
// is filled repeatedly.
func TestLeastRightsOnTheSecondDay(t *testing.T) {
	w := newWorld(t)
	lodge := pgtest.Connect(t, w.pg.URL("lodge"))
	pgtest.Exec(t, lodge, `CREATE ROLE guest LOGIN PASSWORD 'guest';
		CREATE TABLE tarns (id int PRIMARY KEY, name text, depth int); INSERT INTO tarns SELECT i, 'tarn ' || i, i FROM generate_series(1, 50) i;
		CREATE TABLE huts (id int PRIMARY KEY, name text); GRANT SELECT ON tarns, huts TO guest`)
	url := strings.Replace(w.pg.URL("lodge"), "pingo:", "guest:guest@", 1)
	if at := strings.LastIndex(url, "@"); at > 0 {
		url = "postgres://guest:guest" + url[at:]
	}
	w.env = append(w.env, "GUEST_URL="+url)
	definition := func(indexes string) string {
		return w.write("sources: { lodge: { kind: postgres, url: \"${GUEST_URL}\" } }\nengines: { main: { kind: opensearch, url: \"${SEARCH_URL}\" } }\nindexes:\n" + indexes)
	}
	w.serve()
	const tarns, huts = "  tarns: { engine: main, rows: lodge.tarns, fields: [name] }\n", "  huts: { engine: main, rows: lodge.huts, fields: [name] }\n"
	const deeper = "  tarns: { engine: main, rows: lodge.tarns, fields: [name, depth] }\n"
	byOwner := func(path string) {
		t.Helper()
		pgtest.Exec(t, lodge, w.must("capture", "show", path))
	}
	first := definition(tarns + huts)
	byOwner(first)
	w.must("apply", "--yes", first)

	// A column more, and an index less.
	second := definition(deeper)
	if out, _, code := w.run("check", second); code != 3 || !strings.Contains(out, "triggers on public.tarns") {
		t.Errorf("check: exit %d\n%s", code, out)
	}
	byOwner(second)
	w.must("apply", "--yes", second, "--accept", "huts")
	pgtest.Exec(t, lodge, "UPDATE tarns SET depth = 99 WHERE id = 7")
	w.must("wait", "tarns")
	if out := w.must("search", "tarns", "tarn 7", "-o", "json"); !strings.Contains(out, "99") {
		t.Error(out)
	}
	byOwner(second) // the index huts was kept in sync until now
	var left int
	if err := lodge.QueryRow(t.Context(), "SELECT count(*) FROM pg_trigger WHERE tgrelid = 'huts'::regclass").Scan(&left); err != nil || left > 0 {
		t.Errorf("%d triggers stay on a table that is not captured any longer, %v", left, err)
	}

	// Another table in its place.
	w.index(20*time.Second, "in sync", "tarns", func(ix api.IndexStatus) bool { return ix.State == api.StateInSync })
	before := w.edition("tarns")
	pgtest.Exec(t, lodge, "BEGIN; CREATE TABLE fresh (LIKE tarns INCLUDING ALL); INSERT INTO fresh SELECT * FROM tarns; DROP TABLE tarns; ALTER TABLE fresh RENAME TO tarns; GRANT SELECT ON tarns TO guest; COMMIT")
	pgtest.Exec(t, lodge, "UPDATE tarns SET name = 'unnoticed' WHERE id = 8")
	w.index(20*time.Second, "the owner is asked", "tarns", func(ix api.IndexStatus) bool {
		return ix.State == api.StateBlocked && strings.Contains(ix.Sentence, "Run as the owner what pingo capture show prints. Pingo then refills the index.")
	})
	time.Sleep(10 * time.Second) // several looks
	if now := w.edition("tarns"); now != before {
		t.Errorf("%s was filled before the triggers stand", now)
	}
	byOwner(second)
	w.index(30*time.Second, "another edition is in sync", "tarns", func(ix api.IndexStatus) bool {
		return ix.State == api.StateInSync && ix.Edition != before
	})
	if out := w.must("search", "tarns", "unnoticed"); !strings.Contains(out, "unnoticed") {
		t.Error(out)
	}
	runs, err := w.client.Runs(t.Context(), "tarns")
	if err != nil || len(runs) > 3 {
		t.Errorf("%d editions were filled, %v", len(runs), err)
	}

	// A drop says what the owner has to do.
	third := definition(deeper + huts)
	byOwner(third)
	w.must("apply", "--yes", third)
	for _, index := range []string{"huts", "tarns"} {
		dropped, err := w.client.Drop(t.Context(), index)
		if err != nil || dropped.Pending == "" || dropped.Script == "" {
			t.Fatalf("dropping %s: %+v, %v", index, dropped, err)
		}
		pgtest.Exec(t, lodge, dropped.Script)
		if err := lodge.QueryRow(t.Context(), "SELECT count(*) FROM pg_trigger WHERE tgrelid = $1::regclass", index).Scan(&left); err != nil || left > 0 {
			t.Errorf("%d triggers stay on %s, %v", left, index, err)
		}
	}
}

// On the first day, a role without rights learns all that it needs in two steps.
func TestLeastRightsOnTheFirstDay(t *testing.T) {
	w := newWorld(t)
	lodge := pgtest.Connect(t, w.pg.URL("lodge"))
	pgtest.Exec(t, lodge, `CREATE ROLE guest LOGIN PASSWORD 'guest'; CREATE SCHEMA shop;
		CREATE TABLE shop.lands (id int PRIMARY KEY, name text);
		CREATE TABLE shop.huts (id int PRIMARY KEY, name text, land_id int); CREATE TABLE shop.ties (hut_id int, tag_id int); CREATE TABLE shop.tags (id int PRIMARY KEY, name text)`)
	at := w.pg.URL("lodge")
	w.env = append(w.env, "GUEST_URL=postgres://guest:guest"+at[strings.LastIndex(at, "@"):])
	w.serve()
	path := w.write(`sources: { lodge: { kind: postgres, url: "${GUEST_URL}" } }
engines: { main: { kind: opensearch, url: "${SEARCH_URL}" } }
indexes:
  huts:
    engine: main
    rows: lodge.shop.huts
    fields: [name]
    related:
      land: { one: shop.lands, on: { id: land_id }, fields: [name] }
      tags: { many: shop.tags, fields: [name], through: { table: shop.ties, on: { hut_id: id }, to: { id: tag_id } } }
`)
	for range 2 {
		pgtest.Exec(t, lodge, w.must("capture", "show", path))
	}
	w.must("apply", "--yes", path)
	pgtest.Exec(t, lodge, "INSERT INTO shop.huts VALUES (1, 'Grim', 1)")
	w.must("wait", "huts")
	if out := w.must("search", "huts", "grim"); !strings.Contains(out, "Grim") {
		t.Error(out)
	}
}

// A test suite of an application recreates its tables for every test, as frameworks do it, while Pingo follows them: no
// statement fails, and once the suite is over the index is in sync within seconds.
func TestSuitesThatRecreateTables(t *testing.T) {
	w := newWorld(t)
	lodge := pgtest.Connect(t, w.pg.URL("lodge"))
	const tables = `CREATE TABLE regions (id serial PRIMARY KEY, name text NOT NULL);
		CREATE TABLE tarns (id serial PRIMARY KEY, name text NOT NULL, region_id int REFERENCES regions ON DELETE CASCADE)`
	pgtest.Exec(t, lodge, tables)
	w.serve()
	path := w.write(`sources: { lodge: { kind: postgres, url: "${LODGE_URL}" } }
engines: { main: { kind: opensearch, url: "${SEARCH_URL}" } }
indexes:
  tarns: { engine: main, rows: lodge.tarns, fields: [name], related: { region: { one: regions, on: { id: region_id }, fields: [name] } } }
`)
	w.must("apply", "--yes", path)
	const rounds = 200
	rollBack := func(sql string) { pgtest.Exec(t, lodge, "BEGIN; "+sql+"; ROLLBACK") }
	for round := range rounds {
		pgtest.Exec(t, lodge, "DROP TABLE IF EXISTS tarns CASCADE; DROP TABLE IF EXISTS regions CASCADE")
		pgtest.Exec(t, lodge, tables)
		pgtest.Exec(t, lodge, "ALTER TABLE tarns ADD depth int; INSERT INTO regions (name) SELECT 'region ' || i FROM generate_series(1, 5) i")
		pgtest.Exec(t, lodge, "INSERT INTO tarns (name, region_id) SELECT 'tarn ' || i, 1 + i % 5 FROM generate_series(1, 40) i")
		rollBack("DELETE FROM regions; INSERT INTO tarns (name) VALUES ('never')")
		pgtest.Exec(t, lodge, "TRUNCATE tarns, regions RESTART IDENTITY CASCADE")
		pgtest.Exec(t, lodge, "INSERT INTO regions (name) VALUES ($1)", fmt.Sprint("region of round ", round))
		pgtest.Exec(t, lodge, "INSERT INTO tarns (name, region_id) SELECT 'tarn ' || i, 1 FROM generate_series(1, 10) i")
		pgtest.Exec(t, lodge, "DELETE FROM tarns WHERE id > 5; UPDATE tarns SET name = name || '!'")
		if round%10 == 9 {
			pgtest.Exec(t, lodge, "ALTER TABLE tarns RENAME TO away; ALTER TABLE away RENAME TO tarns; ALTER TABLE tarns DROP name, ADD name text NOT NULL DEFAULT 'unnamed'")
		}
	}
	over := time.Now()
	w.eventually(20*time.Second, "the last round is found", func() error {
		out, _, _ := w.run("search", "tarns", "round", "-o", "json")
		if strings.Count(out, fmt.Sprint("region of round ", rounds-1)) != 5 {
			return errors.New(out)
		}
		return nil
	})
	w.index(20*time.Second, "in sync after the last round", "tarns", func(ix api.IndexStatus) bool { return ix.State == api.StateInSync })
	t.Logf("in sync %v after the last round", time.Since(over).Round(time.Millisecond))
	runs, err := w.client.Runs(t.Context(), "tarns")
	if err != nil || len(runs) > 20 {
		t.Errorf("%d editions were filled for %d rounds, %v", len(runs), rounds, err)
	}
	t.Logf("%d editions", len(runs))
}

// A database without sessions can be copied, renamed and dropped: Pingo lets go of it when it is asked to, keeps capturing,
// and knows a database that was recreated meanwhile.
func TestDisconnectedSourcesLetGo(t *testing.T) {
	w := newWorld(t)
	lodge := pgtest.Connect(t, w.pg.URL("lodge"))
	pgtest.Exec(t, lodge, "CREATE TABLE tarns (id int PRIMARY KEY, name text); INSERT INTO tarns SELECT i, 'tarn ' || i FROM generate_series(1, 20) i")
	root := pgtest.Connect(t, w.pg.URL("postgres"))
	w.serve()
	path := w.write(`sources: { lodge: { kind: postgres, url: "${LODGE_URL}" } }
engines: { main: { kind: opensearch, url: "${SEARCH_URL}" } }
indexes: { tarns: { engine: main, rows: lodge.tarns, fields: [name] } }
`)
	w.must("apply", "--yes", path)
	pgtest.Exec(t, lodge, "UPDATE tarns SET name = 'before' WHERE id = 1")
	lodge.Close(t.Context())
	if _, err := root.Exec(t.Context(), "CREATE DATABASE copy TEMPLATE lodge"); err == nil {
		t.Fatal("a database with sessions was copied: the test proves nothing")
	}
	if out := w.must("source", "disconnect", "lodge", "--for", "1h"); !strings.Contains(out, "these indexes wait: tarns") {
		t.Error(out)
	}
	pgtest.Exec(t, root, "CREATE DATABASE copy TEMPLATE lodge")
	pgtest.Exec(t, root, "ALTER DATABASE lodge RENAME TO away; ALTER DATABASE away RENAME TO lodge")
	w.index(5*time.Second, "the status says why", "tarns", func(ix api.IndexStatus) bool {
		return ix.State == api.StateWaiting && strings.Contains(ix.Sentence, "lodge is disconnected until") && strings.Contains(ix.Sentence, "pingo source connect lodge")
	})
	if _, stderr, code := w.run("preview", "tarns", "1"); code != 1 || !strings.Contains(stderr, "lodge is disconnected until") {
		t.Errorf("preview: exit %d: %s", code, stderr)
	}
	write := pgtest.Connect(t, w.pg.URL("lodge"))
	pgtest.Exec(t, write, "UPDATE tarns SET name = 'meanwhile' WHERE id = 2; INSERT INTO tarns VALUES (21, 'meanwhile')")
	write.Close(t.Context())
	w.must("source", "connect", "lodge")
	w.index(15*time.Second, "in sync again", "tarns", func(ix api.IndexStatus) bool { return ix.State == api.StateInSync && ix.Trouble == nil })
	if out := w.must("search", "tarns", "meanwhile", "-o", "json"); strings.Count(out, `"meanwhile"`) != 2 {
		t.Error(out)
	}

	// The time ends by itself, and another database is in its place.
	w.must("source", "disconnect", "lodge", "--for", "4s")
	pgtest.Exec(t, root, "DROP DATABASE lodge")
	pgtest.Exec(t, root, "CREATE DATABASE lodge")
	write = pgtest.Connect(t, w.pg.URL("lodge"))
	pgtest.Exec(t, write, "CREATE TABLE tarns (id int PRIMARY KEY, name text); INSERT INTO tarns VALUES (1, 'another')")
	w.index(30*time.Second, "the status says what is missing", "tarns", func(ix api.IndexStatus) bool {
		return ix.State == api.StateBlocked && strings.Contains(ix.Sentence, "capture was removed from this database")
	})
	w.must("apply", "--yes", path)
	w.index(30*time.Second, "in sync with another database", "tarns", func(ix api.IndexStatus) bool { return ix.State == api.StateInSync })
	if out := w.must("search", "tarns", "-o", "json"); !strings.Contains(out, "another") || strings.Contains(out, "tarn 3") {
		t.Error(out)
	}
	for _, bad := range [][]string{{"source", "disconnect", "lodge", "--for", "0s"}, {"source", "disconnect", "nowhere"}, {"source", "connect", "nowhere"}} {
		if _, stderr, code := w.run(bad...); code == 0 || stderr == "" {
			t.Errorf("%v: exit %d", bad, code)
		}
	}
}
