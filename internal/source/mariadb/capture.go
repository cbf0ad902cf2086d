package mariadb

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"sort"
	"strings"
	"time"

	"pingo/internal/core/shape"
	"pingo/internal/source"
	"pingo/internal/source/journal"
)

// needs adds to what is to be captured what only the database knows.
func (p *Capture) needs(ctx context.Context, list []shape.Captured, keys *foreignKeys) ([]needed, error) {
	out := make([]needed, 0, len(list))
	for _, c := range list {
		n := needed{forms: map[string]string{}}
		columns, err := p.db.columns(ctx, c.Table)
		if err != nil {
			return nil, wrap("reading the columns of "+c.Table.String(), err)
		}
		if len(columns) == 0 {
			continue // what reads it says so, and the others are captured all the same
		}
		kinds := kindsOf(columns)
		n.kinds = map[string]string{}
		n.Captured, n.told = journal.Only(c, kinds)
		if err := p.functions(ctx, c.Functions, n.kinds); err != nil {
			return nil, err
		}
		for _, name := range slices.Concat(c.Key, c.Watch, c.Links) {
			n.kinds[name] = kinds[name]
		}
		for _, col := range columns {
			if slices.Contains(n.Key, col.Name) || slices.Contains(n.Links, col.Name) {
				n.forms[col.Name] = base(col.Form)
			}
		}
		n.cascades = keys.into(c.Table)
		out = append(out, n)
	}
	return out, nil
}

// functionKind stands before the names of functions among the kinds of columns.
const functionKind = "function "

// functions adds to the kinds of columns when functions were last defined.
func (p *Capture) functions(ctx context.Context, names []string, kinds map[string]string) error {
	for _, name := range names {
		rows, err := p.db.texts(ctx, `SELECT ROUTINE_SCHEMA, LAST_ALTERED, coalesce(md5(ROUTINE_DEFINITION), '')
			FROM information_schema.ROUTINES WHERE ROUTINE_TYPE = 'FUNCTION' AND ROUTINE_NAME = `+text(name)+" ORDER BY 1")
		if err != nil {
			return wrap("reading the function "+name, err)
		}
		kinds[functionKind+name] = fmt.Sprint(rows)
	}
	return nil
}

// kindsOf says what each column is: its type, and its place, since another column may have got its name.
func kindsOf(columns []shape.TableColumn) map[string]string {
	out := map[string]string{}
	for i, c := range columns {
		out[c.Name] = fmt.Sprint(i+1, " ", c.Native)
	}
	return out
}

// foreignKeys are the foreign keys of a server by which rows change, by the table whose rows change. Where the server tells
// names of tables only by their letters, they are in lower case.
type foreignKeys struct {
	of    map[shape.Ref][]cascade
	folds bool
}

// foreignKeys reads InnoDB's own catalogue, since the other one hides keys from an account that has rights on single
// tables.
func (p *Capture) foreignKeys(ctx context.Context) (*foreignKeys, error) {
	name := func(column, part string) string {
		return "CONVERT(CONVERT(BINARY substring_index(" + column + ", '/', " + part + ") USING filename) USING utf8mb4)"
	}
	rows, err := p.db.texts(ctx, `SELECT substr(f.ID, locate('/', f.ID) + 1), `+name("FOR_NAME", "1")+", "+name("FOR_NAME", "-1")+", "+name("REF_NAME", "1")+", "+name("REF_NAME", "-1")+`,
			TYPE & 3 > 0, TYPE & 12 > 0, FOR_COL_NAME, REF_COL_NAME, @@lower_case_table_names > 0
		FROM information_schema.INNODB_SYS_FOREIGN f JOIN information_schema.INNODB_SYS_FOREIGN_COLS c ON c.ID = f.ID
		WHERE TYPE & 15 > 0 ORDER BY f.FOR_NAME, f.ID, POS`)
	if numberOf(err) == noProcess {
		user, of := p.user(ctx)
		if of != nil {
			return nil, of
		}
		return nil, &source.Error{Fault: source.SchemaChanged, Err: fmt.Errorf(
			"cannot read the foreign keys by which rows change, since the right PROCESS is missing (MariaDB says %w). Run: GRANT PROCESS ON *.* TO %s;", err, user)}
	}
	if err != nil {
		return nil, wrap("reading foreign keys", err)
	}
	out := &foreignKeys{of: map[shape.Ref][]cascade{}}
	for _, row := range rows {
		child, parent := shape.Ref{Schema: row[1], Name: row[2]}, shape.Ref{Schema: row[3], Name: row[4]}
		out.folds = row[9] == "1"
		list := out.of[child]
		if n := len(list); n == 0 || list[n-1].Name != row[0] {
			list = append(list, cascade{Name: row[0], Parent: parent, Itself: parent == child, OnDelete: row[5] == "1", OnUpdate: row[6] == "1"})
		}
		f := &list[len(list)-1]
		f.From, f.To = append(f.From, row[7]), append(f.To, row[8])
		out.of[child] = list
	}
	return out, nil
}

