package stream

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"pingo/internal/core/change"
	"pingo/internal/core/definition"
	"pingo/internal/core/shape"
	"pingo/internal/engine"
	"pingo/internal/flow/deliver"
	"pingo/internal/kinds"
	"pingo/internal/lab/tiny"
	"pingo/internal/source"
)

// feed gives changes of regions, as many as there are.
type feed struct {
	source.Feed
	mu    sync.Mutex // guards what follows
	next  int64
	most  int64
	taken map[int64]bool
	done  int
	reads int
}

func (f *feed) Changes(_ context.Context, limit int) (out []change.Change, err error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.reads++
	for ; len(out) < limit && f.next < f.most; f.next++ {
		region := fmt.Sprint(f.next)
		f.taken[f.next] = true
		out = append(out, change.Change{
			Seq: f.next, Table: shape.Ref{Name: "regions"}, Op: change.Update, Key: []string{region},
			Links: []string{"id"}, Before: []*string{&region}, After: []*string{&region}, At: time.Now(),
		})
	}
	return out, nil
}

func (f *feed) Done(_ context.Context, seqs []int64) error {
	f.mu.Lock()
	defer f.mu.Unlock()
	for _, seq := range seqs {
		delete(f.taken, seq)
	}
	f.done += len(seqs)
	return nil
}

func (f *feed) Rewind() {}

func (f *feed) InFlight() (int, time.Time) {
	f.mu.Lock()
	defer f.mu.Unlock()
	return len(f.taken), time.Now()
}

// reader walks up from a region to the hut of the same key, or fails.
type reader struct {
	source.Reader
	err error
}

func (r *reader) WalkUp(_ context.Context, _ []shape.Step, tuples [][]string, each func([]string) error) error {
	if r.err != nil {
		return r.err
	}
	for _, t := range tuples {
		if err := each(t); err != nil {
			return err
		}
	}
	return nil
}

// edition settles what it is given immediately.
type edition struct {
	Edition
	ended chan struct{}
	mu    sync.Mutex // guards keys
	keys  map[string]bool
}

func (e *edition) Rows() int64 { return 0 }

func (e *edition) Add(_ context.Context, key string, _ *change.Ticket, _ deliver.Line) error {
	e.mu.Lock()
	defer e.mu.Unlock()
	e.keys[key] = true
	return nil
}

func (e *edition) Until(ctx context.Context, do func() error) error {
	for do() != nil {
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(time.Second):
		}
	}
	return nil
}

func (e *edition) Ended() <-chan struct{} { return e.ended }

