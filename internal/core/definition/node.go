package definition

import (
	"fmt"
	"strings"

	"gopkg.in/yaml.v3"
)

func (d *decoder) nodeFields(n *Node) fields {
	return fields{
		"where":   d.expression(&n.Where, "where"),
		"fields":  func(_, v *yaml.Node) { d.fields(n, v) },
		"related": func(_, v *yaml.Node) { d.each(v, "related tables", func(k, v *yaml.Node) { d.relation(n, k, v) }) },
	}
}

func (d *decoder) fields(n *Node, v *yaml.Node) {
	switch v.Kind {
	case yaml.SequenceNode:
		for _, item := range v.Content {
			s := d.text(item, "a field in a list")
			if s.text == "" {
				continue
			}
			d.addField(n, &Field{Name: s.text, Column: s.text, Pos: s.pos})
		}
	default:
		d.each(v, "fields", func(k, v *yaml.Node) { d.addField(n, d.field(k, v)) })
	}
	if len(n.Fields) == 0 && len(v.Content) == 0 {
		d.find(d.at(v), "there are no fields here", "name at least one column")
	}
}

// What Pingo adds to documents: a fingerprint to each, and, in an index with several
// rows, which of them it comes from.
const (
	FingerprintField = "pingo_fingerprint"
	RowsField        = "pingo_rows"
)

// mostFields is how many fields a table may have in documents; few databases have tables with more columns.
const mostFields = 2000

func (d *decoder) addField(n *Node, f *Field) {
	if len(n.Fields) >= mostFields {
		if message := fmt.Sprintf("there are more than %d fields here", mostFields); !d.said(message) {
			d.find(f.Pos, message, "name those that searches and results need")
		}
		return
	}
	for _, other := range n.Fields {
		if other.Name == f.Name {
			d.find(f.Pos, fmt.Sprintf("field %s stands here twice", f.Name), "keep one of them")
			return
		}
	}
	if strings.HasPrefix(f.Name, "pingo_") || strings.HasPrefix(f.Name, "_") || strings.Contains(f.Name, ".") ||
		strings.TrimSpace(f.Name) != f.Name {
		d.find(
			f.Pos,
			fmt.Sprintf("%q cannot name a field", f.Name),
			"names that start with _ or pingo_, or contain a dot, are reserved",
		)
		return
	}
	n.Fields = append(n.Fields, f)
}

// Matches lists the ways in which a search may look into a field.
var Matches = []string{"words", "prefix", "infix", "exact"}

// Types lists the words that a field's type may be.
var Types = []string{"text", "keyword", "integer", "decimal", "boolean", "date", "timestamp", "geo", "object"}

func (d *decoder) field(k, v *yaml.Node) *Field {
	f := &Field{Name: k.Value, Pos: d.at(k)}
	if v.Kind == yaml.ScalarNode && v.Tag == "!!null" {
		f.Column = f.Name
		return f
	}
	seen := d.object(v, "field "+k.Value, d.fieldKeys(f))
	ways := 0
	for _, way := range []string{"column", "sql", "combine"} {
		if seen[way] {
			ways++
		}
	}
	if ways > 1 {
		d.find(
			f.Pos,
			fmt.Sprintf("field %s has more than one of column, sql and combine", f.Name),
			"keep one of them",
		)
	}
	if ways == 0 {
		f.Column = f.Name
	}
	return f
}

// fieldKeys reads what a field is made of and what it is for.
func (d *decoder) fieldKeys(f *Field) fields {
	return fields{
		"column":  d.into(&f.Column, "column"),
		"sql":     d.expression(&f.SQL, "sql"),
		"combine": func(_, v *yaml.Node) { f.Combine = d.combine(v) },
		"type":    d.word(&f.Type, "the type of a field", Types...),
		"search": func(_, v *yaml.Node) {
			if v.Tag == "!!bool" && v.Value == "true" {
				f.Search = 1
				return
			}
			f.Search = d.number(v, "search (a weight)", 0, 1000)
		},
		"match": func(k, v *yaml.Node) {
			d.word(&f.Match, "match", Matches...)(k, v)
			f.MatchPos = d.at(v)
		},
		"filter": d.boolean(&f.Filter, "filter"),
		"sort":   d.boolean(&f.Sort, "sort"),
		"facet":  d.boolean(&f.Facet, "facet"),
		"personal": func(_, v *yaml.Node) {
			var word string
			d.word(&word, "personal", "allowed")(nil, v)
			f.Personal = word == "allowed"
		},
	}
}

