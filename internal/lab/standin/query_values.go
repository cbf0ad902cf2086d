package standin

import (
	"encoding/json"
	"fmt"
	"math"
	"slices"
	"strings"
	"time"
)

// places finds what stands at some places of a field's terms.
func places(f *field, which func(t *terms, each func(place int))) query {
	return func(s *segment) *found {
		out := nothing(s)
		out.same = 1
		if t := s.fields[f]; t != nil {
			which(t, func(place int) {
				for doc := range t.postings[place].all() {
					out.docs.set(doc)
				}
			})
		}
		return out
	}
}

func (f *field) between(from, to string, open bool) query {
	return places(f, func(t *terms, each func(int)) {
		first, last := t.between(from, to, open)
		for i := first; i < last; i++ {
			each(i)
		}
	})
}

// whole finds a whole value of a field that is not a text, as the field reads it.
func (c *compiler) whole(f *field, value any) (query, error) {
	from, to, err := f.bounds(value)
	if err != nil {
		return nil, err
	}
	if from == to {
		return places(f, func(t *terms, each func(int)) {
			if i, ok := slices.BinarySearch(t.keys, from); ok {
				each(i)
			}
		}), nil
	}
	return f.between(from, to+"\x00", false), nil
}

// bounds gives the smallest and the largest key that a value given in a query means.
func (f *field) bounds(value any) (from, to string, err error) {
	text := fmt.Sprint(value)
	_, number := value.(json.Number)
	switch {
	case f.Type == "geo_point":
		return "", "", atShard(
			"query_shard_exception",
			"Geometry fields do not support exact searching, use dedicated geometry queries instead: [%s]",
			f.path,
		)
	case f.Type == "date":
		kind := stringToken
		if number {
			kind = numberToken
		}
		if text == "now" {
			now := longKey(time.Now().UnixMilli())
			return now, now, nil
		}
		first, last, why := f.dateOf(kind, text)
		if why != nil {
			return "", "", atShard("parse_exception", "%s", why.reason)
		}
		return longKey(first), longKey(last), nil
	case f.Type == "boolean":
		if text != "true" && text != "false" {
			return "", "", failedToCreate("Can't parse boolean value [%s], expected [true] or [false]", text)
		}
		return booleanKey(text == "true"), booleanKey(text == "true"), nil
	case f.whole() && text == "", f.real() && text == "":
		return "", "", failedToCreate("empty String")
	case f.real():
		v, err := parseDouble(text)
		if err != nil {
			return "", "", failedToCreate("For input string: %q", text)
		}
		return doubleKey(v), doubleKey(v), nil
	case f.whole():
		v, fits, ok := f.parseWhole(text)
		switch exact, _ := parseDouble(text); {
		case !ok:
			return "", "", failedToCreate("For input string: %q", text)
		case !fits:
			return "", "", failedToCreate("Value [%s] is out of range for a %s", text, f.Type)
		case exact != math.Trunc(exact): // between two whole numbers
			if exact < 0 {
				return longKey(v), longKey(v - 1), nil
			}
			return longKey(v + 1), longKey(v), nil
		}
		return longKey(v), longKey(v), nil
	}
	return text, text, nil
}

func (c *compiler) term(b object) (query, error) {
	path, v, err := one("term", b)
	if err != nil {
		return nil, err
	}
	if _, list := v.([]any); list {
		return nil, badQuery("[term] query does not support array of values")
	}
	if v == nil {
		return nil, &apiError{400, "illegal_argument_exception", "field name is null or empty", nil}
	}
	o, err := options("term", "value", v, "case_insensitive")
	if err != nil {
		return nil, err
	}
	q, err := c.value(path, o["value"], o["case_insensitive"] == true)
	if err != nil {
		return nil, err
	}
	return boosted(q, o["boost"])
}

// value finds one value: of a text one of its words, as it is in the index.
func (c *compiler) value(path string, v any, anyCase bool) (query, error) {
	if path == "_id" {
		return c.ids(object{"values": []any{v}})
	}
	f := c.ix.mapping.at(path)
	switch {
	case f == nil || !f.leaf():
		return nothing, nil
	case f.Type == "text":
		word := fmt.Sprint(v)
		return c.word(f, word, false), nil
	case f.Type == "keyword" && anyCase:
		return places(f, func(t *terms, each func(int)) {
			for i, k := range t.keys {
				if strings.EqualFold(k, fmt.Sprint(v)) {
					each(i)
				}
			}
		}), nil
	case f.Type == "keyword" && f.Normalizer != "":
		v = c.ix.analysis.of(f, true).words(fmt.Sprint(v))[0]
	}
	return c.whole(f, v)
}

