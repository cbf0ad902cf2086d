package intake

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"reflect"
	"testing"
	"time"

	"pingo/internal/lab/pgtest"
	"pingo/internal/records"
	"pingo/internal/source"
)

func TestMain(m *testing.M) { pgtest.Main(m) }

func open(t *testing.T) *Store {
	t.Helper()
	url := pgtest.URL(t)
	r, err := records.Open(t.Context(), url)
	if err != nil {
		t.Fatal(err)
	}
	r.Close()
	s, err := Open(url, "conditions", []Record{{Name: "bulletins"}}, 5*time.Second)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Close)
	return s
}

// body reads the body of a record; nil when it is deleted or was never there.
func (s *Store) body(t *testing.T, key string) any {
	t.Helper()
	var text *string
	if err := s.pool.QueryRow(t.Context(), "SELECT (SELECT body::text FROM "+quote(s.schema, "bulletins")+" WHERE key = $1)", key).Scan(&text); err != nil {
		t.Fatal(err)
	}
	if text == nil {
		return nil
	}
	var out any
	if err := json.Unmarshal([]byte(*text), &out); err != nil {
		t.Fatal(err)
	}
	return out
}

func (s *Store) accept(t *testing.T, events ...Event) []source.Receipt {
	t.Helper()
	receipts, err := s.Accept(t.Context(), "", events)
	if err != nil {
		t.Fatal(err)
	}
	return receipts
}

// apply is what an event does to a body when events come in their order.
func apply(body any, e Event) any {
	var given any
	if e.Op != Deleted {
		if err := json.Unmarshal(e.Body, &given); err != nil {
			panic(err)
		}
	}
	if e.Op != Merged {
		return given
	}
	return patch(body, given)
}

func patch(target, given any) any {
	changes, is := given.(map[string]any)
	if !is {
		return given
	}
	out := map[string]any{}
	if object, is := target.(map[string]any); is {
		for k, v := range object {
			out[k] = v
		}
	}
	for k, v := range changes {
		if v == nil {
			delete(out, k)
		} else {
			out[k] = patch(out[k], v)
		}
	}
	return out
}

// Events with versions make the same record in whatever order they arrive, and however often: each part of it is that of
// the newest event that has it.
func TestEventsInAnyOrder(t *testing.T) {
	s := open(t)
	seed := rand.Uint64()
	rng := rand.New(rand.NewPCG(seed, 1))
	value := func() string {
		return []string{"1", `"x"`, "null", "[1, 2]", `{"e": 1}`, `{"e": null, "f": {"g": 2}}`, "{}", `{"f": 3}`}[rng.IntN(8)]
	}
	for n := range 150 {
		key := fmt.Sprint("k", n)
		var events []Event
		var want any
		for v := range 2 + rng.IntN(6) {
			e := Event{Record: "bulletins", Key: key, ID: fmt.Sprint(n, " ", v), Version: fmt.Sprint(100 + v), Op: Merged}
			e.Body = []byte(fmt.Sprintf(`{"%c": %s, "%c": %s}`, 'a'+rng.IntN(3), value(), 'd'+rng.IntN(2), value()))
			switch rng.IntN(8) {
			case 0:
				e.Op = Updated
			case 1:
				e.Op, e.Body = Deleted, nil
			}
			if v == 0 && rng.IntN(2) == 0 {
				e.Op, e.Body = Created, []byte(`{"a": {"b": {"c": 1}}, "d": {"e": 5}}`)
			}
			events, want = append(events, e), apply(want, e)
		}
		order := rng.Perm(len(events))
		for range 3 { // some come again
			order = append(order, rng.IntN(len(events)))
		}
		var told []string
		for _, i := range order {
			r := s.accept(t, events[i])
			told = append(told, fmt.Sprintf("%s %s %s: %s", events[i].Version, events[i].Op, events[i].Body, r[0].Outcome))
		}
		if got := s.body(t, key); !reflect.DeepEqual(got, want) {
			t.Fatalf("seed %d, record %d:\n%q\n got %v\nwant %v", seed, n, told, got, want)
		}
	}
}

// Events of one version are taken in the order in which they arrive, and one that arrives again steps nothing back.
func TestEventsOfOneVersion(t *testing.T) {
	s := open(t)
	for _, ids := range [][2]string{{"a", "b"}, {"", ""}} {
		key := "of " + ids[0]
		one := Event{Record: "bulletins", Key: key, ID: ids[0], Version: "5", Op: Updated, Body: []byte(`{"n": 1}`)}
		two := Event{Record: "bulletins", Key: key, ID: ids[1], Version: "5", Op: Updated, Body: []byte(`{"n": 2}`)}
		for i, step := range []struct {
			e    Event
			want source.Outcome
			n    float64
		}{{one, source.Accepted, 1}, {one, source.Old, 1}, {two, source.Accepted, 2}, {one, source.Old, 2}, {two, source.Old, 2}} {
			r := s.accept(t, step.e)
			if got := s.body(t, key); r[0].Outcome != step.want || !reflect.DeepEqual(got, map[string]any{"n": step.n}) {
				t.Errorf("ids %q, step %d: %s, %v", ids, i, r[0].Outcome, got)
			}
		}
	}
}

// A record of many patches does not grow without bound.
func TestPatchesAreBounded(t *testing.T) {
	s := open(t)
	for v := range 500 {
		s.accept(t, Event{Record: "bulletins", Key: "k", ID: fmt.Sprint(v), Version: fmt.Sprint(v), Op: Merged, Body: []byte(fmt.Sprintf(`{"f%d": 1, "f%d": null}`, v, v-3))})
	}
	var stamps, seen int
	err := s.pool.QueryRow(t.Context(), "SELECT (SELECT count(*) FROM jsonb_object_keys(stamps)), cardinality(seen) FROM "+quote(s.schema, "bulletins")).Scan(&stamps, &seen)
	if err != nil || stamps > 201 || seen > remembered {
		t.Errorf("%d stamps, %d events seen, %v", stamps, seen, err)
	}
	if got := s.body(t, "k"); !reflect.DeepEqual(got, map[string]any{"f497": 1.0, "f498": 1.0, "f499": 1.0}) {
		t.Error(got)
	}
}
