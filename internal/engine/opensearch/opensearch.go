// Package opensearch is the engine of kind opensearch: servers that speak the HTTP
// interface which OpenSearch documents.
package opensearch

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/http"
	"net/url"
	"regexp"
	"slices"
	"sort"
	"strconv"
	"strings"
	"sync"
	"time"

	"pingo/internal/core/definition"
	"pingo/internal/core/document"
	"pingo/internal/core/retry"
	"pingo/internal/core/shape"
	"pingo/internal/engine"

	"github.com/tidwall/gjson"
)

// Engine is one server. Make one with Open.
type Engine struct {
	base *url.URL
	at   string // scheme, host and port, for people: a path may hold a secret
	user *url.Userinfo
	// headers are sent with every request.
	headers map[string]string
	client  *http.Client
	bodies  sync.Pool
	// made is when editions were last seen to be there, by name.
	made sync.Map
}

const requestTimeout = 30 * time.Second

// Kind is what there is to know of this kind of engine.
var Kind = engine.Kind{
	Name: "opensearch", Schemes: []string{"http", "https"},
	Keys: `{"headers": {"type": "object", "additionalProperties": {"type": "string"},
		"description": "Headers that Pingo sends with every request; values are usually ${NAME} or ${file:path}."}}`,
	Open:   func(c engine.Config) (engine.Engine, error) { return Open(c) },
	Limits: Limits, InPlace: InPlace, Recognize: recognize,
}

// Open prepares an engine at a URL, whose user and password are sent as basic
// credentials; it connects when it is first used.
func Open(c engine.Config) (*Engine, error) {
	u, err := url.Parse(c.URL)
	if err != nil {
		return nil, errors.New("the url of the engine cannot be read")
	}
	var options struct{ Headers map[string]string }
	if len(c.Options) > 0 {
		if err := json.Unmarshal(c.Options, &options); err != nil {
			return nil, fmt.Errorf("the options of the engine cannot be read: %w", err)
		}
	}
	e := &Engine{
		user:    u.User,
		headers: options.Headers,
		at:      u.Scheme + "://" + u.Host,
		base:    &url.URL{Scheme: u.Scheme, Host: u.Host, Path: strings.TrimSuffix(u.Path, "/")},
		client:  engine.HTTPClient(c, requestTimeout, 16),
	}
	e.bodies.New = func() any { return new(bytes.Buffer) }
	return e, nil
}

// Close gives connections back.
func (e *Engine) Close() { e.client.CloseIdleConnections() }

// answer is the part of the interface's error objects that matters here.
type answer struct {
	Error  json.RawMessage `json:"error"`
	Status int             `json:"status"`
}

type cause struct {
	Type     string `json:"type"`
	Reason   string `json:"reason"`
	CausedBy *cause `json:"caused_by"`
	// Roots say what a shard met, where Reason is only that shards failed.
	Roots []cause `json:"root_cause"`
}

// words are the whole of what the engine says, without saying anything twice. That shards
// failed says nothing: what they met does.
func (c *cause) words() string {
	said := c.Reason
	if len(c.Roots) > 0 && c.Roots[0].Reason != "" && c.Roots[0].Reason != c.Reason {
		if c.Type == "search_phase_execution_exception" {
			said = c.Roots[0].Reason
		} else {
			said += ": " + c.Roots[0].Reason
		}
	}
	for deeper := c.CausedBy; deeper != nil; deeper = deeper.CausedBy {
		if deeper.Reason != "" && !strings.Contains(said, deeper.Reason) {
			said += ": " + deeper.Reason
		}
	}
	return said
}

