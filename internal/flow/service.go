// Package flow runs Pingo: it holds the lease, reads sources, fills editions and
// keeps them true.
package flow

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"pingo/internal/core/definition"
	"pingo/internal/core/fill"
	"pingo/internal/core/shape"
	"pingo/internal/engine"
	"pingo/internal/records"
	"pingo/internal/source"
)

// Service keeps every index of the applied definition true while it runs. Make one
// with New.
type Service struct {
	records *records.Records
	id      string
	log     *slog.Logger
	look    definition.Lookup

	applying sync.Mutex // one apply at a time

	mu         sync.RWMutex
	running    context.Context // of the current lease; nil when there is none
	begun      bool            // what the records say is under way again
	stopped    *sync.WaitGroup
	definition *definition.Definition
	applied    *records.Applied
	streams    map[string]*stream
	engines    map[string]engine.Engine
	editions   []*editionFlow
	epoch      int64
	counter    atomic.Int64
	trouble    troubleSpot
}

// New prepares a service on its records.
func New(ctx context.Context, rec *records.Records, log *slog.Logger) (*Service, error) {
	id, err := rec.ServiceID(ctx)
	if err != nil {
		return nil, fmt.Errorf("reading the service's identity: %w", err)
	}
	return &Service{records: rec, id: id, log: log, look: Environment}, nil
}

// Environment resolves ${NAME} from the environment and ${file:path} from a file.
func Environment(reference string) (string, error) {
	if path, ok := strings.CutPrefix(reference, "file:"); ok {
		b, err := os.ReadFile(path)
		if err != nil {
			return "", fmt.Errorf("${file:%s} cannot be read: %w", path, err)
		}
		return strings.TrimSpace(string(b)), nil
	}
	v, ok := os.LookupEnv(reference)
	if !ok {
		return "", fmt.Errorf("the environment variable %s is not set", reference)
	}
	return v, nil
}

// Run holds the lease and works until the context ends. When the lease is lost, all
// work stops and begins again under a new one.
func (s *Service) Run(ctx context.Context) error {
	for first := true; ctx.Err() == nil; first = false {
		lease, err := s.records.Lease(ctx)
		if err != nil {
			if first && errors.Is(err, records.ErrHeld) {
				return fmt.Errorf("%w: stop it first, or give this one other records", err)
			}
			s.trouble.report(err.Error(), false)
			s.log.Warn("waiting for the lease", "reason", err)
			sleep(ctx, time.Second)
			continue
		}
		s.trouble.clear()
		s.hold(ctx, lease)
	}
	return nil
}

func sleep(ctx context.Context, d time.Duration) {
	select {
	case <-ctx.Done():
	case <-time.After(d):
	}
}

// hold works while the lease holds.
func (s *Service) hold(ctx context.Context, lease *records.Lease) {
	working, stop := context.WithCancel(ctx)
	var wg sync.WaitGroup
	s.mu.Lock()
	s.running, s.stopped, s.epoch = working, &wg, lease.Epoch
	s.counter.Store(0)
	s.mu.Unlock()
	s.log.Info("working", "epoch", lease.Epoch)
	wg.Go(func() { s.begin(working) })
	for working.Err() == nil {
		sleep(working, time.Second)
		if err := lease.Check(working); err != nil && working.Err() == nil {
			s.log.Error("the lease is lost, all work stops", "error", err)
			break
		}
	}
	s.mu.Lock()
	s.running, s.begun = nil, false
	s.mu.Unlock()
	stop()
	wg.Wait()
	s.mu.Lock()
	for _, st := range s.streams {
		st.source.Close()
	}
	for _, eng := range s.engines {
		eng.Close()
	}
	s.streams, s.engines, s.editions, s.definition = nil, nil, nil, nil
	s.mu.Unlock()
	lease.Release()
}

// begin goes on where the records say the work stood; it tries until it has.
func (s *Service) begin(ctx context.Context) {
	for _, step := range []func(context.Context) error{s.restore, s.finish} {
		for attempt := 1; ctx.Err() == nil; attempt++ {
			err := step(ctx)
			if err == nil {
				s.trouble.clear()
				break
			}
			if ctx.Err() == nil && s.trouble.report(err.Error(), true) {
				s.log.Error("cannot begin", "reason", err)
			}
			sleep(ctx, min(time.Duration(attempt)*500*time.Millisecond, 5*time.Second))
		}
	}
	s.mu.Lock()
	s.begun = ctx.Err() == nil
	s.mu.Unlock()
}

