// Package api is the plain types of what Pingo's API takes and gives. It imports nothing
// of ours, so that clients need nothing else. openapi.yaml describes the same types.
package api

import (
	_ "embed"
	"encoding/json"
	"fmt"
	"time"
)

// OpenAPI is the OpenAPI 3.1 document, in YAML.
//
//go:embed openapi.yaml
var OpenAPI []byte

// File is one definition file: its name as shown in findings, and its text.
type File struct {
	Name string `json:"name"`
	Text string `json:"text"`
}

// Position is a place in a definition file; lines and columns count from 1.
type Position struct {
	File   string `json:"file"`
	Line   int    `json:"line"`
	Column int    `json:"column"`
}

// Finding is one thing wrong with a definition.
type Finding struct {
	At      Position `json:"at"`
	Message string   `json:"message"`
	// Suggestion is what to do about it, or the nearest known word.
	Suggestion string `json:"suggestion,omitempty"`
}

func (f Finding) String() string {
	s := fmt.Sprintf("%s:%d:%d: %s", f.At.File, f.At.Line, f.At.Column, f.Message)
	if f.Suggestion != "" {
		s += " — " + f.Suggestion
	}
	return s
}

// Files is a definition that is checked or applied.
type Files struct {
	Files []File `json:"files"`
	// Source names the source whose capture is asked for; only for capture-script.
	Source string `json:"source,omitempty"`
	// Accept names the indexes whose guarded changes are intended; only for apply.
	Accept []string `json:"accept,omitempty"`
	// After are migrations by source, as SQL; only for check: the plan is for the schemas after them, and nothing of them stays.
	After map[string]File `json:"after,omitempty"`
	// Indexes are those that are checked or taken from the files, all when empty; not for capture-script.
	Indexes []string `json:"indexes,omitempty"`
}

// Problem is an error as RFC 9457 has it.
type Problem struct {
	// Type is a URN that names the sort of problem.
	Type   string `json:"type,omitempty"`
	Title  string `json:"title"`
	Status int    `json:"status"`
	// Detail says what happened and what to do.
	Detail   string    `json:"detail,omitempty"`
	Findings []Finding `json:"findings,omitempty"`
	Plan     *Plan     `json:"plan,omitempty"`
}

func (p *Problem) Error() string {
	if p.Detail == "" {
		return p.Title
	}
	return p.Detail
}

// The states of an index, from good to bad.
const (
	StateInSync     = "in sync"     // every noticed change is acknowledged
	StateCatchingUp = "catching up" // changes have been pending for longer than usual
	StateFilling    = "filling"     // no edition answers yet, or a new one is being filled
	StateDiffers    = "differs"     // documents are known not to be what their rows make
	StateWaiting    = "waiting"     // something does not answer; tried again by itself
	StateBlocked    = "blocked"     // a person must fix something; continues by itself afterwards
	StateEmpty      = "empty"       // of the service: there is no index yet
)

// States lists the states of an index, from good to bad.
var States = []string{StateInSync, StateCatchingUp, StateFilling, StateDiffers, StateWaiting, StateBlocked}

// Status is what goes on. Times are in milliseconds unless they are points in time.
type Status struct {
	At time.Time `json:"at"`
	// State is the worst of all indexes, or empty.
	State    string         `json:"state"             enum:"in sync,catching up,filling,differs,waiting,blocked,empty"`
	Sentence string         `json:"sentence"`
	Version  int            `json:"definitionVersion"`
	Trouble  *Trouble       `json:"trouble,omitempty"`
	Indexes  []IndexStatus  `json:"indexes"`
	Sources  []SourceStatus `json:"sources"`
	// Engines are as the process that answers meets them.
	Engines []EngineStatus `json:"engines"`
	// Processes are all pingo serve on the same records.
	Processes []ProcessStatus `json:"processes"`
}

// Index finds an index by name, nil when there is none.
func (s *Status) Index(name string) *IndexStatus {
	for i := range s.Indexes {
		if s.Indexes[i].Name == name {
			return &s.Indexes[i]
		}
	}
	return nil
}

// Trouble is why something does not go on, in a sentence with what to do.
type Trouble struct {
	Since   time.Time `json:"since"`
	Message string    `json:"message"`
	// Blocked: it waits until a person fixes the cause, and then continues by itself.
	// Otherwise it is tried again until it works.
	Blocked bool `json:"blocked"`
}

