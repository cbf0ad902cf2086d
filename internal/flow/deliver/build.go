package deliver

import (
	"context"
	"errors"
	"time"

	"pingo/internal/core/change"
	"pingo/internal/core/document"
	"pingo/internal/core/retry"
	"pingo/internal/core/shape"
	"pingo/internal/engine"
	"pingo/internal/source"
)

// outcome is the outcome of a key that was built.
type outcome int

const (
	sent outcome = iota + 1
	deleted
	unchanged
	refused
)

func (o outcome) String() string {
	return [...]string{"", "sent", "deleted", "unchanged", "refused"}[o]
}

// count counts an outcome, and the bytes of its document, for the changes that waited.
func (o outcome) count(tickets []*change.Ticket, bytes int) {
	for _, t := range tickets {
		if t.Tally == nil {
			continue
		}
		t.Tally.Bytes.Add(int64(bytes))
		switch o {
		case sent:
			t.Tally.Sent.Add(1)
		case deleted:
			t.Tally.Deleted.Add(1)
		case unchanged:
			t.Tally.Unchanged.Add(1)
		case refused:
			t.Tally.Refused.Add(1)
		}
	}
}

// build reads, assembles and delivers the documents of some keys, and settles the
// changes that wait for them. It tries until it is done or the context ends; then the
// entries stay in current. The caller holds sending.
func (l *lane) build(ctx context.Context, entries []change.Entry, w *workspace) {
	e := l.edition
	var version int64
	var read time.Time
	var bad error
	err := e.Until(ctx, func() error {
		// The version is taken before the snapshot: the build with the higher one has
		// also read later.
		version, read, bad = e.fence.NextVersion(), time.Now(), nil
		err := w.read(ctx, e.reader, e.Record.Shape, entries)
		if source.FaultOf(err) == source.BadValue {
			bad = err
			return nil
		}
		return err
	})
	switch {
	case err != nil:
		return
	case bad != nil && len(entries) > 1:
		half := len(entries) / 2
		l.build(ctx, entries[:half], w)
		l.build(ctx, entries[half:], w)
		return
	case bad != nil:
		kind := "source"
		if errors.Is(bad, source.ErrTooLarge) {
			kind = "size"
		}
		if l.refuse(ctx, entries[0].Key, nil, kind, bad.Error()) {
			l.settle(entries, map[string]outcome{entries[0].Key: refused}, nil, read)
		}
		return
	}
	w.docs, w.arena = w.docs[:0], w.arena[:0]
	for _, set := range w.sets {
		w.arena = assemble(set, version, w.arena, func(d engine.Document) { w.docs = append(w.docs, d) })
	}
	became, bytes := make(map[string]outcome, len(entries)), make(map[string]int, len(entries))
	for i := range w.docs {
		became[w.docs[i].Key], bytes[w.docs[i].Key] = sent, len(w.docs[i].Body)
	}
	for i := range entries { // others may add tickets meanwhile: see joinWaiting
		if key := entries[i].Key; became[key] == 0 {
			became[key] = deleted
			w.docs = append(w.docs, engine.Document{Key: key, Version: version})
		}
	}
	e.Stats.Built.Add(len(w.docs))
	l.mu.Lock()
	l.sizer.Saw(len(entries), len(w.arena))
	l.mu.Unlock()
	if l.deliver(ctx, l.withoutUnchanged(w.docs, became)) {
		l.settle(entries, became, bytes, read)
	}
}

// withoutUnchanged leaves out the documents that the engine has exactly like this.
func (l *lane) withoutUnchanged(docs []engine.Document, became map[string]outcome) []engine.Document {
	kept, now := docs[:0], time.Now()
	for _, d := range docs {
		if l.seen.Has(d.Key, d.Body, now) && !l.edition.failures.has(d.Key) {
			became[d.Key] = unchanged
			continue
		}
		kept = append(kept, d)
	}
	l.edition.Stats.Unchanged.Add(len(docs) - len(kept))
	return kept
}

// settle is the only function that ends keys that were built, with any outcome: they are
// touched, so that no chunk that was read before steps back over them, and the changes
// that waited for them are notified and closed. They were read after some time.
func (l *lane) settle(entries []change.Entry, became map[string]outcome, bytes map[string]int, read time.Time) {
	e := l.edition
	e.touched.add(entries)
	open, now, behind := make([][]*change.Ticket, len(entries)), time.Now(), e.slot.behind(time.Now())
	l.mu.Lock()
	for i := range entries {
		o := became[entries[i].Key]
		if e.failures.has(entries[i].Key) {
			o = refused
		}
		o.count(entries[i].Tickets, bytes[entries[i].Key])
		e.Stats.Latest.add(entries[i], o, bytes[entries[i].Key], now)
		open[i] = entries[i].Tickets
		if behind {
			l.read.note(entries[i].Key, read)
		}
		entries[i] = change.Entry{}
	}
	l.mu.Unlock()
	for _, tickets := range open {
		for _, t := range tickets {
			if !t.At.IsZero() {
				e.Stats.Lag.Add(now.Sub(t.At))
			}
			t.Close()
		}
	}
}

// deliverChunk delivers a lane's share of a chunk.
func (l *lane) deliverChunk(
	ctx context.Context,
	tree int,
	docs []engine.Document,
	mark int64,
) (dropped int, ok bool) {
	l.sending.lock()
	defer l.sending.unlock()
	kept, dropped := l.edition.touched.drop(tree, docs, mark)
	l.edition.Stats.Built.Add(len(kept))
	return dropped, l.deliver(ctx, kept)
}

// read reads the rows of entries' documents, tree by tree. Keys that do not belong to the
// shape have no rows.
func (w *workspace) read(
	ctx context.Context,
	reader source.Reader,
	s *shape.Shape,
	entries []change.Entry,
) error {
	keys := make([][][]string, len(w.sets))
	for i := range entries {
		if tree, values, err := document.ParseKey(s, entries[i].Key); err == nil {
			keys[tree] = append(keys[tree], values)
		}
	}
	for i, set := range w.sets {
		set.Reset()
		if len(keys[i]) == 0 {
			continue
		}
		if err := reader.ReadKeys(ctx, set, keys[i]); err != nil {
			return err
		}
	}
	return nil
}

// assemble appends the documents of all root rows of a set to an arena, and gives each
// to a function. They are valid as long as the arena is.
func assemble(set *document.Set, version int64, arena []byte, each func(d engine.Document)) []byte {
	type span struct{ key, start, end int }
	spans := make([]span, set.Rows(0).Len())
	for row := range spans {
		key := len(arena)
		arena = set.AppendKey(arena, row)
		start := len(arena)
		arena = set.Append(arena, row)
		spans[row] = span{key, start, len(arena)}
	}
	for _, s := range spans {
		each(
			engine.Document{
				Key:     string(arena[s.key:s.start]),
				Version: version,
				Body:    arena[s.start:s.end:s.end],
			},
		)
	}
	return arena
}

// fits says how many documents fit into the next request.
func fits(docs []engine.Document, batch *retry.Batch) int {
	most, mostBytes := batch.Limits()
	bytes := 0
	for i := range docs {
		bytes += len(docs[i].Body)
		if i > 0 && (i >= most || bytes > mostBytes) {
			return i
		}
	}
	return len(docs)
}
