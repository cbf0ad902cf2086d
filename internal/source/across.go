package source

import (
	"context"
	"fmt"
	"slices"

	"pingo/internal/core/definition"
	"pingo/internal/core/document"
	"pingo/internal/core/shape"
)

// Compile asks the sources of an index what they know, and makes its shape. reader gives the
// reader of a source, by its name.
func Compile(
	ctx context.Context,
	ix *definition.Index,
	reader func(name string) Reader,
) (*shape.Shape, definition.Findings, error) {
	facts := map[string]shape.Facts{}
	for _, name := range ix.Sources() {
		tables, expressions := shape.Questions(ix, name)
		var err error
		if facts[name], err = reader(name).Facts(ctx, tables, expressions); err != nil {
			return nil, nil, fmt.Errorf("source %s: %w", name, err)
		}
	}
	s, findings := shape.Compile(ix, facts)
	return s, findings, nil
}

// Only is the reader of every name, where there is one source.
func Only(r Reader) func(name string) Reader { return func(string) Reader { return r } }

// Across is a reader of all that the documents of a shape are made from. reader gives the reader
// of a source, by its name. What is read from several sources is read one after the other, each in
// a snapshot of its own.
func Across(s *shape.Shape, reader func(name string) Reader) Reader {
	home := reader(s.Source)
	names := s.Sources()
	if len(names) == 1 {
		return home
	}
	a := &across{Reader: home, by: map[string]Reader{"": home}}
	for _, name := range names[1:] {
		a.by[name] = reader(name)
	}
	return a
}

// across reads what a node's source has by that source's reader.
type across struct {
	Reader
	by map[string]Reader // "" is the shape's own source
}

func (a *across) of(t *shape.Tree) Reader { return a.by[t.Root().Source] }

func (a *across) Count(ctx context.Context, t *shape.Tree) (int64, error) {
	return a.of(t).Count(ctx, t)
}

func (a *across) DuplicateKeys(ctx context.Context, t *shape.Tree) (int64, error) {
	return a.of(t).DuplicateKeys(ctx, t)
}

func (a *across) ChunkEnd(ctx context.Context, t *shape.Tree, after []string, rows int) ([]string, error) {
	return a.of(t).ChunkEnd(ctx, t, after, rows)
}

func (a *across) Keys(
	ctx context.Context,
	t *shape.Tree,
	after, upto []string,
	each func(key []string) error,
) error {
	return a.of(t).Keys(ctx, t, after, upto, each)
}

func (a *across) ReadKeys(ctx context.Context, set *document.Set, keys [][]string) error {
	if err := a.of(set.Tree()).ReadKeys(ctx, set, keys); err != nil {
		return err
	}
	return a.readBelow(ctx, set)
}

func (a *across) ReadRange(ctx context.Context, set *document.Set, after, upto []string) error {
	if err := a.of(set.Tree()).ReadRange(ctx, set, after, upto); err != nil {
		return err
	}
	return a.readBelow(ctx, set)
}

// readBelow reads the nodes that another source has than their parent, those above first.
func (a *across) readBelow(ctx context.Context, set *document.Set) error {
	for _, n := range set.Tree().Nodes[1:] {
		if n.Link.Apart != nil {
			if err := a.by[n.Source].ReadBelow(ctx, set, n.ID); err != nil {
				return err
			}
		}
	}
	return nil
}

// walkInMemory is how many rows of one source are kept to be followed into the next. They are not
// followed while they are read: two walks would hold connections that each other waits for.
const walkInMemory = 100_000

// ErrTooWide says that a walk from one source into another leads through more rows than are kept in
// memory.
var ErrTooWide = fmt.Errorf("more than %d rows of one source lead into another", walkInMemory)

func (a *across) WalkUp(
	ctx context.Context,
	steps []shape.Step,
	tuples [][]string,
	each func(key []string) error,
) error {
	for {
		n := 1 // how many steps the source has
		for n < len(steps) && steps[n].Across == nil {
			n++
		}
		if across := steps[0].Across; across != nil {
			tuples = slices.DeleteFunc(
				slices.Clone(tuples),
				func(t []string) bool { return !shape.Fit(across, t) },
			)
		}
		if len(tuples) == 0 {
			return nil
		}
		if n == len(steps) {
			return a.by[steps[0].Source].WalkUp(ctx, steps, tuples, each)
		}
		var next [][]string
		err := a.by[steps[0].Source].WalkUp(ctx, steps[:n], tuples, func(row []string) error {
			if len(next) == walkInMemory {
				return ErrTooWide
			}
			next = append(next, slices.Clone(row))
			return nil
		})
		if err != nil {
			return err
		}
		steps, tuples = steps[n:], next
	}
}
