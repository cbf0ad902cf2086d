package postgres

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"github.com/dustin/go-humanize"
	"github.com/jackc/pgx/v5"

	"pingo/internal/core/shape"
	"pingo/internal/pgsession"
	"pingo/internal/source"
	"pingo/internal/source/journal"
)

// byAdministrator is what a role does that may not install capture itself. It needs none of the rights for that.
const byAdministrator = "-- As an administrator, run what pingo capture show FILE prints. It installs "

// MissingRights lists the statements that let Pingo read capture, and what an administrator has to install, since
// Pingo's role owns neither the tables nor the database. Objects in Pingo's schema that belong to others come first.
func (p *Capture) MissingRights(ctx context.Context, need []shape.Captured) ([]string, error) {
	var intruded *pgsession.ErrIntruded
	if err := p.own(ctx, p.pool); errors.As(err, &intruded) {
		var out []string
		for _, i := range intruded.List {
			out = append(out, strings.TrimSpace(fmt.Sprintf("%s -- %s: %s", i.Statement, intruded.Schema, i.What)))
		}
		return out, nil
	} else if err != nil {
		return nil, err
	}
	standing, installed, err := p.standing(ctx)
	if err != nil {
		return nil, err
	}
	list, err := p.needs(ctx, need)
	if err != nil {
		return nil, err
	}
	var missing []string
	ask := func(sql string, args ...any) error {
		rows, err := p.pool.Query(ctx, sql, args...)
		if err != nil {
			return wrap("reading Pingo's rights", err)
		}
		found, err := pgx.CollectRows(rows, pgx.RowTo[string])
		missing = append(missing, found...)
		if err != nil {
			return wrap("reading Pingo's rights", err)
		}
		return nil
	}
	if installed == none {
		err = ask("SELECT $1 || 'the schema pingo_capture.' WHERE NOT has_database_privilege(current_database(), 'CREATE')", byAdministrator)
	} else {
		err = ask(`SELECT format('GRANT %s ON %s pingo_capture.%I TO %I;', privilege, kind, name, current_user)
			FROM (VALUES ('TABLE', 'owner', 'SELECT'), ('TABLE', 'owner', 'INSERT'), ('TABLE', 'owner', 'UPDATE'), ('TABLE', 'layouts', 'SELECT'), ('TABLE', 'journal', 'SELECT'),
				('TABLE', 'journal', 'INSERT'), ('TABLE', 'journal', 'DELETE'), ('TABLE', 'refreshed', 'SELECT'), ('TABLE', 'refreshed', 'UPDATE')) AS r(kind, name, privilege)
			WHERE NOT has_table_privilege('pingo_capture.' || name, privilege)
			UNION ALL SELECT format('GRANT SELECT, USAGE ON SEQUENCE pingo_capture.journal_seq TO %I;', current_user)
			WHERE NOT (has_sequence_privilege('pingo_capture.journal_seq', 'SELECT') AND has_sequence_privilege('pingo_capture.journal_seq', 'USAGE'))`)
	}
	if err != nil {
		return nil, err
	}
	for _, c := range list {
		if has := standing[c.Table]; c.Refreshed || has != nil && has.ID == layoutID(c) && has.whole() {
			continue
		}
		err := ask("SELECT $2 || format('triggers on %s.', c.oid::regclass) FROM pg_class c WHERE c.oid = "+oidOf("$1", "$3")+" AND NOT pg_has_role(relowner, 'USAGE')",
			c.Table.Schema, byAdministrator, c.Table.Name)
		if err != nil {
			return nil, err
		}
	}
	return distinct(missing), nil
}

// forgetful says which settings let the server forget in a crash what it has committed. Documents of it stay.
func (p *Capture) forgetful(ctx context.Context) ([]source.Advice, error) {
	rows, err := p.pool.Query(ctx, `
		SELECT 'durability', name, format('%s is off: after a crash the server may lack changes that Pingo has delivered, ', name)
				|| CASE name WHEN 'synchronous_commit' THEN 'and Pingo rebuilds the documents of all captured tables' ELSE 'and documents of them stay until a repair' END,
			format('ALTER SYSTEM SET %s = on; SELECT pg_reload_conf();', name)
		FROM pg_settings WHERE name IN ('fsync', 'full_page_writes', 'synchronous_commit') AND reset_val = 'off' ORDER BY name`)
	if err != nil {
		return nil, wrap("reading what the server keeps in a crash", err)
	}
	found, err := pgx.CollectRows(rows, pgx.RowToStructByPos[source.Advice])
	if err != nil {
		return nil, wrap("reading what the server keeps in a crash", err)
	}
	return found, nil
}

