package outbox_test

import (
	"context"
	"database/sql"
	"fmt"
	"maps"
	"math/rand/v2"
	"net/url"
	"os"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/jackc/pgx/v5/stdlib"

	"pingo/internal/core/change"
	"pingo/internal/core/definition"
	"pingo/internal/core/document"
	"pingo/internal/core/shape"
	"pingo/internal/kinds"
	"pingo/internal/lab/mariatest"
	"pingo/internal/lab/pgtest"
	"pingo/internal/records"
	"pingo/internal/source"
	"pingo/internal/source/sourcetest"
)

func TestMain(m *testing.M) {
	code := m.Run()
	if err := mariatest.Stop(); err != nil {
		fmt.Fprintln(os.Stderr, err)
		code = 1
	}
	if err := pgtest.Stop(); err != nil {
		fmt.Fprintln(os.Stderr, err)
		code = 1
	}
	os.Exit(code)
}

// world is a database with an outbox.
type world struct {
	*testing.T
	kind, url, records string
	db                 *sql.DB
	src                *source.Source
}

// everywhere runs a test on each kind of database, with both ends that rows may have.
func everywhere(t *testing.T, test func(w *world, done string)) {
	for _, kind := range []string{"postgres", "mariadb"} {
		for _, done := range []string{"delete", "mark"} {
			t.Run(kind+" "+done, func(t *testing.T) {
				w := newIn(t, kind)
				test(w, done)
			})
		}
	}
}

// newIn is a world in a kind of database.
func newIn(t *testing.T, kind string) *world {
	t.Helper()
	w := &world{T: t, kind: kind, records: pgtest.URL(t)}
	rec, err := records.Open(t.Context(), w.records)
	if err != nil {
		t.Fatal(err)
	}
	rec.Close()
	if kind == "mariadb" {
		w.url = mariatest.URL(t)
		w.db = mariatest.Connect(t, w.url)
	} else {
		w.url = pgtest.URL(t)
		pool, err := pgxpool.New(t.Context(), w.url)
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(pool.Close)
		w.db = stdlib.OpenDBFromPool(pool)
	}
	return w
}

func (w *world) open(options string) *source.Source {
	w.Helper()
	src, err := kinds.All().OpenSource(w.kind, source.Config{
		Name: "paths", URL: w.url, Capture: "outbox", Options: []byte(options), Records: w.records, ConnectTimeout: 5 * time.Second,
	})
	if err != nil {
		w.Fatal(err)
	}
	w.Cleanup(src.Close)
	return src
}

func (w *world) exec(statement string, args ...any) {
	w.Helper()
	if w.kind == "postgres" {
		for i := 1; strings.Contains(statement, "?"); i++ {
			statement = strings.Replace(statement, "?", fmt.Sprintf("$%d", i), 1)
		}
	}
	if _, err := w.db.ExecContext(w.Context(), statement, args...); err != nil {
		w.Fatal(statement, err)
	}
}

func (w *world) count(statement string) (n int) {
	w.Helper()
	if err := w.db.QueryRowContext(w.Context(), statement).Scan(&n); err != nil {
		w.Fatal(err)
	}
	return n
}

// start opens the source, makes the outbox as capture show prints it, and claims it.
func (w *world) start(options string, tables ...string) {
	w.Helper()
	for _, t := range append(tables, "CREATE TABLE IF NOT EXISTS trails (id int PRIMARY KEY)") { // which rows name
		w.exec(t)
	}
	w.src = w.open(options)
	if err := w.src.Capture.Remove(w.Context()); err != nil {
		w.Fatal(err)
	}
	if _, err := w.src.Capture.Install(w.Context(), "one", nil); err == nil {
		w.Error("an outbox that is not there is taken")
	}
	script, err := w.src.Capture.Script(w.Context(), nil)
	if err != nil {
		w.Fatal(err)
	}
	create, _, _ := strings.Cut(script, "-- What Pingo needs.")
	for statement := range strings.SplitSeq(create, ";\n") {
		if strings.Contains(statement, "CREATE") {
			w.exec(statement)
		}
	}
	if missing, err := w.src.Capture.MissingRights(w.Context(), nil); err != nil || len(missing) > 0 {
		w.Error(missing, err)
	}
}

