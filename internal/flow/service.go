// Package flow runs Pingo: it shares the sources with other processes, reads them, fills
// editions and keeps them true.
package flow

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	"pingo/internal/core/definition"
	"pingo/internal/core/fill"
	"pingo/internal/core/shape"
	"pingo/internal/engine"
	"pingo/internal/records"
	"pingo/internal/source"
)

// Service is one process that keeps indexes of the applied definition true while it
// runs: those whose source it holds. Make one with New.
type Service struct {
	records *records.Records
	process records.Process
	id      string
	log     *slog.Logger
	look    definition.Lookup
	wake    chan struct{} // something was recorded that should be taken up at once

	applying sync.Mutex // one apply at a time in this process
	tending  sync.Mutex // one round of tending at a time

	mu         sync.RWMutex
	definition *definition.Definition
	applied    *records.Applied
	sources    map[string]source.Source
	engines    map[string]engine.Engine
	gates      map[string]*gate // before each engine
	held       map[string]*holding
	processes  []records.Process
	elsewhere  map[string]published // by source: what is held by others, or by nobody
	ready      bool
	trouble    troubleSpot
}

// published is what a process says of a source that it holds.
type published struct {
	holder  string
	free    bool
	since   time.Time // since when nobody holds it
	Source  SourceStatus
	Indexes []IndexStatus
	Recent  []Followed // the last changes, newest first
}

