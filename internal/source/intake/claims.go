package intake

import (
	"context"
	"encoding/json"
	"errors"
	"sync"

	"github.com/jackc/pgx/v5"

	"pingo/internal/core/change"
	"pingo/internal/pgsession"
	"pingo/internal/source"
)

// Claims are those of a source in which nothing of Pingo's may stand, kept in Pingo's own database.
// They tell processes of one service apart; of another service, and of the source being an older
// copy of itself, they know nothing.
type Claims struct {
	pool   pgsession.Pool
	source string

	mu    sync.Mutex // guards claim
	claim change.Claim
}

// Claims are those of the source.
func (s *Store) Claims() *Claims { return &Claims{pool: s.pool, source: s.source} }

const claimColumns = "service, holder, epoch, mark, ((SELECT system_identifier FROM pg_control_system()) || '/' || (SELECT timeline_id FROM pg_control_checkpoint())) AS history"

var errSuperseded = &source.Error{
	Fault: source.Superseded,
	Err:   errors.New("another process reads the changes of this source"),
}

// claimOf returns the claim among the rows of a statement. The claim is zero when there are none.
func claimOf(rows pgx.Rows, err error) (change.Claim, error) {
	if err != nil {
		return change.Claim{}, explain("reading who reads the source", err)
	}
	list, err := pgx.CollectRows(rows, pgx.RowToStructByName[change.Claim])
	if err != nil || len(list) == 0 {
		return change.Claim{}, explainNil("reading who reads the source", err)
	}
	return list[0], nil
}

// Claimed reads who has claimed the source.
func (c *Claims) Claimed(ctx context.Context) (change.Claim, error) {
	return claimOf(c.pool.Query(ctx, "SELECT "+claimColumns+" FROM intake_claim WHERE source = $1", c.source))
}

// Claim claims it, if its claim is still as it was found.
func (c *Claims) Claim(ctx context.Context, found, claim change.Claim) error {
	now, err := claimOf(c.pool.Pool.Query(
		ctx,
		`INSERT INTO intake_claim AS i (source, service, holder, epoch, mark) SELECT $1, $2, $3, $4, $5
			WHERE $7::bigint = 0 OR EXISTS (SELECT FROM intake_claim WHERE source = $1)
		ON CONFLICT (source) DO UPDATE SET service = excluded.service, holder = excluded.holder, epoch = excluded.epoch, mark = excluded.mark
			WHERE i.holder = $6 AND i.epoch = $7 AND i.mark = $8 RETURNING `+claimColumns,
		c.source,
		claim.Service,
		claim.Holder,
		claim.Epoch,
		claim.Mark,
		found.Holder,
		found.Epoch,
		found.Mark,
	))
	return c.took(now, err)
}

// Beat moves the mark of the claim on, if it is still as it was found.
func (c *Claims) Beat(ctx context.Context, found change.Claim) (change.Claim, error) {
	now, err := claimOf(c.pool.Pool.Query(
		ctx,
		"UPDATE intake_claim SET mark = mark + 1 WHERE source = $1 AND holder = $2 AND epoch = $3 AND mark = $4 RETURNING "+claimColumns,
		c.source,
		found.Holder,
		found.Epoch,
		found.Mark,
	))
	return now, c.took(now, err)
}

func (c *Claims) took(now change.Claim, err error) error {
	if err != nil {
		return err
	}
	if now.Epoch == 0 {
		return errSuperseded
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	c.claim = now
	return nil
}

// Hold reports whether the claim still stands.
func (c *Claims) Hold(ctx context.Context) error {
	c.mu.Lock()
	mine := c.claim
	c.mu.Unlock()
	var held bool
	err := c.pool.QueryRow(ctx, "SELECT EXISTS (SELECT FROM intake_claim WHERE source = $1 AND holder = $2 AND epoch = $3 AND epoch > 0 AND mark >= $4)",
		c.source, mine.Holder, mine.Epoch, mine.Mark).
		Scan(&held)
	if err != nil {
		return explain("looking who reads the source", err)
	}
	if !held {
		return errSuperseded
	}
	return nil
}

// Position is what SavePosition has saved, into a value that JSON can be read into.
func (c *Claims) Position(ctx context.Context, into any) error {
	var text []byte
	if err := c.pool.QueryRow(ctx, "SELECT position FROM intake_claim WHERE source = $1", c.source).Scan(&text); err != nil {
		return explain("reading how far the source was read", err)
	}
	return json.Unmarshal(text, into)
}

// SavePosition saves how far the source was read, while its claim stands.
func (c *Claims) SavePosition(ctx context.Context, position any) error {
	text, err := json.Marshal(position)
	if err != nil {
		return err
	}
	c.mu.Lock()
	mine := c.claim
	c.mu.Unlock()
	tag, err := c.pool.Exec(
		ctx,
		"UPDATE intake_claim SET position = $5 WHERE source = $1 AND holder = $2 AND epoch = $3 AND epoch > 0 AND mark >= $4",
		c.source,
		mine.Holder,
		mine.Epoch,
		mine.Mark,
		text,
	)
	if err != nil {
		return explain("saving how far the source was read", err)
	}
	if tag.RowsAffected() == 0 {
		return errSuperseded
	}
	return nil
}
