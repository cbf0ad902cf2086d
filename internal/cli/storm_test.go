package cli_test

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"net/http"
	"os"
	"os/exec"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"pingo/internal/api"
	"pingo/internal/lab/demo"
	"pingo/internal/lab/ostest"
	"pingo/internal/lab/pgtest"
)

// The storm: changes, long and rolled-back transactions, two processes of which one or
// the other is killed or paused, in fill and stream, an engine that is away, slow,
// forgetful, and a source that restarts; one process far away, partitions and children that come
// and go, columns that are renamed, recreated and given other types, records that are put back to an
// older copy, and a copy of them in use. In the end, every
// document equals what a second, deliberately simple way makes of the rows.
//
// PINGO_STORM_SEED repeats one, PINGO_STORM_SECONDS makes it longer; see make storm.
func TestStorm(t *testing.T) { storm(t, newWorld(t)) }

// The storm with a real engine, which is killed and started again, blocked by a person, and out
// of disk as well.
func TestRealStorm(t *testing.T) { storm(t, newRealWorld(t)) }

// The storm with a server that answers with tasks and exchanges indexes.
func TestTasksStorm(t *testing.T) {
	ostest.Wanted(t)
	storm(t, newTasksWorld(t))
}

// The storm with a real server of typed collections, which keeps what comes last.
func TestRealCollectionsStorm(t *testing.T) { storm(t, newCollectionsWorld(t)) }

