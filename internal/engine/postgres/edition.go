package postgres

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"pingo/internal/core/retry"
	"pingo/internal/core/shape"
	"pingo/internal/engine"
)

// Prepare creates an edition's table, without the indexes that a fill would only have
// to carry along.
func (e *Engine) Prepare(ctx context.Context, edition string, s *shape.Shape) error {
	return e.transaction(ctx, func(tx pgx.Tx) error { return create(ctx, tx, edition, s) })
}

func create(ctx context.Context, tx pgx.Tx, edition string, s *shape.Shape) error {
	l := layoutOf(s)
	text, err := json.Marshal(s)
	if err != nil {
		return err
	}
	definitions := []string{
		"pingo_key text COLLATE \"C\" PRIMARY KEY",
		"pingo_version bigint NOT NULL",
		"pingo_document jsonb",
		"pingo_gone timestamptz",
		"pingo_words tsvector",
		"pingo_beginnings tsvector",
		"pingo_parts text",
		"pingo_exact text[]",
	}
	for _, c := range l.columns {
		definitions = append(definitions, name(c.name)+" "+c.sqlType)
	}
	// Two processes that start together would both try to create the schema.
	if _, err := tx.Exec(ctx, "SELECT pg_advisory_xact_lock(hashtext('pingo_search'))"); err != nil {
		return err
	}
	if _, err := tx.Exec(ctx, "CREATE SCHEMA IF NOT EXISTS pingo_search"); err != nil {
		return err
	}
	if err := own(ctx, tx); err != nil { // before anything there is used
		return err
	}
	if _, err := tx.Exec(ctx, schemaSQL); err != nil {
		return err
	}
	if l.uses(shape.Infix) {
		if _, err := tx.Exec(ctx, "CREATE EXTENSION IF NOT EXISTS pg_trgm SCHEMA public"); err != nil {
			return fmt.Errorf("match: infix needs the extension pg_trgm, and creating it failed: %w", err)
		}
	}
	if _, err := tx.Exec(ctx, fmt.Sprintf("CREATE TABLE IF NOT EXISTS %s (%s) WITH (toast_tuple_target = 1024)", qualified(edition), strings.Join(definitions, ", "))); err != nil {
		return err
	}
	if _, err := tx.Exec(ctx, "INSERT INTO pingo_search.pingo_editions VALUES ($1, $2) ON CONFLICT (name) DO NOTHING", edition, text); err != nil {
		return err
	}
	return l.saveSynonyms(ctx, tx, edition)
}

// saveSynonyms replaces the rewriting rules of an edition's queries.
func (l *layout) saveSynonyms(ctx context.Context, tx pgx.Tx, edition string) error {
	if _, err := tx.Exec(ctx, "DELETE FROM pingo_search.pingo_synonyms WHERE edition = $1", edition); err != nil {
		return err
	}
	for _, group := range l.shape.Synonyms {
		_, err := tx.Exec(ctx, `INSERT INTO pingo_search.pingo_synonyms
			SELECT $1, plainto_tsquery($3::regconfig, said), (SELECT string_agg('(' || phraseto_tsquery($3::regconfig, other)::text || ')', ' | ')::tsquery FROM unnest($2::text[]) other)
			FROM unnest($2::text[]) said WHERE numnode(plainto_tsquery($3::regconfig, said)) > 0`, edition, group, l.config)
		if err != nil {
			return err
		}
	}
	return nil
}

// FinishFill builds the indexes that searches need.
func (e *Engine) FinishFill(ctx context.Context, edition string, s *shape.Shape) error {
	l := layoutOf(s)
	table := qualified(edition)
	var list []string
	index := func(suffix, using string) {
		list = append(
			list,
			fmt.Sprintf(
				"CREATE INDEX IF NOT EXISTS %s ON %s USING %s",
				name(indexName(edition, suffix)),
				table,
				using,
			),
		)
	}
	index("words", "gin (pingo_words)")
	index("gone", "btree (pingo_gone) WHERE pingo_gone IS NOT NULL")
	if l.uses(shape.Prefix) {
		index("beginnings", "gin (pingo_beginnings)")
	}
	if l.uses(shape.Infix) {
		var where string
		err := e.pool.QueryRow(ctx, "SELECT n.nspname FROM pg_extension x JOIN pg_namespace n ON n.oid = x.extnamespace WHERE x.extname = 'pg_trgm'").
			Scan(&where)
		if err != nil {
			return explain(err)
		}
		index("parts", "gin (pingo_parts "+pgx.Identifier{where, "gin_trgm_ops"}.Sanitize()+")")
	}
	if l.uses(shape.Exact) {
		index("exact", "gin (pingo_exact)")
	}
	for i, c := range l.columns {
		switch {
		case c.kind == shape.Geo && !c.repeated:
			index(fmt.Sprint("c", i), "gist ("+name(c.name)+")")
		case c.kind == shape.Geo:
		case c.repeated:
			index(fmt.Sprint("c", i), "gin ("+name(c.name)+")")
		case c.sqlType == "text":
			index(fmt.Sprint("c", i), "hash ("+name(c.name)+")") // however long the text
		default:
			index(fmt.Sprint("c", i), "btree ("+name(c.name)+")")
		}
	}
	for _, sql := range append(list, "ANALYZE "+table) {
		if _, err := e.pool.Exec(ctx, sql); err != nil {
			return explain(err)
		}
	}
	return nil
}

