package records

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"pingo/internal/core/drift"
)

// Difference is a document of an edition that is not what its row makes.
type Difference struct {
	Key     string      `db:"key"`
	Kind    drift.Kind  `db:"kind"`
	Cause   drift.Cause `db:"cause"`
	FoundAt time.Time   `db:"found_at"`
}

// Coverage is how much of an edition was compared with its rows; nothing before anything was.
func (r *Records) Coverage(ctx context.Context, e *Edition) (*drift.Coverage, error) {
	var body []byte
	err := r.reads.GetContext(
		ctx,
		&body,
		"SELECT body FROM coverage WHERE index_name = $1 AND number = $2",
		e.Index,
		e.Number,
	)
	out := &drift.Coverage{}
	if errors.Is(err, sql.ErrNoRows) {
		return out, nil
	}
	if err != nil {
		return nil, err
	}
	return out, json.Unmarshal(body, out)
}

// SaveCoverage records it.
func (r *Records) SaveCoverage(ctx context.Context, e *Edition, c *drift.Coverage) error {
	body, err := json.Marshal(c)
	if err != nil {
		return err
	}
	return r.mustChange(
		ctx,
		`INSERT INTO coverage (index_name, number, body) SELECT $3::text, $4::int, $5::jsonb WHERE `+held+`
		ON CONFLICT (index_name, number) DO UPDATE SET body = excluded.body`,
		e,
		string(body),
	)
}

// MostDifferences bounds how many differences of an edition are kept.
const MostDifferences = 10_000

// Differences lists those of an edition, by key.
func (r *Records) Differences(ctx context.Context, e *Edition) ([]Difference, error) {
	out := []Difference{}
	err := r.reads.SelectContext(
		ctx,
		&out,
		`SELECT key, kind, cause, found_at FROM difference WHERE index_name = $1 AND number = $2 ORDER BY key LIMIT $3`,
		e.Index,
		e.Number,
		MostDifferences,
	)
	return out, err
}

// SaveDifferences records differences that were found, and forgets those of other keys that no longer
// differ.
func (r *Records) SaveDifferences(ctx context.Context, e *Edition, found []Difference, settled []string) error {
	keys, kinds, causes := make([]string, len(found)), make([]string, len(found)), make([]string, len(found))
	for i, d := range found {
		keys[i], kinds[i], causes[i] = d.Key, string(d.Kind), string(d.Cause)
	}
	_, err := r.fenced(
		ctx,
		`WITH gone AS (DELETE FROM difference WHERE index_name = $3 AND number = $4 AND key = ANY($8) AND `+held+`)
		INSERT INTO difference (index_name, number, key, kind, cause)
			SELECT $3::text, $4::int, f.* FROM unnest($5::text[], $6::text[], $7::text[]) f WHERE `+held+`
			ON CONFLICT (index_name, number, key) DO UPDATE SET kind = excluded.kind, cause = excluded.cause`,
		e,
		keys,
		kinds,
		causes,
		settled,
	)
	if err != nil {
		return err
	}
	return r.stillHeld(ctx, e)
}

// Order is a check or a repair of an edition that was asked for, and what came of it.
type Order struct {
	ID      int64
	Index   string
	Number  int
	Edition string
	Asked   drift.Asked
	By      string
	AskedAt time.Time
	BeganAt *time.Time
	EndedAt *time.Time
	Outcome drift.Outcome
}

type orderRow struct {
	ID      int64      `db:"id"`
	Index   string     `db:"index_name"`
	Number  int        `db:"number"`
	Edition string     `db:"edition"`
	Asked   []byte     `db:"asked"`
	By      string     `db:"asked_by"`
	AskedAt time.Time  `db:"asked_at"`
	BeganAt *time.Time `db:"began_at"`
	EndedAt *time.Time `db:"ended_at"`
	Outcome []byte     `db:"outcome"`
}

// ordersKept is how many orders of an index are kept.
const ordersKept = 200

