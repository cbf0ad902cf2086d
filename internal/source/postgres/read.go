package postgres

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"pingo/internal/core/document"
	"pingo/internal/core/shape"
	"pingo/internal/pgerror"
	"pingo/internal/source"
	"pingo/internal/source/coalesce"
)

// nodeSQL is how one node is read: everything but the condition that picks rows.
type nodeSQL struct {
	columns    []string
	from, tail string
	// writers turn the values that it yields into their neutral form.
	writers []document.Writer
}

func (p *Reader) sqlOf(n *shape.Node) *nodeSQL {
	if known, ok := p.plans.Load(n); ok {
		return known.(*nodeSQL)
	}
	s := compileNode(n)
	p.plans.Store(n, s)
	return s
}

func compileNode(n *shape.Node) *nodeSQL {
	columns, writers := make([]string, len(n.Columns)), make([]document.Writer, len(n.Columns))
	for i, c := range n.Columns {
		columns[i], writers[i] = readColumn(c), writerOf(c)
	}
	where := ""
	if n.Where != "" {
		where = " AND (" + n.Where + "\n)"
	}
	if n.Link == nil {
		return &nodeSQL{
			columns: columns, from: " FROM " + quote(n.Table) + " WHERE ",
			tail: where + identified(n), writers: writers,
		}
	}
	links := n.Link.Theirs
	order := tieBreak(n)
	sorted := len(n.InOrder) == 0 && (n.Many || n.Link.Join != nil || !slices.Equal(links, n.Key))
	if n.Order != "" {
		order = n.Order + "\n, " + order
	}
	if j := n.Link.Join; j != nil {
		// The join table shows its columns under names of ours, so that they cannot
		// be mistaken for the related table's.
		var inner, on, by []string
		for i, theirs := range links {
			by = append(by, fmt.Sprintf("pingo_link%d", i))
			inner = append(inner, quoteName(theirs)+" AS "+by[i])
			columns[i] = readAs(n.Columns[i], by[i])
		}
		for i, from := range j.From {
			inner = append(inner, fmt.Sprintf("%s AS pingo_to%d", quoteName(from), i))
			on = append(on, fmt.Sprintf("%s.%s = pingo_to%d", quote(n.Table), quoteName(j.To[i]), i))
		}
		counts := ""
		if j.Where != "" {
			counts = " AND (" + j.Where + "\n)"
		}
		if sorted {
			where += " ORDER BY " + strings.Join(by, ", ") + ", " + order
		}
		return &nodeSQL{
			columns: columns,
			from:    fmt.Sprintf(" FROM (SELECT %s FROM %s WHERE ", strings.Join(inner, ", "), quote(j.Table)),
			tail: fmt.Sprintf(
				"%s) pingo_join JOIN %s ON %s WHERE true%s",
				counts,
				quote(n.Table),
				strings.Join(on, " AND "),
				where,
			), writers: writers,
		}
	}
	tail := where
	if sorted {
		// By the link first: an index on it brings the rows almost in this order. Where
		// there should be one row and are several, it is always the same one.
		tail += " ORDER BY " + quoteNames(links, quote(n.Table)+".") + ", " + order
	}
	return &nodeSQL{
		columns: columns, from: " FROM " + quote(n.Table) + " WHERE ",
		tail: tail, writers: writers,
	}
}

// identified keeps out the rows of a view that have no whole key.
func identified(root *shape.Node) string {
	if !root.View && !root.Refreshed {
		return ""
	}
	return " AND " + strings.Join(quoted(root.Key, "", " IS NOT NULL"), " AND ")
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
	element, list := strings.CutSuffix(c.Form, "[]")
	of := treatments[element]
	switch {
	case c.Key:
		return strings.ReplaceAll(of.keyAs, "%s", sql)
	case of.readAs != "" && list:
		return "(" + sql + ")::" + of.readAs + "[]"
	case of.readAs != "":
		return "(" + sql + ")::" + of.readAs
	}
	return sql
}

