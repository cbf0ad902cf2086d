package postgres

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sort"
	"strings"
	"time"

	"github.com/cespare/xxhash/v2"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"pingo/internal/core/shape"
	"pingo/internal/source"
)

// The journal: a row for each changed row. layout says which table it was, and
// which columns key, before and after hold: one column's value as text, or those of
// several as the text of an array. Keep it lean: every write of the application
// pays for it.
const journalSQL = `CREATE SCHEMA IF NOT EXISTS pingo_capture;

-- One row: who reads the journal. mark moves on while somebody does, so that an older copy
-- of the database can be told from what it was.
CREATE TABLE IF NOT EXISTS pingo_capture.owner (
    service text PRIMARY KEY,
    holder text,
    epoch bigint,
    mark bigint NOT NULL DEFAULT 0
);

CREATE TABLE IF NOT EXISTS pingo_capture.layouts (
    id int PRIMARY KEY,
    schema_name text NOT NULL,
    table_name text NOT NULL,
    key text[] NOT NULL,
    watch text[] NOT NULL,
    links text[] NOT NULL
);

-- It begins at the microseconds of now, so that the numbers of a journal that was
-- removed never come again in the next one.
DO $pingo$ BEGIN
    IF to_regclass('pingo_capture.journal_seq') IS NULL THEN
        EXECUTE format('CREATE SEQUENCE pingo_capture.journal_seq START %s', (extract(epoch FROM clock_timestamp()) * 1000000)::bigint);
    END IF;
END $pingo$;

CREATE TABLE IF NOT EXISTS pingo_capture.journal (
    seq bigint NOT NULL DEFAULT nextval('pingo_capture.journal_seq'),
    at timestamptz NOT NULL DEFAULT clock_timestamp(),
    layout int NOT NULL,
    op "char" NOT NULL,
    key text,
    before text,
    after text
) WITH (autovacuum_vacuum_scale_factor = 0, autovacuum_vacuum_threshold = 2000,
    autovacuum_vacuum_insert_threshold = -1, autovacuum_analyze_threshold = 1000000000);

CREATE INDEX IF NOT EXISTS journal_seq_idx ON pingo_capture.journal (seq);

-- What a materialised view looked like when its last refresh was noticed, or of which parts a
-- table consisted.
CREATE TABLE IF NOT EXISTS pingo_capture.refreshed (
    layout int PRIMARY KEY,
    mark text
);
`

// needed is what one table needs, with what only its database knows.
type needed struct {
	shape.Captured
	// rewritten: triggers of the application may change any column of a row before
	// an update writes it, whatever columns the update names.
	rewritten bool
	// texts are the ways to read columns of keys and links whose own text depends
	// on settings of the session.
	texts map[string]string
	// partitions are the tables that hold the rows of a partitioned one, and children those
	// that inherit from it: reading it reads their rows, too, but triggers do not pass on.
	partitions, children []shape.Ref
	// byStatement: changes are noted once for each statement, which costs less where many rows are
	// written together. It is for tables whose rows keep their keys, and that have no partitions.
	byStatement bool
}

// layoutID names a layout by its content, so that the same need always makes the
// same SQL.
func layoutID(c needed) int32 {
	return int32(
		xxhash.Sum64String(
			fmt.Sprintf("%q %q %q %q %v %q %v", c.Table, c.Key, c.Watch, c.Links, c.rewritten, c.texts, c.byStatement),
		) & 0x7fffffff,
	)
}

// triggers lists a table's triggers; each has a function of its own, since a
// function that must find out what happened costs more than the row it writes.
var triggers = []string{"insert", "update", "key", "delete", "truncate"}

