package records

import (
	"context"
	"time"

	"pingo/internal/pgerror"
)

// BacklogEntry is a document that an edition is to build from its backlog.
type BacklogEntry struct {
	Key string `db:"key"`
	// Generation is another one whenever the key is put there, and never comes again.
	Generation int64     `db:"generation"`
	At         time.Time `db:"at"` // when the oldest change was made that asks for it
}

// AddToBacklog puts keys into an edition's backlog, each with the time of its change. It
// returns how many were not in it.
func (r *Records) AddToBacklog(
	ctx context.Context,
	e *Edition,
	keys []string,
	at []time.Time,
) (added int64, err error) {
	var row struct {
		Written int64 `db:"written"`
		Added   int64 `db:"added"`
	}
	err = r.db.GetContext(ctx, &row, `
		WITH written AS (INSERT INTO backlog AS b (index_name, number, key, at)
			SELECT $3::text, $4::int, k.key, k.at FROM unnest($5::text[], $6::timestamptz[]) AS k(key, at) WHERE `+held+`
			ON CONFLICT (index_name, number, key) DO UPDATE SET generation = excluded.generation, at = least(b.at, excluded.at) RETURNING xmax = 0 AS added)
		SELECT count(*) AS written, count(*) FILTER (WHERE added) AS added FROM written`, e.fence(keys, at)...)
	if err == nil && row.Written == 0 && len(keys) > 0 {
		err = ErrLost
	}
	return row.Added, err
}

// Backlog lists at most n keys of an edition's backlog after a key, in order.
func (r *Records) Backlog(ctx context.Context, e *Edition, after string, n int) ([]BacklogEntry, error) {
	var out []BacklogEntry
	err := r.reads.SelectContext(
		ctx,
		&out,
		"SELECT key, generation, at FROM backlog WHERE index_name = $1 AND number = $2 AND key > $3 ORDER BY key LIMIT $4",
		e.Index,
		e.Number,
		after,
		n,
	)
	return out, err
}

// RemoveFromBacklog takes documents that were built out of the backlog, but for those
// that were put there again meanwhile. They are as Backlog has listed them, in order.
func (r *Records) RemoveFromBacklog(ctx context.Context, e *Edition, list []BacklogEntry) error {
	if len(list) == 0 {
		return nil
	}
	keys, generations := make([]string, len(list)), make([]int64, len(list))
	for i, b := range list {
		keys[i], generations[i] = b.Key, b.Generation
	}
	// Where the database does not know yet how large the backlog has become, it looks for
	// the keys by reading all rows of the edition, unless it knows between which they are.
	_, err := r.fenced(
		ctx,
		`DELETE FROM backlog WHERE index_name = $3 AND number = $4 AND key BETWEEN $5 AND $6 AND key = ANY($7) AND generation = ANY($8) AND `+held,
		e,
		list[0].Key,
		list[len(list)-1].Key,
		keys,
		generations,
	)
	if err != nil {
		return err
	}
	r.workedOff.Store(true)
	return r.stillHeld(ctx, e)
}

// keptRoom is how many bytes an empty backlog may hold for what comes next.
const keptRoom = 2_000_000

// giveBackRoom releases the disk space of an emptied backlog, which a table keeps otherwise. A process that uses it now is not
// waited for: it is tried again.
func (r *Records) giveBackRoom(ctx context.Context) error {
	tx, err := r.db.BeginTxx(ctx, nil)
	if err != nil {
		return err
	}
	defer tx.Rollback()
	var bytes int64
	if err := tx.GetContext(ctx, &bytes, "SELECT pg_total_relation_size('backlog')"); err != nil {
		return err
	}
	if bytes > keptRoom {
		if _, err := tx.ExecContext(ctx, "LOCK TABLE backlog IN ACCESS EXCLUSIVE MODE NOWAIT"); pgerror.Code(err) == "55P03" {
			return nil
		} else if err != nil {
			return err
		}
		var waiting bool
		if err := tx.GetContext(ctx, &waiting, "SELECT EXISTS (SELECT FROM backlog)"); err != nil || waiting {
			return err
		}
		if _, err := tx.ExecContext(ctx, "TRUNCATE backlog"); err != nil {
			return err
		}
	}
	if err := tx.Commit(); err != nil {
		return err
	}
	r.workedOff.Store(false)
	return nil
}

// BacklogSize is how many documents an edition's backlog holds, and when the oldest
// change was made that asks for one.
func (r *Records) BacklogSize(ctx context.Context, e *Edition) (n int64, oldest *time.Time, err error) {
	var row struct {
		N      int64      `db:"n"`
		Oldest *time.Time `db:"oldest"`
	}
	err = r.reads.GetContext(
		ctx,
		&row,
		"SELECT count(*) AS n, min(at) AS oldest FROM backlog WHERE index_name = $1 AND number = $2",
		e.Index,
		e.Number,
	)
	if err == nil && row.N == 0 && r.workedOff.Load() {
		err = r.giveBackRoom(ctx)
	}
	return row.N, row.Oldest, err
}
