package taskserver

import (
	"cmp"
	"encoding/json"
	"fmt"
	"net/http"
	"slices"
	"sort"
	"strconv"
	"strings"
	"unicode"

	"golang.org/x/text/unicode/norm"
)

// search is a request.
type search struct {
	IndexUID              string   `json:"indexUid"`
	Q                     *string  `json:"q"`
	Offset                *int     `json:"offset"`
	Limit                 *int     `json:"limit"`
	Page                  *int     `json:"page"`
	HitsPerPage           *int     `json:"hitsPerPage"`
	Filter                any      `json:"filter"`
	Sort                  []string `json:"sort"`
	Facets                []string `json:"facets"`
	AttributesToRetrieve  []string `json:"attributesToRetrieve"`
	AttributesToSearchOn  []string `json:"attributesToSearchOn"`
	AttributesToHighlight []string `json:"attributesToHighlight"`
	AttributesToCrop      []string `json:"attributesToCrop"`
	HighlightPreTag       *string  `json:"highlightPreTag"`
	HighlightPostTag      *string  `json:"highlightPostTag"`
	MatchingStrategy      string   `json:"matchingStrategy"`
	ShowRankingScore      bool     `json:"showRankingScore"`
	ShowMatchesPosition   bool     `json:"showMatchesPosition"`
}

// searchOf reads a search from an address.
func searchOf(q map[string][]string) (*search, *Error) {
	in := map[string]any{}
	for name, v := range q {
		switch name {
		case "offset", "limit", "page", "hitsPerPage":
			n, err := strconv.Atoi(v[0])
			if err != nil {
				return nil, fault(400, "invalid_search_"+snake(name), "Invalid value in parameter `%s`: could not parse `%s` as a positive integer", name, v[0])
			}
			in[name] = n
		case "sort", "facets", "attributesToRetrieve", "attributesToSearchOn", "attributesToHighlight", "attributesToCrop":
			in[name] = strings.Split(v[0], ",")
		case "showRankingScore", "showMatchesPosition":
			in[name] = v[0] == "true"
		default:
			in[name] = v[0]
		}
	}
	b, err := json.Marshal(in)
	if err != nil {
		return nil, fault(400, "bad_request", "%v", err)
	}
	out := &search{}
	return out, read(b, out)
}

// words are the tokens of a text: letters and digits, without case and accents.
func words(text string) []string {
	var folded strings.Builder
	for _, r := range norm.NFKD.String(text) {
		if !unicode.Is(unicode.Mn, r) {
			folded.WriteRune(unicode.ToLower(r))
		}
	}
	return strings.FieldsFunc(folded.String(), func(r rune) bool { return !unicode.IsLetter(r) && !unicode.IsDigit(r) })
}

// term is a part of a query: a word, the beginning of one, or a phrase.
type term struct {
	words  []string
	prefix bool
	typos  int
	not    bool
	// others are phrases with the same meaning.
	others [][]string
}

// terms reads a query.
func (i *index) terms(q string) (out []*term) {
	typo, _ := i.setting("typoTolerance").(map[string]any)
	sizes, _ := typo["minWordSizeForTypos"].(map[string]any)
	one, _ := numberOf(sizes["oneTypo"])
	two, _ := numberOf(sizes["twoTypos"])
	open := q != "" && !unicode.IsSpace(rune(q[len(q)-1])) && !strings.HasSuffix(q, `"`) && i.setting("prefixSearch") != "disabled"
	stop := i.texts("stopWords")
	for q != "" {
		before, after, marked := strings.Cut(q, `"`)
		phrase, rest, closed := strings.Cut(after, `"`)
		if !marked || !closed {
			before, phrase, rest = q, "", ""
		}
		negated := strings.HasSuffix(before, "-")
		fields := strings.Fields(before)
		for n, f := range fields {
			not := strings.HasPrefix(f, "-") && len(f) > 1
			for m, w := range words(f) {
				last := rest == "" && phrase == "" && n == len(fields)-1 && m == len(words(f))-1
				if slices.Contains(stop, w) && !(last && open) {
					continue
				}
				t := &term{words: []string{w}, not: not, prefix: last && open && !not}
				if enabled, _ := typo["enabled"].(bool); enabled && !not {
					if length := float64(len([]rune(w))); length >= two {
						t.typos = 2
					} else if length >= one {
						t.typos = 1
					}
				}
				out = append(out, t)
			}
		}
		if w := words(phrase); len(w) > 0 {
			out = append(out, &term{words: w, not: negated})
		}
		q = rest
	}
	return i.withSynonyms(out)
}

