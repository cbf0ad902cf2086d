// Package tasks is the engine of kind tasks: servers that answer each write with a numbered task, and carry out the tasks of
// an index in order. An edition is an index, and the public name is an index that exchanges its content with an edition's.
package tasks

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"regexp"
	"strings"
	"sync"
	"time"

	"pingo/internal/core/retry"
	"pingo/internal/core/shape"
	"pingo/internal/engine"
)

// Engine is one server. Make one with Open.
type Engine struct {
	base    *url.URL
	at      string // scheme, host and port, for people: a path may hold a secret
	headers map[string]string
	client  *http.Client

	mu sync.Mutex // guards what follows
	// places are the indexes that editions were found in, since these are exchanged.
	places map[string]place
	// layouts are those of editions.
	layouts map[string]*layout
}

const requestTimeout = 30 * time.Second

// Kind is what there is to know of this kind of engine.
var Kind = engine.Kind{
	Name: "tasks", Schemes: []string{"http", "https"},
	Keys: `{"key": {"type": "string", "description": "The server's key, which Pingo sends as a bearer token. Usually ${NAME} or ${file:path}."},
		"headers": {"type": "object", "additionalProperties": {"type": "string"},
		"description": "Headers that Pingo sends with every request; values are usually ${NAME} or ${file:path}."}}`,
	Open:   func(c engine.Config) (engine.Engine, error) { return Open(c) },
	Limits: Limits, InPlace: InPlace, Recognize: recognize,
	Leaves: "the index pingo_editions: DELETE /indexes/pingo_editions. An edition that is live is in the index of the public name",
}

// Open prepares an engine at a URL; it connects when it is first used.
func Open(c engine.Config) (*Engine, error) {
	u, err := url.Parse(c.URL)
	if err != nil {
		return nil, errors.New("the url of the engine cannot be read")
	}
	var options struct {
		Key     string
		Headers map[string]string
	}
	if len(c.Options) > 0 {
		if err := json.Unmarshal(c.Options, &options); err != nil {
			return nil, fmt.Errorf("the options of the engine cannot be read: %w", err)
		}
	}
	headers := map[string]string{}
	if options.Key != "" {
		headers["Authorization"] = "Bearer " + options.Key
	}
	for name, value := range options.Headers {
		headers[name] = value
	}
	return &Engine{
		base:    &url.URL{Scheme: u.Scheme, Host: u.Host, Path: strings.TrimSuffix(u.Path, "/")},
		at:      u.Scheme + "://" + u.Host,
		headers: headers,
		client:  engine.HTTPClient(c, requestTimeout, 32),
		places:  map[string]place{},
		layouts: map[string]*layout{},
	}, nil
}

// Close gives connections back.
func (e *Engine) Close() { e.client.CloseIdleConnections() }

// statusFailure is a failure with the status of the answer and the server's code for it.
type statusFailure struct {
	engine.Failure
	status int
}

func (f *statusFailure) Unwrap() error { return &f.Failure }

// apiError is how the server says what is wrong, with a request or a task.
type apiError struct {
	Message string `json:"message"`
	Code    string `json:"code"`
}

// do sends a request with a JSON body, nil for none, and decodes the answer into out, which may be nil.
func (e *Engine) do(ctx context.Context, method, path string, query url.Values, body, out any) error {
	var b []byte
	if raw, is := body.([]byte); is {
		b = raw
	} else if body != nil {
		var err error
		if b, err = json.Marshal(body); err != nil {
			return err
		}
	}
	u := *e.base
	u.Path += path
	u.RawQuery = query.Encode()
	request, err := http.NewRequestWithContext(ctx, method, u.String(), bytes.NewReader(b))
	if err != nil {
		return err
	}
	if body != nil {
		request.Header.Set("Content-Type", "application/json")
	}
	for name, value := range e.headers {
		request.Header.Set(name, value)
	}
	response, err := e.client.Do(request)
	if err != nil {
		return engine.Unreachable(e.at, err)
	}
	defer response.Body.Close()
	answer, err := io.ReadAll(response.Body)
	if err != nil {
		return engine.Unreachable(e.at, err)
	}
	if response.StatusCode >= 300 {
		return e.failed(response.StatusCode, response.Header.Get("Content-Type"), answer)
	}
	if out == nil {
		return nil
	}
	if err := json.Unmarshal(answer, out); err != nil {
		return fmt.Errorf("reading the answer of %s to %s %s: %w", e.at, method, path, err)
	}
	return nil
}

func (e *Engine) failed(status int, kind string, said []byte) error {
	var a apiError
	f := &statusFailure{engine.Failure{Outcome: retry.Later}, status}
	f.Busy, f.TooLarge = status == http.StatusTooManyRequests, status == http.StatusRequestEntityTooLarge
	if json.Unmarshal(said, &a) != nil || a.Message == "" {
		if status < 500 && !f.Busy && !f.TooLarge {
			f.Outcome = retry.Blocked
		}
		f.Message = fmt.Sprintf("%s answered %d with %q instead of a JSON object with a message (it begins %.60q): is the url really the engine's, without a proxy or a login page before it?",
			e.at, status, kind, strings.TrimSpace(string(said)))
		return f
	}
	f.Kind, f.Message = a.Code, fmt.Sprintf("%s says %s (%s)", e.at, a.Message, a.Code)
	switch {
	case status == http.StatusUnauthorized || status == http.StatusForbidden:
		f.Outcome = retry.Blocked
		f.Message += ": check the engine's key, and which actions and indexes it is for"
	case status == http.StatusNotFound, status == http.StatusConflict:
		f.Outcome = retry.Blocked
	case status == http.StatusBadRequest, status == http.StatusUnprocessableEntity:
		f.Outcome = retry.Refused
	}
	return f
}

