// Package client speaks Pingo's API.
package client

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"syscall"
	"time"

	"pingo/internal/api"
)

// Client talks to one service.
type Client struct {
	// URL of the service, and a token with the role that the calls need.
	URL, Token string
}

func (c *Client) call(ctx context.Context, method, path string, query url.Values, in, out any) error {
	var body io.Reader
	if in != nil {
		b, err := json.Marshal(in)
		if err != nil {
			return err
		}
		body = bytes.NewReader(b)
	}
	target := strings.TrimSuffix(c.URL, "/") + path
	if len(query) > 0 {
		target += "?" + query.Encode()
	}
	request, err := http.NewRequestWithContext(ctx, method, target, body)
	if err != nil {
		return fmt.Errorf(
			"the service's URL %q cannot be used: set PINGO_URL or --url to something like http://127.0.0.1:7464",
			c.URL,
		)
	}
	request.Header.Set("Content-Type", "application/json")
	if c.Token != "" {
		request.Header.Set("Authorization", "Bearer "+c.Token)
	}
	response, err := http.DefaultClient.Do(request)
	if errors.Is(err, syscall.ECONNREFUSED) {
		return fmt.Errorf("no pingo serve answers at %s: start one, or set PINGO_URL or --url", c.URL)
	}
	if err != nil {
		return err
	}
	defer response.Body.Close()
	if response.StatusCode >= 300 {
		return problem(c.URL, response)
	}
	if out == nil {
		return nil
	}
	if err := json.NewDecoder(response.Body).Decode(out); err != nil {
		return fmt.Errorf("%s does not answer as a pingo serve does: look at PINGO_URL or --url", c.URL)
	}
	return nil
}

func problem(base string, response *http.Response) error {
	p := &api.Problem{}
	body, err := io.ReadAll(io.LimitReader(response.Body, 4<<20))
	if err != nil || !strings.Contains(response.Header.Get("Content-Type"), "problem+json") ||
		json.Unmarshal(body, p) != nil {
		return fmt.Errorf(
			"%s answered %s, and not as a pingo serve does: look at PINGO_URL or --url",
			base,
			response.Status,
		)
	}
	return p
}

// Status is what goes on now.
func (c *Client) Status(ctx context.Context) (*api.Status, error) {
	out := &api.Status{}
	return out, c.call(ctx, http.MethodGet, "/api/status", nil, nil, out)
}

// Check plans a definition, or only the named indexes of it.
func (c *Client) Check(ctx context.Context, def []api.File, indexes ...string) (*api.Plan, error) {
	return c.CheckAfter(ctx, def, nil, indexes...)
}

// CheckAfter is Check for the schemas that sources will have after migrations.
func (c *Client) CheckAfter(ctx context.Context, def []api.File, migrations map[string]api.File, indexes ...string) (*api.Plan, error) {
	out := &api.Plan{}
	body := api.Files{Files: def, Indexes: indexes, After: migrations}
	return out, c.call(ctx, http.MethodPost, "/api/definition/check", nil, body, out)
}

// PlanDrop says what dropping an index would delete.
func (c *Client) PlanDrop(ctx context.Context, index string) (*api.IndexRemoval, error) {
	out := &api.IndexRemoval{}
	return out, c.call(ctx, http.MethodGet, "/api/indexes/"+url.PathEscape(index)+"/removal", nil, nil, out)
}

// Drop drops an index: its definition, its editions, its public name, and the capture that only it needs.
func (c *Client) Drop(ctx context.Context, index string) (*api.IndexRemoval, error) {
	out := &api.IndexRemoval{}
	return out, c.call(ctx, http.MethodDelete, "/api/indexes/"+url.PathEscape(index), nil, nil, out)
}

// PlanInForce is the plan of the definition in force: its tables, fields and samples.
func (c *Client) PlanInForce(ctx context.Context) (*api.Plan, error) {
	out := &api.Plan{}
	return out, c.call(ctx, http.MethodGet, "/api/definition/plan", nil, nil, out)
}

// Definition is a version of the definition as it was written, the one in force for 0.
func (c *Client) Definition(ctx context.Context, version int) (*api.DefinitionVersion, error) {
	path := "/api/definition"
	if version > 0 {
		path = fmt.Sprintf("/api/definition/versions/%d", version)
	}
	out := &api.DefinitionVersion{}
	return out, c.call(ctx, http.MethodGet, path, nil, nil, out)
}

