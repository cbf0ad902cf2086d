package cli_test

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os/exec"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"pingo/internal/api"
	"pingo/internal/client"
	"pingo/internal/lab/pgtest"
)

// Two processes fill one edition together, whichever of them dies or is paused while it has chunks of it, and while
// rows are written: every chunk is filled, and in the end the documents are what the rows make.
func TestProcessesFillOneEditionTogether(t *testing.T) {
	w := newWorld(t)
	lodge := pgtest.Connect(t, w.pg.URL("lodge"))
	const rows = 8_000
	pgtest.Exec(t, lodge, fmt.Sprintf(`CREATE TABLE tarns (id int PRIMARY KEY, name text, seen int NOT NULL);
		INSERT INTO tarns SELECT i, 'tarn ' || i || repeat(' of the upper valley', 150), 0 FROM generate_series(1, %d) i`, rows))
	w.serve()
	text := tarns("m0", "")
	w.must("apply", "--yes", w.write(text))
	other := freeAddress(t)
	w.second = w.process(other)
	processes := map[string]**exec.Cmd{w.address: &w.service, other: &w.second}
	clients := map[string]*client.Client{w.address: w.client, other: {URL: "http://" + other, Token: w.client.Token}}
	// roles waits until both processes work, and tells which feeds the source.
	roles := func() (holder, helper string) {
		w.eventually(30*time.Second, "both processes work", func() error {
			holder, helper = "", ""
			for _, c := range clients {
				status, err := c.Status(t.Context())
				if err != nil {
					return err
				}
				for _, p := range status.Processes {
					if len(p.Sources) > 0 {
						holder = p.Address
					} else {
						helper = p.Address
					}
				}
			}
			if holder == "" || helper == "" {
				return fmt.Errorf("fed by %q, with %q", holder, helper)
			}
			return nil
		})
		return holder, helper
	}
	ctx, stop := context.WithCancel(t.Context())
	defer stop()
	var work sync.WaitGroup
	writer := pgtest.Connect(t, w.pg.URL("lodge"))
	work.Go(func() {
		r := rand.New(rand.NewPCG(1, 1))
		for ctx.Err() == nil {
			id := 1 + r.IntN(rows)
			for _, sql := range [][]string{
				{"UPDATE tarns SET seen = seen + 1 WHERE id = $1"},
				{"DELETE FROM tarns WHERE id = $1"},
				{"INSERT INTO tarns VALUES ($1, 'new', 0) ON CONFLICT DO NOTHING"},
			}[r.IntN(3)] {
				if _, err := writer.Exec(context.Background(), sql, id); err != nil {
					t.Error(err)
					return
				}
			}
			time.Sleep(5 * time.Millisecond)
		}
	})
	w.fault(`{"slow_ms": 80}`)
	for _, happens := range []string{"nothing", "the helper is killed", "the holder is killed", "the helper is paused"} {
		holder, helper := roles()
		edition, seen := w.edition("tarns"), len(w.log.String())
		w.must("reindex", "start", "tarns", "--no-wait", "--url", clients[holder].URL)
		w.eventually(20*time.Second, "the other process helps", func() error {
			status, err := clients[holder].Status(t.Context())
			if err != nil || status.Index("tarns").Fill == nil || status.Index("tarns").Fill.Helpers == 0 {
				return fmt.Errorf("not yet, %v", err)
			}
			return nil
		})
		answers := holder
		switch happens {
		case "the helper is killed":
			(*processes[helper]).Process.Kill()
		case "the holder is killed":
			(*processes[holder]).Process.Kill()
			answers = helper
		case "the helper is paused":
			(*processes[helper]).Process.Signal(syscall.SIGSTOP)
		}
		w.eventually(60*time.Second, "another edition answers: "+happens, func() error {
			status, err := clients[answers].Status(t.Context())
			if err != nil {
				return err
			}
			if ix := status.Index("tarns"); ix == nil || ix.Edition == edition || !ix.Live || ix.Fill != nil {
				return fmt.Errorf("%+v", ix)
			}
			return nil
		})
		switch happens {
		case "the helper is killed", "the holder is killed":
			gone := helper
			if answers == helper {
				gone = holder
			}
			(*processes[gone]).Wait()
			*processes[gone] = w.process(gone)
		case "the helper is paused":
			(*processes[helper]).Process.Signal(syscall.SIGCONT)
			w.eventually(20*time.Second, "it goes on", func() error {
				_, err := clients[helper].Status(t.Context())
				return err
			})
		}
		if log := w.log.String()[seen:]; !strings.Contains(log, "helping to fill an edition") {
			t.Errorf("%s: no one helped", happens)
		}
		runs, err := clients[answers].Runs(t.Context(), "tarns")
		if err != nil || runs[0].Rows < rows*2/3 || runs[0].Rows > rows {
			t.Errorf("%s: %+v %v", happens, runs, err)
		}
	}
	stop()
	work.Wait()
	roles()
	w.fault(`{}`)
	w.must("wait", "tarns")
	w.index(20*time.Second, "nothing failed", "tarns", func(ix api.IndexStatus) bool { return ix.State == api.StateInSync })
	w.equalTo(lodge, text, "tarns", 0)
}
