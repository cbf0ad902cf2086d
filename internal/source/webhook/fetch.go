package webhook

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"time"

	"golang.org/x/time/rate"

	"pingo/internal/core/change"
	"pingo/internal/outgoing"
	"pingo/internal/source"
	"pingo/internal/source/intake"
)

// bare is an event that says that a record changed, and not what it is now.
const bare intake.Op = "changed"

// fetch is where the records are read of which senders say no more than that they changed.
type fetch struct {
	URL       string
	Headers   map[string]string
	Body      string
	PerSecond int `json:"per_second"`
	Listing   *listing
}

// listing is where all records are listed, page by page.
type listing struct {
	URL   string
	Items string
	Next  string
	Every string
}

const (
	standardPerSecond = 10
	standardListing   = 24 * time.Hour
	fetchAtOnce       = 50
	fetchTimeout      = 30 * time.Second
	longestAnswer     = 16 << 20
	longestWait       = 10 * time.Minute
	mostPages         = 1_000_000
)

// fetcher reads records from where they are.
type fetcher struct {
	hook   *Hook
	client *http.Client
	rates  map[string]*rate.Limiter

	mu      sync.Mutex // guards what follows
	running bool
	listed  map[string]time.Time // when a record was listed last
}

// newFetcher is nil where no record is fetched.
func newFetcher(h *Hook, dial outgoing.Dialer) *fetcher {
	f := &fetcher{
		hook:   h,
		client: outgoing.Client(dial, fetchTimeout, false), // headers with secrets are for the address that the definition has
		rates:  map[string]*rate.Limiter{},
		listed: map[string]time.Time{},
	}
	for _, r := range h.records {
		if r.Fetch == nil {
			continue
		}
		perSecond := r.Fetch.PerSecond
		if perSecond == 0 {
			perSecond = standardPerSecond
		}
		f.rates[r.name] = rate.NewLimiter(rate.Limit(perSecond), 1)
	}
	if len(f.rates) == 0 {
		return nil
	}
	return f
}

// fetching is a feed during whose reads records are fetched: by the process that reads the source,
// for as long as it does.
type fetching struct {
	source.Feed
	fetcher *fetcher
}

// Changes ensures that records are fetched, and returns what was received.
func (f *fetching) Changes(ctx context.Context, limit int) ([]change.Change, error) {
	changes, err := f.Feed.Changes(ctx, limit)
	if err == nil {
		f.fetcher.start(ctx)
	}
	return changes, err
}

func (f *fetcher) start(ctx context.Context) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.running {
		return
	}
	f.running = true
	go func() {
		f.run(ctx)
		f.mu.Lock()
		f.running = false
		f.mu.Unlock()
	}()
}

// run fetches what is due once, and lists what is due. It ends with the context.
func (f *fetcher) run(ctx context.Context) {
	owed, err := f.hook.Due(ctx, fetchAtOnce)
	if err != nil {
		return // the feed asks the same database, and says so
	}
	for _, o := range owed {
		if r := f.hook.Defined[o.Record]; r != nil && r.Fetch != nil && f.rates[o.Record].Wait(ctx) == nil {
			f.one(ctx, r, o)
		}
	}
	for _, r := range f.hook.records {
		if r.Fetch == nil || r.Fetch.Listing == nil {
			continue
		}
		every, err := time.ParseDuration(r.Fetch.Listing.Every)
		if err != nil {
			every = standardListing
		}
		f.mu.Lock()
		due := time.Since(f.listed[r.name]) > every
		f.mu.Unlock()
		if !due || ctx.Err() != nil {
			continue
		}
		at := time.Now()
		if err := f.list(ctx, r); err != nil {
			at = at.Add(min(every, time.Minute) - every) // again soon
			f.note(
				ctx,
				source.Receipt{
					At:      time.Now(),
					Record:  r.name,
					Outcome: source.Unreadable,
					Reason:  "the listing was not read: " + err.Error(),
				},
			)
		}
		f.mu.Lock()
		f.listed[r.name] = at
		f.mu.Unlock()
	}
}

func (f *fetcher) note(ctx context.Context, r source.Receipt) {
	_ = f.hook.Note(ctx, r) // the feed asks the same database, and says so
}