func indexName(edition, suffix string) string { return fmt.Sprintf("%.52s_%s", edition, suffix) }

// UpdateSettings takes new synonyms and search weights into use.
func (e *Engine) UpdateSettings(ctx context.Context, edition string, s *shape.Shape) error {
	return e.transaction(ctx, func(tx pgx.Tx) error { return layoutOf(s).saveSynonyms(ctx, tx, edition) })
}

// Copy names the table by its server's history and by what the server calls it and its file.
func (e *Engine) Copy(ctx context.Context, edition string) (copy string, err error) {
	err = e.pool.QueryRow(ctx, `SELECT coalesce((SELECT (SELECT system_identifier FROM pg_control_system()) || '/' ||
		(SELECT timeline_id FROM pg_control_checkpoint()) || '/' || c.oid || '/' || coalesce(pg_relation_filenode(c.oid), 0)
		FROM pg_class c WHERE c.oid = to_regclass($1)), '')`, qualified(edition)).Scan(&copy)
	if err != nil {
		return "", explain(err)
	}
	return copy, nil
}

// Drop deletes an edition, and the public name that points at it.
func (e *Engine) Drop(ctx context.Context, edition string) error {
	e.mu.Lock()
	delete(e.layouts, edition)
	e.mu.Unlock()
	return e.transaction(ctx, func(tx pgx.Tx) error {
		var there bool
		if err := tx.QueryRow(ctx, "SELECT to_regclass('pingo_search.pingo_editions') IS NOT NULL").Scan(&there); err != nil ||
			!there {
			return err
		}
		rows, err := tx.Query(ctx, viewsOf, edition)
		if err != nil {
			return err
		}
		views, err := pgx.CollectRows(rows, pgx.RowTo[string])
		if err != nil {
			return err
		}
		for _, view := range views {
			if _, err := tx.Exec(ctx, "DROP VIEW "+qualified(view)); err != nil {
				return err
			}
		}
		for _, sql := range []string{"DELETE FROM pingo_search.pingo_editions WHERE name = $1", "DELETE FROM pingo_search.pingo_synonyms WHERE edition = $1"} {
			if _, err := tx.Exec(ctx, sql, edition); err != nil {
				return err
			}
		}
		_, err = tx.Exec(ctx, "DROP TABLE IF EXISTS "+qualified(edition))
		return err
	})
}

// reading finds the views of the schema with what they read there.
const reading = `
	FROM pg_rewrite r
	JOIN pg_class v ON v.oid = r.ev_class AND v.relkind = 'v' AND v.relnamespace = to_regnamespace('pingo_search')
	JOIN pg_depend d ON d.classid = 'pg_rewrite'::regclass AND d.objid = r.oid AND d.refclassid = 'pg_class'::regclass AND d.refobjid <> v.oid
	JOIN pg_class t ON t.oid = d.refobjid AND t.relnamespace = v.relnamespace
	JOIN pingo_search.pingo_editions e ON e.name = t.relname`

const viewsOf = "SELECT DISTINCT v.relname::text" + reading + " WHERE t.relname = $1"

// Resolve reads which edition the view of a public name shows. Anything else of that
// very name answers for itself.
func (e *Engine) Resolve(ctx context.Context, index string) ([]string, error) {
	var there, kept bool
	err := e.pool.QueryRow(ctx, "SELECT to_regclass($1) IS NOT NULL, to_regclass('pingo_search.pingo_editions') IS NOT NULL", qualified(index)).
		Scan(&there, &kept)
	if err != nil {
		return nil, explain(err)
	}
	if !there || !kept {
		return []string{}, nil
	}
	rows, err := e.pool.Query(
		ctx,
		"SELECT DISTINCT t.relname::text"+reading+" WHERE v.relname = $1 ORDER BY 1",
		index,
	)
	if err != nil {
		return nil, explain(err)
	}
	editions, err := pgx.CollectRows(rows, pgx.RowTo[string])
	if err != nil {
		return nil, explain(err)
	}
	if len(editions) == 0 {
		return []string{index}, nil
	}
	return editions, nil
}