// anyForeignKey returns the failure to read foreign keys if there are any on tables, as far as the account can see.
func (p *Capture) anyForeignKey(ctx context.Context, need []shape.Captured, unread error) (bool, error) {
	for _, c := range need {
		rows, err := p.db.texts(ctx, fmt.Sprintf(`SELECT 1 FROM information_schema.KEY_COLUMN_USAGE
			WHERE TABLE_SCHEMA = %s AND TABLE_NAME = %s AND REFERENCED_TABLE_NAME IS NOT NULL LIMIT 1`, text(c.Table.Schema), text(c.Table.Name)))
		if err != nil {
			return false, wrap("looking for foreign keys of "+c.Table.String(), err)
		}
		if len(rows) > 0 {
			return true, unread
		}
	}
	return false, nil
}

// into lists the foreign keys by which rows of a table change without its triggers, and those by which the rows that
// these lead to do.
func (k *foreignKeys) into(t shape.Ref, below ...shape.Ref) []cascade {
	if k.folds {
		t = shape.Ref{Schema: strings.ToLower(t.Schema), Name: strings.ToLower(t.Name)}
	}
	out := slices.Clone(k.of[t])
	for i := range out {
		// Keys may lead back to a table over others. How far a cascade goes there is not known
		// beforehand, so they are followed once.
		if !slices.Contains(below, t) {
			out[i].Above = k.into(out[i].Parent, append(slices.Clone(below), t)...)
		}
	}
	return out
}

