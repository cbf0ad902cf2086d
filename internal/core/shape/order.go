package shape

import (
	"regexp"
	"strings"
)

// By is one column that the rows of a node are put in order by.
type By struct {
	At         int  `json:"at"` // position in the node's Columns
	Descending bool `json:"descending,omitempty"`
	// Type is Integer, Date or Timestamp; Keyword for texts whose bytes give the order.
	Type Type `json:"type"`
	// NullsLow: NULL comes before all values, not after them, unless Descending.
	NullsLow bool `json:"nullsLow,omitempty"`
}

var plainOrder = regexp.MustCompile(`(?i)^(?:"([^"]+)"|([a-z_][a-z0-9_]*))(?:\s+(asc|desc))?$`)

// order lets Pingo itself put a node's rows in order where their values' own text is
// enough for that, which spares the source a sort of all of them. Everything else, such
// as texts with their collations and SQL expressions, is left to the source.
func (c *compiler) order(node *Node, t *Table, used []string) {
	if node.Link == nil || len(t.Key) == 0 ||
		node.Link.Join == nil && !node.Many && sameNames(node.Link.Theirs, t.Key) {
		return
	}
	type term struct {
		column     string
		descending bool
	}
	var terms []term
	if node.Order != "" {
		for _, written := range strings.Split(node.Order, ",") {
			m := plainOrder.FindStringSubmatch(strings.TrimSpace(written))
			if m == nil {
				return
			}
			terms = append(terms, term{m[1] + strings.ToLower(m[2]), strings.EqualFold(m[3], "desc")})
		}
		if len(terms) != len(used) {
			return // a word that is no column after all
		}
	}
	for _, k := range t.Key {
		terms = append(terms, term{column: k})
	}
	columns, kinds := make([]Column, len(terms)), make([]Type, len(terms))
	for i, term := range terms {
		for _, col := range t.Columns {
			if col.Name == term.column && !col.Array {
				columns[i], kinds[i] = Column{Name: col.Name, Form: col.Form, Type: col.Type}, orderOf(&col)
			}
		}
		if kinds[i] == "" {
			return
		}
	}
	for i, term := range terms {
		node.InOrder = append(
			node.InOrder,
			By{
				At: node.read(columns[i]), Descending: term.descending, Type: kinds[i], NullsLow: c.of(node).NullsLow,
			},
		)
	}
}

func sameNames(a, b []string) bool { return strings.Join(a, "\x00") == strings.Join(b, "\x00") }

// orderOf says how the texts of a column's values are compared, empty when they cannot be.
func orderOf(c *TableColumn) Type {
	switch {
	case c.Type == Integer || c.Type == Date || c.Type == Timestamp:
		return c.Type
	case c.Bytewise:
		return Keyword
	}
	return ""
}
