package inspect

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/dustin/go-humanize"

	"pingo/internal/api"
	"pingo/internal/core/definition"
	"pingo/internal/core/document"
	"pingo/internal/core/drift"
	"pingo/internal/core/retry"
	"pingo/internal/core/shape"
	"pingo/internal/flow/report"
	"pingo/internal/source"
)

const (
	// secondLook is how soon a document that differs is compared again once all changes have arrived that
	// there were at the first look: the last may have been between the journal and the engine.
	secondLook = 100 * time.Millisecond
	// mostWait is how long those changes are waited for.
	mostWait = 600 * time.Millisecond
)

// Trace says why a record is, or is not, in an index as it is.
func (d *Drifts) Trace(ctx context.Context, index, key string) (*api.Traced, error) {
	e, err := d.Inspector.Edition(ctx, index)
	if err != nil {
		return nil, err
	}
	tree, values, err := document.ParseKey(e.Record.Shape, key)
	if err != nil {
		return nil, &BadRequest{err}
	}
	out := &api.Traced{
		Index: index, Edition: e.Record.Name(), Key: key, Changes: []api.WaitingChange{}, Fields: []api.FieldDifference{},
		Built: json.RawMessage("null"), Stored: json.RawMessage("null"), Origins: []api.FieldOrigin{},
		Unseen: []string{},
	}
	t := e.Record.Shape.Trees[tree]
	if out.Row, err = hasRow(ctx, e.Reader, t, key, values); err != nil {
		if source.FaultOf(err) == source.BadValue {
			return nil, &BadRequest{
				fmt.Errorf(
					"%q is no key of %s: %w",
					key,
					e.Sources[e.Record.Shape.SourceOf(t.Root())].Named(t.Root().Table),
					err,
				),
			}
		}
		return nil, err
	}
	failed, err := d.Inspector.FailedDocument(ctx, index, key)
	if err != nil && !errors.Is(err, ErrUnknown) {
		return nil, err
	}
	if err == nil {
		failed.Now = nil
		out.Failed = failed
	}
	w, err := d.onTheirWay(ctx, e, t, values, out)
	if err != nil {
		return nil, err
	}
	list, err := d.Records.Differences(ctx, e.Record)
	if err != nil {
		return nil, fmt.Errorf("reading the differences: %w", err)
	}
	for i := range list {
		if list[i].Key == key {
			known := difference(&list[i])
			out.Difference = &known
		}
	}
	if err := d.look(ctx, e, key, out); err != nil {
		var bad *BadRequest
		if !errors.As(err, &bad) || out.Failed == nil {
			return nil, err
		}
	} else if !same(out) && out.Failed == nil && len(out.Changes) == 0 {
		if err := d.settle(ctx, e, &w); err != nil {
			return nil, err
		}
		if err := d.look(ctx, e, key, out); err != nil {
			return nil, err
		}
	}
	if out.Unseen, err = unseen(ctx, e, t, values, out); err != nil {
		return nil, err
	}
	out.Deliveries, out.FedBy = d.Deliveries(e.Record, key)
	verdict(out, t, w, time.Now())
	return out, nil
}

// unseen says what the capture of the row's source cannot see, where the engine holds something else than the row makes.
func unseen(ctx context.Context, e *Edition, t *shape.Tree, values []string, out *api.Traced) ([]string, error) {
	blind, is := e.Sources[e.Record.Shape.SourceOf(t.Root())].Feed.(source.Blind)
	if !is || same(out) {
		return []string{}, nil
	}
	list, err := blind.Unseen(ctx, t, values, out.Row)
	if err != nil {
		return nil, fmt.Errorf("asking what polls see: %w", err)
	}
	return list, nil
}

