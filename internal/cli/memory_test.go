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

// Ten indexes that are filled at once, and a journal that grew while nobody read it, take no more memory than the service
// was told to do with.
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
		if peak := w.peak(); peak > bound {
			t.Errorf("%s: %d bytes of %d", what, peak, bound)
		} else {
			t.Logf("%s: %d bytes of %d", what, peak, bound)
		}
	}
	inSync("ten filled at once")
	w.kill()
	for range updates {
		pgtest.Exec(t, lodge, "UPDATE logs SET n = n + 1")
	}
	w.serve()
	inSync(fmt.Sprint(updates*rows, " changes taken up"))
	w.equalTo(lodge, text.String(), "logs3", 0)
}
