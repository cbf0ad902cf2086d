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
	ExpiresAt *time.Time `db:"expires_at"` // nil for never
}

// Session is a session of the console, which a token began.
type Session struct {
	ID      int64     `db:"id"`
	Token   string    `db:"token"` // its name
	Role    string    `db:"role"`
	BeganAt time.Time `db:"began_at"`
	UsedAt  time.Time `db:"used_at"`
	EndsAt  time.Time `db:"ends_at"`
}

// ErrExists says that the name is taken.
var ErrExists = errors.New("exists already")

// usedEvery is how exactly it is known when a token or session was last used: not each request is a write.
const usedEvery = "interval '1 minute'"

const valid = "(token.expires_at IS NULL OR token.expires_at > now())"

// CreateToken records a token by its hash. It never expires when no time is given.
func (r *Records) CreateToken(ctx context.Context, name, role string, hash []byte, expires *time.Time) error {
	result, err := r.db.ExecContext(ctx,
		"INSERT INTO token (name, role, hash, expires_at) VALUES ($1, $2, $3, $4) ON CONFLICT (name) DO NOTHING",
		name, role, hash, expires)
	if err != nil {
		return err
	}
	if n, err := result.RowsAffected(); err == nil && n == 0 {
		return fmt.Errorf("token %s %w: remove it first, or choose another name", name, ErrExists)
	}
	return nil
}

// TokenByHash finds a token that has not expired, and notes that it was used; nil when there is none.
func (r *Records) TokenByHash(ctx context.Context, hash []byte) (*Token, error) {
	var t Token
	err := r.reads.GetContext(ctx, &t,
		"SELECT name, role, created_at, used_at, expires_at FROM token WHERE hash = $1 AND "+valid, hash)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	// Only what is known is written: wrong tokens cost one read.
	err = r.db.GetContext(ctx, &t.UsedAt,
		"UPDATE token SET used_at = now() WHERE name = $1 AND coalesce(used_at < now() - "+usedEvery+", true) RETURNING used_at", t.Name)
	if err != nil && !errors.Is(err, sql.ErrNoRows) {
		return nil, err
	}
	return &t, nil
}

// Tokens lists all tokens by name.
func (r *Records) Tokens(ctx context.Context) ([]Token, error) {
	out := []Token{}
	err := r.reads.SelectContext(ctx, &out, "SELECT name, role, created_at, used_at, expires_at FROM token ORDER BY name")
	return out, err
}

// ErrLastAdmin says that a token is the last one of an admin.
var ErrLastAdmin = errors.New("it is the last token of an admin")

// RemoveToken takes a token back, and ends the sessions that began with it; it reports whether there was one. The
// last one of an admin that has not expired stays.
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
	err = tx.GetContext(ctx, &last,
		"SELECT coalesce(bool_or(name = $1) AND count(*) = 1, false) FROM token WHERE role = 'admin' AND "+valid, name)
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

// ResetToken makes a token, in the place of the one of that name if there is one, whose sessions end.
func (r *Records) ResetToken(ctx context.Context, name, role string, hash []byte) error {
	tx, err := r.db.BeginTxx(ctx, nil)
	if err != nil {
		return err
	}
	defer tx.Rollback()
	if _, err := tx.ExecContext(ctx, "DELETE FROM token WHERE name = $1", name); err != nil {
		return err
	}
	if _, err := tx.ExecContext(ctx, "INSERT INTO token (name, role, hash) VALUES ($1, $2, $3)", name, role, hash); err != nil {
		return err
	}
	return tx.Commit()
}

// BeginSession records a session of a token by the hash of what its cookie holds. It ends after a time, and with its
// token.
func (r *Records) BeginSession(ctx context.Context, token string, hash []byte, length time.Duration) error {
	_, err := r.db.ExecContext(
		ctx,
		"INSERT INTO session (hash, token, ends_at) VALUES ($1, $2, now() + $3 * interval '1 second')",
		hash,
		token,
		length.Seconds(),
	)
	return err
}

// SessionByHash finds a session that has not ended; nil when there is none. One that was not used for a time has ended.
// With use, it counts as used now.
func (r *Records) SessionByHash(ctx context.Context, hash []byte, idle time.Duration, use bool) (*Session, error) {
	var s Session
	err := r.reads.GetContext(ctx, &s, sessions+" AND session.hash = $2", idle.Seconds(), hash)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	if err == nil && use {
		_, err = r.db.ExecContext(ctx,
			"UPDATE session SET used_at = now() WHERE id = $1 AND used_at < now() - "+usedEvery, s.ID)
	}
	return &s, err
}

// sessions reads those that have not ended; $1 is after how many idle seconds they do.
const sessions = `
	SELECT id, token, role, began_at, session.used_at, ends_at FROM session JOIN token ON token.name = session.token
	WHERE ends_at > now() AND session.used_at > now() - $1 * interval '1 second' AND ` + valid

// Sessions lists those that have not ended, the newest first, and forgets the others.
func (r *Records) Sessions(ctx context.Context, idle time.Duration) ([]Session, error) {
	_, err := r.db.ExecContext(ctx,
		"DELETE FROM session WHERE ends_at < now() OR used_at < now() - $1 * interval '1 second'", idle.Seconds())
	if err != nil {
		return nil, err
	}
	out := []Session{}
	return out, r.reads.SelectContext(ctx, &out, sessions+" ORDER BY id DESC", idle.Seconds())
}

// EndSession ends a session by its number; it reports whether there was one.
func (r *Records) EndSession(ctx context.Context, id int64) (there bool, err error) {
	n, err := changed(r.db.ExecContext(ctx, "DELETE FROM session WHERE id = $1", id))
	return n > 0, err
}

// EndSessionByHash ends a session by the hash of what its cookie holds.
func (r *Records) EndSessionByHash(ctx context.Context, hash []byte) error {
	_, err := r.db.ExecContext(ctx, "DELETE FROM session WHERE hash = $1", hash)
	return err
}
