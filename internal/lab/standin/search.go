package standin

import (
	"encoding/json"
	"fmt"
	"math"
	"sort"
	"strconv"
	"strings"
)

// inverted finds documents by word. Documents are taken in when a search first
// needs them, so that filling costs nothing for searches nobody makes.
type inverted struct {
	waiting map[*doc]struct{}
	words   map[string]map[string]map[*doc]int // field, word, document, how often
	values  map[*doc]map[string][]any          // field, all values
}

func (v *inverted) reset() {
	v.waiting = map[*doc]struct{}{}
	v.words, v.values = map[string]map[string]map[*doc]int{}, map[*doc]map[string][]any{}
}

func (v *inverted) drop(d *doc, words func(path string, value any) []string) {
	values, in := v.values[d]
	if !in {
		delete(v.waiting, d)
		return
	}
	for path, list := range values {
		for _, value := range list {
			for _, word := range words(path, value) {
				delete(v.words[path][word], d)
			}
		}
	}
	delete(v.values, d)
}

func (v *inverted) takeIn(words func(path string, value any) []string) {
	for d := range v.waiting {
		var source map[string]any
		decoder := json.NewDecoder(strings.NewReader(string(d.source)))
		decoder.UseNumber()
		if decoder.Decode(&source) != nil {
			continue // checkDocument has let it in, so it is JSON
		}
		values := map[string][]any{}
		flatten(source, "", values)
		v.values[d] = values
		for path, list := range values {
			for _, value := range list {
				for _, word := range words(path, value) {
					byWord := v.words[path]
					if byWord == nil {
						byWord = map[string]map[*doc]int{}
						v.words[path] = byWord
					}
					if byWord[word] == nil {
						byWord[word] = map[*doc]int{}
					}
					byWord[word][d]++
				}
			}
		}
	}
	clear(v.waiting)
}

func flatten(value any, path string, into map[string][]any) {
	switch value := value.(type) {
	case map[string]any:
		for k, child := range value {
			flatten(child, strings.TrimPrefix(path+"."+k, "."), into)
		}
	case []any:
		for _, child := range value {
			flatten(child, path, into)
		}
	case nil:
	default:
		into[path] = append(into[path], value)
	}
}

// scores is what a query yields: the documents that match, with their scores.
type scores map[*doc]float64

type evaluator struct {
	ix   *index
	docs map[string]*doc // what is searched
}

func badQuery(format string, args ...any) error {
	return &apiError{400, "parsing_exception", fmt.Sprintf(format, args...), nil}
}

// eval evaluates one query object; the caller holds the lock.
func (e *evaluator) eval(query any) (scores, error) {
	object, ok := query.(map[string]any)
	if !ok || len(object) != 1 {
		return nil, badQuery("[_na] query malformed, must have one query name")
	}
	for name, body := range object {
		b, ok := body.(map[string]any)
		if !ok {
			return nil, badQuery("[%s] query malformed, no start_object after query name", name)
		}
		switch name {
		case "match_all":
			return e.all(), nil
		case "match":
			for path, v := range b {
				text, operator := v, "or"
				if o, ok := v.(map[string]any); ok {
					text, operator = o["query"], stringOr(o["operator"], "or")
				}
				return e.match([]weighted{{path, 1}}, fmt.Sprint(text), strings.ToLower(operator), false), nil
			}
		case "multi_match":
			fields := weights(b["fields"])
			return e.match(
				fields,
				fmt.Sprint(b["query"]),
				strings.ToLower(stringOr(b["operator"], "or")),
				b["type"] == "bool_prefix",
			), nil
		case "term", "prefix":
			for path, v := range b {
				if o, ok := v.(map[string]any); ok {
					v = o["value"]
				}
				return e.exact(path, v, name == "prefix"), nil
			}
		case "terms":
			for path, v := range b {
				list, ok := v.([]any)
				if !ok {
					return nil, badQuery("[terms] query requires an array of terms")
				}
				out := scores{}
				for _, one := range list {
					for d := range e.exact(path, one, false) {
						out[d] = 1
					}
				}
				return out, nil
			}
		case "exists":
			return e.filter(fmt.Sprint(b["field"]), func(any) bool { return true }), nil
		case "range":
			for path, v := range b {
				bounds, ok := v.(map[string]any)
				if !ok {
					return nil, badQuery("[range] query malformed")
				}
				return e.filter(path, func(value any) bool { return within(value, bounds) }), nil
			}
		case "ids":
			out := scores{}
			list, _ := b["values"].([]any)
			for _, id := range list {
				if d := e.docs[fmt.Sprint(id)]; d != nil {
					out[d] = 1
				}
			}
			return out, nil
		case "bool":
			return e.boolean(b)
		}
		return nil, badQuery("unknown query [%s]", name)
	}
	return nil, badQuery("query malformed, empty clause found")
}

