package stream

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"pingo/internal/core/change"
	"pingo/internal/core/document"
	"pingo/internal/core/retry"
	"pingo/internal/core/shape"
	"pingo/internal/engine"
	"pingo/internal/flow/deliver"
	"pingo/internal/source"
)

// Edition is where the keys of an edition go.
type Edition interface {
	Add(ctx context.Context, key string, t *change.Ticket, in deliver.Line) error
	// DropChunks has what open chunks have read of a tree dropped: all its documents are
	// about to be rebuilt.
	DropChunks(tree int)
	// Rebuild has all documents of a tree built again, and returns when that is recorded; false when it cannot now.
	Rebuild(ctx context.Context, tree int, t *change.Ticket) (bool, error)
	// Rows is how many rows its documents are made of, as far as it is known.
	Rows() int64
	// Arrived waits until what other processes send of chunks has arrived.
	Arrived(ctx context.Context) error
	// Barrier waits until every key that was added, and what is being sent, is settled.
	Barrier(ctx context.Context) error
	// Until tries until it works, and reports why it does not.
	Until(ctx context.Context, do func() error) error
	// Ended is closed when the edition is fed no longer.
	Ended() <-chan struct{}
}

// Follower follows changes of one source to the keys of one edition's documents. Changes that may touch
// very many are followed aside, so that others need not wait for them.
type Follower struct {
	edition Edition
	name    string // of the edition in the engine
	shape   *shape.Shape
	routes  map[shape.Ref][]shape.Route
	reader  source.Reader
	engine  engine.Engine
	// missed records that changes are missing in the edition for good.
	missed func(ctx context.Context, reason string) error
	alone  time.Time // from when on no other process feeds the edition

	mu      sync.Mutex // guards what follows
	open    []*expansion
	gone    bool
	changed chan struct{} // closed and replaced when an expansion is done
	next    chan struct{} // an expansion was added
}

const (
	expanders = 2           // changes that may touch many documents are followed side by side
	patience  = time.Minute // with another source that is away, when others wait for it
	// lateArrival is until when a request arrives that another process sent, which fed the edition before or helped the
	// one that did.
	lateArrival = deliver.Permit + deliver.ArrivesWithin
)

// expansion is the work of following some changes to very many documents.
type expansion struct {
	follow func(ctx context.Context, ticket *change.Ticket) error
	// all is the number of the tree all of whose documents it is about; negative when it is not.
	all     int
	waiting []*change.Ticket // they are open for it
	ticket  *change.Ticket   // represents those, from when it is taken
	failed  time.Time        // first of all, and at every try since; zero when it did not fail
	// stuck says why it cannot be done until a person fixes the cause; empty when it can.
	stuck string
}

// Options are what a follower works with.
type Options struct {
	Edition Edition
	Name    string // of the edition in the engine
	Shape   *shape.Shape
	Source  string // whose changes are followed
	Reader  source.Reader
	Engine  engine.Engine
	// Missed records that changes are missing in the edition for good.
	Missed func(ctx context.Context, reason string) error
	// OnlyFeederSince is from when on no other process feeds the edition, zero when no other ever did.
	OnlyFeederSince time.Time
}

// NewFollower prepares a follower of a source for an edition.
func NewFollower(o Options) *Follower {
	return &Follower{
		edition: o.Edition,
		name:    o.Name,
		shape:   o.Shape,
		routes:  o.Shape.Routes(o.Source),
		reader:  o.Reader,
		engine:  o.Engine,
		missed:  o.Missed,
		alone:   o.OnlyFeederSince,
		changed: make(chan struct{}),
		next:    make(chan struct{}, expanders),
	}
}

func (f *Follower) ended() bool {
	select {
	case <-f.edition.Ended():
		return true
	default:
		return false
	}
}

