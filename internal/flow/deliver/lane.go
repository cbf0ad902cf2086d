package deliver

import (
	"context"
	"sync"
	"time"

	"pingo/internal/core/change"
	"pingo/internal/core/document"
	"pingo/internal/core/reindex"
	"pingo/internal/core/retry"
	"pingo/internal/core/shape"
	"pingo/internal/engine"
	"pingo/internal/flow/connect"
)

// lane delivers the keys that hash to it, one request at a time.
type lane struct {
	edition *Edition
	number  int // among the edition's lanes
	ready   chan struct{}

	// sending is held from taking keys, or from dropping a chunk's touched documents,
	// until the engine has acknowledged: a key is never in two requests. It is taken
	// before mu.
	sending mutex
	// seen is what the engine acknowledged; guarded by sending.
	seen document.Seen

	// read is when the documents were last read whose changes may wait in the journal more than once.
	read reads

	mu    sync.Mutex // guards what follows
	lines [2]change.Queue
	// throttled are keys that were sent too often recently.
	throttled change.Queue
	throttle  change.Throttle
	sizer     reindex.Sizer
	// current are the entries that are being built; what is settled of them is emptied.
	current []change.Entry
	closed  bool // its documents are no longer needed
}

// workspace is what a lane builds in; it is used again and again.
type workspace struct {
	sets  []*document.Set // one for each tree
	docs  []engine.Document
	arena []byte
}

func (l *lane) run(ctx context.Context) {
	var w *workspace
	forget := func() { w = newWorkspace(l.edition.Record.Shape) }
	forget()
	for {
		select {
		case <-ctx.Done():
			return
		case <-l.ready:
		}
		for ctx.Err() == nil {
			l.sending.lock()
			entries := l.take()
			if len(entries) > 0 {
				release, err := l.edition.engine.Lanes.Take(ctx, l.weight(len(entries)), forget)
				if err == nil {
					l.build(ctx, entries, w)
					release()
				}
				if ctx.Err() == nil {
					l.mu.Lock()
					l.current = nil
					l.mu.Unlock()
				}
			}
			l.sending.unlock()
			l.edition.slot.handOver(l)
			if len(entries) == 0 {
				break
			}
			if cap(w.arena) > 2*retry.MaxBytes {
				w.arena = nil // one blown-up batch must not stay in memory
			}
		}
		if cap(w.arena) > idleBytes {
			forget()
		}
		if !l.edition.slot.behind(time.Now()) {
			l.read.clear()
		}
	}
}

// lightBytes is how much a batch may weigh without being counted, so that fresh changes do not wait.
const lightBytes = 64 << 10

// weight is the memory that a number of documents will need, as far as it is known.
func (l *lane) weight(documents int) int64 {
	l.mu.Lock()
	defer l.mu.Unlock()
	bytes := int64(float64(documents) * max(l.sizer.BytesPerRow(), 1000) * connect.BatchBytes / reindex.TargetBytes)
	if bytes < lightBytes {
		return 0
	}
	return bytes
}

// idleBytes is how large the documents of a batch may have been for its room to be kept while nothing is to be built.
const idleBytes = 256 << 10

func newWorkspace(s *shape.Shape) *workspace {
	w := &workspace{}
	for _, t := range s.Trees {
		w.sets = append(w.sets, document.NewSet(t))
	}
	return w
}

// full reports whether a line, with the changes that wait in it, is long enough.
func (l *lane) full(in Line) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.lines[in].Len() >= lineLimit || l.lines[in].Tickets()+l.throttled.Tickets() >= lineLimit
}

// add lets a key wait in a line, however full it is. In an edition that stops, the
// ticket stays open, and the change in the journal.
func (l *lane) add(key string, t *change.Ticket, in Line) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.closed {
		return
	}
	if in == Fresh {
		l.edition.slot.noteFresh()
	}
	l.lines[in].Add(key, t)
	nudge(l.ready)
}

// join lets a ticket wait for every key that waits or is being built. It returns when
// nothing is being sent that was sent before.
func (l *lane) join(t *change.Ticket) {
	l.joinWaiting(t)
	l.sending.lock() // for what a chunk sends
	defer l.sending.unlock()
}

// mutex is a lock that is held while an engine is waited for, which may be long. It is a
// channel, so that tests in virtual time can wait for it.
type mutex chan struct{}

func (m mutex) lock()   { m <- struct{}{} }
func (m mutex) unlock() { <-m }

func (l *lane) joinWaiting(t *change.Ticket) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, q := range []*change.Queue{&l.lines[Fresh], &l.lines[Wide], &l.throttled} {
		q.Join(t)
	}
	for i := range l.current {
		if l.current[i].Key != "" {
			t.Open()
			l.current[i].Tickets = append(l.current[i].Tickets, t)
		}
	}
}

