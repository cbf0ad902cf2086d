package postgres

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"pingo/internal/core/shape"
	"pingo/internal/lab/pgtest"
	"pingo/internal/source"
	"pingo/internal/source/sourcetest"
)

// shop is what the application has before it changes its schema.
const shop = `
	CREATE TYPE grade AS ENUM ('easy', 'hard');
	CREATE DOMAIN positive AS int CHECK (VALUE > 0);
	CREATE TABLE regions (id int PRIMARY KEY, name text, note text);
	CREATE TABLE huts (id int PRIMARY KEY, name varchar(40), beds int, region_id int REFERENCES regions ON DELETE CASCADE ON UPDATE CASCADE,
		level grade DEFAULT 'easy', size positive DEFAULT 1, facts jsonb, visits int DEFAULT 0, since date DEFAULT '2031-06-01');
	CREATE TABLE stays (hut int, night date, guests int, PRIMARY KEY (hut, night));
	CREATE TABLE loose (hut int, word text);
	CREATE TABLE logs (at date, id int, word text, PRIMARY KEY (at, id)) PARTITION BY RANGE (at);
	CREATE TABLE logs_1 PARTITION OF logs FOR VALUES FROM ('2031-01-01') TO ('2032-01-01');
	CREATE TABLE logs_2 PARTITION OF logs FOR VALUES FROM ('2032-01-01') TO ('2033-01-01');
	CREATE TABLE logs_3 (at date NOT NULL, id int NOT NULL, word text, PRIMARY KEY (at, id));
	CREATE TABLE base (id int PRIMARY KEY, word text);
	CREATE TABLE derived (extra int) INHERITS (base);
	INSERT INTO regions SELECT i, 'region ' || i FROM generate_series(1, 5) i;
	INSERT INTO huts (id, name, beds, region_id) SELECT i, 'hut ' || i, i, 1 + i % 5 FROM generate_series(1, 50) i;
	INSERT INTO stays SELECT i, '2031-07-01', 2 FROM generate_series(1, 20) i;
	INSERT INTO loose SELECT i, 'w' FROM generate_series(1, 20) i;
	INSERT INTO logs SELECT date '2031-01-01' + i * 20, i, 'l' FROM generate_series(1, 30) i;
	INSERT INTO logs_3 VALUES ('2033-05-01', 99, 'x');
	INSERT INTO base SELECT i, 'b' FROM generate_series(1, 10) i;
	INSERT INTO derived SELECT i, 'd', i FROM generate_series(11, 20) i`

// shopNeed is what is captured of it: for each table, every column but huts.visits and regions.note.
func shopNeed() []shape.Captured {
	need := func(table string, key, links []string, watch ...string) shape.Captured {
		c := captured(table, key, watch, links)
		c.Groups = [][]string{}
		for _, name := range watch {
			c.Groups = append(c.Groups, []string{name})
		}
		return c
	}
	return []shape.Captured{
		need("regions", []string{"id"}, nil, "id", "name"),
		need("huts", []string{"id"}, []string{"region_id"}, "beds", "facts", "id", "level", "name", "region_id", "since", "size"),
		need("stays", []string{"hut", "night"}, []string{"hut"}, "guests", "hut", "night"),
		need("loose", nil, []string{"hut"}, "hut", "word"),
		need("logs", []string{"at", "id"}, nil, "at", "id", "word"),
		need("base", []string{"id"}, nil, "id", "word"),
	}
}

