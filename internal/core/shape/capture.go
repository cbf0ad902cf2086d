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
	// Root: its rows become documents, whose keys are theirs.
	Root bool `json:"root,omitempty"`
	// Watch lists the columns whose change changes a document.
	Watch []string `json:"watch"`
	// Groups has the watched columns apart by who reads them: those of a group matter to the
	// same documents, so of a change it is noticed which groups it touches. There are at most
	// MaxGroups.
	Groups [][]string `json:"groups"`
	// Links lists the columns that lead towards a root; their values before and
	// after a change are noticed.
	Links []string `json:"links"`
	// Refreshed: a materialised view, of which only its refreshes are noticed.
	Refreshed bool `json:"refreshed,omitempty"`
	// Views are what is read instead of the table, where it is captured for a view.
	Views []Ref `json:"views,omitempty"`
	// Functions are those that expressions over the table call: if one is redefined, documents change.
	Functions []string `json:"functions,omitempty"`
}

// MaxGroups bounds the groups of a table, so that a number of 32 bits can tell which of them a
// change touches.
const MaxGroups = 31

// Capture unites what several shapes need of each table of a source, sorted by table.
func Capture(source string, shapes []*Shape) []Captured {
	byTable := map[Ref]*Captured{}
	readers := map[Ref][][]string{} // the columns of each
	need := func(t Ref, key, watch []string, links ...string) {
		c := byTable[t]
		if c == nil {
			c = &Captured{Table: t, Key: key}
			byTable[t] = c
		}
		reads := append(slices.Clone(watch), links...)
		readers[t] = append(readers[t], reads)
		c.Watch = union(c.Watch, reads)
		c.Links = union(c.Links, links)
	}
	for _, s := range shapes {
		for _, t := range s.Trees {
			for _, n := range t.Nodes {
				switch {
				case s.SourceOf(n) != source:
				case n.Refreshed:
					need(n.Table, nil, nil)
					byTable[n.Table].Refreshed = true
				case n.View:
					for _, f := range n.Follows {
						need(f.Table, f.Key, f.Columns, f.links()...)
						if c := byTable[f.Table]; !slices.Contains(c.Views, n.Table) {
							c.Views = append(c.Views, n.Table)
						}
					}
				case n.Link == nil:
					need(n.Table, n.Key, n.Depends)
					byTable[n.Table].Root = true
				case n.Link.Join == nil:
					need(n.Table, n.Key, n.Depends, n.Link.Theirs...)
				default:
					need(n.Table, n.Key, n.Depends, n.Link.Join.To...)
					need(n.Link.Join.Table, n.Link.Join.Key, n.Link.Join.reads(), n.Link.Theirs...)
				}
				table := n.Table
				if n.View && len(n.Follows) > 0 {
					table = n.Follows[0].Table
				}
				if c := byTable[table]; c != nil && s.SourceOf(n) == source && len(n.Functions) > 0 {
					c.Functions = union(c.Functions, n.Functions)
				}
			}
		}
	}
	out := make([]Captured, 0, len(byTable))
	for t, c := range byTable {
		// What identifies a row or ties it is apart, since it rarely changes, and more is noted then.
		c.Groups = groups(c.Watch, append(readers[t], append(slices.Clone(c.Key), c.Links...)))
		out = append(out, *c)
	}
	sort.Slice(out, func(i, j int) bool { return out[i].Table.String() < out[j].Table.String() })
	return out
}

// links are the columns that ways begin with.
func (f *Follow) links() (out []string) {
	for _, w := range f.Ways {
		out = union(out, w.Link)
	}
	return out
}

// groups puts columns together that the same readers read. What is beyond MaxGroups shares the last one.
func groups(columns []string, readers [][]string) [][]string {
	var out [][]string
	at := map[string]int{} // by who reads
	for _, c := range columns {
		who := make([]byte, len(readers))
		for i, reads := range readers {
			if slices.Contains(reads, c) {
				who[i] = 1
			}
		}
		i, known := at[string(who)]
		if !known {
			if i = min(len(out), MaxGroups-1); i == len(out) {
				out = append(out, nil)
			}
			at[string(who)] = i
		}
		out[i] = append(out[i], c)
	}
	return out
}

// Captures reports whether changes of a source's table touch documents of the shape.
func (s *Shape) Captures(source string, t Ref) bool {
	return slices.ContainsFunc(Capture(source, []*Shape{s}), func(c Captured) bool { return c.Table == t })
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
	// Tree is the position in Shape.Trees of the documents it leads to.
	Tree int
	// Link are the changed row's columns to start from; none at the root, whose key
	// is the document's.
	Link []string
	// Reads are the row's columns that matter this way, those of the Link included: an update
	// that changes none of them changes no document that the route leads to.
	Reads []string
	// Steps lead upwards; with none, the link's values are the document's key.
	Steps []Step
	// OfKey are the positions of the Link in the changed row's own key, when all of it is in there.
	OfKey []int
	// Own leads from the changed row's own key to its Link, where the table has a key.
	Own *Step
	// All: any document of the tree may be touched.
	All bool
}

