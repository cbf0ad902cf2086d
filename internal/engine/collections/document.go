package collections

import (
	"bytes"
	"encoding/json"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/cespare/xxhash/v2"

	"pingo/internal/core/definition"
	"pingo/internal/core/document"
	"pingo/internal/core/shape"
)

// refusal says why a document does not fit its edition.
type refusal struct{ kind, reason string }

func (r *refusal) Error() string { return r.reason }

// line writes a document as the collection takes it: as it is, with the fields that Pingo adds and the key as its id. A list
// of a declared field may hold no null and no list; where one does, they are left out, and the document is stored as it was
// sent as well. It refuses fields that the shape does not know, and values that are not of their field's type.
func (l *layout) line(key string, body []byte) ([]byte, error) {
	decoder := json.NewDecoder(bytes.NewReader(body))
	decoder.UseNumber()
	var doc map[string]any
	if err := decoder.Decode(&doc); err != nil {
		return nil, &refusal{"not_json", "the document is not JSON: " + err.Error()}
	}
	values := map[string][]any{}
	if err := l.collect(doc, "", values); err != nil {
		return nil, err
	}
	more := map[string]any{}
	if own, has := doc["id"]; has && own != nil {
		more[ownIDField] = own
	}
	for path, list := range values {
		f := l.fields[path]
		for role := range l.roles(f) {
			if value := addedValue(role, f.Repeated, list); value != nil {
				more[added(role, path)] = value
			}
		}
	}
	var nulls [][]any
	cleaned := false
	l.clean(doc, "", &cleaned)
	withoutNulls(doc, nil, &nulls)
	out := body
	if cleaned || len(nulls) > 0 {
		var err error
		if out, err = json.Marshal(doc); err != nil {
			return nil, err
		}
	}
	switch {
	case cleaned:
		more[writtenField] = string(body)
	case len(nulls) > 0:
		at, err := json.Marshal(nulls)
		if err != nil {
			return nil, err
		}
		more[nullsField] = string(at)
	}
	end, err := json.Marshal(more)
	if err != nil {
		return nil, err
	}
	// Of members of the same name the server takes the last, so the document's own id is in the way of none.
	line := slices.Clone(bytes.TrimSuffix(bytes.TrimSpace(out), []byte("}")))
	for _, members := range [][]byte{end[1 : len(end)-1], document.AppendJSON([]byte(`"id":`), shape.Text, []byte(key))} {
		if len(members) > 0 {
			if !bytes.HasSuffix(line, []byte("{")) {
				line = append(line, ',')
			}
			line = append(line, members...)
		}
	}
	return append(line, '}'), nil
}

// addedValue is what a field that Pingo adds holds for the values of a field; nil for none.
func addedValue(role string, repeated bool, values []any) any {
	out := []any{}
	for _, v := range values {
		switch role {
		case beginnings, parts:
			for _, word := range strings.Fields(strings.ToLower(v.(string))) {
				for _, piece := range pieces([]rune(word), role == parts) {
					out = append(out, piece)
				}
			}
		case whole:
			out = append(out, hashOf(v.(string)))
		case moments:
			out = append(out, microseconds(v.(string)))
		case places:
			pair := v.([]any)
			out = append(out, []any{pair[1], pair[0]})
		}
	}
	switch {
	case len(out) == 0:
		return nil
	case !repeated && role != beginnings && role != parts:
		return out[0]
	case role == parts:
		seen := map[any]bool{}
		out = slices.DeleteFunc(out, func(v any) bool { was := seen[v]; seen[v] = true; return was })
	}
	return out
}

// longestPiece is how many letters the parts of words have at most.
const longestPiece = 40

// pieces lists the beginnings of a word, or all its parts.
func pieces(word []rune, inside bool) (out []string) {
	for from := range word {
		for to := from + 1; to <= min(len(word), from+longestPiece); to++ {
			out = append(out, string(word[from:to]))
		}
		if !inside {
			break
		}
	}
	return out
}

// hashOf stands for a value as it is written.
func hashOf(text string) int64 { return int64(xxhash.Sum64String(text)) }

// moment is what documents hold for dates and times: ISO 8601, years of more than four digits and before the first with a sign.
var moment = regexp.MustCompile(`^([+-]?\d{4,9})-(\d\d)-(\d\d)(?:T(\d\d):(\d\d)(?::(\d\d)(?:\.(\d{1,9}))?)?Z?)?$`)

// microseconds of a moment since 1970.
func microseconds(text string) int64 {
	m := moment.FindStringSubmatch(text)
	part := func(i int) int {
		n, _ := strconv.Atoi(m[i]) // they are digits
		return n
	}
	nanos, _ := strconv.Atoi((m[7] + "000000000")[:9])
	return time.Date(part(1), time.Month(part(2)), part(3), part(4), part(5), part(6), nanos, time.UTC).UnixMicro()
}