// migrations are what applications, their migration tools and their operators do to tables. Each is one
// transaction; those with ; in front run statement by statement, since they must.
var migrations = []string{
	// columns
	"ALTER TABLE huts ALTER COLUMN beds TYPE bigint",
	"ALTER TABLE huts ALTER COLUMN name TYPE text",
	"ALTER TABLE huts ALTER COLUMN beds TYPE numeric(8,2) USING beds / 2.0",
	"ALTER TABLE huts ALTER COLUMN id TYPE bigint",
	"ALTER TABLE huts ALTER COLUMN name TYPE text USING upper(name)",
	"ALTER TABLE logs ALTER COLUMN word TYPE text USING upper(word)",
	"ALTER TABLE huts ALTER COLUMN since TYPE timestamptz",
	"ALTER TABLE huts DROP COLUMN facts",
	"ALTER TABLE huts ADD COLUMN facts jsonb DEFAULT '{}'",
	"ALTER TABLE huts DROP COLUMN visits, ADD COLUMN stars int NOT NULL DEFAULT 3",
	"ALTER TABLE huts RENAME COLUMN beds TO places",
	"ALTER TABLE huts RENAME COLUMN places TO beds",
	"ALTER TABLE huts RENAME COLUMN name TO kept; ALTER TABLE huts ADD COLUMN name text; UPDATE huts SET name = upper(kept); ALTER TABLE huts DROP COLUMN kept",
	"ALTER TABLE huts ALTER COLUMN name SET NOT NULL",
	"ALTER TABLE huts ALTER COLUMN name DROP NOT NULL, ALTER COLUMN name SET DEFAULT 'new'",
	"ALTER TABLE huts ALTER COLUMN name SET STORAGE EXTERNAL, ALTER COLUMN name SET STATISTICS 50",
	"ALTER TABLE huts ADD COLUMN label text GENERATED ALWAYS AS ('hut ' || id) STORED",
	"ALTER TABLE huts DROP COLUMN label",
	"ALTER TABLE huts ALTER COLUMN region_id DROP DEFAULT",
	// types
	"ALTER TYPE grade ADD VALUE 'mad'",
	"ALTER TYPE grade RENAME VALUE 'easy' TO 'plain'",
	"CREATE TYPE grade2 AS ENUM ('plain', 'hard', 'mad'); ALTER TABLE huts ALTER level DROP DEFAULT, ALTER level TYPE grade2 USING level::text::grade2; DROP TYPE grade",
	"ALTER DOMAIN positive DROP CONSTRAINT positive_check",
	"ALTER TABLE huts ALTER COLUMN size TYPE int; DROP DOMAIN positive",
	"ALTER TABLE loose ALTER COLUMN word TYPE jsonb USING to_jsonb(word)",
	// keys, constraints, indexes
	"ALTER TABLE stays DROP CONSTRAINT stays_pkey; ALTER TABLE stays ADD COLUMN id int GENERATED ALWAYS AS IDENTITY PRIMARY KEY",
	"ALTER TABLE stays ADD CONSTRAINT once UNIQUE (hut, night), ADD CHECK (guests < 1000) NOT VALID",
	"ALTER TABLE huts DROP CONSTRAINT huts_region_id_fkey",
	"ALTER TABLE huts ADD CONSTRAINT in_region FOREIGN KEY (region_id) REFERENCES regions (id) ON DELETE SET NULL",
	";CREATE INDEX CONCURRENTLY huts_beds ON huts (beds);REINDEX TABLE CONCURRENTLY huts;DROP INDEX CONCURRENTLY huts_beds",
	"ALTER TABLE loose REPLICA IDENTITY FULL",
	"CLUSTER huts USING huts_pkey",
	";VACUUM FULL huts",
	"ALTER TABLE loose SET UNLOGGED; ALTER TABLE loose SET LOGGED",
	"ALTER TABLE huts SET (fillfactor = 70), ENABLE ROW LEVEL SECURITY",
	// views, rules, triggers, functions
	"CREATE VIEW big_huts AS SELECT id, name FROM huts WHERE beds > 5; DROP VIEW big_huts; CREATE MATERIALIZED VIEW big_huts AS SELECT id, name FROM huts",
	"CREATE FUNCTION shout() RETURNS trigger LANGUAGE plpgsql AS $$BEGIN NEW.name := NEW.name || '!'; RETURN NEW; END$$; CREATE TRIGGER shout BEFORE UPDATE ON huts FOR EACH ROW EXECUTE FUNCTION shout()",
	"DROP TRIGGER shout ON huts; DROP FUNCTION shout",
	"CREATE RULE keep AS ON DELETE TO regions DO INSTEAD NOTHING",
	"DROP RULE keep ON regions",
	// tables
	"ALTER TABLE regions RENAME TO areas; ALTER TABLE areas RENAME TO regions",
	"CREATE TABLE regions_new (LIKE regions INCLUDING ALL); INSERT INTO regions_new SELECT * FROM regions; ALTER TABLE huts DROP CONSTRAINT in_region; DROP TABLE regions; ALTER TABLE regions_new RENAME TO regions",
	"CREATE SCHEMA kept; ALTER TABLE loose SET SCHEMA kept; ALTER TABLE kept.loose SET SCHEMA public; DROP SCHEMA kept",
	"CREATE TABLE copy AS SELECT * FROM loose; DROP TABLE copy",
	"CREATE ROLE clerk; GRANT INSERT ON loose TO clerk; ALTER TABLE loose OWNER TO clerk; REASSIGN OWNED BY clerk TO CURRENT_USER; DROP OWNED BY clerk; DROP ROLE clerk",
	"TRUNCATE huts, regions; INSERT INTO regions VALUES (1, 'again'); INSERT INTO huts (id, name, region_id) VALUES (1, 'again', 1)",
	// parts
	"CREATE TABLE logs_4 PARTITION OF logs FOR VALUES FROM ('2034-01-01') TO ('2035-01-01')",
	"ALTER TABLE logs ATTACH PARTITION logs_3 FOR VALUES FROM ('2033-01-01') TO ('2034-01-01')",
	"ALTER TABLE logs DETACH PARTITION logs_1",
	"ALTER TABLE logs ATTACH PARTITION logs_1 FOR VALUES FROM ('2031-01-01') TO ('2032-01-01')",
	";ALTER TABLE logs DETACH PARTITION logs_2 CONCURRENTLY",
	"DROP TABLE logs_3; ALTER TABLE logs ALTER COLUMN word TYPE varchar(200)",
	"ALTER TABLE logs ADD COLUMN level int; ALTER TABLE logs DROP COLUMN word",
	"CREATE TABLE derived_2 () INHERITS (base)",
	"ALTER TABLE derived NO INHERIT base; ALTER TABLE derived INHERIT base",
	"ALTER TABLE base ALTER COLUMN word TYPE varchar(99); ALTER TABLE base RENAME word TO term",
	"DROP TABLE base CASCADE",
	"DROP TABLE loose",
	"DROP TABLE logs",
	"DROP TABLE stays; CREATE TABLE stays (other text)",
	"DROP TABLE huts CASCADE; CREATE TABLE huts (id uuid PRIMARY KEY, name text)",
}

