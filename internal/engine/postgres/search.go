package postgres

import (
	"context"
	"fmt"
	"strings"
	"unicode"

	"github.com/jackc/pgx/v5"

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
	q engine.Query,
) (engine.Hits, error) {
	hits := engine.Hits{Hits: []engine.Hit{}}
	l := layoutOf(s)
	b := &builder{}
	where, rank, err := l.words(ctx, e, b, index, q.Text)
	if err != nil {
		return hits, err
	}
	for _, f := range q.Filters {
		c := l.column(f.Path)
		if (c.kind == shape.Date || c.kind == shape.Timestamp) && moment.MatchString(f.Value) {
			f.Value = databaseTime(f.Value)
		}
		value := b.param(f.Value)
		if c.repeated {
			where = append(
				where,
				fmt.Sprintf(
					"%s @> ARRAY[%s::text::%s]",
					name(c.name),
					value,
					strings.TrimSuffix(c.sqlType, "[]"),
				),
			)
			continue
		}
		where = append(where, fmt.Sprintf("%s = %s::text::%s", name(c.name), value, c.sqlType))
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
	index, text string,
) (where []string, rank string, err error) {
	words := strings.Fields(text)
	if len(words) == 0 {
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
	edition := b.param(
		"SELECT said, means FROM pingo_search.pingo_synonyms WHERE edition = " + literal(editions[0]),
	)
	query := func(text string) string {
		return fmt.Sprintf("ts_rewrite(plainto_tsquery(%s, %s::text), %s)", config, b.param(text), edition)
	}
	ranks := []string{}
	weights := literal(rankWeights(l.weights)) + "::float4[]"
	var each []string
	for _, word := range words {
		tsquery := query(word)
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
	whole := []string{"(" + strings.Join(each, " AND ") + ")"}
	if len(words) > 1 {
		whole = append(whole, "pingo_words @@ "+query(text))
		if l.uses(shape.Exact) {
			whole = append(whole, fmt.Sprintf("pingo_exact @> ARRAY[%s::text]", b.param(strings.ToLower(text))))
		}
	}
	return []string{"(" + strings.Join(whole, " OR ") + ")"}, strings.Join(ranks, " + "), nil
}

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
