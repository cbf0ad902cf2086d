package lease

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"pingo/internal/core/change"
	"pingo/internal/core/retry"
	"pingo/internal/core/stats"
	"pingo/internal/source"
)

// Claimer claims a source's changes for the holder of a lease, and looks whether the claim
// still stands. By the claim it finds out that the source or the records are an older copy of
// what they were, and that another process reads the same changes. Make one with NewClaimer.
type Claimer struct {
	lease   *Lease
	feed    source.Feed
	service string
	missed  func(ctx context.Context, reason string) error
	trouble *stats.TroubleSpot
	log     *slog.Logger

	mu      sync.Mutex    // guards claimed
	claimed chan struct{} // closed when the source is claimed; another one while it is no longer claimed

	claims int // that were tried; try has one caller at a time
	above  atomic.Int64
	// again ends the read that goes on, so that the source is claimed again.
	again atomic.Pointer[context.CancelFunc]
}

// NewClaimer prepares the claim of a service. missed records that all editions of the source
// may lack changes.
func NewClaimer(
	l *Lease,
	feed source.Feed,
	service string,
	missed func(ctx context.Context, reason string) error,
	trouble *stats.TroubleSpot,
	log *slog.Logger,
) *Claimer {
	return &Claimer{lease: l, feed: feed, service: service, missed: missed, trouble: trouble, log: log,
		claimed: make(chan struct{})}
}

// Claimed is closed when the source is claimed. Nothing that lasts is begun before: by the claim
// the next holder of the lease knows that there was this holder. When the source turns out to be
// no longer claimed, since it was restored, it is another channel until it is claimed again.
func (c *Claimer) Claimed() <-chan struct{} {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.claimed
}

// notClaimed says that the source is to be claimed again.
func (c *Claimer) notClaimed() {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.claimed = make(chan struct{})
}

// Above is an epoch that the next lease on the source must be above, 0 when any will do.
func (c *Claimer) Above() int64 { return c.above.Load() }

// Run claims the source and has its changes read, and does so again when that ends, until the
// context ends or the lease turns out not to be enough for a claim: then it is given up.
func (c *Claimer) Run(ctx context.Context, read func(ctx context.Context)) {
	var keeping sync.WaitGroup
	defer keeping.Wait()
	for first := true; ctx.Err() == nil; first = false {
		if !c.claim(ctx) {
			return
		}
		reading, stop := context.WithCancel(ctx)
		c.again.Store(&stop)
		close(c.claimed)
		if first {
			keeping.Go(func() { c.keep(ctx) })
		}
		read(reading)
		stop()
		c.notClaimed()
	}
}

const (
	beatEvery = 3 * time.Second
	// silence is how long a claim that others made must not move before it counts as left.
	silence = 4 * beatEvery
	// waitForOthers is the interval between checks of a source that another process reads.
	waitForOthers = 5 * time.Second
)

// What happened to a source or to the records.
const (
	sourceRestored = "the source was put back to an older copy of itself, or a replica took its place, so documents may hold what is no longer true"
	captureNew     = "capture was reinstalled, or the source was restored from a backup, so changes may be missing"
	RecordsOlder   = "the records of Pingo were restored from a backup, so pending changes may be missing"
)

// claim claims the source. It tries until it has; false when the context ended, or the lease
// is given up.
func (c *Claimer) claim(ctx context.Context) bool {
	var waits retry.Waits
	for {
		err := c.try(ctx)
		switch {
		case err == nil:
			if c.trouble.Clear() {
				c.log.Info("source claimed", "source", c.lease.Source(), "epoch", c.lease.Epoch())
			}
			return true
		case ctx.Err() != nil:
			return false
		case errors.Is(err, errEpoch):
			c.lease.Lose()
			return false
		}
		blocked := errors.Is(err, errOthers)
		if c.trouble.Report(err.Error(), blocked || source.FaultOf(err) == source.NoCapture) {
			c.log.Warn("source not claimed", "source", c.lease.Source(), "reason", err)
		}
		wait := waits.Next()
		if blocked {
			wait = waitForOthers
		}
		if !retry.Sleep(ctx, wait) {
			return false
		}
	}
}

