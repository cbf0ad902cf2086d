// Package webhook is the source of kind webhook: records that senders send as events over HTTP.
package webhook

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"sort"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/santhosh-tekuri/jsonschema/v6"
	"golang.org/x/time/rate"

	"pingo/internal/core/shape"
	"pingo/internal/source"
	"pingo/internal/source/intake"
)

// Kind is what there is to know of this kind of source.
var Kind = source.Kind{
	Name: "webhook", Captures: []string{"webhook"}, Open: open,
	CannotSee: map[string][]string{"webhook": {
		"What a sender never sent, or sent and was refused, is not here; the receipts say what was refused.",
		"Without a version, events count in the order in which they come, so one that is late replaces a newer one.",
		"That a record was deleted is remembered for 30 days; an older version that comes later than that brings it back.",
	}},
	Keys: `{
	"signing_secrets": {"type": "array", "items": {"type": "string"},
		"description": "The secrets that senders sign with, as in the Standard Webhooks specification (whsec_…); usually ${NAME}. Pingo accepts each of them, so that you can replace one."},
	"basic": {"type": "object", "properties": {"user": {"type": "string"}, "password": {"type": "string"}}, "required": ["user", "password"],
		"description": "For senders that cannot sign: a user and password, over TLS."},
	"path_secret": {"type": "string", "description": "For senders that cannot sign or send a password: a secret in the path, over TLS."},
	"unsigned": {"type": "string", "enum": ["allowed"], "description": "Accept events from every sender that reaches the address. Only for trusted networks."},
	"time_window": {"type": "string", "pattern": "^[0-9]+(s|m|h)$", "description": "How far the time of a signed request may differ from now. Default: 5m."},
	"max_future": {"type": "string", "pattern": "^[0-9]+(s|m|h)$", "description": "How far a version that is a time may lie after the clock of this machine. Pingo refuses later ones, which would outrank every later event. Default: 5m."},
	"max_request": {"type": "string", "pattern": "^[0-9]+ ?[KkMm][Ii]?[Bb]$", "description": "Maximum size of a request, such as 1MB. Default: 4MB."},
	"rate_limit": {"type": "integer", "minimum": 1, "maximum": 1000000, "description": "Maximum number of requests per second. Default: 1000."},
	"records": {"type": "object", "description": "The records that senders send, by name. The rows of an index refer to these names.", "additionalProperties": {"type": "object", "properties": {
		"types": {"type": "object", "description": "The event types of this record, for each operation: created, updated, merged (a patch, RFC 7396) or deleted. A trailing * matches any suffix.",
			"properties": {"created": {"type": "array", "items": {"type": "string"}}, "updated": {"type": "array", "items": {"type": "string"}}, "merged": {"type": "array", "items": {"type": "string"}}, "deleted": {"type": "array", "items": {"type": "string"}}}},
		"type": {"type": "string", "pattern": "^(/.*)?$", "description": "A JSON Pointer to the type in the event, such as /event."},
		"key": {"type": "string", "pattern": "^(/.*)?$", "description": "A JSON Pointer to the record's key in the event, such as /record/id."},
		"body": {"type": "string", "pattern": "^(/.*)?$", "description": "A JSON Pointer to the record in the event, such as /record."},
		"version": {"type": "string", "pattern": "^(/.*)?$", "description": "A JSON Pointer to a number or time in the event that is higher for newer versions of a record."},
		"schema": {"description": "A JSON Schema of the record. Its properties are the columns. Default: the columns are the properties that arrived."},
		"violations": {"type": "string", "enum": ["refused", "accepted"], "default": "refused", "description": "Whether Pingo refuses events that violate the schema, or accepts them: then a property of the wrong type makes a failed document."},
		"fetch": {"type": "object", "required": ["url"], "description": "For senders that only announce a change: where Pingo reads the record. A missing record counts as deleted.", "properties": {
			"url": {"type": "string", "pattern": "^(https?://|[$][{]).*", "description": "A URL; Pingo replaces {key} by the record's key."},
			"headers": {"type": "object", "additionalProperties": {"type": "string"}, "description": "Headers that Pingo sends with every request; values are usually ${NAME}."},
			"body": {"type": "string", "pattern": "^(/.*)?$", "description": "A JSON Pointer to the record in the answer. Default: the whole answer."},
			"per_second": {"type": "integer", "minimum": 1, "maximum": 10000, "description": "Maximum number of records fetched per second. Default: 10."},
			"listing": {"type": "object", "required": ["url"], "description": "A list of all records, page by page. Pingo reads it at the start and at an interval. A record that is missing from it counts as deleted.", "properties": {
				"url": {"type": "string", "description": "A URL; Pingo replaces {cursor} by the cursor of the previous page, which is empty at first."},
				"items": {"type": "string", "pattern": "^(/.*)?$", "description": "A JSON Pointer to the list of records in a page."},
				"next": {"type": "string", "pattern": "^(/.*)?$", "description": "A JSON Pointer to the cursor of the next page. On the last page it is missing, null or empty."},
				"every": {"type": "string", "pattern": "^[0-9]+(s|m|h)$", "description": "Interval between reads. Default: 24h."}}}}}
	}}}}`,
}

