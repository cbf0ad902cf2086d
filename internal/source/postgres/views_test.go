package postgres

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"pingo/internal/source/sourcetest"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"pingo/internal/core/shape"
	"pingo/internal/lab/pgtest"
)

const lodges = `
	CREATE TABLE regions (id int PRIMARY KEY, name text, unused text);
	CREATE TABLE huts (id int PRIMARY KEY, name text, region_id int, beds int);
	CREATE TABLE notes (id int PRIMARY KEY, hut_id int, body text, stars int);
	CREATE TABLE offers (hut_id int, thing varchar(20), PRIMARY KEY (hut_id, thing));
	CREATE TABLE things (name varchar(20) PRIMARY KEY, label text);
	INSERT INTO regions VALUES (1, 'Tarn'), (2, 'Velm'); INSERT INTO huts VALUES (1, 'a', 1, 3), (2, 'b', 2, 5), (3, 'c', NULL, 7)`

// views are views with how changes of their tables are followed: the table, then for each way the columns to start
// from, and the tables to look into. Without a way, all is rebuilt.
var views = []struct{ name, key, query, want string }{
	{"plain", "hut", "SELECT h.id AS hut, h.name, r.name AS region FROM huts h LEFT JOIN regions r ON r.id = h.region_id", "huts [id]; regions [id]>huts[region_id]"},
	{"grouped", "region_id", "SELECT region_id, count(*) AS huts FROM huts GROUP BY region_id", "huts [region_id]"},
	{"ranked", "id", "SELECT id, rank() OVER (ORDER BY beds) FROM huts", "huts"},
	{"twice", "id", "SELECT a.id, b.name FROM huts a JOIN huts b ON b.id = a.region_id", "huts [id] [id]>huts[region_id]"},
	{"aside", "id", "SELECT id, (SELECT count(*) FROM huts) AS n FROM huts", "huts"},
	{"top", "id", "SELECT id FROM huts ORDER BY beds DESC, id LIMIT 2", "huts"},
	{"either", "id", "SELECT id, name FROM huts UNION SELECT id, name FROM regions", "huts [id]; regions [id]"},
	{"above", "hut", "SELECT hut, region FROM plain", "huts [id]; regions [id]>huts[region_id]"},
	{"counted", "id", "SELECT r.id, count(h.id) AS huts, sum(h.beds) AS beds FROM regions r LEFT JOIN huts h ON h.region_id = r.id GROUP BY r.id", "huts [region_id]; regions [id]"},
	{"noted", "id", "SELECT h.id, (SELECT string_agg(n.body, ',' ORDER BY n.id) FROM notes n WHERE n.hut_id = h.id) AS notes FROM huts h", "huts [id]; notes [hut_id]"},
	{"best", "id", "SELECT h.id, b.body FROM huts h LEFT JOIN LATERAL (SELECT body FROM notes n WHERE n.hut_id = h.id ORDER BY stars DESC, n.id LIMIT 1) b ON true", "huts [id]; notes [hut_id]"},
	{"latest", "id", "SELECT h.id, b.body FROM huts h JOIN (SELECT hut_id, body FROM notes ORDER BY id DESC LIMIT 3) b ON b.hut_id = h.id", "huts [id]; notes"},
	{"silent", "id", "SELECT h.id, h.name FROM huts h WHERE NOT EXISTS (SELECT FROM notes n WHERE n.hut_id = h.id)", "huts [id]; notes [hut_id]"},
	{"spoken", "id", "SELECT h.id, h.name FROM huts h WHERE h.id IN (SELECT n.hut_id FROM notes n WHERE n.stars > 2)", "huts [id]; notes [hut_id]"},
	{"unspoken", "id", "SELECT h.id, h.name FROM huts h WHERE h.id NOT IN (SELECT n.hut_id FROM notes n)", "huts [id]; notes"},
	{"labelled", "id", "WITH o AS (SELECT o.hut_id, string_agg(t.label, ',' ORDER BY t.name) AS labels FROM offers o JOIN things t ON t.name = o.thing GROUP BY o.hut_id) SELECT h.id, o.labels FROM huts h LEFT JOIN o ON o.hut_id = h.id", "huts [id]; offers [hut_id]; things [name]>offers[thing]"},
	{"pairs", "hut_id, thing", "SELECT h.id AS hut_id, t.name AS thing, h.name, t.label FROM offers o JOIN huts h ON h.id = o.hut_id JOIN things t ON t.name = o.thing", "huts [id]>offers[hut_id]; offers [hut_id thing]; things [name]>offers[thing]"},
	{"same", "id", "SELECT h.id, n.body FROM huts h JOIN notes n ON n.hut_id = h.id OR n.stars = h.beds", "huts [id]; notes"},
	{"whole", "id", "SELECT h.id, r.name FROM huts h FULL JOIN regions r ON r.id = h.region_id", "huts [id]; regions [id]>huts[region_id]"},
	{"without", "id", "SELECT id FROM huts EXCEPT SELECT hut_id FROM notes", "huts [id]; notes [hut_id]"},
	{"inner_union", "id", "SELECT u.id, r.name FROM (SELECT id, region_id FROM huts UNION ALL SELECT hut_id, stars FROM notes) u LEFT JOIN regions r ON r.id = u.region_id", "huts; notes; regions"},
	{"first", "region_id", "SELECT DISTINCT ON (region_id) region_id, name FROM huts ORDER BY region_id, beds, id", "huts"},
	{"in_groups", "name", "SELECT r.name, (SELECT count(*) FROM huts h WHERE h.region_id = r.id AND EXISTS (SELECT FROM notes n WHERE n.hut_id = h.id)) AS n FROM regions r", "huts [region_id]>regions[id]; notes [hut_id]>huts[id]>regions[id]; regions [name]"},
}

