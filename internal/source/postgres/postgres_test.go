package postgres

import (
	"context"
	"fmt"
	"math/rand/v2"
	neturl "net/url"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"pingo/internal/core/change"
	"pingo/internal/core/definition"
	"pingo/internal/core/document"
	"pingo/internal/core/shape"
	"pingo/internal/lab/pgtest"
	"pingo/internal/lab/slowlink"
	"pingo/internal/source"
)

func TestMain(m *testing.M) { pgtest.Main(m) }

func open(t *testing.T, url string) *source.Source {
	t.Helper()
	p, err := Open(source.Config{URL: url, ConnectTimeout: time.Second})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(p.Close)
	return p
}

// language knows the kinds that the tests' definitions name.
var language = definition.Kinds{
	Sources: []definition.Kind{{Name: "postgres", Schemes: Kind.Schemes, Captures: Kind.Captures, Keys: Kind.Keys}},
	Engines: []definition.Kind{
		{Name: "opensearch", Schemes: []string{"http"}, Keys: `{}`},
		{Name: "postgres", Schemes: Kind.Schemes, Keys: `{}`},
	},
}

func captured(table string, key, watch, links []string) shape.Captured {
	return shape.Captured{Table: shape.Ref{Schema: "public", Name: table}, Key: key, Root: len(key) > 0, Watch: watch, Links: links}
}

// install installs capture and claims the journal.
func install(t *testing.T, p *source.Source, need []shape.Captured) ([]shape.Ref, error) {
	t.Helper()
	made, err := p.Capture.Install(t.Context(), "one", need)
	if err != nil {
		return made, err
	}
	now, err := p.Claimed(t.Context())
	if err == nil {
		err = p.Claim(t.Context(), now, change.Claim{Service: "one", Holder: "A", Epoch: 1})
	}
	return made, err
}

// read takes what the journal holds, as text, and forgets it.
func read(t *testing.T, p *source.Source) []string {
	t.Helper()
	changes, err := p.Changes(t.Context(), 1000)
	if err != nil {
		t.Fatal(err)
	}
	var out []string
	var seqs []int64
	for _, c := range changes {
		line := fmt.Sprintf("%s %s %s", c.Table.Name, c.Op, strings.Join(c.Key, ","))
		if len(c.Was) > 0 {
			line += " was " + strings.Join(c.Was, ",")
		}
		for _, link := range c.Links {
			line += fmt.Sprintf(" %s%v", link, slices.Concat(c.Values([]string{link})...))
		}
		out, seqs = append(out, line), append(seqs, c.Seq)
	}
	if err := p.Done(t.Context(), seqs); err != nil {
		t.Fatal(err)
	}
	return out
}

