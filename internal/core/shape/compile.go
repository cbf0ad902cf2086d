package shape

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"pingo/internal/core/definition"
)

// Table is what a source's catalogue says about a table.
type Table struct {
	Ref Ref
	// View, Refreshed, Foreign: a view, a materialised view, a table of another server.
	View, Refreshed, Foreign bool
	// Opaque marks a view whose tables the source cannot name.
	Opaque bool
	// Refused says why changes of the table would be lost, and Instead what to do; both are empty if none would.
	Refused, Instead string
	Columns          []TableColumn
	// Follows says what a view reads.
	Follows []Follow
	// Key is the primary key's columns, empty when there is none.
	Key []string
	// Denied are the columns that Pingo may not read; with a statement that lets it.
	Denied map[string]string
	// Hint says what to do about a column that there is not; may be empty.
	Hint string
	// Shifting are the functions that a view calls whose value may change although no row
	// does, each with why, as in Shift.
	Shifting []Shift
}

// Shift is a function whose value may change although none of the rows does that it is given,
// so that the change goes unnoticed.
type Shift struct {
	Function string
	// Why is a sentence without a full stop.
	Why string
	// Never: a definition cannot allow it, since it has effects or reads what is not in the row.
	Never bool
}

// TableColumn is one column, or what an expression yields.
type TableColumn struct {
	Name string
	// Native is the source's name for the type, as people know it, and Form what the
	// source itself needs to know to read a value.
	Native, Form string
	Type         Type
	Array        bool
	// KeyForm: keys and links hold another text of a value than documents do.
	KeyForm bool
	// Family is the same for types whose equal values have equal texts in keys.
	Family string
	// Bytewise: values are in the order of their texts' bytes.
	Bytewise bool
	// Loose: the source takes some values for equal that are written differently, such as
	// texts in capitals and without.
	Loose bool
	// Refused says what to do instead of indexing values of this type; empty when
	// they can be indexed.
	Refused string
	// Unlinkable says why values of this type cannot tie tables or make a key:
	// equal ones may have different texts.
	Unlinkable string
	// Across says how values of other sources are compared with it; nil when they cannot be.
	Across *Across
}

// Role says where an expression stands.
type Role int

// Where an expression may stand.
const (
	Value Role = iota
	Condition
	Ordering
)

// Expression is an expression over one table's columns, in the source's own language.
type Expression struct {
	Table string // as written in the definition
	Text  string // in the source's own language
	Role  Role
}

// ExpressionFacts is what a source knows of an expression: the value's type and the
// columns that it reads.
type ExpressionFacts struct {
	TableColumn
	Columns []string
	// Problem is the source's own complaint about the expression, and Suggestion what to
	// do about it, where the source knows.
	Problem, Suggestion string
	// Shifting are the functions that it calls whose value may change although no row does.
	Shifting []Shift
	// Functions are those that it calls and that anyone may redefine, by names that the source knows.
	Functions []string
}

// Facts is what a source's catalogue knows about everything a definition names.
type Facts struct {
	Tables      map[string]*Table // by name as written
	Expressions map[Expression]ExpressionFacts
	// NullsLow: the source takes NULL for lower than all values when it puts rows in order.
	NullsLow bool
	// Known lists all tables that may be read, for suggestions.
	Known []string
	// Denied are tables by name as written that are there, but may not be read, or not as a whole; with
	// the statements that let Pingo.
	Denied map[string]string
	// Views says how the tables hang together that views read.
	Views map[Ref]ViewFacts
}

// Questions lists the tables and expressions of an index that a source must be
// asked about before Compile. What is missing in a broken index is left out.
func Questions(ix *definition.Index, source string) (tables []string, expressions []Expression) {
	var walk func(n *definition.Node)
	ask := func(table string, e definition.Expression, role Role) {
		if e.SQL != "" {
			expressions = append(expressions, Expression{table, e.SQL, role})
		}
	}
	walk = func(n *definition.Node) {
		if n.Table == "" {
			return
		}
		if n.Source == source {
			tables = append(tables, n.Table)
			ask(n.Table, n.Where, Condition)
			for _, f := range n.Fields {
				ask(n.Table, f.SQL, Value)
			}
		}
		for _, r := range n.Related {
			if r.Source == source {
				if r.Through != nil && r.Through.Table != "" {
					tables = append(tables, r.Through.Table)
				}
				ask(r.Table, r.Order, Ordering)
				if r.Through != nil && r.Through.Table != "" {
					ask(r.Through.Table, r.Through.Where, Condition)
				}
			}
			walk(&r.Node)
		}
	}
	for _, r := range ix.Rows {
		walk(&r.Node)
	}
	return tables, expressions
}

