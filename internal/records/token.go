package records

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"time"
)

// Token is a right to use the API; the token itself is not kept.
type Token struct {
	Name      string     `db:"name"`
	Role      string     `db:"role"`
	CreatedAt time.Time  `db:"created_at"`
	UsedAt    *time.Time `db:"used_at"`
}

// ErrExists says that the name is taken.
var ErrExists = errors.New("exists already")

// CreateToken records a token by its hash.
func (r *Records) CreateToken(ctx context.Context, name, role string, hash []byte) error {
	result, err := r.db.ExecContext(
		ctx,
		"INSERT INTO token (name, role, hash) VALUES ($1, $2, $3) ON CONFLICT (name) DO NOTHING",
		name,
		role,
		hash,
	)
	if err != nil {
		return err
	}
	if n, err := result.RowsAffected(); err == nil && n == 0 {
		return fmt.Errorf("token %s %w: remove it first, or choose another name", name, ErrExists)
	}
	return nil
}

// TokenByHash finds a token and notes that it was used; nil when there is none.
func (r *Records) TokenByHash(ctx context.Context, hash []byte) (*Token, error) {
	var t Token
	err := r.db.GetContext(
		ctx,
		&t,
		"UPDATE token SET used_at = now() WHERE hash = $1 RETURNING name, role, created_at, used_at",
		hash,
	)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	return &t, err
}

// Tokens lists all tokens by name.
func (r *Records) Tokens(ctx context.Context) ([]Token, error) {
	out := []Token{}
	err := r.db.SelectContext(ctx, &out, "SELECT name, role, created_at, used_at FROM token ORDER BY name")
	return out, err
}

// ErrLastAdmin says that a token is the last one of an admin.
var ErrLastAdmin = errors.New("it is the last token of an admin")

// RemoveToken takes a token back; it reports whether there was one. The last one of an admin stays.
func (r *Records) RemoveToken(ctx context.Context, name string) (there bool, err error) {
	tx, err := r.db.BeginTxx(ctx, nil)
	if err != nil {
		return false, err
	}
	defer tx.Rollback()
	// Two that remove one each would both find the other's.
	if _, err := tx.ExecContext(ctx, "LOCK TABLE token IN SHARE ROW EXCLUSIVE MODE"); err != nil {
		return false, err
	}
	var last bool
	err = tx.GetContext(ctx, &last, "SELECT coalesce(bool_or(name = $1) AND count(*) = 1, false) FROM token WHERE role = 'admin'", name)
	if err != nil {
		return false, err
	}
	if last {
		return true, ErrLastAdmin
	}
	n, err := changed(tx.ExecContext(ctx, "DELETE FROM token WHERE name = $1", name))
	if err != nil {
		return false, err
	}
	return n > 0, tx.Commit()
}
