package shape

import (
	"regexp"
	"slices"
	"strings"

	"pingo/internal/core/definition"
)

func (c *compiler) field(node *Node, t *Table, table string, f *definition.Field) {
	out := Field{
		Name:   f.Name,
		Search: f.Search,
		Match:  Match(f.Match),
		Filter: f.Filter,
		Sort:   f.Sort,
		Facet:  f.Facet,
	}
	if out.Search > 0 && out.Match == "" {
		out.Match = Words
	}
	if out.Match != "" && out.Search == 0 {
		c.find(
			f.MatchPos,
			"add search: 1, or take match out",
			"match says how a search looks into field %s, but no search does",
			f.Name,
		)
		return
	}
	if f.Combine != nil {
		c.combine(node, f, out)
		return
	}
	if f.Column == "" && f.SQL.SQL == "" {
		return // said where it was read
	}
	var value TableColumn
	pos, used := f.Pos, []string{f.Column}
	if f.SQL.SQL != "" {
		told := c.expression(node, table, f.SQL, Value)
		if told == nil {
			return
		}
		value, pos, used = told.TableColumn, f.SQL.Pos, told.Columns
	} else {
		col := c.column(t, f.Column, table, f.Pos)
		if col == nil {
			return
		}
		value = *col
		node.depend(f.Column)
	}
	if !f.Personal {
		for _, name := range used {
			if word := personal(name); word != "" {
				c.find(
					pos,
					"leave it out, or write personal: allowed on the field",
					"column %s.%s looks personal or secret (%s), and a search engine is no place for that",
					table,
					name,
					word,
				)
				return
			}
		}
	}
	if value.Refused != "" {
		c.find(pos, value.Refused, "field %s is of type %s, which cannot be indexed", f.Name, value.Native)
		return
	}
	out.Type, out.Array = value.Type, value.Array
	if f.Type != "" && Type(f.Type) != value.Type {
		if !converts(value, Type(f.Type)) {
			c.find(
				f.Pos,
				"leave type out, or convert the value with sql:",
				"field %s is %s in the database, which cannot become %s",
				f.Name,
				value.Native,
				f.Type,
			)
			return
		}
		out.Type = Type(f.Type)
		out.Array = value.Array && out.Type != Geo
	}
	out.At = node.read(
		Column{Name: f.Column, Expression: f.SQL.SQL, Form: value.Form, Type: out.Type, Array: out.Array},
	)
	if out.Search > 0 && out.Type != Text && out.Type != Keyword {
		c.find(
			f.Pos,
			"take search out, or make a text of it with sql:",
			"field %s is %s; only text is searched by words",
			f.Name,
			out.Type,
		)
	}
	if out.Whole() && out.Type == Object {
		c.find(
			f.Pos,
			"take one part of it out with sql:",
			"field %s is a JSON object, which cannot be filtered, sorted or counted by",
			f.Name,
		)
	}
	if (out.Sort || out.Facet) && out.Type == Geo {
		c.find(
			f.Pos,
			"take sort and facet out; filter is what a place can do",
			"field %s is a place, which has no order and no groups",
			f.Name,
		)
	}
	if out.Sort && (out.Array || c.tree.Repeated(node)) {
		c.find(
			f.Pos,
			"sort by a field that a document has once",
			"field %s may have several values in a document, so it cannot sort documents",
			f.Name,
		)
	}
	node.Fields = append(node.Fields, out)
}

// combine takes up a field that joins others; which ones is worked out at the end.
func (c *compiler) combine(node *Node, f *definition.Field, out Field) {
	if f.Type != "" && Type(f.Type) != Text {
		c.find(
			f.Pos,
			"leave type out",
			"field %s combines others, so it is text and cannot be %s",
			f.Name,
			f.Type,
		)
		return
	}
	out.At, out.Type = -1, Text
	at := len(node.Fields)
	node.Fields = append(node.Fields, out)
	c.combined = append(c.combined, func() {
		for _, path := range f.Combine {
			names := strings.Split(path.Written, ".")
			part, known, ok := c.part(node, names)
			if !ok && c.isRefused(node, names) {
				continue
			}
			if !ok {
				c.find(
					path.Pos,
					definition.Nearest(path.Written, known),
					"there is no field %q from here to combine",
					path.Written,
				)
				continue
			}
			last := node
			for _, id := range part.Nodes {
				last = c.tree.Nodes[id]
			}
			switch field := last.Fields[part.Field]; {
			case field.Combine != nil || field.At < 0:
				c.find(
					path.Pos,
					"name the fields that it combines instead",
					"%s is itself a combined field",
					path.Written,
				)
			case field.Type == Geo || field.Type == Object:
				c.find(path.Pos, "take it out", "%s is %s, which has no words", path.Written, field.Type)
			default:
				node.Fields[at].Combine = append(node.Fields[at].Combine, part)
			}
		}
	})
}

// isRefused reports whether something on a path has been found wrong already.
func (c *compiler) isRefused(node *Node, path []string) bool {
	if slices.Contains(c.refused[node], path[0]) {
		return true
	}
	for _, id := range node.Children {
		if child := c.tree.Nodes[id]; child.Name == path[0] && len(path) > 1 {
			return c.isRefused(child, path[1:])
		}
	}
	return false
}

// part follows a path down from a node. known are the paths that there are.
func (c *compiler) part(node *Node, path []string) (part Part, known []string, ok bool) {
	var walk func(n *Node, prefix string, nodes []int)
	walk = func(n *Node, prefix string, nodes []int) {
		for i, f := range n.Fields {
			name := prefix + f.Name
			if n.List {
				name = strings.TrimSuffix(prefix, ".")
			}
			if known = append(known, name); name == strings.Join(path, ".") {
				part, ok = Part{nodes, i}, true
			}
		}
		for _, id := range n.Children {
			child := c.tree.Nodes[id]
			walk(child, prefix+child.Name+".", append(slices.Clone(nodes), id))
		}
	}
	walk(node, "", nil)
	return part, known, ok
}

// converts reports whether a value as the database writes it may be taken as another type.
func converts(from TableColumn, to Type) bool {
	switch to {
	case Text, Keyword:
		return from.Type != Object && from.Type != Geo
	case Decimal:
		return from.Type == Integer
	case Geo:
		return from.Type == Decimal && from.Array
	}
	return false
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
		if strings.Contains(name, "_"+w+"_") || strings.Contains(name, "_"+w+"s_") ||
			strings.Contains(name, "_"+w+"_hash_") {
			return w
		}
	}
	return ""
}
