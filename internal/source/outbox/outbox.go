// Package outbox is the way of noticing changes by a table of the application's own, into which it
// writes a row for each change, in the transaction that makes it. Sources of several kinds have
// it: a row without a body says that a row of a table changed; one with a body is an event, which
// goes through the intake.
package outbox

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"pingo/internal/core/change"
	"pingo/internal/core/shape"
	"pingo/internal/source"
	"pingo/internal/source/dialect"
	"pingo/internal/source/intake"
	"pingo/internal/source/journal"
)

// Keys is a JSON Schema object of what a definition may say of an outbox.
const Keys = `"outbox": {"type": "object", "description": "The application's own table of changes, with capture: outbox.", "required": ["table"], "properties": {
	"table": {"type": "string", "description": "The table, or SCHEMA.TABLE."},
	"id": {"type": "string", "description": "An integer column with the number of the row. Default: id."},
	"record": {"type": "string", "description": "The column with the name of the changed table or record. Default: record."},
	"key": {"type": "string", "description": "The column with the key of the changed row; a JSON list for a composite key. Default: record_key."},
	"operation": {"type": "string", "description": "The column with the operation. Without it, each row means that the record changed."},
	"operations": {"type": "object", "description": "The values of the operation column for each operation. Default: the words create, insert, update, merge, patch, delete and remove.",
		"properties": {"created": {"type": "array", "items": {}}, "updated": {"type": "array", "items": {}}, "merged": {"type": "array", "items": {}}, "deleted": {"type": "array", "items": {}}}},
	"body": {"type": "string", "description": "The column with the record as JSON. With it, Pingo builds documents from the outbox and does not read the tables."},
	"at": {"type": "string", "description": "The column with the time of the change."},
	"names": {"type": "object", "additionalProperties": {"type": "string"}, "description": "Maps names in the record column to tables or records with other names."},
	"done": {"type": "string", "enum": ["delete", "mark"], "description": "Whether to delete delivered rows, or to mark them by setting a column. Default: delete."},
	"mark": {"type": "string", "description": "The column that Pingo sets to the time of delivery; NULL before. Default: done_at."},
	"records": {"type": "object", "description": "The names of records whose rows have a body.", "additionalProperties": {"type": "object", "properties": {
		"schema": {"description": "A JSON Schema of the record. Its properties are the columns. Default: the columns are the properties that arrived."}}}}
}}`

// Options are what a definition says of an outbox.
type Options struct {
	Table      string
	ID         string
	Record     string
	Key        string
	Operation  string
	Operations map[intake.Op][]json.RawMessage
	Body       string
	At         string
	Names      map[string]string
	Done       string
	Mark       string
	Records    map[string]*struct{ Schema any }
}

// Read reads the options of a source, and puts in what is left out.
func Read(text json.RawMessage) (*Options, error) {
	var all struct{ Outbox *Options }
	if len(text) > 0 {
		if err := json.Unmarshal(text, &all); err != nil {
			return nil, fmt.Errorf("the options of the source cannot be read: %w", err)
		}
	}
	o := all.Outbox
	if o == nil || o.Table == "" {
		return nil, errors.New(
			"capture: outbox needs the table: write outbox: { table: NAME } at the source; pingo capture show prints the SQL of a good one",
		)
	}
	for at, standard := range map[*string]string{&o.ID: "id", &o.Record: "record", &o.Key: "record_key", &o.Done: "delete", &o.Mark: "done_at"} {
		if *at == "" {
			*at = standard
		}
	}
	if o.Body != "" && len(o.Records) == 0 {
		return nil, errors.New(
			"an outbox with a body says which records it has: write records: { NAME: {} } at outbox",
		)
	}
	return o, nil
}

