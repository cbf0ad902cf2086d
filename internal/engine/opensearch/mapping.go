package opensearch

import (
	"cmp"
	"context"
	"crypto/rand"
	"encoding/base32"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"net/url"
	"strings"
	"time"

	"pingo/internal/core/definition"
	"pingo/internal/core/retry"
	"pingo/internal/core/shape"
	"pingo/internal/engine"
)

// Prepare creates an edition that refuses fields it does not know and does not
// refresh until it is filled.
func (e *Engine) Prepare(ctx context.Context, edition string, s *shape.Shape) error {
	index := indexOf(s)
	index["settings"].(map[string]any)["index"].(map[string]any)["refresh_interval"] = "-1"
	index["aliases"] = map[string]any{deliveries(edition): map[string]any{}}
	if err := e.create(ctx, edition, index); err != nil {
		return err
	}
	return e.keepsPromises(ctx, edition)
}

// trial is what the names of indices begin with that are only there to be refused.
const trial = "pingo-trial-"

// Try creates an empty index as an edition of the shape would be, and deletes it immediately: the
// engine's own words say what it would refuse.
func (e *Engine) Try(ctx context.Context, s *shape.Shape) error {
	b := make([]byte, 5)
	if _, err := rand.Read(b); err != nil {
		return err
	}
	name := trial + strings.ToLower(base32.StdEncoding.EncodeToString(b))
	defer func() { _ = e.Drop(context.WithoutCancel(ctx), name) }() // else it is listed among what is left over
	return e.create(ctx, name, indexOf(s))
}

// indexOf is the body of the request that creates an index for a shape.
func indexOf(s *shape.Shape) map[string]any {
	settings := indexSettings(s)
	if settings["gc_deletes"] == nil {
		settings["gc_deletes"] = rememberDeletions
	}
	if settings["refresh_interval"] == nil {
		settings["refresh_interval"] = refreshEvery
	}
	settings[durability] = onDisk
	if analysis := analysisOf(s); analysis != nil {
		settings["analysis"] = analysis
		settings["max_ngram_diff"] = longestPart - shortestPart
	}
	return map[string]any{"settings": map[string]any{"index": settings}, "mappings": Mapping(s)}
}

// create creates an index, if there is none of that name. What the engine refuses is not a
// document's fault.
func (e *Engine) create(ctx context.Context, name string, index map[string]any) error {
	err := e.send(ctx, http.MethodPut, "/"+name, index)
	var f *engine.Failure
	switch {
	case !errors.As(err, &f):
	case f.Kind == "resource_already_exists_exception":
		return nil
	case f.Outcome == retry.Refused:
		f.Outcome = retry.Blocked
	}
	return err
}

const (
	// rememberDeletions is for how long the engine knows the version of a document that it has
	// deleted. An older write that comes later makes the document again, so this must be far
	// longer than a write may be in flight: a request is given up after requestTimeout, and none
	// is sent under a lease that is not held.
	rememberDeletions = "1h"
	// refreshEvery is how often a filled edition makes what it took visible to searches.
	refreshEvery = "500ms"
	// remembersAtLeast is what settings may lower rememberDeletions to.
	remembersAtLeast = 5 * time.Minute

	// A document that is acknowledged is on disk, or a crash of the engine would lose it without
	// a word.
	durability = "translog.durability"
	onDisk     = "request"
)

// keepsPromises sees that an edition has the settings that keep older writes out, and documents that
// were acknowledged in.
func (e *Engine) keepsPromises(ctx context.Context, edition string) error {
	settings, err := e.settings(ctx, edition)
	if err != nil {
		return err
	}
	is := fmt.Sprint(settings["index.gc_deletes"])
	if d, err := time.ParseDuration(is); err != nil || d < remembersAtLeast {
		return &engine.Failure{Outcome: retry.Blocked, Message: fmt.Sprintf(
			"%s has index.gc_deletes %q in %s, and deletions must be remembered for %s at least: look at the engine's templates",
			e.at,
			is,
			edition,
			remembersAtLeast,
		)}
	}
	if is := fmt.Sprint(settings["index."+durability]); is != onDisk {
		return &engine.Failure{Outcome: retry.Blocked, Message: fmt.Sprintf(
			"%s has index.%s %q in %s, and would lose in a crash what it has acknowledged: set it to %s",
			e.at,
			durability,
			is,
			edition,
			onDisk,
		)}
	}
	return nil
}

// settings reads those of an edition, by their full names.
func (e *Engine) settings(ctx context.Context, edition string) (map[string]any, error) {
	var out map[string]struct {
		Settings map[string]any `json:"settings"` // some are lists
	}
	err := e.do(ctx, http.MethodGet, "/"+edition+"/_settings", url.Values{"flat_settings": {"true"}}, nil, &out)
	return out[edition].Settings, err
}