// tableSQL is what one table needs: its layout, its trigger functions and triggers.
// The functions run with their owner's rights, so that the application needs none
// on the journal; they name everything by schema, so no search path can mislead them.
//
// An update that names none of the watched columns is passed over before anything
// is called. One that names some but changes none writes nothing: that is decided
// inside the INSERT, since PostgreSQL reads a WHEN clause anew for every statement.
//
// What names columns stands in functions with SQL-standard bodies, which PostgreSQL
// keeps by the column, not by its name: a renamed column breaks no write.
func tableSQL(c needed) string {
	id, table := layoutID(c), quote(c.Table)
	// A mark that was made under another layout stays, so that no change is forgotten.
	mark := fmt.Sprintf(
		"INSERT INTO pingo_capture.refreshed SELECT %d, coalesce((SELECT r.mark FROM pingo_capture.refreshed r JOIN pingo_capture.layouts l ON l.id = r.layout\n"+
			"    WHERE (l.schema_name, l.table_name) = (%s, %s) LIMIT 1), "+refreshMark+") FROM pg_class v WHERE v.oid = to_regclass(%[4]s) ON CONFLICT DO NOTHING;\n"+
			"DELETE FROM pingo_capture.refreshed r USING pingo_capture.layouts l WHERE r.layout = l.id AND l.id <> %[1]d AND (l.schema_name, l.table_name) = (%[2]s, %[3]s);\n",
		id,
		literal(c.Table.Schema),
		literal(c.Table.Name),
		literal(table),
	)
	if c.Refreshed {
		return fmt.Sprintf(
			"INSERT INTO pingo_capture.layouts VALUES (%d, %s, %s, '{}', '{}', '{}') ON CONFLICT DO NOTHING;\n",
			id,
			literal(c.Table.Schema),
			literal(c.Table.Name),
		) + mark
	}
	side := func(part string, columns []string, row string) string {
		if len(columns) == 0 {
			return "NULL"
		}
		return fmt.Sprintf("pingo_capture.%s_%d(%s)", part, id, row)
	}
	note := func(op, key, before, after, where string) string {
		return fmt.Sprintf(
			"INSERT INTO pingo_capture.journal (layout, op, key, before, after)\n    SELECT %d, '%s', %s, %s, %s%s;",
			id,
			op,
			key,
			before,
			after,
			where,
		)
	}
	names := func(columns []string) string {
		quoted := make([]string, len(columns))
		for i, c := range columns {
			quoted[i] = literal(c)
		}
		return "ARRAY[" + strings.Join(quoted, ", ") + "]::text[]"
	}
	old, fresh := side("links", c.Links, "OLD"), side("links", c.Links, "NEW")
	oldKey, freshKey := side("key", c.Key, "OLD"), side("key", c.Key, "NEW")
	bodies := map[string]string{
		"insert": note("i", freshKey, "NULL", fresh, ""),
		"update": note(
			"u",
			freshKey,
			old,
			fresh,
			fmt.Sprintf("\n    WHERE pingo_capture.changed_%d(OLD, NEW)", id),
		),
		"key": note(
			"d",
			oldKey,
			"NULL",
			"NULL",
			"\n    WHERE "+oldKey+" OPERATOR(pg_catalog.<>) "+freshKey,
		),
		"delete":   note("d", oldKey, old, "NULL", ""),
		"truncate": note("t", "NULL", "NULL", "NULL", ""),
	}
	if c.byStatement {
		was, is := "o::"+table, "n::"+table
		bodies["insert"] = note("i", side("key", c.Key, is), "NULL", side("links", c.Links, is), "\n    FROM fresh n")
		bodies["update"] = note(
			"u", side("key", c.Key, is), side("links", c.Links, was), side("links", c.Links, is),
			fmt.Sprintf(
				"\n    FROM fresh n JOIN was o ON %s OPERATOR(pg_catalog.=) %s WHERE pingo_capture.changed_%d(%s, %s)",
				side("key", c.Key, was), side("key", c.Key, is), id, was, is,
			),
		)
		bodies["delete"] = note("d", side("key", c.Key, was), side("links", c.Links, was), "NULL", "\n    FROM was o")
	}
	of := func(columns []string) string {
		if c.rewritten {
			return "UPDATE"
		}
		return "UPDATE OF " + quoteNames(columns, "")
	}
	event := func(trigger, table string) string {
		if c.byStatement {
			switch trigger {
			case "insert":
				return "INSERT ON " + table + " REFERENCING NEW TABLE AS fresh FOR EACH STATEMENT"
			case "update":
				return "UPDATE ON " + table + " REFERENCING OLD TABLE AS was NEW TABLE AS fresh FOR EACH STATEMENT"
			case "delete":
				return "DELETE ON " + table + " REFERENCING OLD TABLE AS was FOR EACH STATEMENT"
			}
		}
		return map[string]string{
			"insert":   "INSERT ON " + table + " FOR EACH ROW",
			"update":   of(c.Watch) + " ON " + table + " FOR EACH ROW",
			"key":      of(c.Key) + " ON " + table + " FOR EACH ROW",
			"delete":   "DELETE ON " + table + " FOR EACH ROW",
			"truncate": "TRUNCATE ON " + table + " FOR EACH STATEMENT",
		}[trigger]
	}
	var b strings.Builder
	fmt.Fprintf(
		&b,
		"INSERT INTO pingo_capture.layouts VALUES (%d, %s, %s, %s, %s, %s) ON CONFLICT DO NOTHING;\n",
		id,
		literal(c.Table.Schema),
		literal(c.Table.Name),
		names(c.Key),
		names(c.Watch),
		names(c.Links),
	)
	part := func(name, parameters, returns, body string) {
		fmt.Fprintf(
			&b,
			"CREATE OR REPLACE FUNCTION pingo_capture.%s_%d(%s) RETURNS %s LANGUAGE sql STABLE RETURN %s;\n",
			name,
			id,
			parameters,
			returns,
			body,
		)
	}
	part("changed", "o "+table+", n "+table, "boolean", changed(c.Watch))
	if len(c.Key) > 0 {
		part("key", "r "+table, "text", c.asText(c.Key))
	}
	if len(c.Links) > 0 {
		part("links", "r "+table, "text", c.asText(c.Links))
	}
	for _, t := range triggers {
		fmt.Fprintf(&b, "DROP TRIGGER IF EXISTS pingo_%s ON %s;\n", t, table)
		if t == "key" && len(c.Key) == 0 {
			continue // rows without a key are known by their links alone
		}
		plan := ""
		if c.byStatement && t == "update" {
			plan = " SET enable_nestloop = off" // it is planned by the first statement, which may have one row
		}
		fmt.Fprintf(
			&b,
			"CREATE OR REPLACE FUNCTION pingo_capture.note_%d_%s() RETURNS trigger LANGUAGE plpgsql SECURITY DEFINER%s AS $pingo$\nBEGIN\n    %s\n    RETURN NULL;\nEND $pingo$;\n",
			id,
			t,
			plan,
			bodies[t],
		)
		fmt.Fprintf(
			&b,
			"CREATE TRIGGER pingo_%s AFTER %s\n    EXECUTE FUNCTION pingo_capture.note_%d_%[1]s();\n",
			t,
			event(t, table),
			id,
		)
		fmt.Fprintf(&b, "ALTER TABLE %s ENABLE ALWAYS TRIGGER pingo_%s;\n", table, t)
		for _, child := range c.children {
			name := quote(child)
			fmt.Fprintf(
				&b,
				"DROP TRIGGER IF EXISTS pingo_%d_%s ON %s;\nCREATE TRIGGER pingo_%[1]d_%[2]s AFTER %[4]s\n    EXECUTE FUNCTION pingo_capture.note_%[1]d_%[2]s();\nALTER TABLE %[3]s ENABLE ALWAYS TRIGGER pingo_%[1]d_%[2]s;\n",
				id,
				t,
				name,
				event(t, name),
			)
		}
	}
	b.WriteString(mark)
	if len(c.children) > 0 { // what was written to them before went unnoticed
		fmt.Fprintf(&b, "INSERT INTO pingo_capture.journal (layout, op) VALUES (%d, 't');\n", id)
	}
	for _, partition := range c.partitions {
		// Row triggers pass on to partitions by themselves; what empties one does not.
		name := quote(partition)
		fmt.Fprintf(
			&b,
			"DROP TRIGGER IF EXISTS pingo_truncate ON %s;\nCREATE TRIGGER pingo_truncate AFTER TRUNCATE ON %[1]s FOR EACH STATEMENT\n    EXECUTE FUNCTION pingo_capture.note_%[2]d_truncate();\nALTER TABLE %[1]s ENABLE ALWAYS TRIGGER pingo_truncate;\n",
			name,
			id,
		)
	}
	return b.String()
}

