// Package mariatest gives tests a real MariaDB server: one for each test process, and a fresh
// database for each test.
package mariatest

import (
	"context"
	"database/sql"
	"fmt"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"
	"testing"

	"pingo/internal/lab/mariaserver"
)

var (
	once    sync.Once
	server  *mariaserver.Server
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

// Settings make a server fast whose data may be lost, and strange where another server could be, too: nothing that
// is tested may depend on that.
var Settings = []string{
	"--innodb-flush-log-at-trx-commit=0",
	"--innodb-buffer-pool-size=64M",
	"--innodb-doublewrite=0",
	"--sql-mode=ANSI_QUOTES,NO_BACKSLASH_ESCAPES,PAD_CHAR_TO_FULL_LENGTH,PIPES_AS_CONCAT,ONLY_FULL_GROUP_BY,IGNORE_SPACE",
	"--transaction-isolation=SERIALIZABLE",
	"--completion-type=CHAIN",
	"--character-set-server=latin1",
	"--collation-server=latin1_german2_ci",
	"--lower-case-table-names=1",
	"--auto-increment-increment=10",
	"--auto-increment-offset=5",
	"--group-concat-max-len=4",
	"--max-allowed-packet=1M",
	"--max-join-size=100",
	"--max-statement-time=1",
	"--wait-timeout=3",
}

// later are set when the server has its tables, which it cannot make with them.
const later = "SET GLOBAL sql_safe_updates = 1; SET GLOBAL sql_auto_is_null = 1; SET GLOBAL sql_select_limit = 5"

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
		server, started = mariaserver.Start(
			context.Background(),
			mariaserver.Options{Dir: filepath.Join(dir, "maria"), Settings: Settings},
		)
		if started == nil {
			started = server.CreateDatabase(context.Background(), "test0")
		}
		if started == nil {
			_, started = Connect(t, server.URL("test0")).Exec(later)
		}
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

// Connect connects to a database until the test ends; a transaction of it needs a connection of
// its own.
func Connect(t testing.TB, address string) *sql.DB {
	t.Helper()
	db, err := mariaserver.Open(address)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { db.Close() })
	return db
}

// Exec runs statements.
func Exec(t testing.TB, db interface {
	ExecContext(ctx context.Context, query string, args ...any) (sql.Result, error)
}, statements string, args ...any) {
	t.Helper()
	if _, err := db.ExecContext(t.Context(), statements, args...); err != nil {
		t.Fatalf("%s: %v", statements, err)
	}
}
