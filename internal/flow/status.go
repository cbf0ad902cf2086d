package flow

import (
	"fmt"
	"sort"
	"strings"
	"time"

	"github.com/dustin/go-humanize"

	"pingo/internal/core/fill"
	"pingo/internal/source"
)

// Status is what goes on, for people and scripts. Times are in milliseconds unless
// they are points in time.
type Status struct {
	At time.Time `json:"at"`
	// State is the worst of all indexes: empty, true, behind, filling, waiting, blocked.
	State    string         `json:"state"`
	Sentence string         `json:"sentence"`
	Version  int            `json:"definitionVersion"`
	Trouble  *Trouble       `json:"trouble,omitempty"`
	Indexes  []IndexStatus  `json:"indexes"`
	Sources  []SourceStatus `json:"sources"`
	// Engines are as this process meets them.
	Engines []EngineStatus `json:"engines"`
	// Processes are all pingo serve on the same records.
	Processes []ProcessStatus `json:"processes"`
}

// ProcessStatus is one pingo serve.
type ProcessStatus struct {
	Address string    `json:"address"`
	BegunAt time.Time `json:"begunAt"`
	// Here: it is the one that answered.
	Here bool `json:"here"`
	// Sources are those whose indexes it feeds.
	Sources []string `json:"sources"`
}

// The states of an index, from good to bad.
const (
	StateTrue    = "true"    // every noticed change is in the engine
	StateBehind  = "behind"  // changes are on their way, longer than usual
	StateFilling = "filling" // no edition answers yet, or a new one is being filled
	StateWaiting = "waiting" // something does not answer; tried again by itself
	StateBlocked = "blocked" // a person is needed; goes on by itself afterwards
)

var badness = []string{StateTrue, StateBehind, StateFilling, StateWaiting, StateBlocked}

// IndexStatus is one index.
type IndexStatus struct {
	Name     string `json:"name"`
	Source   string `json:"source"`
	Engine   string `json:"engine"`
	Edition  string `json:"edition"`
	State    string `json:"state"`
	Sentence string `json:"sentence"`
	// Answering: the public name answers from a complete edition.
	Answering bool `json:"answering"`
	// Rows in the source that have documents, and Documents that searches find;
	// null until they were counted, CountedAt when.
	Rows      *int64     `json:"rows"`
	Documents *int64     `json:"documents"`
	CountedAt *time.Time `json:"countedAt,omitempty"`
	Failed    int64      `json:"failed"`
	Waiting   int        `json:"waiting"`
	// LagMS is the age of the oldest change that is not in the engine, 0 when there is
	// none; Lag are percentiles over the last changes.
	LagMS float64     `json:"lagMs"`
	Lag   Percentiles `json:"lag"`
	// Built are documents made of rows or found to be gone, Applied those that the engine
	// took, Spared those not sent because it had the same already, Refusals its answers
	// that refused one; all since the process that feeds the index began with it.
	Built     int64       `json:"built"`
	Applied   int64       `json:"applied"`
	Spared    int64       `json:"spared"`
	Refusals  int64       `json:"refusals"`
	PerSecond float64     `json:"perSecond"`
	Minute    []int64     `json:"minute"`
	Fill      *FillStatus `json:"fill,omitempty"`
	Trouble   *Trouble    `json:"trouble,omitempty"`

	// Unnoticed: changes were not captured, which only another edition mends.
	Unnoticed bool `json:"unnoticed,omitempty"`
}

// FillStatus is how far the filling of an edition is.
type FillStatus struct {
	Edition string     `json:"edition"`
	State   fill.State `json:"state"`
	fill.Progress
	PerSecond float64 `json:"perSecond"`
	LeftMS    int64   `json:"leftMs"`
}

// SourceStatus is one source.
type SourceStatus struct {
	Name      string     `json:"name"`
	InFlight  int        `json:"inFlight"`
	OldestAt  *time.Time `json:"oldestAt,omitempty"`
	Noticed   int64      `json:"noticed"`
	PerSecond float64    `json:"perSecond"`
	Minute    []int64    `json:"minute"`
	Trouble   *Trouble   `json:"trouble,omitempty"`
	// Journal is what the source's journal holds; nil until it was looked at.
	Journal *JournalStatus `json:"journal,omitempty"`
}

// JournalStatus is how deep a journal is, how fast it grows, and how much it may hold.
type JournalStatus struct {
	source.Depth
	// GrowsPerSecond is how many changes more there are each second, of late; below 0
	// while it shrinks.
	GrowsPerSecond float64   `json:"growsPerSecond"`
	LimitBytes     int64     `json:"limitBytes"`
	LookedAt       time.Time `json:"lookedAt"`
	// Warning is there while it is larger than its limit.
	Warning string `json:"warning,omitempty"`
}

// behindAfter is how old the oldest change must be before an index counts as behind.
const behindAfter = 3 * time.Second