func (w *world) claim() {
	w.Helper()
	found, err := w.src.Claimed(w.Context())
	if err != nil {
		w.Fatal(err)
	}
	err = w.src.Claim(
		w.Context(),
		found,
		change.Claim{
			Service: "one",
			Holder:  "A",
			Epoch:   found.Epoch + 1,
			Mark:    found.Mark + 1,
			History: found.History,
		},
	)
	if err != nil {
		w.Fatal(err)
	}
}

func (w *world) changes() (words []string, seqs []int64) {
	w.Helper()
	list, err := w.src.Changes(w.Context(), 1000)
	if err != nil {
		w.Fatal(err)
	}
	for _, c := range list {
		words = append(words, fmt.Sprintf("%s %s %s", c.Op, c.Table.Name, strings.Join(c.Key, "|")))
		seqs = append(seqs, c.Seq)
	}
	slices.Sort(words)
	return words, seqs
}

func (w *world) unreadable() (out []string) {
	w.Helper()
	list, err := w.src.Intake.Receipts(w.Context(), 0, 100, "unreadable")
	if err != nil {
		w.Fatal(err)
	}
	for _, r := range list {
		out = append(out, r.Record+" "+r.Key+": "+r.Reason)
	}
	slices.Sort(out)
	return out
}

// A row without a body says that a row of a table changed. One that says nothing is passed over
// with a receipt; late commits come late, and what is done is deleted or marked.
func TestNotices(t *testing.T) {
	everywhere(t, func(w *world, done string) {
		w.start(
			fmt.Sprintf(
				`{"outbox": {"table": "outbox", "operation": "op", "operations": {"created": [1], "updated": [2], "deleted": ["3"]}, "at": "at", "names": {"trail": "trails"}, "done": %q}}`,
				done,
			),
			"CREATE TABLE stages (id int PRIMARY KEY)",
		)
		insert := "INSERT INTO outbox (record, record_key, op) VALUES (?, ?, ?)"
		if _, err := w.src.Changes(w.Context(), 10); source.FaultOf(err) != source.Superseded {
			w.Errorf("changes that no one has claimed: %v", err)
		}
		w.claim()
		w.exec(insert, "trail", "7", "1")
		w.exec(insert, "stages", `[7, "a,b"]`, "3")
		w.exec(insert, "stages", "8", "9")
		w.exec(insert, "stages", "", "2")
		w.exec(insert, "trials", "1", "2")
		late, err := w.db.BeginTx(w.Context(), nil)
		if err != nil {
			w.Fatal(err)
		}
		if _, err := late.ExecContext(w.Context(), "INSERT INTO outbox (record, record_key, op) VALUES ('trail', 'late', '2')"); err != nil {
			w.Fatal(err)
		}
		w.exec(insert, "trail", "after", "2")
		got, seqs := w.changes()
		if want := []string{"delete stages 7|a,b", "insert trails 7", "update trails after"}; !slices.Equal(
			got,
			want,
		) {
			w.Errorf("%q, want %q", got, want)
		}
		if err := late.Commit(); err != nil {
			w.Fatal(err)
		}
		var later []string
		for deadline := time.Now().Add(5 * time.Second); len(later) == 0 && time.Now().Before(deadline); time.Sleep(5 * time.Millisecond) {
			var more []int64
			later, more = w.changes()
			seqs = append(seqs, more...)
		}
		if !slices.Equal(later, []string{"update trails late"}) {
			w.Errorf("late: %q", later)
		}
		if d, err := w.src.Depth(w.Context()); err != nil || d.Changes != 4 || d.Oldest == nil ||
			time.Since(*d.Oldest) > time.Hour {
			w.Errorf("%+v %v", d, err)
		}
		w.src.Rewind()
		if again, _ := w.changes(); len(again) != 4 {
			w.Errorf("after a rewind: %q", again)
		}
		if err := w.src.Done(w.Context(), seqs); err != nil {
			w.Fatal(err)
		}
		if more, _ := w.changes(); len(more) > 0 {
			w.Errorf("what is done comes again: %q", more)
		}
		if left := w.count("SELECT count(*) FROM outbox"); left != map[string]int{"delete": 0, "mark": 7}[done] {
			w.Errorf("%d rows are left", left)
		}
		want := []string{`trials 1: the record "trials" is no table of the database: correct it, or map it to a table with names`, `stages 8: the operation "9" is none that operations names`, `stages : the key is missing`}
		slices.Sort(want)
		if got := w.unreadable(); !slices.Equal(got, want) {
			w.Errorf("unreadable: %q", got)
		}
		advice, err := w.open(`{"outbox": {"table": "outbox", "id": "id"}}`).Capture.Advice(w.Context(), nil, nil)
		words := fmt.Sprint(advice)
		if err != nil || !strings.Contains(words, "does not name the column op, so every row counts as an update") || !strings.Contains(words, "To use it, write at: at at outbox") {
			w.Errorf("columns that are not named: %s %v", words, err)
		}
		other := w.open(`{"outbox": {"table": "outbox"}}`)
		found, err := other.Claimed(w.Context())
		if err != nil {
			w.Fatal(err)
		}
		if err := other.Claim(w.Context(), found, change.Claim{Service: "one", Holder: "B", Epoch: 9, Mark: found.Mark + 1}); err != nil {
			w.Fatal(err)
		}
		if err := w.src.Done(w.Context(), seqs); source.FaultOf(err) != source.Superseded {
			w.Errorf("a process that was overtaken settles rows: %v", err)
		}
	})
}

