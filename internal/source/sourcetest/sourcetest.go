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
				s.Fatalf("documents %v of tree %d at once:\n%v, alone\n%v, %v", keys, i, got[i], want, err)
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

func (s *suite) need() []shape.Captured {
	return shape.Capture(s.huts.Source, []*shape.Shape{s.huts, s.stays})
}

// read takes what the feed gives within a moment, in words, in the order of the words.
func (s *suite) read(want ...string) (seqs []int64) {
	s.Helper()
	var got []string
	for deadline := time.Now().Add(5 * time.Second); ; time.Sleep(10 * time.Millisecond) {
		changes, err := s.src.Changes(s.Context(), 1000)
		if err != nil {
			s.Fatal(err)
		}
		for _, c := range changes {
			got = append(got, words(&c))
			seqs = append(seqs, c.Seq)
			if c.At.IsZero() || time.Since(c.At) > time.Hour {
				s.Errorf("%s is of %v", words(&c), c.At)
			}
		}
		if len(got) >= len(want) || time.Now().After(deadline) {
			break
		}
	}
	slices.Sort(got)
	slices.Sort(want)
	if !slices.Equal(got, want) {
		s.Errorf("noticed %q, want %q", got, want)
	}
	return seqs
}

func words(c *change.Change) string {
	out := fmt.Sprintf("%s %s %s", c.Op, c.Table.Name, strings.Join(c.Key, "|"))
	if len(c.Was) > 0 {
		out += " was " + strings.Join(c.Was, "|")
	}
	for _, v := range c.Values([]string{"region_id"}) {
		out += " " + strings.Join(v, "|")
	}
	return strings.TrimSpace(out)
}

func (s *suite) done(seqs []int64, left int) {
	s.Helper()
	if err := s.src.Done(s.Context(), seqs); err != nil {
		s.Fatal(err)
	}
	if n, _ := s.src.InFlight(); n != left { // also before the next read, which waits for room
		s.Errorf("%d in flight, want %d", n, left)
	}
	// A read that began before may still see what is done; the next one does not.
	s.read()
	if n, oldest := s.src.InFlight(); n != left || oldest.IsZero() != (left == 0) {
		s.Errorf("%d in flight since %v, want %d", n, oldest, left)
	}
}

