// Package standin holds stand-in engines: small simulated search servers for the
// demo, for tests, and for trying Pingo out. They keep everything in memory.
package standin

import (
	"bytes"
	"cmp"
	"crypto/subtle"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/http"
	"regexp"
	"slices"
	"sort"
	"strconv"
	"strings"
	"sync"
	"time"
)

// Server answers the part of OpenSearch's public HTTP interface that its clients
// use most. Where a real server is strict, it is strict. The zero value is an empty
// server without credentials.
type Server struct {
	// User and Password, when set, must come with every request.
	User, Password string

	mu      sync.RWMutex
	indices map[string]*index
	aliases map[string]map[string]bool // alias, index
	pits    map[string]*pit
	pitSeq  int

	faults faults
	bodies sync.Pool
}

// pit is a point in time: what was visible when it was opened.
type pit struct {
	index   *index
	docs    map[string]*doc
	ordered []*doc // by the order in which they were written
	expires time.Time
}

// maxBody is the largest request, as the server's http.max_content_length has it.
const maxBody = 100 << 20

// ServeHTTP answers one request.
func (s *Server) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if r.URL.Path == "/_standin/faults" {
		s.faults.serve(w, r)
		return
	}
	if s.User != "" {
		user, password, _ := r.BasicAuth()
		if subtle.ConstantTimeCompare([]byte(user+"\x00"+password), []byte(s.User+"\x00"+s.Password)) != 1 {
			w.Header().Set("WWW-Authenticate", `Basic realm="OpenSearch Security"`)
			http.Error(w, "Unauthorized", http.StatusUnauthorized)
			return
		}
	}
	lose, stopped := s.faults.strike(w, r)
	if stopped {
		return
	}
	status, body := s.answer(r)
	if lose {
		panic(http.ErrAbortHandler)
	}
	write(w, r, status, body)
}

func write(w http.ResponseWriter, r *http.Request, status int, body any) {
	switch b := body.(type) {
	case text:
		w.Header().Set("Content-Type", "text/plain; charset=UTF-8")
		w.WriteHeader(status)
		io.WriteString(w, string(b))
	case []byte:
		w.Header().Set("Content-Type", "application/json; charset=UTF-8")
		w.WriteHeader(status)
		w.Write(b)
	default:
		w.Header().Set("Content-Type", "application/json; charset=UTF-8")
		w.WriteHeader(status)
		if r.Method == http.MethodHead {
			return
		}
		encoder := json.NewEncoder(w)
		if r.URL.Query().Has("pretty") {
			encoder.SetIndent("", "  ")
		}
		encoder.Encode(body)
	}
}

type text string
type object = map[string]any

func (s *Server) answer(r *http.Request) (int, any) {
	buffer, _ := s.bodies.Get().(*bytes.Buffer)
	if buffer == nil {
		buffer = new(bytes.Buffer)
	}
	defer s.bodies.Put(buffer)
	buffer.Reset()
	if _, err := buffer.ReadFrom(io.LimitReader(r.Body, maxBody+1)); err != nil {
		return problem(&apiError{400, "illegal_argument_exception", err.Error(), nil})
	}
	if buffer.Len() > maxBody {
		return problem(&apiError{413, "content_too_long_exception", "request entity is too large", nil})
	}
	status, body, err := s.route(r, buffer.Bytes())
	if err != nil {
		return problem(err)
	}
	return status, body
}

func problem(err error) (int, any) {
	var api *apiError
	if !errors.As(err, &api) {
		api = &apiError{500, "exception", err.Error(), nil}
	}
	o := api.object()
	o["root_cause"] = []any{object{"type": api.kind, "reason": api.reason}}
	return api.status, object{"error": o, "status": api.status}
}

func noSuchIndex(name string) error {
	return &apiError{404, "index_not_found_exception", fmt.Sprintf("no such index [%s]", name), nil}
}

