package cli_test

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"math/rand/v2"
	"net/http"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/jackc/pgx/v5/pgxpool"

	"pingo/internal/api"
	"pingo/internal/client"
	"pingo/internal/lab/pgtest"
)

// tarns is a definition whose documents all bear a mark, in an index of each engine.
func tarns(mark, more string) string {
	index := func(name, engine string) string {
		return fmt.Sprintf(`  %s:
    engine: %s
    rows: lodge.tarns
    fields: { name: { search: 1 }, seen: { filter: true }, mark: { sql: "'%s'", filter: true, facet: true } }
%s`, name, engine, mark, more)
	}
	return `
sources: { lodge: { kind: postgres, url: "${LODGE_URL}" } }
engines:
  main: { kind: opensearch, url: "${SEARCH_URL}" }
  tables: { kind: postgres, url: "${TABLES_URL}" }
indexes:
` + index("tarns", "main") + index("tarns_tables", "tables")
}

// searched is what a client finds when it asks an engine itself, by the public name: how many
// documents, and which marks they bear.
type searched func(ctx context.Context) (documents int, marks []string, err error)

func (w *world) inEngine(index string) searched {
	const body = `{"size": 0, "track_total_hits": true, "aggs": {"marks": {"terms": {"field": "mark", "size": 9}}}}`
	return func(ctx context.Context) (int, []string, error) {
		r, err := http.Post(w.engine.URL+"/"+index+"/_search", "application/json", strings.NewReader(body))
		if err != nil {
			return 0, nil, err
		}
		defer r.Body.Close()
		text, err := io.ReadAll(r.Body)
		var found struct {
			Hits         struct{ Total struct{ Value int } }
			Aggregations struct {
				Marks struct{ Buckets []struct{ Key string } }
			}
		}
		if err == nil {
			err = json.Unmarshal(text, &found)
		}
		if err != nil || r.StatusCode != 200 {
			return 0, nil, fmt.Errorf("%s: %.300s %v", r.Status, text, err)
		}
		var marks []string
		for _, b := range found.Aggregations.Marks.Buckets {
			marks = append(marks, b.Key)
		}
		return found.Hits.Total.Value, marks, nil
	}
}

func inTables(pool *pgxpool.Pool, index string) searched {
	return func(ctx context.Context) (n int, marks []string, err error) {
		err = pool.QueryRow(ctx, "SELECT count(*), array_agg(DISTINCT pingo_document ->> 'mark') FROM pingo_search."+index).
			Scan(&n, &marks)
		return n, marks, err
	}
}

// watch asks a public name every few milliseconds, until the context ends, and tells whatever is not
// all the documents of one edition. It returns how often it asked.
func watch(ctx context.Context, t *testing.T, name string, want int, search searched) (asked int) {
	for ctx.Err() == nil {
		n, marks, err := search(context.Background())
		if asked++; err != nil || n != want || len(marks) != 1 {
			t.Errorf("%s: %d documents instead of %d, marked %v, %v", name, n, want, marks, err)
			return asked
		}
		time.Sleep(3 * time.Millisecond)
	}
	return asked
}

