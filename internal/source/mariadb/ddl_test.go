package mariadb

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/go-sql-driver/mysql"

	"pingo/internal/core/shape"
	"pingo/internal/lab/mariatest"
	"pingo/internal/source"
	"pingo/internal/source/sourcetest"
)

const shop = `
	CREATE TABLE regions (id int PRIMARY KEY, name varchar(50), note text);
	CREATE TABLE huts (id int PRIMARY KEY, name varchar(50), beds int, region_id int, level enum('easy', 'hard') DEFAULT 'easy', since date, visits int DEFAULT 0, KEY (region_id));
	CREATE TABLE stays (hut int, night int, guests int, PRIMARY KEY (hut, night));
	CREATE TABLE logs (id int PRIMARY KEY, word varchar(50)) PARTITION BY RANGE (id) (PARTITION low VALUES LESS THAN (100), PARTITION high VALUES LESS THAN (100000));
	INSERT INTO regions SELECT seq, concat('region ', seq), NULL FROM seq_1_to_5;
	INSERT INTO huts (id, name, beds, region_id, since) SELECT seq, concat('hut ', seq), seq, 1 + seq % 5, '2031-06-01' FROM seq_1_to_40;
	INSERT INTO stays SELECT seq, 1, 2 FROM seq_1_to_20; INSERT INTO logs SELECT seq * 9, 'l' FROM seq_1_to_20`

const shopIndexes = `
  huts:
    engine: main
    rows: paths.huts
    fields: [name, beds, level, since]
    related: { region: { one: regions, on: { id: region_id }, fields: [name] } }
  regions: { engine: main, rows: paths.regions, fields: [name] }
  stays: { engine: main, rows: paths.stays, fields: [guests] }
  logs: { engine: main, rows: paths.logs, fields: [word] }
`

// migrations are what applications, their migration tools and their operators do to tables.
var migrations = []string{
	"ALTER TABLE huts MODIFY beds bigint", "ALTER TABLE huts MODIFY name text", "ALTER TABLE huts MODIFY beds decimal(8,2)",
	"ALTER TABLE huts MODIFY id bigint", "ALTER TABLE huts MODIFY since datetime", "ALTER TABLE huts DROP COLUMN since",
	"ALTER TABLE huts ADD COLUMN since date DEFAULT '2032-01-01'", "ALTER TABLE huts DROP COLUMN visits, ADD COLUMN stars int NOT NULL DEFAULT 3",
	"ALTER TABLE huts CHANGE beds places int", "ALTER TABLE huts RENAME COLUMN places TO beds",
	"ALTER TABLE huts CHANGE name kept text, ADD COLUMN name text", "UPDATE huts SET name = upper(kept)", "ALTER TABLE huts DROP COLUMN kept",
	"UPDATE huts SET name = 'unnamed' WHERE name IS NULL", "ALTER TABLE huts MODIFY name varchar(80) NOT NULL DEFAULT 'new' FIRST", "ALTER TABLE huts ALTER COLUMN name DROP DEFAULT",
	"ALTER TABLE huts MODIFY level enum('easy', 'hard', 'mad')", "ALTER TABLE huts MODIFY level enum('mad', 'hard', 'easy')", "ALTER TABLE huts MODIFY level varchar(20)",
	"ALTER TABLE huts ADD COLUMN label varchar(60) GENERATED ALWAYS AS (concat('hut ', beds)) STORED", "ALTER TABLE huts DROP COLUMN label",
	"ALTER TABLE huts CONVERT TO CHARACTER SET latin1", "ALTER TABLE huts CONVERT TO CHARACTER SET utf8mb4",
	"ALTER TABLE huts ADD INDEX (beds), ADD UNIQUE (name, id)", "ALTER TABLE huts DROP INDEX beds", "ALTER TABLE huts ADD CHECK (beds < 100000)",
	"ALTER TABLE stays DROP PRIMARY KEY, ADD COLUMN id int AUTO_INCREMENT PRIMARY KEY", "ALTER TABLE stays ADD UNIQUE (hut, night)",
	"ALTER TABLE stays DROP INDEX hut, DROP COLUMN night", "ALTER TABLE stays ADD COLUMN night int NOT NULL DEFAULT 1",
	"OPTIMIZE TABLE huts", "ALTER TABLE huts ENGINE=InnoDB", "ALTER TABLE huts FORCE", "ANALYZE TABLE huts", "ALTER TABLE huts AUTO_INCREMENT = 500, COMMENT = 'shelters'",
	"RENAME TABLE regions TO areas, areas TO regions", "CREATE TABLE regions_new LIKE regions", "INSERT INTO regions_new SELECT * FROM regions",
	"RENAME TABLE regions TO regions_old, regions_new TO regions", "ANALYZE TABLE regions", "ALTER TABLE regions COMMENT = 'new'", "DROP TABLE regions_old", "TRUNCATE regions",
	"CREATE TRIGGER shout BEFORE UPDATE ON huts FOR EACH ROW SET NEW.name = concat(NEW.name, '!')", "DROP TRIGGER shout",
	"CREATE VIEW seen AS SELECT id, name FROM huts", "DROP VIEW seen",
	"ALTER TABLE logs ADD PARTITION (PARTITION more VALUES LESS THAN (200000))", "ALTER TABLE logs TRUNCATE PARTITION low", "ALTER TABLE logs DROP PARTITION low",
	"ALTER TABLE logs REORGANIZE PARTITION high INTO (PARTITION a VALUES LESS THAN (5000), PARTITION b VALUES LESS THAN (100000))", "ALTER TABLE logs REMOVE PARTITIONING",
	"ALTER TABLE logs DROP COLUMN word", "DROP TABLE logs", "CREATE OR REPLACE TABLE huts (id char(36) PRIMARY KEY, name text)",
}

