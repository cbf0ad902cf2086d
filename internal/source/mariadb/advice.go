package mariadb

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"pingo/internal/core/shape"
	"pingo/internal/source"
	"pingo/internal/source/journal"
)

// MissingRights lists the statements that let Pingo install and read capture.
func (p *Capture) MissingRights(ctx context.Context, need []shape.Captured) ([]string, error) {
	var foreign *source.Error
	if err := p.db.own(ctx); errors.As(err, &foreign) && foreign.Fault == source.SchemaChanged {
		return []string{"-- " + err.Error()}, nil
	} else if err != nil {
		return nil, err
	}
	user, err := p.user(ctx)
	if err != nil {
		return nil, err
	}
	who := fmt.Sprintf("GRANTEE IN (%s)", text(user))
	has := func(privilege string, t shape.Ref) (bool, error) {
		rows, err := p.db.texts(
			ctx,
			fmt.Sprintf(`SELECT 1 FROM information_schema.USER_PRIVILEGES WHERE %[1]s AND PRIVILEGE_TYPE = %[2]s
			UNION SELECT 1 FROM information_schema.SCHEMA_PRIVILEGES WHERE %[1]s AND PRIVILEGE_TYPE = %[2]s AND %[3]s LIKE TABLE_SCHEMA
			UNION SELECT 1 FROM information_schema.TABLE_PRIVILEGES WHERE %[1]s AND PRIVILEGE_TYPE = %[2]s AND TABLE_SCHEMA = %[3]s AND TABLE_NAME = %[4]s`,
				who, text(privilege), text(t.Schema), text(t.Name)),
		)
		return len(rows) > 0, err
	}
	missing := []string{}
	ask := func(t shape.Ref, grant string, privileges ...string) error {
		for _, privilege := range privileges {
			granted, err := has(privilege, t)
			if err != nil {
				return wrap("reading Pingo's rights", err)
			}
			if !granted {
				missing = append(missing, grant)
				return nil
			}
		}
		return nil
	}
	there, err := p.there(ctx)
	if err != nil {
		return nil, err
	}
	privileges := []string{"SELECT", "INSERT", "UPDATE", "DELETE"}
	if !there {
		privileges = append(privileges, "CREATE", "ALTER")
	}
	capture := shape.Ref{Schema: p.db.capture, Name: "journal"}
	if err := ask(capture, fmt.Sprintf("GRANT ALL ON %s.* TO %s;", quoteName(strings.ReplaceAll(p.db.capture, "_", `\_`)), user), privileges...); err != nil {
		return nil, err
	}
	if err := ask(shape.Ref{}, fmt.Sprintf("GRANT PROCESS ON *.* TO %s;", user), "PROCESS"); err != nil {
		return nil, err
	}
	keys, err := p.foreignKeys(ctx)
	if numberOf(err) == noProcess { // it is among what is missing
		keys, err = &foreignKeys{}, nil
	}
	if err != nil {
		return nil, err
	}
	list, err := p.needs(ctx, need, keys)
	if err != nil {
		return nil, err
	}
	for _, c := range list {
		for _, t := range p.db.triggersOf(c) {
			grant := fmt.Sprintf("GRANT TRIGGER ON %s TO %s;", quote(t.table), user)
			if slices.Contains(missing, grant) {
				continue
			}
			if err := ask(t.table, grant, "TRIGGER"); err != nil {
				return nil, err
			}
		}
	}
	if p.db.definer != "" {
		more, err := p.byAdministrator(ctx, list)
		return append(missing, more...), err
	}
	var logged, trusted bool
	if err := p.db.QueryRowContext(ctx, "SELECT @@log_bin, @@log_bin_trust_function_creators").Scan(&logged, &trusted); err != nil {
		return nil, wrap("reading the server's settings", err)
	}
	if logged && !trusted {
		if err := ask(shape.Ref{}, "SET GLOBAL log_bin_trust_function_creators = 1;", "SUPER"); err != nil {
			return nil, err
		}
	}
	return missing, nil
}

