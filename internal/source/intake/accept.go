package intake

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"pingo/internal/pgerror"
	"pingo/internal/source"
)

// Op is what an event says of a record.
type Op string

// The operations. Merged: the body is a patch, as RFC 7396 describes it.
const (
	Created Op = "created"
	Updated Op = "updated"
	Merged  Op = "merged"
	Deleted Op = "deleted"
)

// Event is one event that can be read.
type Event struct {
	// ID is the sender's name for the event, so that it counts once; empty when it has none.
	ID     string
	Record string
	Key    string
	Op     Op
	// Body is a JSON value; nil for Deleted.
	Body []byte
	// Version is a number that is higher for newer versions of the record; empty when events
	// count in the order in which they come.
	Version string
	// Line is where it stood in a file.
	Line int64
}

// LongestKey bounds keys, since engines do.
const LongestKey = 500

// Accept puts events into the records, in their order, in one transaction: when it returns, they
// are on disk. Each event has a receipt. An error means that none was kept.
func (s *Store) Accept(ctx context.Context, events []Event) ([]source.Receipt, error) {
	if err := s.ensure(ctx); err != nil {
		return nil, err
	}
	out := make([]source.Receipt, len(events))
	tx, err := s.pool.Begin(ctx)
	if err != nil {
		return nil, explain("keeping what was sent", err)
	}
	defer tx.Rollback(context.WithoutCancel(ctx))
	for _, round := range rounds(events) {
		if err := s.put(ctx, tx, events, round, out); err != nil {
			return nil, err
		}
	}
	if err := tx.Commit(ctx); err != nil {
		return nil, explain("keeping what was sent", err)
	}
	return out, nil
}

// rounds parts events so that each round is of one record name and has a key, and an event's
// name, once: one statement can change a row once.
func rounds(events []Event) (out [][]int) {
	type name struct{ record, key string }
	at := map[name]int{}
	ids := map[string]int{}
	of := map[string][]int{} // by record name: its rounds
	for i, e := range events {
		n := max(at[name{e.Record, e.Key}], ids[e.ID])
		at[name{e.Record, e.Key}] = n + 1
		if e.ID != "" {
			ids[e.ID] = n + 1
		}
		for len(of[e.Record]) <= n {
			of[e.Record] = append(of[e.Record], len(out))
			out = append(out, nil)
		}
		out[of[e.Record][n]] = append(out[of[e.Record][n]], i)
	}
	return out
}

// put puts one round of events into the records. Where PostgreSQL does not take one of them, it is
// looked for by halves and is unreadable; the others are put.
func (s *Store) put(ctx context.Context, tx pgx.Tx, events []Event, round []int, out []source.Receipt) error {
	if len(round) == 0 {
		return nil
	}
	nested, err := tx.Begin(ctx)
	if err != nil {
		return explain("keeping what was sent", err)
	}
	err = s.upsert(ctx, nested, events, round, out)
	if err == nil {
		return explainNil("keeping what was sent", nested.Commit(ctx))
	}
	if back := nested.Rollback(ctx); back != nil {
		return explain("keeping what was sent", back)
	}
	code := pgerror.Code(err)
	if len(code) < 2 || code[:2] != "22" && code != "54000" { // neither a value's fault nor a limit's
		return explain("keeping what was sent", err)
	}
	if len(round) > 1 {
		half := len(round) / 2
		return errors.Join(s.put(ctx, tx, events, round[:half], out), s.put(ctx, tx, events, round[half:], out))
	}
	e := &events[round[0]]
	r := e.receipt(source.Unreadable, "the body cannot be kept: "+pgerror.Explain(err).Error())
	out[round[0]] = r
	return s.note(ctx, tx, []source.Receipt{r})
}

func (e *Event) receipt(outcome source.Outcome, reason string) source.Receipt {
	return source.Receipt{
		At: time.Now(), Event: e.ID, Record: e.Record, Key: e.Key, Op: string(e.Op), Outcome: outcome, Reason: reason,
		Bytes: int64(len(e.Body)), Line: e.Line,
	}
}

