// Package kinds is the one list of the kinds of sources and engines. Adding one is a
// folder with its code, a line here, and a green conformance suite.
package kinds

import (
	"context"
	"fmt"
	"net/url"
	"slices"
	"strings"

	"pingo/internal/core/definition"
	"pingo/internal/engine"
	"pingo/internal/engine/collections"
	"pingo/internal/engine/opensearch"
	postgresengine "pingo/internal/engine/postgres"
	"pingo/internal/engine/tasks"
	"pingo/internal/source"
	"pingo/internal/source/mariadb"
	"pingo/internal/source/outbox"
	"pingo/internal/source/poll"
	"pingo/internal/source/postgres"
	"pingo/internal/source/webfeed"
	"pingo/internal/source/webhook"
)

// Set is the kinds that there are.
type Set struct {
	Sources []source.Kind
	Engines []engine.Kind
}

// All is the kinds that Pingo ships with.
func All() *Set {
	return &Set{
		Sources: []source.Kind{
			poll.With(outbox.With(postgres.Kind, postgres.Dialect), postgres.Dialect),
			poll.With(outbox.With(mariadb.Kind, mariadb.Dialect), mariadb.Dialect),
			webhook.Kind, webfeed.Kind,
		},
		Engines: []engine.Kind{opensearch.Kind, collections.Kind, tasks.Kind, postgresengine.Kind},
	}
}

// Source finds a kind of source, nil when there is none of that name.
func (s *Set) Source(name string) *source.Kind {
	if i := slices.IndexFunc(s.Sources, func(k source.Kind) bool { return k.Name == name }); i >= 0 {
		return &s.Sources[i]
	}
	return nil
}

// Engine finds a kind of engine, nil when there is none of that name.
func (s *Set) Engine(name string) *engine.Kind {
	if i := slices.IndexFunc(s.Engines, func(k engine.Kind) bool { return k.Name == name }); i >= 0 {
		return &s.Engines[i]
	}
	return nil
}

// Language is what the definition language must know of the kinds.
func (s *Set) Language() definition.Kinds {
	var out definition.Kinds
	for _, k := range s.Sources {
		out.Sources = append(
			out.Sources,
			definition.Kind{Name: k.Name, Schemes: k.Schemes, Captures: k.Captures, Keys: k.Keys},
		)
	}
	for _, k := range s.Engines {
		out.Engines = append(out.Engines, definition.Kind{Name: k.Name, Schemes: k.Schemes, Keys: k.Keys})
	}
	return out
}

// OpenSource opens a source by its kind.
func (s *Set) OpenSource(kind string, c source.Config) (*source.Source, error) {
	k := s.Source(kind)
	if k == nil {
		return nil, fmt.Errorf("there is no kind of source %q", kind)
	}
	return k.Open(c)
}

// OpenEngine opens an engine by its kind.
func (s *Set) OpenEngine(kind string, c engine.Config) (engine.Engine, error) {
	k := s.Engine(kind)
	if k == nil {
		return nil, fmt.Errorf("there is no kind of engine %q", kind)
	}
	return k.Open(c)
}

// Recognize finds out of which kind the engine at an address is, by asking it.
func (s *Set) Recognize(ctx context.Context, c engine.Config) (string, error) {
	u, err := url.Parse(c.URL)
	if err != nil {
		return "", fmt.Errorf("the url of the engine cannot be read as a URL")
	}
	var last error
	answered := false
	for _, k := range s.Engines {
		if !slices.Contains(k.Schemes, u.Scheme) {
			continue
		}
		is, err := k.Recognize(ctx, c)
		if is {
			return k.Name, nil
		}
		if err != nil {
			last = err
		} else {
			answered = true
		}
	}
	if answered || last == nil {
		var names []string
		for _, k := range s.Engines {
			names = append(names, k.Name)
		}
		return "", fmt.Errorf(
			"the server at %s://%s is not an engine that Pingo recognizes: name its kind (%s)",
			u.Scheme, u.Host,
			strings.Join(names, ", "),
		)
	}
	return "", last
}
