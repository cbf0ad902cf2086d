package opensearch

import (
	"context"
	"fmt"
	"net/http"
	"strings"

	"pingo/internal/core/query"
	"pingo/internal/core/retry"
	"pingo/internal/core/shape"
	"pingo/internal/engine"
)

// Search asks for documents in which each word is found in some field, or all of them together
// in one, where phrases have their synonyms. Whole words count more than parts of them.
func (e *Engine) Search(ctx context.Context, name string, s *shape.Shape, q query.Query) (engine.Hits, error) {
	looked, err := words(s, q)
	if err != nil {
		return engine.Hits{}, err
	}
	byPath := map[string]shape.Placed{}
	for _, f := range s.Fields() {
		byPath[f.Path] = f
	}
	at := func(path string) string {
		if f, ok := byPath[path]; ok {
			return whole(f)
		}
		return path
	}
	request := object{"query": looked, "size": q.Limit, "track_total_hits": true}
	if len(q.Order) > 0 {
		order := make([]any, len(q.Order))
		for i, o := range q.Order {
			direction := "asc"
			if o.Descending {
				direction = "desc"
			}
			order[i] = object{at(o.Path): object{"order": direction, "missing": "_last"}}
		}
		request["sort"] = order
	}
	if len(q.Facets) > 0 {
		facets := object{}
		for i, path := range q.Facets {
			facets[fmt.Sprint(i)] = object{"terms": object{"field": at(path), "size": engine.FacetSize}}
		}
		request["aggs"] = facets
	}
	if len(q.Filters) > 0 {
		filters := make([]any, len(q.Filters))
		for i, f := range q.Filters {
			filters[i] = filter(at(f.Path), f)
		}
		request["query"] = object{"bool": object{"must": []any{looked}, "filter": filters}}
	}
	var out searchAnswer
	if err := e.ask(ctx, "/"+name+"/_search", nil, request, &out); err != nil {
		return engine.Hits{}, err
	}
	hits := engine.Hits{Total: out.Hits.Total.Value, Hits: []engine.Hit{}}
	for _, h := range out.Hits.Hits {
		hits.Hits = append(hits.Hits, engine.Hit{Key: h.ID, Score: h.Score, Document: h.Source})
	}
	for i, path := range q.Facets {
		if hits.Facets == nil {
			hits.Facets = map[string][]engine.Facet{}
		}
		hits.Facets[path] = []engine.Facet{}
		for _, b := range out.Aggregations[fmt.Sprint(i)].Buckets {
			value := b.KeyText
			if value == "" {
				value = fmt.Sprint(b.Key)
			}
			hits.Facets[path] = append(hits.Facets[path], engine.Facet{Value: value, Documents: b.Documents})
		}
	}
	return hits, nil
}

type object = map[string]any

func filter(path string, f query.Filter) object {
	switch {
	case f.Near != nil:
		return object{"geo_distance": object{"distance": fmt.Sprintf("%gm", f.Near.Metres),
			path: object{"lat": f.Near.Latitude, "lon": f.Near.Longitude}}}
	case f.Within != nil:
		return object{"geo_bounding_box": object{path: object{
			"top_left":     object{"lat": f.Within.North, "lon": f.Within.West},
			"bottom_right": object{"lat": f.Within.South, "lon": f.Within.East},
		}}}
	case f.From != nil || f.To != nil:
		bounds := object{}
		if f.From != nil {
			bounds[map[bool]string{true: "gt", false: "gte"}[f.From.Open]] = f.From.Value
		}
		if f.To != nil {
			bounds[map[bool]string{true: "lt", false: "lte"}[f.To.Open]] = f.To.Value
		}
		return object{"range": object{path: bounds}}
	}
	return object{"terms": object{path: f.Values}}
}

// maxClauses is how many clauses a query may have: servers accept 1,024 unless they are configured
// otherwise, and some are made of one word here.
const maxClauses = 900

// words is the part of a query that looks for words and phrases.
func words(s *shape.Shape, q query.Query) (object, error) {
	each := strings.Fields(q.Text)
	if len(each)+len(q.Phrases) == 0 {
		return object{"match_all": object{}}, nil
	}
	var fields, whole, parted []string
	for _, f := range s.Searched() {
		fields = append(fields, fmt.Sprintf("%s^%g", f.Path, f.Search))
		whole = append(whole, fmt.Sprintf("%s^%g", plain(f), f.Search))
		if plain(f) != f.Path {
			parted = append(parted, fmt.Sprintf("%s^%g", plain(f), f.Search))
		}
	}
	if most := maxClauses / (2*len(fields) + len(parted) + 1); len(each)+len(q.Phrases) > most {
		return nil, &engine.Failure{Outcome: retry.Refused, Message: fmt.Sprintf(
			"a search in %d fields may have %d words, and this one has %d",
			len(fields),
			most,
			len(each)+len(q.Phrases),
		)}
	}
	look := func(text, kind string, fields []string) object {
		return object{"multi_match": object{"query": text, "type": kind, "operator": "and", "fields": fields}}
	}
	var wanted []any
	for _, word := range each {
		wanted = append(wanted, look(word, "best_fields", fields))
	}
	for _, phrase := range q.Phrases {
		wanted = append(wanted, look(phrase, "phrase", whole))
	}
	how := "must"
	if q.Any {
		how = "should"
	}
	out := object{how: wanted}
	if q.Any {
		out["minimum_should_match"] = 1
	} else if len(each) > 1 { // or all of the words together in one field
		together := append([]any{look(q.Text, "best_fields", fields)}, wanted[len(each):]...)
		out = object{"minimum_should_match": 1, "should": []any{object{"bool": out}, object{"bool": object{"must": together}}}}
	}
	if len(parted) == 0 || len(each) == 0 {
		return object{"bool": out}, nil
	}
	var found []any // what is found counts more where a whole word is
	for _, word := range each {
		found = append(found, object{"multi_match": object{"query": word, "fields": parted, "boost": 2}})
	}
	return object{"bool": object{"must": []any{object{"bool": out}}, "should": found}}, nil
}

// Refresh makes what was taken visible to searches.
func (e *Engine) Refresh(ctx context.Context, edition string) error {
	return e.do(ctx, http.MethodPost, "/"+edition+"/_refresh", nil, nil, nil)
}

// Editions lists the indices that documents are delivered to by an alias of their own.
func (e *Engine) Editions(ctx context.Context) ([]string, error) {
	var out map[string]struct {
		Aliases map[string]any `json:"aliases"`
	}
	if err := e.do(ctx, http.MethodGet, "/_alias", nil, nil, &out); err != nil {
		return nil, err
	}
	var editions []string
	for name, index := range out {
		if _, is := index.Aliases[deliveries(name)]; is || strings.HasPrefix(name, trial) {
			editions = append(editions, name)
		}
	}
	return editions, nil
}
