// Package flow runs Pingo: one Service for each process wires the rooms below it. It
// shares the sources with other processes and feeds the indexes of those that it holds.
package flow

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"pingo/internal/api"
	"pingo/internal/core/definition"
	"pingo/internal/core/reindex"
	"pingo/internal/core/stats"
	"pingo/internal/flow/connect"
	"pingo/internal/flow/define"
	"pingo/internal/flow/deliver"
	"pingo/internal/flow/inspect"
	"pingo/internal/flow/lease"
	"pingo/internal/flow/rebuild"
	"pingo/internal/flow/stream"
	"pingo/internal/flow/sweep"
	"pingo/internal/records"
)

// Records is what the flow keeps of itself; *records.Records keeps it.
type Records interface {
	lease.Store
	deliver.Store
	rebuild.Store
	sweep.Store
	inspect.DriftStore
	define.Store
	inspect.Store
	// URL is where the records are; the intake is in the same database.
	URL() string
	ServiceID(ctx context.Context) (string, error)
	Register(ctx context.Context, p records.Process) error
	Heartbeat(ctx context.Context, p records.Process) (records.View, error)
	MarkGone(ctx context.Context, p records.Process) error
	Deregister(ctx context.Context, p records.Process) error
	DefinitionVersion(ctx context.Context, version int) (*records.Applied, error)
	SaveMissed(ctx context.Context, e *records.Edition, reason string, refill bool) error
	SaveAllMissed(ctx context.Context, source, fence, reason string) error
	Refill(ctx context.Context, e *records.Edition) (*records.Edition, error)
	Retire(ctx context.Context, e *records.Edition) (bool, error)
	SaveSamples(ctx context.Context, step records.Step, at time.Time, samples []records.Sample) error
}

// Service is one process that keeps indexes in sync while it runs: those whose source it
// holds. Make one with New.
type Service struct {
	// Define checks and applies definitions; Service.Apply applies when this process is ready.
	Define *define.Definer
	// Inspect looks at indexes, whoever feeds them.
	Inspect *inspect.Inspector

	records     Records
	connections *connect.Connections
	process     records.Process
	log         *slog.Logger
	trouble     stats.TroubleSpot
	wake        chan struct{} // something was recorded that should be taken up immediately
	ready       milestone     // when this process first knows what there is to do

	reconciling sync.Mutex // one round at a time in this process; taken before mu
	round                  // used by one at a time

	mu sync.RWMutex // guards what follows
	inForce
	held      map[string]*holder           // by source; some have several
	processes []records.Process            // that are alive
	elsewhere map[string]func() heldStatus // by source: what is held by others, or free
}

// inForce is the newest definition, as far as this process uses it.
type inForce struct {
	applied  *records.Applied // the one in use
	unusable error            // why the newest is not in use; nil while it is
}

// milestone is closed when something has been reached.
type milestone chan struct{}

func (m milestone) done() bool {
	select {
	case <-m:
		return true
	default:
		return false
	}
}

// round is what a process knows from one round to the next.
type round struct {
	observer lease.Observer
	// ahead is by how much the clock is ahead of that of the records, in nanoseconds.
	ahead atomic.Int64
	// secretsAt is when the secrets of the definition were last read.
	secretsAt time.Time
	helping   map[editionName]*help
}

// New prepares a service on its records; address is where it answers, and a nil budget is no bound.
func New(
	ctx context.Context,
	rec Records,
	kinds connect.Kinds,
	secrets connect.Secrets,
	budget *connect.Budget,
	address string,
	log *slog.Logger,
) (*Service, error) {
	id, err := rec.ServiceID(ctx)
	if err != nil {
		return nil, fmt.Errorf("reading the service's identity: %w", err)
	}
	host, err := network()
	if err != nil {
		return nil, err
	}
	process := records.Process{ID: rand.Text(), Host: host, Address: address}
	if err := rec.Register(ctx, process); err != nil {
		return nil, fmt.Errorf("registering this process: %w", err)
	}
	s := &Service{
		records:     rec,
		process:     process,
		log:         log,
		connections: connect.New(kinds, rec.URL(), secrets, budget),
		wake:        make(chan struct{}, 1),
		ready:       make(chan struct{}),
		held:        map[string]*holder{},
		round:       round{helping: map[editionName]*help{}},
	}
	s.Inspect = &inspect.Inspector{Records: rec, Connections: s.connections}
	s.Define = &define.Definer{
		Records:     rec,
		Connections: s.connections,
		Inspector:   s.Inspect,
		Service:     id,
		TakeUp:      s.reconcile,
		Log:         log,
		IndexStatus: func(name string) *api.IndexStatus {
			status := s.Status()
			return status.Index(name)
		},
	}
	return s, nil
}

