package postgres

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"sync/atomic"
	"time"

	"pingo/internal/core/document"
	"pingo/internal/core/retry"
	"pingo/internal/core/shape"
	"pingo/internal/pgsession"
	"pingo/internal/source"

	"github.com/dustin/go-humanize"
)

// options are the kind's own keys.
type options struct {
	// Replica is the URL of a server that editions are filled from.
	Replica string `json:"replica"`
	// Reader is the role whose rights rows are read with.
	Reader string `json:"reader"`
}

const keys = `{
	"replica": {
		"type": "string", "format": "url",
		"description": "The URL of a streaming replica of this database. Pingo fills editions from it, and reads changes from the primary. Each chunk waits until the replica has all changes from before the chunk."
	},
	"reader": {
		"type": "string",
		"description": "The role for reading rows. Pingo switches to it at the start of each transaction that reads rows. Default: the user of the url."
	}
}`

func readOptions(c source.Config) (o options, err error) {
	if len(c.Options) > 0 {
		err = json.Unmarshal(c.Options, &o)
	}
	return o, err
}

// withReplica reads what fills an edition from a replica, where the options name one.
func withReplica(c source.Config, o options, src *source.Source, primary *database) (*source.Source, error) {
	if o.Replica == "" {
		return src, nil
	}
	c.URL = o.Replica
	pool, err := Connect(c)
	if err != nil {
		return nil, fmt.Errorf("replica: %w", err)
	}
	r := &replica{Reader: &Reader{pool: &database{pgsession.Pool{Pool: pool}, captureSchema, o.Reader}}, primary: primary}
	src.Reader, src.Bulk = &withBulk{src.Reader, r}, r
	return src, nil
}

// withBulk describes and closes a reader and its replica together.
type withBulk struct {
	source.Reader
	replica *replica
}

func (w *withBulk) Describe(ctx context.Context) (string, error) {
	text, err := w.Reader.Describe(ctx)
	if err != nil {
		return "", err
	}
	position, err := w.replica.position(ctx)
	if err != nil {
		return "", err
	}
	behind, err := w.replica.behind(ctx, position)
	if err != nil {
		return "", err
	}
	return fmt.Sprintf("%s; filled from a replica, %s behind", text, humanize.Bytes(uint64(max(0, behind)))), nil
}

func (w *withBulk) Close() {
	w.replica.Close()
	w.Reader.Close()
}

// replica is a reader of a server that follows another one. What it reads is not older than the
// primary was when the read was asked for: a change that was noticed before is in it.
type replica struct {
	*Reader
	primary *database
	known   atomic.Bool // it is one of this primary
}

const (
	// followWithin is how long a replica may take to reach what the primary has.
	followWithin = 30 * time.Second
	followEvery  = 20 * time.Millisecond
)

// follow waits until the replica has replayed all that the primary has written by now.
func (r *replica) follow(ctx context.Context) error {
	position, err := r.position(ctx)
	if err != nil {
		return err
	}
	for began := time.Now(); ; {
		behind, err := r.behind(ctx, position)
		switch {
		case err != nil || behind <= 0:
			return err
		case time.Since(began) > followWithin:
			return fmt.Errorf(
				"the replica is %s of log behind the source, and did not reach it in %v",
				humanize.Bytes(uint64(behind)), followWithin)
		}
		if !retry.Sleep(ctx, followEvery) {
			return ctx.Err()
		}
	}
}

// position is how far the primary has written. What is inserted into the log counts, and not only what
// is flushed: a commit that is not waited for is visible before.
func (r *replica) position(ctx context.Context) (position string, err error) {
	if err := r.identify(ctx); err != nil {
		return "", err
	}
	if err := r.primary.QueryRow(ctx, "SELECT pg_current_wal_insert_lsn()::text").Scan(&position); err != nil {
		return "", wrap("reading the position of the source", err)
	}
	return position, nil
}

// behind is how many bytes of log the replica has to replay to reach a position; 0 or less when it has.
func (r *replica) behind(ctx context.Context, position string) (int64, error) {
	var follows bool
	var behind *int64
	err := r.pool.QueryRow(ctx, `SELECT pg_is_in_recovery(),
		pg_wal_lsn_diff($1::text::pg_lsn, pg_last_wal_replay_lsn())::bigint`, position).Scan(&follows, &behind)
	if err != nil {
		return 0, wrap("asking the replica how far it is", err)
	}
	if !follows || behind == nil {
		return 0, &source.Error{Fault: source.SchemaChanged, Err: errors.New(
			"the replica no longer follows the source: name another replica, or remove the key replica",
		)}
	}
	return *behind, nil
}

// identify sees once that the replica is one of this source: positions in the log of another server
// would say nothing.
func (r *replica) identify(ctx context.Context) error {
	if r.known.Load() {
		return nil
	}
	var ids [2]string
	for i, db := range []*database{r.primary, r.pool} {
		err := db.QueryRow(ctx, "SELECT system_identifier || ' ' || current_database() FROM pg_control_system()").
			Scan(&ids[i])
		if err != nil {
			return wrap(
				[]string{"asking the source which server it is", "asking the replica which server it is"}[i],
				err,
			)
		}
	}
	if ids[0] != ids[1] {
		return &source.Error{Fault: source.SchemaChanged, Err: errors.New(
			"the server that replica names is none of this source, or names another database: positions of the one say nothing of the other",
		)}
	}
	r.known.Store(true)
	return nil
}

// ReadRange is that of a reader, once the replica has caught up.
func (r *replica) ReadRange(ctx context.Context, set *document.Set, after, upto []string) error {
	if err := r.follow(ctx); err != nil {
		return err
	}
	return r.Reader.ReadRange(ctx, set, after, upto)
}

// Keys is that of a reader, once the replica has caught up.
func (r *replica) Keys(ctx context.Context, t *shape.Tree, after, upto []string, each func(key []string) error) error {
	if err := r.follow(ctx); err != nil {
		return err
	}
	return r.Reader.Keys(ctx, t, after, upto, each)
}

// ReadKeys is that of a reader, once the replica has caught up.
func (r *replica) ReadKeys(ctx context.Context, set *document.Set, keys [][]string) error {
	if err := r.follow(ctx); err != nil {
		return err
	}
	return r.Reader.ReadKeys(ctx, set, keys)
}

// ReadBelow is that of a reader, once the replica has caught up.
func (r *replica) ReadBelow(ctx context.Context, set *document.Set, node int) error {
	if err := r.follow(ctx); err != nil {
		return err
	}
	return r.Reader.ReadBelow(ctx, set, node)
}
