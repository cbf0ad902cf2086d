package standin

import (
	"bytes"
	"encoding/json"
	"fmt"
	"regexp"
	"strconv"
	"strings"
)

// field is one node of a mapping.
type field struct {
	Type       string            `json:"type,omitempty"`
	Properties map[string]*field `json:"properties,omitempty"`
	Fields     map[string]*field `json:"fields,omitempty"`
	Dynamic    any               `json:"dynamic,omitempty"`
	Enabled    *bool             `json:"enabled,omitempty"`
	Index      *bool             `json:"index,omitempty"`
	Format     string            `json:"format,omitempty"`
	// Which of the settings' analyzers make words of it.
	Analyzer       string `json:"analyzer,omitempty"`
	SearchAnalyzer string `json:"search_analyzer,omitempty"`
	Normalizer     string `json:"normalizer,omitempty"`
	// IgnoreAbove is kept and shown; it has no effect here.
	IgnoreAbove int `json:"ignore_above,omitempty"`
}

var fieldTypes = map[string]bool{
	"":          true,
	"object":    true,
	"text":      true,
	"keyword":   true,
	"long":      true,
	"integer":   true,
	"double":    true,
	"float":     true,
	"boolean":   true,
	"date":      true,
	"geo_point": true,
}

// check refuses a mapping as the server would when it is created.
func (f *field) check(path string) error {
	if !fieldTypes[f.Type] {
		return &apiError{
			400,
			"mapper_parsing_exception",
			fmt.Sprintf("No handler for type [%s] declared on field [%s]", f.Type, path),
			nil,
		}
	}
	if f.Type != "" && f.Type != "object" && f.Properties != nil {
		return &apiError{
			400,
			"mapper_parsing_exception",
			fmt.Sprintf("Mapping definition for [%s] has unsupported parameters: [properties]", path),
			nil,
		}
	}
	for name, p := range f.Properties {
		if err := p.check(strings.TrimPrefix(path+"."+name, ".")); err != nil {
			return err
		}
	}
	for name, p := range f.Fields {
		if err := p.check(path + "." + name); err != nil {
			return err
		}
	}
	return nil
}

// apiError is an error object of the interface.
type apiError struct {
	status int
	kind   string
	reason string
	cause  *apiError
}

func (e *apiError) Error() string { return e.reason }

func (e *apiError) object() map[string]any {
	o := map[string]any{"type": e.kind, "reason": e.reason}
	if e.cause != nil {
		o["caused_by"] = e.cause.object()
	}
	return o
}

// checkDocument reads a document against the mapping. It returns the mapping that
// must replace it when new fields were met and the mapping is dynamic.
func (f *field) checkDocument(id string, source []byte) error {
	s := &scanner{b: source}
	c := &checker{scanner: s, id: id}
	if err := c.object(f, "", f.dynamic("true")); err != nil {
		if api, ok := err.(*apiError); ok {
			return api
		}
		return &apiError{
			400,
			"mapper_parsing_exception",
			"failed to parse",
			&apiError{kind: "json_parse_exception", reason: err.Error()},
		}
	}
	if s.space(); s.i != len(s.b) {
		return &apiError{
			400,
			"mapper_parsing_exception",
			"failed to parse",
			&apiError{kind: "json_parse_exception", reason: s.bad("trailing text").Error()},
		}
	}
	return nil
}

type checker struct {
	*scanner
	id string
}

// object reads an object's members; dynamic is what happens to unknown ones, which
// inner objects take over unless they say otherwise.
func (c *checker) object(f *field, path, dynamic string) error {
	return c.scanner.object(func(key []byte) error {
		child, ok := f.Properties[string(key)]
		if ok {
			return c.value(child, path, string(key), dynamic)
		}
		name := unquote(key)
		switch dynamic {
		case "strict":
			within := strings.TrimSuffix(path, ".")
			if within == "" {
				within = "_doc"
			}
			return &apiError{
				400,
				"strict_dynamic_mapping_exception",
				fmt.Sprintf(
					"mapping set to strict, dynamic introduction of [%s] within [%s] is not allowed",
					name,
					within,
				),
				nil,
			}
		case "false":
			return c.skip()
		}
		return c.introduce(f, path, name, dynamic)
	})
}

