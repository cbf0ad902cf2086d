// Package compare compares what an edition holds with what its rows make now.
package compare

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"math"
	"slices"
	"sync"
	"time"

	"pingo/internal/core/definition"
	"pingo/internal/core/document"
	"pingo/internal/core/drift"
	"pingo/internal/core/shape"
	"pingo/internal/flow/connect"
	"pingo/internal/source"
)

// atOnce is how many documents are read together.
const atOnce = 500

// Edition is what is compared. Make one with New.
type Edition struct {
	name   string
	shape  *shape.Shape
	reader source.Reader
	engine *connect.Engine
	bare   func() []*shape.Tree
}

// New prepares the comparison of an edition of a shape.
func New(name string, s *shape.Shape, reader source.Reader, e *connect.Engine) *Edition {
	return &Edition{name, s, reader, e, sync.OnceValue(func() []*shape.Tree {
		out := make([]*shape.Tree, len(s.Trees))
		for i, t := range s.Trees {
			out[i] = t.RootOnly(t.Root().Where)
		}
		return out
	})}
}

// Options say how much is compared, and how fast.
type Options struct {
	// Rows are all, and Most are compared at most, spread over the keys; 0 compares all.
	Rows, Most int64
	// Content is the share of documents that are compared as a whole, not by their fingerprints alone.
	Content float64
	// Wait is called after a number of documents and bytes, with the time that the source needed, and delays the rest.
	Wait func(ctx context.Context, documents, bytes int, took time.Duration) error
}

// Result is what came of it.
type Result struct {
	// Compared are the documents that were.
	Compared int64
	// Different are documents that are not those that their rows make, or are missing: at most
	// mostDifferent; More are those beyond.
	Different []Different
	More      int64
}

// Different is a document that is not what its row makes.
type Different struct {
	Key  string
	Kind drift.Kind
	// Made is the fingerprint of what the row makes now; empty when it makes nothing.
	Made string
	// Ours: the document that the engine holds is whole as Pingo wrote it. Only Keys looks.
	Ours bool
}

// mostDifferent bounds the memory of a comparison of everything with nothing.
const mostDifferent = 1000

func (r *Result) add(list []Different) {
	room := min(len(list), mostDifferent-len(r.Different))
	r.Different = append(r.Different, list[:room]...)
	r.More += int64(len(list) - room)
}

// Spread calls each with ranges of a tree's keys: all of them, or those of about most rows out of rows,
// spread over the keys. 0 is all, too.
func Spread(
	ctx context.Context,
	reader source.Reader,
	t *shape.Tree,
	rows, most int64,
	each func(after, upto []string) error,
) error {
	together, skipped := int64(atOnce), int64(0) // rows of a range, and between two
	if most > 0 && most < rows {
		together = min(atOnce, max(10, most/8))
		skipped = together*rows/most - together
	}
	for after := []string(nil); ; {
		end, err := reader.ChunkEnd(ctx, t, after, int(together))
		if err != nil {
			return err
		}
		if err := each(after, end); err != nil {
			return err
		}
		if end != nil && skipped > 0 {
			if end, err = reader.ChunkEnd(ctx, t, end, int(skipped)); err != nil {
				return err
			}
		}
		if after = end; end == nil {
			return nil
		}
	}
}

// Rows compares the documents of rows with those that the edition holds. A pending change makes a
// difference, too: Confirm rules it out.
func (e *Edition) Rows(ctx context.Context, o Options) (*Result, error) {
	out := &Result{}
	for _, t := range e.shape.Trees {
		r := e.Range(t, &Share{Of: o.Content}, nil)
		err := Spread(ctx, e.reader, t, o.Rows, o.Most, func(after, upto []string) error {
			rows, bytes, err := r.Compare(ctx, after, upto)
			if err != nil {
				return err
			}
			out.Compared += int64(r.Compared)
			out.add(r.Different)
			if o.Wait == nil {
				return nil
			}
			return o.Wait(ctx, rows, bytes, r.Took)
		})
		if err != nil {
			return nil, err
		}
	}
	return out, nil
}

