package tiny

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"math"
	"slices"
	"strconv"
	"strings"
	"sync"

	"pingo/internal/core/definition"
	"pingo/internal/core/query"
	"pingo/internal/core/retry"
	"pingo/internal/core/shape"
	"pingo/internal/engine"

	"github.com/tidwall/gjson"
)

// EngineKind is the kind of engines that keep everything in one place in memory.
func EngineKind() engine.Kind {
	e := NewEngine()
	return engine.Kind{Name: "tiny", Schemes: []string{"tiny"}, Keys: `{}`,
		Open:      func(engine.Config) (engine.Engine, error) { return e, nil },
		Limits:    func(*shape.Shape) (refused, notes []string) { return nil, nil },
		InPlace:   func(old, new *shape.Shape) bool { return true },
		Recognize: func(_ context.Context, c engine.Config) (bool, error) { return strings.HasPrefix(c.URL, "tiny:"), nil }}
}

// NewEngine is an engine that holds nothing. It refuses older versions.
func NewEngine() engine.Engine {
	return &search{editions: map[string]*edition{}, names: map[string]string{}}
}

// NewPlainEngine is an engine that holds nothing and keeps what comes last.
func NewPlainEngine() engine.Engine {
	s := &search{editions: map[string]*edition{}, names: map[string]string{}, plain: true}
	return plain{s}
}

// plain has not what search can do beyond the port.
type plain struct{ engine.Engine }

// Snapshot copies what an engine of this package holds, and returns what puts the engine back to that: editions that it
// holds then are other copies than before.
func Snapshot(e engine.Engine) (restore func()) {
	switch e := e.(type) {
	case *search:
		return e.snapshot()
	case plain:
		return Snapshot(e.Engine)
	case *exchanging:
		e.mu.Lock()
		defer e.mu.Unlock()
		held, bears, public := e.held.snapshot(), maps.Clone(e.bears), maps.Clone(e.public)
		return func() {
			e.mu.Lock()
			defer e.mu.Unlock()
			held()
			e.bears, e.public = maps.Clone(bears), maps.Clone(public)
		}
	}
	panic(fmt.Sprintf("%T is no engine of this package", e))
}

func (s *search) snapshot() (restore func()) {
	s.mu.Lock()
	defer s.mu.Unlock()
	editions, names := map[string]edition{}, maps.Clone(s.names)
	for name, e := range s.editions {
		editions[name] = edition{fields: e.fields, docs: maps.Clone(e.docs)}
	}
	return func() {
		s.mu.Lock()
		defer s.mu.Unlock()
		s.editions, s.names = map[string]*edition{}, maps.Clone(names)
		for name, e := range editions {
			s.births++
			s.editions[name] = &edition{birth: s.births, fields: e.fields, docs: maps.Clone(e.docs)}
		}
	}
}

type search struct {
	plain bool // takes any version

	mu       sync.Mutex // guards what follows
	editions map[string]*edition
	names    map[string]string
	births   int // of editions
}

type edition struct {
	birth  int
	fields map[string]shape.Placed
	docs   map[string]engine.Document // also deleted ones, for their versions
}

func (s *search) Describe(context.Context) (string, error) { return "a tiny engine", nil }
func (s *search) RefusesOlderVersions()                    {}
func (s *search) Close()                                   {}

func (s *search) Prepare(_ context.Context, name string, sh *shape.Shape) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.editions[name] == nil {
		s.births++
		s.editions[name] = &edition{birth: s.births, fields: map[string]shape.Placed{}, docs: map[string]engine.Document{}}
		for _, f := range sh.Fields() {
			s.editions[name].fields[f.Path] = f
		}
	}
	return nil
}

func (s *search) Copy(_ context.Context, name string) (string, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if e := s.editions[name]; e != nil {
		return fmt.Sprint(e.birth), nil
	}
	return "", nil
}

func (s *search) FinishFill(context.Context, string, *shape.Shape) error { return nil }

