package rebuild

import (
	"context"
	"encoding/json"
	"errors"
	"log/slog"
	"math/rand/v2"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"pingo/internal/core/change"
	"pingo/internal/core/document"
	"pingo/internal/core/reindex"
	"pingo/internal/core/shape"
	"pingo/internal/engine"
	"pingo/internal/flow/connect"
	"pingo/internal/flow/deliver"
	"pingo/internal/lab/model"
	"pingo/internal/records"
	"pingo/internal/source"
)

// rig is a fill between models, in virtual time.
type rig struct {
	table  *model.Table
	engine *model.Engine
	store  *model.Records
	e      *deliver.Edition
	fill   *Fill
	policy reindex.Policy
}

func newRig(rows int) *rig {
	record := &records.Edition{
		Index:  "huts",
		Number: 1,
		State:  reindex.Preparing,
		Shape:  model.Shape(),
		Engine: "main",
	}
	r := &rig{table: model.NewTable(rows), engine: model.NewEngine(), store: model.NewRecords(record)}
	r.open(record)
	return r
}

func (r *rig) open(record *records.Edition) {
	eng := &connect.Engine{Engine: r.engine, Name: "main", Limiter: connect.NewLimiter()}
	log, fence := slog.New(slog.DiscardHandler), &model.Fence{}
	r.e = deliver.New(record, r.table, eng, r.store, fence, log)
	r.policy = reindex.DefaultPolicy
	r.fill = New(Options{
		Record: record, Edition: r.e, Reader: r.table, Engine: eng, Store: r.store, Fence: fence,
		Policy: func() reindex.Policy { return r.policy }, Others: alone, Log: log,
	})
}

// besideALiveOne is a fill of an edition next to one that answers, on a reader and an engine of some sort.
func besideALiveOne(reader source.Reader, e engine.Engine, compare string) (*Fill, *deliver.Edition, *model.Records) {
	edition := func(number int, state reindex.State) *records.Edition {
		return &records.Edition{Index: "huts", Number: number, State: state, Shape: model.Shape(), Engine: "main"}
	}
	record, log, fence := edition(2, reindex.Preparing), slog.New(slog.DiscardHandler), &model.Fence{}
	store := model.NewRecords(edition(1, reindex.Switched), record)
	eng := &connect.Engine{Engine: e, Name: "main", Limiter: connect.NewLimiter()}
	fed := deliver.New(record, reader, eng, store, fence, log)
	policy := func() reindex.Policy { return reindex.Policy{Switch: reindex.SwitchChecked, Compare: compare} }
	return New(Options{
		Record: record, Edition: fed, Reader: reader, Engine: eng, Store: store, Fence: fence,
		Policy: policy, Others: alone, Log: log,
	}), fed, store
}

func byDefault() reindex.Policy { return reindex.DefaultPolicy }

func atOnce(context.Context) error { return nil }

func alone() int { return 0 }

// untilItAnswers runs a fill until it is switched to; it fails when the context ends before.
func untilItAnswers(ctx context.Context, f *Fill, caughtUp func(context.Context) error) error {
	within, stop := context.WithCancel(ctx)
	defer stop()
	f.Run(within, caughtUp, func(context.Context) { stop() })
	return ctx.Err()
}

