package postgres

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"pingo/internal/core/document"
	"pingo/internal/core/shape"
	"pingo/internal/lab/pgtest"
	"pingo/internal/source"
	"pingo/internal/source/coalesce"
)

// Several indexes that want the same documents' rows at the same moment have them read once, in one snapshot, and
// each gets what it would get alone, whatever happens to the others.
func TestReadsOfSeveralIndexesAreOne(t *testing.T) {
	url := pgtest.URL(t)
	db := pgtest.Connect(t, url)
	pgtest.Exec(t, db, `CREATE TABLE regions (id int PRIMARY KEY, name text, code text);
		CREATE TABLE trails (id int PRIMARY KEY, name text, length int, region_id int REFERENCES regions, note text);
		CREATE TABLE stages (id int PRIMARY KEY, trail_id int REFERENCES trails, name text, steep int);
		CREATE TABLE guides (id int PRIMARY KEY, name text, since date);
		CREATE TABLE guided (trail_id int REFERENCES trails, guide_id int REFERENCES guides, PRIMARY KEY (trail_id, guide_id));
		INSERT INTO regions SELECT i, 'region ' || i, 'R' || i FROM generate_series(1, 3) i;
		INSERT INTO trails SELECT i, 'trail ' || i, i % 7, 1 + i % 3, CASE WHEN i % 4 > 0 THEN 'note ' || i END FROM generate_series(1, 30) i;
		INSERT INTO stages SELECT i, 1 + i % 25, 'stage ' || i, i % 5 FROM generate_series(1, 120) i;
		INSERT INTO guides SELECT i, 'guide ' || i, date '2030-01-01' + i FROM generate_series(1, 9) i;
		INSERT INTO guided SELECT 1 + i % 28, 1 + i % 9 FROM generate_series(1, 80) i ON CONFLICT DO NOTHING`)
	p, link := counted(t, url)
	const (
		region = "region: { one: regions, on: { id: region_id }, fields: [%s] }"
		stages = "stages: { many: stages, on: { trail_id: id }, fields: [%s], order: %s }"
		guides = "guides: { many: guides, through: { table: guided, on: { trail_id: id }, to: { id: guide_id } }, fields: [%s] }"
	)
	trees := make([]*shape.Tree, 0, 7)
	for i, d := range []string{
		"fields: [name, length], related: { " + fmt.Sprintf(region+", "+stages+", "+guides, "name", "name", "id", "name") + " }",
		"fields: [note, name], related: { " + fmt.Sprintf(region+", "+stages+", "+guides, "code, name", "steep, name", "id", "since, name") + " }",
		`fields: { title: { column: name }, upper: { sql: "upper(name)", type: text } }, related: { ` + fmt.Sprintf(stages, "steep", "steep DESC") + " }",
		"fields: [length], where: length > 2, related: { " + fmt.Sprintf(region+", "+guides, "code", "name, since") + " }",
		"fields: [name, length], related: { " + fmt.Sprintf(region, "code") + " }",
		"fields: [name]",
		`fields: { broken: { sql: "10 / (length - 3)", type: integer } }`, // for some rows
	} {
		s, _, findings := compile(t, p, fmt.Sprintf("  trails%d: { engine: e, rows: s.trails, %s }", i, d))
		if len(findings) > 0 {
			t.Fatal(d, findings)
		}
		trees = append(trees, s.Trees[0])
	}
	read := func(ctx context.Context, tree *shape.Tree, keys [][]string) (string, error) {
		set := document.NewSet(tree)
		if err := p.ReadKeys(ctx, set, keys); err != nil {
			return "", err
		}
		found := make([]string, set.Rows(0).Len())
		for row := range found {
			found[row] = string(set.Append(set.AppendKey(nil, row), row))
		}
		return strings.Join(slices.Sorted(slices.Values(found)), "\n"), nil
	}
	together := func(ctx func(i int) context.Context, trees []*shape.Tree, keys [][]string) ([]string, []error) {
		docs, errs := make([]string, len(trees)), make([]error, len(trees))
		var wg sync.WaitGroup
		for i, tree := range trees {
			wg.Go(func() { docs[i], errs[i] = read(ctx(i), tree, keys) })
		}
		wg.Wait()
		return docs, errs
	}
	lasting := func(int) context.Context { return t.Context() }

	defer func(d time.Duration) { coalesce.JoinWithin = d }(coalesce.JoinWithin)
	sound := trees[:6]
	for _, coalesce.JoinWithin = range []time.Duration{100 * time.Millisecond, 10 * time.Second} { // they know each other, then
		for range 3 { // the connection knows the plans
			if _, errs := together(lasting, sound, [][]string{{"4"}}); errors.Join(errs...) != nil {
				t.Fatal(errs)
			}
		}
	}
	before := link.Turns()
	docs, errs := together(lasting, sound, [][]string{{"4"}})
	if took := link.Turns() - before; took > 2 {
		t.Errorf("6 indexes took %d round trips for the rows of a document, %v", took, errs)
	}
	if !strings.Contains(docs[0], "trail 4") || !strings.Contains(docs[1], "note") && !strings.Contains(docs[1], "null") {
		t.Errorf("%q %v", docs, errs)
	}
	reader := p.Reader.(*Reader)
	parts := []*coalesce.Part{{Set: document.NewSet(trees[0])}, {Set: document.NewSet(trees[1])}}
	for _, part := range parts {
		part.Level = reader.byKeys(part.Set.Tree(), [][]string{{"4"}, {"5"}})
	}
	if statements := coalesce.Merge(parts); len(statements) != 3 { // trails, stages, guides
		t.Errorf("%d statements for the same three tables", len(statements))
	}

	coalesce.JoinWithin = time.Millisecond
	random := rand.New(rand.NewPCG(uint64(time.Now().UnixNano()), 0))
	failed, canceled := 0, 0
	for round := range 150 {
		keys := make([][]string, 1+random.IntN(5))
		for i := range keys {
			keys[i] = []string{fmt.Sprint(1 + random.IntN(32))}
		}
		reading := append([]*shape.Tree{}, trees[:min(7, 2+random.IntN(8))]...)
		random.Shuffle(len(reading), func(i, j int) { reading[i], reading[j] = reading[j], reading[i] })
		hasty, patience := random.IntN(3*len(reading)), time.Duration(random.IntN(2000))*time.Microsecond
		soon, stop := context.WithTimeout(t.Context(), patience)
		docs, errs := together(func(i int) context.Context {
			if i == hasty {
				return soon
			}
			return t.Context()
		}, reading, keys)
		stop()
		for i, tree := range reading {
			alone, err := read(t.Context(), tree, keys)
			switch {
			case i == hasty && errs[i] != nil:
				canceled++
			case source.FaultOf(err) != source.FaultOf(errs[i]) || (err == nil) != (errs[i] == nil):
				t.Fatalf("round %d: %s failed with %v, alone with %v", round, tree.Index, errs[i], err)
			case docs[i] != alone:
				t.Fatalf("round %d: %s is\n%s\nand alone\n%s", round, tree.Index, docs[i], alone)
			case err != nil:
				failed++
			}
		}
	}
	t.Logf("%d reads failed, %d were given up", failed, canceled)
	if failed == 0 || canceled == 0 {
		t.Error("too little happened")
	}
}

