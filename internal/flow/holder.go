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
	"pingo/internal/core/drift"
	"pingo/internal/core/reindex"
	"pingo/internal/core/retry"
	"pingo/internal/core/shape"
	"pingo/internal/flow/connect"
	"pingo/internal/flow/deliver"
	"pingo/internal/flow/lease"
	"pingo/internal/flow/rebuild"
	"pingo/internal/flow/report"
	"pingo/internal/flow/stream"
	"pingo/internal/flow/sweep"
	"pingo/internal/flow/verify"
	"pingo/internal/records"
	"pingo/internal/source"
)

// holder works on sources while their leases are held: it reads the changes and feeds the
// editions. There are several where documents are made from several sources: the process that reads the changes
// of one of them must feed all editions that they touch.
type holder struct {
	sources       sources // by name
	began         time.Time
	connections   *connect.Connections
	records       Records
	repairCapture func(ctx context.Context, source string) error // installs capture where it is missing
	wake          func()                                         // makes the service read the records immediately
	others        func() int                                     // how many other processes are alive
	log           *slog.Logger

	cancel   context.CancelFunc
	stopped  chan struct{}              // closed when run has returned
	requests chan func(context.Context) // carried out by run, in its context
	work     sync.WaitGroup

	counts    verify.Counts
	inherited map[editionName]bool // others may have fed these before; not changed once it has started

	mu       sync.Mutex // guards editions
	editions map[editionName]*fed
}

// held is a source whose lease is held.
type held struct {
	name    string
	lease   *lease.Lease
	source  *source.Source
	stream  *stream.Stream
	claimer *lease.Claimer
}

// sources are held together.
type sources []*held

func (list sources) names() []string {
	out := make([]string, len(list))
	for i, x := range list {
		out[i] = x.name
	}
	return out
}

// of is a source of a name, nil when it is not among them.
func (list sources) of(name string) *held {
	for _, x := range list {
		if x.name == name {
			return x
		}
	}
	return nil
}

// hold reports whether no other process can hold any of the leases yet.
func (list sources) hold() bool {
	return !slices.ContainsFunc(list, func(x *held) bool { return !x.lease.Holds() })
}

// claimed is closed when all of them are claimed at the same time: until then, no process would notice
// that what was read of one of them was undone.
func (list sources) claimed(ctx context.Context) <-chan struct{} {
	all := make(chan struct{})
	go func() {
		for waited := true; waited; {
			waited = false
			for _, x := range list {
				claimed := x.claimer.Claimed()
				select {
				case <-claimed:
					continue
				default:
					waited = true
				}
				select {
				case <-ctx.Done():
					return
				case <-claimed:
				}
			}
		}
		close(all)
	}()
	return all
}

// fed is an edition, and the work on it.
type fed struct {
	report.Fed
	reader  source.Reader
	record  *records.Edition
	engine  *connect.Engine
	cancel  context.CancelFunc
	stopped chan struct{} // closed when all work on it has ended
	leaving bool          // guarded by holder.mu
}

// newHolder prepares to work on the sources of some leases, ordered by name.
func (s *Service) newHolder(leases []*lease.Lease) *holder {
	h := &holder{
		began:       time.Now(),
		connections: s.connections,
		records:     s.records,
		log:         s.log,
		stopped:     make(chan struct{}),
		requests:    make(chan func(context.Context)),
		editions:    map[editionName]*fed{},
		inherited:   map[editionName]bool{},
	}
	for _, l := range leases {
		src := s.connections.Source(l.Source())
		x := &held{name: l.Source(), lease: l, source: src, stream: stream.New(l.Source(), src, s.log)}
		x.stream.TargetLag = func() time.Duration {
			if def := h.connections.Definition().Source(x.name); def != nil {
				return def.TargetLag
			}
			return definition.DefaultTargetLag
		}
		missed := func(ctx context.Context, reason string) error { return h.allMissed(ctx, x, reason) }
		x.claimer = lease.NewClaimer(l, src.Feed, s.Define.Service, missed, &x.stream.Trouble, s.log)
		h.sources = append(h.sources, x)
	}
	h.repairCapture, h.others = s.Define.RepairCapture, func() int { return others(s) }
	h.wake = func() { ReconcileNow(s) }
	return h
}

// start begins to work in the background, until stop is called or a lease is lost.
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
	for _, x := range h.sources {
		h.work.Go(func() {
			x.lease.Keep(
				ctx,
				func() json.RawMessage { return h.status(x) },
				func(ctx context.Context) error { return h.allMissed(ctx, x, lease.RecordsOlder) },
				h.log,
			)
		})
		h.work.Go(func() {
			report.History(
				ctx,
				x.stream,
				func() []*report.Fed { return h.reported(x.name) },
				h.records.SaveSamples,
				h.log,
			)
		})
		h.work.Go(func() {
			select {
			case <-ctx.Done():
			case <-x.lease.Lost():
				h.cancel()
			}
		})
		h.work.Go(func() { h.read(ctx, x) })
	}
	for {
		select {
		case <-ctx.Done():
			return
		case do := <-h.requests:
			do(ctx)
		}
	}
}

