package postgres

import (
	"context"
	"fmt"
	"strings"
	"unicode"

	"github.com/jackc/pgx/v5"

	"pingo/internal/core/query"
	"pingo/internal/core/shape"
	"pingo/internal/engine"
)

// builder writes a query with its parameters.
type builder struct{ params []any }

func (b *builder) param(v any) string {
	b.params = append(b.params, v)
	return fmt.Sprintf("$%d", len(b.params))
}

// Search finds documents in which each word is found in some field, or all of them
// together, where phrases have their synonyms.
func (e *Engine) Search(
	ctx context.Context,
	index string,
	s *shape.Shape,
	q query.Query,
) (engine.Hits, error) {
	hits := engine.Hits{Hits: []engine.Hit{}}
	l := layoutOf(s)
	b := &builder{}
	where, rank, err := l.words(ctx, e, b, index, q)
	if err != nil {
		return hits, err
	}
	for _, f := range q.Filters {
		where = append(where, b.filter(l.column(f.Path), f))
	}
	from := fmt.Sprintf(
		" FROM %s WHERE %s",
		qualified(index),
		strings.Join(append(where, "pingo_document IS NOT NULL"), " AND "),
	)
	order := []string{}
	for _, o := range q.Order {
		direction := ""
		if o.Descending {
			direction = " DESC"
		}
		order = append(order, name(l.column(o.Path).name)+direction+" NULLS LAST")
	}
	order = append(order, "score DESC", "pingo_key")
	if err := e.pool.QueryRow(ctx, "SELECT count(*)"+from, b.params...).Scan(&hits.Total); err != nil {
		return hits, explain(err)
	}
	for _, path := range q.Facets {
		if hits.Facets == nil {
			hits.Facets = map[string][]engine.Facet{}
		}
		if hits.Facets[path], err = e.facet(ctx, l.column(path), from, b.params); err != nil {
			return hits, err
		}
	}
	rows, err := e.pool.Query(
		ctx,
		fmt.Sprintf(
			"SELECT pingo_key, (%s)::float8 AS score, pingo_document%s ORDER BY %s LIMIT %d",
			rank,
			from,
			strings.Join(order, ", "),
			q.Limit,
		),
		b.params...)
	if err != nil {
		return hits, explain(err)
	}
	found, err := pgx.CollectRows(rows, func(row pgx.CollectableRow) (h engine.Hit, err error) {
		return h, row.Scan(&h.Key, &h.Score, &h.Document)
	})
	if err != nil {
		return hits, explain(err)
	}
	hits.Hits = append(hits.Hits, found...)
	return hits, nil
}

func (e *Engine) facet(ctx context.Context, c column, from string, params []any) ([]engine.Facet, error) {
	value := name(c.name)
	if c.repeated {
		value = "unnest(" + value + ")"
	}
	sql := fmt.Sprintf(
		"SELECT value::text, count(DISTINCT pingo_key) FROM (SELECT pingo_key, %s AS value%s) found WHERE value IS NOT NULL GROUP BY value ORDER BY 2 DESC, 1 LIMIT %d",
		value,
		from,
		engine.FacetSize,
	)
	rows, err := e.pool.Query(ctx, sql, params...)
	if err != nil {
		return nil, explain(err)
	}
	list, err := pgx.CollectRows(rows, pgx.RowToStructByPos[engine.Facet])
	if err != nil {
		return nil, explain(err)
	}
	return append([]engine.Facet{}, list...), nil
}

