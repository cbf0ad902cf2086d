package records

import (
	"context"
	"errors"
	"pingo/internal/core/reindex"
	"pingo/internal/core/shape"
	"slices"
	"time"
)

// SaveSwitched records that an edition answers under the public name. The one that did is kept as the
// previous one for some time, unless that is 0 or it lacks changes. It fails with ErrOvertaken when there
// is a newer edition than one that has never answered. It may be called again when the answer got lost.
func (r *Records) SaveSwitched(ctx context.Context, e *Edition, keep time.Duration) error {
	n, err := r.fenced(
		ctx,
		`WITH saved AS (UPDATE edition e SET state = 'switched', kept_until = NULL WHERE index_name = $3 AND number = $4
			AND state <> 'cancelled' AND `+held+` AND (state IN ('switched', 'returning') OR NOT EXISTS (SELECT FROM edition n
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

// ErrOvertaken says that an edition is no longer live, or never will be.
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

// Retire marks an edition that is no longer needed to be dropped: one that was overtaken before it was live,
// or that answered before and need not be kept any longer, or lacks changes, even if it is about to answer
// again: else one that the engine has dropped meanwhile would stay so for ever, where the records were put
// back (small storm, seed 110122941). It reports whether it is to be dropped.
func (r *Records) Retire(ctx context.Context, e *Edition) (bool, error) {
	n, err := r.fenced(
		ctx,
		`UPDATE edition e SET state = 'cancelled' WHERE index_name = $3 AND number = $4 AND `+held+` AND (state = 'cancelled'
			OR state IN ('previous', 'returning') AND missed IS NOT NULL OR state = 'previous' AND kept_until < now()
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

// Event is one event in the history of an edition.
type Event struct {
	At time.Time `db:"at"`
	// What is a step, or a phrase with what a person did.
	What string `db:"what"`
}

// mostEvents bounds how many events are given, the newest.
const mostEvents = 200

// Events lists the history of an edition, oldest first.
func (r *Records) Events(ctx context.Context, e *Edition) ([]Event, error) {
	out := []Event{}
	err := r.reads.SelectContext(
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

// SaveEvent records an event of an edition, unless the last event was the same.
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
	err = r.reads.GetContext(
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

// SaveAllMissed is SaveMissed for all editions whose documents are made from a source; all are to be
// refilled.
func (r *Records) SaveAllMissed(ctx context.Context, source, fence, reason string) error {
	n, err := changed(r.db.ExecContext(
		ctx,
		`UPDATE edition SET missed = coalesce(missed, $3), missed_at = coalesce(missed_at, now()), refill = true
		WHERE (edition.source = $1 OR others ? $1) AND `+held,
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
	// What people said of how one is filled that was not switched to holds for the next one, too.
	var course []Course
	err := r.reads.SelectContext(
		ctx,
		&course,
		`SELECT paused, pace, begins_at, takes_over FROM edition WHERE index_name = $1 AND number = $2
		AND state NOT IN ('switched', 'previous', 'returning', 'cancelled')`,
		e.Index,
		e.Number,
	)
	if err != nil {
		return nil, err
	}
	var newest bool
	err = r.db.GetContext(
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
	return r.NewEdition(ctx, e.Shape, e.Engine, e.Definition, append(course, Course{})[0])
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

// Drop has a kept edition dropped before its time by whoever feeds it. It reports whether the edition is kept: the live one, one that
// returns and one that is filled are not.
func (r *Records) Drop(ctx context.Context, e *Edition) (bool, error) {
	n, err := changed(r.db.ExecContext(
		ctx,
		"UPDATE edition SET state = 'cancelled' WHERE index_name = $1 AND number = $2 AND state = 'previous'",
		e.Index,
		e.Number,
	))
	return n > 0, err
}

// DeleteEdition forgets an edition that the engine no longer has, and ends what was asked for of it. Under a lease it keeps one that is
// not cancelled: records that were restored may have forgotten why it was dropped.
func (r *Records) DeleteEdition(ctx context.Context, e *Edition) error {
	n, err := r.fenced(
		ctx,
		`WITH gone AS (DELETE FROM edition WHERE index_name = $3 AND number = $4 AND ($2 = '' OR state = 'cancelled') AND `+held+`
			RETURNING index_name, number),
		ended AS (UPDATE drift_order o SET ended_at = now(), outcome = outcome || '{"problem": "the edition is gone"}'
			FROM gone WHERE o.index_name = gone.index_name AND o.number = gone.number AND o.ended_at IS NULL)
		SELECT FROM gone`,
		e,
	)
	if err == nil && n == 0 {
		return r.stillHeld(ctx, e)
	}
	return err
}
