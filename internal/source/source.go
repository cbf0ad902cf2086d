// Package source is the interface that a source of records meets.
package source

import (
	"context"
	"errors"
	"fmt"
	"time"

	"pingo/internal/core/change"
	"pingo/internal/core/document"
	"pingo/internal/core/shape"
	"pingo/internal/source/postgres"
)

// Source is an application database. All methods may be used at the same time,
// but Changes, which has one caller.
type Source interface {
	// Describe connects and says what answered.
	Describe(ctx context.Context) (string, error)
	// Facts answers what Compile needs to know about an index.
	Facts(ctx context.Context, tables []string, expressions []shape.Asked) (shape.Facts, error)

	// CaptureSQL is what InstallCapture runs, for a person to read or run.
	CaptureSQL(ctx context.Context, need []shape.Captured) (string, error)
	// InstallCapture makes the source note every change from now on. service is
	// the identity of the one that will read the journal. It returns the tables
	// whose capture was made or changed.
	InstallCapture(ctx context.Context, service string, need []shape.Captured) ([]shape.Ref, error)
	// RemoveCapture takes everything away that InstallCapture made.
	RemoveCapture(ctx context.Context) error
	// CaptureStatus says whether changes are noted, and how many wait.
	CaptureStatus(ctx context.Context) (postgres.CaptureStatus, error)
	// JournalDepth says how many changes wait and since when, without reading much.
	JournalDepth(ctx context.Context) (Depth, error)

	// MissingRights lists the statements that give what capture of these tables needs
	// beyond reading them, as far as it is not there.
	MissingRights(ctx context.Context, need []shape.Captured) ([]string, error)
	// Advice says what about these tables a developer should know.
	Advice(ctx context.Context, need []shape.Captured, lookups []shape.Lookup) ([]Advice, error)
	// CaptureGaps lists the tables whose capture is not whole any more, in a source
	// where it was installed.
	CaptureGaps(ctx context.Context, need []shape.Captured) ([]Gap, error)
	// Ambiguous counts the rows of a view that share their key with another one.
	Ambiguous(ctx context.Context, t *shape.Tree) (int64, error)

	// Changes returns noticed changes that it has not returned before, at most limit.
	Changes(ctx context.Context, limit int) ([]change.Change, error)
	// Forget removes changes that are done from the journal.
	Forget(ctx context.Context, seqs []int64) error
	// Rewind makes Changes return everything in the journal again.
	Rewind()

	// Touched walks steps up from tuples of linking values, and calls each with the
	// key's values of every document on the way.
	Touched(ctx context.Context, steps []shape.Step, tuples [][]string, each func(key []string) error) error
	// Keys calls each with the key's values of every root row of a tree after one key
	// (nil: from the start) up to and with another (nil: to the end).
	Keys(ctx context.Context, t *shape.Tree, after, upto []string, each func(key []string) error) error
	// Count counts the rows that have documents.
	Count(ctx context.Context, t *shape.Tree) (int64, error)
	// ChunkEnd finds the key that ends a chunk of so many rows after a key (nil:
	// from the start). A nil end means that the chunk is the last one.
	ChunkEnd(ctx context.Context, t *shape.Tree, after []string, rows int) ([]string, error)
	// ReadKeys reads documents' rows by their keys, node by node, in one snapshot.
	ReadKeys(ctx context.Context, set *document.Set, keys [][]string) error
	// ReadRange is ReadKeys for all keys after one (nil: from the start) up to
	// and with another (nil: to the end).
	ReadRange(ctx context.Context, set *document.Set, after, upto []string) error

	Close()
}

// Gap is a table whose changes are not all noted any more.
type Gap = postgres.Gap

// Depth is how much a journal holds.
type Depth = postgres.Depth

// Advice is something about a source that a developer should know.
type Advice = postgres.Advice

// DataFault reports whether a read failed because of a value in some row, so that
// reading fewer rows finds the one at fault.
func DataFault(err error) bool { return postgres.DataFault(err) }

// Misfit reports whether a read failed because the source's tables are no longer what
// the definition was compiled for, so that a person must mend one or the other.
func Misfit(err error) bool { return postgres.Misfit(err) }

// NoCapture reports whether changes cannot be read because capture was removed.
func NoCapture(err error) bool { return errors.Is(err, postgres.ErrNoCapture) }

// ConnectTimeout bounds how long a source or engine may take to answer at all.
const ConnectTimeout = 5 * time.Second

// Open opens a source by its kind; it connects when it is first used.
func Open(kind, url string) (Source, error) {
	switch kind {
	case "postgres":
		return postgres.Open(url, ConnectTimeout)
	}
	return nil, fmt.Errorf("there is no kind of source %q", kind)
}
