package intake

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"sort"
	"strings"

	"pingo/internal/core/shape"
)

// The columns that every view has in addition to the properties of bodies.
const (
	KeyColumn  = "_key"
	TimeColumn = "_at"
)

// column is a property of bodies as a view shows it.
type column struct {
	Name string `json:"name"`
	Type string `json:"type"` // of PostgreSQL
}

// reads gives the SQL that reads a property of some type. One of another type than declared makes
// the read fail, so that its document is a failed one and says why.
func (c column) reads() string {
	name := literal(c.Name)
	switch element, list := strings.CutSuffix(c.Type, "[]"); {
	case list:
		return fmt.Sprintf(
			"CASE WHEN jsonb_typeof(body -> %s) = 'array' THEN ARRAY(SELECT e::%s FROM jsonb_array_elements_text(body -> %[1]s) e) ELSE (body ->> %[1]s)::%[2]s[] END",
			name,
			element,
		)
	case c.Type == "jsonb":
		return fmt.Sprintf("NULLIF(body -> %s, 'null')", name)
	case c.Type == "text":
		return "body ->> " + name
	}
	return fmt.Sprintf("(body ->> %s)::%s", name, c.Type)
}

// declared lists the properties of a JSON Schema of bodies.
func declared(schema json.RawMessage) ([]column, error) {
	type property struct {
		Type   any    `json:"type"`
		Format string `json:"format"`
		Items  *struct {
			Type any `json:"type"`
		} `json:"items"`
	}
	var root struct {
		Properties map[string]property `json:"properties"`
	}
	if err := json.Unmarshal(schema, &root); err != nil {
		return nil, fmt.Errorf("the schema of what is sent is no JSON Schema: %w", err)
	}
	if len(root.Properties) == 0 {
		return nil, fmt.Errorf("the schema of what is sent names no properties")
	}
	scalar := func(kind any, format string) string {
		switch word(kind) {
		case "integer":
			return "bigint"
		case "number":
			return "numeric"
		case "boolean":
			return "boolean"
		case "string":
			switch format {
			case "date":
				return "date"
			case "date-time":
				return "timestamptz"
			}
			return "text"
		}
		return "jsonb"
	}
	var out []column
	for name, p := range root.Properties {
		c := column{name, scalar(p.Type, p.Format)}
		if word(p.Type) == "array" && p.Items != nil {
			if of := scalar(p.Items.Type, ""); of != "jsonb" {
				c.Type = of + "[]"
			}
		}
		out = append(out, c)
	}
	sort.Slice(out, func(i, j int) bool { return out[i].Name < out[j].Name })
	return out, nil
}

// word is the type that a schema names, apart from null; empty when it names several.
func word(kind any) string {
	switch kind := kind.(type) {
	case string:
		return kind
	case []any:
		kind = slices.DeleteFunc(slices.Clone(kind), func(k any) bool { return k == "null" })
		if len(kind) == 1 {
			return word(kind[0])
		}
	}
	return ""
}

// looked is the number of newest records that are read for their properties.
const looked = 10_000

// received lists the properties that were received, with a phrase that says how often.
func (s *Store) received(ctx context.Context, record string) ([]column, string, error) {
	rows, err := s.pool.Query(
		ctx,
		fmt.Sprintf(
			`WITH newest AS (SELECT body FROM %s WHERE jsonb_typeof(body) = 'object' LIMIT %d), n AS (SELECT count(*) AS n FROM newest)
		SELECT (SELECT n FROM n), p.key, CASE jsonb_typeof(p.value) WHEN 'array' THEN coalesce((SELECT CASE WHEN count(DISTINCT jsonb_typeof(e)) = 1 THEN 'list of ' || min(jsonb_typeof(e)) ELSE 'list' END FROM jsonb_array_elements(p.value) e), 'list') ELSE jsonb_typeof(p.value) END AS kind, count(*)
		FROM newest CROSS JOIN LATERAL jsonb_each(body) p GROUP BY 2, 3 ORDER BY 2, 4 DESC, 3`,
			quote(s.schema, record),
			looked,
		),
	)
	if err != nil {
		return nil, "", explain("looking at the records of "+record, err)
	}
	defer rows.Close()
	var total int64
	kinds := map[string][]string{}
	counts := map[string][]string{}
	var names []string
	for rows.Next() {
		var name, kind string
		var n int64
		if err := rows.Scan(&total, &name, &kind, &n); err != nil {
			return nil, "", explain("looking at the records of "+record, err)
		}
		if !slices.Contains(names, name) {
			names = append(names, name)
		}
		counts[name] = append(counts[name], fmt.Sprintf("%s in %d", kind, n))
		if kind != "null" {
			kinds[name] = append(kinds[name], kind)
		}
	}
	if err := rows.Err(); err != nil {
		return nil, "", explain("looking at the records of "+record, err)
	}
	if total == 0 {
		return nil, fmt.Sprintf(
			"nothing of %s was received yet: give its record a schema, or send or load some first",
			record,
		), nil
	}
	var out []column
	var words []string
	for _, name := range names {
		out = append(out, column{name, typeOf(kinds[name])})
		words = append(words, name+" ("+strings.Join(counts[name], ", ")+")")
	}
	return out, fmt.Sprintf(
		"of %d records of %s, these have: %s",
		total,
		record,
		strings.Join(words, "; "),
	), nil
}

// Received describes the properties that were received of the records that have no schema.
func (s *Store) Received(ctx context.Context) (words []string, err error) {
	for _, r := range s.records {
		if r.Schema != nil {
			continue
		}
		_, hint, err := s.received(ctx, r.Name)
		if err != nil {
			return nil, err
		}
		words = append(words, hint)
	}
	return words, nil
}

