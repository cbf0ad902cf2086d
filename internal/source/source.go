// Package source is the port of sources, the databases where records live: how their
// rows are read, how their changes are noticed, and the neutral types and errors that
// pass between Pingo and them. Each kind of source is a folder below this one.
package source

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"

	"pingo/internal/core/change"
	"pingo/internal/core/document"
	"pingo/internal/core/shape"
	"pingo/internal/outgoing"
)

// Source is a reader of rows, a feed of changes and, where something is installed for
// that, a capture. The same reader serves every kind of feed.
type Source struct {
	Reader
	Feed
	// Capture is nil where nothing is installed in the source.
	Capture Capture
	// Intake is nil where nothing is sent to the source.
	Intake Intake
	// Bulk reads what fills an edition, from somewhere else than Reader does, and nothing that is older than
	// what Reader would read at that moment; nil where Reader does that, too.
	Bulk Reader
}

// BulkReader returns the reader for fills.
func (s *Source) BulkReader() Reader {
	if s.Bulk != nil {
		return s.Bulk
	}
	return s.Reader
}

// Named is a table's name in messages. A table of the intake is known to people by its label alone.
func (s *Source) Named(table shape.Ref) string {
	if s.Intake != nil {
		return s.Label(table)
	}
	return table.String()
}

// Reader reads rows as they are now. All methods may be used at the same time.
type Reader interface {
	// Describe connects and returns a phrase that names the server.
	Describe(ctx context.Context) (string, error)
	// Facts answers what shape.Compile needs to know about an index.
	Facts(ctx context.Context, tables []string, expressions []shape.Expression) (shape.Facts, error)
	// Label is a table's name as people write it.
	Label(table shape.Ref) string
	// Count counts the rows that have documents.
	Count(ctx context.Context, t *shape.Tree) (int64, error)
	// DuplicateKeys counts the rows of a view that share their key with another one.
	DuplicateKeys(ctx context.Context, t *shape.Tree) (int64, error)
	// ChunkEnd finds the key that ends a chunk of a number of rows after a key (nil:
	// from the start). A nil end means that the chunk is the last one.
	ChunkEnd(ctx context.Context, t *shape.Tree, after []string, rows int) ([]string, error)
	// Keys calls each with the key's values of every root row of a tree after one key
	// (nil: from the start) up to and with another (nil: to the end).
	Keys(ctx context.Context, t *shape.Tree, after, upto []string, each func(key []string) error) error
	// ReadKeys reads documents' rows by their keys, node by node, in one snapshot. Nodes that another
	// source has are left out, with all below them.
	ReadKeys(ctx context.Context, set *document.Set, keys [][]string) error
	// ReadRange is ReadKeys for all keys after one (nil: from the start) up to
	// and with another (nil: to the end).
	ReadRange(ctx context.Context, set *document.Set, after, upto []string) error
	// ReadBelow reads the rows of a node whose parent another source has, where they were read,
	// and of the nodes of its own source below it, in one snapshot.
	ReadBelow(ctx context.Context, set *document.Set, node int) error
	// WalkUp follows steps from tuples of linking values, and calls each with the
	// key's values of every document at their end. It may fail with ErrTooWide between sources.
	WalkUp(ctx context.Context, steps []shape.Step, tuples [][]string, each func(key []string) error) error
	// Close gives connections back.
	Close()
}

// Migrator is a reader that can tell what a migration will make of tables and expressions.
type Migrator interface {
	// FactsAfter is Facts after the statements of a migration, which leave nothing behind. It fails with a MigrationError for
	// a migration that cannot be run.
	FactsAfter(ctx context.Context, migration string, tables []string, expressions []shape.Expression) (shape.Facts, error)
}

// MigrationError says which statement of a migration cannot be run, and why.
type MigrationError struct {
	Line   int // of the migration's text, from 1
	Reason string
}

