package main

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"pingo/internal/core/definition"
	"pingo/internal/core/document"
	"pingo/internal/core/reindex"
	"pingo/internal/core/shape"
	"pingo/internal/flow/connect"
	"pingo/internal/kinds"
	"pingo/internal/lab/demo"
	"pingo/internal/source"
	"pingo/internal/source/postgres"
)

// byOneStatement makes the demo's documents as a developer would who leaves it all to
// the database: laterals and JSON functions. What the definition combines is left out.
const byOneStatement = `
SELECT h.id, json_build_object('name', h.name, 'summary', h.summary, 'altitude_m', h.altitude_m, 'beds', h.beds, 'night_price', h.night_price,
	'winter_room', h.winter_room, 'opens_on', h.opens_on, 'position', json_build_array(h.lon, h.lat), 'region', r.doc, 'keeper', k.doc,
	'amenities', coalesce(a.list, '[]'), 'notes', coalesce(n.list, '[]'), 'closures', coalesce(c.list, '[]'))
FROM huts h
LEFT JOIN LATERAL (SELECT json_build_object('name', name, 'country', country) AS doc FROM regions WHERE id = h.region_id) r ON true
LEFT JOIN LATERAL (SELECT json_build_object('full_name', first_name || ' ' || last_name) AS doc FROM keepers WHERE id = h.keeper_id) k ON true
LEFT JOIN LATERAL (SELECT json_agg(a.label ORDER BY a.id) AS list FROM hut_amenities ha JOIN amenities a ON a.id = ha.amenity_id WHERE ha.hut_id = h.id) a ON true
LEFT JOIN LATERAL (SELECT json_agg(json_build_object('body', body, 'written_at', written_at)) AS list FROM (
	SELECT body, written_at FROM guest_notes WHERE hut_id = h.id AND approved ORDER BY written_at DESC, id LIMIT 20) x) n ON true
LEFT JOIN LATERAL (SELECT json_agg(json_build_object('starts_on', starts_on, 'ends_on', ends_on, 'reason', reason) ORDER BY starts_on, id) AS list FROM closures WHERE hut_id = h.id) c ON true
WHERE h.retired_at IS NULL AND h.id > $1 AND h.id <= $2`

// documents compares what reading node by node costs the database with one statement
// that makes the documents there, over the same ranges of keys. Rounds take turns.
func (b *bench) documents(ctx context.Context, conn *pgx.Conn) error {
	s, src, err := b.opened(ctx)
	if err != nil {
		return err
	}
	defer src.Close()
	const rounds = 5
	set := document.NewSet(s.Trees[0])
	var sizer reindex.Sizer // so that ranges are as large as a fill makes them
	var arena []byte
	nodes := func() error {
		for from := 0; from < b.rows; {
			upto := from + sizer.Rows()
			set.Reset()
			if err := src.ReadRange(ctx, set, []string{strconv.Itoa(from)}, []string{strconv.Itoa(upto)}); err != nil {
				return err
			}
			arena = arena[:0]
			for row := range set.Rows(0).Len() {
				arena = set.Append(arena, row)
			}
			sizer.Saw(set.Rows(0).Len(), len(arena))
			from = upto
		}
		return nil
	}
	if _, err := conn.Exec(ctx, "SET jit = off; SET max_parallel_workers_per_gather = 0; SET TIME ZONE 'UTC'"); err != nil {
		return err
	}
	statement := func() error {
		for from := 0; from < b.rows; {
			upto := from + sizer.Rows()
			result := conn.PgConn().
				ExecParams(ctx, byOneStatement, [][]byte{[]byte(strconv.Itoa(from)), []byte(strconv.Itoa(upto))}, nil, nil, nil)
			for result.NextRow() {
			}
			if _, err := result.Close(); err != nil {
				return err
			}
			from = upto
		}
		return nil
	}
	spent := map[string][]float64{}
	for range rounds {
		for name, read := range map[string]func() error{"nodes": nodes, "statement": statement} {
			before, err := b.databaseTime()
			if err != nil {
				return err
			}
			if err := read(); err != nil {
				return err
			}
			after, err := b.databaseTime()
			if err != nil {
				return err
			}
			spent[name] = append(spent[name], (after - before).Seconds())
		}
	}
	say("ranges of %d rows", sizer.Rows())
	one, many := median(spent["statement"]), median(spent["nodes"])
	b.report(
		"documents, one statement with laterals and JSON",
		one,
		"s",
		"processor time of the database for %d rows, median of %d rounds",
		b.rows,
		rounds,
	)
	b.report("documents, node by node", many, "s", "")
	b.report("documents, node by node to one statement", many/one, "of it", "wanted: at most a third")
	return nil
}

// shape compiles the demo's definition of huts.
func (b *bench) shape(ctx context.Context) (*shape.Shape, error) {
	shapes, err := b.shapes(ctx, demo.Definition)
	if err != nil {
		return nil, err
	}
	return shapes[0], nil
}

// opened is the demo's shape of huts, and the source that it is read from.
func (b *bench) opened(ctx context.Context) (*shape.Shape, *source.Source, error) {
	s, err := b.shape(ctx)
	if err != nil {
		return nil, nil, err
	}
	src, err := postgres.Open(source.Config{URL: b.url})
	return s, src, err
}

// shapes compiles a definition.
func (b *bench) shapes(ctx context.Context, text string) ([]*shape.Shape, error) {
	src, err := postgres.Open(source.Config{URL: b.url})
	if err != nil {
		return nil, err
	}
	defer src.Close()
	os.Setenv("LODGE_URL", b.url)
	os.Setenv("SEARCH_URL", "http://127.0.0.1:1")
	def, findings := definition.Parse(
		[]definition.File{{Name: "bench.yaml", Text: text}},
		kinds.All().Language(),
		connect.Everything.Lookup,
	)
	if len(findings) > 0 {
		return nil, findings
	}
	var out []*shape.Shape
	for _, ix := range def.Indexes {
		compiled, findings, err := source.Compile(ctx, ix, source.Only(src))
		if err != nil {
			return nil, err
		}
		if len(findings) > 0 {
			return nil, findings
		}
		out = append(out, compiled)
	}
	return out, nil
}

// databaseTime is the processor time that all processes of the source have used.
func (b *bench) databaseTime() (time.Duration, error) {
	return serverTime(filepath.Join(b.dir, "source"))
}

// serverTime is the processor time that all processes of a database server have used.
func serverTime(dir string) (time.Duration, error) {
	text, err := os.ReadFile(filepath.Join(dir, "data", "postmaster.pid"))
	if err != nil {
		return 0, err
	}
	first, _, _ := strings.Cut(string(text), "\n")
	all, err := filepath.Glob("/proc/[0-9]*/stat")
	if err != nil {
		return 0, err
	}
	var ticks int64
	for _, path := range all {
		stat, err := os.ReadFile(path)
		if err != nil {
			continue // it ended meanwhile
		}
		pid, _, _ := strings.Cut(string(stat), " ")
		_, rest, ok := strings.Cut(string(stat), ") ")
		fields := strings.Fields(rest) // from field 3 on, the state
		if !ok || len(fields) < 15 {
			return 0, fmt.Errorf("%s cannot be read", path)
		}
		used := fields[11:13] // user and system time
		switch {
		case pid == first:
			used = fields[11:15] // and that of children that have ended
		case fields[1] != first:
			continue
		}
		for _, text := range used {
			n, err := strconv.ParseInt(text, 10, 64)
			if err != nil {
				return 0, err
			}
			ticks += n
		}
	}
	return time.Duration(ticks) * time.Second / 100, nil
}