// How changes are followed is found in a view's definition, so another one is a gap; a view below counts, too.
func TestViewsThatAreDefinedAnewAreAGap(t *testing.T) {
	url := pgtest.URL(t)
	conn, p := pgtest.Connect(t, url), open(t, url)
	pgtest.Exec(t, conn, lodges+"; CREATE VIEW plain AS SELECT h.id AS hut, h.name FROM huts h; CREATE VIEW above AS SELECT hut, name FROM plain")
	s, _, _ := compile(t, p, "  x: { engine: e, rows: s.above, key: hut, fields: [name] }\n")
	need := shape.Capture(s.Source, []*shape.Shape{s})
	if _, err := install(t, p, need); err != nil {
		t.Fatal(err)
	}
	gaps := func(want string) {
		t.Helper()
		list, err := p.Capture.Gaps(t.Context(), need)
		if got := fmt.Sprint(list); err != nil || want == "" && len(list) > 0 || !strings.Contains(got, want) {
			t.Errorf("gaps: %s %v, want %q", got, err, want)
		}
	}
	gaps("")
	pgtest.Exec(t, conn, "ALTER TABLE huts ADD COLUMN more text; ALTER VIEW above RENAME TO other; ALTER VIEW other RENAME TO above")
	gaps("")
	pgtest.Exec(t, conn, "CREATE OR REPLACE VIEW plain AS SELECT h.id AS hut, h.name FROM huts h WHERE region_id > 1")
	gaps(`{public.huts false true the view "public"."above" was redefined or dropped`)
}

