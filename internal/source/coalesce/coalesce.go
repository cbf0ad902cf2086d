// Package coalesce has reads of the same documents' rows, which several indexes ask for at the same moment, done as
// one: in one snapshot, and what is read in the same way is read once. Databases that speak SQL share it.
package coalesce

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"sync"
	"time"

	"pingo/internal/core/document"
	"pingo/internal/core/shape"
)

// MostFew is how many documents are worth being read together with others.
const MostFew = 16

// JoinWithin is how long a read of a few documents waits for those of other indexes that want the same rows. They
// received the same changes at the same moment. It is a variable for tests.
var JoinWithin = time.Millisecond

const (
	// readOfLate is how long an index is expected to read a table again.
	readOfLate = 5 * time.Second
	// mostInVain is how many times in a row a read waited in vain before reads no longer wait, for a time.
	mostInVain = 8
	aloneFor   = time.Second
	// apartFor is how long an index reads alone whose reads fail.
	apartFor = time.Minute
)

// Reads are the reads of a source. The zero value is ready, and may be used by several at the same time.
type Reads struct {
	mu     sync.Mutex             // guards what follows
	open   map[string]*joint      // what may still be joined, by its table and keys
	tables map[shape.Ref]*readers // by root
}

// joint is some reads that are done as one.
type joint struct {
	parts []*Part
	all   chan struct{} // closed when no other read is expected
	done  chan struct{} // closed when it was read
	// failed: each reads alone, so that one index does not suffer from what another one reads.
	failed bool
}

// readers are the trees that have rows of one table as their roots.
type readers struct {
	seen   map[*shape.Tree]time.Time // when a few of each were last read
	inVain int                       // how many times in a row a read waited in vain
	alone  time.Time                 // no read waits for others until then
	// apart are those whose reads failed: until when they read alone.
	apart map[*shape.Tree]time.Time
}

// expected is how many trees will read what one of them reads now.
func (f *readers) expected(t *shape.Tree, now time.Time) int {
	f.seen[t] = now
	for other, at := range f.seen {
		if now.Sub(at) > readOfLate {
			delete(f.seen, other)
		}
	}
	if now.Before(f.alone) {
		return 1
	}
	return len(f.seen)
}

// join adds a part to those that read the same documents, or starts with it; nil when no other read is expected.
func (r *Reads) join(keys [][]string, me *Part) (j *joint, first bool) {
	root := me.Set.Tree().Root()
	name := fmt.Sprintf("%q %q", root.Table, keys)
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.open == nil {
		r.open, r.tables = map[string]*joint{}, map[shape.Ref]*readers{}
	}
	f, now := r.tables[root.Table], time.Now()
	if f == nil {
		f = &readers{seen: map[*shape.Tree]time.Time{}, apart: map[*shape.Tree]time.Time{}}
		r.tables[root.Table] = f
	}
	maps.DeleteFunc(f.apart, func(_ *shape.Tree, until time.Time) bool { return now.After(until) })
	if _, failed := f.apart[me.Set.Tree()]; failed {
		return nil, false
	}
	expected := f.expected(me.Set.Tree(), now)
	if j = r.open[name]; j != nil {
		if j.parts = append(j.parts, me); len(j.parts) >= expected {
			close(j.all)
			delete(r.open, name)
		}
		return j, false
	}
	if expected == 1 {
		return nil, false
	}
	j = &joint{parts: []*Part{me}, all: make(chan struct{}), done: make(chan struct{})}
	r.open[name] = j
	time.AfterFunc(JoinWithin, func() { r.close(name, j) })
	return j, true
}

// close ends the time in which others may join.
func (r *Reads) close(name string, j *joint) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.open[name] == j {
		close(j.all)
		delete(r.open, name)
	}
	f := r.tables[j.parts[0].Set.Tree().Root().Table]
	if f.inVain++; len(j.parts) > 1 {
		f.inVain = 0
	}
	if f.inVain >= mostInVain {
		f.inVain, f.alone = 0, time.Now().Add(aloneFor)
	}
}

// setApart has an index read alone for a while.
func (r *Reads) setApart(t *shape.Tree) {
	r.mu.Lock()
	defer r.mu.Unlock()
	f := r.tables[t.Root().Table]
	f.apart[t] = time.Now().Add(apartFor)
	delete(f.seen, t)
}

// Do reads the rows of documents by their keys into a set: with level, which gives the queries that begin it, and read,
// which reads parts in one snapshot. Where others want the same documents just then, it is done once for all.
func (r *Reads) Do(
	ctx context.Context,
	set *document.Set,
	keys [][]string,
	level func(t *shape.Tree, keys [][]string) []Query,
	read func(ctx context.Context, parts ...*Part) error,
) error {
	if len(keys) > MostFew {
		return read(ctx, &Part{set, level(set.Tree(), keys)})
	}
	keys = slices.SortedFunc(slices.Values(keys), slices.Compare)
	me := &Part{set, level(set.Tree(), keys)}
	j, first := r.join(keys, me)
	switch {
	case j == nil:
		return read(ctx, me)
	case first:
		<-j.all
		err := read(ctx, j.parts...)
		j.failed = err != nil && len(j.parts) > 1
		close(j.done)
		if !j.failed {
			return err
		}
	default:
		// The other read fills this set, even if ctx ends.
		if <-j.done; !j.failed {
			return nil
		}
	}
	set.Reset()
	err := read(ctx, &Part{set, level(set.Tree(), keys)})
	if err != nil && ctx.Err() == nil {
		r.setApart(set.Tree())
	}
	return err
}
