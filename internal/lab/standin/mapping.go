package standin

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"
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
	IgnoreAbove    int    `json:"ignore_above,omitempty"`

	path string
}

// parameters are what may be said of a field, by its type.
var parameters = map[string][]string{
	"object": {"properties", "dynamic", "enabled"},
	"text":   {"fields", "index", "analyzer", "search_analyzer", "norms", "store", "boost", "index_options"},
	"keyword": {
		"fields",
		"index",
		"normalizer",
		"ignore_above",
		"doc_values",
		"store",
		"null_value",
		"norms",
	},
	"long":      {"index", "doc_values", "store", "coerce", "ignore_malformed", "null_value", "fields"},
	"integer":   {"index", "doc_values", "store", "coerce", "ignore_malformed", "null_value", "fields"},
	"double":    {"index", "doc_values", "store", "coerce", "ignore_malformed", "null_value", "fields"},
	"float":     {"index", "doc_values", "store", "coerce", "ignore_malformed", "null_value", "fields"},
	"boolean":   {"index", "doc_values", "store", "null_value", "fields"},
	"date":      {"index", "doc_values", "store", "format", "ignore_malformed", "null_value", "fields"},
	"geo_point": {"index", "doc_values", "store", "ignore_malformed", "null_value", "fields"},
}

func (f *field) leaf() bool { return f.Type != "" && f.Type != "object" }

