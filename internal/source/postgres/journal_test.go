package postgres

import (
	"errors"
	"fmt"
	"math"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"pingo/internal/core/change"
	"pingo/internal/core/shape"
	"pingo/internal/lab/pgtest"
	"pingo/internal/pgserver"
	"pingo/internal/source"
)

// A journal that is deep is read in portions, each row once; what is done costs nothing any
// more though an old transaction keeps vacuum from removing it; and a row whose transaction
// was open all the while is found when it is committed at last.
func TestADeepJournalBesideALongTransaction(t *testing.T) {
	const rows = 120_000
	url := pgtest.URL(t)
	conn, p := pgtest.Connect(t, url), open(t, url)
	pgtest.Exec(t, conn, "CREATE TABLE huts (id int PRIMARY KEY, name text)")
	if _, err := install(t, p, []shape.Captured{captured("huts", []string{"id"}, []string{"id", "name"}, nil)}); err != nil {
		t.Fatal(err)
	}
	writer, reader := pgtest.Connect(t, url), pgtest.Connect(t, url)
	pgtest.Exec(t, writer, "BEGIN; INSERT INTO huts VALUES (0, 'late')") // the lowest number of all
	pgtest.Exec(t, reader, "BEGIN ISOLATION LEVEL REPEATABLE READ; SELECT * FROM huts")
	pgtest.Exec(t, conn, fmt.Sprintf("INSERT INTO huts SELECT n, 'a' FROM generate_series(1, %d) n", rows))

	depth := func(want int64) {
		t.Helper()
		if d, err := p.Depth(t.Context()); err != nil || d.Changes != want || (d.Oldest == nil) != (want == 0) ||
			d.Bytes == 0 {
			t.Errorf("depth %+v, want %d, %v", d, want, err)
		}
	}
	depth(rows)
	const portion = 5000
	seen := map[string]bool{}
	take := func(limit int) int {
		t.Helper()
		changes, err := p.Changes(t.Context(), limit)
		if err != nil {
			t.Fatal(err)
		}
		var seqs []int64
		for _, c := range changes {
			if seen[c.Key[0]] {
				t.Fatalf("%s came twice", c.Key[0])
			}
			seen[c.Key[0]] = true
			seqs = append(seqs, c.Seq)
		}
		if len(seen) <= 3*portion { // what was read stands there until it is done
			depth(int64(rows - len(seen) + len(changes)))
		}
		if err := p.Done(t.Context(), seqs); err != nil {
			t.Fatal(err)
		}
		return len(changes)
	}
	for n := 0; n < rows; n += portion {
		if got := take(portion); got != portion {
			t.Fatalf("%d of %d after %d", got, portion, n)
		}
	}
	if len(seen) != rows || seen["0"] || take(portion) != 0 {
		t.Fatalf("%d rows seen", len(seen))
	}

	pgtest.Exec(t, writer, "COMMIT")
	for deadline := time.Now().Add(20 * time.Second); !seen["0"]; time.Sleep(10 * time.Millisecond) {
		if take(portion); time.Now().After(deadline) {
			t.Fatal("the row of the long transaction was never read")
		}
	}

	// No one writes any longer, so the numbers of all rows are settled after some looks.
	pgtest.Exec(t, conn, "VACUUM pingo_capture.journal")
	for range 3 {
		pgtest.Exec(
			t,
			conn,
			"INSERT INTO huts SELECT max(id) + 1, 'b' FROM huts",
		) // a mark is set when numbers were taken
		for deadline := time.Now().Add(5 * time.Second); take(10) == 0; time.Sleep(10 * time.Millisecond) {
			if time.Now().After(deadline) {
				t.Fatal("a new row was not read")
			}
		}
		for range 30 {
			take(10)
			time.Sleep(10 * time.Millisecond)
		}
	}
	blocks := func() (n int64) {
		t.Helper()
		time.Sleep(1100 * time.Millisecond) // a session tells what it did once a second
		take(10)
		time.Sleep(50 * time.Millisecond)
		if err := conn.QueryRow(t.Context(), `SELECT heap_blks_read + heap_blks_hit + idx_blks_read + idx_blks_hit
			FROM pg_statio_all_tables WHERE relid = 'pingo_capture.journal'::regclass`).Scan(&n); err != nil {
			t.Fatal(err)
		}
		return n
	}
	var dead int64
	if err := conn.QueryRow(t.Context(), "SELECT n_dead_tup FROM pg_stat_all_tables WHERE relid = 'pingo_capture.journal'::regclass").Scan(&dead); err != nil ||
		dead < rows {
		t.Fatalf("%d dead rows, %v: the long transaction keeps none alive", dead, err)
	}
	const looks = 40
	each := int64(math.MaxInt64)
	for range 2 { // the look at all numbers, which comes every ten seconds, is in one of them at most
		before := blocks()
		for range looks {
			take(10)
			time.Sleep(15 * time.Millisecond) // so that they look below what was read last, too
		}
		each = min(each, (blocks()-before)/looks)
	}
	depth(0)
	if each > 20 {
		t.Errorf("a look into the empty journal reads %d blocks", each)
	}

	// What was read long ago and is not done is still in the journal, and is reported.
	pgtest.Exec(t, conn, "INSERT INTO huts SELECT -n, 'c' FROM generate_series(1, 100) n")
	var held []int64
	for range 40 {
		changes, err := p.Changes(t.Context(), 10)
		if err != nil {
			t.Fatal(err)
		}
		for _, c := range changes {
			held = append(held, c.Seq)
		}
		time.Sleep(15 * time.Millisecond)
	}
	depth(100)
	if err := p.Done(t.Context(), held); err != nil || len(held) != 100 {
		t.Error(len(held), err)
	}
	depth(0)
	pgtest.Exec(t, reader, "COMMIT")
}

