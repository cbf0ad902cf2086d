package pgserver_test

import (
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"pingo/internal/lab/pgtest"
	"pingo/internal/pgserver"
)

func TestDirectoryIsNeverShared(t *testing.T) {
	dir := filepath.Join(pgtest.Dir(t), "pg")
	o := pgserver.Options{Dir: dir, Settings: pgtest.Settings}
	s, err := pgserver.Start(t.Context(), o)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := pgserver.Start(t.Context(), o); !errors.Is(err, pgserver.ErrInUse) {
		t.Errorf("started twice: %v", err)
	}
	pgtest.Exec(t, pgtest.Connect(t, s.URL("postgres")), "CREATE TABLE kept (n int)")
	if info, err := os.Stat(filepath.Join(dir, "password")); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("the password's file: %v %v", info.Mode(), err)
	}
	if err := s.Stop(); err != nil {
		t.Fatal(err)
	}
	if s, err = pgserver.Start(t.Context(), o); err != nil {
		t.Fatal(err)
	}
	defer s.Stop()
	pgtest.Exec(t, pgtest.Connect(t, s.URL("postgres")), "INSERT INTO kept VALUES (1)")
}

// A server that a person kills is started again, at the same place, with what it held.
func TestSupervision(t *testing.T) {
	// Without the tests' settings: what was committed is on disk.
	s, err := pgserver.Start(t.Context(), pgserver.Options{Dir: filepath.Join(pgtest.Dir(t), "pg")})
	if err != nil {
		t.Fatal(err)
	}
	ends := make(chan error, 100)
	s.Supervise(t.Context(), func(err error) { ends <- err })
	conn := pgtest.Connect(t, s.URL("postgres"))
	pgtest.Exec(t, conn, "CREATE TABLE kept (n int); INSERT INTO kept VALUES (1)")
	pid, err := os.ReadFile(filepath.Join(s.Data(), "postmaster.pid"))
	if err != nil {
		t.Fatal(err)
	}
	first, _, _ := strings.Cut(string(pid), "\n")
	number, err := strconv.Atoi(first)
	if err != nil {
		t.Fatal(err)
	}
	if err := syscall.Kill(number, syscall.SIGKILL); err != nil {
		t.Fatal(err)
	}
	if err := <-ends; err != nil {
		t.Error(err)
	}
	var n int
	for deadline := time.Now().Add(2 * time.Minute); ; time.Sleep(50 * time.Millisecond) {
		again, err := pgx.Connect(t.Context(), s.URL("postgres"))
		if err == nil {
			err = again.QueryRow(t.Context(), "SELECT n FROM kept").Scan(&n)
			again.Close(t.Context())
		}
		if err == nil {
			break
		}
		if time.Now().After(deadline) {
			t.Fatal(err)
		}
	}
	if err := s.Stop(); err != nil || n != 1 {
		t.Errorf("%d %v", n, err)
	}
	if _, err := pgx.Connect(t.Context(), s.URL("postgres")); err == nil {
		t.Error("it was started again after it was stopped")
	}
}

// A directory that was half made when the power went is made again.
func TestHalfMadeDirectory(t *testing.T) {
	dir := filepath.Join(pgtest.Dir(t), "pg")
	if err := os.MkdirAll(filepath.Join(dir, "data", "base"), 0o755); err != nil {
		t.Fatal(err)
	}
	s, err := pgserver.Start(t.Context(), pgserver.Options{Dir: dir, Settings: pgtest.Settings})
	if err != nil {
		t.Fatal(err)
	}
	if err := s.Stop(); err != nil {
		t.Error(err)
	}
}

func TestFailuresSayWhy(t *testing.T) {
	taken, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer taken.Close()
	port := taken.Addr().(*net.TCPAddr).Port
	_, err = pgserver.Start(t.Context(), pgserver.Options{Dir: filepath.Join(pgtest.Dir(t), "pg"), Port: port})
	if err == nil || !strings.Contains(err.Error(), fmt.Sprintf("did not start on 127.0.0.1:%d", port)) {
		t.Errorf("a port in use: %v", err)
	}
	file := filepath.Join(t.TempDir(), "file")
	if err := os.WriteFile(file, nil, 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := pgserver.Start(t.Context(), pgserver.Options{Dir: file}); err == nil ||
		!strings.Contains(err.Error(), "not a directory") {
		t.Errorf("a file: %v", err)
	}
	if os.Geteuid() == 0 {
		closed := filepath.Join(pgtest.Dir(t), "closed")
		if err := os.Mkdir(closed, 0o700); err != nil {
			t.Fatal(err)
		}
		if _, err := pgserver.Start(t.Context(), pgserver.Options{Dir: filepath.Join(closed, "pg")}); err == nil ||
			!strings.Contains(err.Error(), "chmod o+x "+closed) {
			t.Errorf("a folder that PostgreSQL's user cannot enter: %v", err)
		}
	}
}