func (e *MigrationError) Error() string { return fmt.Sprintf("line %d: %s", e.Line, e.Reason) }

// Migrated is a reader whose Facts are those after a migration.
type Migrated struct {
	Reader
	Migration string
}

// Facts is FactsAfter of the reader within.
func (m Migrated) Facts(ctx context.Context, tables []string, expressions []shape.Expression) (shape.Facts, error) {
	return m.Reader.(Migrator).FactsAfter(ctx, m.Migration, tables, expressions)
}

// Walk walks steps up from tuples by a function that takes one of them. What is in between is held
// in memory; what the last step yields is passed on as it comes.
func Walk(
	steps []shape.Step,
	tuples [][]string,
	one func(step shape.Step, tuples [][]string, each func(row []string) error) error,
	each func(key []string) error,
) error {
	for _, step := range steps[:len(steps)-1] {
		var next [][]string
		err := one(step, tuples, func(row []string) error {
			next = append(next, slices.Clone(row))
			return nil
		})
		if err != nil {
			return err
		}
		tuples = next
	}
	return one(steps[len(steps)-1], tuples, each)
}

// Feed notices changes. Changes has one caller at a time; the other methods may be used
// at the same time.
type Feed interface {
	// Claimed reads the claim on the source's changes; zero when there is none.
	Claimed(ctx context.Context) (change.Claim, error)
	// Claim claims them, if the claim is still as it was found: otherwise another process was faster, or the source was
	// restored meanwhile.
	// From then on, and until another claims them, Changes and Done work; otherwise they fail
	// with the fault Superseded.
	Claim(ctx context.Context, found, c change.Claim) error
	// Beat increases the mark of the claim, if it is still as it was found, and returns the new claim.
	Beat(ctx context.Context, found change.Claim) (change.Claim, error)
	// Changes returns changes that it has not returned since the last Rewind,
	// at most limit.
	Changes(ctx context.Context, limit int) ([]change.Change, error)
	// Done removes changes that it has returned and that are no longer needed.
	Done(ctx context.Context, seqs []int64) error
	// Rewind makes Changes return everything that is not done again.
	Rewind()
	// InFlight is how many changes were returned and are not done, and when the oldest
	// of them was made.
	InFlight() (n int, oldest time.Time)
	// Depth says how many changes are not done and since when, without reading much.
	Depth(ctx context.Context) (Depth, error)
	// ChangesOf lists some of the changes of a row that are not done, oldest first; none if the source cannot tell.
	ChangesOf(ctx context.Context, table shape.Ref, key []string) ([]change.Change, error)
}

// Awaiter is a feed that can wait until there may be changes, at less cost than polling.
type Awaiter interface {
	// Await waits until there may be changes that Changes has not returned, or for a time. It says up to when there
	// certainly was none, by this process's clock, zero when there may be some, and whether it could wait at all: if not,
	// it returns immediately.
	Await(ctx context.Context, most time.Duration) (none time.Time, waited bool)
}

// Settler is a feed that may know that a change had been committed long before Changes returned it: where very many
// wait, a document is built once for all of its changes that it has.
type Settler interface {
	// CommittedBy is by when a change was committed, by this process's clock: a read of its row after that sees it.
	CommittedBy(seq int64) (by time.Time, known bool)
}

// Capture is what is installed in a source so that its changes are noticed.
type Capture interface {
	// Script is what Install runs, for a person to read or run.
	Script(ctx context.Context, need []shape.Captured) (string, error)
	// Install makes the source note every change from now on. owner is the identity of
	// the service that will read the journal. It returns the tables whose capture was
	// made or changed.
	Install(ctx context.Context, owner string, need []shape.Captured) ([]shape.Ref, error)
	// RemovalScript is what takes everything away that Install made, for a person to read or run; empty
	// when there is nothing.
	RemovalScript(ctx context.Context) (string, error)
	// Remove takes everything away that Install made.
	Remove(ctx context.Context) error
	// Status says whether changes are recorded, and of which tables.
	Status(ctx context.Context) (CaptureStatus, error)
	// Gaps lists the tables whose capture is no longer complete, in a source where it
	// was installed.
	Gaps(ctx context.Context, need []shape.Captured) ([]Gap, error)
	// MissingRights lists the statements that give what capture of these tables needs
	// beyond reading them, as far as it is not there.
	MissingRights(ctx context.Context, need []shape.Captured) ([]string, error)
	// Advice says what about these tables a developer should know.
	Advice(ctx context.Context, need []shape.Captured, lookups []shape.Lookup) ([]Advice, error)
}

