package standin

import (
	"fmt"
	bits64 "math/bits"
	"slices"
	"strconv"
	"sync"
)

// found is what a query finds in a segment: documents, and how well they fit. Without
// scores all fit alike.
type found struct {
	docs   bits
	scores []float32
	same   float32 // the score of all, without scores
}

// spare are scores that no search uses now, by their size as a power of two.
var spare [32]sync.Pool

// newScores gives a score of 0 to each of some documents.
func newScores(n int) []float32 {
	class := bits64.Len(uint(n))
	if old, ok := spare[class].Get().(*[]float32); ok {
		scores := (*old)[:n]
		clear(scores)
		return scores
	}
	return make([]float32, n, 1<<class)
}

// free gives the scores of a result back, which is no longer used.
func (f *found) free() {
	if scores := f.scores; scores != nil {
		spare[bits64.Len(uint(len(scores)))].Put(&scores)
		f.scores = nil
	}
}

func (f *found) score(n uint32) float32 {
	if f.scores != nil {
		return f.scores[n]
	}
	return f.same
}

// query finds documents of a segment, dead ones among them. What it gives belongs to the caller.
type query func(s *segment) *found

func nothing(s *segment) *found { return &found{docs: newBits(len(s.docs))} }
func everything(s *segment) *found {
	all := newBits(len(s.docs))
	for i := range all {
		all[i] = ^uint64(0)
	}
	if rest := len(s.docs) % 64; rest != 0 {
		all[len(all)-1] = 1<<rest - 1
	}
	return &found{docs: all, same: 1}
}

// maxClauses is how many clauses a query may have, as indices.query.bool.max_clause_count
// has it.
const maxClauses = 1024

// compiler reads a query for one index; the caller holds the index's lock.
type compiler struct {
	ix      *index
	seen    *snapshot
	clauses int
}

func badQuery(format string, args ...any) error {
	return &apiError{400, "parsing_exception", fmt.Sprintf(format, args...), nil}
}

func badNumber(text string) error {
	return &apiError{400, "number_format_exception", fmt.Sprintf("For input string: %q", text), nil}
}

// atShard is a failure that comes from the shards: what a query means to a field.
func atShard(kind, format string, args ...any) error {
	return &apiError{400, "search_phase_execution_exception", "all shards failed",
		&apiError{kind: kind, reason: fmt.Sprintf(format, args...)}}
}

func failedToCreate(format string, args ...any) error {
	return atShard("query_shard_exception", "failed to create query: "+format, args...)
}

func (c *compiler) compile(q any) (query, error) {
	o, ok := q.(object)
	if !ok {
		return nil, badQuery("Unknown key for a START_ARRAY in [query].")
	}
	if len(o) == 0 {
		return nil, &apiError{400, "illegal_argument_exception", "query malformed, empty clause found", nil}
	}
	if len(o) > 1 {
		return nil, badQuery("malformed query, expected [END_OBJECT] but found [FIELD_NAME]")
	}
	for name, body := range o {
		read, known := map[string]func(object) (query, error){
			"match_all":        func(b object) (query, error) { return c.all(b, everything) },
			"match_none":       func(b object) (query, error) { return c.all(b, nothing) },
			"match":            func(b object) (query, error) { return c.match("match", b) },
			"match_phrase":     func(b object) (query, error) { return c.match("match_phrase", b) },
			"multi_match":      c.multiMatch,
			"term":             c.term,
			"terms":            c.terms,
			"prefix":           func(b object) (query, error) { return c.pattern("prefix", b) },
			"wildcard":         func(b object) (query, error) { return c.pattern("wildcard", b) },
			"range":            c.between,
			"exists":           c.exists,
			"ids":              c.ids,
			"bool":             c.boolean,
			"constant_score":   c.constant,
			"dis_max":          c.best,
			"geo_distance":     c.near,
			"geo_bounding_box": c.inside,
		}[name]
		if !known {
			return nil, &apiError{400, "parsing_exception", fmt.Sprintf("unknown query [%s]", name),
				&apiError{
					kind:   "named_object_not_found_exception",
					reason: fmt.Sprintf("unknown field [%s]", name),
				}}
		}
		b, ok := body.(object)
		if !ok {
			return nil, badQuery("[%s] query malformed, no start_object after query name", name)
		}
		c.clauses++
		return read(b)
	}
	panic("unreachable")
}

