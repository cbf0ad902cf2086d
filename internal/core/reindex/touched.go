package reindex

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
// row makes any longer.
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