func (s *search) Drop(_ context.Context, name string) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	delete(s.editions, name)
	maps.DeleteFunc(s.names, func(_, edition string) bool { return edition == name })
	return nil
}

var errLost = &engine.Failure{Outcome: retry.Blocked, Message: "there is no such edition"}

func (s *search) Deliver(_ context.Context, name string, docs []engine.Document) ([]engine.Result, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	e := s.editions[name]
	out := make([]engine.Result, len(docs))
	if e == nil {
		return slices.Repeat([]engine.Result{{Outcome: retry.Blocked, Reason: errLost.Message}}, len(docs)), nil
	}
	for i, d := range docs {
		if known, ok := e.docs[d.Key]; ok && known.Version >= d.Version && !s.plain {
			out[i].Outcome, out[i].Held = retry.Newer, known.Version
			continue
		}
		if reason := e.misfit(d.Body); reason != "" {
			out[i] = engine.Result{Outcome: retry.Refused, Kind: "misfit", Reason: reason}
			continue
		}
		e.docs[d.Key] = engine.Document{Key: d.Key, Version: d.Version, Body: slices.Clone(d.Body)}
	}
	return out, nil
}

// misfit says why a document does not fit the edition's fields.
func (e *edition) misfit(body []byte) string {
	for path, list := range flat(body) {
		f, known := e.fields[path]
		for _, v := range list {
			number, isNumber := v.(json.Number)
			text, isText := v.(string)
			switch {
			case v == nil || f.Type == shape.Object:
			case !known:
				return "there is no field " + path
			case f.Type == shape.Integer && !isNumber,
				f.Type == shape.Date && (!isText || strings.Count(text, "-") < 2):
				return fmt.Sprintf("%s is no %s", path, f.Type)
			case f.Type == shape.Geo && isNumber:
				if n, err := number.Float64(); err != nil || n > 180 {
					return path + " is no place"
				}
			}
		}
	}
	return ""
}

// flat lists the values of a document by path.
func flat(body []byte) map[string][]any {
	out := map[string][]any{}
	var doc map[string]any
	decoder := json.NewDecoder(bytes.NewReader(body))
	decoder.UseNumber()
	if decoder.Decode(&doc) != nil {
		return out
	}
	var walk func(path string, v any)
	walk = func(path string, v any) {
		switch v := v.(type) {
		case map[string]any:
			for name, inner := range v {
				walk(strings.TrimPrefix(path+"."+name, "."), inner)
			}
		case []any:
			for _, inner := range v {
				walk(path, inner)
			}
		default:
			out[path] = append(out[path], v)
		}
	}
	for name, v := range doc {
		if name == "facts" { // an object whose members are not fields
			continue
		}
		if name != definition.FingerprintField && name != definition.RowsField {
			walk(name, v)
		}
	}
	return out
}

func (s *search) live(name string) []engine.Document {
	s.mu.Lock()
	defer s.mu.Unlock()
	if to, ok := s.names[name]; ok {
		name = to
	}
	var out []engine.Document
	if e := s.editions[name]; e != nil {
		for _, key := range slices.Sorted(maps.Keys(e.docs)) {
			if d := e.docs[key]; d.Body != nil {
				out = append(out, d)
			}
		}
	}
	return out
}

func (s *search) Refresh(context.Context, string) error { return nil }

func (s *search) Editions(context.Context) ([]string, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return slices.Sorted(maps.Keys(s.editions)), nil
}

func (s *search) Count(_ context.Context, name string) (int64, error) {
	return int64(len(s.live(name))), nil
}

func (s *search) Get(_ context.Context, name string, keys []string) (map[string]json.RawMessage, error) {
	out := map[string]json.RawMessage{}
	for _, d := range s.live(name) {
		if slices.Contains(keys, d.Key) {
			out[d.Key] = d.Body
		}
	}
	return out, nil
}

