package mariadb

import (
	"database/sql"
	"fmt"
	"strings"
	"testing"
	"time"

	"pingo/internal/lab/mariatest"
	"pingo/internal/source"
	"pingo/internal/source/sourcetest"
)

func TestMain(m *testing.M) { mariatest.Main(m) }

func open(t *testing.T, url string) *source.Source {
	t.Helper()
	src, err := Open(source.Config{URL: url, ConnectTimeout: 5 * time.Second})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(src.Close)
	return src
}

type harness struct{ url string }

func TestConformance(t *testing.T) {
	defer func(d time.Duration) { settleAfter = d }(settleAfter)
	settleAfter = 300 * time.Millisecond
	h := &harness{mariatest.URL(t)}
	mariatest.Exec(t, mariatest.Connect(t, h.url), `
		CREATE TABLE regions (id int PRIMARY KEY, name varchar(100));
		CREATE TABLE huts (id int PRIMARY KEY, name varchar(100), region_id int, beds int, open boolean, since date);
		CREATE TABLE stays (hut_id int, night varchar(20), body text, PRIMARY KEY (hut_id, night))`)
	sourcetest.Run(t, Kind, h)
}

func (h *harness) Open(t *testing.T) *source.Source { return open(t, h.url) }

func (h *harness) Truncate(t *testing.T, table string) {
	mariatest.Exec(t, mariatest.Connect(t, h.url), "TRUNCATE "+table)
}

func (h *harness) Begin(t *testing.T) sourcetest.Transaction {
	tx, err := mariatest.Connect(t, h.url).Begin()
	if err != nil {
		t.Fatal(err)
	}
	return &transaction{t, tx}
}

type transaction struct {
	t  *testing.T
	tx *sql.Tx
}

// pairs writes columns with parameters, joined, and adds their values to args.
func pairs(row sourcetest.Row, join string, args *[]any) string {
	var out []string
	for name, value := range row {
		*args = append(*args, value)
		out = append(out, name+" = ?")
	}
	return strings.Join(out, join)
}

func (tx *transaction) Insert(table string, row sourcetest.Row) {
	var args []any
	mariatest.Exec(tx.t, tx.tx, fmt.Sprintf("INSERT INTO %s SET %s", table, pairs(row, ", ", &args)), args...)
}

func (tx *transaction) Update(table string, key, set sourcetest.Row) {
	var args []any
	assign := pairs(set, ", ", &args)
	mariatest.Exec(
		tx.t,
		tx.tx,
		fmt.Sprintf("UPDATE %s SET %s WHERE %s", table, assign, pairs(key, " AND ", &args)),
		args...)
}

func (tx *transaction) Delete(table string, key sourcetest.Row) {
	var args []any
	mariatest.Exec(
		tx.t,
		tx.tx,
		fmt.Sprintf("DELETE FROM %s WHERE %s", table, pairs(key, " AND ", &args)),
		args...)
}

func (tx *transaction) Commit() {
	if err := tx.tx.Commit(); err != nil {
		tx.t.Fatal(err)
	}
}

func (tx *transaction) Rollback() {
	if err := tx.tx.Rollback(); err != nil {
		tx.t.Fatal(err)
	}
}
