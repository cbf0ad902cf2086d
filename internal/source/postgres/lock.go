package postgres

import (
	"errors"
	"slices"
	"strings"
	"time"

	"pingo/internal/core/shape"
	"pingo/internal/pgerror"
	"pingo/internal/source/coalesce"
)

// lockOf is the statement that a read of a tree begins with: it waits for whoever changes the tables of its nodes,
// before the snapshot is taken. PostgreSQL shows a table as empty in a snapshot that is older than an ALTER TABLE that
// rewrote it, or a TRUNCATE, and a SELECT takes its snapshot before it waits ("Caveats" of the chapter on concurrency
// control). Partitions are not locked one by one: there may be thousands. It is empty where they cannot be locked.
func (p *Reader) lockOf(t *shape.Tree, level []coalesce.Query) string {
	first := t.Nodes[level[0].Node]
	if known, ok := p.locks.Load(first); ok {
		if l := known.(locks); l.sql != "" || time.Since(l.at) < unlockedFor {
			return l.sql
		}
	}
	var read []int
	for _, q := range level {
		read = append(read, q.Node)
	}
	for below := t.Below(read); len(below) > 0; below = t.Below(read) {
		for _, n := range below {
			read = append(read, n.ID)
		}
	}
	var tables []string
	add := func(r shape.Ref) {
		if name := "ONLY " + quote(r); !slices.Contains(tables, name) {
			tables = append(tables, name)
		}
	}
	for _, id := range read {
		n := t.Nodes[id]
		if n.Refreshed { // materialised views cannot be locked
			continue
		}
		if n.Link != nil && n.Link.Join != nil {
			add(n.Link.Join.Table)
		}
		add(n.Table)
	}
	sql := ""
	if len(tables) > 0 {
		sql = lockTable + strings.Join(tables, ", ") + " IN ACCESS SHARE MODE"
	}
	p.locks.Store(first, locks{sql, time.Now()})
	return sql
}

// lockTable begins the statement of lockOf.
const lockTable = "LOCK TABLE "

// locks is the statement that locks the tables of a tree, and since when.
type locks struct {
	sql string
	at  time.Time
}

// unlockedFor is how long tables that could not be locked are read without that.
const unlockedFor = time.Minute

// lockError is the failure to lock tables.
type lockError struct{ error }

func (e *lockError) Unwrap() error { return e.error }

// cannotLock reports whether a read failed since its tables cannot be locked, as foreign ones or with rights to some
// columns alone, and not because another transaction has them. Then they are read without that.
func (p *Reader) cannotLock(t *shape.Tree, level []coalesce.Query, err error) bool {
	var lock *lockError
	if !errors.As(err, &lock) {
		return false
	}
	switch pgerror.Code(err) {
	case "42809", "42501": // the kind of relation, rights
		p.locks.Store(t.Nodes[level[0].Node], locks{"", time.Now()})
		return true
	case "42P01": // a table is gone: the read says what that means
		return true
	}
	return false
}
