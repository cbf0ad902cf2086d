package pgsession

import (
	"cmp"
	"context"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"
)

// Pool is a pool whose Query and QueryRow only read: a statement that calls code of others changes nothing by it. What
// writes uses Exec, a transaction, or the pool within.
type Pool struct{ *pgxpool.Pool }

// Query runs a statement in a read-only transaction of its own, which ends, rolled back, with the rows.
func (p Pool) Query(ctx context.Context, sql string, args ...any) (pgx.Rows, error) {
	conn, err := p.Acquire(ctx)
	if err != nil {
		return nil, err
	}
	batch := &pgx.Batch{} // one round trip
	batch.Queue("BEGIN READ ONLY")
	batch.Queue(sql, args...)
	batch.Queue(rollback)
	out := &readRows{ctx: ctx, conn: conn, results: conn.SendBatch(ctx, batch)}
	if _, err := out.results.Exec(); err != nil {
		out.end()
		return nil, err
	}
	if out.Rows, err = out.results.Query(); err != nil {
		out.end()
		return nil, err
	}
	return out, nil
}

const rollback = "ROLLBACK"

// readRows are the rows of a read-only transaction.
type readRows struct {
	pgx.Rows
	ctx     context.Context
	conn    *pgxpool.Conn
	results pgx.BatchResults
	ended   bool
}

// Next is that of the rows.
func (r *readRows) Next() bool {
	if r.Rows.Next() {
		return true
	}
	r.Close()
	return false
}

// Close ends the transaction.
func (r *readRows) Close() {
	r.Rows.Close()
	r.end()
}

func (r *readRows) end() {
	if r.ended {
		return
	}
	r.ended = true
	if err := r.results.Close(); err != nil && !r.conn.Conn().IsClosed() {
		_, _ = r.conn.Exec(context.WithoutCancel(r.ctx), rollback) // else the pool closes the connection
	}
	r.conn.Release()
}

// QueryRow is Query for one row.
func (p Pool) QueryRow(ctx context.Context, sql string, args ...any) pgx.Row {
	rows, err := p.Query(ctx, sql, args...)
	return &readRow{rows, err}
}

// readRow is the first of some rows.
type readRow struct {
	rows pgx.Rows
	err  error
}

// Scan is that of the rows; without any it gives pgx.ErrNoRows.
func (r *readRow) Scan(into ...any) error {
	if r.err != nil {
		return r.err
	}
	defer r.rows.Close()
	if !r.rows.Next() {
		return cmp.Or(r.rows.Err(), pgx.ErrNoRows)
	}
	if err := r.rows.Scan(into...); err != nil {
		return err
	}
	r.rows.Close()
	return r.rows.Err()
}
