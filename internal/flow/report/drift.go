package report

import (
	"fmt"
	"time"

	"pingo/internal/api"
	"pingo/internal/core/drift"
)

// Drift says how much of an index was compared, given its rows, and what is known to differ.
func Drift(
	c *drift.Coverage,
	kinds map[drift.Kind]int64,
	causes map[drift.Cause]int64,
	rows int64,
	now time.Time,
) *api.DriftStatus {
	wrong := kinds[drift.Missing] + kinds[drift.Stale] + kinds[drift.Altered] // the others have no row
	out := &api.DriftStatus{
		Hour:      c.Proven(rows, wrong, now.Add(-time.Hour)),
		Day:       c.Proven(rows, wrong, now.Add(-24*time.Hour)),
		Week:      c.Proven(rows, wrong, now.Add(-7*24*time.Hour)),
		Content:   c.Content(),
		CheckedAt: c.Checked(),
		ScannedAt: c.Scanned,
		Kinds:     named(kinds),
		Causes:    named(causes),
	}
	for _, n := range kinds {
		out.Differing += n
	}
	out.Sentence = proven(out, now)
	return out
}

// named has names that the API gives.
func named[K ~string](counts map[K]int64) map[string]int64 {
	out := map[string]int64{}
	for k, n := range counts {
		if n > 0 {
			out[string(k)] = n
		}
	}
	return out
}

// proven says how much was found to be what the rows make, and within which time: the shortest that all of it was
// looked at in, else the longest. Where the contents of some documents were not compared, it says by what they were.
func proven(s *api.DriftStatus, now time.Time) string {
	for _, x := range []struct {
		share  float64
		within string
	}{{s.Hour, "the last hour"}, {s.Day, "the last day"}, {s.Week, "the last week"}} {
		if x.share >= 1 {
			return "proven equal: 100%" + by(s) + " within " + x.within
		}
	}
	switch {
	case s.Day > 0:
		return fmt.Sprintf("proven equal: %s%s within the last day", percent(s.Day), by(s))
	case s.Week > 0:
		return fmt.Sprintf("proven equal: %s%s within the last week", percent(s.Week), by(s))
	case s.CheckedAt != nil:
		return fmt.Sprintf("last compared %s ago", span(now.Sub(*s.CheckedAt)))
	}
	return "never checked"
}

func by(s *api.DriftStatus) string {
	if s.Content > 0.999 {
		return ""
	}
	return fmt.Sprintf(" by fingerprint and %s by content", percent(s.Content))
}

// percent never rounds up to all.
func percent(share float64) string {
	switch {
	case share < 0.01:
		return "less than 1%"
	case share > 0.99:
		return fmt.Sprintf("%.2f%%", float64(int(share*10000))/100)
	}
	return fmt.Sprintf("%.0f%%", share*100)
}
