package postgres

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgtype"

	"pingo/internal/core/change"
	"pingo/internal/core/shape"
	"pingo/internal/pgerror"
	"pingo/internal/source"
	"pingo/internal/source/journal"
)

// Feed reads the journal.
type Feed struct {
	pool   *database
	cursor journal.Cursor

	mu    sync.Mutex // guards what follows
	marks []mark
	// behind: there was more to read than was read, so it is worth knowing soon what is committed.
	behind bool
	last   int64 // the highest number that was taken at the last read
	// moved is when that changed.
	moved time.Time
	// unaided is until when the server is not asked to wait, since it refused to.
	unaided time.Time
	marked  time.Time
	layouts map[int32]journal.Layout
	// looked is when materialised views were last looked at.
	looked time.Time
	// claim is that under which the journal is read.
	claim change.Claim
	// run is which run of the server the changes in flight were read in; see runMark.
	run string
}

// mark says: sequence numbers up to seq were taken by transactions below xid. Once
// no transaction below xid runs any longer, every row up to seq is there to be seen.
type mark struct {
	seq int64
	xid uint64
}

// errNoCapture says that the journal is gone.
var errNoCapture = errors.New(
	"capture was removed from this database, so Pingo does not receive changes: run pingo apply to reinstall capture and refill the indexes",
)

// markEvery bounds how often a mark is set, since each takes a transaction number.
const markEvery = 50 * time.Millisecond

// several takes the text of an array apart, as the triggers write the values of several columns.
func several(text string) ([]*string, error) {
	var list []*string
	err := arrays.Scan(pgtype.TextArrayOID, pgtype.TextFormatCode, []byte(text), &list)
	return list, err
}

var arrays = pgtype.NewMap()

// noted is a journal row, and the number of its layout.
type noted struct {
	journal.Row
	layout int32
}

// claimed reads who has claimed the journal. The history of a database shows in its
// identity and by its timeline: this one changes when a copy goes on by itself.
const (
	history = "((SELECT system_identifier FROM pg_control_system()) || '/' || (SELECT timeline_id FROM pg_control_checkpoint()))"
	claimed = "service, coalesce(holder, '') AS holder, coalesce(epoch, 0) AS epoch, mark, " + history + " AS history"
)

// Claimed reads who has claimed the journal.
func (p *Feed) Claimed(ctx context.Context) (change.Claim, error) {
	return oneClaim(p.pool.Query(ctx, "SELECT "+claimed+" FROM pingo_capture.owner"))
}

// updateClaim runs an update that returns the claim, if it is what was expected.
func (p *Feed) updateClaim(ctx context.Context, update string, args ...any) (change.Claim, error) {
	return oneClaim(p.pool.Pool.Pool.Query(ctx, p.pool.named(update+" RETURNING "+claimed), args...))
}

// oneClaim is the claim in the rows of a query; it is zero when there are none.
func oneClaim(rows pgx.Rows, err error) (change.Claim, error) {
	if err != nil {
		return change.Claim{}, journalError(err)
	}
	list, err := pgx.CollectRows(rows, pgx.RowToStructByName[change.Claim])
	if err != nil {
		return change.Claim{}, journalError(err)
	}
	if len(list) == 0 {
		return change.Claim{}, nil
	}
	return list[0], nil
}

