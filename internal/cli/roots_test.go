package cli_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"pingo/internal/api"
	"pingo/internal/lab/demo"
	"pingo/internal/lab/pgtest"
)

const roots = `
sources: { lodge: { kind: postgres, url: "${LODGE_URL}" } }
engines:
  main: { kind: opensearch, url: "${SEARCH_URL}" }
  tables: { kind: postgres, url: "${TABLES_URL}" }
indexes:
  seen:
    engine: main
    rows: lodge.seen
    key: hut
    fields: { name: { search: 1 }, region: }
  counted:
    engine: tables
    rows: lodge.Counted
    key: region
    fields: [huts]
  notes:
    engine: tables
    rows: lodge.notes
    fields: [body]
    related: { hut: { one: huts, on: { id: hut_id }, fields: [name] } }
  orders:
    engine: main
    rows: lodge.Old Maps.Order
    where: '"From" IS NOT NULL'
    fields: { select: { column: From, search: 1, match: prefix, filter: true }, user: }
    related: { where: { many: Old Maps.table, on: { Order: id }, list: { column: group, facet: true } } }
`

// Views, materialised views and partitioned tables are followed like tables, and what
// check says about them is true.
func TestOtherRootsThanTables(t *testing.T) {
	w := newWorld(t)
	lodge := pgtest.Connect(t, w.pg.URL("lodge"))
	pgtest.Exec(t, lodge, `
		CREATE TABLE regions (id int PRIMARY KEY, name text);
		CREATE TABLE huts (id int PRIMARY KEY, name text, region_id int REFERENCES regions ON DELETE CASCADE);
		CREATE VIEW seen AS SELECT h.id AS hut, h.name, r.name AS region FROM huts h JOIN regions r ON r.id = h.region_id;
		CREATE MATERIALIZED VIEW "Counted" AS SELECT region_id AS region, count(*) AS huts FROM huts GROUP BY region_id;
		CREATE TABLE notes (at date, id int, body text, hut_id int, PRIMARY KEY (at, id)) PARTITION BY RANGE (at);
		CREATE TABLE notes_2031 PARTITION OF notes FOR VALUES FROM ('2031-01-01') TO ('2032-01-01');
		CREATE TABLE notes_2032 PARTITION OF notes FOR VALUES FROM ('2032-01-01') TO ('2033-01-01');
		CREATE SCHEMA "Old Maps"; CREATE TABLE "Old Maps"."Order" (id uuid PRIMARY KEY DEFAULT gen_random_uuid(), "From" text, "user" text);
		CREATE TABLE "Old Maps"."table" (id int PRIMARY KEY, "group" text, "Order" uuid REFERENCES "Old Maps"."Order" ON DELETE SET NULL);
		INSERT INTO "Old Maps"."Order" ("From", "user") SELECT 'Sheet ' || i, 'reader ' || i FROM generate_series(1, 40) i;
		INSERT INTO "Old Maps"."table" SELECT row_number() OVER (), 'drawer ' || row_number() OVER (ORDER BY "From"), id FROM "Old Maps"."Order";
		INSERT INTO regions SELECT i, 'Region ' || i FROM generate_series(1, 20) i;
		INSERT INTO huts SELECT i, 'Hut ' || i, i % 20 + 1 FROM generate_series(1, 500) i;
		INSERT INTO notes SELECT '2031-06-01'::date + i % 400, i, 'note ' || i, i % 500 + 1 FROM generate_series(1, 600) i;
		REFRESH MATERIALIZED VIEW "Counted"; ANALYZE`)
	w.serve()
	file := w.write(roots)
	out, _, code := w.run("check", file)
	for _, want := range []string{
		"a change of public.huts, public.regions is followed to the rows of the view public.seen that it may touch",
		"no index on hut_id: each lookup scans about 600 rows", `CREATE INDEX ON "public"."notes" ("hut_id");`,
		"public.huts: deleting rows of public.regions deletes rows here",
	} {
		if code != 5 || !strings.Contains(out, want) {
			t.Errorf("check (exit %d) does not say %q:\n%s", code, want, out)
		}
	}
	if sql := w.must("capture", "show", file); !strings.Contains(sql, `GRANT SELECT ON "public"."seen"`) ||
		!strings.Contains(sql, `GRANT SELECT ON "public"."Counted"`) ||
		!strings.Contains(sql, "EXECUTE FUNCTION pingo_capture.note_") {
		t.Error(sql)
	}
	files := []api.File{{Name: "pingo.yaml", Text: roots}}
	w.must("apply", "--yes", file)
	all := func(when string) {
		t.Helper()
		for _, index := range []string{"seen", "counted", "notes", "orders"} {
			w.index(15*time.Second, when, index, func(ix api.IndexStatus) bool {
				return ix.State == api.StateInSync && ix.Live && ix.Waiting == 0 && empty(t, lodge)
			})
			rows, documents, differences, err := demo.Compare(t.Context(), lodge, files, index, w.lookup)
			if err != nil || len(differences) > 0 || rows != documents || rows == 0 {
				t.Errorf(
					"%s, %s: %d rows, %d documents, %v %v",
					when,
					index,
					rows,
					documents,
					differences[:min(3, len(differences))],
					err,
				)
			}
		}
	}
	all("filled")
	pgtest.Exec(
		t,
		lodge,
		`UPDATE regions SET name = 'Tarn Country' WHERE id = 3; UPDATE huts SET name = 'Grim', region_id = 4 WHERE id = 7; DELETE FROM regions WHERE id = 9;
		UPDATE notes_2032 SET body = 'written into a partition' WHERE id % 3 = 0; UPDATE notes SET at = at + 365 WHERE at < '2031-07-01'; INSERT INTO huts VALUES (900, 'Fresh', 3);
		UPDATE "Old Maps"."Order" SET "From" = NULL WHERE "From" = 'Sheet 3'; DELETE FROM "Old Maps"."Order" WHERE "From" = 'Sheet 4';
		UPDATE "Old Maps"."table" SET "group" = 'desk' WHERE "Order" = (SELECT id FROM "Old Maps"."Order" WHERE "From" = 'Sheet 5')`,
	)
	all("changed")
	pgtest.Exec(t, lodge, "DELETE FROM huts WHERE region_id = 4")
	pgtest.Exec(t, lodge, `REFRESH MATERIALIZED VIEW "Counted"`)
	pgtest.Exec(t, lodge, "TRUNCATE notes_2031; INSERT INTO notes VALUES ('2031-05-05', 1, 'again', 2)")
	w.eventually(20*time.Second, "the refresh, which is checked about once a second, is noticed", func() error {
		_, _, differences, err := demo.Compare(t.Context(), lodge, files, "counted", w.lookup)
		if err == nil && len(differences) > 0 {
			err = fmt.Errorf("%v", differences)
		}
		return err
	})
	all("refreshed, and a partition emptied")
	if out := w.must("search", "orders", "she", "--filter", "select=Sheet 5", "--facet", "where"); !strings.Contains(
		out,
		"1 found",
	) ||
		!strings.Contains(out, "where: desk 1") {
		t.Error(out)
	}
	if out := w.must("search", "seen", "tarn country"); !strings.Contains(
		out,
		"Nothing found",
	) { // region is not searched
		t.Error(out)
	}
}

