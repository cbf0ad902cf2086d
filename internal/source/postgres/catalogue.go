package postgres

import (
	"context"
	"errors"
	"fmt"
	"math"
	"regexp"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"pingo/internal/core/shape"
)

// Facts asks the catalogue about tables, and the parser about expressions: each
// expression becomes a temporary view that is rolled back, whose column and
// dependencies say its type and what it reads.
func (p *Reader) Facts(
	ctx context.Context,
	tables []string,
	expressions []shape.Expression,
) (shape.Facts, error) {
	tx, err := p.pool.BeginTx(ctx, pgx.TxOptions{}) // temporary views are made
	if err != nil {
		return shape.Facts{}, explain(err)
	}
	defer tx.Rollback(context.WithoutCancel(ctx))
	return p.facts(ctx, tx, tables, expressions)
}

// facts is Facts in a transaction, which is rolled back afterwards.
func (p *Reader) facts(
	ctx context.Context, tx pgx.Tx, tables []string, expressions []shape.Expression,
) (facts shape.Facts, err error) {
	facts = shape.Facts{
		Tables:      map[string]*shape.Table{},
		Expressions: map[shape.Expression]shape.ExpressionFacts{},
		Views:       map[shape.Ref]shape.ViewFacts{},
		Denied:      map[string]string{},
	}
	if err := p.pool.asReader(ctx, tx); err != nil {
		return facts, wrap("becoming the reader "+p.pool.reader, err)
	}
	oids := map[string]uint32{}
	if err := list(ctx, tx, &facts, tables, oids); err != nil {
		return facts, wrap("reading the catalogue", err)
	}
	for _, name := range tables {
		if facts.Tables[name] != nil || facts.Denied[name] != "" {
			continue
		}
		if facts.Denied[name], err = deniedTable(ctx, tx, name); err != nil {
			return facts, wrap("looking for "+name, err)
		}
	}
	for name, oid := range oids {
		t := facts.Tables[name]
		if t.Columns, err = columns(ctx, tx, oid, true); err != nil {
			return facts, wrap("reading the columns of "+name, err)
		}
		if t.Denied, err = deniedColumns(ctx, tx, t.Ref, oid); err != nil {
			return facts, wrap("reading the columns of "+name, err)
		}
		if t.Key, err = primaryKey(ctx, tx, oid); err != nil {
			return facts, wrap("reading the key of "+name, err)
		}
		if t.View {
			if t.Shifting, err = shifting(ctx, tx, oid); err != nil {
				return facts, wrap("reading what the view "+name+" calls", err)
			}
			if err := follow(ctx, tx, &facts, t, oid); err != nil {
				return facts, wrap("reading what the view "+name+" reads", err)
			}
		}
	}
	for _, expression := range expressions {
		if facts.Tables[expression.Table] == nil {
			continue
		}
		answer, err := probe(ctx, tx, expression, facts.Tables[expression.Table], oids[expression.Table])
		if err != nil {
			return facts, wrap("asking about "+expression.Text, err)
		}
		facts.Expressions[expression] = answer
	}
	return facts, nil
}

// list fills in the tables that were named, and the names of all there are. A name without a schema means the table in
// the schema that is named like Pingo's role, else the one in public, else the only one of that name.
func list(ctx context.Context, tx pgx.Tx, facts *shape.Facts, named []string, oids map[string]uint32) error {
	rows, err := tx.Query(ctx, `
		SELECT c.oid, n.nspname, c.relname, c.relkind::text, n.nspname IN ('public', current_user),
			CASE WHEN c.relrowsecurity AND row_security_active(c.oid)
				THEN format('row-level security hides rows of it: ALTER ROLE %I BYPASSRLS;', current_user) ELSE '' END
		FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
		WHERE c.relkind IN ('r', 'p', 'v', 'm', 'f') AND NOT c.relispartition
		  AND n.nspname NOT IN ('pg_catalog', 'information_schema', 'pingo_capture') AND n.nspname NOT LIKE 'pg\_t%'
		  AND has_any_column_privilege(c.oid, 'SELECT')
		ORDER BY n.nspname = current_user, n.nspname = 'public', n.nspname, c.relname`)
	if err != nil {
		return err
	}
	var oid uint32
	var ref shape.Ref
	var kind, hidden string
	var visible bool
	_, err = pgx.ForEachRow(rows, []any{&oid, &ref.Schema, &ref.Name, &kind, &visible, &hidden}, func() error {
		written := []string{ref.String(), ref.Name}
		facts.Known = append(facts.Known, written[0])
		if visible {
			facts.Known = append(facts.Known, written[1])
		}
		for _, name := range written {
			switch {
			case !slices.Contains(named, name):
			case hidden != "":
				facts.Denied[name] = hidden
			default:
				facts.Tables[name] = &shape.Table{
					Ref:       ref,
					View:      kind == "v",
					Refreshed: kind == "m",
					Foreign:   kind == "f",
				}
				oids[name] = oid
			}
		}
		return nil
	})
	return err
}

