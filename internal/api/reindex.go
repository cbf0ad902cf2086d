package api

import (
	"encoding/json"
	"time"
)

// The steps of filling an edition.
const (
	FillPreparing  = "preparing"
	FillFilling    = "filling"
	FillCatchingUp = "catching up"
	FillChecking   = "checking"
	FillReady      = "ready"
	FillReturning  = "returning"
)

// What can be done to the reindex of an index.
const (
	ReindexStart    = "start"
	ReindexCancel   = "cancel"
	ReindexSwitch   = "switch"
	ReindexPause    = "pause"
	ReindexResume   = "resume"
	ReindexPace     = "pace"
	ReindexRollback = "rollback"
	ReindexDrop     = "drop"
)

// ReindexAction says what is to be done: start fills another edition like the one that answers,
// cancel deletes the one that is being filled, pause and resume its fill, pace limits it, switch makes the
// one that is ready live, whatever its gates say, rollback makes a previous edition live again, and drop deletes
// a previous edition before its time.
type ReindexAction struct {
	Action string `json:"action"            enum:"start,cancel,switch,pause,resume,pace,rollback,drop"`
	// Pace is for pace and start; without one the definition's holds.
	Pace *Pace `json:"pace,omitempty"`
	// At is when it is to begin; only for start.
	At *time.Time `json:"at,omitempty"`
	// Edition is the previous edition to make live again, or to drop. Without it, that is the last one that was live.
	Edition string `json:"edition,omitempty"`
	// Cancel deletes the edition that is being filled or waits for a decision as well; only for rollback.
	Cancel bool `json:"cancel,omitempty"`
}

// Pace bounds how fast an edition is filled; 0 and empty are no bound.
type Pace struct {
	// Documents and Bytes a second.
	Documents int64 `json:"documents,omitempty"`
	Bytes     int64 `json:"bytes,omitempty"`
	Workers   int   `json:"workers,omitempty"`
	// Hours of the day when it may be filled, such as 22:00-06:00.
	Hours string `json:"hours,omitempty"`
}

// Reindexed says to which edition it was done.
type Reindexed struct {
	Index   string `json:"index"`
	Edition string `json:"edition"`
}

// Shown reports whether a status shows that the edition answers.
func (r *Reindexed) Shown(s *Status) bool {
	ix := s.Index(r.Index)
	return ix != nil && ix.Live && ix.Edition == r.Edition
}

// Run is an edition and its history.
type Run struct {
	Edition    string `json:"edition"`
	State      string `json:"state"               enum:"preparing,filling,catching up,checking,ready,switched,previous,returning,cancelled"`
	Definition int    `json:"definition"`
	Engine     string `json:"engine"`
	// Rows that were filled, of those Expected when the fill began, and the Bytes of their documents.
	Rows      int64      `json:"rows"`
	Expected  int64      `json:"expected"`
	Bytes     int64      `json:"bytes"`
	BeganAt   *time.Time `json:"beganAt,omitempty"`
	FilledAt  *time.Time `json:"filledAt,omitempty"`
	KeptUntil *time.Time `json:"keptUntil,omitempty"`
	Gates     []Gate     `json:"gates,omitempty"`
	// Events, oldest first: steps, and what people did.
	Events []RunEvent `json:"events"`
}

// RunEvent is one event in the history of an edition.
type RunEvent struct {
	At   time.Time `json:"at"`
	What string    `json:"what"`
}

// Estimate is the cost of refilling an index. Bytes and Seconds are 0 when no fill tells.
type Estimate struct {
	Index string `json:"index"`
	// Rows are read, and as many operations sent, with Bytes of documents.
	Rows    int64   `json:"rows"`
	Bytes   int64   `json:"bytes"`
	Seconds float64 `json:"seconds"`
	// Rests says what the time rests on.
	Rests string `json:"rests,omitempty"`
}

// Expected is what the searches found that the definition expects something of.
type Expected struct {
	Index    string       `json:"index"`
	Editions []ExpectedIn `json:"editions"`
}

// ExpectedIn is what they found in an edition; Answers says that it is the one that answers.
type ExpectedIn struct {
	Edition  string           `json:"edition"`
	Answers  bool             `json:"answers"`
	Searches []ExpectedSearch `json:"searches"`
}

// ExpectedSearch is a search that is to find a key among the first hits.
type ExpectedSearch struct {
	Search string `json:"search"`
	Finds  string `json:"finds"`
	Among  int    `json:"among"`
	Met    bool   `json:"met"`
	// Place of the key among the hits, from 1; 0 when it is not among them.
	Place int `json:"place"`
	// Total is how many documents were found, First the keys of the first of them.
	Total    int64    `json:"total"`
	First    []string `json:"first"`
	Sentence string   `json:"sentence"`
}

