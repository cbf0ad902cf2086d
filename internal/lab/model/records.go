package model

import (
	"cmp"
	"context"
	"errors"
	"maps"
	"slices"
	"sync"
	"time"

	"pingo/internal/core/change"
	"pingo/internal/core/definition"
	"pingo/internal/core/drift"
	"pingo/internal/core/reindex"
	"pingo/internal/records"
)

// Records is records.Records in memory, as far as the flow uses it: what it takes and
// refuses, by which fence, is the same.
type Records struct {
	mu sync.Mutex // guards what follows
	recorded
	exclusive chan struct{}
}

// recorded is all that is recorded; its values are never changed in place.
type recorded struct {
	service    string
	applied    []*records.Applied
	editions   map[edition]records.Edition
	numbered   map[string]int
	births     int // of the world, as lines are: they never go back
	lines      int // of history, that there were
	history    int
	chunks     map[chunk]planned
	failed     map[documentOf]records.Failed
	backlog    map[documentOf]records.BacklogEntry
	rebuilds   map[treeOf]records.Rebuild
	generation int64
	beats      int64
	leases     map[string]records.Lease
	processes  map[string]records.Process
	gone       map[string]bool
	decided    map[edition]bool
	coverage   map[edition]drift.Coverage
	different  map[documentOf]records.Difference
	orders     []records.Order
}

type edition struct {
	index  string
	number int
}

type documentOf struct {
	edition
	key string
}

func of(e *records.Edition) edition { return edition{e.Index, e.Number} }

// NewRecords has some editions recorded, and nothing else.
func NewRecords(editions ...*records.Edition) *Records {
	r := &Records{exclusive: make(chan struct{}, 1), recorded: recorded{
		service:   "one",
		editions:  map[edition]records.Edition{},
		numbered:  map[string]int{},
		chunks:    map[chunk]planned{},
		failed:    map[documentOf]records.Failed{},
		backlog:   map[documentOf]records.BacklogEntry{},
		rebuilds:  map[treeOf]records.Rebuild{},
		leases:    map[string]records.Lease{},
		processes: map[string]records.Process{},
		gone:      map[string]bool{},
		decided:   map[edition]bool{},
		coverage:  map[edition]drift.Coverage{},
		different: map[documentOf]records.Difference{},
	}}
	for _, e := range editions {
		r.editions[of(e)] = *e
	}
	return r
}

// Copy is all that is recorded now, for Restore.
func (r *Records) Copy() any {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.recorded.copy()
}

func (r recorded) copy() recorded {
	r.applied, r.editions, r.numbered = slices.Clone(r.applied), maps.Clone(r.editions), maps.Clone(r.numbered)
	r.chunks, r.failed, r.backlog = maps.Clone(r.chunks), maps.Clone(r.failed), maps.Clone(r.backlog)
	r.leases, r.processes, r.gone = maps.Clone(r.leases), maps.Clone(r.processes), maps.Clone(r.gone)
	r.decided, r.coverage, r.different = maps.Clone(r.decided), maps.Clone(r.coverage), maps.Clone(r.different)
	r.orders, r.rebuilds = slices.Clone(r.orders), maps.Clone(r.rebuilds)
	return r
}

// Restore puts an older copy in the place of all that is recorded. on says that it goes on by
// itself from there, on another line of history, as a replica does.
func (r *Records) Restore(copied any, on bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	births, lines := r.births, r.lines
	r.recorded = copied.(recorded).copy()
	r.births, r.lines = births, lines
	if on {
		r.lines++
		r.history = r.lines
	}
}

// Claims are the recorded claims on sources.
func (r *Records) Claims() map[string]change.Claim {
	r.mu.Lock()
	defer r.mu.Unlock()
	out := map[string]change.Claim{}
	for source, l := range r.leases {
		out[source] = l.Claimed
	}
	return out
}

// Claiming are the epochs of the last claims on sources that may have been made.
func (r *Records) Claiming() map[string]int64 {
	r.mu.Lock()
	defer r.mu.Unlock()
	out := map[string]int64{}
	for source, l := range r.leases {
		out[source] = l.Claiming
	}
	return out
}

// Only is the only edition as it is recorded.
func (r *Records) Only() *records.Edition {
	list, _ := r.Editions(context.Background())
	return list[0]
}

// Failed lists the failed documents of all editions by key.
func (r *Records) Failed() map[string]records.Failed {
	r.mu.Lock()
	defer r.mu.Unlock()
	out := map[string]records.Failed{}
	for d, f := range r.failed {
		out[d.key] = f
	}
	return out
}

// Dismiss forgets failed documents of the only edition.
func (r *Records) Dismiss(keys ...string) { r.DismissFailed(context.Background(), r.Only(), keys) }

// fence is that of the lease on a source. The caller holds mu.
func (r *Records) fence(source string) string {
	l := r.leases[source]
	return l.Fence()
}

// held is the fence: an empty one is that of a person. The caller holds mu.
func (r *Records) held(e *records.Edition) error {
	if e.Fence != "" && r.fence(e.Shape.Source) != e.Fence {
		return records.ErrLost
	}
	return nil
}

// fenced changes something that only the holder of the lease may change.
func (r *Records) fenced(e *records.Edition, do func(known records.Edition) error) error {
	r.mu.Lock()
	defer r.mu.Unlock()
	if err := r.held(e); err != nil {
		return err
	}
	known, there := r.editions[of(e)]
	if !there {
		return nil
	}
	return do(known)
}

// Apply and the others are those of records.Records.
func (r *Records) Apply(
	_ context.Context,
	files []definition.File,
	kinds map[string]string,
	by string,
	dropped ...string,
) (int, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for name, e := range r.editions {
		if slices.Contains(dropped, e.Index) {
			e.State = reindex.Cancelled
			r.editions[name] = e
		}
	}
	version := len(r.applied) + 1
	r.applied = append(
		r.applied,
		&records.Applied{Version: version, Files: files, AppliedBy: by, EngineKinds: kinds},
	)
	return version, nil
}

