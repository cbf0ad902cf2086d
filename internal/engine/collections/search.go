package collections

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"

	"pingo/internal/core/query"
	"pingo/internal/core/retry"
	"pingo/internal/core/shape"
	"pingo/internal/engine"
	"pingo/internal/engine/fields"
)

// maxSorts is how many fields a collection sorts by.
const maxSorts = 3

// Search finds documents in which each word is found in some field.
func (e *Engine) Search(ctx context.Context, index string, s *shape.Shape, q query.Query) (engine.Hits, error) {
	hits := engine.Hits{Hits: []engine.Hit{}}
	l := layoutOf(s)
	question, err := l.question(index, q)
	if err != nil {
		return hits, err
	}
	r, err := e.search(ctx, question)
	if err != nil {
		return hits, err
	}
	hits.Total = r.Found
	for _, h := range r.Hits {
		var d printed
		if err := json.Unmarshal(h.Document, &d); err != nil {
			return hits, fmt.Errorf("reading a document of %s: %w", index, err)
		}
		doc, err := Document(h.Document)
		if err != nil {
			return hits, fmt.Errorf("reading a document of %s: %w", index, err)
		}
		hits.Hits = append(hits.Hits, engine.Hit{Key: d.ID, Score: h.Score, Document: doc})
	}
	for _, path := range q.Facets {
		if hits.Facets == nil {
			hits.Facets = map[string][]engine.Facet{}
		}
		hits.Facets[path] = []engine.Facet{}
	}
	for _, f := range r.Facets {
		for _, c := range f.Counts {
			hits.Facets[f.Field] = append(hits.Facets[f.Field], engine.Facet{Value: c.Value, Documents: c.Count})
		}
		slices.SortFunc(hits.Facets[f.Field], func(a, b engine.Facet) int {
			return cmp.Or(cmp.Compare(b.Documents, a.Documents), cmp.Compare(a.Value, b.Value))
		})
	}
	return hits, nil
}

func refuse(format string, args ...any) error {
	return &engine.Failure{Outcome: retry.Refused, Message: fmt.Sprintf(format, args...)}
}

// question writes a search as the server takes it.
func (l *layout) question(index string, q query.Query) (map[string]any, error) {
	var words []string
	for _, w := range strings.Fields(q.Text) {
		if w = strings.TrimLeft(strings.ReplaceAll(w, `"`, " "), "-"); w != "" { // which would exclude the word
			words = append(words, w)
		}
	}
	for _, p := range q.Phrases {
		words = append(words, `"`+strings.ReplaceAll(p, `"`, " ")+`"`)
	}
	out := map[string]any{"collection": index, "q": "*", "per_page": q.Limit}
	names, weights := l.searched()
	if len(words) > 0 && len(names) == 0 {
		return nil, refuse("the index has no field that is searched by words")
	}
	var filters []string
	if q.Any && len(words) > 1 {
		if len(q.Phrases) > 0 {
			return nil, refuse("an engine of kind collections finds documents with any of several words, but not with any of several phrases. Search for each phrase by itself")
		}
		filters, words = []string{anyOf(words, names)}, nil
	}
	if len(words) > 0 {
		out["q"], out["query_by"], out["query_by_weights"] = strings.Join(words, " "), strings.Join(names, ","), strings.Join(weights, ",")
		// What a search finds is the same on every engine: words as they are written, all of them.
		out["prefix"], out["num_typos"] = "false", "0"
		out["drop_tokens_threshold"], out["typo_tokens_threshold"] = 0, 0
	}
	for _, f := range q.Filters {
		filter, err := l.filter(f)
		if err != nil {
			return nil, err
		}
		filters = append(filters, filter)
	}
	if len(filters) > 0 {
		out["filter_by"] = strings.Join(filters, " && ")
	}
	if len(q.Order) > maxSorts {
		return nil, refuse("an engine of kind collections sorts by %d fields at most, not %d", maxSorts, len(q.Order))
	}
	var sorts []string
	for _, o := range q.Order {
		direction := "asc"
		if o.Descending {
			direction = "desc"
		}
		sorts = append(sorts, l.sortedBy(o.Path)+"(missing_values: last):"+direction)
	}
	if len(sorts) > 0 && len(sorts) < maxSorts && len(words) > 0 {
		sorts = append(sorts, "_text_match:desc")
	}
	if len(sorts) > 0 {
		out["sort_by"] = strings.Join(sorts, ",")
	}
	if len(q.Facets) > 0 {
		out["facet_by"], out["max_facet_values"] = strings.Join(q.Facets, ","), engine.FacetSize
	}
	return out, nil
}

// anyOf is the condition that a document has one of some words. A search for words finds documents with all of them, and a
// condition orders none.
func anyOf(words, fields []string) string {
	var either []string
	for _, w := range words {
		for _, f := range fields {
			either = append(either, f+":`"+strings.ReplaceAll(w, "`", " ")+"`")
		}
	}
	return "(" + strings.Join(either, " || ") + ")"
}

