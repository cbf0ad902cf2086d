package postgres

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"github.com/cespare/xxhash/v2"

	"pingo/internal/core/shape"
	"pingo/internal/pgsession"
)

// The journal: a row for each changed row. layout says which table it was, and
// which columns key, was, before and after hold: one column's value as text, or those of
// several as the text of an array; and which columns a bit of changed means. Keep it lean:
// every write of the application pays for it.
const journalSQL = `-- A removal that did not end.
DROP TABLE IF EXISTS pingo_capture.being_removed;

-- One row: the process that reads the journal. mark increases while it does, so that an older copy
-- of the database can be told from what it was.
CREATE TABLE IF NOT EXISTS pingo_capture.owner (
    service text PRIMARY KEY,
    holder text,
    epoch bigint,
    mark bigint NOT NULL DEFAULT 0
);

-- relation is the table that a layout was last installed on, forms what its columns were then, and files and
-- written what told then whether it was rewritten: see rewritten.
CREATE TABLE IF NOT EXISTS pingo_capture.layouts (
    id int PRIMARY KEY,
    schema_name text NOT NULL,
    table_name text NOT NULL,
    key text[] NOT NULL,
    watch text[] NOT NULL,
    links text[] NOT NULL,
    groups text NOT NULL DEFAULT 'null',
    forms text NOT NULL DEFAULT 'null',
    relation oid,
    files text,
    written text
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
    changed int,
    op "char" NOT NULL,
    key text,
    was text,
    before text,
    after text
) WITH (autovacuum_vacuum_scale_factor = 0, autovacuum_vacuum_threshold = 2000,
    autovacuum_vacuum_insert_threshold = -1, autovacuum_analyze_threshold = 1000000000);

CREATE INDEX IF NOT EXISTS journal_seq_idx ON pingo_capture.journal (seq);

-- What a journal of an earlier version lacks.
DO $pingo$ BEGIN
    IF NOT EXISTS (SELECT FROM pg_attribute WHERE attrelid = 'pingo_capture.journal'::regclass AND attname = 'changed') THEN
        ALTER TABLE pingo_capture.journal ADD COLUMN changed int, ADD COLUMN was text;
        ALTER TABLE pingo_capture.layouts ADD COLUMN groups text NOT NULL DEFAULT 'null', ADD COLUMN forms text NOT NULL DEFAULT 'null', ADD COLUMN relation oid, ADD COLUMN files text, ADD COLUMN written text;
    END IF;
END $pingo$;

-- What a materialised view looked like when its last refresh was noticed, or of which parts a
-- table consisted.
CREATE TABLE IF NOT EXISTS pingo_capture.refreshed (
    layout int PRIMARY KEY,
    mark text
);

-- If another program deletes rows of the journal, changes are lost: then all tables count as changed.
CREATE OR REPLACE FUNCTION pingo_capture.emptied() RETURNS trigger LANGUAGE plpgsql SET search_path = pg_catalog, pg_temp AS $pingo$ BEGIN
    ` + allChanged + `;
    RETURN NULL;
END $pingo$;
DO $pingo$ BEGIN
    IF NOT EXISTS (SELECT FROM pg_trigger WHERE tgrelid = 'pingo_capture.journal'::regclass AND tgname = 'pingo_emptied') THEN
        CREATE TRIGGER pingo_emptied AFTER DELETE OR TRUNCATE ON pingo_capture.journal FOR EACH STATEMENT
            WHEN (current_setting('pingo.settles', true) IS DISTINCT FROM 'yes') EXECUTE FUNCTION pingo_capture.emptied();
    END IF;
END $pingo$;

COMMENT ON SCHEMA pingo_capture IS 'Pingo records changes of this database here, to keep search indexes in sync. Leave it out of migrations and schema comparisons. In a copy of the database: DROP SCHEMA pingo_capture CASCADE';
COMMENT ON TABLE pingo_capture.journal IS 'Pingo: one row for each changed row, until the change is in the search engine';
COMMENT ON TABLE pingo_capture.layouts IS 'Pingo: what the columns of a journal row mean, for each captured table';
COMMENT ON TABLE pingo_capture.owner IS 'Pingo: the process that reads the journal';
COMMENT ON TABLE pingo_capture.refreshed IS 'Pingo: the last refresh noticed of each captured materialized view';
`

