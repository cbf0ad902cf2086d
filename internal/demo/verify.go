package demo

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"reflect"
	"strings"

	"github.com/jackc/pgx/v5"

	"pingo/internal/core/definition"
)

// documentsSQL makes the documents of the demo's definition in one statement: a
// second, deliberately simple way, to compare the first with.
const documentsSQL = `
SELECT h.id::text, jsonb_build_object(
    'name', h.name, 'summary', h.summary, 'altitude_m', h.altitude_m, 'beds', h.beds, 'night_price', h.night_price,
    'winter_room', h.winter_room, 'opens_on', h.opens_on, 'position', jsonb_build_array(h.lon, h.lat),
    'region', (SELECT jsonb_build_object('name', r.name, 'country', r.country) FROM regions r WHERE r.id = h.region_id),
    'keeper', (SELECT jsonb_build_object('full_name', k.first_name || ' ' || k.last_name) FROM keepers k WHERE k.id = h.keeper_id),
    'amenities', (SELECT coalesce(jsonb_agg(a.label ORDER BY a.id), '[]') FROM hut_amenities ha JOIN amenities a ON a.id = ha.amenity_id WHERE ha.hut_id = h.id),
    'notes', (SELECT coalesce(jsonb_agg(jsonb_build_object('body', n.body, 'written_at', n.written_at) ORDER BY n.written_at DESC, n.id), '[]')
        FROM (SELECT * FROM guest_notes WHERE hut_id = h.id AND approved ORDER BY written_at DESC, id LIMIT 20) n),
    'closures', (SELECT coalesce(jsonb_agg(jsonb_build_object('starts_on', c.starts_on, 'ends_on', c.ends_on, 'reason', c.reason) ORDER BY c.starts_on, c.id), '[]')
        FROM closures c WHERE c.hut_id = h.id))
FROM huts h WHERE h.retired_at IS NULL`

// Difference is a document on which the source and the engine do not agree.
type Difference struct {
	Key, What string
}

// Compare compares every document in the engine with what lodge's rows make, byte
// by byte of meaning. It reads the engine through its public interface.
func Compare(ctx context.Context, conn *pgx.Conn, engineURL, index string) (rows, documents int, differences []Difference, err error) {
	if _, err := conn.Exec(ctx, "SET TIME ZONE 'UTC'"); err != nil {
		return 0, 0, nil, err
	}
	want := map[string]any{}
	result, err := conn.Query(ctx, documentsSQL)
	if err != nil {
		return 0, 0, nil, err
	}
	var key string
	var doc []byte
	if _, err := pgx.ForEachRow(result, []any{&key, &doc}, func() error {
		want[key], err = decode(doc)
		return err
	}); err != nil {
		return 0, 0, nil, err
	}
	have, err := allDocuments(ctx, engineURL, index)
	if err != nil {
		return 0, 0, nil, err
	}
	for key, d := range want {
		switch h, ok := have[key]; {
		case !ok:
			differences = append(differences, Difference{key, "missing"})
		case !reflect.DeepEqual(normal(d), normal(h)):
			differences = append(differences, Difference{key, fmt.Sprintf("stale: %v instead of %v", h, d)})
		}
	}
	for key := range have {
		if _, ok := want[key]; !ok {
			differences = append(differences, Difference{key, "orphaned"})
		}
	}
	return len(want), len(have), differences, nil
}

func decode(doc []byte) (any, error) {
	decoder := json.NewDecoder(bytes.NewReader(doc))
	var v any
	return v, decoder.Decode(&v)
}

// normal brings the spellings of one moment together: the database writes +00:00.
func normal(v any) any {
	switch v := v.(type) {
	case map[string]any:
		out := map[string]any{}
		for k, x := range v {
			if k != definition.FingerprintField {
				out[k] = normal(x)
			}
		}
		return out
	case []any:
		out := make([]any, len(v))
		for i := range v {
			out[i] = normal(v[i])
		}
		return out
	case string:
		if head, ok := strings.CutSuffix(v, "+00:00"); ok {
			return head + "Z"
		}
	}
	return v
}

// allDocuments reads an index page by page, sorted by key, after a refresh.
func allDocuments(ctx context.Context, engineURL, index string) (map[string]any, error) {
	if err := post(ctx, engineURL+"/"+index+"/_refresh", nil, nil); err != nil {
		return nil, err
	}
	var pit struct {
		ID string `json:"pit_id"`
	}
	if err := post(ctx, engineURL+"/"+index+"/_search/point_in_time?keep_alive=1m", nil, &pit); err != nil {
		return nil, err
	}
	all := map[string]any{}
	var after []any
	for {
		request := map[string]any{"size": 5000, "pit": map[string]any{"id": pit.ID, "keep_alive": "1m"}, "sort": []any{map[string]any{"_shard_doc": "asc"}}}
		if after != nil {
			request["search_after"] = after
		}
		var page struct {
			Hits struct {
				Hits []struct {
					ID     string `json:"_id"`
					Source any    `json:"_source"`
					Sort   []any  `json:"sort"`
				} `json:"hits"`
			} `json:"hits"`
		}
		if err := post(ctx, engineURL+"/_search", request, &page); err != nil {
			return nil, err
		}
		for _, h := range page.Hits.Hits {
			all[h.ID], after = h.Source, h.Sort
		}
		if len(page.Hits.Hits) == 0 {
			return all, nil
		}
	}
}

func post(ctx context.Context, url string, in, out any) error {
	body, err := json.Marshal(in)
	if err != nil {
		return err
	}
	if in == nil {
		body = nil
	}
	request, err := http.NewRequestWithContext(ctx, http.MethodPost, url, bytes.NewReader(body))
	if err != nil {
		return err
	}
	request.Header.Set("Content-Type", "application/json")
	response, err := http.DefaultClient.Do(request)
	if err != nil {
		return err
	}
	defer response.Body.Close()
	if response.StatusCode >= 300 {
		text, _ := io.ReadAll(io.LimitReader(response.Body, 500))
		return fmt.Errorf("%s: %s: %s", url, response.Status, text)
	}
	if out == nil {
		return nil
	}
	return json.NewDecoder(response.Body).Decode(out)
}
