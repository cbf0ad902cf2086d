// Package poll is the way of noticing changes in a database where nothing may be installed, and
// whose application writes no outbox: Pingo reads tables repeatedly for rows in which a
// column has grown. Pingo finds deleted rows by comparing all rows at intervals.
package poll

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"pingo/internal/core/change"
	"pingo/internal/core/document"
	"pingo/internal/core/shape"
	"pingo/internal/source"
	"pingo/internal/source/dialect"
	"pingo/internal/source/intake"
)

// Keys is a JSON Schema object of what a definition may say of it.
const Keys = `"poll": {"type": "object", "description": "The tables to poll, with capture: poll.", "required": ["tables"], "properties": {
	"tables": {"type": "object", "additionalProperties": {"type": "string"}, "description": "For each table, a column that grows when the row changes: a time or an integer."},
	"every": {"type": "string", "pattern": "^[0-9]+(ms|s|m|h)$", "description": "Interval between polls, such as 10s. Default: 5s."},
	"overlap": {"type": "string", "pattern": "^[0-9]+(ms|s|m|h)$", "description": "Maximum duration of a transaction: rows whose time is up to this long ago may still appear. Default: 1m."},
	"compare": {"type": "string", "pattern": "^[0-9]+(s|m|h)$", "description": "Interval between full reads, which find deleted rows. Default: 1h."}
}}`

type options struct {
	Tables  map[string]string
	Every   string
	Overlap string
	Compare string

	every, overlap, compare time.Duration
}

func read(text json.RawMessage) (*options, error) {
	var all struct{ Poll *options }
	if len(text) > 0 {
		if err := json.Unmarshal(text, &all); err != nil {
			return nil, fmt.Errorf("the options of the source cannot be read: %w", err)
		}
	}
	o := all.Poll
	if o == nil || len(o.Tables) == 0 {
		return nil, errors.New(
			"capture: poll needs the tables: write poll: { tables: { TABLE: COLUMN } } at the source",
		)
	}
	for _, d := range []struct {
		written  string
		into     *time.Duration
		standard time.Duration
	}{{o.Every, &o.every, 5 * time.Second}, {o.Overlap, &o.overlap, time.Minute}, {o.Compare, &o.compare, time.Hour}} {
		*d.into = d.standard
		if d.written != "" {
			var err error
			if *d.into, err = time.ParseDuration(d.written); err != nil {
				return nil, fmt.Errorf("%q is no time: write one such as 10s", d.written)
			}
		}
	}
	return o, nil
}

// With is a kind of source that may be looked at, too.
func With(kind source.Kind, d dialect.Database) source.Kind {
	inner := kind.Open
	kind.Captures = append(slices.Clone(kind.Captures), "poll")
	kind.Keys = dialect.Merge(kind.Keys, Keys)
	kind.CannotSee = maps.Clone(kind.CannotSee)
	kind.CannotSee["poll"] = []string{
		"A row that was deleted, or left the index by a table that is not looked at, is found only when all rows are compared.",
		"A row whose column does not grow when it changes is not noticed.",
		"Pingo notices a change at the next poll. It misses a change whose transaction lasts longer than the overlap.",
		"A row that moves below a document is followed to where it is now; the document that it left is found when all rows are compared.",
		"Pingo stores nothing in the database, so it does not notice that the database was restored from a backup.",
	}
	kind.Open = func(c source.Config) (*source.Source, error) {
		if c.Capture != "poll" {
			return inner(c)
		}
		o, err := read(c.Options)
		if err != nil {
			return nil, err
		}
		src, _, err := d.Open(c)
		if err != nil {
			return nil, err
		}
		store, err := intake.Open(c.Records, c.Name, nil, c.ConnectTimeout)
		if err != nil {
			src.Close()
			return nil, err
		}
		f := &feed{Claims: store.Claims(), options: o, database: d, reader: src.Reader, url: c.URL}
		return &source.Source{Reader: &reader{src.Reader, store}, Feed: f, Capture: &nothing{f}}, nil
	}
	return kind
}

type reader struct {
	source.Reader
	store *intake.Store
}

func (r *reader) Close() {
	r.Reader.Close()
	r.store.Close()
}