// A trigger that begins to change rows before they are written, after capture was
// A row of the journal that says nothing that can be understood represents a change of
// all rows.
func TestUnreadableJournalRows(t *testing.T) {
	url := pgtest.URL(t)
	conn, p := pgtest.Connect(t, url), open(t, url)
	pgtest.Exec(t, conn, "CREATE TABLE stays (hut int, night date, guests int, PRIMARY KEY (hut, night))")
	need := []shape.Captured{
		captured("stays", []string{"hut", "night"}, []string{"hut", "night", "guests"}, []string{"hut", "guests"}),
	}
	if _, err := install(t, p, need); err != nil {
		t.Fatal(err)
	}
	for _, row := range []string{
		"'', NULL, NULL, NULL",
		"'x', '{1,2030-01-01}', NULL, NULL",
		"'u', NULL, NULL, NULL",
		"'u', '{1}', NULL, NULL",
		"'u', '{1,NULL}', NULL, NULL",
		"'d', '{1,', NULL, NULL",
		"'u', '{1,2030-01-01}', '{1}', '{1,2}'",
		"'u', '{1,2030-01-01}', '{1,2}', '{'",
	} {
		pgtest.Exec(
			t,
			conn,
			"INSERT INTO pingo_capture.journal (layout, op, key, before, after) SELECT id, "+row+" FROM pingo_capture.layouts",
		)
		got, err := p.Feed.Changes(t.Context(), 10)
		if err != nil || len(got) != 1 || got[0].Op != change.Truncate || got[0].Table.Name != "stays" {
			t.Errorf("%s: %+v %v", row, got, err)
		}
	}
	pgtest.Exec(t, conn, "INSERT INTO stays VALUES (1, '2030-01-01', 2)")
	got, err := p.Feed.Changes(t.Context(), 10)
	if err != nil || len(got) != 1 || got[0].Op != change.Insert || fmt.Sprint(got[0].Key) != "[1 2030-01-01]" {
		t.Errorf("%+v %v", got, err)
	}
}