// ProcessStatus is one pingo serve.
type ProcessStatus struct {
	Address   string    `json:"address"`
	StartedAt time.Time `json:"startedAt"`
	// Current: this process gave the answer.
	Current bool `json:"current"`
	// Sources are those whose indexes it feeds.
	Sources []string `json:"sources"`
	// ClockAheadMS is by how much the clock of the process that answers is ahead of the records database's, if that is more
	// than five seconds.
	ClockAheadMS int64 `json:"clockAheadMs,omitempty"`
}

// IndexStatus is one index.
type IndexStatus struct {
	Name string `json:"name"`
	// Source has its first rows; Sources are all that its documents are made from.
	Source  string   `json:"source"`
	Sources []string `json:"sources"`
	Engine  string   `json:"engine"`
	Edition string   `json:"edition"`
	// Definition is the version that it is made by, and Previous the edition that answered before and
	// can again.
	Definition int    `json:"definition"`
	Previous   string `json:"previous,omitempty"`
	State      string `json:"state"               enum:"in sync,catching up,filling,differs,waiting,blocked"`
	Sentence   string `json:"sentence"`
	// Live: the public name answers from a complete edition.
	Live bool `json:"live"`
	// Rows in the source that have documents, and Documents that searches find;
	// null until they were counted, CountedAt and DocumentsCountedAt when.
	Rows               *int64     `json:"rows"`
	Documents          *int64     `json:"documents"`
	CountedAt          *time.Time `json:"countedAt,omitempty"`
	DocumentsCountedAt *time.Time `json:"documentsCountedAt,omitempty"`
	// Recounting: the two counts differ, and nothing is known that explains it.
	Recounting bool `json:"recounting,omitempty"`
	// Failed documents, and keys that are Waiting to be delivered.
	Failed  int64 `json:"failed"`
	Waiting int   `json:"waiting"`
	// Rebuild is there while all documents are built again, since a change touches most of them.
	Rebuild *Rebuild `json:"rebuild,omitempty"`
	// LagMS is the age of the oldest change that is not acknowledged, 0 when there is
	// none; Lag are percentiles over the last changes.
	LagMS float64     `json:"lagMs"`
	Lag   Percentiles `json:"lag"`
	// LagTotals counts the changes since the process that feeds the index began with it, by their lag.
	LagTotals *LagTotals `json:"lagTotals,omitempty"`
	// Built are documents made of rows or found to be gone, Delivered those that the
	// engine took, Unchanged those not sent because it has the same already, Refused its
	// answers that refused one; all since the process that feeds the index began with it.
	Built     int64 `json:"built"`
	Delivered int64 `json:"delivered"`
	Unchanged int64 `json:"unchanged"`
	Refused   int64 `json:"refused"`
	// PerSecond is documents delivered a second in the last ten seconds, Minute those of each second of the last minute.
	PerSecond float64     `json:"perSecond"`
	Minute    []int64     `json:"minute"`
	Fill      *FillStatus `json:"fill,omitempty"`
	Trouble   *Trouble    `json:"trouble,omitempty"`
	// ReadAt is when all changes of the source were last read; missing until then.
	ReadAt *time.Time `json:"readAt,omitempty"`
	// Unnoticed: changes may be missing, which only another edition corrects.
	Unnoticed bool `json:"unnoticed,omitempty"`
	// Drift is how much of the edition that answers was compared with its rows; missing when none does.
	Drift *DriftStatus `json:"drift,omitempty"`
}

// Percentiles of the lag of the last changes, of the last five minutes and at most 1,024, in milliseconds.
type Percentiles struct {
	Changes int     `json:"changes"` // how many they are made from
	P50     float64 `json:"p50"`
	P95     float64 `json:"p95"`
	P99     float64 `json:"p99"`
}

// SourceStatus is one source.
type SourceStatus struct {
	Name string `json:"name"`
	// Kind and Capture are what the definition says of it.
	Kind    string `json:"kind"`
	Capture string `json:"capture"`
	// CannotSee says what this way of noticing changes does not notice, in sentences.
	CannotSee []string `json:"cannotSee"`
	// Receives: events are sent to it, or pass through Pingo's own database, so it has receipts.
	Receives bool `json:"receives,omitempty"`
	// InFlight are changes that were read and are not done, OldestAt when the oldest of
	// them was made.
	InFlight  int        `json:"inFlight"`
	OldestAt  *time.Time `json:"oldestAt,omitempty"`
	Noticed   int64      `json:"noticed"`
	PerSecond float64    `json:"perSecond"`
	Minute    []int64    `json:"minute"`
	Trouble   *Trouble   `json:"trouble,omitempty"`
	// ReadAt is when all of its changes were last read; missing until then.
	ReadAt *time.Time `json:"readAt,omitempty"`
	// Journal is what the source's journal holds; missing until it was measured.
	Journal *JournalStatus `json:"journal,omitempty"`
}

