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

	"github.com/cespare/xxhash/v2"

	"pingo/internal/core/shape"
	"pingo/internal/source"
	"pingo/internal/source/journal"
)

// journalSQL makes the journal: a row for each changed row. layout says which table it was, and
// which columns key, was, before and after hold: one column's value as text, or those of several as
// a JSON list of texts; and which columns a bit of changed stands for. Keep it lean: every write of
// the application pays for it.
func (db *database) journalSQL() []string {
	in := quoteName(db.capture)
	return []string{
		"CREATE DATABASE IF NOT EXISTS " + in + " CHARACTER SET utf8mb4 COLLATE utf8mb4_bin",
		`-- One row: who reads the journal. mark moves on while somebody does, so that an older copy
-- of the database can be told from what it was.
CREATE TABLE IF NOT EXISTS ` + in + `.owner (
    service varchar(200) NOT NULL PRIMARY KEY,
    holder varchar(200) NOT NULL DEFAULT '',
    epoch bigint NOT NULL DEFAULT 0,
    mark bigint NOT NULL DEFAULT 0,
    born char(36) NOT NULL DEFAULT uuid()
) ENGINE=InnoDB`,
		`CREATE TABLE IF NOT EXISTS ` + in + `.layouts (
    id int NOT NULL PRIMARY KEY,
    schema_name varchar(64) NOT NULL,
    table_name varchar(64) NOT NULL,
    key_columns longtext NOT NULL,
    links longtext NOT NULL,
    triggers longtext NOT NULL,
    cascades longtext NOT NULL,
    -- what the table's rows are kept in, another one when it was truncated, and when the table
    -- was made
    store longtext,
    made datetime,
    -- the watched columns that change together, and what each column was
    column_groups longtext NOT NULL DEFAULT 'null',
    forms longtext NOT NULL DEFAULT 'null'
) ENGINE=InnoDB`,
		`CREATE TABLE IF NOT EXISTS ` + in + `.journal (
    seq bigint NOT NULL AUTO_INCREMENT PRIMARY KEY,
    at timestamp(6) NOT NULL DEFAULT current_timestamp(6),
    layout int NOT NULL,
    changed int,
    op char(1) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
    ` + "`key` longtext, was longtext, `before` longtext, `after`" + ` longtext
) ENGINE=InnoDB`,
	}
}

// upgradeSQL adds what a journal of an earlier version lacks.
func (db *database) upgradeSQL() []string {
	in := quoteName(db.capture)
	return []string{
		"ALTER TABLE " + in + ".journal ADD COLUMN IF NOT EXISTS changed int, ADD COLUMN IF NOT EXISTS was longtext",
		"ALTER TABLE " + in + ".layouts ADD COLUMN IF NOT EXISTS column_groups longtext NOT NULL DEFAULT 'null', ADD COLUMN IF NOT EXISTS forms longtext NOT NULL DEFAULT 'null'",
	}
}

// begins sets the first number of a new journal to the microseconds of now, so that the numbers
// of one that was removed never come again in the next one.
func (db *database) begins() string {
	return fmt.Sprintf(
		"ALTER TABLE %s.journal AUTO_INCREMENT = %d",
		quoteName(db.capture),
		time.Now().UnixMicro(),
	)
}

// cascade is a foreign key that changes rows of a captured table, without its triggers, when a
// row of another one changes or goes.
type cascade struct {
	Name   string
	Parent shape.Ref
	// From are the columns of the captured table, and To those of the parent.
	From, To []string
	// OnDelete and OnUpdate are true when a row changes then.
	OnDelete, OnUpdate bool
	// Itself: the parent is the table itself.
	Itself bool
	// Above are the cascades into the parent itself.
	Above []cascade
}

// needed is what one table needs, with what only its database knows.
type needed struct {
	shape.Captured
	forms map[string]string // of columns of keys and links
	kinds map[string]string // what each watched column is; empty for one that is not there
	// told: which documents a row makes can be told. Else each change stands for one of all rows, until the key
	// is back, or another definition is applied.
	told     bool
	cascades []cascade
}

