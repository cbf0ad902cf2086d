package coalesce

import (
	"bytes"
	"fmt"
	"slices"
	"strings"

	"pingo/internal/core/document"
	"pingo/internal/core/shape"
)

// Query reads the rows of one node of a tree.
type Query struct {
	Node int
	// Columns are what it reads, in SQL, and From is all that stands behind them in the statement.
	Columns []string
	From    string
	Params  [][]byte
	// Writers turn the values that it yields into their neutral form.
	Writers []document.Writer
	// Prepared: the statement is the same for other values, so that the server need not plan it each time.
	Prepared bool
}

// Part is what one set takes of a read: the queries of the level that is read next.
type Part struct {
	Set   *document.Set
	Level []Query
}

// Below gives for each part the nodes that can be read once those of its level are; last when there are none.
func Below(parts []*Part) (below [][]*shape.Node, last bool) {
	below, last = make([][]*shape.Node, len(parts)), true
	for i, p := range parts {
		if len(p.Level) == 0 {
			continue
		}
		read := make([]int, len(p.Level))
		for j, q := range p.Level {
			read[j] = q.Node
		}
		below[i] = p.Set.Tree().Below(read)
		last = last && len(below[i]) == 0
	}
	return below, last
}

// Descend ties the rows of each part's level to those above them, and goes on with the nodes below, whose queries
// linked gives, if any row of them is meant. It reports whether none is left.
func Descend(
	parts []*Part,
	below [][]*shape.Node,
	linked func(set *document.Set, n *shape.Node) (q Query, any bool),
) (done bool) {
	done = true
	for i, p := range parts {
		for _, q := range p.Level {
			if q.Node > 0 {
				p.Set.Link(q.Node)
			}
		}
		p.Level = nil
		for _, n := range below[i] {
			if q, any := linked(p.Set, n); any {
				p.Level, done = append(p.Level, q), false
			}
		}
	}
	return done
}

// Statement is what is sent to a server, and who takes its rows.
type Statement struct {
	SQL      string
	Params   [][]byte
	Prepared bool
	// Width is how many columns it has.
	Width  int
	takers []taker
	values [][]byte // used again for each row
}

// taker is a node of a set that takes rows.
type taker struct {
	rows    *document.Rows
	writers []document.Writer
	// at says where the node's columns are in a row. They are its first ones, in order, when it is ordered.
	at      []int
	ordered bool
}

// Add gives a row to all that take it; false when one of them has too many.
func (s *Statement) Add(row [][]byte) bool {
	for _, t := range s.takers {
		values := row[:len(t.at)]
		if !t.ordered {
			s.values = s.values[:0]
			for _, i := range t.at {
				s.values = append(s.values, row[i])
			}
			values = s.values
		}
		if t.rows.Add(values, t.writers); t.rows.TooMany() {
			return false
		}
	}
	return true
}

// Merge makes one statement of the queries that differ in nothing but their columns.
func Merge(parts []*Part) []*Statement {
	var out []*Statement
	var queries []Query // the first of each
	for _, p := range parts {
		for _, q := range p.Level {
			i := slices.IndexFunc(queries, func(other Query) bool {
				return other.From == q.From && slices.EqualFunc(other.Params, q.Params, bytes.Equal)
			})
			if i < 0 {
				i, q.Columns = len(out), slices.Clone(q.Columns)
				out = append(out, &Statement{Params: q.Params, Prepared: q.Prepared})
				queries = append(queries, q)
			}
			t := taker{rows: p.Set.Rows(q.Node), writers: q.Writers, ordered: true}
			for n, column := range q.Columns {
				at := slices.Index(queries[i].Columns, column)
				if at < 0 {
					at = len(queries[i].Columns)
					queries[i].Columns = append(queries[i].Columns, column)
				}
				t.at, t.ordered = append(t.at, at), t.ordered && at == n
			}
			out[i].takers = append(out[i].takers, t)
		}
	}
	for i, s := range out {
		s.SQL, s.Width = selecting(queries[i].Columns)+queries[i].From, len(queries[i].Columns)
	}
	return out
}

// selecting is the start of a statement that reads some columns, under names that no ORDER BY means.
func selecting(columns []string) string {
	named := make([]string, len(columns))
	for i, column := range columns {
		named[i] = fmt.Sprintf("%s AS pingo_%d", column, i)
	}
	return "SELECT " + strings.Join(named, ", ")
}
