package server

import (
	"context"
	"io/fs"
	"log/slog"
	"net"
	"sync"

	"pingo/internal/flow"
	"pingo/internal/kinds"
	"pingo/internal/records"
)

// Run works and answers on a listener until the context ends.
func Run(
	ctx context.Context,
	rec *records.Records,
	l net.Listener,
	console fs.FS,
	version string,
	log *slog.Logger,
) error {
	service, err := flow.New(ctx, rec, kinds.All(), l.Addr().String(), log)
	if err != nil {
		return err
	}
	s, err := New(service, rec, console, version, log)
	if err != nil {
		return err
	}
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	var wg sync.WaitGroup
	var served error
	wg.Go(func() {
		served = s.Serve(l)
		stop()
	})
	service.Run(ctx)
	if err := s.Close(); err != nil {
		log.Warn("closing", "error", err)
	}
	wg.Wait()
	return served
}
