package model

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"time"

	"pingo/internal/records"
)

// ServiceID and the methods below behave as those of records.Records.
// URL is empty: there is no database to keep what is sent.
func (r *Records) URL() string { return "" }

func (r *Records) ServiceID(context.Context) (string, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.service, nil
}

// Register frees what a dead process at the same address held.
func (r *Records) Register(_ context.Context, p records.Process) error {
	r.mu.Lock()
	defer r.mu.Unlock()
	for id, known := range r.processes {
		if known.Host != p.Host || known.Address != p.Address || id == p.ID {
			continue
		}
		delete(r.processes, id)
		for source, l := range r.leases {
			if l.Holder == id {
				l.Holder = ""
				r.leases[source] = l
			}
		}
	}
	return nil
}

// Heartbeat moves the beat of a process.
func (r *Records) Heartbeat(_ context.Context, p records.Process) (v records.View, err error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	known, there := r.processes[p.ID]
	v.Older = p.Beat > 0 && known.Beat < p.Beat
	delete(r.gone, p.ID)
	if !there {
		known = p
		known.StartedAt = time.Now()
	}
	r.beats++
	known.Beat = r.beats
	v.Older = v.Older || known.Beat <= p.Beat
	r.processes[p.ID] = known
	for _, id := range slices.Sorted(maps.Keys(r.processes)) {
		if !r.gone[id] {
			v.Processes = append(v.Processes, r.processes[id])
		}
	}
	for _, source := range slices.Sorted(maps.Keys(r.leases)) {
		l := r.leases[source]
		v.Leases = append(v.Leases, &l)
	}
	if v.Newest = len(r.applied); v.Newest > 0 {
		v.CarriedOut = r.applied[v.Newest-1].CarriedOut
	}
	return v, nil
}

// MarkGone notes that a process does not move.
func (r *Records) MarkGone(_ context.Context, p records.Process) error {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.processes[p.ID].Beat == p.Beat {
		r.gone[p.ID] = true
	}
	return nil
}

// Deregister forgets a process.
func (r *Records) Deregister(_ context.Context, p records.Process) error {
	r.mu.Lock()
	defer r.mu.Unlock()
	delete(r.processes, p.ID)
	return nil
}

// epochStart is before virtual time begins.
const epochStart = 946684800 - 1000

// Take takes a lease, if it is as it was seen.
func (r *Records) Take(
	_ context.Context,
	source, process string,
	seen *records.Lease,
	above int64,
) (*records.Lease, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	now, there := r.leases[source]
	if there != (seen != nil) ||
		there && (now.Holder != seen.Holder || now.Epoch != seen.Epoch || now.Beat != seen.Beat) {
		return nil, nil
	}
	now.Source, now.Holder, now.Beat = source, process, 0
	now.History = fmt.Sprint(r.history)
	now.Epoch = max(now.Epoch+1, time.Now().Unix()-epochStart, above+1)
	r.leases[source] = now
	return &now, nil
}

// Renew renews a lease.
func (r *Records) Renew(_ context.Context, l *records.Lease, beat int64, status json.RawMessage) error {
	r.mu.Lock()
	defer r.mu.Unlock()
	now := r.leases[l.Source]
	switch {
	case now.Holder != l.Holder || now.Epoch != l.Epoch:
		return records.ErrLost
	case now.Beat < l.Beat || l.History != fmt.Sprint(r.history):
		return records.ErrOlder
	case now.Beat >= beat:
		return records.ErrLost
	}
	now.Beat, now.Claimed, now.Claiming, now.Sound = beat, l.Claimed, l.Claiming, l.Sound
	now.ChangedAt = time.Now()
	if status != nil {
		now.Status = status
	}
	r.leases[l.Source] = now
	return nil
}

// HoldsLease reports whether a lease is still that of a fence.
func (r *Records) HoldsLease(_ context.Context, source, fence string) (bool, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.fence(source) == fence, nil
}

// Release gives a lease back.
func (r *Records) Release(_ context.Context, l *records.Lease) error {
	r.mu.Lock()
	defer r.mu.Unlock()
	if now := r.leases[l.Source]; now.Holder == l.Holder && now.Epoch == l.Epoch {
		now.Holder = ""
		r.leases[l.Source] = now
	}
	return nil
}
