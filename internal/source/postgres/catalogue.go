package postgres

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"pingo/internal/core/shape"
)

// Facts asks the catalogue about tables, and the parser about expressions: each
// expression becomes a temporary view that is rolled back, whose column and
// dependencies say its type and what it reads.
func (p *Postgres) Facts(ctx context.Context, tables []string, expressions []shape.Asked) (shape.Facts, error) {
	facts := shape.Facts{Tables: map[string]*shape.Table{}, Expressions: map[shape.Asked]shape.Told{}}
	tx, err := p.pool.BeginTx(ctx, pgx.TxOptions{IsoLevel: pgx.ReadCommitted})
	if err != nil {
		return facts, Explain(err)
	}
	defer tx.Rollback(context.WithoutCancel(ctx))
	oids := map[string]uint32{}
	if err := list(ctx, tx, &facts, tables, oids); err != nil {
		return facts, wrap("reading the catalogue", err)
	}
	for name, oid := range oids {
		t := facts.Tables[name]
		if t.Columns, err = columns(ctx, tx, oid, true); err != nil {
			return facts, wrap("reading the columns of "+name, err)
		}
		if t.Key, err = primaryKey(ctx, tx, oid); err != nil {
			return facts, wrap("reading the key of "+name, err)
		}
	}
	for _, asked := range expressions {
		if facts.Tables[asked.Table] == nil {
			continue
		}
		told, err := probe(ctx, tx, asked, facts.Tables[asked.Table].Ref, oids[asked.Table])
		if err != nil {
			return facts, wrap("asking about "+asked.SQL, err)
		}
		facts.Expressions[asked] = told
	}
	return facts, nil
}

// list fills in the tables that were named, and the names of all there are. A name
// without a schema means the one that the search path finds, or the only one.
func list(ctx context.Context, tx pgx.Tx, facts *shape.Facts, named []string, oids map[string]uint32) error {
	rows, err := tx.Query(ctx, `
		SELECT c.oid, n.nspname, c.relname, c.relkind IN ('v', 'm'), pg_table_is_visible(c.oid)
		FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
		WHERE c.relkind IN ('r', 'p', 'v', 'm', 'f') AND NOT c.relispartition
		  AND n.nspname NOT IN ('pg_catalog', 'information_schema', 'pingo_capture') AND n.nspname NOT LIKE 'pg\_t%'
		  AND has_any_column_privilege(c.oid, 'SELECT')
		ORDER BY pg_table_is_visible(c.oid), n.nspname, c.relname`)
	if err != nil {
		return err
	}
	var oid uint32
	var ref shape.Ref
	var view, visible bool
	_, err = pgx.ForEachRow(rows, []any{&oid, &ref.Schema, &ref.Name, &view, &visible}, func() error {
		written := []string{ref.String(), ref.Name}
		facts.Known = append(facts.Known, written[0])
		if visible {
			facts.Known = append(facts.Known, written[1])
		}
		for _, name := range written {
			if slices.Contains(named, name) {
				facts.Tables[name] = &shape.Table{Ref: ref, View: view}
				oids[name] = oid
			}
		}
		return nil
	})
	return err
}

