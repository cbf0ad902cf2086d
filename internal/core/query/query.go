// Package query reads what people write to search an index, and checks it against the index's
// fields.
package query

import (
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"

	"pingo/internal/core/definition"
	"pingo/internal/core/shape"
)

// Query is a search. Every word of Text is found in some searched field, as the field matches,
// and the words of every phrase in a row in one field. Without text and phrases all documents
// are found.
type Query struct {
	Text    string
	Phrases []string
	// Any: one of the words and phrases is enough.
	Any     bool
	Filters []Filter
	Order   []Order
	// Facets are fields whose values are counted over all that is found.
	Facets []string
	Limit  int
}

// Filter keeps documents in which some value of a field is one of Values, lies between From and
// To, or is a place in a circle or a box. One of the four ways is set.
type Filter struct {
	Path     string
	Values   []string
	From, To *Bound
	Near     *Circle
	Within   *Box
}

// Bound is one end of a range: a number, or a day or moment as ISO 8601 writes it.
type Bound struct {
	Value string
	// Open: the value itself is not in the range.
	Open bool
}

// Circle is what lies within a radius around a place.
type Circle struct{ Latitude, Longitude, Metres float64 }

// Box is what lies between two parallels and two meridians. A box across the 180th meridian
// has a West that is larger than its East.
type Box struct{ South, West, North, East float64 }

// Order sorts by a field, documents without it last.
type Order struct {
	Path       string
	Descending bool
}

// MaxFilters and MaxValues are how many filters a search may have, and how many values one of
// them.
const (
	MaxFilters = 50
	MaxValues  = 200
	maxOrder   = 20
)

// Text takes the phrases, which are in quotation marks, out of a text. A mark that is not
// closed is a letter like others.
func Text(text string) (words string, phrases []string) {
	var rest strings.Builder
	for {
		before, after, open := strings.Cut(text, `"`)
		phrase, then, closed := strings.Cut(after, `"`)
		if !open || !closed {
			rest.WriteString(text)
			return strings.Join(strings.Fields(rest.String()), " "), phrases
		}
		rest.WriteString(before + " ")
		if phrase = strings.Join(strings.Fields(phrase), " "); phrase != "" {
			phrases = append(phrases, phrase)
		}
		text = then
	}
}

// Check sees that an index has every field in the role that a search uses it in.
func Check(s *shape.Shape, order []Order, facets []string) error {
	if n := max(len(order), len(facets)); n > maxOrder {
		return fmt.Errorf("a search may have %d sorts, and as many facets, not %d", maxOrder, n)
	}
	for _, o := range order {
		if _, err := field(s, o.Path, "sort", func(f shape.Placed) bool { return f.Sort }); err != nil {
			return err
		}
	}
	for _, path := range facets {
		if _, err := field(s, path, "facet", func(f shape.Placed) bool { return f.Facet }); err != nil {
			return err
		}
	}
	return nil
}

// field finds a field that has a role.
func field(s *shape.Shape, path, role string, has func(f shape.Placed) bool) (shape.Placed, error) {
	if path == definition.RowsField && role != "sort" && s.Trees[0].Name != "" {
		return shape.Placed{Path: path, Field: shape.Field{Type: shape.Keyword}}, nil
	}
	var known []string
	for _, f := range s.Fields() {
		if !has(f) {
			continue
		}
		if f.Path == path {
			return f, nil
		}
		known = append(known, f.Path)
	}
	words := fmt.Sprintf(
		"index %s has no field %q with the role %s: %s",
		s.Index,
		path,
		role,
		definition.Nearest(path, known),
	)
	return shape.Placed{}, fmt.Errorf("%s", strings.TrimSuffix(words, ": "))
}

// ways are the comparisons of a filter, the longer ones first.
var ways = []string{">=", "<=", ">", "<", "="}

// Split takes a filter apart: a field, a comparison and what it is compared with.
func Split(text string) (path, way, value string, err error) {
	at := strings.IndexAny(text, "<>=")
	if at <= 0 {
		return "", "", "", fmt.Errorf(
			"a filter is FIELD=VALUE, FIELD>=VALUE and so on, not %q", text)
	}
	for _, w := range ways {
		if value, ok := strings.CutPrefix(text[at:], w); ok {
			return text[:at], w, value, nil
		}
	}
	panic("unreachable")
}