// What is done is settled while a writer among it has not committed yet.
func TestSettlingWaitsForNoWriter(t *testing.T) {
	everywhere(t, func(w *world, done string) {
		w.start(fmt.Sprintf(`{"outbox": {"table": "outbox", "done": %q}}`, done))
		w.claim()
		const insert, half = "INSERT INTO outbox (record, record_key) VALUES ('trails', ?)", 100
		var late *sql.Tx
		for i := range 2 * half {
			if i == half {
				var err error
				if late, err = w.db.BeginTx(w.Context(), nil); err != nil {
					w.Fatal(err)
				}
				if _, err := late.ExecContext(w.Context(), "INSERT INTO outbox (record, record_key) VALUES ('trails', 'late')"); err != nil {
					w.Fatal(err)
				}
			}
			w.exec(insert, strconv.Itoa(i))
		}
		got, seqs := w.changes()
		if len(got) != 2*half {
			w.Errorf("%d changes", len(got))
		}
		if err := w.src.Done(w.Context(), seqs); err != nil {
			w.Fatal(err)
		}
		if err := late.Commit(); err != nil {
			w.Fatal(err)
		}
		w.src.Rewind()
		if left, _ := w.changes(); !slices.Equal(left, []string{"update trails late"}) {
			w.Errorf("left: %q", left)
		}
	})
}

