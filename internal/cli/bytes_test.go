package cli_test

import (
	neturl "net/url"
	"strings"
	"testing"
	"time"

	"pingo/internal/api"
	"pingo/internal/lab/pgtest"
)

// A row whose text is no text, in its key or next to it, holds up no other: it is failed where an engine refuses it, and
// all else is in sync.
func TestTextsThatAreNone(t *testing.T) {
	w := newWorld(t)
	pgtest.Exec(t, pgtest.Connect(t, w.pg.URL("lodge")), "CREATE DATABASE bytes ENCODING 'SQL_ASCII' TEMPLATE template0 LC_COLLATE 'C' LC_CTYPE 'C'")
	u, err := neturl.Parse(w.pg.URL("bytes"))
	if err != nil {
		t.Fatal(err)
	}
	db := pgtest.Connect(t, u.String())
	pgtest.Exec(t, db, `SET client_encoding = SQL_ASCII; CREATE TABLE huts (id text PRIMARY KEY, name text);
		INSERT INTO huts SELECT 'r' || chr(233) || i, 'r' FROM generate_series(1, 3000) i;
		INSERT INTO huts VALUES ('plain', 'ok'), ('bad', 'caf' || chr(233))`)
	w.env = append(w.env, "BYTES_URL="+u.String())
	w.serve()
	w.must("apply", "--yes", w.write(`
sources: { lodge: { kind: postgres, url: "${BYTES_URL}" } }
engines: { main: { kind: opensearch, url: "${SEARCH_URL}" }, tables: { kind: postgres, url: "${TABLES_URL}" } }
indexes:
  huts: { engine: main, rows: lodge.huts, fields: [name] }
  tabled: { engine: tables, rows: lodge.huts, fields: [name] }
`))
	settled := func(what string, failed int64) {
		t.Helper()
		for _, name := range []string{"huts", "tabled"} {
			w.index(30*time.Second, what, name, func(ix api.IndexStatus) bool {
				return ix.Waiting == 0 && ix.Failed == failed && ix.Documents != nil && *ix.Documents == 3002-failed
			})
		}
	}
	settled("filled", 1)
	pgtest.Exec(t, db, "UPDATE huts SET name = name || '!' WHERE id LIKE 'r%5'; UPDATE huts SET name = 'repaired' WHERE id = 'bad'")
	settled("repaired", 0)
	if out := w.must("preview", "huts", "r~xe95"); !strings.Contains(out, `"r!"`) {
		t.Error(out)
	}
}