// Disconnect asks Pingo to close its connections to a source for a time.
type Disconnect struct {
	// Seconds is for how long, at most 86400.
	Seconds int `json:"seconds"`
}

// Disconnected is until when no process connects to a source.
type Disconnected struct {
	Source string    `json:"source"`
	Until  time.Time `json:"until"`
	// Indexes are those that wait until then.
	Indexes []string `json:"indexes"`
}

// JournalStatus is how deep a journal is, how fast it grows, and how much it may hold.
type JournalStatus struct {
	Changes int64      `json:"changes"`
	Oldest  *time.Time `json:"oldest,omitempty"`
	Bytes   int64      `json:"bytes"`
	// GrowsPerSecond is the growth in changes a second over the last minute; below 0
	// while it shrinks.
	GrowsPerSecond float64   `json:"growsPerSecond"`
	LimitBytes     int64     `json:"limitBytes"`
	MeasuredAt     time.Time `json:"measuredAt"`
	// Warning is there while it is larger than its limit.
	Warning string `json:"warning,omitempty"`
}

// EngineStatus is one engine, as the deliveries of a process meet it.
type EngineStatus struct {
	Name string `json:"name"`
	// RequestsAllowed is how many requests may be under way: fewer while it is busy.
	RequestsAllowed int `json:"requestsAllowed"`
	// Trouble is there while it does not answer; its indexes wait, and only one request
	// now and then looks whether it is back.
	Trouble *Trouble `json:"trouble,omitempty"`
}

// Plan says what applying a definition would do. With findings, it would be refused.
type Plan struct {
	Findings []Finding   `json:"findings"`
	Sources  []Endpoint  `json:"sources"`
	Engines  []Endpoint  `json:"engines"`
	Indexes  []IndexPlan `json:"indexes"`
	// Capture lists, by source, the tables whose changes would be noticed.
	Capture []CapturePlan `json:"capture"`
	// Applicable are the indexes that change and that nothing stands against, also where the definition as a whole is refused.
	Applicable []string `json:"applicable"`
	// Secrets are what the definition refers to, as it is written: ${NAME}, ${file:path}.
	Secrets []string `json:"secrets"`
	// Given says what this service gives to definitions.
	Given string `json:"given"`
}

// Refused reports whether the definition cannot be applied.
func (p *Plan) Refused() bool { return p.Reason() != "" }

// Reason is the first thing that stands against applying; empty when nothing does.
func (p *Plan) Reason() string {
	if wrong := p.Wrong(); wrong != "" {
		return wrong
	}
	for _, s := range p.Sources {
		if len(s.Missing) > 0 {
			return fmt.Sprintf("Pingo lacks rights in source %s: %s", s.Name, s.Missing[0])
		}
	}
	return ""
}