// Script is all that Install runs, with the least grants that Pingo needs when another user runs
// it.
func (p *Capture) Script(ctx context.Context, need []shape.Captured) (string, error) {
	if err := p.db.own(ctx); err != nil {
		return "", err
	}
	keys, err := p.foreignKeys(ctx)
	if numberOf(err) == noProcess { // which the script grants: it is needed beforehand only if there are such keys
		var any bool
		if any, err = p.anyForeignKey(ctx, need, err); !any {
			keys = &foreignKeys{}
		}
	}
	if err != nil {
		return "", err
	}
	list, err := p.needs(ctx, need, keys)
	if err != nil {
		return "", err
	}
	user, err := p.user(ctx)
	if err != nil {
		return "", err
	}
	var b strings.Builder
	b.WriteString(
		"-- What Pingo installs to notice changes. Creating a trigger waits for transactions that use\n-- the table, and writers wait behind it: so it does not wait. Run the script again where it stops.\n" +
			"SET NAMES utf8mb4 COLLATE utf8mb4_general_ci;\nSET sql_mode = " + settings["sql_mode"] + ";\nSET lock_wait_timeout = 0;\n" +
			"USE " + quoteName(p.db.name) + ";\n\n",
	)
	for _, sql := range p.db.journalSQL() {
		b.WriteString(sql + ";\n\n")
	}
	there, err := p.there(ctx)
	if err != nil {
		return "", err
	}
	if !there { // else it waits for those that read the journal, and its numbers have begun
		b.WriteString(p.db.begins() + ";\n")
	}
	b.WriteString(strings.Replace(p.db.prelockedSQL(), "CREATE OR REPLACE", "CREATE OR REPLACE DEFINER = "+user, 1) + ";\n")
	b.WriteString("\nDELIMITER //\n")
	for _, c := range list {
		fmt.Fprintf(&b, "\n-- %s\n", strings.NewReplacer("\n", " ", "\r", " ").Replace(c.Table.String()))
		for _, t := range p.db.triggersOf(c) {
			b.WriteString(strings.Replace(t.sql, createTrigger+" TRIGGER", createTrigger+" DEFINER = "+user+" TRIGGER", 1) + "//\n")
		}
		b.WriteString(p.db.layoutSQL(c, "NULL") + "//\n")
	}
	if p.db.definer != "" {
		b.WriteString("\n" + p.db.mayNoteSQL() + "//\n")
	}
	b.WriteString("\nDELIMITER ;\n")
	fmt.Fprintf(&b, "\n-- The least that Pingo needs, as %s.\n", user)
	fmt.Fprintf(
		&b,
		"GRANT SELECT, INSERT, UPDATE, DELETE, EXECUTE, LOCK TABLES ON %s.* TO %s;\nGRANT PROCESS ON *.* TO %[2]s; -- to notice TRUNCATE\n",
		quoteName(p.db.capture),
		user,
	)
	for _, c := range need {
		fmt.Fprintf(&b, "GRANT SELECT, TRIGGER ON %s TO %s;\n", quote(c.Table), user)
	}
	above := map[shape.Ref][]string{}
	for _, c := range list {
		columnsAbove(c.cascades, above)
	}
	tables := slices.SortedFunc(maps.Keys(above), func(a, b shape.Ref) int { return strings.Compare(a.String(), b.String()) })
	for _, table := range tables {
		if slices.ContainsFunc(need, func(c shape.Captured) bool { return c.Table == table }) {
			continue
		}
		fmt.Fprintf(&b, "GRANT SELECT (%s), TRIGGER ON %s TO %s; -- its foreign keys change captured rows\n", quoteNames(distinct(above[table]), ""), quote(table), user)
	}
	if p.db.definer != "" {
		definer := account(p.db.definer)
		fmt.Fprintf(&b, "\n-- What triggers need, which run with the rights of %s.\nGRANT INSERT ON %[2]s.journal TO %[1]s;\nGRANT EXECUTE ON FUNCTION %[2]s.may_note TO %[1]s;\n", definer, quoteName(p.db.capture))
		for _, c := range need {
			fmt.Fprintf(&b, "GRANT TRIGGER ON %s TO %s;\n", quote(c.Table), definer)
		}
		for _, table := range tables {
			fmt.Fprintf(&b, "GRANT TRIGGER ON %s TO %s;\n", quote(table), definer)
		}
	}
	b.WriteString("\n-- A row that stays, so that no session locks the whole journal.\n" + p.db.keptRow(p.db.callPrelocked()) + ";\n")
	return b.String(), nil
}

// columnsAbove adds the columns that triggers read of tables whose foreign keys change rows of captured ones.
func columnsAbove(list []cascade, columns map[shape.Ref][]string) {
	for _, f := range list {
		columns[f.Parent] = append(columns[f.Parent], f.To...)
		for _, above := range f.Above {
			columns[f.Parent] = append(columns[f.Parent], above.From...)
		}
		columnsAbove(f.Above, columns)
	}
}

func distinct(names []string) []string {
	sorted := slices.Sorted(slices.Values(names))
	return slices.Compact(sorted)
}

