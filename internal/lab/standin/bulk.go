package standin

import (
	"bytes"
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"
)

// target finds the one index that a write to a name goes to.
func (s *Server) target(name string, mustBeAlias bool) (*index, error) {
	s.mu.RLock()
	defer s.mu.RUnlock()
	if ix := s.indices[name]; ix != nil && !mustBeAlias {
		return ix, nil
	}
	targets := s.aliases[name]
	switch {
	case mustBeAlias && len(targets) == 0:
		return nil, &apiError{
			404,
			"index_not_found_exception",
			fmt.Sprintf(
				"no such index [%s] and [require_alias] request flag is [true] and [%s] is not an alias",
				name,
				name,
			),
			nil,
		}
	case len(targets) == 0:
		return nil, noSuchIndex(name) // as with action.auto_create_index: false
	case len(targets) > 1:
		return nil, &apiError{
			400,
			"illegal_argument_exception",
			fmt.Sprintf(
				"no write index is defined for alias [%s]. The write index may be explicitly disabled using is_bulkWriteindex=false or the alias points to multiple indices without one being designated as a write index",
				name,
			),
			nil,
		}
	}
	for target := range targets {
		return s.indices[target], nil
	}
	return nil, noSuchIndex(name)
}

func (s *Server) document(r *http.Request, name, id string, body []byte) (int, any, error) {
	if r.Method == http.MethodGet || r.Method == http.MethodHead {
		indices, err := s.resolve(name)
		if err != nil {
			return 0, nil, err
		}
		d := indices[0].get(id)
		if d == nil {
			return 404, object{"_index": indices[0].name, "_id": id, "found": false}, nil
		}
		return 200, object{
			"_index":   indices[0].name,
			"_id":      id,
			"_version": d.version,
			"found":    true,
			"_source":  json.RawMessage(d.source),
		}, nil
	}
	ix, err := s.target(name, false)
	if err != nil {
		return 0, nil, err
	}
	w := &bulkWrite{action: "index", id: id, source: body}
	if r.Method == http.MethodDelete {
		w.action, w.source = "delete", nil
	}
	if v := r.URL.Query().Get("version"); v != "" {
		if w.version, err = strconv.ParseInt(v, 10, 64); err != nil ||
			r.URL.Query().Get("version_type") != "external" {
			return 0, nil, &apiError{
				400,
				"action_request_validation_exception",
				"Validation Failed: internal versioning can not be used for optimistic concurrency control",
				nil,
			}
		}
		w.external = true
	}
	ix.mu.Lock()
	defer ix.mu.Unlock()
	out := ix.apply(w)
	if out.err != nil {
		return 0, nil, out.err
	}
	if r.URL.Query().Get("refresh") == "true" {
		ix.refresh()
	}
	return out.status, object{
		"_index":        ix.name,
		"_id":           id,
		"_version":      out.version,
		"result":        out.result,
		"_seq_no":       out.seqNo,
		"_primary_term": 1,
	}, nil
}

// bulk applies the lines of an NDJSON body one by one.
func (s *Server) bulk(r *http.Request, name string, body []byte) (int, any, error) {
	if kind := r.Header.Get("Content-Type"); !strings.Contains(kind, "json") {
		return 0, nil, &apiError{
			406,
			"content_type_exception",
			fmt.Sprintf("Content-Type header [%s] is not supported", kind),
			nil,
		}
	}
	if len(body) == 0 || body[len(body)-1] != '\n' {
		return 0, nil, &apiError{
			400,
			"illegal_argument_exception",
			"The bulk request must be terminated by a newline [\\n]",
			nil,
		}
	}
	wanted := bulkFilter(r.URL.Query().Get("filter_path"))
	requireAlias := r.URL.Query().Get("require_alias") == "true"
	began := time.Now()
	out := append(make([]byte, 0, 64+len(body)/8), `{"took":0,"errors":false,"items":[`...)
	failed := false
	touched := map[*index]bool{}
	for line := 1; len(body) > 0; line++ {
		var action bulkWrite
		index, rest, err := parseAction(body, name, &action)
		if err != nil {
			return 0, nil, &apiError{
				400,
				"illegal_argument_exception",
				fmt.Sprintf("Malformed action/metadata line [%d]: %s", line, err),
				nil,
			}
		}
		body = rest
		if action.action != "delete" {
			end := bytes.IndexByte(body, '\n')
			if end < 0 {
				return 0, nil, &apiError{
					400,
					"illegal_argument_exception",
					"The bulk request must be terminated by a newline [\\n]",
					nil,
				}
			}
			action.source, body = body[:end], body[end+1:]
			line++
		}
		result := s.bulkOne(index, requireAlias, &action, touched)
		failed = failed || result.err != nil
		out = appendItem(out, cmp.Or(result.index, index), &action, result, wanted)
	}
	for ix := range touched {
		ix.mu.Lock()
		if r.URL.Query().Get("refresh") == "true" {
			ix.refresh()
		} else {
			ix.autoRefresh() // a little at a time, rather than all when somebody next asks
		}
		ix.mu.Unlock()
	}
	if out[len(out)-1] == ',' {
		out = out[:len(out)-1]
	}
	out = append(out, "]}"...)
	if failed {
		out = bytes.Replace(out, []byte(`"errors":false`), []byte(`"errors":true`), 1)
	}
	return 200, bytes.Replace(
		out,
		[]byte(`"took":0`),
		fmt.Appendf(nil, `"took":%d`, time.Since(began).Milliseconds()),
		1,
	), nil
}