// A fill and a stream race for the same documents, on an engine that keeps whatever
// comes last: no document ever steps back, none is in two requests, and in the end
// everything is there.
func TestFillAndStreamNeverStepBack(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		r := newRig(3000)
		random := rand.New(rand.NewPCG(4, 4))
		r.table.Slow = 15 * time.Millisecond
		var n atomic.Int64
		r.engine.Latency = func() time.Duration { return time.Duration(n.Add(7)%6) * time.Millisecond }
		ctx, stop := context.WithCancel(t.Context())
		go r.e.Run(ctx, model.Claimed())
		filled := make(chan error, 1)
		go func() { filled <- untilItAnswers(ctx, r.fill, atOnce) }()
		var waits []chan struct{}
		for streaming := true; streaming; {
			select {
			case err := <-filled:
				if err != nil {
					t.Error(err)
				}
				streaming = false
			default:
			}
			key := model.Key(random.IntN(3100)) // some of them come and go
			if random.IntN(10) == 0 {
				r.table.Set(key, !slices.Contains(r.table.Rows(), key))
			}
			settled := make(chan struct{})
			ticket := change.NewTicket(time.Now(), func() { close(settled) })
			if err := r.e.Add(ctx, key, ticket, deliver.Fresh); err != nil {
				t.Fatal(err)
			}
			ticket.Close()
			waits = append(waits, settled)
			if len(waits)%20 == 0 {
				time.Sleep(time.Millisecond)
			}
		}
		for _, w := range waits {
			<-w
		}
		stop()
		<-r.e.Ended()
		if wrong := r.engine.Wrong(); len(wrong) > 0 {
			t.Errorf("%d times, first: %s", len(wrong), wrong[0])
		}
		state, progress := r.fill.State()
		if progress.Dropped == 0 {
			t.Error("the stream never overtook the fill, so nothing was shown")
		}
		stored := r.engine.Stored()
		for _, key := range r.table.Rows() {
			if _, there := stored[key]; !there {
				t.Errorf("%s is missing", key)
			}
		}
		if len(stored) != len(r.table.Rows()) || state != reindex.Switched || r.engine.Switched() != "huts-e1" ||
			r.store.Only().State != reindex.Switched {
			t.Errorf(
				"%d documents of %d rows, %s, switched to %q",
				len(stored),
				len(r.table.Rows()),
				state,
				r.engine.Switched(),
			)
		}
	})
}

// A fill that ends in the middle is gone on with: done chunks are not read again.
func TestFillResumes(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		r := newRig(9000)
		var sent atomic.Int64
		ctx, stop := context.WithCancel(t.Context())
		r.engine.Latency = func() time.Duration { return time.Millisecond }
		r.engine.Answer = func(docs []engine.Document) ([]engine.Result, error) {
			if sent.Add(int64(len(docs))) > 4000 {
				stop() // as if it were killed: nothing after this is acknowledged
				return nil, errors.New("gone")
			}
			return nil, nil
		}
		if err := untilItAnswers(ctx, r.fill, atOnce); !errors.Is(err, context.Canceled) {
			t.Fatal(err)
		}
		before := r.store.Only()
		open, err := r.store.OpenChunks(t.Context(), before)
		if err != nil || before.State != reindex.Filling || before.Rows == 0 || before.Rows > 4000 ||
			len(open) == 0 ||
			len(open) > Workers {
			t.Fatalf("%+v, %d open chunks, %v", before, len(open), err)
		}
		r.engine.Answer = nil
		r.open(before)
		if err := untilItAnswers(t.Context(), r.fill, atOnce); err != nil {
			t.Fatal(err)
		}
		if _, p := r.fill.State(); len(r.engine.Stored()) != 9000 || p.Rows != 9000 || p.Resumed != before.Rows {
			t.Errorf("%d stored, %+v", len(r.engine.Stored()), p)
		}
	})
}

// unsteady fails to record a chunk now and then.
type unsteady struct {
	Store
	calls atomic.Int64
}

func (s *unsteady) ChunkDone(ctx context.Context, e *records.Edition, c records.Chunk, rows, bytes int64) error {
	if s.calls.Add(1)%3 == 1 {
		return errors.New("the records do not answer")
	}
	return s.Store.ChunkDone(ctx, e, c, rows, bytes)
}

// patient notices when no one waits for a request any longer.
type patient struct {
	*model.Engine
	givenUp atomic.Int64
}

func (p *patient) Deliver(ctx context.Context, edition string, docs []engine.Document) ([]engine.Result, error) {
	select {
	case <-ctx.Done():
		p.givenUp.Add(1)
		return nil, ctx.Err()
	case <-time.After(time.Duration(1+len(docs)%7) * time.Second):
	}
	return p.Engine.Deliver(ctx, edition, docs)
}

