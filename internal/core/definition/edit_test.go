package definition_test

import (
	"strings"
	"testing"

	"gopkg.in/yaml.v3"

	"pingo/internal/core/definition"
)

// What is taken from other files is the named index, with what it needs; all else stays as it was.
func TestTakingAndDroppingIndexes(t *testing.T) {
	current := []definition.File{{Name: "a.yaml", Text: "# ours\nsources:\n  lodge: &l {kind: postgres, url: \"${LODGE_URL}\"}\nengines: {main: {url: http://127.0.0.1:9200}}\n---\nindexes:\n  huts: {engine: main, rows: lodge.huts, fields: &f [name]}\n  # walks\n  trails: {engine: main, rows: lodge.trails, fields: *f}\n"}}
	next := []definition.File{{Name: "b.yaml", Text: "sources: {lodge: {kind: postgres, url: other}, tarn: {kind: mariadb, url: \"${TARN_URL}\"}, unused: {url: x}}\nengines: {second: {url: y}}\nindexes:\n  huts: {engine: second, rows: lodge.huts, fields: [name, beds]}\n  lakes: {engine: second, rows: tarn.lakes, fields: [depth]}\n  peaks: {engine: second, rows: lodge.peaks, fields: [name]}\n"}}
	value := func(what string, files []definition.File, err error) map[string]any {
		t.Helper()
		if err != nil {
			t.Fatal(what, err)
		}
		all := map[string]any{}
		for _, f := range files {
			for _, doc := range strings.Split(f.Text, "---\n") {
				var part map[string]any
				if err := yaml.Unmarshal([]byte(doc), &part); err != nil {
					t.Fatalf("%s: %v\n%s", what, err, doc)
				}
				for k, v := range part {
					all[k] = v
				}
			}
		}
		return all
	}
	for _, c := range []struct {
		what string
		do   func() ([]definition.File, error)
		want string
	}{
		{"an index that changed", func() ([]definition.File, error) { return definition.Take(current, next, []string{"huts"}) },
			"sources: {lodge: {kind: postgres, url: \"${LODGE_URL}\"}}\nengines: {main: {url: http://127.0.0.1:9200}, second: {url: y}}\nindexes: {huts: {engine: second, rows: lodge.huts, fields: [name, beds]}, trails: {engine: main, rows: lodge.trails, fields: [name]}}"},
		{"a new index with its source", func() ([]definition.File, error) { return definition.Take(current, next, []string{"lakes"}) },
			"sources: {lodge: {kind: postgres, url: \"${LODGE_URL}\"}, tarn: {kind: mariadb, url: \"${TARN_URL}\"}}\nengines: {main: {url: http://127.0.0.1:9200}, second: {url: y}}\nindexes: {huts: {engine: main, rows: lodge.huts, fields: [name]}, trails: {engine: main, rows: lodge.trails, fields: [name]}, lakes: {engine: second, rows: tarn.lakes, fields: [depth]}}"},
		{"the first index", func() ([]definition.File, error) { return definition.Take(nil, next, []string{"peaks"}) },
			"sources: {lodge: {kind: postgres, url: other}, tarn: {kind: mariadb, url: \"${TARN_URL}\"}, unused: {url: x}}\nengines: {second: {url: y}}\nindexes: {peaks: {engine: second, rows: lodge.peaks, fields: [name]}}"},
		{"without an index that others repeat", func() ([]definition.File, error) { return definition.Without(current, []string{"huts"}) },
			"sources: {lodge: {kind: postgres, url: \"${LODGE_URL}\"}}\nengines: {main: {url: http://127.0.0.1:9200}}\nindexes: {trails: {engine: main, rows: lodge.trails, fields: [name]}}"},
		{"without any", func() ([]definition.File, error) { return definition.Without(current, []string{"huts", "trails"}) },
			"sources: {lodge: {kind: postgres, url: \"${LODGE_URL}\"}}\nengines: {main: {url: http://127.0.0.1:9200}}\nindexes: {}"},
	} {
		files, err := c.do()
		got, _ := yaml.Marshal(value(c.what, files, err))
		want, _ := yaml.Marshal(value(c.what, []definition.File{{Text: c.want}}, nil))
		if string(got) != string(want) {
			t.Errorf("%s:\n%s\nwant\n%s", c.what, got, want)
		}
	}
	kept, err := definition.Take(current, next, []string{"lakes"})
	if err != nil || !strings.Contains(kept[0].Text, "# ours") || !strings.Contains(kept[0].Text, "# walks") {
		t.Errorf("comments are lost: %v\n%v", err, kept)
	}
	if files, err := definition.Without([]definition.File{{Name: "a.yaml", Text: "indexes: {huts: {}, trails: {}}\n---\n# nothing more\n"}}, []string{"huts"}); err != nil || strings.Contains(files[0].Text, "huts") || !strings.Contains(files[0].Text, "trails") {
		t.Errorf("a document of comments: %v %v", files, err)
	}
	if _, err := definition.Take([]definition.File{{Name: "c.yaml", Text: "# comments alone\n"}, current[0]}, next, []string{"lakes"}); err != nil {
		t.Errorf("a file of comments: %v", err)
	}
	if _, err := definition.Take(current, next, []string{"tarns"}); err == nil || !strings.Contains(err.Error(), "tarns") {
		t.Errorf("an index that no file has: %v", err)
	}
}