// tieBreak settles the order of rows that the definition does not: by key, or by
// everything that is read.
func tieBreak(n *shape.Node) string {
	if len(n.Key) > 0 {
		return quoteNames(n.Key, quote(n.Table)+".")
	}
	var ordered []string
	for _, c := range n.Columns[len(n.Link.Theirs):] {
		ordered = append(ordered, asText(readColumn(c), strings.TrimSuffix(c.Form, "[]") != ""))
	}
	return strings.Join(append(ordered, "1"), ", ")
}

func rowOf(columns []string) string {
	if len(columns) == 1 {
		return quoteName(columns[0])
	}
	return "(" + quoteNames(columns, "") + ")"
}

// ReadKeys reads the rows of documents by key.
func (p *Reader) ReadKeys(ctx context.Context, set *document.Set, keys [][]string) error {
	return p.reads.Do(ctx, set, keys, p.byKeys, p.read)
}

// byKeys are the queries that read documents' rows, those of their roots and what belongs to these by the key alone.
func (p *Reader) byKeys(t *shape.Tree, keys [][]string) []coalesce.Query {
	root := t.Root()
	lists := transpose(keys, len(root.Key))
	level := []coalesce.Query{p.query(root, root.KeyTypes, lists)}
	if root.Where == "" { // else there may be rows, and many, of what has no document
		for _, n := range t.ByRoot() {
			level = append(level, p.query(n, n.Link.Types, lists))
		}
	}
	return level
}

// query reads a node by tuples of the columns that are its key, or link it with its parent.
func (p *Reader) query(n *shape.Node, types []string, lists [][]string) coalesce.Query {
	s, columns := p.sqlOf(n), linked(n)
	condition, params, prepared := few(columns, types, lists)
	if !prepared {
		condition, params = among(columns, types, lists)
	}
	q := s.query(n, condition, params)
	q.Prepared = prepared
	return q
}

// query reads a node's rows under a condition.
func (s *nodeSQL) query(n *shape.Node, condition string, params [][]byte) coalesce.Query {
	return coalesce.Query{
		Node: n.ID, Columns: s.columns, From: s.from + condition + s.tail, Params: params, Writers: s.writers,
	}
}

// linked are the columns that are a root's key, or link another node with its parent.
func linked(n *shape.Node) []string {
	if n.Link != nil {
		return n.Link.Theirs
	}
	return n.Key
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
	values := set.Links(n.ID)
	if len(values[0]) == 0 {
		return coalesce.Query{}, false
	}
	return p.query(n, n.Link.Compared(), values), true
}

func transpose(tuples [][]string, columns int) [][]string {
	out := make([][]string, columns)
	for i := range out {
		out[i] = make([]string, len(tuples))
		for j, t := range tuples {
			out[i][j] = t[i]
		}
	}
	return out
}

// among is the condition that columns hold one of some tuples, given as a list for
// each column.
func among(columns, types []string, lists [][]string) (string, [][]byte) {
	params := make([][]byte, len(columns))
	arrays := make([]string, len(columns))
	for i := range columns {
		params[i] = textArray(lists[i])
		arrays[i] = fmt.Sprintf("$%d", i+1)
		if i < len(types) {
			arrays[i] += "::" + typeName(types[i]) + "[]"
		}
	}
	if len(columns) == 1 {
		return quoteName(columns[0]) + " = ANY(" + arrays[0] + ")", params
	}
	return rowOf(columns) + " IN (SELECT * FROM unnest(" + strings.Join(arrays, ", ") + "))", params
}

// ReadRange reads the rows of documents in a range of keys.
func (p *Reader) ReadRange(ctx context.Context, set *document.Set, after, upto []string) error {
	ranged := func(n *shape.Node, types []string) coalesce.Query {
		s := p.sqlOf(n)
		condition, params := between(linked(n), types, after, upto)
		return s.query(n, condition, params)
	}
	level := []coalesce.Query{ranged(set.Tree().Root(), nil)}
	for _, n := range set.Tree().ByRoot() {
		level = append(level, ranged(n, n.Link.Types))
	}
	return p.read(ctx, &coalesce.Part{Set: set, Level: level})
}

