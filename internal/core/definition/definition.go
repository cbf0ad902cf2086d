// Package definition reads what a developer wrote down: sources, engines, and
// how rows become documents. It does no I/O; everything it refuses comes back as
// a Finding with a position.
package definition

import (
	"cmp"
	"fmt"
	"slices"
	"sort"
	"strings"
	"time"

	"pingo/internal/core/alert"
	"pingo/internal/core/drift"
	"pingo/internal/core/reindex"
)

// File is one definition file: its name as shown in findings, and its text.
type File struct {
	Name string `json:"name"`
	Text string `json:"text"`
}

// Pos is a place in a definition file; lines and columns count from 1.
type Pos struct {
	File string `json:"file"`
	Line int    `json:"line"`
	Col  int    `json:"column"`
}

func (p Pos) String() string { return fmt.Sprintf("%s:%d:%d", p.File, p.Line, p.Col) }

// Finding is one thing wrong with, or worth knowing about, a definition.
type Finding struct {
	Pos     Pos    `json:"at"`
	Message string `json:"message"`
	// Suggestion is what to do about it, or the nearest known word; may be empty.
	Suggestion string `json:"suggestion,omitempty"`
}

func (f Finding) String() string {
	s := f.Pos.String() + ": " + f.Message
	if f.Suggestion != "" {
		s += " — " + f.Suggestion
	}
	return s
}

// Findings is a list of findings; as an error it prints one a line.
type Findings []Finding

func (f Findings) Error() string {
	lines := make([]string, len(f))
	for i := range f {
		lines[i] = f[i].String()
	}
	return strings.Join(lines, "\n")
}

// Excluding leaves out findings at positions that already have a finding, because they would repeat it.
func (f Findings) Excluding(before Findings) Findings {
	return slices.DeleteFunc(f, func(x Finding) bool {
		return slices.ContainsFunc(before, func(b Finding) bool { return b.Pos == x.Pos })
	})
}

// Sorted orders findings by file, line and column, each once: parts that others refer
// to are read several times.
func (f Findings) Sorted() Findings {
	slices.SortStableFunc(f, func(a, b Finding) int {
		return cmp.Or(
			cmp.Compare(a.Pos.File, b.Pos.File),
			cmp.Compare(a.Pos.Line, b.Pos.Line),
			cmp.Compare(a.Pos.Col, b.Pos.Col),
		)
	})
	seen := map[Finding]bool{}
	return slices.DeleteFunc(f, func(x Finding) bool {
		again := seen[x]
		seen[x] = true
		return again
	})
}

// Definition is everything a set of files says.
type Definition struct {
	Sources []*Source
	Engines []*Engine
	Indexes []*Index
	// Alerts say whom to tell when something is wrong for long.
	Alerts Alerts
	// References are the ${…} in it, each once.
	References []string
}

// Alerts say when alerts are raised, and where events are sent; URL is empty when they are only logged.
type Alerts struct {
	URL, Secret Secret
	Limits      alert.Limits
}

// Source is an application database.
type Source struct {
	Name    string
	Kind    string
	URL     Secret
	Capture string
	// JournalLimit is the size in bytes above which the journal is too large, and
	// PastLimit what happens then: keep, which only warns, or remove, which takes the
	// capture out so that the source's disk does not fill up.
	JournalLimit int64
	PastLimit    string
	// TargetLag is how late changes may usually be: the later, the more of them are taken together.
	TargetLag time.Duration
	Options   Options // of its kind
	Broken    bool    // there are findings in it
	Pos       Pos
}

// DefaultTargetLag is how late changes may usually be unless the definition says otherwise.
const DefaultTargetLag = 50 * time.Millisecond

// DefaultJournalLimit is what a journal may hold unless the definition says otherwise.
const DefaultJournalLimit = 1_000_000_000

// Engine is a search server.
type Engine struct {
	Name string
	// Kind is empty when the engine is to be asked.
	Kind    string
	URL     Secret
	Options Options // of its kind
	Broken  bool    // there are findings in it
	Pos     Pos
}

