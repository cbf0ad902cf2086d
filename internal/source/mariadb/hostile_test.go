package mariadb

import (
	bytespkg "bytes"
	"context"
	"crypto/rand"
	"crypto/rsa"
	"crypto/tls"
	"crypto/x509"
	"database/sql"
	"database/sql/driver"
	"encoding/pem"
	"fmt"
	"io"
	"net"
	"net/http/httptest"
	neturl "net/url"
	"os/exec"
	"slices"
	"strings"
	"testing"
	"time"

	"pingo/internal/core/change"
	"pingo/internal/core/document"
	"pingo/internal/core/shape"
	"pingo/internal/lab/mariatest"
	"pingo/internal/source"
)

// count reads one number.
func count(t *testing.T, db *sql.DB, query string) (n int) {
	t.Helper()
	if err := db.QueryRowContext(t.Context(), query).Scan(&n); err != nil {
		t.Fatal(query, err)
	}
	return n
}

// as opens a source as another user, with some rights.
func as(t *testing.T, db *sql.DB, address, user string, grants ...string) *source.Source {
	t.Helper()
	mariatest.Exec(t, db, fmt.Sprintf("CREATE USER %s IDENTIFIED BY 'x'", user))
	t.Cleanup(func() { db.ExecContext(context.Background(), "DROP USER IF EXISTS "+user) })
	for _, grant := range grants {
		mariatest.Exec(t, db, fmt.Sprintf(grant, user))
	}
	u, err := neturl.Parse(address)
	if err != nil {
		t.Fatal(err)
	}
	u.User = neturl.UserPassword(user, "x")
	return open(t, u.String())
}

