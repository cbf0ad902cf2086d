// Package lease decides which process works on which source, and fences off whoever has
// lost the right to.
package lease

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"math"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"pingo/internal/core/change"
	"pingo/internal/core/retry"
	"pingo/internal/records"
)

// Store is what the records keep of leases.
type Store interface {
	Take(ctx context.Context, source, process string, seen *records.Lease, above int64) (*records.Lease, error)
	Renew(ctx context.Context, l *records.Lease, beat int64, status json.RawMessage) error
	HoldsLease(ctx context.Context, source, fence string) (bool, error)
	Release(ctx context.Context, l *records.Lease) error
}

// Time is how long a lease lasts after it was renewed: a process that has seen the same beat for that
// long, by its own clock, may take it. Its holder stops using it margin before that. Neither
// looks at the time of day, which may be set back or forward.
const (
	Time   = 7 * time.Second
	margin = 1500 * time.Millisecond
)

// Lease is the right to feed the indexes of a source, and the source of the versions that
// its documents get. When it is lost, Lost is closed.
type Lease struct {
	store   Store
	asTaken records.Lease // it never changes
	taken   atomic.Int64  // versions given
	passed  atomic.Int64  // of these, because another program had used them
	until   atomic.Pointer[time.Time]
	lost    chan struct{}
	once    sync.Once

	// renewing is held while the records are waited for, so that one renewal does not overtake
	// another. It is a channel, so that tests in virtual time can wait for it.
	renewing chan struct{}

	mu     sync.Mutex    // guards what follows
	record records.Lease // as it was last renewed
	beat   int64         // the last that was tried
	// claimed is the claim on the source, and claiming the epoch of the last that may have
	// been made; they are recorded with the next renewal.
	claimed  change.Claim
	claiming int64
	sound    string // see records.Lease
	// word says how the source's indexes are, for others; nil before Keep.
	word func() json.RawMessage
}

// Take takes the lease on a source, if it is still as it was seen; else it returns nil. Its
// epoch is above that which was seen, and above another one.
func Take(
	ctx context.Context,
	store Store,
	source, process string,
	seen *records.Lease,
	above int64,
) (*Lease, error) {
	until := time.Now().Add(Time - margin)
	record, err := store.Take(ctx, source, process, seen, above)
	if err != nil || record == nil {
		return nil, err
	}
	l := &Lease{
		store:    store,
		asTaken:  *record,
		record:   *record,
		claimed:  record.Claimed,
		claiming: record.Claiming,
		sound:    record.Sound,
		beat:     record.Beat,
		lost:     make(chan struct{}),
		renewing: make(chan struct{}, 1),
	}
	l.until.Store(&until)
	return l, nil
}

// TakeAll takes the leases on some sources as they were last seen: all of them or none, when it
// returns nil. above has for some an epoch that theirs must be above.
func TakeAll(
	ctx context.Context,
	store Store,
	sources []string,
	process string,
	seen []State,
	above map[string]int64,
	log *slog.Logger,
) (taken []*Lease, err error) {
	for _, source := range sources {
		var last *records.Lease
		if at := slices.IndexFunc(seen, func(l State) bool { return l.Source == source }); at >= 0 {
			last = seen[at].Lease
		}
		l, err := Take(ctx, store, source, process, last, above[source])
		if err != nil {
			err = fmt.Errorf("taking the lease on source %s: %w", source, err)
		}
		if err != nil || l == nil {
			Release(ctx, taken, log)
			return nil, err
		}
		taken = append(taken, l)
	}
	return taken, nil
}

// Release lets others take some leases immediately. Without it they take them a little later.
func Release(ctx context.Context, leases []*Lease, log *slog.Logger) {
	for _, l := range leases {
		l.release(ctx, log)
	}
}

// Source is the source that the lease is on.
func (l *Lease) Source() string { return l.asTaken.Source }

// Epoch is above that of every holder before.
func (l *Lease) Epoch() int64 { return l.asTaken.Epoch }

// Fence identifies the lease in what is recorded under it.
func (l *Lease) Fence() string { return l.asTaken.Fence() }

// Process is the holder.
func (l *Lease) Process() string { return l.asTaken.Holder }

// versions is how many versions an epoch has. The next ones would be those of a later
// epoch, so a lease ends before.
const versions = math.MaxUint32

// NextVersion is above every version given before, also by other processes: the process that has
// the lease later has the higher epoch.
func (l *Lease) NextVersion() int64 {
	n := l.taken.Add(1)
	if n >= versions {
		l.Lose()
	}
	return LeastVersion(l.Epoch()) | min(n, versions)
}

// Given is the highest version that was given so far.
func (l *Lease) Given() int64 { return LeastVersion(l.Epoch()) | min(l.taken.Load(), versions) }

// mostPassed is how far above what was given a version may be that is passed, and passedInAll how many versions of an epoch
// are passed in all: an engine that lies must not use them up.
const (
	mostPassed  = 1 << 16
	passedInAll = 1 << 28
)

