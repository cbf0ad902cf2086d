package standin

import (
	"cmp"
	"container/heap"
	"encoding/json"
	"fmt"
	"math"
	"slices"
	"strings"
	"time"
)

// hit is one document found, in one of the searched segments.
type hit struct {
	in    *searched
	n     uint32
	score float32
}

func (h *hit) doc() *doc { return h.in.segment.docs[h.n] }

// searched is a segment with what was found in it.
type searched struct {
	ix      *index
	at      int // among those that are searched
	segment *segment
	found   *found
	live    bits
	// sorts are the values of the fields that are sorted by, in the order of sorting.
	sorts []sortColumn
}

// sortColumn is what documents of a segment are sorted by: each has the place of one of the keys,
// or -1.
type sortColumn struct {
	keys   []string
	places []int32
}

// ordering compares hits.
type ordering []sortKey

// columns prepares a segment for sorting.
func (o ordering) columns(p *searched) {
	p.sorts = make([]sortColumn, len(o))
	for i, k := range o {
		f := p.ix.mapping.at(k.path)
		if f == nil {
			continue
		}
		if t := p.segment.fields[f]; t != nil {
			lowest, highest := t.smallestAndLargest(len(p.segment.docs))
			p.sorts[i] = sortColumn{t.keys, lowest}
			if k.down {
				p.sorts[i].places = highest
			}
		}
	}
}

// key gives what a hit is sorted by as the nth, in a field's order-preserving form; false for
// none.
func (o ordering) key(n int, h *hit) (string, bool) {
	switch o[n].path {
	case "_id":
		return h.doc().id, true
	case "_doc":
		return longKey(h.doc().ordinal), true
	case "_score":
		return doubleKey(float64(h.score)), true
	}
	c := &h.in.sorts[n]
	if c.places == nil || c.places[h.n] < 0 {
		return "", false
	}
	return c.keys[c.places[h.n]], true
}

func (k sortKey) compare(a string, hasA bool, b string, hasB bool) int {
	switch {
	case hasA && hasB && k.down:
		return cmp.Compare(b, a)
	case hasA && hasB:
		return cmp.Compare(a, b)
	case hasA == hasB:
		return 0
	case hasA == k.gapsFirst:
		return 1
	}
	return -1
}

func (o ordering) compare(a, b *hit) int {
	if len(o) == 0 {
		return cmp.Or(cmp.Compare(b.score, a.score), cmp.Compare(a.in.at, b.in.at), cmp.Compare(a.n, b.n))
	}
	for i, k := range o {
		x, hasX := o.key(i, a)
		y, hasY := o.key(i, b)
		if c := k.compare(x, hasX, y, hasY); c != 0 {
			return c
		}
	}
	return cmp.Or(cmp.Compare(a.in.at, b.in.at), cmp.Compare(a.n, b.n))
}

// top keeps the best hits, the worst of them on top.
type top struct {
	ordering
	hits []hit
	most int
}

func (t *top) Len() int           { return len(t.hits) }
func (t *top) Less(i, j int) bool { return t.compare(&t.hits[i], &t.hits[j]) > 0 }
func (t *top) Swap(i, j int)      { t.hits[i], t.hits[j] = t.hits[j], t.hits[i] }
func (t *top) Push(h any)         { t.hits = append(t.hits, h.(hit)) }
func (t *top) Pop() any {
	last := t.hits[len(t.hits)-1]
	t.hits = t.hits[:len(t.hits)-1]
	return last
}

func (t *top) add(h hit) {
	if len(t.hits) < t.most {
		heap.Push(t, h)
	} else if t.most > 0 && t.compare(&h, &t.hits[0]) < 0 {
		t.hits[0] = h
		heap.Fix(t, 0)
	}
}

