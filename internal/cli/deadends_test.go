package cli_test

import (
	"strings"
	"testing"
	"time"

	"pingo/internal/api"
	"pingo/internal/lab/pgtest"
)

// A table that was dropped with what the definition has of it leaves no one stuck: what names it is reported as wrong at
// its place, a definition without it is checked and applied, and capture can be shown, installed and removed.
func TestADroppedTableIsLeftBehind(t *testing.T) {
	w := newWorld(t)
	lodge := pgtest.Connect(t, w.pg.URL("lodge"))
	pgtest.Exec(t, lodge, `
		CREATE TABLE regions (id int PRIMARY KEY, name text);
		CREATE TABLE huts (id int PRIMARY KEY, name text, region_id int REFERENCES regions);
		CREATE TABLE keepers (id int PRIMARY KEY, name text);
		INSERT INTO regions VALUES (1, 'Tarn'); INSERT INTO huts VALUES (1, 'Grim', 1), (2, 'Skarn', 1); INSERT INTO keepers VALUES (1, 'Ona')`)
	const head = `
sources: { lodge: { kind: postgres, url: "${LODGE_URL}" } }
engines: { main: { kind: opensearch, url: "${SEARCH_URL}" } }
indexes:
`
	const before = head + `
  huts: { engine: main, rows: lodge.huts, fields: [name], related: { region: { one: regions, on: { id: region_id }, fields: [name] } } }
  keepers: { engine: main, rows: lodge.keepers, fields: [name] }
`
	const after = head + "  huts: { engine: main, rows: lodge.huts, fields: [name] }\n"
	w.env = append(w.env, "PINGO_SECRETS_ENV=LODGE_*,SEARCH_URL")
	w.serve()
	if out, errs, code := w.run("check", w.write(strings.Replace(before, "${SEARCH_URL}", "http://127.0.0.1:1/${PATH}", 1))); code != 3 ||
		!strings.Contains(out+errs, "the variable PATH is not given to definitions") ||
		!strings.Contains(out, "gives definitions variables LODGE_*, SEARCH_URL") {
		t.Errorf("a variable that is not given: %d %s%s", code, out, errs)
	}
	w.must("apply", "--yes", w.write(before))
	inSync := func(ix api.IndexStatus) bool { return ix.State == api.StateInSync && ix.Live }
	w.index(20*time.Second, "filled", "huts", inSync)
	w.index(20*time.Second, "filled", "keepers", inSync)
	pgtest.Exec(
		t,
		lodge,
		"DROP TABLE regions CASCADE; DROP TABLE keepers CASCADE; INSERT INTO huts VALUES (3, 'Late', 1)",
	)
	w.index(
		15*time.Second,
		"it is noticed",
		"keepers",
		func(ix api.IndexStatus) bool { return ix.State == api.StateBlocked },
	)
	if out, errs, code := w.run("check", w.write(before)); code != 3 || !strings.Contains(out+errs, "regions") ||
		!strings.Contains(out+errs, "keepers") {
		t.Errorf("a check of what is gone: %d %s%s", code, out, errs)
	}
	if out, errs, code := w.run("check", w.write(after)); code == 3 || code == 1 {
		t.Errorf("a check without it: %d %s%s", code, out, errs)
	}
	w.must("capture", "show")
	if out, errs, code := w.run("capture", "install"); code != 1 ||
		!strings.Contains(errs, "to reinstall capture") {
		t.Errorf("capture install: %d %s%s", code, out, errs)
	}
	w.must("apply", "--yes", "--accept", "keepers", w.write(after))
	w.index(30*time.Second, "goes on without it", "huts", func(ix api.IndexStatus) bool {
		return inSync(ix) && ix.Documents != nil && *ix.Documents == 3
	})
	pgtest.Exec(t, lodge, "INSERT INTO huts VALUES (4, 'Later', 1)")
	w.index(
		10*time.Second,
		"changes arrive",
		"huts",
		func(ix api.IndexStatus) bool { return ix.Documents != nil && *ix.Documents == 4 },
	)
	w.must("capture", "remove", "--yes")
}
