package postgres

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"pingo/internal/core/definition"
	"pingo/internal/core/retry"
	"pingo/internal/core/shape"
	"pingo/internal/engine"
)

// row is a document as its edition's table holds it.
type row struct {
	document *string
	// words of the weights A to D, and those of prefix fields again.
	words, beginnings [4]strings.Builder
	parts             strings.Builder
	exact             []string
	columns           []*string // as text, in the layout's order
}

// refusal says why a document does not fit its edition.
type refusal struct{ kind, reason string }

func (r *refusal) Error() string { return r.reason }

// row takes a document apart. It refuses fields that the shape does not know and values
// that are not of their field's type.
func (l *layout) row(body []byte) (*row, error) {
	decoder := json.NewDecoder(bytes.NewReader(body))
	decoder.UseNumber()
	var doc map[string]any
	if err := decoder.Decode(&doc); err != nil {
		return nil, &refusal{"not_json", "the document is not JSON: " + err.Error()}
	}
	if bytes.Contains(body, []byte(`\u0000`)) {
		return nil, &refusal{
			"null_character",
			`the document holds the character \u0000, which PostgreSQL cannot store`,
		}
	}
	text := string(body)
	r := &row{document: &text}
	values := map[string][]any{}
	if err := l.collect(doc, "", values); err != nil {
		return nil, err
	}
	for path, list := range values {
		f := l.fields[path]
		if f == nil || f.Search == 0 {
			continue
		}
		for _, v := range list {
			if s, ok := v.(string); ok {
				r.find(l, f, s)
			}
		}
	}
	for _, c := range l.columns {
		value, err := c.text(values[c.path])
		if err != nil {
			return nil, err
		}
		r.columns = append(r.columns, value)
	}
	return r, nil
}

// find makes a text findable as its field matches.
func (r *row) find(l *layout, f *shape.Placed, text string) {
	class := l.class(f.Search)
	switch matchOf(f) {
	case shape.Exact:
		r.exact = append(r.exact, strings.ToLower(text))
		return
	case shape.Infix:
		r.parts.WriteString(strings.ToLower(text))
		r.parts.WriteByte('\n')
	case shape.Prefix:
		r.beginnings[class].WriteString(text)
		r.beginnings[class].WriteByte('\n')
	}
	r.words[class].WriteString(text)
	r.words[class].WriteByte('\n')
}

// collect gathers the values of all fields by path, and checks them.
func (l *layout) collect(v any, path string, into map[string][]any) error {
	f := l.fields[path]
	switch v := v.(type) {
	case nil:
		return nil
	case map[string]any:
		if f != nil && f.Type == shape.Object {
			return nil
		}
		if f != nil || path != "" && !l.objects[path] {
			return l.misfit(path, v)
		}
		for key, child := range v {
			at := strings.TrimPrefix(path+"."+key, ".")
			if at == definition.FingerprintField {
				continue
			}
			if l.fields[at] == nil && !l.objects[at] && at != definition.RowsField {
				return &refusal{"unknown_field", fmt.Sprintf("the document has a field %s, which the edition does not", at)}
			}
			if err := l.collect(child, at, into); err != nil {
				return err
			}
		}
		return nil
	case []any:
		if f != nil && f.Type == shape.Object {
			return nil
		}
		if f != nil && f.Type == shape.Geo && len(v) == 2 {
			if _, number := v[0].(json.Number); number {
				return l.value(f, path, v, into)
			}
		}
		for _, child := range v {
			if err := l.collect(child, path, into); err != nil {
				return err
			}
		}
		return nil
	}
	if path == definition.RowsField {
		into[path] = append(into[path], v)
		return nil
	}
	if f == nil {
		return l.misfit(path, v)
	}
	return l.value(f, path, v, into)
}

func (l *layout) value(f *shape.Placed, path string, v any, into map[string][]any) error {
	number, isNumber := v.(json.Number)
	text, isText := v.(string)
	_, isBool := v.(bool)
	fits := false
	switch f.Type {
	case shape.Text, shape.Keyword:
		fits = isText
	case shape.Integer:
		_, err := strconv.ParseInt(number.String(), 10, 64)
		fits = isNumber && err == nil
	case shape.Decimal:
		_, err := number.Float64()
		fits = isNumber && err == nil
	case shape.Boolean:
		fits = isBool
	case shape.Date, shape.Timestamp:
		fits = isText && moment.MatchString(text)
	case shape.Geo:
		fits = place(v)
	case shape.Object:
		return nil
	}
	if !fits {
		return l.misfit(path, v)
	}
	into[path] = append(into[path], v)
	return nil
}

