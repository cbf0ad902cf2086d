package definition

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"pingo/internal/core/reindex"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"gopkg.in/yaml.v3"
)

func look(reference string) (string, error) {
	switch reference {
	case "DB":
		return "postgres://u:p@h:5432/d", nil
	case "SEARCH":
		return "http://h:9200", nil
	}
	return "", errors.New("the environment variable " + reference + " is not set")
}

const right = `sources:
  lodge: { kind: postgres, url: "${DB}" }
engines:
  main: { kind: opensearch, url: "${SEARCH}" }
indexes:
  huts:
    engine: main
    rows: lodge.huts
    fields: [name]
`

// Each wrong definition is the right one with a line in it replaced.
func TestWrongDefinitionsSayWhereAndWhatToDo(t *testing.T) {
	for _, c := range []struct{ replace, with, want string }{
		{"sources:", "sorces:", `d.yaml:1:1: a definition has no key "sorces" — did you mean "sources"?`},
		{"kind: postgres", "kind: postgers", `d.yaml:2:18: the kind of a source cannot be "postgers" — did you mean "postgres"?`},
		{"kind: opensearch", "kind: 5", `d.yaml:4:17: the kind of an engine cannot be "5" — known here: opensearch`},
		{`"${DB}"`, `"${DBX}"`, `d.yaml:2:33: the environment variable DBX is not set — set it where pingo serve runs`},
		{`"${DB}"`, `postgres://me:hunter2@h/d`, `d.yaml:2:33: the source's url has a password or key written out; secrets are never stored — put the URL into an environment variable`},
		{`"${DB}"`, `mysql://h/d`, `d.yaml:2:33: the source's url begins with mysql://, which this kind does not speak — begin it with postgres:// or postgresql://`},
		{`"${DB}"`, `"no url at all"`, `d.yaml:2:33: the source's url cannot be read as a URL`},
		{`"${SEARCH}"`, `ftp://h`, `d.yaml:4:34: the engine's url begins with ftp://`},
		{"    engine: main\n", "", `d.yaml:7:5: index huts needs "engine"`},
		{"engine: main", "engine: mian", `d.yaml:7:13: index huts goes to engine "mian", which there is not — did you mean "main"?`},
		{"rows: lodge.huts", "rows: loge.huts", `d.yaml:8:11: there is no source "loge" — did you mean "lodge"?`},
		{"rows: lodge.huts", "rows: huts", `d.yaml:8:11: rows names a source and a table, but "huts" does not — write SOURCE.TABLE`},
		{"fields: [name]", "fields: []", `d.yaml:9:13: there are no fields here — name at least one column`},
		{"fields: [name]", "fields: name", `d.yaml:9:13: fields are written as names, each with what it is, not as "name"`},
		{"fields: [name]", "fields: [name, name]", `d.yaml:9:20: field name stands here twice`},
		{"fields: [name]", "fields: [pingo_fingerprint]", `d.yaml:9:14: "pingo_fingerprint" cannot name a field`},
		{"fields: [name]", "fields: { name: { serch: 1 } }", `d.yaml:9:23: field name has no key "serch" — did you mean "search"?`},
		{"fields: [name]", "fields: { name: { search: much } }", `d.yaml:9:31: search (a weight) is a number from 0 to 1000, not "much"`},
		{"fields: [name]", "fields: { name: { filter: maybe } }", `d.yaml:9:31: filter is true or false, not "maybe"`},
		{"fields: [name]", "fields: { name: { type: txt } }", `d.yaml:9:29: the type of a field cannot be "txt" — did you mean "text"?`},
		{"fields: [name]", "fields: { name: { column: a, sql: b } }", `d.yaml:9:15: field name has more than one of column, sql and combine — keep one of them`},
		{"fields: [name]", "fields: { name: { personal: yes please } }", `d.yaml:9:33: personal cannot be "yes please" — known here: allowed`},
		{"fields: [name]", "fields: [name]\n    whree: x", `d.yaml:10:5: index huts has no key "whree" — did you mean "where"?`},
		{"fields: [name]", "fields: [name]\n    where:", `d.yaml:10:11: where is a text, not nothing`},
		{"  huts:", "  Huts:", `d.yaml:6:3: "Huts" cannot name an index — begin with a lower-case letter`},
		{"fields: [name]", "fields: [name]\n    related: { region: { on: { id: region_id }, fields: [name] } }", `d.yaml:10:16: related region does not say how many rows it has — write one: TABLE or many: TABLE`},
		{"fields: [name]", "fields: [name]\n    related: { region: { one: a, many: b, on: { id: r }, fields: [x] } }", `related region says both one and many`},
		{"fields: [name]", "fields: [name]\n    related: { region: { one: regions, fields: [name] } }", `related region does not say how its rows are tied to these — write on:`},
		{"fields: [name]", "fields: [name]\n    related: { region: { one: regions, on: { id: r } } }", `related region needs fields, or list for a plain list of one field`},
		{"fields: [name]", "fields: [name]\n    related: { region: { one: regions, on: { id: r }, list: name } }", `related region is one row, so order, limit, list and through have no meaning`},
		{"fields: [name]", "fields: [name]\n    related: { notes: { many: notes, on: { id: r }, limit: 3, fields: [x] } }", `related notes has a limit, but does not say which rows come first — write order:`},
		{"fields: [name]", "fields: [name]\n    related: { notes: { many: notes, on: { id: r }, limit: 0, order: id, fields: [x] } }", `limit is a number from 1 to 10000, not "0"`},
		{"fields: [name]", "fields: [name]\n    related: { notes: { many: notes, on: {}, fields: [x] } }", `d.yaml:10:42: no columns tie the two tables — write { their_column: our_column }`},
		{"fields: [name]", "fields: [name]\n    related: { notes: { many: notes, on: [a], fields: [x] } }", `d.yaml:10:42: linked columns are written as names, each with what it is, not as a list — write NAME:`},
		{"fields: [name]", "fields: [name]\n    related: { notes: { many: n, on: { a: b }, list: { search: 1 } } }", `d.yaml:10:54: list notes is made of one column, or of sql — write list: COLUMN`},
		{"fields: [name]", "fields: [name]\n    related: { notes: { many: n, on: { a: b }, list: { colum: x } } }", `list notes has no key "colum" — did you mean "column"?`},
		{"fields: [name]", "fields: [name]\n    related: { notes: { many: n, on: { a: b }, list: x, related: { r: { one: q, on: { a: b }, fields: [c] } } } }", `related notes is a plain list, so it cannot have related tables of its own — use fields instead of list`},
		{"fields: [name]", "fields: [name]\n    related: { notes: { many: n, on: { a: b }, through: { table: j, on: { a: b }, to: { a: b } }, list: x } }", `related notes says both on and through — with a join table`},
		{"fields: [name]", "fields: [name]\n    related: [notes]", `d.yaml:10:14: related tables are written as names, each with what it is, not as a list — write NAME:`},
		{"fields: [name]", "fields: { name: { match: prefixes } }", `d.yaml:9:30: match cannot be "prefixes" — did you mean "prefix"?`},
		{"fields: [name]", "fields: { name: { facet: yes please } }", `d.yaml:9:30: facet is true or false, not "yes please" — write facet: true, or leave it out`},
		{"fields: [name]", "fields: { name: { search: 5000 } }", `d.yaml:9:31: search (a weight) is a number from 0 to 1000, not "5000" — write a number between these`},
		{"fields: [name]", "fields: { all: { combine: name } }", `d.yaml:9:31: combine is a list of fields of the document, not "name" — write combine: [name, region.name]`},
		{"fields: [name]", "fields: { all: { combine: [] } }", `d.yaml:9:31: combine is a list of fields of the document, not a list`},
		{"fields: [name]", "fields: { all: { combine: [name], sql: x } }", `d.yaml:9:15: field all has more than one of column, sql and combine — keep one of them`},
		{"fields: [name]", "fields: { name: 5 }", `d.yaml:9:21: field name is written as keys and values, not as "5" — write them below it`},
		{"fields: [name]", "fields: { name: { sql: } }", `d.yaml:9:28: sql is a text, not nothing — write it behind the colon`},
		{"fields: [name]", "fields: [[name]]", `d.yaml:9:14: a field in a list is a text, not a list`},
		{"fields: [name]", `fields: ["a.b"]`, `d.yaml:9:14: "a.b" cannot name a field — names that start with _ or pingo_, or contain a dot, are reserved`},
		{"fields: [name]", "fields: [_id]", `"_id" cannot name a field`},
		{"    fields: [name]\n", "", `d.yaml:6:3: index huts needs "fields" — name the columns`},
		{"    rows: lodge.huts\n", "", `d.yaml:7:5: index huts needs "rows" — add rows: to it`},
		{"rows: lodge.huts", "rows: lodge.", `d.yaml:8:11: rows names a source and a table, but "lodge." does not`},
		{"rows: lodge.huts", "rows: {}", `d.yaml:8:11: there are no rows here — write SOURCE.TABLE, or a name for each table`},
		{"rows: lodge.huts", "rows: { hut: { table: lodge.huts, fields: [a] } }", `d.yaml:6:3: index huts has several rows, so fields, where, related and key belong to each of them — put these below each of the rows`},
		{"rows: lodge.huts\n    fields: [name]", "rows: { hut: { table: lodge.huts } }", `d.yaml:8:18: rows hut needs "fields" — add fields: to it`},
		{"rows: lodge.huts\n    fields: [name]", "rows: { hut: { fields: [name] } }", `d.yaml:8:18: rows hut needs "table" — add table: to it`},
		{"rows: lodge.huts\n    fields: [name]", "rows: { Hut: { table: lodge.huts, fields: [name] } }", `d.yaml:8:13: "Hut" cannot name rows — begin with a lower-case letter`},
		{"rows: lodge.huts\n    fields: [name]", "rows: { hut: { table: lodge.huts, fields: [a] }, path: { table: ways.paths, fields: [a] } }", `there is no source "ways"`},
		{"fields: [name]", "fields: [name]\n    related: { paths: { many: paths, source: lodg, on: { hut_id: id }, fields: [a] } }", `d.yaml:10:46: there is no source "lodg" — did you mean "lodge"?`},
		{"rows: lodge.huts\n    fields: [name]", "rows: { hut: { tabel: lodge.huts, fields: [a] } }", `rows hut has no key "tabel" — did you mean "table"?`},
		{"fields: [name]", "fields: [name]\n    key: []", `d.yaml:10:10: key names no column — name the columns that tell rows apart`},
		{"fields: [name]", "fields: [name]\n    reindex: { begin: soon }", `d.yaml:10:23: begin cannot be "soon" — write now, on_command, or a time such as "02:00"`},
		{"fields: [name]", "fields: [name]\n    reindex: { switch: checkd }", `switch cannot be "checkd" — did you mean "checked"?`},
		{"fields: [name]", "fields: [name]\n    reindex: { keep_previous: 40d }", `keep_previous is a time such as 30m or 24h, at most 720h, not "40d"`},
		{"fields: [name]", "fields: [name]\n    reindex: { keep_previous: 1000h }", `at most 720h, not "1000h"`},
		{"fields: [name]", "fields: [name]\n    reindex: { bytes_per_second: fast }", `bytes_per_second is a size such as 2MB, not "fast"`},
		{"fields: [name]", "fields: [name]\n    reindex: { documents_per_second: 0 }", `documents_per_second is a number from 1 to 1e+09, not "0"`},
		{"fields: [name]", "fields: [name]\n    reindex: { hours: 22-6 }", `d.yaml:10:23: hours cannot be "22-6" — write a span of the day, such as "22:00-06:00"`},
		{"fields: [name]", "fields: [name]\n    reindex: { pace: 5 }", `reindex has no key "pace"`},
		{"fields: [name]", "fields: [name]\n    drift: { check: nightly }", `check cannot be "nightly"`},
		{"fields: [name]", "fields: [name]\n    drift: { repair: some }", `repair cannot be "some" — write report, all, or how many`},
		{"fields: [name]", "fields: [name]\n    drift: { content: 0.5 }", `content is a share such as 10%, not "0.5"`},
		{"fields: [name]", "fields: [name]\n    drift: { content: nan% }", `content is a share such as 10%, not "nan%"`},
		{"fields: [name]", "fields: [name]\n    drift: { documents_per_second: nan }", `documents_per_second is a number from 1 to 1e+09`},
		{"fields: [name]", "fields: [name]\n    drift: { sweep: daily }", `sweep is a time such as 30m or 24h, at most 720h, not "daily" — write a number and s, m or h, or 0 for none`},
		{"fields: [name]", "fields: [name]\n    refresh: 5s", `refresh is a time such as 30m or 24h, at least 1m0s and at most 720h, not "5s"`},
		{"indexes:", "alerts: { url: \"https://alarm.firnline.example/in\" }\nindexes:", "events are signed, with a secret"},
		{"indexes:", "alerts: { url: \"https://alarm.firnline.example/in\", secret: whsec_c2VjcmV0 }\nindexes:", "events are signed, with a secret that is written nowhere"},
		{"indexes:", "alerts: { lag: soon }\nindexes:", `lag is a time such as 30m`},
		{"fields: [name]", "fields: [name]\n    expect: ridge", `d.yaml:10:13: expect is a list of searches, not "ridge" — write - { search: words, finds: KEY, among: 3 }`},
		{"fields: [name]", "fields: [name]\n    expect: [{ search: ridge }]", `expect needs "finds"`},
		{"fields: [name]", "fields: [name]\n    expect: [{ search: ridge, finds: 3, among: 0 }]", `among is a number from 1 to 100, not "0"`},
		{"fields: [name]", "fields: [name]\n    synonyms: hut", `d.yaml:10:15: synonyms are a list of lists of words, not "hut" — write - [hut, refuge, shelter]`},
		{"fields: [name]", "fields: [name]\n    synonyms: [[hut]]", `d.yaml:10:16: a group of synonyms is a list of at least two words — write - [hut, refuge, shelter]`},
		{"fields: [name]", "fields: [name]\n    synonyms: [[hut, 'a, b']]", `d.yaml:10:22: "a, b" cannot be a synonym — use words of letters and digits`},
		{"fields: [name]", "fields: [name]\n    engine_settings: fast", `d.yaml:10:22: engine_settings are written as keys and values, not as "fast"`},
		{"fields: [name]", "fields: [name]\n    engine_settings: { a: .nan }", `engine_settings are written as keys and values`},
		{"fields: [name]", "<<: 5", `d.yaml:9:5: << takes keys and values over, not "5" — write <<: *name`},
		{"fields: [name]", "where: \"deletedAt\" IS NULL\n    fields: [name]", `text follows a quoted value — put the whole value in single quotes: '"deletedAt" IS NULL'`},
		{"fields: [name]", "fields: *gone", `this is not YAML: unknown anchor 'gone' referenced`},
		{"fields: [name]", "fields: &a { x: *a }", `the definition is too large, or refers to itself — keep it below`},
		{right, right + "---\n" + right, `d.yaml:12:3: source lodge is already defined in d.yaml:2:3`},
		{"kind: opensearch", "kind: postgres", `d.yaml:4:32: the engine's url begins with http://, which this kind does not speak — begin it with postgres:// or postgresql://`},
		{`url: "${DB}" }`, `url: "${DB}", capture: webhooks }`, `d.yaml:2:51: capture of a source of kind postgres cannot be "webhooks" — known here: triggers`},
		{"fields: [name]", "fields: [name]\n    related: { notes: { many: n, through: { table: j, on: { a: b } }, list: x } }", `through needs "to"`},
		{"engines:", "\tengines:", `this is not YAML`},
		{"fields: [name]", "fields: { name: { boost: 3 } }", `d.yaml:9:23: field name has no key "boost" — did you mean "search"?`},
		{"fields: [name]", "fields: { name: { nosuch: 3 } }", `field name has no key "nosuch" — known here: column, combine, facet, filter, match, personal, search, sort, sql, type`},
		{`kind: opensearch, `, `kind: opensearch, headers: { Authorization: "Bearer abc" }, `, `d.yaml:4:55: Authorization looks like a secret that is written out; secrets are never stored — put it into an environment variable`},
		{`kind: opensearch, `, `kind: opensearch, headers: { X-Token: "${NOPE}" }, `, `d.yaml:4:49: the environment variable NOPE is not set — set it where pingo serve runs`},
		{`kind: opensearch, `, `kind: opensearch, mode: fast, `, `d.yaml:4:35: mode cannot be "fast"`},
		{`kind: opensearch, `, `kind: postgres, mode: fast, `, `engine main has no key "mode"`},
		{`kind: opensearch, url: "${SEARCH}"`, `url: "ftp://x"`, `the engine's url begins with ftp://, which this kind does not speak — begin it with http:// or https:// or postgres:// or postgresql://`},
		{right, "", `d.yaml:1:1: the file is empty — give it sources, engines and indexes`},
		{right, "[1, 2]", `d.yaml:1:1: a definition is written as keys and values, not as a list`},
		{"indexes:", "indexes:\n  huts: { engine: main, rows: lodge.huts, fields: [id] }", `d.yaml:7:3: "huts" stands twice under indexes`},
		{"  main: { kind: opensearch, url: \"${SEARCH}\" }\n", "", `engines are written as names, each with what it is, not as nothing`},
	} {
		text := strings.Replace(right, c.replace, c.with, 1)
		if text == right {
			t.Fatalf("nothing replaced: %q", c.replace)
		}
		_, findings := Parse([]File{{"d.yaml", text}}, testKinds, look)
		if !strings.Contains(findings.Error(), c.want) {
			t.Errorf("%s\n got: %v\nwant: %s", c.with, findings, c.want)
		}
		for _, f := range findings {
			if f.Suggestion == "" || f.Pos.Line == 0 || f.Pos.Col == 0 {
				t.Errorf("%s: without a place or a suggestion: %s", c.with, f)
			}
		}
		if strings.Contains(findings.Error(), "hunter2") {
			t.Error("a finding shows a password")
		}
	}
}