const neighbours = `
sources: { lodge: { kind: postgres, url: "${LODGE_URL}", capture: triggers } }
engines: { main: { kind: opensearch, url: "${SEARCH_URL}" } }
indexes:
  huts:
    engine: main
    rows: lodge.huts
    fields: [name, beds]
    related:
      others: { many: huts, on: { region_id: region_id }, order: id, list: name }
  seen: { engine: main, rows: lodge.seen, key: hut, fields: [name, region] }
`

// A change builds the documents that can change by it, and no others: a column of a row that others show
// only by name, a table behind a view, a join that does not move.
func TestChangesBuildWhatCanChange(t *testing.T) {
	w := newWorld(t)
	lodge := pgtest.Connect(t, w.pg.URL("lodge"))
	pgtest.Exec(t, lodge, `
		CREATE TABLE regions (id int PRIMARY KEY, name text, note text);
		CREATE TABLE huts (id int PRIMARY KEY, name text, beds int, region_id int REFERENCES regions);
		CREATE INDEX ON huts (region_id);
		CREATE VIEW seen AS SELECT h.id AS hut, h.name, r.name AS region FROM huts h JOIN regions r ON r.id = h.region_id;
		INSERT INTO regions SELECT i, 'Region ' || i FROM generate_series(1, 20) i;
		INSERT INTO huts SELECT i, 'Hut ' || i, 5, i % 20 + 1 FROM generate_series(1, 400) i; ANALYZE`)
	w.serve()
	w.must("apply", "--yes", w.write(neighbours))
	quiet := func() {
		t.Helper()
		for _, index := range []string{"huts", "seen"} {
			w.index(15*time.Second, "quiet", index, func(ix api.IndexStatus) bool {
				return ix.State == api.StateInSync && ix.Live && ix.Waiting == 0 && empty(t, lodge)
			})
		}
	}
	quiet()
	for _, c := range []struct {
		sql  string
		sent int64
	}{
		{"UPDATE huts SET beds = 6 WHERE id = 7", 1},                  // its own document, not its neighbours' and not the view's
		{"UPDATE huts SET name = 'Grim' WHERE id = 7", 21},            // its region's twenty, and its row of the view
		{"UPDATE regions SET name = 'Tarn Country' WHERE id = 3", 20}, // its rows of the view
		{"UPDATE regions SET note = 'nobody reads this' WHERE id = 3", 0},
		{"UPDATE huts SET region_id = 9 WHERE id = 1", 41}, // both regions' huts, and its row of the view
	} {
		pgtest.Exec(t, lodge, c.sql)
		quiet()
		if c.sent == 0 {
			continue // it is not even noted
		}
		w.eventually(5*time.Second, c.sql, func() error {
			list, err := w.client.Recent(t.Context(), "lodge")
			if err != nil || len(list) == 0 {
				return fmt.Errorf("%v %v", list, err)
			}
			// A hut is one of those of its region itself, so it may be built twice.
			if last := list[0]; last.LagMS == nil || last.Sent != c.sent || last.Unchanged > 1 {
				return fmt.Errorf("%d sent, %d unchanged, wanted %d", last.Sent, last.Unchanged, c.sent)
			}
			return nil
		})
	}
	for _, index := range []string{"huts", "seen"} {
		w.equalTo(lodge, neighbours, index, 0)
	}
}

