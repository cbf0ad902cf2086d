package standin

import (
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"
)

// analyzer turns a text into the words that are found.
type analyzer struct {
	whole    bool // the text is one word
	filters  []func(words []string) []string
	synonyms [][][]string // groups of phrases
	// expands says by which parts a word is found, too. The index holds the words alone, and
	// they are compared in a search, which finds the same.
	expands *parts
}

// parts are those of a word from its beginning, or from anywhere, in letters.
type parts struct {
	shortest, longest int
	onlyBeginnings    bool
}

// matches says whether a word of a query finds one of the index.
func (a *analyzer) matches(have, want string) bool {
	if a.expands == nil {
		return have == want
	}
	n := utf8.RuneCountInString(want)
	if n < a.expands.shortest || n > a.expands.longest {
		return false
	}
	if a.expands.onlyBeginnings {
		return strings.HasPrefix(have, want)
	}
	return strings.Contains(have, want)
}

// unchanged takes a value as one word, as it stands.
var unchanged = &analyzer{whole: true}

// standard is what fields without an analyzer of their own have.
var standard = &analyzer{filters: []func([]string) []string{lowercase}}

func lowercase(words []string) []string {
	for i := range words {
		words[i] = strings.ToLower(words[i])
	}
	return words
}

func (a *analyzer) words(text string) []string {
	words := []string{text}
	if !a.whole {
		words = strings.FieldsFunc(
			text,
			func(r rune) bool { return !unicode.IsLetter(r) && !unicode.IsDigit(r) },
		)
	}
	for _, f := range a.filters {
		words = f(words)
	}
	return words
}

// variants gives the words of a text, and again with each phrase that has synonyms
// replaced by them.
func (a *analyzer) variants(text string) [][]string {
	words := a.words(text)
	out := [][]string{words}
	for _, group := range a.synonyms {
		for _, phrase := range group {
			for at := 0; at+len(phrase) <= len(words); at++ {
				if !slices.Equal(words[at:at+len(phrase)], phrase) {
					continue
				}
				for _, other := range group {
					if !slices.Equal(other, phrase) {
						out = append(out, slices.Concat(words[:at], other, words[at+len(phrase):]))
					}
				}
			}
		}
	}
	return out
}

// analysis is what an index's settings define.
type analysis struct{ analyzers, normalizers map[string]*analyzer }

type component struct {
	Type      string   `json:"type"`
	Tokenizer string   `json:"tokenizer"`
	Filter    []string `json:"filter"`
	MinGram   int      `json:"min_gram"`
	MaxGram   int      `json:"max_gram"`
	Length    int      `json:"length"`
	Synonyms  []string `json:"synonyms"`
}

// newAnalysis reads the analysis part of settings, as strictly as a server does.
func newAnalysis(settings map[string]any, flat map[string]string) (*analysis, error) {
	inner, ok := settings["index"].(map[string]any)
	if !ok || inner["analysis"] == nil {
		inner = settings
	}
	raw, err := json.Marshal(inner["analysis"])
	if err != nil {
		return nil, err
	}
	var defined struct {
		Analyzer   map[string]component `json:"analyzer"`
		Normalizer map[string]component `json:"normalizer"`
		Filter     map[string]component `json:"filter"`
	}
	if err := json.Unmarshal(raw, &defined); err != nil {
		return nil, &apiError{
			400,
			"illegal_argument_exception",
			"failed to read analysis settings: " + err.Error(),
			nil,
		}
	}
	diff, _ := strconv.Atoi(flat["max_ngram_diff"])
	diff = max(diff, 1)
	a := &analysis{map[string]*analyzer{}, map[string]*analyzer{}}
	build := func(name string, c component, into map[string]*analyzer) error {
		out := &analyzer{whole: c.Tokenizer == "keyword" || c.Tokenizer == ""}
		if c.Type != "" && c.Type != "custom" && c.Type != "standard" {
			return &apiError{
				400,
				"illegal_argument_exception",
				fmt.Sprintf("Unknown analyzer type [%s] for [%s]", c.Type, name),
				nil,
			}
		}
		if c.Tokenizer != "" && c.Tokenizer != "standard" && c.Tokenizer != "keyword" {
			return &apiError{
				400,
				"illegal_argument_exception",
				fmt.Sprintf("Custom Analyzer [%s] failed to find tokenizer under name [%s]", name, c.Tokenizer),
				nil,
			}
		}
		for _, filter := range c.Filter {
			if err := out.add(name, filter, defined.Filter[filter], diff); err != nil {
				return err
			}
		}
		into[name] = out
		return nil
	}
	for name, c := range defined.Analyzer {
		if err := build(name, c, a.analyzers); err != nil {
			return nil, err
		}
	}
	for name, c := range defined.Normalizer {
		if err := build(name, c, a.normalizers); err != nil {
			return nil, err
		}
	}
	return a, nil
}

