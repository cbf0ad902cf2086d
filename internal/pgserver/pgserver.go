// Package pgserver runs a private PostgreSQL server from Debian's binaries on
// loopback: for Pingo's own records, for the demo and for tests.
package pgserver

import (
	"bufio"
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"net"
	"net/url"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/cenkalti/backoff/v5"
	"github.com/jackc/pgx/v5"
)

// Options say how a server is run.
type Options struct {
	// Dir holds everything: data, log, password, lock. It is made when missing.
	Dir string
	// Port on 127.0.0.1; 0 takes a free one.
	Port int
	// Settings are given to the server as -c name=value.
	Settings []string
}

// Server is a running server.
type Server struct {
	dir      string
	bin      string
	as       *syscall.Credential
	settings []string
	port     int
	lock     *os.File
	cancel   context.CancelFunc // of Supervise; nil without it
	watching sync.WaitGroup

	mu   sync.Mutex // guards what follows
	pid  int
	exit chan struct{} // closed when a server of ours has ended; nil when picked up
}

// ErrInUse says that another process runs a server on the directory.
var ErrInUse = errors.New("the directory is in use by another pingo process")

// Start starts the server on a directory, or picks up one that a killed process
// left running there. The caller stops it.
func Start(ctx context.Context, o Options) (*Server, error) {
	dir, err := filepath.Abs(o.Dir)
	if err != nil {
		return nil, fmt.Errorf("records directory: %w", err)
	}
	bin, err := binaries()
	if err != nil {
		return nil, err
	}
	as, err := runAs()
	if err != nil {
		return nil, err
	}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, fmt.Errorf("making the directory: %w", err)
	}
	s := &Server{dir: dir, bin: bin, as: as, settings: o.Settings, port: o.Port}
	if s.lock, err = lockDir(dir); err != nil {
		return nil, err
	}
	for end := time.Now().Add(leftoverTimeout); ; {
		err := s.run(ctx)
		if err == nil {
			return s, nil
		}
		// Sessions of a server that was killed may live for a moment longer than the server.
		if !strings.Contains(err.Error(), "pre-existing shared memory block") || time.Now().After(end) || !sleep(ctx, lookEvery) {
			s.lock.Close()
			return nil, err
		}
	}
}

// leftoverTimeout is how long a start waits for the sessions of a server that was killed.
const leftoverTimeout = 20 * time.Second

// Reach gives the URL of a database of a server that was started on a directory before. One that another process
// runs continues to run; otherwise it runs until leave is called.
func Reach(ctx context.Context, dir, database string) (url string, leave func() error, err error) {
	if dir, err = filepath.Abs(dir); err != nil {
		return "", nil, err
	}
	if _, err := os.Stat(filepath.Join(dir, "ready")); err != nil {
		return "", nil, fmt.Errorf("there are no records in %s", dir)
	}
	s, err := Start(ctx, Options{Dir: dir})
	if err == nil {
		return s.URL(database), s.Stop, nil
	}
	running := &Server{dir: dir}
	var there bool
	if _, running.port, there = running.postmaster(); !errors.Is(err, ErrInUse) || !there {
		return "", nil, err
	}
	return running.URL(database), func() error { return nil }, nil
}

const (
	lookEvery     = 500 * time.Millisecond
	longestDelay  = 10 * time.Second
	shortestDelay = 100 * time.Millisecond
)

// Supervise starts the server again whenever it ends by itself, until Stop. It tells of
// every end (nil), and of every start that failed.
func (s *Server) Supervise(ctx context.Context, ended func(err error)) {
	ctx, s.cancel = context.WithCancel(ctx)
	s.watching.Go(func() {
		delays := &backoff.ExponentialBackOff{InitialInterval: shortestDelay, MaxInterval: longestDelay, Multiplier: 2}
		for sleep(ctx, lookEvery) {
			if !s.gone() {
				delays.Reset()
				continue
			}
			ended(nil)
			for !s.startAgain(ctx, ended) {
				if !sleep(ctx, delays.NextBackOff()) {
					return
				}
			}
		}
	})
}

