package reindex

import (
	"math"
	"time"
)

// Progress is how far a fill is.
type Progress struct {
	Rows     int64
	Resumed  int64 // rows that were done before this run began
	Expected int64
	Bytes    int64
	Dropped  int64 // overtaken by the stream
	Helpers  int   // other processes that fill chunks now
	Began    time.Time
	Estimate
}

// Estimate says how fast a fill is and how long the rest takes, in a way that a person can go by: what
// it says changes little from one second to the next, also where rows weigh differently. The zero value
// is ready.
type Estimate struct {
	worked time.Duration // told so far
	marks  []mark
	left   time.Duration // as last said; 0 when nothing was
	rate   float64
}

// mark is the number of rows that were done after an amount of work.
type mark struct {
	worked time.Duration
	rows   int64
}

const (
	// settleIn is the amount of work before the first estimate.
	settleIn = 3 * time.Second
	// keptMarks bounds the memory of an estimate.
	keptMarks = 512
	// maxLeft bounds the estimate.
	maxLeft = 1000 * time.Hour
)

// Looked takes in the number of rows that are done after more work of a duration, out of an expected number. It is
// called about once a second while rows are filled, and not while the fill waits.
func (e *Estimate) Looked(rows, expected int64, took time.Duration) {
	e.worked += took
	e.marks = append(e.marks, mark{e.worked, rows})
	if len(e.marks) > keptMarks { // every other one is enough
		for i := range keptMarks / 2 {
			e.marks[i] = e.marks[2*i]
		}
		e.marks = append(e.marks[:keptMarks/2], e.marks[keptMarks:]...)
	}
	if e.worked-e.marks[0].worked < settleIn {
		return
	}
	e.rate = e.over()
	if e.rate <= 0 || expected <= rows {
		e.left = 0
		return
	}
	now := time.Duration(min(float64(expected-rows)/e.rate, maxLeft.Seconds()) * float64(time.Second))
	if e.left == 0 {
		e.left = now
		return
	}
	// The last estimate decreases as time passes, and approaches the new one by a part of the difference: the
	// smaller, the more time is left.
	said := max(0, e.left-took)
	slow := max(3*time.Second, min(now, said)/20)
	e.left = said + time.Duration(float64(now-said)*(1-math.Exp(-took.Seconds()/slow.Seconds())))
}

// over is the rate over the later half of the work, or the last 20 seconds if that is more.
func (e *Estimate) over() float64 {
	last := e.marks[len(e.marks)-1]
	from := last.worked - max(20*time.Second, last.worked/2)
	first := e.marks[0]
	for _, m := range e.marks {
		if m.worked > from {
			break
		}
		first = m
	}
	seconds := (last.worked - first.worked).Seconds()
	if seconds <= 0 {
		return 0
	}
	return float64(last.rows-first.rows) / seconds
}

// Point is the rate, in rows a second, up to an amount of work.
type Point struct {
	After time.Duration
	Rate  float64
}

// Course is how fast it went from the beginning on, in most points at most.
func (e *Estimate) Course(most int) (out []Point) {
	step := max(1, (len(e.marks)+most-1)/most)
	for i := 0; i+step < len(e.marks); i += step {
		from, to := e.marks[i], e.marks[i+step]
		if seconds := (to.worked - from.worked).Seconds(); seconds > 0 {
			out = append(out, Point{to.worked, float64(to.rows-from.rows) / seconds})
		}
	}
	return out
}

// Rate is the recent rate, in rows a second; 0 when unknown.
func (e *Estimate) Rate() float64 { return e.rate }

// Left is how long the rest takes; 0 when unknown.
func (e *Estimate) Left() time.Duration { return e.left }
