package flow

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sort"
	"time"

	"pingo/internal/core/definition"
	"pingo/internal/core/shape"
	"pingo/internal/source"
)

// Plan says what applying a definition would do. With findings, it would be refused.
type Plan struct {
	Findings definition.Findings `json:"findings"`
	Sources  []Answer            `json:"sources"`
	Engines  []Answer            `json:"engines"`
	Indexes  []IndexPlan         `json:"indexes"`
	// Capture lists, by source, the tables that would get triggers.
	Capture []CapturePlan `json:"capture"`

	definition *definition.Definition
}

// Answer says whether a source or engine answers, and as what.
type Answer struct {
	Name    string `json:"name"`
	Kind    string `json:"kind"`
	Answers bool   `json:"answers"`
	// Words are what answered, or why nothing did.
	Words string `json:"words"`
}

// The changes that applying may make to an index.
const (
	ChangeNew     = "new"
	ChangeNone    = "unchanged"
	ChangeInPlace = "in place"
	ChangeReindex = "reindex"
	ChangeRemoved = "removed"
)

// IndexPlan says what would happen to one index.
type IndexPlan struct {
	Name   string      `json:"name"`
	Change string      `json:"change"`
	Rows   int64       `json:"rows"`
	Fields []PlanField `json:"fields"`

	shape  *shape.Shape
	engine string
	// lost: the engine has no edition of it any more.
	lost bool
}

// PlanField is one field of the documents with its type.
type PlanField struct {
	Path   string     `json:"path"`
	Type   shape.Type `json:"type"`
	List   bool       `json:"list,omitempty"`
	Search float64    `json:"search,omitempty"`
	Filter bool       `json:"filter,omitempty"`
	Sort   bool       `json:"sort,omitempty"`
}

// CapturePlan is what one source would have to note.
type CapturePlan struct {
	Source string   `json:"source"`
	Tables []string `json:"tables"`

	need []shape.Captured
}

// Refused reports whether the definition cannot be applied.
func (p *Plan) Refused() bool {
	for _, a := range append(append([]Answer{}, p.Sources...), p.Engines...) {
		if !a.Answers {
			return true
		}
	}
	return len(p.Findings) > 0
}

// reason is the first thing that stands against applying.
func (p *Plan) reason() string {
	for _, a := range append(append([]Answer{}, p.Sources...), p.Engines...) {
		if !a.Answers {
			return a.Words
		}
	}
	if len(p.Findings) > 0 {
		return p.Findings[0].String()
	}
	return ""
}

// Changes reports whether applying would change anything.
func (p *Plan) Changes() bool {
	for _, ix := range p.Indexes {
		if ix.Change != ChangeNone {
			return true
		}
	}
	return false
}

// Check plans a definition without touching anything.
func (s *Service) Check(ctx context.Context, files []definition.File) (*Plan, error) {
	p := &Plan{Findings: definition.Findings{}, Sources: []Answer{}, Engines: []Answer{}, Indexes: []IndexPlan{}, Capture: []CapturePlan{}}
	def, findings := definition.Parse(files, s.look)
	if len(findings) > 0 {
		p.Findings = findings
		return p, nil
	}
	p.definition = def
	opened := map[string]source.Source{}
	defer func() {
		for _, src := range opened {
			src.Close()
		}
	}()
	ctx, cancel := context.WithTimeout(ctx, 30*time.Second)
	defer cancel()
	for _, src := range def.Sources {
		p.Sources = append(p.Sources, s.askSource(ctx, src, opened))
	}
	for _, eng := range def.Engines {
		p.Engines = append(p.Engines, s.askEngine(ctx, eng))
	}
	for _, ix := range def.Indexes {
		if src := opened[ix.Source]; src != nil {
			if err := s.planIndex(ctx, p, ix, src); err != nil {
				return nil, err
			}
		}
	}
	s.planRemoved(p)
	for _, src := range def.Sources {
		if need := s.needed(p, src.Name); len(need) > 0 {
			c := CapturePlan{Source: src.Name, need: need}
			for _, t := range need {
				c.Tables = append(c.Tables, t.Table.String())
			}
			p.Capture = append(p.Capture, c)
		}
	}
	p.Findings.Sort()
	return p, nil
}

