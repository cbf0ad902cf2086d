package inspect

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/dustin/go-humanize"

	"pingo/internal/api"
	"pingo/internal/core/definition"
	"pingo/internal/core/document"
	"pingo/internal/core/shape"
	"pingo/internal/flow/connect"
	"pingo/internal/source"
)

const tracedKeys = 20

// TraceChange tells which documents a change of a row would touch, without touching
// them. The table is written as in a definition, the key as its values joined by commas.
func (i *Inspector) TraceChange(ctx context.Context, name, table, key string) (*api.ChangeTrace, error) {
	src, err := i.Source(name)
	if err != nil {
		return nil, err
	}
	opened := i.Connections.Source(src.Name)
	if opened == nil {
		return nil, ErrNotReady
	}
	shapes, err := i.Shapes(ctx, src.Name)
	if err != nil {
		return nil, err
	}
	need := shape.Capture(src.Name, shapes)
	facts, err := opened.Facts(ctx, []string{table}, nil)
	if err != nil {
		return nil, err
	}
	t := facts.Tables[table]
	if t == nil {
		return nil, fmt.Errorf(
			"table %q is %w in source %s: %s",
			table,
			ErrUnknown,
			src.Name,
			definition.Nearest(table, facts.Known),
		)
	}
	at := slices.IndexFunc(need, func(c shape.Captured) bool { return c.Table == t.Ref })
	if at < 0 {
		return nil, fmt.Errorf("table %s is %w to any index: no definition reads it", t.Ref, ErrUnknown)
	}
	values := strings.Split(key, ",")
	if len(t.Key) == 0 || len(values) != len(t.Key) {
		return nil, &BadRequest{
			fmt.Errorf(
				"the primary key of %s has the columns (%s), so a key has %d parts joined by commas, not %q",
				t.Ref,
				strings.Join(t.Key, ", "),
				len(t.Key),
				key,
			),
		}
	}
	out := &api.ChangeTrace{Source: src.Name, Table: t.Ref.String(), Key: key, Indexes: []api.IndexTrace{}}
	seen := map[string]bool{}
	for n := len(shapes) - 1; n >= 0; n-- { // the newest edition of each index
		if sh := shapes[n]; !seen[sh.Index] {
			seen[sh.Index] = true
			ix, err := traceIndex(ctx, i.Connections, src.Name, sh, t, values)
			if err != nil && source.FaultOf(err) == source.BadValue {
				return nil, &BadRequest{fmt.Errorf("%q is no key of %s: %w", key, t.Ref, err)}
			}
			if err != nil {
				return nil, err
			}
			out.Indexes = append(out.Indexes, *ix)
		}
	}
	slices.SortFunc(out.Indexes, func(a, b api.IndexTrace) int { return strings.Compare(a.Index, b.Index) })
	return out, nil
}

func traceIndex(
	ctx context.Context,
	connections *connect.Connections,
	from string,
	sh *shape.Shape,
	t *shape.Table,
	key []string,
) (*api.IndexTrace, error) {
	ix := &api.IndexTrace{Index: sh.Index, Keys: []string{}}
	touched := map[string]bool{}
	for _, name := range sh.Sources() {
		if connections.Source(name) == nil {
			return nil, ErrNotReady
		}
	}
	src := source.Across(sh, func(name string) source.Reader { return connections.Source(name) })
	routes := sh.Routes(from)[t.Ref]
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
		steps, err := fromRow(sh, from, t, route)
		if err != nil {
			return nil, err
		}
		err = src.WalkUp(ctx, steps, [][]string{key}, func(values []string) error {
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
		ix.Verdict = "The index does not read this table."
	case ix.Everything:
		ix.Verdict = fmt.Sprintf(
			"Any document may depend on it, so Pingo would rebuild all %s.",
			humanize.Comma(ix.Documents),
		)
	case ix.Documents == 0:
		ix.Verdict = "No document depends on it: there is no such row, or nothing links to it."
	case ix.Documents == 1:
		ix.Verdict = "Pingo would rebuild one document."
	default:
		ix.Verdict = fmt.Sprintf("Pingo would rebuild %s documents.", humanize.Comma(ix.Documents))
	}
	return ix, nil
}

// fromRow leads from the primary key of a row to documents, by the way that a change of
// the row would take.
func fromRow(sh *shape.Shape, source string, t *shape.Table, route shape.Route) ([]shape.Step, error) {
	first := shape.Step{Table: t.Ref, Match: t.Key}
	if source != sh.Source {
		first.Source = source
	}
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
			return nil, fmt.Errorf("%w: %s no longer has a column %s", ErrUnknown, t.Ref, name)
		}
		first.Yield = append(first.Yield, c.KeyColumn())
	}
	return append([]shape.Step{first}, route.Steps...), nil
}

// Source finds a source of the definition in force; an empty name is the only one.
func (i *Inspector) Source(name string) (*definition.Source, error) {
	def := i.Connections.Definition()
	if len(def.Sources) == 0 {
		return nil, fmt.Errorf("%w: no definition was applied yet", ErrUnknown)
	}
	if name == "" && len(def.Sources) == 1 {
		return def.Sources[0], nil
	}
	known := make([]string, len(def.Sources))
	for n, src := range def.Sources {
		known[n] = src.Name
	}
	if name == "" {
		return nil, &BadRequest{
			fmt.Errorf("there are several sources, so name one: %s", strings.Join(known, ", ")),
		}
	}
	src := def.Source(name)
	if src == nil {
		return nil, fmt.Errorf("source %q is %w: %s", name, ErrUnknown, definition.Nearest(name, known))
	}
	return src, nil
}
