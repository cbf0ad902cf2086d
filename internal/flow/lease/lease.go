// Package lease decides which process works on which source, and fences off whoever has
// lost the right to.
package lease

import (
	"context"
	"encoding/json"
	"errors"
	"log/slog"
	"math"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"pingo/internal/core/retry"
	"pingo/internal/records"
)

// Lease is the right to feed the indexes of a source, and the source of the versions that
// its documents get. When it is lost, Lost is closed.
type Lease struct {
	record *records.Lease
	taken  atomic.Int64 // versions given
	lost   chan struct{}
	once   sync.Once
}

// New makes a lease of one that was taken in the records.
func New(record *records.Lease) *Lease { return &Lease{record: record, lost: make(chan struct{})} }

// Source is the source that the lease is on.
func (l *Lease) Source() string { return l.record.Source }

// Epoch is above that of every holder before.
func (l *Lease) Epoch() int64 { return l.record.Epoch }

// versions is how many versions an epoch has. The next ones would be those of a later
// epoch, so a lease ends before.
const versions = math.MaxUint32

// NextVersion is above every version given before, also by other processes: whoever has
// the lease later has the higher epoch.
func (l *Lease) NextVersion() int64 {
	n := l.taken.Add(1)
	if n >= versions {
		l.lose()
	}
	return l.record.Epoch<<32 | min(n, versions)
}

// Holds reports whether nobody else can hold the lease yet. It is asked before everything
// that cannot be taken back, since a process may have been paused for any time before any
// of its steps. Once it has said no, it never says yes again.
func (l *Lease) Holds() bool {
	select {
	case <-l.lost:
		return false
	default:
	}
	if !l.record.Holds() {
		l.lose()
		return false
	}
	return true
}

// Lost is closed when the lease is known to be lost.
func (l *Lease) Lost() <-chan struct{} { return l.lost }

func (l *Lease) lose() { l.once.Do(func() { close(l.lost) }) }

const (
	renewEvery   = time.Second
	renewTimeout = 2 * time.Second
)

// Keep renews the lease until it is lost or the context ends, and leaves word of how the
// source's indexes are with it.
func (l *Lease) Keep(ctx context.Context, status func() json.RawMessage, log *slog.Logger) {
	for l.Holds() && ctx.Err() == nil {
		renewing, cancel := context.WithTimeout(ctx, renewTimeout)
		err := l.record.Renew(renewing, status())
		cancel()
		switch {
		case errors.Is(err, records.ErrLost):
			log.Error("lease lost to another process", "source", l.Source())
			l.lose()
		case err != nil && ctx.Err() == nil:
			log.Warn("lease not renewed", "source", l.Source(), "error", err)
		}
		retry.Sleep(ctx, renewEvery)
	}
}

// Release lets others take the lease at once.
func (l *Lease) Release() error { return l.record.Release() }

// TakeAfter is how long a free source waits for a process that has less to do.
const TakeAfter = 3 * time.Second

// Balance says which sources a process gives up and which free ones it tries to take,
// when each process is to have its share of those that are fed. held are the ones that it
// has now.
func Balance(
	fed, held []string,
	leases []records.LeaseState,
	processes int,
	now time.Time,
) (give, take []string) {
	processes = max(1, processes)
	share := (len(fed) + processes - 1) / processes
	have := 0
	for _, name := range held {
		if !slices.Contains(fed, name) || have >= share {
			give = append(give, name)
			continue
		}
		have++
	}
	for _, name := range fed {
		at := slices.IndexFunc(leases, func(l records.LeaseState) bool { return l.Source == name })
		switch {
		case slices.Contains(held, name):
		case at >= 0 && !leases[at].Free:
		case at >= 0 && have >= share && now.Sub(leases[at].Since) < TakeAfter:
		default:
			take = append(take, name)
			have++
		}
	}
	return give, take
}
