package cli_test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"pingo/internal/api"
	"pingo/internal/lab/pgtest"
)

// An edition that somebody empties, makes again or deletes in the engine is not the one that was filled: another one is
// filled in its place, and nothing that was known of it counts.
func TestEditionsThatAreReplacedInTheEngine(t *testing.T) {
	w := newWorld(t)
	replacedEditions(w, w.engine.URL)
}

func TestRealEditionsThatAreReplacedInTheEngine(t *testing.T) {
	w := newRealWorld(t)
	replacedEditions(w, w.node.URL())
}

func replacedEditions(w *world, search string) {
	t := w.t
	lodge := pgtest.Connect(t, w.pg.URL("lodge"))
	pgtest.Exec(t, lodge, `CREATE TABLE tarns (id int PRIMARY KEY, name text, seen int NOT NULL);
		INSERT INTO tarns SELECT i, 'tarn ' || i, 0 FROM generate_series(1, 300) i`)
	w.serve()
	w.must("apply", "--yes", w.write(tarns("m", "")))
	tables := pgtest.Connect(t, w.pg.URL("tables"))
	for what, replace := range map[string]func(){
		"made again": func() {
			edition := w.edition("tarns")
			all := &httpSaboteur{t, search}
			var found map[string]struct {
				Mappings json.RawMessage
				Settings struct{ Index map[string]any }
			}
			if err := json.Unmarshal(all.call("GET", "/"+edition, ""), &found); err != nil {
				t.Fatal(err)
			}
			all.call("DELETE", "/"+edition, "")
			body, err := json.Marshal(map[string]any{"mappings": found[edition].Mappings, "aliases": map[string]any{"tarns": map[string]any{}}})
			if err != nil {
				t.Fatal(err)
			}
			all.call("PUT", "/"+edition, string(body))
			pgtest.Exec(t, tables, "TRUNCATE "+pgx.Identifier{"pingo_search", w.edition("tarns_tables")}.Sanitize())
		},
		"deleted": func() {
			(&httpSaboteur{t, search}).call(http.MethodDelete, "/"+w.edition("tarns"), "")
			pgtest.Exec(t, tables, "DROP TABLE "+pgx.Identifier{"pingo_search", w.edition("tarns_tables")}.Sanitize()+" CASCADE")
		},
	} {
		before := map[string]string{}
		for _, index := range []string{"tarns", "tarns_tables"} {
			w.index(20*time.Second, what, index, func(ix api.IndexStatus) bool { before[index] = ix.Edition; return ix.State == api.StateInSync })
		}
		replace()
		for index, edition := range before {
			w.index(30*time.Second, what+": another edition answers", index, func(ix api.IndexStatus) bool {
				return ix.State == api.StateInSync && ix.Edition != edition && ix.Documents != nil && *ix.Documents == 300
			})
			if o := w.order(0, "drift", "check", index); o.Differing != 0 || o.Compared != 300 {
				t.Errorf("%s: %+v", index, o)
			}
		}
		pgtest.Exec(t, lodge, fmt.Sprintf("UPDATE tarns SET seen = seen + 1, name = name || '%s'", " again"))
	}
}