func (s *Server) route(r *http.Request, body []byte) (int, any, error) {
	parts := strings.Split(strings.Trim(r.URL.Path, "/"), "/")
	method := r.Method
	switch {
	case parts[0] == "":
		return 200, object{"name": "standin", "cluster_name": "pingo-standin", "version": object{"distribution": "opensearch", "number": "2.19.0", "build_type": "stand-in"}, "tagline": "a stand-in that ships with Pingo"}, nil
	case parts[0] == "_cluster" && len(parts) > 1 && parts[1] == "health":
		s.mu.RLock()
		defer s.mu.RUnlock()
		return 200, object{"cluster_name": "pingo-standin", "status": "green", "timed_out": false, "number_of_nodes": 1, "active_primary_shards": len(s.indices), "unassigned_shards": 0}, nil
	case parts[0] == "_cat" && len(parts) > 1 && parts[1] == "indices":
		return s.catIndices(r)
	case parts[0] == "_cat" && len(parts) > 1 && parts[1] == "aliases":
		return s.catAliases()
	case parts[0] == "_aliases" && method == http.MethodPost:
		return s.updateAliases(body)
	case parts[0] == "_bulk":
		return s.bulk(r, "", body)
	case parts[0] == "_search" && len(parts) > 1 && method == http.MethodDelete:
		return s.closePits(body)
	case parts[0] == "_search":
		return s.search("", body)
	case strings.HasPrefix(parts[0], "_"):
		return 0, nil, &apiError{400, "illegal_argument_exception", fmt.Sprintf("no handler found for uri [%s] and method [%s]", r.URL.Path, method), nil}
	case len(parts) == 1:
		return s.indexItself(method, parts[0], body)
	}
	name, verb := parts[0], parts[1]
	if verb == "_bulk" {
		return s.bulk(r, name, body)
	}
	if verb == "_doc" && len(parts) == 3 {
		return s.document(r, name, parts[2], body)
	}
	indices, err := s.resolve(name)
	if err != nil {
		return 0, nil, err
	}
	switch verb {
	case "_mget":
		return s.mget(indices[0], body)
	case "_count":
		total := 0
		for _, ix := range indices {
			found, err := ix.find(nil, body)
			if err != nil {
				return 0, nil, err
			}
			total += len(found)
		}
		return 200, object{"count": total, "_shards": shards(len(indices))}, nil
	case "_search":
		if len(parts) > 2 && parts[2] == "point_in_time" && method == http.MethodPost {
			return s.openPit(indices[0], r)
		}
		return s.search(name, body)
	case "_refresh":
		for _, ix := range indices {
			ix.mu.Lock()
			ix.refresh()
			ix.mu.Unlock()
		}
		return 200, object{"_shards": shards(len(indices))}, nil
	case "_mapping", "_settings", "_alias":
		if verb == "_settings" && method == http.MethodPut {
			return putSettings(indices, body)
		}
		out := object{}
		for _, ix := range indices {
			whole := s.describe(ix)
			key := map[string]string{"_mapping": "mappings", "_settings": "settings", "_alias": "aliases"}[verb]
			out[ix.name] = object{key: whole[key]}
		}
		return 200, out, nil
	}
	return 0, nil, &apiError{400, "illegal_argument_exception", fmt.Sprintf("no handler found for uri [%s] and method [%s]", r.URL.Path, method), nil}
}

func shards(n int) object { return object{"total": n, "successful": n, "skipped": 0, "failed": 0} }

// resolve finds the indices behind a name: an index or an alias.
func (s *Server) resolve(name string) ([]*index, error) {
	s.mu.RLock()
	defer s.mu.RUnlock()
	if ix := s.indices[name]; ix != nil {
		return []*index{ix}, nil
	}
	var out []*index
	for target := range s.aliases[name] {
		out = append(out, s.indices[target])
	}
	if len(out) == 0 {
		return nil, noSuchIndex(name)
	}
	sort.Slice(out, func(i, j int) bool { return out[i].name < out[j].name })
	return out, nil
}

