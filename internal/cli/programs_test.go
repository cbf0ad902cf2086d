package cli_test

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"testing"
	"time"

	"pingo/internal/api"
	"pingo/internal/lab/demo"
	"pingo/internal/lab/pgtest"
)

// A private PostgreSQL survives kill -9, is picked up again, and is never shared.
func TestRecordsDirectory(t *testing.T) {
	w := newWorld(t)
	dir := filepath.Join(pgtest.Dir(t), "records")
	w.env = append(w.env, "PINGO_RECORDS_URL=")
	start := func() *exec.Cmd {
		cmd := exec.Command(binary, "serve", "--listen", w.address, "--records-dir", dir)
		cmd.Env, cmd.Stdout, cmd.Stderr = w.env, w.log, w.log
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		return cmd
	}
	postmaster := func() string {
		b, _ := os.ReadFile(filepath.Join(dir, "data", "postmaster.pid"))
		first, _, _ := strings.Cut(string(b), "\n")
		return first
	}
	answers := func() {
		t.Helper()
		w.eventually(30*time.Second, "the service answers", func() error {
			if m := printedToken.FindStringSubmatch(w.log.String()); m != nil {
				w.client.Token = m[1]
			}
			_, err := w.client.Status(t.Context())
			return err
		})
	}
	w.service = start()
	answers()
	if out, errs, code := w.run("serve", "--listen", "127.0.0.1:0", "--records-dir", dir); code != 1 ||
		!strings.Contains(errs, "in use by another pingo process") {
		t.Errorf("a second one on the directory: %d %s%s", code, out, errs)
	}
	reset := func() {
		t.Helper()
		out, errs, code := w.run("token", "reset", "--records-dir", dir)
		if code != 0 {
			t.Fatal(out, errs)
		}
		w.client.Token = strings.TrimSpace(out)
		if list, err := w.client.Tokens(t.Context()); err != nil && w.service != nil || err == nil && len(list) != 2 {
			t.Errorf("after a reset: %v %v", list, err)
		}
	}
	reset()
	first := postmaster()
	w.kill()
	w.service = start()
	answers()
	if now := postmaster(); now != first || first == "" {
		t.Errorf("PostgreSQL %s was not picked up, %s runs", first, now)
	}
	w.service.Process.Signal(syscall.SIGTERM)
	if err := w.service.Wait(); err != nil {
		t.Error(err)
	}
	if left := postmaster(); left != "" {
		t.Errorf("PostgreSQL %s was left behind", left)
	}
	w.service = nil
	reset() // nothing runs
	if left := postmaster(); left != "" {
		t.Errorf("PostgreSQL %s was left behind by a reset", left)
	}
	if out, errs, code := w.run("token", "reset", "--records-dir", dir+"2"); code != 1 || !strings.Contains(errs, "there are no records in") {
		t.Errorf("a folder that is not there: %d %s%s", code, out, errs)
	}
}

func TestTwoDemosSideBySide(t *testing.T) {
	type result struct {
		out []byte
		err error
	}
	results := make(chan result, 2)
	for _, seed := range []string{"1", "2"} {
		go func() {
			out, err := exec.Command(binary, "demo", "--once", "-o", "json", "--seed", seed).Output()
			results <- result{out, err}
		}()
	}
	for range 2 {
		r := <-results
		var s demo.Summary
		if err := json.Unmarshal(r.out, &s); err != nil || r.err != nil || !s.OK || s.ChangesSeen != s.ChangesMade ||
			s.ChangesMade < 300 ||
			s.Documents != s.Rows ||
			s.Rows < 1800 ||
			len(s.Checks) < 6 {
			t.Errorf("%s %v %v", r.out, r.err, err)
		}
	}
}

// Ctrl-C ends the demo and all that it has started.
func TestDemoLeavesNothingBehind(t *testing.T) {
	home := pgtest.Dir(t)
	cmd := exec.Command(binary, "demo")
	cmd.Env = append(os.Environ(), "TMPDIR="+home)
	log := &lockedBuffer{}
	cmd.Stdout, cmd.Stderr = log, log
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	w := &world{t: t}
	w.eventually(60*time.Second, "the demo is up", func() error {
		if !strings.Contains(log.String(), "Ctrl-C ends everything") {
			return fmt.Errorf("%s", log)
		}
		return nil
	})
	cmd.Process.Signal(os.Interrupt)
	if err := cmd.Wait(); err != nil {
		t.Errorf("%v\n%s", err, log)
	}
	if left, err := os.ReadDir(home); err != nil || len(left) > 0 {
		t.Error("files are left", left, err)
	}
	processes, err := filepath.Glob("/proc/[0-9]*/cmdline")
	if err != nil {
		t.Fatal(err)
	}
	for _, p := range processes {
		if text, _ := os.ReadFile(p); strings.Contains(string(text), home) {
			t.Errorf("a process is left: %q", text)
		}
	}
}

