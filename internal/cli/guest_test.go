package cli_test

import (
	"strings"
	"testing"
	"time"

	"pingo/internal/api"
	"pingo/internal/lab/pgtest"
)

// A role that owns no table does its work after its first day, too: a definition changes, a table is put into the place of
// another one, and each time the owner runs what pingo capture show prints. Until then one sentence says so, and no edition
// is filled again and again.
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
}
