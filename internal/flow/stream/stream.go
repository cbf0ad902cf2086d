// Package stream reads a source's changes, follows each to the keys of the documents that
// it touches, and removes from the source what is done. It shares nothing with deliveries
// but keys.
package stream

import (
	"context"
	"log/slog"
	"slices"
	"sync"
	"time"

	"pingo/internal/core/change"
	"pingo/internal/core/definition"
	"pingo/internal/core/retry"
	"pingo/internal/core/stats"
	"pingo/internal/source"
)

const (
	maxInFlight = 40_000 // changes read from the journal and not done
	pollFast    = 5 * time.Millisecond
	pollSlow    = 150 * time.Millisecond
	pollIdle    = 500 * time.Millisecond // for sources that can wait
	readIdle    = time.Second            // and are read at least as often
)

// Stream reads one source. A change is done when every follower that was there when it
// was read has settled it: so those of all editions that the records know of are added
// before Run is called, and that of a new edition before its first chunk is read.
type Stream struct {
	Noticed stats.Meter
	Trouble stats.TroubleSpot
	Journal Journal
	recent  recent

	// TargetLag is how late changes may usually be; a part of it is waited for more of them.
	TargetLag func() time.Duration

	name        string
	feed        source.Feed
	log         *slog.Logger
	maxInFlight int

	mu        sync.Mutex  // guards what follows
	followers []*Follower // never changed in place
	done      []int64     // not removed from the journal yet
	// run is how often Run was called: the source may number its changes again in between.
	run int
	// emptied is the last time when all changes that there were had been read and given to the followers, as far as it
	// is known; changed is closed and replaced then.
	emptied time.Time
	changed chan struct{}

	removable chan struct{} // something is done
}

// New prepares the stream of a source. label is a table's name as people write it.
func New(name string, src *source.Source, log *slog.Logger) *Stream {
	return &Stream{
		name:        name,
		feed:        src.Feed,
		recent:      recent{label: src.Label},
		log:         log.With("source", name),
		maxInFlight: maxInFlight,
		TargetLag:   func() time.Duration { return definition.DefaultTargetLag },
		changed:     make(chan struct{}),
		removable:   make(chan struct{}, 1),
	}
}

// ReadAtOnce is how many changes are read together. It is a variable for tests whose journals are short.
var ReadAtOnce = 2000

// Add adds a follower. From now on every change that is read touches it, too.
func (s *Stream) Add(f *Follower) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.followers = append(slices.Clone(s.followers), f)
}

// Remove takes a follower out. What it was given before may still be open.
func (s *Stream) Remove(f *Follower) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.followers = slices.DeleteFunc(slices.Clone(s.followers), func(x *Follower) bool { return x == f })
}

// Run reads until the context ends, or another process has claimed the changes. It may be
// called again then; what was read before and is not done is read again.
func (s *Stream) Run(ctx context.Context) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	s.mu.Lock()
	s.run++
	s.done = nil
	s.emptied = time.Time{}
	s.mu.Unlock()
	s.feed.Rewind()
	var wg sync.WaitGroup
	wg.Go(func() { s.removeDone(ctx) })
	defer wg.Wait()
	defer cancel()
	wait := pollFast
	var waits retry.Waits
	for ctx.Err() == nil {
		n, err := s.read(ctx)
		switch {
		case source.FaultOf(err) == source.Superseded:
			s.log.Warn("changes no longer read", "reason", err)
			return
		case err != nil && ctx.Err() == nil:
			if s.Trouble.Report(err.Error(), source.FaultOf(err) == source.NoCapture) {
				s.log.Warn("source unavailable", "reason", err)
			}
			wait = waits.Next()
		case n > ReadAtOnce/4:
			wait = pollFast // there is enough to be taken together
		case n > 0:
			wait = s.batchDelay()
		default:
			wait = min(wait*3/2, pollSlow)
		}
		if err == nil {
			waits.Reset()
			if s.Trouble.Clear() {
				s.log.Info("source available again")
			}
			if awaiter, can := s.feed.(source.Awaiter); can && n == 0 && wait == pollSlow {
				changes, waited := s.await(ctx, awaiter)
				if changes {
					wait = pollFast
				}
				if waited {
					continue
				}
			}
		}
		retry.Sleep(ctx, wait)
	}
}

// await waits until there may be changes, or it is time to look whether this process may still read them.
func (s *Stream) await(ctx context.Context, awaiter source.Awaiter) (changes, waited bool) {
	for began := time.Now(); time.Since(began) < readIdle && ctx.Err() == nil; {
		none, can := awaiter.Await(ctx, pollIdle)
		if !can || none.IsZero() {
			return can, can || waited
		}
		waited = true
		s.foundEnd(none)
	}
	return false, waited
}

// foundEnd notes that at some time there was no change that the followers were not given.
func (s *Stream) foundEnd(at time.Time) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.emptied = at
	close(s.changed)
	s.changed = make(chan struct{})
}