// Ten reindexes in a row on each engine, and some ways back, while rows are written, searches are made
// and Pingo is killed: no search finds anything but one whole edition, and in the end all is as the rows are.
func TestSearchesNeverNoticeAReindex(t *testing.T) {
	w := newWorld(t)
	const rows = 1500
	lodge := pgtest.Connect(t, w.pg.URL("lodge"))
	pgtest.Exec(t, lodge, `CREATE TABLE tarns (id int PRIMARY KEY, name text, seen int NOT NULL);
		INSERT INTO tarns SELECT i, 'tarn ' || i, 0 FROM generate_series(1, `+strconv.Itoa(rows)+`) i`)
	w.serve()
	w.must("apply", "--yes", w.write(tarns("m0", "")))

	tables, err := pgxpool.New(t.Context(), w.pg.URL("tables"))
	if err != nil {
		t.Fatal(err)
	}
	defer tables.Close()
	writer := pgtest.Connect(t, w.pg.URL("lodge"))
	ctx, stop := context.WithCancel(t.Context())
	searches := map[string]searched{"tarns": w.inEngine("tarns"), "tarns_tables": inTables(tables, "tarns_tables")}
	var work sync.WaitGroup
	asked := map[string]int{}
	var mu sync.Mutex
	for name, search := range searches {
		work.Go(func() {
			n := watch(ctx, t, name, rows, search)
			mu.Lock()
			defer mu.Unlock()
			asked[name] = n
		})
	}
	written := 0
	work.Go(func() {
		r := rand.New(rand.NewPCG(1, 1))
		for ctx.Err() == nil {
			if _, err := writer.Exec(context.Background(), "UPDATE tarns SET seen = seen + 1 WHERE id = $1", 1+r.IntN(rows)); err != nil {
				t.Error(err)
				return
			}
			written++
			time.Sleep(4 * time.Millisecond)
		}
	})

	r := rand.New(rand.NewPCG(7, 7))
	kills := 0
	mark := ""
	for i := 1; i <= 10 && !t.Failed(); i++ {
		mark = fmt.Sprint("m", i)
		file := w.write(tarns(mark, ""))
		applied := make(chan bool)
		go func() {
			defer close(applied)
			for ctx.Err() == nil { // the process that applies tries again when the service has died over it
				if _, _, code := w.run("apply", "--yes", file); code == 0 {
					return
				}
				time.Sleep(50 * time.Millisecond)
			}
		}()
		for range r.IntN(3) {
			time.Sleep(time.Duration(r.IntN(1500)) * time.Millisecond)
			w.kill()
			kills++
			w.serve()
		}
		<-applied
		everywhere := func(mark string) {
			t.Helper()
			for name, search := range searches {
				w.eventually(20*time.Second, name+" answers with "+mark, func() error {
					if _, marks, err := search(t.Context()); err != nil || marks[0] != mark {
						return fmt.Errorf("%v %v", marks, err)
					}
					return nil
				})
			}
		}
		everywhere(mark)
		if i%3 == 0 { // back, and forward again
			for _, back := range []string{fmt.Sprint("m", i-1), mark} {
				for name := range searches {
					w.must("reindex", "rollback", "--yes", name)
				}
				everywhere(back)
			}
		}
	}
	stop()
	work.Wait()
	t.Logf(
		"%d searches of one engine and %d of the other, %d writes, %d kills",
		asked["tarns"],
		asked["tarns_tables"],
		written,
		kills,
	)
	if asked["tarns"] < 200 || asked["tarns_tables"] < 200 || written < 200 || kills == 0 {
		t.Error("too little happened to show anything")
	}
	for name := range searches {
		w.must("wait", name)
		w.equalTo(lodge, tarns(mark, ""), name, 0)
	}
}