// dumpRights lets those dump the database who own it or captured tables, if they may read every captured table anyway: a
// dump of the whole database reads all its tables. Others lose the right, since the journal has keys.
const dumpRights = `DO $pingo$ DECLARE reader record; BEGIN
    FOR reader IN
        WITH owners AS (SELECT DISTINCT c.relowner AS oid FROM pingo_capture.layouts l
                JOIN pg_namespace n ON n.nspname = l.schema_name JOIN pg_class c ON c.relnamespace = n.oid AND c.relname = l.table_name),
            may AS (SELECT r.oid FROM pg_roles r WHERE (r.oid IN (SELECT oid FROM owners) OR r.oid = (SELECT datdba FROM pg_database WHERE datname = current_database()))
                AND NOT EXISTS (SELECT FROM owners o WHERE NOT pg_has_role(r.oid, o.oid, 'USAGE'))),
            has AS (SELECT a.grantee AS oid FROM pg_class c CROSS JOIN LATERAL aclexplode(c.relacl) a
                WHERE c.oid = 'pingo_capture.journal'::regclass AND a.privilege_type = 'SELECT')
        SELECT rolname, may.oid IS NOT NULL AS may FROM may FULL JOIN has USING (oid) JOIN pg_roles USING (oid)
        WHERE NOT rolsuper AND rolname <> 'pingo_journal' AND oid NOT IN (SELECT relowner FROM pg_class WHERE oid = 'pingo_capture.journal'::regclass)
    LOOP
        IF reader.may THEN
            EXECUTE format('GRANT USAGE ON SCHEMA pingo_capture TO %I', reader.rolname);
            EXECUTE format('GRANT SELECT ON ALL TABLES IN SCHEMA pingo_capture TO %I', reader.rolname);
            EXECUTE format('GRANT SELECT ON ALL SEQUENCES IN SCHEMA pingo_capture TO %I', reader.rolname);
        ELSE
            EXECUTE format('REVOKE SELECT ON ALL TABLES IN SCHEMA pingo_capture FROM %I', reader.rolname);
            EXECUTE format('REVOKE SELECT ON ALL SEQUENCES IN SCHEMA pingo_capture FROM %I', reader.rolname);
        END IF;
    END LOOP;
END $pingo$;
`

// allChanged notes that any row of any captured table may have changed.
const allChanged = `INSERT INTO pingo_capture.journal (layout, op)
        SELECT DISTINCT ON (schema_name, table_name) id, 't' FROM pingo_capture.layouts`

// needed is what one table needs, with what only its database knows.
type needed struct {
	shape.Captured
	// texts are the ways to read columns of keys and links whose own text depends
	// on settings of the session.
	texts map[string]string
	// forms are what the watched columns are in the catalogue: the number and the type of each. A column that
	// was dropped and recreated under its name, or has another type, has other values than it had, which
	// no trigger saw.
	forms map[string]string
	// partitions are the tables that hold the rows of a partitioned one, and children those
	// that inherit from it: reading it reads their rows, too, but triggers do not pass on.
	partitions, children []shape.Ref
	// byStatement: changes are noted once for each statement, which costs less where many rows are
	// written together. It is for tables whose rows keep their keys, that have no partitions, and that
	// only the installation of capture alters.
	byStatement bool
	// told: it is known which documents a row makes. Otherwise each change counts as one of all rows, until the key
	// is back, or another definition is applied.
	told bool
	// restated: all rows are noted as changed, since their values changed without a trigger.
	restated bool
	// bySession: the text of a key or link depends on settings of the session that writes, so the trigger functions fix
	// them.
	bySession bool
	// definer is the role, as SQL, that owns the trigger functions; empty: the role that makes them.
	definer string
}

// layoutID names a layout by its content, so that the same need always makes the
// same SQL.
func layoutID(c needed) int32 {
	content := fmt.Sprintf("4 %q %q %q %q %q %q %q %v %v",
		c.Table, c.Key, c.Watch, c.Links, c.Groups, c.texts, c.forms, c.byStatement, c.told)
	if c.bySession {
		content += " by session"
	}
	return int32(xxhash.Sum64String(content) & 0x7fffffff)
}

// triggers lists a table's triggers; each has a function of its own, since a
// function that must find out what happened costs more than the row it writes.
var triggers = []string{"insert", "update", "delete", "truncate"}