// Refused documents are gathered by cause, explained, and retried or dismissed.
func TestFailedDocuments(t *testing.T) {
	w := newWorld(t)
	lodge := pgtest.Connect(t, w.pg.URL("lodge"))
	if err := demo.Load(t.Context(), lodge, 100, 8); err != nil {
		t.Fatal(err)
	}
	pgtest.Exec(t, lodge, "UPDATE huts SET retired_at = NULL WHERE id < 10")
	w.serve()
	w.must("apply", "--yes", w.write(demo.Definition))
	const words = "failed to parse field [beds] of type [long] in document with id '%d'. Preview of field's value: 'x%[1]d'"
	w.fault(
		fmt.Sprintf(
			`{"refuse": {"3": %q, "4": %q, "5": "out of memory in segment 77"}}`,
			fmt.Sprintf(words, 3),
			fmt.Sprintf(words, 4),
		),
	)
	pgtest.Exec(t, lodge, "UPDATE huts SET beds = beds + 1 WHERE id IN (3, 4, 5, 6)")
	failed := func(n int64) {
		t.Helper()
		w.index(
			10*time.Second,
			"failed documents",
			"huts",
			func(ix api.IndexStatus) bool { return ix.Failed == n && ix.Waiting == 0 && empty(t, lodge) },
		)
	}
	failed(3)
	out := w.must("failed", "list")
	cause := regexp.MustCompile(`cause ([0-9a-f]{8}): 2 documents`).FindStringSubmatch(out)
	if cause == nil || !strings.Contains(out, "keeps beds as long") ||
		!strings.Contains(out, "out of memory in segment #") {
		t.Fatal(out)
	}
	if out := w.must("failed", "list", "huts", "--cause", cause[1]); !strings.Contains(out, "\n3 ") ||
		!strings.Contains(out, "\n4 ") ||
		strings.Contains(out, "\n5 ") {
		t.Error(out)
	}
	if out := w.must("failed", "show", "huts", "3"); !strings.Contains(out, `>   "beds":`) ||
		!strings.Contains(out, "The row still makes the same document") {
		t.Error(out)
	}
	// A retry that is refused again is counted; one that is accepted leaves the list.
	if out := w.must("failed", "retry", "huts", "--cause", cause[1]); !strings.Contains(
		out,
		"Sent again: 2 documents",
	) {
		t.Error(out)
	}
	w.eventually(5*time.Second, "it was tried again", func() error {
		if out := w.must("failed", "show", "huts", "3"); !strings.Contains(out, "failed twice") {
			return fmt.Errorf("%s", out)
		}
		return nil
	})
	w.fault(`{"refuse": {"5": "out of memory in segment 78"}}`)
	w.must("failed", "retry", "huts", "3", "4", "3")
	failed(1)
	w.equalTo(lodge, demo.Definition, "huts", 1)
	if out := w.must("failed", "dismiss", "huts", "--all", "--yes"); !strings.Contains(out, "Dismissed: 1 document.") {
		t.Error(out)
	}
	failed(0)
	if out := w.must("failed", "list"); !strings.Contains(out, "No document is failed") {
		t.Error(out)
	}
	for args, want := range map[string]string{
		"failed show huts 3":                "it may have been accepted since",
		"failed retry huts":                 "takes an index, and then keys, or --cause, or --all",
		"failed dismiss huts 3 --all":       "takes an index, and then keys, or --cause, or --all",
		"failed list hats":                  `did you mean "huts"?`,
		"failed retry huts --cause 0 --all": "takes an index",
	} {
		if out, errs, code := w.run(strings.Fields(args)...); code == 0 || !strings.Contains(errs, want) {
			t.Errorf("pingo %s: exit %d\n%s%s", args, code, out, errs)
		}
	}
}

