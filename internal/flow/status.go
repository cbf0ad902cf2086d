package flow

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"pingo/internal/api"
	"pingo/internal/core/definition"
	"pingo/internal/flow/alarm"
	"pingo/internal/flow/connect"
	"pingo/internal/flow/inspect"
	"pingo/internal/flow/report"
	"pingo/internal/flow/stream"
)

// Status tells what goes on now, in all processes. It asks neither sources nor engines.
func (s *Service) Status() api.Status {
	now := time.Now()
	out := api.Status{
		At:        now,
		Indexes:   []api.IndexStatus{},
		Sources:   []api.SourceStatus{},
		Processes: []api.ProcessStatus{},
		Engines:   []api.EngineStatus{},
		Trouble:   report.Trouble(s.trouble.Get()),
	}
	holder := map[string]string{}   // process by source
	since := map[string]time.Time{} // since when it is held, or free, by source
	for _, h := range s.holders() {
		for _, x := range h.sources {
			holder[x.name] = s.process.ID
			p := h.currentStatus(x)
			since[x.name] = p.since
			out.Sources, out.Indexes = append(out.Sources, p.Source), append(out.Indexes, p.Indexes...)
		}
	}
	for _, e := range s.connections.Engines() {
		out.Engines = append(out.Engines, report.Engine(e))
	}
	def := s.connections.Definition()
	s.mu.RLock()
	defer s.mu.RUnlock()
	if s.applied != nil {
		out.Version = s.applied.Version
	}
	for name, told := range s.elsewhere {
		if holder[name] != "" || def.Source(name) == nil {
			continue
		}
		p := told()
		// A report may be older than the drop of an index. No process takes a source that no index reads.
		if !slices.ContainsFunc(def.Indexes, func(ix *definition.Index) bool { return slices.Contains(ix.Sources(), name) }) {
			continue
		}
		p.Indexes = slices.DeleteFunc(slices.Clone(p.Indexes), func(ix api.IndexStatus) bool { return def.Index(ix.Name) == nil })
		if sentence := s.connections.Disconnected.Sentence(fedTogether(def, name)...); sentence != "" {
			p.mark(now, sentence)
		} else if p.free {
			p.mark(now, "the process that fed it is gone; another takes over within seconds")
		} else {
			holder[name] = p.holder
			switch {
			case p.By != "" && p.By != p.holder:
				p.mark(now, "another process has just taken over this index and has not reported yet")
			case now.Sub(p.heard) > unheardAfter:
				p.mark(now, "the process that feeds it has not been heard of since then")
			}
		}
		since[name] = p.since
		out.Sources, out.Indexes = append(out.Sources, p.Source), append(out.Indexes, p.Indexes...)
	}
	for _, ix := range def.Indexes {
		if !slices.ContainsFunc(out.Indexes, func(x api.IndexStatus) bool { return x.Name == ix.Name }) {
			out.Indexes = append(
				out.Indexes,
				report.Unknown(ix.Name, ix.Sources(), ix.Engine, since[ix.Source()], now),
			)
		}
	}
	for _, p := range s.processes {
		ps := api.ProcessStatus{
			Address:   p.Address,
			StartedAt: p.StartedAt,
			Current:   p.ID == s.process.ID,
			Sources:   []string{},
		}
		if ahead := time.Duration(s.ahead.Load()); ps.Current && ahead.Abs() > stream.ClocksApart {
			ps.ClockAheadMS = ahead.Milliseconds()
		}
		for name, id := range holder {
			if id == p.ID {
				ps.Sources = append(ps.Sources, name)
			}
		}
		slices.Sort(ps.Sources)
		out.Processes = append(out.Processes, ps)
	}
	for i := range out.Sources {
		describe(&out.Sources[i], s.connections)
	}
	slices.SortFunc(out.Sources, func(a, b api.SourceStatus) int { return strings.Compare(a.Name, b.Name) })
	slices.SortFunc(out.Indexes, func(a, b api.IndexStatus) int { return strings.Compare(a.Name, b.Name) })
	report.Overall(&out, s.ready.done())
	return out
}

// Alarm raises alerts of all indexes, also of those that other processes feed or none does, until the context ends.
func Alarm(ctx context.Context, s *Service, store alarm.Store) {
	select {
	case <-s.ready:
	case <-ctx.Done():
		return
	}
	alarm.Run(ctx, alarm.Options{
		Process: s.process.ID, Indexes: func() []api.IndexStatus { return s.Status().Indexes },
		Target: s.connections.Alerts, Dial: s.connections.Secrets.Addresses.DialPublic, Store: store, Log: s.log,
	})
}

// describe says of a source what its definition and its kind do.
func describe(src *api.SourceStatus, c *connect.Connections) {
	src.CannotSee = []string{}
	def := c.Definition().Source(src.Name)
	if def == nil {
		return
	}
	src.Kind, src.Capture = def.Kind, def.Capture
	if opened := c.Source(src.Name); opened != nil {
		src.Receives = opened.Intake != nil
	}
	if kind := c.Kinds.Source(def.Kind); kind != nil && kind.CannotSee[def.Capture] != nil {
		src.CannotSee = kind.CannotSee[def.Capture]
	}
}

// unheardAfter is how long a process may be silent until the state of what it holds
// is unknown. It speaks every second.
const unheardAfter = 4 * time.Second

// mark says why the state of the source and its indexes is unknown.
func (p *heldStatus) mark(now time.Time, message string) {
	trouble := &api.Trouble{Since: p.since, Message: message}
	indexes := slices.Clone(p.Indexes)
	for i := range indexes {
		indexes[i].Trouble = trouble
		report.Describe(&indexes[i], now)
	}
	p.Indexes, p.Source.Trouble = indexes, trouble
}

// Recent lists the last changes of a source, newest first, with the outcome of each.
func (s *Service) Recent(name string) ([]api.RecentChange, error) {
	if h := s.holder(name); h != nil {
		return h.sources.of(name).stream.Recent(), nil
	}
	s.mu.RLock()
	defer s.mu.RUnlock()
	if told, ok := s.elsewhere[name]; ok {
		return append([]api.RecentChange{}, told().Recent...), nil
	}
	return nil, fmt.Errorf("source %q is %w", name, inspect.ErrUnknown)
}
