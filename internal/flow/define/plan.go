// Package define checks definitions and puts them in force.
package define

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"sort"
	"strings"
	"sync"
	"time"

	"pingo/internal/api"
	"pingo/internal/core/definition"
	"pingo/internal/core/document"
	"pingo/internal/core/reindex"
	"pingo/internal/core/retry"
	"pingo/internal/core/shape"
	"pingo/internal/engine"
	"pingo/internal/flow/connect"
	"pingo/internal/flow/inspect"
	"pingo/internal/flow/rebuild"
	"pingo/internal/records"
	"pingo/internal/source"
)

// Store is what the records keep of definitions.
type Store interface {
	Apply(ctx context.Context, files []definition.File, engineKinds map[string]string, by string, dropped ...string) (int, error)
	CarriedOut(ctx context.Context, version int) error
	Definition(ctx context.Context) (*records.Applied, error)
	Editions(ctx context.Context) ([]*records.Edition, error)
	NewEdition(
		ctx context.Context,
		s *shape.Shape,
		engine string,
		version int,
		c records.Course,
	) (*records.Edition, error)
	CancelEdition(ctx context.Context, e *records.Edition) error
	Decide(ctx context.Context, e *records.Edition) (bool, error)
	Return(ctx context.Context, e *records.Edition) (bool, error)
	Drop(ctx context.Context, e *records.Edition) (bool, error)
	SetCourse(ctx context.Context, e *records.Edition, c records.Course, what string) (bool, error)
	PauseRebuilds(ctx context.Context, e *records.Edition, paused bool, what string) (bool, error)
	DeleteEdition(ctx context.Context, e *records.Edition) error
	SaveShape(ctx context.Context, e *records.Edition) error
	Exclusively(ctx context.Context, do func() error) error
	TryExclusively(ctx context.Context, do func() error) error
}

// Definer checks and applies definitions.
type Definer struct {
	Records     Store
	Connections *connect.Connections
	Inspector   *inspect.Inspector
	// Service is the identity that journals are claimed under.
	Service string
	// IndexStatus is how an index is now, nil when there is none.
	IndexStatus func(name string) *api.IndexStatus
	// TakeUp makes this process use what is recorded.
	TakeUp func(ctx context.Context) error
	Log    *slog.Logger
	// CheckWithin is how long a check may take; half a minute for 0.
	CheckWithin time.Duration

	applying sync.Mutex // one apply at a time in this process
}

// plan is what applying a definition would do, with what only the service needs.
type plan struct {
	api.Plan
	definition *definition.Definition
	// kinds are those of the engines that were asked for theirs.
	kinds   map[string]string
	sources map[string]*source.Source // opened for the plan
	engines map[string]engine.Engine  // that answer
	indexes []*planned
	need    map[string][]shape.Captured // by source
}

// planned is an index of a plan.
type planned struct {
	api.IndexPlan
	shape *shape.Shape
	// lost: the engine no longer has an edition of it.
	lost bool
	// asWritten: what is different is what the definition says, and nothing that happened.
	asWritten bool
	// takesOver: another program made what has its name in the engine.
	takesOver bool
}

const checkTimeout = 30 * time.Second

// ErrSlow says that a check took too long.
var ErrSlow = errors.New("the check timed out because sources and engines are slow, not because of the definition: try again, or check fewer indexes")

// Check says what applying a definition would do, without touching anything: to the named indexes, or to all; now, or after
// migrations of its sources.
func (d *Definer) Check(ctx context.Context, files api.Files) (*api.Plan, error) {
	s := scope{only: files.Indexes, after: map[string]definition.File{}}
	for name, file := range files.After {
		s.after[name] = definition.File(file)
	}
	p, err := d.plan(ctx, files.Files, s)
	if err != nil {
		return nil, err
	}
	return &p.Plan, nil
}

func filesOf(files []api.File) []definition.File {
	out := make([]definition.File, len(files))
	for i, f := range files {
		out[i] = definition.File(f)
	}
	return out
}