// run searches an index as it was seen; nil takes what is visible now.
func (r *searchRequest) run(ix *index, seen *snapshot) ([]searched, error) {
	if seen == nil {
		seen = ix.visible()
	}
	ix.mu.Lock()
	defer ix.mu.Unlock()
	if ix.closed {
		return nil, &apiError{400, "index_closed_exception", "closed", nil}
	}
	if err := r.check(ix); err != nil {
		return nil, err
	}
	q := query(everything)
	if r.query != nil {
		var err error
		if q, err = (&compiler{ix: ix, seen: seen}).compile(r.query); err != nil {
			return nil, err
		}
	}
	out := make([]searched, 0, len(seen.segments))
	for i, s := range seen.segments {
		out = append(out, searched{ix: ix, at: i, segment: s, live: seen.live[i], found: &found{}})
	}
	ix.mu.Unlock() // segments never change
	for i := range out {
		f := q(out[i].segment)
		for w := range f.docs {
			f.docs[w] &= out[i].live[w]
		}
		out[i].found = f
	}
	ix.mu.Lock()
	return out, nil
}

func (s *Server) search(name string, body []byte) (int, any, error) {
	began := time.Now()
	r, err := readSearch(body)
	if err != nil {
		return 0, nil, err
	}
	var indices []*index
	var seen *snapshot
	if r.pit != "" {
		if name != "" {
			return 0, nil, &apiError{
				400,
				"action_request_validation_exception",
				"Validation Failed: 1: [indices] cannot be used with point in time;",
				nil,
			}
		}
		s.mu.Lock()
		p := s.pits[r.pit]
		if p != nil {
			if keep, err := parseTime(r.keepAlive); err == nil {
				p.expires = time.Now().Add(keep)
			}
			indices, seen = []*index{p.index}, p.seen
		}
		s.mu.Unlock()
		if p == nil {
			return 0, nil, &apiError{404, "search_phase_execution_exception", "all shards failed",
				&apiError{
					kind:   "search_context_missing_exception",
					reason: "No search context found for id [" + r.pit + "]",
				}}
		}
	} else if indices, err = s.resolve(name); err != nil {
		return 0, nil, err
	}
	if r.query == nil && len(r.sort) == 1 && r.sort[0] == (sortKey{path: "_id"}) && len(indices) == 1 &&
		len(r.facets) == 0 {
		return r.walk(began, indices[0], seen)
	}
	best := &top{ordering: r.sort, most: r.from + r.size}
	total := 0
	counted := map[string]map[string]int{}
	for _, ix := range indices {
		parts, err := r.run(ix, seen)
		if err != nil {
			return 0, nil, err
		}
		for i := range parts {
			p := &parts[i]
			best.columns(p)
			p.found.docs.each(func(n uint32) {
				total++
				h := hit{p, n, p.found.score(n)}
				if r.after == nil || r.isAfter(&h) {
					best.add(h)
				}
			})
		}
		for name, a := range r.facets {
			if counted[name] == nil {
				counted[name] = map[string]int{}
			}
			countValues(ix, parts, a.path, counted[name])
		}
		for _, p := range parts {
			p.found.free()
		}
	}
	slices.SortFunc(best.hits, func(a, b hit) int { return best.compare(&a, &b) })
	answer := r.answer(began, indices, best.hits[min(r.from, len(best.hits)):], total)
	if len(r.facets) > 0 {
		aggregations := object{}
		for name, a := range r.facets {
			aggregations[name] = object{"buckets": buckets(indices[0], a, counted[name])}
		}
		answer["aggregations"] = aggregations
	}
	return 200, answer, nil
}

// walk goes through everything in the order of ids, from page to page.
func (r *searchRequest) walk(began time.Time, ix *index, seen *snapshot) (int, any, error) {
	all := *r
	all.size = 0
	if _, err := all.run(ix, &snapshot{}); err != nil { // only for its checks
		return 0, nil, err
	}
	if seen == nil {
		seen = ix.visible()
	}
	after := ""
	if len(r.after) == 1 {
		after = fmt.Sprint(r.after[0]) + "\x00"
	}
	var hits []hit
	for i, s := range seen.segments {
		at, _ := slices.BinarySearchFunc(
			s.docs,
			after,
			func(d *doc, id string) int { return strings.Compare(d.id, id) },
		)
		p := &searched{ix: ix, segment: s}
		for taken := 0; at < len(s.docs) && taken < r.from+r.size; at++ {
			if seen.live[i].has(uint32(at)) {
				hits = append(hits, hit{in: p, n: uint32(at)})
				taken++
			}
		}
	}
	slices.SortFunc(hits, func(a, b hit) int { return cmp.Compare(a.doc().id, b.doc().id) })
	hits = hits[min(r.from, len(hits)):]
	return 200, r.answer(began, []*index{ix}, hits[:min(r.size, len(hits))], seen.count), nil
}

