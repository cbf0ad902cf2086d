package records

import (
	"context"
	"time"
)

// Rebuild is that all documents of a tree are to be built again, by ranges of its keys.
type Rebuild struct {
	Tree int
	// Upto is up to which key it is done, and Rows how many those were; nil is from the start.
	Upto []string
	Rows int64
	// Generation changes whenever it starts again, and never repeats.
	Generation int64
	At         time.Time // when the oldest change was made that asks for it
	Paused     bool      // by a person
}

// AddRebuild has all documents of a tree built again, from the start also where that is under way.
func (r *Records) AddRebuild(ctx context.Context, e *Edition, tree int, at time.Time) error {
	return r.mustChange(ctx, `INSERT INTO rebuild AS b (index_name, number, tree, at) SELECT $3::text, $4::int, $5::int, $6::timestamptz WHERE `+held+`
		ON CONFLICT (index_name, number, tree) DO UPDATE SET upto = NULL, rows = 0, generation = excluded.generation, at = least(b.at, excluded.at)`,
		e, tree, at)
}

// Rebuilds lists what is to be built again, the oldest first.
func (r *Records) Rebuilds(ctx context.Context, e *Edition) ([]Rebuild, error) {
	rows, err := r.reads.QueryContext(ctx, `SELECT tree, array_to_json(upto), rows, generation, at, paused FROM rebuild
		WHERE index_name = $1 AND number = $2 ORDER BY at, tree`, e.Index, e.Number)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []Rebuild
	for rows.Next() {
		var b Rebuild
		var upto []byte
		if err := rows.Scan(&b.Tree, &upto, &b.Rows, &b.Generation, &b.At, &b.Paused); err != nil {
			return nil, err
		}
		if err := readBound(upto, &b.Upto); err != nil {
			return nil, err
		}
		out = append(out, b)
	}
	return out, rows.Err()
}

// PauseRebuilds halts what is to be built again in an edition, or lets it go on, and records what is to be told of
// that. It reports whether there is any.
func (r *Records) PauseRebuilds(ctx context.Context, e *Edition, paused bool, what string) (bool, error) {
	n, err := changed(r.db.ExecContext(ctx, `WITH saved AS (
			UPDATE rebuild SET paused = $3 WHERE index_name = $1 AND number = $2 RETURNING index_name, number)
		INSERT INTO edition_event (index_name, number, what) SELECT DISTINCT index_name, number, $4 FROM saved`,
		e.Index, e.Number, paused, what))
	return n > 0, err
}

// RebuiltTo records how far a rebuild is; with no key it is done. It changes nothing where it has started again since.
func (r *Records) RebuiltTo(ctx context.Context, e *Edition, b Rebuild) error {
	const of = `index_name = $3 AND number = $4 AND tree = $5 AND generation = $6 AND ` + held
	var n int64
	var err error
	if b.Upto == nil {
		n, err = r.fenced(ctx, `DELETE FROM rebuild WHERE `+of, e, b.Tree, b.Generation)
	} else {
		n, err = r.fenced(ctx, `UPDATE rebuild SET upto = $7, rows = $8 WHERE `+of, e, b.Tree, b.Generation, bound(b.Upto), b.Rows)
	}
	if err == nil && n == 0 {
		return r.stillHeld(ctx, e)
	}
	return err
}
