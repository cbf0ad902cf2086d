package cli_test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"pingo/internal/api"
	"pingo/internal/lab/pgtest"
)

// Pingo replaces an edition that another program empties, recreates or deletes in the engine by another edition.
func TestEditionsThatAreReplacedInTheEngine(t *testing.T) {
	w := newWorld(t)
	replacedEditions(w, w.engine.URL)
}

func TestRealEditionsThatAreReplacedInTheEngine(t *testing.T) {
	w := newRealWorld(t)
	replacedEditions(w, w.node.URL())
}

// Pingo overwrites a document that another program wrote with its own version, when the row changes next. With a version
// far above Pingo's, the document fails until another edition is live.
func TestDocumentsWithVersionsOfOthers(t *testing.T) {
	w := newWorld(t)
	foreignVersions(w, w.engine.URL)
}

func TestRealDocumentsWithVersionsOfOthers(t *testing.T) {
	w := newRealWorld(t)
	foreignVersions(w, w.node.URL())
}

func foreignVersions(w *world, search string) {
	t := w.t
	lodge := pgtest.Connect(t, w.pg.URL("lodge"))
	pgtest.Exec(t, lodge, `CREATE TABLE tarns (id int PRIMARY KEY, name text, seen int NOT NULL);
		INSERT INTO tarns SELECT i, 'tarn ' || i, 0 FROM generate_series(1, 30) i`)
	w.serve()
	w.must("apply", "--yes", w.write(tarns("m", "    drift: { sweep: 0 }\n")))
	tables := pgtest.Connect(t, w.pg.URL("tables"))
	inSync := func(ix api.IndexStatus) bool { return ix.State == api.StateInSync }
	for _, index := range []string{"tarns", "tarns_tables"} {
		w.index(20*time.Second, "it is filled", index, inSync)
	}
	edition := &httpSaboteur{t, search + "/" + w.edition("tarns")}
	table := pgx.Identifier{"pingo_search", w.edition("tarns_tables")}.Sanitize()
	// A change of another row takes the last version, so the next one is that of the document that was written by hand.
	pgtest.Exec(t, lodge, "UPDATE tarns SET name = 'the last' WHERE id = 9")
	var last struct {
		Version int64 `json:"_version"`
	}
	w.eventually(10*time.Second, "the change arrives", func() error {
		if err := json.Unmarshal(edition.call("GET", "/_doc/9", ""), &last); err != nil || edition.get("9")["name"] != "the last" {
			return fmt.Errorf("%v %v", edition.get("9"), err)
		}
		return nil
	})
	byHand := func(key string, version int64) {
		edition.call("PUT", fmt.Sprintf("/_doc/%s?version=%d&version_type=external", key, version), `{"name": "by hand", "pingo_fingerprint": "0123456789abcdef"}`)
	}
	const far = 1 << 62
	byHand("1", last.Version+1)
	byHand("2", last.Version+40)
	byHand("3", far)
	pgtest.Exec(t, tables, fmt.Sprintf("UPDATE %s SET pingo_document = '{\"name\": \"by hand\", \"pingo_fingerprint\": \"0123456789abcdef\"}', pingo_version = pingo_version + pingo_key::int * 30 WHERE pingo_key IN ('1', '2')", table))
	pgtest.Exec(t, tables, fmt.Sprintf("UPDATE %s SET pingo_version = %d WHERE pingo_key = '3'", table, int64(far)))
	pgtest.Exec(t, lodge, "UPDATE tarns SET name = name || ' again' WHERE id <= 3")
	for _, index := range []string{"tarns", "tarns_tables"} {
		w.index(20*time.Second, "the third one is a failed document", index, func(ix api.IndexStatus) bool { return ix.Failed == 1 })
		if out := w.must("failed", "list", index); !strings.Contains(out, "another edition does not have that version") {
			t.Error(out)
		}
		if o := w.order(0, "drift", "check", index); o.Differing != 0 {
			t.Errorf("%s: %+v", index, o)
		}
		w.must("reindex", "start", index)
		w.index(20*time.Second, "another edition has none", index, func(ix api.IndexStatus) bool { return ix.State == api.StateInSync && ix.Failed == 0 })
		if o := w.order(0, "drift", "check", index); o.Differing != 0 || o.Compared != 30 {
			t.Errorf("%s: %+v", index, o)
		}
	}
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
