package standin

import (
	"cmp"
	"encoding/binary"
	"iter"
	"maps"
	bits64 "math/bits"
	"slices"
	"sort"
	"strings"
	"sync"
)

// segment is an inverted index over documents that never change. Documents are in order
// of their ids and are named by their place in it.
type segment struct {
	docs   []*doc
	fields map[*field]*terms
}

// terms are the keys of one field in order, each with the documents it is in.
type terms struct {
	keys     []string
	postings []postings
	// Made with the first sort by the field.
	extremes        sync.Once
	lowest, highest []int32
}

// postings are documents in order, each with how often the key is in it, as far as 255:
// the distance to the one before, doubled, and one more when a byte follows that says how often
// if more than once.
type postings struct {
	documents int
	coded     string
}

// coder makes postings, document by document.
type coder struct {
	documents int
	last      uint32
	coded     []byte
}

func (c *coder) add(doc uint32, times uint8) {
	step := uint64(doc-c.last) << 1
	if times > 1 {
		c.coded = append(binary.AppendUvarint(c.coded, step|1), times)
	} else {
		c.coded = binary.AppendUvarint(c.coded, step)
	}
	c.documents++
	c.last = doc
}

func (c *coder) postings() postings { return postings{c.documents, string(c.coded)} }

// all yields each document and how often the key is in it.
func (p *postings) all() iter.Seq2[uint32, uint8] {
	return func(yield func(uint32, uint8) bool) {
		doc := uint32(0)
		for at := 0; at < len(p.coded); {
			step, shift := uint32(0), 0
			for ; p.coded[at] >= 0x80; at++ {
				step |= uint32(p.coded[at]&0x7f) << shift
				shift += 7
			}
			step |= uint32(p.coded[at]) << shift
			at++
			times := uint8(1)
			if step&1 == 1 {
				times = p.coded[at]
				at++
			}
			if doc += step >> 1; !yield(doc, times) {
				return
			}
		}
	}
}

// bits is a set of documents of a segment.
type bits []uint64

func newBits(n int) bits         { return make(bits, (n+63)/64) }
func (b bits) has(n uint32) bool { return b[n/64]&(1<<(n%64)) != 0 }
func (b bits) set(n uint32)      { b[n/64] |= 1 << (n % 64) }
func (b bits) unset(n uint32)    { b[n/64] &^= 1 << (n % 64) }
func (b bits) each(f func(uint32)) {
	for i, word := range b {
		for ; word != 0; word &= word - 1 {
			f(uint32(i*64 + bits64.TrailingZeros64(word)))
		}
	}
}

func (b bits) count() (n int) {
	for _, word := range b {
		n += bits64.OnesCount64(word)
	}
	return n
}

// read is a document that no segment has taken in yet, with what it is found by.
type read struct {
	doc   *doc
	terms []term
}

// newSegment takes documents in.
func newSegment(documents []read) *segment {
	slices.SortFunc(documents, func(a, b read) int { return cmp.Compare(a.doc.id, b.doc.id) })
	s := &segment{docs: make([]*doc, len(documents)), fields: map[*field]*terms{}}
	collected := map[*field]map[string]*coder{}
	for n, d := range documents {
		s.docs[n] = d.doc
		slices.SortFunc(
			d.terms,
			func(a, b term) int { return cmp.Or(cmp.Compare(a.key, b.key), cmp.Compare(a.field.path, b.field.path)) },
		)
		for i := 0; i < len(d.terms); {
			t, times := d.terms[i], 0
			for ; i < len(d.terms) && d.terms[i] == t; i++ {
				times++
			}
			byKey := collected[t.field]
			if byKey == nil {
				byKey = map[string]*coder{}
				collected[t.field] = byKey
			}
			list := byKey[t.key]
			if list == nil {
				list = &coder{}
				byKey[strings.Clone(t.key)] = list
			}
			list.add(uint32(n), uint8(min(times, 255)))
		}
	}
	for f, byKey := range collected {
		t := &terms{keys: slices.Sorted(maps.Keys(byKey))}
		t.postings = make([]postings, len(t.keys))
		for i, k := range t.keys {
			t.postings[i] = byKey[k].postings()
		}
		s.fields[f] = t
	}
	return s
}

