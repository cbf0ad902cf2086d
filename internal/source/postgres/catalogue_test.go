package postgres

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"pingo/internal/core/definition"
	"pingo/internal/core/shape"
	"pingo/internal/lab/pgtest"
	"pingo/internal/source"
)

// What the catalogue does not name is found nevertheless: rows that are taken as a whole, and
// functions whose value changes while no row does.
func TestWholeRowsAndShiftingFunctions(t *testing.T) {
	url := pgtest.URL(t)
	conn := pgtest.Connect(t, url)
	pgtest.Exec(t, conn, `
		CREATE TABLE huts (id int PRIMARY KEY, name text, note text, until timestamptz, height numeric, rent numeric(8,2));
		CREATE TABLE bunks (id int PRIMARY KEY, hut_id int, label text, worn boolean);
		CREATE FUNCTION tidy(text) RETURNS text IMMUTABLE LANGUAGE sql RETURN trim($1);
		CREATE FUNCTION bunks_of(int) RETURNS bigint STABLE LANGUAGE sql AS 'SELECT count(*) FROM bunks WHERE hut_id = $1';
		CREATE VIEW open_huts AS SELECT id, name FROM huts WHERE until > now();
		CREATE VIEW furnished AS SELECT h.id, h.name, (SELECT jsonb_agg(b) FROM bunks b WHERE b.hut_id = h.id) AS bunks FROM huts h;
		CREATE VIEW inner_view AS SELECT hut_id, to_jsonb(bunks) AS bunk FROM bunks;
		CREATE VIEW outer_view AS SELECT h.id, i.bunk FROM huts h JOIN inner_view i ON i.hut_id = h.id`)
	p := open(t, url)
	for _, c := range []struct {
		text     string
		role     shape.Role
		columns  string
		shifting string
	}{
		{"to_jsonb(huts)->>'note'", shape.Value, "[height id name note rent until]", ""},
		{"name || note", shape.Value, "[name note]", ""},
		{"public.tidy(name)", shape.Value, "[name]", ""},
		{"until > now()", shape.Condition, "[until]", "now"},
		{"until > current_date", shape.Condition, "[until]", "now"},
		{"name = current_user", shape.Condition, "[name]", "current_user"},
		{"random()::text", shape.Value, "[]", "random"},
		{"public.bunks_of(id)", shape.Value, "[id]", "bunks_of"},
		{"to_char(until, 'YYYY')", shape.Value, "[until]", ""},
		{"name, age(until)", shape.Ordering, "[name until]", "age"},
	} {
		e := shape.Expression{Table: "huts", Text: c.text, Role: c.role}
		facts, err := p.Facts(t.Context(), []string{"huts"}, []shape.Expression{e})
		if err != nil {
			t.Fatal(err)
		}
		got := facts.Expressions[e]
		var shifting []string
		for _, s := range got.Shifting {
			shifting = append(shifting, s.Function)
		}
		if fmt.Sprint(got.Columns) != c.columns || strings.Join(shifting, " ") != c.shifting || got.Problem != "" {
			t.Errorf("%s reads %v and calls %v (%s)", c.text, got.Columns, shifting, got.Problem)
		}
	}
	facts, err := p.Facts(t.Context(), []string{"furnished", "outer_view", "open_huts"}, nil)
	if err != nil {
		t.Fatal(err)
	}
	for view, shifting := range map[string]int{"furnished": 0, "outer_view": 0, "open_huts": 1} {
		if got := facts.Tables[view].Shifting; len(got) != shifting {
			t.Errorf("%s shifts by %v", view, got)
		}
	}
	for _, view := range []string{"furnished", "outer_view"} {
		if !slices.ContainsFunc(facts.Tables[view].Follows, func(f shape.Follow) bool {
			return f.Table.Name == "bunks" && fmt.Sprint(f.Columns) == "[id hut_id label worn]"
		}) {
			t.Errorf("%s reads %+v", view, facts.Tables[view].Follows)
		}
	}
	// They are refused, unless they are allowed by name.
	for text, want := range map[string]string{
		"{ engine: main, rows: lodge.huts, where: until > now(), fields: [name] }":                                                     "the value of now() changes with the time",
		"{ engine: main, rows: lodge.huts, where: until > now(), fields: [name], functions_allowed: [now] }":                           "",
		"{ engine: main, rows: lodge.open_huts, key: id, fields: [name] }":                                                             "the value of now() changes with the time",
		"{ engine: main, rows: lodge.huts, fields: { n: { sql: public.bunks_of(id) } } }":                                              "bunks_of is not declared immutable",
		"{ engine: main, rows: lodge.huts, fields: [name], related: { b: { many: bunks, on: { hut_id: height }, fields: [label] } } }": "so they never match",
		"{ engine: main, rows: lodge.huts, fields: [name], related: { b: { many: huts, on: { height: height }, fields: [name] } } }":   "1.5 and 1.50 are equal to the database",
		"{ engine: main, rows: lodge.huts, fields: [name], related: { b: { many: huts, on: { rent: rent }, fields: [name] } } }":       "",
	} {
		def, findings := definition.Parse([]definition.File{{Name: "d.yaml", Text: `
sources: { lodge: { kind: postgres, url: "postgres://u@h/d" } }
engines: { main: { kind: opensearch, url: "http://h" } }
indexes: { huts: ` + text + " }"}}, language, nil)
		if len(findings) == 0 {
			var err error
			_, findings, err = source.Compile(t.Context(), def.Indexes[0], source.Only(p))
			if err != nil {
				t.Fatal(err)
			}
		}
		if said := fmt.Sprint(findings); want == "" && len(findings) > 0 || !strings.Contains(said, want) {
			t.Errorf("%s: %s, want %q", text, said, want)
		}
	}
}

