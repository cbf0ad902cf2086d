// Package sweep looks for documents that are not what their rows make, all the time and when it is asked
// to, and repairs them.
package sweep

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"pingo/internal/core/drift"
	"pingo/internal/core/reindex"
	"pingo/internal/core/retry"
	"pingo/internal/flow/compare"
	"pingo/internal/flow/connect"
	"pingo/internal/flow/deliver"
	"pingo/internal/flow/rebuild"
	"pingo/internal/records"
	"pingo/internal/source"
)

// Store is what the records keep of drift.
type Store interface {
	Coverage(ctx context.Context, e *records.Edition) (*drift.Coverage, error)
	SaveCoverage(ctx context.Context, e *records.Edition, c *drift.Coverage) error
	Differences(ctx context.Context, e *records.Edition) ([]records.Difference, error)
	// SaveDifferences records some, and forgets those of other keys that no longer differ.
	SaveDifferences(ctx context.Context, e *records.Edition, found []records.Difference, settled []string) error
	AskDrift(ctx context.Context, e *records.Edition, asked drift.Asked, by string) (id int64, err error)
	NextOrder(ctx context.Context, e *records.Edition) (*records.Order, error)
	// SaveOrder records how far an order is. It reports whether it still stands.
	SaveOrder(ctx context.Context, e *records.Edition, id int64, o *drift.Outcome, ended bool) (bool, error)
}

// Checker compares one edition with its rows. Make one with New.
type Checker struct {
	edition  *deliver.Edition
	state    func() reindex.State
	reader   source.Reader
	engine   *connect.Engine
	store    Store
	policy   func() drift.Policy
	caughtUp func(ctx context.Context) error
	log      *slog.Logger
	of       *compare.Edition

	orders atomic.Bool // there may be some
	nudged chan struct{}

	mu       sync.Mutex // guards what follows
	coverage drift.Coverage
	standing map[string]records.Difference
}

// New prepares the checks of an edition. caughtUp waits until every change that its sources hold now is
// delivered.
func New(
	e *deliver.Edition,
	fill *rebuild.Fill,
	reader source.Reader,
	eng *connect.Engine,
	store Store,
	policy func() drift.Policy,
	caughtUp func(ctx context.Context) error,
	log *slog.Logger,
) *Checker {
	c := &Checker{
		edition: e, reader: reader, engine: eng, store: store, policy: policy, caughtUp: caughtUp,
		log:    log.With("index", e.Record.Index, "edition", e.Record.Name()),
		of:     compare.New(e.Record.Name(), e.Record.Shape, reader, eng),
		nudged: make(chan struct{}, 1), standing: map[string]records.Difference{},
		state: func() reindex.State {
			state, _ := fill.State()
			return state
		},
	}
	c.orders.Store(true)
	return c
}

// Nudge says that something was asked for.
func (c *Checker) Nudge() {
	c.orders.Store(true)
	select {
	case c.nudged <- struct{}{}:
	default:
	}
}

// Status is how much is proven, and what is known to differ.
type Status struct {
	Coverage drift.Coverage
	Kinds    map[drift.Kind]int64
	Causes   map[drift.Cause]int64
	// Since is when the oldest difference was found that stands; zero when none does.
	Since time.Time
}

// Status says how things stand.
func (c *Checker) Status() Status {
	c.mu.Lock()
	defer c.mu.Unlock()
	out := Status{Coverage: c.coverage, Kinds: map[drift.Kind]int64{}, Causes: map[drift.Cause]int64{}}
	for _, d := range c.standing {
		out.Kinds[d.Kind]++
		out.Causes[d.Cause]++
		out.Since = deliver.Earlier(out.Since, d.FoundAt)
	}
	return out
}

