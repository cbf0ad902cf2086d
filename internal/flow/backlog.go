package flow

import (
	"context"
	"sync"
	"sync/atomic"
	"time"

	"pingo/internal/core/change"
	"pingo/internal/records"
	"pingo/internal/source"
)

const (
	owedAtOnce  = 1000            // keys written to the backlog together
	owedWaits   = 20000           // keys that may wait to be written before who adds them is held up
	drainAtOnce = 2500            // keys taken from the backlog together
	lookForMore = 2 * time.Second // what other processes put there is seen after that
	expanders   = 2               // changes that touch many documents are followed up side by side
)

// backlog is what an edition owes and no lane holds: keys in the records database. Keys
// come here when lanes are full, because a change touches very many documents or
// because the engine takes none; their changes are done then. Lanes are refilled from
// it when they have little to do.
type backlog struct {
	mu      sync.Mutex
	room    sync.Cond
	keys    []string
	tickets map[string][]*change.Ticket
	// writing are the tickets of keys that are just being written. A change that comes
	// meanwhile is owed anew: the document may be built already.
	writing []*change.Ticket
	closed  bool // nobody is to wait any longer
	gone    bool // nobody asks for these documents any more
	wake    chan struct{}

	size   atomic.Int64 // in the records database, as last counted
	oldest atomic.Pointer[time.Time]
	more   chan struct{} // something was written

	// expansions are changes that are being followed to documents.
	expanding []*expansion
	next      chan struct{}
}

// expansion is the work of following some changes to the documents that they touch.
type expansion struct {
	follow func(ctx context.Context, ticket *change.Ticket) error
	ticket *change.Ticket
	taken  bool
}

func (b *backlog) init() {
	b.room.L = &b.mu
	b.tickets = map[string][]*change.Ticket{}
	b.wake, b.more, b.next = make(chan struct{}, 1), make(chan struct{}, 1), make(chan struct{}, expanders)
}

func nudge(c chan struct{}) {
	select {
	case c <- struct{}{}:
	default:
	}
}

// owe lets a ticket wait until a key is in the backlog.
func (b *backlog) owe(ctx context.Context, key string, t *change.Ticket) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	for len(b.keys) >= owedWaits && !b.closed {
		b.room.Wait()
	}
	if b.closed || b.gone {
		return ctx.Err()
	}
	t.Open()
	if t.Tally != nil {
		t.Tally.Owed.Add(1)
	}
	if _, waits := b.tickets[key]; !waits {
		b.keys = append(b.keys, key)
	}
	b.tickets[key] = append(b.tickets[key], t)
	nudge(b.wake)
	return nil
}

// write moves what is owed into the records database until the context ends.
func (e *editionFlow) write(ctx context.Context) {
	b := &e.backlog
	for {
		select {
		case <-ctx.Done():
			return
		case <-b.wake:
		}
		for {
			b.mu.Lock()
			keys := b.keys[:min(owedAtOnce, len(b.keys))]
			b.keys = append([]string(nil), b.keys[len(keys):]...)
			at := make([]time.Time, len(keys))
			for i, k := range keys {
				at[i] = oldestOf(b.tickets[k])
				b.writing = append(b.writing, b.tickets[k]...)
				delete(b.tickets, k)
			}
			b.mu.Unlock()
			if len(keys) == 0 {
				break
			}
			began := time.Now()
			for attempt := 1; ; attempt++ {
				n, err := e.records.Owe(ctx, e.record, keys, at)
				if err == nil {
					b.size.Add(n)
					e.overcome(attempt)
					break
				}
				if !e.pause(ctx, attempt, "writing the backlog: "+err.Error(), false) {
					return // the tickets stay open, so the journal keeps the changes
				}
			}
			b.mu.Lock()
			written := b.writing
			b.writing = nil
			b.room.Broadcast()
			b.mu.Unlock()
			for _, t := range written {
				t.Close()
			}
			nudge(b.more)
			sleep(ctx, 4*time.Since(began)) // so that fresh changes have most of the machine
		}
	}
}

func oldestOf(tickets []*change.Ticket) time.Time {
	oldest := time.Now()
	for _, t := range tickets {
		if !t.At.IsZero() && t.At.Before(oldest) {
			oldest = t.At
		}
	}
	return oldest
}

// drain builds what is owed, a few documents at a time, until the context ends.
func (e *editionFlow) drain(ctx context.Context) {
	b := &e.backlog
	after := ""
	for attempt := 1; ctx.Err() == nil; {
		if err := e.measureBacklog(ctx); err != nil {
			if !e.pause(ctx, attempt, "reading the backlog: "+err.Error(), false) {
				return
			}
			attempt++
			continue
		}
		if b.size.Load() == 0 {
			e.overcome(attempt)
			attempt, after = 1, ""
			select {
			case <-ctx.Done():
				return
			case <-b.more:
			case <-time.After(lookForMore):
			}
			continue
		}
		for began := time.Now(); time.Since(began) < time.Second && ctx.Err() == nil; {
			paying := time.Now()
			list, err := e.records.Backlog(ctx, e.record, after, drainAtOnce)
			if err == nil && len(list) > 0 {
				after = list[len(list)-1].Key
				err = e.pay(ctx, list)
			}
			if err != nil {
				if !e.pause(ctx, attempt, "working off the backlog: "+err.Error(), false) {
					return
				}
				attempt++
				break
			}
			e.overcome(attempt)
			attempt = 1
			if b.busy() { // while much is put here, both together leave fresh changes a share of the machine
				sleep(ctx, time.Since(paying))
			}
			if len(list) < drainAtOnce {
				after = "" // from the start again: what came meanwhile may be anywhere
				break
			}
		}
	}
}

