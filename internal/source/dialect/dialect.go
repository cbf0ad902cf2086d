// Package dialect is what ways of noticing changes that several databases have, such as outboxes,
// must know of each.
package dialect

import (
	"context"
	"database/sql"
	"strings"
	"time"

	"pingo/internal/core/shape"
	"pingo/internal/source"
)

// Database is a kind of database as outboxes see it.
type Database interface {
	// Open opens a source, without a capture, and connections to its database besides.
	Open(c source.Config) (*source.Source, *sql.DB, error)
	// Quote writes a name.
	Quote(name string) string
	// Text is SQL that gives a value as text.
	Text(sql string) string
	// Table is how a table of some name, or SCHEMA.TABLE, is known by; url is the source's.
	Table(url, name string) shape.Ref
	// CreateOutbox is the SQL of a good outbox.
	CreateOutbox(o Outbox) string
	// Settle deletes the rows of an outbox that have some numbers, or sets their mark. It waits for no writer of other
	// rows, and fails like Safe.
	Settle(ctx context.Context, db *sql.DB, o Outbox, ids []int64) error
	// Safe fails where Settle would run code of another role with the rights of Pingo's: a trigger, a rule, a view. A
	// table that is not there is safe.
	Safe(ctx context.Context, db *sql.DB, o Outbox) error
	// Grants are the statements that give the user of a source's URL some privileges on a table.
	Grants(url, table, privileges string) string
	// Explain puts a failure into a sentence, and says whose fault it is.
	Explain(err error) error
	// Newer calls each with the key, and the value of a column as text, of every row of a table
	// in which that is not below a value by more than an overlap, in its order; Everything finds
	// all rows, and without each it reads none. It returns what the highest value is, and what it would be now by the database's
	// clock, empty where the column is no time.
	Newer(ctx context.Context, r source.Reader, table shape.Ref, column, value string, overlap time.Duration,
		each func(key []string, value string) error) (highest, clock string, err error)
	// Nullable reports whether a column of a table may be NULL.
	Nullable(ctx context.Context, r source.Reader, table shape.Ref, column string) (bool, error)
}

// Everything is an overlap that leaves out nothing.
const Everything time.Duration = -1

// Outbox is the names of an outbox's table and columns; Body, At and Mark are empty where there
// is no such column.
type Outbox struct {
	Table, ID, Record, Key, Operation, Body, At, Mark string
}

// Reading are the statements that give the user of a source's URL the right to read some tables.
func Reading(d Database, url string, tables []shape.Captured) string {
	var b strings.Builder
	for _, t := range tables {
		for line := range strings.Lines(d.Grants(url, t.Table.String(), "SELECT")) {
			if !strings.Contains(b.String(), line) {
				b.WriteString(line)
			}
		}
	}
	return b.String()
}

// Merge adds properties to a JSON Schema object of them.
func Merge(keys, more string) string {
	rest := strings.TrimSuffix(strings.TrimSpace(keys), "}")
	if strings.TrimSpace(rest) != "{" {
		rest += ", "
	}
	return rest + more + "}"
}
