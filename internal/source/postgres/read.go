package postgres

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"github.com/jackc/pgx/v5/pgconn"

	"pingo/internal/core/document"
	"pingo/internal/core/shape"
)

// nodeSQL is how one node is read: everything but the condition that picks rows.
type nodeSQL struct {
	head, tail string
	// pick is the left side of the condition: the key's columns or the link.
	pick string
}

func (p *Postgres) sqlOf(n *shape.Node) *nodeSQL {
	if known, ok := p.plans.Load(n); ok {
		return known.(*nodeSQL)
	}
	s := compileNode(n)
	p.plans.Store(n, s)
	return s
}

func compileNode(n *shape.Node) *nodeSQL {
	columns := make([]string, len(n.Columns))
	for i, c := range n.Columns {
		columns[i] = "(" + c.SQL + ")"
		if c.SQL == "" {
			columns[i] = quoteName(c.Name)
		}
	}
	where := ""
	if n.Where != "" {
		where = " AND (" + n.Where + ")"
	}
	if n.Link == nil {
		return &nodeSQL{
			head: "SELECT " + strings.Join(columns, ", ") + " FROM " + quote(n.Table) + " WHERE ",
			pick: rowOf(n.Key),
			tail: where,
		}
	}
	order := tieBreak(n, columns)
	if n.Order != "" {
		order = n.Order + ", " + order
	}
	if j := n.Link.Join; j != nil {
		// The join table shows its columns under names of ours, so that they cannot
		// be mistaken for the related table's.
		columns[0] = "pingo_link"
		return &nodeSQL{
			head: fmt.Sprintf("SELECT %s FROM (SELECT %s AS pingo_link, %s AS pingo_to FROM %s WHERE ", strings.Join(columns, ", "), quoteName(n.Link.Theirs), quoteName(j.From), quote(j.Table)),
			pick: quoteName(n.Link.Theirs),
			tail: fmt.Sprintf(") pingo_join JOIN %s ON %[1]s.%s = pingo_to WHERE true%s ORDER BY pingo_link, %s", quote(n.Table), quoteName(j.To), where, order),
		}
	}
	tail := where
	if n.Many {
		// By the link first: an index on it brings the rows almost in this order.
		tail += " ORDER BY " + quoteName(n.Link.Theirs) + ", " + order
	}
	return &nodeSQL{
		head: "SELECT " + strings.Join(columns, ", ") + " FROM " + quote(n.Table) + " WHERE ",
		pick: quoteName(n.Link.Theirs),
		tail: tail,
	}
}

// tieBreak settles the order of rows that the definition does not: by key, or by
// everything that is read.
func tieBreak(n *shape.Node, columns []string) string {
	if len(n.Key) > 0 {
		return quoteNames(n.Key, "")
	}
	ordered := make([]string, len(columns))
	for i, c := range columns {
		ordered[i] = c + "::text"
	}
	return strings.Join(ordered, ", ")
}

func rowOf(columns []string) string {
	if len(columns) == 1 {
		return quoteName(columns[0])
	}
	return "(" + quoteNames(columns, "") + ")"
}

// query is one read, with parameters as text.
type query struct {
	node   int
	sql    string
	params [][]byte
}

// ReadKeys reads the rows of documents by key.
func (p *Postgres) ReadKeys(ctx context.Context, set *document.Set, keys [][]string) error {
	root := set.Shape().Root()
	s := p.sqlOf(root)
	q := query{node: 0}
	if len(root.Key) == 1 {
		values := make([]string, len(keys))
		for i, k := range keys {
			values[i] = k[0]
		}
		q.sql, q.params = s.head+s.pick+" = ANY($1)"+s.tail, [][]byte{textArray(values)}
	} else {
		var any []string
		for _, k := range keys {
			marks := make([]string, len(k))
			for i, v := range k {
				q.params = append(q.params, []byte(v))
				marks[i] = fmt.Sprintf("$%d", len(q.params))
			}
			any = append(any, s.pick+" = ("+strings.Join(marks, ", ")+")")
		}
		q.sql = s.head + "(" + strings.Join(any, " OR ") + ")" + s.tail
	}
	return p.read(ctx, set, q, nil)
}

