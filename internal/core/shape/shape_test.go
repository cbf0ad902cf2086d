package shape

import (
	"fmt"
	"reflect"
	"slices"
	"strings"
	"testing"

	"pingo/internal/core/definition"
)

const text = `
sources: { lodge: { kind: postgres, url: "${DB}" } }
engines: { main: { kind: opensearch, url: "${SEARCH}" } }
indexes:
  huts:
    engine: main
    rows: lodge.huts
    where: retired_at IS NULL
    fields:
      name: { search: 10 }
      position: { sql: "ARRAY[lon, lat]", type: geo }
    related:
      region: { one: regions, on: { id: region_id }, fields: [name], related: { land: { one: lands, on: { code: land_code }, fields: [title] } } }
      offers: { many: amenities, through: { table: hut_amenities, on: { hut_id: id }, to: { id: amenity_id } }, list: label }
      notes: { many: notes, on: { hut_id: id }, where: approved, order: written_at DESC, fields: [body] }
`

func columns(spec string) []TableColumn {
	var out []TableColumn
	for _, s := range strings.Fields(spec) {
		name, kind, _ := strings.Cut(s, ":")
		out = append(out, TableColumn{Name: name, Type: Type(kind), Native: kind, Form: kind, Family: kind})
	}
	return out
}

func table(name, spec string, key ...string) *Table {
	return &Table{Ref: Ref{"public", name}, Columns: columns(spec), Key: key}
}

func facts() Facts {
	seen := table("seen", "id:integer name:text retired_at:timestamp lon:decimal lat:decimal region_id:integer")
	seen.View = true
	afar := table("afar", "id:integer name:text", "id")
	afar.Foreign = true
	huts := table(
		"huts",
		"id:integer name:text lon:decimal lat:decimal region_id:integer retired_at:timestamp email:text beds:integer",
		"id",
	)
	huts.Denied = map[string]string{"hidden": "GRANT SELECT (hidden) ON huts TO pingo;"}
	return Facts{
		Denied: map[string]string{"closed": "GRANT SELECT ON closed TO pingo;"},
		Known:  []string{"huts", "regions", "lands", "amenities", "hut_amenities", "notes"},
		Tables: map[string]*Table{
			"huts": huts, "seen": seen, "afar": afar,
			"regions":   table("regions", "id:integer name:text land_code:keyword", "id"),
			"lands":     table("lands", "code:keyword title:text", "code"),
			"amenities": table("amenities", "id:integer label:text", "id"),
			"hut_amenities": table(
				"hut_amenities",
				"hut_id:integer amenity_id:integer",
				"hut_id",
				"amenity_id",
			),
			"notes": table(
				"notes",
				"id:integer hut_id:integer body:text approved:boolean written_at:timestamp",
			),
		},
		Expressions: map[Expression]ExpressionFacts{
			{"huts", "retired_at IS NULL", Condition}: {Columns: []string{"retired_at"}},
			{"huts", "ARRAY[lon, lat]", Value}: {
				TableColumn: TableColumn{
					Type:   Decimal,
					Array:  true,
					Native: "double precision[]",
					Form:   "float8[]",
					Family: "double precision[]",
				},
				Columns: []string{"lat", "lon"},
			},
			{"notes", "approved", Condition}:       {Columns: []string{"approved"}},
			{"notes", "written_at DESC", Ordering}: {Columns: []string{"written_at"}},
			{"huts", "lower(email)", Value}: {
				TableColumn: TableColumn{Type: Text, Native: "text", Form: "text", Family: "text"},
				Columns:     []string{"email"},
			},
			{"huts", "beds / nothing", Value}: {Problem: `column "nothing" does not exist`},
		},
	}
}

func parse(t *testing.T, text string) *definition.Index {
	t.Helper()
	def, findings := definition.Parse(
		[]definition.File{{Name: "d.yaml", Text: text}},
		testKinds,
		func(r string) (string, error) {
			if r == "DB" {
				return "postgres://h/d", nil
			}
			return "http://h", nil
		},
	)
	if len(findings) > 0 {
		t.Fatal(findings)
	}
	return def.Indexes[0]
}

func compile(t *testing.T, text string) *Shape {
	t.Helper()
	s, findings := Compile(parse(t, text), map[string]Facts{"lodge": facts()})
	if len(findings) > 0 {
		t.Fatal(findings)
	}
	return s
}