// one reads a record. Where that fails, it is tried again, later each time.
func (f *fetcher) one(ctx context.Context, r *record, o intake.Owed) {
	var body json.RawMessage
	var there bool
	target, err := withKey(r.Fetch.URL, o.Key)
	if err == nil {
		body, there, err = f.get(ctx, r, target)
	}
	if err == nil {
		e := intake.Event{Record: o.Record, Key: o.Key, Version: o.Version, Op: intake.Deleted}
		if there {
			if body, err = at(body, r.Fetch.Body); err == nil && body[0] != '{' {
				err = errors.New("the answer holds no JSON object")
			}
			e.Op, e.Body = intake.Updated, body
		}
		if err == nil {
			if _, err = f.hook.Accept(ctx, "", []intake.Event{e}); err == nil {
				_ = f.hook.Settle(ctx, o) // else it is read once more
				return
			}
		}
	}
	if ctx.Err() != nil {
		return
	}
	if o.Attempts%10 == 0 { // the first time, and now and then
		f.note(
			ctx,
			source.Receipt{
				At:      time.Now(),
				Record:  o.Record,
				Key:     o.Key,
				Outcome: source.Unreadable,
				Reason:  fmt.Sprintf("the record was not read: %v; it is tried again", err),
			},
		)
	}
	_ = f.hook.Postpone(ctx, o, min(longestWait, time.Second<<min(o.Attempts, 10))) // else it is due still
}

// withKey puts a key into a URL, such that it is one part of the path or one value of the query, whatever it is.
func withKey(template, key string) (string, error) {
	if key == "." || key == ".." {
		return "", fmt.Errorf("the key %q is no part of a path", key)
	}
	path, query, asks := strings.Cut(template, "?")
	out := strings.ReplaceAll(path, "{key}", url.PathEscape(key))
	if asks {
		out += "?" + strings.ReplaceAll(query, "{key}", url.QueryEscape(key))
	}
	return out, nil
}

// get reads an answer in JSON; there is false when there is nothing at the URL.
func (f *fetcher) get(
	ctx context.Context,
	r *record,
	target string,
) (body json.RawMessage, there bool, err error) {
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, target, nil)
	if err != nil {
		return nil, false, errors.New("the url cannot be used")
	}
	request.Header.Set("Accept", "application/json")
	for name, value := range r.Fetch.Headers {
		request.Header.Set(name, value)
	}
	response, err := f.client.Do(request)
	if err != nil {
		var where *url.Error
		if errors.As(err, &where) { // its text has the URL, which may hold a secret
			err = where.Err
		}
		return nil, false, err
	}
	defer response.Body.Close()
	switch response.StatusCode {
	case http.StatusOK:
	case http.StatusNotFound, http.StatusGone:
		return nil, false, nil
	default:
		return nil, false, fmt.Errorf("the answer is %s", response.Status)
	}
	body, err = io.ReadAll(io.LimitReader(response.Body, longestAnswer+1))
	switch {
	case err != nil:
		return nil, false, fmt.Errorf("the answer ended early: %w", err)
	case len(body) > longestAnswer:
		return nil, false, fmt.Errorf("the answer is larger than %d MB", longestAnswer>>20)
	case !json.Valid(body):
		return nil, false, errors.New("the answer is no JSON")
	}
	return body, true, nil
}

// list reads all records, page by page, and deletes those that are not among them, once the last
// page was read. One that cannot be read is left as it is here.
func (f *fetcher) list(ctx context.Context, r *record) error {
	began, err := f.hook.Clock(ctx, r.name)
	if err != nil {
		return err
	}
	cursor, refused := "", 0
	for range mostPages {
		if err := f.rates[r.name].Wait(ctx); err != nil {
			return err
		}
		page, there, err := f.get(
			ctx,
			r,
			strings.ReplaceAll(r.Fetch.Listing.URL, "{cursor}", url.QueryEscape(cursor)),
		)
		if err == nil && !there {
			err = errors.New("there is nothing at its url")
		}
		if err != nil {
			return err
		}
		text, err := at(page, r.Fetch.Listing.Items)
		var items []json.RawMessage
		if err != nil || json.Unmarshal(text, &items) != nil {
			return fmt.Errorf("a page has no list at %q", r.Fetch.Listing.Items)
		}
		rows := make([]source.Loaded, len(items))
		for i, item := range items {
			rows[i] = source.Loaded{Line: int64(i + 1), Body: item}
		}
		receipts, err := f.hook.Load(ctx, r.name, rows)
		if err != nil {
			return err
		}
		for _, receipt := range receipts {
			if receipt.Outcome == source.Unreadable {
				refused++
			}
		}
		next := ""
		if r.Fetch.Listing.Next != "" {
			if value, err := at(page, r.Fetch.Listing.Next); err == nil && string(value) != "null" {
				if json.Unmarshal(value, &next) != nil {
					next = string(value)
				}
			}
		}
		if next == "" {
			if refused > 0 {
				return fmt.Errorf("%d records of it could not be read, so nothing is deleted", refused)
			}
			_, err := f.hook.Replace(ctx, r.name, began)
			return err
		}
		if next == cursor {
			return errors.New("a page says that it comes after itself")
		}
		cursor = next
	}
	return errors.New("it has no end")
}