type options struct {
	SigningSecrets []string `json:"signing_secrets"`
	Basic          *struct{ User, Password string }
	PathSecret     string `json:"path_secret"`
	Unsigned       string
	TimeWindow     string             `json:"time_window"`
	MaxFuture      string             `json:"max_future"`
	MaxRequest     string             `json:"max_request"`
	RateLimit      int                `json:"rate_limit"`
	Defined        map[string]*record `json:"records"`
}

// record is how events of one record are read.
type record struct {
	name    string
	Types   map[intake.Op][]string
	Type    *string
	Key     *string
	Body    *string
	Version *string
	Schema  any
	Fetch   *fetch
	// Violations of the schema are refused unless it is "accepted".
	Violations string
	// whole checks bodies, and patch those that have a part of the properties; nil without a schema.
	whole, patch *jsonschema.Schema
}

// Hook takes in what is sent to one source.
type Hook struct {
	*intake.Store
	options
	secrets [][]byte
	window  time.Duration
	future  time.Duration
	limit   int64
	records []*record // by name
	rate    *rate.Limiter
	// refusals bounds the receipts that strangers can have written.
	refusals *rate.Limiter
}

const (
	defaultWindow = 5 * time.Minute
	defaultFuture = 5 * time.Minute
	defaultLimit  = 4 << 20
	defaultRate   = 1000
	refusalRate   = 20 // receipts a second
)

func open(c source.Config) (*source.Source, error) {
	h, err := newHook(c.Options)
	if err != nil {
		return nil, err
	}
	var names []intake.Record
	for _, r := range h.records {
		schema, err := r.schema()
		if err != nil {
			return nil, err
		}
		names = append(names, intake.Record{Name: r.name, Schema: schema})
	}
	if h.Store, err = intake.Open(c.Records, c.Name, names, c.ConnectTimeout); err != nil {
		return nil, err
	}
	src := h.Store.Source()
	src.Intake = h
	if f := newFetcher(h, c.DialPublic); f != nil {
		src.Feed = &fetching{src.Feed, f}
	}
	src.Capture = &advised{src.Capture, h}
	return src, nil
}

// newHook reads the options.
func newHook(text json.RawMessage) (*Hook, error) {
	h := &Hook{window: defaultWindow, future: defaultFuture, limit: defaultLimit}
	if len(text) > 0 {
		if err := json.Unmarshal(text, &h.options); err != nil {
			return nil, fmt.Errorf("the options of the source cannot be read: %w", err)
		}
	}
	for _, s := range h.SigningSecrets {
		secret, err := decodeSecret(s)
		if err != nil {
			return nil, err
		}
		h.secrets = append(h.secrets, secret)
	}
	if len(h.secrets) == 0 && h.Basic == nil && h.PathSecret == "" && h.Unsigned == "" {
		return nil, errors.New(
			"the source does not authenticate senders: add signing_secrets; or basic, path_secret or unsigned: allowed, for senders that cannot sign",
		)
	}
	if h.PathSecret != "" && (len(h.PathSecret) < 16 || strings.Contains(h.PathSecret, "/")) {
		return nil, errors.New(
			"the path_secret is too short to be one, or has a / in it: take at least 16 letters and digits by chance",
		)
	}
	if h.TimeWindow != "" {
		var err error
		if h.window, err = time.ParseDuration(h.TimeWindow); err != nil || h.window > 24*time.Hour {
			return nil, errors.New(
				"time_window is a time such as 5m, and at most 24h: events are remembered for a few days only",
			)
		}
	}
	if h.MaxFuture != "" {
		var err error
		if h.future, err = time.ParseDuration(h.MaxFuture); err != nil {
			return nil, errors.New("max_future is a time such as 5m")
		}
	}
	if h.MaxRequest != "" {
		n, err := humanize.ParseBytes(h.MaxRequest)
		if err != nil || n > 64<<20 {
			return nil, errors.New("max_request is a size such as 1MB, and at most 64MB")
		}
		h.limit = int64(n)
	}
	if len(h.Defined) == 0 {
		return nil, errors.New("records names nothing that is sent: write records: { NAME: {} }")
	}
	for name, r := range h.Defined {
		if r == nil {
			r = &record{}
		}
		r.name = name
		if err := r.compile(); err != nil {
			return nil, err
		}
		h.records = append(h.records, r)
	}
	sort.Slice(h.records, func(i, j int) bool { return h.records[i].name < h.records[j].name })
	perSecond := h.RateLimit
	if perSecond == 0 {
		perSecond = defaultRate
	}
	h.rate = rate.NewLimiter(rate.Limit(perSecond), max(10, perSecond))
	h.refusals = rate.NewLimiter(refusalRate, 10*refusalRate)
	return h, nil
}

