package inspect

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/dustin/go-humanize"

	"pingo/internal/api"
	"pingo/internal/core/document"
	"pingo/internal/core/drift"
	"pingo/internal/core/reindex"
	"pingo/internal/flow/rebuild"
	"pingo/internal/flow/report"
	"pingo/internal/records"
)

// Drifts looks at what is known of the drift of indexes, and asks for checks and repairs.
type Drifts struct {
	Inspector *Inspector
	// Records are those that the orders are in.
	Records DriftStore
	// Deliveries lists the recent builds of a document, or the address of the process that knows them.
	Deliveries func(e *records.Edition, key string) (known *api.Deliveries, fedBy string)
}

// DriftStore is what the records keep of drift, as far as people ask for it.
type DriftStore interface {
	Coverage(ctx context.Context, e *records.Edition) (*drift.Coverage, error)
	Differences(ctx context.Context, e *records.Edition) ([]records.Difference, error)
	AskDrift(ctx context.Context, e *records.Edition, asked drift.Asked, by string) (id int64, err error)
	Order(ctx context.Context, index string, id int64) (*records.Order, error)
	Orders(ctx context.Context, index string, n int) ([]records.Order, error)
	StopOrder(ctx context.Context, index string, id int64) (bool, error)
}

// answering is the edition of an index that answers, or one that is named.
func (d *Drifts) answering(ctx context.Context, index, edition string) (*Edition, error) {
	if edition != "" {
		return named(ctx, d.Inspector, index, edition)
	}
	return d.Inspector.Edition(ctx, index)
}

// DriftAsked says which differences are wanted.
type DriftAsked struct {
	Edition, Kind, Cause string
	Limit                int
}

// shownOrders and shownSegments bound an answer.
const shownOrders, shownSegments = 30, 128

// Show tells what is known of the drift of an index.
func (d *Drifts) Show(ctx context.Context, index string, asked DriftAsked) (*api.Drift, error) {
	e, err := d.answering(ctx, index, asked.Edition)
	if err != nil {
		return nil, err
	}
	if err := knownKind(asked.Kind); err != nil {
		return nil, err
	}
	coverage, err := d.Records.Coverage(ctx, e.Record)
	if err != nil {
		return nil, fmt.Errorf("reading what was compared: %w", err)
	}
	list, err := d.Records.Differences(ctx, e.Record)
	if err != nil {
		return nil, fmt.Errorf("reading the differences: %w", err)
	}
	orders, err := d.Records.Orders(ctx, index, shownOrders)
	if err != nil {
		return nil, fmt.Errorf("reading the checks: %w", err)
	}
	out := &api.Drift{
		Index: index, Edition: e.Record.Name(), Segments: []api.DriftSegment{}, Differences: []api.Differing{},
		Causes: []api.CauseSentence{}, Orders: []api.DriftOrder{},
	}
	if out.Rows, err = rebuild.CountRows(ctx, e.Reader, e.Record.Shape); err != nil {
		return nil, err
	}
	kinds, causes := map[drift.Kind]int64{}, map[drift.Cause]int64{}
	var since *time.Time
	for _, x := range list {
		kinds[x.Kind]++
		causes[x.Cause]++
		if since == nil || x.FoundAt.Before(*since) {
			since = &x.FoundAt
		}
		if asked.Kind != "" && asked.Kind != string(x.Kind) || asked.Cause != "" && asked.Cause != string(x.Cause) {
			continue
		}
		if out.Matching++; len(out.Differences) < asked.Limit {
			out.Differences = append(out.Differences, difference(&x))
		}
	}
	out.Status = *report.Drift(coverage, kinds, causes, out.Rows, time.Now())
	out.Status.Since = since
	for cause, n := range causes {
		out.Causes = append(
			out.Causes,
			api.CauseSentence{Cause: string(cause), Count: n, Sentence: drift.Sentences[cause]},
		)
	}
	slices.SortFunc(out.Causes, func(a, b api.CauseSentence) int { return strings.Compare(a.Cause, b.Cause) })
	known := int64(0)
	for _, s := range coverage.All() {
		known += s.Rows
		segment := api.DriftSegment{Rows: s.Rows, Differing: s.Differing, At: &s.At}
		if len(list) == 0 { // they were repaired
			segment.Differing = 0
		}
		out.Segments = append(out.Segments, segment)
	}
	if rest := out.Rows - known; rest > 0 && coverage.Round == 0 {
		out.Segments = append(out.Segments, api.DriftSegment{Rows: rest})
	}
	out.Segments = out.Segments[:min(len(out.Segments), 2*shownSegments)]
	for i := range orders {
		out.Orders = append(out.Orders, *d.order(&orders[i]))
	}
	return out, nil
}

func difference(x *records.Difference) api.Differing {
	return api.Differing{Key: x.Key, Kind: string(x.Kind), Cause: string(x.Cause), FoundAt: x.FoundAt}
}

// Order tells of a check or a repair.
func (d *Drifts) Order(ctx context.Context, index string, id int64) (*api.DriftOrder, error) {
	o, err := d.Records.Order(ctx, index, id)
	if err != nil {
		return nil, fmt.Errorf("reading a check: %w", err)
	}
	if o == nil {
		return nil, fmt.Errorf("check %d of %s is %w: the newest 200 are kept", id, index, ErrUnknown)
	}
	return d.order(o), nil
}