// writes are done after each migration, on both sides. Some do not fit the schema any longer, or not yet.
var writes = []string{
	"UPDATE huts SET beds = beds + 1 WHERE id = 3", "UPDATE huts SET name = name || '.' WHERE id < 4", "INSERT INTO huts (id, name, region_id) VALUES (%d, 'n', 1)",
	"UPDATE huts SET id = id + 1000 WHERE id = 9", "DELETE FROM huts WHERE id = 5", "UPDATE regions SET name = 'r' || name WHERE id = 1",
	"UPDATE huts SET places = 7 WHERE id = 6", "UPDATE huts SET facts = '{\"a\": 1}', since = '2031-07-01' WHERE id = 7",
	"INSERT INTO stays (hut, night) VALUES (%d, '2031-08-01')", "UPDATE stays SET guests = guests + 1", "DELETE FROM stays WHERE hut = 4", "INSERT INTO loose (hut) VALUES (%d)", "UPDATE loose SET hut = hut + 1",
	"INSERT INTO logs (at, id) VALUES ('2031-02-02', %d)", "INSERT INTO logs (at, id) VALUES ('2033-02-02', %d)", "UPDATE logs SET word = 'u' WHERE id < 5", "INSERT INTO base (id) VALUES (%d)",
	"UPDATE base SET word = 'v'", "INSERT INTO derived (id) VALUES (%d)", "INSERT INTO huts (id, name) VALUES ('6f1c9f3e-1f6e-4ac5-8a4c-%012d', 'u')",
}

