package shape

import (
	"slices"
)

// View is what a view reads, as the graph of the tables whose rows make one of its rows; a union has one
// for each of its parts. A table that is read twice is there twice.
type View struct {
	Tables []ViewTable
	// Equal are the columns that are equal wherever rows of both tables have a part in a row of the view.
	Equal []Equality
	// Shows says which column of a table each of the view's columns holds as it is.
	Shows map[string]Place
	// Above is the scope around each scope, and -1 around the view's own, which is the first.
	Above []int
}

// ViewFacts is what a source knows of how the tables hang together that a view reads: one graph for each part of
// a union, and the tables that it reads in a way which these do not show.
type ViewFacts struct {
	Parts   []View
	Unclear []Ref
}

// ViewTable is a table in a scope of a view: the query itself, or one inside it whose rows are read
// together, such as that of EXISTS, or of one with a LIMIT. What holds inside such a one says nothing of
// rows outside it.
type ViewTable struct {
	Table   Ref
	Columns []TableColumn
	Scope   int
}

// Place is a column of one of a view's tables.
type Place struct {
	Table  int // position in View.Tables
	Column string
}

// Equality says that two columns are equal, in a scope and those inside it.
type Equality struct {
	A, B  Place
	Scope int
}

// Way leads from a changed row of a table that a view reads to the keys of the view's rows that it may
// have a part in, or had.
type Way struct {
	// Link are the row's columns to start from. Without Steps they are the key.
	Link  []string `json:"link"`
	Steps []Step   `json:"steps,omitempty"`
}

// ways are the ways from a table's rows to the keys of all rows of the views that a row of it may have a
// part in; none where no ways lead to all of them.
func ways(parts []View, table Ref, key []string) (out []Way) {
	for i := range parts {
		v := &parts[i]
		for t := range v.Tables {
			if v.Tables[t].Table != table {
				continue
			}
			way, found := v.way(t, key)
			if !found {
				return nil
			}
			if !slices.ContainsFunc(out, func(w Way) bool { return w.same(way) }) {
				out = append(out, way)
			}
		}
	}
	return out
}

func (w *Way) same(other Way) bool {
	return slices.Equal(w.Link, other.Link) &&
		slices.EqualFunc(w.Steps, other.Steps, func(a, b Step) bool {
			return a.Table == b.Table && slices.Equal(a.Match, b.Match) && slices.Equal(a.Yield, b.Yield)
		})
}

// way finds the shortest way from one of a view's tables to the key, breadth first over the columns
// that are equal.
func (v *View) way(from int, key []string) (Way, bool) {
	around := map[int]bool{} // the scopes that the table is in
	for s := v.Tables[from].Scope; s >= 0; s = v.Above[s] {
		around[s] = true
	}
	class := v.classes(around)
	before := map[int]int{from: -1}
	for next := []int{from}; len(next) > 0; next = next[1:] {
		at := next[0]
		if columns, found := v.keyAt(at, key, class); found {
			var path []int
			for t := at; t >= 0; t = before[t] {
				path = append(path, t)
			}
			slices.Reverse(path)
			return v.along(path, columns, class), true
		}
		for t := range v.Tables {
			if _, known := before[t]; known || !around[v.Tables[t].Scope] {
				continue
			}
			if mine, _ := v.tied(at, t, class); len(mine) > 0 {
				before[t] = at
				next = append(next, t)
			}
		}
	}
	return Way{}, false
}

// along writes a path through tables as a way; columns are the key in the last one.
func (v *View) along(path []int, columns []string, class map[Place]int) Way {
	if len(path) == 1 {
		return Way{Link: columns}
	}
	var out Way
	for i, t := range path[1:] {
		yield, match := v.tied(path[i], t, class)
		if i == 0 {
			out.Link = yield
		} else {
			out.Steps[i-1].Yield = v.columns(path[i], yield)
		}
		step := Step{Table: v.Tables[t].Table, Match: match}
		for _, name := range match {
			step.Types = append(step.Types, v.column(Place{t, name}).Native)
		}
		out.Steps = append(out.Steps, step)
	}
	out.Steps[len(out.Steps)-1].Yield = v.columns(path[len(path)-1], columns)
	return out
}

func (v *View) columns(table int, names []string) []Column {
	out := make([]Column, len(names))
	for i, name := range names {
		out[i] = v.column(Place{table, name}).KeyColumn()
	}
	return out
}

// column is what is known of a place; nil when it is not there.
func (v *View) column(p Place) *TableColumn {
	columns := v.Tables[p.Table].Columns
	if i := slices.IndexFunc(columns, func(c TableColumn) bool { return c.Name == p.Column }); i >= 0 {
		return &columns[i]
	}
	return nil
}

// keyAt are the columns of a table that hold the view's key, where all of it is there: written as in the key,
// too, since that is what tells documents apart.
func (v *View) keyAt(table int, key []string, class map[Place]int) (columns []string, all bool) {
	for _, k := range key {
		shown, known := v.Shows[k]
		if !known {
			return nil, false
		}
		name := shown.Column
		if shown.Table != table {
			name = ""
			of, equal := class[shown]
			for _, c := range v.Tables[table].Columns {
				in, tied := class[Place{table, c.Name}]
				if tied && equal && in == of && !c.Loose && !v.column(shown).Loose {
					name = c.Name
					break
				}
			}
		}
		if name == "" {
			return nil, false
		}
		columns = append(columns, name)
	}
	return columns, len(key) > 0
}

// tied are the columns by which two tables hang together, those of the one and those of the other.
func (v *View) tied(a, b int, class map[Place]int) (mine, theirs []string) {
	seen := map[int]bool{}
	for _, c := range v.Tables[a].Columns {
		in, tied := class[Place{a, c.Name}]
		if !tied || seen[in] {
			continue
		}
		for _, other := range v.Tables[b].Columns {
			if also, tied := class[Place{b, other.Name}]; tied && also == in {
				mine, theirs, seen[in] = append(mine, c.Name), append(theirs, other.Name), true
				break
			}
		}
	}
	return mine, theirs
}

// classes puts the places together that are equal in some scopes, and whose values have one text then.
func (v *View) classes(scopes map[int]bool) map[Place]int {
	out := map[Place]int{}
	for _, e := range v.Equal {
		a, b := v.column(e.A), v.column(e.B)
		if !scopes[e.Scope] || a == nil || b == nil || a.Family != b.Family || a.Unlinkable != "" || b.Unlinkable != "" {
			continue
		}
		inA, knownA := out[e.A]
		inB, knownB := out[e.B]
		switch {
		case !knownA && !knownB:
			out[e.A], out[e.B] = len(out), len(out)
		case !knownA:
			out[e.A] = inB
		case !knownB:
			out[e.B] = inA
		default:
			for p, in := range out {
				if in == inB {
					out[p] = inA
				}
			}
		}
	}
	return out
}
