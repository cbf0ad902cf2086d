package deliver

import (
	"context"
	"fmt"
	"sync"
	"sync/atomic"
	"time"

	"pingo/internal/core/change"
	"pingo/internal/core/retry"
	"pingo/internal/records"
)

const (
	writeAtOnce = 1000             // keys written to the backlog together
	writeLimit  = 20000            // keys that may wait to be written before who adds them is held up
	drainAtOnce = 2500             // keys taken from the backlog together
	lookForMore = 10 * time.Minute // entries of other processes are seen after that, unless one reports them earlier
)

// backlog is keys in the records database that an edition is to build and that no lane
// holds. Keys come here when lanes are full, because a change touches very many documents
// or because the engine takes none; their changes are done then. Lanes are refilled from
// it when they have little to do.
type backlog struct {
	mu      sync.Mutex // guards what follows
	room    sync.Cond
	keys    []string // that wait to be written
	tickets map[string][]*change.Ticket
	// writing are the tickets of keys that are just being written. A change that comes
	// meanwhile is added again: the document may be built already.
	writing []*change.Ticket
	closed  bool          // waiting calls return
	gone    bool          // these documents are no longer needed
	changed chan struct{} // closed and replaced when there is less to do

	size   atomic.Int64 // in the records database, as last counted
	oldest atomic.Pointer[time.Time]
	wake   chan struct{} // something waits to be written
	more   chan struct{} // something was written
}

func (b *backlog) init() {
	b.room.L = &b.mu
	b.tickets, b.changed = map[string][]*change.Ticket{}, make(chan struct{})
	b.wake, b.more = make(chan struct{}, 1), make(chan struct{}, 1)
}

// add lets a ticket wait until a key is in the backlog.
func (b *backlog) add(ctx context.Context, key string, t *change.Ticket) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	for len(b.keys) >= writeLimit && !b.closed {
		b.room.Wait()
	}
	if b.closed || b.gone {
		return ctx.Err()
	}
	t.Open()
	if t.Tally != nil {
		t.Tally.Backlog.Add(1)
	}
	if _, waits := b.tickets[key]; !waits {
		b.keys = append(b.keys, key)
	}
	b.tickets[key] = append(b.tickets[key], t)
	nudge(b.wake)
	return nil
}

// next takes the next keys to be written, with the times of their oldest changes.
func (b *backlog) next() (keys []string, at []time.Time) {
	b.mu.Lock()
	defer b.mu.Unlock()
	keys = b.keys[:min(writeAtOnce, len(b.keys))]
	b.keys = append([]string(nil), b.keys[len(keys):]...)
	at = make([]time.Time, len(keys))
	for i, k := range keys {
		if at[i] = change.Oldest(b.tickets[k]); at[i].IsZero() {
			at[i] = time.Now()
		}
		b.writing = append(b.writing, b.tickets[k]...)
		delete(b.tickets, k)
	}
	return keys, at
}

// written closes the tickets of the keys that were written.
func (b *backlog) written() {
	b.mu.Lock()
	tickets := b.writing
	b.writing = nil
	b.room.Broadcast()
	b.signal()
	b.mu.Unlock()
	for _, t := range tickets {
		t.Close()
	}
	nudge(b.more)
}

// signal wakes those who wait for there to be less to do; the caller holds mu.
func (b *backlog) signal() {
	close(b.changed)
	b.changed = make(chan struct{})
}

// write moves keys into the records database until the context ends.
func (b *backlog) write(ctx context.Context, e *Edition) {
	for {
		select {
		case <-ctx.Done():
			return
		case <-b.wake:
		}
		for {
			keys, at := b.next()
			if len(keys) == 0 {
				break
			}
			began := time.Now()
			pause := b.pause(e, began)
			err := e.Until(ctx, func() error {
				n, err := e.store.AddToBacklog(ctx, e.Record, keys, at)
				if err != nil {
					return fmt.Errorf("writing the backlog: %w", err)
				}
				b.noteOldest(at)
				b.size.Add(n)
				return nil
			})
			if err != nil {
				return // the tickets stay open, so the journal keeps the changes
			}
			if e.slot.behind(began) { // they are built from there, later than this
				for _, key := range keys {
					e.lane(key).read.note(key, began)
				}
			}
			b.written()
			if pause {
				retry.Sleep(ctx, 4*time.Since(began))
			}
		}
	}
}

// noteOldest notes when the oldest of some changes was made, until the backlog is measured.
func (b *backlog) noteOldest(at []time.Time) {
	var oldest time.Time
	for _, t := range at {
		oldest = Earlier(oldest, t)
	}
	if known := b.oldest.Load(); known == nil || b.size.Load() == 0 || oldest.Before(*known) {
		b.oldest.Store(&oldest)
	}
}

// pause reports whether it is written with pauses, so that fresh changes have most of the machine. Where changes are
// read that have waited for long, none of them is fresh.
func (b *backlog) pause(e *Edition, now time.Time) bool {
	return e.slot.freshOfLate(now) && !e.slot.behind(now)
}

// drain builds what is in the backlog, a few documents at a time, until the context ends.
func (b *backlog) drain(ctx context.Context, e *Edition) {
	after := ""
	for ctx.Err() == nil {
		if e.Until(ctx, func() error { return b.measure(ctx, e) }) != nil {
			return
		}
		if b.size.Load() == 0 {
			after = ""
			select {
			case <-ctx.Done():
				return
			case <-b.more:
			case <-time.After(lookForMore):
			}
			continue
		}
		for began := time.Now(); time.Since(began) < time.Second && ctx.Err() == nil; {
			building := time.Now()
			var list []records.BacklogEntry
			err := e.Until(ctx, func() (err error) {
				if list, err = e.store.Backlog(ctx, e.Record, after, drainAtOnce); err != nil {
					return fmt.Errorf("reading the backlog: %w", err)
				}
				return nil
			})
			if err == nil && len(list) > 0 {
				after = list[len(list)-1].Key
				err = b.build(ctx, e, list)
			}
			if err != nil {
				return
			}
			if b.busy() { // while much is put here, both together leave fresh changes a share of the machine
				retry.Sleep(ctx, time.Since(building))
			}
			if len(list) < drainAtOnce {
				after = "" // from the start again: what came meanwhile may be anywhere
				break
			}
		}
	}
}

