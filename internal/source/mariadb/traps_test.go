package mariadb

import (
	"context"
	"database/sql"
	"fmt"
	"maps"
	"math/rand/v2"
	"net/url"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"pingo/internal/core/change"
	"pingo/internal/core/definition"
	"pingo/internal/core/document"
	"pingo/internal/core/shape"
	"pingo/internal/lab/mariatest"
	"pingo/internal/source"
	"pingo/internal/source/journal"
	"pingo/internal/source/sourcetest"
)

// compiled compiles the indexes of a definition against a database.
func compiled(t *testing.T, src *source.Source, indexes string) ([]*shape.Shape, definition.Findings) {
	t.Helper()
	text := "sources: { paths: { kind: mariadb, url: \"mariadb://u@h/d\" } }\nengines: { main: { kind: any, url: \"any://h\" } }\nindexes:\n" + indexes
	def, findings := definition.Parse([]definition.File{{Name: "d.yaml", Text: text}}, definition.Kinds{
		Sources: []definition.Kind{
			{Name: Kind.Name, Schemes: Kind.Schemes, Captures: Kind.Captures, Keys: Kind.Keys},
		},
		Engines: []definition.Kind{{Name: "any", Schemes: []string{"any"}, Keys: `{}`}},
	}, nil)
	if len(findings) > 0 {
		t.Fatal(findings)
	}
	var out []*shape.Shape
	for _, ix := range def.Indexes {
		s, found, err := source.Compile(t.Context(), ix, source.Only(src))
		if err != nil {
			t.Fatal(err)
		}
		findings = append(findings, found...)
		out = append(out, s)
	}
	return out, findings
}

// world is a database whose changes are noted for some indexes.
type world struct {
	*testing.T
	db     *sql.DB
	src    *source.Source
	shapes []*shape.Shape
}

func newWorld(t *testing.T, tables, indexes string) *world {
	t.Helper()
	url := mariatest.URL(t)
	w := &world{T: t, db: mariatest.Connect(t, url), src: open(t, url)}
	mariatest.Exec(t, w.db, tables)
	var findings definition.Findings
	if w.shapes, findings = compiled(t, w.src, indexes); len(findings) > 0 {
		t.Fatal(findings)
	}
	if _, err := w.src.Capture.Install(t.Context(), "one", shape.Capture(w.shapes[0].Source, w.shapes)); err != nil {
		t.Fatal(err)
	}
	if err := w.src.Claim(t.Context(), change.Claim{Service: "one", History: w.claim().History}, change.Claim{Service: "one", Holder: "A", Epoch: 1, Mark: 1}); err != nil {
		t.Fatal(err)
	}
	return w
}

func (w *world) claim() change.Claim {
	w.Helper()
	c, err := w.src.Claimed(w.Context())
	if err != nil {
		w.Fatal(err)
	}
	return c
}

func (w *world) exec(statements string, args ...any) {
	w.Helper()
	mariatest.Exec(w, w.db, statements, args...)
}

// noticed takes the changes until the expected number came, or a moment has passed, as text.
func (w *world) noticed(n int) []string {
	w.Helper()
	var out []string
	var seqs []int64
	for deadline := time.Now().Add(4 * time.Second); len(out) < n && time.Now().Before(deadline); time.Sleep(10 * time.Millisecond) {
		changes, err := w.src.Changes(w.Context(), 1000)
		if err != nil {
			w.Fatal(err)
		}
		for _, c := range changes {
			links := ""
			for _, v := range c.Values(c.Links) {
				links += " " + strings.Join(v, "|")
			}
			was := ""
			if len(c.Was) > 0 {
				was = " was " + strings.Join(c.Was, "|")
			}
			out = append(out, strings.TrimSpace(fmt.Sprintf(
				"%s %s %s%s%s", c.Op, c.Table.Name, strings.Join(c.Key, "|"), was, strings.TrimRight(links, " "))))
			seqs = append(seqs, c.Seq)
		}
	}
	if err := w.src.Done(w.Context(), seqs); err != nil {
		w.Fatal(err)
	}
	slices.Sort(out)
	return slices.Compact(out)
}

func (w *world) expect(want ...string) {
	w.Helper()
	slices.Sort(want)
	if got := w.noticed(len(want)); !slices.Equal(got, want) {
		w.Errorf("noticed %q, want %q", got, want)
	}
}

// documents reads all documents of an index, by ranges of a few rows.
func (w *world) documents(s *shape.Shape) map[string]string {
	w.Helper()
	out := map[string]string{}
	tree := s.Trees[0]
	set := document.NewSet(tree)
	for after, last := []string(nil), false; !last; {
		end, err := w.src.ChunkEnd(w.Context(), tree, after, 2)
		if err != nil {
			w.Fatal(err)
		}
		set.Reset()
		if err := w.src.ReadRange(w.Context(), set, after, end); err != nil {
			w.Fatal(err)
		}
		maps.Copy(out, w.made(set))
		after, last = end, end == nil
	}
	return out
}

