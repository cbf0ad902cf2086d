package collections

import (
	"bytes"
	"encoding/json"
	"slices"
	"strings"

	"github.com/cespare/xxhash/v2"

	"pingo/internal/core/document"
	"pingo/internal/core/shape"
	"pingo/internal/engine/fields"
)

// line writes a document as the collection takes it: as it is, with the fields that Pingo adds and the key as its id. A list
// of a declared field may hold no null and no list; where one does, they are left out, and the document is stored as it was
// sent as well. It refuses fields that the shape does not know, and values that are not of their field's type.
func (l *layout) line(key string, body []byte) ([]byte, error) {
	doc, values, err := l.Values(body)
	if err != nil {
		return nil, err
	}
	more := map[string]any{}
	if own, has := doc["id"]; has && own != nil {
		more[ownIDField] = own
	}
	for path, list := range values {
		f := l.Fields[path]
		for _, role := range fields.Roles(f) {
			if value := addedValue(role, f.Repeated, list); value != nil {
				more[fields.Added(role, path)] = value
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
func addedValue(role fields.Role, repeated bool, values []any) any {
	out := []any{}
	for _, v := range values {
		switch role {
		case fields.Beginnings, fields.Parts:
			return fields.Pieces(values, role == fields.Parts)
		case fields.Whole:
			out = append(out, hashOf(v.(string)))
		case fields.Moments:
			out = append(out, microseconds(v.(string)))
		case fields.Places:
			pair := v.([]any)
			out = append(out, []any{pair[1], pair[0]})
		}
	}
	switch {
	case len(out) == 0:
		return nil
	case !repeated:
		return out[0]
	}
	return out
}

// hashOf is a hash of a value as it is written.
func hashOf(text string) int64 { return int64(xxhash.Sum64String(text)) }

// microseconds of a moment since 1970.
func microseconds(text string) int64 {
	t, _ := fields.Time(text) // the document was checked
	return t.UnixMicro()
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
		if l.Fields[path] == nil {
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
		if fields.IsAdded(name) {
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
