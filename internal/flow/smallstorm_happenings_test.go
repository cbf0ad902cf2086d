package flow_test

import (
	"context"
	"fmt"
	"strconv"
	"strings"
	"sync"
	"time"

	"pingo/internal/lab/tiny"
	"pingo/internal/records"
)

// happening is something that happens now and then, as often as its weight says.
type happening struct {
	weight int
	do     func(work *sync.WaitGroup)
}

// happenings are what happens in this episode: much of one thing in one, of another in the next.
func (e *episode) happenings() []happening {
	often := func(most int, do func(work *sync.WaitGroup)) happening { return happening{e.random.IntN(most), do} }
	out := []happening{
		{60, e.write},
		{25, func(*sync.WaitGroup) { e.probe(e.any()) }},
		often(15, func(*sync.WaitGroup) {
			name, db := e.some()
			db.Truncate("huts")
			e.look("truncated huts of " + name)
		}),
		often(10, func(*sync.WaitGroup) {
			if p := e.any(); p.service == nil {
				e.start(p)
			} else {
				e.kill(p)
			}
		}),
		often(10, e.pause),
		often(8, func(*sync.WaitGroup) {
			if p := e.any(); p.service != nil {
				peer := []string{"records", "source", "engine"}[e.random.IntN(3)]
				d := time.Duration(e.random.Int64N(int64(cutMost)))
				e.tell("process %d does not reach the %s for %v", p.number, peer, d)
				p.Cut(peer, d)
			}
		}),
		{2, func(*sync.WaitGroup) { e.decide() }},
		often(6, func(*sync.WaitGroup) { e.rollBack() }),
		often(2, func(*sync.WaitGroup) { e.drop() }),
		often(12, func(*sync.WaitGroup) { e.reindex([]string{"huts", "beds", "trails"}[e.random.IntN(3)]) }),
	}
	if _, there := e.indexes["places"]; there {
		out = append(out, happening{4, func(*sync.WaitGroup) { e.reindex("places") }})
	}
	if e.restored == "" {
		out = append(out, often(3, e.restoreEngine))
	}
	switch e.restored {
	case "source":
		out = append(out, happening{1, e.restoreSource})
	case "records":
		out = append(out, happening{1, e.restoreRecords})
	}
	return out
}

// step lets some time pass, and something happen.
func (e *episode) step(happenings []happening, work *sync.WaitGroup) {
	time.Sleep(time.Duration(e.random.Int64N(int64(300 * time.Millisecond))))
	all := 0
	for _, h := range happenings {
		all += h.weight
	}
	n := e.random.IntN(all)
	for _, h := range happenings {
		if n -= h.weight; n < 0 {
			h.do(work)
			return
		}
	}
}

func (e *episode) pause(work *sync.WaitGroup) {
	p := e.any()
	if p.service == nil {
		return
	}
	d := time.Duration(e.random.Int64N(int64(12 * time.Second)))
	e.tell("process %d is paused for %v", p.number, d)
	p.Pause()
	paused := p.Process
	work.Go(func() {
		time.Sleep(d)
		paused.Resume()
	})
}

// restoreSource puts a source back to what it is now, in a while.
func (e *episode) restoreSource(work *sync.WaitGroup) {
	name, db := e.some()
	older := db.Copy()
	d := time.Duration(3+e.random.IntN(10)) * time.Second
	work.Go(func() {
		time.Sleep(d)
		then, _ := older.Journal()
		// Where no mark tells, only another line of history does.
		db.Restore(older, !then.Behind(e.records.Claims()[name]))
		e.look(fmt.Sprintf("source %s was put back by %v, to %+v", name, d, then))
	})
}