var indexName = regexp.MustCompile(`^[^_\-+A-Z\\/*?"<>| ,#:][^A-Z\\/*?"<>| ,#:]*$`)

func (s *Server) indexItself(method, name string, body []byte) (int, any, error) {
	switch method {
	case http.MethodPut:
		return s.create(name, body)
	case http.MethodDelete:
		s.mu.Lock()
		defer s.mu.Unlock()
		if s.indices[name] == nil {
			if s.aliases[name] != nil {
				return 0, nil, &apiError{400, "illegal_argument_exception", fmt.Sprintf("The provided expression [%s] matches an alias, specify the corresponding concrete indices instead.", name), nil}
			}
			return 0, nil, noSuchIndex(name)
		}
		delete(s.indices, name)
		for alias, targets := range s.aliases {
			if delete(targets, name); len(targets) == 0 {
				delete(s.aliases, alias)
			}
		}
		return 200, object{"acknowledged": true}, nil
	case http.MethodGet, http.MethodHead:
		indices, err := s.resolve(name)
		if err != nil {
			return 0, nil, err
		}
		out := object{}
		for _, ix := range indices {
			out[ix.name] = s.describe(ix)
		}
		return 200, out, nil
	}
	return 0, nil, &apiError{405, "method_not_allowed", fmt.Sprintf("Incorrect HTTP method for uri [/%s] and method [%s]", name, method), nil}
}