func (w *world) made(set *document.Set) map[string]string {
	w.Helper()
	return sourcetest.Documents(w, set)
}

const trails = `
  trails:
    engine: main
    rows: paths.trails
    fields: [name]
    related: { stages: { many: stages, on: { trail_id: id }, fields: [name] } }
  marks: { engine: main, rows: paths.marks, fields: [word] }
`

// What changes rows without naming them is noticed.
func TestRowsThatStatementsDoNotName(t *testing.T) {
	w := newWorld(t, `
		CREATE TABLE areas (id int PRIMARY KEY);
		CREATE TABLE trails (id int PRIMARY KEY, area_id int, name varchar(50), FOREIGN KEY (area_id) REFERENCES areas (id) ON DELETE CASCADE ON UPDATE CASCADE);
		CREATE TABLE stages (trail_id int, no int, name varchar(50), PRIMARY KEY (trail_id, no), FOREIGN KEY (trail_id) REFERENCES trails (id) ON DELETE CASCADE ON UPDATE CASCADE);
		CREATE TABLE marks (id int PRIMARY KEY, word varchar(20)) PARTITION BY RANGE (id) (PARTITION low VALUES LESS THAN (100), PARTITION high VALUES LESS THAN (1000))`, trails)
	w.exec(
		`INSERT INTO areas VALUES (1), (2); INSERT INTO trails VALUES (1, 1, 'Ridge'), (2, 2, 'Tarn'), (3, 2, 'Moor');
		INSERT INTO stages VALUES (1, 1, 'up'), (1, 2, 'down'), (2, 1, 'round'), (3, 1, 'along')`,
	)
	w.noticed(7)
	w.exec("UPDATE trails SET id = 11 WHERE id = 1")
	w.expect(
		"update trails 11 was 1",
		"update stages 1|1 1",
		"update stages 1|2 1",
		"update stages 11|1 1 11",
		"update stages 11|2 1 11",
	)
	w.exec("DELETE FROM trails WHERE id = 11")
	w.expect("delete trails 11", "update stages 11|1 11", "update stages 11|2 11")
	w.exec("DELETE FROM areas WHERE id = 2") // over two foreign keys
	w.expect("update trails 2", "update trails 3", "update stages 2|1 2", "update stages 3|1 3")

	w.exec("INSERT INTO marks VALUES (1, 'red'), (2, 'white'), (200, 'blue')")
	w.noticed(3)
	w.exec("REPLACE INTO marks VALUES (1, 'green')")
	w.expect("delete marks 1", "insert marks 1")
	w.exec("INSERT INTO marks VALUES (2, 'x'), (3, 'y') ON DUPLICATE KEY UPDATE word = VALUES(word)")
	w.expect("update marks 2", "insert marks 3")
	w.exec("UPDATE marks SET word = word")
	w.exec("INSERT IGNORE INTO marks VALUES (3, 'z')")
	w.expect()
	w.exec("ALTER TABLE marks TRUNCATE PARTITION high")
	w.expect("truncate marks")
	w.exec("TRUNCATE marks")
	w.expect("truncate marks")
	w.exec("INSERT INTO marks VALUES (5, 'grey')")
	w.expect("insert marks 5")

	// An own transaction that is rolled back, or up to a point, leaves nothing.
	w.exec(
		"START TRANSACTION; INSERT INTO marks VALUES (6, 'a'); SAVEPOINT s; INSERT INTO marks VALUES (7, 'b'); ROLLBACK TO s; COMMIT; START TRANSACTION; DELETE FROM marks; ROLLBACK",
	)
	w.expect("insert marks 6")
}

// A deletion that goes down a tree is noticed at every depth, in its table and in those that hang on it.
func TestTreesThatAreDeleted(t *testing.T) {
	w := newWorld(t, `
		CREATE TABLE areas (id int PRIMARY KEY, within int, name varchar(50), FOREIGN KEY (within) REFERENCES areas (id) ON DELETE CASCADE);
		CREATE TABLE trails (id int PRIMARY KEY, area_id int, name varchar(50), FOREIGN KEY (area_id) REFERENCES areas (id) ON DELETE CASCADE);
		CREATE TABLE stages (id int PRIMARY KEY, trail_id int, name varchar(50), FOREIGN KEY (trail_id) REFERENCES trails (id) ON DELETE SET NULL)`, `
  areas: { engine: main, rows: paths.areas, fields: [name] }
  stages: { engine: main, rows: paths.stages, fields: [name, trail_id] }
`)
	w.exec(`INSERT INTO areas VALUES (1, NULL, 'a'), (2, 1, 'b'), (3, 2, 'c'), (4, 3, 'd'), (5, 3, 'e'), (9, NULL, 'z'), (10, 9, 'y');
		INSERT INTO trails VALUES (1, 1, 'x'), (4, 4, 'x'), (5, 5, 'x'), (10, 10, 'x');
		INSERT INTO stages VALUES (1, 1, 's'), (4, 4, 's'), (5, 5, 's'), (10, 10, 's')`)
	w.noticed(11)
	w.exec("DELETE FROM areas WHERE id = 1")
	w.expect("delete areas 1", "update areas 2", "update areas 3", "update areas 4", "update areas 5",
		"update stages 1", "update stages 4", "update stages 5")
}