// tableSQL is what one table needs: its layout, its trigger functions and triggers.
// The functions run with their owner's rights, so that the application needs none
// on the journal; they name everything by schema, so no search path can mislead them.
//
// Nothing here makes the database remember that a column is in use: no UPDATE OF, no WHEN, no
// parameter of the table's type, no body that is read when it is made. So whatever the application
// does to its tables is done as if capture were not there. The price is that a trigger runs at
// updates of other columns, too, and that a column which it names may be gone: see rowBodies.
func tableSQL(c needed) string {
	id := layoutID(c)
	var b strings.Builder
	b.WriteString(c.layoutSQL())
	// A mark that was made under another layout stays, so that no change is forgotten.
	mark := fmt.Sprintf(
		"INSERT INTO pingo_capture.refreshed SELECT %d, coalesce((SELECT r.mark FROM pingo_capture.refreshed r JOIN pingo_capture.layouts l ON l.id = r.layout\n"+
			"    WHERE (l.schema_name, l.table_name) = (%s, %s) LIMIT 1), "+refreshMark+") FROM pg_class v WHERE v.oid = to_regclass(%[4]s) ON CONFLICT DO NOTHING;\n"+
			"DELETE FROM pingo_capture.refreshed r USING pingo_capture.layouts l WHERE r.layout = l.id AND l.id <> %[1]d AND (l.schema_name, l.table_name) = (%[2]s, %[3]s);\n",
		id,
		literal(c.Table.Schema),
		literal(c.Table.Name),
		literal(quote(c.Table)),
	)
	if c.Refreshed {
		return b.String() + mark
	}
	bodies := c.rowBodies()
	if c.byStatement {
		bodies = c.statementBodies()
	}
	stand := func(table shape.Ref, t string) {
		fmt.Fprintf(&b, "CREATE TRIGGER pingo_%d_%s AFTER %s\n    EXECUTE FUNCTION pingo_capture.note_%[1]d_%[2]s();\nALTER TABLE %[4]s ENABLE ALWAYS TRIGGER pingo_%[1]d_%[2]s;\n",
			id, t, c.event(t, quote(table)), quote(table))
	}
	b.WriteString(withoutTriggers(c.Table))
	if c.definer != "" { // the owner of a function must have the right to create it
		fmt.Fprintf(&b, "GRANT CREATE ON SCHEMA pingo_capture TO %s;\n", c.definer)
	}
	for _, t := range triggers {
		plan := ""
		if c.byStatement && t == "update" {
			plan = " SET enable_nestloop = off" // it is planned by the first statement, which may have one row
		}
		if c.bySession {
			plan += " SET datestyle = 'ISO' SET timezone = 'UTC' SET quote_all_identifiers = off SET search_path = " + pgsession.Path
		}
		fmt.Fprintf(&b, "CREATE OR REPLACE FUNCTION pingo_capture.note_%d_%s() RETURNS trigger LANGUAGE plpgsql SECURITY DEFINER%s AS %s;\n",
			id, t, plan, dollarQuoted("\n"+bodies[t]))
		if c.definer != "" {
			fmt.Fprintf(&b, "ALTER FUNCTION pingo_capture.note_%d_%s() OWNER TO %s;\n", id, t, c.definer)
		}
		stand(c.Table, t)
		for _, child := range c.children {
			fmt.Fprintf(&b, "DROP TRIGGER IF EXISTS pingo_%d_%s ON %s;\n", id, t, quote(child))
			stand(child, t)
		}
	}
	if c.definer != "" {
		fmt.Fprintf(&b, "REVOKE CREATE ON SCHEMA pingo_capture FROM %s;\n", c.definer)
	}
	b.WriteString(mark)
	if c.restated || len(c.children) > 0 { // what was written to children before went unnoticed
		fmt.Fprintf(&b, "INSERT INTO pingo_capture.journal (layout, op) VALUES (%d, 't');\n", id)
	}
	for _, partition := range c.partitions {
		// Row triggers pass on to partitions by themselves; what empties one does not.
		fmt.Fprintf(&b, "DROP TRIGGER IF EXISTS pingo_%d_truncate ON %s;\n", id, quote(partition))
		stand(partition, "truncate")
	}
	b.WriteString(c.installedSQL())
	return b.String()
}

// layoutSQL records a layout.
func (c needed) layoutSQL() string {
	return fmt.Sprintf("INSERT INTO pingo_capture.layouts (id, schema_name, table_name, key, watch, links, groups, forms)\n"+
		"    VALUES (%d, %s, %s, %s, %s, %s, %s, %s) ON CONFLICT DO NOTHING;\n",
		layoutID(c), literal(c.Table.Schema), literal(c.Table.Name), names(c.Key), names(c.Watch), names(c.Links),
		literal(inJSON(c.Groups)), literal(inJSON(c.forms)))
}

