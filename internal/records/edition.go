package records

import (
	"context"
	"crypto/rand"
	"database/sql/driver"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"pingo/internal/core/reindex"
	"pingo/internal/core/shape"
)

// Edition is one physical copy of an index.
type Edition struct {
	Index      string
	Number     int
	State      reindex.State
	Shape      *shape.Shape
	Engine     string
	Definition int
	// Expected is the count of rows when the fill began.
	Expected int64
	// PlannedTo is the key up to which chunks were planned in the tree PlannedTree;
	// Planned says that they all are.
	PlannedTree int
	PlannedTo   []string
	Planned     bool
	BeganAt     *time.Time
	FilledAt    *time.Time
	Rows        int64
	Bytes       int64
	// Birth makes its name one that no other edition ever had.
	Birth string
	// Missed says why changes may be missing in it for good; nil when none is. Only
	// another edition puts that right.
	Missed *Missed
	// Gates are what it must come to before it is switched to, as last looked at.
	Gates []reindex.Gate
	// KeptUntil is how long an edition that answered is kept, so that it can again; nil for others.
	KeptUntil *time.Time
	Course
	// Fence is that of the lease under which the edition is fed; what is recorded under a
	// lease that was lost is not taken. It is empty for a person, who needs no lease.
	Fence string
}

// Name is the edition's name in the engine.
func (e *Edition) Name() string {
	if e.Birth == "" { // it was recorded before there were birth marks
		return fmt.Sprintf("%s-e%d", e.Index, e.Number)
	}
	return fmt.Sprintf("%s-e%d-%s", e.Index, e.Number, e.Birth)
}

// Course is what people say of how an edition is filled.
type Course struct {
	// Paused: no more of it is filled.
	Paused bool `db:"paused"`
	// Pace is nil where the definition's holds.
	Pace *Pace `db:"pace"`
	// BeginsAt is from when on it is filled; nil is at once.
	BeginsAt *time.Time `db:"begins_at"`
	// TakesOver: an index of the public name that Pingo did not make may go.
	TakesOver bool `db:"takes_over"`
}

// Pace is a reindex.Pace as the database has it.
type Pace reindex.Pace

// Scan reads what the database has.
func (p *Pace) Scan(value any) error { return scanJSON(value, p) }

// Value is what the database gets.
func (p *Pace) Value() (driver.Value, error) {
	if p == nil {
		return nil, nil
	}
	b, err := json.Marshal(p)
	return string(b), err
}

// Missed says that an edition may lack changes.
type Missed struct {
	Reason string
	Since  time.Time
	// Refill: another edition is begun without being asked for.
	Refill bool
}

type editionRow struct {
	Index      string     `db:"index_name"`
	Number     int        `db:"number"`
	State      string     `db:"state"`
	Shape      []byte     `db:"shape"`
	Engine     string     `db:"engine"`
	Definition int        `db:"definition"`
	Expected   int64      `db:"expected_rows"`
	Tree       int        `db:"planned_tree"`
	PlannedTo  []byte     `db:"planned_to"`
	Planned    bool       `db:"planned"`
	BeganAt    *time.Time `db:"began_at"`
	FilledAt   *time.Time `db:"filled_at"`
	Rows       int64      `db:"rows"`
	Bytes      int64      `db:"bytes"`
	Birth      string     `db:"birth"`
	Gates      []byte     `db:"gates"`
	KeptUntil  *time.Time `db:"kept_until"`
	Course
	missed
}

// EditionState is how far an edition is.
type EditionState struct {
	Index  string        `db:"index_name"`
	Number int           `db:"number"`
	State  reindex.State `db:"state"`
	Engine string        `db:"engine"`
	Source string        `db:"source"`
	// Others are sources that its documents are made from, too.
	Others Names `db:"others"`
	// Expired: it has answered before, and need not be kept any longer.
	Expired bool `db:"expired"`
	Course
	missed
}

// Sources are all that its documents are made from, that which it is fed by first.
func (e *EditionState) Sources() []string { return append([]string{e.Source}, e.Others...) }

// Names are a list of JSON strings in the database.
type Names []string

// Scan reads what the database has.
func (n *Names) Scan(value any) error { return scanJSON(value, n) }

func scanJSON(value, into any) error {
	switch text := value.(type) {
	case []byte:
		return json.Unmarshal(text, into)
	case string:
		return json.Unmarshal([]byte(text), into)
	}
	return fmt.Errorf("JSON as %T", value)
}