// take takes the next keys, fresh ones first, but for those that were sent too often of
// late: they wait.
func (l *lane) take() []change.Entry {
	l.mu.Lock()
	defer l.mu.Unlock()
	now := time.Now()
	var entries []change.Entry
	for len(entries) == 0 && l.lines[Fresh].Len()+l.lines[Wide].Len() > 0 {
		most := min(batchKeys, l.sizer.Rows())
		rest := min(most, l.lines[Wide].Len())
		if rest > 0 {
			rest = min(rest, l.edition.slot.allowance(l, now))
			if rest+l.lines[Fresh].Len() == 0 {
				break
			}
		}
		entries = l.admit(l.lines[Fresh].Take(nil, max(1, most-rest)), now)
		entries = append(entries, l.admit(l.lines[Wide].Take(nil, rest), now)...)
	}
	l.current = entries
	return entries
}

// admit keeps back the keys that were sent too often recently.
func (l *lane) admit(entries []change.Entry, now time.Time) []change.Entry {
	kept := entries[:0]
	for _, entry := range entries {
		if wait := l.throttle.Admit(entry.Key, now); wait > 0 {
			if l.throttled.Len() == 0 {
				time.AfterFunc(wait, l.release)
			}
			l.throttled.Put(entry)
			continue
		}
		kept = append(kept, entry)
	}
	return kept
}

// release lets the throttled keys go on.
func (l *lane) release() {
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, entry := range l.throttled.Take(nil, l.throttled.Len()) {
		l.lines[Fresh].Put(entry)
	}
	nudge(l.ready)
}

func (l *lane) waiting() int {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.lines[Fresh].Len() + l.lines[Wide].Len() + l.throttled.Len()
}

// wideWaiting is how many keys of wide changes wait.
func (l *lane) wideWaiting() int {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.lines[Wide].Len()
}

// oldest is when the oldest change was made that waits or whose document is being built.
func (l *lane) oldest() time.Time {
	l.mu.Lock()
	defer l.mu.Unlock()
	oldest := Earlier(Earlier(l.lines[Fresh].Oldest(), l.lines[Wide].Oldest()), l.throttled.Oldest())
	for _, entry := range l.current {
		oldest = Earlier(oldest, change.Oldest(entry.Tickets))
	}
	return oldest
}

// abandon closes all tickets that wait here, and takes no more.
func (l *lane) abandon() {
	l.mu.Lock()
	l.closed = true
	open := l.current
	for _, q := range []*change.Queue{&l.lines[Fresh], &l.lines[Wide], &l.throttled} {
		open = q.Take(open, q.Len())
	}
	l.current = nil
	l.mu.Unlock()
	for _, entry := range open {
		for _, t := range entry.Tickets {
			t.Close()
		}
	}
}

// wideSlot is the right of one lane of an edition to carry keys of wide changes while
// there are fresh ones. All of them together would leave these no processor.
type wideSlot struct {
	mu     sync.Mutex // guards what follows; taken after a lane's
	holder *lane
	since  time.Time
	fresh  time.Time // when a fresh key came last
	// old is when a change came last that had been committed long before it was read.
	old time.Time
}

const (
	// backlogAge is how long a change was committed before it was read when there is a journal to be worked off.
	backlogAge = time.Second
	// behindFor is how long after a change that had been committed long before it was read there may be more.
	behindFor = 5 * time.Second

	freshFor = time.Second // how long lanes take turns after a fresh key came
	slotFor  = time.Second // a lane that has it for longer gets no answer: another may have it
)

// noteFresh says that a fresh key waits now.
func (t *wideSlot) noteFresh() {
	t.mu.Lock()
	t.fresh = time.Now()
	t.mu.Unlock()
}

// noteCommitted says that a change is read that had been committed by some time.
func (t *wideSlot) noteCommitted(by time.Time) {
	if time.Since(by) < backlogAge {
		return // as any key may that was written at the same time as others
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	t.old = time.Now()
}

// behind reports whether changes are read that were committed long before: a row may have several of them.
func (t *wideSlot) behind(now time.Time) bool {
	t.mu.Lock()
	defer t.mu.Unlock()
	return now.Sub(t.old) < behindFor
}

// freshOfLate reports whether fresh keys came a moment ago.
func (t *wideSlot) freshOfLate(now time.Time) bool {
	t.mu.Lock()
	defer t.mu.Unlock()
	return now.Sub(t.fresh) <= freshFor
}

// allowance is how many keys of wide changes a lane may carry now.
func (t *wideSlot) allowance(l *lane, now time.Time) int {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.holder == nil || now.Sub(t.since) > slotFor {
		t.holder, t.since = l, now
	}
	switch {
	case now.Sub(t.fresh) > freshFor:
		return batchKeys
	case t.holder == l:
		return wideKeys
	}
	return 0
}

// handOver gives the slot, if a lane has it, to the next one where such keys wait.
func (t *wideSlot) handOver(l *lane) {
	t.mu.Lock()
	mine := t.holder == l
	t.mu.Unlock()
	if !mine {
		return
	}
	next := func() *lane {
		for i := range Lanes {
			if other := l.edition.lanes[(l.number+1+i)%Lanes]; other.wideWaiting() > 0 {
				return other
			}
		}
		return nil
	}
	other := next()
	t.mu.Lock()
	if t.holder == l {
		t.holder, t.since = other, time.Now()
	}
	t.mu.Unlock()
	if other == nil {
		other = next() // it came meanwhile, and did not get the slot
	}
	if other != nil {
		nudge(other.ready)
	}
}
