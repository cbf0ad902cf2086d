package records

import (
	"bytes"
	"compress/gzip"
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"time"

	"github.com/jmoiron/sqlx"

	"pingo/internal/core/change"
)

// Lease is the right of one process to feed the indexes of a source, as it is recorded.
// Its holder increases Beat; a process that has seen the same beat for long enough may take the lease.
type Lease struct {
	Source string `db:"source"`
	// Holder is a process, empty when it was given back.
	Holder string `db:"holder"`
	// Epoch is above that of every holder before.
	Epoch     int64     `db:"epoch"`
	Beat      int64     `db:"beat"`
	ChangedAt time.Time `db:"changed_at"` // by the clock of the records, for people
	// History names the line of history that the records are on, and Sound the one that they
	// were on when a holder last knew them to be whole, or had recorded what may be missing;
	// empty when none did.
	History string `db:"history"`
	Sound   string `db:"sound"`
	// Claimed is the last claim on the source that is known to have been made, and Claiming
	// the epoch of the last that may have been.
	Claimed  change.Claim    `db:"-"`
	Claiming int64           `db:"claiming"`
	Status   json.RawMessage `db:"-"` // what the holder said of the source's indexes
}

type leaseRow struct {
	Lease
	RawClaimed *string `db:"claimed"`
	Packed     []byte  `db:"status"`
}

func (row *leaseRow) lease() (*Lease, error) {
	l := &row.Lease
	var err error
	if l.Status, err = unpack(row.Packed); err != nil {
		return nil, fmt.Errorf("the recorded status of source %s: %w", l.Source, err)
	}
	if row.RawClaimed != nil {
		if err := json.Unmarshal([]byte(*row.RawClaimed), &l.Claimed); err != nil {
			return nil, fmt.Errorf("the recorded claim on source %s: %w", l.Source, err)
		}
	}
	return l, nil
}

// pack makes a status small, since it is written each second and grows with the number of indexes; nil when there is
// none.
func pack(status json.RawMessage) ([]byte, error) {
	if len(status) == 0 {
		return nil, nil
	}
	var out bytes.Buffer
	w, err := gzip.NewWriterLevel(&out, gzip.BestSpeed)
	if err != nil {
		return nil, err
	}
	_, err = w.Write(status)
	err = errors.Join(err, w.Close())
	return out.Bytes(), err
}

// unpack is the reverse of pack.
func unpack(packed []byte) (json.RawMessage, error) {
	if len(packed) == 0 {
		return nil, nil
	}
	r, err := gzip.NewReader(bytes.NewReader(packed))
	if err != nil {
		return nil, err
	}
	return io.ReadAll(r)
}

// ErrOlder says that the records are older than what was recorded in them: they were
// restored, or a replica took their place.
var ErrOlder = errors.New("the records were put back to an older copy")

// ErrLost says that another process holds the lease, or may by now.
var ErrLost = errors.New("the lease is lost to another process")

// epochStart makes epochs out of the clock, so that they grow even when the records
// database was restored from a backup: seconds since 2020.
const epochStart = 1577836800

// Take takes the lease on a source, if it is still as it was seen (nil: there was none);
// else it returns nil. Its epoch is above that which was seen, and above another one.
func (r *Records) Take(ctx context.Context, source, process string, seen *Lease, above int64) (*Lease, error) {
	if seen == nil {
		seen = &Lease{Epoch: -1}
	}
	var row leaseRow
	err := r.db.GetContext(ctx, &row, `
		INSERT INTO lease AS l (source, holder, epoch, changed_at, history)
		SELECT $1, $2, greatest(extract(epoch FROM now())::bigint - $3, $7::bigint + 1), now(), `+history+`
		ON CONFLICT (source) DO UPDATE SET holder = excluded.holder, epoch = greatest(l.epoch + 1, excluded.epoch), beat = 0, changed_at = now(), history = excluded.history
		WHERE l.holder = $4 AND l.epoch = $5 AND l.beat = $6
		RETURNING source, holder, epoch, beat, changed_at, history, sound, claimed, claiming, status`,
		source, process, int64(epochStart), seen.Holder, seen.Epoch, seen.Beat, above)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	return row.lease()
}

// history names the line of history that a database is on: it changes when a copy of the
// database goes on by itself.
const history = `((SELECT system_identifier FROM pg_control_system()) || '/' || (SELECT timeline_id FROM pg_control_checkpoint()))`

