// Package rebuild fills editions, chunk by chunk, and switches to them.
package rebuild

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sync/errgroup"

	"pingo/internal/core/change"
	"pingo/internal/core/document"
	"pingo/internal/core/reindex"
	"pingo/internal/core/retry"
	"pingo/internal/core/shape"
	"pingo/internal/engine"
	"pingo/internal/flow/connect"
	"pingo/internal/flow/deliver"
	"pingo/internal/records"
	"pingo/internal/source"
)

// Store is what the records keep of fills. Every write carries the edition's epoch.
type Store interface {
	SaveEdition(ctx context.Context, e *records.Edition) error
	SaveCopy(ctx context.Context, e *records.Edition, copy string) error
	// SaveSwitched records that an edition answers, and keeps the one that did for some time.
	SaveSwitched(ctx context.Context, e *records.Edition, keep time.Duration) error
	// SaveEvent records an event of an edition that is not a step.
	SaveEvent(ctx context.Context, e *records.Edition, what string) error
	PlanChunk(ctx context.Context, e *records.Edition, c records.Chunk, tree int, all, offered bool) error
	OpenChunks(ctx context.Context, e *records.Edition) ([]records.Chunk, error)
	ChunkDone(ctx context.Context, e *records.Edition, c records.Chunk, rows, bytes int64) error
	LendingStore
	HelpingStore
	// Live is the edition that answers where another one is to, and how many failed documents it has;
	// nil when none does.
	Live(ctx context.Context, instead *records.Edition) (live *records.Edition, failed int64, err error)
	// Decided reports whether a person has said that an edition is to answer.
	Decided(ctx context.Context, e *records.Edition) (bool, error)
}

// Workers read and send chunks side by side.
const Workers = 4

// Fill takes an edition from wherever it stands to switched, and again when it is to answer again. Every
// step is recorded before it is taken, and can be taken again.
type Fill struct {
	edition *deliver.Edition
	reader  source.Reader
	engine  *connect.Engine
	store   Store
	fence   deliver.Fence
	policy  func() reindex.Policy
	pacer   pacer
	judge   judge
	log     *slog.Logger
	noted   chan struct{} // the records say something new
	// others is how many other processes there are.
	others func() int
	strip  reindex.Strip

	mu       sync.Mutex // guards what follows
	record   records.Edition
	progress reindex.Progress
	byHand   bool // it waits until a person decides
}

// Options are what a fill works with.
type Options struct {
	Record  *records.Edition // is copied
	Edition *deliver.Edition
	Reader  source.Reader
	Engine  *connect.Engine
	Store   Store
	Fence   deliver.Fence
	Policy  func() reindex.Policy // what the definition in force says
	Others  func() int            // how many other processes may help
	Log     *slog.Logger
}

// New prepares a fill.
func New(o Options) *Fill {
	r := o.Record
	return &Fill{
		edition:  o.Edition,
		reader:   o.Reader,
		engine:   o.Engine,
		store:    o.Store,
		fence:    o.Fence,
		policy:   o.Policy,
		others:   o.Others,
		record:   *r,
		pacer:    pacer{policy: o.Policy, course: r.Course},
		judge:    judge{edition: o.Edition, reader: o.Reader, engine: o.Engine, store: o.Store, policy: o.Policy},
		log:      o.Log.With("index", r.Index, "edition", r.Name()),
		noted:    make(chan struct{}, 1),
		progress: reindex.Progress{Rows: r.Rows, Expected: r.Expected, Bytes: r.Bytes},
	}
}

// State is the step that the edition is at, and how far it is.
func (f *Fill) State() (reindex.State, reindex.Progress) {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.record.State, f.progress
}

// coursePoints are as many as a small plot shows.
const coursePoints = 60

// Course is how fast the run went so far, and which chunks of it are done.
func (f *Fill) Course() ([]reindex.Point, []reindex.Span) {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.progress.Course(coursePoints), f.strip.Spans()
}

// Gates are what the edition must come to, as last looked at; none before it is filled.
func (f *Fill) Gates() []reindex.Gate {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.record.Gates
}

// update changes the record, and gives a copy that can be read without a lock.
func (f *Fill) update(do func(r *records.Edition, p *reindex.Progress)) *records.Edition {
	f.mu.Lock()
	defer f.mu.Unlock()
	do(&f.record, &f.progress)
	out := f.record
	return &out
}

func (f *Fill) copy() *records.Edition {
	return f.update(func(*records.Edition, *reindex.Progress) {})
}

