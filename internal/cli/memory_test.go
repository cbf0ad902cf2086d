package cli_test

import (
	"fmt"
	"os"
	"strings"
	"testing"
	"time"

	"pingo/internal/api"
	"pingo/internal/lab/pgtest"
)

// peak is the most memory that the service has had since it began, in bytes.
func (w *world) peak() (bytes int64) {
	w.t.Helper()
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", w.service.Process.Pid))
	if err != nil {
		w.t.Fatal(err)
	}
	for _, line := range strings.Split(string(text), "\n") {
		if n, _ := fmt.Sscanf(line, "VmHWM: %d kB", &bytes); n == 1 {
			return bytes * 1024
		}
	}
	w.t.Fatal("the system does not tell the peak memory")
	return 0
}

// within fails when the service had more memory than it was given.
func (w *world) within(bound int64, what string) {
	w.t.Helper()
	peak := w.peak()
	w.t.Logf("%s: %d bytes of %d", what, peak, bound)
	if peak > bound {
		w.t.Errorf("%s: more than %d bytes", what, bound)
	}
}

// Ten indexes that are filled at the same time, and a journal that grew while no one read it, take no more memory than the service
// was given.
func TestMemoryStaysWithinItsBound(t *testing.T) {
	const bound, rows, updates = 256_000_000, 8_000, 6
	w := newWorld(t)
	lodge := pgtest.Connect(t, w.pg.URL("lodge"))
	pgtest.Exec(t, lodge, fmt.Sprintf(`CREATE TABLE logs (id int PRIMARY KEY, body text, n int NOT NULL DEFAULT 0);
		INSERT INTO logs SELECT i, (SELECT string_agg(md5((i * 37 + j)::text), ' ') FROM generate_series(1, 60) j) FROM generate_series(1, %d) i`, rows))
	var text strings.Builder
	text.WriteString("sources: { lodge: { kind: postgres, url: \"${LODGE_URL}\" } }\nengines: { main: { kind: opensearch, url: \"${SEARCH_URL}\" } }\nindexes:\n")
	for i := range 10 {
		fmt.Fprintf(&text, "  logs%d: { engine: main, rows: lodge.logs, fields: [body, n] }\n", i)
	}
	w.args = []string{"--memory", "256MB"}
	w.serve()
	w.must("apply", "--yes", w.write(text.String()))
	inSync := func(what string) {
		t.Helper()
		for i := range 10 {
			w.index(2*time.Minute, what, fmt.Sprint("logs", i), func(ix api.IndexStatus) bool { return ix.State == api.StateInSync })
		}
		w.within(bound, what)
	}
	inSync("ten filled at the same time")
	w.kill()
	for range updates {
		pgtest.Exec(t, lodge, "UPDATE logs SET n = n + 1")
	}
	w.serve()
	inSync(fmt.Sprint(updates*rows, " changes taken up"))
	w.equalTo(lodge, text.String(), "logs3", 0)
}

// A document that is too large to be built is failed with a sentence, and delays no other; it is repaired by its rows.
func TestADocumentThatIsTooLarge(t *testing.T) {
	w := newWorld(t)
	lodge := pgtest.Connect(t, w.pg.URL("lodge"))
	pgtest.Exec(t, lodge, `CREATE TABLE logs (id int PRIMARY KEY, title text); CREATE TABLE pages (id int PRIMARY KEY, log_id int, body text);
		CREATE INDEX ON pages (log_id); INSERT INTO logs SELECT i, 'log ' || i FROM generate_series(1, 300) i;
		INSERT INTO pages SELECT i, i, 'short' FROM generate_series(1, 300) i;
		INSERT INTO pages SELECT 1000 + i, 7, repeat('x', 60000) FROM generate_series(1, 600) i`)
	w.serve()
	w.must("apply", "--yes", w.write(`
sources: { lodge: { kind: postgres, url: "${LODGE_URL}" } }
engines: { main: { kind: opensearch, url: "${SEARCH_URL}" } }
indexes:
  logs:
    engine: main
    rows: lodge.logs
    fields: [title]
    related: { pages: { many: pages, on: { log_id: id }, fields: [body] } }
`))
	w.index(20*time.Second, "one failed, all others are there", "logs", func(ix api.IndexStatus) bool {
		return ix.Live && ix.Failed == 1 && ix.Documents != nil && *ix.Documents == 299
	})
	failed, err := w.client.FailedDocument(t.Context(), "logs", "7")
	if err != nil || !strings.Contains(failed.Explanation, "too large to be built") || !strings.Contains(failed.Reason, "more than 32 MB") {
		t.Errorf("%+v %v", failed, err)
	}
	pgtest.Exec(t, lodge, "UPDATE logs SET title = 'more' WHERE id IN (6, 8); DELETE FROM pages WHERE id > 1010")
	w.index(20*time.Second, "it is repaired", "logs", func(ix api.IndexStatus) bool {
		return ix.State == api.StateInSync && ix.Failed == 0 && *ix.Documents == 300
	})
	w.within(256_000_000, "with a document that is too large")
}

// Ten indexes are filled at the same time, and then a million changes are taken up that came while the service did not run: that
// takes no more memory than the service was given, and each row is built a few times for all of its changes.
func TestAMillionChangesTakeNoMoreMemory(t *testing.T) {
	const bound, rows, updates, indexes = 256_000_000, 50_000, 20, 10
	w := newWorld(t)
	lodge := pgtest.Connect(t, w.pg.URL("lodge"))
	pgtest.Exec(t, lodge, fmt.Sprintf(`CREATE TABLE tarns (id int PRIMARY KEY, name text, n int NOT NULL DEFAULT 0) WITH (fillfactor = 50);
		INSERT INTO tarns SELECT i, 'tarn ' || i FROM generate_series(1, %d) i`, rows))
	text := `
sources: { lodge: { kind: postgres, url: "${LODGE_URL}" } }
engines: { main: { kind: opensearch, url: "${SEARCH_URL}" } }
indexes:
`
	for i := range indexes {
		text += fmt.Sprintf("  tarns%d: { engine: main, rows: lodge.tarns, fields: { name: { search: 1 }, n: { filter: true } } }\n", i)
	}
	w.args = []string{"--memory", "256MB"}
	w.serve()
	w.must("apply", "--yes", w.write(text))
	inSync := func(what string) (built int64) {
		t.Helper()
		for i := range indexes {
			var ofIndex int64
			w.index(5*time.Minute, what, fmt.Sprint("tarns", i), func(ix api.IndexStatus) bool {
				ofIndex = ix.Built
				return ix.State == api.StateInSync && ix.Waiting == 0
			})
			built += ofIndex
		}
		return built
	}
	inSync("all are filled")
	w.within(bound, "ten filled at the same time")
	w.kill()
	for range updates {
		pgtest.Exec(t, lodge, "UPDATE tarns SET n = n + 1")
	}
	var waiting int
	if err := lodge.QueryRow(t.Context(), "SELECT count(*) FROM pingo_capture.journal").Scan(&waiting); err != nil || waiting != rows*updates {
		t.Fatal(waiting, err)
	}
	w.serve()
	built := inSync("all is taken up")
	w.must("wait", "tarns7")
	w.within(bound, fmt.Sprintf("%d changes taken up, %d documents built for %d rows of ten indexes",
		waiting, built, indexes*rows))
	if built > 4*indexes*rows {
		t.Errorf("%d documents were built for %d rows of ten indexes", built, indexes*rows)
	}
	w.equalTo(lodge, text, "tarns7", 0)
}