// read claims a source's changes, once they are noticed, and reads them.
func (h *holder) read(ctx context.Context, x *held) {
	if x.source.Capture != nil {
		watch := &verify.Capture{
			Source:  x.name,
			Capture: x.source.Capture,
			Stream:  x.stream,
			Repair:  func(ctx context.Context) error { return h.repairCapture(ctx, x.name) },
			Missed: func(ctx context.Context, table shape.Ref, reason string, refill bool) error {
				return h.missed(ctx, x, table, reason, refill)
			},
			Log: h.log,
			Editions: func() []*deliver.Edition {
				var out []*deliver.Edition
				for _, f := range h.reported("") {
					out = append(out, f.Edition)
				}
				return out
			},
			Limit: func() (bytes int64, remove bool) {
				def := h.connections.Definition().Source(x.name)
				if def == nil {
					return definition.DefaultJournalLimit, false
				}
				return def.JournalLimit, def.PastLimit == "remove"
			},
		}
		watch.Await(ctx)
		h.work.Go(func() { watch.Watch(ctx) })
	}
	x.claimer.Run(ctx, x.stream.Run)
}

// missed records that changes of a source's table may be missing for good in the editions that read
// it. refill says that others are begun without being asked for.
func (h *holder) missed(ctx context.Context, x *held, table shape.Ref, reason string, refill bool) error {
	for _, f := range h.all() {
		if known := f.Edition.Missed.Load(); !f.record.Shape.Captures(x.name, table) ||
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
	f.Edition.Missed.Note(&records.Missed{Reason: reason, Since: time.Now(), Refill: refill})
	h.log.Error("changes may be missing", "edition", f.record.Name(), "reason", reason, "refill", refill)
	h.wake()
	return nil
}

// allMissed records that changes of a source may be missing in all editions, also those
// that are not fed yet. Others are begun in their place.
func (h *holder) allMissed(ctx context.Context, x *held, reason string) error {
	known := h.all() // those that come later begin later, too
	if err := h.records.SaveAllMissed(ctx, x.name, x.lease.Fence(), reason); err != nil {
		return fmt.Errorf("recording that changes may be missing: %w", err)
	}
	for _, f := range known {
		if slices.Contains(f.record.Shape.Sources(), x.name) {
			f.Edition.Missed.Note(&records.Missed{Reason: reason, Since: time.Now(), Refill: true})
		}
	}
	h.log.Error("changes may be missing in all editions", "source", x.name, "reason", reason)
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
	var from sources
	for _, name := range record.Shape.Sources() {
		from = append(from, h.sources.of(name))
	}
	reader := source.Across(record.Shape, func(name string) source.Reader { return h.sources.of(name).source.Reader })
	fence := from[0].lease
	record.Fence = fence.Fence()
	e := deliver.New(record, reader, eng, h.records, fence, h.log)
	f := &fed{record: record, reader: reader, engine: eng, stopped: make(chan struct{})}
	f.Edition = e
	var alone time.Time
	if h.inherited[f.name()] {
		alone = h.began
	}
	for _, x := range from {
		f.Followers = append(f.Followers, stream.NewFollower(stream.Options{
			Edition: e, Name: record.Name(), Shape: record.Shape, Source: x.name, Reader: reader, Engine: eng.Engine,
			Missed:          func(ctx context.Context, reason string) error { return h.missedIn(ctx, f, reason, true) },
			OnlyFeederSince: alone,
		}))
	}
	policy := func() reindex.Policy {
		if ix := h.connections.Definition().Index(record.Index); ix != nil {
			return ix.Reindex
		}
		return reindex.DefaultPolicy
	}
	bulk := source.Across(record.Shape, func(name string) source.Reader { return h.sources.of(name).source.BulkReader() })
	f.Fill = rebuild.New(rebuild.Options{
		Record: record, Edition: e, Reader: bulk, Engine: eng, Store: h.records, Fence: fence,
		Policy: policy, Others: h.others, Log: h.log,
	})
	caughtUp := func(ctx context.Context) error {
		for i, x := range from {
			if err := x.stream.CaughtUp(ctx, f.Followers[i]); err != nil {
				return err
			}
		}
		return nil
	}
	checked := func() drift.Policy {
		out := drift.DefaultPolicy
		if ix := h.connections.Definition().Index(record.Index); ix != nil {
			out = ix.Drift
		}
		if slices.ContainsFunc(h.all(), func(other *fed) bool {
			state, _ := other.Fill.State()
			return other != f && other.record.Index == record.Index && state.Pending()
		}) {
			out.Every, out.Refresh = 0, 0 // the sweep waits for the edition that is being filled
		}
		return out
	}
	f.Checker = sweep.New(e, f.Fill, bulk, eng, h.records, checked, caughtUp, h.log)
	ctx, f.cancel = context.WithCancel(ctx)
	h.mu.Lock()
	h.editions[editionName{record.Index, record.Number}] = f
	h.mu.Unlock()
	if record.State == reindex.Cancelled { // it is only there to be dropped
		f.cancel()
	} else {
		for i, x := range from {
			x.stream.Add(f.Followers[i])
		}
	}
	h.work.Go(func() {
		defer close(f.stopped)
		var work sync.WaitGroup
		defer work.Wait()
		claimed := from.claimed(ctx)
		work.Go(func() { e.Run(ctx, claimed) })
		for _, follower := range f.Followers {
			work.Go(func() { follower.Run(ctx) })
		}
		select {
		case <-ctx.Done():
			return
		case <-claimed: // no other process has the epoch now
		}
		work.Go(func() { verify.Count(ctx, e, f.Fill, &h.counts, reader, eng, h.log) })
		if record.State == reindex.Cancelled {
			return
		}
		work.Go(func() { f.Checker.Run(ctx) })
		work.Go(func() { watchName(ctx, h, f) })
		work.Go(func() { watchCopy(ctx, h, f) })
		work.Go(func() { watchSchema(ctx, h, f) })
		f.Fill.Run(ctx, caughtUp, func(ctx context.Context) {
			for _, other := range h.all() {
				if other != f && other.record.Index == record.Index {
					other.Fill.Stepped()
				}
			}
			h.wake() // others look at what it replaces
			h.keepAnswering(ctx, f)
		})
	})
}

// engine is the engine that holds an edition: that of the definition in force, or, when it
// no longer has one of that name, that of the definition that the edition was made by.
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

// leaving says what to do with an edition that is no longer fed.
type leaving int

const (
	forget   leaving = iota // the engine keeps its copy
	drop                    // the engine drops it
	setAside                // it stays known until another one has taken its place: the engine has no copy
)

// leave stops feeding an edition. The changes that wait for it no longer wait, and it takes no memory.
func (h *holder) leave(name editionName, how leaving) {
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
			for i, name := range f.record.Shape.Sources() {
				h.sources.of(name).stream.Remove(f.Followers[i])
			}
			f.cancel()
			<-f.stopped
			for _, follower := range f.Followers {
				follower.Abandon()
			}
			f.Edition.Abandon()
			if how == drop && retry.Until(ctx, func() error { return h.drop(ctx, f) }, func(err error, failures int) {
				if failures == 2 {
					h.log.Warn("edition not dropped yet", "edition", f.record.Name(), "reason", err)
				}
			}) != nil {
				return
			}
			h.mu.Lock()
			defer h.mu.Unlock()
			if how == setAside {
				f.leaving = false
			} else {
				delete(h.editions, name)
			}
		})
	})
}

