package cli_test

import (
	"fmt"
	"net/url"
	"testing"
	"time"

	"pingo/internal/lab/demo"
	"pingo/internal/lab/pgtest"
	"pingo/internal/lab/slowlink"
)

// slow puts so much time between the service and a server, and returns the address with it.
func slow(t *testing.T, address string, delay time.Duration) string {
	t.Helper()
	u, err := url.Parse(address)
	if err != nil {
		t.Fatal(err)
	}
	link, err := slowlink.Start(u.Host, func() time.Duration { return delay })
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(link.Close)
	u.Host = link.Addr()
	return u.String()
}

// What was changed while the service was down is in the index once it is back, however far
// away its records, its source and its engine are.
func TestARestartLosesNothingOverSlowLinks(t *testing.T) {
	for what, far := range map[string]struct{ records, source, engine time.Duration }{
		"records": {records: 30 * time.Millisecond},
		"source":  {source: 30 * time.Millisecond},
		"engine":  {engine: 100 * time.Millisecond},
		"all":     {100 * time.Millisecond, 20 * time.Millisecond, 50 * time.Millisecond},
	} {
		t.Run(what, func(t *testing.T) {
			w := newWorld(t)
			lodge := pgtest.Connect(t, w.pg.URL("lodge"))
			if err := demo.Load(t.Context(), lodge, 300, 3); err != nil {
				t.Fatal(err)
			}
			// The service is told the slow addresses, everybody else the quick ones.
			w.env = append(
				w.env,
				"PINGO_RECORDS_URL="+slow(t, w.pg.URL("pingo"), far.records),
				"LODGE_URL="+slow(t, w.pg.URL("lodge"), far.source),
				"SEARCH_URL="+slow(t, w.engine.URL, far.engine),
			)
			w.serve()
			w.must("apply", "--yes", w.write(demo.Definition))
			for round := range 2 {
				w.kill()
				pgtest.Exec(
					t,
					lodge,
					fmt.Sprintf(
						"UPDATE huts SET name = 'Round %d of ' || id WHERE id %% 3 = 0; DELETE FROM guest_notes WHERE id %% 7 = %[1]d",
						round,
					),
				)
				w.serve()
				w.eventually(10*time.Second, "everything is equal", func() error {
					_, _, differences, err := demo.Compare(t.Context(), lodge, demo.Files(), "huts")
					if err == nil && len(differences) > 0 {
						err = fmt.Errorf("%d differences, first %v", len(differences), differences[0])
					}
					return err
				})
			}
		})
	}
}