// withSynonyms adds to words, and to words that stand together, what has the same meaning.
func (i *index) withSynonyms(list []*term) []*term {
	synonyms, _ := i.setting("synonyms").(map[string]any)
	for said, means := range synonyms {
		from := words(said)
		others, _ := means.([]any)
		for n := 0; n+len(from) <= len(list) && len(from) > 0; n++ {
			same := !slices.ContainsFunc(list[n:n+len(from)], func(t *term) bool { return len(t.words) != 1 || t.not })
			for m := range from {
				same = same && list[n+m].words[0] == from[m]
			}
			if !same {
				continue
			}
			for _, o := range others {
				if text, is := o.(string); is {
					list[n].others = append(list[n].others, words(text))
				}
			}
			if len(from) > 1 { // together they are one phrase, or one of the others
				list[n].others = append(list[n].others, from)
				list[n].words, list[n].prefix = from, false
				list = slices.Delete(list, n+1, n+len(from))
			}
		}
	}
	return list
}

// match is how well a document matches.
type match struct {
	words, typos, attribute, exact int
}

// inWords finds words in a row.
func inWords(text, phrase []string) bool {
	for n := 0; n+len(phrase) <= len(text); n++ {
		if slices.Equal(text[n:n+len(phrase)], phrase) {
			return true
		}
	}
	return false
}

// find finds a term in a text: with how many typos, and whether as it is written.
func (t *term) find(text []string) (typos int, exact, found bool) {
	if inWords(text, t.words) {
		return 0, true, true
	}
	for _, o := range t.others {
		if inWords(text, o) {
			return 0, false, true
		}
	}
	if len(t.words) > 1 {
		return 0, false, false
	}
	best := -1
	for _, w := range text {
		if t.prefix && strings.HasPrefix(w, t.words[0]) {
			return 0, false, true
		}
		if t.typos > 0 {
			if n := typosOf(t.words[0], w, t.typos); n <= t.typos && (best < 0 || n < best) {
				best = n
			}
		}
	}
	return best, false, best >= 0
}

// typosOf is the distance of two words, as far as it matters: letters that are missing, added, other ones, or exchanged with
// the next one (Damerau, 1964, in the restricted form).
func typosOf(a, b string, most int) int {
	x, y := []rune(a), []rune(b)
	if len(x)-len(y) > most || len(y)-len(x) > most {
		return most + 1
	}
	d := make([][]int, len(x)+1)
	for i := range d {
		d[i] = make([]int, len(y)+1)
		d[i][0] = i
	}
	for j := range d[0] {
		d[0][j] = j
	}
	for i := range x {
		for j := range y {
			cost := bit(x[i] != y[j])
			d[i+1][j+1] = min(d[i+1][j]+1, d[i][j+1]+1, d[i][j]+cost)
			if i > 0 && j > 0 && x[i] == y[j-1] && x[i-1] == y[j] {
				d[i+1][j+1] = min(d[i+1][j+1], d[i-1][j-1]+1)
			}
		}
	}
	return d[len(x)][len(y)]
}

// textsOf are the texts of an attribute, each as its words.
func textsOf(d document, name string) (out [][]string) {
	for _, v := range valuesAt(d, name) {
		out = append(out, words(fmt.Sprint(v)))
	}
	return out
}

// attributes are those that a search looks into, those that count most first.
func (i *index) attributes(d document, on []string) []string {
	names := i.texts("searchableAttributes")
	if slices.Contains(names, "*") {
		names = slices.Sorted(func(yield func(string) bool) {
			for name := range flat(d, "") {
				if !yield(name) {
					return
				}
			}
		})
	}
	if len(on) > 0 {
		names = slices.DeleteFunc(slices.Clone(names), func(n string) bool { return !slices.Contains(on, n) })
	}
	return names
}