// own refuses a database of the journal in which something is that Pingo does not make: a view in the place of a table, a
// trigger, or a foreign key, by which statements of Pingo would do what another user wants.
func (db *database) own(ctx context.Context) error {
	rows, err := db.texts(ctx, fmt.Sprintf(`SELECT concat('the ', lower(if(TABLE_TYPE = 'BASE TABLE', concat(coalesce(ENGINE, 'broken'), ' table'), TABLE_TYPE)), ' ', TABLE_NAME) FROM information_schema.TABLES
			WHERE TABLE_SCHEMA = %[1]s AND NOT (TABLE_TYPE = 'BASE TABLE' AND coalesce(ENGINE, '') = 'InnoDB' AND TABLE_NAME IN ('owner', 'layouts', 'journal', 'being_removed'))
		UNION ALL SELECT concat('the trigger ', TRIGGER_NAME, ' of ', DEFINER) FROM information_schema.TRIGGERS WHERE EVENT_OBJECT_SCHEMA = %[1]s
		UNION ALL SELECT concat('the routine ', ROUTINE_NAME, ' of ', DEFINER) FROM information_schema.ROUTINES WHERE ROUTINE_SCHEMA = %[1]s
			AND NOT (ROUTINE_TYPE = 'FUNCTION' AND ROUTINE_NAME IN ('prelocked', 'may_note') AND SECURITY_TYPE = 'DEFINER')
		UNION ALL SELECT concat('the foreign key ', CONSTRAINT_NAME) FROM information_schema.REFERENTIAL_CONSTRAINTS WHERE CONSTRAINT_SCHEMA = %[1]s OR UNIQUE_CONSTRAINT_SCHEMA = %[1]s
		UNION ALL SELECT concat('the generated column ', TABLE_NAME, '.', COLUMN_NAME) FROM information_schema.COLUMNS WHERE TABLE_SCHEMA = %[1]s AND coalesce(GENERATION_EXPRESSION, '') <> ''
		ORDER BY 1`, text(db.capture)))
	if err != nil {
		return wrap("reading what is in "+db.capture, err)
	}
	if len(rows) == 0 {
		return nil
	}
	var found []string
	for _, row := range rows[:min(3, len(rows))] {
		found = append(found, row[0])
	}
	return &source.Error{Fault: source.SchemaChanged, Err: fmt.Errorf(
		"the database %s holds what Pingo did not make, so Pingo does not use it: %s. Check who made it, then drop it",
		db.capture, strings.Join(found, ", "))}
}

// user is who Pingo is to the server, as a grant names it.
func (p *Capture) user(ctx context.Context) (string, error) {
	var name string
	if err := p.db.QueryRowContext(ctx, "SELECT current_user()").Scan(&name); err != nil {
		return "", explain(err)
	}
	return account(name), nil
}