// schema is the JSON Schema of a record, which may be written as YAML or be the text of a file.
func (r *record) schema() (json.RawMessage, error) {
	switch s := r.Schema.(type) {
	case nil:
		return nil, nil
	case string:
		if !json.Valid([]byte(s)) {
			return nil, fmt.Errorf("the schema of record %s is no JSON", r.name)
		}
		return json.RawMessage(s), nil
	}
	return json.Marshal(r.Schema)
}

// Limit is how many bytes a request may have.
func (h *Hook) Limit() int64 { return h.limit }

// Receive takes in one request.
func (h *Hook) Receive(ctx context.Context, r source.Request) (source.Reply, error) {
	if !h.rate.Allow() {
		return h.refuse(
			ctx,
			http.StatusTooManyRequests,
			source.TooMany,
			"",
			fmt.Sprintf("more than %v requests a second were sent", h.rate.Limit()),
		)
	}
	id := header(&r, "webhook-id")
	if len(h.secrets) == 0 && h.Basic == nil && h.PathSecret == "" {
		if reason := fromPage(&r); reason != "" {
			return h.refuse(ctx, http.StatusForbidden, source.BadSignature, id, reason)
		}
	}
	path, outcome, reason := h.authenticate(&r)
	if reason != "" {
		return h.refuse(ctx, http.StatusUnauthorized, outcome, id, reason)
	}
	if int64(len(r.Body)) > h.limit {
		return h.refuse(
			ctx,
			http.StatusRequestEntityTooLarge,
			source.TooLarge,
			id,
			fmt.Sprintf(
				"the request is larger than %s: send fewer events in a request, or raise max_request",
				humanize.Bytes(uint64(h.limit)),
			),
		)
	}
	texts, cloud, reason := split(&r)
	if reason != "" {
		return h.refuse(ctx, http.StatusBadRequest, source.Unreadable, id, reason)
	}
	var events, owed []intake.Event
	var unread []source.Receipt
	for i, text := range texts {
		e, err := h.read(text, cloud, path, r.Method)
		if e.ID == "" && id != "" {
			if e.ID = id; len(texts) > 1 {
				e.ID = fmt.Sprintf("%s#%d", id, i)
			}
		}
		if err != nil {
			unread = append(unread, source.Receipt{
				At: time.Now(), Event: e.ID, Record: e.Record, Key: e.Key, Op: string(e.Op), Outcome: source.Unreadable,
				Reason: err.Error(), Bytes: int64(len(text)),
			})
			continue
		}
		if e.Op == bare {
			owed = append(owed, e)
			continue
		}
		events = append(events, e)
	}
	reply := source.Reply{Status: http.StatusOK}
	if len(owed) > 0 {
		if err := h.Owe(ctx, owed); err != nil {
			return reply, err
		}
		for _, e := range owed {
			reply.Receipts = append(
				reply.Receipts,
				source.Receipt{
					At:      time.Now(),
					Event:   e.ID,
					Record:  e.Record,
					Key:     e.Key,
					Outcome: source.Accepted,
				},
			)
		}
	}
	if len(events) > 0 {
		accepted, err := h.Accept(ctx, id, events)
		if err != nil {
			return reply, err
		}
		reply.Receipts = append(reply.Receipts, accepted...)
	}
	if len(unread) > 0 {
		if err := h.Note(ctx, unread...); err != nil {
			return reply, err
		}
		reply.Receipts = append(reply.Receipts, unread...)
	}
	if !slices.ContainsFunc(
		reply.Receipts,
		func(r source.Receipt) bool { return r.Outcome != source.Unreadable },
	) &&
		len(reply.Receipts) > 0 {
		reply.Status = http.StatusBadRequest // sending it again would not help
	}
	return reply, nil
}