// do sends a request and decodes the answer into out, which may be nil, or bytes that take the answer as it came.
func (e *Engine) do(ctx context.Context, method, path string, query url.Values, body io.Reader, out any) error {
	u := *e.base
	u.Path += path
	u.RawQuery = query.Encode()
	request, err := http.NewRequestWithContext(ctx, method, u.String(), body)
	if err != nil {
		return err
	}
	if body != nil {
		request.Header.Set("Content-Type", "application/json")
		if strings.HasSuffix(path, "/_bulk") {
			request.Header.Set("Content-Type", "application/x-ndjson")
		}
	}
	for name, value := range e.headers {
		request.Header.Set(name, value)
	}
	if e.user != nil {
		password, _ := e.user.Password()
		request.SetBasicAuth(e.user.Username(), password)
	}
	response, err := e.client.Do(request)
	if err != nil {
		return engine.Unreachable(e.at, err)
	}
	defer response.Body.Close()
	defer io.Copy(io.Discard, io.LimitReader(response.Body, 1<<20))
	if kind := response.Header.Get("Content-Type"); response.StatusCode != http.StatusUnauthorized &&
		response.StatusCode != http.StatusRequestEntityTooLarge && !strings.Contains(kind, "json") {
		start, _ := io.ReadAll(io.LimitReader(response.Body, 200))
		f := failure(response.StatusCode)
		f.Outcome = notJSON(response.StatusCode)
		f.Message = fmt.Sprintf(
			"%s answered %s with %s instead of JSON (it begins %.60q): is the url really the engine's, without a proxy or a login page before it?",
			e.at,
			response.Status,
			orNothing(kind),
			strings.TrimSpace(string(start)),
		)
		return f
	}
	if response.StatusCode >= 300 {
		return e.failed(response)
	}
	if out == nil {
		return nil
	}
	if whole, is := out.(*[]byte); is {
		*whole, err = io.ReadAll(response.Body)
	} else {
		err = json.NewDecoder(response.Body).Decode(out)
	}
	if err != nil {
		return fmt.Errorf("reading the answer of %s to %s %s: %w", e.at, method, path, err)
	}
	return nil
}

// notJSON: a proxy in trouble passes by; a wrong address does not.
func notJSON(status int) retry.Outcome {
	if status == http.StatusTooManyRequests || status >= 500 || status == http.StatusRequestEntityTooLarge {
		return retry.Later
	}
	return retry.Blocked
}

func orNothing(kind string) string {
	if kind == "" {
		return "a body of no stated type"
	}
	return kind
}

func (e *Engine) failed(response *http.Response) error {
	var a answer
	body, err := io.ReadAll(io.LimitReader(response.Body, 1<<20))
	if err != nil {
		return engine.Unreachable(e.at, err)
	}
	c := cause{Reason: http.StatusText(response.StatusCode)}
	if json.Unmarshal(body, &a) == nil && a.Error != nil && json.Unmarshal(a.Error, &c) != nil {
		json.Unmarshal(a.Error, &c.Reason) // some errors are a plain text
	}
	f := failure(response.StatusCode)
	f.Outcome, f.Kind = classify(response.StatusCode, c.Type), c.Type
	switch response.StatusCode {
	case http.StatusUnauthorized:
		f.Message = fmt.Sprintf("%s refused the user or password: look at the url's user and password", e.at)
	case http.StatusRequestEntityTooLarge:
		f.Message = fmt.Sprintf(
			"%s takes no request of this size (413): its http.max_content_length, or the limit of a proxy before it, is lower",
			e.at,
		)
	case http.StatusForbidden:
		if c.Type == "cluster_block_exception" {
			f.Message = fmt.Sprintf("%s says %s: %s", e.at, c.words(), unblock)
			break
		}
		f.Message = fmt.Sprintf(
			"%s does not allow this user to do that (%s): give the user rights on the index and its editions",
			e.at,
			c.words(),
		)
	default:
		f.Message = fmt.Sprintf("%s says %s (%d)", e.at, c.words(), response.StatusCode)
		if advice := adviceOn(c.Type, c.words()); advice != "" {
			f.Message += ": " + advice
		}
	}
	return f
}

// deliveries is the alias that documents are sent to. A server that makes missing
// indices by itself would recreate a lost edition, with a guessed mapping; an alias
// that must exist is never made by itself.
func deliveries(edition string) string { return edition + "-write" }