const (
	// tryAgain is how soon something is tried again that failed, or cannot be done now.
	tryAgain = 2 * time.Second
	// idleFor is the interval between checks for work.
	idleFor = 30 * time.Second
	// betweenRounds is how long there is at least between the beginnings of two rounds.
	betweenRounds = 10 * time.Minute
	// leastPace is how many documents a second a sweep compares at least, and firstPace where nothing was
	// compared yet.
	leastPace, firstPace = 20, 2000
	// lookAgain is the interval between comparisons of documents that differ.
	lookAgain = time.Minute
	// settleFor is how long changes may be pending before a comparison gives up.
	settleFor = 30 * time.Second
	// workers compare side by side when a person waits.
	workers = 4
)

// Run sweeps over the edition, and does what is asked for, until the context ends.
func (c *Checker) Run(ctx context.Context) {
	load := func() error {
		coverage, err := c.store.Coverage(ctx, c.edition.Record)
		if err != nil {
			return err
		}
		list, err := c.store.Differences(ctx, c.edition.Record)
		if err != nil {
			return err
		}
		c.mu.Lock()
		defer c.mu.Unlock()
		c.coverage = *coverage
		for _, d := range list {
			c.standing[d.Key] = d
		}
		return nil
	}
	if retry.Until(ctx, load, c.quietly("reading what was compared")) != nil {
		return
	}
	s := &steady{c: c, looked: time.Now()}
	for ctx.Err() == nil {
		wait := tryAgain
		if c.orders.Swap(false) {
			order, err := c.store.NextOrder(ctx, c.edition.Record)
			switch {
			case err != nil:
				c.orders.Store(true)
			case order != nil:
				c.orders.Store(true)
				c.carryOut(ctx, order)
				continue
			default:
				wait = 0
			}
		} else {
			wait = s.next(ctx)
		}
		select {
		case <-ctx.Done():
		case <-c.nudged:
		case <-time.After(wait):
		}
	}
}

// quietly says in the log why something does not go on; it is no trouble of the index.
func (c *Checker) quietly(what string) func(err error, failures int) {
	return func(err error, failures int) {
		if failures == 3 {
			c.log.Warn("comparison waits", "of", what, "reason", err)
		}
	}
}

// steady is the sweep that goes on all the time.
type steady struct {
	c      *Checker
	due    time.Time // when the next step is
	round  time.Time // when this round began
	looked time.Time // when documents that differ were last looked at again
	apart  time.Time // since when counts are apart that a check was asked for, and when it was
	asked  time.Time
	// schedule is what at, the time of the next check, was found by.
	schedule string
	at       time.Time
	job      *job
}

// next takes the next step when it is due, and returns how long to wait before it is called again.
func (s *steady) next(ctx context.Context) time.Duration {
	c, now, policy := s.c, time.Now(), s.c.policy()
	switch {
	case c.state().Pending():
		return tryAgain
	case c.state() != reindex.Switched || c.edition.Missed.Load() != nil:
		return idleFor
	case c.edition.Waiting() > 0 || c.edition.Trouble.Get() != nil: // fresh changes go first
		return time.Second
	}
	if now.Sub(s.looked) >= lookAgain {
		s.looked = now
		if err := c.lookAgain(ctx); err != nil {
			c.log.Debug("differences not looked at again", "reason", err)
		}
	}
	if err := s.occasions(ctx, policy, now); err != nil {
		c.log.Debug("no check asked for", "reason", err)
	}
	if policy.Every == 0 && policy.Refresh == 0 {
		return idleFor
	}
	if wait := s.due.Sub(now); wait > 0 {
		return min(wait, idleFor)
	}
	c.mu.Lock()
	starts, first, checked := !c.coverage.Looked, c.coverage.Round == 0, c.coverage.Checked()
	c.mu.Unlock()
	if starts && checked != nil && now.Sub(*checked) < betweenRounds && policy.Refresh == 0 {
		return idleFor // a check, or the process before, has just been through all of it
	}
	if starts || s.job == nil {
		asked := drift.Asked{Documents: firstPace}
		if policy.Refresh > 0 {
			asked.Repairs, asked.Deletes = drift.RepairAll, true
		}
		s.round, s.job = now, c.newJob(asked)
	}
	before := s.job.outcome().Compared
	over, err := c.step(ctx, s.job, 1)
	if err != nil {
		if ctx.Err() == nil {
			c.log.Debug("sweep waits", "reason", err)
		}
		return tryAgain
	}
	compared := s.job.outcome().Compared - before
	switch {
	case over && policy.Refresh > 0:
		c.roundOver(ctx, s.job)
		s.due = s.round.Add(policy.Refresh)
	case over:
		c.roundOver(ctx, s.job)
		s.due = s.round.Add(betweenRounds)
	case !first && policy.Refresh == 0:
		s.due = now.Add(min(time.Second*time.Duration(compared)/leastPace, s.share(compared, policy.Every)))
	}
	return max(0, min(time.Until(s.due), idleFor))
}

