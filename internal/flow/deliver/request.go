package deliver

import (
	"context"
	"errors"
	"fmt"
	"time"

	"pingo/internal/core/document"
	"pingo/internal/core/retry"
	"pingo/internal/engine"
	"pingo/internal/records"
)

// deliver sends documents until the engine has answered for each of them: taken,
// already newer, or refused and recorded. It returns false when the context ended
// before. The caller holds sending.
func (l *lane) deliver(ctx context.Context, docs []engine.Document) bool {
	e := l.edition
	var waits retry.Waits
	raised := map[string]bool{} // keys that were sent with a version above another program's
	for len(docs) > 0 {
		batch := docs[:fits(docs, &e.requests.batch)]
		for i := range batch {
			l.seen.Forget(batch[i].Key) // until the engine has answered
		}
		results, err := e.request(ctx, batch)
		if errors.Is(err, errLost) {
			<-ctx.Done()
		}
		if ctx.Err() != nil {
			return false
		}
		var wait error
		if err != nil {
			f := engine.FailureOf(err)
			switch {
			case f.TooLarge && len(batch) > 1:
				e.requests.batch.TooLarge(bytesOf(batch))
				continue
			case f.Outcome == retry.Refused && len(batch) > 1:
				// One of them makes the engine refuse them all: look for it.
				half := len(batch) / 2
				if !l.deliver(ctx, batch[:half]) || !l.deliver(ctx, batch[half:]) {
					return false
				}
				docs = docs[len(batch):]
				continue
			case f.TooLarge || f.Outcome == retry.Refused:
				if !l.refuse(ctx, batch[0].Key, batch[0].Body, "request", err.Error()) {
					return false
				}
				docs = docs[1:]
				continue
			}
			wait = err
		} else {
			var again []engine.Document
			var ok bool
			if again, wait, ok = l.answered(ctx, batch, results, raised); !ok {
				return false
			}
			docs = append(again, docs[len(batch):]...)
		}
		if wait == nil {
			waits.Reset()
			e.recovered()
			continue
		}
		next := waits.Next()
		e.report(wait, waits.Failures)
		if !retry.Sleep(ctx, next) {
			return false
		}
	}
	return true
}

// answered takes in the engine's answers. It returns the documents that are to be sent
// again, and why; false when the context ended.
func (l *lane) answered(
	ctx context.Context,
	batch []engine.Document,
	results []engine.Result,
	raised map[string]bool,
) (again []engine.Document, wait error, ok bool) {
	e := l.edition
	taken := 0
	for i, r := range results {
		key, body := batch[i].Key, batch[i].Body
		switch r.Outcome {
		case retry.Later, retry.Blocked:
			again = append(again, batch[i])
			if wait == nil || r.Outcome == retry.Blocked {
				wait = &engine.Failure{
					Outcome: r.Outcome,
					Kind:    r.Kind,
					Message: "the engine does not take documents: " + r.Reason,
				}
			}
			continue
		case retry.Refused:
			if !l.refuse(ctx, key, body, r.Kind, r.Reason) {
				return nil, nil, false
			}
			continue
		case retry.Newer:
			// This process itself sent a newer one, or another process has the lease: then
			// this process must not report the outcome of the document.
			if e.Until(ctx, func() error { return e.fence.Confirm(ctx) }) != nil {
				return nil, nil, false
			}
			others, err := foreign(ctx, e, &batch[i], r.Held)
			if err != nil {
				again, wait = append(again, batch[i]), err
				continue
			}
			// One that claims a higher version each time must not keep the lane busy.
			if others && (raised[key] || !e.fence.Pass(r.Held)) {
				if !l.refuse(ctx, key, body, "version", fmt.Sprintf("the engine holds version %d of it, which Pingo did not write", r.Held)) {
					return nil, nil, false
				}
				continue
			}
			if others {
				// What is read from now on has a higher version still, so this steps back behind nothing for good.
				raised[key] = true
				e.log.Warn("document written by others", "key", key, "version", r.Held)
				next := batch[i]
				next.Version = e.fence.NextVersion()
				again = append(again, next)
				continue
			}
		case retry.Done:
			taken++
			l.seen.Note(key, body, time.Now())
		}
		if !e.failures.has(key) {
			continue
		}
		err := e.Until(ctx, func() error {
			if err := e.failures.resolve(ctx, e, key); err != nil {
				return fmt.Errorf("recording that a document is failed no longer: %w", err)
			}
			return nil
		})
		if err != nil {
			return nil, nil, false
		}
	}
	e.Stats.Delivered.Add(taken)
	return again, wait, true
}