func (s *search) Fingerprints(ctx context.Context, name string, keys []string) (map[string]string, error) {
	docs, err := s.Get(ctx, name, keys)
	out := map[string]string{}
	for key, doc := range docs {
		out[key] = gjson.GetBytes(doc, definition.FingerprintField).String()
	}
	return out, err
}

func (s *search) Scan(_ context.Context, name string, each func(key, fingerprint string) error) error {
	for _, d := range s.live(name) {
		var fields map[string]any
		if err := json.Unmarshal(d.Body, &fields); err != nil {
			return err
		}
		if err := each(d.Key, fmt.Sprint(fields[definition.FingerprintField])); err != nil {
			return err
		}
	}
	return nil
}

func (s *search) Switch(_ context.Context, name, to string) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.editions[to] == nil {
		return errLost
	}
	s.names[name] = to
	return nil
}

func (s *search) Resolve(_ context.Context, name string) ([]string, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if to, ok := s.names[name]; ok {
		return []string{to}, nil
	}
	return nil, nil
}

// Search looks at every document, word by word.
func (s *search) Search(_ context.Context, name string, sh *shape.Shape, q query.Query) (engine.Hits, error) {
	hits := engine.Hits{Facets: map[string][]engine.Facet{}}
	if q.Limit == 0 {
		return hits, errors.New("a search without a limit")
	}
	type found struct {
		engine.Hit
		values map[string][]any
	}
	var all []found
	for _, d := range s.live(name) {
		f := found{engine.Hit{Key: d.Key, Document: d.Body}, flat(d.Body)}
		if f.Score = score(sh, f.values, q); f.Score > 0 && passes(f.values, q.Filters) {
			all = append(all, f)
		}
	}
	slices.SortStableFunc(all, func(a, b found) int {
		for _, o := range q.Order {
			c := compare(a.values[o.Path], b.values[o.Path])
			if o.Descending && len(a.values[o.Path]) > 0 && len(b.values[o.Path]) > 0 {
				c = -c
			}
			if c != 0 {
				return c
			}
		}
		return int(b.Score - a.Score)
	})
	hits.Total = int64(len(all))
	for i, f := range all {
		if i < q.Limit {
			hits.Hits = append(hits.Hits, f.Hit)
		}
		for _, path := range q.Facets {
			for _, v := range f.values[path] {
				if v == nil {
					continue
				}
				text := fmt.Sprint(v)
				at := slices.IndexFunc(hits.Facets[path], func(x engine.Facet) bool { return x.Value == text })
				if at < 0 {
					hits.Facets[path] = append(hits.Facets[path], engine.Facet{Value: text})
					at = len(hits.Facets[path]) - 1
				}
				hits.Facets[path][at].Documents++
			}
		}
	}
	for _, list := range hits.Facets {
		slices.SortFunc(list, func(a, b engine.Facet) int {
			if a.Documents != b.Documents {
				return int(b.Documents - a.Documents)
			}
			return strings.Compare(a.Value, b.Value)
		})
	}
	return hits, nil
}

func passes(values map[string][]any, filters []query.Filter) bool {
	for _, f := range filters {
		var places [][2]float64
		if f.Near != nil || f.Within != nil {
			places = placesIn(values[f.Path])
		}
		if !slices.ContainsFunc(values[f.Path], func(v any) bool { return v != nil && keeps(f, fmt.Sprint(v)) }) &&
			!slices.ContainsFunc(places, func(p [2]float64) bool { return around(f, p[1], p[0]) }) {
			return false
		}
	}
	return true
}

func keeps(f query.Filter, v string) bool {
	if f.From == nil && f.To == nil {
		return slices.Contains(f.Values, v)
	}
	fits := func(b *query.Bound, sign int) bool {
		if b == nil {
			return true
		}
		c := strings.Compare(v, b.Value)
		x, err1 := strconv.ParseFloat(v, 64)
		y, err2 := strconv.ParseFloat(b.Value, 64)
		if err1 == nil && err2 == nil {
			c = cmp.Compare(x, y)
		}
		return c*sign > 0 || c == 0 && !b.Open
	}
	return fits(f.From, 1) && fits(f.To, -1)
}

