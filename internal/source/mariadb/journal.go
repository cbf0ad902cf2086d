package mariadb

import (
	"cmp"
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"pingo/internal/core/change"
	"pingo/internal/core/shape"
	"pingo/internal/source"
	"pingo/internal/source/journal"
)

// Feed reads the journal.
type Feed struct {
	db     *database
	cursor journal.Cursor

	mu      sync.Mutex // guards what follows
	layouts map[string]journal.Layout
	// settling is a number up to which uncommitted rows are searched, since
	// when.
	settling int64
	since    time.Time
	// settled is one up to which none is left, so that a read of all rows sees them all.
	settled int64
	// behind: there was more to read than was read. Then rows up to end, which was the last one some time ago, are
	// looked at before they are read, and up to committedUpTo they are committed.
	behind             bool
	end, committedUpTo int64
	endSince           time.Time
	// nextStill is when the next check for open writers is due.
	nextStill time.Time
	// highestAwaited is the highest number that was waited for. Its row may be rolled back.
	highestAwaited int64
	// moved is when there were changes last.
	moved time.Time
	// unaided is until when the server is not asked to wait, since it refused to.
	unaided time.Time
	// prelockable: the function prelocked can be called; the next check is at prelockNext.
	prelockable bool
	prelockNext time.Time
	// lookNext is when it is next looked for truncated tables.
	lookNext time.Time
	claim    change.Claim
}

// settleAfter is how old a number is before it is asked whether all rows up to it are there: by
// then whoever took it has written its row. Tests have less time.
var settleAfter = 10 * time.Second

const (
	// stillEvery is the least interval between checks for open writers.
	stillEvery = 50 * time.Millisecond
	// storesEvery is the least interval between checks for truncated tables.
	storesEvery = time.Second
)

var errNoCapture = errors.New(
	"capture was removed from this database, so Pingo does not receive changes: run pingo apply to reinstall capture and refill the indexes",
)

var errSuperseded = &source.Error{Fault: source.Superseded, Err: errors.New(
	"another process reads the changes of this database, or the database was restored from a backup",
)}

// prelocked is a condition that is always true, for every statement that reads or writes the journal. It names a stored
// function, which is not called. But a statement with one opens its tables as a statement that fires triggers does, and
// marks them as unused when it ends. Without that, MariaDB gives the tables, still marked as used, to a session that runs
// LOCK TABLES on a captured table, and refuses the writes of that session: error 1442, table journal is already used.
func (p *Feed) prelocked(ctx context.Context) string {
	p.mu.Lock()
	is, look := p.prelockable, !p.prelockable && time.Now().After(p.prelockNext)
	p.mu.Unlock()
	if look {
		callable, err := p.db.prelockable(ctx)
		is = err == nil && callable // if the server does not answer, the statement says so
		p.mu.Lock()
		p.prelockable, p.prelockNext = is, time.Now().Add(prelockEvery)
		p.mu.Unlock()
	}
	if !is {
		return "true"
	}
	return p.db.callPrelocked()
}

// callPrelocked is the condition with the function, which must be there.
func (db *database) callPrelocked() string {
	return "(true OR " + quoteName(db.capture) + ".prelocked())"
}

// prelockEvery is the time between two attempts to call the function prelocked.
const prelockEvery = 30 * time.Second

// prelockable reports whether Pingo may call the function prelocked.
func (db *database) prelockable(ctx context.Context) (bool, error) {
	var yes bool
	err := db.QueryRowContext(ctx, "SELECT "+quoteName(db.capture)+".prelocked()").Scan(&yes)
	if withoutFunction(err) {
		return false, nil
	}
	return yes, explain(err)
}

// withoutFunction reports whether a function could not be called.
func withoutFunction(err error) bool {
	n := numberOf(err)
	return n == noFunction || n == executeDenied || n == noDefiner || n == noDatabase || n == databaseDenied
}

// withoutPrelocking makes the next statement look for the function prelocked again, if one could not call it.
func (p *Feed) withoutPrelocking(err error) {
	if withoutFunction(err) {
		p.mu.Lock()
		p.prelockable, p.prelockNext = false, time.Time{}
		p.mu.Unlock()
	}
}

