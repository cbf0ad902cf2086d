package model

import (
	"cmp"
	"context"
	"slices"
	"time"

	"pingo/internal/core/drift"
	"pingo/internal/records"
)

// Coverage is how much of an edition was compared.
func (r *Records) Coverage(_ context.Context, e *records.Edition) (*drift.Coverage, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	c := r.coverage[of(e)]
	return &c, nil
}

// SaveCoverage records it.
func (r *Records) SaveCoverage(_ context.Context, e *records.Edition, c *drift.Coverage) error {
	r.mu.Lock()
	defer r.mu.Unlock()
	err := r.held(e)
	if err == nil {
		r.coverage[of(e)] = *c
	}
	return err
}

// Differences lists those of an edition.
func (r *Records) Differences(_ context.Context, e *records.Edition) (out []records.Difference, err error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for at, d := range r.different {
		if at.edition == of(e) {
			out = append(out, d)
		}
	}
	slices.SortFunc(out, func(a, b records.Difference) int { return cmp.Compare(a.Key, b.Key) })
	return out, nil
}

// SaveDifferences records some, and forgets others.
func (r *Records) SaveDifferences(
	_ context.Context,
	e *records.Edition,
	found []records.Difference,
	settled []string,
) error {
	r.mu.Lock()
	defer r.mu.Unlock()
	if err := r.held(e); err != nil {
		return err
	}
	for _, key := range settled {
		delete(r.different, documentOf{of(e), key})
	}
	for _, d := range found {
		if d.FoundAt = r.different[documentOf{of(e), d.Key}].FoundAt; d.FoundAt.IsZero() {
			d.FoundAt = time.Now()
		}
		r.different[documentOf{of(e), d.Key}] = d
	}
	return nil
}

// AskDrift records an order.
func (r *Records) AskDrift(_ context.Context, e *records.Edition, asked drift.Asked, by string) (int64, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	id := int64(len(r.orders) + 1)
	r.orders = append(slices.Clip(r.orders), records.Order{
		ID: id, Index: e.Index, Number: e.Number, Edition: e.Name(), Asked: asked, By: by, AskedAt: time.Now(),
	})
	return id, nil
}

// ordered reports whether an order for an edition has not ended.
func (r *Records) ordered(e *records.Edition) bool {
	o, _ := r.NextOrder(context.Background(), e)
	return o != nil
}

// NextOrder is the oldest that has not ended.
func (r *Records) NextOrder(_ context.Context, e *records.Edition) (*records.Order, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, o := range r.orders {
		if o.Index == e.Index && o.Number == e.Number && o.EndedAt == nil {
			return &o, nil
		}
	}
	return nil, nil
}

// SaveOrder records how far one is.
func (r *Records) SaveOrder(
	_ context.Context,
	e *records.Edition,
	id int64,
	out *drift.Outcome,
	ended bool,
) (bool, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if err := r.held(e); err != nil {
		return false, err
	}
	for i, o := range r.orders {
		if o.ID != id || o.EndedAt != nil {
			continue
		}
		now := time.Now()
		if o.Outcome = *out; ended {
			o.EndedAt = &now
		}
		r.orders = slices.Clone(r.orders)
		r.orders[i] = o
		return true, nil
	}
	return false, nil
}

// Orders lists the newest of an index.
func (r *Records) Orders(_ context.Context, index string, n int) (out []records.Order, err error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, o := range slices.Backward(r.orders) {
		if o.Index == index && len(out) < n {
			out = append(out, o)
		}
	}
	return out, nil
}

// Order finds one.
func (r *Records) Order(_ context.Context, index string, id int64) (*records.Order, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, o := range r.orders {
		if o.Index == index && o.ID == id {
			return &o, nil
		}
	}
	return nil, nil
}

// StopOrder ends one.
func (r *Records) StopOrder(_ context.Context, index string, id int64) (bool, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for i, o := range r.orders {
		if o.Index == index && o.ID == id && o.EndedAt == nil {
			now := time.Now()
			o.EndedAt, o.Outcome.Problem = &now, "it was stopped"
			r.orders = slices.Clone(r.orders)
			r.orders[i] = o
			return true, nil
		}
	}
	return false, nil
}
