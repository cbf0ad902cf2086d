// Package engine is the port of search engines: what an engine must do, what it may do
// better, and the neutral types and failures that pass between Pingo and it. Each kind
// of engine is a folder below this one.
package engine

import (
	"context"
	"encoding/json"
	"errors"

	"pingo/internal/core/query"
	"pingo/internal/core/retry"
	"pingo/internal/core/shape"
	"pingo/internal/outgoing"
)

// Engine is a search server that holds editions. All methods may be used at the same
// time. What an engine can do beyond this is an interface of its own: Versioned,
// SettingsUpdater, Explainer.
type Engine interface {
	// Describe connects and returns a phrase that names the server.
	Describe(ctx context.Context) (string, error)
	// Prepare creates an edition with the mapping that the shape calls for. An
	// edition that exists already is left as it is.
	Prepare(ctx context.Context, edition string, s *shape.Shape) error
	// Copy names the copy that the engine holds of an edition: another one after the edition was made again or restored,
	// or the server was replaced. It is empty when there is none.
	Copy(ctx context.Context, edition string) (string, error)
	// FinishFill makes a filled edition ready for searches and steady small changes.
	FinishFill(ctx context.Context, edition string, s *shape.Shape) error
	// Drop deletes an edition; it is no error when there is none.
	Drop(ctx context.Context, edition string) error
	// Deliver sends documents in one request and answers for each in the same
	// order. An error means that nothing is known about any of them.
	Deliver(ctx context.Context, edition string, docs []Document) ([]Result, error)
	// Count counts the documents that searches can find.
	Count(ctx context.Context, edition string) (int64, error)
	// Get returns documents by key as they are stored now; missing ones are left out.
	Get(ctx context.Context, edition string, keys []string) (map[string]json.RawMessage, error)
	// Fingerprints returns the fingerprints that documents are stored with, by key, empty where one has none;
	// missing documents are left out.
	Fingerprints(ctx context.Context, edition string, keys []string) (map[string]string, error)
	// Scan calls each for the key and fingerprint of every document, in no order.
	Scan(ctx context.Context, edition string, each func(key, fingerprint string) error) error
	// Refresh lets searches find everything that the edition has taken by now.
	Refresh(ctx context.Context, edition string) error
	// Search looks for words under a public name or in an edition of this shape. A search that
	// the engine refuses as it is fails with a Failure whose Outcome is Refused.
	Search(ctx context.Context, name string, s *shape.Shape, q query.Query) (Hits, error)
	// Editions lists what the engine holds that has the form of an edition, whoever made it.
	Editions(ctx context.Context) ([]string, error)
	// Switch points the public name at an edition, and at nothing else, atomically.
	Switch(ctx context.Context, name, edition string) error
	// Resolve lists the editions that answer under a public name; none when there is
	// no such name.
	Resolve(ctx context.Context, name string) ([]string, error)
	// Close gives connections back.
	Close()
}

// Versioned is an engine that answers "already newer" to a document whose version is
// not above that of the one it holds, or that it deleted. An engine that is not keeps what
// comes last: it ensures that what Deliver asked for is no longer carried out once
// Deliver has returned, for whatever reason.
type Versioned interface {
	RefusesOlderVersions()
}

// SettingsUpdater is an engine whose live editions take up some changes of synonyms and
// settings. Its kind's InPlace says which.
type SettingsUpdater interface {
	UpdateSettings(ctx context.Context, edition string, s *shape.Shape) error
}

// NameReplacer is an engine that can have a public name lead to an edition where the engine has an index of
// that very name, which Pingo did not make and which is deleted then, in one atomic step.
type NameReplacer interface {
	TakeOver(ctx context.Context, name, edition string) error
}

// Trier is an engine that can try out what it would say to an edition of a shape, leaving
// nothing behind.
type Trier interface {
	Try(ctx context.Context, s *shape.Shape) error
}

// Explainer is an engine that can say what its refusals mean.
type Explainer interface {
	// Explain reads a refusal: the engine's kind of error and its words.
	Explain(kind, reason string) retry.Cause
}

// Explain says what a refusal of an engine means, as far as it is known.
func Explain(e Engine, kind, reason string) retry.Cause {
	if x, ok := e.(Explainer); ok {
		return x.Explain(kind, reason)
	}
	return retry.CauseOf(kind, retry.Pattern(reason), "", retry.AsTheEngineSays)
}

// Config says where an engine is and how to talk to it; it contains secrets in clear text.
type Config struct {
	URL string
	// Options is a JSON object of the kind's own keys, as the definition has them, with secrets
	// in clear; empty for none.
	Options json.RawMessage
	// Dial connects to the engine; net.Dialer when nil.
	Dial outgoing.Dialer
	// Files gives the path of a file that the URL may name; nil allows none.
	Files func(name string) (path string, err error)
}

// Kind is what there is to know of a kind of engine without one at hand.
type Kind struct {
	Name string
	// Schemes are what its URLs begin with.
	Schemes []string
	// Keys is a JSON Schema object: the properties that a definition may give an engine
	// of this kind, in addition to kind and url.
	Keys string
	// Open prepares an engine; it connects when it is first used.
	Open func(c Config) (Engine, error)
	// Limits says in sentences what a definition asks for that the engine cannot do:
	// what it refuses, and what it does in another way.
	Limits func(s *shape.Shape) (refused, notes []string)
	// InPlace reports whether a live edition can take up the synonyms and settings in
	// which two shapes differ.
	InPlace func(old, new *shape.Shape) bool
	// Leaves says what Pingo leaves in an engine in addition to editions, and how to delete it; empty for nothing.
	Leaves string
	// Recognize asks whoever answers whether it is of this kind. An error means that
	// no server answered.
	Recognize func(ctx context.Context, c Config) (bool, error)
}

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
	// Held is the version that the engine holds, where that is not older; 0 where it does not say.
	Held   int64
	Kind   string
	Reason string
}

// Failure is a request that failed as a whole.
type Failure struct {
	Outcome retry.Outcome
	// TooLarge: fewer or smaller documents in one request may be accepted. Busy: the engine asks
	// for fewer requests.
	TooLarge, Busy bool
	Kind           string
	Message        string
}

func (f *Failure) Error() string { return f.Message }

// FailureOf reads a request's failure. One without an answer is worth another try.
func FailureOf(err error) Failure {
	var f *Failure
	if errors.As(err, &f) {
		return *f
	}
	return Failure{Outcome: retry.Later, Message: err.Error()}
}

// AsBlocked makes a refusal of a request without documents a failure that a person must fix: it is no document's fault.
func AsBlocked(err error) error {
	if err == nil {
		return nil
	}
	f := FailureOf(err)
	if f.Outcome != retry.Refused {
		return err
	}
	f.Outcome = retry.Blocked
	return &f
}

// Blocked are the results of a delivery that fails as a whole until a person fixes something.
func Blocked(docs []Document, f *Failure) []Result {
	results := make([]Result, len(docs))
	for i := range results {
		results[i] = Result{Outcome: retry.Blocked, Kind: f.Kind, Reason: f.Message}
	}
	return results
}

// FacetSize bounds how many values of a facet are counted: the most frequent.
const FacetSize = 20

// Hits is what a search found.
type Hits struct {
	Total  int64
	Hits   []Hit
	Facets map[string][]Facet
}

// Facet is a value and in how many of the documents found it stands.
type Facet struct {
	Value     string
	Documents int64
}

// Hit is one document found.
type Hit struct {
	Key      string
	Score    float64
	Document json.RawMessage
}
