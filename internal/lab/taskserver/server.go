// Package taskserver is a simulated search server of the kind tasks, for the demo, for tests, and for trying Pingo out. It
// answers writes with tasks, carries them out in order, and knows the settings, filters and rankings of the family, with an
// error for what it does not know. It keeps everything in memory.
package taskserver

import (
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"net/http"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"
)

// Server is a simulated server. The zero value holds nothing and needs no key.
type Server struct {
	// Key is the master key; empty lets everyone in.
	Key string
	// MaxBody bounds requests, in bytes; 0 means 100 MB.
	MaxBody int64
	// Refuses says why a document fails its task, for tests; empty where it does not. Nil refuses none.
	Refuses func(d map[string]any) string
	// Takes is how long each task takes at least.
	Takes time.Duration

	mu      sync.Mutex // guards what follows
	indexes map[string]*index
	tasks   []*task
	keys    []*key
	keyed   bool       // the default keys were made
	queue   chan *task // of tasks that wait, in order; made with the first
}

type index struct {
	UID        string    `json:"uid"`
	CreatedAt  time.Time `json:"createdAt"`
	UpdatedAt  time.Time `json:"updatedAt"`
	PrimaryKey *string   `json:"primaryKey"`

	settings map[string]any
	docs     map[string]map[string]any
	order    []string // of ids, as they were added
}

// document is a document with what a search looks into.
type document = map[string]any

// Error is how the server says what is wrong.
type Error struct {
	Message string `json:"message"`
	Code    string `json:"code"`
	Type    string `json:"type"`
	Link    string `json:"link"`

	status int
}

func (e *Error) Error() string { return e.Message }

func fault(status int, code, format string, args ...any) *Error {
	kind := "invalid_request"
	switch {
	case status == http.StatusUnauthorized || status == http.StatusForbidden:
		kind = "auth"
	case status >= 500:
		kind = "internal"
	}
	return &Error{fmt.Sprintf(format, args...), code, kind, "", status}
}

func notFound(uid string) *Error {
	return fault(http.StatusNotFound, "index_not_found", "Index `%s` not found.", uid)
}

const defaultMaxBody = 100 << 20

// ServeHTTP answers a request.
func (s *Server) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	limit := s.MaxBody
	if limit == 0 {
		limit = defaultMaxBody
	}
	body, err := io.ReadAll(http.MaxBytesReader(w, r.Body, limit))
	if err != nil {
		s.answer(w, 0, nil, fault(http.StatusRequestEntityTooLarge, "payload_too_large", "The provided payload reached the size limit."))
		return
	}
	status, out, fail := s.route(r, body)
	s.answer(w, status, out, fail)
}

func (s *Server) answer(w http.ResponseWriter, status int, out any, fail *Error) {
	if fail != nil {
		status, out = fail.status, fail
	}
	if out == nil {
		w.WriteHeader(status)
		return
	}
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	json.NewEncoder(w).Encode(out)
}

var validUID = regexp.MustCompile(`^[A-Za-z0-9_-]{1,400}$`)

// route finds what answers a request.
func (s *Server) route(r *http.Request, body []byte) (int, any, *Error) {
	parts := strings.Split(strings.Trim(r.URL.EscapedPath(), "/"), "/")
	if parts[0] == "health" {
		return http.StatusOK, map[string]string{"status": "available"}, nil
	}
	action := actionOf(r.Method, parts)
	index := ""
	if parts[0] == "indexes" && len(parts) > 1 {
		index = parts[1]
	}
	if fail := s.allowed(r, action, index); fail != nil {
		return 0, nil, fail
	}
	q := r.URL.Query()
	switch parts[0] {
	case "version":
		return http.StatusOK, map[string]string{"commitSha": "standin", "commitDate": "standin", "pkgVersion": "1.12.0"}, nil
	case "stats":
		return http.StatusOK, s.stats(), nil
	case "tasks":
		return s.taskRoute(r.Method, parts[1:], q)
	case "swap-indexes":
		if r.Method == http.MethodPost {
			return s.enqueueSwap(body)
		}
	case "multi-search":
		if r.Method == http.MethodPost {
			return s.multiSearch(body)
		}
	case "keys":
		return s.keyRoute(r.Method, parts[1:], body)
	case "indexes":
		return s.indexRoute(r, parts[1:], q, body)
	}
	return 0, nil, fault(http.StatusNotFound, "not_found", "The stand-in has nothing at %s %s.", r.Method, r.URL.Path)
}