// With is a kind of source whose changes an outbox may tell, too.
func With(kind source.Kind, d dialect.Database) source.Kind {
	inner := kind.Open
	kind.Captures = append(slices.Clone(kind.Captures), "outbox")
	kind.Keys = dialect.Merge(kind.Keys, Keys)
	kind.CannotSee = maps.Clone(kind.CannotSee)
	kind.CannotSee["outbox"] = []string{
		"Only what the application writes into its outbox is noticed: not what is changed by hand, by scripts or by cascades.",
		"Without bodies, a row that moves or is deleted below a document is followed from where it is now alone, unless its key says where it belongs; the application writes a row for the document that it leaves, too.",
		"Pingo stores nothing in the database, so it does not notice that the database was restored from a backup, or that another Pingo reads the same outbox.",
	}
	kind.Open = func(c source.Config) (*source.Source, error) {
		if c.Capture != "outbox" {
			return inner(c)
		}
		o, err := Read(c.Options)
		if err != nil {
			return nil, err
		}
		return open(d, o, c)
	}
	return kind
}

// table is the outbox in its database.
type table struct {
	*Options
	db  *sql.DB
	url string
	dialect.Database
}

func (t *table) name() string {
	ref := t.Database.Table(t.url, t.Options.Table)
	return t.Quote(ref.Schema) + "." + t.Quote(ref.Name)
}

// waiting is the condition of rows that are not done.
func (t *table) waiting() string {
	if t.Done == "mark" {
		return t.Quote(t.Mark) + " IS NULL"
	}
	return "true"
}

// row is a row of the outbox.
type row struct {
	id                    int64
	record, key, op, body *string
	at                    *string
}

// read reads rows that are not done, after a number.
func (t *table) read(ctx context.Context, r journal.Read) ([]row, error) {
	column := func(name string) string {
		if name == "" {
			return "NULL"
		}
		return t.Text(t.Quote(name))
	}
	// The table is the application's, and so is what runs when it is a view: read only, and rolled back.
	tx, err := t.db.BeginTx(ctx, &sql.TxOptions{ReadOnly: true})
	if err != nil {
		return nil, fmt.Errorf("reading the outbox: %w", t.Explain(err))
	}
	defer tx.Rollback()
	rows, err := tx.QueryContext(
		ctx,
		fmt.Sprintf("SELECT %s, %s, %s, %s, %s, %s FROM %s WHERE %s > %d AND %s ORDER BY %s LIMIT %d",
			t.Quote(t.ID), column(t.Record), column(t.Key), column(t.Operation), column(t.Body), column(t.At),
			t.name(), t.Quote(t.ID), r.From, t.waiting(), t.Quote(t.ID), r.Limit),
	)
	if err != nil {
		return nil, fmt.Errorf("reading the outbox: %w", t.Explain(err))
	}
	defer rows.Close()
	var out []row
	for rows.Next() {
		var n row
		if err := rows.Scan(&n.id, &n.record, &n.key, &n.op, &n.body, &n.at); err != nil {
			return nil, fmt.Errorf("reading the outbox: %w", t.Explain(err))
		}
		out = append(out, n)
	}
	if err := rows.Err(); err != nil {
		return nil, fmt.Errorf("reading the outbox: %w", t.Explain(err))
	}
	return out, nil
}

// settle deletes or marks rows that are done.
func (t *table) settle(ctx context.Context, ids []int64) error {
	for some := range slices.Chunk(ids, 2000) {
		if err := t.Settle(ctx, t.db, t.names(), some); err != nil {
			return fmt.Errorf("settling rows of the outbox: %w", t.Explain(err))
		}
	}
	return nil
}

// names are those of the table and its columns.
func (t *table) names() dialect.Outbox {
	out := dialect.Outbox{
		Table:     t.Options.Table,
		ID:        t.ID,
		Record:    t.Record,
		Key:       t.Key,
		Operation: t.Operation,
		Body:      t.Body,
		At:        t.At,
	}
	if t.Done == "mark" {
		out.Mark = t.Mark
	}
	return out
}

func (t *table) grants() string {
	if t.Done == "mark" {
		return t.Grants(t.url, t.Options.Table, "SELECT, UPDATE")
	}
	return t.Grants(t.url, t.Options.Table, "SELECT, DELETE")
}

const countedRows = 50_000

