package postgres

import (
	"bytes"
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/stdlib"

	"pingo/internal/core/shape"
	"pingo/internal/pgsession"
	"pingo/internal/source"
	"pingo/internal/source/dialect"
)

// Dialect is what outboxes must know of PostgreSQL.
var Dialect dialect.Database = words{}

type words struct{}

func (words) Open(c source.Config) (*source.Source, *sql.DB, error) {
	o, err := readOptions(c)
	if err != nil {
		return nil, nil, err
	}
	if o.Replica != "" {
		return nil, nil, fmt.Errorf("source %s: a replica is read with capture: triggers only: take replica out", c.Name)
	}
	pool, err := Connect(c)
	if err != nil {
		return nil, nil, err
	}
	return &source.Source{Reader: &Reader{pool: &database{pgsession.Pool{Pool: pool}, captureSchema, o.Reader}}}, stdlib.OpenDBFromPool(pool), nil
}

func (words) Quote(name string) string { return quoteName(name) }
func (words) Explain(err error) error  { return explain(err) }

// Text leaves out the casts that the owners of types may have made.
func (words) Text(sql string) string {
	return "CASE WHEN pg_catalog.pg_typeof(" + sql + ")::pg_catalog.oid < " + firstOther + " THEN (" + sql + ")::pg_catalog.text ELSE " +
		strings.ReplaceAll(asOutput, "%s", "("+sql+")") + " END"
}

func (words) Table(_, name string) shape.Ref {
	if schema, table, qualified := strings.Cut(name, "."); qualified {
		return shape.Ref{Schema: schema, Name: table}
	}
	return shape.Ref{Schema: "public", Name: name}
}

func (w words) CreateOutbox(o dialect.Outbox) string {
	table := w.table(o.Table)
	columns := []string{
		quoteName(o.ID) + " bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY",
		quoteName(o.Record) + " text NOT NULL",
		quoteName(o.Key) + " text NOT NULL",
	}
	more := func(name, kind string) {
		if name != "" {
			columns = append(columns, quoteName(name)+" "+kind)
		}
	}
	more(o.Operation, "text NOT NULL")
	more(o.Body, "jsonb")
	more(o.At, "timestamptz NOT NULL DEFAULT clock_timestamp()")
	more(o.Mark, "timestamptz")
	out := fmt.Sprintf("CREATE TABLE %s (\n    %s\n);\n", table, strings.Join(columns, ",\n    "))
	if o.Mark != "" {
		out += fmt.Sprintf(
			"CREATE INDEX ON %s (%s) WHERE %s IS NULL;\n",
			table,
			quoteName(o.ID),
			quoteName(o.Mark),
		)
	}
	return out
}

func (words) table(name string) string {
	schema, table, qualified := strings.Cut(name, ".")
	if !qualified {
		schema, table = "public", name
	}
	return quoteName(schema) + "." + quoteName(table)
}

// Settle holds a lock that keeps others from adding triggers and rules between the look for them and the statement.
func (w words) Settle(ctx context.Context, db *sql.DB, o dialect.Outbox, ids []int64) error {
	numbers, err := json.Marshal(ids)
	if err != nil {
		return err
	}
	table := w.table(o.Table)
	statement := "DELETE FROM " + table
	if o.Mark != "" {
		statement = fmt.Sprintf("UPDATE %s SET %s = clock_timestamp()", table, quoteName(o.Mark))
	}
	statement += fmt.Sprintf(" WHERE %s = ANY('{%s}'::bigint[])", quoteName(o.ID), bytes.Trim(numbers, "[]"))
	tx, err := db.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	defer tx.Rollback()
	if _, err := tx.ExecContext(ctx, "LOCK TABLE "+table+" IN ROW EXCLUSIVE MODE"); err != nil {
		return err
	}
	locked, err := w.safe(ctx, tx, o)
	if err != nil {
		return err
	}
	if _, err := tx.ExecContext(ctx, statement); err != nil {
		return err
	}
	// A schema can be renamed in spite of the lock.
	if after, err := w.safe(ctx, tx, o); err != nil || after != locked {
		return errors.Join(err, fmt.Errorf("another table took the place of %s: nothing was settled there", o.Table))
	}
	return tx.Commit()
}

