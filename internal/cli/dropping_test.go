package cli_test

import (
	"fmt"
	"net/http"
	"os"
	"strings"
	"testing"
	"time"

	"pingo/internal/api"
	"pingo/internal/lab/pgtest"
)

// One index is checked, applied and dropped while the others stay as they are; in the end nothing of Pingo is left.
func TestOneIndexAtATime(t *testing.T) {
	w := newWorld(t)
	lodge := pgtest.Connect(t, w.pg.URL("lodge"))
	for _, table := range []string{"huts", "keepers", "trails"} {
		pgtest.Exec(t, lodge, "CREATE TABLE "+table+" (id int PRIMARY KEY, name text, beds int); INSERT INTO "+table+" VALUES (1, 'Grim', 2), (2, 'Skarn', 4)")
	}
	definition := func(huts, keepers string) string {
		return w.write(fmt.Sprintf(`
# the lodge
sources: { lodge: { kind: postgres, url: "${LODGE_URL}" } }
engines:
  main: { kind: opensearch, url: "${SEARCH_URL}" }
  tables: { kind: postgres, url: "${TABLES_URL}" }
indexes:
  huts: { engine: main, rows: lodge.huts, fields: [%s] }
  keepers: { engine: main, rows: lodge.keepers, fields: [%s] }
  trails: { engine: tables, rows: lodge.trails, fields: [name] }
`, huts, keepers))
	}
	names := func() string {
		t.Helper()
		status, err := w.client.Status(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		var out []string
		for _, ix := range status.Indexes {
			out = append(out, ix.Name)
		}
		return strings.Join(out, " ")
	}
	triggers := func(table string) (n int) {
		t.Helper()
		if err := lodge.QueryRow(t.Context(), "SELECT count(*) FROM pg_trigger WHERE NOT tgisinternal AND tgrelid = to_regclass($1)", table).Scan(&n); err != nil {
			t.Fatal(err)
		}
		return n
	}
	w.serve()
	first := definition("name", "name")
	if _, errs, code := w.run("check", "--index", "tarns", first); code != 1 || !strings.Contains(errs, `no index "tarns"`) {
		t.Errorf("an index that is not there: %d %s", code, errs)
	}
	// A source that cannot be used stops only its own indexes.
	broken := w.write(strings.Replace(readFile(t, first), "rows: lodge.trails", "rows: away.trails", 1))
	broken = w.write(strings.Replace(readFile(t, broken), "sources: {", `sources: { away: { kind: postgres, url: "postgres://127.0.0.1:1/x" },`, 1))
	out, errs, code := w.run("apply", "--yes", broken)
	if code != 3 || !strings.Contains(out, "These indexes can be applied alone: pingo apply --index huts --index keepers\n") {
		t.Errorf("a source that does not answer: %d %s%s", code, out, errs)
	}
	w.must("apply", "--yes", "--index", "huts", broken)
	if got := names(); got != "huts" || triggers("keepers") > 0 {
		t.Errorf("after one index was applied there are: %s", got)
	}
	w.must("apply", "--yes", first)
	w.index(20*time.Second, "filled", "trails", func(ix api.IndexStatus) bool { return ix.Live && ix.State == api.StateInSync })
	keepers := w.edition("keepers")

	second := definition("name, beds", "name, beds")
	out, _, code = w.run("check", "--index", "huts", second)
	if code != 5 || strings.Contains(out, "index keepers") || strings.Contains(out, "engine tables") || !strings.Contains(out, "beds") {
		t.Errorf("a check of one index: %d %s", code, out)
	}
	out = w.must("apply", "--yes", "--index", "huts", second)
	if strings.Contains(out, "keepers") || w.edition("keepers") != keepers {
		t.Errorf("another index was applied, too: %s", out)
	}
	if out := w.must("preview", "huts", "1"); !strings.Contains(out, "beds") {
		t.Errorf("the index was not applied: %s", out)
	}
	if out, _, code := w.run("check", second); code != 5 || !strings.Contains(out, "unchanged: huts, trails\n") || !strings.Contains(out, "index keepers") {
		t.Errorf("a check of all: %d %s", code, out)
	}

	if _, errs, code := w.run("drop", "keepers"); code != 2 || !strings.Contains(errs, keepers+" in engine main, which is live as keepers") ||
		!strings.Contains(errs, "source lodge: the capture of public.keepers") || !strings.Contains(errs, "pass --yes") {
		t.Errorf("what would go: %d %s", code, errs)
	}
	out = w.must("drop", "keepers", "--yes")
	if got := names(); got != "huts trails" || triggers("keepers") > 0 || triggers("huts") == 0 {
		t.Errorf("after a drop there are %s, %d triggers: %s", got, triggers("keepers"), out)
	}
	for _, name := range []string{"keepers", keepers} {
		response, err := http.Get(w.engine.URL + "/" + name)
		if err != nil {
			t.Fatal(err)
		}
		response.Body.Close()
		if response.StatusCode != http.StatusNotFound {
			t.Errorf("%s is still in the engine: %s", name, response.Status)
		}
	}
	if out := w.must("definition", "show"); strings.Contains(out, "keepers") || !strings.Contains(out, "# the lodge") {
		t.Errorf("the definition in force:\n%s", out)
	}
	if _, errs, code := w.run("drop", "keepers", "--yes"); code != 1 || !strings.Contains(errs, "keepers") {
		t.Errorf("dropped twice: %d %s", code, errs)
	}

	out = w.must("uninstall", "--yes")
	if !strings.Contains(out, "DROP SCHEMA pingo_search CASCADE") || strings.Contains(out, "could not remove") || names() != "" {
		t.Errorf("%s, and %q are left", out, names())
	}
	var left int
	if err := lodge.QueryRow(t.Context(), `SELECT (SELECT count(*) FROM pg_trigger WHERE NOT tgisinternal)
		+ (SELECT count(*) FROM pg_namespace WHERE nspname LIKE 'pingo%')`).Scan(&left); err != nil || left != 0 {
		t.Errorf("%d things are left in the source, %v\n%s", left, err, out)
	}
	var tables int
	if err := pgtest.Connect(t, w.pg.URL("tables")).QueryRow(t.Context(), `SELECT count(*) FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
		WHERE n.nspname = 'pingo_search' AND c.relname LIKE 'trails%'`).Scan(&tables); err != nil || tables != 0 {
		t.Errorf("%d tables and views of trails are left, %v", tables, err)
	}
	w.must("apply", "--yes", second)
	w.index(20*time.Second, "it comes back", "huts", func(ix api.IndexStatus) bool { return ix.Live && ix.Documents != nil && *ix.Documents == 2 })
}

// Where rows are polled, trace says what no poll can see of the row.
func TestTracingARowThatIsPolled(t *testing.T) {
	w := newWorld(t)
	lodge := pgtest.Connect(t, w.pg.URL("lodge"))
	pgtest.Exec(t, lodge, `CREATE TABLE regions (id int PRIMARY KEY, name text); INSERT INTO regions VALUES (1, 'Tarn');
		CREATE TABLE huts (id int PRIMARY KEY, name text, region_id int, changed timestamptz DEFAULT now());
		INSERT INTO huts VALUES (1, 'Grim', 1), (2, 'Skarn', 1), (3, 'Blea', 1), (4, 'Ona', 1)`)
	w.serve()
	w.must("apply", "--yes", w.write(`
sources: { lodge: { kind: postgres, url: "${LODGE_URL}", capture: poll, poll: { tables: { huts: changed }, every: 50ms, overlap: 1s, compare: 6h } } }
engines: { main: { kind: opensearch, url: "${SEARCH_URL}" } }
indexes: { huts: { engine: main, rows: lodge.huts, fields: [name], related: { region: { one: regions, on: { id: region_id }, fields: [name] } } } }
`))
	// The position passes these rows before they change.
	pgtest.Exec(t, lodge, "INSERT INTO huts VALUES (5, 'Late', 1, now() + interval '2 seconds')")
	w.index(20*time.Second, "polled", "huts", func(ix api.IndexStatus) bool { return ix.Documents != nil && *ix.Documents == 5 })
	time.Sleep(3 * time.Second)
	pgtest.Exec(t, lodge, `UPDATE huts SET name = 'Renamed' WHERE id = 1; DELETE FROM huts WHERE id = 2;
		UPDATE huts SET name = 'Blank', changed = NULL WHERE id = 3`)
	for key, want := range map[string][]string{
		"1": {"changed of this row is before ", "did not raise changed", "Pingo does not poll public.regions"},
		"2": {"the row does not exist", "A poll does not see that a row was deleted: Pingo finds it when it compares all rows, which is due at "},
		"3": {"changed of this row is NULL"},
	} {
		out := w.must("trace", "huts", key)
		for _, words := range want {
			if !strings.Contains(out, words) {
				t.Errorf("%s: no %q in %s", key, words, out)
			}
		}
		if strings.Contains(out, "missed a change") {
			t.Errorf("%s: a change that no poll sees is reported as lost: %s", key, out)
		}
	}
	if out := w.must("trace", "huts", "4"); strings.Contains(out, "poll") {
		t.Errorf("a row that is right: %s", out)
	}
}

func readFile(t *testing.T, path string) string {
	t.Helper()
	text, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	return string(text)
}