// rights says what Pingo's role may do that it does not need. Code of others that Pingo's role runs, such as functions
// in views, may do it as well.
func (p *Capture) rights(ctx context.Context, schemas, names []string) ([]source.Advice, error) {
	rows, err := p.pool.Query(ctx, `
		WITH me AS (SELECT * FROM pg_roles WHERE rolname = current_user),
		     captured AS (SELECT `+oidOf("t.schema", "t.name")+` AS oid FROM unnest($1::text[], $2::text[]) t(schema, name))
		SELECT 'rights', rolname::text, 'Pingo connects as a superuser. Code in views, types and expressions of this database would run with all rights of the server',
			format('CREATE ROLE pingo_reader LOGIN PASSWORD ''…''; -- then use it in the url, and run what pingo capture show FILE prints') FROM me WHERE rolsuper
		UNION ALL
		SELECT 'rights', rolname::text, format('the role of Pingo may %s, which it does not need', what), format('ALTER ROLE %I %s;', rolname, less)
		FROM me CROSS JOIN LATERAL (VALUES (rolcreaterole, 'create roles', 'NOCREATEROLE'), (rolcreatedb, 'create databases', 'NOCREATEDB'), (rolreplication, 'start replication', 'NOREPLICATION')) may(has, what, less)
		WHERE has AND NOT rolsuper
		UNION ALL
		SELECT 'rights', me.rolname::text, format('the role of Pingo is a member of %I, which it does not need', g.rolname), format('REVOKE %I FROM %I;', g.rolname, me.rolname)
		FROM me JOIN pg_roles g ON NOT me.rolsuper AND g.oid <> me.oid AND pg_has_role(me.oid, g.oid, 'MEMBER') AND
			(g.rolsuper OR g.rolname IN ('pg_read_server_files', 'pg_write_server_files', 'pg_execute_server_program', 'pg_write_all_data', 'pg_signal_backend', 'pg_maintain')
			 OR EXISTS (SELECT FROM captured JOIN pg_class c ON c.oid = captured.oid WHERE c.relowner = g.oid))
		UNION ALL
		SELECT 'rights', c.oid::regclass::text, 'the role of Pingo owns this table, but needs to read it only',
			format('ALTER TABLE %s OWNER TO …; -- then run what pingo capture show FILE prints', c.oid::regclass)
		FROM me JOIN pg_class c ON c.relowner = me.oid AND NOT me.rolsuper JOIN captured ON captured.oid = c.oid
		UNION ALL
		SELECT 'rights', c.oid::regclass::text, 'the role of Pingo may write to this table, but needs to read it only',
			format('REVOKE INSERT, UPDATE, DELETE, TRUNCATE ON %s FROM %I;', c.oid::regclass, me.rolname)
		FROM me JOIN pg_class c ON NOT me.rolsuper AND NOT pg_has_role(me.oid, c.relowner, 'USAGE') JOIN captured ON captured.oid = c.oid
		WHERE has_table_privilege(c.oid, 'INSERT, UPDATE, DELETE, TRUNCATE')
		ORDER BY 2, 3`, schemas, names)
	if err != nil {
		return nil, wrap("reading what Pingo's role may do", err)
	}
	found, err := pgx.CollectRows(rows, pgx.RowToStructByPos[source.Advice])
	if err != nil {
		return nil, wrap("reading what Pingo's role may do", err)
	}
	return found, nil
}

func distinct(list []string) []string {
	seen := map[string]bool{}
	out := []string{}
	for _, s := range list {
		if !seen[s] {
			seen[s] = true
			out = append(out, s)
		}
	}
	return out
}

// Gaps compares the triggers that stand on tables with those that should.
func (p *Capture) Gaps(ctx context.Context, need []shape.Captured) ([]source.Gap, error) {
	gaps, err := p.gaps(ctx, need)
	if err != nil || len(gaps) == 0 {
		return nil, err
	}
	// Triggers may be missing because a removal began during this look. It sets its mark before it drops the first one.
	if installed, err := p.installed(ctx); err != nil || installed != none {
		return gaps, err
	}
	return source.Removed(need), nil
}

