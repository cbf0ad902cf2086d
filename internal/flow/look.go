package flow

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"sort"

	"pingo/internal/core/definition"
	"pingo/internal/core/document"
	"pingo/internal/engine/wire"
	"pingo/internal/source"
)

func (s *Service) unknownIndex(index string) error {
	s.mu.RLock()
	defer s.mu.RUnlock()
	var known []string
	for _, e := range s.editions {
		known = append(known, e.record.Index)
	}
	sort.Strings(known)
	if len(known) == 0 {
		return fmt.Errorf("index %q is %w: no definition was applied yet", index, ErrUnknown)
	}
	return fmt.Errorf("index %q is %w: %s", index, ErrUnknown, definition.Nearest(index, known))
}

// Preview is a document as it would be built now, beside the one in the engine.
type Preview struct {
	Index   string `json:"index"`
	Key     string `json:"key"`
	Edition string `json:"edition"`
	// Built is null when the source has no such row, or where keeps it out.
	Built json.RawMessage `json:"built"`
	// Stored is null when the engine has no such document.
	Stored json.RawMessage `json:"stored"`
	// Same: built and stored have one fingerprint, or neither is there.
	Same bool `json:"same"`
	// Words say what this comes to.
	Words string `json:"words"`
}

// Preview builds the document of a key and fetches the one in the engine.
func (s *Service) Preview(ctx context.Context, index, key string) (*Preview, error) {
	e := s.newest(index)
	if e == nil {
		return nil, s.unknownIndex(index)
	}
	parts, err := document.ParseKey(key, len(e.shape.Root().Key))
	if err != nil {
		return nil, &BadKey{err}
	}
	p := &Preview{Index: index, Key: key, Edition: e.record.Name(), Built: json.RawMessage("null"), Stored: json.RawMessage("null")}
	set := document.NewSet(e.shape)
	if err := e.source.ReadKeys(ctx, set, [][]string{parts}); err != nil {
		if source.DataFault(err) {
			return nil, &BadKey{fmt.Errorf("no document can be built for key %q: %w", key, err)}
		}
		return nil, err
	}
	if set.Rows(0).Len() > 0 {
		p.Built = set.Append(nil, 0)
	}
	stored, err := e.engine.Get(ctx, e.record.Name(), []string{key})
	if err != nil {
		return nil, err
	}
	if d, ok := stored[key]; ok {
		p.Stored = d
	}
	built, has := set.Rows(0).Len() > 0, stored[key] != nil
	p.Same = built == has && (!built || document.Fingerprint(p.Built) == document.Fingerprint(p.Stored))
	switch {
	case !built && !has:
		p.Words = "There is no such row that belongs in the index, and no document: both agree."
	case !built:
		p.Words = "The row is gone or kept out by where, but the engine still has its document; if no change is on its way, it is orphaned."
	case !has:
		p.Words = "The row belongs in the index, but the engine has no document of it; if no change is on its way, it is missing."
	case p.Same:
		p.Words = "The document in the engine is what the row makes now."
	default:
		p.Words = "The document in the engine differs from what the row makes now; if no change is on its way, it is stale."
	}
	return p, nil
}

// BadKey says that a key cannot be one of the index.
type BadKey struct{ err error }

func (b *BadKey) Error() string { return b.err.Error() }
func (b *BadKey) Unwrap() error { return b.err }

// Search looks for words in an index by its public name.
func (s *Service) Search(ctx context.Context, index, text string, limit int) (wire.Hits, error) {
	e := s.newest(index)
	if e == nil {
		return wire.Hits{}, s.unknownIndex(index)
	}
	if !e.live() {
		return wire.Hits{}, fmt.Errorf("index %s: %w", index, ErrNotYet)
	}
	e.mu.Lock()
	searched := e.searched
	e.mu.Unlock()
	q := wire.Query{Text: text, Limit: limit}
	for _, f := range searched {
		q.Fields = append(q.Fields, wire.Weighted{Path: f.Path, Weight: f.Weight})
	}
	return e.engine.Search(ctx, index, q)
}

// ErrNotYet says that no edition answers yet.
var ErrNotYet = errors.New("its first edition is still being filled; pingo status shows how far it is")
