package deliver

import (
	"context"
	"log/slog"
	"maps"
	"sync"

	"golang.org/x/time/rate"

	"pingo/internal/records"
)

// failures are the failed documents of an edition, as the records have them.
type failures struct {
	mu sync.Mutex // guards what follows
	// keys have each the number of its last refusal.
	keys     map[string]int
	refusals int
	// lines bounds what is logged of single documents, and withheld counts what was not logged since.
	lines    *rate.Limiter
	withheld int
}

// Documents that fail together, as after a change of a field, would flood the log.
const (
	linesAtOnce    = 100
	linesPerSecond = 1
)

func (f *failures) init() {
	f.keys, f.lines = map[string]int{}, rate.NewLimiter(linesPerSecond, linesAtOnce)
}

// say logs what happened to one document, unless too many were logged.
func (f *failures) say(e *Edition, level slog.Level, message string, args ...any) {
	f.mu.Lock()
	allowed, withheld := f.lines.Allow(), f.withheld
	f.withheld++
	if allowed {
		f.withheld = 0
	}
	f.mu.Unlock()
	if !allowed {
		return
	}
	if withheld > 0 {
		args = append(args, "withheld", withheld)
	}
	e.log.Log(context.Background(), level, message, args...)
}

func (f *failures) load(ctx context.Context, e *Edition) error {
	keys, err := e.store.FailedKeys(ctx, e.Record, "")
	if err != nil {
		return err
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	for _, key := range keys {
		f.keys[key] = 0
	}
	return nil
}

func (f *failures) has(key string) bool {
	f.mu.Lock()
	defer f.mu.Unlock()
	_, is := f.keys[key]
	return is
}

func (f *failures) count() int {
	f.mu.Lock()
	defer f.mu.Unlock()
	return len(f.keys)
}

// refused records a refusal.
func (f *failures) refused(ctx context.Context, e *Edition, doc records.Failed) error {
	if err := e.store.SaveFailed(ctx, e.Record, doc); err != nil {
		return err
	}
	f.mu.Lock()
	_, was := f.keys[doc.Key]
	f.refusals++
	f.keys[doc.Key] = f.refusals
	f.mu.Unlock()
	if !was {
		f.say(e, slog.LevelWarn, "document failed", "key", doc.Key, "cause", doc.Cause, "kind", doc.Kind, "reason", doc.Reason)
	}
	return nil
}

// resolve records that a failed document was accepted.
func (f *failures) resolve(ctx context.Context, e *Edition, key string) error {
	if err := e.store.ResolveFailed(ctx, e.Record, key); err != nil {
		return err
	}
	f.mu.Lock()
	delete(f.keys, key)
	f.mu.Unlock()
	f.say(e, slog.LevelInfo, "failed document resolved", "key", key)
	return nil
}

// forgetDismissed takes out what the records have no longer, but for documents that were
// refused again meanwhile.
func (f *failures) forgetDismissed(ctx context.Context, e *Edition) error {
	f.mu.Lock()
	before := maps.Clone(f.keys)
	f.mu.Unlock()
	if len(before) == 0 {
		return nil
	}
	keys, err := e.store.FailedKeys(ctx, e.Record, "")
	if err != nil {
		return err
	}
	for _, key := range keys {
		delete(before, key)
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	for key, refusal := range before {
		if f.keys[key] == refusal {
			delete(f.keys, key)
		}
	}
	return nil
}