// missed is Missed as the database has it.
type missed struct {
	Reason *string    `db:"missed"`
	At     *time.Time `db:"missed_at"`
	Refill bool       `db:"refill"`
}

// Missed says why changes may be missing in it; nil when none is.
func (m *missed) Missed() *Missed {
	if m.Reason == nil || m.At == nil {
		return nil
	}
	return &Missed{Reason: *m.Reason, Since: *m.At, Refill: m.Refill}
}

// EditionStates lists all editions, oldest first, without their shapes.
func (r *Records) EditionStates(ctx context.Context) ([]EditionState, error) {
	var out []EditionState
	err := r.db.SelectContext(
		ctx,
		&out,
		`SELECT index_name, number, state, engine, shape ->> 'source' AS source, missed, missed_at, refill,
		paused, pace, begins_at, takes_over, state = 'previous' AND (missed IS NOT NULL OR kept_until < now()) AS expired,
		(SELECT coalesce(jsonb_agg(DISTINCT name), '[]') FROM jsonb_array_elements(`+others+`) name) AS others
		FROM edition ORDER BY index_name, number`,
	)
	return out, err
}

// Editions lists all editions, oldest first.
func (r *Records) Editions(ctx context.Context) ([]*Edition, error) {
	var rows []editionRow
	err := r.db.SelectContext(
		ctx,
		&rows,
		`SELECT index_name, number, state, shape, engine, definition, expected_rows,
		planned_tree, array_to_json(planned_to) AS planned_to, planned, began_at, filled_at, rows, bytes, birth, gates,
		kept_until, paused, pace, begins_at, takes_over, missed, missed_at, refill FROM edition ORDER BY index_name, number`,
	)
	if err != nil {
		return nil, err
	}
	out := make([]*Edition, len(rows))
	for i, row := range rows {
		e := &Edition{
			Index:       row.Index,
			Number:      row.Number,
			State:       reindex.State(row.State),
			Shape:       &shape.Shape{},
			Engine:      row.Engine,
			Definition:  row.Definition,
			Expected:    row.Expected,
			PlannedTree: row.Tree,
			Planned:     row.Planned,
			BeganAt:     row.BeganAt,
			FilledAt:    row.FilledAt,
			Rows:        row.Rows,
			Bytes:       row.Bytes,
			Birth:       row.Birth,
			Missed:      row.Missed(),
			KeptUntil:   row.KeptUntil,
			Course:      row.Course,
		}
		if err := json.Unmarshal(row.Shape, e.Shape); err != nil {
			return nil, fmt.Errorf("the stored shape of %s: %w", e.Name(), err)
		}
		if err := json.Unmarshal(row.Gates, &e.Gates); err != nil {
			return nil, fmt.Errorf("the stored gates of %s: %w", e.Name(), err)
		}
		if row.PlannedTo != nil {
			if err := json.Unmarshal(row.PlannedTo, &e.PlannedTo); err != nil {
				return nil, err
			}
		}
		out[i] = e
	}
	return out, nil
}

// NewEdition records the next edition of an index before anything is made of it.
func (r *Records) NewEdition(
	ctx context.Context,
	s *shape.Shape,
	engine string,
	version int,
	course Course,
) (*Edition, error) {
	b, err := json.Marshal(s)
	if err != nil {
		return nil, err
	}
	e := &Edition{
		Index:      s.Index,
		State:      reindex.Preparing,
		Shape:      s,
		Engine:     engine,
		Definition: version,
		Birth:      strings.ToLower(rand.Text()[:6]),
		Course:     course,
	}
	err = r.db.GetContext(ctx, &e.Number, `
		WITH next AS (INSERT INTO numbered AS n VALUES ($1, 1) ON CONFLICT (index_name) DO UPDATE SET number = n.number + 1 RETURNING number)
		INSERT INTO edition (index_name, number, state, shape, engine, definition, birth, paused, pace, begins_at, takes_over)
		SELECT $1, number, $2, $3, $4, $5, $6, $7, $8, $9, $10 FROM next RETURNING number`,
		s.Index, string(e.State), string(b), engine, version, e.Birth, course.Paused, course.Pace, course.BeginsAt, course.TakesOver)
	return e, err
}

