// Package connect holds the opened sources and engines of the definition in force.
package connect

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"pingo/internal/core/definition"
	"pingo/internal/engine"
	"pingo/internal/source"
)

// Kinds opens sources and engines by their kinds.
type Kinds interface {
	Language() definition.Kinds
	OpenSource(kind string, c source.Config) (*source.Source, error)
	OpenEngine(kind string, c engine.Config) (engine.Engine, error)
	// Source and Engine are nil when there is no such kind.
	Source(kind string) *source.Kind
	Engine(kind string) *engine.Kind
	// Recognize asks an engine for its kind.
	Recognize(ctx context.Context, c engine.Config) (string, error)
}

// Timeout bounds how long a source or engine may take to answer at all.
const Timeout = 5 * time.Second

// Engine is an opened engine, and the limiter before it.
type Engine struct {
	engine.Engine
	Name    string
	Limiter *Limiter
	Names   Names
	// Bulk is memory for what fills and checks read, and Lanes for what changes need.
	Bulk, Lanes *Portion
}

// newEngine is an opened engine with its part of a budget.
func newEngine(name string, opened engine.Engine, b *Budget) *Engine {
	e := &Engine{Engine: opened, Name: name, Limiter: NewLimiter()}
	if b != nil {
		e.Bulk, e.Lanes = portionOf(b.bulk), portionOf(b.lanes)
	}
	return e
}

// Connections are the sources and engines of the definition in force. An engine that is
// no longer in it stays open: an edition of before may be in it.
type Connections struct {
	Kinds Kinds
	// Secrets are what definitions may refer to.
	Secrets Secrets
	// Records is the URL of Pingo's own database, where the intake is.
	Records string
	// Disconnected lists the sources that a person disconnected, with the end of each pause.
	Disconnected Disconnected
	budget       *Budget

	mu         sync.RWMutex // guards what follows
	definition *definition.Definition
	sources    map[string]*source.Source
	engines    map[string]*Engine
	// revealed tells what the secrets of sources and engines were when these were opened, by their names.
	revealed map[string]string
}

// New has nothing opened yet. records is the URL of Pingo's own database; a nil budget is no bound.
func New(kinds Kinds, records string, secrets Secrets, budget *Budget) *Connections {
	return &Connections{
		Kinds:      kinds,
		Records:    records,
		Secrets:    secrets,
		budget:     budget,
		definition: &definition.Definition{},
		sources:    map[string]*source.Source{},
		engines:    map[string]*Engine{},
		revealed:   map[string]string{},
	}
}

// Parse reads a definition with the kinds and secrets that there are.
func (c *Connections) Parse(files []definition.File) (*definition.Definition, definition.Findings) {
	return definition.Parse(files, c.Kinds.Language(), c.Secrets.Lookup)
}

// Definition is the one in force; empty before the first.
func (c *Connections) Definition() *definition.Definition {
	c.mu.RLock()
	defer c.mu.RUnlock()
	return c.definition
}

// Source is an opened source, nil when there is none of that name.
func (c *Connections) Source(name string) *source.Source {
	c.mu.RLock()
	defer c.mu.RUnlock()
	return c.sources[name]
}

// Engine is an opened engine, nil when there is none of that name.
func (c *Connections) Engine(name string) *Engine {
	c.mu.RLock()
	defer c.mu.RUnlock()
	return c.engines[name]
}

// Engines lists the engines that are open, by name.
func (c *Connections) Engines() []*Engine {
	c.mu.RLock()
	defer c.mu.RUnlock()
	out := make([]*Engine, 0, len(c.engines))
	for _, e := range c.engines {
		out = append(out, e)
	}
	slices.SortFunc(out, func(a, b *Engine) int { return strings.Compare(a.Name, b.Name) })
	return out
}

// Change is a definition that is about to be in force, with what it needs opened.
type Change struct {
	definition *definition.Definition
	sources    map[string]*source.Source
	engines    map[string]*Engine
	revealed   map[string]string
	// Replaced are the sources whose work must end before the change is made: they, or
	// an engine, are somewhere else now.
	Replaced []string
}

