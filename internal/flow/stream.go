package flow

import (
	"context"
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"sync"
	"time"

	"pingo/internal/core/change"
	"pingo/internal/core/document"
	"pingo/internal/core/retry"
	"pingo/internal/core/shape"
	"pingo/internal/source"
)

const (
	maxInFlight = 40000 // changes read from the journal and not done
	readAtOnce  = 2000
	pollFast    = 5 * time.Millisecond
	pollSlow    = 150 * time.Millisecond
)

// stream reads one source's journal, resolves its changes to documents, and
// removes from the journal what is done.
type stream struct {
	name   string
	source source.Source
	log    *slog.Logger

	mu       sync.Mutex
	editions []*editionFlow
	// inFlight holds the source's time of every change that is not done.
	inFlight map[int64]time.Time
	done     []int64
	wake     chan struct{}
	// emptied is when the last read began that found the journal's end, and whose
	// changes are all in their lanes.
	emptied time.Time

	noticed meter
	trouble troubleSpot
	tail    tail
	journal journalLook
}

func newStream(name string, src source.Source, log *slog.Logger) *stream {
	return &stream{name: name, source: src, log: log.With("source", name), inFlight: map[int64]time.Time{}, wake: make(chan struct{}, 1)}
}

// feed adds an edition. From now on every change that is read touches it, too.
func (s *stream) feed(e *editionFlow) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.editions = append(slices.Clone(s.editions), e)
}

func (s *stream) unfeed(e *editionFlow) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.editions = slices.DeleteFunc(slices.Clone(s.editions), func(x *editionFlow) bool { return x == e })
}

func (s *stream) run(ctx context.Context) {
	s.source.Rewind()
	var wg sync.WaitGroup
	wg.Go(func() { s.forget(ctx) })
	wait := pollFast
	for attempt := 1; ctx.Err() == nil; {
		n, err := s.read(ctx)
		switch {
		case err != nil && ctx.Err() == nil:
			if s.trouble.report(err.Error(), source.NoCapture(err)) {
				s.log.Warn("waiting", "reason", err)
			}
			wait = retry.Backoff(attempt)
			attempt++
		case n > 0:
			attempt, wait = 1, pollFast
		default:
			attempt, wait = 1, min(wait*3/2, pollSlow)
		}
		if err == nil && s.trouble.clear() {
			s.log.Info("the source answers again")
		}
		select {
		case <-ctx.Done():
		case <-time.After(wait):
		}
	}
	wg.Wait()
}

// read takes the next changes out of the journal and hands their documents to the
// lanes; it returns how many there were.
func (s *stream) read(ctx context.Context) (int, error) {
	s.mu.Lock()
	room := maxInFlight - len(s.inFlight)
	s.mu.Unlock()
	if room <= 0 {
		return 0, nil
	}
	began, most := time.Now(), min(room, readAtOnce)
	changes, err := s.source.Changes(ctx, most)
	if err != nil {
		return 0, err
	}
	if len(changes) < most {
		defer func() {
			s.mu.Lock()
			s.emptied = began
			s.mu.Unlock()
		}()
	}
	if len(changes) == 0 {
		return 0, nil
	}
	s.noticed.add(len(changes))
	followed := s.tail.follow(changes)
	tickets := make([]*change.Ticket, len(changes))
	s.mu.Lock()
	// The editions are looked up after the changes were read: an edition that is
	// added in between reads its rows later still.
	editions := s.editions
	for i, c := range changes {
		s.inFlight[c.Seq] = c.At
		f := followed[i]
		tickets[i] = change.NewTicket(c.At, func() {
			s.finished(c.Seq)
			f.finished()
		})
		if f != nil {
			tickets[i].Tally = &f.tally
		}
	}
	s.mu.Unlock()
	for _, e := range editions {
		if err := e.resolve(ctx, changes, tickets); err != nil && !e.over() {
			return len(changes), err // the service stops, and the tickets stay open
		}
	}
	for _, t := range tickets {
		t.Close()
	}
	return len(changes), nil
}