// Renew moves the beat of a lease on, records the claim on its source, and leaves word of
// how things stand, unless there is none: then the last one stays. It fails with ErrLost when the lease has another holder, and with
// ErrOlder when the records are older than the last renewal.
func (r *Records) Renew(ctx context.Context, l *Lease, beat int64, status json.RawMessage) error {
	claimed, err := json.Marshal(l.Claimed)
	if err != nil {
		return err
	}
	packed, err := pack(status)
	if err != nil {
		return err
	}
	n, err := changed(
		r.db.ExecContext(
			ctx,
			`UPDATE lease SET beat = $4, claimed = $6, claiming = $9, sound = $10, status = coalesce($7::bytea, status), changed_at = now()
		WHERE source = $1 AND holder = $2 AND epoch = $3 AND beat >= $5 AND beat < $4 AND history = $8 AND `+history+` = $8`,
			l.Source,
			l.Holder,
			l.Epoch,
			beat,
			l.Beat,
			string(claimed),
			packed,
			l.History,
			l.Claiming,
			l.Sound,
		),
	)
	if err != nil || n > 0 {
		return err
	}
	var older bool
	err = r.reads.GetContext(
		ctx,
		&older,
		`SELECT EXISTS (SELECT FROM lease WHERE source = $1 AND holder = $2 AND epoch = $3
		AND (beat < $4 OR `+history+` <> $5))`,
		l.Source,
		l.Holder,
		l.Epoch,
		l.Beat,
		l.History,
	)
	switch {
	case err != nil:
		return err
	case older:
		return ErrOlder
	}
	return ErrLost
}

// Fence identifies the lease in what is recorded under it.
func (l *Lease) Fence() string { return fmt.Sprintf("%d %s", l.Epoch, l.Holder) }

// HoldsLease reports whether the lease on a source is still that of a fence.
func (r *Records) HoldsLease(ctx context.Context, source, fence string) (is bool, err error) {
	err = r.reads.GetContext(
		ctx,
		&is,
		"SELECT EXISTS (SELECT FROM lease WHERE source = $1 AND epoch || ' ' || holder = $2)",
		source,
		fence,
	)
	return is, err
}

// Release lets others take the lease immediately.
func (r *Records) Release(ctx context.Context, l *Lease) error {
	_, err := r.db.ExecContext(
		ctx,
		"UPDATE lease SET holder = '', changed_at = now() WHERE source = $1 AND holder = $2 AND epoch = $3",
		l.Source,
		l.Holder,
		l.Epoch,
	)
	return err
}

// Process is one pingo serve on these records.
type Process struct {
	ID        string    `db:"id"`
	Host      string    `db:"host"` // the network that Address belongs to
	Address   string    `db:"address"`
	StartedAt time.Time `db:"begun_at"`
	// Beat moves while it is alive. It is above all that any process had before, unless the
	// records were put back to an older copy.
	Beat int64 `db:"beat"`
}

// Register says that a process begins. One that listened at the same address of the same
// network before must be dead, so what it held is free immediately.
func (r *Records) Register(ctx context.Context, p Process) error {
	_, err := r.db.ExecContext(ctx, `
		WITH dead AS (DELETE FROM process WHERE host = $1 AND address = $2 AND id <> $3 RETURNING id)
		UPDATE lease SET holder = '', changed_at = now() FROM dead WHERE holder = dead.id`, p.Host, p.Address, p.ID)
	return err
}

// View is what there is to be seen in the records of processes and leases.
type View struct {
	Processes []Process
	Leases    []*Lease
	// Older: the records are older than at the last heartbeat of the process that looks.
	Older bool
	// Newest is the newest version of the definition, 0 for none, and CarriedOut whether its editions were all recorded.
	Newest     int
	CarriedOut bool
	// Clock is what the clock of the records showed.
	Clock time.Time
	// Disconnected are the sources that no process connects to, and until when.
	Disconnected map[string]time.Time
}

// Disconnect makes all processes close their connections to a source for a time; it returns when that ends.
func (r *Records) Disconnect(ctx context.Context, source string, lasts time.Duration) (until time.Time, err error) {
	return until, r.db.GetContext(ctx, &until, `INSERT INTO disconnected (source, until) VALUES ($1, now() + $2 * interval '1 second')
		ON CONFLICT (source) DO UPDATE SET until = excluded.until RETURNING until`, source, lasts.Seconds())
}