func (t *table) depth(ctx context.Context) (d source.Depth, err error) {
	at := "NULL"
	if t.At != "" {
		at = t.Text("min(" + t.Quote(t.At) + ")")
	}
	var oldest *string
	tx, err := t.db.BeginTx(ctx, &sql.TxOptions{ReadOnly: true})
	if err != nil {
		return d, fmt.Errorf("counting the outbox: %w", t.Explain(err))
	}
	defer tx.Rollback()
	err = tx.QueryRowContext(ctx, fmt.Sprintf("SELECT count(*), coalesce(min(%[1]s), 0), coalesce(max(%[1]s), 0), %[2]s FROM (SELECT * FROM %[3]s WHERE %[4]s ORDER BY %[1]s LIMIT %[5]d) first_ones",
		t.Quote(t.ID), at, t.name(), t.waiting(), countedRows)).
		Scan(&d.Changes, &d.First, &d.Last, &oldest)
	if err != nil {
		return d, fmt.Errorf("counting the outbox: %w", t.Explain(err))
	}
	if oldest != nil {
		if when := timeOf(*oldest); !when.IsZero() {
			d.Oldest = &when
		}
	}
	return d, nil
}

// timeOf reads a time as databases write it; one without a zone is taken for UTC.
func timeOf(text string) time.Time {
	for _, layout := range []string{"2006-01-02 15:04:05.999999999-07", "2006-01-02 15:04:05.999999999-07:00", "2006-01-02 15:04:05.999999999", time.RFC3339Nano} {
		if t, err := time.Parse(layout, text); err == nil {
			return t
		}
	}
	return time.Time{}
}

// operation is what a row says happened; a complaint where it says nothing that is known.
func (o *Options) operation(r *row) (intake.Op, string) {
	if o.Operation == "" {
		return intake.Updated, ""
	}
	if r.op == nil {
		return "", "the operation is NULL"
	}
	word := strings.TrimSpace(*r.op)
	if o.Operations != nil {
		for op, codes := range o.Operations {
			for _, code := range codes {
				if strings.Trim(string(code), `"`) == word {
					return op, ""
				}
			}
		}
		return "", fmt.Sprintf("the operation %q is none that operations names", word)
	}
	switch strings.ToLower(word) {
	case "c", "i", "create", "created", "insert", "inserted", "add", "added":
		return intake.Created, ""
	case "u", "update", "updated", "change", "changed", "upsert":
		return intake.Updated, ""
	case "m", "merge", "merged", "patch", "patched":
		return intake.Merged, ""
	case "d", "delete", "deleted", "remove", "removed":
		return intake.Deleted, ""
	}
	return "", fmt.Sprintf("the operation %q is none that is known: name it with operations", word)
}

// key is the key that a row names.
func (o *Options) key(r *row) ([]string, string) {
	if r.key == nil || *r.key == "" {
		return nil, "the key is missing"
	}
	if !strings.HasPrefix(*r.key, "[") {
		return []string{*r.key}, ""
	}
	var parts []json.RawMessage
	if err := json.Unmarshal([]byte(*r.key), &parts); err != nil {
		return []string{*r.key}, "" // a text that begins with a bracket
	}
	out := make([]string, len(parts))
	for i, part := range parts {
		if part[0] != '"' {
			out[i] = string(part)
		} else if err := json.Unmarshal(part, &out[i]); err != nil {
			return nil, "the key cannot be read"
		}
	}
	return out, ""
}

// record is the name that a row has for its table or record.
func (o *Options) record(r *row) string {
	if r.record == nil {
		return ""
	}
	if name, is := o.Names[*r.record]; is {
		return name
	}
	return *r.record
}

func (r *row) receipt(o *Options, reason string) source.Receipt {
	out := source.Receipt{
		At:      time.Now(),
		Event:   "outbox row " + strconv.FormatInt(r.id, 10),
		Record:  o.record(r),
		Outcome: source.Unreadable,
		Reason:  reason,
	}
	if r.key != nil {
		out.Key = *r.key
	}
	if r.op != nil {
		out.Op = *r.op
	}
	if r.body != nil {
		out.Bytes = int64(len(*r.body))
	}
	return out
}

