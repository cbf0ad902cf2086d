// Package source is the port of sources, the databases where records live: how their
// rows are read, how their changes are noticed, and the neutral types and errors that
// pass between Pingo and them. Each kind of source is a folder below this one.
package source

import (
	"context"
	"errors"
	"time"

	"pingo/internal/core/change"
	"pingo/internal/core/document"
	"pingo/internal/core/shape"
)

// Source is a reader of rows, a feed of changes and, where something is installed for
// that, a capture. The same reader serves every kind of feed.
type Source struct {
	Reader
	Feed
	// Capture is nil where nothing is installed in the source.
	Capture Capture
}

// Reader reads rows as they are now. All methods may be used at the same time.
type Reader interface {
	// Describe connects and says in words who answered.
	Describe(ctx context.Context) (string, error)
	// Facts answers what shape.Compile needs to know about an index.
	Facts(ctx context.Context, tables []string, expressions []shape.Expression) (shape.Facts, error)
	// Label is a table's name as people write it.
	Label(table shape.Ref) string
	// Count counts the rows that have documents.
	Count(ctx context.Context, t *shape.Tree) (int64, error)
	// DuplicateKeys counts the rows of a view that share their key with another one.
	DuplicateKeys(ctx context.Context, t *shape.Tree) (int64, error)
	// ChunkEnd finds the key that ends a chunk of so many rows after a key (nil:
	// from the start). A nil end means that the chunk is the last one.
	ChunkEnd(ctx context.Context, t *shape.Tree, after []string, rows int) ([]string, error)
	// Keys calls each with the key's values of every root row of a tree after one key
	// (nil: from the start) up to and with another (nil: to the end).
	Keys(ctx context.Context, t *shape.Tree, after, upto []string, each func(key []string) error) error
	// ReadKeys reads documents' rows by their keys, node by node, in one snapshot.
	ReadKeys(ctx context.Context, set *document.Set, keys [][]string) error
	// ReadRange is ReadKeys for all keys after one (nil: from the start) up to
	// and with another (nil: to the end).
	ReadRange(ctx context.Context, set *document.Set, after, upto []string) error
	// WalkUp follows steps from tuples of linking values, and calls each with the
	// key's values of every document at their end.
	WalkUp(ctx context.Context, steps []shape.Step, tuples [][]string, each func(key []string) error) error
	// Close gives connections back.
	Close()
}

// Feed notices changes. Changes has one caller at a time; the other methods may be used
// at the same time.
type Feed interface {
	// Claimed reads who has claimed the source's changes; zero when nobody has.
	Claimed(ctx context.Context) (change.Claim, error)
	// Claim claims them, if the claim is still as it was found: else somebody has come
	// before, or the source was put back meanwhile.
	// From then on, and until another claims them, Changes and Done work; else they fail
	// with the fault Superseded.
	Claim(ctx context.Context, found, c change.Claim) error
	// Beat moves the mark of the claim on, if it is still as it was found, and returns it as it
	// stands then.
	Beat(ctx context.Context, found change.Claim) (change.Claim, error)
	// Changes returns noticed changes that it has not returned since the last Rewind,
	// at most limit.
	Changes(ctx context.Context, limit int) ([]change.Change, error)
	// Done removes changes that it has returned and that nobody needs any more.
	Done(ctx context.Context, seqs []int64) error
	// Rewind makes Changes return everything that is not done again.
	Rewind()
	// InFlight is how many changes were returned and are not done, and when the oldest
	// of them was made.
	InFlight() (n int, oldest time.Time)
	// Depth says how many changes are not done and since when, without reading much.
	Depth(ctx context.Context) (Depth, error)
}

// Capture is what is installed in a source so that its changes are noticed.
type Capture interface {
	// Script is what Install runs, for a person to read or run.
	Script(ctx context.Context, need []shape.Captured) (string, error)
	// Install makes the source note every change from now on. owner is the identity of
	// the service that will read the journal. It returns the tables whose capture was
	// made or changed.
	Install(ctx context.Context, owner string, need []shape.Captured) ([]shape.Ref, error)
	// Remove takes everything away that Install made.
	Remove(ctx context.Context) error
	// Status says whether changes are noted, and of which tables.
	Status(ctx context.Context) (CaptureStatus, error)
	// Gaps lists the tables whose capture is not whole any more, in a source where it
	// was installed.
	Gaps(ctx context.Context, need []shape.Captured) ([]Gap, error)
	// MissingRights lists the statements that give what capture of these tables needs
	// beyond reading them, as far as it is not there.
	MissingRights(ctx context.Context, need []shape.Captured) ([]string, error)
	// Advice says what about these tables a developer should know.
	Advice(ctx context.Context, need []shape.Captured, lookups []shape.Lookup) ([]Advice, error)
}

// CaptureStatus is what is installed in a source.
type CaptureStatus struct {
	Installed bool
	Tables    []string
}

// Gap is a table whose changes are not all noted any more.
type Gap struct {
	Table shape.Ref
	// Safe: nothing went unnoticed so far, and installing capture again closes it.
	Safe bool
	// Deliberate: somebody took capture away, so it is for a person to install it again.
	Deliberate bool
	// Reason says what is missing, in a sentence without a full stop.
	Reason string
}

// Depth is how much a journal holds.
type Depth struct {
	// Changes that are in it, and when the oldest was noted; nil when there is none. A
	// large number may be an estimate.
	Changes int64
	Oldest  *time.Time
	Bytes   int64
	// First is the number of the first of them, 0 when there is none, and Last the highest
	// that was given out: whatever is committed has no higher one.
	First, Last int64
}

// Advice is something about the source that a developer should know, with the statement
// that mends it where there is one.
type Advice struct {
	// Kind is index, cascade, trigger, rule or key.
	Kind      string
	Table     string
	Message   string
	Statement string
}

// Fault says whose fault a failure of a source is.
type Fault int

// The faults. Unavailable passes by itself or with the network; BadValue is that of a
// row, so that reading fewer rows finds the one; SchemaChanged means that the source is
// no longer what a shape was compiled for, and a person must mend one or the other;
// NoCapture that changes are not noticed, because capture was removed; Superseded that
// somebody else has claimed the changes, or that the source is an older copy of itself.
const (
	Unavailable Fault = iota
	BadValue
	SchemaChanged
	NoCapture
	Superseded
)

// Error is a failure of a source. Its text is a sentence that says what to do.
type Error struct {
	Fault Fault
	Err   error
}

func (e *Error) Error() string { return e.Err.Error() }
func (e *Error) Unwrap() error { return e.Err }

// FaultOf says whose fault an error of a source is.
func FaultOf(err error) Fault {
	var e *Error
	if errors.As(err, &e) {
		return e.Fault
	}
	return Unavailable
}

// Config says where a source is and how it is used; secrets stand in it in clear.
type Config struct {
	URL string
	// ConnectTimeout bounds how long the source may take to answer at all.
	ConnectTimeout time.Duration
}

// Kind is what there is to know of a kind of source without one at hand.
type Kind struct {
	Name string
	// Schemes are what its URLs begin with.
	Schemes []string
	// Captures are the ways in which its changes are noticed; the first is the default.
	Captures []string
	// Keys is a JSON Schema object: the properties that a definition may give a source
	// of this kind, beside those of every source.
	Keys string
	// Open prepares a source; it connects when it is first used.
	Open func(c Config) (*Source, error)
}