// Comparison lists the differences between the documents of two editions.
type Comparison struct {
	Index string `json:"index"`
	// Old answered first; New is made by the same definition or a later one.
	Old string `json:"old"`
	New string `json:"new"`
	// Rows are all, Compared those that have a document: the Same, one that Differs, or one that is in one
	// edition only.
	Rows     int64 `json:"rows"`
	Compared int64 `json:"compared"`
	Same     int64 `json:"same"`
	Differ   int64 `json:"differ"`
	OnlyOld  int64 `json:"onlyOld"`
	OnlyNew  int64 `json:"onlyNew"`
	// Fields are those in which documents differ.
	Fields []ComparedField `json:"fields"`
	// Documents are some of those that differ.
	Documents []ComparedDocument `json:"documents"`
}

// ComparedField is in how many documents a field was added, is gone, or has another value.
type ComparedField struct {
	Path    string `json:"path"`
	Added   int64  `json:"added"`
	Gone    int64  `json:"gone"`
	Changed int64  `json:"changed"`
}

// ComparedDocument is how a document differs; Only is old or new when it is in one edition only.
type ComparedDocument struct {
	Key    string            `json:"key"`
	Only   string            `json:"only,omitempty" enum:",old,new"`
	Fields []FieldDifference `json:"fields"`
}

// FieldDifference is a field with its two values; a missing one is left out.
type FieldDifference struct {
	Path string          `json:"path"`
	Old  json.RawMessage `json:"old,omitempty"`
	New  json.RawMessage `json:"new,omitempty"`
}

// Gate is a condition that a filled edition must meet before it answers.
type Gate struct {
	Name     string `json:"name"     enum:"complete,refused,size,content,expect"`
	Passed   bool   `json:"passed"`
	Sentence string `json:"sentence"`
}

// FillStatus is how far the filling of an edition is.
type FillStatus struct {
	Edition string `json:"edition"`
	State   string `json:"state"            enum:"preparing,filling,catching up,checking,ready,switched,previous,returning,cancelled"`
	// Definition is the version that it is made by.
	Definition int `json:"definition"`
	// Rows done, of them Resumed before this run began, and those Expected.
	Rows     int64 `json:"rows"`
	Resumed  int64 `json:"resumed"`
	Expected int64 `json:"expected"`
	Bytes    int64 `json:"bytes"`
	// Dropped are documents that the stream had delivered in a newer form.
	Dropped   int64     `json:"dropped"`
	Began     time.Time `json:"began"`
	PerSecond float64   `json:"perSecond"`
	LeftMS    int64     `json:"leftMs"`
	// Delivered are documents that the engine accepted in a number of Requests, Unchanged those that were not
	// sent because it has the same, by the fill and by changes during it, since the process began with
	// it; Failed are documents that are failed now.
	Delivered int64 `json:"delivered"`
	Unchanged int64 `json:"unchanged"`
	Requests  int64 `json:"requests"`
	Failed    int64 `json:"failed"`
	// Minute is documents delivered in each second of the last one.
	Minute []int64 `json:"minute"`
	// Helpers are other processes that fill some of it now.
	Helpers int `json:"helpers,omitempty"`
	// Course is how fast this run went, without the times when it waited; the last point is the newest.
	Course []FillPoint `json:"course,omitempty"`
	// Chunks of it, in the order of their keys, as far as they are planned.
	Chunks []FillChunks `json:"chunks,omitempty"`
	// Waits says why it is filled slowly, or, when it is Halted, not at all for now.
	Waits  string `json:"waits,omitempty"`
	Halted bool   `json:"halted,omitempty"`
	Paused bool   `json:"paused,omitempty"`
	Pace   Pace   `json:"pace"`
	// ByHand: it waits until a person decides, since a gate has not passed or the definition says so.
	ByHand bool `json:"byHand,omitempty"`
	// Gates are there once it is filled.
	Gates []Gate `json:"gates,omitempty"`
}

// FillPoint is the rate of a fill, in rows a second, up to an amount of work.
type FillPoint struct {
	AfterMS   int64   `json:"afterMs"`
	PerSecond float64 `json:"perSecond"`
}

// FillChunks are chunks that are done, or one that is open: filled by the process that feeds the index, or lent to another.
type FillChunks struct {
	Rows  int64  `json:"rows"`
	State string `json:"state" enum:"done,open,lent"`
}

// Stopped lists the gates that keep a filled edition from answering.
func (f *FillStatus) Stopped() (out []Gate) {
	for _, g := range f.Gates {
		if !g.Passed {
			out = append(out, g)
		}
	}
	return out
}

// Export is all that it takes to leave Pingo: the definition in force, and what is of Pingo in sources
// and engines.
type Export struct {
	Version  int              `json:"version"`
	Files    []File           `json:"files"`
	Sources  []CaptureRemoval `json:"sources"`
	Editions []HeldEdition    `json:"editions"`
	Engines  []EngineLeft     `json:"engines"`
}

// EngineLeft is what Pingo leaves in an engine in addition to editions.
type EngineLeft struct {
	Engine string `json:"engine"`
	// Address is the url of the engine, as the definition has it.
	Address string `json:"address"`
	// Leaves says what is left; empty for nothing.
	Leaves string `json:"leaves,omitempty"`
}

// HeldEdition is an edition in an engine; Answers says that its index's name leads to it.
type HeldEdition struct {
	Engine  string `json:"engine"`
	Index   string `json:"index"`
	Edition string `json:"edition"`
	Answers bool   `json:"answers"`
}
