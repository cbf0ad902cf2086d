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
	"pingo/internal/flow/inspect"
	"pingo/internal/records"
)

// Remover deletes what Pingo made in sources and engines.
type Remover struct {
	Definer *Definer
}

// dropTimeout is how long a drop waits for the processes that delete the editions.
const dropTimeout = 20 * time.Second

// PlanIndex says what dropping an index deletes: its editions and its public name in the engine, and the capture of tables that
// no other index reads.
func (r *Remover) PlanIndex(ctx context.Context, index string) (*api.IndexRemoval, error) {
	out := &api.IndexRemoval{Index: index, Editions: []api.HeldEdition{}, Sources: []api.SourceRelease{}}
	all, err := r.Definer.Records.Editions(ctx)
	if err != nil {
		return nil, fmt.Errorf("reading the editions: %w", err)
	}
	editions := slices.DeleteFunc(slices.Clone(all), func(e *records.Edition) bool { return e.Index != index })
	in := r.Definer.Connections.Definition().Index(index)
	if in == nil && len(editions) == 0 {
		return nil, fmt.Errorf("index %q is %w", index, inspect.ErrUnknown)
	}
	if in != nil {
		out.Engine = in.Engine
	}
	sources := map[string]bool{}
	for _, e := range editions {
		out.Engine = e.Engine
		out.Editions = append(out.Editions, api.HeldEdition{Engine: e.Engine, Index: index, Edition: e.Name(), Answers: e.State == reindex.Switched})
		for _, name := range e.Shape.Sources() {
			sources[name] = true
		}
	}
	for _, src := range r.Definer.Connections.Definition().Sources {
		if !sources[src.Name] {
			continue
		}
		var before, after []*shape.Shape
		for _, e := range all {
			if e.State == reindex.Cancelled || !slices.Contains(e.Shape.Sources(), src.Name) {
				continue
			}
			before = append(before, e.Shape)
			if e.Index != index {
				after = append(after, e.Shape)
			}
		}
		still := shape.Capture(src.Name, after)
		release := api.SourceRelease{Source: src.Name, Tables: []string{}, All: len(still) == 0}
		for _, t := range shape.Capture(src.Name, before) {
			if !slices.ContainsFunc(still, func(s shape.Captured) bool { return s.Table == t.Table }) {
				release.Tables = append(release.Tables, t.Table.String())
			}
		}
		if len(release.Tables) > 0 {
			out.Sources = append(out.Sources, release)
		}
	}
	return out, nil
}

func (r *Remover) editionsOf(ctx context.Context, index string) ([]*records.Edition, error) {
	all, err := r.Definer.Records.Editions(ctx)
	if err != nil {
		return nil, fmt.Errorf("reading the editions: %w", err)
	}
	return slices.DeleteFunc(all, func(e *records.Edition) bool { return e.Index != index }), nil
}

// Index takes an index out of the definition in force, and deletes all that only this index needs. What cannot be deleted yet is
// in the answer; the processes that feed its sources keep trying.
func (r *Remover) Index(ctx context.Context, index, by string) (*api.IndexRemoval, error) {
	r.Definer.applying.Lock()
	defer r.Definer.applying.Unlock()
	var out *api.IndexRemoval
	ctx = context.WithoutCancel(ctx)
	err := r.Definer.Records.Exclusively(ctx, func() (err error) {
		out, err = r.dropFromDefinition(ctx, index, by)
		return err
	})
	if err != nil {
		return nil, err
	}
	r.Definer.Log.Info("index dropped", "index", index, "version", out.Version, "by", by)
	r.Definer.takeUp(ctx)
	if out.Pending, err = r.dropped(ctx, index); err != nil {
		return nil, err
	}
	// A process drops an edition under its claim on the source, so capture goes last.
	if out.Pending == "" {
		r.releaseCapture(ctx, out)
	}
	return out, nil
}

func (r *Remover) dropFromDefinition(ctx context.Context, index, by string) (*api.IndexRemoval, error) {
	out, err := r.PlanIndex(ctx, index)
	if err != nil {
		return nil, err
	}
	applied, err := r.Definer.Records.Definition(ctx)
	if err != nil {
		return nil, fmt.Errorf("reading the definition: %w", err)
	}
	if applied == nil { // the index is one of a definition that was restored away
		applied = &records.Applied{}
	}
	files, err := definition.Without(applied.Files, []string{index})
	if err != nil {
		return nil, &inspect.BadRequest{Err: err}
	}
	if _, findings := r.Definer.Connections.Parse(files); len(findings) > 0 {
		return nil, &inspect.BadRequest{Err: fmt.Errorf("the definition in force cannot be used: %s", findings[0])}
	}
	if out.Version, err = r.Definer.Records.Apply(ctx, files, applied.EngineKinds, by, index); err != nil {
		return nil, fmt.Errorf("recording the definition: %w", err)
	}
	return out, r.Definer.Records.CarriedOut(ctx, out.Version)
}