// isAfter says whether a hit comes after search_after.
func (r *searchRequest) isAfter(h *hit) bool {
	for i, k := range r.sort {
		at, has := h.in.ix.keyOf(k.path, r.after[i])
		mine, hasMine := ordering(r.sort).key(i, h)
		if c := k.compare(mine, hasMine, at, has); c != 0 {
			return c > 0
		}
	}
	return false
}

// keyOf reads a value that was shown as what a hit is sorted by.
func (ix *index) keyOf(path string, v any) (string, bool) {
	text := fmt.Sprint(v)
	if v == nil {
		return "", false
	}
	f := ix.mapping.at(path)
	switch {
	case path == "_doc", f != nil && (f.whole() || f.Type == "date"):
		n, err := parseInt(text)
		return longKey(int64(n)), err == nil && n != math.MaxInt64 && n != math.MinInt64
	case path == "_score", f != nil && f.real():
		v, err := parseDouble(text)
		return doubleKey(v), err == nil && !math.IsInf(v, 0)
	}
	return text, true
}

func countValues(ix *index, parts []searched, path string, into map[string]int) {
	for _, p := range parts {
		t := p.segment.fields[ix.mapping.at(path)]
		if t == nil {
			continue
		}
		for i := range t.postings {
			n := 0
			for doc := range t.postings[i].all() {
				if p.found.docs.has(doc) {
					n++
				}
			}
			if n > 0 {
				into[t.keys[i]] += n
			}
		}
	}
}

func buckets(ix *index, a facet, counted map[string]int) []object {
	keys := make([]string, 0, len(counted))
	for k := range counted {
		keys = append(keys, k)
	}
	slices.SortFunc(keys, func(a, b string) int {
		return cmp.Or(cmp.Compare(counted[b], counted[a]), cmp.Compare(a, b))
	})
	out := []object{}
	for _, k := range keys[:min(a.size, len(keys))] {
		value, text := ix.mapping.at(a.path).shown(k)
		b := object{"key": value, "doc_count": counted[k]}
		if text != "" {
			b["key_as_string"] = text
		}
		out = append(out, b)
	}
	return out
}

func (r *searchRequest) answer(began time.Time, indices []*index, found []hit, total int) object {
	hits := []object{}
	var best any
	for i := range found {
		f := &found[i]
		h := object{"_index": f.in.ix.name, "_id": f.doc().id, "_score": f.score}
		if r.source != false {
			h["_source"] = pick(f.doc().source, r.source)
		}
		if len(r.sort) > 0 {
			values := make([]any, len(r.sort))
			for i := range r.sort {
				values[i] = ordering(r.sort).shown(i, f)
			}
			h["sort"] = values
			h["_score"] = nil
		} else if best == nil {
			best = f.score
		}
		hits = append(hits, h)
	}
	return object{
		"took":      time.Since(began).Milliseconds(),
		"timed_out": false,
		"_shards":   shards(len(indices)),
		"hits":      object{"total": object{"value": total, "relation": "eq"}, "max_score": best, "hits": hits},
	}
}

// shown is what a hit is sorted by, as answers show it. In the place of a number that is
// not there stands the one that it was sorted as.
func (o ordering) shown(n int, h *hit) any {
	k := o[n]
	key, has := o.key(n, h)
	f := h.in.ix.mapping.at(k.path)
	switch {
	case k.path == "_id":
		return key
	case k.path == "_doc":
		return longOf(key)
	case k.path == "_score":
		return h.score
	case has:
		v, _ := f.shown(key)
		return v
	case f.Type == "keyword":
		return nil
	}
	largest := k.gapsFirst == k.down
	switch {
	case f.real() && largest:
		return "Infinity"
	case f.real():
		return "-Infinity"
	case f.Type == "boolean" && largest:
		return math.MaxInt32
	case f.Type == "boolean":
		return math.MinInt32
	case largest:
		return math.MaxInt64
	}
	return math.MinInt64
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
