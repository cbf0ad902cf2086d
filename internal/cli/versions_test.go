package cli_test

import (
	"strings"
	"testing"
	"time"

	"pingo/internal/api"
	"pingo/internal/lab/pgtest"
)

// Versions of the definition are listed, shown and compared, and an earlier one is applied again.
func TestVersionsOfTheDefinition(t *testing.T) {
	w := newWorld(t)
	lodge := pgtest.Connect(t, w.pg.URL("lodge"))
	pgtest.Exec(t, lodge, "CREATE TABLE tarns (id int PRIMARY KEY, name text, depth_m int)")
	w.serve()
	if _, errs, code := w.run("definition", "show"); code != 1 || !strings.Contains(errs, "no definition was applied yet") {
		t.Errorf("exit %d: %s", code, errs)
	}
	text := func(fields string) string {
		return `
sources: { lodge: { kind: postgres, url: "${LODGE_URL}" } }
engines: { main: { kind: opensearch, url: "${SEARCH_URL}" } }
indexes:
  tarns:
    engine: main
    rows: lodge.tarns
    fields: ` + fields + "\n"
	}
	w.must("apply", "--yes", w.write(text("[name]")))
	w.must("apply", "--yes", w.write(text("[name, depth_m]")))
	if out := w.must("definition", "list"); !strings.Contains(out, "2 ") || strings.Count(out, "in force") != 1 {
		t.Error(out)
	}
	if out := w.must("definition", "show", "1"); out != strings.TrimRight(text("[name]"), "\n")+"\n" {
		t.Errorf("%q", out)
	}
	for _, args := range [][]string{{}, {"1"}, {"1", "2"}} {
		out := w.must(append([]string{"definition", "diff"}, args...)...)
		if !strings.Contains(out, "-    fields: [name]\n+    fields: [name, depth_m]\n") || strings.Contains(out, "+sources") {
			t.Errorf("%v: %s", args, out)
		}
	}
	w.must("apply", "--yes", w.write(text("[name, depth_m]")+"    where: id > 0\n"))
	if out := w.must("definition", "diff"); !strings.Contains(out, "+    where: id > 0\n") || strings.Contains(out, "-    fields") {
		t.Errorf("a line that was added: %s", out)
	}
	w.must("apply", "--yes", "--version", "1")
	if out := w.must("definition", "diff", "1"); out != "Versions 1 and 4 are the same.\n" {
		t.Error(out)
	}
	// What is shown can be checked and applied again, also where it was several files.
	head, tail, _ := strings.Cut(text("[name]"), "indexes:")
	w.must("apply", "--yes", w.write(head), w.write("indexes:"+tail))
	if out, errs, code := w.run("check", w.write(w.must("definition", "show"))); code != 0 || !strings.Contains(out, "unchanged") {
		t.Errorf("what was shown: exit %d %s%s", code, out, errs)
	}
	// A person who applies the same again does not have what is being filled begun again.
	w.fault(`{"slow_ms": 1500}`)
	filled := ""
	for range 2 {
		w.must("apply", "--yes", "--no-wait", w.write(text("[depth_m]")))
		w.index(20*time.Second, "it is being filled", "tarns", func(ix api.IndexStatus) bool {
			if ix.Fill == nil || filled != "" && ix.Fill.Edition != filled {
				return false
			}
			filled = ix.Fill.Edition
			return true
		})
	}
	w.fault(`{}`)
	w.index(30*time.Second, "it answers", "tarns", func(ix api.IndexStatus) bool { return ix.Live && ix.Edition == filled })
	for _, c := range []struct {
		args []string
		code int
		want string
	}{
		{[]string{"definition", "show", "9"}, 1, "there is no definition version 9"},
		{[]string{"definition", "show", "last"}, 2, "a version is a number from 1"},
		{[]string{"apply", "--version", "1", "x.yaml"}, 2, "either files or --version"},
		{[]string{"apply", "--version", "0"}, 2, "a version is a number from 1"},
	} {
		if _, errs, code := w.run(c.args...); code != c.code || !strings.Contains(errs, c.want) {
			t.Errorf("%v: exit %d: %s", c.args, code, errs)
		}
	}
}
