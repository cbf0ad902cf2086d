// Package sourcetest is the conformance suite of sources: what each must keep.
package sourcetest

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"pingo/internal/core/change"
	"pingo/internal/core/definition"
	"pingo/internal/core/document"
	"pingo/internal/core/shape"
	"pingo/internal/source"
)

// Row is the values of columns by name; nil is NULL. They are int, string or bool.
type Row map[string]any

// Transaction changes rows of a source.
type Transaction interface {
	Insert(table string, row Row)
	Update(table string, key, set Row)
	Delete(table string, key Row)
	Commit()
	Rollback()
}

// Harness makes a source of some kind to test. It holds, without rows, the tables
//
//	regions (id integer primary key, name text)
//	huts    (id integer primary key, name text, region_id integer, beds integer, open boolean, since date)
//	stays   (hut_id integer, night text, body text, primary key (hut_id, night))
type Harness interface {
	// Open opens the source once more.
	Open(t *testing.T) *source.Source
	Begin(t *testing.T) Transaction
	Truncate(t *testing.T, table string)
}

const text = `
sources:
  lodge: { kind: KIND, url: "SCHEME://u@h/d" }
  other: { kind: KIND, url: "SCHEME://u@h/d" }
engines: { main: { kind: any, url: "any://h" } }
indexes:
  huts:
    engine: main
    rows: lodge.huts
    fields: [name, beds, open, since]
    related:
      region: { one: regions, on: { id: region_id }, fields: [name] }
      stays:  { many: stays, on: { hut_id: id }, fields: [night, body] }
  stays:
    engine: main
    rows: lodge.stays
    fields: [body]
  apart: # as huts, with what is related in another source
    engine: main
    rows: lodge.huts
    fields: [name, beds, open, since]
    related:
      region: { one: regions, source: other, on: { id: region_id }, fields: [name] }
      stays:  { many: stays, source: other, on: { hut_id: id }, fields: [night, body] }
  nights: # there and back again
    engine: main
    rows: lodge.stays
    fields: [body]
    related:
      same:
        many: stays
        source: other
        on: { night: night }
        fields: [body]
        related: { hut: { one: huts, source: lodge, on: { id: hut_id }, fields: [beds] } }
  brief: # of huts, too, by other columns
    engine: main
    rows: lodge.huts
    fields: { called: { column: name }, beds: {} }
    related:
      stays: { many: stays, on: { hut_id: id }, fields: [body] }
      region: { one: regions, on: { id: region_id }, fields: [name] }
`

// suite is a source under test, with the shapes that it is read by.
type suite struct {
	*testing.T
	h   Harness
	src *source.Source

	huts, stays, apart, nights, brief *shape.Shape
}

// Run checks a source.
func Run(t *testing.T, kind source.Kind, h Harness) {
	s := &suite{T: t, h: h, src: h.Open(t)}
	if words, err := s.src.Describe(t.Context()); err != nil || words == "" {
		t.Fatal(words, err)
	}
	s.compile(kind)
	s.rowsBecomeDocuments()
	s.indexesReadAtOnce()
	s.tooMuchIsRefused()
	s.sourcesAreRelated()
	s.installingHoldsUpNobody()
	s.changesAreNoticed()
	s.doneInRuns()
	s.changesAreWaitedFor()
	s.changesAreClaimed()
	s.capturesComeAndGo()
}

