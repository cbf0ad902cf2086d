package flow

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"sort"
	"strings"
	"time"

	"pingo/internal/core/definition"
	"pingo/internal/core/document"
	"pingo/internal/core/shape"
	"pingo/internal/engine"
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
	// Missing are statements that give Pingo the rights it lacks.
	Missing []string `json:"missing,omitempty"`
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
	Name   string `json:"name"`
	Engine string `json:"engine"`
	Change string `json:"change"`
	// Differences to what is live, one by one.
	Differences []shape.Difference `json:"differences"`
	// Guard says why the change must be accepted by the index's name; empty when it
	// need not be.
	Guard string `json:"guard,omitempty"`
	Rows  int64  `json:"rows"`
	// Bytes estimates the size of all documents by the first of them, and Operations
	// is how many documents would be sent.
	Bytes      int64       `json:"bytes"`
	Operations int64       `json:"operations"`
	Nodes      []PlanNode  `json:"nodes"`
	Fields     []PlanField `json:"fields"`
	Samples    []Sample    `json:"samples"`
	// Notes are what the engine cannot do as asked, and what changes would cost.
	Notes []string `json:"notes"`

	shape *shape.Shape
	// lost: the engine has no edition of it any more.
	lost bool
}

// PlanNode is one table of an index's documents.
type PlanNode struct {
	Rows   string `json:"rows,omitempty"` // which of an index's several rows it belongs to
	Path   string `json:"path"`           // where it stands in documents; empty for a root
	Parent string `json:"parent"`
	Table  string `json:"table"`
	Kind   string `json:"kind"` // root, one, many or list
	Link   string `json:"link,omitempty"`
	Where  string `json:"where,omitempty"`
	Order  string `json:"order,omitempty"`
	Limit  int    `json:"limit,omitempty"`
}

// Sample is a document built from a real row.
type Sample struct {
	Key      string          `json:"key"`
	Document json.RawMessage `json:"document"`
}

// PlanField is one field of the documents with its type.
type PlanField struct {
	Rows   string      `json:"rows,omitempty"`
	Path   string      `json:"path"`
	Type   shape.Type  `json:"type"`
	List   bool        `json:"list,omitempty"`
	From   string      `json:"from"` // the column, expression or fields that it is made of
	Search float64     `json:"search,omitempty"`
	Match  shape.Match `json:"match,omitempty"`
	Filter bool        `json:"filter,omitempty"`
	Sort   bool        `json:"sort,omitempty"`
	Facet  bool        `json:"facet,omitempty"`
}

// CapturePlan is what one source would have to note.
type CapturePlan struct {
	Source string   `json:"source"`
	Tables []string `json:"tables"`
	// Advice is what a developer should know about the tables that are read.
	Advice []source.Advice `json:"advice"`

	need []shape.Captured
}

// Refused reports whether the definition cannot be applied.
func (p *Plan) Refused() bool { return p.reason() != "" }

// reason is the first thing that stands against applying; empty when nothing does.
func (p *Plan) reason() string {
	if wrong := p.wrong(); wrong != "" {
		return wrong
	}
	for _, a := range p.Sources {
		if len(a.Missing) > 0 {
			return fmt.Sprintf("Pingo lacks rights in source %s: %s", a.Name, a.Missing[0])
		}
	}
	return ""
}