// No statement of the application fails because of capture, whatever happens to its tables or to
// the journal, and what cannot be noted exactly is noted as a change of all rows.
func TestCaptureStandsInNobodysWay(t *testing.T) {
	w := newWorld(t, `
		CREATE TABLE trails (id int PRIMARY KEY, name varchar(50));
		CREATE TABLE stages (id int PRIMARY KEY, trail_id int, name varchar(50));
		CREATE TABLE marks (id int PRIMARY KEY, word varchar(20));
		INSERT INTO marks VALUES (1, 'red')`, trails)
	w.exec("ALTER TABLE marks DROP COLUMN word")
	w.exec("UPDATE marks SET id = 2")
	w.expect("truncate marks")
	w.exec(
		"ALTER TABLE stages CHANGE trail_id trail int, ADD COLUMN length_km int; INSERT INTO stages VALUES (1, 1, 'up', 3); DELETE FROM stages",
	)
	w.expect("truncate stages")
	w.exec("ALTER TABLE trails MODIFY name text, MODIFY id bigint; INSERT INTO trails VALUES (1, 'Ridge')")
	if got := w.noticed(2); !slices.Contains(got, "insert trails 1") {
		t.Errorf("after a change of types: %q", got)
	}
	gaps := func() (out []string) {
		found, err := w.src.Capture.Gaps(t.Context(), shape.Capture(w.shapes[0].Source, w.shapes))
		if err != nil {
			t.Fatal(err)
		}
		for _, g := range found {
			out = append(out, fmt.Sprintf("%s safe=%t deliberate=%t", g.Table.Name, g.Safe, g.Deliberate))
		}
		return out
	}
	altered := []string{"marks safe=true deliberate=false", "stages safe=true deliberate=false", "trails safe=true deliberate=false"}
	if got := gaps(); !slices.Equal(got, altered) {
		t.Errorf("gaps: %q", got)
	}
	if _, err := w.src.Capture.Install(t.Context(), "one", shape.Capture(w.shapes[0].Source, w.shapes)); err != nil {
		t.Fatal(err)
	}
	if got := gaps(); len(got) != 0 {
		t.Errorf("gaps after it was reinstalled: %q", got)
	}
	// Their values may be others, which no trigger saw.
	w.expect("truncate marks", "truncate stages", "truncate trails")
	w.exec("INSERT INTO stages (id, name) VALUES (7, 'over'); DELETE FROM stages")
	w.expect("insert stages 7", "delete stages 7")
	time.Sleep(time.Second) // tables tell when they were made by the second
	w.exec("CREATE TABLE other LIKE trails; DROP TABLE trails; RENAME TABLE other TO trails")
	w.exec("ALTER TABLE stages ADD FOREIGN KEY (id) REFERENCES marks (id) ON DELETE CASCADE")
	if got := gaps(); !slices.Equal(
		got,
		[]string{"stages safe=false deliberate=false", "trails safe=false deliberate=false"},
	) {
		t.Errorf("gaps: %q", got)
	}
	var trigger string
	if err := w.db.QueryRow("SELECT TRIGGER_NAME FROM information_schema.TRIGGERS WHERE EVENT_OBJECT_TABLE = 'marks' AND TRIGGER_SCHEMA = database() LIMIT 1").Scan(&trigger); err != nil {
		t.Fatal(err)
	}
	w.exec("DROP TRIGGER " + trigger)
	if got := gaps(); !slices.Contains(got, "marks safe=false deliberate=true") {
		t.Errorf("gaps: %q", got)
	}
	var name string
	if err := w.db.QueryRow("SELECT database()").Scan(&name); err != nil {
		t.Fatal(err)
	}
	w.exec("DROP DATABASE " + captureDatabase(name))
	w.exec("INSERT INTO stages VALUES (2, 1, 'x', 1)")
	w.exec("UPDATE stages SET name = 'y'; DELETE FROM stages; DELETE FROM marks")
	if _, err := w.src.Changes(t.Context(), 10); source.FaultOf(err) != source.NoCapture {
		t.Errorf("changes without a journal: %v", err)
	}
}

