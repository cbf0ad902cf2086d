package rebuild

import (
	"context"
	"fmt"
	"sync"
	"time"

	"pingo/internal/core/reindex"
	"pingo/internal/core/retry"
	"pingo/internal/flow/deliver"
	"pingo/internal/records"
)

const (
	// lookAgain is how often a worker that waits looks whether it may go on.
	lookAgain = 500 * time.Millisecond
	// watchEvery is the interval between measurements of the speed of a fill.
	watchEvery = time.Second
)

// pacer says when more of an edition may be filled.
type pacer struct {
	policy func() reindex.Policy

	mu      sync.Mutex // guards what follows
	course  records.Course
	budget  reindex.Budget
	resting time.Time      // until then the source rests
	strain  reindex.Strain // of comparing
}

func (p *pacer) set(c records.Course) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.course = c
}

// Course is what people said of how the edition is filled.
func (p *pacer) Course() records.Course {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.course
}

// Pace is what a person set, or else what the definition says.
func (p *pacer) Pace() reindex.Pace {
	if set := p.Course().Pace; set != nil {
		return reindex.Pace(*set)
	}
	return p.policy().Pace
}

// halted says why nothing is filled now; empty when something is.
func (p *pacer) halted(now time.Time) string {
	pace, course := p.Pace(), p.Course()
	next := pace.Hours.Next(now)
	switch at := course.BeginsAt; {
	case course.Paused:
		return "it is paused"
	case at != nil && at.After(now):
		return "it begins " + at.Local().Format("2006-01-02 15:04")
	case !next.IsZero():
		return fmt.Sprintf("it is filled from %s only, next at %s", pace.Hours, next.Format("2006-01-02 15:04"))
	}
	return ""
}

// wait is how long a worker is to wait before it looks again whether it may go on; 0 when it may.
func (p *pacer) wait(worker int) time.Duration {
	now := time.Now()
	if pace := p.Pace(); p.halted(now) != "" || pace.Workers > 0 && worker >= pace.Workers {
		return lookAgain
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	return min(lookAgain, max(p.budget.Wait(now), p.resting.Sub(now)))
}

// spend takes in the size of a chunk, and how long the source rests after it.
func (p *pacer) spend(c deliver.Chunk, rest time.Duration) {
	pace, now := p.Pace(), time.Now()
	p.mu.Lock()
	defer p.mu.Unlock()
	p.budget.Spend(pace, c.Rows, c.Bytes, now)
	if rest > 0 {
		p.resting = now.Add(rest)
	}
}

// after waits as the pace requires after a number of documents and bytes, and lets a strained source rest.
func (p *pacer) after(ctx context.Context, documents, bytes int, took time.Duration) error {
	p.mu.Lock()
	rest := p.strain.Rest(documents, took)
	p.mu.Unlock()
	p.spend(deliver.Chunk{Rows: documents, Bytes: bytes}, rest)
	for wait := p.wait(0); wait > 0; wait = p.wait(0) {
		if !retry.Sleep(ctx, wait) {
			return ctx.Err()
		}
	}
	return ctx.Err()
}

// rests reports whether the source rests for a while.
func (p *pacer) rests(now time.Time) bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.resting.After(now)
}

// Waits is what an edition waits for, and the course of its fill.
type Waits struct {
	records.Course
	// Why nothing of it is filled now, or slowly; empty when neither is so.
	Why string
	// Halted: nothing is. ByHand: it waits until a person decides.
	Halted, ByHand bool
	// Now is the pace that holds.
	Now reindex.Pace
}

// Waits says what the edition waits for.
func (f *Fill) Waits() Waits {
	now := time.Now()
	f.mu.Lock()
	state, byHand := f.record.State, f.byHand
	f.mu.Unlock()
	out := Waits{Course: f.pacer.Course(), ByHand: byHand, Now: f.pacer.Pace()}
	if state != reindex.Filling && state != reindex.Preparing {
		return out
	}
	if why := f.pacer.halted(now); why != "" {
		out.Why, out.Halted = why, true
	} else if f.pacer.rests(now) {
		out.Why = "the source is slow, so Pingo pauses between reads"
	}
	return out
}

// watch looks how fast the fill is, and records when it halts and goes on, until the context ends.
func (f *Fill) watch(ctx context.Context) {
	last, told := time.Now(), ""
	for retry.Sleep(ctx, watchEvery) {
		now := time.Now()
		why := f.pacer.halted(now)
		if why == "" {
			f.update(func(_ *records.Edition, p *reindex.Progress) { p.Looked(p.Rows, p.Expected, now.Sub(last)) })
		}
		last = now
		if why == told || f.pacer.Course().Paused { // the person who paused it is recorded
			continue
		}
		what := "goes on"
		if why != "" {
			what = "waits: " + why
		}
		if err := f.store.SaveEvent(ctx, f.copy(), what); err != nil {
			f.log.Debug("event not recorded", "what", what, "reason", err)
			continue // tried again in a second
		}
		told = why
	}
}