// deniedTable gives the statements that let Pingo read a table that is there; empty
// when there is none of that name.
func deniedTable(ctx context.Context, tx pgx.Tx, name string) (string, error) {
	schema, table, qualified := strings.Cut(name, ".")
	if !qualified {
		schema, table = "", name
	}
	var grant string
	err := tx.QueryRow(ctx, `
		SELECT concat_ws(' ', CASE WHEN NOT has_schema_privilege(n.oid, 'USAGE') THEN format('GRANT USAGE ON SCHEMA %I TO %I;', n.nspname, current_user) END,
			format('GRANT SELECT ON %I.%I TO %I;', n.nspname, c.relname, current_user))
		FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
		WHERE c.relkind IN ('r', 'p', 'v', 'm', 'f') AND c.relname = $2 AND ($1 = '' OR n.nspname = $1)
		ORDER BY n.nspname = 'public' DESC LIMIT 1`, schema, table).Scan(&grant)
	if errors.Is(err, pgx.ErrNoRows) {
		return "", nil
	}
	return grant, err
}

// deniedColumns gives the columns that Pingo may not read, with what lets it.
func deniedColumns(ctx context.Context, tx pgx.Tx, table shape.Ref, oid uint32) (map[string]string, error) {
	rows, err := tx.Query(
		ctx,
		`SELECT attname, format('GRANT SELECT (%I) ON %s TO %I;', attname, $2::text, current_user) FROM pg_attribute
		WHERE attrelid = $1 AND attnum > 0 AND NOT attisdropped AND NOT has_column_privilege(attrelid, attnum, 'SELECT')`,
		oid,
		quote(table),
	)
	if err != nil {
		return nil, err
	}
	denied := map[string]string{}
	var column, grant string
	_, err = pgx.ForEachRow(rows, []any{&column, &grant}, func() error {
		denied[column] = grant
		return nil
	})
	return denied, err
}

func columns(ctx context.Context, tx pgx.Tx, oid uint32, readable bool) ([]shape.TableColumn, error) {
	rows, err := tx.Query(ctx, `
		SELECT a.attname, `+nativeType+`, base.typname, base.typtype::text, base.typcategory::text,
		       elem.typname, elem.typtype::text, coalesce(NOT c.collisdeterministic, false) OR base.typname = 'citext',
		       base.typnamespace <> 'pg_catalog'::regnamespace
		FROM pg_attribute a LEFT JOIN pg_collation c ON c.oid = a.attcollation
		CROSS JOIN LATERAL (
			WITH RECURSIVE under(oid, typtype) AS (
				SELECT t.oid, t.typtype FROM pg_type t WHERE t.oid = a.atttypid
				UNION ALL
				SELECT b.oid, b.typtype FROM under u JOIN pg_type d ON d.oid = u.oid JOIN pg_type b ON b.oid = d.typbasetype WHERE u.typtype = 'd'
			) SELECT oid FROM under WHERE typtype <> 'd'
		) bottom
		JOIN pg_type base ON base.oid = bottom.oid
		LEFT JOIN pg_type elem ON elem.oid = base.typelem AND base.typcategory = 'A'
		WHERE a.attrelid = $1 AND a.attnum > 0 AND NOT a.attisdropped
		  AND (NOT $2 OR has_column_privilege(a.attrelid, a.attnum, 'SELECT'))
		ORDER BY a.attnum`, oid, readable)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (shape.TableColumn, error) {
		var c shape.TableColumn
		var base, typtype, category string
		var elem, elemtype *string
		var foreign bool
		err := row.Scan(&c.Name, &c.Native, &base, &typtype, &category, &elem, &elemtype, &c.Loose, &foreign)
		if category == "A" && elem != nil {
			base, typtype, c.Array = *elem, *elemtype, true
		}
		of := treatmentOf(base, typtype)
		c.Form, c.Type, c.Refused, c.Unlinkable, c.KeyForm = base, of.becomes, of.refused, of.unlinkable, of.keyAs != "" &&
			!of.sameInKeys
		if typtype != "b" {
			c.Form = "" // its name may be that of a built-in type
		} else if foreign && c.Unlinkable == "" {
			c.Unlinkable = "the type comes with an extension, whose operators Pingo does not use to compare keys"
		}
		c.Bytewise = c.Form == "uuid" || c.Form == "bool"
		if c.Form == "numeric" && !strings.Contains(c.Native, "(") {
			c.Unlinkable = "1.5 and 1.50 are equal to the database, but not as keys; a type with a fixed number of decimal places, such as numeric(12,2), will do"
		}
		if c.Array {
			c.Form += "[]"
			c.Unlinkable, c.KeyForm, c.Bytewise = "a list has many values", false, false
		}
		c.Family, c.Across = family(&c), across(&c)
		return c, err
	})
}

