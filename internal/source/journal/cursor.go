// Package journal is what the feeds share that read a table of changes in a database.
package journal

import (
	"maps"
	"math"
	"slices"
	"sync"
	"time"

	"pingo/internal/core/change"
)

// Cursor remembers what was read of a journal. Writers take their numbers before they commit,
// so rows appear late and out of order: everything visible above a low-water mark is read that
// is not in flight, and the mark only rises to a number below which no uncommitted row can
// exist. Numbers may be set back, or taken in blocks, so from time to time everything is read, whatever its number. The
// zero value begins at the start. All methods may be used at the same time, but one read at a time, from Begin to Took.
type Cursor struct {
	mu sync.Mutex // guards what follows
	// inFlight has the time of every change that was returned and is not done.
	inFlight map[int64]time.Time
	// gone were deleted; they leave inFlight when the next read begins, since a
	// read that began before the deletion still sees them.
	gone      []int64
	low, high int64 // all rows up to low were seen; high is the highest seen
	before    int64 // the highest that was seen before the last read
	// horizons say when it was known that no change up to a number could still become visible, in order.
	horizons []horizon
	// nextFull is when rows between low and high are read again, and nextWhole when rows of all numbers are.
	nextFull, nextWhole time.Time
}

// WholeEvery is the interval between reads of rows of all numbers. It is a variable for tests.
var WholeEvery = 10 * time.Second

// Read is one read of a journal.
type Read struct {
	// From is the number above which rows are to be read, in order, at most Limit.
	From  int64
	Limit int
	// Full: rows are read from the low-water mark on, not only those above the highest seen. Whole: all are.
	Full, Whole bool
	began       time.Time
}

// Begin begins a read of at most limit changes that were not returned before.
func (c *Cursor) Begin(limit int) Read {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, seq := range c.gone {
		delete(c.inFlight, seq)
	}
	c.gone = nil
	r := Read{From: c.high, Limit: limit, began: time.Now()}
	if r.Full = r.began.After(c.nextFull); r.Full {
		r.From, r.Limit = c.low, limit+len(c.inFlight)
	}
	if r.Whole = r.began.After(c.nextWhole); r.Whole {
		r.Full, r.From, r.Limit = true, math.MinInt64, limit+len(c.inFlight)
	}
	return r
}

// Took keeps what is new among the rows that were read. All rows up to seen were read that
// were visible then.
func (c *Cursor) Took(r Read, read []change.Change) (fresh []change.Change, seen int64) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.inFlight == nil {
		c.inFlight = map[int64]time.Time{}
	}
	cut := len(read) == r.Limit
	fresh, seen = read[:0], r.From
	back := false
	for _, row := range read {
		seen = row.Seq
		if _, handed := c.inFlight[row.Seq]; handed {
			continue
		}
		c.inFlight[row.Seq] = row.At
		fresh, back = append(fresh, row), back || row.Seq <= c.low
	}
	c.before, c.high = c.high, max(c.high, seen)
	if back { // the numbers no longer mean anything
		c.low = 0
		if r.Whole && !cut {
			c.high = seen
		}
	}
	if r.Whole {
		c.nextWhole = time.Now().Add(max(WholeEvery, 10*time.Since(r.began)))
	}
	if r.Full { // looking again below high is as frequent as it is cheap
		c.nextFull = time.Now().Add(10 * time.Since(r.began))
	}
	if !cut {
		seen = math.MaxInt64
	}
	return fresh, seen
}

// Settle raises the low-water mark: no row up to it can still become visible, and a full
// read has seen them all.
func (c *Cursor) Settle(low int64) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.low = max(c.low, low)
}

// horizon says that all changes above a number and up to another one had been committed, or never will be, by some
// time.
type horizon struct {
	above, upto int64
	by          time.Time
}

// mostHorizons bounds their memory; with fewer, it is known a little later that a change was committed.
const mostHorizons = 32

// AllCommitted notes that no change above a number and up to another one can still become visible, read or not.
func (c *Cursor) AllCommitted(above, upto int64) {
	c.mu.Lock()
	defer c.mu.Unlock()
	// Only the horizons of the last read are asked for.
	c.horizons = slices.DeleteFunc(c.horizons, func(h horizon) bool { return h.upto <= c.before })
	n := len(c.horizons)
	switch {
	case n > 0 && upto <= c.horizons[n-1].upto:
		return
	case n == mostHorizons:
		less, next := c.horizons[n/2], &c.horizons[n/2+1]
		if next.above <= less.upto { // what was known earlier is known by then, too
			next.above = min(next.above, less.above)
		}
		c.horizons = append(c.horizons[:n/2], c.horizons[n/2+1:]...)
	}
	c.horizons = append(c.horizons, horizon{above, upto, time.Now()})
}

// CommittedBy is by when a change was committed, if that was known before it was read: a read of its row after
// that sees it. The times are those of this process's clock.
func (c *Cursor) CommittedBy(seq int64) (by time.Time, known bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, h := range c.horizons {
		if seq > h.above && seq <= h.upto {
			return h.by, true
		}
	}
	return by, false
}

// Low is the low-water mark.
func (c *Cursor) Low() int64 {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.low
}

// High is the highest number seen.
func (c *Cursor) High() int64 {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.high
}

// Handed gives the numbers of the changes that were returned and are not done, with when they were made.
func (c *Cursor) Handed() map[int64]time.Time {
	c.mu.Lock()
	defer c.mu.Unlock()
	handed := maps.Clone(c.inFlight)
	for _, seq := range c.gone {
		delete(handed, seq)
	}
	return handed
}

// Gone notes rows that were deleted.
func (c *Cursor) Gone(seqs []int64) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.gone = append(c.gone, seqs...)
}

// Rewind forgets what was handed out, so that all that is left is read again.
func (c *Cursor) Rewind() {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.inFlight, c.gone, c.low, c.high, c.before, c.nextFull, c.nextWhole, c.horizons = nil, nil, 0, 0, 0, time.Time{}, time.Time{}, nil
}

// InFlight is how many changes were returned and are not done, and when the oldest of them
// was made.
func (c *Cursor) InFlight() (n int, oldest time.Time) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, at := range c.inFlight {
		if oldest.IsZero() || at.Before(oldest) {
			oldest = at
		}
	}
	// Those that are gone leave with the next read; a caller that waits for room must not wait for them.
	return len(c.inFlight) - len(c.gone), oldest
}

// Below is a number below which nothing is but what was read and is done.
func (c *Cursor) Below() int64 {
	c.mu.Lock()
	defer c.mu.Unlock()
	low := c.low
	for seq := range c.inFlight {
		low = min(low, seq-1)
	}
	return low
}
