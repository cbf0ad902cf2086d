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
		{"tidy(name)", shape.Value, "[name]", ""},
		{"until > now()", shape.Condition, "[until]", "now"},
		{"until > current_date", shape.Condition, "[until]", "now"},
		{"name = current_user", shape.Condition, "[name]", "current_user"},
		{"random()::text", shape.Value, "[]", "random"},
		{"bunks_of(id)", shape.Value, "[id]", "bunks_of"},
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
		"{ engine: main, rows: lodge.huts, fields: { n: { sql: bunks_of(id) } } }":                                                     "bunks_of is not declared immutable",
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
