package flow

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"time"

	"pingo/internal/core/retry"
	"pingo/internal/engine"
	"pingo/internal/engine/wire"
	"pingo/internal/records"
)

// deliver sends documents until the engine has answered for each of them: taken,
// already newer, or refused and recorded. It returns false when the context ended
// before. The lane is held.
func (e *editionFlow) deliver(ctx context.Context, l *lane, docs []wire.Document) bool {
	attempt := 0
	for len(docs) > 0 {
		batch := docs[:e.slice(docs)]
		for i := range batch {
			l.seen.Forget(batch[i].Key) // until the engine has answered
		}
		results, err := e.request(ctx, batch)
		if err != nil {
			outcome := engine.OutcomeOf(err)
			switch {
			case ctx.Err() != nil:
				return false
			case tooLarge(err) && len(batch) > 1:
				e.batch.TooLarge(bytesOf(batch))
				continue
			case outcome == retry.Refused && len(batch) > 1:
				// One of them makes the engine refuse them all: look for it.
				half := len(batch) / 2
				if !e.deliver(ctx, l, batch[:half]) || !e.deliver(ctx, l, batch[half:]) {
					return false
				}
				docs = docs[len(batch):]
				continue
			case tooLarge(err) || outcome == retry.Refused:
				if !e.settle(ctx, batch[0].Key, batch[0].Body, wire.Result{Outcome: retry.Refused, Kind: "request", Reason: err.Error()}) {
					return false
				}
				docs = docs[1:]
				continue
			}
			attempt++
			if !e.pause(ctx, attempt, err.Error(), outcome == retry.Blocked) {
				return false
			}
			continue
		}
		var again []wire.Document
		var words string
		blocked := false
		taken := 0
		for i, r := range results {
			switch r.Outcome {
			case retry.Later, retry.Blocked:
				again = append(again, batch[i])
				blocked = blocked || r.Outcome == retry.Blocked
				words = fmt.Sprintf("the engine does not take documents: %s", r.Reason)
				continue
			case retry.Done:
				taken++
				l.seen.Note(batch[i].Key, batch[i].Body)
			case retry.Refused:
				e.refusals.add(1)
			}
			if !e.settle(ctx, batch[i].Key, batch[i].Body, r) {
				return false
			}
		}
		e.applied.add(taken)
		rest := docs[len(batch):]
		if len(again) > 0 {
			docs = append(again, rest...)
			attempt++
			if !e.pause(ctx, attempt, words, blocked) {
				return false
			}
			continue
		}
		docs, attempt = rest, 0
		if e.trouble.clear() {
			e.log.Info("the engine takes documents again")
		}
	}
	return true
}

// request sends one request, when the engine's turn has come, and learns from how it is
// answered.
func (e *editionFlow) request(ctx context.Context, batch []wire.Document) ([]wire.Result, error) {
	if !e.gate.enter(ctx) {
		return nil, ctx.Err()
	}
	if !e.term.holds() { // asked last, since it may have waited at the gate
		e.gate.leave(true, false, "")
		return nil, ctx.Err()
	}
	began := time.Now()
	results, err := e.engine.Deliver(ctx, e.record.Name(), batch)
	answered, busy, words := true, false, ""
	var f *wire.Failure
	switch {
	case err == nil:
		for i := range results {
			busy = busy || results[i].Outcome == retry.Later
		}
	case errors.As(err, &f) && f.Status == http.StatusTooManyRequests:
		busy = true
	case engine.OutcomeOf(err) == retry.Later && !tooLarge(err):
		answered, words = ctx.Err() != nil, err.Error()
	}
	e.gate.leave(answered, busy, words)
	switch {
	case busy:
		e.batch.Busy(len(batch))
	case err == nil:
		e.batch.Answered(len(batch), time.Since(began))
	}
	return results, err
}

func tooLarge(err error) bool {
	var f *wire.Failure
	return errors.As(err, &f) && f.Status == http.StatusRequestEntityTooLarge
}

func bytesOf(docs []wire.Document) int {
	bytes := 0
	for i := range docs {
		bytes += len(docs[i].Body)
	}
	return bytes
}

// slice says how many documents fit into the next request.
func (e *editionFlow) slice(docs []wire.Document) int {
	most, mostBytes := e.batch.Limits()
	bytes := 0
	for i := range docs {
		bytes += len(docs[i].Body)
		if i > 0 && (i >= most || bytes > mostBytes) {
			return i
		}
	}
	return len(docs)
}

// settle records what an answer means for the failed documents: a refused document
// is recorded, one that was taken is one no longer. It tries until the records
// database has it; false when the context ended before.
func (e *editionFlow) settle(ctx context.Context, key string, body []byte, r wire.Result) bool {
	e.mu.Lock()
	_, was := e.failed[key]
	e.mu.Unlock()
	refused := r.Outcome == retry.Refused
	if !was && !refused {
		return true
	}
	for attempt := 1; ; attempt++ {
		var err error
		if refused {
			f := records.Failed{Index: e.record.Index, Edition: e.record.Number, Key: key, Kind: r.Kind, Reason: r.Reason, Cause: retry.CauseOf(r.Kind, r.Reason).ID}
			if body != nil {
				text := string(body)
				f.Document = &text
			}
			err = e.records.SaveFailed(ctx, f)
		} else {
			err = e.records.ResolveFailed(ctx, e.record, key)
		}
		if err == nil {
			e.overcome(attempt)
			break
		}
		if !e.pause(ctx, attempt, "recording a failed document: "+err.Error(), false) {
			return false
		}
	}
	e.mu.Lock()
	defer e.mu.Unlock()
	if refused {
		e.refusal++
		e.failed[key] = e.refusal
	} else {
		delete(e.failed, key)
	}
	e.refused.Store(int64(len(e.failed)))
	switch {
	case refused && !was:
		e.log.Warn("document refused", "key", key, "kind", r.Kind, "reason", r.Reason)
	case !refused:
		e.log.Info("failed document resolved", "key", key)
	}
	return true
}
