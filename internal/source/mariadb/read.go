package mariadb

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"

	"pingo/internal/core/document"
	"pingo/internal/core/shape"
	"pingo/internal/source"
	"pingo/internal/source/coalesce"
)

// nodeSQL is how one node is read. Where links are compared loosely, values are joined with
// the rows, which come back with the value that they were asked for by.
type nodeSQL struct {
	columns    []string
	from, tail string
	// links are the columns that values are compared with, as in the statement.
	links []string
	forms []string // of the links
	loose bool
	order string
	// writers turn the values that it yields into their neutral form.
	writers []document.Writer
}

// plans are the compiled nodes.
type plans struct{ known sync.Map } // *shape.Node to *nodeSQL

func (p *plans) of(n *shape.Node) *nodeSQL {
	if known, ok := p.known.Load(n); ok {
		return known.(*nodeSQL)
	}
	s := compileNode(n)
	p.known.Store(n, s)
	return s
}

func compileNode(n *shape.Node) *nodeSQL {
	columns := make([]string, len(n.Columns))
	s := &nodeSQL{columns: columns, writers: make([]document.Writer, len(n.Columns))}
	for i, c := range n.Columns {
		columns[i], s.writers[i] = readColumn(c), writerOf(c)
	}
	where := ""
	if n.Where != "" {
		where = " AND (" + n.Where + "\n)"
	}
	table := quote(n.Table)
	if n.Link == nil {
		s.links, s.forms = quoted(n.Key, table+".", ""), formsOf(n.Columns[:len(n.Key)])
		s.from, s.tail = tableOnly(n.Table), where
		return s
	}
	theirs := n.Columns[:len(n.Link.Theirs)]
	s.forms = formsOf(theirs)
	for i, c := range theirs {
		// Between two sources values are equal when their texts are, which is checked later.
		s.loose = s.loose || c.Loose && n.Link.Apart == nil
		s.links = append(s.links, table+"."+quoteName(n.Link.Theirs[i]))
	}
	order := tieBreak(n)
	if n.Order != "" {
		order = n.Order + "\n, " + order
	}
	from := tableOnly(n.Table)
	if j := n.Link.Join; j != nil {
		// The join table shows its columns under names of ours, so that they cannot be
		// mistaken for the related table's.
		var inner, on []string
		s.links = nil
		for i, name := range n.Link.Theirs {
			as := fmt.Sprintf("pingo_link%d", i)
			inner = append(inner, quoteName(name)+" AS "+as)
			s.links = append(s.links, "pingo_join."+as)
			columns[i] = readAs(n.Columns[i], "pingo_join."+as)
		}
		for i, name := range j.From {
			inner = append(inner, fmt.Sprintf("%s AS pingo_to%d", quoteName(name), i))
			on = append(on, fmt.Sprintf("%s.%s = pingo_join.pingo_to%d", table, quoteName(j.To[i]), i))
		}
		counts := ""
		if j.Where != "" {
			counts = " WHERE (" + j.Where + "\n)"
		}
		from = fmt.Sprintf("(SELECT %s FROM %s%s) pingo_join JOIN %s ON %s",
			strings.Join(inner, ", "), tableOnly(j.Table), counts, tableOnly(n.Table), strings.Join(on, " AND "))
	}
	by := s.links
	if s.loose {
		by = nil
		for i := range theirs {
			columns[i] = fmt.Sprintf("CAST(pingo_given.pingo_p%d AS CHAR)", i)
			s.writers[i] = nil
			by = append(by, fmt.Sprintf("pingo_given.pingo_p%d", i))
		}
	}
	if len(n.InOrder) == 0 && (n.Many || n.Link.Join != nil || !slices.Equal(n.Link.Theirs, n.Key)) {
		// By the link first: an index on it brings the rows almost in this order. Where
		// there should be one row and are several, it is always the same one.
		s.order = " ORDER BY " + strings.Join(by, ", ") + ", " + order
	}
	s.from, s.tail = from, where
	return s
}

func formsOf(columns []shape.Column) []string {
	out := make([]string, len(columns))
	for i, c := range columns {
		out[i] = c.Form
	}
	return out
}

// by is what stands behind the columns of the statement that reads a node's rows by tuples of values.
func (s *nodeSQL) by(natives []string, tuples [][]string) string {
	if !s.loose {
		return s.where(among(s.links, natives, tuples))
	}
	on := make([]string, len(s.links))
	for i := range s.links {
		on[i] = fmt.Sprintf("%s = pingo_given.pingo_p%d", s.links[i], i)
	}
	return " FROM " + jsonTable(
		s.forms,
		natives,
		tuples,
	) + " STRAIGHT_JOIN (" + s.from + ") ON " + strings.Join(
		on,
		" AND ",
	) +
		" WHERE true" + s.tail + s.order
}