// Share says of one thing after the other whether it belongs to a share of them, evenly spread. Ranges that use one
// continue where the others are, so that a share of many small ranges is as large as one of a large range.
type Share struct {
	mu sync.Mutex // guards From, once Next is called
	Of float64
	// From is what there was before the first, so that others belong to it another time; it belongs when
	// that is 0.
	From float64
}

// Next reports whether the next one does.
func (s *Share) Next() bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	before := math.Ceil(s.From - 1e-9)
	s.From += s.Of
	return math.Ceil(s.From-1e-9) > before
}

// Range compares one range of a tree's rows after the other, with buffers that are used again.
type Range struct {
	edition *Edition
	tree    *shape.Tree
	whole   *Share
	listing *Listing // nil where fingerprints are asked for
	set     *document.Set
	arena   []byte

	// Compared are the documents of the last range, and Different those of them that are not what their
	// rows make.
	Compared  int
	Different []Different
	// Requests were sent to the engine, and Fetched documents read as a whole; the source needed the time Took.
	Requests, Fetched int
	Took              time.Duration
	each              func(key string) // called for each that was compared
}

// Range prepares to compare ranges of a tree. A share of the documents is compared as a whole, the others by
// their fingerprints: those of a listing, or as they are now when it is nil.
func (e *Edition) Range(t *shape.Tree, whole *Share, l *Listing) *Range {
	return &Range{edition: e, tree: t, whole: whole, listing: l, set: document.NewSet(t)}
}

// Compare compares the documents of the rows after one key up to and with another. It returns how many rows
// and bytes there were.
func (r *Range) Compare(ctx context.Context, after, upto []string) (rows, bytes int, err error) {
	r.Compared, r.Different, r.Requests, r.Fetched = 0, nil, 0, 0
	forget := func() { r.set, r.arena = document.NewSet(r.tree), nil }
	release, err := r.edition.engine.Bulk.Take(ctx, connect.BatchBytes, forget)
	if err != nil {
		return 0, 0, err
	}
	defer release()
	r.set.Reset()
	began := time.Now()
	err = r.edition.reader.ReadRange(ctx, r.set, after, upto)
	r.Took = time.Since(began)
	rows, bytes = r.set.Rows(0).Len(), r.set.Bytes()
	switch {
	case source.FaultOf(err) == source.BadValue:
		rows, err = r.byKeys(ctx, after, upto)
	case err == nil:
		err = r.documents(ctx)
	}
	return rows, bytes, err
}

// byKeys compares a range with rows in it that cannot be read, which are left out. It returns how many
// rows there are.
func (r *Range) byKeys(ctx context.Context, after, upto []string) (int, error) {
	var keys [][]string
	err := r.edition.reader.Keys(ctx, r.tree, after, upto, func(key []string) error {
		keys = append(keys, slices.Clone(key))
		return nil
	})
	if err != nil {
		return 0, err
	}
	for some := range slices.Chunk(keys, atOnce) {
		if err := r.readable(ctx, some); err != nil {
			return 0, err
		}
	}
	return len(keys), nil
}

// readable compares the documents of those rows that can be read.
func (r *Range) readable(ctx context.Context, keys [][]string) error {
	r.set.Reset()
	err := r.edition.reader.ReadKeys(ctx, r.set, keys)
	switch {
	case source.FaultOf(err) != source.BadValue:
		if err == nil {
			err = r.documents(ctx)
		}
		return err
	case len(keys) == 1:
		return nil // it is a failed document
	}
	half := len(keys) / 2
	if err := r.readable(ctx, keys[:half]); err != nil {
		return err
	}
	return r.readable(ctx, keys[half:])
}

// documents compares the documents of the rows that were read.
func (r *Range) documents(ctx context.Context) error {
	n := r.set.Rows(0).Len()
	for from := 0; from < n; from += atOnce {
		if err := r.some(ctx, from, min(n, from+atOnce)); err != nil {
			return err
		}
	}
	return nil
}