// Texts that the database takes for equal tie rows together, and a key is the one that the row has.
func TestTextsInCapitals(t *testing.T) {
	w := newWorld(t, `
		CREATE TABLE trails (id varchar(20) PRIMARY KEY, name varchar(50)) COLLATE utf8mb4_general_ci;
		CREATE TABLE stages (id int PRIMARY KEY, trail_id varchar(20), name varchar(50), KEY (trail_id)) COLLATE utf8mb4_general_ci;
		CREATE TABLE marks (id int PRIMARY KEY, word varchar(20));
		INSERT INTO trails VALUES ('Ridge', 'a'), ('tarn ', 'b');
		INSERT INTO stages VALUES (1, 'RIDGE', 'up'), (2, 'ridge', 'down'), (3, 'Tarn', 'round'), (4, NULL, 'nowhere')`, trails)
	w.exec("UPDATE stages SET name = 'steep' WHERE id = 1")
	w.expect("update stages 1 RIDGE")
	var up [][]string
	for _, route := range w.shapes[0].Routes(w.shapes[0].Source)[shape.Ref{Schema: w.src.Reader.(*Reader).db.name, Name: "stages"}] {
		if err := w.src.WalkUp(t.Context(), route.Steps, [][]string{{"RIDGE"}}, func(key []string) error { up = append(up, slices.Clone(key)); return nil }); err != nil {
			t.Fatal(err)
		}
	}
	if fmt.Sprint(up) != "[[Ridge]]" {
		t.Errorf("up: %v", up)
	}
	want := map[string]string{
		"Ridge": `{"name":"a","stages":[{"name":"steep"},{"name":"down"}]}`,
		"tarn ": `{"name":"b","stages":[{"name":"round"}]}`,
	}
	if got := w.documents(w.shapes[0]); !maps.Equal(got, want) {
		t.Errorf("documents: %v", got)
	}
	set := document.NewSet(w.shapes[0].Trees[0])
	if err := w.src.ReadKeys(t.Context(), set, [][]string{{"RIDGE"}, {"tarn "}}); err != nil {
		t.Fatal(err)
	}
	if got := w.made(set); len(got) != 1 || got["tarn "] == "" {
		t.Errorf("by keys: %v", got)
	}
	w.exec("UPDATE trails SET id = 'RIDGE' WHERE id = 'ridge'")
	w.expect("update trails RIDGE was Ridge")
}

// emptyTables are those of trails, without rows.
const emptyTables = `CREATE TABLE trails (id int PRIMARY KEY, name varchar(50));
	CREATE TABLE stages (id int PRIMARY KEY, trail_id int, name varchar(50)); CREATE TABLE marks (id int PRIMARY KEY, word varchar(20))`

// Many writers commit late and out of order, or not at all: every change is returned once, and the
// mark below which Pingo reads nothing rises.
func TestLateCommits(t *testing.T) {
	defer func(d time.Duration) { settleAfter = d }(settleAfter)
	settleAfter = 300 * time.Millisecond
	w := newWorld(t, emptyTables, trails)
	const writers, each = 8, 60
	ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
	defer cancel()
	var mu sync.Mutex
	committed := map[string]bool{}
	var wg sync.WaitGroup
	for n := range writers {
		wg.Go(func() {
			random := rand.New(rand.NewPCG(7, uint64(n)))
			for i := range each {
				tx, err := w.db.BeginTx(ctx, nil)
				if err != nil {
					t.Error(err)
					return
				}
				id := fmt.Sprint(1000*n + i)
				if _, err := tx.ExecContext(ctx, "INSERT INTO marks VALUES (?, 'x')", id); err != nil {
					t.Error(err)
				}
				time.Sleep(time.Duration(random.IntN(40)) * time.Millisecond)
				if random.IntN(5) == 0 {
					tx.Rollback()
					continue
				}
				if err := tx.Commit(); err != nil {
					t.Error(err)
				}
				mu.Lock()
				committed[id] = true
				mu.Unlock()
			}
		})
	}
	finished := make(chan struct{})
	go func() { wg.Wait(); close(finished) }()
	seen := map[string]int{}
	quiet := 0
	for quiet < 100 {
		changes, err := w.src.Changes(ctx, 7)
		if err != nil {
			t.Fatal(err)
		}
		var seqs []int64
		for _, c := range changes {
			seen[c.Key[0]]++
			seqs = append(seqs, c.Seq)
		}
		if err := w.src.Done(ctx, seqs); err != nil {
			t.Fatal(err)
		}
		select {
		case <-finished:
			if len(changes) == 0 {
				quiet++
			}
		default:
		}
		if len(changes) == 0 {
			time.Sleep(5 * time.Millisecond)
		}
	}
	for id := range committed {
		if seen[id] != 1 {
			t.Errorf("row %s was returned %d times", id, seen[id])
		}
	}
	if len(seen) != len(committed) {
		t.Errorf("%d rows returned, %d committed", len(seen), len(committed))
	}
	if w.src.Feed.(*Feed).cursor.Low() == 0 {
		t.Error("the low-water mark never rose")
	}
}

// Where many changes wait, it is known that one was committed before it is read, but never while a transaction is open
// whose row may come before it: when its number is old, and immediately when no one writes.
func TestWhatWasCommittedBeforeItIsRead(t *testing.T) {
	defer func(d time.Duration) { settleAfter = d }(settleAfter)
	for _, settleAfter = range []time.Duration{0, time.Hour} {
		t.Run(settleAfter.String(), committedBeforeItIsRead)
	}
}

