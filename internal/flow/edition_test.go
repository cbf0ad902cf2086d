package flow

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/jackc/pgx/v5/pgconn"

	"pingo/internal/core/change"
	"pingo/internal/core/document"
	"pingo/internal/core/fill"
	"pingo/internal/core/retry"
	"pingo/internal/core/shape"
	"pingo/internal/engine"
	"pingo/internal/engine/wire"
	"pingo/internal/lab/pgtest"
	"pingo/internal/records"
	"pingo/internal/source"
)

func TestMain(m *testing.M) { pgtest.Main(m) }

var plain = &shape.Shape{Index: "huts", Source: "lodge", Trees: []*shape.Tree{{Index: "huts", Nodes: []*shape.Node{{ID: 0, Parent: -1, Table: shape.Ref{Schema: "public", Name: "huts"}, Key: []string{"id"},
	Columns: []shape.Column{{Name: "id"}, {Name: "n"}}, Fields: []shape.Field{{Name: "n", At: 1, Type: shape.Integer}}}}}}}

// table is a source of one table in memory. What a read yields for a row is the
// moment of the read, so that an older read can be told from a newer one.
type table struct {
	source.Source
	mu    sync.Mutex
	rows  map[string]bool
	clock atomic.Int64
	slow  time.Duration           // between reading rows and having them
	still func(key string) string // what a read yields instead of its moment
	fail  func(keys []string) error
}

func (s *table) read(set *document.Set, keys []string) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.fail != nil {
		if err := s.fail(keys); err != nil {
			return err
		}
	}
	now := []byte(strconv.FormatInt(s.clock.Add(1), 10))
	for _, k := range keys {
		if s.rows[k] {
			if s.still != nil {
				now = []byte(s.still(k))
			}
			set.Rows(0).Add([][]byte{[]byte(k), now})
		}
	}
	return nil
}

func (s *table) ReadKeys(_ context.Context, set *document.Set, keys [][]string) error {
	flat := make([]string, len(keys))
	for i, k := range keys {
		flat[i] = k[0]
	}
	return s.read(set, flat)
}

func (s *table) between(after, upto []string) []string {
	s.mu.Lock()
	defer s.mu.Unlock()
	var out []string
	for k := range s.rows {
		if (after == nil || k > after[0]) && (upto == nil || k <= upto[0]) {
			out = append(out, k)
		}
	}
	slices.Sort(out)
	return out
}

func (s *table) ReadRange(_ context.Context, set *document.Set, after, upto []string) error {
	err := s.read(set, s.between(after, upto))
	time.Sleep(s.slow)
	return err
}

func (s *table) ChunkEnd(_ context.Context, _ *shape.Tree, after []string, rows int) ([]string, error) {
	if left := s.between(after, nil); len(left) >= rows {
		return []string{left[rows-1]}, nil
	}
	return nil, nil
}

func (s *table) Keys(_ context.Context, _ *shape.Tree, after, upto []string, each func([]string) error) error {
	for _, k := range s.between(after, upto) {
		if err := each([]string{k}); err != nil {
			return err
		}
	}
	return nil
}

func (s *table) Count(context.Context, *shape.Tree) (int64, error) {
	return int64(len(s.between(nil, nil))), nil
}

// memory is an engine without versions: what comes last stays, so that it shows
// whether the flow alone keeps the order.
type memory struct {
	engine.Engine
	mu      sync.Mutex
	stored  map[string]int64
	busy    map[string]bool // keys of requests under way
	wrong   []string
	slow    func() time.Duration
	deliver func(docs []wire.Document) ([]wire.Result, error) // nil, nil: as usual
	name    string
}