// missing reports whether the server has no such index or document.
func missing(err error) bool {
	var f *statusFailure
	return errors.As(err, &f) && f.status == http.StatusNotFound && (f.Kind == "index_not_found" || f.Kind == "document_not_found")
}

func ignoreMissing(err error) error {
	if missing(err) {
		return nil
	}
	return err
}

// task is a write that the server carries out later.
type task struct {
	UID int64 `json:"taskUid"`
}

// outcome is what the server says of a task.
type outcome struct {
	Status string    `json:"status"`
	Error  *apiError `json:"error"`
}

// taskFailure is a task that failed.
type taskFailure struct{ apiError }

func (t *taskFailure) Error() string { return t.Message }

// The intervals between two looks at a task: they grow, since a task that takes long takes longer.
const (
	firstLook = 2 * time.Millisecond
	lastLook  = 250 * time.Millisecond
)

// write sends a request that is answered by a task, and returns when the task has ended: nil if it succeeded. A task that no
// one waits for any longer is canceled as far as that is still possible. Those that are not, and those whose number is not
// known, are carried out before later ones of the same index.
func (e *Engine) write(ctx context.Context, method, path string, query url.Values, body any) error {
	var t task
	if err := e.do(ctx, method, path, query, body, &t); err != nil {
		return err
	}
	return e.await(ctx, t.UID)
}

func (e *Engine) await(ctx context.Context, uid int64) error {
	for wait := firstLook; ; wait = min(2*wait, lastLook) {
		var o outcome
		err := e.do(ctx, http.MethodGet, fmt.Sprintf("/tasks/%d", uid), nil, nil, &o)
		var f *statusFailure
		switch {
		case errors.As(err, &f) && f.status == http.StatusNotFound:
			return fmt.Errorf("%s has forgotten task %d, so its outcome is not known", e.at, uid)
		case err != nil && ctx.Err() == nil && engine.FailureOf(err).Outcome == retry.Later && wait < lastLook:
			// the server may be back for the next look
		case err != nil:
			e.cancel(ctx, uid)
			return err
		}
		switch o.Status {
		case "succeeded":
			return nil
		case "failed":
			if o.Error == nil {
				o.Error = &apiError{Message: "the task failed without a reason"}
			}
			return &taskFailure{*o.Error}
		case "canceled":
			return fmt.Errorf("task %d of %s was canceled", uid, e.at)
		}
		if !retry.Sleep(ctx, wait) {
			e.cancel(ctx, uid)
			return ctx.Err()
		}
	}
}

// cancel asks the server not to carry out a task.
func (e *Engine) cancel(ctx context.Context, uid int64) {
	ctx, stop := context.WithTimeout(context.WithoutCancel(ctx), time.Second)
	defer stop()
	_ = e.do(ctx, http.MethodPost, "/tasks/cancel", url.Values{"uids": {fmt.Sprint(uid)}}, nil, nil) // what is not canceled comes before what is sent later
}

// settings changes settings, or creates or deletes an index, where a failure is not a document's fault.
func (e *Engine) manage(ctx context.Context, method, path string, body any) error {
	err := e.write(ctx, method, path, nil, body)
	var t *taskFailure
	if errors.As(err, &t) {
		return &engine.Failure{Outcome: retry.Blocked, Kind: t.Code, Message: fmt.Sprintf("%s says %s (%s)", e.at, t.Message, t.Code)}
	}
	return engine.AsBlocked(err)
}

// Describe says which server answered.
func (e *Engine) Describe(ctx context.Context) (string, error) {
	var list struct{ Results []json.RawMessage }
	if err := e.do(ctx, http.MethodGet, "/indexes", url.Values{"limit": {"1"}}, nil, &list); err != nil {
		return "", err
	}
	var info struct {
		Version string `json:"pkgVersion"`
	}
	if err := e.do(ctx, http.MethodGet, "/version", nil, nil, &info); err != nil || info.Version == "" {
		return "a server that answers with tasks", nil // a key may not be for this
	}
	return "a server that answers with tasks, version " + info.Version, nil
}

// recognize asks a server for its health: this kind answers that it is available, also without a key.
func recognize(ctx context.Context, c engine.Config) (bool, error) {
	e, err := Open(c)
	if err != nil {
		return false, err
	}
	defer e.Close()
	var health struct{ Status string }
	err = e.do(ctx, http.MethodGet, "/health", nil, nil, &health)
	var f *statusFailure
	var malformed *json.UnmarshalTypeError
	var syntax *json.SyntaxError
	switch {
	case errors.As(err, &f), errors.As(err, &malformed), errors.As(err, &syntax):
		return false, nil
	case err != nil:
		return false, err
	}
	return health.Status == "available", nil
}

var wrongType = regexp.MustCompile(`^field (\S+) is (\S+), which .* is not$`)

var unknownField = regexp.MustCompile(`^the document has a field (\S+), which the edition does not$`)

// Explain reads a refusal of a document.
func (*Engine) Explain(kind, reason string) retry.Cause {
	if m := wrongType.FindStringSubmatch(reason); m != nil {
		return retry.WrongType(kind, fmt.Sprintf("field %s is %s, which … is not", m[1], m[2]), m[1], m[2])
	}
	pattern := retry.Pattern(reason)
	if m := unknownField.FindStringSubmatch(reason); m != nil {
		return retry.UnknownField(kind, pattern, m[1])
	}
	return retry.CauseOf(kind, pattern, "", retry.AsTheEngineSays)
}

// InPlace: synonyms are a setting, and others are not compared field by field.
func InPlace(old, new *shape.Shape) bool {
	a, err1 := json.Marshal(old.Settings)
	b, err2 := json.Marshal(new.Settings)
	return err1 == nil && err2 == nil && string(a) == string(b)
}