// resolve lets every document that the changes touch wait in its lane. Changes that
// need a query on the way up share it, and so do those that may touch everything; these
// are followed without waiting for them. It fails only when the context ends.
func (e *editionFlow) resolve(ctx context.Context, changes []change.Change, tickets []*change.Ticket) error {
	type group struct {
		route   shape.Route
		tuples  [][]string
		seen    map[string]bool
		tickets []*change.Ticket
	}
	type way struct {
		table shape.Ref
		route int
	}
	groups := map[way]*group{}
	everything := map[int][]*change.Ticket{}
	for i := range changes {
		c := &changes[i]
		for n, route := range e.routes[c.Table] {
			tree := e.shape.Trees[route.Tree]
			switch {
			case c.Op == change.Truncate || route.All:
				everything[route.Tree] = append(everything[route.Tree], tickets[i])
			case len(route.Link) == 0:
				if err := e.add(ctx, document.Key(tree, c.Key...), tickets[i], fresh); err != nil {
					return err
				}
			case len(route.Steps) == 0:
				for _, values := range c.Values(route.Link) {
					if err := e.add(ctx, document.Key(tree, values...), tickets[i], fresh); err != nil {
						return err
					}
				}
			default:
				w := way{c.Table, n}
				g := groups[w]
				if g == nil {
					g = &group{route: route, seen: map[string]bool{}}
					groups[w] = g
				}
				for _, values := range c.Values(route.Link) {
					if id := document.Key(tree, values...); !g.seen[id] {
						g.seen[id] = true
						g.tuples = append(g.tuples, values)
					}
				}
				g.tickets = append(g.tickets, tickets[i])
			}
		}
	}
	for _, g := range groups {
		tree := e.shape.Trees[g.route.Tree]
		e.expand(g.tickets, func(ctx context.Context, shared *change.Ticket) error {
			return e.source.Touched(ctx, g.route.Steps, g.tuples, func(key []string) error { return e.add(ctx, document.Key(tree, key...), shared, wide) })
		})
	}
	for tree, waiting := range everything {
		e.expand(waiting, func(ctx context.Context, shared *change.Ticket) error {
			return e.everything(ctx, e.shape.Trees[tree], shared)
		})
	}
	return nil
}

// sharedTicket stands for several: each of them waits for it.
func sharedTicket(tickets []*change.Ticket) *change.Ticket {
	at := tickets[0].At
	var tally *change.Tally
	if len(tickets) == 1 {
		tally = tickets[0].Tally
	}
	for _, t := range tickets {
		t.Open()
		if t.At.Before(at) {
			at = t.At
		}
	}
	shared := change.NewTicket(at, func() {
		for _, t := range tickets {
			t.Close()
		}
	})
	shared.Tally = tally
	return shared
}

// everything rebuilds all documents of a tree: those that the source has rows for,
// and those that the engine still holds.
func (e *editionFlow) everything(ctx context.Context, tree *shape.Tree, t *change.Ticket) error {
	if err := e.source.Keys(ctx, tree, nil, nil, func(key []string) error { return e.add(ctx, document.Key(tree, key...), t, wide) }); err != nil {
		return err
	}
	err := e.engine.Scan(ctx, e.record.Name(), func(key, _ string) error {
		if tree.Name != "" && !strings.HasPrefix(key, tree.Name+",") {
			return nil
		}
		return e.add(ctx, key, t, wide)
	})
	if err != nil {
		return fmt.Errorf("listing the documents of %s: %w", e.record.Name(), err)
	}
	return nil
}

// finished notes a change that is done, to be removed from the journal.
func (s *stream) finished(seq int64) {
	s.mu.Lock()
	s.done = append(s.done, seq)
	s.mu.Unlock()
	select {
	case s.wake <- struct{}{}:
	default:
	}
}

// forget removes done changes from the journal, many at a time.
func (s *stream) forget(ctx context.Context) {
	for {
		select {
		case <-ctx.Done():
			return
		case <-s.wake:
		}
		time.Sleep(2 * pollFast) // let a few more come
		s.mu.Lock()
		done := s.done
		s.done = nil
		s.mu.Unlock()
		for attempt := 1; len(done) > 0; attempt++ {
			err := s.source.Forget(ctx, done)
			if err == nil {
				break
			}
			if ctx.Err() != nil {
				return
			}
			s.log.Warn("waiting", "reason", err)
			select {
			case <-ctx.Done():
				return
			case <-time.After(retry.Backoff(attempt)):
			}
		}
		s.mu.Lock()
		for _, seq := range done {
			delete(s.inFlight, seq)
		}
		s.mu.Unlock()
	}
}

// oldest is the source's time of the oldest change that is not done; zero when all are.
func (s *stream) oldest() (waiting int, at time.Time) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, t := range s.inFlight {
		if at.IsZero() || t.Before(at) {
			at = t
		}
	}
	return len(s.inFlight), at
}

// caughtUp waits until every change that the source holds now has reached an edition.
// Whether it has reached others does not matter: one may be on a sick engine.
func (s *stream) caughtUp(ctx context.Context, e *editionFlow) error {
	since := time.Now()
	for {
		s.mu.Lock()
		read := s.emptied.After(since)
		s.mu.Unlock()
		if read {
			return e.settled(ctx)
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(20 * time.Millisecond):
		}
	}
}