func (d *Drifts) order(o *records.Order) *api.DriftOrder {
	a, out := &o.Asked, &o.Outcome
	action := api.DriftCheck
	if a.Repair {
		action = api.DriftRepair
	}
	x := &api.DriftOrder{
		ID: o.ID, Index: o.Index, Edition: o.Edition, By: o.By, AskedAt: o.AskedAt, BeganAt: o.BeganAt, EndedAt: o.EndedAt,
		Asked: api.DriftAction{
			Action: action, Edition: o.Edition, Sample: a.Most, After: a.After, Upto: a.Upto, Content: a.Content, Documents: a.Documents,
			Repair: a.Repairs, Keys: a.Keys, Kind: string(a.Kind), Cause: string(a.Cause), Deletes: a.Deletes,
		},
		Rows: out.Rows, Compared: out.Compared, Scanned: out.Scanned, Fetched: out.Fetched, Requests: out.Requests,
		Differing: out.Differing(), Unsettled: out.Unsettled, Repaired: out.Repaired, Held: out.Held, Problem: out.Problem,
		Kinds: map[string]int64{}, Causes: map[string]int64{},
	}
	for k, n := range out.Kinds {
		x.Kinds[string(k)] = n
	}
	for c, n := range out.Causes {
		if n > 0 {
			x.Causes[string(c)] = n
		}
	}
	x.Most = drift.Confidence(x.Differing, x.Compared, x.Rows)
	x.Sentence = sentenceOf(o, x)
	return x
}

// sentenceOf says what came of a check or a repair.
func sentenceOf(o *records.Order, x *api.DriftOrder) string {
	out := &o.Outcome
	switch {
	case o.EndedAt == nil && o.BeganAt == nil:
		return "It waits for the process that feeds the index."
	case out.Problem != "" && o.EndedAt == nil:
		return "It waits: " + out.Problem + "."
	case out.Problem != "":
		return "It ended before its end: " + out.Problem + "."
	}
	var parts []string
	if o.Asked.Repair {
		parts = append(parts, fmt.Sprintf("%s looked at", report.Count(out.Compared, "document", "documents")))
	} else {
		parts = append(parts, fmt.Sprintf("%s of %s compared", humanize.Comma(out.Compared), report.Count(out.Rows, "document", "documents")))
	}
	switch {
	case out.Absent > 0 && out.Absent == out.Compared:
		if out.Absent == 1 {
			return "No row and no document has this key."
		}
		return "No row and no document has one of these keys."
	case x.Differing == 0:
		parts = append(parts, "all match their rows")
		if o.Asked.Most > 0 && out.Compared < out.Rows {
			parts[len(parts)-1] += fmt.Sprintf("; at most %.2f%% of all can differ (95%% certain)", 100*x.Most)
		}
	default:
		parts = append(parts, fmt.Sprintf("%s differ: %s", humanize.Comma(x.Differing), drift.Summary(out.Kinds)))
	}
	for _, more := range []struct {
		n    int64
		what string
	}{
		{out.Repaired, "repaired"}, {out.Resent, "sent again"}, {out.Absent, "without a row and a document"}, {out.Held, "left, so that not too many are repaired or deleted unasked"},
		{out.Unsettled, "unknown, because changes were pending for too long"},
	} {
		if more.n > 0 {
			parts = append(parts, humanize.Comma(more.n)+" "+more.what)
		}
	}
	return strings.Join(parts, "; ") + "."
}

// ErrEnded says that there is nothing to stop.
var ErrEnded = errors.New("it has ended already")

// Do asks for a check or a repair, or stops one, and tells of it.
func (d *Drifts) Do(ctx context.Context, index, by string, a api.DriftAction) (*api.DriftOrder, error) {
	if a.Action == api.DriftStop {
		stopped, err := d.Records.StopOrder(ctx, index, a.ID)
		if err != nil {
			return nil, fmt.Errorf("stopping a check: %w", err)
		}
		o, err := d.Order(ctx, index, a.ID)
		if err == nil && !stopped {
			err = &BadRequest{fmt.Errorf("check %d of %s: %w", a.ID, index, ErrEnded)}
		}
		return o, err
	}
	e, err := d.answering(ctx, index, a.Edition)
	if err != nil {
		return nil, err
	}
	if s := e.Record.State; s == reindex.Preparing || s == reindex.Filling || s == reindex.CatchingUp {
		return nil, &BadRequest{fmt.Errorf("%s is %s, so it is not yet what its rows make", e.Record.Name(), s)}
	}
	for _, key := range []string{a.After, a.Upto} {
		if key == "" {
			continue
		}
		if _, _, err := document.ParseKey(e.Record.Shape, key); err != nil {
			return nil, &BadRequest{err}
		}
	}
	if err := knownKind(a.Kind); err != nil {
		return nil, err
	}
	if n := len(a.Keys); n > mostKeys {
		return nil, &BadRequest{fmt.Errorf("there are %d keys, and a repair may name %d", n, mostKeys)}
	}
	asked := drift.Asked{
		Repair: a.Action == api.DriftRepair, Most: a.Sample, After: a.After, Upto: a.Upto, Content: a.Content,
		Documents: a.Documents, Keys: a.Keys, Kind: drift.Kind(a.Kind), Cause: drift.Cause(a.Cause), Repairs: a.Repair, Deletes: a.Deletes,
	}
	if asked.Content == nil && !asked.Repair { // a check that a person asks for looks at everything
		whole := 1.0
		asked.Content = &whole
	}
	id, err := d.Records.AskDrift(ctx, e.Record, asked, by)
	if err != nil {
		return nil, fmt.Errorf("recording what is asked for: %w", err)
	}
	return d.Order(ctx, index, id)
}

// knownKind refuses what is no kind of difference; empty is any.
func knownKind(kind string) error {
	if kinds := []drift.Kind{"", drift.Missing, drift.Stale, drift.Altered, drift.Orphaned}; slices.Contains(
		kinds,
		drift.Kind(kind),
	) {
		return nil
	}
	return &BadRequest{fmt.Errorf("a document is missing, stale, altered or orphaned, not %q", kind)}
}

// mostKeys is how many documents a repair may name.
const mostKeys = 10_000
