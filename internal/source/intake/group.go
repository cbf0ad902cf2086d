package intake

import (
	"context"
	"slices"
	"time"

	"pingo/internal/source"
)

// Requests of few events that come at the same time share a statement, and so a write to the disk:
// while some are put, others gather.
const (
	aloneFrom   = 200              // events of a request that has a statement of its own
	putTogether = 500              // events of one statement
	putSide     = 2                // statements under way
	putTimeout  = 30 * time.Second // no call waits longer, so that others get their turn
)

// call is a request of events that one statement can put.
type call struct {
	request  string
	list     []entry
	receipts []source.Receipt
	err      error
	done     chan struct{}
}

func newCall(request string, events []Event) *call {
	c := &call{request: request, receipts: make([]source.Receipt, len(events)), done: make(chan struct{})}
	for i := range events {
		c.list = append(c.list, entry{Event: &events[i], out: &c.receipts[i]})
	}
	name(c.list, request)
	return c
}

// together has a call put with others, and waits for it. It may be put though the context ended.
func (s *Store) together(ctx context.Context, c *call) error {
	s.mu.Lock()
	s.waiting = append(s.waiting, c)
	if s.putting < putSide {
		s.putting++
		go s.putWaiting()
	}
	s.mu.Unlock()
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-c.done:
		return c.err
	}
}

// putWaiting puts calls that wait until there is none.
func (s *Store) putWaiting() {
	for {
		s.mu.Lock()
		group := s.nextGroup()
		if len(group) == 0 {
			s.putting--
			s.mu.Unlock()
			return
		}
		s.mu.Unlock()
		ctx, cancel := context.WithTimeout(context.Background(), putTimeout)
		s.put(ctx, group)
		cancel()
	}
}

// nextGroup takes out calls that one statement can put: of one record, all with versions or none, where
// no record, event or request comes twice. The caller holds mu.
func (s *Store) nextGroup() (group []*call) {
	type kind struct {
		record    string
		versioned bool
	}
	of := func(c *call) kind { return kind{c.list[0].Record, c.list[0].Version != ""} }
	keys, names := map[string]bool{}, map[string]bool{}
	n := 0
	s.waiting = slices.DeleteFunc(s.waiting, func(c *call) bool {
		if len(group) > 0 && (of(c) != of(group[0]) || n+len(c.list) > putTogether) {
			return false
		}
		if slices.ContainsFunc(c.list, func(e entry) bool {
			return keys[e.Key] || e.under.name != "" && names[e.under.name]
		}) {
			return false
		}
		for _, e := range c.list {
			keys[e.Key], names[e.under.name] = true, true
		}
		group, n = append(group, c), n+len(c.list)
		return true
	})
	return group
}

// put puts calls by one statement, or each by its own when PostgreSQL does not take a value of one.
func (s *Store) put(ctx context.Context, group []*call) {
	var list []entry
	for _, c := range group {
		list = append(list, c.list...)
	}
	err := s.upsert(ctx, s.pool.Pool, list)
	if len(group) > 1 && atFault(err) {
		for _, c := range group {
			s.put(ctx, []*call{c})
		}
		return
	}
	for _, c := range group {
		c.err = err
		close(c.done)
	}
}
