package sweep

import (
	"context"
	"fmt"
	"log/slog"
	"strconv"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"github.com/tidwall/gjson"

	"pingo/internal/core/drift"
	"pingo/internal/core/reindex"
	"pingo/internal/engine"
	"pingo/internal/flow/connect"
	"pingo/internal/flow/deliver"
	"pingo/internal/flow/rebuild"
	"pingo/internal/lab/model"
	"pingo/internal/lab/tiny"
	"pingo/internal/records"
)

// rig is an edition that is in sync, between things that are tiny, in virtual time.
type rig struct {
	*testing.T
	db      *tiny.Database
	engine  engine.Engine
	store   *model.Records
	record  *records.Edition
	edition *deliver.Edition
	policy  atomic.Pointer[drift.Policy]
	checker *Checker
}

func newRig(t *testing.T, rows int) *rig {
	r := &rig{T: t, db: tiny.NewDatabase(), engine: tiny.NewPlainEngine()}
	r.db.Create("huts", []string{"id"}, "id integer", "n integer")
	r.record = &records.Edition{Index: "huts", Number: 1, State: reindex.Switched, Shape: model.Shape(), Engine: "main"}
	r.store = model.NewRecords(r.record)
	r.policy.Store(&drift.Policy{Every: 24 * time.Hour, Repair: drift.ReportOnly, Content: 1})
	if err := r.engine.Prepare(t.Context(), r.record.Name(), r.record.Shape); err != nil {
		t.Fatal(err)
	}
	eng := &connect.Engine{Engine: r.engine, Name: "main", Limiter: connect.NewLimiter()}
	reader, fence, log := r.db.Open().Reader, &model.Fence{}, slog.New(slog.DiscardHandler)
	r.edition = deliver.New(r.record, reader, eng, r.store, fence, log)
	fill := rebuild.New(rebuild.Options{
		Record: r.record, Edition: r.edition, Reader: reader, Engine: eng, Store: r.store, Fence: fence,
		Policy: func() reindex.Policy { return reindex.DefaultPolicy }, Others: func() int { return 0 }, Log: log,
	})
	r.checker = New(
		r.edition,
		fill,
		reader,
		eng,
		r.store,
		func() drift.Policy { return *r.policy.Load() },
		r.edition.Barrier,
		log,
	)
	go r.edition.Run(t.Context(), model.Claimed())
	var keys []string
	for id := range rows {
		r.row(id, 1)
		keys = append(keys, strconv.Itoa(id))
	}
	if err := deliver.Repair(t.Context(), r.edition, keys); err != nil {
		t.Fatal(err)
	}
	return r
}

// row writes a row, and no one notices.
func (r *rig) row(id, n int) {
	tx := r.db.Begin()
	tx.Put("huts", []string{strconv.Itoa(id)}, func(map[string]*string) map[string]*string {
		key, value := strconv.Itoa(id), strconv.Itoa(n)
		return map[string]*string{"id": &key, "n": &value}
	})
	tx.Commit()
}

// lose takes documents out of the engine.
func (r *rig) lose(keys ...string) {
	for _, key := range keys {
		if _, err := r.engine.Deliver(r.Context(), r.record.Name(), []engine.Document{{Key: key}}); err != nil {
			r.Fatal(err)
		}
	}
}

// holds is the value of a document, -1 when there is none.
func (r *rig) holds(key string) int64 {
	docs, err := r.engine.Get(r.Context(), r.record.Name(), []string{key})
	if err != nil {
		r.Fatal(err)
	}
	if docs[key] == nil {
		return -1
	}
	return gjson.GetBytes(docs[key], "n").Int()
}

func (r *rig) differs() string { return drift.Summary(r.checker.Status().Kinds) }

// by lists who asked for the checks that have ended.
func (r *rig) by() (out string) {
	list, err := r.store.Orders(r.Context(), "huts", 99)
	if err != nil {
		r.Fatal(err)
	}
	for _, o := range list {
		if o.EndedAt == nil || o.Outcome.Problem != "" || o.Outcome.Compared != o.Outcome.Rows {
			r.Errorf("%+v", o)
		}
		out += o.By + "; "
	}
	return out
}