// family folds the types whose values have one text when they are equal.
func family(c *shape.TableColumn) string {
	switch {
	case c.Array:
		return c.Native
	case c.Type == shape.Integer || c.Type == shape.Text:
		return string(c.Type)
	}
	name, size, _ := strings.Cut(c.Native, "(")
	if c.Form == "numeric" { // 1.5 and 1.50 are two texts
		_, scale, _ := strings.Cut(size, ",")
		return name + " with " + strings.TrimSuffix(scale, ")") + " decimal places"
	}
	return name
}

// across says how values of other sources are compared with a column: integers as the widest type,
// which an index on a narrower one serves, too.
func across(c *shape.TableColumn) *shape.Across {
	kind, _, _ := strings.Cut(c.Native, "(")
	switch kind {
	case "smallint", "integer", "bigint":
		return &shape.Across{As: "bigint", Type: shape.Integer, Least: math.MinInt64, Most: math.MaxInt64}
	case "text", "character varying":
		return &shape.Across{As: "text", Type: shape.Text}
	case "uuid":
		return &shape.Across{As: "uuid", Type: shape.Keyword}
	}
	return nil
}

// treatment is how Pingo reads a PostgreSQL type.
type treatment struct {
	becomes shape.Type
	// readAs is the type that values are cast to, when their own text would not do.
	readAs string
	// refused says what to do instead of indexing it.
	refused string
	// keyAs reads a value whose own text depends on settings of the session as a
	// text that does not, since triggers run in the application's sessions.
	keyAs string
	// sameInKeys: keyAs yields what documents hold, too.
	sameInKeys bool
	// unlinkable says why it cannot be in keys and links: equal values may have
	// different texts.
	unlinkable string
}

const (
	asPlain    = "(%s)::pg_catalog.text"
	asJSONText = "(pg_catalog.to_jsonb(%s) OPERATOR(pg_catalog.#>>) '{}')"
	asUTCText  = "(pg_catalog.to_jsonb(%s AT TIME ZONE 'UTC') OPERATOR(pg_catalog.#>>) '{}')"

	manyTexts = "equal values may be written differently"

	// firstOther is the smallest number of a type that the server did not bring itself.
	firstOther = "16384"
	// asOutput writes a value by its type's output function, which only superusers can make. A cast of a type to text may
	// be a function of the type's owner, and would run with the rights of whoever casts.
	asOutput = "CASE WHEN %s IS NULL THEN NULL ELSE pg_catalog.concat(%s) END"
)

// nativeType is the SQL that names the type of a column a as people know it: types in public stand without their schema.
const nativeType = `pg_catalog.regexp_replace(pg_catalog.format_type(a.atttypid, a.atttypmod), '^public\.', '')`

