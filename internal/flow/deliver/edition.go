// Package deliver builds the documents of keys and brings them to an engine: lanes,
// batches, requests, acknowledgement, the backlog, and failed documents.
package deliver

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"pingo/internal/core/change"
	"pingo/internal/core/document"
	"pingo/internal/core/reindex"
	"pingo/internal/core/retry"
	"pingo/internal/core/stats"
	"pingo/internal/engine"
	"pingo/internal/flow/connect"
	"pingo/internal/records"
	"pingo/internal/source"
)

const (
	// Lanes is how many keys of an edition are delivered side by side.
	Lanes     = 4
	lineLimit = 2000 // keys, and changes for them, that may wait in a line; more go to the backlog
	batchKeys = 500  // keys read and sent together
	wideKeys  = 80   // of them, those of wide changes while there are fresh ones, which must not wait long
)

// Store is what the records keep of deliveries. Every write carries the edition's epoch.
type Store interface {
	FailedKeys(ctx context.Context, e *records.Edition, cause string) ([]string, error)
	SaveFailed(ctx context.Context, e *records.Edition, f records.Failed) error
	ResolveFailed(ctx context.Context, e *records.Edition, key string) error
	AddToBacklog(
		ctx context.Context,
		e *records.Edition,
		keys []string,
		at []time.Time,
	) (added int64, err error)
	Backlog(ctx context.Context, e *records.Edition, after string, n int) ([]records.BacklogEntry, error)
	RemoveFromBacklog(ctx context.Context, e *records.Edition, list []records.BacklogEntry) error
	BacklogSize(ctx context.Context, e *records.Edition) (n int64, oldest *time.Time, err error)
	AddRebuild(ctx context.Context, e *records.Edition, tree int, at time.Time) error
	Rebuilds(ctx context.Context, e *records.Edition) ([]records.Rebuild, error)
	RebuiltTo(ctx context.Context, e *records.Edition, b records.Rebuild) error
}

// Fence is the right under which an edition is fed.
type Fence interface {
	// NextVersion is above every version given before, also by other processes.
	NextVersion() int64
	// Given is the highest version that can have been given by now.
	Given() int64
	// Pass raises the next versions above one that another program gave a document, and reports whether it did.
	Pass(version int64) bool
	// Holds reports whether this process still has the right. When it has not, the
	// context of Run ends soon.
	Holds() bool
	// Confirm asks the records for that, and fails when they say no or nothing.
	Confirm(ctx context.Context) error
}

// Stats is what is counted of an edition.
type Stats struct {
	Built     stats.Meter // documents that were made of rows, or found to be gone
	Delivered stats.Meter // documents that the engine acknowledged
	Unchanged stats.Meter // built documents that were not sent, since the engine has them already
	Refused   stats.Meter // answers that refused a document
	Requests  stats.Meter // that the engine was sent
	Lag       stats.Lags
	Rows      stats.Counted // in the source
	Documents stats.Counted // in the engine
	Latest    Latest
	// Apart is since when the counts differ although nothing is pending; nil while they agree.
	Apart atomic.Pointer[time.Time]
}

// Missed is whether changes may be missing for good.
type Missed struct {
	known atomic.Pointer[records.Missed]
}

// Load is what is known; nil when none is missing.
func (m *Missed) Load() *records.Missed { return m.known.Load() }

// Note notes that changes may be missing. What was known stays, even if older
// word of the records comes late.
func (m *Missed) Note(missed *records.Missed) {
	for {
		known := m.known.Load()
		if missed == nil || known != nil && (known.Refill || !missed.Refill) || m.known.CompareAndSwap(known, missed) {
			return
		}
	}
}

// Edition delivers to one edition. Make one with New.
type Edition struct {
	// Record says which edition it is, and under which lease; it is not changed.
	Record *records.Edition
	Stats  Stats
	// Trouble is why deliveries do not go on.
	Trouble stats.TroubleSpot
	// Missed says that changes may be missing for good, as the records have it; only another
	// edition corrects that.
	Missed Missed

	reader source.Reader
	engine *connect.Engine
	store  Store
	fence  Fence
	log    *slog.Logger
	lanes  [Lanes]*lane
	slot   wideSlot
	debts
	failures failures
	chunks
	requests requests
	ended    chan struct{} // closed when Run has returned
}

// debts are what is to be built in addition to what is in the lanes. The records have them.
type debts struct {
	backlog  backlog
	rebuilds rebuilds
}

// requests are what is known of how the engine answers.
type requests struct {
	batch      retry.Batch
	unanswered atomic.Int64 // the number that were not
}