// SaveEdition records an edition's step and progress, unless it was cancelled.
func (r *Records) SaveEdition(ctx context.Context, e *Edition) error {
	gates, err := json.Marshal(slices.Concat([]reindex.Gate{}, e.Gates))
	if err != nil {
		return err
	}
	return r.mustChange(
		ctx,
		`WITH saved AS (UPDATE edition SET state = $5, expected_rows = $6, began_at = $7, filled_at = $8, planned = $9, gates = $10
			WHERE index_name = $3 AND number = $4 AND state <> 'cancelled' AND `+held+` RETURNING index_name, number, state)
		INSERT INTO edition_event (index_name, number, what) SELECT index_name, number, state FROM saved`,
		e,
		string(e.State),
		e.Expected,
		e.BeganAt,
		e.FilledAt,
		e.Planned,
		string(gates),
	)
}

// SaveSwitched records that an edition answers under the public name. The one that did is kept as the
// previous one for some time, unless that is 0 or it lacks changes. It fails with ErrOvertaken when there
// is a newer edition than one that has never answered.
func (r *Records) SaveSwitched(ctx context.Context, e *Edition, keep time.Duration) error {
	n, err := r.fenced(
		ctx,
		`WITH saved AS (UPDATE edition e SET state = 'switched', kept_until = NULL WHERE index_name = $3 AND number = $4
			AND state <> 'cancelled' AND `+held+` AND (state = 'returning' OR NOT EXISTS (SELECT FROM edition n
				WHERE n.index_name = e.index_name AND n.number > e.number AND n.state <> 'cancelled')) RETURNING index_name, number, state),
		stepped AS (UPDATE edition e SET state = CASE WHEN $5 > 0 AND missed IS NULL THEN 'previous' ELSE 'cancelled' END,
				kept_until = now() + $5 * interval '1 second'
			WHERE index_name = $3 AND number <> $4 AND state = 'switched' AND EXISTS (SELECT FROM saved) RETURNING index_name, number, state)
		INSERT INTO edition_event (index_name, number, what) SELECT * FROM saved UNION ALL SELECT * FROM stepped`,
		e,
		keep.Seconds(),
	)
	if err == nil && n == 0 {
		if err = r.stillHeld(ctx, e); err == nil {
			err = ErrOvertaken
		}
	}
	return err
}

// ErrOvertaken says that an edition does not answer any more, or never will.
var ErrOvertaken = errors.New("it was cancelled, or there is a newer edition")

// Live is the edition that answers where another one is to, and how many failed documents it has; nil
// when none does.
func (r *Records) Live(ctx context.Context, instead *Edition) (live *Edition, failed int64, err error) {
	all, err := r.Editions(ctx)
	if err != nil {
		return nil, 0, err
	}
	for _, e := range all {
		if e.Index == instead.Index && e.State == reindex.Switched {
			live = e // the newest comes last
		}
	}
	if live == nil {
		return nil, 0, nil
	}
	keys, err := r.FailedKeys(ctx, live, "")
	return live, int64(len(keys)), err
}

// Return has an edition that answered before answer again. It reports whether it is kept.
func (r *Records) Return(ctx context.Context, e *Edition) (bool, error) {
	n, err := changed(r.db.ExecContext(
		ctx,
		`WITH saved AS (UPDATE edition SET state = 'returning' WHERE index_name = $1 AND number = $2 AND state = 'previous'
			AND missed IS NULL RETURNING index_name, number, state)
		INSERT INTO edition_event (index_name, number, what) SELECT * FROM saved`,
		e.Index,
		e.Number,
	))
	return n > 0, err
}

// Retire has an edition that is of no use any more dropped: one that was overtaken before it answered,
// or that answered before and need not be kept any longer. It reports whether it is to be dropped.
func (r *Records) Retire(ctx context.Context, e *Edition) (bool, error) {
	n, err := r.fenced(
		ctx,
		`UPDATE edition e SET state = 'cancelled' WHERE index_name = $3 AND number = $4 AND `+held+` AND (state = 'cancelled'
			OR state = 'previous' AND (missed IS NOT NULL OR kept_until < now())
			OR state NOT IN ('switched', 'previous', 'returning') AND EXISTS (SELECT FROM edition n
				WHERE n.index_name = e.index_name AND n.number > e.number AND n.state <> 'cancelled'))`,
		e,
	)
	if err == nil && n == 0 {
		err = r.stillHeld(ctx, e)
	}
	return n > 0, err
}

