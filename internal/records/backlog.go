package records

import (
	"context"
	"time"
)

// Owed is a document that an edition is to build from its backlog.
type Owed struct {
	Key  string    `db:"key"`
	Turn int64     `db:"turn"`
	At   time.Time `db:"at"` // when the oldest change was made that asks for it
}

// Owe puts keys into an edition's backlog, each with the time of its change.
func (r *Records) Owe(ctx context.Context, e *Edition, keys []string, at []time.Time) error {
	_, err := r.db.ExecContext(ctx, `
		INSERT INTO backlog AS b (index_name, number, key, at) SELECT $1, $2, k.key, k.at FROM unnest($3::text[], $4::timestamptz[]) AS k(key, at)
		ON CONFLICT (index_name, number, key) DO UPDATE SET turn = b.turn + 1, at = least(b.at, excluded.at)`, e.Index, e.Number, keys, at)
	return err
}

// Backlog lists at most n keys of an edition's backlog after a key, in order.
func (r *Records) Backlog(ctx context.Context, e *Edition, after string, n int) ([]Owed, error) {
	var out []Owed
	err := r.db.SelectContext(ctx, &out, "SELECT key, turn, at FROM backlog WHERE index_name = $1 AND number = $2 AND key > $3 ORDER BY key LIMIT $4", e.Index, e.Number, after, n)
	return out, err
}

// Paid takes documents that were built out of the backlog, but for those that were put
// there again meanwhile.
func (r *Records) Paid(ctx context.Context, e *Edition, list []Owed) error {
	keys, turns := make([]string, len(list)), make([]int64, len(list))
	for i, o := range list {
		keys[i], turns[i] = o.Key, o.Turn
	}
	_, err := r.db.ExecContext(ctx, `DELETE FROM backlog b USING unnest($3::text[], $4::bigint[]) AS k(key, turn)
		WHERE b.index_name = $1 AND b.number = $2 AND b.key = k.key AND b.turn = k.turn`, e.Index, e.Number, keys, turns)
	return err
}

// BacklogSize is how many documents an edition's backlog holds, and when the oldest
// change was made that asks for one.
func (r *Records) BacklogSize(ctx context.Context, e *Edition) (n int64, oldest *time.Time, err error) {
	var row struct {
		N      int64      `db:"n"`
		Oldest *time.Time `db:"oldest"`
	}
	err = r.db.GetContext(ctx, &row, "SELECT count(*) AS n, min(at) AS oldest FROM backlog WHERE index_name = $1 AND number = $2", e.Index, e.Number)
	return row.N, row.Oldest, err
}