// nextVersion is above every version given before, also by earlier processes.
func (s *Service) nextVersion() int64 { return s.epoch<<32 | s.counter.Add(1) }

// restore takes the applied definition into use and feeds its editions. It does
// nothing until all that it needs is there, so it can be tried again.
func (s *Service) restore(ctx context.Context) error {
	applied, err := s.records.Definition(ctx)
	if err != nil {
		return fmt.Errorf("reading the definition: %w", err)
	}
	if applied == nil {
		return nil
	}
	def, findings := definition.Parse(applied.Files, s.look)
	if len(findings) > 0 {
		return fmt.Errorf("the applied definition cannot be used now: %s", findings[0])
	}
	editions, err := s.records.Editions(ctx)
	if err != nil {
		return fmt.Errorf("reading the editions: %w", err)
	}
	if err := s.adopt(def, applied); err != nil {
		return err
	}
	for _, e := range editions {
		if err := s.start(e); err != nil {
			return err
		}
	}
	return nil
}

// finish carries out a definition that was applied by a process that died over it.
func (s *Service) finish(ctx context.Context) error {
	s.mu.RLock()
	applied := s.applied
	s.mu.RUnlock()
	if applied == nil || applied.CarriedOut {
		return nil
	}
	p, err := s.Check(ctx, applied.Files)
	if err != nil {
		return err
	}
	if p.Refused() {
		return fmt.Errorf("definition version %d was applied, but cannot be carried out now: %s", applied.Version, p.reason())
	}
	return s.carryOut(ctx, p, applied.Version)
}

// adopt takes a definition's sources and engines into use.
func (s *Service) adopt(def *definition.Definition, applied *records.Applied) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.streams == nil {
		s.streams, s.engines = map[string]*stream{}, map[string]engine.Engine{}
	}
	for _, src := range def.Sources {
		if st := s.streams[src.Name]; st != nil {
			if old := s.definition.Source(src.Name); old != nil && old.URL.Written != src.URL.Written {
				return fmt.Errorf("source %s has another url now: restart pingo serve to use it", src.Name)
			}
			continue
		}
		opened, err := s.openSource(src)
		if err != nil {
			return err
		}
		st := newStream(src.Name, opened, s.log)
		s.streams[src.Name] = st
		running := s.running
		s.stopped.Go(func() { s.runStream(running, st) })
	}
	for _, eng := range def.Engines {
		if s.engines[eng.Name] != nil {
			if old := s.definition.Engine(eng.Name); old != nil && (old.URL.Written != eng.URL.Written || old.Kind != eng.Kind) {
				return fmt.Errorf("engine %s has another url now: restart pingo serve to use it, or give it another name", eng.Name)
			}
			continue
		}
		opened, err := s.openEngine(eng)
		if err != nil {
			return err
		}
		s.engines[eng.Name] = opened
	}
	s.definition, s.applied = def, applied
	return nil
}

// runStream waits until the capture is there, since before that no journal can be read.
func (s *Service) runStream(ctx context.Context, st *stream) {
	for ctx.Err() == nil {
		status, err := st.source.CaptureStatus(ctx)
		if err == nil && status.Installed {
			break
		}
		if err != nil && ctx.Err() == nil && st.trouble.report(err.Error(), false) {
			st.log.Warn("waiting", "reason", err)
		}
		sleep(ctx, 200*time.Millisecond)
	}
	st.trouble.clear()
	var wg sync.WaitGroup
	wg.Go(func() { s.watchCapture(ctx, st) })
	st.run(ctx)
	wg.Wait()
}

// watchEvery is how often the triggers of a source are looked at.
const watchEvery = 3 * time.Second

// watchCapture looks whether the triggers of a source still stand and fire. What is
// safe is mended; of the rest the indexes that read the table say that they are no
// longer true, until they are filled anew.
func (s *Service) watchCapture(ctx context.Context, st *stream) {
	var watching troubleSpot // so that what lasts is said once
	for {
		sleep(ctx, watchEvery)
		if ctx.Err() != nil {
			return
		}
		need := shape.Capture(s.shapes(st.name))
		gaps, err := st.source.CaptureGaps(ctx, need)
		for i := 0; err == nil && i < len(gaps); i++ {
			if !gaps[i].Safe {
				s.reportGap(st, gaps[i])
				continue
			}
			s.applying.Lock()
			_, err = st.source.InstallCapture(ctx, s.id, need)
			s.applying.Unlock()
			if err == nil {
				st.log.Info("capture mended", "reason", gaps[i].Words)
			}
		}
		switch {
		case err == nil:
			watching.clear()
		case ctx.Err() == nil && watching.report(err.Error(), false):
			st.log.Warn("capture cannot be watched or mended", "reason", err)
		}
	}
}