// An index that waits for a table which another one does not read holds that one up once, not for as long as it waits.
func TestAnIndexThatWaitsHoldsUpNoOther(t *testing.T) {
	url := pgtest.URL(t)
	db := pgtest.Connect(t, url)
	pgtest.Exec(t, db, `CREATE TABLE regions (id int PRIMARY KEY, name text); CREATE TABLE trails (id int PRIMARY KEY, name text, region_id int);
		INSERT INTO trails SELECT i, 'trail ' || i, 1 FROM generate_series(1, 9) i`)
	p := open(t, url)
	trees := make([]*shape.Tree, 2)
	for i, related := range []string{"region: { one: regions, on: { id: region_id }, fields: [name] }", ""} {
		s, _, findings := compile(t, p, fmt.Sprintf("  trails%d: { engine: e, rows: s.trails, fields: [name], related: { %s } }", i, related))
		if len(findings) > 0 {
			t.Fatal(findings)
		}
		trees[i] = s.Trees[0]
	}
	read := func() (took [2]time.Duration, errs [2]error) {
		var wg sync.WaitGroup
		for i, tree := range trees {
			wg.Go(func() {
				began := time.Now()
				errs[i] = p.ReadKeys(t.Context(), document.NewSet(tree), [][]string{{"4"}})
				took[i] = time.Since(began)
			})
		}
		wg.Wait()
		return took, errs
	}
	defer func(d time.Duration) { coalesce.JoinWithin = d }(coalesce.JoinWithin)
	coalesce.JoinWithin = 100 * time.Millisecond
	for range 2 {
		if _, errs := read(); errors.Join(errs[:]...) != nil {
			t.Fatal(errs)
		}
	}
	locker := pgtest.Connect(t, url)
	pgtest.Exec(t, locker, "BEGIN; LOCK TABLE regions")
	if took, errs := read(); errs[0] == nil || errs[1] != nil || took[1] < time.Second {
		t.Fatalf("they were not read together: %v, %v", took, errs)
	}
	if took, errs := read(); errs[0] == nil || errs[1] != nil || took[1] > time.Second {
		t.Errorf("the other one was held up for %v again, %v", took[1], errs)
	}
}
