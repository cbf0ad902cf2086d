// Package mariaserver runs a private MariaDB server from Debian's binaries on loopback, for
// the demo, tests and benches. Its data is created when it starts, and may be lost.
package mariaserver

import (
	"context"
	"crypto/rand"
	"database/sql"
	"encoding/hex"
	"errors"
	"fmt"
	"net"
	"net/url"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/go-sql-driver/mysql"
)

// Options say how a server is run.
type Options struct {
	// Dir holds everything: data, log, socket. It is made when missing.
	Dir string
	// Port on 127.0.0.1; 0 takes a free one.
	Port int
	// Settings are given to the server as --name=value.
	Settings []string
}

// Server is a running server.
type Server struct {
	dir, password string
	port          int
	args          []string
	cmd           *exec.Cmd
	exit          chan struct{} // closed when the server has ended
}

// Start makes the data and starts the server. The caller stops it.
func Start(ctx context.Context, o Options) (*Server, error) {
	for _, name := range []string{"mariadbd", "mariadb-install-db"} {
		if _, err := exec.LookPath(name); err != nil {
			return nil, errors.New(
				"MariaDB's server is not installed: run make setup, or apt-get install mariadb-server",
			)
		}
	}
	dir, err := filepath.Abs(o.Dir)
	if err != nil {
		return nil, err
	}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, fmt.Errorf("making the directory: %w", err)
	}
	random := make([]byte, 16)
	rand.Read(random)
	s := &Server{dir: dir, password: hex.EncodeToString(random), port: o.Port}
	as := ""
	if os.Geteuid() == 0 {
		u, err := user.Lookup("mysql")
		if err != nil {
			return nil, errors.New(
				"MariaDB does not run as root, and there is no user mysql to run it as: start pingo as a normal user",
			)
		}
		as = u.Username
		uid, _ := strconv.Atoi(u.Uid)
		gid, _ := strconv.Atoi(u.Gid)
		if err := os.Chown(dir, uid, gid); err != nil {
			return nil, fmt.Errorf("giving the directory to the user that runs MariaDB: %w", err)
		}
	}
	if s.port == 0 {
		if s.port, err = freePort(); err != nil {
			return nil, err
		}
	}
	data := filepath.Join(dir, "data")
	install := []string{
		"--no-defaults",
		"--datadir=" + data,
		"--auth-root-authentication-method=normal",
		"--skip-test-db",
		"--skip-name-resolve",
	}
	// The password is not on a command line that others can see.
	first := filepath.Join(dir, "first.sql")
	err = os.WriteFile(
		first,
		fmt.Appendf(
			nil,
			"DELETE FROM mysql.global_priv WHERE User IN ('', 'root');\nFLUSH PRIVILEGES;\nCREATE USER IF NOT EXISTS 'pingo'@'127.0.0.1' IDENTIFIED BY '%s';\nGRANT ALL ON *.* TO 'pingo'@'127.0.0.1' WITH GRANT OPTION;\n",
			s.password,
		),
		0o600,
	)
	if err != nil {
		return nil, err
	}
	s.args = append([]string{
		"--no-defaults", "--datadir=" + data, "--socket=" + filepath.Join(dir, "socket"), "--pid-file=" + filepath.Join(dir, "pid"),
		"--bind-address=127.0.0.1", "--port=" + strconv.Itoa(s.port), "--skip-name-resolve", "--skip-log-bin",
		"--character-set-server=utf8mb4", "--performance-schema=OFF", "--innodb-log-file-size=32M", "--init-file=" + first,
	}, o.Settings...)
	if as != "" {
		install, s.args = append(install, "--user="+as), append(s.args, "--user="+as)
		u, _ := user.Lookup(as)
		uid, _ := strconv.Atoi(u.Uid)
		if err := os.Chown(first, uid, -1); err != nil {
			return nil, err
		}
	}
	installing := exec.CommandContext(ctx, "mariadb-install-db", install...)
	installing.Env = s.environment()
	if out, err := installing.CombinedOutput(); err != nil {
		return nil, fmt.Errorf("making MariaDB's data: %w: %s", err, lastLine(string(out)))
	}
	return s, s.Restart(ctx)
}

// environment has the server put what is temporary where its user may.
func (s *Server) environment() []string { return append(os.Environ(), "TMPDIR="+s.dir) }