// open makes the source whose changes an outbox tells. Where its rows have no body, the tables are
// read.
func open(d dialect.Database, o *Options, c source.Config) (*source.Source, error) {
	rows, db, err := d.Open(c)
	if err != nil {
		return nil, err
	}
	t := &table{o, db, c.URL, d}
	var records []intake.Record
	for name, r := range o.Records {
		record := intake.Record{Name: name}
		if r != nil && r.Schema != nil {
			var err error
			if record.Schema, err = schemaOf(name, r.Schema); err != nil {
				return nil, err
			}
		}
		records = append(records, record)
	}
	slices.SortFunc(records, func(a, b intake.Record) int { return strings.Compare(a.Name, b.Name) })
	store, err := intake.Open(c.Records, c.Name, records, c.ConnectTimeout)
	if err != nil {
		return nil, err
	}
	if o.Body != "" {
		src := store.Source()
		return &source.Source{
			Reader:  &bodies{src.Reader, rows.Reader},
			Feed:    &pump{Feed: src.Feed.(intake.Feed), table: t, store: store},
			Capture: &capture{inner: src.Capture, table: t, rows: rows.Reader},
			Intake:  intake.OnlyReceipts(store),
		}, nil
	}
	return &source.Source{
		Reader:  &notices{rows.Reader, store},
		Feed:    &feed{Claims: store.Claims(), table: t, store: store, rows: rows.Reader, tables: map[string]bool{}},
		Capture: &capture{table: t, rows: rows.Reader},
		Intake:  intake.OnlyReceipts(store),
	}, nil
}

func schemaOf(name string, schema any) (json.RawMessage, error) {
	if text, is := schema.(string); is {
		if !json.Valid([]byte(text)) {
			return nil, fmt.Errorf("the schema of record %s is no JSON", name)
		}
		return json.RawMessage(text), nil
	}
	return json.Marshal(schema)
}

// bodies reads what came with bodies, and asks the application's database who it is.
type bodies struct {
	source.Reader
	rows source.Reader
}

func (b *bodies) Describe(ctx context.Context) (string, error) {
	who, err := b.rows.Describe(ctx)
	if err != nil {
		return "", err
	}
	held, err := b.Reader.Describe(ctx)
	return who + ", with an outbox; " + held, err
}

func (b *bodies) Close() {
	b.Reader.Close()
	b.rows.Close()
}

// notices reads the application's tables.
type notices struct {
	source.Reader
	store *intake.Store
}

func (n *notices) Close() {
	n.Reader.Close()
	n.store.Close()
}

// pump moves rows with bodies into the intake, whose feed notices what that changes.
type pump struct {
	intake.Feed
	table *table
	store *intake.Store
}

// pumpAtOnce is how many rows are moved together.
const pumpAtOnce = 2000

// Changes moves what is in the outbox first, whatever its numbers. Rows are settled once the intake has them on disk;
// those that are moved again, after a crash in between, are moved with all that came after them.
func (p *pump) Changes(ctx context.Context, limit int) ([]change.Change, error) {
	for {
		rows, err := p.table.read(ctx, journal.Read{From: math.MinInt64, Limit: pumpAtOnce})
		if err != nil {
			return nil, err
		}
		if err := p.move(ctx, rows); err != nil {
			return nil, err
		}
		if len(rows) < pumpAtOnce {
			return p.Feed.Changes(ctx, limit)
		}
	}
}

// move puts rows into the intake in the order in which they were written. A writer that changes a record holds it until the
// change is committed, so of two rows of a record the later one is read later, or with the earlier one. Then times tell
// which it is, where there are any, else numbers.
func (p *pump) move(ctx context.Context, rows []row) error {
	if len(rows) == 0 {
		return nil
	}
	slices.SortStableFunc(rows, func(a, b row) int {
		if a.at == nil || b.at == nil {
			return 0
		}
		return timeOf(*a.at).Compare(timeOf(*b.at))
	})
	var events []intake.Event
	var unread []source.Receipt
	ids := make([]int64, len(rows))
	for i := range rows {
		ids[i] = rows[i].id
		e, reason := p.event(&rows[i])
		if reason != "" {
			unread = append(unread, rows[i].receipt(p.table.Options, reason))
			continue
		}
		events = append(events, e)
	}
	if _, err := p.Accept(ctx, events); err != nil {
		return err
	}
	if len(unread) > 0 {
		if err := p.store.Note(ctx, unread...); err != nil {
			return err
		}
	}
	return p.table.settle(ctx, ids)
}