// settle waits a moment for the changes that there are now. Those that come later change other documents.
func (d *Drifts) settle(ctx context.Context, e *Edition, w *way) error {
	if e.Record.Missed != nil || !e.Live() {
		return nil // there is nothing to wait for
	}
	began, upTo := time.Now(), map[string]int64{}
	for time.Since(began) < mostWait {
		settled, err := found(ctx, d.Inspector.Records, e, upTo, began)
		if source.FaultOf(err) == source.NoCapture {
			return nil
		}
		if err != nil {
			return err
		}
		if !retry.Sleep(ctx, secondLook) {
			return ctx.Err()
		}
		if settled {
			w.changes, w.oldest = 0, nil
			return nil
		}
	}
	return nil
}

// look reads what the row makes now and what the engine holds.
func (d *Drifts) look(ctx context.Context, e *Edition, key string, out *api.Traced) error {
	p, err := d.Inspector.Preview(ctx, e.Record.Index, key)
	if err != nil {
		return err
	}
	out.Built, out.Stored, out.Origins, out.Fields = p.Built, p.Stored, p.Origins, []api.FieldDifference{}
	out.Inside = string(p.Built) != "null"
	if !out.Inside || string(p.Stored) == "null" {
		return nil
	}
	diffs, err := document.Compare(p.Stored, p.Built)
	if err != nil {
		return fmt.Errorf("document %s: %w", key, err)
	}
	for _, x := range diffs {
		out.Fields = append(out.Fields, api.FieldDifference(x))
	}
	return nil
}

// same reports whether the engine holds what the row makes.
func same(t *api.Traced) bool {
	return t.Inside == (string(t.Stored) != "null") && len(t.Fields) == 0
}

// hasRow reports whether a table has a row with a key, whatever where says.
func hasRow(ctx context.Context, reader source.Reader, t *shape.Tree, key string, values []string) (bool, error) {
	_, there, err := readRow(ctx, reader, t.RootOnly(""), key, values)
	return there, err
}

// way is what is pending for an index.
type way struct {
	changes int64 // in journals and set aside from them
	oldest  *time.Time
	missed  string // why changes may be missing for good; empty when none is
}

// onTheirWay counts the pending changes, and lists those of the row itself.
func (d *Drifts) onTheirWay(
	ctx context.Context,
	e *Edition,
	t *shape.Tree,
	values []string,
	out *api.Traced,
) (w way, err error) {
	note := func(n int64, oldest *time.Time) {
		w.changes += n
		if n > 0 && oldest != nil && (w.oldest == nil || oldest.Before(*w.oldest)) {
			w.oldest = oldest
		}
	}
	for name, src := range e.Sources {
		depth, err := src.Depth(ctx)
		if source.FaultOf(err) == source.NoCapture {
			continue // the status says that changes are not noticed
		}
		if err != nil {
			return w, fmt.Errorf("asking source %s: %w", name, err)
		}
		note(depth.Changes, depth.Oldest)
		if depth.Changes == 0 || name != e.Record.Shape.SourceOf(t.Root()) {
			continue
		}
		list, err := src.Feed.ChangesOf(ctx, t.Root().Table, values)
		if err != nil {
			return w, fmt.Errorf("asking source %s: %w", name, err)
		}
		for _, c := range list {
			out.Changes = append(out.Changes, api.WaitingChange{
				Source: name, Table: c.Table.String(), Key: out.Key, Op: c.Op.String(), At: c.At,
			})
		}
	}
	n, oldest, err := d.Inspector.Records.BacklogSize(ctx, e.Record)
	if err != nil {
		return w, fmt.Errorf("asking the records: %w", err)
	}
	note(n, oldest)
	if e.Record.Missed != nil {
		w.missed = e.Record.Missed.Reason
	}
	return w, nil
}