var writes = []string{
	"UPDATE huts SET beds = beds + 1 WHERE id = 3", "UPDATE huts SET name = concat(name, '.') WHERE id < 4", "INSERT INTO huts (id, name, region_id) VALUES (%d, 'n', 1)",
	"UPDATE huts SET id = id + 1000 WHERE id = 9", "DELETE FROM huts WHERE id = 5", "UPDATE huts SET places = 7 WHERE id = 6", "UPDATE huts SET level = 'hard' WHERE id = 7",
	"UPDATE regions SET name = concat('r', name) WHERE id = 1", "INSERT INTO regions (id, name) VALUES (%d, 'r')", "INSERT INTO stays (hut, night) VALUES (%d, 2)",
	"UPDATE stays SET guests = guests + 1", "DELETE FROM stays WHERE hut = 4", "INSERT INTO logs (id, word) VALUES (%d, 'x')", "UPDATE logs SET word = 'u' WHERE id < 500",
	"REPLACE INTO regions (id, name) VALUES (2, 'again')",
}

// Whatever an application does to its schema and its rows ends as it does without capture, while others write; and
// what changed a row is noted, or the gap is. (RENAME TABLE into another database is the one that MariaDB refuses.)
func TestSchemaChangesEndAsWithoutCapture(t *testing.T) {
	plainURL := mariatest.URL(t)
	plain := mariatest.Connect(t, plainURL)
	mariatest.Exec(t, plain, shop)
	w := newWorld(t, shop, shopIndexes)
	need := shape.Capture(w.shapes[0].Source, w.shapes)
	outcome := func(db *sql.DB, statement string) string {
		_, err := db.ExecContext(t.Context(), statement)
		var refused *mysql.MySQLError
		switch {
		case err == nil:
			return "done"
		case errors.As(err, &refused): // a message may name the database, which has another name here
			return fmt.Sprint(refused.Number)
		}
		t.Fatalf("%s: %v", statement, err)
		return ""
	}
	same := func(statement string) string {
		t.Helper()
		without, with := outcome(plain, statement), outcome(w.db, statement)
		// No one else writes where capture is not; rows of two statements may deadlock without it, too.
		for range 5 {
			if with == "1213" {
				with = outcome(w.db, statement)
			}
		}
		if without != with {
			t.Errorf("%s\nwithout capture: %s\nwith it:         %s", statement, without, with)
		}
		return with
	}
	stop := w.others()
	number := 1000
	for _, migration := range migrations {
		before, missed := w.rows(need), map[string]bool{}
		if got := same(migration); got != "done" {
			t.Errorf("%s failed with %s: the test is to try what works", migration, got)
		}
		for round := range 2 { // before capture is made right, and after
			for _, write := range writes {
				if strings.Contains(write, "%") {
					number++
					write = fmt.Sprintf(write, number)
				}
				same(write)
			}
			if round == 0 {
				for _, table := range w.reinstall(need) {
					missed[table] = true
				}
			}
		}
		after, changes := w.rows(need), sourcetest.Drain(t, w.src)
		unnoted := sourcetest.Unnoted(before, after, changes, missed)
		// What no trigger sees is checked once in a while.
		for end := time.Now().Add(60 * storesEvery); len(unnoted) > 0 && time.Now().Before(end); time.Sleep(50 * time.Millisecond) {
			changes = append(changes, sourcetest.Drain(t, w.src)...)
			unnoted = sourcetest.Unnoted(before, after, changes, missed)
		}
		if len(unnoted) > 0 {
			t.Errorf("%s: not noted: %q", migration, unnoted[:min(3, len(unnoted))])
		}
	}
	stop()
}

