// Package tiny is a third kind of source and of engine, in memory: the smallest that pass
// the conformance suites. They show that a kind is one folder and one line.
package tiny

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"math"
	"reflect"
	"slices"
	"strings"
	"sync"
	"time"

	"pingo/internal/core/change"
	"pingo/internal/core/document"
	"pingo/internal/core/shape"
	"pingo/internal/source"
)

// Database is rows in memory, with a journal in which each commit notes its changes.
type Database struct {
	mu      sync.Mutex // guards what follows
	tables  map[string]*table
	journal []change.Change
	seq     int64
	claim   change.Claim
	need    []shape.Captured
}

type table struct {
	key     []string
	columns []shape.TableColumn
	rows    map[string]map[string]*string
}

// NewDatabase has no tables.
func NewDatabase() *Database {
	return &Database{tables: map[string]*table{}, claim: change.Claim{History: "first"}}
}

// Create makes a table; columns are "name type".
func (d *Database) Create(name string, key []string, columns ...string) {
	t := &table{key: key, rows: map[string]map[string]*string{}}
	for _, c := range columns {
		column, kind, _ := strings.Cut(c, " ")
		t.columns = append(t.columns, shape.TableColumn{
			Name: column, Native: kind, Type: shape.Type(kind), Family: kind,
			Across: &shape.Across{As: kind, Type: shape.Type(kind), Least: math.MinInt64, Most: math.MaxUint64},
		})
	}
	d.tables[name] = t
}

// SourceKind is the kind of sources of a database.
func (d *Database) SourceKind() source.Kind {
	return source.Kind{Name: "tiny", Schemes: []string{"tiny"}, Captures: []string{"commits"}, Keys: `{}`,
		Open: func(source.Config) (*source.Source, error) { return d.Open(), nil }}
}

// Open opens the database as a source.
func (d *Database) Open() *source.Source {
	return &source.Source{
		Reader:  &reader{d},
		Feed:    &feed{db: d, inFlight: map[int64]time.Time{}},
		Capture: &capture{d},
	}
}

// Copy is the database as it is now.
func (d *Database) Copy() *Database {
	d.mu.Lock()
	defer d.mu.Unlock()
	out := &Database{
		tables:  map[string]*table{},
		journal: slices.Clip(d.journal), // of which no part is changed in place
		seq:     d.seq,
		claim:   d.claim,
		need:    d.need,
	}
	for name, t := range d.tables {
		copied := *t
		copied.rows = maps.Clone(t.rows) // a row is never changed in place
		out.tables[name] = &copied
	}
	return out
}

// Restore puts an older copy in the place of the database. on says that it goes on by itself
// from there, on another line of history, as a replica does.
func (d *Database) Restore(older *Database, on bool) {
	older = older.Copy()
	d.mu.Lock()
	defer d.mu.Unlock()
	if on {
		older.claim.History = fmt.Sprintf("%s then %d", d.claim.History, d.seq)
	}
	d.tables, d.journal, d.seq, d.claim, d.need = older.tables, older.journal, older.seq, older.claim, older.need
}

// Journal is what was noted and is not done, and who claimed it.
func (d *Database) Journal() (change.Claim, []change.Change) { return d.claim, d.journal }

// Rows are the rows of a table.
func (d *Database) Rows(name string) []map[string]*string { return (&reader{d}).rows(name) }

// Each calls each with every row of a table, in any order. It must not use the database.
func (d *Database) Each(name string, each func(row map[string]*string)) {
	d.mu.Lock()
	defer d.mu.Unlock()
	for _, row := range d.tables[name].rows {
		each(row)
	}
}

func (t *table) keyOf(row map[string]*string) []string { return values(row, t.key) }

// values are those of some columns; nil when one is NULL.
func values(row map[string]*string, columns []string) []string {
	out := make([]string, len(columns))
	for i, c := range columns {
		if row[c] == nil {
			return nil
		}
		out[i] = *row[c]
	}
	return out
}

// compare orders keys as their columns' types are ordered.
func (t *table) compare(a, b []string) int {
	for i := range a {
		x, y := a[i], b[i]
		if t.columns[slices.IndexFunc(t.columns, func(c shape.TableColumn) bool { return c.Name == t.key[i] })].Type == shape.Integer &&
			len(x) != len(y) {
			return len(x) - len(y)
		}
		if c := strings.Compare(x, y); c != 0 {
			return c
		}
	}
	return 0
}

type reader struct{ db *Database }

func (r *reader) Describe(context.Context) (string, error) { return "a tiny database", nil }
func (r *reader) Label(table shape.Ref) string             { return table.Name }
func (r *reader) Close()                                   {}

