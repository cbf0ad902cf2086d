package flow

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"time"

	"pingo/internal/core/retry"
	"pingo/internal/records"
)

// FailedGroup is all failed documents of an index with one cause, explained.
type FailedGroup struct {
	records.FailedGroup
	retry.Cause
}

// FailedDocument is a failed document as it was sent, explained, and what happened
// since: what the row makes now, and what the engine has.
type FailedDocument struct {
	records.Failed
	Cause    retry.Cause     `json:"cause"`
	Document json.RawMessage `json:"document"`
	Now      *Preview        `json:"now"`
	Words    string          `json:"words"`
}

// FailedGroups gathers failed documents by cause, of all indexes when none is named.
func (s *Service) FailedGroups(ctx context.Context, index string) ([]FailedGroup, error) {
	if index != "" {
		if _, err := s.index(ctx, index); err != nil {
			return nil, err
		}
	}
	groups, err := s.records.FailedGroups(ctx, index)
	if err != nil {
		return nil, err
	}
	out := make([]FailedGroup, len(groups))
	for i, g := range groups {
		out[i] = FailedGroup{g, retry.CauseOf(g.Kind, g.Reason)}
	}
	return out, nil
}

// FailedDocuments lists what an engine refused of an index, of one cause when it is named.
func (s *Service) FailedDocuments(ctx context.Context, index, cause string, limit int) ([]records.Failed, error) {
	if _, err := s.index(ctx, index); err != nil {
		return nil, err
	}
	return s.records.FailedDocuments(ctx, index, cause, limit)
}

// FailedDocument tells all there is to know of a failed document.
func (s *Service) FailedDocument(ctx context.Context, index, key string) (*FailedDocument, error) {
	if _, err := s.index(ctx, index); err != nil {
		return nil, err
	}
	f, err := s.records.FailedDocument(ctx, index, key)
	if err != nil {
		return nil, err
	}
	if f == nil {
		return nil, fmt.Errorf("a failed document %q of %s is %w: it may have been accepted since", key, index, ErrUnknown)
	}
	out := &FailedDocument{Failed: *f, Cause: retry.CauseOf(f.Kind, f.Reason), Document: json.RawMessage("null")}
	if f.Document != nil {
		out.Document = json.RawMessage(*f.Document)
	}
	if out.Now, err = s.Preview(ctx, index, key); err != nil {
		out.Words = "What the row makes now cannot be said: " + err.Error()
		return out, nil
	}
	switch {
	case string(out.Now.Built) == "null":
		out.Words = "The row has no document any more; a retry lets the engine forget it, too."
	case f.Document != nil && string(out.Now.Built) == *f.Document:
		out.Words = "The row makes the same document as then, so a retry will be refused again unless the engine was changed."
	default:
		out.Words = "The row makes another document now than the one that was refused."
	}
	return out, nil
}

// failedKeys gives the failed documents that are meant: the keys, or those of a cause,
// or all when neither is given.
func (s *Service) failedKeys(ctx context.Context, index string, keys []string, cause string) (*records.Edition, []string, error) {
	st, err := s.index(ctx, index)
	if err != nil || len(keys) > 0 {
		return st.edition(), keys, err
	}
	keys, err = s.records.FailedKeys(ctx, st.record, cause)
	return st.record, keys, err
}

func (st *standing) edition() *records.Edition {
	if st == nil {
		return nil
	}
	return st.record
}

// fed finds an edition that this process feeds; nil when another one does.
func (s *Service) fed(record *records.Edition) *editionFlow {
	s.mu.RLock()
	defer s.mu.RUnlock()
	if h := s.held[record.Shape.Source]; h != nil {
		for _, e := range h.editions {
			if e.record.Index == record.Index && e.record.Number == record.Number {
				return e
			}
		}
	}
	return nil
}

// RetryFailed has failed documents built and sent again: by key, by cause, or all. It
// returns how many; what comes of it is seen in the list.
func (s *Service) RetryFailed(ctx context.Context, index string, keys []string, cause string) (int, error) {
	record, keys, err := s.failedKeys(ctx, index, keys, cause)
	if err != nil || len(keys) == 0 {
		return 0, err
	}
	at := make([]time.Time, len(keys))
	for i := range at {
		at[i] = time.Now()
	}
	if _, err := s.records.Owe(ctx, record, keys, at); err != nil {
		return 0, err
	}
	if e := s.fed(record); e != nil {
		nudge(e.backlog.more)
	}
	return len(keys), nil
}

// DismissFailed forgets failed documents though the engine has not accepted them: by
// key, by cause, or all. It returns how many.
func (s *Service) DismissFailed(ctx context.Context, index string, keys []string, cause string) (int, error) {
	record, keys, err := s.failedKeys(ctx, index, keys, cause)
	if err != nil || len(keys) == 0 {
		return 0, err
	}
	gone, err := s.records.DismissFailed(ctx, record, keys)
	if err != nil {
		return 0, err
	}
	if e := s.fed(record); e != nil {
		if err := e.forgive(ctx); err != nil { // they are dismissed; it is seen to again with the next count
			e.log.Warn("reading which failed documents were dismissed", "error", err)
		}
	}
	s.log.Info("failed documents dismissed", "index", index, "documents", len(gone))
	return len(gone), nil
}

// forgive takes documents out of the failed ones that were dismissed, here or through
// another process, but for those that were refused again meanwhile.
func (e *editionFlow) forgive(ctx context.Context) error {
	e.mu.Lock()
	before := maps.Clone(e.failed)
	e.mu.Unlock()
	if len(before) == 0 {
		return nil
	}
	keys, err := e.records.FailedKeys(ctx, e.record, "")
	if err != nil {
		return err
	}
	for _, key := range keys {
		delete(before, key)
	}
	e.mu.Lock()
	defer e.mu.Unlock()
	for key, refusal := range before {
		if e.failed[key] == refusal {
			delete(e.failed, key)
		}
	}
	e.refused.Store(int64(len(e.failed)))
	return nil
}