// Of a bare change only the row's key is known. Where that says what the row belongs to, it is
// followed also when the row is gone; else from where the row is now.
func TestBareChangesAreFollowed(t *testing.T) {
	db := tiny.NewDatabase()
	db.Create("regions", []string{"id"}, "id integer", "land integer")
	db.Create("huts", []string{"id"}, "id integer", "region integer")
	db.Create("beds", []string{"hut", "no"}, "hut integer", "no integer")
	db.Create("notes", []string{"id"}, "id integer", "hut integer")
	put := func(table string, row map[string]string) {
		tx := db.Begin()
		tx.Put(table, nil, func(map[string]*string) map[string]*string {
			out := map[string]*string{}
			for name, v := range row {
				out[name] = &v
			}
			return out
		})
		tx.Commit()
	}
	put("huts", map[string]string{"id": "7", "region": "3"})
	put("notes", map[string]string{"id": "1", "hut": "7"})
	kinds := kinds.Set{Sources: []source.Kind{db.SourceKind()}, Engines: []engine.Kind{tiny.EngineKind()}}
	def, findings := definition.Parse([]definition.File{{Name: "d.yaml", Text: `
sources: { lodge: { kind: tiny, url: "tiny://lodge" } }
engines: { main: { kind: tiny, url: "tiny://main" } }
indexes:
  huts:
    engine: main
    rows: lodge.huts
    fields: [id]
    related:
      region: { one: regions, on: { id: region }, fields: [land] }
      beds: { many: beds, on: { hut: id }, list: no }
      notes: { many: notes, on: { hut: id }, list: id }
`}}, kinds.Language(), nil)
	if len(findings) > 0 {
		t.Fatal(findings)
	}
	s, findings, err := source.Compile(t.Context(), def.Indexes[0], source.Only(db.Open()))
	if err != nil || len(findings) > 0 {
		t.Fatal(findings, err)
	}
	for _, c := range []struct {
		table string
		key   []string
		want  bool
	}{
		{"regions", []string{"3"}, true}, {"beds", []string{"7", "2"}, true}, // there is none any longer
		{"notes", []string{"1"}, true}, {"notes", []string{"2"}, false}, // no one knows where that was
	} {
		e := &edition{keys: map[string]bool{}, ended: make(chan struct{})}
		f := NewFollower(Options{Edition: e, Name: "huts-e1", Shape: s, Source: "lodge", Reader: db.Open()})
		ctx, stop := context.WithCancel(t.Context())
		running := make(chan struct{})
		go func() { defer close(running); f.Run(ctx) }()
		gone := change.Change{Table: shape.Ref{Name: c.table}, Op: change.Delete, Key: c.key, Bare: true}
		ticket := change.NewTicket(time.Now(), func() {})
		if err := f.follow(ctx, []change.Change{gone}, []*change.Ticket{ticket}); err != nil {
			t.Fatal(err)
		}
		if err := f.idle(ctx); err != nil {
			t.Fatal(err)
		}
		stop()
		<-running
		if e.keys["7"] != c.want || len(e.keys) > 1 {
			t.Errorf("%s %v: %v", c.table, c.key, e.keys)
		}
	}
}

// hutsOfRegions is the shape of huts with their region, and more nodes.
func hutsOfRegions(more ...*shape.Node) *shape.Shape {
	hut := &shape.Node{
		ID:       0,
		Parent:   -1,
		Table:    shape.Ref{Name: "huts"},
		Key:      []string{"id"},
		Children: []int{1},
		Columns:  []shape.Column{{Name: "id"}, {Name: "region_id"}},
	}
	region := &shape.Node{
		ID:     1,
		Parent: 0,
		Name:   "region",
		Table:  shape.Ref{Name: "regions"},
		Key:    []string{"id"}, Columns: []shape.Column{{Name: "id"}},
		Link: &shape.Link{Theirs: []string{"id"}, Ours: []string{"region_id"}, OursAt: []int{1}},
	}
	nodes := append([]*shape.Node{hut, region}, more...)
	return &shape.Shape{Index: "huts", Source: "lodge", Trees: []*shape.Tree{{Index: "huts", Nodes: nodes}}}
}