// FinishFill lets the edition refresh by itself, and refreshes it now.
func (e *Engine) FinishFill(ctx context.Context, edition string, s *shape.Shape) error {
	var refresh any = refreshEvery
	if wanted, ok := indexSettings(s)["refresh_interval"]; ok {
		refresh = wanted
	}
	err := e.send(
		ctx,
		http.MethodPut,
		"/"+edition+"/_settings",
		map[string]any{"index": map[string]any{"refresh_interval": refresh}},
	)
	if err != nil {
		return err
	}
	return e.Refresh(ctx, edition)
}

// UpdateSettings takes dynamic settings into use, looks whether they are, and puts back what was when
// they are not.
func (e *Engine) UpdateSettings(ctx context.Context, edition string, s *shape.Shape) error {
	dynamic := map[string]any{}
	for name, value := range indexSettings(s) {
		if dynamicSettings[name] {
			dynamic[name] = value
		}
	}
	if len(dynamic) == 0 {
		return nil
	}
	put := func(settings map[string]any) error {
		return e.send(ctx, http.MethodPut, "/"+edition+"/_settings", map[string]any{"index": settings})
	}
	was, err := e.settings(ctx, edition)
	if err != nil {
		return err
	}
	if err := put(dynamic); err != nil {
		return err // it took none of them
	}
	is, err := e.settings(ctx, edition)
	if err != nil {
		return err
	}
	if dynamic["auto_expand_replicas"] != nil {
		delete(dynamic, "number_of_replicas") // the server changes it by itself then
	}
	before := map[string]any{}
	var wrong []string
	for _, name := range slices.Sorted(maps.Keys(dynamic)) {
		before[name] = was["index."+name] // none at all where it was not set
		wanted, err := json.Marshal(dynamic[name])
		if err != nil {
			return err
		}
		if now := fmt.Sprint(is["index."+name]); now != strings.Trim(string(wanted), `"`) {
			wrong = append(wrong, fmt.Sprintf("%s is %s instead of %s", name, now, wanted))
		}
	}
	if len(wrong) == 0 {
		return nil
	}
	if err := put(before); err != nil {
		return fmt.Errorf("putting settings back: %w", err)
	}
	return &engine.Failure{Outcome: retry.Blocked, Message: fmt.Sprintf(
		"%s took settings of %s and did not keep them, so they are as they were: %s",
		e.at,
		edition,
		strings.Join(wrong, "; "),
	)}
}

// Drop deletes an edition.
func (e *Engine) Drop(ctx context.Context, edition string) error {
	e.made.Delete(edition)
	return ignoreMissing(e.do(ctx, http.MethodDelete, "/"+edition, nil, nil, nil))
}

func ignoreMissing(err error) error {
	var f *statusFailure
	if errors.As(err, &f) && f.status == http.StatusNotFound {
		return nil
	}
	return err
}

func (e *Engine) send(ctx context.Context, method, path string, body any) error {
	b, err := json.Marshal(body)
	if err != nil {
		return err
	}
	return e.do(ctx, method, path, nil, bytes.NewReader(b), nil)
}

const noIndex = "index_not_found_exception"

func (e *Engine) noEdition(edition string) string {
	return fmt.Sprintf(
		"%s has no edition %s: it was deleted. Pingo fills another one", e.at, edition)
}

// lost reports whether documents must not be sent since they are deletions alone and the edition is not there. For
// these a server makes a missing index, of the alias's name, though the alias is required (OpenSearch 2.19 looks at that
// for documents only); it would have the alias's name, and acknowledge documents that are lost.
func (e *Engine) lost(ctx context.Context, edition string, docs []engine.Document) (bool, error) {
	if slices.ContainsFunc(docs, func(d engine.Document) bool { return d.Body != nil }) {
		return false, nil
	}
	if at, known := e.made.Load(edition); known && time.Since(at.(time.Time)) < madeFor {
		return false, nil
	}
	now := time.Now()
	editions, err := e.Resolve(ctx, deliveries(edition))
	there := slices.Contains(editions, edition)
	if there {
		e.made.Store(edition, now)
	}
	return err == nil && !there, err
}

