package shape

import (
	"slices"
	"sort"
)

// Captured is what a source must notice about one table.
type Captured struct {
	Table Ref `json:"table"`
	// Key is the table's primary key; may be empty for tables below the root.
	Key []string `json:"key"`
	// Watch lists the columns whose change changes a document.
	Watch []string `json:"watch"`
	// Links lists the columns that lead towards a root; their values before and
	// after a change are noticed.
	Links []string `json:"links"`
}

// Capture unites what several shapes need of each table, sorted by table.
func Capture(shapes []*Shape) []Captured {
	byTable := map[Ref]*Captured{}
	need := func(t Ref, key, watch []string, links ...string) {
		c := byTable[t]
		if c == nil {
			c = &Captured{Table: t, Key: key}
			byTable[t] = c
		}
		c.Watch = union(c.Watch, append(slices.Clone(watch), links...))
		c.Links = union(c.Links, links)
	}
	for _, s := range shapes {
		for _, n := range s.Nodes {
			switch {
			case n.Link == nil:
				need(n.Table, n.Key, n.Depends)
			case n.Link.Join == nil:
				need(n.Table, n.Key, n.Depends, n.Link.Theirs)
			default:
				need(n.Table, n.Key, n.Depends, n.Link.Join.To)
				need(n.Link.Join.Table, n.Link.Join.Key, []string{n.Link.Join.From}, n.Link.Theirs)
			}
		}
	}
	out := make([]Captured, 0, len(byTable))
	for _, c := range byTable {
		out = append(out, *c)
	}
	sort.Slice(out, func(i, j int) bool { return out[i].Table.String() < out[j].Table.String() })
	return out
}

func union(a, b []string) []string {
	for _, s := range b {
		if !slices.Contains(a, s) {
			a = append(a, s)
		}
	}
	sort.Strings(a)
	return a
}

// Route is a way from a changed row of a table up to the keys of the documents
// that it touches.
type Route struct {
	// Link is the changed row's column to start from; empty at the root, whose
	// key is the document's.
	Link string
	// Steps lead upwards; with none, the link's value is the document's key.
	Steps []Step
}

// Step is one query on the way up: the rows of Table whose Match column holds
// one of the values at hand yield the next values.
type Step struct {
	Table Ref
	Match string
	Yield []string
}

// Routes gives for each table the ways from its changed rows to documents.
func (s *Shape) Routes() map[Ref][]Route {
	routes := map[Ref][]Route{s.Root().Table: {{}}}
	for _, n := range s.Nodes[1:] {
		up := s.up(s.Nodes[n.Parent], n.Link.Ours)
		if j := n.Link.Join; j != nil {
			routes[j.Table] = append(routes[j.Table], Route{n.Link.Theirs, up})
			step := Step{j.Table, j.From, []string{n.Link.Theirs}}
			routes[n.Table] = append(routes[n.Table], Route{j.To, append([]Step{step}, up...)})
			continue
		}
		routes[n.Table] = append(routes[n.Table], Route{n.Link.Theirs, up})
	}
	return routes
}

// up leads from values of a node's column to document keys.
func (s *Shape) up(n *Node, column string) []Step {
	if n.Link == nil {
		if len(n.Key) == 1 && n.Key[0] == column {
			return nil
		}
		return []Step{{n.Table, column, n.Key}}
	}
	above := s.up(s.Nodes[n.Parent], n.Link.Ours)
	if j := n.Link.Join; j != nil {
		return append([]Step{{n.Table, column, []string{j.To}}, {j.Table, j.From, []string{n.Link.Theirs}}}, above...)
	}
	if n.Link.Theirs == column {
		return above
	}
	return append([]Step{{n.Table, column, []string{n.Link.Theirs}}}, above...)
}