// wrong is what stands against the definition itself, whatever Pingo may do.
func (p *Plan) wrong() string {
	for _, a := range slices.Concat(p.Sources, p.Engines) {
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

// Fills reports whether applying would fill an edition or give up an index.
func (p *Plan) Fills() bool {
	return slices.ContainsFunc(p.Indexes, func(ix IndexPlan) bool { return ix.Change != ChangeNone && ix.Change != ChangeInPlace })
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
	if err := s.planRemoved(ctx, p); err != nil {
		return nil, err
	}
	for i, src := range def.Sources {
		if opened[src.Name] != nil {
			if err := s.planCapture(ctx, p, &p.Sources[i], opened[src.Name]); err != nil {
				return nil, fmt.Errorf("source %s: %w", src.Name, err)
			}
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
		defer o.Close()
		a.Words, err = o.Describe(ctx)
	}
	if a.Answers = err == nil; !a.Answers {
		a.Words = err.Error()
	}
	return a
}

// planCapture says which tables of a source would be captured, which rights that
// lacks, and what there is to know about them.
func (s *Service) planCapture(ctx context.Context, p *Plan, answer *Answer, src source.Source) error {
	need, err := s.needed(ctx, p, answer.Name)
	if err != nil || len(need) == 0 {
		return err
	}
	c := CapturePlan{Source: answer.Name, Tables: []string{}, need: need}
	var lookups []shape.Lookup
	for _, ix := range p.Indexes {
		if ix.shape != nil && ix.shape.Source == answer.Name {
			for _, l := range ix.shape.Lookups() {
				if !slices.ContainsFunc(lookups, func(x shape.Lookup) bool { return x.Table == l.Table && slices.Equal(x.Columns, l.Columns) }) {
					lookups = append(lookups, l)
				}
			}
		}
	}
	for _, t := range c.need {
		c.Tables = append(c.Tables, t.Table.String())
	}
	if answer.Missing, err = src.MissingRights(ctx, c.need); err != nil {
		return err
	}
	if c.Advice, err = src.Advice(ctx, c.need, lookups); err != nil {
		return err
	}
	p.Capture = append(p.Capture, c)
	return nil
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
	plan := IndexPlan{Name: ix.Name, Engine: ix.Engine, shape: compiled, Differences: []shape.Difference{}, Samples: []Sample{}, Notes: []string{}}
	plan.describe()
	kind := p.definition.Engine(ix.Engine).Kind
	refused, notes := engine.Limits(kind, compiled)
	for _, words := range refused {
		p.Findings = append(p.Findings, definition.Finding{Pos: ix.EnginePos, Message: words, Suggestion: "change it, or give the index to an engine of another kind"})
	}
	plan.Notes = append(plan.Notes, notes...)
	if plan.Rows, err = countRows(ctx, src, compiled); err != nil {
		return fmt.Errorf("source %s: %w", ix.Source, err)
	}
	for i, t := range compiled.Trees {
		if err := plan.sample(ctx, t, src); err != nil {
			return fmt.Errorf("source %s: %w", ix.Source, err)
		}
		for _, f := range t.Root().Follows {
			if len(f.Identity) == 0 {
				plan.Notes = append(plan.Notes, fmt.Sprintf("a change of %s may touch any row of the view %s, so each one builds all its documents anew", f.Table, t.Root().Table))
			}
		}
		shared, err := src.Ambiguous(ctx, t)
		if err != nil {
			return fmt.Errorf("source %s: %w", ix.Source, err)
		}
		if shared > 0 {
			p.Findings = append(p.Findings, definition.Finding{Pos: ix.Rows[i].KeyPos, Message: fmt.Sprintf("%d rows of %s share their key (%s) with another row", shared, ix.Rows[i].Table, strings.Join(t.Root().Key, ", ")), Suggestion: "name the columns that tell all rows apart"})
		}
	}
	if err := s.compare(ctx, ix, &plan, kind, src); err != nil {
		return err
	}
	p.Indexes = append(p.Indexes, plan)
	return nil
}

// describe lists the tables and fields of the planned documents.
func (p *IndexPlan) describe() {
	p.Nodes, p.Fields = []PlanNode{}, []PlanField{}
	for _, t := range p.shape.Trees {
		for _, n := range t.Nodes {
			node := PlanNode{Rows: t.Name, Path: t.Path(n), Table: n.Table.String(), Kind: "root", Link: n.Link.Words(), Where: n.Where, Order: n.Order, Limit: n.Limit}
			switch {
			case n.Parent < 0:
			case n.List:
				node.Kind = "list"
			case n.Many:
				node.Kind = "many"
			default:
				node.Kind = "one"
			}
			if n.Parent >= 0 {
				node.Parent = t.Path(t.Nodes[n.Parent])
			}
			p.Nodes = append(p.Nodes, node)
			for i, f := range n.Fields {
				p.Fields = append(p.Fields, PlanField{t.Name, t.FieldPath(n, i), f.Type, f.Array || t.Repeated(n), t.Source(n, i), f.Search, f.Match, f.Filter, f.Sort, f.Facet})
			}
		}
	}
}

const (
	sampleRows = 200 // read to estimate sizes
	sampleDocs = 2   // shown
)

// sample builds documents from the first rows of a tree.
func (p *IndexPlan) sample(ctx context.Context, t *shape.Tree, src source.Source) error {
	end, err := src.ChunkEnd(ctx, t, nil, sampleRows)
	if err != nil {
		return err
	}
	set := document.NewSet(t)
	if err := src.ReadRange(ctx, set, nil, end); err != nil {
		if source.DataFault(err) {
			p.Notes = append(p.Notes, fmt.Sprintf("no sample can be built from %s, because of a value in its first rows: %v", t.Root().Table, err))
			return nil
		}
		return err
	}
	rows, bytes := set.Rows(0).Len(), 0
	for row := range rows {
		doc := set.Append(nil, row)
		if bytes += len(doc); row < sampleDocs {
			p.Samples = append(p.Samples, Sample{string(set.AppendKey(nil, row)), doc})
		}
	}
	if rows > 0 {
		n, err := src.Count(ctx, t)
		if err != nil {
			return err
		}
		p.Bytes += int64(float64(bytes) / float64(rows) * float64(n))
	}
	return nil
}

// lost reports whether the engine answers, but without the edition that is fed.
func (st *standing) lost(ctx context.Context) bool {
	if !st.live() {
		return false
	}
	now, err := st.engine.Answering(ctx, st.record.Index)
	return err == nil && !slices.Contains(now, st.record.Name())
}

// compare says what a definition's index would do to the newest edition.
func (s *Service) compare(ctx context.Context, ix *definition.Index, p *IndexPlan, kind string, src source.Source) error {
	say := func(words string) {
		p.Differences = append(p.Differences, shape.Difference{What: words})
	}
	newest, err := s.standing(ctx, ix.Name)
	if err != nil {
		return err
	}
	if newest == nil {
		p.Change, p.Operations = ChangeNew, p.Rows
		return nil
	}
	before, now := newest.record.Shape, s.indexStatus(ix.Name)
	p.Differences = append(p.Differences, shape.Compare(before, p.shape)...)
	if !engine.InPlace(kind, before, p.shape) {
		for i := range p.Differences {
			if p.Differences[i].Path == "" {
				p.Differences[i].InPlace = false
			}
		}
	}
	if newest.record.Engine != ix.Engine {
		say(fmt.Sprintf("goes to engine %s instead of %s", ix.Engine, newest.record.Engine))
	}
	capture, err := src.CaptureStatus(ctx)
	if err != nil {
		return fmt.Errorf("source %s: %w", ix.Source, err)
	}
	if !capture.Installed {
		say("capture was removed, so nobody knows what has changed since")
	}
	if now.Unnoticed {
		say(strings.TrimSuffix(now.Trouble.Message, howToMend))
	} else if capture.Installed {
		gaps, err := src.CaptureGaps(ctx, shape.Capture([]*shape.Shape{before}))
		if err != nil {
			return fmt.Errorf("source %s: %w", ix.Source, err)
		}
		for _, gap := range gaps {
			if !gap.Safe {
				say(gap.Words)
			}
		}
	}
	if p.lost = newest.lost(ctx); p.lost {
		say("the engine has lost the edition " + newest.record.Name())
	}
	switch {
	case len(p.Differences) == 0:
		p.Change = ChangeNone
	case !slices.ContainsFunc(p.Differences, func(d shape.Difference) bool { return !d.InPlace }):
		p.Change = ChangeInPlace
	default:
		p.Change, p.Operations = ChangeReindex, p.Rows
		if live := now.Documents; live != nil && newest.live() && p.Rows*2 < *live {
			p.Guard = fmt.Sprintf("it would have %d documents where %d answer now", p.Rows, *live)
		}
	}
	return nil
}

func (s *Service) planRemoved(ctx context.Context, p *Plan) error {
	names, err := s.indexNames(ctx)
	if err != nil {
		return err
	}
	for _, name := range names {
		if p.definition.Index(name) != nil {
			continue
		}
		st, err := s.standing(ctx, name)
		if err != nil {
			return err
		}
		p.Indexes = append(p.Indexes, IndexPlan{Name: name, Engine: st.record.Engine, Change: ChangeRemoved, Differences: []shape.Difference{}, Nodes: []PlanNode{}, Fields: []PlanField{}, Samples: []Sample{}, Notes: []string{},
			Guard: "it is no longer in the definition, so its changes would not be followed any more"})
	}
	sort.SliceStable(p.Indexes, func(i, j int) bool { return p.Indexes[i].Name < p.Indexes[j].Name })
	return nil
}

// needed unites what the planned shapes and the editions that are fed now need.
func (s *Service) needed(ctx context.Context, p *Plan, source string) ([]shape.Captured, error) {
	shapes, err := s.shapes(ctx, source)
	for _, ix := range p.Indexes {
		if ix.shape != nil && ix.shape.Source == source {
			shapes = append(shapes, ix.shape)
		}
	}
	return shape.Capture(shapes), err
}