// DefinitionVersions lists the versions of the definition, the newest first, without their files.
func (c *Client) DefinitionVersions(ctx context.Context) ([]api.DefinitionVersion, error) {
	out := []api.DefinitionVersion{}
	return out, c.call(ctx, http.MethodGet, "/api/definition/versions", nil, nil, &out)
}

// Apply makes a definition the one in force. accept names the indexes whose guarded
// changes are intended.
func (c *Client) Apply(ctx context.Context, def []api.File, accept ...string) (*api.Applied, error) {
	return c.ApplyIndexes(ctx, def, nil, accept...)
}

// ApplyIndexes takes the named indexes from a definition, all for none, and leaves the others as they are.
func (c *Client) ApplyIndexes(ctx context.Context, def []api.File, indexes []string, accept ...string) (*api.Applied, error) {
	out := &api.Applied{}
	body := api.Files{Files: def, Indexes: indexes, Accept: accept}
	return out, c.call(ctx, http.MethodPost, "/api/definition/apply", nil, body, out)
}

// CaptureScript is what is installed in a source, or would be by applying a definition.
// An empty source is the only one, here and below.
func (c *Client) CaptureScript(ctx context.Context, source string, def []api.File) (string, error) {
	var out api.Script
	if len(def) > 0 {
		err := c.call(
			ctx,
			http.MethodPost,
			"/api/definition/capture-script",
			nil,
			api.Files{Files: def, Source: source},
			&out,
		)
		return out.Script, err
	}
	err := c.call(ctx, http.MethodGet, "/api/capture", url.Values{"source": {source}}, nil, &out)
	return out.Script, err
}

// InstallCapture installs capture where it is missing.
func (c *Client) InstallCapture(ctx context.Context, source string) error {
	return c.call(ctx, http.MethodPost, "/api/capture", url.Values{"source": {source}}, nil, nil)
}

// Disconnect makes Pingo close its connections to a source for a time.
func (c *Client) Disconnect(ctx context.Context, source string, lasts time.Duration) (*api.Disconnected, error) {
	out := &api.Disconnected{}
	body := api.Disconnect{Seconds: int(lasts.Round(time.Second).Seconds())}
	return out, c.call(ctx, http.MethodPost, "/api/sources/"+url.PathEscape(source)+"/disconnect", nil, body, out)
}

// Connect ends Disconnect before its time.
func (c *Client) Connect(ctx context.Context, source string) error {
	return c.call(ctx, http.MethodDelete, "/api/sources/"+url.PathEscape(source)+"/disconnect", nil, nil, nil)
}

// PlanRemoval says what removing capture from a source would do.
func (c *Client) PlanRemoval(ctx context.Context, source string) (*api.CaptureRemoval, error) {
	out := &api.CaptureRemoval{}
	return out, c.call(ctx, http.MethodGet, "/api/capture/removal", url.Values{"source": {source}}, nil, out)
}

// RemoveCapture takes capture out of a source.
func (c *Client) RemoveCapture(ctx context.Context, source string) (*api.CaptureRemoval, error) {
	out := &api.CaptureRemoval{}
	return out, c.call(ctx, http.MethodDelete, "/api/capture", url.Values{"source": {source}}, nil, out)
}

// Search looks for documents in an index.
func (c *Client) Search(ctx context.Context, index string, q api.Query) (*api.Hits, error) {
	params := url.Values{
		"q":      {q.Text},
		"limit":  {fmt.Sprint(q.Limit)},
		"filter": q.Filters,
		"sort":   q.Sort,
		"facet":  q.Facets,
	}
	if q.Any {
		params.Set("any", "true")
	}
	if q.Edition != "" {
		params.Set("edition", q.Edition)
	}
	out := &api.Hits{}
	return out, c.call(ctx, http.MethodGet, "/api/indexes/"+url.PathEscape(index)+"/search", params, nil, out)
}

// Wait waits until searches of an index find what was committed before, at most a number of seconds.
func (c *Client) Wait(ctx context.Context, index string, seconds int) (*api.Waited, error) {
	out := &api.Waited{}
	return out, c.call(ctx, http.MethodGet, "/api/indexes/"+url.PathEscape(index)+"/wait",
		url.Values{"seconds": {strconv.Itoa(seconds)}}, nil, out)
}

