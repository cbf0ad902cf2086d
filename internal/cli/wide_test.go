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
	const rows = 15_000
	pgtest.Exec(t, lodge, fmt.Sprintf(`CREATE TABLE valleys (id int PRIMARY KEY, name text);
		CREATE TABLE tarns (id int PRIMARY KEY, name text, valley_id int REFERENCES valleys);
		CREATE INDEX ON tarns (valley_id);
		INSERT INTO valleys VALUES (1, 'upper'), (2, 'lower');
		INSERT INTO tarns SELECT i, 'tarn ' || i || repeat(' still water', 250), 1 + (i %% 5) / 4 FROM generate_series(1, %d) i`, rows))
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
	w.fault(`{"slow_ms": 400}`)
	pgtest.Exec(t, lodge, "UPDATE valleys SET name = 'high' WHERE id = 1")
	w.index(20*time.Second, "some are built again", "tarns", func(ix api.IndexStatus) bool {
		return ix.Rebuild != nil && ix.Rebuild.Rows > 0 && ix.State != api.StateInSync
	})
	// Paused, it makes no progress while fresh changes pass, also after a crash, until it may go on.
	w.must("reindex", "pause", "tarns")
	w.index(10*time.Second, "it is paused", "tarns", func(ix api.IndexStatus) bool { return ix.Rebuild != nil && ix.Rebuild.Paused })
	w.kill()
	w.serve()
	halted := int64(0)
	w.index(20*time.Second, "it is paused still", "tarns", func(ix api.IndexStatus) bool {
		if ix.Rebuild == nil || !ix.Rebuild.Paused || !strings.Contains(ix.Sentence, "pingo reindex resume tarns") {
			return false
		}
		halted = ix.Rebuild.Rows
		return true
	})
	if text := w.metrics(); !strings.Contains(text, fmt.Sprintf(`pingo_index_rebuild_rows{engine="main",index="tarns",of="done",source="lodge"} %d`, halted)) {
		t.Errorf("%d rows are done, which the metrics do not say", halted)
	}
	pgtest.Exec(t, lodge, "UPDATE tarns SET name = 'Abendtarn' WHERE id = 14997")
	w.eventually(10*time.Second, "a fresh change passes what is paused", func() error {
		if out, errs, _ := w.run("search", "tarns", "Abendtarn"); !strings.Contains(out, "Abendtarn") {
			return fmt.Errorf("%s %s", out, errs)
		}
		return nil
	})
	if status, err := w.client.Status(t.Context()); err != nil || status.Index("tarns").Rebuild == nil || status.Index("tarns").Rebuild.Rows != halted {
		t.Errorf("%d when it was paused: %+v %v", halted, status.Index("tarns").Rebuild, err)
	}
	w.must("reindex", "resume", "tarns")
	w.index(20*time.Second, "it goes on", "tarns", func(ix api.IndexStatus) bool { return ix.Rebuild != nil && ix.Rebuild.Rows > halted })
	pgtest.Exec(t, lodge, "UPDATE tarns SET name = 'Morgentarn' WHERE id = 14999; DELETE FROM tarns WHERE id = 14998")
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
	if _, errs, code := w.run("reindex", "pause", "tarns"); code != 1 || !strings.Contains(errs, "no change of most documents is worked off") {
		t.Errorf("exit %d: %s", code, errs)
	}
	w.equalTo(lodge, text, "tarns", 0)
}
