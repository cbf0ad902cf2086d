package lease

import (
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"pingo/internal/lab/model"
	"pingo/internal/records"
)

// sets reads "a+b c" as two sets.
func sets(text string) (out [][]string) {
	for _, set := range strings.Fields(text) {
		out = append(out, strings.Split(set, "+"))
	}
	return out
}

func TestSourcesThatBelongTogether(t *testing.T) {
	for text, want := range map[string]string{
		"":                     "[]",
		"b a b":                "[[a] [b]]",
		"b+a c a+d":            "[[c] [a b d]]",
		"a+b c+d e d+a":        "[[e] [a b c d]]",
		"trails+trails huts":   "[[trails] [huts]]",
		"huts+trails trails+x": "[[huts trails x]]",
	} {
		if got := fmt.Sprint(Together(sets(text))); got != want {
			t.Errorf("%q: %s, want %s", text, got, want)
		}
	}
}

func TestSourcesAreShared(t *testing.T) {
	now := time.Now()
	free := func(source string, since time.Duration) State {
		return State{Lease: &records.Lease{Source: source}, Free: true, Since: now.Add(-since)}
	}
	taken := func(source string) State { return State{Lease: &records.Lease{Source: source, Holder: "other"}} }
	for _, c := range []struct {
		what      string
		fed, held string // those that belong together with a + between them
		leases    []State
		processes int
		want      string
	}{
		{"the first process takes all", "a b", "", nil, 1, "[] [[a] [b]]"},
		{"what others hold stays theirs", "a b", "", []State{taken("a"), free("b", time.Minute)}, 2, "[] [[b]]"},
		{"a second process gets a share", "a b c", "a b c", nil, 2, "[[c]] []"},
		{"what is fed no longer is given up", "b", "a b", nil, 1, "[[a]] []"},
		{"a free source waits for the one with less to do", "a b", "a", []State{free("b", time.Second)}, 2, "[] []"},
		{"what belongs together is taken together", "a+b c", "", nil, 1, "[] [[a b] [c]]"},
		{"or not at all", "a+b c", "", []State{taken("b"), free("c", time.Minute)}, 2, "[] [[c]]"},
		{"what belongs together now is given up first", "a+b", "a b", nil, 1, "[[a] [b]] []"},
		{"and what no longer does, too", "a b", "a+b", nil, 1, "[[a b]] []"},
		{"but not for ever", "a b", "a", []State{free("b", time.Minute)}, 2, "[] [[b]]"},
	} {
		give, take := Balance(sets(c.fed), sets(c.held), c.leases, c.processes, now)
		if got := fmt.Sprint(give, take); got != c.want {
			t.Errorf("%s: %s, want %s", c.what, got, c.want)
		}
	}
}

// A lease ends before its versions would be those of the next epoch.
func TestVersionsNeverReachTheNextEpoch(t *testing.T) {
	l := &Lease{asTaken: records.Lease{Source: "lodge", Epoch: 7}, lost: make(chan struct{})}
	if first, second := l.NextVersion(), l.NextVersion(); first != 7<<32|1 || second != 7<<32|2 {
		t.Errorf("%d %d", first, second)
	}
	l.taken.Store(versions - 2)
	if v := l.NextVersion(); v >= 8<<32 {
		t.Errorf("version %d", v)
	}
	for range 3 {
		if v := l.NextVersion(); v >= 8<<32 {
			t.Errorf("version %d", v)
		}
	}
	select {
	case <-l.Lost():
	default:
		t.Error("the lease is still held")
	}
	if l.Holds() {
		t.Error("it is held again")
	}
}

// A lease that is not renewed ends for its holder before it ends for others, whatever
// anybody's clock says: only how time passes counts.
// overtaking lets the second renewal arrive before the first, and remembers what it heard.
type overtaking struct {
	*model.Records
	calls atomic.Int64
}

func (o *overtaking) Renew(ctx context.Context, l *records.Lease, beat int64, status json.RawMessage) error {
	if o.calls.Add(1) == 1 {
		time.Sleep(time.Second)
	}
	return o.Records.Renew(ctx, l, beat, status)
}

// A lease is renewed by its keeper and with each claim. When both do so at the same moment, it is not
// lost because one overtakes the other on the way.
func TestRenewalsDoNotOvertakeEachOther(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		l, err := Take(t.Context(), &overtaking{Records: model.NewRecords()}, "lodge", "A", nil, 0)
		if err != nil || l == nil {
			t.Fatal(l, err)
		}
		var both sync.WaitGroup
		for range 2 {
			both.Go(func() {
				if err := l.Renew(t.Context(), nil); err != nil {
					t.Error(err)
				}
			})
		}
		both.Wait()
	})
}