// An expression is one expression, whatever its author meant: nothing that it contains is run as a statement, nothing
// in it reaches beyond it, and a comment at its end hides nothing.
func TestExpressionsAreOneExpression(t *testing.T) {
	url := pgtest.URL(t)
	conn, p := pgtest.Connect(t, url), open(t, url)
	pgtest.Exec(t, conn, `CREATE TABLE huts (id int PRIMARY KEY, name text, beds int);
		CREATE TABLE notes (id int PRIMARY KEY, hut_id int, body text); INSERT INTO huts VALUES (1, 'a', 5), (2, 'b', 1); INSERT INTO notes VALUES (1, 1, 'x')`)
	definition := func(where, value, order string) string {
		return fmt.Sprintf("  x:\n    engine: e\n    rows: s.huts\n    where: %q\n    fields: { v: { sql: %q } }\n"+
			"    related: { notes: { many: notes, on: { hut_id: id }, order: %q, fields: [body] } }\n", where, value, order)
	}
	for _, bad := range [][3]string{
		{"true; COMMIT; CREATE TABLE taken (id int)", "name", "id"}, {"true) OR (true", "name", "id"}, {"true", "name; DROP TABLE notes", "id"},
		{"true", "1) AS value FROM huts; DROP TABLE notes; SELECT (1", "id"}, {"true", "name), (beds", "id"}, {"true", "name", "id; DROP TABLE notes"},
		{"beds > 3 --", "name) --", "id"}, {"true", "name", "id LIMIT 1"}, {"true", "name", "id), count(*"}, {"true LIMIT 1", "name", "id"},
	} {
		if _, _, findings := compile(t, p, definition(bad[0], bad[1], bad[2])); len(findings) == 0 {
			t.Errorf("%q was taken for expressions", bad)
		}
	}
	var notes, taken bool
	if err := conn.QueryRow(t.Context(), "SELECT to_regclass('notes') IS NOT NULL, to_regclass('taken') IS NOT NULL").Scan(&notes, &taken); err != nil || !notes || taken {
		t.Fatalf("what an expression said was run: notes %t, taken %t, %v", notes, taken, err)
	}
	s, _, findings := compile(t, p, definition("beds > 3 -- the larger ones", "name -- as people say /* or not", "body DESC -- last first"))
	if len(findings) > 0 {
		t.Fatal(findings)
	}
	if n, err := p.Count(t.Context(), s.Trees[0]); n != 1 || err != nil {
		t.Error(n, err)
	}
	if docs := documents(t, p, s, 5); len(docs) != 1 || !strings.Contains(docs["1"], `"v":"a"`) || !strings.Contains(docs["1"], `"body":"x"`) {
		t.Error(docs)
	}
}