// occasions asks for a check where there is reason for one: its time has come, or the counts are apart.
func (s *steady) occasions(ctx context.Context, policy drift.Policy, now time.Time) error {
	c := s.c
	by := ""
	apart := c.edition.Stats.Apart.Load()
	switch {
	case apart != nil && !apart.Equal(s.apart) && now.Sub(s.asked) >= betweenRounds:
		by = "counts that do not fit"
	case policy.At != s.schedule:
		s.schedule, s.at = policy.At, time.Time{}
		if schedule, err := drift.ParseSchedule(policy.At); err == nil {
			s.at = schedule.Next(now)
		}
		return nil
	case !s.at.IsZero() && now.After(s.at):
		by = "schedule"
	default:
		return nil
	}
	if _, err := c.store.AskDrift(ctx, c.edition.Record, drift.Asked{}, by); err != nil {
		return err
	}
	if by == "schedule" {
		s.schedule = "" // the next time is found then
	} else {
		s.apart, s.asked = *apart, now
	}
	c.Nudge()
	return nil
}

// share is how long a number of rows may take when all take as long as a round.
func (s *steady) share(rows int64, every time.Duration) time.Duration {
	all := max(1, s.c.countedRows())
	return time.Duration(float64(every) * 0.9 * float64(rows) / float64(all))
}

// countedRows is how many rows there are, as far as that is known.
func (c *Checker) countedRows() int64 {
	if n, _ := c.edition.Stats.Rows.Get(); n != nil {
		return *n
	}
	return 0
}

// newJob is a job with what the definition says where it was not asked for something else.
func (c *Checker) newJob(asked drift.Asked) *job {
	policy := c.policy()
	c.mu.Lock()
	round := c.coverage.Round
	c.mu.Unlock()
	j := &job{
		c:       c,
		began:   time.Now(),
		asked:   asked,
		repairs: asked.Repairs,
		few:     policy.Few,
		whole:   compare.Share{Of: policy.Content},
	}
	if j.repairs == "" {
		j.repairs = policy.Repair
	}
	if asked.Content != nil {
		j.whole.Of = *asked.Content
	}
	j.whole.From = j.whole.Of * float64(round%1000) // others in each round
	j.pace.Documents = asked.Documents
	if policy.Documents > 0 && (j.pace.Documents == 0 || policy.Documents < j.pace.Documents) {
		j.pace.Documents = policy.Documents
	}
	return j
}

// step takes the next step of a round: all documents of the engine, or one segment of rows. It reports
// whether the round is over.
func (c *Checker) step(ctx context.Context, j *job, side int) (over bool, err error) {
	c.mu.Lock()
	at := c.coverage
	c.mu.Unlock()
	now := time.Now()
	switch {
	case !at.Looked && side > 1:
		if err := j.list(ctx); err != nil {
			return false, err
		}
		at.List()
		return false, c.save(ctx, at)
	case !at.Looked:
		if err := j.scan(ctx); err != nil {
			return false, err
		}
		at.List()
		at.Scan(now)
		return false, c.save(ctx, at)
	}
	rows := c.countedRows()
	most := drift.SegmentRows(rows)
	if side > 1 && rows > 10_000 { // larger ones keep all busy
		most *= 8
	}
	s, err := j.segment(ctx, c.edition.Record.Shape.Trees[at.Tree], at.After, most, side)
	if err != nil {
		return false, err
	}
	s.At = now
	over = at.Took(s, len(c.edition.Record.Shape.Trees))
	if over && side > 1 {
		if err := j.unseen(ctx); err != nil {
			return false, err
		}
		at.Scan(j.began)
	}
	return over, c.save(ctx, at)
}