// Index says what the documents of one public name are made of.
type Index struct {
	Name   string
	Engine string
	// EnginePos is where the engine is named.
	EnginePos Pos
	Rows      []*Rows
	// FunctionsAllowed are functions whose value may change although no row does, and that
	// are allowed.
	FunctionsAllowed []string
	// Synonyms are groups of words or phrases with the same meaning.
	Synonyms [][]string
	// Reindex is the policy of refills, and of the gates that a filled edition must pass.
	Reindex reindex.Policy
	// Drift is the policy of comparisons with the rows.
	Drift drift.Policy
	// Settings are passed on to the engine untouched.
	Settings    map[string]any
	SettingsPos Pos
	Broken      bool // there are findings in it
	Pos         Pos
}

// Rows is one table whose rows have documents in an index.
type Rows struct {
	// Name tells the documents of an index with several tables apart; empty when
	// the index has one.
	Name string
	// Key is the identity of rows that have no primary key, as those of views.
	Key    []string
	KeyPos Pos
	Node
}

// Source is where the index's first rows come from; the process that holds it feeds the index.
func (ix *Index) Source() string {
	if len(ix.Rows) == 0 {
		return ""
	}
	return ix.Rows[0].Source
}

// Sources are all that its documents are made from, the first rows' one first.
func (ix *Index) Sources() (out []string) {
	ix.each(func(n *Node) {
		if n.Source != "" && !slices.Contains(out, n.Source) {
			out = append(out, n.Source)
		}
	})
	return out
}

// each calls a function with every table of the index's documents, parents first.
func (ix *Index) each(do func(n *Node)) {
	var walk func(n *Node)
	walk = func(n *Node) {
		do(n)
		for _, r := range n.Related {
			walk(&r.Node)
		}
	}
	for _, r := range ix.Rows {
		walk(&r.Node)
	}
}

// Node is one table of a document: the root, or a related one.
type Node struct {
	// Source is where the table is: that of the rows above, unless another one is named.
	Source    string
	SourcePos Pos
	// Table as written: table or schema.table.
	Table    string
	TablePos Pos
	Where    Expression
	Fields   []*Field
	Related  []*Relation
	Pos      Pos
}

// Field is one key of the document.
type Field struct {
	Name string
	// Column the value comes from; empty when SQL is given.
	Column string
	SQL    Expression
	// Combine joins the texts of other fields of the document into this one.
	Combine []Path
	// Type is the type as written; empty means the type of the column.
	Type string
	// Search is the weight in searches, 0 for none.
	Search float64
	// Match says how a search looks into the field; empty means words.
	Match    string
	MatchPos Pos
	Filter   bool
	Sort     bool
	Facet    bool
	Personal bool
	Pos      Pos
}

// Path names a field from where the naming one stands, with points: region.name.
type Path struct {
	Written string
	Pos     Pos
}

// Relation folds rows of another table into the document.
type Relation struct {
	Name string
	Many bool
	On   []Link
	// Through is the join table, nil when the related rows link directly.
	Through *Through
	Order   Expression
	Limit   int
	// List names the one field whose values make a plain list.
	List *Field
	Node
}

// Through is the join table of a many-to-many relation. The relation's own On
// is empty then.
type Through struct {
	Table    string
	TablePos Pos
	// On: the join table's column = the parent row's column.
	On []Link
	// To: the related table's column = the join table's column.
	To []Link
	// Where says which rows of the join table count.
	Where Expression
}

// Link is one pair of columns that ties two tables.
type Link struct {
	Theirs, Ours string
	Pos          Pos
}

// Expression is SQL over one table's columns.
type Expression struct {
	SQL string
	Pos Pos
}

// Index finds an index by name.
func (d *Definition) Index(name string) *Index { return find(d.Indexes, name, indexName) }

// Source finds a source by name.
func (d *Definition) Source(name string) *Source { return find(d.Sources, name, sourceName) }

// Engine finds an engine by name.
func (d *Definition) Engine(name string) *Engine { return find(d.Engines, name, engineName) }

func indexName(i *Index) string   { return i.Name }
func sourceName(s *Source) string { return s.Name }
func engineName(e *Engine) string { return e.Name }

func find[T any](list []*T, name string, of func(*T) string) *T {
	for _, item := range list {
		if of(item) == name {
			return item
		}
	}
	return nil
}

func names[T any](list []*T, of func(*T) string) []string {
	out := make([]string, len(list))
	for i, item := range list {
		out[i] = of(item)
	}
	return out
}

func sorted(words []string) []string {
	out := append([]string(nil), words...)
	sort.Strings(out)
	return out
}
