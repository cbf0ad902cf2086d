package mariadb

import (
	bytespkg "bytes"
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	neturl "net/url"
	"os/exec"
	"slices"
	"strings"
	"testing"

	"pingo/internal/core/shape"
	"pingo/internal/lab/mariatest"
	"pingo/internal/source"
)

// guestOf makes a database that an application's account uses, and installs capture there as the printed script does, with
// triggers that run as that account.
type guestOf struct {
	*testing.T
	root     *sql.DB
	name     string // of the database
	app      *neturl.URL
	pingo    *source.Source
	need     []shape.Captured
	pingoURL string
}

func newGuest(t *testing.T, app, pingo, definer string, tables ...string) *guestOf {
	t.Helper()
	url := mariatest.URL(t)
	g := &guestOf{T: t, root: mariatest.Connect(t, url)}
	g.app, _ = neturl.Parse(url)
	g.name = strings.TrimPrefix(g.app.Path, "/")
	g.account(app, "GRANT ALL ON "+quoteName(g.name)+".* TO %s", "GRANT ALL ON "+quoteName(g.name+"_copy")+".* TO %s")
	g.app.User = neturl.UserPassword(app, "x")
	application := mariatest.Connect(t, g.app.String())
	mariatest.Exec(t, application, `CREATE TABLE regions (id int PRIMARY KEY, name varchar(50)) ENGINE=InnoDB;
		CREATE TABLE huts (id int PRIMARY KEY, name varchar(50), region int, FOREIGN KEY (region) REFERENCES regions (id) ON DELETE CASCADE ON UPDATE CASCADE) ENGINE=InnoDB;
		INSERT INTO regions VALUES (1, 'Tarn'); INSERT INTO huts VALUES (1, 'Grim Ridge', 1)`)
	for _, c := range []shape.Captured{
		{Table: shape.Ref{Schema: g.name, Name: "huts"}, Key: []string{"id"}, Root: true, Watch: []string{"id", "name", "region"}, Links: []string{"region"}},
		{Table: shape.Ref{Schema: g.name, Name: "regions"}, Key: []string{"id"}, Root: true, Watch: []string{"id", "name"}},
	} {
		if c.Groups = [][]string{c.Watch}; len(tables) == 0 || slices.Contains(tables, c.Table.Name) {
			g.need = append(g.need, c)
		}
	}
	g.account(pingo, "GRANT SELECT ON "+quoteName(g.name)+".* TO %s", "GRANT PROCESS ON *.* TO %s", "GRANT EXECUTE ON "+quoteName(captureDatabase(g.name))+".* TO %s")
	u := *g.app
	u.User = neturl.UserPassword(pingo, "x")
	g.pingoURL = u.String()
	g.pingo = g.open(definer)
	script, err := g.pingo.Capture.Script(t.Context(), g.need)
	if err != nil {
		t.Fatal(err)
	}
	mariatest.Exec(t, g.root, "REVOKE ALL, GRANT OPTION FROM "+pingo)
	client(t, url, script)
	g.pingo.Close() // sessions keep the rights that they began with
	g.pingo = g.open(definer)
	if made, err := g.pingo.Capture.Install(t.Context(), "one", g.need); err != nil || len(made) > 0 {
		t.Fatal(made, err)
	}
	return g
}

func (g *guestOf) account(name string, grants ...string) {
	g.Helper()
	mariatest.Exec(g, g.root, fmt.Sprintf("CREATE USER %s IDENTIFIED BY 'x'", name))
	g.Cleanup(func() { g.root.ExecContext(context.Background(), "DROP USER IF EXISTS "+name) })
	for _, grant := range grants {
		mariatest.Exec(g, g.root, fmt.Sprintf(grant, name))
	}
}

// open opens the source as Pingo's account, with triggers that run as another.
func (g *guestOf) open(definer string) *source.Source {
	g.Helper()
	options := []byte("{}")
	if definer != "" {
		options, _ = json.Marshal(map[string]string{"definer": definer})
	}
	src, err := Open(source.Config{URL: g.pingoURL, Options: options})
	if err != nil {
		g.Fatal(err)
	}
	g.Cleanup(src.Close)
	return src
}

// run runs a client program as an account.
func (g *guestOf) run(as *neturl.URL, stdin []byte, program string, args ...string) (string, error) {
	password, _ := as.User.Password()
	c := exec.CommandContext(g.Context(), program, append([]string{"--no-defaults", "--protocol=tcp", "-h", as.Hostname(), "-P", as.Port(), "-u", as.User.Username(), "-p" + password}, args...)...)
	var stderr bytespkg.Buffer
	c.Stdin, c.Stderr = bytespkg.NewReader(stdin), &stderr
	out, err := c.Output()
	if err != nil {
		err = fmt.Errorf("%s %s: %w\n%s", program, strings.Join(args, " "), err, stderr.String())
	}
	return string(out), err
}

func (g *guestOf) writesGoOn(what, database string) {
	g.Helper()
	for _, statement := range []string{
		"INSERT INTO regions VALUES (7, 'New')", "INSERT INTO huts VALUES (7, 'New', 7)", "UPDATE huts SET name = concat(name, '!') WHERE id > 0", "UPDATE regions SET id = 8 WHERE id = 7",
		"DELETE FROM regions WHERE id = 8", "ALTER TABLE huts RENAME COLUMN name TO called", "UPDATE huts SET called = 'x' WHERE id > 0", "ALTER TABLE huts RENAME COLUMN called TO name",
	} {
		if _, err := g.run(g.app, []byte(statement), "mariadb", database); err != nil {
			g.Errorf("%s: %s: %v", what, statement, err)
		}
	}
}

