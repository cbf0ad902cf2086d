package flow

import (
	"context"
	"sync"
	"time"

	"pingo/internal/core/change"
	"pingo/internal/core/document"
	"pingo/internal/core/fill"
	"pingo/internal/core/retry"
	"pingo/internal/engine/wire"
)

// lane delivers the keys that hash to it, one request at a time.
type lane struct {
	edition *editionFlow
	number  int // among the edition's lanes
	mu      sync.Mutex
	ready   chan struct{}
	// lines are the keys that wait: fresh, for changes that touch few documents, and
	// wide, for those that may touch very many, and for the backlog.
	lines [2]line
	// later are keys that were sent often enough of late; released counts how often they
	// were let go on.
	later    change.Queue
	released int
	pace     change.Pace
	gone     bool // nobody asks for its documents any more
	sizer    fill.Sizer
	// sent is the time of the oldest change whose document is on its way.
	sent time.Time
	// unsettled were taken, but the context ended before they were delivered.
	unsettled []change.Entry
	// sending is held from taking keys, or from dropping a chunk's touched
	// documents, until the engine has acknowledged: a key is never in two requests.
	sending sync.Mutex
	// seen is what the engine acknowledged; it belongs to who holds sending.
	seen document.Seen
}

// line is keys that wait for their turn; taken counts those that were taken and settled.
type line struct {
	change.Queue
	taken int64
}

// The lines of a lane.
const (
	fresh = iota
	wide
)

func (l *lane) run(ctx context.Context) {
	sets := newSets(l.edition.shape)
	var docs []wire.Document
	var arena []byte
	for {
		select {
		case <-ctx.Done():
			return
		case <-l.ready:
		}
		for ctx.Err() == nil {
			l.sending.Lock()
			entries, ofWide := l.take()
			if len(entries) > 0 {
				docs, arena = l.edition.build(ctx, l, entries, sets, docs[:0], arena[:0])
				l.sizer.Saw(len(entries), len(arena))
				l.mu.Lock()
				l.sent = time.Time{}
				if ctx.Err() != nil {
					l.unsettled = entries
				} else {
					l.lines[fresh].taken += int64(len(entries) - ofWide)
					l.lines[wide].taken += int64(ofWide)
				}
				l.mu.Unlock()
			}
			l.sending.Unlock()
			l.edition.turn.pass(l)
			if len(entries) == 0 {
				break
			}
			if cap(arena) > 2*retry.MaxBytes {
				arena = nil // one blown-up batch must not stay in memory
			}
		}
	}
}

// take takes the next keys, fresh ones first, but for those that were sent too often of
// late: they wait. The last of them are of wide changes, so many as it says.
func (l *lane) take() (entries []change.Entry, ofWide int) {
	l.mu.Lock()
	defer l.mu.Unlock()
	now := time.Now()
	for len(entries) == 0 && l.lines[fresh].Len()+l.lines[wide].Len() > 0 {
		most := min(laneTakes, l.sizer.Rows())
		rest := min(most, l.lines[wide].Len())
		if rest > 0 {
			rest = min(rest, l.edition.turn.take(l, now))
			if rest+l.lines[fresh].Len() == 0 {
				break
			}
		}
		entries = l.hold(l.lines[fresh].Take(nil, max(1, most-rest)), now)
		waiting := l.lines[wide].Take(nil, rest)
		kept := l.hold(waiting, now)
		l.lines[wide].taken += int64(len(waiting) - len(kept)) // the others go on as fresh ones
		entries, ofWide = append(entries, kept...), len(kept)
	}
	for _, entry := range entries {
		if at := oldestOf(entry.Tickets); l.sent.IsZero() || at.Before(l.sent) {
			l.sent = at
		}
	}
	return entries, ofWide
}

// turn is held by the one lane of an edition that may carry keys of wide changes while
// there are fresh ones. All of them together would leave these no processor.
type turn struct {
	mu    sync.Mutex
	held  *lane
	since time.Time
	fresh time.Time // when a fresh key came last
}

const (
	freshFor = time.Second // lanes take turns for so long after a fresh key came
	turnFor  = time.Second // a lane that has the turn for longer gets no answer: another may have it
)

// freshCame says that a fresh key waits now.
func (t *turn) freshCame() {
	t.mu.Lock()
	t.fresh = time.Now()
	t.mu.Unlock()
}

// take says how many keys of wide changes a lane may carry now.
func (t *turn) take(l *lane, now time.Time) int {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.held == nil || now.Sub(t.since) > turnFor {
		t.held, t.since = l, now
	}
	switch {
	case now.Sub(t.fresh) > freshFor:
		return laneTakes
	case t.held == l:
		return wideTakes
	}
	return 0
}

// pass gives the turn, if a lane has it, to the next one where such keys wait.
func (t *turn) pass(l *lane) {
	t.mu.Lock()
	mine := t.held == l
	t.mu.Unlock()
	if !mine {
		return
	}
	next := func() *lane {
		for i := range lanes {
			other := l.edition.lanes[(l.number+1+i)%lanes]
			other.mu.Lock()
			waiting := other.lines[wide].Len()
			other.mu.Unlock()
			if waiting > 0 {
				return other
			}
		}
		return nil
	}
	other := next()
	t.mu.Lock()
	if t.held == l {
		t.held, t.since = other, time.Now()
	}
	t.mu.Unlock()
	if other == nil {
		other = next() // it came meanwhile, and did not get the turn
	}
	if other != nil {
		nudge(other.ready)
	}
}

// hold keeps back the keys that were sent too often of late.
func (l *lane) hold(entries []change.Entry, now time.Time) []change.Entry {
	kept := entries[:0]
	for _, entry := range entries {
		if wait := l.pace.Sends(entry.Key, now); wait > 0 {
			if l.later.Len() == 0 {
				time.AfterFunc(wait, l.goOn)
			}
			l.later.Put(entry)
			continue
		}
		kept = append(kept, entry)
	}
	return kept
}

func (l *lane) goOn() {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.release()
	nudge(l.ready)
}

func (l *lane) release() {
	for _, entry := range l.later.Take(nil, l.later.Len()) {
		l.lines[fresh].Put(entry)
	}
	l.released++
}

// letGoOn waits until the keys that wait for being sent too often wait no longer.
func (l *lane) letGoOn(ctx context.Context) error {
	l.mu.Lock()
	before, none := l.released, l.later.Len() == 0
	l.mu.Unlock()
	for !none && ctx.Err() == nil {
		sleep(ctx, 10*time.Millisecond)
		l.mu.Lock()
		none = l.released > before
		l.mu.Unlock()
	}
	return ctx.Err()
}