// ReadFilter reads a filter of an index: FIELD=VALUE, FIELD=ONE|ANOTHER, FIELD=FROM..TO,
// FIELD>=VALUE and the like, FIELD=near(LATITUDE,LONGITUDE,RADIUS),
// FIELD=within(SOUTH,WEST,NORTH,EAST).
func ReadFilter(s *shape.Shape, text string) (Filter, error) {
	path, way, value, err := Split(text)
	if err != nil {
		return Filter{}, err
	}
	f, err := field(s, path, "filter", func(f shape.Placed) bool { return f.Filter || f.Facet })
	if err != nil {
		return Filter{}, err
	}
	out, err := readValue(f.Type, way, value)
	if err != nil {
		return Filter{}, fmt.Errorf("filter %s: %w", text, err)
	}
	out.Path = path
	return out, nil
}

func readValue(t shape.Type, way, value string) (Filter, error) {
	ordered := t == shape.Integer || t == shape.Decimal || t == shape.Date || t == shape.Timestamp
	switch {
	case t == shape.Geo && way == "=":
		return readPlace(value)
	case t == shape.Geo:
		return Filter{}, fmt.Errorf("a place is asked for by %s", placeForms)
	case way != "=" && !ordered:
		return Filter{}, fmt.Errorf("values of type %s have no order; use =", t)
	case way != "=":
		return readRange(t, way, value)
	}
	if low, high, is := strings.Cut(value, ".."); is && ordered {
		out := Filter{}
		if low != "" {
			from, err := readRange(t, ">=", low)
			if err != nil {
				return Filter{}, err
			}
			out.From = from.From
		}
		if high != "" {
			to, err := readRange(t, "<=", high)
			if err != nil {
				return Filter{}, err
			}
			out.To = to.To
		}
		if low == "" && high == "" {
			return Filter{}, fmt.Errorf("a range has a beginning or an end: 10..20, 10.., ..20")
		}
		return out, nil
	}
	values := alternatives(value)
	if len(values) > MaxValues {
		return Filter{}, fmt.Errorf(
			"there are %d values, and at most %d are allowed",
			len(values),
			MaxValues,
		)
	}
	if len(values) == 1 && (t == shape.Date || t == shape.Timestamp) {
		first, next, err := moment(values[0])
		if err != nil {
			return Filter{}, err
		}
		return Filter{From: bound(t, first, false), To: lastOf(t, first, next)}, nil
	}
	for i, v := range values {
		var err error
		if values[i], err = readScalar(t, v); err != nil {
			return Filter{}, err
		}
	}
	return Filter{Values: values}, nil
}

// alternatives are the values between bars; \| is a bar in a value.
func alternatives(text string) []string {
	var out []string
	var one strings.Builder
	for i := 0; i < len(text); i++ {
		switch {
		case text[i] == '\\' && i+1 < len(text) && (text[i+1] == '|' || text[i+1] == '\\'):
			i++
			one.WriteByte(text[i])
		case text[i] == '|':
			out = append(out, one.String())
			one.Reset()
		default:
			one.WriteByte(text[i])
		}
	}
	return append(out, one.String())
}

// readScalar checks a value against a type.
func readScalar(t shape.Type, v string) (string, error) {
	switch t {
	case shape.Integer:
		if _, err := strconv.ParseInt(strings.TrimPrefix(v, "+"), 10, 64); err != nil ||
			strings.HasPrefix(v, "+-") {
			return "", fmt.Errorf("%q is no whole number", v)
		}
		return strings.TrimPrefix(v, "+"), nil
	case shape.Decimal:
		if n, err := strconv.ParseFloat(v, 64); err != nil || math.IsInf(n, 0) || math.IsNaN(n) ||
			strings.ContainsAny(v, "xX_pP") {
			return "", fmt.Errorf("%q is no number", v)
		}
		return strings.TrimPrefix(v, "+"), nil
	case shape.Boolean:
		if v != "true" && v != "false" {
			return "", fmt.Errorf("%q is neither true nor false", v)
		}
	case shape.Date, shape.Timestamp:
		first, next, err := moment(v)
		if err != nil {
			return "", err
		}
		if one := lastOf(t, first, next); !next.Equal(first) && (t != shape.Date || next.After(first.AddDate(0, 0, 1))) {
			return "", fmt.Errorf(
				"%q is more than one %s, up to %s; write each value of a list in full, or use FROM..TO", v, t, one.Value)
		}
		return bound(t, first, false).Value, nil
	}
	return v, nil
}