// sides are two databases that the same is done to, one of them captured.
type sides struct {
	*testing.T
	plainURL, url string
	plain, conn   *pgx.Conn
	src           *source.Source
	need          []shape.Captured
	number        int // of new rows
}

func newSides(t *testing.T) *sides {
	s := &sides{T: t, plainURL: pgtest.URL(t), url: pgtest.URL(t), number: 1000}
	s.plain, s.conn, s.src = pgtest.Connect(t, s.plainURL), pgtest.Connect(t, s.url), open(t, s.url)
	return s
}

func (s *sides) outcome(c *pgx.Conn, statement string) string {
	s.Helper()
	list := []string{statement}
	if one, each := strings.CutPrefix(statement, ";"); each {
		list = strings.Split(one, ";")
	}
	for _, one := range list {
		_, err := c.Exec(s.Context(), one)
		var pg *pgconn.PgError
		switch {
		case errors.As(err, &pg):
			return pg.Code + " " + pg.Message
		case err != nil:
			s.Fatalf("%s: %v", one, err)
		}
	}
	return "done"
}

// same does something to both sides, and compares what is reported.
func (s *sides) same(statement string) string {
	s.Helper()
	without, with := s.outcome(s.plain, statement), s.outcome(s.conn, statement)
	// No one else writes where capture is not; rows of two statements may deadlock without it, too.
	for range 5 {
		if strings.HasPrefix(with, "40P01") {
			with = s.outcome(s.conn, statement)
		}
	}
	if without != with {
		s.Errorf("%s\nwithout capture: %s\nwith it:         %s", statement, without, with)
	}
	return with
}

// step does a migration and writes after it, before and after capture is made right, as the service does it, and
// looks whether all that changed was noted.
func (s *sides) step(migration string, writes []string) (done bool) {
	s.Helper()
	before := rowsOf(s.T, s.conn, s.need)
	outcome := s.same(migration)
	missed := map[string]bool{}
	for round := range 2 {
		for _, write := range writes {
			if strings.Contains(write, "%") {
				s.number++
				write = fmt.Sprintf(write, s.number)
			}
			s.same(write)
		}
		if round == 0 {
			for _, table := range reinstall(s.T, s.src, s.need) {
				missed[table] = true
			}
		}
	}
	after := rowsOf(s.T, s.conn, s.need)
	changes := sourcetest.Drain(s, s.src)
	unnoted := sourcetest.Unnoted(before, after, changes, missed)
	// What no trigger sees is checked once in a while.
	for end := time.Now().Add(10 * time.Second); len(unnoted) > 0 && time.Now().Before(end); time.Sleep(50 * time.Millisecond) {
		changes = append(changes, sourcetest.Drain(s, s.src)...)
		unnoted = sourcetest.Unnoted(before, after, changes, missed)
	}
	if len(unnoted) > 0 {
		s.Errorf("%s: not noted: %q", migration, unnoted[:min(3, len(unnoted))])
	}
	if outcome != "done" {
		s.Logf("%s: %s", migration, outcome)
	}
	return outcome == "done"
}

// Whatever an application does to its schema and its rows ends as it does without capture, in sessions
// that were there before, too, while others write; and what changed a row is noted, or the gap is.
func TestSchemaChangesEndAsWithoutCapture(t *testing.T) {
	s := newSides(t)
	s.need = shopNeed()
	s.same(shop)
	dump := filepath.Join(t.TempDir(), "shop.dump")
	if out, err := exec.Command(filepath.Join(binaries(t), "pg_dump"), "-Fc", "-f", dump, s.plainURL).CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	if _, err := install(t, s.src, s.need); err != nil {
		t.Fatal(err)
	}
	stop := writeOn(t, s.url)
	for _, migration := range migrations {
		if !s.step(migration, writes) {
			t.Errorf("%s failed: the test is to try what works", migration)
		}
	}
	stop()
	// Back to how it was, as a restore does it.
	for _, to := range []string{s.plainURL, s.url} {
		out, err := exec.Command(filepath.Join(binaries(t), "pg_restore"), "--clean", "--if-exists", "-d", to, dump).CombinedOutput()
		if err != nil {
			t.Errorf("restoring into %s: %v\n%s", to, err, out)
		}
	}
	if missed := reinstall(t, s.src, s.need); len(missed) == 0 {
		t.Error("tables that were restored had no gap")
	}
}

