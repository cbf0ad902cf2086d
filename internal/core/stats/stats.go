// Package stats counts what goes on: events by the second, lags, and how long trouble
// lasts. All types may be used by many goroutines, and their zero values are ready.
package stats

import (
	"slices"
	"sync"
	"time"
)

// Meter counts events, and how many came in each of the last seconds.
type Meter struct {
	mu      sync.Mutex // guards what follows
	total   int64
	buckets [meterSeconds]int64
	second  int64
}

const meterSeconds = 64

// Add counts events that happened now.
func (m *Meter) Add(n int) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.advance(time.Now().Unix())
	m.total += int64(n)
	m.buckets[m.second%meterSeconds] += int64(n)
}

func (m *Meter) advance(now int64) {
	for s := max(m.second+1, now-meterSeconds+1); s <= now; s++ {
		m.buckets[s%meterSeconds] = 0
	}
	m.second = max(m.second, now)
}

// Read gives the total, the rate over the last ten full seconds, and the counts of
// the last sixty full seconds, oldest first.
func (m *Meter) Read() (total int64, perSecond float64, minute []int64) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.advance(time.Now().Unix())
	minute = make([]int64, 60)
	var recent int64
	for i := range minute {
		minute[i] = m.buckets[(m.second-60+int64(i)+meterSeconds)%meterSeconds]
		if i >= 50 {
			recent += minute[i]
		}
	}
	return m.total, float64(recent) / 10, minute
}

// Total is how many there were.
func (m *Meter) Total() int64 {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.total
}

// Lags keeps the lags of the last while, for percentiles.
type Lags struct {
	mu   sync.Mutex // guards what follows
	ring [1024]lag
	n    int
	// counts are those of all lags ever, by the bound that each is within, the last beyond all; sum is theirs.
	counts [len(LagBounds) + 1]int64
	sum    time.Duration
}

// LagBounds are the upper bounds of the buckets in which all lags are counted, in seconds.
var LagBounds = [...]float64{0.01, 0.025, 0.05, 0.1, 0.25, 0.5, 1, 2.5, 5, 10, 30, 60, 300, 1800}

// Totals gives how many lags there were within each of LagBounds but not within the one before, the last beyond all, and
// the seconds of all together.
func (l *Lags) Totals() (counts []int64, seconds float64) {
	l.mu.Lock()
	defer l.mu.Unlock()
	return slices.Clone(l.counts[:]), l.sum.Seconds()
}

type lag struct {
	at time.Time
	d  time.Duration
}

// LagWindow is how long a lag counts.
const LagWindow = 5 * time.Minute

// Add takes one lag, of a change that has just arrived.
func (l *Lags) Add(d time.Duration) {
	now := time.Now()
	l.mu.Lock()
	l.ring[l.n%len(l.ring)] = lag{now, d}
	l.n++
	bucket, _ := slices.BinarySearch(LagBounds[:], d.Seconds())
	l.counts[bucket]++
	l.sum += d
	l.mu.Unlock()
}

// Percentiles of some lags, in milliseconds.
type Percentiles struct {
	Changes       int // how many they are made from
	P50, P95, P99 float64
}

// Percentiles of the most recent lags within the window.
func (l *Lags) Percentiles() Percentiles {
	p, _ := l.Since(0)
	return p
}

// Since gives the percentiles of the last lags after the first n, and how many there
// have been.
func (l *Lags) Since(n int) (Percentiles, int) {
	l.mu.Lock()
	total := l.n
	var recent []time.Duration
	since := time.Now().Add(-LagWindow)
	for i := max(n, total-len(l.ring)); i < total; i++ {
		if x := l.ring[i%len(l.ring)]; x.at.After(since) {
			recent = append(recent, x.d)
		}
	}
	l.mu.Unlock()
	p := Percentiles{Changes: len(recent)}
	if len(recent) == 0 {
		return p, total
	}
	slices.Sort(recent)
	at := func(q float64) float64 {
		return float64(recent[min(len(recent)-1, int(q*float64(len(recent))))]) / float64(time.Millisecond)
	}
	p.P50, p.P95, p.P99 = at(0.50), at(0.95), at(0.99)
	return p, total
}

// Trouble is why something does not go on, in a sentence with what to do.
type Trouble struct {
	Since   time.Time
	Message string
	// Blocked: it waits until a person fixes the cause, and then continues by itself.
	// Otherwise it is tried again until it works.
	Blocked bool
	// Schema: the tables are no longer what the documents were made for.
	Schema bool
}

// TroubleSpot is where trouble is reported, and cleared when it is over.
type TroubleSpot struct {
	mu  sync.Mutex // guards now
	now *Trouble
}

// Report keeps since when the trouble lasts; it returns true when it is news.
func (t *TroubleSpot) Report(message string, blocked bool) bool {
	return t.Note(Trouble{Message: message, Blocked: blocked})
}

// Note is Report for a trouble whose Since is not set.
func (t *TroubleSpot) Note(now Trouble) bool {
	t.mu.Lock()
	defer t.mu.Unlock()
	news := t.now == nil || t.now.Message != now.Message
	if now.Since = time.Now(); t.now != nil {
		now.Since = t.now.Since
	}
	t.now = &now
	return news
}

// Clear says that the trouble is over; it returns true when there was some.
func (t *TroubleSpot) Clear() bool {
	t.mu.Lock()
	defer t.mu.Unlock()
	was := t.now != nil
	t.now = nil
	return was
}

// Get is the trouble now, nil when there is none.
func (t *TroubleSpot) Get() *Trouble {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.now
}

// Counted is a count and when it was made.
type Counted struct {
	mu sync.Mutex // guards what follows
	n  *int64
	at time.Time
}

// Set keeps a count that was just made.
func (c *Counted) Set(n int64) {
	c.mu.Lock()
	c.n, c.at = &n, time.Now()
	c.mu.Unlock()
}

// Get is the last count, nil before the first, and when it was made.
func (c *Counted) Get() (*int64, time.Time) {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.n, c.at
}