func readRange(t shape.Type, way, v string) (Filter, error) {
	from, open := strings.HasPrefix(way, ">"), len(way) == 1
	var b *Bound
	switch t {
	case shape.Date, shape.Timestamp:
		first, next, err := moment(v)
		if err != nil {
			return Filter{}, err
		}
		switch way {
		case ">=":
			b = bound(t, first, false)
		case "<":
			b = bound(t, first, true)
		case ">":
			if b = bound(t, next, false); next.Equal(first) {
				b.Open = true
			}
		case "<=":
			b = lastOf(t, first, next)
		}
	default:
		number, err := readScalar(shape.Decimal, v)
		if err != nil {
			return Filter{}, err
		}
		b = &Bound{number, open}
	}
	if from {
		return Filter{From: b}, nil
	}
	return Filter{To: b}, nil
}

const placeForms = "near(LATITUDE,LONGITUDE,RADIUS), such as near(46.5,8.5,20km), or within(SOUTH,WEST,NORTH,EAST)"

func readPlace(text string) (Filter, error) {
	name, inner, ok := strings.Cut(text, "(")
	inner, closed := strings.CutSuffix(inner, ")")
	parts := strings.Split(inner, ",")
	if !ok || !closed || name == "near" && len(parts) != 3 || name == "within" && len(parts) != 4 ||
		name != "near" && name != "within" {
		return Filter{}, fmt.Errorf("a place is asked for by %s", placeForms)
	}
	degree := func(text string, most float64) (float64, error) {
		n, err := strconv.ParseFloat(strings.TrimSpace(text), 64)
		if err != nil || math.Abs(n) > most || math.IsNaN(n) {
			return 0, fmt.Errorf(
				"%q is no number of degrees from -%g to %g",
				strings.TrimSpace(text),
				most,
				most,
			)
		}
		return n, nil
	}
	latitude, err := degree(parts[0], 90)
	if err != nil {
		return Filter{}, err
	}
	longitude, err := degree(parts[1], 180)
	if err != nil {
		return Filter{}, err
	}
	if name == "near" {
		metres, err := distance(strings.TrimSpace(parts[2]))
		return Filter{Near: &Circle{latitude, longitude, metres}}, err
	}
	north, err := degree(parts[2], 90)
	if err != nil {
		return Filter{}, err
	}
	east, err := degree(parts[3], 180)
	if err != nil {
		return Filter{}, err
	}
	if north < latitude {
		return Filter{}, fmt.Errorf(
			"the box ends in the north (%g) before it begins in the south (%g)",
			north,
			latitude,
		)
	}
	return Filter{Within: &Box{South: latitude, West: longitude, North: north, East: east}}, nil
}

// distance reads a length in m, km or mi; without a unit in metres.
func distance(text string) (float64, error) {
	units := []struct {
		name   string
		metres float64
	}{{"km", 1000}, {"mi", 1609.344}, {"m", 1}, {"", 1}}
	at := slices.IndexFunc(units, func(u struct {
		name   string
		metres float64
	}) bool {
		return strings.HasSuffix(text, u.name)
	})
	n, err := strconv.ParseFloat(strings.TrimSpace(strings.TrimSuffix(text, units[at].name)), 64)
	if err != nil || n <= 0 || math.IsInf(n, 0) || math.IsNaN(n) {
		return 0, fmt.Errorf("%q is no distance, such as 500m, 20km or 5mi", text)
	}
	return n * units[at].metres, nil
}