// Note takes in what others have recorded: that another edition answers instead, that this one is to
// again, and the course of its fill.
func (f *Fill) Note(state reindex.State, course records.Course) {
	f.pacer.set(course)
	f.mu.Lock()
	defer f.mu.Unlock()
	now := f.record.State
	// The last step may be recorded although the answer to that request was lost.
	ahead := now == reindex.Ready && (state == reindex.Switched || state == reindex.Previous) ||
		now == reindex.Returning && state == reindex.Switched
	if ahead || now == reindex.Switched && state == reindex.Previous ||
		now == reindex.Previous && state == reindex.Returning {
		move(f, state)
	}
}

// move has a fill take up a step that others have recorded; the caller holds mu.
func move(f *Fill, to reindex.State) {
	f.record.State = to
	select {
	case f.noted <- struct{}{}:
	default:
	}
}

// Stepped notes that another edition answers now.
func (f *Fill) Stepped() {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.record.State == reindex.Switched {
		move(f, reindex.Previous)
	}
}

// Run fills the edition and switches to it. It switches again when a rollback asks for it. caughtUp
// waits until every change noticed so far is delivered to it; answers is called whenever it has begun
// to answer. It ends with the context.
func (f *Fill) Run(ctx context.Context, caughtUp func(context.Context) error, answers func(context.Context)) {
	steps := map[reindex.State]func(context.Context) error{
		reindex.Preparing:  f.prepare,
		reindex.Filling:    f.fillChunks,
		reindex.CatchingUp: func(ctx context.Context) error { return f.catchUp(ctx, caughtUp) },
		reindex.Checking:   func(ctx context.Context) error { return f.check(ctx, caughtUp) },
		reindex.Ready:      func(ctx context.Context) error { return f.finish(ctx, caughtUp) },
		reindex.Returning:  func(ctx context.Context) error { return f.switchTo(ctx, caughtUp) },
	}
	for {
		state, _ := f.State()
		if state == reindex.Switched {
			answers(ctx)
		}
		if state.Rests() {
			select {
			case <-ctx.Done():
				return
			case <-f.noted:
				continue
			}
		}
		err := f.edition.Until(ctx, func() error {
			if now, _ := f.State(); now != state {
				return nil // it was noted meanwhile
			}
			return steps[state](ctx)
		})
		if err != nil {
			return
		}
	}
}

// enter records the next step.
func (f *Fill) enter(ctx context.Context, s reindex.State) error {
	next := f.copy()
	if !next.State.Leads(s) {
		return fmt.Errorf("%s is %s, which does not lead to %s", next.Name(), next.State, s)
	}
	next.State = s
	if !f.fence.Holds() {
		<-ctx.Done()
		return ctx.Err()
	}
	save := func() error { return f.store.SaveEdition(ctx, next) }
	if s == reindex.Switched {
		save = func() error { return f.store.SaveSwitched(ctx, next, f.policy().KeepPrevious) }
	}
	if err := save(); err != nil {
		return fmt.Errorf("recording that %s is %s: %w", next.Name(), s, err)
	}
	f.update(func(r *records.Edition, _ *reindex.Progress) { r.State = s })
	f.log.Info("edition entered state", "state", s)
	return nil
}

func (f *Fill) prepare(ctx context.Context) error {
	record := f.copy()
	if !f.fence.Holds() {
		<-ctx.Done()
		return ctx.Err()
	}
	if err := f.engine.Prepare(ctx, record.Name(), record.Shape); err != nil {
		return fmt.Errorf("creating edition %s: %w", record.Name(), err)
	}
	// Changes are delivered from now on, so Pingo records immediately what they are delivered to.
	copy, err := f.engine.Copy(ctx, record.Name())
	if err != nil {
		return fmt.Errorf("looking at edition %s: %w", record.Name(), err)
	}
	if copy == "" {
		return fmt.Errorf("edition %s is gone from the engine again: it is created once more", record.Name())
	}
	if _, err := Adopt(ctx, f, copy); err != nil {
		return fmt.Errorf("recording which copy of %s is filled: %w", record.Name(), err)
	}
	f.edition.SetPrepared()
	n, err := CountRows(ctx, f.reader, record.Shape)
	if err != nil {
		return err
	}
	now := time.Now()
	f.update(func(r *records.Edition, p *reindex.Progress) {
		r.Expected, r.BeganAt, p.Expected = n, &now, n
	})
	return f.enter(ctx, reindex.Filling)
}

// Adopt notes which copy of the edition the engine holds, where that is not recorded, and reports whether it is the one
// that is: an edition that is not prepared yet has none, and may have none.
func Adopt(ctx context.Context, f *Fill, copy string) (same bool, err error) {
	record := f.copy()
	if record.Copy != "" || copy == "" {
		return record.Copy == copy && (copy != "" || record.State == reindex.Preparing), nil
	}
	if err := f.store.SaveCopy(ctx, record, copy); err != nil {
		return true, err
	}
	f.update(func(r *records.Edition, _ *reindex.Progress) { r.Copy = copy })
	return true, nil
}