// words gives the conditions that a text sets, and the rank of what meets them.
func (l *layout) words(
	ctx context.Context,
	e *Engine,
	b *builder,
	index string,
	q query.Query,
) (where []string, rank string, err error) {
	words := strings.Fields(q.Text)
	if len(words)+len(q.Phrases) == 0 {
		return nil, "0", nil
	}
	editions, err := e.Resolve(ctx, index)
	if err != nil {
		return nil, "", err
	}
	if len(editions) == 0 {
		editions = []string{index}
	}
	config := b.param(l.config) + "::text::regconfig"
	rules := "" // a parameter that is not used would have no type
	plain := func(text string) string {
		if rules == "" {
			rules = b.param(
				"SELECT said, means FROM pingo_search.pingo_synonyms WHERE edition = " + literal(editions[0]))
		}
		// ts_rewrite with a query is volatile: outside a subquery it would run for each document, and no index would serve.
		return fmt.Sprintf("(SELECT ts_rewrite(plainto_tsquery(%s, %s::text), %s))", config, b.param(text), rules)
	}
	ranks := []string{}
	weights := literal(rankWeights(l.weights)) + "::float4[]"
	var each []string
	for _, word := range words {
		tsquery := plain(word)
		any := []string{"pingo_words @@ " + tsquery}
		ranks = append(ranks, fmt.Sprintf("ts_rank(%s, pingo_words, %s)", weights, tsquery))
		if begun := beginnings(word); begun != "" && l.uses(shape.Prefix) {
			p := b.param(begun) + "::tsquery"
			any = append(any, "pingo_beginnings @@ "+p)
			ranks = append(ranks, fmt.Sprintf("0.5 * ts_rank(%s, pingo_beginnings, %s)", weights, p))
		}
		if l.uses(shape.Infix) {
			part := strings.NewReplacer(`\`, `\\`, `%`, `\%`, `_`, `\_`).Replace(strings.ToLower(word))
			any = append(any, "pingo_parts LIKE "+b.param("%"+part+"%"))
		}
		if l.uses(shape.Exact) {
			any = append(any, fmt.Sprintf("pingo_exact @> ARRAY[%s::text]", b.param(strings.ToLower(word))))
		}
		each = append(each, "("+strings.Join(any, " OR ")+")")
	}
	var phrases []string
	for _, phrase := range q.Phrases {
		tsquery := fmt.Sprintf("phraseto_tsquery(%s, %s::text)", config, b.param(phrase))
		any := []string{"pingo_words @@ " + tsquery}
		if l.uses(shape.Exact) {
			any = append(any, fmt.Sprintf("pingo_exact @> ARRAY[%s::text]", b.param(strings.ToLower(phrase))))
		}
		phrases = append(phrases, "("+strings.Join(any, " OR ")+")")
		ranks = append(ranks, fmt.Sprintf("ts_rank(%s, pingo_words, %s)", weights, tsquery))
	}
	rank = strings.Join(ranks, " + ")
	if q.Any {
		return []string{"(" + strings.Join(append(each, phrases...), " OR ") + ")"}, rank, nil
	}
	if len(each) > 0 {
		whole := []string{"(" + strings.Join(each, " AND ") + ")"}
		if len(words) > 1 {
			whole = append(whole, "pingo_words @@ "+plain(q.Text))
			if l.uses(shape.Exact) {
				whole = append(
					whole,
					fmt.Sprintf("pingo_exact @> ARRAY[%s::text]", b.param(strings.ToLower(q.Text))),
				)
			}
		}
		where = append(where, "("+strings.Join(whole, " OR ")+")")
	}
	return append(where, phrases...), rank, nil
}

// filter is the condition that a filter sets on a column or on one of its values.
func (b *builder) filter(c column, f query.Filter) string {
	value := name(c.name)
	if c.repeated {
		value = "one"
	}
	var conditions []string
	compare := func(way string, bound *query.Bound) {
		if bound == nil {
			return
		}
		if !bound.Open {
			way += "="
		}
		conditions = append(
			conditions,
			fmt.Sprintf("%s %s %s::text::%s", value, way, b.param(c.written(bound.Value)), c.element()),
		)
	}
	switch {
	case f.Near != nil:
		// The haversine formula, on a sphere.
		conditions = append(
			conditions,
			fmt.Sprintf(
				`2 * 6371008.7714 * asin(sqrt(least(1, power(sin(radians(%[1]s[1] - %[2]s::float8) / 2), 2)
			+ cos(radians(%[2]s::float8)) * cos(radians(%[1]s[1])) * power(sin(radians(%[1]s[0] - %[3]s::float8) / 2), 2)))) <= %[4]s::float8`,
				value,
				b.param(f.Near.Latitude),
				b.param(f.Near.Longitude),
				b.param(f.Near.Metres),
			),
		)
	case f.Within != nil:
		across := "AND"
		if f.Within.West > f.Within.East {
			across = "OR"
		}
		conditions = append(conditions, fmt.Sprintf(
			"%[1]s[1] BETWEEN %[2]s::float8 AND %[3]s::float8 AND (%[1]s[0] >= %[4]s::float8 %[6]s %[1]s[0] <= %[5]s::float8)",
			value,
			b.param(f.Within.South),
			b.param(f.Within.North),
			b.param(f.Within.West),
			b.param(f.Within.East),
			across,
		))
	case f.From != nil || f.To != nil:
		compare(">", f.From)
		compare("<", f.To)
	default:
		values := make([]string, len(f.Values))
		for i, v := range f.Values {
			values[i] = c.written(v)
		}
		list := b.param(values) + "::text[]::" + c.element() + "[]"
		if c.repeated {
			return name(c.name) + " && " + list
		}
		return name(c.name) + " = ANY(" + list + ")"
	}
	condition := strings.Join(conditions, " AND ")
	if c.repeated {
		return fmt.Sprintf("EXISTS (SELECT FROM unnest(%s) one WHERE %s)", name(c.name), condition)
	}
	return condition
}

// written is a filter's value as the database reads it.
func (c column) written(v string) string {
	if (c.kind == shape.Date || c.kind == shape.Timestamp) && moment.MatchString(v) {
		return databaseTime(v)
	}
	return v
}

// element is the type of one value.
func (c column) element() string { return strings.TrimSuffix(c.sqlType, "[]") }

// Refresh: what is committed is found.
func (e *Engine) Refresh(context.Context, string) error { return nil }

// beginnings is the query for words that begin as those of a text do.
func beginnings(text string) string {
	words := strings.FieldsFunc(
		strings.ToLower(text),
		func(r rune) bool { return !unicode.IsLetter(r) && !unicode.IsDigit(r) },
	)
	for i, w := range words {
		words[i] = "'" + w + "':*"
	}
	return strings.Join(words, " & ")
}