// Compile makes the shape of an index of what each of its sources knows. Findings name what does not
// fit the catalogue; those of a broken index say nothing of what it lacks.
func Compile(ix *definition.Index, facts map[string]Facts) (*Shape, definition.Findings) {
	s := &Shape{Index: ix.Name, Source: ix.Source(), Synonyms: ix.Synonyms, Settings: ix.Settings}
	c := &compiler{facts: facts, home: s.Source, allowed: ix.FunctionsAllowed, refused: map[*Node][]string{}}
	for _, r := range ix.Rows {
		c.tree = &Tree{Index: ix.Name, Name: r.Name}
		c.combined = nil
		c.node(&r.Node, -1, nil, r)
		for _, f := range c.combined {
			f()
		}
		s.Trees = append(s.Trees, c.tree)
	}
	c.agree(ix, s)
	if len(c.findings) > 0 {
		return nil, c.findings.Sorted()
	}
	return s, nil
}

type compiler struct {
	facts map[string]Facts // by source
	home  string           // the shape's own source
	tree  *Tree
	// allowed are the functions that may shift.
	allowed []string
	// combined are the combined fields, worked out when all others are known.
	combined []func()
	// refused are the fields and related tables that there are findings about.
	refused  map[*Node][]string
	findings definition.Findings
}

func (c *compiler) find(p definition.Pos, suggestion, format string, args ...any) {
	c.findings = append(
		c.findings,
		definition.Finding{Pos: p, Message: fmt.Sprintf(format, args...), Suggestion: suggestion},
	)
}

// agree sees that the trees of an index mean the same by the same path.
func (c *compiler) agree(ix *definition.Index, s *Shape) {
	first := map[string]Placed{}
	from := map[string]string{}
	for i, t := range s.Trees {
		for _, f := range t.Fields() {
			known, has := first[f.Path]
			if !has {
				first[f.Path], from[f.Path] = f, t.Name
				continue
			}
			pos := ix.Rows[i].Pos
			switch {
			case known.Type != f.Type:
				c.find(
					pos,
					"give one of them another name, or the same type",
					"field %s is %s in rows %s and %s in rows %s; an index has one type for a name",
					f.Path,
					known.Type,
					from[f.Path],
					f.Type,
					t.Name,
				)
			case known.Search > 0 && f.Search > 0 && known.Search != f.Search:
				c.find(
					pos,
					"give it one weight in both",
					"field %s weighs %g in rows %s and %g in rows %s; an index has one weight for a name",
					f.Path,
					known.Search,
					from[f.Path],
					f.Search,
					t.Name,
				)
			case known.Search > 0 && f.Search > 0 && known.Match != f.Match:
				c.find(
					pos,
					"give it one match in both",
					"field %s is matched by %s in rows %s and by %s in rows %s",
					f.Path,
					known.Match,
					from[f.Path],
					f.Match,
					t.Name,
				)
			}
		}
		for _, n := range t.Nodes[min(1, len(t.Nodes)):] {
			path := t.Path(n)
			if f, has := first[path]; has && !n.List {
				c.find(
					ix.Rows[i].Pos,
					"give one of them another name",
					"%s is a field in rows %s and a related table in rows %s",
					f.Path,
					from[path],
					t.Name,
				)
			}
		}
	}
}

// of is what is known of the source that has a node's table.
func (c *compiler) of(n *Node) Facts { return c.facts[cmp.Or(n.Source, c.home)] }

func (c *compiler) table(source, name string, pos definition.Pos) *Table {
	if name == "" {
		return nil // said where it was read
	}
	facts := c.facts[source]
	t := facts.Tables[name]
	if grant := facts.Denied[name]; t == nil && grant != "" {
		c.find(pos, grant, "Pingo may not read table %s", name)
		return nil
	}
	if t == nil {
		c.find(
			pos,
			definition.Nearest(name, facts.Known),
			"the source has no table %q that Pingo may read",
			name,
		)
	}
	return t
}

