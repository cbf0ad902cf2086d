package taskserver

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"
)

var validID = regexp.MustCompile(`^[A-Za-z0-9_-]{1,511}$`)

// documentRoute answers requests below documents.
func (s *Server) documentRoute(r *http.Request, uid string, parts []string, q map[string][]string, body []byte) (int, any, *Error) {
	first := func(name string) string {
		if v := q[name]; len(v) > 0 {
			return v[0]
		}
		return ""
	}
	switch {
	case len(parts) == 0 || parts[0] == "":
		switch r.Method {
		case http.MethodGet:
			in, fail := fetchOf(q)
			if fail != nil {
				return 0, nil, fail
			}
			return s.withIndex(uid, func(i *index) (any, *Error) { return i.fetch(in) })
		case http.MethodPost, http.MethodPut:
			docs, fail := documentsOf(r.Header.Get("Content-Type"), first("csvDelimiter"), body)
			if fail != nil {
				return 0, nil, fail
			}
			return s.addDocuments(uid, first("primaryKey"), docs, r.Method == http.MethodPut)
		case http.MethodDelete:
			return s.change(uid, "documentDeletion", nil, func(i *index) *Error {
				i.docs, i.order = map[string]map[string]any{}, nil
				return nil
			})
		}
	case parts[0] == "fetch" && r.Method == http.MethodPost:
		in := &fetch{Limit: 20}
		if fail := read(body, in); fail != nil {
			return 0, nil, fail
		}
		return s.withIndex(uid, func(i *index) (any, *Error) { return i.fetch(in) })
	case parts[0] == "delete-batch" && r.Method == http.MethodPost:
		var ids []any
		if fail := read(body, &ids); fail != nil {
			return 0, nil, fail
		}
		return s.change(uid, "documentDeletion", map[string]any{"providedIds": len(ids)}, func(i *index) *Error {
			for _, id := range ids {
				if n, is := id.(float64); is {
					id = strconv.FormatFloat(n, 'f', -1, 64)
				}
				i.remove(fmt.Sprint(id))
			}
			return nil
		})
	case parts[0] == "delete" && r.Method == http.MethodPost:
		var in struct {
			Filter any `json:"filter"`
		}
		if fail := read(body, &in); fail != nil {
			return 0, nil, fail
		}
		if in.Filter == nil {
			return 0, nil, fault(400, "missing_document_filter", "Missing field `filter`")
		}
		return s.change(uid, "documentDeletion", map[string]any{"originalFilter": in.Filter}, func(i *index) *Error {
			fits, fail := i.filter(in.Filter, "invalid_document_filter")
			if fail != nil {
				return fail
			}
			for _, id := range slices.Clone(i.order) {
				if fits(i.docs[id]) {
					i.remove(id)
				}
			}
			return nil
		})
	case len(parts) == 1:
		id, err := url.PathUnescape(parts[0])
		if err != nil {
			return 0, nil, fault(400, "invalid_document_id", "Document identifier `%s` is invalid.", parts[0])
		}
		switch r.Method {
		case http.MethodGet:
			return s.withIndex(uid, func(i *index) (any, *Error) {
				if d := i.docs[id]; d != nil {
					return d, nil
				}
				return nil, fault(404, "document_not_found", "Document `%s` not found.", id)
			})
		case http.MethodDelete:
			return s.change(uid, "documentDeletion", map[string]any{"providedIds": 1}, func(i *index) *Error { i.remove(id); return nil })
		}
	}
	return 0, nil, fault(http.StatusNotFound, "not_found", "The stand-in has nothing at %s %s.", r.Method, r.URL.Path)
}

// change enqueues a change of an index that must be there.
func (s *Server) change(uid, kind string, details map[string]any, do func(i *index) *Error) (int, any, *Error) {
	return s.enqueue(kind, uid, details, func() *Error {
		i := s.indexes[uid]
		if i == nil {
			return notFound(uid)
		}
		i.UpdatedAt = time.Now().UTC()
		return do(i)
	})
}

func (i *index) remove(id string) {
	if i.docs[id] == nil {
		return
	}
	delete(i.docs, id)
	i.order = slices.DeleteFunc(i.order, func(other string) bool { return other == id })
}

