package shape

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"pingo/internal/core/definition"
)

// Table is what a source's catalogue says about a table.
type Table struct {
	Ref     Ref
	View    bool
	Columns []TableColumn
	// Key is the primary key's columns, empty when there is none.
	Key []string
}

// TableColumn is one column; SQLType is the database's own word for its type.
type TableColumn struct {
	Name    string
	SQLType string
	Type    Type
	Array   bool
	// Refused says why values of this type cannot be indexed; empty when they can.
	Refused string
}

// Role says where an expression stands.
type Role int

// Where an expression may stand.
const (
	Value Role = iota
	Condition
	Ordering
)

// Asked is an SQL expression over one table that the source is asked about.
type Asked struct {
	Table string // as written in the definition
	SQL   string
	Role  Role
}

// Told is the source's answer: the value's type and the columns read.
type Told struct {
	TableColumn
	Columns []string
	// Problem is the database's own complaint about the expression.
	Problem string
}

// Facts is what a source's catalogue knows about everything a definition names.
type Facts struct {
	Tables      map[string]*Table // by name as written
	Expressions map[Asked]Told
	// Known lists all tables that may be read, for suggestions.
	Known []string
}

// Questions lists the tables and expressions of an index that the source must be
// asked about before Compile.
func Questions(ix *definition.Index) (tables []string, expressions []Asked) {
	var walk func(n *definition.Node)
	ask := func(table string, e definition.Expression, role Role) {
		if e.SQL != "" {
			expressions = append(expressions, Asked{table, e.SQL, role})
		}
	}
	walk = func(n *definition.Node) {
		tables = append(tables, n.Table)
		ask(n.Table, n.Where, Condition)
		for _, f := range n.Fields {
			ask(n.Table, f.SQL, Value)
		}
		for _, r := range n.Related {
			if r.Through != nil {
				tables = append(tables, r.Through.Table)
			}
			ask(r.Table, r.Order, Ordering)
			walk(&r.Node)
		}
	}
	walk(&ix.Root)
	return tables, expressions
}

// Compile makes the shape of an index. Findings name what does not fit the catalogue.
func Compile(ix *definition.Index, facts Facts) (*Shape, definition.Findings) {
	c := &compiler{facts: facts, shape: &Shape{Index: ix.Name, Source: ix.Source}}
	c.node(&ix.Root, -1, nil)
	if len(c.findings) > 0 {
		c.findings.Sort()
		return nil, c.findings
	}
	return c.shape, nil
}

type compiler struct {
	facts    Facts
	shape    *Shape
	findings definition.Findings
}

func (c *compiler) find(p definition.Pos, suggestion, format string, args ...any) {
	c.findings = append(c.findings, definition.Finding{Pos: p, Message: fmt.Sprintf(format, args...), Suggestion: suggestion})
}

func (c *compiler) table(name string, pos definition.Pos) *Table {
	t := c.facts.Tables[name]
	if t == nil {
		c.find(pos, definition.Nearest(name, c.facts.Known), "the source has no table %q that Pingo may read", name)
	}
	return t
}