// Rows with bodies become records, also when many writers commit late and in any order, the reader
// is stopped between any two steps, and rows in between say nothing.
func TestBodies(t *testing.T) {
	everywhere(t, func(w *world, done string) {
		options := fmt.Sprintf(
			`{"outbox": {"table": "outbox", "operation": "op", "body": "body", "at": "at", "done": %q, "records": {"trails": {"schema": {"properties": {"n": {"type": "integer"}, "name": {"type": "string"}}}}}}}`,
			done,
		)
		w.start(options, "CREATE TABLE trails (id int PRIMARY KEY, n int NOT NULL)")
		if _, err := w.src.Capture.Install(w.Context(), "one", nil); err != nil {
			w.Fatal(err)
		}
		s := compiled(w)
		if _, err := w.src.Capture.Install(w.Context(), "one", shape.Capture(s.Source, []*shape.Shape{s})); err != nil {
			w.Fatal(err)
		}
		w.claim()
		const trails, writers, each = 12, 4, 40
		for id := range trails {
			w.exec(fmt.Sprintf("INSERT INTO trails VALUES (%d, 0)", id))
		}
		var wg sync.WaitGroup
		for n := range writers {
			wg.Go(func() {
				r := rand.New(rand.NewPCG(3, uint64(n)))
				for range each {
					write(w, r, r.IntN(trails))
				}
			})
		}
		finished := make(chan struct{})
		go func() { wg.Wait(); close(finished) }()
		r := rand.New(rand.NewPCG(4, 4))
		for quiet := 0; quiet < 20; {
			switch r.IntN(6) {
			case 0:
				w.src.Rewind()
			case 1: // another process goes on
				w.src = w.open(options)
				w.claim()
			}
			if _, err := w.src.Changes(w.Context(), 50); err != nil {
				w.Fatal(err)
			}
			select {
			case <-finished:
				quiet++
			default:
			}
		}
		want := map[string]string{}
		rows, err := w.db.QueryContext(w.Context(), "SELECT id, n FROM trails WHERE n >= 0")
		if err != nil {
			w.Fatal(err)
		}
		defer rows.Close()
		for rows.Next() {
			var id, n int
			if err := rows.Scan(&id, &n); err != nil {
				w.Fatal(err)
			}
			if n > 0 {
				want[fmt.Sprint(id)] = fmt.Sprintf(`{"n":%d,"name":"trail %d"}`, n, id)
			}
		}
		if got := documents(w, s); !maps.Equal(got, want) {
			w.Errorf("%v\nwant %v", got, want)
		}
		for _, reason := range w.unreadable() {
			if !strings.Contains(reason, "the body is no JSON object") {
				w.Error(reason)
			}
		}
		if len(w.unreadable()) == 0 ||
			w.count(
				"SELECT count(*) FROM outbox WHERE "+map[string]string{"delete": "id > 0", "mark": "done_at IS NULL"}[done],
			) != 0 {
			w.Errorf("%q; %d rows are left", w.unreadable(), w.count("SELECT count(*) FROM outbox"))
		}
	})
}

// write changes a trail and writes a row for that, in one transaction that may be rolled back.
func write(w *world, r *rand.Rand, id int) {
	tx, err := w.db.BeginTx(w.Context(), nil)
	if err != nil {
		w.Error(err)
		return
	}
	defer tx.Rollback()
	exec := func(statement string) {
		if _, err := tx.ExecContext(w.Context(), statement); err != nil {
			w.Errorf("%s: %v", statement, err)
		}
	}
	n := r.IntN(1000) + 1
	op, body := "updated", fmt.Sprintf(`{"n": %d, "name": "trail %d"}`, n, id)
	switch r.IntN(8) {
	case 0:
		op, n = "deleted", -1
	case 1:
		exec(`INSERT INTO outbox (record, record_key, op, body) VALUES ('trails', 'poison', 'updated', '[1]')`)
	}
	exec(fmt.Sprintf("UPDATE trails SET n = %d WHERE id = %d", n, id))
	exec(
		fmt.Sprintf(
			"INSERT INTO outbox (record, record_key, op, body) VALUES ('trails', '%d', '%s', '%s')",
			id,
			op,
			body,
		),
	)
	time.Sleep(time.Duration(r.IntN(10)) * time.Millisecond)
	if r.IntN(6) == 0 {
		return
	}
	if err := tx.Commit(); err != nil {
		w.Error(err)
	}
}