// Step is one query on the way up: the rows of Table whose Match columns hold one of
// the tuples at hand yield the next tuples.
type Step struct {
	// Source has the table; empty where it is the shape's own.
	Source string
	Table  Ref
	Match  []string
	// Types are the database's words for the types that Match is compared as; only
	// needed for several columns.
	Types []string
	// Across is how the tuples are compared when they come from another source.
	Across []Across
	Yield  []Column
}

// Routes gives for each table of a source the ways from its changed rows to documents.
func (s *Shape) Routes(source string) map[Ref][]Route {
	routes := map[Ref][]Route{}
	add := func(table Ref, r Route) { routes[table] = append(routes[table], r) }
	for i, t := range s.Trees {
		root := t.Root()
		switch {
		case s.SourceOf(root) != source:
		case root.Refreshed:
			add(root.Table, Route{Tree: i, All: true})
		case root.View:
			for _, f := range root.Follows {
				reads := union(slices.Clone(f.Columns), f.links())
				for _, w := range f.Ways {
					steps := slices.Clone(w.Steps)
					for n := range steps {
						steps[n].Source = root.Source
					}
					add(f.Table, Route{Tree: i, Link: w.Link, Reads: reads, Steps: steps})
				}
				if len(f.Ways) == 0 {
					add(f.Table, Route{Tree: i, Reads: reads, All: true})
				}
			}
		default:
			add(root.Table, Route{Tree: i, Reads: root.Depends})
		}
		for _, n := range t.Nodes[1:] {
			if s.SourceOf(n) != source {
				continue
			}
			up := t.up(t.Nodes[n.Parent], n.Link)
			if j := n.Link.Join; j != nil {
				add(j.Table, Route{
					Tree: i, Link: n.Link.Theirs, Reads: union(j.reads(), n.Link.Theirs), Steps: up,
					OfKey: within(j.Key, n.Link.Theirs), Own: n.own(j.Table, j.Key, j.KeyTypes, n.theirs()),
				})
				add(n.Table, Route{
					Tree: i, Link: j.To, Reads: union(slices.Clone(n.Depends), j.To),
					Steps: append([]Step{n.joined()}, up...),
					OfKey: within(n.Key, j.To), Own: n.own(n.Table, n.Key, n.KeyTypes, j.to()),
				})
				continue
			}
			add(n.Table, Route{
				Tree: i, Link: n.Link.Theirs, Reads: union(slices.Clone(n.Depends), n.Link.Theirs), Steps: up,
				OfKey: within(n.Key, n.Link.Theirs), Own: n.own(n.Table, n.Key, n.KeyTypes, n.theirs()),
			})
		}
	}
	return routes
}

// within are the positions of columns in a key; nil when one is not in it.
func within(key, columns []string) []int {
	out := make([]int, len(columns))
	for i, c := range columns {
		if out[i] = slices.Index(key, c); out[i] < 0 {
			return nil
		}
	}
	return out
}

// own leads from the key of a row of the node's table, or of its join table, to some of its columns.
func (n *Node) own(t Ref, key, types []string, yield []Column) *Step {
	if len(key) == 0 || len(types) != len(key) {
		return nil
	}
	return &Step{Source: n.Source, Table: t, Match: key, Types: types, Yield: yield}
}

// joined leads from the columns of the join table that tie it to the node, to those that tie it to
// the node's parent.
func (n *Node) joined() Step {
	j := n.Link.Join
	return Step{Source: n.Source, Table: j.Table, Match: j.From, Types: j.FromTypes, Yield: n.theirs()}
}

// reads are the join table's columns that matter, without those that tie it to the parent.
func (j *Join) reads() []string { return union(slices.Clone(j.From), j.Depends) }

// to are the columns of the related table that a join table leads to.
func (j *Join) to() []Column {
	out := make([]Column, len(j.To))
	for i, name := range j.To {
		out[i].Name = name
	}
	return out
}

// up leads from the values by which a child of a node is linked to it to document keys. Values of
// another source are always read: it is unknown whether there is a row for them.
func (t *Tree) up(n *Node, by *Link) []Step {
	step := Step{Source: n.Source, Table: n.Table, Match: by.Ours, Types: by.Types}
	if by.Apart != nil {
		step.Across, step.Types = by.Apart.Ours, taken(by.Apart.Ours)
	}
	if n.Link == nil {
		// The key as the row has it is what tells documents apart, not one that equals it.
		if by.Apart == nil && slices.Equal(n.Key, by.Ours) &&
			!slices.ContainsFunc(n.Columns[:len(n.Key)], func(c Column) bool { return c.Loose }) {
			return nil
		}
		step.Yield = n.Columns[:len(n.Key)]
		return []Step{step}
	}
	above := t.up(t.Nodes[n.Parent], n.Link)
	switch {
	case n.Link.Join != nil:
		step.Yield = n.Link.Join.to()
		return append([]Step{step, n.joined()}, above...)
	case by.Apart == nil && slices.Equal(n.Link.Theirs, by.Ours):
		return above
	}
	step.Yield = n.theirs()
	return append([]Step{step}, above...)
}

// theirs are the linking columns as they are read.
func (n *Node) theirs() []Column { return n.Columns[:len(n.Link.Theirs)] }