// changed compares columns by their stored bytes: it works for types that have no
// equality, and sees 1.0 become 1.00.
func changed(columns []string) string {
	return fmt.Sprintf(
		"ROW(%s)::record OPERATOR(pg_catalog.*<>) ROW(%s)::record",
		quoteNames(columns, "(o)."),
		quoteNames(columns, "(n)."),
	)
}

// asText writes columns of a row as the journal holds them.
func (c needed) asText(columns []string) string {
	values := make([]string, len(columns))
	for i, name := range columns {
		way := c.texts[name]
		if way == "" {
			way = asPlain
		}
		values[i] = strings.ReplaceAll(way, "%s", "(r)."+quoteName(name))
	}
	if len(values) == 1 {
		return values[0]
	}
	return "ARRAY[" + strings.Join(values, ", ") + "]::pg_catalog.text"
}

// below lists the tables whose rows are read with those of the table $1: its partitions and
// children, and theirs.
const below = `WITH RECURSIVE below(oid) AS (
	SELECT inhrelid FROM pg_inherits WHERE inhparent = $1
	UNION SELECT i.inhrelid FROM pg_inherits i JOIN below ON i.inhparent = below.oid
) `

// needs adds to what is to be captured what only the database knows.
func (p *Capture) needs(ctx context.Context, list []shape.Captured) ([]needed, error) {
	out := make([]needed, len(list))
	tx, err := p.pool.Begin(ctx)
	if err != nil {
		return nil, explain(err)
	}
	defer tx.Rollback(context.WithoutCancel(ctx))
	for i, c := range list {
		n := &out[i]
		n.Captured, n.texts, n.byStatement = c, map[string]string{}, p.byStatement
		var oid *uint32
		err := tx.QueryRow(ctx, `SELECT to_regclass($1)::oid, EXISTS (SELECT FROM pg_trigger WHERE tgrelid = to_regclass($1) AND NOT tgisinternal
			AND tgtype & 2 <> 0 AND tgtype & 16 <> 0)`, quote(c.Table)).
			Scan(&oid, &n.rewritten)

			// before, update
		if err != nil {
			return nil, wrap("reading the triggers of "+c.Table.String(), err)
		}
		if oid == nil {
			return nil, fmt.Errorf(
				"there is no table %s any more: take it out of the definition, or put it back",
				c.Table,
			)
		}
		types, err := columns(ctx, tx, *oid, false)
		if err != nil {
			return nil, wrap("reading the columns of "+c.Table.String(), err)
		}
		// An edition that is about to be replaced may still know a column by a name that
		// it no longer has; it is read no more, and must not stand in the way.
		there := func(names []string) []string {
			return slices.DeleteFunc(slices.Clone(names), func(name string) bool {
				return !slices.ContainsFunc(types, func(col shape.TableColumn) bool { return col.Name == name })
			})
		}
		n.Key, n.Watch, n.Links = there(c.Key), there(c.Watch), there(c.Links)
		for _, col := range types {
			if as := treatments[col.Form].keyAs; as != "" &&
				(slices.Contains(c.Key, col.Name) || slices.Contains(c.Links, col.Name)) {
				n.texts[col.Name] = as
			}
		}
		rows, err := tx.Query(
			ctx,
			`SELECT n.nspname, c.relname FROM pg_partition_tree($1) t JOIN pg_class c ON c.oid = t.relid JOIN pg_namespace n ON n.oid = c.relnamespace
			WHERE t.level > 0 AND c.relkind IN ('r', 'p') ORDER BY 1, 2`,
			*oid,
		)
		if err == nil {
			n.partitions, err = pgx.CollectRows(rows, func(row pgx.CollectableRow) (r shape.Ref, err error) {
				return r, row.Scan(&r.Schema, &r.Name)
			})
		}
		if err != nil {
			return nil, wrap("reading the partitions of "+c.Table.String(), err)
		}
		rows, err = tx.Query(
			ctx,
			below+`SELECT n.nspname, c.relname FROM below JOIN pg_class c ON c.oid = below.oid JOIN pg_namespace n ON n.oid = c.relnamespace
			WHERE NOT c.relispartition AND c.relkind = 'r' ORDER BY 1, 2`,
			*oid,
		)
		if err == nil {
			n.children, err = pgx.CollectRows(rows, func(row pgx.CollectableRow) (r shape.Ref, err error) {
				return r, row.Scan(&r.Schema, &r.Name)
			})
		}
		if err != nil {
			return nil, wrap("reading what inherits from "+c.Table.String(), err)
		}
	}
	return out, nil
}