func TestCaptureAndRoutesOfATree(t *testing.T) {
	s := compile(t, text)
	var got []string
	for _, c := range Capture("lodge", []*Shape{s, s}) {
		got = append(got, fmt.Sprintf("%s key%v watch%v links%v", c.Table.Name, c.Key, c.Watch, c.Links))
		if len(c.Groups) > 2 || !reflect.DeepEqual(union(nil, slices.Concat(c.Groups...)), c.Watch) {
			t.Errorf("%s: one reader, but groups %v", c.Table, c.Groups)
		}
		for _, r := range s.Routes("lodge")[c.Table] {
			if !reflect.DeepEqual(union(nil, r.Reads), c.Watch) {
				t.Errorf("a way from %s reads %v", c.Table, r.Reads)
			}
		}
	}
	want := []string{
		"amenities key[id] watch[id label] links[id]",
		"hut_amenities key[hut_id amenity_id] watch[amenity_id hut_id] links[hut_id]",
		"huts key[id] watch[id lat lon name region_id retired_at] links[]",
		"lands key[code] watch[code title] links[code]",
		"notes key[] watch[approved body hut_id written_at] links[hut_id]",
		"regions key[id] watch[id land_code name] links[id]",
	}
	if !reflect.DeepEqual(got, want) {
		t.Errorf("capture:\n%s", strings.Join(got, "\n"))
	}
	steps := func(list ...string) (out []Step) {
		for _, s := range list {
			p := strings.Fields(s)
			yield := make([]Column, len(p)-3)
			for i := range yield {
				yield[i] = Column{Name: p[i+3], Form: "integer", Type: Integer}
			}
			out = append(out, Step{Table: Ref{"public", p[0]}, Match: []string{p[1]}, Types: []string{p[2]}, Yield: yield})
		}
		return out
	}
	routes := s.Routes("lodge")
	for name, want := range map[string][]Route{
		"huts":          {{}},
		"regions":       {{Link: []string{"id"}, Steps: steps("huts region_id integer id")}},
		"lands":         {{Link: []string{"code"}, Steps: steps("regions land_code keyword id", "huts region_id integer id")}},
		"amenities":     {{Link: []string{"id"}, Steps: steps("hut_amenities amenity_id integer hut_id")}},
		"hut_amenities": {{Link: []string{"hut_id"}}},
		"notes":         {{Link: []string{"hut_id"}}},
	} {
		got := routes[Ref{"public", name}]
		for i, ofKey := range map[string][]int{"regions": {0}, "lands": {0}, "amenities": {0}, "hut_amenities": {0}}[name] {
			want[0].OfKey = append(want[0].OfKey, ofKey+i)
		}
		for i := range got {
			got[i].Reads = nil
		}
		for i := range got { // from the row's own key, where nothing else is known of it
			if own := got[i].Own; own != nil {
				if own.Table.Name != name || len(own.Match) != len(own.Types) ||
					len(own.Yield) != len(got[i].Link) {
					t.Errorf("own way from %s: %+v", name, own)
				}
				got[i].Own = nil
			} else if slices.Contains([]string{"regions", "lands", "amenities", "hut_amenities"}, name) {
				t.Errorf("there is no own way from %s", name)
			}
		}
		if !reflect.DeepEqual(got, want) {
			t.Errorf("routes of %s: %+v, want %+v", name, got, want)
		}
	}
}

// Columns are apart where a person reads one without the other, and there are never too many groups.
func TestGroupsOfColumns(t *testing.T) {
	got := groups([]string{"a", "b", "c", "d"}, [][]string{{"a", "b", "c"}, {"b", "c", "d"}, {"b"}})
	if !reflect.DeepEqual(got, [][]string{{"a"}, {"b"}, {"c"}, {"d"}}) {
		t.Error(got)
	}
	got = groups([]string{"a", "b", "c", "d"}, [][]string{{"a", "b", "c"}, {"b", "c", "d"}})
	if !reflect.DeepEqual(got, [][]string{{"a"}, {"b", "c"}, {"d"}}) {
		t.Error(got)
	}
	var many []string
	var alone [][]string
	for i := range 100 {
		many = append(many, fmt.Sprint(i))
		alone = append(alone, many[i:])
	}
	if got = groups(many, alone); len(got) != MaxGroups || len(slices.Concat(got...)) != 100 {
		t.Error(len(got), got)
	}
}

