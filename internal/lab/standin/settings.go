package standin

import (
	"encoding/json"
	"fmt"
	"maps"
	"math"
	"slices"
	"strconv"
	"strings"
)

func parseInt(text string) (int, error) { return strconv.Atoi(text) }

func badTime(name, text string) *apiError {
	return &apiError{400, "illegal_argument_exception", fmt.Sprintf(
		"failed to parse setting [%s] with value [%s] as a time value: unit is missing or unrecognized",
		name,
		text,
	), nil}
}

func badValue(name, text, why string) *apiError {
	return &apiError{
		400,
		"illegal_argument_exception",
		fmt.Sprintf("Failed to parse value [%s] for setting [%s]%s", text, name, why),
		nil,
	}
}

// setting is what the server knows of one of an index's settings.
type setting struct {
	check func(name, text string) *apiError
	fixed bool // it cannot be changed while the index is open
}

func between(least, most int) func(name, text string) *apiError {
	return func(name, text string) *apiError {
		n, err := parseInt(text)
		switch {
		case err != nil:
			e := badValue(name, text, "")
			e.cause = &apiError{
				kind:   "number_format_exception",
				reason: fmt.Sprintf("For input string: %q", text),
			}
			return e
		case n < least:
			return badValue(name, text, fmt.Sprintf(" must be >= %d", least))
		case n > most:
			return badValue(name, text, fmt.Sprintf(" must be <= %d", most))
		}
		return nil
	}
}

func aTime(name, text string) *apiError {
	if _, err := parseTime(text); err != nil && text != "-1" || text == "" {
		return badTime(name, text)
	}
	return nil
}

func aBoolean(_, text string) *apiError {
	if text != "true" && text != "false" {
		return &apiError{
			400,
			"illegal_argument_exception",
			fmt.Sprintf("Failed to parse value [%s] as only [true] or [false] are allowed.", text),
			nil,
		}
	}
	return nil
}

func oneOf(words ...string) func(name, text string) *apiError {
	return func(name, text string) *apiError {
		if !slices.Contains(words, strings.ToLower(text)) {
			return &apiError{
				400,
				"illegal_argument_exception",
				fmt.Sprintf("unknown value for [%s] must be one of %v but was: %s", name, words, text),
				nil,
			}
		}
		return nil
	}
}

func replicaRange(name, text string) *apiError {
	low, high, ok := strings.Cut(text, "-")
	_, err := parseInt(low)
	if _, err2 := parseInt(high); text != "false" && (!ok || err != nil || err2 != nil && high != "all") {
		return &apiError{
			400,
			"illegal_argument_exception",
			fmt.Sprintf(
				"failed to parse [%s] from value: [%s] at index %d",
				name,
				text,
				strings.Index(text, "-"),
			),
			nil,
		}
	}
	return nil
}

func anything(string, string) *apiError { return nil }

const most = math.MaxInt32

// known are the settings of an index that the stand-in takes.
var known = map[string]setting{
	"number_of_shards":                         {between(1, 1024), true},
	"number_of_routing_shards":                 {between(1, most), true},
	"number_of_replicas":                       {between(0, most), false},
	"auto_expand_replicas":                     {replicaRange, false},
	"refresh_interval":                         {aTime, false},
	"gc_deletes":                               {aTime, false},
	"codec":                                    {oneOf("default", "lz4", "best_compression", "zlib"), true},
	"max_result_window":                        {between(1, most), false},
	"max_inner_result_window":                  {between(1, most), false},
	"max_rescore_window":                       {between(1, most), false},
	"max_docvalue_fields_search":               {between(0, most), false},
	"max_script_fields":                        {between(0, most), false},
	"max_ngram_diff":                           {between(0, most), false},
	"max_shingle_diff":                         {between(0, most), false},
	"max_terms_count":                          {between(1, most), false},
	"max_regex_length":                         {between(1, most), false},
	"max_refresh_listeners":                    {between(0, most), false},
	"mapping.total_fields.limit":               {between(1, most), false},
	"mapping.depth.limit":                      {between(1, most), false},
	"mapping.nested_fields.limit":              {between(0, most), false},
	"mapping.nested_objects.limit":             {between(0, most), false},
	"mapping.field_name_length.limit":          {between(1, most), false},
	"mapping.coerce":                           {aBoolean, true},
	"mapping.ignore_malformed":                 {aBoolean, true},
	"blocks.read_only":                         {aBoolean, false},
	"blocks.read_only_allow_delete":            {aBoolean, false},
	"blocks.read":                              {aBoolean, false},
	"blocks.write":                             {aBoolean, false},
	"blocks.metadata":                          {aBoolean, false},
	"hidden":                                   {aBoolean, false},
	"priority":                                 {between(0, most), false},
	"translog.durability":                      {oneOf("request", "async"), false},
	"translog.sync_interval":                   {aTime, false},
	"translog.flush_threshold_size":            {anything, false},
	"search.idle.after":                        {aTime, false},
	"search.slowlog.threshold.query.warn":      {aTime, false},
	"search.slowlog.threshold.query.info":      {aTime, false},
	"indexing.slowlog.threshold.index.warn":    {aTime, false},
	"indexing.slowlog.threshold.index.info":    {aTime, false},
	"merge.policy.max_merged_segment":          {anything, false},
	"merge.policy.segments_per_tier":           {anything, false},
	"merge.scheduler.max_thread_count":         {between(1, most), false},
	"routing.allocation.total_shards_per_node": {between(-1, most), false},
	"unassigned.node_left.delayed_timeout":     {aTime, false},
	"default_pipeline":                         {anything, false},
	"final_pipeline":                           {anything, false},
	"similarity.default.type":                  {anything, true},
	"query.default_field":                      {anything, false},
	"write.wait_for_active_shards":             {anything, false},
}