func TestSeveralFilesMakeOneDefinition(t *testing.T) {
	head, tail, _ := strings.Cut(right, "indexes:")
	for _, files := range [][]File{{{"a.yaml", head}, {"b.yaml", "indexes:" + tail}}, {{"-", head + "---\n# b.yaml\nindexes:" + tail}}} {
		def, findings := Parse(files, testKinds, look)
		if len(findings) > 0 || def.Index("huts") == nil || def.Source("lodge") == nil {
			t.Fatal(findings)
		}
	}
	var findings Findings
	_, findings = Parse([]File{{"a.yaml", right}, {"b.yaml", right}}, testKinds, look)
	if !strings.Contains(findings.Error(), "b.yaml:2:3: source lodge is already defined in a.yaml:2:3") {
		t.Error(findings)
	}
}

// Parts that * and << repeat mean the same as if they were written out.
func TestRepeatedParts(t *testing.T) {
	def, findings := Parse(
		[]File{
			{
				"a.yaml",
				strings.Replace(
					right,
					"  huts:\n",
					"  huts: &huts\n    engine_settings: { number_of_replicas: 2 }\n",
					1,
				) + "  copies:\n    <<: *huts\n    engine: main\n    synonyms: [[Stone  Hut, refuge]]\n    fields: { name: { combine: [a.b] } }\n",
			},
		},
		testKinds,
		look,
	)
	if len(findings) > 0 {
		t.Fatal(findings)
	}
	c := def.Index("copies")
	if c.Rows[0].Table != "huts" || c.Settings["number_of_replicas"] != 2 ||
		c.Rows[0].Fields[0].Combine[0].Written != "a.b" ||
		c.Synonyms[0][0] != "stone hut" ||
		def.Index("huts").Rows[0].Fields[0].Column != "name" {
		t.Errorf("%+v", c)
	}
}