func (r *reader) Facts(_ context.Context, names []string, _ []shape.Expression) (shape.Facts, error) {
	r.db.mu.Lock()
	defer r.db.mu.Unlock()
	f := shape.Facts{Tables: map[string]*shape.Table{}, Known: slices.Sorted(maps.Keys(r.db.tables))}
	for _, name := range names {
		if t := r.db.tables[name]; t != nil {
			f.Tables[name] = &shape.Table{Ref: shape.Ref{Name: name}, Columns: t.columns, Key: t.key}
		}
	}
	return f, nil
}

// rows lists the rows of a table in the order of their keys. The caller holds mu.
func (r *reader) rows(name string) []map[string]*string {
	t := r.db.tables[name]
	return slices.SortedFunc(
		maps.Values(t.rows),
		func(a, b map[string]*string) int { return t.compare(t.keyOf(a), t.keyOf(b)) },
	)
}

func (r *reader) between(tree *shape.Tree, after, upto []string) [][]string {
	r.db.mu.Lock()
	defer r.db.mu.Unlock()
	t := r.db.tables[tree.Root().Table.Name]
	var out [][]string
	for _, row := range r.rows(tree.Root().Table.Name) {
		if k := t.keyOf(row); (after == nil || t.compare(k, after) > 0) &&
			(upto == nil || t.compare(k, upto) <= 0) {
			out = append(out, k)
		}
	}
	return out
}

func (r *reader) Count(ctx context.Context, t *shape.Tree) (int64, error) {
	return int64(len(r.between(t, nil, nil))), ctx.Err()
}

func (r *reader) DuplicateKeys(context.Context, *shape.Tree) (int64, error) { return 0, nil }

func (r *reader) ChunkEnd(_ context.Context, t *shape.Tree, after []string, rows int) ([]string, error) {
	if left := r.between(t, after, nil); len(left) >= rows {
		return left[rows-1], nil
	}
	return nil, nil
}

func (r *reader) Keys(_ context.Context, t *shape.Tree, after, upto []string, each func([]string) error) error {
	for _, k := range r.between(t, after, upto) {
		if err := each(k); err != nil {
			return err
		}
	}
	return nil
}

func (r *reader) ReadRange(ctx context.Context, set *document.Set, after, upto []string) error {
	return r.ReadKeys(ctx, set, r.between(set.Tree(), after, upto))
}

func (r *reader) ReadKeys(_ context.Context, set *document.Set, keys [][]string) error {
	r.db.mu.Lock()
	defer r.db.mu.Unlock()
	root := set.Tree().Root()
	r.add(set, root, root.Key, keys)
	r.below(set, root)
	for i := range set.Tree().Nodes {
		if set.Rows(i).TooMany() {
			return source.ErrTooLarge
		}
	}
	return nil
}

func (r *reader) ReadBelow(_ context.Context, set *document.Set, node int) error {
	r.db.mu.Lock()
	defer r.db.mu.Unlock()
	r.linked(set, set.Tree().Nodes[node])
	return nil
}

// linked adds the rows of a node that belong to those of its parent, and all below.
func (r *reader) linked(set *document.Set, n *shape.Node) {
	lists := set.Links(n.ID)
	tuples := make([][]string, len(lists[0]))
	for i := range tuples {
		for _, list := range lists {
			tuples[i] = append(tuples[i], strings.Clone(list[i]))
		}
	}
	r.add(set, n, n.Link.Theirs, tuples)
	set.Link(n.ID)
	r.below(set, n)
}

// below adds what is below a node in the same source.
func (r *reader) below(set *document.Set, n *shape.Node) {
	for _, id := range n.Children {
		if child := set.Tree().Nodes[id]; child.Link.Apart == nil {
			r.linked(set, child)
		}
	}
}

// add adds the rows of a node whose columns hold one of some tuples.
func (r *reader) add(set *document.Set, n *shape.Node, columns []string, tuples [][]string) {
	for _, row := range r.rows(n.Table.Name) {
		if v := values(row, columns); v == nil ||
			!slices.ContainsFunc(tuples, func(t []string) bool { return slices.Equal(t, v) }) {
			continue
		}
		cells := make([][]byte, len(n.Columns))
		for i, c := range n.Columns {
			if v := row[c.Name]; v != nil {
				cells[i] = []byte(*v)
			}
		}
		set.Rows(n.ID).Add(cells, nil)
	}
}

