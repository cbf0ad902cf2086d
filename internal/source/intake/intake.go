// Package intake keeps the latest body of every record that arrives as an event in Pingo's own
// database. From there on it is a source like any other: its records are rows of tables, read,
// related and compared as those of an application database are.
//
// For a source of some name there is a schema intake_NAME. In it, each name of a record has a
// table of keys and bodies, and views of it that show the properties of bodies as columns. The
// triggers and the journal of package postgres note what changes.
package intake

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/cespare/xxhash/v2"
	"github.com/jackc/pgx/v5"

	"pingo/internal/core/change"
	"pingo/internal/core/shape"
	"pingo/internal/pgerror"
	"pingo/internal/pgsession"
	"pingo/internal/source"
	"pingo/internal/source/postgres"
)

// Record is what the definition says of the records of one name.
type Record struct {
	Name string
	// Schema is a JSON Schema of the bodies, nil when it is not known.
	Schema json.RawMessage
}

// Store holds the records of one source.
type Store struct {
	pool    pgsession.Pool
	source  string
	records []Record
	schema  string // of PostgreSQL, for tables and views

	mu      sync.Mutex // guards what follows
	made    bool       // the tables are there
	purged  time.Time
	waiting []*call // that are to be put together with others
	putting int     // of putSide
}

// Open prepares the records of a source in the database at a URL.
func Open(url, sourceName string, records []Record, timeout time.Duration) (*Store, error) {
	if url == "" {
		return nil, errors.New("there is no database of Pingo's own to keep what is sent")
	}
	pool, err := postgres.ConnectOwn(source.Config{URL: url, ConnectTimeout: timeout, Files: pgsession.AnyFile}, pgsession.RecordsPath)
	if err != nil {
		return nil, err
	}
	schema := "intake_" + sourceName
	if len(schema) > 45 { // so that the names that are made of it are no longer than PostgreSQL allows
		schema = fmt.Sprintf("intake_%016x", xxhash.Sum64String(sourceName))
	}
	return &Store{pool: pgsession.Pool{Pool: pool}, source: sourceName, records: records, schema: schema}, nil
}

// Source is the source that the records are. Its feed, reader and capture are those of package
// postgres, which know the views by their tables.
func (s *Store) Source() *source.Source {
	inner := postgres.Within(s.pool.Pool, s.schema+"_capture")
	return &source.Source{
		Reader:  &reader{inner.Reader, s},
		Feed:    &feed{Feed: inner.Feed.(*postgres.Feed), store: s},
		Capture: &capture{inner.Capture, s},
	}
}

// Close gives the connections back.
func (s *Store) Close() { s.pool.Close() }

// Describe says whose records these are.
func (s *Store) Describe(ctx context.Context) (string, error) {
	held, err := s.Records(ctx)
	if err != nil {
		return "", err
	}
	var words []string
	for _, h := range held {
		words = append(words, fmt.Sprintf("%d of %s", h.Rows, h.Record))
	}
	return "records in Pingo's own database: " + strings.Join(words, ", "), nil
}

func explain(what string, err error) error {
	return fmt.Errorf("%s: %w", what, &source.Error{Err: pgerror.Explain(err)})
}

func quote(names ...string) string { return pgx.Identifier(names).Sanitize() }

func literal(text string) string { return "'" + strings.ReplaceAll(text, "'", "''") + "'" }