const (
	// setAsideAfter is how long deliveries may stop before the changes that wait for them go to the backlog.
	setAsideAfter = 5 * time.Second
	setAsideEvery = time.Second
)

// relieve moves the changes of lanes here while deliveries stop. They leave the journal then, so that searches of
// other indexes are known to have every change, and the journal does not grow.
func (b *backlog) relieve(ctx context.Context, e *Edition) {
	for retry.Sleep(ctx, setAsideEvery) {
		if trouble := e.Trouble.Get(); trouble == nil || time.Since(trouble.Since) < setAsideAfter {
			continue
		}
		for _, l := range e.lanes {
			b.takeFrom(ctx, l)
		}
	}
}

// takeFrom moves the changes that wait in a lane here. What is being built goes on, since the engine may have it. Until the backlog
// holds a change, it waits in the lane, so that at no time none seems to be pending.
func (b *backlog) takeFrom(ctx context.Context, l *lane) {
	type waiting struct {
		key    string
		ticket *change.Ticket
	}
	var list []waiting
	note := func(key string, t *change.Ticket) {
		// A ticket without a time waits for the outcome, and one of the backlog is there already.
		if !t.At.IsZero() && !t.Owed {
			list = append(list, waiting{key, t})
		}
	}
	l.mu.Lock()
	queues := []*change.Queue{&l.lines[Fresh], &l.lines[Wide], &l.throttled}
	for _, q := range queues {
		q.Each(note)
	}
	for i := range l.current {
		for _, t := range l.current[i].Tickets {
			note(l.current[i].Key, t)
		}
	}
	l.mu.Unlock()
	added := map[waiting]bool{}
	for _, x := range list {
		if b.add(ctx, x.key, x.ticket) != nil {
			break
		}
		added[x] = true
	}
	may := func(key string, t *change.Ticket) bool { return added[waiting{key, t}] }
	var gone []*change.Ticket
	l.mu.Lock()
	for _, q := range queues {
		gone = append(gone, q.Shed(may)...)
	}
	for i := range l.current {
		gone = append(gone, l.current[i].Shed(may)...)
	}
	l.mu.Unlock()
	for _, t := range gone {
		t.Close()
	}
}

// measure counts what is in the records.
func (b *backlog) measure(ctx context.Context, e *Edition) error {
	n, oldest, err := e.store.BacklogSize(ctx, e.Record)
	if err != nil {
		return fmt.Errorf("reading the backlog: %w", err)
	}
	b.size.Store(n)
	b.oldest.Store(oldest)
	if n == 0 {
		b.mu.Lock()
		b.signal()
		b.mu.Unlock()
	}
	return nil
}

// build builds documents of the backlog through their lanes, and takes them out of it
// when the engine has answered for all of them. It fails only when the context ends.
func (b *backlog) build(ctx context.Context, e *Edition, list []records.BacklogEntry) error {
	settled := make(chan struct{})
	oldest := list[0].At
	for _, entry := range list {
		oldest = Earlier(oldest, entry.At)
	}
	all := change.NewTicket(oldest, func() { close(settled) })
	all.Owed = true
	for _, entry := range list {
		e.lane(entry.Key).add(entry.Key, all, Wide)
	}
	all.Close()
	select {
	case <-ctx.Done():
	case <-settled:
	}
	if ctx.Err() != nil {
		return ctx.Err() // given up, not built
	}
	return e.Until(ctx, func() error {
		if err := e.store.RemoveFromBacklog(ctx, e.Record, list); err != nil {
			return fmt.Errorf("working off the backlog: %w", err)
		}
		return nil
	})
}

// close ends all waiting calls.
func (b *backlog) close() {
	b.mu.Lock()
	b.closed = true
	b.room.Broadcast()
	b.mu.Unlock()
}

// abandon closes the tickets that wait for a backlog that is no longer processed.
func (b *backlog) abandon() {
	b.mu.Lock()
	b.gone = true
	open := b.writing
	for _, tickets := range b.tickets {
		open = append(open, tickets...)
	}
	b.tickets, b.keys, b.writing = nil, nil, nil
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

// empty waits until the backlog is empty and nothing is being added.
func (b *backlog) empty(ctx context.Context, e *Edition) error {
	for {
		b.mu.Lock()
		idle, changed := len(b.keys) == 0 && len(b.writing) == 0, b.changed
		b.mu.Unlock()
		if idle {
			if err := b.measure(ctx, e); err != nil || b.size.Load() == 0 {
				return err
			}
			nudge(b.more)
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-changed:
		}
	}
}

// oldestWaiting is when the oldest change was made that waits here; zero when none does.
func (b *backlog) oldestWaiting() (oldest time.Time) {
	b.mu.Lock()
	defer b.mu.Unlock()
	for _, tickets := range b.tickets {
		oldest = Earlier(oldest, change.Oldest(tickets))
	}
	oldest = Earlier(oldest, change.Oldest(b.writing))
	if at := b.oldest.Load(); at != nil && b.size.Load() > 0 {
		oldest = Earlier(oldest, *at)
	}
	return oldest
}