func (m *memory) Deliver(_ context.Context, _ string, docs []wire.Document) ([]wire.Result, error) {
	m.mu.Lock()
	for _, d := range docs {
		if m.busy[d.Key] {
			m.wrong = append(m.wrong, d.Key+" is in two requests at once")
		}
		m.busy[d.Key] = true
	}
	m.mu.Unlock()
	if m.slow != nil {
		time.Sleep(m.slow())
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	for _, d := range docs {
		delete(m.busy, d.Key)
	}
	if m.deliver != nil {
		if results, err := m.deliver(docs); results != nil || err != nil {
			return results, err
		}
	}
	for _, d := range docs {
		m.put(d)
	}
	return make([]wire.Result, len(docs)), nil
}

func (m *memory) put(d wire.Document) {
	if d.Body == nil {
		delete(m.stored, d.Key)
		return
	}
	var body struct{ N int64 }
	if err := json.Unmarshal(d.Body, &body); err != nil {
		m.wrong = append(m.wrong, err.Error())
	}
	if body.N < m.stored[d.Key] {
		m.wrong = append(m.wrong, fmt.Sprintf("%s stepped back from read %d to %d", d.Key, m.stored[d.Key], body.N))
	}
	m.stored[d.Key] = body.N
}

func (m *memory) Prepare(context.Context, string, *shape.Shape) error { return nil }
func (m *memory) Filled(context.Context, string, *shape.Shape) error  { return nil }
func (m *memory) Switch(_ context.Context, name, edition string) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.name = edition
	return nil
}
func (m *memory) Count(context.Context, string) (int64, error) { return 0, errors.New("not counted") }

type rig struct {
	t      *testing.T
	source *table
	engine *memory
	flow   *editionFlow
	rec    *records.Records
}

func newRig(t *testing.T, rows int) *rig {
	t.Helper()
	rec, err := records.Open(t.Context(), pgtest.URL(t))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { rec.Close() })
	version, err := rec.Apply(t.Context(), nil, "test")
	if err != nil {
		t.Fatal(err)
	}
	record, err := rec.NewEdition(t.Context(), plain, "main", version)
	if err != nil {
		t.Fatal(err)
	}
	r := &rig{t: t, rec: rec, source: &table{rows: map[string]bool{}}, engine: &memory{stored: map[string]int64{}, busy: map[string]bool{}}}
	for i := range rows {
		r.source.rows[fmt.Sprintf("k%05d", i)] = true
	}
	lease, err := rec.Take(t.Context(), "lodge", "test")
	if err != nil || lease == nil {
		t.Fatal(err)
	}
	h := &holding{lease: lease, cancel: func() {}}
	keeping := time.NewTicker(time.Second)
	t.Cleanup(keeping.Stop)
	go func() {
		for range keeping.C {
			if lease.Renew(t.Context(), []byte("{}")) != nil {
				return
			}
		}
	}()
	record.Epoch = lease.Epoch
	r.flow = newEditionFlow(record, r.source, r.engine, newGate(), rec, h, slog.New(slog.DiscardHandler))
	return r
}

func (r *rig) run() {
	ctx, stop := context.WithCancel(context.Background())
	ended := make(chan struct{})
	go func() { r.flow.run(ctx); close(ended) }()
	r.t.Cleanup(func() { stop(); <-ended })
}

// change makes keys wait for delivery, and returns a channel that closes when all
// of them are settled.
func (r *rig) change(keys ...string) chan struct{} {
	settled := make(chan struct{})
	ticket := change.NewTicket(time.Now(), func() { close(settled) })
	for _, k := range keys {
		if err := r.flow.add(context.Background(), k, ticket, fresh); err != nil {
			r.t.Error(err)
		}
	}
	ticket.Close()
	return settled
}

func (r *rig) within(what string, done <-chan struct{}) {
	r.t.Helper()
	select {
	case <-done:
	case <-time.After(20 * time.Second):
		r.t.Fatalf("%s: not within 20 seconds; trouble: %+v", what, r.flow.trouble.get())
	}
}