// An edition that answered before has every change that was made since, by its own definition.
func TestBackAndForwardAgain(t *testing.T) {
	w := newWorld(t)
	lodge := pgtest.Connect(t, w.pg.URL("lodge"))
	pgtest.Exec(t, lodge, `CREATE TABLE tarns (id int PRIMARY KEY, name text, seen int NOT NULL);
		INSERT INTO tarns SELECT i, 'tarn ' || i, 0 FROM generate_series(1, 900) i`)
	w.serve()
	before, after := tarns(
		"before",
		"",
	), tarns(
		"after",
		"    expect:\n      - { search: tarn 7, finds: 7, among: 1 }\n",
	)
	w.must("apply", "--yes", w.write(before))
	first := w.edition("tarns")
	w.must("apply", "--yes", w.write(after))
	second := w.edition("tarns")
	write := func() {
		t.Helper()
		pgtest.Exec(t, lodge, `UPDATE tarns SET seen = seen + 1, name = name || ' seen' WHERE id % 7 = 0;
			DELETE FROM tarns WHERE id = (SELECT max(id) FROM tarns); INSERT INTO tarns SELECT max(id) + 10, 'new', 1 FROM tarns`)
	}
	for range 20 {
		write()
		time.Sleep(20 * time.Millisecond)
	}
	is := func(edition, definition string) {
		t.Helper()
		w.must("wait", "tarns") // after a kill, the status first tells what the dead process had said last
		if now := w.edition("tarns"); now != edition {
			t.Fatalf("%s answers instead of %s", now, edition)
		}
		w.equalTo(lodge, definition, "tarns", 0)
	}
	is(second, after)
	if out := w.must("reindex", "compare", "tarns"); !strings.Contains(out, "mark") ||
		!strings.Contains(out, `- mark: "before"`) ||
		!strings.Contains(out, `+ mark: "after"`) ||
		!strings.Contains(out, "0 the same, 900 differ, 0 in the old one only") {
		t.Error(out)
	}
	write()
	if out := w.must("reindex", "rollback", "--yes", "tarns"); !strings.Contains(
		out,
		first+" is live, from definition version 1.",
	) {
		t.Error(out)
	}
	is(first, before)
	write()
	w.kill() // also after the process that knew of all this has died
	write()
	w.serve()
	is(first, before)
	w.must("reindex", "rollback", "--yes", "tarns")
	is(second, after)
	w.must("reindex", "rollback", "--yes", "tarns", "--to", first)
	is(first, before)
	for args, words := range map[string]string{
		"rollback --yes tarns --to tarns-e99": "is not known", "rollback --yes lakes": "is not known", "pause tarns": "no edition of tarns is being filled",
		"pace tarns --documents 5": "no edition of tarns is being filled", "watch tarns": "no edition of tarns is being filled",
	} {
		if _, errs, code := w.run(append([]string{"reindex"}, strings.Fields(args)...)...); code != 1 ||
			!strings.Contains(errs, words) {
			t.Errorf("%s: exit %d: %s", args, code, errs)
		}
	}

	// An edition in which a search does not find what it should, and the live one does, waits. What the live one does not find
	// either makes no difference.
	if _, errs, code := w.run("apply", "--yes", w.write(tarns("last", "    where: \"id <> 7 OR name = 'tarn 7!'\"\n    expect:\n      - { search: tarn 7, finds: 7, among: 1 }\n      - { search: nowhere, finds: 1 }\n"))); code != 1 ||
		!strings.Contains(errs, `0 of 2 searches find what they should, and 1 fail in the live edition as well; "tarn 7" does not find 7 first`) {
		t.Errorf("exit %d: %s", code, errs)
	}
	if out, _, code := w.run("expect", "tarns"); code != 1 ||
		strings.Count(out, `fails  "tarn 7" does not find 7 first`) != 1 {
		t.Errorf("exit %d: %s", code, out)
	}
	is(first, before)
	pgtest.Exec(t, lodge, "UPDATE tarns SET name = 'tarn 7!' WHERE id = 7")
	w.index(20*time.Second, "the edition answers", "tarns", func(ix api.IndexStatus) bool {
		return ix.Edition != first && ix.Edition != second && ix.State == api.StateInSync
	})
	if out, _, code := w.run("expect", "tarns"); code != 1 || strings.Contains(out, `fails  "tarn 7"`) {
		t.Errorf("exit %d: %s", code, out)
	}

	// Kept for a while only: then the engine has one edition.
	third := w.edition("tarns")
	w.must("apply", "--yes", w.write(tarns("short", "    reindex: { keep_previous: 2s }\n")))
	w.eventually(20*time.Second, "what was kept is dropped", func() error {
		runs, err := w.client.Runs(t.Context(), "tarns")
		if err != nil || slices.ContainsFunc(runs, func(r api.Run) bool { return r.Edition == third }) {
			return fmt.Errorf("%v %v", runs, err)
		}
		return nil
	})
}