// What a session may set for its statements does not reach the journal: neither the number of the next row, which stopped
// all writes or hid a change, nor the time.
func TestSessionsDoNotNumberTheJournal(t *testing.T) {
	w := newWorld(t, shop, shopIndexes)
	hers, err := w.db.Conn(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	defer hers.Close()
	began := time.Now()
	mariatest.Exec(t, hers, "INSERT INTO regions (id, name) VALUES (901, 'r')")
	for _, number := range []string{"9223372036854775806", "9223372036854775807", "1", "-5"} {
		mariatest.Exec(t, hers, "SET insert_id = "+number+", timestamp = 1; BEGIN; INSERT INTO regions (id, name) VALUES (902, 'r'); UPDATE regions SET name = 's' WHERE id = 902; ROLLBACK")
		mariatest.Exec(t, hers, "SET insert_id = "+number+", timestamp = 1; UPDATE regions SET name = concat(name, 's') WHERE id = 901")
		w.exec("UPDATE regions SET name = concat(name, 't') WHERE id = 901")
	}
	changes, err := w.src.Changes(t.Context(), 100)
	if err != nil {
		t.Fatal(err)
	}
	for deadline := time.Now().Add(4 * time.Second); len(changes) < 9 && time.Now().Before(deadline); time.Sleep(10 * time.Millisecond) {
		more, err := w.src.Changes(t.Context(), 100)
		if err != nil {
			t.Fatal(err)
		}
		changes = append(changes, more...)
	}
	if len(changes) != 9 {
		t.Errorf("%d of 9 changes were noticed", len(changes))
	}
	for _, c := range changes {
		if c.At.Before(began.Add(-time.Minute)) || c.At.After(time.Now().Add(time.Minute)) {
			t.Errorf("change %d was made at %v", c.Seq, c.At)
		}
	}
}

// A view in the place of a table runs none of its code with Pingo's rights, in whatever way the table is read.
func TestViewsInThePlaceOfTables(t *testing.T) {
	url := mariatest.URL(t)
	db, src := mariatest.Connect(t, url), open(t, url)
	mariatest.Exec(t, db, `CREATE TABLE taken (who varchar(100)) ENGINE=MyISAM; CREATE TABLE huts (id int PRIMARY KEY, name varchar(50), region_id int);
		CREATE TABLE regions (id int PRIMARY KEY, name varchar(50)); INSERT INTO huts VALUES (1, 'a', 1), (2, 'b', 1); INSERT INTO regions VALUES (1, 'r');
		CREATE FUNCTION take(x int) RETURNS int SQL SECURITY INVOKER BEGIN INSERT INTO taken VALUES (current_user()); RETURN x; END`)
	shapes, findings := compiled(t, src, "  huts: { engine: main, rows: paths.huts, fields: [name], related: { region: { one: regions, on: { id: region_id }, fields: [name] } } }\n")
	if len(findings) > 0 {
		t.Fatal(findings)
	}
	tree := shapes[0].Trees[0]
	for _, table := range []string{"huts", "regions"} {
		for _, algorithm := range []string{"MERGE", "TEMPTABLE"} {
			rest := map[string]string{"huts": "name, region_id", "regions": "name"}[table]
			mariatest.Exec(t, db, fmt.Sprintf("RENAME TABLE %[1]s TO kept; CREATE ALGORITHM=%[2]s VIEW %[1]s AS SELECT take(id) AS id, %[3]s FROM kept", table, algorithm, rest))
			fails := map[string]error{}
			set := document.NewSet(tree)
			fails["read by keys"] = src.ReadKeys(t.Context(), set, [][]string{{"1"}})
			fails["read by range"] = src.ReadRange(t.Context(), document.NewSet(tree), nil, nil)
			if table == "huts" {
				_, fails["count"] = src.Count(t.Context(), tree)
				_, fails["chunk"] = src.ChunkEnd(t.Context(), tree, nil, 1)
				fails["keys"] = src.Keys(t.Context(), tree, nil, nil, func([]string) error { return nil })
				fails["walk"] = src.WalkUp(t.Context(), []shape.Step{{Table: shape.Ref{Schema: src.Reader.(*Reader).db.name, Name: "huts"}, Match: []string{"region_id"}, Types: []string{"int"}, Yield: keyColumns(tree.Root())}}, [][]string{{"1"}}, func([]string) error { return nil })
			}
			for what, err := range fails {
				if err == nil || source.FaultOf(err) != source.SchemaChanged || !strings.Contains(err.Error(), "a view is in the place of a table") {
					t.Errorf("%s of %s (%s): %v", what, table, algorithm, err)
				}
			}
			mariatest.Exec(t, db, fmt.Sprintf("DROP VIEW %[1]s; RENAME TABLE kept TO %[1]s", table))
		}
	}
	if n := count(t, db, "SELECT count(*) FROM taken"); n > 0 {
		t.Errorf("code of a view ran %d times", n)
	}
}

// Nor does it in a trigger of Pingo's that looks for the rows that a foreign key changes: the write goes on, and the whole
// table is noted.
func TestViewsBelowCascades(t *testing.T) {
	w := newWorld(t, `CREATE TABLE regions (id int PRIMARY KEY, name varchar(50));
		CREATE TABLE huts (id int PRIMARY KEY, name varchar(50), region_id int, FOREIGN KEY (region_id) REFERENCES regions (id) ON DELETE CASCADE);
		CREATE TABLE taken (who varchar(100)) ENGINE=MyISAM; INSERT INTO regions VALUES (1, 'r'), (2, 's')`,
		"  huts: { engine: main, rows: paths.huts, fields: [name, region_id] }\n")
	w.exec(`CREATE FUNCTION take(x int) RETURNS int SQL SECURITY INVOKER BEGIN INSERT INTO taken VALUES (current_user()); RETURN x; END`)
	w.exec("RENAME TABLE huts TO kept; CREATE VIEW huts AS SELECT take(id) AS id, name, take(region_id) AS region_id FROM kept; DELETE FROM regions WHERE id = 1")
	if n := count(t, w.db, "SELECT count(*) FROM taken"); n > 0 {
		t.Errorf("code of a view ran %d times", n)
	}
	w.exec("DROP VIEW huts; RENAME TABLE kept TO huts")
	if got := w.noticed(1); len(got) != 1 || !strings.Contains(got[0], "truncate huts") {
		t.Error(got)
	}
}

// Expressions call functions that are known to read nothing but their row, and check carries none of them out.
func TestFunctionsWithEffectsAreRefused(t *testing.T) {
	url := mariatest.URL(t)
	db, src := mariatest.Connect(t, url), open(t, url)
	mariatest.Exec(t, db, `CREATE TABLE huts (id int PRIMARY KEY, name varchar(50), at datetime); CREATE TABLE taken (who varchar(100)) ENGINE=MyISAM; CREATE SEQUENCE numbers;
		CREATE FUNCTION lent(x int) RETURNS int DETERMINISTIC NO SQL SQL SECURITY INVOKER RETURN x;
		CREATE FUNCTION chk(x int) RETURNS int DETERMINISTIC NO SQL BEGIN INSERT INTO taken VALUES (current_user()); RETURN x; END;
		CREATE FUNCTION shout(x varchar(50)) RETURNS varchar(50) DETERMINISTIC NO SQL RETURN upper(x)`)
	find := func(sql string) string {
		_, findings := compiled(t, src, fmt.Sprintf("  huts: { engine: main, rows: paths.huts, where: %q, fields: { name: {}, x: { sql: %[1]q } }, functions_allowed: [sleep, load_file, lent, nextval, get_lock, benchmark, last_insert_id, now, rand] }\n", sql))
		return strings.Trim(fmt.Sprint(findings), "[]")
	}
	for _, sql := range []string{"sleep(1)", "load_file('/etc/passwd')", "lent(id)", "`lent`(id)", "nextval(numbers)", "get_lock('a', 1)", "benchmark(9, md5(1))", "last_insert_id(5)", "some_udf(name)",
		"master_pos_wait('a', 1)", "connection_id()", "found_rows()", "sys_exec('true')", "`sleep`(1)", "release_all_locks()"} {
		if found := find(sql); !strings.Contains(found, "functions_allowed cannot allow this function") {
			t.Errorf("%s: %q", sql, found)
		}
	}
	for _, sql := range []string{"now()", "rand()", "shout(name)", "concat(name, '-', id)", "CASE WHEN (id) IN (1, 2) THEN ('a') ELSE ('b') END", "date_format(at, '%Y')", "IF(id > 1, 1, 0)", "CAST(id AS char(10))", "coalesce(name, '')", "id BETWEEN (1) AND (5)", "json_value('{}', '$.a')"} {
		if found := find(sql); found != "" {
			t.Errorf("%s: %s", sql, found)
		}
	}
	find("chk(1) = 1")
	if n := count(t, db, "SELECT count(*) FROM taken"); n > 0 {
		t.Errorf("check carried an expression out, %d times", n)
	}
}

// A server may give sessions another character set than they ask for, in which the quotes of a literal are parts of letters.
func TestSessionsUseTheirOwnCharacterSet(t *testing.T) {
	url := mariatest.URL(t)
	db := mariatest.Connect(t, url)
	mariatest.Exec(t, db, "CREATE TABLE huts (name varchar(50) CHARACTER SET utf8mb4 PRIMARY KEY, word varchar(10)); SET GLOBAL init_connect = 'SET NAMES gbk, sql_mode = NO_BACKSLASH_ESCAPES'")
	defer mariatest.Exec(t, db, "SET GLOBAL init_connect = ''")
	const odd = "\u7e17' OR 1=1 -- \U0001f3d4"
	mariatest.Exec(t, db, "INSERT INTO huts VALUES ('a', 'x'), (?, 'y')", odd)
	src := as(t, db, url, "poor1", "GRANT SELECT ON *.* TO %s")
	shapes, findings := compiled(t, src, "  huts: { engine: main, rows: paths.huts, fields: [word] }\n")
	if len(findings) > 0 {
		t.Fatal(findings)
	}
	tree := shapes[0].Trees[0]
	for key, want := range map[string]int{odd: 1, "\xbf' OR 1=1 -- ": 0, `\' OR 1=1 -- `: 0, "\u7e17": 0} {
		set := document.NewSet(tree)
		err := src.ReadKeys(t.Context(), set, [][]string{{key}})
		if n := set.Rows(0).Len(); err != nil || n != want {
			t.Errorf("key %q: %d rows, want %d (%v)", key, n, want, err)
		}
	}
	var names []string
	if err := src.Keys(t.Context(), tree, nil, nil, func(key []string) error { names = append(names, key[0]); return nil }); err != nil || !slices.Contains(names, odd) {
		t.Errorf("%q %v", names, err)
	}
}

// What another user put into the database of the journal before Pingo is refused.
func TestDatabasesMadeBeforehandAreRefused(t *testing.T) {
	for what, made := range map[string]string{
		"view journal": "CREATE TABLE kept (seq int); CREATE VIEW journal AS SELECT * FROM kept", "trigger take": "CREATE TABLE owner (service varchar(200) PRIMARY KEY); CREATE TRIGGER take BEFORE INSERT ON owner FOR EACH ROW SET @taken = 1",
		"myisam table journal": "CREATE TABLE journal (seq bigint AUTO_INCREMENT PRIMARY KEY, layout int) ENGINE=MyISAM", "generated column": "CREATE TABLE layouts (id int PRIMARY KEY, x int AS (id + 1))",
	} {
		url := mariatest.URL(t)
		db, src := mariatest.Connect(t, url), open(t, url)
		mariatest.Exec(t, db, "CREATE TABLE huts (id int PRIMARY KEY, name varchar(50))")
		shapes, _ := compiled(t, src, "  huts: { engine: main, rows: paths.huts, fields: [name] }\n")
		need := shape.Capture(shapes[0].Source, shapes)
		capture := src.Feed.(*Feed).db.capture
		conn, err := db.Conn(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		mariatest.Exec(t, conn, "CREATE DATABASE "+capture+"; USE "+capture)
		mariatest.Exec(t, conn, made)
		conn.Close()
		missing, err := src.Capture.MissingRights(t.Context(), need)
		_, installed := src.Capture.Install(t.Context(), "one", need)
		_, printed := src.Capture.Script(t.Context(), need)
		claimed := src.Claim(t.Context(), change.Claim{}, change.Claim{})
		for step, said := range map[string]string{"check": strings.Join(missing, "\n") + fmt.Sprint(err), "install": fmt.Sprint(installed), "script": fmt.Sprint(printed), "claim": fmt.Sprint(claimed)} {
			if !strings.Contains(said, what) || !strings.Contains(said, "the database "+capture+" holds what Pingo did not make") {
				t.Errorf("%s, %s: %s", what, step, said)
			}
		}
		mariatest.Exec(t, db, "DROP DATABASE "+capture)
	}
}

// Names are not SQL, whatever they are, in what is installed and in what is printed; and with what is printed, and nothing
// else, Pingo follows changes.
func TestThePrintedGrantsAreEnough(t *testing.T) {
	url := mariatest.URL(t)
	db := mariatest.Connect(t, url)
	mariatest.Exec(t, db, "CREATE TABLE bait (id int)")
	names := []string{"a`; DROP TABLE bait; -- ", "a'; DROP TABLE bait; -- x", `a\'; DROP TABLE bait; -- x`, "a // DROP TABLE bait // x", "a\nDROP TABLE bait;\nx", "%s %d x", strings.Repeat("ö", 64), "a$$b", "a\"b"}
	for i, name := range names {
		names[i] = strings.TrimRight(name, " ")
		mariatest.Exec(t, db, fmt.Sprintf("CREATE TABLE %[1]s (%[1]s varchar(20) PRIMARY KEY, other int)", quoteName(names[i])))
	}
	src := as(t, db, url, "guest1", "GRANT SELECT ON "+quoteName(open(t, url).Reader.(*Reader).db.name)+".* TO %s")
	schema := src.Reader.(*Reader).db.name
	var need []shape.Captured
	for _, name := range names {
		need = append(need, shape.Captured{Table: shape.Ref{Schema: schema, Name: name}, Key: []string{name}, Root: true, Watch: []string{name, "other"}, Links: []string{name}})
	}
	if missing, err := src.Capture.MissingRights(t.Context(), need); err != nil || len(missing) == 0 {
		t.Errorf("before: %q %v", missing, err)
	}
	script, err := src.Capture.Script(t.Context(), need)
	if err != nil {
		t.Fatal(err)
	}
	mariatest.Exec(t, db, "REVOKE ALL, GRANT OPTION FROM guest1")
	client(t, url, script)
	src.Close() // sessions keep the rights that they began with
	u, _ := neturl.Parse(url)
	u.User = neturl.UserPassword("guest1", "x")
	src = open(t, u.String())
	if missing, err := src.Capture.MissingRights(t.Context(), need); err != nil || len(missing) > 0 {
		t.Errorf("after: %q %v", missing, err)
	}
	if made, err := src.Capture.Install(t.Context(), "one", need); err != nil || len(made) > 0 {
		t.Fatal(made, err)
	}
	if gaps, err := src.Capture.Gaps(t.Context(), need); err != nil || len(gaps) > 0 {
		t.Errorf("gaps: %+v %v", gaps, err)
	}
	if advice, err := src.Capture.Advice(t.Context(), need, nil); err != nil || slices.ContainsFunc(advice, func(a source.Advice) bool { return a.Kind == "rights" }) {
		t.Errorf("advice: %+v %v", advice, err)
	}
	if n := count(t, db, fmt.Sprintf("SELECT count(*) FROM information_schema.TRIGGERS WHERE TRIGGER_SCHEMA = %s AND DEFINER <> 'guest1@%%'", text(schema))); n > 0 {
		t.Errorf("%d triggers run with the rights of another user", n)
	}
	now, err := src.Claimed(t.Context())
	if err == nil {
		err = src.Claim(t.Context(), now, change.Claim{Service: "one", Holder: "A", Epoch: 1, Mark: 1})
	}
	if err != nil {
		t.Fatal(err)
	}
	for _, name := range names {
		mariatest.Exec(t, db, fmt.Sprintf("INSERT INTO %[1]s VALUES ('k', 1); UPDATE %[1]s SET other = 2; DELETE FROM %[1]s", quoteName(name)))
	}
	seen := map[string]int{}
	for deadline := time.Now().Add(4 * time.Second); len(seen) < len(names) && time.Now().Before(deadline); time.Sleep(10 * time.Millisecond) {
		changes, err := src.Changes(t.Context(), 1000)
		if err != nil {
			t.Fatal(err)
		}
		var seqs []int64
		for _, c := range changes {
			if len(c.Key) > 0 && c.Key[0] == "k" {
				seen[strings.ToLower(c.Table.Name)]++
			}
			seqs = append(seqs, c.Seq)
		}
		if err := src.Done(t.Context(), seqs); err != nil {
			t.Fatal(err)
		}
	}
	for _, name := range names {
		if seen[strings.ToLower(name)] != 3 {
			t.Errorf("%q: %d of 3 changes noticed", name, seen[strings.ToLower(name)])
		}
	}
	if n := count(t, db, "SELECT count(*) FROM bait"); n != 0 {
		t.Error(n)
	}
	hers := src.Reader.(*Reader).db.DB
	for _, sql := range []string{"DELETE FROM " + quoteName(names[0]), "CREATE TABLE x (a int)", "DROP TABLE bait", "CREATE USER x", "SELECT * FROM mysql.user", "SET GLOBAL max_connections = 5", "SELECT * FROM bait"} {
		if _, err := hers.ExecContext(t.Context(), sql); err == nil {
			t.Errorf("Pingo's user may: %s", sql)
		}
	}
	advice, err := open(t, url).Capture.Advice(t.Context(), need, nil)
	if err != nil || !slices.ContainsFunc(advice, func(a source.Advice) bool { return a.Kind == "rights" && strings.Contains(a.Message, "on *.*") }) {
		t.Errorf("with all rights: %+v %v", advice, err)
	}
}

// client runs statements as people do.
func client(t *testing.T, address, statements string) {
	t.Helper()
	u, err := neturl.Parse(address)
	if err != nil {
		t.Fatal(err)
	}
	password, _ := u.User.Password()
	run := exec.CommandContext(t.Context(), "mariadb", "--no-defaults", "--protocol=tcp", "-h", u.Hostname(), "-P", u.Port(), "-u", u.User.Username(), "-p"+password, strings.TrimPrefix(u.Path, "/"))
	run.Stdin = strings.NewReader(statements)
	if out, err := run.CombinedOutput(); err != nil {
		t.Fatalf("%v: %s\n%s", err, out, statements)
	}
}

// A server learns no password by naming a key of its own.
func TestServersThatLie(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	key, err := rsa.GenerateKey(rand.Reader, 2048)
	if err != nil {
		t.Fatal(err)
	}
	learned := make(chan string, 10)
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			learned <- steal(conn, key)
		}
	}()
	src, err := Open(source.Config{URL: "mariadb://pingo:hunter2@" + l.Addr().String() + "/app", ConnectTimeout: time.Second})
	if err != nil {
		t.Fatal(err)
	}
	defer src.Close()
	ctx, cancel := context.WithTimeout(t.Context(), 3*time.Second)
	defer cancel()
	if _, err := src.Describe(ctx); err == nil {
		t.Error("a server that knows nothing was taken for one")
	}
	if got := <-learned; got != "" {
		t.Errorf("the server learned %q", got)
	}
}