// between is the condition that columns are after one tuple (nil: the start) and not
// after another (nil: the end).
func between(columns, types []string, after, upto []string) (string, [][]byte) {
	var params [][]byte
	row := func(values []string) string {
		marks := make([]string, len(values))
		for i, v := range values {
			params = append(params, []byte(v))
			marks[i] = fmt.Sprintf("$%d", len(params))
			if types != nil {
				marks[i] += "::" + typeName(types[i])
			}
		}
		if len(marks) == 1 {
			return marks[0]
		}
		return "(" + strings.Join(marks, ", ") + ")"
	}
	conditions := []string{"true"}
	if after != nil {
		conditions = append(conditions, rowOf(columns)+" > "+row(after))
	}
	if upto != nil {
		conditions = append(conditions, rowOf(columns)+" <= "+row(upto))
	}
	return strings.Join(conditions, " AND "), params
}

// read reads node by node in one read-only snapshot: first some, then, level by
// level, every node of the same source whose parent is there, sent together. Several sets are read as one.
func (p *Reader) read(ctx context.Context, parts ...*coalesce.Part) error {
	conn, err := p.pool.Acquire(ctx)
	if err != nil {
		return explain(err)
	}
	defer conn.Release()
	raw := conn.Conn().PgConn()
	begin := p.pool.begin("ISOLATION LEVEL REPEATABLE READ")
	opening := len(begin)
	for _, part := range parts {
		if lock := p.lockOf(part.Set.Tree(), part.Level); lock != "" && !slices.Contains(begin, lock) {
			begin = append(begin, lock)
		}
	}
	for last := false; !last; {
		var below [][]*shape.Node
		below, last = coalesce.Below(parts)
		if err := readLevel(ctx, conn.Conn(), coalesce.Merge(parts), begin, last); err != nil {
			// Rows that cannot be read are found one by one: another connection for each would cost more
			// than the reading.
			if outdated(err) {
				p.pool.Reset() // the other connections have such statements, too
			}
			rolled := pgerror.Code(err) != "" && !outdated(err)
			if rolled {
				_, failed := raw.Exec(ctx, rollback).ReadAll()
				rolled = failed == nil
			}
			if !rolled {
				conn.Conn().Close(context.WithoutCancel(ctx)) // its state is unknown
			}
			tree := parts[0].Set.Tree()
			if rolled && len(parts) == 1 && p.cannotLock(tree, parts[0].Level, err) {
				begin, last = begin[:opening], false
				continue
			}
			return fmt.Errorf("reading rows for index %s: %w", tree.Index, explain(err))
		}
		done := coalesce.Descend(parts, below, p.linked)
		if begin = nil; done && !last { // no row below is meant
			if _, err := raw.Exec(ctx, rollback).ReadAll(); err != nil {
				return wrap("ending a read", err)
			}
			return nil
		}
	}
	return nil
}