// Claim claims the journal, if its claim is still as it was found.
func (p *Feed) Claim(ctx context.Context, found, c change.Claim) error {
	if err := ownSchema(ctx, p.pool, p.pool.capture); err != nil {
		return err
	}
	now, err := p.updateClaim(ctx, `UPDATE pingo_capture.owner SET holder = $2, epoch = $3, mark = $4
		WHERE service = $1 AND coalesce(holder, '') = $5 AND coalesce(epoch, 0) = $6 AND mark = $7 AND `+history+` = $8`,
		c.Service, c.Holder, c.Epoch, c.Mark, found.Holder, found.Epoch, found.Mark, found.History)
	if err != nil {
		return err
	}
	if now.Epoch == 0 {
		return errSuperseded
	}
	run, err := p.runNow(ctx)
	if err != nil {
		return err
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	p.claim, p.run = now, run
	return nil
}

// runMark is SQL for what is another value after each start of the server, and after each recovery from a crash.
const runMark = "(pg_postmaster_start_time()::text || coalesce((SELECT ' ' || stats_reset FROM pg_stat_bgwriter), ''))"

func (p *Feed) runNow(ctx context.Context) (run string, err error) {
	if err = p.pool.QueryRow(ctx, "SELECT "+runMark).Scan(&run); err != nil {
		return "", journalError(err)
	}
	return run, nil
}

// lookForLost looks, after the server was started again or recovered, for changes that were read and are no longer in the
// journal: with synchronous_commit off, a crash takes back transactions that were seen as committed, and later ones get
// their numbers. Then all tables count as changed, and the claim ends. Changes that are done cannot be lost: the
// transaction that deletes them waits until it is on disk.
func (p *Feed) lookForLost(ctx context.Context) error {
	run, err := p.runNow(ctx)
	if err != nil {
		return err
	}
	p.mu.Lock()
	same, last := run == p.run, p.last
	p.mu.Unlock()
	if same {
		return nil
	}
	var seqs []int64
	var at []time.Time
	for seq, made := range p.cursor.Handed() {
		seqs, at = append(seqs, seq), append(at, made)
	}
	var lost int
	err = pgx.BeginFunc(ctx, p.pool, func(tx pgx.Tx) error {
		err := tx.QueryRow(ctx, p.pool.named(`SELECT count(*) FROM unnest($1::bigint[], $2::timestamptz[]) AS read(seq, at)
			WHERE NOT EXISTS (SELECT FROM pingo_capture.journal j WHERE j.seq = read.seq AND j.at = read.at)`), seqs, at).Scan(&lost)
		if err != nil || lost == 0 {
			return err
		}
		if _, err := tx.Exec(ctx, p.pool.named(forward), last); err != nil {
			return err
		}
		_, err = tx.Exec(ctx, p.pool.named(allChanged))
		return err
	})
	if err != nil {
		return journalError(err)
	}
	p.mu.Lock()
	p.run = run
	p.mu.Unlock()
	if lost > 0 {
		return errLost
	}
	return nil
}

// errLost ends a claim, so that nothing that was asked under it settles a row that got the number of one that was lost.
var errLost = &source.Error{Fault: source.Superseded, Err: errors.New(
	"the database lost committed transactions in a crash (synchronous_commit is off): Pingo rebuilds the documents of all tables and reads the journal from its start",
)}

// forward sets the sequence beyond every number that was handed out, of which $1 is the last known.
const forward = `SELECT setval('pingo_capture.journal_seq', greatest($1, (extract(epoch FROM clock_timestamp()) * 1000000)::bigint,
	(SELECT max(seq) FROM pingo_capture.journal)))`

// Beat moves the mark of the claim on, if it is still as it was found.
func (p *Feed) Beat(ctx context.Context, found change.Claim) (change.Claim, error) {
	now, err := p.updateClaim(
		ctx,
		"UPDATE pingo_capture.owner SET mark = mark + 1 WHERE holder = $1 AND epoch = $2 AND mark = $3 AND "+history+" = $4",
		found.Holder,
		found.Epoch,
		found.Mark,
		found.History,
	)
	if err == nil && now.Epoch == 0 {
		err = errSuperseded
	}
	if err != nil {
		return now, err
	}
	p.mu.Lock()
	p.claim = now
	p.mu.Unlock()
	return now, p.lookForLost(ctx)
}

func (p *Feed) claimNow() change.Claim {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.claim
}

var errSuperseded = &source.Error{Fault: source.Superseded, Err: errors.New(
	"another process reads the changes of this database, or the database was restored from a backup",
)}

// Changes returns at most limit rows of the journal that it has not returned since
// the last Rewind.
func (p *Feed) Changes(ctx context.Context, limit int) ([]change.Change, error) {
	r := p.cursor.Begin(limit)
	p.mu.Lock()
	// A transaction number is taken only while writers take many themselves, and once where many changes wait.
	_, told := p.cursor.CommittedBy(p.last)
	wanted := (r.Full || p.behind && !told) && time.Since(p.marked) > markEvery && p.last > p.cursor.Low() &&
		(len(p.marks) == 0 || p.last > p.marks[len(p.marks)-1].seq)
	p.mu.Unlock()

	var now mark
	var xmin uint64
	var rows []noted
	batch := &pgx.Batch{}
	batch.Queue("BEGIN READ ONLY")
	claim, ours := p.claimNow(), false
	batch.Queue(p.pool.named("SELECT EXISTS (SELECT FROM pingo_capture.owner WHERE holder = $1 AND epoch = $2 AND mark >= $3)"), claim.Holder, claim.Epoch, claim.Mark).
		QueryRow(func(row pgx.Row) error { return row.Scan(&ours) })
	number := func(into *uint64) func(row pgx.Row) error {
		return func(row pgx.Row) error {
			var text string
			if err := row.Scan(&text); err != nil {
				return err
			}
			var err error
			*into, err = strconv.ParseUint(text, 10, 64)
			return err
		}
	}
	// In this order: a writer has its transaction number before it takes one of the
	// sequence, so it is below a transaction number that is taken afterwards. (A
	// snapshot's xmax would not do: it is above completed transactions only.)
	batch.Queue(p.pool.named("SELECT CASE WHEN is_called THEN last_value ELSE 0 END FROM pingo_capture.journal_seq")).
		QueryRow(func(row pgx.Row) error { return row.Scan(&now.seq) })
	if wanted {
		batch.Queue("SELECT pg_current_xact_id()::text").QueryRow(number(&now.xid))
	}
	batch.Queue("SELECT pg_snapshot_xmin(pg_current_snapshot())::text").QueryRow(number(&xmin))
	batch.Queue(p.pool.named(`SELECT seq, at, layout, op::text, changed, key, was, before, after FROM pingo_capture.journal WHERE seq > $1 ORDER BY seq LIMIT $2`), r.From, r.Limit).
		Query(func(result pgx.Rows) error {
			var n noted
			_, err := pgx.ForEachRow(
				result,
				[]any{&n.Seq, &n.At, &n.layout, &n.Op, &n.Changed, &n.Key, &n.Was, &n.Before, &n.After},
				func() error {
					rows = append(rows, n)
					n.Changed, n.Key, n.Was, n.Before, n.After = nil, nil, nil, nil, nil
					return nil
				},
			)
			return err
		})
	cache := int64(1)
	if r.Whole {
		batch.Queue(p.pool.named("SELECT seqcache FROM pg_sequence WHERE seqrelid = 'pingo_capture.journal_seq'::regclass")).
			QueryRow(func(row pgx.Row) error { return row.Scan(&cache) })
	}
	var changed []refreshed
	look := time.Since(p.looked) >= refreshesEvery
	if look {
		batch.Queue(p.pool.named(lookForRefreshes)).Query(func(result pgx.Rows) (err error) {
			changed, err = pgx.CollectRows(result, pgx.RowToStructByPos[refreshed])
			return err
		})
	}
	batch.Queue(rollback)
	if err := p.pool.SendBatch(ctx, batch).Close(); err != nil {
		return nil, journalError(err)
	}
	if !ours {
		return nil, errSuperseded
	}
	if look {
		if err := p.noteRefreshes(ctx, changed); err != nil {
			return nil, err
		}
		if p.looked = time.Now(); len(changed) > 0 {
			return p.Changes(ctx, limit) // now they are in the journal
		}
	}
	if cache > 1 {
		if err := p.takeOneByOne(ctx); err != nil {
			return nil, err
		}
	}
	p.mu.Lock()
	back := now.seq < p.last
	p.mu.Unlock()
	if back || twice(rows) {
		return nil, p.renumber(ctx)
	}
	read, err := p.changes(ctx, rows)
	if err != nil {
		return nil, err
	}
	p.mu.Lock()
	if p.last != now.seq {
		p.last, p.moved = now.seq, time.Now()
	}
	p.behind = len(rows) == r.Limit
	p.mu.Unlock()
	fresh, seen := p.cursor.Took(r, read)
	p.settle(r.Full, seen, now, xmin)
	return fresh, nil
}

// twice reports whether two rows, which are in the order of their numbers, have the same.
func twice(rows []noted) bool {
	for i := range rows[:max(0, len(rows)-1)] {
		if rows[i].Seq == rows[i+1].Seq {
			return true
		}
	}
	return false
}

// errRenumbered ends a claim, so that nothing that was asked under it settles a row whose number was given again.
var errRenumbered = &source.Error{Fault: source.Superseded, Err: errors.New(
	"the sequence of the journal was set back: Pingo has set it forward and reads the journal from its start",
)}

// renumber sets the sequence beyond every number that was handed out, and gives rows that share a number others.
func (p *Feed) renumber(ctx context.Context) error {
	p.mu.Lock()
	last := p.last
	p.mu.Unlock()
	err := pgx.BeginFunc(ctx, p.pool, func(tx pgx.Tx) error {
		_, err := tx.Exec(ctx, p.pool.named(forward), last)
		if err == nil {
			_, err = tx.Exec(ctx, p.pool.named(`UPDATE pingo_capture.journal SET seq = nextval('pingo_capture.journal_seq')
				WHERE seq IN (SELECT seq FROM pingo_capture.journal GROUP BY seq HAVING count(*) > 1)`))
		}
		return err
	})
	if err != nil {
		return wrap("setting the sequence of the journal forward", err)
	}
	return errRenumbered
}

// takeOneByOne has sessions take one number of the journal at a time: those that take several write rows whose numbers
// are lower than what others wrote long before. It waits for no transaction: otherwise Pingo tries again.
func (p *Feed) takeOneByOne(ctx context.Context) error {
	err := pgx.BeginFunc(ctx, p.pool, func(tx pgx.Tx) error {
		_, err := tx.Exec(ctx, "SET LOCAL lock_timeout = '50ms'")
		if err == nil {
			_, err = tx.Exec(ctx, p.pool.named("ALTER SEQUENCE pingo_capture.journal_seq CACHE 1"))
		}
		return err
	})
	if pgerror.Code(err) == "55P03" {
		return nil
	}
	return err
}

const (
	// looksEvery is how often the server looks at the sequence while it waits. It is woken for each look, which is nearly
	// all that an idle source costs, so it looks half as often where nothing was written for quietAfter.
	looksEvery = 20 * time.Millisecond
	quietAfter = 30 * time.Second
	// unaidedFor is how long it is not asked again after it refused.
	unaidedFor = time.Minute
)

// Await waits in the server until a writer takes a number of the journal's sequence, which is seen before it commits
// and costs writers nothing. It cannot wait while a transaction that took one may still be open, since nothing tells
// when that ends.
func (p *Feed) Await(ctx context.Context, most time.Duration) (none time.Time, waited bool) {
	p.mu.Lock()
	last, moved, unaided := p.last, p.moved, p.unaided
	p.mu.Unlock()
	began, every := time.Now(), looksEvery
	if began.Sub(moved) > quietAfter {
		every *= 2
	}
	if p.cursor.Low() < last || began.Before(unaided) {
		return none, false
	}
	looks := max(1, most/every)
	// Each look has a snapshot of its own, and the statement ends soon: locks and dead rows are not held for long.
	seen, err := p.oneText(ctx, fmt.Sprintf(`DO $$ BEGIN PERFORM set_config('pingo.seen', '', true); FOR look IN 1..%d LOOP
		IF (SELECT CASE WHEN is_called THEN last_value ELSE 0 END FROM pingo_capture.journal_seq) <> %d THEN
		PERFORM set_config('pingo.seen', 'yes', true); EXIT; END IF; PERFORM pg_sleep(%f); END LOOP; END $$;
		SELECT current_setting('pingo.seen')`, looks, last, every.Seconds()))
	if err != nil {
		p.mu.Lock()
		p.unaided = time.Now().Add(unaidedFor)
		p.mu.Unlock()
		return none, false // the next read says why
	}
	if seen == "" {
		none = began.Add((looks - 1) * every) // it slept after each look, so the last was not earlier
	}
	return none, true
}

// oneText runs some statements in a read-only transaction of their own, of which the last gives a text.
func (p *Feed) oneText(ctx context.Context, statements string) (string, error) {
	conn, err := p.pool.Acquire(ctx)
	if err != nil {
		return "", err
	}
	defer conn.Release()
	results, err := conn.Conn().PgConn().Exec(ctx, "BEGIN READ ONLY; "+p.pool.named(statements)+"; "+rollback).ReadAll()
	if err != nil {
		return "", err
	}
	if last := results[len(results)-2]; len(last.Rows) == 1 && len(last.Rows[0]) == 1 {
		return string(last.Rows[0][0]), nil
	}
	return "", errors.New("the server gave no text")
}

const (
	// searched is how many changes are searched for those of a row, and told how many are returned.
	searched, told = 200_000, 20
)

// ChangesOf lists some of the changes of a row that are not done.
func (p *Feed) ChangesOf(ctx context.Context, table shape.Ref, key []string) ([]change.Change, error) {
	result, err := p.pool.Query(
		ctx,
		`SELECT seq, at, layout, op::text, changed, key, was, before, after FROM (SELECT * FROM pingo_capture.journal ORDER BY seq DESC LIMIT $2) j
		WHERE CASE WHEN cardinality($1::text[]) = 1 THEN ($1::text[])[1] ELSE ($1::text[])::text END IN (key, was) ORDER BY seq DESC LIMIT $3`,
		key,
		searched,
		told,
	)
	if err != nil {
		return nil, journalError(err)
	}
	var rows []noted
	var n noted
	if _, err := pgx.ForEachRow(result, []any{&n.Seq, &n.At, &n.layout, &n.Op, &n.Changed, &n.Key, &n.Was, &n.Before, &n.After}, func() error {
		rows = append(rows, n)
		n.Changed, n.Key, n.Was, n.Before, n.After = nil, nil, nil, nil, nil
		return nil
	}); err != nil {
		return nil, journalError(err)
	}
	layouts, err := p.readLayouts(ctx) // those that Changes keeps are its own
	if err != nil {
		return nil, err
	}
	var out []change.Change
	for _, n := range slices.Backward(rows) {
		if l, known := layouts[n.layout]; known && l.Table == table {
			out = append(out, n.Change(l, several))
		}
	}
	return out, nil
}

func journalError(err error) error {
	if code := pgerror.Code(err); code == "42P01" || code == "3F000" { // no such table, no such schema
		return &source.Error{Fault: source.NoCapture, Err: errNoCapture}
	}
	return wrap("reading the journal", err)
}

// refreshMark changes when a materialised view v is refreshed, and when a table v gets or loses
// a partition or a child: all of its rows come or go without a trigger.
const refreshMark = `CASE v.relkind WHEN 'm'
	THEN coalesce(pg_relation_filenode(v.oid), 0) || '/' || pg_stat_get_tuples_inserted(v.oid) + pg_stat_get_tuples_updated(v.oid) + pg_stat_get_tuples_deleted(v.oid)
	ELSE coalesce((WITH RECURSIVE below AS (
			SELECT inhrelid FROM pg_inherits WHERE inhparent = v.oid
			UNION SELECT i.inhrelid FROM pg_inherits i JOIN below ON i.inhparent = below.inhrelid
		) SELECT string_agg(inhrelid::text, ',' ORDER BY inhrelid) FROM below), '') END`

// refreshesEvery is the interval between checks of materialised views, with a read. An idle journal is read once a second, so
// that a second and a half is the longest.
const refreshesEvery = 300 * time.Millisecond

// lookForRefreshes lists what was refreshed, or has other parts, since it was last looked at.
const lookForRefreshes = `SELECT * FROM (
		SELECT r.layout, r.mark AS was, ` + refreshMark + ` AS now, v.relkind <> 'm' FROM pingo_capture.refreshed r
		JOIN pingo_capture.layouts l ON l.id = r.layout
		JOIN pg_class v ON v.oid = to_regclass(format('%I.%I', l.schema_name, l.table_name))
	) x WHERE was IS DISTINCT FROM now`

// refreshed is a materialised view, or a table with parts, that is not what it was.
type refreshed struct {
	Layout int32
	Was    *string
	Now    string
	Table  bool
}

// noteRefreshes writes a truncate into the journal for every materialised view that was
// refreshed, and every table that got or lost a part with rows. No
// trigger can do that: a refresh shows in the file that a view is kept in, or, done
// concurrently, in the statistics of rows written, which the session that refreshes may hold
// back for up to ten seconds.
func (p *Feed) noteRefreshes(ctx context.Context, list []refreshed) error {
	for _, c := range list {
		note := true
		if c.Table && c.Was != nil {
			note = p.partsMatter(ctx, *c.Was, c.Now)
		}
		_, err := p.pool.Exec(ctx, `WITH changed AS (UPDATE pingo_capture.refreshed SET mark = $2
				WHERE layout = $1 AND mark IS NOT DISTINCT FROM $3 RETURNING layout)
			INSERT INTO pingo_capture.journal (layout, op) SELECT layout, 't' FROM changed WHERE $4`, c.Layout, c.Now, c.Was, note)
		if err != nil {
			return journalError(err)
		}
	}
	return nil
}

// partsMatter reports whether rows came or went with the parts of a table. A part that is new
// and empty brings none; where that cannot be told, it is not taken for granted.
func (p *Feed) partsMatter(ctx context.Context, was, now string) bool {
	before, after := strings.Split(was, ","), strings.Split(now, ",")
	for _, oid := range before {
		if oid != "" && !slices.Contains(after, oid) {
			return true
		}
	}
	for _, oid := range after {
		if oid == "" || slices.Contains(before, oid) {
			continue
		}
		var name *string
		if err := p.pool.QueryRow(ctx, "SELECT $1::text::oid::regclass::text", oid).Scan(&name); err != nil ||
			name == nil {
			return true
		}
		var filled bool
		err := p.pool.reading(ctx, func(tx pgx.Tx) error {
			return tx.QueryRow(ctx, "SELECT EXISTS (SELECT FROM "+*name+")").Scan(&filled)
		})
		if err != nil || filled {
			return true
		}
	}
	return false
}

// settle moves the marks on after a read. A full one has seen all visible rows up to a number; after another one marks
// tell what is committed, and stay.
func (p *Feed) settle(full bool, seen int64, now mark, xmin uint64) {
	p.mu.Lock()
	defer p.mu.Unlock()
	rest := p.marks[:0]
	for _, m := range p.marks {
		passed := xmin >= m.xid
		if passed {
			p.cursor.AllCommitted(0, m.seq)
		}
		if passed && full && m.seq <= seen {
			p.cursor.Settle(m.seq)
		}
		if !passed || !full {
			rest = append(rest, m)
		}
	}
	if now.xid > 0 {
		rest, p.marked = append(rest, now), time.Now()
	}
	p.marks = rest
}

// changes reads journal rows by their layouts, which are read as they appear.
func (p *Feed) changes(ctx context.Context, rows []noted) ([]change.Change, error) {
	out := make([]change.Change, len(rows))
	for i, n := range rows {
		known, ok := p.layouts[n.layout]
		if !ok {
			var err error
			if p.layouts, err = p.readLayouts(ctx); err != nil {
				return nil, err
			}
			if known, ok = p.layouts[n.layout]; !ok {
				return nil, fmt.Errorf(
					"journal row %d has layout %d, but pingo_capture.layouts has no such row: run pingo capture install, then reindex",
					n.Seq,
					n.layout,
				)
			}
		}
		out[i] = n.Change(known, several)
	}
	return out, nil
}

func (p *Feed) readLayouts(ctx context.Context) (map[int32]journal.Layout, error) {
	rows, err := p.pool.Query(ctx, "SELECT id, schema_name, table_name, key, links, groups::jsonb FROM pingo_capture.layouts")
	if err != nil {
		return nil, wrap("reading the journal's layouts", err)
	}
	out := map[int32]journal.Layout{}
	var id int32
	var l journal.Layout
	_, err = pgx.ForEachRow(rows, []any{&id, &l.Table.Schema, &l.Table.Name, &l.Key, &l.Links, &l.Groups}, func() error {
		out[id] = l
		l.Key, l.Links, l.Groups = nil, nil, nil
		return nil
	})
	return out, err
}

// run is an unbroken run of numbers.
type run struct{ first, last int64 }

// shortestRun is how many numbers are worth a range of their own.
const shortestRun = 32

// runsOf parts numbers into those that are in unbroken runs, and others: no run has a number that was not given.
func runsOf(seqs []int64) (runs []run, others []int64) {
	sorted := slices.Sorted(slices.Values(seqs))
	for i := 0; i < len(sorted); {
		end := i + 1
		for end < len(sorted) && sorted[end] == sorted[end-1]+1 {
			end++
		}
		if end-i < shortestRun {
			others = append(others, sorted[i:end]...)
		} else {
			runs = append(runs, run{sorted[i], sorted[end-1]})
		}
		i = end
	}
	return runs, others
}

// Done deletes rows that are done, those in unbroken runs of numbers by ranges.
func (p *Feed) Done(ctx context.Context, seqs []int64) error {
	if len(seqs) == 0 {
		return nil
	}
	p.mu.Lock()
	claim, run, now, ours := p.claim, p.run, "", false
	p.mu.Unlock()
	runs, others := runsOf(seqs)
	batch := &pgx.Batch{} // one transaction
	const held = `WITH ours AS (SELECT FROM pingo_capture.owner
		WHERE holder = $1 AND epoch = $2 AND mark >= $3 FOR SHARE) `
	queue := func(statement string, args ...any) *pgx.QueuedQuery {
		args = append([]any{claim.Holder, claim.Epoch, claim.Mark}, args...)
		return batch.Queue(p.pool.named(held+statement), args...)
	}
	batch.Queue("SELECT set_config('pingo.settles', 'yes', true)")
	queue("SELECT EXISTS (SELECT FROM ours)").QueryRow(func(row pgx.Row) error { return row.Scan(&ours) })
	batch.Queue("SELECT " + runMark).QueryRow(func(row pgx.Row) error { return row.Scan(&now) })
	// Where a number stands twice, a change goes that may not be done.
	const more = " AND $6 = " + runMark + " AND EXISTS (SELECT FROM ours) RETURNING seq) " + allChanged + " WHERE (SELECT count(*) FROM gone) > "
	if len(others) > 0 {
		queue(", gone AS (DELETE FROM pingo_capture.journal WHERE seq = ANY($4)"+more+"$5", others, len(others), run)
	}
	for _, r := range runs {
		queue(", gone AS (DELETE FROM pingo_capture.journal WHERE seq BETWEEN $4 AND $5"+more+"$5 - $4 + 1", r.first, r.last, run)
	}
	if err := p.pool.SendBatch(ctx, batch).Close(); err != nil {
		return wrap("deleting done changes from the journal", err)
	}
	if !ours {
		return errSuperseded
	}
	if now != run { // nothing was deleted: a number may be another row's by now
		if err := p.lookForLost(ctx); err != nil {
			return err
		}
		return p.Done(ctx, seqs)
	}
	p.cursor.Gone(seqs)
	return nil
}

// Hold fails with the fault Superseded unless the claim stands, and keeps others from claiming the journal until a
// transaction ends.
func (p *Feed) Hold(ctx context.Context, tx pgx.Tx) error {
	claim, ours := p.claimNow(), 0
	err := tx.QueryRow(ctx, p.pool.named("SELECT count(*) FROM (SELECT FROM pingo_capture.owner WHERE holder = $1 AND epoch = $2 AND mark >= $3 FOR SHARE) held"),
		claim.Holder, claim.Epoch, claim.Mark).Scan(&ours)
	if err != nil {
		return journalError(err)
	}
	if ours == 0 {
		return errSuperseded
	}
	return nil
}

// CommittedBy is by when a change was committed, if that was known before it was read.
func (p *Feed) CommittedBy(seq int64) (by time.Time, known bool) { return p.cursor.CommittedBy(seq) }

// Rewind forgets what was handed out, so that all that is left is read again.
func (p *Feed) Rewind() {
	p.cursor.Rewind()
	p.mu.Lock()
	defer p.mu.Unlock()
	p.marks, p.behind, p.layouts = nil, false, nil
}

// InFlight is how many changes were returned and are not done, and when the oldest of
// them was made.
func (p *Feed) InFlight() (n int, oldest time.Time) { return p.cursor.InFlight() }

const countedRows = 50_000

// Depth reads how much the journal holds, without reading much of it.
func (p *Feed) Depth(ctx context.Context) (source.Depth, error) {
	var d source.Depth
	err := p.pool.QueryRow(ctx, `
		WITH first_ones AS (SELECT seq, at FROM pingo_capture.journal WHERE seq > $1 ORDER BY seq LIMIT $2)
		SELECT count(*), coalesce(min(seq), 0), (SELECT at FROM first_ones ORDER BY seq LIMIT 1), (SELECT last_value FROM pingo_capture.journal_seq),
			pg_total_relation_size('pingo_capture.journal'), clock_timestamp() FROM first_ones`, p.cursor.Below(), countedRows).
		Scan(&d.Changes, &d.First, &d.Oldest, &d.Last, &d.Bytes, &d.Clock)
	if err != nil {
		return d, journalError(err)
	}
	if d.Changes == countedRows {
		d.Changes = max(d.Changes, d.Last-d.First+1)
	}
	return d, nil
}