// No request of a fill is given up because another one failed: it might arrive after its table was
// truncated and all its documents were listed (small storm, seed 7000716).
func TestNoRequestOfAFillIsGivenUp(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		r := newRig(6000)
		record, log, fence := r.store.Only(), slog.New(slog.DiscardHandler), &model.Fence{}
		slow := &patient{Engine: r.engine}
		eng := &connect.Engine{Engine: slow, Name: "main", Limiter: connect.NewLimiter()}
		r.e = deliver.New(record, r.table, eng, r.store, fence, log)
		r.fill = New(Options{
			Record: record, Edition: r.e, Reader: r.table, Engine: eng, Store: &unsteady{Store: r.store}, Fence: fence,
			Policy: byDefault, Others: alone, Log: log,
		})
		if err := untilItAnswers(t.Context(), r.fill, atOnce); err != nil {
			t.Fatal(err)
		}
		if n := slow.givenUp.Load(); n > 0 || len(r.engine.Stored()) != 6000 {
			t.Errorf("%d requests given up, %d documents", n, len(r.engine.Stored()))
		}
	})
}

// counting counts how often the rows are counted.
type counting struct {
	*model.Table
	n atomic.Int64
}

func (c *counting) Count(ctx context.Context, t *shape.Tree) (int64, error) {
	c.n.Add(1)
	return c.Table.Count(ctx, t)
}

// An edition with a document that fails, where the one that answers has none, waits for a person. The
// source's rows are not counted all the time meanwhile.
func TestAWorseEditionWaits(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		table := &counting{Table: model.NewTable(1200)}
		table.Fail = func(keys []string) error {
			if slices.Contains(keys, "k00700") {
				return &source.Error{Fault: source.BadValue, Err: errors.New("division by zero")}
			}
			return nil
		}
		// What the model holds says when it was read, so that it is never as a row is read again.
		fill, e, store := besideALiveOne(table, model.NewEngine(), reindex.CompareNone)
		ctx, stop := context.WithCancel(t.Context())
		go e.Run(ctx, model.Claimed())
		done := make(chan error, 1)
		go func() { done <- untilItAnswers(ctx, fill, e.Barrier) }()
		time.Sleep(10 * time.Minute)
		if state, _ := fill.State(); state != reindex.Ready || reindex.Passed(fill.Gates()) || table.n.Load() > 15 {
			t.Errorf("%s, %+v, counted %d times", state, fill.Gates(), table.n.Load())
		}
		if ready, err := store.Decide(ctx, e.Record); !ready || err != nil {
			t.Fatal(ready, err)
		}
		time.Sleep(2 * recheckInterval)
		if state, _ := fill.State(); state != reindex.Switched {
			t.Errorf("%s after a person has decided", state)
		}
		stop()
		<-e.Ended()
		<-done
	})
}

// trailing is an engine that the deletions of half its rows reach late in the edition that answers.
type trailing struct {
	*model.Engine
	until time.Time
}

func (t *trailing) Count(ctx context.Context, edition string) (int64, error) {
	n, err := t.Engine.Count(ctx, edition)
	if edition == "huts-e1" {
		n += max(0, int64(time.Until(t.until)/time.Millisecond))
	}
	return n, err
}

// An edition does not wait for a person because rows were deleted that the one that answers still has.
func TestAnEditionIsNotWorseForWhatIsDeleted(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		late := &trailing{Engine: model.NewEngine(), until: time.Now().Add(3 * time.Second)}
		fill, e, _ := besideALiveOne(model.NewTable(600), late, reindex.CompareNone)
		ctx, stop := context.WithCancel(t.Context())
		go e.Run(ctx, model.Claimed())
		done := make(chan error, 1)
		go func() { done <- untilItAnswers(ctx, fill, e.Barrier) }()
		time.Sleep(5 * time.Second)
		if state, _ := fill.State(); state != reindex.Switched {
			t.Errorf("%s, %+v", state, fill.Gates())
		}
		stop()
		<-e.Ended()
		<-done
	})
}