// layoutID names a layout by its content, so that the same need always makes the same SQL.
func layoutID(c needed) int32 {
	return int32(
		xxhash.Sum64String(
			fmt.Sprintf("3 %q %q %q %q %q %q %q %v %v", c.Table, c.Key, c.Watch, c.Links, c.Groups, c.forms, c.kinds, c.cascades, c.told),
		) & 0x7fffffff,
	)
}

// trigger is one trigger: its name, the table it stands on, and the whole statement.
type trigger struct {
	name  string
	table shape.Ref
	sql   string
}

// triggersOf lists what notes the changes of a table. A trigger of the application that fails
// would make its write fail, so ours do not: where a column is gone that one of them names, all
// rows of the table are noted as changed, and where the journal itself is gone, nothing.
func (db *database) triggersOf(c needed) []trigger {
	id := layoutID(c)
	journal := quoteName(db.capture) + ".journal"
	guarded := func(body string) string {
		return fmt.Sprintf("BEGIN\n"+
			"    DECLARE EXIT HANDLER FOR %d, %d, %d, %d, %d, %d BEGIN\n"+
			"        DECLARE CONTINUE HANDLER FOR %[2]d, %[3]d, %[4]d, %[5]d, %[6]d BEGIN END;\n"+
			"        INSERT INTO %[7]s (layout, op) VALUES (%[8]d, 't');\n"+
			"    END;\n    %[9]s\nEND",
			noColumn, noTable, noDatabase, databaseDenied, noTableSelect, noColumnSelect, journal, id, body)
	}
	note := func(op, changed, key, was, before, after string) string {
		if !c.told {
			return fmt.Sprintf("INSERT INTO %s (layout, op) VALUES (%d, 't');", journal, id)
		}
		return fmt.Sprintf("INSERT INTO %s (layout, op, changed, `key`, was, `before`, `after`) VALUES (%d, '%s', %s, %s, %s, %s, %s);",
			journal, id, op, changed, key, was, before, after)
	}
	oldKey, newKey := c.asText(c.Key, "OLD", nil), c.asText(c.Key, "NEW", nil)
	oldLinks, newLinks := c.asText(c.Links, "OLD", nil), c.asText(c.Links, "NEW", nil)
	update := fmt.Sprintf(
		"IF %s THEN\n        %s\n    END IF;",
		c.differ(c.Watch),
		note("u", c.changed(), newKey, fmt.Sprintf("IF(%s, %s, NULL)", c.differ(c.Key), oldKey),
			fmt.Sprintf("IF(%s, %s, NULL)", c.differ(c.Links), oldLinks), newLinks),
	)
	var out []trigger
	add := func(kind, event string, on shape.Ref, body string) {
		name := fmt.Sprintf("pingo_%d_%s", id, kind)
		out = append(
			out,
			trigger{name, on, fmt.Sprintf("CREATE OR REPLACE TRIGGER %s.%s %s ON %s FOR EACH ROW %s",
				quoteName(on.Schema), quoteName(name), event, quote(on), guarded(body))},
		)
	}
	add("i", "AFTER INSERT", c.Table, note("i", "NULL", newKey, "NULL", "NULL", newLinks))
	add("u", "AFTER UPDATE", c.Table, update)
	add("d", "AFTER DELETE", c.Table, note("d", "NULL", oldKey, "NULL", oldLinks, "NULL"))
	number := 0
	var follow func(list []cascade, below []cascade)
	follow = func(list []cascade, below []cascade) {
		for _, f := range list {
			if n := len(below); f.Itself && n > 0 && below[n-1].Itself && f.Name == below[n-1].Name {
				continue // it is followed to its end at once
			}
			path := append(slices.Clone(below), f)
			number++
			if f.OnDelete {
				add(fmt.Sprintf("cd%d", number), "BEFORE DELETE", f.Parent, c.children(id, journal, path, nil))
			}
			if f.OnUpdate {
				columns := quoted(f.To, "NEW.", "")
				var differs []string
				for i, name := range f.To {
					differs = append(differs, fmt.Sprintf("NOT (OLD.%s <=> %s)", quoteName(name), columns[i]))
				}
				add(
					fmt.Sprintf("cu%d", number),
					"BEFORE UPDATE",
					f.Parent,
					"IF "+strings.Join(
						differs,
						" OR ",
					)+" THEN\n        "+c.children(
						id,
						journal,
						path,
						columns,
					)+"\n    END IF;",
				)
			}
			follow(f.Above, path)
		}
	}
	follow(c.cascades, nil)
	return out
}