// Script is all that Install runs, with the least grants that Pingo
// needs when another user runs it.
func (p *Capture) Script(ctx context.Context, need []shape.Captured) (string, error) {
	list, err := p.needs(ctx, need)
	if err != nil {
		return "", err
	}
	var user string
	if err := p.pool.QueryRow(ctx, "SELECT current_user").Scan(&user); err != nil {
		return "", explain(err)
	}
	var b strings.Builder
	b.WriteString(
		"-- What Pingo installs to notice changes. Run it as the owner of the tables;\n-- creating a trigger waits for writers, so set a short lock_timeout and try again.\nSET lock_timeout = '2s';\n\n",
	)
	b.WriteString(journalSQL)
	for _, c := range list {
		fmt.Fprintf(&b, "\n-- %s\n%s", c.Table, tableSQL(c))
	}
	role := quoteName(user)
	fmt.Fprintf(
		&b,
		"\n-- The least that Pingo needs to read, as %s.\nGRANT USAGE ON SCHEMA pingo_capture TO %s;\nGRANT SELECT, INSERT, UPDATE ON pingo_capture.owner TO %s;\nGRANT SELECT ON pingo_capture.layouts, pingo_capture.journal_seq TO %s;\nGRANT SELECT, INSERT, DELETE ON pingo_capture.journal TO %s;\nGRANT USAGE ON SEQUENCE pingo_capture.journal_seq TO %s;\nGRANT SELECT, UPDATE ON pingo_capture.refreshed TO %s;\n",
		user,
		role,
		role,
		role,
		role,
		role,
		role,
	)
	var grants []string
	for _, c := range need {
		for _, table := range append([]shape.Ref{c.Table}, c.Views...) {
			grants = append(
				grants,
				fmt.Sprintf("GRANT USAGE ON SCHEMA %s TO %s;", quoteName(table.Schema), role),
				fmt.Sprintf("GRANT SELECT ON %s TO %s;", quote(table), role),
			)
		}
	}
	b.WriteString(strings.Join(distinct(grants), "\n") + "\n")
	return b.String(), nil
}

