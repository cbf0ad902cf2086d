package journal

import (
	"errors"
	"slices"
	"time"

	"pingo/internal/core/change"
	"pingo/internal/core/shape"
)

// Layout says of which table rows of a journal are, and which columns their texts hold.
type Layout struct {
	Table      shape.Ref
	Key, Links []string
}

// Row is a row of a journal as it stands there. Key, Before and After hold one column's value as
// it is, or those of several in a way of the database's own; nil where there are none.
type Row struct {
	Seq                int64
	At                 time.Time
	Op                 string
	Key, Before, After *string
}

// Change is what a row says. One that says nothing that can be understood is taken as if all rows
// had gone: whatever changed, all documents of the table are built anew. several takes the text of
// several columns apart.
func (r *Row) Change(of Layout, several func(text string) ([]*string, error)) change.Change {
	c := change.Change{Seq: r.Seq, At: r.At, Table: of.Table, Links: of.Links}
	all := c
	all.Op = change.Truncate
	switch r.Op {
	case "i", "u", "d":
		c.Op = change.Op(r.Op[0])
	default:
		return all
	}
	values := func(text *string, columns int) ([]*string, error) {
		if text == nil || columns == 0 {
			return nil, nil
		}
		if columns == 1 {
			return []*string{text}, nil
		}
		return several(*text)
	}
	key, err1 := values(r.Key, len(of.Key))
	before, err2 := values(r.Before, len(of.Links))
	after, err3 := values(r.After, len(of.Links))
	if errors.Join(err1, err2, err3) != nil || len(key) != len(of.Key) || slices.Contains(key, nil) ||
		r.Before != nil && len(before) != len(of.Links) ||
		r.After != nil && len(after) != len(of.Links) {
		return all
	}
	c.Before, c.After = before, after
	for _, k := range key {
		c.Key = append(c.Key, *k)
	}
	return c
}