// Wrong is what stands against the definition itself, whatever Pingo may do.
func (p *Plan) Wrong() string {
	for _, list := range [][]Endpoint{p.Sources, p.Engines} {
		for _, e := range list {
			if !e.Answers {
				return e.Message
			}
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
	for _, ix := range p.Indexes {
		if ix.Change != ChangeNone && ix.Change != ChangeInPlace {
			return true
		}
	}
	return false
}

// Endpoint says whether a source or engine answers, and as what.
type Endpoint struct {
	Name string `json:"name"`
	Kind string `json:"kind"`
	// Recognized: the definition does not name the kind, so Pingo asked.
	Recognized bool `json:"recognized,omitempty"`
	Answers    bool `json:"answers"`
	// Message is what answered, or why nothing did.
	Message string `json:"message"`
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
	Change string `json:"change"          enum:"new,unchanged,in place,reindex,removed"`
	// Differences to what is live, one by one.
	Differences []Difference `json:"differences"`
	// Guard says why the change must be accepted by the index's name; empty when it
	// need not be.
	Guard string `json:"guard,omitempty"`
	// AfterMigration: the plan is for the schema after a migration, so no rows were read.
	AfterMigration bool  `json:"afterMigration,omitempty"`
	Rows           int64 `json:"rows"`
	// Bytes estimates the size of all documents by the first of them, and Operations
	// is how many documents would be sent.
	Bytes      int64       `json:"bytes"`
	Operations int64       `json:"operations"`
	Nodes      []PlanNode  `json:"nodes"`
	Fields     []PlanField `json:"fields"`
	Samples    []Sample    `json:"samples"`
	// Notes are what the engine cannot do as asked, and what changes would cost.
	Notes []string `json:"notes"`
}

// Difference is one way in which a definition's index differs from what is live.
type Difference struct {
	// Path is the field or related table, empty for the index as a whole.
	Path string `json:"path,omitempty"`
	What string `json:"what"`
	// InPlace: a live edition can take it up without a refill.
	InPlace bool `json:"inPlace"`
}

// PlanNode is one table of an index's documents.
type PlanNode struct {
	Rows   string `json:"rows,omitempty"` // which of an index's several rows it belongs to
	Path   string `json:"path"`           // the path in documents; empty for a root
	Parent string `json:"parent"`
	Table  string `json:"table"`
	Kind   string `json:"kind"            enum:"root,one,many,list"`
	Link   string `json:"link,omitempty"`
	Where  string `json:"where,omitempty"`
	Order  string `json:"order,omitempty"`
	Limit  int    `json:"limit,omitempty"`
}

// PlanField is one field of the documents.
type PlanField struct {
	Rows string `json:"rows,omitempty"`
	Path string `json:"path"`
	Type string `json:"type"`
	List bool   `json:"list,omitempty"`
	// From is the column, expression or fields that it is made of.
	From   string  `json:"from"`
	Search float64 `json:"search,omitempty"`
	Match  string  `json:"match,omitempty"`
	Filter bool    `json:"filter,omitempty"`
	Sort   bool    `json:"sort,omitempty"`
	Facet  bool    `json:"facet,omitempty"`
}

// TypeName is the field's type as people read it.
func (f *PlanField) TypeName() string { return typeName(f.Type, f.List) }

func typeName(kind string, list bool) string {
	if list {
		return "list of " + kind
	}
	return kind
}

// Sample is a document built from a real row.
type Sample struct {
	Key      string          `json:"key"`
	Document json.RawMessage `json:"document"`
}

// CapturePlan is what one source would have to note.
type CapturePlan struct {
	Source string   `json:"source"`
	Tables []string `json:"tables"`
	// Advice is what a developer should know about the tables that are read.
	Advice []Advice `json:"advice"`
}

// Advice is something about a source that a developer should know, with the statement
// that fixes it where there is one.
type Advice struct {
	Kind      string `json:"kind"`
	Table     string `json:"table"`
	Message   string `json:"message"`
	Statement string `json:"statement,omitempty"`
}

// Applied is the answer to applying a definition.
type Applied struct {
	Version int   `json:"version"`
	Plan    *Plan `json:"plan"`
}

// Shown reports whether a status shows editions of this version for all indexes that get new ones.
func (a *Applied) Shown(s *Status) bool {
	if a.Plan == nil {
		return true
	}
	for _, p := range a.Plan.Indexes {
		ix := s.Index(p.Name)
		if (p.Change == ChangeNew || p.Change == ChangeReindex) && (ix == nil || ix.Definition != a.Version) {
			return false
		}
	}
	return true
}

// DefinitionVersion is one version of the definition.
type DefinitionVersion struct {
	Version int `json:"version"`
	// Files are left out of lists.
	Files     []File    `json:"files,omitempty"`
	AppliedAt time.Time `json:"appliedAt"`
	AppliedBy string    `json:"appliedBy"`
	// CarriedOut: its editions were all recorded.
	CarriedOut bool `json:"carriedOut"`
}

// Script is what is to be run in a source.
type Script struct {
	Script string `json:"script"`
}

// CaptureRemoval says what removing capture does, or did, to a source's indexes.
type CaptureRemoval struct {
	Source string `json:"source"`
	// Database is the url of the source, as the definition has it.
	Database string `json:"database,omitempty"`
	// Indexes are no longer kept in sync, and must be refilled later.
	Indexes []string `json:"indexes"`
	// Changes waited in the journal, and are no longer followed.
	Changes int64 `json:"changes"`
	// Script is what takes it away; empty when there is nothing to take away.
	Script string `json:"script"`
	// Missing says why it is not known what there is to take away; only in an export.
	Missing string `json:"missing,omitempty"`
}

// IndexRemoval says what dropping an index deletes, or deleted.
type IndexRemoval struct {
	Index  string `json:"index"`
	Engine string `json:"engine"`
	// Editions are deleted in the engine. The public name leads to the one that answers, and goes with it.
	Editions []HeldEdition `json:"editions"`
	// Sources have tables that no other index reads.
	Sources []SourceRelease `json:"sources"`
	// Version is that of the definition without the index; 0 in a plan.
	Version int `json:"version,omitempty"`
	// Pending says what is not deleted yet, and why; empty when everything is.
	Pending string `json:"pending,omitempty"`
	// Script is SQL that deletes the rest in a source, where Pingo's role may not.
	Script string `json:"script,omitempty"`
}

// SourceRelease lists tables of a source whose changes are no longer captured.
type SourceRelease struct {
	Source string   `json:"source"`
	Tables []string `json:"tables"`
	// All: no index reads the source any longer, so its whole capture is removed.
	All bool `json:"all"`
}

// Preview is a document as it would be built now, and the one in the engine.
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
	// Verdict says what this comes to.
	Verdict string `json:"verdict"`
	// Origins say where each value comes from.
	Origins []FieldOrigin `json:"origins"`
}

// FieldOrigin is the column, expression or fields that a field is made of.
type FieldOrigin struct {
	Path string `json:"path"`
	From string `json:"from"`
	Type string `json:"type"`
	List bool   `json:"list,omitempty"`
}

// TypeName is the field's type as people read it.
func (o *FieldOrigin) TypeName() string { return typeName(o.Type, o.List) }

// Query is a search. Every word of Text is found in some searched field, as the field
// matches, and words in quotation marks next to each other; without text it finds all documents.
type Query struct {
	Text    string
	Any     bool     // one of the words is enough
	Filters []string // FIELD=VALUE, FIELD>=VALUE and so on
	Sort    []string // FIELD, or -FIELD for downwards
	Facets  []string // fields whose values are counted over all that is found
	Limit   int
	// Edition is searched instead of the one that answers, when it is named.
	Edition string
}

// Waited says whether searches find what was committed before the request.
type Waited struct {
	Index string `json:"index"`
	Found bool   `json:"found"`
	// Milliseconds is how long that took.
	Milliseconds int64 `json:"milliseconds"`
	// WaitsFor says in a sentence what is still waited for, when not all is found.
	WaitsFor string `json:"waitsFor,omitempty"`
}

// Leftover is an edition in an engine that the records do not know.
type Leftover struct {
	Engine    string `json:"engine"`
	Edition   string `json:"edition"`
	Documents int64  `json:"documents"`
	// Answers is the public name under which it still answers, if it does.
	Answers string `json:"answers,omitempty"`
}

// HookReply is what a request with events is answered with.
type HookReply struct {
	Accepted int `json:"accepted"`
	// Duplicate events were accepted before, and Old ones are older than what is here.
	Duplicate int `json:"duplicate,omitempty"`
	Old       int `json:"old,omitempty"`
	Refused   int `json:"refused,omitempty"`
	// Receipts are those of events that were refused, up to a hundred.
	Receipts []Receipt `json:"receipts"`
}

// Receipt is the outcome of one event.
type Receipt struct {
	Number int64     `json:"number,omitempty"`
	At     time.Time `json:"at"`
	// Event is what the sender calls it.
	Event  string `json:"event,omitempty"`
	Record string `json:"record,omitempty"`
	Key    string `json:"key,omitempty"`
	// Op is created, updated, merged or deleted.
	Op string `json:"op,omitempty"`
	// Outcome is accepted, duplicate, old, unreadable, bad-signature, out-of-time, too-large or
	// too-many.
	Outcome string `json:"outcome"`
	Reason  string `json:"reason,omitempty"`
	Bytes   int64  `json:"bytes"`
	// Line is that of the file that was loaded.
	Line int64 `json:"line,omitempty"`
	// Events is how many were accepted together, where it is more than one.
	Events int `json:"events,omitempty"`
}

// HeldRecord is what is held of the records of one name.
type HeldRecord struct {
	Record string `json:"record"`
	Rows   int64  `json:"rows"`
	// Deleted ones are remembered for some days.
	Deleted int64      `json:"deleted"`
	Newest  *time.Time `json:"newest,omitempty"`
}

// Sign asks for the headers of a signed request.
type Sign struct {
	Event string `json:"event"`
	Body  string `json:"body"`
}

// Signed are the headers of a signed request.
type Signed struct {
	Headers map[string]string `json:"headers"`
}

// LoadedRow is one row of a file: its line, and a JSON object.
type LoadedRow struct {
	Line int64           `json:"line"`
	Body json.RawMessage `json:"body"`
}

// Load is rows of a file.
type Load struct {
	Rows []LoadedRow `json:"rows"`
}

// Loaded is the outcome of loaded rows.
type Loaded struct {
	Accepted int `json:"accepted"`
	// Old rows are older than what is here.
	Old     int       `json:"old,omitempty"`
	Refused []Receipt `json:"refused"`
}

// LoadBegun is when the load of a whole listing began.
type LoadBegun struct {
	Record string    `json:"record"`
	At     time.Time `json:"at"`
}

// MaxHits is how many documents a search may return.
const MaxHits = 100

// Hits is what a search found.
type Hits struct {
	Total  int64                   `json:"total"`
	Hits   []Hit                   `json:"hits"`
	Facets map[string][]FacetValue `json:"facets,omitempty"`
}

// FacetValue is a value and in how many of the documents found it stands.
type FacetValue struct {
	Value     string `json:"value"`
	Documents int64  `json:"documents"`
}

// Hit is one document found.
type Hit struct {
	Key      string          `json:"key"`
	Score    float64         `json:"score"`
	Document json.RawMessage `json:"document"`
}

// ChangeTrace says which documents a change of one row would touch.
type ChangeTrace struct {
	Source  string       `json:"source"`
	Table   string       `json:"table"`
	Key     string       `json:"key"`
	Indexes []IndexTrace `json:"indexes"`
}

// IndexTrace is what a change of a row would touch of one index.
type IndexTrace struct {
	Index string `json:"index"`
	// Documents that would be rebuilt, and the first of their Keys.
	Documents int64    `json:"documents"`
	Keys      []string `json:"keys"`
	// Everything: any document may be touched, so all of them would be built.
	Everything bool   `json:"everything"`
	Verdict    string `json:"verdict"`
}

// RecentChange is a change and its outcome.
type RecentChange struct {
	At    time.Time `json:"at"`
	Op    string    `json:"op"        enum:"insert,update,delete,truncate,unknown"`
	Table string    `json:"table"`
	Key   string    `json:"key"`
	// The number of documents that it touched, by their outcome.
	Sent      int64 `json:"sent"`
	Deleted   int64 `json:"deleted"`
	Unchanged int64 `json:"unchanged"`
	Refused   int64 `json:"refused"`
	Backlog   int64 `json:"backlog"`
	// LagMS is from its commit until everything that it touched was acknowledged, or
	// written to the backlog; null while it is not.
	LagMS  *float64 `json:"lagMs"`
	Result string   `json:"result"`
}

// LagTotals counts changes by their lag.
type LagTotals struct {
	// Counts are for the upper bounds 0.01, 0.025, 0.05, 0.1, 0.25, 0.5, 1, 2.5, 5, 10, 30, 60, 300 and 1800 seconds, each
	// without those of the bound before, and the last for all beyond.
	Counts []int64 `json:"counts"`
	// Seconds is the lag of all together.
	Seconds float64 `json:"seconds"`
}

// HistoryPoint is how an index was during the time until it was taken.
type HistoryPoint struct {
	At  time.Time   `json:"at"`
	Lag Percentiles `json:"lag"`
	// LagTotals counts all changes since the process began to feed the index, by their lag.
	LagTotals *LagTotals `json:"lagTotals,omitempty"`
	// OldestMS is the age of the oldest change that was not acknowledged.
	OldestMS float64 `json:"oldestMs"`
	Waiting  int     `json:"waiting"`
	// Documents a second that the engine took, had already, and refused.
	Delivered float64 `json:"delivered"`
	Unchanged float64 `json:"unchanged"`
	Refused   float64 `json:"refused"`
	// Noticed are changes of the source a second, Journal changes in its journal.
	Noticed float64 `json:"noticed"`
	Journal int64   `json:"journal"`
}

// FailedGroup is all failed documents of an index with one cause, explained.
type FailedGroup struct {
	Index string `json:"index"`
	// Cause is the same for the same cause, and short.
	Cause string `json:"cause"`
	Kind  string `json:"kind"`
	// Pattern is the engine's words without what differs from document to document.
	Pattern string `json:"pattern"`
	// Field is the document's field at fault, as far as the words tell.
	Field       string    `json:"field,omitempty"`
	Explanation string    `json:"explanation"`
	Documents   int64     `json:"documents"`
	FirstAt     time.Time `json:"firstAt"`
	LastAt      time.Time `json:"lastAt"`
}

// FailedDocument is a document that an engine refused.
type FailedDocument struct {
	Index    string    `json:"index"`
	Edition  int       `json:"edition"`
	Key      string    `json:"key"`
	Kind     string    `json:"kind"`
	Reason   string    `json:"reason"` // the engine's words
	Cause    string    `json:"cause"`
	Attempts int       `json:"attempts"`
	FirstAt  time.Time `json:"firstAt"`
	LastAt   time.Time `json:"lastAt"`
}

// FailedDetail is a failed document as it was sent, explained, and what happened since.
type FailedDetail struct {
	FailedDocument
	// Field is the one at fault, as far as the words tell.
	Field       string `json:"field,omitempty"`
	Explanation string `json:"explanation"`
	// Document as it was sent; null when none could be built.
	Document json.RawMessage `json:"document"`
	// Now is what the row makes now, and what the engine has.
	Now     *Preview `json:"now,omitempty"`
	Verdict string   `json:"verdict"`
}

// FailedSelection names failed documents: by key, by cause, or all of an index.
type FailedSelection struct {
	Keys  []string `json:"keys,omitempty"`
	Cause string   `json:"cause,omitempty"`
	All   bool     `json:"all,omitempty"`
}

// DocumentCount is how many documents something was done to.
type DocumentCount struct {
	Documents int `json:"documents"`
}

// The roles, from least to most: a viewer sees everything, an operator repairs, an
// admin changes definitions, captures and tokens.
const (
	RoleViewer   = "viewer"
	RoleOperator = "operator"
	RoleAdmin    = "admin"
)

// Roles lists the roles in order.
var Roles = []string{RoleViewer, RoleOperator, RoleAdmin}

// Token is a right to use the API; the token itself is not kept.
type Token struct {
	Name      string     `json:"name"`
	Role      string     `json:"role"             enum:"viewer,operator,admin"`
	CreatedAt time.Time  `json:"createdAt"`
	UsedAt    *time.Time `json:"usedAt,omitempty"` // to the minute
	ExpiresAt *time.Time `json:"expiresAt,omitempty"`
}

// NewToken asks for a token.
type NewToken struct {
	Name      string     `json:"name"`
	Role      string     `json:"role"                enum:"viewer,operator,admin"`
	ExpiresAt *time.Time `json:"expiresAt,omitempty"` // never without
}

// CreatedToken is a fresh token: the only time that it is shown.
type CreatedToken struct {
	Name  string `json:"name"`
	Role  string `json:"role"  enum:"viewer,operator,admin"`
	Token string `json:"token"`

	ExpiresAt *time.Time `json:"expiresAt,omitempty"`
}

// OpenSession is a session of the console.
type OpenSession struct {
	ID      int64     `json:"id"`
	Token   string    `json:"token"` // the name of the token that it began with
	Role    string    `json:"role"    enum:"viewer,operator,admin"`
	BeganAt time.Time `json:"beganAt"`
	UsedAt  time.Time `json:"usedAt"` // to the minute
	EndsAt  time.Time `json:"endsAt"`
	Own     bool      `json:"own"` // it is the one that asks
}

// SignIn begins a session of the console.
type SignIn struct {
	Token string `json:"token"`
}

// Session is who makes a request.
type Session struct {
	Name string `json:"name"`
	Role string `json:"role" enum:"viewer,operator,admin"`
}

// Health says that the process runs, or is ready.
type Health struct {
	Status  string `json:"status"`
	Version string `json:"version,omitempty"`
}

// Rebuild is how far documents are that are built again by ranges of keys; Expected, PerSecond and LeftMS are 0 while unknown.
type Rebuild struct {
	Rows      int64     `json:"rows"`
	Expected  int64     `json:"expected"`
	PerSecond float64   `json:"perSecond"`
	LeftMS    int64     `json:"leftMs"`
	Since     time.Time `json:"since"`
	// Paused: a person has halted it, and fresh changes still pass.
	Paused bool `json:"paused,omitempty"`
}