// madeFor is how long it is believed that an edition is there.
const madeFor = 5 * time.Second

// Deliver sends one bulk request with external versions.
func (e *Engine) Deliver(ctx context.Context, edition string, docs []engine.Document) ([]engine.Result, error) {
	results := make([]engine.Result, len(docs))
	sent := make([]int, 0, len(docs))
	body := e.bodies.Get().(*bytes.Buffer)
	defer e.bodies.Put(body)
	body.Reset()
	for i := range docs {
		d := &docs[i]
		if len(d.Key) > longestKey { // one of them makes the server refuse the whole request
			results[i] = engine.Result{Outcome: retry.Refused, Kind: keyTooLong, Reason: fmt.Sprintf(
				"the key has %d bytes, and the engine takes %d", len(d.Key), longestKey)}
			if d.Body == nil { // there cannot be such a document
				results[i] = engine.Result{Outcome: retry.Done}
			}
			continue
		}
		sent = append(sent, i)
		action := "index"
		if d.Body == nil {
			action = "delete"
		}
		line := append(append(append(body.AvailableBuffer(), `{"`...), action...), `":{"_id":`...)
		line = append(document.AppendJSON(line, shape.Text, []byte(d.Key)), `,"version":`...)
		body.Write(append(strconv.AppendInt(line, d.Version, 10), `,"version_type":"external"}}`+"\n"...))
		if d.Body != nil {
			body.Write(d.Body)
			body.WriteByte('\n')
		}
	}
	if len(sent) == 0 {
		return results, nil
	}
	if lost, err := e.lost(ctx, edition, docs); err != nil || lost {
		for i := range results {
			results[i] = engine.Result{Outcome: retry.Blocked, Kind: noIndex, Reason: e.noEdition(edition)}
		}
		return results, err
	}
	var out []byte
	query := url.Values{"require_alias": {"true"}, "filter_path": {"items.*._id,items.*.status,items.*.error"}}
	if err := e.do(ctx, http.MethodPost, "/"+deliveries(edition)+"/_bulk", query, bytes.NewReader(body.Bytes()), &out); err != nil {
		return nil, err
	}
	items, err := itemsOf(out)
	if err != nil {
		return nil, fmt.Errorf("reading the answer of %s for %d documents: %w", e.at, len(sent), err)
	}
	if len(items) != len(sent) {
		return nil, fmt.Errorf("%s answered for %d documents of %d", e.at, len(items), len(sent))
	}
	for n, r := range items {
		i := sent[n]
		action := "index"
		if docs[i].Body == nil {
			action = "delete"
		}
		if r.action != action {
			return nil, fmt.Errorf("%s did not report the outcome of document %q", e.at, docs[i].Key)
		}
		if r.id != docs[i].Key {
			return nil, fmt.Errorf("%s answered for document %q in the place of %q", e.at, r.id, docs[i].Key)
		}
		kind := ""
		if r.cause != nil {
			kind = r.cause.Type
			results[i].Kind, results[i].Reason = kind, r.cause.words()
			if kind == noIndex {
				e.made.Delete(edition)
				results[i].Reason = e.noEdition(edition)
			} else if advice := adviceOn(kind, results[i].Reason); advice != "" {
				results[i].Reason += ": " + advice
			}
		}
		if results[i].Outcome = classify(r.status, kind); results[i].Outcome == retry.Newer {
			if m := currentVersion.FindStringSubmatch(results[i].Reason); m != nil {
				results[i].Held, _ = strconv.ParseInt(m[1], 10, 64) // an unreadable number is ignored
			}
		}
		if action == "delete" && r.status == http.StatusNotFound && r.cause == nil {
			results[i].Outcome = retry.Done // it was not there
		}
	}
	return results, nil
}

