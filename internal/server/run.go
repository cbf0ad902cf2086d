package server

import (
	"context"
	"net"
	"sync"

	"pingo/internal/flow"
	"pingo/internal/flow/connect"
	"pingo/internal/kinds"
	"pingo/internal/records"
)

// Run works and answers on a listener until the context ends.
func Run(
	ctx context.Context,
	rec *records.Records,
	l net.Listener,
	o Options,
) error {
	service, err := flow.New(ctx, rec, kinds.All(), o.Secrets, connect.NewBudget(o.Memory/2), l.Addr().String(), o.Log)
	if err != nil {
		return err
	}
	s, err := New(service, rec, o)
	if err != nil {
		ended, cancel := context.WithCancel(ctx)
		cancel()
		service.Run(ended) // which deregisters the process
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
	wg.Go(func() { flow.Alarm(ctx, service, rec) })
	service.Run(ctx)
	stop()
	if err := s.Close(); err != nil {
		o.Log.Warn("closing", "error", err)
	}
	wg.Wait()
	return served
}