func (c *compiler) terms(b object) (query, error) {
	var parts []query
	for path, v := range b {
		if path == "boost" {
			continue
		}
		list, ok := v.([]any)
		if !ok {
			return nil, badQuery("[terms] query does not support [%s]", path)
		}
		for _, value := range list {
			q, err := c.value(path, value, false)
			if err != nil {
				return nil, err
			}
			parts = append(parts, q)
		}
	}
	if len(parts) == 0 {
		return nothing, nil
	}
	return best(parts), nil
}

// pattern finds values by their beginning or by a pattern of * and ?.
func (c *compiler) pattern(name string, b object) (query, error) {
	path, v, err := one(name, b)
	if err != nil {
		return nil, err
	}
	o, err := options(name, "value", v, "case_insensitive", "rewrite")
	if err != nil {
		return nil, err
	}
	f, text := c.ix.mapping.at(path), fmt.Sprint(o["value"])
	if f == nil || !f.leaf() {
		return nothing, nil
	}
	if f.Type != "text" && f.Type != "keyword" {
		return nil, atShard(
			"query_shard_exception",
			"Can only use %s queries on keyword and text fields - not on [%s] which is of type [%s]",
			name,
			path,
			f.Type,
		)
	}
	if name == "prefix" {
		return f.between(text, text+"\xff\xff\xff\xff", false), nil
	}
	return places(f, func(t *terms, each func(int)) {
		for i, k := range t.keys {
			if wild(text, k) {
				each(i)
			}
		}
	}), nil
}

// wild matches a pattern with * and ?.
func wild(pattern, text string) bool {
	first, rest, star := strings.Cut(pattern, "*")
	if len(text) < len(first) {
		return false
	}
	for i := range first {
		if first[i] != '?' && first[i] != text[i] {
			return false
		}
	}
	text = text[len(first):]
	if !star {
		return text == ""
	}
	for i := range len(text) + 1 {
		if wild(rest, text[i:]) {
			return true
		}
	}
	return false
}

func (c *compiler) between(b object) (query, error) {
	path, v, err := one("range", b)
	if err != nil {
		return nil, err
	}
	o, ok := v.(object)
	if !ok {
		return nil, badQuery("[range] query does not support [%s]", path)
	}
	f := c.ix.mapping.at(path)
	lowest, highest, open := "", "", true
	for name, bound := range o {
		if !slices.Contains(
			[]string{"gt", "gte", "lt", "lte", "from", "to", "boost", "format", "relation", "time_zone"},
			name,
		) {
			return nil, badQuery("[range] query does not support [%s]", name)
		}
		if bound == nil || f == nil || !f.leaf() ||
			slices.Contains([]string{"boost", "format", "relation", "time_zone"}, name) {
			continue
		}
		if f.Type == "geo_point" {
			return nil, failedToCreate("Field [%s] of type [geo_point] does not support range queries", path)
		}
		from, to, err := f.bounds(bound)
		if err != nil {
			return nil, err
		}
		switch name {
		case "gte", "from":
			lowest = from
		case "gt":
			lowest = to + "\x00"
			if from > to { // between two whole numbers
				lowest = from
			}
		case "lt":
			highest, open = from, false
		case "lte", "to":
			highest, open = to+"\x00", false
		}
	}
	if f == nil || !f.leaf() {
		return nothing, nil
	}
	return boosted(f.between(lowest, highest, open), o["boost"])
}

func (c *compiler) exists(b object) (query, error) {
	path, ok := b["field"].(string)
	if !ok {
		return nil, badQuery("[exists] must be provided with a [field]")
	}
	f := c.ix.mapping.at(path)
	if f == nil {
		return nothing, nil
	}
	var parts []query
	f.each(func(f *field) {
		if f.leaf() {
			parts = append(parts, f.between("", "", true))
		}
	})
	return best(append(parts, nothing)), nil
}

func (c *compiler) ids(b object) (query, error) {
	list, _ := b["values"].([]any)
	return func(s *segment) *found {
		out := nothing(s)
		out.same = 1
		for _, id := range list {
			if n, ok := slices.BinarySearchFunc(s.docs, fmt.Sprint(id), func(d *doc, id string) int { return strings.Compare(d.id, id) }); ok {
				out.docs.set(uint32(n))
			}
		}
		return out
	}, nil
}
