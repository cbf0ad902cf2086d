package taskserver

import (
	"encoding/json"
	"fmt"
	"maps"
	"net/http"
	"slices"
	"strings"
	"time"
)

// defaults are the settings of an index that has none of its own, by the names that a path has for them.
var defaults = map[string]any{
	"displayedAttributes":  []any{"*"},
	"searchableAttributes": []any{"*"},
	"filterableAttributes": []any{},
	"sortableAttributes":   []any{},
	"rankingRules":         []any{"words", "typo", "proximity", "attribute", "sort", "exactness"},
	"stopWords":            []any{},
	"nonSeparatorTokens":   []any{},
	"separatorTokens":      []any{},
	"dictionary":           []any{},
	"synonyms":             map[string]any{},
	"distinctAttribute":    nil,
	"proximityPrecision":   "byWord",
	"typoTolerance": map[string]any{
		"enabled": true, "minWordSizeForTypos": map[string]any{"oneTypo": 5.0, "twoTypos": 9.0}, "disableOnWords": []any{}, "disableOnAttributes": []any{},
	},
	"faceting":            map[string]any{"maxValuesPerFacet": 100.0, "sortFacetValuesBy": map[string]any{"*": "alpha"}},
	"pagination":          map[string]any{"maxTotalHits": 1000.0},
	"searchCutoffMs":      nil,
	"localizedAttributes": nil,
	"facetSearch":         true,
	"prefixSearch":        "indexingTime",
}

// setting is one of an index; objects are completed by what is left out.
func (i *index) setting(name string) any {
	v, is := i.settings[name]
	if !is || v == nil {
		return defaults[name]
	}
	given, object := v.(map[string]any)
	usual, too := defaults[name].(map[string]any)
	if !object || !too || name == "synonyms" {
		return v
	}
	return merged(usual, given)
}

func merged(usual, given map[string]any) map[string]any {
	out := maps.Clone(usual)
	for k, v := range given {
		inner, object := v.(map[string]any)
		before, too := out[k].(map[string]any)
		if object && too {
			v = merged(before, inner)
		}
		out[k] = v
	}
	return out
}

func (i *index) texts(name string) []string {
	var out []string
	list, _ := i.setting(name).([]any)
	for _, v := range list {
		switch v := v.(type) {
		case string:
			out = append(out, v)
		case map[string]any: // patterns with features
			patterns, _ := v["attributePatterns"].([]any)
			for _, p := range patterns {
				if text, is := p.(string); is {
					out = append(out, text)
				}
			}
		}
	}
	return out
}

// nameOf turns a part of a path into the name of a setting.
func nameOf(part string) string {
	words := strings.Split(part, "-")
	for n := 1; n < len(words); n++ {
		if words[n] != "" {
			words[n] = strings.ToUpper(words[n][:1]) + words[n][1:]
		}
	}
	return strings.Join(words, "")
}

// settingsRoute answers requests below settings.
func (s *Server) settingsRoute(method, uid string, parts []string, body []byte) (int, any, *Error) {
	if len(parts) == 0 || parts[0] == "" {
		switch method {
		case http.MethodGet:
			return s.withIndex(uid, func(i *index) (any, *Error) {
				out := map[string]any{}
				for name := range defaults {
					out[name] = i.setting(name)
				}
				return out, nil
			})
		case http.MethodPatch:
			var in map[string]any
			if fail := read(body, &in); fail != nil {
				return 0, nil, fail
			}
			for name, v := range in {
				if fail := validSetting(name, v); fail != nil {
					return 0, nil, fail
				}
			}
			return s.setAll(uid, in)
		case http.MethodDelete:
			return s.enqueue("settingsUpdate", uid, nil, func() *Error {
				if i := s.indexes[uid]; i != nil {
					i.settings = map[string]any{}
					return nil
				}
				return notFound(uid)
			})
		}
		return 0, nil, fault(405, "method_not_allowed", "%s is not answered here.", method)
	}
	name := nameOf(parts[0])
	if _, known := defaults[name]; !known {
		return 0, nil, fault(404, "not_found", "There is no setting %s.", parts[0])
	}
	switch method {
	case http.MethodGet:
		return s.withIndex(uid, func(i *index) (any, *Error) { return i.setting(name), nil })
	case http.MethodPut, http.MethodPatch:
		var v any
		if fail := read(body, &v); fail != nil {
			return 0, nil, fail
		}
		if fail := validSetting(name, v); fail != nil {
			return 0, nil, fail
		}
		return s.setAll(uid, map[string]any{name: v})
	case http.MethodDelete:
		return s.setAll(uid, map[string]any{name: nil})
	}
	return 0, nil, fault(405, "method_not_allowed", "%s is not answered here.", method)
}