func compiled(w *world) *shape.Shape {
	w.Helper()
	text := "sources: { paths: { kind: mariadb, url: \"mariadb://u@h/d\" } }\nengines: { main: { kind: opensearch, url: \"http://h\" } }\nindexes: { trails: { engine: main, rows: paths.trails, fields: [n, name] } }\n"
	def, findings := definition.Parse([]definition.File{{Name: "d.yaml", Text: text}}, kinds.All().Language(), nil)
	if len(findings) > 0 {
		w.Fatal(findings)
	}
	s, findings, err := source.Compile(w.Context(), def.Indexes[0], source.Only(w.src))
	if err != nil {
		w.Fatal(err)
	}
	if len(findings) > 0 {
		w.Fatal(findings)
	}
	return s
}

func documents(w *world, s *shape.Shape) map[string]string {
	w.Helper()
	set := document.NewSet(s.Trees[0])
	if err := w.src.ReadRange(w.Context(), set, nil, nil); err != nil {
		w.Fatal(err)
	}
	return sourcetest.Documents(w, set)
}

// What capture show prints for an outbox is all that a user needs to follow it, on both databases.
func TestThePrintedGrantsAreEnough(t *testing.T) {
	for _, kind := range []string{"postgres", "mariadb"} {
		for _, done := range []string{"delete", "mark"} {
			t.Run(kind+" "+done, func(t *testing.T) {
				w := newIn(t, kind)
				schema := "public"
				w.exec("CREATE TABLE trails (id int PRIMARY KEY, name varchar(50))")
				w.exec("INSERT INTO trails VALUES (1, 'Ridge')")
				w.exec("CREATE TABLE hidden (id int PRIMARY KEY)")
				u, err := url.Parse(w.url)
				if err != nil {
					t.Fatal(err)
				}
				user := "guest_" + kind + "_" + done
				if kind == "mariadb" {
					schema = strings.TrimPrefix(u.Path, "/")
					w.exec("CREATE USER " + user + " IDENTIFIED BY 'x'")
				} else {
					w.exec("CREATE ROLE " + user + " LOGIN PASSWORD 'x'")
				}
				admin, address := w.url, *u
				address.User = url.UserPassword(user, "x")
				w.url = address.String()
				src := w.open(fmt.Sprintf(`{"outbox": {"table": "outbox", "done": %q}}`, done))
				need := []shape.Captured{{Table: shape.Ref{Schema: schema, Name: "trails"}, Key: []string{"id"}, Root: true, Watch: []string{"id", "name"}}}
				script, err := src.Capture.Script(t.Context(), need)
				if err != nil {
					t.Fatal(err)
				}
				for statement := range strings.SplitSeq(script, ";\n") {
					if strings.TrimSpace(statement) != "" {
						w.exec(statement)
					}
				}
				src.Close()
				src = w.open(fmt.Sprintf(`{"outbox": {"table": "outbox", "done": %q}}`, done)) // sessions keep the rights they began with
				if missing, err := src.Capture.MissingRights(t.Context(), need); err != nil || len(missing) > 0 {
					t.Errorf("missing: %q %v", missing, err)
				}
				if _, err := src.Capture.Install(t.Context(), "one", need); err != nil {
					t.Fatal(err)
				}
				now, err := src.Claimed(t.Context())
				if err == nil {
					err = src.Claim(t.Context(), now, change.Claim{Service: "one", Holder: "A", Epoch: 1, Mark: 1})
				}
				if err != nil {
					t.Fatal(err)
				}
				w.exec("INSERT INTO outbox (record, record_key) VALUES ('trails', '1')")
				var seqs []int64
				for deadline := time.Now().Add(10 * time.Second); len(seqs) == 0 && time.Now().Before(deadline); time.Sleep(10 * time.Millisecond) {
					changes, err := src.Changes(t.Context(), 100)
					if err != nil {
						t.Fatal(err)
					}
					for _, c := range changes {
						seqs = append(seqs, c.Seq)
					}
				}
				if err := src.Done(t.Context(), seqs); err != nil || len(seqs) != 1 {
					t.Errorf("%v %v", seqs, err)
				}
				facts, err := src.Facts(t.Context(), []string{"trails", "hidden"}, nil)
				if err != nil || facts.Tables["trails"] == nil || facts.Tables["hidden"] != nil {
					t.Errorf("%v %v", facts.Tables, err)
				}
				src.Close()
				w.url = admin
				if kind == "mariadb" {
					w.exec("DROP USER " + user)
				} else {
					w.exec("DROP OWNED BY " + user)
					w.exec("DROP ROLE " + user)
				}
			})
		}
	}
}