func (r *Range) some(ctx context.Context, from, to int) error {
	keys, ends := make([]string, to-from), make([]int, to-from)
	var whole, others []string
	r.arena = r.arena[:0]
	var key []byte
	for i := range keys {
		key = r.set.AppendKey(key[:0], from+i)
		keys[i] = string(key)
		r.arena = r.set.Append(r.arena, from+i)
		ends[i] = len(r.arena)
		if r.each != nil {
			r.each(keys[i])
		}
		if r.whole.Next() {
			whole = append(whole, keys[i])
		} else {
			others = append(others, keys[i])
		}
	}
	var stored map[string]json.RawMessage
	var prints map[string]string
	var err error
	if len(whole) > 0 {
		stored, err = r.edition.engine.Get(ctx, r.edition.name, whole)
		r.Requests, r.Fetched = r.Requests+1, r.Fetched+len(stored)
	}
	if err == nil && len(others) > 0 && r.listing == nil {
		prints, err = r.edition.engine.Fingerprints(ctx, r.edition.name, others)
		r.Requests++
	}
	if err != nil {
		return fmt.Errorf("reading documents of %s: %w", r.edition.name, err)
	}
	start := 0
	for i, key := range keys {
		made := r.arena[start:ends[i]]
		start = ends[i]
		d := Different{Key: key, Made: document.Fingerprint(made)}
		var print uint64
		var has bool
		if r.listing != nil {
			print, has = r.listing.look(key) // also of those that are compared as a whole
		}
		if len(others) > 0 && key == others[0] {
			others = others[1:]
			if r.listing == nil {
				var text string
				text, has = prints[key]
				print = printOf(text)
			}
			switch {
			case !has:
				d.Kind = drift.Missing
			case print != printOf(d.Made):
				d.Kind = drift.Stale
			}
		} else if err := r.judge(&d, made, stored[key]); err != nil {
			return err
		}
		if d.Kind != "" {
			r.Different = append(r.Different, d)
		}
	}
	r.Compared += len(keys)
	return nil
}

// judge says how a document differs from what the engine has.
func (r *Range) judge(d *Different, made, stored []byte) error {
	switch {
	case stored == nil:
		d.Kind = drift.Missing
		return nil
	case bytes.Equal(made, stored):
		return nil
	}
	diffs, err := document.Compare(made, stored)
	if err != nil {
		return fmt.Errorf("document %s of %s: %w", d.Key, r.edition.name, err)
	}
	if len(diffs) == 0 {
		return nil
	}
	d.Kind, d.Ours = drift.Altered, document.Written(r.tree, stored)
	for _, x := range diffs {
		if x.Path == definition.FingerprintField {
			d.Kind = drift.Stale
		}
	}
	return nil
}

// Keys compares some documents as a whole, also those without a row, and lists those that
// differ.
func (e *Edition) Keys(ctx context.Context, keys []string) ([]Different, error) {
	var different []Different
	for some := range slices.Chunk(keys, atOnce) {
		wanted := make([][][]string, len(e.shape.Trees))
		for _, key := range some {
			if tree, values, err := document.ParseKey(e.shape, key); err == nil { // else no row is meant
				wanted[tree] = append(wanted[tree], values)
			}
		}
		made := map[string]bool{}
		for i, t := range e.shape.Trees {
			if len(wanted[i]) == 0 {
				continue
			}
			r := e.Range(t, &Share{Of: 1}, nil)
			r.each = func(key string) { made[key] = true }
			if err := r.readable(ctx, wanted[i]); err != nil {
				return nil, err
			}
			different = append(different, r.Different...)
		}
		var gone []string
		for _, key := range some {
			if !made[key] {
				gone = append(gone, key)
			}
		}
		if len(gone) == 0 {
			continue
		}
		stored, err := e.engine.Get(ctx, e.name, gone)
		if err != nil {
			return nil, fmt.Errorf("reading documents of %s: %w", e.name, err)
		}
		for _, key := range gone {
			doc, there := stored[key]
			if !there {
				continue
			}
			d := Different{Key: key, Kind: drift.Orphaned}
			if tree, _, err := document.ParseKey(e.shape, key); err == nil {
				d.Ours = document.Written(e.shape.Trees[tree], doc)
			}
			different = append(different, d)
		}
	}
	return different, nil
}
