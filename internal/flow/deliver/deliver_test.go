package deliver

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"pingo/internal/core/change"
	"pingo/internal/core/document"
	"pingo/internal/core/reindex"
	"pingo/internal/core/retry"
	"pingo/internal/core/stats"
	"pingo/internal/engine"
	"pingo/internal/flow/connect"
	"pingo/internal/lab/model"
	"pingo/internal/records"
	"pingo/internal/source"
)

// rig is an edition between models, in virtual time.
type rig struct {
	t      *testing.T
	table  *model.Table
	engine *model.Engine
	store  *model.Records
	e      *Edition
	log    bytes.Buffer
}

func newRig(t *testing.T, rows int) *rig {
	t.Helper()
	record := &records.Edition{
		Index:  "huts",
		Number: 1,
		State:  reindex.Switched,
		Shape:  model.Shape(),
		Engine: "main",
	}
	r := &rig{t: t, table: model.NewTable(rows), engine: model.NewEngine(), store: model.NewRecords(record)}
	r.e = r.edition(record)
	return r
}

func (r *rig) edition(record *records.Edition) *Edition {
	return New(
		record,
		r.table,
		&connect.Engine{Engine: r.engine, Name: "main", Limiter: connect.NewLimiter()},
		r.store,
		&model.Fence{},
		slog.New(slog.NewTextHandler(&r.log, nil)),
	)
}

// run runs the edition until the test ends, or until the function that it returns.
func (r *rig) run() (stop func()) {
	ctx, cancel := context.WithCancel(r.t.Context())
	go r.e.Run(ctx, model.Claimed())
	e := r.e
	stop = func() { cancel(); <-e.Ended() }
	r.t.Cleanup(stop)
	return stop
}

