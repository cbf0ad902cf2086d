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
	ordered []*doc // by id
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
		return 200, object{
			"name":         "standin",
			"cluster_name": "pingo-standin",
			"version":      object{"distribution": "opensearch", "number": "2.19.0", "build_type": "stand-in"},
			"tagline":      "a stand-in that ships with Pingo",
		}, nil
	case parts[0] == "_cluster" && len(parts) > 1 && parts[1] == "health":
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
	case parts[0] == "_bulk":
		return s.bulk(r, "", body)
	case parts[0] == "_search" && len(parts) > 1 && method == http.MethodDelete:
		return s.closePits(body)
	case parts[0] == "_search":
		return s.search("", body)
	case strings.HasPrefix(parts[0], "_"):
		return 0, nil, &apiError{
			400,
			"illegal_argument_exception",
			fmt.Sprintf("no handler found for uri [%s] and method [%s]", r.URL.Path, method),
			nil,
		}
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
			n, err := ix.count(body)
			if err != nil {
				return 0, nil, err
			}
			total += n
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
	return 0, nil, &apiError{
		400,
		"illegal_argument_exception",
		fmt.Sprintf("no handler found for uri [%s] and method [%s]", r.URL.Path, method),
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
