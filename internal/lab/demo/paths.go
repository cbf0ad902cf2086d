package demo

import (
	"cmp"
	"context"
	"database/sql"
	_ "embed"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"pingo/internal/api"
	"pingo/internal/client"
)

//go:embed paths.sql
var pathsSQL string

//go:embed trails.yaml
var trails string

// WholeFiles is the demo's whole definition, of all its sources.
func WholeFiles() []api.File {
	return append(Files(), api.File{Name: "trails.yaml", Text: trails})
}

// Trails is how many there are at first.
const Trails = 400

var (
	ways    = words("Traverse Loop Way Path Ascent Crossing Round")
	grades  = words("easy middling hard")
	marks   = []string{"blue stones", "red dots", "cairns", "poles"}
	strides = []string{
		"up to the saddle",
		"along the ridge",
		"down to the tarn",
		"through the larches",
		"over the moraine",
		"past the old mine",
	}
)

func trailName(r *rand.Rand) string {
	return pick(r, peaks) + " " + pick(r, features) + " " + pick(r, ways)
}

// LoadPaths makes the tables of paths and fills them with a number of trails.
func LoadPaths(ctx context.Context, db *sql.DB, trails int, seed int64) error {
	for statement := range strings.SplitSeq(pathsSQL, ";\n") {
		if strings.TrimSpace(statement) == "" {
			continue
		}
		if _, err := db.ExecContext(ctx, statement); err != nil {
			return fmt.Errorf("making the tables of paths: %w", err)
		}
	}
	r := rand.New(rand.NewPCG(uint64(seed), 5))
	tx, err := db.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	defer tx.Rollback()
	for id := 1; id <= trails; id++ {
		_, err := tx.ExecContext(
			ctx,
			"INSERT INTO trails (id, name, grade, length_km, marks, lon, lat) VALUES (?, ?, ?, ?, ?, ?, ?)",
			id,
			trailName(r),
			pick(r, grades),
			float64(20+r.IntN(300))/10,
			pick(r, marks)+","+pick(r, marks),
			6+r.Float64()*8,
			44+r.Float64()*4,
		)
		if err != nil {
			return fmt.Errorf("loading trails: %w", err)
		}
		for no := 1; no <= 2+r.IntN(3); no++ {
			if err := addStage(ctx, tx, r, id, no); err != nil {
				return fmt.Errorf("loading stages: %w", err)
			}
		}
	}
	return tx.Commit()
}

func addStage(ctx context.Context, tx *sql.Tx, r *rand.Rand, trail, no int) error {
	_, err := tx.ExecContext(ctx, "INSERT INTO stages (trail_id, no, title, hours) VALUES (?, ?, ?, ?)",
		trail, no, pick(r, strides), float64(5+r.IntN(60))/10)
	return err
}

// ChangePaths carries out one change as the application does: with a row in the outbox for the
// trail that it changes, in the same transaction.
func ChangePaths(ctx context.Context, db *sql.DB, r *rand.Rand) error {
	tx, err := db.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	defer tx.Rollback()
	id, operation := 1+r.IntN(Trails), "updated"
	switch n := r.IntN(10); {
	case n < 4:
		_, err = tx.ExecContext(
			ctx,
			"UPDATE trails SET name = ?, closed = ? WHERE id = ?",
			trailName(r),
			r.IntN(5) == 0,
			id,
		)
	case n < 7:
		err = addStage(ctx, tx, r, id, 5+r.IntN(5))
	case n < 9:
		_, err = tx.ExecContext(ctx, "DELETE FROM stages WHERE trail_id = ? ORDER BY no DESC LIMIT 1", id)
	default:
		operation = "deleted"
		if _, err = tx.ExecContext(ctx, "DELETE FROM stages WHERE trail_id = ?", id); err == nil {
			_, err = tx.ExecContext(ctx, "DELETE FROM trails WHERE id = ?", id)
		}
	}
	if err == nil {
		_, err = tx.ExecContext(
			ctx,
			"INSERT INTO outbox (record, record_key, operation) VALUES ('trails', ?, ?)",
			id,
			operation,
		)
	}
	if err != nil {
		return err
	}
	return tx.Commit()
}

// Station is a sender of bulletins. It remembers what it has sent, so that it can be compared.
type Station struct {
	client *client.Client
	r      *rand.Rand
	next   int
	began  time.Time
	// Sent is the newest body of each bulletin that is not withdrawn, by key.
	Sent map[string]map[string]any
}