func committedBeforeItIsRead(t *testing.T) {
	w := newWorld(t, emptyTables, trails)
	w.exec("INSERT INTO marks SELECT seq, 'a' FROM seq_1_to_100")
	late, err := w.db.Begin()
	if err != nil {
		t.Fatal(err)
	}
	mariatest.Exec(t, late, "INSERT INTO marks VALUES (0, 'late')")
	w.exec("INSERT INTO marks SELECT seq, 'a' FROM seq_101_to_200")
	var last int64
	if err := w.db.QueryRow("SELECT max(seq) FROM " + w.src.Feed.(*Feed).db.capture + ".journal").Scan(&last); err != nil {
		t.Fatal(err)
	}
	settler := w.src.Feed.(source.Settler)
	read := func() {
		t.Helper()
		for range 8 {
			if _, err := w.src.Changes(t.Context(), 2); err != nil {
				t.Fatal(err)
			}
			time.Sleep(stillEvery / 4)
		}
	}
	read()
	if _, known := settler.CommittedBy(last - 100); known {
		t.Fatal("the change of an open transaction is taken for committed")
	}
	before := time.Now()
	if err := late.Commit(); err != nil {
		t.Fatal(err)
	}
	read()
	for seq := last - 101; seq <= last; seq++ {
		if by, known := settler.CommittedBy(seq); !known || by.Before(before) {
			t.Fatalf("change %d of %d: known %t, by %s; one before it was committed after %s", seq, last, known, by, before)
		}
	}
	w.exec("INSERT INTO marks SELECT seq, 'a' FROM seq_201_to_300")
	if _, known := settler.CommittedBy(last + 50); known {
		t.Error("what was written since is taken for committed")
	}
	w.src.Rewind()
	if _, known := settler.CommittedBy(last); known {
		t.Error("it is known after a rewind, when another user may have read")
	}
}

// A statement that goes on for long holds up no other one that writes other rows.
func TestLongStatementsHoldUpNobody(t *testing.T) {
	w := newWorld(t, `
		CREATE TABLE trails (id int PRIMARY KEY, name varchar(50));
		CREATE TABLE stages (id int PRIMARY KEY, trail_id int, name varchar(50));
		CREATE TABLE marks (id int PRIMARY KEY, word varchar(20));
		INSERT INTO trails VALUES (1, 'a'), (2, 'b'); INSERT INTO marks VALUES (1, 'a'), (2, 'b'), (3, 'c'), (4, 'd');
		INSERT INTO stages VALUES (1, 1, 'a'), (2, 1, 'b'), (3, 1, 'c'), (4, 1, 'd')`, trails)
	for _, statement := range []string{
		"UPDATE stages SET name = IF(SLEEP(0.5) = 0, CONCAT(name, 'x'), name)",
		"INSERT INTO stages SELECT id + 10, 1, IF(SLEEP(0.5) = 0, 'y', 'z') FROM marks",
		"REPLACE INTO stages SELECT id, 1, IF(SLEEP(0.5) = 0, 'y', 'z') FROM marks",
		"DELETE FROM stages WHERE SLEEP(0.5) = 0 LIMIT 4",
	} {
		long := make(chan error, 1)
		go func() {
			_, err := w.db.Exec(statement)
			long <- err
		}()
		time.Sleep(800 * time.Millisecond) // it has written a row, and not all
		mariatest.Exec(t, w.db, "UPDATE trails SET name = CONCAT(name, '.') WHERE id = 2")
		select {
		case err := <-long:
			t.Errorf("%s: the other one waited until it had ended (%v)", statement, err)
		default:
			if err := <-long; err != nil {
				t.Fatal(err)
			}
		}
	}
}

// What is asked all the time opens no tables but those that it is about, however many there are on the server. (Of
// triggers, the server looks for one file for each table.)
func TestLooksOpenFewTables(t *testing.T) {
	w := newWorld(t, `CREATE TABLE huts (id int PRIMARY KEY, facts json); CREATE TABLE stays (id int PRIMARY KEY, hut int,
		FOREIGN KEY (hut) REFERENCES huts (id) ON DELETE CASCADE)`, `
  huts:
    engine: main
    rows: paths.huts
    fields: [facts]
    related: { stays: { many: stays, on: { hut: id }, fields: [id] } }
`)
	need := shape.Capture(w.shapes[0].Source, w.shapes)
	w.exec("SET GLOBAL log_output = 'TABLE'; TRUNCATE mysql.general_log; SET GLOBAL general_log = ON")
	_, err := w.src.Capture.Gaps(t.Context(), need)
	if err == nil {
		_, err = w.src.Capture.Status(t.Context())
	}
	if err == nil {
		_, err = w.src.Depth(t.Context())
	}
	if err == nil {
		_, err = w.src.Changes(t.Context(), 10)
	}
	if err != nil {
		t.Fatal(err)
	}
	w.exec("SET GLOBAL general_log = OFF")
	asked, err := w.src.Reader.(*Reader).db.texts(t.Context(),
		"SELECT DISTINCT argument FROM mysql.general_log WHERE argument LIKE 'SELECT%information_schema.%'")
	if err != nil || len(asked) < 6 {
		t.Fatal(len(asked), err)
	}
	for _, statement := range asked {
		plan, err := w.src.Reader.(*Reader).db.texts(t.Context(), "EXPLAIN "+statement[0])
		if err != nil {
			t.Fatal(err)
		}
		for _, step := range plan {
			if strings.Contains(fmt.Sprint(step), "Scanned all databases") && !strings.Contains(statement[0], ".TRIGGERS") {
				t.Errorf("all tables are opened by: %s", strings.Join(strings.Fields(statement[0]), " "))
			}
		}
	}
}

