package records

import (
	"context"
	"database/sql"
	"errors"
)

// Chunk is a range of a tree's keys: after one, up to and with another; nil is no bound.
type Chunk struct {
	Number      int
	Tree        int
	After, Upto []string
}

// Loan is a chunk that its edition's holder lets another process fill.
type Loan struct {
	Number int `db:"chunk"`
	// Process fills it; empty while none does. It increases Beat while it works.
	Process string `db:"process"`
	Beat    int64  `db:"beat"`
	// Ended: the process is done with it. Filled: all its documents were acknowledged; Rows and Bytes of them. Late: a
	// request was not answered, so it may still arrive.
	Ended  bool  `db:"ended"`
	Filled bool  `db:"filled"`
	Late   bool  `db:"late"`
	Rows   int64 `db:"rows"`
	Bytes  int64 `db:"bytes"`
}

// PlanChunk records a chunk and how far chunks are planned with it: up to its last key, in
// which tree they go on, and whether that was all. An offered one may be filled by any process.
func (r *Records) PlanChunk(ctx context.Context, e *Edition, c Chunk, tree int, all, offered bool) error {
	return r.mustChange(ctx, `
		WITH planned AS (UPDATE edition SET planned_to = $8, planned_tree = $9, planned = $10 WHERE index_name = $3 AND number = $4 AND `+held+` RETURNING 1)
		INSERT INTO chunk (index_name, number, chunk, tree, after, upto, offered) SELECT $3, $4, $5, $6, $7, $8, CASE WHEN $11 THEN $2 END FROM planned`,
		e, c.Number, c.Tree, bound(c.After), bound(c.Upto), tree, all, offered)
}

// OpenChunks lists the chunks that are planned but not done.
func (r *Records) OpenChunks(ctx context.Context, e *Edition) ([]Chunk, error) {
	rows, err := r.reads.QueryContext(
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
		if err := c.scan(rows.Scan); err != nil {
			return nil, err
		}
		out = append(out, c)
	}
	return out, rows.Err()
}

// scan reads a chunk, and what comes after it in its row.
func (c *Chunk) scan(scan func(into ...any) error, more ...any) error {
	var after, upto []byte
	if err := scan(append([]any{&c.Number, &c.Tree, &after, &upto}, more...)...); err != nil {
		return err
	}
	return errors.Join(readBound(after, &c.After), readBound(upto, &c.Upto))
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

// Loans lists the chunks of an edition that are offered or were taken by others.
func (r *Records) Loans(ctx context.Context, e *Edition) (out []Loan, err error) {
	err = r.reads.SelectContext(ctx, &out, `SELECT chunk, coalesce(process, '') AS process, beat, filled IS NOT NULL AS ended,
		coalesce(filled, false) AS filled, late, rows, bytes FROM chunk WHERE index_name = $1 AND number = $2 AND offered IS NOT NULL ORDER BY chunk`,
		e.Index, e.Number)
	return out, err
}

// TakeBack takes a chunk back from its process, unless that has increased its beat since it was read, or has filled it.
func (r *Records) TakeBack(ctx context.Context, e *Edition, seen Loan) (bool, error) {
	n, err := r.fenced(ctx, `UPDATE chunk SET `+takenBack+` WHERE index_name = $3 AND number = $4 AND chunk = $5
		AND coalesce(process, '') = $6 AND beat = $7 AND filled IS NOT TRUE AND `+held,
		e, seen.Number, seen.Process, seen.Beat)
	return n > 0, err
}

// TakeAllBack takes all chunks of an edition back from other processes.
func (r *Records) TakeAllBack(ctx context.Context, e *Edition) error {
	n, err := r.fenced(ctx, `UPDATE chunk SET `+takenBack+` WHERE index_name = $3 AND number = $4 AND offered IS NOT NULL AND `+held, e)
	if err == nil && n == 0 {
		return r.stillHeld(ctx, e)
	}
	return err
}

const takenBack = "offered = NULL, process = NULL, beat = 0, filled = NULL, late = false"

// Task is a chunk that a process fills for the holder of the edition's lease, which has this epoch and this fence.
type Task struct {
	Chunk
	Epoch int64
	Fence string
}

// TakeChunk gives a process a chunk that another one offers, while that holds the lease and the edition is being
// filled; nil when there is none, or when the version of the definition that the process goes by is not the newest:
// what it knows may be somewhere else by now.
func (r *Records) TakeChunk(ctx context.Context, e *Edition, process string, definition int) (*Task, error) {
	var t Task
	err := t.scan(r.db.QueryRowContext(ctx, `
		WITH holder AS (SELECT epoch, epoch || ' ' || holder AS fence FROM lease WHERE source = $1 AND holder NOT IN ('', $4) FOR SHARE),
		next AS (SELECT chunk, epoch, fence FROM chunk, holder WHERE index_name = $2 AND number = $3 AND offered = fence AND process IS NULL
			AND EXISTS (SELECT FROM edition e WHERE e.index_name = $2 AND e.number = $3 AND e.birth = $5 AND e.state = 'filling')
			AND NOT EXISTS (SELECT FROM definition WHERE version > $6)
			ORDER BY chunk LIMIT 1 FOR UPDATE OF chunk SKIP LOCKED)
		UPDATE chunk c SET process = $4 FROM next WHERE c.index_name = $2 AND c.number = $3 AND c.chunk = next.chunk
		RETURNING c.chunk, c.tree, array_to_json(c.after), array_to_json(c.upto), next.epoch, next.fence`,
		e.Shape.Source, e.Index, e.Number, process, e.Birth, definition).Scan, &t.Epoch, &t.Fence)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	return &t, err
}

// taken is the condition that a chunk ($5) is filled by a process ($6) for the edition's holder. The records may have
// been put back, and the edition's number given again: its birth mark ($7) was not.
const taken = `index_name = $3 AND number = $4 AND chunk = $5 AND process = $6 AND filled IS NULL AND offered = $2 AND ` + held + `
	AND EXISTS (SELECT FROM edition e WHERE e.index_name = $3 AND e.number = $4 AND e.birth = $7 AND e.state = 'filling')`

// KeepChunk moves the beat of a chunk that a process fills. It fails with ErrLost when the process no longer may:
// the edition's holder took it back, lost its lease, or fills the edition no longer.
func (r *Records) KeepChunk(ctx context.Context, e *Edition, number int, process string) error {
	return r.mustChange(ctx, `UPDATE chunk SET beat = beat + 1 WHERE `+taken, e, number, process, e.Birth)
}

// ReturnChunk records that a process is done with a chunk, and the outcome.
func (r *Records) ReturnChunk(ctx context.Context, e *Edition, became Loan) error {
	return r.mustChange(ctx, `UPDATE chunk SET filled = $8, late = $9, rows = $10, bytes = $11 WHERE `+taken,
		e, became.Number, became.Process, e.Birth, became.Filled, became.Late, became.Rows, became.Bytes)
}
