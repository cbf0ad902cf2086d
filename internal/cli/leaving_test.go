package cli_test

import (
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"pingo/internal/lab/pgtest"
)

// An index that another program made, or a name that leads to one, is taken over when a person says so, and
// answers until the edition is filled. What is written out to leave is enough to leave, and to come back.
func TestTakingOverAndLeaving(t *testing.T) {
	w := newWorld(t)
	lodge := pgtest.Connect(t, w.pg.URL("lodge"))
	pgtest.Exec(t, lodge, `CREATE TABLE tarns (id int PRIMARY KEY, name text, seen int NOT NULL);
		INSERT INTO tarns SELECT i, 'tarn ' || i, 0 FROM generate_series(1, 120) i`)
	w.serve()
	send := func(method, path, body string) string {
		t.Helper()
		r, err := http.NewRequest(method, w.engine.URL+path, strings.NewReader(body))
		if err != nil {
			t.Fatal(err)
		}
		r.Header.Set("Content-Type", "application/json")
		answer, err := http.DefaultClient.Do(r)
		if err != nil {
			t.Fatal(err)
		}
		defer answer.Body.Close()
		text, err := io.ReadAll(answer.Body)
		if err != nil || answer.StatusCode > 299 {
			t.Fatal(method, path, answer.Status, string(text), err)
		}
		return string(text)
	}
	file := w.write(tarns("m", ""))
	for _, c := range []struct{ index, alias, words, stays string }{
		{"tarns", "", "an index tarns with 1 documents that Pingo did not make", ""},
		{"old", `{"actions": [{"add": {"index": "old", "alias": "tarns"}}]}`, "leads to old with 1 documents", "old"},
	} {
		send("PUT", "/"+c.index, `{"mappings": {"properties": {"name": {"type": "text"}}}}`)
		send("PUT", "/"+c.index+"/_doc/1?refresh=true", `{"name": "by hand"}`)
		if c.alias != "" {
			send("POST", "/_aliases", c.alias)
		}
		out, errs, code := w.run("apply", "--yes", "--accept", "others", file)
		if code == 0 || !strings.Contains(out+errs, c.words) || !strings.Contains(send("GET", "/tarns/_search", ""), "by hand") {
			t.Errorf("exit %d: %s%s", code, out, errs)
		}
		w.must("apply", "--yes", "--accept", "tarns", "--accept", "others", file)
		if found := send("GET", "/tarns/_search", ""); strings.Contains(found, "by hand") || !strings.Contains(found, `"value":120`) {
			t.Error(found)
		}
		if c.stays != "" && !strings.Contains(send("GET", "/"+c.stays+"/_search", ""), "by hand") {
			t.Error(c.stays + " is gone")
		}
		w.equalTo(lodge, tarns("m", ""), "tarns", 0)
		if c.stays == "" { // as if Pingo had never been here
			first := w.edition("tarns")
			file = w.write(strings.Replace(tarns("m", ""), "  tarns:", "  others:", 1))
			w.must("apply", "--yes", "--accept", "tarns", file)
			file = w.write(tarns("m", ""))
			send("POST", "/_aliases", `{"actions": [{"remove": {"index": "`+first+`", "alias": "tarns"}}]}`)
		}
	}

	into := filepath.Join(t.TempDir(), "leaving")
	w.must("export", into)
	if _, errs, code := w.run("export", into); code != 1 || !strings.Contains(errs, "is not written") {
		t.Errorf("written over: exit %d: %s", code, errs)
	}
	text, err := os.ReadFile(filepath.Join(into, "leaving.md"))
	if err != nil {
		t.Fatal(err)
	}
	_, rest, _ := strings.Cut(string(text), "```sql\n")
	script, _, there := strings.Cut(rest, "```")
	if !there || !strings.Contains(string(text), "which answers under the name tarns") {
		t.Fatal(string(text))
	}
	w.kill()
	pgtest.Exec(t, lodge, script)
	var left int
	err = lodge.QueryRow(t.Context(), `SELECT (SELECT count(*) FROM pg_trigger WHERE NOT tgisinternal)
		+ (SELECT count(*) FROM pg_namespace WHERE nspname LIKE 'pingo%')`).Scan(&left)
	if err != nil || left != 0 {
		t.Errorf("%d things are left, %v", left, err)
	}
	pgtest.Exec(t, lodge, "UPDATE tarns SET seen = 5 WHERE id = 5")
	w.serve()
	w.must("apply", "--yes", into)
	w.must("wait", "tarns")
	w.equalTo(lodge, tarns("m", ""), "tarns", 0)
}