// where is what stands behind the columns of the statement that reads the node's rows under a condition.
func (s *nodeSQL) where(condition string) string {
	return " FROM " + s.from + " WHERE " + condition + s.tail + s.order
}

// readColumn is how a column is read.
func readColumn(c shape.Column) string {
	if c.Expression != "" {
		return readAs(c, "("+c.Expression+"\n)")
	}
	return readAs(c, quoteName(c.Name))
}

// readAs reads the value of a column that some SQL yields: as keys hold it, or in a
// type whose text a writer can read.
func readAs(c shape.Column, sql string) string {
	of := treatmentOf(c.Form)
	way := of.readAs
	if c.Key {
		way = of.keyAs
	}
	if way == "" {
		return sql
	}
	return in(way, sql)
}

// in puts some SQL in place of what a format has for a column.
func in(format, sql string) string {
	return strings.NewReplacer("%[1]s", sql, "%s", sql).Replace(format)
}

// tieBreak settles the order of rows that the definition does not: by key, or by
// everything that is read.
func tieBreak(n *shape.Node) string {
	table := quote(n.Table)
	if len(n.Key) > 0 {
		return quoteNames(n.Key, table+".")
	}
	var ordered []string
	for _, c := range n.Columns[len(n.Link.Theirs):] {
		ordered = append(ordered, "CAST("+readColumn(c)+" AS CHAR)")
	}
	return strings.Join(append(ordered, "NULL"), ", ")
}

// among is the condition that columns hold one of some tuples.
func among(columns, natives []string, tuples [][]string) string {
	var b strings.Builder
	tuple := func(open, between, close string, each func(i int) string) {
		b.WriteString(open)
		for i := range columns {
			if i > 0 {
				b.WriteString(between)
			}
			b.WriteString(each(i))
		}
		b.WriteString(close)
	}
	open, end := "", ""
	if len(columns) > 1 {
		open, end = "(", ")"
	}
	tuple(open, ", ", end, func(i int) string { return columns[i] })
	b.WriteString(" IN (")
	for n, values := range tuples {
		if n > 0 {
			b.WriteString(", ")
		}
		tuple(open, ", ", end, func(i int) string { return literal(natives[i], values[i]) })
	}
	b.WriteString(")")
	return b.String()
}

// between is the condition that columns are after one tuple (nil: the start) and not after
// another (nil: the end). It is written out column by column: of a comparison of whole tuples
// MariaDB makes no use of an index.
func between(columns, natives []string, after, upto []string) string {
	side := func(values []string, less, last string) string {
		var ways []string
		for i := range columns {
			var same []string
			for j := range i {
				same = append(same, columns[j]+" = "+literal(natives[j], values[j]))
			}
			sign := less
			if i == len(columns)-1 {
				sign = last
			}
			ways = append(
				ways,
				strings.Join(append(same, columns[i]+" "+sign+" "+literal(natives[i], values[i])), " AND "),
			)
		}
		return "(" + strings.Join(ways, " OR ") + ")"
	}
	conditions := []string{"true"}
	if after != nil {
		conditions = append(conditions, side(after, ">", ">"))
	}
	if upto != nil {
		conditions = append(conditions, side(upto, "<", "<="))
	}
	return strings.Join(conditions, " AND ")
}

// query reads a node's rows: the columns, and from what stands behind them.
func (s *nodeSQL) query(n *shape.Node, from string) coalesce.Query {
	return coalesce.Query{Node: n.ID, Columns: s.columns, From: from, Writers: s.writers}
}

// ReadKeys reads the rows of documents by key. Where texts are compared loosely, only the rows
// that have a key exactly are meant: another one is another document.
func (p *Reader) ReadKeys(ctx context.Context, set *document.Set, keys [][]string) error {
	return p.reads.Do(ctx, set, keys, p.byKeys, p.read)
}

// byKeys are the queries that read documents' rows, those of their roots and what belongs to these by the key alone.
func (p *Reader) byKeys(t *shape.Tree, keys [][]string) []coalesce.Query {
	root := t.Root()
	s := p.plans.of(root)
	condition := among(s.links, root.KeyTypes, keys)
	for i, c := range keyColumns(root) {
		if !c.Loose {
			continue
		}
		var asked []string
		for _, key := range keys {
			asked = append(asked, text(key[i]))
		}
		condition += fmt.Sprintf(
			" AND CONVERT(%s USING utf8mb4) COLLATE %s IN (%s)",
			s.links[i],
			exactly,
			strings.Join(asked, ", "),
		)
	}
	level := []coalesce.Query{s.query(root, s.where(condition))}
	if root.Where == "" { // else there may be rows, and many, of what has no document
		for _, n := range t.ByRoot() {
			if s := p.plans.of(n); !s.loose {
				level = append(level, s.query(n, s.by(n.Link.Types, keys)))
			}
		}
	}
	return level
}

