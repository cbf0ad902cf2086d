// Package standin holds stand-in engines: small simulated search servers for the
// demo, for tests, and for trying Pingo out. They keep everything in memory.
package standin

import (
	"bytes"
	"crypto/subtle"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"sort"
	"strings"
	"sync"
)

// Server answers the part of OpenSearch's public HTTP interface that its clients
// use most. Where a real server is strict, it is strict. The zero value is an empty
// server without credentials.
type Server struct {
	// User and Password, when set, must come with every request.
	User, Password string

	mu      sync.RWMutex // guards what follows
	indices map[string]*index
	aliases map[string]map[string]bool // alias, index
	pits    map[string]*pit
	scrolls map[string]*scroll
	pitSeq  int

	faults faults
	bodies sync.Pool
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
	if api.kind == "" { // some are reported in plain text
		return api.status, object{"error": api.reason, "status": api.status}
	}
	return api.status, object{"error": withRoot(api), "status": api.status}
}

func noSuchIndex(name string) error {
	return &apiError{404, "index_not_found_exception", fmt.Sprintf("no such index [%s]", name), nil}
}

func (s *Server) route(r *http.Request, body []byte) (int, any, error) {
	parts := strings.Split(strings.Trim(r.URL.Path, "/"), "/")
	method := r.Method
	switch {
	case parts[0] == "":
		return 200, object{
			"name":         "standin",
			"cluster_name": "pingo-standin",
			"version":      object{"distribution": "opensearch", "number": "2.19.0", "build_type": "stand-in"},
			"tagline":      "a stand-in that ships with Pingo",
		}, nil
	case parts[0] == "_cluster" && len(parts) > 1 && parts[1] == "health":
		if method != http.MethodGet {
			return 0, nil, wrongMethod(r.URL.Path, method)
		}
		s.mu.RLock()
		defer s.mu.RUnlock()
		return 200, object{
			"cluster_name":          "pingo-standin",
			"status":                "green",
			"timed_out":             false,
			"number_of_nodes":       1,
			"active_primary_shards": len(s.indices),
			"unassigned_shards":     0,
		}, nil
	case parts[0] == "_cat" && len(parts) > 1 && parts[1] == "indices":
		return s.catIndices(r)
	case parts[0] == "_cat" && len(parts) > 1 && parts[1] == "aliases":
		return s.catAliases()
	case parts[0] == "_aliases" && method == http.MethodPost:
		return s.updateAliases(body)
	case parts[0] == "_alias" && method == http.MethodGet:
		return s.allAliases()
	case parts[0] == "_bulk":
		return s.bulk(r, "", body)
	case parts[0] == "_search" && len(parts) > 1 && parts[1] == "scroll" && method == http.MethodDelete:
		return s.closeScroll(body)
	case parts[0] == "_search" && len(parts) > 1 && parts[1] == "scroll":
		return s.nextPage(body)
	case parts[0] == "_search" && len(parts) > 1 && method == http.MethodDelete:
		return s.closePits(body)
	case parts[0] == "_search":
		return s.search("", body)
	case len(parts) == 1:
		return s.indexItself(method, parts[0], body)
	}
	return s.within(r, parts, body)
}

// within answers what is asked of an index, by its name or an alias.
func (s *Server) within(r *http.Request, parts []string, body []byte) (int, any, error) {
	name, verb, method := parts[0], parts[1], r.Method
	switch verb {
	case "_bulk":
		return s.bulk(r, name, body)
	case "_mget":
		return s.mget(r.URL.Query(), name, body)
	case "_doc":
		if len(parts) == 3 {
			return s.document(r, name, parts[2], body)
		}
		return 0, nil, wrongMethod(r.URL.Path, method)
	case "_count", "_search", "_refresh", "_mapping", "_settings", "_alias", "_open", "_close":
	default:
		return 0, nil, &apiError{
			400,
			"",
			fmt.Sprintf("no handler found for uri [%s] and method [%s]", r.URL.Path, method),
			nil,
		}
	}
	indices, err := s.resolve(name)
	if err != nil {
		return 0, nil, err
	}
	switch verb {
	case "_count":
		return s.count(indices, body)
	case "_search":
		if len(parts) > 2 && parts[2] == "point_in_time" && method == http.MethodPost {
			return s.openPit(indices[0], r)
		}
		if keep := r.URL.Query().Get("scroll"); keep != "" {
			return s.openScroll(indices[0], keep, body)
		}
		return s.search(name, body)
	case "_open", "_close":
		for _, ix := range indices {
			ix.mu.Lock()
			ix.closed = verb == "_close"
			ix.mu.Unlock()
		}
		return 200, object{"acknowledged": true}, nil
	case "_refresh":
		for _, ix := range indices {
			if ix.shut() {
				return 0, nil, &apiError{400, "index_closed_exception", "closed", nil}
			}
			ix.refresh()
		}
		return 200, object{"_shards": shards(len(indices))}, nil
	}
	if verb == "_settings" && method == http.MethodPut {
		return putSettings(indices, body)
	}
	out := object{}
	for _, ix := range indices {
		whole := s.describe(ix)
		if verb == "_settings" && r.URL.Query().Get("flat_settings") == "true" {
			flat := object{}
			for name, value := range flatSettings(whole["settings"].(object)) {
				flat["index."+name] = value
			}
			whole["settings"] = flat
		}
		key := map[string]string{"_mapping": "mappings", "_settings": "settings", "_alias": "aliases"}[verb]
		out[ix.name] = object{key: whole[key]}
	}
	return 200, out, nil
}

func wrongMethod(path, method string) error {
	return &apiError{
		405,
		"",
		fmt.Sprintf("Incorrect HTTP method for uri [%s] and method [%s]", path, method),
		nil,
	}
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
