package collections

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"

	"github.com/tidwall/gjson"

	"pingo/internal/core/retry"
	"pingo/internal/engine"
	"pingo/internal/engine/fields"
)

// Deliver imports documents and deletes those without a body, in their order. A collection keeps what comes last, so a
// request whose outcome is unknown must not be carried out after Deliver has returned: see settle.
func (e *Engine) Deliver(ctx context.Context, edition string, docs []engine.Document) ([]engine.Result, error) {
	l, err := e.layout(ctx, edition)
	if err == nil {
		err = e.settle(ctx, edition)
	}
	var f *engine.Failure
	if errors.As(err, &f) && f.Outcome == retry.Blocked {
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
			err = e.remove(ctx, edition, docs[start:end])
		} else {
			err = e.upsert(ctx, edition, l, docs[start:end], results[start:end])
		}
		if err != nil {
			return e.unsettled(ctx, edition, docs, err)
		}
		start = end
	}
	return results, nil
}

// unsettled handles a request that failed as a whole.
func (e *Engine) unsettled(ctx context.Context, edition string, docs []engine.Document, err error) ([]engine.Result, error) {
	if missing(err) {
		e.forget(edition)
		var f *engine.Failure
		errors.As(e.lost(edition), &f)
		return engine.Blocked(docs, f), nil
	}
	var answered *statusFailure
	if errors.As(err, &answered) && answered.Outcome != retry.Later {
		return nil, err // the server did nothing
	}
	e.mu.Lock()
	delete(e.settled, edition)
	e.mu.Unlock()
	// Where it cannot be settled now, the next delivery does it first.
	return nil, errors.Join(err, e.settle(ctx, edition))
}

// settle returns once the server has carried out, or lost, all requests on an edition that were sent before: of this
// process, whose answers did not arrive, and of an earlier holder. The server carries out the writes to a collection in
// the order in which it received them, so it waits for one of its own, a deletion of no document.
func (e *Engine) settle(ctx context.Context, edition string) error {
	e.mu.Lock()
	is := e.settled[edition]
	e.mu.Unlock()
	if is {
		return nil
	}
	err := e.do(ctx, http.MethodDelete, "/collections/"+url.PathEscape(edition)+"/documents", url.Values{"filter_by": {"id:[`pingo barrier`]"}}, nil, nil)
	if missing(err) {
		e.forget(edition)
		return e.lost(edition)
	}
	if err != nil {
		return engine.AsBlocked(err)
	}
	e.mu.Lock()
	e.settled[edition] = true
	e.mu.Unlock()
	return nil
}

// upsert imports documents in one request, which answers for each in a line.
func (e *Engine) upsert(ctx context.Context, edition string, l *layout, docs []engine.Document, results []engine.Result) error {
	var body bytes.Buffer
	var sent []int
	for i, d := range docs {
		line, err := l.line(d.Key, d.Body)
		var r *fields.Refusal
		if errors.As(err, &r) {
			results[i] = engine.Result{Outcome: retry.Refused, Kind: r.Kind, Reason: r.Reason}
			continue
		}
		if err != nil {
			return err
		}
		body.Write(line)
		body.WriteByte('\n')
		sent = append(sent, i)
	}
	if len(sent) == 0 {
		return nil
	}
	path := "/collections/" + url.PathEscape(edition) + "/documents/import"
	response, err := e.send(ctx, http.MethodPost, path, url.Values{"action": {"upsert"}, "dirty_values": {"reject"}}, body.Bytes())
	if err != nil {
		return err
	}
	defer response.Body.Close()
	answer, err := io.ReadAll(response.Body)
	if err != nil {
		return e.unreadable(http.MethodPost, path, err)
	}
	lines := bytes.Split(bytes.TrimSpace(answer), []byte("\n"))
	if len(lines) != len(sent) {
		return fmt.Errorf("%s answered for %d documents of %d", e.at, len(lines), len(sent))
	}
	for n, line := range lines {
		if !gjson.ValidBytes(line) {
			return fmt.Errorf("%s answered for a document with what is no JSON: %.60q", e.at, line)
		}
		said := gjson.ParseBytes(line)
		if said.Get("success").Bool() {
			continue // results begin as done
		}
		code := said.Get("code").Int()
		r := engine.Result{Outcome: retry.Later, Kind: fmt.Sprint(code), Reason: said.Get("error").String()}
		switch {
		case strings.Contains(r.Reason, "OUT_OF_DISK"), strings.Contains(r.Reason, "OUT_OF_MEMORY"):
		case code == http.StatusNotFound:
			return e.lost(edition)
		case code >= 400 && code < 500:
			r.Outcome = retry.Refused
		}
		results[sent[n]] = r
	}
	return nil
}

// longestFilter is how long the keys of one deletion are, as a filter in the address.
const longestFilter = 2000

// remove deletes documents by their keys; those that are not there are no error.
func (e *Engine) remove(ctx context.Context, edition string, docs []engine.Document) error {
	at := "/collections/" + url.PathEscape(edition) + "/documents"
	var filter []string
	length := 0
	flush := func() error {
		if len(filter) == 0 {
			return nil
		}
		err := e.do(ctx, http.MethodDelete, at, url.Values{"filter_by": {"id:[" + strings.Join(filter, ",") + "]"}}, nil, nil)
		filter, length = nil, 0
		return err
	}
	for _, d := range docs {
		quoted, can := quotedKey(d.Key)
		if !can {
			err := e.do(ctx, http.MethodDelete, at+"/"+url.PathEscape(d.Key), nil, nil, nil)
			if missing(err) { // the document, or the edition
				_, err = e.collection(ctx, edition)
			}
			if err != nil {
				return err
			}
			continue
		}
		if length += len(url.QueryEscape(quoted)) + 3; length > longestFilter {
			if err := flush(); err != nil {
				return err
			}
			length = len(url.QueryEscape(quoted)) + 3
		}
		filter = append(filter, quoted)
	}
	return flush()
}

// quotedKey writes a key in a filter. A key with the quotation mark of filters in it, or what escapes it, cannot be.
func quotedKey(key string) (string, bool) {
	return "`" + key + "`", key != "" && !strings.ContainsAny(key, "`\\\n\r")
}