// A rollback deletes an edition that waits for a decision on request, and a kept edition can be dropped before its time.
func TestRollbackInsteadOfASwitch(t *testing.T) {
	w := newWorld(t)
	lodge := pgtest.Connect(t, w.pg.URL("lodge"))
	pgtest.Exec(t, lodge, `CREATE TABLE tarns (id int PRIMARY KEY, name text, seen int NOT NULL);
		INSERT INTO tarns SELECT i, 'tarn ' || i, 0 FROM generate_series(1, 50) i`)
	w.serve()
	before := tarns("before", "")
	w.must("apply", "--yes", w.write(before))
	first := w.edition("tarns")
	w.must("apply", "--yes", w.write(tarns("after", "")))
	second := w.edition("tarns")
	w.must("apply", "--yes", "--no-wait", w.write(tarns("last", "    reindex: { switch: on_command }\n")))
	third := ""
	w.index(20*time.Second, "an edition waits for a decision", "tarns", func(ix api.IndexStatus) bool {
		if ix.Fill != nil {
			third = ix.Fill.Edition
		}
		return ix.Fill != nil && ix.Fill.ByHand
	})
	for args, words := range map[string]string{
		"rollback --yes tarns":          third + " is ready: cancel it first, or pass --cancel",
		"drop --yes tarns " + second:    "only a previous edition can be dropped",
		"drop --yes tarns " + third:     "only a previous edition can be dropped",
		"drop --yes tarns tarns-e99":    `edition "tarns-e99" of tarns is not known`,
		"drop --yes lakes " + first:     `index "lakes" is not known`,
		"rollback --yes --cancel lakes": `index "lakes" is not known`,
	} {
		if _, errs, code := w.run(append([]string{"reindex"}, strings.Fields(args)...)...); code != 1 || !strings.Contains(errs, words) {
			t.Errorf("%s: exit %d: %s", args, code, errs)
		}
	}
	w.must("reindex", "rollback", "--yes", "--cancel", "tarns")
	remains := func(names ...string) {
		t.Helper()
		w.eventually(20*time.Second, fmt.Sprint("of the editions remain ", names), func() error {
			runs, err := w.client.Runs(t.Context(), "tarns")
			var are []string
			for _, r := range runs {
				are = append(are, r.Edition)
			}
			slices.Sort(are)
			if err != nil || !slices.Equal(are, names) {
				return fmt.Errorf("%v %v", are, err)
			}
			return nil
		})
	}
	remains(first, second)
	if now := w.edition("tarns"); now != first {
		t.Fatalf("%s is live instead of %s", now, first)
	}
	pgtest.Exec(t, lodge, "UPDATE tarns SET name = name || '!' WHERE id % 2 = 0")
	w.must("wait", "tarns")
	w.equalTo(lodge, before, "tarns", 0)
	w.must("reindex", "drop", "tarns", second, "--yes")
	remains(first)
	if _, errs, code := w.run("reindex", "rollback", "--yes", "tarns"); code != 1 || !strings.Contains(errs, "keeps no previous edition of tarns") {
		t.Errorf("exit %d: %s", code, errs)
	}
	w.equalTo(lodge, before, "tarns", 0)
}

// An index that is removed from the definition leaves its live edition in the engine, and nothing else.
func TestARemovedIndexLeavesWhatIsLive(t *testing.T) {
	w := newWorld(t)
	lodge := pgtest.Connect(t, w.pg.URL("lodge"))
	pgtest.Exec(t, lodge, `CREATE TABLE tarns (id int PRIMARY KEY, name text, seen int NOT NULL);
		INSERT INTO tarns SELECT i, 'tarn ' || i, 0 FROM generate_series(1, 3000) i`)
	w.serve()
	head, both, _ := strings.Cut(tarns("first", ""), "  tarns:\n")
	without := w.write(head + both[strings.Index(both, "  tarns_tables:\n"):])
	leaves := func(names ...string) {
		t.Helper()
		w.must("apply", "--yes", "--accept", "tarns", without)
		w.eventually(20*time.Second, fmt.Sprint("the engine has ", names), func() error {
			r, err := http.Get(w.engine.URL + "/_alias")
			if err != nil {
				return err
			}
			defer r.Body.Close()
			var have map[string]any
			if err := json.NewDecoder(r.Body).Decode(&have); err != nil || !slices.Equal(slices.Sorted(maps.Keys(have)), names) {
				return fmt.Errorf("%v %v", have, err)
			}
			return nil
		})
	}
	w.fault(`{"slow_ms": 1500}`)
	w.must("apply", "--yes", "--no-wait", w.write(tarns("first", "")))
	w.index(20*time.Second, "the first edition is filled", "tarns", func(ix api.IndexStatus) bool { return ix.Fill != nil && ix.Fill.State == api.FillFilling })
	leaves()
	w.fault(`{}`)
	w.must("apply", "--yes", w.write(tarns("first", "")))
	w.must("apply", "--yes", w.write(tarns("second", "")))
	second := w.edition("tarns")
	w.fault(`{"slow_ms": 1500}`)
	w.must("apply", "--yes", "--no-wait", w.write(tarns("third", "")))
	w.index(20*time.Second, "the third edition is filled", "tarns", func(ix api.IndexStatus) bool { return ix.Fill != nil && ix.Fill.State == api.FillFilling })
	leaves(second)
}

var entered = regexp.MustCompile(`edition entered state" index=tarns edition=(\S+) state="?([a-z ]+)`)

// Killed in every phase, it resumes: a chunk that was done is not read again, and the end is right. Where
// there are two processes, the one that feeds the edition is killed.
func TestKilledInEveryPhaseOfAReindex(t *testing.T) {
	t.Run("one process", func(t *testing.T) { killedInEveryPhase(t, false) })
	t.Run("two processes", func(t *testing.T) { killedInEveryPhase(t, true) })
}

