package cli_test

import (
	"errors"
	"fmt"
	"maps"
	"math/rand/v2"
	"net/url"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"pingo/internal/api"
	"pingo/internal/lab/demo"
	"pingo/internal/lab/pgtest"
	"pingo/internal/lab/slowlink"
)

// slow puts some time between the service and a server, and returns the address with it.
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

// farAway is the environment of a process with 1 to 60 ms between it and each of some addresses.
func (w *world) farAway(r *rand.Rand, urls map[string]string) []string {
	w.t.Helper()
	env := slices.Clone(w.env)
	for _, name := range slices.Sorted(maps.Keys(urls)) {
		env = append(env, name+"="+slow(w.t, urls[name], time.Duration(1+r.IntN(60))*time.Millisecond))
	}
	return env
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
			// The service uses the slow addresses, all others the quick ones.
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
					_, _, differences, err := demo.Compare(t.Context(), lodge, demo.Files(), "huts", w.lookup)
					if err == nil && len(differences) > 0 {
						err = fmt.Errorf("%d differences, first %v", len(differences), differences[0])
					}
					return err
				})
			}
		})
	}
}

// newDemo is a world in which a small demo is served.
func newDemo(t *testing.T) (*world, *pgx.Conn) {
	t.Helper()
	w := newWorld(t)
	lodge := pgtest.Connect(t, w.pg.URL("lodge"))
	if err := demo.Load(t.Context(), lodge, 300, 3); err != nil {
		t.Fatal(err)
	}
	w.serve()
	w.must("apply", "--yes", w.write(demo.Definition))
	return w, lodge
}

// markMovesOn waits until the records know a mark of the only source that an older copy of it cannot have.
func (w *world) markMovesOn(own *pgx.Conn) {
	w.t.Helper()
	recorded := func() (mark int64) {
		w.t.Helper()
		err := own.QueryRow(w.t.Context(), "SELECT (claimed ->> 'mark')::bigint FROM lease").Scan(&mark)
		if err != nil {
			w.t.Fatal(err)
		}
		return mark
	}
	mark := recorded()
	w.eventually(15*time.Second, "the mark moves on", func() error {
		if now := recorded(); now < mark+2 {
			return fmt.Errorf("from %d to %d", mark, now)
		}
		return nil
	})
}

// A source that was put back to an older copy of itself is noticed, while Pingo runs and across a
// restart: it says so, and puts right what is no longer true.
func TestASourceThatGoesBackInTime(t *testing.T) {
	w, lodge := newDemo(t)
	server, own := pgtest.Connect(t, w.pg.URL("postgres")), pgtest.Connect(t, w.pg.URL("pingo"))
	inSync := func(ix api.IndexStatus) bool { return ix.State == api.StateInSync }
	for _, running := range []bool{true, false} {
		w.index(20*time.Second, "in sync", "huts", inSync)
		before := w.edition("huts")
		lodge.Close(t.Context())
		w.kill()
		pgtest.Exec(t, server, "CREATE DATABASE lodge_copy TEMPLATE lodge")
		w.serve()
		lodge = pgtest.Connect(t, w.pg.URL("lodge"))
		pgtest.Exec(
			t,
			lodge,
			"UPDATE huts SET name = 'Never ' || id WHERE id % 3 = 0; DELETE FROM huts WHERE id % 50 = 1",
		)
		w.index(20*time.Second, "in sync with what will be undone", "huts", func(ix api.IndexStatus) bool {
			return inSync(ix) && ix.Rows != nil && ix.Documents != nil && *ix.Rows == *ix.Documents
		})
		w.markMovesOn(own)
		lodge.Close(t.Context())
		if !running {
			w.kill()
		}
		pgtest.Exec(t, server, "DROP DATABASE lodge WITH (FORCE)")
		pgtest.Exec(t, server, "ALTER DATABASE lodge_copy RENAME TO lodge")
		if !running {
			w.serve()
		}
		lodge = pgtest.Connect(t, w.pg.URL("lodge"))
		pgtest.Exec(t, lodge, "UPDATE huts SET name = 'Now ' || id WHERE id % 7 = 0")
		w.eventually(20*time.Second, "it is noticed", func() error {
			if !strings.Contains(w.log.String(), "the source was put back to an older copy of itself") {
				return errors.New("the log does not say so")
			}
			return nil
		})
		w.index(30*time.Second, "another edition answers", "huts", func(ix api.IndexStatus) bool {
			return inSync(ix) && ix.Edition != before
		})
		w.equal(lodge, "huts")
	}
}

// A trigger of the application that changes rows before they are written hides nothing, though no statement names
// the column that it changes, and though it came later.
func TestALaterTriggerHidesNothing(t *testing.T) {
	w, lodge := newDemo(t)
	before := w.edition("huts")
	pgtest.Exec(t, lodge, `
		CREATE FUNCTION visited() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN NEW.name := NEW.name || '!'; RETURN NEW; END $$;
		CREATE TRIGGER visited BEFORE UPDATE ON huts FOR EACH ROW EXECUTE FUNCTION visited();
		UPDATE huts SET visits_counted = visits_counted + 1 WHERE id % 2 = 0`)
	w.eventually(20*time.Second, "every update is noticed", func() error {
		_, _, differences, err := demo.Compare(t.Context(), lodge, demo.Files(), "huts", w.lookup)
		if err == nil && len(differences) > 0 {
			err = fmt.Errorf("%d differences", len(differences))
		}
		return err
	})
	if now := w.edition("huts"); now != before {
		t.Errorf("%s was rebuilt, as %s", before, now)
	}
}