func (s *Service) reportGap(st *stream, gap source.Gap) {
	s.mu.RLock()
	defer s.mu.RUnlock()
	for _, e := range s.editions {
		reads := slices.ContainsFunc(shape.Capture([]*shape.Shape{e.shape}), func(c shape.Captured) bool { return c.Table == gap.Table })
		if e.shape.Source == st.name && reads && e.gap.report(gap.Words+": run pingo apply, which installs them and fills the index anew", true) {
			e.log.Error("capture is not whole", "reason", gap.Words)
		}
	}
}

func (s *Service) openSource(src *definition.Source) (source.Source, error) {
	url, err := src.URL.Reveal(s.look)
	if err != nil {
		return nil, fmt.Errorf("source %s: %w", src.Name, err)
	}
	opened, err := source.Open(src.Kind, url)
	if err != nil {
		return nil, fmt.Errorf("source %s: %w", src.Name, err)
	}
	return opened, nil
}

func (s *Service) openEngine(eng *definition.Engine) (engine.Engine, error) {
	url, err := eng.URL.Reveal(s.look)
	if err != nil {
		return nil, fmt.Errorf("engine %s: %w", eng.Name, err)
	}
	opened, err := engine.Open(eng.Kind, url)
	if err != nil {
		return nil, fmt.Errorf("engine %s: %w", eng.Name, err)
	}
	return opened, nil
}

// start feeds an edition, and fills it when it is not yet switched to.
func (s *Service) start(record *records.Edition) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	st, eng := s.streams[record.Shape.Source], s.engines[record.Engine]
	if st == nil || eng == nil {
		s.log.Info("edition is not fed: the definition has no source or engine for it any more", "edition", record.Name())
		return nil
	}
	if s.running == nil {
		return errors.New("the service is stopping")
	}
	ctx, cancel := context.WithCancel(s.running)
	e := newEditionFlow(record, st.source, eng, s.records, s.nextVersion, s.log)
	e.stop = cancel
	s.editions = append(s.editions, e)
	st.feed(e)
	s.stopped.Go(func() { e.run(ctx) })
	if record.State != fill.Switched {
		s.stopped.Go(func() {
			if e.fill(ctx, func(ctx context.Context) error { return st.caughtUp(ctx, e) }) == nil {
				s.retire(ctx, e)
			}
		})
	}
	return nil
}

// retire drops the editions of an index that another one has replaced.
func (s *Service) retire(ctx context.Context, live *editionFlow) {
	s.mu.RLock()
	var old []*editionFlow
	for _, e := range s.editions {
		if e.record.Index == live.record.Index && e.record.Number < live.record.Number {
			old = append(old, e)
		}
	}
	s.mu.RUnlock()
	for _, e := range old {
		s.drop(e)
		for ctx.Err() == nil {
			err := e.engine.Drop(ctx, e.record.Name())
			if err == nil {
				err = s.records.DeleteEdition(ctx, e.record)
			}
			if err == nil {
				break
			}
			s.log.Warn("dropping a replaced edition", "edition", e.record.Name(), "error", err)
			sleep(ctx, time.Second)
		}
	}
}

// drop stops feeding an edition; the changes that waited for it wait no longer.
func (s *Service) drop(e *editionFlow) {
	s.mu.Lock()
	for i, x := range s.editions {
		if x == e {
			s.editions = append(s.editions[:i:i], s.editions[i+1:]...)
			break
		}
	}
	st := s.streams[e.shape.Source]
	s.mu.Unlock()
	st.unfeed(e)
	e.stop()
	e.abandon()
}

// newest gives the edition that answers for an index, or the one being filled when
// none does yet; nil when there is neither.
func (s *Service) newest(index string) *editionFlow {
	s.mu.RLock()
	defer s.mu.RUnlock()
	var best *editionFlow
	for _, e := range s.editions {
		if e.record.Index == index && (best == nil || e.live() || !best.live()) {
			best = e
		}
	}
	return best
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

// shapes lists the shapes that are fed from a source.
func (s *Service) shapes(source string) []*shape.Shape {
	s.mu.RLock()
	defer s.mu.RUnlock()
	var out []*shape.Shape
	for _, e := range s.editions {
		if e.shape.Source == source {
			out = append(out, e.shape)
		}
	}
	return out
}