// SetCourse records how an edition that has not answered yet is to be filled, and what is to be told of
// that. It reports whether there is such an edition.
func (r *Records) SetCourse(ctx context.Context, e *Edition, c Course, what string) (bool, error) {
	n, err := changed(r.db.ExecContext(
		ctx,
		`WITH saved AS (UPDATE edition SET paused = $3, pace = $4, begins_at = $5 WHERE index_name = $1 AND number = $2
			AND state NOT IN ('switched', 'previous', 'returning', 'cancelled') RETURNING index_name, number)
		INSERT INTO edition_event (index_name, number, what) SELECT index_name, number, $6 FROM saved`,
		e.Index,
		e.Number,
		c.Paused,
		c.Pace,
		c.BeginsAt,
		what,
	))
	return n > 0, err
}

// Event is something that became of an edition.
type Event struct {
	At time.Time `db:"at"`
	// What is a step, or what somebody did, in words.
	What string `db:"what"`
}

// mostEvents bounds how many events are given, the newest.
const mostEvents = 200

// Events lists what became of an edition, oldest first.
func (r *Records) Events(ctx context.Context, e *Edition) ([]Event, error) {
	out := []Event{}
	err := r.db.SelectContext(
		ctx,
		&out,
		"SELECT at, what FROM edition_event WHERE index_name = $1 AND number = $2 ORDER BY id DESC LIMIT $3",
		e.Index,
		e.Number,
		mostEvents,
	)
	slices.Reverse(out)
	return out, err
}

// SaveEvent records something that became of an edition, unless the last thing was the same.
func (r *Records) SaveEvent(ctx context.Context, e *Edition, what string) error {
	_, err := r.fenced(
		ctx,
		`INSERT INTO edition_event (index_name, number, what) SELECT $3::text, $4::int, $5::text WHERE `+held+`
		AND $5::text IS DISTINCT FROM (SELECT what FROM edition_event WHERE index_name = $3 AND number = $4 ORDER BY id DESC LIMIT 1)`,
		e,
		what,
	)
	return err
}

// Decide says that an edition which is ready is to answer whatever its gates say. It reports whether
// it is ready.
func (r *Records) Decide(ctx context.Context, e *Edition) (bool, error) {
	n, err := changed(r.db.ExecContext(
		ctx,
		"UPDATE edition SET decided = true WHERE index_name = $1 AND number = $2 AND state = $3",
		e.Index,
		e.Number,
		string(reindex.Ready),
	))
	return n > 0, err
}

// Decided reports whether a person has said that an edition is to answer whatever its gates say.
func (r *Records) Decided(ctx context.Context, e *Edition) (decided bool, err error) {
	err = r.db.GetContext(
		ctx,
		&decided,
		"SELECT coalesce(bool_or(decided), false) FROM edition WHERE index_name = $1 AND number = $2",
		e.Index,
		e.Number,
	)
	return decided, err
}

// SaveMissed records that changes may be missing in an edition for good. The first reason
// stays; that it is to be refilled is added.
func (r *Records) SaveMissed(ctx context.Context, e *Edition, reason string, refill bool) error {
	n, err := r.fenced(
		ctx,
		`UPDATE edition SET missed = coalesce(missed, $5), missed_at = coalesce(missed_at, now()), refill = refill OR $6
		WHERE index_name = $3 AND number = $4 AND `+held,
		e,
		reason,
		refill,
	)
	if err == nil && n == 0 {
		return r.stillHeld(ctx, e)
	}
	return err
}

// others are the sources of an edition beside its own.
const others = `jsonb_path_query_array(shape, '$.trees[*].nodes[*].source')`

// SaveAllMissed is SaveMissed for all editions whose documents are made from a source; all are to be
// refilled.
func (r *Records) SaveAllMissed(ctx context.Context, source, fence, reason string) error {
	n, err := changed(r.db.ExecContext(
		ctx,
		`UPDATE edition SET missed = coalesce(missed, $3), missed_at = coalesce(missed_at, now()), refill = true
		WHERE (shape ->> 'source' = $1 OR `+others+` ? $1) AND `+held,
		source,
		fence,
		reason,
	))
	if err == nil && n == 0 {
		return r.stillHeld(ctx, &Edition{Shape: &shape.Shape{Source: source}, Fence: fence})
	}
	return err
}