func (p *Capture) gaps(ctx context.Context, need []shape.Captured) ([]source.Gap, error) {
	var out []source.Gap
	standing, installed, err := p.standing(ctx)
	if err != nil {
		return nil, err
	}
	if installed == none {
		return source.Removed(need), nil
	}
	for _, c := range need {
		gap := source.Gap{Table: c.Table}
		switch has := standing[c.Table]; {
		case installed == earlier:
			gap.Safe, gap.Reason = true, "the journal was made by an earlier version"
		case has == nil && c.Refreshed:
			continue
		case has == nil:
			var there bool
			if err := p.pool.QueryRow(ctx, "SELECT "+oidOf("$1", "$2")+" IS NOT NULL", c.Table.Schema, c.Table.Name).Scan(&there); err != nil {
				return nil, wrap("looking for "+c.Table.String(), err)
			}
			gap.Deliberate = true
			gap.Reason = fmt.Sprintf("the table %s was dropped or renamed, so its changes go unnoticed", c.Table)
			if there {
				gap.Reason = fmt.Sprintf("triggers of Pingo on %s are missing, so changes went unnoticed", c.Table)
			}
		case has.whole():
			continue
		case has.Recreated:
			gap.Reason = fmt.Sprintf("the table %s was recreated without Pingo's triggers, so changes are missing", c.Table)
		case has.Triggers == len(triggers) && has.Fire < len(triggers) && has.Off == 0:
			gap.Reason = fmt.Sprintf("triggers of %s were switched off and on again, so changes went unnoticed", c.Table)
		case has.Fire < len(triggers):
			gap.Deliberate = true
			gap.Reason = fmt.Sprintf("triggers of Pingo on %s were dropped or disabled, so changes went unnoticed", c.Table)
		case has.Lowered > 0:
			gap.Deliberate = has.LoweredOff > 0
			gap.Reason = fmt.Sprintf("triggers of Pingo on partitions or children of %s were disabled, so changes went unnoticed", c.Table)
		case strings.HasPrefix(has.altered(), viewForm):
			gap.Deliberate = true
			gap.Reason = fmt.Sprintf("the %s was redefined or dropped, so Pingo may rebuild the wrong documents", has.altered())
		case has.Mute:
			gap.Reason = fmt.Sprintf("triggers of Pingo on %s may not write the journal, so changes went unnoticed", c.Table)
		case has.Strong:
			gap.Safe = true
			gap.Reason = fmt.Sprintf("triggers of Pingo on %s run with the rights of a superuser", c.Table)
		case has.Rewritten:
			gap.Safe = true
			gap.Reason = fmt.Sprintf("a column of %s got other values by ALTER TABLE, so Pingo rebuilds all its documents", c.Table)
		case c.Root && journal.Relabelled(c.Key, has.Forms, has.Now) != "":
			gap.Reason = fmt.Sprintf("values of the key column %s of %s were renamed, so documents have old keys", journal.Relabelled(c.Key, has.Forms, has.Now), c.Table)
		case strings.HasPrefix(has.altered(), functionForm):
			gap.Safe = true
			gap.Reason = fmt.Sprintf("the %s was redefined, so Pingo rebuilds all documents of %s", has.altered(), c.Table)
		case has.altered() != "": // it was noted, if not as exactly as before
			gap.Safe = true
			gap.Reason = fmt.Sprintf("the column %s of %s was added, dropped, renamed or given another type", has.altered(), c.Table)
		case has.Children > 0: // installing capture on them builds all documents again
			gap.Safe = true
			gap.Reason = fmt.Sprintf("%d tables have come to inherit from %s, and their rows with them", has.Children, c.Table)
		default:
			gap.Safe = true
			gap.Reason = fmt.Sprintf("%s has %d new partitions, whose truncation would go unnoticed", c.Table, has.Partitions)
		}
		out = append(out, gap)
	}
	return out, nil
}

// collation reports a database whose default collation sorts in another order than when its indexes were built, as after an
// update of the operating system.
func (p *Capture) collation(ctx context.Context) ([]source.Advice, error) {
	out := []source.Advice{}
	var tells, changed bool
	err := p.pool.QueryRow(ctx, "SELECT to_regproc('pg_catalog.pg_database_collation_actual_version') IS NOT NULL").Scan(&tells) // from version 15 on
	if err == nil && tells {
		err = p.pool.QueryRow(ctx, "SELECT coalesce(datcollversion <> pg_database_collation_actual_version(oid), false) FROM pg_database WHERE datname = current_database()").
			Scan(&changed)
	}
	if err != nil {
		return nil, wrap("reading the version of the collation", err)
	}
	if changed {
		out = append(out, source.Advice{
			Kind:      "collation",
			Message:   "the collation of the database has another version than its indexes: reads by an index may miss rows; rebuild the database's indexes, then run pingo reindex start for each index",
			Statement: "REINDEX (VERBOSE) DATABASE; ALTER DATABASE … REFRESH COLLATION VERSION;",
		})
	}
	return out, nil
}