// children notes the rows of the captured table that a cascade will change or delete: those that
// lead, over a path of foreign keys, to the parent's row. They are noted as changed and, where
// their columns follow the parent's, with what these will be.
func (c needed) children(id int32, journal string, path []cascade, becomes []string) string {
	with, from, condition := reached(c.Table, path)
	insert := func(op, key, before, after string) string {
		if !c.told {
			return fmt.Sprintf("INSERT INTO %s (layout, op) VALUES (%d, 't');", journal, id)
		}
		return fmt.Sprintf(
			"INSERT INTO %s (layout, op, `key`, `before`, `after`) %sSELECT %d, '%s', %s, %s, %s FROM %s WHERE %s;",
			journal,
			with,
			id,
			op,
			key,
			before,
			after,
			from,
			condition,
		)
	}
	oldKey, oldLinks := c.asText(c.Key, "pingo_0", nil), c.asText(c.Links, "pingo_0", nil)
	out := insert("u", oldKey, oldLinks, "NULL")
	if becomes != nil && len(path) == 1 {
		fresh := map[string]string{}
		for j, name := range path[0].From {
			fresh[name] = becomes[j]
		}
		out += "\n        " + insert(
			"u",
			c.asText(c.Key, "pingo_0", fresh),
			oldLinks,
			c.asText(c.Links, "pingo_0", fresh),
		)
	}
	return out
}

// reached selects the rows, called pingo_0, that lead from a table over a path of foreign keys to the
// row OLD: what stands before SELECT, its FROM, and its condition. A key of a table to itself is
// followed as far as it goes.
func reached(table shape.Ref, path []cascade) (with, from, condition string) {
	match := func(columns []string, alias string, with []string, of string) string {
		var on []string
		for i := range columns {
			on = append(on, fmt.Sprintf("%s.%s = %s.%s", alias, quoteName(columns[i]), of, quoteName(with[i])))
		}
		return strings.Join(on, " AND ")
	}
	last := len(path) - 1
	from = quote(table) + " pingo_0"
	if !slices.ContainsFunc(path, func(f cascade) bool { return f.Itself }) {
		for i := 1; i <= last; i++ {
			alias := fmt.Sprintf("pingo_%d", i)
			from += fmt.Sprintf(" JOIN %s %s ON %s", quote(path[i-1].Parent), alias,
				match(path[i-1].From, fmt.Sprintf("pingo_%d", i-1), path[i-1].To, alias))
		}
		return "", from, match(path[last].From, fmt.Sprintf("pingo_%d", last), path[last].To, "OLD")
	}
	// parents_N has what the Nth key refers to, in the rows that are reached.
	var parts []string
	for i := last; i >= 0; i-- {
		name := fmt.Sprintf("parents_%d", i)
		columns := quoted(path[i].To, "", "")
		rows := "SELECT " + strings.Join(quoted(path[i].To, "OLD.", ""), ", ")
		if i < last {
			above := fmt.Sprintf("parents_%d", i+1)
			rows = fmt.Sprintf("SELECT %s FROM %s p JOIN %s ON %s", strings.Join(quoted(path[i].To, "p.", ""), ", "),
				quote(path[i].Parent), above, match(path[i+1].From, "p", path[i+1].To, above))
		}
		if path[i].Itself {
			rows += fmt.Sprintf(" UNION SELECT %s FROM %s r JOIN %s ON %s", strings.Join(quoted(path[i].To, "r.", ""), ", "),
				quote(path[i].Parent), name, match(path[i].From, "r", path[i].To, name))
		}
		parts = append(parts, fmt.Sprintf("%s (%s) AS (%s)", name, strings.Join(columns, ", "), rows))
	}
	return "WITH RECURSIVE " + strings.Join(parts, ", ") + " ", from + " JOIN parents_0 ON " +
		match(path[0].From, "pingo_0", path[0].To, "parents_0"), "true"
}

// differ is the condition that columns of a row change, byte by byte.
func (c needed) differ(columns []string) string {
	if len(columns) == 0 {
		return "false"
	}
	var out []string
	for _, name := range columns {
		q := quoteName(name)
		out = append(out, fmt.Sprintf("NOT (BINARY OLD.%s <=> BINARY NEW.%[1]s)", q))
	}
	return strings.Join(out, " OR ")
}

