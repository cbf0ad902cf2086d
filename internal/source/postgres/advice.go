package postgres

import (
	"context"
	"fmt"
	"strings"

	"github.com/jackc/pgx/v5"

	"pingo/internal/core/shape"
	"pingo/internal/source"
)

// MissingRights lists the statements that let Pingo install and read capture. Making and
// dropping triggers takes the rights of a table's owner.
func (p *Capture) MissingRights(ctx context.Context, need []shape.Captured) ([]string, error) {
	installed, err := p.installedLayouts(ctx)
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
	if installed == nil {
		err = ask(
			"SELECT format('GRANT CREATE ON DATABASE %I TO %I;', current_database(), current_user) WHERE NOT has_database_privilege(current_database(), 'CREATE')",
		)
	} else {
		err = ask(`SELECT format('GRANT %s ON %s pingo_capture.%I TO %I;', privilege, kind, name, current_user)
			FROM (VALUES ('TABLE', 'owner', 'SELECT'), ('TABLE', 'owner', 'INSERT'), ('TABLE', 'layouts', 'SELECT'), ('TABLE', 'journal', 'SELECT'), ('TABLE', 'journal', 'INSERT'),
				('TABLE', 'journal', 'DELETE'), ('TABLE', 'refreshed', 'SELECT'), ('TABLE', 'refreshed', 'UPDATE')) AS r(kind, name, privilege)
			WHERE NOT has_table_privilege('pingo_capture.' || name, privilege)
			UNION ALL SELECT format('GRANT SELECT, USAGE ON SEQUENCE pingo_capture.journal_seq TO %I;', current_user)
			WHERE NOT (has_sequence_privilege('pingo_capture.journal_seq', 'SELECT') AND has_sequence_privilege('pingo_capture.journal_seq', 'USAGE'))`)
	}
	if err != nil {
		return nil, err
	}
	for _, c := range list {
		if c.Refreshed || installed[c.Table] == layoutID(c) {
			continue
		}
		err := ask(
			`SELECT format('GRANT %I TO %I;', pg_get_userbyid(relowner), current_user) FROM pg_class WHERE oid = to_regclass($1) AND NOT pg_has_role(relowner, 'USAGE')`,
			quote(c.Table),
		)
		if err != nil {
			return nil, err
		}
	}
	return distinct(missing), nil
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
	var out []source.Gap
	var installed bool
	if err := p.pool.QueryRow(ctx, "SELECT to_regclass('pingo_capture.journal') IS NOT NULL").Scan(&installed); err != nil {
		return nil, explain(err)
	}
	for _, c := range need {
		if !installed {
			out = append(
				out,
				source.Gap{
					Table:      c.Table,
					Deliberate: true,
					Reason:     "capture was removed from this database, so its changes go unnoticed",
				},
			)
			continue
		}
		if c.Refreshed {
			continue
		}
		want := len(triggers)
		if len(c.Key) == 0 {
			want-- // there is no trigger for its key
		}
		var there bool
		var fire, partitions, children int
		var rewriter *string
		err := p.pool.QueryRow(ctx, `
			SELECT to_regclass($1) IS NOT NULL,
				(SELECT count(*) FROM pg_trigger t JOIN pg_proc f ON f.oid = t.tgfoid JOIN pg_namespace n ON n.oid = f.pronamespace AND n.nspname = 'pingo_capture'
				 WHERE t.tgrelid = to_regclass($1) AND t.tgenabled = 'A'),
				(SELECT count(*) FROM pg_partition_tree(to_regclass($1)) part JOIN pg_class c ON c.oid = part.relid AND c.relkind IN ('r', 'p')
				 WHERE part.level > 0 AND NOT EXISTS (SELECT FROM pg_trigger pt WHERE pt.tgrelid = part.relid AND pt.tgname = 'pingo_truncate' AND pt.tgenabled = 'A')),
				(SELECT count(*) FROM pg_class c CROSS JOIN LATERAL (`+bareChildren+`) bare WHERE c.oid = to_regclass($1)),
				-- a BEFORE UPDATE trigger of the application, while ours looks at named columns only
				(SELECT min(t.tgname) FROM pg_trigger t WHERE t.tgrelid = to_regclass($1) AND NOT t.tgisinternal AND t.tgtype & 2 <> 0 AND t.tgtype & 16 <> 0
				 AND EXISTS (SELECT FROM pg_trigger ours WHERE ours.tgrelid = t.tgrelid AND ours.tgname = 'pingo_update' AND cardinality(ours.tgattr::int2[]) > 0))`,
			quote(c.Table)).Scan(&there, &fire, &partitions, &children, &rewriter)
		switch {
		case err != nil:
			return nil, wrap("looking at the triggers of "+c.Table.String(), err)
		case !there:
			out = append(
				out,
				source.Gap{
					Table:      c.Table,
					Deliberate: true,
					Reason: fmt.Sprintf(
						"the table %s was dropped or renamed, so its changes go unnoticed",
						c.Table,
					),
				},
			)
		case fire < want:
			out = append(
				out,
				source.Gap{
					Table:      c.Table,
					Deliberate: true,
					Reason: fmt.Sprintf(
						"triggers of Pingo on %s were dropped or disabled, so changes went unnoticed",
						c.Table,
					),
				},
			)
		case rewriter != nil:
			out = append(out, source.Gap{Table: c.Table, Reason: fmt.Sprintf(
				"the trigger %s began to change rows of %s before they are written, so changes went unnoticed",
				*rewriter,
				c.Table,
			)})
		case children > 0: // installing capture on them builds all documents anew
			out = append(out, source.Gap{Table: c.Table, Safe: true, Reason: fmt.Sprintf(
				"%d tables have come to inherit from %s, and their rows with them", children, c.Table)})
		case partitions > 0:
			out = append(
				out,
				source.Gap{
					Table: c.Table,
					Safe:  true,
					Reason: fmt.Sprintf(
						"%s has %d new partitions, whose truncation would go unnoticed",
						c.Table,
						partitions,
					),
				},
			)
		}
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
	out := []source.Advice{}
	for _, l := range lookups {
		var rows int64
		var indexed bool
		// An index serves when its first columns are those that are looked for.
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
						"rows are looked for by %s without an index: each time about %d rows are scanned",
						strings.Join(l.Columns, ", "),
						rows,
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
	tables := make([]string, len(need))
	for i, c := range need {
		tables[i] = quote(c.Table)
	}
	rows, err := p.pool.Query(ctx, `
		WITH captured AS (SELECT to_regclass(t)::oid AS oid FROM unnest($1::text[]) t)
		SELECT 'cascade', f.conrelid::regclass::text, format('deleting rows of %s %s here (%s); each is noticed by itself',
			f.confrelid::regclass, CASE f.confdeltype WHEN 'c' THEN 'deletes rows' ELSE 'changes rows' END, f.conname), ''
		FROM pg_constraint f JOIN captured ON captured.oid = f.conrelid WHERE f.contype = 'f' AND f.confdeltype IN ('c', 'n', 'd') AND f.conparentid = 0
		UNION ALL
		SELECT 'trigger', t.tgrelid::regclass::text, format('the trigger %s may change rows before they are written, so every update is looked at, whatever columns it names', t.tgname), ''
		FROM pg_trigger t JOIN captured ON captured.oid = t.tgrelid WHERE NOT t.tgisinternal AND t.tgtype & 2 <> 0 AND t.tgtype & 16 <> 0
		UNION ALL
		SELECT 'rule', r.ev_class::regclass::text, format('the rule %s rewrites statements; what it does to other tables is noticed only where they are captured', r.rulename), ''
		FROM pg_rewrite r JOIN captured ON captured.oid = r.ev_class WHERE r.rulename <> '_RETURN'
		ORDER BY 1, 2, 3`, tables)
	if err != nil {
		return nil, wrap("looking for cascades and triggers", err)
	}
	found, err := pgx.CollectRows(rows, pgx.RowToStructByPos[source.Advice])
	if err != nil {
		return nil, wrap("looking for cascades and triggers", err)
	}
	return append(out, found...), nil
}
