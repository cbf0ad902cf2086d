package flow

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"maps"
	"slices"
	"sync"
	"time"

	"pingo/internal/api"
	"pingo/internal/core/definition"
	"pingo/internal/core/reindex"
	"pingo/internal/core/retry"
	"pingo/internal/core/shape"
	"pingo/internal/flow/connect"
	"pingo/internal/flow/deliver"
	"pingo/internal/flow/lease"
	"pingo/internal/flow/rebuild"
	"pingo/internal/flow/report"
	"pingo/internal/flow/stream"
	"pingo/internal/flow/verify"
	"pingo/internal/records"
	"pingo/internal/source"
)

// holder works on a source while its lease is held: it reads the changes and feeds the
// editions.
type holder struct {
	lease       *lease.Lease
	began       time.Time
	source      *source.Source
	stream      *stream.Stream
	connections *connect.Connections
	records     Records
	claimer     *lease.Claimer
	mend        func(ctx context.Context) error // installs capture where it is missing
	wake        func()                          // has the service look into the records at once
	log         *slog.Logger

	cancel   context.CancelFunc
	stopped  chan struct{}              // closed when run has returned
	requests chan func(context.Context) // carried out by run, in its context
	work     sync.WaitGroup

	mu       sync.Mutex // guards editions
	editions map[editionName]*fed
}

// fed is an edition, and the work on it.
type fed struct {
	report.Fed
	record  *records.Edition
	engine  *connect.Engine
	cancel  context.CancelFunc
	stopped chan struct{} // closed when all work on it has ended
	leaving bool          // guarded by holder.mu
}

func (s *Service) newHolder(l *lease.Lease) *holder {
	src := s.connections.Source(l.Source())
	h := &holder{
		lease:       l,
		began:       time.Now(),
		source:      src,
		stream:      stream.New(l.Source(), src, s.log),
		connections: s.connections,
		records:     s.records,
		log:         s.log,
		stopped:     make(chan struct{}),
		requests:    make(chan func(context.Context)),
		editions:    map[editionName]*fed{},
	}
	h.claimer = lease.NewClaimer(l, src.Feed, s.Define.Service, h.allMissed, &h.stream.Trouble, s.log)
	h.mend = func(ctx context.Context) error { return s.Define.MendCapture(ctx, l.Source()) }
	h.wake = func() {
		select {
		case s.wake <- struct{}{}:
		default:
		}
	}
	return h
}

// start begins to work in the background, until stop is called or the lease is lost.
// Every edition that the records know of follows the changes before the first is read: a
// change that is done was seen by all of them.
func (h *holder) start(ctx context.Context, editions []*records.Edition) {
	ctx, h.cancel = context.WithCancel(ctx)
	for _, e := range editions {
		h.begin(ctx, e)
	}
	go h.run(ctx)
}

// stop ends all work, and waits for its end.
func (h *holder) stop() {
	h.cancel()
	<-h.stopped
}

func (h *holder) run(ctx context.Context) {
	defer close(h.stopped)
	defer h.work.Wait()
	defer h.cancel()
	h.work.Go(func() {
		h.lease.Keep(
			ctx,
			h.status,
			func(ctx context.Context) error { return h.allMissed(ctx, lease.RecordsOlder) },
			h.log,
		)
	})
	h.work.Go(func() {
		report.History(
			ctx,
			h.stream,
			h.reported,
			func(ctx context.Context, index string, p api.HistoryPoint) error {
				return h.records.SaveSample(ctx, index, p.At, p)
			},
			h.log,
		)
	})
	h.work.Go(func() { h.read(ctx) })
	for {
		select {
		case <-ctx.Done():
			return
		case <-h.lease.Lost():
			return
		case do := <-h.requests:
			do(ctx)
		}
	}
}

// read claims the source's changes, once they are noticed, and reads them.
func (h *holder) read(ctx context.Context) {
	if h.source.Capture != nil {
		watch := &verify.Capture{
			Source:  h.lease.Source(),
			Capture: h.source.Capture,
			Stream:  h.stream,
			Mend:    h.mend,
			Missed:  h.missed,
			Log:     h.log,
			Editions: func() []*deliver.Edition {
				var out []*deliver.Edition
				for _, f := range h.reported() {
					out = append(out, f.Edition)
				}
				return out
			},
			Limit: func() (bytes int64, remove bool) {
				def := h.connections.Definition().Source(h.lease.Source())
				if def == nil {
					return definition.DefaultJournalLimit, false
				}
				return def.JournalLimit, def.PastLimit == "remove"
			},
		}
		watch.Await(ctx)
		h.work.Go(func() { watch.Watch(ctx) })
	}
	h.claimer.Run(ctx, h.stream.Run)
}

// missed records that changes of a table may be missing for good in the editions that read
// it. refill says that others are begun without being asked for.
func (h *holder) missed(ctx context.Context, table shape.Ref, reason string, refill bool) error {
	for _, f := range h.all() {
		if known := f.Edition.Missed.Load(); !f.record.Shape.Captures(table) ||
			known != nil && (known.Refill || !refill) {
			continue
		}
		if err := h.missedIn(ctx, f, reason, refill); err != nil {
			return err
		}
	}
	return nil
}