// readLevel sends all statements of a level together, after what opens the snapshot when
// it is the first and before closing it when it is the last, and copies the values as they come.
func readLevel(
	ctx context.Context,
	conn *pgx.Conn,
	level []*coalesce.Statement,
	begin []string,
	last bool,
) error {
	pipeline, known := conn.PgConn().StartPipeline(ctx), preparedOn(conn)
	for _, sql := range begin {
		pipeline.SendQueryParams(sql, nil, nil, nil, nil)
	}
	prepares, fresh := make([]string, len(level)), make([]bool, len(level)) // under which name, and which had it before
	for i, q := range level {
		s, there := known.names[q.SQL]
		switch {
		case !q.Prepared || !there && known.made >= known.most:
			pipeline.SendQueryParams(q.SQL, q.Params, nil, nil, nil)
			continue
		case !there:
			s.name = fmt.Sprintf("pingo_read_%d", known.made)
			known.made++
			prepares[i] = s.name
		case time.Since(s.at) > plannedFor:
			pipeline.SendDeallocate(s.name)
			delete(known.names, q.SQL)
			prepares[i], fresh[i] = s.name, true
		}
		if prepares[i] != "" {
			pipeline.SendPrepare(s.name, q.SQL, nil)
		}
		pipeline.SendQueryPrepared(s.name, q.Params, nil, nil)
	}
	if last {
		pipeline.SendQueryParams(rollback, nil, nil, nil, nil)
	}
	if err := pipeline.Sync(); err != nil {
		return errors.Join(err, pipeline.Close())
	}
	for i := range begin {
		if err := result(pipeline, nil); err != nil {
			err = errors.Join(err, pipeline.Close())
			if strings.HasPrefix(begin[i], lockTable) {
				err = &lockError{err}
			}
			return err
		}
	}
	for i, q := range level {
		if fresh[i] {
			if _, err := pipeline.GetResults(); err != nil {
				pipeline.Close()
				return err
			}
		}
		if prepares[i] != "" {
			if _, err := pipeline.GetResults(); err != nil {
				pipeline.Close()
				return err
			}
			known.names[q.SQL] = named{prepares[i], time.Now()}
		}
		if err := result(pipeline, q); err != nil {
			pipeline.Close()
			return err
		}
	}
	if last {
		if err := result(pipeline, nil); err != nil {
			return errors.Join(err, pipeline.Close())
		}
	}
	return pipeline.Close()
}

// result gives the rows of the next statement to those that take them; of is nil for a statement without rows.
func result(pipeline *pgconn.Pipeline, of *coalesce.Statement) error {
	return eachOf(pipeline, func(row [][]byte) error {
		if !of.Add(row) {
			return source.ErrTooLarge
		}
		return nil
	})
}

// eachOf calls each with every row of the next statement.
func eachOf(pipeline *pgconn.Pipeline, each func(row [][]byte) error) error {
	answer, err := pipeline.GetResults()
	if err != nil {
		return err
	}
	reader, ok := answer.(*pgconn.ResultReader)
	if !ok {
		return fmt.Errorf("unexpected answer %T from PostgreSQL", answer)
	}
	for reader.NextRow() {
		if err := each(reader.Values()); err != nil {
			return err
		}
	}
	_, err = reader.Close()
	return err
}

// WalkUp walks the steps up from linking values to document keys.
func (p *Reader) WalkUp(
	ctx context.Context,
	steps []shape.Step,
	tuples [][]string,
	each func(key []string) error,
) error {
	return source.Walk(steps, tuples, func(step shape.Step, tuples [][]string, each func(row []string) error) error {
		return p.walk(ctx, step, tuples, each)
	}, each)
}