func (f *field) dynamic(above string) string {
	if f.Dynamic == nil {
		return above
	}
	return fmt.Sprint(f.Dynamic)
}

// introduce adds a field that the mapping does not know, by its first value.
func (c *checker) introduce(f *field, path, name, dynamic string) error {
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
	}
	child := &field{}
	switch kind {
	case nullToken:
		return c.skip()
	case objectToken:
		child.Properties = map[string]*field{}
	case stringToken:
		child.Type, child.Fields = "text", map[string]*field{"keyword": {Type: "keyword", IgnoreAbove: 256}}
	case numberToken:
		child.Type = "long"
		if strings.ContainsAny(string(c.b[start:min(len(c.b), start+24)]), ".eE") {
			child.Type = "float"
		}
	default:
		child.Type = "boolean"
	}
	if f.Properties == nil {
		f.Properties = map[string]*field{}
	}
	f.Properties[name] = child
	return c.value(child, path, name, dynamic)
}

func (c *checker) value(f *field, path, name, dynamic string) error {
	kind, err := c.peek()
	if err != nil {
		return err
	}
	if f.Enabled != nil && !*f.Enabled {
		return c.skip()
	}
	switch {
	case kind == nullToken:
		_, err := c.scalar(kind)
		return err
	case f.Type == "geo_point":
		return c.geo(path + name)
	case kind == arrayToken:
		return c.array(func() error { return c.value(f, path, name, dynamic) })
	case f.Type == "" || f.Type == "object":
		if kind != objectToken {
			return &apiError{
				400,
				"mapper_parsing_exception",
				fmt.Sprintf(
					"object mapping for [%s] tried to parse field [%s] as object, but found a concrete value",
					path+name,
					name,
				),
				nil,
			}
		}
		return c.object(f, path+name+".", f.dynamic(dynamic))
	case kind == objectToken:
		start := c.i
		if err := c.skip(); err != nil {
			return err
		}
		return c.refuse(f, path+name, c.b[start:c.i], "Can't get text on a START_OBJECT")
	}
	v, err := c.scalar(kind)
	if err != nil {
		return err
	}
	if why := f.refuses(kind, v); why != "" {
		return c.refuse(f, path+name, v, why)
	}
	return nil
}

func (c *checker) refuse(f *field, path string, v []byte, why string) error {
	return &apiError{400, "mapper_parsing_exception",
		fmt.Sprintf(
			"failed to parse field [%s] of type [%s] in document with id '%s'. Preview of field's value: '%.50s'",
			path,
			f.Type,
			c.id,
			v,
		),
		&apiError{kind: "illegal_argument_exception", reason: why}}
}

var datePattern = regexp.MustCompile(
	`^(?:\d{4}|[+-]\d{4,9})(-\d\d(-\d\d(T(\d\d(:\d\d(:\d\d([.,]\d{1,9})?)?)?)?(Z|[+-]\d\d(:?\d\d)?)?)?)?)?$`,
)

// refuses says why a scalar cannot be a value of the field; empty when it can.
func (f *field) refuses(kind tokenKind, v []byte) string {
	switch f.Type {
	case "long", "integer":
		if kind == trueToken || kind == falseToken {
			return fmt.Sprintf("For input string: %q", v)
		}
		bits := 64
		if f.Type == "integer" {
			bits = 32
		}
		if !small(v) {
			if _, err := strconv.ParseInt(string(v), 10, bits); err != nil {
				whole, ferr := strconv.ParseFloat(string(v), 64)
				switch {
				case ferr != nil:
					return fmt.Sprintf("For input string: %q", v)
				case whole >= 1<<63 || whole < -1<<63:
					return fmt.Sprintf("Value [%s] is out of range for a %s", v, f.Type)
				}
			}
		}
	case "double", "float":
		if kind == trueToken || kind == falseToken {
			return fmt.Sprintf("For input string: %q", v)
		}
		if !small(v) {
			if _, err := strconv.ParseFloat(string(v), 64); err != nil {
				return fmt.Sprintf("For input string: %q", v)
			}
		}
	case "boolean":
		if kind == numberToken ||
			kind == stringToken && string(v) != "true" && string(v) != "false" && len(v) > 0 {
			return fmt.Sprintf("Failed to parse value [%s] as only [true] or [false] are allowed.", v)
		}
	case "date":
		if kind == numberToken && f.Format != "" && !strings.Contains(f.Format, "epoch") ||
			kind == stringToken && !datePattern.Match(v) ||
			kind == trueToken ||
			kind == falseToken {
			return fmt.Sprintf("failed to parse date field [%s] with format [%s]", v, f.format())
		}
		if kind == stringToken && !realDate(v) {
			return fmt.Sprintf("failed to parse date field [%s] with format [%s]", v, f.format())
		}
	}
	return ""
}

