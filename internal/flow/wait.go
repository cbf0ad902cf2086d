package flow

import (
	"context"
	"errors"
	"time"

	"pingo/internal/api"
	"pingo/internal/core/reindex"
	"pingo/internal/flow/inspect"
)

// WaitFor waits until searches of an index find everything that was committed before the call, at
// most for some time; then it says what is still waited for.
func WaitFor(ctx context.Context, s *Service, index string, most time.Duration) (*api.Waited, error) {
	began := time.Now()
	within, cancel := context.WithTimeout(ctx, most)
	defer cancel()
	err := waitHere(within, s, index, began)
	out := &api.Waited{Index: index, Found: err == nil, Milliseconds: time.Since(began).Milliseconds()}
	switch {
	case err == nil:
		return out, nil
	case errors.Is(err, inspect.ErrUnknown), errors.Is(err, inspect.ErrNotReady), ctx.Err() != nil:
		return nil, err
	}
	out.WaitsFor = err.Error()
	for _, ix := range s.Status().Indexes {
		if ix.Name == index && (errors.Is(err, inspect.ErrNotFoundYet) || errors.Is(err, inspect.ErrNotYet)) {
			out.WaitsFor = ix.Sentence
		}
	}
	return out, nil
}

// waitHere waits for an index by what this process knows of the edition, if it feeds it: another index of the same source may
// be stuck for long, and keep changes in the journal that are done in this one. Else the journal tells.
func waitHere(ctx context.Context, s *Service, index string, began time.Time) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	journal := make(chan error, 1)
	go func() { journal <- s.Inspect.Wait(ctx, index) }()
	for {
		select {
		case err := <-journal:
			return err
		case <-time.After(100 * time.Millisecond):
		}
		for _, h := range s.holders() {
			if f := inSync(h, index, began); f != nil && f.engine.Refresh(ctx, f.record.Name()) == nil {
				return nil
			}
		}
	}
}

// inSync finds the live edition of an index, if it has every change from before a moment. It is nil otherwise, and for an index
// that is not fed by this holder.
func inSync(h *holder, index string, moment time.Time) *fed {
	for _, x := range h.sources {
		for _, ix := range h.currentStatus(x).Indexes {
			if ix.Name != index || ix.State != api.StateInSync || ix.LagMS > 0 || ix.Waiting > 0 || ix.ReadAt == nil || !ix.ReadAt.After(moment) {
				continue
			}
			for _, f := range h.all() {
				if state, _ := f.Fill.State(); f.record.Index == index && f.record.Name() == ix.Edition && state == reindex.Switched {
					return f
				}
			}
		}
	}
	return nil
}