func (e *editionFlow) measureBacklog(ctx context.Context) error {
	n, oldest, err := e.records.BacklogSize(ctx, e.record)
	if err == nil {
		e.backlog.size.Store(n)
		e.backlog.oldest.Store(oldest)
	}
	return err
}

// pay builds owed documents through their lanes, and takes them out of the backlog
// when the engine has answered for all of them.
func (e *editionFlow) pay(ctx context.Context, list []records.Owed) error {
	settled := make(chan struct{})
	oldest := list[0].At
	for _, o := range list {
		if o.At.Before(oldest) {
			oldest = o.At
		}
	}
	all := change.NewTicket(oldest, func() { close(settled) })
	for _, o := range list {
		e.enqueue(o.Key, all, wide)
	}
	all.Close()
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-settled:
	}
	if ctx.Err() != nil {
		return ctx.Err() // given up, not built
	}
	return e.records.Paid(ctx, e.record, list)
}

// expand takes up work that may find very many documents, without waiting for it. The
// changes that it is for are open until it is done.
func (e *editionFlow) expand(waiting []*change.Ticket, follow func(ctx context.Context, ticket *change.Ticket) error) {
	b := &e.backlog
	b.mu.Lock()
	defer b.mu.Unlock()
	if !b.gone {
		b.expanding = append(b.expanding, &expansion{follow: follow, ticket: sharedTicket(waiting)})
		nudge(b.next)
	}
}

// runExpansions follows changes until the context ends.
func (e *editionFlow) runExpansions(ctx context.Context) {
	b := &e.backlog
	take := func() *expansion {
		b.mu.Lock()
		defer b.mu.Unlock()
		for _, x := range b.expanding {
			if !x.taken {
				x.taken = true
				return x
			}
		}
		return nil
	}
	for {
		select {
		case <-ctx.Done():
			return
		case <-b.next:
		}
		for x := take(); x != nil; x = take() {
			for attempt := 1; ; attempt++ {
				err := x.follow(ctx, x.ticket)
				if err == nil && ctx.Err() == nil {
					e.overcome(attempt)
					break
				}
				if err == nil {
					err = ctx.Err()
				}
				if !e.pause(ctx, attempt, err.Error(), source.Misfit(err)) {
					return // it stays open, so the journal keeps the changes
				}
			}
			b.mu.Lock()
			for i := range b.expanding {
				if b.expanding[i] == x {
					b.expanding = append(b.expanding[:i:i], b.expanding[i+1:]...)
					break
				}
			}
			b.mu.Unlock()
			x.ticket.Close()
		}
	}
}

// close lets nobody wait any longer.
func (b *backlog) close() {
	b.mu.Lock()
	b.closed = true
	b.room.Broadcast()
	b.mu.Unlock()
}

// abandon lets the changes go that wait for a backlog nobody works off any more.
func (b *backlog) abandon() {
	b.mu.Lock()
	b.gone = true
	open := b.writing
	for _, tickets := range b.tickets {
		open = append(open, tickets...)
	}
	for _, x := range b.expanding {
		open = append(open, x.ticket)
	}
	b.tickets, b.keys, b.writing, b.expanding = nil, nil, nil, nil
	b.mu.Unlock()
	for _, t := range open {
		t.Close()
	}
}

// busy reports whether keys wait to be written here.
func (b *backlog) busy() bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	return len(b.keys) > 0
}

// idle reports whether nothing is on its way into the backlog or in it.
func (e *editionFlow) idle(ctx context.Context) (bool, error) {
	b := &e.backlog
	b.mu.Lock()
	busy := len(b.expanding) > 0 || len(b.keys) > 0 || len(b.writing) > 0
	b.mu.Unlock()
	if busy {
		return false, nil
	}
	err := e.measureBacklog(ctx)
	return err == nil && b.size.Load() == 0, err
}

// oldest is when the oldest change was made that the edition has not taken in; zero
// when there is none.
func (e *editionFlow) oldest() time.Time {
	var oldest time.Time
	see := func(at time.Time) {
		if !at.IsZero() && (oldest.IsZero() || at.Before(oldest)) {
			oldest = at
		}
	}
	for _, l := range e.lanes {
		l.mu.Lock()
		see(l.lines[fresh].Oldest())
		see(l.lines[wide].Oldest())
		see(l.later.Oldest())
		see(l.sent)
		l.mu.Unlock()
	}
	b := &e.backlog
	b.mu.Lock()
	for _, x := range b.expanding {
		see(x.ticket.At)
	}
	for _, tickets := range b.tickets {
		see(oldestOf(tickets))
	}
	for _, t := range b.writing {
		see(t.At)
	}
	b.mu.Unlock()
	if at := b.oldest.Load(); at != nil && b.size.Load() > 0 {
		see(*at)
	}
	return oldest
}
