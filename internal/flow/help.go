package flow

import (
	"context"
	"fmt"
	"slices"

	"pingo/internal/core/reindex"
	"pingo/internal/flow/rebuild"
	"pingo/internal/records"
	"pingo/internal/source"
)

// help is this process's work on an edition that another one feeds.
type help struct {
	stop    context.CancelFunc
	stopped chan struct{}
}

// others is how many other processes are alive.
func others(s *Service) int {
	s.mu.RLock()
	defer s.mu.RUnlock()
	return max(0, len(s.processes)-1)
}

// helpOthers fills chunks that other processes offer. The caller holds reconciling.
func helpOthers(ctx context.Context, s *Service, states []records.EditionState) error {
	for name, h := range s.helping {
		select {
		case <-h.stopped:
			h.stop()
			delete(s.helping, name)
		default:
		}
	}
	s.mu.RLock()
	definition := 0
	if s.applied != nil {
		definition = s.applied.Version
	}
	s.mu.RUnlock()
	for _, e := range states {
		name := editionName{e.Index, e.Number}
		if !e.Offered || e.State != reindex.Filling || e.Paused || s.helping[name] != nil || s.holder(e.Source) != nil ||
			!usable(s.connections.Definition(), e.Sources()) || s.connections.Engine(e.Engine) == nil {
			continue
		}
		full, err := s.records.Editions(ctx)
		if err != nil {
			return fmt.Errorf("reading the editions: %w", err)
		}
		at := slices.IndexFunc(full, func(e *records.Edition) bool {
			return e.Index == name.index && e.Number == name.number
		})
		if at < 0 {
			continue // it was dropped meanwhile
		}
		record := full[at]
		reader := source.Across(record.Shape, func(name string) source.Reader {
			return s.connections.Source(name).BulkReader()
		})
		eng := s.connections.Engine(record.Engine)
		helper := rebuild.NewHelper(record, reader, eng, s.records, s.process.ID, definition, s.log)
		helping, stop := context.WithCancel(context.WithoutCancel(ctx)) // it ends with stopHelping
		h := &help{stop: stop, stopped: make(chan struct{})}
		s.helping[name] = h
		s.log.Info("helping to fill an edition", "edition", record.Name())
		go func() {
			defer close(h.stopped)
			helper.Run(helping)
		}()
	}
	return nil
}

// stopHelping ends all work on editions that other processes feed. The caller holds reconciling.
func stopHelping(s *Service) {
	for _, h := range s.helping {
		h.stop()
	}
	for name, h := range s.helping {
		<-h.stopped
		delete(s.helping, name)
	}
}