// A fill and a stream race for the same documents, on an engine that keeps whatever
// comes last: no document ever steps back, none is in two requests, and in the end
// everything is there.
func TestFillAndStreamNeverStepBack(t *testing.T) {
	r := newRig(t, 3000)
	random := rand.New(rand.NewPCG(4, 4))
	r.source.slow = 15 * time.Millisecond
	var mu sync.Mutex
	r.engine.slow = func() time.Duration {
		mu.Lock()
		defer mu.Unlock()
		return time.Duration(random.IntN(6)) * time.Millisecond
	}
	r.run()
	filled := make(chan struct{})
	go func() {
		defer close(filled)
		if err := r.flow.fill(t.Context(), func(context.Context) error { return nil }); err != nil {
			t.Error(err)
		}
	}()
	own := rand.New(rand.NewPCG(5, 5))
	var waits []chan struct{}
	for streaming := true; streaming; {
		select {
		case <-filled:
			streaming = false
		default:
		}
		key := fmt.Sprintf("k%05d", own.IntN(3100)) // some of them come and go
		r.source.mu.Lock()
		if own.IntN(10) == 0 {
			r.source.rows[key] = !r.source.rows[key]
		}
		r.source.mu.Unlock()
		waits = append(waits, r.change(key))
		if len(waits)%20 == 0 {
			time.Sleep(time.Millisecond)
		}
	}
	for _, w := range waits {
		r.within("the stream", w)
	}
	r.engine.mu.Lock()
	defer r.engine.mu.Unlock()
	if len(r.engine.wrong) > 0 {
		t.Errorf("%d times, first: %s", len(r.engine.wrong), r.engine.wrong[0])
	}
	if r.flow.done.Dropped == 0 {
		t.Error("the stream never overtook the fill, so nothing was shown")
	}
	for k, there := range r.source.rows {
		if _, stored := r.engine.stored[k]; stored != there {
			t.Errorf("%s: in the source %v, in the engine %v", k, there, stored)
		}
	}
	if !r.flow.live() || r.engine.name != "huts-e1" {
		t.Errorf("not switched: %s", r.engine.name)
	}
}

