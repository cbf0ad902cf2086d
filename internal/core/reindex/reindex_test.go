package reindex

import (
	"math"
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
		t.Errorf("%d rows of 6 MB at the same time", s.Rows())
	}
	for range 200 {
		s.Saw(1, 10)
	}
	if s.Rows() != maxRows {
		t.Errorf("%d rows of 10 bytes", s.Rows())
	}
	s.Saw(0, 0)
}

// The time left is near the truth, and does not swing, also where rows weigh more and
// more, or come in waves.
func TestTheTimeLeftDoesNotSwing(t *testing.T) {
	const rows = 100_000
	for name, weight := range map[string]func(row int64) float64{ // seconds a thousand rows
		"even":            func(int64) float64 { return 1 },
		"heavier":         func(row int64) float64 { return 0.5 + float64(row)/rows },
		"lighter":         func(row int64) float64 { return 1.5 - float64(row)/rows },
		"a heavy quarter": func(row int64) float64 { return map[bool]float64{true: 4, false: 1}[row/(rows/4) == 2] },
		"in waves":        func(row int64) float64 { return 1 + 0.9*math.Sin(float64(row)/1500) },
	} {
		var e Estimate
		var took []float64 // when each look was
		var said []time.Duration
		row, clock := int64(0), 0.0
		for next := 1.0; row < rows; row += 10 {
			if clock += weight(row) / 100; clock >= next {
				e.Looked(row, rows, time.Second)
				took, said = append(took, clock), append(said, e.Left())
				next++
			}
		}
		for i, left := range said {
			truth := clock - took[i]
			if took[i] < 30 || truth < 5 {
				continue
			}
			if i > 0 && math.Abs((left-said[i-1]).Seconds()+1) > 2+0.08*said[i-1].Seconds() {
				t.Errorf("%s: after %.0f s it said %v left, a second before %v", name, took[i], left, said[i-1])
			}
			// No one can know what is to come where it is not as it was.
			if off := math.Abs(left.Seconds() - truth); off > 0.2*truth+5 && (name == "even" || name == "in waves") {
				t.Errorf("%s: after %.0f s it said %v left, and it was %.0f s", name, took[i], left, truth)
			}
		}
		if len(said) < 50 || said[0] != 0 {
			t.Errorf("%s: %d looks, the first said %v", name, len(said), said[0])
		}
	}
	var e Estimate
	e.Looked(10, 10, time.Hour)
	if e.Left() != 0 || e.Rate() != 0 {
		t.Error("something is reported of one look")
	}
}

// A pace holds over time whatever the chunks weigh, and what was not used of it for long is not made up for.
func TestAPaceHolds(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 5))
	for _, p := range []Pace{{Documents: 500}, {Bytes: 100_000}, {Documents: 500, Bytes: 100_000}} {
		var b Budget
		began := time.Unix(1e9, 0)
		now, documents, bytes, paused := began, 0, 0, false
		for now.Sub(began) < 100*time.Second {
			now = now.Add(b.Wait(now) + time.Duration(r.IntN(30))*time.Millisecond)
			n := p.Most(12000, 200)
			size := n * (100 + r.IntN(200))
			b.Spend(p, n, size, now)
			documents, bytes = documents+n, bytes+size
			if !paused && now.Sub(began) > 50*time.Second {
				now, began, paused = now.Add(20*time.Second), began.Add(20*time.Second), true
			}
		}
		seconds := now.Sub(began).Seconds()
		of := max(
			float64(documents)/float64(max(1, p.Documents))*float64(min(1, p.Documents)),
			float64(bytes)/float64(max(1, p.Bytes))*float64(min(1, p.Bytes)),
		) / seconds
		least := 0.95
		if p.Documents > 0 && p.Bytes > 0 { // now the one is what bounds it, now the other
			least = 0.85
		}
		if of < least || of > 1.05 {
			t.Errorf("%+v: %.2f of it in %.0f s", p, of, seconds)
		}
	}
}

// A source that answers slowly is spared, and not one that always did, nor one whose rows are heavier.
func TestASlowSourceIsLeftAlone(t *testing.T) {
	var s Strain
	for range 20 {
		if rest := s.Rest(10_000, 400*time.Millisecond); rest > 0 {
			t.Fatal("it rests though nothing is slow", rest)
		}
	}
	for i := range 3 {
		if rest := s.Rest(10_000, 4*time.Second); (rest > 0) != (i == 2) || rest > longestRest {
			t.Errorf("ten times as slow for the %d. time, and spared for %v", i+1, rest)
		}
	}
	rested := 0
	for range 1000 {
		if s.Rest(10_000, 4*time.Second) > 0 {
			rested++
		}
	}
	if rested == 0 || rested > 400 {
		t.Error("rows are heavier for good, and it rested", rested, "times")
	}
	if s.Rest(1, 200*time.Millisecond) > 0 || s.Rest(0, time.Hour) > 0 {
		t.Error("what is short says nothing")
	}
}

func TestHours(t *testing.T) {
	at := func(clock string) time.Time {
		out, err := time.ParseInLocation("2006-01-02 15:04", "2030-06-01 "+clock, time.Local)
		if err != nil {
			t.Fatal(err)
		}
		return out
	}
	for _, c := range []struct{ hours, now, next string }{
		{"22:00-06:00", "23:10", ""}, {"22:00-06:00", "05:59", ""}, {"22:00-06:00", "06:00", "22:00"},
		{"09:30-17:00", "09:29", "09:30"}, {"09:30-17:00", "16:59", ""},
	} {
		h, err := ParseHours(c.hours)
		if err != nil {
			t.Fatal(err)
		}
		next := h.Next(at(c.now))
		if c.next == "" && !next.IsZero() || c.next != "" && !next.Equal(at(c.next)) {
			t.Errorf("%s at %s: %v", c.hours, c.now, next)
		}
	}
	h, _ := ParseHours("09:30-17:00")
	if next := h.Next(at("17:00")); !next.Equal(at("09:30").AddDate(0, 0, 1)) {
		t.Error("tomorrow", next)
	}
	for _, wrong := range []string{"", "22-06", "24:00-06:00", "22:00-22:00", "22:00-06:00 ", "2:00-06:00", "-1:00-06:00"} {
		if h, err := ParseHours(wrong); err == nil {
			t.Errorf("%q are hours: %v", wrong, h)
		}
	}
	if next := (*Hours)(nil).Next(at("12:00")); !next.IsZero() {
		t.Error("always", next)
	}
}