// Switch makes the view of a public name show another edition, in one transaction:
// in place where its columns are the same, and recreated with its grants otherwise.
func (e *Engine) Switch(ctx context.Context, index, edition string) error {
	now, err := e.Resolve(ctx, index)
	if err != nil {
		return err
	}
	if slices.Equal(now, []string{edition}) {
		return nil
	}
	if slices.Contains(now, index) {
		return &engine.Failure{
			Outcome: retry.Blocked,
			Message: fmt.Sprintf(
				"the schema %s has a table or view %s that Pingo did not make, so the name cannot show %s: rename or drop it, or give the index another name",
				schema,
				index,
				edition,
			),
		}
	}
	l, err := e.layout(ctx, edition)
	if err != nil {
		return err
	}
	columns := []string{
		"pingo_key",
		"pingo_document",
		"pingo_words",
		"pingo_beginnings",
		"pingo_parts",
		"pingo_exact",
	}
	for _, c := range l.columns {
		columns = append(columns, name(c.name))
	}
	body := fmt.Sprintf(
		"VIEW %s AS SELECT %s FROM %s WHERE pingo_document IS NOT NULL",
		qualified(index),
		strings.Join(columns, ", "),
		qualified(edition),
	)
	_, err = e.pool.Exec(ctx, "CREATE OR REPLACE "+body)
	var pg *pgconn.PgError
	if err == nil || !errors.As(err, &pg) || pg.Code != "42P16" { // other columns than before
		if err != nil {
			return explain(err)
		}
		return nil
	}
	return e.transaction(ctx, func(tx pgx.Tx) error {
		var grants []string
		rows, err := tx.Query(
			ctx,
			`SELECT format('GRANT %s ON %s TO %s', acl.privilege_type, $1::text, CASE WHEN acl.grantee = 0 THEN 'PUBLIC' ELSE quote_ident(pg_get_userbyid(acl.grantee)) END)
			FROM pg_class c, aclexplode(c.relacl) acl WHERE c.oid = to_regclass($1) AND acl.grantee <> c.relowner`,
			qualified(index),
		)
		if err == nil {
			grants, err = pgx.CollectRows(rows, pgx.RowTo[string])
		}
		if err != nil {
			return err
		}
		for _, sql := range append([]string{"DROP VIEW " + qualified(index), "CREATE " + body}, grants...) {
			if _, err := tx.Exec(ctx, sql); err != nil {
				return err
			}
		}
		return nil
	})
}

// layout gives how an edition's documents lie; a blocked failure when there is none.
func (e *Engine) layout(ctx context.Context, edition string) (*layout, error) {
	e.mu.Lock()
	l := e.layouts[edition]
	e.mu.Unlock()
	if l != nil {
		return l, nil
	}
	var text []byte
	err := e.pool.QueryRow(ctx, "SELECT shape FROM pingo_search.pingo_editions WHERE name = $1", edition).
		Scan(&text)
	var pg *pgconn.PgError
	if errors.Is(err, pgx.ErrNoRows) || errors.As(err, &pg) && (pg.Code == "42P01" || pg.Code == "3F000") {
		return nil, lost(edition)
	}
	if err != nil {
		return nil, explain(err)
	}
	var s shape.Shape
	if err := json.Unmarshal(text, &s); err != nil {
		return nil, fmt.Errorf("the stored shape of %s: %w", edition, err)
	}
	l = layoutOf(&s)
	e.mu.Lock()
	e.layouts[edition] = l
	e.mu.Unlock()
	return l, nil
}

func lost(edition string) error {
	return &engine.Failure{
		Outcome: retry.Blocked,
		Kind:    "no_such_edition",
		Message: fmt.Sprintf(
			"the engine's PostgreSQL has no edition %s: it was dropped. Pingo fills another one",
			edition,
		),
	}
}

// Editions lists the tables that were made as editions.
func (e *Engine) Editions(ctx context.Context) ([]string, error) {
	var there bool
	if err := e.pool.QueryRow(ctx, "SELECT to_regclass('pingo_search.pingo_editions') IS NOT NULL").Scan(&there); err != nil ||
		!there {
		return nil, explainOrNil(err)
	}
	rows, err := e.pool.Query(ctx, "SELECT name FROM pingo_search.pingo_editions")
	if err != nil {
		return nil, explain(err)
	}
	list, err := pgx.CollectRows(rows, pgx.RowTo[string])
	return list, explainOrNil(err)
}

func explainOrNil(err error) error {
	if err == nil {
		return nil
	}
	return explain(err)
}

// errTried ends the transaction of a trial.
var errTried = errors.New("tried")

// Try creates an edition and takes it back.
func (e *Engine) Try(ctx context.Context, s *shape.Shape) error {
	err := pgx.BeginFunc(ctx, e.pool, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, "SELECT $1::text::regconfig", layoutOf(s).config); err != nil {
			return err
		}
		if err := create(ctx, tx, "pingo_trial", s); err != nil {
			return err
		}
		return errTried
	})
	if errors.Is(err, errTried) {
		return nil
	}
	err = explain(err)
	var f *engine.Failure
	if errors.As(err, &f) && f.Outcome == retry.Refused {
		f.Outcome = retry.Blocked
	}
	return err
}
