package flow

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"pingo/internal/core/change"
	"pingo/internal/core/retry"
	"pingo/internal/engine/wire"
	"pingo/internal/records"
)

// crowd is an engine that takes its time, and sees how many of the requests that are on
// their way together carry documents of wide changes.
type crowd struct {
	*memory
	mu        sync.Mutex
	now, most int
}

func (c *crowd) Deliver(ctx context.Context, edition string, docs []wire.Document) ([]wire.Result, error) {
	if slices.ContainsFunc(docs, func(d wire.Document) bool { return d.Key >= "k01000" }) {
		c.mu.Lock()
		c.now++
		c.most = max(c.most, c.now)
		c.mu.Unlock()
		defer func() {
			c.mu.Lock()
			c.now--
			c.mu.Unlock()
		}()
	}
	time.Sleep(5 * time.Millisecond)
	return c.memory.Deliver(ctx, edition, docs)
}

func (c *crowd) peak() int {
	c.mu.Lock()
	defer c.mu.Unlock()
	defer func() { c.most = 0 }()
	return c.most
}

// While there are fresh changes, one lane at a time carries documents of wide ones; when
// there are none, all of them do. However both come, none is forgotten.
func TestWideChangesLeaveRoomForFreshOnes(t *testing.T) {
	const rows = 12000
	r := newRig(t, rows)
	engine := &crowd{memory: r.engine}
	r.flow.engine = engine
	r.run()
	key := func(i int) string { return fmt.Sprintf("k%05d", i) }
	spread := func(from, to int) chan struct{} {
		settled := make(chan struct{})
		all := change.NewTicket(time.Now(), func() { close(settled) })
		for i := from; i < to; i++ {
			r.flow.enqueue(key(i), all, wide)
		}
		all.Close()
		return settled
	}

	first := r.change(key(0))
	settled := spread(1000, 6000)
	fresh := []chan struct{}{first}
	for i := 1; ; i++ {
		select {
		case <-settled:
			if n := engine.peak(); n != 1 {
				t.Errorf("%d requests of wide changes at once beside fresh ones", n)
			}
			for _, f := range fresh {
				r.within("fresh changes", f)
			}
			time.Sleep(freshFor + 100*time.Millisecond)
			r.within("alone", spread(1000, rows))
			if n := engine.peak(); n < 2 {
				t.Errorf("%d requests of wide changes at once though nobody else was there", n)
			}
		case <-time.After(2 * time.Millisecond):
			fresh = append(fresh, r.change(key(i%1000)))
			continue
		}
		break
	}

	random := rand.New(rand.NewPCG(8, 8))
	for round := range 25 {
		var waits []chan struct{}
		for range 1 + random.IntN(4) {
			from := 1000 + random.IntN(rows-1000)
			waits = append(waits, spread(from, min(rows, from+random.IntN(300))), r.change(key(random.IntN(1000))))
			time.Sleep(time.Duration(random.IntN(4)) * time.Millisecond)
		}
		for _, w := range waits {
			r.within(fmt.Sprintf("round %d", round), w)
		}
	}
	if r.engine.mu.Lock(); len(r.engine.wrong) > 0 {
		t.Errorf("%v", r.engine.wrong[0])
	}
	r.engine.mu.Unlock()
}

// A failed document that was dismissed through another process is one no longer here, but
// for one that was refused once more in between.
func TestDismissedElsewhere(t *testing.T) {
	r := newRig(t, 3)
	r.engine.deliver = func(docs []wire.Document) ([]wire.Result, error) {
		out := make([]wire.Result, len(docs))
		for i := range out {
			out[i] = wire.Result{Outcome: retry.Refused, Kind: "mapper", Reason: "no number"}
		}
		return out, nil
	}
	r.run()
	r.within("refused", r.change("k00000", "k00001", "k00002"))
	dismiss := func(keys ...string) {
		t.Helper()
		if gone, err := r.rec.DismissFailed(t.Context(), r.flow.record, keys); err != nil || len(gone) != len(keys) {
			t.Fatalf("%v, %v", gone, err)
		}
	}
	failed := func() int {
		r.flow.mu.Lock()
		defer r.flow.mu.Unlock()
		if n := len(r.flow.failed); int64(n) != r.flow.refused.Load() {
			t.Errorf("%d failed documents, %d are told", n, r.flow.refused.Load())
		}
		return len(r.flow.failed)
	}
	dismiss("k00000", "k00001")
	r.within("refused again", r.change("k00001"))
	for deadline := time.Now().Add(10 * time.Second); failed() != 2; time.Sleep(20 * time.Millisecond) {
		if time.Now().After(deadline) {
			t.Fatalf("%d failed documents", failed())
		}
	}
	list, err := r.rec.FailedDocuments(t.Context(), "huts", "", 10)
	slices.SortFunc(list, func(a, b records.Failed) int { return int(a.Key[5]) - int(b.Key[5]) })
	if err != nil || len(list) != 2 || list[0].Key != "k00001" || list[1].Key != "k00002" {
		t.Errorf("%+v, %v", list, err)
	}
	// Its acceptance ends it here as well, whatever is in the records.
	dismiss("k00002")
	r.engine.mu.Lock()
	r.engine.deliver = nil
	r.engine.mu.Unlock()
	r.within("accepted", r.change("k00001", "k00002"))
	if n := failed(); n != 0 {
		t.Errorf("%d failed documents", n)
	}
}

// Trouble with reading is over when reading works again, also when there is nothing to send.
func TestTroubleEndsWithItsCause(t *testing.T) {
	r := newRig(t, 1)
	r.source.still = func(string) string { return "1" }
	r.run()
	r.within("first", r.change("k00000"))
	tries := 0
	var seen *Trouble
	r.source.mu.Lock()
	r.source.fail = func([]string) error {
		if tries++; tries > 4 {
			seen = r.flow.trouble.get()
			return nil
		}
		return errors.New("the source is away")
	}
	r.source.mu.Unlock()
	r.within("again", r.change("k00000"))
	if seen == nil || !strings.Contains(seen.Message, "the source is away") {
		t.Errorf("meanwhile: %+v", seen)
	}
	if now := r.flow.trouble.get(); now != nil {
		t.Errorf("afterwards: %+v", now)
	}
	if sent, _, _ := r.flow.spared.read(); sent != 1 {
		t.Errorf("%d documents were spared", sent)
	}
}
