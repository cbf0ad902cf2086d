// Package inspect reads for people: documents as they would be built now, searches, what
// a change would touch, failed documents, how an index was. It changes nothing but what
// happens to failed documents.
package inspect

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"pingo/internal/api"
	"pingo/internal/core/definition"
	"pingo/internal/core/document"
	"pingo/internal/core/query"
	"pingo/internal/core/reindex"
	"pingo/internal/core/retry"
	"pingo/internal/core/shape"
	"pingo/internal/engine"
	"pingo/internal/flow/connect"
	"pingo/internal/records"
	"pingo/internal/source"
)

// ErrUnknown says that there is nothing of that name.
var ErrUnknown = errors.New("not known")

// ErrNotReady says that the process does not know yet what there is to do.
var ErrNotReady = errors.New("the service is not ready yet: try again in a moment")

// ErrNotYet says that no edition answers yet.
var ErrNotYet = errors.New("its first edition is still being filled; pingo status shows how far it is")

// BadRequest is a key or a search that an index has no use for.
type BadRequest struct{ Err error }

func (b *BadRequest) Error() string { return b.Err.Error() }
func (b *BadRequest) Unwrap() error { return b.Err }

// Store is what the records keep of how things are.
type Store interface {
	Editions(ctx context.Context) ([]*records.Edition, error)
	EditionStates(ctx context.Context) ([]records.EditionState, error)
	AddToBacklog(
		ctx context.Context,
		e *records.Edition,
		keys []string,
		at []time.Time,
	) (added int64, err error)
	BacklogSize(ctx context.Context, e *records.Edition) (n int64, oldest *time.Time, err error)
	FailedKeys(ctx context.Context, e *records.Edition, cause string) ([]string, error)
	FailedDocument(ctx context.Context, index, key string) (*records.Failed, error)
	FailedDocuments(ctx context.Context, index, cause string, after *records.Failed, limit int) ([]records.Failed, error)
	FailedGroups(ctx context.Context, index string) ([]records.FailedGroup, error)
	DismissFailed(ctx context.Context, e *records.Edition, keys []string) ([]string, error)
	Events(ctx context.Context, e *records.Edition) ([]records.Event, error)
	Samples(ctx context.Context, index string, since time.Duration, into any) error
}

// Inspector looks at editions through any process, whoever feeds them.
type Inspector struct {
	Records     Store
	Connections *connect.Connections
}

// Edition is an edition as any process can look at it.
type Edition struct {
	Record *records.Edition
	// Sources are those of its shape, by name, and Reader reads all of them.
	Sources map[string]*source.Source
	Reader  source.Reader
	Engine  *connect.Engine
}

// Live reports whether the edition answers under the public name.
func (e *Edition) Live() bool { return e != nil && e.Record.State == reindex.Switched }

// Newest finds the edition that answers for an index, or the one being filled when
// none does yet; nil when there is neither.
func (i *Inspector) Newest(ctx context.Context, index string) (*Edition, error) {
	editions, err := i.Records.Editions(ctx)
	if err != nil {
		return nil, fmt.Errorf("reading the editions: %w", err)
	}
	var best *records.Edition
	for _, e := range editions {
		if e.Index == index && e.State != reindex.Cancelled &&
			(best == nil || e.State == reindex.Switched || best.State != reindex.Switched) {
			best = e
		}
	}
	if best == nil {
		return nil, nil
	}
	return opened(i.Connections, best)
}

// opened is an edition with its sources and its engine at hand.
func opened(c *connect.Connections, record *records.Edition) (*Edition, error) {
	e := &Edition{Record: record, Sources: map[string]*source.Source{}, Engine: c.Engine(record.Engine)}
	for _, name := range record.Shape.Sources() {
		if e.Sources[name] = c.Source(name); e.Sources[name] == nil {
			return nil, fmt.Errorf("index %s: %w", record.Index, ErrNotReady)
		}
	}
	if e.Engine == nil {
		return nil, fmt.Errorf("index %s: %w", record.Index, ErrNotReady)
	}
	e.Reader = source.Across(record.Shape, func(name string) source.Reader { return e.Sources[name] })
	return e, nil
}

// Edition is Newest for an index that must be there.
func (i *Inspector) Edition(ctx context.Context, index string) (*Edition, error) {
	e, err := i.Newest(ctx, index)
	if err != nil || e != nil {
		return e, err
	}
	known, err := i.Indexes(ctx)
	if err != nil {
		return nil, err
	}
	if len(known) == 0 {
		return nil, fmt.Errorf("index %q is %w: no definition was applied yet", index, ErrUnknown)
	}
	return nil, fmt.Errorf("index %q is %w: %s", index, ErrUnknown, definition.Nearest(index, known))
}

