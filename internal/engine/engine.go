// Package engine is the interface that a search engine meets.
package engine

import (
	"context"
	"encoding/json"
	"fmt"

	"pingo/internal/core/retry"
	"pingo/internal/core/shape"
	"pingo/internal/engine/opensearch"
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
	Filled(ctx context.Context, edition string) error
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
	// Search looks for words under a public name or in an edition.
	Search(ctx context.Context, name string, q wire.Query) (wire.Hits, error)
	// Switch points the public name at an edition, and at nothing else, atomically.
	Switch(ctx context.Context, name, edition string) error
	// Answering says which editions answer under the public name; none when there
	// is no such name.
	Answering(ctx context.Context, name string) ([]string, error)
}

// Open opens an engine by its kind; it connects when it is first used.
func Open(kind, url string) (Engine, error) {
	switch kind {
	case "opensearch":
		return opensearch.Open(url)
	}
	return nil, fmt.Errorf("there is no kind of engine %q", kind)
}

// OutcomeOf says what a request's failure means.
func OutcomeOf(err error) retry.Outcome { return wire.OutcomeOf(err) }