func columns(ctx context.Context, tx pgx.Tx, oid uint32, readable bool) ([]shape.TableColumn, error) {
	rows, err := tx.Query(ctx, `
		SELECT a.attname, format_type(a.atttypid, a.atttypmod), base.typname, base.typtype::text, base.typcategory::text,
		       elem.typname, elem.typtype::text
		FROM pg_attribute a
		JOIN pg_type declared ON declared.oid = a.atttypid
		JOIN pg_type base ON base.oid = CASE WHEN declared.typtype = 'd' THEN declared.typbasetype ELSE declared.oid END
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
		err := row.Scan(&c.Name, &c.SQLType, &base, &typtype, &category, &elem, &elemtype)
		if category == "A" && elem != nil {
			base, typtype, c.Array = *elem, *elemtype, true
		}
		c.Type, c.Refused = typeOf(base, typtype)
		return c, err
	})
}

// typeOf gives the treatment of a PostgreSQL type; the docs have the same table.
func typeOf(name, typtype string) (t shape.Type, refused string) {
	switch typtype {
	case "e":
		return shape.Keyword, ""
	case "c", "p":
		return "", "take one part of it with sql:"
	}
	switch name {
	case "text", "varchar", "citext":
		return shape.Text, ""
	case "int2", "int4", "int8", "oid":
		return shape.Integer, ""
	case "numeric", "float4", "float8":
		return shape.Decimal, ""
	case "bool":
		return shape.Boolean, ""
	case "date":
		return shape.Date, ""
	case "timestamp", "timestamptz":
		return shape.Timestamp, ""
	case "json", "jsonb", "hstore":
		if name == "hstore" {
			return "", "write sql: hstore_to_jsonb(column)"
		}
		return shape.Object, ""
	case "point":
		return shape.Geo, ""
	case "bytea":
		return "", "leave it out, or write sql: encode(column, 'hex')"
	case "tsvector", "tsquery":
		return "", "index the text that it was made from"
	case "xml", "line", "lseg", "box", "path", "polygon", "circle":
		return "", "make a text of it with sql: and ::text"
	}
	return shape.Keyword, ""
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
func probe(ctx context.Context, tx pgx.Tx, asked shape.Asked, table shape.Ref, oid uint32) (shape.Told, error) {
	sql := "CREATE TEMPORARY VIEW pingo_probe AS "
	switch asked.Role {
	case shape.Value:
		sql += "SELECT " + asked.SQL + " AS value FROM " + quote(table)
	case shape.Condition:
		sql += "SELECT 1 AS value FROM " + quote(table) + " WHERE " + asked.SQL
	case shape.Ordering:
		sql += "SELECT 1 AS value FROM " + quote(table) + " ORDER BY " + asked.SQL
	}
	var told shape.Told
	nested, err := tx.Begin(ctx)
	if err != nil {
		return told, err
	}
	defer nested.Rollback(context.WithoutCancel(ctx))
	if _, err := nested.Exec(ctx, sql); err != nil {
		var pg *pgconn.PgError
		if !errors.As(err, &pg) {
			return told, err
		}
		told.Problem = strings.TrimSuffix(pg.Message, ".")
		return told, nil
	}
	var view uint32
	if err := nested.QueryRow(ctx, "SELECT 'pg_temp.pingo_probe'::regclass::oid").Scan(&view); err != nil {
		return told, err
	}
	yields, err := columns(ctx, nested, view, false)
	if err != nil {
		return told, err
	}
	if len(yields) != 1 {
		told.Problem = "it yields more than one value"
		return told, nil
	}
	told.TableColumn = yields[0]
	rows, err := nested.Query(ctx, `
		SELECT DISTINCT d.refobjid = $2, coalesce(a.attname, ''), d.refobjid::regclass::text
		FROM pg_rewrite r
		JOIN pg_depend d ON d.classid = 'pg_rewrite'::regclass AND d.objid = r.oid AND d.refclassid = 'pg_class'::regclass
		LEFT JOIN pg_attribute a ON a.attrelid = d.refobjid AND a.attnum = d.refobjsubid AND d.refobjsubid > 0
		WHERE r.ev_class = $1 AND d.refobjid <> $1`, view, oid)
	if err != nil {
		return told, err
	}
	var own bool
	var column, relation string
	_, err = pgx.ForEachRow(rows, []any{&own, &column, &relation}, func() error {
		switch {
		case !own:
			told.Problem = fmt.Sprintf("it reads %s as well, whose changes would go unnoticed", relation)
		case column != "":
			told.Columns = append(told.Columns, column)
		}
		return nil
	})
	slices.Sort(told.Columns)
	return told, err
}
