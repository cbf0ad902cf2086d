package definition

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/agnivade/levenshtein"
	"gopkg.in/yaml.v3"
)

// said reports whether a finding mentions some words already.
func (d *decoder) said(words string) bool {
	return slices.ContainsFunc(d.findings, func(f Finding) bool { return strings.Contains(f.Message, words) })
}

// meant gives, for words that people know from elsewhere, the word of the language.
var meant = map[string]string{
	"boost": "search", "weight": "search", "searchable": "search", "analyzer": "match", "tokenizer": "match", "filterable": "filter", "sortable": "sort", "facets": "facet",
	"aggregate": "facet", "columns": "fields", "properties": "fields", "select": "fields", "expression": "sql", "table": "rows", "index": "indexes", "source": "sources",
	"engine": "engines", "condition": "where", "join": "related", "relations": "related", "order_by": "order", "primary_key": "key", "settings": "engine_settings", "address": "url",
}

// Nearest words a suggestion: the known word that is near in spelling or meaning to what
// was written, or what is known when none is; empty only when nothing is known.
func Nearest(written string, known []string) string {
	if word := meant[strings.ToLower(written)]; word != "" && slices.Contains(known, word) {
		return fmt.Sprintf("did you mean %q?", word)
	}
	best, distance := "", max(2, len(written)/4)+1
	if len(written) < 4 {
		distance = 2
	}
	for _, k := range known {
		if len(written) > 2 && len(k) > len(written) && strings.HasPrefix(k, written) {
			return fmt.Sprintf("did you mean %q?", k)
		}
		if n := levenshtein.ComputeDistance(strings.ToLower(written), strings.ToLower(k)); n < distance {
			best, distance = k, n
		}
	}
	const few = 12
	switch list := sorted(known); {
	case best != "":
		return fmt.Sprintf("did you mean %q?", best)
	case len(list) == 0:
		return ""
	case len(list) > few:
		return fmt.Sprintf("known here, with %d more: %s", len(list)-few, strings.Join(list[:few], ", "))
	default:
		return "known here: " + strings.Join(list, ", ")
	}
}

func kindName(n *yaml.Node) string {
	switch n.Kind {
	case yaml.MappingNode:
		return "keys and values"
	case yaml.SequenceNode:
		return "a list"
	}
	if n.Tag == "!!null" || n.Value == "" {
		return "nothing"
	}
	return strconv.Quote(n.Value)
}