func (c *compiler) all(b object, q query) (query, error) {
	for name := range b {
		if name != "boost" {
			return nil, &apiError{400, "parsing_exception", fmt.Sprintf("[match_all] unknown field [%s]", name),
				&apiError{
					kind:   "x_content_parse_exception",
					reason: fmt.Sprintf("[match_all] unknown field [%s]", name),
				}}
		}
	}
	return q, nil
}

// one gives the one field that a query names, and what it says about it.
func one(name string, b object) (string, any, error) {
	if len(b) == 0 {
		return "", nil, badQuery("No text specified for text query")
	}
	if len(b) > 1 {
		return "", nil, badQuery("[%s] query doesn't support multiple fields", name)
	}
	for path, v := range b {
		return path, v, nil
	}
	panic("unreachable")
}

// options reads what is written under a field in its long form; value is the member that the
// short form gives alone.
func options(name, value string, v any, known ...string) (object, error) {
	o, long := v.(object)
	if !long {
		return object{value: v}, nil
	}
	for option := range o {
		if option != value && option != "boost" && !slices.Contains(known, option) {
			return nil, badQuery("[%s] query does not support [%s]", name, option)
		}
	}
	return o, nil
}

func boosted(q query, boost any) (query, error) {
	if boost == nil {
		return q, nil
	}
	by, err := strconv.ParseFloat(fmt.Sprint(boost), 32)
	if err != nil {
		return nil, badNumber(fmt.Sprint(boost))
	}
	if by < 0 {
		return nil, &apiError{400, "illegal_argument_exception", "negative [boost] are not allowed", nil}
	}
	return times(q, float32(by)), nil
}

func times(q query, by float32) query {
	if by == 1 {
		return q
	}
	return func(s *segment) *found {
		f := q(s)
		f.same *= by
		for i := range f.scores {
			f.scores[i] *= by
		}
		return f
	}
}

// every finds what all of some queries find, with the sum of the scores.
func every(parts []query) query {
	return func(s *segment) *found {
		out := everything(s)
		out.same = 0
		for _, p := range parts {
			f := p(s)
			for i := range out.docs {
				out.docs[i] &= f.docs[i]
			}
			out.add(f, len(s.docs))
			f.free()
		}
		if len(parts) > 1 {
			out.forget()
		}
		return out
	}
}

// forget takes the scores of documents that are not found.
func (f *found) forget() {
	if f.scores == nil {
		return
	}
	for i, word := range f.docs {
		scores := f.scores[i*64 : min(i*64+64, len(f.scores))]
		switch word {
		case 0:
			clear(scores)
		case ^uint64(0):
		default:
			for n := range scores {
				if word&(1<<n) == 0 {
					scores[n] = 0
				}
			}
		}
	}
}

// add adds the scores of another result.
func (f *found) add(other *found, n int) {
	if other.scores == nil && f.scores == nil {
		f.same += other.same
		return
	}
	if f.scores == nil {
		f.scores = newScores(n)
		for i := range f.scores {
			f.scores[i] = f.same
		}
	}
	if other.scores == nil {
		other.docs.each(func(n uint32) { f.scores[n] += other.same })
		return
	}
	for i, v := range other.scores {
		f.scores[i] += v
	}
}

// anyOf finds what at least one of some queries finds, with the sum of the scores.
func anyOf(parts []query) query { return atLeast(1, parts) }

func atLeast(least int, parts []query) query {
	return func(s *segment) *found {
		out := nothing(s)
		out.scores = newScores(len(s.docs))
		if least > 1 {
			hits := make([]uint16, len(s.docs))
			for _, p := range parts {
				f := p(s)
				f.docs.each(func(n uint32) {
					if hits[n]++; int(hits[n]) >= least {
						out.docs.set(n)
					}
					out.scores[n] += f.score(n)
				})
				f.free()
			}
			return out
		}
		for _, p := range parts {
			f := p(s)
			for i := range out.docs {
				out.docs[i] |= f.docs[i]
			}
			out.add(f, len(s.docs))
			f.free()
		}
		return out
	}
}

