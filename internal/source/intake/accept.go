package intake

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"pingo/internal/pgerror"
	"pingo/internal/pgsession"
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

// Accept puts the events of a request into the records, in their order, in one transaction: when it
// returns, they are on disk. request is the sender's name for the request, so that it counts once;
// empty when it has none. Each event has a receipt. An error means that none was kept, or that
// the outcome is unknown.
func (s *Store) Accept(ctx context.Context, request string, events []Event) ([]source.Receipt, error) {
	if err := s.ensure(ctx); err != nil {
		return nil, err
	}
	parts := rounds(events)
	if len(parts) == 1 { // one statement is a transaction
		c := newCall(request, events)
		var err error
		if len(events) < aloneFrom {
			err = s.together(ctx, c)
		} else {
			err = s.upsert(ctx, s.pool.Pool, c.list)
		}
		if err == nil {
			return c.receipts, nil
		}
		if !atFault(err) {
			return nil, explain("keeping what was sent", err)
		}
	}
	tx, err := s.pool.Begin(ctx)
	if err != nil {
		return nil, explain("keeping what was sent", err)
	}
	defer tx.Rollback(context.WithoutCancel(ctx))
	out, err := s.acceptIn(ctx, tx, request, events, parts)
	if err != nil {
		return nil, err
	}
	if err := tx.Commit(ctx); err != nil {
		return nil, explain("keeping what was sent", err)
	}
	return out, nil
}

