package main

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"reflect"
	"slices"
	"strconv"
	"sync/atomic"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"golang.org/x/sync/errgroup"

	"pingo/internal/core/definition"
	"pingo/internal/core/document"
)

const (
	// handWorkers is how many ranges are read and posted side by side, as many as Pingo does, and handRows how many
	// keys each has.
	handWorkers = 4
	handRows    = 2500
)

// handRounds is how often both are measured, by turns.
const handRounds = 5

// hand compares fills of a free engine with code that was written by hand for this document, by turns.
func (b *bench) hand(ctx context.Context, conn *pgx.Conn) error {
	_, s, err := b.onFree(ctx, conn)
	if err != nil {
		return err
	}
	defer func() { s.stop() }()
	if err := b.sameByHand(ctx, conn); err != nil {
		return err
	}
	var fills, hands, shares []float64
	for range handRounds {
		began := time.Now()
		n, err := b.byHand(ctx, conn, s.engine, "by-hand")
		if err != nil {
			return fmt.Errorf("by hand: %w", err)
		}
		hands = append(hands, float64(n)/time.Since(began).Seconds())
		rows, seconds, err := s.refill(ctx, "huts")
		if err != nil {
			return err
		}
		if rows != n {
			return fmt.Errorf("pingo made %d documents, by hand %d", rows, n)
		}
		fills = append(fills, float64(rows)/seconds)
		shares = append(shares, fills[len(fills)-1]/hands[len(hands)-1])
	}
	b.report("free engine, code by hand for this document", median(hands), "docs/s", "median of %d rounds", handRounds)
	b.report("free engine, fills between them", median(fills), "docs/s", "")
	b.report("free engine, a fill to code by hand", median(shares), "of it", "from %.2f to %.2f; wanted: at least 0.85", slices.Min(shares), slices.Max(shares))
	return nil
}

// sameByHand fails unless the documents of the first range are the same by hand.
func (b *bench) sameByHand(ctx context.Context, conn *pgx.Conn) error {
	small, err := smallTables(ctx, conn)
	if err != nil {
		return err
	}
	if _, err := conn.Exec(ctx, "SET TimeZone = 'UTC'"); err != nil {
		return err
	}
	body, n, err := handRange(ctx, conn.PgConn(), small, 0, handRows, nil)
	if err != nil {
		return err
	}
	compiled, src, err := b.opened(ctx)
	if err != nil {
		return err
	}
	defer src.Close()
	set := document.NewSet(compiled.Trees[0])
	if err := src.ReadRange(ctx, set, []string{"0"}, []string{strconv.Itoa(handRows)}); err != nil {
		return err
	}
	want := map[string]any{}
	for row := range set.Rows(0).Len() {
		var doc map[string]any
		if err := json.Unmarshal(set.Append(nil, row), &doc); err != nil {
			return err
		}
		delete(doc, definition.FingerprintField)
		want[string(set.AppendKey(nil, row))] = doc
	}
	if n == 0 || n != len(want) {
		return fmt.Errorf("%d documents by hand, %d by Pingo", n, len(want))
	}
	lines := bytes.Split(bytes.TrimSpace(body), []byte("\n"))
	for i := 0; i < len(lines); i += 2 {
		var action struct {
			Index struct {
				ID string `json:"_id"`
			}
		}
		var doc map[string]any
		if err := errors.Join(json.Unmarshal(lines[i], &action), json.Unmarshal(lines[i+1], &doc)); err != nil {
			return fmt.Errorf("by hand: %w: %s", err, lines[i+1])
		}
		if !reflect.DeepEqual(want[action.Index.ID], any(doc)) {
			return fmt.Errorf("document %s by hand is\n%v, not\n%v", action.Index.ID, doc, want[action.Index.ID])
		}
	}
	return nil
}

// handReads read a range of huts with all that belongs to them, but for the small tables, which are in memory.
var handReads = []string{
	"SELECT id, name, summary, altitude_m, beds, night_price, winter_room, opens_on, lon, lat, region_id, keeper_id FROM huts WHERE id > $1 AND id <= $2 AND retired_at IS NULL ORDER BY id",
	"SELECT hut_id, amenity_id FROM hut_amenities WHERE hut_id > $1 AND hut_id <= $2 ORDER BY hut_id, amenity_id",
	"SELECT hut_id, body, written_at AT TIME ZONE 'UTC' FROM guest_notes WHERE hut_id > $1 AND hut_id <= $2 AND approved ORDER BY hut_id, written_at DESC, id",
	"SELECT hut_id, starts_on, ends_on, reason FROM closures WHERE hut_id > $1 AND hut_id <= $2 ORDER BY hut_id, starts_on, id",
}