// event is what a row says of a record. Its name has the time when it was read: numbers may come again.
func (p *pump) event(r *row) (e intake.Event, reason string) {
	o := p.table.Options
	e = intake.Event{
		ID:     fmt.Sprintf("outbox row %d, read at %s", r.id, time.Now().UTC().Format(time.RFC3339Nano)),
		Record: o.record(r),
	}
	if _, is := o.Records[e.Record]; !is {
		return e, fmt.Sprintf("the record %q is none that records names", e.Record)
	}
	key, reason := o.key(r)
	if reason != "" {
		return e, reason
	}
	if e.Key = strings.Join(key, ","); len(e.Key) > intake.LongestKey {
		return e, fmt.Sprintf("a key has at most %d bytes", intake.LongestKey)
	}
	if e.Op, reason = o.operation(r); reason != "" {
		return e, reason
	}
	switch {
	case e.Op == intake.Deleted || r.body == nil && o.Operation == "":
		e.Op = intake.Deleted
	case r.body == nil:
		return e, "the body is missing"
	default:
		var object map[string]json.RawMessage
		if err := json.Unmarshal([]byte(*r.body), &object); err != nil || object == nil {
			return e, "the body is no JSON object"
		}
		e.Body = []byte(*r.body)
	}
	return e, ""
}

// Depth is what waits in the outbox and in the intake.
func (p *pump) Depth(ctx context.Context) (source.Depth, error) {
	d, err := p.Feed.Depth(ctx)
	if err != nil {
		return d, err
	}
	waiting, err := p.table.depth(ctx)
	d.Changes += waiting.Changes
	if d.Oldest == nil || waiting.Oldest != nil && waiting.Oldest.Before(*d.Oldest) {
		d.Oldest = waiting.Oldest
	}
	return d, err
}

// searched is how many waiting rows are searched for changes of one row.
const searched = 20_000

// ChangesOf lists the changes of a record that wait in the outbox, and then in the intake.
func (p *pump) ChangesOf(ctx context.Context, table shape.Ref, key []string) ([]change.Change, error) {
	out, err := p.Feed.ChangesOf(ctx, table, key)
	if err != nil {
		return nil, err
	}
	rows, err := p.table.read(ctx, journal.Read{Limit: searched})
	for i := range rows {
		e, reason := p.event(&rows[i])
		if reason != "" || e.Key != strings.Join(key, ",") || intake.RecordOf(table) != e.Record {
			continue
		}
		op := change.Update
		if e.Op == intake.Deleted {
			op = change.Delete
		}
		c := change.Change{Table: table, Key: key, Op: op}
		if rows[i].at != nil {
			c.At = timeOf(*rows[i].at)
		}
		out = append(out, c)
	}
	return out, err
}

// feed takes rows without bodies for changes of the application's tables.
type feed struct {
	*intake.Claims
	table  *table
	store  *intake.Store
	cursor journal.Cursor
	rows   source.Reader
	// tables are names that rows have and that are tables; one goroutine reads the feed.
	tables map[string]bool
}

// Changes returns rows that it has not returned since the last Rewind. Those that say nothing
// that can be understood have a receipt, and delay no other.
func (f *feed) Changes(ctx context.Context, limit int) ([]change.Change, error) {
	if err := f.Hold(ctx); err != nil {
		return nil, err
	}
	r := f.cursor.Begin(limit)
	rows, err := f.table.read(ctx, r)
	if err != nil {
		return nil, err
	}
	read := make([]change.Change, len(rows))
	for i := range rows {
		read[i] = change.Change{Seq: rows[i].id, At: time.Now()}
	}
	fresh, _ := f.cursor.Took(r, slices.Clone(read))
	var out []change.Change
	var unread []source.Receipt
	var spent []int64
	for i := range rows {
		if !slices.ContainsFunc(fresh, func(c change.Change) bool { return c.Seq == rows[i].id }) {
			continue
		}
		c, reason := f.change(&rows[i])
		if reason == "" {
			if reason, err = f.unknown(ctx, f.table.record(&rows[i])); err != nil {
				f.cursor.Rewind()
				return nil, err
			}
		}
		if reason != "" {
			unread = append(unread, rows[i].receipt(f.table.Options, reason))
			spent = append(spent, rows[i].id)
			continue
		}
		out = append(out, c)
	}
	if len(unread) > 0 {
		if err := f.store.Note(ctx, unread...); err != nil {
			f.cursor.Rewind()
			return nil, err
		}
		if err := f.Done(ctx, spent); err != nil {
			f.cursor.Rewind()
			return nil, err
		}
	}
	return out, nil
}