// Install installs what is missing or different, a table at a time, each in
// a transaction of its own. It claims the journal for one service: two that read
// it would each take changes away from the other.
func (p *Capture) Install(ctx context.Context, service string, need []shape.Captured) ([]shape.Ref, error) {
	installed, err := p.installedLayouts(ctx)
	if err != nil {
		return nil, err
	}
	if installed == nil {
		if _, err := p.pool.Exec(ctx, journalSQL); err != nil {
			return nil, wrap("creating the journal", err)
		}
	}
	if err := p.claim(ctx, service); err != nil {
		return nil, err
	}
	list, err := p.needs(ctx, need)
	if err != nil {
		return nil, err
	}
	var made []shape.Ref
	wanted := map[shape.Ref]bool{}
	for _, c := range list {
		wanted[c.Table] = true
		if installed[c.Table] == layoutID(c) {
			continue
		}
		if err := p.locked(ctx, tableSQL(c)); err != nil {
			return made, wrap("installing triggers on "+c.Table.String(), err)
		}
		made = append(made, c.Table)
	}
	for table := range installed {
		if !wanted[table] {
			if err := p.dropTriggers(ctx, table); err != nil {
				return made, err
			}
		}
	}
	return made, p.dropUnused(ctx)
}

// dropUnused drops the functions that no trigger calls any more. Their layouts stay,
// since rows of theirs may still wait in the journal.
func (p *Capture) dropUnused(ctx context.Context) error {
	var sql *string
	err := p.pool.QueryRow(ctx, `SELECT string_agg('DROP FUNCTION ' || f.oid::regprocedure, '; ') FROM pg_proc f
		WHERE f.pronamespace = 'pingo_capture'::regnamespace AND NOT EXISTS (
			SELECT FROM pg_trigger t JOIN pg_proc used ON used.oid = t.tgfoid
			WHERE used.pronamespace = f.pronamespace AND split_part(used.proname, '_', 2) = split_part(f.proname, '_', 2))`).Scan(&sql)
	if err == nil && sql != nil {
		_, err = p.pool.Exec(ctx, *sql)
	}
	if err != nil {
		return wrap("dropping trigger functions that are used no more", err)
	}
	return nil
}

