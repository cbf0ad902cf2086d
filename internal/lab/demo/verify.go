package demo

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"

	"github.com/jackc/pgx/v5"

	"pingo/internal/api"
	"pingo/internal/core/definition"
	"pingo/internal/engine/collections"
	"pingo/internal/engine/tasks"
	"pingo/internal/kinds"
	"pingo/internal/lab/collectionsnode"
	"pingo/internal/lab/plainsql"
)

// Compare compares every document of an index in the engine with what lodge's rows
// make, byte by byte of meaning. It reads the engine through its public interface.
// definition files are those that were applied.
func Compare(
	ctx context.Context,
	conn *pgx.Conn,
	files []api.File,
	index string,
	lookup func(reference string) (string, error),
) (rows, documents int, differences []plainsql.Difference, err error) {
	def, findings := definition.Parse(definitionFiles(files), kinds.All().Language(), lookup)
	if len(findings) > 0 {
		return 0, 0, nil, findings
	}
	ix := def.Index(index)
	if ix == nil {
		return 0, 0, nil, fmt.Errorf("the definition has no index %s", index)
	}
	want, err := plainsql.Documents(ctx, conn, ix)
	if err != nil {
		return 0, 0, nil, err
	}
	eng := def.Engine(ix.Engine)
	url, err := eng.URL.Reveal(lookup)
	if err != nil {
		return 0, 0, nil, err
	}
	key := ""
	if eng.Kind == "collections" || eng.Kind == "tasks" {
		if key, err = lookup("SEARCH_KEY"); err != nil {
			return 0, 0, nil, err
		}
	}
	have, err := documentsIn(ctx, eng.Kind, url, key, index)
	if err != nil {
		return 0, 0, nil, err
	}
	return len(want), len(have), plainsql.Compare(want, have), nil
}

// compareWith compares an index in the engine with documents that are wanted.
func compareWith(
	ctx context.Context,
	kind, engineURL, index string,
	want map[string]any,
) ([]plainsql.Difference, error) {
	decoded := map[string]any{}
	for key, doc := range want {
		text, err := json.Marshal(doc)
		if err != nil {
			return nil, err
		}
		if decoded[key], err = plainsql.Decode(text); err != nil {
			return nil, err
		}
	}
	have, err := documentsIn(ctx, kind, engineURL, os.Getenv("SEARCH_KEY"), index)
	if err != nil {
		return nil, err
	}
	return plainsql.Compare(decoded, have), nil
}

// documentsIn reads an index of an engine.
func documentsIn(ctx context.Context, kind, url, key, index string) (map[string]any, error) {
	switch kind {
	case "postgres":
		return tableDocuments(ctx, url, index)
	case "collections":
		return collectionDocuments(ctx, url, key, index)
	case "tasks":
		return taskDocuments(ctx, url, key, index)
	}
	return allDocuments(ctx, url, index)
}

// collectionDocuments reads an index of an engine of kind collections, without what Pingo adds to documents.
func collectionDocuments(ctx context.Context, url, key, index string) (map[string]any, error) {
	lines, err := collectionsnode.Export(ctx, url, key, index)
	if err != nil {
		return nil, err
	}
	all := map[string]any{}
	for _, line := range lines {
		var id struct{ ID string }
		if err := json.Unmarshal(line, &id); err != nil {
			return nil, err
		}
		text, err := collections.Document(line)
		if err != nil {
			return nil, err
		}
		if all[id.ID], err = plainsql.Decode(text); err != nil {
			return nil, err
		}
	}
	return all, nil
}

// taskDocuments reads an index of an engine of kind tasks, without what Pingo adds to documents.
func taskDocuments(ctx context.Context, url, key, index string) (map[string]any, error) {
	all := map[string]any{}
	const page = 1000
	for offset := 0; ; offset += page {
		request, err := http.NewRequestWithContext(ctx, http.MethodGet, fmt.Sprintf("%s/indexes/%s/documents?limit=%d&offset=%d", url, index, page, offset), nil)
		if err != nil {
			return nil, err
		}
		request.Header.Set("Authorization", "Bearer "+key)
		response, err := http.DefaultClient.Do(request)
		if err != nil {
			return nil, err
		}
		var out struct{ Results []json.RawMessage }
		err = json.NewDecoder(response.Body).Decode(&out)
		response.Body.Close()
		if err != nil || response.StatusCode != http.StatusOK {
			return nil, fmt.Errorf("reading the documents of %s: %s: %w", index, response.Status, err)
		}
		for _, stored := range out.Results {
			key, text, err := tasks.Document(stored)
			if err != nil {
				return nil, err
			}
			if all[key], err = plainsql.Decode(text); err != nil {
				return nil, err
			}
		}
		if len(out.Results) < page {
			return all, nil
		}
	}
}

// tableDocuments reads an index of an engine of kind postgres.
func tableDocuments(ctx context.Context, url, index string) (map[string]any, error) {
	conn, err := pgx.Connect(ctx, url)
	if err != nil {
		return nil, err
	}
	defer conn.Close(ctx)
	rows, err := conn.Query(
		ctx,
		"SELECT pingo_key, pingo_document FROM "+pgx.Identifier{"pingo_search", index}.Sanitize(),
	)
	if err != nil {
		return nil, err
	}
	all := map[string]any{}
	var key string
	var doc []byte
	_, err = pgx.ForEachRow(rows, []any{&key, &doc}, func() error {
		all[key], err = plainsql.Decode(doc)
		return err
	})
	return all, err
}

// allDocuments reads an index page by page, after a refresh.
func allDocuments(ctx context.Context, engineURL, index string) (map[string]any, error) {
	if err := post(ctx, engineURL+"/"+index+"/_refresh", nil, nil); err != nil {
		return nil, err
	}
	type page struct {
		ScrollID string `json:"_scroll_id"`
		Hits     struct {
			Hits []struct {
				ID     string          `json:"_id"`
				Source json.RawMessage `json:"_source"`
			} `json:"hits"`
		} `json:"hits"`
	}
	all := map[string]any{}
	var p page
	err := post(
		ctx,
		engineURL+"/"+index+"/_search?scroll=1m",
		map[string]any{"size": 5000, "sort": []string{"_doc"}},
		&p,
	)
	for ; err == nil && len(p.Hits.Hits) > 0; err = post(ctx, engineURL+"/_search/scroll", map[string]any{"scroll": "1m", "scroll_id": p.ScrollID}, &p) {
		for _, h := range p.Hits.Hits {
			if all[h.ID], err = plainsql.Decode(h.Source); err != nil {
				return nil, err
			}
		}
		p = page{ScrollID: p.ScrollID}
	}
	return all, err
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

func definitionFiles(files []api.File) []definition.File {
	out := make([]definition.File, len(files))
	for i, f := range files {
		out[i] = definition.File(f)
	}
	return out
}
