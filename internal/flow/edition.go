package flow

import (
	"context"
	"log/slog"
	"sync"
	"sync/atomic"
	"time"

	"pingo/internal/core/change"
	"pingo/internal/core/document"
	"pingo/internal/core/fill"
	"pingo/internal/core/retry"
	"pingo/internal/core/shape"
	"pingo/internal/engine"
	"pingo/internal/engine/wire"
	"pingo/internal/records"
	"pingo/internal/source"
)

const (
	lanes     = 4
	laneWaits = 2000 // keys, and changes for them, that may wait in a line; more go to the backlog
	laneTakes = 500  // keys read and sent together
	wideTakes = 80   // of them, those of wide changes while there are fresh ones, which shall wait for little
)

// editionFlow feeds one edition: its lanes, and its fill while there is one.
type editionFlow struct {
	record  *records.Edition
	shape   *shape.Shape
	routes  map[shape.Ref][]shape.Route
	source  source.Source
	engine  engine.Engine
	gate    *gate
	batch   retry.Batch
	records *records.Records
	term    term
	log     *slog.Logger

	lanes   [lanes]*lane
	turn    turn
	backlog backlog

	mu      sync.Mutex // guards what follows
	touched fill.Touched
	failed  map[string]int // failed documents, each with the number of its last refusal
	refusal int            // counts refusals
	state   fill.State
	done    fill.Progress

	trouble  troubleSpot
	gap      troubleSpot // changes went unnoticed; only another edition mends that
	applied  meter       // documents that the engine acknowledged
	built    meter       // documents that were made of rows, or found to be gone
	spared   meter       // built documents that were not sent, since the engine has the same already
	refusals meter       // answers that refused a document
	lag      lags
	refused  atomic.Int64 // failed documents now
	sourceN  counted
	engineN  counted
	stop     context.CancelFunc
	ended    chan struct{} // closed when run has returned
	switched chan struct{} // closed when the edition answers under the public name
}

// term is the right under which an edition is fed.
type term interface {
	// nextVersion is above every version given before, also by other processes.
	nextVersion() int64
	// holds reports whether this process still has the right; when it has not, the
	// edition's context ends.
	holds() bool
}

// counted is a count and when it was made.
type counted struct {
	mu sync.Mutex
	n  *int64
	at time.Time
}

func (c *counted) set(n int64) {
	c.mu.Lock()
	c.n, c.at = &n, time.Now()
	c.mu.Unlock()
}

func (c *counted) get() (*int64, time.Time) {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.n, c.at
}

func newEditionFlow(record *records.Edition, src source.Source, eng engine.Engine, gate *gate, rec *records.Records, term term, log *slog.Logger) *editionFlow {
	e := &editionFlow{
		record: record, shape: record.Shape, routes: record.Shape.Routes(), source: src, engine: eng, gate: gate, records: rec, term: term,
		log: log.With("index", record.Index, "edition", record.Name()), failed: map[string]int{}, state: record.State, ended: make(chan struct{}), switched: make(chan struct{}),
	}
	for i := range e.lanes {
		e.lanes[i] = &lane{edition: e, number: i, ready: make(chan struct{}, 1)}
	}
	e.backlog.init()
	e.done = fill.Progress{Rows: record.Rows, Expected: record.Expected, Bytes: record.Bytes}
	if record.State == fill.Switched {
		close(e.switched)
	}
	return e
}

// run feeds the edition until the context ends.
func (e *editionFlow) run(ctx context.Context) {
	var keys []string
	for attempt := 1; ctx.Err() == nil; attempt++ {
		var err error
		if keys, err = e.records.FailedKeys(ctx, e.record, ""); err == nil {
			e.overcome(attempt)
			break
		}
		if !e.pause(ctx, attempt, "reading the failed documents: "+err.Error(), false) {
			break
		}
	}
	e.mu.Lock()
	for _, key := range keys {
		e.failed[key] = 0
	}
	e.mu.Unlock()
	e.refused.Store(int64(len(keys)))
	// What an earlier process left is known before anybody is told how things stand.
	if err := e.measureBacklog(ctx); err != nil && ctx.Err() == nil {
		e.log.Error("reading the backlog", "error", err)
	}
	var wg sync.WaitGroup
	for _, l := range e.lanes {
		wg.Go(func() { l.run(ctx) })
	}
	wg.Go(func() { e.count(ctx) })
	wg.Go(func() { e.write(ctx) })
	wg.Go(func() { e.drain(ctx) })
	for range expanders {
		wg.Go(func() { e.runExpansions(ctx) })
	}
	stop := context.AfterFunc(ctx, e.backlog.close)
	defer stop()
	wg.Wait()
	close(e.ended)
}