// A process that sees a lease renewed takes what it says for said then; so each renewal says how things are.
func TestEveryRenewalLeavesWord(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		store := model.NewRecords()
		l, err := Take(t.Context(), store, "lodge", "A", nil, 0)
		if err != nil || l == nil {
			t.Fatal(l, err)
		}
		ctx, stop := context.WithCancel(t.Context())
		var kept sync.WaitGroup
		kept.Go(func() {
			l.Keep(ctx, func() json.RawMessage { return []byte(fmt.Sprintf("%q", time.Now().String())) }, nil, slog.New(slog.DiscardHandler))
		})
		for range 3 {
			time.Sleep(700 * time.Millisecond) // between the keeper's
			if err := l.Intend(ctx, l.asTaken.Claimed); err != nil {
				t.Fatal(err)
			}
			view, err := store.Heartbeat(ctx, records.Process{ID: "A"})
			if want := fmt.Sprintf("%q", time.Now().String()); err != nil || string(view.Leases[0].Status) != want {
				t.Errorf("renewed at %s with the word of %s (%v)", want, view.Leases[0].Status, err)
			}
		}
		stop()
		kept.Wait()
	})
}

func TestAHolderStopsFirst(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		store := model.NewRecords()
		first, err := Take(t.Context(), store, "lodge", "A", nil, 0)
		if err != nil || first == nil {
			t.Fatal(first, err)
		}
		var other Observer
		look := func() State {
			v, err := store.Heartbeat(t.Context(), records.Process{ID: "B"})
			if err != nil || len(v.Leases) != 1 {
				t.Fatal(v, err)
			}
			return other.Leases(v.Leases, time.Now())[0]
		}
		if look().Free {
			t.Error("it is free at first sight")
		}
		// While it is renewed it stays held.
		ctx, cancel := context.WithCancel(t.Context())
		go first.Keep(ctx, func() json.RawMessage { return nil }, nil, slog.New(slog.DiscardHandler))
		for range 60 {
			time.Sleep(time.Second / 2)
			if look().Free || !first.Holds() {
				t.Fatal("a lease that is renewed is not held")
			}
		}
		cancel()
		synctest.Wait()
		ended := time.Time{}
		for began := time.Now(); ; time.Sleep(50 * time.Millisecond) {
			if time.Since(began) > time.Minute {
				t.Fatal("it is never free")
			}
			if ended.IsZero() && !first.Holds() {
				ended = time.Now()
			}
			if s := look(); s.Free {
				if ended.IsZero() || time.Since(ended) < margin/2 {
					t.Errorf("it is free, and its holder has stopped at %v", ended)
				}
				second, err := Take(t.Context(), store, "lodge", "B", s.Lease, 0)
				if err != nil || second == nil || second.Epoch() <= first.Epoch() {
					t.Errorf("taken over: %+v %v", second, err)
				}
				break
			}
		}
		if first.Holds() {
			t.Error("it is held twice")
		}
	})
}

// Versions of others are passed where they are near, and not without end.
func TestPassedVersions(t *testing.T) {
	l := &Lease{}
	if !l.Pass(l.Given()+5) || l.NextVersion() != 6 || !l.Pass(3) || l.Pass(l.Given()+mostPassed+1) || l.Pass(1<<62) {
		t.Errorf("after one version was passed, %d were given", l.Given())
	}
	for l.Pass(l.Given() + mostPassed) {
	}
	if n := l.Given(); n < passedInAll || n > passedInAll+2*mostPassed {
		t.Errorf("%d versions were passed", n)
	}
}

// Whenever processes start, each soon has its share, and then keeps it.
func TestSharesBecomeEven(t *testing.T) {
	for sources := range 12 {
		for processes := 1; processes <= 5; processes++ {
			holder := map[string]string{} // by source
			since := map[string]time.Time{}
			now := time.Now()
			var fed [][]string
			for i := range sources {
				fed = append(fed, []string{fmt.Sprintf("s%02d", i)})
			}
			moved := 0
			round := func(alive int) {
				for p := range alive {
					me := fmt.Sprint("p", p)
					var leases []State
					var held [][]string
					for _, names := range fed {
						h := holder[names[0]]
						leases = append(leases, State{Lease: &records.Lease{Source: names[0], Holder: h}, Free: h == "", Since: since[names[0]]})
						if h == me {
							held = append(held, names)
						}
					}
					give, take := Balance(fed, held, leases, alive, now)
					for _, names := range give {
						holder[names[0]], since[names[0]] = "", now
						moved++
					}
					for _, names := range take {
						holder[names[0]] = me
						moved++
					}
				}
				now = now.Add(time.Second)
			}
			for alive := 1; alive <= processes; alive++ { // they start one after the other
				for range 60 {
					round(alive)
				}
				counts := map[string]int{}
				for _, h := range holder {
					counts[h]++
				}
				for p := range alive {
					if n := counts[fmt.Sprint("p", p)]; n < sources/alive || n > (sources+alive-1)/alive {
						t.Errorf("%d sources, %d processes: %v", sources, alive, counts)
					}
				}
				moved = 0
				round(alive)
				if moved > 0 {
					t.Errorf("%d sources, %d processes: %d still move", sources, alive, moved)
				}
			}
		}
	}
}