func flat(v any, at string) map[string]bool {
	out := map[string]bool{}
	switch v := v.(type) {
	case map[string]any:
		for name, child := range v {
			for inner := range flat(child, strings.TrimPrefix(at+"."+name, ".")) {
				out[inner] = true
			}
		}
	case []any:
		for _, child := range v {
			for inner := range flat(child, at) {
				out[inner] = true
			}
		}
	default:
		out[at] = true
	}
	return out
}

// matches says how a document matches terms; it must have all of the first needed ones.
func (i *index) matches(d document, terms []*term, needed int, on []string) (match, bool) {
	var m match
	names := i.attributes(d, on)
	for n, t := range terms {
		at, typos, exact := -1, 0, false
		for a, name := range names {
			for _, text := range textsOf(d, name) {
				if ty, ex, found := t.find(text); found && (at < 0 || a == at && ty < typos) {
					at, typos, exact = a, ty, ex
				}
			}
			if at >= 0 {
				break
			}
		}
		switch {
		case t.not && at >= 0:
			return m, false
		case t.not:
		case at < 0 && n < needed:
			return m, false
		case at >= 0:
			m.words, m.typos, m.attribute = m.words+1, m.typos+typos, m.attribute+at
			if exact {
				m.exact++
			}
		}
	}
	return m, true
}

type hit struct {
	id  string
	doc document
	match
}

// search answers a search.
func (i *index) search(in *search) (any, *Error) {
	fits, fail := i.filter(in.Filter, "invalid_search_filter")
	if fail != nil {
		return nil, fail
	}
	for _, s := range in.Sort {
		name, _, _ := strings.Cut(s, ":")
		if !slices.Contains(i.texts("sortableAttributes"), name) && !strings.HasPrefix(s, "_geoPoint(") {
			return nil, fault(400, "invalid_search_sort", "Attribute `%s` is not sortable. Available sortable attributes are: `%s`.", name, strings.Join(i.texts("sortableAttributes"), ", "))
		}
	}
	for _, f := range in.Facets {
		if f != "*" && !i.filterable(f) {
			return nil, fault(400, "invalid_search_facets", "Invalid facet distribution: Attribute `%s` is not filterable. Available filterable attributes patterns are: `%s`.", f, strings.Join(i.texts("filterableAttributes"), ", "))
		}
	}
	q := ""
	if in.Q != nil {
		q = *in.Q
	}
	terms := i.terms(q)
	slices.SortStableFunc(terms, func(a, b *term) int { return cmp.Compare(bit(a.not), bit(b.not)) })
	positive := 0
	for _, t := range terms {
		positive += 1 - bit(t.not)
	}
	needed := positive
	if in.MatchingStrategy == "" || in.MatchingStrategy == "last" || in.MatchingStrategy == "frequency" {
		needed = min(positive, 1) // the others may be dropped, from the last one
	} else if in.MatchingStrategy != "all" {
		return nil, fault(400, "invalid_search_matching_strategy", "Unknown value `%s` at `.matchingStrategy`: expected one of `last`, `all`, `frequency`", in.MatchingStrategy)
	}
	var hits []hit
	for _, id := range i.order {
		d := i.docs[id]
		if !fits(d) {
			continue
		}
		if m, ok := i.matches(d, terms, needed, in.AttributesToSearchOn); ok {
			hits = append(hits, hit{id, d, m})
		}
	}
	i.rank(hits, in.Sort)
	facets := map[string]map[string]int64{}
	stats := map[string]any{}
	for _, name := range in.Facets {
		facets[name] = i.facet(hits, name, stats)
	}
	pagination, _ := i.setting("pagination").(map[string]any)
	most, _ := numberOf(pagination["maxTotalHits"])
	hits = hits[:min(len(hits), int(most))]
	out := map[string]any{"query": q, "processingTimeMs": 0}
	total := len(hits)
	if in.Page != nil || in.HitsPerPage != nil {
		page, per := 1, 20
		if in.Page != nil {
			page = *in.Page
		}
		if in.HitsPerPage != nil {
			per = *in.HitsPerPage
		}
		out["page"], out["hitsPerPage"], out["totalHits"], out["totalPages"] = page, per, total, 0
		if per > 0 {
			out["totalPages"] = (total + per - 1) / per
		}
		from := min(max(0, page-1)*per, total)
		hits = hits[from:min(total, from+per)]
		if page < 1 {
			hits = nil
		}
	} else {
		offset, limit := 0, 20
		if in.Offset != nil {
			offset = *in.Offset
		}
		if in.Limit != nil {
			limit = *in.Limit
		}
		out["offset"], out["limit"], out["estimatedTotalHits"] = offset, limit, total
		hits = hits[min(offset, total):min(total, offset+limit)]
	}
	list := []document{}
	for n := range hits {
		list = append(list, i.shown(&hits[n], in, terms, positive))
	}
	out["hits"] = list
	if in.Facets != nil {
		out["facetDistribution"], out["facetStats"] = facets, stats
	}
	return out, nil
}

