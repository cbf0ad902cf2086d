package tiny

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"sync"

	"pingo/internal/core/query"
	"pingo/internal/core/shape"
	"pingo/internal/engine"
)

// NewExchangingEngine is an engine that has no names except its indexes: a public name is an index, and
// a switch exchanges what two indexes hold. Each of them bears the edition that it holds, which moves
// with it. It keeps what comes last.
func NewExchangingEngine() engine.Engine {
	held := &search{editions: map[string]*edition{}, names: map[string]string{}, plain: true}
	return &exchanging{held: held, bears: map[string]string{}, public: map[string]bool{}}
}

type exchanging struct {
	held *search // by index

	mu     sync.Mutex        // guards what follows; held while an index is asked, so that none is exchanged meanwhile
	bears  map[string]string // the edition that an index holds
	public map[string]bool   // names that were switched to something
}

// in is the index that holds an edition, or that has a public name; empty when there is none. The
// caller holds mu.
func (x *exchanging) in(name string) string {
	for index, edition := range x.bears {
		if edition == name || index == name && x.public[name] {
			return index
		}
	}
	return ""
}

// at asks for something where an edition is, or where a public name leads.
func at[T any](x *exchanging, name string, ask func(index string) (T, error)) (T, error) {
	x.mu.Lock()
	defer x.mu.Unlock()
	return ask(x.in(name))
}

func (x *exchanging) Describe(context.Context) (string, error) {
	return "a tiny engine that exchanges", nil
}
func (x *exchanging) Close() {}

func (x *exchanging) Prepare(ctx context.Context, name string, s *shape.Shape) error {
	x.mu.Lock()
	defer x.mu.Unlock()
	if x.in(name) != "" {
		return nil
	}
	index := name
	for n := 2; x.bears[index] != ""; n++ { // it holds another edition since they were exchanged
		index = fmt.Sprint(name, "-", n)
	}
	x.bears[index] = name
	return x.held.Prepare(ctx, index, s)
}

func (x *exchanging) Copy(ctx context.Context, name string) (string, error) {
	return at(x, name, func(index string) (string, error) { return x.held.Copy(ctx, index) })
}

func (x *exchanging) FinishFill(context.Context, string, *shape.Shape) error { return nil }
func (x *exchanging) Refresh(context.Context, string) error                  { return nil }

func (x *exchanging) Drop(ctx context.Context, name string) error {
	x.mu.Lock()
	defer x.mu.Unlock()
	index := x.in(name)
	if index == "" {
		return nil
	}
	delete(x.bears, index)
	return x.held.Drop(ctx, index)
}

func (x *exchanging) Deliver(ctx context.Context, name string, docs []engine.Document) ([]engine.Result, error) {
	return at(x, name, func(index string) ([]engine.Result, error) { return x.held.Deliver(ctx, index, docs) })
}

func (x *exchanging) Count(ctx context.Context, name string) (int64, error) {
	return at(x, name, func(index string) (int64, error) { return x.held.Count(ctx, index) })
}

func (x *exchanging) Get(ctx context.Context, name string, keys []string) (map[string]json.RawMessage, error) {
	return at(x, name, func(index string) (map[string]json.RawMessage, error) { return x.held.Get(ctx, index, keys) })
}

func (x *exchanging) Fingerprints(ctx context.Context, name string, keys []string) (map[string]string, error) {
	return at(x, name, func(index string) (map[string]string, error) { return x.held.Fingerprints(ctx, index, keys) })
}

func (x *exchanging) Scan(ctx context.Context, name string, each func(key, fingerprint string) error) error {
	_, err := at(x, name, func(index string) (bool, error) { return true, x.held.Scan(ctx, index, each) })
	return err
}

func (x *exchanging) Search(ctx context.Context, name string, s *shape.Shape, q query.Query) (engine.Hits, error) {
	return at(x, name, func(index string) (engine.Hits, error) { return x.held.Search(ctx, index, s, q) })
}

func (x *exchanging) Editions(context.Context) ([]string, error) {
	x.mu.Lock()
	defer x.mu.Unlock()
	return slices.Sorted(maps.Values(x.bears)), nil
}

func (x *exchanging) Resolve(_ context.Context, name string) ([]string, error) {
	x.mu.Lock()
	defer x.mu.Unlock()
	if edition := x.bears[name]; edition != "" {
		return []string{edition}, nil
	}
	return nil, nil
}

func (x *exchanging) Switch(_ context.Context, name, to string) error {
	x.mu.Lock()
	defer x.mu.Unlock()
	from := x.in(to)
	if from == "" {
		return errLost
	}
	if x.public[name] = true; from == name {
		return nil
	}
	x.held.mu.Lock()
	defer x.held.mu.Unlock()
	other, there := x.held.editions[name]
	x.held.editions[name], x.bears[name], x.bears[from] = x.held.editions[from], to, x.bears[name]
	if x.held.editions[from] = other; !there {
		delete(x.held.editions, from)
		delete(x.bears, from)
	}
	return nil
}
