package deliver

import (
	"sync"
	"time"

	"pingo/internal/core/change"
)

// latestKept is how many documents are remembered that were built last for changes.
const latestKept = 1000

// Settled is the outcome of a document that was built for changes.
type Settled struct {
	Key     string
	At      time.Time
	Changed time.Time // when the oldest of its changes was made; zero where none is known
	Outcome string    // sent, deleted, unchanged or refused
	Bytes   int       // of the document
}

// Latest remembers the outcomes of the documents that were built last.
type Latest struct {
	mu    sync.Mutex // guards what follows
	ring  []Settled
	next  int
	since time.Time // what was settled since then is known
}

func (l *Latest) add(entry change.Entry, o outcome, bytes int, now time.Time) {
	s := Settled{Key: entry.Key, At: now, Changed: change.Oldest(entry.Tickets), Outcome: o.String(), Bytes: bytes}
	l.mu.Lock()
	defer l.mu.Unlock()
	if len(l.ring) < latestKept {
		l.ring = append(l.ring, s)
		return
	}
	l.since = l.ring[l.next].At
	l.ring[l.next] = s
	l.next = (l.next + 1) % latestKept
}

// Of lists the outcomes of the builds of a key for changes, newest first, and since when that is
// known.
func (l *Latest) Of(key string) (list []Settled, since time.Time) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for i := range l.ring {
		if s := &l.ring[(l.next+len(l.ring)-1-i)%len(l.ring)]; s.Key == key {
			list = append(list, *s)
		}
	}
	return list, l.since
}