// at finds a field by its path; nil when there is none.
func (f *field) at(path string) *field {
	for name := range strings.SplitSeq(path, ".") {
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

// each calls do for a field and all below it, in the order of their names.
func (f *field) each(do func(*field)) {
	do(f)
	for _, below := range []map[string]*field{f.Properties, f.Fields} {
		for _, name := range slices.Sorted(maps.Keys(below)) {
			below[name].each(do)
		}
	}
}

// placed tells a field and all below it where they stand.
func (f *field) placed(path string) {
	f.path = path
	for _, below := range []map[string]*field{f.Properties, f.Fields} {
		for name, child := range below {
			child.placed(strings.TrimPrefix(path+"."+name, "."))
		}
	}
}

// add puts a field below another. Searches may look at the fields meanwhile, so they get others.
func (f *field) add(name string, child *field) {
	more := maps.Clone(f.Properties)
	if more == nil {
		more = map[string]*field{}
	}
	more[name] = child
	f.Properties = more
}

func (f *field) dynamic(above string) string {
	if f.Dynamic == nil {
		return above
	}
	return fmt.Sprint(f.Dynamic)
}

const maxFields, maxDepth = 1000, 20

func badMapping(cause *apiError, format string, args ...any) *apiError {
	return &apiError{
		400,
		"mapper_parsing_exception",
		"Failed to parse mapping [_doc]: " + fmt.Sprintf(format, args...),
		cause,
	}
}

// caused is a refusal that the server gives twice: as what happened and as its cause.
func caused(kind, format string, args ...any) *apiError {
	reason := fmt.Sprintf(format, args...)
	return badMapping(&apiError{kind: kind, reason: reason}, "%s", reason)
}

// readMapping reads a mapping as strictly as the server does.
func readMapping(v any) (*field, *apiError) {
	o, ok := v.(object)
	if !ok {
		return &field{}, nil
	}
	root := &field{Properties: map[string]*field{}}
	for name, v := range o {
		switch name {
		case "properties":
			if err := root.readProperties(v, "", 1); err != nil {
				return nil, err
			}
		case "dynamic":
			if err := root.readDynamic(v); err != nil {
				return nil, err
			}
		case "_source", "_meta", "date_detection", "numeric_detection", "dynamic_templates", "_routing":
		default:
			return nil, badMapping(
				nil,
				"Root mapping definition has unsupported parameters:  [%s : %v]",
				name,
				v,
			)
		}
	}
	count := 0
	var tooDeep *apiError
	root.each(func(f *field) {
		count++
		if depth := strings.Count(f.path, ".") + 1; !f.leaf() && f.path != "" && depth >= maxDepth &&
			tooDeep == nil {
			tooDeep = &apiError{
				400,
				"illegal_argument_exception",
				fmt.Sprintf(
					"Limit of mapping depth [%d] has been exceeded due to object field [%s]",
					maxDepth,
					f.path,
				),
				nil,
			}
		}
	})
	if tooDeep != nil {
		return nil, tooDeep
	}
	if count-1 > maxFields {
		return nil, &apiError{
			400,
			"illegal_argument_exception",
			fmt.Sprintf("Limit of total fields [%d] has been exceeded", maxFields),
			nil,
		}
	}
	return root, nil
}

func (f *field) readDynamic(v any) *apiError {
	switch fmt.Sprint(v) {
	case "true", "false", "strict", "strict_allow_templates":
		f.Dynamic = v
		return nil
	}
	reason := "Could not convert [dynamic.dynamic] to boolean"
	return badMapping(&apiError{kind: "illegal_argument_exception", reason: reason,
		cause: &apiError{
			kind:   "illegal_argument_exception",
			reason: fmt.Sprintf("Failed to parse value [%v] as only [true] or [false] are allowed.", v),
		}}, "%s", reason)
}

func (f *field) readProperties(v any, path string, depth int) *apiError {
	o, _ := v.(object)
	if f.Properties == nil {
		f.Properties = map[string]*field{}
	}
	for name, v := range o {
		switch {
		case path == "" && metadata[name]:
			return badMapping(nil, "Field [%s] is defined more than once", name)
		case strings.Trim(name, ".") == "" && name != "":
			return badMapping(nil, "Invalid field name %s", name)
		case name == "" || strings.HasPrefix(name, "."):
			return caused("illegal_argument_exception", "name cannot be empty string")
		}
		into := f
		for first, rest, dotted := strings.Cut(name, "."); dotted && rest != ""; first, rest, dotted = strings.Cut(rest, ".") {
			next := into.Properties[first]
			if next == nil {
				next = &field{Properties: map[string]*field{}}
				into.add(first, next)
			}
			into, name = next, rest
		}
		child, err := readField(v, strings.TrimSuffix(name, "."), strings.TrimPrefix(path+"."+name, "."), depth)
		if err != nil {
			return err
		}
		into.add(strings.TrimSuffix(name, "."), child)
	}
	return nil
}

func readField(v any, name, path string, depth int) (*field, *apiError) {
	o, ok := v.(object)
	if !ok {
		return nil, badMapping(
			nil,
			"Expected map for property [fields] on field [%s] but got a class java.lang.String",
			name,
		)
	}
	f := &field{path: path}
	if kind, has := o["type"]; has {
		f.Type = fmt.Sprint(kind)
	} else if o["properties"] == nil && o["enabled"] == nil && o["dynamic"] == nil {
		return nil, badMapping(nil, "No type specified for field [%s]", name)
	}
	kind := f.Type
	if kind == "" {
		kind = "object"
	}
	known, ok := parameters[kind]
	if !ok {
		return nil, badMapping(nil, "No handler for type [%s] declared on field [%s]", f.Type, name)
	}
	for parameter, v := range o {
		if parameter == "type" {
			continue
		}
		if !slices.Contains(known, parameter) {
			return nil, badMapping(
				nil,
				"unknown parameter [%s] on mapper [%s] of type [%s]",
				parameter,
				name,
				f.Type,
			)
		}
		if err := f.readParameter(parameter, v, path, depth); err != nil {
			return nil, err
		}
	}
	return f, nil
}

func (f *field) readParameter(parameter string, v any, path string, depth int) *apiError {
	text := fmt.Sprint(v)
	boolean := func() (*bool, *apiError) {
		if text != "true" && text != "false" {
			return nil, caused(
				"illegal_argument_exception",
				"Failed to parse value [%s] as only [true] or [false] are allowed.",
				text,
			)
		}
		is := text == "true"
		return &is, nil
	}
	var err *apiError
	switch parameter {
	case "properties":
		return f.readProperties(v, path, depth+1)
	case "fields":
		below, _ := v.(object)
		f.Fields = map[string]*field{}
		for name, v := range below {
			if f.Fields[name], err = readField(v, name, path+"."+name, depth); err != nil {
				return err
			}
		}
	case "dynamic":
		return f.readDynamic(v)
	case "enabled":
		if f.Enabled, err = boolean(); err != nil {
			reason := "Could not convert [enabled.enabled] to boolean"
			return badMapping(
				&apiError{
					kind:   "illegal_argument_exception",
					reason: reason,
					cause:  &apiError{kind: "illegal_argument_exception", reason: err.cause.reason},
				},
				"%s",
				reason,
			)
		}
	case "index":
		f.Index, err = boolean()
		return err
	case "format":
		f.Format = text
		for part := range strings.SplitSeq(text, "||") {
			if !slices.Contains(
				[]string{
					"strict_date_optional_time",
					"epoch_millis",
					"epoch_second",
					"strict_date",
					"date_optional_time",
				},
				part,
			) {
				return caused(
					"illegal_argument_exception",
					"Error parsing [format] on field [%s]: Invalid format: [%s]: Unknown pattern letter",
					path,
					part,
				).with(
					&apiError{kind: "illegal_argument_exception", reason: "Unknown pattern letter"})
			}
		}
	case "analyzer":
		f.Analyzer = text
	case "search_analyzer":
		f.SearchAnalyzer = text
	case "normalizer":
		f.Normalizer = text
	case "ignore_above":
		n, failed := parseInt(text)
		if failed != nil {
			return caused("number_format_exception", "For input string: %q", text)
		}
		f.IgnoreAbove = n
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

// with gives the cause another cause.
func (e *apiError) with(deeper *apiError) *apiError {
	e.cause.cause = deeper
	return e
}

func (e *apiError) object() object {
	o := object{"type": e.kind, "reason": e.reason}
	if e.cause != nil {
		o["caused_by"] = e.cause.object()
	}
	return o
}

// withRoot is the error as whole answers show it: what the shards met is its root.
func withRoot(e *apiError) object {
	o := e.object()
	root := e
	if e.kind == "search_phase_execution_exception" && e.cause != nil {
		root = e.cause
	}
	o["root_cause"] = []any{object{"type": root.kind, "reason": root.reason}}
	return o
}

// describe shows the mapping as it was given.
func (f *field) describe() json.RawMessage {
	b, _ := json.Marshal(f)
	return b
}