func (h *holder) missedIn(ctx context.Context, f *fed, reason string, refill bool) error {
	if err := h.records.SaveMissed(ctx, f.record, reason, refill); err != nil {
		return fmt.Errorf("recording that changes may be missing: %w", err)
	}
	f.Edition.Missed.Store(&records.Missed{Reason: reason, Since: time.Now(), Refill: refill})
	h.log.Error("changes may be missing", "edition", f.record.Name(), "reason", reason, "refill", refill)
	h.wake()
	return nil
}

// allMissed records that changes may be missing in all editions of the source, also those
// that are not fed yet. Others are begun in their place.
func (h *holder) allMissed(ctx context.Context, reason string) error {
	known := h.all() // those that come later begin later, too
	if err := h.records.SaveAllMissed(ctx, h.lease.Source(), h.lease.Fence(), reason); err != nil {
		return fmt.Errorf("recording that changes may be missing: %w", err)
	}
	for _, f := range known {
		f.Edition.Missed.Store(&records.Missed{Reason: reason, Since: time.Now(), Refill: true})
	}
	h.log.Error("changes may be missing in all editions", "source", h.lease.Source(), "reason", reason)
	h.wake()
	return nil
}

// do has run do something in its context, unless it ends.
func (h *holder) do(f func(ctx context.Context)) {
	select {
	case h.requests <- f:
	case <-h.stopped:
	}
}

// add feeds one more edition.
func (h *holder) add(record *records.Edition) {
	h.do(func(ctx context.Context) { h.begin(ctx, record) })
}

// begin feeds an edition, and fills it when it is not switched to yet.
func (h *holder) begin(ctx context.Context, record *records.Edition) {
	eng, err := h.engine(ctx, record)
	if err != nil {
		h.log.Warn(
			"edition not fed, since its engine cannot be opened",
			"edition",
			record.Name(),
			"reason",
			err,
		)
		return
	}
	record.Fence = h.lease.Fence()
	e := deliver.New(record, h.source.Reader, eng, h.records, h.lease, h.log)
	f := &fed{record: record, engine: eng, stopped: make(chan struct{})}
	f.Edition = e
	f.Follower = stream.NewFollower(e, record.Name(), record.Shape, h.source.Reader, eng.Engine,
		func(ctx context.Context, reason string) error { return h.missedIn(ctx, f, reason, true) })
	if record.State != reindex.Switched {
		f.Fill = rebuild.New(record, e, h.source.Reader, eng, h.records, h.lease, h.log)
	}
	ctx, f.cancel = context.WithCancel(ctx)
	h.mu.Lock()
	h.editions[editionName{record.Index, record.Number}] = f
	h.mu.Unlock()
	if record.State == reindex.Cancelled { // it is only there to be dropped
		f.cancel()
	} else {
		h.stream.Add(f.Follower)
	}
	h.work.Go(func() {
		defer close(f.stopped)
		select {
		case <-ctx.Done():
			f.Edition.Skip()
			return
		case <-h.claimer.Claimed(): // nobody else has the epoch now
		}
		var work sync.WaitGroup
		work.Go(func() { e.Run(ctx) })
		work.Go(func() { f.Follower.Run(ctx) })
		work.Go(func() { verify.Count(ctx, e, h.source.Reader, eng, h.log) })
		if f.Fill != nil && record.State != reindex.Cancelled {
			work.Go(func() {
				if f.Fill.Run(
					ctx,
					func(ctx context.Context) error { return h.stream.CaughtUp(ctx, f.Follower) },
				) == nil {
					h.keepAnswering(ctx, f)
					h.wake() // what it replaces is retired
				}
			})
		} else if record.State == reindex.Switched {
			work.Go(func() { h.keepAnswering(ctx, f) })
		}
		work.Wait()
	})
}

// engine is the engine that holds an edition: that of the definition in force, or, when it
// has none of that name any more, that of the definition that the edition was made by.
func (h *holder) engine(ctx context.Context, record *records.Edition) (*connect.Engine, error) {
	if eng := h.connections.Engine(record.Engine); eng != nil {
		return eng, nil
	}
	applied, err := h.records.DefinitionVersion(ctx, record.Definition)
	if err != nil {
		return nil, err
	}
	if applied == nil {
		return nil, fmt.Errorf("there is no definition version %d", record.Definition)
	}
	def, _ := h.connections.Parse(applied.Files)
	eng := def.Engine(record.Engine)
	if eng == nil || eng.Broken {
		return nil, fmt.Errorf("engine %s is in no definition that can be used", record.Engine)
	}
	if eng.Kind == "" {
		eng.Kind = applied.EngineKinds[eng.Name]
	}
	return h.connections.AddEngine(eng)
}

