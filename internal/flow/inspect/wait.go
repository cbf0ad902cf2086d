package inspect

import (
	"context"
	"errors"
	"fmt"
	"time"

	"pingo/internal/core/retry"
	"pingo/internal/records"
)

// lookEvery is how often a wait looks.
const lookEvery = 50 * time.Millisecond

// ErrNotFoundYet says that searches do not find everything yet when a wait ends.
var ErrNotFoundYet = errors.New("changes are still pending")

// Wait returns once searches of an index find everything that was committed before the call:
// all those changes have left the journal, nothing that was set aside from them is owed, and
// the engine has refreshed. Any process can wait, whoever feeds the index. When the context ends
// before, it fails with ErrNotFoundYet, or with what keeps it from finding out.
func (i *Inspector) Wait(ctx context.Context, index string) error {
	e, err := i.Edition(ctx, index)
	if err != nil {
		return err
	}
	began, upTo := time.Now(), map[string]int64{}
	var last error
	for looks := 1; ; looks++ {
		done, err := found(ctx, i.Records, e, upTo, began)
		if done {
			if err = e.Engine.Refresh(ctx, e.Record.Name()); err == nil {
				return nil
			}
		}
		if ctx.Err() == nil {
			last = err // what there was before is over
		}
		if !retry.Sleep(ctx, lookEvery) {
			if last == nil {
				last = ErrNotFoundYet
			}
			return last
		}
		if looks%20 != 0 && e.Live() {
			continue
		}
		if fresh, err := i.Newest(ctx, index); err == nil && fresh != nil {
			e = fresh // another edition may answer by now
		}
	}
}

// found reports whether an edition has settled every change of its sources up to a number of each,
// which it takes first.
func found(
	ctx context.Context,
	store Store,
	e *Edition,
	upTo map[string]int64,
	began time.Time,
) (bool, error) {
	settled := true
	for name, src := range e.Sources {
		depth, err := src.Depth(ctx)
		if err != nil {
			return false, fmt.Errorf("asking source %s: %w", name, err)
		}
		if _, known := upTo[name]; !known {
			upTo[name] = depth.Last
		}
		settled = settled && (depth.First == 0 || depth.First > upTo[name])
	}
	switch {
	case !e.Live():
		return false, ErrNotYet
	case e.Record.Missed != nil:
		return false, fmt.Errorf("changes may be missing: %s", e.Record.Missed.Reason)
	case !settled:
		return false, nil
	}
	return nothingOwed(ctx, store, e.Record, began)
}

// nothingOwed looks at what was set aside from changes that have left the journal.
func nothingOwed(ctx context.Context, store Store, e *records.Edition, since time.Time) (bool, error) {
	n, oldest, err := store.BacklogSize(ctx, e)
	if err != nil {
		return false, fmt.Errorf("asking the records: %w", err)
	}
	return n == 0 || oldest.After(since), nil
}