// byAdministrator says what an administrator has to install, where triggers run with the rights of another account.
func (p *Capture) byAdministrator(ctx context.Context, list []needed) ([]string, error) {
	standing, err := p.standing(ctx)
	if err != nil {
		return nil, err
	}
	for _, c := range list {
		for _, t := range p.db.triggersOf(c) {
			if has := standing[t.table.Schema+"."+t.name]; !has.ours || !has.on(t.table) {
				return []string{"-- As an administrator, run what pingo capture show FILE prints. It installs triggers that run as " + p.db.definer + "."}, nil
			}
		}
	}
	may, err := p.db.mayNote(ctx)
	if err != nil || may {
		return nil, err
	}
	return []string{fmt.Sprintf("GRANT INSERT ON %s.journal TO %s;", quoteName(p.db.capture), account(p.db.definer))}, nil
}

// mayNote reports whether the account that triggers run as may write the journal.
func (db *database) mayNote(ctx context.Context) (may bool, err error) {
	if db.definer == "" {
		return true, nil
	}
	err = db.QueryRowContext(ctx, "SELECT "+quoteName(db.capture)+".may_note()").Scan(&may)
	if withoutFunction(err) {
		return false, nil
	}
	return may, explain(err)
}

// Gaps compares the triggers that stand on tables with those that should.
func (p *Capture) Gaps(ctx context.Context, need []shape.Captured) ([]source.Gap, error) {
	gaps, err := p.gaps(ctx, need)
	if err != nil || len(gaps) == 0 {
		return nil, err
	}
	// Triggers may be missing because a removal began during this look. It sets its mark before it drops the first one.
	if there, err := p.there(ctx); err != nil || there {
		return gaps, err
	}
	return source.Removed(need), nil
}