func (c *Checker) save(ctx context.Context, coverage drift.Coverage) error {
	if err := c.store.SaveCoverage(ctx, c.edition.Record, &coverage); err != nil {
		return fmt.Errorf("recording what was compared: %w", err)
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	c.coverage = coverage
	return nil
}

// roundOver says what documents that are missing are likely missing for, by all that a round has found.
func (c *Checker) roundOver(ctx context.Context, j *job) {
	found := j.outcome().Found
	cause := found.CauseOfMissing()
	if n := found.Differing(); n > 0 {
		c.log.Warn("documents differ from their rows", "found", drift.Summary(found.Kinds), "of", found.Compared)
	}
	var changed []records.Difference
	c.mu.Lock()
	for _, d := range c.standing {
		if d.Kind == drift.Missing && d.Cause == drift.ByEngine && cause != drift.ByEngine {
			d.Cause = cause
			changed = append(changed, d)
		}
	}
	c.mu.Unlock()
	if len(changed) == 0 {
		return
	}
	j.recast(cause, int64(len(changed)))
	if err := c.note(ctx, changed, nil); err != nil && ctx.Err() == nil {
		c.log.Debug("causes not recorded", "reason", err) // they are found again
	}
}

// note records differences, and that others no longer differ.
func (c *Checker) note(ctx context.Context, found []records.Difference, settled []string) error {
	c.mu.Lock()
	room := records.MostDifferences - len(c.standing)
	kept := found[:0:0]
	for _, d := range found {
		if _, known := c.standing[d.Key]; !known {
			if room--; room < 0 {
				continue
			}
		}
		kept = append(kept, d)
	}
	settled = slices.DeleteFunc(slices.Clone(settled), func(key string) bool {
		_, stands := c.standing[key]
		return !stands
	})
	c.mu.Unlock()
	if len(kept) == 0 && len(settled) == 0 {
		return nil
	}
	if err := c.store.SaveDifferences(ctx, c.edition.Record, kept, settled); err != nil {
		return fmt.Errorf("recording differences: %w", err)
	}
	now := time.Now()
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, key := range settled {
		delete(c.standing, key)
	}
	for _, d := range kept {
		if d.FoundAt = now; !c.standing[d.Key].FoundAt.IsZero() {
			d.FoundAt = c.standing[d.Key].FoundAt
		}
		c.standing[d.Key] = d
	}
	return nil
}

// lookAgain compares the documents that differ, and forgets those that no longer do.
func (c *Checker) lookAgain(ctx context.Context) error {
	c.mu.Lock()
	keys := slices.Sorted(maps.Keys(c.standing))
	c.mu.Unlock()
	for some := range slices.Chunk(keys, 1000) {
		now, err := c.of.Keys(ctx, some)
		if err != nil {
			return err
		}
		differs := map[string]bool{}
		for _, d := range now {
			differs[d.Key] = !c.edition.Failing(d.Key)
		}
		settled := slices.DeleteFunc(slices.Clone(some), func(key string) bool { return differs[key] })
		if err := c.note(ctx, nil, settled); err != nil {
			return err
		}
	}
	return nil
}

// errUnsettled says that changes were pending for too long.
var errUnsettled = errors.New("changes were pending for too long")

// settle waits until every change that there is now is delivered, but not for ever: one may wait behind a
// long transaction.
func (c *Checker) settle(ctx context.Context) error {
	some, cancel := context.WithTimeout(ctx, settleFor)
	defer cancel()
	err := c.caughtUp(some)
	if err != nil && ctx.Err() == nil && some.Err() != nil {
		return errUnsettled
	}
	return err
}
