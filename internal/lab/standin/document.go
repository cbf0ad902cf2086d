package standin

import (
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"strconv"
	"strings"
	"unicode/utf8"
)

// maxListDepth is how deep lists may be nested directly in each other.
const maxListDepth = 20

// term is one value of a document by which searches find it.
type term struct {
	field *field
	key   string // in an order-preserving form, see keys.go
}

// read checks a document against the mapping and gives the terms that it is found by.
// Fields that are not known are added to the mapping where it is dynamic; the caller
// holds what guards the mapping.
func (ix *index) read(id string, source []byte) ([]term, *apiError) {
	s := &scanner{b: source}
	c := &checker{scanner: s, id: id, analysis: ix.analysis}
	if kind, err := s.peek(); err == nil && kind != objectToken {
		return nil, unreadable(
			&apiError{
				kind:   "not_x_content_exception",
				reason: "Compressor detection can only be called on some xcontent bytes",
			},
		)
	}
	if err := c.object(ix.mapping, "", ix.mapping.dynamic("true")); err != nil {
		if api, ok := err.(*apiError); ok {
			return nil, api
		}
		kind := "json_parse_exception"
		if errors.Is(err, errEnd) {
			kind = "json_e_o_f_exception"
		}
		return nil, unreadable(&apiError{kind: kind, reason: err.Error()})
	}
	if s.space(); s.i != len(s.b) {
		return nil, unreadable(&apiError{kind: "json_parse_exception", reason: s.bad("trailing text").Error()})
	}
	return c.terms, nil
}

func unreadable(why *apiError) *apiError {
	return &apiError{400, "mapper_parsing_exception", "failed to parse", why}
}

type checker struct {
	*scanner
	id       string
	analysis *analysis
	terms    []term
	lists    int    // nested directly in each other here
	fresh    *field // what was introduced last
}

var metadata = map[string]bool{
	"_id": true, "_source": true, "_routing": true, "_version": true, "_index": true, "_seq_no": true,
	"_field_names": true, "_ignored": true, "_nested_path": true,
}

// object reads an object's members; dynamic is what happens to unknown ones, which
// inner objects take over unless they say otherwise.
func (c *checker) object(f *field, path, dynamic string) error {
	seen := make([][]byte, 0, 16)
	return c.scanner.object(func(key []byte) error {
		for _, k := range seen {
			if string(k) == string(key) {
				return duplicate(key)
			}
		}
		seen = append(seen, key)
		if child, ok := f.Properties[string(key)]; ok {
			return c.value(child, path, string(key), dynamic)
		}
		return c.unknown(f, path, unquote(key), dynamic)
	})
}

// unknown reads a member whose name the mapping does not have as it stands.
func (c *checker) unknown(f *field, path, name, dynamic string) error {
	switch {
	case name == "":
		return unreadable(
			&apiError{kind: "illegal_argument_exception", reason: "field name cannot be an empty string"},
		)
	case strings.Trim(name, ".") == "":
		return unreadable(
			&apiError{
				kind:   "illegal_argument_exception",
				reason: "field name cannot contain only the character [.]",
			},
		)
	case path == "" && metadata[name]:
		return &apiError{400, "mapper_parsing_exception",
			fmt.Sprintf("failed to parse field [%s] of type [%s] in document with id '%s'", name, name, c.id),
			&apiError{
				kind: "mapper_parsing_exception",
				reason: fmt.Sprintf(
					"Field [%s] is a metadata field and cannot be added inside a document.",
					name,
				),
			}}
	}
	// A name with points is a way through objects.
	if first, rest, dotted := strings.Cut(name, "."); dotted {
		switch child := f.Properties[first]; {
		case child == nil:
		case rest == "":
			return c.value(child, path, first, dynamic)
		case child.Enabled != nil && !*child.Enabled:
			return c.skip()
		case child.leaf():
			return &apiError{400, "mapper_parsing_exception", fmt.Sprintf(
				"Could not dynamically add mapping for field [%s]. Existing mapping for [%s] must be of type object but found [%s].",
				path+name,
				path+first,
				child.Type,
			), nil}
		default:
			if inner, ok := child.Properties[rest]; ok {
				return c.value(inner, path+first+".", rest, child.dynamic(dynamic))
			}
			return c.unknown(child, path+first+".", rest, child.dynamic(dynamic))
		}
	}
	switch dynamic {
	case "strict":
		within := strings.TrimSuffix(path, ".")
		if within == "" {
			within = "_doc"
		}
		return &apiError{400, "strict_dynamic_mapping_exception", fmt.Sprintf(
			"mapping set to strict, dynamic introduction of [%s] within [%s] is not allowed",
			name,
			within,
		), nil}
	case "false":
		return c.skip()
	}
	return c.introduce(f, path, name, dynamic)
}

