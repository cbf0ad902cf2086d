package flow

import (
	"context"

	"pingo/internal/api"
	"pingo/internal/flow/define"
)

// Reindex does to an index what a person asks for.
func Reindex(ctx context.Context, s *Service, index string, action api.ReindexAction) (*api.Reindexed, error) {
	r := &define.Reindexer{Records: s.records, Usable: func(sources []string) bool {
		return usable(s.connections.Definition(), sources)
	}}
	e, err := r.Do(ctx, index, action)
	if err != nil {
		return nil, err
	}
	s.log.Info("reindex", "index", index, "edition", e.Name(), "action", action.Action)
	// It is recorded; what is still to be done is tried again and again.
	if err := s.reconcile(context.WithoutCancel(ctx)); err != nil {
		s.log.Warn("reindex not taken up yet", "reason", err)
	}
	return &api.Reindexed{Index: index, Edition: e.Name()}, nil
}
