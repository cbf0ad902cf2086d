package model

import (
	"cmp"
	"context"
	"slices"
	"time"

	"pingo/internal/records"
)

type treeOf struct {
	edition
	tree int
}

// AddRebuild has all documents of a tree built again.
func (r *Records) AddRebuild(_ context.Context, e *records.Edition, tree int, at time.Time) error {
	return r.fenced(e, func(records.Edition) error {
		known, there := r.rebuilds[treeOf{of(e), tree}]
		if there && known.At.Before(at) {
			at = known.At
		}
		r.generation++
		r.rebuilds[treeOf{of(e), tree}] = records.Rebuild{Tree: tree, Generation: r.generation, At: at, Paused: known.Paused}
		return nil
	})
}

// Rebuilds lists what is to be built again.
func (r *Records) Rebuilds(_ context.Context, e *records.Edition) (out []records.Rebuild, err error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for name, b := range r.rebuilds {
		if name.edition == of(e) {
			out = append(out, b)
		}
	}
	slices.SortFunc(out, func(a, b records.Rebuild) int { return cmp.Or(a.At.Compare(b.At), a.Tree-b.Tree) })
	return out, nil
}

// PauseRebuilds halts what is to be built again in an edition, or lets it go on.
func (r *Records) PauseRebuilds(_ context.Context, e *records.Edition, paused bool, _ string) (any bool, err error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for name, b := range r.rebuilds {
		if name.edition == of(e) {
			b.Paused, any = paused, true
			r.rebuilds[name] = b
		}
	}
	return any, nil
}

// RebuiltTo records how far a rebuild is.
func (r *Records) RebuiltTo(_ context.Context, e *records.Edition, b records.Rebuild) error {
	return r.fenced(e, func(records.Edition) error {
		name := treeOf{of(e), b.Tree}
		known, there := r.rebuilds[name]
		switch {
		case !there || known.Generation != b.Generation:
		case b.Upto == nil:
			delete(r.rebuilds, name)
		default:
			known.Upto, known.Rows = b.Upto, b.Rows
			r.rebuilds[name] = known
		}
		return nil
	})
}