// reconcileEvery is how often a process looks in the records for what others did.
const reconcileEvery = time.Second

// Run works until the context ends.
func (s *Service) Run(ctx context.Context) {
	for ctx.Err() == nil {
		err := s.reconcile(ctx)
		switch {
		case err == nil:
			if s.trouble.Clear() {
				s.log.Info("service recovered")
			}
		case ctx.Err() == nil && s.trouble.Report(err.Error(), s.ready.done()):
			s.log.Error("service in trouble", "reason", err)
		}
		select {
		case <-ctx.Done():
		case <-s.wake:
		case <-time.After(reconcileEvery):
		}
	}
	s.reconciling.Lock()
	defer s.reconciling.Unlock()
	leaving, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
	defer cancel()
	stopHelping(s)
	for _, h := range s.holders() {
		s.stop(leaving, h)
	}
	if err := s.records.Deregister(leaving, s.process); err != nil {
		s.log.Warn("process not deregistered", "error", err)
	}
}

// Ready fails while this process does not use the definition that is in force: it has not read it yet, or cannot use it.
func (s *Service) Ready() error {
	if !s.ready.done() {
		return errors.New("the definition in force is not in use here yet")
	}
	s.mu.RLock()
	defer s.mu.RUnlock()
	return s.unusable
}

// reconcile makes this process do its share: it takes the newest definition into use,
// takes or gives up sources, and starts and ends what is recorded of their editions.
func (s *Service) reconcile(ctx context.Context) error {
	s.reconciling.Lock()
	defer s.reconciling.Unlock()
	asked := time.Now()
	view, err := s.records.Heartbeat(ctx, s.process)
	if err != nil {
		return fmt.Errorf("asking the records what there is to do: %w", err)
	}
	apart := -stream.Ahead(view.Clock, asked, time.Now())
	if was := time.Duration(s.ahead.Swap(int64(apart))); apart.Abs() > stream.ClocksApart && was.Abs() <= stream.ClocksApart {
		s.log.Warn("clocks differ", "ahead of the records", apart.Round(time.Second).String())
	}
	leases := s.observer.Leases(view.Leases, time.Now())
	if view.Older {
		s.observer.NoteOlder(leases)
	}
	for _, p := range view.Processes {
		if p.ID == s.process.ID {
			s.process.Beat = p.Beat
		}
	}
	if err := s.recordOlder(ctx); err != nil {
		return err
	}
	processes, dead := s.observer.Processes(view.Processes, time.Now())
	for _, p := range dead {
		if err := s.records.MarkGone(ctx, p); err != nil {
			return fmt.Errorf("recording that a process is gone: %w", err)
		}
	}
	s.keepStatuses(processes, leases)
	if err := s.useNewest(ctx, &view); err != nil {
		s.mu.Lock()
		s.unusable = err
		s.mu.Unlock()
		return err
	}
	err = s.connections.Disconnect(view.Disconnected, func(name string) {
		stopHelping(s)
		if h := s.holder(name); h != nil {
			s.stop(ctx, h)
		}
		s.log.Info("source disconnected", "source", name, "until", view.Disconnected[name])
	})
	if err != nil {
		return err
	}
	states, err := s.records.EditionStates(ctx)
	if err != nil {
		return fmt.Errorf("reading the editions: %w", err)
	}
	took, err := s.balance(ctx, len(processes), leases, states)
	if err != nil {
		return err
	}
	if took {
		// A process that takes a source feeds what is recorded then: an older list may lack an
		// edition, and would have it left again.
		if states, err = s.records.EditionStates(ctx); err != nil {
			return fmt.Errorf("reading the editions: %w", err)
		}
	}
	if err := s.refill(ctx, states); err != nil {
		return err
	}
	if err := s.followEditions(ctx, states); err != nil {
		return err
	}
	if err := helpOthers(ctx, s, states); err != nil {
		return err
	}
	if !s.ready.done() {
		close(s.ready) // no other goroutine does: reconciling is held
	}
	s.mu.RLock()
	unfinished := s.applied != nil && !s.applied.CarriedOut
	s.mu.RUnlock()
	if unfinished {
		return s.Define.Finish(ctx)
	}
	return nil
}

