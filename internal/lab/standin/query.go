package standin

import (
	"bytes"
	"cmp"
	"encoding/json"
	"fmt"
	"maps"
	"net/http"
	"slices"
	"sort"
	"time"
)

func (s *Server) mget(ix *index, body []byte) (int, any, error) {
	var request struct {
		IDs  []string `json:"ids"`
		Docs []struct {
			ID string `json:"_id"`
		} `json:"docs"`
	}
	if err := json.Unmarshal(body, &request); err != nil {
		return 0, nil, badQuery("%s", err)
	}
	for _, d := range request.Docs {
		request.IDs = append(request.IDs, d.ID)
	}
	docs := []object{}
	for _, id := range request.IDs {
		if d := ix.get(id); d != nil {
			docs = append(
				docs,
				object{
					"_index":   ix.name,
					"_id":      id,
					"_version": d.version,
					"found":    true,
					"_source":  json.RawMessage(d.source),
				},
			)
		} else {
			docs = append(docs, object{"_index": ix.name, "_id": id, "found": false})
		}
	}
	return 200, object{"docs": docs}, nil
}

func (s *Server) openPit(ix *index, r *http.Request) (int, any, error) {
	keep, err := parseTime(r.URL.Query().Get("keep_alive"))
	if err != nil {
		return 0, nil, &apiError{
			400,
			"action_request_validation_exception",
			"Validation Failed: 1: keep alive not specified;",
			nil,
		}
	}
	ix.mu.Lock()
	ix.autoRefresh()
	docs := make(map[string]*doc, len(ix.visible))
	for id, d := range ix.visible {
		docs[id] = d
	}
	ix.mu.Unlock()
	s.mu.Lock()
	defer s.mu.Unlock()
	for id, p := range s.pits {
		if time.Now().After(p.expires) {
			delete(s.pits, id)
		}
	}
	s.pitSeq++
	id := fmt.Sprintf("standin-pit-%d", s.pitSeq)
	ordered := slices.SortedFunc(
		maps.Values(docs),
		func(a, b *doc) int { return cmp.Compare(a.id, b.id) },
	)
	s.pits[id] = &pit{ix, docs, ordered, time.Now().Add(keep)}
	return 200, object{"pit_id": id, "creation_time": time.Now().UnixMilli()}, nil
}