// Prepare opens what a definition needs and is not open. Nothing changes until Use.
func (c *Connections) Prepare(def *definition.Definition) (*Change, error) {
	c.mu.RLock()
	defer c.mu.RUnlock()
	ch := &Change{definition: def, sources: map[string]*source.Source{}, engines: map[string]*Engine{}, revealed: map[string]string{}}
	for _, src := range def.Sources {
		is, was := c.Secrets.hash(&src.URL, &src.Options), c.revealed["source "+src.Name]
		if old := c.definition.Source(src.Name); old != nil && old.URL.Written == src.URL.Written &&
			old.Kind == src.Kind && old.Capture == src.Capture &&
			old.Options.Same(&src.Options) && !changed(was, is) {
			ch.sources[src.Name], ch.revealed["source "+src.Name] = c.sources[src.Name], was
			continue
		}
		ch.revealed["source "+src.Name] = is
		opened, err := c.openSource(src, 0)
		if err != nil {
			return nil, err
		}
		ch.sources[src.Name] = opened
		if c.sources[src.Name] != nil {
			ch.Replaced = append(ch.Replaced, src.Name)
		}
	}
	moved := false
	for _, eng := range def.Engines {
		is, was := c.Secrets.hash(&eng.URL, &eng.Options), c.revealed["engine "+eng.Name]
		if old := c.definition.Engine(eng.Name); old != nil && old.URL.Written == eng.URL.Written &&
			old.Kind == eng.Kind &&
			old.Options.Same(&eng.Options) && !changed(was, is) {
			ch.engines[eng.Name], ch.revealed["engine "+eng.Name] = c.engines[eng.Name], was
			continue
		}
		ch.revealed["engine "+eng.Name] = is
		opened, err := c.OpenEngine(eng)
		if err != nil {
			return nil, err
		}
		ch.engines[eng.Name] = newEngine(eng.Name, opened, c.budget)
		moved = moved || c.engines[eng.Name] != nil
	}
	if moved { // which sources feed it is not known here
		for name := range c.sources {
			ch.Replaced = append(ch.Replaced, name)
		}
	}
	return ch, nil
}

// Use puts a definition in force, and closes what it replaces. A source that is no longer
// in it stays open until CloseSource, since work on it may go on.
func (c *Connections) Use(ch *Change) {
	c.mu.Lock()
	var closed []interface{ Close() }
	for name, src := range c.sources {
		switch {
		case ch.sources[name] == nil:
			ch.sources[name] = src
		case ch.sources[name] != src:
			closed = append(closed, src)
		}
	}
	for name, eng := range c.engines {
		switch {
		case ch.engines[name] == nil:
			ch.engines[name] = eng
		case ch.engines[name] != eng:
			closed = append(closed, eng)
		}
	}
	c.definition, c.sources, c.engines, c.revealed = ch.definition, ch.sources, ch.engines, ch.revealed
	c.mu.Unlock()
	for _, x := range closed {
		x.Close()
	}
}

// SecretsChanged reports whether a secret of the definition in force has another value than when its source or engine was
// opened. A secret that cannot be read now has not changed.
func (c *Connections) SecretsChanged() bool {
	c.mu.RLock()
	defer c.mu.RUnlock()
	return slices.ContainsFunc(c.definition.Sources, func(s *definition.Source) bool {
		return changed(c.revealed["source "+s.Name], c.Secrets.hash(&s.URL, &s.Options))
	}) || slices.ContainsFunc(c.definition.Engines, func(e *definition.Engine) bool {
		return changed(c.revealed["engine "+e.Name], c.Secrets.hash(&e.URL, &e.Options))
	})
}

func changed(was, is string) bool { return is != "" && is != was }

// CloseSource closes a source that the definition has no longer.
func (c *Connections) CloseSource(name string) {
	c.mu.Lock()
	src := c.sources[name]
	delete(c.sources, name)
	c.mu.Unlock()
	if src != nil {
		src.Close()
	}
}

// extraConnections is the number of connections that a check or an installation takes from a source.
const extraConnections = 3

