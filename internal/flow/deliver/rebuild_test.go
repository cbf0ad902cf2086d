package deliver

import (
	"context"
	"math/rand/v2"
	"slices"
	"sync/atomic"
	"testing"
	"time"

	"pingo/internal/core/change"
	"pingo/internal/core/reindex"
	"pingo/internal/lab/model"
	"pingo/internal/records"
)

func (r *rig) rebuild() {
	r.t.Helper()
	ticket := change.NewTicket(time.Now(), func() {})
	if recorded, err := r.e.Rebuild(r.t.Context(), 0, ticket); err != nil || !recorded {
		r.t.Fatal(recorded, err)
	}
}

// All documents are built again while single ones change and the process ends in between, on an engine that keeps
// whatever comes last: none steps back, none is in two requests, it goes on where it was, and what is asked for
// meanwhile begins from the start.
func TestARebuildAndAStreamNeverStepBack(t *testing.T) {
	inTime(t, func(t *testing.T) {
		r := newRig(t, 6000)
		r.table.Slow = 15 * time.Millisecond
		var n atomic.Int64
		r.engine.Latency = func() time.Duration { return time.Duration(n.Add(7)%6) * time.Millisecond }
		stop := r.run()
		random := rand.New(rand.NewPCG(3, 3))
		var waits []chan struct{}
		r.rebuild()
		resumed := false
		for step := 0; r.e.Waiting() > 0 || step < 400; step++ {
			key := model.Key(random.IntN(6100))
			if random.IntN(10) == 0 {
				r.table.Set(key, !slices.Contains(r.table.Rows(), key))
			}
			waits = append(waits, r.change(key))
			time.Sleep(time.Millisecond)
			switch step {
			case 30:
				r.rebuild() // another change asks for the same
			case 150:
				for _, w := range waits {
					r.within("a change", w)
				}
				waits = nil
				stop()
				list, err := r.store.Rebuilds(t.Context(), r.e.Record)
				if err != nil || len(list) != 1 {
					t.Fatal(list, err)
				}
				resumed = list[0].Upto != nil && list[0].Rows > 0
				r.e = r.edition(r.store.Only())
				stop = r.run()
			}
		}
		for _, w := range waits {
			r.within("a change", w)
		}
		list, err := r.store.Rebuilds(t.Context(), r.e.Record)
		if err != nil || len(list) > 0 || !resumed {
			t.Errorf("left %+v, resumed %t, %v", list, resumed, err)
		}
		stored, rows := r.engine.Stored(), r.table.Rows()
		for _, key := range rows {
			if _, there := stored[key]; !there {
				t.Errorf("%s is missing", key)
			}
		}
		if wrong := r.engine.Wrong(); len(wrong) > 0 || len(stored) != len(rows) {
			t.Errorf("%d documents of %d rows; %d times wrong: %v", len(stored), len(rows), len(wrong), wrong[:min(3, len(wrong))])
		}
	})
}

// While chunks of a fill are open, nothing is built again by ranges: one might be sent after a newer one.
func TestNoRebuildBesideAFill(t *testing.T) {
	inTime(t, func(t *testing.T) {
		r := newRig(t, 5)
		record := *r.store.Only()
		record.State = reindex.Filling
		r.e = r.edition(&record)
		ticket := change.NewTicket(time.Now(), func() {})
		if recorded, err := r.e.Rebuild(t.Context(), 0, ticket); recorded || err != nil {
			t.Error(recorded, err)
		}
		if r.e.SetFilled(); r.e.Waiting() > 0 {
			t.Error("something waits")
		}
		r.rebuild()
		if r.e.Waiting() == 0 {
			t.Error("nothing waits, though all is to be built again")
		}
	})
}

// A document that was read after a change was committed is not built again for it, also where it waits in the backlog;
// for a change that may have come later, it is.
func TestADocumentIsBuiltOnceForTheChangesThatItHas(t *testing.T) {
	inTime(t, func(t *testing.T) {
		r := newRig(t, 3)
		r.run()
		committed := func(key string, by time.Time) chan struct{} {
			settled := make(chan struct{})
			ticket := change.NewTicket(time.Now(), func() { close(settled) })
			ticket.Committed = by
			if err := r.e.Add(t.Context(), key, ticket, Fresh); err != nil {
				t.Error(err)
			}
			ticket.Close()
			return settled
		}
		built := func() int64 { return r.e.Stats.Built.Total() }
		before := time.Now()
		time.Sleep(time.Second)
		r.within("the first change", committed("k00001", before))
		after := time.Now()
		if built() != 1 {
			t.Fatalf("built %d", built())
		}
		r.within("one that it has", committed("k00001", before))
		if built() != 1 {
			t.Errorf("built %d times for changes that were committed before it was read", built())
		}
		time.Sleep(time.Second)
		r.within("a later one", committed("k00001", after))
		r.within("of another row", committed("k00002", before))
		if built() != 3 {
			t.Errorf("built %d instead of 3", built())
		}
		r.within("one that nothing is known of", r.change("k00001"))
		if built() != 4 {
			t.Errorf("built %d instead of 4", built())
		}
	})
}

// tardy answers late to whoever asks first what is to be built again.
type tardy struct {
	Store
	asked atomic.Int64
}

func (s *tardy) Rebuilds(ctx context.Context, e *records.Edition) ([]records.Rebuild, error) {
	list, err := s.Store.Rebuilds(ctx, e)
	if s.asked.Add(1) == 1 {
		time.Sleep(time.Second)
	}
	return list, err
}

// A list that was read before a rebuild was recorded, and comes after it, does not take its place.
func TestARebuildIsNotForgottenForAnOlderList(t *testing.T) {
	inTime(t, func(t *testing.T) {
		r := newRig(t, 5)
		r.e.store = &tardy{Store: r.store}
		loaded := make(chan error)
		go func() { loaded <- r.e.rebuilds.load(t.Context(), r.e) }()
		time.Sleep(time.Millisecond)
		r.rebuild()
		if err := <-loaded; err != nil {
			t.Fatal(err)
		}
		if r.e.Waiting() == 0 {
			t.Error("nothing waits, though all is to be built again")
		}
	})
}