func (s *Server) closePits(body []byte) (int, any, error) {
	var request struct {
		IDs []string `json:"pit_id"`
	}
	if err := json.Unmarshal(body, &request); err != nil {
		return 0, nil, badQuery("%s", err)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, id := range request.IDs {
		delete(s.pits, id)
	}
	return 200, object{"pits": []any{}}, nil
}

type searchRequest struct {
	Query       any   `json:"query"`
	Sort        any   `json:"sort"`
	From        int   `json:"from"`
	Size        *int  `json:"size"`
	Source      any   `json:"_source"`
	SearchAfter []any `json:"search_after"`
	Pit         *struct {
		ID        string `json:"id"`
		KeepAlive string `json:"keep_alive"`
	} `json:"pit"`
	TrackTotalHits any `json:"track_total_hits"`
	Aggs           map[string]struct {
		Terms struct {
			Field string `json:"field"`
			Size  int    `json:"size"`
		} `json:"terms"`
	} `json:"aggs"`
}

// find evaluates the query of a request's body; docs nil means what is visible now.
func (ix *index) find(docs map[string]*doc, body []byte) (scores, error) {
	var request searchRequest
	if len(bytes.TrimSpace(body)) > 0 {
		decoder := json.NewDecoder(bytes.NewReader(body))
		decoder.UseNumber()
		decoder.DisallowUnknownFields()
		if err := decoder.Decode(&request); err != nil {
			return nil, badQuery("%s", err)
		}
	}
	ix.mu.Lock()
	defer ix.mu.Unlock()
	ix.autoRefresh()
	if docs == nil {
		docs = ix.visible
	}
	if request.Query == nil {
		request.Query = object{"match_all": object{}}
	}
	if q, ok := request.Query.(object); !ok || q["match_all"] == nil || request.Sort != nil ||
		request.Aggs != nil {
		ix.inverted.takeIn(ix.indexWords)
	}
	e := &evaluator{ix, docs}
	return e.eval(request.Query)
}

// count counts what the query of a request's body finds.
func (ix *index) count(body []byte) (int, error) {
	if len(bytes.TrimSpace(body)) > 0 {
		found, err := ix.find(nil, body)
		return len(found), err
	}
	ix.mu.Lock()
	defer ix.mu.Unlock()
	ix.autoRefresh()
	return len(ix.visible), nil
}

func (s *Server) search(name string, body []byte) (int, any, error) {
	began := time.Now()
	var request searchRequest
	if len(bytes.TrimSpace(body)) > 0 {
		decoder := json.NewDecoder(bytes.NewReader(body))
		decoder.UseNumber()
		if err := decoder.Decode(&request); err != nil {
			return 0, nil, badQuery("%s", err)
		}
	}
	size := 10
	if request.Size != nil {
		size = *request.Size
	}
	if request.From+size > 10000 {
		return 0, nil, &apiError{
			400,
			"illegal_argument_exception",
			fmt.Sprintf(
				"Result window is too large, from + size must be less than or equal to: [10000] but was [%d]",
				request.From+size,
			),
			nil,
		}
	}
	var docs map[string]*doc
	var indices []*index
	var err error
	var p *pit
	if request.Pit != nil {
		s.mu.Lock()
		p = s.pits[request.Pit.ID]
		if p != nil {
			if keep, err := parseTime(request.Pit.KeepAlive); err == nil {
				p.expires = time.Now().Add(keep)
			}
			docs, indices = p.docs, []*index{p.index}
		}
		s.mu.Unlock()
		if p == nil {
			return 0, nil, &apiError{
				404,
				"search_phase_execution_exception",
				"No search context found for id [" + request.Pit.ID + "]",
				nil,
			}
		}
	} else if indices, err = s.resolve(name); err != nil {
		return 0, nil, err
	}
	by := sortKeys(request.Sort)
	var found []ranked
	if p != nil && request.Query == nil && len(by) == 1 && by[0] == (sortKey{"_id", false}) {
		// Walking through everything needs no sorting for each page.
		at := 0
		if len(request.SearchAfter) == 1 {
			after := fmt.Sprint(request.SearchAfter[0])
			at = sort.Search(len(p.ordered), func(i int) bool { return p.ordered[i].id > after })
		}
		for _, d := range p.ordered[at:min(at+size, len(p.ordered))] {
			found = append(found, ranked{doc: d, keys: []any{d.id}})
		}
		return hitsOf(began, indices, found, len(p.ordered), by, request)
	}
	counted := map[string]map[string]int{}
	for _, ix := range indices {
		for _, k := range by {
			if k.path == "_shard_doc" { // only newer servers know it
				return 0, nil, badQuery("No mapping found for [%s] in order to sort on", k.path)
			}
			if err := ix.wholeOnly(k.path); err != nil {
				return 0, nil, err
			}
		}
		hits, err := ix.find(docs, body)
		if err != nil {
			return 0, nil, err
		}
		ix.mu.RLock()
		found = append(found, ix.order(hits, by)...)
		for name, agg := range request.Aggs {
			if err = ix.wholeOnly(agg.Terms.Field); err != nil {
				break
			}
			ix.countValues(hits, agg.Terms.Field, name, counted)
		}
		ix.mu.RUnlock()
		if err != nil {
			return 0, nil, err
		}
	}
	total := len(found)
	if request.SearchAfter != nil {
		at := sort.Search(
			len(found),
			func(i int) bool { return compareKeys(found[i].keys, request.SearchAfter, by) > 0 },
		)
		found = found[at:]
	}
	found = found[min(request.From, len(found)):]
	status, answer, err := hitsOf(began, indices, found[:min(size, len(found))], total, by, request)
	if len(request.Aggs) > 0 && err == nil {
		answer.(object)["aggregations"] = buckets(counted, request)
	}
	return status, answer, err
}

// wholeOnly refuses what needs whole values of a field that is kept as words only.
func (ix *index) wholeOnly(path string) error {
	if f := ix.mapping.at(path); f != nil && f.Type == "text" {
		return &apiError{
			400,
			"illegal_argument_exception",
			fmt.Sprintf(
				"Text fields are not optimised for operations that require per-document field data like aggregations and sorting, so these operations are disabled by default. Please use a keyword field instead of [%s].",
				path,
			),
			nil,
		}
	}
	return nil
}

// countValues counts in how many documents each value of a field stands.
func (ix *index) countValues(found scores, path, name string, into map[string]map[string]int) {
	if into[name] == nil {
		into[name] = map[string]int{}
	}
	for d := range found {
		seen := map[string]bool{}
		for _, v := range ix.valuesOf(d, path) {
			if text := fmt.Sprint(v); !seen[text] {
				seen[text] = true
				into[name][text]++
			}
		}
	}
}

func buckets(counted map[string]map[string]int, request searchRequest) object {
	out := object{}
	for name, values := range counted {
		list := []object{}
		for v, n := range values {
			list = append(list, object{"key": v, "doc_count": n})
		}
		slices.SortFunc(list, func(a, b object) int {
			return cmp.Or(
				cmp.Compare(b["doc_count"].(int), a["doc_count"].(int)),
				cmp.Compare(a["key"].(string), b["key"].(string)),
			)
		})
		size := request.Aggs[name].Terms.Size
		if size == 0 {
			size = 10
		}
		out[name] = object{"buckets": list[:min(size, len(list))]}
	}
	return out
}

func hitsOf(
	began time.Time,
	indices []*index,
	found []ranked,
	total int,
	by []sortKey,
	request searchRequest,
) (int, any, error) {
	hits := []object{}
	var best any
	for _, f := range found {
		h := object{
			"_index":  indices[0].name,
			"_id":     f.doc.id,
			"_score":  f.score,
			"_source": pick(f.doc.source, request.Source),
		}
		if len(by) > 0 {
			h["sort"] = f.keys
		} else if best == nil {
			best = f.score
		}
		hits = append(hits, h)
	}
	return 200, object{
		"took":      time.Since(began).Milliseconds(),
		"timed_out": false,
		"_shards":   shards(len(indices)),
		"hits":      object{"total": object{"value": total, "relation": "eq"}, "max_score": best, "hits": hits},
	}, nil
}

// pick keeps the top-level members that _source asks for.
func pick(source []byte, want any) json.RawMessage {
	list, ok := want.([]any)
	if !ok {
		return source
	}
	var all map[string]json.RawMessage
	if json.Unmarshal(source, &all) != nil {
		return source
	}
	out := map[string]json.RawMessage{}
	for _, name := range list {
		if v, ok := all[fmt.Sprint(name)]; ok {
			out[fmt.Sprint(name)] = v
		}
	}
	b, _ := json.Marshal(out)
	return b
}
