// Package pgtest gives tests a real PostgreSQL server: one for each test process,
// and a fresh database for each test.
package pgtest

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"pingo/internal/pgserver"
	"pingo/internal/pgsession"
)

var (
	once    sync.Once
	server  *pgserver.Server
	started error
	number  atomic.Int64
	dir     string
)

// Main runs a package's tests and stops the server that they may have started.
func Main(m *testing.M) {
	code := m.Run()
	if err := Stop(); err != nil {
		fmt.Fprintln(os.Stderr, err)
		code = 1
	}
	os.Exit(code)
}

// Stop stops the server that tests may have started.
func Stop() (err error) {
	if server != nil {
		err = server.Stop()
	}
	os.RemoveAll(dir)
	return err
}

// IdleSessions is how long a session may say nothing that has not asked for more.
const IdleSessions = time.Second

// Settings make a server fast whose data may be lost, and strange where another server could be, too: nothing that
// is tested may depend on that.
var Settings = []string{
	"fsync=off",
	"full_page_writes=off",
	"synchronous_commit=off",
	"shared_buffers=64MB",
	"client_encoding=LATIN1",
	"standard_conforming_strings=off",
	"escape_string_warning=off",
	"quote_all_identifiers=on",
	"array_nulls=off",
	"transform_null_equals=on",
	"DateStyle=German, DMY",
	"IntervalStyle=sql_standard",
	"TimeZone=Asia/Kathmandu",
	"bytea_output=escape",
	"extra_float_digits=-5",
	"xmlbinary=hex",
	"xmloption=document",
	"search_path=public",
	"check_function_bodies=off",
	fmt.Sprint("idle_session_timeout=", IdleSessions.Milliseconds()),
	"plpgsql.extra_errors=all",
	"plpgsql.variable_conflict=use_variable",
}

// Dir makes a folder that PostgreSQL's user can enter, gone after the test.
func Dir(t testing.TB) string {
	t.Helper()
	d, err := os.MkdirTemp("", "pingo-test-")
	if err != nil {
		t.Fatal(err)
	}
	if err := os.Chmod(d, 0o711); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(d) })
	return d
}

// URL makes a database, and returns how to reach it.
func URL(t testing.TB) string {
	t.Helper()
	once.Do(func() {
		if dir, started = os.MkdirTemp("", "pingo-test-"); started != nil {
			return
		}
		if started = os.Chmod(dir, 0o711); started != nil {
			return
		}
		server, started = pgserver.Start(
			context.Background(),
			pgserver.Options{Dir: filepath.Join(dir, "pg"), Settings: Settings},
		)
	})
	if started != nil {
		t.Fatal(started)
	}
	name := fmt.Sprintf("test%d", number.Add(1))
	if err := server.CreateDatabase(t.Context(), name); err != nil {
		t.Fatal(err)
	}
	return server.URL(name)
}

// Connect connects to a database until the test ends, as an application does that wants the usual.
func Connect(t testing.TB, url string) *pgx.Conn {
	t.Helper()
	config, err := pgx.ParseConfig(url)
	if err != nil {
		t.Fatal(err)
	}
	pgsession.Configure(config, map[string]string{
		"search_path": `"$user", public, ` + pgsession.Records, "lock_timeout": "0", "idle_in_transaction_session_timeout": "0",
	})
	conn, err := pgx.ConnectConfig(t.Context(), config)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { conn.Close(context.Background()) })
	return conn
}

// Exec runs a statement, or several without parameters.
func Exec(t testing.TB, conn *pgx.Conn, sql string, args ...any) {
	t.Helper()
	if _, err := conn.Exec(t.Context(), sql, args...); err != nil {
		t.Fatalf("%.500s: %v", sql, err)
	}
}
