package define

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"pingo/internal/api"
	"pingo/internal/core/definition"
	"pingo/internal/core/reindex"
	"pingo/internal/core/shape"
	"pingo/internal/engine"
	"pingo/internal/flow/inspect"
	"pingo/internal/records"
)

// ErrRefused says that a plan has findings or that something does not answer.
var ErrRefused = errors.New("the definition cannot be applied")

// ErrGuarded says that a plan would take something away that was not accepted by name.
var ErrGuarded = errors.New("the definition would take something away")

// Request is a definition to apply.
type Request struct {
	Files []api.File
	// Indexes are those that are taken from the files, while the others stay as they are; all for none.
	Indexes []string
	// Accept names the indexes whose guarded changes are intended.
	Accept []string
	// By is who applies it.
	By string
}

// Apply makes a definition the one in force: it installs capture, records the
// version, and records the editions that are to be filled. The plan says what was done;
// 0 is the version when nothing was.
func (d *Definer) Apply(ctx context.Context, r Request) (*api.Plan, int, error) {
	d.applying.Lock()
	defer d.applying.Unlock()
	var p *plan
	var version int
	err := d.Records.Exclusively(ctx, func() (err error) {
		p, version, err = d.apply(ctx, r)
		return err
	})
	var out *api.Plan
	if p != nil {
		out = &p.Plan
	}
	if err != nil {
		return out, 0, err
	}
	d.Log.Info("definition applied", "version", version, "by", r.By)
	d.takeUp(ctx)
	return out, version, nil
}

// takeUp makes this process use a definition that is recorded. What fails is tried again with each round.
func (d *Definer) takeUp(ctx context.Context) {
	if err := d.TakeUp(context.WithoutCancel(ctx)); err != nil {
		d.Log.Warn("definition not taken up yet", "reason", err)
	}
}

func (d *Definer) apply(ctx context.Context, r Request) (*plan, int, error) {
	p, err := d.plan(ctx, r.Files, scope{only: r.Indexes})
	if err != nil {
		return nil, 0, err
	}
	if p.Refused() {
		return p, 0, ErrRefused
	}
	var guarded []string
	for _, ix := range p.Indexes {
		if ix.Guard != "" && !slices.Contains(r.Accept, ix.Name) {
			guarded = append(guarded, fmt.Sprintf("index %s: %s. If this is intended, add --accept %s", ix.Name, ix.Guard, ix.Name))
		}
	}
	if len(guarded) > 0 {
		return p, 0, fmt.Errorf("%w: %s", ErrGuarded, strings.Join(guarded, "; "))
	}
	if len(r.Indexes) > 0 { // the files were checked as they were written; what is recorded is a new text
		if r.Files, p, err = d.taken(ctx, r); err != nil {
			return nil, 0, err
		}
	}
	// From here on a caller that goes away must not leave it half done.
	ctx = context.WithoutCancel(ctx)
	for _, c := range p.Capture {
		if err := d.install(ctx, p.definition.Source(c.Source), p.need[c.Source]); err != nil {
			return p, 0, err
		}
	}
	version, err := d.Records.Apply(ctx, filesOf(r.Files), p.kinds, r.By)
	if err != nil {
		return p, 0, fmt.Errorf("recording the definition: %w", err)
	}
	return p, version, d.carryOut(ctx, p, version)
}

// taken is the definition in force with the requested indexes of the files, and its plan.
func (d *Definer) taken(ctx context.Context, r Request) ([]api.File, *plan, error) {
	applied, err := d.Records.Definition(ctx)
	if err != nil {
		return nil, nil, fmt.Errorf("reading the definition: %w", err)
	}
	if applied == nil {
		applied = &records.Applied{}
	}
	files, err := definition.Take(applied.Files, filesOf(r.Files), r.Indexes)
	if err != nil {
		return nil, nil, &inspect.BadRequest{Err: err}
	}
	p, err := d.plan(ctx, apiFiles(files), scope{only: r.Indexes})
	if err != nil {
		return nil, nil, err
	}
	if p.Refused() {
		return nil, nil, &inspect.BadRequest{Err: fmt.Errorf(
			"%s cannot be added to the definition in force: %s. Apply the whole definition", strings.Join(r.Indexes, ", "), p.Reason())}
	}
	for engine, kind := range applied.EngineKinds {
		if _, asked := p.kinds[engine]; !asked {
			p.kinds[engine] = kind
		}
	}
	return apiFiles(files), p, nil
}

func apiFiles(files []definition.File) []api.File {
	out := make([]api.File, len(files))
	for i, f := range files {
		out[i] = api.File(f)
	}
	return out
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
		p, err := d.plan(ctx, apiFiles(applied.Files), scope{})
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