// NewStation is a station that sends by a client's service.
func NewStation(c *client.Client, seed int64) *Station {
	return &Station{
		client: c,
		r:      rand.New(rand.NewPCG(uint64(seed), 6)),
		next:   1,
		began:  time.Now().Add(-time.Hour),
		Sent:   map[string]map[string]any{},
	}
}

var hazards = words("avalanche rockfall ice thaw fog wind flood")

func (s *Station) bulletin(key int) map[string]any {
	body := map[string]any{
		"title": pick(
			s.r,
			[]string{
				"Fresh snow",
				"Way closed",
				"Ice on the rocks",
				"Thaw sets in",
				"Storm from the west",
				"Good conditions",
			},
		) + " at " + pick(
			s.r,
			peaks,
		),
		"trail_id":    1 + s.r.IntN(Trails),
		"station":     fmt.Sprintf("station %d", 1+key%9),
		"snow_cm":     s.r.IntN(300),
		"way_open":    s.r.IntN(3) > 0,
		"valid_until": season.Add(time.Duration(s.r.IntN(2000)) * time.Hour).Format(time.RFC3339),
	}
	list := []string{}
	for _, h := range hazards {
		if s.r.IntN(4) == 0 {
			list = append(list, h)
		}
	}
	body["hazards"] = list
	return body
}

// Send sends a number of events in one request: new bulletins, others for known ones, corrections, and
// now and then that one is withdrawn.
func (s *Station) Send(ctx context.Context, events int) error {
	batch := make([]map[string]any, 0, events)
	known := map[string]map[string]any{}
	for key, body := range s.Sent {
		known[key] = body
	}
	for range events {
		number := s.next
		s.next++
		key := fmt.Sprintf("b%d", 1+s.r.IntN(max(40, number/2)))
		event := map[string]any{
			"specversion": "1.0", "id": fmt.Sprint(number), "source": "urn:firnline:stations", "subject": key,
			"type": "firnline.bulletin.issued", "time": s.versionOf(number),
		}
		before := known[key]
		switch n := s.r.IntN(12); {
		case before != nil && n == 0:
			event["type"] = "firnline.bulletin.withdrawn"
			delete(known, key)
		case before != nil && n < 4:
			event["type"] = "firnline.bulletin.corrected"
			patch := map[string]any{"snow_cm": s.r.IntN(300), "way_open": nil}
			event["data"] = patch
			known[key] = corrected(before, patch)
		default:
			body := s.bulletin(number)
			event["data"], known[key] = body, body
		}
		batch = append(batch, event)
	}
	body, err := json.Marshal(batch)
	if err != nil {
		return err
	}
	reply, err := s.client.SendEvent(
		ctx,
		"conditions",
		"",
		fmt.Sprintf("msg_%d", s.next),
		"application/cloudevents-batch+json",
		body,
	)
	if err != nil {
		return fmt.Errorf("sending bulletins: %w", err)
	}
	if reply.Accepted != events {
		return fmt.Errorf(
			"sending bulletins: %d of %d were accepted: %+v",
			reply.Accepted,
			events,
			reply.Receipts,
		)
	}
	s.Sent = known
	return nil
}

// versionOf is the time of an event, later for later ones and not in the future.
func (s *Station) versionOf(number int) string {
	return s.began.Add(time.Duration(number) * time.Millisecond).Format(time.RFC3339Nano)
}

// SendRefused sends a bulletin that has words where its schema wants a number: the event is
// taken, and its document fails.
func (s *Station) SendRefused(ctx context.Context) error {
	number := s.next
	s.next++
	body, err := json.Marshal(map[string]any{
		"specversion": "1.0", "id": fmt.Sprint(number), "source": "urn:firnline:stations", "subject": "by hand", "type": "firnline.bulletin.issued",
		"time": s.versionOf(number),
		"data": map[string]any{"title": "Written by hand", "snow_cm": "knee-deep", "station": "station 4"},
	})
	if err != nil {
		return err
	}
	_, err = s.client.SendEvent(
		ctx,
		"conditions",
		"",
		fmt.Sprintf("msg_%d", number),
		"application/cloudevents+json",
		body,
	)
	return err
}