// currentVersion is how an engine says which version of a document it holds.
var currentVersion = regexp.MustCompile(`current version \[(\d{1,19})\]`)

// Count counts what searches can find.
func (e *Engine) Count(ctx context.Context, edition string) (int64, error) {
	var out struct {
		Count int64 `json:"count"`
	}
	return out.Count, e.do(ctx, http.MethodGet, "/"+edition+"/_count", nil, nil, &out)
}

// Get reads documents by key, in real time.
func (e *Engine) Get(ctx context.Context, edition string, keys []string) (map[string]json.RawMessage, error) {
	return e.stored(ctx, edition, keys, nil)
}

// Fingerprints reads those of documents by key, in real time.
func (e *Engine) Fingerprints(ctx context.Context, edition string, keys []string) (map[string]string, error) {
	docs, err := e.stored(ctx, edition, keys, url.Values{"_source_includes": {definition.FingerprintField}})
	if err != nil {
		return nil, err
	}
	found := make(map[string]string, len(docs))
	for key, doc := range docs {
		found[key] = gjson.GetBytes(doc, definition.FingerprintField).String()
	}
	return found, nil
}

// stored reads documents by key, or what a query asks for of them.
func (e *Engine) stored(
	ctx context.Context,
	edition string,
	keys []string,
	query url.Values,
) (map[string]json.RawMessage, error) {
	b, err := json.Marshal(map[string]any{"ids": keys})
	if err != nil {
		return nil, err
	}
	var out struct {
		Docs []struct {
			ID     string          `json:"_id"`
			Found  bool            `json:"found"`
			Source json.RawMessage `json:"_source"`
		} `json:"docs"`
	}
	if err := e.do(ctx, http.MethodPost, "/"+edition+"/_mget", query, bytes.NewReader(b), &out); err != nil {
		return nil, err
	}
	found := map[string]json.RawMessage{}
	for _, d := range out.Docs {
		if d.Found {
			found[d.ID] = d.Source
		}
	}
	return found, nil
}

// scanPage is how many documents a page of a scan has.
const scanPage = 5000

// keptFor is how long the server is asked to wait for whoever asks for the next page; it may be told to wait for less.
var keptFor = []string{"2m", "30s", "5s"}

// waitsLess reports whether a scan failed because the server refuses to wait that long.
func waitsLess(err error) bool {
	return err != nil && strings.Contains(err.Error(), "search.max_keep_alive")
}

// Scan walks all documents by a scroll, which it opens after a refresh. A scroll in the order
// of the index lists every document once, on any number of shards, and takes no memory for
// sorting; a point in time in that order does not list all, and one in the order of ids has all
// ids loaded into the server's memory.
func (e *Engine) Scan(ctx context.Context, edition string, each func(key, fingerprint string) error) error {
	if err := e.Refresh(ctx, edition); err != nil {
		return err
	}
	var page searchAnswer
	var keep string
	var err error
	for _, keep = range keptFor {
		err = e.ask(ctx, "/"+edition+"/_search", url.Values{"scroll": {keep}}, map[string]any{
			"size": scanPage, "sort": []string{"_doc"}, "track_total_hits": true,
			"_source": []string{definition.FingerprintField},
		}, &page)
		if !waitsLess(err) {
			break
		}
	}
	if err != nil {
		return err
	}
	defer func() {
		_ = e.send(
			context.WithoutCancel(ctx),
			http.MethodDelete,
			"/_search/scroll",
			map[string]any{"scroll_id": page.ScrollID},
		)
	}() // it ends by itself, too
	total, listed := page.Hits.Total.Value, int64(0)
	for {
		if page.TimedOut || page.Shards.Failed > 0 {
			return fmt.Errorf(
				"%s listed a part of %s only (%d of its shards failed): look at the cluster's health",
				e.at,
				edition,
				page.Shards.Failed,
			)
		}
		if len(page.Hits.Hits) == 0 {
			break
		}
		for _, h := range page.Hits.Hits {
			var fields map[string]string
			if err := json.Unmarshal(h.Source, &fields); err != nil {
				return fmt.Errorf("document %s has no readable fingerprint: %w", h.ID, err)
			}
			if err := each(h.ID, fields[definition.FingerprintField]); err != nil {
				return err
			}
		}
		if listed += int64(len(page.Hits.Hits)); listed > total {
			return fmt.Errorf("%s lists the same documents of %s again and again", e.at, edition)
		}
		next := searchAnswer{}
		from := map[string]any{"scroll": keep, "scroll_id": page.ScrollID}
		if err := e.ask(ctx, "/_search/scroll", nil, from, &next); err != nil {
			return err
		}
		page = next
	}
	if listed != total {
		return fmt.Errorf(
			"%s listed %d documents of %s, which has %d: look at the cluster's health",
			e.at,
			listed,
			edition,
			total,
		)
	}
	return nil
}

