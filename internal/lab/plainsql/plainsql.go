// Package plainsql makes documents in one SQL statement, from a definition as it was
// written: the way that a developer would write by hand. It is slow and deliberately
// simple, so that what Pingo makes can be compared with it.
package plainsql

import (
	"fmt"
	"strings"

	"github.com/jackc/pgx/v5"

	"pingo/internal/core/definition"
)

// Statement selects the key, a list of texts, and the document of every row. key names
// the columns of the key of each table by its name as written.
func Statement(r *definition.Rows, key func(table string) []string) string {
	b := &builder{key: key}
	keys := make([]string, 0, 2)
	for _, k := range b.keyOf(r) {
		keys = append(keys, "to_jsonb("+column("n0", k)+") #>> '{}'")
	}
	object := b.object(&r.Node, "n0")
	if r.Name != "" {
		object = fmt.Sprintf("jsonb_build_object('%s', '%s') || %s", definition.RowsField, r.Name, object)
	}
	where := "true"
	if r.Where.SQL != "" {
		where = r.Where.SQL
	}
	return fmt.Sprintf(
		"SELECT ARRAY[%s]::text[], %s FROM %s n0 WHERE %s",
		strings.Join(keys, ", "),
		object,
		table(r.Table),
		where,
	)
}

type builder struct {
	key   func(table string) []string
	count int
}

func (b *builder) keyOf(r *definition.Rows) []string {
	if len(r.Key) > 0 {
		return r.Key
	}
	return b.key(r.Table)
}

func table(written string) string {
	return pgx.Identifier(strings.SplitN(written, ".", 2)).Sanitize()
}

func column(alias, name string) string { return alias + "." + pgx.Identifier{name}.Sanitize() }

func text(s string) string { return "'" + strings.ReplaceAll(s, "'", "''") + "'" }

// value is a field's value in SQL.
func (b *builder) value(f *definition.Field, alias string) string {
	if f.SQL.SQL != "" {
		return "(" + f.SQL.SQL + ")"
	}
	return column(alias, f.Column)
}

// object builds a node's members with a concatenation for each, since a function
// takes a hundred arguments only.
func (b *builder) object(n *definition.Node, alias string) string {
	members := []string{"'{}'::jsonb"}
	for _, f := range n.Fields {
		value := ""
		if f.Combine != nil {
			parts := make([]string, len(f.Combine))
			for i, path := range f.Combine {
				parts[i] = "nullif(" + b.words(n, alias, strings.Split(path.Written, ".")) + ", '')"
			}
			value = "nullif(concat_ws(' ', " + strings.Join(parts, ", ") + "), '')"
		} else {
			value = b.value(f, alias)
		}
		members = append(members, fmt.Sprintf("jsonb_build_object(%s, %s)", text(f.Name), value))
	}
	for _, r := range n.Related {
		members = append(members, fmt.Sprintf("jsonb_build_object(%s, %s)", text(r.Name), b.related(r, alias)))
	}
	return "(" + strings.Join(members, " || ") + ")"
}

// rows selects the related rows of a row in their order, under a new alias.
func (b *builder) rows(r *definition.Relation, parent string) (from, alias string) {
	b.count++
	alias = fmt.Sprintf("n%d", b.count)
	var on []string
	source := table(r.Table) + " r"
	if r.Through != nil {
		for _, l := range r.Through.To {
			on = append(on, column("r", l.Theirs)+" = "+column("j", l.Ours))
		}
		for _, l := range r.Through.On {
			on = append(on, column("j", l.Theirs)+" = "+column(parent, l.Ours))
		}
		join := table(r.Through.Table)
		if r.Through.Where.SQL != "" {
			join = "(SELECT * FROM " + join + " WHERE " + r.Through.Where.SQL + ")"
		}
		source += ", " + join + " j"
	}
	for _, l := range r.On {
		on = append(on, column("r", l.Theirs)+" = "+column(parent, l.Ours))
	}
	where, order := "true", []string{}
	if r.Where.SQL != "" {
		where = r.Where.SQL
	}
	if r.Order.SQL != "" {
		order = append(order, r.Order.SQL)
	}
	for _, k := range b.key(r.Table) {
		order = append(order, column("x", k))
	}
	limit := ""
	switch {
	case !r.Many:
		limit = " LIMIT 1"
	case r.Limit > 0:
		limit = fmt.Sprint(" LIMIT ", r.Limit)
	}
	by := ""
	if len(order) > 0 {
		by = " ORDER BY " + strings.Join(order, ", ")
	}
	return fmt.Sprintf(
		"(SELECT * FROM (SELECT r.* FROM %s WHERE %s) x WHERE %s%s%s) %s",
		source,
		strings.Join(on, " AND "),
		where,
		by,
		limit,
		alias,
	), alias
}

func (b *builder) related(r *definition.Relation, parent string) string {
	from, alias := b.rows(r, parent)
	if r.List != nil {
		return fmt.Sprintf("(SELECT coalesce(jsonb_agg(%s), '[]') FROM %s)", b.value(r.List, alias), from)
	}
	object := b.object(&r.Node, alias)
	if r.Many {
		return fmt.Sprintf("(SELECT coalesce(jsonb_agg(%s), '[]') FROM %s)", object, from)
	}
	return fmt.Sprintf("(SELECT %s FROM %s)", object, from)
}

// words is the text of the field that a path leads to, of all rows on the way.
func (b *builder) words(n *definition.Node, alias string, path []string) string {
	for _, r := range n.Related {
		if r.Name != path[0] {
			continue
		}
		from, below := b.rows(r, alias)
		inner := ""
		if r.List != nil {
			inner = asWords(b.value(r.List, below))
		} else {
			inner = b.words(&r.Node, below, path[1:])
		}
		return fmt.Sprintf("(SELECT string_agg(nullif(%s, ''), ' ') FROM %s)", inner, from)
	}
	for _, f := range n.Fields {
		if f.Name == path[0] {
			return asWords(b.value(f, alias))
		}
	}
	return "NULL"
}

// asWords is a value's text; that of a list is the texts of its values.
func asWords(value string) string {
	return fmt.Sprintf(
		"(CASE WHEN jsonb_typeof(to_jsonb(%[1]s)) = 'array' THEN array_to_string(ARRAY(SELECT nullif(w #>> '{}', '') FROM jsonb_path_query(to_jsonb(%[1]s), 'strict $.**') w WHERE jsonb_typeof(w) <> 'array'), ' ') ELSE to_jsonb(%[1]s) #>> '{}' END)",
		value,
	)
}