func (l *layout) misfit(path string, v any) error {
	shown, err := json.Marshal(v)
	if err != nil {
		return err
	}
	kind := "an object"
	if f := l.fields[path]; f != nil {
		kind = string(f.Type)
	}
	return &refusal{"wrong_type", fmt.Sprintf("field %s is %s, which %.60s is not", path, kind, shown)}
}

// moment is what documents hold for dates and times: ISO 8601, years of more than four
// digits and before the first with a sign.
var moment = regexp.MustCompile(`^(\d{4}|[+-]\d{4,9})-(\d\d-\d\d)(?:T([0-9:.]+)(Z?))?$`)

func place(v any) bool {
	pair, ok := v.([]any)
	if !ok || len(pair) != 2 {
		return false
	}
	for i, limit := range []float64{180, 90} {
		number, ok := pair[i].(json.Number)
		f, err := number.Float64()
		if !ok || err != nil || f < -limit || f > limit {
			return false
		}
	}
	return true
}

// text writes a column's values as PostgreSQL reads them; nil is NULL.
func (c *column) text(values []any) (*string, error) {
	if len(values) == 0 {
		return nil, nil
	}
	texts := make([]string, len(values))
	for i, v := range values {
		switch v := v.(type) {
		case []any:
			texts[i] = fmt.Sprintf("(%v,%v)", v[0], v[1])
		case string:
			texts[i] = v
			if c.kind == shape.Date || c.kind == shape.Timestamp {
				texts[i] = databaseTime(v)
			}
		default:
			texts[i] = fmt.Sprint(v)
		}
	}
	if !c.repeated {
		return &texts[0], nil
	}
	var b strings.Builder
	b.WriteByte('{')
	for i, t := range texts {
		if i > 0 {
			b.WriteByte(',')
		}
		b.WriteString(`"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(t) + `"`)
	}
	b.WriteByte('}')
	text := b.String()
	return &text, nil
}

// databaseTime writes ISO 8601's years as PostgreSQL does: -0043 is 0044 BC.
func databaseTime(text string) string {
	m := moment.FindStringSubmatch(text)
	year, err := strconv.Atoi(m[1])
	if err != nil {
		return text
	}
	era := ""
	if year < 1 {
		year, era = 1-year, " BC"
	}
	out := fmt.Sprintf("%04d-%s", year, m[2])
	if m[3] != "" {
		out += " " + m[3]
	}
	if m[4] != "" {
		out += "+00"
	}
	return out + era
}

// Deliver writes documents in one transaction where that works; where the database
// refuses one of them, each on its own.
func (e *Engine) Deliver(ctx context.Context, edition string, docs []engine.Document) ([]engine.Result, error) {
	l, err := e.layout(ctx, edition)
	var f *engine.Failure
	if errors.As(err, &f) && f.Outcome == retry.Blocked {
		return engine.Blocked(docs, f), nil
	}
	if err != nil {
		return nil, err
	}
	results := make([]engine.Result, len(docs))
	var fit []int
	rows := make([]*row, len(docs))
	for i, d := range docs {
		rows[i] = &row{columns: make([]*string, len(l.columns))}
		if d.Body != nil {
			if rows[i], err = l.row(d.Body); err != nil {
				var r *refusal
				if !errors.As(err, &r) {
					return nil, err
				}
				results[i] = engine.Result{Outcome: retry.Refused, Kind: r.kind, Reason: r.reason}
				continue
			}
		}
		fit = append(fit, i)
	}
	for len(fit) > 0 {
		// A key that comes again waits for the next statement.
		var now, later []int
		seen := map[string]bool{}
		for _, i := range fit {
			if seen[docs[i].Key] {
				later = append(later, i)
				continue
			}
			seen[docs[i].Key] = true
			now = append(now, i)
		}
		if err := e.write(ctx, edition, l, docs, rows, now, results); err != nil {
			var f *engine.Failure
			var pg *pgconn.PgError
			if errors.As(err, &pg) && (pg.Code == "42P01" || pg.Code == "3F000") {
				e.mu.Lock()
				delete(e.layouts, edition)
				e.mu.Unlock()
				errors.As(lost(edition), &f)
				return engine.Blocked(docs, f), nil
			}
			return nil, explain(err)
		}
		fit = later
	}
	return results, e.sweep(ctx, edition)
}

// write writes some of the documents, whose keys differ.
func (e *Engine) write(
	ctx context.Context,
	edition string,
	l *layout,
	docs []engine.Document,
	rows []*row,
	which []int,
	results []engine.Result,
) error {
	taken, err := e.upsert(ctx, edition, l, docs, rows, which)
	var pg *pgconn.PgError
	if errors.As(err, &pg) && (strings.HasPrefix(pg.Code, "22") || strings.HasPrefix(pg.Code, "54")) {
		if len(which) == 1 {
			results[which[0]] = engine.Result{Outcome: retry.Refused, Kind: pg.Code, Reason: pg.Message}
			return nil
		}
		for _, i := range which {
			if err := e.write(ctx, edition, l, docs, rows, []int{i}, results); err != nil {
				return err
			}
		}
		return nil
	}
	if err != nil {
		return err
	}
	var newer []string
	for _, i := range which {
		if results[i].Outcome = retry.Done; !taken[docs[i].Key] {
			results[i].Outcome, newer = retry.Newer, append(newer, docs[i].Key)
		}
	}
	if len(newer) == 0 {
		return nil
	}
	result, err := e.pool.Query(ctx, "SELECT pingo_key, pingo_version FROM "+qualified(edition)+" WHERE pingo_key = ANY($1)", newer)
	if err != nil {
		return err
	}
	held := map[string]int64{}
	var key string
	var version int64
	_, err = pgx.ForEachRow(result, []any{&key, &version}, func() error { held[key] = version; return nil })
	for _, i := range which {
		if results[i].Outcome == retry.Newer {
			results[i].Held = held[docs[i].Key]
		}
	}
	return err
}

func (e *Engine) upsert(
	ctx context.Context,
	edition string,
	l *layout,
	docs []engine.Document,
	rows []*row,
	which []int,
) (map[string]bool, error) {
	names := []string{
		"pingo_key",
		"pingo_version",
		"pingo_document",
		"pingo_words",
		"pingo_beginnings",
		"pingo_parts",
		"pingo_exact",
	}
	vector := func(first int) string {
		parts := make([]string, 4)
		for i, class := range []string{"A", "B", "C", "D"} {
			parts[i] = fmt.Sprintf(
				"setweight(to_tsvector(%s::regconfig, coalesce(v.c%d, '')), '%s')",
				literal(l.config),
				first+i,
				class,
			)
		}
		return strings.Join(parts, " || ")
	}
	selects := []string{"v.c0", "v.c1::bigint", "v.c2::jsonb", vector(3), vector(7), "v.c11", "v.c12::text[]"}
	params := make([][]*string, 13+len(l.columns))
	for _, i := range which {
		r := rows[i]
		version := strconv.FormatInt(docs[i].Version, 10)
		values := []*string{&docs[i].Key, &version, r.document}
		for _, group := range []*[4]strings.Builder{&r.words, &r.beginnings} {
			for class := range group {
				text := group[class].String()
				values = append(values, &text)
			}
		}
		parts := r.parts.String()
		exact, err := (&column{repeated: true}).text(anys(r.exact))
		if err != nil {
			return nil, err
		}
		values = append(append(values, &parts, exact), r.columns...)
		for c, v := range values {
			params[c] = append(params[c], v)
		}
	}
	for i, c := range l.columns {
		names = append(names, name(c.name))
		selects = append(selects, fmt.Sprintf("v.c%d::%s", 13+i, c.sqlType))
	}
	arguments := make([]any, len(params))
	lists := make([]string, len(params))
	columns := make([]string, len(params))
	for i := range params {
		arguments[i], lists[i], columns[i] = params[i], fmt.Sprintf("$%d::text[]", i+1), fmt.Sprintf("c%d", i)
	}
	sets := make([]string, 0, len(names))
	for _, n := range names[1:] {
		sets = append(sets, n+" = excluded."+n)
	}
	sql := fmt.Sprintf(
		`INSERT INTO %s AS t (%s, pingo_gone) SELECT %s, CASE WHEN v.c2 IS NULL THEN now() END FROM unnest(%s) AS v(%s)
		ON CONFLICT (pingo_key) DO UPDATE SET %s, pingo_gone = excluded.pingo_gone WHERE t.pingo_version < excluded.pingo_version RETURNING t.pingo_key`,
		qualified(
			edition,
		),
		strings.Join(names, ", "),
		strings.Join(selects, ", "),
		strings.Join(lists, ", "),
		strings.Join(columns, ", "),
		strings.Join(sets, ", "),
	)
	result, err := e.pool.Pool.Query(ctx, sql, arguments...)
	if err != nil {
		return nil, err
	}
	keys, err := pgx.CollectRows(result, pgx.RowTo[string])
	if err != nil {
		return nil, err
	}
	taken := make(map[string]bool, len(keys))
	for _, k := range keys {
		taken[k] = true
	}
	return taken, nil
}

func anys(list []string) []any {
	out := make([]any, len(list))
	for i := range list {
		out[i] = list[i]
	}
	return out
}

// How long the version of a deletion is remembered.
const (
	rememberGone = time.Hour
	sweepEvery   = time.Minute
)

// sweep forgets deletions that are long past.
func (e *Engine) sweep(ctx context.Context, edition string) error {
	e.mu.Lock()
	due := time.Since(e.swept[edition]) > sweepEvery
	if due {
		e.swept[edition] = time.Now()
	}
	e.mu.Unlock()
	if !due {
		return nil
	}
	_, err := e.pool.Exec(
		ctx,
		fmt.Sprintf(
			"DELETE FROM %s WHERE pingo_gone < now() - interval '%d seconds'",
			qualified(edition),
			int(rememberGone.Seconds()),
		),
	)
	if err != nil {
		return explain(err)
	}
	return nil
}

// Count counts documents.
func (e *Engine) Count(ctx context.Context, edition string) (n int64, err error) {
	if err := e.pool.QueryRow(ctx, "SELECT count(*) FROM "+qualified(edition)+" WHERE pingo_document IS NOT NULL").Scan(&n); err != nil {
		return 0, explain(err)
	}
	return n, nil
}

// Get reads documents by key.
func (e *Engine) Get(ctx context.Context, edition string, keys []string) (map[string]json.RawMessage, error) {
	rows, err := e.pool.Query(
		ctx,
		"SELECT pingo_key, pingo_document FROM "+qualified(
			edition,
		)+" WHERE pingo_document IS NOT NULL AND pingo_key = ANY($1)",
		keys,
	)
	if err != nil {
		return nil, explain(err)
	}
	found := map[string]json.RawMessage{}
	var key string
	var doc []byte
	if _, err := pgx.ForEachRow(rows, []any{&key, &doc}, func() error {
		found[key] = slices.Clone(doc)
		return nil
	}); err != nil {
		return nil, explain(err)
	}
	return found, nil
}

// Fingerprints reads those of documents by key.
func (e *Engine) Fingerprints(ctx context.Context, edition string, keys []string) (map[string]string, error) {
	rows, err := e.pool.Query(
		ctx,
		fmt.Sprintf(
			"SELECT pingo_key, coalesce(pingo_document->>'%s', '') FROM %s WHERE pingo_document IS NOT NULL AND pingo_key = ANY($1)",
			definition.FingerprintField,
			qualified(edition),
		),
		keys,
	)
	if err != nil {
		return nil, explain(err)
	}
	found := make(map[string]string, len(keys))
	var key, fingerprint string
	if _, err := pgx.ForEachRow(rows, []any{&key, &fingerprint}, func() error {
		found[key] = fingerprint
		return nil
	}); err != nil {
		return nil, explain(err)
	}
	return found, nil
}

// Scan walks all documents by key, a page at a time.
func (e *Engine) Scan(ctx context.Context, edition string, each func(key, fingerprint string) error) error {
	const page = 5000
	type pair struct{ Key, Fingerprint string }
	last := ""
	for {
		rows, err := e.pool.Query(
			ctx,
			fmt.Sprintf(
				"SELECT pingo_key, coalesce(pingo_document->>'%s', '') FROM %s WHERE pingo_document IS NOT NULL AND pingo_key > $1 ORDER BY pingo_key LIMIT %d",
				definition.FingerprintField,
				qualified(edition),
				page,
			),
			last,
		)
		if err != nil {
			return explain(err)
		}
		list, err := pgx.CollectRows(rows, pgx.RowToStructByPos[pair])
		if err != nil {
			return explain(err)
		}
		for _, p := range list {
			if err := each(p.Key, p.Fingerprint); err != nil {
				return err
			}
			last = p.Key
		}
		if len(list) < page {
			return nil
		}
	}
}