// restoreEngine puts an engine back to what it is now, in a while, or to what it was before it held anything.
func (e *episode) restoreEngine(work *sync.WaitGroup) {
	name := []string{"main", "side"}[e.random.IntN(2)]
	restore := tiny.Snapshot(e.engines[name])
	if e.random.IntN(3) == 0 {
		restore = e.emptied[name]
	}
	d := time.Duration(e.random.IntN(10)) * time.Second
	work.Go(func() {
		time.Sleep(d)
		restore()
		e.mu.Lock()
		e.forgot = time.Now().Add(cutMost) // a process that does not reach it then does not see it until later
		e.mu.Unlock()
		e.tell("engine %s was put back by %v", name, d)
	})
}

// cutMost is for how long a process may not reach a peer.
const cutMost = 15 * time.Second

// restoreRecords puts the records back to what they are now, in a while.
func (e *episode) restoreRecords(work *sync.WaitGroup) {
	older, claims, claiming := e.records.Copy(), e.records.Claims(), e.records.Claiming()
	d, on := time.Duration(3+e.random.IntN(10))*time.Second, e.random.IntN(2) == 0
	work.Go(func() {
		time.Sleep(d)
		for source, db := range e.sources {
			// A claim that has moved by less than two marks tells no one anything. It is that of the source
			// itself: the records may have been put back meanwhile, to where there was none.
			c, _ := db.Copy().Journal()
			known := c.Epoch <= max(claims[source].Epoch, claiming[source])
			on = on || known && c.Mark < claims[source].Mark+2
		}
		e.records.Restore(older, on)
		e.mu.Lock()
		e.forgot = time.Now()
		e.mu.Unlock()
		e.tell("the records were put back by %v", d)
	})
}

// write changes some rows in a transaction that may take its time, or be rolled back.
func (e *episode) write(work *sync.WaitGroup) {
	name, db := e.some()
	tx := db.Begin()
	var what []string
	for range 1 + e.random.IntN(4) {
		id := e.random.IntN(40)
		key := []string{strconv.Itoa(id)}
		switch n := e.random.IntN(10); {
		case n < 6:
			what = append(what, "write "+key[0])
			tx.Put("huts", key, e.hut(id))
		case n < 8:
			what = append(what, "delete "+key[0])
			tx.Put("huts", key, func(map[string]*string) map[string]*string { return nil })
		default:
			region, n := strconv.Itoa(e.random.IntN(4)), strconv.Itoa(e.random.IntN(100))
			what = append(what, "region "+region)
			tx.Put("regions", []string{region}, func(map[string]*string) map[string]*string {
				return map[string]*string{"id": &region, "n": &n}
			})
		}
	}
	wait := time.Duration(0)
	if e.random.IntN(3) == 0 {
		wait = time.Duration(e.random.Int64N(int64(8 * time.Second)))
	}
	if e.random.IntN(10) == 0 {
		return // rolled back
	}
	work.Go(func() {
		time.Sleep(wait)
		tx.Commit()
		e.look(name + ": " + strings.Join(what, ", "))
	})
}

// decide is a person who says that what is ready is to answer, whatever its gates say.
func (e *episode) decide() {
	for _, r := range e.editions() {
		if done, _ := e.records.Decide(context.Background(), r); done {
			e.tell("%s is to answer", r.Name())
		}
	}
}

// rollBack is a person who has an edition answer again that did before.
func (e *episode) rollBack() {
	list := e.editions()
	r := list[e.random.IntN(len(list))]
	if kept, _ := e.records.Return(context.Background(), r); kept {
		e.tell("%s is to answer again", r.Name())
	}
}

// drop is a person who has a kept edition dropped before its time.
func (e *episode) drop() {
	list := e.editions()
	r := list[e.random.IntN(len(list))]
	if kept, _ := e.records.Drop(context.Background(), r); kept {
		e.tell("%s is to be dropped", r.Name())
	}
}

func (e *episode) reindex(name string) {
	if _, err := e.records.NewEdition(context.Background(), shapes()[name], e.indexes[name].engine, 1, records.Course{}); err != nil {
		e.Fatal(err)
	}
	e.tell("reindex of %s", name)
}
