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

// The records in memory, which the small storm rests on, take and refuse what those in the database do,
// whatever is done to editions; and never does more than one edition of an index answer.
func TestEditionsLiveAlikeInMemoryAndInTheDatabase(t *testing.T) {
	ctx := t.Context()
	db, err := records.Open(ctx, pgtest.URL(t))
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	memory := model.NewRecords()
	both := []flow.Records{db, memory}
	s := &shape.Shape{Index: "huts", Source: "lodge"}
	fences := make([]string, 2)
	for i, r := range both {
		if _, err := r.Apply(ctx, nil, nil, "me"); err != nil {
			t.Fatal(err)
		}
		lease, err := r.Take(ctx, "lodge", "A", nil, 0)
		if err != nil || lease == nil {
			t.Fatal(lease, err)
		}
		fences[i] = lease.Fence()
	}
	random := rand.New(rand.NewPCG(9, 9))
	states := []reindex.State{reindex.Filling, reindex.CatchingUp, reindex.Checking, reindex.Ready}
	happened := map[string]int{}
	for n := range 2000 {
		if n%25 == 0 { // it begins again
			for _, r := range both {
				list, err := r.Editions(ctx)
				if err != nil {
					t.Fatal(err)
				}
				for _, e := range list {
					if err := r.DeleteEdition(ctx, e); err != nil {
						t.Fatal(err)
					}
				}
			}
		}
		list, err := memory.Editions(ctx)
		if err != nil {
			t.Fatal(err)
		}
		at, what, state := random.IntN(len(list)+1), random.IntN(15), states[random.IntN(len(states))]
		keep := []time.Duration{0, time.Hour, -time.Hour}[random.IntN(3)]
		outcomes := make([]string, 2)
		for i, r := range both {
			list, err := r.Editions(ctx)
			if err != nil {
				t.Fatal(err)
			}
			if at == len(list) || what == 0 {
				e, err := r.NewEdition(ctx, s, "main", 1, records.Course{Paused: keep == 0})
				if err != nil {
					t.Fatal(err)
				}
				outcomes[i] = fmt.Sprint("new ", e.Number)
				continue
			}
			e := list[at]
			e.Fence = fences[i]
			told := func(name string, done any, err error) {
				switch {
				case errors.Is(err, records.ErrOvertaken):
					name += " overtaken"
				case errors.Is(err, records.ErrLost):
					name += " lost"
				case err != nil:
					t.Fatal(name, err)
				}
				outcomes[i] = fmt.Sprint(name, " ", done)
			}
			switch what {
			case 1, 2:
				if !e.State.Pending() { // no fill is at work
					continue
				}
				e.State = state
				told("save", "", r.SaveEdition(ctx, e))
			case 3, 4, 10, 11:
				told("switched", "", r.SaveSwitched(ctx, e, max(0, keep)))
			case 5, 12, 13:
				done, err := r.Return(ctx, e)
				told("return", done, err)
			case 6:
				done, err := r.Retire(ctx, e)
				told("retire", done, err)
			case 7:
				told("missed", "", r.SaveMissed(ctx, e, "because", true))
			case 8:
				next, err := r.Refill(ctx, e)
				told("refill", next != nil, err)
			case 14:
				done, err := r.Drop(ctx, e)
				told("drop", done, err)
			case 9:
				told("delete", "", r.DeleteEdition(ctx, e))
			}
		}
		happened[outcomes[0]]++
		var seen [2]string
		answering := 0
		for i, r := range both {
			list, err := r.EditionStates(ctx)
			if err != nil {
				t.Fatal(err)
			}
			for _, e := range list {
				seen[i] += fmt.Sprintf(
					"%d %s expired %t refill %t paused %t; ",
					e.Number,
					e.State,
					e.Expired,
					e.Refill,
					e.Paused,
				)
				if e.State == reindex.Switched {
					answering++
				}
			}
		}
		if outcomes[0] != outcomes[1] || seen[0] != seen[1] {
			t.Fatalf(
				"step %d, of edition %d:\nin the database %s: %s\nin memory       %s: %s",
				n,
				at,
				outcomes[0],
				seen[0],
				outcomes[1],
				seen[1],
			)
		}
		if answering > 2 { // one in each
			t.Fatalf("step %d: more than one answers: %s", n, seen[0])
		}
	}
	for _, want := range []string{"return true", "retire true", "retire false", "switched overtaken ", "switched ", "refill true", "refill false"} {
		if happened[want] == 0 {
			t.Errorf("%q never happened: %v", want, happened)
		}
	}
}

// An edition that is about to answer again, but lacks changes, is dropped: it would answer wrongly, and one that the
// engine does not have any longer would stay so for ever.
func TestNoEditionReturnsThatLacksChanges(t *testing.T) {
	ctx := t.Context()
	db, err := records.Open(ctx, pgtest.URL(t))
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	for _, r := range []flow.Records{db, model.NewRecords()} {
		if _, err := r.Apply(ctx, nil, nil, "me"); err != nil {
			t.Fatal(err)
		}
		lease, err := r.Take(ctx, "lodge", "A", nil, 0)
		if err != nil || lease == nil {
			t.Fatal(lease, err)
		}
		var first *records.Edition
		for range 2 {
			e, err := r.NewEdition(ctx, &shape.Shape{Index: "huts", Source: "lodge"}, "main", 1, records.Course{})
			if err != nil {
				t.Fatal(err)
			}
			if e.Fence = lease.Fence(); first == nil {
				first = e
			}
			e.State = reindex.Ready
			if err := errors.Join(r.SaveEdition(ctx, e), r.SaveSwitched(ctx, e, time.Hour)); err != nil {
				t.Fatal(err)
			}
		}
		if done, err := r.Return(ctx, first); err != nil || !done {
			t.Fatal(done, err)
		}
		if gone, err := r.Retire(ctx, first); err != nil || gone {
			t.Errorf("retired while it returns: %t %v", gone, err)
		}
		if err := r.SaveMissed(ctx, first, "because", true); err != nil {
			t.Fatal(err)
		}
		states, err := r.EditionStates(ctx)
		if err != nil || !states[0].Expired {
			t.Errorf("%+v %v", states, err)
		}
		if gone, err := r.Retire(ctx, first); err != nil || !gone {
			t.Errorf("retired: %t %v", gone, err)
		}
	}
}