// installedSQL records what a layout was installed on, once the table is locked. A table that was rewritten since
// the layout before was installed has other values, which no trigger saw.
func (c needed) installedSQL() string {
	return fmt.Sprintf(`INSERT INTO pingo_capture.journal (layout, op) SELECT %[1]d, 't' FROM pingo_capture.layouts l
    JOIN pg_class c ON c.oid = l.relation AND c.oid = to_regclass(%[2]s) WHERE %[3]s LIMIT 1;
UPDATE pingo_capture.layouts l SET relation = NULL, files = NULL, written = NULL WHERE l.id <> %[1]d AND (l.schema_name, l.table_name) = (%[4]s, %[5]s);
UPDATE pingo_capture.layouts l SET relation = c.oid, files = %[6]s, written = %[7]s FROM pg_class c WHERE l.id = %[1]d AND c.oid = to_regclass(%[2]s);
`, layoutID(c), literal(quote(c.Table)), rewritten, literal(c.Table.Schema), literal(c.Table.Name), filesOf, writtenOf)
}

// What the rows of a table c are kept in, and what last wrote the catalogue's rows of its columns that the layout l
// watches. VACUUM FULL and CLUSTER change the one, defaults and the like the other, and a new type both, also where it
// is the type that the column has had, and only its values become others.
const (
	filesOf   = "coalesce((SELECT string_agg(pg_relation_filenode(relid)::text, ',' ORDER BY relid) FROM pg_partition_tree(c.oid)), pg_relation_filenode(c.oid)::text)"
	writtenOf = "(SELECT string_agg(a.attnum || ' ' || a.xmin, ',' ORDER BY a.attnum) FROM pg_attribute a WHERE a.attrelid = c.oid AND a.attname = ANY(l.watch))"
	rewritten = "coalesce(l.files <> " + filesOf + " AND l.written <> " + writtenOf + ", false)"
)

// dollarQuoted quotes a text by a tag that does not occur in it, so that no name in the text can end it.
func dollarQuoted(text string) string {
	tag := "$pingo$"
	for n := 1; strings.Contains(text+"$", tag); n++ {
		tag = fmt.Sprintf("$pingo%d$", n)
	}
	return tag + text + tag
}

func inJSON(v any) string {
	b, err := json.Marshal(v)
	if err != nil {
		panic(fmt.Sprintf("postgres: names that cannot be written as JSON: %v", err))
	}
	return string(b)
}

func names(columns []string) string {
	quoted := make([]string, len(columns))
	for i, c := range columns {
		quoted[i] = literal(c)
	}
	return "ARRAY[" + strings.Join(quoted, ", ") + "]::text[]"
}

// withoutTriggers takes the triggers of ours from a table, those of any layout, and those of its layouts from
// the tables below it.
func withoutTriggers(t shape.Ref) string {
	return fmt.Sprintf("DO %s;\n", dollarQuoted(fmt.Sprintf(` DECLARE drop_it text; BEGIN
    FOR drop_it IN %s LOOP EXECUTE drop_it; END LOOP;
END `, strings.ReplaceAll(ownTriggers, "$1", literal(quote(t))))))
}

// ownTriggers lists the statements that drop the triggers of ours that stand on the table named $1, but those
// that a table above it has there, and those that stand on others for it.
const ownTriggers = `WITH RECURSIVE above(oid) AS (
			SELECT inhparent FROM pg_inherits WHERE inhrelid = to_regclass($1)
			UNION SELECT i.inhparent FROM pg_inherits i JOIN above ON i.inhrelid = above.oid
		), ours AS (
			SELECT t.tgname, c.relname, n.nspname, c.oid, CASE WHEN l.id IS NOT NULL THEN to_regclass(format('%I.%I', l.schema_name, l.table_name)) END AS made_for
			FROM pg_trigger t JOIN pg_proc f ON f.oid = t.tgfoid JOIN pg_namespace fn ON fn.oid = f.pronamespace AND fn.nspname = 'pingo_capture'
			JOIN pg_class c ON c.oid = t.tgrelid JOIN pg_namespace n ON n.oid = c.relnamespace
			LEFT JOIN pingo_capture.layouts l ON l.id::text = split_part(f.proname, '_', 2)
			WHERE t.tgparentid = 0
		)
		SELECT format('DROP TRIGGER %I ON %I.%I', tgname, nspname, relname) FROM ours
		WHERE made_for = to_regclass($1) OR oid = to_regclass($1) AND NOT EXISTS (SELECT FROM above WHERE above.oid = made_for)`

