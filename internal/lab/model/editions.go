package model

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"pingo/internal/core/reindex"
	"pingo/internal/core/shape"
	"pingo/internal/records"
	"slices"
	"time"
)

// Editions lists all editions.
func (r *Records) Editions(context.Context) (out []*records.Edition, err error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, e := range r.editions {
		out = append(out, &e)
	}
	slices.SortFunc(out, func(a, b *records.Edition) int {
		return cmp.Or(cmp.Compare(a.Index, b.Index), a.Number-b.Number)
	})
	return out, nil
}

func (r *Records) owed(e *records.Edition) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	for d := range r.backlog {
		if d.edition == of(e) {
			return true
		}
	}
	return false
}

// EditionStates lists all editions without their shapes.
func (r *Records) EditionStates(ctx context.Context) (out []records.EditionState, err error) {
	list, err := r.Editions(ctx)
	for _, e := range list {
		s := records.EditionState{
			Index:   e.Index,
			Number:  e.Number,
			State:   e.State,
			Engine:  e.Engine,
			Source:  e.Shape.Source,
			Others:  e.Shape.Sources()[1:],
			Course:  e.Course,
			Ordered: r.ordered(e),
			Owed:    r.owed(e),
			Offered: r.offers(e),
			Expired: expired(e),
		}
		if e.Missed != nil {
			s.Reason, s.At, s.Refill = &e.Missed.Reason, &e.Missed.Since, e.Missed.Refill
		}
		out = append(out, s)
	}
	return out, err
}

// NewEdition records an edition.
func (r *Records) NewEdition(
	_ context.Context,
	s *shape.Shape,
	engine string,
	version int,
	course records.Course,
) (*records.Edition, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.numbered[s.Index]++
	r.births++
	e := records.Edition{
		Index: s.Index, Number: r.numbered[s.Index], State: reindex.Preparing, Shape: s, Engine: engine,
		Definition: version, Birth: fmt.Sprint("b", r.births), Course: course,
	}
	r.editions[of(&e)] = e
	return &e, nil
}

// SaveEdition records a step.
func (r *Records) SaveEdition(_ context.Context, e *records.Edition) error {
	return r.fenced(e, func(known records.Edition) error {
		if known.State == reindex.Cancelled {
			return records.ErrLost
		}
		known.State, known.Expected, known.BeganAt, known.FilledAt, known.Planned, known.Gates, known.Copy =
			e.State, e.Expected, e.BeganAt, e.FilledAt, e.Planned, e.Gates, e.Copy
		r.editions[of(e)] = known
		return nil
	})
}

// SaveCopy records which copy of an edition the engine holds.
func (r *Records) SaveCopy(_ context.Context, e *records.Edition, copy string) error {
	return r.fenced(e, func(known records.Edition) error {
		known.Copy = copy
		r.editions[of(e)] = known
		return nil
	})
}

// SaveSwitched records that an edition answers.
func (r *Records) SaveSwitched(_ context.Context, e *records.Edition, keep time.Duration) error {
	return r.fenced(e, func(known records.Edition) error {
		is := known.State == reindex.Switched || known.State == reindex.Returning
		if known.State == reindex.Cancelled || !is && r.overtaken(e) {
			return records.ErrOvertaken
		}
		until := time.Now().Add(keep)
		for name, other := range r.editions {
			if name.index != e.Index || other.State != reindex.Switched {
				continue
			}
			other.State, other.KeptUntil = reindex.Previous, &until
			if keep == 0 || other.Missed != nil {
				other.State = reindex.Cancelled
			}
			r.editions[name] = other
		}
		known.State, known.KeptUntil = reindex.Switched, nil
		r.editions[of(e)] = known
		return nil
	})
}

// Return has an edition answer again.
func (r *Records) Return(_ context.Context, e *records.Edition) (bool, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	known := r.editions[of(e)]
	kept := known.State == reindex.Previous && known.Missed == nil
	if kept {
		known.State = reindex.Returning
		r.editions[of(e)] = known
	}
	return kept, nil
}

// Retire drops an edition that is no longer needed.
func (r *Records) Retire(_ context.Context, e *records.Edition) (retired bool, err error) {
	err = r.fenced(e, func(known records.Edition) error {
		if retired = known.State == reindex.Cancelled || expired(&known) || known.State.Pending() && r.overtaken(e); retired {
			known.State = reindex.Cancelled
			r.editions[of(e)] = known
		}
		return nil
	})
	return retired, err
}

// expired: it has answered before, and need not be kept any longer, or lacks changes.
func expired(e *records.Edition) bool {
	return (e.State == reindex.Previous || e.State == reindex.Returning) && e.Missed != nil ||
		e.State == reindex.Previous && !e.KeptUntil.After(time.Now())
}

// SetCourse records how an edition is to be filled.
func (r *Records) SetCourse(_ context.Context, e *records.Edition, c records.Course, _ string) (bool, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	known := r.editions[of(e)]
	if known.State.Pending() {
		known.Course = c
		r.editions[of(e)] = known
	}
	return known.State.Pending(), nil
}

// SaveEvent and Events keep nothing.
func (r *Records) SaveEvent(context.Context, *records.Edition, string) error { return nil }