func (c *compiler) node(n *definition.Node, parent int, rel *definition.Relation, rows *definition.Rows) {
	t := c.table(n.Source, n.Table, n.TablePos)
	if t == nil {
		c.below(n)
		return
	}
	node := &Node{
		ID:        len(c.tree.Nodes),
		Parent:    parent,
		Table:     t.Ref,
		Where:     n.Where.SQL,
		Key:       t.Key,
		View:      t.View,
		Refreshed: t.Refreshed,
	}
	if n.Source != c.home {
		node.Source = n.Source
	}
	c.tree.Nodes = append(c.tree.Nodes, node)
	if t.Foreign {
		c.find(
			n.TablePos,
			"make its own database a source",
			"%s is a table of another server; its changes there cannot be noticed here",
			n.Table,
		)
	}
	if t.Refused != "" {
		c.find(n.TablePos, t.Instead, "%s %s", n.Table, t.Refused)
	}
	if t.Opaque {
		c.find(
			n.TablePos,
			"name the tables that it reads",
			"%s is a view, and this kind of source does not tell which tables a view reads, so their changes would go unnoticed",
			n.Table,
		)
	}
	var ordering *ExpressionFacts
	if rel == nil {
		c.root(node, t, rows)
	} else {
		if t.View || t.Refreshed {
			c.find(n.TablePos, "name the tables it reads instead, or make the view the root", "%s is a view; only the root of a document may be one", n.Table)
		}
		node.Name, node.Many, node.List = rel.Name, rel.Many, rel.List != nil
		node.KeyTypes = t.keyTypes()
		node.Order, node.Limit = rel.Order.SQL, rel.Limit
		if node.Many {
			node.depend(t.Key...) // it settles the order of rows
		}
		c.link(node, t, rel)
		ordering = c.expression(node, n.Table, rel.Order, Ordering)
	}
	c.expression(node, n.Table, n.Where, Condition)
	for _, f := range n.Fields {
		known := len(node.Fields)
		if c.field(node, t, n.Table, f); len(node.Fields) == known {
			c.refused[node] = append(c.refused[node], f.Name)
		}
	}
	if ordering != nil {
		c.order(node, t, ordering.Columns)
	} else if node.Order == "" {
		c.order(node, t, nil)
	}
	for _, r := range n.Related {
		for i, f := range n.Fields {
			if f.Name == r.Name {
				c.find(
					r.Pos,
					"give one of them another name",
					"%s names both a field and a related table",
					n.Fields[i].Name,
				)
			}
		}
		id := len(c.tree.Nodes)
		c.node(&r.Node, node.ID, r, nil)
		if len(c.tree.Nodes) > id {
			node.Children = append(node.Children, id)
		} else {
			c.refused[node] = append(c.refused[node], r.Name)
		}
	}
}

// below looks for the tables below one that cannot be read, so that all that is missing is found in one check.
func (c *compiler) below(n *definition.Node) {
	for _, r := range n.Related {
		c.table(r.Source, r.Table, r.TablePos)
		if r.Through != nil {
			c.table(r.Source, r.Through.Table, r.Through.TablePos)
		}
		c.below(&r.Node)
	}
}

// root settles the identity of documents.
func (c *compiler) root(node *Node, t *Table, rows *definition.Rows) {
	if len(rows.Key) > 0 && !t.View && !t.Refreshed {
		c.find(
			rows.KeyPos,
			"take key out",
			"%s is a table, so its primary key tells its rows apart",
			rows.Table,
		)
	}
	if t.View || t.Refreshed {
		c.shifting(rows.TablePos, t.Shifting)
		node.Key, node.Follows = rows.Key, c.follows(rows, t)
		if len(rows.Key) == 0 {
			c.find(
				rows.TablePos,
				"write key: COLUMN next to rows",
				"%s is a view, so it does not say which columns tell its rows apart",
				rows.Table,
			)
		}
	}
	if len(node.Key) == 0 && len(c.findings) == 0 {
		c.find(
			rows.TablePos,
			"give the table a primary key",
			"table %s has no primary key, so its documents would have no identity",
			rows.Table,
		)
	}
	for _, k := range node.Key {
		pos := rows.KeyPos
		if pos.Line == 0 {
			pos = rows.TablePos
		}
		if col := c.column(t, k, rows.Table, pos); col != nil {
			if col.Unlinkable != "" {
				c.find(
					pos,
					"use a key of another type",
					"key column %s.%s is %s: %s",
					rows.Table,
					k,
					col.Native,
					col.Unlinkable,
				)
			}
			node.KeyTypes = append(node.KeyTypes, col.Native)
			node.read(col.KeyColumn())
		}
		node.depend(k)
	}
}

