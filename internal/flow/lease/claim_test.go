package lease

import (
	"context"
	"encoding/json"
	"errors"
	"log/slog"
	"sync"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"pingo/internal/core/change"
	"pingo/internal/core/stats"
	"pingo/internal/lab/model"
	"pingo/internal/records"
	"pingo/internal/source"
)

// claims is a feed of which only the claim matters.
type claims struct {
	source.Feed
	now change.Claim
}

func (c *claims) Claimed(context.Context) (change.Claim, error) { return c.now, nil }

func (c *claims) Claim(_ context.Context, _, fresh change.Claim) error {
	c.now = fresh
	return nil
}

// Records that were put back are noticed by whoever has the lease next, also when the one that
// noticed first died before it was recorded, and when the copy is from between a claim and its
// record.
func TestRecordsThatWerePutBack(t *testing.T) { synctest.Test(t, recordsPutBack) }

func recordsPutBack(t *testing.T) {
	store := model.NewRecords()
	feed := &claims{}
	die := errors.New("dies")
	claim := func(process string, recorded error) (reason string) {
		t.Helper()
		v, err := store.Heartbeat(t.Context(), processOf(process))
		if err != nil {
			t.Fatal(err)
		}
		lease, err := Take(t.Context(), store, "lodge", process, first(v.Leases), 0)
		if err != nil || lease == nil {
			t.Fatal(lease, err)
		}
		c := NewClaimer(lease, feed, "one", func(_ context.Context, why string) error {
			reason = why
			return recorded
		}, &stats.TroubleSpot{}, slog.New(slog.DiscardHandler))
		if err := c.try(t.Context()); !errors.Is(err, recorded) {
			t.Fatal(process, err)
		}
		if err := lease.Renew(t.Context(), nil); err != nil { // it lives a little longer
			t.Fatal(err)
		}
		return reason
	}
	if reason := claim("A", nil); reason != "" {
		t.Errorf("at first: %s", reason)
	}
	if reason := claim("B", nil); reason != "" {
		t.Errorf("taken over: %s", reason)
	}
	copied := store.Copy() // only its line of history tells it from the original
	store.Restore(copied, true)
	for _, process := range []string{"C", "D"} {
		if reason := claim(process, die); reason != RecordsOlder {
			t.Errorf("%s finds %q", process, reason)
		}
	}
	if reason := claim("E", nil); reason != RecordsOlder {
		t.Errorf("E finds %q", reason)
	}
	if reason := claim("F", nil); reason != "" {
		t.Errorf("after it was recorded: %s", reason)
	}

	// The records know that F was about to claim; meanwhile its mark has moved on.
	v, err := store.Heartbeat(t.Context(), processOf("G"))
	if err != nil {
		t.Fatal(err)
	}
	lease, err := Take(t.Context(), store, "lodge", "G", first(v.Leases), 0)
	if err != nil {
		t.Fatal(err)
	}
	if err := lease.Intend(t.Context(), feed.now); err != nil {
		t.Fatal(err)
	}
	feed.now = change.Claim{Service: "one", Holder: "G/1", Epoch: lease.Epoch(), Mark: feed.now.Mark + 4}
	if reason := claim("H", nil); reason != RecordsOlder {
		t.Errorf("H finds %q", reason)
	}
}

// lossy is a feed whose beats are carried out, and whose answers get lost: it goes by the claim that
// it heard of last itself.
type lossy struct {
	claims
	mark   atomic.Int64
	missed chan string
}

func (l *lossy) Claimed(context.Context) (change.Claim, error) {
	l.now.Mark = l.mark.Load()
	return l.now, nil
}

func (l *lossy) Beat(context.Context, change.Claim) (change.Claim, error) {
	l.mark.Add(1)
	return change.Claim{}, &source.Error{Fault: source.Superseded, Err: errors.New("answer lost, and sent again")}
}