// The sweep goes round and round, finds what differs, and repairs it where that is asked for; what values become by the time
// is repaired as often as it is asked for.
func TestTheSweepGoesRound(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		r := newRig(t, 1000)
		go r.checker.Run(t.Context())
		proven := func() float64 {
			c := r.checker.Status().Coverage
			return c.Proven(1000, 0, time.Now().Add(-time.Hour))
		}
		time.Sleep(5 * time.Second)
		if proven() != 1 || r.checker.Status().Coverage.Round != 1 {
			t.Errorf("%f is proven after the first round: %+v", proven(), r.checker.Status().Coverage)
		}
		r.lose("7", "8")
		r.row(9, 2)
		time.Sleep(5 * time.Minute)
		if r.differs() != "" {
			t.Errorf("looked again immediately: %s", r.differs())
		}
		time.Sleep(10 * time.Minute)
		if r.differs() != "2 missing, 1 stale" || r.holds("7") != -1 {
			t.Errorf("after another round: %q, %d", r.differs(), r.holds("7"))
		}
		few := *r.policy.Load()
		few.Repair, few.Few = drift.RepairFew, 1
		r.policy.Store(&few)
		time.Sleep(11 * time.Minute)
		if s := r.checker.Status(); s.Kinds[drift.Missing]+s.Kinds[drift.Stale] != 2 {
			t.Errorf("one may be repaired in a round: %q", r.differs())
		}
		all := few
		all.Repair = drift.RepairAll
		r.policy.Store(&all)
		time.Sleep(15 * time.Minute)
		if r.differs() != "" || r.holds("7") != 1 || r.holds("8") != 1 || r.holds("9") != 2 || proven() != 1 {
			t.Errorf("repaired: %q, %d %d %d, %f", r.differs(), r.holds("7"), r.holds("8"), r.holds("9"), proven())
		}

		timely := drift.Policy{Every: 24 * time.Hour, Repair: drift.ReportOnly, Refresh: time.Minute, Functions: []string{"now"}}
		r.policy.Store(&timely)
		time.Sleep(15 * time.Minute)
		r.row(10, 3)
		time.Sleep(2 * time.Minute)
		if r.holds("10") != 3 || r.differs() != "" {
			t.Errorf("a value that changes with the time is %d: %q", r.holds("10"), r.differs())
		}
		r.policy.Store(&drift.Policy{})
		before := r.checker.Status().Coverage.Round
		time.Sleep(24 * time.Hour)
		if now := r.checker.Status().Coverage.Round; now > before+1 {
			t.Errorf("%d rounds after it was to end", now-before)
		}
	})
}

// A check begins by itself at its times, and when the counts do not fit: once, not repeatedly.
func TestChecksBeginByThemselves(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		r := newRig(t, 100)
		r.policy.Store(&drift.Policy{At: "*/20 * * * *", Repair: drift.ReportOnly})
		ctx, stop := context.WithCancel(t.Context())
		ended := make(chan struct{})
		go func() {
			defer close(ended)
			r.checker.Run(ctx)
		}()
		time.Sleep(65 * time.Minute)
		if by := r.by(); by != "schedule; schedule; schedule; " {
			t.Errorf("asked by %s", by)
		}
		r.policy.Store(&drift.Policy{Repair: drift.ReportOnly})
		r.lose("7")
		since := time.Now()
		r.edition.Stats.Apart.Store(&since)
		time.Sleep(time.Hour)
		if by := r.by(); by != "counts that do not fit; schedule; schedule; schedule; " || r.differs() != "1 missing" {
			t.Errorf("asked by %s, found %q", by, r.differs())
		}

		// What was found is known to the process that comes next, and a sample finds as much as there is.
		stop()
		<-ended
		r.edition.Stats.Apart.Store(nil)
		for id := range 100 {
			r.lose(fmt.Sprint(id))
		}
		next := New(
			r.edition,
			nil,
			r.db.Open().Reader,
			r.checker.engine,
			r.store,
			func() drift.Policy { return *r.policy.Load() },
			r.edition.Barrier,
			slog.New(slog.DiscardHandler),
		)
		next.state = func() reindex.State { return reindex.Switched }
		r.checker = next
		go next.Run(t.Context())
		synctest.Wait()
		if r.differs() != "1 missing" {
			t.Errorf("after a restart %q is known", r.differs())
		}
		if _, err := r.store.AskDrift(t.Context(), r.record, drift.Asked{Most: 80}, "me"); err != nil {
			t.Fatal(err)
		}
		next.Nudge()
		time.Sleep(time.Minute)
		list, err := r.store.Orders(t.Context(), "huts", 1)
		if o := list[0].Outcome; err != nil || o.Compared < 80 || o.Kinds[drift.Missing] != o.Compared ||
			o.Causes[drift.Emptied] != o.Compared {
			t.Errorf("%+v %v", list[0], err)
		}
	})
}