// feed looks for rows that are newer.
type feed struct {
	*intake.Claims
	*options
	database dialect.Database
	reader   source.Reader
	url      string

	mu       sync.Mutex // guards what follows
	tables   map[string]*looked
	next     int64 // the number of the next change
	inFlight map[int64]noticed
	due      time.Time // when the tables are read next
	held     time.Time // when the claim was last looked at
	compared time.Time // when all rows were last looked at
	saved    map[string]string
}

// looked is how far a table was read.
type looked struct {
	// mark is the value from which rows are read, less the overlap.
	mark string
	// seen has the values of rows that were found the last time, by key: those that are found
	// again have not changed.
	seen map[string]string
	more bool // there were more rows than asked for
}

// noticed is a change that is not done.
type noticed struct {
	table, value string
	at           time.Time
}

// ChangesOf tells of none: nothing notes them but the rows themselves.
func (f *feed) ChangesOf(context.Context, shape.Ref, []string) ([]change.Change, error) {
	return nil, nil
}

// holdEvery is the interval between checks of the claim while no table is read.
const holdEvery = time.Second

// Changes looks at the tables when it is time, and returns rows that are newer.
func (f *feed) Changes(ctx context.Context, limit int) ([]change.Change, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if now := time.Now(); f.tables != nil && now.Before(f.due) && now.Sub(f.held) < holdEvery {
		return nil, nil
	}
	if err := f.Hold(ctx); err != nil {
		return nil, err
	}
	f.held = time.Now()
	if f.tables == nil {
		if err := f.begin(ctx); err != nil {
			return nil, err
		}
	}
	if time.Now().Before(f.due) {
		return nil, nil
	}
	var out []change.Change
	more := false
	for _, name := range slices.Sorted(maps.Keys(f.Tables)) {
		found, err := f.look(ctx, name, limit-len(out))
		if err != nil {
			f.tables = nil // what was found and not returned is read again
			return nil, err
		}
		out = append(out, found...)
		if more = more || f.tables[name].more; len(out) >= limit {
			break
		}
	}
	if time.Since(f.compared) > f.compare && len(out) < limit {
		for name := range f.Tables {
			out = append(out, f.note(name, f.tables[name].mark, change.Change{Op: change.Truncate}))
		}
		f.compared = time.Now()
	}
	if !more {
		f.due = time.Now().Add(f.every)
	}
	return out, nil
}

// begin reads how far the tables were read. The first time that is how far they are now: a process that
// reads rows does so later.
func (f *feed) begin(ctx context.Context) error {
	saved := map[string]string{}
	if err := f.Position(ctx, &saved); err != nil {
		return err
	}
	tables := map[string]*looked{}
	for name, column := range f.Tables {
		mark, known := saved[name]
		if !known {
			highest, clock, err := f.database.Newer(ctx, f.reader, f.ref(name), column, "", 0, nil)
			if err != nil {
				return err
			}
			mark = lower(highest, clock)
		}
		tables[name] = &looked{mark: mark, seen: map[string]string{}}
	}
	f.compared = time.Now()
	if at, err := time.Parse(time.RFC3339, saved[comparedAt]); err == nil {
		f.compared = at
	}
	f.tables, f.inFlight, f.saved = tables, map[int64]noticed{}, saved
	if err := f.save(ctx); err != nil { // the next process starts where this one did
		f.tables = nil
		return err
	}
	f.next = max(f.next, time.Now().UnixMicro())
	return nil
}

// comparedAt is what stands among the saved positions for when all rows were last looked at; no
// table has this name.
const comparedAt = ""

func (f *feed) ref(table string) shape.Ref { return f.database.Table(f.url, table) }

var errEnough = errors.New("enough")

// look reads the newer rows of a table, at most about limit: those with one value are
// returned together, or they would be found again for ever.
func (f *feed) look(ctx context.Context, name string, limit int) ([]change.Change, error) {
	t := f.tables[name]
	var out []change.Change
	found := map[string]string{}
	last := ""
	overlap := f.overlap
	if t.mark == "" { // it was empty
		overlap = dialect.Everything
	}
	highest, clock, err := f.database.Newer(
		ctx,
		f.reader,
		f.ref(name),
		f.Tables[name],
		t.mark,
		overlap,
		func(key []string, value string) error {
			if len(out) >= limit && value != last {
				return errEnough
			}
			last = value
			id := strings.Join(key, "\x00")
			found[id] = value
			if t.seen[id] != value {
				out = append(
					out,
					f.note(name, value, change.Change{Op: change.Update, Key: slices.Clone(key), Bare: true}),
				)
			}
			return nil
		},
	)
	if t.more = errors.Is(err, errEnough); t.more {
		highest, clock, err = last, "", nil
	}
	if err != nil {
		return nil, err
	}
	if t.more { // those that come after were found before
		maps.Copy(t.seen, found)
	} else {
		t.seen = found
	}
	// A clock that steps back gives newer rows lower times, so the mark is not above the clock.
	if mark := lower(highest, clock); mark != "" {
		t.mark = mark
	}
	return out, nil
}