func (s *Service) askSource(ctx context.Context, src *definition.Source, opened map[string]source.Source) Answer {
	a := Answer{Name: src.Name, Kind: src.Kind}
	o, err := s.openSource(src)
	if err == nil {
		if a.Words, err = o.Describe(ctx); err == nil {
			a.Answers, opened[src.Name] = true, o
			return a
		}
		o.Close()
	}
	a.Words = err.Error()
	return a
}

func (s *Service) askEngine(ctx context.Context, eng *definition.Engine) Answer {
	a := Answer{Name: eng.Name, Kind: eng.Kind}
	o, err := s.openEngine(eng)
	if err == nil {
		a.Words, err = o.Describe(ctx)
	}
	if a.Answers = err == nil; !a.Answers {
		a.Words = err.Error()
	}
	return a
}

func (s *Service) planIndex(ctx context.Context, p *Plan, ix *definition.Index, src source.Source) error {
	tables, expressions := shape.Questions(ix)
	facts, err := src.Facts(ctx, tables, expressions)
	if err != nil {
		return fmt.Errorf("source %s: %w", ix.Source, err)
	}
	compiled, findings := shape.Compile(ix, facts)
	if len(findings) > 0 {
		p.Findings = append(p.Findings, findings...)
		return nil
	}
	plan := IndexPlan{Name: ix.Name, shape: compiled, engine: ix.Engine, Fields: []PlanField{}}
	compiled.EachField(func(path string, f shape.Field) {
		plan.Fields = append(plan.Fields, PlanField{path, f.Type, f.Array, f.Search, f.Filter, f.Sort})
	})
	if plan.Rows, err = src.Count(ctx, compiled); err != nil {
		return fmt.Errorf("source %s: %w", ix.Source, err)
	}
	plan.Change = s.compare(ix, compiled)
	capture, err := src.CaptureStatus(ctx)
	if err != nil {
		return fmt.Errorf("source %s: %w", ix.Source, err)
	}
	if !capture.Installed && plan.Change != ChangeNew {
		plan.Change = ChangeReindex // nobody knows what has changed since it was removed
	}
	if plan.lost = s.lost(ctx, ix.Name); plan.lost && plan.Change != ChangeNew {
		plan.Change = ChangeReindex
	}
	p.Indexes = append(p.Indexes, plan)
	return nil
}

// lost reports whether the engine answers, but without the edition that is fed.
func (s *Service) lost(ctx context.Context, index string) bool {
	e := s.newest(index)
	if e == nil || !e.live() {
		return false
	}
	now, err := e.engine.Answering(ctx, index)
	return err == nil && !slices.Contains(now, e.record.Name())
}

// compare says what a definition's index would do to the newest edition.
func (s *Service) compare(ix *definition.Index, compiled *shape.Shape) string {
	s.mu.RLock()
	defer s.mu.RUnlock()
	var newest *editionFlow
	for _, e := range s.editions {
		if e.record.Index == ix.Name {
			newest = e
		}
	}
	switch {
	case newest == nil:
		return ChangeNew
	case newest.record.Engine != ix.Engine || newest.shape.Hash() != compiled.Hash():
		return ChangeReindex
	case newest.weights() != fmt.Sprint(compiled.Searched()):
		return ChangeInPlace
	}
	return ChangeNone
}

func (s *Service) planRemoved(p *Plan) {
	s.mu.RLock()
	defer s.mu.RUnlock()
	names := map[string]bool{}
	for _, e := range s.editions {
		if p.definition.Index(e.record.Index) == nil && !names[e.record.Index] {
			names[e.record.Index] = true
			p.Indexes = append(p.Indexes, IndexPlan{Name: e.record.Index, Change: ChangeRemoved, Fields: []PlanField{}})
		}
	}
	sort.SliceStable(p.Indexes, func(i, j int) bool { return p.Indexes[i].Name < p.Indexes[j].Name })
}