// documentsOf reads a payload: JSON, one object a line, or CSV.
func documentsOf(contentType, delimiter string, body []byte) ([]document, *Error) {
	kind, _, _ := strings.Cut(contentType, ";")
	var docs []document
	decode := func(b []byte, into any) error {
		d := json.NewDecoder(bytes.NewReader(b))
		d.UseNumber()
		if err := d.Decode(into); err != nil {
			return err
		}
		if d.More() {
			return errors.New("trailing characters")
		}
		return nil
	}
	malformed := func(err error) *Error {
		return fault(400, "malformed_payload", "The `%s` payload provided is malformed. `%v`.", strings.TrimPrefix(kind, "application/"), err)
	}
	switch strings.TrimSpace(kind) {
	case "application/json":
		if trimmed := bytes.TrimSpace(body); len(trimmed) == 0 {
			return nil, fault(400, "missing_payload", "A json payload is missing.")
		} else if trimmed[0] == '{' {
			var one document
			if err := decode(body, &one); err != nil {
				return nil, malformed(err)
			}
			return []document{one}, nil
		}
		if err := decode(body, &docs); err != nil {
			return nil, malformed(err)
		}
	case "application/x-ndjson":
		for _, line := range bytes.Split(body, []byte("\n")) {
			if len(bytes.TrimSpace(line)) == 0 {
				continue
			}
			var one document
			if err := decode(line, &one); err != nil {
				return nil, malformed(err)
			}
			docs = append(docs, one)
		}
	case "text/csv":
		r := csv.NewReader(bytes.NewReader(body))
		if delimiter != "" {
			r.Comma = rune(delimiter[0])
		}
		names, err := r.Read()
		for err == nil {
			var row []string
			if row, err = r.Read(); err == nil {
				one := document{}
				for n, v := range row {
					name, kind, _ := strings.Cut(names[n], ":")
					one[name] = v
					switch {
					case kind == "number" && v != "":
						one[name] = json.Number(v)
					case kind == "boolean":
						one[name] = v == "true"
					}
				}
				docs = append(docs, one)
			}
		}
		if !errors.Is(err, io.EOF) {
			return nil, malformed(err)
		}
	case "":
		return nil, fault(http.StatusUnsupportedMediaType, "missing_content_type", "A Content-Type header is missing. Accepted values for the Content-Type header are: `application/json`, `application/x-ndjson`, `text/csv`")
	default:
		return nil, fault(http.StatusUnsupportedMediaType, "invalid_content_type", "The Content-Type `%s` is invalid. Accepted values for the Content-Type header are: `application/json`, `application/x-ndjson`, `text/csv`", kind)
	}
	return docs, nil
}

// addDocuments adds documents, replacing those of the same key, or with merge updating their fields. All of them, or none.
func (s *Server) addDocuments(uid, primaryKey string, docs []document, merge bool) (int, any, *Error) {
	details := map[string]any{"receivedDocuments": len(docs), "indexedDocuments": nil}
	return s.enqueue("documentAdditionOrUpdate", uid, details, func() *Error {
		details["indexedDocuments"] = 0
		if fail := s.createIndex(uid, nil, false); fail != nil {
			return fail
		}
		i := s.indexes[uid]
		key, fail := i.keyFor(primaryKey, docs)
		if fail != nil {
			return fail
		}
		ids := make([]string, len(docs))
		for n, d := range docs {
			if ids[n], fail = idOf(d, key); fail != nil {
				return fail
			}
			if fail := validGeo(d, ids[n]); fail != nil {
				return fail
			}
			if s.Refuses != nil {
				if reason := s.Refuses(d); reason != "" {
					return fault(400, "invalid_document_fields", "%s", reason)
				}
			}
		}
		if len(docs) > 0 && i.PrimaryKey == nil {
			i.PrimaryKey = &key
		}
		for n, d := range docs {
			before, there := i.docs[ids[n]]
			if !there {
				i.order = append(i.order, ids[n])
			}
			if merge && there {
				whole := document{}
				for name, v := range before {
					whole[name] = v
				}
				for name, v := range d {
					whole[name] = v
				}
				d = whole
			}
			i.docs[ids[n]] = d
		}
		i.UpdatedAt = time.Now().UTC()
		details["indexedDocuments"] = len(docs)
		return nil
	})
}

// keyFor is the primary key: the index's, the one that is named, or the only attribute that ends with id.
func (i *index) keyFor(named string, docs []document) (string, *Error) {
	if i.PrimaryKey != nil {
		if named != "" && named != *i.PrimaryKey {
			return "", fault(400, "index_primary_key_already_exists", "Index already has a primary key: `%s`.", *i.PrimaryKey)
		}
		return *i.PrimaryKey, nil
	}
	if named != "" || len(docs) == 0 {
		return named, nil
	}
	var found []string
	for name := range docs[0] {
		if strings.HasSuffix(strings.ToLower(name), "id") {
			found = append(found, name)
		}
	}
	slices.Sort(found)
	switch len(found) {
	case 0:
		return "", fault(400, "index_primary_key_no_candidate_found", "The primary key inference failed as the engine did not find any field ending with `id` in its name. Please specify the primary key manually using the `primaryKey` query parameter.")
	case 1:
		return found[0], nil
	}
	return "", fault(400, "index_primary_key_multiple_candidates_found", "The primary key inference failed as the engine found %d fields ending with `id` in their names: '%s' and '%s'. Please specify the primary key manually using the `primaryKey` query parameter.", len(found), found[0], found[1])
}

