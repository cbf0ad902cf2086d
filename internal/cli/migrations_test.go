package cli_test

import (
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"pingo/internal/api"
	"pingo/internal/lab/pgtest"
)

var migrationSteps = regexp.MustCompile("(?s)```(sql|yaml|sh)\n(.*?)```|(?m)^State: ([a-z ]+)$")

// Each migration of docs/howto/migrations.md, in the order that the page gives, has the state in between that it says, and ends with
// documents that are what the rows make. Before it runs, check --after accepts the pair, and refuses the migration alone where
// the page says that it blocks the index.
func TestMigrationsOfTheManual(t *testing.T) {
	page, err := os.ReadFile(filepath.Join("..", "..", "docs", "howto", "migrations.md"))
	if err != nil {
		t.Fatal(err)
	}
	_, text, _ := strings.Cut(string(page), "## The examples\n")
	sections := strings.Split(text, "\n## ")
	start := migrationSteps.FindAllStringSubmatch(sections[0], -1)
	if len(start) != 2 || len(sections) < 10 {
		t.Fatalf("%d blocks at the start, %d sections", len(start), len(sections))
	}
	w := newWorld(t)
	lodge := pgtest.Connect(t, w.pg.URL("lodge"))
	w.serve()
	definition := func(index string) string {
		return "sources: { lodge: { kind: postgres, url: \"${LODGE_URL}\" } }\nengines: { main: { kind: opensearch, url: \"${SEARCH_URL}\" } }\nindexes:\n  " +
			strings.ReplaceAll(strings.TrimSpace(index), "\n", "\n  ") + "\n"
	}
	defer func() { // what cannot be tried says why, and where
		file := w.write(definition("huts: { engine: main, rows: lodge.huts, fields: [name] }"))
		for migration, want := range map[string]string{
			"CREATE TABLE a (id int);\n\nROLLBACK;":             ":3:1: a migration that is tried cannot control transactions",
			"ALTER TABLE nope ADD x int":                        ":1:1: relation \"nope\" does not exist",
			"CREATE TABLE huts (id int PRIMARY KEY, name text)": "index huts",
			"CREATE SCHEMA app; SET search_path TO app; CREATE TABLE a (id int); CREATE UNIQUE INDEX CONCURRENTLY ON a (id); SET search_path = public; CREATE TABLE huts (id int PRIMARY KEY, name text); GRANT SELECT ON huts TO PUBLIC": "index huts",
		} {
			path := filepath.Join(t.TempDir(), "migration.sql")
			if err := os.WriteFile(path, []byte(migration), 0o600); err != nil {
				t.Fatal(err)
			}
			if out, errs, _ := w.run("check", file, "--after", "lodge="+path); !strings.Contains(out, want) {
				t.Errorf("%s: no %q in %s%s", migration, want, out, errs)
			}
		}
		if _, errs, code := w.run("check", file, "--after", "lodges=pingo.yaml"); code == 0 || errs == "" {
			t.Errorf("a source that is not there: %d %s", code, errs)
		}
		var left int
		if err := lodge.QueryRow(t.Context(), "SELECT count(*) FROM pg_tables WHERE tablename IN ('a', 'huts')").Scan(&left); err != nil || left > 0 {
			t.Errorf("%d tables of migrations that were tried are left, %v", left, err)
		}
	}()
	for _, section := range sections[1:] {
		title, body, _ := strings.Cut(section, "\n")
		pgtest.Exec(t, lodge, "DROP TABLE IF EXISTS huts, shelters, features, hut_features CASCADE")
		pgtest.Exec(t, lodge, start[0][2])
		current := definition(start[1][2])
		apply := func() {
			w.must("apply", "--yes", w.write(current))
			w.index(20*time.Second, title, "huts", func(ix api.IndexStatus) bool { return ix.State == api.StateInSync && ix.Live })
		}
		apply()
		steps := migrationSteps.FindAllStringSubmatch(body, -1)
		if len(steps) < 2 {
			t.Fatalf("%s has %d steps", title, len(steps))
		}
		for i, step := range steps {
			switch {
			case step[1] == "sql":
				blocked := i+1 < len(steps) && strings.HasPrefix(steps[i+1][3], "blocked")
				migration := filepath.Join(t.TempDir(), "migration.sql")
				if err := os.WriteFile(migration, []byte("BEGIN;\n"+step[2]+"COMMIT;\n"), 0o600); err != nil {
					t.Fatal(err)
				}
				if title != "Remove a table" { // no index is left there
					out, errs, code := w.run("check", w.write(current), "--after", "lodge="+migration)
					if refused := code == 3; refused != blocked {
						t.Errorf("%s: check --after: exit %d, and the page says blocked: %v\n%s%s", title, code, blocked, out, errs)
					}
				}
				pgtest.Exec(t, lodge, step[2])
				// A row that exists changes: it arrives, or waits.
				if !strings.Contains(step[2], "DROP TABLE huts") {
					table := "huts"
					if strings.Contains(step[2], "shelters") {
						table = "shelters"
					}
					pgtest.Exec(t, lodge, "UPDATE "+table+" SET name = name || '+' WHERE name LIKE 'Hut 1%'")
				}
			case step[1] == "yaml":
				current = definition(step[2])
				apply()
				w.must("wait", "huts")
				w.equalTo(lodge, current, "huts", 0)
			case step[1] == "sh":
				w.must(strings.Fields(strings.TrimPrefix(strings.TrimSpace(step[2]), "pingo "))...)
			default:
				w.index(4*time.Second, fmt.Sprintf("%s: the state between", title), "huts", func(ix api.IndexStatus) bool { return ix.State == step[3] })
				if step[3] == api.StateInSync && title != "Change a type" && !strings.Contains(steps[i-1][2], "PRIMARY KEY USING") { // documents have the old one until the switch
					w.must("wait", "huts")
					w.equalTo(lodge, current, "huts", 0)
				}
			}
			if t.Failed() {
				t.FailNow()
			}
		}
	}
}
