package document

import (
	"cmp"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"reflect"
	"strings"
	"testing"
	"time"
	"unicode/utf8"

	"pingo/internal/core/shape"
)

func huts() *shape.Tree {
	return &shape.Tree{Index: "huts", Nodes: []*shape.Node{
		{
			ID:       0,
			Parent:   -1,
			Key:      []string{"id"},
			Columns:  []shape.Column{{Name: "id"}, {Name: "region_id"}, {Name: "name"}},
			Children: []int{1, 2, 3},
			Fields:   []shape.Field{{Name: "name", At: 2, Type: shape.Text}},
		},
		{
			ID:      1,
			Parent:  0,
			Name:    "region",
			Link:    &shape.Link{Theirs: make([]string, 1), OursAt: []int{1}},
			Columns: make([]shape.Column, 2),
			Fields:  []shape.Field{{Name: "name", At: 1, Type: shape.Text}},
		},
		{
			ID:      2,
			Parent:  0,
			Name:    "notes",
			Many:    true,
			Limit:   2,
			Link:    &shape.Link{Theirs: make([]string, 1), OursAt: []int{0}},
			Columns: make([]shape.Column, 2),
			Fields:  []shape.Field{{Name: "stars", At: 1, Type: shape.Integer}},
		},
		{
			ID:      3,
			Parent:  0,
			Name:    "offers",
			Many:    true,
			List:    true,
			Link:    &shape.Link{Theirs: make([]string, 1), OursAt: []int{0}},
			Columns: make([]shape.Column, 2),
			Fields:  []shape.Field{{Name: "label", At: 1, Type: shape.Text}},
		},
	}}
}

func row(values ...string) [][]byte {
	out := make([][]byte, len(values))
	for i, v := range values {
		if v != "NULL" {
			out[i] = []byte(v)
		}
	}
	return out
}

func TestDocumentsAreAssembledFromRows(t *testing.T) {
	set := NewSet(huts())
	for range 2 { // buffers that are used again must not show through
		set.Reset()
		set.Rows(0).Add(row("1", "7", "Grim \"Ridge\"\nHut"), nil)
		set.Rows(0).Add(row("2", "NULL", "NULL"), nil)
		set.Rows(1).Add(row("7", "Tarn"), nil)
		for _, stars := range []string{"5", "4", "3"} {
			set.Rows(2).Add(row("1", stars), nil)
		}
		set.Rows(3).Add(row("2", "stove"), nil)
		set.Rows(3).Add(row("2", "NULL"), nil)
		for node := 1; node < 4; node++ {
			set.Link(node)
		}
		want := []string{
			`"name":"Grim \"Ridge\"\nHut","region":{"name":"Tarn"},"notes":[{"stars":5},{"stars":4}],"offers":[]}`,
			`"name":null,"region":null,"notes":[],"offers":["stove",null]}`,
		}
		var seen []string
		for i := range want {
			doc := set.Append(nil, i)
			_, rest, _ := strings.Cut(string(doc), `",`)
			if rest != want[i] {
				t.Errorf("document %d: %s", i, doc)
			}
			if print := Fingerprint(doc); len(print) != 16 || print == "0000000000000000" {
				t.Errorf("fingerprint %q", print)
			}
			seen = append(seen, Fingerprint(doc))
		}
		if seen[0] == seen[1] || string(set.AppendKey(nil, 1)) != "2" {
			t.Error(seen)
		}
	}
}

// Rows belong to those that they are linked with, in the order in which they came, whatever stands between them.
func TestLinksOfRowsInAnyOrder(t *testing.T) {
	random := rand.New(rand.NewPCG(7, 11))
	set := NewSet(huts())
	for range 200 {
		set.Reset()
		want := map[string]string{}
		for id := range 4 {
			set.Rows(0).Add(row(fmt.Sprint(id), "NULL", "NULL"), nil)
		}
		for label := range random.IntN(12) {
			id := []string{"0", "1", "2", "9", "NULL"}[random.IntN(5)]
			set.Rows(3).Add(row(id, fmt.Sprint(label)), nil)
			want[id] += fmt.Sprintf(",\"%d\"", label)
		}
		set.Link(3)
		for id := range 4 {
			doc := string(set.Append(nil, id))
			if list := `"offers":[` + strings.TrimPrefix(want[fmt.Sprint(id)], ",") + "]}"; !strings.HasSuffix(doc, list) {
				t.Fatalf("document %d is %s, not with %s", id, doc, list)
			}
		}
	}
}