// Copy names the index by what the engine gives each new or restored one.
func (e *Engine) Copy(ctx context.Context, edition string) (string, error) {
	settings, err := e.settings(ctx, edition)
	if err != nil {
		if engine.FailureOf(err).Kind == noIndex {
			return "", nil
		}
		return "", err
	}
	var about struct {
		Cluster string `json:"cluster_uuid"`
	}
	if err := e.do(ctx, http.MethodGet, "/", nil, nil, &about); err != nil {
		return "", err
	}
	parts := []string{about.Cluster}
	for _, name := range []string{"index.uuid", "index.history.uuid", "index.creation_date"} {
		parts = append(parts, fmt.Sprint(cmp.Or(settings[name], any("-"))))
	}
	return strings.Join(parts, "/"), nil
}

// indexSettings are the definition's own settings, under the names of the index level.
func indexSettings(s *shape.Shape) map[string]any {
	out := map[string]any{}
	for name, value := range s.Settings {
		if inner, ok := value.(map[string]any); ok && name == "index" {
			maps.Copy(out, inner)
			continue
		}
		out[strings.TrimPrefix(name, "index.")] = value
	}
	return out
}

// dynamicSettings can be changed while an index answers.
var dynamicSettings = map[string]bool{
	"number_of_replicas":   true,
	"refresh_interval":     true,
	"max_result_window":    true,
	"auto_expand_replicas": true,
}

// InPlace: dynamic settings can be taken up by a live edition; synonyms, which belong to
// the analysis of a closed index, cannot.
func InPlace(old, new *shape.Shape) bool {
	if fmt.Sprint(old.Synonyms) != fmt.Sprint(new.Synonyms) {
		return false
	}
	a, b := indexSettings(old), indexSettings(new)
	for name := range a {
		if _, kept := b[name]; !kept {
			return false // its default would have to be known
		}
	}
	for name, value := range b {
		was, err1 := json.Marshal(a[name])
		is, err2 := json.Marshal(value)
		if err := errors.Join(err1, err2); err != nil || string(was) != string(is) && !dynamicSettings[name] {
			return false
		}
	}
	return true
}

// Limits says what a definition asks for that Pingo does not let this engine do. What the
// engine itself refuses, it says when it is tried.
func Limits(s *shape.Shape) (refused, notes []string) {
	if text, set := indexSettings(s)["gc_deletes"]; set {
		if d, err := time.ParseDuration(fmt.Sprint(text)); err != nil || d < remembersAtLeast {
			refused = append(refused, fmt.Sprintf(
				"engine_settings has gc_deletes %v, and deletions must be remembered for 5m at least: an older write that comes late would bring the document back",
				text,
			))
		}
	}
	settings := indexSettings(s)
	is := settings[durability]
	if translog, ok := settings["translog"].(map[string]any); ok && translog["durability"] != nil {
		is = translog["durability"]
	}
	if is != nil && is != onDisk {
		refused = append(refused, fmt.Sprintf(
			"engine_settings has %s %v, and the engine would lose in a crash what it has acknowledged: leave it out",
			durability,
			is,
		))
	}
	return refused, nil
}

// Bounds of the parts of words that prefix and infix fields are found by. What is
// looked for is cut to the same length.
const (
	longestPrefix             = 20
	shortestPart, longestPart = 2, 12
)

// analysisOf defines the analyzers that the shape's fields need; nil when none does.
func analysisOf(s *shape.Shape) map[string]any {
	analyzers, normalizers := map[string]any{}, map[string]any{}
	filters := map[string]any{}
	analyzer := func(name, tokenizer string, filter ...string) {
		analyzers[name] = map[string]any{
			"type":      "custom",
			"tokenizer": tokenizer,
			"filter":    append([]string{"lowercase"}, filter...),
		}
	}
	var synonyms []string
	if len(s.Synonyms) > 0 {
		lines := make([]string, len(s.Synonyms))
		for i, group := range s.Synonyms {
			lines[i] = strings.Join(group, ", ")
		}
		filters["pingo_synonyms"] = map[string]any{"type": "synonym_graph", "synonyms": lines}
		synonyms = []string{"pingo_synonyms"}
		analyzer("pingo_words_search", "standard", synonyms...)
	}
	for _, f := range s.Searched() {
		tokenizer := "standard"
		if f.Type == shape.Keyword {
			tokenizer = "keyword"
		}
		switch kind := matching(f); kind {
		case shape.Exact:
			normalizers["pingo_exact"] = map[string]any{"type": "custom", "filter": []string{"lowercase"}}
		case shape.Prefix:
			filters["pingo_beginnings"] = map[string]any{
				"type":     "edge_ngram",
				"min_gram": 1,
				"max_gram": longestPrefix,
			}
			filters["pingo_cut_beginning"] = map[string]any{"type": "truncate", "length": longestPrefix}
			analyzer("pingo_prefix_"+tokenizer, tokenizer, "pingo_beginnings")
			analyzer("pingo_prefix_"+tokenizer+"_search", tokenizer, append(synonyms, "pingo_cut_beginning")...)
		case shape.Infix:
			filters["pingo_parts"] = map[string]any{
				"type":     "ngram",
				"min_gram": shortestPart,
				"max_gram": longestPart,
			}
			filters["pingo_cut_part"] = map[string]any{"type": "truncate", "length": longestPart}
			analyzer("pingo_infix_"+tokenizer, tokenizer, "pingo_parts")
			analyzer("pingo_infix_"+tokenizer+"_search", tokenizer, append(synonyms, "pingo_cut_part")...)
		}
	}
	if len(analyzers)+len(normalizers) == 0 {
		return nil
	}
	return map[string]any{"analyzer": analyzers, "normalizer": normalizers, "filter": filters}
}