func bit(b bool) int {
	if b {
		return 1
	}
	return 0
}

// shown is a hit as it is returned.
func (i *index) shown(h *hit, in *search, terms []*term, positive int) document {
	displayed := i.texts("displayedAttributes")
	doc := some(h.doc, displayed)
	if in.AttributesToRetrieve != nil {
		doc = some(doc, append([]string{}, in.AttributesToRetrieve...))
		if len(in.AttributesToRetrieve) == 0 {
			doc = document{}
		}
	}
	out := document{}
	for name, v := range doc {
		out[name] = v
	}
	if in.ShowRankingScore {
		score := 1.0
		if positive > 0 {
			score = float64(h.words) / float64(positive) / (1 + 0.1*float64(h.typos) + 0.01*float64(h.attribute) + 0.001*float64(positive-h.exact))
		}
		out["_rankingScore"] = score
	}
	for _, s := range in.Sort {
		name, _, _ := strings.Cut(s, ":")
		if lat, lng, is := pointOf(name); is {
			if metres, ok := fromPoint(h.doc, lat, lng); ok {
				out["_geoDistance"] = int(metres)
			}
			break
		}
	}
	if in.ShowMatchesPosition {
		positions := map[string][]map[string]int{}
		for name := range flat(h.doc, "") {
			for _, v := range valuesAt(h.doc, name) {
				at := 0
				for _, part := range splitWords(fmt.Sprint(v)) {
					if marked := highlighted(part, terms, "!", ""); marked != part {
						positions[name] = append(positions[name], map[string]int{"start": at, "length": len(part)})
					}
					at += len(part)
				}
			}
		}
		out["_matchesPosition"] = positions
	}
	if len(in.AttributesToHighlight)+len(in.AttributesToCrop) > 0 {
		pre, post := "<em>", "</em>"
		if in.HighlightPreTag != nil {
			pre = *in.HighlightPreTag
		}
		if in.HighlightPostTag != nil {
			post = *in.HighlightPostTag
		}
		formatted := document{}
		for name, v := range doc {
			if slices.Contains(in.AttributesToHighlight, "*") || slices.Contains(in.AttributesToHighlight, name) {
				v = highlighted(v, terms, pre, post)
			}
			formatted[name] = v
		}
		out["_formatted"] = formatted
	}
	return out
}

// highlighted marks the words of a text that a term found.
func highlighted(v any, terms []*term, pre, post string) any {
	switch v := v.(type) {
	case string:
		var b strings.Builder
		for _, part := range splitWords(v) {
			w := words(part)
			hit := len(w) == 1 && slices.ContainsFunc(terms, func(t *term) bool {
				if slices.Contains(t.words, w[0]) {
					return !t.not
				}
				_, _, found := t.find(w)
				return found && !t.not
			})
			if hit {
				part = pre + part + post
			}
			b.WriteString(part)
		}
		return b.String()
	case []any:
		out := make([]any, len(v))
		for n := range v {
			out[n] = highlighted(v[n], terms, pre, post)
		}
		return out
	case map[string]any:
		out := document{}
		for name, child := range v {
			out[name] = highlighted(child, terms, pre, post)
		}
		return out
	case json.Number:
		return v.String()
	}
	return v
}