func stringOr(v any, or string) string {
	if s, ok := v.(string); ok {
		return s
	}
	return or
}

func (e *evaluator) all() scores {
	out := make(scores, len(e.docs))
	for _, d := range e.docs {
		out[d] = 1
	}
	return out
}

func (e *evaluator) boolean(b map[string]any) (scores, error) {
	clauses := func(name string) ([]scores, error) {
		v, ok := b[name]
		if !ok {
			return nil, nil
		}
		list, ok := v.([]any)
		if !ok {
			list = []any{v}
		}
		var out []scores
		for _, c := range list {
			s, err := e.eval(c)
			if err != nil {
				return nil, err
			}
			out = append(out, s)
		}
		return out, nil
	}
	parts := map[string][]scores{}
	for name := range b {
		switch name {
		case "must", "should", "filter", "must_not":
			var err error
			if parts[name], err = clauses(name); err != nil {
				return nil, err
			}
		case "minimum_should_match", "boost":
		default:
			return nil, badQuery("[bool] query does not support [%s]", name)
		}
	}
	out := scores{}
	needShould := len(parts["should"]) > 0 && len(parts["must"]) == 0 && len(parts["filter"]) == 0
	if least, ok := b["minimum_should_match"]; ok {
		needShould = fmt.Sprint(least) != "0" // one is enough: more is not simulated
	}
candidates:
	for d := range e.all() {
		score, any := 0.0, false
		for _, s := range parts["must"] {
			one, ok := s[d]
			if !ok {
				continue candidates
			}
			score += one
		}
		for _, s := range parts["filter"] {
			if _, ok := s[d]; !ok {
				continue candidates
			}
		}
		for _, s := range parts["must_not"] {
			if _, ok := s[d]; ok {
				continue candidates
			}
		}
		for _, s := range parts["should"] {
			if one, ok := s[d]; ok {
				any, score = true, score+one
			}
		}
		if !needShould || any {
			out[d] = score
		}
	}
	return out, nil
}

type weighted struct {
	path   string
	weight float64
}

func weights(v any) []weighted {
	list, _ := v.([]any)
	out := make([]weighted, 0, len(list))
	for _, f := range list {
		path, power, has := strings.Cut(fmt.Sprint(f), "^")
		weight := 1.0
		if n, err := strconv.ParseFloat(power, 64); has && err == nil {
			weight = n
		}
		out = append(out, weighted{path, weight})
	}
	return out
}

// match scores by how rare a word is and how large a part of the field it makes;
// in several fields the best one counts.
func (e *evaluator) match(fields []weighted, text, operator string, lastIsPrefix bool) scores {
	out := scores{}
	for _, f := range fields {
		for _, words := range e.ix.analysis.of(e.ix.mapping.at(f.path), true).variants(text) {
			hits, sum := map[*doc]int{}, scores{}
			for i, word := range words {
				for d, score := range e.word(f.path, word, lastIsPrefix && i == len(words)-1) {
					hits[d]++
					sum[d] += score * f.weight
				}
			}
			for d, n := range hits {
				if operator != "and" || n == len(words) {
					out[d] = math.Max(out[d], sum[d])
				}
			}
		}
	}
	return out
}

func (e *evaluator) word(path, word string, prefix bool) scores {
	out := scores{}
	add := func(found map[*doc]int) {
		idf := math.Log(1 + float64(len(e.docs)+1)/float64(len(found)+1))
		for d, times := range found {
			if e.docs[d.id] == d {
				out[d] = math.Max(out[d], idf*float64(times)/(float64(times)+1.2))
			}
		}
	}
	if found := e.ix.words[path][word]; found != nil {
		add(found)
	}
	if prefix {
		for w, found := range e.ix.words[path] {
			if strings.HasPrefix(w, word) {
				add(found)
			}
		}
	}
	return out
}

func (e *evaluator) filter(path string, keep func(value any) bool) scores {
	out := scores{}
	for _, d := range e.docs {
		for _, value := range e.ix.valuesOf(d, path) {
			if keep(value) {
				out[d] = 1
				break
			}
		}
	}
	return out
}