// introduce adds a field that the mapping does not know, by its first value.
func (c *checker) introduce(f *field, path, name, dynamic string) error {
	if first, rest, dotted := strings.Cut(name, "."); dotted {
		child := &field{path: path + first, Properties: map[string]*field{}}
		f.add(first, child)
		return c.introduce(child, path+first+".", rest, dynamic)
	}
	start := c.i
	kind, err := c.peek()
	if err != nil {
		return err
	}
	for at := *c.scanner; kind == arrayToken; { // by its first element
		at.take('[')
		if at.take(']') {
			return c.skip()
		}
		if kind, err = at.peek(); err != nil {
			return err
		}
		start = at.i
	}
	child := &field{path: path + name}
	switch kind {
	case nullToken:
		return c.skip()
	case objectToken:
		child.Properties = map[string]*field{}
	case stringToken:
		at := scanner{b: c.b, i: start}
		if v, err := at.str(); err == nil && looksLikeDate(v) {
			child.Type = "date"
			break
		}
		child.Type = "text"
		child.Fields = map[string]*field{
			"keyword": {Type: "keyword", IgnoreAbove: 256, path: path + name + ".keyword"},
		}
	case numberToken:
		child.Type = "long"
		at := scanner{b: c.b, i: start}
		if v, err := at.scalar(numberToken); err == nil && strings.ContainsAny(string(v), ".eE") {
			child.Type = "float"
		}
	default:
		child.Type = "boolean"
	}
	f.add(name, child)
	c.fresh = child
	return c.value(child, path, name, dynamic)
}

func looksLikeDate(v []byte) bool {
	_, _, err := parseDate(string(v))
	return err == nil && strings.Contains(string(v), "-")
}

func (c *checker) value(f *field, path, name, dynamic string) error {
	kind, err := c.peek()
	if err != nil {
		return err
	}
	if f.Enabled != nil && !*f.Enabled {
		if kind == arrayToken {
			return c.list(func() error { return c.value(f, path, name, dynamic) })
		}
		return c.skipStrictly()
	}
	switch {
	case kind == nullToken && (f.Type != "geo_point" || c.lists == 0):
		_, err := c.scalar(kind)
		return err
	case f.Type == "geo_point":
		return c.geo(f)
	case kind == arrayToken:
		return c.list(func() error { return c.value(f, path, name, dynamic) })
	case !f.leaf():
		if kind != objectToken {
			if c.lists > 0 {
				name = "null"
			}
			return &apiError{400, "mapper_parsing_exception", fmt.Sprintf(
				"object mapping for [%s] tried to parse field [%s] as object, but found a concrete value",
				f.path,
				name,
			), nil}
		}
		lists := c.lists
		c.lists = 0
		err := c.object(f, f.path+".", f.dynamic(dynamic))
		c.lists = lists
		return err
	case kind == objectToken:
		start := c.i
		if err := c.skip(); err != nil {
			return err
		}
		if f.Type == "text" || f.Type == "keyword" || f.Type == "date" {
			return c.refuse(
				f,
				c.b[start:c.i],
				&apiError{kind: "illegal_state_exception", reason: "Can't get text on a START_OBJECT"},
			)
		}
		return c.refuse(f, c.b[start:c.i], nil)
	}
	v, err := c.scalar(kind)
	if err != nil {
		return err
	}
	text := string(v)
	if kind == stringToken {
		text = unquote(v)
		for _, b := range v {
			if b < ' ' {
				return c.refuse(f, nil, nil) // an unescaped control character
			}
		}
		if !escapesAreRight(v) || !utf8.Valid(v) {
			return c.refuse(f, nil, nil)
		}
	}
	keys, why := f.keys(kind, text, c.analysis)
	if why != nil {
		if why.status != 0 {
			return why
		}
		return c.refuse(f, v, why)
	}
	for _, k := range keys {
		c.terms = append(c.terms, term{f, k})
	}
	for _, sub := range f.Fields {
		keys, why := sub.keys(kind, text, c.analysis)
		if why != nil {
			if why.status != 0 {
				return why
			}
			return c.refuse(sub, v, why)
		}
		for _, k := range keys {
			c.terms = append(c.terms, term{sub, k})
		}
	}
	return nil
}