// dropped waits until no edition of an index is recorded, and says what is not deleted yet otherwise.
func (r *Remover) dropped(ctx context.Context, index string) (pending string, err error) {
	for end := time.Now().Add(dropTimeout); ; time.Sleep(100 * time.Millisecond) {
		left, err := r.editionsOf(ctx, index)
		if err != nil || len(left) == 0 {
			return "", err
		}
		if time.Now().After(end) {
			return fmt.Sprintf("engine %s has not deleted %s yet: Pingo goes on trying", left[0].Engine, left[0].Name()), nil
		}
	}
}

// releaseCapture removes the triggers of tables that no index reads any longer. It notes what is left to do.
func (r *Remover) releaseCapture(ctx context.Context, removal *api.IndexRemoval) {
	for _, release := range removal.Sources {
		name := release.Source
		err := r.Definer.Records.Exclusively(ctx, func() error {
			c, err := r.Definer.captured(ctx, name)
			if none := (*inspect.BadRequest)(nil); errors.As(err, &none) {
				return nil
			}
			if err != nil {
				return err
			}
			defer c.Close()
			if len(c.need) > 0 {
				return r.trim(ctx, c, release.Tables, removal)
			}
			status, err := c.Capture.Status(ctx)
			if err != nil || !status.Installed {
				return err
			}
			script, err := c.Capture.RemovalScript(ctx)
			if err != nil || script == "" {
				return err
			}
			if err = c.Capture.Remove(ctx); err != nil {
				removal.Script += script
			}
			return err
		})
		if err != nil {
			stays(removal, fmt.Sprintf("the capture in source %s is not removed: %v", name, err))
		}
	}
}

// trim installs what a source still needs, which removes the triggers of other tables, and notes those that stay because they
// belong to another role.
func (r *Remover) trim(ctx context.Context, c *captured, released []string, removal *api.IndexRemoval) error {
	if err := r.Definer.install(ctx, c.definition, c.need); err != nil {
		return err
	}
	status, err := c.Capture.Status(ctx)
	if err != nil {
		return err
	}
	stay := slices.DeleteFunc(slices.Clone(released), func(table string) bool { return !slices.Contains(status.Tables, table) })
	if len(stay) == 0 {
		return nil
	}
	script, err := c.Capture.Script(ctx, c.need)
	if err != nil {
		return err
	}
	removal.Script += script
	stays(removal, fmt.Sprintf("the triggers on %s stay, because Pingo's role in source %s does not own the tables", strings.Join(stay, ", "), c.definition.Name))
	return nil
}

// stays notes what is not deleted.
func stays(removal *api.IndexRemoval, what string) {
	if removal.Pending != "" {
		what = removal.Pending + "; " + what
	}
	removal.Pending = what
}

// PlanCapture says what removing capture from a source would do.
func (r *Remover) PlanCapture(ctx context.Context, name string) (*api.CaptureRemoval, error) {
	c, err := r.Definer.captured(ctx, name)
	if err != nil {
		return nil, err
	}
	defer c.Close()
	return r.removal(ctx, c)
}

func (r *Remover) removal(ctx context.Context, c *captured) (*api.CaptureRemoval, error) {
	shapes, err := r.Definer.Inspector.Shapes(ctx, c.definition.Name)
	if err != nil {
		return nil, err
	}
	out := &api.CaptureRemoval{Source: c.definition.Name, Database: c.definition.URL.Written, Indexes: []string{}}
	for _, s := range shapes {
		if !slices.Contains(out.Indexes, s.Index) {
			out.Indexes = append(out.Indexes, s.Index)
		}
	}
	slices.Sort(out.Indexes)
	status, err := c.Capture.Status(ctx)
	if err != nil || !status.Installed {
		return out, err
	}
	if out.Script, err = c.Capture.RemovalScript(ctx); err != nil {
		return nil, err
	}
	if out.Script == "" { // it works, and is not Pingo's to remove
		return nil, nothingInstalled(c.definition)
	}
	depth, err := c.Depth(ctx)
	out.Changes = depth.Changes
	return out, err
}

// Capture takes everything of Pingo out of a source. Its indexes are no longer kept
// in sync until it is installed again and they are refilled.
func (r *Remover) Capture(ctx context.Context, name string) (*api.CaptureRemoval, error) {
	c, err := r.Definer.captured(ctx, name)
	if err != nil {
		return nil, err
	}
	defer c.Close()
	out, err := r.removal(ctx, c)
	if err != nil {
		return nil, err
	}
	if err := c.Capture.Remove(ctx); err != nil {
		return nil, err
	}
	r.Definer.Log.Info("capture removed", "source", out.Source, "changes", out.Changes)
	return out, nil
}
