package standin

import (
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"unicode"
)

// analyzer turns a text into the words that are found.
type analyzer struct {
	whole    bool // the text is one word
	filters  []func(words []string) []string
	synonyms [][][]string // groups of phrases
}

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
		each(func(w []rune) (out []string) {
			for n := c.MinGram; n <= min(c.MaxGram, len(w)); n++ {
				out = append(out, string(w[:n]))
			}
			return out
		})
	case "ngram":
		if c.MaxGram-c.MinGram > diff {
			return &apiError{
				400,
				"illegal_argument_exception",
				fmt.Sprintf(
					"The difference between max_gram and min_gram in NGram Tokenizer must be less than or equal to: [%d] but was [%d]. This limit can be set by changing the [index.max_ngram_diff] index level setting.",
					diff,
					c.MaxGram-c.MinGram,
				),
				nil,
			}
		}
		each(func(w []rune) (out []string) {
			for at := range w {
				for n := c.MinGram; n <= c.MaxGram && at+n <= len(w); n++ {
					out = append(out, string(w[at:at+n]))
				}
			}
			return out
		})
	case "synonym", "synonym_graph":
		for _, line := range c.Synonyms {
			var group [][]string
			for _, phrase := range strings.Split(line, ",") {
				group = append(group, strings.Fields(phrase))
			}
			a.synonyms = append(a.synonyms, group)
		}
	default:
		return &apiError{
			400,
			"illegal_argument_exception",
			fmt.Sprintf("Custom Analyzer [%s] failed to find filter under name [%s]", name, filter),
			nil,
		}
	}
	return nil
}

// check refuses a mapping that names what the settings do not define.
func (a *analysis) check(f *field, path string) error {
	for _, name := range []string{f.Analyzer, f.SearchAnalyzer} {
		if name != "" && name != "standard" && a.analyzers[name] == nil {
			return &apiError{
				400,
				"mapper_parsing_exception",
				fmt.Sprintf("analyzer [%s] has not been configured in mappings", name),
				nil,
			}
		}
	}
	if f.Normalizer != "" && f.Normalizer != "lowercase" && a.normalizers[f.Normalizer] == nil {
		return &apiError{
			400,
			"mapper_parsing_exception",
			fmt.Sprintf("normalizer [%s] not found for field [%s]", f.Normalizer, path),
			nil,
		}
	}
	for _, below := range []map[string]*field{f.Properties, f.Fields} {
		for name, p := range below {
			if err := a.check(p, name); err != nil {
				return err
			}
		}
	}
	return nil
}

// of gives the analyzer of a field, when documents are taken in or when searched.
func (a *analysis) of(f *field, searching bool) *analyzer {
	switch {
	case f == nil:
		return standard
	case f.Type == "keyword" && f.Normalizer != "":
		return a.normalizers[f.Normalizer]
	case f.Type != "text":
		return &analyzer{whole: true}
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