func escapesAreRight(v []byte) bool {
	for i := 0; i < len(v); i++ {
		if v[i] == '\\' {
			i++
			if i == len(v) || !strings.ContainsRune(`"\/bfnrtu`, rune(v[i])) {
				return false
			}
		}
	}
	return true
}

func (c *checker) list(element func() error) error {
	if c.lists++; c.lists > maxListDepth {
		return unreadable(&apiError{kind: "parse_exception", reason: fmt.Sprintf(
			"The depth of the nested array field has exceeded the allowed limit of [%d]. This limit can be set by changing the [index.mapping.depth.limit] index level setting.",
			maxListDepth,
		)})
	}
	defer func() { c.lists-- }()
	return c.array(element)
}

// skipStrictly passes a value that is stored only; it must be JSON all the same.
func (c *checker) skipStrictly() error {
	kind, err := c.peek()
	if err != nil {
		return err
	}
	switch kind {
	case objectToken:
		seen := map[string]bool{}
		return c.scanner.object(func(key []byte) error {
			if seen[string(key)] {
				return duplicate(key)
			}
			seen[string(key)] = true
			return c.skipStrictly()
		})
	case arrayToken:
		return c.array(c.skipStrictly)
	}
	v, err := c.scalar(kind)
	if kind == numberToken && len(v) > maxDigits {
		return tooManyDigits(v)
	}
	return err
}

func (c *checker) refuse(f *field, v []byte, why *apiError) error {
	if f == c.fresh {
		return &apiError{
			400,
			"illegal_argument_exception",
			fmt.Sprintf("mapper [%s] cannot be changed from type [%s] to [text]", f.path, f.Type),
			nil,
		}
	}
	if why != nil && why.kind == "" {
		why = nil
	}
	return &apiError{400, "mapper_parsing_exception", fmt.Sprintf(
		"failed to parse field [%s] of type [%s] in document with id '%s'. Preview of field's value: '%.50s'",
		f.path, f.Type, c.id, v), why}
}

func (c *checker) geo(f *field) error {
	start := c.i
	if err := c.skip(); err != nil {
		return err
	}
	raw := json.RawMessage(c.b[start:c.i])
	places := []json.RawMessage{raw}
	var list []json.RawMessage
	if json.Unmarshal(raw, &list) == nil &&
		(len(list) == 0 || strings.ContainsAny(string(list[0][:1]), `[{n"`)) {
		places = list
	}
	for _, place := range places {
		lat, lon, why := parsePlace(place, f.path)
		if why != nil {
			if why.kind == "" {
				why = nil
			}
			return &apiError{
				400,
				"mapper_parsing_exception",
				fmt.Sprintf("failed to parse field [%s] of type [geo_point]", f.path),
				why,
			}
		}
		c.terms = append(c.terms, term{f, placeKey(lat, lon)})
	}
	return nil
}

