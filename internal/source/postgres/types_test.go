package postgres

import (
	"fmt"
	"os"
	"regexp"
	"slices"
	"strings"
	"testing"

	"pingo/internal/core/definition"
	"pingo/internal/core/document"
	"pingo/internal/core/shape"
	"pingo/internal/lab/pgtest"
	"pingo/internal/source"
)

// compile makes the shape of the first index of a definition, as the service does.
func compile(t *testing.T, p *source.Source, text string) (*shape.Shape, *definition.Index, definition.Findings) {
	t.Helper()
	def, findings := definition.Parse(
		[]definition.File{
			{
				Name: "d.yaml",
				Text: "sources: { s: { kind: postgres, url: \"postgres://h/d\" } }\nengines: { e: { kind: opensearch, url: \"http://h\" } }\nindexes:\n" + text,
			},
		},
		language,
		func(string) (string, error) { return "", nil },
	)
	if len(findings) > 0 {
		t.Fatalf("%v\n%s", findings, text)
	}
	ix := def.Indexes[0]
	s, findings, err := source.Compile(t.Context(), ix, source.Only(p))
	if err != nil {
		t.Fatal(err)
	}
	return s, ix, findings
}

// documents reads all documents of a shape, by ranges of a number of rows.
func documents(t *testing.T, p *source.Source, s *shape.Shape, chunk int) map[string]string {
	t.Helper()
	out := map[string]string{}
	for _, tree := range s.Trees {
		set := document.NewSet(tree)
		for after := []string(nil); ; {
			end, err := p.ChunkEnd(t.Context(), tree, after, chunk)
			if err != nil {
				t.Fatal(err)
			}
			set.Reset()
			if err := p.ReadRange(t.Context(), set, after, end); err != nil {
				t.Fatal(err)
			}
			for row := range set.Rows(0).Len() {
				key := string(set.AppendKey(nil, row))
				if _, twice := out[key]; twice {
					t.Errorf("%s is read twice", key)
				}
				out[key] = string(set.Append(nil, row))
			}
			if after = end; end == nil {
				break
			}
		}
	}
	return out
}

var code = regexp.MustCompile("`([^`]+)`")

// Each row of the table in docs/reference/types.md holds.
func TestTypesAreTreatedAsTheDocsSay(t *testing.T) {
	text, err := os.ReadFile("../../../docs/reference/types.md")
	if err != nil {
		t.Fatal(err)
	}
	url := pgtest.URL(t)
	conn, p := pgtest.Connect(t, url), open(t, url)
	pgtest.Exec(
		t,
		conn,
		`CREATE EXTENSION citext; CREATE EXTENSION hstore; CREATE TYPE mood AS ENUM ('calm', 'wild'); CREATE DOMAIN whole AS integer; CREATE DOMAIN metres AS whole CHECK (VALUE > 0);
		CREATE DOMAIN tags AS text[]; CREATE TYPE pair AS (a int, b int)`,
	)
	rows := 0
	for _, line := range strings.Split(string(text), "\n") {
		cells := strings.Split(line, " | ")
		if len(cells) != 4 || !strings.HasPrefix(line, "| `") {
			continue
		}
		rows++
		kind, value := code.FindStringSubmatch(cells[0])[1], code.FindStringSubmatch(cells[1])[1]
		becomes, want := strings.TrimSpace(cells[2]), strings.Trim(strings.TrimSuffix(cells[3], " |"), "`")
		table := fmt.Sprintf("types%d", rows)
		pgtest.Exec(
			t,
			conn,
			fmt.Sprintf("CREATE TABLE %s (id int PRIMARY KEY, w text DEFAULT 'abc', v %s)", table, kind),
		)
		if value == "w" {
			pgtest.Exec(t, conn, fmt.Sprintf("INSERT INTO %s (id) VALUES (1)", table))
		} else {
			pgtest.Exec(t, conn, fmt.Sprintf("INSERT INTO %s (id, v) VALUES (1, %s)", table, value))
		}
		s, _, findings := compile(t, p, fmt.Sprintf("  x: { engine: e, rows: s.%s, fields: [v] }\n", table))
		if becomes == "refused" {
			if len(findings) != 1 || findings[0].Suggestion != want ||
				!strings.Contains(findings[0].Message, "which cannot be indexed") {
				t.Errorf("%s: %v", line, findings)
			}
			continue
		}
		if len(findings) > 0 {
			t.Errorf("%s: %v", line, findings)
			continue
		}
		f := s.Fields()[0]
		if got := strings.TrimPrefix(fmt.Sprintf("%v%s", map[bool]string{true: "list of "}[f.Repeated], f.Type), ""); got != becomes {
			t.Errorf("%s: becomes %s", line, got)
		}
		doc := documents(t, p, s, 10)["1"]
		if _, got, _ := strings.Cut(strings.TrimSuffix(doc, "}"), `"v":`); got != want {
			t.Errorf("%s\n got %s", line, got)
		}
	}
	if rows < 50 {
		t.Errorf("the docs have %d rows only", rows)
	}
}