func TestValuesBecomeJSON(t *testing.T) {
	for _, c := range []struct {
		kind     shape.Type
		in, want string
	}{
		{shape.Integer, "9223372036854775807", "9223372036854775807"}, {shape.Decimal, "-0.000000000000000000012345", "-0.000000000000000000012345"},
		{shape.Decimal, "NaN", "null"}, {shape.Decimal, "-Infinity", "null"}, {shape.Boolean, "true", "true"},
		{shape.Date, "2031-06-01", `"2031-06-01"`}, {shape.Date, "infinity", "null"}, {shape.Timestamp, "-infinity", "null"},
		{shape.Text, "a\x01\"\\\tü", `"a\u0001\"\\\tü"`}, {shape.Keyword, "", `""`}, {shape.Object, `{"a": [1]}`, `{"a": [1]}`},
		{shape.Geo, "[8.5,46.25]", "[8.5,46.25]"}, {shape.Geo, "[null,1]", "null"}, {shape.Geo, "[NaN,1]", "null"}, {shape.Geo, "[1]", "null"}, {shape.Geo, "[1,2,3]", "null"},
		{shape.Decimal, "1" + strings.Repeat("0", 400), "null"}, {shape.Decimal, "0." + strings.Repeat("1", 400), "0." + strings.Repeat("1", 400)},
	} {
		got := string(AppendJSON(nil, c.kind, []byte(c.in)))
		if got != c.want || !json.Valid([]byte(got)) {
			t.Errorf("%s %q: %s, want %s", c.kind, c.in, got, c.want)
		}
	}
	if got := string(appendValue(nil, &shape.Field{Type: shape.Text}, nil)); got != "null" {
		t.Errorf("NULL: %s", got)
	}
}

func TestKeysCanBeReadBack(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 1))
	letters := []string{"~", ",", "a", "0", "1", "2", "x", " ", "ü", "/", "\x00", "\xe9", "\xc3", "\uFFFD"}
	seen := map[string][]string{}
	for range 5000 {
		parts := make([]string, 1+r.IntN(3))
		for i := range parts {
			for range r.IntN(4) {
				parts[i] += letters[r.IntN(len(letters))]
			}
		}
		tree := &shape.Tree{Nodes: []*shape.Node{{Key: make([]string, len(parts))}}}
		s := &shape.Shape{Trees: []*shape.Tree{tree}}
		if r.IntN(2) == 0 {
			tree.Name = "hut"
			s.Trees = []*shape.Tree{{Name: "region", Nodes: tree.Nodes}, tree}
		}
		key := Key(tree, parts...)
		at, back, err := ParseKey(s, key)
		if err == nil && s.Trees[at] != tree {
			t.Fatalf("%q is of tree %d", key, at)
		}
		if !utf8.ValidString(key) || strings.Contains(key, "\x00") {
			t.Fatalf("%q became %q, which is no text", parts, key)
		}
		if err != nil || !reflect.DeepEqual(back, parts) || key == "" {
			t.Fatalf("%q became %q, then %q (%v)", parts, key, back, err)
		}
		if other, ok := seen[key]; ok && tree.Name == "" && !reflect.DeepEqual(other, parts) {
			t.Fatalf("%q and %q have one key", other, parts)
		}
		if tree.Name == "" {
			seen[key] = parts
		}
	}
	one := &shape.Shape{Trees: []*shape.Tree{huts()}}
	if _, _, err := ParseKey(one, "1,2"); err == nil {
		t.Error("a key with a part too many is read")
	}
	one.Trees[0].Name = "hut"
	if _, _, err := ParseKey(one, "1"); err == nil || !strings.Contains(err.Error(), "name of its rows") {
		t.Errorf("a key without the name of its rows: %v", err)
	}
}