// What a shell offers, and what scripts read.
func TestCommandLineHelpsItsUser(t *testing.T) {
	w := newWorld(t)
	w.serve()
	lodge := pgtest.Connect(t, w.pg.URL("lodge"))
	if err := demo.Load(t.Context(), lodge, 50, 3); err != nil {
		t.Fatal(err)
	}
	// The engine is asked for its kind, and what it said is kept.
	asked := strings.Replace(demo.Definition, "kind: opensearch", "headers: { X-Team: huts }", 1)
	if out, _, code := w.run("check", w.write(asked)); code != 5 ||
		!strings.Contains(out, "(recognized as kind opensearch)") {
		t.Fatalf("%d %s", code, out)
	}
	if _, err := w.client.Apply(t.Context(), []api.File{{Name: "pingo.yaml", Text: asked}}); err != nil {
		t.Fatal(err)
	}
	w.kill() // before it told of the index
	w.serve()
	if st, err := w.client.Status(t.Context()); err != nil || st.State == api.StateEmpty ||
		st.Version > 0 && len(st.Indexes) != 1 {
		t.Errorf("right after a restart, the index is not told of: %+v %v", st, err)
	}
	w.index(
		10*time.Second,
		"it goes on after a restart",
		"huts",
		func(ix api.IndexStatus) bool { return ix.State == api.StateInSync && ix.Live },
	)
	w.must("apply", "--yes", w.write(strings.Replace(demo.Definition, "sources:\n", "sources:\n  conditions: { kind: webhook, unsigned: allowed, records: { bulletins: { schema: { type: object, properties: { title: { type: string } } } } } }\n", 1)+`
  bulletins:
    engine: main
    rows: conditions.bulletins
    fields: [title]
`))
	for args, want := range map[string][]string{
		"preview ":                        {"huts"},
		"trace --change huts 1 --source ": {"lodge"},
		"search huts --sort alt":          {"altitude_m"},
		"search huts --facet region.c":    {"region.country"},
		"search huts --filter bed":        {"beds="},
		"token create x --role ":          {"viewer", "operator", "admin"},
		"status -o ":                      {"table", "json", "yaml"},
		"apply ":                          {"yaml"},
		"trace --change ":                 {"public.huts", "public.regions"},
		"drift show ":                     {"huts"},
		"hooks list ":                     {"conditions"},
		"load ":                           {"conditions"},
		"load conditions ":                {"bulletins"},
	} {
		out := w.must(append([]string{"__complete"}, strings.Split(args, " ")...)...)
		if hook := strings.HasPrefix(args, "hooks") || strings.HasPrefix(args, "load"); hook && strings.Contains(out, "lodge") {
			t.Errorf("pingo %s offers a source that receives nothing:\n%s", args, out)
		}
		for _, word := range want {
			if !strings.Contains("\n"+out, "\n"+word) {
				t.Errorf("pingo %s: %q is not offered:\n%s", args, word, out)
			}
		}
	}
	for args, want := range map[string]string{
		"search huts -n 101":  "--limit is a number from 1 to 100, not 101\nSee pingo search --help.",
		"capture show --nope": "See pingo capture show --help.",
		"search --help":       "1 to 100",
	} {
		if out, errs, _ := w.run(strings.Fields(args)...); !strings.Contains(out+errs, want) {
			t.Errorf("pingo %s: %s%s", args, out, errs)
		}
	}
	if out := w.must("schema", "-o", "yaml"); !strings.HasPrefix(out, "$defs:") {
		t.Errorf("schema in YAML begins %.80q", out)
	}
	if out := w.must("preview", "huts", "99999"); !strings.Contains(out, " 99999: No matching row and no document") {
		t.Error(out)
	}
	if out := w.must("trace", "huts", "7"); !strings.Contains(out, "The engine holds what the row makes now.") {
		t.Error(out)
	}
	pgtest.Exec(t, lodge, `ALTER TABLE guest_notes RENAME written_at TO "writtenAt"`)
	if out, _, code := w.run("check", w.write(strings.ReplaceAll(demo.Definition, "written_at", "writtenAt"))); code != 3 ||
		!strings.Contains(out, `write '"writtenAt" DESC': SQL needs double quotes around names with capitals, and YAML needs single quotes`) {
		t.Errorf("a mixed-case column in order: %d %s", code, out)
	}
	// Every mistake is reported in one run: of the language, of references, of the databases.
	renamed := strings.ReplaceAll(
		strings.ReplaceAll(demo.Definition, "order: written_at DESC", `order: '"writtenAt" DESC'`),
		"written_at:",
		"writtenAt:",
	)
	mistakes := renamed + `
  one: { engine: main, rows: lodge.huts, felds: [name], fields: [name] }
  two: { engine: mian, rows: lodge.huts, fields: [name] }
  three: { engine: main, rows: lodge.hust, fields: [name] }
  four: { engine: main, rows: lodge.huts, fields: { name: { sql: "lower(nme)" } } }
  five:
    engine: main
    rows: lodge.huts
    fields:
      sumary: { facets: true }
      bed: { filter: true }
      title: { combine: [name, bed] }
      name:
`
	if out, _, code := w.run("check", w.write(mistakes)); code != 3 ||
		strings.Count(out, ": index one has no key") != 1 ||
		strings.Count(out, `goes to engine "mian"`) != 1 ||
		strings.Count(out, `no table "hust"`) != 1 ||
		strings.Count(out, `no key "facets"`) != 1 ||
		strings.Count(out, `no column "bed"`) != 1 ||
		strings.Count(out, `no column "sumary"`) != 1 ||
		strings.Count(out, "to combine") != 0 ||
		strings.Count(out, "does not accept this expression") != 1 ||
		!strings.Contains(out, "source lodge      answers") {
		t.Errorf("%d %s", code, out)
	}
	// A removal that was not accepted is refused, not failed.
	other := strings.Replace(renamed, "\n  huts:", "\n  cabins:", 1)
	if out, errs, code := w.run("apply", "--yes", "--accept", "bulletins", w.write(other)); code != 3 ||
		!strings.Contains(errs, "--accept huts") {
		t.Errorf("an index is taken out: %d %s%s", code, out, errs)
	}
}
