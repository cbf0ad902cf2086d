package cli_test

import (
	"encoding/json"
	"errors"
	"os"
	"reflect"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"pingo/internal/api"
	"pingo/internal/core/definition"
	"pingo/internal/lab/ostest"
	"pingo/internal/lab/pgtest"
)

// The whole example runs on a real engine as it does on the stand-in.
func TestRealDemo(t *testing.T) {
	ostest.Wanted(t)
	w := &world{t: t, env: os.Environ()}
	out := w.must("demo", "--once", "--engine", "opensearch", "-o", "json")
	var s struct {
		OK        bool
		Documents int64
	}
	if err := json.Unmarshal([]byte(out), &s); err != nil || !s.OK || s.Documents < 1000 {
		t.Errorf("%v\n%s", err, out)
	}
}

var cookbookPart = regexp.MustCompile("(?s)```(sql|yaml|json)\n(.*?)```|(Document|No document|Refused:) `([^`]+)`")

// The cookbook's documents are in a real engine as the cookbook has them.
func TestRealCookbook(t *testing.T) {
	w := newRealWorld(t)
	text, err := os.ReadFile("../../docs/cookbook.md")
	if err != nil {
		t.Fatal(err)
	}
	lodge := pgtest.Connect(t, w.pg.URL("lodge"))
	w.serve()
	applied, index, wanted, compared := false, "", "", 0
	stored := func(key string) map[string]any {
		p, err := w.client.Preview(t.Context(), index, key)
		if err != nil {
			t.Fatalf("%s %s: %v", index, key, err)
		}
		var doc map[string]any
		if len(p.Stored) > 0 {
			if err := json.Unmarshal(p.Stored, &doc); err != nil {
				t.Fatal(err)
			}
		}
		delete(doc, definition.FingerprintField)
		return doc
	}
	for _, part := range cookbookPart.FindAllStringSubmatch(string(text), -1) {
		switch {
		case part[1] == "sql":
			if applied { // what is captured may not be changed under Pingo yet
				w.must("capture", "remove", "--yes")
			}
			pgtest.Exec(t, lodge, part[2])
		case part[1] == "yaml":
			rest := part[2]
			if !strings.HasPrefix(rest, "engines:\n") {
				rest = "engines:\n" + rest
			}
			rest = strings.Replace(rest, "engines:\n", "engines:\n  main: { kind: opensearch, url: \"${SEARCH_URL}\" }\n", 1)
			files := []api.File{{Name: "d.yaml", Text: "sources: { lodge: { kind: postgres, url: \"${LODGE_URL}\" } }\n" + rest}}
			plan, err := w.client.Check(t.Context(), files)
			if err != nil {
				t.Fatalf("%v\n%s", err, rest)
			}
			if len(plan.Findings) > 0 { // it is there to be refused
				continue
			}
			accept := []string{} // the index of the example before may be in this one no more
			if index != "" {
				accept = append(accept, index)
			}
			w.eventually(5*time.Second, "the example is applied", func() error {
				_, err := w.client.Apply(t.Context(), files, accept...)
				return err
			})
			applied, index = true, plan.Indexes[len(plan.Indexes)-1].Name
			w.eventually(10*time.Second, "the example answers", func() error {
				now, err := w.client.Check(t.Context(), files)
				if err == nil && slices.ContainsFunc(now.Indexes, func(i api.IndexPlan) bool {
					return i.Name == index && i.Change != api.ChangeNone
				}) {
					err = errors.New("another edition is being filled")
				}
				return err
			})
			w.index(10*time.Second, "the example is filled", index, func(ix api.IndexStatus) bool { return ix.Live && ix.Fill == nil })
		case part[3] == "No document":
			if doc := stored(part[4]); doc != nil {
				t.Errorf("document %s is there: %v", part[4], doc)
			}
		case part[3] == "Document":
			wanted = part[4]
		case part[1] == "json":
			var want map[string]any
			if err := json.Unmarshal([]byte(part[2]), &want); err != nil {
				t.Fatal(err)
			}
			if have := stored(wanted); !reflect.DeepEqual(want, have) {
				t.Errorf("document %s is\n%v\nthe docs say\n%s", wanted, have, part[2])
			}
			compared++
		}
	}
	if compared < 7 {
		t.Errorf("only %d documents were compared", compared)
	}
}
