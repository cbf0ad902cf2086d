package define

import (
	"context"
	"errors"
	"fmt"

	"pingo/internal/api"
	"pingo/internal/core/reindex"
	"pingo/internal/flow/inspect"
)

// Export tells all that it takes to leave Pingo.
func Export(ctx context.Context, d *Definer) (*api.Export, error) {
	applied, err := d.Records.Definition(ctx)
	if err != nil {
		return nil, fmt.Errorf("reading the definition: %w", err)
	}
	if applied == nil {
		return nil, fmt.Errorf("%w: no definition was applied yet", inspect.ErrUnknown)
	}
	out := &api.Export{Version: applied.Version, Sources: []api.CaptureRemoval{}, Editions: []api.HeldEdition{}, Engines: []api.EngineLeft{}}
	for _, f := range applied.Files {
		out.Files = append(out.Files, api.File(f))
	}
	for _, src := range d.Connections.Definition().Sources {
		removal, err := (&Remover{d}).PlanCapture(ctx, src.Name)
		if err != nil {
			removal = &api.CaptureRemoval{Source: src.Name, Indexes: []string{}}
			if none := (*inspect.BadRequest)(nil); !errors.As(err, &none) { // it may have been lost before
				removal.Missing = err.Error()
			}
		}
		out.Sources = append(out.Sources, *removal)
	}
	editions, err := d.Records.Editions(ctx)
	if err != nil {
		return nil, fmt.Errorf("reading the editions: %w", err)
	}
	for _, e := range editions {
		out.Editions = append(out.Editions, api.HeldEdition{
			Engine: e.Engine, Index: e.Index, Edition: e.Name(), Answers: e.State == reindex.Switched,
		})
	}
	for _, eng := range d.Connections.Definition().Engines {
		left := api.EngineLeft{Engine: eng.Name, Address: eng.URL.Written}
		if kind := d.Connections.Kinds.Engine(eng.Kind); kind != nil {
			left.Leaves = kind.Leaves
		}
		out.Engines = append(out.Engines, left)
	}
	return out, nil
}