// Every mistake is reported in one run, and once: also in what others refer to, and where
// references are to names that are not there.
func TestEveryMistakeIsSaidOnce(t *testing.T) {
	text := strings.Replace(right, "fields: [name]", "fields: &shared { name: { serch: 1 } }", 1) +
		"  copies: { engine: mian, rows: ldge.huts, fields: *shared }\n  others: { engine: main, rows: lodge.huts, fields: [name] }\n"
	def, findings := Parse([]File{{"d.yaml", text}}, testKinds, look)
	var got []string
	for _, f := range findings {
		got = append(got, f.Message)
	}
	want := []string{
		`field name has no key "serch"`,
		`index copies goes to engine "mian", which there is not`,
		`there is no source "ldge"`,
	}
	if !slices.Equal(got, want) {
		t.Errorf("%q", got)
	}
	if def.Index("others").Broken || !def.Index("copies").Broken || !def.Index("huts").Broken ||
		def.Source("lodge").Broken {
		t.Error("what is broken is not told from what is not")
	}
}

// A definition with tens of thousands of wrong names costs little, and is answered with what a person can read.
func TestManyMistakesAreCounted(t *testing.T) {
	names := func(format string) string {
		var b strings.Builder
		for i := range 40_000 {
			fmt.Fprintf(&b, format, i)
		}
		return b.String()
	}
	for what, c := range map[string]struct{ text, want string }{
		"fields": {strings.Replace(right, "fields: [name]", "fields: ["+names("f%d, ")+"]", 1), "there are more than 2000 fields here"},
		"keys":   {right + names("wrong%d: 1\n"), "more than 500 mistakes were found"},
	} {
		def, findings := Parse([]File{{"d.yaml", c.text}}, testKinds, look)
		if len(findings) == 0 || len(findings) > mostFindings+1 || !strings.Contains(findings.Error(), c.want) {
			t.Errorf("%s: %d findings, %.300s", what, len(findings), findings.Error())
		}
		if n := len(def.Index("huts").Rows[0].Fields); n > mostFields {
			t.Errorf("%s: %d fields", what, n)
		}
	}
}