// upsert is one statement: events that have no receipt yet get one, and their records the body,
// unless what is there is newer.
func (s *Store) upsert(
	ctx context.Context,
	tx pgx.Tx,
	events []Event,
	round []int,
	out []source.Receipt,
) error {
	n := len(round)
	ids, keys, ops := make([]string, n), make([]string, n), make([]string, n)
	bodies, versions, bytes := make([]*string, n), make([]*string, n), make([]int64, n)
	for i, at := range round {
		e := &events[at]
		ids[i], keys[i], ops[i], bytes[i] = e.ID, e.Key, string(e.Op), int64(len(e.Body))
		if e.Op != Deleted {
			body := string(e.Body)
			bodies[i] = &body
		}
		if e.Version != "" {
			versions[i] = &e.Version
		}
	}
	record := events[round[0]].Record
	if _, err := tx.Exec(ctx, "SET LOCAL enable_nestloop = off"); err != nil {
		return err
	}
	rows, err := tx.Query(ctx, fmt.Sprintf(`
		WITH given AS (
			SELECT * FROM unnest($1::text[], $2::text[], $3::text[], $4::text[], $5::text[], $6::bigint[]) WITH ORDINALITY AS g(event, key, op, body, version, bytes, i)
		), receipts AS (
			INSERT INTO intake_receipt (source, event, record, key, op, outcome, bytes) SELECT $7, event, $8, key, op, 'accepted', bytes FROM given ORDER BY i
			ON CONFLICT (source, event) WHERE outcome = 'accepted' AND event <> '' DO NOTHING RETURNING event, key, seq, at
		), put AS (
			INSERT INTO %[1]s AS r (key, body, version, op)
			SELECT g.key, CASE g.op WHEN 'merged' THEN intake_merge('{}', g.body::jsonb) ELSE g.body::jsonb END, g.version::numeric, g.op FROM given g JOIN receipts f ON f.event = g.event AND f.key = g.key ORDER BY g.key
			ON CONFLICT (key) DO UPDATE SET body = CASE excluded.op WHEN 'merged' THEN intake_merge(r.body, (SELECT g.body::jsonb FROM given g WHERE g.key = excluded.key)) ELSE excluded.body END,
				version = coalesce(excluded.version, r.version), op = excluded.op, at = excluded.at
			WHERE excluded.version IS NULL OR r.version IS NULL OR excluded.version >= r.version
			RETURNING key
		)
		SELECT g.i, f.seq, f.at, p.key IS NOT NULL FROM given g LEFT JOIN receipts f ON f.event = g.event AND f.key = g.key LEFT JOIN put p ON p.key = g.key AND f.seq IS NOT NULL`,
		quote(s.schema, record)), ids, keys, ops, bodies, versions, bytes, s.source, record)
	if err != nil {
		return err
	}
	var old []int64
	var again []source.Receipt
	var i int
	var seq *int64
	var at *time.Time
	var stored bool
	_, err = pgx.ForEachRow(rows, []any{&i, &seq, &at, &stored}, func() error {
		e := &events[round[i-1]]
		r := e.receipt(source.Accepted, "")
		switch {
		case seq == nil:
			r = e.receipt(source.Duplicate, "an event of this name was accepted before")
			again = append(again, r)
		case !stored:
			r = e.receipt(source.Old, oldReason)
			r.Seq, r.At = *seq, *at
			old = append(old, *seq)
		default:
			r.Seq, r.At = *seq, *at
		}
		out[round[i-1]] = r
		return nil
	})
	if err != nil {
		return err
	}
	if len(old) > 0 {
		if _, err := tx.Exec(ctx, "UPDATE intake_receipt SET outcome = 'old', reason = $2 WHERE source = $3 AND seq = ANY($1)", old, oldReason, s.source); err != nil {
			return err
		}
	}
	if len(again) > 0 {
		return s.note(ctx, tx, again)
	}
	return nil
}

const oldReason = "a newer version of the record is here already"

// Note keeps receipts of what was not accepted.
func (s *Store) Note(ctx context.Context, receipts ...source.Receipt) error {
	return s.note(ctx, s.pool, receipts)
}

// note keeps receipts of events that were not accepted.
func (s *Store) note(ctx context.Context, on interface {
	Query(ctx context.Context, sql string, args ...any) (pgx.Rows, error)
}, receipts []source.Receipt) error {
	rows, err := on.Query(
		ctx,
		`INSERT INTO intake_receipt (source, event, record, key, op, outcome, reason, bytes)
		SELECT $1, * FROM unnest($2::text[], $3::text[], $4::text[], $5::text[], $6::text[], $7::text[], $8::bigint[])`,
		append([]any{s.source}, columnsOf(receipts)...)...)
	if err == nil {
		rows.Close()
		err = rows.Err()
	}
	return explainNil("keeping receipts", err)
}