// ReadBelow reads the rows of a node by those of its parent.
func (p *Reader) ReadBelow(ctx context.Context, set *document.Set, node int) error {
	if q, any := p.linked(set, set.Tree().Nodes[node]); any {
		return p.read(ctx, &coalesce.Part{Set: set, Level: []coalesce.Query{q}})
	}
	return nil
}

// linked is the query that reads a node by the rows of its parent; false when they need none.
func (p *Reader) linked(set *document.Set, n *shape.Node) (q coalesce.Query, any bool) {
	tuples := transpose(set.Links(n.ID))
	if len(tuples) == 0 {
		return coalesce.Query{}, false
	}
	s := p.plans.of(n)
	return s.query(n, s.by(n.Link.Compared(), tuples)), true
}

// ReadRange reads the rows of documents in a range of keys.
func (p *Reader) ReadRange(ctx context.Context, set *document.Set, after, upto []string) error {
	root := set.Tree().Root()
	s := p.plans.of(root)
	level := []coalesce.Query{s.query(root, s.where(between(s.links, root.KeyTypes, after, upto)))}
	for _, n := range set.Tree().ByRoot() {
		if s := p.plans.of(n); !s.loose {
			level = append(level, s.query(n, s.where(between(s.links, n.Link.Types, after, upto))))
		}
	}
	return p.read(ctx, &coalesce.Part{Set: set, Level: level})
}

// read reads node by node in one read-only snapshot: first some, then, level by
// level, every node of the same source whose parent is there, sent together. Several sets are read as one.
func (p *Reader) read(ctx context.Context, parts ...*coalesce.Part) error {
	conn, err := p.db.Conn(ctx)
	if err != nil {
		return explain(err)
	}
	defer func() { conn.Close() }()
	stale := 0
	begin := "SET TRANSACTION ISOLATION LEVEL REPEATABLE READ; START TRANSACTION WITH CONSISTENT SNAPSHOT, READ ONLY; "
	for last := false; !last; {
		var below [][]*shape.Node
		below, last = coalesce.Below(parts)
		end := ""
		if last {
			end = "; COMMIT"
		}
		err := readLevel(ctx, conn, coalesce.Merge(parts), begin, end)
		if errors.Is(err, driver.ErrBadConn) && begin != "" && stale <= poolSize {
			stale++ // the server closed it while it was idle, and nothing was sent
			conn.Close()
			if conn, err = p.db.Conn(ctx); err != nil {
				return explain(err)
			}
			last = false
			continue
		}
		if err != nil {
			discard(conn) // its state is unknown
			return fmt.Errorf("reading rows for index %s: %w", parts[0].Set.Tree().Index, explain(err))
		}
		done := coalesce.Descend(parts, below, p.linked)
		if begin = ""; done && !last { // no row below is meant
			if _, err := conn.ExecContext(ctx, "COMMIT"); err != nil {
				discard(conn)
				return wrap("ending a read", err)
			}
			return nil
		}
	}
	return nil
}

// transpose makes tuples of a list for each column.
func transpose(columns [][]string) [][]string {
	out := make([][]string, len(columns[0]))
	for i := range out {
		out[i] = make([]string, len(columns))
		for j := range columns {
			out[i][j] = columns[j][i]
		}
	}
	return out
}

// discard takes a connection out of the pool.
func discard(conn *sql.Conn) {
	_ = conn.Raw(func(any) error { return driver.ErrBadConn }) // this is how database/sql learns it
}

// readLevel sends all statements of a level together, after opening the snapshot when it is the
// first and before closing it when it is the last, and copies the values as they come.
func readLevel(ctx context.Context, conn *sql.Conn, level []*coalesce.Statement, begin, end string) error {
	statements := make([]string, len(level))
	for i, q := range level {
		statements[i] = q.SQL
	}
	rows, err := conn.QueryContext(ctx, begin+strings.Join(statements, "; ")+end)
	if err != nil {
		return err
	}
	defer rows.Close()
	for i, q := range level {
		if i > 0 && !rows.NextResultSet() {
			if err := rows.Err(); err != nil {
				return err
			}
			return fmt.Errorf("%d of %d answers came", i, len(level))
		}
		values := make([][]byte, q.Width)
		raw, scan := make([]sql.RawBytes, q.Width), make([]any, q.Width)
		for j := range raw {
			scan[j] = &raw[j]
		}
		for rows.Next() {
			if err := rows.Scan(scan...); err != nil {
				return err
			}
			for j := range raw {
				values[j] = raw[j]
			}
			if !q.Add(values) {
				return source.ErrTooLarge
			}
		}
		if err := rows.Err(); err != nil {
			return err
		}
	}
	return nil
}