// ensure makes the tables of records that are not there yet. event is the one that came last; seen are some before it, if
// the order of versions does not tell which of them is the newest. stamps has the versions of parts of the body, if patches
// gave it several. A body is nil when the record was
// deleted; that it was is kept, so that an older version which comes later does not bring it back.
func (s *Store) ensure(ctx context.Context) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.made {
		return nil
	}
	var b strings.Builder
	// Two processes may do this at the same time.
	fmt.Fprintf(
		&b,
		"SELECT pg_advisory_xact_lock(hashtextextended(%s, 0));\nCREATE SCHEMA IF NOT EXISTS %s;\n",
		literal(s.schema),
		quote(s.schema),
	)
	err := pgx.BeginFunc(ctx, s.pool, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, b.String()); err != nil {
			return err
		}
		return pgsession.Own(ctx, tx, s.schema)
	})
	if err != nil {
		return explain("making the schema of what is sent", err)
	}
	b.Reset()
	for _, r := range s.records {
		fmt.Fprintf(&b, `CREATE TABLE IF NOT EXISTS %s (
	key text COLLATE "C" PRIMARY KEY, body jsonb, version numeric, event text NOT NULL, at timestamptz NOT NULL DEFAULT clock_timestamp());
DO $$ BEGIN
	IF NOT EXISTS (SELECT FROM pg_attribute WHERE attrelid = to_regclass(%[3]s) AND attname = 'seen') THEN
		ALTER TABLE %[1]s ADD COLUMN stamps jsonb, ADD COLUMN seen text[];
	END IF;
END $$;
CREATE INDEX IF NOT EXISTS %s ON %[1]s (at) WHERE body IS NULL;
`, quote(s.schema, r.Name), quote(r.Name+"_deleted"), literal(quote(s.schema, r.Name)))
	}
	if _, err := s.pool.Exec(ctx, b.String()); err != nil {
		return explain("making the tables of what is sent", err)
	}
	s.made = true
	return nil
}

// Records says what is held of each record name.
func (s *Store) Records(ctx context.Context) ([]source.Held, error) {
	if err := s.ensure(ctx); err != nil {
		return nil, err
	}
	var out []source.Held
	for _, r := range s.records {
		h := source.Held{Record: r.Name}
		err := s.pool.QueryRow(ctx, "SELECT count(*) FILTER (WHERE body IS NOT NULL), count(*) FILTER (WHERE body IS NULL), max(at) FROM "+quote(s.schema, r.Name)).
			Scan(&h.Rows, &h.Deleted, &h.Newest)
		if err != nil {
			return nil, explain("counting "+r.Name, err)
		}
		out = append(out, h)
	}
	return out, nil
}

// Clock is the time of the database.
func (s *Store) Clock(ctx context.Context, record string) (at time.Time, err error) {
	if err := s.known(record); err != nil {
		return at, err
	}
	if err = s.pool.QueryRow(ctx, "SELECT clock_timestamp()").Scan(&at); err != nil {
		err = explain("asking for the time", err)
	}
	return at, err
}

// viewOf names a generation of the view of a record.
func viewOf(record string, generation int) string { return fmt.Sprintf("%s@%d", record, generation) }

// recordOf is the record that a view shows.
func recordOf(view string) string {
	name, _, _ := strings.Cut(view, "@")
	return name
}

// RecordOf is the record that a view shows.
func RecordOf(view shape.Ref) string { return recordOf(view.Name) }

// rowsOf is the table that a view shows, and viewRef a view by its name.
func (s *Store) rowsOf(view shape.Ref) shape.Ref {
	return shape.Ref{Schema: s.schema, Name: RecordOf(view)}
}

// reader reads the views.
type reader struct {
	source.Reader
	store *Store
}

func (r *reader) Close() { r.Reader.Close() }

func (r *reader) Describe(ctx context.Context) (string, error) { return r.store.Describe(ctx) }

// Label is the record's name.
func (r *reader) Label(table shape.Ref) string { return RecordOf(table) }

