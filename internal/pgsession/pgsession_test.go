package pgsession_test

import (
	"bytes"
	"encoding/binary"
	"errors"
	"io"
	"net"
	neturl "net/url"
	"os"
	"regexp"
	"testing"

	"github.com/jackc/pgx/v5"

	"pingo/internal/lab/pgtest"
	"pingo/internal/pgsession"
)

func TestMain(m *testing.M) { pgtest.Main(m) }

// pooler passes everything on but the settings that a session begins with.
func pooler(t *testing.T, server string) (address string) {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			in, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer in.Close()
				out, err := net.Dial("tcp", server)
				if err != nil {
					return
				}
				defer out.Close()
				var head [8]byte // length, version
				if _, err := io.ReadFull(in, head[:]); err != nil {
					return
				}
				rest := make([]byte, binary.BigEndian.Uint32(head[:])-8)
				if _, err := io.ReadFull(in, rest); err != nil {
					return
				}
				var kept []byte
				for words := bytes.Split(rest, []byte{0}); len(words) > 2; words = words[2:] {
					if name := string(words[0]); name == "user" || name == "database" {
						kept = append(append(kept, bytes.Join(words[:2], []byte{0})...), 0)
					}
				}
				kept = append(kept, 0)
				binary.BigEndian.PutUint32(head[:], uint32(len(kept)+8))
				if _, err := out.Write(append(head[:], kept...)); err != nil {
					return
				}
				go func() { io.Copy(out, in); out.Close() }()
				io.Copy(in, out)
			}()
		}
	}()
	return l.Addr().String()
}

// Where a pooler loses the settings there is no connection, until the role has those that the docs list.
func TestSettingsThatArePutAsideByAPooler(t *testing.T) {
	url := pgtest.URL(t)
	db := pgtest.Connect(t, url)
	pgtest.Exec(t, db, "CREATE ROLE behind LOGIN PASSWORD 'b'")
	defer pgtest.Exec(t, db, "DROP ROLE behind")
	u, err := neturl.Parse(url)
	if err != nil {
		t.Fatal(err)
	}
	u.Host, u.User = pooler(t, u.Host), neturl.UserPassword("behind", "b")
	u.RawQuery = "sslmode=disable"
	connect := func(url string) (*pgx.Conn, error) {
		config, err := pgx.ParseConfig(url)
		if err != nil {
			t.Fatal(err)
		}
		pgsession.Configure(config, nil)
		return pgx.ConnectConfig(t.Context(), config)
	}
	if _, err := connect(u.String()); !errors.Is(err, pgsession.ErrPooler) {
		t.Fatal(err)
	}
	docs, err := os.ReadFile("../../docs/howto/behind-a-pooler.md")
	if err != nil {
		t.Fatal(err)
	}
	for _, told := range regexp.MustCompile(`ALTER ROLE pingo (SET .*;)`).FindAllSubmatch(docs, -1) {
		pgtest.Exec(t, db, "ALTER ROLE behind "+string(told[1]))
	}
	var sessions [2]*pgx.Conn
	for i, url := range []string{url, u.String()} {
		if sessions[i], err = connect(url); err != nil {
			t.Fatal(err)
		}
		defer sessions[i].Close(t.Context())
	}
	for name := range sessions[0].Config().RuntimeParams {
		var is [2]string
		for i, session := range sessions {
			if err := session.QueryRow(t.Context(), "SELECT current_setting($1)", name).Scan(&is[i]); err != nil {
				t.Fatal(err)
			}
		}
		if is[0] != is[1] {
			t.Errorf("%s is %q behind a pooler, and %q without", name, is[1], is[0])
		}
	}
}

// A commit on which an acknowledgement rests is on disk when it returns, whatever the database is set to.
func TestCommitsAreDurable(t *testing.T) {
	url := pgtest.URL(t)
	db := pgtest.Connect(t, url)
	for set, want := range map[string]string{"off": "on", "local": "on", "on": "on", "remote_apply": "remote_apply", "remote_write": "remote_write"} {
		pgtest.Exec(t, db, "DO $$BEGIN EXECUTE format('ALTER DATABASE %I SET synchronous_commit = "+set+"', current_database()); END$$")
		config, err := pgx.ParseConfig(url)
		if err != nil {
			t.Fatal(err)
		}
		pgsession.Configure(config, nil)
		pgsession.Durable(config)
		conn, err := pgx.ConnectConfig(t.Context(), config)
		if err != nil {
			t.Fatal(err)
		}
		var is string
		if err := conn.QueryRow(t.Context(), "SELECT current_setting('synchronous_commit')").Scan(&is); err != nil || is != want {
			t.Errorf("synchronous_commit = %s: the session has %q (%v), want %s", set, is, err, want)
		}
		conn.Close(t.Context())
	}
}