// Install installs what is missing or different, a table at a time. It claims the journal for
// one service: two that read it would each take changes away from the other.
func (p *Capture) Install(ctx context.Context, service string, need []shape.Captured) ([]shape.Ref, error) {
	if err := p.db.own(ctx); err != nil {
		return nil, err
	}
	there, err := p.there(ctx)
	if err != nil {
		return nil, err
	}
	if !there {
		for _, sql := range append(p.db.journalSQL(), p.db.begins()) {
			if _, err := p.db.ExecContext(ctx, sql); err != nil {
				return nil, wrap("creating the journal", err)
			}
		}
		if err := p.db.own(ctx); err != nil { // another user may have been faster
			return nil, err
		}
	}
	lacks, err := p.earlier(ctx)
	if err != nil {
		return nil, err
	}
	if lacks {
		for _, sql := range p.db.upgradeSQL() {
			if err := p.patiently(ctx, sql); err != nil {
				return nil, wrap("making the journal what this version needs", err)
			}
		}
	}
	if err := p.makePrelocked(ctx); err != nil {
		return nil, err
	}
	prelocked := "true"
	if callable, err := p.db.prelockable(ctx); err != nil {
		return nil, err
	} else if callable {
		prelocked = p.db.callPrelocked()
	}
	if _, err := p.db.ExecContext(ctx, p.db.keptRow(prelocked)); err != nil {
		return nil, wrap("preparing the journal", err)
	}
	if err := p.claim(ctx, service); err != nil {
		return nil, err
	}
	keys, err := p.foreignKeys(ctx)
	if err != nil {
		return nil, err
	}
	list, err := p.needs(ctx, need, keys)
	if err != nil {
		return nil, err
	}
	installed, err := p.installed(ctx)
	if err != nil {
		return nil, err
	}
	standing, err := p.standing(ctx)
	if err != nil {
		return nil, err
	}
	stores, err := p.db.stores(ctx)
	if err != nil {
		return nil, err
	}
	inherits := false
	for _, t := range standing {
		if t.ours {
			continue
		}
		if inherits, err = p.inherits(ctx, need); err != nil {
			return nil, err
		}
		break
	}
	var made []shape.Ref
	wanted := map[string]bool{}
	for _, c := range list {
		whole, same := true, true
		for _, t := range p.db.triggersOf(c) {
			name := t.table.Schema + "." + t.name
			wanted[name] = true
			has, stands := standing[name]
			if stands && !has.on(t.table) { // another table is in its place
				if err := p.patiently(ctx, dropTrigger(name)); err != nil {
					return made, wrap("dropping trigger "+name, err)
				}
				stands = false
			}
			if stands && (has.ours || !inherits) {
				continue
			}
			if p.db.definer != "" {
				return made, &source.Error{Fault: source.SchemaChanged, Err: fmt.Errorf(
					"triggers on %s are missing, and an administrator creates those that run as %s: run what pingo capture show prints", t.table, p.db.definer)}
			}
			whole, same = whole && stands, false
			if err := p.patiently(ctx, t.sql); err != nil {
				return made, wrap("installing triggers on "+t.table.String(), err)
			}
		}
		store := text(stores[c.Table])
		if _, err := p.db.ExecContext(ctx, p.db.layoutSQL(c, store)); err != nil {
			return made, wrap("recording the layout of "+c.Table.String(), err)
		}
		if !whole {
			// What the table is kept in may be another one than when it was last seen; that was
			// noticed as a gap.
			if _, err := p.db.ExecContext(ctx, fmt.Sprintf("UPDATE %s.layouts SET store = %s, made = %s WHERE id = %d", quoteName(p.db.capture), store, madeAt(c.Table), layoutID(c))); err != nil {
				return made, wrap("recording the layout of "+c.Table.String(), err)
			}
			if before, known := installed[c.Table]; known && journal.Restates(before.kinds, c.kinds) {
				if _, err := p.db.ExecContext(ctx, fmt.Sprintf("INSERT INTO %s.journal (layout, op) SELECT id, 't' FROM %[1]s.layouts WHERE id = %d AND %s", quoteName(p.db.capture), layoutID(c), prelocked)); err != nil {
					return made, wrap("noting that all rows of "+c.Table.String()+" changed", err)
				}
			}
		}
		if !same {
			made = append(made, c.Table)
		}
	}
	return made, p.dropOthers(ctx, standing, wanted)
}

// earlier reports whether the journal was made by an earlier version.
func (p *Capture) earlier(ctx context.Context) (bool, error) {
	rows, err := p.db.texts(ctx, "SELECT 1 FROM information_schema.COLUMNS WHERE TABLE_NAME = 'layouts' AND COLUMN_NAME = 'forms' AND TABLE_SCHEMA = "+text(p.db.capture))
	return len(rows) == 0, explain(err)
}

