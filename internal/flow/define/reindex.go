package define

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/dustin/go-humanize"

	"pingo/internal/api"
	"pingo/internal/core/definition"
	"pingo/internal/core/reindex"
	"pingo/internal/flow/inspect"
	"pingo/internal/records"
)

// ErrNotNow says that something cannot be done to an index as it is.
var ErrNotNow = errors.New("not now")

// Reindexer begins, steers and ends the filling of editions, as people ask for it.
type Reindexer struct {
	Records Store
	// Usable reports whether the definition in force has some sources: editions that need others are
	// not fed.
	Usable func(sources []string) bool
}

// Do does to an index what a person asks for, and returns the edition that it was done to.
func (r *Reindexer) Do(ctx context.Context, index string, a api.ReindexAction) (*records.Edition, error) {
	var out *records.Edition
	err := r.Records.Exclusively(ctx, func() error {
		e, err := r.editionsOf(ctx, index)
		if err == nil {
			out, err = r.do(ctx, index, e, a)
		}
		return err
	})
	return out, err
}

// editions are those of an index: the live one, the one that is about to become live, and those
// that did before, oldest first.
type editions struct {
	live, pending *records.Edition
	previous      []*records.Edition
}

func (r *Reindexer) editionsOf(ctx context.Context, index string) (*editions, error) {
	all, err := r.Records.Editions(ctx)
	if err != nil {
		return nil, fmt.Errorf("reading the editions: %w", err)
	}
	out := &editions{}
	var known []string
	for _, e := range all {
		if !slices.Contains(known, e.Index) {
			known = append(known, e.Index)
		}
		switch {
		case e.Index != index || e.State == reindex.Cancelled:
		case e.State == reindex.Switched:
			out.live = e
		case e.State == reindex.Previous:
			out.previous = append(out.previous, e)
		default:
			out.pending = e
		}
	}
	if out.live == nil && out.pending == nil && out.previous == nil {
		return nil, fmt.Errorf("index %q is %w: %s", index, inspect.ErrUnknown, definition.Nearest(index, known))
	}
	slices.SortStableFunc(out.previous, func(a, b *records.Edition) int { return a.KeptUntil.Compare(*b.KeptUntil) })
	return out, nil
}

func (r *Reindexer) do(ctx context.Context, index string, e *editions, a api.ReindexAction) (*records.Edition, error) {
	switch a.Action {
	case api.ReindexStart:
		return r.start(ctx, index, e, a)
	case api.ReindexRollback:
		return r.rollBack(ctx, index, e, a)
	case api.ReindexDrop:
		return r.drop(ctx, index, e, a.Edition)
	}
	pause := a.Action == api.ReindexPause
	if e.pending == nil && e.live != nil && (pause || a.Action == api.ReindexResume) {
		return e.live, r.steerWide(ctx, e.live, pause)
	}
	if e.pending == nil {
		return nil, fmt.Errorf("%w: no edition of %s is being filled", ErrNotNow, index)
	}
	switch a.Action {
	case api.ReindexCancel:
		if e.live == nil {
			return nil, fmt.Errorf(
				"%w: %s is the first edition of %s, and nothing answers without it: take the index out of the definition instead",
				ErrNotNow,
				e.pending.Name(),
				index,
			)
		}
		return e.pending, r.Records.CancelEdition(ctx, e.pending)
	case api.ReindexSwitch:
		if e.pending.State != reindex.Ready {
			return nil, fmt.Errorf(
				"%w: %s is %s, and only one that is ready can be switched to",
				ErrNotNow,
				e.pending.Name(),
				e.pending.State,
			)
		}
		decided, err := r.Records.Decide(ctx, e.pending)
		if err == nil && !decided {
			err = fmt.Errorf("%w: %s is no longer ready", ErrNotNow, e.pending.Name())
		}
		return e.pending, err
	}
	return e.pending, r.steer(ctx, e.pending, a)
}

// start begins to fill another edition like the one that answers.
func (r *Reindexer) start(
	ctx context.Context,
	index string,
	e *editions,
	a api.ReindexAction,
) (*records.Edition, error) {
	switch {
	case e.pending != nil:
		return nil, fmt.Errorf(
			"%w: %s is %s already: wait for it, or cancel it first", ErrNotNow, e.pending.Name(), e.pending.State)
	case e.live == nil:
		return nil, fmt.Errorf(
			"%w: no edition of %s answers, so there is none to fill another one like",
			ErrNotNow,
			index,
		)
	}
	c := records.Course{BeginsAt: a.At}
	var err error
	if c.Pace, err = paceOf(a.Pace); err != nil {
		return nil, err
	}
	return r.Records.NewEdition(ctx, e.live.Shape, e.live.Engine, e.live.Definition, c)
}

