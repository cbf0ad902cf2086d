package mariadb

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/cespare/xxhash/v2"

	"pingo/internal/core/shape"
)

// journalSQL makes the journal: a row for each changed row. layout says which table it was, and
// which columns key, was, before and after hold: one column's value as text, or those of several as
// a JSON list of texts; and which columns a bit of changed means. Keep it lean: every write of
// the application pays for it.
func (db *database) journalSQL() []string {
	in := quoteName(db.capture)
	return []string{
		"CREATE DATABASE IF NOT EXISTS " + in + " CHARACTER SET utf8mb4 COLLATE utf8mb4_bin COMMENT 'Pingo records changes of another database here, to keep search indexes in sync. Leave it out of migrations and dumps.'",
		"-- A removal that did not end.\nDROP TABLE IF EXISTS " + in + ".being_removed",
		`-- One row: the process that reads the journal. mark increases while it does, so that an older copy
-- of the database can be told from what it was.
CREATE TABLE IF NOT EXISTS ` + in + `.owner (
    service varchar(200) NOT NULL PRIMARY KEY,
    holder varchar(200) NOT NULL DEFAULT '',
    epoch bigint NOT NULL DEFAULT 0,
    mark bigint NOT NULL DEFAULT 0,
    born char(36) NOT NULL DEFAULT uuid()
) ENGINE=InnoDB COMMENT='Pingo: the process that reads the journal'`,
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
) ENGINE=InnoDB COMMENT='Pingo: what the columns of a journal row mean, for each captured table'`,
		`CREATE TABLE IF NOT EXISTS ` + in + `.journal (
    seq bigint NOT NULL AUTO_INCREMENT PRIMARY KEY,
    at timestamp(6) NOT NULL DEFAULT current_timestamp(6),
    layout int NOT NULL,
    changed int,
    op char(1) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
    ` + "`key` longtext, was longtext, `before` longtext, `after`" + ` longtext
) ENGINE=InnoDB COMMENT='Pingo: one row for each changed row, until the change is in the search engine'`,
	}
}

// prelockedSQL makes the function that Feed.prelocked is about.
func (db *database) prelockedSQL() string {
	return "CREATE OR REPLACE FUNCTION " + quoteName(db.capture) + ".prelocked() RETURNS boolean DETERMINISTIC NO SQL RETURN true"
}

// mayNoteSQL makes a function that reports whether the definer of the triggers may write the journal. Otherwise the triggers
// would note nothing, without an error.
func (db *database) mayNoteSQL() string {
	return fmt.Sprintf("CREATE OR REPLACE DEFINER = %s FUNCTION %s.may_note() RETURNS boolean MODIFIES SQL DATA BEGIN\n"+
		"    DECLARE EXIT HANDLER FOR %d, %d, %d RETURN false;\n    INSERT INTO %[2]s.journal (layout, op) SELECT 0, '-' FROM dual WHERE false;\n    RETURN true;\nEND",
		account(db.definer), quoteName(db.capture), databaseDenied, noTableSelect, noColumnSelect)
}

// account writes USER@HOST as statements do.
func account(name string) string {
	at := strings.LastIndex(name, "@")
	return text(name[:at]) + "@" + text(name[at+1:])
}

// keptRow is a row that stays in the journal and is never read, since its number is below all others. The first insert into
// an empty table by a session with unique_checks and foreign_key_checks off, as dumps set them, locks the whole table until
// its transaction ends, and with it all writes to captured tables.
//
// prelocked is the condition that Feed.prelocked is about.
func (db *database) keptRow(prelocked string) string {
	return fmt.Sprintf("INSERT IGNORE INTO %s.journal (seq, layout, op) SELECT -1, %s, '-' FROM dual WHERE %s", quoteName(db.capture), ownLayout, prelocked)
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
	// told: it is known which documents a row makes. Otherwise each change counts as one of all rows, until the key
	// is back, or another definition is applied.
	told     bool
	cascades []cascade
}

// layoutID names a layout by its content, so that the same need always makes the same SQL.
func layoutID(c needed) int32 {
	return int32(
		xxhash.Sum64String(
			fmt.Sprintf("6 %q %q %q %q %q %q %q %v %v", c.Table, c.Key, c.Watch, c.Links, c.Groups, c.forms, c.kinds, c.cascades, c.told),
		) & 0x7fffffff,
	)
}

// ownNumbers is the statement that makes the journal give its rows numbers of its own.
const ownNumbers = "SET insert_id = 0;"

const createTrigger = "CREATE OR REPLACE"

// trigger is one trigger: its name, the table it stands on, and the whole statement.
type trigger struct {
	name  string
	table shape.Ref
	sql   string
}

// triggersOf lists what notes the changes of a table. A trigger of the application that fails
// would make its write fail, so ours do not: where a column is gone that one of them names, all
// rows of the table are noted as changed, and where the journal itself is gone, nothing.
//
// A dump of the database can be restored into one of another name, where the triggers do nothing: they name tables of their
// own database without it, and write to the journal only in the database that they were made for.
//
// What a session may set for the statement that fires a trigger is not taken: the number of the row to be inserted next
// (insert_id), which could be the last one there is, and the time (timestamp).
func (db *database) triggersOf(c needed) []trigger {
	id := layoutID(c)
	journal := quoteName(db.capture) + ".journal"
	guarded := func(schema, body string) string {
		return fmt.Sprintf("BEGIN\n"+
			"    DECLARE EXIT HANDLER FOR %d, %d, %d, %d, %d, %d, %d, %d BEGIN\n"+
			"        DECLARE CONTINUE HANDLER FOR %[2]d, %[3]d, %[4]d, %[5]d, %[6]d, %[7]d BEGIN END;\n"+
			"        INSERT INTO %[9]s (at, layout, op) VALUES (sysdate(6), %[10]d, 't');\n"+
			"    END;\n    IF database() = %[13]s THEN\n    %[11]s\n    %[12]s\n    END IF;\nEND",
			noColumn, noTable, noDatabase, databaseDenied, noTableSelect, noColumnSelect, noKey, tooManyRows, journal, id, ownNumbers, body, text(schema))
	}
	note := func(op, changed, key, was, before, after string) string {
		if !c.told {
			return fmt.Sprintf("INSERT INTO %s (at, layout, op) VALUES (sysdate(6), %d, 't');", journal, id)
		}
		return fmt.Sprintf("INSERT INTO %s (at, layout, op, changed, `key`, was, `before`, `after`) VALUES (sysdate(6), %d, '%s', %s, %s, %s, %s, %s);",
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
	as := createTrigger
	if db.definer != "" {
		as += " DEFINER = " + account(db.definer)
	}
	var out []trigger
	add := func(kind, event string, on shape.Ref, body string) {
		name := fmt.Sprintf("pingo_%d_%s", id, kind)
		out = append(
			out,
			trigger{name, on, fmt.Sprintf("%s TRIGGER %s %s ON %s FOR EACH ROW %s",
				as, quoteIn(db.name, shape.Ref{Schema: on.Schema, Name: name}), event, quoteIn(db.name, on), guarded(on.Schema, body))},
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
				continue // it is followed completely
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
					differs = append(differs, fmt.Sprintf("NOT (BINARY OLD.%s <=> BINARY %s)", quoteName(name), columns[i]))
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
			return fmt.Sprintf("INSERT INTO %s (at, layout, op) VALUES (sysdate(6), %d, 't');", journal, id)
		}
		return fmt.Sprintf(
			"INSERT INTO %s (at, layout, op, `key`, `before`, `after`) %sSELECT sysdate(6), %d, '%s', %s, %s, %s FROM %s WHERE %s;",
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
	if fresh := passedOn(path, becomes); len(fresh) > 0 {
		out += "\n        " + insert(
			"u",
			c.asText(c.Key, "pingo_0", fresh),
			oldLinks,
			c.asText(c.Links, "pingo_0", fresh),
		)
	}
	return out
}

// passedOn gives the columns of the captured table that a cascade over a path of foreign keys changes, with what they will
// be, if the columns that the last key of the path refers to become other values: a key of each table that is part of the
// key below it passes its value on.
func passedOn(path []cascade, becomes []string) map[string]string {
	if becomes == nil {
		return nil
	}
	last := len(path) - 1
	values := map[string]string{} // by the columns that a key refers to
	for j, name := range path[last].To {
		values[name] = becomes[j]
	}
	for i := last; i >= 0; i-- {
		passed := map[string]string{}
		for j, name := range path[i].To {
			if value, changes := values[name]; changes {
				passed[path[i].From[j]] = value
			}
		}
		values = passed
	}
	return values
}

// quoteIn names a table where a database is the default: without it if it is the table's own.
func quoteIn(schema string, table shape.Ref) string {
	if table.Schema == schema {
		return quoteName(table.Name)
	}
	return quote(table)
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
	named := func(table shape.Ref) string { return quoteIn(path[last].Parent.Schema, table) }
	from = named(table) + " pingo_0 " + onlyTables
	if !slices.ContainsFunc(path, func(f cascade) bool { return f.Itself }) {
		for i := 1; i <= last; i++ {
			alias := fmt.Sprintf("pingo_%d", i)
			from += fmt.Sprintf(" JOIN %s %s %s ON %s", named(path[i-1].Parent), alias, onlyTables,
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
			rows = fmt.Sprintf("SELECT %s FROM %s p %s JOIN %s ON %s", strings.Join(quoted(path[i].To, "p.", ""), ", "),
				named(path[i].Parent), onlyTables, above, match(path[i+1].From, "p", path[i+1].To, above))
		}
		if path[i].Itself {
			rows += fmt.Sprintf(" UNION SELECT %s FROM %s r %s JOIN %s ON %s", strings.Join(quoted(path[i].To, "r.", ""), ", "),
				named(path[i].Parent), onlyTables, name, match(path[i].From, "r", path[i].To, name))
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

func list(names []string) string { return inJSON(append([]string{}, names...)) }

func inJSON(v any) string {
	b, err := json.Marshal(v)
	if err != nil {
		panic(fmt.Sprintf("mariadb: names that cannot be written as JSON: %v", err))
	}
	return text(string(b))
}

// onTable reports whether a trigger of that name belongs on the captured table itself, and not on one whose foreign
// keys change its rows.
func onTable(name string) bool {
	return strings.HasSuffix(name, "_i") || strings.HasSuffix(name, "_u") || strings.HasSuffix(name, "_d")
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
