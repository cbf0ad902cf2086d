package shape

import (
	"cmp"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
)

// Difference is one way in which two shapes of an index differ.
type Difference struct {
	// Path is the field or related table, empty for the index as a whole.
	Path string `json:"path,omitempty"`
	What string `json:"what"`
	// InPlace: a live edition can take it up without a refill. What is reported
	// of synonyms and settings is for the engine to decide.
	InPlace bool `json:"inPlace"`
}

// Compare lists how the documents, the mapping and the searches of two shapes of an
// index differ. It finds something whenever their hashes differ.
func Compare(old, new *Shape) []Difference {
	var out []Difference
	say := func(path string, inPlace bool, format string, args ...any) {
		out = append(out, Difference{path, fmt.Sprintf(format, args...), inPlace})
	}
	if old.Source != new.Source {
		say("", false, "rows come from source %s instead of %s", new.Source, old.Source)
	}
	for _, t := range old.Trees {
		if new.Tree(t.Name) == nil {
			say(t.Name, false, "the rows of %s are no longer in it", t.Root().Table)
		}
	}
	for _, t := range new.Trees {
		before := old.Tree(t.Name)
		if before == nil {
			say(t.Name, false, "the rows of %s are new in it", t.Root().Table)
			continue
		}
		compareTrees(before, t, say)
	}
	if !same(old.Synonyms, new.Synonyms) {
		say("", true, "synonyms differ")
	}
	if !same(old.Settings, new.Settings) {
		say("", true, "engine_settings differ")
	}
	if !slices.ContainsFunc(out, func(d Difference) bool { return !d.InPlace }) && old.Hash() != new.Hash() {
		say("", false, "columns that documents are read by differ in the database")
	}
	return out
}

func compareTrees(old, new *Tree, say func(path string, inPlace bool, format string, args ...any)) {
	oldNodes, newNodes := nodesByPath(old), nodesByPath(new)
	for path := range oldNodes {
		if newNodes[path] == nil {
			say(path, false, "is no longer related")
		}
	}
	for _, n := range new.Nodes {
		path := new.Path(n)
		before := oldNodes[path]
		if before == nil {
			say(path, false, "is related now, from %s", n.Table)
			continue
		}
		words := func(what, was, is string) {
			if was != is {
				say(path, false, "%s is %s instead of %s", what, orNone(is), orNone(was))
			}
		}
		words("source", cmp.Or(before.Source, "the index's own"), cmp.Or(n.Source, "the index's own"))
		words("table", before.Table.String(), n.Table.String())
		words("where", before.Where, n.Where)
		words("order", before.Order, n.Order)
		words("key", strings.Join(before.Key, ", "), strings.Join(n.Key, ", "))
		words("limit", fmt.Sprint(before.Limit), fmt.Sprint(n.Limit))
		if before.Many != n.Many || before.List != n.List {
			say(path, false, "is %s instead of %s", kindOf(n), kindOf(before))
		}
		words("the link", linkWords(before.Link), linkWords(n.Link))
	}
	oldFields, newFields := map[string]fieldAt{}, map[string]fieldAt{}
	collect(old, oldFields)
	order := collect(new, newFields)
	for _, path := range collect(old, oldFields) {
		if _, kept := newFields[path]; !kept {
			say(path, false, "is no longer a field")
		}
	}
	for _, path := range order {
		is := newFields[path]
		was, had := oldFields[path]
		if !had {
			say(path, false, "is a new field")
			continue
		}
		compareFields(path, was, is, say)
	}
}

func compareFields(
	path string,
	was, is fieldAt,
	say func(path string, inPlace bool, format string, args ...any),
) {
	if was.Type != is.Type || was.Array != is.Array {
		say(path, false, "is %s instead of %s", typeWords(is.Field), typeWords(was.Field))
	}
	if was.from != is.from {
		say(path, false, "comes from %s instead of %s", is.from, was.from)
	}
	if (was.Search > 0) != (is.Search > 0) {
		say(
			path,
			false,
			"%s",
			map[bool]string{true: "is searched now", false: "is no longer searched"}[is.Search > 0],
		)
	} else if was.Search != is.Search {
		say(path, true, "weighs %g instead of %g in searches", is.Search, was.Search)
	}
	if was.Match != is.Match && was.Search > 0 && is.Search > 0 {
		say(path, false, "is matched by %s instead of %s", is.Match, was.Match)
	}
	for _, role := range []struct {
		name    string
		was, is bool
	}{{"filter", was.Filter, is.Filter}, {"sort", was.Sort, is.Sort}, {"facet", was.Facet, is.Facet}} {
		if role.was != role.is {
			say(
				path,
				false,
				"%s",
				map[bool]string{true: "has the role " + role.name + " now", false: "has no longer the role " + role.name}[role.is],
			)
		}
	}
}

type fieldAt struct {
	Field
	from string
}

