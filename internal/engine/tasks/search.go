package tasks

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"math"
	"net/http"
	"slices"
	"strconv"
	"strings"

	"pingo/internal/core/query"
	"pingo/internal/core/retry"
	"pingo/internal/core/shape"
	"pingo/internal/engine"
	"pingo/internal/engine/fields"
)

// found is the answer to a search.
type found struct {
	Total  int64                       `json:"totalHits"`
	Hits   []json.RawMessage           `json:"hits"`
	Facets map[string]map[string]int64 `json:"facetDistribution"`
}

// Search finds documents in which each word is found in some field.
func (e *Engine) Search(ctx context.Context, name string, s *shape.Shape, q query.Query) (engine.Hits, error) {
	hits := engine.Hits{Hits: []engine.Hit{}}
	l := &layout{fields.Of(s)}
	question, err := l.question(q)
	if err != nil {
		return hits, err
	}
	p, err := e.where(ctx, name) // an edition, or else a public name
	if err != nil {
		return hits, err
	}
	var r found
	if err := e.do(ctx, http.MethodPost, "/indexes/"+cmp.Or(p.index, name)+"/search", nil, question, &r); err != nil {
		return hits, err
	}
	hits.Total = r.Total
	for _, hit := range r.Hits {
		var meta struct {
			Score float64 `json:"_rankingScore"`
		}
		if err := json.Unmarshal(hit, &meta); err != nil {
			return hits, fmt.Errorf("reading a document of %s: %w", name, err)
		}
		key, doc, err := Document(hit)
		if err != nil {
			return hits, fmt.Errorf("reading a document of %s: %w", name, err)
		}
		hits.Hits = append(hits.Hits, engine.Hit{Key: key, Score: meta.Score, Document: doc})
	}
	for _, path := range q.Facets {
		if hits.Facets == nil {
			hits.Facets = map[string][]engine.Facet{}
		}
		hits.Facets[path] = []engine.Facet{}
		for value, n := range r.Facets[path] {
			hits.Facets[path] = append(hits.Facets[path], engine.Facet{Value: value, Documents: n})
		}
		slices.SortFunc(hits.Facets[path], func(a, b engine.Facet) int {
			return cmp.Or(cmp.Compare(b.Documents, a.Documents), cmp.Compare(a.Value, b.Value))
		})
	}
	return hits, nil
}

func refuse(format string, args ...any) error {
	return &engine.Failure{Outcome: retry.Refused, Message: fmt.Sprintf(format, args...)}
}

// question writes a search as the server takes it.
func (l *layout) question(q query.Query) (map[string]any, error) {
	var words []string
	for _, w := range strings.Fields(q.Text) {
		if w = strings.TrimLeft(strings.ReplaceAll(w, `"`, " "), "-"); w != "" { // which would exclude the word
			words = append(words, w)
		}
	}
	if q.Any && len(words)+len(q.Phrases) > 1 {
		return nil, refuse("an engine of kind tasks finds documents with all words of a search, and not with any of them. Search for each word by itself")
	}
	for _, p := range q.Phrases {
		words = append(words, `"`+strings.ReplaceAll(p, `"`, " ")+`"`)
	}
	out := map[string]any{"hitsPerPage": q.Limit, "page": 1, "matchingStrategy": "all", "showRankingScore": true}
	if len(words) > 0 {
		if len(l.Searched()) == 0 {
			return nil, refuse("the index has no field that is searched by words")
		}
		out["q"] = strings.Join(words, " ") + " " // with the blank, the last word is a whole one
	}
	var filters []string
	for _, f := range q.Filters {
		filter, err := l.filter(f)
		if err != nil {
			return nil, err
		}
		filters = append(filters, filter)
	}
	if len(filters) > 0 {
		out["filter"] = filters
	}
	var sorts []string
	for _, o := range q.Order {
		direction, name := ":asc", o.Path
		if o.Descending {
			direction = ":desc"
		}
		if fields.IsTime(l.Fields[o.Path]) {
			name = fields.Added(fields.Moments, o.Path)
		}
		sorts = append(sorts, name+direction)
	}
	if len(sorts) > 0 {
		out["sort"] = sorts
	}
	if len(q.Facets) > 0 {
		out["facets"] = q.Facets
	}
	return out, nil
}

// quote writes a text in a filter.
func quote(text string) string {
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(text) + `"`
}

// filter writes a condition.
func (l *layout) filter(f query.Filter) (string, error) {
	field := l.Fields[f.Path]
	switch {
	case f.Near != nil:
		return fmt.Sprintf("_geoRadius(%s, %s, %s)", number(f.Near.Latitude), number(f.Near.Longitude), number(f.Near.Metres)), nil
	case f.Within != nil:
		b := f.Within
		return fmt.Sprintf("_geoBoundingBox([%s, %s], [%s, %s])", number(b.North), number(b.East), number(b.South), number(b.West)), nil
	}
	name, value := quote(f.Path), func(v string) (string, error) { return v, nil }
	switch {
	case fields.IsText(field), field.Type == shape.Integer && len(f.Values) > 0:
		name, value = fields.Added(fields.Whole, f.Path), func(v string) (string, error) { return quote(markOf(v)), nil }
	case fields.IsTime(field):
		name, value = fields.Added(fields.Moments, f.Path), func(v string) (string, error) {
			if _, is := fields.Time(v); !is {
				return "", refuse("%q is no day or moment", v)
			}
			return strconv.FormatFloat(seconds(v), 'f', -1, 64), nil
		}
	}
	if len(f.Values) > 0 {
		list := make([]string, len(f.Values))
		for i, v := range f.Values {
			var err error
			if list[i], err = value(v); err != nil {
				return "", err
			}
		}
		return name + " IN [" + strings.Join(list, ", ") + "]", nil
	}
	var ends [2]string
	for i, b := range []*query.Bound{f.From, f.To} {
		if b == nil {
			continue
		}
		var err error
		if ends[i], err = value(b.Value); err != nil {
			return "", err
		}
		if b.Open {
			if ends[i], err = next(ends[i], i == 0, field); err != nil {
				return "", err
			}
		}
	}
	switch {
	case f.To == nil:
		return name + " >= " + ends[0], nil
	case f.From == nil:
		return name + " <= " + ends[1], nil
	}
	return name + " " + ends[0] + " TO " + ends[1], nil // one value is in all of it
}

// next is the value after one that is not in a range itself, or before it.
func next(text string, up bool, f *shape.Placed) (string, error) {
	x, err := strconv.ParseFloat(text, 64)
	if err != nil {
		return "", refuse("%q is no number", text)
	}
	to, step := math.Inf(-1), -1.0
	if up {
		to, step = math.Inf(1), 1
	}
	switch {
	case f.Type == shape.Integer && x == math.Trunc(x):
		return number(x + step), nil
	case fields.IsTime(f):
		return strconv.FormatFloat(x+step*1e-6, 'f', 6, 64), nil
	}
	return number(math.Nextafter(x, to)), nil
}

func number(x float64) string { return strconv.FormatFloat(x, 'f', -1, 64) }