// needed unites what the planned shapes and the editions that are fed now need.
func (s *Service) needed(p *Plan, source string) []shape.Captured {
	shapes := s.shapes(source)
	for _, ix := range p.Indexes {
		if ix.shape != nil && ix.shape.Source == source {
			shapes = append(shapes, ix.shape)
		}
	}
	return shape.Capture(shapes)
}

// ErrNotReady says that the service does not hold its lease yet.
var ErrNotReady = errors.New("the service is not ready yet: try again in a moment")

// ErrRefused says that a plan has findings or that something does not answer.
var ErrRefused = errors.New("the definition cannot be applied")

// Apply makes a definition the one in force: it installs capture, records the
// version, and begins to fill what is new or changed. The plan says what was done.
func (s *Service) Apply(ctx context.Context, files []definition.File, by string) (*Plan, int, error) {
	s.applying.Lock()
	defer s.applying.Unlock()
	s.mu.RLock()
	ready := s.running != nil && s.begun
	s.mu.RUnlock()
	if !ready {
		return nil, 0, ErrNotReady
	}
	p, err := s.Check(ctx, files)
	if err != nil {
		return nil, 0, err
	}
	if p.Refused() {
		return p, 0, ErrRefused
	}
	// From here on a caller that goes away must not leave it half done.
	ctx = context.WithoutCancel(ctx)
	for _, c := range p.Capture {
		if err := s.install(ctx, p.definition.Source(c.Source), c.need); err != nil {
			return p, 0, err
		}
	}
	version, err := s.records.Apply(ctx, files, by)
	if err != nil {
		return p, 0, fmt.Errorf("recording the definition: %w", err)
	}
	applied, err := s.records.Definition(ctx)
	if err != nil {
		return p, 0, err
	}
	if err := s.adopt(p.definition, applied); err != nil {
		return p, 0, err
	}
	if err := s.carryOut(ctx, p, version); err != nil {
		return p, 0, err
	}
	s.log.Info("definition applied", "version", version, "by", by)
	return p, version, nil
}

// carryOut does to every index what the plan says, and records that it was done; a
// process that dies before begins it again.
func (s *Service) carryOut(ctx context.Context, p *Plan, version int) error {
	for _, ix := range p.Indexes {
		if err := s.applyIndex(ctx, ix, version); err != nil {
			return fmt.Errorf("index %s: %w", ix.Name, err)
		}
	}
	return s.records.CarriedOut(ctx, version)
}

func (s *Service) install(ctx context.Context, src *definition.Source, need []shape.Captured) error {
	opened, err := s.openSource(src)
	if err != nil {
		return err
	}
	defer opened.Close()
	made, err := opened.InstallCapture(ctx, s.id, need)
	for _, t := range made {
		s.log.Info("capture installed", "source", src.Name, "table", t.String())
	}
	if err != nil {
		return fmt.Errorf("source %s: %w", src.Name, err)
	}
	return nil
}

func (s *Service) applyIndex(ctx context.Context, ix IndexPlan, version int) error {
	switch ix.Change {
	case ChangeNew, ChangeReindex:
		// A lost edition answers nobody, and would only hold up the new one.
		if err := s.discard(ctx, ix.Name, func(e *editionFlow) bool { return ix.lost || !e.live() }); err != nil {
			return err
		}
		record, err := s.records.NewEdition(ctx, ix.shape, ix.engine, version)
		if err != nil {
			return fmt.Errorf("recording an edition: %w", err)
		}
		return s.start(record)
	case ChangeInPlace:
		return s.reweigh(ctx, ix)
	case ChangeRemoved:
		for e := s.newest(ix.Name); e != nil; e = s.newest(ix.Name) {
			s.drop(e)
			if err := s.records.DeleteEdition(ctx, e.record); err != nil {
				return err
			}
		}
	}
	return nil
}

// discard drops editions of an index, here and in the engine: those that a newer
// definition overtakes before they ever answered, and those that are lost.
func (s *Service) discard(ctx context.Context, index string, which func(*editionFlow) bool) error {
	s.mu.RLock()
	var list []*editionFlow
	for _, e := range s.editions {
		if e.record.Index == index && which(e) {
			list = append(list, e)
		}
	}
	s.mu.RUnlock()
	for _, e := range list {
		s.drop(e)
		if err := e.engine.Drop(ctx, e.record.Name()); err != nil {
			return err
		}
		if err := s.records.DeleteEdition(ctx, e.record); err != nil {
			return err
		}
	}
	return nil
}

