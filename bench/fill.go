package main

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync/atomic"
	"time"

	"github.com/jackc/pgx/v5"
	"golang.org/x/sync/errgroup"

	"pingo/internal/api"
	"pingo/internal/client"
	port "pingo/internal/engine"
	"pingo/internal/engine/opensearch"
	"pingo/internal/lab/demo"
	"pingo/internal/pgserver"
	"pingo/internal/records"
	"pingo/internal/server"
)

// fill compares Pingo's fill with the script that a developer would write instead,
// and with the raw limit. Each goes into a fresh stand-in engine.
func (b *bench) fill(ctx context.Context, conn *pgx.Conn) error {
	engine, stop, err := b.engine(ctx)
	if err != nil {
		return err
	}
	began := time.Now()
	if err := script(ctx, conn, engine, "huts-careful", true); err != nil {
		return fmt.Errorf("script: %w", err)
	}
	carefulTook := time.Since(began)
	began = time.Now()
	if err := script(ctx, conn, engine, "huts-script", false); err != nil {
		return fmt.Errorf("script: %w", err)
	}
	scriptTook := time.Since(began)
	n, err := countDocuments(engine, "huts-script")
	if err != nil {
		return err
	}
	stop()
	b.report(
		"fill, the script instead",
		float64(n)/scriptTook.Seconds(),
		"docs/s",
		"%d documents in %.1f s, pages by LIMIT and OFFSET",
		n,
		scriptTook.Seconds(),
	)
	b.report(
		"fill, a careful script",
		float64(n)/carefulTook.Seconds(),
		"docs/s",
		"in %.1f s, each page after the last key",
		carefulTook.Seconds(),
	)

	engine, stop, err = b.engine(ctx)
	if err != nil {
		return err
	}
	pingoTook, filling, memory, err := b.pingo(ctx, engine)
	if err != nil {
		return fmt.Errorf("pingo: %w", err)
	}
	m, err := countDocuments(engine, "huts")
	if err != nil {
		return err
	}
	if m != n {
		return fmt.Errorf("pingo made %d documents, the script %d", m, n)
	}
	b.report(
		"fill, Pingo",
		float64(m)/pingoTook.Seconds(),
		"docs/s",
		"%d documents in %.1f s",
		m,
		pingoTook.Seconds(),
	)
	b.report("fill, Pingo, the rows alone", float64(m)/filling.Seconds(), "docs/s", "in %.1f s, without triggers, counts, gates and switch", filling.Seconds())
	b.report("fill, Pingo's peak memory", memory, "MB", "the whole process")
	bodies, err := sameBytes(engine)
	if err != nil {
		return err
	}
	stop()

	engine, stop, err = b.engine(ctx)
	if err != nil {
		return err
	}
	defer stop()
	if err := b.prepare(ctx, engine, "raw"); err != nil {
		return err
	}
	began = time.Now()
	if err := b.raw(ctx, engine, bodies); err != nil {
		return fmt.Errorf("raw: %w", err)
	}
	rawTook := time.Since(began)
	b.report(
		"fill, raw limit",
		float64(n)/rawTook.Seconds(),
		"docs/s",
		"COPY of the same columns while posting the same bytes, in %.1f s",
		rawTook.Seconds(),
	)
	b.report(
		"fill, Pingo to the script",
		scriptTook.Seconds()/pingoTook.Seconds(),
		"times",
		"wanted: at least 5",
	)
	b.report("fill, Pingo to the careful script", carefulTook.Seconds()/pingoTook.Seconds(), "times", "")
	b.report(
		"fill, Pingo to the raw limit",
		rawTook.Seconds()/pingoTook.Seconds(),
		"of it",
		"wanted: at least 0.5",
	)
	b.report("fill, Pingo, the rows alone, to the raw limit", rawTook.Seconds()/filling.Seconds(), "of it", "wanted: at least 0.7")
	b.report("fill, Pingo, the rows alone, to the script", scriptTook.Seconds()/filling.Seconds(), "times", "wanted: at least 8")
	return nil
}

// engine starts a stand-in in a process of its own.
func (b *bench) engine(ctx context.Context) (url string, stop func(), err error) {
	address, err := freeAddress()
	if err != nil {
		return "", nil, err
	}
	cmd, err := b.process(ctx, nil, "standin", "opensearch", "--listen", address)
	if err != nil {
		return "", nil, err
	}
	url = "http://" + address
	return url, func() { end(cmd) }, until(
		func() error { _, err := call(http.MethodGet, url+"/", nil); return err },
	)
}