// Status tells what goes on now, in all processes. It asks neither sources nor engines.
func (s *Service) Status() Status {
	now := time.Now()
	out := Status{At: now, Indexes: []IndexStatus{}, Sources: []SourceStatus{}, Processes: []ProcessStatus{}, Engines: []EngineStatus{}, Trouble: s.trouble.get()}
	s.mu.RLock()
	held := make([]*holding, 0, len(s.held))
	holder := map[string]string{}
	for name, h := range s.held {
		held = append(held, h)
		holder[name] = s.process.ID
	}
	if s.applied != nil {
		out.Version = s.applied.Version
	}
	for name, p := range s.elsewhere {
		if holder[name] != "" || s.definition.Source(name) == nil {
			continue
		}
		if p.free {
			for i := range p.Indexes {
				ix := p.Indexes[i]
				ix.Trouble = &Trouble{Since: p.since, Message: "the process that fed it is gone, and another takes over within seconds"}
				ix.State, ix.Sentence = describe(ix, now)
				out.Indexes = append(out.Indexes, ix)
			}
			p.Source.Trouble = &Trouble{Since: p.since, Message: "no process feeds its indexes at the moment"}
		} else {
			holder[name] = p.holder
			out.Indexes = append(out.Indexes, p.Indexes...)
		}
		out.Sources = append(out.Sources, p.Source)
	}
	for name, g := range s.gates {
		out.Engines = append(out.Engines, g.status(name))
	}
	sort.Slice(out.Engines, func(i, j int) bool { return out.Engines[i].Name < out.Engines[j].Name })
	for _, p := range s.processes {
		ps := ProcessStatus{Address: p.Address, BegunAt: p.BegunAt, Here: p.ID == s.process.ID, Sources: []string{}}
		for name, id := range holder {
			if id == p.ID {
				ps.Sources = append(ps.Sources, name)
			}
		}
		sort.Strings(ps.Sources)
		out.Processes = append(out.Processes, ps)
	}
	s.mu.RUnlock()
	for _, h := range held {
		p := s.publish(h)
		out.Sources, out.Indexes = append(out.Sources, p.Source), append(out.Indexes, p.Indexes...)
	}
	sort.Slice(out.Sources, func(i, j int) bool { return out.Sources[i].Name < out.Sources[j].Name })
	sort.Slice(out.Indexes, func(i, j int) bool { return out.Indexes[i].Name < out.Indexes[j].Name })
	out.State, out.Sentence = overall(out)
	return out
}

// publish says how a held source and its indexes are.
func (s *Service) publish(h *holding) published {
	s.mu.RLock()
	editions := h.editions
	s.mu.RUnlock()
	p := published{Source: h.stream.status(), Indexes: []IndexStatus{}, Recent: h.stream.tail.recent()}
	for _, pair := range pairs(editions) {
		p.Indexes = append(p.Indexes, indexStatus(pair.live, pair.filling, p.Source, time.Now()))
	}
	return p
}

// indexStatus is the status of one index, empty when there is none.
func (s *Service) indexStatus(name string) IndexStatus {
	for _, ix := range s.Status().Indexes {
		if ix.Name == name {
			return ix
		}
	}
	return IndexStatus{}
}

func (st *stream) status() SourceStatus {
	s := SourceStatus{Name: st.name, Trouble: st.trouble.get()}
	inFlight, oldest := st.oldest()
	s.InFlight = inFlight
	if inFlight > 0 {
		s.OldestAt = &oldest
	}
	s.Noticed, s.PerSecond, s.Minute = st.noticed.read()
	s.Journal = st.journal.get()
	return s
}

type pair struct{ live, filling *editionFlow }

// pairs brings together, index by index, the edition that answers and the one that
// is being filled.
func pairs(editions []*editionFlow) []pair {
	byIndex := map[string]*pair{}
	var names []string
	for _, e := range editions {
		p := byIndex[e.record.Index]
		if p == nil {
			p = &pair{}
			byIndex[e.record.Index] = p
			names = append(names, e.record.Index)
		}
		if e.live() {
			p.live = e
		} else {
			p.filling = e
		}
	}
	sort.Strings(names)
	out := make([]pair, len(names))
	for i, name := range names {
		out[i] = *byIndex[name]
	}
	return out
}

func indexStatus(live, filling *editionFlow, source SourceStatus, now time.Time) IndexStatus {
	e := live
	if e == nil {
		e = filling
	}
	s := IndexStatus{Name: e.record.Index, Source: e.shape.Source, Engine: e.record.Engine, Edition: e.record.Name(), Answering: live != nil,
		Failed: e.refused.Load(), Waiting: e.waiting(), Lag: e.lag.percentiles(), Trouble: e.trouble.get()}
	var at time.Time
	s.Rows, at = e.sourceN.get()
	if s.Rows != nil {
		s.CountedAt = &at
	}
	s.Documents, _ = e.engineN.get()
	s.Applied, s.PerSecond, s.Minute = e.applied.read()
	s.Built, s.Spared, s.Refusals = e.built.sum(), e.spared.sum(), e.refusals.sum()
	if oldest := e.oldest(); !oldest.IsZero() {
		s.LagMS = max(0, float64(now.Sub(oldest))/float64(time.Millisecond))
	}
	if filling != nil {
		filling.mu.Lock()
		f := &FillStatus{Edition: filling.record.Name(), State: filling.state, Progress: filling.done}
		filling.mu.Unlock()
		if !f.Began.IsZero() {
			f.PerSecond, f.LeftMS = f.Rate(now), f.Left(now).Milliseconds()
		}
		s.Fill = f
		if s.Trouble == nil {
			s.Trouble = filling.trouble.get()
		}
	}
	if s.Trouble == nil {
		s.Trouble = source.Trouble
	}
	if gap := e.gap.get(); gap != nil {
		s.Trouble, s.Unnoticed = gap, true
	}
	s.State, s.Sentence = describe(s, now)
	return s
}