// Refill records another edition of an index like one that lacks changes, unless it has a
// newer one already; an edition that was not switched to is cancelled.
func (r *Records) Refill(ctx context.Context, e *Edition) (*Edition, error) {
	var newest bool
	err := r.db.GetContext(
		ctx,
		&newest,
		`WITH cancelled AS (UPDATE edition SET state = 'cancelled' WHERE index_name = $1 AND number = $2 AND state <> 'switched')
		SELECT NOT EXISTS (SELECT FROM edition WHERE index_name = $1 AND number > $2 AND state NOT IN ('cancelled', 'previous'))`,
		e.Index,
		e.Number,
	)
	if err != nil || !newest {
		return nil, err
	}
	return r.NewEdition(ctx, e.Shape, e.Engine, e.Definition, Course{})
}

// CancelEdition has an edition dropped by whoever feeds it.
func (r *Records) CancelEdition(ctx context.Context, e *Edition) error {
	_, err := r.db.ExecContext(
		ctx,
		"UPDATE edition SET state = 'cancelled' WHERE index_name = $1 AND number = $2",
		e.Index,
		e.Number,
	)
	return err
}

// SaveShape records a shape that differs only in what an edition takes up in place.
func (r *Records) SaveShape(ctx context.Context, e *Edition) error {
	b, err := json.Marshal(e.Shape)
	if err != nil {
		return err
	}
	_, err = r.db.ExecContext(
		ctx,
		"UPDATE edition SET shape = $3 WHERE index_name = $1 AND number = $2",
		e.Index,
		e.Number,
		string(b),
	)
	return err
}

// DeleteEdition forgets an edition that the engine no longer has. Under a lease it keeps one that is
// not cancelled: records that were restored may have forgotten why it was dropped.
func (r *Records) DeleteEdition(ctx context.Context, e *Edition) error {
	n, err := r.fenced(
		ctx,
		"DELETE FROM edition WHERE index_name = $3 AND number = $4 AND ($2 = '' OR state = 'cancelled') AND "+held,
		e,
	)
	if err == nil && n == 0 {
		return r.stillHeld(ctx, e)
	}
	return err
}

// Chunk is a range of a tree's keys: after one, up to and with another; nil is no bound.
type Chunk struct {
	Number      int
	Tree        int
	After, Upto []string
}

// PlanChunk records a chunk and how far chunks are planned with it: up to its end, in
// which tree they go on, and whether that was all.
func (r *Records) PlanChunk(ctx context.Context, e *Edition, c Chunk, tree int, all bool) error {
	return r.mustChange(ctx, `
		WITH planned AS (UPDATE edition SET planned_to = $8, planned_tree = $9, planned = $10 WHERE index_name = $3 AND number = $4 AND `+held+` RETURNING 1)
		INSERT INTO chunk (index_name, number, chunk, tree, after, upto) SELECT $3, $4, $5, $6, $7, $8 FROM planned`,
		e, c.Number, c.Tree, c.After, c.Upto, tree, all)
}

// OpenChunks lists the chunks that are planned but not done.
func (r *Records) OpenChunks(ctx context.Context, e *Edition) ([]Chunk, error) {
	rows, err := r.db.QueryContext(
		ctx,
		"SELECT chunk, tree, array_to_json(after), array_to_json(upto) FROM chunk WHERE index_name = $1 AND number = $2 ORDER BY chunk",
		e.Index,
		e.Number,
	)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []Chunk
	for rows.Next() {
		var c Chunk
		var after, upto []byte
		if err := rows.Scan(&c.Number, &c.Tree, &after, &upto); err != nil {
			return nil, err
		}
		for _, side := range []struct {
			raw  []byte
			into *[]string
		}{{after, &c.After}, {upto, &c.Upto}} {
			if side.raw != nil {
				if err := json.Unmarshal(side.raw, side.into); err != nil {
					return nil, err
				}
			}
		}
		out = append(out, c)
	}
	return out, rows.Err()
}

// ChunkDone records a chunk whose documents were all acknowledged.
func (r *Records) ChunkDone(ctx context.Context, e *Edition, c Chunk, rows, bytes int64) error {
	n, err := r.fenced(ctx, `
		WITH done AS (DELETE FROM chunk WHERE index_name = $3 AND number = $4 AND chunk = $5 AND `+held+` RETURNING 1)
		UPDATE edition SET rows = rows + $6, bytes = bytes + $7 WHERE index_name = $3 AND number = $4 AND EXISTS (SELECT FROM done)`,
		e, c.Number, rows, bytes)
	if err == nil && n == 0 {
		return r.stillHeld(ctx, e)
	}
	return err
}