func freeAddress() (string, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return "", err
	}
	defer l.Close()
	return l.Addr().String(), nil
}

// until tries for twenty seconds.
func until(try func() error) error { return within(20*time.Second, try) }

func within(most time.Duration, try func() error) error {
	for deadline := time.Now().Add(most); ; time.Sleep(20 * time.Millisecond) {
		err := try()
		if err == nil || time.Now().After(deadline) {
			return err
		}
	}
}

func call(method, url string, body []byte) ([]byte, error) {
	request, err := http.NewRequest(method, url, bytes.NewReader(body))
	if err != nil {
		return nil, err
	}
	request.Header.Set("Content-Type", "application/json")
	response, err := http.DefaultClient.Do(request)
	if err != nil {
		return nil, err
	}
	defer response.Body.Close()
	answer, err := io.ReadAll(response.Body)
	if err == nil && response.StatusCode >= 300 {
		err = fmt.Errorf("%s %s: %s: %.300s", method, url, response.Status, answer)
	}
	return answer, err
}

func countDocuments(engine, index string) (int, error) {
	if _, err := call(http.MethodPost, engine+"/"+index+"/_refresh", nil); err != nil {
		return 0, err
	}
	answer, err := call(http.MethodGet, engine+"/"+index+"/_count", nil)
	if err != nil {
		return 0, err
	}
	var out struct{ Count int }
	return out.Count, json.Unmarshal(answer, &out)
}

// pingo starts the service, applies the demo's definition, and waits until the
// name answers: triggers, planning, filling, refresh and switch are all in it. filling is what the rows took of that.
func (b *bench) pingo(ctx context.Context, engine string) (took, filling time.Duration, memory float64, err error) {
	s, took, err := b.service(ctx, engine)
	if err != nil {
		return 0, 0, 0, err
	}
	defer s.stop()
	runs, err := s.client.Runs(ctx, "huts")
	if err != nil {
		return 0, 0, 0, err
	}
	memory, err = peakMemory(s.cmd.Process.Pid)
	return took, runs[0].FilledAt.Sub(*runs[0].BeganAt), memory, err
}

// service is a running Pingo whose index answers.
type service struct {
	client  *client.Client
	records string // URL of its records
	home    string // of their server
	engine  string // URL of the engine that it has for itself
	cmd     *exec.Cmd
	stop    func()
}

// service starts one with records of its own, and says how long it took from applying
// the definition until the name answered.
func (b *bench) service(ctx context.Context, engine string) (*service, time.Duration, error) {
	return b.serviceOf(ctx, engine, demo.Definition)
}

// serviceOf is service for another definition with one index.
func (b *bench) serviceOf(ctx context.Context, engine, definition string) (*service, time.Duration, error) {
	home, err := os.MkdirTemp(b.dir, "records-")
	if err != nil {
		return nil, 0, err
	}
	if err := os.Chmod(home, 0o711); err != nil {
		return nil, 0, err
	}
	pg, err := pgserver.Start(ctx, pgserver.Options{Dir: filepath.Join(home, "pg")})
	if err != nil {
		return nil, 0, err
	}
	s := &service{stop: func() { pg.Stop() }, records: pg.URL("pingo"), home: filepath.Join(home, "pg")}
	took, err := b.begin(ctx, s, pg, engine, definition)
	if err != nil {
		s.stop()
		return nil, 0, err
	}
	return s, took, nil
}

// alone starts one on an engine of its own, with a source that was never captured.
func (b *bench) alone(ctx context.Context, conn *pgx.Conn) (*service, error) {
	if _, err := conn.Exec(ctx, "DROP SCHEMA IF EXISTS pingo_capture CASCADE"); err != nil {
		return nil, err
	}
	engine, stop, err := b.engine(ctx)
	if err != nil {
		return nil, err
	}
	s, _, err := b.service(ctx, engine)
	if err != nil {
		stop()
		return nil, err
	}
	end := s.stop
	s.engine = engine
	s.stop = func() { end(); stop() }
	return s, nil
}

