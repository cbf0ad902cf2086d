// Package webfeed is the source of kind webfeed: the entries of an RSS, Atom or JSON Feed, which is
// pulled now and then.
package webfeed

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"sync"
	"time"

	"github.com/cespare/xxhash/v2"
	"github.com/mmcdole/gofeed"

	"pingo/internal/core/change"
	"pingo/internal/outgoing"
	"pingo/internal/source"
	"pingo/internal/source/intake"
)

// Kind is what there is to know of this kind of source.
var Kind = source.Kind{
	Name: "webfeed", Schemes: []string{"http", "https"}, Captures: []string{"pull"}, Open: open,
	Keys: `{
	"every": {"type": "string", "pattern": "^[0-9]+(s|m|h)$", "description": "Interval between pulls, such as 15m. Default: 1h."},
	"gone": {"type": "string", "enum": ["keep", "remove"], "description": "Whether to keep or remove records of entries that leave the feed. Default: keep."},
	"headers": {"type": "object", "additionalProperties": {"type": "string"}, "description": "Headers that Pingo sends with every request; values are usually ${NAME}."}}`,
	CannotSee: map[string][]string{"pull": {
		"An entry is noticed when the feed is pulled, and one that came and left in between never is.",
		"An entry that leaves the feed stays, unless gone: remove is written: most feeds show the newest entries only.",
	}},
}

type options struct {
	Every   string
	Gone    string
	Headers map[string]string
}

const (
	standardEvery = time.Hour
	longestBody   = 16 << 20
	timeout       = 30 * time.Second
	// retryEvery is how soon a feed is pulled again that did not answer.
	retryEvery = time.Minute
)

// schema of entries, whatever form the feed has.
const schema = `{"properties": {"title": {"type": "string"}, "link": {"type": "string"}, "summary": {"type": "string"}, "content": {"type": "string"},
	"author": {"type": "string"}, "published": {"type": "string", "format": "date-time"}, "updated": {"type": "string", "format": "date-time"},
	"categories": {"type": "array", "items": {"type": "string"}}}}`

const record = "entries"

func open(c source.Config) (*source.Source, error) {
	var o options
	if len(c.Options) > 0 {
		if err := json.Unmarshal(c.Options, &o); err != nil {
			return nil, fmt.Errorf("the options of the source cannot be read: %w", err)
		}
	}
	p := &puller{
		url:     c.URL,
		options: o,
		every:   standardEvery,
		client:  outgoing.Client(c.DialPublic, timeout, len(o.Headers) == 0), // secrets in headers are for the address that the definition has
		known:   map[string]uint64{},
	}
	if o.Every != "" {
		var err error
		if p.every, err = time.ParseDuration(o.Every); err != nil || p.every < time.Second {
			return nil, errors.New("every is a time from 1s, such as 15m")
		}
	}
	var err error
	p.store, err = intake.Open(
		c.Records,
		c.Name,
		[]intake.Record{{Name: record, Schema: json.RawMessage(schema)}},
		c.ConnectTimeout,
	)
	if err != nil {
		return nil, err
	}
	src := p.store.Source()
	src.Reader = &reader{src.Reader, p}
	src.Feed = &feed{src.Feed, p}
	src.Intake = intake.OnlyReceipts(p.store)
	return src, nil
}

// puller pulls the feed.
type puller struct {
	url string
	options
	every  time.Duration
	client *http.Client
	store  *intake.Store

	mu       sync.Mutex // guards what follows
	due      time.Time
	etag     string
	modified string
	// known has a hash of every entry that was in the feed the last time.
	known map[string]uint64
}

type reader struct {
	source.Reader
	puller *puller
}

// Describe pulls the feed to say what it is.
func (r *reader) Describe(ctx context.Context) (string, error) {
	parsed, _, err := r.puller.fetch(ctx, "", "")
	if err != nil {
		return "", err
	}
	return fmt.Sprintf(
		"a feed in %s %s with %d entries: %s",
		parsed.FeedType,
		parsed.FeedVersion,
		len(parsed.Items),
		parsed.Title,
	), nil
}

type feed struct {
	source.Feed
	puller *puller
}

// Changes pulls the feed when it is time. That it does not answer has a receipt; what is here
// already goes on.
func (f *feed) Changes(ctx context.Context, limit int) ([]change.Change, error) {
	p := f.puller
	p.mu.Lock()
	due := time.Now().After(p.due)
	p.mu.Unlock()
	if due {
		wait := p.every
		if err := p.pull(ctx); err != nil {
			if ctx.Err() != nil {
				return nil, ctx.Err()
			}
			wait = min(wait, retryEvery)
			receipt := source.Receipt{
				At:      time.Now(),
				Record:  record,
				Outcome: source.Unreadable,
				Reason:  "the feed was not read: " + err.Error(),
			}
			if err := p.store.Note(ctx, receipt); err != nil {
				return nil, err
			}
		}
		p.mu.Lock()
		p.due = time.Now().Add(wait)
		p.mu.Unlock()
	}
	return f.Feed.Changes(ctx, limit)
}