func (c *compiler) node(n *definition.Node, parent int, rel *definition.Relation) {
	t := c.table(n.Table, n.TablePos)
	if t == nil {
		return
	}
	node := &Node{ID: len(c.shape.Nodes), Parent: parent, Table: t.Ref, Where: n.Where.SQL, Key: t.Key}
	c.shape.Nodes = append(c.shape.Nodes, node)
	if t.View {
		c.find(n.TablePos, "name the tables it reads instead", "%s is a view; changes behind a view cannot be captured yet", n.Table)
	}
	if rel == nil {
		if len(t.Key) == 0 && !t.View {
			c.find(n.TablePos, "add one: ALTER TABLE "+n.Table+" ADD PRIMARY KEY (…)", "table %s has no primary key, so its documents would have no identity", n.Table)
		}
		for _, k := range t.Key {
			node.read(Column{Name: k})
			node.depend(k)
		}
	} else {
		node.Name, node.Many, node.List = rel.Name, rel.Many, rel.List != nil
		node.Order, node.Limit = rel.Order.SQL, rel.Limit
		node.Columns = []Column{{}} // the link's value, filled in by link
		if node.Many {
			node.depend(t.Key...) // it settles the order of rows
		}
		c.link(node, t, rel)
		c.expression(node, n.Table, rel.Order, Ordering)
	}
	c.expression(node, n.Table, n.Where, Condition)
	for _, f := range n.Fields {
		c.field(node, t, n.Table, f)
	}
	for _, r := range n.Related {
		for _, f := range n.Fields {
			if f.Name == r.Name {
				c.find(r.Pos, "give one of them another name", "%s names both a field and a related table", r.Name)
			}
		}
		id := len(c.shape.Nodes)
		c.node(&r.Node, node.ID, r)
		if len(c.shape.Nodes) > id {
			node.Children = append(node.Children, id)
		}
	}
}

func (c *compiler) link(node *Node, t *Table, rel *definition.Relation) {
	parent := c.shape.Nodes[node.Parent]
	on := rel.On
	link := &Link{}
	theirs := t
	if rel.Through != nil {
		on = rel.Through.On
		join := c.table(rel.Through.Table, rel.Through.TablePos)
		if join == nil || len(rel.Through.To) == 0 {
			return
		}
		to := rel.Through.To[0]
		c.column(t, to.Theirs, rel.Table, to.Pos)
		c.column(join, to.Ours, rel.Through.Table, to.Pos)
		link.Join = &Join{Table: join.Ref, Key: join.Key, From: to.Ours, To: to.Theirs}
		node.depend(to.Theirs)
		theirs = join
	}
	if len(on) == 0 {
		return
	}
	link.Theirs, link.Ours = on[0].Theirs, on[0].Ours
	their := c.column(theirs, link.Theirs, theirs.Ref.Name, on[0].Pos)
	our := c.columnOf(parent.Table, link.Ours, on[0].Pos)
	if their != nil && our != nil && comparable(their.Type) != comparable(our.Type) {
		c.find(on[0].Pos, "tie columns of one type", "%s.%s is %s but %s.%s is %s, so they never match", theirs.Ref.Name, link.Theirs, their.SQLType, parent.Table.Name, link.Ours, our.SQLType)
	}
	if link.Join == nil {
		node.depend(link.Theirs)
	}
	if our != nil {
		link.OursType = our.SQLType
	}
	link.OursAt = parent.read(Column{Name: link.Ours})
	parent.depend(link.Ours)
	node.Link = link
	node.Columns[0] = Column{Name: link.Theirs}
}

// comparable folds the types that a database compares with one another.
func comparable(t Type) Type {
	switch t {
	case Keyword:
		return Text
	case Decimal:
		return Integer
	}
	return t
}

func (c *compiler) columnOf(r Ref, name string, pos definition.Pos) *TableColumn {
	for _, t := range c.facts.Tables {
		if t != nil && t.Ref == r {
			return c.column(t, name, r.Name, pos)
		}
	}
	return nil
}

func (c *compiler) column(t *Table, name, written string, pos definition.Pos) *TableColumn {
	known := make([]string, len(t.Columns))
	for i := range t.Columns {
		if t.Columns[i].Name == name {
			return &t.Columns[i]
		}
		known[i] = t.Columns[i].Name
	}
	c.find(pos, definition.Nearest(name, known), "table %s has no column %q that Pingo may read", written, name)
	return nil
}

func (c *compiler) expression(node *Node, table string, e definition.Expression, role Role) *Told {
	if e.SQL == "" {
		return nil
	}
	told := c.facts.Expressions[Asked{table, e.SQL, role}]
	if told.Problem != "" {
		c.find(e.Pos, "it may use the columns of "+table+" only", "the database does not accept this expression: %s", told.Problem)
		return nil
	}
	node.depend(told.Columns...)
	return &told
}

