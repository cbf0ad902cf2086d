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
	if r.Method != http.MethodDelete && len(body) == 0 {
		return 0, nil, &apiError{400, "parse_exception", "request body is required", nil}
	}
	if id == "" {
		return 0, nil, wrongMethod(r.URL.Path, r.Method)
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

// bulkAction is one action of a bulk request and the index or alias that it names.
type bulkAction struct {
	bulkWrite
	target string
}

// readBulk reads the lines of an NDJSON body; nothing is done when one of them is wrong.
func readBulk(name string, body []byte) ([]bulkAction, error) {
	if len(body) == 0 {
		return nil, &apiError{400, "parse_exception", "request body is required", nil}
	}
	var out []bulkAction
	invalid := func(format string, args ...any) error {
		return &apiError{
			400,
			"action_request_validation_exception",
			"Validation Failed: 1: " + fmt.Sprintf(format, args...) + ";",
			nil,
		}
	}
	for line := 1; ; line++ {
		end := bytes.IndexByte(body, '\n')
		if end < 0 {
			break // what is not terminated is not there
		}
		if len(bytes.TrimSpace(body[:end])) == 0 {
			body = body[end+1:]
			continue
		}
		a := bulkAction{target: name}
		versionType, given, err := a.readAction(body[:end], line)
		if errors.Is(err, errEnd) {
			break
		}
		if err != nil {
			return nil, err
		}
		body = body[end+1:]
		if a.action != "delete" {
			end := bytes.IndexByte(body, '\n')
			if end < 0 {
				break
			}
			a.source, body = body[:end], body[end+1:]
			line++
		}
		switch {
		case versionType != "" && versionType != "external" && versionType != "external_gte" && versionType != "internal":
			return nil, &apiError{
				400,
				"illegal_argument_exception",
				fmt.Sprintf("No version type match [%s]", versionType),
				nil,
			}
		case given && (versionType == "" || versionType == "internal"):
			return nil, invalid(
				"internal versioning can not be used for optimistic concurrency control. Please use `if_seq_no` and `if_primary_term` instead",
			)
		case a.version < 0:
			return nil, invalid(
				"illegal version value [%d] for version type [%s]",
				a.version,
				strings.ToUpper(versionType),
			)
		case a.action == "delete" && a.id == "":
			return nil, invalid("id is missing")
		case len(a.id) > 512:
			return nil, invalid(
				"id [%s] is too long, must be no longer than 512 bytes but was: %d",
				a.id,
				len(a.id),
			)
		}
		a.external, a.equal = strings.HasPrefix(versionType, "external"), versionType == "external_gte"
		out = append(out, a)
	}
	if len(out) == 0 {
		return nil, invalid("no requests added")
	}
	return out, nil
}

// bulk applies the actions of an NDJSON body one by one.
func (s *Server) bulk(r *http.Request, name string, body []byte) (int, any, error) {
	if r.Method != http.MethodPost && r.Method != http.MethodPut {
		return 0, nil, wrongMethod(r.URL.Path, r.Method)
	}
	if kind := r.Header.Get("Content-Type"); len(body) > 0 && !strings.Contains(kind, "json") {
		return 0, nil, &apiError{406, "", fmt.Sprintf("Content-Type header [%s] is not supported", kind), nil}
	}
	query := r.URL.Query()
	for name := range query {
		if !slices.Contains(
			[]string{
				"filter_path",
				"require_alias",
				"refresh",
				"timeout",
				"pipeline",
				"routing",
				"pretty",
				"wait_for_active_shards",
				"_source",
			},
			name,
		) {
			return 0, nil, &apiError{
				400,
				"illegal_argument_exception",
				fmt.Sprintf("request [%s] contains unrecognized parameter: [%s]", r.URL.Path, name),
				nil,
			}
		}
	}
	if required := query.Get("require_alias"); required != "" {
		if err := aBoolean("", required); err != nil {
			return 0, nil, err
		}
	}
	actions, err := readBulk(name, body)
	if err != nil {
		return 0, nil, err
	}
	wanted := bulkFilter(query.Get("filter_path"))
	began := time.Now()
	items := append(make([]byte, 0, 64+len(body)/8), `"items":[`...)
	failed := false
	touched := map[*index]bool{}
	for i := range actions {
		a := &actions[i]
		result := s.bulkOne(a.target, query.Get("require_alias") == "true", &a.bulkWrite, touched)
		failed = failed || result.err != nil
		items = appendItem(items, cmp.Or(result.index, a.target), &a.bulkWrite, result, wanted)
	}
	for ix := range touched {
		if query.Get("refresh") == "true" {
			ix.refresh()
		} else {
			ix.autoRefresh() // a little at a time, rather than all in the next search
		}
	}
	items = append(items[:len(items)-1], "]}"...)
	head := fmt.Appendf(nil, `{"took":%d,"errors":%t,`, time.Since(began).Milliseconds(), failed)
	return 200, append(head, items...), nil
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
	if w.id == "" {
		return refusal(
			&apiError{400, "illegal_argument_exception", "if _id is specified it must not be empty", nil},
		)
	}
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

// readAction reads an action line. given says that it has a version.
func (a *bulkAction) readAction(b []byte, line int) (versionType string, given bool, err error) {
	malformed := func(format string, args ...any) error {
		return &apiError{
			400,
			"illegal_argument_exception",
			fmt.Sprintf("Malformed action/metadata line [%d], ", line) + fmt.Sprintf(format, args...),
			nil,
		}
	}
	s := &scanner{b: b}
	if kind, err := s.peek(); err != nil || kind != objectToken {
		return "", false, malformed("expected START_OBJECT")
	}
	named := false
	err = s.object(func(key []byte) error {
		if named { // what follows the action is not looked at
			return s.skip()
		}
		a.action, named = string(key), true
		if !slices.Contains([]string{"index", "create", "delete"}, a.action) {
			return malformed("expected one of [create, delete, index] but found [%s]", a.action)
		}
		if kind, err := s.peek(); err != nil || kind != objectToken {
			return malformed("expected START_OBJECT or END_OBJECT")
		}
		hasID := false
		if err := s.object(func(key []byte) error {
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
				a.id, hasID = unquote(v), kind != nullToken
			case "_index":
				a.target = unquote(v)
			case "version":
				given = true
				if a.version, err = strconv.ParseInt(string(v), 10, 64); err != nil {
					return &apiError{500, "input_coercion_exception", fmt.Sprintf("Numeric value (%s) out of range of long", v), nil}
				}
			case "version_type":
				versionType = string(v)
			case "routing", "require_alias":
			default:
				return &apiError{400, "illegal_argument_exception", fmt.Sprintf("Action/metadata line [%d] contains an unknown parameter [%s]", line, key), nil}
			}
			return nil
		}); err != nil {
			return err
		}
		if !hasID && a.action != "delete" {
			a.id = "standin-" + strconv.FormatInt(time.Now().UnixNano(), 36)
		}
		return nil
	})
	var api *apiError
	switch {
	case errors.Is(err, errEnd):
	case err != nil && !errors.As(err, &api):
		err = malformed("%s", err)
	case err == nil && !named:
		err = malformed("expected FIELD_NAME but found [END_OBJECT]")
	}
	return versionType, given, err
}
