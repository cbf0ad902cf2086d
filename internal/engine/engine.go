// Package engine is the interface that a search engine meets.
package engine

import (
	"context"
	"encoding/json"
	"fmt"

	"pingo/internal/core/retry"
	"pingo/internal/core/shape"
	"pingo/internal/engine/opensearch"
	"pingo/internal/engine/postgres"
	"pingo/internal/engine/wire"
)

// Engine is a search server that holds editions. All methods may be used at the
// same time.
type Engine interface {
	// Describe connects and says what answered.
	Describe(ctx context.Context) (string, error)
	// Prepare creates an edition with the mapping that the shape calls for. An
	// edition that exists already is left as it is.
	Prepare(ctx context.Context, edition string, s *shape.Shape) error
	// Filled makes a filled edition ready for searches and steady small changes.
	Filled(ctx context.Context, edition string, s *shape.Shape) error
	// Drop deletes an edition; it is no error when there is none.
	Drop(ctx context.Context, edition string) error
	// Deliver sends documents in one request and answers for each in the same
	// order. An error means that nothing is known about any of them.
	Deliver(ctx context.Context, edition string, docs []wire.Document) ([]wire.Result, error)
	// Count counts the documents that searches can find.
	Count(ctx context.Context, edition string) (int64, error)
	// Get returns documents by key as they are stored now; missing ones are left out.
	Get(ctx context.Context, edition string, keys []string) (map[string]json.RawMessage, error)
	// Scan calls each for the key and fingerprint of every document.
	Scan(ctx context.Context, edition string, each func(key, fingerprint string) error) error
	// Search looks for words under a public name or in an edition of this shape.
	Search(ctx context.Context, name string, s *shape.Shape, q wire.Query) (wire.Hits, error)
	// Adjust takes up what InPlace says can be changed of a live edition.
	Adjust(ctx context.Context, edition string, s *shape.Shape) error
	// Switch points the public name at an edition, and at nothing else, atomically.
	Switch(ctx context.Context, name, edition string) error
	// Close gives connections back.
	Close()
	// Answering says which editions answer under the public name; none when there
	// is no such name.
	Answering(ctx context.Context, name string) ([]string, error)
}

// kind is what there is to know of a kind of engine without one at hand.
type kind struct {
	open func(url string) (Engine, error)
	// limits says in sentences what a definition asks for that the engine cannot do:
	// what it refuses, and what it does in another way.
	limits func(s *shape.Shape) (refused, notes []string)
	// inPlace reports whether a live edition can take up new synonyms and settings.
	inPlace func(old, new *shape.Shape) bool
}

var kinds = map[string]kind{
	"opensearch": {func(url string) (Engine, error) { return opensearch.Open(url) }, opensearch.Limits, opensearch.InPlace},
	"postgres":   {func(url string) (Engine, error) { return postgres.Open(url) }, postgres.Limits, postgres.InPlace},
}

// Open opens an engine by its kind; it connects when it is first used.
func Open(name, url string) (Engine, error) {
	k, ok := kinds[name]
	if !ok {
		return nil, fmt.Errorf("there is no kind of engine %q", name)
	}
	return k.open(url)
}

// Limits says in sentences what a shape asks for that a kind of engine cannot do: what
// it refuses, and what it does in another way.
func Limits(name string, s *shape.Shape) (refused, notes []string) { return kinds[name].limits(s) }

// InPlace reports whether a live edition of a kind of engine can take up the synonyms
// and settings in which two shapes differ.
func InPlace(name string, old, new *shape.Shape) bool { return kinds[name].inPlace(old, new) }

// OutcomeOf says what a request's failure means.
func OutcomeOf(err error) retry.Outcome { return wire.OutcomeOf(err) }