// A value that never ends does not fill Pingo's memory, with and without TLS. Many rows are no such value.
func TestEndlessValue(t *testing.T) {
	for _, secured := range []bool{false, true} {
		endless := 0
		l, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			t.Fatal(err)
		}
		ended := make(chan struct{})
		go func() {
			defer close(ended)
			for {
				conn, err := l.Accept()
				if err != nil {
					return
				}
				endless = max(endless, (&endlessServer{conn: conn}).serve(secured))
			}
		}()
		url := "mariadb://pingo:hunter2@" + l.Addr().String() + "/app"
		if secured {
			url += "?tls=skip-verify"
		}
		db := open(t, url).Reader.(*Reader).db.DB
		rows, err := db.QueryContext(t.Context(), "many rows")
		if err != nil {
			t.Fatal(err)
		}
		n := 0
		for ; rows.Next(); n++ {
		}
		if err := rows.Err(); err != nil || n != 20 {
			t.Errorf("TLS %v: %d of 20 rows of 8 MB, %v", secured, n, err)
		}
		if err := db.QueryRowContext(t.Context(), "one endless row").Scan(new(string)); err == nil {
			t.Errorf("TLS %v: an endless value was read", secured)
		}
		db.Close()
		l.Close()
		<-ended
		if endless > 2*longestRow {
			t.Errorf("TLS %v: %d MB were read", secured, endless>>20)
		}
	}
}

