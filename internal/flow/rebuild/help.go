package rebuild

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"math"
	"sync/atomic"
	"time"

	"golang.org/x/sync/errgroup"

	"pingo/internal/core/document"
	"pingo/internal/core/reindex"
	"pingo/internal/core/retry"
	"pingo/internal/flow/connect"
	"pingo/internal/flow/deliver"
	"pingo/internal/flow/lease"
	"pingo/internal/records"
	"pingo/internal/source"
)

// HelpingStore is what the records keep of chunks that a process fills for another one.
type HelpingStore interface {
	// TakeChunk gives a process a chunk that another one offers; nil when there is none, or when the process does not go
	// by the newest version of the definition.
	TakeChunk(ctx context.Context, e *records.Edition, process string, definition int) (*records.Task, error)
	// KeepChunk fails with records.ErrLost when the process may no longer fill the chunk.
	KeepChunk(ctx context.Context, e *records.Edition, number int, process string) error
	// ReturnChunk records the outcome of a chunk.
	ReturnChunk(ctx context.Context, e *records.Edition, became records.Loan) error
}

const (
	// askForChunks is how often it is asked for chunks, and mostAsked how often in vain.
	askForChunks = 200 * time.Millisecond
	mostAsked    = 10
	// keepEvery is how often it is asked whether a chunk may still be filled.
	keepEvery = time.Second
	// longestTask is how long after its rows were read documents of a chunk are sent. Engines remember deletions for
	// longer: an older document does not come back.
	longestTask = 2 * time.Minute
	// restAfter is how long a process that could not fill a chunk leaves the others to those who can.
	restAfter = 2 * time.Second
	// returnWithin bounds the attempts to record the outcome of a chunk.
	returnWithin = 2 * time.Second
)

// Helper fills chunks of an edition that another process feeds, on an engine that refuses older documents: what it
// sends has the least version of the holder's epoch, so whatever the stream sends is newer. It keeps no record of
// anything but the chunk: one that it cannot deliver as it is goes back to the holder.
type Helper struct {
	edition *records.Edition
	reader  source.Reader
	engine  *connect.Engine
	store   HelpingStore
	process string
	// definition is the version that the process goes by.
	definition int
	log        *slog.Logger
}

// NewHelper prepares to help under the name of a process, which goes by a version of the definition.
func NewHelper(
	e *records.Edition,
	reader source.Reader,
	eng *connect.Engine,
	store HelpingStore,
	process string,
	definition int,
	log *slog.Logger,
) *Helper {
	return &Helper{edition: e, reader: reader, engine: eng, store: store, process: process, definition: definition,
		log: log.With("index", e.Index, "edition", e.Name())}
}

// Run fills chunks until none were offered for a while, or the context ends.
func (h *Helper) Run(ctx context.Context) {
	var group errgroup.Group
	for range Workers {
		group.Go(func() error { (&helping{Helper: h}).run(ctx); return nil })
	}
	_ = group.Wait() // none fails
}

// helping is one worker of a helper, and what its deliveries go by: it is their fence, and it gives a chunk up where
// something would have to be recorded of a document.
type helping struct {
	*Helper
	deliver.Store // nothing of it is used but SaveFailed
	strain        reindex.Strain
	rest          time.Duration // how long the source rests
	version       int64
	until         atomic.Pointer[time.Time] // as of which it may send
	giveUp        context.CancelCauseFunc
}

// NextVersion is the least one of the holder's epoch.
func (h *helping) NextVersion() int64 { return h.version }

// Given is above all versions: what the holder has sent since is correct.
func (h *helping) Given() int64 { return math.MaxInt64 }

// Pass passes nothing.
func (h *helping) Pass(int64) bool { return false }

// Holds reports whether no other process can have the chunk yet.
func (h *helping) Holds() bool { return time.Now().Before(*h.until.Load()) }

// Confirm does nothing: that the engine has something newer is correct.
func (h *helping) Confirm(context.Context) error { return nil }

var errRefused = errors.New("a document was refused")

// SaveFailed gives the chunk up: its holder records what is refused.
func (h *helping) SaveFailed(context.Context, *records.Edition, records.Failed) error {
	h.giveUp(errRefused)
	return errRefused
}

