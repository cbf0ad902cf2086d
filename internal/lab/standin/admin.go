package standin

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net/http"
	"sort"
	"strconv"
	"strings"
)

func (s *Server) indexItself(method, name string, body []byte) (int, any, error) {
	switch method {
	case http.MethodPut:
		return s.create(name, body)
	case http.MethodDelete:
		s.mu.Lock()
		defer s.mu.Unlock()
		if s.indices[name] == nil {
			if s.aliases[name] != nil {
				return 0, nil, &apiError{
					400,
					"illegal_argument_exception",
					fmt.Sprintf(
						"The provided expression [%s] matches an alias, specify the corresponding concrete indices instead.",
						name,
					),
					nil,
				}
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
		if strings.HasPrefix(name, "_") {
			return 0, nil, &apiError{
				400,
				"invalid_index_name_exception",
				fmt.Sprintf("Invalid index name [%s], must not start with '_'.", name),
				nil,
			}
		}
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
	return 0, nil, wrongMethod("/"+name, method)
}

// badName says why an index cannot have a name; empty when it can.
func badName(name string) string {
	switch {
	case name == "." || name == "..":
		return "must not be '.' or '..'"
	case strings.ContainsAny(name[:1], "_-+"):
		return "must not start with '_', '-', or '+'"
	case strings.ContainsAny(name, "\\/*?\"<>| ,"):
		return "must not contain the following characters [ , \", *, \\, <, |, ,, >, /, ?]"
	case strings.Contains(name, "#"):
		return "must not contain '#'"
	case strings.Contains(name, ":"):
		return "must not contain ':'"
	case name != strings.ToLower(name):
		return "must be lowercase"
	case len(name) > 255:
		return fmt.Sprintf("index name is too long, (%d > 255)", len(name))
	}
	return ""
}

func (s *Server) create(name string, body []byte) (int, any, error) {
	if why := badName(name); why != "" {
		return 0, nil, &apiError{
			400,
			"invalid_index_name_exception",
			fmt.Sprintf("Invalid index name [%s], %s", name, why),
			nil,
		}
	}
	request := object{}
	if trimmed := bytes.TrimSpace(body); len(trimmed) > 0 {
		if trimmed[0] != '{' {
			return 0, nil, &apiError{
				500,
				"not_x_content_exception",
				"Compressor detection can only be called on some xcontent bytes or compressed xcontent bytes",
				nil,
			}
		}
		if err := json.Unmarshal(body, &request); err != nil {
			return 0, nil, &apiError{
				400,
				"parse_exception",
				"Failed to parse content to map",
				&apiError{kind: "json_e_o_f_exception", reason: err.Error()},
			}
		}
	}
	for key := range request {
		if key != "settings" && key != "mappings" && key != "aliases" {
			return 0, nil, &apiError{
				400,
				"parse_exception",
				fmt.Sprintf("unknown key [%s] for create index", key),
				nil,
			}
		}
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.indices == nil {
		s.indices, s.aliases, s.pits = map[string]*index{}, map[string]map[string]bool{}, map[string]*pit{}
	}
	if s.indices[name] != nil {
		return 0, nil, &apiError{
			400,
			"resource_already_exists_exception",
			fmt.Sprintf("index [%s] already exists", name),
			nil,
		}
	}
	if s.aliases[name] != nil {
		return 0, nil, &apiError{
			400,
			"invalid_index_name_exception",
			fmt.Sprintf("Invalid index name [%s], already exists as alias", name),
			nil,
		}
	}
	given, _ := request["settings"].(object)
	settings := flatSettings(given)
	if err := checkSettings(settings); err != nil {
		return 0, nil, err
	}
	analysis, err := newAnalysis(given, settings)
	if err != nil {
		return 0, nil, err
	}
	mapping, bad := readMapping(request["mappings"])
	if bad != nil {
		return 0, nil, bad
	}
	if err := analysis.check(mapping); err != nil {
		return 0, nil, err
	}
	aliases, _ := request["aliases"].(object)
	for alias := range aliases {
		if s.indices[alias] != nil || alias == name {
			return 0, nil, &apiError{500, "illegal_state_exception", fmt.Sprintf(
				"index, alias, and data stream names need to be unique, but the following duplicates were found [%s (alias of [%s]) conflicts with index]",
				alias,
				name,
			), nil}
		}
	}
	s.indices[name] = newIndex(name, mapping, settings, analysis)
	for alias := range aliases {
		s.addAlias(alias, name)
	}
	return 200, object{"acknowledged": true, "shards_acknowledged": true, "index": name}, nil
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
	ix.mu.Lock()
	defer ix.mu.Unlock()
	settings := object{
		"number_of_shards":   "1",
		"number_of_replicas": "0",
		"provided_name":      ix.name,
		"uuid":               ix.uuid,
		"creation_date":      strconv.FormatInt(ix.created.UnixMilli(), 10),
	}
	for k, v := range ix.settings {
		settings[k] = v
	}
	return object{
		"aliases":  aliases,
		"mappings": ix.mapping.describe(),
		"settings": object{"index": settings},
	}
}

// allAliases lists every index with its aliases.
func (s *Server) allAliases() (int, any, error) {
	s.mu.RLock()
	defer s.mu.RUnlock()
	out := object{}
	for name := range s.indices {
		aliases := object{}
		for alias, targets := range s.aliases {
			if targets[name] {
				aliases[alias] = object{}
			}
		}
		out[name] = object{"aliases": aliases}
	}
	return 200, out, nil
}

func (s *Server) addAlias(alias, target string) {
	if s.aliases[alias] == nil {
		s.aliases[alias] = map[string]bool{}
	}
	s.aliases[alias][target] = true
}

// updateAliases carries out all actions or none.
func (s *Server) updateAliases(body []byte) (int, any, error) {
	if len(bytes.TrimSpace(body)) == 0 {
		return 0, nil, &apiError{400, "parse_exception", "request body is required", nil}
	}
	var request struct {
		Actions []map[string]struct {
			Index string `json:"index"`
			Alias string `json:"alias"`
		} `json:"actions"`
	}
	if err := json.Unmarshal(body, &request); err != nil {
		return 0, nil, badQuery("%s", err)
	}
	if len(request.Actions) == 0 {
		return 0, nil, &apiError{400, "illegal_argument_exception", "No action specified", nil}
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	goes := map[string]bool{} // an alias may take the name of an index that is deleted with it
	for _, action := range request.Actions {
		goes[action["remove_index"].Index] = true
	}
	for _, action := range request.Actions {
		for verb, a := range action {
			switch {
			case verb != "add" && verb != "remove" && verb != "remove_index":
				return 0, nil, &apiError{
					400,
					"x_content_parse_exception",
					"[aliases] failed to parse field [actions]",
					nil,
				}
			case s.indices[a.Index] == nil:
				return 0, nil, noSuchIndex(a.Index)
			case verb == "add" && s.indices[a.Alias] != nil && !goes[a.Alias]:
				return 0, nil, &apiError{
					400,
					"invalid_alias_name_exception",
					fmt.Sprintf(
						"Invalid alias name [%s], an index exists with the same name as the alias",
						a.Alias,
					),
					nil,
				}
			case verb == "remove" && !s.aliases[a.Alias][a.Index]:
				return 0, nil, &apiError{
					404,
					"aliases_not_found_exception",
					fmt.Sprintf("aliases [%s] missing", a.Alias),
					nil,
				}
			}
		}
	}
	for name := range goes {
		delete(s.indices, name)
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
		seen := ix.visible()
		count, bytes := seen.count, 0
		for _, part := range seen.segments {
			for _, d := range part.docs {
				bytes += len(d.source)
			}
		}
		rows = append(
			rows,
			map[string]string{
				"health":     "green",
				"status":     "open",
				"index":      ix.name,
				"pri":        "1",
				"rep":        "0",
				"docs.count": strconv.Itoa(count),
				"store.size": strconv.Itoa(bytes) + "b",
			},
		)
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