// reweigh takes new search weights into use, which matter only when a search is made.
func (s *Service) reweigh(ctx context.Context, ix IndexPlan) error {
	e := s.newest(ix.Name)
	if e == nil {
		return nil
	}
	record := *e.record
	record.Shape = ix.shape
	if err := s.records.SaveShape(ctx, &record); err != nil {
		return err
	}
	e.mu.Lock()
	defer e.mu.Unlock()
	e.searched = ix.shape.Searched()
	return nil
}

// weights is what searches look into now, for comparing.
func (e *editionFlow) weights() string {
	e.mu.Lock()
	defer e.mu.Unlock()
	return fmt.Sprint(e.searched)
}

// InstallCapture installs what the applied definition needs, where it is missing.
func (s *Service) InstallCapture(ctx context.Context, name string) error {
	src, need, err := s.captured(name)
	if err != nil {
		return err
	}
	opened, err := s.openSource(src)
	if err != nil {
		return err
	}
	defer opened.Close()
	status, err := opened.CaptureStatus(ctx)
	if err != nil {
		return err
	}
	if !status.Installed && len(need) > 0 {
		return ErrNeedsFill
	}
	return s.install(ctx, src, need)
}

// ErrNeedsFill says that installing capture alone would leave an index wrong.
var ErrNeedsFill = errors.New("capture is gone altogether, so changes went unnoticed: run pingo apply with the definition in force, which installs it and fills the indexes anew")

// CaptureSQL is what InstallCapture would run.
func (s *Service) CaptureSQL(ctx context.Context, name string) (string, error) {
	src, need, err := s.captured(name)
	if err != nil {
		return "", err
	}
	return s.captureSQL(ctx, src, need)
}

// CaptureSQLFor is what applying a definition would install in one of its sources.
func (s *Service) CaptureSQLFor(ctx context.Context, files []definition.File, name string) (string, error) {
	p, err := s.Check(ctx, files)
	if err != nil {
		return "", err
	}
	if p.Refused() {
		return "", fmt.Errorf("%w: run pingo check to see why", ErrRefused)
	}
	for _, c := range p.Capture {
		if c.Source == name || name == "" && len(p.Capture) == 1 {
			return s.captureSQL(ctx, p.definition.Source(c.Source), c.need)
		}
	}
	return "", fmt.Errorf("%w: the definition captures nothing in a source %q", ErrUnknown, name)
}

func (s *Service) captureSQL(ctx context.Context, src *definition.Source, need []shape.Captured) (string, error) {
	opened, err := s.openSource(src)
	if err != nil {
		return "", err
	}
	defer opened.Close()
	return opened.CaptureSQL(ctx, need)
}

// RemoveCapture takes the journal and all triggers out of a source. Its indexes are
// no longer kept true until it is installed again and they are filled anew.
func (s *Service) RemoveCapture(ctx context.Context, name string) error {
	src, _, err := s.captured(name)
	if err != nil {
		return err
	}
	opened, err := s.openSource(src)
	if err != nil {
		return err
	}
	defer opened.Close()
	return opened.RemoveCapture(ctx)
}

// ErrUnknown says that there is nothing of that name.
var ErrUnknown = errors.New("not known")

func (s *Service) captured(name string) (*definition.Source, []shape.Captured, error) {
	s.mu.RLock()
	def := s.definition
	s.mu.RUnlock()
	if def == nil {
		return nil, nil, fmt.Errorf("%w: no definition was applied yet", ErrUnknown)
	}
	if name == "" && len(def.Sources) == 1 {
		name = def.Sources[0].Name
	}
	src := def.Source(name)
	if src == nil {
		known := make([]string, len(def.Sources))
		for i, src := range def.Sources {
			known[i] = src.Name
		}
		return nil, nil, fmt.Errorf("source %q is %w: %s", name, ErrUnknown, definition.Nearest(name, known))
	}
	return src, shape.Capture(s.shapes(name)), nil
}
