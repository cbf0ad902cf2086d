package cli_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"pingo/internal/api"
	"pingo/internal/lab/pgtest"
)

// A change that touches most documents has all of them built again by ranges: the status says how far that is and
// never that the index is in sync meanwhile, a process that is killed goes on where it was, fresh changes pass it, and
// the documents are what the rows make.
func TestAChangeThatTouchesMostDocuments(t *testing.T) {
	w := newWorld(t)
	lodge := pgtest.Connect(t, w.pg.URL("lodge"))
	const rows = 30_000
	pgtest.Exec(t, lodge, fmt.Sprintf(`CREATE TABLE valleys (id int PRIMARY KEY, name text);
		CREATE TABLE tarns (id int PRIMARY KEY, name text, valley_id int REFERENCES valleys);
		CREATE INDEX ON tarns (valley_id);
		INSERT INTO valleys VALUES (1, 'upper'), (2, 'lower');
		INSERT INTO tarns SELECT i, 'tarn ' || i || repeat(' still water', 20), 1 + (i %% 5) / 4 FROM generate_series(1, %d) i`, rows))
	w.serve()
	text := `
sources: { lodge: { kind: postgres, url: "${LODGE_URL}" } }
engines: { main: { kind: opensearch, url: "${SEARCH_URL}" } }
indexes:
  tarns:
    engine: main
    rows: lodge.tarns
    fields: { name: { search: 1 } }
    related: { valley: { one: valleys, on: { id: valley_id }, fields: { name: { search: 1 } } } }
`
	w.must("apply", "--yes", w.write(text))
	w.index(30*time.Second, "the rows are counted", "tarns", func(ix api.IndexStatus) bool { return ix.Rows != nil && *ix.Rows == rows })
	w.fault(`{"slow_ms": 150}`)
	pgtest.Exec(t, lodge, "UPDATE valleys SET name = 'high' WHERE id = 1")
	w.index(20*time.Second, "some are built again", "tarns", func(ix api.IndexStatus) bool {
		return ix.Rebuild != nil && ix.Rebuild.Rows > 0 && ix.State != api.StateInSync
	})
	pgtest.Exec(t, lodge, "UPDATE tarns SET name = 'Morgentarn' WHERE id = 29999; DELETE FROM tarns WHERE id = 29998")
	w.eventually(10*time.Second, "a fresh change passes", func() error {
		out, errs, _ := w.run("search", "tarns", "Morgentarn")
		status, err := w.client.Status(t.Context())
		if err != nil || !strings.Contains(out, "Morgentarn") {
			return fmt.Errorf("%s %s %v", out, errs, err)
		}
		if status.Index("tarns").Rebuild == nil {
			t.Error("all was built before the fresh change was: nothing is shown")
		}
		return nil
	})
	w.kill()
	w.serve()
	resumed := false
	w.index(60*time.Second, "all is built again", "tarns", func(ix api.IndexStatus) bool {
		resumed = resumed || ix.Rebuild != nil && ix.Rebuild.Rows > 0
		if ix.Rebuild != nil && ix.State == api.StateInSync {
			t.Fatalf("%+v", ix)
		}
		return ix.Rebuild == nil && ix.State == api.StateInSync
	})
	if !resumed {
		t.Error("nothing was left when it was killed, so nothing is shown")
	}
	w.fault(`{}`)
	w.must("wait", "tarns")
	w.equalTo(lodge, text, "tarns", 0)
}