// byHand is a program written with care for this one document: ranges of keys, in a snapshot each, their
// queries sent together, rows merged as they come, JSON appended byte by byte, and nothing that would serve another
// document. It returns how many it has posted.
func (b *bench) byHand(ctx context.Context, conn *pgx.Conn, engine, index string) (int64, error) {
	var last int64
	if err := conn.QueryRow(ctx, "SELECT max(id) FROM huts").Scan(&last); err != nil {
		return 0, err
	}
	small, err := smallTables(ctx, conn)
	if err != nil {
		return 0, err
	}
	var next, posted atomic.Int64
	group, ctx := errgroup.WithContext(ctx)
	for range handWorkers {
		group.Go(func() error {
			conn, err := pgx.Connect(ctx, b.url)
			if err != nil {
				return err
			}
			defer conn.Close(ctx)
			if _, err := conn.Exec(ctx, "SET TimeZone = 'UTC'"); err != nil {
				return err
			}
			var body []byte
			for {
				from := (next.Add(1) - 1) * handRows
				if from > last {
					return nil
				}
				n := 0
				if body, n, err = handRange(ctx, conn.PgConn(), small, from, from+handRows, body[:0]); err != nil {
					return err
				}
				answer, err := call(http.MethodPost, engine+"/"+index+"/_bulk?filter_path=items.*.status", body)
				if err != nil {
					return err
				}
				if got := bytes.Count(answer, []byte(`"status":20`)); got != n {
					return fmt.Errorf("%d of %d documents were taken", got, n)
				}
				posted.Add(int64(n))
			}
		})
	}
	err = group.Wait()
	return posted.Load(), err
}

// smallTables are those that are held in memory: the values of each row, by its id.
func smallTables(ctx context.Context, conn *pgx.Conn) (map[string]map[string][]string, error) {
	small := map[string]map[string][]string{}
	for name, sql := range map[string]string{
		"regions":   "SELECT id, name, country FROM regions",
		"keepers":   "SELECT id, first_name || ' ' || last_name FROM keepers",
		"amenities": "SELECT id, label FROM amenities",
	} {
		small[name] = map[string][]string{}
		result := conn.PgConn().ExecParams(ctx, sql, nil, nil, nil, nil).Read()
		if result.Err != nil {
			return nil, result.Err
		}
		for _, row := range result.Rows {
			for _, v := range row[1:] {
				small[name][string(row[0])] = append(small[name][string(row[0])], string(v))
			}
		}
	}
	return small, nil
}

