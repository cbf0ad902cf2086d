// Package change holds noticed changes, and the queues in which the keys that
// they touch wait for their turn.
package change

import (
	"context"
	"slices"
	"sync/atomic"
	"time"

	"github.com/cespare/xxhash/v2"

	"pingo/internal/core/shape"
)

// Op is what happened to a row.
type Op byte

// The operations, as the journal writes them.
const (
	Insert   Op = 'i'
	Update   Op = 'u'
	Delete   Op = 'd'
	Truncate Op = 't'
)

func (o Op) String() string {
	switch o {
	case Insert:
		return "insert"
	case Update:
		return "update"
	case Delete:
		return "delete"
	case Truncate:
		return "truncate"
	}
	return "unknown"
}

// Change is one noticed change of one row, or the truncation of a table.
type Change struct {
	// Seq orders the journal; it is not the order of commits.
	Seq   int64
	Table shape.Ref
	// Also are other names by which indexes know the table.
	Also []shape.Ref
	Op   Op
	// Key is the row's key in text; empty for a truncate and for tables without one.
	Key []string
	// Was is the key that the row had before an update that changed it.
	Was []string
	// Changed lists the columns that an update may have changed; nil when any may have been.
	Changed []string
	// Links names the linking columns; Before and After hold their values, nil
	// for NULL, and are empty where the row did not exist; Before is empty, too, where an
	// update left them as they were.
	Links         []string
	Before, After []*string
	// Bare: only the key is known, and no links. The row itself has them.
	Bare bool
	// At is the source's clock when the row was written.
	At time.Time
}

// Values lists the distinct values of linking columns before and after, a tuple for
// each side; one with a NULL links to nothing and is left out.
func (c *Change) Values(links []string) [][]string {
	var out [][]string
sides:
	for _, side := range [][]*string{c.Before, c.After} {
		tuple := make([]string, len(links))
		for i, link := range links {
			at := slices.Index(c.Links, link)
			if at < 0 || at >= len(side) || side[at] == nil {
				continue sides
			}
			tuple[i] = *side[at]
		}
		if len(out) == 0 || !slices.Equal(out[0], tuple) {
			out = append(out, tuple)
		}
	}
	return out
}

// Touches reports whether the change may have changed what a reader of some columns sees.
func (c *Change) Touches(columns []string) bool {
	return c.Op != Update || c.Changed == nil ||
		slices.ContainsFunc(c.Changed, func(name string) bool { return slices.Contains(columns, name) })
}

// Ticket counts the documents that a change still waits for. When the last one
// was acknowledged the change is done, and done is called once.
type Ticket struct {
	At time.Time
	// Committed is by when the change was committed, where that is known: a document that is read after that has it.
	Committed time.Time
	// Owed: the keys that it waits for are in the backlog.
	Owed bool
	// Tally, where it is given, counts the outcomes of the documents.
	Tally *Tally
	open  atomic.Int64
	done  func()
}

// Tally counts the outcomes of the documents that a change touched: sent, found to be
// gone and deleted, unchanged from what the engine had, refused, or put into the backlog; and how
// many bytes those had that rows made.
type Tally struct{ Sent, Deleted, Unchanged, Refused, Backlog, Bytes atomic.Int64 }

// NewTicket makes a ticket that holds itself open until the first Close, so that
// documents may be added while others are done already.
func NewTicket(at time.Time, done func()) *Ticket {
	t := &Ticket{At: at, done: done}
	t.open.Store(1)
	return t
}

// Await waits until all documents are settled that add has let a ticket wait for, and counts what became
// of them when a tally is given.
func Await(ctx context.Context, tally *Tally, add func(t *Ticket) error) error {
	settled := make(chan struct{})
	t := NewTicket(time.Time{}, func() { close(settled) })
	t.Tally = tally
	if err := add(t); err != nil {
		return err
	}
	t.Close()
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-settled:
		return nil
	}
}

// Open counts one more document.
func (t *Ticket) Open() { t.open.Add(1) }

// Close counts one document, or the ticket's own hold, as settled.
func (t *Ticket) Close() {
	if t.open.Add(-1) == 0 {
		t.done()
	}
}

