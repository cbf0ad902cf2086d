package standin

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net/http"
	"regexp"
	"sort"
	"strconv"
	"strings"
)

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
	return 0, nil, &apiError{
		405,
		"method_not_allowed",
		fmt.Sprintf("Incorrect HTTP method for uri [/%s] and method [%s]", name, method),
		nil,
	}
}

func (s *Server) create(name string, body []byte) (int, any, error) {
	if !indexName.MatchString(name) || len(name) > 255 {
		return 0, nil, &apiError{
			400,
			"invalid_index_name_exception",
			fmt.Sprintf(
				"Invalid index name [%s], must be lowercase and without \\, /, *, ?, \", <, >, |, space, comma, # and :, and not begin with _, - or +",
				name,
			),
			nil,
		}
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
			return 0, nil, &apiError{
				400,
				"mapper_parsing_exception",
				"Failed to parse mapping [_doc]: " + err.Error(),
				nil,
			}
		}
	}
	if request.Mappings == nil {
		request.Mappings = &field{}
	}
	if err := request.Mappings.check(""); err != nil {
		return 0, nil, err
	}
	settings := flatSettings(request.Settings)
	analysis, err := newAnalysis(request.Settings, settings)
	if err == nil {
		err = analysis.check(request.Mappings, "")
	}
	if err != nil {
		return 0, nil, err
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
	for alias := range request.Aliases {
		if s.indices[alias] != nil || alias == name {
			return 0, nil, &apiError{
				400,
				"invalid_alias_name_exception",
				fmt.Sprintf("Invalid alias name [%s]: an index exists with the same name as the alias", alias),
				nil,
			}
		}
	}
	s.indices[name] = newIndex(name, request.Mappings, settings, analysis)
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
		return 0, nil, &apiError{
			400,
			"settings_exception",
			"Failed to load settings from [" + string(body) + "]",
			nil,
		}
	}
	for _, ix := range indices {
		ix.mu.Lock()
		for k := range flatSettings(settings) {
			if strings.HasPrefix(k, "analysis.") || k == "number_of_shards" || k == "max_ngram_diff" {
				ix.mu.Unlock()
				return 0, nil, &apiError{
					400,
					"illegal_argument_exception",
					fmt.Sprintf(
						"Can't update non dynamic settings [[index.%s]] for open indices [[%s]]",
						k,
						ix.name,
					),
					nil,
				}
			}
		}
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
	settings := object{
		"number_of_shards":   "1",
		"number_of_replicas": "0",
		"provided_name":      ix.name,
		"creation_date":      strconv.FormatInt(ix.created.UnixMilli(), 10),
	}
	for k, v := range ix.settings {
		settings[k] = v
	}
	mapping, _ := json.Marshal(ix.mapping)
	return object{
		"aliases":  aliases,
		"mappings": json.RawMessage(mapping),
		"settings": object{"index": settings},
	}
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
				return 0, nil, &apiError{
					400,
					"invalid_alias_name_exception",
					fmt.Sprintf(
						"Invalid alias name [%s]: an index or data stream exists with the same name as the alias",
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
