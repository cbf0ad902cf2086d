package flow

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"

	"pingo/internal/core/definition"
	"pingo/internal/core/document"
	"pingo/internal/core/shape"
	"pingo/internal/engine/wire"
	"pingo/internal/source"
)

// index finds the edition of an index that is looked at.
func (s *Service) index(ctx context.Context, index string) (*standing, error) {
	st, err := s.standing(ctx, index)
	if err != nil || st != nil {
		return st, err
	}
	known, err := s.indexNames(ctx)
	if err != nil {
		return nil, err
	}
	if len(known) == 0 {
		return nil, fmt.Errorf("index %q is %w: no definition was applied yet", index, ErrUnknown)
	}
	return nil, fmt.Errorf("index %q is %w: %s", index, ErrUnknown, definition.Nearest(index, known))
}

// Preview is a document as it would be built now, beside the one in the engine.
type Preview struct {
	Index   string `json:"index"`
	Key     string `json:"key"`
	Edition string `json:"edition"`
	// Built is null when the source has no such row, or where keeps it out.
	Built json.RawMessage `json:"built"`
	// Stored is null when the engine has no such document.
	Stored json.RawMessage `json:"stored"`
	// Same: built and stored have one fingerprint, or neither is there.
	Same bool `json:"same"`
	// Words say what this comes to.
	Words string `json:"words"`
	// Origins say where each value comes from.
	Origins []FieldOrigin `json:"origins"`
}

// FieldOrigin is the column, expression or fields that a field is made of.
type FieldOrigin struct {
	Path string     `json:"path"`
	From string     `json:"from"`
	Type shape.Type `json:"type"`
}

func originsOf(t *shape.Tree) []FieldOrigin {
	out := []FieldOrigin{}
	for _, n := range t.Nodes {
		for i, f := range n.Fields {
			out = append(out, FieldOrigin{t.FieldPath(n, i), t.Source(n, i), f.Type})
		}
	}
	return out
}

// SampleKeys lists the keys of the first rows of an index, some of each of its tables.
func (s *Service) SampleKeys(ctx context.Context, index string, n int) ([]string, error) {
	st, err := s.index(ctx, index)
	if err != nil {
		return nil, err
	}
	keys := []string{}
	for i, t := range st.record.Shape.Trees {
		want := (n + i) / len(st.record.Shape.Trees)
		if want == 0 {
			continue
		}
		// Rows that where keeps out have no document, so more than are wanted are read.
		end, err := st.source.ChunkEnd(ctx, t, nil, 20*want)
		if err != nil {
			return nil, err
		}
		set := document.NewSet(t)
		if err := st.source.ReadRange(ctx, set, nil, end); err != nil {
			return nil, err
		}
		for row := range min(want, set.Rows(0).Len()) {
			keys = append(keys, string(set.AppendKey(nil, row)))
		}
	}
	return keys, nil
}

// Preview builds the document of a key and fetches the one in the engine.
func (s *Service) Preview(ctx context.Context, index, key string) (*Preview, error) {
	st, err := s.index(ctx, index)
	if err != nil {
		return nil, err
	}
	tree, values, err := document.ParseKey(st.record.Shape, key)
	if err != nil {
		return nil, &BadKey{err}
	}
	t := st.record.Shape.Trees[tree]
	p := &Preview{Index: index, Key: key, Edition: st.record.Name(), Built: json.RawMessage("null"), Stored: json.RawMessage("null"), Origins: originsOf(t)}
	set := document.NewSet(t)
	if err := st.source.ReadKeys(ctx, set, [][]string{values}); err != nil {
		if source.DataFault(err) {
			return nil, &BadKey{fmt.Errorf("no document can be built for key %q: %w", key, err)}
		}
		return nil, err
	}
	if set.Rows(0).Len() > 0 {
		p.Built = set.Append(nil, 0)
	}
	stored, err := st.engine.Get(ctx, st.record.Name(), []string{key})
	if err != nil {
		return nil, err
	}
	if d, ok := stored[key]; ok {
		p.Stored = d
	}
	built, has := set.Rows(0).Len() > 0, stored[key] != nil
	p.Same = built == has && (!built || document.Fingerprint(p.Built) == document.Fingerprint(p.Stored))
	switch {
	case !built && !has:
		p.Words = "There is no such row that belongs in the index, and no document: both agree."
	case !built:
		p.Words = "The row is gone or kept out by where, but the engine still has its document; if no change is on its way, it is orphaned."
	case !has:
		p.Words = "The row belongs in the index, but the engine has no document of it; if no change is on its way, it is missing."
	case p.Same:
		p.Words = "The document in the engine is what the row makes now."
	default:
		p.Words = "The document in the engine differs from what the row makes now; if no change is on its way, it is stale."
	}
	return p, nil
}

// BadKey says that a key cannot be one of the index.
type BadKey struct{ err error }

func (b *BadKey) Error() string { return b.err.Error() }
func (b *BadKey) Unwrap() error { return b.err }

// Search looks for documents in an index by its public name.
func (s *Service) Search(ctx context.Context, index string, q wire.Query) (wire.Hits, error) {
	st, err := s.index(ctx, index)
	if err != nil {
		return wire.Hits{}, err
	}
	if !st.live() {
		return wire.Hits{}, fmt.Errorf("index %s: %w", index, ErrNotYet)
	}
	by := st.record.Shape
	if err := checkQuery(by, q); err != nil {
		return wire.Hits{}, err
	}
	return st.engine.Search(ctx, index, by, q)
}

// BadQuery says that an index has no field for what a search asks.
type BadQuery struct{ words string }

func (b *BadQuery) Error() string { return b.words }

// checkQuery sees that every field has the role that it is used in.
func checkQuery(s *shape.Shape, q wire.Query) error {
	check := func(path, role string, has func(f shape.Placed) bool) error {
		if path == definition.RowsField && role != "sort" && s.Trees[0].Name != "" {
			return nil
		}
		var known []string
		for _, f := range s.Fields() {
			if !has(f) {
				continue
			}
			if f.Path == path {
				return nil
			}
			known = append(known, f.Path)
		}
		return &BadQuery{strings.TrimSuffix(fmt.Sprintf("index %s has no field %q with the role %s: %s", s.Index, path, role, definition.Nearest(path, known)), ": ")}
	}
	for _, f := range q.Filters {
		if err := check(f.Path, "filter", func(f shape.Placed) bool { return f.Filter || f.Facet }); err != nil {
			return err
		}
	}
	for _, o := range q.Order {
		if err := check(o.Path, "sort", func(f shape.Placed) bool { return f.Sort }); err != nil {
			return err
		}
	}
	for _, path := range q.Facets {
		if err := check(path, "facet", func(f shape.Placed) bool { return f.Facet }); err != nil {
			return err
		}
	}
	return nil
}

// ErrNotYet says that no edition answers yet.
var ErrNotYet = errors.New("its first edition is still being filled; pingo status shows how far it is")