// Oldest is the time of the oldest of some changes; zero when none has one.
func Oldest(tickets []*Ticket) time.Time {
	var oldest time.Time
	for _, t := range tickets {
		if !t.At.IsZero() && (oldest.IsZero() || t.At.Before(oldest)) {
			oldest = t.At
		}
	}
	return oldest
}

// Entry is a key that waits, with the changes that wait for it.
type Entry struct {
	Key     string
	Tickets []*Ticket
}

// Queue is the waiting line of a lane: first in, first out, and a key waits at
// most once. The zero value is empty. It is not safe for concurrent use.
type Queue struct {
	order   []string
	head    int
	wait    map[string][]*Ticket
	tickets int
}

// Add lets a ticket wait for a key, opening it for the document.
func (q *Queue) Add(key string, t *Ticket) {
	t.Open()
	q.Put(Entry{key, []*Ticket{t}})
}

// Put lets an entry wait again that was taken.
func (q *Queue) Put(e Entry) {
	if q.wait == nil {
		q.wait = map[string][]*Ticket{}
	}
	tickets, waiting := q.wait[e.Key]
	if !waiting {
		q.order = append(q.order, e.Key)
	}
	q.wait[e.Key] = append(tickets, e.Tickets...)
	q.tickets += len(e.Tickets)
}

// Join lets a ticket wait for every key that waits now, opening it for each.
func (q *Queue) Join(t *Ticket) {
	for key := range q.wait {
		t.Open()
		q.wait[key] = append(q.wait[key], t)
		q.tickets++
	}
}

// Tickets is how often a ticket waits for a key.
func (q *Queue) Tickets() int { return q.tickets }

// Oldest is the time of the oldest change that waits; zero when none does.
func (q *Queue) Oldest() time.Time {
	var oldest time.Time
	for _, tickets := range q.wait {
		if at := Oldest(tickets); !at.IsZero() && (oldest.IsZero() || at.Before(oldest)) {
			oldest = at
		}
	}
	return oldest
}

// Len is the number of keys that wait.
func (q *Queue) Len() int { return len(q.order) - q.head }

// Take removes the first keys, at most n, and appends them to dst.
func (q *Queue) Take(dst []Entry, n int) []Entry {
	for ; n > 0 && q.head < len(q.order); n-- {
		key := q.order[q.head]
		q.order[q.head] = ""
		q.head++
		dst = append(dst, Entry{key, q.wait[key]})
		q.tickets -= len(q.wait[key])
		delete(q.wait, key)
	}
	if q.head == len(q.order) {
		q.order, q.head = q.order[:0], 0
	}
	return dst
}

// Each calls a function with every ticket that waits, and its key.
func (q *Queue) Each(do func(key string, t *Ticket)) {
	for key, tickets := range q.wait {
		for _, t := range tickets {
			do(key, t)
		}
	}
}

// Shed removes the tickets that may go, and the keys that no ticket waits for then. It returns the tickets.
func (q *Queue) Shed(may func(key string, t *Ticket) bool) (gone []*Ticket) {
	order := q.order[:0]
	for _, key := range q.order[q.head:] {
		e := Entry{key, q.wait[key]}
		gone = append(gone, e.Shed(may)...)
		q.tickets -= len(q.wait[key]) - len(e.Tickets)
		if len(e.Tickets) == 0 {
			delete(q.wait, key)
			continue
		}
		q.wait[key] = e.Tickets
		order = append(order, key)
	}
	q.order, q.head = order, 0
	return gone
}

// Shed removes the tickets that may go, and returns them.
func (e *Entry) Shed(may func(key string, t *Ticket) bool) (gone []*Ticket) {
	var kept []*Ticket
	for _, t := range e.Tickets {
		if may(e.Key, t) {
			gone = append(gone, t)
		} else {
			kept = append(kept, t)
		}
	}
	e.Tickets = kept
	return gone
}

// Lane chooses the lane of a key out of n: always the same one.
func Lane(key []byte, n int) int { return int(xxhash.Sum64(key) % uint64(n)) }
