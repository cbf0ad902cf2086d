// Package wire holds what passes between Pingo and an engine.
package wire

import (
	"encoding/json"
	"errors"

	"pingo/internal/core/retry"
)

// Document is one document to index or delete.
type Document struct {
	Key     string
	Version int64
	// Body is the document's JSON without line breaks; nil deletes.
	Body []byte
}

// Result is what the engine answered for one document. Kind and Reason are its own
// words, for what it refused.
type Result struct {
	Outcome retry.Outcome
	Kind    string
	Reason  string
}

// Failure is a request that failed as a whole.
type Failure struct {
	Outcome retry.Outcome
	Status  int
	Kind    string
	Message string
}

func (f *Failure) Error() string { return f.Message }

// OutcomeOf says what a request's failure means; a failure without an answer is
// worth another try.
func OutcomeOf(err error) retry.Outcome {
	var f *Failure
	if errors.As(err, &f) {
		return f.Outcome
	}
	return retry.Later
}

// Query is a search. Every word of Text is found in some searched field, as the field
// matches; without text all documents are.
type Query struct {
	Text    string
	Filters []Filter
	Order   []Order
	// Facets are fields whose values are counted over all that is found.
	Facets []string
	Limit  int
}

// Filter keeps documents that have a value in a field.
type Filter struct{ Path, Value string }

// Order sorts by a field, documents without it last.
type Order struct {
	Path       string
	Descending bool
}

// FacetSize bounds how many values of a facet are counted: the most frequent.
const FacetSize = 20

// Hits is what a search found.
type Hits struct {
	Total  int64              `json:"total"`
	Hits   []Hit              `json:"hits"`
	Facets map[string][]Facet `json:"facets,omitempty"`
}

// Facet is a value and in how many of the documents found it stands.
type Facet struct {
	Value     string `json:"value"`
	Documents int64  `json:"documents"`
}

// Hit is one document found.
type Hit struct {
	Key      string          `json:"key"`
	Score    float64         `json:"score"`
	Document json.RawMessage `json:"document"`
}
