package tasks

import (
	"bytes"
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"net/http"
	"net/url"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"github.com/cespare/xxhash/v2"

	"pingo/internal/core/definition"
	"pingo/internal/core/retry"
	"pingo/internal/core/shape"
	"pingo/internal/engine"
	"pingo/internal/engine/fields"
)

// What the server takes for the value of a primary key.
var plainID = regexp.MustCompile(`^[A-Za-z0-9_-]{1,511}$`)

const (
	encoded   = "pingo-key-"
	longestID = 511
)

// idOf is the primary key of a document: its key, in base64 where the server does not take it as it is.
func idOf(key string) string {
	if plainID.MatchString(key) && !strings.HasPrefix(key, encoded) {
		return key
	}
	return encoded + base64.RawURLEncoding.EncodeToString([]byte(key))
}

// keyOf reverses idOf.
func keyOf(id string) string {
	text, is := strings.CutPrefix(id, encoded)
	if !is {
		return id
	}
	key, err := base64.RawURLEncoding.DecodeString(text)
	if err != nil {
		return id // of a document that another program wrote
	}
	return string(key)
}

// markOf is a hash of a value as it is written.
func markOf(text string) string { return fmt.Sprintf("%016x", xxhash.Sum64String(text)) }

// seconds of a moment since 1970.
func seconds(text string) float64 {
	t, _ := fields.Time(text) // the text was checked
	return float64(t.Unix()) + float64(t.Nanosecond()/1000)/1e6
}

// body writes a document as the index takes it: as it is, with the fields that Pingo adds and its primary key.
func (l *layout) body(key string, doc []byte) ([]byte, error) {
	_, values, err := l.Values(doc)
	if err != nil {
		return nil, err
	}
	more := map[string]any{idField: idOf(key)}
	for path, list := range values {
		f := l.Fields[path]
		one := func(role fields.Role, made []any) {
			if len(made) == 1 && !f.Repeated {
				more[fields.Added(role, path)] = made[0]
				return
			}
			more[fields.Added(role, path)] = made
		}
		for _, role := range fields.Roles(f) {
			made := []any{}
			switch role {
			case fields.Beginnings, fields.Parts:
				more[fields.Added(role, path)] = fields.Pieces(list, role == fields.Parts)
				continue
			case fields.Places:
				pair := list[0].([]any)
				more["_geo"] = map[string]any{"lng": pair[0], "lat": pair[1]}
				continue
			case fields.Whole:
				for _, v := range list {
					made = append(made, markOf(v.(string)))
				}
			case fields.Moments:
				for _, v := range list {
					made = append(made, json.Number(strconv.FormatFloat(seconds(v.(string)), 'f', -1, 64)))
				}
			}
			one(role, made)
		}
		if f.Type == shape.Integer && f.Filter { // the server keeps numbers as doubles
			made := []any{}
			for _, v := range list {
				made = append(made, markOf(fmt.Sprint(v)))
			}
			one(fields.Whole, made)
		}
	}
	end, err := json.Marshal(more)
	if err != nil {
		return nil, err
	}
	line := slices.Clone(bytes.TrimSuffix(bytes.TrimSpace(doc), []byte("}")))
	if !bytes.HasSuffix(line, []byte("{")) {
		line = append(line, ',')
	}
	return append(line, end[1:]...), nil
}

