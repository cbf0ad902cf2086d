package postgres

import (
	"context"
	"errors"
	"fmt"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"pingo/internal/core/change"
	"pingo/internal/core/shape"
	"pingo/internal/lab/pgtest"
	"pingo/internal/source"
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

// writes are done after each migration, on both sides. Some do not fit the schema any more, or not yet.
var writes = []string{
	"UPDATE huts SET beds = beds + 1 WHERE id = 3", "UPDATE huts SET name = name || '.' WHERE id < 4", "INSERT INTO huts (id, name, region_id) VALUES (%d, 'n', 1)",
	"UPDATE huts SET id = id + 1000 WHERE id = 9", "DELETE FROM huts WHERE id = 5", "UPDATE regions SET name = 'r' || name WHERE id = 1",
	"UPDATE huts SET places = 7 WHERE id = 6", "UPDATE huts SET facts = '{\"a\": 1}', since = '2031-07-01' WHERE id = 7",
	"INSERT INTO stays (hut, night) VALUES (%d, '2031-08-01')", "UPDATE stays SET guests = guests + 1", "DELETE FROM stays WHERE hut = 4", "INSERT INTO loose (hut) VALUES (%d)", "UPDATE loose SET hut = hut + 1",
	"INSERT INTO logs (at, id) VALUES ('2031-02-02', %d)", "INSERT INTO logs (at, id) VALUES ('2033-02-02', %d)", "UPDATE logs SET word = 'u' WHERE id < 5", "INSERT INTO base (id) VALUES (%d)",
	"UPDATE base SET word = 'v'", "INSERT INTO derived (id) VALUES (%d)", "INSERT INTO huts (id, name) VALUES ('6f1c9f3e-1f6e-4ac5-8a4c-%012d', 'u')",
}

// Whatever an application does to its schema and its rows ends as it does without capture, in sessions
// that were there before, too, while others write; and what changed a row is noted, or the gap is.
func TestSchemaChangesEndAsWithoutCapture(t *testing.T) {
	ctx := t.Context()
	plainURL, url := pgtest.URL(t), pgtest.URL(t)
	plain, conn := pgtest.Connect(t, plainURL), pgtest.Connect(t, url)
	for _, c := range []*pgx.Conn{plain, conn} {
		pgtest.Exec(t, c, shop)
	}
	dump := filepath.Join(t.TempDir(), "shop.dump")
	if out, err := exec.Command(filepath.Join(binaries(t), "pg_dump"), "-Fc", "-f", dump, plainURL).CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	p := open(t, url)
	if _, err := install(t, p, shopNeed()); err != nil {
		t.Fatal(err)
	}
	number := 1000
	outcome := func(c *pgx.Conn, statement string) string {
		err := errors.Join()
		if !strings.HasPrefix(statement, ";") {
			_, err = c.Exec(ctx, statement)
		} else {
			for _, one := range strings.Split(statement[1:], ";") {
				if _, err = c.Exec(ctx, one); err != nil {
					break
				}
			}
		}
		var pg *pgconn.PgError
		switch {
		case err == nil:
			return "done"
		case errors.As(err, &pg):
			return pg.Code + " " + pg.Message
		}
		t.Fatalf("%s: %v", statement, err)
		return ""
	}
	same := func(statement string) string {
		t.Helper()
		without, with := outcome(plain, statement), outcome(conn, statement)
		if without != with {
			t.Errorf("%s\nwithout capture: %s\nwith it:         %s", statement, without, with)
		}
		return with
	}
	stop := writeOn(t, url)
	refused := 0
	for _, migration := range migrations {
		before := rowsOf(t, conn)
		if got := same(migration); got != "done" {
			refused++
			t.Logf("%s: %s", migration, got)
		}
		missed := map[string]bool{}
		for round := range 2 { // before capture is made right, and after
			for _, write := range writes {
				if strings.Contains(write, "%") {
					number++
					write = fmt.Sprintf(write, number)
				}
				same(write)
			}
			if round == 0 {
				for _, table := range mend(t, p) {
					missed[table] = true
				}
			}
		}
		after := rowsOf(t, conn)
		if strings.Contains(migration, "PARTITION") || strings.Contains(migration, "INHERIT") {
			time.Sleep(refreshesEvery) // no trigger sees these
		}
		covered(t, migration, before, after, drain(t, p), missed)
	}
	stop()
	if refused > 0 {
		t.Errorf("%d migrations failed: the test is to try those that work", refused)
	}
	// Back to how it was, as a restore does it.
	for _, to := range []string{plainURL, url} {
		out, err := exec.Command(filepath.Join(binaries(t), "pg_restore"), "--clean", "--if-exists", "-d", to, dump).CombinedOutput()
		if err != nil {
			t.Errorf("restoring into %s: %v\n%s", to, err, out)
		}
	}
	if missed := mend(t, p); len(missed) == 0 {
		t.Error("tables that were restored had no gap")
	}
}

// writeOn has others write meanwhile, until it is called off. What they write may not fit the schema any more; no
// word of capture may be in what they are told.
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
				if err != nil && (strings.Contains(err.Error(), "pingo") || strings.Contains(err.Error(), "has no field") ||
					strings.Contains(err.Error(), "deadlock")) {
					t.Errorf("%s: %v", write, err)
				}
			}
		})
	}
	return func() { cancel(); wg.Wait() }
}

