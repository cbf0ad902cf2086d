package flow

import (
	"context"

	"pingo/internal/api"
)

// Reindex does to an index what a person asks for: start, cancel or switch.
func Reindex(ctx context.Context, s *Service, index, action string) (*api.Reindexed, error) {
	e, err := s.Define.Reindex(ctx, index, action)
	if err != nil {
		return nil, err
	}
	s.log.Info("reindex", "index", index, "edition", e.Name(), "action", action)
	// It is recorded; what is still to be done is tried again and again.
	if err := s.reconcile(context.WithoutCancel(ctx)); err != nil {
		s.log.Warn("reindex not taken up yet", "reason", err)
	}
	return &api.Reindexed{Index: index, Edition: e.Name()}, nil
}