// New prepares a service on its records; address is where it answers.
func New(ctx context.Context, rec *records.Records, address string, log *slog.Logger) (*Service, error) {
	id, err := rec.ServiceID(ctx)
	if err != nil {
		return nil, fmt.Errorf("reading the service's identity: %w", err)
	}
	host, err := os.Hostname()
	if err != nil {
		return nil, fmt.Errorf("asking for the name of this machine: %w", err)
	}
	process := records.Process{ID: rand.Text(), Host: host, Address: address}
	if err := rec.Arrive(ctx, process); err != nil {
		return nil, fmt.Errorf("saying that this process begins: %w", err)
	}
	return &Service{records: rec, id: id, process: process, log: log, look: Environment, wake: make(chan struct{}, 1),
		sources: map[string]source.Source{}, engines: map[string]engine.Engine{}, held: map[string]*holding{}, definition: &definition.Definition{}}, nil
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

// tendEvery is how often a process looks what there is to do for it.
const tendEvery = 500 * time.Millisecond

// Run works until the context ends.
func (s *Service) Run(ctx context.Context) {
	for ctx.Err() == nil {
		err := s.tend(ctx)
		switch {
		case err == nil:
			s.trouble.clear()
		case ctx.Err() == nil && s.trouble.report(err.Error(), s.known()):
			s.log.Error("not all is as it should be", "reason", err)
		}
		select {
		case <-ctx.Done():
		case <-s.wake:
		case <-time.After(tendEvery):
		}
	}
	s.tending.Lock()
	defer s.tending.Unlock()
	s.letGo()
	leaving, cancel := context.WithTimeout(context.Background(), 2*time.Second)
	defer cancel()
	if err := s.records.Leave(leaving, s.process); err != nil {
		s.log.Warn("leaving", "error", err)
	}
}

func (s *Service) known() bool {
	s.mu.RLock()
	defer s.mu.RUnlock()
	return s.applied != nil
}

func sleep(ctx context.Context, d time.Duration) {
	select {
	case <-ctx.Done():
	case <-time.After(d):
	}
}

// tend makes this process do its share: it takes the newest definition into use, takes
// or gives up sources, and starts and ends what is recorded of their editions.
func (s *Service) tend(ctx context.Context) error {
	s.tending.Lock()
	defer s.tending.Unlock()
	processes, leases, err := s.records.Meet(ctx, s.process)
	if err != nil {
		return fmt.Errorf("asking the records what there is to do: %w", err)
	}
	s.hear(processes, leases)
	applied, err := s.newDefinition(ctx)
	if err != nil {
		return err
	}
	if applied != nil {
		if err := s.adopt(applied); err != nil {
			return err
		}
	}
	states, err := s.records.EditionStates(ctx)
	if err != nil {
		return fmt.Errorf("reading the editions: %w", err)
	}
	if err := s.share(ctx, len(processes), leases, states); err != nil {
		return err
	}
	if err := s.followEditions(ctx, states); err != nil {
		return err
	}
	s.mu.Lock()
	s.ready = true
	unfinished := s.applied != nil && !s.applied.CarriedOut
	s.mu.Unlock()
	if unfinished && s.applying.TryLock() {
		defer s.applying.Unlock()
		return s.records.IfNobodyDoes(ctx, func() error { return s.finish(ctx) })
	}
	return nil
}

// hear keeps what other processes say.
func (s *Service) hear(processes []records.Process, leases []records.Held) {
	elsewhere := map[string]published{}
	for _, l := range leases {
		p := published{holder: l.Holder, free: l.Free, since: l.Since}
		if len(l.Status) > 0 {
			if err := json.Unmarshal(l.Status, &p); err != nil {
				s.log.Warn("what another process says cannot be read", "source", l.Source, "error", err)
			}
		}
		p.Source.Name = l.Source
		elsewhere[l.Source] = p
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.processes, s.elsewhere = processes, elsewhere
}

// newDefinition gives the definition in force when this process does not use it yet.
func (s *Service) newDefinition(ctx context.Context) (*records.Applied, error) {
	applied, err := s.records.Definition(ctx)
	if err != nil {
		return nil, fmt.Errorf("reading the definition: %w", err)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if applied == nil {
		return nil, nil
	}
	if s.applied != nil && s.applied.Version == applied.Version {
		s.applied.CarriedOut = applied.CarriedOut
		return nil, nil
	}
	return applied, nil
}

// adopt takes a definition's sources and engines into use. One whose url is another now
// is opened anew, after all work has stopped.
func (s *Service) adopt(applied *records.Applied) error {
	def, findings := definition.Parse(applied.Files, s.look)
	if len(findings) > 0 {
		return fmt.Errorf("the applied definition cannot be used now: %s", findings[0])
	}
	sources, engines, gates := map[string]source.Source{}, map[string]engine.Engine{}, map[string]*gate{}
	before := s.definition
	moved := false
	for _, src := range def.Sources {
		if old := before.Source(src.Name); old != nil && old.URL.Written == src.URL.Written && old.Kind == src.Kind {
			sources[src.Name] = s.sources[src.Name]
			continue
		}
		opened, err := s.openSource(src)
		if err != nil {
			return err
		}
		sources[src.Name] = opened
		moved = moved || s.sources[src.Name] != nil
	}
	for _, eng := range def.Engines {
		if old := before.Engine(eng.Name); old != nil && old.URL.Written == eng.URL.Written && old.Kind == eng.Kind {
			engines[eng.Name], gates[eng.Name] = s.engines[eng.Name], s.gates[eng.Name]
			continue
		}
		opened, err := s.openEngine(eng)
		if err != nil {
			return err
		}
		engines[eng.Name], gates[eng.Name] = opened, newGate()
		moved = moved || s.engines[eng.Name] != nil
	}
	if moved {
		s.letGo()
	}
	s.mu.Lock()
	var closed []interface{ Close() }
	for name, src := range s.sources {
		switch {
		case sources[name] == nil && s.held[name] != nil:
			sources[name] = src // until its work has ended; see share
		case sources[name] != src:
			closed = append(closed, src)
		}
	}
	for name, eng := range s.engines {
		switch {
		case engines[name] == nil: // an edition of before may be in it
			engines[name], gates[name] = eng, s.gates[name]
		case engines[name] != eng:
			closed = append(closed, eng)
		}
	}
	s.sources, s.engines, s.gates, s.definition, s.applied = sources, engines, gates, def, applied
	s.mu.Unlock()
	for _, c := range closed {
		c.Close()
	}
	return nil
}

// finish carries out a definition that was applied by a process that died over it.
func (s *Service) finish(ctx context.Context) error {
	applied, err := s.records.Definition(ctx)
	if err != nil || applied == nil || applied.CarriedOut {
		return err
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

// patience is how long a free source waits for the process whose turn it is.
const patience = 3 * time.Second

// share takes free sources, and gives one up where others hold too few.
func (s *Service) share(ctx context.Context, processes int, leases []records.Held, states []records.EditionState) error {
	fed := map[string]bool{}
	for _, e := range states {
		fed[e.Source] = true
	}
	for name := range fed {
		if s.definition.Source(name) == nil {
			delete(fed, name)
		}
	}
	fair := (len(fed) + max(1, processes) - 1) / max(1, processes)
	byName := map[string]records.Held{}
	for _, l := range leases {
		byName[l.Source] = l
	}
	for name, h := range s.held {
		switch {
		case !h.holds():
			s.log.Error("the lease is lost, all work on the source stops", "source", name)
			s.end(h)
		case !fed[name]:
			s.end(h)
			if s.definition.Source(name) == nil {
				s.mu.Lock()
				gone := s.sources[name]
				delete(s.sources, name)
				s.mu.Unlock()
				gone.Close()
			}
		case len(s.held) > fair:
			s.log.Info("another process takes a share", "source", name)
			s.end(h)
		}
	}
	for name := range fed {
		l, known := byName[name]
		if s.held[name] != nil || known && !l.Free || len(s.held) >= fair && time.Since(l.Since) < patience {
			continue
		}
		lease, err := s.records.Take(ctx, name, s.process.ID)
		if err != nil {
			return fmt.Errorf("taking the lease on source %s: %w", name, err)
		}
		if lease != nil {
			s.hold(lease)
		}
	}
	return nil
}

// letGo ends all holdings.
func (s *Service) letGo() {
	for _, h := range s.held {
		s.end(h)
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

// standing is an edition as any process can look at it.
type standing struct {
	record *records.Edition
	source source.Source
	engine engine.Engine
}

func (st *standing) live() bool { return st != nil && st.record.State == fill.Switched }

// standing finds the edition that answers for an index, or the one being filled when
// none does yet; nil when there is neither.
func (s *Service) standing(ctx context.Context, index string) (*standing, error) {
	editions, err := s.records.Editions(ctx)
	if err != nil {
		return nil, fmt.Errorf("reading the editions: %w", err)
	}
	var best *records.Edition
	for _, e := range editions {
		if e.Index == index && e.State != fill.Cancelled && (best == nil || e.State == fill.Switched || best.State != fill.Switched) {
			best = e
		}
	}
	if best == nil {
		return nil, nil
	}
	s.mu.RLock()
	defer s.mu.RUnlock()
	st := &standing{best, s.sources[best.Shape.Source], s.engines[best.Engine]}
	if st.source == nil || st.engine == nil {
		return nil, fmt.Errorf("index %s: %w", index, ErrNotReady)
	}
	return st, nil
}

// shapes lists the shapes that are fed from a source, by any process.
func (s *Service) shapes(ctx context.Context, source string) ([]*shape.Shape, error) {
	editions, err := s.records.Editions(ctx)
	if err != nil {
		return nil, fmt.Errorf("reading the editions: %w", err)
	}
	var out []*shape.Shape
	for _, e := range editions {
		if e.Shape.Source == source && e.State != fill.Cancelled {
			out = append(out, e.Shape)
		}
	}
	return out, nil
}

// ErrNotReady says that the process does not know yet what there is to do.
var ErrNotReady = errors.New("the service is not ready yet: try again in a moment")

// indexNames lists the indexes that there are.
func (s *Service) indexNames(ctx context.Context) ([]string, error) {
	states, err := s.records.EditionStates(ctx)
	if err != nil {
		return nil, fmt.Errorf("reading the editions: %w", err)
	}
	var names []string
	for _, e := range states {
		if e.State != fill.Cancelled && !slices.Contains(names, e.Index) {
			names = append(names, e.Index)
		}
	}
	return names, nil
}