// merge makes one segment of the living documents of several.
func merge(segments []*segment, live []bits) *segment {
	out := &segment{fields: map[*field]*terms{}}
	type from struct {
		segment int
		n       uint32
	}
	var order []from
	for i := range segments {
		live[i].each(func(n uint32) { order = append(order, from{i, n}) })
	}
	doc := func(f from) *doc { return segments[f.segment].docs[f.n] }
	slices.SortFunc(order, func(a, b from) int { return cmp.Compare(doc(a).id, doc(b).id) })
	type posting struct {
		doc   uint32
		times uint8
	}
	const gone = ^uint32(0)
	place := make([][]uint32, len(segments))
	for i, s := range segments {
		place[i] = slices.Repeat([]uint32{gone}, len(s.docs))
	}
	for n, f := range order {
		out.docs = append(out.docs, doc(f))
		place[f.segment][f.n] = uint32(n)
	}
	var list coder
	var moved []posting
	fields := map[*field]bool{}
	for _, s := range segments {
		for f := range s.fields {
			fields[f] = true
		}
	}
	for f := range fields {
		at := make([]int, len(segments))
		t := &terms{}
		for {
			key, some := "", false
			for i, s := range segments {
				if old := s.fields[f]; old != nil && at[i] < len(old.keys) && (!some || old.keys[at[i]] < key) {
					key, some = old.keys[at[i]], true
				}
			}
			if !some {
				break
			}
			moved = moved[:0]
			from := 0 // how many segments
			for i, s := range segments {
				if old := s.fields[f]; old != nil && at[i] < len(old.keys) && old.keys[at[i]] == key {
					for doc, times := range old.postings[at[i]].all() {
						if n := place[i][doc]; n != gone {
							moved = append(moved, posting{n, times})
						}
					}
					at[i]++
					from++
				}
			}
			if len(moved) > 0 {
				if from > 1 { // else they are in order
					slices.SortFunc(moved, func(a, b posting) int { return cmp.Compare(a.doc, b.doc) })
				}
				list.documents, list.last, list.coded = 0, 0, list.coded[:0]
				for _, p := range moved {
					list.add(p.doc, p.times)
				}
				t.keys, t.postings = append(t.keys, key), append(t.postings, list.postings())
			}
		}
		t.keys, t.postings = slices.Clip(t.keys), slices.Clip(t.postings)
		out.fields[f] = t
	}
	return out
}

// find gives the documents with a key; none when there is no such key.
func (t *terms) find(key string) *postings {
	if t == nil {
		return nil
	}
	if i, ok := slices.BinarySearch(t.keys, key); ok {
		return &t.postings[i]
	}
	return nil
}

// between gives the places of keys from one up to another one, which is not among them.
func (t *terms) between(from string, to string, open bool) (int, int) {
	if t == nil {
		return 0, 0
	}
	first := sort.SearchStrings(t.keys, from)
	last := len(t.keys)
	if !open {
		last = sort.SearchStrings(t.keys, to)
	}
	return first, max(first, last)
}

// smallestAndLargest gives for each document the places of its smallest and largest key,
// -1 where it has none.
func (t *terms) smallestAndLargest(docs int) (lowest, highest []int32) {
	t.extremes.Do(func() {
		t.lowest, t.highest = slices.Repeat([]int32{-1}, docs), slices.Repeat([]int32{-1}, docs)
		for i := range t.postings {
			for doc := range t.postings[i].all() {
				if t.lowest[doc] < 0 {
					t.lowest[doc] = int32(i)
				}
				t.highest[doc] = int32(i)
			}
		}
	})
	return t.lowest, t.highest
}