// Intake takes in what is sent to a source. All methods may be used at the same time, and by
// several processes.
type Intake interface {
	// Receive takes in one request. The reply and its receipts report what is wrong with it; an error means that it could
	// not be stored, so the sender must try again.
	Receive(ctx context.Context, r Request) (Reply, error)
	// Load takes in rows that have no name and no version, which replace what there is of them.
	Load(ctx context.Context, record string, rows []Loaded) ([]Receipt, error)
	// Replace ends a listing of all records of a name: those that were not loaded since a time
	// are deleted. It returns how many.
	Replace(ctx context.Context, record string, since time.Time) (int64, error)
	// Receipts lists the outcomes of events, the newest first, at most n of those below a number
	// (0: all). An outcome lists those with it alone.
	Receipts(ctx context.Context, below int64, n int, outcome string) ([]Receipt, error)
	// Records says what is held of each record name.
	Records(ctx context.Context) ([]Held, error)
	// Limit is how many bytes a request may have.
	Limit() int64
	// Sign gives the headers of a request that is signed as this source wants it.
	Sign(id string, at time.Time, body []byte) (map[string]string, error)
	// Clock is the time of the database that holds the records of a name.
	Clock(ctx context.Context, record string) (time.Time, error)
}

// ErrNoRecord says that a source has no record of a name; what follows says which it has.
var ErrNoRecord = errors.New("there is no such record")

// Request is one request of a sender.
type Request struct {
	Method string
	// Path is the part after the source's own path, without slashes at its ends.
	Path   string
	Header map[string][]string
	// Host is the name that it was sent to, and Known whether that is one of this service's.
	Host  string
	Known bool
	Body  []byte
	// Secure: no program between the sender and Pingo can read it.
	Secure bool
	At     time.Time
}

// Reply is the answer to a request: a status of HTTP, and the outcome of each event.
type Reply struct {
	Status   int
	Receipts []Receipt
}

// Loaded is one row of a file: a line of it, and the JSON object there.
type Loaded struct {
	Line int64
	Body []byte
}

// Outcome says whether an event was accepted, or why not.
type Outcome string

// The outcomes. Old: a newer version of the record was here already.
const (
	Accepted     Outcome = "accepted"
	Duplicate    Outcome = "duplicate"
	Old          Outcome = "old"
	Unreadable   Outcome = "unreadable"
	BadSignature Outcome = "bad-signature"
	OutOfTime    Outcome = "out-of-time"
	TooLarge     Outcome = "too-large"
	TooMany      Outcome = "too-many"
)

// Receipt is the record of one event.
type Receipt struct {
	Seq     int64
	At      time.Time
	Event   string // as the sender names it
	Record  string
	Key     string
	Op      string
	Outcome Outcome
	// Reason says why it was not accepted, in a sentence without a full stop.
	Reason string
	Bytes  int64
	Line   int64 // of a file that was loaded
	// Events is how many were accepted together; a list of receipts has one for all of them.
	Events int
}

// Held is what is held of the records of one name.
type Held struct {
	Record  string
	Rows    int64
	Deleted int64
	Newest  *time.Time
}

// CaptureStatus is what is installed in a source.
type CaptureStatus struct {
	Installed bool
	Tables    []string
}