// ReadRange reads the rows of documents in a range of keys.
func (p *Postgres) ReadRange(ctx context.Context, set *document.Set, after, upto []string) error {
	s := p.sqlOf(set.Shape().Root())
	condition, params := between(s.pick, after, upto)
	return p.read(ctx, set, query{0, s.head + condition + s.tail, params}, func(link *shape.Link, pick string) (string, [][]byte) {
		if root := set.Shape().Root(); len(root.Key) == 1 && root.Key[0] == link.Ours {
			c, params := between(pick, after, upto)
			return strings.NewReplacer("$1", "$1::"+link.OursType, "$2", "$2::"+link.OursType).Replace(c), params
		}
		return "", nil
	})
}

func between(pick string, after, upto []string) (string, [][]byte) {
	var params [][]byte
	row := func(values []string) string {
		marks := make([]string, len(values))
		for i, v := range values {
			params = append(params, []byte(v))
			marks[i] = fmt.Sprintf("$%d", len(params))
		}
		if len(marks) == 1 {
			return marks[0]
		}
		return "(" + strings.Join(marks, ", ") + ")"
	}
	conditions := []string{"true"}
	if after != nil {
		conditions = append(conditions, pick+" > "+row(after))
	}
	if upto != nil {
		conditions = append(conditions, pick+" <= "+row(upto))
	}
	return strings.Join(conditions, " AND "), params
}

// read reads node by node in one read-only snapshot: first the root, then, level by
// level, every node whose parent is there, sent together. ranged gives a condition
// by range for nodes that can be read like that; others are read by their links.
func (p *Postgres) read(ctx context.Context, set *document.Set, root query, ranged func(*shape.Link, string) (string, [][]byte)) error {
	conn, err := p.pool.Acquire(ctx)
	if err != nil {
		return Explain(err)
	}
	defer conn.Release()
	raw := conn.Conn().PgConn()
	nodes := set.Shape().Nodes
	level := []query{root}
	begin := true
	for len(level) > 0 {
		if err := readLevel(ctx, raw, set, level, begin); err != nil {
			conn.Conn().Close(context.WithoutCancel(ctx)) // its state is unknown
			return fmt.Errorf("reading rows for index %s: %w", set.Shape().Index, Explain(err))
		}
		begin = false
		var next []query
		for _, q := range level {
			if q.node > 0 {
				set.Link(q.node)
			}
			for _, id := range nodes[q.node].Children {
				n := nodes[id]
				s := p.sqlOf(n)
				var condition string
				var params [][]byte
				if q.node == 0 && ranged != nil {
					condition, params = ranged(n.Link, s.pick)
				}
				if condition == "" {
					values := set.Distinct(q.node, n.Link.OursAt)
					if len(values) == 0 {
						continue
					}
					condition, params = s.pick+" = ANY($1::"+n.Link.OursType+"[])", [][]byte{textArray(values)}
				}
				next = append(next, query{id, s.head + condition + s.tail, params})
			}
		}
		level = next
	}
	if _, err := raw.Exec(ctx, "COMMIT").ReadAll(); err != nil {
		return wrap("ending a read", err)
	}
	return nil
}

// readLevel sends all queries of a level at once, after opening the snapshot when
// it is the first, and copies the values as they come.
func readLevel(ctx context.Context, raw *pgconn.PgConn, set *document.Set, level []query, begin bool) error {
	pipeline := raw.StartPipeline(ctx)
	if begin {
		pipeline.SendQueryParams("BEGIN ISOLATION LEVEL REPEATABLE READ READ ONLY", nil, nil, nil, nil)
	}
	for _, q := range level {
		pipeline.SendQueryParams(q.sql, q.params, nil, nil, nil)
	}
	if err := pipeline.Sync(); err != nil {
		return errors.Join(err, pipeline.Close())
	}
	if begin {
		if _, err := result(pipeline, nil); err != nil {
			return errors.Join(err, pipeline.Close())
		}
	}
	for _, q := range level {
		if _, err := result(pipeline, set.Rows(q.node)); err != nil {
			pipeline.Close()
			return err
		}
	}
	return pipeline.Close()
}

