package flow

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"pingo/internal/core/definition"
	"pingo/internal/core/fill"
	"pingo/internal/core/shape"
	"pingo/internal/records"
	"pingo/internal/source"
)

// ErrRefused says that a plan has findings or that something does not answer.
var ErrRefused = errors.New("the definition cannot be applied")

// ErrGuarded says that a plan would take something away that was not accepted by name.
var ErrGuarded = errors.New("the definition would take something away")

// Apply makes a definition the one in force: it installs capture, records the
// version, and begins to fill what is new or changed. The plan says what was done.
// accepted names the indexes whose guarded changes are meant.
func (s *Service) Apply(ctx context.Context, files []definition.File, by string, accepted []string) (*Plan, int, error) {
	s.applying.Lock()
	defer s.applying.Unlock()
	if !s.isReady() {
		return nil, 0, ErrNotReady
	}
	var p *Plan
	var version int
	err := s.records.Exclusively(ctx, func() (err error) {
		p, version, err = s.apply(ctx, files, by, accepted)
		return err
	})
	if err != nil {
		return p, 0, err
	}
	s.log.Info("definition applied", "version", version, "by", by)
	// It is recorded; what is still to be done is tried again and again.
	if err := s.tend(context.WithoutCancel(ctx)); err != nil {
		s.log.Warn("taking up the definition", "reason", err)
	}
	return p, version, nil
}

func (s *Service) isReady() bool {
	s.mu.RLock()
	defer s.mu.RUnlock()
	return s.ready
}

func (s *Service) apply(ctx context.Context, files []definition.File, by string, accepted []string) (*Plan, int, error) {
	p, err := s.Check(ctx, files)
	if err != nil {
		return nil, 0, err
	}
	if p.Refused() {
		return p, 0, ErrRefused
	}
	for _, ix := range p.Indexes {
		if ix.Guard != "" && !slices.Contains(accepted, ix.Name) {
			return p, 0, fmt.Errorf("%w: index %s: %s. If that is meant, say --accept %s", ErrGuarded, ix.Name, ix.Guard, ix.Name)
		}
	}
	// From here on a caller that goes away must not leave it half done.
	ctx = context.WithoutCancel(ctx)
	for _, c := range p.Capture {
		if err := s.install(ctx, p.definition.Source(c.Source), c.need); err != nil {
			return p, 0, err
		}
	}
	version, err := s.records.Apply(ctx, files, by)
	if err != nil {
		return p, 0, fmt.Errorf("recording the definition: %w", err)
	}
	return p, version, s.carryOut(ctx, p, version)
}

// carryOut does to every index what the plan says, and records that it was done; a
// process that dies before begins it again.
func (s *Service) carryOut(ctx context.Context, p *Plan, version int) error {
	for _, ix := range p.Indexes {
		if err := s.applyIndex(ctx, p, ix, version); err != nil {
			return fmt.Errorf("index %s: %w", ix.Name, err)
		}
	}
	return s.records.CarriedOut(ctx, version)
}

func (s *Service) install(ctx context.Context, src *definition.Source, need []shape.Captured) error {
	opened, err := s.openSource(src)
	if err != nil {
		return err
	}
	defer opened.Close()
	made, err := opened.InstallCapture(ctx, s.id, need)
	for _, t := range made {
		s.log.Info("capture installed", "source", src.Name, "table", t.String())
	}
	if err != nil {
		return fmt.Errorf("source %s: %w", src.Name, err)
	}
	return nil
}

func (s *Service) applyIndex(ctx context.Context, p *Plan, ix IndexPlan, version int) error {
	editions, err := s.records.Editions(ctx)
	if err != nil {
		return fmt.Errorf("reading the editions: %w", err)
	}
	editions = slices.DeleteFunc(editions, func(e *records.Edition) bool { return e.Index != ix.Name })
	switch ix.Change {
	case ChangeNew, ChangeReindex:
		if slices.ContainsFunc(editions, func(e *records.Edition) bool { return e.Definition == version }) {
			return nil // by a process that died over it
		}
		for _, e := range editions {
			// One that never answered is overtaken; a lost one would only hold up the new one.
			if ix.lost || e.State != fill.Switched {
				if err := s.records.CancelEdition(ctx, e); err != nil {
					return err
				}
			}
		}
		if _, err := s.records.NewEdition(ctx, ix.shape, ix.Engine, version); err != nil {
			return fmt.Errorf("recording an edition: %w", err)
		}
	case ChangeInPlace:
		return s.adjust(ctx, p.definition.Engine(ix.Engine), ix)
	case ChangeRemoved:
		for _, e := range editions {
			if err := s.records.DeleteEdition(ctx, e); err != nil {
				return err
			}
		}
	}
	return nil
}