// event is what a trigger fires at.
func (c needed) event(trigger, table string) string {
	if trigger == "truncate" || !c.byStatement {
		each := "ROW"
		if trigger == "truncate" {
			each = "STATEMENT"
		}
		return strings.ToUpper(trigger) + " ON " + table + " FOR EACH " + each
	}
	return map[string]string{
		"insert": "INSERT ON " + table + " REFERENCING NEW TABLE AS fresh FOR EACH STATEMENT",
		"update": "UPDATE ON " + table + " REFERENCING OLD TABLE AS was NEW TABLE AS fresh FOR EACH STATEMENT",
		"delete": "DELETE ON " + table + " REFERENCING OLD TABLE AS was FOR EACH STATEMENT",
	}[trigger]
}

// unlessNoted ends a trigger function where there is no journal that it may write, as in a copy of the database that was
// restored without Pingo's rights. A missing journal raises an error, which the block around it handles.
const unlessNoted = "IF NOT pg_catalog.has_table_privilege('pingo_capture.journal', 'INSERT') THEN RETURN NULL; END IF;"

// rowBodies are the bodies of the triggers that run for each row. What names columns of the table is used as
// few expressions as can be, since each costs a short transaction about as much as its evaluation, and begins with one
// that names all of them, in a block whose errors are caught: where a column is gone, or is no longer what it was
// when this session first ran the function, the write goes on, and the row is noted as changed all over, or, if
// that names no row either, the table. Nothing is written inside that block, so it costs no transaction number.
func (c needed) rowBodies() map[string]string {
	id := layoutID(c)
	unknown := fmt.Sprintf(`BEGIN
            INSERT INTO pingo_capture.journal (layout, op) VALUES (%d, 't');
        EXCEPTION WHEN undefined_table OR invalid_schema_name OR insufficient_privilege THEN
            RETURN NULL;
        END;
`, id)
	all := "BEGIN\n        " + unknown + "    RETURN NULL;\nEND "
	if !c.told {
		return map[string]string{"insert": all, "update": all, "delete": all, "truncate": all}
	}
	oldKey, newKey := c.asText(c.Key, "OLD"), c.asText(c.Key, "NEW")
	oldLinks, newLinks := c.asText(c.Links, "OLD"), c.asText(c.Links, "NEW")
	once := func(op, values, columns string, fields string) string {
		return fmt.Sprintf(`DECLARE noted pg_catalog.record;
BEGIN
    BEGIN
        `+unlessNoted+`
        noted := ROW(%s);
    EXCEPTION WHEN OTHERS THEN
        %s        RETURN NULL;
    END;
    INSERT INTO pingo_capture.journal (layout, op, key, %s) VALUES (%d, '%s', %s);
    RETURN NULL;
END `, values, unknown, columns, id, op, fields)
	}
	was, before := "NULL::pg_catalog.text", "NULL::pg_catalog.text"
	if len(c.Key) > 0 {
		was = fmt.Sprintf("CASE WHEN %s THEN %s END", differ(c.Key, "OLD", "NEW"), oldKey)
	}
	if len(c.Links) > 0 {
		before = fmt.Sprintf("CASE WHEN %s THEN %s END", differ(c.Links, "OLD", "NEW"), oldLinks)
	}
	update := fmt.Sprintf(`DECLARE bits pg_catalog.int4; noted pg_catalog.record;
BEGIN
    BEGIN
        bits := %s;
        IF bits OPERATOR(pg_catalog.=) 0 THEN RETURN NULL; END IF;
        `+unlessNoted+`
    EXCEPTION WHEN OTHERS THEN
        BEGIN
            `+unlessNoted+`
            noted := ROW(%[3]s, %[4]s, %[5]s, %[6]s);
        EXCEPTION WHEN OTHERS THEN
            %[7]s            RETURN NULL;
        END;
        INSERT INTO pingo_capture.journal (layout, op, changed, key, was, before, after)
            VALUES (%[2]d, 'u', -1, noted.f1, noted.f2, noted.f3, noted.f4);
        RETURN NULL;
    END;
    IF bits OPERATOR(pg_catalog.&) %[8]d OPERATOR(pg_catalog.=) 0 THEN
        INSERT INTO pingo_capture.journal (layout, op, changed, key, after) VALUES (%[2]d, 'u', bits, %[3]s, %[6]s);
    ELSE
        INSERT INTO pingo_capture.journal (layout, op, changed, key, was, before, after)
            VALUES (%[2]d, 'u', bits, %[3]s, %[4]s, %[5]s, %[6]s);
    END IF;
    RETURN NULL;
END `, c.changed("OLD", "NEW", true), id, newKey, was, before, newLinks, unknown, c.moving())
	return map[string]string{
		"insert":   once("i", newKey+", "+newLinks, "after", "noted.f1, noted.f2"),
		"update":   update,
		"delete":   once("d", oldKey+", "+oldLinks, "before", "noted.f1, noted.f2"),
		"truncate": all,
	}
}