func idOf(d document, key string) (string, *Error) {
	v, has := d[key]
	if !has {
		b, _ := json.Marshal(d)
		return "", fault(400, "missing_document_id", "Document doesn't have a `%s` attribute: `%s`.", key, b)
	}
	text := ""
	switch v := v.(type) {
	case string:
		text = v
	case json.Number:
		if _, err := strconv.ParseInt(v.String(), 10, 64); err == nil {
			text = v.String()
		}
	}
	if !validID.MatchString(text) {
		b, _ := json.Marshal(v)
		return "", fault(400, "invalid_document_id", "Document identifier `%s` is invalid. A document identifier can be of type integer or string, only composed of alphanumeric characters (a-z A-Z 0-9), hyphens (-) and underscores (_), and can not be more than 511 bytes.", b)
	}
	return text, nil
}

func validGeo(d document, id string) *Error {
	geo, has := d["_geo"]
	if !has || geo == nil {
		return nil
	}
	if _, _, ok := placeOf(geo); !ok {
		b, _ := json.Marshal(geo)
		return fault(400, "invalid_document_geo_field", "The `_geo` field in the document with the id: `%q` is invalid. It must be an object with the fields lat and lng: `%s`.", id, b)
	}
	return nil
}

func placeOf(geo any) (lat, lng float64, ok bool) {
	m, is := geo.(map[string]any)
	if !is {
		return 0, 0, false
	}
	lat, okLat := numberOf(m["lat"])
	lng, okLng := numberOf(m["lng"])
	return lat, lng, okLat && okLng && lat >= -90 && lat <= 90 && lng >= -180 && lng <= 180
}

// fetch is a request for documents.
type fetch struct {
	Offset int      `json:"offset"`
	Limit  int      `json:"limit"`
	Fields []string `json:"fields"`
	Filter any      `json:"filter"`
	IDs    []any    `json:"ids"`
}

func fetchOf(q map[string][]string) (*fetch, *Error) {
	in := &fetch{}
	var offset, limit string
	for name, v := range q {
		switch name {
		case "offset":
			offset = v[0]
		case "limit":
			limit = v[0]
		case "fields":
			in.Fields = strings.Split(v[0], ",")
		case "filter":
			in.Filter = v[0]
		case "retrieveVectors":
		default:
			return nil, fault(400, "bad_request", "Unknown parameter `%s`: expected one of `offset`, `limit`, `fields`, `retrieveVectors`, `filter`", name)
		}
	}
	var fail *Error
	in.Offset, in.Limit, fail = pageOf(offset, limit, 20)
	return in, fail
}

func (i *index) fetch(in *fetch) (any, *Error) {
	fits := func(document) bool { return true }
	if in.Filter != nil {
		var fail *Error
		if fits, fail = i.filter(in.Filter, "invalid_document_filter"); fail != nil {
			return nil, fail
		}
	}
	wanted := map[string]bool{}
	for _, id := range in.IDs {
		wanted[fmt.Sprint(id)] = true
	}
	list, total := []document{}, 0
	for _, id := range i.order {
		d := i.docs[id]
		if len(wanted) > 0 && !wanted[id] || !fits(d) {
			continue
		}
		if total++; total > in.Offset && len(list) < in.Limit {
			list = append(list, some(d, in.Fields))
		}
	}
	return map[string]any{"results": list, "offset": in.Offset, "limit": in.Limit, "total": total}, nil
}

// some are the fields of a document that are wanted; all without a list.
func some(d document, names []string) document {
	if len(names) == 0 || slices.Contains(names, "*") {
		return d
	}
	out := document{}
	for _, name := range names {
		if v, has := d[name]; has {
			out[name] = v
		} else if top, rest, nested := strings.Cut(name, "."); nested {
			if inner, is := d[top].(map[string]any); is {
				sub, _ := out[top].(document)
				if sub == nil {
					sub = document{}
				}
				for k, v := range some(inner, []string{rest}) {
					sub[k] = v
				}
				out[top] = sub
			}
		}
	}
	return out
}
