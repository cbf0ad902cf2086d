// Package retry decides what an engine's answer means, what refusals have in common, and
// how long to wait before the next try.
package retry

import (
	"context"
	"time"

	"github.com/cenkalti/backoff/v5"
)

// Outcome is what an engine's answer means for a document or a request.
type Outcome int

// The outcomes. Later never counts against the document; Refused is the document's
// own fault; Blocked is the fault of the index, the engine or the credentials.
const (
	Done Outcome = iota
	Newer
	Later
	Refused
	Blocked
)

func (o Outcome) String() string {
	return [...]string{"done", "already newer", "later", "refused", "blocked"}[o]
}

// The waits between tries: they double, with jitter so that many do not come back
// together.
const (
	firstWait   = 40 * time.Millisecond
	longestWait = 4 * time.Second
)

// Jitter is the share by which a wait is longer or shorter at random. Tests that must
// replay set it to 0.
var Jitter = 0.25

// Waits are the waits between tries of one thing. The zero value is ready.
type Waits struct {
	backoff *backoff.ExponentialBackOff
	// Failures is how many tries have failed since the last Reset.
	Failures int
}

// Next is how long to wait after one more failure.
func (w *Waits) Next() time.Duration {
	if w.backoff == nil {
		w.backoff = &backoff.ExponentialBackOff{
			InitialInterval:     firstWait,
			MaxInterval:         longestWait,
			Multiplier:          2,
			RandomizationFactor: Jitter,
		}
	}
	w.Failures++
	return w.backoff.NextBackOff()
}

// Sleep waits after one more failure; false when the context ended.
func (w *Waits) Sleep(ctx context.Context) bool { return Sleep(ctx, w.Next()) }

// Reset starts over after a success.
func (w *Waits) Reset() { *w = Waits{} }

// Until tries do until it succeeds. It returns the context's error when that ends
// before. failed, if given, is called for every failure, with the number of failures.
func Until(ctx context.Context, do func() error, failed func(err error, failures int)) error {
	var waits Waits
	for {
		err := do()
		switch {
		case err == nil:
			return nil
		case ctx.Err() != nil:
			return ctx.Err()
		}
		wait := waits.Next()
		if failed != nil {
			failed(err, waits.Failures)
		}
		if !Sleep(ctx, wait) {
			return ctx.Err()
		}
	}
}

// Sleep waits; false when the context ended.
func Sleep(ctx context.Context, d time.Duration) bool {
	timer := time.NewTimer(d)
	defer timer.Stop()
	select {
	case <-ctx.Done():
		return false
	case <-timer.C:
		return true
	}
}
