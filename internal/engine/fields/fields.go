// Package fields is what engines share that keep documents as they are and know a few types of values: how a document is
// checked against its shape, and the fields that Pingo adds for what the engine cannot ask of the document's own.
package fields

import (
	"bytes"
	"cmp"
	"encoding/json"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"pingo/internal/core/definition"
	"pingo/internal/core/shape"
)

// Layout is how the documents of a shape lie in an engine.
type Layout struct {
	Shape *shape.Shape
	// Fields by path, with their search weights, and Objects that have fields below them.
	Fields  map[string]*shape.Placed
	Objects map[string]bool
}

// Of lays out a shape.
func Of(s *shape.Shape) *Layout {
	l := &Layout{Shape: s, Fields: map[string]*shape.Placed{}, Objects: map[string]bool{}}
	for _, t := range s.Trees {
		for _, n := range t.Nodes[1:] {
			if !n.List {
				l.Objects[t.Path(n)] = true
			}
		}
	}
	searched := map[string]float64{}
	for _, f := range s.Searched() {
		searched[f.Path] = f.Search
	}
	for _, f := range s.Fields() {
		f.Search = searched[f.Path]
		l.Fields[f.Path] = &f
	}
	if s.Trees[0].Name != "" {
		l.Fields[definition.RowsField] = &shape.Placed{
			Path: definition.RowsField, Field: shape.Field{Name: definition.RowsField, Type: shape.Keyword, Filter: true, Facet: true},
		}
	}
	return l
}

// IsText reports whether a field holds texts.
func IsText(f *shape.Placed) bool { return f.Type == shape.Text || f.Type == shape.Keyword }

// IsTime reports whether a field holds days or moments.
func IsTime(f *shape.Placed) bool { return f.Type == shape.Date || f.Type == shape.Timestamp }

// MatchOf is how a searched field is matched; a keyword is one word.
func MatchOf(f *shape.Placed) shape.Match {
	if f.Type == shape.Keyword && (f.Match == "" || f.Match == shape.Words) {
		return shape.Exact
	}
	return cmp.Or(f.Match, shape.Words)
}

// Role is what a field is for that Pingo adds to documents.
type Role string

// The roles of added fields.
const (
	Beginnings Role = "begin" // the beginnings of words
	Parts      Role = "part"  // all parts of words
	Whole      Role = "is"    // a mark of the value as it is written
	Moments    Role = "time"  // a number for a day or moment
	Places     Role = "geo"   // latitude and longitude
)

// Added names a field that Pingo adds for another one.
func Added(role Role, path string) string {
	return "pingo_" + string(role) + "_" + strings.ReplaceAll(path, ".", "__")
}

// IsAdded reports whether a member of a document is one that Pingo adds, and not one that a definition or a check asks for.
func IsAdded(name string) bool {
	return strings.HasPrefix(name, "pingo_") && name != definition.FingerprintField && name != definition.RowsField
}

// Roles are those of the fields that Pingo adds for a field.
func Roles(f *shape.Placed) (out []Role) {
	searched := IsText(f) && f.Search > 0
	if searched && (f.Match == shape.Prefix || f.Match == shape.Infix) {
		out = append(out, Beginnings)
	}
	if searched && f.Match == shape.Infix {
		out = append(out, Parts)
	}
	if IsText(f) && (f.Filter || f.Facet) {
		out = append(out, Whole)
	}
	if IsTime(f) && f.Whole() {
		out = append(out, Moments)
	}
	if f.Type == shape.Geo && f.Whole() {
		out = append(out, Places)
	}
	return out
}

// Searched is a field that words are searched in.
type Searched struct {
	Name   string
	Path   string
	Tier   int // 0 for whole words, 1 for beginnings, 2 for parts
	Weight float64
}

// Searched lists the fields that words are searched in, those that count most first: whole words, then beginnings, then
// parts, each by the weights of the definition.
func (l *Layout) Searched() []Searched {
	var all []Searched
	for path, f := range l.Fields {
		if f.Search == 0 || !IsText(f) {
			continue
		}
		all = append(all, Searched{path, path, 0, f.Search})
		for _, role := range Roles(f) {
			switch role {
			case Beginnings:
				all = append(all, Searched{Added(role, path), path, 1, f.Search})
			case Parts:
				all = append(all, Searched{Added(role, path), path, 2, f.Search})
			}
		}
	}
	slices.SortFunc(all, func(a, b Searched) int {
		return cmp.Or(cmp.Compare(a.Tier, b.Tier), cmp.Compare(b.Weight, a.Weight), cmp.Compare(a.Name, b.Name))
	})
	return all
}

// longestPiece is how many letters the beginnings and parts of words have at most.
const longestPiece = 40