// handRange appends the request for the huts of a range to body.
func handRange(
	ctx context.Context,
	conn *pgconn.PgConn,
	small map[string]map[string][]string,
	after, upto int64,
	body []byte,
) ([]byte, int, error) {
	params := [][]byte{strconv.AppendInt(nil, after, 10), strconv.AppendInt(nil, upto, 10)}
	pipeline := conn.StartPipeline(ctx)
	defer pipeline.Close()
	pipeline.SendQueryParams("BEGIN ISOLATION LEVEL REPEATABLE READ READ ONLY", nil, nil, nil, nil)
	for _, sql := range handReads {
		pipeline.SendQueryParams(sql, params, []uint32{20, 20}, nil, nil)
	}
	pipeline.SendQueryParams("COMMIT", nil, nil, nil, nil)
	if err := pipeline.Sync(); err != nil {
		return nil, 0, err
	}
	var tables [4]handTable
	for i := range len(handReads) + 2 {
		answer, err := pipeline.GetResults()
		if err != nil {
			return nil, 0, err
		}
		reader := answer.(*pgconn.ResultReader)
		for reader.NextRow() {
			tables[i-1].add(reader.Values())
		}
		if _, err := reader.Close(); err != nil {
			return nil, 0, err
		}
	}
	huts, amenities, notes, closures := &tables[0], &tables[1], &tables[2], &tables[3]
	for n := range huts.rows {
		h := huts.row(n)
		id := h[0]
		region, keeper := small["regions"][string(h[10])], small["keepers"][string(h[11])]
		body = append(append(append(body, `{"index":{"_id":"`...), id...), "\",\"version\":1,\"version_type\":\"external\"}}\n"...)
		body = handText(append(body, `{"name":`...), h[1])
		body = handText(append(body, `,"summary":`...), h[2])
		body = append(append(body, `,"altitude_m":`...), h[3]...)
		body = append(append(body, `,"beds":`...), h[4]...)
		body = append(append(body, `,"night_price":`...), h[5]...)
		if body = append(body, `,"winter_room":`...); string(h[6]) == "t" {
			body = append(body, "true"...)
		} else {
			body = append(body, "false"...)
		}
		body = handText(append(body, `,"opens_on":`...), h[7])
		body = append(append(append(append(append(body, `,"position":[`...), h[8]...), ','), h[9]...), `],"region":{"name":`...)
		body = handText(body, []byte(region[0]))
		body = append(handText(append(body, `,"country":`...), []byte(region[1])), `},"keeper":`...)
		if keeper == nil {
			body = append(body, "null"...)
		} else {
			body = append(handText(append(body, `{"full_name":`...), []byte(keeper[0])), '}')
		}
		find := append(append(append([]byte{}, h[1]...), ' '), region[0]...)
		if keeper != nil {
			find = append(append(find, ' '), keeper[0]...)
		}
		body = append(body, `,"amenities":[`...)
		for first := true; amenities.at(id); first = false {
			if !first {
				body = append(body, ',')
			}
			label := small["amenities"][string(amenities.take()[1])][0]
			body, find = handText(body, []byte(label)), append(append(find, ' '), label...)
		}
		body = append(handText(append(body, `],"find_by":`...), find), `,"notes":[`...)
		for n := 0; notes.at(id); n++ {
			note := notes.take()
			if n >= 20 {
				continue
			}
			if n > 0 {
				body = append(body, ',')
			}
			body = handText(append(body, `{"body":`...), note[1])
			day, hour := note[2][:len("2031-06-01")], note[2][len("2031-06-01 "):]
			body = append(append(append(append(append(body, `,"written_at":"`...), day...), 'T'), hour...), `Z"}`...)
		}
		body = append(body, `],"closures":[`...)
		for first := true; closures.at(id); first = false {
			if !first {
				body = append(body, ',')
			}
			c := closures.take()
			body = append(append(append(append(body, `{"starts_on":"`...), c[1]...), `","ends_on":"`...), c[2]...)
			body = append(handText(append(body, `","reason":`...), c[3]), '}')
		}
		body = append(body, "]}\n"...)
	}
	return body, huts.rows, nil
}

// handTable is rows in one buffer, which are taken in order.
type handTable struct {
	arena       []byte
	ends        []int32 // of the values; negative for NULL
	width, rows int
	next        int
	values      [][]byte
}

func (t *handTable) add(values [][]byte) {
	t.width = len(values)
	for _, v := range values {
		if t.arena = append(t.arena, v...); v == nil {
			t.ends = append(t.ends, -1-int32(len(t.arena)))
			continue
		}
		t.ends = append(t.ends, int32(len(t.arena)))
	}
	t.rows++
}

func (t *handTable) row(n int) [][]byte {
	t.values = t.values[:0]
	start := int32(0)
	if n > 0 {
		if start = t.ends[n*t.width-1]; start < 0 {
			start = -1 - start
		}
	}
	for _, end := range t.ends[n*t.width : (n+1)*t.width] {
		if end < 0 {
			t.values = append(t.values, nil)
			continue
		}
		t.values = append(t.values, t.arena[start:end])
		start = end
	}
	return t.values
}

// at reports whether the next row belongs to a key; rows of keys that have none are passed over.
func (t *handTable) at(key []byte) bool {
	for ; t.next < t.rows; t.next++ {
		its := t.row(t.next)[0]
		if bytes.Equal(its, key) {
			return true
		}
		if len(its) > len(key) || len(its) == len(key) && bytes.Compare(its, key) > 0 {
			return false
		}
	}
	return false
}

func (t *handTable) take() [][]byte {
	t.next++
	return t.row(t.next - 1)
}

// handText appends a text as JSON; nil is null.
func handText(dst, text []byte) []byte {
	if text == nil {
		return append(dst, "null"...)
	}
	for _, c := range text {
		if c < ' ' || c == '"' || c == '\\' {
			quoted, err := json.Marshal(string(text))
			if err != nil {
				panic(err)
			}
			return append(dst, quoted...)
		}
	}
	return append(append(append(dst, '"'), text...), '"')
}