// changed is the number whose bits say which groups of columns differ.
func (c needed) changed() string {
	if len(c.Groups) <= 1 {
		return "1"
	}
	bits := make([]string, len(c.Groups))
	for i, group := range c.Groups {
		bits[i] = fmt.Sprintf("IF(%s, %d, 0)", c.differ(group), 1<<i)
	}
	return strings.Join(bits, " | ")
}

// asText writes columns of a row as the journal holds them. instead gives other SQL for some.
func (c needed) asText(columns []string, row string, instead map[string]string) string {
	if len(columns) == 0 {
		return "NULL"
	}
	values := make([]string, len(columns))
	for i, name := range columns {
		way := treatmentOf(c.forms[name]).keyAs
		if way == "" {
			way = plainText
		}
		value := instead[name]
		if value == "" {
			value = row + "." + quoteName(name)
		}
		values[i] = in(way, value)
	}
	if len(values) == 1 {
		return values[0]
	}
	return "JSON_ARRAY(" + strings.Join(values, ", ") + ")"
}

// needs adds to what is to be captured what only the database knows.
func (p *Capture) needs(ctx context.Context, list []shape.Captured) ([]needed, error) {
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
		for _, name := range slices.Concat(c.Key, c.Watch, c.Links) {
			n.kinds[name] = kinds[name]
		}
		for _, col := range columns {
			if slices.Contains(n.Key, col.Name) || slices.Contains(n.Links, col.Name) {
				n.forms[col.Name] = base(col.Form)
			}
		}
		if n.cascades, err = p.cascades(ctx, c.Table, nil); err != nil {
			return nil, wrap("reading the foreign keys of "+c.Table.String(), err)
		}
		out = append(out, n)
	}
	return out, nil
}

// kindsOf says what each column is: its type, and its place, since another column may have got its name.
func kindsOf(columns []shape.TableColumn) map[string]string {
	out := map[string]string{}
	for i, c := range columns {
		out[c.Name] = fmt.Sprint(i+1, " ", c.Native)
	}
	return out
}

// cascades reads the foreign keys by which rows of a table change without its triggers, and
// those by which the rows that these lead to do.
func (p *Capture) cascades(ctx context.Context, t shape.Ref, below []string) ([]cascade, error) {
	rows, err := p.db.texts(
		ctx,
		fmt.Sprintf(`SELECT r.CONSTRAINT_NAME, k.REFERENCED_TABLE_SCHEMA, k.REFERENCED_TABLE_NAME,
			r.DELETE_RULE IN ('CASCADE', 'SET NULL', 'SET DEFAULT'), r.UPDATE_RULE IN ('CASCADE', 'SET NULL', 'SET DEFAULT'), k.COLUMN_NAME, k.REFERENCED_COLUMN_NAME
		FROM information_schema.REFERENTIAL_CONSTRAINTS r JOIN information_schema.KEY_COLUMN_USAGE k
			ON k.CONSTRAINT_SCHEMA = r.CONSTRAINT_SCHEMA AND k.CONSTRAINT_NAME = r.CONSTRAINT_NAME AND k.TABLE_NAME = r.TABLE_NAME
		WHERE r.CONSTRAINT_SCHEMA = %s AND r.TABLE_NAME = %s ORDER BY r.CONSTRAINT_NAME, k.ORDINAL_POSITION`, text(t.Schema), text(t.Name)),
	)
	if err != nil {
		return nil, err
	}
	var out []cascade
	for _, row := range rows {
		if row[3] != "1" && row[4] != "1" {
			continue
		}
		if len(out) == 0 || out[len(out)-1].Name != row[0] {
			out = append(
				out,
				cascade{
					Name:     row[0],
					Parent:   shape.Ref{Schema: row[1], Name: row[2]},
					Itself:   shape.Ref{Schema: row[1], Name: row[2]} == t,
					OnDelete: row[3] == "1",
					OnUpdate: row[4] == "1",
				},
			)
		}
		f := &out[len(out)-1]
		f.From, f.To = append(f.From, row[5]), append(f.To, row[6])
	}
	for i := range out {
		// Keys may lead back to a table over others. How far a cascade goes there is not known
		// beforehand, so they are followed once.
		if id := t.String(); !slices.Contains(below, id) {
			if out[i].Above, err = p.cascades(ctx, out[i].Parent, append(slices.Clone(below), id)); err != nil {
				return nil, err
			}
		}
	}
	return out, nil
}