func (b *bench) begin(
	ctx context.Context,
	s *service,
	pg *pgserver.Server,
	engine, definition string,
) (time.Duration, error) {
	if err := pg.CreateDatabase(ctx, "pingo"); err != nil {
		return 0, err
	}
	rec, err := records.Open(ctx, pg.URL("pingo"))
	if err != nil {
		return 0, err
	}
	token, err := server.FirstToken(ctx, rec)
	rec.Close()
	if err != nil {
		return 0, err
	}
	address, err := freeAddress()
	if err != nil {
		return 0, err
	}
	s.cmd, err = b.process(
		ctx,
		[]string{"LODGE_URL=" + b.url, "SEARCH_URL=" + engine, "PINGO_RECORDS_URL=" + pg.URL("pingo"), "PINGO_SECRETS_ENV=*"},
		"serve",
		"--listen",
		address,
	)
	if err != nil {
		return 0, err
	}
	s.stop = func() { end(s.cmd); pg.Stop() }
	s.client = &client.Client{URL: "http://" + address, Token: token}
	files := []api.File{{Name: "pingo.yaml", Text: definition}}
	if err := until(func() error { _, err := s.client.Check(ctx, files); return err }); err != nil {
		return 0, err
	}
	var began time.Time
	if err := until(func() error { began = time.Now(); _, err := s.client.Apply(ctx, files); return err }); err != nil {
		return 0, err
	}
	for {
		status, err := s.client.Status(ctx)
		if err != nil {
			return 0, err
		}
		if len(status.Indexes) == 1 && status.Indexes[0].Live {
			return time.Since(began), nil
		}
		time.Sleep(20 * time.Millisecond)
	}
}

// prepare makes an edition like Pingo's.
func (b *bench) prepare(ctx context.Context, engine, edition string) error {
	s, err := b.shape(ctx)
	if err != nil {
		return err
	}
	e, err := opensearch.Open(port.Config{URL: engine})
	if err != nil {
		return err
	}
	return e.Prepare(ctx, edition, s)
}

// sameBytes reads all documents back, as bulk bodies of the size that Pingo sends.
func sameBytes(engine string) (bodies [][]byte, err error) {
	e, err := opensearch.Open(port.Config{URL: engine})
	if err != nil {
		return nil, err
	}
	var keys []string
	if err := e.Scan(context.Background(), "huts", func(key, _ string) error { keys = append(keys, key); return nil }); err != nil {
		return nil, err
	}
	var body bytes.Buffer
	for len(keys) > 0 {
		page := keys[:min(2000, len(keys))]
		keys = keys[len(page):]
		docs, err := e.Get(context.Background(), "huts", page)
		if err != nil {
			return nil, err
		}
		for _, key := range page {
			fmt.Fprintf(
				&body,
				`{"index":{"_id":"%s","version":1,"version_type":"external"}}`+"\n%s\n",
				key,
				docs[key],
			)
		}
		if body.Len() > 1<<20 || len(keys) == 0 {
			bodies = append(bodies, bytes.Clone(body.Bytes()))
			body.Reset()
		}
	}
	return bodies, nil
}

var copies = []string{
	"SELECT id, region_id, keeper_id, name, summary, altitude_m, beds, night_price, winter_room, opens_on, ARRAY[lon, lat] FROM huts WHERE retired_at IS NULL",
	"SELECT id, name, country FROM regions", "SELECT id, first_name || ' ' || last_name FROM keepers",
	"SELECT hut_id, amenity_id FROM hut_amenities", "SELECT id, label FROM amenities",
	"SELECT hut_id, body, written_at FROM guest_notes WHERE approved", "SELECT hut_id, starts_on, ends_on, reason FROM closures",
}

// raw reads the same columns by COPY, and posts the same bytes that were made
// beforehand, at the same time, as many side by side as Pingo does.
func (b *bench) raw(ctx context.Context, engine string, bodies [][]byte) error {
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(4)
	group.Go(func() error {
		conn, err := pgx.Connect(ctx, b.url)
		if err != nil {
			return err
		}
		defer conn.Close(ctx)
		for _, sql := range copies {
			if _, err := conn.PgConn().CopyTo(ctx, io.Discard, "COPY ("+sql+") TO STDOUT"); err != nil {
				return err
			}
		}
		return nil
	})
	var next atomic.Int64
	for range 3 {
		group.Go(func() error {
			for {
				i := int(next.Add(1)) - 1
				if i >= len(bodies) {
					return nil
				}
				if _, err := call(http.MethodPost, engine+"/raw/_bulk?filter_path=items.*.status", bodies[i]); err != nil {
					return err
				}
			}
		})
	}
	return group.Wait()
}