// keepStatuses keeps the statuses that other processes report. They are decoded on demand.
func (s *Service) keepStatuses(processes []records.Process, leases []lease.State) {
	elsewhere := map[string]func() heldStatus{}
	for _, l := range leases {
		elsewhere[l.Source] = sync.OnceValue(func() heldStatus {
			p := heldStatus{holder: l.Holder, free: l.Free, since: l.Since, heard: l.Heard}
			if len(l.Status) > 0 {
				if err := json.Unmarshal(l.Status, &p); err != nil {
					s.log.Warn("status of another process unreadable", "source", l.Source, "error", err)
				}
			}
			p.Source.Name = l.Source
			if p.Source.Minute == nil { // it was not told yet
				p.Source.Minute = []int64{}
			}
			return p
		})
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.processes, s.elsewhere = processes, elsewhere
}

// useNewest takes the newest definition's sources and engines into use, when this process
// does not use it yet. What has another address now is opened again, after all work on it
// has stopped.
func (s *Service) useNewest(ctx context.Context, view *records.View) error {
	s.mu.Lock()
	known := view.Newest == 0
	if s.applied != nil && s.applied.Version == view.Newest {
		known = true
		s.applied.CarriedOut = view.CarriedOut
	}
	if known { // also where the records were put back to what this process uses
		s.unusable = nil
	}
	look := known && time.Since(s.secretsAt) >= secretsEvery
	if look {
		s.secretsAt = time.Now()
	}
	s.mu.Unlock()
	if look && s.connections.SecretsChanged() {
		s.log.Info("secrets of the definition changed, reconnecting")
		return use(ctx, s, s.connections.Definition())
	}
	if known {
		return nil
	}
	applied, err := s.records.Definition(ctx)
	if err != nil {
		return fmt.Errorf("reading the definition: %w", err)
	}
	if applied == nil {
		return nil // the records were put back in between
	}
	def, findings := s.connections.Parse(applied.Files)
	if len(findings) > 0 {
		return fmt.Errorf("the applied definition cannot be used now: %s", findings[0])
	}
	for _, eng := range def.Engines {
		if eng.Kind == "" {
			eng.Kind = applied.EngineKinds[eng.Name]
		}
	}
	if err := use(ctx, s, def); err != nil {
		return err
	}
	s.mu.Lock()
	s.applied, s.unusable = applied, nil
	s.mu.Unlock()
	return nil
}

// secretsEvery is how often the secrets of the definition are read, which may be files that another program replaces.
const secretsEvery = 5 * time.Second

// use takes a definition's sources and engines into use. Work on what is opened again stops first.
func use(ctx context.Context, s *Service, def *definition.Definition) error {
	change, err := s.connections.Prepare(def)
	if err != nil {
		return err
	}
	stopHelping(s)
	for _, name := range change.Replaced {
		if h := s.holder(name); h != nil {
			s.stop(ctx, h)
		}
	}
	s.connections.Use(change)
	return nil
}

// balance gives up sources, and takes free ones; it reports whether it took one.
func (s *Service) balance(
	ctx context.Context,
	processes int,
	leases []lease.State,
	states []records.EditionState,
) (took bool, err error) {
	def := s.connections.Definition()
	var fed, held [][]string
	for _, e := range states {
		if names := e.Sources(); usable(def, names) {
			fed = append(fed, names)
		}
	}
	for _, h := range s.holders() {
		if !h.sources.hold() {
			s.log.Error("lease lost, work on the source stopped", "source", strings.Join(h.sources.names(), ", "))
			s.stop(ctx, h)
			continue
		}
		held = append(held, h.sources.names())
	}
	// Sources of one index are fed together, so they wait for the one that is disconnected.
	connected := slices.DeleteFunc(lease.Together(fed), func(names []string) bool { return s.connections.Disconnected.Sentence(names...) != "" })
	give, take := lease.Balance(connected, held, leases, processes, time.Now())
	for _, names := range give {
		s.log.Info("source given up", "source", strings.Join(names, ", "))
		s.stop(ctx, s.holder(names[0]))
	}
	for _, name := range s.connections.SourcesLeft() {
		if s.holder(name) == nil {
			s.connections.CloseSource(name)
		}
	}
	for _, names := range take {
		taken, err := lease.TakeAll(ctx, s.records, names, s.process.ID, leases, s.observer.Above, s.log)
		if err != nil {
			return took, err
		}
		if len(taken) == 0 {
			continue
		}
		holds, err := s.hold(ctx, taken)
		if !holds {
			lease.Release(ctx, taken, s.log)
		}
		if err != nil {
			return took, err
		}
		took = took || holds
	}
	return took, nil
}

// usable reports whether a definition has all of some sources. An edition that needs another one is
// fed no more.
func usable(def *definition.Definition, names []string) bool {
	return !slices.ContainsFunc(names, func(name string) bool { return def.Source(name) == nil })
}

// hold begins to work on sources: on all editions that the records know of now that the
// leases are held. It does not where one of these needs a source that is not among them: its
// changes would be done before it has them.
func (s *Service) hold(ctx context.Context, leases []*lease.Lease) (bool, error) {
	editions, err := s.records.Editions(ctx)
	if err != nil {
		return false, fmt.Errorf("reading the editions: %w", err)
	}
	h, def := s.newHolder(leases), s.connections.Definition()
	others := slices.ContainsFunc(leases, func(l *lease.Lease) bool {
		before, _ := l.Claimed()
		return before.Epoch > 0 || l.Claiming() > 0 // otherwise no process has fed anything yet
	})
	var fed []*records.Edition
	for _, e := range editions {
		h.inherited[editionName{e.Index, e.Number}] = others
		names := e.Shape.Sources()
		missing := func(name string) bool { return h.sources.of(name) == nil }
		switch {
		case !usable(def, names) || !slices.ContainsFunc(names, func(name string) bool { return !missing(name) }):
		case slices.ContainsFunc(names, missing):
			return false, nil // it was recorded a moment ago
		default:
			fed = append(fed, e)
		}
	}
	s.mu.Lock()
	for _, l := range leases {
		s.held[l.Source()] = h
		s.log.Info("source taken", "source", l.Source(), "epoch", l.Epoch())
	}
	s.mu.Unlock()
	h.start(context.WithoutCancel(ctx), fed) // it ends with stop
	return true, nil
}

// stop ends all work on the sources of a holder, and lets others take them.
func (s *Service) stop(ctx context.Context, h *holder) {
	h.stop()
	s.mu.Lock()
	for _, x := range h.sources {
		delete(s.held, x.name)
	}
	s.mu.Unlock()
	var leases []*lease.Lease
	for _, x := range h.sources {
		s.observer.RaiseAbove(x.name, x.claimer.Above())
		leases = append(leases, x.lease)
	}
	lease.Release(ctx, leases, s.log)
}

func (s *Service) holder(source string) *holder {
	s.mu.RLock()
	defer s.mu.RUnlock()
	return s.held[source]
}

// holders are ordered by their sources.
func (s *Service) holders() []*holder {
	s.mu.RLock()
	defer s.mu.RUnlock()
	out := make([]*holder, 0, len(s.held))
	for _, name := range slices.Sorted(maps.Keys(s.held)) {
		if h := s.held[name]; h.sources[0].name == name {
			out = append(out, h)
		}
	}
	return out
}

// recordOlder records that changes may be missing, where the records were seen to have gone
// back. Every process that sees it records it, since no other may have.
func (s *Service) recordOlder(ctx context.Context) error {
	for _, source := range slices.Sorted(maps.Keys(s.observer.Older)) {
		s.log.Error("records put back", "source", source, "reason", lease.RecordsOlder)
		if err := s.records.SaveAllMissed(ctx, source, "", lease.RecordsOlder); err != nil {
			return fmt.Errorf("recording that changes may be missing: %w", err)
		}
		delete(s.observer.Older, source)
	}
	return nil
}

// refill begins another edition for each of a held source that lacks changes, where that
// was recorded.
func (s *Service) refill(ctx context.Context, states []records.EditionState) error {
	newest := newestStates(states)
	for _, e := range states {
		name := editionName{e.Index, e.Number}
		state, h := newest[name], s.holder(e.Source)
		if h == nil || !state.Refill || state.retired || state.replaced || e.State == reindex.Previous {
			continue
		}
		f := h.fed(name)
		if f == nil {
			continue
		}
		e, err := s.records.Refill(ctx, f.record)
		if err != nil {
			return fmt.Errorf("recording another edition of %s: %w", name.index, err)
		}
		if e != nil {
			s.log.Info(
				"edition begun, since another lacks changes",
				"edition",
				e.Name(),
				"instead",
				f.record.Name(),
			)
			h.wake()
		}
	}
	return nil
}

// followEditions starts, drops and retires the editions of held sources as the records say.
func (s *Service) followEditions(ctx context.Context, states []records.EditionState) error {
	recorded := newestStates(states)
	running := map[editionName]bool{}
	for _, h := range s.holders() {
		for _, f := range h.all() {
			name := f.name()
			running[name] = true
			if state, there := recorded[name]; !there {
				h.leave(name, forget) // its index was taken out of the definition; the engine keeps what it has
			} else if state.retired {
				h.leave(name, drop)
			} else {
				f.Edition.Missed.Note(state.Missed()) // anybody may have recorded it
				f.Fill.Note(state.State, state.Course)
				if state.Ordered {
					f.Checker.Nudge()
				}
				if state.Owed { // also by other processes
					f.Edition.LookAtBacklog()
				}
			}
		}
	}
	var full []*records.Edition
	for _, e := range states {
		name := editionName{e.Index, e.Number}
		state, h := recorded[name], s.holder(e.Source)
		if h == nil || running[name] ||
			slices.ContainsFunc(e.Sources(), func(name string) bool { return h.sources.of(name) == nil }) {
			continue // or it waits until its sources are held together
		}
		if full == nil {
			var err error
			if full, err = s.records.Editions(ctx); err != nil {
				return fmt.Errorf("reading the editions: %w", err)
			}
		}
		for _, e := range full {
			if e.Index != name.index || e.Number != name.number {
				continue
			}
			if state.retired && s.connections.Engine(e.Engine) == nil { // no process can drop it
				if err := s.records.DeleteEdition(ctx, e); err != nil {
					return fmt.Errorf("forgetting an edition: %w", err)
				}
				continue
			}
			h.add(e)
		}
	}
	return nil
}

type editionName struct {
	index  string
	number int
}

// editionState is a recorded edition; retired: it is no longer needed, since it was cancelled, was
// overtaken before it answered, or need not be kept any longer.
type editionState struct {
	records.EditionState
	retired  bool
	replaced bool // a newer one is being filled, or answers
}

func newestStates(states []records.EditionState) map[editionName]editionState {
	switched, newest, pending := map[string]int{}, map[string]int{}, map[string]int{}
	for _, e := range states { // the newest of each comes last
		if e.State == reindex.Switched {
			switched[e.Index] = e.Number
		}
		if e.State.Pending() {
			pending[e.Index] = e.Number
		}
		if e.State != reindex.Cancelled {
			newest[e.Index] = e.Number
		}
	}
	out := map[editionName]editionState{}
	for _, e := range states {
		s := editionState{EditionState: e, replaced: e.Number < max(pending[e.Index], switched[e.Index])}
		s.retired = e.State == reindex.Cancelled || e.Expired || e.State.Pending() && e.Number < newest[e.Index]
		out[editionName{e.Index, e.Number}] = s
	}
	return out
}

// readyTimeout is how long a definition waits for a process that has just begun.
const readyTimeout = 10 * time.Second

// Apply checks a definition, makes it the one in force, and takes it up immediately.
func (s *Service) Apply(ctx context.Context, r define.Request) (*api.Plan, int, error) {
	select {
	case <-s.ready:
	case <-ctx.Done():
		return nil, 0, ctx.Err()
	case <-time.After(readyTimeout):
		return nil, 0, inspect.ErrNotReady
	}
	return s.Define.Apply(ctx, r)
}

// RetryFailed has failed documents built and sent again; it returns how many.
func (s *Service) RetryFailed(ctx context.Context, index string, which api.FailedSelection) (int, error) {
	n, record, err := s.Inspect.RetryFailed(ctx, index, which)
	if f := s.fed(record); f != nil && err == nil {
		f.Edition.LookAtBacklog()
	}
	return n, err
}

// DismissFailed forgets failed documents though the engine has not accepted them; it
// returns how many.
func (s *Service) DismissFailed(ctx context.Context, index string, which api.FailedSelection) (int, error) {
	n, record, err := s.Inspect.DismissFailed(ctx, index, which)
	if err != nil {
		return 0, err
	}
	if f := s.fed(record); f != nil {
		if err := f.Edition.ForgetDismissed(ctx); err != nil { // they are dismissed; it is seen to again with the next count
			s.log.Warn("dismissed documents not read", "error", err)
		}
	}
	s.log.Info("failed documents dismissed", "index", index, "documents", n)
	return n, nil
}

// fed finds an edition that this process feeds; nil when another one does.
func (s *Service) fed(record *records.Edition) *fed {
	if record == nil {
		return nil
	}
	h := s.holder(record.Shape.Source)
	if h == nil {
		return nil
	}
	return h.fed(editionName{record.Index, record.Number})
}