func TestJournalNotesWhatMattersAndNothingElse(t *testing.T) {
	url := pgtest.URL(t)
	conn, p := pgtest.Connect(t, url), open(t, url)
	pgtest.Exec(t, conn, `
		CREATE TABLE huts (id int PRIMARY KEY, name text, beds numeric, visits int, facts json);
		CREATE TABLE notes (id int PRIMARY KEY, hut_id int REFERENCES huts ON DELETE CASCADE ON UPDATE CASCADE, body text);
		CREATE TABLE "Odd Pairs" (a int, "B b" text, v text, PRIMARY KEY (a, "B b"));
		CREATE TABLE loose (hut_id int, word text);
		CREATE ROLE writer; GRANT ALL ON ALL TABLES IN SCHEMA public TO writer;`)
	need := []shape.Captured{
		captured("huts", []string{"id"}, []string{"id", "name", "beds", "facts"}, nil),
		captured("notes", []string{"id"}, []string{"hut_id", "body"}, []string{"hut_id"}),
		captured("Odd Pairs", []string{"a", "B b"}, []string{"a", "B b", "v"}, []string{"a", "v"}),
		captured("loose", nil, []string{"hut_id", "word"}, []string{"hut_id"}),
	}
	made, err := install(t, p, need)
	if err != nil || len(made) != 4 {
		t.Fatal(made, err)
	}
	if made, err = install(t, p, need); err != nil || len(made) != 0 {
		t.Fatalf("installed again: %v %v", made, err)
	}
	if _, err := p.Capture.Install(t.Context(), "two", need); err == nil ||
		!strings.Contains(err.Error(), "another Pingo service (one) reads this database's journal already") {
		t.Errorf("a second service: %v", err)
	}
	// As the application does it: with no right to anything of Pingo's.
	pgtest.Exec(t, conn, "SET ROLE writer")
	for _, c := range []struct {
		sql  string
		want []string
	}{
		{"INSERT INTO huts VALUES (1, 'a', 1.0, 0, '{}'), (2, 'b', 2, 0, '{}')", []string{"huts insert 1", "huts insert 2"}},
		{"UPDATE huts SET visits = 5", nil},
		{"UPDATE huts SET name = name, beds = beds, facts = facts", nil},
		{"UPDATE huts SET beds = 1.00 WHERE id = 1", []string{"huts update 1"}},
		{"UPDATE huts SET facts = '{ }' WHERE id = 1", []string{"huts update 1"}},
		{"UPDATE huts SET name = NULL WHERE id = 2", []string{"huts update 2"}},
		{"BEGIN; UPDATE huts SET name = 'x'; ROLLBACK", nil},
		{"INSERT INTO notes VALUES (7, 1, 'x'), (8, NULL, 'y')", []string{"notes insert 7 hut_id[1]", "notes insert 8 hut_id[]"}},
		{"UPDATE notes SET hut_id = 2 WHERE id = 7", []string{"notes update 7 hut_id[1 2]"}},
		{"UPDATE huts SET id = 3 WHERE id = 2", []string{"huts update 3 was 2", "notes update 7 hut_id[2 3]"}},
		{"DELETE FROM huts WHERE id = 3", []string{"huts delete 3", "notes delete 7 hut_id[3]"}},
		{`INSERT INTO "Odd Pairs" VALUES (1, 'x,"y', NULL)`, []string{`Odd Pairs insert 1,x,"y a[1] v[]`}},
		{`UPDATE "Odd Pairs" SET v = 'NULL'`, []string{`Odd Pairs update 1,x,"y a[1] v[NULL]`}},
		{"INSERT INTO loose VALUES (1, 'w'); DELETE FROM loose", []string{"loose delete  hut_id[1]", "loose insert  hut_id[1]"}},
		{"SET session_replication_role = replica; UPDATE huts SET name = 'r'", nil}, // not allowed, see below
		{"TRUNCATE notes", []string{"notes truncate  hut_id[]"}},
	} {
		if _, err := conn.Exec(t.Context(), c.sql); err != nil && !strings.Contains(c.sql, "replica") {
			t.Fatalf("%s: %v", c.sql, err)
		}
		got := read(t, p)
		slices.Sort(got)
		if !slices.Equal(got, c.want) {
			t.Errorf("%s\n got %q\nwant %q", c.sql, got, c.want)
		}
	}
	pgtest.Exec(
		t,
		conn,
		"RESET ROLE; SET session_replication_role = replica; UPDATE huts SET name = 'r'; RESET session_replication_role; COPY loose FROM PROGRAM 'echo 5,x' WITH (FORMAT csv)",
	)
	if got := read(t, p); !slices.Equal(got, []string{"huts update 1", "loose insert  hut_id[5]"}) {
		t.Errorf("replica role and COPY: %q", got)
	}
	// Renamed columns break no write, and changes are still noted: by the row while its key has its name.
	pgtest.Exec(
		t,
		conn,
		"ALTER TABLE huts RENAME name TO title; ALTER TABLE notes RENAME hut_id TO hut; UPDATE huts SET title = 's'; INSERT INTO notes VALUES (9, 1, 'z')",
	)
	if got := read(t, p); !slices.Equal(got, []string{"huts update 1", "notes truncate  hut_id[]"}) {
		t.Errorf("renamed: %q", got)
	}
	pgtest.Exec(t, conn, "ALTER TABLE huts RENAME id TO number; UPDATE huts SET title = 's'")
	if got := read(t, p); !slices.Equal(got, []string{"huts truncate "}) {
		t.Errorf("the key renamed: %q", got)
	}
	pgtest.Exec(
		t,
		conn,
		"ALTER TABLE huts RENAME title TO name; ALTER TABLE huts RENAME number TO id; ALTER TABLE notes RENAME hut TO hut_id",
	)
	// A trigger of the application that changes a watched column unasked.
	pgtest.Exec(
		t,
		conn,
		`CREATE FUNCTION shout() RETURNS trigger LANGUAGE plpgsql AS 'BEGIN NEW.name := ''!'' || NEW.visits; RETURN NEW; END';
		CREATE TRIGGER shout BEFORE UPDATE ON huts FOR EACH ROW EXECUTE FUNCTION shout()`,
	)
	pgtest.Exec(t, conn, "UPDATE huts SET visits = 9")
	if got := read(t, p); !slices.Equal(got, []string{"huts update 1"}) {
		t.Errorf("changed by a trigger: %q", got)
	}
	sql, err := p.Capture.Script(t.Context(), need)
	if err != nil {
		t.Fatal(err)
	}
	before := catalogue(t, conn)
	if err := p.Capture.Remove(t.Context()); err != nil {
		t.Fatal(err)
	}
	if left := catalogue(t, conn); strings.Contains(left, "pingo") || !strings.Contains(before, "pingo") {
		t.Errorf("left behind: %s", left)
	}
	// What a person would run by hand is the same.
	pgtest.Exec(t, conn, sql)
	if after := catalogue(t, conn); after != before {
		t.Errorf("by hand: %s\nby Pingo: %s", after, before)
	}
}

