// Package document turns rows into documents: rows of neutral values in, JSON bytes
// and a fingerprint out, appended to buffers that are used again.
package document

import (
	"unsafe"

	"pingo/internal/core/shape"
)

// Rows holds what one read yielded, in the order it came. Values stand one after the
// other in one buffer, each in the neutral form of its column's type:
//
//	text, keyword     the text itself, in UTF-8
//	integer, decimal  a JSON number, of any length; or NaN, Infinity, -Infinity
//	boolean           true or false
//	date, timestamp   ISO 8601: 2031-05-04, 2031-05-04T10:20:30.5Z, without the Z where
//	                  the source knows no time zone; years before 0000 and after 9999
//	                  with a sign (-0043, +12000); or infinity, -infinity
//	geo               [longitude,latitude]
//	object            JSON without line breaks
//	a list of these   a JSON list, made with AppendJSON
//	a key or link     the text that the source's feed gives for it, too
//
// The zero value is ready once Reset was called.
type Rows struct {
	width int
	arena []byte
	cells []cell
	count int
}

type cell struct{ start, length int32 } // length -1 is NULL

// Reset empties the rows for reads of width values each.
func (r *Rows) Reset(width int) {
	r.width, r.count = width, 0
	r.arena, r.cells = r.arena[:0], r.cells[:0]
}

// Writer appends a source's own value to dst in its neutral form.
type Writer func(dst, value []byte) []byte

// Add takes one row; nil values are NULL. Values for which there is a writer are
// passed through it, the others are neutral already and are copied.
func (r *Rows) Add(values [][]byte, writers []Writer) {
	for i, v := range values {
		if v == nil {
			r.cells = append(r.cells, cell{0, -1})
			continue
		}
		start := len(r.arena)
		if writers != nil && writers[i] != nil {
			r.arena = writers[i](r.arena, v)
		} else {
			r.arena = append(r.arena, v...)
		}
		r.cells = append(r.cells, cell{int32(start), int32(len(r.arena) - start)})
	}
	r.count++
}

// Len is the number of rows.
func (r *Rows) Len() int { return r.count }

// Bytes is the size of all values together.
func (r *Rows) Bytes() int { return len(r.arena) }

// MostBytes is how much the rows of one node may take that are read together. What takes more for one document belongs
// in no search engine.
const MostBytes = 32 << 20

// TooMany reports whether they take more than MostBytes, so that reading has to end.
func (r *Rows) TooMany() bool { return len(r.arena) > MostBytes }

// Value is one value, nil for NULL. It is valid until the next Add or Reset.
func (r *Rows) Value(row, column int) []byte {
	c := r.cells[row*r.width+column]
	switch {
	case c.length < 0:
		return nil
	case c.length == 0:
		return []byte{} // a part of an arena that holds nothing would be nil
	}
	return r.arena[c.start : c.start+c.length : c.start+c.length]
}

// Set holds the rows of every node of a tree for one batch of root rows.
type Set struct {
	tree  *shape.Tree
	nodes []Rows
	links []links
	names [][]string // of the fields of each node, and of its children, as in JSON
}

// links finds the rows of a node by the value that ties them to their parent:
// the first row of each value, and from each row the next of the same value.
type links struct {
	first  map[string]int32
	next   []int32
	sorted []int32 // used again by each sort
}

// NewSet makes an empty set for a tree.
func NewSet(t *shape.Tree) *Set {
	set := &Set{tree: t, nodes: make([]Rows, len(t.Nodes)), links: make([]links, len(t.Nodes))}
	for i, n := range t.Nodes {
		set.links[i].first = map[string]int32{}
		var names []string
		for _, f := range n.Fields {
			names = append(names, named(f.Name))
		}
		for _, id := range n.Children {
			names = append(names, named(t.Nodes[id].Name))
		}
		set.names = append(set.names, names)
	}
	set.Reset()
	return set
}

func named(name string) string { return string(append(appendString(nil, name), ':')) }