// acceptIn puts events into the records, round by round.
func (s *Store) acceptIn(ctx context.Context, tx pgx.Tx, request string, events []Event, parts [][]int) ([]source.Receipt, error) {
	out := make([]source.Receipt, len(events))
	for i, round := range parts {
		id := ""
		if request != "" {
			id = fmt.Sprintf("%s (%d of %d)", request, i+1, len(parts))
		}
		if err := s.putRound(ctx, tx, id, events, round, out); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// rounds parts events so that each round is of one record name, has a key, and an event's name,
// once, since one statement can change a row once, and has versions or none.
func rounds(events []Event) (out [][]int) {
	type name struct{ record, key string }
	type kind struct {
		record    string
		versioned bool
	}
	at := map[name]int{}
	ids := map[string]int{}
	last := map[string]kind{} // of a key's record: what the last round with it was
	of := map[kind][]int{}    // its rounds
	for i, e := range events {
		k := kind{e.Record, e.Version != ""}
		n := max(at[name{e.Record, e.Key}], ids[e.ID])
		if before, is := last[e.Record]; is && before != k {
			// What has a version and what has none stay in their order.
			n = max(n, len(of[before]))
		}
		last[e.Record] = k
		for len(of[k]) <= n {
			of[k] = append(of[k], len(out))
			out = append(out, nil)
		}
		at[name{e.Record, e.Key}] = n + 1
		if e.ID != "" {
			ids[e.ID] = n + 1
		}
		out[of[k][n]] = append(out[of[k][n]], i)
	}
	return slices.DeleteFunc(out, func(round []int) bool { return len(round) == 0 })
}

// atFault reports whether a value is at fault that PostgreSQL does not take, or its size.
func atFault(err error) bool {
	code := pgerror.Code(err)
	return strings.HasPrefix(code, "22") || code == "54000"
}

// putRound puts one round of events into the records. Where PostgreSQL does not take one of them, it
// is found by halving and is unreadable; the others are stored.
func (s *Store) putRound(
	ctx context.Context,
	tx pgx.Tx,
	request string,
	events []Event,
	round []int,
	out []source.Receipt,
) error {
	nested, err := tx.Begin(ctx)
	if err != nil {
		return explain("keeping what was sent", err)
	}
	list := make([]entry, len(round))
	for i, at := range round {
		list[i] = entry{Event: &events[at], out: &out[at]}
	}
	name(list, request)
	err = s.upsert(ctx, nested, list)
	if err == nil {
		return explainNil("keeping what was sent", nested.Commit(ctx))
	}
	if back := nested.Rollback(ctx); back != nil {
		return explain("keeping what was sent", back)
	}
	if !atFault(err) {
		return explain("keeping what was sent", err)
	}
	if len(round) > 1 {
		half := len(round) / 2
		first, second := request, request
		if request != "" {
			first, second = request+" a", request+" b"
		}
		return errors.Join(
			s.putRound(ctx, tx, first, events, round[:half], out),
			s.putRound(ctx, tx, second, events, round[half:], out),
		)
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

// remembered is how many events of a record Pingo distinguishes from new ones with the same version.
const remembered = 50

// identity tells the event from others about its record.
func (e *Event) identity() string {
	if e.ID != "" {
		return e.ID
	}
	hash := sha256.Sum256(append([]byte(string(e.Op)+" "), e.Body...))
	return hex.EncodeToString(hash[:16])
}

// entry is an event that is being stored.
type entry struct {
	*Event
	under *noted
	out   *source.Receipt
}

// noted is a receipt of events that are accepted or not as one: those of a request when they have
// versions, else each event by itself.
type noted struct {
	name    string // which counts once, unless it is empty
	key, op string // of its event, when it is one
	bytes   int64
	events  int
	seq     int64 // 0 while it is not kept
	at      time.Time
}

// name says under which receipts the events of one request, or of a part of one, are accepted.
func name(list []entry, request string) {
	var shared *noted
	for i := range list {
		e := &list[i]
		switch {
		case e.Version == "":
			e.under = &noted{name: e.ID}
		case shared == nil:
			shared = &noted{name: cut(request)}
			fallthrough
		default:
			e.under = shared
		}
		n := e.under
		n.bytes, n.events, n.key, n.op = n.bytes+int64(len(e.Body)), n.events+1, cut(e.Key), string(e.Op)
		if n.events > 1 {
			n.key, n.op = "", ""
		}
	}
}

// querier is a pool or a transaction.
type querier interface {
	Query(ctx context.Context, sql string, args ...any) (pgx.Rows, error)
}

// upsert puts a round into its table by one statement. With versions, a record takes a newer version, or another event of
// the same, but not an event again that came before. A patch may come late: each part of the body has the version of the
// event that set it.
func (s *Store) upsert(ctx context.Context, on querier, list []entry) error {
	// Two statements that touch the same rows do so in the same order.
	slices.SortFunc(list, func(a, b entry) int { return strings.Compare(a.Key, b.Key) })
	n := len(list)
	names, ids, keys, merged := make([]string, n), make([]string, n), make([]string, n), make([]bool, n)
	bodies, versions := make([]*string, n), make([]*string, n)
	anyMerged := false
	var under []*noted
	byName := map[string][]*noted{} // the same, by their names, those with none in their order
	for i, e := range list {
		names[i], ids[i], keys[i], merged[i] = e.under.name, e.identity(), e.Key, e.Op == Merged
		anyMerged = anyMerged || merged[i]
		if e.Op != Deleted {
			body := string(e.Body)
			bodies[i] = &body
		}
		if e.Version != "" {
			versions[i] = &e.Version
		}
		if same := byName[e.under.name]; !slices.Contains(same, e.under) {
			under, byName[e.under.name] = append(under, e.under), append(same, e.under)
		}
	}
	table := quote(s.schema, list[0].Record)
	// A patch is applied to what is there, so it is taken as it came, not as an insert has it.
	body, patched, stamps := "g.body::jsonb", "excluded.body", "NULL::jsonb"
	if anyMerged {
		body = "CASE WHEN g.merged THEN intake_merge('{}', g.body::jsonb) ELSE g.body::jsonb END"
		patched = "CASE WHEN (SELECT g.merged FROM given g WHERE g.key = excluded.key) THEN intake_merge(r.body, (SELECT g.body::jsonb FROM given g WHERE g.key = excluded.key)) ELSE excluded.body END"
		stamps = "CASE WHEN g.merged AND g.version IS NOT NULL THEN intake_join(NULL, NULL, NULL, g.body::jsonb, true, g.version::numeric) -> 's' END"
	}
	const (
		whole  = "(excluded.version IS NULL OR r.stamps IS NULL AND excluded.stamps IS NULL)" // the event is about the whole body
		joined = "(SELECT nullif(intake_join(r.body, r.stamps, r.version, g.body::jsonb, g.merged, g.version::numeric) -> '%s', 'null') FROM given g WHERE g.key = excluded.key)"
	)
	var notes struct {
		names, keys, ops []string
		bytes            []int64
		events           []int
	}
	for _, n := range under {
		notes.names, notes.keys, notes.ops = append(notes.names, n.name), append(notes.keys, n.key), append(notes.ops, n.op)
		notes.bytes, notes.events = append(notes.bytes, n.bytes), append(notes.events, n.events)
	}
	rows, err := on.Query(ctx, fmt.Sprintf(`WITH given AS (
			SELECT * FROM unnest($1::text[], $2::text[], $3::text[], $4::bool[], $5::text[], $6::text[]) AS g(name, event, key, merged, body, version)
		), receipt AS (
			INSERT INTO intake_receipt (source, record, event, key, op, outcome, bytes, events)
			SELECT $7, $8, n.name, n.key, n.op, 'accepted', n.bytes, n.events
			FROM unnest($9::text[], $10::text[], $11::text[], $12::bigint[], $13::int[]) WITH ORDINALITY AS n(name, key, op, bytes, events, i) ORDER BY n.name, n.i
			ON CONFLICT (source, event) WHERE outcome = 'accepted' AND event <> '' DO NOTHING RETURNING event, seq, at
		), put AS (
			INSERT INTO %s AS r (key, body, version, event, stamps)
			SELECT g.key, %s, g.version::numeric, g.event, %s FROM given g WHERE g.name = '' OR g.name IN (SELECT event FROM receipt)
			ON CONFLICT (key) DO UPDATE SET body = CASE WHEN %s THEN %s ELSE %s END, stamps = CASE WHEN NOT %[4]s THEN %[7]s END,
				version = greatest(excluded.version, r.version), event = excluded.event, at = excluded.at,
				seen = CASE WHEN NOT %[4]s OR excluded.version = r.version THEN (r.event || coalesce(r.seen, '{}'))[:%[8]d] END
			WHERE excluded.version IS NULL OR r.version IS NULL OR excluded.version > r.version
				OR excluded.version >= coalesce((r.stamps ->> '[]')::numeric, r.version) AND excluded.event <> ALL (r.event || coalesce(r.seen, '{}'))
			RETURNING key
		)
		SELECT '' AS event, key, 0::bigint, NULL::timestamptz FROM put UNION ALL SELECT event, NULL, seq, at FROM receipt`, table, body, stamps, whole, patched, fmt.Sprintf(joined, "b"), fmt.Sprintf(joined, "s"), remembered),
		names, ids, keys, merged, bodies, versions, s.source, list[0].Record,
		notes.names, notes.keys, notes.ops, notes.bytes, notes.events)
	if err != nil {
		return err
	}
	stored := map[string]bool{}
	var name string
	var key *string
	var seq int64
	var at *time.Time
	_, err = pgx.ForEachRow(rows, []any{&name, &key, &seq, &at}, func() error {
		if key != nil {
			stored[*key] = true
			return nil
		}
		n := byName[name][0]
		n.seq, n.at, byName[name] = seq, *at, byName[name][1:]
		return nil
	})
	if err != nil {
		return err
	}
	var others []source.Receipt
	for _, e := range list {
		r := e.receipt(source.Accepted, "")
		r.Seq, r.At = e.under.seq, e.under.at
		switch {
		case e.under.seq == 0:
			r = e.receipt(source.Duplicate, "an event or a request of this name was accepted before")
		case !stored[e.Key]:
			r = e.receipt(source.Old, "this version of the record, or a newer one, is here already")
		}
		if *e.out = r; r.Outcome != source.Accepted {
			others = append(others, r)
		}
	}
	if len(others) == 0 {
		return nil
	}
	return s.note(ctx, on, others)
}

// Note keeps receipts of what was not accepted.
func (s *Store) Note(ctx context.Context, receipts ...source.Receipt) error {
	return s.note(ctx, s.pool.Pool, receipts)
}

// note keeps receipts of events that were not accepted.
func (s *Store) note(ctx context.Context, on querier, receipts []source.Receipt) error {
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
	var c struct {
		events, records, keys, ops, outcomes, reasons []string
		bytes                                         []int64
	}
	for _, r := range receipts {
		c.events, c.records, c.keys = append(c.events, cut(r.Event)), append(c.records, r.Record), append(c.keys, cut(r.Key))
		c.ops, c.outcomes = append(c.ops, r.Op), append(c.outcomes, string(r.Outcome))
		c.reasons, c.bytes = append(c.reasons, cut(r.Reason)), append(c.bytes, r.Bytes)
	}
	return []any{c.events, c.records, c.keys, c.ops, c.outcomes, c.reasons, c.bytes}
}

// cut bounds what a sender can make Pingo keep of a text.
func cut(text string) string {
	const most = 500
	text = pgsession.Text(text)
	if len(text) > most {
		text = strings.ToValidUTF8(text[:most], "") + " …"
	}
	return text
}

// Receipts lists the outcomes of events, the newest first.
func (s *Store) Receipts(ctx context.Context, below int64, n int, outcome string) ([]source.Receipt, error) {
	rows, err := s.pool.Query(
		ctx,
		`SELECT seq, at, event, record, key, op, outcome, reason, bytes, 0::bigint AS line, events FROM intake_receipt
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

// Purge deletes what is older than some times, and all but a number of receipts of what was not accepted.
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
			"UPDATE %s SET body = NULL, at = clock_timestamp() WHERE body IS NOT NULL AND at < $1",
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
	if len(names) == 0 {
		return fmt.Errorf("%w: source %s has no records of its own; change its tables instead", source.ErrNoRecord, s.source)
	}
	return fmt.Errorf("%w: source %s has no record %q; it has %s", source.ErrNoRecord, s.source, record, strings.Join(names, ", "))
}