// makePrelocked makes the function that reads of the journal call, if another user has not made it. A user without the
// right goes without: Advice says what that means.
func (p *Capture) makePrelocked(ctx context.Context) error {
	made, err := p.db.texts(ctx, "SELECT DEFINER FROM information_schema.ROUTINES WHERE ROUTINE_NAME = 'prelocked' AND DEFINER = current_user() AND ROUTINE_SCHEMA = "+text(p.db.capture))
	if err != nil || len(made) > 0 {
		return explain(err)
	}
	_, err = p.db.ExecContext(ctx, p.db.prelockedSQL())
	denied := []uint16{databaseDenied, executeDenied, noProcess, noTriggerRights}
	if err == nil || slices.Contains(denied, numberOf(err)) {
		return nil
	}
	return wrap("creating a function next to the journal", err)
}

// dropOthers drops triggers that are used no more. Their layouts stay, since rows of theirs may
// still wait in the journal.
func (p *Capture) dropOthers(ctx context.Context, standing map[string]standingTrigger, wanted map[string]bool) error {
	for name := range standing {
		if wanted[name] {
			continue
		}
		if err := p.patiently(ctx, dropTrigger(name)); err != nil {
			return wrap("dropping trigger "+name, err)
		}
	}
	return nil
}

// dropTrigger drops the trigger schema.name.
func dropTrigger(name string) string {
	schema, trigger, _ := strings.Cut(name, ".")
	return "DROP TRIGGER IF EXISTS " + quoteName(schema) + "." + quoteName(trigger)
}

const (
	attempts     = 150
	attemptEvery = 100 * time.Millisecond
)

// patiently runs a statement, and again when transactions hold the table. It never waits for them in the server, where
// writers would wait behind it, and a second is the shortest time.
func (p *Capture) patiently(ctx context.Context, sql string) error {
	for attempt := 1; ; attempt++ {
		_, err := p.db.ExecContext(ctx, "SET STATEMENT lock_wait_timeout = 0 FOR "+sql)
		if numberOf(err) != lockWait {
			return err
		}
		if attempt == attempts {
			return fmt.Errorf(
				"transactions that use the table stay open, and a trigger can only be made when they have ended: look for them with SHOW PROCESSLIST (%w)",
				err,
			)
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(attemptEvery):
		}
	}
}

// there reports whether there is a journal that is not being removed.
func (p *Capture) there(ctx context.Context) (bool, error) {
	rows, err := p.db.texts(ctx, `SELECT TABLE_NAME FROM information_schema.TABLES
		WHERE TABLE_NAME IN ('journal', 'being_removed') AND TABLE_SCHEMA = `+text(p.db.capture))
	return len(rows) == 1 && rows[0][0] == "journal", explain(err)
}

func (p *Capture) claim(ctx context.Context, service string) error {
	owner := quoteName(p.db.capture) + ".owner"
	_, err := p.db.ExecContext(
		ctx,
		fmt.Sprintf(
			"INSERT INTO %s (service) SELECT %s FROM dual WHERE NOT EXISTS (SELECT 1 FROM %[1]s)",
			owner,
			text(service),
		),
	)
	if err != nil {
		return wrap("claiming the journal", err)
	}
	var found string
	if err := p.db.QueryRowContext(ctx, "SELECT service FROM "+owner).Scan(&found); err != nil {
		return wrap("reading the journal's owner", err)
	}
	if found != service {
		return fmt.Errorf(
			"another Pingo service (%s) reads this database's journal already: remove its capture first (pingo capture remove), or use its records database",
			found,
		)
	}
	return nil
}

// standingTrigger is a trigger that stands: on which table, which may have been renamed with it, with whose rights it
// runs, and whether that is the account that it is to be.
type standingTrigger struct {
	table   shape.Ref
	definer string
	ours    bool
	// earlier: a version of Pingo made it that took what a session may set for numbers and times.
	earlier bool
}

// runsAs is the SQL for the account with whose rights triggers are to run, as the catalogue has it.
func (db *database) runsAs() string {
	if db.definer != "" {
		return text(db.definer)
	}
	return "current_user()"
}

