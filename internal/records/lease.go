package records

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"sync/atomic"
	"time"

	"github.com/jmoiron/sqlx"
)

// LeaseTime is how long a lease lasts after it was renewed. Its holder stops using it
// leaseMargin before that, by its own clock.
const (
	LeaseTime   = 7 * time.Second
	leaseMargin = 1500 * time.Millisecond
)

// Lease is the right of one process to feed the indexes of a source. It ends by itself
// unless it is renewed.
type Lease struct {
	Source string
	// Epoch is above that of every holder before.
	Epoch   int64
	process string
	records *Records
	until   atomic.Pointer[time.Time] // with a monotonic reading
}

// ErrLost says that another process holds the lease, or may by now.
var ErrLost = errors.New("the lease is lost to another process")

// epochStart makes epochs out of the clock, so that they grow even when the records
// database was restored from a backup: seconds since 2020.
const epochStart = 1577836800

// Take takes the lease on a source that nobody holds; nil when somebody does.
func (r *Records) Take(ctx context.Context, source, process string) (*Lease, error) {
	l := &Lease{Source: source, process: process, records: r}
	until := time.Now().Add(LeaseTime - leaseMargin)
	err := r.db.GetContext(ctx, &l.Epoch, `
		INSERT INTO lease AS l (source, holder, epoch, until) VALUES ($1, $2, extract(epoch FROM now())::bigint - $3, clock_timestamp() + $4::interval)
		ON CONFLICT (source) DO UPDATE SET holder = excluded.holder, epoch = greatest(l.epoch + 1, excluded.epoch), until = excluded.until
		WHERE l.until < clock_timestamp() RETURNING epoch`, source, process, int64(epochStart), LeaseTime.String())
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	l.until.Store(&until)
	return l, err
}

// Renew makes the lease last from now on, and leaves word of how things stand.
func (l *Lease) Renew(ctx context.Context, status json.RawMessage) error {
	until := time.Now().Add(LeaseTime - leaseMargin)
	result, err := l.records.db.ExecContext(
		ctx,
		`UPDATE lease SET until = clock_timestamp() + $4::interval, status = $5 WHERE source = $1 AND holder = $2 AND epoch = $3`,
		l.Source,
		l.process,
		l.Epoch,
		LeaseTime.String(),
		string(status),
	)
	if err != nil {
		return err
	}
	if n, err := result.RowsAffected(); err != nil || n == 0 {
		return errors.Join(ErrLost, err)
	}
	l.until.Store(&until)
	return nil
}

// Holds reports whether nobody else can hold the lease yet. A process that was paused
// or cut off finds out by it without asking anybody.
func (l *Lease) Holds() bool { return time.Now().Before(*l.until.Load()) }

// Release lets others take the lease at once.
func (l *Lease) Release() error {
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Second)
	defer cancel()
	_, err := l.records.db.ExecContext(
		ctx,
		"UPDATE lease SET until = clock_timestamp() - interval '1 second', holder = '' WHERE source = $1 AND holder = $2 AND epoch = $3",
		l.Source,
		l.process,
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
}

// LeaseState is what the records say of the lease on a source.
type LeaseState struct {
	Source string          `db:"source"`
	Holder string          `db:"holder"`
	Free   bool            `db:"free"`
	Since  time.Time       `db:"until"` // since when it is free, if it is
	Status json.RawMessage `db:"-"`
	Raw    *string         `db:"status"` // Status as the database has it
}

// Register says that a process begins. One that listened at the same address of the same
// network before must be dead, so what it held is free at once.
func (r *Records) Register(ctx context.Context, p Process) error {
	_, err := r.db.ExecContext(ctx, `
		WITH dead AS (DELETE FROM process WHERE host = $1 AND address = $2 AND id <> $3 RETURNING id)
		UPDATE lease SET until = clock_timestamp() - interval '1 second' FROM dead WHERE holder = dead.id`, p.Host, p.Address, p.ID)
	return err
}

// Heartbeat says that a process is still there, and lists the processes that are and all
// leases.
func (r *Records) Heartbeat(
	ctx context.Context,
	p Process,
) (processes []Process, leases []LeaseState, err error) {
	_, err = r.db.ExecContext(
		ctx,
		`INSERT INTO process (id, host, address) VALUES ($1, $2, $3) ON CONFLICT (id) DO UPDATE SET seen_at = clock_timestamp()`,
		p.ID,
		p.Host,
		p.Address,
	)
	if err != nil {
		return nil, nil, err
	}
	if _, err = r.db.ExecContext(ctx, `DELETE FROM process WHERE seen_at < clock_timestamp() - $1::interval`, LeaseTime.String()); err != nil {
		return nil, nil, err
	}
	if err = r.db.SelectContext(ctx, &processes, `SELECT id, host, address, begun_at FROM process ORDER BY begun_at, id`); err != nil {
		return nil, nil, err
	}
	err = r.db.SelectContext(
		ctx,
		&leases,
		`SELECT source, holder, until < clock_timestamp() AS free, until, status FROM lease ORDER BY source`,
	)
	for i := range leases {
		if leases[i].Raw != nil {
			leases[i].Status = json.RawMessage(*leases[i].Raw)
		}
	}
	return processes, leases, err
}

// Deregister says that a process ends.
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