// planner hands out chunks: first those that were open when a process died, then
// new ones, each recorded before it is read.
type planner struct {
	// turn is held while what follows is used. It is a channel, since the source and the
	// records are waited for meanwhile.
	turn   chan struct{}
	open   []records.Chunk
	next   int
	tree   int // the tree that chunks are planned in
	after  []string
	all    bool
	lent   int // chunks that other processes have, or may take
	sizer  reindex.Sizer
	strain reindex.Strain
}

func (f *Fill) fillChunks(ctx context.Context) error {
	record := f.copy()
	if err := f.store.TakeAllBack(ctx, record); err != nil { // an earlier run may have lent them
		return fmt.Errorf("taking chunks back: %w", err)
	}
	open, err := f.store.OpenChunks(ctx, record)
	if err != nil {
		return err
	}
	p := &planner{
		turn:  make(chan struct{}, 1),
		open:  open,
		tree:  record.PlannedTree,
		after: record.PlannedTo,
		all:   record.Planned,
	}
	f.update(func(_ *records.Edition, p *reindex.Progress) {
		p.Began, p.Resumed = time.Now(), p.Rows
		f.strip.Begin(p.Rows)
	})
	for _, c := range open {
		p.next = max(p.next, c.Number+1)
		f.strip.Set(c.Number, int64(p.sizer.Rows()), reindex.SpanOpen)
	}
	if _, progress := f.State(); progress.Resumed > 0 {
		f.log.Info("fill resumed", "rows", progress.Resumed, "openChunks", len(open))
	}
	// When one fails, the others end their chunks: a request without a waiting caller might arrive after
	// all documents of its tree were listed.
	var group errgroup.Group
	var over atomic.Bool
	watched, stop := context.WithCancel(ctx)
	watching := make(chan struct{})
	go func() {
		defer close(watching)
		f.watch(watched)
	}()
	defer func() {
		stop()
		<-watching
	}()
	if _, refuses := f.engine.Engine.(engine.Versioned); refuses {
		group.Go(func() error { return lend(ctx, f, p, &over) })
	}
	for worker := range Workers {
		group.Go(func() error {
			defer over.Store(true) // also for those that only wait
			return f.work(ctx, p, worker, &over)
		})
	}
	if err := group.Wait(); err != nil {
		return err
	}
	now := time.Now()
	f.update(func(r *records.Edition, _ *reindex.Progress) { r.FilledAt = &now })
	if err := f.enter(ctx, reindex.CatchingUp); err != nil {
		return err
	}
	f.edition.SetFilled()
	return nil
}

// chunk gives the next chunk of a fill; false when there is none. waits says that there may be one later: another
// process may give one back.
func (p *planner) chunk(ctx context.Context, f *Fill) (c records.Chunk, ok, waits bool, err error) {
	p.turn <- struct{}{}
	defer func() { <-p.turn }()
	switch {
	case len(p.open) > 0:
		c, p.open = p.open[0], p.open[1:]
		return c, true, false, nil
	case p.all:
		return c, false, p.lent > 0, nil
	}
	c, err = p.plan(ctx, f, false)
	return c, err == nil, false, err
}

// plan plans the next chunk, for this process or for others. The caller has the turn, and not all are planned.
func (p *planner) plan(ctx context.Context, f *Fill, offered bool) (records.Chunk, error) {
	record := f.copy()
	trees := record.Shape.Trees
	rows := f.pacer.Pace().Most(p.sizer.Rows(), p.sizer.BytesPerRow())
	end, err := f.reader.ChunkEnd(ctx, trees[p.tree], p.after, rows)
	if err != nil {
		return records.Chunk{}, err
	}
	c := records.Chunk{Number: p.next, Tree: p.tree, After: p.after, Upto: end}
	tree, all := p.tree, false
	if end == nil { // the last one of this tree
		tree++
		if all = tree == len(trees); all {
			tree = p.tree
		}
	}
	if err := f.store.PlanChunk(ctx, record, c, tree, all, offered); err != nil {
		return c, fmt.Errorf("recording a chunk: %w", err)
	}
	state := reindex.SpanOpen
	if offered {
		state = reindex.SpanLent
	}
	f.strip.Set(c.Number, int64(rows), state)
	p.next++
	p.tree, p.after, p.all = tree, end, all
	f.update(
		func(r *records.Edition, _ *reindex.Progress) { r.PlannedTree, r.PlannedTo, r.Planned = tree, end, all },
	)
	return c, nil
}