// locked runs DDL in one transaction, and tries again when writers hold the table.
func (p *Capture) locked(ctx context.Context, sql string) error {
	for attempt := 1; ; attempt++ {
		_, err := p.pool.Exec(ctx, sql)
		var pg *pgconn.PgError
		if attempt == 5 || !errors.As(err, &pg) || pg.Code != "55P03" {
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(time.Duration(attempt) * 200 * time.Millisecond):
		}
	}
}

func (p *Capture) claim(ctx context.Context, service string) error {
	_, err := p.pool.Exec(
		ctx,
		"INSERT INTO pingo_capture.owner (service) SELECT $1 WHERE NOT EXISTS (SELECT FROM pingo_capture.owner)",
		service,
	)
	if err != nil {
		return wrap("claiming the journal", err)
	}
	var owner string
	if err := p.pool.QueryRow(ctx, "SELECT service FROM pingo_capture.owner").Scan(&owner); err != nil {
		return wrap("reading the journal's owner", err)
	}
	if owner != service {
		return fmt.Errorf(
			"another Pingo service (%s) reads this database's journal already: remove its capture first (pingo capture remove), or use its records database",
			owner,
		)
	}
	return nil
}

// bareChildren lists the tables that inherit from a table c, directly or not, and on which not
// as many triggers stand as on c itself, the ones for partitions aside.
const bareChildren = `
	WITH RECURSIVE below(oid) AS (
		SELECT inhrelid FROM pg_inherits WHERE inhparent = c.oid
		UNION SELECT i.inhrelid FROM pg_inherits i JOIN below ON i.inhparent = below.oid
	), ours AS (
		SELECT t.tgrelid, t.tgfoid FROM pg_trigger t JOIN pg_proc f ON f.oid = t.tgfoid
		WHERE f.pronamespace = 'pingo_capture'::regnamespace AND t.tgenabled = 'A'
	)
	SELECT FROM below JOIN pg_class child ON child.oid = below.oid AND NOT child.relispartition AND child.relkind = 'r'
	WHERE EXISTS (SELECT FROM ours mine WHERE mine.tgrelid = c.oid
		AND NOT EXISTS (SELECT FROM ours theirs WHERE theirs.tgrelid = child.oid AND theirs.tgfoid = mine.tgfoid))`

// installedLayouts gives the layout of every table whose triggers all stand and
// fire, 0 for one where some do not; nil when there is no journal.
func (p *Capture) installedLayouts(ctx context.Context) (map[shape.Ref]int32, error) {
	var there bool
	if err := p.pool.QueryRow(ctx, "SELECT to_regclass('pingo_capture.journal') IS NOT NULL").Scan(&there); err != nil {
		return nil, explain(err)
	}
	if !there {
		return nil, nil
	}
	rows, err := p.pool.Query(ctx, `
		SELECT n.nspname, c.relname, CASE WHEN count(*) FILTER (WHERE t.tgenabled = 'A' AND t.tgname = 'pingo_' || split_part(f.proname, '_', 3))
		            >= CASE WHEN coalesce(l.key, '{}') = '{}' THEN 4 ELSE 5 END AND count(DISTINCT split_part(f.proname, '_', 2)) = 1
		            AND NOT EXISTS (SELECT FROM pg_partition_tree(c.oid) part WHERE part.level > 0
		                AND NOT EXISTS (SELECT FROM pg_trigger pt WHERE pt.tgrelid = part.relid AND pt.tgname = 'pingo_truncate' AND pt.tgenabled = 'A'))
		            AND NOT EXISTS (`+bareChildren+`)
		       THEN min(split_part(f.proname, '_', 2))::int ELSE 0 END
		FROM pg_trigger t JOIN pg_proc f ON f.oid = t.tgfoid JOIN pg_namespace fn ON fn.oid = f.pronamespace AND fn.nspname = 'pingo_capture'
		JOIN pg_class c ON c.oid = t.tgrelid JOIN pg_namespace n ON n.oid = c.relnamespace
		LEFT JOIN pingo_capture.layouts l ON l.id::text = split_part(f.proname, '_', 2)
		WHERE t.tgparentid = 0 AND NOT c.relispartition AND t.tgname !~ '^pingo_[0-9]' GROUP BY 1, 2, c.oid, l.key
		UNION ALL SELECT l.schema_name, l.table_name, l.id FROM pingo_capture.refreshed r JOIN pingo_capture.layouts l ON l.id = r.layout AND l.watch = '{}' AND l.key = '{}'`)
	if err != nil {
		return nil, wrap("reading the installed triggers", err)
	}
	installed := map[shape.Ref]int32{}
	var ref shape.Ref
	var id int32
	_, err = pgx.ForEachRow(rows, []any{&ref.Schema, &ref.Name, &id}, func() error {
		installed[ref] = id
		return nil
	})
	return installed, err
}

