package sweep

import (
	"testing"
	"testing/synctest"
	"time"

	"pingo/internal/core/reindex"
)

// A source that looks up keys quickly is not strained because whole documents take longer; one that takes much
// longer for these than it did is spared. A pace holds for both.
func TestASourceIsJudgedByTheSameWork(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		j := &job{c: &Checker{}}
		waited := func(do func() error) time.Duration {
			t.Helper()
			began := time.Now()
			for range 10 {
				if err := do(); err != nil {
					t.Fatal(err)
				}
			}
			return time.Since(began)
		}
		look := func() error { return j.wait(t.Context(), &j.looking, 1000, 0, 2*time.Millisecond) }
		read := func() error { return j.wait(t.Context(), &j.reading, 1000, 1_000_000, 300*time.Millisecond) }
		if d := waited(look) + waited(read); d > 0 {
			t.Errorf("spared for %v", d)
		}
		slow := func() error { return j.wait(t.Context(), &j.reading, 1000, 1_000_000, 3*time.Second) }
		if d := waited(slow); d < 20*time.Second {
			t.Errorf("a strained source was spared for %v", d)
		}
		j.pace = reindex.Pace{Documents: 500}
		if d := waited(look); d < 18*time.Second || d > 21*time.Second {
			t.Errorf("10,000 at 500 a second took %v", d)
		}
	})
}