// rowsOf gives what the captured tables hold, by table and key.
func rowsOf(t *testing.T, conn *pgx.Conn) map[string]map[string]string {
	t.Helper()
	out := map[string]map[string]string{}
	for _, c := range shopNeed() {
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

// drain reads all that is noted, and says it is done.
func drain(t *testing.T, p *source.Source) (all []change.Change) {
	t.Helper()
	for {
		changes, err := p.Changes(t.Context(), 1000)
		if err != nil {
			t.Fatal(err)
		}
		if len(changes) == 0 {
			return all
		}
		seqs := make([]int64, len(changes))
		for i, c := range changes {
			seqs[i] = c.Seq
		}
		if err := p.Done(t.Context(), seqs); err != nil {
			t.Fatal(err)
		}
		all = append(all, changes...)
	}
}

// mend makes capture right, as the service does every few seconds, and lists the tables whose changes may
// have gone unnoticed.
func mend(t *testing.T, p *source.Source) (missed []string) {
	t.Helper()
	gaps, err := p.Capture.Gaps(t.Context(), shopNeed())
	if err != nil {
		t.Fatal(err)
	}
	for _, gap := range gaps {
		if !gap.Safe {
			missed = append(missed, gap.Table.Name)
		}
	}
	if _, err := p.Capture.Install(t.Context(), "one", shopNeed()); err != nil {
		t.Fatal(err)
	}
	if gaps, err = p.Capture.Gaps(t.Context(), shopNeed()); err != nil || slices.ContainsFunc(gaps, func(g source.Gap) bool {
		return !strings.Contains(g.Reason, "was dropped or renamed")
	}) {
		t.Errorf("after it was made right: %+v %v", gaps, err)
	}
	return missed
}

// covered looks whether every row that is not what it was was noted, if the table has no gap.
func covered(t *testing.T, migration string, before, after map[string]map[string]string, changes []change.Change, missed map[string]bool) {
	t.Helper()
	for table, was := range before {
		noted := map[string]bool{}
		all, unnoted := missed[table], 0
		for _, c := range changes {
			if c.Table.Name == table {
				all = all || c.Op == change.Truncate || len(c.Key) == 0
				noted[strings.Join(c.Key, ",")], noted[strings.Join(c.Was, ",")] = true, true
			}
		}
		for _, side := range []map[string]string{was, after[table]} {
			for key := range side {
				if was[key] != after[table][key] && !all && !noted[key] {
					if unnoted++; unnoted > 2 {
						continue
					}
					t.Errorf("%s: row %s of %s was not noted: %s became %s", migration, key, table, was[key], after[table][key])
				}
			}
		}
	}
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

// A table that was made anew with none of its columns is captured all the same, and noted in full once they are back.
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
	drain(t, p)
	pgtest.Exec(t, conn, "UPDATE loose SET hut = 7")
	if got := read(t, p); !slices.Equal(got, []string{"loose update  hut[7]"}) {
		t.Errorf("noted: %q", got)
	}
}
