// Package collections is the engine of kind collections: servers that hold documents in typed collections, import them
// line by line, and search them with q and query_by. An edition is a collection, and a public name is an alias.
package collections

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
	"sync/atomic"
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
	key     string
	// keyHeader is the header for the key, once the server has named it.
	keyHeader atomic.Pointer[string]
	client    *http.Client

	mu sync.Mutex // guards what follows
	// layouts of the editions that were delivered to.
	layouts map[string]*layout
	// settled are the editions on which no request of an unknown outcome can still be carried out.
	settled map[string]bool
}

const requestTimeout = 30 * time.Second

// Kind is what there is to know of this kind of engine.
var Kind = engine.Kind{
	Name: "collections", Schemes: []string{"http", "https"},
	Keys: `{"key": {"type": "string", "description": "The server's key. Pingo sends it in the header that the server asks for. Usually ${NAME} or ${file:path}."},
		"headers": {"type": "object", "additionalProperties": {"type": "string"},
		"description": "Headers that Pingo sends with every request; values are usually ${NAME} or ${file:path}."}}`,
	Open:   func(c engine.Config) (engine.Engine, error) { return Open(c) },
	Limits: Limits, InPlace: InPlace, Recognize: recognize,
	Leaves: "the collection pingo_editions: DELETE /collections/pingo_editions",
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
	return &Engine{
		base:    &url.URL{Scheme: u.Scheme, Host: u.Host, Path: strings.TrimSuffix(u.Path, "/")},
		at:      u.Scheme + "://" + u.Host,
		headers: options.Headers,
		key:     options.Key,
		client:  engine.HTTPClient(c, requestTimeout, 16),
		layouts: map[string]*layout{},
		settled: map[string]bool{},
	}, nil
}

// Close gives connections back.
func (e *Engine) Close() { e.client.CloseIdleConnections() }

// asksForKey is how a server names the header for its key.
var asksForKey = regexp.MustCompile("valid `([A-Za-z0-9-]+)` header must be sent")

// send sends a request. The caller closes the body of the answer. A server that asks for its key in a header of its own gets
// it there.
func (e *Engine) send(ctx context.Context, method, path string, query url.Values, body []byte) (*http.Response, error) {
	for {
		u := *e.base
		u.RawPath = u.EscapedPath() + path
		var err error
		if u.Path, err = url.PathUnescape(u.RawPath); err != nil {
			return nil, err
		}
		u.RawQuery = query.Encode()
		request, err := http.NewRequestWithContext(ctx, method, u.String(), bytes.NewReader(body))
		if err != nil {
			return nil, err
		}
		if len(body) > 0 {
			request.Header.Set("Content-Type", "application/json")
		}
		for name, value := range e.headers {
			request.Header.Set(name, value)
		}
		known := e.keyHeader.Load()
		if known != nil {
			request.Header.Set(*known, e.key)
		}
		response, err := e.client.Do(request)
		if err != nil {
			return nil, engine.Unreachable(e.at, err)
		}
		if response.StatusCode < 300 {
			return response, nil
		}
		said, err := io.ReadAll(io.LimitReader(response.Body, 1<<20))
		response.Body.Close()
		if err != nil {
			return nil, engine.Unreachable(e.at, err)
		}
		if m := asksForKey.FindSubmatch(said); m != nil && known == nil && e.key != "" {
			name := string(m[1])
			e.keyHeader.Store(&name)
			continue
		}
		return nil, e.failed(response.StatusCode, response.Header.Get("Content-Type"), said)
	}
}

// do sends a request with a JSON body, nil for none, and decodes the answer into out, which may be nil.
func (e *Engine) do(ctx context.Context, method, path string, query url.Values, body, out any) error {
	var b []byte
	if body != nil {
		var err error
		if b, err = json.Marshal(body); err != nil {
			return err
		}
	}
	response, err := e.send(ctx, method, path, query, b)
	if err != nil {
		return err
	}
	defer response.Body.Close()
	if out == nil {
		_, err := io.Copy(io.Discard, io.LimitReader(response.Body, 1<<20))
		return err
	}
	if err := json.NewDecoder(response.Body).Decode(out); err != nil {
		return e.unreadable(method, path, err)
	}
	return nil
}

func (e *Engine) unreadable(method, path string, err error) error {
	return fmt.Errorf("reading the answer of %s to %s %s: %w", e.at, method, path, err)
}

// statusFailure is a failure with the status of the answer.
type statusFailure struct {
	engine.Failure
	status int
}

func (f *statusFailure) Unwrap() error { return &f.Failure }

// unescaped is an error's message as the server writes it where a key is in it: with the key as it is.
var unescaped = regexp.MustCompile(`(?s)^\s*\{\s*"message":\s*"(.*)"\s*\}\s*$`)

