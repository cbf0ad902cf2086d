package reindex

import (
	"fmt"
	"testing"
	"time"
)

// The strip of a fill: chunks that are done melt together, whatever order they end in.
func TestStrip(t *testing.T) {
	var s Strip
	s.Begin(100)
	for n := range 4 {
		s.Set(n, 10, SpanOpen)
	}
	s.Set(2, 0, SpanLent)
	for _, step := range []struct {
		done int
		want string
	}{
		{1, "done 100, open 10, done 7, lent 10, open 10"},
		{3, "done 100, open 10, done 7, lent 10, done 7"},
		{0, "done 114, lent 10, done 7"},
		{0, "done 114, lent 10, done 7"}, // it is done only once
		{2, "done 128"},
	} {
		s.Done(step.done, 7)
		got := ""
		for i, x := range s.Spans() {
			if i > 0 {
				got += ", "
			}
			got += fmt.Sprint(x.State, " ", x.Rows)
		}
		if got != step.want {
			t.Errorf("after %d: %s, want %s", step.done, got, step.want)
		}
	}
}

// The course of a fill is described from its beginning in a few points, whose areas are all its rows.
func TestCourse(t *testing.T) {
	var e Estimate
	rows := int64(0)
	for second := range 1000 {
		rows += int64(second % 7)
		e.Looked(rows, 10_000, time.Second)
	}
	points := e.Course(60)
	total, last := 0.0, time.Second // the first mark
	for _, p := range points {
		total += p.Rate * (p.After - last).Seconds()
		last = p.After
	}
	if len(points) == 0 || len(points) > 60 || last < 980*time.Second || total < 0.98*float64(rows) || total > float64(rows) {
		t.Errorf("%d points until %s with %.0f of %d rows", len(points), last, total, rows)
	}
}
