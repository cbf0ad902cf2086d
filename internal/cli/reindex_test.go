package cli_test

import (
	"net/http"
	"strings"
	"testing"
	"time"

	"pingo/internal/api"
	"pingo/internal/lab/pgtest"
)

// An edition that is worse than the one that answers is not switched to: what it lacks is reported, and a
// person repairs it, has it answer all the same, or drops it.
func TestAWorseEditionIsNotSwitchedTo(t *testing.T) {
	w := newWorld(t)
	lodge := pgtest.Connect(t, w.pg.URL("lodge"))
	pgtest.Exec(t, lodge, `CREATE TABLE tarns (id int PRIMARY KEY, name text, depth text);
		INSERT INTO tarns SELECT i, 'tarn ' || i, CASE WHEN i % 10 = 0 THEN 'deep' ELSE i::text END FROM generate_series(1, 1740) i`)
	w.serve()
	file := func(fields, where string) string {
		return w.write(`
sources: { lodge: { kind: postgres, url: "${LODGE_URL}" } }
engines: { main: { kind: opensearch, url: "${SEARCH_URL}" } }
indexes:
  tarns:
    engine: main
    rows: lodge.tarns
` + where + `    fields: ` + fields + "\n")
	}
	w.must("apply", "--yes", file("[name]", ""))
	first := w.edition("tarns")
	answers := func(n string) {
		t.Helper()
		if out := w.must("search", "tarns", "tarn"); !strings.Contains(out, n+" found") {
			t.Errorf("not %s: %s", n, out)
		}
	}
	stopped := func(args ...string) {
		t.Helper()
		out, errs, code := w.run(args...)
		if code != 1 || !strings.Contains(errs, "174 failed documents, 0 in the live edition") {
			t.Errorf("exit %d: %s%s", code, out, errs)
		}
		if w.edition("tarns") != first {
			t.Error("it was switched to")
		}
		answers("1,740")
	}

	// 174 rows make no document.
	stopped("apply", "--yes", file("{ name: { search: 1 }, depth: { sql: depth::int } }", ""))
	shown := w.must("reindex", "show", "tarns")
	for _, words := range []string{"refused   stops it", "complete  passed", "content   passed   1,566 of 1,740 documents compared with their rows, all the same", "1,740 rows, 1,566 documents, 174 failed", "pingo reindex switch tarns"} {
		if !strings.Contains(shown, words) {
			t.Errorf("%q is not in\n%s", words, shown)
		}
	}
	if _, errs, code := w.run("reindex", "start", "tarns"); code != 1 || !strings.Contains(errs, "is ready already") {
		t.Errorf("exit %d: %s", code, errs)
	}
	pgtest.Exec(t, lodge, "UPDATE tarns SET name = name || ' lake' WHERE id = 3") // both take changes
	w.must("wait", "tarns")
	if out := w.must("search", "tarns", "lake"); !strings.Contains(out, "1 found") {
		t.Error(out)
	}

	// Dropped, and begun again; the rows are repaired, and it answers by itself.
	w.must("reindex", "cancel", "tarns", "--yes")
	if _, errs, code := w.run("reindex", "cancel", "tarns", "--yes"); code != 1 || !strings.Contains(errs, "no edition of tarns is being filled") {
		t.Errorf("exit %d: %s", code, errs)
	}
	stopped("apply", "--yes", file("{ name: { search: 1 }, depth: { sql: depth::int } }", ""))
	pgtest.Exec(t, lodge, "UPDATE tarns SET depth = '99' WHERE depth = 'deep'")
	w.index(20*time.Second, "the repaired edition answers", "tarns", func(ix api.IndexStatus) bool {
		return ix.State == api.StateInSync && ix.Edition != first && ix.Failed == 0
	})
	answers("1,740")

	// A much smaller one waits, too, until a person says that it is meant; the change that made it so
	// had to be accepted by name before.
	first = w.edition("tarns")
	smaller := file("[name]", "    where: id > 900\n")
	if _, errs, code := w.run("apply", "--yes", "--accept", "tarns", smaller); code != 1 ||
		!strings.Contains(errs, "840 documents, 1,740 in the live edition") {
		t.Errorf("exit %d: %s", code, errs)
	}
	answers("1,740")
	w.must("reindex", "switch", "tarns", "--yes")
	w.index(20*time.Second, "the smaller edition answers", "tarns", func(ix api.IndexStatus) bool {
		return ix.State == api.StateInSync && ix.Edition != first
	})
	answers("840")

	// Without a change, one takes the place of the other.
	before := w.edition("tarns")
	w.must("reindex", "start", "tarns")
	if after := w.edition("tarns"); after == before {
		t.Errorf("%s still answers", after)
	}
	answers("840")
	for _, c := range [][2]string{{"show", "no index"}, {"start", "is not known"}, {"cancel --yes", "is not known"}} {
		if _, errs, code := w.run(append(append([]string{"reindex"}, strings.Fields(c[0])...), "lakes")...); code != 1 || !strings.Contains(errs, c[1]) {
			t.Errorf("%v: exit %d: %s", c, code, errs)
		}
	}
}

// What a person does by hand to an edition that is being filled is found, and repaired, before it answers.
func TestWhatSomebodyDidToANewEditionIsMended(t *testing.T) {
	w := newWorld(t)
	lodge := pgtest.Connect(t, w.pg.URL("lodge"))
	pgtest.Exec(t, lodge, `CREATE TABLE tarns (id int PRIMARY KEY, name text, seen int NOT NULL);
		INSERT INTO tarns SELECT i, 'tarn ' || i, 0 FROM generate_series(1, 900) i`)
	w.serve()
	w.must("apply", "--yes", w.write(tarns("before", "")))
	first := w.edition("tarns")
	w.must("reindex", "start", "tarns", "--documents", "300", "--no-wait")
	var edition string
	w.index(20*time.Second, "a third is filled", "tarns", func(ix api.IndexStatus) bool {
		if ix.Fill != nil && ix.Fill.Rows > 300 {
			edition = ix.Fill.Edition
		}
		return edition != ""
	})
	w.must("reindex", "pause", "tarns")
	for _, c := range [][2]string{{"DELETE", "/_doc/1"}, {"PUT", "/_doc/2"}} { // the first keys are there by now
		r, err := http.NewRequest(c[0], w.engine.URL+"/"+edition+c[1], strings.NewReader(`{"name": "drained", "mark": "before"}`))
		if err != nil {
			t.Fatal(err)
		}
		r.Header.Set("Content-Type", "application/json")
		answer, err := http.DefaultClient.Do(r)
		if err != nil || answer.StatusCode != 200 {
			t.Fatal(answer, err)
		}
		answer.Body.Close()
	}
	if status, err := w.client.Status(t.Context()); err != nil || !status.Index("tarns").Fill.Paused || !status.Index("tarns").Fill.Halted {
		t.Errorf("%+v %v", status.Index("tarns").Fill, err)
	}
	w.must("reindex", "resume", "tarns")
	w.index(20*time.Second, "it answers", "tarns", func(ix api.IndexStatus) bool { return ix.Edition != first && ix.State == api.StateInSync })
	if out := w.must("reindex", "show", "tarns"); !strings.Contains(out, "content   passed   900 of 900 documents compared with their rows, all the same") {
		t.Error(out)
	}
	w.equalTo(lodge, tarns("before", ""), "tarns", 0)
}