// A field that joins others takes in all their texts, however deep and often they stand.
func TestCombinedFields(t *testing.T) {
	tree := huts()
	tree.Name = "hut"
	tree.Nodes[0].Columns = append(tree.Nodes[0].Columns, shape.Column{Name: "tags"})
	tree.Nodes[0].Fields = append(
		tree.Nodes[0].Fields,
		shape.Field{Name: "tags", At: 3, Type: shape.Keyword, Array: true},
		shape.Field{
			Name:    "find_by",
			At:      -1,
			Type:    shape.Text,
			Combine: []shape.Part{{Field: 0}, {Nodes: []int{1}}, {Nodes: []int{3}}, {Nodes: []int{2}}, {Field: 1}},
		},
	)
	set := NewSet(tree)
	set.Rows(0).Add(row("1", "7", `Grim "Ridge"`, `["a",null,"b c"]`), nil)
	set.Rows(0).Add(row("2", "NULL", "NULL", "[]"), nil)
	set.Rows(1).Add(row("7", "Tarn"), nil)
	for _, stars := range []string{"5", "4", "3"} {
		set.Rows(2).Add(row("1", stars), nil)
	}
	set.Rows(3).Add(row("1", "stove"), nil)
	set.Rows(3).Add(row("1", "NULL"), nil)
	for node := 1; node < 4; node++ {
		set.Link(node)
	}
	for i, want := range []string{`"find_by":"Grim \"Ridge\" Tarn stove 5 4 a b c"`, `"find_by":null`} {
		doc := string(set.Append(nil, i))
		if !strings.Contains(doc, want) || !json.Valid([]byte(doc)) ||
			!strings.Contains(doc, `,"pingo_rows":"hut","name"`) {
			t.Errorf("%s, want %s", doc, want)
		}
	}
	if key := string(set.AppendKey(nil, 1)); key != "hut,2" {
		t.Error(key)
	}
}

func FuzzText(f *testing.F) {
	f.Add("plain")
	f.Add("\x00\x1f\"\\\u2028\U0001F3D4")
	for _, special := range []string{"\x00", "\x1f", "\"", "\\", "\x7f", "\u0080", "ü"} {
		for at := range 18 {
			f.Add(strings.Repeat("a", at) + special + strings.Repeat("#", 17-at))
		}
	}
	f.Fuzz(func(t *testing.T, text string) {
		if !utf8.ValidString(text) {
			t.Skip() // a database in UTF-8 sends none
		}
		var back string
		if err := json.Unmarshal(appendString(nil, text), &back); err != nil || back != text {
			t.Errorf("%q became %q (%v)", text, back, err)
		}
	})
}

// Neutral forms are ordered as their values are; each list is in its order.
func TestOrderOfValues(t *testing.T) {
	for kind, ordered := range map[shape.Type][]string{
		shape.Integer:   {"-9223372036854775808", "-100", "-99", "-5", "0", "7", "10", "9223372036854775807"},
		shape.Date:      {"-infinity", "-4712-01-01", "-0043-03-15", "-0043-07-01", "0000-12-31", "0001-01-01", "1999-12-31", "2031-06-01", "+12031-01-01", "infinity"},
		shape.Timestamp: {"-infinity", "-0043-03-15T10:00:00Z", "-0042-01-01T00:00:00Z", "2031-06-01T10:20:30Z", "2031-06-01T10:20:30.05Z", "2031-06-01T10:20:30.5Z", "2031-06-01T10:20:31Z", "+12031-01-01T00:00:00Z", "infinity"},
		shape.Keyword:   {"", "false", "true"},
	} {
		for i := range ordered {
			by, low := shape.By{Type: kind}, shape.By{Type: kind, NullsLow: true}
			if compareText(by, []byte(ordered[i]), nil) >= 0 || compareText(by, nil, []byte(ordered[i])) <= 0 ||
				compareText(low, []byte(ordered[i]), nil) <= 0 || compareText(low, nil, nil) != 0 {
				t.Errorf("%s: NULL is not above %s", kind, ordered[i])
			}
			for j := range ordered {
				if got, want := compareText(by, []byte(ordered[i]), []byte(ordered[j])), cmp.Compare(i, j); cmp.Compare(
					got,
					0,
				) != want {
					t.Errorf("%s: %q to %q is %d, want %d", kind, ordered[i], ordered[j], got, want)
				}
			}
		}
	}
}