func TestKindsOwnKeys(t *testing.T) {
	text := strings.Replace(
		right,
		"kind: opensearch, ",
		`headers: { X-Team: huts, Authorization: "Bearer ${SEARCH}" }, mode: quick, `,
		1,
	)
	def, findings := Parse([]File{{"d.yaml", text}}, testKinds, look)
	if len(findings) > 0 {
		t.Fatal(findings)
	}
	e := def.Engine("main")
	revealed, err := e.Options.Reveal(look)
	secret, _ := look("SEARCH")
	want := fmt.Sprintf(`{"headers":{"Authorization":"Bearer %s","X-Team":"huts"},"mode":"quick"}`, secret)
	if err != nil || string(revealed) != want {
		t.Errorf("%s %v", revealed, err)
	}
	if e.Kind != "" || !e.Options.Same(&e.Options) ||
		e.Options.Same(&Options{}) {
		t.Errorf("%+v", e)
	}
}

func TestDemoDefinitionMeetsTheSchema(t *testing.T) {
	schema := compileSchema(t)
	for _, name := range []string{"huts", "finder"} {
		text, err := os.ReadFile("../../lab/demo/" + name + ".yaml")
		if err != nil {
			t.Fatal(err)
		}
		if err := schema.Validate(plain(t, string(text))); err != nil {
			t.Error(err)
		}
	}
	for _, wrong := range []string{"sorces: {}", "sources: { a: { kind: postgres } }", "indexes: { a: { engine: e, rows: x.y, fields: { b: { column: c, sql: d } } } }", "indexes: { a: { engine: e, rows: x.y, fields: [b], related: { r: { one: t, many: t, on: { a: b }, fields: [c] } } } }",
		"indexes: { a: { engine: e, rows: x.y } }", "indexes: { a: { engine: e, rows: { h: { table: x.y, fields: [b] } }, fields: [c] } }", "indexes: { a: { engine: e, rows: x.y, fields: { b: { match: all } } } }", "indexes: { a: { engine: e, rows: x.y, fields: [b], synonyms: [[c]] } }"} {
		if schema.Validate(plain(t, wrong)) == nil {
			t.Errorf("the schema lets %s pass", wrong)
		}
	}
}

