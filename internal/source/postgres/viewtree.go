package postgres

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/jackc/pgx/v5"

	"pingo/internal/core/shape"
)

// treeNode is a node of a query as the catalogue keeps it: what PostgreSQL made of a view's text.
type treeNode struct {
	kind   string
	fields map[string][]any // of *treeNode, []any for a list, and strings
}

// errTree says that a view's query is kept in a way that is not known here.
var errTree = errors.New("the tree of a view's query cannot be read")

// parseTree reads the text of a query's tree, as PostgreSQL's nodeToString writes it.
func parseTree(text string) (any, error) {
	p := &treeParser{text: text}
	v := p.value(p.token())
	if p.wrong || p.token() != "" {
		return nil, fmt.Errorf("%w at byte %d", errTree, p.at)
	}
	return v, nil
}

type treeParser struct {
	text  string
	at    int
	wrong bool
}

// token is the next word, or one of the brackets; empty at the end.
func (p *treeParser) token() string {
	for p.at < len(p.text) && (p.text[p.at] == ' ' || p.text[p.at] == '\n' || p.text[p.at] == '\t') {
		p.at++
	}
	from := p.at
	for p.at < len(p.text) {
		switch c := p.text[p.at]; {
		case c == '\\':
			p.at += 2
			continue
		case strings.IndexByte("(){}", c) >= 0:
			if p.at == from {
				p.at++
			}
			return p.text[from:p.at]
		case c == ' ' || c == '\n' || c == '\t':
			return p.text[from:p.at]
		}
		p.at++
	}
	p.at = min(p.at, len(p.text))
	return p.text[from:p.at]
}

func (p *treeParser) value(token string) any {
	switch token {
	case "(":
		list := []any{}
		for t := p.token(); t != ")"; t = p.token() {
			if t == "" || t == "}" {
				p.wrong = true
				return list
			}
			list = append(list, p.value(t))
		}
		return list
	case "{":
		n := &treeNode{kind: p.token(), fields: map[string][]any{}}
		field := ""
		for t := p.token(); t != "}"; t = p.token() {
			switch {
			case t == "" || t == ")":
				p.wrong = true
				return n
			case strings.HasPrefix(t, ":"):
				field = t[1:]
				n.fields[field] = nil
			default:
				n.fields[field] = append(n.fields[field], p.value(t))
			}
		}
		return n
	}
	return token
}

// one is the value of a field; nil where there is none, or no node.
func (n *treeNode) one(field string) any {
	if n == nil {
		return nil
	}
	if v := n.fields[field]; len(v) > 0 {
		return v[0]
	}
	return nil
}

func (n *treeNode) node(field string) *treeNode { out, _ := n.one(field).(*treeNode); return out }
func (n *treeNode) list(field string) []any     { out, _ := n.one(field).([]any); return out }
func (n *treeNode) is(field, value string) bool { out, _ := n.one(field).(string); return out == value }
func (n *treeNode) number(field string) int {
	out, _ := n.one(field).(string)
	number, err := strconv.Atoi(out)
	if err != nil {
		return -1
	}
	return number
}

// entry is one of the tables that a query reads, by its number; one that says nothing when there is none.
func (n *treeNode) entry(number int) *treeNode {
	if list := n.list("rtable"); number >= 1 && number <= len(list) {
		if entry, is := list[number-1].(*treeNode); is {
			return entry
		}
	}
	return &treeNode{}
}

// set reports whether a field has a value.
func (n *treeNode) set(field string) bool {
	v := n.one(field)
	return v != nil && v != "<>"
}

// walk calls each for the nodes under a value, itself included; those below one only where it says so.
func walk(v any, each func(n *treeNode) (deeper bool)) {
	switch v := v.(type) {
	case []any:
		for _, x := range v {
			walk(x, each)
		}
	case *treeNode:
		if each(v) {
			for _, list := range v.fields {
				walk(list, each)
			}
		}
	}
}

// viewReader makes the graph of what a view reads out of its tree.
type viewReader struct {
	tx      pgx.Tx
	equals  map[string]bool // the operators that are equality
	trees   map[int]any     // of views
	columns map[int]readTable
	out     *shape.View
	reached map[*treeNode]bool // the entries of tables that were met
	must    map[*treeNode]bool // the queries in expressions that must hold for a row to be there
}

