package postgres

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"pingo/internal/core/shape"
	"pingo/internal/lab/pgtest"
)

// A view is followed through the tables that it reads: by its key where every row of
// it belongs to one row of a table, as a whole otherwise.
func TestViewsAreFollowedThroughTheirTables(t *testing.T) {
	url := pgtest.URL(t)
	conn, p := pgtest.Connect(t, url), open(t, url)
	pgtest.Exec(t, conn, `
		CREATE TABLE regions (id int PRIMARY KEY, name text, unused text);
		CREATE TABLE huts (id int PRIMARY KEY, name text, region_id int, beds int);
		INSERT INTO regions VALUES (1, 'Tarn'), (2, 'Velm'); INSERT INTO huts VALUES (1, 'a', 1, 3), (2, 'b', 2, 5), (3, 'c', NULL, 7);
		CREATE VIEW plain AS SELECT h.id AS hut, h.name, r.name AS region FROM huts h LEFT JOIN regions r ON r.id = h.region_id;
		CREATE VIEW grouped AS SELECT region_id, count(*) AS huts FROM huts GROUP BY region_id;
		CREATE VIEW ranked AS SELECT id, rank() OVER (ORDER BY beds) FROM huts;
		CREATE VIEW twice AS SELECT a.id, b.name FROM huts a JOIN huts b ON b.id = a.region_id;
		CREATE VIEW aside AS SELECT id, (SELECT count(*) FROM huts) AS n FROM huts;
		CREATE VIEW top AS SELECT id FROM huts ORDER BY beds DESC LIMIT 2;
		CREATE VIEW either AS SELECT id FROM huts UNION SELECT id FROM regions;
		CREATE VIEW above AS SELECT hut, region FROM plain`)
	for _, c := range []struct{ view, key, want string }{
		{"plain", "hut", "huts[id] by [id]; regions[id] by []"},
		{"grouped", "region_id", "huts[id] by [region_id]"},
		{"ranked", "id", "huts[id] by []"}, {"twice", "id", "huts[id] by []"}, {"aside", "id", "huts[id] by []"}, {"top", "id", "huts[id] by []"},
		{"either", "id", "huts[id] by []; regions[id] by []"}, {"above", "hut", "huts[id] by []; regions[id] by []"},
	} {
		s, _, findings := compile(
			t,
			p,
			fmt.Sprintf("  x: { engine: e, rows: s.%s, key: %s, fields: [%[2]s] }\n", c.view, c.key),
		)
		if len(findings) > 0 {
			t.Errorf("%s: %v", c.view, findings)
			continue
		}
		var got []string
		for _, f := range s.Trees[0].Root().Follows {
			got = append(got, fmt.Sprintf("%s%v by %v", f.Table.Name, f.Key, f.Identity))
		}
		if said := strings.Join(got, "; "); said != c.want {
			t.Errorf("%s follows %s, want %s", c.view, said, c.want)
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
		{"UPDATE regions SET name = 'Ulm' WHERE id = 1", []string{"regions update 1"}},
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

// A materialised view changes when it is refreshed, also while nobody looked.
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
	// A partition that is made later has the row triggers at once; what empties it is
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
	if err := p.Capture.Remove(t.Context()); err != nil {
		t.Fatal(err)
	}
	if left := catalogue(t, conn); strings.Contains(left, "pingo") {
		t.Error(left)
	}
}