// rollBack makes an edition live again: the last one, unless one is named. An edition that is being filled, or waits for a decision,
// stands against it unless it is to be cancelled as well.
func (r *Reindexer) rollBack(ctx context.Context, index string, e *editions, a api.ReindexAction) (*records.Edition, error) {
	if e.pending != nil && (!a.Cancel || e.pending.State == reindex.Returning) {
		return nil, fmt.Errorf("%w: %s is %s: cancel it first, or pass --cancel", ErrNotNow, e.pending.Name(), e.pending.State)
	}
	to, err := e.kept(index, a.Edition)
	if err != nil {
		return nil, err
	}
	if sources := to.Shape.Sources(); !r.Usable(sources) {
		return nil, fmt.Errorf(
			"%w: %s is not kept in sync, because the definition no longer has all of its sources (%s)",
			ErrNotNow, to.Name(), strings.Join(sources, ", "))
	}
	kept, err := r.Records.Return(ctx, to)
	if err == nil && !kept {
		err = fmt.Errorf("%w: %s is no longer kept", ErrNotNow, to.Name())
	}
	if err == nil && e.pending != nil {
		err = r.Records.CancelEdition(ctx, e.pending)
	}
	return to, err
}

// drop ends the keeping of an edition before its time: of the only one, unless one is named.
func (r *Reindexer) drop(ctx context.Context, index string, e *editions, name string) (*records.Edition, error) {
	for _, other := range []*records.Edition{e.live, e.pending} {
		if other != nil && other.Name() == name {
			return nil, fmt.Errorf("%w: %s is %s, and only a previous edition can be dropped", ErrNotNow, name, other.State)
		}
	}
	if name == "" && len(e.previous) > 1 {
		return nil, &inspect.BadRequest{Err: fmt.Errorf("%d editions of %s are kept: name the one to drop", len(e.previous), index)}
	}
	gone, err := e.kept(index, name)
	if err != nil {
		return nil, err
	}
	kept, err := r.Records.Drop(ctx, gone)
	if err == nil && !kept {
		err = fmt.Errorf("%w: %s is no longer kept", ErrNotNow, gone.Name())
	}
	return gone, err
}

// kept is the previous edition with a name, or the last one for an empty name.
func (e *editions) kept(index, name string) (*records.Edition, error) {
	if len(e.previous) == 0 {
		return nil, fmt.Errorf("%w: Pingo keeps no previous edition of %s: keep_previous says how long it does", ErrNotNow, index)
	}
	if name == "" {
		return e.previous[len(e.previous)-1], nil
	}
	var names []string
	for _, p := range e.previous {
		if p.Name() == name {
			return p, nil
		}
		names = append(names, p.Name())
	}
	return nil, fmt.Errorf("edition %q of %s is %w: %s", name, index, inspect.ErrUnknown, definition.Nearest(name, names))
}

// steer halts the filling of an edition, lets it go on, or changes its pace.
func (r *Reindexer) steer(ctx context.Context, e *records.Edition, a api.ReindexAction) error {
	c, what := e.Course, ""
	switch a.Action {
	case api.ReindexPause:
		c.Paused, what = true, "paused by a person"
	case api.ReindexResume:
		c.Paused, c.BeginsAt, what = false, nil, "resumed by a person"
	default:
		var err error
		if c.Pace, err = paceOf(a.Pace); err != nil {
			return err
		}
		what = "pace changed by a person: " + sayPace(c.Pace)
	}
	there, err := r.Records.SetCourse(ctx, e, c, what)
	if err == nil && !there {
		err = fmt.Errorf("%w: %s is no longer being filled", ErrNotNow, e.Name())
	}
	return err
}

// steerWide halts what is to be built again for a change of most documents, or lets it go on.
func (r *Reindexer) steerWide(ctx context.Context, e *records.Edition, pause bool) error {
	what := "a change of most documents goes on, by a person"
	if pause {
		what = "a change of most documents is paused by a person"
	}
	any, err := r.Records.PauseRebuilds(ctx, e, pause, what)
	if err == nil && !any {
		err = fmt.Errorf(
			"%w: no edition of %s is being filled, and no change of most documents is worked off", ErrNotNow, e.Index)
	}
	return err
}

// paceOf reads a pace; nil is that of the definition.
func paceOf(p *api.Pace) (*records.Pace, error) {
	if p == nil {
		return nil, nil
	}
	if p.Documents < 0 || p.Bytes < 0 || p.Workers < 0 || p.Workers > reindex.MostWorkers {
		return nil, &inspect.BadRequest{Err: fmt.Errorf(
			"a pace has documents and bytes from 0, and 0 to %d workers; 0 is no bound", reindex.MostWorkers)}
	}
	out := &records.Pace{Documents: p.Documents, Bytes: p.Bytes, Workers: p.Workers}
	if p.Hours == "" {
		return out, nil
	}
	hours, err := reindex.ParseHours(p.Hours)
	if err != nil {
		return nil, &inspect.BadRequest{Err: err}
	}
	out.Hours = hours
	return out, nil
}

func sayPace(p *records.Pace) string {
	if p == nil {
		return "that of the definition"
	}
	var out []string
	if p.Documents > 0 {
		out = append(out, humanize.Comma(p.Documents)+" documents a second")
	}
	if p.Bytes > 0 {
		out = append(out, humanize.Bytes(uint64(p.Bytes))+" a second")
	}
	if p.Workers > 0 {
		out = append(out, fmt.Sprintf("%d workers", p.Workers))
	}
	if p.Hours != nil {
		out = append(out, "from "+p.Hours.String())
	}
	if out == nil {
		return "no bound"
	}
	return strings.Join(out, ", ")
}
