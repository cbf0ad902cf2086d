package deliver

import (
	"hash/maphash"
	"math"
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
	at    map[[3]uint32]uint32 // milliseconds after since
}

// mostReads bounds the memory of all of them together: some 30 bytes each. What is not known is built again.
const mostReads = 700_000

// readsKept is how many there are in this process.
var readsKept atomic.Int64

// id identifies a key by 96 bits, so that no two keys of a table are the same.
func (r *reads) id(key string) [3]uint32 {
	first, second := maphash.String(r.seeds[0], key), maphash.String(r.seeds[1], key)
	return [3]uint32{uint32(first), uint32(first >> 32), uint32(second)}
}

// note notes when a document was read that the engine has now, or that is in the backlog.
func (r *reads) note(key string, at time.Time) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.at == nil {
		r.at, r.since = map[[3]uint32]uint32{}, at.Add(-time.Hour) // reads that began before it may end after it
		r.seeds = [2]maphash.Seed{maphash.MakeSeed(), maphash.MakeSeed()}
	}
	after := at.Sub(r.since).Milliseconds() // rounded down: no document is taken for newer than it is
	if after < 0 || after > math.MaxUint32 {
		return
	}
	id := r.id(key)
	if _, known := r.at[id]; !known {
		if readsKept.Load() >= mostReads {
			return
		}
		readsKept.Add(1)
	}
	r.at[id] = uint32(after)
}

// after reports whether a document was read after a time.
func (r *reads) after(key string, at time.Time) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	if at.IsZero() || len(r.at) == 0 {
		return false
	}
	read, known := r.at[r.id(key)]
	return known && r.since.Add(time.Duration(read)*time.Millisecond).After(at)
}

func (r *reads) clear() {
	r.mu.Lock()
	defer r.mu.Unlock()
	readsKept.Add(-int64(len(r.at)))
	r.at = nil
}