func (s *suite) compile(kind source.Kind) {
	s.Helper()
	kinds := definition.Kinds{
		Sources: []definition.Kind{
			{Name: kind.Name, Schemes: kind.Schemes, Captures: kind.Captures, Keys: kind.Keys},
		},
		Engines: []definition.Kind{{Name: "any", Schemes: []string{"any"}, Keys: `{}`}},
	}
	files := []definition.File{
		{Name: "d.yaml", Text: strings.NewReplacer("KIND", kind.Name, "SCHEME", kind.Schemes[0]).Replace(text)},
	}
	def, findings := definition.Parse(files, kinds, nil)
	if len(findings) > 0 {
		s.Fatal(findings)
	}
	for i, into := range []**shape.Shape{&s.huts, &s.stays, &s.apart, &s.nights, &s.brief} {
		var err error
		*into, findings, err = source.Compile(s.Context(), def.Indexes[i], source.Only(s.src))
		if err != nil || len(findings) > 0 {
			s.Fatal(findings, err)
		}
	}
	facts, err := s.src.Facts(s.Context(), []string{"nowhere"}, nil)
	if err != nil || facts.Tables["nowhere"] != nil ||
		!slices.ContainsFunc(facts.Known, func(name string) bool { return strings.HasSuffix(name, "huts") }) {
		s.Errorf("a table that is not there: %+v, %v", facts, err)
	}
	if name := s.src.Label(s.huts.Trees[0].Root().Table); name != "huts" {
		s.Errorf("the table is called %s", name)
	}
}

func (s *suite) do(f func(tx Transaction)) {
	s.Helper()
	tx := s.h.Begin(s.T)
	f(tx)
	tx.Commit()
}

// Documents are the documents of a set by their keys, as JSON in the order of its names and without
// fingerprints.
func Documents(t testing.TB, set *document.Set) map[string]string {
	t.Helper()
	out := map[string]string{}
	for i := range set.Rows(0).Len() {
		doc := set.Append(nil, i)
		var plain map[string]any
		if err := json.Unmarshal(doc, &plain); err != nil {
			t.Fatalf("%s: %v", doc, err)
		}
		delete(plain, definition.FingerprintField)
		b, err := json.Marshal(plain)
		if err != nil {
			t.Fatal(err)
		}
		out[string(set.AppendKey(nil, i))] = string(b)
	}
	return out
}

// Drain reads all changes that are noted, and says that they are done.
func Drain(t testing.TB, src *source.Source) (all []change.Change) {
	t.Helper()
	for {
		changes, err := src.Changes(t.Context(), 1000)
		if err != nil {
			t.Fatal(err)
		}
		if len(changes) == 0 {
			return all
		}
		seqs := make([]int64, len(changes))
		for i, c := range changes {
			seqs[i] = c.Seq
		}
		if err := src.Done(t.Context(), seqs); err != nil {
			t.Fatal(err)
		}
		all = append(all, changes...)
	}
}

// Unnoted lists the rows of tables, by table and key, that are not what they were, and that no change stands
// for, nor a gap: missed are the tables that have one.
func Unnoted(
	before, after map[string]map[string]string,
	changes []change.Change,
	missed map[string]bool,
) (out []string) {
	for table, was := range before {
		noted, all := map[string]bool{}, missed[table]
		for _, c := range changes {
			if c.Table.Name == table {
				all = all || c.Op == change.Truncate || len(c.Key) == 0
				noted[strings.Join(c.Key, ",")], noted[strings.Join(c.Was, ",")] = true, true
			}
		}
		for _, side := range []map[string]string{was, after[table]} {
			for key := range side {
				if was[key] != after[table][key] && !all && !noted[key] {
					out = append(
						out,
						fmt.Sprintf("row %s of %s: %q became %q", key, table, was[key], after[table][key]),
					)
				}
			}
		}
	}
	return out
}

// Touched are the keys of the documents that the changes lead to which were noted since the last time. It says
// that those are done.
func Touched(t testing.TB, src *source.Source, s *shape.Shape) map[string]bool {
	t.Helper()
	touched := TouchedBy(t, src, s, Drain(t, src))
	if touched["*"] {
		t.Fatal("nothing was truncated")
	}
	return touched
}

