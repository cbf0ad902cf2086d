package deliver

import (
	"hash/maphash"
	"sync"
	"sync/atomic"
	"time"
)

// reads are when documents were last read, by their keys. It is kept while changes of the same rows wait in a journal
// again and again: those that were committed before a document was read are in it. The zero value is empty.
type reads struct {
	mu    sync.Mutex // guards what follows
	seeds [2]maphash.Seed
	since time.Time
	at    map[[2]uint64]time.Duration // after since
}

// mostReads bounds the memory of all of them together: some 50 bytes each. What is not known is built again.
const mostReads = 400_000

// readsKept is how many there are in this process.
var readsKept atomic.Int64

// id stands for a key in 128 bits, so that no two keys of a table are the same.
func (r *reads) id(key string) [2]uint64 {
	return [2]uint64{maphash.String(r.seeds[0], key), maphash.String(r.seeds[1], key)}
}

// note notes when a document was read that is with the engine now, or stands in the backlog.
func (r *reads) note(key string, at time.Time) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.at == nil {
		r.at, r.since = map[[2]uint64]time.Duration{}, at
		r.seeds = [2]maphash.Seed{maphash.MakeSeed(), maphash.MakeSeed()}
	}
	id := r.id(key)
	if _, known := r.at[id]; !known {
		if readsKept.Load() >= mostReads {
			return
		}
		readsKept.Add(1)
	}
	r.at[id] = at.Sub(r.since)
}

// after reports whether a document was read after a time.
func (r *reads) after(key string, at time.Time) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	if at.IsZero() || len(r.at) == 0 {
		return false
	}
	read, known := r.at[r.id(key)]
	return known && r.since.Add(read).After(at)
}

func (r *reads) clear() {
	r.mu.Lock()
	defer r.mu.Unlock()
	readsKept.Add(-int64(len(r.at)))
	r.at = nil
}