// searched lists the fields that words are searched in, with their weights.
func (l *layout) searched() (names, weights []string) {
	const most = 100
	weight, before := most, fields.Searched{}
	for _, f := range l.Searched() {
		if !l.declared[f.Path] {
			continue
		}
		if len(names) > 0 && (f.Tier != before.Tier || f.Weight != before.Weight) {
			weight = max(1, weight-1)
		}
		before = f
		names, weights = append(names, f.Name), append(weights, strconv.Itoa(weight))
	}
	return names, weights
}

// sortedBy names the field to sort by.
func (l *layout) sortedBy(path string) string {
	if fields.IsTime(l.Fields[path]) {
		return fields.Added(fields.Moments, path)
	}
	return path
}

// filter writes a condition.
func (l *layout) filter(f query.Filter) (string, error) {
	field := l.Fields[f.Path]
	switch {
	case f.Near != nil:
		return fmt.Sprintf("%s:(%s, %s, %s km)", fields.Added(fields.Places, f.Path), number(f.Near.Latitude), number(f.Near.Longitude), number(f.Near.Metres/1000)), nil
	case f.Within != nil:
		return within(fields.Added(fields.Places, f.Path), f.Within), nil
	}
	name, value := f.Path, func(v string) (string, error) { return v, nil }
	switch field.Type {
	case shape.Text, shape.Keyword:
		name, value = fields.Added(fields.Whole, f.Path), func(v string) (string, error) { return strconv.FormatInt(hashOf(v), 10), nil }
	case shape.Date, shape.Timestamp:
		name, value = fields.Added(fields.Moments, f.Path), func(v string) (string, error) {
			if _, is := fields.Time(v); !is {
				return "", refuse("%q is no day or moment", v)
			}
			return strconv.FormatInt(microseconds(v), 10), nil
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
		return name + ":[" + strings.Join(list, ",") + "]", nil
	}
	low, high, err := bounds(f, field.Type == shape.Decimal, value)
	if err != nil {
		return "", err
	}
	if low == "" || high == "" {
		if low != "" {
			return name + ":>=" + low, nil
		}
		return name + ":<=" + high, nil
	}
	return name + ":[" + low + ".." + high + "]", nil // one value is in all of it
}

// bounds writes the ends of a range, both in it; one that is open is empty.
func bounds(f query.Filter, decimal bool, value func(string) (string, error)) (low, high string, err error) {
	end := func(b *query.Bound, up bool) (string, error) {
		if b == nil {
			return "", nil
		}
		text, err := value(b.Value)
		if err != nil {
			return "", err
		}
		if whole, err := strconv.ParseInt(text, 10, 64); err == nil && !decimal {
			switch {
			case b.Open && up && whole < math.MaxInt64:
				whole++
			case b.Open && !up && whole > math.MinInt64:
				whole--
			}
			return strconv.FormatInt(whole, 10), nil
		}
		x, err := strconv.ParseFloat(text, 64)
		if err != nil {
			return "", refuse("%q is no number", text)
		}
		switch {
		case !decimal && up:
			if c := math.Ceil(x); c != x || !b.Open {
				return number(c), nil
			}
			return number(x + 1), nil
		case !decimal:
			if c := math.Floor(x); c != x || !b.Open {
				return number(c), nil
			}
			return number(x - 1), nil
		case b.Open && up:
			return number(float64(math.Nextafter32(float32(x), math.MaxFloat32))), nil
		case b.Open:
			return number(float64(math.Nextafter32(float32(x), -math.MaxFloat32))), nil
		}
		return number(x), nil
	}
	if low, err = end(f.From, true); err == nil {
		high, err = end(f.To, false)
	}
	return low, high, err
}

func number(x float64) string { return strconv.FormatFloat(x, 'f', -1, 64) }

// edgeStep is how many degrees of longitude a side of a polygon has at most: the engine's sides are great circles, and those
// of a box are parallels.
const edgeStep = 1.0

// within is a box as a polygon, or as two where it crosses the 180th meridian.
func within(name string, b *query.Box) string {
	if b.West > b.East {
		west, east := *b, *b
		west.East, east.West = 180, -180
		return "(" + within(name, &west) + " || " + within(name, &east) + ")"
	}
	var points []string
	point := func(latitude, longitude float64) {
		points = append(points, number(latitude)+", "+number(longitude))
	}
	steps := max(1, int(math.Ceil((b.East-b.West)/edgeStep)))
	at := func(i int) float64 { return b.West + (b.East-b.West)*float64(i)/float64(steps) }
	for i := 0; i <= steps; i++ {
		point(b.South, at(i))
	}
	for i := steps; i >= 0; i-- {
		point(b.North, at(i))
	}
	return name + ":(" + strings.Join(points, ", ") + ")"
}