func TestHashIgnoresWeightsOnly(t *testing.T) {
	base := compile(t, text)
	for with, same := range map[string]bool{"name: { search: 3 }": true, "name: { search: 10, sort: true }": false, "name:": false} {
		other := compile(t, strings.Replace(text, "name: { search: 10 }", with, 1))
		if (base.Hash() == other.Hash()) != same {
			t.Errorf("%s: same hash %v", with, !same)
		}
	}
}

func TestWhatDoesNotFitTheCatalogue(t *testing.T) {
	for _, c := range []struct{ replace, with, want string }{
		{"rows: lodge.huts", "rows: lodge.hust", `d.yaml:7:11: the source has no table "hust" that Pingo may read — did you mean "huts"?`},
		{"name: { search: 10 }", "nmae:", `d.yaml:10:7: table huts has no column "nmae" that Pingo may read — did you mean "name"?`},
		{"{ id: region_id }", "{ id: region }", `table huts has no column "region" that Pingo may read — did you mean "region_id"?`},
		{"{ id: region_id }", "{ id: name }", `regions.id is integer but huts.name is text, so they never match`},
		{"name: { search: 10 }", "email:", `column huts.email looks personal or secret (email), and a search engine is no place for that — leave it out, or write personal: allowed`},
		{"name: { search: 10 }", `contact: { sql: "lower(email)" }`, `column huts.email looks personal`},
		{"name: { search: 10 }", `x: { sql: "beds / nothing" }`, `the database does not accept this expression: column "nothing" does not exist`},
		{"name: { search: 10 }", "beds: { search: 1 }", `field beds is integer; only text is searched by words`},
		{"name: { search: 10 }", "name: { type: geo }", `field name is text in the database, which cannot become geo`},
		{"name: { search: 10 }", "region: { column: name }", `d.yaml:13:7: region names both a field and a related table`},
		{"name: { search: 10 }", "name: { match: prefix }", `d.yaml:10:22: match says how a search looks into field name, but no search does — add search: 1, or take match out`},
		{"name: { search: 10 }", "name: { search: 1 }\n      all: { combine: [nam] }", `d.yaml:11:24: there is no field "nam" from here to combine — did you mean "name"?`},
		{"name: { search: 10 }", "all: { combine: [position] }", `d.yaml:10:24: position is geo, which has no words — take it out`},
		{"name: { search: 10 }", "name:\n      a: { combine: [name] }\n      b: { combine: [a] }", `d.yaml:12:22: a is itself a combined field — name the fields that it combines instead`},
		{"name: { search: 10 }", "name: { type: keyword, search: 1 }\n      all: { combine: [name], type: date }", `field all combines others, so it is text and cannot be date`},
		{"position: { sql: \"ARRAY[lon, lat]\", type: geo }", "position: { sql: \"ARRAY[lon, lat]\", type: geo, sort: true }", `field position is a place, which has no order and no groups`},
		{"fields: [body] }", "fields: { body: { sort: true } } }", `field body may have several values in a document, so it cannot sort documents`},
		{"{ one: regions,", "{ one: seen,", `d.yaml:13:22: seen is a view; only the root of a document may be one`},
		{"rows: lodge.huts", "rows: lodge.seen", `seen is a view, so it does not say which columns tell its rows apart — write key: COLUMN next to rows`},
		{"rows: lodge.huts", "rows: lodge.huts\n    key: id", `huts is a table, so its primary key tells its rows apart — take key out`},
		{"rows: lodge.huts", "rows: lodge.afar", `afar is a table of another server; its changes there cannot be noticed here`},
		{"rows: lodge.huts", "rows: lodge.closed", `d.yaml:7:11: Pingo may not read table closed — GRANT SELECT ON closed TO pingo;`},
		{"name: { search: 10 }", "hidden:", `d.yaml:10:7: Pingo may not read column "hidden" of table huts — GRANT SELECT (hidden) ON huts TO pingo;`},
		{"{ id: region_id }", "{ id: lon }", `regions.id is integer but huts.lon is decimal, so they never match`},
		{"rows: lodge.huts", "rows: lodge.notes", `table notes has no primary key, so its documents would have no identity`},
	} {
		_, findings := Compile(parse(t, strings.Replace(text, c.replace, c.with, 1)), map[string]Facts{"lodge": facts()})
		if !strings.Contains(findings.Error(), c.want) {
			t.Errorf("%s\n got: %v\nwant: %s", c.with, findings, c.want)
		}
		for _, f := range findings {
			if f.Suggestion == "" || f.Pos.Line == 0 {
				t.Errorf("%s: without a place or a suggestion: %s", c.with, f)
			}
		}
	}
	allowed := strings.Replace(text, "name: { search: 10 }", "email: { personal: allowed }", 1)
	if _, findings := Compile(parse(t, allowed), map[string]Facts{"lodge": facts()}); len(findings) > 0 {
		t.Error(findings)
	}
}