// catalogue lists triggers, functions, tables and schemas that are not PostgreSQL's.
func catalogue(t *testing.T, conn *pgx.Conn) string {
	t.Helper()
	var all string
	err := conn.QueryRow(t.Context(), `SELECT string_agg(x, ' ' ORDER BY x) FROM (
		SELECT tgname || ' on ' || tgrelid::regclass::text || tgenabled::text AS x FROM pg_trigger WHERE NOT tgisinternal UNION ALL
		SELECT proname FROM pg_proc WHERE oid >= 16384 UNION ALL SELECT oid::regclass::text FROM pg_class WHERE oid >= 16384 AND relkind <> 't' AND relname NOT LIKE 'pg_toast%' UNION ALL
		SELECT nspname FROM pg_namespace WHERE oid >= 16384) a`).Scan(&all)
	if err != nil {
		t.Fatal(err)
	}
	return all
}

// Writers that commit late, out of order and not at all, next to a reader that
// deletes as it goes: every committed row is returned exactly once. Transactions are serializable unless they are set
// otherwise; none fails.
func TestJournalLosesNothingUnderConcurrency(t *testing.T) {
	url := pgtest.URL(t)
	conn := pgtest.Connect(t, url)
	pgtest.Exec(t, conn, "DO $$ BEGIN EXECUTE format('ALTER DATABASE %I SET default_transaction_isolation = serializable', current_database()); END $$")
	p := open(t, url)
	pgtest.Exec(t, conn, "CREATE TABLE huts (id int PRIMARY KEY)")
	if _, err := install(t, p, []shape.Captured{captured("huts", []string{"id"}, []string{"id"}, nil)}); err != nil {
		t.Fatal(err)
	}
	const writers, each = 6, 150
	var mu sync.Mutex
	committed := map[string]bool{}
	var wg sync.WaitGroup
	for w := range writers {
		c := pgtest.Connect(t, url)
		wg.Go(func() {
			r := rand.New(rand.NewPCG(uint64(w), 5))
			for i := range each {
				tx, err := c.BeginTx(context.Background(), pgx.TxOptions{IsoLevel: pgx.Serializable})
				if err != nil {
					t.Error(err)
					return
				}
				var ids []string
				for n := range 1 + r.IntN(4) {
					id := w*100000 + i*10 + n
					if _, err := tx.Exec(context.Background(), "INSERT INTO huts VALUES ($1)", id); err != nil {
						t.Error(err)
					}
					ids = append(ids, fmt.Sprint(id))
				}
				if r.IntN(10) == 0 {
					time.Sleep(time.Duration(r.IntN(60)) * time.Millisecond) // others overtake it
				}
				if r.IntN(5) == 0 {
					tx.Rollback(context.Background())
					continue
				}
				mu.Lock()
				for _, id := range ids {
					committed[id] = true
				}
				mu.Unlock()
				if err := tx.Commit(context.Background()); err != nil {
					t.Error(err)
				}
			}
		})
	}
	finished := make(chan struct{})
	go func() { wg.Wait(); close(finished) }()
	seen := map[string]int{}
	for quiet := 0; quiet < 60; {
		changes, err := p.Changes(t.Context(), 40)
		if err != nil {
			t.Fatal(err)
		}
		var seqs []int64
		for _, c := range changes {
			seen[c.Key[0]]++
			if c.Op != change.Insert {
				t.Errorf("%s is an %s", c.Key[0], c.Op)
			}
			seqs = append(seqs, c.Seq)
		}
		if err := p.Done(t.Context(), seqs); err != nil {
			t.Fatal(err)
		}
		select {
		case <-finished:
			if len(changes) == 0 {
				quiet++
				time.Sleep(5 * time.Millisecond)
			}
		default:
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
	p.Feed.(*Feed).mu.Lock()
	defer p.Feed.(*Feed).mu.Unlock()
	if p.Feed.(*Feed).cursor.Low() == 0 {
		t.Error("the low-water mark never rose")
	}
}

func TestFactsAskTheDatabase(t *testing.T) {
	url := pgtest.URL(t)
	conn, p := pgtest.Connect(t, url), open(t, url)
	pgtest.Exec(t, conn, `
		CREATE TYPE mood AS ENUM ('calm'); CREATE DOMAIN metres AS int CHECK (VALUE > 0);
		CREATE TABLE huts (id bigint PRIMARY KEY, name text, height metres, m mood, tags text[], raw bytea, at timestamptz, doc jsonb, u uuid, gone int);
		ALTER TABLE huts DROP COLUMN gone;
		CREATE VIEW seen AS SELECT * FROM huts; CREATE TABLE other (id int)`)
	asked := []shape.Expression{
		{
			Table: "huts",
			Text:  "lower(name) || height",
			Role:  shape.Value,
		}, {Table: "huts", Text: "doc ->> 'x' IS NOT NULL", Role: shape.Condition},
		{
			Table: "huts",
			Text:  "at DESC, id",
			Role:  shape.Ordering,
		}, {Table: "huts", Text: "(SELECT count(*) FROM public.other)", Role: shape.Value}, {Table: "huts", Text: "nme", Role: shape.Value},
	}
	facts, err := p.Facts(t.Context(), []string{"huts", "seen", "nowhere"}, asked)
	if err != nil {
		t.Fatal(err)
	}
	got := ""
	for _, c := range facts.Tables["huts"].Columns {
		got += fmt.Sprintf("%s:%s:%v ", c.Name, c.Type, c.Array)
	}
	if got != "id:integer:false name:text:false height:integer:false m:keyword:false tags:text:true raw::false at:timestamp:false doc:object:false u:keyword:false " {
		t.Error(got)
	}
	if !facts.Tables["seen"].View || facts.Tables["nowhere"] != nil ||
		!slices.Equal(facts.Tables["huts"].Key, []string{"id"}) {
		t.Errorf("%+v", facts.Tables)
	}
	for i, want := range []string{"text [height name] ", "integer [doc] ", "integer [at id] ", "integer [] it reads public.other as well, whose changes would go unnoticed", ` [] column "nme" does not exist`} {
		told := facts.Expressions[asked[i]]
		if got := fmt.Sprintf("%s %v %s", told.Type, told.Columns, told.Problem); got != want {
			t.Errorf("%s: %q, want %q", asked[i].Text, got, want)
		}
	}
	// A user who may read part of it reads which statements are missing.
	pgtest.Exec(
		t,
		conn,
		`CREATE ROLE reader LOGIN PASSWORD 'reads'; GRANT USAGE ON SCHEMA public TO reader; GRANT SELECT (id, name) ON huts TO reader`,
	)
	u, err := neturl.Parse(url)
	if err != nil {
		t.Fatal(err)
	}
	u.User = neturl.UserPassword("reader", "reads")
	narrow, err := open(t, u.String()).Facts(t.Context(), []string{"huts", "other"}, nil)
	if err != nil || narrow.Denied["other"] != "GRANT SELECT ON public.other TO reader;" ||
		narrow.Tables["huts"].Denied["height"] != `GRANT SELECT (height) ON "public"."huts" TO reader;` ||
		len(narrow.Tables["huts"].Columns) != 2 {
		t.Errorf("%+v %v", narrow, err)
	}
	if strings.Contains(catalogue(t, conn), "pingo_probe") {
		t.Error("asking left something behind")
	}
}

// Reading by range and by keys gives the same documents, chunk by chunk, for keys of
// one and of several columns.
func TestRangesAndKeysReadTheSame(t *testing.T) {
	url := pgtest.URL(t)
	conn, p := pgtest.Connect(t, url), open(t, url)
	pgtest.Exec(t, conn, `
		CREATE TABLE stages (trail text, no int, title text, hut int, PRIMARY KEY (trail, no));
		CREATE TABLE huts (id int PRIMARY KEY, name text);
		INSERT INTO huts SELECT n, 'hut ' || n FROM generate_series(1, 20) n;
		INSERT INTO stages SELECT chr(65 + n % 7) || CASE WHEN n % 3 = 0 THEN ',~' ELSE '' END, n, 'stage ' || n, n % 25 FROM generate_series(1, 200) n`)
	s := &shape.Tree{Index: "stages", Nodes: []*shape.Node{
		{
			ID:       0,
			Parent:   -1,
			Table:    shape.Ref{Schema: "public", Name: "stages"},
			Key:      []string{"trail", "no"},
			KeyTypes: []string{"text", "integer"},
			Where:    "no <> 50",
			Children: []int{1},
			Columns: []shape.Column{
				{Name: "trail"},
				{Name: "no"},
				{Name: "title"},
				{Name: "hut"},
			},
			Fields: []shape.Field{{Name: "title", At: 2, Type: shape.Text}},
		},
		{
			ID:     1,
			Parent: 0,
			Name:   "hut",
			Table:  shape.Ref{Schema: "public", Name: "huts"},
			Key:    []string{"id"},
			Link: &shape.Link{
				Theirs: []string{"id"},
				Ours:   []string{"hut"},
				OursAt: []int{3},
				Types:  []string{"integer"},
			},
			Columns: []shape.Column{
				{Name: "id"},
				{Expression: "upper(name)"},
			},
			Fields: []shape.Field{{Name: "name", At: 1, Type: shape.Text}},
		},
	}}
	set := document.NewSet(s)
	documents := func() map[string]string {
		out := map[string]string{}
		for i := range set.Rows(0).Len() {
			out[string(set.AppendKey(nil, i))] = string(set.Append(nil, i))
		}
		return out
	}
	byRange, chunks := map[string]string{}, 0
	for after := []string(nil); ; chunks++ {
		end, err := p.ChunkEnd(t.Context(), s, after, 33)
		if err != nil {
			t.Fatal(err)
		}
		set.Reset()
		if err := p.ReadRange(t.Context(), set, after, end); err != nil {
			t.Fatal(err)
		}
		for k, d := range documents() {
			if byRange[k] != "" {
				t.Errorf("%s is in two chunks", k)
			}
			byRange[k] = d
		}
		if end == nil {
			break
		}
		after = end
	}
	var keys [][]string
	if err := p.Keys(t.Context(), s, nil, nil, func(key []string) error {
		keys = append(keys, slices.Clone(key))
		return nil
	}); err != nil {
		t.Fatal(err)
	}
	set.Reset()
	if err := p.ReadKeys(t.Context(), set, keys); err != nil {
		t.Fatal(err)
	}
	byKeys := documents()
	if len(byKeys) != 199 || len(byRange) != 199 || chunks != 6 {
		t.Errorf("%d by keys, %d by range in %d chunks", len(byKeys), len(byRange), chunks)
	}
	for k, d := range byKeys {
		if byRange[k] != d {
			t.Errorf("%s: %s by range, %s by key", k, byRange[k], d)
		}
	}
	if d := byKeys["D~1~0,3"]; !strings.Contains(d, `"title":"stage 3","hut":{"name":"HUT 3"}`) {
		t.Errorf("%q", d)
	}
	if n, err := p.Count(t.Context(), s); n != 199 || err != nil {
		t.Error(n, err)
	}

	// Rows that cannot be read cost no connection each: a fill looks for them one by one.
	pool := p.Reader.(*Reader).pool
	s.Nodes[0].Columns[2].Expression = "(1 / (no - 7))::text"
	before := pool.Stat().NewConnsCount()
	bad := document.NewSet(s)
	reader := &Reader{pool: pool} // knows no plan yet
	for range 20 {
		bad.Reset()
		if err := reader.ReadKeys(t.Context(), bad, [][]string{{"A", "7"}}); source.FaultOf(err) != source.BadValue {
			t.Fatal(err)
		}
	}
	if now := pool.Stat().NewConnsCount(); now > before+1 {
		t.Errorf("%d connections for 20 rows that cannot be read", now-before)
	}
	bad.Reset()
	if err := reader.ReadKeys(t.Context(), bad, [][]string{{"B", "8"}}); err != nil || bad.Rows(0).Len() != 1 {
		t.Errorf("after them: %d rows, %v", bad.Rows(0).Len(), err)
	}
}

// counted opens a source through a link that counts round trips.
func counted(t *testing.T, url string) (*source.Source, *slowlink.Link) {
	t.Helper()
	at, err := neturl.Parse(url)
	if err != nil {
		t.Fatal(err)
	}
	link, err := slowlink.Start(at.Host, func() time.Duration { return 0 })
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(link.Close)
	at.Host = link.Addr()
	return open(t, at.String()), link
}

// A source may be far away: what links to a document's key is read together with it, whatever there is of it.
func TestReadsTakeFewRoundTrips(t *testing.T) {
	url := pgtest.URL(t)
	db := pgtest.Connect(t, url)
	pgtest.Exec(t, db, `CREATE TABLE regions (id int PRIMARY KEY, name text);
		CREATE TABLE trails (id int PRIMARY KEY, name text, region_id int REFERENCES regions);
		CREATE TABLE stages (id int PRIMARY KEY, trail_id int REFERENCES trails, name text);
		CREATE TABLE marks (id int PRIMARY KEY, trail_id int REFERENCES trails, word text);
		INSERT INTO regions VALUES (1, 'fells');
		INSERT INTO trails SELECT i, 'trail ' || i, 1 FROM generate_series(1, 20) i;
		INSERT INTO stages SELECT i, 1 + i % 10, 'stage ' || i FROM generate_series(1, 100) i;
		INSERT INTO marks SELECT i, 1 + i % 20, 'mark ' || i FROM generate_series(1, 100) i`)
	far, link := counted(t, url)
	near := open(t, url)
	lists := "stages: { many: stages, on: { trail_id: id }, fields: [name] }, marks: { many: marks, on: { trail_id: id }, list: word }"
	for _, c := range []struct {
		related string
		turns   int64
	}{
		{"{}", 1},
		{"{ " + lists + " }", 1},
		{"{ region: { one: regions, on: { id: region_id }, fields: [name] }, " + lists + " }", 2},
	} {
		shaped, _, findings := compile(t, near, "  trails: { engine: e, rows: s.trails, fields: [name], related: "+c.related+" }")
		if len(findings) > 0 {
			t.Fatal(findings)
		}
		s := shaped.Trees[0]
		for what, read := range map[string]func(src *source.Source, set *document.Set) error{
			"keys": func(src *source.Source, set *document.Set) error {
				return src.ReadKeys(t.Context(), set, [][]string{{"1"}, {"15"}, {"99"}})
			},
			"no key": func(src *source.Source, set *document.Set) error {
				return src.ReadKeys(t.Context(), set, [][]string{{"99"}})
			},
			"a range": func(src *source.Source, set *document.Set) error {
				return src.ReadRange(t.Context(), set, []string{"3"}, []string{"11"})
			},
		} {
			if err := read(far, document.NewSet(s)); err != nil { // connects, and knows the plans
				t.Fatal(err)
			}
			set, before := document.NewSet(s), link.Turns()
			if err := read(far, set); err != nil {
				t.Fatal(err)
			}
			if took := link.Turns() - before; took > c.turns {
				t.Errorf("%s by %s: %d round trips, not %d", c.related, what, took, c.turns)
			}
			same := document.NewSet(s)
			if err := read(near, same); err != nil || same.Rows(0).Len() != set.Rows(0).Len() {
				t.Errorf("%s by %s: %d rows, %v", c.related, what, same.Rows(0).Len(), err)
			}
		}
	}
}

// Behind a pooler that gives each transaction another session nothing can be prepared, and the url says so.
func TestNothingIsPreparedWhereTheURLSaysSo(t *testing.T) {
	url := pgtest.URL(t)
	pgtest.Exec(t, pgtest.Connect(t, url), "CREATE TABLE trails (id int PRIMARY KEY, name text)")
	for mode, want := range map[string]bool{"": true, "&default_query_exec_mode=exec": false} {
		if !strings.Contains(url, "?") {
			mode = strings.Replace(mode, "&", "?", 1)
		}
		p := open(t, url+mode)
		shaped, _, _ := compile(t, p, "  trails: { engine: e, rows: s.trails, fields: [name] }")
		if err := p.ReadKeys(t.Context(), document.NewSet(shaped.Trees[0]), [][]string{{"1"}}); err != nil {
			t.Fatal(err)
		}
		prepared := 0
		for _, conn := range p.Reader.(*Reader).pool.AcquireAllIdle(t.Context()) {
			var n int
			if err := conn.QueryRow(t.Context(), "SELECT count(*) FROM pg_prepared_statements", pgx.QueryExecModeExec).Scan(&n); err != nil {
				t.Fatal(err)
			}
			prepared += n
			conn.Release()
		}
		if prepared > 0 != want {
			t.Errorf("%q: %d statements are prepared", mode, prepared)
		}
	}
}

// Statements that a connection has prepared go on, or are prepared again, whatever happens to the tables that they read.
func TestReadsGoOnWhenTheSchemaChanges(t *testing.T) {
	url := pgtest.URL(t)
	db := pgtest.Connect(t, url)
	pgtest.Exec(t, db, `CREATE TABLE trails (id int PRIMARY KEY, name varchar(20), length int);
		CREATE TABLE stages (id int PRIMARY KEY, trail_id int, name text);
		INSERT INTO trails SELECT i, 'trail ' || i, i FROM generate_series(1, 20) i;
		INSERT INTO stages SELECT i, 1 + i % 20, 'stage ' || i FROM generate_series(1, 100) i`)
	p := open(t, url)
	shaped, _, findings := compile(t, p, `  trails: { engine: e, rows: s.trails, fields: [name, length], related: { stages: { many: stages, on: { trail_id: id }, fields: [name] } } }`)
	if len(findings) > 0 {
		t.Fatal(findings)
	}
	read := func(keys ...[]string) (rows int, err error) {
		set := document.NewSet(shaped.Trees[0])
		err = p.ReadKeys(t.Context(), set, keys)
		return set.Rows(0).Len(), err
	}
	defer func(d time.Duration) { plannedFor = d }(plannedFor)
	for what, sql := range map[string]string{
		"nothing":         "SELECT",
		"another type":    "ALTER TABLE trails ALTER name TYPE text, ALTER length TYPE numeric",
		"a new table":     "ALTER TABLE trails RENAME TO old; CREATE TABLE trails (LIKE old INCLUDING ALL); INSERT INTO trails SELECT * FROM old; DROP TABLE old",
		"a new column":    "ALTER TABLE trails DROP length; ALTER TABLE trails ADD length bigint",
		"other data":      "ANALYZE; UPDATE stages SET trail_id = 1; ANALYZE",
		"nothing is kept": "SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE application_name = 'pingo' AND datname = current_database()",
	} {
		for n := range 12 { // the server plans again for each of the first five
			if rows, err := read([][]string{{"1"}, {"2"}, {"3"}}[:1+n%3]...); err != nil || rows != 1+n%3 {
				t.Fatal(what, rows, err)
			}
		}
		pgtest.Exec(t, db, sql)
		failed := 0
		for n := range 16 {
			if plannedFor = 30 * time.Second; n > 12 {
				plannedFor = 0 // each is planned again
			}
			rows, err := read([]string{fmt.Sprint(1 + n)})
			if err != nil && source.FaultOf(err) == 0 && failed < 2 {
				failed++ // as when a connection is lost: it is tried again
				continue
			}
			if err != nil || rows != 1 {
				t.Errorf("%s: %d rows, %v", what, rows, err)
			}
		}
	}
}

// A table that is rewritten, or emptied and filled again, while a read waits for it is not read as empty: PostgreSQL shows
// it so to whoever had a snapshot before.
func TestARewrittenTableIsNotReadAsEmpty(t *testing.T) {
	url := pgtest.URL(t)
	db := pgtest.Connect(t, url)
	pgtest.Exec(t, db, `CREATE TABLE trails (id int PRIMARY KEY, name text, spare int);
		CREATE TABLE signs (id int PRIMARY KEY, label text, spare int); CREATE TABLE trail_signs (trail_id int, sign_id int, spare int);
		CREATE TABLE stages (id int PRIMARY KEY, trail_id int, spare int);
		INSERT INTO trails SELECT i, 'trail ' || i, i FROM generate_series(1, 20) i;
		INSERT INTO signs SELECT i, 'sign ' || i, i FROM generate_series(1, 20) i; INSERT INTO trail_signs SELECT i, i, i FROM generate_series(1, 20) i;
		INSERT INTO stages SELECT i, i, i FROM generate_series(1, 20) i;
		CREATE ROLE clerk; GRANT SELECT (id, name) ON trails TO clerk`)
	defer pgtest.Exec(t, db, "DROP OWNED BY clerk; DROP ROLE clerk")
	p := open(t, url)
	shaped, _, findings := compile(t, p, `  trails: { engine: e, rows: s.trails, fields: [name], related: {
		stages: { many: stages, on: { trail_id: id }, fields: [id] },
		signs: { many: signs, through: { table: trail_signs, on: { trail_id: id }, to: { id: sign_id } }, list: label } } }`)
	if len(findings) > 0 {
		t.Fatal(findings)
	}
	for what, read := range map[string]func(set *document.Set) error{
		"keys":    func(set *document.Set) error { return p.ReadKeys(t.Context(), set, [][]string{{"7"}}) },
		"a range": func(set *document.Set) error { return p.ReadRange(t.Context(), set, []string{"6"}, []string{"7"}) },
	} {
		for _, table := range []string{"trails", "stages", "signs", "trail_signs"} {
			for _, rewrite := range []string{
				"ALTER TABLE %[1]s ALTER spare TYPE bigint; ALTER TABLE %[1]s ALTER spare TYPE int",
				"CREATE TEMP TABLE kept AS TABLE %[1]s; TRUNCATE %[1]s; INSERT INTO %[1]s TABLE kept; DROP TABLE kept",
			} {
				pgtest.Exec(t, db, "BEGIN; "+fmt.Sprintf(rewrite, table))
				made := make(chan string)
				go func() {
					set := document.NewSet(shaped.Trees[0])
					if err := read(set); err != nil || set.Rows(0).Len() != 1 {
						made <- fmt.Sprint(set.Rows(0).Len(), " rows, ", err)
						return
					}
					made <- string(set.Append(nil, 0))
				}()
				for waiting := 0; waiting == 0; time.Sleep(5 * time.Millisecond) {
					row := pgtest.Connect(t, url).QueryRow(t.Context(), "SELECT count(*) FROM pg_locks WHERE NOT granted")
					if err := row.Scan(&waiting); err != nil {
						t.Fatal(err)
					}
				}
				pgtest.Exec(t, db, "COMMIT")
				if got := <-made; !strings.Contains(got, `"name":"trail 7","stages":[{"id":7}],"signs":["sign 7"]`) {
					t.Errorf("%s, %s by %s: %s", rewrite, table, what, got)
				}
			}
		}
	}
	// A user who may read some columns alone cannot lock a table, and reads it all the same.
	some, err := Open(source.Config{URL: url, Options: []byte(`{"reader": "clerk"}`)})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(some.Close)
	plain, _, _ := compile(t, p, "  trails: { engine: e, rows: s.trails, fields: [name] }")
	for range 2 {
		set := document.NewSet(plain.Trees[0])
		if err := some.ReadKeys(t.Context(), set, [][]string{{"7"}}); err != nil || set.Rows(0).Len() != 1 {
			t.Error(set.Rows(0).Len(), err)
		}
	}
}

// Rows that a policy hides are not taken for deleted, neither those of the root nor those below it.
func TestHiddenRowsAreNotTakenForDeleted(t *testing.T) {
	url := pgtest.URL(t)
	db := pgtest.Connect(t, url)
	pgtest.Exec(t, db, `CREATE TABLE trails (id int PRIMARY KEY, name text); CREATE TABLE stages (id int PRIMARY KEY, trail_id int);
		INSERT INTO trails VALUES (7, 'ridge'); INSERT INTO stages VALUES (1, 7);
		CREATE ROLE warden LOGIN PASSWORD 'w'; GRANT SELECT ON trails, stages TO warden`)
	defer pgtest.Exec(t, db, "DROP OWNED BY warden; DROP ROLE warden")
	u, err := neturl.Parse(url)
	if err != nil {
		t.Fatal(err)
	}
	u.User = neturl.UserPassword("warden", "w")
	p := open(t, u.String())
	const text = "  trails: { engine: e, rows: s.trails, fields: [name], related: { stages: { many: stages, on: { trail_id: id }, fields: [id] } } }"
	shaped, _, findings := compile(t, p, text)
	if len(findings) > 0 {
		t.Fatal(findings)
	}
	read := func() (int, error) {
		set := document.NewSet(shaped.Trees[0])
		err := p.ReadKeys(t.Context(), set, [][]string{{"7"}})
		return set.Rows(0).Len(), err
	}
	for _, table := range []string{"trails", "stages"} {
		pgtest.Exec(t, db, fmt.Sprintf("ALTER TABLE %s ENABLE ROW LEVEL SECURITY", table))
		if _, err := read(); source.FaultOf(err) != source.SchemaChanged || !strings.Contains(err.Error(), "BYPASSRLS") {
			t.Errorf("%s: %v", table, err)
		}
		if _, _, findings := compile(t, p, text); len(findings) != 1 || !strings.Contains(findings[0].String(), "ALTER ROLE warden BYPASSRLS;") {
			t.Errorf("%s: %v", table, findings)
		}
		pgtest.Exec(t, db, fmt.Sprintf("ALTER TABLE %s DISABLE ROW LEVEL SECURITY", table))
		if n, err := read(); n != 1 || err != nil {
			t.Errorf("%s: %d rows, %v", table, n, err)
		}
	}
	pgtest.Exec(t, db, "ALTER TABLE trails ENABLE ROW LEVEL SECURITY; ALTER ROLE warden BYPASSRLS")
	if n, err := read(); n != 1 || err != nil {
		t.Errorf("%d rows, %v", n, err)
	}
}

// What a crash empties without a trigger is reported beforehand.
func TestUnloggedTablesAreTold(t *testing.T) {
	url := pgtest.URL(t)
	pgtest.Exec(t, pgtest.Connect(t, url), `CREATE TABLE huts (id int PRIMARY KEY); CREATE UNLOGGED TABLE "Loose ends" (id int PRIMARY KEY)`)
	advice, err := open(t, url).Capture.Advice(t.Context(), []shape.Captured{
		captured("huts", []string{"id"}, []string{"id"}, nil), captured("Loose ends", []string{"id"}, []string{"id"}, nil),
	}, nil)
	const forgetful = "synchronous_commit is off: after a crash the server may lack changes" // tests need not wait for disks
	if !slices.ContainsFunc(advice, func(a source.Advice) bool { return strings.HasPrefix(a.Message, forgetful) }) {
		t.Errorf("what the server forgets is not told: %+v", advice)
	}
	advice = slices.DeleteFunc(advice, func(a source.Advice) bool { return a.Kind == "rights" || a.Kind == "durability" })
	if err != nil || len(advice) != 1 || advice[0].Kind != "unlogged" || advice[0].Statement != `ALTER TABLE public."Loose ends" SET LOGGED;` {
		t.Errorf("%+v %v", advice, err)
	}
}

// Where nothing can be written, the report says what that means.
func TestASourceThatTakesNoWrites(t *testing.T) {
	url := pgtest.URL(t)
	db := pgtest.Connect(t, url)
	pgtest.Exec(t, db, "CREATE TABLE huts (id int PRIMARY KEY)")
	pgtest.Exec(t, db, "DO $$ BEGIN EXECUTE format('ALTER DATABASE %I SET default_transaction_read_only = on', current_database()); END $$")
	_, err := install(t, open(t, url), []shape.Captured{captured("huts", []string{"id"}, []string{"id"}, nil)})
	if err == nil || !strings.Contains(err.Error(), "PostgreSQL takes no writes (cannot execute") {
		t.Error(err)
	}
}

// A database that knows no encoding may hold anything: a text that is not UTF-8 holds up no other row.
func TestTextsOfNoEncoding(t *testing.T) {
	url := pgtest.URL(t)
	pgtest.Exec(t, pgtest.Connect(t, url), "CREATE DATABASE bytes ENCODING 'SQL_ASCII' TEMPLATE template0 LC_COLLATE 'C' LC_CTYPE 'C'")
	u, err := neturl.Parse(url)
	if err != nil {
		t.Fatal(err)
	}
	u.Path = "bytes"
	db, p := pgtest.Connect(t, u.String()), open(t, u.String())
	pgtest.Exec(t, db, "CREATE TABLE huts (id text PRIMARY KEY, name text)")
	if _, err := install(t, p, []shape.Captured{captured("huts", []string{"id"}, []string{"id", "name"}, nil)}); err != nil {
		t.Fatal(err)
	}
	pgtest.Exec(t, db, `SET client_encoding = SQL_ASCII; INSERT INTO huts VALUES ('a', 'caf' || chr(233)), ('b' || chr(233), 'bad'), ('c', 'good')`)
	changes, err := p.Changes(t.Context(), 10)
	if err != nil || len(changes) != 3 {
		t.Fatalf("%v, %v", changes, err)
	}
	shaped, _, findings := compile(t, p, "  huts: { engine: e, rows: s.huts, fields: [name] }")
	if len(findings) > 0 {
		t.Fatal(findings)
	}
	set := document.NewSet(shaped.Trees[0])
	if err := p.ReadRange(t.Context(), set, nil, nil); err != nil || set.Rows(0).Len() != 3 {
		t.Errorf("%d rows, %v", set.Rows(0).Len(), err)
	}
}
