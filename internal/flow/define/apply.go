package define

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"pingo/internal/api"
	"pingo/internal/core/definition"
	"pingo/internal/core/reindex"
	"pingo/internal/core/shape"
	"pingo/internal/engine"
	"pingo/internal/records"
)

// ErrRefused says that a plan has findings or that something does not answer.
var ErrRefused = errors.New("the definition cannot be applied")

// ErrGuarded says that a plan would take something away that was not accepted by name.
var ErrGuarded = errors.New("the definition would take something away")

// Apply makes a definition the one in force: it installs capture, records the
// version, and records the editions that are to be filled. The plan says what was done;
// 0 is the version when nothing was. accepted names the indexes whose guarded changes
// are meant.
func (d *Definer) Apply(
	ctx context.Context,
	files []api.File,
	by string,
	accepted []string,
) (*api.Plan, int, error) {
	d.applying.Lock()
	defer d.applying.Unlock()
	var p *plan
	var version int
	err := d.Records.Exclusively(ctx, func() (err error) {
		p, version, err = d.apply(ctx, files, by, accepted)
		return err
	})
	var out *api.Plan
	if p != nil {
		out = &p.Plan
	}
	if err != nil {
		return out, 0, err
	}
	d.Log.Info("definition applied", "version", version, "by", by)
	return out, version, nil
}

func (d *Definer) apply(
	ctx context.Context,
	files []api.File,
	by string,
	accepted []string,
) (*plan, int, error) {
	p, err := d.plan(ctx, files)
	if err != nil {
		return nil, 0, err
	}
	if p.Refused() {
		return p, 0, ErrRefused
	}
	for _, ix := range p.Indexes {
		if ix.Guard != "" && !slices.Contains(accepted, ix.Name) {
			return p, 0, fmt.Errorf(
				"%w: index %s: %s. If that is meant, say --accept %s",
				ErrGuarded,
				ix.Name,
				ix.Guard,
				ix.Name,
			)
		}
	}
	// From here on a caller that goes away must not leave it half done.
	ctx = context.WithoutCancel(ctx)
	for _, c := range p.Capture {
		if err := d.install(ctx, p.definition.Source(c.Source), p.need[c.Source]); err != nil {
			return p, 0, err
		}
	}
	version, err := d.Records.Apply(ctx, filesOf(files), p.kinds, by)
	if err != nil {
		return p, 0, fmt.Errorf("recording the definition: %w", err)
	}
	return p, version, d.carryOut(ctx, p, version)
}

// Finish carries out the newest definition when it was applied by a process that died
// over it. It does nothing while another process applies one.
func (d *Definer) Finish(ctx context.Context) error {
	if !d.applying.TryLock() {
		return nil
	}
	defer d.applying.Unlock()
	return d.Records.TryExclusively(ctx, func() error {
		applied, err := d.Records.Definition(ctx)
		if err != nil || applied == nil || applied.CarriedOut {
			return err
		}
		files := make([]api.File, len(applied.Files))
		for i, f := range applied.Files {
			files[i] = api.File(f)
		}
		p, err := d.plan(ctx, files)
		if err != nil {
			return err
		}
		if p.Refused() {
			return fmt.Errorf(
				"definition version %d was applied, but cannot be carried out now: %s",
				applied.Version,
				p.Reason(),
			)
		}
		return d.carryOut(ctx, p, applied.Version)
	})
}

// carryOut does to every index what the plan says, and records that it was done; a
// process that dies before begins it again.
func (d *Definer) carryOut(ctx context.Context, p *plan, version int) error {
	for _, ix := range p.indexes {
		if err := d.applyIndex(ctx, p, ix, version); err != nil {
			return fmt.Errorf("index %s: %w", ix.Name, err)
		}
	}
	return d.Records.CarriedOut(ctx, version)
}

func (d *Definer) applyIndex(ctx context.Context, p *plan, ix *planned, version int) error {
	editions, err := d.Records.Editions(ctx)
	if err != nil {
		return fmt.Errorf("reading the editions: %w", err)
	}
	editions = slices.DeleteFunc(editions, func(e *records.Edition) bool { return e.Index != ix.Name })
	switch ix.Change {
	case api.ChangeNew, api.ChangeReindex:
		if slices.ContainsFunc(editions, func(e *records.Edition) bool { return e.Definition == version }) {
			return nil // by a process that died over it
		}
		// Applying the same again does not restart a fill, and does not replace an edition that became live since the plan.
		if ix.asWritten && slices.ContainsFunc(editions, func(e *records.Edition) bool {
			return (e.State.Pending() || e.State == reindex.Switched) && e.Missed == nil && e.Engine == ix.Engine &&
				len(shape.Compare(e.Shape, ix.shape)) == 0
		}) {
			return nil
		}
		for _, e := range editions {
			// One that never answered is overtaken; a lost one would only hold up the new one.
			if ix.lost || e.State.Pending() {
				if err := d.Records.CancelEdition(ctx, e); err != nil {
					return err
				}
			}
		}
		course := records.Course{TakesOver: ix.takesOver}
		if ix.Change == api.ChangeReindex && !ix.lost { // where nothing is live, apply waits for no person
			course.BeginsAt, course.Paused = p.definition.Index(ix.Name).Reindex.Begins(time.Now())
		}
		if _, err := d.Records.NewEdition(ctx, ix.shape, ix.Engine, version, course); err != nil {
			return fmt.Errorf("recording an edition: %w", err)
		}
	case api.ChangeInPlace:
		return d.updateSettings(ctx, p.definition.Engine(ix.Engine), ix)
	case api.ChangeRemoved:
		for _, e := range editions {
			forget := d.Records.DeleteEdition
			// The live edition stays in the engine. A process that feeds the others drops them.
			if e.State != reindex.Switched && !slices.ContainsFunc(e.Shape.Sources(), func(name string) bool {
				return p.definition.Source(name) == nil
			}) {
				forget = d.Records.CancelEdition
			}
			if err := forget(ctx, e); err != nil {
				return err
			}
		}
	}
	return nil
}

// updateSettings takes up what a live edition can without a refill.
func (d *Definer) updateSettings(ctx context.Context, eng *definition.Engine, ix *planned) error {
	e, err := d.Inspector.Newest(ctx, ix.Name)
	if err != nil || e == nil {
		return err
	}
	opened, err := d.Connections.OpenEngine(eng)
	if err != nil {
		return err
	}
	defer opened.Close()
	if u, ok := opened.(engine.SettingsUpdater); ok {
		if err := u.UpdateSettings(ctx, e.Record.Name(), ix.shape); err != nil {
			return err
		}
	}
	e.Record.Shape = ix.shape
	return d.Records.SaveShape(ctx, e.Record)
}

func (d *Definer) install(ctx context.Context, src *definition.Source, need []shape.Captured) error {
	opened, err := d.Connections.OpenSource(src)
	if err != nil {
		return err
	}
	defer opened.Close()
	made, err := opened.Capture.Install(ctx, d.Service, need)
	for _, t := range made {
		d.Log.Info("capture installed", "source", src.Name, "table", t.String())
	}
	if err != nil {
		return fmt.Errorf("source %s: %w", src.Name, err)
	}
	return nil
}
