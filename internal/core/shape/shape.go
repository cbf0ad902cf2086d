// Package shape compiles an index's definition, with what the source's catalogue
// says, into a tree of reads, the dependencies to capture, and the ways from any
// changed row up to the documents it touches. It does no I/O.
package shape

import (
	"cmp"
	"encoding/json"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"github.com/cespare/xxhash/v2"
)

// Ref names a table. Schema is empty in sources that have none.
type Ref struct {
	Schema string `json:"schema"`
	Name   string `json:"name"`
}

func (r Ref) String() string {
	if r.Schema == "" {
		return r.Name
	}
	return r.Schema + "." + r.Name
}

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

// Shape is the compiled form of one index: a document tree for each table whose
// rows have documents in it. It is plain data: an edition keeps the shape it was
// filled by.
type Shape struct {
	Index string `json:"index"`
	// Source has the first tree's rows. The process that holds it feeds the index.
	Source string  `json:"source"`
	Trees  []*Tree `json:"trees"`
	// Synonyms are groups of words or phrases with the same meaning.
	Synonyms [][]string `json:"synonyms,omitempty"`
	// Settings are passed on to the engine untouched.
	Settings map[string]any `json:"settings,omitempty"`
}

// Tree is the document tree of one root table.
type Tree struct {
	Index string `json:"index"`
	// Name tells the documents of an index with several tables apart, and begins
	// their keys; empty when the index has one.
	Name string `json:"name,omitempty"`
	// Nodes holds the root first, and parents before their children.
	Nodes []*Node `json:"nodes"`
}

// Node is one table of the tree, with what is read of it.
type Node struct {
	ID     int `json:"id"`
	Parent int `json:"parent"` // position in Tree.Nodes; -1 for the root
	// Name is the document's key for this node; empty for the root.
	Name string `json:"name"`
	// Source has the table; empty where it is the shape's own.
	Source string `json:"source,omitempty"`
	Many   bool   `json:"many,omitempty"`
	// List: the values of the only field, without a name around each.
	List  bool   `json:"list,omitempty"`
	Table Ref    `json:"table"`
	Where string `json:"where,omitempty"`
	Order string `json:"order,omitempty"`
	Limit int    `json:"limit,omitempty"`
	// InOrder is how rows that share a link are put in order after they were read;
	// empty where the source does that, by Order and Key, or where there is but one.
	InOrder []By `json:"inOrder,omitempty"`
	// Key is the table's primary key: the document's identity at the root, and
	// what settles the order of rows below it. It may be empty below the root.
	Key []string `json:"key"`
	// KeyTypes are the source's names for the types of Key.
	KeyTypes []string `json:"keyTypes,omitempty"`
	// Link ties this node to its parent; nil for the root.
	Link *Link `json:"link,omitempty"`
	// Columns is what a read yields, in this order: at the root the key's columns
	// first, below it the link's values first.
	Columns  []Column `json:"columns"`
	Fields   []Field  `json:"fields"`
	Children []int    `json:"children,omitempty"`
	// Depends lists the columns of Table that the document depends on.
	Depends []string `json:"depends"`
	// Functions are those of the database that its expressions call, and that anyone may redefine.
	Functions []string `json:"functions,omitempty"`
	// View: Table is a view, whose changes are those of the tables it reads.
	View bool `json:"view,omitempty"`
	// Refreshed: Table is a materialised view, which changes when it is refreshed.
	Refreshed bool     `json:"refreshed,omitempty"`
	Follows   []Follow `json:"follows,omitempty"`
}

// Follow is a table that a root view reads.
type Follow struct {
	Table   Ref      `json:"table"`
	Key     []string `json:"key"`
	Columns []string `json:"columns"`
	// Ways lead from a row of the table to the keys of all rows of the view that it has a part in.
	// Without any, a change may change every row of the view.
	Ways []Way `json:"ways,omitempty"`
}

// MaxLink is how many columns may tie two tables: as many as a key may have.
const MaxLink = 32

// Link says which rows of a node belong to which row of its parent.
type Link struct {
	// Theirs are the linking columns: of the node's table, or of the join table.
	Theirs []string `json:"theirs"`
	// Ours are the parent's columns, and OursAt their positions in its Columns.
	Ours   []string `json:"ours"`
	OursAt []int    `json:"oursAt"`
	// Types are the source's names for the types of Ours, so that values are
	// compared as the parent has them.
	Types []string `json:"types"`
	// Apart is there when the node and its parent are in two sources.
	Apart *Apart `json:"apart,omitempty"`
	// Join is the join table, nil when rows link directly.
	Join *Join `json:"join,omitempty"`
}

// Apart says how values of two sources are compared: they are equal when their texts are.
type Apart struct {
	Theirs []Across `json:"theirs"`
	Ours   []Across `json:"ours"`
}

// Across says how values that come from another source are compared with a column.
type Across struct {
	// As is the source's name for the type that the values are taken as.
	As string `json:"as"`
	// Type is Integer, Text, or Keyword, which here means UUIDs.
	Type Type `json:"type"`
	// Least and Most bound the integers that can be taken so.
	Least int64  `json:"least,omitempty"`
	Most  uint64 `json:"most,omitempty"`
}

