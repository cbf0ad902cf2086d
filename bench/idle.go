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

// idle measures what it costs when nothing happens, by number of indexes and of rows, and what the first change after
// that waits.
func (b *bench) idle(ctx context.Context, conn *pgx.Conn) error {
	table, err := b.quietTable(ctx, "quiet", 2000)
	if err != nil {
		return err
	}
	defer table.Close(ctx)
	s, err := b.alone(ctx, conn)
	if err != nil {
		return err
	}
	defer s.stop()
	for _, n := range []int{1, 10, 100} {
		if err := b.idleWith(ctx, s, table, n, "", fmt.Sprintf("idle, %d indexes", n)); err != nil {
			return err
		}
	}
	for i := range firstChanges {
		if _, err := table.Exec(ctx, "UPDATE huts SET name = name || '.' WHERE id = $1", i+1); err != nil {
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

// idleLarge measures what it costs when nothing happens to large tables, on an engine that keeps no documents, so that
// they cannot be compared with it.
func (b *bench) idleLarge(ctx context.Context, conn *pgx.Conn) error {
	for _, rows := range []int{300_000, 3_000_000} {
		err := func() error {
			table, err := b.quietTable(ctx, fmt.Sprint("quiet", rows), rows)
			if err != nil {
				return err
			}
			defer table.Close(ctx)
			_, s, err := b.onFree(ctx, conn)
			if err != nil {
				return err
			}
			defer s.stop()
			return b.idleWith(ctx, s, table, 10, ", reindex: { compare: none }, drift: { sweep: 0 }",
				fmt.Sprintf("idle, 10 indexes on %d rows", rows))
		}()
		if err != nil {
			return err
		}
	}
	return nil
}

// quietTable makes a database with a table of a number of rows, which services that are started then know as QUIET_URL.
func (b *bench) quietTable(ctx context.Context, database string, rows int) (*pgx.Conn, error) {
	if err := b.source.CreateDatabase(ctx, database); err != nil {
		return nil, err
	}
	if err := os.Setenv("QUIET_URL", b.source.URL(database)); err != nil {
		return nil, err
	}
	conn, err := pgx.Connect(ctx, b.source.URL(database))
	if err != nil {
		return nil, err
	}
	for _, statement := range []string{
		"CREATE TABLE huts (id int PRIMARY KEY, name text)",
		fmt.Sprintf("INSERT INTO huts SELECT i, 'Hut ' || i FROM generate_series(1, %d) i", rows),
		"VACUUM ANALYZE huts",
	} {
		if _, err := conn.Exec(ctx, statement); err != nil {
			return nil, errors.Join(err, conn.Close(ctx))
		}
	}
	return conn, nil
}

// idleWith fills a number of indexes of a table, with more keys in their definitions, and measures what they cost when
// nothing happens.
func (b *bench) idleWith(ctx context.Context, s *service, table *pgx.Conn, n int, more, what string) error {
	records, err := pgx.Connect(ctx, s.records)
	if err != nil {
		return err
	}
	defer records.Close(ctx)
	var text strings.Builder
	text.WriteString(
		"sources: { quiet: { kind: postgres, url: \"${QUIET_URL}\" } }\nengines: { main: { kind: opensearch, url: \"${SEARCH_URL}\" } }\nindexes:\n",
	)
	for i := range n {
		fmt.Fprintf(&text, "  quiet%d: { engine: main, rows: quiet.huts, fields: [name]%s }\n", i, more)
	}
	if _, err := s.client.Apply(ctx, []api.File{{Name: "pingo.yaml", Text: text.String()}}, "huts"); err != nil {
		return err
	}
	if err := inSync(ctx, s, n); err != nil {
		return err
	}
	time.Sleep(settling)
	before, err := b.spentSoFar(ctx, s, table, records)
	if err != nil {
		return err
	}
	time.Sleep(idleFor)
	after, err := b.spentSoFar(ctx, s, table, records)
	if err != nil {
		return err
	}
	for i, of := range []string{"source", "records"} {
		b.report(what+": transactions, "+of, (after.transactions[i]-before.transactions[i])/idleFor.Seconds(), "a second",
			"wanted for 100: at most 5")
	}
	share := func(of string, spent time.Duration, note string) {
		b.report(what+": the "+of, 100*spent.Seconds()/idleFor.Seconds(), "% of a core", "%s", note)
	}
	share("service", after.service-before.service, "")
	share("source", after.source-before.source, "wanted for 100: less than 1")
	share("records", after.records-before.records, "")
	return nil
}

// spent is what was used so far.
type spent struct {
	transactions             []float64 // of the source, and of the records
	service, source, records time.Duration
}

func (b *bench) spentSoFar(ctx context.Context, s *service, table, records *pgx.Conn) (out spent, err error) {
	if out.transactions, err = transactions(ctx, table, records); err != nil {
		return out, err
	}
	if out.service, out.source, err = b.processorTime(s); err != nil {
		return out, err
	}
	out.records, err = serverTime(s.home)
	return out, err
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

// inSync waits until a number of indexes are filled.
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