func TestTablesOfAnIndexMustAgree(t *testing.T) {
	const two = `
sources: { lodge: { kind: postgres, url: "${DB}" } }
engines: { main: { kind: opensearch, url: "${SEARCH}" } }
indexes:
  finder:
    engine: main
    rows:
      hut: { table: lodge.huts, fields: { title: { column: name, search: 10, match: prefix } } }
      region: { table: lodge.regions, fields: { title: { column: name, search: 10, match: prefix } } }
`
	if s := compile(t, two); len(s.Fields()) != 1 || len(s.Trees) != 2 ||
		s.Tree("region").Root().Table.Name != "regions" {
		t.Errorf("%+v", s)
	}
	for _, c := range []struct{ put, want string }{
		{"title: { column: id }", "d.yaml:9:7: field title is text in rows hut and integer in rows region; an index has one type for a name — give one of them another name"},
		{"title: { column: name, search: 4, match: prefix }", "field title weighs 10 in rows hut and 4 in rows region"},
		{"title: { column: name, search: 10 }", "field title is matched by prefix in rows hut and by words in rows region"},
	} {
		i := strings.LastIndex(two, "title: {")
		_, findings := Compile(parse(t, two[:i]+c.put+" } }\n"), map[string]Facts{"lodge": facts()})
		if !strings.Contains(findings.Error(), c.want) {
			t.Errorf("%s\n got: %v\nwant: %s", c.put, findings, c.want)
		}
	}
}

// Tables of two sources are tied by what can be compared between them, and changes of either lead to
// the documents.
func TestSeveralSources(t *testing.T) {
	const several = `
sources: { lodge: { kind: postgres, url: "${DB}" }, paths: { kind: postgres, url: "${DB}" } }
engines: { main: { kind: opensearch, url: "${SEARCH}" } }
indexes:
  finder:
    engine: main
    rows:
      hut:
        table: lodge.huts
        fields: [name]
        related: { region: { one: regions, source: paths, on: { id: region_id }, fields: [name] } }
      region: { table: paths.regions, fields: [name] }
`
	with := func(f Facts) Facts {
		for _, table := range f.Tables {
			for i := range table.Columns {
				if c := &table.Columns[i]; c.Type == Integer {
					c.Across = &Across{As: "number", Type: Integer, Least: -10, Most: 1000}
				}
			}
		}
		return f
	}
	both := map[string]Facts{"lodge": with(facts()), "paths": with(facts())}
	s, findings := Compile(parse(t, several), both)
	if len(findings) > 0 {
		t.Fatal(findings)
	}
	if got := fmt.Sprint(s.Source, s.Sources(), s.SourceOf(s.Trees[1].Root())); got != "lodge[lodge paths]paths" {
		t.Error(got)
	}
	for source, want := range map[string]string{
		"lodge": "huts [id name region_id] []", "paths": "regions [id name] [id]",
	} {
		var got []string
		for _, c := range Capture(source, []*Shape{s}) {
			got = append(got, fmt.Sprint(c.Table.Name, " ", c.Watch, " ", c.Links))
		}
		if strings.Join(got, "; ") != want {
			t.Errorf("captured in %s: %v", source, got)
		}
	}
	if s.Captures("lodge", Ref{"public", "regions"}) || !s.Captures("paths", Ref{"public", "regions"}) {
		t.Error("changes of the regions of lodge are none of its")
	}
	routes := s.Routes("paths")[Ref{"public", "regions"}]
	if len(routes) != 2 || len(routes[0].Steps) != 1 {
		t.Fatalf("%+v", routes)
	}
	if up := routes[0].Steps[0]; up.Source != "" || up.Table.Name != "huts" || up.Match[0] != "region_id" ||
		up.Types[0] != "number" || len(up.Across) != 1 || len(routes[1].Steps) > 0 || routes[1].Tree != 1 {
		t.Errorf("%+v", routes)
	}
	for value, want := range map[string]bool{
		"0": true, "-10": true, "1000": true, "-11": false, "1001": false, "01": false, "+1": false, "1.0": false, "": false, "-0": false,
		"99999999999999999999": false, "one": false,
	} {
		if routes[0].Steps[0].Across[0].Fits(value) != want {
			t.Errorf("%q: fits %v", value, !want)
		}
	}
	text := Across{Type: Text}
	if uuid := (Across{Type: Keyword}); !text.Fits("") || text.Fits("a\x00") || text.Fits("\xff") ||
		!uuid.Fits("0190a0b0-0000-7000-8000-00000000000a") || uuid.Fits("0190A0B0-0000-7000-8000-00000000000A") {
		t.Error("texts and UUIDs")
	}
	if same, _ := Compile(parse(t, several), both); same.Hash() != s.Hash() || len(Compare(s, same)) > 0 {
		t.Error("the same definition differs")
	}
	moved, findings := Compile(parse(t, strings.Replace(several, "source: paths", "source: lodge", 1)), both)
	if len(findings) > 0 || moved.Hash() == s.Hash() || !strings.Contains(fmt.Sprint(Compare(s, moved)), "source is the index's own instead of paths") {
		t.Errorf("%v %v", findings, Compare(s, moved))
	}
	for _, c := range []struct{ replace, with, want string }{
		{"id: region_id", "name: name", "regions.name is text, and such values are not compared between two sources — tie sources by integers, texts or UUIDs"},
		{"one: regions, source: paths", "one: region, source: paths", `the source has no table "region" that Pingo may read — did you mean "regions"?`},
	} {
		if _, findings := Compile(parse(t, strings.Replace(several, c.replace, c.with, 1)), both); !strings.Contains(findings.Error(), c.want) {
			t.Errorf("%s: %v", c.with, findings)
		}
	}
}

