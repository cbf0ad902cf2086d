package main

import (
	"context"
	"fmt"
	"net/http"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"
)

// unseen runs statements while nothing of a table is noted.
func unseen(ctx context.Context, conn *pgx.Conn, statement string) error {
	return pgx.BeginFunc(ctx, conn, func(tx pgx.Tx) error {
		_, err := tx.Exec(ctx, `ALTER TABLE huts DISABLE TRIGGER ALL; `+statement+`; ALTER TABLE huts ENABLE TRIGGER ALL;
			DO $$ DECLARE t name; BEGIN FOR t IN SELECT tgname FROM pg_trigger WHERE tgrelid = 'huts'::regclass AND tgname LIKE 'pingo%' LOOP
				EXECUTE format('ALTER TABLE huts ENABLE ALWAYS TRIGGER %I', t); END LOOP; END $$`)
		return err
	})
}

// trace measures how long the answer takes why a record is, or is not, in search: for one of each reason.
func (b *bench) trace(ctx context.Context, conn *pgx.Conn, s *service) error {
	status, err := s.client.Status(ctx)
	if err != nil {
		return err
	}
	edition := status.Indexes[0].Edition
	var keys []int64
	rows, err := conn.Query(ctx, "SELECT id FROM huts WHERE retired_at IS NULL ORDER BY id DESC LIMIT 8")
	if err != nil {
		return err
	}
	if keys, err = pgx.CollectRows(rows, pgx.RowTo[int64]); err != nil {
		return err
	}
	plant := func(statement string, key int64) {
		if err == nil {
			_, err = conn.Exec(ctx, statement, key)
		}
	}
	plant("UPDATE huts SET retired_at = now() WHERE id = $1", keys[1])
	plant("UPDATE huts SET lat = 95 WHERE id = $1", keys[2])
	if err != nil {
		return err
	}
	if err := unseen(ctx, conn, fmt.Sprintf("UPDATE huts SET name = 'unseen' WHERE id = %d; DELETE FROM huts WHERE id = %d", keys[3], keys[4])); err != nil {
		return err
	}
	if err := until(func() error {
		traced, err := s.client.Trace(ctx, "huts", fmt.Sprint(keys[2]))
		if err == nil && traced.State != "refused" {
			err = fmt.Errorf("it is %s: %s", traced.State, traced.Verdict)
		}
		return err
	}); err != nil {
		return err
	}
	if _, err := call(http.MethodDelete, fmt.Sprintf("%s/%s/_doc/%d", s.engine, edition, keys[5]), nil); err != nil {
		return err
	}
	long, err := conn.Begin(ctx) // what it writes is not committed yet
	if err != nil {
		return err
	}
	defer long.Rollback(ctx)
	if _, err := long.Exec(ctx, "UPDATE huts SET name = 'written for long' WHERE id = $1", keys[6]); err != nil {
		return err
	}
	for _, x := range []struct {
		what, state string
		key         int64
	}{
		{"good", "good", keys[0]}, {"outside where", "outside", keys[1]}, {"refused", "refused", keys[2]},
		{"stale by an unseen change", "stale", keys[3]}, {"orphaned by an unseen delete", "orphaned", keys[4]},
		{"missing", "missing", keys[5]}, {"changed by an open transaction", "good", keys[6]}, {"no row", "none", -1},
	} {
		var took []float64
		for range 9 {
			began := time.Now()
			traced, err := s.client.Trace(ctx, "huts", fmt.Sprint(x.key))
			if err != nil {
				return err
			}
			if traced.State != x.state {
				return fmt.Errorf("a record that is %s is reported as %s: %s", x.what, traced.State, traced.Verdict)
			}
			took = append(took, time.Since(began).Seconds()*1000)
		}
		b.report("trace/"+x.what, median(took), "ms", "the longest of nine %.0f ms", slices.Max(took))
	}
	return nil
}