// A fill that ends in the middle is gone on with: done chunks are not read again.
func TestFillResumes(t *testing.T) {
	r := newRig(t, 9000)
	var sent atomic.Int64
	ctx, stop := context.WithCancel(t.Context())
	r.engine.deliver = func(docs []wire.Document) ([]wire.Result, error) {
		if sent.Add(int64(len(docs))) > 4000 {
			stop() // as if it were killed: nothing after this is acknowledged
			return nil, errors.New("gone")
		}
		return nil, nil
	}
	if err := r.flow.fill(ctx, nil); !errors.Is(err, context.Canceled) {
		t.Fatal(err)
	}
	editions, err := r.rec.Editions(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	before := editions[0]
	open, err := r.rec.OpenChunks(t.Context(), before)
	if err != nil || before.State != fill.Filling || before.Rows == 0 || before.Rows > 4000 || len(open) == 0 || len(open) > fillWorkers {
		t.Fatalf("%+v, %d open chunks, %v", before, len(open), err)
	}
	sent.Store(0)
	r.engine.deliver = nil
	r.engine.slow = func() time.Duration { return 0 }
	before.Epoch = r.flow.record.Epoch
	again := newEditionFlow(before, r.source, r.engine, newGate(), r.rec, r.flow.term, slog.New(slog.DiscardHandler))
	if err := again.fill(t.Context(), func(context.Context) error { return nil }); err != nil {
		t.Fatal(err)
	}
	if len(r.engine.stored) != 9000 || again.done.Rows != 9000 || again.done.Resumed != before.Rows {
		t.Errorf("%d stored, %+v", len(r.engine.stored), again.done)
	}
}

func TestOutcomesOfDeliveries(t *testing.T) {
	refuse := wire.Result{Outcome: retry.Refused, Kind: "mapper", Reason: "no number"}
	keys := []string{"k00000", "k00001", "k00002", "k00003", "k00004", "k00005"}
	is := func(key string) func(wire.Document) bool { return func(d wire.Document) bool { return d.Key == key } }
	for name, c := range map[string]struct {
		deliver func(try int, docs []wire.Document) ([]wire.Result, error)
		failed  []string
		trouble string
	}{
		"a refused document": {deliver: func(_ int, docs []wire.Document) ([]wire.Result, error) {
			out := make([]wire.Result, len(docs))
			if i := slices.IndexFunc(docs, is("k00002")); i >= 0 {
				out[i] = refuse
			}
			return out, nil
		}, failed: []string{"k00002"}},
		"a request that is too large, one document at fault": {deliver: func(_ int, docs []wire.Document) ([]wire.Result, error) {
			if slices.ContainsFunc(docs, is("k00003")) {
				return nil, &wire.Failure{Outcome: retry.Later, Status: http.StatusRequestEntityTooLarge, Message: "too large"}
			}
			return nil, nil
		}, failed: []string{"k00003"}},
		"a request that is poisoned by one document": {deliver: func(_ int, docs []wire.Document) ([]wire.Result, error) {
			if slices.ContainsFunc(docs, is("k00001")) {
				return nil, &wire.Failure{Outcome: retry.Refused, Status: http.StatusBadRequest, Message: "malformed"}
			}
			return nil, nil
		}, failed: []string{"k00001"}},
		"some later": {deliver: func(try int, docs []wire.Document) ([]wire.Result, error) {
			if try > 3 {
				return nil, nil
			}
			out := make([]wire.Result, len(docs))
			out[0] = wire.Result{Outcome: retry.Later, Reason: "queue full"}
			return out, nil
		}},
		"no answer": {deliver: func(try int, _ []wire.Document) ([]wire.Result, error) {
			if try <= 10 {
				return nil, errors.New("connection refused")
			}
			return nil, nil
		}, trouble: "connection refused"},
		"blocked": {deliver: func(try int, _ []wire.Document) ([]wire.Result, error) {
			if try <= 3 {
				return nil, &wire.Failure{Outcome: retry.Blocked, Message: "read-only"}
			}
			return nil, nil
		}, trouble: "read-only"},
	} {
		t.Run(name, func(t *testing.T) {
			r := newRig(t, len(keys))
			var try atomic.Int64
			var seen atomic.Pointer[Trouble]
			r.engine.deliver = func(docs []wire.Document) ([]wire.Result, error) {
				if now := r.flow.trouble.get(); now != nil {
					seen.Store(now)
				}
				results, err := c.deliver(int(try.Add(1)), docs)
				for i, res := range results {
					if res.Outcome == retry.Done {
						r.engine.put(docs[i])
					}
				}
				return results, err
			}
			r.run()
			r.within("all are settled", r.change(keys...))
			failed, err := r.rec.FailedKeys(t.Context(), r.flow.record, "")
			slices.Sort(failed)
			if err != nil || !slices.Equal(failed, c.failed) || int(r.flow.refused.Load()) != len(c.failed) {
				t.Errorf("failed %v, want %v (%v)", failed, c.failed, err)
			}
			if len(r.engine.stored) != len(keys)-len(c.failed) {
				t.Errorf("stored %v", r.engine.stored)
			}
			if now := seen.Load(); c.trouble != "" && (now == nil || !strings.Contains(now.Message, c.trouble) || now.Blocked != (name == "blocked")) {
				t.Errorf("trouble: %+v", now)
			}
			// Once it is accepted, a failed document is one no longer.
			r.engine.mu.Lock()
			r.engine.deliver = nil
			r.engine.mu.Unlock()
			r.within("once more", r.change(keys...))
			if failed, err := r.rec.FailedKeys(t.Context(), r.flow.record, ""); err != nil || len(failed) > 0 || r.flow.trouble.get() != nil {
				t.Errorf("still %v, %v, %v", failed, err, r.flow.trouble.get())
			}
		})
	}
}

// A row that cannot be read makes one failed document, in the stream and in a fill.
func TestOneBadRowHarmsOnlyItself(t *testing.T) {
	r := newRig(t, 1200)
	r.source.fail = func(keys []string) error {
		if slices.Contains(keys, "k00700") {
			return fmt.Errorf("reading: %w", &pgconn.PgError{Code: "22012", Message: "division by zero"})
		}
		return nil
	}
	r.run()
	if err := r.flow.fill(t.Context(), func(context.Context) error { return nil }); err != nil {
		t.Fatal(err)
	}
	r.within("the stream", r.change("k00700", "k00701"))
	failed, err := r.rec.FailedDocuments(t.Context(), "huts", "", 10)
	if err != nil || len(failed) != 1 || failed[0].Key != "k00700" || !strings.Contains(failed[0].Reason, "division by zero") || len(r.engine.stored) != 1199 {
		t.Errorf("%+v %v, %d stored", failed, err, len(r.engine.stored))
	}
}

// A change is done only when the engine has answered: not before, and not for an
// edition that was stopped over it, unless that edition is given up.
func TestChangesWaitForTheAnswer(t *testing.T) {
	r := newRig(t, 10)
	r.engine.deliver = func([]wire.Document) ([]wire.Result, error) { return nil, errors.New("away") }
	ctx, stop := context.WithCancel(context.Background())
	go r.flow.run(ctx)
	settled := r.change("k00001", "k00002", "k00003", "k00004")
	time.Sleep(150 * time.Millisecond)
	late := r.change("k00001", "k00005")
	stop()
	<-r.flow.ended
	select {
	case <-settled:
		t.Error("done without an answer")
	case <-late:
		t.Error("done without being sent")
	case <-time.After(50 * time.Millisecond):
	}
	r.flow.abandon()
	r.within("given up", settled)
	r.within("given up", late)
}

// An engine that takes nothing for long holds up nobody: what it owes goes into the
// backlog, whose changes are done, and is worked off when it is back, also by the next
// process.
func TestBacklogOfAnEngineThatIsAway(t *testing.T) {
	const rows = 15000
	r := newRig(t, rows)
	var away atomic.Bool
	away.Store(true)
	r.engine.deliver = func(docs []wire.Document) ([]wire.Result, error) {
		if away.Load() {
			return nil, errors.New("away")
		}
		for _, d := range docs {
			r.engine.put(d)
		}
		return make([]wire.Result, len(docs)), nil
	}
	ctx, stop := context.WithCancel(context.Background())
	go r.flow.run(ctx)
	keys := make([]string, rows)
	for i := range keys {
		keys[i] = fmt.Sprintf("k%05d", i)
	}
	began := time.Now()
	var open atomic.Int64
	journal := make([]atomic.Int64, rows) // changes of each key that are not done
	for round := range 2 {
		for i, k := range keys {
			open.Add(1)
			journal[i].Add(1)
			ticket := change.NewTicket(time.Now(), func() { open.Add(-1); journal[i].Add(-1) })
			if err := r.flow.add(t.Context(), k, ticket, fresh); err != nil {
				t.Fatal(err)
			}
			ticket.Close()
		}
		if waits := time.Since(began); waits > 10*time.Second {
			t.Fatalf("round %d: adding waited %s", round, waits)
		}
	}
	for deadline := time.Now().Add(10 * time.Second); open.Load() > lanes*(laneWaits+laneTakes); time.Sleep(10 * time.Millisecond) {
		if time.Now().After(deadline) {
			t.Fatalf("%d changes are still open", open.Load())
		}
	}
	if n, oldest, err := r.rec.BacklogSize(t.Context(), r.flow.record); err != nil || n < rows-lanes*(laneWaits+laneTakes) || oldest == nil || oldest.After(time.Now()) {
		t.Errorf("%d owed since %v, %v", n, oldest, err)
	}
	if at := r.flow.oldest(); at.IsZero() || at.Before(began.Add(-time.Second)) || at.After(time.Now()) {
		t.Errorf("the oldest change is of %v", at)
	}
	stop() // as if it were killed: what lanes held is still in the journal, and comes again
	<-r.flow.ended
	away.Store(false)
	r.flow = newEditionFlow(r.flow.record, r.source, r.engine, newGate(), r.rec, r.flow.term, slog.New(slog.DiscardHandler))
	r.run()
	var again []string
	for i, k := range keys {
		if journal[i].Load() > 0 {
			again = append(again, k)
		}
	}
	r.within("what comes again", r.change(again...))
	settled := make(chan struct{})
	go func() {
		defer close(settled)
		if err := r.flow.settled(t.Context()); err != nil {
			t.Error(err)
		}
	}()
	r.within("the backlog", settled)
	r.engine.mu.Lock()
	defer r.engine.mu.Unlock()
	if len(r.engine.stored) != rows || len(r.engine.wrong) > 0 {
		t.Errorf("%d documents, %d times wrong", len(r.engine.stored), len(r.engine.wrong))
	}
	for deadline := time.Now().Add(3 * time.Second); !r.flow.oldest().IsZero(); time.Sleep(20 * time.Millisecond) {
		if time.Now().After(deadline) {
			t.Fatalf("something is said to wait since %v", r.flow.oldest())
		}
	}
}

// What the engine has already is not sent again, however often its row changes; nor does
// an older chunk bring back what was there in between. A key that changes all the time is
// sent a few times a second.
func TestUnchangedDocumentsAreNotSent(t *testing.T) {
	r := newRig(t, 3)
	content := atomic.Int64{}
	r.source.still = func(string) string { return strconv.FormatInt(content.Load(), 10) }
	var sent atomic.Int64
	lose := atomic.Bool{}
	r.engine.deliver = func(docs []wire.Document) ([]wire.Result, error) {
		sent.Add(int64(len(docs)))
		if lose.Swap(false) { // the engine has it, but nobody knows
			r.engine.mu.Unlock()
			_, err := r.engine.Deliver(t.Context(), "", docs)
			r.engine.mu.Lock()
			return nil, errors.Join(err, errors.New("no answer"))
		}
		return nil, nil
	}
	r.run()
	step := func(what string, value, want int64) {
		t.Helper()
		content.Store(value)
		before := sent.Load()
		r.within(what, r.change("k00001"))
		if n := sent.Load() - before; n != want {
			t.Errorf("%s: sent %d times", what, n)
		}
		if got := r.engine.stored["k00001"]; got != value {
			t.Errorf("%s: the engine has %d", what, got)
		}
	}
	step("first", 1, 1)
	step("the same", 1, 0)
	step("another", 2, 1)
	step("back again", 1, 1)
	time.Sleep(1100 * time.Millisecond) // so that it may be sent often again
	lose.Store(true)
	step("an answer is lost", 3, 3)
	step("the same after that", 3, 0)
	if total, _, _ := r.flow.spared.read(); total != 2 {
		t.Errorf("%d are counted as not sent", total)
	}
	// A chunk read what was there in between; what was not sent counts as newer.
	mark := r.flow.touched.Begin()
	step("the same while a chunk is open", 3, 0)
	l := r.flow.lanes[change.Lane([]byte("k00001"), lanes)]
	if dropped, ok := r.flow.deliverShare(t.Context(), l, []wire.Document{{Key: "k00001", Body: []byte(`{"n":9}`)}}, mark); dropped != 1 || !ok {
		t.Errorf("%d of the chunk dropped, %v", dropped, ok)
	}
	r.flow.touched.End(mark)

	sent.Store(0)
	began := time.Now()
	for i := int64(10); time.Since(began) < 2500*time.Millisecond; i++ {
		content.Store(i)
		r.change("k00002")
		time.Sleep(2 * time.Millisecond)
	}
	r.within("the hot key's last change", r.change("k00002"))
	if n := sent.Load(); n < 4 || n > 5*change.PaceSends {
		t.Errorf("a hot key was sent %d times in 2.5 s", n)
	}
	if got := r.engine.stored["k00002"]; got != content.Load() {
		t.Errorf("the engine has %d instead of %d", got, content.Load())
	}
}