// New prepares an edition; the record must not be changed by others.
func New(
	record *records.Edition,
	reader source.Reader,
	eng *connect.Engine,
	store Store,
	fence Fence,
	log *slog.Logger,
) *Edition {
	e := &Edition{
		Record: record,
		reader: reader,
		engine: eng,
		store:  store,
		fence:  fence,
		ended:  make(chan struct{}),
		log:    log.With("index", record.Index, "edition", record.Name()),
	}
	e.Stats.Latest.since = time.Now()
	e.Missed.Note(record.Missed)
	for i := range e.lanes {
		e.lanes[i] = &lane{edition: e, number: i, ready: make(chan struct{}, 1), sending: make(mutex, 1)}
	}
	e.backlog.init()
	e.rebuilds.init()
	if !record.State.Unfilled() {
		e.SetFilled()
	}
	e.prepared = make(chan struct{})
	if record.State != reindex.Preparing || record.Copy != "" {
		e.SetPrepared()
	}
	e.failures.init()
	return e
}

// Run feeds the edition until the context ends. Nothing reaches the engine before claimed is closed;
// what lanes do not take goes into the backlog meanwhile, so that no other edition waits for this one.
func (e *Edition) Run(ctx context.Context, claimed <-chan struct{}) {
	defer close(e.ended)
	stop := context.AfterFunc(ctx, e.backlog.close)
	defer stop()
	// What an earlier process left is read before the first status.
	err := e.Until(ctx, func() error {
		if err := e.failures.load(ctx, e); err != nil {
			return fmt.Errorf("reading the failed documents: %w", err)
		}
		if err := e.rebuilds.load(ctx, e); err != nil {
			return err
		}
		return e.backlog.measure(ctx, e)
	})
	if err != nil {
		return
	}
	defer func() { // after all work has ended
		for _, l := range e.lanes {
			l.read.clear()
		}
	}()
	var wg sync.WaitGroup
	defer wg.Wait()
	wg.Go(func() { e.backlog.write(ctx, e) })
	select {
	case <-ctx.Done():
		return
	case <-claimed:
	}
	for _, l := range e.lanes {
		wg.Go(func() { l.run(ctx) })
	}
	wg.Go(func() { e.backlog.drain(ctx, e) })
	wg.Go(func() { e.backlog.relieve(ctx, e) })
	wg.Go(func() { e.rebuilds.run(ctx, e) })
}

// Ended is closed when Run has returned.
func (e *Edition) Ended() <-chan struct{} { return e.ended }

// Abandon waits until Run has returned, and closes the tickets that wait for documents:
// these are no longer needed.
func (e *Edition) Abandon() {
	<-e.ended
	for _, l := range e.lanes {
		l.abandon()
	}
	e.backlog.abandon()
}

// Line is one of the two waiting lines of a lane.
type Line int

// The lines: Fresh is for changes that touch few documents, Wide for those that may
// touch very many, and for the backlog.
const (
	Fresh Line = iota
	Wide
)

func (e *Edition) lane(key string) *lane { return e.lanes[change.Lane([]byte(key), Lanes)] }

// Add lets a key wait in a line of its lane, or in the backlog when too many wait there
// already. It blocks only while the records do not take the backlog.
func (e *Edition) Add(ctx context.Context, key string, t *change.Ticket, in Line) error {
	l := e.lane(key)
	if !t.Committed.IsZero() {
		e.slot.noteCommitted(t.Committed)
		if l.read.after(key, t.Committed) {
			return ctx.Err()
		}
	}
	if l.full(in) {
		return e.backlog.add(ctx, key, t)
	}
	if ctx.Err() == nil {
		l.add(key, t, in)
	}
	return ctx.Err()
}

// Repair has documents of an edition built and sent again, also when the engine seems to have them, and waits
// for their outcomes.
func Repair(ctx context.Context, e *Edition, keys []string) error {
	return change.Await(ctx, nil, func(t *change.Ticket) error {
		for _, key := range keys {
			l := e.lane(key)
			l.sending.lock()
			l.seen.Forget(key)
			l.sending.unlock()
			if err := e.Add(ctx, key, t, Wide); err != nil {
				return err
			}
		}
		return nil
	})
}

// Failing reports whether the document of a key is failed now.
func (e *Edition) Failing(key string) bool { return e.failures.has(key) }

// Barrier waits until every key that waits now, or is in flight, is settled, the backlog
// is empty, and what is being sent of chunks was answered.
func (e *Edition) Barrier(ctx context.Context) error {
	if err := e.rebuilds.empty(ctx); err != nil {
		return err
	}
	if err := e.backlog.empty(ctx, e); err != nil {
		return err
	}
	return change.Await(ctx, nil, func(t *change.Ticket) error {
		for _, l := range e.lanes {
			l.join(t)
		}
		return nil
	})
}