func (s *Server) stats() any {
	s.mu.Lock()
	defer s.mu.Unlock()
	out := map[string]any{}
	for uid, i := range s.indexes {
		out[uid] = i.stats()
	}
	return map[string]any{"databaseSize": 0, "lastUpdate": time.Now().UTC(), "indexes": out}
}

func (i *index) stats() map[string]any {
	fields := map[string]int{}
	for _, d := range i.docs {
		for name := range d {
			fields[name]++
		}
	}
	return map[string]any{"numberOfDocuments": len(i.docs), "isIndexing": false, "fieldDistribution": fields}
}

// indexRoute answers requests below /indexes.
func (s *Server) indexRoute(r *http.Request, parts []string, q map[string][]string, body []byte) (int, any, *Error) {
	get := func(name string) string {
		if v := q[name]; len(v) > 0 {
			return v[0]
		}
		return ""
	}
	if len(parts) == 0 || parts[0] == "" {
		switch r.Method {
		case http.MethodGet:
			return s.listIndexes(get("offset"), get("limit"))
		case http.MethodPost:
			var in struct {
				UID        *string `json:"uid"`
				PrimaryKey *string `json:"primaryKey"`
			}
			if fail := read(body, &in); fail != nil {
				return 0, nil, fail
			}
			if in.UID == nil {
				return 0, nil, fault(400, "missing_index_uid", "Missing field `uid`")
			}
			if !validUID.MatchString(*in.UID) {
				return 0, nil, invalidUID(*in.UID)
			}
			return s.enqueue("indexCreation", *in.UID, nil, func() *Error { return s.createIndex(*in.UID, in.PrimaryKey, true) })
		}
		return 0, nil, fault(405, "method_not_allowed", "%s is not answered here.", r.Method)
	}
	uid := parts[0]
	if !validUID.MatchString(uid) {
		return 0, nil, invalidUID(uid)
	}
	if len(parts) == 1 {
		switch r.Method {
		case http.MethodGet:
			return s.withIndex(uid, func(i *index) (any, *Error) { return i, nil })
		case http.MethodDelete:
			return s.enqueue("indexDeletion", uid, nil, func() *Error {
				if s.indexes[uid] == nil {
					return notFound(uid)
				}
				delete(s.indexes, uid)
				return nil
			})
		case http.MethodPatch:
			var in struct {
				PrimaryKey *string `json:"primaryKey"`
			}
			if fail := read(body, &in); fail != nil {
				return 0, nil, fail
			}
			return s.enqueue("indexUpdate", uid, nil, func() *Error {
				i := s.indexes[uid]
				switch {
				case i == nil:
					return notFound(uid)
				case len(i.docs) > 0:
					return fault(400, "index_primary_key_already_exists", "Index `%s`: Index already has a primary key: `%s`.", uid, *i.PrimaryKey)
				}
				i.PrimaryKey, i.UpdatedAt = in.PrimaryKey, time.Now().UTC()
				return nil
			})
		}
	}
	switch parts[1] {
	case "stats":
		return s.withIndex(uid, func(i *index) (any, *Error) { return i.stats(), nil })
	case "settings":
		return s.settingsRoute(r.Method, uid, parts[2:], body)
	case "search":
		if r.Method == http.MethodPost {
			var in search
			if fail := read(body, &in); fail != nil {
				return 0, nil, fail
			}
			return s.withIndex(uid, func(i *index) (any, *Error) { return i.search(&in) })
		}
		if r.Method == http.MethodGet {
			in, fail := searchOf(q)
			if fail != nil {
				return 0, nil, fail
			}
			return s.withIndex(uid, func(i *index) (any, *Error) { return i.search(in) })
		}
	case "facet-search":
		if r.Method == http.MethodPost {
			return s.facetSearch(uid, body)
		}
	case "documents":
		return s.documentRoute(r, uid, parts[2:], q, body)
	}
	return 0, nil, fault(http.StatusNotFound, "not_found", "The stand-in has nothing at %s %s.", r.Method, r.URL.Path)
}

