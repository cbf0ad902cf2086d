package intake

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"
)

// Owed is a record that has changed, according to an event, and must be fetched.
type Owed struct {
	Record, Key, Version string
	// Generation changes whenever another event names it.
	Generation int64
	Attempts   int
}

// Owe notes that records are to be read. When it returns, that is on disk.
func (s *Store) Owe(ctx context.Context, events []Event) error {
	batch := &pgx.Batch{}
	for _, e := range events {
		batch.Queue(`INSERT INTO intake_fetch AS f (source, record, key, version) VALUES ($1, $2, $3, $4)
			ON CONFLICT (source, record, key) DO UPDATE SET version = excluded.version, generation = DEFAULT, attempts = 0, due = clock_timestamp()`,
			s.source, e.Record, e.Key, e.Version)
	}
	return explainNil("keeping what was sent", s.pool.SendBatch(ctx, batch).Close())
}

// Due lists records that are to be read now, at most n.
func (s *Store) Due(ctx context.Context, n int) ([]Owed, error) {
	rows, err := s.pool.Query(
		ctx,
		"SELECT record, key, version, generation, attempts FROM intake_fetch WHERE source = $1 AND due <= clock_timestamp() ORDER BY due LIMIT $2",
		s.source,
		n,
	)
	if err != nil {
		return nil, explain("looking what is to be read", err)
	}
	out, err := pgx.CollectRows(rows, pgx.RowToStructByPos[Owed])
	return out, explainNil("looking what is to be read", err)
}

// Settle notes that a record was read, unless it is to be read again meanwhile.
func (s *Store) Settle(ctx context.Context, o Owed) error {
	_, err := s.pool.Exec(
		ctx,
		"DELETE FROM intake_fetch WHERE source = $1 AND record = $2 AND key = $3 AND generation = $4",
		s.source,
		o.Record,
		o.Key,
		o.Generation,
	)
	return explainNil("noting what was read", err)
}

// Postpone has a record read later that could not be read.
func (s *Store) Postpone(ctx context.Context, o Owed, wait time.Duration) error {
	_, err := s.pool.Exec(
		ctx,
		"UPDATE intake_fetch SET attempts = attempts + 1, due = clock_timestamp() + $5::interval WHERE source = $1 AND record = $2 AND key = $3 AND generation = $4",
		s.source,
		o.Record,
		o.Key,
		o.Generation,
		wait,
	)
	return explainNil("noting what was not read", err)
}
