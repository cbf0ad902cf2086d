package define

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"pingo/internal/api"
	"pingo/internal/core/definition"
	"pingo/internal/core/reindex"
	"pingo/internal/flow/inspect"
	"pingo/internal/records"
)

// ErrNotNow says that something cannot be done to an index as it is.
var ErrNotNow = errors.New("not now")

// Reindex begins to fill another edition of an index like the one that answers, cancels the one that
// is being filled, or has the one that is ready answer whatever its gates say. It returns the edition.
func (d *Definer) Reindex(ctx context.Context, index, action string) (*records.Edition, error) {
	d.applying.Lock()
	defer d.applying.Unlock()
	var out *records.Edition
	err := d.Records.Exclusively(ctx, func() (err error) {
		out, err = d.reindex(ctx, index, action)
		return err
	})
	return out, err
}

func (d *Definer) reindex(ctx context.Context, index, action string) (*records.Edition, error) {
	all, err := d.Records.Editions(ctx)
	if err != nil {
		return nil, fmt.Errorf("reading the editions: %w", err)
	}
	var live, newest *records.Edition
	var known []string
	for _, e := range all {
		if !slices.Contains(known, e.Index) {
			known = append(known, e.Index)
		}
		if e.Index != index || e.State == reindex.Cancelled {
			continue
		}
		if newest = e; e.State == reindex.Switched {
			live = e
		}
	}
	if newest == nil {
		return nil, fmt.Errorf("index %q is %w: %s", index, inspect.ErrUnknown, definition.Nearest(index, known))
	}
	switch action {
	case api.ReindexStart:
		if newest != live {
			return nil, fmt.Errorf("%w: %s is %s already: wait for it, or cancel it first", ErrNotNow, newest.Name(), newest.State)
		}
		return d.Records.NewEdition(ctx, live.Shape, live.Engine, live.Definition)
	case api.ReindexCancel:
		if newest == live {
			return nil, fmt.Errorf("%w: no edition of %s is being filled", ErrNotNow, index)
		}
		if live == nil {
			return nil, fmt.Errorf(
				"%w: %s is the first edition of %s, and nothing answers without it: take the index out of the definition instead",
				ErrNotNow, newest.Name(), index)
		}
		return newest, d.Records.CancelEdition(ctx, newest)
	}
	if newest.State != reindex.Ready {
		return nil, fmt.Errorf("%w: %s is %s, and only one that is ready can be switched to", ErrNotNow, newest.Name(), newest.State)
	}
	decided, err := d.Records.Decide(ctx, newest)
	if err == nil && !decided {
		err = fmt.Errorf("%w: %s is not ready any more", ErrNotNow, newest.Name())
	}
	return newest, err
}