// Disconnect says which sources are disconnected, and until when: no connection to them can be made. release is called for
// each that is disconnected now and was not before, and ends the work on it. Then its connections are closed.
func (c *Connections) Disconnect(sources map[string]time.Time, release func(source string)) error {
	for _, name := range c.Disconnected.set(sources) {
		src := c.Definition().Source(name)
		if src == nil {
			continue
		}
		release(name)
		opened, err := c.openSource(src, 0) // it connects when it is used
		if err != nil {
			return err
		}
		c.mu.Lock()
		old := c.sources[name]
		c.sources[name] = opened
		c.mu.Unlock()
		if old != nil {
			old.Close()
		}
	}
	return nil
}

// OpenSource opens a source in addition to the one that may be open already.
func (c *Connections) OpenSource(src *definition.Source) (*source.Source, error) {
	return c.openSource(src, extraConnections)
}

// openSource opens a source with at most a number of connections; 0 is the default of its kind.
func (c *Connections) openSource(src *definition.Source, connections int) (*source.Source, error) {
	url, err := src.URL.Reveal(c.Secrets.Lookup)
	if err != nil {
		return nil, fmt.Errorf("source %s: %w", src.Name, err)
	}
	options, err := src.Options.Reveal(c.Secrets.Lookup)
	if err != nil {
		return nil, fmt.Errorf("source %s: %w", src.Name, err)
	}
	opened, err := c.Kinds.OpenSource(src.Kind, source.Config{
		Name: src.Name, URL: url, Capture: src.Capture, Options: options, Records: c.Records, ConnectTimeout: Timeout,
		Dial: c.Disconnected.dial(src.Name, c.Secrets.Addresses.Dial), DialPublic: c.Secrets.Addresses.DialPublic, Files: c.Secrets.Path,
		MaxConnections: connections,
	})
	if err != nil {
		return nil, fmt.Errorf("source %s: %w", src.Name, err)
	}
	return opened, nil
}

// OpenEngine opens an engine in addition to the one that may be open already.
func (c *Connections) OpenEngine(eng *definition.Engine) (engine.Engine, error) {
	config, err := c.engineConfig(eng)
	if err != nil {
		return nil, err
	}
	opened, err := c.Kinds.OpenEngine(eng.Kind, config)
	if err != nil {
		return nil, fmt.Errorf("engine %s: %w", eng.Name, err)
	}
	return opened, nil
}

// Recognize asks an engine whose kind is not named for it.
func (c *Connections) Recognize(ctx context.Context, eng *definition.Engine) (string, error) {
	config, err := c.engineConfig(eng)
	if err != nil {
		return "", err
	}
	return c.Kinds.Recognize(ctx, config)
}

func (c *Connections) engineConfig(eng *definition.Engine) (engine.Config, error) {
	url, err := eng.URL.Reveal(c.Secrets.Lookup)
	if err != nil {
		return engine.Config{}, fmt.Errorf("engine %s: %w", eng.Name, err)
	}
	options, err := eng.Options.Reveal(c.Secrets.Lookup)
	if err != nil {
		return engine.Config{}, fmt.Errorf("engine %s: %w", eng.Name, err)
	}
	return engine.Config{URL: url, Options: options, Dial: c.Secrets.Addresses.Dial, Files: c.Secrets.Path}, nil
}

// SourcesLeft lists the open sources that the definition has no longer.
func (c *Connections) SourcesLeft() (out []string) {
	c.mu.RLock()
	defer c.mu.RUnlock()
	for name := range c.sources {
		if c.definition.Source(name) == nil {
			out = append(out, name)
		}
	}
	return out
}

// AddEngine opens an engine that the definition in force has not, for an edition of
// before.
func (c *Connections) AddEngine(eng *definition.Engine) (*Engine, error) {
	opened, err := c.OpenEngine(eng)
	if err != nil {
		return nil, err
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if known := c.engines[eng.Name]; known != nil {
		opened.Close()
		return known, nil
	}
	c.engines[eng.Name] = newEngine(eng.Name, opened, c.budget)
	return c.engines[eng.Name], nil
}
