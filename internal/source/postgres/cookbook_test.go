package postgres

import (
	"encoding/json"
	"os"
	"reflect"
	"regexp"
	"strings"
	"testing"

	"pingo/internal/core/definition"
	"pingo/internal/lab/pgtest"
	"pingo/internal/source"
)

var cookbookPart = regexp.MustCompile("(?s)```(sql|yaml|json)\n(.*?)```|(Document|No document|Refused:) `([^`]+)`")

// Every example of docs/howto/cookbook*.md holds as it is written.
func TestCookbook(t *testing.T) {
	var text []byte
	for _, page := range []string{"cookbook.md", "cookbook-several.md"} {
		part, err := os.ReadFile("../../../docs/howto/" + page)
		if err != nil {
			t.Fatal(err)
		}
		text = append(text, part...)
	}
	url := pgtest.URL(t)
	conn, p := pgtest.Connect(t, url), open(t, url)
	look := func(string) (string, error) { return "postgres://h/d", nil }
	var docs map[string]string
	var findings definition.Findings
	wanted, examples, compared := "", 0, 0
	for _, part := range cookbookPart.FindAllStringSubmatch(string(text), -1) {
		switch {
		case part[1] == "sql":
			pgtest.Exec(t, conn, part[2])
		case part[1] == "yaml":
			if len(findings) > 0 {
				t.Errorf("an example does not hold: %v", findings)
			}
			examples++
			rest := part[2]
			if !strings.HasPrefix(rest, "engines:\n") {
				rest = "engines:\n" + rest
			}
			rest = strings.Replace(
				rest,
				"engines:\n",
				"engines:\n  main: { kind: opensearch, url: \"http://h\" }\n",
				1,
			)
			def, wrong := definition.Parse(
				[]definition.File{
					{Name: "d.yaml", Text: "sources: { lodge: { kind: postgres, url: \"${LODGE_URL}\" } }\n" + rest},
				},
				language,
				look,
			)
			if len(wrong) > 0 {
				t.Fatalf("%v\n%s", wrong, rest)
			}
			docs, findings = nil, nil
			for _, ix := range def.Indexes {
				s, found, err := source.Compile(t.Context(), ix, source.Only(p))
				if err != nil {
					t.Fatal(err)
				}
				if findings = found; len(findings) == 0 {
					docs = documents(t, p, s, 2)
				}
			}
		case part[3] == "Refused:":
			if len(findings) == 0 || findings[0].Message != part[4] {
				t.Errorf("%s: %v", part[4], findings)
			}
			findings = nil
		case part[3] == "No document":
			if _, there := docs[part[4]]; there || len(docs) == 0 {
				t.Errorf("document %s is there: %q", part[4], docs)
			}
		case part[3] == "Document":
			wanted = part[4]
		case part[1] == "json":
			var want, have map[string]any
			if err := json.Unmarshal([]byte(part[2]), &want); err != nil {
				t.Fatal(err)
			}
			if err := json.Unmarshal([]byte(docs[wanted]), &have); err != nil {
				t.Fatalf("document %s: %v (%v)", wanted, err, findings)
			}
			delete(have, definition.FingerprintField)
			if !reflect.DeepEqual(want, have) {
				t.Errorf("document %s is\n%s\nthe docs say\n%s", wanted, docs[wanted], part[2])
			}
			compared++
		}
	}
	if examples < 12 || compared < 7 {
		t.Errorf("%d examples, %d documents compared", examples, compared)
	}
}
