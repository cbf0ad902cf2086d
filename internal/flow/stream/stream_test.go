package stream

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"pingo/internal/core/change"
	"pingo/internal/core/shape"
	"pingo/internal/flow/deliver"
	"pingo/internal/source"
)

// feed gives changes of regions, as many as there are.
type feed struct {
	source.Feed
	mu    sync.Mutex // guards what follows
	next  int64
	most  int64
	taken map[int64]bool
	done  int
}

func (f *feed) Changes(_ context.Context, limit int) (out []change.Change, err error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	for ; len(out) < limit && f.next < f.most; f.next++ {
		region := fmt.Sprint(f.next)
		f.taken[f.next] = true
		out = append(out, change.Change{
			Seq: f.next, Table: shape.Ref{Name: "regions"}, Op: change.Update, Key: []string{region},
			Links: []string{"id"}, Before: []*string{&region}, After: []*string{&region}, At: time.Now(),
		})
	}
	return out, nil
}

func (f *feed) Done(_ context.Context, seqs []int64) error {
	f.mu.Lock()
	defer f.mu.Unlock()
	for _, seq := range seqs {
		delete(f.taken, seq)
	}
	f.done += len(seqs)
	return nil
}

func (f *feed) Rewind() {}

func (f *feed) InFlight() (int, time.Time) {
	f.mu.Lock()
	defer f.mu.Unlock()
	return len(f.taken), time.Now()
}

// reader walks up from a region to the hut of the same key, or fails.
type reader struct {
	source.Reader
	err error
}

func (r *reader) WalkUp(_ context.Context, _ []shape.Step, tuples [][]string, each func([]string) error) error {
	if r.err != nil {
		return r.err
	}
	for _, t := range tuples {
		if err := each(t); err != nil {
			return err
		}
	}
	return nil
}

// edition settles what it is given at once.
type edition struct {
	Edition
	ended chan struct{}
	mu    sync.Mutex // guards keys
	keys  map[string]bool
}

func (e *edition) Add(_ context.Context, key string, _ *change.Ticket, _ deliver.Line) error {
	e.mu.Lock()
	defer e.mu.Unlock()
	e.keys[key] = true
	return nil
}

func (e *edition) Until(ctx context.Context, do func() error) error {
	for do() != nil {
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(time.Second):
		}
	}
	return nil
}

func (e *edition) Ended() <-chan struct{} { return e.ended }

// An edition that cannot follow its changes does not hold up the others for ever: once too many
// are on their way it is recorded that it lacks some, and only then are they given up.
func TestAStuckEditionHoldsUpNoOther(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		node := &shape.Node{
			ID:       0,
			Parent:   -1,
			Table:    shape.Ref{Name: "huts"},
			Key:      []string{"id"},
			Children: []int{1},
			Columns:  []shape.Column{{Name: "id"}, {Name: "region_id"}},
		}
		region := &shape.Node{
			ID:     1,
			Parent: 0,
			Name:   "region",
			Table:  shape.Ref{Name: "regions"},
			Key:    []string{"id"}, Columns: []shape.Column{{Name: "id"}},
			Link: &shape.Link{Theirs: []string{"id"}, Ours: []string{"region_id"}, OursAt: []int{1}},
		}
		s := &shape.Shape{Index: "huts", Source: "lodge", Trees: []*shape.Tree{{Index: "huts", Nodes: []*shape.Node{node, region}}}}
		f := &feed{most: 500, taken: map[int64]bool{}}
		st := New("lodge", &source.Source{Reader: &reader{}, Feed: f}, slog.New(slog.DiscardHandler))
		st.maxInFlight = 100
		var mu sync.Mutex // guards what follows
		var missed []string
		record := errors.New("the records do not answer")
		follower := func(name string, r *reader) (*Follower, *edition) {
			e := &edition{keys: map[string]bool{}, ended: make(chan struct{})}
			x := NewFollower(e, name, s, "lodge", r, nil, func(_ context.Context, reason string) error {
				mu.Lock()
				defer mu.Unlock()
				if record != nil {
					return record
				}
				missed = append(missed, name+": "+reason)
				return nil
			})
			st.Add(x)
			return x, e
		}
		well, wellEdition := follower("well", &reader{})
		stuck, _ := follower(
			"stuck",
			&reader{err: &source.Error{Fault: source.SchemaChanged, Err: errors.New("no column region_id")}},
		)
		away, _ := follower("away", &reader{err: errors.New("connection refused")})
		ctx, stop := context.WithCancel(t.Context())
		var work sync.WaitGroup
		for _, run := range []func(context.Context){well.Run, stuck.Run, away.Run, st.Run} {
			work.Go(func() { run(ctx) })
		}
		count := func() (keys, done int) {
			synctest.Wait()
			wellEdition.mu.Lock()
			defer wellEdition.mu.Unlock()
			f.mu.Lock()
			defer f.mu.Unlock()
			return len(wellEdition.keys), f.done
		}
		said := func() []string {
			mu.Lock()
			defer mu.Unlock()
			return slices.Clone(missed)
		}
		time.Sleep(time.Minute)
		if keys, done := count(); keys != 100 || done != 0 || len(said()) > 0 {
			t.Errorf("while nothing can be recorded: %d keys, %d done, missed %v", keys, done, said())
		}
		mu.Lock()
		record = nil
		mu.Unlock()
		time.Sleep(time.Minute)
		if keys, done := count(); keys != 100 || done != 0 || fmt.Sprint(said()) != "[stuck: no column region_id]" {
			t.Errorf("while a source is only away: %d keys, %d done, missed %v", keys, done, said())
		}
		st.Remove(away)
		away.giveUp()
		time.Sleep(time.Minute)
		if keys, done := count(); keys != 500 || done != 500 || len(said()) != 1 {
			t.Errorf("in the end: %d keys, %d done, missed %v", keys, done, said())
		}
		stop()
		work.Wait()
	})
}