// Advice looks for lookups without an index, and for what changes rows behind the
// application's back.
func (p *Capture) Advice(
	ctx context.Context,
	need []shape.Captured,
	lookups []shape.Lookup,
) ([]source.Advice, error) {
	out, err := p.collation(ctx)
	if err != nil {
		return nil, err
	}
	for _, c := range need {
		if !c.Refreshed {
			continue
		}
		var counts bool
		if err := p.pool.QueryRow(ctx, "SELECT current_setting('track_counts')::bool").Scan(&counts); err != nil {
			return nil, wrap("reading the server's settings", err)
		}
		if !counts {
			out = append(out, source.Advice{
				Kind: "refresh", Table: c.Table.String(),
				Message:   "track_counts is off, so Pingo notices REFRESH MATERIALIZED VIEW CONCURRENTLY only when it compares all rows",
				Statement: "ALTER SYSTEM SET track_counts = on; SELECT pg_reload_conf();",
			})
		}
	}
	for _, l := range lookups {
		var rows int64
		var indexed bool
		// An index serves when its first columns are those of the lookup.
		err := p.pool.QueryRow(ctx, `
			SELECT greatest(c.reltuples, 0)::bigint, EXISTS (
				SELECT FROM pg_index i WHERE i.indrelid = c.oid AND i.indisvalid AND i.indpred IS NULL AND (
					SELECT array_agg(a.attname::text ORDER BY a.attname) FROM unnest((i.indkey::int2[])[0:$2 - 1]) k JOIN pg_attribute a ON a.attrelid = c.oid AND a.attnum = k
				) = (SELECT array_agg(x ORDER BY x::name) FROM unnest($3::text[]) x))
			FROM pg_class c WHERE c.oid = to_regclass($1)`, quote(l.Table), len(l.Columns), l.Columns).Scan(&rows, &indexed)
		if err != nil {
			return nil, wrap("looking for indexes on "+l.Table.String(), err)
		}
		if !indexed {
			out = append(
				out,
				source.Advice{
					Kind:  "index",
					Table: l.Table.String(),
					Message: fmt.Sprintf(
						"no index on %s: each lookup scans about %s rows",
						strings.Join(l.Columns, ", "),
						humanize.Comma(rows),
					),
					Statement: fmt.Sprintf(
						"CREATE INDEX ON %s (%s);",
						quote(l.Table),
						quoteNames(l.Columns, ""),
					),
				},
			)
		}
	}
	schemas, names := make([]string, len(need)), make([]string, len(need))
	for i, c := range need {
		schemas[i], names[i] = c.Table.Schema, c.Table.Name
	}
	if !p.byStatement {
		more, err := p.rights(ctx, schemas, names)
		if err != nil {
			return nil, err
		}
		out = append(out, more...)
		if more, err = p.forgetful(ctx); err != nil {
			return nil, err
		}
		out = append(out, more...)
	}
	rows, err := p.pool.Query(ctx, `
		WITH captured AS (SELECT `+oidOf("t.schema", "t.name")+` AS oid FROM unnest($1::text[], $2::text[]) t(schema, name))
		SELECT 'cascade', f.conrelid::regclass::text, format('deleting rows of %s %s here (%s); each is noticed by itself',
			f.confrelid::regclass, CASE f.confdeltype WHEN 'c' THEN 'deletes rows' ELSE 'changes rows' END, f.conname), ''
		FROM pg_constraint f JOIN captured ON captured.oid = f.conrelid WHERE f.contype = 'f' AND f.confdeltype IN ('c', 'n', 'd') AND f.conparentid = 0
		UNION ALL
		SELECT 'trigger', t.tgrelid::regclass::text, format('the trigger %s may change rows before they are written, so every update is looked at, whatever columns it names', t.tgname), ''
		FROM pg_trigger t JOIN captured ON captured.oid = t.tgrelid WHERE NOT t.tgisinternal AND t.tgtype & 2 <> 0 AND t.tgtype & 16 <> 0
		UNION ALL
		SELECT 'rule', r.ev_class::regclass::text, format('the rule %s rewrites statements; what it does to other tables is noticed only where they are captured', r.rulename), ''
		FROM pg_rewrite r JOIN captured ON captured.oid = r.ev_class WHERE r.rulename <> '_RETURN'
		UNION ALL
		SELECT 'unlogged', c.oid::regclass::text, 'a crash of the server empties this unlogged table, which fires no trigger: its documents stay until all are compared',
			format('ALTER TABLE %s SET LOGGED;', c.oid::regclass)
		FROM pg_class c JOIN captured ON captured.oid = c.oid WHERE c.relpersistence = 'u'
		ORDER BY 1, 2, 3`, schemas, names)
	if err != nil {
		return nil, wrap("looking for cascades and triggers", err)
	}
	found, err := pgx.CollectRows(rows, pgx.RowToStructByPos[source.Advice])
	if err != nil {
		return nil, wrap("looking for cascades and triggers", err)
	}
	return append(out, found...), nil
}