// leave stops feeding an edition; the changes that waited for it wait no longer. The
// engine's copy goes, too, when it is to.
func (h *holder) leave(name editionName, drop bool) {
	h.mu.Lock()
	f := h.editions[name]
	again := f == nil || f.leaving
	if !again {
		f.leaving = true
	}
	h.mu.Unlock()
	if again {
		return
	}
	h.do(func(ctx context.Context) {
		h.work.Go(func() {
			h.stream.Remove(f.Follower)
			f.cancel()
			<-f.stopped
			f.Follower.Abandon()
			f.Edition.Abandon()
			if drop && retry.Until(ctx, func() error { return h.drop(ctx, f) }, func(err error, failures int) {
				if failures == 2 {
					h.log.Warn("edition not dropped yet", "edition", f.record.Name(), "reason", err)
				}
			}) != nil {
				return
			}
			h.mu.Lock()
			delete(h.editions, name)
			h.mu.Unlock()
		})
	})
}

// drop has the engine drop an edition. A switch to it that was on its way may have arrived
// meanwhile, so the public name is looked at before and afterwards.
func (h *holder) drop(ctx context.Context, f *fed) error {
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-h.claimer.Claimed():
	}
	if err := h.answerElsewhere(ctx, f); err != nil {
		return err
	}
	if !h.lease.Holds() {
		<-ctx.Done()
		return ctx.Err()
	}
	if err := f.engine.Drop(ctx, f.record.Name()); err != nil {
		return err
	}
	if err := h.answerElsewhere(ctx, f); err != nil {
		return err
	}
	if err := h.records.DeleteEdition(ctx, f.record); err != nil {
		return err
	}
	h.log.Info("edition dropped", "edition", f.record.Name())
	return nil
}

// keepAnswering looks once, when an edition is live, whether the public name points to the
// live one: a switch to another edition may have arrived after its own and before the records
// had it, when the other's drop did not know it yet.
func (h *holder) keepAnswering(ctx context.Context, f *fed) {
	_ = retry.Until(ctx, func() error { return h.answerElsewhere(ctx, f) }, func(err error, failures int) {
		if failures == 2 {
			h.log.Warn("public name not looked at", "edition", f.record.Name(), "reason", err)
		}
	}) // it ends with ctx only
}

// answerElsewhere sees to it that the public name points to the live edition, when there is
// one in the same engine. It may be older than the one that is dropped, which was overtaken or
// cancelled while its switch was on its way.
func (h *holder) answerElsewhere(ctx context.Context, f *fed) error {
	turn := f.engine.Names.Turn(f.record.Index)
	if !turn.Take(ctx) {
		return ctx.Err()
	}
	defer turn.Give()
	var live *fed
	for _, other := range h.reported() {
		if r := other.Edition.Record; r.Index == f.record.Index && r.Engine == f.record.Engine && other.Live() {
			live = h.fed(editionName{r.Index, r.Number}) // the newest comes last
		}
	}
	if live == nil {
		return nil
	}
	names, err := f.engine.Resolve(ctx, f.record.Index)
	if err != nil || slices.Equal(names, []string{live.record.Name()}) {
		return err
	}
	if !h.lease.Holds() {
		<-ctx.Done()
		return ctx.Err()
	}
	h.log.Warn("public name switched again", "edition", live.record.Name(), "instead", names)
	return f.engine.Switch(ctx, f.record.Index, live.record.Name())
}

// all lists the editions that are fed, or about to be left, in order.
func (h *holder) all() []*fed {
	h.mu.Lock()
	defer h.mu.Unlock()
	return slices.SortedFunc(maps.Values(h.editions), func(a, b *fed) int {
		return cmp.Or(cmp.Compare(a.record.Index, b.record.Index), a.record.Number-b.record.Number)
	})
}

func (f *fed) name() editionName { return editionName{f.record.Index, f.record.Number} }

func (h *holder) fed(name editionName) *fed {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.editions[name]
}

// reported lists the editions in order, without those that were cancelled.
func (h *holder) reported() []*report.Fed {
	var out []*report.Fed
	for _, f := range h.all() {
		h.mu.Lock()
		leaving := f.leaving
		h.mu.Unlock()
		if f.record.State != reindex.Cancelled && !leaving {
			out = append(out, &f.Fed)
		}
	}
	return out
}

// heldStatus is what a process says of a source that it holds.
type heldStatus struct {
	holder  string
	free    bool
	since   time.Time // since when it is held so, or nobody holds it
	heard   time.Time // when the holder last spoke
	Source  api.SourceStatus
	Indexes []api.IndexStatus
	Recent  []api.RecentChange // the newest first
}

func (h *holder) currentStatus() heldStatus {
	p := heldStatus{
		since:  h.began,
		Source: report.Source(h.lease.Source(), h.stream),
		Recent: h.stream.Recent(),
	}
	p.Indexes = report.Indexes(h.reported(), p.Source)
	return p
}

// status is what is heldStatus, for the records.
func (h *holder) status() json.RawMessage {
	out, err := json.Marshal(h.currentStatus())
	if err != nil {
		h.log.Error("status not written", "error", err)
	}
	return out
}