// follow lets every document that the changes touch wait in its lane. Changes that
// need a query on the way up share it, and so do those that may touch everything; these
// are followed without waiting for them. It fails only when the context ends.
func (f *Follower) follow(ctx context.Context, changes []change.Change, tickets []*change.Ticket) error {
	type group struct {
		tree    int
		steps   []shape.Step
		tuples  [][]string
		seen    map[string]bool
		tickets []*change.Ticket
	}
	type way struct {
		table shape.Ref
		route int
		own   bool
	}
	groups := map[way]*group{}
	var inOrder []*group
	everything := make([][]*change.Ticket, len(f.shape.Trees)) // by tree
	follow := func(c *change.Change, table shape.Ref, ticket *change.Ticket) error {
		for n, route := range f.routes[table] {
			if !c.Touches(route.Reads) {
				continue
			}
			tree := f.shape.Trees[route.Tree]
			from, own := c.Values(route.Link), false
			if c.Bare && len(route.OfKey) > 0 && slices.Max(route.OfKey) < len(c.Key) {
				tuple := make([]string, len(route.OfKey))
				for i, at := range route.OfKey {
					tuple[i] = c.Key[at]
				}
				from = [][]string{tuple}
			} else if c.Bare && len(route.Link) > 0 {
				from, own = [][]string{c.Key}, true
			}
			switch {
			case c.Op == change.Truncate || route.All:
				everything[route.Tree] = append(everything[route.Tree], ticket)
			case len(route.Link) == 0:
				for _, key := range [][]string{c.Key, c.Was} {
					if len(key) == 0 {
						continue
					}
					if err := f.edition.Add(ctx, document.Key(tree, key...), ticket, deliver.Fresh); err != nil {
						return err
					}
				}
			case own && route.Own == nil:
				// There is no way from the row's key; check has said so.
			case len(route.Steps) == 0 && !own:
				for _, values := range from {
					if err := f.edition.Add(ctx, document.Key(tree, values...), ticket, deliver.Fresh); err != nil {
						return err
					}
				}
			default:
				w := way{table, n, own}
				g := groups[w]
				if g == nil {
					g = &group{tree: route.Tree, steps: route.Steps, seen: map[string]bool{}}
					if own {
						g.steps = append([]shape.Step{*route.Own}, route.Steps...)
					}
					groups[w] = g
					inOrder = append(inOrder, g)
				}
				for _, values := range from {
					if id := document.Key(tree, values...); !g.seen[id] {
						g.seen[id] = true
						g.tuples = append(g.tuples, values)
					}
				}
				g.tickets = append(g.tickets, ticket)
			}
		}
		return nil
	}
	for i := range changes {
		c := &changes[i]
		for _, table := range append([]shape.Ref{c.Table}, c.Also...) {
			if err := follow(c, table, tickets[i]); err != nil {
				return err
			}
		}
	}
	for _, g := range inOrder {
		f.expand(g.tickets, -1, func(ctx context.Context, shared *change.Ticket) error {
			err := f.walkUp(ctx, g.tree, g.steps, g.tuples, shared)
			if errors.Is(err, source.ErrTooWide) {
				return f.everything(ctx, g.tree, shared)
			}
			return err
		})
	}
	for tree, waiting := range everything {
		if len(waiting) == 0 {
			continue
		}
		f.expand(waiting, tree, func(ctx context.Context, shared *change.Ticket) error {
			return f.everything(ctx, tree, shared)
		})
	}
	return nil
}

// shared is a ticket that represents several, which are open for it: each of them waits for it.
func shared(tickets []*change.Ticket) *change.Ticket {
	out := change.NewTicket(change.Oldest(tickets), func() {
		for _, t := range tickets {
			t.Close()
		}
	})
	if len(tickets) == 1 {
		out.Tally = tickets[0].Tally
	}
	return out
}

// Where more documents than FewKeys are touched, and more than one in MostShare of all, all of their tree are built
// again. They are variables for tests whose tables are small.
var FewKeys, MostShare = 10_000, int64(2)

var errMost = errors.New("most documents of the tree are touched")

// walkUp lets the documents wait that some rows lead to, or has all of their tree built again where they are most.
func (f *Follower) walkUp(
	ctx context.Context,
	number int,
	steps []shape.Step,
	tuples [][]string,
	t *change.Ticket,
) error {
	tree, most := f.shape.Trees[number], max(int64(FewKeys), f.edition.Rows()/MostShare)
	var few []string
	n := int64(0)
	err := f.reader.WalkUp(ctx, steps, tuples, func(key []string) error {
		if n++; n > most && f.edition.Rows() > 0 {
			return errMost
		}
		if len(few) < FewKeys {
			few = append(few, document.Key(tree, key...))
		}
		return nil
	})
	if errors.Is(err, errMost) {
		var recorded bool
		if recorded, err = f.edition.Rebuild(ctx, number, t); recorded || err != nil {
			return err
		}
	}
	if err != nil {
		return err
	}
	if n > int64(len(few)) {
		return f.reader.WalkUp(ctx, steps, tuples, func(key []string) error {
			return f.edition.Add(ctx, document.Key(tree, key...), t, deliver.Wide)
		})
	}
	for _, key := range few {
		if err := f.edition.Add(ctx, key, t, deliver.Wide); err != nil {
			return err
		}
	}
	return nil
}

// everything rebuilds all documents of a tree: those that the source has rows for, and
// those that the engine still holds. What is in flight to the engine might be in neither
// list, so it is waited for first, or dropped. What another process sent before it was gone may
// arrive later still, so the engine is asked again then.
func (f *Follower) everything(ctx context.Context, number int, t *change.Ticket) error {
	tree := f.shape.Trees[number]
	f.edition.DropChunks(number)
	if err := f.edition.Arrived(ctx); err != nil {
		return err
	}
	if err := f.edition.Barrier(ctx); err != nil {
		return err
	}
	late := time.Since(f.alone) < lateArrival
	err := f.reader.Keys(ctx, tree, nil, nil, func(key []string) error {
		return f.edition.Add(ctx, document.Key(tree, key...), t, deliver.Wide)
	})
	if err != nil {
		return err
	}
	if err := f.allStored(ctx, tree, t); err != nil || !late {
		return err
	}
	if !retry.Sleep(ctx, lateArrival) {
		return ctx.Err()
	}
	t.Open()
	again := change.NewTicket(time.Time{}, t.Close) // how long this takes says nothing of the change
	defer again.Close()
	return f.allStored(ctx, tree, again)
}