// Leftovers lists the editions in the engines that the records do not know.
func (c *Client) Leftovers(ctx context.Context) ([]api.Leftover, error) {
	var out []api.Leftover
	return out, c.call(ctx, http.MethodGet, "/api/leftovers", nil, nil, &out)
}

// RemoveLeftover deletes one of them.
func (c *Client) RemoveLeftover(ctx context.Context, engine, edition string) error {
	return c.call(
		ctx,
		http.MethodDelete,
		"/api/leftovers/"+url.PathEscape(engine)+"/"+url.PathEscape(edition),
		nil,
		nil,
		nil,
	)
}

// Sample previews the first documents of an index.
func (c *Client) Sample(ctx context.Context, index string, n int) ([]api.Preview, error) {
	var out []api.Preview
	err := c.call(
		ctx,
		http.MethodGet,
		"/api/indexes/"+url.PathEscape(index)+"/sample",
		url.Values{"limit": {fmt.Sprint(n)}},
		nil,
		&out,
	)
	return out, err
}

// Preview builds a document and fetches the one in the engine.
func (c *Client) Preview(ctx context.Context, index, key string) (*api.Preview, error) {
	out := &api.Preview{}
	return out, c.call(
		ctx,
		http.MethodGet,
		"/api/indexes/"+url.PathEscape(index)+"/preview/"+url.PathEscape(key),
		nil,
		nil,
		out,
	)
}

// TraceChange tells which documents a change of a row would touch; an empty source is
// the only one.
func (c *Client) TraceChange(ctx context.Context, source, table, key string) (*api.ChangeTrace, error) {
	if source == "" {
		source = "-"
	}
	var t api.ChangeTrace
	return &t, c.call(
		ctx,
		http.MethodGet,
		"/api/sources/"+url.PathEscape(source)+"/trace",
		url.Values{"table": {table}, "key": {key}},
		nil,
		&t,
	)
}

// Recent lists the last changes of a source, newest first, with the outcome of each.
func (c *Client) Recent(ctx context.Context, source string) ([]api.RecentChange, error) {
	var list []api.RecentChange
	return list, c.call(ctx, http.MethodGet, "/api/sources/"+url.PathEscape(source)+"/changes", nil, nil, &list)
}

// History says how an index was over the last minutes, oldest first.
func (c *Client) History(ctx context.Context, index string, minutes int) ([]api.HistoryPoint, error) {
	var list []api.HistoryPoint
	return list, c.call(
		ctx,
		http.MethodGet,
		"/api/indexes/"+url.PathEscape(index)+"/history",
		url.Values{"minutes": {strconv.Itoa(minutes)}},
		nil,
		&list,
	)
}

// Failed lists documents that the engine refused, those of one cause unless it is empty.
func (c *Client) Failed(ctx context.Context, index, cause string) ([]api.FailedDocument, error) {
	var out []api.FailedDocument
	err := c.call(
		ctx,
		http.MethodGet,
		"/api/indexes/"+url.PathEscape(index)+"/failed",
		url.Values{"cause": {cause}},
		nil,
		&out,
	)
	return out, err
}

// FailedGroups gathers failed documents by cause, of all indexes when none is named.
func (c *Client) FailedGroups(ctx context.Context, index string) ([]api.FailedGroup, error) {
	var out []api.FailedGroup
	err := c.call(ctx, http.MethodGet, "/api/failed", url.Values{"index": {index}}, nil, &out)
	return out, err
}

// FailedDocument tells all there is to know of a failed document.
func (c *Client) FailedDocument(ctx context.Context, index, key string) (*api.FailedDetail, error) {
	out := &api.FailedDetail{}
	return out, c.call(
		ctx,
		http.MethodGet,
		"/api/indexes/"+url.PathEscape(index)+"/failed/"+url.PathEscape(key),
		nil,
		nil,
		out,
	)
}

// Reindex does something to the reindex of an index.
func (c *Client) Reindex(ctx context.Context, index string, action api.ReindexAction) (*api.Reindexed, error) {
	out := &api.Reindexed{}
	return out, c.call(ctx, http.MethodPost, ofIndex(index, "reindex"), nil, action, out)
}