// WalkUp walks the steps up from linking values to document keys.
func (p *Reader) WalkUp(
	ctx context.Context,
	steps []shape.Step,
	tuples [][]string,
	each func(key []string) error,
) error {
	return source.Walk(
		steps,
		tuples,
		func(step shape.Step, tuples [][]string, each func(row []string) error) error {
			return p.walk(ctx, step, tuples, each)
		},
		each,
	)
}

// walkAtOnce bounds how long a statement becomes.
const walkAtOnce = 5000

func (p *Reader) walk(
	ctx context.Context,
	step shape.Step,
	tuples [][]string,
	each func(row []string) error,
) error {
	for some := range slices.Chunk(tuples, walkAtOnce) {
		condition := among(quoted(step.Match, "", ""), step.Types, some)
		err := p.stream(ctx, step.Yield, fmt.Sprintf("FROM %s WHERE %s", tableOnly(step.Table), condition), each)
		if err != nil {
			return fmt.Errorf("looking in %s for the documents that a change touches: %w", step.Table, err)
		}
	}
	return nil
}

// keyColumns are those of a root's key.
func keyColumns(root *shape.Node) []shape.Column { return root.Columns[:len(root.Key)] }

// Keys passes on the keys of a root table's rows in a range.
func (p *Reader) Keys(
	ctx context.Context,
	t *shape.Tree,
	after, upto []string,
	each func(key []string) error,
) error {
	root := t.Root()
	condition := between(quoted(root.Key, "", ""), root.KeyTypes, after, upto)
	return p.stream(ctx, keyColumns(root), fmt.Sprintf("FROM %s WHERE %s", tableOnly(root.Table), condition), each)
}

// stream reads rows of some columns without holding them; rows with a NULL are left out.
func (p *Reader) stream(
	ctx context.Context,
	columns []shape.Column,
	from string,
	each func(row []string) error,
) error {
	selected, writers := make([]string, len(columns)), make([]document.Writer, len(columns))
	for i, c := range columns {
		selected[i], writers[i] = readColumn(c), writerOf(c)
	}
	conn, err := p.db.Conn(ctx)
	if err != nil {
		return explain(err)
	}
	defer func() { conn.Close() }()
	statements := "START TRANSACTION READ ONLY; SELECT " + strings.Join(selected, ", ") + " " + from + "; COMMIT"
	rows, err := conn.QueryContext(ctx, statements)
	for stale := 0; errors.Is(err, driver.ErrBadConn) && stale <= poolSize; stale++ { // closed while it was idle
		conn.Close()
		if conn, err = p.db.Conn(ctx); err != nil {
			return explain(err)
		}
		rows, err = conn.QueryContext(ctx, statements)
	}
	if err != nil {
		discard(conn) // the transaction may be open
		return explain(err)
	}
	var stopped error
	var row []string
	err = eachRow(rows, func(values []sql.RawBytes) error {
		row = row[:0]
		for i, v := range values {
			if v == nil {
				return nil
			}
			if writers[i] != nil {
				row = append(row, string(writers[i](nil, v)))
			} else {
				row = append(row, string(v))
			}
		}
		stopped = each(row)
		return stopped
	})
	if err != nil {
		discard(conn)
	}
	if stopped != nil {
		return stopped
	}
	return explain(err)
}

// Count counts the rows that have documents.
func (p *Reader) Count(ctx context.Context, t *shape.Tree) (int64, error) {
	root := t.Root()
	query := "SELECT count(*) FROM " + tableOnly(root.Table)
	if root.Where != "" {
		query += " WHERE (" + root.Where + "\n)"
	}
	var n int64
	if err := p.db.reading(ctx, func(tx *sql.Tx) error { return tx.QueryRowContext(ctx, query).Scan(&n) }); err != nil {
		return 0, wrap("counting rows of "+root.Table.String(), err)
	}
	return n, nil
}

// ChunkEnd looks rows ahead in the key's own index.
func (p *Reader) ChunkEnd(ctx context.Context, t *shape.Tree, after []string, rows int) ([]string, error) {
	root := t.Root()
	key := quoted(root.Key, "", "")
	from := fmt.Sprintf("FROM %s WHERE %s ORDER BY %s LIMIT 1 OFFSET %d",
		tableOnly(root.Table), between(key, root.KeyTypes, after, nil), strings.Join(key, ", "), rows-1)
	var end []string
	err := p.stream(ctx, keyColumns(root), from, func(row []string) error {
		end = append(end, row...)
		return nil
	})
	if err != nil {
		return nil, fmt.Errorf("planning chunks of %s: %w", root.Table, err)
	}
	return end, nil
}

// DuplicateKeys is zero: documents are made of tables, whose keys are unique.
func (p *Reader) DuplicateKeys(context.Context, *shape.Tree) (int64, error) { return 0, nil }
