package inspect

import (
	"context"
	"fmt"
	"maps"
	"slices"

	"pingo/internal/api"
	"pingo/internal/core/definition"
	"pingo/internal/core/document"
	"pingo/internal/core/reindex"
	"pingo/internal/flow/compare"
	"pingo/internal/flow/connect"
	"pingo/internal/flow/rebuild"
	"pingo/internal/records"
	"pingo/internal/source"
)

// ErrNone says that there is no edition of the sort that is asked for.
var ErrNone = fmt.Errorf("%w: no such edition", ErrUnknown)

// Reindexes looks at the editions of an index: how they came about, and how they differ.
type Reindexes struct {
	Inspector *Inspector
}

// Runs lists the editions of an index with their history, the newest first.
func (r *Reindexes) Runs(ctx context.Context, index string) ([]api.Run, error) {
	list, err := editionsOf(ctx, r.Inspector.Records, index)
	if err != nil {
		return nil, err
	}
	out := []api.Run{}
	for _, e := range slices.Backward(list) {
		events, err := r.Inspector.Records.Events(ctx, e)
		if err != nil {
			return nil, fmt.Errorf("reading the steps of %s: %w", e.Name(), err)
		}
		run := api.Run{
			Edition: e.Name(), State: string(e.State), Definition: e.Definition, Engine: e.Engine,
			Rows: e.Rows, Expected: max(e.Expected, e.Rows), Bytes: e.Bytes,
			BeganAt: e.BeganAt, FilledAt: e.FilledAt, KeptUntil: e.KeptUntil, Events: []api.RunEvent{},
		}
		for n, x := range events {
			if n == 0 || events[n-1].What != x.What {
				run.Events = append(run.Events, api.RunEvent{At: x.At, What: x.What})
			}
		}
		for _, g := range e.Gates {
			run.Gates = append(run.Gates, api.Gate(g))
		}
		out = append(out, run)
	}
	return out, nil
}

// editionsOf lists those of an index that were not cancelled, oldest first; there is at least one.
func editionsOf(ctx context.Context, store Store, index string) ([]*records.Edition, error) {
	all, err := store.Editions(ctx)
	if err != nil {
		return nil, fmt.Errorf("reading the editions: %w", err)
	}
	known := map[string]bool{}
	var out []*records.Edition
	for _, e := range all {
		if e.State == reindex.Cancelled {
			continue
		}
		known[e.Index] = true
		if e.Index == index {
			out = append(out, e)
		}
	}
	if out == nil {
		return nil, fmt.Errorf(
			"index %q is %w: %s", index, ErrUnknown, definition.Nearest(index, slices.Sorted(maps.Keys(known))))
	}
	return out, nil
}

// named finds an edition of an index by its name.
func named(ctx context.Context, i *Inspector, index, name string) (*Edition, error) {
	list, err := editionsOf(ctx, i.Records, index)
	if err != nil {
		return nil, err
	}
	var names []string
	for _, e := range list {
		if e.Name() == name {
			return opened(i.Connections, e)
		}
		names = append(names, e.Name())
	}
	return nil, fmt.Errorf("edition %q of %s is %w: %s", name, index, ErrUnknown, definition.Nearest(name, names))
}

// Estimate estimates the cost of a refill of an index from its last fill.
func (r *Reindexes) Estimate(ctx context.Context, index string) (*api.Estimate, error) {
	e, err := r.Inspector.Edition(ctx, index)
	if err != nil {
		return nil, err
	}
	out := &api.Estimate{Index: index}
	if out.Rows, err = rebuild.CountRows(ctx, e.Reader, e.Record.Shape); err != nil {
		return nil, err
	}
	last := e.Record
	if last.Rows == 0 || last.BeganAt == nil || last.FilledAt == nil {
		return out, nil
	}
	out.Bytes = int64(float64(last.Bytes) / float64(last.Rows) * float64(out.Rows))
	took := last.FilledAt.Sub(*last.BeganAt).Seconds()
	seconds := took / float64(last.Rows) * float64(out.Rows)
	out.Rests = fmt.Sprintf("%s was filled at %.0f rows a second", last.Name(), float64(last.Rows)/max(took, 0.001))
	if ix := r.Inspector.Connections.Definition().Index(index); ix != nil {
		pace := ix.Reindex.Pace
		for _, bound := range [][2]int64{{pace.Documents, out.Rows}, {pace.Bytes, out.Bytes}} {
			if bound[0] > 0 && float64(bound[1])/float64(bound[0]) > seconds {
				seconds = float64(bound[1]) / float64(bound[0])
				out.Rests = "the definition's pace bounds it"
			}
		}
		if pace.Hours != nil {
			out.Rests += ", in the hours " + pace.Hours.String()
		}
	}
	out.Seconds = seconds
	return out, nil
}