// abandon waits until a stopped edition's lanes are still, and lets the changes that
// wait for its documents go: nobody asks for these documents any more.
func (e *editionFlow) abandon() {
	<-e.ended
	for _, l := range e.lanes {
		l.mu.Lock()
		l.gone = true
		l.release()
		waiting := l.lines[wide].Take(l.lines[fresh].Take(nil, l.lines[fresh].Len()), l.lines[wide].Len())
		for _, entry := range append(waiting, l.unsettled...) {
			for _, t := range entry.Tickets {
				t.Close()
			}
		}
		l.unsettled = nil
		l.mu.Unlock()
	}
	e.backlog.abandon()
}

// add lets a key wait in a line of its lane, or in the backlog when too many wait there
// already. It blocks only while the records database does not take the backlog.
func (e *editionFlow) add(ctx context.Context, key string, t *change.Ticket, in int) error {
	l := e.lanes[change.Lane([]byte(key), lanes)]
	l.mu.Lock()
	full := l.lines[in].Len() >= laneWaits || l.lines[in].Tickets()+l.later.Tickets() >= laneWaits
	l.mu.Unlock()
	if full {
		return e.backlog.owe(ctx, key, t)
	}
	if ctx.Err() == nil {
		e.enqueue(key, t, in)
	}
	return ctx.Err()
}

// enqueue lets a key wait in a line, however full it is. In an edition that stops, the
// ticket stays open, and the change in the journal.
func (e *editionFlow) enqueue(key string, t *change.Ticket, in int) {
	l := e.lanes[change.Lane([]byte(key), lanes)]
	l.mu.Lock()
	defer l.mu.Unlock()
	if !l.gone {
		if in == fresh {
			e.turn.freshCame()
		}
		l.lines[in].Add(key, t)
		nudge(l.ready)
	}
}

// settled waits until every key that waits now, or is on its way, is settled, and
// nothing is owed.
func (e *editionFlow) settled(ctx context.Context) error {
	for {
		idle, err := e.idle(ctx)
		if err != nil {
			return err
		}
		if idle {
			break
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(20 * time.Millisecond):
		}
	}
	for _, l := range e.lanes {
		if err := l.letGoOn(ctx); err != nil {
			return err
		}
		l.sending.Lock() // so that nothing is between the queue and being counted
		l.mu.Lock()
		var upto [2]int64
		for i := range l.lines {
			upto[i] = l.lines[i].taken + int64(l.lines[i].Len())
		}
		l.mu.Unlock()
		l.sending.Unlock()
		for {
			l.mu.Lock()
			reached := l.lines[fresh].taken >= upto[fresh] && l.lines[wide].taken >= upto[wide]
			l.mu.Unlock()
			if reached {
				break
			}
			select {
			case <-ctx.Done():
				return ctx.Err()
			case <-time.After(10 * time.Millisecond):
			}
		}
	}
	return nil
}

// waiting is the number of keys in the lanes and in the backlog.
func (e *editionFlow) waiting() int {
	n := int(e.backlog.size.Load())
	for _, l := range e.lanes {
		l.mu.Lock()
		n += l.lines[fresh].Len() + l.lines[wide].Len() + l.later.Len()
		l.mu.Unlock()
	}
	return n
}

// newSets makes a set for each tree of a shape.
func newSets(s *shape.Shape) []*document.Set {
	sets := make([]*document.Set, len(s.Trees))
	for i, t := range s.Trees {
		sets[i] = document.NewSet(t)
	}
	return sets
}

// build reads, assembles and delivers the documents of some keys, and settles the
// changes that wait for them. It tries until it is done or the context ends; the
// lane is held.
func (e *editionFlow) build(ctx context.Context, l *lane, entries []change.Entry, sets []*document.Set, docs []wire.Document, arena []byte) ([]wire.Document, []byte) {
	keys := make([][][]string, len(sets))
	for _, entry := range entries {
		if tree, values, err := document.ParseKey(e.shape, entry.Key); err == nil {
			keys[tree] = append(keys[tree], values)
		}
	}
	var version int64
	for attempt := 1; ; attempt++ {
		// The version is taken before the snapshot: whoever has the higher one has
		// also read later.
		version = e.term.nextVersion()
		err := e.read(ctx, sets, keys)
		if err == nil {
			e.overcome(attempt)
			break
		}
		if source.DataFault(err) {
			if len(entries) > 1 {
				half := len(entries) / 2
				docs, arena = e.build(ctx, l, entries[:half], sets, docs[:0], arena[:0])
				return e.build(ctx, l, entries[half:], sets, docs[:0], arena[:0])
			}
			if e.settle(ctx, entries[0].Key, nil, wire.Result{Outcome: retry.Refused, Kind: "source", Reason: err.Error()}) {
				e.acknowledge(entries)
			}
			return docs, arena
		}
		if !e.pause(ctx, attempt, err.Error(), source.Misfit(err)) {
			return docs, arena
		}
	}
	for _, set := range sets {
		docs, arena = e.assemble(set, version, docs, arena, nil)
	}
	became := make(map[string]became, len(docs))
	for i := range docs {
		became[docs[i].Key] = sent
	}
	for _, entry := range entries {
		if became[entry.Key] == 0 {
			became[entry.Key] = gone
			docs = append(docs, wire.Document{Key: entry.Key, Version: version})
		}
	}
	e.built.add(len(docs))
	docs = e.unlike(l, docs, became)
	if !e.deliver(ctx, l, docs) {
		return docs, arena
	}
	// Also what was not sent: a chunk may have read another content in between.
	e.mu.Lock()
	for i := range entries {
		e.touched.Add(entries[i].Key)
		if _, is := e.failed[entries[i].Key]; is {
			became[entries[i].Key] = refused
		}
	}
	e.mu.Unlock()
	for i := range entries {
		became[entries[i].Key].tell(entries[i].Tickets)
	}
	e.acknowledge(entries)
	return docs, arena
}

