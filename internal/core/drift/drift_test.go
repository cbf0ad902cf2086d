package drift

import (
	"math/rand/v2"
	"testing"
	"time"
)

// However rounds go, what is reported as proven was read in that time.
func TestCoverage(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 7))
	begin := time.Date(2031, 5, 4, 0, 0, 0, 0, time.UTC)
	var c Coverage
	if c.Proven(100, 0, begin) != 0 || c.Checked() != nil {
		t.Error("something is proven before anything was read")
	}
	now := begin
	const rows = 1000
	for round := range 20 {
		hour, scanned := now.Add(1), now.Add(1)
		c.List()
		c.Scan(scanned)
		for left, over := int64(rows), false; !over; {
			now = now.Add(time.Minute)
			s := Segment{Rows: min(left, 1+r.Int64N(200)), Upto: []string{"k"}, At: now}
			if left -= s.Rows; left == 0 {
				s.Upto = nil
			}
			over = c.Took(s, 1)
			if over != (left == 0) || c.Round != round+1 && over {
				t.Fatalf("round %d: %+v", round, c)
			}
			if got, want := c.Proven(rows, 0, hour), float64(rows-left)/rows; got != want {
				t.Fatalf("%f of this round instead of %f", got, want)
			}
			if got := c.Proven(rows, 0, begin); round > 0 && got != 1 || c.Proven(rows, 0, now.Add(1)) != 0 {
				t.Fatalf("%f of all rounds: %+v", got, c)
			}
		}
		if at := c.Checked(); at == nil || !at.Equal(scanned) || c.Looked {
			t.Errorf("round %d: checked %v", round, at)
		}
	}
	c.Took(Segment{Rows: 500, Differing: 50, Unsettled: 100, Upto: []string{"k"}, At: now}, 1)
	if got := c.Proven(rows, 0, begin); got != 0.9 {
		t.Errorf("with a tenth that differs, %f is proven", got)
	}
	if got := c.Proven(rows, 50, begin); got != 0.85 {
		t.Errorf("while 50 differ, %f is proven", got)
	}
	if c.Proven(2*rows, 0, begin) != 0.45 {
		t.Error("rows that came since were read, it says")
	}
}

func TestConfidence(t *testing.T) {
	for _, x := range []struct {
		differing, compared, rows int64
		least, most               float64
	}{
		{0, 0, 100, 1, 1}, {0, 100, 100, 0, 0}, {5, 100, 100, 0.05, 0.05}, {120, 100, 200, 0.99, 1},
		{0, 1000, 1_000_000, 0.0025, 0.0031}, // the rule of three
		{10, 1000, 1_000_000, 0.014, 0.018}, {0, 990, 1000, 0, 0.0028},
	} {
		if got := Confidence(x.differing, x.compared, x.rows); got < x.least || got > x.most {
			t.Errorf("%d of %d of %d: %f", x.differing, x.compared, x.rows, got)
		}
	}
}

func TestCauses(t *testing.T) {
	for want, list := range map[Cause][]Evidence{
		ByEngine:  {{Kind: Missing}, {Kind: Altered, Ours: true}, {Kind: Stale}, {Kind: Orphaned}},
		Unnoticed: {{Kind: Stale, Ours: true}, {Kind: Stale, Ours: true, Refreshed: true}, {Kind: Orphaned, Ours: true, Unstable: true}},
		Unstable:  {{Kind: Stale, Ours: true, Unstable: true}},
		Clock: {
			{Kind: Stale, Ours: true, Unstable: true, Refreshed: true},
			{Kind: Orphaned, Ours: true, Unstable: true, Refreshed: true, Entering: true},
			{Kind: Missing, Unstable: true, Refreshed: true, Entering: true},
		},
	} {
		for _, e := range list {
			if got := CauseOf(e); got != want || Sentences[got] == "" {
				t.Errorf("%+v: %s", e, got)
			}
		}
	}
	for want, f := range map[Cause]Found{
		ByEngine:  {Compared: 100, Kinds: map[Kind]int64{Missing: 8}, Causes: map[Cause]int64{ByEngine: 9, Unnoticed: 1}},
		Unnoticed: {Compared: 100, Kinds: map[Kind]int64{Missing: 8}, Causes: map[Cause]int64{ByEngine: 8, Unnoticed: 3}},
		Emptied:   {Compared: 100, Kinds: map[Kind]int64{Missing: 60}, Causes: map[Cause]int64{ByEngine: 60}},
	} {
		if got := f.CauseOfMissing(); got != want {
			t.Errorf("%+v: %s", f, got)
		}
	}
}