// statementBodies are those of the triggers that run once for each statement.
func (c needed) statementBodies() map[string]string {
	id := layoutID(c)
	note := func(op, values, from string) string {
		return fmt.Sprintf("BEGIN\n    INSERT INTO pingo_capture.journal (layout, op, changed, key, before, after)\n    SELECT %d, '%s', %s\n    %s;\n    RETURN NULL;\nEND ",
			id, op, values, from)
	}
	wasKey, freshKey := c.asText(c.Key, "o"), c.asText(c.Key, "n")
	wasLinks, freshLinks := c.asText(c.Links, "o"), c.asText(c.Links, "n")
	return map[string]string{
		"insert": note("i", "NULL, "+freshKey+", NULL, "+freshLinks, "FROM fresh n"),
		"update": note("u", c.changed("o", "n", false)+", "+freshKey+", "+wasLinks+", "+freshLinks,
			fmt.Sprintf("FROM fresh n JOIN was o ON %s OPERATOR(pg_catalog.=) %s WHERE %s", wasKey, freshKey, differ(c.Watch, "o", "n"))),
		"delete":   note("d", "NULL, "+wasKey+", "+wasLinks+", NULL", "FROM was o"),
		"truncate": note("t", "NULL, NULL, NULL, NULL", ""),
	}
}

// differ compares columns of two rows by their stored bytes: it works for types that have no
// equality, and sees 1.0 become 1.00.
func differ(columns []string, was, is string) string {
	return fmt.Sprintf(
		"ROW(%s)::pg_catalog.record OPERATOR(pg_catalog.*<>) ROW(%s)::pg_catalog.record",
		quoteNames(columns, was+"."),
		quoteNames(columns, is+"."),
	)
}

// changed is the number whose bits say which groups of columns differ. With all, it reads the whole key, too,
// watched or not.
func (c needed) changed(was, is string, all bool) string {
	var bits []string
	for i, group := range c.Groups {
		bits = append(bits, fmt.Sprintf("(CASE WHEN %s THEN %d ELSE 0 END)", differ(group, was, is), 1<<i))
	}
	unwatched := slices.DeleteFunc(slices.Clone(c.Key), func(name string) bool { return slices.Contains(c.Watch, name) })
	if all && len(unwatched) > 0 {
		bits = append(bits, fmt.Sprintf("(CASE WHEN %s THEN 0 ELSE 0 END)", differ(unwatched, was, is)))
	}
	return strings.Join(bits, " OPERATOR(pg_catalog.|) ")
}

// moving has the bits of the groups with columns of the key or of links.
func (c needed) moving() (bits int) {
	for i, group := range c.Groups {
		if slices.ContainsFunc(group, func(name string) bool { return slices.Contains(c.Key, name) || slices.Contains(c.Links, name) }) {
			bits |= 1 << i
		}
	}
	return bits
}

// asText writes columns of a row as the journal holds them.
func (c needed) asText(columns []string, row string) string {
	if len(columns) == 0 {
		return "NULL::pg_catalog.text"
	}
	values := make([]string, len(columns))
	for i, name := range columns {
		way := c.texts[name]
		if way == "" {
			way = asPlain
		}
		values[i] = strings.ReplaceAll(way, "%s", row+"."+quoteName(name))
	}
	if len(values) == 1 {
		return values[0]
	}
	return "ARRAY[" + strings.Join(values, ", ") + "]::pg_catalog.text"
}