// failed reads an answer that is an error: an object with a message.
func (e *Engine) failed(status int, kind string, said []byte) error {
	var answer struct{ Message string }
	f := &statusFailure{engine.Failure{Outcome: retry.Later, Kind: fmt.Sprint(status)}, status}
	if m := unescaped.FindSubmatch(said); json.Unmarshal(said, &answer) != nil && m != nil {
		answer.Message = string(m[1])
	}
	if answer.Message == "" {
		if status < 500 && status != http.StatusTooManyRequests && status != http.StatusRequestEntityTooLarge {
			f.Outcome = retry.Blocked
		}
		f.Busy, f.TooLarge = status == http.StatusTooManyRequests, status == http.StatusRequestEntityTooLarge
		f.Message = fmt.Sprintf("%s answered %d with %q instead of a JSON object with a message (it begins %.60q): is the url really the engine's, without a proxy or a login page before it?",
			e.at, status, kind, strings.TrimSpace(string(said)))
		return f
	}
	f.Message = fmt.Sprintf("%s says %s (%d)", e.at, answer.Message, status)
	switch {
	case status == http.StatusUnauthorized || status == http.StatusForbidden:
		f.Outcome = retry.Blocked
		f.Message += ": check the engine's key and headers, and which collections and actions the key is for"
	case status == http.StatusRequestEntityTooLarge:
		f.TooLarge = true
	case status == http.StatusTooManyRequests:
		f.Busy = true
	case strings.Contains(answer.Message, "OUT_OF_DISK"), strings.Contains(answer.Message, "OUT_OF_MEMORY"):
		f.Message += ": the engine takes documents again once it has room"
	case status == http.StatusBadRequest, status == http.StatusUnprocessableEntity:
		f.Outcome = retry.Refused
	case status == http.StatusNotFound, status == http.StatusConflict:
		f.Outcome = retry.Blocked
	}
	return f
}

// missing reports whether a server said that there is no such thing.
func missing(err error) bool {
	var f *statusFailure
	return errors.As(err, &f) && f.status == http.StatusNotFound && !strings.Contains(f.Message, "instead of a JSON")
}

func ignoreMissing(err error) error {
	if missing(err) {
		return nil
	}
	return err
}

// Describe says which server answered.
func (e *Engine) Describe(ctx context.Context) (string, error) {
	var list []json.RawMessage
	if err := e.do(ctx, http.MethodGet, "/collections", nil, nil, &list); err != nil {
		return "", err
	}
	var info struct{ Version string }
	if err := e.do(ctx, http.MethodGet, "/debug", nil, nil, &info); err != nil || info.Version == "" {
		return "a server of typed collections", nil // a key may not be for this
	}
	return "a server of typed collections, version " + info.Version, nil
}

// recognize asks a server for its collections: it lists them, or names the header for its key.
func recognize(ctx context.Context, c engine.Config) (bool, error) {
	e, err := Open(c)
	if err != nil {
		return false, err
	}
	defer e.Close()
	var list []json.RawMessage
	err = e.do(ctx, http.MethodGet, "/collections", nil, nil, &list)
	var f *statusFailure
	if errors.As(err, &f) {
		return asksForKey.MatchString(f.Message), nil
	}
	var malformed *json.UnmarshalTypeError
	var syntax *json.SyntaxError
	if errors.As(err, &malformed) || errors.As(err, &syntax) {
		return false, nil
	}
	return err == nil, err
}

var wrongType = regexp.MustCompile("^Field `([^`]+)` must be (?:an? )?(.+?)\\.$|^field (\\S+) is (\\S+), which .* is not$")

var unknownField = regexp.MustCompile(`^the document has a field (\S+), which the edition does not$`)

// Explain reads a refusal of a document.
func (*Engine) Explain(kind, reason string) retry.Cause {
	if m := wrongType.FindStringSubmatch(reason); m != nil {
		field, is := m[1]+m[3], m[2]+m[4]
		return retry.WrongType(kind, fmt.Sprintf("field %s is %s, which … is not", field, is), field, is)
	}
	pattern := retry.Pattern(reason)
	if m := unknownField.FindStringSubmatch(reason); m != nil {
		return retry.UnknownField(kind, pattern, m[1])
	}
	return retry.CauseOf(kind, pattern, "", retry.AsTheEngineSays)
}

// InPlace: synonyms are kept next to the documents, and a collection keeps the settings that it was created with.
func InPlace(old, new *shape.Shape) bool {
	a, err1 := json.Marshal(old.Settings)
	b, err2 := json.Marshal(new.Settings)
	return err1 == nil && err2 == nil && string(a) == string(b)
}