func result(pipeline *pgconn.Pipeline, into *document.Rows) (pgconn.CommandTag, error) {
	answer, err := pipeline.GetResults()
	if err != nil {
		return pgconn.CommandTag{}, err
	}
	reader, ok := answer.(*pgconn.ResultReader)
	if !ok {
		return pgconn.CommandTag{}, fmt.Errorf("unexpected answer %T from PostgreSQL", answer)
	}
	for reader.NextRow() {
		into.Add(reader.Values())
	}
	return reader.Close()
}

// Touched walks the steps up from linking values to document keys. Values in
// between are held in memory; keys are passed on as they come.
func (p *Postgres) Touched(ctx context.Context, steps []shape.Step, values []string, each func(key string) error) error {
	for _, step := range steps[:len(steps)-1] {
		var next []string
		err := p.walk(ctx, step, values, func(row []string) error {
			next = append(next, row[0])
			return nil
		})
		if err != nil {
			return err
		}
		values = next
	}
	return p.walk(ctx, steps[len(steps)-1], values, func(row []string) error { return each(document.Key(row...)) })
}

func (p *Postgres) walk(ctx context.Context, step shape.Step, values []string, each func(row []string) error) error {
	if len(values) == 0 {
		return nil
	}
	sql := fmt.Sprintf("SELECT %s FROM %s WHERE %s = ANY($1)", quoteNames(step.Yield, ""), quote(step.Table), quoteName(step.Match))
	err := p.stream(ctx, sql, [][]byte{textArray(values)}, each)
	if err != nil {
		return fmt.Errorf("looking in %s for the documents that a change touches: %w", step.Table, err)
	}
	return nil
}

// Keys passes on the keys of the root table's rows in a range.
func (p *Postgres) Keys(ctx context.Context, s *shape.Shape, after, upto []string, each func(key string) error) error {
	root := s.Root()
	condition, params := between(rowOf(root.Key), after, upto)
	sql := fmt.Sprintf("SELECT %s FROM %s WHERE %s", quoteNames(root.Key, ""), quote(root.Table), condition)
	return p.stream(ctx, sql, params, func(row []string) error { return each(document.Key(row...)) })
}

// stream reads rows as text without holding them; rows with a NULL are left out.
func (p *Postgres) stream(ctx context.Context, sql string, params [][]byte, each func(row []string) error) error {
	conn, err := p.pool.Acquire(ctx)
	if err != nil {
		return Explain(err)
	}
	defer conn.Release()
	reader := conn.Conn().PgConn().ExecParams(ctx, sql, params, nil, nil, nil)
	var row []string
	var stopped error
rows:
	for stopped == nil && reader.NextRow() {
		row = row[:0]
		for _, v := range reader.Values() {
			if v == nil {
				continue rows
			}
			row = append(row, string(v))
		}
		stopped = each(row)
	}
	if stopped != nil {
		conn.Conn().Close(context.WithoutCancel(ctx)) // rather than read the rest
		return stopped
	}
	if _, err := reader.Close(); err != nil {
		return Explain(err)
	}
	return nil
}

// Count counts the rows that have documents.
func (p *Postgres) Count(ctx context.Context, s *shape.Shape) (int64, error) {
	root := s.Root()
	sql := "SELECT count(*) FROM " + quote(root.Table)
	if root.Where != "" {
		sql += " WHERE " + root.Where
	}
	var n int64
	if err := p.pool.QueryRow(ctx, sql).Scan(&n); err != nil {
		return 0, wrap("counting rows of "+root.Table.String(), err)
	}
	return n, nil
}

// ChunkEnd looks rows ahead in the key's own index.
func (p *Postgres) ChunkEnd(ctx context.Context, s *shape.Shape, after []string, rows int) ([]string, error) {
	root := s.Root()
	condition, params := between(rowOf(root.Key), after, nil)
	sql := fmt.Sprintf("SELECT %s FROM %s WHERE %s ORDER BY %s OFFSET %d LIMIT 1", quoteNames(root.Key, ""), quote(root.Table), condition, quoteNames(root.Key, ""), rows-1)
	var end []string
	err := p.stream(ctx, sql, params, func(row []string) error {
		end = append(end, row...)
		return nil
	})
	if err != nil {
		return nil, fmt.Errorf("planning chunks of %s: %w", root.Table, err)
	}
	return end, nil
}