type readTable struct {
	shape.ViewTable
	names map[int]string // of its columns, by number
}

// frame is a query that is being read.
type frame struct {
	query   *treeNode
	resolve map[int]func(column int) (shape.Place, bool) // by position of the table's entry
}

// parts gives the graphs of a view, and what it reads in a way that they do not show.
func viewParts(ctx context.Context, tx pgx.Tx, view uint32) (parts []shape.View, unclear []shape.Ref, err error) {
	rows, err := tx.Query(ctx, "SELECT DISTINCT amopopr::text FROM pg_amop JOIN pg_am a ON a.oid = amopmethod AND a.amname IN ('btree', 'hash') WHERE amopstrategy = CASE a.amname WHEN 'btree' THEN 3 ELSE 1 END")
	if err != nil {
		return nil, nil, err
	}
	equals, err := pgx.CollectRows(rows, pgx.RowTo[string])
	if err != nil {
		return nil, nil, err
	}
	r := &viewReader{tx: tx, equals: map[string]bool{}, trees: map[int]any{}, columns: map[int]readTable{}, reached: map[*treeNode]bool{}, must: map[*treeNode]bool{}}
	for _, oid := range equals {
		r.equals[oid] = true
	}
	q, err := r.query(ctx, int(view))
	if err != nil {
		return nil, nil, err
	}
	begin := func() { r.out = &shape.View{Above: []int{-1}, Shows: map[string]shape.Place{}} }
	read := func(q *treeNode, shows []any) error {
		begin()
		places, err := r.read(ctx, q, 0, nil)
		if err != nil {
			return err
		}
		for _, t := range shows {
			if t, is := t.(*treeNode); is {
				if p, known := places[t.number("resno")]; known {
					name, _ := t.one("resname").(string)
					r.out.Shows[strings.ReplaceAll(name, `\`, "")] = p
				}
			}
		}
		parts = append(parts, *r.out)
		return nil
	}
	if !q.set("setOperations") {
		err = read(q, q.list("targetList"))
	} else {
		walk(q.one("setOperations"), func(n *treeNode) bool {
			if n.kind == "RANGETBLREF" && err == nil {
				if part := q.entry(n.number("rtindex")).node("subquery"); part != nil {
					var shows []any
					if !limited(q) && len(q.list("cteList")) == 0 {
						shows = q.list("targetList")
					}
					err = read(part, shows)
				}
			}
			return true
		})
	}
	if err != nil {
		return nil, nil, err
	}
	for oid, tree := range r.trees { // what was not reached
		walk(tree, func(n *treeNode) bool {
			if n.kind == "RANGETBLENTRY" && n.is("rtekind", "0") && n.number("relid") != oid && !r.reached[n] && err == nil {
				var t readTable
				if t, err = r.table(ctx, n.number("relid")); err == nil {
					unclear = append(unclear, t.Table)
				}
			}
			return true
		})
	}
	return parts, unclear, err
}

// query is a view's own query.
func (r *viewReader) query(ctx context.Context, view int) (*treeNode, error) {
	if r.trees[view] == nil {
		var text string
		err := r.tx.QueryRow(ctx, "SELECT ev_action::text FROM pg_rewrite WHERE ev_class = $1 AND rulename = '_RETURN'", uint32(view)).Scan(&text)
		if err != nil {
			return nil, err
		}
		if r.trees[view], err = parseTree(text); err != nil {
			return nil, err
		}
	}
	list, _ := r.trees[view].([]any)
	if len(list) == 1 {
		if q, is := list[0].(*treeNode); is && q.kind == "QUERY" {
			return q, nil
		}
	}
	return nil, errTree
}

func (r *viewReader) table(ctx context.Context, oid int) (readTable, error) {
	t, known := r.columns[oid]
	if known {
		return t, nil
	}
	t.names = map[int]string{}
	err := r.tx.QueryRow(ctx, "SELECT n.nspname, c.relname FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE c.oid = $1", uint32(oid)).
		Scan(&t.Table.Schema, &t.Table.Name)
	if err != nil {
		return t, err
	}
	if t.Columns, err = columns(ctx, r.tx, uint32(oid), false); err != nil {
		return t, err
	}
	rows, err := r.tx.Query(ctx, "SELECT attnum, attname FROM pg_attribute WHERE attrelid = $1 AND attnum > 0 AND NOT attisdropped", uint32(oid))
	if err != nil {
		return t, err
	}
	var number int
	var name string
	if _, err = pgx.ForEachRow(rows, []any{&number, &name}, func() error { t.names[number] = name; return nil }); err != nil {
		return t, err
	}
	r.columns[oid] = t
	return t, nil
}

// limited reports whether rows of a query depend on their neighbours.
func limited(q *treeNode) bool {
	return q.set("limitCount") || q.set("limitOffset") || q.is("hasWindowFuncs", "true") || q.is("hasDistinctOn", "true") ||
		q.is("hasTargetSRFs", "true") || q.set("groupingSets") || q.is("hasModifyingCTE", "true") || q.is("hasRecursive", "true")
}

// read reads a query in a scope, inside others, and says which columns of tables it shows as they are, by
// their number.
func (r *viewReader) read(ctx context.Context, q *treeNode, scope int, outer []*frame) (map[int]shape.Place, error) {
	f := &frame{query: q, resolve: map[int]func(int) (shape.Place, bool){}}
	frames := append(slices.Clone(outer), f)
	if q.set("setOperations") { // one inside another query: what it shows is of several tables
		for number := range q.list("rtable") {
			if part := q.entry(number + 1).node("subquery"); part != nil {
				if _, err := r.read(ctx, part, r.inside(scope), frames); err != nil {
					return nil, err
				}
			}
		}
		return nil, nil
	}
	if err := r.from(ctx, q.one("jointree"), scope, frames); err != nil {
		return nil, err
	}
	var err error
	for _, part := range []string{"jointree", "targetList", "havingQual", "rtable", "limitCount", "limitOffset"} {
		walk(q.fields[part], func(n *treeNode) bool {
			switch {
			case err != nil || n.kind == "QUERY":
				return false
			case n.kind == "SUBLINK":
				err = r.subLink(ctx, n, scope, frames)
				return false
			}
			return true
		})
	}
	if err != nil || limited(q) {
		return nil, err
	}
	out := map[int]shape.Place{}
	for _, t := range q.list("targetList") {
		if t, is := t.(*treeNode); is && t.is("resjunk", "false") {
			if p, plain := r.place(t.one("expr"), frames); plain {
				out[t.number("resno")] = p
			}
		}
	}
	return out, nil
}

func (r *viewReader) inside(scope int) int {
	r.out.Above = append(r.out.Above, scope)
	return len(r.out.Above) - 1
}

// from reads what a query reads from, then what it says of that.
func (r *viewReader) from(ctx context.Context, v any, scope int, frames []*frame) error {
	n, is := v.(*treeNode)
	if !is {
		return nil
	}
	switch n.kind {
	case "RANGETBLREF":
		return r.entry(ctx, n.number("rtindex"), scope, frames)
	case "FROMEXPR":
		for _, part := range n.list("fromlist") {
			if err := r.from(ctx, part, scope, frames); err != nil {
				return err
			}
		}
	case "JOINEXPR":
		for _, side := range []string{"larg", "rarg"} {
			if err := r.from(ctx, n.one(side), scope, frames); err != nil {
				return err
			}
		}
		f := frames[len(frames)-1]
		aliases := f.query.entry(n.number("rtindex")).list("joinaliasvars")
		f.resolve[n.number("rtindex")] = func(column int) (shape.Place, bool) {
			if column < 1 || column > len(aliases) {
				return shape.Place{}, false
			}
			return r.place(aliases[column-1], frames)
		}
	}
	r.equalities(n.one("quals"), scope, frames)
	return nil
}

// entry reads one table of a query's list.
func (r *viewReader) entry(ctx context.Context, number, scope int, frames []*frame) error {
	f := frames[len(frames)-1]
	n := f.query.entry(number)
	subquery := func(q *treeNode, outer []*frame) error {
		if limited(q) || q.set("setOperations") {
			scope = r.inside(scope)
		}
		places, err := r.read(ctx, q, scope, outer)
		f.resolve[number] = func(column int) (shape.Place, bool) { p, known := places[column]; return p, known }
		return err
	}
	switch {
	case n.is("rtekind", "0") && n.is("relkind", "v"):
		r.reached[n] = true
		q, err := r.query(ctx, n.number("relid"))
		if err != nil {
			return err
		}
		return subquery(q, nil)
	case n.is("rtekind", "0"):
		r.reached[n] = true
		t, err := r.table(ctx, n.number("relid"))
		if err != nil {
			return err
		}
		t.Scope = scope
		at := len(r.out.Tables)
		r.out.Tables = append(r.out.Tables, t.ViewTable)
		f.resolve[number] = func(column int) (shape.Place, bool) {
			name, known := t.names[column]
			return shape.Place{Table: at, Column: name}, known
		}
	case n.is("rtekind", "1") && n.node("subquery") != nil:
		return subquery(n.node("subquery"), frames)
	case n.is("rtekind", "6") && n.is("self_reference", "false"): // a query that WITH names
		above := len(frames) - 1 - max(0, n.number("ctelevelsup"))
		if above < 0 {
			return nil
		}
		for _, cte := range frames[above].query.list("cteList") {
			if cte, is := cte.(*treeNode); is && cte.one("ctename") == n.one("ctename") && cte.is("cterecursive", "false") && cte.node("ctequery") != nil {
				return subquery(cte.node("ctequery"), frames[:above+1])
			}
		}
	}
	return nil
}

// place is the column that an expression is, if it is one.
func (r *viewReader) place(v any, frames []*frame) (shape.Place, bool) {
	n, is := v.(*treeNode)
	for is && n.kind == "RELABELTYPE" { // such as a varchar that is taken for a text
		n, is = n.one("arg").(*treeNode)
	}
	if !is || n.kind != "VAR" {
		return shape.Place{}, false
	}
	level := len(frames) - 1 - max(0, n.number("varlevelsup"))
	if level < 0 {
		return shape.Place{}, false
	}
	resolve := frames[level].resolve[n.number("varno")]
	if resolve == nil {
		return shape.Place{}, false
	}
	return resolve(n.number("varattno"))
}

// equalities notes what a condition says to be equal, where all of it must be true.
func (r *viewReader) equalities(v any, scope int, frames []*frame) {
	switch v := v.(type) {
	case []any:
		for _, x := range v {
			r.equalities(x, scope, frames)
		}
	case *treeNode:
		switch args := v.list("args"); {
		case v.kind == "SUBLINK":
			r.must[v] = true
		case v.kind == "BOOLEXPR" && v.is("boolop", "and"):
			r.equalities(args, scope, frames)
		case v.kind == "OPEXPR" && len(args) == 2:
			r.equal(v, args[0], args[1], scope, frames)
		}
	}
}

func (r *viewReader) equal(op *treeNode, a, b any, scope int, frames []*frame) {
	name, _ := op.one("opno").(string)
	left, isLeft := r.place(a, frames)
	right, isRight := r.place(b, frames)
	if r.equals[name] && isLeft && isRight {
		r.out.Equal = append(r.out.Equal, shape.Equality{A: left, B: right, Scope: scope})
	}
}

// subLink reads a query in an expression.
func (r *viewReader) subLink(ctx context.Context, n *treeNode, scope int, frames []*frame) error {
	inside := r.inside(scope)
	q := n.node("subselect")
	if q == nil {
		return nil
	}
	places, err := r.read(ctx, q, inside, frames)
	if err != nil {
		return err
	}
	test := n.node("testexpr")
	// Elsewhere a NULL in there may change rows that are equal to nothing: false becomes NULL.
	if r.must[n] && test != nil && test.kind == "OPEXPR" && len(test.list("args")) == 2 { // column IN (SELECT …)
		if left, plain := r.place(test.list("args")[0], frames); plain {
			name, _ := test.one("opno").(string)
			if right, known := places[1]; known && r.equals[name] {
				r.out.Equal = append(r.out.Equal, shape.Equality{A: left, B: right, Scope: inside})
			}
		}
	}
	walk(n.one("testexpr"), func(x *treeNode) bool {
		if x.kind == "SUBLINK" && err == nil {
			err = r.subLink(ctx, x, scope, frames)
			return false
		}
		return err == nil
	})
	return err
}