// Runs tells of the editions of an index, the newest first.
func (c *Client) Runs(ctx context.Context, index string) (out []api.Run, err error) {
	err = c.call(ctx, http.MethodGet, ofIndex(index, "reindex"), nil, nil, &out)
	return out, err
}

// Drift tells what is known of the drift of an index: the first of those differences that stand of a kind and
// a cause, each of any when empty.
func (c *Client) Drift(ctx context.Context, index, kind, cause string, limit int) (*api.Drift, error) {
	out := &api.Drift{}
	q := url.Values{"kind": {kind}, "cause": {cause}, "limit": {strconv.Itoa(limit)}}
	return out, c.call(ctx, http.MethodGet, ofIndex(index, "drift"), q, nil, out)
}

// AskDrift asks for a check or a repair of an index, or stops one.
func (c *Client) AskDrift(ctx context.Context, index string, action api.DriftAction) (*api.DriftOrder, error) {
	out := &api.DriftOrder{}
	return out, c.call(ctx, http.MethodPost, ofIndex(index, "drift"), nil, action, out)
}

// DriftOrder tells of a check or a repair.
func (c *Client) DriftOrder(ctx context.Context, index string, id int64) (*api.DriftOrder, error) {
	out := &api.DriftOrder{}
	return out, c.call(ctx, http.MethodGet, ofIndex(index, "drift/"+strconv.FormatInt(id, 10)), nil, nil, out)
}

// Trace says why a record is, or is not, in an index as it is.
func (c *Client) Trace(ctx context.Context, index, key string) (*api.Traced, error) {
	out := &api.Traced{}
	return out, c.call(ctx, http.MethodGet, ofIndex(index, "trace/"+url.PathEscape(key)), nil, nil, out)
}

// Estimate estimates the cost of a refill of an index.
func (c *Client) Estimate(ctx context.Context, index string) (*api.Estimate, error) {
	out := &api.Estimate{}
	return out, c.call(ctx, http.MethodGet, ofIndex(index, "reindex/estimate"), nil, nil, out)
}

// Expect runs the searches that the definition expects something of.
func (c *Client) Expect(ctx context.Context, index string) (*api.Expected, error) {
	out := &api.Expected{}
	return out, c.call(ctx, http.MethodGet, ofIndex(index, "expect"), nil, nil, out)
}

// Compare compares documents of two editions of an index, those of at most a number of rows.
func (c *Client) Compare(ctx context.Context, index string, rows int) (*api.Comparison, error) {
	out := &api.Comparison{}
	return out, c.call(
		ctx,
		http.MethodGet,
		ofIndex(index, "compare"),
		url.Values{"rows": {strconv.Itoa(rows)}},
		nil,
		out,
	)
}

// Export tells all that it takes to leave Pingo.
func (c *Client) Export(ctx context.Context) (*api.Export, error) {
	out := &api.Export{}
	return out, c.call(ctx, http.MethodGet, "/api/export", nil, nil, out)
}

func ofIndex(index, what string) string { return "/api/indexes/" + url.PathEscape(index) + "/" + what }

// RetryFailed has failed documents built and sent again. It returns how many.
func (c *Client) RetryFailed(ctx context.Context, index string, which api.FailedSelection) (int, error) {
	return c.treatFailed(ctx, "retry", index, which)
}

// DismissFailed forgets failed documents that were not accepted. It returns how many.
func (c *Client) DismissFailed(ctx context.Context, index string, which api.FailedSelection) (int, error) {
	return c.treatFailed(ctx, "dismiss", index, which)
}

func (c *Client) treatFailed(ctx context.Context, how, index string, which api.FailedSelection) (int, error) {
	var out api.DocumentCount
	err := c.call(ctx, http.MethodPost, "/api/indexes/"+url.PathEscape(index)+"/failed/"+how, nil, which, &out)
	return out.Documents, err
}

// Receipts lists the outcomes of the events sent to a source, the newest first. An outcome lists
// those with it alone, and a number (0: none) those below it.
func (c *Client) Receipts(
	ctx context.Context,
	source, outcome string,
	below int64,
	n int,
) ([]api.Receipt, error) {
	query := url.Values{"limit": {strconv.Itoa(n)}}
	if outcome != "" {
		query.Set("outcome", outcome)
	}
	if below > 0 {
		query.Set("below", strconv.FormatInt(below, 10))
	}
	var out []api.Receipt
	err := c.call(ctx, http.MethodGet, "/api/sources/"+url.PathEscape(source)+"/receipts", query, nil, &out)
	return out, err
}