// endlessServer speaks enough of the protocol to send one value that never ends.
type endlessServer struct {
	conn     net.Conn
	sequence byte
}

func (s *endlessServer) send(body []byte) error {
	_, err := s.conn.Write(append([]byte{byte(len(body)), byte(len(body) >> 8), byte(len(body) >> 16), s.sequence}, body...))
	s.sequence++
	return err
}

func (s *endlessServer) receive() ([]byte, error) {
	head := make([]byte, 4)
	if _, err := io.ReadFull(s.conn, head); err != nil {
		return nil, err
	}
	body := make([]byte, int(head[0])|int(head[1])<<8)
	_, err := io.ReadFull(s.conn, body)
	s.sequence = head[3] + 1
	return body, err
}

// serve returns how many bytes of an endless value the client took.
func (s *endlessServer) serve(secured bool) (taken int) {
	defer s.conn.Close()
	s.conn.SetDeadline(time.Now().Add(20 * time.Second))
	flags := byte(0xf7)
	if secured {
		flags = 0xff
	}
	hello := append([]byte{10}, "11.4.2-MariaDB\x00\x01\x00\x00\x0012345678\x00\xff"...)
	hello = append(hello, flags, 45, 2, 0, 0xff, 0, 21)
	hello = append(hello, make([]byte, 10)...)
	s.send(append(hello, "abcdefghijkl\x00mysql_native_password\x00"...))
	if _, err := s.receive(); err != nil {
		return 0
	}
	if secured {
		served := httptest.NewUnstartedServer(nil)
		served.StartTLS() // for its certificate
		defer served.Close()
		s.conn = tls.Server(s.conn, served.TLS)
		if _, err := s.receive(); err != nil {
			return 0
		}
	}
	ok, end := []byte{0, 0, 0, 2, 0, 0, 0}, []byte{0xfe, 0, 0, 2, 0}
	column := append([]byte("\x03def\x00\x00\x00\x01a\x00\x0c"), 45, 0, 255, 255, 255, 255, 0xfd, 0, 0, 0, 0, 0)
	s.send(ok)
	for {
		asked, err := s.receive()
		if err != nil || len(asked) == 0 {
			return taken
		}
		switch {
		case bytespkg.Contains(asked, []byte("concat_ws")):
			row := "utf8mb4 utf8mb4 utf8mb4 0"
			s.send([]byte{1})
			s.send(column)
			s.send(end)
			s.send(append([]byte{byte(len(row))}, row...))
			s.send(end)
		case bytespkg.Contains(asked, []byte("row")):
			s.send([]byte{1})
			s.send(column)
			s.send(end)
			if bytespkg.Contains(asked, []byte("many")) {
				for range 20 {
					s.send(append([]byte{0xfd, 0, 0, 128}, make([]byte, 8<<20)...))
				}
				s.send(end)
				continue
			}
			full := make([]byte, 1<<24-1)
			copy(full, "\xfe\x00\x00\x00\x00\x01\x00\x00\x00") // of 4 GB
			for ; s.send(full) == nil; taken += len(full) {
			}
			return taken
		default:
			s.send(ok)
		}
	}
}