// unknown says that a name is that of no table, so that a wrong one is not passed over without a word.
func (f *feed) unknown(ctx context.Context, name string) (reason string, err error) {
	if f.tables[name] {
		return "", nil
	}
	facts, err := f.rows.Facts(ctx, []string{name}, nil)
	if err != nil {
		return "", fmt.Errorf("looking for the table %s, which a row of the outbox names: %w", name, err)
	}
	if f.tables[name] = facts.Tables[name] != nil || facts.Denied[name] != ""; f.tables[name] {
		return "", nil
	}
	return fmt.Sprintf("the record %q is no table of the database: correct it, or map it to a table with names", name), nil
}

func (f *feed) change(r *row) (c change.Change, reason string) {
	o := f.table.Options
	name := o.record(r)
	if name == "" {
		return c, "the record is missing"
	}
	c = change.Change{Seq: r.id, Table: f.table.Database.Table(f.table.url, name), Bare: true, At: time.Now()}
	if r.at != nil {
		if at := timeOf(*r.at); !at.IsZero() {
			c.At = at
		}
	}
	if c.Key, reason = o.key(r); reason != "" {
		return c, reason
	}
	op, reason := o.operation(r)
	switch op {
	case intake.Created:
		c.Op = change.Insert
	case intake.Deleted:
		c.Op = change.Delete
	default:
		c.Op = change.Update
	}
	return c, reason
}

// Done settles rows.
func (f *feed) Done(ctx context.Context, seqs []int64) error {
	if err := f.Hold(ctx); err != nil {
		return err
	}
	if err := f.table.settle(ctx, seqs); err != nil {
		return err
	}
	f.cursor.Gone(seqs)
	return nil
}

func (f *feed) Rewind() { f.cursor.Rewind() }

func (f *feed) InFlight() (int, time.Time) { return f.cursor.InFlight() }

func (f *feed) Depth(ctx context.Context) (source.Depth, error) { return f.table.depth(ctx) }

func (f *feed) ChangesOf(ctx context.Context, table shape.Ref, key []string) (out []change.Change, err error) {
	rows, err := f.table.read(ctx, journal.Read{Limit: searched})
	for i := range rows {
		if c, reason := f.change(&rows[i]); reason == "" && c.Table == table && slices.Equal(c.Key, key) {
			out = append(out, c)
		}
	}
	return out, err
}

// capture is the outbox as something that the application has installed.
type capture struct {
	inner source.Capture // of the intake; nil without bodies
	table *table
	rows  source.Reader
}

func (c *capture) Script(_ context.Context, need []shape.Captured) (string, error) {
	note := ""
	if c.table.Operation == "" {
		note = "-- Without a column for the operation, each row counts as an update. For others, add a column operation (text),\n-- and write operation: operation at outbox in the definition.\n"
	}
	out := "-- A good outbox. The application makes it, and writes a row in each transaction that changes a\n-- record.\n" +
		note + c.table.CreateOutbox(c.table.names()) + "\n-- What Pingo needs.\n" + c.table.grants()
	if c.inner == nil { // else records come with the outbox, and no other table is read
		out += dialect.Reading(c.table.Database, c.table.url, need)
	}
	return out, nil
}

func (c *capture) Install(ctx context.Context, owner string, need []shape.Captured) ([]shape.Ref, error) {
	if err := c.there(ctx); err != nil {
		return nil, err
	}
	if c.inner == nil {
		return nil, nil
	}
	return c.inner.Install(ctx, owner, need)
}

