package collections

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"pingo/internal/core/definition"
	"pingo/internal/engine"
)

// Count counts documents.
func (e *Engine) Count(ctx context.Context, edition string) (int64, error) {
	c, err := e.collection(ctx, edition)
	return c.Documents, engine.AsBlocked(err)
}

// Get reads documents by key.
func (e *Engine) Get(ctx context.Context, edition string, keys []string) (map[string]json.RawMessage, error) {
	found := map[string]json.RawMessage{}
	err := e.stored(ctx, edition, keys, "", func(key string, doc json.RawMessage) (err error) {
		found[key], err = Document(doc)
		return err
	})
	return found, err
}

// Fingerprints reads those of documents by key.
func (e *Engine) Fingerprints(ctx context.Context, edition string, keys []string) (map[string]string, error) {
	found := map[string]string{}
	err := e.stored(ctx, edition, keys, "id,"+definition.FingerprintField, func(key string, doc json.RawMessage) error {
		var d printed
		err := json.Unmarshal(doc, &d)
		found[key] = d.fingerprint()
		return err
	})
	return found, err
}

// printed is what a document says of itself.
type printed struct {
	ID          string `json:"id"`
	Fingerprint any    `json:"pingo_fingerprint"`
}

// fingerprint is empty where a document has none.
func (p printed) fingerprint() string {
	text, _ := p.Fingerprint.(string)
	return text
}

// found is the answer to a search.
type found struct {
	Found int64 `json:"found"`
	Hits  []struct {
		Document json.RawMessage `json:"document"`
		Score    float64         `json:"text_match"`
	} `json:"hits"`
	Facets []struct {
		Field  string `json:"field_name"`
		Counts []struct {
			Value string `json:"value"`
			Count int64  `json:"count"`
		} `json:"counts"`
	} `json:"facet_counts"`
	Code  int    `json:"code"`
	Error string `json:"error"`
}

// search sends one search, as a body, since an address has less room.
func (e *Engine) search(ctx context.Context, question map[string]any) (*found, error) {
	var out struct{ Results []found }
	body := map[string]any{"searches": []any{question}}
	if err := e.do(ctx, http.MethodPost, "/multi_search", nil, body, &out); err != nil {
		return nil, err
	}
	if len(out.Results) != 1 {
		return nil, fmt.Errorf("%s gave %d answers to one search", e.at, len(out.Results))
	}
	r := &out.Results[0]
	if r.Code != 0 || r.Error != "" {
		said, err := json.Marshal(map[string]string{"message": r.Error})
		if err != nil {
			return nil, err
		}
		return nil, e.failed(r.Code, "application/json", said)
	}
	return r, nil
}

// page is the most documents that one search returns.
const page = 250

// stored reads documents by key, or some fields of them.
func (e *Engine) stored(ctx context.Context, edition string, keys []string, fields string, each func(key string, doc json.RawMessage) error) error {
	var single []string
	var quoted []string
	for _, key := range keys {
		if text, can := quotedKey(key); can {
			quoted = append(quoted, text)
		} else if key != "" {
			single = append(single, key)
		}
	}
	keyed := func(doc json.RawMessage) error {
		var d printed
		if err := json.Unmarshal(doc, &d); err != nil {
			return fmt.Errorf("reading a document of %s: %w", edition, err)
		}
		return each(d.ID, doc)
	}
	for some := range slices.Chunk(quoted, page) {
		question := map[string]any{
			"collection": edition, "q": "*", "filter_by": "id:[" + strings.Join(some, ",") + "]", "per_page": page,
		}
		if fields != "" {
			question["include_fields"] = fields
		}
		r, err := e.search(ctx, question)
		if err != nil {
			return engine.AsBlocked(err)
		}
		for _, h := range r.Hits {
			if err := keyed(h.Document); err != nil {
				return err
			}
		}
	}
	for _, key := range single {
		var doc json.RawMessage
		err := e.do(ctx, http.MethodGet, "/collections/"+url.PathEscape(edition)+"/documents/"+url.PathEscape(key), nil, nil, &doc)
		if missing(err) {
			continue
		}
		if err == nil {
			err = keyed(doc)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// Scan reads the export of all documents, line by line.
func (e *Engine) Scan(ctx context.Context, edition string, each func(key, fingerprint string) error) error {
	path := "/collections/" + url.PathEscape(edition) + "/documents/export"
	response, err := e.exporting(ctx, path)
	if err != nil {
		return err
	}
	defer response.Body.Close()
	lines := bufio.NewScanner(response.Body)
	lines.Buffer(nil, 1<<20)
	for lines.Scan() {
		if len(lines.Bytes()) == 0 {
			continue
		}
		var d printed
		if err := json.Unmarshal(lines.Bytes(), &d); err != nil {
			return e.unreadable(http.MethodGet, path, err)
		}
		if err := each(d.ID, d.fingerprint()); err != nil {
			return err
		}
	}
	if err := lines.Err(); err != nil {
		return engine.Unreachable(e.at, err)
	}
	return nil
}

// exporting begins an export. It takes as long as it takes, so only the context ends it.
func (e *Engine) exporting(ctx context.Context, path string) (*http.Response, error) {
	long := &Engine{base: e.base, at: e.at, headers: e.headers, key: e.key, client: &http.Client{Transport: e.client.Transport, CheckRedirect: e.client.CheckRedirect}}
	long.keyHeader.Store(e.keyHeader.Load())
	return long.send(ctx, http.MethodGet, path, url.Values{"include_fields": {"id," + definition.FingerprintField}}, nil)
}
