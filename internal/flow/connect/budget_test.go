package connect

import (
	"context"
	"testing"
	"testing/synctest"
	"time"
)

// What is read at the same time stays within the budget; an engine that takes nothing leaves the others one batch each.
func TestBudget(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		budget := NewBudget(5*BatchBytes/2 + 5)
		sick, well := portionOf(budget.bulk), portionOf(budget.bulk)
		forgot := 0
		forget := func() { forgot++ }
		var held []func()
		for range 3 { // its own, and both of the budget
			release, err := sick.Take(t.Context(), 2*BatchBytes, forget)
			if err != nil || forgot != 0 {
				t.Fatal(err, forgot)
			}
			held = append(held, release)
		}
		ctx, stop := context.WithTimeout(t.Context(), time.Hour)
		defer stop()
		if _, err := sick.Take(ctx, BatchBytes, forget); err == nil || forgot != 1 {
			t.Errorf("a fourth batch is read, what was kept is forgotten %d times", forgot)
		}
		for range 10 { // one after the other
			release, err := well.Take(t.Context(), 2*BatchBytes, forget)
			if err != nil || forgot != 1 {
				t.Fatal(err, forgot)
			}
			release()
		}
		mine, err := well.Take(t.Context(), 2*BatchBytes, forget)
		if err != nil {
			t.Fatal(err)
		}
		taken := make(chan func(), 1)
		go func() {
			release, err := well.Take(t.Context(), BatchBytes, func() {})
			if err != nil {
				t.Error(err)
			}
			taken <- release
		}()
		synctest.Wait()
		if len(taken) != 0 {
			t.Error("a batch beyond the budget is read")
		}
		held[2]()
		synctest.Wait()
		if len(taken) != 1 {
			t.Error("what was given back is not taken")
		}
		mine()
		var none *Portion
		if release, err := none.Take(t.Context(), 2*BatchBytes, forget); err != nil || release == nil {
			t.Error("without a budget something is bounded", err)
		}
	})
}
