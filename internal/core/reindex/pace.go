package reindex

import (
	"fmt"
	"slices"
	"strings"
	"time"
)

// MostWorkers bounds how many a pace may allow.
const MostWorkers = 64

// Pace bounds how fast an edition is filled. The zero value does not.
type Pace struct {
	// Documents and Bytes a second at most; 0 is no bound.
	Documents int64 `json:"documents,omitempty"`
	Bytes     int64 `json:"bytes,omitempty"`
	// Workers that read and send side by side at most; 0 is as many as there are.
	Workers int `json:"workers,omitempty"`
	// Hours when it may be filled; nil is always.
	Hours *Hours `json:"hours,omitempty"`
}

// Hours are a span of each day, in the local time of the process. It may pass midnight.
type Hours struct {
	// From and To are minutes since midnight.
	From int `json:"from"`
	To   int `json:"to"`
}

// ParseHours reads hours such as 22:00-06:00.
func ParseHours(text string) (*Hours, error) {
	var h Hours
	from, to, _ := strings.Cut(text, "-")
	for _, side := range []struct {
		text string
		into *int
	}{{from, &h.From}, {to, &h.To}} {
		clock, err := time.Parse("15:04", side.text)
		if err != nil || len(side.text) != len("15:04") {
			return nil, fmt.Errorf("%q are no hours: write them as 22:00-06:00", text)
		}
		*side.into = clock.Hour()*60 + clock.Minute()
	}
	if h.From == h.To {
		return nil, fmt.Errorf("%q are no hours: they end when they begin", text)
	}
	return &h, nil
}

func (h Hours) String() string {
	return fmt.Sprintf("%02d:%02d-%02d:%02d", h.From/60, h.From%60, h.To/60, h.To%60)
}

// Next is when they begin, zero when they have.
func (h *Hours) Next(now time.Time) time.Time {
	if h == nil {
		return time.Time{}
	}
	at := now.Hour()*60 + now.Minute()
	inside := h.From <= at && at < h.To
	if h.From > h.To {
		inside = at >= h.From || at < h.To
	}
	if inside {
		return time.Time{}
	}
	return nextAt(now, h.From)
}

// nextAt is when the clock next shows some minutes since midnight.
func nextAt(now time.Time, minutes int) time.Time {
	next := time.Date(now.Year(), now.Month(), now.Day(), minutes/60, minutes%60, 0, 0, now.Location())
	if !next.After(now) {
		next = next.AddDate(0, 0, 1)
	}
	return next
}

// Budget spaces chunks so that a pace holds over time. The zero value is ready.
type Budget struct {
	free time.Time // when what was spent is paid for
}

// Wait is how long to wait before more may be spent.
func (b *Budget) Wait(now time.Time) time.Duration { return max(0, b.free.Sub(now)) }

// Spend takes in a number of documents and bytes that were sent together.
func (b *Budget) Spend(p Pace, documents, bytes int, now time.Time) {
	var seconds float64
	if p.Documents > 0 {
		seconds = float64(documents) / float64(p.Documents)
	}
	if p.Bytes > 0 {
		seconds = max(seconds, float64(bytes)/float64(p.Bytes))
	}
	// What was not spent in the last second may be made up for: waits are never exact.
	if late := now.Add(-time.Second); b.free.Before(late) {
		b.free = late
	}
	b.free = b.free.Add(time.Duration(seconds * float64(time.Second)))
}

// Most is how many rows one chunk may have, so that a pace is an even one; bytesPerRow is 0 when unknown.
func (p Pace) Most(rows int, bytesPerRow float64) int {
	const share = 4 // of a second
	if p.Documents > 0 {
		rows = min(rows, int(p.Documents/share))
	}
	if p.Bytes > 0 && bytesPerRow > 0 {
		rows = min(rows, int(float64(p.Bytes)/share/bytesPerRow))
	}
	return max(1, rows)
}

// Strain tells from the times of a source's own queries when it has much else to do. The zero value is ready.
type Strain struct {
	usual  float64 // seconds a row, when the source is at ease
	recent []float64
}

const (
	// strainedAt is how much longer than usual a row takes before the source counts as strained, and
	// strainedOf of how many queries most must say so, since one that is slow says nothing.
	strainedAt, strainedOf = 5, 5
	// worthARest is how long a query takes at least before it says anything.
	worthARest = 250 * time.Millisecond
	// restShare is how long a strained source rests: this number of times the duration of the last read.
	restShare = 3
	// longestRest bounds a rest, so that it is soon looked again.
	longestRest = 10 * time.Second
)

// Rest is how long a source rests after a read of some rows took a duration: 0 while
// that is usual.
func (s *Strain) Rest(rows int, took time.Duration) time.Duration {
	if rows == 0 {
		return 0
	}
	per := took.Seconds() / float64(rows)
	if s.usual == 0 || per < s.usual {
		s.usual = per
	} else { // rows may be heavier from here on: then that is usual in the end
		s.usual += (per - s.usual) / 200
	}
	s.recent = append(s.recent[max(0, len(s.recent)-strainedOf+1):], per)
	sorted := slices.Sorted(slices.Values(s.recent))
	if took < worthARest || len(sorted) < strainedOf || sorted[strainedOf/2] < strainedAt*s.usual {
		return 0
	}
	return min(longestRest, restShare*took)
}