// drop makes the engine drop an edition. A switch to it that was in flight may have arrived
// meanwhile, so the public name is checked before and afterwards.
func (h *holder) drop(ctx context.Context, f *fed) error {
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-h.sources.of(f.record.Shape.Source).claimer.Claimed():
	}
	if retired, err := h.records.Retire(ctx, f.record); err != nil || !retired {
		return err // the list of editions was older than the switch
	}
	if err := h.answerElsewhere(ctx, f); err != nil {
		return err
	}
	if !h.sources.hold() {
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

// keepAnswering looks, when an edition has begun to answer, whether the public name points to the
// live one: a switch to another edition may have arrived after its own and before the records
// had it, when the other's drop did not know it yet.
func (h *holder) keepAnswering(ctx context.Context, f *fed) {
	_ = retry.Until(ctx, func() error { return h.answerElsewhere(ctx, f) }, func(err error, failures int) {
		if failures == 2 {
			h.log.Warn("public name not looked at", "edition", f.record.Name(), "reason", err)
		}
	}) // it ends with ctx only
}

// nameCheckInterval is the interval between checks of one public name, and lookAtNames that between checks of any two.
// The first grows where there are many editions.
const (
	nameCheckInterval = 5 * time.Second
	lookAtNames       = 250 * time.Millisecond
)

// watchCopy looks whether the engine still holds the copy of an edition that was filled. One that was restored, made
// again or is on another server lacks documents, and refuses those that are older than what it holds: nothing that is
// known of the edition holds for it.
func watchCopy(ctx context.Context, h *holder, f *fed) {
	for retry.Sleep(ctx, max(nameCheckInterval, time.Duration(len(h.all()))*lookAtNames)) {
		copy, err := f.engine.Copy(ctx, f.record.Name())
		if err != nil {
			continue
		}
		same, err := rebuild.Adopt(ctx, f.Fill, copy)
		if err != nil || same {
			continue
		}
		reason := "the engine has another copy of this edition than the one that Pingo filled: it was restored or recreated, or the server was replaced"
		if copy == "" {
			reason = "the engine no longer has this edition: it was deleted, or the server was replaced"
		}
		if f.Edition.Missed.Load() == nil {
			state, _ := f.Fill.State()
			if err := h.missedIn(ctx, f, reason, state != reindex.Previous); err != nil {
				continue
			}
		}
		if copy == "" {
			h.leave(f.name(), setAside)
			return
		}
	}
}

// unbuildableFor is how long a kept edition may be one that cannot be built.
const unbuildableFor = 10 * time.Second

// watchSchema gives up a kept edition that can no longer be built, such as after the column was dropped that the live edition
// does without. No one can return to it, and the journal would keep every change for it.
func watchSchema(ctx context.Context, h *holder, f *fed) {
	for retry.Sleep(ctx, time.Second) {
		state, _ := f.Fill.State()
		trouble := f.Edition.Trouble.Get()
		if state != reindex.Previous || trouble == nil || !trouble.Schema || time.Since(trouble.Since) < unbuildableFor {
			continue
		}
		if h.missedIn(ctx, f, trouble.Message, false) == nil {
			return
		}
	}
}

// watchName checks, while an edition is the live one, that the public name leads to it. A person may have moved
// it; or a switch was in flight for long, to an edition that the records no longer know since they were
// put back (small storm, seed 60008497).
func watchName(ctx context.Context, h *holder, f *fed) {
	for retry.Sleep(ctx, max(nameCheckInterval, time.Duration(len(h.all()))*lookAtNames)) {
		if state, _ := f.Fill.State(); state != reindex.Switched {
			continue
		}
		names, err := f.engine.Resolve(ctx, f.record.Index)
		if err == nil && !slices.Equal(names, []string{f.record.Name()}) {
			h.keepAnswering(ctx, f)
		}
	}
}

// answerElsewhere ensures that the public name points to the live edition, when there is
// one in the same engine. It may be older than the one that is dropped, which was overtaken or
// cancelled while its switch was in flight. Another process may move the name meanwhile, to an
// edition that it is about to record: that process checks again, by what is recorded then.
func (h *holder) answerElsewhere(ctx context.Context, f *fed) error {
	turn := f.engine.Names.Turn(f.record.Index)
	if !turn.Take(ctx) {
		return ctx.Err()
	}
	defer turn.Give()
	for {
		live, _, err := h.records.Live(ctx, f.record)
		if err != nil || live == nil || live.Engine != f.record.Engine {
			return err
		}
		names, err := f.engine.Resolve(ctx, f.record.Index)
		if err != nil || slices.Equal(names, []string{live.Name()}) {
			return err
		}
		if copy, err := f.engine.Copy(ctx, live.Name()); err != nil || copy == "" { // another will take its place
			return err
		}
		if !h.sources.hold() {
			<-ctx.Done()
			return ctx.Err()
		}
		h.log.Warn("public name switched again", "edition", live.Name(), "instead", names)
		if err := f.engine.Switch(ctx, f.record.Index, live.Name()); err != nil {
			return err
		}
	}
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

// reported lists the editions that are fed under the lease of a source, or of any, in order, without
// those that were cancelled.
func (h *holder) reported(source string) []*report.Fed {
	var out []*report.Fed
	for _, f := range h.all() {
		h.mu.Lock()
		leaving := f.leaving
		h.mu.Unlock()
		if f.record.State != reindex.Cancelled && !leaving && (source == "" || source == f.record.Shape.Source) {
			out = append(out, &f.Fed)
		}
	}
	return out
}

// heldStatus is what a process says of a source that it holds.
type heldStatus struct {
	holder  string
	free    bool
	since   time.Time // since when it is held, or free
	heard   time.Time // when the holder last spoke
	By      string    // the process that reported this, which may be the previous holder
	Source  api.SourceStatus
	Indexes []api.IndexStatus
	Recent  []api.RecentChange // the newest first
}

func (h *holder) currentStatus(x *held) heldStatus {
	return heldStatus{
		since:  h.began,
		By:     x.lease.Process(),
		Source: report.Source(x.name, x.stream),
		Recent: x.stream.Recent(),
		Indexes: report.Indexes(h.reported(x.name), func(name string) api.SourceStatus {
			return report.Source(name, h.sources.of(name).stream)
		}),
	}
}

// status is currentStatus, for the records.
func (h *holder) status(x *held) json.RawMessage {
	out, err := json.Marshal(h.currentStatus(x))
	if err != nil {
		h.log.Error("status not written", "error", err)
	}
	return out
}