// matching is how a searched field is matched; a keyword is one word, so that its
// words are its whole.
func matching(f shape.Placed) shape.Match {
	if f.Match == shape.Exact || f.Type == shape.Keyword && (f.Match == shape.Words || f.Match == "") {
		return shape.Exact
	}
	return f.Match
}

// Mapping is the engine's explicit mapping for a shape.
func Mapping(s *shape.Shape) map[string]any {
	properties := map[string]any{definition.FingerprintField: map[string]any{"type": "keyword", "index": false}}
	if s.Trees[0].Name != "" {
		properties[definition.RowsField] = map[string]any{"type": "keyword"}
	}
	for _, t := range s.Trees { // related tables without fields of their own have a place, too
		for _, n := range t.Nodes[1:] {
			if !n.List {
				within(properties, t.Path(n)+".")
			}
		}
	}
	for _, f := range s.Fields() {
		into, name := within(properties, f.Path), f.Path[strings.LastIndexByte(f.Path, '.')+1:]
		into[name] = fieldMapping(s, f)
	}
	return map[string]any{"dynamic": "strict", "properties": properties}
}

// within gives the properties that the last name of a path belongs to, making objects
// on the way.
func within(properties map[string]any, path string) map[string]any {
	names := strings.Split(path, ".")
	for _, name := range names[:len(names)-1] {
		object, ok := properties[name].(map[string]any)
		if !ok {
			object = map[string]any{"properties": map[string]any{}}
			properties[name] = object
		}
		properties = object["properties"].(map[string]any)
	}
	return properties
}

// ignoreAbove keeps whole values that are too long for the engine out of its index of
// whole values; the document keeps them.
const ignoreAbove = 8191

func keyword() map[string]any { return map[string]any{"type": "keyword", "ignore_above": ignoreAbove} }

func fieldMapping(s *shape.Shape, f shape.Placed) map[string]any {
	switch f.Type {
	case shape.Text, shape.Keyword:
		return wordsMapping(s, f)
	case shape.Integer:
		return map[string]any{"type": "long"}
	case shape.Decimal:
		return map[string]any{"type": "double"}
	case shape.Boolean:
		return map[string]any{"type": "boolean"}
	case shape.Date, shape.Timestamp:
		return map[string]any{"type": "date", "format": "strict_date_optional_time"}
	case shape.Geo:
		return map[string]any{"type": "geo_point"}
	}
	return map[string]any{"type": "object", "enabled": false}
}

func wordsMapping(s *shape.Shape, f shape.Placed) map[string]any {
	if f.Search == 0 && (f.Type == shape.Keyword || f.Whole()) {
		return keyword()
	}
	out := map[string]any{"type": "text"}
	tokenizer := "standard"
	if f.Type == shape.Keyword {
		tokenizer = "keyword"
	}
	switch kind := matching(f); kind {
	case shape.Exact:
		out = keyword()
		out["normalizer"] = "pingo_exact"
	case shape.Prefix, shape.Infix:
		name := "pingo_" + string(kind) + "_" + tokenizer
		out["analyzer"], out["search_analyzer"] = name, name+"_search"
	default:
		if len(s.Synonyms) > 0 {
			out["analyzer"], out["search_analyzer"] = "standard", "pingo_words_search"
		}
	}
	below := map[string]any{}
	if f.Whole() {
		below["whole"] = keyword()
	}
	if path := plain(f); path != f.Path {
		below["plain"] = map[string]any{"type": "text"}
	}
	if len(below) > 0 {
		out["fields"] = below
	}
	return out
}

// plain is the subfield in which whole words of a searched field are found: next to a field
// that is found by parts of its words.
func plain(f shape.Placed) string {
	if kind := matching(f); f.Type == shape.Text && (kind == shape.Prefix || kind == shape.Infix) {
		return f.Path + ".plain"
	}
	return f.Path
}

// whole is where the whole value of a field is found.
func whole(f shape.Placed) string {
	if (f.Type == shape.Text || f.Type == shape.Keyword) && f.Search > 0 {
		return f.Path + ".whole"
	}
	return f.Path
}