// Whatever happens to the rows behind views, every row of a view that changes is found.
func TestChangedRowsOfViewsAreFound(t *testing.T) {
	url := pgtest.URL(t)
	conn, p := pgtest.Connect(t, url), open(t, url)
	pgtest.Exec(t, conn, lodges)
	var shapes []*shape.Shape
	for _, v := range views {
		pgtest.Exec(t, conn, "CREATE VIEW "+v.name+" AS "+v.query)
		s, _, findings := compile(t, p, fmt.Sprintf("  x: { engine: e, rows: s.%s, key: [%s], fields: [%[2]s] }\n", v.name, v.key))
		if len(findings) > 0 {
			t.Fatalf("%s: %v", v.name, findings)
		}
		shapes = append(shapes, s)
	}
	if _, err := install(t, p, shape.Capture("s", shapes)); err != nil {
		t.Fatal(err)
	}
	rowsOf := func(i int) map[string]string {
		v, out := views[i], map[string]string{}
		rows, err := conn.Query(t.Context(), fmt.Sprintf("SELECT concat_ws(',', %s), x::text FROM %s x ORDER BY 1, 2", v.key, v.name), pgx.QueryExecModeSimpleProtocol)
		if err != nil {
			t.Fatal(err)
		}
		var key, row string
		if _, err := pgx.ForEachRow(rows, []any{&key, &row}, func() error { out[key] += row; return nil }); err != nil {
			t.Fatal(err)
		}
		return out
	}
	r := rand.New(rand.NewPCG(4, uint64(time.Now().UnixNano())))
	id := func() int { return 1 + r.IntN(6) }
	before := make([]map[string]string, len(views))
	for i := range views {
		before[i] = rowsOf(i)
	}
	changed, needless := 0, 0
	for range 250 {
		sql := []string{
			fmt.Sprintf("INSERT INTO huts VALUES (%d, 'h%d', %d, %d) ON CONFLICT (id) DO UPDATE SET region_id = excluded.region_id", id(), id(), id(), id()),
			fmt.Sprintf("UPDATE huts SET beds = %d WHERE id = %d", id(), id()), fmt.Sprintf("UPDATE huts SET name = name || '.' WHERE id = %d", id()),
			fmt.Sprintf("DELETE FROM huts WHERE id = %d", id()), fmt.Sprintf("UPDATE huts SET id = id + 10 WHERE id = %d AND NOT EXISTS (SELECT FROM huts WHERE id > 10)", id()),
			fmt.Sprintf("INSERT INTO regions VALUES (%d, 'r%[1]d') ON CONFLICT DO NOTHING", id()), fmt.Sprintf("UPDATE regions SET name = name || '.' WHERE id = %d", id()),
			fmt.Sprintf("INSERT INTO notes VALUES (%d, %d, 'n', %d) ON CONFLICT (id) DO UPDATE SET hut_id = excluded.hut_id, stars = excluded.stars", id(), id(), id()),
			fmt.Sprintf("UPDATE notes SET hut_id = NULL WHERE id = %d", id()), fmt.Sprintf("UPDATE notes SET body = body || '.' WHERE id = %d", id()), fmt.Sprintf("DELETE FROM notes WHERE id = %d", id()),
			fmt.Sprintf("INSERT INTO things VALUES ('t%d', 'l') ON CONFLICT DO NOTHING", id()), fmt.Sprintf("INSERT INTO offers VALUES (%d, 't%d') ON CONFLICT DO NOTHING", id(), id()),
			fmt.Sprintf("UPDATE things SET label = label || '.' WHERE name = 't%d'", id()), fmt.Sprintf("DELETE FROM offers WHERE hut_id = %d", id()),
			fmt.Sprintf("UPDATE offers SET thing = 't%d' WHERE hut_id = %d AND thing = (SELECT max(thing) FROM offers WHERE hut_id = %[2]d) AND NOT EXISTS (SELECT FROM offers o WHERE o.hut_id = %[2]d AND o.thing = 't%[1]d')", id(), id()),
		}[r.IntN(16)]
		pgtest.Exec(t, conn, sql)
		changes := sourcetest.Drain(t, p)
		for i, v := range views {
			after := rowsOf(i)
			found := sourcetest.TouchedBy(t, p, shapes[i], changes)
			for _, side := range []map[string]string{before[i], after} {
				for key := range side {
					if key == "" || before[i][key] == after[key] {
						continue
					}
					changed++
					if !found[key] && !found["*"] {
						t.Errorf("%s: %s changes row %s of %s from %s to %s without its being found", v.query, sql, key, v.name, before[i][key], after[key])
					}
				}
			}
			for key := range found {
				if before[i][key] == after[key] && key != "*" {
					needless++
				}
			}
			before[i] = after
		}
	}
	if t.Logf("%d rows changed, %d were found in vain", changed, needless); changed < 100 || needless > 2*changed {
		t.Error("too few changed, or too many were found in vain")
	}
}

// A tree that is not as expected is refused, and read no further than it goes.
func FuzzTree(f *testing.F) {
	f.Add(`({QUERY :commandType 1 :rtable ({RANGETBLENTRY :relid 7 :eref {ALIAS :colnames ("a\\ b" "c")}}) :targetList <>})`)
	f.Add(`({QUERY :a (b 1 2) :c 4 [ 1 0 ]}`)
	f.Fuzz(func(t *testing.T, text string) {
		v, err := parseTree(text)
		if err != nil && !errors.Is(err, errTree) {
			t.Error(err)
		}
		walk(v, func(n *treeNode) bool {
			n.entry(n.number("rtindex")).node("subquery").is("kind", "")
			return true
		})
	})
}