// Reconnect ends Disconnect before its time.
func (r *Records) Reconnect(ctx context.Context, source string) error {
	_, err := r.db.ExecContext(ctx, "DELETE FROM disconnected WHERE source = $1 OR until <= now()", source)
	return err
}

// Heartbeat says that a process is still there, whose Beat is the last that it has seen of
// itself, and lists all processes and all leases. It does so often, so it is one transaction.
func (r *Records) Heartbeat(ctx context.Context, p Process) (v View, err error) {
	tx, err := r.db.BeginTxx(ctx, nil)
	if err != nil {
		return v, err
	}
	defer tx.Rollback()
	err = tx.QueryRowxContext(ctx, `
		WITH before AS (SELECT beat FROM process WHERE id = $1)
		INSERT INTO process AS p (id, host, address) VALUES ($1, $2, $3) ON CONFLICT (id) DO UPDATE SET beat = nextval('beat'), gone_at = NULL
		RETURNING p.beat <= $4 OR coalesce((SELECT beat FROM before) < $4, $4 > 0), clock_timestamp()`,
		p.ID,
		p.Host,
		p.Address,
		p.Beat,
	).Scan(&v.Older, &v.Clock)
	if err != nil {
		return v, err
	}
	if err = tx.SelectContext(ctx, &v.Processes, `SELECT id, host, address, begun_at, beat FROM process WHERE gone_at IS NULL ORDER BY begun_at, id`); err != nil {
		return v, err
	}
	var rows []leaseRow
	if err = tx.SelectContext(ctx, &rows, `SELECT source, holder, epoch, beat, changed_at, history, claimed, claiming, status FROM lease ORDER BY source`); err != nil {
		return v, err
	}
	disconnected := []byte("{}") // without a definition there are no sources
	newest := tx.QueryRowContext(ctx, `SELECT version, carried_out, (SELECT coalesce(jsonb_object_agg(source, until), '{}') FROM disconnected WHERE until > now())
		FROM definition ORDER BY version DESC LIMIT 1`)
	if err := newest.Scan(&v.Newest, &v.CarriedOut, &disconnected); err != nil && !errors.Is(err, sql.ErrNoRows) {
		return v, err
	}
	if err := json.Unmarshal(disconnected, &v.Disconnected); err != nil {
		return v, err
	}
	for i := range rows {
		l, err := rows[i].lease()
		if err != nil {
			return v, err
		}
		v.Leases = append(v.Leases, l)
	}
	return v, tx.Commit()
}

// processesKept is how long a process may be away until it is forgotten.
const processesKept = 24 * time.Hour

// MarkGone notes that a process does not move. It is there again with its next heartbeat; until
// then it is remembered for a while, so that it can tell records that went back.
func (r *Records) MarkGone(ctx context.Context, p Process) error {
	_, err := r.db.ExecContext(ctx, `WITH old AS (DELETE FROM process WHERE gone_at < now() - $3::interval)
		UPDATE process SET gone_at = now() WHERE id = $1 AND beat = $2`, p.ID, p.Beat, processesKept.String())
	return err
}

// Deregister forgets a process that has ended.
func (r *Records) Deregister(ctx context.Context, p Process) error {
	_, err := r.db.ExecContext(ctx, "DELETE FROM process WHERE id = $1", p.ID)
	return err
}

const applyLock = 0x70696e676f // "pingo"

// Exclusively runs something that only one process may do at a time, such as applying a
// definition. It waits for its turn.
func (r *Records) Exclusively(ctx context.Context, do func() error) error {
	return r.exclusively(ctx, "SELECT pg_advisory_lock($1) IS NOT NULL", do)
}

// TryExclusively is Exclusively that does nothing while another process does.
func (r *Records) TryExclusively(ctx context.Context, do func() error) error {
	return r.exclusively(ctx, "SELECT pg_try_advisory_lock($1)", do)
}

func (r *Records) exclusively(ctx context.Context, lock string, do func() error) error {
	conn, err := r.db.Connx(ctx)
	if err != nil {
		return err
	}
	defer conn.Close()
	var mine bool
	if err := conn.GetContext(ctx, &mine, lock, int64(applyLock)); err != nil || !mine {
		return err
	}
	defer unlock(conn)
	return do()
}

func unlock(conn *sqlx.Conn) {
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Second)
	defer cancel()
	if _, err := conn.ExecContext(ctx, "SELECT pg_advisory_unlock($1)", int64(applyLock)); err != nil {
		conn.Raw(func(any) error { return errors.New("its lock could not be given back") }) // so it is closed
	}
}