func (p *Feed) journalError(err error) error {
	p.withoutPrelocking(err)
	if n := numberOf(err); n == noTable || n == noDatabase || n == databaseDenied {
		return &source.Error{Fault: source.NoCapture, Err: errNoCapture}
	}
	return wrap("reading the journal", err)
}

func (p *Feed) owner() string { return quoteName(p.db.capture) + ".owner" }

// claimed reads a claim. The history of a database shows in the server's number, which another
// one of a group of replicas has not, and by when its capture was made.
const claimed = "service, holder, epoch, mark, concat(@@server_id, '/', born)"

// Claimed reads who has claimed the journal.
func (p *Feed) Claimed(ctx context.Context) (change.Claim, error) {
	var c change.Claim
	err := p.db.QueryRowContext(ctx, "SELECT "+claimed+" FROM "+p.owner()).
		Scan(&c.Service, &c.Holder, &c.Epoch, &c.Mark, &c.History)
	if errors.Is(err, sql.ErrNoRows) {
		return change.Claim{}, nil
	}
	if err != nil {
		return c, p.journalError(err)
	}
	return c, nil
}

// Claim claims the journal, if its claim is still as it was found.
func (p *Feed) Claim(ctx context.Context, found, c change.Claim) error {
	if err := p.db.own(ctx); err != nil {
		return err
	}
	return p.move(ctx, found, c, fmt.Sprintf("service = %s AND ", text(c.Service)))
}

// Beat moves the mark of the claim on, if it is still as it was found.
func (p *Feed) Beat(ctx context.Context, found change.Claim) (change.Claim, error) {
	next := found
	next.Mark++
	return next, p.move(ctx, found, next, "")
}

// move replaces the claim that was found by another one.
func (p *Feed) move(ctx context.Context, found, c change.Claim, also string) error {
	result, err := p.db.ExecContext(ctx, fmt.Sprintf(
		"UPDATE %s SET holder = %s, epoch = %d, mark = %d WHERE %sholder = %s AND epoch = %d AND mark = %d AND concat(@@server_id, '/', born) = %s",
		p.owner(),
		text(c.Holder),
		c.Epoch,
		c.Mark,
		also,
		text(found.Holder),
		found.Epoch,
		found.Mark,
		text(found.History),
	))
	if err != nil {
		return p.journalError(err)
	}
	if n, err := result.RowsAffected(); err != nil || n == 0 {
		return errors.Join(errSuperseded, err)
	}
	c.History = found.History
	p.mu.Lock()
	defer p.mu.Unlock()
	p.claim = c
	return nil
}

// ours is the condition that the claim still stands under which the journal is read.
func (p *Feed) ours() string {
	p.mu.Lock()
	defer p.mu.Unlock()
	return fmt.Sprintf(
		"EXISTS (SELECT 1 FROM %s WHERE epoch > 0 AND holder = %s AND epoch = %d AND mark >= %d)",
		p.owner(),
		text(p.claim.Holder),
		p.claim.Epoch,
		p.claim.Mark,
	)
}