// follows adds to what a view reads the ways to the definition's key.
func (c *compiler) follows(rows *definition.Rows, t *Table) []Follow {
	facts := c.facts[rows.Source]
	if t.Refreshed {
		return nil
	}
	out := slices.Clone(t.Follows)
	view := facts.Views[t.Ref]
	for i := range out {
		if out[i].Ways = nil; !slices.Contains(view.Unclear, out[i].Table) {
			out[i].Ways = ways(view.Parts, out[i].Table, rows.Key)
		}
	}
	return out
}

func (c *compiler) link(node *Node, t *Table, rel *definition.Relation) {
	parent := c.tree.Nodes[node.Parent]
	on := rel.On
	link := &Link{}
	if node.Source != parent.Source {
		link.Apart = &Apart{}
	}
	theirs := t
	if rel.Through != nil {
		on = rel.Through.On
		join := c.table(rel.Source, rel.Through.Table, rel.Through.TablePos)
		if join == nil {
			return
		}
		if join.View || join.Refreshed || join.Foreign {
			c.find(
				rel.Through.TablePos,
				"name the table itself",
				"%s is no table of this database; its changes cannot be noticed",
				rel.Through.Table,
			)
		}
		link.Join = &Join{Table: join.Ref, Key: join.Key, KeyTypes: join.keyTypes()}
		for _, to := range rel.Through.To {
			from := c.column(join, to.Ours, rel.Through.Table, to.Pos)
			c.tied(c.column(t, to.Theirs, rel.Table, to.Pos), from, rel.Table, rel.Through.Table, to.Pos)
			if from != nil {
				link.Join.FromTypes = append(link.Join.FromTypes, from.Native)
			}
			link.Join.From, link.Join.To = append(link.Join.From, to.Ours), append(link.Join.To, to.Theirs)
			node.depend(to.Theirs)
		}
		if told := c.told(node, rel.Through.Table, rel.Through.Where, Condition); told != nil {
			link.Join.Where, link.Join.Depends = rel.Through.Where.SQL, told.Columns
		}
		theirs = join
	}
	for _, pair := range on {
		their := c.column(theirs, pair.Theirs, theirs.Ref.Name, pair.Pos)
		our := c.columnOf(parent, pair.Ours, pair.Pos)
		switch {
		case our == nil || their == nil:
			continue
		case link.Apart == nil:
			c.tied(their, our, theirs.Ref.Name, parent.Table.Name, pair.Pos)
		case !c.apart(their, theirs.Ref.Name, pair.Pos) || !c.apart(our, parent.Table.Name, pair.Pos):
			continue
		default:
			link.Apart.Theirs, link.Apart.Ours = append(
				link.Apart.Theirs,
				*their.Across,
			), append(
				link.Apart.Ours,
				*our.Across,
			)
		}
		link.Theirs, link.Ours, link.Types = append(
			link.Theirs,
			pair.Theirs,
		), append(
			link.Ours,
			pair.Ours,
		), append(
			link.Types,
			our.Native,
		)
		link.OursAt = append(link.OursAt, parent.read(our.KeyColumn()))
		parent.depend(pair.Ours)
		node.Columns = append(node.Columns, their.KeyColumn())
		if link.Join == nil {
			node.depend(pair.Theirs)
		}
	}
	node.Link = link
}

// keyTypes are the source's names for the types of the key.
func (t *Table) keyTypes() []string {
	var out []string
	for _, k := range t.Key {
		for _, c := range t.Columns {
			if c.Name == k {
				out = append(out, c.Native)
			}
		}
	}
	return out
}

// tied sees that two columns can be compared by the text of their values.
func (c *compiler) tied(their, our *TableColumn, theirTable, ourTable string, pos definition.Pos) {
	if their == nil || our == nil {
		return
	}
	if their.Family != our.Family {
		c.find(
			pos,
			"tie columns of one type",
			"%s.%s is %s but %s.%s is %s, so they never match",
			theirTable,
			their.Name,
			their.Native,
			ourTable,
			our.Name,
			our.Native,
		)
		return
	}
	for _, col := range []*TableColumn{their, our} {
		if col.Unlinkable != "" {
			c.find(
				pos,
				"tie tables by columns of another type",
				"a column of type %s cannot tie tables: %s",
				col.Native,
				col.Unlinkable,
			)
			return
		}
	}
}