// best finds what at least one of some queries finds, with the best of the scores.
func best(parts []query) query {
	if len(parts) == 1 {
		return parts[0]
	}
	return func(s *segment) *found {
		out := nothing(s)
		out.scores = newScores(len(s.docs))
		for _, p := range parts {
			f := p(s)
			for i := range out.docs {
				out.docs[i] |= f.docs[i]
			}
			if f.scores == nil {
				f.docs.each(func(n uint32) { out.scores[n] = max(out.scores[n], f.same) })
				continue
			}
			for i, v := range f.scores { // what is not found has none
				if v > out.scores[i] {
					out.scores[i] = v
				}
			}
			f.free()
		}
		return out
	}
}

func (c *compiler) boolean(b object) (query, error) {
	parts := map[string][]query{}
	for name, v := range b {
		switch name {
		case "must", "should", "filter", "must_not":
			list, ok := v.([]any)
			if _, single := v.(object); single {
				list, ok = []any{v}, true
			}
			if !ok {
				return nil, &apiError{
					400,
					"x_content_parse_exception",
					fmt.Sprintf("[bool] %s doesn't support values of this type", name),
					nil,
				}
			}
			for _, clause := range list {
				q, err := c.compile(clause)
				if api, is := err.(*apiError); is && api.kind == "parsing_exception" {
					return nil, &apiError{
						400,
						"x_content_parse_exception",
						fmt.Sprintf("[bool] failed to parse field [%s]", name),
						&apiError{kind: "parsing_exception", reason: api.reason},
					}
				}
				if err != nil {
					return nil, err
				}
				parts[name] = append(parts[name], q)
			}
		case "minimum_should_match", "adjust_pure_negative":
		case "boost":
			if _, err := boosted(nothing, v); err != nil {
				return nil, &apiError{
					400,
					"x_content_parse_exception",
					"[bool] failed to parse field [boost]",
					err.(*apiError),
				}
			}
		default:
			return nil, &apiError{
				400,
				"x_content_parse_exception",
				fmt.Sprintf("[bool] unknown field [%s]", name),
				nil,
			}
		}
	}
	if c.clauses > maxClauses {
		return nil, failedToCreate("maxClauseCount is set to %d", maxClauses)
	}
	least := 0
	if len(parts["must"]) == 0 && len(parts["filter"]) == 0 {
		least = 1
	}
	if v, ok := b["minimum_should_match"]; ok {
		least, _ = strconv.Atoi(fmt.Sprint(v)) // of a share nothing is simulated
	}
	must, should := every(parts["must"]), parts["should"]
	some := atLeast(least, should)
	return boosted(func(s *segment) *found {
		out := must(s)
		if len(parts["must"]) == 0 && len(parts["filter"]) == 0 && len(should) == 0 {
			out.same = 1
		}
		for _, p := range parts["filter"] {
			f := p(s)
			for i := range out.docs {
				out.docs[i] &= f.docs[i]
			}
			f.free()
		}
		for _, p := range parts["must_not"] {
			f := p(s)
			for i := range out.docs {
				out.docs[i] &^= f.docs[i]
			}
			f.free()
		}
		if len(should) > 0 {
			f := some(s)
			if least > 0 {
				for i := range out.docs {
					out.docs[i] &= f.docs[i]
				}
			}
			out.add(f, len(s.docs))
			f.free()
		}
		return out
	}, b["boost"])
}

func (c *compiler) constant(b object) (query, error) {
	q, err := c.compile(b["filter"])
	if err != nil {
		return nil, err
	}
	return boosted(func(s *segment) *found {
		f := q(s)
		f.free()
		return &found{docs: f.docs, same: 1}
	}, b["boost"])
}

func (c *compiler) best(b object) (query, error) {
	list, _ := b["queries"].([]any)
	var parts []query
	for _, clause := range list {
		q, err := c.compile(clause)
		if err != nil {
			return nil, err
		}
		parts = append(parts, q)
	}
	return boosted(best(append(parts, nothing)), b["boost"])
}
