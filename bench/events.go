package main

import (
	"bytes"
	"context"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync/atomic"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"

	"pingo/internal/kinds"
	"pingo/internal/records"
	"pingo/internal/source"
)

const (
	senders   = 16
	batchSize = 1000
	// prepared is how many rows are there before the time begins, so that the service is measured, not
	// The generator of the events.
	prepared = 600_000
)

// events measures how many events a second are on disk before they are answered, sent over HTTP,
// compared with the same rows put into a table by hand.
func (b *bench) events(ctx context.Context, _ *pgx.Conn) error {
	if err := b.source.CreateDatabase(ctx, "intake"); err != nil {
		return err
	}
	rec, err := records.Open(ctx, b.source.URL("intake"))
	if err != nil {
		return err
	}
	rec.Close()
	src, err := kinds.All().OpenSource("webhook", source.Config{
		Name: "conditions", Records: b.source.URL("intake"),
		Options: []byte(
			`{"unsigned": "allowed", "rate_limit": 1000000, "records": {"bulletins": {"schema": {"properties": {"title": {"type": "string"}}}}}}`,
		),
	})
	if err != nil {
		return err
	}
	defer src.Close()
	if err := b.captured(ctx, src, "webhook", "conditions.bulletins"); err != nil {
		return err
	}
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		var body bytes.Buffer
		body.ReadFrom(r.Body)
		reply, err := src.Intake.Receive(
			r.Context(),
			source.Request{Method: r.Method, Header: r.Header, Body: body.Bytes(), At: time.Now()},
		)
		if err != nil {
			reply.Status = http.StatusServiceUnavailable
		}
		w.WriteHeader(reply.Status)
	}))
	defer server.Close()
	client := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: senders}}
	pool, err := pgxpool.New(ctx, b.source.URL("intake"))
	if err != nil {
		return err
	}
	defer pool.Close()
	if _, err := pool.Exec(ctx, "CREATE TABLE raw (key text PRIMARY KEY, body jsonb, version numeric, at timestamptz NOT NULL DEFAULT clock_timestamp())"); err != nil {
		return err
	}
	keys, bodies := make([]string, prepared), make([]string, prepared)
	for n := range keys {
		keys[n] = fmt.Sprintf("b%d", n)
		bodies[n] = fmt.Sprintf(
			`{"title": "Fresh snow at peak %d", "snow_cm": %d, "way_open": true, "hazards": ["ice", "fog"], "station": "station %d"}`,
			n, n%300, n%9,
		)
	}
	event := func(n int) string {
		return fmt.Sprintf(
			`{"specversion": "1.0", "id": "%d", "source": "bench", "type": "updated", "subject": "%s", "time": "2021-05-04T10:00:00Z", "data": %s}`,
			n, keys[n], bodies[n],
		)
	}
	send := func(kind string, texts []string) func(int) (int, error) {
		events := prepared / len(texts)
		var next atomic.Int64
		return func(int) (int, error) {
			i := int(next.Add(1)) - 1
			if i >= len(texts) {
				return 0, errEnough
			}
			response, err := client.Post(server.URL, kind, strings.NewReader(texts[i]))
			if err != nil {
				return 0, err
			}
			response.Body.Close()
			if response.StatusCode != http.StatusOK {
				return 0, fmt.Errorf("answered %s", response.Status)
			}
			return events, nil
		}
	}
	insert := func(rows int) func(int) (int, error) {
		var next atomic.Int64
		return func(int) (int, error) {
			upto := int(next.Add(int64(rows)))
			if upto > prepared {
				return 0, errEnough
			}
			_, err := pool.Exec(
				ctx,
				"INSERT INTO raw (key, body, version) SELECT k, b::jsonb, 1 FROM unnest($1::text[], $2::text[]) AS u(k, b) ON CONFLICT (key) DO UPDATE SET body = excluded.body",
				keys[upto-rows:upto],
				bodies[upto-rows:upto],
			)
			return rows, err
		}
	}
	for _, way := range []struct {
		name    string
		workers int
		rows    int
		kind    string
	}{{"in batches of 1,000", 4, batchSize, "application/cloudevents-batch+json"}, {"one by one", senders, 1, "application/cloudevents+json"}} {
		texts := make([]string, prepared/way.rows)
		for i := range texts {
			if texts[i] = event(i); way.rows > 1 {
				list := make([]string, way.rows)
				for n := range list {
					list[n] = event(i*way.rows + n)
				}
				texts[i] = "[" + strings.Join(list, ",") + "]"
			}
		}
		if _, err := pool.Exec(ctx, "TRUNCATE raw, intake_conditions.bulletins, pingo_records.intake_receipt"); err != nil {
			return err
		}
		raw, err := together(way.workers, insert(way.rows))
		if err != nil {
			return err
		}
		events, err := together(way.workers, send(way.kind, texts))
		if err != nil {
			return err
		}
		b.report(
			"events accepted "+way.name,
			events,
			"/s",
			"%.2f of inserting the same rows (%.0f/s), %d at the same time",
			events/raw,
			raw,
			way.workers,
		)
	}
	return nil
}