// work fills chunk after chunk with buffers of its own, until there are no more, or it is over for
// another worker.
func (f *Fill) work(ctx context.Context, p *planner, worker int, over *atomic.Bool) error {
	s := f.copy().Shape
	sets := make([]*document.Set, len(s.Trees))
	for i, t := range s.Trees {
		sets[i] = document.NewSet(t)
	}
	var arena []byte
	forget := func() {
		arena = nil
		for i, t := range s.Trees {
			sets[i] = document.NewSet(t)
		}
	}
	for {
		for wait := f.pacer.wait(worker); wait > 0 && !over.Load(); wait = f.pacer.wait(worker) {
			if wait == lookAgain {
				forget() // it may be halted for hours
			}
			if !retry.Sleep(ctx, wait) {
				return ctx.Err()
			}
		}
		if over.Load() {
			return nil
		}
		release, err := f.engine.Bulk.Take(ctx, connect.BatchBytes, forget)
		if err != nil {
			return err
		}
		c, ok, waits, err := p.chunk(ctx, f)
		if err == nil && ok {
			mark := f.edition.BeginChunk()
			arena, err = f.fillChunk(ctx, p, c, mark, sets[c.Tree], arena[:0])
			f.edition.EndChunk(mark)
		}
		release()
		switch {
		case err == nil && waits:
			if !retry.Sleep(ctx, lookAtLoans) {
				return ctx.Err()
			}
		case err != nil || !ok:
			return err
		}
		if cap(arena) > 2*reindex.TargetBytes {
			arena = nil // one blown-up chunk must not stay in memory
		}
	}
}

func (f *Fill) fillChunk(
	ctx context.Context,
	p *planner,
	c records.Chunk,
	mark int64,
	set *document.Set,
	arena []byte,
) ([]byte, error) {
	version := f.fence.NextVersion() // before the read: see deliver
	set.Reset()
	began := time.Now()
	if err := f.reader.ReadRange(ctx, set, c.After, c.Upto); err != nil {
		if source.FaultOf(err) == source.BadValue {
			if errors.Is(err, source.ErrTooLarge) { // the next one has fewer rows
				p.turn <- struct{}{}
				p.sizer.Saw(max(1, set.Rows(0).Len()), set.Bytes())
				<-p.turn
			}
			return arena, fillByKeys(ctx, f, c)
		}
		return arena, err
	}
	took := time.Since(began)
	became, arena, err := f.edition.DeliverChunk(ctx, set, version, mark, arena)
	if err != nil {
		return arena, err
	}
	p.turn <- struct{}{}
	p.sizer.Saw(became.Rows, became.Bytes)
	rest := p.strain.Rest(became.Rows, took)
	<-p.turn
	f.pacer.spend(became, rest)
	return arena, f.chunkDone(ctx, c, became)
}

// fillByKeys fills a chunk with a bad value in it key by key through the lanes,
// which find the row at fault.
func fillByKeys(ctx context.Context, f *Fill, c records.Chunk) error {
	tree, became := f.copy().Shape.Trees[c.Tree], &change.Tally{}
	err := change.Await(ctx, became, func(t *change.Ticket) error {
		return f.reader.Keys(ctx, tree, c.After, c.Upto, func(key []string) error {
			return f.edition.Add(ctx, document.Key(tree, key...), t, deliver.Wide)
		})
	})
	if err != nil {
		return err
	}
	// What is in the backlog is counted as if it had documents, without their bytes.
	rows := became.Sent.Load() + became.Unchanged.Load() + became.Refused.Load() + became.Backlog.Load()
	return f.chunkDone(ctx, c, deliver.Chunk{Rows: int(rows), Bytes: int(became.Bytes.Load())})
}

func (f *Fill) chunkDone(ctx context.Context, c records.Chunk, became deliver.Chunk) error {
	if err := f.store.ChunkDone(ctx, f.copy(), c, int64(became.Rows), int64(became.Bytes)); err != nil {
		return fmt.Errorf("recording a finished chunk: %w", err)
	}
	f.update(func(_ *records.Edition, p *reindex.Progress) {
		f.strip.Done(c.Number, int64(became.Rows))
		p.Rows += int64(became.Rows)
		p.Bytes += int64(became.Bytes)
		p.Dropped += int64(became.Dropped)
	})
	return nil
}

