package main

import (
	"context"
	"fmt"
	"os/exec"
	"time"

	"github.com/jackc/pgx/v5"

	"pingo/internal/api"
	"pingo/internal/client"
)

// together compares two processes that fill one edition with one that does: on a free engine, where both share the
// machine's cores with the source, and on one that takes its time for each request and takes many at a time.
func (b *bench) together(ctx context.Context, conn *pgx.Conn) error {
	engine, s, err := b.onFree(ctx, conn)
	if err != nil {
		return err
	}
	defer s.stop()
	var took [2][2]float64
	slow := []time.Duration{0, 500 * time.Millisecond}
	for more := range 2 {
		if more == 1 {
			second, _, err := b.another(ctx, s)
			if err != nil {
				return err
			}
			defer end(second)
			err = until(func() error {
				status, err := s.client.Status(ctx)
				if err == nil && len(status.Processes) < 2 {
					err = fmt.Errorf("the second process is not there yet")
				}
				return err
			})
			if err != nil {
				return err
			}
		}
		for i, d := range slow {
			engine.slow.Store(int64(d))
			rows, seconds, err := s.refill(ctx, "huts")
			if err != nil {
				return err
			}
			took[more][i] = seconds
			b.report(fmt.Sprintf("together, %d on an engine that takes %s", more+1, d), float64(rows)/seconds, "rows/s", "in %.1f s", seconds)
		}
	}
	for i, d := range slow {
		b.report(fmt.Sprintf("together, two to one, engine %s", d), took[0][i]/took[1][i], "times", "")
	}
	return nil
}

// another starts another process on the records of a service.
func (b *bench) another(ctx context.Context, s *service) (*exec.Cmd, *client.Client, error) {
	address, err := freeAddress()
	if err != nil {
		return nil, nil, err
	}
	cmd, err := b.process(ctx, []string{
		"LODGE_URL=" + b.url, "SEARCH_URL=" + s.engine, "PINGO_RECORDS_URL=" + s.records, "PINGO_SECRETS_ENV=*",
	}, "serve", "--listen", address)
	return cmd, &client.Client{URL: "http://" + address, Token: s.client.Token}, err
}

// refill refills an index, and returns how many rows it had and how long it took.
func (s *service) refill(ctx context.Context, index string) (rows int64, seconds float64, err error) {
	begun, err := s.client.Reindex(ctx, index, api.ReindexAction{Action: "start"})
	if err != nil {
		return 0, 0, err
	}
	err = within(10*time.Minute, func() error {
		status, err := s.client.Status(ctx)
		if err != nil {
			return err
		}
		if ix := status.Index(index); ix.Edition != begun.Edition || !ix.Live {
			return fmt.Errorf("%s does not answer yet", begun.Edition)
		}
		return nil
	})
	if err != nil {
		return 0, 0, err
	}
	runs, err := s.client.Runs(ctx, index)
	if err != nil {
		return 0, 0, err
	}
	return runs[0].Rows, runs[0].FilledAt.Sub(*runs[0].BeganAt).Seconds(), nil
}