func compileSchema(t *testing.T) *jsonschema.Schema {
	t.Helper()
	document, err := jsonschema.UnmarshalJSON(bytes.NewReader(testKinds.Schema()))
	if err != nil {
		t.Fatal(err)
	}
	c := jsonschema.NewCompiler()
	if err := c.AddResource("pingo.json", document); err != nil {
		t.Fatal(err)
	}
	schema, err := c.Compile("pingo.json")
	if err != nil {
		t.Fatal(err)
	}
	return schema
}

func plain(t *testing.T, text string) any {
	t.Helper()
	var v any
	if err := yaml.Unmarshal([]byte(text), &v); err != nil {
		t.Fatal(err)
	}
	b, err := json.Marshal(v)
	if err != nil {
		t.Fatal(err)
	}
	v, err = jsonschema.UnmarshalJSON(bytes.NewReader(b))
	if err != nil {
		t.Fatal(err)
	}
	return v
}

// testKinds are kinds as they might be.
var testKinds = Kinds{
	Sources: []Kind{
		{Name: "postgres", Schemes: []string{"postgres", "postgresql"}, Captures: []string{"triggers"}, Keys: `{}`},
	},
	Engines: []Kind{
		{
			Name:    "opensearch",
			Schemes: []string{"http", "https"},
			Keys:    `{"headers": {"type": "object", "additionalProperties": {"type": "string"}}, "mode": {"enum": ["slow", "quick"]}}`,
		},
		{Name: "postgres", Schemes: []string{"postgres", "postgresql"}, Keys: `{}`},
	},
}