// installingHoldsUpNobody installs capture while a transaction that uses a table stays open. Others write meanwhile, and
// wait for moments only.
func (s *suite) installingHoldsUpNobody() {
	if s.src.Capture == nil {
		return
	}
	const long = 1500 * time.Millisecond
	var waited time.Duration
	for range 3 { // a busy machine may stand still as long by itself, but not each time
		waited = 0
		open := s.h.Begin(s.T)
		open.Update("huts", Row{"id": 20}, Row{"beds": 7})
		installed := make(chan error, 1)
		go func() {
			_, err := s.src.Capture.Install(s.Context(), "one", s.need())
			installed <- err
		}()
		for began := time.Now(); time.Since(began) < 2*long; time.Sleep(100 * time.Millisecond) {
			at := time.Now()
			s.do(func(tx Transaction) { tx.Update("huts", Row{"id": 21}, Row{"beds": 8}) })
			waited = max(waited, time.Since(at))
		}
		open.Rollback()
		if err := <-installed; err != nil {
			s.Fatalf("installing behind an open transaction: %v", err)
		}
		if err := s.src.Capture.Remove(s.Context()); err != nil {
			s.Fatal(err)
		}
		if waited < long {
			return
		}
	}
	s.Errorf("a writer waited for %v while capture was being installed", waited)
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

// changesOfRows asks what is not done of the hut 5, which is 1005 now, and of a stay.
func (s *suite) changesOfRows(hut, stay string) {
	s.Helper()
	huts, stays := s.huts.Trees[0].Root().Table, s.stays.Trees[0].Root().Table
	for _, x := range []struct {
		table shape.Ref
		key   []string
		want  string
	}{
		{huts, []string{"1005"}, hut}, {huts, []string{"5"}, hut}, {stays, []string{"2", "b"}, stay},
		{huts, []string{"2"}, ""}, {stays, []string{"2", "c"}, ""},
	} {
		changes, err := s.src.ChangesOf(s.Context(), x.table, x.key)
		var got []string
		for i := range changes {
			got = append(got, words(&changes[i]))
		}
		if err != nil || strings.Join(got, ", ") != x.want {
			s.Errorf("changes of %v %v: %q %v, want %q", x.table, x.key, got, err, x.want)
		}
	}
}

func (s *suite) changesAreNoticed() {
	ctx := s.Context()
	if s.src.Capture != nil {
		if made, err := s.src.Capture.Install(ctx, "one", s.need()); err != nil || len(made) != 3 {
			s.Fatal(made, err)
		}
	}
	if _, err := s.src.Changes(ctx, 10); source.FaultOf(err) != source.Superseded {
		s.Errorf("changes that nobody has claimed: %v", err)
	}
	s.claim(s.src, "A", 5)
	s.src.Rewind()
	s.read()
	s.do(func(tx Transaction) {
		tx.Insert("regions", Row{"id": 2, "name": "Pale Cliffs"})
		tx.Update("huts", Row{"id": 1}, Row{"name": "Grim Ridge Hut"})
		tx.Update("stays", Row{"hut_id": 2, "night": "b"}, Row{"body": "quiet"})
		tx.Delete("stays", Row{"hut_id": 3, "night": ""})
		tx.Update("huts", Row{"id": 5}, Row{"id": 1005})
	})
	first := s.read(
		"insert regions 2",
		"update huts 1",
		"update stays 2|b",
		"delete stays 3|",
		"update huts 1005 was 5",
	)
	s.read() // none comes twice
	if d, err := s.src.Depth(ctx); err != nil || d.Changes != 5 || d.Oldest == nil ||
		d.First != slices.Min(first) || d.Last < d.First+4 {
		s.Errorf("depth: %+v %v", d, err)
	}
	s.changesOfRows("update huts 1005 was 5", "update stays 2|b")
	s.done(first, 0)
	s.changesOfRows("", "")

	// What is not committed is not noticed, what is rolled back never, and who commits late
	// is noticed late.
	late, never := s.h.Begin(s.T), s.h.Begin(s.T)
	late.Update("huts", Row{"id": 10}, Row{"beds": 99})
	never.Update("huts", Row{"id": 11}, Row{"beds": 99})
	s.do(func(tx Transaction) { tx.Update("huts", Row{"id": 12}, Row{"beds": 99}) })
	seqs := s.read("update huts 12")
	s.done(seqs, 0)
	never.Rollback()
	late.Commit()
	seqs = s.read("update huts 10")

	// Who begins anew gets what is not done again, and so does a second one.
	s.src.Rewind()
	again := s.read("update huts 10")
	if !slices.Equal(seqs, again) {
		s.Errorf("the numbers of a change were %v and are %v", seqs, again)
	}
	s.done(again, 0)
	s.src.Rewind()
	s.read()

	s.h.Truncate(s.T, "stays")
	s.done(s.read("truncate stays"), 0)
}

// changesAreWaitedFor: a feed that can wait is woken by the first change, and does not wait while one may be committed at
// any moment.
func (s *suite) changesAreWaitedFor() {
	awaiter, can := s.src.Feed.(source.Awaiter)
	if !can {
		return
	}
	quiet := func() {
		s.Helper()
		for end := time.Now().Add(20 * time.Second); ; time.Sleep(20 * time.Millisecond) {
			s.read()
			began := time.Now()
			if none, waited := awaiter.Await(s.Context(), 100*time.Millisecond); waited && !none.IsZero() {
				if none.Before(began) || none.After(time.Now()) {
					s.Errorf("from %v on it saw none until %v", began, none)
				}
				return
			}
			if time.Now().After(end) {
				s.Fatal("it never waits")
			}
		}
	}
	quiet()
	for range 3 {
		woken := make(chan bool, 1)
		go func() {
			none, waited := awaiter.Await(s.Context(), time.Minute)
			woken <- waited && none.IsZero()
		}()
		time.Sleep(50 * time.Millisecond)
		s.do(func(tx Transaction) { tx.Update("huts", Row{"id": 12}, Row{"beds": time.Now().Nanosecond() % 1000}) })
		select {
		case changes := <-woken:
			if !changes {
				s.Error("it woke without saying that there are changes")
			}
		case <-time.After(20 * time.Second):
			s.Fatal("it was not woken")
		}
		s.done(s.read("update huts 12"), 0)
		quiet()
	}
	late := s.h.Begin(s.T)
	late.Update("huts", Row{"id": 12}, Row{"beds": 1001})
	s.read()
	for range 5 {
		if _, waited := awaiter.Await(s.Context(), time.Minute); waited {
			s.Error("it waits although a change may be committed")
		}
		s.read()
	}
	late.Commit()
	s.done(s.read("update huts 12"), 0)
}

func (s *suite) claim(src *source.Source, holder string, epoch int64) {
	s.Helper()
	now, err := src.Claimed(s.Context())
	if err != nil {
		s.Fatal(err)
	}
	c := change.Claim{Service: "one", Holder: holder, Epoch: epoch, Mark: 1, History: now.History}
	if err := src.Claim(s.Context(), now, c); err != nil {
		s.Fatal(err)
	}
}

// Who claims the changes under a later epoch has them for himself.
func (s *suite) changesAreClaimed() {
	ctx, second := s.Context(), s.h.Open(s.T)
	defer second.Close()
	s.do(func(tx Transaction) { tx.Update("huts", Row{"id": 14}, Row{"beds": 98}) })
	seqs := s.read("update huts 14")
	before, err := s.src.Claimed(ctx)
	if err != nil || before.Service != "one" || before.Holder != "A" || before.Epoch != 5 || before.Mark != 1 {
		s.Errorf("claimed: %+v %v", before, err)
	}
	if now, err := s.src.Beat(ctx, before); err != nil || now.Mark != 2 || now.Behind(before) ||
		!before.Behind(now) {
		s.Errorf("after a beat: %+v %v", now, err)
	}
	superseded := func(what string, err error) {
		s.Helper()
		if source.FaultOf(err) != source.Superseded {
			s.Errorf("%s: %v", what, err)
		}
	}
	now, err := second.Claimed(ctx)
	if err != nil {
		s.Fatal(err)
	}
	next := change.Claim{Service: "one", Holder: "B", Epoch: 9, Mark: 9, History: now.History}
	superseded("a claim found before the last beat", second.Claim(ctx, before, next))
	elsewhere := now
	elsewhere.History = "of another database"
	superseded("a claim found in another line of history", second.Claim(ctx, elsewhere, next))
	next.Service = "two"
	superseded("another service", second.Claim(ctx, now, next))
	s.claim(second, "B", 6)
	_, err = s.src.Changes(ctx, 10)
	superseded("reading", err)
	_, err = s.src.Beat(ctx, now)
	superseded("a beat", err)
	superseded("removing", s.src.Done(ctx, seqs))
	if changes, err := second.Changes(ctx, 10); err != nil || len(changes) != 1 {
		s.Errorf("the other one reads %+v %v", changes, err)
	}
	s.claim(s.src, "A", 7)
	s.src.Rewind()
	s.done(s.read("update huts 14"), 0)
}

// removalIsToldAsOne removes capture while a transaction holds up its end. Who looks meanwhile is told that it was
// removed, and not what is left of it.
func (s *suite) removalIsToldAsOne(need []shape.Captured) {
	s.do(func(tx Transaction) { tx.Insert("stays", Row{"hut_id": 1, "night": "held", "body": "quiet"}) })
	tx := s.h.Begin(s.T)
	tx.Update("stays", Row{"hut_id": 1, "night": "held"}, Row{"body": "loud"})
	removed := make(chan error, 1)
	go func() { removed <- s.src.Capture.Remove(s.Context()) }()
	for looks := 0; looks < 20; {
		gaps, err := s.src.Capture.Gaps(s.Context(), need)
		if err != nil {
			s.Fatal(err)
		}
		if len(gaps) == 0 {
			continue
		}
		looks++
		if len(gaps) != len(need) || slices.ContainsFunc(gaps, func(g source.Gap) bool {
			return !g.Deliberate || !strings.Contains(g.Reason, "capture was removed")
		}) {
			s.Errorf("gaps while capture is removed: %+v", gaps)
			break
		}
		time.Sleep(10 * time.Millisecond)
	}
	tx.Rollback()
	if err := <-removed; err != nil {
		s.Fatal(err)
	}
}

func (s *suite) capturesComeAndGo() {
	ctx, capture := s.Context(), s.src.Capture
	if capture == nil {
		return
	}
	need := s.need()
	if made, err := capture.Install(ctx, "one", need); err != nil || len(made) != 0 {
		s.Errorf("installed again: %v %v", made, err)
	}
	if _, err := capture.Install(ctx, "two", need); err == nil ||
		!strings.Contains(err.Error(), "another Pingo service") {
		s.Errorf("a second service: %v", err)
	}
	if status, err := capture.Status(ctx); err != nil || !status.Installed || len(status.Tables) != 3 {
		s.Errorf("%+v %v", status, err)
	}
	if gaps, err := capture.Gaps(ctx, need); err != nil || len(gaps) != 0 {
		s.Errorf("gaps: %+v %v", gaps, err)
	}
	if missing, err := capture.MissingRights(ctx, need); err != nil || len(missing) != 0 {
		s.Errorf("rights: %v %v", missing, err)
	}
	if _, err := capture.Advice(ctx, need, s.huts.Lookups(s.huts.Source)); err != nil {
		s.Error(err)
	}
	if script, err := capture.Script(ctx, need); err != nil || script == "" {
		s.Errorf("script: %q %v", script, err)
	}
	s.removalIsToldAsOne(need)
	if err := capture.Remove(ctx); err != nil { // a step that is taken again
		s.Fatal(err)
	}
	if status, err := capture.Status(ctx); err != nil || status.Installed {
		s.Errorf("%+v %v", status, err)
	}
	if gaps, err := capture.Gaps(ctx, need); err != nil || len(gaps) != 3 || gaps[0].Safe ||
		!gaps[0].Deliberate ||
		gaps[0].Reason == "" {
		s.Errorf("gaps without capture: %+v %v", gaps, err)
	}
	s.do(func(tx Transaction) { tx.Update("huts", Row{"id": 12}, Row{"beds": 3}) })
	if _, err := s.src.Changes(ctx, 10); source.FaultOf(err) != source.NoCapture {
		s.Errorf("changes without capture: %v", err)
	}
	expired, cancel := context.WithCancel(ctx)
	cancel()
	if _, err := s.src.Count(expired, s.huts.Trees[0]); err == nil {
		s.Error("a context that has ended is not heeded")
	}
}
