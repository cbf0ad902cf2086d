package postgres

import (
	"database/sql"
	"fmt"
	"strings"

	"github.com/jackc/pgx/v5/stdlib"

	"pingo/internal/core/shape"
	"pingo/internal/source"
	"pingo/internal/source/dialect"
)

// Dialect is what outboxes must know of PostgreSQL.
var Dialect dialect.Database = words{}

type words struct{}

func (words) Open(c source.Config) (*source.Source, *sql.DB, error) {
	pool, err := Connect(c)
	if err != nil {
		return nil, nil, err
	}
	return &source.Source{Reader: Within(pool, captureSchema).Reader}, stdlib.OpenDBFromPool(pool), nil
}

func (words) Quote(name string) string { return quoteName(name) }
func (words) Text(sql string) string   { return "(" + sql + ")::text" }
func (words) Now() string              { return "clock_timestamp()" }
func (words) Explain(err error) error  { return explain(err) }

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
		return quoteName(name)
	}
	return quoteName(schema) + "." + quoteName(table)
}

func (w words) Grants(table, privileges string) string {
	return fmt.Sprintf("GRANT %s ON %s TO CURRENT_USER;\n", privileges, w.table(table))
}