// A source that is put back is noticed by whoever moves its mark, though the feed, which heard of
// an older mark alone, goes on reading: the claim is made again.
func TestAMarkThatWentBack(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		store, feed := model.NewRecords(), &lossy{missed: make(chan string, 1)}
		v, err := store.Heartbeat(t.Context(), processOf("A"))
		if err != nil {
			t.Fatal(err)
		}
		lease, err := Take(t.Context(), store, "lodge", "A", first(v.Leases), 0)
		if err != nil || lease == nil {
			t.Fatal(lease, err)
		}
		log := slog.New(slog.DiscardHandler)
		c := NewClaimer(lease, feed, "one", func(_ context.Context, why string) error {
			feed.missed <- why
			return nil
		}, &stats.TroubleSpot{}, log)
		ctx, cancel := context.WithCancel(t.Context())
		defer cancel()
		var work sync.WaitGroup
		defer work.Wait()
		defer cancel()
		work.Go(func() {
			lease.Keep(
				ctx,
				func() json.RawMessage { return json.RawMessage("{}") },
				func(context.Context) error { return nil },
				log,
			)
		})
		work.Go(func() { c.Run(ctx, func(reading context.Context) { <-reading.Done() }) })
		time.Sleep(5 * beatEvery)
		if mark := feed.mark.Load(); mark < 4 {
			t.Fatalf("the mark is at %d", mark)
		}
		feed.mark.Store(1)
		select {
		case why := <-feed.missed:
			if why != sourceRestored {
				t.Error(why)
			}
		case <-time.After(5 * beatEvery):
			t.Error("no one noticed")
		}
	})
}

func processOf(id string) records.Process { return records.Process{ID: id} }

func first(leases []*records.Lease) *records.Lease {
	if len(leases) == 0 {
		return nil
	}
	return leases[0]
}

// A source that was put back and claimed again gives out the numbers of its changes again: what was asked
// under the claim before, and comes late, must not have them removed (small storm, seed 40010347).
func TestEachClaimIsAnother(t *testing.T) {
	store, feed := model.NewRecords(), &claims{}
	lease, err := Take(t.Context(), store, "lodge", "A", nil, 0)
	if err != nil || lease == nil {
		t.Fatal(lease, err)
	}
	none := func(context.Context, string) error { return nil }
	c := NewClaimer(lease, feed, "one", none, &stats.TroubleSpot{}, slog.New(slog.DiscardHandler))
	seen := map[string]bool{}
	for range 3 {
		if err := c.try(t.Context()); err != nil {
			t.Fatal(err)
		}
		if seen[feed.now.Holder] {
			t.Errorf("%+v was there before", feed.now)
		}
		seen[feed.now.Holder] = true
		feed.now.Mark -= 2 // it is put back
	}
}

// slowClaims is a feed whose claims wait.
type slowClaims struct {
	claims
	may chan struct{}
}

func (s *slowClaims) Claim(ctx context.Context, found, fresh change.Claim) error {
	<-s.may
	return s.claims.Claim(ctx, found, fresh)
}

// While a source that was put back is not claimed again, it is not claimed: nothing is filled from it
// (small storm, seed 20144846: it was put back once more before it was claimed, which no one could tell).
func TestASourceThatWasPutBackIsNotClaimed(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		store := model.NewRecords()
		lease, err := Take(t.Context(), store, "lodge", "A", nil, 0)
		if err != nil || lease == nil {
			t.Fatal(lease, err)
		}
		feed := &slowClaims{may: make(chan struct{})}
		none := func(context.Context, string) error { return nil }
		c := NewClaimer(lease, feed, "one", none, &stats.TroubleSpot{}, slog.New(slog.DiscardHandler))
		ctx, stop := context.WithCancel(t.Context())
		ends := make(chan struct{})
		go c.Run(ctx, func(ctx context.Context) {
			select {
			case <-ctx.Done():
			case <-ends: // another program's claim was met
			}
		})
		is := func(want bool, when string) {
			t.Helper()
			synctest.Wait()
			select {
			case <-c.Claimed():
				if !want {
					t.Error("claimed " + when)
				}
			default:
				if want {
					t.Error("not claimed " + when)
				}
			}
		}
		for range 2 {
			is(false, "before the claim was made")
			feed.may <- struct{}{}
			is(true, "while it is read")
			ends <- struct{}{}
		}
		is(false, "after its changes were another's")
		stop()
		close(feed.may)
		time.Sleep(time.Minute)
	})
}
