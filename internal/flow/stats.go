package flow

import (
	"slices"
	"sync"
	"time"
)

// meter counts events, and how many came in each of the last seconds.
type meter struct {
	mu      sync.Mutex
	total   int64
	buckets [meterSeconds]int64
	second  int64
}

const meterSeconds = 64

func (m *meter) add(n int) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.advance(time.Now().Unix())
	m.total += int64(n)
	m.buckets[m.second%meterSeconds] += int64(n)
}

func (m *meter) advance(now int64) {
	for s := max(m.second+1, now-meterSeconds+1); s <= now; s++ {
		m.buckets[s%meterSeconds] = 0
	}
	m.second = max(m.second, now)
}

// read gives the total, the rate over the last ten full seconds, and the counts of
// the last sixty full seconds, oldest first.
func (m *meter) read() (total int64, perSecond float64, minute []int64) {
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

func (m *meter) sum() int64 {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.total
}

// lags keeps the most recent lags, for percentiles.
type lags struct {
	mu   sync.Mutex
	ring [1024]time.Duration
	n    int
}

func (l *lags) add(d time.Duration) {
	l.mu.Lock()
	l.ring[l.n%len(l.ring)] = d
	l.n++
	l.mu.Unlock()
}

// Percentiles of the lag of the last changes, in milliseconds.
type Percentiles struct {
	Changes int     `json:"changes"` // how many the percentiles are made from
	P50     float64 `json:"p50"`
	P95     float64 `json:"p95"`
	P99     float64 `json:"p99"`
}

func (l *lags) percentiles() Percentiles {
	p, _ := l.since(0)
	return p
}

// since gives the percentiles of the last lags after the first n, and how many there
// have been.
func (l *lags) since(n int) (Percentiles, int) {
	l.mu.Lock()
	total := l.n
	var recent []time.Duration
	for i := max(n, total-len(l.ring)); i < total; i++ {
		recent = append(recent, l.ring[i%len(l.ring)])
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
	Since   time.Time `json:"since"`
	Message string    `json:"message"`
	// Blocked: it waits for a person, and goes on by itself once it is mended.
	// Otherwise it is tried again until it works.
	Blocked bool `json:"blocked"`
}

type troubleSpot struct {
	mu  sync.Mutex
	now *Trouble
}

// report keeps since when the trouble lasts; it returns true when it is news.
func (t *troubleSpot) report(message string, blocked bool) bool {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.now == nil {
		t.now = &Trouble{Since: time.Now()}
	}
	news := t.now.Message != message
	t.now = &Trouble{t.now.Since, message, blocked}
	return news
}

func (t *troubleSpot) clear() bool {
	t.mu.Lock()
	defer t.mu.Unlock()
	was := t.now != nil
	t.now = nil
	return was
}

func (t *troubleSpot) get() *Trouble {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.now
}