// on reports whether it stands on a table. A server may tell a name in other letters than another time.
func (s standingTrigger) on(table shape.Ref) bool {
	return strings.EqualFold(s.table.Schema, table.Schema) && strings.EqualFold(s.table.Name, table.Name)
}

// standing lists the triggers of ours that there are, as schema.name.
func (p *Capture) standing(ctx context.Context) (map[string]standingTrigger, error) {
	rows, err := p.db.texts(ctx, `SELECT TRIGGER_SCHEMA, TRIGGER_NAME, DEFINER, DEFINER = `+p.db.runsAs()+`, EVENT_OBJECT_SCHEMA, EVENT_OBJECT_TABLE, instr(ACTION_STATEMENT, `+text(ownNumbers)+`) > 0 FROM information_schema.TRIGGERS
		WHERE TRIGGER_NAME LIKE 'pingo\\_%' AND instr(ACTION_STATEMENT, `+text(quoteName(p.db.capture)+".journal")+`) > 0`)
	if err != nil {
		return nil, wrap("reading the installed triggers", err)
	}
	out := map[string]standingTrigger{}
	for _, row := range rows {
		out[row[0]+"."+row[1]] = standingTrigger{shape.Ref{Schema: row[4], Name: row[5]}, row[2], row[3] == "1", row[6] != "1"}
	}
	return out, nil
}

// inherits reports whether triggers that run with the rights of others are to be recreated by the user who is connected
// now: when the others are dropped, every write to their tables fails.
func (p *Capture) inherits(ctx context.Context, need []shape.Captured) (bool, error) {
	missing, err := p.MissingRights(ctx, need)
	return len(missing) == 0, err
}

// stores says of each table what its rows are kept in, and those of its partitions: it is another
// one after TRUNCATE, which no trigger sees.
func (db *database) stores(ctx context.Context) (map[shape.Ref]string, error) {
	rows, err := db.texts(
		ctx,
		"SELECT NAME, TABLE_ID FROM information_schema.INNODB_SYS_TABLES WHERE NAME LIKE '%/%' ORDER BY TABLE_ID",
	)
	if err != nil {
		return nil, wrap("looking what tables are kept in", err)
	}
	byFile := map[string][]string{}
	for _, row := range rows {
		name, _, _ := strings.Cut(strings.ReplaceAll(row[0], "#p#", "#P#"), "#P#")
		byFile[name] = append(byFile[name], row[1])
	}
	tables, err := db.texts(
		ctx,
		fmt.Sprintf("SELECT schema_name, table_name FROM %s.layouts", quoteName(db.capture)),
	)
	if numberOf(err) == noTable || numberOf(err) == noDatabase {
		err = nil
	}
	if err != nil {
		return nil, wrap("reading the layouts", err)
	}
	out := map[shape.Ref]string{}
	for file, ids := range byFile {
		schema, name, _ := strings.Cut(file, "/")
		out[shape.Ref{Schema: schema, Name: name}] = strings.Join(ids, ",")
	}
	for _, row := range tables { // those whose names are written otherwise as files
		ref := shape.Ref{Schema: row[0], Name: row[1]}
		if ids := byFile[fileName(row[0])+"/"+fileName(row[1])]; ids != nil {
			out[ref] = strings.Join(ids, ",")
		}
	}
	return out, nil
}

// fileName is how the server writes a name as that of a file, but for letters beyond ASCII that
// have a short form there.
func fileName(name string) string {
	var b strings.Builder
	for _, r := range name {
		if r == '_' || r >= '0' && r <= '9' || r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' {
			b.WriteRune(r)
			continue
		}
		fmt.Fprintf(&b, "@%04x", r)
	}
	return b.String()
}