// dropTriggers takes every trigger of ours from a table and its partitions.
func (p *Capture) dropTriggers(ctx context.Context, t shape.Ref) error {
	var drops *string
	err := p.pool.QueryRow(ctx, `
		SELECT string_agg(format('DROP TRIGGER %I ON %I.%I', t.tgname, n.nspname, c.relname), '; ')
		FROM pg_trigger t JOIN pg_proc f ON f.oid = t.tgfoid JOIN pg_namespace fn ON fn.oid = f.pronamespace AND fn.nspname = 'pingo_capture'
		JOIN pg_class c ON c.oid = t.tgrelid JOIN pg_namespace n ON n.oid = c.relnamespace
		WHERE t.tgparentid = 0 AND (c.oid = to_regclass($1) OR split_part(f.proname, '_', 2) IN (
			SELECT l.id::text FROM pingo_capture.layouts l WHERE to_regclass(format('%I.%I', l.schema_name, l.table_name)) = to_regclass($1)))`, quote(t)).Scan(&drops)
	if err == nil && drops != nil {
		err = p.locked(ctx, *drops)
	}
	if err == nil {
		_, err = p.pool.Exec(ctx, `DELETE FROM pingo_capture.refreshed r USING pingo_capture.layouts l
			WHERE l.id = r.layout AND (l.schema_name, l.table_name) = ($1, $2)`, t.Schema, t.Name)
	}
	if err != nil {
		return wrap("removing triggers from "+t.String(), err)
	}
	return nil
}

// RemovalScript drops what Remove drops.
func (p *Capture) RemovalScript(ctx context.Context) (string, error) {
	var script string
	err := p.pool.QueryRow(ctx, `
		SELECT coalesce(string_agg(format(E'DROP TRIGGER %I ON %I.%I;\n', t.tgname, n.nspname, c.relname), '' ORDER BY n.nspname, c.relname, t.tgname), '')
		FROM pg_trigger t JOIN pg_proc f ON f.oid = t.tgfoid JOIN pg_namespace fn ON fn.oid = f.pronamespace AND fn.nspname = 'pingo_capture'
		JOIN pg_class c ON c.oid = t.tgrelid JOIN pg_namespace n ON n.oid = c.relnamespace WHERE t.tgparentid = 0`).Scan(&script)
	if err != nil {
		return "", wrap("reading the installed triggers", err)
	}
	return script + "DROP SCHEMA IF EXISTS pingo_capture CASCADE;\n", nil
}

// Remove drops every trigger of ours, then the schema with the journal.
func (p *Capture) Remove(ctx context.Context) error {
	installed, err := p.installedLayouts(ctx)
	if err != nil {
		return err
	}
	for table := range installed {
		if err := p.dropTriggers(ctx, table); err != nil {
			return err
		}
	}
	if err := p.locked(ctx, "DROP SCHEMA IF EXISTS pingo_capture CASCADE"); err != nil {
		return wrap("removing the journal", err)
	}
	return nil
}

// Status reads which tables have triggers.
func (p *Capture) Status(ctx context.Context) (source.CaptureStatus, error) {
	var s source.CaptureStatus
	installed, err := p.installedLayouts(ctx)
	if err != nil || installed == nil {
		return s, err
	}
	s.Installed, s.Tables = true, []string{}
	for table := range installed {
		s.Tables = append(s.Tables, table.String())
	}
	sort.Strings(s.Tables)
	return s, nil
}