// Whatever makes the hash differ is put into words, and the other way round.
func TestDifferencesAreSaid(t *testing.T) {
	base := compile(t, text)
	for with, want := range map[string]string{
		"name: { search: 10 }":                                           "[]",
		"name: { search: 3 }":                                            "[{name weighs 3 instead of 10 in searches true}]",
		"name: { search: 10, match: infix }":                             "[{name is matched by infix instead of words false}]",
		"name: { search: 10, sort: true }":                               "[{name has the role sort now false}]",
		"title: { column: name, search: 10 }":                            "[{name is no longer a field false} {title is a new field false}]",
		"name: { sql: \"lower(email)\", personal: allowed, search: 10 }": "[{name comes from lower(email) of public.huts instead of public.huts.name false}]",
		"name: { type: keyword, search: 10 }":                            "[{name is keyword instead of text false}]",
	} {
		other := compile(t, strings.Replace(text, "name: { search: 10 }", with, 1))
		if got := fmt.Sprint(Compare(base, other)); got != want {
			t.Errorf("%s: %s, want %s", with, got, want)
		}
	}
	for find, c := range map[string][2]string{
		"where: retired_at IS NULL\n": {"\n", "[{ where is none instead of retired_at IS NULL false}]"},
		"order: written_at DESC, ":    {"", "[{notes order is none instead of written_at DESC false}]"},
		"    engine: main\n":          {"    engine: main\n    synonyms: [[hut, refuge]]\n", "[{ synonyms differ true}]"},
	} {
		if got := fmt.Sprint(Compare(base, compile(t, strings.Replace(text, find, c[0], 1)))); got != c[1] {
			t.Errorf("%s: %s, want %s", find, got, c[1])
		}
	}
}

func TestPersonalNames(t *testing.T) {
	for name, want := range map[string]bool{"email": true, "guest_email": true, "eMail": true, "PasswordHash": true, "phone_numbers": true, "telephone": true, "api_key": true,
		"name": false, "spinning": false, "pinned": false, "tokenizer": false, "mailing": false, "altitude_m": false} {
		if got := personal(name) != ""; got != want {
			t.Errorf("%s: %v", name, got)
		}
	}
}

var testKinds = definition.Kinds{
	Sources: []definition.Kind{
		{Name: "postgres", Schemes: []string{"postgres"}, Captures: []string{"triggers"}, Keys: `{}`},
	},
	Engines: []definition.Kind{{Name: "opensearch", Schemes: []string{"http"}, Keys: `{}`}},
}
