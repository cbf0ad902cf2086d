// Package reindex holds what filling an edition rests on: its steps, how large chunks are, which
// keys the stream has built since a chunk was read, and what it must come to before it answers.
package reindex

import (
	"slices"
	"time"
)

// State is a step of an edition's life.
type State string

// The steps, in order. A switched edition answers under the public name.
const (
	Preparing  State = "preparing"
	Filling    State = "filling"
	CatchingUp State = "catching up"
	Checking   State = "checking"
	// Ready editions are complete. They are switched to when their gates have passed, or a person
	// says so.
	Ready    State = "ready"
	Switched State = "switched"
	// Cancelled editions are dropped by whoever feeds them.
	Cancelled State = "cancelled"
)

// next has the steps that may follow each.
var next = map[State][]State{
	Preparing:  {Filling, Cancelled},
	Filling:    {CatchingUp, Cancelled},
	CatchingUp: {Checking, Cancelled},
	Checking:   {Ready, Cancelled},
	Ready:      {Ready, Switched, Cancelled}, // Ready again, when the gates are looked at again
	Switched:   {Cancelled},
}

// Leads reports whether a step may follow another.
func (s State) Leads(to State) bool { return slices.Contains(next[s], to) }

// Sizer chooses how many rows a chunk has, so that each is about Target bytes of
// document whatever a row's documents weigh. The zero value is ready.
type Sizer struct {
	bytesPerRow float64
}

// Bounds of a chunk.
const (
	TargetBytes = 6 << 20
	firstRows   = 500
	maxRows     = 12000
)

// Rows is the size of the next chunk.
func (s *Sizer) Rows() int {
	if s.bytesPerRow == 0 {
		return firstRows
	}
	return max(1, min(maxRows, int(TargetBytes/s.bytesPerRow)))
}

// Saw tells what a chunk came to. Growth counts at once, shrinking slowly, so that
// a few heavy rows do not meet a chunk sized by light ones.
func (s *Sizer) Saw(rows, bytes int) {
	if rows == 0 {
		return
	}
	per := float64(bytes) / float64(rows)
	if per < s.bytesPerRow {
		per = s.bytesPerRow*0.7 + per*0.3
	}
	s.bytesPerRow = max(per, 1)
}

// Touched remembers the keys that the stream delivered since the oldest open chunk
// began to read. A chunk's document whose key is in it was read before, or at
// the same time as, something newer that the engine has already: it must be
// dropped (promise 2). The caller guards it: Add, Has and the delivery that
// follows happen under one lock per lane. The zero value is ready.
type Touched struct {
	clock int64
	keys  map[string]int64
	trees map[int]int64 // all keys of a tree
	open  map[int64]int
}

// Begin opens a chunk before it is read, and returns its mark for End.
func (t *Touched) Begin() int64 {
	if t.open == nil {
		t.open, t.keys, t.trees = map[int64]int{}, map[string]int64{}, map[int]int64{}
	}
	t.open[t.clock]++
	return t.clock
}

// End closes a chunk whose documents were all delivered, and forgets the keys that
// no open chunk can step back over.
func (t *Touched) End(mark int64) {
	if t.open[mark]--; t.open[mark] == 0 {
		delete(t.open, mark)
	}
	if len(t.open) == 0 {
		clear(t.keys)
		clear(t.trees)
		return
	}
	oldest := t.clock
	for m := range t.open {
		oldest = min(oldest, m)
	}
	for k, at := range t.keys {
		if at <= oldest {
			delete(t.keys, k)
		}
	}
}

// Add notes a key that the stream delivered.
func (t *Touched) Add(key string) {
	if len(t.open) > 0 {
		t.clock++
		t.keys[key] = t.clock
	}
}

// AddTree notes that all documents of a tree are about to be built, also those that no
// row makes any more.
func (t *Touched) AddTree(tree int) {
	if len(t.open) > 0 {
		t.clock++
		t.trees[tree] = t.clock
	}
}

// Has reports whether the stream delivered the key of a tree since the chunk with this
// mark began.
func (t *Touched) Has(tree int, key string, mark int64) bool {
	return t.keys[key] > mark || t.trees[tree] > mark
}

// Progress is how far a fill is.
type Progress struct {
	Rows     int64     `json:"rows"`
	Resumed  int64     `json:"resumed"` // rows that were done before this run began
	Expected int64     `json:"expected"`
	Bytes    int64     `json:"bytes"`
	Dropped  int64     `json:"dropped"` // overtaken by the stream
	Began    time.Time `json:"began"`
}

// Rate is rows per second so far.
func (p Progress) Rate(now time.Time) float64 {
	seconds := now.Sub(p.Began).Seconds()
	if seconds <= 0 {
		return 0
	}
	return float64(p.Rows-p.Resumed) / seconds
}

// Left is the time that the rest takes at the rate so far; 0 when unknown.
func (p Progress) Left(now time.Time) time.Duration {
	rate := p.Rate(now)
	if rate == 0 || p.Expected <= p.Rows {
		return 0
	}
	return time.Duration(float64(p.Expected-p.Rows) / rate * float64(time.Second))
}