// fetch reads the feed; nil when it has not changed since it was read with these marks.
func (p *puller) fetch(ctx context.Context, etag, modified string) (*gofeed.Feed, http.Header, error) {
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, p.url, nil)
	if err != nil {
		return nil, nil, errors.New("the url of the feed cannot be used")
	}
	for name, value := range p.Headers {
		request.Header.Set(name, value)
	}
	request.Header.Set(
		"Accept",
		"application/atom+xml, application/rss+xml, application/feed+json, application/xml, application/json",
	)
	if etag != "" {
		request.Header.Set("If-None-Match", etag)
	}
	if modified != "" {
		request.Header.Set("If-Modified-Since", modified)
	}
	response, err := p.client.Do(request)
	if err != nil {
		var where *url.Error
		if errors.As(err, &where) { // its text has the URL, which may hold a secret
			err = where.Err
		}
		return nil, nil, fmt.Errorf("it does not answer (%w)", err)
	}
	defer response.Body.Close()
	if response.StatusCode == http.StatusNotModified {
		return nil, response.Header, nil
	}
	if response.StatusCode != http.StatusOK {
		return nil, nil, fmt.Errorf("it answers %s", response.Status)
	}
	body, err := io.ReadAll(io.LimitReader(response.Body, longestBody+1))
	if err != nil {
		return nil, nil, fmt.Errorf("its answer ended early (%w)", err)
	}
	if len(body) > longestBody {
		return nil, nil, fmt.Errorf("it is larger than %d MB", longestBody>>20)
	}
	parsed, err := gofeed.NewParser().Parse(bytes.NewReader(body))
	if err != nil {
		return nil, nil, fmt.Errorf("it is no RSS, Atom or JSON Feed (%w)", err)
	}
	return parsed, response.Header, nil
}

// pull takes in what has changed in the feed.
func (p *puller) pull(ctx context.Context) error {
	p.mu.Lock()
	etag, modified, before := p.etag, p.modified, p.known
	p.mu.Unlock()
	began, err := p.store.Clock(ctx, record)
	if err != nil {
		return err
	}
	parsed, header, err := p.fetch(ctx, etag, modified)
	if err != nil || parsed == nil {
		return err
	}
	known := map[string]uint64{}
	var events []intake.Event
	var same []intake.Event
	for _, item := range parsed.Items {
		e, err := event(item)
		if err != nil {
			continue // an entry without a name and a link is none that could be found again
		}
		hash := xxhash.Sum64(e.Body)
		if known[e.Key] = hash; before[e.Key] != hash {
			events = append(events, e)
		} else {
			same = append(same, e)
		}
	}
	if p.Gone == "remove" {
		events = append(events, same...) // what is taken in again is not gone
	}
	if len(events) > 0 {
		if _, err := p.store.Accept(ctx, "", events); err != nil {
			return err
		}
	}
	if p.Gone == "remove" {
		if _, err := p.store.Replace(ctx, record, began); err != nil {
			return err
		}
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	p.etag, p.modified, p.known = header.Get("ETag"), header.Get("Last-Modified"), known
	return nil
}

// event is an entry of a feed as a record.
func event(item *gofeed.Item) (intake.Event, error) {
	e := intake.Event{Record: record, Op: intake.Updated, Key: item.GUID}
	if e.Key == "" {
		e.Key = item.Link
	}
	if e.Key == "" || len(e.Key) > intake.LongestKey {
		return e, errors.New("the entry has no name, or one that is too long")
	}
	body := map[string]any{
		"title":   item.Title,
		"link":    item.Link,
		"summary": item.Description,
		"content": item.Content,
	}
	if item.Author != nil {
		body["author"] = item.Author.Name
	}
	for name, t := range map[string]*time.Time{"published": item.PublishedParsed, "updated": item.UpdatedParsed} {
		if t != nil {
			body[name] = t.UTC().Format(time.RFC3339)
		}
	}
	if item.Categories != nil {
		body["categories"] = item.Categories
	}
	for name, v := range body {
		if v == "" {
			delete(body, name)
		}
	}
	var err error
	e.Body, err = json.Marshal(body)
	return e, err
}
