package taskserver

import (
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"
)

// key is a key with rights.
type key struct {
	Name        *string    `json:"name"`
	Description *string    `json:"description"`
	Key         string     `json:"key"`
	UID         string     `json:"uid"`
	Actions     []string   `json:"actions"`
	Indexes     []string   `json:"indexes"`
	ExpiresAt   *time.Time `json:"expiresAt"`
	CreatedAt   time.Time  `json:"createdAt"`
	UpdatedAt   time.Time  `json:"updatedAt"`
}

// actionOf names what a request needs the right for.
func actionOf(method string, parts []string) string {
	verb := map[string]string{http.MethodGet: "get", http.MethodPost: "create", http.MethodPatch: "update", http.MethodPut: "update", http.MethodDelete: "delete"}[method]
	switch parts[0] {
	case "version":
		return "version"
	case "stats":
		return "stats.get"
	case "keys":
		return "keys." + verb
	case "swap-indexes":
		return "indexes.swap"
	case "multi-search":
		return "search"
	case "tasks":
		if method == http.MethodPost {
			return "tasks.cancel"
		}
		return "tasks." + verb
	case "indexes":
		if len(parts) < 3 {
			return "indexes." + verb
		}
		switch parts[2] {
		case "search", "facet-search":
			return "search"
		case "stats":
			return "stats.get"
		case "settings":
			if method == http.MethodGet {
				return "settings.get"
			}
			return "settings.update"
		case "documents":
			switch {
			case method == http.MethodGet || len(parts) > 3 && parts[3] == "fetch":
				return "documents.get"
			case method == http.MethodDelete || len(parts) > 3:
				return "documents.delete"
			}
			return "documents.add"
		}
	}
	return verb
}

// allowed checks the key of a request against what it asks for.
func (s *Server) allowed(r *http.Request, action, index string) *Error {
	if s.Key == "" {
		return nil
	}
	given, has := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer ")
	if !has {
		return fault(http.StatusUnauthorized, "missing_authorization_header", "The Authorization header is missing. It must use the bearer authorization method.")
	}
	if hmac.Equal([]byte(given), []byte(s.Key)) {
		return nil
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.defaultKeys()
	for _, k := range s.keys {
		if !hmac.Equal([]byte(given), []byte(k.Key)) || k.ExpiresAt != nil && time.Now().After(*k.ExpiresAt) {
			continue
		}
		room, _, _ := strings.Cut(action, ".")
		may := slices.Contains(k.Actions, "*") || slices.Contains(k.Actions, action) || slices.Contains(k.Actions, room+".*")
		at := index == "" || slices.ContainsFunc(k.Indexes, func(pattern string) bool {
			start, open := strings.CutSuffix(pattern, "*")
			return pattern == index || open && strings.HasPrefix(index, start)
		})
		if may && at {
			return nil
		}
	}
	return fault(http.StatusForbidden, "invalid_api_key", "The provided API key is invalid.")
}

// addKey gives a key its number, if it has none, and its text, which follows from that. The caller holds mu.
func (s *Server) addKey(k *key) {
	if k.UID == "" {
		var b [16]byte
		rand.Read(b[:])
		b[6], b[8] = b[6]&0x0f|0x40, b[8]&0x3f|0x80
		k.UID = fmt.Sprintf("%x-%x-%x-%x-%x", b[:4], b[4:6], b[6:8], b[8:10], b[10:])
	}
	mac := hmac.New(sha256.New, []byte(s.Key))
	mac.Write([]byte(k.UID))
	k.Key = hex.EncodeToString(mac.Sum(nil))
	s.keys = append(s.keys, k)
}

// defaultKeys makes the two keys that there are at first: one for everything but keys, and one for searches. The caller
// holds mu.
func (s *Server) defaultKeys() {
	if s.keyed {
		return
	}
	s.keyed = true
	for _, k := range []struct{ name, action string }{{"Default Admin API Key", "*"}, {"Default Search API Key", "search"}} {
		now := time.Now().UTC()
		s.addKey(&key{Name: &k.name, Actions: []string{k.action}, Indexes: []string{"*"}, CreatedAt: now, UpdatedAt: now})
	}
}

// keyRoute answers requests below /keys.
func (s *Server) keyRoute(method string, parts []string, body []byte) (int, any, *Error) {
	if s.Key == "" {
		return 0, nil, fault(http.StatusUnauthorized, "missing_master_key", "The stand-in is running without a master key. To access this API route, you must have set a master key at launch.")
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.defaultKeys()
	if len(parts) == 0 || parts[0] == "" {
		switch method {
		case http.MethodGet:
			list := []key{}
			for _, k := range slices.Backward(s.keys) {
				list = append(list, *k)
			}
			return http.StatusOK, map[string]any{"results": list, "offset": 0, "limit": 20, "total": len(list)}, nil
		case http.MethodPost:
			k := &key{CreatedAt: time.Now().UTC(), UpdatedAt: time.Now().UTC()}
			if fail := read(body, k); fail != nil {
				return 0, nil, fail
			}
			if k.Actions == nil {
				return 0, nil, fault(400, "missing_api_key_actions", "Missing field `actions`")
			}
			if k.Indexes == nil {
				return 0, nil, fault(400, "missing_api_key_indexes", "Missing field `indexes`")
			}
			s.addKey(k)
			return http.StatusCreated, *k, nil
		}
		return 0, nil, fault(405, "method_not_allowed", "%s is not answered here.", method)
	}
	at := slices.IndexFunc(s.keys, func(k *key) bool { return k.UID == parts[0] || k.Key == parts[0] })
	if at < 0 {
		return 0, nil, fault(404, "api_key_not_found", "API key `%s` not found.", parts[0])
	}
	switch method {
	case http.MethodGet:
		return http.StatusOK, *s.keys[at], nil
	case http.MethodPatch:
		var in struct{ Name, Description *string }
		if fail := read(body, &in); fail != nil {
			return 0, nil, fail
		}
		if in.Name != nil {
			s.keys[at].Name = in.Name
		}
		if in.Description != nil {
			s.keys[at].Description = in.Description
		}
		s.keys[at].UpdatedAt = time.Now().UTC()
		return http.StatusOK, *s.keys[at], nil
	case http.MethodDelete:
		s.keys = slices.Delete(s.keys, at, at+1)
		return http.StatusNoContent, nil, nil
	}
	return 0, nil, fault(405, "method_not_allowed", "%s is not answered here.", method)
}