// Restart starts the server that does not run.
func (s *Server) Restart(ctx context.Context) error {
	log, err := os.OpenFile(filepath.Join(s.dir, "log"), os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o600)
	if err != nil {
		return fmt.Errorf("opening the server's log: %w", err)
	}
	defer log.Close()
	s.cmd = exec.Command("mariadbd", s.args...)
	s.cmd.Stdout, s.cmd.Stderr, s.cmd.Dir, s.cmd.Env = log, log, "/", s.environment()
	s.cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
	if err := s.cmd.Start(); err != nil {
		return fmt.Errorf("starting MariaDB: %w", err)
	}
	exit, cmd := make(chan struct{}), s.cmd
	s.exit = exit
	go func() {
		cmd.Wait()
		close(exit)
	}()
	for deadline := time.Now().Add(60 * time.Second); ; {
		err := s.exec(ctx, "SELECT 1")
		if err == nil {
			return nil
		}
		select {
		case <-exit:
			return fmt.Errorf("MariaDB did not start on 127.0.0.1:%d: %s", s.port, s.complaint())
		case <-ctx.Done():
			return errors.Join(ctx.Err(), s.Stop())
		case <-time.After(30 * time.Millisecond):
		}
		if time.Now().After(deadline) {
			return errors.Join(fmt.Errorf("MariaDB on 127.0.0.1:%d does not answer: %w", s.port, err), s.Stop())
		}
	}
}

func (s *Server) exec(ctx context.Context, statement string) error {
	config := mysql.NewConfig()
	config.User, config.Passwd, config.Net, config.Addr = "pingo", s.password, "tcp", net.JoinHostPort(
		"127.0.0.1",
		strconv.Itoa(s.port),
	)
	config.Logger = &mysql.NopLogger{}
	connector, err := mysql.NewConnector(config)
	if err != nil {
		return err
	}
	db := sql.OpenDB(connector)
	defer db.Close()
	_, err = db.ExecContext(ctx, statement)
	return err
}

// CreateDatabase makes a database unless it is there.
func (s *Server) CreateDatabase(ctx context.Context, name string) error {
	return s.exec(ctx, "CREATE DATABASE IF NOT EXISTS `"+strings.ReplaceAll(name, "`", "``")+"`")
}

// URL is how to reach a database of the server; it holds the password.
func (s *Server) URL(database string) string {
	u := url.URL{
		Scheme: "mariadb",
		User:   url.UserPassword("pingo", s.password),
		Host:   net.JoinHostPort("127.0.0.1", strconv.Itoa(s.port)),
		Path:   database,
	}
	return u.String()
}

// Open opens a database by a URL of a server.
func Open(address string) (*sql.DB, error) {
	u, err := url.Parse(address)
	if err != nil {
		return nil, err
	}
	config := mysql.NewConfig()
	config.User = u.User.Username()
	config.Passwd, _ = u.User.Password()
	config.Net, config.Addr, config.DBName = "tcp", u.Host, strings.TrimPrefix(u.Path, "/")
	config.MultiStatements, config.InterpolateParams = true, true
	config.Params = map[string]string{ // whatever the server's are, which what is tested has to cope with
		"sql_safe_updates": "0", "sql_select_limit": "18446744073709551615", "sql_big_selects": "1",
		"sql_mode":           "replace(@@sql_mode, 'PAD_CHAR_TO_FULL_LENGTH', '')",
		"max_statement_time": "0", "completion_type": "'NO_CHAIN'", "wait_timeout": "600",
	}
	config.Logger = &mysql.NopLogger{}
	connector, err := mysql.NewConnector(config)
	if err != nil {
		return nil, err
	}
	return sql.OpenDB(connector), nil
}

// Port is where the server listens on 127.0.0.1.
func (s *Server) Port() int { return s.port }

// Kill ends the server immediately, as a crash would.
func (s *Server) Kill() {
	s.cmd.Process.Kill()
	<-s.exit
}

// Stop ends the server and waits for it.
func (s *Server) Stop() error {
	s.cmd.Process.Signal(syscall.SIGTERM)
	select {
	case <-s.exit:
		return nil
	case <-time.After(20 * time.Second):
		s.Kill()
		return errors.New("MariaDB did not stop within 20 seconds and was killed")
	}
}

// complaint is the last thing the server's log says went wrong.
func (s *Server) complaint() string {
	b, err := os.ReadFile(filepath.Join(s.dir, "log"))
	if err != nil {
		return err.Error()
	}
	out := lastLine(string(b))
	for line := range strings.Lines(string(b)) {
		if _, words, is := strings.Cut(line, "[ERROR] "); is {
			out = strings.TrimSpace(words)
		}
	}
	return out
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