func (a *analyzer) add(name, filter string, c component, diff int) error {
	if filter == "lowercase" {
		c.Type = filter
	}
	each := func(f func(word []rune) []string) {
		a.filters = append(a.filters, func(words []string) (out []string) {
			for _, w := range words {
				out = append(out, f([]rune(w))...)
			}
			return out
		})
	}
	switch c.Type {
	case "lowercase":
		a.filters = append(a.filters, lowercase)
	case "truncate":
		each(func(w []rune) []string { return []string{string(w[:min(len(w), c.Length)])} })
	case "edge_ngram":
		a.expands = &parts{c.MinGram, c.MaxGram, true}
	case "ngram":
		if c.MaxGram-c.MinGram > diff {
			return &apiError{400, "illegal_argument_exception", fmt.Sprintf(
				"The difference between max_gram and min_gram in NGram Tokenizer must be less than or equal to: [%d] but was [%d]. This limit can be set by changing the [index.max_ngram_diff] index level setting.",
				diff,
				c.MaxGram-c.MinGram,
			), nil}
		}
		a.expands = &parts{c.MinGram, c.MaxGram, false}
	case "synonym", "synonym_graph":
		for _, line := range c.Synonyms {
			var group [][]string
			for _, phrase := range strings.Split(line, ",") {
				group = append(group, strings.Fields(phrase))
			}
			a.synonyms = append(a.synonyms, group)
		}
	case "":
		return &apiError{
			400,
			"illegal_argument_exception",
			fmt.Sprintf("Custom Analyzer [%s] failed to find filter under name [%s]", name, filter),
			nil,
		}
	default:
		return &apiError{
			400,
			"illegal_argument_exception",
			fmt.Sprintf("Unknown filter type [%s] for [%s]", c.Type, filter),
			nil,
		}
	}
	return nil
}

// check refuses a mapping that names what the settings do not define.
func (a *analysis) check(root *field) error {
	var failed error
	root.each(func(f *field) {
		if failed != nil {
			return
		}
		for _, name := range []string{f.Analyzer, f.SearchAnalyzer} {
			if name != "" && name != "standard" && a.analyzers[name] == nil {
				failed = caused(
					"illegal_argument_exception",
					"analyzer [%s] has not been configured in mappings",
					name,
				)
			}
		}
		if f.Normalizer != "" && f.Normalizer != "lowercase" && a.normalizers[f.Normalizer] == nil {
			failed = badMapping(
				nil,
				"normalizer [%s] not found for field [%s]",
				f.Normalizer,
				f.path[strings.LastIndexByte(f.path, '.')+1:],
			)
		}
	})
	return failed
}

// of gives the analyzer of a field, when documents are taken in or when searched.
func (a *analysis) of(f *field, searching bool) *analyzer {
	switch {
	case f == nil:
		return standard
	case f.Type == "keyword" && a.normalizers[f.Normalizer] != nil:
		return a.normalizers[f.Normalizer]
	case f.Type != "text":
		return unchanged
	}
	name := f.Analyzer
	if searching && f.SearchAnalyzer != "" {
		name = f.SearchAnalyzer
	}
	if known := a.analyzers[name]; known != nil {
		return known
	}
	return standard
}