// flatSettings gives settings by their full names, without index. before them.
func flatSettings(settings object) map[string]string {
	out := map[string]string{}
	var walk func(v any, path string)
	walk = func(v any, path string) {
		if o, ok := v.(object); ok {
			for name, child := range o {
				walk(child, strings.TrimPrefix(path+"."+name, "."))
			}
			return
		}
		text := fmt.Sprint(v)
		if v == nil {
			text = ""
		}
		out[strings.TrimPrefix(path, "index.")] = text
	}
	walk(settings, "")
	return out
}

// checkSettings refuses settings that an index cannot have.
func checkSettings(flat map[string]string) *apiError {
	for _, name := range slices.Sorted(maps.Keys(flat)) {
		text := flat[name]
		s, ok := known[name]
		switch {
		case strings.HasPrefix(name, "analysis."), strings.HasPrefix(name, "routing.allocation."):
			continue
		case name == "sort.field":
			return &apiError{
				400,
				"illegal_argument_exception",
				fmt.Sprintf("unknown index sort field:[%s]", text),
				nil,
			}
		case !ok:
			return &apiError{400, "illegal_argument_exception", fmt.Sprintf(
				"unknown setting [index.%s] please check that any required plugins are installed, or check the breaking changes documentation for removed settings",
				name,
			), nil}
		}
		if err := s.check("index."+name, text); err != nil {
			return err
		}
	}
	return nil
}

func putSettings(indices []*index, body []byte) (int, any, error) {
	var settings object
	if err := json.Unmarshal(body, &settings); err != nil || len(settings) == 0 {
		return 0, nil, &apiError{
			400,
			"action_request_validation_exception",
			"Validation Failed: 1: no settings to update;",
			nil,
		}
	}
	flat := flatSettings(settings)
	for _, ix := range indices {
		if err := ix.putSettings(flat); err != nil {
			return 0, nil, err
		}
	}
	return 200, object{"acknowledged": true}, nil
}

// putSettings changes settings of an open index; an empty text takes one back.
func (ix *index) putSettings(flat map[string]string) error {
	ix.mu.Lock()
	defer ix.mu.Unlock()
	unblocks := len(flat) == 1 &&
		(flat["blocks.read_only"] != "" || slices.Contains(slices.Collect(maps.Keys(flat)), "blocks.read_only"))
	if err := ix.blocked(); err != nil && ix.settings["blocks.read_only"] == "true" && !unblocks {
		return err
	}
	set := map[string]string{}
	for name, text := range flat {
		if s := known[name]; s.fixed || strings.HasPrefix(name, "analysis.") {
			return &apiError{400, "illegal_argument_exception", fmt.Sprintf(
				"Can't update non dynamic settings [[index.%s]] for open indices [[%s]]", name, ix.name), nil}
		}
		if text != "" {
			set[name] = text
		}
	}
	if err := checkSettings(set); err != nil {
		return err
	}
	for name, text := range flat {
		if text == "" {
			delete(ix.settings, name)
		} else {
			ix.settings[name] = text
		}
	}
	return nil
}