// change makes keys wait for delivery, and returns a channel that closes when all
// of them are settled.
func (r *rig) change(keys ...string) chan struct{} {
	settled := make(chan struct{})
	ticket := change.NewTicket(time.Now(), func() { close(settled) })
	for _, k := range keys {
		if err := r.e.Add(r.t.Context(), k, ticket, Fresh); err != nil {
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
	case <-time.After(time.Minute):
		r.t.Fatalf("%s: not within a minute; trouble: %+v", what, r.e.Trouble.Get())
	}
}

func inTime(t *testing.T, test func(t *testing.T)) {
	t.Helper()
	synctest.Test(t, func(t *testing.T) {
		test(t)
		// What the cleanups stop must have ended inside of the bubble.
	})
}

func TestOutcomesOfDeliveries(t *testing.T) {
	refuse := engine.Result{Outcome: retry.Refused, Kind: "mapper", Reason: "no number"}
	keys := []string{"k00000", "k00001", "k00002", "k00003", "k00004", "k00005"}
	is := func(key string) func(engine.Document) bool {
		return func(d engine.Document) bool { return d.Key == key }
	}
	for name, c := range map[string]struct {
		answer  func(try int, docs []engine.Document) ([]engine.Result, error)
		failed  []string
		trouble string
	}{
		"a refused document": {answer: func(_ int, docs []engine.Document) ([]engine.Result, error) {
			out := make([]engine.Result, len(docs))
			if i := slices.IndexFunc(docs, is("k00002")); i >= 0 {
				out[i] = refuse
			}
			return out, nil
		}, failed: []string{"k00002"}},
		"a request that is too large, one document at fault": {answer: func(_ int, docs []engine.Document) ([]engine.Result, error) {
			if slices.ContainsFunc(docs, is("k00003")) {
				return nil, &engine.Failure{Outcome: retry.Later, TooLarge: true, Message: "too large"}
			}
			return nil, nil
		}, failed: []string{"k00003"}},
		"a request that is poisoned by one document": {answer: func(_ int, docs []engine.Document) ([]engine.Result, error) {
			if slices.ContainsFunc(docs, is("k00001")) {
				return nil, &engine.Failure{Outcome: retry.Refused, Message: "malformed"}
			}
			return nil, nil
		}, failed: []string{"k00001"}},
		"some later": {answer: func(try int, docs []engine.Document) ([]engine.Result, error) {
			if try > 3 {
				return nil, nil
			}
			out := make([]engine.Result, len(docs))
			out[0] = engine.Result{Outcome: retry.Later, Reason: "queue full"}
			return out, nil
		}},
		"no answer": {answer: func(try int, _ []engine.Document) ([]engine.Result, error) {
			if try <= 10 {
				return nil, errors.New("connection refused")
			}
			return nil, nil
		}, trouble: "connection refused"},
		"blocked": {answer: func(try int, _ []engine.Document) ([]engine.Result, error) {
			if try <= 3 {
				return nil, &engine.Failure{Outcome: retry.Blocked, Message: "read-only"}
			}
			return nil, nil
		}, trouble: "read-only"},
	} {
		t.Run(name, func(t *testing.T) {
			inTime(t, func(t *testing.T) {
				r := newRig(t, len(keys))
				var try atomic.Int64
				var seen atomic.Pointer[stats.Trouble]
				r.engine.Answer = func(docs []engine.Document) ([]engine.Result, error) {
					if now := r.e.Trouble.Get(); now != nil {
						seen.Store(now)
					}
					results, err := c.answer(int(try.Add(1)), docs)
					for i, res := range results {
						if res.Outcome == retry.Done {
							r.engine.Put(docs[i])
						}
					}
					return results, err
				}
				r.run()
				r.within("all are settled", r.change(keys...))
				failed, _ := r.store.FailedKeys(t.Context(), r.e.Record, "")
				if !slices.Equal(failed, c.failed) || r.e.Failed() != len(c.failed) {
					t.Errorf("failed %v, want %v", failed, c.failed)
				}
				if stored := r.engine.Stored(); len(stored) != len(keys)-len(c.failed) {
					t.Errorf("stored %v", stored)
				}
				if now := seen.Load(); c.trouble != "" &&
					(now == nil || !strings.Contains(now.Message, c.trouble) || now.Blocked != (name == "blocked")) {
					t.Errorf("trouble: %+v", now)
				}
				// Once it is accepted, a failed document is one no longer.
				synctest.Wait()
				r.engine.Answer = nil
				r.within("once more", r.change(keys...))
				if failed := r.store.Failed(); len(failed) > 0 || r.e.Failed() > 0 || r.e.Trouble.Get() != nil {
					t.Errorf("still %v, %v", failed, r.e.Trouble.Get())
				}
			})
		})
	}
}

// A row that cannot be read makes one failed document. When it makes the same document
// again as before, it is failed no longer.
func TestOneBadRowHarmsOnlyItself(t *testing.T) {
	inTime(t, func(t *testing.T) {
		r := newRig(t, 1200)
		r.table.Value = func(string) string { return "1" }
		bad := true
		r.table.Fail = func(keys []string) error {
			if bad && slices.Contains(keys, "k00700") {
				return &source.Error{Fault: source.BadValue, Err: errors.New("division by zero")}
			}
			return nil
		}
		r.run()
		all := r.table.Rows()
		bad = false
		r.within("all is well", r.change(all...))
		synctest.Wait()
		bad = true
		r.within("one row is bad", r.change(all...))
		if failed := r.store.Failed(); len(failed) != 1 ||
			!strings.Contains(failed["k00700"].Reason, "division by zero") ||
			len(r.engine.Stored()) != 1200 {
			t.Errorf("%+v, %d stored", failed, len(r.engine.Stored()))
		}
		synctest.Wait()
		bad = false
		r.within("it is as it was", r.change("k00700"))
		if failed := r.store.Failed(); len(failed) != 0 || r.e.Failed() != 0 {
			t.Errorf("still failed: %+v", failed)
		}
	})
}

// A row that turns bad after a chunk read it is failed, and the older document that the
// chunk carries does not make it well again.
func TestChunksDoNotStepBackOverBadRows(t *testing.T) {
	inTime(t, func(t *testing.T) {
		r := newRig(t, 3)
		r.run()
		mark := r.e.BeginChunk()
		set := document.NewSet(r.e.Record.Shape.Trees[0])
		if err := r.table.ReadRange(t.Context(), set, nil, nil); err != nil {
			t.Fatal(err)
		}
		r.table.Fail = func(keys []string) error {
			if slices.Contains(keys, "k00001") {
				return &source.Error{Fault: source.BadValue, Err: errors.New("division by zero")}
			}
			return nil
		}
		r.within("it turns bad", r.change("k00001"))
		c, _, err := r.e.DeliverChunk(t.Context(), set, 1, mark, nil)
		r.e.EndChunk(mark)
		if err != nil || c.Dropped != 1 || len(r.store.Failed()) != 1 || r.e.Failed() != 1 {
			t.Errorf("%+v %v, failed %v", c, err, r.store.Failed())
		}
	})
}

// When everything of a tree is about to be built, what an open chunk has read of it is
// dropped, and what it is sending is waited for: no document comes after the lists.
func TestNothingIsDeliveredAfterABarrier(t *testing.T) {
	inTime(t, func(t *testing.T) {
		r := newRig(t, 400)
		r.engine.Latency = func() time.Duration { return 200 * time.Millisecond }
		r.run()
		read := func() (*document.Set, int64) {
			mark := r.e.BeginChunk()
			set := document.NewSet(r.e.Record.Shape.Trees[0])
			if err := r.table.ReadRange(t.Context(), set, nil, nil); err != nil {
				t.Fatal(err)
			}
			return set, mark
		}
		sending, first := read()
		open, second := read()
		for _, key := range r.table.Rows() { // a truncate
			r.table.Set(key, false)
		}
		done := make(chan Chunk, 1)
		go func() {
			c, _, err := r.e.DeliverChunk(t.Context(), sending, 1, first, nil)
			if err != nil {
				t.Error(err)
			}
			done <- c
		}()
		synctest.Wait() // a part of the first chunk is being sent
		r.e.DropChunks(0)
		if err := r.e.Barrier(t.Context()); err != nil {
			t.Fatal(err)
		}
		listed := len(r.engine.Stored())
		sent := <-done
		c, _, err := r.e.DeliverChunk(t.Context(), open, 2, second, nil)
		if err != nil || c.Dropped != 400 || sent.Dropped == 0 || listed == 0 || len(r.engine.Stored()) != listed {
			t.Errorf(
				"%d were listed, there are %d; dropped %d and %d of 400 (%v)",
				listed,
				len(r.engine.Stored()),
				sent.Dropped,
				c.Dropped,
				err,
			)
		}
		r.e.EndChunk(first)
		r.e.EndChunk(second)
	})
}

// A change is done only when the engine has answered: not before, and not for an
// edition that was stopped over it, unless that edition is given up.
func TestChangesWaitForTheAnswer(t *testing.T) {
	inTime(t, func(t *testing.T) {
		r := newRig(t, 10)
		r.engine.Answer = func([]engine.Document) ([]engine.Result, error) { return nil, errors.New("away") }
		stop := r.run()
		settled := r.change("k00001", "k00002", "k00003", "k00004")
		time.Sleep(150 * time.Millisecond)
		late := r.change("k00001", "k00005")
		stop()
		synctest.Wait()
		select {
		case <-settled:
			t.Error("done without an answer")
		case <-late:
			t.Error("done without being sent")
		default:
		}
		r.e.Abandon()
		r.within("given up", settled)
		r.within("given up", late)
	})
}

// A process that lost the lease sends nothing, and does not say that anything is done.
func TestNothingIsSentWithoutTheLease(t *testing.T) {
	inTime(t, func(t *testing.T) {
		r := newRig(t, 10)
		fence := &model.Fence{}
		r.e.fence = fence
		stop := r.run()
		r.within("with it", r.change("k00001"))
		fence.Lost.Store(true)
		settled := r.change("k00002", "k00003")
		time.Sleep(10 * time.Second)
		stop()
		select {
		case <-settled:
			t.Error("done without the lease")
		default:
		}
		if stored := r.engine.Stored(); len(stored) != 1 {
			t.Errorf("stored %v", stored)
		}
	})
}

// An engine that takes nothing for long holds up no one: what it is to build goes into
// the backlog, whose changes are done, and is worked off when it is back, also by the
// next process.
func TestBacklogOfAnEngineThatIsAway(t *testing.T) {
	inTime(t, func(t *testing.T) {
		const rows = 15000
		r := newRig(t, rows)
		var away atomic.Bool
		away.Store(true)
		r.engine.Answer = func([]engine.Document) ([]engine.Result, error) {
			if away.Load() {
				return nil, errors.New("away")
			}
			return nil, nil
		}
		stop := r.run()
		began := time.Now()
		journal := make([]atomic.Int64, rows) // changes of each key that are not done
		for range 2 {
			for i := range rows {
				journal[i].Add(1)
				ticket := change.NewTicket(time.Now(), func() { journal[i].Add(-1) })
				if err := r.e.Add(t.Context(), model.Key(i), ticket, Fresh); err != nil {
					t.Fatal(err)
				}
				ticket.Close()
			}
		}
		time.Sleep(10 * time.Second)
		open := 0
		for i := range journal {
			open += int(journal[i].Load())
		}
		if open > Lanes*(lineLimit+batchKeys) {
			t.Fatalf("%d changes are still open", open)
		}
		if n, oldest, err := r.store.BacklogSize(t.Context(), r.e.Record); err != nil ||
			n < rows-Lanes*(lineLimit+batchKeys) ||
			oldest == nil ||
			oldest.After(time.Now()) {
			t.Errorf("%d in the backlog since %v, %v", n, oldest, err)
		}
		if at := r.e.Oldest(); at.IsZero() || at.Before(began) || at.After(time.Now()) {
			t.Errorf("the oldest change is of %v", at)
		}
		stop() // as if it were killed: what lanes held is still in the journal, and comes again
		away.Store(false)
		r.e = r.edition(r.e.Record)
		r.run()
		var again []string
		for i := range journal {
			if journal[i].Load() > 0 {
				again = append(again, model.Key(i))
			}
		}
		r.within("what comes again", r.change(again...))
		if err := r.e.Barrier(t.Context()); err != nil {
			t.Fatal(err)
		}
		if stored, wrong := r.engine.Stored(), r.engine.Wrong(); len(stored) != rows || len(wrong) > 0 {
			t.Errorf("%d documents, wrong: %v", len(stored), wrong)
		}
		time.Sleep(lookForMore)
		if at := r.e.Oldest(); !at.IsZero() {
			t.Errorf("something is reported to wait since %v", at)
		}
	})
}

// Changes whose documents cannot be read or delivered leave the journal after a few seconds, however few they are, and are
// delivered later. A repair goes on waiting for its outcome.
func TestChangesOfAStuckEditionAreSetAside(t *testing.T) {
	for _, cause := range []string{"the engine is away", "the source cannot be read"} {
		t.Run(cause, func(t *testing.T) {
			inTime(t, func(t *testing.T) {
				r := newRig(t, 100)
				var stuck atomic.Bool
				stuck.Store(true)
				fail := func(where string) error {
					if stuck.Load() && where == cause {
						return errors.New(cause)
					}
					return nil
				}
				r.engine.Answer = func([]engine.Document) ([]engine.Result, error) { return nil, fail("the engine is away") }
				r.table.Fail = func([]string) error { return fail("the source cannot be read") }
				stop := r.run()
				done := r.change("k00001", "k00002", "k00003")
				repaired := make(chan error, 1)
				asking, giveUp := context.WithCancel(t.Context())
				defer giveUp()
				go func() { repaired <- Repair(asking, r.e, []string{"k00002"}) }()
				r.within("the changes leave the journal", done)
				if waited := r.e.Oldest(); waited.IsZero() || r.e.Waiting() < 3 {
					t.Errorf("%d wait since %v", r.e.Waiting(), waited)
				}
				if n, _, err := r.store.BacklogSize(t.Context(), r.e.Record); n != 3 || err != nil {
					t.Errorf("%d in the backlog, %v", n, err)
				}
				r.within("so does a later change", r.change("k00001"))
				select {
				case err := <-repaired:
					t.Errorf("a repair says that it is done: %v", err)
				default:
				}
				if cause == "the engine is away" { // as if the process was killed
					stop()
					giveUp()
					<-repaired
					r.e = r.edition(r.e.Record)
					r.run()
				}
				stuck.Store(false)
				if err := r.e.Barrier(t.Context()); err != nil {
					t.Fatal(err)
				}
				for _, key := range []string{"k00001", "k00002", "k00003"} {
					if r.engine.Stored()[key] == 0 {
						t.Errorf("%s is not delivered", key)
					}
				}
			})
		})
	}
}

// What the engine has already is not sent again, however often its row changes; nor does
// an older chunk bring back what was there in between. A key that changes all the time is
// sent a few times a second.
func TestUnchangedDocumentsAreNotSent(t *testing.T) {
	inTime(t, func(t *testing.T) {
		r := newRig(t, 3)
		var content, sent atomic.Int64
		r.table.Value = func(string) string { return strconv.FormatInt(content.Load(), 10) }
		var lose atomic.Bool
		r.engine.Answer = func(docs []engine.Document) ([]engine.Result, error) {
			sent.Add(int64(len(docs)))
			if lose.Swap(false) { // the engine has it, but no one knows
				r.engine.Put(docs...)
				return nil, errors.New("no answer")
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
			if got := r.engine.Stored()["k00001"]; got != value {
				t.Errorf("%s: the engine has %d", what, got)
			}
		}
		step("first", 1, 1)
		step("the same", 1, 0)
		step("another", 2, 1)
		time.Sleep(1100 * time.Millisecond) // so that it may be sent often again
		lose.Store(true)
		step("an answer is lost", 3, 2)
		step("the same after that", 3, 0)
		if n := r.e.Stats.Unchanged.Total(); n != 2 {
			t.Errorf("%d are counted as not sent", n)
		}
		// What the engine has lost is sent again when its row is written a minute later.
		if err := r.engine.Drop(t.Context(), ""); err != nil {
			t.Fatal(err)
		}
		time.Sleep(time.Minute)
		step("the same after the engine lost it", 3, 1)
		// A chunk read what was there in between; what was not sent counts as newer.
		mark := r.e.BeginChunk()
		step("the same while a chunk is open", 3, 0)
		l := r.e.lane("k00001")
		if dropped, ok := l.deliverChunk(t.Context(), 0, []engine.Document{{Key: "k00001", Body: []byte(`{"n":9}`)}}, mark); dropped != 1 ||
			!ok {
			t.Errorf("%d of the chunk dropped, %v", dropped, ok)
		}
		r.e.EndChunk(mark)

		sent.Store(0)
		began := time.Now()
		for i := int64(10); time.Since(began) < 2500*time.Millisecond; i++ {
			content.Store(i)
			r.change("k00002")
			time.Sleep(2 * time.Millisecond)
		}
		r.within("the hot key's last change", r.change("k00002"))
		if n := sent.Load(); n < 4 || n > 4*change.ThrottleSends {
			t.Errorf("a hot key was sent %d times in 2.5 s", n)
		}
		if got := r.engine.Stored()["k00002"]; got != content.Load() {
			t.Errorf("the engine has %d instead of %d", got, content.Load())
		}
	})
}

// While there are fresh changes, one lane at a time carries documents of wide ones; when
// there are none, all of them do. However both come, none is forgotten.
func TestWideChangesLeaveRoomForFreshOnes(t *testing.T) {
	inTime(t, func(t *testing.T) {
		const rows = 12000
		r := newRig(t, rows)
		var now, most atomic.Int64
		r.engine.Latency = func() time.Duration { return 5 * time.Millisecond }
		e := &crowd{Engine: r.engine, now: &now, most: &most}
		r.e = New(
			r.e.Record,
			r.table,
			&connect.Engine{Engine: e, Limiter: connect.NewLimiter()},
			r.store,
			&model.Fence{},
			slog.New(slog.DiscardHandler),
		)
		r.run()
		spread := func(from, to int) chan struct{} {
			settled := make(chan struct{})
			all := change.NewTicket(time.Now(), func() { close(settled) })
			for i := from; i < to; i++ {
				key := model.Key(i)
				r.e.lane(key).add(key, all, Wide)
			}
			all.Close()
			return settled
		}
		first := r.change(model.Key(0))
		settled := spread(1000, 6000)
		fresh := []chan struct{}{first}
	alone:
		for i := 1; ; i++ {
			select {
			case <-settled:
				break alone
			case <-time.After(2 * time.Millisecond):
				fresh = append(fresh, r.change(model.Key(i%1000)))
			}
		}
		if n := most.Swap(0); n != 1 {
			t.Errorf("%d requests of wide changes at the same time as fresh ones", n)
		}
		for _, f := range fresh {
			r.within("fresh changes", f)
		}
		time.Sleep(freshFor + 100*time.Millisecond)
		r.within("alone", spread(1000, rows))
		if n := most.Swap(0); n < 2 {
			t.Errorf("%d requests of wide changes at the same time though no other was there", n)
		}
		random := rand.New(rand.NewPCG(8, 8))
		for round := range 25 {
			var waits []chan struct{}
			for range 1 + random.IntN(4) {
				from := 1000 + random.IntN(rows-1000)
				waits = append(
					waits,
					spread(from, min(rows, from+random.IntN(300))),
					r.change(model.Key(random.IntN(1000))),
				)
				time.Sleep(time.Duration(random.IntN(4)) * time.Millisecond)
			}
			for _, w := range waits {
				r.within(fmt.Sprintf("round %d", round), w)
			}
		}
		if wrong := r.engine.Wrong(); len(wrong) > 0 {
			t.Error(wrong[0])
		}
	})
}

// crowd sees how many of the requests that are under way together carry documents of
// wide changes.
type crowd struct {
	*model.Engine
	now, most *atomic.Int64
}

func (c *crowd) Deliver(ctx context.Context, edition string, docs []engine.Document) ([]engine.Result, error) {
	if slices.ContainsFunc(docs, func(d engine.Document) bool { return d.Key >= model.Key(1000) }) {
		n := c.now.Add(1)
		defer c.now.Add(-1)
		for m := c.most.Load(); n > m && !c.most.CompareAndSwap(m, n); m = c.most.Load() {
		}
	}
	return c.Engine.Deliver(ctx, edition, docs)
}

// A failed document that was dismissed through another process is one no longer here, but
// for one that was refused once more in between.
func TestDismissedElsewhere(t *testing.T) {
	inTime(t, func(t *testing.T) {
		r := newRig(t, 3)
		r.engine.Answer = func(docs []engine.Document) ([]engine.Result, error) {
			return slices.Repeat(
				[]engine.Result{{Outcome: retry.Refused, Kind: "mapper", Reason: "no number"}},
				len(docs),
			), nil
		}
		r.run()
		r.within("refused", r.change("k00000", "k00001", "k00002"))
		look := func(want int) {
			t.Helper()
			if err := r.e.ForgetDismissed(t.Context()); err != nil || r.e.Failed() != want {
				t.Errorf("%d failed documents (%v)", r.e.Failed(), err)
			}
		}
		r.store.Dismiss("k00000", "k00001")
		r.within("refused again", r.change("k00001"))
		look(2)
		if keys, _ := r.store.FailedKeys(t.Context(), r.e.Record, ""); !slices.Equal(
			keys,
			[]string{"k00001", "k00002"},
		) {
			t.Errorf("recorded: %v", keys)
		}
		// Its acceptance ends it here as well, whatever is in the records.
		r.store.Dismiss("k00002")
		synctest.Wait()
		r.engine.Answer = nil
		r.within("accepted", r.change("k00001", "k00002"))
		look(0)
	})
}

// Each document that is refused has a line in the log, but not however many there are: the next line tells how many had none.
func TestALogIsNotFloodedByRefusals(t *testing.T) {
	inTime(t, func(t *testing.T) {
		r := newRig(t, 3000)
		r.engine.Answer = func(docs []engine.Document) ([]engine.Result, error) {
			out := make([]engine.Result, len(docs))
			for i, d := range docs {
				out[i] = engine.Result{Outcome: retry.Refused, Kind: "mapper_parsing_exception", Reason: fmt.Sprintf(
					"failed to parse field [beds] of type [integer] in document with id '%s'. Preview of field's value: '%s'", d.Key, d.Key)}
			}
			return out, nil
		}
		stop := r.run()
		keys := make([]string, 3000)
		for i := range keys {
			keys[i] = fmt.Sprintf("k%05d", i)
		}
		r.within("refused", r.change(keys...))
		time.Sleep(5 * time.Second)
		r.engine.Answer = nil
		r.within("accepted", r.change("k00001"))
		stop()
		if !strings.Contains(r.log.String(), fmt.Sprintf("withheld=%d", len(keys)-linesAtOnce)) {
			t.Errorf("the log does not tell how many lines are missing: %s", r.log.String()[max(0, r.log.Len()-300):])
		}
		if lines := strings.Count(r.log.String(), "\n"); r.e.Failed() != len(keys)-1 || lines < linesAtOnce || lines > linesAtOnce+5 {
			t.Errorf("%d failed documents in %d lines: %.600s", r.e.Failed(), lines, &r.log)
		}
	})
}

// Trouble with reading is over when reading works again, also when there is nothing to send.
func TestTroubleEndsWithItsCause(t *testing.T) {
	inTime(t, func(t *testing.T) {
		r := newRig(t, 1)
		r.table.Value = func(string) string { return "1" }
		r.run()
		r.within("first", r.change("k00000"))
		synctest.Wait()
		tries := 0
		var seen *stats.Trouble
		r.table.Fail = func([]string) error {
			if tries++; tries > 4 {
				seen = r.e.Trouble.Get()
				return nil
			}
			return errors.New("the source is away")
		}
		r.within("again", r.change("k00000"))
		if seen == nil || !strings.Contains(seen.Message, "the source is away") {
			t.Errorf("meanwhile: %+v", seen)
		}
		if now := r.e.Trouble.Get(); now != nil {
			t.Errorf("afterwards: %+v", now)
		}
		if n := r.e.Stats.Unchanged.Total(); n != 1 {
			t.Errorf("%d documents were not sent", n)
		}
	})
}

// An engine that claims a higher version of a document each time gets it twice: then the document is failed, and the
// versions are not used up.
func TestVersionsThatAlwaysGrow(t *testing.T) {
	inTime(t, func(t *testing.T) {
		r := newRig(t, 10)
		asked := 0
		r.engine.Answer = func(docs []engine.Document) ([]engine.Result, error) {
			results := make([]engine.Result, len(docs))
			for i := range docs {
				if asked++; asked < 1000 { // else it would go on for ever
					results[i] = engine.Result{Outcome: retry.Newer, Held: r.e.fence.Given() + 1}
				}
			}
			return results, nil
		}
		r.run()
		r.within("it is settled", r.change("k00001"))
		if failed, _ := r.store.FailedKeys(t.Context(), r.e.Record, ""); asked != 2 || len(failed) != 1 {
			t.Errorf("sent %d times, failed %v", asked, failed)
		}
	})
}
