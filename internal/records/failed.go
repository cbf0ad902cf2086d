package records

import (
	"context"
	"database/sql"
	"errors"
	"time"

	"pingo/internal/pgsession"
)

// Failed is a document that an engine refused. It waits until its row changes, or a
// person has it tried again.
type Failed struct {
	Index    string    `db:"index_name"`
	Edition  int       `db:"number"`
	Key      string    `db:"key"`
	Kind     string    `db:"kind"`
	Reason   string    `db:"reason"`
	Cause    string    `db:"cause"`
	Document *string   `db:"document"`
	Attempts int       `db:"attempts"`
	FirstAt  time.Time `db:"first_at"`
	LastAt   time.Time `db:"last_at"`
}

// FailedGroup is all failed documents of an index with one cause.
type FailedGroup struct {
	Index     string    `db:"index_name"`
	Cause     string    `db:"cause"`
	Kind      string    `db:"kind"`
	Reason    string    `db:"reason"` // of one of them
	Documents int64     `db:"documents"`
	FirstAt   time.Time `db:"first_at"`
	LastAt    time.Time `db:"last_at"`
}

// wanted are failed documents of editions that answer or are to.
const wanted = `(index_name, number) NOT IN (SELECT index_name, number FROM edition WHERE state IN ('previous', 'cancelled'))`

// SaveFailed records a refused document of an edition, or counts one more attempt.
func (r *Records) SaveFailed(ctx context.Context, e *Edition, f Failed) error {
	if f.Document != nil {
		text := pgsession.Text(*f.Document)
		f.Document = &text
	}
	return r.mustChange(ctx, `
		INSERT INTO failed_document (index_name, number, key, kind, reason, cause, document)
		SELECT $3::text, $4::int, $5::text, $6::text, $7::text, $8::text, $9::text WHERE `+held+`
		ON CONFLICT (index_name, number, key) DO UPDATE SET kind = excluded.kind, reason = excluded.reason, cause = excluded.cause, document = excluded.document,
			attempts = failed_document.attempts + 1, last_at = now()`, e, f.Key, f.Kind, pgsession.Text(f.Reason), f.Cause, f.Document)
}

// ResolveFailed forgets a failed document that was accepted since.
func (r *Records) ResolveFailed(ctx context.Context, e *Edition, key string) error {
	n, err := r.fenced(
		ctx,
		"DELETE FROM failed_document WHERE index_name = $3 AND number = $4 AND key = $5 AND "+held,
		e,
		key,
	)
	if err == nil && n == 0 {
		return r.stillHeld(ctx, e)
	}
	return err
}

// FailedDocuments lists an index's failed documents, those of one cause unless it is empty, newest first, and after one of
// them unless that is nil; document bodies are left out.
func (r *Records) FailedDocuments(ctx context.Context, index, cause string, after *Failed, limit int) ([]Failed, error) {
	if after == nil {
		after = &Failed{}
	}
	out := []Failed{}
	err := r.reads.SelectContext(
		ctx,
		&out,
		`SELECT index_name, number, key, kind, reason, cause, attempts, first_at, last_at FROM failed_document
		WHERE index_name = $1 AND $2 IN ('', cause) AND ($4 = '' OR last_at < $5 OR last_at = $5 AND key > $4) AND `+wanted+`
		ORDER BY last_at DESC, key LIMIT $3`,
		index,
		cause,
		limit,
		after.Key,
		after.LastAt,
	)
	return out, err
}

// FailedDocument is one failed document with its body; nil when there is none.
func (r *Records) FailedDocument(ctx context.Context, index, key string) (*Failed, error) {
	f := &Failed{}
	err := r.reads.GetContext(
		ctx,
		f,
		"SELECT * FROM failed_document WHERE index_name = $1 AND key = $2 ORDER BY number DESC LIMIT 1",
		index,
		key,
	)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	return f, err
}

// FailedGroups gathers failed documents by cause, of one index unless it is empty, the
// largest groups first.
func (r *Records) FailedGroups(ctx context.Context, index string) ([]FailedGroup, error) {
	out := []FailedGroup{}
	err := r.reads.SelectContext(
		ctx,
		&out,
		`SELECT index_name, cause, min(kind) AS kind, min(reason) AS reason, count(*) AS documents, min(first_at) AS first_at, max(last_at) AS last_at
		FROM failed_document WHERE $1 IN ('', index_name) AND `+wanted+` GROUP BY index_name, cause ORDER BY documents DESC, index_name, cause`,
		index,
	)
	return out, err
}

// FailedKeys lists the keys of an edition's failed documents, those of one cause unless
// it is empty.
func (r *Records) FailedKeys(ctx context.Context, e *Edition, cause string) ([]string, error) {
	var out []string
	err := r.reads.SelectContext(
		ctx,
		&out,
		"SELECT key FROM failed_document WHERE index_name = $1 AND number = $2 AND $3 IN ('', cause)",
		e.Index,
		e.Number,
		cause,
	)
	return out, err
}

// DismissFailed forgets failed documents without their being accepted, and returns
// the keys of those that there were.
func (r *Records) DismissFailed(ctx context.Context, e *Edition, keys []string) ([]string, error) {
	var out []string
	err := r.db.SelectContext(
		ctx,
		&out,
		"DELETE FROM failed_document WHERE index_name = $1 AND number = $2 AND key = ANY($3) RETURNING key",
		e.Index,
		e.Number,
		keys,
	)
	return out, err
}
