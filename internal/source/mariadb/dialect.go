package mariadb

import (
	"database/sql"
	"fmt"
	"net/url"
	"strings"

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
func (sqlWords) Now() string              { return "current_timestamp(6)" }
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

func (w sqlWords) Grants(table, privileges string) string {
	return fmt.Sprintf("GRANT %s ON %s TO current_user();\n", privileges, w.table(table))
}
