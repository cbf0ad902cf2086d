package retry

import (
	"context"
	"errors"
	"testing"
	"testing/synctest"
	"time"
)

func TestWaitsGrowAndAreBounded(t *testing.T) {
	var w Waits
	for i := range 100 {
		d := w.Next()
		if d < 20*time.Millisecond || d > 5*time.Second || i > 20 && d < 2*time.Second {
			t.Fatalf("wait %d is %s", i, d)
		}
	}
	w.Reset()
	if d := w.Next(); d > 100*time.Millisecond || w.Failures != 1 {
		t.Errorf("after a success the wait is %s", d)
	}
}

func TestUntilItWorks(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
		defer cancel()
		tries, told := 0, 0
		err := Until(ctx, func() error {
			if tries++; tries < 10 {
				return errors.New("not yet")
			}
			return nil
		}, func(err error, failures int) { told = failures })
		if err != nil || tries != 10 || told != 9 {
			t.Errorf("%v after %d tries, told of %d", err, tries, told)
		}
		began := time.Now()
		err = Until(ctx, func() error { return errors.New("never") }, nil)
		if !errors.Is(err, context.DeadlineExceeded) || time.Since(began) > time.Minute {
			t.Errorf("%v after %s", err, time.Since(began))
		}
	})
}

func TestCausesGatherWhatIsAlike(t *testing.T) {
	cause := func(kind, reason string) Cause { return CauseOf(kind, Pattern(reason), "", AsTheEngineSays) }
	words := func(id, value string) string {
		return "field's value in document with id '" + id + "': '" + value + "' at 1:20: For input string: \"" + value + "\""
	}
	if a, b := cause("x", words("1", "many")), cause("x", words("42", "few")); a != b ||
		a.Pattern != "field's value in document with id …: … at #:#: For input string: …" {
		t.Errorf("%+v\n%+v", a, b)
	}
	if cause("source", "division by zero").ID == cause("mapper", "division by zero").ID {
		t.Error("two kinds have one cause")
	}
}

func TestBatchesFollowTheEngine(t *testing.T) {
	var b Batch
	limits := func(docs, bytes int) {
		t.Helper()
		if d, n := b.Limits(); d != docs || n != bytes {
			t.Errorf("%d documents and %d bytes instead of %d and %d", d, n, docs, bytes)
		}
	}
	limits(MaxDocs, MaxBytes)
	b.Answered(500, 10*time.Millisecond)
	limits(MaxDocs, MaxBytes)
	b.Busy(400)
	limits(200, MaxBytes)
	b.Answered(200, time.Second) // neither quick nor slow
	limits(200, MaxBytes)
	b.Answered(200, 4*time.Second)
	limits(100, MaxBytes)
	for range 40 {
		b.Busy(1)
	}
	limits(minDocs, MaxBytes)
	for range 50 {
		b.Answered(100, time.Millisecond)
	}
	limits(MaxDocs, MaxBytes)
	b.TooLarge(3 << 20)
	b.TooLarge(4 << 20) // one that was in flight
	limits(MaxDocs, 3<<19)
}