// An edition that cannot follow its changes does not hold up the others for ever: once too many
// are in flight it is recorded that it lacks some, and only then are they given up.
func TestAStuckEditionHoldsUpNoOther(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		one := hutsOfRegions()
		several := hutsOfRegions(&shape.Node{ID: 2, Parent: 0, Source: "paths"})
		f := &feed{most: 500, taken: map[int64]bool{}}
		st := New("lodge", &source.Source{Reader: &reader{}, Feed: f}, slog.New(slog.DiscardHandler))
		st.maxInFlight = 100
		var mu sync.Mutex // guards what follows
		var missed []string
		record := errors.New("the records do not answer")
		follower := func(name string, s *shape.Shape, r *reader) (*Follower, *edition) {
			e := &edition{keys: map[string]bool{}, ended: make(chan struct{})}
			x := NewFollower(Options{
				Edition: e, Name: name, Shape: s, Source: "lodge", Reader: r,
				Missed: func(_ context.Context, reason string) error {
					mu.Lock()
					defer mu.Unlock()
					if record != nil {
						return record
					}
					missed = append(missed, name+": "+reason)
					return nil
				},
			})
			st.Add(x)
			return x, e
		}
		well, wellEdition := follower("well", one, &reader{})
		stuck, _ := follower(
			"stuck", one,
			&reader{err: &source.Error{Fault: source.SchemaChanged, Err: errors.New("no column region_id")}},
		)
		refused := errors.New("connection refused")
		away, _ := follower("away", one, &reader{err: refused})
		apart, _ := follower("apart", several, &reader{err: refused})
		ctx, stop := context.WithCancel(t.Context())
		var work sync.WaitGroup
		for _, run := range []func(context.Context){well.Run, stuck.Run, away.Run, apart.Run, st.Run} {
			work.Go(func() { run(ctx) })
		}
		count := func() (keys, done int) {
			synctest.Wait()
			wellEdition.mu.Lock()
			defer wellEdition.mu.Unlock()
			f.mu.Lock()
			defer f.mu.Unlock()
			return len(wellEdition.keys), f.done
		}
		said := func() []string {
			mu.Lock()
			defer mu.Unlock()
			return slices.Clone(missed)
		}
		time.Sleep(time.Minute)
		if keys, done := count(); keys != 100 || done != 0 || len(said()) > 0 {
			t.Errorf("while nothing can be recorded: %d keys, %d done, missed %v", keys, done, said())
		}
		mu.Lock()
		record = nil
		mu.Unlock()
		time.Sleep(time.Minute)
		if keys, done := count(); keys != 100 || done != 0 || fmt.Sprint(said()) != "[stuck: no column region_id "+
			"apart: changes of one source cannot be followed into another: connection refused]" {
			t.Errorf("while the source itself is away: %d keys, %d done, missed %v", keys, done, said())
		}
		st.Remove(away)
		away.giveUp()
		time.Sleep(time.Minute)
		if keys, done := count(); keys != 500 || done != 500 || len(said()) != 2 {
			t.Errorf("in the end: %d keys, %d done, missed %v", keys, done, said())
		}
		stop()
		work.Wait()
	})
}

// Changes that come one after the other are taken together for a part of the lag that is aimed at, so that fewer reads and
// fewer removals carry as many; many that wait are read without a pause.
func TestChangesAreGathered(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		for _, c := range []struct {
			lag       time.Duration
			each      int64 // changes that come every two milliseconds
			atOnce    time.Duration
			mostReads int
		}{
			{10 * time.Millisecond, 1, 5 * time.Millisecond, 210},
			{50 * time.Millisecond, 1, 15 * time.Millisecond, 70},
			{time.Second, 1, 300 * time.Millisecond, 12},
			{time.Second, 500, 300 * time.Millisecond, 210},
		} {
			f := &feed{taken: map[int64]bool{}}
			st := New("lodge", &source.Source{Reader: &reader{}, Feed: f}, slog.New(slog.DiscardHandler))
			st.TargetLag = func() time.Duration { return c.lag }
			ctx, stop := context.WithCancel(t.Context())
			var work sync.WaitGroup
			work.Go(func() { st.Run(ctx) })
			unread := func() int64 {
				f.mu.Lock()
				defer f.mu.Unlock()
				return f.most - f.next
			}
			most := int64(0)
			for began := time.Now(); time.Since(began) < time.Second; time.Sleep(2 * time.Millisecond) {
				f.mu.Lock()
				f.most += c.each
				f.mu.Unlock()
				most = max(most, unread())
			}
			time.Sleep(c.lag)
			synctest.Wait()
			f.mu.Lock()
			reads, left, done := f.reads, f.most-f.next, f.done
			f.mu.Unlock()
			// One that came just after a read waits until the next.
			if longest := time.Duration(most/c.each) * 2 * time.Millisecond; longest > c.atOnce+2*time.Millisecond || reads > c.mostReads || left > 0 || done == 0 {
				t.Errorf("%v, %d each: %d reads, the longest wait %v, %d left, %d done", c.lag, c.each, reads, longest, left, done)
			}
			stop()
			work.Wait()
		}
	})
}

// holding is an engine of one document, which arrives late.
type holding struct {
	engine.Engine
	arrives time.Time
}

func (h *holding) Scan(_ context.Context, _ string, each func(key, fingerprint string) error) error {
	if time.Now().Before(h.arrives) {
		return nil
	}
	return each("7", "")
}

// taken is an edition that another process fed a moment ago.
type taken struct{ edition }