func FuzzParse(f *testing.F) {
	f.Add(right)
	f.Add("sources: &a { x: *a }")
	f.Add(
		"indexes: { a: { <<: &b { engine: e }, rows: { x: { table: s.t, key: [i], fields: { f: { combine: [g] } } } }, synonyms: [[a, b]] } }",
	)
	f.Add("indexes: { a: { related: { b: { many: c, through: [] } } } }")
	f.Fuzz(func(t *testing.T, text string) {
		def, findings := Parse([]File{{"f.yaml", text}}, testKinds, look)
		if len(findings) == 0 && (len(def.Sources) == 0 || len(def.Engines) == 0 || len(def.Indexes) == 0) {
			t.Error("accepted without sources, engines or indexes")
		}
		for _, x := range findings {
			if x.Message == "" || x.Pos.Line < 1 {
				t.Errorf("finding without a place or words: %+v", x)
			}
		}
	})
}

// What the definition says of reindexing holds, and what is not said is as the documentation has it.
func TestHowAnIndexIsFilledAnew(t *testing.T) {
	with := func(more string) reindex.Policy {
		t.Helper()
		def, findings := Parse(
			[]File{{"d.yaml", strings.Replace(right, "fields: [name]", "fields: [name]\n"+more, 1)}},
			testKinds,
			look,
		)
		if len(findings) > 0 {
			t.Fatal(findings)
		}
		return def.Index("huts").Reindex
	}
	if p := with(""); !reflect.DeepEqual(p, reindex.DefaultPolicy) || p.KeepPrevious != time.Hour ||
		p.Compare != reindex.CompareSample {
		t.Errorf("%+v", p)
	}
	p := with(
		`    reindex: { begin: "02:30", switch: on_command, keep_previous: 0, compare: all, failed: 2.5%, documents_per_second: 200,
      bytes_per_second: 2MB, workers: 1, hours: "22:00-06:00" }
    expect: [{ search: ridge, finds: 17 }, { search: stone hut, finds: "a,b", among: 3 }]`,
	)
	want := reindex.Policy{
		Begin: "02:30", Switch: reindex.OnCommand, Compare: reindex.CompareAll, Failed: reindex.Limit{Share: 0.025},
		Pace: reindex.Pace{
			Documents: 200,
			Bytes:     2_000_000,
			Workers:   1,
			Hours:     &reindex.Hours{From: 22 * 60, To: 6 * 60},
		},
		Expect: []reindex.Expectation{
			{Search: "ridge", Finds: "17", Among: 10},
			{Search: "stone hut", Finds: "a,b", Among: 3},
		},
	}
	if !reflect.DeepEqual(p, want) {
		t.Errorf("%+v", p)
	}
	if p := with("    reindex: { failed: 7 }"); p.Failed != (reindex.Limit{Number: 7}) {
		t.Errorf("%+v", p.Failed)
	}
	noon := time.Date(2031, 6, 1, 12, 0, 0, 0, time.Local)
	if at, paused := p.Begins(noon); at == nil || !at.Equal(time.Date(2031, 6, 2, 2, 30, 0, 0, time.Local)) || paused {
		t.Errorf("%v %t", at, paused)
	}
	if at, paused := with("    reindex: { begin: on_command }").Begins(noon); at != nil || !paused {
		t.Errorf("%v %t", at, paused)
	}
	if at, paused := reindex.DefaultPolicy.Begins(noon); at != nil || paused {
		t.Errorf("%v %t", at, paused)
	}
}

