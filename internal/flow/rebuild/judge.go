package rebuild

import (
	"context"
	"fmt"
	"slices"
	"time"

	"pingo/internal/core/reindex"
	"pingo/internal/core/retry"
	"pingo/internal/flow/compare"
	"pingo/internal/flow/connect"
	"pingo/internal/flow/deliver"
	"pingo/internal/records"
	"pingo/internal/source"
)

// judge looks whether an edition may answer.
type judge struct {
	edition *deliver.Edition
	reader  source.Reader
	engine  *connect.Engine
	store   Store
	policy  func() reindex.Policy
}

// all looks at all gates; gates leaves out the documents, and says of them what was found before.
func (j *judge) all(
	ctx context.Context,
	record *records.Edition,
	caughtUp func(context.Context) error,
	p *pacer,
) ([]reindex.Gate, error) {
	live, _, err := j.store.Live(ctx, record)
	if err != nil {
		return nil, fmt.Errorf("reading which edition of %s answers: %w", record.Index, err)
	}
	record.Gates = nil
	if live != nil && live.Missed == nil { // else nothing is better
		rows, err := CountRows(ctx, j.reader, record.Shape)
		if err != nil {
			return nil, err
		}
		if record.Gates, err = j.content(ctx, record, rows, caughtUp, p); err != nil {
			return nil, err
		}
	}
	return j.settled(ctx, record)
}

// settling is for how long a verdict may change.
const settling = 10 * time.Second

// settled judges the gates until they pass or no longer change: of what is written meanwhile, one edition has
// more than the other at any moment.
func (j *judge) settled(ctx context.Context, record *records.Edition) ([]reindex.Gate, error) {
	gates, err := j.gates(ctx, record)
	for began := time.Now(); err == nil && !reindex.Passed(gates) && time.Since(began) < settling; {
		before := gates
		if !retry.Sleep(ctx, recheckInterval) {
			return nil, ctx.Err()
		}
		if gates, err = j.gates(ctx, record); slices.Equal(gates, before) {
			break
		}
	}
	return gates, err
}

// gates counts what the gates are about.
func (j *judge) gates(ctx context.Context, record *records.Edition) ([]reindex.Gate, error) {
	rows, err := CountRows(ctx, j.reader, record.Shape)
	if err != nil {
		return nil, err
	}
	fresh := reindex.Counted{Failed: int64(j.edition.Failed())}
	if fresh.Documents, err = j.engine.Count(ctx, record.Name()); err != nil {
		return nil, fmt.Errorf("counting the documents of %s: %w", record.Name(), err)
	}
	j.edition.Stats.Rows.Set(rows)
	j.edition.Stats.Documents.Set(fresh.Documents)
	live, failed, err := j.store.Live(ctx, record)
	if err != nil {
		return nil, fmt.Errorf("reading which edition of %s answers: %w", record.Index, err)
	}
	if live == nil || live.Engine != record.Engine {
		return reindex.First(rows, fresh, j.policy().Failed), nil
	}
	searches, err := j.searches(ctx, record, live)
	if err != nil {
		return nil, err
	}
	had := reindex.Counted{Failed: failed}
	// One that lacks changes is no measure, and may be gone from the engine.
	if had.Documents, err = j.engine.Count(ctx, live.Name()); err != nil && live.Missed == nil {
		return nil, fmt.Errorf("counting the documents of %s: %w", live.Name(), err)
	}
	lacks := ""
	if live.Missed != nil {
		lacks = live.Missed.Reason
	}
	for i := range searches { // what is known to be wrong is replaced whatever is found
		searches[i].Passed = searches[i].Passed || lacks != ""
	}
	gates := reindex.Judge(rows, fresh, &had, lacks)
	for _, g := range record.Gates {
		if g.Name == reindex.GateContent { // it was judged when the edition was filled
			gates = append(gates, g)
		}
	}
	return append(gates, searches...), nil
}

const (
	// sampled is how many documents a sample has.
	sampled = 2000
	// comparedWhole is the share of documents that are compared as a whole where all are compared.
	comparedWhole = 0.1
)

