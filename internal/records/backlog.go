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

// Owe puts keys into an edition's backlog, each with the time of its change. It returns
// how many were not in it.
func (r *Records) Owe(ctx context.Context, e *Edition, keys []string, at []time.Time) (fresh int64, err error) {
	err = r.db.GetContext(ctx, &fresh, `
		WITH owed AS (INSERT INTO backlog AS b (index_name, number, key, at) SELECT $1, $2, k.key, k.at FROM unnest($3::text[], $4::timestamptz[]) AS k(key, at)
		ON CONFLICT (index_name, number, key) DO UPDATE SET turn = b.turn + 1, at = least(b.at, excluded.at) RETURNING turn)
		SELECT count(*) FROM owed WHERE turn = 1`, e.Index, e.Number, keys, at)
	return fresh, err
}

// Backlog lists at most n keys of an edition's backlog after a key, in order.
func (r *Records) Backlog(ctx context.Context, e *Edition, after string, n int) ([]Owed, error) {
	var out []Owed
	err := r.db.SelectContext(ctx, &out, "SELECT key, turn, at FROM backlog WHERE index_name = $1 AND number = $2 AND key > $3 ORDER BY key LIMIT $4", e.Index, e.Number, after, n)
	return out, err
}

// Paid takes documents that were built out of the backlog, but for those that were put
// there again meanwhile. They are as Backlog has listed them, in order.
func (r *Records) Paid(ctx context.Context, e *Edition, list []Owed) error {
	if len(list) == 0 {
		return nil
	}
	byTurn := map[int64][]string{}
	for _, o := range list {
		byTurn[o.Turn] = append(byTurn[o.Turn], o.Key)
	}
	// Where the database does not know yet how large the backlog has become, it looks for
	// the keys by reading all rows of the edition, unless it is told between which they are.
	for turn, keys := range byTurn {
		if _, err := r.db.ExecContext(ctx, "DELETE FROM backlog WHERE index_name = $1 AND number = $2 AND key BETWEEN $3 AND $4 AND key = ANY($5) AND turn = $6",
			e.Index, e.Number, list[0].Key, list[len(list)-1].Key, keys, turn); err != nil {
			return err
		}
	}
	return nil
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