func storm(t *testing.T, w *world) {
	seed, length := uint64(time.Now().UnixNano()%100000), 25*time.Second
	if s := os.Getenv("PINGO_STORM_SEED"); s != "" {
		seed, _ = strconv.ParseUint(s, 10, 64)
	}
	if s, err := strconv.Atoi(os.Getenv("PINGO_STORM_SECONDS")); err == nil {
		length = time.Duration(s) * time.Second
	}
	t.Logf("PINGO_STORM_SEED=%d", seed)
	r := rand.New(rand.NewPCG(seed, 9))
	port := w.pg.Port()
	const huts = 20000 // many, so that few are changed again and repaired by that
	lodge := pgtest.Connect(t, w.pg.URL("lodge"))
	if err := demo.Load(t.Context(), lodge, huts, int64(seed)); err != nil {
		t.Fatal(err)
	}
	pgtest.Exec(t, lodge, partedTables)
	lodge.Close(t.Context())

	w.fault(`{"slow_ms": 60}`) // so that the fill lasts until it is killed
	w.serve()
	w.eventually(10*time.Second, "the definition is applied", func() error {
		_, err := w.client.Apply(t.Context(), w.on(stormFiles()))
		return err
	})
	ctx, calm := context.WithCancel(context.Background())
	var writers sync.WaitGroup
	for n := range 6 {
		writers.Go(func() { writer(ctx, w, huts, seed, uint64(n)) })
	}
	writers.Go(func() { parts(ctx, w, seed) })
	writers.Go(func() { migrate(ctx, w, seed) })
	time.Sleep(time.Duration(50+r.IntN(300)) * time.Millisecond)
	w.kill() // in the middle of the fill
	w.serve()
	otherAddress := freeAddress(t)
	near, far := w.env, w.farAway(r, map[string]string{
		"PINGO_RECORDS_URL": w.pg.URL("pingo"), "LODGE_URL": w.pg.URL("lodge"), "SEARCH_URL": w.engine.URL,
	})
	startSecond := func() {
		w.env = far
		w.second = w.process(otherAddress)
		w.env = near
	}
	startSecond()
	w.fault(`{}`)
	kills, pauses, copies := 1, 0, &recordsCopies{}
	kill := func() {
		kills++
		if r.IntN(3) == 0 {
			w.second.Process.Kill()
			w.second.Wait()
			startSecond()
			return
		}
		w.kill()
		if r.IntN(2) == 0 { // the other one takes over, and keeps what it has
			time.Sleep(time.Duration(r.IntN(7000)) * time.Millisecond)
		}
		w.serve()
	}
	for end := time.Now().Add(length); time.Now().Before(end); {
		time.Sleep(time.Duration(r.IntN(1000)) * time.Millisecond)
		w.fault(`{}`) // it must catch up now and then, or its end would repair all that went wrong
		time.Sleep(time.Duration(r.IntN(1000)) * time.Millisecond)
		happens := r.IntN(12)
		if (w.node != nil || w.typed != nil) && r.IntN(4) == 0 {
			engineTrouble(t, w, r)
			continue
		}
		switch happens {
		case 0:
			kill()
		case 11: // no one is left
			kills += 2
			w.second.Process.Kill()
			w.second.Wait()
			w.kill()
			copies.step(w)
			w.serve()
			copies.use(w)
			startSecond()
		case 1, 2:
			w.fault(`{"unavailable": -1}`)
			time.Sleep(time.Duration(r.IntN(2000)) * time.Millisecond)
			kill() // what was in flight must not be forgotten
		case 9, 10: // one is paused, perhaps long enough that the other takes over, and wakes
			paused := []*exec.Cmd{w.service, w.second}[r.IntN(2)]
			pauses++
			w.fault(fmt.Sprintf(`{"slow_ms": %d}`, r.IntN(300))) // so that something is in flight
			time.Sleep(time.Duration(r.IntN(300)) * time.Millisecond)
			if err := paused.Process.Signal(syscall.SIGSTOP); err != nil {
				t.Error(err)
			}
			w.fault(`{}`)
			time.Sleep(time.Duration(r.IntN(11000)) * time.Millisecond)
			if err := paused.Process.Signal(syscall.SIGCONT); err != nil {
				t.Error(err)
			}
		case 3:
			w.fault(fmt.Sprintf(`{"lose_answer": %d}`, 1+r.IntN(5)))
		case 4:
			w.fault(fmt.Sprintf(`{"busy": %d, "close": %d}`, r.IntN(8), r.IntN(8)))
		case 5:
			w.fault(fmt.Sprintf(`{"slow_ms": %d}`, r.IntN(100)))
		case 6:
			if w.node != nil || w.typed != nil || w.tasks {
				continue // a real one refuses what it does not like only
			}
			w.fault(fmt.Sprintf(`{"refuse": {"%d": "a fault", "%d": "a fault"}}`, 1+r.IntN(huts), 1+r.IntN(huts)))
		case 7:
			if err := w.pg.Stop(); err != nil {
				t.Error(err)
			}
			time.Sleep(time.Duration(r.IntN(500)) * time.Millisecond)
			w.startPostgres(port)
		case 8:
			if time.Until(end) < length/2 {
				continue // both of these repair, and would hide what went wrong before
			}
			if conn, err := pgx.Connect(t.Context(), w.pg.URL("lodge")); err == nil {
				pgtest.Exec(t, conn, "TRUNCATE closures")
				conn.Close(t.Context())
			}
			files := w.on(stormFiles())
			if r.IntN(2) == 0 {
				files[0].Text = strings.Replace(
					files[0].Text,
					"      beds:        { filter: true }\n",
					"      beds:        { filter: true, sort: true }\n",
					1,
				)
			}
			// Whether it is the time for it or not; what was begun must be finished.
			w.client.Apply(t.Context(), files)
		}
	}
	calm()
	writers.Wait()
	w.fault(`{}`)
	lodge = pgtest.Connect(t, w.pg.URL("lodge"))
	for n := range 3 { // those that are there already stay
		lodge.Exec(
			t.Context(),
			fmt.Sprintf(
				"ALTER TABLE stays ATTACH PARTITION stays_%d FOR VALUES FROM (%d) TO (%d)",
				n,
				100*n,
				100*n+100,
			),
		)
	}
	// What was refused is tried again when its row changes.
	pgtest.Exec(t, lodge, "UPDATE huts SET beds = beds + 1 WHERE id % 700 = 0")
	status, err := w.client.Status(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	for _, ix := range status.Indexes {
		failed, err := w.client.Failed(t.Context(), ix.Name, "")
		if err != nil {
			t.Fatal(err)
		}
		for _, f := range failed {
			pgtest.Exec(
				t,
				lodge,
				"UPDATE huts SET beds = beds + 1 WHERE id = $1",
				mustInt(t, f.Key[strings.LastIndexByte(f.Key, ',')+1:]),
			)
		}
	}
	for _, name := range []string{"huts", "finder", "finder_tables", "stays", "annexes"} {
		w.index(90*time.Second, "all is quiet", name, func(ix api.IndexStatus) bool {
			status, err := w.client.Status(t.Context())
			return err == nil && ix.Fill == nil && ix.Live && ix.Failed == 0 && ix.Waiting == 0 &&
				status.Sources[0].InFlight == 0 &&
				empty(t, lodge)
		})
	}
	for _, name := range []string{"huts", "finder", "finder_tables"} {
		if rows := w.equal(lodge, name); rows < huts/2 {
			t.Errorf("%s: only %d rows", name, rows)
		}
	}
	for _, name := range []string{"stays", "annexes"} {
		rows, documents, differences, err := demo.Compare(t.Context(), lodge, w.on(stormFiles()), name, w.lookup)
		if err != nil || rows != documents || len(differences) > 0 || rows < 20 {
			t.Errorf("%s: %d rows, %d documents, %d differences, %v", name, rows, documents, len(differences), err)
		}
	}
	var noted int
	if err := lodge.QueryRow(t.Context(), "SELECT j.last_value - s.start_value FROM pingo_capture.journal_seq j, pg_sequences s WHERE s.sequencename = 'journal_seq'").Scan(&noted); err != nil {
		t.Fatal(err)
	}
	t.Logf("seed %d: %d changes, %d kills, %d pauses, records put back %d times, a copy of them used %d times",
		seed, noted, kills, pauses, copies.restored, copies.used)
	for _, service := range []*exec.Cmd{w.service, w.second} {
		out, err := exec.Command("ps", "-o", "rss=", "-p", fmt.Sprint(service.Process.Pid)).Output()
		if err != nil || mustInt(t, strings.TrimSpace(string(out))) > 200_000 {
			t.Errorf("a process holds %s kB, %v", out, err)
		}
	}
}

// engineTrouble is what happens to a real engine.
func engineTrouble(t *testing.T, w *world, r *rand.Rand) {
	ask := func(path, body string) {
		w.eventually(5*time.Second, "the engine takes a setting", func() error {
			request, err := http.NewRequestWithContext(
				t.Context(),
				http.MethodPut,
				w.node.URL()+path,
				strings.NewReader(body),
			)
			if err != nil {
				return err
			}
			request.Header.Set("Content-Type", "application/json")
			response, err := http.DefaultClient.Do(request)
			if err != nil {
				return err
			}
			defer response.Body.Close()
			if response.StatusCode >= 300 { // an edition of all may be dropped meanwhile
				return errors.New(response.Status)
			}
			return nil
		})
	}
	if w.typed != nil {
		if err := w.typed.Kill(); err != nil {
			t.Fatal(err)
		}
		time.Sleep(time.Duration(r.IntN(2000)) * time.Millisecond)
		if err := w.typed.Restart(t.Context()); err != nil {
			t.Fatal(err)
		}
		return
	}
	switch r.IntN(3) {
	case 0: // what it has acknowledged is there again
		if err := w.node.Kill(); err != nil {
			t.Fatal(err)
		}
		time.Sleep(time.Duration(r.IntN(2000)) * time.Millisecond)
		if err := w.node.Restart(t.Context()); err != nil {
			t.Fatal(err)
		}
	case 1:
		ask("/_all/_settings", `{"index": {"blocks.write": true}}`)
		time.Sleep(time.Duration(r.IntN(4000)) * time.Millisecond)
		ask("/_all/_settings", `{"index": {"blocks.write": null}}`)
	case 2: // the block comes with the next look at the disk, and goes with another one
		full := `{"transient": {"cluster.info.update.interval": "10s", "cluster.routing.allocation.disk.watermark.low": %[1]s,
			"cluster.routing.allocation.disk.watermark.high": %[1]s, "cluster.routing.allocation.disk.watermark.flood_stage": %[1]s}}`
		ask("/_cluster/settings", fmt.Sprintf(full, `"1%"`))
		time.Sleep(12 * time.Second)
		ask("/_cluster/settings", fmt.Sprintf(full, "null"))
	}
}

func mustInt(t *testing.T, text string) int {
	t.Helper()
	n, err := strconv.Atoi(text)
	if err != nil {
		t.Fatal(err)
	}
	return n
}

func empty(t *testing.T, lodge *pgx.Conn) bool {
	var n int
	return lodge.QueryRow(t.Context(), "SELECT count(*) FROM pingo_capture.journal").Scan(&n) == nil && n == 0
}

// connected does something with a connection to lodge, and again with another one when that was
// lost, until the context ends.
func connected(ctx context.Context, w *world, do func(conn *pgx.Conn)) {
	for ctx.Err() == nil {
		conn, err := pgx.Connect(ctx, w.pg.URL("lodge"))
		if err != nil {
			time.Sleep(50 * time.Millisecond)
			continue
		}
		do(conn)
		conn.Close(context.Background())
	}
}

// writer changes lodge until the context ends: in transactions of one or several
// changes, some of them long, some rolled back, and connects again when it must.
func writer(ctx context.Context, w *world, huts int, seed, number uint64) {
	r := rand.New(rand.NewPCG(seed, 100+number))
	changes := demo.NewChanges(huts, int(number+1)*1_000_000, int64(seed+number))
	connected(ctx, w, func(conn *pgx.Conn) {
		for ctx.Err() == nil && !conn.IsClosed() {
			tx, err := conn.Begin(ctx)
			if err != nil {
				break
			}
			for range 1 + r.IntN(4) {
				// Wide changes are rare: each rebuilds many documents, and so repairs what
				// might have gone wrong with them before.
				switch r.IntN(6000) {
				case 0:
					_, err = conn.Exec(ctx, "UPDATE regions SET name = name || '.' WHERE id = $1", 1+r.IntN(24))
				case 1:
					_, err = conn.Exec(ctx, "UPDATE amenities SET label = label || '.' WHERE id = $1", 1+r.IntN(18))
				case 3,
					4,
					5,
					6,
					7,
					8,
					9,
					10,
					11,
					12,
					13,
					14,
					15,
					16,
					17,
					18,
					19,
					20,
					50,
					51,
					52,
					53,
					54,
					55,
					56,
					57,
					58,
					59:
					_, err = conn.Exec(ctx, "DELETE FROM huts WHERE id = $1", 1+r.IntN(huts))
				case 21, 22, 23, 24, 25, 26, 27, 28, 29, 30, 31, 32, 33, 34, 35, 36, 37, 38, 39, 40:
					_, err = conn.Exec(
						ctx,
						"UPDATE guest_notes SET hut_id = $1 WHERE id = (SELECT id FROM guest_notes WHERE hut_id = $2 LIMIT 1) AND EXISTS (SELECT FROM huts WHERE id = $1)",
						1+r.IntN(huts),
						1+r.IntN(huts),
					)
				default:
					_, err = changes.Make(ctx, conn)
				}
				if err != nil {
					break
				}
				switch n := r.IntN(200); {
				case n == 0:
					time.Sleep(time.Duration(r.IntN(1500)) * time.Millisecond)
				case n < 60: // others that began later commit before
					time.Sleep(time.Duration(r.IntN(20)) * time.Millisecond)
				}
			}
			if err != nil || r.IntN(8) == 0 {
				tx.Rollback(context.Background())
			} else {
				tx.Commit(ctx)
			}
			time.Sleep(time.Duration(r.IntN(5)) * time.Millisecond)
		}
	})
}

// partedTables are tables whose rows come and go with their parts.
const partedTables = `
	CREATE TABLE stays (id int PRIMARY KEY, note text, guests int) PARTITION BY RANGE (id);
	CREATE TABLE stays_0 PARTITION OF stays FOR VALUES FROM (0) TO (100);
	CREATE TABLE stays_1 PARTITION OF stays FOR VALUES FROM (100) TO (200);
	CREATE TABLE stays_2 PARTITION OF stays FOR VALUES FROM (200) TO (300);
	INSERT INTO stays SELECT n, 'note ' || n, n FROM generate_series(0, 299) n;
	CREATE VIEW stay_pages AS SELECT s.id, to_jsonb(s) AS page FROM stays s;
	CREATE TABLE annexes (id int PRIMARY KEY, name text);
	CREATE TABLE sheds (slope text) INHERITS (annexes);
	INSERT INTO annexes SELECT n, 'annex ' || n FROM generate_series(1, 50) n;
	INSERT INTO sheds SELECT n, 'shed ' || n, 'north' FROM generate_series(51, 80) n`

// stormFiles is the demo's definition with indexes of these tables.
func stormFiles() []api.File {
	return append(demo.Files(), api.File{Name: "parts.yaml", Text: `
indexes:
  stays:
    engine: main
    rows: lodge.stay_pages
    key: id
    fields: { note: { sql: "page->>'note'" }, guests: { sql: "(page->>'guests')::int", type: integer } }
  annexes: { engine: tables, rows: lodge.annexes, fields: [name] }
`})
}

// parts changes rows of partitions and children, and has these come and go with their rows,
// until the context ends.
func parts(ctx context.Context, w *world, seed uint64) {
	r := rand.New(rand.NewPCG(seed, 77))
	connected(ctx, w, func(conn *pgx.Conn) {
		for ctx.Err() == nil && !conn.IsClosed() {
			n, id := r.IntN(3), r.IntN(100)
			do := fmt.Sprintf(
				"UPDATE stays SET note = note || '.' WHERE id %% 100 = %d; UPDATE annexes SET name = name || '.' WHERE id = %d",
				id,
				id,
			)
			switch r.IntN(60) {
			case 0:
				do = fmt.Sprintf("ALTER TABLE stays DETACH PARTITION stays_%d", n)
			case 1, 2:
				do = fmt.Sprintf(
					"ALTER TABLE stays ATTACH PARTITION stays_%d FOR VALUES FROM (%d) TO (%d)",
					n,
					100*n,
					100*n+100,
				)
			case 3:
				do = fmt.Sprintf(
					`DROP TABLE stays_%d; CREATE TABLE stays_%[1]d (id int NOT NULL, note text, guests int);
					INSERT INTO stays_%[1]d SELECT n, 'again ' || n, n FROM generate_series(%d, %d) n;
					ALTER TABLE stays ATTACH PARTITION stays_%[1]d FOR VALUES FROM (%[2]d) TO (%d)`,
					n,
					100*n,
					100*n+50,
					100*n+100,
				)
			case 4:
				do = "ALTER TABLE sheds NO INHERIT annexes"
			case 5, 6:
				do = "UPDATE sheds SET name = name || '!'; ALTER TABLE sheds INHERIT annexes"
			case 7:
				do = fmt.Sprintf(
					"TRUNCATE stays_%d; INSERT INTO stays_%[1]d SELECT n, 'fresh ' || n, n FROM generate_series(%d, %d) n",
					n,
					100*n,
					100*n+30,
				)
			case 8:
				// No key spans a table and its children.
				do = fmt.Sprintf(
					"DELETE FROM annexes WHERE id = %d; DELETE FROM sheds WHERE id = %d; INSERT INTO sheds VALUES (%[2]d, 'new', 'south')",
					id,
					81+id,
				)
			}
			// What cannot be done, since a part is there or is not, is not done.
			conn.Exec(ctx, "BEGIN; SET LOCAL lock_timeout = '1s'; "+do+"; COMMIT")
			conn.Exec(ctx, "ROLLBACK")
			time.Sleep(time.Duration(r.IntN(60)) * time.Millisecond)
			if strings.Contains(do, "INHERIT") || strings.Contains(do, "PARTITION") {
				time.Sleep(2500 * time.Millisecond) // what comes and goes sooner leaves no trace
			}
		}
	})
}

// migrate changes the schema of the demo's tables until the context ends, and leaves every column with the name
// and the values that it had.
func migrate(ctx context.Context, w *world, seed uint64) {
	r := rand.New(rand.NewPCG(seed, 78))
	// Each with what ends it, a little later.
	migrations := [][2]string{
		{"ALTER TABLE huts RENAME summary TO about", "ALTER TABLE huts RENAME about TO summary"},
		{"ALTER TABLE regions RENAME name TO title", "ALTER TABLE regions RENAME title TO name"},
		{"ALTER TABLE guest_notes RENAME hut_id TO hut", "ALTER TABLE guest_notes RENAME hut TO hut_id"},
		{"ALTER TABLE amenities ALTER label TYPE varchar(500)", "ALTER TABLE amenities ALTER label TYPE text"},
		{"ALTER TABLE huts ALTER visits_counted TYPE bigint", "ALTER TABLE huts ALTER visits_counted TYPE int"},
		{"ALTER TABLE regions ADD kept text; UPDATE regions SET kept = name || '_'; ALTER TABLE regions DROP name; ALTER TABLE regions RENAME kept TO name", ""},
		{"ALTER TABLE closures ADD noted_by text DEFAULT 'nobody'", "ALTER TABLE closures DROP noted_by"},
		{"ALTER TABLE keepers ADD middle_name text; ALTER TABLE keepers DROP telephone", "ALTER TABLE keepers DROP middle_name; ALTER TABLE keepers ADD telephone text"},
		{`CREATE FUNCTION warm() RETURNS trigger LANGUAGE plpgsql AS $$BEGIN NEW.night_price := NEW.night_price + 0.01; RETURN NEW; END$$;
			CREATE TRIGGER warm BEFORE UPDATE ON huts FOR EACH ROW EXECUTE FUNCTION warm()`, "DROP TRIGGER warm ON huts; DROP FUNCTION warm()"},
		{"ALTER TABLE hut_amenities ADD CONSTRAINT once UNIQUE (amenity_id, hut_id)", "ALTER TABLE hut_amenities DROP CONSTRAINT once"},
	}
	do := func(sql string) bool {
		if sql == "" {
			return true
		}
		conn, err := pgx.Connect(context.Background(), w.pg.URL("lodge"))
		if err != nil {
			return false
		}
		defer conn.Close(context.Background())
		_, err = conn.Exec(context.Background(), "BEGIN; SET LOCAL lock_timeout = '2s'; "+sql+"; COMMIT")
		return err == nil
	}
	for ctx.Err() == nil {
		m := migrations[r.IntN(len(migrations))]
		if do(m[0]) {
			time.Sleep(time.Duration(r.IntN(4000)) * time.Millisecond)
			for end := time.Now().Add(time.Minute); !do(m[1]); time.Sleep(100 * time.Millisecond) {
				if time.Now().After(end) {
					w.t.Errorf("%s could not be done", m[1])
					return
				}
			}
		}
		time.Sleep(time.Duration(r.IntN(4000)) * time.Millisecond)
	}
}

// recordsCopies copies the records, and puts a copy back, while no process runs.
type recordsCopies struct {
	made           time.Time // zero when there is none
	restored, used int
}

// old is how old a copy must be for anybody to tell it from the records.
const old = 12 * time.Second

func (c *recordsCopies) step(w *world) {
	w.t.Helper()
	conn, err := pgx.Connect(w.t.Context(), w.pg.URL("postgres"))
	if err != nil {
		return // the server restarts just now
	}
	defer conn.Close(context.Background())
	switch {
	case c.made.IsZero():
		if _, err := conn.Exec(w.t.Context(), "DROP DATABASE IF EXISTS pingo_copy WITH (FORCE)"); err == nil {
			if _, err = conn.Exec(w.t.Context(), "CREATE DATABASE pingo_copy TEMPLATE pingo"); err == nil {
				c.made = time.Now()
			}
		}
	case time.Since(c.made) > old:
		pgtest.Exec(w.t, conn, "DROP DATABASE pingo WITH (FORCE)")
		pgtest.Exec(w.t, conn, "CREATE DATABASE pingo TEMPLATE pingo_copy")
		c.made = time.Time{}
		c.restored++
	}
}

// use has a process work on the copy for a moment, next to those that work on the records: it
// must do nothing.
func (c *recordsCopies) use(w *world) {
	w.t.Helper()
	if c.made.IsZero() || time.Since(c.made) > time.Second {
		return
	}
	near := w.env
	w.env = append(slices.Clone(near), "PINGO_RECORDS_URL="+w.pg.URL("pingo_copy"))
	third := w.process(freeAddress(w.t))
	w.env = near
	time.Sleep(6 * time.Second)
	third.Process.Kill()
	third.Wait()
	c.used++
}
