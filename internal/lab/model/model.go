// Package model holds small models of a source, an engine and the records, in memory and
// without a clock of their own, so that the flow can be tested in virtual time.
package model

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"sync"
	"sync/atomic"
	"time"

	"pingo/internal/core/document"
	"pingo/internal/core/query"
	"pingo/internal/core/shape"
	"pingo/internal/engine"
	"pingo/internal/records"
	"pingo/internal/source"
)

// Shape is what the documents of Table look like.
func Shape() *shape.Shape {
	return &shape.Shape{
		Index:  "huts",
		Source: "lodge",
		Trees: []*shape.Tree{
			{
				Index: "huts",
				Nodes: []*shape.Node{{ID: 0, Parent: -1, Table: shape.Ref{Name: "huts"}, Key: []string{"id"},
					Columns: []shape.Column{
						{Name: "id"},
						{Name: "n"},
					}, Fields: []shape.Field{{Name: "n", At: 1, Type: shape.Integer}}}},
			},
		},
	}
}

// Table is a reader of one table. What a read yields for a row is the moment of the read,
// so that an older read can be told from a newer one.
type Table struct {
	source.Reader // nil: what is not below is not asked for

	mu   sync.Mutex // guards rows
	rows map[string]bool

	clock atomic.Int64
	// Slow is how long a range is in flight after it was read.
	Slow time.Duration
	// Value is what a read yields instead of its moment; Fail makes a read fail.
	Value func(key string) string
	Fail  func(keys []string) error
}

// NewTable has a number of rows, from k00000.
func NewTable(rows int) *Table {
	t := &Table{rows: map[string]bool{}}
	for i := range rows {
		t.rows[Key(i)] = true
	}
	return t
}

// Key is the key of a row by its number.
func Key(i int) string { return fmt.Sprintf("k%05d", i) }

// Set says whether there is a row.
func (t *Table) Set(key string, there bool) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.rows[key] = there
}

// Rows lists the keys of all rows.
func (t *Table) Rows() []string { return t.between(nil, nil) }

func (t *Table) read(set *document.Set, keys []string) error {
	if t.Fail != nil {
		if err := t.Fail(keys); err != nil {
			return err
		}
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	now := strconv.FormatInt(t.clock.Add(1), 10)
	for _, k := range keys {
		if t.rows[k] {
			value := now
			if t.Value != nil {
				value = t.Value(k)
			}
			set.Rows(0).Add([][]byte{[]byte(k), []byte(value)}, nil)
		}
	}
	return nil
}

// ReadKeys reads rows by their keys.
func (t *Table) ReadKeys(_ context.Context, set *document.Set, keys [][]string) error {
	var flat []string
	for _, k := range keys {
		if !slices.Contains(flat, k[0]) { // a row is read once, however often it is asked for
			flat = append(flat, k[0])
		}
	}
	return t.read(set, flat)
}

func (t *Table) between(after, upto []string) []string {
	t.mu.Lock()
	defer t.mu.Unlock()
	var out []string
	for k, there := range t.rows {
		if there && (after == nil || k > after[0]) && (upto == nil || k <= upto[0]) {
			out = append(out, k)
		}
	}
	slices.Sort(out)
	return out
}

// ReadRange reads rows between two keys.
func (t *Table) ReadRange(_ context.Context, set *document.Set, after, upto []string) error {
	err := t.read(set, t.between(after, upto))
	time.Sleep(t.Slow)
	return err
}

// ChunkEnd finds the key a number of rows further.
func (t *Table) ChunkEnd(_ context.Context, _ *shape.Tree, after []string, rows int) ([]string, error) {
	if left := t.between(after, nil); len(left) >= rows {
		return []string{left[rows-1]}, nil
	}
	return nil, nil
}

// Keys lists the keys of rows.
func (t *Table) Keys(_ context.Context, _ *shape.Tree, after, upto []string, each func([]string) error) error {
	for _, k := range t.between(after, upto) {
		if err := each([]string{k}); err != nil {
			return err
		}
	}
	return nil
}

// Count counts all rows.
func (t *Table) Count(context.Context, *shape.Tree) (int64, error) { return int64(len(t.Rows())), nil }

// Engine is an engine without versions: what comes last stays, so that it shows whether
// the flow alone keeps the order.
type Engine struct {
	// Latency is how long a request takes; Answer, when it gives something, is what it
	// answers instead of doing what it was asked.
	Latency func() time.Duration
	Answer  func(docs []engine.Document) ([]engine.Result, error)

	mu     sync.Mutex // guards what follows
	stored map[string]int64
	busy   map[string]bool // keys of requests under way
	wrong  []string
	name   string
}

// NewEngine holds nothing.
func NewEngine() *Engine { return &Engine{stored: map[string]int64{}, busy: map[string]bool{}} }

// Copy is always the same.
func (m *Engine) Copy(context.Context, string) (string, error) { return "one", nil }

// Stored is what it holds: for each key the moment of the read that it was made from.
func (m *Engine) Stored() map[string]int64 {
	m.mu.Lock()
	defer m.mu.Unlock()
	return maps.Clone(m.stored)
}

// Wrong lists what should never have happened.
func (m *Engine) Wrong() []string {
	m.mu.Lock()
	defer m.mu.Unlock()
	return slices.Clone(m.wrong)
}

// Switched is the edition that the name was switched to.
func (m *Engine) Switched() string {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.name
}

// Deliver takes documents.
func (m *Engine) Deliver(_ context.Context, _ string, docs []engine.Document) ([]engine.Result, error) {
	m.begin(docs)
	if m.Latency != nil {
		time.Sleep(m.Latency())
	}
	defer m.end(docs)
	if m.Answer != nil {
		if results, err := m.Answer(docs); results != nil || err != nil {
			return results, err
		}
	}
	m.Put(docs...)
	return make([]engine.Result, len(docs)), nil
}

func (m *Engine) begin(docs []engine.Document) {
	m.mu.Lock()
	defer m.mu.Unlock()
	for _, d := range docs {
		if m.busy[d.Key] {
			m.wrong = append(m.wrong, d.Key+" is in two requests at the same time")
		}
		m.busy[d.Key] = true
	}
}

func (m *Engine) end(docs []engine.Document) {
	m.mu.Lock()
	defer m.mu.Unlock()
	for _, d := range docs {
		delete(m.busy, d.Key)
	}
}

// Put keeps documents.
func (m *Engine) Put(docs ...engine.Document) {
	m.mu.Lock()
	defer m.mu.Unlock()
	for _, d := range docs {
		if d.Body == nil {
			delete(m.stored, d.Key)
			continue
		}
		var body struct{ N int64 }
		if err := json.Unmarshal(d.Body, &body); err != nil {
			m.wrong = append(m.wrong, err.Error())
		}
		if body.N < m.stored[d.Key] {
			m.wrong = append(
				m.wrong,
				fmt.Sprintf("%s stepped back from read %d to %d", d.Key, m.stored[d.Key], body.N),
			)
		}
		m.stored[d.Key] = body.N
	}
}

// Describe says what it is.
func (m *Engine) Describe(context.Context) (string, error) { return "a model", nil }

// Prepare and the others do nothing that a test would see.
func (m *Engine) Prepare(context.Context, string, *shape.Shape) error { return nil }

// FinishFill does nothing.
func (m *Engine) FinishFill(context.Context, string, *shape.Shape) error { return nil }

// Drop forgets everything.
func (m *Engine) Drop(context.Context, string) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	clear(m.stored)
	return nil
}