// AskOwner ends the reason of a gap that Pingo may not close.
const AskOwner = ". Pingo may not install its triggers there. Run as the owner what pingo capture show prints"

// Gap is a table whose changes are no longer all recorded.
type Gap struct {
	Table shape.Ref
	// Safe: nothing went unnoticed so far, and installing capture again closes it.
	Safe bool
	// Deliberate: a person removed capture, or must install it, so Pingo does not close the gap.
	Deliberate bool
	// Reason says what is missing, in a sentence without a full stop.
	Reason string
}

// Removed are the gaps of tables whose capture a person removed.
func Removed(tables []shape.Captured) []Gap {
	var out []Gap
	for _, t := range tables {
		out = append(out, Gap{Table: t.Table, Deliberate: true, Reason: "capture was removed from this database, so its changes go unnoticed"})
	}
	return out
}

// Depth is how much a journal holds.
type Depth struct {
	// Changes that are in it, and when the oldest was noted; nil when there is none. A
	// large number may be an estimate.
	Changes int64
	Oldest  *time.Time
	Bytes   int64
	// First is the number of the first of them, 0 when there is none, and Last the highest
	// that was given out: no committed change has a higher one.
	First, Last int64
	// Clock is what the clock of the source showed; zero when it was not asked.
	Clock time.Time
}

// Advice is something about the source that a developer should know, with the statement
// that fixes it where there is one.
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
// no longer what a shape was compiled for, and a person must fix one or the other;
// NoCapture that changes are not noticed, because capture was removed; Superseded that
// another process has claimed the changes, or that the source is an older copy of itself.
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

// ErrTooLarge says that rows take more memory than document.MostBytes. Fewer may be read together; where it is one
// document's, that is what is wrong with it.
var ErrTooLarge error = &Error{Fault: BadValue, Err: fmt.Errorf(
	"its rows take more than %d MB: put less into the document, for instance with limit on a list", document.MostBytes>>20,
)}

// FaultOf says whose fault an error of a source is.
func FaultOf(err error) Fault {
	var e *Error
	if errors.As(err, &e) {
		return e.Fault
	}
	return Unavailable
}

// Blind is a feed that does not see every change.
type Blind interface {
	// Unseen says, in sentences, why it may not have noticed a change of a root row of a tree, or of rows that its
	// document is made of. key is the row's; there reports whether the row exists.
	Unseen(ctx context.Context, t *shape.Tree, key []string, there bool) ([]string, error)
}

// Config says where a source is and how it is used; it contains secrets in clear text.
type Config struct {
	Name string
	URL  string
	// Capture is how changes are noticed: one of the kind's Captures, the first when empty.
	Capture string
	// Options is a JSON object of the kind's own keys, as the definition has them; empty for
	// none.
	Options json.RawMessage
	// Records is the URL of Pingo's own database, where the intake is.
	Records string
	// Dial connects to the source, and DialPublic to what it fetches from; net.Dialer when nil.
	Dial, DialPublic outgoing.Dialer
	// Files gives the path of a file that the URL may name; nil allows none.
	Files func(name string) (path string, err error)
	// ConnectTimeout bounds how long the source may take to answer at all.
	ConnectTimeout time.Duration
	// MaxConnections bounds the open connections; 0 is the default of the kind.
	MaxConnections int
}

// Kind is what there is to know of a kind of source without one at hand.
type Kind struct {
	Name string
	// Schemes are what its URLs begin with; none when it has no URL.
	Schemes []string
	// Captures are the ways in which its changes are noticed; the first is the default.
	Captures []string
	// Keys is a JSON Schema object: the properties that a definition may give a source
	// of this kind, in addition to those of every source.
	Keys string
	// CannotSee says, for each of the Captures, what it does not notice, in sentences.
	CannotSee map[string][]string
	// Open prepares a source; it connects when it is first used.
	Open func(c Config) (*Source, error)
}