// ask sends a question as a POST request.
func (e *Engine) ask(ctx context.Context, path string, query url.Values, question, out any) error {
	b, err := json.Marshal(question)
	if err != nil {
		return err
	}
	return e.do(ctx, http.MethodPost, path, query, bytes.NewReader(b), out)
}

type searchAnswer struct {
	ScrollID string `json:"_scroll_id"`
	TimedOut bool   `json:"timed_out"`
	Shards   struct {
		Failed int `json:"failed"`
	} `json:"_shards"`
	Hits struct {
		Total struct {
			Value int64 `json:"value"`
		} `json:"total"`
		Hits []struct {
			ID     string            `json:"_id"`
			Score  float64           `json:"_score"`
			Source json.RawMessage   `json:"_source"`
			Sort   []json.RawMessage `json:"sort"`
		} `json:"hits"`
	} `json:"hits"`
	Aggregations map[string]struct {
		Buckets []struct {
			Key       any    `json:"key"`
			KeyText   string `json:"key_as_string"`
			Documents int64  `json:"doc_count"`
		} `json:"buckets"`
	} `json:"aggregations"`
}

// Switch moves the alias in one atomic request.
func (e *Engine) Switch(ctx context.Context, name, edition string) error {
	now, err := e.Resolve(ctx, name)
	if err != nil {
		return err
	}
	actions := []any{}
	for _, old := range now {
		if old == name {
			return &engine.Failure{
				Outcome: retry.Blocked,
				Message: fmt.Sprintf(
					"%s has an index of the name %s that Pingo did not make, so the name cannot point at %s: rename or delete it, or give the index another name",
					e.at,
					name,
					edition,
				),
			}
		}
		if old != edition {
			actions = append(actions, map[string]any{"remove": map[string]any{"index": old, "alias": name}})
		}
	}
	actions = append(actions, map[string]any{"add": map[string]any{"index": edition, "alias": name}})
	return e.send(ctx, http.MethodPost, "/_aliases", map[string]any{"actions": actions})
}

// TakeOver deletes the index of a public name and makes it an alias, in one atomic request.
func (e *Engine) TakeOver(ctx context.Context, name, edition string) error {
	now, err := e.Resolve(ctx, name)
	if err != nil {
		return err
	}
	if !slices.Equal(now, []string{name}) {
		return e.Switch(ctx, name, edition)
	}
	return e.send(ctx, http.MethodPost, "/_aliases", map[string]any{"actions": []any{
		map[string]any{"remove_index": map[string]any{"index": name}},
		map[string]any{"add": map[string]any{"index": edition, "alias": name}},
	}})
}

// Resolve reads where the alias points. An index of that very name answers for itself.
func (e *Engine) Resolve(ctx context.Context, name string) ([]string, error) {
	var out map[string]json.RawMessage
	if err := ignoreMissing(e.do(ctx, http.MethodGet, "/"+name, nil, nil, &out)); err != nil {
		return nil, err
	}
	editions := make([]string, 0, len(out))
	for edition := range out {
		editions = append(editions, edition)
	}
	sort.Strings(editions)
	return editions, nil
}
