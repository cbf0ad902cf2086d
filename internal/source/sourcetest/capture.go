package sourcetest

import (
	"context"
	"slices"
	"strings"
	"sync"
	"time"

	"pingo/internal/core/shape"
	"pingo/internal/source"
)

func (s *suite) need() []shape.Captured {
	return shape.Capture(s.huts.Source, []*shape.Shape{s.huts, s.stays})
}

// installingHoldsUpNobody installs capture while a transaction that uses a table stays open. Others write meanwhile, and
// wait for moments only.
func (s *suite) installingHoldsUpNobody() {
	if s.src.Capture == nil {
		return
	}
	const long = 1500 * time.Millisecond
	var waited time.Duration
	for range 3 { // a busy machine may pause as long by itself, but not each time
		waited = 0
		open := s.h.Begin(s.T)
		open.Update("huts", Row{"id": 20}, Row{"beds": 7})
		installed := make(chan error, 1)
		go func() {
			_, err := s.src.Capture.Install(s.Context(), "one", s.need())
			installed <- err
		}()
		for began := time.Now(); time.Since(began) < 2*long; time.Sleep(100 * time.Millisecond) {
			at := time.Now()
			s.do(func(tx Transaction) { tx.Update("huts", Row{"id": 21}, Row{"beds": 8}) })
			waited = max(waited, time.Since(at))
		}
		open.Rollback()
		if err := <-installed; err != nil {
			s.Fatalf("installing behind an open transaction: %v", err)
		}
		if err := s.src.Capture.Remove(s.Context()); err != nil {
			s.Fatal(err)
		}
		if waited < long {
			return
		}
	}
	s.Errorf("a writer waited for %v while capture was being installed", waited)
}

// removalIsToldAsOne removes capture while a transaction holds up its end. A reader meanwhile hears that it was
// removed, and not what is left of it.
func (s *suite) removalIsToldAsOne(need []shape.Captured) {
	tx := s.h.Begin(s.T)
	tx.Update("stays", Row{"hut_id": 1, "night": "held"}, Row{"body": "loud"})
	removed := make(chan error, 1)
	go func() { removed <- s.src.Capture.Remove(s.Context()) }()
	var looking sync.WaitGroup
	for range 4 { // so that a look is likely to be under way when the removal begins
		looking.Go(func() {
			for looks := 0; looks < 20; {
				gaps, err := s.src.Capture.Gaps(s.Context(), need)
				if err != nil {
					s.Error(err)
					return
				}
				if len(gaps) == 0 {
					continue
				}
				looks++
				if len(gaps) != len(need) || slices.ContainsFunc(gaps, func(g source.Gap) bool {
					return !g.Deliberate || !strings.Contains(g.Reason, "capture was removed")
				}) {
					s.Errorf("gaps while capture is removed: %+v", gaps)
					return
				}
			}
		})
	}
	looking.Wait()
	tx.Rollback()
	if err := <-removed; err != nil {
		s.Fatal(err)
	}
}

func (s *suite) capturesComeAndGo() {
	ctx, capture := s.Context(), s.src.Capture
	if capture == nil {
		return
	}
	need := s.need()
	if made, err := capture.Install(ctx, "one", need); err != nil || len(made) != 0 {
		s.Errorf("installed again: %v %v", made, err)
	}
	if _, err := capture.Install(ctx, "two", need); err == nil ||
		!strings.Contains(err.Error(), "another Pingo service") {
		s.Errorf("a second service: %v", err)
	}
	if status, err := capture.Status(ctx); err != nil || !status.Installed || len(status.Tables) != 3 {
		s.Errorf("%+v %v", status, err)
	}
	if gaps, err := capture.Gaps(ctx, need); err != nil || len(gaps) != 0 {
		s.Errorf("gaps: %+v %v", gaps, err)
	}
	if missing, err := capture.MissingRights(ctx, need); err != nil || len(missing) != 0 {
		s.Errorf("rights: %v %v", missing, err)
	}
	if _, err := capture.Advice(ctx, need, s.huts.Lookups(s.huts.Source)); err != nil {
		s.Error(err)
	}
	if script, err := capture.Script(ctx, need); err != nil || script == "" {
		s.Errorf("script: %q %v", script, err)
	}
	s.do(func(tx Transaction) { tx.Insert("stays", Row{"hut_id": 1, "night": "held", "body": "quiet"}) })
	for range 10 {
		s.removalIsToldAsOne(need)
		if _, err := capture.Install(ctx, "one", need); err != nil {
			s.Fatal(err)
		}
	}
	s.removalIsToldAsOne(need)
	if err := capture.Remove(ctx); err != nil { // a step that is taken again
		s.Fatal(err)
	}
	if status, err := capture.Status(ctx); err != nil || status.Installed {
		s.Errorf("%+v %v", status, err)
	}
	if gaps, err := capture.Gaps(ctx, need); err != nil || len(gaps) != 3 || gaps[0].Safe ||
		!gaps[0].Deliberate ||
		gaps[0].Reason == "" {
		s.Errorf("gaps without capture: %+v %v", gaps, err)
	}
	s.do(func(tx Transaction) { tx.Update("huts", Row{"id": 12}, Row{"beds": 3}) })
	if _, err := s.src.Changes(ctx, 10); source.FaultOf(err) != source.NoCapture {
		s.Errorf("changes without capture: %v", err)
	}
	expired, cancel := context.WithCancel(ctx)
	cancel()
	if _, err := s.src.Count(expired, s.huts.Trees[0]); err == nil {
		s.Error("a context that has ended is not heeded")
	}
}