// splitWords takes a text apart into words and what is between them.
func splitWords(text string) (out []string) {
	isWord := func(r rune) bool { return unicode.IsLetter(r) || unicode.IsDigit(r) || unicode.Is(unicode.Mn, r) }
	start := 0
	runes := []rune(text)
	for n := 1; n <= len(runes); n++ {
		if n == len(runes) || isWord(runes[n]) != isWord(runes[start]) {
			out = append(out, string(runes[start:n]))
			start = n
		}
	}
	return out
}

// rank puts hits in order, by one rule after the other.
func (i *index) rank(hits []hit, sorts []string) {
	var compare []func(a, b *hit) int
	for _, rule := range i.texts("rankingRules") {
		switch rule {
		case "words":
			compare = append(compare, func(a, b *hit) int { return cmp.Compare(b.words, a.words) })
		case "typo":
			compare = append(compare, func(a, b *hit) int { return cmp.Compare(a.typos, b.typos) })
		case "attribute":
			compare = append(compare, func(a, b *hit) int { return cmp.Compare(a.attribute, b.attribute) })
		case "exactness":
			compare = append(compare, func(a, b *hit) int { return cmp.Compare(b.exact, a.exact) })
		case "proximity": // the stand-in does not tell words that are near from those that are far
		case "sort":
			for _, s := range sorts {
				compare = append(compare, byValue(s))
			}
		default:
			compare = append(compare, byValue(rule))
		}
	}
	sort.SliceStable(hits, func(x, y int) bool {
		for _, c := range compare {
			if n := c(&hits[x], &hits[y]); n != 0 {
				return n < 0
			}
		}
		return false
	})
}

// byValue orders by NAME:asc or NAME:desc, numbers before texts, and what has no value last.
func byValue(rule string) func(a, b *hit) int {
	name, direction, _ := strings.Cut(rule, ":")
	if lat, lng, is := pointOf(name); is {
		return func(a, b *hit) int {
			x, okX := fromPoint(a.doc, lat, lng)
			y, okY := fromPoint(b.doc, lat, lng)
			n := cmp.Compare(x, y)
			if direction == "desc" {
				n = -n
			}
			return cmp.Or(cmp.Compare(bit(!okX), bit(!okY)), n)
		}
	}
	return func(a, b *hit) int {
		x, y := valuesAt(a.doc, name), valuesAt(b.doc, name)
		switch {
		case len(x) == 0 || len(y) == 0:
			return cmp.Compare(bit(len(x) == 0), bit(len(y) == 0))
		}
		n := compareValues(x[0], y[0])
		if direction == "desc" {
			n = -n
		}
		return n
	}
}

// pointOf reads _geoPoint(LATITUDE, LONGITUDE).
func pointOf(name string) (lat, lng float64, is bool) {
	inner, is := strings.CutPrefix(strings.TrimSuffix(name, ")"), "_geoPoint(")
	first, second, two := strings.Cut(inner, ",")
	lat, err1 := strconv.ParseFloat(strings.TrimSpace(first), 64)
	lng, err2 := strconv.ParseFloat(strings.TrimSpace(second), 64)
	return lat, lng, is && two && err1 == nil && err2 == nil
}

// fromPoint is how far a document's place is from another one, in metres.
func fromPoint(d document, lat, lng float64) (float64, bool) {
	a, b, ok := placeOf(d["_geo"])
	return distance(lat, lng, a, b), ok
}