func (r *reader) WalkUp(
	_ context.Context,
	steps []shape.Step,
	tuples [][]string,
	each func([]string) error,
) error {
	r.db.mu.Lock()
	defer r.db.mu.Unlock()
	for _, step := range steps {
		var next [][]string
		for _, row := range r.rows(step.Table.Name) {
			if v := values(row, step.Match); v != nil &&
				slices.ContainsFunc(tuples, func(t []string) bool { return slices.Equal(t, v) }) {
				yield := make([]string, len(step.Yield))
				for i, c := range step.Yield {
					yield[i] = c.Name
				}
				next = append(next, values(row, yield))
			}
		}
		tuples = next
	}
	for _, t := range tuples {
		if err := each(t); err != nil {
			return err
		}
	}
	return nil
}

type feed struct {
	db *Database

	mu       sync.Mutex // guards inFlight; taken before the database's
	inFlight map[int64]time.Time
	claim    change.Claim
}

func errSuperseded(c change.Claim) error {
	return &source.Error{Fault: source.Superseded, Err: fmt.Errorf("the changes are those of %+v", c)}
}

func (f *feed) Claimed(context.Context) (change.Claim, error) {
	f.db.mu.Lock()
	defer f.db.mu.Unlock()
	return f.db.claim, nil
}

func (f *feed) Claim(_ context.Context, found, c change.Claim) error {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.db.mu.Lock()
	defer f.db.mu.Unlock()
	if f.db.claim != found || found.Service != c.Service {
		return errSuperseded(f.db.claim)
	}
	c.History = found.History
	f.db.claim, f.claim = c, c
	return nil
}

func (f *feed) Beat(_ context.Context, found change.Claim) (change.Claim, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	now, err := f.db.Beat(found)
	if err == nil {
		f.claim = now
	}
	return now, err
}

// Claimed fails when a claim is no longer in a database with another one.
func Claimed(now, claim change.Claim) error {
	switch {
	case now.Service == "":
		return &source.Error{Fault: source.NoCapture, Err: errors.New("capture was removed")}
	case claim.Epoch == 0 || now.Holder != claim.Holder || now.Epoch != claim.Epoch || now.Behind(claim):
		return errSuperseded(now)
	}
	return nil
}

// Beat moves the mark of a claim on, if it stands.
func (d *Database) Beat(claim change.Claim) (change.Claim, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.claim != claim || claim.Epoch == 0 {
		return d.claim, errSuperseded(d.claim)
	}
	d.claim.Mark++
	return d.claim, nil
}

// Remove takes changes out of the journal, under a claim.
func (d *Database) Remove(claim change.Claim, seqs []int64) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	if err := Claimed(d.claim, claim); err != nil {
		return err
	}
	d.journal = slices.DeleteFunc(
		slices.Clone(d.journal),
		func(c change.Change) bool { return slices.Contains(seqs, c.Seq) },
	)
	return nil
}

func (f *feed) Changes(_ context.Context, limit int) (out []change.Change, err error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.db.mu.Lock()
	defer f.db.mu.Unlock()
	if err := Claimed(f.db.claim, f.claim); err != nil {
		return nil, err
	}
	for _, c := range f.db.journal {
		if _, given := f.inFlight[c.Seq]; !given && len(out) < limit {
			f.inFlight[c.Seq] = c.At
			out = append(out, c)
		}
	}
	return out, nil
}

func (f *feed) Done(_ context.Context, seqs []int64) error {
	f.mu.Lock()
	defer f.mu.Unlock()
	if err := f.db.Remove(f.claim, seqs); err != nil {
		return err
	}
	for _, seq := range seqs {
		delete(f.inFlight, seq)
	}
	return nil
}

func (f *feed) Rewind() {
	f.mu.Lock()
	defer f.mu.Unlock()
	clear(f.inFlight)
}

func (f *feed) InFlight() (n int, oldest time.Time) {
	f.mu.Lock()
	defer f.mu.Unlock()
	for _, at := range f.inFlight {
		if oldest.IsZero() || at.Before(oldest) {
			oldest = at
		}
	}
	return len(f.inFlight), oldest
}

func (f *feed) ChangesOf(_ context.Context, table shape.Ref, key []string) (out []change.Change, err error) {
	f.db.mu.Lock()
	defer f.db.mu.Unlock()
	for _, c := range f.db.journal {
		if c.Table == table && (slices.Equal(c.Key, key) || slices.Equal(c.Was, key)) {
			out = append(out, c)
		}
	}
	return out, nil
}

func (f *feed) Depth(context.Context) (source.Depth, error) {
	f.db.mu.Lock()
	defer f.db.mu.Unlock()
	d := source.Depth{Changes: int64(len(f.db.journal))}
	if d.Changes > 0 {
		d.Oldest = &f.db.journal[0].At
		d.First = f.db.journal[0].Seq
		for _, c := range f.db.journal {
			d.First = min(d.First, c.Seq)
		}
	}
	d.Last = f.db.seq
	return d, nil
}

type capture struct{ db *Database }

