// Package records keeps Pingo's own tables in PostgreSQL: definitions, editions,
// chunks, failed documents, tokens, and which process feeds what.
package records

import (
	"context"
	"database/sql"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"sync/atomic"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/stdlib"
	"github.com/jmoiron/sqlx"
	"github.com/pressly/goose/v3"

	"pingo/internal/pgerror"
	"pingo/internal/pgsession"
)

//go:embed migrations/*.sql
var migrations embed.FS

// Records is the records database.
type Records struct {
	db *sqlx.DB
	// reads has sessions that are read-only.
	reads *sqlx.DB
	url   string
	// workedOff: something was taken out of a backlog, whose room was not given back since.
	workedOff atomic.Bool
}

// Open connects, and brings the tables up to this version of Pingo.
func Open(ctx context.Context, url string) (*Records, error) {
	address, err := pgsession.URL(url, pgsession.AnyFile)
	if err != nil {
		return nil, fmt.Errorf("the records URL cannot be used: %w", err)
	}
	config, err := pgx.ParseConfig(address)
	if err != nil {
		return nil, fmt.Errorf("the records URL cannot be used: %w", pgerror.InURL(err))
	}
	pgsession.Configure(config, map[string]string{
		"application_name": "pingo records", "lock_timeout": "0", "search_path": pgsession.RecordsPath,
	})
	pgsession.Durable(config)
	config.ConnectTimeout = 5 * time.Second
	if err := house(ctx, config); err != nil {
		return nil, fmt.Errorf("records database: %w", err)
	}
	reading := config.Copy()
	reading.RuntimeParams["default_transaction_read_only"] = "on"
	files := stdlib.OptionBeforeConnect(pgsession.ReadFiles(address))
	r := &Records{db: sqlx.NewDb(stdlib.OpenDB(*config, files), "pgx"), reads: sqlx.NewDb(stdlib.OpenDB(*reading, files), "pgx"), url: url}
	r.db.SetMaxOpenConns(6)
	r.reads.SetMaxOpenConns(6)
	if err := r.Ping(ctx); err != nil {
		r.Close()
		return nil, err
	}
	if err := migrate(ctx, r.db.DB); err != nil {
		r.Close()
		if !errors.Is(err, ErrNewer) {
			err = fmt.Errorf("bringing the records database up to date: %w", pgerror.Explain(err))
		}
		return nil, err
	}
	return r, nil
}

// house makes the schema of the records, and moves into it what an earlier version kept in public. It refuses a schema in
// which others decide what runs.
func house(ctx context.Context, config *pgx.ConnConfig) error {
	conn, err := pgx.ConnectConfig(ctx, config)
	if err != nil {
		return pgerror.Explain(err)
	}
	defer conn.Close(context.WithoutCancel(ctx))
	return pgx.BeginFunc(ctx, conn, func(tx pgx.Tx) error {
		var there bool
		// Several processes may start at the same time.
		_, err := tx.Exec(ctx, "SELECT pg_advisory_xact_lock(hashtextextended('"+pgsession.Records+"', 0))")
		if err == nil {
			err = tx.QueryRow(ctx, "SELECT to_regnamespace('"+pgsession.Records+"') IS NOT NULL").Scan(&there)
		}
		if err == nil && !there {
			_, err = tx.Exec(ctx, "CREATE SCHEMA "+pgsession.Records)
		}
		if pgerror.Code(err) == "42501" {
			return errors.New("the schema " + pgsession.Records +
				" cannot be created by Pingo's role: run GRANT CREATE ON DATABASE … TO … as the owner of the database")
		}
		if err == nil && !there {
			_, err = tx.Exec(ctx, moveSQL)
		}
		if err != nil {
			return pgerror.Explain(err)
		}
		return pgsession.Own(ctx, tx, pgsession.Records)
	})
}