// Pass raises the next versions above one that another program gave a document. It reports whether it did: it refuses a
// version that is far above all of Pingo's.
func (l *Lease) Pass(version int64) bool {
	for {
		taken, wanted := l.taken.Load(), version-LeastVersion(l.Epoch())
		switch {
		case wanted <= taken:
			return true
		case wanted-taken > mostPassed || wanted >= versions || l.passed.Load() > passedInAll:
			return false
		case l.taken.CompareAndSwap(taken, wanted):
			l.passed.Add(wanted - taken)
			return true
		}
	}
}

// LeastVersion is below every version that the holder of an epoch gives, and above those of earlier epochs.
func LeastVersion(epoch int64) int64 { return epoch << 32 }

// Holds reports whether no other process can hold the lease yet. It is asked before everything
// that cannot be taken back, since a process may have been paused for any time before any
// of its steps. Once it has said no, it never says yes again.
func (l *Lease) Holds() bool {
	select {
	case <-l.lost:
		return false
	default:
	}
	if !time.Now().Before(*l.until.Load()) {
		l.Lose()
		return false
	}
	return true
}

// Confirm asks the records whether the lease is still held. It fails with records.ErrLost
// when it is not.
func (l *Lease) Confirm(ctx context.Context) error {
	is, err := l.store.HoldsLease(ctx, l.Source(), l.Fence())
	if err == nil && !is {
		l.Lose()
		err = records.ErrLost
	}
	return err
}

// Lost is closed when the lease is known to be lost.
func (l *Lease) Lost() <-chan struct{} { return l.lost }

// Lose gives the lease up: nothing more is done under it.
func (l *Lease) Lose() { l.once.Do(func() { close(l.lost) }) }

// Claimed is the claim on the source that is known, and whether the records have it.
func (l *Lease) Claimed() (c change.Claim, recorded bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.claimed, l.claimed == l.record.Claimed
}

// SetClaimed has a claim on the source recorded with the next renewal.
func (l *Lease) SetClaimed(c change.Claim) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.claimed = c
}

const (
	renewEvery   = time.Second
	renewTimeout = 2 * time.Second
)

// Keep renews the lease until it is lost or the context ends, and leaves word of how the
// source's indexes are with it. older is called when the records turn out to be older than they
// were; then the lease is given up.
func (l *Lease) Keep(
	ctx context.Context,
	status func() json.RawMessage,
	older func(ctx context.Context) error,
	log *slog.Logger,
) {
	l.mu.Lock()
	l.word = status
	l.mu.Unlock()
	for l.Holds() && ctx.Err() == nil {
		err := l.Renew(ctx, status())
		switch {
		case errors.Is(err, records.ErrLost):
			log.Error("lease lost to another process", "source", l.Source())
			l.Lose()
		case errors.Is(err, records.ErrOlder):
			log.Error("lease given up", "source", l.Source(), "reason", err)
			if err := older(ctx); err != nil {
				log.Error("missing changes not recorded", "source", l.Source(), "error", err)
				break // again with the next renewal
			}
			l.Lose()
		case err != nil && ctx.Err() == nil:
			log.Warn("lease not renewed", "source", l.Source(), "error", err)
		}
		retry.Sleep(ctx, renewEvery)
	}
}

// older reports whether the records may be older than they were before, which is not recorded
// as missing yet.
func (l *Lease) older() bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.sound != "" && l.sound != l.asTaken.History
}

// Intend records what claim was found on the source, and that it may be claimed under this
// lease from now on. Whatever may be missing is recorded by then.
func (l *Lease) Intend(ctx context.Context, found change.Claim) error {
	l.mu.Lock()
	l.claimed, l.claiming, l.sound = found, l.record.Epoch, l.asTaken.History
	word := l.word
	l.mu.Unlock()
	if word == nil {
		return l.Renew(ctx, nil)
	}
	return l.Renew(ctx, word()) // others take what stands there for said with this renewal
}

// Claiming is the epoch of the last claim on the source that may have been made.
func (l *Lease) Claiming() int64 {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.claiming
}

// Renew renews the lease once; without a status the last one stays.
func (l *Lease) Renew(ctx context.Context, status json.RawMessage) error {
	l.renewing <- struct{}{}
	defer func() { <-l.renewing }()
	ctx, cancel := context.WithTimeout(ctx, renewTimeout)
	defer cancel()
	l.mu.Lock()
	l.beat++ // also of a try that failed, since it may have come through
	next, beat := l.record, l.beat
	next.Claimed, next.Claiming, next.Sound = l.claimed, l.claiming, l.sound
	l.mu.Unlock()
	until := time.Now().Add(Time - margin)
	if err := l.store.Renew(ctx, &next, beat, status); err != nil {
		return err
	}
	l.mu.Lock()
	next.Beat = beat
	l.record = next
	l.mu.Unlock()
	l.until.Store(&until)
	return nil
}

func (l *Lease) release(ctx context.Context, log *slog.Logger) {
	ctx, cancel := context.WithTimeout(ctx, renewTimeout)
	defer cancel()
	if err := l.store.Release(ctx, &l.asTaken); err != nil {
		log.Warn("lease not released", "source", l.Source(), "error", err)
	}
}
