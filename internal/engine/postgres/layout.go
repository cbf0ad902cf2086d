package postgres

import (
	"fmt"
	"slices"
	"sort"
	"strings"

	"github.com/cespare/xxhash/v2"

	"pingo/internal/core/definition"
	"pingo/internal/core/shape"
)

// configSetting names the text search configuration in engine_settings.
const configSetting = "text_search_config"

// layout is how an edition's documents lie in its table.
type layout struct {
	shape *shape.Shape
	// fields by path, and objects that have fields below them.
	fields  map[string]*shape.Placed
	objects map[string]bool
	// columns are the fields that have a column: those that are filtered, sorted or
	// counted by.
	columns []column
	config  string
	// weights are the distinct search weights, the largest first.
	weights []float64
}

type column struct {
	path, name, sqlType string
	repeated            bool
	kind                shape.Type
}

func layoutOf(s *shape.Shape) *layout {
	l := &layout{
		shape:   s,
		fields:  map[string]*shape.Placed{},
		objects: map[string]bool{},
		config:  "simple",
		weights: weightsOf(s),
	}
	if c, ok := s.Settings[configSetting].(string); ok {
		l.config = c
	}
	for _, t := range s.Trees {
		for _, n := range t.Nodes[1:] {
			if !n.List {
				l.objects[t.Path(n)] = true
			}
		}
	}
	if s.Trees[0].Name != "" {
		l.columns = append(
			l.columns,
			column{definition.RowsField, definition.RowsField, "text", false, shape.Keyword},
		)
	}
	searched := map[string]float64{}
	for _, f := range s.Searched() {
		searched[f.Path] = f.Search
	}
	for _, f := range s.Fields() {
		f.Search = searched[f.Path]
		l.fields[f.Path] = &f
		if f.Whole() {
			l.columns = append(l.columns, columnOf(f))
		}
	}
	return l
}

func columnOf(f shape.Placed) column {
	types := map[shape.Type]string{
		shape.Integer:   "numeric",
		shape.Decimal:   "numeric",
		shape.Boolean:   "boolean",
		shape.Date:      "date",
		shape.Timestamp: "timestamptz",
		shape.Geo:       "point",
	}
	c := column{path: f.Path, name: f.Path, sqlType: types[f.Type], repeated: f.Repeated, kind: f.Type}
	if c.sqlType == "" {
		c.sqlType = "text"
	}
	if c.repeated {
		c.sqlType += "[]"
	}
	if len(c.name) > 63 { // identifiers are cut there
		c.name = fmt.Sprintf("%.46s_%016x", c.name, xxhash.Sum64String(c.name))
	}
	return c
}

func (l *layout) column(path string) column {
	return l.columns[slices.IndexFunc(l.columns, func(c column) bool { return c.path == path })]
}

// weightsOf lists the distinct search weights, the largest first.
func weightsOf(s *shape.Shape) []float64 {
	var out []float64
	for _, f := range s.Searched() {
		if !slices.Contains(out, f.Search) {
			out = append(out, f.Search)
		}
	}
	sort.Sort(sort.Reverse(sort.Float64Slice(out)))
	return out
}

// class is the letter of a weight: A for the largest to D.
func (l *layout) class(weight float64) int { return min(slices.Index(l.weights, weight), 3) }

// rankWeights is the array that ranking takes: D, C, B, A, where A is 1.
func rankWeights(weights []float64) string {
	out := []string{"0", "0", "0", "1"}
	for i := 1; i < min(len(weights), 4); i++ {
		out[3-i] = fmt.Sprint(weights[i] / weights[0])
	}
	return "{" + strings.Join(out, ",") + "}"
}

// uses reports whether a searched field matches in one of some ways.
func (l *layout) uses(ways ...shape.Match) bool {
	for _, f := range l.fields {
		if f.Search > 0 && slices.Contains(ways, matchOf(f)) {
			return true
		}
	}
	return false
}

// matchOf is how a searched field is matched; a keyword is one word.
func matchOf(f *shape.Placed) shape.Match {
	if f.Type == shape.Keyword && (f.Match == "" || f.Match == shape.Words) {
		return shape.Exact
	}
	if f.Match == "" {
		return shape.Words
	}
	return f.Match
}