// TouchedBy are the keys of the documents that changes lead to, and * where that may be any.
func TouchedBy(t testing.TB, src *source.Source, s *shape.Shape, changes []change.Change) map[string]bool {
	t.Helper()
	touched, routes := map[string]bool{}, s.Routes(s.Source)
	for _, c := range changes {
		for _, route := range routes[c.Table] {
			if !c.Touches(route.Reads) {
				continue
			}
			add := func(key []string) error {
				touched[document.Key(s.Trees[route.Tree], slices.Clone(key)...)] = true
				return nil
			}
			values := c.Values(route.Link)
			switch {
			case c.Op == change.Truncate || route.All:
				touched["*"] = true
				continue
			case len(route.Link) == 0:
				values = [][]string{c.Key}
				if len(c.Was) > 0 {
					values = append(values, c.Was)
				}
			case len(route.Steps) > 0:
				if err := src.WalkUp(t.Context(), route.Steps, values, add); err != nil {
					t.Fatal(err)
				}
				continue
			}
			for _, key := range values {
				add(key)
			}
		}
	}

	return touched
}

const manyHuts = 50

func (s *suite) rowsBecomeDocuments() {
	ctx := s.Context()
	s.do(func(tx Transaction) {
		tx.Insert("regions", Row{"id": 1, "name": "Tarn \"Country\"\nand ü"})
		for i := range manyHuts {
			tx.Insert(
				"huts",
				Row{
					"id":        i,
					"name":      fmt.Sprint("hut ", i),
					"region_id": 1 + i%2,
					"beds":      i,
					"open":      i%2 == 0,
					"since":     "2031-06-01",
				},
			)
		}
		tx.Update(
			"huts",
			Row{"id": 7},
			Row{"name": nil, "region_id": nil, "beds": nil, "open": nil, "since": nil},
		)
		tx.Insert("stays", Row{"hut_id": 2, "night": "b", "body": "second"})
		tx.Insert("stays", Row{"hut_id": 2, "night": "a,~", "body": "first"})
		tx.Insert("stays", Row{"hut_id": 3, "night": "", "body": ""})
	})
	tree := s.huts.Trees[0]
	if n, err := s.src.Count(ctx, tree); n != manyHuts || err != nil {
		s.Errorf("%d rows, %v", n, err)
	}
	if n, err := s.src.DuplicateKeys(ctx, tree); n != 0 || err != nil {
		s.Errorf("%d rows share a key, %v", n, err)
	}
	for _, shape := range []*shape.Shape{s.huts, s.stays} {
		s.rangesCoverAll(shape)
	}
	set := document.NewSet(tree)
	if err := s.src.ReadKeys(ctx, set, [][]string{{"2"}, {"7"}, {"999"}, {"3"}}); err != nil {
		s.Fatal(err)
	}
	want := map[string]string{
		"2": `{"beds":2,"name":"hut 2","open":true,"region":{"name":"Tarn \"Country\"\nand ü"},"since":"2031-06-01","stays":[{"body":"first","night":"a,~"},{"body":"second","night":"b"}]}`,
		"3": `{"beds":3,"name":"hut 3","open":false,"region":null,"since":"2031-06-01","stays":[{"body":"","night":""}]}`,
		"7": `{"beds":null,"name":null,"open":null,"region":null,"since":null,"stays":[]}`,
	}
	if got := Documents(s, set); fmt.Sprint(got) != fmt.Sprint(want) {
		s.Errorf("documents by key:\n%v, want\n%v", got, want)
	}
	var up []string
	for _, route := range s.huts.Routes(s.huts.Source)[s.table("regions")] {
		if err := s.src.WalkUp(ctx, route.Steps, [][]string{{"1"}}, func(key []string) error { up = append(up, key...); return nil }); err != nil {
			s.Fatal(err)
		}
	}
	if len(up) != manyHuts/2 || !slices.Contains(up, "4") {
		s.Errorf("up from the region: %v", up)
	}
}