// AskDrift records an order for an edition, and forgets the oldest of its index.
func (r *Records) AskDrift(ctx context.Context, e *Edition, asked drift.Asked, by string) (id int64, err error) {
	body, err := json.Marshal(asked)
	if err != nil {
		return 0, err
	}
	err = r.db.GetContext(
		ctx,
		&id,
		`WITH old AS (DELETE FROM drift_order WHERE index_name = $1 AND ended_at IS NOT NULL
			AND id <= (SELECT id FROM drift_order WHERE index_name = $1 ORDER BY id DESC OFFSET $6 LIMIT 1))
		INSERT INTO drift_order (index_name, number, edition, asked, asked_by) VALUES ($1, $2, $3, $4, $5) RETURNING id`,
		e.Index,
		e.Number,
		e.Name(),
		string(body),
		by,
		ordersKept,
	)
	return id, err
}

// NextOrder is the oldest order for an edition that has not ended; nil when there is none.
func (r *Records) NextOrder(ctx context.Context, e *Edition) (*Order, error) {
	list, err := r.orders(
		ctx,
		"WHERE index_name = $1 AND number = $2 AND ended_at IS NULL ORDER BY id LIMIT 1",
		e.Index,
		e.Number,
	)
	if err != nil || len(list) == 0 {
		return nil, err
	}
	return &list[0], nil
}

// Orders lists the newest orders of an index, the newest first.
func (r *Records) Orders(ctx context.Context, index string, n int) ([]Order, error) {
	return r.orders(ctx, "WHERE index_name = $1 ORDER BY id DESC LIMIT $2", index, n)
}

// Order finds one; nil when there is none of that number.
func (r *Records) Order(ctx context.Context, index string, id int64) (*Order, error) {
	list, err := r.orders(ctx, "WHERE index_name = $1 AND id = $2", index, id)
	if err != nil || len(list) == 0 {
		return nil, err
	}
	return &list[0], nil
}

func (r *Records) orders(ctx context.Context, where string, args ...any) ([]Order, error) {
	var rows []orderRow
	if err := r.reads.SelectContext(
		ctx,
		&rows,
		"SELECT id, index_name, number, edition, asked, asked_by, asked_at, began_at, ended_at, outcome FROM drift_order "+where,
		args...); err != nil {
		return nil, err
	}
	out := make([]Order, len(rows))
	for i, x := range rows {
		o := &out[i]
		*o = Order{
			ID: x.ID, Index: x.Index, Number: x.Number, Edition: x.Edition, By: x.By,
			AskedAt: x.AskedAt, BeganAt: x.BeganAt, EndedAt: x.EndedAt,
		}
		if err := errors.Join(json.Unmarshal(x.Asked, &o.Asked), json.Unmarshal(x.Outcome, &o.Outcome)); err != nil {
			return nil, fmt.Errorf("the stored order %d of %s: %w", x.ID, x.Index, err)
		}
	}
	return out, nil
}

// SaveOrder records how far an order is, and whether it has ended. It reports whether it still stands:
// a person may have stopped it.
func (r *Records) SaveOrder(ctx context.Context, e *Edition, id int64, o *drift.Outcome, ended bool) (bool, error) {
	body, err := json.Marshal(o)
	if err != nil {
		return false, err
	}
	n, err := r.fenced(
		ctx,
		`UPDATE drift_order SET began_at = coalesce(began_at, now()), ended_at = CASE WHEN $7 THEN now() END, outcome = $6
		WHERE index_name = $3 AND number = $4 AND id = $5 AND ended_at IS NULL AND `+held,
		e,
		id,
		string(body),
		ended,
	)
	if err == nil && n == 0 {
		err = r.stillHeld(ctx, e)
	}
	return n > 0, err
}

// StopOrder ends an order that has not ended. It reports whether there was one.
func (r *Records) StopOrder(ctx context.Context, index string, id int64) (bool, error) {
	n, err := changed(r.db.ExecContext(
		ctx,
		`UPDATE drift_order SET ended_at = now(), outcome = outcome || '{"problem": "it was stopped"}'
		WHERE index_name = $1 AND id = $2 AND ended_at IS NULL`,
		index,
		id,
	))
	return n > 0, err
}