// Compared are the source's names for the types that values of the parent are compared as.
func (l *Link) Compared() []string {
	if l.Apart == nil {
		return l.Types
	}
	return taken(l.Apart.Theirs)
}

func taken(list []Across) []string {
	out := make([]string, len(list))
	for i, a := range list {
		out[i] = a.As
	}
	return out
}

var (
	wholeNumber = regexp.MustCompile(`^(0|-?[1-9][0-9]{0,19})$`)
	uuid        = regexp.MustCompile(`^[0-9a-f]{8}(-[0-9a-f]{4}){3}-[0-9a-f]{12}$`)
)

// Fits reports whether a value can be equal to one of the column. Those that cannot are not asked
// for: a source might refuse them.
func (a *Across) Fits(value string) bool {
	switch a.Type {
	case Integer:
		if !wholeNumber.MatchString(value) {
			return false
		}
		if value[0] == '-' {
			n, err := strconv.ParseInt(value, 10, 64)
			return err == nil && n >= a.Least
		}
		n, err := strconv.ParseUint(value, 10, 64)
		return err == nil && n <= a.Most
	case Keyword:
		return uuid.MatchString(value)
	}
	return utf8.ValidString(value) && !strings.ContainsRune(value, 0)
}

// Fit reports whether all values of a tuple fit.
func Fit(columns []Across, tuple []string) bool {
	for i := range columns {
		if !columns[i].Fits(tuple[i]) {
			return false
		}
	}
	return true
}

// Join is the table between a node and its parent.
type Join struct {
	Table Ref      `json:"table"`
	Key   []string `json:"key"`
	// KeyTypes are the source's names for the types of Key.
	KeyTypes []string `json:"keyTypes,omitempty"`
	// From are the join table's columns and To the related table's.
	From []string `json:"from"`
	To   []string `json:"to"`
	// FromTypes are the source's names for the types of From.
	FromTypes []string `json:"fromTypes"`
	// Where says which of the join table's rows count, in SQL; empty for all. Depends are the
	// columns that it reads.
	Where   string   `json:"where,omitempty"`
	Depends []string `json:"depends,omitempty"`
}

// Column is one value that a read yields, in the neutral form of Type; see
// document.Rows.
type Column struct {
	// Name is a column of the table; empty for an expression.
	Name string `json:"name,omitempty"`
	// Expression is what the definition says, in the source's own language.
	Expression string `json:"expression,omitempty"`
	// Form is the source's own name for how it stores the value, as it gave it with the
	// table's facts. Only the source reads it.
	Form  string `json:"form,omitempty"`
	Type  Type   `json:"type,omitempty"`
	Array bool   `json:"array,omitempty"`
	// Key: the value is read as keys and links hold it, where that is another text.
	Key bool `json:"key,omitempty"`
	// Loose: equal values may be written differently; see TableColumn.
	Loose bool `json:"loose,omitempty"`
}

// Match says how a search looks into a field.
type Match string

// The ways to match, each on whole words, their beginnings, any part of them, or the
// whole value; letter case never counts.
const (
	Words  Match = "words"
	Prefix Match = "prefix"
	Infix  Match = "infix"
	Exact  Match = "exact"
)

// Field is one key of a document.
type Field struct {
	Name string `json:"name"`
	At   int    `json:"at"` // position in the node's Columns; -1 for a combined field
	Type Type   `json:"type"`
	// Array: the value is a list by itself.
	Array bool `json:"array,omitempty"`
	// Combine says whose texts a combined field joins.
	Combine []Part  `json:"combine,omitempty"`
	Search  float64 `json:"search,omitempty"`
	Match   Match   `json:"match,omitempty"`
	Filter  bool    `json:"filter,omitempty"`
	Sort    bool    `json:"sort,omitempty"`
	Facet   bool    `json:"facet,omitempty"`
}

// Whole reports whether the value as a whole matters, in addition to its words.
func (f *Field) Whole() bool { return f.Filter || f.Sort || f.Facet }

// Part is a field that a combined field takes in.
type Part struct {
	// Nodes leads down from the combined field's node.
	Nodes []int `json:"nodes,omitempty"`
	// Field is the position in the last node's Fields.
	Field int `json:"field"`
}

// Root is the node whose rows have documents.
func (t *Tree) Root() *Node { return t.Nodes[0] }

// RootOnly is a tree of the same root rows, or of those that pass another condition, that reads their keys and
// some columns of them, and nothing below.
func (t *Tree) RootOnly(where string, columns ...Column) *Tree {
	root := *t.Root()
	root.Columns = append(slices.Clone(root.Columns[:len(root.Key)]), columns...)
	root.Fields, root.Children, root.Where = nil, nil, where
	return &Tree{Index: t.Index, Name: t.Name, Nodes: []*Node{&root}}
}