var treatments = map[string]treatment{
	"text": {becomes: shape.Text}, "varchar": {becomes: shape.Text},
	"citext": {
		becomes:    shape.Text,
		unlinkable: "values that differ in letter case are equal to the database, but not to an engine",
	},
	"bpchar": {becomes: shape.Keyword, readAs: "pg_catalog.text", keyAs: asPlain, sameInKeys: true},
	"int2": {
		becomes: shape.Integer,
	}, "int4": {becomes: shape.Integer}, "int8": {becomes: shape.Integer}, "oid": {becomes: shape.Integer},
	"numeric": {
		becomes: shape.Decimal,
	}, "float4": {becomes: shape.Decimal, unlinkable: manyTexts}, "float8": {becomes: shape.Decimal, unlinkable: manyTexts},
	"money":       {becomes: shape.Decimal, readAs: "pg_catalog.numeric", unlinkable: manyTexts},
	"bool":        {becomes: shape.Boolean, keyAs: asPlain, sameInKeys: true},
	"date":        {becomes: shape.Date, keyAs: asJSONText},
	"timestamp":   {becomes: shape.Timestamp, keyAs: asJSONText},
	"timestamptz": {becomes: shape.Timestamp, keyAs: asUTCText},
	"timetz":      {becomes: shape.Keyword, unlinkable: manyTexts},
	"interval":    {becomes: shape.Keyword, unlinkable: manyTexts},
	"inet":        {becomes: shape.Keyword, keyAs: asPlain}, "cidr": {becomes: shape.Keyword, keyAs: asPlain},
	"json": {
		becomes:    shape.Object,
		unlinkable: manyTexts,
	}, "jsonb": {becomes: shape.Object, unlinkable: manyTexts},
	"hstore": {becomes: shape.Object, readAs: "pg_catalog.jsonb", unlinkable: manyTexts},
	"point":  {becomes: shape.Geo, unlinkable: manyTexts},
	"bytea":  {refused: "leave it out, or write sql: encode(column, 'hex')", unlinkable: manyTexts},
	"tsvector": {
		refused:    "index the text that it was made from",
		unlinkable: manyTexts,
	}, "tsquery": {refused: "leave it out", unlinkable: manyTexts},
	"numrange": {becomes: shape.Keyword, unlinkable: manyTexts}, "nummultirange": {becomes: shape.Keyword, unlinkable: manyTexts},
	"xml": refusedShape, "line": refusedShape, "lseg": refusedShape, "box": refusedShape, "path": refusedShape, "polygon": refusedShape, "circle": refusedShape,
}

var refusedShape = treatment{refused: "make a text of it with sql: and ::text", unlinkable: manyTexts}

// treatmentOf gives the treatment of a PostgreSQL type; docs/reference/types.md has the same table.
func treatmentOf(name, typtype string) treatment {
	switch typtype {
	case "c", "p":
		return treatment{refused: "take one part of it with sql:", unlinkable: "it has several values"}
	case "b":
		if known, ok := treatments[name]; ok {
			return known
		}
	}
	return treatment{
		becomes: shape.Keyword,
	} // enums, ranges, uuid, bits, network addresses, times, and what extensions bring
}

// follow finds the tables that a view reads, through views that it reads, and the
// columns that it shows as they are.
func follow(ctx context.Context, tx pgx.Tx, facts *shape.Facts, t *shape.Table, view uint32) error {
	rows, err := tx.Query(ctx, `
		WITH RECURSIVE read(view, oid, attnum) AS (
			SELECT r.ev_class, d.refobjid, d.refobjsubid FROM pg_rewrite r
			JOIN pg_depend d ON d.classid = 'pg_rewrite'::regclass AND d.objid = r.oid AND d.refclassid = 'pg_class'::regclass AND d.refobjid <> r.ev_class
			WHERE r.ev_class = $1
			UNION
			SELECT r.ev_class, d.refobjid, d.refobjsubid FROM read JOIN pg_class c ON c.oid = read.oid AND c.relkind = 'v'
			JOIN pg_rewrite r ON r.ev_class = read.oid
			JOIN pg_depend d ON d.classid = 'pg_rewrite'::regclass AND d.objid = r.oid AND d.refclassid = 'pg_class'::regclass AND d.refobjid <> r.ev_class
		)
		SELECT read.oid, n.nspname, c.relname, c.relkind::text, array_remove(array_agg(DISTINCT a.attname::text), NULL)
		FROM read JOIN pg_class c ON c.oid = read.oid JOIN pg_namespace n ON n.oid = c.relnamespace
		LEFT JOIN pg_attribute a ON a.attrelid = read.oid AND a.attnum = read.attnum AND read.attnum > 0
		WHERE c.relkind <> 'v' GROUP BY 1, 2, 3, 4 ORDER BY 2, 3`, view)
	if err != nil {
		return err
	}
	var oid uint32
	var f shape.Follow
	var kind string
	oids := map[shape.Ref]uint32{}
	if _, err := pgx.ForEachRow(rows, []any{&oid, &f.Table.Schema, &f.Table.Name, &kind, &f.Columns}, func() error {
		oids[f.Table] = oid
		t.Foreign = t.Foreign || kind != "r" && kind != "p" // changes behind it go unnoticed
		t.Follows = append(t.Follows, shape.Follow{Table: f.Table, Columns: f.Columns})
		f.Columns = nil
		return nil
	}); err != nil {
		return err
	}
	whole, err := wholeRows(ctx, tx, view)
	if err != nil {
		return err
	}
	for i := range t.Follows {
		f := &t.Follows[i]
		if f.Key, err = primaryKey(ctx, tx, oids[f.Table]); err != nil {
			return err
		}
		if len(f.Columns) == 0 || whole { // count(*) alone names none, and a row as a whole neither
			f.Columns = nil
			all, err := columns(ctx, tx, oids[f.Table], false)
			if err != nil {
				return err
			}
			for _, c := range all {
				f.Columns = append(f.Columns, c.Name)
			}
		}
	}
	parts, unclear, err := viewParts(ctx, tx, view)
	if errors.Is(err, errTree) { // another version of PostgreSQL may keep it in another way
		return nil // no ways are known then, so each change builds all documents, and check says so
	}
	facts.Views[t.Ref] = shape.ViewFacts{Parts: parts, Unclear: unclear}
	return err
}