// A trigger, or a view in the place of the outbox, would run code of its owner with the rights of Pingo's user when rows
// are deleted or marked.
func TestCodeOfOthersIsNotRun(t *testing.T) {
	const noted = "LANGUAGE plpgsql AS $$BEGIN INSERT INTO public.ran VALUES (current_user); RETURN NULL; END$$"
	before := map[string][]string{
		"postgres": {
			"CREATE TABLE public.ran (who text)",
			"CREATE FUNCTION public.trap() RETURNS trigger " + noted, "ALTER FUNCTION public.trap() OWNER TO mallory",
			"CREATE FUNCTION public.trapped(text) RETURNS boolean " + noted, "ALTER FUNCTION public.trapped(text) OWNER TO mallory",
		},
		"mariadb": {"CREATE TABLE ran (who text)"},
	}
	const partitioned = "ALTER TABLE public.outbox RENAME TO kept; CREATE TABLE public.outbox (LIKE public.kept) PARTITION BY RANGE (id); ALTER TABLE public.outbox ATTACH PARTITION public.kept DEFAULT"
	traps := map[string]map[string][]string{
		"postgres": {
			"trigger":                {"CREATE TRIGGER t AFTER DELETE OR UPDATE ON public.outbox FOR EACH ROW EXECUTE FUNCTION public.trap()"},
			"trigger of a partition": {partitioned, "CREATE TRIGGER t AFTER DELETE OR UPDATE ON public.kept FOR EACH ROW EXECUTE FUNCTION public.trap()"},
			"rule":                   {"CREATE RULE t AS ON DELETE TO public.outbox DO ALSO INSERT INTO public.ran SELECT current_user", "CREATE RULE u AS ON UPDATE TO public.outbox DO ALSO INSERT INTO public.ran SELECT current_user"},
			"view":                   {"ALTER TABLE public.outbox RENAME TO kept", "CREATE VIEW public.outbox AS SELECT * FROM public.kept WHERE public.trapped(record)"},
			"constraint":             {"ALTER TABLE public.outbox ADD CHECK (public.trapped(record)) NOT VALID"},
		},
		"mariadb": {
			"view": {
				"RENAME TABLE outbox TO kept",
				"CREATE FUNCTION trapped(s text) RETURNS int DETERMINISTIC SQL SECURITY INVOKER BEGIN INSERT INTO ran VALUES (current_user()); RETURN 1; END",
				"CREATE SQL SECURITY INVOKER VIEW outbox AS SELECT * FROM kept WHERE trapped(record) = 1",
			},
		},
	}
	for kind, named := range traps {
		for name, statements := range named {
			for _, done := range []string{"delete", "mark"} {
				if name == "constraint" && done == "delete" {
					continue // nothing is checked then
				}
				t.Run(kind+" "+name+" "+done, func(t *testing.T) {
					w := newIn(t, kind)
					if kind == "postgres" {
						w.exec("CREATE ROLE mallory")
						t.Cleanup(func() { w.db.ExecContext(context.Background(), "DROP OWNED BY mallory CASCADE; DROP ROLE mallory") })
					}
					w.start(fmt.Sprintf(`{"outbox": {"table": "outbox", "done": %q}}`, done))
					w.claim()
					w.exec("INSERT INTO outbox (record, record_key) VALUES ('trails', '1')")
					changes, err := w.src.Changes(t.Context(), 100)
					if err != nil || len(changes) != 1 {
						t.Fatal(changes, err)
					}
					for _, statement := range append(before[kind], statements...) {
						w.exec(statement)
					}
					err = w.src.Done(t.Context(), []int64{changes[0].Seq})
					if n := w.count("SELECT count(*) FROM ran"); err == nil || n > 0 {
						t.Errorf("%d runs, %v", n, err)
					}
					if _, err := w.src.Capture.Install(t.Context(), "one", nil); err == nil {
						t.Error("an apply takes it")
					}
					if missing, err := w.src.Capture.MissingRights(t.Context(), nil); err == nil {
						t.Errorf("a check takes it, or takes it for a missing right: %q", missing)
					}
				})
			}
		}
	}
}