func (c *capture) Script(context.Context, []shape.Captured) (string, error) {
	return "note commits", nil
}

func (c *capture) Install(
	_ context.Context,
	owner string,
	need []shape.Captured,
) (made []shape.Ref, err error) {
	c.db.mu.Lock()
	defer c.db.mu.Unlock()
	if c.db.claim.Service != "" && c.db.claim.Service != owner {
		return nil, fmt.Errorf("another Pingo service (%s) reads this journal already", c.db.claim.Service)
	}
	for _, n := range need {
		if !slices.ContainsFunc(c.db.need, func(x shape.Captured) bool { return x.Table == n.Table }) {
			made = append(made, n.Table)
		}
	}
	c.db.claim.Service, c.db.need = owner, need
	return made, nil
}

func (c *capture) RemovalScript(context.Context) (string, error) { return "", nil }

func (c *capture) Remove(context.Context) error {
	c.db.mu.Lock()
	defer c.db.mu.Unlock()
	c.db.claim, c.db.need, c.db.journal = change.Claim{History: c.db.claim.History}, nil, nil
	return nil
}

func (c *capture) Status(context.Context) (s source.CaptureStatus, err error) {
	c.db.mu.Lock()
	defer c.db.mu.Unlock()
	s.Installed = c.db.claim.Service != ""
	for _, n := range c.db.need {
		s.Tables = append(s.Tables, n.Table.String())
	}
	return s, nil
}

func (c *capture) Gaps(ctx context.Context, need []shape.Captured) (out []source.Gap, err error) {
	if s, err := c.Status(ctx); err != nil || s.Installed {
		return nil, err
	}
	for _, n := range need {
		out = append(out, source.Gap{Table: n.Table, Deliberate: true, Reason: "capture was removed"})
	}
	return out, nil
}

func (c *capture) MissingRights(context.Context, []shape.Captured) ([]string, error) { return nil, nil }
func (c *capture) Advice(context.Context, []shape.Captured, []shape.Lookup) ([]source.Advice, error) {
	return nil, nil
}

// Tx is a transaction: what it does is there, and noted, once it commits.
type Tx struct {
	db  *Database
	ops []func()
}

// Begin starts a transaction.
func (d *Database) Begin() *Tx { return &Tx{db: d} }

// Commit does what the transaction was asked to do.
func (tx *Tx) Commit() {
	tx.db.mu.Lock()
	defer tx.db.mu.Unlock()
	for _, op := range tx.ops {
		op()
	}
}

// Put writes a row; from is its key before, nil for a new one. A nil row deletes.
func (tx *Tx) Put(name string, from []string, change func(row map[string]*string) map[string]*string) {
	tx.ops = append(tx.ops, func() {
		t := tx.db.tables[name]
		before := t.rows[strings.Join(from, "\x00")]
		after := change(maps.Clone(before))
		if before != nil {
			delete(t.rows, strings.Join(from, "\x00"))
		}
		if after != nil {
			t.rows[strings.Join(t.keyOf(after), "\x00")] = after
		}
		tx.db.note(name, before, after)
	})
}

// Truncate deletes all rows of a table.
func (d *Database) Truncate(name string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	clear(d.tables[name].rows)
	d.append(change.Change{Table: shape.Ref{Name: name}, Op: change.Truncate})
}

// note writes a change of a row into the journal.
func (d *Database) note(name string, before, after map[string]*string) {
	at := slices.IndexFunc(d.need, func(c shape.Captured) bool { return c.Table.Name == name })
	if at < 0 {
		return
	}
	need, t := d.need[at], d.tables[name]
	links := func(row map[string]*string) (out []*string) {
		if row != nil {
			for _, l := range need.Links {
				out = append(out, row[l])
			}
		}
		return out
	}
	c := change.Change{
		Table:  need.Table,
		Links:  need.Links,
		Before: links(before),
		After:  links(after),
		Op:     change.Update,
	}
	switch {
	case before == nil:
		c.Op = change.Insert
	case after == nil:
		c.Op, c.Key = change.Delete, t.keyOf(before)
	default:
		if was := t.keyOf(before); !slices.Equal(was, t.keyOf(after)) {
			c.Was = was
		}
		c.Changed = []string{}
		for _, group := range need.Groups {
			if slices.ContainsFunc(group, func(name string) bool { return !reflect.DeepEqual(before[name], after[name]) }) {
				c.Changed = append(c.Changed, group...)
			}
		}
	}
	if after != nil {
		c.Key = t.keyOf(after)
	}
	d.append(c)
}

func (d *Database) append(c change.Change) {
	if d.claim.Service != "" {
		d.seq++
		c.Seq, c.At = d.seq, time.Now()
		d.journal = append(d.journal, c)
	}
}