// placesIn reads numbers, of which two make a place, longitude first.
func placesIn(values []any) (out [][2]float64) {
	for i := 0; i+1 < len(values); i += 2 {
		lon, err1 := strconv.ParseFloat(fmt.Sprint(values[i]), 64)
		lat, err2 := strconv.ParseFloat(fmt.Sprint(values[i+1]), 64)
		if err1 == nil && err2 == nil {
			out = append(out, [2]float64{lon, lat})
		}
	}
	return out
}

// around is as good as a flat earth is.
func around(f query.Filter, lat, lon float64) bool {
	if f.Near != nil {
		const degree = 111_195
		x := (lon - f.Near.Longitude) * degree * math.Cos(lat*math.Pi/180)
		return math.Hypot(x, (lat-f.Near.Latitude)*degree) <= f.Near.Metres
	}
	across := lon >= f.Within.West && lon <= f.Within.East
	if f.Within.West > f.Within.East {
		across = lon >= f.Within.West || lon <= f.Within.East
	}
	return across && lat >= f.Within.South && lat <= f.Within.North
}

// compare orders by the first value, documents without one last.
func compare(a, b []any) int {
	text := func(list []any) string {
		if len(list) == 0 || list[0] == nil {
			return "\uffff"
		}
		if n, is := list[0].(json.Number); is {
			return fmt.Sprintf("%20s", n)
		}
		return fmt.Sprint(list[0])
	}
	return strings.Compare(text(a), text(b))
}

// score adds up the weights of the fields in which the words and phrases stand; 0 when one of
// them is in none, or all of them where one is enough. A synonym represents its word, and a
// whole word counts more.
func score(sh *shape.Shape, values map[string][]any, q query.Query) float64 {
	total, found := 1.0, false
	searched := sh.Searched()
	small := lower(values)
	for _, f := range searched {
		if f.Match == shape.Exact && q.Text != "" &&
			passes(small, []query.Filter{{Path: f.Path, Values: []string{strings.ToLower(q.Text)}}}) {
			return f.Search
		}
	}
	look := func(texts []string, whole bool) float64 {
		best := 0.0
		for _, f := range searched {
			for _, v := range small[f.Path] {
				for _, text := range texts {
					switch words := fmt.Sprint(v); {
					case f.Match == shape.Exact:
					case matches(shape.Words, words, text):
						best = max(best, 2*f.Search)
					case !whole && matches(f.Match, words, text):
						best = max(best, f.Search)
					}
				}
			}
		}
		return best
	}
	var wanted []float64
	for _, word := range strings.Fields(strings.ToLower(q.Text)) {
		wanted = append(wanted, look(synonyms(sh, word), false))
	}
	for _, phrase := range q.Phrases {
		wanted = append(wanted, look([]string{strings.ToLower(phrase)}, true))
	}
	for _, n := range wanted {
		if n == 0 && !q.Any {
			return 0
		}
		total, found = total+n, found || n > 0
	}
	if q.Any && !found && len(wanted) > 0 {
		return 0
	}
	return total
}

func lower(values map[string][]any) map[string][]any {
	out := map[string][]any{}
	for path, list := range values {
		for _, v := range list {
			if v != nil {
				out[path] = append(out[path], strings.ToLower(fmt.Sprint(v)))
			}
		}
	}
	return out
}

func matches(how shape.Match, text, words string) bool {
	switch padded := " " + strings.ReplaceAll(text, ",", " ") + " "; how {
	case shape.Infix:
		return strings.Contains(text, words)
	case shape.Prefix:
		return strings.Contains(padded, " "+words)
	default:
		return strings.Contains(padded, " "+words+" ")
	}
}

func synonyms(sh *shape.Shape, word string) []string {
	for _, group := range sh.Synonyms {
		if slices.Contains(group, word) {
			return group
		}
	}
	return []string{word}
}