func (ix *index) valuesOf(d *doc, path string) []any {
	switch path {
	case "_id":
		return []any{d.id}
	}
	values := ix.values[d]
	if found, ok := values[path]; ok {
		return found
	}
	if i := strings.LastIndexByte(path, '.'); i >= 0 { // a sub-field holds its parent's values
		return values[path[:i]]
	}
	return nil
}

// exact compares whole values; a text field compares word by word, as a server does.
func (e *evaluator) exact(path string, want any, prefix bool) scores {
	f := e.ix.mapping.at(path)
	text := fmt.Sprint(want)
	return e.filter(path, func(value any) bool {
		candidates := []string{fmt.Sprint(value)}
		if f != nil && (f.Type == "text" || f.Normalizer != "") {
			candidates = e.ix.indexWords(path, value)
		}
		for _, c := range candidates {
			if c == text || prefix && strings.HasPrefix(c, text) {
				return true
			}
		}
		return false
	})
}

func (f *field) at(path string) *field {
	for _, name := range strings.Split(path, ".") {
		if f == nil {
			return nil
		}
		if next := f.Properties[name]; next != nil {
			f = next
		} else {
			f = f.Fields[name]
		}
	}
	return f
}

func within(value any, bounds map[string]any) bool {
	for name, bound := range bounds {
		c := compare(value, bound)
		switch name {
		case "gt":
			if c <= 0 {
				return false
			}
		case "gte":
			if c < 0 {
				return false
			}
		case "lt":
			if c >= 0 {
				return false
			}
		case "lte":
			if c > 0 {
				return false
			}
		}
	}
	return true
}

// compare orders numbers as numbers and everything else as text.
func compare(a, b any) int {
	x, err1 := strconv.ParseFloat(fmt.Sprint(a), 64)
	y, err2 := strconv.ParseFloat(fmt.Sprint(b), 64)
	if err1 == nil && err2 == nil {
		switch {
		case x < y:
			return -1
		case x > y:
			return 1
		}
		return 0
	}
	return strings.Compare(fmt.Sprint(a), fmt.Sprint(b))
}

type sortKey struct {
	path string
	desc bool
}

func sortKeys(v any) []sortKey {
	list, ok := v.([]any)
	if !ok && v != nil {
		list = []any{v}
	}
	var out []sortKey
	for _, item := range list {
		switch item := item.(type) {
		case string:
			out = append(out, sortKey{item, item == "_score"})
		case map[string]any:
			for path, how := range item {
				if o, ok := how.(map[string]any); ok {
					how = o["order"]
				}
				out = append(out, sortKey{path, how == "desc" || how == nil && path == "_score"})
			}
		}
	}
	return out
}

type ranked struct {
	doc   *doc
	score float64
	keys  []any
}

// order sorts what was found; missing values come last.
func (ix *index) order(found scores, by []sortKey) []ranked {
	out := make([]ranked, 0, len(found))
	for d, score := range found {
		r := ranked{doc: d, score: score}
		for _, k := range by {
			switch k.path {
			case "_score":
				r.keys = append(r.keys, score)
			case "_doc":
				r.keys = append(r.keys, d.ordinal)
			case "_id":
				r.keys = append(r.keys, d.id)
			default:
				var v any
				if values := ix.valuesOf(d, k.path); len(values) > 0 {
					v = values[0]
				}
				if f := ix.mapping.at(k.path); f != nil &&
					(f.Type == "long" || f.Type == "integer" || f.Type == "double" || f.Type == "float") {
					if text, ok := v.(string); ok {
						v = json.Number(text) // a number is one, however it was written
					}
				}
				r.keys = append(r.keys, v)
			}
		}
		out = append(out, r)
	}
	sort.Slice(out, func(i, j int) bool {
		a, b := out[i], out[j]
		if len(by) == 0 && a.score != b.score {
			return a.score > b.score
		}
		if c := compareKeys(a.keys, b.keys, by); c != 0 {
			return c < 0
		}
		return a.doc.ordinal < b.doc.ordinal
	})
	return out
}

func compareKeys(a, b []any, by []sortKey) int {
	for i := range min(len(a), len(b), len(by)) {
		switch {
		case a[i] == nil && b[i] == nil:
			continue
		case a[i] == nil:
			return 1
		case b[i] == nil:
			return -1
		}
		if c := compare(a[i], b[i]); c != 0 {
			if by[i].desc {
				return -c
			}
			return c
		}
	}
	return 0
}