func (s *Server) startAgain(ctx context.Context, ended func(err error)) bool {
	err := s.run(ctx)
	if err != nil && ctx.Err() == nil {
		ended(err)
	}
	return err == nil
}

func sleep(ctx context.Context, d time.Duration) bool {
	select {
	case <-ctx.Done():
		return false
	case <-time.After(d):
		return true
	}
}

func (s *Server) run(ctx context.Context) error {
	if err := s.prepare(ctx, s.bin, s.as); err != nil {
		return err
	}
	if s.pickUp(ctx) {
		return nil
	}
	if s.port == 0 {
		port, err := freePort()
		if err != nil {
			return err
		}
		s.port = port
	}
	log, err := os.OpenFile(filepath.Join(s.dir, "postgres.log"), os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o600)
	if err != nil {
		return fmt.Errorf("opening the server's log: %w", err)
	}
	defer log.Close()
	args := []string{
		"-D",
		s.Data(),
		"-p",
		strconv.Itoa(s.port),
		"-c",
		"listen_addresses=127.0.0.1",
		"-c",
		"unix_socket_directories=",
	}
	for _, setting := range s.settings {
		args = append(args, "-c", setting)
	}
	cmd := exec.Command(filepath.Join(s.bin, "postgres"), args...)
	cmd.Stdout, cmd.Stderr, cmd.Dir = log, log, "/"
	// A session of its own: Ctrl-C in the terminal is for Pingo, which stops the
	// server when its own work has ended.
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true, Credential: s.as}
	if err := cmd.Start(); err != nil {
		return fmt.Errorf("starting PostgreSQL: %w", err)
	}
	exit := make(chan struct{})
	s.mu.Lock()
	s.pid, s.exit = cmd.Process.Pid, exit
	s.mu.Unlock()
	go func() {
		cmd.Wait()
		close(exit)
	}()
	if err := s.wait(ctx); err != nil {
		s.shutDown()
		return err
	}
	return nil
}

// Data is where the server keeps its files.
func (s *Server) Data() string { return filepath.Join(s.dir, "data") }

// prepare makes the data directory once. A half-made one is made again.
func (s *Server) prepare(ctx context.Context, bin string, as *syscall.Credential) error {
	ready := filepath.Join(s.dir, "ready")
	if _, err := os.Stat(ready); err == nil {
		return nil
	}
	if err := os.RemoveAll(s.Data()); err != nil {
		return fmt.Errorf("clearing a half-made data directory: %w", err)
	}
	random := make([]byte, 16)
	rand.Read(random)
	password := filepath.Join(s.dir, "password")
	if err := os.WriteFile(password, []byte(hex.EncodeToString(random)), 0o600); err != nil {
		return fmt.Errorf("writing the server's password: %w", err)
	}
	if as != nil {
		for _, path := range []string{s.dir, password} {
			if err := os.Chown(path, int(as.Uid), int(as.Gid)); err != nil {
				return fmt.Errorf("giving %s to the user that runs PostgreSQL: %w", path, err)
			}
		}
		if err := reachable(s.dir); err != nil {
			return err
		}
	}
	cmd := exec.CommandContext(
		ctx,
		filepath.Join(bin, "initdb"),
		"-D",
		s.Data(),
		"-U",
		"pingo",
		"-E",
		"UTF8",
		"--locale=C.UTF-8",
		"--auth=scram-sha-256",
		"--pwfile="+password,
	)
	cmd.SysProcAttr, cmd.Dir = &syscall.SysProcAttr{Credential: as}, "/"
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("initdb: %w: %s", err, lastLine(string(out)))
	}
	return os.WriteFile(ready, nil, 0o600)
}