// Rows that come and go with a partition or a child fire no row trigger: then all documents of
// the table are rebuilt. A new partition that is empty costs nothing.
func TestPartsThatComeAndGo(t *testing.T) {
	url := pgtest.URL(t)
	conn, p := pgtest.Connect(t, url), open(t, url)
	pgtest.Exec(t, conn, `
		CREATE TABLE stays (id int PRIMARY KEY, name text) PARTITION BY RANGE (id);
		CREATE TABLE stays_1 PARTITION OF stays FOR VALUES FROM (0) TO (10);
		CREATE TABLE stays_2 PARTITION OF stays FOR VALUES FROM (10) TO (20);
		INSERT INTO stays VALUES (1, 'a'), (11, 'b');
		CREATE TABLE huts (id int PRIMARY KEY, name text)`)
	need := []shape.Captured{
		captured("huts", []string{"id"}, []string{"id", "name"}, nil),
		captured("stays", []string{"id"}, []string{"id", "name"}, nil),
	}
	if _, err := install(t, p, need); err != nil {
		t.Fatal(err)
	}
	noted := func(what string, want ...string) {
		t.Helper()
		var got []string
		for range 30 { // parts are checked once a second
			got = append(got, read(t, p)...)
			if len(want) > 0 && len(got) >= len(want) {
				break
			}
			time.Sleep(100 * time.Millisecond)
		}
		if fmt.Sprint(got) != fmt.Sprint(want) {
			t.Errorf("%s: %q, want %q", what, got, want)
		}
	}
	gaps := func(want int) {
		t.Helper()
		if got, err := p.Capture.Gaps(t.Context(), need); err != nil || len(got) != want || want > 0 && !got[0].Safe {
			t.Errorf("gaps %+v %v, want %d", got, err, want)
		}
		if made, err := install(t, p, need); err != nil || len(made) != want {
			t.Errorf("made %v %v, want %d", made, err, want)
		}
	}
	noted("nothing has happened")
	pgtest.Exec(t, conn, "CREATE TABLE stays_3 PARTITION OF stays FOR VALUES FROM (20) TO (30)")
	noted("a new partition")
	gaps(1) // its truncation
	pgtest.Exec(t, conn, "INSERT INTO stays VALUES (21, 'c')")
	noted("a row in it", "stays insert 21")
	pgtest.Exec(t, conn, "ALTER TABLE stays DETACH PARTITION stays_2")
	noted("a partition leaves", "stays truncate ")
	pgtest.Exec(
		t,
		conn,
		"INSERT INTO stays_2 VALUES (12, 'd'); ALTER TABLE stays ATTACH PARTITION stays_2 FOR VALUES FROM (10) TO (20)",
	)
	noted("it comes back with rows", "stays truncate ")
	gaps(0) // it was watched for that before
	pgtest.Exec(t, conn, "DROP TABLE stays_1")
	noted("a partition is dropped", "stays truncate ")

	pgtest.Exec(
		t,
		conn,
		`CREATE TABLE chalets (slope text) INHERITS (huts); INSERT INTO chalets VALUES (7, 'steep', 'north')`,
	)
	noted("a child with rows", "huts truncate ")
	pgtest.Exec(t, conn, `UPDATE chalets SET name = 'steeper'`)
	gaps(1)
	noted("capture on the child", "huts truncate ")
	gaps(0)
	pgtest.Exec(
		t,
		conn,
		`UPDATE chalets SET name = 'less steep'; UPDATE chalets SET slope = 'south'; INSERT INTO chalets VALUES (8, 'x', 'y'); DELETE FROM huts WHERE id = 7`,
	)
	noted("rows of the child", "huts update 7", "huts insert 8", "huts delete 7")
	pgtest.Exec(t, conn, `TRUNCATE chalets`)
	noted("the child is emptied", "huts truncate ")
	pgtest.Exec(t, conn, `ALTER TABLE chalets NO INHERIT huts`)
	noted("the child leaves", "huts truncate ")
	pgtest.Exec(t, conn, `ALTER TABLE chalets INHERIT huts; DROP TABLE chalets`)
	if err := p.Capture.Remove(t.Context()); err != nil {
		t.Error(err)
	}
}

