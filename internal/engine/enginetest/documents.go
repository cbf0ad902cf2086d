package enginetest

import (
	"fmt"
	"math/rand/v2"
	"testing"
	"time"

	"pingo/internal/core/document"
	"pingo/internal/core/retry"
	"pingo/internal/core/shape"
	"pingo/internal/engine"
)

// Documents sends random documents to an engine that holds nothing yet: they come back as they were sent, whatever was there
// before, and whatever their keys.
func Documents(t *testing.T, e engine.Engine) {
	s := Shape()
	s.Trees[0].Nodes[3].Fields[0].Filter = false // not all engines filter by places in lists
	s.Trees[0].Nodes[0].Fields = append(s.Trees[0].Nodes[0].Fields, shape.Field{Name: "id", Type: shape.Integer})
	if err := e.Prepare(t.Context(), "huts-e1", s); err != nil {
		t.Fatal(err)
	}
	seed := uint64(time.Now().UnixNano() % 100000)
	t.Logf("seed %d", seed)
	r := rand.New(rand.NewPCG(seed, 1))
	pick := func(of ...string) string { return of[r.IntN(len(of))] }
	words := func() string { return pick(`"Grim Ridge"`, `"é ß 😀 \"q\" \\ \u0007"`, `""`, `"}"`, "null") }
	member := map[string]func() string{
		"name": words, "summary": words, "trail": words,
		"beds":     func() string { return pick("1", "-9007199254740993", "null") },
		"price":    func() string { return pick("12.5", "0.1", "1e3", "47.82102390416755", "null") },
		"open":     func() string { return pick("true", "false", "null") },
		"since":    func() string { return pick(`"2031-06-01"`, `"-0043-03-15"`, `"+12031-01-01"`, "null") },
		"at":       func() string { return pick(`"2031-06-01T10:20:30.123456Z"`, "null") },
		"position": func() string { return pick("[8.5,46.5]", "[11.656807512760091,47.82102390416755]", "null") },
		"facts":    func() string { return pick(`{"any":[1,"x",null,{"deep":null}],"id":3}`, `[null,[]]`, `"text"`, "null") },
		"code":     func() string { return pick(`"A-1"`, `"b 2"`, "null") },
		"id":       func() string { return pick("7", "null") },
		"region":   func() string { return pick(`{"name":"Tarn"}`, `{"name":null}`, "null") },
		"offers":   func() string { return pick(`["wood stove",null]`, `["a"]`, "[]", "null") },
		"stays": func() string {
			return pick(`[{"spots":[[8.5,46.5]],"nights":[[1,2],[null]]},{"spots":null,"nights":[3]}]`, `[{"nights":null,"spots":[]}]`, "[]")
		},
	}
	keys := []string{"1", "a b", "a/b", "a`b", "a,b", "[x]", "ü 😀", "a&&b", "%41", "a\nb", "..", `q"\`}
	sent := map[string]string{}
	for round := range 20 {
		var docs []engine.Document
		for _, key := range keys {
			if r.IntN(5) == 0 {
				docs = append(docs, engine.Document{Key: key, Version: int64(round)})
				delete(sent, key)
				continue
			}
			body := fmt.Sprintf(`{"pingo_fingerprint":"%016d"`, round)
			for name, value := range member {
				if r.IntN(4) > 0 {
					body += fmt.Sprintf(",%q:%s", name, value())
				}
			}
			docs = append(docs, engine.Document{Key: key, Version: int64(round), Body: []byte(body + "}")})
			sent[key] = body + "}"
		}
		results, err := e.Deliver(t.Context(), "huts-e1", docs)
		if err != nil {
			t.Fatal(err)
		}
		for i, result := range results {
			if result.Outcome != retry.Done {
				t.Fatalf("%q: %+v\n%s", docs[i].Key, result, docs[i].Body)
			}
		}
		stored, err := e.Get(t.Context(), "huts-e1", keys)
		if err != nil || len(stored) != len(sent) {
			for key := range sent {
				if stored[key] == nil {
					t.Errorf("%q is not found", key)
				}
			}
			t.Fatalf("%d documents of %d, %v", len(stored), len(sent), err)
		}
		for key, body := range sent {
			if diffs, err := document.Compare([]byte(body), stored[key]); err != nil || len(diffs) > 0 {
				t.Fatalf("%q: %+v %v\n%s\n%s", key, diffs, err, body, stored[key])
			}
		}
		listed := 0
		if err := e.Scan(t.Context(), "huts-e1", func(key, _ string) error { listed++; return nil }); err != nil || listed != len(sent) {
			t.Errorf("%d listed of %d, %v", listed, len(sent), err)
		}
	}
}