// scope says what a plan is of: of the whole definition, or of some of its indexes.
type scope struct {
	only []string
	// after are migrations by source: the plan is of what their schemas will be.
	after map[string]definition.File
}

func (s scope) whole() bool { return len(s.only) == 0 }

// has reports whether an index is planned, and uses whether one that is planned is of a source or an engine.
func (s scope) has(ix *definition.Index) bool {
	return s.whole() || slices.Contains(s.only, ix.Name)
}

func (s scope) uses(def *definition.Definition, of func(ix *definition.Index) bool) bool {
	return s.whole() || slices.ContainsFunc(def.Indexes, func(ix *definition.Index) bool { return s.has(ix) && of(ix) })
}

// plan plans all that can be planned, so that every mistake is found in one check.
func (d *Definer) plan(ctx context.Context, files []api.File, s scope) (out *plan, err error) {
	p := &plan{
		kinds:   map[string]string{},
		sources: map[string]*source.Source{},
		engines: map[string]engine.Engine{},
		need:    map[string][]shape.Captured{},
		Plan: api.Plan{
			Findings:   []api.Finding{},
			Sources:    []api.Endpoint{},
			Engines:    []api.Endpoint{},
			Indexes:    []api.IndexPlan{},
			Capture:    []api.CapturePlan{},
			Applicable: []string{},
		},
	}
	def, findings := d.Connections.Parse(filesOf(files))
	p.definition, p.Secrets, p.Given = def, append([]string{}, def.References...), d.Connections.Secrets.String()
	for name := range s.after {
		if err := d.canMigrate(def, name); err != nil {
			return nil, err
		}
	}
	for _, name := range s.only {
		if def.Index(name) == nil {
			var known []string
			for _, ix := range def.Indexes {
				known = append(known, ix.Name)
			}
			return nil, &inspect.BadRequest{Err: fmt.Errorf("the definition has no index %q: %s", name, definition.Nearest(name, known))}
		}
	}
	defer func() {
		for _, src := range p.sources {
			src.Close()
		}
		for _, eng := range p.engines {
			eng.Close()
		}
	}()
	within := cmp.Or(d.CheckWithin, checkTimeout)
	ctx, cancel := context.WithTimeoutCause(ctx, within, ErrSlow)
	defer cancel()
	at := "asking the sources and engines"
	defer func() { // what failed then failed for want of time, whatever it says itself
		if context.Cause(ctx) == ErrSlow {
			out, err = nil, fmt.Errorf("%w (after %v, at %s)", ErrSlow, within, at)
		}
	}()
	for _, src := range def.Sources {
		used := s.uses(def, func(ix *definition.Index) bool { return slices.Contains(ix.Sources(), src.Name) })
		if !src.Broken && used {
			p.Sources = append(p.Sources, p.askSource(ctx, d, src))
		}
	}
	for _, eng := range def.Engines {
		if !eng.Broken && s.uses(def, func(ix *definition.Index) bool { return ix.Engine == eng.Name }) {
			p.Engines = append(p.Engines, p.askEngine(ctx, d, eng))
		}
	}
	wrong := map[string]bool{}
	for _, ix := range def.Indexes {
		answer := func(name string) bool { return p.sources[name] != nil }
		if names := ix.Sources(); !s.has(ix) || len(names) == 0 ||
			slices.ContainsFunc(names, func(name string) bool { return !answer(name) }) {
			continue
		}
		at = "index " + ix.Name
		more, err := p.index(ctx, d, ix, s.after)
		if err != nil {
			return nil, err
		}
		findings = append(findings, more.Excluding(findings)...)
		if len(more) > 0 {
			wrong[ix.Name] = true
		}
	}
	if len(s.only) == 0 {
		if err := p.removed(ctx, d); err != nil {
			return nil, err
		}
	}
	for i := range p.Sources {
		if len(s.after) > 0 {
			break // what capture needs then is not known: the tables are not there yet
		}
		if src := p.sources[p.Sources[i].Name]; src != nil {
			at = "what capture needs in source " + p.Sources[i].Name
			if err := p.capture(ctx, d, &p.Sources[i], src); err != nil {
				return nil, fmt.Errorf("source %s: %w", p.Sources[i].Name, err)
			}
		}
	}
	for _, ix := range p.indexes {
		p.Indexes = append(p.Indexes, ix.IndexPlan)
		if !wrong[ix.Name] && ix.Change != api.ChangeNone && ix.shape != nil && p.ready(ix) {
			p.Applicable = append(p.Applicable, ix.Name)
		}
	}
	for _, f := range findings.Sorted() {
		p.Findings = append(
			p.Findings,
			api.Finding{
				At:         api.Position{File: f.Pos.File, Line: f.Pos.Line, Column: f.Pos.Col},
				Message:    f.Message,
				Suggestion: f.Suggestion,
			},
		)
	}
	return p, nil
}