// A chunk with a row that cannot be read is filled key by key.
func TestBadRowsDoNotStopAFill(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		r := newRig(1200)
		r.table.Fail = func(keys []string) error {
			if slices.Contains(keys, "k00700") {
				return &source.Error{Fault: source.BadValue, Err: errors.New("division by zero")}
			}
			return nil
		}
		ctx, stop := context.WithCancel(t.Context())
		go r.e.Run(ctx, model.Claimed())
		if err := untilItAnswers(ctx, r.fill, r.e.Barrier); err != nil {
			t.Fatal(err)
		}
		stop()
		<-r.e.Ended()
		if failed := r.store.Failed(); len(failed) != 1 || failed["k00700"].Kind != "source" ||
			len(r.engine.Stored()) != 1199 {
			t.Errorf("%+v, %d stored", failed, len(r.engine.Stored()))
		}
	})
}

// A fill that is paused, or whose hours have not come, goes no further, also after a restart; and a pace
// holds, by which fewer workers read.
func TestAFillGoesAtItsPace(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		r := newRig(6000)
		ctx, stop := context.WithCancel(t.Context())
		defer stop()
		set := func(c records.Course) { r.fill.Note(reindex.Filling, c) }
		set(records.Course{Pace: &records.Pace{Documents: 100}})
		go r.e.Run(ctx, model.Claimed())
		done := make(chan error, 1)
		go func() { done <- untilItAnswers(ctx, r.fill, r.e.Barrier) }()
		rows := func() int64 {
			synctest.Wait()
			_, progress := r.fill.State()
			return progress.Rows
		}
		time.Sleep(20 * time.Second)
		if n := rows(); n < 1800 || n > 2200 {
			t.Errorf("%d rows in 20 s at 100 a second", n)
		}
		_, progress := r.fill.State()
		if left := progress.Left(); left < 30*time.Second || left > 50*time.Second || progress.Rate() < 90 ||
			progress.Rate() > 110 {
			t.Errorf("%v left, %.0f rows a second", left, progress.Rate())
		}
		set(records.Course{Paused: true})
		time.Sleep(time.Second) // chunks that are open end
		before := rows()
		time.Sleep(time.Hour)
		if w := r.fill.Waits(); rows() != before || !w.Halted || w.Why != "it is paused" {
			t.Errorf("%d rows, then %d: %+v", before, rows(), w)
		}
		now := time.Now()
		in := func(d time.Duration) int { at := now.Add(d); return at.Hour()*60 + at.Minute() }
		set(
			records.Course{
				Pace: &records.Pace{Workers: 1, Hours: &reindex.Hours{From: in(time.Hour), To: in(2 * time.Hour)}},
			},
		)
		time.Sleep(59 * time.Minute)
		if w := r.fill.Waits(); rows() != before || !w.Halted || !strings.Contains(w.Why, "only, next at") {
			t.Errorf("%d rows, then %d: %+v", before, rows(), w)
		}
		time.Sleep(2 * time.Minute)
		if err := <-done; err != nil || len(r.engine.Stored()) != 6000 {
			t.Errorf("%d documents, %v", len(r.engine.Stored()), err)
		}
		stop()
		<-r.e.Ended()
	})
}

// altering is an engine that makes something of documents.
type altering struct {
	*model.Engine
	mu       sync.Mutex
	stored   map[string]json.RawMessage
	sent     map[string]int
	lost     map[string]bool // until they are sent once more
	repaired bool            // what it made something else of
}

func (a *altering) Deliver(ctx context.Context, edition string, docs []engine.Document) ([]engine.Result, error) {
	a.mu.Lock()
	for _, d := range docs {
		a.stored[d.Key] = slices.Clone(d.Body)
		if a.sent[d.Key]++; a.sent[d.Key] > 1 {
			delete(a.lost, d.Key)
		}
	}
	a.mu.Unlock()
	return a.Engine.Deliver(ctx, edition, docs)
}

func (a *altering) Get(_ context.Context, _ string, keys []string) (map[string]json.RawMessage, error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	out := map[string]json.RawMessage{}
	for _, key := range keys {
		switch {
		case key == "k00002" && !a.repaired:
			out[key] = json.RawMessage(`{"n": 6}`)
		case a.stored[key] != nil && !a.lost[key]:
			out[key] = a.stored[key]
		}
	}
	return out, nil
}