func (f *field) format() string {
	if f.Format == "" {
		return "strict_date_optional_time||epoch_millis"
	}
	return f.Format
}

// small reports whether v is a short plain number, without parsing it.
func small(v []byte) bool {
	if len(v) == 0 || len(v) > 15 {
		return false
	}
	for _, c := range v {
		if c < '0' || c > '9' {
			return false
		}
	}
	return true
}

func realDate(v []byte) bool {
	if len(v) > 0 && (v[0] == '+' || v[0] == '-') { // a year of more digits, or before the first
		v = v[1:]
	}
	if i := bytes.IndexByte(v, '-'); i > 4 {
		v = v[i-4:]
	}
	two := func(at int) int {
		if len(v) < at+2 {
			return 1
		}
		return int(v[at]-'0')*10 + int(v[at+1]-'0')
	}
	month, day := two(5), two(8)
	return month >= 1 && month <= 12 && day >= 1 && day <= 31
}

func (c *checker) geo(path string) error {
	start := c.i
	if err := c.skip(); err != nil {
		return err
	}
	raw := c.b[start:c.i]
	places := []json.RawMessage{raw}
	var list []json.RawMessage
	if json.Unmarshal(raw, &list) == nil && len(list) > 0 && strings.ContainsAny(string(list[0][:1]), `[{"n`) {
		places = list
	}
	for _, place := range places {
		if string(place) == "null" {
			continue
		}
		if _, _, err := parseGeo(place); err != nil {
			return badPlace(path, err)
		}
	}
	return nil
}

func badPlace(path string, err error) error {
	return &apiError{
		400,
		"mapper_parsing_exception",
		fmt.Sprintf("failed to parse field [%s] of type [geo_point]", path),
		&apiError{kind: "parse_exception", reason: err.Error()},
	}
}

// parseGeo reads [lon,lat], {"lat":…,"lon":…} and "lat,lon".
func parseGeo(raw []byte) (lat, lon float64, err error) {
	var v any
	if err := json.Unmarshal(raw, &v); err != nil {
		return 0, 0, err
	}
	number := func(v any) float64 {
		f, ok := v.(float64)
		if !ok && err == nil {
			err = fmt.Errorf("latitude and longitude must be numbers, not [%v]", v)
		}
		return f
	}
	switch v := v.(type) {
	case []any:
		if len(v) < 2 {
			return 0, 0, fmt.Errorf("[geo_point] needs a longitude and a latitude")
		}
		lon, lat = number(v[0]), number(v[1])
	case map[string]any:
		lon, lat = number(v["lon"]), number(v["lat"])
	case string:
		a, b, _ := strings.Cut(v, ",")
		lat, err = strconv.ParseFloat(strings.TrimSpace(a), 64)
		if err == nil {
			lon, err = strconv.ParseFloat(strings.TrimSpace(b), 64)
		}
	default:
		return 0, 0, fmt.Errorf("[geo_point] cannot be [%s]", raw)
	}
	if err == nil && (lat < -90 || lat > 90) {
		err = fmt.Errorf("illegal latitude value [%g] for [geo_point]", lat)
	}
	if err == nil && (lon < -180 || lon > 180) {
		err = fmt.Errorf("illegal longitude value [%g] for [geo_point]", lon)
	}
	return lat, lon, err
}