// there looks whether the outbox can be read, has all columns, and runs no code of others.
func (c *capture) there(ctx context.Context) error {
	if err := c.table.Safe(ctx, c.table.db, c.table.names()); err != nil {
		return err
	}
	_, err := c.table.read(ctx, journal.Read{Limit: 1})
	return err
}

// RemovalScript is empty: the outbox is the application's, and records of it are in Pingo's own database.
func (c *capture) RemovalScript(context.Context) (string, error) { return "", nil }

func (c *capture) Remove(ctx context.Context) error {
	if c.inner == nil {
		return nil // the outbox is the application's
	}
	return c.inner.Remove(ctx)
}

func (c *capture) Status(ctx context.Context) (source.CaptureStatus, error) {
	if err := c.there(ctx); err != nil {
		return source.CaptureStatus{}, err
	}
	if c.inner != nil {
		return c.inner.Status(ctx)
	}
	return source.CaptureStatus{Installed: true, Tables: []string{c.table.Options.Table}}, nil
}

func (c *capture) Gaps(ctx context.Context, need []shape.Captured) ([]source.Gap, error) {
	if c.inner == nil {
		return nil, nil
	}
	return c.inner.Gaps(ctx, need)
}

func (c *capture) MissingRights(ctx context.Context, _ []shape.Captured) ([]string, error) {
	if err := c.table.Safe(ctx, c.table.db, c.table.names()); err != nil {
		return nil, err
	}
	if _, err := c.table.read(ctx, journal.Read{Limit: 1}); err != nil {
		return []string{
			strings.TrimSpace(c.table.grants()),
		}, nil //nolint:nilerr // what reading says is reported when it is applied
	}
	return []string{}, nil
}

// conventional are names that columns of outboxes often have, by the keys of the definition that name them, with what
// happens without the key.
var conventional = []struct {
	key, without string
	names        []string
}{
	{"operation", "every row counts as an update: a patch replaces the record", []string{"operation", "op", "action"}},
	{"body", "documents are built from the tables, and not from this column", []string{"body", "payload"}},
	{"at", "rows of a record are ordered by their numbers, which may start again", []string{"at", "written_at", "created_at", "occurred_at"}},
}

// unread advises on columns of the outbox that the definition does not name.
func (c *capture) unread(ctx context.Context) ([]source.Advice, error) {
	name := c.table.Options.Table
	facts, err := c.rows.Facts(ctx, []string{name}, nil)
	if err != nil {
		return nil, err
	}
	there := facts.Tables[name]
	if there == nil {
		return nil, nil // reading it says so
	}
	var out []source.Advice
	for _, column := range there.Columns {
		for _, known := range conventional {
			given := map[string]string{"operation": c.table.Operation, "body": c.table.Body, "at": c.table.At}[known.key]
			if given == "" && slices.Contains(known.names, strings.ToLower(column.Name)) {
				out = append(out, source.Advice{Kind: "outbox", Table: name, Message: fmt.Sprintf(
					"the definition does not name the column %s, so %s. To use it, write %s: %[1]s at outbox", column.Name, known.without, known.key)})
			}
		}
	}
	return out, nil
}

func (c *capture) Advice(ctx context.Context, need []shape.Captured, _ []shape.Lookup) ([]source.Advice, error) {
	out := []source.Advice{
		{
			Kind:    "outbox",
			Table:   c.table.Options.Table,
			Message: "only what the application writes there is noticed: rows that are changed by hand, by scripts or by cascades are not, unless they write there, too",
		},
	}
	columns, err := c.unread(ctx)
	if err != nil {
		return nil, err
	}
	out = append(out, columns...)
	if c.inner != nil {
		return out, nil
	}
	for _, n := range need {
		if slices.ContainsFunc(n.Links, func(link string) bool { return !slices.Contains(n.Key, link) }) {
			out = append(out, source.Advice{Kind: "outbox", Table: n.Table.String(), Message: fmt.Sprintf(
				"a row that moves from one row of %s to another, or is deleted, is followed from where it is now alone: write a row for the document that it leaves, too",
				strings.Join(n.Links, ", "),
			)})
		}
	}
	return out, nil
}