// Triggers run with the rights of who made them, so who comes after that user makes them again, before it is dropped;
// nothing is missed, and no write fails.
func TestAnotherUserTakesTheTriggersOver(t *testing.T) {
	w := newWorld(t, emptyTables, trails)
	need, capture := shape.Capture(w.shapes[0].Source, w.shapes), w.src.Feed.(*Feed).db.capture
	u, err := url.Parse(mariatest.URL(t))
	if err != nil {
		t.Fatal(err)
	}
	u.Path = w.src.Feed.(*Feed).db.name
	as := func(name string) *source.Source {
		w.exec(fmt.Sprintf("CREATE USER %[1]s IDENTIFIED BY 'x'; GRANT SELECT, TRIGGER ON %[2]s.* TO %[1]s; GRANT SELECT, INSERT, UPDATE, DELETE ON %[3]s.* TO %[1]s; GRANT PROCESS ON *.* TO %[1]s",
			name, u.Path, capture))
		t.Cleanup(func() { w.db.Exec("DROP USER IF EXISTS " + name) })
		u.User = url.UserPassword(name, "x")
		return open(t, u.String())
	}
	gaps := func(src *source.Source) string {
		t.Helper()
		list, err := src.Capture.Gaps(t.Context(), need)
		if err != nil {
			t.Fatal(err)
		}
		for _, g := range list {
			if !g.Safe || g.Deliberate || !strings.Contains(g.Reason, "writes would fail when that user is dropped") {
				t.Errorf("%+v", g)
			}
		}
		return fmt.Sprint(len(list))
	}
	first, second := as("first_warden"), as("second_warden")
	var seen []string
	for _, src := range []*source.Source{first, second, second} {
		seen = append(seen, gaps(src))
		if _, err := src.Capture.Install(t.Context(), "one", need); err != nil {
			t.Fatal(err)
		}
	}
	if all := fmt.Sprint(len(need)); strings.Join(seen, " ") != all+" "+all+" 0" {
		t.Errorf("gaps as the first, the second and the second user again: %v, of %d tables", seen, len(need))
	}
	w.exec("DROP USER first_warden")
	w.exec("INSERT INTO marks VALUES (5, 'five')")
	if got := w.noticed(1); len(got) != 1 {
		t.Error(got)
	}
}

// Where another table is put in the place of one, as tools do that change large tables while they are used, triggers go
// with the table that was there.
func TestAnotherTableInThePlaceOfOne(t *testing.T) {
	w := newWorld(t, shop, shopIndexes)
	need := shape.Capture(w.shapes[0].Source, w.shapes)
	w.exec("CREATE TABLE regions_new LIKE regions; INSERT INTO regions_new SELECT * FROM regions; RENAME TABLE regions TO regions_old, regions_new TO regions")
	gaps, err := w.src.Capture.Gaps(t.Context(), need)
	if err != nil || len(gaps) != 1 || gaps[0].Table.Name != "regions" || gaps[0].Safe || gaps[0].Deliberate || !strings.Contains(gaps[0].Reason, "regions_old now") {
		t.Errorf("%+v %v", gaps, err)
	}
	made, err := w.src.Capture.Install(t.Context(), "one", need)
	if err != nil || len(made) != 1 || made[0].Name != "regions" {
		t.Error(made, err)
	}
	if gaps, err := w.src.Capture.Gaps(t.Context(), need); len(gaps) > 0 || err != nil {
		t.Errorf("%+v %v", gaps, err)
	}
	w.exec("INSERT INTO regions (id, name) VALUES (77, 'r'); INSERT INTO regions_old (id, name) VALUES (78, 'old')")
	if got := w.noticed(2); len(got) != 1 || !strings.Contains(got[0], "insert regions 77") {
		t.Error(got)
	}
}

