package postgres

import (
	"context"
	"fmt"
	neturl "net/url"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"

	"pingo/internal/core/shape"
	"pingo/internal/lab/pgtest"
)

// guestOf makes a database that an application owns, and installs capture there as the printed script does. It returns
// the URLs for the application and for Pingo, with a superuser's connection.
func guestOf(t *testing.T, app, pingo string) (root *pgx.Conn, url, appURL, pingoURL string, need []shape.Captured) {
	t.Helper()
	url = pgtest.URL(t)
	root = pgtest.Connect(t, url)
	pingoURL = as(t, root, url, pingo)
	appURL = as(t, root, url, app)
	pgtest.Exec(t, root, fmt.Sprintf("ALTER DATABASE %s OWNER TO %s; ALTER ROLE %[2]s CREATEDB", pgx.Identifier{root.Config().Database}.Sanitize(), app))
	application := pgtest.Connect(t, appURL)
	pgtest.Exec(t, application, `CREATE SCHEMA hills; CREATE TABLE hills.huts (id int PRIMARY KEY, name text);
		CREATE TABLE hills.notes (id int, hut int REFERENCES hills.huts ON DELETE CASCADE, PRIMARY KEY (id)) ;
		INSERT INTO hills.huts VALUES (1, 'Grim Ridge'); INSERT INTO hills.notes VALUES (1, 1)`)
	for _, c := range []shape.Captured{
		captured("huts", []string{"id"}, []string{"id", "name"}, nil), captured("notes", nil, []string{"hut"}, []string{"hut"}),
	} {
		c.Table.Schema = "hills"
		c.Groups = [][]string{c.Watch}
		need = append(need, c)
	}
	p := open(t, pingoURL)
	script, err := p.Capture.Script(t.Context(), need)
	if err != nil {
		t.Fatal(err)
	}
	pgtest.Exec(t, root, script)
	if _, err := install(t, p, need); err != nil {
		t.Fatal(err)
	}
	return root, url, appURL, pingoURL, need
}

// writesGoOn writes to every captured table in every way.
func writesGoOn(t *testing.T, what string, conn *pgx.Conn) {
	t.Helper()
	for _, sql := range []string{
		"INSERT INTO hills.huts VALUES (7, 'New')", "INSERT INTO hills.notes VALUES (7, 7)", "UPDATE hills.huts SET name = name || '!'", "UPDATE hills.notes SET id = id + 10",
		"DELETE FROM hills.huts WHERE id = 7", "TRUNCATE hills.notes", "ALTER TABLE hills.huts RENAME name TO called; UPDATE hills.huts SET called = 'x'; ALTER TABLE hills.huts RENAME called TO name",
	} {
		if _, err := conn.Exec(t.Context(), sql); err != nil {
			t.Errorf("%s: %s: %v", what, sql, err)
		}
	}
}