// Facts answers as the catalogue would if the views were tables. A view that is there lacks no
// column; one that is not is made.
func (r *reader) Facts(
	ctx context.Context,
	tables []string,
	expressions []shape.Expression,
) (shape.Facts, error) {
	s := r.store
	if err := s.ensure(ctx); err != nil {
		return shape.Facts{}, err
	}
	views := map[string]string{} // the view of a record, as the reader below knows it
	hints := map[string]string{}
	for _, record := range s.records {
		if !slices.Contains(tables, record.Name) {
			continue
		}
		v, hint, err := s.view(ctx, record)
		if err != nil {
			return shape.Facts{}, err
		}
		views[record.Name], hints[record.Name] = s.schema+"."+v, hint
	}
	var named []string
	for _, name := range tables {
		if v := views[name]; v != "" {
			named = append(named, v)
		}
	}
	asked := make([]shape.Expression, 0, len(expressions))
	for _, e := range expressions {
		if v := views[e.Table]; v != "" {
			asked = append(asked, shape.Expression{Table: v, Text: e.Text, Role: e.Role})
		}
	}
	inner, err := r.Reader.Facts(ctx, named, asked)
	if err != nil {
		return inner, err
	}
	out := shape.Facts{
		Tables:      map[string]*shape.Table{},
		Expressions: map[shape.Expression]shape.ExpressionFacts{},
		Denied:      map[string]string{},
	}
	for _, record := range s.records {
		out.Known = append(out.Known, record.Name)
		t := inner.Tables[views[record.Name]]
		if t == nil {
			continue
		}
		t.View, t.Follows, t.Shifting, t.Key, t.Hint = false, nil, nil, []string{KeyColumn}, hints[record.Name]
		for i := range t.Columns {
			switch c := &t.Columns[i]; {
			case c.Form == "numeric":
				c.Unlinkable = "1.5 and 1.50 are equal numbers, but not as keys; a property that the source's schema declares as integer will do"
			case c.Name == TimeColumn:
				c.Unlinkable = "it is when a record came, which nothing else says"
			}
		}
		out.Tables[record.Name] = t
	}
	for e, answer := range inner.Expressions {
		_, view, _ := strings.Cut(e.Table, ".")
		e.Table = recordOf(view)
		out.Expressions[e] = answer
	}
	return out, nil
}

// DuplicateKeys is zero: a key has one record.
func (r *reader) DuplicateKeys(context.Context, *shape.Tree) (int64, error) { return 0, nil }

// capture notes the changes of the tables below the views.
type capture struct {
	source.Capture
	store *Store
}

// below is what is captured of tables, where something of views is needed. Any column of a body
// may lead to another record, so what was in it before is noted where one does.
func (c *capture) below(need []shape.Captured) []shape.Captured {
	var out []shape.Captured
	for _, n := range need {
		t := shape.Captured{Table: c.store.rowsOf(n.Table), Key: []string{"key"}, Watch: []string{"body"}}
		if len(n.Links) > 0 {
			t.Links = []string{"body"}
		}
		if i := slices.IndexFunc(out, func(o shape.Captured) bool { return o.Table == t.Table }); i >= 0 {
			if out[i].Links == nil {
				out[i].Links = t.Links
			}
			continue
		}
		out = append(out, t)
	}
	return out
}

func (c *capture) Script(context.Context, []shape.Captured) (string, error) {
	return "-- Nothing is installed outside of Pingo's own database: what changes is sent here.\n", nil
}

// RemovalScript is empty: all of it is in Pingo's own database.
func (c *capture) RemovalScript(context.Context) (string, error) { return "", nil }

func (c *capture) Install(ctx context.Context, owner string, need []shape.Captured) ([]shape.Ref, error) {
	if err := c.store.ensure(ctx); err != nil {
		return nil, err
	}
	if err := c.store.index(ctx, need); err != nil {
		return nil, err
	}
	return c.Capture.Install(ctx, owner, c.below(need))
}

func (c *capture) Gaps(ctx context.Context, need []shape.Captured) ([]source.Gap, error) {
	gaps, err := c.Capture.Gaps(ctx, c.below(need))
	var out []source.Gap
	for _, g := range gaps {
		for _, n := range need { // each view of the table lacks what was missed
			if c.store.rowsOf(n.Table) == g.Table {
				g.Table = n.Table
				out = append(out, g)
				g.Table = c.store.rowsOf(n.Table)
			}
		}
	}
	return out, err
}

func (c *capture) MissingRights(context.Context, []shape.Captured) ([]string, error) {
	return []string{}, nil
}

func (c *capture) Advice(context.Context, []shape.Captured, []shape.Lookup) ([]source.Advice, error) {
	return []source.Advice{}, nil
}

// index makes an index for each column by which Pingo looks up records. Other columns than
// text have none, and lookups read all rows: an index could refuse what is sent.
func (s *Store) index(ctx context.Context, need []shape.Captured) error {
	for _, n := range need {
		for _, column := range n.Links {
			if column == KeyColumn || column == TimeColumn {
				continue
			}
			table := s.rowsOf(n.Table)
			name := fmt.Sprintf("by_%016x", xxhash.Sum64String(table.String()+" "+column))
			_, err := s.pool.Exec(
				ctx,
				fmt.Sprintf(
					"CREATE INDEX IF NOT EXISTS %s ON %s ((body ->> %s)) WHERE body IS NOT NULL",
					name,
					quote(table.Schema, table.Name),
					literal(column),
				),
			)
			if err != nil {
				return explain("indexing "+column+" of "+RecordOf(n.Table), err)
			}
		}
	}
	return nil
}