func primaryKey(ctx context.Context, tx pgx.Tx, oid uint32) ([]string, error) {
	rows, err := tx.Query(ctx, `
		SELECT a.attname FROM pg_index i
		CROSS JOIN LATERAL unnest(i.indkey::int2[]) WITH ORDINALITY k(attnum, position)
		JOIN pg_attribute a ON a.attrelid = i.indrelid AND a.attnum = k.attnum
		WHERE i.indrelid = $1 AND i.indisprimary ORDER BY k.position`, oid)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowTo[string])
}

// probe asks PostgreSQL what an expression yields and reads.
func probe(
	ctx context.Context,
	tx pgx.Tx,
	expression shape.Expression,
	table *shape.Table,
	oid uint32,
) (shape.ExpressionFacts, error) {
	// What is in brackets in the view is in others, or in none, in alone: so nothing that closes
	// the one in order to open it again is taken for an expression, and no clause that follows an order.
	view, alone, from := "", "", " FROM "+quote(table.Ref)
	switch expression.Role {
	case shape.Value:
		view, alone = "SELECT ("+expression.Text+"\n) AS value"+from, "SELECT ARRAY["+expression.Text+"\n]"+from
	case shape.Condition:
		view, alone = "SELECT 1 AS value"+from+" WHERE ("+expression.Text+"\n)", "SELECT ARRAY["+expression.Text+"\n]"+from
	case shape.Ordering:
		view, alone = "SELECT 1 AS value"+from+" ORDER BY "+expression.Text+"\n", "SELECT array_agg(1 ORDER BY "+expression.Text+"\n)"+from
	}
	var answer shape.ExpressionFacts
	nested, err := tx.Begin(ctx)
	if err != nil {
		return answer, err
	}
	defer nested.Rollback(context.WithoutCancel(ctx))
	err = wellFormed(ctx, nested, alone)
	if err == nil {
		// Not by Exec, which would run several statements.
		err = nested.Conn().PgConn().ExecParams(ctx, "CREATE TEMPORARY VIEW pingo_probe AS "+view, nil, nil, nil, nil).Read().Err
	}
	if err != nil {
		var pg *pgconn.PgError
		if !errors.As(err, &pg) {
			return answer, err
		}
		answer.Problem = strings.TrimSuffix(pg.Message, ".")
		switch pg.Code {
		case "42703": // no such column
			answer.Suggestion = quotedColumn(expression.Text, table.Columns)
		case "42883", "42704", "42P01": // no such function or operator, type, table
			answer.Suggestion = "only names of the database itself may stand without a schema: write public.unaccent(name), facts OPERATOR(public.->) 'key', kind::public.kind"
		}
		return answer, nil
	}
	var probed uint32
	if err := nested.QueryRow(ctx, "SELECT 'pg_temp.pingo_probe'::regclass::oid").Scan(&probed); err != nil {
		return answer, err
	}
	yields, err := columns(ctx, nested, probed, false)
	if err != nil {
		return answer, err
	}
	if len(yields) != 1 {
		answer.Problem = "it yields more than one value"
		return answer, nil
	}
	answer.TableColumn = yields[0]
	rows, err := nested.Query(ctx, `
		SELECT DISTINCT d.refobjid = $2, coalesce(a.attname, ''), d.refobjid::regclass::text
		FROM pg_rewrite r
		JOIN pg_depend d ON d.classid = 'pg_rewrite'::regclass AND d.objid = r.oid AND d.refclassid = 'pg_class'::regclass
		LEFT JOIN pg_attribute a ON a.attrelid = d.refobjid AND a.attnum = d.refobjsubid AND d.refobjsubid > 0
		WHERE r.ev_class = $1 AND d.refobjid <> $1`, probed, oid)
	if err != nil {
		return answer, err
	}
	var own bool
	var column, relation string
	_, err = pgx.ForEachRow(rows, []any{&own, &column, &relation}, func() error {
		switch {
		case !own:
			answer.Problem = fmt.Sprintf("it reads %s as well, whose changes would go unnoticed", relation)
		case column != "":
			answer.Columns = append(answer.Columns, column)
		}
		return nil
	})
	if err != nil {
		return answer, err
	}
	whole, err := wholeRows(ctx, nested, probed)
	if err != nil {
		return answer, err
	}
	if whole { // then every column matters
		answer.Columns = nil
		for _, c := range table.Columns {
			answer.Columns = append(answer.Columns, c.Name)
		}
	}
	slices.Sort(answer.Columns)
	if answer.Shifting, err = shifting(ctx, nested, probed); err != nil {
		return answer, err
	}
	if answer.Functions, err = redefinable(ctx, nested, probed); err != nil {
		return answer, err
	}
	if answer.Problem == "" {
		answer.Problem, err = ambiguous(ctx, nested, view, probed, oid, answer.Columns)
	}
	return answer, err
}

