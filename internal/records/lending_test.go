package records_test

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"testing"
	"time"

	"pingo/internal/core/reindex"
	"pingo/internal/core/shape"
	"pingo/internal/flow"
	"pingo/internal/lab/model"
	"pingo/internal/lab/pgtest"
	"pingo/internal/records"
)

// The records in memory lend chunks as those in the database do, whatever holders and helpers do to them; and never
// may two processes fill one chunk under the same loan.
func TestChunksAreLentAlikeInMemoryAndInTheDatabase(t *testing.T) {
	ctx := t.Context()
	db, err := records.Open(ctx, pgtest.URL(t))
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	both := []flow.Records{db, model.NewRecords()}
	editions := make([]*records.Edition, 2)
	holders, leases := make([]string, 2), make([]*records.Lease, 2)
	must := func(err error) {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
	}
	hold := func(i int, by string) {
		l, err := both[i].Take(ctx, "lodge", by, leases[i], 0)
		must(err)
		leases[i], holders[i] = l, by
		editions[i].Fence = l.Fence()
	}
	for i, r := range both {
		_, err := r.Apply(ctx, nil, nil, "me")
		must(err)
		editions[i], err = r.NewEdition(ctx, &shape.Shape{Index: "huts", Source: "lodge"}, "main", 1, records.Course{})
		must(err)
		hold(i, "A")
		editions[i].State = reindex.Filling
		must(r.SaveEdition(ctx, editions[i]))
	}
	random := rand.New(rand.NewPCG(5, 5))
	tasks := make([]map[string]*records.Task, 2) // by process, as it knows
	seen := make([][]records.Loan, 2)
	tasks[0], tasks[1] = map[string]*records.Task{}, map[string]*records.Task{}
	happened := map[string]int{}
	for n := range 3000 {
		what, process, number, roll := random.IntN(12), []string{"A", "B", "C"}[random.IntN(3)], random.IntN(n+1), random.IntN(100)
		outcomes := make([]string, 2)
		for i, r := range both {
			e := *editions[i]
			told := func(name string, done any, err error) {
				if errors.Is(err, records.ErrLost) {
					name, err = name+" lost", nil
				}
				must(err)
				outcomes[i] = fmt.Sprint(name, " ", done)
			}
			helped := e // as a helper knows it
			if task := tasks[i][process]; task != nil {
				helped.Fence = task.Fence
			}
			if roll < 3 {
				helped.Birth = "other"
			}
			switch task := tasks[i][process]; what {
			case 0, 1:
				told("plan", "", r.PlanChunk(ctx, &e, records.Chunk{Number: n, Upto: []string{"k"}}, 0, false, number%3 > 0))
			case 2, 3, 4:
				got, err := r.TakeChunk(ctx, &helped, process, min(1, roll/4))
				done := 0
				if got != nil {
					done = got.Number
					if tasks[i][process] = got; got.Fence != leases[i].Fence() || got.Epoch != leases[i].Epoch || process == holders[i] {
						t.Fatalf("step %d: %s got %+v under %s", n, process, got, leases[i].Fence())
					}
				}
				told("take", done, err)
			case 5, 6:
				if task != nil {
					told("keep", "", r.KeepChunk(ctx, &helped, task.Number, process))
				}
			case 7, 8:
				if task != nil {
					told("return", "", r.ReturnChunk(ctx, &helped, records.Loan{
						Number: task.Number, Process: process, Filled: number%2 == 0, Late: roll%2 == 0, Rows: 5, Bytes: 7}))
				}
			case 9:
				list, err := r.Loans(ctx, &e)
				seen[i] = list
				told("loans", fmt.Sprintf("%+v", list), err)
			case 10:
				if len(seen[i]) > 0 {
					back, err := r.TakeBack(ctx, &e, seen[i][number%len(seen[i])])
					told("back", back, err)
				}
			case 11:
				switch {
				case roll < 10:
					told("all back", "", r.TakeAllBack(ctx, &e))
				case roll < 15:
					hold(i, process)
				case roll < 20:
					e.State = []reindex.State{reindex.CatchingUp, reindex.Filling}[number%2]
					told("state", "", r.SaveEdition(ctx, &e))
				case len(seen[i]) > 0:
					x := seen[i][number%len(seen[i])]
					told("done", "", r.ChunkDone(ctx, &e, records.Chunk{Number: x.Number}, x.Rows, x.Bytes))
				}
			}
		}
		if outcomes[0] != outcomes[1] {
			t.Fatalf("step %d:\nin the database %s\nin memory       %s", n, outcomes[0], outcomes[1])
		}
		kind := ""
		fmt.Sscan(outcomes[0], &kind)
		happened[kind]++
		states := make([]bool, 2)
		rows := make([]int64, 2)
		for i, r := range both {
			list, err := r.EditionStates(ctx)
			must(err)
			full, err := r.Editions(ctx)
			must(err)
			states[i], rows[i] = list[0].Offered, full[0].Rows
		}
		if states[0] != states[1] || rows[0] != rows[1] {
			t.Fatalf("step %d: offered %v, rows %v", n, states, rows)
		}
	}
	for _, kind := range []string{"plan", "take", "keep", "return", "loans", "back", "done"} {
		if happened[kind] < 20 {
			t.Errorf("%s happened %d times only: %v", kind, happened[kind], happened)
		}
	}
}