// What a definition repeats of itself costs as much as what is written, so that a small text takes no long time.
func TestRepetitionIsBounded(t *testing.T) {
	keys := func(n int, format string) string {
		var b strings.Builder
		for i := range n {
			fmt.Fprintf(&b, format, i)
		}
		return b.String()
	}
	wide := "sources:\n  a: &a\n" + keys(20_000, "    k%d: 1\n")
	texts := map[string][]File{
		"merged":             {{"a.yaml", wide + keys(2_000, "  b%d: { <<: *a }\n")}},
		"merged into itself": {{"a.yaml", wide + "  b: { <<: [" + strings.Repeat("*a, ", 5_000) + "*a] }\n"}},
		"nested":             {{"a.yaml", "a0: &a0 { x: 1 }\n" + keys(40, "a%[1]d1: &b%[1]d { <<: *a0, y%[1]d: *a0 }\n")}},
		"several files":      {{"a.yaml", wide + keys(500, "  b%d: { <<: *a }\n")}, {"b.yaml", wide + keys(500, "  b%d: { <<: *a }\n")}, {"c.yaml", wide}, {"d.yaml", wide}},
		"unknown engines":    {{"a.yaml", right + keys(20_000, "  i%d: { engine: e, rows: x.y, fields: [a] }\n")}},
		"references":         {{"a.yaml", "sources:\n" + keys(20_000, "  s%[1]d: { kind: postgres, url: '${A%[1]d}' }\n")}},
	}
	for name, files := range texts {
		began := time.Now()
		_, findings := Parse(files, testKinds, look)
		if took := time.Since(began); len(findings) == 0 || took > 20*time.Second { // minutes without a bound
			t.Errorf("%s: %d findings after %v", name, len(findings), took)
		}
	}
}

// Whatever is missing or misspelt, an index that can still be looked at has an engine.
func TestIndexesWithoutAnEngineAreBroken(t *testing.T) {
	for _, engines := range []string{"", "engine:\n  main: { kind: opensearch, url: \"${SEARCH}\" }\n", "engines: {}\n", "engines: []\n", "engines:\n  other: { kind: opensearch, url: \"${SEARCH}\" }\n"} {
		text := strings.Replace(right, "engines:\n  main: { kind: opensearch, url: \"${SEARCH}\" }\n", engines, 1)
		def, findings := Parse([]File{{"d.yaml", text}}, testKinds, look)
		if len(findings) == 0 || findings[0].Pos.File != "d.yaml" || findings[0].Pos.Line == 0 {
			t.Errorf("%q: %v", engines, findings)
		}
		for _, ix := range def.Indexes {
			if !ix.Broken && def.Engine(ix.Engine) == nil {
				t.Errorf("%q: index %s has no engine, and is not broken", engines, ix.Name)
			}
		}
	}
}