// Expect runs the searches that the definition expects something of, in the edition that answers and,
// when there is one, in the one that is to take its place.
func (r *Reindexes) Expect(ctx context.Context, index string) (*api.Expected, error) {
	list, err := editionsOf(ctx, r.Inspector.Records, index)
	if err != nil {
		return nil, err
	}
	out := &api.Expected{Index: index, Editions: []api.ExpectedIn{}}
	ix := r.Inspector.Connections.Definition().Index(index)
	if ix == nil {
		return out, nil
	}
	for _, e := range list {
		eng := r.Inspector.Connections.Engine(e.Engine)
		if eng == nil || e.State != reindex.Switched && e.State != reindex.Ready && e.State != reindex.Checking {
			continue
		}
		found, err := rebuild.Expect(ctx, eng, e.Name(), e.Shape, ix.Reindex.Expect)
		if err != nil {
			return nil, err
		}
		in := api.ExpectedIn{Edition: e.Name(), Answers: e.State == reindex.Switched, Searches: []api.ExpectedSearch{}}
		for _, o := range found {
			in.Searches = append(in.Searches, api.ExpectedSearch{
				Search: o.Search, Finds: o.Finds, Among: o.Among, Place: o.Place, Total: o.Total,
				First: append([]string{}, o.First...), Met: o.Met(), Sentence: o.String(),
			})
		}
		out.Editions = append(out.Editions, in)
	}
	return out, nil
}

// differing bounds the number of differing documents in full in an answer.
const differing = 20

// Compare compares documents of the edition that answers with those of the one that is to take its
// place, or of the one that did before: those of at most a number of rows, spread over the keys.
func (r *Reindexes) Compare(ctx context.Context, index string, most int) (*api.Comparison, error) {
	list, err := editionsOf(ctx, r.Inspector.Records, index)
	if err != nil {
		return nil, err
	}
	var live, other *records.Edition
	for _, e := range list {
		switch {
		case e.State == reindex.Switched:
			live = e
		case e.State == reindex.Previous && (other == nil || other.State == reindex.Previous), e.State.Pending():
			other = e
		}
	}
	if live == nil || other == nil {
		return nil, fmt.Errorf("%w: index %s has one edition only, and nothing to compare it with", ErrNone, index)
	}
	old, fresh := live, other
	if other.State == reindex.Previous {
		old, fresh = other, live
	}
	out := &api.Comparison{
		Index: index, Old: old.Name(), New: fresh.Name(), Fields: []api.ComparedField{}, Documents: []api.ComparedDocument{},
	}
	c := &comparer{out: out, fields: map[string]*api.ComparedField{}}
	c.old, c.new = r.Inspector.Connections.Engine(old.Engine), r.Inspector.Connections.Engine(fresh.Engine)
	for _, name := range fresh.Shape.Sources() {
		if r.Inspector.Connections.Source(name) == nil {
			return nil, ErrNotReady
		}
	}
	if c.old == nil || c.new == nil {
		return nil, ErrNotReady
	}
	reader := source.Across(
		fresh.Shape,
		func(name string) source.Reader { return r.Inspector.Connections.Source(name) },
	)
	if out.Rows, err = rebuild.CountRows(ctx, reader, fresh.Shape); err != nil {
		return nil, err
	}
	for _, t := range fresh.Shape.Trees {
		err := compare.Spread(ctx, reader, t, out.Rows, int64(most), func(after, upto []string) error {
			var keys []string
			err := reader.Keys(ctx, t, after, upto, func(key []string) error {
				keys = append(keys, document.Key(t, key...))
				return nil
			})
			if err != nil {
				return err
			}
			return c.documents(ctx, keys)
		})
		if err != nil {
			return nil, err
		}
	}
	for _, path := range slices.Sorted(maps.Keys(c.fields)) {
		out.Fields = append(out.Fields, *c.fields[path])
	}
	return out, nil
}

type comparer struct {
	out      *api.Comparison
	old, new *connect.Engine
	fields   map[string]*api.ComparedField
}

func (c *comparer) documents(ctx context.Context, keys []string) error {
	if len(keys) == 0 {
		return nil
	}
	old, err := c.old.Get(ctx, c.out.Old, keys)
	if err != nil {
		return fmt.Errorf("reading documents of %s: %w", c.out.Old, err)
	}
	fresh, err := c.new.Get(ctx, c.out.New, keys)
	if err != nil {
		return fmt.Errorf("reading documents of %s: %w", c.out.New, err)
	}
	for _, key := range keys {
		a, inOld := old[key]
		b, inNew := fresh[key]
		d := api.ComparedDocument{Key: key, Fields: []api.FieldDifference{}}
		switch {
		case !inOld && !inNew: // the definition keeps the row out, or its document failed in both
			continue
		case !inNew:
			c.out.OnlyOld++
			d.Only = "old"
		case !inOld:
			c.out.OnlyNew++
			d.Only = "new"
		default:
			diffs, err := document.Compare(a, b)
			if err != nil {
				return fmt.Errorf("document %s: %w", key, err)
			}
			diffs = slices.DeleteFunc(
				diffs,
				func(d document.Difference) bool { return d.Path == definition.FingerprintField },
			)
			if len(diffs) == 0 {
				c.out.Compared++
				c.out.Same++
				continue
			}
			c.out.Differ++
			for _, x := range diffs {
				d.Fields = append(d.Fields, api.FieldDifference(x))
				f := c.fields[x.Path]
				if f == nil {
					f = &api.ComparedField{Path: x.Path}
					c.fields[x.Path] = f
				}
				switch {
				case x.Old == nil:
					f.Added++
				case x.New == nil:
					f.Gone++
				default:
					f.Changed++
				}
			}
		}
		c.out.Compared++
		if len(c.out.Documents) < differing {
			c.out.Documents = append(c.out.Documents, d)
		}
	}
	return nil
}