// Indexes that read the same documents' rows at the same moment get what they get alone, and what one of them does in
// the midst of it does not concern the others.
func (s *suite) indexesReadAtOnce() {
	random := rand.New(rand.NewPCG(uint64(time.Now().UnixNano()), 0))
	trees := []*shape.Tree{s.huts.Trees[0], s.brief.Trees[0], s.apart.Trees[0], s.huts.Trees[0].RootOnly("")}
	read := func(ctx context.Context, tree *shape.Tree, keys [][]string) (map[string]string, error) {
		set := document.NewSet(tree)
		err := s.src.ReadKeys(ctx, set, keys)
		return Documents(s, set), err
	}
	for range 60 {
		keys := make([][]string, 1+random.IntN(5))
		for i := range keys {
			keys[i] = []string{fmt.Sprint(random.IntN(9))}
		}
		hasty, patience := random.IntN(3*len(trees)), time.Duration(random.IntN(2000))*time.Microsecond
		got, errs := make([]map[string]string, len(trees)), make([]error, len(trees))
		var all sync.WaitGroup
		for i, tree := range trees {
			all.Go(func() {
				ctx := s.Context()
				if i == hasty {
					var stop context.CancelFunc
					ctx, stop = context.WithTimeout(ctx, patience)
					defer stop()
				}
				got[i], errs[i] = read(ctx, tree, keys)
			})
		}
		all.Wait()
		for i, tree := range trees {
			want, err := read(s.Context(), tree, keys)
			if i == hasty && errs[i] != nil {
				continue
			}
			if err := errors.Join(err, errs[i]); err != nil || fmt.Sprint(got[i]) != fmt.Sprint(want) {
				s.Fatalf("documents %v of tree %d at the same time:\n%v, alone\n%v, %v", keys, i, got[i], want, err)
			}
		}
	}
}

// What is related in another source is read by it, and followed from there; here the other source is
// the same one.
func (s *suite) sourcesAreRelated() {
	ctx := s.Context()
	documents := func(sh *shape.Shape) map[string]string {
		set := document.NewSet(sh.Trees[0])
		if err := source.Across(sh, source.Only(s.src)).ReadRange(ctx, set, nil, nil); err != nil {
			s.Fatal(err)
		}
		return Documents(s, set)
	}
	if near, far := documents(s.huts), documents(s.apart); fmt.Sprint(near) != fmt.Sprint(far) || len(far) != manyHuts {
		s.Errorf("documents from one source:\n%v\nfrom two:\n%v", near, far)
	}
	set := document.NewSet(s.apart.Trees[0])
	if err := s.src.ReadKeys(ctx, set, [][]string{{"2"}}); err != nil || set.Rows(0).Len() != 1 ||
		set.Rows(1).Len()+set.Rows(2).Len() > 0 {
		s.Errorf(
			"one source alone read %d, %d and %d rows: %v",
			set.Rows(0).Len(),
			set.Rows(1).Len(),
			set.Rows(2).Len(),
			err,
		)
	}
	nights := documents(s.nights)
	for key, want := range map[string]string{
		"2,b":     `{"body":"second","same":[{"body":"second","hut":{"beds":2}}]}`,
		"2,a~1~0": `{"body":"first","same":[{"body":"first","hut":{"beds":2}}]}`,
		"3,~2":    `{"body":"","same":[{"body":"","hut":{"beds":3}}]}`,
	} {
		if nights[key] != want {
			s.Errorf("%s there and back: %s, want %s", key, nights[key], want)
		}
	}
	// Values that a column cannot have are not asked for.
	for _, c := range []struct {
		sh     *shape.Shape
		from   string
		table  string
		values []string
		want   int
	}{
		{s.apart, "other", "regions", []string{"1", "one", "99999999999999999999", "", "-1", "1.0"}, manyHuts / 2},
		{s.apart, "other", "stays", []string{"2", "x", "\x00", "2"}, 1},
		{s.nights, "other", "stays", []string{"b", "\x00", "nowhere", "\xff"}, 1},
		{s.nights, "lodge", "huts", []string{"2", "two"}, 2},
	} {
		found := map[string]bool{}
		for _, route := range c.sh.Routes(c.from)[s.table(c.table)] {
			if len(route.Link) == 0 {
				continue // it is the root
			}
			var tuples [][]string
			for _, v := range c.values {
				tuples = append(tuples, []string{v})
			}
			err := source.Across(c.sh, source.Only(s.src)).WalkUp(ctx, route.Steps, tuples, func(key []string) error {
				found[strings.Join(key, ",")] = true
				return nil
			})
			if err != nil {
				s.Errorf("up from %s of %s: %v", c.table, c.from, err)
			}
		}
		if len(found) != c.want {
			s.Errorf("up from %s of %s: %v, want %d", c.table, c.from, found, c.want)
		}
	}
}