// Indexes lists the indexes that there are.
func (i *Inspector) Indexes(ctx context.Context) ([]string, error) {
	states, err := i.Records.EditionStates(ctx)
	if err != nil {
		return nil, fmt.Errorf("reading the editions: %w", err)
	}
	var names []string
	for _, e := range states {
		if e.State != reindex.Cancelled && !slices.Contains(names, e.Index) {
			names = append(names, e.Index)
		}
	}
	return names, nil
}

// Shapes lists the shapes whose documents are made from a source, whoever feeds them; those of editions
// that answered before come first.
func (i *Inspector) Shapes(ctx context.Context, source string) ([]*shape.Shape, error) {
	editions, err := i.Records.Editions(ctx)
	if err != nil {
		return nil, fmt.Errorf("reading the editions: %w", err)
	}
	var previous, others []*shape.Shape
	for _, e := range editions {
		switch {
		case e.State == reindex.Cancelled || !slices.Contains(e.Shape.Sources(), source):
		case e.State == reindex.Previous:
			previous = append(previous, e.Shape)
		default:
			others = append(others, e.Shape)
		}
	}
	return append(previous, others...), nil
}

// Named gives the names of tables as people read them; those of another source than the index's own
// with that source before them. sources are those of the shape, by name.
func Named(s *shape.Shape, sources map[string]*source.Source) func(n *shape.Node) string {
	return func(n *shape.Node) string {
		name := sources[s.SourceOf(n)].Named(n.Table)
		if n.Source != "" {
			name = n.Source + "." + name
		}
		return name
	}
}

func originsOf(t *shape.Tree, named func(n *shape.Node) string) []api.FieldOrigin {
	out := []api.FieldOrigin{}
	for _, n := range t.Nodes {
		for i, f := range n.Fields {
			out = append(
				out,
				api.FieldOrigin{
					Path: t.FieldPath(n, i),
					From: t.Source(n, i, named),
					Type: string(f.Type),
					List: f.Array || t.Repeated(n),
				},
			)
		}
	}
	return out
}

// SampleKeys lists the keys of the first rows of an index, some of each of its tables.
func (i *Inspector) SampleKeys(ctx context.Context, index string, n int) ([]string, error) {
	e, err := i.Edition(ctx, index)
	if err != nil {
		return nil, err
	}
	keys := []string{}
	trees := e.Record.Shape.Trees
	for number, t := range trees {
		want := (n + number) / len(trees)
		if want == 0 {
			continue
		}
		// Rows that where keeps out have no document, so more than are wanted are read.
		end, err := e.Reader.ChunkEnd(ctx, t, nil, 20*want)
		if err != nil {
			return nil, err
		}
		set := document.NewSet(t)
		if err := e.Reader.ReadRange(ctx, set, nil, end); err != nil {
			return nil, err
		}
		for row := range min(want, set.Rows(0).Len()) {
			keys = append(keys, string(set.AppendKey(nil, row)))
		}
	}
	return keys, nil
}

// readRow reads the row of a key with what belongs to it. A database may find a row for what only looks like its key, as
// 007 for 7, and no document has that for its key.
func readRow(
	ctx context.Context,
	reader source.Reader,
	t *shape.Tree,
	key string,
	values []string,
) (set *document.Set, there bool, err error) {
	set = document.NewSet(t)
	if err := reader.ReadKeys(ctx, set, [][]string{values}); err != nil || set.Rows(0).Len() == 0 {
		return set, false, err
	}
	if own := string(set.AppendKey(nil, 0)); own != key {
		return nil, false, &BadRequest{
			fmt.Errorf("there is no key %q: the row that it leads to has the key %q", key, own),
		}
	}
	return set, true, nil
}