// CarriedOut notes that a definition was carried out.
func (r *Records) CarriedOut(_ context.Context, version int) error {
	r.mu.Lock()
	defer r.mu.Unlock()
	a := *r.applied[version-1]
	a.CarriedOut = true
	r.applied[version-1] = &a
	return nil
}

// Definition is the newest one.
func (r *Records) Definition(ctx context.Context) (*records.Applied, error) {
	return r.DefinitionVersion(ctx, 0)
}

// DefinitionVersion is one version, the newest for 0.
func (r *Records) DefinitionVersion(_ context.Context, version int) (*records.Applied, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if version == 0 {
		version = len(r.applied)
	}
	if version == 0 || version > len(r.applied) {
		return nil, nil
	}
	a := *r.applied[version-1]
	return &a, nil
}

// FailedKeys lists the keys of failed documents.
func (r *Records) FailedKeys(_ context.Context, e *records.Edition, cause string) (out []string, err error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for d, f := range r.failed {
		if d.edition == of(e) && (cause == "" || f.Cause == cause) {
			out = append(out, d.key)
		}
	}
	slices.Sort(out)
	return out, nil
}

// SaveFailed records a failed document.
func (r *Records) SaveFailed(_ context.Context, e *records.Edition, f records.Failed) error {
	return r.fenced(e, func(records.Edition) error {
		r.failed[documentOf{of(e), f.Key}] = f
		return nil
	})
}

// ResolveFailed forgets a failed document.
func (r *Records) ResolveFailed(_ context.Context, e *records.Edition, key string) error {
	return r.fenced(e, func(records.Edition) error {
		delete(r.failed, documentOf{of(e), key})
		return nil
	})
}

// DismissFailed forgets failed documents.
func (r *Records) DismissFailed(
	_ context.Context,
	e *records.Edition,
	keys []string,
) (out []string, err error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, key := range keys {
		if _, there := r.failed[documentOf{of(e), key}]; there {
			delete(r.failed, documentOf{of(e), key})
			out = append(out, key)
		}
	}
	return out, nil
}

// FailedDocument is one failed document.
func (r *Records) FailedDocument(_ context.Context, index, key string) (*records.Failed, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for d, f := range r.failed {
		if d.index == index && d.key == key {
			return &f, nil
		}
	}
	return nil, nil
}

// FailedDocuments is not to be had.
func (r *Records) FailedDocuments(context.Context, string, string, *records.Failed, int) ([]records.Failed, error) {
	return nil, errors.New("not listed")
}

// FailedGroups is not to be had.
func (r *Records) FailedGroups(context.Context, string) ([]records.FailedGroup, error) {
	return nil, errors.New("not grouped")
}

// AddToBacklog puts keys into the backlog.
func (r *Records) AddToBacklog(
	_ context.Context,
	e *records.Edition,
	keys []string,
	at []time.Time,
) (added int64, err error) {
	err = r.fenced(e, func(records.Edition) error {
		for i, key := range keys {
			d := documentOf{of(e), key}
			r.generation++
			entry, there := r.backlog[d]
			if !there {
				added++
				entry = records.BacklogEntry{Key: key, At: at[i]}
			}
			if at[i].Before(entry.At) {
				entry.At = at[i]
			}
			entry.Generation = r.generation
			r.backlog[d] = entry
		}
		return nil
	})
	return added, err
}

// Backlog lists keys of the backlog.
func (r *Records) Backlog(
	_ context.Context,
	e *records.Edition,
	after string,
	n int,
) (out []records.BacklogEntry, err error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for d, entry := range r.backlog {
		if d.edition == of(e) && d.key > after {
			out = append(out, entry)
		}
	}
	slices.SortFunc(out, func(a, b records.BacklogEntry) int { return cmp.Compare(a.Key, b.Key) })
	return out[:min(n, len(out))], nil
}

// RemoveFromBacklog takes what was built out of the backlog.
func (r *Records) RemoveFromBacklog(_ context.Context, e *records.Edition, list []records.BacklogEntry) error {
	return r.fenced(e, func(records.Edition) error {
		for _, b := range list {
			if d := (documentOf{of(e), b.Key}); r.backlog[d].Generation == b.Generation {
				delete(r.backlog, d)
			}
		}
		return nil
	})
}

// BacklogSize counts the backlog.
func (r *Records) BacklogSize(ctx context.Context, e *records.Edition) (n int64, oldest *time.Time, err error) {
	list, err := r.Backlog(ctx, e, "", 1<<30)
	for _, entry := range list {
		if oldest == nil || entry.At.Before(*oldest) {
			oldest = &entry.At
		}
	}
	return int64(len(list)), oldest, err
}

// SaveSamples and Samples keep nothing.
func (r *Records) SaveSamples(context.Context, records.Step, time.Time, []records.Sample) error {
	return nil
}

// Samples lists nothing.
func (r *Records) Samples(context.Context, string, time.Duration, any) error { return nil }

// Exclusively runs something while no other process does.
func (r *Records) Exclusively(ctx context.Context, do func() error) error {
	select {
	case r.exclusive <- struct{}{}:
	case <-ctx.Done():
		return ctx.Err()
	}
	defer func() { <-r.exclusive }()
	return do()
}

// TryExclusively runs something unless another process does.
func (r *Records) TryExclusively(_ context.Context, do func() error) error {
	select {
	case r.exclusive <- struct{}{}:
	default:
		return nil
	}
	defer func() { <-r.exclusive }()
	return do()
}