// collect gathers the values of all fields by path, and checks them.
func (l *layout) collect(v any, path string, into map[string][]any) error {
	f := l.fields[path]
	switch v := v.(type) {
	case nil:
		return nil
	case map[string]any:
		if f != nil && f.Type == shape.Object {
			return nil
		}
		if f != nil || path != "" && !l.objects[path] {
			return l.misfit(path, v)
		}
		for key, child := range v {
			at := strings.TrimPrefix(path+"."+key, ".")
			if at == definition.FingerprintField {
				continue
			}
			if l.fields[at] == nil && !l.objects[at] {
				return &refusal{"unknown_field", fmt.Sprintf("the document has a field %s, which the edition does not", at)}
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

func (l *layout) value(f *shape.Placed, path string, v any, into map[string][]any) error {
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
		fits = isText && moment.MatchString(text)
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

func (l *layout) misfit(path string, v any) error {
	shown, err := json.Marshal(v)
	if err != nil {
		return err
	}
	kind := "an object"
	if f := l.fields[path]; f != nil {
		kind = string(f.Type)
	}
	return &refusal{"wrong_type", fmt.Sprintf("field %s is %s, which %.60s is not", path, kind, shown)}
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

// clean leaves nulls and lists out of the lists of declared fields, and notes whether there were any.
func (l *layout) clean(v any, path string, cleaned *bool) any {
	switch v := v.(type) {
	case map[string]any:
		for key, child := range v {
			v[key] = l.clean(child, strings.TrimPrefix(path+"."+key, "."), cleaned)
		}
	case []any:
		if l.declared[path] {
			flat := flattened(v, nil)
			*cleaned = *cleaned || len(flat) != len(v) || slices.ContainsFunc(v, func(x any) bool { return !isScalar(x) })
			return flat
		}
		if l.fields[path] == nil {
			for i, child := range v {
				v[i] = l.clean(child, path, cleaned)
			}
		}
	}
	return v
}

// withoutNulls takes members that are null out of objects, and notes where they were: by names, and places in lists.
func withoutNulls(v any, at []any, nulls *[][]any) {
	switch v := v.(type) {
	case map[string]any:
		for name, child := range v {
			if child == nil {
				delete(v, name)
				*nulls = append(*nulls, append(slices.Clone(at), name))
				continue
			}
			withoutNulls(child, append(slices.Clone(at), name), nulls)
		}
	case []any:
		for i, child := range v {
			withoutNulls(child, append(slices.Clone(at), i), nulls)
		}
	}
}

// withNulls puts back what withoutNulls took.
func withNulls(doc any, nulls [][]any) {
	for _, at := range nulls {
		v := doc
		for i, step := range at {
			switch in := v.(type) {
			case map[string]any:
				name, is := step.(string)
				if is && i == len(at)-1 {
					in[name] = nil
				}
				v = in[name]
			case []any:
				n, is := step.(float64)
				if !is || int(n) >= len(in) || n < 0 {
					v = nil
					break
				}
				v = in[int(n)]
			}
		}
	}
}

func isScalar(v any) bool {
	_, list := v.([]any)
	return !list && v != nil
}

func flattened(v []any, into []any) []any {
	if into == nil {
		into = []any{}
	}
	for _, child := range v {
		if list, is := child.([]any); is {
			into = flattened(list, into)
		} else if child != nil {
			into = append(into, child)
		}
	}
	return into
}

// Document is a document as it was sent, from what a collection holds.
func Document(stored []byte) ([]byte, error) {
	var members map[string]json.RawMessage
	if err := json.Unmarshal(stored, &members); err != nil {
		return nil, err
	}
	if written, has := members[writtenField]; has {
		var text string
		err := json.Unmarshal(written, &text)
		return []byte(text), err
	}
	var nulls [][]any
	if list, has := members[nullsField]; has {
		var text string
		if err := json.Unmarshal(list, &text); err != nil {
			return nil, err
		}
		if err := json.Unmarshal([]byte(text), &nulls); err != nil {
			return nil, err
		}
	}
	delete(members, "id")
	if own, has := members[ownIDField]; has {
		members["id"] = own
	}
	for name := range members {
		if strings.HasPrefix(name, "pingo_") && name != definition.FingerprintField && name != definition.RowsField {
			delete(members, name)
		}
	}
	doc, err := json.Marshal(members)
	if err != nil || len(nulls) == 0 {
		return doc, err
	}
	decoder := json.NewDecoder(bytes.NewReader(doc))
	decoder.UseNumber()
	var whole any
	if err := decoder.Decode(&whole); err != nil {
		return nil, err
	}
	withNulls(whole, nulls)
	return json.Marshal(whole)
}