// HeldRecords says what is held of each record that is sent to a source.
func (c *Client) HeldRecords(ctx context.Context, source string) ([]api.HeldRecord, error) {
	var out []api.HeldRecord
	err := c.call(ctx, http.MethodGet, "/api/sources/"+url.PathEscape(source)+"/records", nil, nil, &out)
	return out, err
}

// SendEvent has the service sign a body, and sends it as a sender would.
func (c *Client) SendEvent(
	ctx context.Context,
	source, path, event, contentType string,
	body []byte,
) (*api.HookReply, error) {
	var signed api.Signed
	err := c.call(
		ctx,
		http.MethodPost,
		"/api/sources/"+url.PathEscape(source)+"/sign",
		nil,
		api.Sign{Event: event, Body: string(body)},
		&signed,
	)
	if err != nil {
		return nil, err
	}
	target := strings.TrimSuffix(c.URL, "/") + "/hooks/" + url.PathEscape(source) + path
	request, err := http.NewRequestWithContext(ctx, http.MethodPost, target, bytes.NewReader(body))
	if err != nil {
		return nil, err
	}
	request.Header.Set("Content-Type", contentType)
	for name, value := range signed.Headers {
		request.Header.Set(name, value)
	}
	response, err := http.DefaultClient.Do(request)
	if err != nil {
		return nil, err
	}
	defer response.Body.Close()
	if response.StatusCode >= 300 && strings.Contains(response.Header.Get("Content-Type"), "problem+json") {
		return nil, problem(c.URL, response)
	}
	out := &api.HookReply{}
	return out, json.NewDecoder(response.Body).Decode(out)
}

// Load takes rows of a file into a record of a source.
func (c *Client) Load(ctx context.Context, source, record string, rows []api.LoadedRow) (*api.Loaded, error) {
	out := &api.Loaded{}
	return out, c.call(ctx, http.MethodPost, recordPath(source, record)+"/load", nil, api.Load{Rows: rows}, out)
}

// BeginListing begins the load of all records of a name, and EndListing deletes those that were not
// in it; it returns how many.
func (c *Client) BeginListing(ctx context.Context, source, record string) (*api.LoadBegun, error) {
	out := &api.LoadBegun{}
	return out, c.call(ctx, http.MethodPost, recordPath(source, record)+"/listing", nil, nil, out)
}

// EndListing ends what BeginListing began.
func (c *Client) EndListing(ctx context.Context, source string, begun *api.LoadBegun) (int, error) {
	var out api.DocumentCount
	err := c.call(ctx, http.MethodDelete, recordPath(source, begun.Record)+"/listing", nil, begun, &out)
	return out.Documents, err
}

func recordPath(source, record string) string {
	return "/api/sources/" + url.PathEscape(source) + "/records/" + url.PathEscape(record)
}

// Tokens lists all tokens.
func (c *Client) Tokens(ctx context.Context) ([]api.Token, error) {
	var out []api.Token
	err := c.call(ctx, http.MethodGet, "/api/tokens", nil, nil, &out)
	return out, err
}

// CreateToken makes a token, which is shown this once. It never expires when no time is given.
func (c *Client) CreateToken(ctx context.Context, name, role string, expires *time.Time) (*api.CreatedToken, error) {
	out := &api.CreatedToken{}
	return out, c.call(ctx, http.MethodPost, "/api/tokens", nil, api.NewToken{Name: name, Role: role, ExpiresAt: expires}, out)
}

// RemoveToken takes a token back.
func (c *Client) RemoveToken(ctx context.Context, name string) error {
	return c.call(ctx, http.MethodDelete, "/api/tokens/"+url.PathEscape(name), nil, nil, nil)
}

// Sessions lists who is signed in to the console.
func (c *Client) Sessions(ctx context.Context) ([]api.OpenSession, error) {
	var out []api.OpenSession
	err := c.call(ctx, http.MethodGet, "/api/sessions", nil, nil, &out)
	return out, err
}

// EndSession ends a session of the console.
func (c *Client) EndSession(ctx context.Context, id int64) error {
	return c.call(ctx, http.MethodDelete, fmt.Sprint("/api/sessions/", id), nil, nil, nil)
}