// The same with random tables, of which random columns are captured, and random migrations.
//
// PINGO_PROPERTY_SEED repeats one.
func TestRandomSchemaChanges(t *testing.T) {
	seed := uint64(time.Now().UnixNano() % 1_000_000)
	if n, err := strconv.ParseUint(os.Getenv("PINGO_PROPERTY_SEED"), 10, 64); err == nil {
		seed = n
	}
	t.Logf("PINGO_PROPERTY_SEED=%d", seed)
	s := newSides(t)
	newRandom(t, s.plain, seed)
	w := newRandom(t, s.conn, seed)
	for _, table := range w.tables {
		c := captured(table.name, table.key, nil, []string{"i1"})
		for _, column := range table.columns {
			if slices.Contains(table.key, column.name) || column.name == "i1" || w.pick(3) > 0 {
				c.Watch = append(c.Watch, column.name)
				c.Groups = append(c.Groups, []string{column.name})
			}
		}
		s.need = append(s.need, c)
	}
	if _, err := install(t, s.src, s.need); err != nil {
		t.Fatal(err)
	}
	done := 0
	for range 40 {
		table := &w.tables[w.pick(len(w.tables))]
		column := table.columns[w.pick(len(table.columns))]
		name, of := quoteName(table.name), quoteName(column.name)
		migration := []string{
			fmt.Sprintf("ALTER TABLE %s ALTER %s TYPE text", name, of),
			fmt.Sprintf("ALTER TABLE %s ALTER %s TYPE varchar(400) USING %[2]s::text", name, of),
			fmt.Sprintf("ALTER TABLE %s ALTER %s TYPE bigint USING length(%[2]s::text)", name, of),
			fmt.Sprintf("ALTER TABLE %s DROP %s", name, of),
			fmt.Sprintf("ALTER TABLE %s ADD %s %s", name, of, column.kind),
			fmt.Sprintf("ALTER TABLE %s RENAME %s TO away", name, of),
			fmt.Sprintf("ALTER TABLE %s RENAME away TO %s", name, of),
			fmt.Sprintf("ALTER TABLE %s ADD kept text; UPDATE %[1]s SET kept = %s::text; ALTER TABLE %[1]s DROP %[2]s; ALTER TABLE %[1]s RENAME kept TO %[2]s", name, of),
			fmt.Sprintf("ALTER TABLE %s RENAME TO gone; ALTER TABLE gone RENAME TO %[1]s", name),
			fmt.Sprintf("CREATE TABLE made_anew AS TABLE %s; DROP TABLE %[1]s; ALTER TABLE made_anew RENAME TO %[1]s", name),
			fmt.Sprintf("TRUNCATE %s", name),
			fmt.Sprintf("ALTER TABLE %s ALTER %s SET DEFAULT NULL, ADD CHECK (%[2]s IS NOT NULL) NOT VALID", name, of),
		}[w.pick(12)]
		var writes []string
		for range 6 {
			writes = append(writes, w.change())
		}
		if s.step(migration, writes) {
			done++
		}
	}
	if done < 10 {
		t.Errorf("only %d migrations could be done", done)
	}
}

