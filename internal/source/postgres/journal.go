package postgres

import (
	"context"
	"fmt"
	"strconv"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"

	"pingo/internal/core/change"
	"pingo/internal/core/shape"
)

// journal remembers what was read. Writers take their sequence numbers before
// they commit, so rows appear late and out of order: everything visible above low
// is read that is not in flight, and low only rises to a number below which no
// uncommitted row can exist.
type journal struct {
	mu       sync.Mutex
	inFlight map[int64]struct{}
	// gone were deleted; they leave inFlight when the next read begins, since a
	// read that began before the deletion still sees them.
	gone    []int64
	low     int64 // all rows up to here were seen
	high    int64 // the highest row seen
	marks   []mark
	layouts map[int32]layout
	// nextFull is when rows between low and high are looked for again.
	nextFull time.Time
}

// mark says: sequence numbers up to seq were taken by transactions below xid.
type mark struct {
	seq int64
	xid uint64
}

type layout struct {
	table shape.Ref
	links []string
}

// Changes returns at most limit rows of the journal that it has not returned since
// the last Rewind.
func (p *Postgres) Changes(ctx context.Context, limit int) ([]change.Change, error) {
	j := &p.journal
	j.mu.Lock()
	if j.inFlight == nil {
		j.inFlight = map[int64]struct{}{}
	}
	for _, seq := range j.gone {
		delete(j.inFlight, seq)
	}
	j.gone = nil
	from, full := j.high, time.Now().After(j.nextFull)
	if full {
		from = j.low
		limit += len(j.inFlight)
	}
	j.mu.Unlock()

	began := time.Now()
	var taken int64
	var xmin, xmax uint64
	var read []change.Change
	var ids []int32
	batch := &pgx.Batch{}
	// In this order: the marks hold only if the numbers were taken before the
	// snapshot was looked at, and the rows are read after it.
	batch.Queue("SELECT CASE WHEN is_called THEN last_value ELSE 0 END FROM pingo_capture.journal_seq").QueryRow(func(row pgx.Row) error { return row.Scan(&taken) })
	batch.Queue("SELECT pg_snapshot_xmin(s)::text, pg_snapshot_xmax(s)::text FROM pg_current_snapshot() s").QueryRow(func(row pgx.Row) error {
		var lo, hi string
		if err := row.Scan(&lo, &hi); err != nil {
			return err
		}
		var err1, err2 error
		xmin, err1 = strconv.ParseUint(lo, 10, 64)
		xmax, err2 = strconv.ParseUint(hi, 10, 64)
		if err1 != nil {
			return err1
		}
		return err2
	})
	batch.Queue(`SELECT seq, at, layout, op::text, key, before, after FROM pingo_capture.journal WHERE seq > $1 ORDER BY seq LIMIT $2`, from, limit).Query(func(rows pgx.Rows) error {
		var c change.Change
		var id int32
		var op string
		_, err := pgx.ForEachRow(rows, []any{&c.Seq, &c.At, &id, &op, &c.Key, &c.Before, &c.After}, func() error {
			c.Op = change.Op(op[0])
			read, ids = append(read, c), append(ids, id)
			c.Key, c.Before, c.After = nil, nil, nil
			return nil
		})
		return err
	})
	if err := p.pool.SendBatch(ctx, batch).Close(); err != nil {
		return nil, wrap("reading the journal", err)
	}
	if err := p.describe(ctx, read, ids); err != nil {
		return nil, err
	}
	return j.took(read, from, full, len(read) == limit, mark{taken, xmax}, xmin, began), nil
}

// took keeps what is new among the rows read, and moves the marks on.
func (j *journal) took(read []change.Change, from int64, full, cut bool, now mark, xmin uint64, began time.Time) []change.Change {
	j.mu.Lock()
	defer j.mu.Unlock()
	fresh := read[:0]
	last := from
	for _, c := range read {
		last = c.Seq
		if _, handed := j.inFlight[c.Seq]; handed {
			continue
		}
		j.inFlight[c.Seq] = struct{}{}
		fresh = append(fresh, c)
	}
	j.high = max(j.high, last)
	if !full {
		return fresh
	}
	// Looking again below high is as frequent as it is cheap.
	j.nextFull = time.Now().Add(10 * time.Since(began))
	settled := j.low
	rest := j.marks[:0]
	for _, m := range j.marks {
		switch {
		case xmin < m.xid:
			rest = append(rest, m)
		case !cut || m.seq <= last:
			settled = max(settled, m.seq)
		}
	}
	if now.seq > j.low && (len(rest) == 0 || rest[len(rest)-1].seq < now.seq) && len(rest) < 64 {
		rest = append(rest, now)
	}
	j.marks, j.low = rest, settled
	return fresh
}

// describe fills in tables and link names; layouts are read as they appear.
func (p *Postgres) describe(ctx context.Context, read []change.Change, ids []int32) error {
	for i := range read {
		known, ok := p.journal.layouts[ids[i]]
		if !ok {
			var err error
			if p.journal.layouts, err = p.readLayouts(ctx); err != nil {
				return err
			}
			if known, ok = p.journal.layouts[ids[i]]; !ok {
				return fmt.Errorf("journal row %d has layout %d, which pingo_capture.layouts does not know: somebody deleted it; install capture again and reindex", read[i].Seq, ids[i])
			}
		}
		read[i].Table, read[i].Links = known.table, known.links
	}
	return nil
}

func (p *Postgres) readLayouts(ctx context.Context) (map[int32]layout, error) {
	rows, err := p.pool.Query(ctx, "SELECT id, schema_name, table_name, links FROM pingo_capture.layouts")
	if err != nil {
		return nil, wrap("reading the journal's layouts", err)
	}
	out := map[int32]layout{}
	var id int32
	var l layout
	_, err = pgx.ForEachRow(rows, []any{&id, &l.table.Schema, &l.table.Name, &l.links}, func() error {
		out[id] = l
		l.links = nil
		return nil
	})
	return out, err
}

// Forget deletes rows that are done.
func (p *Postgres) Forget(ctx context.Context, seqs []int64) error {
	if _, err := p.pool.Exec(ctx, "DELETE FROM pingo_capture.journal WHERE seq = ANY($1)", seqs); err != nil {
		return wrap("deleting done changes from the journal", err)
	}
	p.journal.mu.Lock()
	defer p.journal.mu.Unlock()
	p.journal.gone = append(p.journal.gone, seqs...)
	return nil
}

// Rewind forgets what was handed out, so that all that is left is read again.
func (p *Postgres) Rewind() {
	p.journal.mu.Lock()
	defer p.journal.mu.Unlock()
	j := &p.journal
	j.inFlight, j.gone, j.low, j.high, j.marks, j.layouts, j.nextFull = nil, nil, 0, 0, nil, nil, time.Time{}
}