const scriptMapping = `{"mappings":{"properties":{"name":{"type":"text"},"summary":{"type":"text"},"position":{"type":"geo_point"}}}}`

// script is what a developer would write instead: pages of 500 rows, the related
// rows of each page, maps to JSON, one request at a time. A careful developer
// begins each page after the last key instead of counting rows from the start.
func script(ctx context.Context, conn *pgx.Conn, engine, index string, careful bool) error {
	if _, err := call(http.MethodPut, engine+"/"+index, []byte(scriptMapping)); err != nil {
		return err
	}
	page := "SELECT id, name, summary, altitude_m, beds, night_price::float8, winter_room, opens_on::text, lon, lat, region_id, keeper_id FROM huts WHERE retired_at IS NULL ORDER BY id LIMIT 500 OFFSET $1"
	if careful {
		page = strings.Replace(page, "ORDER BY id LIMIT 500 OFFSET $1", "AND id > $1 ORDER BY id LIMIT 500", 1)
	}
	for at := int64(0); ; {
		huts, err := maps(ctx, conn, page, at)
		if err != nil {
			return err
		}
		if len(huts) == 0 {
			return nil
		}
		at += 500
		if careful {
			at = huts[len(huts)-1]["id"].(int64)
		}
		var ids, regionIDs, keeperIDs []any
		for _, h := range huts {
			ids, regionIDs, keeperIDs = append(
				ids,
				h["id"],
			), append(
				regionIDs,
				h["region_id"],
			), append(
				keeperIDs,
				h["keeper_id"],
			)
		}
		related := map[string]map[any][]map[string]any{}
		for name, q := range map[string]struct {
			sql  string
			keys []any
		}{
			"region":    {"SELECT id AS link, name, country FROM regions WHERE id = ANY($1)", regionIDs},
			"keeper":    {"SELECT id AS link, first_name, last_name FROM keepers WHERE id = ANY($1)", keeperIDs},
			"amenities": {"SELECT ha.hut_id AS link, a.label FROM hut_amenities ha JOIN amenities a ON a.id = ha.amenity_id WHERE ha.hut_id = ANY($1) ORDER BY a.id", ids},
			"notes":     {"SELECT hut_id AS link, body, written_at FROM guest_notes WHERE hut_id = ANY($1) AND approved ORDER BY written_at DESC", ids},
			"closures":  {"SELECT hut_id AS link, starts_on::text, ends_on::text, reason FROM closures WHERE hut_id = ANY($1) ORDER BY starts_on", ids},
		} {
			rows, err := maps(ctx, conn, q.sql, q.keys)
			if err != nil {
				return err
			}
			related[name] = map[any][]map[string]any{}
			for _, row := range rows {
				link := row["link"]
				delete(row, "link")
				related[name][link] = append(related[name][link], row)
			}
		}
		var body bytes.Buffer
		encoder := json.NewEncoder(&body)
		for _, h := range huts {
			id := h["id"]
			doc := map[string]any{
				"position": []any{h["lon"], h["lat"]},
				"region":   first(related["region"][h["region_id"]]),
				"notes":    related["notes"][id],
				"closures": related["closures"][id],
			}
			for _, name := range strings.Fields("name summary altitude_m beds night_price winter_room opens_on") {
				doc[name] = h[name]
			}
			if k := first(related["keeper"][h["keeper_id"]]); k != nil {
				doc["keeper"] = map[string]any{"full_name": fmt.Sprint(k["first_name"], " ", k["last_name"])}
			}
			var labels []any
			for _, a := range related["amenities"][id] {
				labels = append(labels, a["label"])
			}
			doc["amenities"] = labels
			fmt.Fprintf(&body, `{"index":{"_id":"%v"}}`+"\n", id)
			if err := encoder.Encode(doc); err != nil {
				return err
			}
		}
		if _, err := call(http.MethodPost, engine+"/"+index+"/_bulk", body.Bytes()); err != nil {
			return err
		}
	}
}

func maps(ctx context.Context, conn *pgx.Conn, sql string, args ...any) ([]map[string]any, error) {
	rows, err := conn.Query(ctx, sql, args...)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToMap)
}

func first(rows []map[string]any) map[string]any {
	if len(rows) == 0 {
		return nil
	}
	return rows[0]
}