// ready reports whether the sources and the engine of an index answer, and lack no rights.
func (p *plan) ready(ix *planned) bool {
	unready := func(list []api.Endpoint, has func(name string) bool) bool {
		return slices.ContainsFunc(list, func(e api.Endpoint) bool { return has(e.Name) && (!e.Answers || len(e.Missing) > 0) })
	}
	return !unready(p.Sources, func(name string) bool { return slices.Contains(ix.shape.Sources(), name) }) &&
		!unready(p.Engines, func(name string) bool { return name == ix.Engine })
}

// canMigrate reports why a migration of a source cannot be tried.
func (d *Definer) canMigrate(def *definition.Definition, name string) error {
	src := def.Source(name)
	if src == nil {
		var known []string
		for _, s := range def.Sources {
			known = append(known, s.Name)
		}
		return &inspect.BadRequest{Err: fmt.Errorf("the definition has no source %q: %s", name, definition.Nearest(name, known))}
	}
	opened, err := d.Connections.OpenSource(src)
	if err != nil {
		return err
	}
	defer opened.Close()
	if _, can := opened.Reader.(source.Migrator); !can {
		return &inspect.BadRequest{Err: fmt.Errorf(
			"source %s (%s) cannot try a migration and take it back: migrate a copy of the database, and check the definition against the copy", name, src.Kind)}
	}
	return nil
}

func (p *plan) askSource(ctx context.Context, d *Definer, src *definition.Source) api.Endpoint {
	a := api.Endpoint{Name: src.Name, Kind: src.Kind}
	opened, err := d.Connections.OpenSource(src)
	if err == nil {
		if a.Message, err = opened.Describe(ctx); err == nil {
			a.Answers, p.sources[src.Name] = true, opened
			return a
		}
		opened.Close()
	}
	a.Message = err.Error()
	return a
}

// askEngine asks an engine who it is, and also of which kind when the definition does not
// say.
func (p *plan) askEngine(ctx context.Context, d *Definer, eng *definition.Engine) api.Endpoint {
	a := api.Endpoint{Name: eng.Name, Kind: eng.Kind}
	var err error
	if eng.Kind == "" {
		if eng.Kind, err = d.Connections.Recognize(ctx, eng); err == nil {
			a.Kind, a.Recognized, p.kinds[eng.Name] = eng.Kind, true, eng.Kind
		}
	}
	if err == nil {
		var opened engine.Engine
		if opened, err = d.Connections.OpenEngine(eng); err == nil {
			if a.Message, err = opened.Describe(ctx); err == nil {
				p.engines[eng.Name] = opened
			} else {
				opened.Close()
			}
		}
	}
	if a.Answers = err == nil; !a.Answers {
		a.Message = err.Error()
	}
	return a
}