// Preview builds the document of a key and fetches the one in the engine.
func (i *Inspector) Preview(ctx context.Context, index, key string) (*api.Preview, error) {
	e, err := i.Edition(ctx, index)
	if err != nil {
		return nil, err
	}
	tree, values, err := document.ParseKey(e.Record.Shape, key)
	if err != nil {
		return nil, &BadRequest{err}
	}
	t := e.Record.Shape.Trees[tree]
	set, built, err := readRow(ctx, e.Reader, t, key, values)
	if source.FaultOf(err) == source.BadValue {
		return nil, &BadRequest{fmt.Errorf("no document can be built for key %q: %w", key, err)}
	}
	if err != nil {
		return nil, err
	}
	p := &api.Preview{
		Index:   index,
		Key:     key,
		Edition: e.Record.Name(),
		Built:   json.RawMessage("null"),
		Stored:  json.RawMessage("null"),
		Origins: originsOf(t, Named(e.Record.Shape, e.Sources)),
	}
	if built {
		p.Built = set.Append(nil, 0)
	}
	stored, err := e.Engine.Get(ctx, e.Record.Name(), []string{key})
	if err != nil {
		return nil, err
	}
	d, has := stored[key]
	if has {
		p.Stored = d
	}
	p.Same = built == has && (!built || document.Fingerprint(p.Built) == document.Fingerprint(p.Stored))
	switch {
	case !built && !has:
		p.Verdict = "No matching row and no document."
	case !built:
		p.Verdict = "The row is deleted or excluded by where, but the engine still has its document. If no change is pending, the document is orphaned."
	case !has:
		p.Verdict = "The row belongs in the index, but the engine has no document of it. If no change is pending, the document is missing."
	case p.Same:
		p.Verdict = "The document in the engine is what the row makes now."
	default:
		p.Verdict = "The document in the engine differs from the row. If no change is pending, the document is stale."
	}
	return p, nil
}

// Search looks for documents in an index by its public name.
func (i *Inspector) Search(ctx context.Context, index string, asked api.Query) (*api.Hits, error) {
	for _, text := range asked.Filters { // what is wrong in any index
		if _, _, _, err := query.Split(text); err != nil {
			return nil, &BadRequest{err}
		}
	}
	e, err := i.Edition(ctx, index)
	if err != nil {
		return nil, err
	}
	name := cmp.Or(asked.Edition, index)
	if asked.Edition != "" {
		if e, err = named(ctx, i, index, asked.Edition); err != nil {
			return nil, err
		}
	} else if !e.Live() {
		return nil, fmt.Errorf("index %s: %w", index, ErrNotYet)
	}
	q, err := readQuery(e.Record.Shape, asked)
	if err != nil {
		return nil, &BadRequest{err}
	}
	hits, err := e.Engine.Search(ctx, name, e.Record.Shape, q)
	if err != nil {
		if engine.FailureOf(err).Outcome == retry.Refused {
			return nil, &BadRequest{err}
		}
		return nil, err
	}
	out := &api.Hits{Total: hits.Total, Hits: []api.Hit{}}
	for _, h := range hits.Hits {
		out.Hits = append(out.Hits, api.Hit{Key: h.Key, Score: h.Score, Document: h.Document})
	}
	for path, values := range hits.Facets {
		if out.Facets == nil {
			out.Facets = map[string][]api.FacetValue{}
		}
		list := []api.FacetValue{}
		for _, v := range values {
			list = append(list, api.FacetValue{Value: v.Value, Documents: v.Documents})
		}
		out.Facets[path] = list
	}
	return out, nil
}

// readQuery reads a search, whose fields must have the roles that they are used in.
func readQuery(s *shape.Shape, asked api.Query) (query.Query, error) {
	q := query.Query{Any: asked.Any, Limit: asked.Limit, Facets: asked.Facets}
	q.Text, q.Phrases = query.Text(asked.Text)
	if n := len(asked.Filters); n > query.MaxFilters {
		return q, fmt.Errorf("there are %d filters, and a search may have %d", n, query.MaxFilters)
	}
	for _, text := range asked.Filters {
		f, err := query.ReadFilter(s, text)
		if err != nil {
			return q, err
		}
		q.Filters = append(q.Filters, f)
	}
	for _, text := range asked.Sort {
		path, down := strings.CutPrefix(text, "-")
		q.Order = append(q.Order, query.Order{Path: path, Descending: down})
	}
	return q, query.Check(s, q.Order, q.Facets)
}

// History lists samples of an index over a number of minutes, oldest first.
func (i *Inspector) History(ctx context.Context, index string, minutes int) ([]api.HistoryPoint, error) {
	if _, err := i.Edition(ctx, index); err != nil {
		return nil, err
	}
	out := []api.HistoryPoint{}
	err := i.Records.Samples(ctx, index, time.Duration(minutes)*time.Minute, &out)
	return out, err
}
