package flow

import (
	"context"
	"errors"
	"time"

	"pingo/internal/api"
	"pingo/internal/flow/inspect"
)

// WaitFor waits until searches of an index find everything that was committed before the call, at
// most for some time; then it says what is still waited for.
func WaitFor(ctx context.Context, s *Service, index string, most time.Duration) (*api.Waited, error) {
	began := time.Now()
	within, cancel := context.WithTimeout(ctx, most)
	defer cancel()
	err := s.Inspect.Wait(within, index)
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
