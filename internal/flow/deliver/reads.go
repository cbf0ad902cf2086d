package deliver

import (
	"hash/maphash"
	"sync"
	"time"
)

// reads are when documents were last read, by their keys. It is kept while changes of the same rows wait in a journal
// again and again: those that were committed before a document was read are in it. The zero value is empty.
type reads struct {
	mu    sync.Mutex // guards what follows
	seeds [2]maphash.Seed
	at    map[[2]uint64]time.Time
}

// mostReads bounds their memory. What is not known is built again.
const mostReads = 100_000

// id stands for a key in 128 bits, so that no two keys of a table are the same.
func (r *reads) id(key string) [2]uint64 {
	return [2]uint64{maphash.String(r.seeds[0], key), maphash.String(r.seeds[1], key)}
}

// note notes when a document was read that is with the engine now.
func (r *reads) note(key string, at time.Time) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.at == nil {
		r.at = map[[2]uint64]time.Time{}
		r.seeds = [2]maphash.Seed{maphash.MakeSeed(), maphash.MakeSeed()}
	}
	id := r.id(key)
	if _, known := r.at[id]; known || len(r.at) < mostReads {
		r.at[id] = at
	}
}

// after reports whether a document was read after a time.
func (r *reads) after(key string, at time.Time) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	return !at.IsZero() && len(r.at) > 0 && r.at[r.id(key)].After(at)
}

func (r *reads) clear() {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.at = nil
}