// Script is all that Install runs, with the least grants that Pingo needs when another user runs
// it.
func (p *Capture) Script(ctx context.Context, need []shape.Captured) (string, error) {
	list, err := p.needs(ctx, need)
	if err != nil {
		return "", err
	}
	user, err := p.user(ctx)
	if err != nil {
		return "", err
	}
	var b strings.Builder
	b.WriteString(
		"-- What Pingo installs to notice changes. Creating a trigger waits for transactions that use\n-- the table, and writers wait behind it: so the wait is short, and it is tried again.\nSET lock_wait_timeout = 2;\n\n",
	)
	for _, sql := range p.db.journalSQL() {
		b.WriteString(sql + ";\n\n")
	}
	b.WriteString(p.db.begins() + ";\n")
	b.WriteString("\nDELIMITER //\n")
	for _, c := range list {
		fmt.Fprintf(&b, "\n-- %s\n", c.Table)
		for _, t := range p.db.triggersOf(c) {
			b.WriteString(t.sql + "//\n")
		}
		b.WriteString(p.db.layoutSQL(c, "NULL") + "//\n")
	}
	b.WriteString("\nDELIMITER ;\n")
	fmt.Fprintf(
		&b,
		"\n-- The least that Pingo needs, as %s. Triggers run with the rights of who makes them.\n",
		user,
	)
	fmt.Fprintf(
		&b,
		"GRANT SELECT, INSERT, UPDATE, DELETE ON %s.* TO %s;\nGRANT PROCESS ON *.* TO %[2]s; -- to notice TRUNCATE\n",
		quoteName(p.db.capture),
		user,
	)
	for _, c := range need {
		fmt.Fprintf(&b, "GRANT SELECT, TRIGGER ON %s TO %s;\n", quote(c.Table), user)
	}
	return b.String(), nil
}

// user is who Pingo is to the server, as a grant names it.
func (p *Capture) user(ctx context.Context) (string, error) {
	var name string
	if err := p.db.QueryRowContext(ctx, "SELECT current_user()").Scan(&name); err != nil {
		return "", explain(err)
	}
	at := strings.LastIndex(name, "@")
	return text(name[:at]) + "@" + text(name[at+1:]), nil
}

func list(names []string) string { return inJSON(append([]string{}, names...)) }

func inJSON(v any) string {
	b, err := json.Marshal(v)
	if err != nil {
		panic(fmt.Sprintf("mariadb: names that cannot be written as JSON: %v", err))
	}
	return text(string(b))
}

// madeAt is the SQL that tells when a table was made.
func madeAt(t shape.Ref) string {
	return fmt.Sprintf(
		"(SELECT CREATE_TIME FROM information_schema.TABLES WHERE TABLE_SCHEMA = %s AND TABLE_NAME = %s)",
		text(t.Schema),
		text(t.Name),
	)
}

func (db *database) layoutSQL(c needed, store string) string {
	var names []string
	for _, t := range db.triggersOf(c) {
		names = append(names, t.table.Schema+"."+t.name)
	}
	return fmt.Sprintf(
		"INSERT IGNORE INTO %s.layouts (id, schema_name, table_name, key_columns, links, triggers, cascades, store, made, column_groups, forms) VALUES (%d, %s, %s, %s, %s, %s, %s, %s, %s, %s, %s)",
		quoteName(db.capture),
		layoutID(c),
		text(
			c.Table.Schema,
		),
		text(c.Table.Name),
		list(c.Key),
		list(c.Links),
		list(names),
		text(fmt.Sprint(c.cascades)),
		store,
		madeAt(c.Table),
		inJSON(c.Groups),
		inJSON(c.kinds),
	)
}

