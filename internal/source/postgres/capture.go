package postgres

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"sort"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"pingo/internal/core/retry"
	"pingo/internal/core/shape"
	"pingo/internal/source"
	"pingo/internal/source/journal"
)

// below lists the tables whose rows are read with those of a table: its partitions and
// children, and theirs.
func below(oid string) string {
	return `WITH RECURSIVE below(oid) AS (
	SELECT inhrelid FROM pg_inherits WHERE inhparent = ` + oid + `
	UNION SELECT i.inhrelid FROM pg_inherits i JOIN below ON i.inhparent = below.oid
) `
}

// needs adds to what is to be captured what only the database knows.
func (p *Capture) needs(ctx context.Context, list []shape.Captured) ([]needed, error) {
	out := make([]needed, 0, len(list))
	tx, err := p.pool.Begin(ctx)
	if err != nil {
		return nil, explain(err)
	}
	defer tx.Rollback(context.WithoutCancel(ctx))
	for _, c := range list {
		n := needed{Captured: c, texts: map[string]string{}, byStatement: p.byStatement}
		var oid *uint32
		var forms map[string]string
		err := tx.QueryRow(ctx, "SELECT c.oid, "+formsOf+" FROM pg_class c WHERE c.oid = to_regclass($1)", quote(c.Table)).
			Scan(&oid, &forms)
		if errors.Is(err, pgx.ErrNoRows) {
			continue // what reads it says so, and the others are captured all the same
		}
		if err != nil {
			return nil, wrap("reading the columns of "+c.Table.String(), err)
		}
		n.forms = map[string]string{}
		for _, name := range slices.Concat(c.Key, c.Watch, c.Links) {
			n.forms[name] = forms[name]
		}
		n.Captured, n.told = journal.Only(c, forms)
		for _, v := range c.Views {
			if n.forms[viewForm+quote(v)], err = viewDefinition(ctx, tx, quote(v)); err != nil {
				return nil, wrap("reading the view "+v.String(), err)
			}
		}
		types, err := columns(ctx, tx, *oid, false)
		if err != nil {
			return nil, wrap("reading the columns of "+c.Table.String(), err)
		}
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
			below("$1")+`SELECT n.nspname, c.relname FROM below JOIN pg_class c ON c.oid = below.oid JOIN pg_namespace n ON n.oid = c.relnamespace
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
		out = append(out, n)
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
	installed, err := p.installed(ctx)
	if err != nil {
		return nil, err
	}
	if installed != current {
		if _, err := p.pool.Exec(ctx, journalSQL); err != nil {
			return nil, wrap("creating the journal", err)
		}
	}
	if err := p.claim(ctx, service); err != nil {
		return nil, err
	}
	standing, _, err := p.standing(ctx)
	if err != nil {
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
		has, known := standing[c.Table]
		if known && has.ID == layoutID(c) && has.whole() {
			continue
		}
		c.restated = known && (has.Recreated || journal.Restates(ofColumns(has.Forms), ofColumns(c.forms)))
		if err := p.locked(ctx, tableSQL(c)); err != nil {
			return made, wrap("installing triggers on "+c.Table.String(), err)
		}
		made = append(made, c.Table)
	}
	for table := range standing {
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
	const attempts = 15
	for attempt := 1; ; attempt++ {
		err := pgx.BeginFunc(ctx, p.pool, func(tx pgx.Tx) error {
			// Writers queue behind who waits for a lock, so the wait is short. It is much shorter than
			// deadlock_timeout, too, so if there is a deadlock it is not a writer that fails.
			if _, err := tx.Exec(ctx, "SET LOCAL lock_timeout = '200ms'"); err != nil {
				return err
			}
			_, err := tx.Exec(ctx, p.pool.named(sql))
			return err
		})
		var pg *pgconn.PgError
		if !errors.As(err, &pg) || pg.Code != "55P03" {
			return err
		}
		if attempt == attempts {
			return fmt.Errorf(
				"transactions that use the table stay open, and a trigger can only be made when they have ended: look for them in pg_stat_activity (%w)",
				err,
			)
		}
		if !retry.Sleep(ctx, time.Duration(min(attempt, 5))*200*time.Millisecond) {
			return ctx.Err()
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

// formsOf says what each column of the table c is in the catalogue: its number, its type, and the words of
// this, of which later ones stand behind earlier ones.
const formsOf = `(SELECT coalesce(jsonb_object_agg(a.attname, a.attnum || ' ' || format_type(a.atttypid, a.atttypmod)
		|| coalesce(' of ' || (SELECT string_agg(quote_literal(e.enumlabel), ',' ORDER BY e.oid) FROM pg_enum e WHERE e.enumtypid = a.atttypid), '')), '{}')
	FROM pg_attribute a WHERE a.attrelid = c.oid AND a.attnum > 0 AND NOT a.attisdropped)`

// standing is what stands of a table's capture.
type standing struct {
	Table shape.Ref
	// ID is the layout's, and Forms what the columns were when it was installed; Now is what they are.
	ID         int32
	Forms, Now map[string]string
	// Recreated: the table is another one than the layout was installed on, under its name. Rewritten: it was
	// written anew, with a column's values made others.
	Recreated, Rewritten bool
	// Refreshed: a materialised view, on which no trigger can stand.
	Refreshed bool
	// Triggers are those of the layout on the table: how many there are, fire whatever the session says, and
	// are switched off.
	Triggers, Fire, Off int
	// Partitions and Children are those below the table that lack triggers.
	Partitions, Children int
}

// whole reports whether every change is noted, and as the layout says.
func (s *standing) whole() bool {
	return s.Refreshed || s.Fire == len(triggers) && s.Partitions+s.Children == 0 && !s.Recreated && !s.Rewritten && s.altered() == ""
}

// altered names a column that is no longer what it was; empty when all are.
func (s *standing) altered() string { return journal.Altered(s.Forms, s.Now) }

// standing reads what stands of the capture of every table that there is; of one without triggers, the layout
// that it had last. There are none where the journal is not of this version.
func (p *Capture) standing(ctx context.Context) (map[shape.Ref]*standing, version, error) {
	out := map[shape.Ref]*standing{}
	installed, err := p.installed(ctx)
	if err != nil || installed != current {
		return out, installed, err
	}
	// A child of a table is one that inherits from it, directly or not. Each needs the triggers itself.
	rows, err := p.pool.Query(ctx, `
		WITH layouts AS (
			SELECT l.*, c.oid, c.relkind = 'm' AS refreshed FROM pingo_capture.layouts l
			JOIN pg_class c ON c.oid = to_regclass(format('%I.%I', l.schema_name, l.table_name))
		), ours AS (
			SELECT t.tgrelid, t.tgenabled, split_part(f.proname, '_', 2)::int AS layout, split_part(f.proname, '_', 3) AS event
			FROM pg_trigger t JOIN pg_proc f ON f.oid = t.tgfoid WHERE f.pronamespace = 'pingo_capture'::regnamespace AND t.tgparentid = 0
		), counted AS (
			SELECT l.*, n.* FROM layouts l CROSS JOIN LATERAL (
				SELECT count(*) AS triggers, count(*) FILTER (WHERE tgenabled = 'A') AS fire, count(*) FILTER (WHERE tgenabled = 'D') AS off
				FROM ours WHERE ours.tgrelid = l.oid AND ours.layout = l.id) n
			WHERE NOT l.refreshed OR EXISTS (SELECT FROM pingo_capture.refreshed r WHERE r.layout = l.id)
		)
		SELECT DISTINCT ON (l.schema_name, l.table_name) l.schema_name, l.table_name, l.id, l.forms::jsonb, `+formsOf+`,
			coalesce(l.relation <> c.oid, false), `+rewritten+`, l.refreshed, l.triggers, l.fire, l.off,
			(SELECT count(*) FROM pg_partition_tree(c.oid) part JOIN pg_class pc ON pc.oid = part.relid AND pc.relkind IN ('r', 'p')
			 WHERE part.level > 0 AND NOT EXISTS (SELECT FROM ours WHERE ours.tgrelid = part.relid AND ours.layout = l.id AND ours.tgenabled = 'A')),
			(`+below("c.oid")+`SELECT count(*) FROM below JOIN pg_class child ON child.oid = below.oid AND NOT child.relispartition AND child.relkind = 'r'
			 WHERE l.fire > (SELECT count(*) FROM ours WHERE ours.tgrelid = child.oid AND ours.layout = l.id AND ours.tgenabled = 'A'))
		FROM counted l JOIN pg_class c ON c.oid = l.oid
		ORDER BY l.schema_name, l.table_name, l.fire DESC, l.triggers DESC, l.relation IS NOT DISTINCT FROM c.oid DESC`)
	if err != nil {
		return nil, installed, wrap("reading the installed triggers", err)
	}
	for rows.Next() {
		var s standing
		err := rows.Scan(&s.Table.Schema, &s.Table.Name, &s.ID, &s.Forms, &s.Now, &s.Recreated, &s.Rewritten, &s.Refreshed, &s.Triggers, &s.Fire, &s.Off,
			&s.Partitions, &s.Children)
		if err != nil {
			return nil, installed, err
		}
		out[s.Table] = &s
	}
	if err := rows.Err(); err != nil {
		return nil, installed, err
	}
	views := map[string]string{} // several tables may be read by one
	for _, s := range out {
		for name := range s.Forms {
			view, is := strings.CutPrefix(name, viewForm)
			if !is {
				continue
			}
			if _, known := views[name]; !known {
				if views[name], err = viewDefinition(ctx, p.pool, view); err != nil {
					return nil, installed, wrap("reading the view "+view, err)
				}
			}
			s.Now[name] = views[name]
		}
	}
	return out, installed, nil
}

// viewForm stands before the names of views among those of columns: how changes of a table are followed to the
// rows of a view was found in the view's definition.
const viewForm = "view "

// viewDefinition tells a view's definition, and those of the views below it, from others; empty when there is none.
func viewDefinition(ctx context.Context, db interface {
	QueryRow(ctx context.Context, sql string, args ...any) pgx.Row
}, quoted string) (hash string, err error) {
	err = db.QueryRow(ctx, strings.Replace(under, "$1::oid", "to_regclass($1)::oid", 1)+
		" SELECT coalesce(md5(string_agg(r.ev_action::text, ';' ORDER BY r.ev_class)), '') FROM under JOIN pg_rewrite r ON r.ev_class = under.oid", quoted).Scan(&hash)
	return hash, err
}

// ofColumns leaves out what forms say of views.
func ofColumns(forms map[string]string) map[string]string {
	out := maps.Clone(forms)
	maps.DeleteFunc(out, func(name, _ string) bool { return strings.HasPrefix(name, viewForm) })
	return out
}

// version is which journal there is.
type version int

const (
	none    version = iota
	earlier         // it lacks what Install adds
	current
)

func (p *Capture) installed(ctx context.Context) (version, error) {
	var there, whole bool
	err := p.pool.QueryRow(ctx, `SELECT to_regclass('pingo_capture.journal') IS NOT NULL AND to_regclass('pingo_capture.being_removed') IS NULL, EXISTS (SELECT FROM pg_attribute
		WHERE attrelid = to_regclass('pingo_capture.layouts') AND attname = 'relation')`).Scan(&there, &whole)
	switch {
	case err != nil:
		return none, explain(err)
	case !there:
		return none, nil
	case !whole:
		return earlier, nil
	}
	return current, nil
}

// dropTriggers takes every trigger of ours from a table and its partitions.
func (p *Capture) dropTriggers(ctx context.Context, t shape.Ref) error {
	var drops *string
	err := p.pool.QueryRow(ctx, "SELECT string_agg(x, '; ') FROM ("+ownTriggers+") drops(x)", quote(t)).Scan(&drops)
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

// removal lists the statements that take everything of ours away, the journal last. Before anything goes it is
// marked, so that who looks meanwhile sees what happens, and not triggers that somebody dropped.
func (p *Capture) removal(ctx context.Context) ([]string, error) {
	rows, err := p.pool.Query(ctx, `
		SELECT format('DROP TRIGGER %I ON %I.%I', t.tgname, n.nspname, c.relname)
		FROM pg_trigger t JOIN pg_proc f ON f.oid = t.tgfoid JOIN pg_namespace fn ON fn.oid = f.pronamespace AND fn.nspname = 'pingo_capture'
		JOIN pg_class c ON c.oid = t.tgrelid JOIN pg_namespace n ON n.oid = c.relnamespace
		WHERE t.tgparentid = 0 ORDER BY n.nspname, c.relname, t.tgname`)
	if err != nil {
		return nil, wrap("reading the installed triggers", err)
	}
	drops, err := pgx.CollectRows(rows, pgx.RowTo[string])
	if err != nil {
		return nil, wrap("reading the installed triggers", err)
	}
	var there bool
	if err := p.pool.QueryRow(ctx, "SELECT to_regnamespace('pingo_capture') IS NOT NULL").Scan(&there); err != nil {
		return nil, wrap("looking for the journal", err)
	}
	if !there {
		return drops, nil
	}
	mark := "CREATE TABLE IF NOT EXISTS pingo_capture.being_removed ()"
	return append(append([]string{mark}, drops...), "DROP SCHEMA IF EXISTS pingo_capture CASCADE"), nil
}

// RemovalScript drops what Remove drops.
func (p *Capture) RemovalScript(ctx context.Context) (string, error) {
	statements, err := p.removal(ctx)
	if err != nil || len(statements) == 0 {
		return "", err
	}
	return strings.Join(statements, ";\n") + ";\n", nil
}

// Remove drops every trigger of ours, then the schema with the journal.
func (p *Capture) Remove(ctx context.Context) error {
	statements, err := p.removal(ctx)
	if err != nil {
		return err
	}
	for _, statement := range statements {
		if err := p.locked(ctx, statement); err != nil {
			return wrap("removing capture", err)
		}
	}
	return nil
}

// Status reads which tables have triggers.
func (p *Capture) Status(ctx context.Context) (source.CaptureStatus, error) {
	var s source.CaptureStatus
	standing, installed, err := p.standing(ctx)
	if err != nil || installed == none {
		return s, err
	}
	s.Installed, s.Tables = true, []string{}
	for table, has := range standing {
		if has.Refreshed || has.Triggers > 0 {
			s.Tables = append(s.Tables, table.String())
		}
	}
	sort.Strings(s.Tables)
	return s, nil
}