// allStored lets all documents of a tree wait that the engine holds.
func (f *Follower) allStored(ctx context.Context, tree *shape.Tree, t *change.Ticket) error {
	err := f.engine.Scan(ctx, f.name, func(key, _ string) error {
		if tree.Name != "" && !strings.HasPrefix(key, tree.Name+",") {
			return nil
		}
		return f.edition.Add(ctx, key, t, deliver.Wide)
	})
	if err != nil {
		return fmt.Errorf("listing the documents of %s: %w", f.name, err)
	}
	return nil
}

// expand takes up work that may find very many documents, without waiting for it. The
// changes that it is for are open until it is done. Where it is about all documents of a tree, and
// such work has not begun yet, once is enough.
func (f *Follower) expand(
	waiting []*change.Ticket,
	all int,
	follow func(ctx context.Context, ticket *change.Ticket) error,
) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.gone {
		return
	}
	for _, t := range waiting {
		t.Open()
	}
	for _, x := range f.open {
		if all >= 0 && x.all == all && x.ticket == nil {
			x.waiting = append(x.waiting, waiting...)
			return
		}
	}
	f.open = append(f.open, &expansion{follow: follow, all: all, waiting: slices.Clone(waiting)})
	select {
	case f.next <- struct{}{}:
	default:
	}
}

// Run follows changes that may touch very many documents until the context ends.
func (f *Follower) Run(ctx context.Context) {
	var wg sync.WaitGroup
	for range expanders {
		wg.Go(func() { f.run(ctx) })
	}
	wg.Wait()
}

func (f *Follower) run(ctx context.Context) {
	for {
		select {
		case <-ctx.Done():
			return
		case <-f.next:
		}
		for x := f.take(); x != nil; x = f.take() {
			err := f.edition.Until(ctx, func() error {
				if f.givenUp() {
					return nil
				}
				err := x.follow(ctx, x.ticket)
				f.noteStuck(x, err)
				return err
			})
			if err != nil || ctx.Err() != nil {
				return // it stays open, so the journal keeps the changes
			}
			f.finish(x)
		}
	}
}

func (f *Follower) noteStuck(x *expansion, err error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	x.stuck = ""
	switch {
	case err == nil:
		x.failed = time.Time{}
	case source.FaultOf(err) == source.SchemaChanged:
		x.stuck = err.Error()
	case x.failed.IsZero():
		x.failed = time.Now()
	case len(f.shape.Sources()) > 1 && time.Since(x.failed) >= patience:
		x.stuck = fmt.Sprintf("changes of one source cannot be followed into another: %v", err)
	}
}

// stuck says why changes cannot be followed until a person fixes the cause; empty when they can.
func (f *Follower) stuck() string {
	f.mu.Lock()
	defer f.mu.Unlock()
	for _, x := range f.open {
		if x.stuck != "" {
			return x.stuck
		}
	}
	return ""
}

// giveUp has Run finish all changes that are being followed as if that were done, and takes no
// more.
func (f *Follower) giveUp() {
	f.mu.Lock()
	f.gone = true
	f.mu.Unlock()
	select {
	case f.next <- struct{}{}:
	default:
	}
}

func (f *Follower) givenUp() bool {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.gone
}

func (f *Follower) take() *expansion {
	f.mu.Lock()
	defer f.mu.Unlock()
	for _, x := range f.open {
		if x.ticket == nil {
			x.ticket = shared(x.waiting)
			return x
		}
	}
	return nil
}

func (f *Follower) finish(x *expansion) {
	f.mu.Lock()
	f.open = slices.DeleteFunc(slices.Clone(f.open), func(other *expansion) bool { return other == x })
	close(f.changed)
	f.changed = make(chan struct{})
	f.mu.Unlock()
	x.ticket.Close()
}

// idle waits until no change is being followed.
func (f *Follower) idle(ctx context.Context) error {
	for {
		f.mu.Lock()
		open, changed := len(f.open), f.changed
		f.mu.Unlock()
		if open == 0 {
			return nil
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-changed:
		}
	}
}

// Abandon closes the tickets of changes that are no longer followed. Run has returned.
func (f *Follower) Abandon() {
	f.mu.Lock()
	f.gone = true
	open := f.open
	f.open = nil
	f.mu.Unlock()
	for _, x := range open {
		if x.ticket == nil {
			x.ticket = shared(x.waiting)
		}
		x.ticket.Close()
	}
}

// Oldest is when the oldest change was made that is being followed; zero when none is.
func (f *Follower) Oldest() (oldest time.Time) {
	f.mu.Lock()
	defer f.mu.Unlock()
	for _, x := range f.open {
		oldest = deliver.Earlier(oldest, change.Oldest(x.waiting))
	}
	return oldest
}