func (a *altering) Fingerprints(ctx context.Context, edition string, keys []string) (map[string]string, error) {
	docs, err := a.Get(ctx, edition, keys)
	out := map[string]string{}
	for key, doc := range docs {
		out[key] = document.Fingerprint(doc)
	}
	return out, err
}

// A document that an engine lost is sent again; one that it makes something else of stops the switch until
// that ends; one whose row is written all the time does not.
func TestWhatAnEngineMakesOfDocuments(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		table := model.NewTable(600)
		var moment atomic.Int64
		table.Value = func(key string) string {
			if key == "k00003" {
				return strconv.FormatInt(moment.Add(1), 10)
			}
			return "5"
		}
		made := &altering{
			Engine: model.NewEngine(), stored: map[string]json.RawMessage{}, sent: map[string]int{}, lost: map[string]bool{"k00001": true},
		}
		fill, e, _ := besideALiveOne(table, made, reindex.CompareAll)
		ctx, stop := context.WithCancel(t.Context())
		go e.Run(ctx, model.Claimed())
		done := make(chan error, 1)
		go func() { done <- untilItAnswers(ctx, fill, e.Barrier) }()
		time.Sleep(10 * time.Minute)
		state, _ := fill.State()
		var content reindex.Gate
		for _, g := range fill.Gates() {
			if g.Name == reindex.GateContent {
				content = g
			}
		}
		if state != reindex.Ready || content.Passed ||
			content.Sentence != "600 of 600 documents compared with their rows, 1 differ: k00002" {
			t.Errorf("%s, %+v", state, content)
		}
		made.mu.Lock() // the row that is written all the time is still delivered
		if made.sent["k00001"] != 2 || made.sent["k00004"] != 1 {
			t.Errorf("the lost one was sent %d times, a good one %d times", made.sent["k00001"], made.sent["k00004"])
		}
		made.repaired = true
		made.mu.Unlock()
		time.Sleep(10 * time.Minute)
		if state, _ := fill.State(); state != reindex.Switched {
			t.Errorf("%s after the engine was repaired: %+v", state, fill.Gates())
		}
		stop()
		<-e.Ended()
		<-done
	})
}

// forgetful are records that answer to the switch of an edition that it is not known whether it was recorded.
type forgetful struct{ *model.Records }

func (f *forgetful) SaveSwitched(ctx context.Context, e *records.Edition, keep time.Duration) error {
	if err := f.Records.SaveSwitched(ctx, e, keep); err != nil {
		return err
	}
	return errors.New("connection lost")
}

// An edition whose switch was recorded, without an answer, and that another one has taken the place of
// meanwhile, does not take the public name again (small storm, seed 60000815).
func TestAnAnswerToTheSwitchGetsLost(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		first := &records.Edition{Index: "huts", State: reindex.Preparing, Shape: model.Shape(), Engine: "main"}
		r := &rig{table: model.NewTable(100), engine: model.NewEngine(), store: model.NewRecords(first)}
		r.open(first)
		r.fill.store = &forgetful{r.store}
		r.fill.judge.store = r.fill.store
		ctx, stop := context.WithCancel(t.Context())
		go r.e.Run(ctx, model.Claimed())
		done := make(chan struct{})
		go func() {
			defer close(done)
			r.fill.Run(ctx, r.e.Barrier, func(context.Context) {})
		}()
		time.Sleep(time.Minute)
		later, err := r.store.NewEdition(ctx, model.Shape(), "main", 1, records.Course{})
		if err == nil {
			err = r.store.SaveSwitched(ctx, later, time.Hour)
		}
		if err != nil {
			t.Fatal(err)
		}
		if err := r.engine.Switch(ctx, "huts", later.Name()); err != nil {
			t.Fatal(err)
		}
		time.Sleep(time.Minute)
		if now := r.engine.Switched(); now != later.Name() {
			t.Errorf("%s has taken the name", now)
		}
		r.fill.Note(reindex.Previous, records.Course{})
		time.Sleep(time.Minute)
		if state, _ := r.fill.State(); state != reindex.Previous || r.engine.Switched() != later.Name() {
			t.Errorf("%s, while %s has the name", state, r.engine.Switched())
		}
		stop()
		<-r.e.Ended()
		<-done
	})
}
