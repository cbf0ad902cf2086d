package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"pingo/internal/api"
)

const (
	// idleFor is how long nothing happens while it is measured what that costs.
	idleFor = 60 * time.Second
	// settling is how long it takes after a fill until counts and checks have become rare.
	settling = 90 * time.Second
	// firstChanges is how many changes are made one by one, each after a while in which nothing happened.
	firstChanges = 30
)

// idle measures what it costs when nothing happens, by number of indexes, and what the first change after that waits.
func (b *bench) idle(ctx context.Context, conn *pgx.Conn) error {
	if err := b.source.CreateDatabase(ctx, "quiet"); err != nil {
		return err
	}
	quiet, err := pgx.Connect(ctx, b.source.URL("quiet"))
	if err != nil {
		return err
	}
	defer quiet.Close(ctx)
	if _, err := quiet.Exec(ctx, `CREATE TABLE huts (id int PRIMARY KEY, name text);
		INSERT INTO huts SELECT i, 'Hut ' || i FROM generate_series(1, 2000) i`); err != nil {
		return err
	}
	if err := os.Setenv("QUIET_URL", b.source.URL("quiet")); err != nil {
		return err
	}
	s, err := b.alone(ctx, conn)
	if err != nil {
		return err
	}
	defer s.stop()
	records, err := pgx.Connect(ctx, s.records)
	if err != nil {
		return err
	}
	defer records.Close(ctx)
	for _, n := range []int{1, 10, 100} {
		var text strings.Builder
		text.WriteString(
			"sources: { quiet: { kind: postgres, url: \"${QUIET_URL}\" } }\nengines: { main: { kind: opensearch, url: \"${SEARCH_URL}\" } }\nindexes:\n",
		)
		for i := range n {
			fmt.Fprintf(&text, "  quiet%d: { engine: main, rows: quiet.huts, fields: [name] }\n", i)
		}
		if _, err := s.client.Apply(ctx, []api.File{{Name: "pingo.yaml", Text: text.String()}}, "huts"); err != nil {
			return err
		}
		if err := inSync(ctx, s, n); err != nil {
			return err
		}
		time.Sleep(settling)
		before, err := transactions(ctx, quiet, records)
		if err != nil {
			return err
		}
		service, source, err := b.processorTime(s)
		if err != nil {
			return err
		}
		kept, err := serverTime(s.home)
		if err != nil {
			return err
		}
		time.Sleep(idleFor)
		serviceNow, sourceNow, err := b.processorTime(s)
		if err != nil {
			return err
		}
		keptNow, err := serverTime(s.home)
		if err != nil {
			return err
		}
		after, err := transactions(ctx, quiet, records)
		if err != nil {
			return err
		}
		for i, of := range []string{"source", "records"} {
			b.report(
				fmt.Sprintf("idle, %d indexes: transactions, %s", n, of),
				(after[i]-before[i])/idleFor.Seconds(),
				"a second",
				"wanted for 100: at most 5",
			)
		}
		b.report(
			fmt.Sprintf("idle, %d indexes: the service", n),
			100*(serviceNow-service).Seconds()/idleFor.Seconds(),
			"% of a core",
			"",
		)
		b.report(
			fmt.Sprintf("idle, %d indexes: the source", n),
			100*(sourceNow-source).Seconds()/idleFor.Seconds(),
			"% of a core",
			"wanted for 100: less than 1",
		)
		b.report(
			fmt.Sprintf("idle, %d indexes: the records", n),
			100*(keptNow-kept).Seconds()/idleFor.Seconds(),
			"% of a core",
			"",
		)
	}
	for i := range firstChanges {
		if _, err := quiet.Exec(ctx, "UPDATE huts SET name = name || '.' WHERE id = $1", i+1); err != nil {
			return err
		}
		time.Sleep(time.Second + time.Duration(i*37%100)*10*time.Millisecond)
	}
	status, err := s.client.Status(ctx)
	if err != nil {
		return err
	}
	lag := status.Index("quiet0").Lag
	b.report("idle, the first change: p50", lag.P50, "ms", "of %d changes, with 100 indexes", lag.Changes)
	b.report("idle, the first change: p99", lag.P99, "ms", "")
	return nil
}

// processorTime is what the service and all processes of the source have used.
func (b *bench) processorTime(s *service) (service, source time.Duration, err error) {
	stat, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", s.cmd.Process.Pid))
	if err != nil {
		return 0, 0, err
	}
	_, rest, _ := strings.Cut(string(stat), ") ")
	fields := strings.Fields(rest) // from field 3 on, the state
	if len(fields) < 13 {
		return 0, 0, errors.New("the service's processor time cannot be read")
	}
	var user, system int64
	if _, err := fmt.Sscan(fields[11], &user); err != nil {
		return 0, 0, err
	}
	if _, err := fmt.Sscan(fields[12], &system); err != nil {
		return 0, 0, err
	}
	source, err = b.databaseTime()
	return time.Duration(user+system) * time.Second / 100, source, err
}

// inSync waits until so many indexes are filled.
func inSync(ctx context.Context, s *service, n int) error {
	return within(10*time.Minute, func() error {
		status, err := s.client.Status(ctx)
		if err != nil {
			return err
		}
		live := 0
		for _, ix := range status.Indexes {
			if ix.Live && ix.State == api.StateInSync {
				live++
			}
		}
		if live < n || len(status.Indexes) != n {
			return fmt.Errorf("%d of %d indexes are in sync", live, n)
		}
		return nil
	})
}

// transactions is how many each database has ended.
func transactions(ctx context.Context, of ...*pgx.Conn) ([]float64, error) {
	out := make([]float64, len(of))
	for i, conn := range of {
		if err := conn.QueryRow(ctx, "SELECT xact_commit + xact_rollback FROM pg_stat_database WHERE datname = current_database()").Scan(&out[i]); err != nil {
			return nil, err
		}
	}
	return out, nil
}