// writeOn has others write meanwhile, until it is called off. What they write may not fit the schema any longer; no
// word of capture may be in what they read.
func writeOn(t *testing.T, url string) (stop func()) {
	ctx, cancel := context.WithCancel(t.Context())
	var wg sync.WaitGroup
	for n := range 2 {
		conn := pgtest.Connect(t, url)
		pgtest.Exec(t, conn, "CREATE TABLE IF NOT EXISTS aside (id int PRIMARY KEY)")
		wg.Go(func() {
			for i := 0; ctx.Err() == nil; i++ {
				write := writes[i%len(writes)]
				if strings.Contains(write, "%") {
					write = fmt.Sprintf(write, 10_000_000*(n+1)+i)
				}
				// They leave nothing behind, so that both sides have the same rows.
				_, err := conn.Exec(context.WithoutCancel(ctx), "BEGIN; SET LOCAL lock_timeout = '2s'; "+write)
				conn.Exec(context.WithoutCancel(ctx), "ROLLBACK")
				// Deadlocks of rows are their own: statements meet that change several in another order.
				if err != nil && (strings.Contains(err.Error(), "pingo") || strings.Contains(err.Error(), "has no field")) {
					t.Errorf("%s: %v", write, err)
				}
			}
		})
	}
	return func() { cancel(); wg.Wait() }
}

// rowsOf gives what the captured tables hold, by table and key.
func rowsOf(t *testing.T, conn *pgx.Conn, need []shape.Captured) map[string]map[string]string {
	t.Helper()
	out := map[string]map[string]string{}
	for _, c := range need {
		out[c.Table.Name] = map[string]string{}
		rows, err := conn.Query(t.Context(), "SELECT to_jsonb(x) FROM "+quote(c.Table)+" x", pgx.QueryExecModeSimpleProtocol)
		var list []map[string]any
		if err == nil {
			list, err = pgx.CollectRows(rows, pgx.RowTo[map[string]any])
		}
		var pg *pgconn.PgError
		if errors.As(err, &pg) && pg.Code == "42P01" {
			continue
		} else if err != nil {
			t.Fatal(err)
		}
		for i, row := range list {
			values := map[string]any{}
			for _, name := range c.Watch {
				if v, has := row[name]; has {
					values[name] = v
				}
			}
			key := fmt.Sprint(i)
			for k, name := range c.Key {
				if k == 0 {
					key = ""
				} else {
					key += ","
				}
				key += fmt.Sprint(row[name])
			}
			out[c.Table.Name][key] = fmt.Sprint(values)
		}
	}
	return out
}

// repair makes capture right, as the service does every few seconds, and lists the tables whose changes may
// have gone unnoticed.
func reinstall(t *testing.T, p *source.Source, need []shape.Captured) (missed []string) {
	t.Helper()
	gaps, err := p.Capture.Gaps(t.Context(), need)
	if err != nil {
		t.Fatal(err)
	}
	for _, gap := range gaps {
		if !gap.Safe {
			missed = append(missed, gap.Table.Name)
		}
	}
	if _, err := p.Capture.Install(t.Context(), "one", need); err != nil {
		t.Fatal(err)
	}
	if gaps, err = p.Capture.Gaps(t.Context(), need); err != nil || slices.ContainsFunc(gaps, func(g source.Gap) bool {
		return !strings.Contains(g.Reason, "was dropped or renamed")
	}) {
		t.Errorf("after it was made right: %+v %v", gaps, err)
	}
	return missed
}

// binaries is where PostgreSQL's programs are.
func binaries(t *testing.T) string {
	t.Helper()
	found, err := filepath.Glob("/usr/lib/postgresql/*/bin")
	if err != nil || len(found) == 0 {
		t.Fatal("no programs of PostgreSQL", err)
	}
	return found[len(found)-1]
}

// A table that was recreated with none of its columns is captured all the same, and noted in full once they are back.
func TestATableThatLostItsColumnsIsNotForgotten(t *testing.T) {
	url := pgtest.URL(t)
	conn, p := pgtest.Connect(t, url), open(t, url)
	pgtest.Exec(t, conn, "CREATE TABLE loose (other text)")
	need := shopNeed()[3:4]
	if _, err := install(t, p, need); err != nil {
		t.Fatal(err)
	}
	pgtest.Exec(t, conn, "INSERT INTO loose VALUES ('x'); UPDATE loose SET other = 'y'")
	pgtest.Exec(t, conn, "ALTER TABLE loose ADD hut int, ADD word text DEFAULT 'w'")
	if gaps, err := p.Capture.Gaps(t.Context(), need); err != nil || len(gaps) != 1 || !gaps[0].Safe {
		t.Fatalf("its columns are back: %+v %v", gaps, err)
	}
	if _, err := install(t, p, need); err != nil {
		t.Fatal(err)
	}
	sourcetest.Drain(t, p)
	pgtest.Exec(t, conn, "UPDATE loose SET hut = 7")
	if got := read(t, p); !slices.Equal(got, []string{"loose update  hut[7]"}) {
		t.Errorf("noted: %q", got)
	}
}

