package standin

import (
	"encoding/json"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
)

func (c *compiler) match(name string, b object) (query, error) {
	path, v, err := one(name, b)
	if err != nil {
		return nil, err
	}
	o, err := options(
		name,
		"query",
		v,
		"operator",
		"lenient",
		"analyzer",
		"slop",
		"fuzziness",
		"minimum_should_match",
		"zero_terms_query",
	)
	if err != nil {
		return nil, err
	}
	operator, err := operatorOf(o["operator"])
	if err != nil {
		return nil, err
	}
	q, err := c.words(path, o["query"], operator, name == "match_phrase", false, o["lenient"] == true)
	if err != nil {
		return nil, err
	}
	return boosted(q, o["boost"])
}

func operatorOf(v any) (string, error) {
	switch operator := strings.ToLower(fmt.Sprint(v)); operator {
	case "<nil>":
		return "or", nil
	case "or", "and":
		return operator, nil
	default:
		return "", &apiError{
			400,
			"illegal_argument_exception",
			"No enum constant of Operator." + strings.ToUpper(operator),
			nil,
		}
	}
}

func (c *compiler) multiMatch(b object) (query, error) {
	for option := range b {
		if !slices.Contains(
			[]string{
				"query",
				"fields",
				"type",
				"operator",
				"lenient",
				"boost",
				"tie_breaker",
				"analyzer",
				"fuzziness",
				"minimum_should_match",
			},
			option,
		) {
			return nil, badQuery("[multi_match] query does not support [%s]", option)
		}
	}
	if b["query"] == nil {
		return nil, badQuery("No text specified for multi_match query")
	}
	kind := "best_fields"
	if v, ok := b["type"]; ok {
		kind = fmt.Sprint(v)
	}
	if !slices.Contains(
		[]string{"best_fields", "most_fields", "cross_fields", "phrase", "phrase_prefix", "bool_prefix"},
		kind,
	) {
		return nil, &apiError{
			400,
			"parse_exception",
			fmt.Sprintf("failed to parse [multi_match] query type [%s]. unknown type.", kind),
			nil,
		}
	}
	operator, err := operatorOf(b["operator"])
	if err != nil {
		return nil, err
	}
	lenient := b["lenient"] == true
	named, _ := b["fields"].([]any)
	if len(named) == 0 { // all of them, and leniently
		lenient = true
		c.ix.mapping.each(func(f *field) {
			if f.leaf() {
				named = append(named, f.path)
			}
		})
	}
	type weighted struct {
		path   string
		weight float32
	}
	var fields []weighted
	for _, f := range named {
		path, power, has := strings.Cut(fmt.Sprint(f), "^")
		w := weighted{path, 1}
		if has {
			n, err := strconv.ParseFloat(power, 32)
			if err != nil {
				return nil, badNumber(power)
			}
			if n < 0 {
				return nil, &apiError{
					400,
					"illegal_argument_exception",
					"negative [boost] are not allowed",
					nil,
				}
			}
			w.weight = float32(n)
		}
		fields = append(fields, w)
	}
	if kind == "cross_fields" { // each word in some field
		var all []query
		for _, word := range standard.words(fmt.Sprint(b["query"])) {
			var some []query
			for _, f := range fields {
				q, err := c.words(f.path, word, operator, false, false, lenient)
				if err != nil {
					return nil, err
				}
				some = append(some, times(q, f.weight))
			}
			all = append(all, best(some))
		}
		if operator == "and" {
			return every(all), nil
		}
		return anyOf(all), nil
	}
	var parts []query
	for _, f := range fields {
		q, err := c.words(
			f.path,
			b["query"],
			operator,
			strings.HasPrefix(kind, "phrase"),
			kind == "bool_prefix",
			lenient,
		)
		if err != nil {
			return nil, err
		}
		parts = append(parts, times(q, f.weight))
	}
	q := best(parts)
	if kind == "most_fields" || kind == "bool_prefix" {
		q = anyOf(parts)
	}
	return boosted(q, b["boost"])
}

