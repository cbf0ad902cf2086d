package connect

import (
	"context"
	"sync"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"
)

// An engine that is busy gets fewer requests immediately, one that does not answer only one
// now and then, and both get all again once they are well.
func TestTheLimiterFollowsTheEngine(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		g := NewLimiter()
		ctx, stop := context.WithTimeout(t.Context(), 20*time.Second)
		defer stop()
		// atOnce says how many of many requests were in flight together.
		atOnce := func(answered, busy bool) int64 {
			var now, most atomic.Int64
			var group sync.WaitGroup
			for range 40 {
				group.Go(func() {
					if !g.Acquire(ctx) {
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
					g.Release(answered, busy, "no answer")
				})
			}
			group.Wait()
			return most.Load()
		}
		if n := atOnce(true, false); n != mostAtOnce {
			t.Errorf("%d at the same time while all is well", n)
		}
		atOnce(true, true)
		if n, trouble := g.State(); n != 1 || trouble != nil {
			t.Errorf("a busy engine: %d at the same time, %+v", n, trouble)
		}
		for range 12 {
			atOnce(true, false)
		}
		if n, _ := g.State(); n < mostAtOnce/2 {
			t.Errorf("it is well again: %d at the same time", n)
		}
		for range awayAfter {
			if !g.Acquire(ctx) {
				t.Fatal("no request may be sent")
			}
			g.Release(false, false, "no answer")
		}
		if n, trouble := g.State(); n != 1 || trouble == nil || trouble.Message != "no answer" {
			t.Fatalf("an engine that is away: %d at the same time, %+v", n, trouble)
		}
		// Only one looks whether it is back; the others wait for it, and then all go on.
		began := time.Now()
		if !g.Acquire(ctx) {
			t.Fatal("no one looks")
		}
		if time.Since(began) < 10*time.Millisecond {
			t.Error("the one that looks did not wait")
		}
		soon, cancel := context.WithTimeout(ctx, 50*time.Millisecond)
		defer cancel()
		if g.Acquire(soon) {
			t.Error("a second one looks at the same time")
		}
		g.Release(true, false, "")
		n := atOnce(true, false)
		if _, trouble := g.State(); n < 2 || trouble != nil {
			t.Errorf("it is back: %d at the same time, %+v", n, trouble)
		}
	})
}