// table is the table of a name, as the shapes know it.
func (s *suite) table(name string) shape.Ref {
	for _, c := range shape.Capture(s.huts.Source, []*shape.Shape{s.huts}) {
		if c.Table.Name == name {
			return c.Table
		}
	}
	s.Fatalf("no table %s", name)
	return shape.Ref{}
}

// rangesCoverAll reads a shape chunk by chunk and by key: both see every row once.
func (s *suite) rangesCoverAll(sh *shape.Shape) {
	s.Helper()
	ctx, tree := s.Context(), sh.Trees[0]
	byRange := map[string]string{}
	var listed [][]string
	set := document.NewSet(tree)
	for after, last := []string(nil), false; !last; {
		end, err := s.src.ChunkEnd(ctx, tree, after, 7)
		if err != nil {
			s.Fatal(err)
		}
		set.Reset()
		if err := s.src.ReadRange(ctx, set, after, end); err != nil {
			s.Fatal(err)
		}
		for key, doc := range Documents(s, set) {
			if byRange[key] != "" {
				s.Errorf("%s: %q is in two chunks", sh.Index, key)
			}
			byRange[key] = doc
		}
		if err := s.src.Keys(ctx, tree, after, end, func(key []string) error { listed = append(listed, slices.Clone(key)); return nil }); err != nil {
			s.Fatal(err)
		}
		after, last = end, end == nil
	}
	set.Reset()
	if err := s.src.ReadKeys(ctx, set, listed); err != nil {
		s.Fatal(err)
	}
	if byKey := Documents(s, set); len(byRange) == 0 || fmt.Sprint(byRange) != fmt.Sprint(byKey) {
		s.Errorf("%s by ranges: %v\nby keys: %v", sh.Index, byRange, byKey)
	}
}

// tooMuchIsRefused reads a document whose list takes more memory than any may, which ends soon, and others after it.
func (s *suite) tooMuchIsRefused() {
	const pages = 600
	page := strings.Repeat("x", document.MostBytes/(pages-40))
	s.do(func(tx Transaction) {
		for i := range pages {
			tx.Insert("stays", Row{"hut_id": 1, "night": fmt.Sprintf("heavy %03d", i), "body": page})
		}
	})
	set := document.NewSet(s.huts.Trees[0])
	err := s.src.ReadKeys(s.Context(), set, [][]string{{"1"}, {"2"}})
	if source.FaultOf(err) != source.BadValue || !errors.Is(err, source.ErrTooLarge) {
		s.Errorf("a document that is too large: %v", err)
	}
	if bytes := set.Bytes(); bytes > document.MostBytes*11/10 {
		s.Errorf("%d bytes were read of it", bytes)
	}
	set.Reset()
	if err := s.src.ReadKeys(s.Context(), set, [][]string{{"2"}}); err != nil {
		s.Errorf("the one after it: %v", err)
	}
	s.do(func(tx Transaction) {
		for i := range pages {
			tx.Delete("stays", Row{"hut_id": 1, "night": fmt.Sprintf("heavy %03d", i)})
		}
	})
}