// What expressions and keys mean is part of what is captured: where a function, the words of an enumeration or the order of
// a collation become others, documents do, though no row is written.
func TestMeaningsThatChange(t *testing.T) {
	url := pgtest.URL(t)
	conn, p := pgtest.Connect(t, url), open(t, url)
	pgtest.Exec(t, conn, `CREATE TYPE grade AS ENUM ('easy', 'hard');
		CREATE COLLATION sorted (provider = icu, locale = 'de');
		CREATE FUNCTION inner_one(x text) RETURNS text LANGUAGE sql IMMUTABLE RETURN upper(x);
		CREATE FUNCTION shout(x text) RETURNS text LANGUAGE sql IMMUTABLE RETURN public.inner_one(x) || '!';
		CREATE FUNCTION big(x int) RETURNS boolean LANGUAGE plpgsql IMMUTABLE AS 'BEGIN RETURN x > 5; END';
		CREATE TABLE huts (level grade, id int, name text COLLATE sorted, PRIMARY KEY (level, id));
		INSERT INTO huts VALUES ('easy', 1, 'a'), ('hard', 9, 'b')`)
	s, _, findings := compile(t, p, "  x: { engine: e, rows: s.huts, where: public.big(id), fields: { name: {}, loud: { sql: public.shout(name) } } }\n")
	if len(findings) > 0 {
		t.Fatal(findings)
	}
	need := shape.Capture(s.Source, []*shape.Shape{s})
	if _, err := install(t, p, need); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		change, reason string
		safe           bool
	}{
		{"CREATE OR REPLACE FUNCTION shout(x text) RETURNS text LANGUAGE sql IMMUTABLE RETURN public.inner_one(x) || '?'", "function public.shout(text) was redefined", true},
		{"CREATE OR REPLACE FUNCTION inner_one(x text) RETURNS text LANGUAGE sql IMMUTABLE RETURN lower(x)", "function public.shout(text) was redefined", true},
		{"CREATE OR REPLACE FUNCTION big(x int) RETURNS boolean LANGUAGE plpgsql IMMUTABLE AS 'BEGIN RETURN x > 0; END'", "function public.big(integer) was redefined", true},
		{"ALTER TYPE grade ADD VALUE 'mad'", "the column level of", true},
		{"ALTER TYPE grade RENAME VALUE 'easy' TO 'plain'", "values of the key column level", false},
		{"UPDATE pg_collation SET collversion = '1' WHERE collname = 'sorted'", "the column name of", true},
	} {
		if gaps, err := p.Capture.Gaps(t.Context(), need); err != nil || len(gaps) > 0 {
			t.Fatalf("before %s: %+v %v", c.change, gaps, err)
		}
		pgtest.Exec(t, conn, c.change)
		gaps, err := p.Capture.Gaps(t.Context(), need)
		if err != nil || len(gaps) != 1 || gaps[0].Safe != c.safe || gaps[0].Deliberate || !strings.Contains(gaps[0].Reason, c.reason) {
			t.Errorf("%s: %+v %v", c.change, gaps, err)
		}
		if _, err := install(t, p, need); err != nil {
			t.Fatal(err)
		}
		want := []string{"huts truncate "}
		if strings.Contains(c.change, "ADD VALUE") { // no row has it yet
			want = nil
		}
		if got := read(t, p); !slices.Equal(got, want) {
			t.Errorf("%s: noted %q, want %q", c.change, got, want)
		}
	}
}