// tried tries an index out on its engine, and gives the engine's words when it refuses it. An
// engine that does not answer refuses nothing.
func (p *plan) tried(ctx context.Context, name string, s *shape.Shape) string {
	trier, can := p.engines[name].(engine.Trier)
	if !can {
		return ""
	}
	err := trier.Try(ctx, s)
	if err == nil || engine.FailureOf(err).Outcome != retry.Blocked {
		return ""
	}
	return fmt.Sprintf("engine %s does not take the index %s: %s", name, s.Index, err)
}

// capture says which tables of a source would be captured, which rights that
// lacks, and what there is to know about them.
func (p *plan) capture(ctx context.Context, d *Definer, answer *api.Endpoint, src *source.Source) error {
	shapes, err := d.Inspector.Shapes(ctx, answer.Name)
	if err != nil {
		return err
	}
	var lookups []shape.Lookup
	for _, ix := range p.indexes {
		if ix.shape == nil {
			continue
		}
		shapes = append(shapes, ix.shape)
		for _, l := range ix.shape.Lookups(answer.Name) {
			if !slices.ContainsFunc(
				lookups,
				func(x shape.Lookup) bool { return x.Table == l.Table && slices.Equal(x.Columns, l.Columns) },
			) {
				lookups = append(lookups, l)
			}
		}
	}
	need := shape.Capture(answer.Name, shapes)
	if len(need) == 0 || src.Capture == nil {
		return nil
	}
	c := api.CapturePlan{Source: answer.Name, Tables: []string{}, Advice: []api.Advice{}}
	for _, t := range need {
		c.Tables = append(c.Tables, src.Named(t.Table))
	}
	if answer.Missing, err = src.Capture.MissingRights(ctx, need); err != nil {
		return err
	}
	advice, err := src.Capture.Advice(ctx, need, lookups)
	if err != nil {
		return err
	}
	for _, a := range advice {
		c.Advice = append(c.Advice, api.Advice(a))
	}
	p.Capture, p.need[answer.Name] = append(p.Capture, c), need
	return nil
}