// A user who empties the journal takes changes away, so all tables are taken for changed; and numbers that begin again are
// read as any others.
func TestAJournalEmptiedByOthers(t *testing.T) {
	defer func(every, after time.Duration) { journal.WholeEvery, settleAfter = every, after }(journal.WholeEvery, settleAfter)
	journal.WholeEvery, settleAfter = 100*time.Millisecond, 0
	w := newWorld(t, emptyTables, trails)
	in := w.src.Feed.(*Feed).db.capture
	w.exec("INSERT INTO marks VALUES (1, 'a')")
	w.expect("insert marks 1")
	// seen reads until changes came that are wanted, or for a while.
	seen := func(wait time.Duration, want ...string) (out []string) {
		for deadline := time.Now().Add(wait); time.Now().Before(deadline); time.Sleep(10 * time.Millisecond) {
			changes, err := w.src.Changes(t.Context(), 1000)
			if source.FaultOf(err) == source.Superseded && err != nil {
				w.claim()
				w.src.Rewind()
				continue
			}
			if err != nil {
				t.Fatal(err)
			}
			var seqs []int64
			for _, c := range changes {
				out, seqs = append(out, strings.TrimSpace(fmt.Sprint(c.Op, " ", c.Table.Name, " ", strings.Join(c.Key, "|")))), append(seqs, c.Seq)
			}
			if err := w.src.Done(t.Context(), seqs); err != nil {
				t.Fatal(err)
			}
			if len(want) > 0 && !slices.ContainsFunc(want, func(one string) bool { return !slices.Contains(out, one) }) {
				return out
			}
		}
		if len(want) > 0 {
			t.Errorf("read %q, want %q", out, want)
		}
		return out
	}
	if got := seen(2 * storesEvery); len(got) > 0 {
		t.Errorf("nothing happened, but %q", got)
	}
	w.exec("INSERT INTO marks VALUES (2, 'a')")
	w.exec("TRUNCATE TABLE " + in + ".journal")
	w.exec("INSERT INTO marks VALUES (3, 'a')")
	seen(20*time.Second, "truncate marks", "insert marks 3")
	w.exec("ALTER TABLE " + in + ".journal AUTO_INCREMENT = 1000000")
	w.exec("INSERT INTO marks VALUES (4, 'a')")
	seen(20*time.Second, "insert marks 4")
	for w.src.Feed.(*Feed).cursor.Low() < 1000000 { // it takes a while to know that nothing comes below
		seen(100 * time.Millisecond)
	}
	w.exec("ALTER TABLE " + in + ".journal AUTO_INCREMENT = 10")
	for i := range 3 {
		w.exec(fmt.Sprintf("INSERT INTO marks VALUES (%d, 'a')", 5+i))
		seen(20*time.Second, fmt.Sprint("insert marks ", 5+i))
	}
	w.exec(fmt.Sprintf("ALTER TABLE %s.journal AUTO_INCREMENT = %d", in, int64(1)<<62)) // after very many years of use
	w.exec("INSERT INTO marks VALUES (8, 'a')")
	seen(20*time.Second, "insert marks 8")
	w.exec("INSERT INTO marks VALUES (9, 'a')")
	seen(20*time.Second, "insert marks 9")
}