// Count is not to be had.
func (m *Engine) Count(context.Context, string) (int64, error) { return int64(len(m.Stored())), nil }

// Get is not to be had.
func (m *Engine) Get(context.Context, string, []string) (map[string]json.RawMessage, error) {
	return nil, errors.New("not to be had")
}

// Fingerprints are not to be had.
func (m *Engine) Fingerprints(context.Context, string, []string) (map[string]string, error) {
	return nil, errors.New("not to be had")
}

// Scan lists what it holds.
func (m *Engine) Scan(_ context.Context, _ string, each func(key, fingerprint string) error) error {
	for _, key := range slices.Sorted(maps.Keys(m.Stored())) {
		if err := each(key, ""); err != nil {
			return err
		}
	}
	return nil
}

// Refresh has nothing to do.
func (m *Engine) Refresh(context.Context, string) error { return nil }

// Editions is the one that there is.
func (m *Engine) Editions(context.Context) ([]string, error) { return nil, nil }

// Search finds nothing.
func (m *Engine) Search(context.Context, string, *shape.Shape, query.Query) (engine.Hits, error) {
	return engine.Hits{}, nil
}

// Switch keeps the edition's name.
func (m *Engine) Switch(_ context.Context, _, edition string) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.name = edition
	return nil
}

// Resolve says where the name points.
func (m *Engine) Resolve(context.Context, string) ([]string, error) {
	if name := m.Switched(); name != "" {
		return []string{name}, nil
	}
	return nil, nil
}

// Close does nothing.
func (m *Engine) Close() {}

// Fence is a lease that is never lost, until it is.
type Fence struct {
	version atomic.Int64
	Lost    atomic.Bool
}

// NextVersion counts.
func (f *Fence) NextVersion() int64 { return f.version.Add(1) }

// Given is the last one.
func (f *Fence) Given() int64 { return f.version.Load() }

// Pass goes on above a version, unless that is far away.
func (f *Fence) Pass(version int64) bool {
	if version > f.version.Load()+1000 {
		return false
	}
	f.version.Store(max(f.version.Load(), version))
	return true
}

// Holds reports whether it is not lost.
func (f *Fence) Holds() bool { return !f.Lost.Load() }

// Claimed is closed: the source is claimed.
func Claimed() <-chan struct{} {
	c := make(chan struct{})
	close(c)
	return c
}

// Confirm is what the records say of it.
func (f *Fence) Confirm(context.Context) error {
	if f.Lost.Load() {
		return records.ErrLost
	}
	return nil
}