// describe says in a sentence how an index is.
func describe(s IndexStatus, now time.Time) (state, sentence string) {
	switch {
	case s.Unnoticed:
		return StateBlocked, fmt.Sprintf("No longer true since %s ago: %s.", span(now.Sub(s.Trouble.Since)), s.Trouble.Message)
	case s.Trouble != nil && s.Trouble.Blocked:
		return StateBlocked, fmt.Sprintf("Stopped for %s: %s. Nothing is lost; it goes on by itself once this is mended.", span(now.Sub(s.Trouble.Since)), s.Trouble.Message)
	case s.Trouble != nil:
		return StateWaiting, fmt.Sprintf("Waiting for %s: %s. Nothing is lost; it is tried again all the time.", span(now.Sub(s.Trouble.Since)), s.Trouble.Message)
	case s.Fill != nil:
		return StateFilling, fillSentence(s)
	}
	failed := "."
	if s.Failed > 0 {
		failed = fmt.Sprintf(", but for %s.", count(s.Failed, "document that it refused", "documents that it refused"))
	}
	if lag := time.Duration(s.LagMS) * time.Millisecond; lag > behindAfter {
		return StateBehind, fmt.Sprintf("Behind by %s: %s on the way; the rest is in the engine%s", span(lag), count(int64(s.Waiting), "document is", "documents are"), failed)
	}
	return StateTrue, "Every change so far is in the engine" + failed
}

func fillSentence(s IndexStatus) string {
	f := s.Fill
	lead := "No edition answers yet: "
	if s.Answering {
		lead = fmt.Sprintf("%s answers while ", s.Edition)
	}
	switch f.State {
	case fill.Preparing:
		return lead + f.Edition + " is being prepared."
	case fill.CatchingUp:
		return lead + f.Edition + " is filled and catches up with the changes since."
	}
	left := ""
	if f.LeftMS > 0 {
		left = ", " + span(time.Duration(f.LeftMS)*time.Millisecond) + " left"
	}
	return fmt.Sprintf("%s%s is being filled, %s of %s rows%s.", lead, f.Edition, humanize.Comma(f.Rows), humanize.Comma(f.Expected), left)
}

func overall(s Status) (state, sentence string) {
	if s.Trouble != nil {
		return StateBlocked, fmt.Sprintf("Nothing runs: %s.", s.Trouble.Message)
	}
	if len(s.Indexes) == 0 {
		return "empty", "There is no index yet. Write a definition and run pingo apply."
	}
	worst, named := 0, map[int][]string{}
	var failed int64
	for _, ix := range s.Indexes {
		for b, state := range badness {
			if ix.State == state {
				named[b] = append(named[b], ix.Name)
				worst = max(worst, b)
			}
		}
		failed += ix.Failed
	}
	state = badness[worst]
	if state == StateTrue {
		sentence = fmt.Sprintf("All %d indexes are true: they agree with every change noticed so far.", len(s.Indexes))
		if len(s.Indexes) == 1 {
			sentence = s.Indexes[0].Name + " is true: it agrees with every change noticed so far."
		}
		if failed > 0 {
			sentence = fmt.Sprintf("Every change is in the engine, but for %s.", count(failed, "document that it refused", "documents that it refused"))
		}
		return state, sentence
	}
	verb := map[string]string{StateBehind: "behind", StateFilling: "being filled", StateWaiting: "waiting", StateBlocked: "stopped and in need of you"}[state]
	is := "is"
	if len(named[worst]) > 1 {
		is = "are"
	}
	return state, fmt.Sprintf("%s %s %s.", strings.Join(named[worst], ", "), is, verb)
}

func count(n int64, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return humanize.Comma(n) + " " + many
}

// span rounds a duration to what a person reads.
func span(d time.Duration) string {
	switch {
	case d < time.Second:
		return fmt.Sprintf("%d ms", d.Milliseconds())
	case d < time.Minute:
		return fmt.Sprintf("%.0f s", d.Seconds())
	case d < time.Hour:
		return fmt.Sprintf("%d min %d s", int(d.Minutes()), int(d.Seconds())%60)
	}
	return fmt.Sprintf("%d h %d min", int(d.Hours()), int(d.Minutes())%60)
}