// Tree is the tree that the set was made for.
func (s *Set) Tree() *shape.Tree { return s.tree }

// Rows gives the rows of one node, to add to.
func (s *Set) Rows(node int) *Rows { return &s.nodes[node] }

// Reset empties the set, and gives buffers back that one large batch has blown up.
func (s *Set) Reset() {
	const keep = 8 << 20
	for i, n := range s.tree.Nodes {
		if cap(s.nodes[i].arena) > keep {
			s.nodes[i] = Rows{}
		}
		s.nodes[i].Reset(len(n.Columns))
		clear(s.links[i].first)
	}
}

// Bytes is the size of all values of all nodes.
func (s *Set) Bytes() int {
	total := 0
	for i := range s.nodes {
		total += s.nodes[i].Bytes()
	}
	return total
}

// Link ties the rows of a node to those of its parent, in their order. It is called once when all
// rows of the node were added, before documents are made.
func (s *Set) Link(node int) {
	rows, l := &s.nodes[node], &s.links[node]
	if cap(l.next) < rows.count {
		l.next = make([]int32, rows.count)
	}
	l.next = l.next[:rows.count]
	columns := positions[:len(s.tree.Nodes[node].Link.Theirs)]
	// Rows that share a link mostly follow one another: the map is asked once for all of them.
	last, first := "", int32(-1)
	for i := rows.count - 1; i >= 0; i-- {
		key, ok := s.tuple(node, i, columns)
		if !ok {
			continue
		}
		if first >= 0 && key == last {
			l.next[i], first = first, int32(i)
			continue
		}
		if first >= 0 {
			l.first[last] = first
		}
		if after, ok := l.first[key]; ok {
			l.next[i] = after
		} else {
			l.next[i] = -1
		}
		last, first = key, int32(i)
	}
	if first >= 0 {
		l.first[last] = first
	}
	if len(s.tree.Nodes[node].InOrder) > 0 {
		s.sort(node)
	}
}

// positions of the linking columns below the root: the first ones.
var positions = func() (p [shape.MaxLink]int) {
	for i := range p {
		p[i] = i
	}
	return p
}()

// tuple gives the values of some columns as one text; false when one is NULL. That of
// a single column shares memory with the rows, which is safe until the next Reset.
func (s *Set) tuple(node, row int, columns []int) (string, bool) {
	rows := &s.nodes[node]
	if len(columns) == 1 {
		v := rows.Value(row, columns[0])
		return unsafe.String(unsafe.SliceData(v), len(v)), v != nil
	}
	var joined []byte
	for _, c := range columns {
		v := rows.Value(row, c)
		if v == nil {
			return "", false
		}
		joined = append(appendKeyPart(joined, v), ',')
	}
	return string(joined), true
}

// Links lists the distinct tuples of values by which the rows of a node belong to those of its
// parent, as far as the parent's rows have them: those with a NULL are left out, and those that
// another source's rows cannot have. They are in the order in which they first appear, in a list
// for each column, and share memory with the rows.
func (s *Set) Links(node int) [][]string {
	n := s.tree.Nodes[node]
	rows, columns := &s.nodes[n.Parent], n.Link.OursAt
	seen := make(map[string]struct{}, 16)
	out := make([][]string, len(columns))
	tuple := make([]string, len(columns))
	for i := 0; i < rows.count; i++ {
		key, ok := s.tuple(n.Parent, i, columns)
		if !ok {
			continue
		}
		if _, ok := seen[key]; ok {
			continue
		}
		seen[key] = struct{}{}
		for j, c := range columns {
			v := rows.Value(i, c)
			tuple[j] = unsafe.String(unsafe.SliceData(v), len(v))
		}
		if n.Link.Apart != nil && !shape.Fit(n.Link.Apart.Theirs, tuple) {
			continue
		}
		for j := range columns {
			out[j] = append(out[j], tuple[j])
		}
	}
	return out
}
