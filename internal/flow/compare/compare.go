// Package compare compares what an edition holds with what its rows make now.
package compare

import (
	"context"
	"fmt"
	"slices"
	"time"

	"github.com/tidwall/gjson"

	"pingo/internal/core/definition"
	"pingo/internal/core/document"
	"pingo/internal/core/shape"
	"pingo/internal/engine"
	"pingo/internal/source"
)

// atOnce is how many documents are read together.
const atOnce = 250

// Edition is what is compared.
type Edition struct {
	Name   string
	Shape  *shape.Shape
	Reader source.Reader
	Engine engine.Engine
}

// Options say how much is compared, and how fast.
type Options struct {
	// Rows are all, and Most are compared at most, spread over the keys; 0 compares all.
	Rows, Most int64
	// Wait is called after so many documents and bytes, and holds up the rest.
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

	each func(key string) // called for each that was compared
}

// Different is a document that is not what its row makes.
type Different struct {
	Key string
	// Made is the fingerprint of what the row makes now; empty when it makes nothing.
	Made string
}

// mostDifferent bounds the memory of a comparison of everything with nothing.
const mostDifferent = 1000

func (r *Result) add(list []Different) {
	room := min(len(list), mostDifferent-len(r.Different))
	r.Different = append(r.Different, list[:room]...)
	r.More += int64(len(list) - room)
}

// Spread calls each with ranges of a tree's keys: all of them, or those of about most rows out of so many,
// spread over the keys. 0 is all, too.
func Spread(
	ctx context.Context,
	reader source.Reader,
	t *shape.Tree,
	rows, most int64,
	each func(after, upto []string) error,
) error {
	skipped := 0 // rows between two ranges
	if most > 0 && most < rows {
		skipped = int(atOnce*rows/most) - atOnce
	}
	for after := []string(nil); ; {
		end, err := reader.ChunkEnd(ctx, t, after, atOnce)
		if err != nil {
			return err
		}
		if err := each(after, end); err != nil {
			return err
		}
		if end != nil && skipped > 0 {
			if end, err = reader.ChunkEnd(ctx, t, end, skipped); err != nil {
				return err
			}
		}
		if after = end; end == nil {
			return nil
		}
	}
}

// Rows compares the documents of rows with those that the edition holds. A change on its way makes a
// difference, too: who wants to know waits, and looks at these keys again.
func (e *Edition) Rows(ctx context.Context, o Options) (*Result, error) {
	out := &Result{}
	for _, t := range e.Shape.Trees {
		set := document.NewSet(t)
		err := Spread(ctx, e.Reader, t, o.Rows, o.Most, func(after, upto []string) error {
			began := time.Now()
			set.Reset()
			err := e.Reader.ReadRange(ctx, set, after, upto)
			rows, bytes := set.Rows(0).Len(), set.Rows(0).Bytes()
			if source.FaultOf(err) == source.BadValue {
				rows, err = e.byKeys(ctx, t, set, after, upto, out)
			} else if err == nil {
				err = e.documents(ctx, set, out)
			}
			if err != nil || o.Wait == nil {
				return err
			}
			return o.Wait(ctx, rows, bytes, time.Since(began))
		})
		if err != nil {
			return nil, err
		}
	}
	return out, nil
}

// byKeys compares a range with rows in it that cannot be read, which are left out. It returns how many
// rows there are.
func (e *Edition) byKeys(
	ctx context.Context,
	t *shape.Tree,
	set *document.Set,
	after, upto []string,
	out *Result,
) (int, error) {
	var keys [][]string
	err := e.Reader.Keys(ctx, t, after, upto, func(key []string) error {
		keys = append(keys, slices.Clone(key))
		return nil
	})
	if err != nil {
		return 0, err
	}
	return len(keys), e.readable(ctx, set, keys, out)
}

// readable compares the documents of those rows that can be read.
func (e *Edition) readable(ctx context.Context, set *document.Set, keys [][]string, out *Result) error {
	set.Reset()
	err := e.Reader.ReadKeys(ctx, set, keys)
	switch {
	case source.FaultOf(err) != source.BadValue:
		if err == nil {
			err = e.documents(ctx, set, out)
		}
		return err
	case len(keys) == 1:
		return nil // it is a failed document
	}
	half := len(keys) / 2
	if err := e.readable(ctx, set, keys[:half], out); err != nil {
		return err
	}
	return e.readable(ctx, set, keys[half:], out)
}

// documents compares the documents of a set.
func (e *Edition) documents(ctx context.Context, set *document.Set, out *Result) error {
	keys := make([]string, set.Rows(0).Len())
	if len(keys) == 0 {
		return nil
	}
	fingerprints := make([]string, len(keys))
	var buffer []byte
	for row := range keys {
		keys[row] = string(set.AppendKey(buffer[:0], row))
		buffer = set.Append(buffer[:0], row)
		fingerprints[row] = document.Fingerprint(buffer)
		if out.each != nil {
			out.each(keys[row])
		}
	}
	stored, err := e.Engine.Get(ctx, e.Name, keys)
	if err != nil {
		return fmt.Errorf("reading documents of %s: %w", e.Name, err)
	}
	var different []Different
	for row, key := range keys {
		if gjson.GetBytes(stored[key], definition.FingerprintField).String() != fingerprints[row] {
			different = append(different, Different{key, fingerprints[row]})
		}
	}
	out.Compared += int64(len(keys))
	out.add(different)
	return nil
}

// Keys compares some documents, also such that no row makes any more, and lists those that differ.
func (e *Edition) Keys(ctx context.Context, keys []string) ([]Different, error) {
	var different []Different
	for len(keys) > 0 {
		some := keys[:min(atOnce, len(keys))]
		keys = keys[len(some):]
		wanted := make([][][]string, len(e.Shape.Trees))
		for _, key := range some {
			tree, values, err := document.ParseKey(e.Shape, key)
			if err != nil {
				return nil, err
			}
			wanted[tree] = append(wanted[tree], values)
		}
		made := map[string]bool{}
		out := &Result{}
		for i, t := range e.Shape.Trees {
			if len(wanted[i]) == 0 {
				continue
			}
			set := document.NewSet(t)
			out.each = func(key string) { made[key] = true }
			if err := e.readable(ctx, set, wanted[i], out); err != nil {
				return nil, err
			}
		}
		different = append(different, out.Different...)
		var gone []string
		for _, key := range some {
			if !made[key] {
				gone = append(gone, key)
			}
		}
		if len(gone) == 0 {
			continue
		}
		stored, err := e.Engine.Get(ctx, e.Name, gone)
		if err != nil {
			return nil, fmt.Errorf("reading documents of %s: %w", e.Name, err)
		}
		for _, key := range gone {
			if _, there := stored[key]; there {
				different = append(different, Different{Key: key})
			}
		}
	}
	return different, nil
}