func compareValues(a, b any) int {
	_, textA := a.(string)
	_, textB := b.(string)
	if textA || textB {
		if textA != textB {
			return cmp.Compare(bit(textA), bit(textB))
		}
		return cmp.Compare(strings.ToLower(a.(string)), strings.ToLower(b.(string)))
	}
	if x, is := a.(bool); is {
		y, _ := b.(bool)
		return cmp.Compare(bit(x), bit(y))
	}
	x, _ := numberOf(a)
	y, _ := numberOf(b)
	return cmp.Compare(x, y)
}

// facet counts the values of an attribute.
func (i *index) facet(hits []hit, name string, stats map[string]any) map[string]int64 {
	counts := map[string]int64{}
	low, high, numeric := 0.0, 0.0, false
	for _, h := range hits {
		seen := map[string]bool{}
		for _, v := range valuesAt(h.doc, name) {
			text := fmt.Sprint(v)
			if !seen[text] {
				counts[text]++
				seen[text] = true
			}
			if n, is := v.(json.Number); is {
				if x, err := n.Float64(); err == nil {
					if !numeric || x < low {
						low = x
					}
					if !numeric || x > high {
						high = x
					}
					numeric = true
				}
			}
		}
	}
	if numeric {
		stats[name] = map[string]float64{"min": low, "max": high}
	}
	faceting, _ := i.setting("faceting").(map[string]any)
	most, _ := numberOf(faceting["maxValuesPerFacet"])
	names := make([]string, 0, len(counts))
	for value := range counts {
		names = append(names, value)
	}
	by, _ := faceting["sortFacetValuesBy"].(map[string]any)
	byCount := by["*"] == "count" || by[name] == "count"
	slices.SortFunc(names, func(a, b string) int {
		if byCount {
			if n := cmp.Compare(counts[b], counts[a]); n != 0 {
				return n
			}
		}
		return cmp.Compare(a, b)
	})
	out := map[string]int64{}
	for _, value := range names[:min(len(names), int(most))] {
		out[value] = counts[value]
	}
	return out
}

func (s *Server) multiSearch(body []byte) (int, any, *Error) {
	var in struct {
		Queries    []search `json:"queries"`
		Federation any      `json:"federation"`
	}
	if fail := read(body, &in); fail != nil {
		return 0, nil, fail
	}
	if in.Federation != nil {
		return 0, nil, fault(400, "feature_not_enabled", "The stand-in has no federated search.")
	}
	results := []any{}
	for n := range in.Queries {
		query := &in.Queries[n]
		status, out, fail := s.withIndex(query.IndexUID, func(i *index) (any, *Error) { return i.search(query) })
		if fail != nil {
			return 0, nil, fault(fail.status, fail.Code, "Inside `.queries[%d]`: %s", n, fail.Message)
		}
		var one map[string]any
		if err := json.Unmarshal(out.(json.RawMessage), &one); err != nil || status != http.StatusOK {
			return 0, nil, fault(500, "internal", "%v", err)
		}
		one["indexUid"] = query.IndexUID
		results = append(results, one)
	}
	return http.StatusOK, map[string]any{"results": results}, nil
}

func (s *Server) facetSearch(uid string, body []byte) (int, any, *Error) {
	var in struct {
		search
		FacetName  string `json:"facetName"`
		FacetQuery string `json:"facetQuery"`
	}
	if fail := read(body, &in); fail != nil {
		return 0, nil, fail
	}
	return s.withIndex(uid, func(i *index) (any, *Error) {
		in.Facets = []string{in.FacetName}
		out, fail := i.search(&in.search)
		if fail != nil {
			return nil, fail
		}
		counts := out.(map[string]any)["facetDistribution"].(map[string]map[string]int64)[in.FacetName]
		type value struct {
			Value string `json:"value"`
			Count int64  `json:"count"`
		}
		hits := []value{}
		start := strings.ToLower(in.FacetQuery)
		for v, n := range counts {
			if strings.HasPrefix(strings.ToLower(v), start) {
				hits = append(hits, value{v, n})
			}
		}
		slices.SortFunc(hits, func(a, b value) int { return cmp.Compare(a.Value, b.Value) })
		return map[string]any{"facetHits": hits, "facetQuery": in.FacetQuery, "processingTimeMs": 0}, nil
	})
}