func (p *Capture) gaps(ctx context.Context, need []shape.Captured) ([]source.Gap, error) {
	there, err := p.there(ctx)
	if err != nil {
		return nil, err
	}
	if !there {
		return source.Removed(need), nil
	}
	var out []source.Gap
	if lacks, err := p.earlier(ctx); err != nil || lacks {
		for _, c := range need {
			out = append(out, source.Gap{Table: c.Table, Safe: true, Reason: "the journal was made by an earlier version"})
		}
		return out, err
	}
	installed, err := p.installed(ctx)
	if err != nil {
		return nil, err
	}
	if may, err := p.db.mayNote(ctx); err != nil {
		return nil, err
	} else if !may {
		for _, c := range need {
			out = append(out, source.Gap{Table: c.Table, Deliberate: true, Reason: fmt.Sprintf(
				"the account %s, as which triggers run, may not write the journal, so changes went unnoticed", p.db.definer)})
		}
		return out, nil
	}
	keys, err := p.foreignKeys(ctx)
	if err != nil {
		return nil, err
	}
	var foreign []source.Gap
	for _, c := range need {
		rows, err := p.db.texts(ctx, "SELECT coalesce("+madeAt(c.Table)+", '')")
		if err != nil {
			return nil, wrap("looking for "+c.Table.String(), err)
		}
		l, made := installed[c.Table], rows[0][0]
		switch {
		case made == "":
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
			continue
		case l.moved != "":
			out = append(out, source.Gap{Table: c.Table, Reason: fmt.Sprintf(
				"another table was put in the place of %s, whose triggers are on %s now, so changes went unnoticed", c.Table, l.moved)})
			continue
		case !l.whole && l.made != "" && l.made != made:
			out = append(
				out,
				source.Gap{
					Table: c.Table,
					Reason: fmt.Sprintf(
						"the table %s was recreated without Pingo's triggers, so changes are missing",
						c.Table,
					),
				},
			)
			continue
		case !l.whole:
			out = append(
				out,
				source.Gap{
					Table:      c.Table,
					Deliberate: true,
					Reason: fmt.Sprintf(
						"triggers of Pingo on %s, or on a table whose foreign keys change its rows, were dropped, so changes went unnoticed",
						c.Table,
					),
				},
			)
			continue
		}
		if l.made != made { // it was altered, which leaves its triggers, so it is still the same
			if _, err := p.db.ExecContext(ctx, fmt.Sprintf("UPDATE %s.layouts SET made = %s WHERE id = %s", quoteName(p.db.capture), text(made), l.id)); err != nil {
				return nil, wrap("recording when "+c.Table.String()+" was altered", err)
			}
		}
		if fmt.Sprint(keys.into(c.Table)) != l.cascades {
			out = append(
				out,
				source.Gap{
					Table: c.Table,
					Reason: fmt.Sprintf(
						"a foreign key of %s came or went by which its rows change without a trigger, so changes may have gone unnoticed",
						c.Table,
					),
				},
			)
			continue
		}
		columns, err := p.db.columns(ctx, c.Table)
		if err != nil {
			return nil, wrap("reading the columns of "+c.Table.String(), err)
		}
		kinds := kindsOf(columns)
		var functions []string
		for name := range l.kinds {
			if f, is := strings.CutPrefix(name, functionKind); is {
				functions = append(functions, f)
			}
		}
		if err := p.functions(ctx, functions, kinds); err != nil {
			return nil, err
		}
		switch name, relabelled := journal.Altered(l.kinds, kinds), journal.Relabelled(c.Key, l.kinds, kinds); {
		case c.Root && relabelled != "":
			out = append(out, source.Gap{Table: c.Table, Reason: fmt.Sprintf(
				"values of the key column %s of %s were renamed, so documents have old keys", relabelled, c.Table)})
			continue
		case strings.HasPrefix(name, functionKind):
			out = append(out, source.Gap{Table: c.Table, Safe: true, Reason: fmt.Sprintf(
				"the %s was redefined, so Pingo rebuilds all documents of %s", name, c.Table)})
			continue
		case name != "":
			out = append(out, source.Gap{Table: c.Table, Safe: true, Reason: fmt.Sprintf(
				"the column %s of %s was added, dropped, renamed or given another type", name, c.Table)})
			continue
		}
		if l.earlier {
			foreign = append(foreign, source.Gap{Table: c.Table, Safe: true, Reason: fmt.Sprintf(
				"the triggers of %s were made by an earlier version, and take numbers and times from the session that writes", c.Table)})
		} else if l.others != "" {
			foreign = append(foreign, source.Gap{Table: c.Table, Safe: true, Reason: fmt.Sprintf(
				"the triggers of %s ran with the rights of %s, and writes would fail when that user is dropped", c.Table, l.others)})
		}
	}
	if len(foreign) > 0 {
		inherits, err := p.inherits(ctx, need)
		if err != nil {
			return nil, err
		}
		if inherits {
			out = append(out, foreign...)
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
	out, err := p.forgetful(ctx)
	if err != nil {
		return nil, err
	}
	there, err := p.there(ctx)
	if err != nil {
		return nil, err
	}
	if there {
		if callable, err := p.db.prelockable(ctx); err != nil {
			return nil, err
		} else if !callable {
			user, err := p.user(ctx)
			if err != nil {
				return nil, err
			}
			out = append(out, source.Advice{
				Kind: "locked tables", Table: p.db.capture,
				Message:   "Pingo may not call the function prelocked there: while Pingo reads the journal, MariaDB can refuse writes by sessions that ran LOCK TABLES on a captured table (error 1442)",
				Statement: fmt.Sprintf("%s;\nGRANT EXECUTE ON %s.* TO %s;", p.db.prelockedSQL(), quoteName(p.db.capture), user),
			})
		}
	}
	if p.db.definer == "" && len(need) > 0 {
		user, err := p.user(ctx)
		if err != nil {
			return nil, err
		}
		out = append(out, source.Advice{
			Kind: "dumps", Table: user,
			Message:   fmt.Sprintf("triggers run as %s: where a dump with triggers is restored and this account is missing, MariaDB refuses writes", user),
			Statement: "-- Dump with --skip-triggers, or set the key definer of the source to the application's account.",
		})
	}
	for _, l := range lookups {
		rows, err := p.db.texts(
			ctx,
			fmt.Sprintf(`SELECT INDEX_NAME, COLUMN_NAME FROM information_schema.STATISTICS
			WHERE TABLE_SCHEMA = %s AND TABLE_NAME = %s AND SUB_PART IS NULL ORDER BY INDEX_NAME, SEQ_IN_INDEX`, text(l.Table.Schema), text(l.Table.Name)),
		)
		if err != nil {
			return nil, wrap("looking for indexes on "+l.Table.String(), err)
		}
		indexes := map[string][]string{}
		for _, r := range rows {
			indexes[r[0]] = append(indexes[r[0]], r[1])
		}
		indexed := false
		for _, columns := range indexes {
			first := columns[:min(len(columns), len(l.Columns))]
			indexed = indexed ||
				len(first) == len(l.Columns) &&
					!slices.ContainsFunc(l.Columns, func(c string) bool { return !slices.Contains(first, c) })
		}
		if indexed {
			continue
		}
		about, err := p.db.texts(
			ctx,
			fmt.Sprintf(
				"SELECT coalesce(TABLE_ROWS, 0) FROM information_schema.TABLES WHERE TABLE_SCHEMA = %s AND TABLE_NAME = %s",
				text(l.Table.Schema),
				text(l.Table.Name),
			),
		)
		if err != nil || len(about) == 0 {
			return nil, wrap("counting "+l.Table.String(), err)
		}
		out = append(out, source.Advice{
			Kind: "index", Table: l.Table.String(),
			Message: fmt.Sprintf(
				"no index on %s: each lookup scans about %s rows",
				strings.Join(l.Columns, ", "),
				about[0][0],
			),
			Statement: fmt.Sprintf(
				"CREATE INDEX %s ON %s (%s);",
				quoteName(strings.Join(append([]string{l.Table.Name}, l.Columns...), "_")),
				quote(l.Table),
				quoteNames(l.Columns, ""),
			),
		})
	}
	more, err := p.rights(ctx, need)
	if err != nil {
		return nil, err
	}
	out = append(out, more...)
	keys, err := p.foreignKeys(ctx)
	if numberOf(err) == noProcess { // MissingRights says so
		keys, err = &foreignKeys{}, nil
	}
	if err != nil {
		return nil, err
	}
	for _, c := range need {
		found, err := p.tableAdvice(ctx, c, keys)
		if err != nil {
			return nil, err
		}
		out = append(out, found...)
	}
	return out, nil
}

// rights says what Pingo's user may do that it does not need. Triggers run with its rights.
func (p *Capture) rights(ctx context.Context, need []shape.Captured) ([]source.Advice, error) {
	user, err := p.user(ctx)
	if err != nil {
		return nil, err
	}
	tables := make([]string, len(need))
	for i, c := range need {
		tables[i] = fmt.Sprintf("TABLE_SCHEMA = %s AND TABLE_NAME = %s", text(c.Table.Schema), text(c.Table.Name))
	}
	rows, err := p.db.texts(ctx, fmt.Sprintf(`SELECT '*.*', PRIVILEGE_TYPE FROM information_schema.USER_PRIVILEGES WHERE GRANTEE = %[1]s AND PRIVILEGE_TYPE NOT IN ('USAGE', 'PROCESS')
		UNION ALL SELECT concat('`+"`', TABLE_SCHEMA, '`"+`.*'), PRIVILEGE_TYPE FROM information_schema.SCHEMA_PRIVILEGES
			WHERE GRANTEE = %[1]s AND NOT %[2]s LIKE TABLE_SCHEMA AND PRIVILEGE_TYPE NOT IN ('SELECT', 'TRIGGER')
		UNION ALL SELECT concat('`+"`', TABLE_SCHEMA, '`.`', TABLE_NAME, '`"+`'), PRIVILEGE_TYPE FROM information_schema.TABLE_PRIVILEGES
			WHERE GRANTEE = %[1]s AND NOT TABLE_SCHEMA = %[2]s AND PRIVILEGE_TYPE NOT IN ('SELECT', 'TRIGGER') AND (%[3]s)
		ORDER BY 1, 2`, text(user), text(p.db.capture), strings.Join(append(tables, "false"), " OR ")))
	if err != nil {
		return nil, wrap("reading what Pingo's user may do", err)
	}
	privileges := map[string][]string{}
	var on []string
	for _, row := range rows {
		if privileges[row[0]] == nil {
			on = append(on, row[0])
		}
		privileges[row[0]] = append(privileges[row[0]], row[1])
	}
	var out []source.Advice
	for _, where := range on {
		list, most := privileges[where], 4
		named := strings.Join(list[:min(most, len(list))], ", ")
		if len(list) > most {
			named += fmt.Sprintf(" and %d more", len(list)-most)
		}
		out = append(out, source.Advice{
			Kind: "rights", Table: user,
			Message:   fmt.Sprintf("the user of Pingo has %s on %s, which it does not need; its triggers run with these rights", named, where),
			Statement: fmt.Sprintf("REVOKE %s ON %s FROM %s; -- then run what pingo capture show FILE prints", strings.Join(list, ", "), where, user),
		})
	}
	return out, nil
}

// forgetful says which settings let the server forget in a crash what it has committed. It then uses numbers of the
// journal again, too.
func (p *Capture) forgetful(ctx context.Context) ([]source.Advice, error) {
	var flush string
	if err := p.db.QueryRowContext(ctx, "SELECT @@GLOBAL.innodb_flush_log_at_trx_commit").Scan(&flush); err != nil {
		return nil, wrap("reading what the server keeps in a crash", err)
	}
	if flush == "1" || flush == "3" {
		return []source.Advice{}, nil
	}
	return []source.Advice{{
		Kind: "durability", Table: "innodb_flush_log_at_trx_commit",
		Message:   fmt.Sprintf("innodb_flush_log_at_trx_commit is %s: after a crash the server may lack changes that Pingo has delivered, and documents of them stay until a repair", flush),
		Statement: "SET GLOBAL innodb_flush_log_at_trx_commit = 1;",
	}}, nil
}

// leadsBack reports whether keys lead, over other tables, to one.
func leadsBack(list []cascade, table shape.Ref) bool {
	return slices.ContainsFunc(list, func(f cascade) bool { return f.Parent == table || leadsBack(f.Above, table) })
}

func (p *Capture) tableAdvice(ctx context.Context, c shape.Captured, keys *foreignKeys) ([]source.Advice, error) {
	var out []source.Advice
	for _, f := range keys.into(c.Table) {
		out = append(out, source.Advice{Kind: "cascade", Table: c.Table.String(), Message: fmt.Sprintf(
			"rows change when one of %s does (%s), which fires no trigger here; a trigger on %[1]s notes them before",
			f.Parent,
			f.Name,
		)})
		if leadsBack(f.Above, c.Table) && !f.Itself {
			out = append(out, source.Advice{Kind: "cascade", Table: c.Table.String(), Message: fmt.Sprintf(
				"foreign keys lead from %s over %s back to it: rows that a deletion reaches by going round more than once are not noticed; delete them one level at a time",
				c.Table,
				f.Parent,
			)})
		}
	}
	rows, err := p.db.texts(
		ctx,
		fmt.Sprintf(
			"SELECT coalesce(ENGINE, '') FROM information_schema.TABLES WHERE TABLE_SCHEMA = %s AND TABLE_NAME = %s",
			text(c.Table.Schema),
			text(c.Table.Name),
		),
	)
	if err != nil {
		return nil, wrap("looking at "+c.Table.String(), err)
	}
	if len(rows) > 0 && rows[0][0] != "InnoDB" {
		out = append(out, source.Advice{Kind: "engine", Table: c.Table.String(), Message: fmt.Sprintf(
			"it is kept by %s, which has no transactions: documents may show what a statement had done in part, Pingo loses changes of a statement that fails, and TRUNCATE and the loss of rows in a restart go unnoticed until the next comparison",
			rows[0][0],
		),
			Statement: fmt.Sprintf("ALTER TABLE %s ENGINE = InnoDB;", quote(c.Table))})
	}
	var replica, runs string
	if err := p.db.QueryRowContext(ctx, "SELECT @@gtid_slave_pos, @@slave_run_triggers_for_rbr").Scan(&replica, &runs); err != nil {
		return nil, wrap("reading the server's settings", err)
	}
	if replica != "" && runs == "NO" {
		out = append(
			out,
			source.Advice{
				Kind:      "replica",
				Table:     c.Table.String(),
				Message:   "this server takes changes over from another one, and they fire no triggers here: make that one the source, or have triggers run",
				Statement: "SET GLOBAL slave_run_triggers_for_rbr = ENFORCE;",
			},
		)
	}
	return out, nil
}