func (w words) Safe(ctx context.Context, db *sql.DB, o dialect.Outbox) error {
	tx, err := db.BeginTx(ctx, &sql.TxOptions{ReadOnly: true})
	if err != nil {
		return err
	}
	defer tx.Rollback()
	_, err = w.safe(ctx, tx, o)
	return err
}

// safe is Safe, and gives the identity of the table. It looks at the partitions, too: their triggers run, not those of
// the table alone.
func (w words) safe(ctx context.Context, tx *sql.Tx, o dialect.Outbox) (table uint32, err error) {
	var found string
	err = tx.QueryRowContext(ctx, `
		WITH RECURSIVE trusted AS (SELECT oid FROM pg_roles WHERE rolsuper OR rolname = current_user),
		tree(oid) AS (SELECT to_regclass($1)::oid UNION SELECT i.inhrelid FROM pg_inherits i JOIN tree ON i.inhparent = tree.oid),
		made AS (SELECT c.oid, c.relkind FROM pg_class c JOIN tree USING (oid)),
		evaluated AS (
			SELECT made.oid, coalesce(p.oid, o.oprcode) AS function
			FROM made JOIN pg_depend owns ON owns.refclassid = 'pg_class'::regclass AND owns.refobjid = made.oid
				AND owns.classid IN ('pg_attrdef'::regclass, 'pg_constraint'::regclass, 'pg_class'::regclass)
			JOIN pg_depend calls ON calls.classid = owns.classid AND calls.objid = owns.objid
			LEFT JOIN pg_proc p ON calls.refclassid = 'pg_proc'::regclass AND p.oid = calls.refobjid
			LEFT JOIN pg_operator o ON calls.refclassid = 'pg_operator'::regclass AND o.oid = calls.refobjid
			WHERE $2)
		SELECT coalesce(to_regclass($1)::oid, 0), coalesce((SELECT min(problem) FROM (
			SELECT format('%s is not a table', oid::regclass) FROM made WHERE relkind NOT IN ('r', 'p')
			UNION ALL
			SELECT format('%s has the trigger %I, whose function belongs to %I', made.oid::regclass, t.tgname, pg_get_userbyid(p.proowner))
			FROM made JOIN pg_trigger t ON t.tgrelid = made.oid JOIN pg_proc p ON p.oid = t.tgfoid
			WHERE NOT t.tgisinternal AND t.tgenabled NOT IN ('D', 'R') AND t.tgtype::int & CASE WHEN $2 THEN 16 ELSE 8 END <> 0
				AND p.proowner NOT IN (SELECT oid FROM trusted)
			UNION ALL
			SELECT format('%s has the rule %I', made.oid::regclass, r.rulename)
			FROM made JOIN pg_rewrite r ON r.ev_class = made.oid AND r.rulename <> '_RETURN' AND r.ev_type = CASE WHEN $2 THEN '2' ELSE '4' END
			UNION ALL
			SELECT format('%s evaluates the function %s, which belongs to %I', e.oid::regclass, p.oid::regprocedure, pg_get_userbyid(p.proowner))
			FROM evaluated e JOIN pg_proc p ON p.oid = e.function WHERE p.proowner NOT IN (SELECT oid FROM trusted)
		) all_of(problem)), '')`, w.table(o.Table), o.Mark != "").Scan(&table, &found)
	if err == nil && found != "" {
		done := "deleting"
		if o.Mark != "" {
			done = "marking"
		}
		err = fmt.Errorf("the outbox cannot be used: %s rows would run code of another role with Pingo's rights: %s. "+
			"Give Pingo an outbox without such code, or let an administrator own the function", done, found)
	}
	return table, err
}

