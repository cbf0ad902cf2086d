package cli_test

import (
	"errors"
	"fmt"
	"os"
	"strings"
	"testing"
	"time"

	"pingo/internal/api"
	"pingo/internal/lab/mariatest"
)

const acrossDefinition = `
sources:
  lodge: { kind: postgres, url: "${LODGE_URL}" }
  paths: { kind: mariadb, url: "${PATHS_URL}" }
engines:
  main: { kind: opensearch, url: "${SEARCH_URL}" }
indexes:
  huts: { engine: main, rows: lodge.items, fields: [n] }
  both:
    engine: main
    rows: lodge.items
    fields: [n]
    related: { path: { one: items, source: paths, on: { id: id }, fields: [n] } }
`

// A source that does not answer holds up the indexes that need it, and no others, whatever comes
// meanwhile; and a process ends while it is away.
func TestASourceThatIsAwayHoldsUpNoOther(t *testing.T) {
	m := newMixed(t)
	m.serve()
	m.eventually(20*time.Second, "the definition is applied", func() error {
		_, err := m.client.Apply(t.Context(), []api.File{{Name: "d.yaml", Text: acrossDefinition}})
		return err
	})
	stop := func() {
		t.Helper()
		if err := m.service.Process.Signal(os.Interrupt); err != nil {
			t.Fatal(err)
		}
		late := time.AfterFunc(10*time.Second, func() {
			t.Error("the process did not end")
			m.service.Process.Kill()
		})
		defer late.Stop()
		m.service.Wait()
	}
	inSync := func(ix api.IndexStatus) bool { return ix.State == "in sync" && ix.Waiting == 0 }
	m.index(30*time.Second, "all is filled", "both", inSync)
	stop()
	m.maria.Kill()
	m.serve()
	const rows = 60_000 // more than wait in memory
	mariatest.Exec(t, m.db["lodge"], fmt.Sprintf(
		"INSERT INTO items SELECT 'more ' || i, i, 'more' FROM generate_series(1, %d) i", rows))
	m.index(60*time.Second, "the others go on", "huts", func(ix api.IndexStatus) bool {
		return inSync(ix) && ix.Documents != nil && *ix.Documents == rows+mixedItems
	})
	m.index(10*time.Second, "it says why it waits", "both", func(ix api.IndexStatus) bool {
		return ix.State == "waiting" && ix.Trouble != nil && !ix.Trouble.Blocked
	})
	stop()
	m.serve()
	if err := m.maria.Restart(t.Context()); err != nil {
		t.Fatal(err)
	}
	mariatest.Exec(t, m.db["paths"], "UPDATE items SET n = 77 WHERE id = '7'")
	m.index(120*time.Second, "all is made up for", "both", func(ix api.IndexStatus) bool {
		return inSync(ix) && ix.Documents != nil && *ix.Documents == rows+mixedItems
	})
	m.eventually(10*time.Second, "the related row is in", func() error {
		preview, err := m.client.Preview(t.Context(), "both", "7")
		if err == nil && (!preview.Same || string(preview.Stored) == "null") {
			err = fmt.Errorf("%+v", preview)
		}
		return err
	})
}

const placesDefinition = `
sources:
  lodge: { kind: postgres, url: "${LODGE_URL}" }
  paths: { kind: mariadb, url: "${PATHS_URL}" }
engines: { main: { kind: opensearch, url: "${SEARCH_URL}" } }
indexes:
  places:
    engine: main
    rows:
      hut: { table: lodge.items, fields: [n] }
      stage: { table: paths.stages, fields: [n] }
`

// A key is taken as it is written, whatever is in it, and no row is found by what only looks like its key.
func TestKeysOfSeveralRows(t *testing.T) {
	m := newMixed(t)
	mariatest.Exec(
		t,
		m.db["paths"],
		"CREATE TABLE stages (trail int, name varchar(20), n int, PRIMARY KEY (trail, name))",
	)
	mariatest.Exec(t, m.db["paths"], "INSERT INTO stages VALUES (3, 'x, y/z%', 1), (4, 'plain', 2)")
	m.serve()
	m.eventually(20*time.Second, "the definition is applied", func() error {
		_, err := m.client.Apply(t.Context(), []api.File{{Name: "d.yaml", Text: placesDefinition}})
		return err
	})
	m.index(
		30*time.Second,
		"all is filled",
		"places",
		func(ix api.IndexStatus) bool { return ix.State == "in sync" && ix.Live },
	)
	for key, want := range map[string]string{
		"hut,7": "", "stage,3,x~1 y/z%": "", "stage,4,plain": "",
		"stage,4a,plain": `has the key "stage,4,plain"`, "hut": "key",
	} {
		traced, err := m.client.Trace(t.Context(), "places", key)
		preview, err2 := m.client.Preview(t.Context(), "places", key)
		if want != "" {
			for _, err := range []error{err, err2} {
				var p *api.Problem
				if !errors.As(err, &p) || p.Status != 400 || !strings.Contains(p.Detail, want) {
					t.Errorf("%s: %v, want %s", key, err, want)
				}
			}
			continue
		}
		if err != nil || err2 != nil || !traced.Row || traced.Key != key || string(traced.Stored) == "null" ||
			!preview.Same {
			t.Errorf("%s: %+v %v, %+v %v", key, traced, err, preview, err2)
		}
	}
	// A table that was dropped can be left behind.
	mariatest.Exec(t, m.db["paths"], "DROP TABLE stages")
	rest := strings.Replace(placesDefinition, "      stage: { table: paths.stages, fields: [n] }\n", "", 1)
	plan, err := m.client.Check(t.Context(), []api.File{{Name: "d.yaml", Text: placesDefinition}})
	if err != nil || len(plan.Findings) != 1 || !strings.Contains(plan.Findings[0].Message, "stages") {
		t.Errorf("a check of what is gone: %+v %v", plan, err)
	}
	if _, err := m.client.Apply(t.Context(), []api.File{{Name: "d.yaml", Text: rest}}, "places"); err != nil {
		t.Error(err)
	}
	m.index(30*time.Second, "the rest is filled", "places", func(ix api.IndexStatus) bool {
		return ix.State == "in sync" && ix.Documents != nil && *ix.Documents == mixedItems
	})
}
