package flow

import (
	"context"
	"fmt"
	"slices"
	"time"

	"pingo/internal/api"
	"pingo/internal/core/definition"
	"pingo/internal/flow/inspect"
	"pingo/internal/flow/lease"
)

// Disconnector records which sources a person disconnected.
type Disconnector interface {
	Disconnect(ctx context.Context, source string, lasts time.Duration) (until time.Time, err error)
	Reconnect(ctx context.Context, source string) error
}

// Disconnect makes all processes close their connections to a source for a time, so that its database can be copied, renamed
// or dropped. This process has done so when it returns, and others do within two seconds.
func Disconnect(ctx context.Context, s *Service, store Disconnector, name string, lasts time.Duration) (*api.Disconnected, error) {
	def := s.connections.Definition()
	src := def.Source(name)
	if src == nil {
		return nil, fmt.Errorf("source %q is %w", name, inspect.ErrUnknown)
	}
	if src.URL.Written == "" {
		return nil, &inspect.BadRequest{Err: fmt.Errorf("source %s has no database: Pingo receives its events, and keeps them in its own", name)}
	}
	until, err := store.Disconnect(ctx, name, lasts)
	if err != nil {
		return nil, fmt.Errorf("recording that %s is disconnected: %w", name, err)
	}
	if err := s.reconcile(context.WithoutCancel(ctx)); err != nil {
		s.log.Warn("source not disconnected yet", "source", name, "reason", err)
	}
	out := &api.Disconnected{Source: name, Until: until, Indexes: []string{}}
	together := fedTogether(def, name)
	for _, ix := range def.Indexes {
		if slices.ContainsFunc(ix.Sources(), func(source string) bool { return slices.Contains(together, source) }) {
			out.Indexes = append(out.Indexes, ix.Name)
		}
	}
	slices.Sort(out.Indexes)
	return out, nil
}

// Reconnect ends Disconnect before its time.
func Reconnect(ctx context.Context, s *Service, store Disconnector, name string) error {
	if s.connections.Definition().Source(name) == nil {
		return fmt.Errorf("source %q is %w", name, inspect.ErrUnknown)
	}
	if err := store.Reconnect(ctx, name); err != nil {
		return fmt.Errorf("recording that %s is connected: %w", name, err)
	}
	ReconcileNow(s)
	return nil
}

// fedTogether lists the sources that one process must hold with a source, since an index is made of both.
func fedTogether(def *definition.Definition, name string) []string {
	sets := [][]string{{name}}
	for _, ix := range def.Indexes {
		sets = append(sets, ix.Sources())
	}
	for _, names := range lease.Together(sets) {
		if slices.Contains(names, name) {
			return names
		}
	}
	return []string{name}
}