// unlike leaves out the documents that the engine has exactly like this.
func (e *editionFlow) unlike(l *lane, docs []wire.Document, became map[string]became) []wire.Document {
	kept := docs[:0]
	for _, d := range docs {
		if l.seen.Has(d.Key, d.Body) {
			became[d.Key] = same
			continue
		}
		kept = append(kept, d)
	}
	e.spared.add(len(docs) - len(kept))
	return kept
}

// read reads the rows of documents, tree by tree.
func (e *editionFlow) read(ctx context.Context, sets []*document.Set, keys [][][]string) error {
	for i, set := range sets {
		set.Reset()
		if len(keys[i]) == 0 {
			continue
		}
		if err := e.source.ReadKeys(ctx, set, keys[i]); err != nil {
			return err
		}
	}
	return nil
}

// assemble appends the documents of all root rows of a set. each, when given, says
// into which slice a document goes.
func (e *editionFlow) assemble(set *document.Set, version int64, docs []wire.Document, arena []byte, each func(d wire.Document)) ([]wire.Document, []byte) {
	n := set.Rows(0).Len()
	type span struct{ key, start, end int }
	spans := make([]span, n)
	for row := range n {
		key := len(arena)
		arena = set.AppendKey(arena, row)
		start := len(arena)
		arena = set.Append(arena, row)
		spans[row] = span{key, start, len(arena)}
	}
	for _, s := range spans {
		d := wire.Document{Key: string(arena[s.key:s.start]), Version: version, Body: arena[s.start:s.end:s.end]}
		if each != nil {
			each(d)
		} else {
			docs = append(docs, d)
		}
	}
	return docs, arena
}

// acknowledge closes the changes that waited for these keys.
func (e *editionFlow) acknowledge(entries []change.Entry) {
	now := time.Now()
	for i := range entries {
		for _, t := range entries[i].Tickets {
			if !t.At.IsZero() {
				e.lag.add(now.Sub(t.At))
			}
			t.Close()
		}
		entries[i].Tickets = nil
	}
}

// overcome says that what was tried for so many times has worked, so that trouble that it
// reported is over.
func (e *editionFlow) overcome(attempt int) {
	if attempt > 1 && e.trouble.clear() {
		e.log.Info("it goes on")
	}
}

// pause reports trouble and waits before the next try; false when the context ended.
func (e *editionFlow) pause(ctx context.Context, attempt int, message string, blocked bool) bool {
	if ctx.Err() != nil {
		return false
	}
	// A first stumble is not worth a word.
	if (attempt > 1 || blocked) && e.trouble.report(message, blocked) {
		e.log.Warn("waiting", "blocked", blocked, "reason", message)
	}
	select {
	case <-ctx.Done():
		return false
	case <-time.After(retry.Backoff(attempt)):
		return true
	}
}

// count counts both sides now and then, spending little of their time on it.
func (e *editionFlow) count(ctx context.Context) {
	for {
		began := time.Now()
		if n, err := countRows(ctx, e.source, e.shape); err == nil {
			e.sourceN.set(n)
		}
		if n, err := e.engine.Count(ctx, e.record.Name()); err == nil {
			e.engineN.set(n)
		}
		if err := e.forgive(ctx); err != nil && ctx.Err() == nil {
			e.log.Warn("reading which failed documents were dismissed", "error", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(max(time.Second, 50*time.Since(began))):
		}
	}
}

// countRows counts the rows of all trees that have documents.
func countRows(ctx context.Context, src source.Source, s *shape.Shape) (int64, error) {
	var total int64
	for _, t := range s.Trees {
		n, err := src.Count(ctx, t)
		if err != nil {
			return 0, err
		}
		total += n
	}
	return total, nil
}
