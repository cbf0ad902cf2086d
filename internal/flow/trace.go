package flow

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/dustin/go-humanize"

	"pingo/internal/core/definition"
	"pingo/internal/core/document"
	"pingo/internal/core/shape"
	"pingo/internal/source"
)

// Traced says which documents a change of one row would touch.
type Traced struct {
	Source  string        `json:"source"`
	Table   string        `json:"table"`
	Key     string        `json:"key"`
	Indexes []TracedIndex `json:"indexes"`
}

// TracedIndex is what a change of the row would touch of one index.
type TracedIndex struct {
	Index string `json:"index"`
	// Documents that would be built anew, and the first of their Keys.
	Documents int64    `json:"documents"`
	Keys      []string `json:"keys"`
	// Everything: any document may be touched, so all of them would be.
	Everything bool   `json:"everything"`
	Words      string `json:"words"`
}

const tracedKeys = 20

// TraceChange tells which documents a change of a row would touch, without touching
// them. The table is written as in a definition, the key as its values joined by commas.
func (s *Service) TraceChange(ctx context.Context, name, table, key string) (*Traced, error) {
	src, need, opened, err := s.openCaptured(ctx, name)
	if err != nil {
		return nil, err
	}
	defer opened.Close()
	facts, err := opened.Facts(ctx, []string{table}, nil)
	if err != nil {
		return nil, err
	}
	t := facts.Tables[table]
	if t == nil {
		return nil, fmt.Errorf("table %q is %w in source %s: %s", table, ErrUnknown, src.Name, definition.Nearest(table, facts.Known))
	}
	at := slices.IndexFunc(need, func(c shape.Captured) bool { return c.Table == t.Ref })
	if at < 0 {
		return nil, fmt.Errorf("table %s is %w to any index: no definition reads it", t.Ref, ErrUnknown)
	}
	values := strings.Split(key, ",")
	if len(t.Key) == 0 || len(values) != len(t.Key) {
		return nil, &BadKey{fmt.Errorf("the primary key of %s has the columns (%s), so a key has %d parts joined by commas, not %q", t.Ref, strings.Join(t.Key, ", "), len(t.Key), key)}
	}
	shapes, err := s.shapes(ctx, src.Name)
	if err != nil {
		return nil, err
	}
	out := &Traced{Source: src.Name, Table: t.Ref.String(), Key: key, Indexes: []TracedIndex{}}
	seen := map[string]bool{}
	for i := len(shapes) - 1; i >= 0; i-- { // the newest edition of each index
		if sh := shapes[i]; !seen[sh.Index] {
			seen[sh.Index] = true
			ix, err := traceIndex(ctx, opened, sh, t, values)
			if err != nil {
				return nil, err
			}
			out.Indexes = append(out.Indexes, *ix)
		}
	}
	slices.SortFunc(out.Indexes, func(a, b TracedIndex) int { return strings.Compare(a.Index, b.Index) })
	return out, nil
}

func traceIndex(ctx context.Context, src source.Source, sh *shape.Shape, t *shape.Table, key []string) (*TracedIndex, error) {
	ix := &TracedIndex{Index: sh.Index, Keys: []string{}}
	touched := map[string]bool{}
	routes := sh.Routes()[t.Ref]
	for _, route := range routes {
		tree := sh.Trees[route.Tree]
		if route.All {
			ix.Everything = true
			n, err := src.Count(ctx, tree)
			if err != nil {
				return nil, err
			}
			ix.Documents += n
			continue
		}
		steps, err := fromRow(t, route)
		if err != nil {
			return nil, err
		}
		err = src.Touched(ctx, steps, [][]string{key}, func(values []string) error {
			if k := document.Key(tree, values...); !touched[k] {
				touched[k] = true
				if ix.Documents++; len(ix.Keys) < tracedKeys {
					ix.Keys = append(ix.Keys, k)
				}
			}
			return nil
		})
		if err != nil {
			return nil, err
		}
	}
	switch {
	case len(routes) == 0:
		ix.Words = "The index does not read this table."
	case ix.Everything:
		ix.Words = fmt.Sprintf("Any document may depend on it, so all %s would be built anew.", humanize.Comma(ix.Documents))
	case ix.Documents == 0:
		ix.Words = "No document depends on it: there is no such row, or nothing links to it."
	case ix.Documents == 1:
		ix.Words = "One document would be built anew."
	default:
		ix.Words = fmt.Sprintf("%s documents would be built anew.", humanize.Comma(ix.Documents))
	}
	return ix, nil
}

// fromRow leads from the primary key of a row to documents, by the way that a change of
// the row would take.
func fromRow(t *shape.Table, route shape.Route) ([]shape.Step, error) {
	first := shape.Step{Table: t.Ref, Match: t.Key}
	from := route.Link
	if len(from) == 0 {
		from = t.Key
	}
	columns := map[string]shape.TableColumn{}
	for _, c := range t.Columns {
		columns[c.Name] = c
	}
	for _, k := range t.Key {
		first.Types = append(first.Types, columns[k].Native)
	}
	for _, name := range from {
		c, ok := columns[name]
		if !ok {
			return nil, fmt.Errorf("%w: %s has no column %s any more", ErrUnknown, t.Ref, name)
		}
		first.Yield = append(first.Yield, c.KeyColumn())
	}
	return append([]shape.Step{first}, route.Steps...), nil
}