// content compares the edition's documents with their rows, as far as the definition wants that; nil when
// it does not. Those that differ may be pending, and are built once more before they count.
func (j *judge) content(
	ctx context.Context,
	record *records.Edition,
	rows int64,
	caughtUp func(context.Context) error,
	p *pacer,
) ([]reindex.Gate, error) {
	of := compare.New(record.Name(), record.Shape, j.reader, j.engine)
	o := compare.Options{Rows: rows, Wait: p.after, Content: comparedWhole}
	switch j.policy().Compare {
	case reindex.CompareNone:
		return nil, nil
	case reindex.CompareSample:
		o.Most, o.Content = sampled, 1
	}
	found, err := of.Rows(ctx, o)
	for look := 1; err == nil && found.More > 0 && look < compare.MostLooks; look++ {
		// These may be the documents of a wide change that is pending.
		if err = caughtUp(ctx); err == nil {
			found, err = of.Rows(ctx, o)
		}
	}
	if err != nil {
		return nil, err
	}
	wrong, err := of.Confirm(ctx, found.Different, compare.Confirming{
		CaughtUp: caughtUp, Failing: j.edition.Failing,
		Repair: func(ctx context.Context, keys []string) error { return deliver.Repair(ctx, j.edition, keys) },
	})
	if err != nil {
		return nil, err
	}
	keys := make([]string, len(wrong))
	for i, d := range wrong {
		keys[i] = d.Key
	}
	return []reindex.Gate{reindex.Content(found.Compared, rows, keys, found.More)}, nil
}

// searchAgain makes the searches again, where that gate has not passed.
func (j *judge) searchAgain(ctx context.Context, record *records.Edition) ([]reindex.Gate, error) {
	gates := slices.Clone(record.Gates)
	for i, g := range gates {
		if g.Name != reindex.GateExpect || g.Passed {
			continue
		}
		live, _, err := j.store.Live(ctx, record)
		if err != nil {
			return nil, fmt.Errorf("reading which edition of %s answers: %w", record.Index, err)
		}
		now, err := j.searches(ctx, record, live)
		if err != nil {
			return nil, err
		}
		if now == nil { // the definition no longer expects anything
			return slices.Delete(gates, i, i+1), nil
		}
		gates[i] = now[0]
	}
	return gates, nil
}

// searches is the gate of the searches that the definition expects something of; nil when there are none. One that fails in
// the live edition as well does not make the other edition worse.
func (j *judge) searches(ctx context.Context, record, live *records.Edition) ([]reindex.Gate, error) {
	list := j.policy().Expect
	if len(list) == 0 {
		return nil, nil
	}
	outcomes, err := Expect(ctx, j.engine, record.Name(), record.Shape, list)
	if err != nil {
		return nil, err
	}
	var failed []string
	var again []reindex.Expectation
	for i, o := range outcomes {
		if !o.Met() {
			failed, again = append(failed, o.String()), append(again, list[i])
		}
	}
	asBefore := 0
	if len(failed) > 0 && live != nil && live.Engine == record.Engine && live.Number != record.Number {
		// A live edition that cannot be searched is no measure.
		if before, err := Expect(ctx, j.engine, live.Name(), live.Shape, again); err == nil {
			var worse []string
			for i, o := range before {
				if o.Met() {
					worse = append(worse, failed[i])
				} else {
					asBefore++
				}
			}
			failed = worse
		}
	}
	return []reindex.Gate{reindex.Searches(len(list), failed, asBefore)}, nil
}

// decided reports whether the edition is to answer now: by the definition's policy and the gates, or
// because a person said so. byHand says that it waits for a person.
func (j *judge) decided(ctx context.Context, record *records.Edition) (goes, byHand bool, err error) {
	passed, policy := reindex.Passed(record.Gates), j.policy().Switch
	if policy == reindex.SwitchAlways || passed && policy != reindex.OnCommand {
		return true, false, nil
	}
	decided, err := j.store.Decided(ctx, record)
	if err != nil {
		return false, false, fmt.Errorf("asking whether %s is to answer: %w", record.Name(), err)
	}
	if decided || !passed {
		return decided, !decided, nil
	}
	live, _, err := j.store.Live(ctx, record)
	if err != nil {
		return false, false, fmt.Errorf("reading which edition of %s answers: %w", record.Index, err)
	}
	return live == nil, live != nil, nil // no person is asked while no edition is live
}