// A view is followed through the tables that it reads: by its key where every row of
// it belongs to one row of a table, as a whole otherwise.
func TestViewsAreFollowedThroughTheirTables(t *testing.T) {
	url := pgtest.URL(t)
	conn, p := pgtest.Connect(t, url), open(t, url)
	pgtest.Exec(t, conn, lodges)
	for _, c := range views {
		pgtest.Exec(t, conn, "CREATE VIEW "+c.name+" AS "+c.query)
		s, _, findings := compile(
			t,
			p,
			fmt.Sprintf("  x: { engine: e, rows: s.%s, key: [%s], fields: [%[2]s] }\n", c.name, c.key),
		)
		if len(findings) > 0 {
			t.Errorf("%s: %v", c.name, findings)
			continue
		}
		var got []string
		for _, f := range s.Trees[0].Root().Follows {
			said := f.Table.Name
			for _, w := range f.Ways {
				said += fmt.Sprint(" ", w.Link)
				for _, step := range w.Steps {
					said += fmt.Sprint(">", step.Table.Name, step.Match)
				}
			}
			got = append(got, said)
		}
		if said := strings.Join(got, "; "); said != c.want {
			t.Errorf("%s follows %s, want %s", c.name, said, c.want)
		}
	}
	if _, _, findings := compile(t, p, "  x: { engine: e, rows: s.plain, fields: [name] }\n"); !strings.Contains(
		findings.Error(),
		"write key: COLUMN",
	) {
		t.Errorf("a view without key: %v", findings)
	}

	// A row without a whole key has no document.
	grouped, _, _ := compile(t, p, "  x: { engine: e, rows: s.grouped, key: region_id, fields: [huts] }\n")
	if docs := documents(t, p, grouped, 1); len(docs) != 2 || docs["1"] == "" {
		t.Errorf("%q", docs)
	}
	s, _, _ := compile(t, p, "  x: { engine: e, rows: s.plain, key: hut, fields: [name, region] }\n")
	if _, err := install(t, p, shape.Capture(s.Source, []*shape.Shape{s})); err != nil {
		t.Fatal(err)
	}
	if docs := documents(t, p, s, 2); len(docs) != 3 || !strings.Contains(docs["3"], `"name":"c","region":null`) {
		t.Errorf("%q", docs)
	}
	for _, c := range []struct {
		sql  string
		want []string
	}{
		{"UPDATE huts SET name = 'z' WHERE id = 2", []string{"huts update 2 id[2]"}},
		{"UPDATE huts SET beds = 9; UPDATE regions SET unused = 'x'", nil},
		{"UPDATE regions SET name = 'Ulm' WHERE id = 1", []string{"regions update 1 id[1]"}},
		{"INSERT INTO huts VALUES (9, 'n', 1, 1)", []string{"huts insert 9 id[9]"}},
		{"DELETE FROM huts WHERE id = 9", []string{"huts delete 9 id[9]"}},
		{"UPDATE huts SET id = 30 WHERE id = 3", []string{"huts update 30 was 3 id[3 30]"}},
	} {
		pgtest.Exec(t, conn, c.sql)
		got := read(t, p)
		slices.Sort(got)
		if !slices.Equal(got, c.want) {
			t.Errorf("%s: %q, want %q", c.sql, got, c.want)
		}
	}
	byRegion := &shape.Tree{
		Nodes: []*shape.Node{
			{View: true, Table: shape.Ref{Schema: "public", Name: "plain"}, Key: []string{"region"}},
		},
	}
	pgtest.Exec(t, conn, "UPDATE huts SET region_id = id % 2 + 1")
	if n, err := p.DuplicateKeys(t.Context(), byRegion); err != nil || n != 2 {
		t.Errorf("%d rows share a region, %v", n, err)
	}
	pgtest.Exec(t, conn, "UPDATE huts SET region_id = 2")
	if n, err := p.DuplicateKeys(t.Context(), byRegion); err != nil || n != 3 {
		t.Errorf("%d rows share a region, %v", n, err)
	}
}