// fromPage says why a request that nothing identifies may have been made by a page of another site, in the browser of a
// person who reaches this service; empty when it was not.
func fromPage(r *source.Request) string {
	if site := header(r, "sec-fetch-site"); site != "" && site != "same-origin" && site != "none" {
		return "a page of another site sent it, and unsigned: allowed is for programs"
	}
	if origin := header(r, "origin"); origin != "" {
		if from, err := url.Parse(origin); err != nil || from.Host != r.Host {
			return "a page of another site sent it, and unsigned: allowed is for programs"
		}
	}
	if !r.Known {
		return fmt.Sprintf("it was sent to the name %.100q, which this service does not know: start it with --public-name", r.Host)
	}
	return ""
}

// refuse answers a request of which nothing is taken in.
func (h *Hook) refuse(
	ctx context.Context,
	status int,
	outcome source.Outcome,
	id, reason string,
) (source.Reply, error) {
	r := source.Receipt{At: time.Now(), Event: id, Outcome: outcome, Reason: reason}
	reply := source.Reply{Status: status, Receipts: []source.Receipt{r}}
	if !h.refusals.Allow() {
		return reply, nil
	}
	return reply, h.Note(ctx, r)
}

// Load takes in rows of a file: each is the body of a record.
func (h *Hook) Load(ctx context.Context, name string, rows []source.Loaded) ([]source.Receipt, error) {
	i := slices.IndexFunc(h.records, func(r *record) bool { return r.name == name })
	if i < 0 {
		return nil, fmt.Errorf("%w: the source has no record %q; it has %s", source.ErrNoRecord, name, strings.Join(h.names(), ", "))
	}
	r := h.records[i]
	var events []intake.Event
	var out []source.Receipt
	for _, row := range rows {
		e, err := h.loaded(r, row.Body)
		e.Record, e.Line = name, row.Line
		if err != nil {
			out = append(
				out,
				source.Receipt{
					At:      time.Now(),
					Record:  name,
					Key:     e.Key,
					Outcome: source.Unreadable,
					Reason:  err.Error(),
					Bytes:   int64(len(row.Body)),
					Line:    row.Line,
				},
			)
			continue
		}
		events = append(events, e)
	}
	if len(out) > 0 {
		if err := h.Note(ctx, out...); err != nil {
			return nil, err
		}
	}
	if len(events) == 0 {
		return out, nil
	}
	accepted, err := h.Accept(ctx, "", events)
	return append(out, accepted...), err
}

func (h *Hook) names() []string {
	out := make([]string, len(h.records))
	for i, r := range h.records {
		out[i] = r.name
	}
	return out
}

// advised adds to check how well senders are authenticated.
type advised struct {
	source.Capture
	hook *Hook
}

func (a *advised) Advice(ctx context.Context, _ []shape.Captured, _ []shape.Lookup) ([]source.Advice, error) {
	out := []source.Advice{}
	say := func(message string) { out = append(out, source.Advice{Kind: "sender", Message: message}) }
	h := a.hook
	if h.Unsigned != "" {
		say(
			"events need no signature (unsigned: allowed), so every client that reaches the address can change documents: restrict access to the address",
		)
	}
	if h.PathSecret != "" {
		say(
			"a secret in the path identifies the sender, but proxies log it and it does not protect the body; Pingo refuses requests without TLS",
		)
	}
	if h.Basic != nil {
		say(
			"a user and password tell who sends, but not whether the body was changed, or sent a second time; requests without TLS are refused",
		)
	}
	for _, r := range h.records {
		if r.Version == nil && r.Key != nil {
			say(
				fmt.Sprintf(
					"events of %s have no version, so they count in the order in which they come: one that is late replaces a newer one",
					r.name,
				),
			)
		}
	}
	received, err := h.Store.Received(ctx)
	for _, words := range received {
		out = append(out, source.Advice{Kind: "received", Message: words})
	}
	return out, err
}