// reachable checks that another user can walk down to the directory.
func reachable(dir string) error {
	for up := filepath.Dir(dir); up != "/"; up = filepath.Dir(up) {
		info, err := os.Stat(up)
		if err != nil {
			return err
		}
		if info.Mode().Perm()&0o001 == 0 {
			return fmt.Errorf(
				"PostgreSQL does not run as root, and the user it runs as instead cannot enter %s: choose a directory elsewhere, or chmod o+x %s",
				up,
				up,
			)
		}
	}
	return nil
}

// pickUp finds a server that a killed process left running on the directory.
func (s *Server) pickUp(ctx context.Context) bool {
	pid, port, ok := s.postmaster()
	if !ok || syscall.Kill(pid, 0) != nil {
		return false
	}
	exe, err := os.ReadFile(fmt.Sprintf("/proc/%d/cmdline", pid))
	if err != nil || !strings.Contains(string(exe), s.Data()) {
		return false
	}
	wanted := s.port
	s.port = port
	s.mu.Lock()
	s.pid, s.exit = pid, nil
	s.mu.Unlock()
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	if (wanted == 0 || wanted == port) && s.wait(ctx) == nil {
		return true
	}
	s.shutDown() // it does not answer, or not where it is wanted: start afresh
	s.port = wanted
	return false
}

func (s *Server) postmaster() (pid, port int, ok bool) {
	f, err := os.Open(filepath.Join(s.Data(), "postmaster.pid"))
	if err != nil {
		return 0, 0, false
	}
	defer f.Close()
	var lines []string
	for scan := bufio.NewScanner(f); scan.Scan(); {
		lines = append(lines, strings.TrimSpace(scan.Text()))
	}
	if len(lines) < 4 {
		return 0, 0, false
	}
	pid, err1 := strconv.Atoi(lines[0])
	port, err2 := strconv.Atoi(lines[3])
	return pid, port, err1 == nil && err2 == nil && pid > 1
}

func (s *Server) wait(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, 30*time.Second)
	defer cancel()
	s.mu.Lock()
	exit := s.exit
	s.mu.Unlock()
	var last error
	for {
		err := s.answers(ctx)
		if err == nil {
			return nil
		}
		last = err
		select {
		case <-exit:
			return fmt.Errorf("PostgreSQL did not start on 127.0.0.1:%d: %s", s.port, s.complaint())
		case <-ctx.Done():
			return fmt.Errorf("PostgreSQL on 127.0.0.1:%d does not answer: %w", s.port, last)
		case <-time.After(30 * time.Millisecond):
		}
	}
}

// answers tries once, and not for long: another program may hold the port and say
// nothing.
func (s *Server) answers(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, time.Second)
	defer cancel()
	conn, err := pgx.Connect(ctx, s.URL("postgres"))
	if err != nil {
		return err
	}
	return conn.Close(ctx)
}

// complaint is the last thing the server's log says went wrong.
func (s *Server) complaint() string {
	b, err := os.ReadFile(filepath.Join(s.dir, "postgres.log"))
	if err != nil {
		return err.Error()
	}
	lines := strings.Split(string(b), "\n")
	for _, line := range slices.Backward(lines) {
		for _, level := range []string{"FATAL:", "PANIC:", "LOG:  could not bind"} {
			if i := strings.Index(line, level); i >= 0 {
				return strings.TrimSpace(line[i:])
			}
		}
	}
	return lastLine(string(b))
}

// URL is how to reach a database of the server; it holds the password.
func (s *Server) URL(database string) string {
	password, _ := os.ReadFile(filepath.Join(s.dir, "password"))
	u := url.URL{
		Scheme: "postgres",
		User:   url.UserPassword("pingo", string(password)),
		Host:   net.JoinHostPort("127.0.0.1", strconv.Itoa(s.port)),
		Path:   database,
	}
	return u.String()
}

// Port is where the server listens on 127.0.0.1.
func (s *Server) Port() int { return s.port }