func (p *plan) index(
	ctx context.Context,
	d *Definer,
	ix *definition.Index,
	after map[string]definition.File,
) (definition.Findings, error) {
	reader := func(name string) source.Reader {
		if migration, is := after[name]; is {
			return source.Migrated{Reader: p.sources[name].Reader, Migration: migration.Text}
		}
		return p.sources[name]
	}
	compiled, findings, err := source.Compile(ctx, ix, reader)
	if wrong := (*source.MigrationError)(nil); errors.As(err, &wrong) {
		for _, name := range ix.Sources() {
			if migration, is := after[name]; is {
				return definition.Findings{{Pos: definition.Pos{File: migration.Name, Line: wrong.Line, Col: 1}, Message: wrong.Reason}}, nil
			}
		}
	}
	if err != nil || len(findings) > 0 || ix.Broken {
		return findings, err
	}
	src := source.Across(compiled, reader)
	fail := func(err error) (definition.Findings, error) {
		return nil, fmt.Errorf("source %s: %w", strings.Join(ix.Sources(), ", "), err)
	}
	out := &planned{
		shape: compiled,
		IndexPlan: api.IndexPlan{
			Name:        ix.Name,
			Engine:      ix.Engine,
			Differences: []api.Difference{},
			Samples:     []api.Sample{},
			Notes:       []string{},
		},
	}
	named := inspect.Named(compiled, p.sources)
	out.describe(named)
	kind := d.Connections.Kinds.Engine(p.definition.Engine(ix.Engine).Kind)
	if kind != nil { // otherwise it does not answer, and what it can do is unknown
		refused, notes := kind.Limits(compiled)
		for _, words := range refused {
			findings = append(
				findings,
				definition.Finding{
					Pos:        ix.EnginePos,
					Message:    words,
					Suggestion: "change it, or give the index to an engine of another kind",
				},
			)
		}
		out.Notes = append(out.Notes, notes...)
	}
	if len(after) > 0 { // there are no such rows yet
		if err := out.compare(ctx, d, ix, kind, p.sources); err != nil {
			return nil, err
		}
		out.Guard, out.AfterMigration = "", true
		p.indexes = append(p.indexes, out)
		return findings, nil
	}
	if out.Rows, err = rebuild.CountRows(ctx, src, compiled); err != nil {
		return fail(err)
	}
	for i, t := range compiled.Trees {
		if err := out.sample(ctx, t, src, named); err != nil {
			return fail(err)
		}
		var followed []string
		for _, f := range t.Root().Follows {
			if len(f.Ways) > 0 {
				followed = append(followed, f.Table.String())
			} else {
				out.Notes = append(
					out.Notes,
					fmt.Sprintf(
						"a change of %s may affect any row of the view %s, so each change rebuilds all its documents",
						f.Table,
						t.Root().Table,
					),
				)
			}
		}
		if len(followed) > 0 {
			out.Notes = append(out.Notes, fmt.Sprintf("a change of %s is followed to the rows of the view %s that it may touch",
				strings.Join(followed, ", "), t.Root().Table))
		}
		for _, n := range t.Nodes[1:] {
			if n.Link.Join != nil && n.Many && !n.Link.Unique() {
				out.Notes = append(out.Notes, fmt.Sprintf(
					"%s may contain duplicates: %s has no unique index on (%s)",
					n.Name, n.Link.Join.Table, strings.Join(slices.Concat(n.Link.Theirs, n.Link.Join.From), ", ")))
			}
		}
		duplicates, err := src.DuplicateKeys(ctx, t)
		if err != nil {
			return fail(err)
		}
		if duplicates > 0 {
			findings = append(
				findings,
				definition.Finding{
					Pos:        ix.Rows[i].KeyPos,
					Suggestion: "name the columns that tell all rows apart",
					Message: fmt.Sprintf(
						"%d rows of %s share their key (%s) with another row",
						duplicates,
						ix.Rows[i].Table,
						strings.Join(t.Root().Key, ", "),
					),
				},
			)
		}
	}
	if err := out.compare(ctx, d, ix, kind, p.sources); err != nil {
		return nil, err
	}
	if out.Change == api.ChangeNew && p.engines[ix.Engine] != nil {
		found, err := out.taken(ctx, ix, p.engines[ix.Engine])
		if err != nil {
			return nil, fmt.Errorf("engine %s: %w", ix.Engine, err)
		}
		findings = append(findings, found...)
	}
	if out.Change != api.ChangeNone && len(findings) == 0 {
		if words := p.tried(ctx, ix.Engine, compiled); words != "" {
			findings = append(findings, definition.Finding{
				Pos:        ix.EnginePos,
				Message:    words,
				Suggestion: "change what the engine does not take: it is in engine_settings or in the fields",
			})
		}
	}
	p.indexes = append(p.indexes, out)
	return findings, nil
}

// taken says what has the name of a new index in the engine already: it goes on answering until the first
// edition is filled, and its place is taken then, if a person says that this is meant.
func (p *planned) taken(ctx context.Context, ix *definition.Index, eng engine.Engine) (definition.Findings, error) {
	names, err := eng.Resolve(ctx, ix.Name)
	if err != nil || len(names) == 0 {
		return nil, err
	}
	if _, can := eng.(engine.NameReplacer); slices.Contains(names, ix.Name) && !can {
		return definition.Findings{{
			Pos:        ix.EnginePos,
			Message:    fmt.Sprintf("engine %s has %s already, and Pingo did not make it", ix.Engine, ix.Name),
			Suggestion: "rename or delete it, or give the index another name",
		}}, nil
	}
	if !slices.ContainsFunc(names, func(name string) bool { return !inspect.MadeLikeEditionOf(ix.Name, name) }) {
		p.Notes = append(p.Notes, fmt.Sprintf(
			"the name leads to %s, which a Pingo made and these records do not know, as after the index was given up: it answers until the new edition is filled, and stays in the engine then (pingo leftovers)",
			strings.Join(names, ", "),
		))
		return nil, nil
	}
	n, err := eng.Count(ctx, ix.Name)
	if err != nil {
		return nil, err
	}
	p.takesOver = true
	p.Guard = fmt.Sprintf(
		"the name leads to %s with %d documents, which Pingo did not make: it answers until the new edition is filled, and stays in the engine then",
		strings.Join(names, ", "),
		n,
	)
	if slices.Contains(names, ix.Name) {
		p.Guard = fmt.Sprintf(
			"the engine has an index %s with %d documents that Pingo did not make: it answers until the new edition is filled, and is deleted then",
			ix.Name,
			n,
		)
	}
	return nil, nil
}