// collect gathers a tree's fields by path, and lists the paths in order.
func collect(t *Tree, into map[string]fieldAt) []string {
	var order []string
	for _, n := range t.Nodes {
		for i, f := range n.Fields {
			path := t.FieldPath(n, i)
			into[path] = fieldAt{f, t.Source(n, i, func(n *Node) string { return n.Table.String() })}
			order = append(order, path)
		}
	}
	return order
}

// FieldPath is the path of a node's field in documents.
func (t *Tree) FieldPath(n *Node, field int) string {
	path := t.Path(n)
	switch {
	case n.List:
		return path
	case path == "":
		return n.Fields[field].Name
	}
	return path + "." + n.Fields[field].Name
}

// Source says where a field's value comes from: a column, an expression, other fields. named gives
// the name of a node's table as people read it.
func (t *Tree) Source(n *Node, field int, named func(*Node) string) string {
	f := n.Fields[field]
	if f.At >= 0 {
		c := n.Columns[f.At]
		if c.Expression != "" {
			return fmt.Sprintf("%s of %s", c.Expression, named(n))
		}
		return named(n) + "." + c.Name
	}
	parts := make([]string, len(f.Combine))
	for i, p := range f.Combine {
		last := n
		for _, id := range p.Nodes {
			last = t.Nodes[id]
		}
		parts[i] = t.FieldPath(last, p.Field)
	}
	return "the fields " + strings.Join(parts, ", ")
}

func nodesByPath(t *Tree) map[string]*Node {
	out := map[string]*Node{}
	for _, n := range t.Nodes {
		out[t.Path(n)] = n
	}
	return out
}

func kindOf(n *Node) string {
	switch {
	case n.List:
		return "a plain list"
	case n.Many:
		return "many rows"
	}
	return "one row"
}

func typeWords(f Field) string {
	if f.Array {
		return "a list of " + string(f.Type)
	}
	return string(f.Type)
}

func linkWords(l *Link) string {
	if l == nil {
		return ""
	}
	pairs := func(theirs, ours []string) string {
		out := make([]string, len(theirs))
		for i := range theirs {
			out[i] = theirs[i] + " = " + ours[i]
		}
		return strings.Join(out, ", ")
	}
	if l.Join != nil {
		words := fmt.Sprintf(
			"through %s, %s, %s",
			l.Join.Table,
			pairs(l.Theirs, l.Ours),
			pairs(l.Join.To, l.Join.From),
		)
		if l.Join.Where != "" {
			words += ", where " + l.Join.Where
		}
		return words
	}
	return pairs(l.Theirs, l.Ours)
}

// Unique reports whether the key of the join table forbids that two of its rows tie the same rows.
func (l *Link) Unique() bool {
	ties := append(slices.Clone(l.Theirs), l.Join.From...)
	return len(l.Join.Key) > 0 && !slices.ContainsFunc(l.Join.Key, func(k string) bool { return !slices.Contains(ties, k) })
}

// Words say how a node's rows are tied to those above; empty for the root.
func (l *Link) Words() string { return linkWords(l) }

func orNone(s string) string {
	if s == "" || s == "0" {
		return "none"
	}
	return s
}

// same compares what was stored as JSON with what was read from YAML.
func same(a, b any) bool {
	x, err1 := json.Marshal(a)
	y, err2 := json.Marshal(b)
	empty := func(s []byte) bool { return string(s) == "null" || string(s) == "{}" || string(s) == "[]" }
	return err1 == nil && err2 == nil && (string(x) == string(y) || empty(x) && empty(y))
}

// Lookup is a condition by which Pingo reads rows of a table for each change.
type Lookup struct {
	Table   Ref      `json:"table"`
	Columns []string `json:"columns"`
}

// Lookups lists the conditions of the reads of a source's tables, and of the ways from changed rows
// to documents, each once. The root's key has its index anyway.
func (s *Shape) Lookups(source string) []Lookup {
	var out []Lookup
	add := func(table Ref, columns []string) {
		sorted := slices.Sorted(slices.Values(columns))
		if !slices.ContainsFunc(
			out,
			func(l Lookup) bool { return l.Table == table && slices.Equal(l.Columns, sorted) },
		) {
			out = append(out, Lookup{table, sorted})
		}
	}
	for _, t := range s.Trees {
		for _, n := range t.Nodes[1:] {
			if s.SourceOf(n) != source {
				continue
			}
			if j := n.Link.Join; j != nil {
				add(j.Table, n.Link.Theirs)
				add(n.Table, j.To)
				continue
			}
			add(n.Table, n.Link.Theirs)
		}
	}
	for _, from := range s.Sources() {
		for _, routes := range s.Routes(from) {
			for _, r := range routes {
				for _, step := range r.Steps {
					if cmp.Or(step.Source, s.Source) == source {
						add(step.Table, step.Match)
					}
				}
			}
		}
	}
	return out
}