// Install installs what is missing or different, a table at a time. It claims the journal for
// one service: two that read it would each take changes away from the other.
func (p *Capture) Install(ctx context.Context, service string, need []shape.Captured) ([]shape.Ref, error) {
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
	if err := p.claim(ctx, service); err != nil {
		return nil, err
	}
	list, err := p.needs(ctx, need)
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
	var made []shape.Ref
	wanted := map[string]bool{}
	for _, c := range list {
		whole := true
		for _, t := range p.db.triggersOf(c) {
			name := t.table.Schema + "." + t.name
			wanted[name] = true
			if standing[name] {
				continue
			}
			whole = false
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
				if _, err := p.db.ExecContext(ctx, fmt.Sprintf("INSERT INTO %s.journal (layout, op) VALUES (%d, 't')", quoteName(p.db.capture), layoutID(c))); err != nil {
					return made, wrap("noting that all rows of "+c.Table.String()+" changed", err)
				}
			}
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

// dropOthers drops triggers that are used no more. Their layouts stay, since rows of theirs may
// still wait in the journal.
func (p *Capture) dropOthers(ctx context.Context, standing, wanted map[string]bool) error {
	for name := range standing {
		if wanted[name] {
			continue
		}
		schema, trigger, _ := strings.Cut(name, ".")
		if err := p.patiently(ctx, "DROP TRIGGER IF EXISTS "+quoteName(schema)+"."+quoteName(trigger)); err != nil {
			return wrap("dropping trigger "+name, err)
		}
	}
	return nil
}

const (
	attempts     = 10
	attemptEvery = 300 * time.Millisecond
)

// patiently runs a statement, and again when transactions hold the table.
func (p *Capture) patiently(ctx context.Context, sql string) error {
	for attempt := 1; ; attempt++ {
		_, err := p.db.ExecContext(ctx, sql)
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

func (p *Capture) there(ctx context.Context) (bool, error) {
	rows, err := p.db.texts(
		ctx,
		"SELECT 1 FROM information_schema.TABLES WHERE TABLE_NAME = 'journal' AND TABLE_SCHEMA = "+text(
			p.db.capture,
		),
	)
	return len(rows) > 0, explain(err)
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

// standing lists the triggers of ours that there are, as schema.name.
func (p *Capture) standing(ctx context.Context) (map[string]bool, error) {
	rows, err := p.db.texts(ctx, `SELECT TRIGGER_SCHEMA, TRIGGER_NAME FROM information_schema.TRIGGERS
		WHERE TRIGGER_NAME LIKE 'pingo\\_%' AND instr(ACTION_STATEMENT, `+text(quoteName(p.db.capture)+".journal")+`) > 0`)
	if err != nil {
		return nil, wrap("reading the installed triggers", err)
	}
	out := map[string]bool{}
	for _, row := range rows {
		out[row[0]+"."+row[1]] = true
	}
	return out, nil
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

// RemovalScript drops what Remove drops.
func (p *Capture) RemovalScript(ctx context.Context) (string, error) {
	standing, err := p.standing(ctx)
	if err != nil {
		return "", err
	}
	var script strings.Builder
	for _, name := range slices.Sorted(maps.Keys(standing)) {
		schema, trigger, _ := strings.Cut(name, ".")
		fmt.Fprintf(&script, "DROP TRIGGER IF EXISTS %s.%s;\n", quoteName(schema), quoteName(trigger))
	}
	fmt.Fprintf(&script, "DROP DATABASE IF EXISTS %s;\n", quoteName(p.db.capture))
	return script.String(), nil
}

// Remove drops every trigger of ours, then the database with the journal.
func (p *Capture) Remove(ctx context.Context) error {
	standing, err := p.standing(ctx)
	if err != nil {
		return err
	}
	if err := p.dropOthers(ctx, standing, nil); err != nil {
		return err
	}
	if err := p.patiently(ctx, "DROP DATABASE IF EXISTS "+quoteName(p.db.capture)); err != nil {
		return wrap("removing the journal", err)
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
			"SELECT id, schema_name, table_name, triggers, cascades, coalesce(made, ''), forms FROM %s.layouts",
			quoteName(p.db.capture),
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
				"a layout of the journal cannot be read: somebody changed it; remove capture and run pingo apply",
			)
		}
		any := false
		for _, name := range names {
			l.whole = l.whole && standing[name]
			any = any || standing[name]
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
	whole              bool // all triggers of it stand
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
