package retry

import (
	"sync"
	"time"
)

// Batch sizes the requests to an edition by how its engine answers: more while answers
// are quick, fewer when they are slow or the engine is busy, and never again as large as
// what it refused for its size. The zero value is ready; it is safe for concurrent use.
type Batch struct {
	mu    sync.Mutex // guards what follows
	docs  float64
	bytes int // 0: not known to be limited
}

// The bounds of requests.
const (
	MaxDocs  = 12000
	MaxBytes = 5 << 20
	minDocs  = 20

	quick = 700 * time.Millisecond // an answer within this calls for more
	slow  = 3 * time.Second        // one that takes longer calls for less
)

// Limits are how many documents and bytes the next request may have.
func (b *Batch) Limits() (docs, bytes int) {
	b.mu.Lock()
	defer b.mu.Unlock()
	docs, bytes = int(b.docs), b.bytes
	if docs == 0 {
		docs = MaxDocs
	}
	if bytes == 0 {
		bytes = MaxBytes
	}
	return docs, bytes
}

// Answered takes in that a request with a number of documents was answered after some time.
func (b *Batch) Answered(docs int, took time.Duration) {
	b.mu.Lock()
	defer b.mu.Unlock()
	switch {
	case took > slow:
		b.shrink(docs)
	case took < quick && b.docs > 0:
		b.docs = min(b.docs*1.2+1, MaxDocs)
	}
}

// Busy takes in that the engine had too much to do for a request with a number of documents.
func (b *Batch) Busy(docs int) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.shrink(docs)
}

func (b *Batch) shrink(docs int) {
	if b.docs == 0 || float64(docs) < b.docs {
		b.docs = float64(docs)
	}
	b.docs = max(b.docs/2, minDocs)
}

// TooLarge takes in that a request of a number of bytes was refused for its size.
func (b *Batch) TooLarge(bytes int) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if half := bytes / 2; b.bytes == 0 || half < b.bytes {
		b.bytes = max(half, 1)
	}
}