func (s *Server) bulkOne(name string, requireAlias bool, w *bulkWrite, touched map[*index]bool) written {
	if reason := s.faults.refused(w.id); reason != "" {
		return written{status: 400, err: &apiError{400, "mapper_parsing_exception", reason, nil}}
	}
	ix, err := s.target(name, requireAlias)
	if err != nil {
		api := err.(*apiError)
		return written{status: api.status, err: api}
	}
	touched[ix] = true
	ix.mu.Lock()
	defer ix.mu.Unlock()
	out := ix.apply(w)
	out.index = ix.name
	return out
}

// bulkFilter reads which members of the items filter_path asks for; nil means all.
func bulkFilter(path string) map[string]bool {
	if path == "" {
		return nil
	}
	wanted := map[string]bool{}
	for _, p := range strings.Split(path, ",") {
		if member, ok := strings.CutPrefix(p, "items.*."); ok {
			wanted[member] = true
		} else if p == "items" {
			return nil
		}
	}
	return wanted
}

func appendItem(out []byte, index string, w *bulkWrite, r written, wanted map[string]bool) []byte {
	out = append(append(append(out, `{"`...), w.action...), `":{`...)
	member := func(name string) bool {
		if wanted != nil && !wanted[name] {
			return false
		}
		if out[len(out)-1] != '{' {
			out = append(out, ',')
		}
		out = append(append(append(out, '"'), name...), `":`...)
		return true
	}
	if member("_index") {
		out = strconv.AppendQuote(out, index)
	}
	if member("_id") {
		id, _ := json.Marshal(w.id)
		out = append(out, id...)
	}
	if r.err != nil {
		if member("error") {
			e, _ := json.Marshal(r.err.object())
			out = append(out, e...)
		}
	} else {
		if member("_version") {
			out = strconv.AppendInt(out, r.version, 10)
		}
		if member("result") {
			out = strconv.AppendQuote(out, r.result)
		}
		if member("_seq_no") {
			out = strconv.AppendInt(out, r.seqNo, 10)
		}
	}
	if member("status") {
		out = strconv.AppendInt(out, int64(r.status), 10)
	}
	return append(out, "}},"...)
}

// parseAction reads an action line and returns what follows it.
func parseAction(body []byte, index string, w *bulkWrite) (target string, rest []byte, err error) {
	end := bytes.IndexByte(body, '\n')
	if end < 0 {
		return "", nil, errors.New("no newline at its end")
	}
	versionType := ""
	s := &scanner{b: body[:end]}
	err = s.object(func(key []byte) error {
		w.action = string(key)
		if !slices.Contains([]string{"index", "create", "delete"}, w.action) {
			return fmt.Errorf("unknown action [%s]", w.action)
		}
		return s.object(func(key []byte) error {
			kind, err := s.peek()
			if err != nil {
				return err
			}
			v, err := s.scalar(kind)
			if err != nil {
				return err
			}
			switch string(key) {
			case "_id":
				w.id = unquote(v)
			case "_index":
				index = unquote(v)
			case "version":
				w.version, err = strconv.ParseInt(string(v), 10, 64)
			case "version_type":
				versionType = string(v)
			case "routing", "require_alias":
			default:
				return fmt.Errorf("unknown parameter [%s]", key)
			}
			return err
		})
	})
	switch {
	case err != nil:
	case w.action == "":
		err = errors.New("no action in it")
	case w.version != 0 && versionType != "external":
		err = errors.New("internal versioning can not be used for optimistic concurrency control")
	case w.id == "" && w.action == "delete":
		err = errors.New("an id must be provided if version type or value are set")
	case w.id == "":
		w.id = "standin-" + strconv.FormatInt(time.Now().UnixNano(), 36)
	}
	w.external = versionType == "external"
	return index, body[end+1:], err
}