// describe lists the tables and fields of the planned documents.
func (p *planned) describe(named func(n *shape.Node) string) {
	p.Nodes, p.Fields = []api.PlanNode{}, []api.PlanField{}
	for _, t := range p.shape.Trees {
		for _, n := range t.Nodes {
			node := api.PlanNode{
				Rows:  t.Name,
				Path:  t.Path(n),
				Table: named(n),
				Kind:  "root",
				Link:  n.Link.Words(),
				Where: n.Where,
				Order: n.Order,
				Limit: n.Limit,
			}
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
				p.Fields = append(
					p.Fields,
					api.PlanField{
						Rows:   t.Name,
						Path:   t.FieldPath(n, i),
						Type:   string(f.Type),
						List:   f.Array || t.Repeated(n),
						From:   t.Source(n, i, named),
						Search: f.Search,
						Match:  string(f.Match),
						Filter: f.Filter,
						Sort:   f.Sort,
						Facet:  f.Facet,
					},
				)
			}
		}
	}
}

const (
	sampleRows = 200 // read to estimate sizes
	sampleDocs = 2   // shown
)

// sample builds documents from the first rows of a tree.
func (p *planned) sample(
	ctx context.Context,
	t *shape.Tree,
	src source.Reader,
	named func(n *shape.Node) string,
) error {
	end, err := src.ChunkEnd(ctx, t, nil, sampleRows)
	if err != nil {
		return err
	}
	set := document.NewSet(t)
	if err := src.ReadRange(ctx, set, nil, end); err != nil {
		if source.FaultOf(err) == source.BadValue {
			p.Notes = append(
				p.Notes,
				fmt.Sprintf(
					"no sample can be built from %s, because of a value in its first rows: %v",
					named(t.Root()),
					err,
				),
			)
			return nil
		}
		return err
	}
	rows, bytes := set.Rows(0).Len(), 0
	for row := range rows {
		doc := set.Append(nil, row)
		if bytes += len(doc); row < sampleDocs {
			p.Samples = append(p.Samples, api.Sample{Key: string(set.AppendKey(nil, row)), Document: doc})
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

// compare says what a definition's index would do to the newest edition.
func (p *planned) compare(
	ctx context.Context,
	d *Definer,
	ix *definition.Index,
	kind *engine.Kind,
	sources map[string]*source.Source,
) error {
	say := func(words string) { p.Differences = append(p.Differences, api.Difference{What: words}) }
	newest, err := d.Inspector.Newest(ctx, ix.Name)
	if err != nil {
		return err
	}
	if newest == nil {
		p.Change, p.Operations = api.ChangeNew, p.Rows
		return nil
	}
	before, now, missed := newest.Record.Shape, d.IndexStatus(ix.Name), newest.Record.Missed
	inPlace := kind != nil && kind.InPlace(before, p.shape)
	for _, diff := range shape.Compare(before, p.shape) {
		// The engine decides about settings of the index as a whole.
		diff.InPlace = diff.InPlace && (diff.Path != "" || inPlace)
		p.Differences = append(p.Differences, api.Difference(diff))
	}
	if newest.Record.Engine != ix.Engine {
		say(fmt.Sprintf("goes to engine %s instead of %s", ix.Engine, newest.Record.Engine))
	}
	written := len(p.Differences)
	if err := compareCapture(ctx, before, missed, sources, say); err != nil {
		return err
	}
	if p.lost = d.lost(ctx, newest); p.lost {
		say("the engine has lost the edition " + newest.Record.Name())
	}
	p.asWritten = len(p.Differences) == written
	switch {
	case len(p.Differences) == 0:
		p.Change = api.ChangeNone
	case !slices.ContainsFunc(p.Differences, func(d api.Difference) bool { return !d.InPlace }):
		p.Change = api.ChangeInPlace
	default:
		p.Change, p.Operations = api.ChangeReindex, p.Rows
		if now != nil && now.Documents != nil && newest.Live() && p.Rows*2 < *now.Documents {
			p.Guard = fmt.Sprintf("it would have %d documents where %d answer now", p.Rows, *now.Documents)
		}
	}
	return nil
}

// compareCapture says why changes may have gone unnoticed for a live edition. sources are those of the
// definition that is checked, by name.
func compareCapture(
	ctx context.Context,
	live *shape.Shape,
	missed *records.Missed,
	sources map[string]*source.Source,
	say func(string),
) error {
	installed := true
	for _, name := range live.Sources() {
		if sources[name] == nil || sources[name].Capture == nil {
			continue
		}
		status, err := sources[name].Capture.Status(ctx)
		if err != nil {
			return fmt.Errorf("source %s: %w", name, err)
		}
		if !status.Installed {
			say("capture was removed, so changes since then are unknown")
			installed = false
		}
	}
	if !installed {
		return nil
	}
	if missed != nil && !missed.Refill { // else that is under way
		say(missed.Reason)
		return nil
	}
	for _, name := range live.Sources() {
		if sources[name] == nil || sources[name].Capture == nil {
			continue
		}
		gaps, err := sources[name].Capture.Gaps(ctx, shape.Capture(name, []*shape.Shape{live}))
		if err != nil {
			return fmt.Errorf("source %s: %w", name, err)
		}
		for _, gap := range gaps {
			if !gap.Safe {
				say(gap.Reason)
			}
		}
	}
	return nil
}

// lost reports whether the engine answers, but with no edition of an index that the records know. While
// one takes the place of another, the name may lead to the one a moment before the records say so, so
// what is not known is read again.
func (d *Definer) lost(ctx context.Context, e *inspect.Edition) bool {
	if !e.Live() {
		return false
	}
	for range 3 {
		names, err := e.Engine.Resolve(ctx, e.Record.Index)
		if err != nil {
			return false
		}
		known, err := d.Records.Editions(ctx)
		if err != nil {
			return false
		}
		for _, k := range known {
			if k.Index == e.Record.Index && k.State != reindex.Cancelled && slices.Contains(names, k.Name()) {
				return false
			}
		}
		if !retry.Sleep(ctx, 100*time.Millisecond) {
			return false
		}
	}
	return true
}

func (p *plan) removed(ctx context.Context, d *Definer) error {
	names, err := d.Inspector.Indexes(ctx)
	if err != nil {
		return err
	}
	for _, name := range names {
		if p.definition.Index(name) != nil {
			continue
		}
		e, err := d.Inspector.Newest(ctx, name)
		if err != nil {
			return err
		}
		p.indexes = append(
			p.indexes,
			&planned{
				IndexPlan: api.IndexPlan{
					Name:        name,
					Engine:      e.Record.Engine,
					Change:      api.ChangeRemoved,
					Differences: []api.Difference{},
					Nodes:       []api.PlanNode{},
					Fields:      []api.PlanField{},
					Samples:     []api.Sample{},
					Notes:       []string{},
					Guard:       "the definition no longer has it, so Pingo would stop updating it",
				},
			},
		)
	}
	sort.SliceStable(p.indexes, func(i, j int) bool { return p.indexes[i].Name < p.indexes[j].Name })
	return nil
}