// One engine that is away for long harms only its indexes, however much changes; and a
// change that touches every document does not hold up a fresh one.
func TestASickEngineHarmsOnlyItsIndexes(t *testing.T) {
	w := newWorld(t)
	lodge := pgtest.Connect(t, w.pg.URL("lodge"))
	if err := demo.Load(t.Context(), lodge, 8000, 6); err != nil {
		t.Fatal(err)
	}
	pgtest.Exec(t, lodge, "UPDATE huts SET retired_at = NULL WHERE id IN (7, 8)")
	w.serve()
	w.eventually(10*time.Second, "the definition is applied", func() error {
		_, err := w.client.Apply(t.Context(), demo.Files())
		return err
	})
	answers := func(ix api.IndexStatus) bool { return ix.State == api.StateInSync && ix.Live }
	for _, index := range []string{"huts", "finder", "finder_tables"} {
		w.index(60*time.Second, "filled", index, answers)
	}
	w.fault(`{"unavailable": -1}`)
	for range 6 {
		pgtest.Exec(t, lodge, "UPDATE huts SET summary = summary || '.'")
	}
	pgtest.Exec(t, lodge, "UPDATE huts SET name = 'Marmot Observatory' WHERE id = 7")
	w.eventually(30*time.Second, "an index on another engine goes on", func() error {
		if out := w.must("search", "finder_tables", "marmot observatory"); !strings.Contains(out, "1 found") {
			return fmt.Errorf("%s", out)
		}
		return nil
	})
	w.index(10*time.Second, "the sick one says so", "huts", func(ix api.IndexStatus) bool {
		return ix.State == api.StateWaiting && ix.LagMS > 0 && ix.Waiting > 5000
	})
	w.index(30*time.Second, "the other is true", "finder_tables", answers)
	w.kill() // what is owed is remembered
	w.serve()
	w.fault(`{}`)
	for _, index := range []string{"huts", "finder", "finder_tables"} {
		w.index(
			90*time.Second,
			"all catch up",
			index,
			func(ix api.IndexStatus) bool { return answers(ix) && ix.Waiting == 0 && empty(t, lodge) },
		)
		w.equal(lodge, index)
	}
	// Every document of huts is touched by these; the change after them is not kept waiting.
	pgtest.Exec(t, lodge, "UPDATE regions SET name = name || ' Land'; UPDATE amenities SET label = label || '!'")
	pgtest.Exec(t, lodge, "UPDATE huts SET name = 'Overtaking Lodge' WHERE id = 8")
	changed := time.Now()
	w.eventually(5*time.Second, "a fresh change overtakes a wide one", func() error {
		p, err := w.client.Preview(t.Context(), "huts", "8")
		if err != nil || !strings.Contains(string(p.Stored), "Overtaking Lodge") {
			return fmt.Errorf("%s %v", p.Stored, err)
		}
		return nil
	})
	t.Logf("a fresh change passed a wide one in %s", time.Since(changed))
	w.index(
		60*time.Second,
		"the wide changes arrive",
		"huts",
		func(ix api.IndexStatus) bool { return answers(ix) && ix.Waiting == 0 && empty(t, lodge) },
	)
	w.equal(lodge, "huts")
}