// errEpoch says that the source was claimed under an epoch that is not below the lease's.
var errEpoch = errors.New("the source was claimed under a later epoch")

// errOthers says that another process reads the source's changes.
var errOthers = errors.New("another Pingo reads the changes of this source")

func (c *Claimer) try(ctx context.Context) error {
	now, err := c.feed.Claimed(ctx)
	if err != nil {
		return err
	}
	before, _ := c.lease.Claimed()
	reason := ""
	switch {
	case now.Epoch == 0 && before.Epoch > 0:
		reason = captureNew
	case now.Epoch > 0 && now.Service != c.service:
		return fmt.Errorf(
			"%w (service %s): remove its capture first (pingo capture remove), or use its records database",
			errOthers, now.Service)
	case now.Epoch > max(c.lease.Claiming(), before.Epoch):
		moves, err := c.moves(ctx, now)
		if err != nil {
			return err
		}
		if moves {
			return fmt.Errorf("%w, with a copy of these records: stop one of the two", errOthers)
		}
		reason = RecordsOlder
	case c.lease.older(), now.Epoch >= before.Epoch && now.Mark > before.Mark+1:
		// The mark moves only once the records have the last one, and a claim is one step.
		reason = RecordsOlder
	case now.Behind(before):
		reason = sourceRestored
	}
	if reason != "" {
		if err := c.missed(ctx, reason); err != nil {
			return err
		}
	}
	if now.Epoch >= c.lease.Epoch() && !strings.HasPrefix(now.Holder, c.lease.Process()+"/") {
		c.above.Store(now.Epoch)
		return errEpoch
	}
	// Each claim is another: a source that was put back gives out the numbers of its changes again, and what
	// was asked of it under an earlier claim may arrive at any time.
	c.claims++
	claim := change.Claim{
		Service: c.service,
		Holder:  fmt.Sprint(c.lease.Process(), "/", c.claims),
		Epoch:   c.lease.Epoch(),
		Mark:    max(now.Mark, before.Mark) + 1,
		History: now.History,
	}
	// What is found in a source is judged by what is recorded, so this is recorded last of
	// what comes before the claim: the next holder of the lease finds the same.
	if err := c.lease.Intend(ctx, now); err != nil {
		return err
	}
	if err := c.feed.Claim(ctx, now, claim); err != nil {
		return err
	}
	c.lease.SetClaimed(claim)
	return nil
}

// moves reports whether another process increases the mark of a claim.
func (c *Claimer) moves(ctx context.Context, since change.Claim) (bool, error) {
	if err := c.lease.Confirm(ctx); err != nil {
		return false, err // the records know of the other one
	}
	c.trouble.Report(errOthers.Error()+", or did until a moment ago", false)
	for range silence / beatEvery {
		if !retry.Sleep(ctx, beatEvery) {
			return false, ctx.Err()
		}
		if now, err := c.feed.Claimed(ctx); err != nil || now != since {
			return err == nil, err
		}
	}
	return false, nil
}

// keep moves the claim's mark on until the context ends. The mark moves only once the records
// have the last one, so that it tells an older copy of the records, too.
func (c *Claimer) keep(ctx context.Context) {
	for retry.Sleep(ctx, beatEvery) {
		before, recorded := c.lease.Claimed()
		if !recorded || before.Epoch != c.lease.Epoch() {
			continue
		}
		now, err := c.feed.Beat(ctx, before)
		if source.FaultOf(err) == source.Superseded {
			// Or the mark was moved, and the answer to that got lost.
			now, err = c.feed.Claimed(ctx)
			moved := before
			moved.Mark++
			if err == nil && now != moved {
				// The reader may know only an older mark, and not notice: what this means
				// shows when the source is claimed again.
				(*c.again.Load())()
				continue
			}
		}
		if err == nil {
			c.lease.SetClaimed(now)
		}
	}
}
