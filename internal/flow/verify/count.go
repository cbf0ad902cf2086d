package verify

import (
	"context"
	"fmt"
	"log/slog"
	"sync"
	"time"

	"pingo/internal/core/reindex"
	"pingo/internal/core/retry"
	"pingo/internal/core/shape"
	"pingo/internal/flow/connect"
	"pingo/internal/flow/deliver"
	"pingo/internal/flow/rebuild"
	"pingo/internal/source"
)

// While documents move, both sides are counted again after soonest, and after a longest time while none does. No more
// than a share of the time is spent on it, of which all indexes of a table have their part.
const (
	soonest   = time.Second
	longest   = 30 * time.Second
	oneIn     = 50
	oneInIdle = 400
	lookOver  = 5 * time.Second // documents that were dismissed through another process are seen after that
)

// Counts are the rows of tables as they were counted last, so that indexes of one table count it once. The zero value
// is ready.
type Counts struct {
	mu     sync.Mutex // guards tables
	tables map[string]*rows
}

type rows struct {
	// turn is held while they are counted, and guards what follows. It is a channel, so that tests in virtual time can
	// wait for it.
	turn  chan struct{}
	n     int64
	began time.Time
	took  time.Duration
}

// Rows counts the rows of a shape's trees, and says how long that took; a count that was begun after since is good
// enough.
func (c *Counts) Rows(
	ctx context.Context,
	reader source.Reader,
	s *shape.Shape,
	since time.Time,
) (total int64, took time.Duration, err error) {
	for _, t := range s.Trees {
		key := fmt.Sprintf("%q %q %q", s.SourceOf(t.Root()), t.Root().Table, t.Root().Where)
		c.mu.Lock()
		if c.tables == nil {
			c.tables = map[string]*rows{}
		}
		r := c.tables[key]
		if r == nil {
			r = &rows{turn: make(chan struct{}, 1)}
			c.tables[key] = r
		}
		c.mu.Unlock()
		n, lasted, err := r.count(ctx, reader, t, since)
		if err != nil {
			return 0, 0, err
		}
		total, took = total+n, took+lasted
	}
	return total, took, nil
}

func (r *rows) count(
	ctx context.Context,
	reader source.Reader,
	t *shape.Tree,
	since time.Time,
) (n int64, took time.Duration, err error) {
	select {
	case r.turn <- struct{}{}:
		defer func() { <-r.turn }()
	case <-ctx.Done():
		return 0, 0, ctx.Err()
	}
	if r.began.After(since) {
		return r.n, r.took, nil
	}
	began := time.Now()
	if n, err = reader.Count(ctx, t); err != nil {
		return 0, 0, err
	}
	r.n, r.began, r.took = n, began, time.Since(began)
	return n, r.took, nil
}

// Count counts both sides of an edition, seldom while nothing happens, until the context ends.
func Count(
	ctx context.Context,
	e *deliver.Edition,
	fill *rebuild.Fill,
	counts *Counts,
	reader source.Reader,
	eng *connect.Engine,
	log *slog.Logger,
) {
	moved := func() int64 { return e.Stats.Built.Total() + e.Stats.Delivered.Total() }
	var sofar apart
	wait, looked := soonest, time.Now()
	pause := wait
	for {
		began, before := time.Now(), moved()
		if state, _ := fill.State(); state == reindex.Previous { // no status shows it
			if !retry.Sleep(ctx, soonest) {
				return
			}
			continue
		}
		n, took, err := counts.Rows(ctx, reader, e.Record.Shape, began.Add(-pause/2))
		if err == nil {
			e.Stats.Rows.Set(n)
		}
		if n, err := eng.Count(ctx, e.Record.Name()); err == nil {
			e.Stats.Documents.Set(n)
		}
		e.Stats.Apart.Store(sofar.look(e, began))
		took = max(took, time.Since(began))
		wait = min(2*wait, longest)
		pause = max(wait, oneInIdle*took)
		for {
			if moved() != before || e.Waiting() > 0 || sofar.times > 0 {
				wait = soonest
				pause = max(wait, oneIn*took)
			}
			if time.Since(began) >= pause {
				break
			}
			if time.Since(looked) >= lookOver {
				looked = time.Now()
				if err := e.ForgetDismissed(ctx); err != nil && ctx.Err() == nil {
					log.Warn("dismissed documents not read", "edition", e.Record.Name(), "error", err)
				}
			}
			if !retry.Sleep(ctx, soonest) {
				return
			}
		}
	}
}