// steal is a server that asks for the password encrypted with its own key; it returns what it learns.
func steal(conn net.Conn, key *rsa.PrivateKey) string {
	defer conn.Close()
	conn.SetDeadline(time.Now().Add(2 * time.Second))
	sequence := byte(0)
	send := func(body []byte) {
		conn.Write(append([]byte{byte(len(body)), byte(len(body) >> 8), 0, sequence}, body...))
		sequence++
	}
	receive := func() []byte {
		head := make([]byte, 4)
		if _, err := io.ReadFull(conn, head); err != nil {
			return nil
		}
		body := make([]byte, int(head[0])|int(head[1])<<8)
		io.ReadFull(conn, body)
		sequence = head[3] + 1
		return body
	}
	salt := []byte("12345678abcdefghijkl")
	hello := append([]byte{10}, "11.4.2-MariaDB\x00"...)
	hello = append(hello, 1, 0, 0, 0)
	hello = append(append(hello, salt[:8]...), 0)
	hello = append(hello, 0xff, 0xf7, 45, 2, 0, 0xff, 0x81, 21)
	hello = append(hello, make([]byte, 10)...)
	hello = append(append(hello, salt[8:]...), 0)
	send(append(hello, "caching_sha2_password\x00"...))
	receive()
	send([]byte{1, 4}) // all of it, please
	if asked := receive(); len(asked) == 1 && asked[0] == 2 {
		public, _ := x509.MarshalPKIXPublicKey(&key.PublicKey)
		send(append([]byte{1}, pem.EncodeToMemory(&pem.Block{Type: "PUBLIC KEY", Bytes: public})...))
		return "the password, encrypted with its own key: " + fmt.Sprint(len(receive()))
	} else if bytespkg.Contains(asked, []byte("hunter2")) {
		return string(asked)
	}
	return ""
}