// Deliver adds or replaces documents and deletes those without a body, in their order, and returns when the tasks for them
// have ended. The server carries out the tasks of an index in order, so what is sent later comes later, also if the outcome
// of an earlier task is not known.
func (e *Engine) Deliver(ctx context.Context, edition string, docs []engine.Document) ([]engine.Result, error) {
	l, err := e.layout(ctx, edition)
	var path string
	if err == nil {
		path, err = e.path(ctx, edition)
	}
	if f := (*engine.Failure)(nil); errors.As(err, &f) && f.Outcome == retry.Blocked {
		return engine.Blocked(docs, f), nil
	}
	if err != nil {
		return nil, err
	}
	results := make([]engine.Result, len(docs))
	for start := 0; start < len(docs); {
		end := start + 1
		for end < len(docs) && (docs[end].Body == nil) == (docs[start].Body == nil) {
			end++
		}
		if docs[start].Body == nil {
			ids := []string{}
			for _, d := range docs[start:end] {
				if id := idOf(d.Key); len(id) <= longestID { // there is no other document
					ids = append(ids, id)
				}
			}
			if len(ids) > 0 {
				err = e.write(ctx, http.MethodPost, path+"/documents/delete-batch", nil, ids)
			}
		} else {
			err = e.upsert(ctx, path, l, docs[start:end], results[start:end])
		}
		if t := failedTask(err); missing(err) || t != nil && t.Code == "index_not_found" {
			e.forget(edition)
			var f *engine.Failure
			errors.As(e.lost(edition), &f)
			return engine.Blocked(docs, f), nil
		}
		if err != nil {
			return nil, err
		}
		start = end
	}
	return results, nil
}

// upsert sends documents that fit their shape in one task.
func (e *Engine) upsert(ctx context.Context, path string, l *layout, docs []engine.Document, results []engine.Result) error {
	var bodies [][]byte
	var at []int
	for i, d := range docs {
		if id := idOf(d.Key); len(id) > longestID {
			results[i] = engine.Result{Outcome: retry.Refused, Kind: "key_too_long", Reason: fmt.Sprintf("the key makes an id of %d letters, and the engine takes %d", len(id), longestID)}
			continue
		}
		body, err := l.body(d.Key, d.Body)
		var r *fields.Refusal
		if errors.As(err, &r) {
			results[i] = engine.Result{Outcome: retry.Refused, Kind: r.Kind, Reason: r.Reason}
			continue
		}
		if err != nil {
			return err
		}
		bodies, at = append(bodies, body), append(at, i)
	}
	return e.put(ctx, path, bodies, func(n int, r engine.Result) { results[at[n]] = r })
}

// put sends documents. One that the server refuses fails its whole task, so the documents of a failed task are sent again
// in halves.
func (e *Engine) put(ctx context.Context, path string, bodies [][]byte, refused func(n int, r engine.Result)) error {
	if len(bodies) == 0 {
		return nil
	}
	body := append(append([]byte("["), bytes.Join(bodies, []byte(","))...), ']')
	err := e.write(ctx, http.MethodPost, path+"/documents", url.Values{"primaryKey": {idField}}, body)
	kind, reason := "", ""
	if t := failedTask(err); t != nil && t.Code != "index_not_found" && t.Code != "internal" && !strings.Contains(t.Code, "no_space") {
		kind, reason = t.Code, t.Message
	} else if f := engine.FailureOf(orNone(err)); err != nil && f.Outcome == retry.Refused {
		kind, reason = f.Kind, f.Message
	}
	switch {
	case reason == "":
		return err
	case len(bodies) == 1:
		refused(0, engine.Result{Outcome: retry.Refused, Kind: kind, Reason: reason})
		return nil
	}
	half := len(bodies) / 2
	if err := e.put(ctx, path, bodies[:half], refused); err != nil {
		return err
	}
	return e.put(ctx, path, bodies[half:], func(n int, r engine.Result) { refused(half+n, r) })
}

// orNone is an error for FailureOf, which takes none.
func orNone(err error) error {
	if err == nil {
		return &engine.Failure{}
	}
	return err
}

// Count counts documents.
func (e *Engine) Count(ctx context.Context, edition string) (int64, error) {
	p, err := e.where(ctx, edition)
	if err == nil && p.index == "" {
		err = e.lost(edition)
	}
	if err != nil {
		return 0, err
	}
	n, err := e.documents(ctx, p.index)
	return n, engine.AsBlocked(err)
}

// fetched is a page of documents.
type fetched struct {
	Results []json.RawMessage `json:"results"`
	Total   int64             `json:"total"`
}

// page is the most documents that are fetched in one request.
const page = 500