// batchDelay is how long the stream waits for more changes when some came. Their delivery takes as long again, and
// now and then twice as long.
func (s *Stream) batchDelay() time.Duration { return max(pollFast, s.TargetLag()*3/10) }

// read takes the next changes out of the journal and gives them to the followers; it
// returns how many there were.
func (s *Stream) read(ctx context.Context) (int, error) {
	inFlight, _ := s.feed.InFlight()
	most := min(s.maxInFlight-inFlight, ReadAtOnce)
	if most <= 0 {
		return 0, s.relieve(ctx)
	}
	began := time.Now()
	changes, err := s.feed.Changes(ctx, most)
	if err != nil {
		return 0, err
	}
	if len(changes) > 0 {
		if err := s.follow(ctx, changes); err != nil {
			return len(changes), err // the tickets stay open, and the changes in the journal
		}
	}
	if len(changes) < most {
		s.foundEnd(began)
	}
	return len(changes), nil
}

// relieve takes out the followers that cannot follow their changes, since the schema is no longer
// what their edition was made for, or another source is down for long: the others must not wait
// for them. That changes are missing in the edition is recorded before they are given up.
func (s *Stream) relieve(ctx context.Context) error {
	s.mu.Lock()
	followers := s.followers
	s.mu.Unlock()
	for _, f := range followers {
		reason := f.stuck()
		if reason == "" {
			continue
		}
		if err := f.missed(ctx, reason); err != nil {
			return err
		}
		s.Remove(f)
		f.giveUp()
		s.log.Error("changes given up", "edition", f.name, "reason", reason)
	}
	return nil
}

// follow gives changes to all followers that there are now: it lists them after the
// changes were read, and one that is added in between reads its rows later still.
func (s *Stream) follow(ctx context.Context, changes []change.Change) error {
	s.Noticed.Add(len(changes))
	records := s.recent.add(changes)
	s.mu.Lock()
	run := s.run
	s.mu.Unlock()
	settler, _ := s.feed.(source.Settler)
	tickets := make([]*change.Ticket, len(changes))
	for i, c := range changes {
		r := records[i]
		tickets[i] = change.NewTicket(c.At, func() {
			s.finished(run, c.Seq)
			r.finished()
		})
		if r != nil {
			tickets[i].Tally = &r.tally
		}
		if settler != nil {
			if by, known := settler.CommittedBy(c.Seq); known {
				tickets[i].Committed = by
			}
		}
	}
	s.mu.Lock()
	followers := s.followers
	s.mu.Unlock()
	for _, f := range followers {
		if err := f.follow(ctx, changes, tickets); err != nil && !f.ended() {
			return err
		}
	}
	for _, t := range tickets {
		t.Close()
	}
	return nil
}

// finished notes a change that is done, to be removed from the journal.
func (s *Stream) finished(run int, seq int64) {
	s.mu.Lock()
	if run == s.run {
		s.done = append(s.done, seq)
	}
	s.mu.Unlock()
	select {
	case s.removable <- struct{}{}:
	default:
	}
}

// removeDone removes done changes from the journal, many at a time.
func (s *Stream) removeDone(ctx context.Context) {
	for {
		select {
		case <-ctx.Done():
			return
		case <-s.removable:
		}
		few := func() bool {
			s.mu.Lock()
			defer s.mu.Unlock()
			return len(s.done) < ReadAtOnce/4
		}
		for began := time.Now(); few() && time.Since(began) < s.batchDelay(); { // let a few more come
			if !retry.Sleep(ctx, pollFast) {
				return
			}
		}
		s.mu.Lock()
		done := s.done
		s.done = nil
		s.mu.Unlock()
		err := retry.Until(ctx, func() error { return s.feed.Done(ctx, done) }, func(err error, failures int) {
			if failures == 2 { // a first failure is not worth a word
				s.log.Warn("done changes not removed from the journal", "reason", err)
			}
		})
		if err != nil {
			return
		}
	}
}

// CaughtUp waits until every change that the source holds now has reached an edition.
// Whether it has reached others does not matter: one may be on a sick engine.
func (s *Stream) CaughtUp(ctx context.Context, f *Follower) error {
	since := time.Now()
	for {
		s.mu.Lock()
		read, changed := s.emptied.After(since), s.changed
		s.mu.Unlock()
		if read {
			break
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-changed:
		}
	}
	if err := f.idle(ctx); err != nil {
		return err
	}
	return f.edition.Barrier(ctx)
}

// ReadAt is when the last read began that found the end of the changes and gave all of them
// to the followers; zero before the first.
func (s *Stream) ReadAt() time.Time {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.emptied
}

// InFlight is how many changes were read and are not done, and when the oldest of them
// was made.
func (s *Stream) InFlight() (n int, oldest time.Time) { return s.feed.InFlight() }