// The application dumps its database with triggers, and restores it itself: over itself, into another database of the
// server, and where neither the journal nor Pingo's account is. What it restores takes writes, and a copy notes nothing.
func TestDumpsByTheApplication(t *testing.T) {
	g := newGuest(t, "app1", "guest2", "app1@%")
	dump := func(args ...string) string {
		t.Helper()
		out, err := g.run(g.app, nil, "mariadb-dump", append(args, g.name)...)
		if err != nil {
			t.Fatal(err)
		}
		return out
	}
	whole, structure, data := dump("--single-transaction"), dump("--no-data"), dump("--no-create-info", "--skip-triggers")
	untriggered, routines := dump("--skip-triggers"), dump("--routines", "--events", "--lock-tables")
	if !strings.Contains(whole, "pingo_") {
		t.Fatal("the dump has no triggers of Pingo")
	}
	noted := func() int {
		return count(t, g.root, "SELECT count(*) FROM "+quoteName(captureDatabase(g.name))+".journal")
	}
	copied := g.name + "_copy"
	t.Cleanup(func() { g.root.ExecContext(context.Background(), "DROP DATABASE IF EXISTS "+quoteName(copied)) })
	for what, restored := range map[string][]string{
		"with triggers": {whole}, "structure, then data": {structure, data}, "without triggers": {untriggered}, "with routines": {routines},
	} {
		mariatest.Exec(t, g.root, "DROP DATABASE IF EXISTS "+quoteName(copied)+"; CREATE DATABASE "+quoteName(copied))
		before := noted()
		for _, statements := range restored {
			if _, err := g.run(g.app, []byte(statements), "mariadb", copied); err != nil {
				t.Errorf("%s: %v", what, err)
			}
		}
		g.writesGoOn(what, copied)
		if after := noted(); after != before {
			t.Errorf("%s: writes to the copy added %d rows to the journal of the original", what, after-before)
		}
	}
	before := noted()
	if _, err := g.run(g.app, []byte(whole), "mariadb", g.name); err != nil {
		t.Error("over itself: ", err)
	}
	g.writesGoOn("restored over itself", g.name)
	if noted() == before {
		t.Error("writes after a restore over itself are not noted")
	}
	gaps, err := g.pingo.Capture.Gaps(t.Context(), g.need)
	if err != nil {
		t.Fatal(err)
	}
	for _, gap := range gaps {
		if gap.Deliberate {
			t.Errorf("after a restore over itself: %+v", gap)
		}
	}
	mariatest.Exec(t, g.root, "DROP DATABASE "+quoteName(captureDatabase(g.name))+"; DROP USER guest2")
	if _, err := g.run(g.app, []byte(whole), "mariadb", copied); err != nil {
		t.Error("without Pingo: ", err)
	}
	g.writesGoOn("without Pingo", copied)
	g.writesGoOn("the original without Pingo", g.name)
}

// The account that triggers run as lost the right to write the journal: no write fails, and the changes that are not noted
// are a gap that says what to grant.
func TestADefinerWithoutRightsIsAGap(t *testing.T) {
	g := newGuest(t, "app2", "guest3", "app2@%")
	if gaps, err := g.pingo.Capture.Gaps(t.Context(), g.need); err != nil || len(gaps) > 0 {
		t.Errorf("at first: %+v %v", gaps, err)
	}
	if missing, err := g.pingo.Capture.MissingRights(t.Context(), g.need); err != nil || len(missing) > 0 {
		t.Errorf("at first: %q %v", missing, err)
	}
	mariatest.Exec(t, g.root, "REVOKE INSERT ON "+quoteName(captureDatabase(g.name))+".journal FROM app2")
	g.writesGoOn("without the right to insert", g.name)
	gaps, err := g.pingo.Capture.Gaps(t.Context(), g.need)
	if err != nil || len(gaps) != len(g.need) || !strings.Contains(gaps[0].Reason, "may not write the journal") || gaps[0].Safe {
		t.Errorf("%+v %v", gaps, err)
	}
	missing, err := g.pingo.Capture.MissingRights(t.Context(), g.need)
	if err != nil || len(missing) != 1 {
		t.Fatalf("%q %v", missing, err)
	}
	mariatest.Exec(t, g.root, missing[0])
	if gaps, err := g.pingo.Capture.Gaps(t.Context(), g.need); err != nil || len(gaps) > 0 {
		t.Errorf("after the grant: %+v %v", gaps, err)
	}
}

// The printed grants show foreign keys of captured tables, and let their triggers run on tables that are not captured.
func TestGrantsForCascadesFromOtherTables(t *testing.T) {
	for i, definer := range []string{"", "app4@%"} {
		g := newGuest(t, fmt.Sprint("app", 3+i), fmt.Sprint("guest", 4+i), definer, "huts")
		if gaps, err := g.pingo.Capture.Gaps(t.Context(), g.need); err != nil || len(gaps) > 0 {
			t.Errorf("definer %q: %+v %v", definer, gaps, err)
		}
		g.writesGoOn(fmt.Sprintf("definer %q", definer), g.name)
		if n := count(t, g.root, "SELECT count(*) FROM "+quoteName(captureDatabase(g.name))+".journal WHERE op = 'u' AND `key` = '7' AND `before` = '7'"); n == 0 {
			t.Errorf("definer %q: the cascade is not noted", definer)
		}
	}
}
