package cli_test

import (
	"errors"
	"fmt"
	"strings"
	"syscall"
	"testing"
	"time"

	"pingo/internal/api"
	"pingo/internal/client"
	"pingo/internal/lab/pgtest"
)

// Two processes on the same records share the sources, answer for each other, and take
// over when one is paused or dies; the paused one does no harm when it wakes.
func TestProcessesShareAndTakeOver(t *testing.T) {
	w := newWorld(t)
	lodge, tables := pgtest.Connect(t, w.pg.URL("lodge")), pgtest.Connect(t, w.pg.URL("tables"))
	pgtest.Exec(
		t,
		lodge,
		"CREATE TABLE huts (id int PRIMARY KEY, name text); INSERT INTO huts SELECT n, 'hut ' || n FROM generate_series(1, 50) n",
	)
	pgtest.Exec(
		t,
		tables,
		"CREATE TABLE paths (id int PRIMARY KEY, name text); INSERT INTO paths SELECT n, 'path ' || n FROM generate_series(1, 50) n",
	)
	w.serve()
	text := `
sources:
  lodge: { kind: postgres, url: "${LODGE_URL}", capture: triggers }
  ways: { kind: postgres, url: "${TABLES_URL}", capture: triggers }
engines:
  main: { kind: opensearch, url: "${SEARCH_URL}" }
indexes:
  huts: { engine: main, rows: lodge.huts, fields: { name: { search: 1 } } }
  paths: { engine: main, rows: ways.paths, fields: { name: { search: 1 } } }
`
	w.must("apply", "--yes", w.write(text))
	address := freeAddress(t)
	w.second = w.process(address)
	second := &client.Client{URL: "http://" + address, Token: w.client.Token}
	// holds waits until a process of these addresses feeds each source, and says which.
	holds := func(c *client.Client, most time.Duration, ok func(by map[string]string) bool) {
		t.Helper()
		w.eventually(most, "the sources are shared", func() error {
			status, err := c.Status(t.Context())
			if err != nil {
				return err
			}
			by := map[string]string{}
			for _, p := range status.Processes {
				for _, source := range p.Sources {
					by[source] = p.Address
				}
			}
			if len(status.Indexes) != 2 || !ok(by) {
				return fmt.Errorf("%v %+v", by, status.Indexes)
			}
			for _, ix := range status.Indexes {
				if ix.State != api.StateInSync {
					return fmt.Errorf("%+v", ix)
				}
			}
			return nil
		})
	}
	var feeds map[string]string
	shared := func(by map[string]string) bool {
		feeds = by
		return len(by) == 2 && by["lodge"] != by["ways"]
	}
	found := func(c *client.Client, index, word string) {
		t.Helper()
		w.eventually(25*time.Second, word+" is found", func() error {
			out, errs, _ := w.run("search", index, word, "--url", c.URL)
			if !strings.Contains(out, word) {
				return errors.New(out + errs)
			}
			return nil
		})
	}
	for _, c := range []*client.Client{w.client, second} {
		holds(c, 20*time.Second, shared)
	}
	pgtest.Exec(t, lodge, "UPDATE huts SET name = 'Krummhorn' WHERE id = 7")
	pgtest.Exec(t, tables, "UPDATE paths SET name = 'Gratweg' WHERE id = 7")
	for _, c := range []*client.Client{w.client, second} { // each answers for both
		found(c, "huts", "Krummhorn")
		found(c, "paths", "Gratweg")
	}
	// What happened to a document recently is known to the process that feeds its index; the other process says who that is.
	for address, c := range map[string]*client.Client{w.address: w.client, address: second} {
		traced, err := c.Trace(t.Context(), "huts", "7")
		mine := feeds["lodge"] == address
		if err != nil || mine != (traced.FedBy == "") || mine != (traced.Deliveries != nil && len(traced.Deliveries.Last) > 0) || !mine && traced.FedBy != feeds["lodge"] {
			t.Errorf("at %s, while %v: %+v %v", address, feeds, traced, err)
		}
	}
	// The first is paused in the middle of a delivery; the other takes over.
	status, err := second.Status(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	index, table, row := "huts", "huts", lodge
	for _, p := range status.Processes {
		if p.Address == w.address && p.Sources[0] == "ways" {
			index, table, row = "paths", "paths", tables
		}
	}
	w.fault(`{"slow_ms": 1500}`)
	pgtest.Exec(t, row, "UPDATE "+table+" SET name = 'Altname' WHERE id IN (7, 8)")
	time.Sleep(300 * time.Millisecond)
	if err := w.service.Process.Signal(syscall.SIGSTOP); err != nil {
		t.Fatal(err)
	}
	w.fault(`{}`)
	pgtest.Exec(t, row, "UPDATE "+table+" SET name = 'Neuname' WHERE id = 7; DELETE FROM "+table+" WHERE id = 8")
	holds(
		second,
		25*time.Second,
		func(by map[string]string) bool { return by["lodge"] == address && by["ways"] == address },
	)
	found(second, index, "Neuname")
	if err := w.service.Process.Signal(syscall.SIGCONT); err != nil {
		t.Fatal(err)
	}
	holds(w.client, 25*time.Second, shared) // it takes a share again
	time.Sleep(time.Second)
	found(second, index, "Neuname")
	if out, _, _ := w.run("search", index, "Altname", "--url", second.URL); strings.Contains(out, "Altname") {
		t.Errorf("a process that was paused has brought back what was changed since:\n%s", out)
	}
	// A definition that one process is given is carried out by whoever holds the source.
	pgtest.Exec(t, lodge, "ALTER TABLE huts ADD beds int; UPDATE huts SET beds = id")
	text = strings.Replace(text, "name: { search: 1 } } }", "name: { search: 1 }, beds: { sort: true } } }", 1)
	w.must("apply", "--yes", "--url", second.URL, w.write(text))
	w.index(
		25*time.Second,
		"the new edition answers",
		"huts",
		func(ix api.IndexStatus) bool { return strings.HasPrefix(ix.Edition, "huts-e2-") && ix.Live },
	)
	holds(w.client, 25*time.Second, shared)
	// One dies; the other has everything within seconds.
	w.kill()
	pgtest.Exec(t, lodge, "UPDATE huts SET name = 'Zuletzt' WHERE id = 9")
	found(second, "huts", "Zuletzt")
	holds(
		second,
		25*time.Second,
		func(by map[string]string) bool { return by["lodge"] == address && by["ways"] == address },
	)
}