// The text of a key is the same whoever writes, whatever the settings of their session.
func TestTextsOfKeysAreThoseOfNobodysSession(t *testing.T) {
	url := mariatest.URL(t)
	db, src := mariatest.Connect(t, url), open(t, url)
	types := map[string]string{ // with a value
		"datetime(3)": "'2031-05-04 10:20:30.5'", "date": "'2031-05-04'", "time": "'-12:30:00'", "year": "2031", "int": "-5",
		"bigint unsigned": "18446744073709551615", "decimal(10,2)": "1.5", "char(8)": "'ab'", "varchar(20) CHARACTER SET utf8mb4": "'Hütte 😀'", "varchar(20) CHARACTER SET latin1": "'Hütte'", "binary(3)": "x'00ff41'", "varbinary(8)": "x'4100'",
		"enum('easy','hard')": "'hard'", "boolean": "true", "bit(1)": "b'1'", "uuid": "'123e4567-e89b-12d3-a456-426614174000'", "inet6": "'::1'", "int zerofill": "7",
	}
	var definition strings.Builder
	keys := map[string]string{}
	number := 0
	for native, value := range types {
		number++
		mariatest.Exec(t, db, fmt.Sprintf("CREATE TABLE t%d (id %s PRIMARY KEY, name varchar(50)) DEFAULT CHARSET utf8mb4", number, native))
		conn, err := db.Conn(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		mariatest.Exec(t, conn, fmt.Sprintf("SET NAMES utf8mb4, time_zone = '+05:45', sql_mode = ''; INSERT INTO t%d VALUES (%s, 'a'); SET time_zone = DEFAULT", number, value))
		conn.Close()
		fmt.Fprintf(&definition, "  i%d: { engine: main, rows: paths.t%[1]d, fields: [name] }\n", number)
	}
	shapes, findings := compiled(t, src, definition.String())
	if len(findings) > 0 {
		t.Fatal(findings)
	}
	for _, s := range shapes {
		err := src.Keys(t.Context(), s.Trees[0], nil, nil, func(key []string) error { keys[s.Trees[0].Root().Table.Name] = key[0]; return nil })
		if err != nil {
			t.Fatal(err)
		}
	}
	if _, err := src.Capture.Install(t.Context(), "one", shape.Capture(shapes[0].Source, shapes)); err != nil {
		t.Fatal(err)
	}
	now, err := src.Claimed(t.Context())
	if err == nil {
		err = src.Claim(t.Context(), now, change.Claim{Service: "one", Holder: "A", Epoch: 1, Mark: 1})
	}
	if err != nil {
		t.Fatal(err)
	}
	settings := []string{
		"SET NAMES latin1, time_zone = '-03:30'", "SET NAMES utf8mb4, time_zone = '+12:45', sql_mode = 'ANSI_QUOTES,PAD_CHAR_TO_FULL_LENGTH,NO_BACKSLASH_ESCAPES', lc_time_names = 'de_DE'",
		"SET NAMES utf8mb4 COLLATE utf8mb4_bin, character_set_connection = binary, div_precision_increment = 0, old_mode = 'ZERO_DATE_TIME_CAST', sql_mode = 'PIPES_AS_CONCAT,HIGH_NOT_PRECEDENCE,TIME_ROUND_FRACTIONAL'", "SET NAMES gbk, timestamp = 1, group_concat_max_len = 4",
	}
	for _, setting := range settings {
		conn, err := db.Conn(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		mariatest.Exec(t, conn, setting)
		for table := range keys {
			mariatest.Exec(t, conn, fmt.Sprintf("UPDATE %s SET name = concat(name, 'x')", table))
		}
		_ = conn.Raw(func(any) error { return driver.ErrBadConn }) // it is for no one else
		conn.Close()
	}
	seen := 0
	for deadline := time.Now().Add(6 * time.Second); seen < len(keys)*len(settings) && time.Now().Before(deadline); time.Sleep(10 * time.Millisecond) {
		changes, err := src.Changes(t.Context(), 1000)
		if err != nil {
			t.Fatal(err)
		}
		for _, c := range changes {
			if c.Op != change.Update {
				continue
			}
			seen++
			if len(c.Key) != 1 || c.Key[0] != keys[c.Table.Name] {
				t.Errorf("%s: the document is %q, and the journal says %q", c.Table.Name, keys[c.Table.Name], c.Key)
			}
		}
	}
	if seen != len(keys)*len(settings) {
		t.Errorf("%d of %d changes", seen, len(keys)*len(settings))
	}
}
