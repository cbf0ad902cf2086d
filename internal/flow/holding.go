package flow

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"pingo/internal/core/fill"
	"pingo/internal/core/shape"
	"pingo/internal/records"
	"pingo/internal/source"
)

// holding is a source that this process holds the lease on, and the editions that it
// feeds from it.
type holding struct {
	lease    *records.Lease
	stream   *stream
	ctx      context.Context
	cancel   context.CancelFunc
	work     sync.WaitGroup
	counter  atomic.Int64
	editions []*editionFlow // guarded by Service.mu
	leaving  map[*editionFlow]bool
}

// nextVersion is above every version given before, also by other processes: whoever has
// the lease later has the higher epoch.
func (h *holding) nextVersion() int64 { return h.lease.Epoch<<32 | h.counter.Add(1) }

// holds reports whether this process may still send: nobody else can feed the source
// yet. Otherwise all work on it ends. It is asked before everything that cannot be taken
// back, since a process may have been paused for any time before any of its steps.
func (h *holding) holds() bool {
	if h.lease.Holds() {
		return true
	}
	h.cancel()
	return false
}

// hold begins to work on a source.
func (s *Service) hold(lease *records.Lease) {
	h := &holding{lease: lease, leaving: map[*editionFlow]bool{}}
	h.ctx, h.cancel = context.WithCancel(context.Background())
	s.mu.Lock()
	h.stream = newStream(lease.Source, s.sources[lease.Source], s.log)
	s.held[lease.Source] = h
	s.mu.Unlock()
	s.log.Info("working", "source", lease.Source, "epoch", lease.Epoch)
	h.work.Go(func() { s.keep(h) })
	h.work.Go(func() { s.remember(h) })
	h.work.Go(func() { s.runStream(h) })
}

// end stops all work on a source, and lets others take it.
func (s *Service) end(h *holding) {
	h.cancel()
	h.work.Wait()
	s.mu.Lock()
	delete(s.held, h.lease.Source)
	s.mu.Unlock()
	if err := h.lease.Release(); err != nil {
		s.log.Warn("giving a lease back", "source", h.lease.Source, "error", err)
	}
}

// keep renews the lease, and says with it how the source's indexes are, until it is lost.
func (s *Service) keep(h *holding) {
	for h.holds() && h.ctx.Err() == nil {
		status, err := json.Marshal(s.publish(h))
		if err != nil {
			s.log.Error("writing the status", "error", err)
		}
		renewing, cancel := context.WithTimeout(h.ctx, 2*time.Second)
		err = h.lease.Renew(renewing, status)
		cancel()
		switch {
		case errors.Is(err, records.ErrLost):
			s.log.Error("the lease is lost to another process", "source", h.lease.Source)
			h.cancel()
		case err != nil && h.ctx.Err() == nil:
			s.log.Warn("renewing a lease", "source", h.lease.Source, "error", err)
		}
		sleep(h.ctx, time.Second)
	}
}

// runStream waits until the capture is there, since before that no journal can be read.
func (s *Service) runStream(h *holding) {
	st := h.stream
	for h.ctx.Err() == nil {
		status, err := st.source.CaptureStatus(h.ctx)
		if err == nil && status.Installed {
			break
		}
		if err != nil && h.ctx.Err() == nil && st.trouble.report(err.Error(), false) {
			st.log.Warn("waiting", "reason", err)
		}
		sleep(h.ctx, 200*time.Millisecond)
	}
	st.trouble.clear()
	h.work.Go(func() { s.watchCapture(h) })
	st.run(h.ctx)
}

// watchEvery is how often the triggers of a source are looked at.
const watchEvery = 3 * time.Second

// watchCapture looks whether the triggers of a source still stand and fire. What is
// safe is mended; of the rest the indexes that read the table say that they are no
// longer true, until they are filled anew.
func (s *Service) watchCapture(h *holding) {
	var watching troubleSpot // so that what lasts is said once
	st := h.stream
	for {
		sleep(h.ctx, watchEvery)
		if h.ctx.Err() != nil {
			return
		}
		err := s.closeGaps(h)
		if err == nil {
			err = s.lookAtJournal(h)
		}
		switch {
		case err == nil:
			watching.clear()
		case h.ctx.Err() == nil && watching.report(err.Error(), false):
			st.log.Warn("capture cannot be watched or mended", "reason", err)
		}
	}
}

func (s *Service) closeGaps(h *holding) error {
	st := h.stream
	s.mu.RLock()
	var shapes []*shape.Shape
	for _, e := range h.editions {
		shapes = append(shapes, e.shape)
	}
	s.mu.RUnlock()
	gaps, err := st.source.CaptureGaps(h.ctx, shape.Capture(shapes))
	if err != nil {
		return err
	}
	for _, gap := range gaps {
		if !gap.Safe {
			s.reportGap(h, gap)
			continue
		}
		err := s.records.Exclusively(h.ctx, func() error {
			// What is recorded may need more than what is fed here by now.
			all, err := s.shapes(h.ctx, st.name)
			if err != nil {
				return err
			}
			_, err = st.source.InstallCapture(h.ctx, s.id, shape.Capture(all))
			return err
		})
		if err != nil {
			return err
		}
		st.log.Info("capture mended", "reason", gap.Words)
	}
	return nil
}