// corrected applies a patch as RFC 7396 says, for flat ones.
func corrected(body, patch map[string]any) map[string]any {
	out := map[string]any{}
	for name, v := range body {
		out[name] = v
	}
	for name, v := range patch {
		if v == nil {
			delete(out, name)
		} else {
			out[name] = v
		}
	}
	return out
}

// bulletinDocuments is what the documents of bulletins should be.
func (s *Station) bulletinDocuments() map[string]any {
	out := map[string]any{}
	for key, body := range s.Sent {
		doc := map[string]any{}
		for _, name := range []string{"title", "trail_id", "station", "snow_cm", "way_open", "valid_until", "hazards"} {
			doc[name] = body[name]
		}
		out[key] = doc
	}
	return out
}

// trailDocuments is what the documents of trails should be, read row by row, with the bulletins that
// were sent.
func (s *Station) trailDocuments(ctx context.Context, db *sql.DB) (map[string]any, error) {
	out := map[string]any{}
	rows, err := db.QueryContext(
		ctx,
		"SELECT id, name, grade, length_km, marks, lon, lat FROM trails WHERE closed = 0",
	)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var id, name, grade, marked string
		var length, lon, lat json.Number
		if err := rows.Scan(&id, &name, &grade, (*string)(&length), &marked, (*string)(&lon), (*string)(&lat)); err != nil {
			return nil, err
		}
		out[id] = map[string]any{
			"name": name, "grade": grade, "length_km": length, "marks": strings.Split(marked, ","), "starts_at": []any{lon, lat}, "stages": []any{}, "bulletins": s.latest(id),
		}
	}
	if err := rows.Err(); err != nil {
		return nil, err
	}
	stages, err := db.QueryContext(ctx, "SELECT trail_id, title, hours FROM stages ORDER BY trail_id, no, id")
	if err != nil {
		return nil, err
	}
	defer stages.Close()
	for stages.Next() {
		var trail, title string
		var hours json.Number
		if err := stages.Scan(&trail, &title, (*string)(&hours)); err != nil {
			return nil, err
		}
		if doc, is := out[trail].(map[string]any); is {
			doc["stages"] = append(doc["stages"].([]any), map[string]any{"title": title, "hours": hours})
		}
	}
	return out, stages.Err()
}

// latest are the bulletins of a trail that are valid longest, as its document has them.
func (s *Station) latest(trail string) []any {
	var keys []string
	for key, body := range s.Sent {
		if fmt.Sprint(body["trail_id"]) == trail {
			keys = append(keys, key)
		}
	}
	slices.SortFunc(keys, func(a, b string) int {
		return cmp.Or(
			-strings.Compare(s.Sent[a]["valid_until"].(string), s.Sent[b]["valid_until"].(string)),
			strings.Compare(a, b),
		)
	})
	out := []any{}
	for _, key := range keys[:min(3, len(keys))] {
		body := s.Sent[key]
		out = append(out, map[string]any{"title": body["title"], "valid_until": body["valid_until"]})
	}
	return out
}

// placeDocuments is what the documents of all three sources together should be.
func placeDocuments(ctx context.Context, lodge *pgx.Conn, trails, bulletins map[string]any) (map[string]any, error) {
	out := map[string]any{}
	rows, err := lodge.Query(ctx, `SELECT h.id::text, h.name, h.summary, r.name FROM huts h JOIN regions r ON r.id = h.region_id
		WHERE h.retired_at IS NULL`)
	if err != nil {
		return nil, err
	}
	var id, name, region string
	var summary *string
	_, err = pgx.ForEachRow(rows, []any{&id, &name, &summary, &region}, func() error {
		out["hut,"+id] = map[string]any{
			"pingo_rows": "hut", "title": name, "text": summary, "region": map[string]any{"name": region},
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	for id, doc := range trails {
		trail := doc.(map[string]any)
		out["trail,"+id] = map[string]any{"pingo_rows": "trail", "title": trail["name"], "grade": trail["grade"]}
	}
	for key, doc := range bulletins {
		bulletin := doc.(map[string]any)
		place := map[string]any{"pingo_rows": "bulletin", "title": bulletin["title"], "trail": nil}
		if trail, is := trails[fmt.Sprint(bulletin["trail_id"])].(map[string]any); is {
			place["trail"] = map[string]any{"name": trail["name"]}
		}
		out["bulletin,"+key] = place
	}
	return out, nil
}