// removal lists the statements that take everything of ours away, the journal last. Before anything goes it is
// marked, so that a process that looks meanwhile sees a removal, and not triggers that a person dropped.
func (p *Capture) removal(ctx context.Context) ([]string, error) {
	standing, err := p.standing(ctx)
	if err != nil {
		return nil, err
	}
	in := quoteName(p.db.capture)
	there, err := p.db.texts(ctx, "SELECT 1 FROM information_schema.SCHEMATA WHERE SCHEMA_NAME = "+text(p.db.capture))
	if err != nil {
		return nil, wrap("looking for the journal", err)
	}
	var out []string
	if len(there) > 0 {
		out = append(out, "CREATE TABLE IF NOT EXISTS "+in+".being_removed (id int)")
	}
	for _, name := range slices.Sorted(maps.Keys(standing)) {
		out = append(out, dropTrigger(name))
	}
	if len(there) > 0 { // a database is dropped a table at a time, and the mark may not be the last
		out = append(out, "DROP TABLE IF EXISTS "+in+".journal", "DROP DATABASE IF EXISTS "+in)
	}
	return out, nil
}

// RemovalScript drops what Remove drops.
func (p *Capture) RemovalScript(ctx context.Context) (string, error) {
	statements, err := p.removal(ctx)
	if err != nil || len(statements) == 0 {
		return "", err
	}
	return strings.Join(statements, ";\n") + ";\n", nil
}

// Remove drops every trigger of ours, then the database with the journal.
func (p *Capture) Remove(ctx context.Context) error {
	statements, err := p.removal(ctx)
	if err != nil {
		return err
	}
	for _, statement := range statements {
		if err := p.patiently(ctx, statement); err != nil {
			return wrap("removing capture", err)
		}
	}
	return nil
}

// installed reads the layouts whose triggers all stand.
func (p *Capture) installed(ctx context.Context) (map[shape.Ref]installedLayout, error) {
	standing, err := p.standing(ctx)
	if err != nil {
		return nil, err
	}
	rows, err := p.db.texts(
		ctx,
		fmt.Sprintf(
			"SELECT id, schema_name, table_name, triggers, cascades, coalesce(made, ''), forms FROM %s.layouts WHERE id <> %s",
			quoteName(p.db.capture), ownLayout,
		),
	)
	if err != nil {
		return nil, wrap("reading the layouts", err)
	}
	out := map[shape.Ref]installedLayout{}
	for _, row := range rows {
		ref := shape.Ref{Schema: row[1], Name: row[2]}
		l := installedLayout{id: row[0], cascades: row[4], made: row[5], whole: true}
		var names []string
		if err := errors.Join(json.Unmarshal([]byte(row[3]), &names), json.Unmarshal([]byte(row[6]), &l.kinds)); err != nil {
			return nil, errors.New(
				"a layout of the journal was changed and cannot be read: run pingo capture remove, then pingo apply",
			)
		}
		any := false
		for _, name := range names {
			has, stands := standing[name]
			if stands && !has.on(ref) && onTable(name) {
				l.moved, stands = has.table.String(), false
			}
			if l.whole, any = l.whole && stands, any || stands; stands && !has.ours {
				l.others = has.definer
			}
			l.earlier = l.earlier || stands && has.earlier
		}
		if before, has := out[ref]; !has || any && !before.whole {
			out[ref] = l
		}
	}
	return out, nil
}

type installedLayout struct {
	id, cascades, made string
	kinds              map[string]string
	whole              bool   // all triggers of it stand
	moved              string // the table that its triggers stand on, when that is another one
	earlier            bool   // a trigger of it was made by an earlier version
	others             string // with whose rights one of them runs, when it is not who is connected now
}

// Status reads which tables have triggers.
func (p *Capture) Status(ctx context.Context) (source.CaptureStatus, error) {
	var s source.CaptureStatus
	there, err := p.there(ctx)
	if err != nil || !there {
		return s, err
	}
	installed, err := p.installed(ctx)
	if err != nil {
		return s, err
	}
	s.Installed, s.Tables = true, []string{}
	for table, l := range installed {
		if l.whole {
			s.Tables = append(s.Tables, table.String())
		}
	}
	sort.Strings(s.Tables)
	return s, nil
}
