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

// Query is a search for words.
type Query struct {
	Text string
	// Fields with their weights; the last word matches as a prefix.
	Fields []Weighted
	Limit  int
}

// Weighted is a field by its path.
type Weighted struct {
	Path   string
	Weight float64
}

// Hits is what a search found.
type Hits struct {
	Total int64 `json:"total"`
	Hits  []Hit `json:"hits"`
}

// Hit is one document found.
type Hit struct {
	Key      string          `json:"key"`
	Score    float64         `json:"score"`
	Document json.RawMessage `json:"document"`
}