// The owner of the tables dumps the database as if Pingo were not there, and what is restored takes writes, whoever
// restores it, with Pingo's rights or without.
func TestDumpsByTheOwner(t *testing.T) {
	root, url, appURL, _, _ := guestOf(t, "app6", "guest6")
	dir := t.TempDir()
	run := func(program string, args ...string) error {
		out, err := exec.Command(filepath.Join(binaries(t), program), args...).CombinedOutput()
		if err != nil {
			return fmt.Errorf("%s %s: %w\n%.600s", program, strings.Join(args, " "), err, out)
		}
		return nil
	}
	must := func(program string, args ...string) {
		t.Helper()
		if err := run(program, args...); err != nil {
			t.Error(err)
		}
	}
	at := func(url, database string) string {
		u, err := neturl.Parse(url)
		if err != nil {
			t.Fatal(err)
		}
		u.Path = database
		return u.String()
	}
	file := func(name string) string { return filepath.Join(dir, name) }
	must("pg_dump", "-Fc", "-f", file("custom"), appURL)
	must("pg_dump", "-Fd", "-f", file("directory"), appURL)
	must("pg_dump", "-Fp", "-f", file("plain.sql"), "--no-owner", "--no-acl", appURL)
	must("pg_dump", "-s", "-f", file("schema.sql"), "--no-owner", appURL)
	must("pg_dump", "-a", "-n", "hills", "-f", file("data.sql"), appURL)
	must("pg_dump", "-Fc", "-n", "hills", "-f", file("hills"), appURL)
	must("pg_dump", "-a", "-t", "hills.huts", "-f", file("table.sql"), appURL)
	for i, restore := range []struct {
		what string
		run  func(superuser, owner string)
	}{
		{"custom, by the owner", func(_, owner string) {
			must("pg_restore", "-1", "--no-owner", "-d", owner, file("custom"))
		}},
		{"directory, by the owner, without rights", func(_, owner string) {
			must("pg_restore", "-1", "--no-owner", "--no-acl", "-d", owner, file("directory"))
		}},
		{"custom, by a superuser", func(superuser, _ string) { must("pg_restore", "-1", "-d", superuser, file("custom")) }},
		{"custom, by a superuser, without rights", func(superuser, _ string) {
			must("pg_restore", "-1", "--no-acl", "-d", superuser, file("custom"))
		}},
		{"plain, by the owner", func(_, owner string) {
			must("psql", "-X", "-1", "-v", "ON_ERROR_STOP=1", "-f", file("plain.sql"), owner)
		}},
		{"the schema, then the data", func(_, owner string) {
			must("psql", "-X", "-1", "-v", "ON_ERROR_STOP=1", "-f", file("schema.sql"), owner)
			must("psql", "-X", "-1", "-v", "ON_ERROR_STOP=1", "-f", file("data.sql"), owner)
		}},
		{"the application's schema alone, by the list that the docs print", func(_, owner string) {
			list := exec.Command("sh", "-c", fmt.Sprintf("%s -l %s | grep -v ' pingo_' > %s", filepath.Join(binaries(t), "pg_restore"), file("hills"), file("list")))
			if out, err := list.CombinedOutput(); err != nil {
				t.Fatalf("%v\n%s", err, out)
			}
			must("pg_restore", "-1", "--no-owner", "-L", file("list"), "-d", owner, file("hills"))
		}},
		{"without the journal", func(_, owner string) {
			must("pg_restore", "-1", "--no-owner", "-d", owner, file("custom"))
			conn := pgtest.Connect(t, owner)
			pgtest.Exec(t, conn, "DROP TABLE pingo_capture.journal")
			conn.Close(t.Context())
		}},
	} {
		name := fmt.Sprintf("%s_copy%d", root.Config().Database, i)
		pgtest.Exec(t, root, fmt.Sprintf("CREATE DATABASE %s OWNER app6", name))
		t.Cleanup(func() {
			if _, err := root.Exec(context.Background(), "DROP DATABASE "+name+" WITH (FORCE)"); err != nil {
				t.Error(err)
			}
		})
		restore.run(at(url, name), at(appURL, name))
		if t.Failed() {
			t.Fatal(restore.what)
		}
		conn := pgtest.Connect(t, at(appURL, name))
		writesGoOn(t, restore.what, conn)
		if strings.HasPrefix(restore.what, "custom, by the owner") { // and without a trace
			pgtest.Exec(t, conn, "DROP SCHEMA pingo_capture CASCADE")
			writesGoOn(t, "after the schema was dropped", conn)
		}
		conn.Close(t.Context())
	}
}

// A role that may not read every captured table does not read their keys in the journal either.
func TestTheJournalIsReadByOwnersOfAllAlone(t *testing.T) {
	root, url, appURL, pingoURL, need := guestOf(t, "app7", "guest7")
	other := as(t, root, url, "other7")
	conn := pgtest.Connect(t, other)
	pgtest.Exec(t, root, "GRANT CREATE ON SCHEMA public TO other7; CREATE ROLE reader7; GRANT USAGE ON SCHEMA hills TO reader7")
	dropAfter(t, url, "reader7")
	const keys = "SELECT count(*) FROM pingo_capture.journal"
	if _, err := conn.Exec(t.Context(), keys); err == nil {
		t.Error("a role without tables reads the journal")
	}
	application := pgtest.Connect(t, appURL)
	if _, err := application.Exec(t.Context(), keys); err != nil {
		t.Error("the owner of all tables: ", err)
	}
	pgtest.Exec(t, conn, "CREATE TABLE public.secrets (id int PRIMARY KEY)")
	need = append(need, captured("secrets", []string{"id"}, []string{"id"}, nil))
	script, err := open(t, pingoURL).Capture.Script(t.Context(), need)
	if err != nil {
		t.Fatal(err)
	}
	pgtest.Exec(t, root, script)
	for who, c := range map[string]*pgx.Conn{"the owner of some tables": application, "the owner of another": conn} {
		if _, err := c.Exec(t.Context(), keys); err == nil {
			t.Error(who, " reads the keys of all")
		}
	}
}

// A journal that triggers may no longer write refuses no write, and the changes that it lacks are a gap.
func TestAJournalWithoutRightsIsAGap(t *testing.T) {
	root, _, appURL, pingoURL, need := guestOf(t, "app8", "guest8")
	p := open(t, pingoURL)
	pgtest.Exec(t, root, "REVOKE INSERT ON pingo_capture.journal FROM pingo_journal")
	writesGoOn(t, "without the right to insert", pgtest.Connect(t, appURL))
	gaps, err := p.Capture.Gaps(t.Context(), need)
	if err != nil || len(gaps) != len(need) || !strings.Contains(gaps[0].Reason, "may not write the journal") || gaps[0].Safe {
		t.Errorf("%+v %v", gaps, err)
	}
	if _, err := install(t, p, need); err != nil {
		t.Fatal(err)
	}
	if gaps, err := p.Capture.Gaps(t.Context(), need); err != nil || len(gaps) > 0 {
		t.Errorf("after capture install: %+v %v", gaps, err)
	}
}