// wellFormed reports whether a text is one statement as far as its syntax goes, without running it, in a transaction
// that goes on.
func wellFormed(ctx context.Context, tx pgx.Tx, sql string) error {
	point, err := tx.Begin(ctx)
	if err != nil {
		return err
	}
	defer point.Rollback(context.WithoutCancel(ctx))
	_, err = point.Prepare(ctx, "", sql)
	var pg *pgconn.PgError
	if errors.As(err, &pg) && pg.Code != "42601" { // anything but its syntax
		return nil
	}
	return err
}

// under lists the views that a view reads, itself first.
const under = `WITH RECURSIVE under(oid) AS (
	SELECT $1::oid
	UNION
	SELECT d.refobjid FROM under JOIN pg_rewrite r ON r.ev_class = under.oid
	JOIN pg_depend d ON d.classid = 'pg_rewrite'::regclass AND d.objid = r.oid AND d.refclassid = 'pg_class'::regclass
	JOIN pg_class c ON c.oid = d.refobjid AND c.relkind = 'v'
)`

// wholeRows reports whether a view, or one that it reads, takes rows as a whole, such as
// to_jsonb(huts) does: the catalogue names no columns for that.
func wholeRows(ctx context.Context, tx pgx.Tx, view uint32) (is bool, err error) {
	err = tx.QueryRow(ctx, under+` SELECT EXISTS (SELECT FROM under JOIN pg_rewrite r ON r.ev_class = under.oid
		WHERE r.ev_action::text ~ ':varattno (0|-[0-9]+) ')`, view).Scan(&is)
	return is, err
}

// quotedColumn suggests an expression with quotes around the columns whose names SQL folds to lower case without them, as
// YAML needs it written; empty when an expression names none.
func quotedColumn(expression string, columns []shape.TableColumn) string {
	quoted := expression
	for _, c := range columns {
		if c.Name != strings.ToLower(c.Name) {
			bare := regexp.MustCompile(`(?i)(^|[^\w".])` + regexp.QuoteMeta(c.Name) + `($|[^\w"])`)
			quoted = bare.ReplaceAllString(quoted, "${1}"+strings.ReplaceAll(quoteName(c.Name), "$", "$$")+"${2}")
		}
	}
	if quoted == expression {
		return ""
	}
	return fmt.Sprintf("write '%s': SQL needs double quotes around names with capitals, and YAML needs single quotes around the whole value",
		strings.ReplaceAll(quoted, "'", "''"))
}
