package flow

import (
	"context"
	"sync"
	"sync/atomic"
	"testing"
	"time"
)

// An engine that is busy gets fewer requests at once, one that does not answer only one
// now and then, and both get all again once they are well.
func TestTheGateFollowsTheEngine(t *testing.T) {
	g := newGate()
	ctx, stop := context.WithTimeout(t.Context(), 20*time.Second)
	defer stop()
	// atOnce says how many of many requests were on their way together.
	atOnce := func(answered, busy bool) int64 {
		var now, most atomic.Int64
		var group sync.WaitGroup
		for range 40 {
			group.Go(func() {
				if !g.enter(ctx) {
					return
				}
				n := now.Add(1)
				for {
					m := most.Load()
					if n <= m || most.CompareAndSwap(m, n) {
						break
					}
				}
				time.Sleep(10 * time.Millisecond)
				now.Add(-1)
				g.leave(answered, busy, "no answer")
			})
		}
		group.Wait()
		return most.Load()
	}
	if n := atOnce(true, false); n != mostAtOnce {
		t.Errorf("%d at once while all is well", n)
	}
	atOnce(true, true)
	if s := g.status("main"); s.AtOnce != 1 || s.Trouble != nil {
		t.Errorf("a busy engine: %+v", s)
	}
	for range 12 {
		atOnce(true, false)
	}
	if s := g.status("main"); s.AtOnce < mostAtOnce/2 {
		t.Errorf("it is well again: %+v", s)
	}
	for range awayAfter {
		if !g.enter(ctx) {
			t.Fatal("the gate is shut")
		}
		g.leave(false, false, "no answer")
	}
	s := g.status("main")
	if s.AtOnce != 1 || s.Trouble == nil || s.Trouble.Message != "no answer" {
		t.Fatalf("an engine that is away: %+v", s)
	}
	// Only one looks whether it is back; the others wait for it, and then all go on.
	began := time.Now()
	if !g.enter(ctx) {
		t.Fatal("nobody looks")
	}
	if time.Since(began) < 10*time.Millisecond {
		t.Error("the one that looks did not wait")
	}
	soon, cancel := context.WithTimeout(ctx, 50*time.Millisecond)
	defer cancel()
	if g.enter(soon) {
		t.Error("a second one looks at the same time")
	}
	g.leave(true, false, "")
	if n := atOnce(true, false); n < 2 || g.status("main").Trouble != nil {
		t.Errorf("it is back: %d at once, %+v", n, g.status("main"))
	}
}
