package journal

import (
	"errors"
	"maps"
	"slices"
	"strings"
	"time"

	"pingo/internal/core/change"
	"pingo/internal/core/shape"
)

// Layout says of which table rows of a journal are, and which columns their texts hold.
type Layout struct {
	Table      shape.Ref
	Key, Links []string
	// Groups are the watched columns, grouped by what reads them.
	Groups [][]string
}

// Restates reports whether a column that two layouts of a table share is another one now, so that its
// values are not what they were though no row was written. The forms say what each column is, and are
// empty for one that is not there. Words that an enumeration got at its end are in no row yet.
func Restates(before, now map[string]string) bool {
	for name, form := range now {
		was, known := before[name]
		if known && was != form && !extended(was, form) {
			return true
		}
	}
	return false
}

// extended reports whether an enumeration only got more words at its end.
func extended(was, form string) bool {
	return strings.Contains(was, "'") && strings.HasPrefix(form, strings.TrimSuffix(was, ")")+",")
}

// Relabelled names a column of a key that is an enumeration whose words are other ones now; empty when there is none. The
// keys of rows are other ones then, though no row was written.
func Relabelled(key []string, before, now map[string]string) string {
	for _, name := range key {
		was, form := before[name], now[name]
		if strings.Contains(was, "'") && strings.Contains(form, "'") && was != form && !extended(was, form) {
			return name
		}
	}
	return ""
}

// There keeps of some columns those that a table has. An edition that is about to be replaced may
// still know a column by a name that it no longer has; Pingo no longer reads it, and it must not be an obstacle.
func There(columns []string, forms map[string]string) []string {
	return slices.DeleteFunc(slices.Clone(columns), func(name string) bool { return forms[name] == "" })
}

// Altered names a column that is no longer what it was; empty when all are.
func Altered(before, now map[string]string) string {
	for _, name := range slices.Sorted(maps.Keys(before)) {
		if before[name] != now[name] {
			return name
		}
	}
	return ""
}

// Only keeps of what a table is captured for the columns that it has, and of its key all or nothing: a part of it is
// no key. Without groups, one group has all columns. It also reports whether it is known
// which documents a row of the table makes.
func Only(c shape.Captured, forms map[string]string) (out shape.Captured, told bool) {
	out = c
	out.Key, out.Watch, out.Links, out.Groups = There(c.Key, forms), There(c.Watch, forms), There(c.Links, forms), nil
	for _, group := range c.Groups {
		if group = There(group, forms); len(group) > 0 {
			out.Groups = append(out.Groups, group)
		}
	}
	if len(out.Groups) == 0 {
		out.Groups = [][]string{out.Watch}
	}
	if len(out.Key) < len(c.Key) {
		out.Key = nil
		return out, !c.Root
	}
	return out, true
}

// Row is a row of a journal as it stands there. Key, Before and After hold one column's value as
// it is, or those of several in a way of the database's own; nil where there are none. Was is the
// key before an update that changed it. A bit of Changed, from the lowest on, says whether an update
// changed a column of that group; all may have been changed where it is negative or nil.
type Row struct {
	Seq           int64
	At            time.Time
	Op            string
	Changed       *int32
	Key, Was      *string
	Before, After *string
}

// Change is what a row says. One that says nothing that can be understood is taken as if all rows
// had changed: all documents of the table are rebuilt. several takes the text of
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
	was, err4 := values(r.Was, len(of.Key))
	if errors.Join(err1, err2, err3, err4) != nil || len(key) != len(of.Key) ||
		r.Was != nil && len(was) != len(of.Key) || slices.Contains(append(was, key...), nil) ||
		r.Before != nil && len(before) != len(of.Links) ||
		r.After != nil && len(after) != len(of.Links) {
		return all
	}
	c.Before, c.After = before, after
	for _, k := range key {
		c.Key = append(c.Key, *k)
	}
	for _, k := range was {
		c.Was = append(c.Was, *k)
	}
	if r.Changed != nil && *r.Changed >= 0 {
		c.Changed = []string{}
		for i, group := range of.Groups {
			if *r.Changed>>i&1 == 1 {
				c.Changed = append(c.Changed, group...)
			}
		}
	}
	return c
}
