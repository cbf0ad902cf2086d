package postgres

import (
	"fmt"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"

	"pingo/internal/lab/pgtest"
	"pingo/internal/source"
	"pingo/internal/source/sourcetest"
)

type harness struct{ url string }

func TestConformance(t *testing.T) {
	h := &harness{pgtest.Hostile(t)}
	pgtest.Exec(t, pgtest.Connect(t, h.url), `
		CREATE TABLE regions (id int PRIMARY KEY, name text);
		CREATE TABLE huts (id int PRIMARY KEY, name text, region_id int, beds int, open boolean, since date);
		CREATE TABLE stays (hut_id int, night text, body text, PRIMARY KEY (hut_id, night))`)
	sourcetest.Run(t, Kind, h)
}

func (h *harness) Open(t *testing.T) *source.Source { return open(t, h.url) }

func (h *harness) Truncate(t *testing.T, table string) {
	pgtest.Exec(t, pgtest.Connect(t, h.url), "TRUNCATE "+table)
}

func (h *harness) Begin(t *testing.T) sourcetest.Transaction {
	conn := pgtest.Connect(t, h.url)
	pgtest.Exec(t, conn, "BEGIN")
	return &transaction{t, conn}
}

type transaction struct {
	t    *testing.T
	conn *pgx.Conn
}

func (tx *transaction) run(sql string, args []any) {
	tx.t.Helper()
	if _, err := tx.conn.Exec(tx.t.Context(), sql, args...); err != nil {
		tx.t.Fatal(sql, err)
	}
}

// pairs writes columns with parameters, joined, and adds their values to args.
func pairs(row sourcetest.Row, join string, args *[]any) string {
	var out []string
	for name, value := range row {
		*args = append(*args, value)
		out = append(out, fmt.Sprintf("%s = $%d", name, len(*args)))
	}
	return strings.Join(out, join)
}

func (tx *transaction) Insert(table string, row sourcetest.Row) {
	var names, marks []string
	var args []any
	for name, value := range row {
		args = append(args, value)
		names, marks = append(names, name), append(marks, fmt.Sprintf("$%d", len(args)))
	}
	tx.run(
		fmt.Sprintf("INSERT INTO %s (%s) VALUES (%s)", table, strings.Join(names, ", "), strings.Join(marks, ", ")),
		args,
	)
}

func (tx *transaction) Update(table string, key, set sourcetest.Row) {
	var args []any
	assign := pairs(set, ", ", &args)
	tx.run(fmt.Sprintf("UPDATE %s SET %s WHERE %s", table, assign, pairs(key, " AND ", &args)), args)
}

func (tx *transaction) Delete(table string, key sourcetest.Row) {
	var args []any
	tx.run(fmt.Sprintf("DELETE FROM %s WHERE %s", table, pairs(key, " AND ", &args)), args)
}

func (tx *transaction) Commit()   { tx.run("COMMIT", nil) }
func (tx *transaction) Rollback() { tx.run("ROLLBACK", nil) }