// apart sees that values of another source can be compared with a column.
func (c *compiler) apart(col *TableColumn, table string, pos definition.Pos) bool {
	if col.Across == nil || col.Unlinkable != "" {
		c.find(
			pos,
			"tie sources by integers, texts or UUIDs",
			"%s.%s is %s, and such values are not compared between two sources",
			table,
			col.Name,
			col.Native,
		)
		return false
	}
	return true
}

// KeyColumn is the column as keys and links hold it.
func (c *TableColumn) KeyColumn() Column {
	return Column{Name: c.Name, Form: c.Form, Type: c.Type, Array: c.Array, Key: c.KeyForm, Loose: c.Loose}
}

func (c *compiler) columnOf(n *Node, name string, pos definition.Pos) *TableColumn {
	for _, t := range c.of(n).Tables {
		if t != nil && t.Ref == n.Table {
			return c.column(t, name, n.Table.Name, pos)
		}
	}
	return nil
}

func (c *compiler) column(t *Table, name, written string, pos definition.Pos) *TableColumn {
	if name == "" {
		return nil // said where it was read
	}
	known := make([]string, len(t.Columns))
	for i := range t.Columns {
		if t.Columns[i].Name == name {
			return &t.Columns[i]
		}
		known[i] = t.Columns[i].Name
	}
	if grant := t.Denied[name]; grant != "" {
		c.find(pos, grant, "Pingo may not read column %q of table %s", name, written)
		return nil
	}
	suggestion := definition.Nearest(name, known)
	if t.Hint != "" {
		suggestion = strings.TrimSpace(suggestion + "; " + t.Hint)
	}
	c.find(pos, suggestion, "table %s has no column %q that Pingo may read", written, name)
	return nil
}

func (c *compiler) expression(node *Node, table string, e definition.Expression, role Role) *ExpressionFacts {
	told := c.told(node, table, e, role)
	if told != nil {
		node.depend(told.Columns...)
	}
	return told
}

// told is what the source says of an expression over a table; nil where there is none, or a finding was made.
func (c *compiler) told(node *Node, table string, e definition.Expression, role Role) *ExpressionFacts {
	if e.SQL == "" {
		return nil
	}
	told := c.of(node).Expressions[Expression{table, e.SQL, role}]
	if told.Problem != "" {
		suggestion := told.Suggestion
		if suggestion == "" {
			suggestion = "it is written in the database's own language, and may use the columns of " + table + " only"
		}
		c.find(e.Pos, suggestion, "the database does not accept this expression: %s", told.Problem)
		return nil
	}
	c.shifting(e.Pos, told.Shifting)
	if len(told.Functions) > 0 {
		node.Functions = union(node.Functions, told.Functions)
	}
	return &told
}

// shifting finds functions whose changes would go unnoticed, unless they are meant.
func (c *compiler) shifting(p definition.Pos, list []Shift) {
	for _, s := range list {
		switch {
		case s.Never:
			c.find(p, "take it out: functions_allowed cannot allow this function", "%s", s.Why)
		case !slices.Contains(c.allowed, s.Function):
			c.find(
				p,
				fmt.Sprintf(
					"take it out; or allow it at the index: functions_allowed: [%s]. Documents follow when their rows change then, and with refresh: 1h once an hour, too",
					s.Function,
				),
				"%s, and documents would not follow",
				s.Why,
			)
		}
	}
}

func (n *Node) read(c Column) int {
	own := 0 // the linking columns of a join table are not this table's
	if n.Link != nil && n.Link.Join != nil {
		own = len(n.Link.Theirs)
	}
	if at := slices.Index(n.Columns[own:], c); at >= 0 {
		return own + at
	}
	n.Columns = append(n.Columns, c)
	return len(n.Columns) - 1
}

func (n *Node) depend(columns ...string) {
	for _, c := range columns {
		if !slices.Contains(n.Depends, c) {
			n.Depends = append(n.Depends, c)
		}
	}
}