func (e *taken) DropChunks(int)                {}
func (e *taken) Barrier(context.Context) error { return nil }
func (e *taken) Arrived(context.Context) error { return nil }

func (r *reader) Keys(context.Context, *shape.Tree, []string, []string, func([]string) error) error {
	return nil
}

// A change that leads through too many rows of one source into another has all documents built.
func TestAWalkThatIsTooWide(t *testing.T) {
	e := &taken{edition{keys: map[string]bool{}, ended: make(chan struct{})}}
	tooWide := &reader{err: fmt.Errorf("source paths: %w", source.ErrTooWide)}
	f := NewFollower(Options{
		Edition: e, Name: "huts-e1", Shape: hutsOfRegions(), Source: "lodge", Reader: tooWide, Engine: &holding{},
	})
	var work sync.WaitGroup
	ctx, stop := context.WithCancel(t.Context())
	work.Go(func() { f.Run(ctx) })
	changes, err := (&feed{most: 1, taken: map[int64]bool{}}).Changes(ctx, 1)
	if err != nil {
		t.Fatal(err)
	}
	if err := f.follow(ctx, changes, []*change.Ticket{change.NewTicket(time.Now(), func() {})}); err != nil {
		t.Fatal(err)
	}
	if err := f.idle(ctx); err != nil {
		t.Fatal(err)
	}
	if !e.keys["7"] { // which the engine has
		t.Errorf("%v", e.keys)
	}
	stop()
	work.Wait()
}

// A document that a process sent before it was gone, and that arrives after its table was truncated,
// is not left in the engine.
func TestWhatArrivesAfterATruncateIsFound(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		huts := shape.Ref{Name: "huts"}
		s := &shape.Shape{Index: "huts", Source: "lodge", Trees: []*shape.Tree{{Index: "huts", Nodes: []*shape.Node{
			{Parent: -1, Table: huts, Key: []string{"id"}, Columns: []shape.Column{{Name: "id"}}},
		}}}}
		began := time.Now()
		e := &taken{edition{keys: map[string]bool{}, ended: make(chan struct{})}}
		f := NewFollower(Options{
			Edition: e, Name: "huts-e1", Shape: s, Source: "lodge", Reader: &reader{},
			Engine: &holding{arrives: began.Add(20 * time.Second)}, OnlyFeederSince: began,
		})
		ctx, stop := context.WithCancel(t.Context())
		var work sync.WaitGroup
		work.Go(func() { f.Run(ctx) })
		var done time.Duration
		ticket := change.NewTicket(began, func() { done = time.Since(began) })
		truncate := change.Change{Table: huts, Op: change.Truncate, At: began}
		if err := f.follow(ctx, []change.Change{truncate}, []*change.Ticket{ticket}); err != nil {
			t.Fatal(err)
		}
		ticket.Close()
		if err := f.idle(ctx); err != nil {
			t.Fatal(err)
		}
		if !e.keys["7"] || done != lateArrival {
			t.Errorf("%v, done after %s", e.keys, done)
		}
		stop()
		work.Wait()
	})
}

// The journal's warning says by how much clocks differ, and which is ahead. A slow answer is no difference.
func TestClocksThatDiffer(t *testing.T) {
	now := time.Now()
	for _, c := range []struct {
		clock time.Time
		says  string
	}{
		{time.Time{}, ""},
		{now, ""},
		{now.Add(20 * time.Second), ""}, // it was read while the answer was waited for
		{now.Add(-time.Hour), "the clock of the database is 1h0m0s behind that of Pingo"},
		{now.Add(time.Hour + 30*time.Second), "the clock of the database is 1h0m0s ahead of that of Pingo"},
	} {
		var j Journal
		j.took(source.Depth{Clock: c.clock}, Ahead(c.clock, now, now.Add(30*time.Second)), 1<<30, true, slog.New(slog.DiscardHandler))
		if got := j.Get().Warning; c.says == "" && got != "" || !strings.Contains(got, c.says) {
			t.Errorf("%v: %q", c.clock.Sub(now), got)
		}
	}
}