// Numbers begin again, are below 1, or come in blocks that sessions take: what was written last is what a record is, and
// a process that was overtaken moves nothing.
func TestNumbersThatGoBack(t *testing.T) {
	everywhere(t, func(w *world, done string) {
		options := fmt.Sprintf(`{"outbox": {"table": "outbox", "operation": "op", "body": "body", "at": "at", "done": %q, "records": {"trails": {"schema": {"properties": {"n": {"type": "integer"}, "name": {"type": "string"}}}}}}}`, done)
		w.start(options)
		s := compiled(w)
		if _, err := w.src.Capture.Install(w.Context(), "one", shape.Capture(s.Source, []*shape.Shape{s})); err != nil {
			w.Fatal(err)
		}
		w.claim()
		write := func(id, key, n int) {
			w.Helper()
			system := map[string]string{"postgres": "OVERRIDING SYSTEM VALUE"}[w.kind]
			w.exec(fmt.Sprintf("INSERT INTO outbox (id, record, record_key, op, body) %s VALUES (%d, 'trails', '%d', 'updated', '{\"n\": %d}')", system, id, key, n))
		}
		expect := func(want ...string) {
			w.Helper()
			var seqs []int64
			for deadline := time.Now().Add(5 * time.Second); w.count("SELECT count(*) FROM outbox"+map[string]string{"mark": " WHERE done_at IS NULL"}[done]) > 0 && time.Now().Before(deadline); {
				_, more := w.changes()
				seqs = append(seqs, more...)
			}
			_, more := w.changes()
			if err := w.src.Done(w.Context(), append(seqs, more...)); err != nil {
				w.Fatal(err)
			}
			var got []string
			for key, text := range documents(w, s) {
				got = append(got, key+" "+text)
			}
			if slices.Sort(got); !slices.Equal(got, want) {
				w.Errorf("documents %q, want %q", got, want)
			}
		}
		write(500, 1, 1)
		write(501, 2, 1)
		expect(`1 {"n":1,"name":null}`, `2 {"n":1,"name":null}`)
		w.exec("DELETE FROM outbox")
		write(3, 1, 2)
		expect(`1 {"n":2,"name":null}`, `2 {"n":1,"name":null}`)
		write(-7, 1, 3)
		expect(`1 {"n":3,"name":null}`, `2 {"n":1,"name":null}`)
		write(700, 2, 2)
		write(600, 2, 3) // of a session that took its numbers earlier
		expect(`1 {"n":3,"name":null}`, `2 {"n":3,"name":null}`)
		w.exec("DELETE FROM outbox")
		write(700, 2, 4)
		expect(`1 {"n":3,"name":null}`, `2 {"n":4,"name":null}`)

		write(800, 2, 5)
		other := w.open(options)
		found, err := other.Claimed(w.Context())
		if err == nil {
			err = other.Claim(w.Context(), found, change.Claim{Service: "one", Holder: "B", Epoch: found.Epoch + 1, Mark: found.Mark + 1, History: found.History})
		}
		if err != nil {
			w.Fatal(err)
		}
		if _, err := w.src.Changes(w.Context(), 10); source.FaultOf(err) != source.Superseded {
			w.Errorf("a process that was overtaken reads: %v", err)
		}
		if left := w.count("SELECT count(*) FROM outbox WHERE id = 800" + map[string]string{"mark": " AND done_at IS NULL"}[done]); left != 1 {
			w.Error("a process that was overtaken moves rows")
		}
	})
}