// Changes returns at most limit rows of the journal that it has not returned since the last
// Rewind.
func (p *Feed) Changes(ctx context.Context, limit int) ([]change.Change, error) {
	if err := p.noteStores(ctx); err != nil {
		return nil, err
	}
	if err := p.settle(ctx); err != nil {
		return nil, err
	}
	if err := p.foresee(ctx); err != nil {
		return nil, err
	}
	r := p.cursor.Begin(limit)
	rows, err := p.db.QueryContext(ctx, fmt.Sprintf(
		"SELECT %s; SELECT seq, at, layout, op, changed, `key`, was, `before`, `after` FROM %s.journal WHERE %s AND seq > %d AND seq <> -1 ORDER BY seq LIMIT %d",
		p.ours(),
		quoteName(p.db.capture),
		p.prelocked(ctx),
		r.From,
		r.Limit,
	))
	if err != nil {
		return nil, p.journalError(err)
	}
	defer rows.Close()
	ours := false
	for rows.Next() {
		if err := rows.Scan(&ours); err != nil {
			return nil, p.journalError(err)
		}
	}
	if err := rows.Err(); err != nil {
		return nil, p.journalError(err)
	}
	if !ours {
		return nil, errSuperseded
	}
	if !rows.NextResultSet() {
		return nil, p.journalError(cmp.Or(rows.Err(), errors.New("only one of two answers came")))
	}
	var noted []row
	err = eachRow(rows, func(v []sql.RawBytes) error {
		n, err := readRow(v)
		noted = append(noted, n)
		return err
	})
	if err != nil {
		return nil, p.journalError(err)
	}
	read, err := p.changes(ctx, noted)
	if err != nil {
		return nil, err
	}
	fresh, seen := p.cursor.Took(r, read)
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.behind = len(noted) == r.Limit; len(fresh) > 0 {
		p.moved = time.Now()
	}
	if r.Whole {
		p.highestAwaited = 0 // its row may have been rolled back, or the numbers set back
	}
	if r.Full && p.settled > 0 && p.settled <= seen {
		p.cursor.Settle(p.settled)
		p.settled = 0
	}
	return fresh, nil
}