func (h *helping) run(ctx context.Context) {
	s := h.edition.Shape
	var sets []*document.Set
	var arena []byte
	forget := func() {
		arena, sets = nil, nil
		for _, t := range s.Trees {
			sets = append(sets, document.NewSet(t))
		}
	}
	forget()
	fed := deliver.New(h.edition, h.reader, h.engine, h, h, h.log)
	for asked := 0; asked < mostAsked && ctx.Err() == nil; asked++ {
		release, err := h.engine.Bulk.Take(ctx, connect.BatchBytes, forget)
		if err != nil {
			return
		}
		began := time.Now()
		task, err := h.store.TakeChunk(ctx, h.edition, h.process, h.definition)
		wait := askForChunks
		switch {
		case err != nil:
			h.log.Debug("no chunk taken", "reason", err)
		case task != nil:
			asked = -1 // the next time is the first
			if arena, err = h.fill(ctx, fed, task, began, sets[task.Tree], arena[:0]); err != nil {
				h.log.Info("chunk given back", "chunk", task.Number, "reason", err)
				wait = restAfter
			} else {
				wait = h.rest
			}
			if cap(arena) > 2*reindex.TargetBytes {
				arena = nil // one blown-up chunk must not stay in memory
			}
		}
		release()
		if wait > 0 && !retry.Sleep(ctx, wait) {
			return
		}
	}
}

// fill fills a chunk that was taken after a moment, and records its outcome.
func (h *helping) fill(
	ctx context.Context,
	fed *deliver.Edition,
	task *records.Task,
	began time.Time,
	set *document.Set,
	arena []byte,
) ([]byte, error) {
	e := *h.edition
	e.Fence = task.Fence
	within, stop := context.WithTimeout(ctx, longestTask)
	defer stop()
	within, h.giveUp = context.WithCancelCause(within)
	defer h.giveUp(nil)
	h.version = lease.LeastVersion(task.Epoch)
	until := began.Add(deliver.Permit)
	h.until.Store(&until)
	kept := make(chan struct{})
	go func() {
		defer close(kept)
		h.keep(within, &e, task.Number)
	}()
	became, arena, err := h.deliver(within, fed, set, task.Chunk, arena)
	if cause := context.Cause(within); err != nil && cause != nil {
		err = cause
	}
	h.giveUp(nil)
	<-kept
	ctx, stop = context.WithTimeout(context.WithoutCancel(ctx), returnWithin)
	defer stop()
	told := h.store.ReturnChunk(ctx, &e, records.Loan{Number: task.Number, Process: h.process,
		Filled: err == nil, Late: became.Late || err != nil, Rows: int64(became.Rows), Bytes: int64(became.Bytes)})
	if told != nil && err == nil {
		err = fmt.Errorf("recording that a chunk is filled: %w", told) // it is filled once more
	}
	return arena, err
}

// deliver reads a chunk and delivers its documents.
func (h *helping) deliver(
	ctx context.Context,
	fed *deliver.Edition,
	set *document.Set,
	c records.Chunk,
	arena []byte,
) (deliver.Chunk, []byte, error) {
	set.Reset()
	began := time.Now()
	if err := h.reader.ReadRange(ctx, set, c.After, c.Upto); err != nil {
		return deliver.Chunk{}, arena, err
	}
	h.rest = h.strain.Rest(set.Rows(0).Len(), time.Since(began))
	mark := fed.BeginChunk()
	defer fed.EndChunk(mark)
	return fed.DeliverChunk(ctx, set, h.NextVersion(), mark, arena)
}

// keep asks again and again whether a chunk may still be filled, and gives it up when it may not.
func (h *helping) keep(ctx context.Context, e *records.Edition, number int) {
	for retry.Sleep(ctx, keepEvery) {
		began := time.Now()
		asking, stop := context.WithDeadline(ctx, *h.until.Load())
		err := h.store.KeepChunk(asking, e, number, h.process)
		stop()
		switch {
		case err == nil:
			until := began.Add(deliver.Permit)
			h.until.Store(&until)
		case errors.Is(err, records.ErrLost) || !h.Holds():
			h.giveUp(fmt.Errorf("the chunk may be filled by another process: %w", err))
			return
		}
	}
}