// fetch reads documents by key, or some fields of them.
func (e *Engine) fetch(ctx context.Context, edition string, keys, names []string, each func(key string, doc json.RawMessage) error) error {
	path, err := e.path(ctx, edition)
	if err != nil {
		return err
	}
	for some := range slices.Chunk(keys, page) {
		quoted := make([]string, len(some))
		for i, key := range some {
			quoted[i] = quote(idOf(key))
		}
		question := map[string]any{"filter": idField + " IN [" + strings.Join(quoted, ", ") + "]", "limit": page}
		if names != nil {
			question["fields"] = names
		}
		var out fetched
		if err := e.do(ctx, http.MethodPost, path+"/documents/fetch", nil, question, &out); err != nil {
			return engine.AsBlocked(err)
		}
		for _, doc := range out.Results {
			if err := keyed(doc, each); err != nil {
				return err
			}
		}
	}
	return nil
}

func keyed(doc json.RawMessage, each func(key string, doc json.RawMessage) error) error {
	var id struct {
		ID string `json:"pingo_id"`
	}
	if err := json.Unmarshal(doc, &id); err != nil {
		return fmt.Errorf("a document of the engine cannot be read: %w", err)
	}
	return each(keyOf(id.ID), doc)
}

// Get reads documents by key.
func (e *Engine) Get(ctx context.Context, edition string, keys []string) (map[string]json.RawMessage, error) {
	found := map[string]json.RawMessage{}
	err := e.fetch(ctx, edition, keys, nil, func(key string, doc json.RawMessage) (err error) {
		_, found[key], err = Document(doc)
		return err
	})
	return found, err
}

func fingerprintOf(doc json.RawMessage) (string, error) {
	var d struct {
		Fingerprint any `json:"pingo_fingerprint"`
	}
	err := json.Unmarshal(doc, &d)
	text, _ := d.Fingerprint.(string) // empty where a document has none
	return text, err
}

// Fingerprints reads those of documents by key.
func (e *Engine) Fingerprints(ctx context.Context, edition string, keys []string) (map[string]string, error) {
	found := map[string]string{}
	err := e.fetch(ctx, edition, keys, []string{idField, definition.FingerprintField}, func(key string, doc json.RawMessage) (err error) {
		found[key], err = fingerprintOf(doc)
		return err
	})
	return found, err
}

// Scan reads all documents page by page. One that is deleted meanwhile may hide another one from this scan.
func (e *Engine) Scan(ctx context.Context, edition string, each func(key, fingerprint string) error) error {
	path, err := e.path(ctx, edition)
	if err != nil {
		return err
	}
	for offset := 0; ; offset += page {
		var out fetched
		err := e.do(ctx, http.MethodPost, path+"/documents/fetch", nil,
			map[string]any{"fields": []string{idField, definition.FingerprintField}, "limit": page, "offset": offset}, &out)
		if err != nil {
			return engine.AsBlocked(err)
		}
		for _, doc := range out.Results {
			err := keyed(doc, func(key string, doc json.RawMessage) error {
				fingerprint, err := fingerprintOf(doc)
				if err != nil {
					return err
				}
				return each(key, fingerprint)
			})
			if err != nil {
				return err
			}
		}
		if len(out.Results) < page || offset > math.MaxInt-page {
			return nil
		}
	}
}

// Document is a document as it was sent, with its key, from what an index holds.
func Document(stored []byte) (key string, doc []byte, err error) {
	var members map[string]json.RawMessage
	if err := json.Unmarshal(stored, &members); err != nil {
		return "", nil, err
	}
	var id string
	if err := json.Unmarshal(members[idField], &id); err != nil {
		return "", nil, fmt.Errorf("a document of the engine has no readable %s: %w", idField, err)
	}
	delete(members, "_rankingScore")
	for name := range members {
		if fields.IsAdded(name) || name == "_geo" {
			delete(members, name)
		}
	}
	doc, err = json.Marshal(members)
	return keyOf(id), doc, err
}