// Feed is the feed of what is received, for a source that takes the events from elsewhere itself.
type Feed interface {
	source.Feed
	// Accept is that of the Store for events that have no version, while the claim is valid: a process that was overtaken meanwhile
	// puts nothing, and fails with the fault Superseded.
	Accept(ctx context.Context, events []Event) ([]source.Receipt, error)
}

// feed notices changes of the tables, and says of which views they are.
type feed struct {
	*postgres.Feed
	store *Store
}

func (f *feed) Accept(ctx context.Context, events []Event) (receipts []source.Receipt, err error) {
	if err := f.store.ensure(ctx); err != nil {
		return nil, err
	}
	err = pgx.BeginFunc(ctx, f.store.pool, func(tx pgx.Tx) (err error) {
		if err := f.Hold(ctx, tx); err != nil {
			return err
		}
		receipts, err = f.store.acceptIn(ctx, tx, "", events, rounds(events))
		return err
	})
	return receipts, err
}

// Changes of a record are changes of each of its views, since an index may read an earlier one.
// The views are asked for after the changes were read. A process that reads one that is newer still reads
// its rows later, too.
func (f *feed) Changes(ctx context.Context, limit int) ([]change.Change, error) {
	changes, err := f.Feed.Changes(ctx, limit)
	if err != nil {
		return nil, err
	}
	f.store.purge(ctx)
	if len(changes) == 0 {
		return nil, nil
	}
	views, err := f.store.views(ctx)
	if err != nil {
		f.Rewind() // what was read is read again
		return nil, err
	}
	for i := range changes {
		c := &changes[i]
		c.Changed = nil // it names columns of the table, and views read properties of what is in one of them
		if len(c.Links) > 0 {
			c.Links, c.Before, c.After = properties(c.Key[0], c.Before, c.After)
		}
		if refs := views[c.Table.Name]; len(refs) > 0 {
			c.Table, c.Also = refs[0], refs[1:]
		}
	}
	return changes, nil
}

// ChangesOf asks for those of the table below a view.
func (f *feed) ChangesOf(ctx context.Context, view shape.Ref, key []string) ([]change.Change, error) {
	changes, err := f.Feed.ChangesOf(ctx, f.store.rowsOf(view), key)
	for i := range changes {
		changes[i].Table = view
	}
	return changes, err
}

// properties takes bodies apart into the values of their properties, as links hold them, and the key.
func properties(key string, before, after []*string) (names []string, b, a []*string) {
	type values map[string]*string
	read := func(side []*string) values {
		if len(side) == 0 || side[0] == nil {
			return nil
		}
		out := values{}
		var body map[string]json.RawMessage
		if json.Unmarshal([]byte(*side[0]), &body) == nil { // else it is no object, and has none
			for name, raw := range body {
				out[name] = plain(raw)
			}
		}
		out[KeyColumn] = &key
		return out
	}
	was, is := read(before), read(after)
	for _, side := range []values{was, is} {
		for name := range side {
			if !slices.Contains(names, name) {
				names = append(names, name)
			}
		}
	}
	slices.Sort(names)
	list := func(side values) []*string {
		if side == nil {
			return nil
		}
		out := make([]*string, len(names))
		for i, name := range names {
			out[i] = side[name]
		}
		return out
	}
	return names, list(was), list(is)
}

// plain is a value as the operator ->> gives it, which links are read with; nil for null and for
// what is no single value. The text is that of PostgreSQL, which has normalised numbers.
func plain(raw json.RawMessage) *string {
	switch raw[0] {
	case 'n', '{', '[':
		return nil
	case '"':
		var s string
		if json.Unmarshal(raw, &s) != nil {
			return nil
		}
		return &s
	}
	s := string(raw)
	return &s
}