func TestSeenContent(t *testing.T) {
	doc := func(n int) []byte { return fmt.Appendf(nil, `{"pingo_fingerprint":"%016x","n":1}`, n+100) }
	if Fingerprint(doc(7)) == "" {
		t.Fatal("not a document")
	}
	var s Seen
	now := time.Unix(1000, 0)
	has := func(key string, body []byte, want bool) {
		t.Helper()
		if s.Has(key, body, now) != want {
			t.Errorf("%s %s: not %v", key, body, want)
		}
	}
	has("a", doc(1), false)
	has("a", nil, false)
	s.Note("a", doc(1), now)
	has("a", doc(1), true)
	has("a", doc(2), false)
	has("b", doc(1), false)
	s.Note("a", nil, now)
	has("a", nil, true)
	has("a", doc(1), false)
	s.Forget("a")
	has("a", nil, false)
	s.Note("a", []byte("no fingerprint"), now)
	has("a", []byte("no fingerprint"), false)
	s.Note("early", doc(1), now)
	for i := range 5 * seenKeys { // memory is bounded
		s.Note(fmt.Sprint(i), doc(i), now)
		if i == 2*seenKeys {
			has("early", doc(1), false)
		}
		if i > 0 && i%seenKeys == 0 {
			has(fmt.Sprint(i-1), doc(i-1), true)
			s.Forget(fmt.Sprint(i - 1)) // from whichever generation
			has(fmt.Sprint(i-1), doc(i-1), false)
		}
	}
	if len(s.young)+len(s.old) > 2*seenKeys {
		t.Errorf("%d keys are held", len(s.young)+len(s.old))
	}
	// After a while it is not known any longer whether the engine still has it.
	s.Note("late", doc(1), now)
	for range 4 { // being asked for does not keep it
		has("late", doc(1), true)
		now = now.Add(seenFor / 3)
	}
	now = now.Add(seenFor)
	has("late", doc(1), false)
}

func TestDifferencesOfDocuments(t *testing.T) {
	for _, c := range [][3]string{
		{`{"a":1,"b":{"c":[1,2],"d":"x"}}`, `{"b":{"d":"x","c":[1,2]},"a":1}`, ""},
		{`{"a":1.0,"b":[1e2,-0],"c":1}`, `{"a":1,"b":[100,0],"c":2}`, "c: 1 → 2; "},
		{`{"b":{"c":[1,2],"d":null}}`, `{"b":{"c":[2,1]},"e":null}`, "b.c: [1,2] → [2,1]; b.d: null → ; e:  → null; "},
		// The same double with more digits; whole numbers beyond it stay apart.
		{`{"a":47.82102390416755,"b":0.1,"c":9007199254740993}`, `{"a":47.821023904167546,"b":0.10000000000000002,"c":9007199254740992}`,
			"b: 0.1 → 0.10000000000000002; c: 9007199254740993 → 9007199254740992; "},
		{`{"b":{"c":1}}`, `{"b":7,"é":"<&>"}`, `b: {"c":1} → 7; é:  → "\u003c\u0026\u003e"; `},
	} {
		list, err := Compare([]byte(c[0]), []byte(c[1]))
		got := ""
		for _, d := range list {
			got += fmt.Sprintf("%s: %s → %s; ", d.Path, d.Old, d.New)
		}
		if got != c[2] || err != nil {
			t.Errorf("%s and %s: %q %v", c[0], c[1], got, err)
		}
	}
	if _, err := Compare([]byte(`{`), []byte(`{}`)); err == nil {
		t.Error("half a document is compared")
	}
}

// A key that can be read is the one that its values are written as.
func FuzzKey(f *testing.F) {
	f.Add("1", false)
	f.Add("hut,~0~1,~2", true)
	f.Add("~x00~xe9~xg~x", false)
	tree := &shape.Tree{Nodes: []*shape.Node{{Key: []string{"id"}}}}
	pair := &shape.Tree{Name: "hut", Nodes: []*shape.Node{{Key: []string{"a", "b"}}}}
	f.Fuzz(func(t *testing.T, key string, named bool) {
		s := &shape.Shape{Trees: []*shape.Tree{tree}}
		if named {
			s = &shape.Shape{Trees: []*shape.Tree{{Name: "region", Nodes: tree.Nodes}, pair}}
		}
		at, values, err := ParseKey(s, key)
		if err != nil {
			return
		}
		again := Key(s.Trees[at], values...)
		if _, back, err := ParseKey(s, again); err != nil || !reflect.DeepEqual(back, values) {
			t.Errorf("%q is %q, which is written %q and read as %q (%v)", key, values, again, back, err)
		}
	})
}
