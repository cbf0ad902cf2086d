package records

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"time"

	"pingo/internal/core/definition"
)

// Applied is one version of the definition.
type Applied struct {
	Version   int
	Files     []definition.File
	AppliedAt time.Time
	AppliedBy string
	// CarriedOut: its editions were all recorded.
	CarriedOut bool
	// EngineKinds are the kinds of the engines that were asked for theirs, by name.
	EngineKinds map[string]string
}

// Apply stores a definition as the next version, and cancels every edition of the dropped indexes with it.
func (r *Records) Apply(
	ctx context.Context,
	files []definition.File,
	engineKinds map[string]string,
	by string,
	dropped ...string,
) (int, error) {
	b, err := json.Marshal(files)
	if err != nil {
		return 0, err
	}
	kinds, err := json.Marshal(engineKinds)
	if err != nil {
		return 0, err
	}
	var version int
	err = r.db.GetContext(
		ctx,
		&version,
		`WITH gone AS (UPDATE edition SET state = 'cancelled' WHERE index_name = ANY($4))
		INSERT INTO definition (files, engine_kinds, applied_by) VALUES ($1, $2, $3) RETURNING version`,
		string(b),
		string(kinds),
		by,
		dropped,
	)
	return version, err
}

// CarriedOut notes that all that a definition asks for was recorded.
func (r *Records) CarriedOut(ctx context.Context, version int) error {
	_, err := r.db.ExecContext(ctx, "UPDATE definition SET carried_out = true WHERE version = $1", version)
	return err
}

// Definition is the newest version; nil when none was applied yet.
func (r *Records) Definition(ctx context.Context) (*Applied, error) {
	return r.DefinitionVersion(ctx, 0)
}

// DefinitionVersion is one version, the newest for 0; nil when there is none.
func (r *Records) DefinitionVersion(ctx context.Context, version int) (*Applied, error) {
	var row appliedRow
	err := r.reads.GetContext(
		ctx,
		&row,
		"SELECT * FROM definition WHERE $1 IN (0, version) ORDER BY version DESC LIMIT 1",
		version,
	)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	a := row.applied()
	return a, errors.Join(json.Unmarshal(row.Files, &a.Files), json.Unmarshal(row.EngineKinds, &a.EngineKinds))
}

// DefinitionVersions lists all versions without their files, the newest first.
func (r *Records) DefinitionVersions(ctx context.Context) ([]*Applied, error) {
	var rows []appliedRow
	if err := r.reads.SelectContext(ctx, &rows, "SELECT version, applied_at, applied_by, carried_out FROM definition ORDER BY version DESC"); err != nil {
		return nil, err
	}
	out := make([]*Applied, len(rows))
	for i := range rows {
		out[i] = rows[i].applied()
	}
	return out, nil
}

type appliedRow struct {
	Version     int       `db:"version"`
	Files       []byte    `db:"files"`
	EngineKinds []byte    `db:"engine_kinds"`
	AppliedAt   time.Time `db:"applied_at"`
	AppliedBy   string    `db:"applied_by"`
	CarriedOut  bool      `db:"carried_out"`
}

func (row *appliedRow) applied() *Applied {
	return &Applied{
		Version:    row.Version,
		AppliedAt:  row.AppliedAt,
		AppliedBy:  row.AppliedBy,
		CarriedOut: row.CarriedOut,
	}
}