// It is known that a change was committed before it is read, but never while a transaction is open whose row may come
// before it.
func TestWhatWasCommittedBeforeItIsRead(t *testing.T) {
	url := pgtest.URL(t)
	conn, p := pgtest.Connect(t, url), open(t, url)
	pgtest.Exec(t, conn, "CREATE TABLE huts (id int PRIMARY KEY, name text)")
	if _, err := install(t, p, []shape.Captured{captured("huts", []string{"id"}, []string{"id", "name"}, nil)}); err != nil {
		t.Fatal(err)
	}
	writer := pgtest.Connect(t, url)
	pgtest.Exec(t, conn, "INSERT INTO huts SELECT n, 'a' FROM generate_series(1, 100) n")
	pgtest.Exec(t, writer, "BEGIN; INSERT INTO huts VALUES (0, 'late')")
	pgtest.Exec(t, conn, "INSERT INTO huts SELECT n, 'a' FROM generate_series(101, 200) n")
	var late int64
	if err := writer.QueryRow(t.Context(), "SELECT max(seq) - 100 FROM pingo_capture.journal").Scan(&late); err != nil {
		t.Fatal(err)
	}
	known := func(seq int64) bool { _, is := p.Feed.(source.Settler).CommittedBy(seq); return is }
	read := func(times int) {
		t.Helper()
		for range times {
			if _, err := p.Changes(t.Context(), 2); err != nil {
				t.Fatal(err)
			}
			time.Sleep(2 * markEvery) // so that it looks for what is settled
		}
	}
	read(8)
	if known(late) || known(late+1) {
		t.Fatalf("the change of an open transaction is taken for committed, or one after it")
	}
	before := time.Now()
	pgtest.Exec(t, writer, "COMMIT")
	pgtest.Exec(t, conn, "UPDATE huts SET name = 'b' WHERE id = 1") // it is above all of these
	read(8)
	if by, is := p.Feed.(source.Settler).CommittedBy(late); !is || by.Before(before) {
		t.Errorf("known %t, by %s; it was committed after %s", is, by, before)
	}
	if known(late + 1000) {
		t.Error("what no one has written is taken for committed")
	}
	p.Rewind()
	if known(late) {
		t.Error("it is known after a rewind, when another user may have read")
	}
}

