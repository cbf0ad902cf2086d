package definition

import (
	"bytes"
	"encoding/json"
	"errors"
	"os"
	"strings"
	"testing"

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
		{`"${DB}"`, `postgres://me:hunter2@h/d`, `d.yaml:2:33: the source's url has its password written out; secrets are never stored — put the URL into an environment variable`},
		{`"${DB}"`, `mysql://h/d`, `d.yaml:2:33: the source's url begins with mysql://, which this kind does not speak — begin it with postgres:// or postgresql://`},
		{`"${DB}"`, `"no url at all"`, `d.yaml:2:33: the source's url cannot be read as a URL`},
		{`"${SEARCH}"`, `ftp://h`, `d.yaml:4:34: the engine's url begins with ftp://`},
		{"    engine: main\n", "", `d.yaml:7:5: index huts needs "engine"`},
		{"engine: main", "engine: mian", `d.yaml:6:3: index huts goes to engine "mian", which there is not — did you mean "main"?`},
		{"rows: lodge.huts", "rows: loge.huts", `d.yaml:8:11: there is no source "loge" — did you mean "lodge"?`},
		{"rows: lodge.huts", "rows: huts", `d.yaml:8:11: rows names a source and a table, but "huts" has no point in it — write SOURCE.TABLE`},
		{"fields: [name]", "fields: []", `d.yaml:9:13: there are no fields here — name at least one column`},
		{"fields: [name]", "fields: name", `d.yaml:9:13: fields are written as names, each with what it is, not as "name"`},
		{"fields: [name]", "fields: [name, name]", `d.yaml:9:20: field name stands here twice`},
		{"fields: [name]", "fields: [pingo_fingerprint]", `d.yaml:9:14: "pingo_fingerprint" cannot name a field`},
		{"fields: [name]", "fields: { name: { serch: 1 } }", `d.yaml:9:23: field name has no key "serch" — did you mean "search"?`},
		{"fields: [name]", "fields: { name: { search: much } }", `d.yaml:9:31: search (a weight) is a number from 0 to 1000, not "much"`},
		{"fields: [name]", "fields: { name: { filter: maybe } }", `d.yaml:9:31: filter is true or false, not "maybe"`},
		{"fields: [name]", "fields: { name: { type: txt } }", `d.yaml:9:29: the type of a field cannot be "txt" — did you mean "text"?`},
		{"fields: [name]", "fields: { name: { column: a, sql: b } }", `d.yaml:9:31: field name has both a column and sql — keep one of them`},
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
		{"fields: [name]", "fields: [name]\n    related: { notes: { many: notes, on: { a: b, c: d }, fields: [x] } }", `two tables are tied by one pair of columns so far`},
		{"fields: [name]", "fields: [name]\n    related: { notes: { many: n, through: { table: j, on: { a: b } }, list: x } }", `through needs "to"`},
		{"engines:", "\tengines:", `this is not YAML`},
		{right, "", `d.yaml:1:1: the file is empty — give it sources, engines and indexes`},
		{right, "[1, 2]", `d.yaml:1:1: a definition is written as keys and values, not as a list`},
		{"indexes:", "indexes:\n  huts: { engine: main, rows: lodge.huts, fields: [id] }", `d.yaml:7:3: "huts" stands twice under indexes`},
		{"  main: { kind: opensearch, url: \"${SEARCH}\" }\n", "", `engines are written as names, each with what it is, not as nothing`},
	} {
		text := strings.Replace(right, c.replace, c.with, 1)
		if text == right {
			t.Fatalf("nothing replaced: %q", c.replace)
		}
		_, findings := Parse([]File{{"d.yaml", text}}, look)
		if !strings.Contains(findings.Error(), c.want) {
			t.Errorf("%s\n got: %v\nwant: %s", c.with, findings, c.want)
		}
		if strings.Contains(findings.Error(), "hunter2") {
			t.Error("a finding shows a password")
		}
	}
}

func TestSeveralFilesMakeOneDefinition(t *testing.T) {
	head, tail, _ := strings.Cut(right, "indexes:")
	def, findings := Parse([]File{{"a.yaml", head}, {"b.yaml", "indexes:" + tail}}, look)
	if len(findings) > 0 || def.Index("huts") == nil || def.Source("lodge") == nil {
		t.Fatal(findings)
	}
	_, findings = Parse([]File{{"a.yaml", right}, {"b.yaml", right}}, look)
	if !strings.Contains(findings.Error(), "b.yaml:2:3: source lodge stands in a.yaml:2:3 already") {
		t.Error(findings)
	}
}

func TestDemoDefinitionMeetsTheSchema(t *testing.T) {
	schema := compileSchema(t)
	text, err := os.ReadFile("../../demo/pingo.yaml")
	if err != nil {
		t.Fatal(err)
	}
	if err := schema.Validate(plain(t, string(text))); err != nil {
		t.Error(err)
	}
	for _, wrong := range []string{"sorces: {}", "sources: { a: { kind: postgres } }", "indexes: { a: { engine: e, rows: x.y, fields: { b: { column: c, sql: d } } } }", "indexes: { a: { engine: e, rows: x.y, fields: [b], related: { r: { one: t, many: t, on: { a: b }, fields: [c] } } } }"} {
		if schema.Validate(plain(t, wrong)) == nil {
			t.Errorf("the schema lets %s pass", wrong)
		}
	}
}

func compileSchema(t *testing.T) *jsonschema.Schema {
	t.Helper()
	document, err := jsonschema.UnmarshalJSON(bytes.NewReader(Schema))
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

func FuzzParse(f *testing.F) {
	f.Add(right)
	f.Add("sources: &a { x: *a }")
	f.Add("indexes: { a: { related: { b: { many: c, through: [] } } } }")
	f.Fuzz(func(t *testing.T, text string) {
		def, findings := Parse([]File{{"f.yaml", text}}, look)
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