// Pieces lists the beginnings of all words of some texts, or all parts of the words, each once.
func Pieces(texts []any, inside bool) []any {
	out, seen := []any{}, map[string]bool{}
	for _, text := range texts {
		for _, w := range strings.Fields(strings.ToLower(text.(string))) {
			word := []rune(w)
			for from := range word {
				for to := from + 1; to <= min(len(word), from+longestPiece); to++ {
					if piece := string(word[from:to]); !seen[piece] {
						seen[piece] = true
						out = append(out, piece)
					}
				}
				if !inside {
					break
				}
			}
		}
	}
	return out
}

// moment is what documents hold for days and moments: ISO 8601, years of more than four digits and before the first with a sign.
var moment = regexp.MustCompile(`^([+-]?\d{4,9})-(\d\d)-(\d\d)(?:T(\d\d):(\d\d)(?::(\d\d)(?:\.(\d{1,9}))?)?Z?)?$`)

// Time reads a day or moment; ok is false for other texts.
func Time(text string) (t time.Time, ok bool) {
	m := moment.FindStringSubmatch(text)
	if m == nil {
		return t, false
	}
	part := func(i int) int {
		n, _ := strconv.Atoi(m[i]) // they are digits
		return n
	}
	nanos, _ := strconv.Atoi((m[7] + "000000000")[:9])
	return time.Date(part(1), time.Month(part(2)), part(3), part(4), part(5), part(6), nanos, time.UTC), true
}

// Refusal says why a document does not fit its shape.
type Refusal struct{ Kind, Reason string }

func (r *Refusal) Error() string { return r.Reason }

// Values takes a document apart: its members, and the values of all fields by path. A field that the shape does not know, or
// a value that is not of its field's type, is a Refusal.
func (l *Layout) Values(body []byte) (doc map[string]any, values map[string][]any, err error) {
	decoder := json.NewDecoder(bytes.NewReader(body))
	decoder.UseNumber()
	if err := decoder.Decode(&doc); err != nil {
		return nil, nil, &Refusal{"not_json", "the document is not JSON: " + err.Error()}
	}
	values = map[string][]any{}
	return doc, values, l.collect(doc, "", values)
}

func (l *Layout) collect(v any, path string, into map[string][]any) error {
	f := l.Fields[path]
	switch v := v.(type) {
	case nil:
		return nil
	case map[string]any:
		if f != nil && f.Type == shape.Object {
			return nil
		}
		if f != nil || path != "" && !l.Objects[path] {
			return l.misfit(path, v)
		}
		for key, child := range v {
			at := strings.TrimPrefix(path+"."+key, ".")
			if at == definition.FingerprintField {
				continue
			}
			if l.Fields[at] == nil && !l.Objects[at] {
				return &Refusal{"unknown_field", fmt.Sprintf("the document has a field %s, which the edition does not", at)}
			}
			if err := l.collect(child, at, into); err != nil {
				return err
			}
		}
		return nil
	case []any:
		if f != nil && (f.Type == shape.Object || f.Type == shape.Geo && isPair(v)) {
			return l.value(f, path, v, into)
		}
		for _, child := range v {
			if err := l.collect(child, path, into); err != nil {
				return err
			}
		}
		return nil
	}
	if f == nil {
		return l.misfit(path, v)
	}
	return l.value(f, path, v, into)
}

func isPair(v []any) bool {
	if len(v) != 2 {
		return false
	}
	_, number := v[0].(json.Number)
	return number
}

func (l *Layout) value(f *shape.Placed, path string, v any, into map[string][]any) error {
	number, isNumber := v.(json.Number)
	text, isText := v.(string)
	fits := false
	switch f.Type {
	case shape.Text, shape.Keyword:
		fits = isText
	case shape.Integer:
		_, err := strconv.ParseInt(number.String(), 10, 64)
		fits = isNumber && err == nil
	case shape.Decimal:
		_, err := number.Float64()
		fits = isNumber && err == nil
	case shape.Boolean:
		_, fits = v.(bool)
	case shape.Date, shape.Timestamp:
		_, fits = Time(text)
		fits = fits && isText
	case shape.Geo:
		fits = isPlace(v)
	case shape.Object:
		return nil
	}
	if !fits {
		return l.misfit(path, v)
	}
	into[path] = append(into[path], v)
	return nil
}

func (l *Layout) misfit(path string, v any) error {
	shown, err := json.Marshal(v)
	if err != nil {
		return err
	}
	kind := "an object"
	if f := l.Fields[path]; f != nil {
		kind = string(f.Type)
	}
	return &Refusal{"wrong_type", fmt.Sprintf("field %s is %s, which %.60s is not", path, kind, shown)}
}

func isPlace(v any) bool {
	pair, ok := v.([]any)
	if !ok || len(pair) != 2 {
		return false
	}
	for i, limit := range []float64{180, 90} {
		number, ok := pair[i].(json.Number)
		f, err := number.Float64()
		if !ok || err != nil || f < -limit || f > limit {
			return false
		}
	}
	return true
}
