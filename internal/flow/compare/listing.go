package compare

import (
	"cmp"
	"context"
	"errors"
	"slices"
	"strconv"
	"sync/atomic"

	"github.com/cespare/xxhash/v2"

	"pingo/internal/core/drift"
)

// Listing is which documents an engine held at one moment, by hashes of their keys, with their fingerprints.
type Listing struct {
	entries []listed
	seen    []uint64 // a bit for each entry that a row was found for
}

type listed struct{ key, print uint64 }

// mostListed bounds the memory of a listing, to 64 MB.
const mostListed = 4_000_000

// List lists the documents of the edition, about as many as expected; nil when there are too many. each is called for
// some of them at a time.
func (e *Edition) List(ctx context.Context, expected int64, each func(n int)) (*Listing, error) {
	l := &Listing{entries: make([]listed, 0, min(expected+expected/64, mostListed))}
	told := 0
	err := e.engine.Scan(ctx, e.name, func(key, fingerprint string) error {
		if len(l.entries) == mostListed {
			return errTooMany
		}
		l.entries = append(l.entries, listed{xxhash.Sum64String(key), printOf(fingerprint)})
		if n := len(l.entries) - told; n == 1000 {
			each(n)
			told += n
		}
		return nil
	})
	if errors.Is(err, errTooMany) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	each(len(l.entries) - told)
	slices.SortFunc(l.entries, func(a, b listed) int { return cmp.Compare(a.key, b.key) })
	l.seen = make([]uint64, (len(l.entries)+63)/64)
	return l, nil
}

// What ends a listing early.
var (
	errTooMany = errors.New("too many documents")
	errEnough  = errors.New("enough documents")
)

// printOf is a fingerprint as a number; 0 for what is none.
func printOf(fingerprint string) uint64 {
	n, err := strconv.ParseUint(fingerprint, 16, 64)
	if err != nil {
		return 0
	}
	return n
}

// look finds a document, and notes that it has a row.
func (l *Listing) look(key string) (print uint64, there bool) {
	i, there := l.find(key)
	if !there {
		return 0, false
	}
	atomic.OrUint64(&l.seen[i/64], 1<<(i%64))
	return l.entries[i].print, true
}

func (l *Listing) find(key string) (int, bool) {
	return slices.BinarySearchFunc(
		l.entries,
		xxhash.Sum64String(key),
		func(x listed, key uint64) int { return cmp.Compare(x.key, key) },
	)
}

// Unseen lists documents of the edition, at most a number, for which no row was found. Rows that were written
// since may be theirs: Confirm rules that out.
func (e *Edition) Unseen(ctx context.Context, l *Listing, most int) (out []Different, err error) {
	left := 0
	for i := range l.entries {
		if l.seen[i/64]&(1<<(i%64)) == 0 {
			left++
		}
	}
	if left == 0 {
		return nil, nil
	}
	err = e.engine.Scan(ctx, e.name, func(key, _ string) error {
		if i, there := l.find(key); there && l.seen[i/64]&(1<<(i%64)) == 0 {
			out = append(out, Different{Key: key, Kind: drift.Orphaned})
		}
		if len(out) == min(most, left) {
			return errEnough
		}
		return nil
	})
	if errors.Is(err, errEnough) {
		err = nil
	}
	return out, err
}