// Events lists nothing.
func (r *Records) Events(context.Context, *records.Edition) ([]records.Event, error) { return nil, nil }

// Live is the newest edition of an index that was switched to.
func (r *Records) Live(_ context.Context, instead *records.Edition) (live *records.Edition, failed int64, err error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, e := range r.editions {
		if e.Index == instead.Index && e.State == reindex.Switched && (live == nil || live.Number < e.Number) {
			live = &e
		}
	}
	for d := range r.failed {
		if live != nil && d.edition == of(live) {
			failed++
		}
	}
	return live, failed, nil
}

// Decide says that an edition is to answer.
func (r *Records) Decide(_ context.Context, e *records.Edition) (bool, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	known := r.editions[of(e)]
	if known.State == reindex.Ready {
		r.decided[of(e)] = true
	}
	return known.State == reindex.Ready, nil
}

// Decided reports whether a person has decided.
func (r *Records) Decided(_ context.Context, e *records.Edition) (bool, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.decided[of(e)], nil
}

// SaveMissed records that changes may be missing.
func (r *Records) SaveMissed(_ context.Context, e *records.Edition, reason string, refill bool) error {
	return r.fenced(e, func(known records.Edition) error {
		missed := records.Missed{Reason: reason, Since: time.Now()}
		if known.Missed != nil {
			missed = *known.Missed
		}
		missed.Refill = missed.Refill || refill
		known.Missed = &missed
		r.editions[of(e)] = known
		return nil
	})
}

// SaveAllMissed records that changes may be missing in all editions of a source.
func (r *Records) SaveAllMissed(_ context.Context, source, fence, reason string) error {
	r.mu.Lock()
	defer r.mu.Unlock()
	if fence != "" && r.fence(source) != fence {
		return records.ErrLost
	}
	for name, known := range r.editions {
		if !slices.Contains(known.Shape.Sources(), source) {
			continue
		}
		missed := records.Missed{Reason: reason, Since: time.Now(), Refill: true}
		if known.Missed != nil {
			missed.Reason, missed.Since = known.Missed.Reason, known.Missed.Since
		}
		known.Missed = &missed
		r.editions[name] = known
	}
	return nil
}

// Refill records another edition like one that lacks changes.
func (r *Records) Refill(ctx context.Context, e *records.Edition) (*records.Edition, error) {
	r.mu.Lock()
	var course records.Course
	if known, there := r.editions[of(e)]; there && known.State != reindex.Switched {
		if known.State.Pending() {
			course = known.Course
		}
		known.State = reindex.Cancelled
		r.editions[of(e)] = known
	}
	newer := false
	for name, other := range r.editions {
		newer = newer || name.index == e.Index && name.number > e.Number &&
			other.State != reindex.Cancelled && other.State != reindex.Previous
	}
	r.mu.Unlock()
	if newer {
		return nil, nil
	}
	return r.NewEdition(ctx, e.Shape, e.Engine, e.Definition, course)
}

// overtaken reports whether there is a newer edition. The caller holds mu.
func (r *Records) overtaken(e *records.Edition) bool {
	for name, other := range r.editions {
		if name.index == e.Index && name.number > e.Number && other.State != reindex.Cancelled {
			return true
		}
	}
	return false
}

// CancelEdition cancels an edition.
func (r *Records) CancelEdition(_ context.Context, e *records.Edition) error {
	r.mu.Lock()
	defer r.mu.Unlock()
	if known, there := r.editions[of(e)]; there {
		known.State = reindex.Cancelled
		r.editions[of(e)] = known
	}
	return nil
}

// Drop cancels a kept edition.
func (r *Records) Drop(_ context.Context, e *records.Edition) (bool, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	known := r.editions[of(e)]
	kept := known.State == reindex.Previous
	if kept {
		known.State = reindex.Cancelled
		r.editions[of(e)] = known
	}
	return kept, nil
}

// SaveShape records a shape.
func (r *Records) SaveShape(_ context.Context, e *records.Edition) error {
	r.mu.Lock()
	defer r.mu.Unlock()
	known := r.editions[of(e)]
	known.Shape = e.Shape
	r.editions[of(e)] = known
	return nil
}

// DeleteEdition forgets an edition, and all that is kept of it.
func (r *Records) DeleteEdition(_ context.Context, e *records.Edition) error {
	return r.fenced(e, func(known records.Edition) error {
		if e.Fence != "" && known.State != reindex.Cancelled {
			return nil
		}
		delete(r.editions, of(e))
		delete(r.coverage, of(e))
		maps.DeleteFunc(r.different, func(at documentOf, _ records.Difference) bool { return at.edition == of(e) })
		maps.DeleteFunc(r.rebuilds, func(t treeOf, _ records.Rebuild) bool { return t.edition == of(e) })
		maps.DeleteFunc(r.chunks, func(c chunk, _ planned) bool { return c.edition == of(e) })
		maps.DeleteFunc(r.failed, func(d documentOf, _ records.Failed) bool { return d.edition == of(e) })
		maps.DeleteFunc(
			r.backlog,
			func(d documentOf, _ records.BacklogEntry) bool { return d.edition == of(e) },
		)
		return nil
	})
}
