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
	"pingo/internal/pgerror"
	"pingo/internal/pgsession"
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

// oidOf finds a table by the names of its schema and its own, in a schema, too, that Pingo's role may not use yet, where
// to_regclass fails.
func oidOf(schema, name string) string {
	return "(SELECT named.oid FROM pg_class named JOIN pg_namespace space ON space.oid = named.relnamespace WHERE space.nspname = " + schema + " AND named.relname = " + name + ")"
}

// needs adds to what is to be captured what only the database knows.
func (p *Capture) needs(ctx context.Context, list []shape.Captured) ([]needed, error) {
	out := make([]needed, 0, len(list))
	tx, err := p.pool.BeginTx(ctx, pgx.TxOptions{AccessMode: pgx.ReadOnly})
	if err != nil {
		return nil, explain(err)
	}
	defer tx.Rollback(context.WithoutCancel(ctx))
	for _, c := range list {
		n := needed{Captured: c, texts: map[string]string{}, byStatement: p.byStatement}
		var oid *uint32
		var forms map[string]string
		err := tx.QueryRow(ctx, "SELECT c.oid, "+formsOf+" FROM pg_class c WHERE c.oid = "+oidOf("$1", "$2"), c.Table.Schema, c.Table.Name).
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
		for _, f := range c.Functions {
			if n.forms[functionForm+f], err = functionDefinition(ctx, tx, f); err != nil {
				return nil, wrap("reading the function "+f, err)
			}
		}
		types, err := columns(ctx, tx, *oid, false)
		if err != nil {
			return nil, wrap("reading the columns of "+c.Table.String(), err)
		}
		for _, col := range types {
			if !slices.Contains(c.Key, col.Name) && !slices.Contains(c.Links, col.Name) {
				continue
			}
			if as := treatments[col.Form].keyAs; as != "" {
				n.texts[col.Name] = as
			} else if col.Form == "" {
				n.texts[col.Name] = asOutput
			}
		}
		if err := tx.QueryRow(ctx, sessionText, *oid, slices.Concat(c.Key, c.Links)).Scan(&n.bySession); err != nil {
			return nil, wrap("reading the types of "+c.Table.String(), err)
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

// Script is all that Install runs, for an administrator: Pingo's role then owns the journal and nothing else.
func (p *Capture) Script(ctx context.Context, need []shape.Captured) (string, error) {
	list, err := p.needs(ctx, need)
	if err != nil {
		return "", err
	}
	if err := p.own(ctx, p.pool); err != nil {
		return "", err
	}
	var user string
	if err := p.pool.QueryRow(ctx, "SELECT current_user").Scan(&user); err != nil {
		return "", explain(err)
	}
	role := quoteName(user)
	var b strings.Builder
	guard := fmt.Sprintf(scriptGuard, literal(user))
	fmt.Fprintf(&b, scriptHead, oneLine(role), role, scriptSettings)
	b.WriteString(p.pool.named(guard + "SET ROLE " + role + ";\n" + journalSQL + "RESET ROLE;\n" + journalRights + "COMMIT;\n"))
	for i := range list {
		list[i].definer = pgsession.Functions
		fmt.Fprintf(&b, "\n-- %s\nBEGIN;\n%sCOMMIT;\n", oneLine(list[i].Table.String()), scriptSettings+p.pool.named(guard+tableSQL(list[i])))
	}
	standing, _, err := p.standing(ctx)
	if err != nil {
		return "", err
	}
	b.WriteString("\n-- What an earlier definition needed.\nBEGIN;\n" + scriptSettings)
	for _, table := range slices.SortedFunc(maps.Keys(standing), func(a, b shape.Ref) int { return strings.Compare(a.String(), b.String()) }) {
		if !slices.ContainsFunc(need, func(c shape.Captured) bool { return c.Table == table }) {
			b.WriteString(p.pool.named(withoutTriggers(table)))
		}
	}
	b.WriteString(p.pool.named("DO $pingo$ DECLARE drop_it text; BEGIN\n    FOR drop_it IN "+unusedFunctions+" AND f.proname <> 'emptied' LOOP EXECUTE drop_it; END LOOP;\nEND $pingo$;\n") + "COMMIT;\n")
	fmt.Fprintf(&b, "\n-- What Pingo reads, as %s.\n", oneLine(role))
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
	b.WriteString("\n-- Who can read all captured tables can dump the database with Pingo's schema.\nBEGIN;\n" + scriptSettings + p.pool.named(guard+dumpRights) + "COMMIT;\n")
	return b.String(), nil
}

// scriptHead begins the script. A schema that another role made before Pingo stops it.
const scriptHead = `-- What Pingo installs to notice changes, with the least rights that the role %[1]s needs.
-- Run it as a superuser, or as a role that owns the tables, may create roles, and is a member of %[1]s.
-- Creating a trigger waits for writers: when a statement runs into the lock timeout, run the script again.

DO $pingo$ BEGIN
    IF NOT EXISTS (SELECT FROM pg_roles WHERE rolname = 'pingo_journal') THEN
        CREATE ROLE pingo_journal NOLOGIN NOINHERIT;
    END IF;
END $pingo$;
BEGIN;
%[3]sCREATE SCHEMA IF NOT EXISTS pingo_capture AUTHORIZATION %[2]s;
`

// scriptSettings make what a transaction of the script does independent of the session that runs it.
const scriptSettings = `SET LOCAL lock_timeout = '2s';
SET LOCAL search_path = pg_catalog, pg_temp;
SET LOCAL standard_conforming_strings = on;
SET LOCAL check_function_bodies = on;
`

// scriptGuard ends a transaction of the script where another role could decide what its statements run.
const scriptGuard = `DO $pingo$ BEGIN
    IF EXISTS (SELECT FROM pg_namespace n JOIN pg_roles r ON r.oid = n.nspowner OR r.oid IN (SELECT relowner FROM pg_class WHERE relnamespace = n.oid)
        WHERE n.nspname = 'pingo_capture' AND r.rolname <> %[1]s AND NOT r.rolsuper) THEN
        RAISE EXCEPTION 'the schema pingo_capture, or a table in it, belongs to another role: check who made it';
    END IF;
END $pingo$;
`

// journalRights let the owner of the trigger functions write the journal, and do nothing else.
const journalRights = `GRANT USAGE ON SCHEMA pingo_capture TO pingo_journal;
GRANT INSERT ON pingo_capture.journal TO pingo_journal;
GRANT USAGE ON SEQUENCE pingo_capture.journal_seq TO pingo_journal;
`

// oneLine keeps a name from ending the comment that it is in.
func oneLine(name string) string { return strings.NewReplacer("\n", " ", "\r", " ").Replace(name) }

// makeJournal creates the journal in a schema that is Pingo's alone.
func (p *Capture) makeJournal(ctx context.Context, tx pgx.Tx) error {
	_, err := tx.Exec(ctx, p.pool.named(`DO $pingo$ BEGIN
		IF to_regnamespace('pingo_capture') IS NULL THEN CREATE SCHEMA pingo_capture; END IF;
	END $pingo$`))
	if err != nil {
		return err
	}
	if err := p.own(ctx, tx); err != nil { // before anything there is used
		return err
	}
	if _, err := tx.Exec(ctx, p.pool.named(journalSQL)); err != nil {
		return err
	}
	return nil
}

// own refuses a schema of the journal in which others decide what runs.
func (p *Capture) own(ctx context.Context, db pgsession.Querier) error {
	return ownSchema(ctx, db, p.pool.capture)
}

func ownSchema(ctx context.Context, db pgsession.Querier, schema string) error {
	err := pgsession.Own(ctx, db, schema)
	var intruded *pgsession.ErrIntruded
	if errors.As(err, &intruded) {
		return &source.Error{Fault: source.SchemaChanged, Err: err}
	}
	return err
}

// definer is the role that trigger functions belong to, and run with the rights of: one that may write the journal and
// nothing else. It is made where that is possible. Where it is not, they belong to Pingo's own role, which is then no
// superuser. It is not needed where Pingo alone writes to the tables.
func (p *Capture) definer(ctx context.Context, tx pgx.Tx) (string, error) {
	if p.byStatement {
		return "", nil
	}
	var super, creates, there, member, harmless bool
	look := func() error {
		return tx.QueryRow(ctx, `SELECT me.rolsuper, me.rolcreaterole, j.oid IS NOT NULL, coalesce(pg_has_role(me.oid, j.oid, 'MEMBER'), false),
			coalesce(NOT j.rolsuper AND NOT j.rolcanlogin AND NOT j.rolcreaterole AND NOT j.rolcreatedb AND NOT j.rolreplication AND NOT j.rolbypassrls
				AND NOT EXISTS (SELECT FROM pg_auth_members m WHERE m.member = j.oid), true)
			FROM pg_roles me LEFT JOIN pg_roles j ON j.rolname = $1 WHERE me.rolname = current_user`, pgsession.Functions).
			Scan(&super, &creates, &there, &member, &harmless)
	}
	if err := look(); err != nil {
		return "", wrap("looking for the role "+pgsession.Functions, err)
	}
	if !there && (super || creates) {
		err := pgx.BeginFunc(ctx, tx, func(tx pgx.Tx) error { // another process may make it at this moment
			_, err := tx.Exec(ctx, "CREATE ROLE "+pgsession.Functions+" NOLOGIN NOINHERIT")
			if err == nil && !super {
				_, err = tx.Exec(ctx, "GRANT "+pgsession.Functions+" TO CURRENT_USER")
			}
			return err
		})
		if code := pgerror.Code(err); err != nil && code != "42710" && code != "23505" {
			return "", wrap("creating the role "+pgsession.Functions, err)
		}
		if err := look(); err != nil {
			return "", wrap("looking for the role "+pgsession.Functions, err)
		}
	}
	switch {
	case !harmless:
		return "", &source.Error{Fault: source.SchemaChanged, Err: fmt.Errorf(
			"the role %[1]s, with whose rights triggers run, may do more than write the journal: run ALTER ROLE %[1]s NOSUPERUSER NOLOGIN NOCREATEROLE NOCREATEDB NOREPLICATION NOBYPASSRLS and revoke its memberships",
			pgsession.Functions)}
	case there && (super || member):
		return pgsession.Functions, nil
	case super:
		return "", &source.Error{Fault: source.SchemaChanged, Err: errors.New(
			"the role " + pgsession.Functions + " is missing, and triggers do not run with the rights of a superuser")}
	}
	return "", nil
}

// sessionText asks whether some columns of a table have values whose text depends on settings of the session that writes
// it: ranges of other types than integers, and names of objects.
const sessionText = `SELECT EXISTS (
	WITH RECURSIVE under(oid) AS (
		SELECT atttypid FROM pg_attribute WHERE attrelid = $1 AND attname = ANY($2) AND NOT attisdropped
		UNION SELECT t.typbasetype FROM under u JOIN pg_type t ON t.oid = u.oid WHERE t.typtype = 'd'
	) SELECT FROM under u JOIN pg_type t ON t.oid = u.oid
	WHERE t.typtype IN ('r', 'm') AND t.typname NOT IN ('int4range', 'int8range', 'int4multirange', 'int8multirange')
	   OR t.typnamespace = 'pg_catalog'::regnamespace AND t.typname LIKE 'reg%')`

// Install installs what is missing or different, a table at a time, each in
// a transaction of its own. It claims the journal for one service: two that read
// it would each take changes away from the other.
func (p *Capture) Install(ctx context.Context, service string, need []shape.Captured) ([]shape.Ref, error) {
	installed, err := p.installed(ctx)
	if err != nil {
		return nil, err
	}
	if installed != current {
		if err := pgx.BeginFunc(ctx, p.pool, func(tx pgx.Tx) error { return p.makeJournal(ctx, tx) }); err != nil {
			return nil, wrap("creating the journal", err)
		}
	} else if err := p.own(ctx, p.pool); err != nil {
		return nil, err
	}
	if err := p.claim(ctx, service); err != nil {
		return nil, err
	}
	list, err := p.needs(ctx, need)
	if err != nil {
		return nil, err
	}
	var definer string
	err = pgx.BeginFunc(ctx, p.pool, func(tx pgx.Tx) (err error) {
		if definer, err = p.definer(ctx, tx); err == nil && !p.byStatement { // also for triggers that an administrator made
			_, err = tx.Exec(ctx, "DO $pingo$ BEGIN IF EXISTS (SELECT FROM pg_roles WHERE rolname = '"+pgsession.Functions+"') THEN "+journalRights+" END IF; END $pingo$")
		}
		return err
	})
	if err != nil {
		return nil, wrap("giving triggers the rights to write the journal", err)
	}
	standing, _, err := p.standing(ctx)
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
		c.definer = definer
		c.restated = known && (has.Recreated || journal.Restates(ofColumns(has.Forms), ofColumns(c.forms)))
		if err := p.locked(ctx, tableSQL(c)); err != nil {
			return made, wrap("installing triggers on "+c.Table.String(), err)
		}
		made = append(made, c.Table)
	}
	for table := range standing {
		owns := false
		err := p.pool.QueryRow(ctx, "SELECT coalesce((SELECT pg_has_role(relowner, 'USAGE') FROM pg_class WHERE oid = "+oidOf("$1", "$2")+"), false)", table.Schema, table.Name).Scan(&owns)
		if err != nil {
			return made, wrap("looking who owns "+table.String(), err)
		}
		if !wanted[table] && owns { // else the script drops them when an administrator runs it again
			if err := p.dropTriggers(ctx, table); err != nil {
				return made, err
			}
		}
	}
	if !p.byStatement {
		if _, err := p.pool.Exec(ctx, p.pool.named(dumpRights)); err != nil {
			return made, wrap("letting the owners of captured tables dump the database", err)
		}
	}
	return made, p.dropUnused(ctx)
}

// unusedFunctions lists the statements that drop the functions that no trigger calls.
const unusedFunctions = `SELECT 'DROP FUNCTION ' || f.oid::regprocedure FROM pg_proc f
		WHERE f.pronamespace = 'pingo_capture'::regnamespace AND NOT EXISTS (
			SELECT FROM pg_trigger t JOIN pg_proc used ON used.oid = t.tgfoid
			WHERE used.pronamespace = f.pronamespace AND split_part(used.proname, '_', 2) = split_part(f.proname, '_', 2))`

// dropUnused drops the functions that no trigger calls. Their layouts stay, since rows of theirs may still wait in the
// journal. Functions that an administrator made stay, too: the script drops them when it runs again.
func (p *Capture) dropUnused(ctx context.Context) error {
	var sql *string
	err := p.pool.QueryRow(ctx, "SELECT string_agg(x, '; ') FROM ("+unusedFunctions+" AND pg_has_role(f.proowner, 'USAGE')) drops(x)").Scan(&sql)
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
// this, of which later ones stand behind earlier ones. A collation whose version is no longer that with which it was created
// is named, too: it may sort in another order.
const formsOf = `(SELECT coalesce(jsonb_object_agg(a.attname, a.attnum || ' ' || ` + nativeType + `
		|| coalesce(' of ' || (SELECT string_agg(quote_literal(e.enumlabel), ',' ORDER BY e.oid) FROM pg_enum e WHERE e.enumtypid = a.atttypid), '')
		|| coalesce((SELECT ' sorted as of ' || pg_collation_actual_version(k.oid) FROM pg_collation k WHERE k.oid = a.attcollation AND k.collversion <> pg_collation_actual_version(k.oid)), '')), '{}')
	FROM pg_attribute a WHERE a.attrelid = c.oid AND a.attnum > 0 AND NOT a.attisdropped)`

// standing is what stands of a table's capture.
type standing struct {
	Table shape.Ref
	// ID is the layout's, and Forms what the columns were when it was installed; Now is what they are.
	ID         int32
	Forms, Now map[string]string
	// Recreated: the table is another one than the layout was installed on, under its name. Rewritten: it was
	// rewritten, and a column has other values.
	Recreated, Rewritten bool
	// Refreshed: a materialised view, on which no trigger can stand.
	Refreshed bool
	// Triggers are those of the layout on the table: how many there are, fire whatever the session says, and
	// are switched off.
	Triggers, Fire, Off int
	// Strong: a trigger runs with a superuser's rights, and Pingo may change that. Mute: the role whose rights it has
	// may not write the journal.
	Strong, Mute bool
	// Partitions and Children are those below the table that lack triggers.
	Partitions, Children int
	// Lowered counts the triggers of the layout on tables below that do not always fire, as after DISABLE and ENABLE, and
	// LoweredOff those of them that are off.
	Lowered, LoweredOff int
}

// whole reports whether every change is noted, and as the layout says.
func (s *standing) whole() bool {
	return s.Refreshed || s.Fire == len(triggers) && !s.Strong && !s.Mute && s.Partitions+s.Children+s.Lowered == 0 && !s.Recreated && !s.Rewritten && s.altered() == ""
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
			JOIN pg_class c ON c.oid = `+oidOf("l.schema_name", "l.table_name")+`
		), ours AS (
			SELECT t.tgrelid, t.tgenabled, t.tgparentid <> 0 AS passed, f.proowner, split_part(f.proname, '_', 2)::int AS layout, split_part(f.proname, '_', 3) AS event
			FROM pg_trigger t JOIN pg_proc f ON f.oid = t.tgfoid WHERE f.pronamespace = 'pingo_capture'::regnamespace AND f.proname <> 'emptied'
		), counted AS (
			SELECT l.*, n.* FROM layouts l CROSS JOIN LATERAL (
				SELECT count(*) AS triggers, count(*) FILTER (WHERE tgenabled = 'A') AS fire, count(*) FILTER (WHERE tgenabled = 'D') AS off,
					coalesce(bool_or(definer.rolsuper AND me.rolsuper), false) AS strong,
					coalesce(bool_or(NOT (has_schema_privilege(definer.oid, 'pingo_capture', 'USAGE') AND has_table_privilege(definer.oid, 'pingo_capture.journal', 'INSERT')
						AND has_sequence_privilege(definer.oid, 'pingo_capture.journal_seq', 'USAGE'))), false) AS mute
				FROM ours JOIN pg_roles definer ON definer.oid = ours.proowner JOIN pg_roles me ON me.rolname = current_user
				WHERE ours.tgrelid = l.oid AND ours.layout = l.id AND NOT ours.passed) n
			WHERE NOT l.refreshed OR EXISTS (SELECT FROM pingo_capture.refreshed r WHERE r.layout = l.id)
		)
		SELECT DISTINCT ON (l.schema_name, l.table_name) l.schema_name, l.table_name, l.id, l.forms::jsonb, `+formsOf+`,
			coalesce(l.relation <> c.oid, false), `+rewritten+`, l.refreshed, l.triggers, l.fire, l.off, l.strong, l.mute,
			(SELECT count(*) FROM pg_partition_tree(c.oid) part JOIN pg_class pc ON pc.oid = part.relid AND pc.relkind IN ('r', 'p')
			 WHERE part.level > 0 AND NOT EXISTS (SELECT FROM ours WHERE ours.tgrelid = part.relid AND ours.layout = l.id AND NOT ours.passed)),
			(`+below("c.oid")+`SELECT count(*) FROM below JOIN pg_class child ON child.oid = below.oid AND NOT child.relispartition AND child.relkind = 'r'
			 WHERE l.fire > (SELECT count(*) FROM ours WHERE ours.tgrelid = child.oid AND ours.layout = l.id AND NOT ours.passed)),
			lowered.n, lowered.off
		FROM counted l JOIN pg_class c ON c.oid = l.oid CROSS JOIN LATERAL (
			SELECT count(*) AS n, count(*) FILTER (WHERE tgenabled = 'D') AS off FROM ours
			WHERE ours.layout = l.id AND ours.tgrelid <> l.oid AND ours.tgenabled <> 'A') lowered
		ORDER BY l.schema_name, l.table_name, l.fire DESC, l.triggers DESC, l.relation IS NOT NULL DESC, l.relation IS NOT DISTINCT FROM c.oid DESC`)
	if err != nil {
		return nil, installed, wrap("reading the installed triggers", err)
	}
	for rows.Next() {
		var s standing
		err := rows.Scan(&s.Table.Schema, &s.Table.Name, &s.ID, &s.Forms, &s.Now, &s.Recreated, &s.Rewritten, &s.Refreshed, &s.Triggers, &s.Fire, &s.Off, &s.Strong, &s.Mute,
			&s.Partitions, &s.Children, &s.Lowered, &s.LoweredOff)
		if err != nil {
			return nil, installed, err
		}
		s.Strong = s.Strong && !p.byStatement // there, Pingo alone writes
		out[s.Table] = &s
	}
	if err := rows.Err(); err != nil {
		return nil, installed, err
	}
	definitions := map[string]string{} // several tables may be read by one view or function
	for _, s := range out {
		for name := range s.Forms {
			view, isView := strings.CutPrefix(name, viewForm)
			function, isFunction := strings.CutPrefix(name, functionForm)
			if !isView && !isFunction {
				continue
			}
			if _, known := definitions[name]; !known {
				if isView {
					definitions[name], err = viewDefinition(ctx, p.pool, view)
				} else {
					definitions[name], err = functionDefinition(ctx, p.pool, function)
				}
				if err != nil {
					return nil, installed, wrap("reading the "+name, err)
				}
			}
			s.Now[name] = definitions[name]
		}
	}
	return out, installed, nil
}

// viewForm stands before the names of views among those of columns: how changes of a table are followed to the
// rows of a view was found in the view's definition.
const viewForm = "view "

// functionForm stands before the names of functions there: values of expressions were what the function made of columns.
const functionForm = "function "

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
		WHERE attrelid = to_regclass('pingo_capture.layouts') AND attname = 'relation') AND EXISTS (SELECT FROM pg_trigger
		WHERE tgrelid = to_regclass('pingo_capture.journal') AND tgname = 'pingo_emptied')`).Scan(&there, &whole)
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
// marked, so that a process that looks meanwhile sees a removal, and not triggers that a person dropped.
func (p *Capture) removal(ctx context.Context) ([]string, error) {
	rows, err := p.pool.Query(ctx, `
		SELECT format('DROP TRIGGER %I ON %I.%I', t.tgname, n.nspname, c.relname)
		FROM pg_trigger t JOIN pg_proc f ON f.oid = t.tgfoid JOIN pg_namespace fn ON fn.oid = f.pronamespace AND fn.nspname = 'pingo_capture'
		JOIN pg_class c ON c.oid = t.tgrelid JOIN pg_namespace n ON n.oid = c.relnamespace
		WHERE t.tgparentid = 0 AND n.oid <> fn.oid ORDER BY n.nspname, c.relname, t.tgname`)
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
	return strings.Join(statements, ";\n") + ";\n" + roleStays, nil
}

const roleStays = "-- The role " + pgsession.Functions + " stays, since other databases of the server may use it. To drop it: DROP ROLE " +
	pgsession.Functions + ";\n"

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