// Sources are all that the documents are made from, the shape's own first.
func (s *Shape) Sources() []string {
	out := []string{s.Source}
	for _, t := range s.Trees {
		for _, n := range t.Nodes {
			if n.Source != "" && !slices.Contains(out, n.Source) {
				out = append(out, n.Source)
			}
		}
	}
	return out
}

// SourceOf names the source that has a node's table.
func (s *Shape) SourceOf(n *Node) string { return cmp.Or(n.Source, s.Source) }

// Tree finds a tree by its name, nil when there is none.
func (s *Shape) Tree(name string) *Tree {
	for _, t := range s.Trees {
		if t.Name == name {
			return t
		}
	}
	return nil
}

// Hash changes when the documents or their mapping would change. Search weights,
// which only matter when a search is made, do not count, and neither do synonyms
// and settings, which engines treat in ways of their own.
func (s *Shape) Hash() string {
	plain := Shape{Index: s.Index, Source: s.Source}
	for _, t := range s.Trees {
		c := Tree{Index: t.Index, Name: t.Name}
		for _, n := range t.Nodes {
			n := *n
			n.Follows, n.Functions = nil, nil // they say how changes are followed, not what documents are, as the key's types do
			if n.Link != nil {
				n.KeyTypes = nil
				if n.Link.Join != nil {
					link, join := *n.Link, *n.Link.Join
					join.KeyTypes = nil
					link.Join, n.Link = &join, &link
				}
			}
			n.Fields = slices.Clone(n.Fields)
			for i := range n.Fields {
				if n.Fields[i].Search > 0 {
					n.Fields[i].Search = 1
				}
			}
			c.Nodes = append(c.Nodes, &n)
		}
		plain.Trees = append(plain.Trees, &c)
	}
	b, err := json.Marshal(plain)
	if err != nil {
		panic(fmt.Sprintf("shape: plain data that cannot be written as JSON: %v", err))
	}
	return fmt.Sprintf("%016x", xxhash.Sum64(b))
}

// Placed is a field of an index's documents by its full path.
type Placed struct {
	Path string
	Field
	// Repeated: a document may hold the field several times, in a list.
	Repeated bool
}

// Fields lists the fields of an index's documents, parents first. A path that
// several trees have stands there once, for all that any of them uses it for.
func (s *Shape) Fields() []Placed {
	var out []Placed
	at := map[string]int{}
	for _, t := range s.Trees {
		for _, f := range t.Fields() {
			i, has := at[f.Path]
			if !has {
				at[f.Path] = len(out)
				out = append(out, f)
				continue
			}
			known := &out[i]
			known.Search, known.Repeated = max(known.Search, f.Search), known.Repeated || f.Repeated
			known.Filter, known.Sort, known.Facet = known.Filter ||
				f.Filter, known.Sort ||
				f.Sort, known.Facet ||
				f.Facet
			if known.Match == "" {
				known.Match = f.Match
			}
		}
	}
	return out
}

// Searched lists the fields that a search looks into: those with a weight, or every
// text where no field has one.
func (s *Shape) Searched() []Placed {
	var weighted, texts []Placed
	for _, f := range s.Fields() {
		if f.Search > 0 {
			weighted = append(weighted, f)
		} else if f.Type == Text {
			f.Search = 1
			texts = append(texts, f)
		}
	}
	if weighted != nil {
		return weighted
	}
	return texts
}

// Repeated reports whether a document may hold a node's fields several times.
func (t *Tree) Repeated(n *Node) bool {
	return n.Many || n.Parent >= 0 && t.Repeated(t.Nodes[n.Parent])
}

// Fields lists the fields of a tree's documents, parents first.
func (t *Tree) Fields() []Placed {
	var out []Placed
	for _, n := range t.Nodes {
		path, repeated := t.Path(n), t.Repeated(n)
		for _, field := range n.Fields {
			p := Placed{Path: path + "." + field.Name, Field: field, Repeated: repeated || field.Array}
			switch {
			case n.List:
				p.Path = path
			case path == "":
				p.Path = field.Name
			}
			out = append(out, p)
		}
	}
	return out
}

// Path is the path of a node in the document, with dots; empty for the root.
func (t *Tree) Path(n *Node) string {
	if n.Parent < 0 {
		return ""
	}
	if above := t.Path(t.Nodes[n.Parent]); above != "" {
		return above + "." + n.Name
	}
	return n.Name
}

// ByRoot are the nodes below the root that link to its key, so that they can be read before it has been.
func (t *Tree) ByRoot() (nodes []*Node) {
	for _, id := range t.Root().Children {
		if n := t.Nodes[id]; n.Link.Apart == nil && slices.Equal(t.Root().Key, n.Link.Ours) {
			nodes = append(nodes, n)
		}
	}
	return nodes
}

// Below are the nodes of the same source that can be read once some have been.
func (t *Tree) Below(read []int) (nodes []*Node) {
	for _, parent := range read {
		for _, id := range t.Nodes[parent].Children {
			if n := t.Nodes[id]; n.Link.Apart == nil && !slices.Contains(read, id) {
				nodes = append(nodes, n)
			}
		}
	}
	return nodes
}