// settle looks for a number below which no uncommitted row can exist. A row that is not committed
// is locked, so a locking read of it fails; nothing waits.
func (p *Feed) settle(ctx context.Context) error {
	p.mu.Lock()
	if p.settling == 0 {
		p.settling, p.since = max(p.cursor.High(), p.highestAwaited), time.Now()
	}
	number, early := p.settling, time.Since(p.since) < settleAfter
	p.mu.Unlock()
	if number == 0 || early {
		return nil
	}
	open := false
	for above := p.cursor.Low(); above < number && !open; {
		var err error
		if above, open, err = p.open(ctx, above, number); err != nil {
			return err
		}
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	p.since = time.Now() // for the next attempt
	if !open {
		p.settling, p.settled = 0, number
	}
	return nil
}

// open reports whether a row above a number and up to another one is locked, as those are that are not committed,
// and up to which number it has looked.
func (p *Feed) open(ctx context.Context, above, upto int64) (looked int64, open bool, err error) {
	var rows int
	err = p.db.QueryRowContext(ctx, fmt.Sprintf(`SELECT count(*), coalesce(max(seq), 0) FROM (
		SELECT seq FROM %s.journal WHERE %s AND seq > %d AND seq <> -1 AND seq <= %d ORDER BY seq LIMIT %d LOCK IN SHARE MODE NOWAIT) r`,
		quoteName(p.db.capture), p.prelocked(ctx), above, upto, lockedAtOnce)).Scan(&rows, &looked)
	switch {
	case numberOf(err) == lockWait:
		return above, true, nil
	case err != nil:
		return above, false, p.journalError(err)
	case rows < lockedAtOnce:
		looked = upto // there are no more
	}
	return looked, false, nil
}

const (
	// lockedAtOnce bounds how many rows are locked together, for a moment.
	lockedAtOnce = 20_000
	// mostForeseen is how far above the last read numbers are checked, and foreseesFor how long that may delay a read.
	mostForeseen = 4_000_000
	foreseesFor  = 100 * time.Millisecond
)

// foresee looks whether rows are committed that wait to be read, where many do. They are above all that was read: what
// was is locked now and then by those who delete it.
func (p *Feed) foresee(ctx context.Context) error {
	p.mu.Lock()
	above := max(p.committedUpTo, p.cursor.High())
	behind, end, since := p.behind, p.end, p.endSince
	p.mu.Unlock()
	most := p.cursor.High() + mostForeseen
	if !behind || above >= most {
		return nil
	}
	began := time.Now()
	if end <= above {
		err := p.db.QueryRowContext(ctx, fmt.Sprintf("SELECT coalesce(max(seq), 0) FROM %s.journal WHERE %s", quoteName(p.db.capture), p.prelocked(ctx))).
			Scan(&end)
		if err != nil {
			return p.journalError(err)
		}
		since = began
	}
	if end > above && time.Since(since) < settleAfter && p.still(ctx) {
		since = time.Time{} // as old as can be
	}
	for time.Since(since) >= settleAfter && above < min(end, most) && time.Since(began) < foreseesFor {
		upto, open, err := p.open(ctx, above, end)
		if err != nil {
			return err
		}
		if open {
			since = time.Now() // for the next attempt
			break
		}
		p.cursor.AllCommitted(above, upto)
		above = upto
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	p.end, p.endSince, p.committedUpTo = end, since, above
	return nil
}

// still reports whether no transaction is open at this moment that has written to the journal, or has taken a number
// to: every writer has locked the table's definition before. So it is known immediately what takes settleAfter
// otherwise. The lock waits for no transaction, and is released immediately.
func (p *Feed) still(ctx context.Context) bool {
	p.mu.Lock()
	now := time.Now()
	early := now.Before(p.nextStill)
	if !early {
		p.nextStill = now.Add(stillEvery)
	}
	p.mu.Unlock()
	if early {
		return false
	}
	conn, err := p.db.Conn(ctx)
	if err != nil {
		return false
	}
	defer conn.Close()
	_, err = conn.ExecContext(
		ctx,
		fmt.Sprintf("LOCK TABLES %s.journal READ NOWAIT; UNLOCK TABLES", quoteName(p.db.capture)),
	)
	if err != nil && numberOf(err) != lockWait {
		discard(conn) // it may have the lock; without the right to it, Pingo waits as before
	}
	return err == nil
}

// CommittedBy is by when a change was committed, if that was known before it was read.
func (p *Feed) CommittedBy(seq int64) (by time.Time, known bool) { return p.cursor.CommittedBy(seq) }

const (
	// looksEvery is how often the server looks at the journal while it waits. It is woken for each look, so it looks
	// half as often where nothing was written for quietAfter.
	looksEvery = 20 * time.Millisecond
	quietAfter = 30 * time.Second
	// unaidedFor is how long it is not asked again after it refused.
	unaidedFor = time.Minute
)

// Await waits in the server until a row is written to the journal, which is seen before it is committed and costs
// writers nothing. It cannot wait while a row may be there that is not committed, since nothing tells when it is.
func (p *Feed) Await(ctx context.Context, most time.Duration) (none time.Time, waited bool) {
	began := time.Now()
	p.mu.Lock()
	last, unaided, every := max(p.cursor.High(), p.highestAwaited), p.unaided, looksEvery
	if began.Sub(p.moved) > quietAfter {
		every *= 2
	}
	p.mu.Unlock()
	if p.cursor.Low() < last || began.Before(unaided) {
		return none, false
	}
	looks := max(1, most/every)
	var seen, slept int64
	conn, err := p.db.Conn(ctx)
	if err == nil {
		defer conn.Close()
		// No snapshot is held meanwhile: rows that are not committed are read as they are.
		err = conn.QueryRowContext(ctx, fmt.Sprintf(`SET TRANSACTION ISOLATION LEVEL READ UNCOMMITTED; START TRANSACTION READ ONLY;
			BEGIN NOT ATOMIC
				DECLARE last bigint DEFAULT 0; DECLARE looks int DEFAULT 0;
				SELECT coalesce(max(seq), 0) INTO last FROM %s.journal WHERE %[5]s;
				WHILE last <= %[2]d AND looks < %[3]d DO
					DO sleep(%[4]f);
					SELECT coalesce(max(seq), 0) INTO last FROM %[1]s.journal WHERE %[5]s;
					SET looks = looks + 1;
				END WHILE;
				SELECT last, looks;
			END; COMMIT`, quoteName(p.db.capture), last, looks, every.Seconds(), p.prelocked(ctx))).Scan(&seen, &slept)
		if err != nil {
			discard(conn)
		}
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	if err != nil {
		p.unaided = time.Now().Add(unaidedFor)
		return none, false // the next read says why
	}
	if seen <= last {
		return began.Add(looks * every), true // it slept before each look, so the last was not earlier
	}
	p.highestAwaited = seen
	return none, slept > 0 // a row that was there immediately was there when the journal was read
}

// row is a journal row, and the number of its layout.
type row struct {
	journal.Row
	layout string
}

func readRow(v []sql.RawBytes) (n row, err error) {
	if n.Seq, err = strconv.ParseInt(string(v[0]), 10, 64); err != nil {
		return n, err
	}
	if n.At, err = time.Parse("2006-01-02 15:04:05.999999", string(v[1])); err != nil {
		return n, err
	}
	n.layout, n.Op = string(v[2]), string(v[3])
	if v[4] != nil {
		changed, err := strconv.ParseInt(string(v[4]), 10, 32)
		if err != nil {
			return n, err
		}
		bits := int32(changed)
		n.Changed = &bits
	}
	for i, into := range []**string{&n.Key, &n.Was, &n.Before, &n.After} {
		if v[5+i] != nil {
			s := string(v[5+i])
			*into = &s
		}
	}
	return n, nil
}

// several takes a JSON list apart, as the triggers write the values of several columns.
func several(text string) (list []*string, err error) {
	err = json.Unmarshal([]byte(text), &list)
	return list, err
}

const (
	// searched is how many changes are searched for those of a row, and told how many are returned.
	searched, told = 200_000, 20
)

// ChangesOf lists some of the changes of a row that are not done.
func (p *Feed) ChangesOf(ctx context.Context, table shape.Ref, key []string) ([]change.Change, error) {
	values := make([]string, len(key))
	for i, v := range key {
		values[i] = text(v)
	}
	wanted := values[0]
	if len(values) > 1 {
		wanted = "JSON_ARRAY(" + strings.Join(values, ", ") + ")"
	}
	rows, err := p.db.QueryContext(ctx, fmt.Sprintf(
		"SELECT seq, at, layout, op, changed, `key`, was, `before`, `after` FROM (SELECT * FROM %s.journal WHERE %s ORDER BY seq DESC LIMIT %d) j WHERE %s IN (`key`, was) ORDER BY seq DESC LIMIT %d",
		quoteName(p.db.capture), p.prelocked(ctx), searched, wanted, told,
	))
	if err != nil {
		return nil, p.journalError(err)
	}
	defer rows.Close()
	var found []row
	err = eachRow(rows, func(v []sql.RawBytes) error {
		n, err := readRow(v)
		found = append(found, n)
		return err
	})
	if err != nil {
		return nil, p.journalError(err)
	}
	slices.Reverse(found)
	changes, err := p.changes(ctx, found)
	return slices.DeleteFunc(changes, func(c change.Change) bool { return c.Table != table }), err
}

// changes reads journal rows by their layouts, which are read as they appear.
func (p *Feed) changes(ctx context.Context, rows []row) ([]change.Change, error) {
	out := make([]change.Change, len(rows))
	for i, n := range rows {
		p.mu.Lock()
		known, ok := p.layouts[n.layout]
		p.mu.Unlock()
		if !ok {
			layouts, err := p.readLayouts(ctx)
			if err != nil {
				return nil, err
			}
			p.mu.Lock()
			p.layouts = layouts
			p.mu.Unlock()
			if known, ok = layouts[n.layout]; !ok {
				return nil, fmt.Errorf(
					"journal row %d has layout %s, but %s.layouts has no such row: run pingo capture install, then reindex",
					n.Seq,
					n.layout,
					p.db.capture,
				)
			}
		}
		out[i] = n.Change(known, several)
	}
	return out, nil
}

func (p *Feed) readLayouts(ctx context.Context) (map[string]journal.Layout, error) {
	rows, err := p.db.texts(
		ctx,
		fmt.Sprintf(
			"SELECT id, schema_name, table_name, key_columns, links, column_groups FROM %s.layouts",
			quoteName(p.db.capture),
		),
	)
	if err != nil {
		return nil, wrap("reading the journal's layouts", err)
	}
	out := map[string]journal.Layout{}
	for _, r := range rows {
		l := journal.Layout{Table: shape.Ref{Schema: r[1], Name: r[2]}}
		if err := errors.Join(json.Unmarshal([]byte(r[3]), &l.Key), json.Unmarshal([]byte(r[4]), &l.Links), json.Unmarshal([]byte(r[5]), &l.Groups)); err != nil {
			return nil, errors.New(
				"a layout of the journal was changed and cannot be read: run pingo capture remove, then pingo apply",
			)
		}
		out[r[0]] = l
	}
	return out, nil
}

// noteStores writes a truncate into the journal for every table that is kept in something else
// than when it was last looked at, since no trigger sees that, and for all of them when that is the journal.
func (p *Feed) noteStores(ctx context.Context) error {
	p.mu.Lock()
	wait := time.Now().Before(p.lookNext)
	p.mu.Unlock()
	if wait {
		return nil
	}
	began := time.Now()
	defer func() {
		p.mu.Lock()
		p.lookNext = time.Now().Add(max(storesEvery, 50*time.Since(began)))
		p.mu.Unlock()
	}()
	stores, err := p.db.stores(ctx)
	if err != nil {
		return err
	}
	in := quoteName(p.db.capture)
	rows, err := p.db.texts(ctx, fmt.Sprintf("SELECT id, schema_name, table_name, coalesce(store, '') FROM %s.layouts", in))
	if err != nil {
		return p.journalError(err)
	}
	own := cmp.Or(stores[shape.Ref{Schema: p.db.capture, Name: "journal"}], stores[shape.Ref{Schema: fileName(p.db.capture), Name: "journal"}])
	if own != "" && !slices.ContainsFunc(rows, func(r []string) bool { return r[0] == ownLayout }) {
		_, err := p.db.ExecContext(ctx, fmt.Sprintf("INSERT IGNORE INTO %s.layouts (id, schema_name, table_name, key_columns, links, triggers, cascades, store) VALUES (%s, %s, 'journal', '[]', '[]', '[]', '[]', %s)",
			in, ownLayout, text(p.db.capture), text(own)))
		if err != nil {
			return p.journalError(err)
		}
	}
	for _, r := range rows {
		now := stores[shape.Ref{Schema: r[1], Name: r[2]}]
		if now == r[3] || now == "" {
			continue
		}
		still := fmt.Sprintf("FROM %s.layouts WHERE id = %s AND coalesce(store, '') = %s", in, r[0], text(r[3]))
		noted := "SELECT id, 't' " + still + " AND " + p.prelocked(ctx)
		if r[0] == ownLayout { // with changes of any table
			noted = fmt.Sprintf("SELECT min(id), 't' FROM %s.layouts WHERE id <> %s AND EXISTS (SELECT 1 %s) AND %s GROUP BY schema_name, table_name", in, ownLayout, still, p.prelocked(ctx))
		}
		// One statement for both would need a trigger; a process that is stopped in between records it again.
		_, err := p.db.ExecContext(ctx, fmt.Sprintf("START TRANSACTION; INSERT INTO %s.journal (layout, op) %s; UPDATE %[1]s.layouts SET store = %[3]s WHERE id = %[4]s; COMMIT",
			in, noted, text(now), r[0]))
		if err != nil {
			return p.journalError(err)
		}
		if r[0] == ownLayout {
			if _, err := p.db.ExecContext(ctx, p.db.keptRow(p.prelocked(ctx))); err != nil {
				return p.journalError(err)
			}
			return errEmptied
		}
	}
	return nil
}

// errEmptied ends a claim, so that nothing that was asked under it settles a row whose number was given again.
var errEmptied = &source.Error{Fault: source.Superseded, Err: errors.New(
	"the journal was emptied or rebuilt: Pingo rebuilds the documents of all tables and reads the journal from its start",
)}

// ownLayout is the number of the layout that tells in what the journal itself is kept: another one after it was emptied.
const ownLayout = "0"

// numbered is rows r of a table, each found by its number: with a list of numbers, or a range, all that
// lies between is locked where there are many, and writers are waited for.
func numbered(numbers []int64, table, column string) (string, error) {
	list, err := json.Marshal(slices.Sorted(slices.Values(numbers)))
	return fmt.Sprintf("JSON_TABLE('%s', '$[*]' COLUMNS (n bigint PATH '$')) k STRAIGHT_JOIN %s r %s ON r.%s = k.n",
		list, table, onlyTables, column), err
}

// Done deletes rows that are done.
func (p *Feed) Done(ctx context.Context, seqs []int64) error {
	if len(seqs) == 0 {
		return nil
	}
	some, err := numbered(seqs, quoteName(p.db.capture)+".journal", "seq")
	if err != nil {
		return err
	}
	ours := p.ours()
	locked := strings.TrimSuffix(strings.TrimPrefix(ours, "EXISTS ("), ")") + " LOCK IN SHARE MODE"
	conn, err := p.db.Conn(ctx)
	if err != nil {
		return explain(err)
	}
	defer conn.Close()
	rows, err := conn.QueryContext(
		ctx,
		fmt.Sprintf("START TRANSACTION; %s; DELETE r FROM %s WHERE %s AND %s; COMMIT", locked, some, ours, p.prelocked(ctx)),
	)
	held := false
	if err == nil {
		for rows.Next() {
			held = true
		}
		for rows.NextResultSet() {
		}
		err = errors.Join(rows.Err(), rows.Close())
	}
	if err != nil {
		discard(conn)
		p.withoutPrelocking(err)
		return wrap("deleting done changes from the journal", err)
	}
	if !held {
		return errSuperseded
	}
	p.cursor.Gone(seqs)
	return nil
}

// Rewind forgets what was handed out, so that all that is left is read again.
func (p *Feed) Rewind() {
	p.cursor.Rewind()
	p.mu.Lock()
	defer p.mu.Unlock()
	p.layouts, p.settling, p.settled = nil, 0, 0
	p.behind, p.end, p.committedUpTo = false, 0, 0
}

// InFlight is how many changes were returned and are not done, and when the oldest of
// them was made.
func (p *Feed) InFlight() (n int, oldest time.Time) { return p.cursor.InFlight() }

const countedRows = 50_000

// Depth reads how much the journal holds, without reading much of it.
func (p *Feed) Depth(ctx context.Context) (source.Depth, error) {
	var d source.Depth
	var at sql.NullString
	var clock string
	in := quoteName(p.db.capture)
	err := p.db.QueryRowContext(ctx, fmt.Sprintf(`SELECT count(*), coalesce(min(seq), 0), min(at),
			(SELECT greatest(coalesce((SELECT max(seq) FROM %s.journal WHERE %[5]s), 0), coalesce((SELECT AUTO_INCREMENT - 1 FROM information_schema.TABLES WHERE TABLE_SCHEMA = %[2]s AND TABLE_NAME = 'journal'), 0))),
			(SELECT coalesce(sum(DATA_LENGTH + INDEX_LENGTH), 0) FROM information_schema.TABLES WHERE TABLE_SCHEMA = %[2]s AND TABLE_NAME = 'journal'), sysdate(6)
		FROM (SELECT seq, at FROM %[1]s.journal WHERE %[5]s AND seq > %[3]d AND seq <> -1 ORDER BY seq LIMIT %[4]d) first_ones`, in, text(p.db.capture), p.cursor.Below(), countedRows, p.prelocked(ctx))).
		Scan(&d.Changes, &d.First, &at, &d.Last, &d.Bytes, &clock)
	if err != nil {
		return d, p.journalError(err)
	}
	if d.Clock, err = time.Parse("2006-01-02 15:04:05.999999", clock); err != nil {
		return d, fmt.Errorf("reading the clock of the server: %w", err)
	}
	if at.Valid {
		oldest, err := time.Parse("2006-01-02 15:04:05.999999", at.String)
		if err != nil {
			return d, fmt.Errorf("reading the journal: %w", err)
		}
		d.Oldest = &oldest
	}
	if d.Changes == countedRows {
		d.Changes = max(d.Changes, d.Last-d.First+1)
	}
	return d, nil
}