func (c *compiler) field(node *Node, t *Table, table string, f *definition.Field) {
	var value TableColumn
	out := Field{Name: f.Name, Search: f.Search, Filter: f.Filter, Sort: f.Sort}
	pos, used := f.Pos, []string{f.Column}
	if f.SQL.SQL != "" {
		told := c.expression(node, table, f.SQL, Value)
		if told == nil {
			return
		}
		value, pos, used = told.TableColumn, f.SQL.Pos, told.Columns
		out.At = node.read(Column{SQL: f.SQL.SQL})
	} else {
		col := c.column(t, f.Column, table, f.Pos)
		if col == nil {
			return
		}
		value = *col
		node.depend(f.Column)
		out.At = node.read(Column{Name: f.Column})
	}
	if !f.Personal {
		for _, name := range used {
			if word := personal(name); word != "" {
				c.find(pos, "leave it out, or write personal: allowed on the field", "column %s.%s looks personal or secret (%s), and a search engine is no place for that", table, name, word)
				return
			}
		}
	}
	if value.Refused != "" {
		c.find(pos, value.Refused, "field %s is of type %s, which cannot be indexed", f.Name, value.SQLType)
		return
	}
	out.Type, out.Array = value.Type, value.Array
	if f.Type != "" && Type(f.Type) != value.Type {
		if !converts(value, Type(f.Type)) {
			c.find(f.Pos, "leave type out, or convert the value with sql:", "field %s is %s in the database, which cannot become %s", f.Name, value.SQLType, f.Type)
			return
		}
		out.Type = Type(f.Type)
		out.Array = value.Array && out.Type != Geo
	}
	if out.Search > 0 && out.Type != Text && out.Type != Keyword {
		c.find(f.Pos, "take search out, or make a text of it with sql: and ::text", "field %s is %s; only text is searched by words", f.Name, out.Type)
	}
	if (out.Filter || out.Sort) && out.Type == Object {
		c.find(f.Pos, "take one part of it out with sql:", "field %s is a JSON object, which cannot be filtered or sorted by", f.Name)
	}
	node.Fields = append(node.Fields, out)
}

// converts reports whether a value as the database writes it may be taken as another type.
func converts(from TableColumn, to Type) bool {
	switch to {
	case Text, Keyword:
		return from.Type != Object && from.Type != Geo
	case Decimal:
		return from.Type == Integer
	case Geo:
		return from.Type == Decimal && from.Array || from.SQLType == "point"
	}
	return false
}

func (n *Node) read(c Column) int {
	if at := slices.Index(n.Columns, c); at >= 0 {
		return at
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

var personalWords = []string{
	"password", "passwd", "passphrase", "pwd", "secret", "token", "api_key", "apikey", "private_key", "salt",
	"otp", "pin", "ssn", "email", "e_mail", "mail", "telephone", "phone", "mobile", "fax", "birthday", "birth_date",
	"date_of_birth", "iban", "card_number", "cvv", "passport", "tax_id", "ip_address", "session_id", "cookie",
}

var wordEdge = regexp.MustCompile(`[^a-z0-9]+|_`)
var camelEdge = regexp.MustCompile(`([a-z0-9])([A-Z])`)

// personal returns the word of the built-in list that a column's name holds.
func personal(column string) string {
	spaced := strings.ToLower(camelEdge.ReplaceAllString(column, "${1}_$2"))
	name := "_" + wordEdge.ReplaceAllString(spaced, "_") + "_"
	for _, w := range personalWords {
		if strings.Contains(name, "_"+w+"_") || strings.Contains(name, "_"+w+"s_") || strings.Contains(name, "_"+w+"_hash_") {
			return w
		}
	}
	return ""
}