// setAll changes settings in a task. An index that is not there is created, as by documents.
func (s *Server) setAll(uid string, in map[string]any) (int, any, *Error) {
	return s.enqueue("settingsUpdate", uid, in, func() *Error {
		if fail := s.createIndex(uid, nil, false); fail != nil {
			return fail
		}
		i := s.indexes[uid]
		for name, v := range in {
			if v == nil {
				delete(i.settings, name)
				continue
			}
			given, object := v.(map[string]any)
			before, too := i.settings[name].(map[string]any)
			if object && too && name != "synonyms" {
				v = merged(before, given)
			}
			i.settings[name] = v
		}
		i.UpdatedAt = time.Now().UTC()
		return nil
	})
}

var rules = []string{"words", "typo", "proximity", "attribute", "sort", "exactness"}

// validSetting refuses what the server would.
func validSetting(name string, v any) *Error {
	code := "invalid_settings_" + snake(name)
	usual, known := defaults[name]
	switch {
	case !known:
		return fault(400, "bad_request", "Unknown field `%s`: expected one of %s", name, strings.Join(slices.Sorted(maps.Keys(defaults)), ", "))
	case v == nil:
		return nil
	}
	switch usual.(type) {
	case []any:
		list, is := v.([]any)
		if !is {
			return fault(400, code, "Invalid value type at `.%s`: expected an array, but found %s", name, kindOf(v))
		}
		for n, item := range list {
			text, is := item.(string)
			if _, object := item.(map[string]any); !is && !(object && name == "filterableAttributes") {
				return fault(400, code, "Invalid value type at `.%s[%d]`: expected a string, but found %s", name, n, kindOf(item))
			}
			custom := strings.HasSuffix(text, ":asc") || strings.HasSuffix(text, ":desc")
			if name == "rankingRules" && !custom && !slices.Contains(rules, text) {
				return fault(400, code, "Invalid value at `.rankingRules[%d]`: `%s` ranking rule is invalid. Valid ranking rules are words, typo, sort, proximity, attribute, exactness and custom ranking rules.", n, text)
			}
		}
	case map[string]any:
		if _, is := v.(map[string]any); !is {
			return fault(400, code, "Invalid value type at `.%s`: expected an object, but found %s", name, kindOf(v))
		}
	}
	return nil
}

func snake(name string) string {
	var b strings.Builder
	for _, r := range name {
		if r >= 'A' && r <= 'Z' {
			b.WriteByte('_')
			r += 'a' - 'A'
		}
		b.WriteRune(r)
	}
	return b.String()
}

func kindOf(v any) string {
	b, _ := json.Marshal(v)
	switch v.(type) {
	case nil:
		return "null"
	case string:
		return fmt.Sprintf("a string: `%s`", b)
	case bool:
		return fmt.Sprintf("a boolean: `%s`", b)
	case float64, json.Number:
		return fmt.Sprintf("a number: `%s`", b)
	case []any:
		return fmt.Sprintf("an array: `%s`", b)
	}
	return fmt.Sprintf("an object: `%s`", b)
}