func killedInEveryPhase(t *testing.T, two bool) {
	w := newWorld(t)
	lodge := pgtest.Connect(t, w.pg.URL("lodge"))
	const rows = 30_000
	pgtest.Exec(t, lodge, `CREATE TABLE tarns (id int PRIMARY KEY, name text, seen int NOT NULL);
		INSERT INTO tarns SELECT i, 'tarn ' || i, 0 FROM generate_series(1, `+strconv.Itoa(rows)+`) i`)
	w.serve()
	w.must("apply", "--yes", w.write(tarns("m0", "")))
	killAndServe := func(meanwhile func()) {
		w.kill()
		meanwhile()
		w.serve()
	}
	mostOpen := 4
	if two {
		other := freeAddress(t)
		w.second = w.process(other)
		killAndServe = func(meanwhile func()) { w.killTheFeeding(other, meanwhile) }
		mostOpen = 8
	}
	for i, phase := range []string{"begun", "filling", "half", "catching up", "checking", "ready", "switched", "returning"} {
		seen := len(w.log.String())
		edition := w.edition("tarns")
		if phase == "returning" {
			w.must("reindex", "rollback", "--yes", "tarns") // the kill comes before or after its switch
		} else {
			w.must("reindex", "start", "tarns", "--no-wait")
		}
		w.eventually(20*time.Second, phase, func() error {
			if phase == "begun" || phase == "returning" {
				return nil
			}
			if phase == "half" {
				status, err := w.client.Status(t.Context())
				if err == nil && status.Index("tarns").Fill != nil && status.Index("tarns").Fill.Rows > 0 {
					return nil
				}
				return fmt.Errorf("not yet, %v", err)
			}
			for _, m := range entered.FindAllStringSubmatch(w.log.String()[seen:], -1) {
				if m[2] == phase {
					return nil
				}
			}
			return fmt.Errorf("not yet")
		})
		killAndServe(func() {
			pgtest.Exec(t, lodge, fmt.Sprintf("UPDATE tarns SET seen = %d WHERE id %% 100 = 1", i+1))
		})
		w.index(60*time.Second, "another edition answers after "+phase, "tarns", func(ix api.IndexStatus) bool {
			return ix.Edition != edition && ix.State == api.StateInSync
		})
		w.must("wait", "tarns")
		w.equalTo(lodge, tarns("m0", ""), "tarns", 0)
		for _, m := range regexp.MustCompile(`fill resumed.* rows=(\d+) openChunks=(\d+)`).FindAllStringSubmatch(w.log.String()[seen:], -1) {
			if open, _ := strconv.Atoi(m[2]); open > mostOpen {
				t.Errorf("%s: %s", phase, m[0])
			}
		}
		runs, err := w.client.Runs(t.Context(), "tarns")
		if err != nil || runs[0].Rows != rows {
			t.Errorf("%s: %+v %v", phase, runs, err)
		}
	}
}

// killTheFeeding kills the one of two processes that feeds the source, does something, and starts it again once the
// other one has taken its place.
func (w *world) killTheFeeding(second string, meanwhile func()) {
	w.t.Helper()
	feeds := func(asked *client.Client) (address string) {
		w.eventually(20*time.Second, "a process feeds the source", func() error {
			status, err := asked.Status(w.t.Context())
			if err != nil {
				return err
			}
			for _, p := range status.Processes {
				if len(p.Sources) > 0 {
					address = p.Address
				}
			}
			if address == "" {
				return fmt.Errorf("no one: %+v", status.Processes)
			}
			return nil
		})
		return address
	}
	killed, other := &w.service, &client.Client{URL: "http://" + second, Token: w.client.Token}
	address := feeds(w.client)
	if address == second {
		killed, other = &w.second, w.client
	}
	(*killed).Process.Kill()
	(*killed).Wait()
	meanwhile()
	w.eventually(20*time.Second, "the other one feeds it", func() error {
		if now := feeds(other); now == address {
			return fmt.Errorf("%s still does", now)
		}
		return nil
	})
	*killed = w.process(address)
	w.eventually(20*time.Second, "it answers again", func() error {
		_, err := (&client.Client{URL: "http://" + address, Token: w.client.Token}).Status(w.t.Context())
		return err
	})
}