// others writes meanwhile, and leaves nothing behind.
func (w *world) others() (stop func()) {
	ctx, cancel := context.WithCancel(w.Context())
	var wg sync.WaitGroup
	wg.Go(func() {
		for i := 0; ctx.Err() == nil; i++ {
			write := writes[i%len(writes)]
			if strings.Contains(write, "%") {
				write = fmt.Sprintf(write, 20_000+i)
			}
			tx, err := w.db.BeginTx(context.WithoutCancel(ctx), nil)
			if err != nil {
				w.Error(err)
				return
			}
			if _, err = tx.Exec(write); err != nil && strings.Contains(err.Error(), "pingo") {
				w.Errorf("%s: %v", write, err)
			}
			tx.Rollback()
		}
	})
	return func() { cancel(); wg.Wait() }
}

// repair makes capture right, as the service does, and lists the tables whose changes may have gone unnoticed.
func (w *world) reinstall(need []shape.Captured) (missed []string) {
	w.Helper()
	gaps, err := w.src.Capture.Gaps(w.Context(), need)
	if err != nil {
		w.Fatal(err)
	}
	for _, gap := range gaps {
		if !gap.Safe {
			missed = append(missed, gap.Table.Name)
		}
	}
	if _, err := w.src.Capture.Install(w.Context(), "one", need); err != nil {
		w.Fatal(err)
	}
	gaps, err = w.src.Capture.Gaps(w.Context(), need)
	if err != nil || slices.ContainsFunc(gaps, func(g source.Gap) bool { return !strings.Contains(g.Reason, "was dropped or renamed") }) {
		w.Errorf("after it was made right: %+v %v", gaps, err)
	}
	return missed
}

// rows gives what the captured tables hold, by table and key.
func (w *world) rows(need []shape.Captured) map[string]map[string]string {
	w.Helper()
	out := map[string]map[string]string{}
	for _, c := range need {
		out[c.Table.Name] = map[string]string{}
		rows, err := w.db.QueryContext(w.Context(), "SELECT * FROM "+quote(c.Table))
		if numberOf(err) == noTable {
			continue
		}
		if err != nil {
			w.Fatal(err)
		}
		names, err := rows.Columns()
		if err != nil {
			w.Fatal(err)
		}
		if err := eachRow(rows, func(v []sql.RawBytes) error {
			values, key := map[string]string{}, make([]string, len(c.Key))
			for i, name := range names {
				if at := slices.Index(c.Key, name); at >= 0 {
					key[at] = string(v[i])
				}
				if slices.Contains(c.Watch, name) {
					values[name] = fmt.Sprintf("%t %s", v[i] == nil, v[i])
				}
			}
			out[c.Table.Name][strings.Join(key, ",")] += fmt.Sprint(values)
			return nil
		}); err != nil {
			w.Fatal(err)
		}
	}
	return out
}

// What expressions and keys mean is part of what is captured: where a function or the words of an enumeration become others,
// documents do, though no row is written.
func TestMeaningsThatChange(t *testing.T) {
	w := newWorld(t, `CREATE FUNCTION shout(x varchar(50)) RETURNS varchar(50) DETERMINISTIC NO SQL RETURN upper(x);
		CREATE TABLE huts (level enum('easy', 'hard'), id int, name varchar(50), PRIMARY KEY (level, id));
		INSERT INTO huts VALUES ('easy', 1, 'a'), ('hard', 9, 'b')`,
		"  huts: { engine: main, rows: paths.huts, where: shout(name) <> 'X', fields: { name: {}, loud: { sql: shout(name) } } }\n")
	need := shape.Capture(w.shapes[0].Source, w.shapes)
	for _, c := range []struct {
		change, reason string
		safe           bool
	}{
		{"CREATE OR REPLACE FUNCTION shout(x varchar(50)) RETURNS varchar(50) DETERMINISTIC NO SQL RETURN lower(x)", "the function shout was redefined", true},
		{"ALTER TABLE huts MODIFY level enum('easy', 'hard', 'mad')", "the column level of", true},
		{"ALTER TABLE huts MODIFY level enum('plain', 'hard', 'mad', 'easy')", "values of the key column level", false},
	} {
		if gaps, err := w.src.Capture.Gaps(t.Context(), need); err != nil || len(gaps) > 0 {
			t.Fatalf("before %s: %+v %v", c.change, gaps, err)
		}
		time.Sleep(time.Second) // functions tell when they were made by the second
		w.exec(c.change)
		gaps, err := w.src.Capture.Gaps(t.Context(), need)
		if err != nil || len(gaps) != 1 || gaps[0].Safe != c.safe || gaps[0].Deliberate || !strings.Contains(gaps[0].Reason, c.reason) {
			t.Errorf("%s: %+v %v", c.change, gaps, err)
		}
		if _, err := w.src.Capture.Install(t.Context(), "one", need); err != nil {
			t.Fatal(err)
		}
		if strings.Contains(c.change, "'hard', 'mad')") { // no row has the new word yet
			w.expect()
		} else {
			w.expect("truncate huts")
		}
	}
}