// What a crash takes back, since the application commits without waiting for the disk, was read and delivered: all tables
// count as changed then, whether the server, the process or both notice first. A restart that loses nothing changes nothing.
func TestCrashesThatForget(t *testing.T) {
	for _, noticedBy := range []string{"done", "beat", "nothing lost"} {
		t.Run(noticedBy, func(t *testing.T) {
			options := pgserver.Options{Dir: pgtest.Dir(t) + "/crash " + noticedBy, Settings: append(slices.Clone(pgtest.Settings), "wal_writer_delay=10s", "autovacuum=off")}
			server, err := pgserver.Start(t.Context(), options)
			if err != nil {
				t.Fatal(err)
			}
			defer func() {
				if server != nil {
					_ = server.Stop()
				}
			}()
			if err := server.CreateDatabase(t.Context(), "lodge"); err != nil {
				t.Fatal(err)
			}
			conn, p := pgtest.Connect(t, server.URL("lodge")), open(t, server.URL("lodge"))
			pgtest.Exec(t, conn, "CREATE TABLE huts (id int PRIMARY KEY, name text)")
			s, _, findings := compile(t, p, "  x: { engine: e, rows: s.huts, fields: [name] }\n")
			if len(findings) > 0 {
				t.Fatal(findings)
			}
			if _, err := install(t, p, shape.Capture(s.Source, []*shape.Shape{s})); err != nil {
				t.Fatal(err)
			}
			feed := p.Feed.(*Feed)
			found, err := feed.Claimed(t.Context())
			if err != nil {
				t.Fatal(err)
			}
			if err := feed.Claim(t.Context(), found, change.Claim{Service: found.Service, Holder: "A", Epoch: 1, Mark: 1}); err != nil {
				t.Fatal(err)
			}
			pgtest.Exec(t, conn, "CHECKPOINT; INSERT INTO huts VALUES (1, 'never was')")
			read, err := feed.Changes(t.Context(), 100)
			if err != nil || len(read) != 1 {
				t.Fatal(read, err)
			}
			if noticedBy == "nothing lost" {
				pgtest.Exec(t, conn, "SET synchronous_commit = on; CREATE TABLE flushed ()")
			}
			port := server.Port()
			crash(t, server)
			_ = server.Stop() // it gives the directory back
			options.Port = port
			if server, err = pgserver.Start(t.Context(), options); err != nil {
				t.Fatal(err)
			}
			conn = pgtest.Connect(t, server.URL("lodge"))
			var rows int
			if err := conn.QueryRow(t.Context(), "SELECT count(*) FROM huts").Scan(&rows); err != nil || (rows == 0) != (noticedBy != "nothing lost") {
				t.Fatalf("%d rows after the crash, %v", rows, err)
			}
			lost := false
			again := func(do func() error) { // connections of before are closed
				t.Helper()
				var err error
				for range 20 {
					if err = do(); errors.Is(err, errLost) {
						lost = true
						return
					} else if err == nil {
						return
					}
				}
				t.Fatal(err)
			}
			beat := func() error {
				now, err := feed.Claimed(t.Context())
				if err == nil {
					_, err = feed.Beat(t.Context(), now)
				}
				return err
			}
			if noticedBy == "beat" {
				again(beat)
			}
			pgtest.Exec(t, conn, "INSERT INTO huts VALUES (2, 'is')") // it may get the number of what was lost
			again(func() error { return feed.Done(t.Context(), []int64{read[0].Seq}) })
			if got, want := lost, noticedBy != "nothing lost"; got != want {
				t.Errorf("noticed: %t, want %t", got, want)
			}
			if lost {
				feed.Rewind()
			}
			fresh, err := feed.Changes(t.Context(), 100)
			if err != nil {
				t.Fatal(err)
			}
			var got []string
			for _, c := range fresh {
				got = append(got, c.Op.String()+" "+strings.Join(c.Key, ","))
			}
			want := []string{"insert 2"}
			if lost {
				want = []string{"insert 2", "truncate "}
			}
			if slices.Sort(got); !slices.Equal(got, want) {
				t.Errorf("read after the crash: %q, want %q", got, want)
			}
		})
	}
}

// crash kills all processes of a server, as a power cut does.
func crash(t *testing.T, server *pgserver.Server) {
	t.Helper()
	b, err := os.ReadFile(filepath.Join(server.Data(), "postmaster.pid"))
	if err != nil {
		t.Fatal(err)
	}
	pid, err := strconv.Atoi(strings.Fields(string(b))[0])
	if err != nil {
		t.Fatal(err)
	}
	children, err := os.ReadFile(fmt.Sprintf("/proc/%d/task/%[1]d/children", pid))
	if err != nil {
		t.Fatal(err)
	}
	for _, field := range append([]string{strconv.Itoa(pid)}, strings.Fields(string(children))...) {
		n, err := strconv.Atoi(field)
		if err != nil {
			t.Fatal(err)
		}
		_ = syscall.Kill(n, syscall.SIGKILL)
	}
	for range 500 {
		if syscall.Kill(pid, 0) != nil {
			return
		}
		time.Sleep(10 * time.Millisecond)
	}
	t.Fatal("the server does not die")
}