// words looks for words in one field: all or some of them, in a row, or the last one only
// begun. A field of another kind compares its whole value.
func (c *compiler) words(path string, value any, operator string, phrase, begun, lenient bool) (query, error) {
	f := c.ix.mapping.at(path)
	if f == nil || !f.leaf() {
		return nothing, nil
	}
	text := fmt.Sprint(value)
	if f.Type != "text" {
		q, err := c.value(path, value, false)
		if err != nil && lenient {
			return nothing, nil
		}
		return q, err
	}
	analyzer := c.ix.analysis.of(f, true)
	var variants []query
	for _, words := range analyzer.variants(text) {
		if c.clauses += len(words); c.clauses > maxClauses {
			return nil, failedToCreate("maxClauseCount is set to %d", maxClauses)
		}
		if len(words) == 0 {
			continue
		}
		var each []query
		for i, w := range words {
			each = append(each, c.word(f, w, begun && i == len(words)-1))
		}
		switch {
		case phrase:
			variants = append(variants, inARow(f, words, c.ix.analysis.of(f, false), every(each)))
		case operator == "and":
			variants = append(variants, every(each))
		default:
			variants = append(variants, anyOf(each))
		}
	}
	if len(variants) == 1 {
		return variants[0], nil
	}
	return best(variants), nil
}

// inARow keeps those of what has all words that have them one after the other. The index
// does not know where words stand, so the documents are read.
func inARow(f *field, words []string, a *analyzer, all query) query {
	return func(s *segment) *found {
		out := all(s)
		out.docs.each(func(n uint32) {
			var document any
			if json.Unmarshal(s.docs[n].source, &document) != nil ||
				!phraseIn(textsAt(document, strings.Split(f.path, ".")), words, a) {
				out.docs.unset(n)
			}
		})
		return out
	}
}

func phraseIn(texts []string, words []string, a *analyzer) bool {
	for _, text := range texts {
		have := a.words(text)
		for at := 0; at+len(words) <= len(have); at++ {
			if slices.EqualFunc(
				have[at:at+len(words)],
				words,
				func(have, want string) bool { return a.matches(have, want) },
			) {
				return true
			}
		}
	}
	return false
}

// textsAt collects the texts below a path of names.
func textsAt(v any, path []string) (out []string) {
	switch v := v.(type) {
	case []any:
		for _, e := range v {
			out = append(out, textsAt(e, path)...)
		}
	case object:
		if len(path) > 0 {
			out = textsAt(v[path[0]], path[1:])
		}
	case string:
		out = []string{v}
	}
	return out
}

// word finds the documents with a word in a text field. Its rareness counts (the formula is
// BM25 without the length of the field).
func (c *compiler) word(f *field, word string, begun bool) query {
	analyzer := c.ix.analysis.of(f, false)
	lists := map[*segment][]*postings{}
	frequency := 0
	for _, s := range c.seen.segments {
		t := s.fields[f]
		if t == nil || word == "" {
			continue
		}
		if !begun && analyzer.expands == nil {
			if list := t.find(word); list != nil {
				lists[s] = []*postings{list}
				frequency += list.documents
			}
			continue
		}
		from, to := 0, len(t.keys)
		if begun || analyzer.expands.onlyBeginnings {
			from, to = t.between(word, word+"\xff\xff\xff\xff", false)
		}
		for i := from; i < to; i++ {
			if begun || analyzer.matches(t.keys[i], word) {
				lists[s] = append(lists[s], &t.postings[i])
				frequency += t.postings[i].documents
			}
		}
	}
	idf := float32(math.Log(1 + (float64(max(c.seen.count-frequency, 0))+0.5)/(float64(frequency)+0.5)))
	var byTimes [256]float32
	for n := range byTimes {
		byTimes[n] = idf * float32(n) * 2.2 / (float32(n) + 1.2)
	}
	return func(s *segment) *found {
		out := &found{docs: newBits(len(s.docs)), scores: newScores(len(s.docs))}
		for _, list := range lists[s] {
			for doc, times := range list.all() {
				out.docs.set(doc)
				out.scores[doc] = max(out.scores[doc], byTimes[times])
			}
		}
		return out
	}
}