// refuse records a document that the engine refused, or that cannot be built. It tries
// until the records have it; false when the context ended before.
func (l *lane) refuse(ctx context.Context, key string, body []byte, kind, reason string) bool {
	e := l.edition
	l.seen.Forget(key)
	if kind != "source" && kind != "size" {
		e.Stats.Refused.Add(1)
	}
	f := records.Failed{Key: key, Kind: kind, Reason: reason, Cause: CauseOf(e.engine, kind, reason).ID}
	if body != nil {
		text := string(body)
		f.Document = &text
	}
	return e.Until(ctx, func() error {
		if err := e.failures.refused(ctx, e, f); err != nil {
			return fmt.Errorf("recording a failed document: %w", err)
		}
		return nil
	}) == nil
}

// CauseOf explains why a document is failed. The kind is source where it could not be
// built, size where it is too large for that, request where a request with it alone was refused, version where the engine
// holds one that is not Pingo's, else the engine's own word.
func CauseOf(e engine.Engine, kind, reason string) retry.Cause {
	switch kind {
	case "source":
		return retry.CauseOf(
			kind,
			retry.Pattern(reason),
			"",
			"The row cannot be read: a value or the key that arrived does not fit its type, or an expression of the definition fails on it. Correct the row, the sender's key, or the expression.",
		)
	case "size":
		return retry.CauseOf(
			kind,
			retry.Pattern(reason),
			"",
			"The document is too large to be built: put less into it, for instance with limit on its lists.",
		)
	case "version":
		return retry.CauseOf(
			kind,
			retry.Pattern(reason),
			"",
			"Another program wrote this document with a version far above Pingo's, so the engine rejects Pingo's updates. Run pingo reindex start: another edition does not have that version.",
		)
	case "request":
		return retry.CauseOf(
			kind,
			retry.Pattern(reason),
			"",
			"The engine does not take a request with this document alone in it. It is too large or malformed for it: put less into the document (limit: on long lists), or raise the engine's limit.",
		)
	}
	return engine.Explain(e, kind, reason)
}

// request sends one request, when the limiter allows it, and adapts to the answer.
func (e *Edition) request(ctx context.Context, batch []engine.Document) ([]engine.Result, error) {
	select {
	case <-ctx.Done():
		return nil, ctx.Err()
	case <-e.prepared:
	}
	limiter := e.engine.Limiter
	if !limiter.Acquire(ctx) {
		return nil, ctx.Err()
	}
	if !e.fence.Holds() { // asked last, since it may have waited for the limiter
		limiter.Release(true, false, "")
		return nil, errLost
	}
	began := time.Now()
	e.Stats.Requests.Add(1)
	results, err := e.engine.Deliver(ctx, e.Record.Name(), batch)
	answered, busy, reason := true, false, ""
	if err == nil {
		for i := range results {
			busy = busy || results[i].Outcome == retry.Later
		}
	} else {
		f := engine.FailureOf(err)
		busy = f.Busy
		if f.Outcome == retry.Later && !f.TooLarge && !f.Busy {
			answered, reason = ctx.Err() != nil, err.Error()
		}
	}
	if err != nil && !busy && engine.FailureOf(err).Outcome == retry.Later {
		e.requests.unanswered.Add(1)
	}
	limiter.Release(answered, busy, reason)
	switch {
	case busy:
		e.requests.batch.Busy(len(batch))
	case err == nil:
		e.requests.batch.Answered(len(batch), time.Since(began))
	}
	return results, err
}

func bytesOf(docs []engine.Document) int {
	bytes := 0
	for i := range docs {
		bytes += len(docs[i].Body)
	}
	return bytes
}

// foreign reports whether another program gave a document the version that the engine holds of it: one that Pingo has not
// given yet, or not to this document. A lane sends one document of a key at a time, with versions that grow, so only a
// chunk can have a later one. With the same version, the engine may hold what it was sent before, if its answer was lost.
func foreign(ctx context.Context, e *Edition, d *engine.Document, held int64) (bool, error) {
	switch {
	case held == 0 || held < d.Version:
		return false, nil
	case held > e.fence.Given():
		return true, nil
	case held > d.Version:
		return !e.chunks.versions.mayHave(d.Version) && !e.chunks.versions.mayHave(held), nil
	}
	stored, err := e.engine.Fingerprints(ctx, e.Record.Name(), []string{d.Key})
	if err != nil {
		return false, err
	}
	fingerprint, there := stored[d.Key]
	return there != (d.Body != nil) || there && fingerprint != document.Fingerprint(d.Body), nil
}