// CreateDatabase makes a database unless it is there.
func (s *Server) CreateDatabase(ctx context.Context, name string) error {
	conn, err := pgx.Connect(ctx, s.URL("postgres"))
	if err != nil {
		return err
	}
	defer conn.Close(ctx)
	var there bool
	if err := conn.QueryRow(ctx, "SELECT EXISTS (SELECT FROM pg_database WHERE datname = $1)", name).Scan(&there); err != nil ||
		there {
		return err
	}
	_, err = conn.Exec(ctx, "CREATE DATABASE "+pgx.Identifier{name}.Sanitize())
	return err
}

// Stop ends the server with a fast shutdown, waits for it, and gives the directory free.
func (s *Server) Stop() error {
	defer s.lock.Close()
	if s.cancel != nil {
		s.cancel()
		s.watching.Wait()
	}
	return s.shutDown()
}

func (s *Server) shutDown() error {
	s.mu.Lock()
	pid := s.pid
	s.mu.Unlock()
	if pid <= 1 {
		return nil
	}
	syscall.Kill(pid, syscall.SIGINT)
	for deadline := time.Now().Add(20 * time.Second); time.Now().Before(deadline); time.Sleep(10 * time.Millisecond) {
		if s.gone() {
			return nil
		}
	}
	syscall.Kill(pid, syscall.SIGQUIT)
	return fmt.Errorf(
		"PostgreSQL (process %d) did not stop within 20 seconds; Pingo made it quit",
		pid,
	)
}

func (s *Server) gone() bool {
	s.mu.Lock()
	pid, exit := s.pid, s.exit
	s.mu.Unlock()
	if exit != nil {
		select {
		case <-exit:
			return true
		default:
			return false
		}
	}
	return syscall.Kill(pid, 0) != nil
}

func lockDir(dir string) (*os.File, error) {
	f, err := os.OpenFile(filepath.Join(dir, "lock"), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, fmt.Errorf("opening the lock: %w", err)
	}
	if err := syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		f.Close()
		return nil, fmt.Errorf("%s: %w; stop it, or choose another directory", dir, ErrInUse)
	}
	return f, nil
}

// binaries finds the newest PostgreSQL of Debian's packages, or the one on PATH.
func binaries() (string, error) {
	found, _ := filepath.Glob("/usr/lib/postgresql/*/bin/postgres")
	slices.SortFunc(found, func(a, b string) int { return version(a) - version(b) })
	if len(found) > 0 {
		return filepath.Dir(found[len(found)-1]), nil
	}
	if path, err := exec.LookPath("postgres"); err == nil {
		if path, err = filepath.EvalSymlinks(path); err == nil {
			return filepath.Dir(path), nil
		}
	}
	return "", errors.New("PostgreSQL's server is not installed: run make setup, or apt-get install postgresql")
}

func version(path string) int {
	n, _ := strconv.Atoi(strings.Split(path, "/")[4])
	return n
}

// runAs gives the user that runs PostgreSQL when we are root, which it refuses.
func runAs() (*syscall.Credential, error) {
	if os.Geteuid() != 0 {
		return nil, nil
	}
	for _, name := range []string{"postgres", "nobody"} {
		u, err := user.Lookup(name)
		if err != nil {
			continue
		}
		uid, err1 := strconv.ParseUint(u.Uid, 10, 32)
		gid, err2 := strconv.ParseUint(u.Gid, 10, 32)
		if err1 == nil && err2 == nil {
			return &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}, nil
		}
	}
	return nil, errors.New(
		"PostgreSQL does not run as root, and this machine has no user postgres or nobody: start pingo as a normal user",
	)
}

func freePort() (int, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return 0, fmt.Errorf("no free port on 127.0.0.1: %w", err)
	}
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port, nil
}

func lastLine(text string) string {
	lines := strings.Split(strings.TrimSpace(text), "\n")
	return lines[len(lines)-1]
}