// parsePlace reads [lon,lat], {"lat":…,"lon":…}, "lat,lon", a point of GeoJSON or of WKT,
// and takes any other word for a geohash.
func parsePlace(raw json.RawMessage, path string) (lat, lon float64, why *apiError) {
	var v any
	if err := json.Unmarshal(raw, &v); err != nil {
		return 0, 0, &apiError{kind: "parse_exception", reason: err.Error()}
	}
	bad := func(format string, args ...any) (float64, float64, *apiError) {
		return 0, 0, &apiError{kind: "parse_exception", reason: fmt.Sprintf(format, args...)}
	}
	number := func(v any) (float64, bool) {
		switch v := v.(type) {
		case float64:
			return v, true
		case string:
			f, err := strconv.ParseFloat(v, 64)
			return f, err == nil
		}
		return 0, false
	}
	ok1, ok2 := true, true
	switch v := v.(type) {
	case []any:
		if len(v) < 2 {
			return 0, 0, &apiError{}
		}
		lon, ok1 = v[0].(float64)
		lat, ok2 = v[1].(float64)
	case map[string]any:
		if coordinates, is := v["coordinates"].([]any); is && v["type"] == "Point" && len(coordinates) > 1 {
			lon, ok1 = number(coordinates[0])
			lat, ok2 = number(coordinates[1])
			break
		}
		for name := range v {
			if name != "lat" && name != "lon" {
				return bad("field must be either [lon|lat], [type|coordinates], or [geohash]")
			}
		}
		for _, name := range []string{"lat", "lon"} {
			if _, has := v[name]; !has && len(v) > 0 {
				return bad("field [%s] missing", name)
			}
		}
		lat, ok1 = number(v["lat"])
		lon, ok2 = number(v["lon"])
	case string:
		a, b, pair := strings.Cut(v, ",")
		switch {
		case v == "":
			return 0, 0, &apiError{kind: "parse_exception", reason: "empty geohash",
				cause: &apiError{kind: "illegal_argument_exception", reason: "empty geohash"}}
		case strings.HasPrefix(v, "POINT"):
			if n, err := fmt.Sscanf(v, "POINT (%g %g)", &lon, &lat); n != 2 || err != nil {
				return bad("expected a point")
			}
		case pair:
			lat, ok1 = number(strings.TrimSpace(a))
			lon, ok2 = number(strings.TrimSpace(b))
		case strings.Trim(strings.ToLower(v), "0123456789bcdefghjkmnpqrstuvwxyz") != "":
			reason := fmt.Sprintf("unsupported symbol in geohash [%s]", v)
			return 0, 0, &apiError{kind: "parse_exception", reason: reason, cause: &apiError{kind: "illegal_argument_exception", reason: reason}}
		}
	default:
		return bad("geo_point expected")
	}
	switch {
	case !ok1 || !ok2:
		return bad("latitude and longitude must be numbers")
	case lat < -90 || lat > 90:
		return 0, 0, &apiError{
			kind:   "illegal_argument_exception",
			reason: fmt.Sprintf("illegal latitude value [%s] for %s", float(lat), path),
		}
	case lon < -180 || lon > 180:
		return 0, 0, &apiError{
			kind:   "illegal_argument_exception",
			reason: fmt.Sprintf("illegal longitude value [%s] for %s", float(lon), path),
		}
	}
	return lat, lon, nil
}

// float writes a number as the server does, which never leaves out the decimal point.
func float(v float64) string {
	if s := strconv.FormatFloat(v, 'g', -1, 64); strings.ContainsAny(s, ".e") || math.IsInf(v, 0) ||
		math.IsNaN(v) {
		return s
	}
	return strconv.FormatFloat(v, 'f', 1, 64)
}

func duplicate(key []byte) error {
	//lint:ignore ST1005 these are the words of the engine that is stood in for
	return fmt.Errorf("Duplicate field '%s'", key)
}
