package compare

import (
	"context"
	"pingo/internal/core/document"
	"pingo/internal/core/drift"
	"pingo/internal/core/shape"
	"pingo/internal/source"
	"slices"
)

// Rowless lists those of some documents that no row makes.
func (e *Edition) Rowless(ctx context.Context, keys []string) (out []Different, err error) {
	has := map[string]bool{}
	wanted := make([][][]string, len(e.shape.Trees))
	for _, key := range keys {
		if tree, values, err := document.ParseKey(e.shape, key); err == nil {
			wanted[tree] = append(wanted[tree], values)
		}
	}
	for i, t := range e.bare() {
		for some := range slices.Chunk(wanted[i], 4*atOnce) {
			set := document.NewSet(t)
			err := e.reader.ReadKeys(ctx, set, some)
			if source.FaultOf(err) == source.BadValue { // a key that cannot be one of the table
				set, err = nil, e.eachKey(ctx, t, some, has)
			}
			if err != nil {
				return nil, err
			}
			if set != nil {
				noteKeys(set, has)
			}
		}
	}
	for _, key := range keys {
		if !has[key] {
			out = append(out, Different{Key: key, Kind: drift.Orphaned})
		}
	}
	return out, nil
}

func noteKeys(set *document.Set, has map[string]bool) {
	for row := range set.Rows(0).Len() {
		has[string(set.AppendKey(nil, row))] = true
	}
}

// eachKey looks for rows one by one, and takes keys that the source cannot read for such of no row.
func (e *Edition) eachKey(ctx context.Context, t *shape.Tree, keys [][]string, has map[string]bool) error {
	set := document.NewSet(t)
	for _, key := range keys {
		set.Reset()
		err := e.reader.ReadKeys(ctx, set, [][]string{key})
		if err != nil && source.FaultOf(err) != source.BadValue {
			return err
		}
		if err == nil {
			noteKeys(set, has)
		}
	}
	return nil
}