// adjust takes up what a live edition can without being filled anew.
func (s *Service) adjust(ctx context.Context, eng *definition.Engine, ix IndexPlan) error {
	st, err := s.standing(ctx, ix.Name)
	if err != nil || st == nil {
		return err
	}
	opened, err := s.openEngine(eng)
	if err != nil {
		return err
	}
	defer opened.Close()
	if err := opened.Adjust(ctx, st.record.Name(), ix.shape); err != nil {
		return err
	}
	st.record.Shape = ix.shape
	return s.records.SaveShape(ctx, st.record)
}

// InstallCapture installs what the applied definition needs, where it is missing.
func (s *Service) InstallCapture(ctx context.Context, name string) error {
	src, need, opened, err := s.openCaptured(ctx, name)
	if err != nil {
		return err
	}
	defer opened.Close()
	status, err := opened.CaptureStatus(ctx)
	if err != nil {
		return err
	}
	if !status.Installed && len(need) > 0 {
		return ErrNeedsFill
	}
	gaps, err := opened.CaptureGaps(ctx, need)
	if err != nil {
		return err
	}
	for _, gap := range gaps {
		if !gap.Safe {
			return fmt.Errorf("%w (%s)", ErrNeedsFill, gap.Words)
		}
	}
	return s.install(ctx, src, need)
}

// ErrNeedsFill says that installing capture alone would leave an index wrong.
var ErrNeedsFill = errors.New("changes went unnoticed while capture was gone: run pingo apply with the definition in force, which installs it and fills the indexes anew")

// CaptureSQL is what InstallCapture would run.
func (s *Service) CaptureSQL(ctx context.Context, name string) (string, error) {
	src, need, err := s.captured(ctx, name)
	if err != nil {
		return "", err
	}
	return s.captureSQL(ctx, src, need)
}

// CaptureSQLFor is what applying a definition would install in one of its sources.
func (s *Service) CaptureSQLFor(ctx context.Context, files []definition.File, name string) (string, error) {
	p, err := s.Check(ctx, files)
	if err != nil {
		return "", err
	}
	if wrong := p.wrong(); wrong != "" {
		return "", fmt.Errorf("%w: %s", ErrRefused, wrong)
	}
	for _, c := range p.Capture {
		if c.Source == name || name == "" && len(p.Capture) == 1 {
			return s.captureSQL(ctx, p.definition.Source(c.Source), c.need)
		}
	}
	return "", fmt.Errorf("%w: the definition captures nothing in a source %q", ErrUnknown, name)
}

func (s *Service) captureSQL(ctx context.Context, src *definition.Source, need []shape.Captured) (string, error) {
	opened, err := s.openSource(src)
	if err != nil {
		return "", err
	}
	defer opened.Close()
	return opened.CaptureSQL(ctx, need)
}

// RemoveCapture takes the journal and all triggers out of a source. Its indexes are
// no longer kept true until it is installed again and they are filled anew.
func (s *Service) RemoveCapture(ctx context.Context, name string) error {
	_, _, opened, err := s.openCaptured(ctx, name)
	if err != nil {
		return err
	}
	defer opened.Close()
	return opened.RemoveCapture(ctx)
}

// openCaptured opens a source of the applied definition beside the one that is read.
func (s *Service) openCaptured(ctx context.Context, name string) (*definition.Source, []shape.Captured, source.Source, error) {
	src, need, err := s.captured(ctx, name)
	if err != nil {
		return nil, nil, nil, err
	}
	opened, err := s.openSource(src)
	return src, need, opened, err
}

// ErrUnknown says that there is nothing of that name.
var ErrUnknown = errors.New("not known")

func (s *Service) captured(ctx context.Context, name string) (*definition.Source, []shape.Captured, error) {
	s.mu.RLock()
	def, applied := s.definition, s.applied
	s.mu.RUnlock()
	if applied == nil {
		return nil, nil, fmt.Errorf("%w: no definition was applied yet", ErrUnknown)
	}
	if name == "" && len(def.Sources) == 1 {
		name = def.Sources[0].Name
	}
	src := def.Source(name)
	if src == nil {
		known := make([]string, len(def.Sources))
		for i, src := range def.Sources {
			known[i] = src.Name
		}
		return nil, nil, fmt.Errorf("source %q is %w: %s", name, ErrUnknown, definition.Nearest(name, known))
	}
	shapes, err := s.shapes(ctx, name)
	return src, shape.Capture(shapes), err
}