// LookAtBacklog reads keys immediately that other processes put into the backlog.
func (e *Edition) LookAtBacklog() { nudge(e.backlog.more) }

// ForgetDismissed takes documents out of the failed ones that were dismissed, here or
// through another process.
func (e *Edition) ForgetDismissed(ctx context.Context) error {
	return e.failures.forgetDismissed(ctx, e)
}

// Failed is how many documents are failed now.
func (e *Edition) Failed() int { return e.failures.count() }

// Waiting is the number of keys in the lanes and in the backlog, and about how many documents are to be built again.
func (e *Edition) Waiting() int {
	n := int(e.backlog.size.Load() + e.rebuilds.waiting(e.Rows()))
	for _, l := range e.lanes {
		n += l.waiting()
	}
	return n
}

// Oldest returns the time of the oldest pending change; zero if there is none.
func (e *Edition) Oldest() time.Time {
	oldest := Earlier(e.backlog.oldestWaiting(), e.rebuilds.oldest())
	for _, l := range e.lanes {
		oldest = Earlier(oldest, l.oldest())
	}
	return oldest
}

// Earlier is the earlier of two times; a zero one is none.
func Earlier(a, b time.Time) time.Time {
	if a.IsZero() || !b.IsZero() && b.Before(a) {
		return b
	}
	return a
}

// Until tries to do something for the edition until it succeeds or the context ends. It
// reports why it does not, and that it did at last.
func (e *Edition) Until(ctx context.Context, do func() error) error {
	failed := false
	err := retry.Until(ctx, do, func(err error, failures int) {
		failed = true
		e.report(err, failures)
	})
	if err == nil && failed {
		e.recovered()
	}
	return err
}

// report says why something does not go on. A first failure is not worth a word, unless
// it needs a person.
func (e *Edition) report(err error, failures int) {
	schema := source.FaultOf(err) == source.SchemaChanged
	blocked := schema || engine.FailureOf(err).Outcome == retry.Blocked
	if (failures > 1 || blocked) && e.Trouble.Note(stats.Trouble{Message: err.Error(), Blocked: blocked, Schema: schema}) {
		e.log.Warn("delivery waits", "blocked", blocked, "reason", err)
	}
}

func (e *Edition) recovered() {
	if e.Trouble.Clear() {
		e.log.Info("delivery resumed")
	}
}

// errLost says that the lease is lost, so that the context ends soon.
var errLost = errors.New("the lease is lost")

// DeliverChunk delivers the documents of a set that was read after BeginChunk, but for
// those that were rebuilt since. It returns how many rows and bytes there were, and
// how many documents were dropped. The arena is used again.
func (e *Edition) DeliverChunk(
	ctx context.Context,
	set *document.Set,
	version, mark int64,
	arena []byte,
) (Chunk, []byte, error) {
	e.chunks.versions.add(version)
	var byLane [Lanes][]engine.Document
	arena = assemble(set, version, arena, func(d engine.Document) {
		i := change.Lane([]byte(d.Key), Lanes)
		byLane[i] = append(byLane[i], d)
	})
	tree, unanswered := slices.Index(e.Record.Shape.Trees, set.Tree()), e.requests.unanswered.Load()
	c := Chunk{Rows: set.Rows(0).Len(), Bytes: len(arena)}
	for i, l := range e.lanes {
		dropped, ok := l.deliverChunk(ctx, tree, byLane[i], mark)
		if !ok {
			return c, arena, context.Cause(ctx)
		}
		c.Dropped += dropped
	}
	c.Late = e.requests.unanswered.Load() > unanswered
	return c, arena, nil
}

// versions is a set of some. The zero value is empty.
type versions struct {
	mu  sync.Mutex // guards set
	set map[int64]struct{}
}

// mostVersions bounds a set. A full set may have any version.
const mostVersions = 100_000

func (v *versions) add(version int64) {
	v.mu.Lock()
	defer v.mu.Unlock()
	if v.set == nil {
		v.set = map[int64]struct{}{}
	}
	if len(v.set) < mostVersions {
		v.set[version] = struct{}{}
	}
}

// mayHave reports whether a version was added, as far as that is known.
func (v *versions) mayHave(version int64) bool {
	v.mu.Lock()
	defer v.mu.Unlock()
	_, has := v.set[version]
	return has || len(v.set) == mostVersions
}

// Chunk is the outcome of a chunk. Late: a request with documents of the edition was not answered meanwhile, so it may
// still arrive.
type Chunk struct {
	Rows, Bytes, Dropped int
	Late                 bool
}

func nudge(c chan struct{}) {
	select {
	case c <- struct{}{}:
	default:
	}
}