func (p *Reader) walk(
	ctx context.Context,
	step shape.Step,
	tuples [][]string,
	each func(row []string) error,
) error {
	if len(tuples) == 0 {
		return nil
	}
	condition, params := among(step.Match, step.Types, transpose(tuples, len(step.Match)))
	err := p.stream(
		ctx,
		step.Yield,
		fmt.Sprintf("FROM %s WHERE %s", quote(step.Table), condition),
		params,
		each,
	)
	if err != nil {
		return fmt.Errorf("looking in %s for the documents that a change touches: %w", step.Table, err)
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
	condition, params := between(root.Key, nil, after, upto)
	return p.stream(
		ctx,
		keyColumns(root),
		fmt.Sprintf("FROM %s WHERE %s%s", quote(root.Table), condition, identified(root)),
		params,
		each,
	)
}

// stream reads rows of some columns without holding them; rows with a NULL are left out.
func (p *Reader) stream(
	ctx context.Context,
	columns []shape.Column,
	from string,
	params [][]byte,
	each func(row []string) error,
) error {
	selected, writers := make([]string, len(columns)), make([]document.Writer, len(columns))
	for i, c := range columns {
		selected[i], writers[i] = readColumn(c), writerOf(c)
	}
	sql := "SELECT " + strings.Join(selected, ", ") + " " + from
	conn, err := p.pool.Acquire(ctx)
	if err != nil {
		return explain(err)
	}
	defer conn.Release()
	pipeline := conn.Conn().PgConn().StartPipeline(ctx)
	begin := p.pool.begin("")
	for _, statement := range begin {
		pipeline.SendQueryParams(statement, nil, nil, nil, nil)
	}
	pipeline.SendQueryParams(sql, params, nil, nil, nil)
	pipeline.SendQueryParams(rollback, nil, nil, nil, nil)
	err = pipeline.Sync()
	for range begin {
		if err == nil {
			err = result(pipeline, nil)
		}
	}
	var row []string
	if err == nil {
		err = eachOf(pipeline, func(values [][]byte) error {
			row = row[:0]
			for i, v := range values {
				if v == nil {
					return nil
				}
				if writers[i] != nil {
					v = writers[i](nil, v)
				}
				row = append(row, string(v))
			}
			if err := each(row); err != nil {
				return &stopped{err}
			}
			return nil
		})
	}
	if err == nil {
		err = result(pipeline, nil)
	}
	var stop *stopped
	if errors.As(err, &stop) {
		conn.Conn().Close(context.WithoutCancel(ctx)) // rather than read the rest
		return stop.error
	}
	if err = errors.Join(err, pipeline.Close()); err != nil {
		conn.Conn().Close(context.WithoutCancel(ctx)) // the transaction may still be open
		return explain(err)
	}
	return nil
}

// stopped is the error of the caller for whom rows are read.
type stopped struct{ error }

// Count counts the rows that have documents.
func (p *Reader) Count(ctx context.Context, t *shape.Tree) (int64, error) {
	root := t.Root()
	sql := "SELECT count(*) FROM " + quote(root.Table) + " WHERE true" + identified(root)
	if root.Where != "" {
		sql += " AND (" + root.Where + "\n)"
	}
	n, err := p.number(ctx, sql)
	if err != nil {
		return 0, wrap("counting rows of "+root.Table.String(), err)
	}
	return n, nil
}

// ChunkEnd looks rows ahead in the key's own index.
func (p *Reader) ChunkEnd(ctx context.Context, t *shape.Tree, after []string, rows int) ([]string, error) {
	root := t.Root()
	condition, params := between(root.Key, nil, after, nil)
	from := fmt.Sprintf(
		"FROM %s WHERE %s%s ORDER BY %s OFFSET %d LIMIT 1",
		quote(root.Table),
		condition,
		identified(root),
		quoteNames(root.Key, quote(root.Table)+"."),
		rows-1,
	)
	var end []string
	err := p.stream(ctx, keyColumns(root), from, params, func(row []string) error {
		end = append(end, row...)
		return nil
	})
	if err != nil {
		return nil, fmt.Errorf("planning chunks of %s: %w", root.Table, err)
	}
	return end, nil
}

// DuplicateKeys counts the rows of a view that share their key with another one.
func (p *Reader) DuplicateKeys(ctx context.Context, t *shape.Tree) (int64, error) {
	root := t.Root()
	if !root.View && !root.Refreshed {
		return 0, nil
	}
	where := identified(root)
	if root.Where != "" {
		where += " AND (" + root.Where + "\n)"
	}
	n, err := p.number(ctx, fmt.Sprintf(
		"SELECT coalesce(sum(n), 0) FROM (SELECT count(*) AS n FROM %s WHERE true%s GROUP BY %s HAVING count(*) > 1) shared",
		quote(root.Table), where, quoteNames(root.Key, "")))
	if err != nil {
		return 0, wrap("looking for rows of "+root.Table.String()+" with the same key", err)
	}
	return n, nil
}

// number reads one number of rows.
func (p *Reader) number(ctx context.Context, sql string) (n int64, err error) {
	err = p.pool.reading(ctx, func(tx pgx.Tx) error { return tx.QueryRow(ctx, sql).Scan(&n) })
	return n, err
}

// asText is SQL that gives a value as text, without a cast that the owner of its type could have made.
func asText(sql string, builtIn bool) string {
	if builtIn {
		return sql + "::pg_catalog.text"
	}
	return strings.ReplaceAll(asOutput, "%s", sql)
}