// What is to be built again is in memory as in the database, also when it begins again or the lease is lost.
func TestRebuildsStandAlikeInMemoryAndInTheDatabase(t *testing.T) {
	ctx := t.Context()
	db, err := records.Open(ctx, pgtest.URL(t))
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	at := time.Now().UTC().Truncate(time.Second)
	var told [2][]string
	for i, r := range []flow.Records{db, model.NewRecords()} {
		say := func(err error) {
			t.Helper()
			list, broken := r.Rebuilds(ctx, &records.Edition{Index: "huts", Number: 1})
			if broken != nil || err != nil && !errors.Is(err, records.ErrLost) {
				t.Fatal(broken, err)
			}
			text := fmt.Sprint(err, ": ")
			for _, b := range list {
				text += fmt.Sprint(b.Tree, b.Upto, b.Rows, b.At.Sub(at), b.Paused, "; ")
			}
			told[i] = append(told[i], text)
		}
		_, err := r.Apply(ctx, nil, nil, "me")
		say(err)
		e, err := r.NewEdition(ctx, &shape.Shape{Index: "huts", Source: "lodge"}, "main", 1, records.Course{})
		say(err)
		l, err := r.Take(ctx, "lodge", "A", nil, 0)
		say(err)
		e.Fence = l.Fence()
		pause := func(paused bool) {
			any, err := r.PauseRebuilds(ctx, e, paused, "by a person")
			say(err)
			told[i] = append(told[i], fmt.Sprint(any))
		}
		pause(true) // there is none
		say(r.AddRebuild(ctx, e, 1, at.Add(time.Minute)))
		pause(true)
		say(r.AddRebuild(ctx, e, 0, at.Add(time.Hour)))
		list, err := r.Rebuilds(ctx, e)
		say(err)
		first := list[0]
		first.Upto, first.Rows = []string{"k", "\"\x00\xe9"}, 7
		say(r.RebuiltTo(ctx, e, first))
		say(r.AddRebuild(ctx, e, 1, at)) // it begins again, and has been asked for since earlier
		pause(false)
		first.Upto = []string{"z"}
		say(r.RebuiltTo(ctx, e, first)) // of before
		first.Upto = nil
		say(r.RebuiltTo(ctx, e, first))
		list, err = r.Rebuilds(ctx, e)
		say(err)
		if list[0].Generation == first.Generation {
			t.Error("a rebuild that begins again looks like the one before")
		}
		say(r.RebuiltTo(ctx, e, records.Rebuild{Tree: list[0].Tree, Generation: list[0].Generation}))
		_, err = r.Take(ctx, "lodge", "B", l, 0)
		say(err)
		say(r.AddRebuild(ctx, e, 0, at))
		say(r.RebuiltTo(ctx, e, records.Rebuild{Tree: 0, Generation: list[1].Generation}))
	}
	for i := range told[0] {
		if told[0][i] != told[1][i] {
			t.Errorf("step %d:\nin the database %s\nin memory       %s", i, told[0][i], told[1][i])
		}
	}
}