// verdict puts it into a sentence.
func verdict(t *api.Traced, tree *shape.Tree, w way, now time.Time) {
	stored := string(t.Stored) != "null"
	say := func(state, verdict, next string) { t.State, t.Verdict, t.Next = state, verdict, next }
	repair := fmt.Sprintf("pingo repair %s %s builds and sends it again.", t.Index, t.Key)
	ago := func(at time.Time) string { return humanize.RelTime(at, now, "ago", "from now") }
	switch {
	case t.Failed != nil:
		say(
			"refused",
			"Its document failed: "+t.Failed.Explanation,
			fmt.Sprintf(
				"Fix the row or the definition. Pingo retries when the row changes, or with pingo failed retry %s %s.",
				t.Index,
				t.Key,
			),
		)
	case same(t) && t.Inside:
		say("good", "The engine holds what the row makes now.", "")
	case same(t) && t.Row:
		say("outside", fmt.Sprintf("There is such a row, and where keeps it out of the index: %s.", tree.Root().Where),
			"Change the row or the definition's where if it should be found.")
	case same(t):
		say("none", "No row and no document has this key.", "")
	case w.missed != "":
		say(
			"waiting",
			fmt.Sprintf("Changes may be missing in %s: %s.", t.Edition, w.missed),
			fmt.Sprintf(
				"Another edition takes its place: pingo status %s says how far it is, or what it needs.",
				t.Index,
			),
		)
	case len(t.Changes) > 0:
		c := t.Changes[len(t.Changes)-1]
		say(
			"waiting",
			fmt.Sprintf("A change of the row (%s, made %s) is in the journal and not delivered yet.", c.Op, ago(c.At)),
			waits(c.At, now),
		)
	case w.changes > 0:
		v := fmt.Sprintf(
			"The engine holds something else than the row makes now, while %s on the way.",
			report.Count(w.changes, "change is", "changes are"),
		)
		at := now
		if w.oldest != nil {
			at = *w.oldest
			v = fmt.Sprintf(
				"The engine holds something else than the row makes now, while %s on the way, the oldest made %s.",
				report.Count(w.changes, "change is", "changes are"),
				ago(at),
			)
		}
		say("waiting", v, waits(at, now))
	case !t.Inside && t.Row:
		say(
			string(drift.Orphaned),
			"The engine has a document of the row, although where excludes it, and no change is pending.",
			repair,
		)
	case !t.Inside:
		say(
			string(drift.Orphaned),
			"The engine has a document, but the row does not exist, and no change is pending.",
			repair,
		)
	case !stored:
		say(
			string(drift.Missing),
			"The row belongs in the index, but the engine has no document of it, and no change is pending.",
			repair,
		)
	case len(t.Fields) > 0 && !slices.ContainsFunc(t.Fields, func(f api.FieldDifference) bool { return f.Path == definition.FingerprintField }):
		say(
			string(drift.Altered),
			"Something other than Pingo has changed the document in the engine: it carries the row's fingerprint and holds something else.",
			repair,
		)
	case !document.Written(tree, t.Stored):
		say(string(drift.Stale), "Something other than Pingo has changed the document in the engine.", repair)
	default:
		say(
			string(drift.Stale),
			"The engine has an older state of the row, and no change is pending: Pingo missed a change.",
			repair,
		)
	}
	switch drift.Kind(t.State) {
	case drift.Missing, drift.Orphaned, drift.Stale:
		if len(t.Unseen) > 0 { // no change was lost: the capture could not see it
			t.Verdict = strings.TrimSuffix(t.Verdict, ": Pingo missed a change.")
			t.Verdict = strings.TrimSuffix(t.Verdict, ".") + ". " + strings.Join(t.Unseen, " ")
		}
	}
	if t.Difference != nil && t.State == t.Difference.Kind {
		t.Verdict += fmt.Sprintf(
			" A check found that %s; the likeliest cause: %s.",
			ago(t.Difference.FoundAt),
			t.Difference.Cause,
		)
	}
}

// waits says what to do about a change that has waited since a time.
func waits(at, now time.Time) string {
	if now.Sub(at) < 10*time.Second {
		return "Wait a moment: pingo wait."
	}
	return "It waits for long: look whether a long transaction is open in the source, and what pingo status says of the engine."
}