func invalidUID(uid string) *Error {
	return fault(400, "invalid_index_uid", "`%s` is not a valid index uid. Index uid can be an integer or a string containing only alphanumeric characters, hyphens (-) and underscores (_), and can not be more than 512 bytes.", uid)
}

func read(body []byte, into any) *Error {
	if err := json.Unmarshal(body, into); err != nil {
		return fault(400, "malformed_payload", "The json payload provided is malformed. `%v`.", err)
	}
	return nil
}

// withIndex answers with what is asked of an index.
func (s *Server) withIndex(uid string, ask func(i *index) (any, *Error)) (int, any, *Error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	i := s.indexes[uid]
	if i == nil {
		return 0, nil, notFound(uid)
	}
	out, fail := ask(i)
	if fail != nil {
		return 0, nil, fail
	}
	// The answer is written after the lock is given back, so it must not share what tasks change.
	b, err := json.Marshal(out)
	if err != nil {
		return 0, nil, fault(500, "internal", "%v", err)
	}
	return http.StatusOK, json.RawMessage(b), nil
}

func (s *Server) listIndexes(offset, limit string) (int, any, *Error) {
	from, most, fail := pageOf(offset, limit, 20)
	if fail != nil {
		return 0, nil, fail
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	all := slices.Sorted(maps.Keys(s.indexes))
	list := []index{}
	for n, uid := range all {
		if n >= from && len(list) < most {
			list = append(list, *s.indexes[uid])
		}
	}
	return http.StatusOK, map[string]any{"results": list, "offset": from, "limit": most, "total": len(all)}, nil
}

func pageOf(offset, limit string, usual int) (from, most int, fail *Error) {
	most = usual
	for text, at := range map[string]*int{"o" + offset: &from, "l" + limit: &most} {
		if text = text[1:]; text == "" {
			continue
		}
		n, err := strconv.Atoi(text)
		if err != nil || n < 0 {
			return 0, 0, fault(400, "invalid_parameter", "Invalid value: could not parse `%s` as a positive integer", text)
		}
		*at = n
	}
	return from, most, nil
}

// createIndex makes an index. The caller holds mu.
func (s *Server) createIndex(uid string, primaryKey *string, fresh bool) *Error {
	if i := s.indexes[uid]; i != nil {
		if fresh {
			return fault(409, "index_already_exists", "Index `%s` already exists.", uid)
		}
		return nil
	}
	if s.indexes == nil {
		s.indexes = map[string]*index{}
	}
	now := time.Now().UTC()
	s.indexes[uid] = &index{UID: uid, CreatedAt: now, UpdatedAt: now, PrimaryKey: primaryKey, settings: map[string]any{}, docs: map[string]map[string]any{}}
	return nil
}

func (s *Server) enqueueSwap(body []byte) (int, any, *Error) {
	var in []struct {
		Indexes []string `json:"indexes"`
	}
	if fail := read(body, &in); fail != nil {
		return 0, nil, fail
	}
	seen := map[string]bool{}
	for _, pair := range in {
		if len(pair.Indexes) != 2 {
			return 0, nil, fault(400, "invalid_swap_indexes", "Two indexes must be given for each swap. The list `%v` contains %d indexes.", pair.Indexes, len(pair.Indexes))
		}
		for _, uid := range pair.Indexes {
			if seen[uid] {
				return 0, nil, fault(400, "invalid_swap_duplicate_index_found", "Indexes must be declared only once during a swap. `%s` was specified several times.", uid)
			}
			seen[uid] = true
		}
	}
	return s.enqueue("indexSwap", "", map[string]any{"swaps": in}, func() *Error {
		var missing []string
		for uid := range seen {
			if s.indexes[uid] == nil {
				missing = append(missing, "`"+uid+"`")
			}
		}
		if len(missing) > 0 {
			slices.Sort(missing)
			return fault(404, "index_not_found", "Indexes %s not found.", strings.Join(missing, ", "))
		}
		for _, pair := range in {
			a, b := s.indexes[pair.Indexes[0]], s.indexes[pair.Indexes[1]]
			*a, *b = *b, *a // with their names, times and all
			a.UID, b.UID = pair.Indexes[0], pair.Indexes[1]
		}
		return nil
	})
}