// A session that locks captured tables writes to them while Pingo reads the journal and deletes from it.
func TestLockedTablesTakeWrites(t *testing.T) {
	w := newWorld(t, "CREATE TABLE huts (id int PRIMARY KEY, name varchar(50)); CREATE TABLE more LIKE huts; INSERT INTO huts VALUES (1, 'a')",
		"  huts: { engine: main, rows: paths.huts, fields: [name] }\n  more: { engine: main, rows: paths.more, fields: [name] }\n")
	feed := w.src.Feed.(*Feed)
	ctx, cancel := context.WithCancel(t.Context())
	noticed := 0
	var wg sync.WaitGroup
	wg.Go(func() {
		for ctx.Err() == nil {
			feed.Await(ctx, 20*time.Millisecond)
			if _, err := feed.Depth(t.Context()); err != nil {
				t.Error(err)
			}
			if _, err := feed.ChangesOf(t.Context(), shape.Ref{Schema: feed.db.name, Name: "huts"}, []string{"1"}); err != nil {
				t.Error(err)
			}
			feed.mu.Lock()
			feed.nextStill, feed.behind = time.Time{}, true // as while there is much to read
			feed.mu.Unlock()
		}
	})
	wg.Go(func() {
		for quiet := 0; quiet < 20; quiet++ {
			changes, err := feed.Changes(t.Context(), 1000)
			if err != nil {
				t.Error(err)
			}
			var seqs []int64
			for _, c := range changes {
				seqs = append(seqs, c.Seq)
			}
			if err := feed.Done(t.Context(), seqs); err != nil {
				t.Error(err)
			}
			noticed += len(changes)
			if ctx.Err() == nil || len(changes) > 0 {
				quiet = 0
			}
		}
	})
	conn, err := w.db.Conn(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	refused := map[string]int{}
	const rounds = 150
	for i := range rounds {
		for _, sql := range []string{
			"LOCK TABLES huts WRITE, more WRITE", fmt.Sprintf("UPDATE huts SET name = 'b%d'", i), "DELETE FROM huts", "INSERT INTO huts VALUES (1, 'c')", "INSERT INTO more SELECT * FROM huts", "DELETE FROM more", "UNLOCK TABLES",
		} {
			if _, err := conn.ExecContext(t.Context(), sql); err != nil {
				refused[err.Error()]++
			}
		}
	}
	cancel()
	wg.Wait()
	if len(refused) > 0 || noticed != 5*rounds {
		t.Errorf("refused: %v; %d changes were noticed, %d were made", refused, noticed, 5*rounds)
	}
}

// A key that cascades over two levels gives rows new keys, also where only its case changes.
func TestKeysThatCascadeOverTwoLevels(t *testing.T) {
	w := newWorld(t, `
		CREATE TABLE countries (code varchar(5) PRIMARY KEY);
		CREATE TABLE regions (country varchar(5), no int, PRIMARY KEY (country, no), FOREIGN KEY (country) REFERENCES countries (code) ON UPDATE CASCADE);
		CREATE TABLE cities (country varchar(5), region int, no int, name varchar(50), PRIMARY KEY (country, region, no), FOREIGN KEY (country, region) REFERENCES regions (country, no) ON UPDATE CASCADE)`,
		"  cities: { engine: main, rows: paths.cities, fields: [name] }\n")
	w.exec("INSERT INTO countries VALUES ('a'), ('b'); INSERT INTO regions VALUES ('a', 1), ('b', 1); INSERT INTO cities VALUES ('a', 1, 1, 'x'), ('b', 1, 1, 'y')")
	w.noticed(2)
	for _, code := range [][2]string{{"a", "c"}, {"c", "C"}} {
		w.exec("UPDATE countries SET code = ? WHERE code = ?", code[1], code[0])
		w.expect("update cities "+code[0]+"|1|1", "update cities "+code[1]+"|1|1")
		if docs := w.documents(w.shapes[0]); len(docs) != 2 || docs[code[1]+",1,1"] == "" && docs[code[1]+"|1|1"] == "" {
			t.Errorf("documents: %v", docs)
		}
	}
}

// Triggers cannot tell what a statement without a transaction keeps when it fails, so such tables are refused, or allowed
// with a sentence that says so.
func TestTablesWithoutTransactionsAreRefused(t *testing.T) {
	url := mariatest.URL(t)
	db := mariatest.Connect(t, url)
	mariatest.Exec(t, db, "CREATE TABLE a (id int PRIMARY KEY, name varchar(50)) ENGINE=MyISAM; CREATE TABLE b (id int PRIMARY KEY, name varchar(50)) ENGINE=Aria; CREATE TABLE c (id int PRIMARY KEY, name varchar(50)) ENGINE=MEMORY; CREATE TABLE d (id int PRIMARY KEY, name varchar(50))")
	for _, options := range []string{"", `{"tables_without_transactions": "allowed"}`} {
		src, err := Open(source.Config{URL: url, Options: []byte(options)})
		if err != nil {
			t.Fatal(err)
		}
		defer src.Close()
		for table, engine := range map[string]string{"a": "MyISAM", "b": "Aria", "c": "MEMORY", "d": ""} {
			shapes, findings := compiled(t, src, fmt.Sprintf("  x: { engine: main, rows: paths.%s, fields: [name] }\n", table))
			found := fmt.Sprint(findings)
			if refused := options == "" && engine != ""; refused != (len(findings) > 0) || refused && !strings.Contains(found, "is kept by "+engine) {
				t.Errorf("%s with %q: %s", table, options, found)
			}
			if options == "" {
				continue
			}
			advice, err := src.Capture.Advice(t.Context(), shape.Capture(shapes[0].Source, shapes), nil)
			if err != nil || slices.ContainsFunc(advice, func(a source.Advice) bool { return a.Kind == "engine" }) != (engine != "") {
				t.Errorf("%s: %+v %v", table, advice, err)
			}
		}
	}
}

// A session with the settings of a dump, or with a bound for joins, lets other sessions write, and can write itself.
func TestSessionsWithOddSettings(t *testing.T) {
	w := newWorld(t, `CREATE TABLE huts (id int PRIMARY KEY, name varchar(50)); CREATE TABLE more LIKE huts;
		CREATE TABLE areas (id int PRIMARY KEY); CREATE TABLE trails (id int PRIMARY KEY, area_id int, name varchar(50), FOREIGN KEY (area_id) REFERENCES areas (id) ON DELETE CASCADE)`,
		"  huts: { engine: main, rows: paths.huts, fields: [name] }\n  more: { engine: main, rows: paths.more, fields: [name] }\n  trails: { engine: main, rows: paths.trails, fields: [name] }\n")
	loader, err := w.db.Conn(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	defer loader.Close()
	mariatest.Exec(t, loader, "SET unique_checks = 0, foreign_key_checks = 0; START TRANSACTION; INSERT INTO huts VALUES (1, 'a')")
	w.exec("SET STATEMENT innodb_lock_wait_timeout = 1, lock_wait_timeout = 1 FOR INSERT INTO more VALUES (1, 'b')")
	mariatest.Exec(t, loader, "COMMIT")
	w.expect("insert huts 1", "insert more 1")
	w.exec("INSERT INTO areas VALUES (1); INSERT INTO trails SELECT seq, 1, 'x' FROM seq_1_to_50; INSERT INTO areas VALUES (2)")
	w.noticed(50)
	w.exec("SET SESSION sql_big_selects = 0, SESSION max_join_size = 3; DELETE FROM areas WHERE id = 1; SET SESSION sql_big_selects = 1, SESSION max_join_size = DEFAULT")
	w.expect("truncate trails")
	if d, err := w.src.Depth(t.Context()); err != nil || d.Changes != 0 {
		t.Errorf("%+v %v", d, err)
	}
}
