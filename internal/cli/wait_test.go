package cli_test

import (
	"fmt"
	"net/http"
	"strings"
	"testing"
	"time"

	"pingo/internal/client"
	"pingo/internal/lab/demo"
	"pingo/internal/lab/pgtest"
)

// After a wait, searches find what was committed before; or it says what it waits for. It is
// the same through a process that does not feed the index.
func TestWaitUntilChangesAreFound(t *testing.T) {
	w := newWorld(t)
	lodge := pgtest.Connect(t, w.pg.URL("lodge"))
	if err := demo.Load(t.Context(), lodge, 200, 1); err != nil {
		t.Fatal(err)
	}
	w.serve()
	w.eventually(10*time.Second, "the definition is applied", func() error {
		_, err := w.client.Apply(t.Context(), demo.Files())
		return err
	})
	w.must("wait", "finder") // also for the first fill
	address := freeAddress(t)
	w.second = w.process(address)
	other := &client.Client{URL: "http://" + address, Token: w.client.Token}
	w.eventually(10*time.Second, "the second process knows the index", func() error {
		_, err := other.Wait(t.Context(), "finder", 30)
		return err
	})
	for i := range 20 {
		name := fmt.Sprintf("Quonset%d", i)
		pgtest.Exec(t, lodge, "UPDATE huts SET name = $1, retired_at = NULL WHERE id = 42", name)
		if i%2 == 0 {
			w.must("wait", "finder")
		} else if waited, err := other.Wait(t.Context(), "finder", 30); err != nil || !waited.Found {
			t.Fatal(waited, err)
		}
		if out := w.must("search", "finder", name); !strings.Contains(out, name) {
			t.Fatalf("%s is not found after a wait: %s", name, out)
		}
	}
	// What was set aside is waited for, too: a change of very many documents.
	pgtest.Exec(t, lodge, "UPDATE regions SET name = 'Quonset Land'")
	w.must("wait", "finder")
	if out := w.must("search", "finder", "quonset", "land", "-n", "1"); !strings.Contains(out, "Quonset Land") {
		t.Error(out)
	}

	w.fault(`{"unavailable": -1}`)
	pgtest.Exec(t, lodge, "UPDATE huts SET name = 'Nissen' WHERE id = 42")
	out, errs, code := w.run("wait", "finder", "--timeout", "2s")
	if code != 1 || !strings.Contains(errs, "timed out: finder is not up to date after 2s:") {
		t.Errorf("exit %d: %s%s", code, out, errs)
	}
	w.fault(`{}`)
	w.must("wait", "finder")
	if _, errs, code := w.run("wait", "nothing"); code != 1 ||
		!strings.Contains(errs, `index "nothing" is not known`) {
		t.Errorf("exit %d: %s", code, errs)
	}
	if _, _, code := w.run("wait", "finder", "--timeout", "1h"); code != 2 {
		t.Errorf("exit %d", code)
	}

	// Editions that no one knows any longer are listed, and go on request.
	put := func(path, body string) {
		request, err := http.NewRequestWithContext(
			t.Context(),
			http.MethodPut,
			w.engine.URL+path,
			strings.NewReader(body),
		)
		if err != nil {
			t.Fatal(err)
		}
		response, err := http.DefaultClient.Do(request)
		if err != nil || response.StatusCode != 200 {
			t.Fatal(response, err)
		}
		response.Body.Close()
	}
	if out := w.must("leftovers", "list"); !strings.Contains(out, "Nothing is left over") {
		t.Error(out)
	}
	put("/peaks-e3-k7w2qd", `{"aliases": {"peaks-e3-k7w2qd-write": {}, "peaks": {}}}`)
	put("/peaks-e2-aaaaaa", `{"aliases": {"peaks-e2-aaaaaa-write": {}}}`)
	put("/somebody", `{}`)
	if out := w.must("leftovers", "list"); !strings.Contains(out, "peaks-e3-k7w2qd") || !strings.Contains(out, "peaks-e2-aaaaaa") ||
		strings.Contains(out, "somebody") ||
		strings.Contains(out, "finder") {
		t.Error(out)
	}
	for edition, want := range map[string]string{
		"peaks-e3-k7w2qd":   "is still live as peaks",
		w.edition("finder"): "belongs to an index of these records",
		"somebody":          "is not known",
	} {
		if _, errs, code := w.run("leftovers", "remove", "--yes", "main", edition); code != 1 ||
			!strings.Contains(errs, want) {
			t.Errorf("%s: exit %d: %s", edition, code, errs)
		}
	}
	w.must("leftovers", "remove", "--yes", "main", "peaks-e2-aaaaaa")
	if out := w.must("leftovers", "list"); strings.Contains(out, "peaks-e2") {
		t.Error(out)
	}
}

// Settings that the engine refuses are found by check, in its words, and keep apply from
// beginning.
func TestSettingsAreTriedByCheck(t *testing.T) {
	w := newWorld(t)
	lodge := pgtest.Connect(t, w.pg.URL("lodge"))
	pgtest.Exec(t, lodge, "CREATE TABLE tarns (id int PRIMARY KEY, name text)")
	w.serve()
	definition := func(settings string) string {
		return w.write(`
sources: { lodge: { kind: postgres, url: "${LODGE_URL}" } }
engines: { main: { kind: opensearch, url: "${SEARCH_URL}" } }
indexes:
  tarns: { engine: main, rows: lodge.tarns, fields: { name: { search: 1 } }, engine_settings: ` + settings + ` }
`)
	}
	for settings, want := range map[string]string{
		"{ colour: red }":            "unknown setting [index.colour]",
		"{ refresh_interval: soon }": "failed to parse setting [index.refresh_interval] with value [soon]",
		"{ gc_deletes: 10s }":        "deletions must be remembered for 5m at least",
	} {
		for _, command := range [][]string{{"check"}, {"apply", "--yes"}} {
			out, errs, code := w.run(append(command, definition(settings))...)
			if code != 3 || !strings.Contains(out+errs, want) {
				t.Errorf("%v %s: exit %d: %s%s", command, settings, code, out, errs)
			}
		}
	}
	w.must("apply", "--yes", definition("{ number_of_replicas: 0 }"))
	w.must("wait", "tarns")
}