// moveSQL moves the tables of an earlier version out of the schema where it kept them.
const moveSQL = `DO $$ DECLARE old text; one record; BEGIN
	SELECT n.nspname INTO old FROM pg_class g JOIN pg_namespace n ON n.oid = g.relnamespace JOIN pg_roles r ON r.oid = g.relowner
	WHERE g.relname = 'goose_db_version' AND r.rolname = current_user
	  AND (SELECT count(*) FROM pg_class c WHERE c.relnamespace = g.relnamespace AND c.relname IN ('service', 'definition', 'edition', 'lease')) = 4
	ORDER BY n.nspname = 'public' DESC LIMIT 1;
	IF old IS NULL THEN RETURN; END IF;
	FOR one IN SELECT c.relname, c.relkind FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE n.nspname = old
		AND (c.relkind = 'r' AND c.relname IN ('goose_db_version', 'service', 'definition', 'edition', 'chunk', 'failed_document', 'token', 'backlog', 'lease',
			'process', 'sample', 'edition_event', 'drift_order', 'difference', 'coverage', 'session', 'rebuild', 'numbered', 'intake_claim', 'intake_fetch',
			'intake_view', 'intake_receipt') OR c.relkind = 'S' AND c.relname IN ('beat', 'backlog_generation')) LOOP
		EXECUTE format('ALTER %s %I.%I SET SCHEMA pingo_records', CASE one.relkind WHEN 'r' THEN 'TABLE' ELSE 'SEQUENCE' END, old, one.relname);
	END LOOP;
	IF to_regprocedure(format('%I.intake_merge(jsonb,jsonb)', old)) IS NOT NULL THEN
		EXECUTE format('ALTER FUNCTION %I.intake_merge(jsonb, jsonb) SET SCHEMA pingo_records', old);
	END IF;
END $$`

func migrate(ctx context.Context, db *sql.DB) error {
	files, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return err
	}
	provider, err := goose.NewProvider(goose.DialectPostgres, db, files, goose.WithLogger(goose.NopLogger()))
	if err != nil {
		return err
	}
	is, known, err := provider.GetVersions(ctx)
	if err != nil {
		return err
	}
	if is > known {
		return fmt.Errorf("%w: they have version %d, and this one knows up to %d: start the newer Pingo, or restore the records from before it was started", ErrNewer, is, known)
	}
	_, err = provider.Up(ctx)
	return err
}

// ErrNewer says that a newer Pingo has changed the records, so this one could misread them.
var ErrNewer = errors.New("the records were changed by a newer Pingo")

// Close gives the connections back.
func (r *Records) Close() error { return errors.Join(r.db.Close(), r.reads.Close()) }

// URL is where the database is; it may hold a password.
func (r *Records) URL() string { return r.url }

// Ping reports whether the database answers.
func (r *Records) Ping(ctx context.Context) error {
	if err := r.db.PingContext(ctx); err != nil {
		return fmt.Errorf("records database: %w", pgerror.Explain(err))
	}
	return nil
}

// ServiceID is the identity of the service that these records belong to.
func (r *Records) ServiceID(ctx context.Context) (string, error) {
	var id string
	err := r.db.GetContext(ctx, &id, `
		WITH made AS (INSERT INTO service (id) SELECT gen_random_uuid()::text WHERE NOT EXISTS (SELECT FROM service) RETURNING id)
		SELECT id FROM made UNION ALL SELECT id FROM service LIMIT 1`)
	return id, err
}

// held is the condition that a lease is still that of a fence; the lock keeps others from
// taking it before what depends on it is recorded. The empty fence is that of a person, who
// needs no lease.
const held = `($2 = '' OR EXISTS (SELECT FROM lease WHERE source = $1 AND epoch || ' ' || holder = $2 FOR SHARE))`

// fenced makes a change to an edition that only the holder of the lease may make. Its
// statement has the edition's index and number as $3 and $4, and held as a condition. It
// returns how many rows were changed.
func (r *Records) fenced(ctx context.Context, statement string, e *Edition, args ...any) (int64, error) {
	return changed(r.db.ExecContext(ctx, statement, e.fence(args...)...))
}

// changed is how many rows a statement changed.
func changed(result sql.Result, err error) (int64, error) {
	if err != nil {
		return 0, err
	}
	return result.RowsAffected()
}

// mustChange is fenced for what cannot change nothing but for the lease being lost.
func (r *Records) mustChange(ctx context.Context, statement string, e *Edition, args ...any) error {
	n, err := r.fenced(ctx, statement, e, args...)
	if err == nil && n == 0 {
		return ErrLost
	}
	return err
}

func (e *Edition) fence(args ...any) []any {
	return append([]any{e.Shape.Source, e.Fence, e.Index, e.Number}, args...)
}

// stillHeld tells a lost lease from a change that had nothing to change.
func (r *Records) stillHeld(ctx context.Context, e *Edition) error {
	if e.Fence == "" {
		return nil
	}
	is, err := r.HoldsLease(ctx, e.Shape.Source, e.Fence)
	if err == nil && !is {
		return ErrLost
	}
	return err
}
