package reindex

import (
	"math/rand/v2"
	"slices"
	"strconv"
	"testing"
	"time"
)

// Readers of chunks and the stream race for the same keys; the touched set must stop
// exactly the deliveries that would put an older read over a newer one.
func TestTouchedNeverStepsBack(t *testing.T) {
	type chunk struct {
		key          string // chunks never share keys; one key each is enough
		mark, readAt int64
	}
	for seed := range uint64(200) {
		r := rand.New(rand.NewPCG(seed, 3))
		var touched Touched
		var clock int64
		stored := map[string]int64{} // when what the engine holds was read
		var open []chunk
		for range 300 {
			clock++
			key := strconv.Itoa(r.IntN(8))
			switch n := r.IntN(10); {
			case n < 2:
				if !slices.ContainsFunc(open, func(c chunk) bool { return c.key == key }) {
					open = append(open, chunk{key, touched.Begin(), clock})
				}
			case n < 6: // the stream reads and delivers
				stored[key] = clock
				touched.Add(key)
			case len(open) > 0:
				i := r.IntN(len(open))
				c := open[i]
				if !touched.Has(0, c.key, c.mark) {
					if stored[c.key] > c.readAt {
						t.Fatalf(
							"seed %d: key %s read at %d replaces a read at %d",
							seed,
							c.key,
							c.readAt,
							stored[c.key],
						)
					}
					stored[c.key] = c.readAt
				}
				touched.End(c.mark)
				open = append(open[:i], open[i+1:]...)
			}
		}
		for _, c := range open {
			touched.End(c.mark)
		}
		if len(touched.keys) != 0 || len(touched.open) != 0 {
			t.Fatalf("seed %d: %d keys are still remembered", seed, len(touched.keys))
		}
	}
}

func TestChunksFollowTheWeightOfRows(t *testing.T) {
	var s Sizer
	if s.Rows() != firstRows {
		t.Error(s.Rows())
	}
	s.Saw(500, 500*1000)
	if n := s.Rows(); n < 6000 || n > 6500 {
		t.Errorf("%d rows of 1 kB", n)
	}
	s.Saw(10, 10*TargetBytes)
	if s.Rows() != 1 {
		t.Errorf("%d rows of 6 MB at once", s.Rows())
	}
	for range 200 {
		s.Saw(1, 10)
	}
	if s.Rows() != maxRows {
		t.Errorf("%d rows of 10 bytes", s.Rows())
	}
	s.Saw(0, 0)
}

func TestProgressForgetsWhatWasDoneBefore(t *testing.T) {
	began := time.Unix(0, 0)
	p := Progress{Rows: 1500, Resumed: 1000, Expected: 2000, Began: began}
	now := began.Add(10 * time.Second)
	if p.Rate(now) != 50 || p.Left(now) != 10*time.Second {
		t.Error(p.Rate(now), p.Left(now))
	}
	if (Progress{}).Left(now) != 0 {
		t.Error("time left of nothing")
	}
}
