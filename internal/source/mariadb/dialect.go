package mariadb

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/go-sql-driver/mysql"

	"pingo/internal/core/shape"
	"pingo/internal/source"
	"pingo/internal/source/dialect"
)

// Dialect is what outboxes must know of MariaDB.
var Dialect dialect.Database = sqlWords{}

type sqlWords struct{}

func (sqlWords) Open(c source.Config) (*source.Source, *sql.DB, error) {
	src, err := Open(c)
	if err != nil {
		return nil, nil, err
	}
	reader := src.Reader.(*Reader)
	return &source.Source{Reader: reader}, reader.db.DB, nil
}

func (sqlWords) Quote(name string) string { return quoteName(name) }
func (sqlWords) Text(sql string) string   { return "CAST(" + sql + " AS CHAR)" }
func (sqlWords) Explain(err error) error  { return explain(err) }

func (sqlWords) Table(address, name string) shape.Ref {
	if schema, table, qualified := strings.Cut(name, "."); qualified {
		return shape.Ref{Schema: schema, Name: table}
	}
	u, err := url.Parse(address)
	if err != nil {
		return shape.Ref{Name: name} // Open would have failed
	}
	return shape.Ref{Schema: strings.TrimPrefix(u.Path, "/"), Name: name}
}

func (w sqlWords) CreateOutbox(o dialect.Outbox) string {
	columns := []string{
		quoteName(o.ID) + " bigint NOT NULL AUTO_INCREMENT PRIMARY KEY",
		quoteName(o.Record) + " varchar(64) NOT NULL",
		quoteName(o.Key) + " varchar(500) NOT NULL",
	}
	more := func(name, kind string) {
		if name != "" {
			columns = append(columns, quoteName(name)+" "+kind)
		}
	}
	more(o.Operation, "varchar(20) NOT NULL")
	more(o.Body, "json")
	more(o.At, "timestamp(6) NOT NULL DEFAULT current_timestamp(6)")
	more(o.Mark, "timestamp(6) NULL")
	if o.Mark != "" {
		columns = append(columns, fmt.Sprintf("KEY (%s, %s)", quoteName(o.Mark), quoteName(o.ID)))
	}
	return fmt.Sprintf(
		"CREATE TABLE %s (\n    %s\n) ENGINE=InnoDB;\n",
		w.table(o.Table),
		strings.Join(columns, ",\n    "),
	)
}

func (sqlWords) table(name string) string {
	schema, table, qualified := strings.Cut(name, ".")
	if !qualified {
		return quoteName(name)
	}
	return quoteName(schema) + "." + quoteName(table)
}

func (w sqlWords) Settle(ctx context.Context, db *sql.DB, o dialect.Outbox, ids []int64) error {
	some, err := numbered(ids, w.table(o.Table), quoteName(o.ID))
	if err != nil {
		return err
	}
	statement := "DELETE r FROM " + some
	if o.Mark != "" {
		statement = fmt.Sprintf("UPDATE %s SET r.%s = current_timestamp(6)", some, quoteName(o.Mark))
	}
	_, err = db.ExecContext(ctx, statement)
	return err
}

// Safe asks for what Settle does: it fails for views. Triggers run with the rights of their definer.
func (w sqlWords) Safe(ctx context.Context, db *sql.DB, o dialect.Outbox) error {
	rows, err := db.QueryContext(ctx, fmt.Sprintf("EXPLAIN SELECT 1 FROM %s %s LIMIT 0", w.table(o.Table), onlyTables))
	if err == nil {
		return rows.Close()
	}
	var said *mysql.MySQLError
	if errors.As(err, &said) && said.Number == noKey {
		return explain(err)
	}
	return nil // reading the outbox says what it is
}

func (w sqlWords) Grants(address, table, privileges string) string {
	user := "current_user()"
	if u, err := url.Parse(address); err == nil && u.User.Username() != "" {
		user = text(u.User.Username()) + "@'%'"
	}
	return fmt.Sprintf("GRANT %s ON %s TO %s;\n", privileges, w.table(table), user)
}

// overlapRows is by how much numbers may be late, where a column is no time.
const overlapRows = 1000

func (sqlWords) Newer(
	ctx context.Context,
	r source.Reader,
	table shape.Ref,
	column, value string,
	overlap time.Duration,
	each func(key []string, value string) error,
) (highest, clock string, err error) {
	p := r.(*Reader)
	all, err := p.db.columns(ctx, table)
	if err != nil {
		return "", "", wrap("reading the columns of "+table.String(), err)
	}
	key, err := p.db.primaryKey(ctx, table)
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
	name := quoteName(column)
	now, bound := "''", fmt.Sprintf("%s - INTERVAL %d MICROSECOND", text(value), overlap.Microseconds())
	switch all[i].Type {
	case shape.Timestamp, shape.Date:
		now = "CAST(current_timestamp(6) AS CHAR)"
	case shape.Integer:
		bound = fmt.Sprintf("CAST(%s AS SIGNED) - %d", text(value), overlapRows)
	default:
		return "", "", &source.Error{
			Fault: source.SchemaChanged,
			Err: fmt.Errorf(
				"column %s.%s is %s: polling needs a time or a growing integer",
				table,
				column,
				all[i].Native,
			),
		}
	}
	err = p.db.reading(ctx, func(tx *sql.Tx) error {
		return tx.QueryRowContext(ctx, fmt.Sprintf("SELECT coalesce(CAST(max(%s) AS CHAR), ''), %s FROM %s", name, now, tableOnly(table))).
			Scan(&highest, &clock)
	})
	if err != nil {
		return "", "", wrap("looking how far "+table.String()+" is", err)
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
	read = append(read, shape.Column{Expression: "CAST(" + name + " AS CHAR)"})
	condition := name + " >= " + bound
	if overlap == dialect.Everything {
		condition = "true"
	}
	err = p.stream(
		ctx,
		read,
		fmt.Sprintf("FROM %s WHERE %s ORDER BY %s", tableOnly(table), condition, name),
		func(row []string) error {
			return each(row[:len(key)], row[len(key)])
		},
	)
	return highest, clock, err
}

func (sqlWords) Nullable(ctx context.Context, r source.Reader, table shape.Ref, column string) (nullable bool, err error) {
	err = r.(*Reader).db.QueryRowContext(ctx, fmt.Sprintf(
		"SELECT IS_NULLABLE = 'YES' FROM information_schema.COLUMNS WHERE TABLE_SCHEMA = %s AND TABLE_NAME = %s AND COLUMN_NAME = %s",
		text(table.Schema), text(table.Name), text(column))).Scan(&nullable)
	return nullable, explain(err)
}
