package cli_test

import (
	"fmt"
	"os/exec"
	"strings"
	"syscall"
	"testing"
	"time"

	"pingo/internal/lab/pgtest"
)

// Four processes that have nothing to do ask little of the records, and hold few connections of the sources.
func TestIdleProcesses(t *testing.T) {
	w := newWorld(t)
	lodge, records := pgtest.Connect(t, w.pg.URL("lodge")), pgtest.Connect(t, w.pg.URL("pingo"))
	var definition strings.Builder
	definition.WriteString("sources: { lodge: { kind: postgres, url: \"${LODGE_URL}\" }, tables: { kind: postgres, url: \"${TABLES_URL}\", capture: poll, poll: { tables: { p: at } } }, hook: { kind: webhook, unsigned: allowed, records: { bulletins: { key: /id, schema: { properties: { title: { type: string } } } } } } }\nengines: { main: { kind: opensearch, url: \"${SEARCH_URL}\" } }\nindexes:\n")
	for i := range 6 {
		pgtest.Exec(t, lodge, fmt.Sprintf("CREATE TABLE t%d (id int PRIMARY KEY, name text); INSERT INTO t%[1]d VALUES (1, 'Blea')", i))
		fmt.Fprintf(&definition, "  i%d: { engine: main, rows: lodge.t%[1]d, fields: [name] }\n", i)
	}
	definition.WriteString("  b: { engine: main, rows: hook.bulletins, fields: [title] }\n  p: { engine: main, rows: tables.p, fields: [name] }\n")
	pgtest.Exec(t, pgtest.Connect(t, w.pg.URL("tables")), "CREATE TABLE p (id int PRIMARY KEY, name text, at timestamptz NOT NULL DEFAULT now())")
	w.serve()
	w.must("apply", "--yes", w.write(definition.String()))
	for range 3 {
		p := w.process(freeAddress(t))
		t.Cleanup(func() {
			_ = p.Process.Signal(syscall.SIGTERM)
			_ = p.Wait()
		})
		_ = exec.Cmd{}
	}
	time.Sleep(45 * time.Second)
	n := func(sql string) (out int64) {
		if err := records.QueryRow(t.Context(), sql).Scan(&out); err != nil {
			t.Fatal(err)
		}
		return out
	}
	const commits = "SELECT xact_commit + xact_rollback FROM pg_stat_database WHERE datname = 'pingo'"
	pgtest.Exec(t, records, "CREATE EXTENSION IF NOT EXISTS pg_stat_statements")
	before := n(commits)
	pgtest.Exec(t, records, "SELECT pg_stat_statements_reset()")
	time.Sleep(20 * time.Second)
	t.Logf("%d transactions a second; connections: pingo %d lodge %d", (n(commits)-before)/20, n("SELECT count(*) FROM pg_stat_activity WHERE datname = 'pingo'"), n("SELECT count(*) FROM pg_stat_activity WHERE datname = 'lodge'"))
	rows, err := records.Query(t.Context(), "SELECT calls, left(query, 150) FROM pg_stat_statements s JOIN pg_database d ON d.oid = s.dbid WHERE datname = 'pingo' ORDER BY calls DESC LIMIT 40")
	if err != nil { t.Log(err); return }
	for rows.Next() { var c int64; var q string; rows.Scan(&c, &q); t.Log(c, strings.ReplaceAll(q, "\n", " ")) }
}