// typeOf is the type that values of some kinds of JSON have together.
func typeOf(kinds []string) string {
	lists := map[string]string{
		"list of string":  "text[]",
		"list of number":  "numeric[]",
		"list of boolean": "boolean[]",
	}
	if len(kinds) == 1 {
		switch kinds[0] {
		case "number":
			return "numeric"
		case "boolean":
			return "boolean"
		case "object", "list", "list of object", "list of list":
			return "jsonb"
		case "string":
			return "text"
		}
		return lists[kinds[0]]
	}
	// A list that is empty is one of anything.
	if rest := slices.DeleteFunc(slices.Clone(kinds), func(k string) bool { return k == "list" }); len(
		rest,
	) == 1 &&
		lists[rest[0]] != "" {
		return lists[rest[0]]
	}
	if slices.ContainsFunc(
		kinds,
		func(k string) bool { return k == "object" || strings.HasPrefix(k, "list") },
	) {
		return "jsonb"
	}
	return "text"
}

// views lists the views that there are of each record, the newest first.
func (s *Store) views(ctx context.Context) (map[string][]shape.Ref, error) {
	rows, err := s.pool.Query(
		ctx,
		"SELECT record, generation FROM intake_view WHERE source = $1 ORDER BY record, generation DESC",
		s.source,
	)
	if err != nil {
		return nil, explain("reading the views of what is sent", err)
	}
	defer rows.Close()
	out := map[string][]shape.Ref{}
	for rows.Next() {
		var record string
		var generation int
		if err := rows.Scan(&record, &generation); err != nil {
			return nil, explain("reading the views of what is sent", err)
		}
		out[record] = append(out[record], shape.Ref{Schema: s.schema, Name: viewOf(record, generation)})
	}
	return out, explainNil("reading the views of what is sent", rows.Err())
}

func explainNil(what string, err error) error {
	if err == nil {
		return nil
	}
	return explain(what, err)
}

// view gives the view of a record that shows what the schema declares, or what was received. The
// newest one gets the columns that it lacks. Where a column would be of another type, there is a
// new generation: what reads the earlier one goes on. hint says what was received.
func (s *Store) view(ctx context.Context, r Record) (name, hint string, err error) {
	received, hint, err := s.received(ctx, r.Name)
	if err != nil {
		return "", "", err
	}
	wanted := received
	if r.Schema != nil {
		if wanted, err = declared(r.Schema); err != nil {
			return "", "", err
		}
	}
	tx, err := s.pool.Begin(ctx)
	if err != nil {
		return "", "", explain("making the view of "+r.Name, err)
	}
	defer tx.Rollback(context.WithoutCancel(ctx))
	var generation int
	var known []byte
	_, err = tx.Exec(ctx, "SELECT pg_advisory_xact_lock(hashtextextended($1, 1))", s.schema)
	if err == nil {
		err = tx.QueryRow(ctx, `SELECT coalesce(max(generation), 0), coalesce((SELECT columns FROM intake_view v WHERE source = $1 AND record = $2 ORDER BY generation DESC LIMIT 1), '[]')
			FROM intake_view WHERE source = $1 AND record = $2`, s.source, r.Name).
			Scan(&generation, &known)
	}
	if err != nil {
		return "", "", explain("reading the view of "+r.Name, err)
	}
	var columns []column
	if err := json.Unmarshal(known, &columns); err != nil {
		return "", "", fmt.Errorf("the view of %s cannot be read: %w", r.Name, err)
	}
	had := len(columns)
	columns, another := together(columns, wanted, r.Schema != nil)
	switch {
	case another || generation == 0:
		generation++
	case len(columns) == had:
		return viewOf(r.Name, generation), hint, nil
	}
	list, err := json.Marshal(columns)
	if err != nil {
		return "", "", err
	}
	shown := []string{"key AS " + quote(KeyColumn), "at AS " + quote(TimeColumn)}
	for _, c := range columns {
		shown = append(shown, c.reads()+" AS "+quote(c.Name))
	}
	name = viewOf(r.Name, generation)
	_, err = tx.Exec(
		ctx,
		fmt.Sprintf(
			"CREATE OR REPLACE VIEW %s AS SELECT %s FROM %s WHERE body IS NOT NULL",
			quote(s.schema, name),
			strings.Join(shown, ", "),
			quote(s.schema, r.Name),
		),
	)
	if err == nil {
		_, err = tx.Exec(
			ctx,
			"INSERT INTO intake_view VALUES ($1, $2, $3, $4) ON CONFLICT (source, record, generation) DO UPDATE SET columns = excluded.columns",
			s.source,
			r.Name,
			generation,
			list,
		)
	}
	if err == nil {
		err = tx.Commit(ctx)
	}
	if err != nil {
		return "", "", explain("making the view of "+r.Name, err)
	}
	return name, hint, nil
}

// together adds to the columns of a view those that it lacks. Where a declared one is of another
// type than it has there, only what is declared now makes another view; what was merely received
// first stays as it is.
func together(known, wanted []column, declared bool) (columns []column, another bool) {
	columns = slices.Clone(known)
	for _, c := range wanted {
		// PostgreSQL would cut the name off, and the view has columns of its own.
		if len(c.Name) > 63 || c.Name == "" || c.Name == KeyColumn || c.Name == TimeColumn ||
			len(columns) >= mostColumns {
			continue
		}
		i := slices.IndexFunc(columns, func(k column) bool { return k.Name == c.Name })
		switch {
		case i < 0:
			columns = append(columns, c)
		case declared && columns[i].Type != c.Type:
			columns, _ = together(nil, wanted, false)
			return columns, true
		}
	}
	return columns, false
}

const mostColumns = 1000