func (w words) Grants(address, table, privileges string) string {
	user := "CURRENT_USER"
	if u, err := url.Parse(address); err == nil && u.User.Username() != "" {
		user = quoteName(u.User.Username())
	}
	schema, _, qualified := strings.Cut(table, ".")
	if !qualified {
		schema = "public"
	}
	return fmt.Sprintf("GRANT USAGE ON SCHEMA %s TO %[2]s;\nGRANT %[3]s ON %[4]s TO %[2]s;\n", quoteName(schema), user, privileges, w.table(table))
}

// overlapRows is by how much numbers may be late, where a column is no time.
const overlapRows = 1000

func (words) Newer(
	ctx context.Context,
	r source.Reader,
	table shape.Ref,
	column, value string,
	overlap time.Duration,
	each func(key []string, value string) error,
) (highest, clock string, err error) {
	p := r.(*Reader)
	tx, err := p.pool.BeginTx(ctx, pgx.TxOptions{AccessMode: pgx.ReadOnly})
	if err != nil {
		return "", "", explain(err)
	}
	defer tx.Rollback(context.WithoutCancel(ctx))
	if err := p.pool.asReader(ctx, tx); err != nil {
		return "", "", explain(err)
	}
	var oid uint32
	if err := tx.QueryRow(ctx, "SELECT $1::regclass::oid", quote(table)).Scan(&oid); err != nil {
		return "", "", wrap("looking for "+table.String(), err)
	}
	all, err := columns(ctx, tx, oid, true)
	if err != nil {
		return "", "", wrap("reading the columns of "+table.String(), err)
	}
	key, err := primaryKey(ctx, tx, oid)
	if err != nil {
		return "", "", wrap("reading the key of "+table.String(), err)
	}
	i := slices.IndexFunc(all, func(c shape.TableColumn) bool { return c.Name == column })
	if i < 0 {
		return "", "", &source.Error{
			Fault: source.SchemaChanged,
			Err:   fmt.Errorf("table %s has no column %q that Pingo may read", table, column),
		}
	}
	kind, now, less := all[i].Native, "''", fmt.Sprintf("interval '%d milliseconds'", overlap.Milliseconds())
	switch all[i].Type {
	case shape.Timestamp, shape.Date:
		now = "clock_timestamp()::" + kind + "::text"
	case shape.Integer:
		less = fmt.Sprint(overlapRows)
	default:
		return "", "", &source.Error{
			Fault: source.SchemaChanged,
			Err: fmt.Errorf(
				"column %s.%s is %s: polling needs a time or a growing integer",
				table,
				column,
				kind,
			),
		}
	}
	name := quoteName(column)
	err = tx.QueryRow(ctx, fmt.Sprintf("SELECT coalesce(max(%s)::text, ''), %s FROM %s", name, now, quote(table))).
		Scan(&highest, &clock)
	if err != nil {
		return "", "", wrap("looking how far "+table.String()+" is", err)
	}
	if err := tx.Rollback(ctx); err != nil {
		return "", "", explain(err)
	}
	if each == nil {
		return highest, clock, nil
	}
	var read []shape.Column
	for _, k := range key {
		for _, c := range all {
			if c.Name == k {
				read = append(read, c.KeyColumn())
			}
		}
	}
	read = append(read, shape.Column{Expression: name + "::text"})
	condition, params := fmt.Sprintf("%s >= ($1::text::%s - %s)", name, kind, less), [][]byte{[]byte(value)}
	if overlap == dialect.Everything {
		condition, params = "true", nil
	}
	from := fmt.Sprintf("FROM %s WHERE %s ORDER BY %s", quote(table), condition, name)
	err = p.stream(ctx, read, from, params, func(row []string) error {
		return each(row[:len(key)], row[len(key)])
	})
	return highest, clock, err
}

func (words) Nullable(ctx context.Context, r source.Reader, table shape.Ref, column string) (nullable bool, err error) {
	err = r.(*Reader).pool.QueryRow(ctx, "SELECT NOT attnotnull FROM pg_attribute WHERE attrelid = to_regclass($1) AND attname = $2", quote(table), column).
		Scan(&nullable)
	if err != nil {
		return false, explain(err)
	}
	return nullable, nil
}
