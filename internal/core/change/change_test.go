package change

import (
	"math/rand/v2"
	"reflect"
	"strconv"
	"testing"
	"time"
)

// A queue hands out each waiting key once, in the order of its first Add, and a
// ticket is done exactly when its last key was taken and closed.
func TestQueueAgainstAPlainList(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 7))
	var q Queue
	var list []string
	finished, made := 0, 0
	open := map[*Ticket]int{}
	settle := func(entries []Entry) {
		for i, e := range entries {
			if e.Key != list[i] {
				t.Fatalf("took %s, want %s", e.Key, list[i])
			}
			for _, ticket := range e.Tickets {
				open[ticket]--
				before := finished
				ticket.Close()
				if (finished > before) != (open[ticket] == 0) {
					t.Fatalf("a ticket with %d keys open, done: %v", open[ticket], finished > before)
				}
			}
		}
		list = list[len(entries):]
	}
	for range 20000 {
		if r.IntN(3) > 0 {
			ticket := NewTicket(time.Time{}, func() { finished++ })
			made++
			for range 1 + r.IntN(3) {
				key := strconv.Itoa(r.IntN(40))
				q.Add(key, ticket)
				open[ticket]++
				known := false
				for _, k := range list {
					known = known || k == key
				}
				if !known {
					list = append(list, key)
				}
			}
			ticket.Close()
		} else {
			settle(q.Take(nil, r.IntN(10)))
		}
		if q.Len() != len(list) {
			t.Fatalf("%d keys wait, want %d", q.Len(), len(list))
		}
	}
	settle(q.Take(nil, q.Len()))
	if finished != made {
		t.Errorf("%d tickets of %d are done", finished, made)
	}
}

func TestValuesBeforeAndAfter(t *testing.T) {
	text := func(s string) *string { return &s }
	c := Change{
		Links:  []string{"hut_id", "kind"},
		Before: []*string{text("1"), nil},
		After:  []*string{text("2"), text("x")},
	}
	for _, want := range []struct {
		links []string
		want  [][]string
	}{{[]string{"hut_id"}, [][]string{{"1"}, {"2"}}}, {[]string{"kind"}, [][]string{{"x"}}}, {[]string{"kind", "hut_id"}, [][]string{{"x", "2"}}}, {[]string{"unknown"}, nil}} {
		if got := c.Values(want.links); !reflect.DeepEqual(got, want.want) {
			t.Errorf("%v: %v", want.links, got)
		}
	}
}

func TestAHotKeyIsSentAFewTimesASecond(t *testing.T) {
	var p Throttle
	now, sent := time.Unix(1000, 0), 0
	for range 3000 { // three seconds of a change each millisecond
		if p.Admit("hot", now) == 0 {
			sent++
		}
		if wait := p.Admit("other"+now.String(), now); wait != 0 {
			t.Fatalf("another key waits %s", wait)
		}
		now = now.Add(time.Millisecond)
	}
	if sent != 3*ThrottleSends {
		t.Errorf("sent %d times", sent)
	}
	p.Admit("hot", now)
	for range ThrottleSends {
		p.Admit("hot", now)
	}
	wait := p.Admit("hot", now)
	if wait <= 0 || wait > time.Second || p.Admit("hot", now.Add(wait)) != 0 {
		t.Errorf("after waiting %s it may not be sent", wait)
	}
}