// note gives a change its number and time; the caller holds mu.
func (f *feed) note(table, value string, c change.Change) change.Change {
	f.next++
	c.Seq, c.Table, c.At = f.next, f.ref(table), time.Now()
	f.inFlight[c.Seq] = noticed{table, value, c.At}
	return c
}

// lower is the lower of two values; an empty one is none.
func lower(a, b string) string {
	if b == "" || a != "" && less(a, b) {
		return a
	}
	if a == "" {
		return a
	}
	return b
}

func less(a, b string) bool {
	n, err1 := strconv.ParseInt(a, 10, 64)
	m, err2 := strconv.ParseInt(b, 10, 64)
	if err1 == nil && err2 == nil {
		return n < m
	}
	return a < b // times as databases write them
}

// Done saves how far everything is done.
func (f *feed) Done(ctx context.Context, seqs []int64) error {
	f.mu.Lock()
	defer f.mu.Unlock()
	for _, seq := range seqs {
		delete(f.inFlight, seq)
	}
	return f.save(ctx)
}

// save saves how far everything is done; the caller holds mu.
func (f *feed) save(ctx context.Context) error {
	position := map[string]string{comparedAt: f.compared.UTC().Format(time.RFC3339)}
	for name, t := range f.tables {
		position[name] = t.mark
	}
	for _, n := range f.inFlight {
		position[n.table] = lower(position[n.table], n.value)
	}
	if maps.Equal(position, f.saved) {
		return f.Hold(ctx)
	}
	if err := f.SavePosition(ctx, position); err != nil {
		return err
	}
	f.saved = position
	return nil
}

// Rewind has everything that is not done looked for again.
func (f *feed) Rewind() {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.tables, f.inFlight, f.due = nil, nil, time.Time{}
}

// InFlight is how many changes were returned and are not done, and when the oldest was noticed.
func (f *feed) InFlight() (n int, oldest time.Time) {
	f.mu.Lock()
	defer f.mu.Unlock()
	for _, c := range f.inFlight {
		if oldest.IsZero() || c.at.Before(oldest) {
			oldest = c.at
		}
	}
	return len(f.inFlight), oldest
}

// Depth is what was found and is not done: more is not known.
func (f *feed) Depth(context.Context) (source.Depth, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	d := source.Depth{Changes: int64(len(f.inFlight)), Last: f.next}
	for seq, c := range f.inFlight {
		if d.First == 0 || seq < d.First {
			d.First, d.Oldest = seq, &c.at
		}
	}
	return d, nil
}