func (d *decoder) combine(v *yaml.Node) (out []Path) {
	if v.Kind != yaml.SequenceNode || len(v.Content) == 0 {
		d.find(
			d.at(v),
			fmt.Sprintf("combine is a list of fields of the document, not %s", kindName(v)),
			"write combine: [name, region.name]",
		)
		return nil
	}
	for _, item := range v.Content {
		s := d.text(item, "a field to combine")
		out = append(out, Path{s.text, s.pos})
	}
	return out
}

func (d *decoder) relation(parent *Node, k, v *yaml.Node) {
	r := &Relation{Name: k.Value}
	r.Pos = d.at(k)
	known := d.nodeFields(&r.Node)
	table := func(_, v *yaml.Node) {
		s := d.text(v, "a related table")
		r.Table, r.TablePos = s.text, s.pos
	}
	var limitPos Pos
	known["source"] = func(_, v *yaml.Node) {
		s := d.text(v, "source")
		r.Source, r.SourcePos = s.text, s.pos
	}
	known["one"] = table
	known["many"] = func(k, v *yaml.Node) { r.Many = true; table(k, v) }
	known["on"] = func(_, v *yaml.Node) { r.On = d.links(v) }
	known["order"] = d.expression(&r.Order, "order")
	known["limit"] = func(_, v *yaml.Node) {
		r.Limit, limitPos = int(d.number(v, "limit", 1, 10000)), d.at(v)
	}
	known["list"] = func(_, v *yaml.Node) {
		r.List = &Field{Name: r.Name, Pos: d.at(v)}
		if v.Kind != yaml.MappingNode {
			r.List.Column = d.text(v, "list").text
			return
		}
		inside := d.object(v, "list "+r.Name, d.fieldKeys(r.List))
		if inside["column"] == inside["sql"] || inside["combine"] {
			d.find(
				d.at(v),
				fmt.Sprintf("list %s is made of one column, or of sql", r.Name),
				"write list: COLUMN or list: { column: COLUMN, search: 2 }",
			)
		}
	}
	known["through"] = func(_, v *yaml.Node) { r.Through = d.through(v) }
	seen := d.object(v, "related "+k.Value, known)
	if seen == nil {
		return
	}
	switch {
	case !seen["one"] && !seen["many"]:
		d.find(
			r.Pos,
			fmt.Sprintf("related %s does not say how many rows it has", r.Name),
			"write one: TABLE or many: TABLE",
		)
	case seen["one"] && seen["many"]:
		d.find(r.Pos, fmt.Sprintf("related %s says both one and many", r.Name), "keep one of them")
	case !r.Many && (seen["order"] || seen["limit"] || seen["list"] || seen["through"]):
		d.find(
			r.Pos,
			fmt.Sprintf("related %s is one row, so order, limit, list and through have no meaning", r.Name),
			"write many: instead of one:, or take them out",
		)
	}
	if !seen["on"] && !seen["through"] {
		d.find(
			r.Pos,
			fmt.Sprintf("related %s does not say how its rows are tied to these", r.Name),
			"write on: { their_column: our_column }",
		)
	}
	if seen["on"] && seen["through"] {
		d.find(
			r.Pos,
			fmt.Sprintf("related %s says both on and through", r.Name),
			"with a join table, the columns stand inside through",
		)
	}
	if seen["list"] == seen["fields"] {
		d.find(
			r.Pos,
			fmt.Sprintf("related %s needs fields, or list for a plain list of one field", r.Name),
			"write one of the two",
		)
	}
	if seen["limit"] && !seen["order"] {
		d.find(
			limitPos,
			fmt.Sprintf("related %s has a limit, but does not say which rows come first", r.Name),
			"write order: as well",
		)
	}
	if r.List != nil {
		r.Fields = []*Field{r.List}
		if len(r.Related) > 0 {
			d.find(
				r.Pos,
				fmt.Sprintf("related %s is a plain list, so it cannot have related tables of its own", r.Name),
				"use fields instead of list",
			)
		}
	}
	parent.Related = append(parent.Related, r)
}

func (d *decoder) through(v *yaml.Node) *Through {
	t := &Through{}
	d.object(v, "through", fields{
		"table": func(_, v *yaml.Node) {
			s := d.text(v, "table")
			t.Table, t.TablePos = s.text, s.pos
		},
		"on":    func(_, v *yaml.Node) { t.On = d.links(v) },
		"to":    func(_, v *yaml.Node) { t.To = d.links(v) },
		"where": d.expression(&t.Where, "where"),
	}, "table", "on", "to")
	return t
}

func (d *decoder) links(v *yaml.Node) []Link {
	var out []Link
	d.each(v, "linked columns", func(k, v *yaml.Node) {
		out = append(out, Link{k.Value, d.text(v, "a linked column").text, d.at(k)})
	})
	if len(out) == 0 && v.Kind == yaml.MappingNode {
		d.find(d.at(v), "no columns tie the two tables", "write { their_column: our_column }")
	}
	return out
}