// A materialised view changes when it is refreshed, also while no one looked.
func TestRefreshesAreNoticed(t *testing.T) {
	url := pgtest.URL(t)
	conn, p := pgtest.Connect(t, url), open(t, url)
	pgtest.Exec(t, conn, `CREATE TABLE huts (id int PRIMARY KEY, beds int); INSERT INTO huts VALUES (1, 3);
		CREATE MATERIALIZED VIEW "Large huts" AS SELECT id, beds FROM huts; CREATE UNIQUE INDEX ON "Large huts" (id)`)
	s, _, findings := compile(t, p, "  x: { engine: e, rows: s.Large huts, key: id, fields: [beds] }\n")
	if len(findings) > 0 {
		t.Fatal(findings)
	}
	need := shape.Capture(s.Source, []*shape.Shape{s})
	for range 2 {
		if made, err := install(t, p, need); err != nil {
			t.Fatal(made, err)
		}
	}
	if route := s.Routes(s.Source)[shape.Ref{Schema: "public", Name: "Large huts"}]; len(route) != 1 || !route[0].All {
		t.Errorf("%+v", route)
	}
	noticed := func() (got []string) {
		for deadline := time.Now().Add(4 * time.Second); len(got) == 0 && time.Now().Before(deadline); time.Sleep(20 * time.Millisecond) {
			p.Feed.(*Feed).looked = time.Time{}
			got = read(t, p)
		}
		return got
	}
	for _, refresh := range []string{"REFRESH MATERIALIZED VIEW \"Large huts\"", "UPDATE huts SET beds = 4; REFRESH MATERIALIZED VIEW CONCURRENTLY \"Large huts\"; SELECT pg_stat_force_next_flush()"} {
		for _, sql := range strings.Split(refresh, "; ") {
			pgtest.Exec(t, conn, sql)
		}
		p.Rewind() // as after a restart
		if got := noticed(); !slices.Equal(got, []string{"Large huts truncate "}) {
			t.Errorf("%s: %q", refresh, got)
		}
	}
	p.Feed.(*Feed).looked = time.Time{}
	if got := read(t, p); len(got) > 0 {
		t.Errorf("noticed again: %q", got)
	}
	if err := p.Capture.Remove(t.Context()); err != nil {
		t.Fatal(err)
	}
	if left := catalogue(t, conn); strings.Contains(left, "pingo") {
		t.Error(left)
	}
}

