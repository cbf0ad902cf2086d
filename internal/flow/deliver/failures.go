package deliver

import (
	"context"
	"maps"
	"sync"

	"pingo/internal/records"
)

// failures are the failed documents of an edition, as the records have them.
type failures struct {
	mu sync.Mutex // guards what follows
	// keys have each the number of its last refusal.
	keys     map[string]int
	refusals int
	// causes that were logged; those of single documents would flood the log.
	causes map[string]bool
}

func (f *failures) init() { f.keys, f.causes = map[string]int{}, map[string]bool{} }

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
	news := !f.causes[doc.Cause]
	f.causes[doc.Cause] = true
	f.mu.Unlock()
	if news {
		e.log.Warn(
			"document failed, first of its cause",
			"key",
			doc.Key,
			"cause",
			doc.Cause,
			"kind",
			doc.Kind,
			"reason",
			doc.Reason,
		)
	} else if !was {
		e.log.Debug("document failed", "key", doc.Key, "cause", doc.Cause)
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
	e.log.Debug("failed document resolved", "key", key)
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