func (s *Server) create(name string, body []byte) (int, any, error) {
	if !indexName.MatchString(name) || len(name) > 255 {
		return 0, nil, &apiError{400, "invalid_index_name_exception", fmt.Sprintf("Invalid index name [%s], must be lowercase and without \\, /, *, ?, \", <, >, |, space, comma, # and :, and not begin with _, - or +", name), nil}
	}
	var request struct {
		Settings map[string]any    `json:"settings"`
		Mappings *field            `json:"mappings"`
		Aliases  map[string]object `json:"aliases"`
	}
	if len(bytes.TrimSpace(body)) > 0 {
		decoder := json.NewDecoder(bytes.NewReader(body))
		decoder.DisallowUnknownFields()
		if err := decoder.Decode(&request); err != nil {
			return 0, nil, &apiError{400, "mapper_parsing_exception", "Failed to parse mapping [_doc]: " + err.Error(), nil}
		}
	}
	if request.Mappings == nil {
		request.Mappings = &field{}
	}
	if err := request.Mappings.check(""); err != nil {
		return 0, nil, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.indices == nil {
		s.indices, s.aliases, s.pits = map[string]*index{}, map[string]map[string]bool{}, map[string]*pit{}
	}
	if s.indices[name] != nil {
		return 0, nil, &apiError{400, "resource_already_exists_exception", fmt.Sprintf("index [%s] already exists", name), nil}
	}
	if s.aliases[name] != nil {
		return 0, nil, &apiError{400, "invalid_index_name_exception", fmt.Sprintf("Invalid index name [%s], already exists as alias", name), nil}
	}
	for alias := range request.Aliases {
		if s.indices[alias] != nil || alias == name {
			return 0, nil, &apiError{400, "invalid_alias_name_exception", fmt.Sprintf("Invalid alias name [%s]: an index exists with the same name as the alias", alias), nil}
		}
	}
	s.indices[name] = newIndex(name, request.Mappings, flatSettings(request.Settings))
	for alias := range request.Aliases {
		s.addAlias(alias, name)
	}
	return 200, object{"acknowledged": true, "shards_acknowledged": true, "index": name}, nil
}

func flatSettings(settings map[string]any) map[string]string {
	values := map[string][]any{}
	flatten(settings, "", values)
	out := map[string]string{}
	for k, v := range values {
		out[strings.TrimPrefix(k, "index.")] = fmt.Sprint(v[0])
	}
	return out
}

func putSettings(indices []*index, body []byte) (int, any, error) {
	var settings map[string]any
	if err := json.Unmarshal(body, &settings); err != nil {
		return 0, nil, &apiError{400, "settings_exception", "Failed to load settings from [" + string(body) + "]", nil}
	}
	for _, ix := range indices {
		ix.mu.Lock()
		for k, v := range flatSettings(settings) {
			ix.settings[k] = v
		}
		ix.mu.Unlock()
	}
	return 200, object{"acknowledged": true}, nil
}

func (s *Server) describe(ix *index) object {
	aliases := object{}
	s.mu.RLock()
	for alias, targets := range s.aliases {
		if targets[ix.name] {
			aliases[alias] = object{}
		}
	}
	s.mu.RUnlock()
	ix.mu.RLock()
	defer ix.mu.RUnlock()
	settings := object{"number_of_shards": "1", "number_of_replicas": "0", "provided_name": ix.name, "creation_date": strconv.FormatInt(ix.created.UnixMilli(), 10)}
	for k, v := range ix.settings {
		settings[k] = v
	}
	mapping, _ := json.Marshal(ix.mapping)
	return object{"aliases": aliases, "mappings": json.RawMessage(mapping), "settings": object{"index": settings}}
}

func (s *Server) addAlias(alias, target string) {
	if s.aliases[alias] == nil {
		s.aliases[alias] = map[string]bool{}
	}
	s.aliases[alias][target] = true
}

// updateAliases carries out all actions or none.
func (s *Server) updateAliases(body []byte) (int, any, error) {
	var request struct {
		Actions []map[string]struct {
			Index string `json:"index"`
			Alias string `json:"alias"`
		} `json:"actions"`
	}
	if err := json.Unmarshal(body, &request); err != nil {
		return 0, nil, badQuery("%s", err)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, action := range request.Actions {
		for verb, a := range action {
			switch {
			case s.indices[a.Index] == nil:
				return 0, nil, noSuchIndex(a.Index)
			case verb == "add" && s.indices[a.Alias] != nil:
				return 0, nil, &apiError{400, "invalid_alias_name_exception", fmt.Sprintf("Invalid alias name [%s]: an index or data stream exists with the same name as the alias", a.Alias), nil}
			case verb == "remove" && !s.aliases[a.Alias][a.Index]:
				return 0, nil, &apiError{404, "aliases_not_found_exception", fmt.Sprintf("aliases [%s] missing", a.Alias), nil}
			case verb != "add" && verb != "remove" && verb != "remove_index":
				return 0, nil, badQuery("[alias_action] unknown field [%s]", verb)
			}
		}
	}
	for _, action := range request.Actions {
		for verb, a := range action {
			switch verb {
			case "add":
				s.addAlias(a.Alias, a.Index)
			case "remove":
				if delete(s.aliases[a.Alias], a.Index); len(s.aliases[a.Alias]) == 0 {
					delete(s.aliases, a.Alias)
				}
			case "remove_index":
				delete(s.indices, a.Index)
			}
		}
	}
	return 200, object{"acknowledged": true}, nil
}

func (s *Server) catIndices(r *http.Request) (int, any, error) {
	s.mu.RLock()
	list := make([]*index, 0, len(s.indices))
	for _, ix := range s.indices {
		list = append(list, ix)
	}
	s.mu.RUnlock()
	sort.Slice(list, func(i, j int) bool { return list[i].name < list[j].name })
	rows := []map[string]string{}
	var b strings.Builder
	if r.URL.Query().Has("v") {
		b.WriteString("health status index                pri rep docs.count store.size\n")
	}
	for _, ix := range list {
		ix.mu.Lock()
		ix.autoRefresh()
		count, bytes := len(ix.visible), 0
		for _, d := range ix.visible {
			bytes += len(d.source)
		}
		ix.mu.Unlock()
		rows = append(rows, map[string]string{"health": "green", "status": "open", "index": ix.name, "pri": "1", "rep": "0", "docs.count": strconv.Itoa(count), "store.size": strconv.Itoa(bytes) + "b"})
		fmt.Fprintf(&b, "green  open   %-20s 1   0   %10d %9db\n", ix.name, count, bytes)
	}
	if r.URL.Query().Get("format") == "json" {
		return 200, rows, nil
	}
	return 200, text(b.String()), nil
}

func (s *Server) catAliases() (int, any, error) {
	s.mu.RLock()
	defer s.mu.RUnlock()
	var lines []string
	for alias, targets := range s.aliases {
		for target := range targets {
			lines = append(lines, fmt.Sprintf("%-20s %s\n", alias, target))
		}
	}
	sort.Strings(lines)
	return 200, text(strings.Join(lines, "")), nil
}

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
		return nil, &apiError{404, "index_not_found_exception", fmt.Sprintf("no such index [%s] and [require_alias] request flag is [true] and [%s] is not an alias", name, name), nil}
	case len(targets) == 0:
		return nil, noSuchIndex(name) // as with action.auto_create_index: false
	case len(targets) > 1:
		return nil, &apiError{400, "illegal_argument_exception", fmt.Sprintf("no write index is defined for alias [%s]. The write index may be explicitly disabled using is_bulkWriteindex=false or the alias points to multiple indices without one being designated as a write index", name), nil}
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
		return 200, object{"_index": indices[0].name, "_id": id, "_version": d.version, "found": true, "_source": json.RawMessage(d.source)}, nil
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
		if w.version, err = strconv.ParseInt(v, 10, 64); err != nil || r.URL.Query().Get("version_type") != "external" {
			return 0, nil, &apiError{400, "action_request_validation_exception", "Validation Failed: internal versioning can not be used for optimistic concurrency control", nil}
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
	return out.status, object{"_index": ix.name, "_id": id, "_version": out.version, "result": out.result, "_seq_no": out.seqNo, "_primary_term": 1}, nil
}

// bulk applies the lines of an NDJSON body one by one.
func (s *Server) bulk(r *http.Request, name string, body []byte) (int, any, error) {
	if kind := r.Header.Get("Content-Type"); !strings.Contains(kind, "json") {
		return 0, nil, &apiError{406, "content_type_exception", fmt.Sprintf("Content-Type header [%s] is not supported", kind), nil}
	}
	if len(body) == 0 || body[len(body)-1] != '\n' {
		return 0, nil, &apiError{400, "illegal_argument_exception", "The bulk request must be terminated by a newline [\\n]", nil}
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
			return 0, nil, &apiError{400, "illegal_argument_exception", fmt.Sprintf("Malformed action/metadata line [%d]: %s", line, err), nil}
		}
		body = rest
		if action.action != "delete" {
			end := bytes.IndexByte(body, '\n')
			if end < 0 {
				return 0, nil, &apiError{400, "illegal_argument_exception", "The bulk request must be terminated by a newline [\\n]", nil}
			}
			action.source, body = body[:end], body[end+1:]
			line++
		}
		result := s.bulkOne(index, requireAlias, &action, touched)
		failed = failed || result.err != nil
		out = appendItem(out, index, &action, result, wanted)
	}
	if r.URL.Query().Get("refresh") == "true" {
		for ix := range touched {
			ix.mu.Lock()
			ix.refresh()
			ix.mu.Unlock()
		}
	}
	if out[len(out)-1] == ',' {
		out = out[:len(out)-1]
	}
	out = append(out, "]}"...)
	if failed {
		out = bytes.Replace(out, []byte(`"errors":false`), []byte(`"errors":true`), 1)
	}
	return 200, bytes.Replace(out, []byte(`"took":0`), fmt.Appendf(nil, `"took":%d`, time.Since(began).Milliseconds()), 1), nil
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
	return ix.apply(w)
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

func (s *Server) mget(ix *index, body []byte) (int, any, error) {
	var request struct {
		IDs  []string `json:"ids"`
		Docs []struct {
			ID string `json:"_id"`
		} `json:"docs"`
	}
	if err := json.Unmarshal(body, &request); err != nil {
		return 0, nil, badQuery("%s", err)
	}
	for _, d := range request.Docs {
		request.IDs = append(request.IDs, d.ID)
	}
	docs := []object{}
	for _, id := range request.IDs {
		if d := ix.get(id); d != nil {
			docs = append(docs, object{"_index": ix.name, "_id": id, "_version": d.version, "found": true, "_source": json.RawMessage(d.source)})
		} else {
			docs = append(docs, object{"_index": ix.name, "_id": id, "found": false})
		}
	}
	return 200, object{"docs": docs}, nil
}

func (s *Server) openPit(ix *index, r *http.Request) (int, any, error) {
	keep, err := parseTime(r.URL.Query().Get("keep_alive"))
	if err != nil {
		return 0, nil, &apiError{400, "action_request_validation_exception", "Validation Failed: 1: keep alive not specified;", nil}
	}
	ix.mu.Lock()
	ix.autoRefresh()
	docs := make(map[string]*doc, len(ix.visible))
	for id, d := range ix.visible {
		docs[id] = d
	}
	ix.mu.Unlock()
	s.mu.Lock()
	defer s.mu.Unlock()
	for id, p := range s.pits {
		if time.Now().After(p.expires) {
			delete(s.pits, id)
		}
	}
	s.pitSeq++
	id := fmt.Sprintf("standin-pit-%d", s.pitSeq)
	ordered := slices.SortedFunc(maps.Values(docs), func(a, b *doc) int { return cmp.Compare(a.ordinal, b.ordinal) })
	s.pits[id] = &pit{ix, docs, ordered, time.Now().Add(keep)}
	return 200, object{"pit_id": id, "creation_time": time.Now().UnixMilli()}, nil
}

func (s *Server) closePits(body []byte) (int, any, error) {
	var request struct {
		IDs []string `json:"pit_id"`
	}
	if err := json.Unmarshal(body, &request); err != nil {
		return 0, nil, badQuery("%s", err)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, id := range request.IDs {
		delete(s.pits, id)
	}
	return 200, object{"pits": []any{}}, nil
}

type searchRequest struct {
	Query       any   `json:"query"`
	Sort        any   `json:"sort"`
	From        int   `json:"from"`
	Size        *int  `json:"size"`
	Source      any   `json:"_source"`
	SearchAfter []any `json:"search_after"`
	Pit         *struct {
		ID        string `json:"id"`
		KeepAlive string `json:"keep_alive"`
	} `json:"pit"`
	TrackTotalHits any `json:"track_total_hits"`
}

// find evaluates the query of a request's body; docs nil means what is visible now.
func (ix *index) find(docs map[string]*doc, body []byte) (scores, error) {
	var request searchRequest
	if len(bytes.TrimSpace(body)) > 0 {
		decoder := json.NewDecoder(bytes.NewReader(body))
		decoder.UseNumber()
		decoder.DisallowUnknownFields()
		if err := decoder.Decode(&request); err != nil {
			return nil, badQuery("%s", err)
		}
	}
	ix.mu.Lock()
	defer ix.mu.Unlock()
	ix.autoRefresh()
	if docs == nil {
		docs = ix.visible
	}
	if request.Query == nil {
		request.Query = object{"match_all": object{}}
	}
	if q, ok := request.Query.(object); !ok || q["match_all"] == nil || request.Sort != nil {
		ix.inverted.takeIn()
	}
	e := &evaluator{ix, docs}
	return e.eval(request.Query)
}

func (s *Server) search(name string, body []byte) (int, any, error) {
	began := time.Now()
	var request searchRequest
	if len(bytes.TrimSpace(body)) > 0 {
		decoder := json.NewDecoder(bytes.NewReader(body))
		decoder.UseNumber()
		if err := decoder.Decode(&request); err != nil {
			return 0, nil, badQuery("%s", err)
		}
	}
	size := 10
	if request.Size != nil {
		size = *request.Size
	}
	if request.From+size > 10000 {
		return 0, nil, &apiError{400, "illegal_argument_exception", fmt.Sprintf("Result window is too large, from + size must be less than or equal to: [10000] but was [%d]", request.From+size), nil}
	}
	var docs map[string]*doc
	var indices []*index
	var err error
	var p *pit
	if request.Pit != nil {
		s.mu.Lock()
		p = s.pits[request.Pit.ID]
		if p != nil {
			if keep, err := parseTime(request.Pit.KeepAlive); err == nil {
				p.expires = time.Now().Add(keep)
			}
			docs, indices = p.docs, []*index{p.index}
		}
		s.mu.Unlock()
		if p == nil {
			return 0, nil, &apiError{404, "search_phase_execution_exception", "No search context found for id [" + request.Pit.ID + "]", nil}
		}
	} else if indices, err = s.resolve(name); err != nil {
		return 0, nil, err
	}
	by := sortKeys(request.Sort)
	var found []ranked
	if p != nil && request.Query == nil && len(by) == 1 && by[0].path == "_shard_doc" {
		// Walking through everything needs no sorting for each page.
		after := int64(-1)
		if len(request.SearchAfter) == 1 {
			if after, err = strconv.ParseInt(fmt.Sprint(request.SearchAfter[0]), 10, 64); err != nil {
				return 0, nil, badQuery("search_after: %s", err)
			}
		}
		at, _ := slices.BinarySearchFunc(p.ordered, after, func(d *doc, after int64) int { return cmp.Compare(d.ordinal, after+1) })
		for _, d := range p.ordered[at:min(at+size, len(p.ordered))] {
			found = append(found, ranked{doc: d, keys: []any{d.ordinal}})
		}
		return hitsOf(began, indices, found, len(p.ordered), by, request)
	}
	for _, ix := range indices {
		hits, err := ix.find(docs, body)
		if err != nil {
			return 0, nil, err
		}
		ix.mu.RLock()
		found = append(found, ix.order(hits, by)...)
		ix.mu.RUnlock()
	}
	total := len(found)
	if request.SearchAfter != nil {
		at := sort.Search(len(found), func(i int) bool { return compareKeys(found[i].keys, request.SearchAfter, by) > 0 })
		found = found[at:]
	}
	found = found[min(request.From, len(found)):]
	return hitsOf(began, indices, found[:min(size, len(found))], total, by, request)
}

func hitsOf(began time.Time, indices []*index, found []ranked, total int, by []sortKey, request searchRequest) (int, any, error) {
	hits := []object{}
	var best any
	for _, f := range found {
		h := object{"_index": indices[0].name, "_id": f.doc.id, "_score": f.score, "_source": pick(f.doc.source, request.Source)}
		if len(by) > 0 {
			h["sort"] = f.keys
		} else if best == nil {
			best = f.score
		}
		hits = append(hits, h)
	}
	return 200, object{"took": time.Since(began).Milliseconds(), "timed_out": false, "_shards": shards(len(indices)),
		"hits": object{"total": object{"value": total, "relation": "eq"}, "max_score": best, "hits": hits}}, nil
}

// pick keeps the top-level members that _source asks for.
func pick(source []byte, want any) json.RawMessage {
	list, ok := want.([]any)
	if !ok {
		return source
	}
	var all map[string]json.RawMessage
	if json.Unmarshal(source, &all) != nil {
		return source
	}
	out := map[string]json.RawMessage{}
	for _, name := range list {
		if v, ok := all[fmt.Sprint(name)]; ok {
			out[fmt.Sprint(name)] = v
		}
	}
	b, _ := json.Marshal(out)
	return b
}
