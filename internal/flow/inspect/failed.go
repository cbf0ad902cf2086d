package inspect

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"pingo/internal/api"
	"pingo/internal/core/document"
	"pingo/internal/core/retry"
	"pingo/internal/core/shape"
	"pingo/internal/engine"
	"pingo/internal/flow/deliver"
	"pingo/internal/records"
	"pingo/internal/source"
)

// FailedGroups gathers failed documents by cause, of all indexes when none is named.
func (i *Inspector) FailedGroups(ctx context.Context, index string) ([]api.FailedGroup, error) {
	if index != "" {
		if _, err := i.Edition(ctx, index); err != nil {
			return nil, err
		}
	}
	groups, err := i.Records.FailedGroups(ctx, index)
	if err != nil {
		return nil, err
	}
	out := make([]api.FailedGroup, len(groups))
	for n, g := range groups {
		cause := i.cause(ctx, g.Index, g.Kind, g.Reason)
		out[n] = api.FailedGroup{
			Index:       g.Index,
			Cause:       g.Cause,
			Kind:        g.Kind,
			Pattern:     cause.Pattern,
			Field:       cause.Field,
			Explanation: cause.Explanation,
			Documents:   g.Documents,
			FirstAt:     g.FirstAt,
			LastAt:      g.LastAt,
		}
	}
	return out, nil
}

// cause explains a refusal as the index's engine does, as far as that is open.
func (i *Inspector) cause(ctx context.Context, index, kind, reason string) retry.Cause {
	var e engine.Engine
	if edition, err := i.Edition(ctx, index); err == nil {
		e = edition.Engine.Engine
	}
	return deliver.CauseOf(e, kind, reason)
}

// FailedDocuments lists what an engine refused of an index, of one cause when it is named, and after one of the list before
// unless it is nil.
func (i *Inspector) FailedDocuments(
	ctx context.Context,
	index, cause string,
	after *records.Failed,
	limit int,
) ([]api.FailedDocument, error) {
	if _, err := i.Edition(ctx, index); err != nil {
		return nil, err
	}
	list, err := i.Records.FailedDocuments(ctx, index, cause, after, limit)
	if err != nil {
		return nil, err
	}
	out := make([]api.FailedDocument, len(list))
	for n := range list {
		out[n] = failedDocument(&list[n])
	}
	return out, nil
}

func failedDocument(f *records.Failed) api.FailedDocument {
	return api.FailedDocument{
		Index:    f.Index,
		Edition:  f.Edition,
		Key:      f.Key,
		Kind:     f.Kind,
		Reason:   f.Reason,
		Cause:    f.Cause,
		Attempts: f.Attempts,
		FirstAt:  f.FirstAt,
		LastAt:   f.LastAt,
	}
}

// FailedDocument tells all there is to know of a failed document.
func (i *Inspector) FailedDocument(ctx context.Context, index, key string) (*api.FailedDetail, error) {
	if _, err := i.Edition(ctx, index); err != nil {
		return nil, err
	}
	f, err := i.Records.FailedDocument(ctx, index, key)
	if err != nil {
		return nil, err
	}
	if f == nil {
		return nil, fmt.Errorf(
			"a failed document %q of %s is %w: it may have been accepted since",
			key,
			index,
			ErrUnknown,
		)
	}
	cause := i.cause(ctx, index, f.Kind, f.Reason)
	out := &api.FailedDetail{
		FailedDocument: failedDocument(f),
		Field:          cause.Field,
		Explanation:    cause.Explanation,
		Document:       json.RawMessage("null"),
	}
	if f.Document != nil {
		out.Document = json.RawMessage(*f.Document)
	}
	if f.Kind == "source" {
		blame(ctx, i, index, key, out)
	}
	if out.Now, err = i.Preview(ctx, index, key); err != nil {
		out.Verdict = "What the row makes now is not known: " + err.Error()
		return out, nil
	}
	switch {
	case string(out.Now.Built) == "null":
		out.Verdict = "The row no longer makes a document. A retry removes the document from the engine."
	case f.Document != nil && string(out.Now.Built) == *f.Document:
		out.Verdict = "The row still makes the same document, so a retry will be refused again unless the engine was changed."
	default:
		out.Verdict = "The row makes another document now than the one that was refused."
	}
	return out, nil
}

// failedKeys gives the failed documents that are meant: the keys, or those of a cause,
// or all when neither is given.
func (i *Inspector) failedKeys(
	ctx context.Context,
	index string,
	which api.FailedSelection,
) (*records.Edition, []string, error) {
	e, err := i.Edition(ctx, index)
	if err != nil {
		return nil, nil, err
	}
	if len(which.Keys) > 0 {
		return e.Record, slices.Compact(slices.Sorted(slices.Values(which.Keys))), nil
	}
	keys, err := i.Records.FailedKeys(ctx, e.Record, which.Cause)
	return e.Record, keys, err
}

// RetryFailed has failed documents built and sent again. It returns how many, and the
// edition they are of; what comes of it is seen in the list.
func (i *Inspector) RetryFailed(
	ctx context.Context,
	index string,
	which api.FailedSelection,
) (int, *records.Edition, error) {
	record, keys, err := i.failedKeys(ctx, index, which)
	if err != nil || len(keys) == 0 {
		return 0, record, err
	}
	at := make([]time.Time, len(keys))
	for n := range at {
		at[n] = time.Now()
	}
	_, err = i.Records.AddToBacklog(ctx, record, keys, at)
	return len(keys), record, err
}

// DismissFailed forgets failed documents though the engine has not accepted them. It
// returns how many, and the edition they were of.
func (i *Inspector) DismissFailed(
	ctx context.Context,
	index string,
	which api.FailedSelection,
) (int, *records.Edition, error) {
	record, keys, err := i.failedKeys(ctx, index, which)
	if err != nil || len(keys) == 0 {
		return 0, record, err
	}
	gone, err := i.Records.DismissFailed(ctx, record, keys)
	return len(gone), record, err
}

// blame says which field of the root, or where, fails on a row that cannot be read, as far as it is one of them.
func blame(ctx context.Context, i *Inspector, index, key string, out *api.FailedDetail) {
	e, err := i.Edition(ctx, index)
	if err != nil {
		return // what is known is returned
	}
	at, values, err := document.ParseKey(e.Record.Shape, key)
	if err != nil {
		return
	}
	t := e.Record.Shape.Trees[at]
	fails := func(where string, columns ...shape.Column) bool {
		set := document.NewSet(t.RootOnly(where, columns...))
		return source.FaultOf(e.Reader.ReadKeys(ctx, set, [][]string{values})) == source.BadValue
	}
	root := t.Root()
	if root.Where != "" && fails(root.Where) {
		out.Explanation = fmt.Sprintf("where fails on the row: %s. Correct the row or the condition.", root.Where)
		return
	}
	for n, f := range root.Fields {
		if f.At < 0 {
			continue
		}
		if c := root.Columns[f.At]; fails("", c) {
			out.Field = t.FieldPath(root, n)
			what := "The column of field " + out.Field + " cannot be read"
			if c.Expression != "" {
				what = "The expression of field " + out.Field + " fails on the row: " + c.Expression
			}
			out.Explanation = what + ". Correct the row or the expression."
			return
		}
	}
}
