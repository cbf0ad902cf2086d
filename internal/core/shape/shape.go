// Package shape compiles an index's definition, with what the source's catalogue
// says, into a tree of reads, the dependencies to capture, and the ways from any
// changed row up to the documents it touches. It does no I/O.
package shape

import (
	"encoding/json"
	"fmt"
	"slices"

	"github.com/cespare/xxhash/v2"
)

// Ref names a table.
type Ref struct {
	Schema string `json:"schema"`
	Name   string `json:"name"`
}

func (r Ref) String() string { return r.Schema + "." + r.Name }

// Type says how a value is written into a document and what an engine may do with it.
type Type string

// The types of fields. Text is searched word by word, Keyword is one word whatever it holds.
const (
	Text      Type = "text"
	Keyword   Type = "keyword"
	Integer   Type = "integer"
	Decimal   Type = "decimal"
	Boolean   Type = "boolean"
	Date      Type = "date"
	Timestamp Type = "timestamp"
	Geo       Type = "geo"
	Object    Type = "object"
)

// Shape is the compiled document tree of one index. It is plain data: an edition
// keeps the shape it was filled by.
type Shape struct {
	Index  string `json:"index"`
	Source string `json:"source"`
	// Nodes holds the root first, and parents before their children.
	Nodes []*Node `json:"nodes"`
}

// Node is one table of the tree and how it is read.
type Node struct {
	ID     int `json:"id"`
	Parent int `json:"parent"` // position in Shape.Nodes; -1 for the root
	// Name is the document's key for this node; empty for the root.
	Name string `json:"name"`
	Many bool   `json:"many,omitempty"`
	// List: the values of the only field, without a name around each.
	List  bool   `json:"list,omitempty"`
	Table Ref    `json:"table"`
	Where string `json:"where,omitempty"`
	Order string `json:"order,omitempty"`
	Limit int    `json:"limit,omitempty"`
	// Key is the table's primary key: the document's identity at the root, and
	// what settles the order of rows below it. It may be empty below the root.
	Key []string `json:"key"`
	// Link ties this node to its parent; nil for the root.
	Link *Link `json:"link,omitempty"`
	// Columns is what a read yields, in this order: at the root the key's columns
	// first, below it the link's value first.
	Columns  []Column `json:"columns"`
	Fields   []Field  `json:"fields"`
	Children []int    `json:"children,omitempty"`
	// Depends lists the columns of Table that the document depends on.
	Depends []string `json:"depends"`
}

// Link says which rows of a node belong to which row of its parent.
type Link struct {
	// Theirs is the linking column: of the node's table, or of the join table.
	Theirs string `json:"theirs"`
	// Ours is the parent's column, and OursAt its position in the parent's Columns.
	Ours   string `json:"ours"`
	OursAt int    `json:"oursAt"`
	// OursType is the database's word for the type of Ours, so that values are
	// compared as the parent has them.
	OursType string `json:"oursType"`
	// Join is the join table, nil when rows link directly.
	Join *Join `json:"join,omitempty"`
}

// Join is the table between a node and its parent.
type Join struct {
	Table Ref      `json:"table"`
	Key   []string `json:"key"`
	// From is the join table's column and To the related table's.
	From string `json:"from"`
	To   string `json:"to"`
}

// Column is one value that a read yields: a column's name or an SQL expression.
type Column struct {
	Name string `json:"name,omitempty"`
	SQL  string `json:"sql,omitempty"`
}

// Field is one key of a document.
type Field struct {
	Name   string  `json:"name"`
	At     int     `json:"at"` // position in the node's Columns
	Type   Type    `json:"type"`
	Array  bool    `json:"array,omitempty"`
	Search float64 `json:"search,omitempty"`
	Filter bool    `json:"filter,omitempty"`
	Sort   bool    `json:"sort,omitempty"`
}

// Root is the node whose rows have documents.
func (s *Shape) Root() *Node { return s.Nodes[0] }

// Hash changes when the documents or the mapping would change; search weights,
// which only matter when a search is made, do not count.
func (s *Shape) Hash() string {
	plain := Shape{Index: s.Index, Source: s.Source}
	for _, n := range s.Nodes {
		c := *n
		c.Fields = slices.Clone(n.Fields)
		for i := range c.Fields {
			if c.Fields[i].Search > 0 {
				c.Fields[i].Search = 1
			}
		}
		plain.Nodes = append(plain.Nodes, &c)
	}
	b, err := json.Marshal(plain)
	if err != nil {
		panic(fmt.Sprintf("shape: plain data that cannot be written as JSON: %v", err))
	}
	return fmt.Sprintf("%016x", xxhash.Sum64(b))
}

// Weighted is a field of the document by its full path, with its search weight.
type Weighted struct {
	Path   string
	Weight float64
}

// Searched lists the fields that a search looks into: those with a weight, or
// every text where no field has one.
func (s *Shape) Searched() []Weighted {
	var weighted, texts []Weighted
	s.EachField(func(path string, f Field) {
		if f.Search > 0 {
			weighted = append(weighted, Weighted{path, f.Search})
		}
		if f.Type == Text {
			texts = append(texts, Weighted{path, 1})
		}
	})
	if weighted != nil {
		return weighted
	}
	return texts
}

// Repeated reports whether a document may hold a node's fields several times.
func (s *Shape) Repeated(n *Node) bool {
	return n.Many || n.Parent >= 0 && s.Repeated(s.Nodes[n.Parent])
}

// EachField calls f for every field with its full path, parents first. A field that
// a document may hold several times counts as an array.
func (s *Shape) EachField(f func(path string, field Field)) {
	for _, n := range s.Nodes {
		path := s.Path(n)
		repeated := s.Repeated(n)
		for _, field := range n.Fields {
			field.Array = field.Array && field.Type != Geo || repeated
			switch {
			case n.List:
				f(path, field)
			case path == "":
				f(field.Name, field)
			default:
				f(path+"."+field.Name, field)
			}
		}
	}
}

// Path is where a node stands in the document, with points; empty for the root.
func (s *Shape) Path(n *Node) string {
	if n.Parent < 0 {
		return ""
	}
	if above := s.Path(s.Nodes[n.Parent]); above != "" {
		return above + "." + n.Name
	}
	return n.Name
}