// catchUp waits for the stream, and makes the edition searchable.
func (f *Fill) catchUp(ctx context.Context, caughtUp func(context.Context) error) error {
	record := f.copy()
	if err := caughtUp(ctx); err != nil {
		return err
	}
	if err := f.engine.FinishFill(ctx, record.Name(), record.Shape); err != nil {
		return fmt.Errorf("making %s searchable: %w", record.Name(), err)
	}
	return f.enter(ctx, reindex.Checking)
}

// check judges the gates, and records the outcome.
func (f *Fill) check(ctx context.Context, caughtUp func(context.Context) error) error {
	gates, err := f.judge.all(ctx, f.copy(), caughtUp, &f.pacer)
	if err != nil {
		return err
	}
	f.update(func(r *records.Edition, _ *reindex.Progress) { r.Gates = gates })
	for _, g := range gates {
		f.log.Info("gate", "gate", g.Name, "passed", g.Passed, "numbers", g.Sentence)
	}
	return f.enter(ctx, reindex.Ready)
}

const (
	// recheckInterval is how often a waiting reindex checks for a decision and re-evaluates its gates.
	recheckInterval = 2 * time.Second
	// searchAgain is how often searches are made again that did not find what they should.
	searchAgain = 10 * time.Second
	// recountInterval is how often a waiting reindex counts all rows again, which is expensive on a large source.
	recountInterval = time.Minute
	// comparePause is how many times as long as it took to compare documents that differed it is left
	// until they are compared again.
	comparePause = 50
)

// finish waits until the gates have passed, or a person has said that the edition is to answer, and
// switches to it.
func (f *Fill) finish(ctx context.Context, caughtUp func(context.Context) error) error {
	ask := func(is bool) {
		f.mu.Lock()
		defer f.mu.Unlock()
		f.byHand = is
	}
	defer ask(false)
	var counted, searched, compare time.Time // compare is when documents are compared again
	failed := 0
	for {
		record := f.copy()
		goes, byHand, err := f.judge.decided(ctx, record)
		if err != nil {
			return err
		}
		if goes {
			break
		}
		ask(byHand)
		now := f.edition.Failed()
		count, search := now != failed || time.Since(counted) >= recountInterval, time.Since(searched) >= searchAgain
		if count || search {
			gates, began := record.Gates, time.Now()
			switch differs := reindex.Stopped(record.Gates, reindex.GateContent); {
			case count && differs && began.After(compare):
				gates, err = f.judge.all(ctx, record, caughtUp, &f.pacer)
				compare = time.Now().Add(comparePause * time.Since(began))
				counted, failed = time.Now(), now
			case count:
				gates, err = f.judge.gates(ctx, record)
				counted, failed = time.Now(), now
			default:
				gates, err = f.judge.searchAgain(ctx, record)
			}
			if err != nil {
				return err
			}
			searched = time.Now()
			if !slices.Equal(gates, record.Gates) {
				f.update(func(r *records.Edition, _ *reindex.Progress) { r.Gates = gates })
				if err := f.enter(ctx, reindex.Ready); err != nil {
					return err
				}
				continue
			}
		}
		if !retry.Sleep(ctx, recheckInterval) {
			return ctx.Err()
		}
	}
	return f.switchTo(ctx, caughtUp)
}

// switchTo has the public name answered by the edition, once it has all changes noticed so far.
func (f *Fill) switchTo(ctx context.Context, caughtUp func(context.Context) error) error {
	if err := caughtUp(ctx); err != nil {
		return err
	}
	record := f.copy()
	turn := f.engine.Names.Turn(record.Index)
	if !turn.Take(ctx) {
		return ctx.Err()
	}
	defer turn.Give() // only once it is recorded what the name points to
	if !f.fence.Holds() {
		<-ctx.Done()
		return ctx.Err()
	}
	if live, _, err := f.store.Live(ctx, record); err != nil {
		return fmt.Errorf("reading which edition of %s answers: %w", record.Index, err)
	} else if live != nil && live.Number > record.Number && record.State != reindex.Returning {
		return fmt.Errorf("%s does not answer: %w", record.Name(), records.ErrOvertaken)
	}
	change := f.engine.Switch
	if taker, can := f.engine.Engine.(engine.NameReplacer); can && record.TakesOver {
		change = taker.TakeOver
	}
	if err := change(ctx, record.Index, record.Name()); err != nil {
		return fmt.Errorf("switching %s to %s: %w", record.Index, record.Name(), err)
	}
	return f.enter(ctx, reindex.Switched)
}

// CountRows counts the rows of all trees that have documents.
func CountRows(ctx context.Context, reader source.Reader, s *shape.Shape) (int64, error) {
	var total int64
	for _, t := range s.Trees {
		n, err := reader.Count(ctx, t)
		if err != nil {
			return 0, err
		}
		total += n
	}
	return total, nil
}