// Keys of odd types are the same in the journal, whatever the settings of the session
// that writes, in reads by key and by range, and in what is found by links.
func TestKeysOfEveryTypeAgree(t *testing.T) {
	url := pgtest.URL(t)
	conn, p := pgtest.Connect(t, url), open(t, url)
	for i, c := range []struct{ kind, value, other string }{
		{"boolean", "true", "false"}, {"character(4)", "'ab'", "'cd'"}, {"date", "'0044-03-15 BC'", "'2031-06-01'"}, {"timestamp", "'2031-06-01 10:20:30.5'", "'infinity'"},
		{"timestamptz", "'2031-06-01 10:20:30.5+05'", "'-infinity'"}, {"inet", "'10.0.0.1'", "'10.0.0.0/8'"}, {"uuid", "'6f1d6ab4-35fd-4b5c-8a39-0b3f7c2a9e11'", "'7f1d6ab4-35fd-4b5c-8a39-0b3f7c2a9e11'"},
		{"text", "'a,~b'", "''"}, {"time", "'06:30'", "'07:30'"}, {"bigint", "-9007199254740993", "7"},
	} {
		root, child := fmt.Sprintf(`"Root %d"`, i), fmt.Sprintf("child%d", i)
		pgtest.Exec(t, conn, fmt.Sprintf(`CREATE TABLE %[1]s (a %[3]s, "Sel" int, note text, PRIMARY KEY (a, "Sel"));
			CREATE TABLE %[2]s (id int PRIMARY KEY, "by" %[3]s, sel int, word text);
			INSERT INTO %[1]s VALUES (%[4]s, 1, 'one'), (%[5]s, 2, 'two'); INSERT INTO %[2]s VALUES (1, %[4]s, 1, 'x'), (2, %[5]s, 2, 'y'), (3, %[5]s, NULL, 'z'), (4, NULL, 2, 'z')`, root, child, c.kind, c.value, c.other))
		s, _, findings := compile(
			t,
			p,
			fmt.Sprintf(
				"  x:\n    engine: e\n    rows: s.Root %d\n    fields: [note]\n    related: { words: { many: %s, on: { by: a, sel: Sel }, list: word } }\n",
				i,
				child,
			),
		)
		if len(findings) > 0 {
			t.Fatal(findings)
		}
		byRange := documents(t, p, s, 1)
		tree := s.Trees[0]
		var keys []string
		for k, d := range byRange {
			keys = append(keys, k)
			if !strings.Contains(d, `"words":["x"]`) && !strings.Contains(d, `"words":["y"]`) {
				t.Errorf("%s: %s", c.kind, d)
			}
			_, values, err := document.ParseKey(s, k)
			if err != nil {
				t.Fatal(err)
			}
			set := document.NewSet(tree)
			if err := p.ReadKeys(t.Context(), set, [][]string{values}); err != nil || set.Rows(0).Len() != 1 ||
				string(set.Append(nil, 0)) != d ||
				string(set.AppendKey(nil, 0)) != k {
				t.Errorf("%s: %q by key: %v, %d rows", c.kind, k, err, set.Rows(0).Len())
			}
		}
		if len(keys) != 2 {
			t.Fatalf("%s: %q", c.kind, keys)
		}
		if _, err := install(t, p, shape.Capture(s.Source, []*shape.Shape{s})); err != nil {
			t.Fatal(err)
		}
		// As an application would that speaks another way.
		pgtest.Exec(
			t,
			conn,
			fmt.Sprintf(
				`SET TimeZone = 'Asia/Kathmandu'; SET DateStyle = 'German'; SET extra_float_digits = -5; UPDATE %s SET note = note || '!'; UPDATE %s SET word = word || '!'; RESET ALL`,
				root,
				child,
			),
		)
		changes, err := p.Changes(t.Context(), 100)
		if err != nil {
			t.Fatal(err)
		}
		var touched []string
		routes := s.Routes(s.Source)
		for _, change := range changes {
			for _, route := range routes[change.Table] {
				if len(route.Link) == 0 {
					touched = append(touched, document.Key(tree, change.Key...))
					continue
				}
				for _, values := range change.Values(route.Link) {
					touched = append(touched, document.Key(tree, values...))
				}
			}
		}
		slices.Sort(keys)
		slices.Sort(touched)
		if !slices.Equal(slices.Compact(touched), keys) {
			t.Errorf("%s: the journal says %q, reads say %q", c.kind, touched, keys)
		}
		if err := p.Capture.Remove(t.Context()); err != nil {
			t.Fatal(err)
		}
	}
}