// Rows of a partitioned table are noticed wherever they are written.
func TestPartitionsAreCaptured(t *testing.T) {
	url := pgtest.URL(t)
	conn, p := pgtest.Connect(t, url), open(t, url)
	pgtest.Exec(
		t,
		conn,
		`CREATE TABLE notes (id int, at timestamptz, hut_id int, body text, PRIMARY KEY (id, at)) PARTITION BY RANGE (at);
		CREATE TABLE notes_2031 PARTITION OF notes FOR VALUES FROM ('2031-01-01') TO ('2032-01-01') PARTITION BY RANGE (id);
		CREATE TABLE notes_2031_low PARTITION OF notes_2031 FOR VALUES FROM (0) TO (100);
		CREATE TABLE notes_2032 (body text, hut_id int, at timestamptz NOT NULL, id int NOT NULL);
		ALTER TABLE notes ATTACH PARTITION notes_2032 FOR VALUES FROM ('2032-01-01') TO ('2033-01-01')`,
	)
	s, _, findings := compile(t, p, "  x: { engine: e, rows: s.notes, fields: [body, hut_id] }\n")
	if len(findings) > 0 {
		t.Fatal(findings)
	}
	need := shape.Capture(s.Source, []*shape.Shape{s})
	if _, err := install(t, p, need); err != nil {
		t.Fatal(err)
	}
	if made, err := install(t, p, need); err != nil || len(made) > 0 {
		t.Errorf("installed again: %v %v", made, err)
	}
	check := func(sql string, want ...string) {
		t.Helper()
		pgtest.Exec(t, conn, sql)
		got := read(t, p)
		slices.Sort(got)
		if !slices.Equal(got, want) {
			t.Errorf("%s\n got %q\nwant %q", sql, got, want)
		}
	}
	check("INSERT INTO notes VALUES (1, '2031-05-01 00:00Z', 7, 'a')", "notes insert 1,2031-05-01T00:00:00")
	check("INSERT INTO notes_2031_low VALUES (2, '2031-05-01 00:00Z', 7, 'b')", "notes insert 2,2031-05-01T00:00:00")
	check(
		"INSERT INTO notes_2032 (id, at, body) VALUES (3, '2032-05-01 00:00Z', 'c')",
		"notes insert 3,2032-05-01T00:00:00",
	)
	check("UPDATE notes_2032 SET body = 'd'", "notes update 3,2032-05-01T00:00:00")
	check(
		"UPDATE notes SET at = '2032-06-01 00:00Z' WHERE id = 1",
		"notes delete 1,2031-05-01T00:00:00",
		"notes insert 1,2032-06-01T00:00:00",
	)
	check("TRUNCATE notes_2031_low", "notes truncate ")
	check(
		"SET session_replication_role = replica; DELETE FROM notes_2032 WHERE id = 3; RESET session_replication_role",
		"notes delete 3,2032-05-01T00:00:00",
	)
	// A partition that is made later has the row triggers immediately; what empties it is
	// noticed after capture was installed again.
	check(
		"CREATE TABLE notes_2033 PARTITION OF notes FOR VALUES FROM ('2033-01-01') TO ('2034-01-01'); INSERT INTO notes_2033 VALUES (5, '2033-05-01 00:00Z', 7, 'e')",
		"notes insert 5,2033-05-01T00:00:00",
	)
	check(
		"SET session_replication_role = replica; UPDATE notes_2033 SET body = 'f'; RESET session_replication_role",
		"notes update 5,2033-05-01T00:00:00",
	)
	if gaps, err := p.Capture.Gaps(t.Context(), need); err != nil || len(gaps) != 1 || !gaps[0].Safe ||
		!strings.Contains(gaps[0].Reason, "1 new partitions") {
		t.Errorf("%+v %v", gaps, err)
	}
	if made, err := install(t, p, need); err != nil || len(made) != 1 {
		t.Errorf("installed for a new partition: %v %v", made, err)
	}
	check("TRUNCATE notes_2033", "notes truncate ")
	if docs := documents(t, p, s, 1); len(docs) != 1 ||
		!strings.Contains(docs["1,2032-06-01T00:00:00"], `"body":"a"`) {
		t.Errorf("%q", docs)
	}
	// Triggers that were off for a moment on a partition alone.
	var clone string
	if err := conn.QueryRow(t.Context(), "SELECT quote_ident(tgname) FROM pg_trigger WHERE tgrelid = 'notes_2032'::regclass AND tgname LIKE 'pingo%update'").Scan(&clone); err != nil {
		t.Fatal(err)
	}
	for _, off := range []string{
		"ALTER TABLE notes_2032 DISABLE TRIGGER USER; UPDATE notes_2032 SET body = 'g'; ALTER TABLE notes_2032 ENABLE TRIGGER USER",
		"ALTER TABLE notes_2032 DISABLE TRIGGER ALL; COPY notes_2032 FROM '/dev/null'; ALTER TABLE notes_2032 ENABLE TRIGGER ALL",
		"ALTER TABLE notes_2032 DISABLE TRIGGER " + clone + "; UPDATE notes_2032 SET body = 'h'; ALTER TABLE notes_2032 ENABLE TRIGGER " + clone,
		"ALTER TABLE notes_2032 DISABLE TRIGGER " + clone,
	} {
		pgtest.Exec(t, conn, off)
		gaps, err := p.Capture.Gaps(t.Context(), need)
		if stillOff := !strings.Contains(off, "ENABLE"); err != nil || len(gaps) != 1 || gaps[0].Safe || gaps[0].Deliberate != stillOff || !strings.Contains(gaps[0].Reason, "were disabled") {
			t.Errorf("%s: %+v %v", off, gaps, err)
		}
		if _, err := install(t, p, need); err != nil {
			t.Fatal(err)
		}
		if gaps, err := p.Capture.Gaps(t.Context(), need); err != nil || len(gaps) > 0 {
			t.Errorf("after installing again: %+v %v", gaps, err)
		}
	}
	if err := p.Capture.Remove(t.Context()); err != nil {
		t.Fatal(err)
	}
	if left := catalogue(t, conn); strings.Contains(left, "pingo") {
		t.Error(left)
	}
}
