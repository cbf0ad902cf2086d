package stream

import (
	"context"
	"fmt"
	"log/slog"
	"strings"
	"sync"
	"time"

	"github.com/dustin/go-humanize"

	"pingo/internal/source"
)

// Journal is what was last measured of a source's journal.
type Journal struct {
	mu      sync.Mutex // guards what follows
	now     *Measured
	earlier []Measured // of the last minute
}

// Measured is how deep a journal was.
type Measured struct {
	source.Depth
	At time.Time
	// GrowsPerSecond is the growth in changes a second over the last minute.
	GrowsPerSecond float64
	LimitBytes     int64
	// Warning is there while it is larger than its limit.
	Warning string
}

// Get is what was measured last, nil before the first time.
func (j *Journal) Get() *Measured {
	j.mu.Lock()
	defer j.mu.Unlock()
	return j.now
}

// changeBytes is about what a change takes in a journal.
const changeBytes = 400

// Measure measures the journal, and reports whether it is larger than a limit. keep says
// that its changes are kept then.
func (s *Stream) Measure(ctx context.Context, limit int64, keep bool) (tooLarge bool, err error) {
	asked := time.Now()
	depth, err := s.feed.Depth(ctx)
	if err != nil {
		return false, err
	}
	return s.Journal.took(depth, Ahead(depth.Clock, asked, time.Now()), limit, keep, s.log), nil
}

// ClocksApart is by how much two clocks may differ before Pingo says so.
const ClocksApart = 5 * time.Second

// Ahead is by how much another clock is ahead of this process's, if it was read between two times here; zero when it was not.
func Ahead(clock, asked, answered time.Time) time.Duration {
	switch {
	case clock.IsZero():
		return 0
	case clock.Before(asked):
		return clock.Sub(asked)
	case clock.After(answered):
		return clock.Sub(answered)
	}
	return 0
}

func (j *Journal) took(depth source.Depth, apart time.Duration, limit int64, keep bool, log *slog.Logger) (tooLarge bool) {
	now := &Measured{Depth: depth, LimitBytes: limit, At: time.Now()}
	j.mu.Lock()
	defer j.mu.Unlock()
	if len(j.earlier) > 0 {
		then := j.earlier[0]
		now.GrowsPerSecond = float64(now.Changes-then.Changes) / now.At.Sub(then.At).Seconds()
	}
	j.earlier = append(j.earlier, *now)
	for now.At.Sub(j.earlier[0].At) > time.Minute {
		j.earlier = j.earlier[1:]
	}
	// What is left of the table's file after a flood is no reason to worry.
	tooLarge = depth.Bytes > limit && depth.Changes*changeBytes > limit/4
	if tooLarge {
		now.Warning = fmt.Sprintf(
			"the journal holds %s changes in %s, more than its limit of %s",
			humanize.Comma(depth.Changes),
			humanize.Bytes(uint64(depth.Bytes)),
			humanize.Bytes(uint64(limit)),
		)
		if keep {
			now.Warning += "; they are kept, so see that the disk does not fill up, and why they are not worked off"
		}
		if j.now == nil || j.now.Warning == "" {
			log.Warn("journal too large", "changes", depth.Changes, "bytes", depth.Bytes, "limit", limit)
		}
	}
	if apart.Abs() > ClocksApart {
		says := "ahead of"
		if apart < 0 {
			says = "behind"
		}
		if now.Warning != "" {
			now.Warning += ". "
		}
		now.Warning += fmt.Sprintf("the clock of the database is %s %s that of Pingo: lag is wrong by that; synchronise the clocks", apart.Abs().Round(time.Second), says)
		if j.now == nil || !strings.Contains(j.now.Warning, "the clock of") {
			log.Warn("clocks differ", "database ahead", apart.Round(time.Second).String())
		}
	}
	j.now = now
	return tooLarge
}