func columnsOf(receipts []source.Receipt) []any {
	n := len(receipts)
	events, records, keys, ops, outcomes, reasons, bytes := make(
		[]string,
		n,
	), make(
		[]string,
		n,
	), make(
		[]string,
		n,
	), make(
		[]string,
		n,
	), make(
		[]string,
		n,
	), make(
		[]string,
		n,
	), make(
		[]int64,
		n,
	)
	for i, r := range receipts {
		events[i], records[i], keys[i], ops[i], outcomes[i], reasons[i], bytes[i] = cut(
			r.Event,
		), r.Record, cut(
			r.Key,
		), r.Op, string(
			r.Outcome,
		), cut(
			r.Reason,
		), r.Bytes
	}
	return []any{events, records, keys, ops, outcomes, reasons, bytes}
}

// cut bounds what a sender can make Pingo keep of a text.
func cut(text string) string {
	const most = 500
	text = strings.ReplaceAll(strings.ToValidUTF8(text, "\uFFFD"), "\x00", "\uFFFD")
	if len(text) > most {
		text = strings.ToValidUTF8(text[:most], "") + " …"
	}
	return text
}

// Receipts lists what became of events, the newest first.
func (s *Store) Receipts(ctx context.Context, below int64, n int, outcome string) ([]source.Receipt, error) {
	rows, err := s.pool.Query(
		ctx,
		`SELECT seq, at, event, record, key, op, outcome, reason, bytes, 0::bigint AS line FROM intake_receipt
		WHERE source = $1 AND ($2 = 0 OR seq < $2) AND ($4 = '' OR outcome = $4) ORDER BY seq DESC LIMIT $3`,
		s.source,
		below,
		n,
		outcome,
	)
	if err != nil {
		return nil, explain("reading the receipts", err)
	}
	out, err := pgx.CollectRows(rows, pgx.RowToStructByPos[source.Receipt])
	return out, explainNil("reading the receipts", err)
}

const (
	// KeepDeleted is how long it is remembered that a record was deleted, so that an older version
	// does not bring it back.
	KeepDeleted = 30 * 24 * time.Hour
	// KeepReceipts is how long receipts are kept, and so how long an event counts once.
	KeepReceipts = 7 * 24 * time.Hour
	// mostRefused is how many receipts of what was not accepted are kept.
	mostRefused = 10_000
	purgeEvery  = time.Hour
)

// purge forgets, now and then, what need not be kept any longer. What fails is tried again.
func (s *Store) purge(ctx context.Context) {
	s.mu.Lock()
	due := time.Since(s.purged) > purgeEvery
	if due {
		s.purged = time.Now()
	}
	s.mu.Unlock()
	if due && s.Purge(ctx, KeepDeleted, KeepReceipts, mostRefused) != nil {
		s.mu.Lock()
		s.purged = time.Now().Add(time.Minute - purgeEvery)
		s.mu.Unlock()
	}
}

// Purge forgets what is older than some times, and all but so many receipts of what was not accepted.
func (s *Store) Purge(ctx context.Context, deleted, receipts time.Duration, refused int) error {
	for _, r := range s.records {
		if _, err := s.pool.Exec(ctx, fmt.Sprintf("DELETE FROM %s WHERE body IS NULL AND at < clock_timestamp() - $1::interval", quote(s.schema, r.Name)), deleted); err != nil {
			return explain("forgetting deleted records", err)
		}
	}
	_, err := s.pool.Exec(
		ctx,
		`DELETE FROM intake_receipt WHERE source = $1 AND (at < clock_timestamp() - $2::interval OR outcome <> 'accepted'
		AND seq <= (SELECT seq FROM intake_receipt WHERE source = $1 AND outcome <> 'accepted' ORDER BY seq DESC OFFSET $3 LIMIT 1))`,
		s.source,
		receipts,
		refused,
	)
	return explainNil("forgetting receipts", err)
}

// Replace ends a listing of all records of a name.
func (s *Store) Replace(ctx context.Context, record string, since time.Time) (int64, error) {
	if err := s.known(record); err != nil {
		return 0, err
	}
	tag, err := s.pool.Exec(
		ctx,
		fmt.Sprintf(
			"UPDATE %s SET body = NULL, op = 'deleted', at = clock_timestamp() WHERE body IS NOT NULL AND at < $1",
			quote(s.schema, record),
		),
		since,
	)
	return tag.RowsAffected(), explainNil("deleting what a listing has no longer", err)
}

// known says what to do about a record that the source has not.
func (s *Store) known(record string) error {
	names := make([]string, len(s.records))
	for i, r := range s.records {
		if names[i] = r.Name; r.Name == record {
			return nil
		}
	}
	return fmt.Errorf(
		"%w: source %s has %s, but no %q",
		source.ErrNoRecord,
		s.source,
		strings.Join(names, ", "),
		record,
	)
}