func (s *Service) reportGap(h *holding, gap source.Gap) {
	s.mu.RLock()
	defer s.mu.RUnlock()
	for _, e := range h.editions {
		reads := slices.ContainsFunc(shape.Capture([]*shape.Shape{e.shape}), func(c shape.Captured) bool { return c.Table == gap.Table })
		if reads && e.gap.report(gap.Words+howToMend, true) {
			e.log.Error("capture is not whole", "reason", gap.Words)
		}
	}
}

const howToMend = ": run pingo apply, which installs them and fills the index anew"

// followEditions starts, drops and retires the editions of held sources as the records say.
func (s *Service) followEditions(ctx context.Context, states []records.EditionState) error {
	type name struct {
		index  string
		number int
	}
	newest := map[string]int{} // the newest that answers
	recorded := map[name]records.EditionState{}
	for _, e := range states {
		recorded[name{e.Index, e.Number}] = e
		if e.State == fill.Switched {
			newest[e.Index] = e.Number
		}
	}
	running := map[name]bool{}
	for _, h := range s.held {
		s.mu.RLock()
		editions := h.editions // never changed in place
		s.mu.RUnlock()
		for _, e := range editions {
			n := name{e.record.Index, e.record.Number}
			running[n] = true
			state, there := recorded[n]
			switch {
			case h.leaving[e]:
			case !there: // its index was taken out of the definition; the engine keeps what it has
				s.leave(h, e, false)
			case state.State == fill.Cancelled || n.number < newest[n.index]:
				s.leave(h, e, true)
			}
		}
	}
	var full []*records.Edition
	for n, state := range recorded {
		h := s.held[state.Source]
		if h == nil || running[n] {
			continue
		}
		if s.engines[state.Engine] == nil && (state.State == fill.Cancelled || n.number < newest[n.index]) {
			if err := s.records.DeleteEdition(ctx, &records.Edition{Index: n.index, Number: n.number}); err != nil {
				return fmt.Errorf("forgetting an edition: %w", err)
			}
			continue
		}
		if full == nil {
			var err error
			if full, err = s.records.Editions(ctx); err != nil {
				return fmt.Errorf("reading the editions: %w", err)
			}
		}
		for _, e := range full {
			if e.Index == n.index && e.Number == n.number {
				s.start(h, e)
			}
		}
	}
	return nil
}

// start feeds an edition, and fills it when it is not yet switched to.
func (s *Service) start(h *holding, record *records.Edition) {
	s.mu.Lock()
	defer s.mu.Unlock()
	eng := s.engines[record.Engine]
	if eng == nil {
		return // its index goes to another engine now; this edition is forgotten when that one answers
	}
	record.Epoch = h.lease.Epoch
	ctx, cancel := context.WithCancel(h.ctx)
	e := newEditionFlow(record, h.stream.source, eng, s.gates[record.Engine], s.records, h, s.log)
	e.stop = cancel
	h.editions = append(slices.Clone(h.editions), e)
	if record.State == fill.Cancelled {
		close(e.ended) // it is only there to be dropped
		return
	}
	h.stream.feed(e)
	h.work.Go(func() { e.run(ctx) })
	if record.State != fill.Switched {
		h.work.Go(func() {
			if e.fill(ctx, func(ctx context.Context) error { return h.stream.caughtUp(ctx, e) }) == nil {
				nudge(s.wake) // what it replaces is retired
			}
		})
	}
}

// leave stops feeding an edition; the changes that waited for it wait no longer. The
// engine's copy goes, too, when it is to.
func (s *Service) leave(h *holding, e *editionFlow, drop bool) {
	h.leaving[e] = true
	h.work.Go(func() {
		h.stream.unfeed(e)
		e.stop()
		e.abandon()
		for attempt := 1; drop && h.ctx.Err() == nil; attempt++ {
			if !h.holds() {
				return
			}
			err := e.engine.Drop(h.ctx, e.record.Name())
			if err == nil {
				err = s.records.DeleteEdition(h.ctx, e.record)
			}
			if err == nil {
				break
			}
			if h.ctx.Err() == nil {
				s.log.Warn("dropping an edition", "edition", e.record.Name(), "error", err)
			}
			sleep(h.ctx, min(time.Duration(attempt)*time.Second, 10*time.Second))
		}
		s.mu.Lock()
		defer s.mu.Unlock()
		h.editions = slices.DeleteFunc(slices.Clone(h.editions), func(x *editionFlow) bool { return x == e })
	})
}

func (e *editionFlow) live() bool {
	select {
	case <-e.switched:
		return true
	default:
		return false
	}
}

// over reports whether the edition is fed no longer.
func (e *editionFlow) over() bool {
	select {
	case <-e.ended:
		return true
	default:
		return false
	}
}