// Unseen says what polls cannot see of a row.
func (f *feed) Unseen(ctx context.Context, t *shape.Tree, key []string, there bool) ([]string, error) {
	saved := map[string]string{}
	if err := f.Position(ctx, &saved); err != nil {
		return nil, err
	}
	compares := fmt.Sprintf("when it compares all rows, every %s", f.compare)
	if at, err := time.Parse(time.RFC3339, saved[comparedAt]); err == nil {
		compares = fmt.Sprintf("when it compares all rows, which is due at %s", at.Add(f.compare).Local().Format(time.DateTime))
	}
	var out, unread []string
	polled := map[shape.Ref]string{}
	for name := range f.Tables {
		polled[f.ref(name)] = name
	}
	for _, n := range t.Nodes {
		if text := n.Table.String(); polled[n.Table] == "" && !slices.Contains(unread, text) {
			unread = append(unread, text)
		}
	}
	if name, is := polled[t.Root().Table]; is && !there {
		out = append(out, fmt.Sprintf("A poll does not see that a row was deleted: Pingo finds it %s.", compares))
	} else if is {
		column := f.Tables[name]
		quoted := f.database.Quote(column)
		// A row passes a condition if it is found with it.
		passes := func(condition string) (bool, error) {
			set := document.NewSet(t.RootOnly(condition))
			err := f.reader.ReadKeys(ctx, set, [][]string{key})
			return err == nil && set.Rows(0).Len() > 0, err
		}
		null, err := passes(quoted + " IS NULL")
		if err != nil {
			return nil, err
		}
		mark, old := saved[name], false
		if mark != "" {
			if old, err = passes(quoted + " < '" + strings.ReplaceAll(mark, "'", "''") + "'"); err != nil {
				return nil, err
			}
		}
		switch {
		case null:
			out = append(out, fmt.Sprintf("%s of this row is NULL, so no poll reads the row: Pingo reads it %s.", column, compares))
		case old:
			out = append(out, fmt.Sprintf("%s of this row is before %s, where the polls are: Pingo sees a change that did not raise %[1]s, or whose transaction lasted longer than %s, %s.",
				column, mark, f.overlap, compares))
		default:
			out = append(out, fmt.Sprintf("%s of this row is new enough for the next poll, within %s.", column, f.every))
		}
	}
	if len(unread) > 0 {
		out = append(out, fmt.Sprintf("Pingo does not poll %s: it sees their changes %s.", strings.Join(unread, ", "), compares))
	}
	return out, nil
}

// nothing stands where nothing is installed.
type nothing struct{ *feed }

func (n *nothing) Script(_ context.Context, need []shape.Captured) (string, error) {
	return "-- Nothing is installed: Pingo reads the tables. What it needs:\n" + dialect.Reading(n.database, n.url, need), nil
}

func (n *nothing) Install(ctx context.Context, _ string, _ []shape.Captured) ([]shape.Ref, error) {
	return nil, n.there(ctx)
}

// there looks whether the columns are there.
func (n *nothing) there(ctx context.Context) error {
	for name, column := range n.Tables {
		if _, _, err := n.database.Newer(ctx, n.reader, n.ref(name), column, "", 0, nil); err != nil {
			return err
		}
	}
	return nil
}

func (*nothing) RemovalScript(context.Context) (string, error) { return "", nil }
func (*nothing) Remove(context.Context) error                  { return nil }

func (n *nothing) Status(ctx context.Context) (source.CaptureStatus, error) {
	return source.CaptureStatus{Installed: true, Tables: slices.Sorted(maps.Keys(n.Tables))}, nil
}

func (*nothing) Gaps(context.Context, []shape.Captured) ([]source.Gap, error) { return nil, nil }

func (*nothing) MissingRights(context.Context, []shape.Captured) ([]string, error) {
	return []string{}, nil
}

// Advice says what this way cannot see, and how late it may be.
func (n *nothing) Advice(
	ctx context.Context,
	need []shape.Captured,
	_ []shape.Lookup,
) ([]source.Advice, error) {
	out := []source.Advice{{Kind: "poll", Message: fmt.Sprintf(
		"changes are noticed up to %s late; those of transactions that last longer than %s may not be; rows that were deleted are found within %s",
		n.every,
		n.overlap,
		n.compare,
	)}}
	for _, c := range need {
		if !slices.ContainsFunc(
			slices.Collect(maps.Keys(n.Tables)),
			func(name string) bool { return n.ref(name) == c.Table },
		) {
			out = append(
				out,
				source.Advice{
					Kind:    "poll",
					Table:   c.Table.String(),
					Message: "it is not looked at, so its changes show only when another table's rows change; name it in poll: tables",
				},
			)
		}
	}
	if err := n.there(ctx); err != nil {
		return out, err
	}
	for _, name := range slices.Sorted(maps.Keys(n.Tables)) {
		column := n.Tables[name]
		nullable, err := n.database.Nullable(ctx, n.reader, n.ref(name), column)
		if err != nil {
			return out, err
		}
		if nullable {
			out = append(out, source.Advice{
				Kind: "poll", Table: n.ref(name).String(),
				Message: fmt.Sprintf("column %s may be NULL: Pingo notices a change of a row without a value only when it compares all rows, every %s; give every row a value and declare the column NOT NULL", column, n.compare),
			})
		}
	}
	return out, nil
}
