package api

import (
	"encoding/json"
	"time"
)

// DriftStatus is how much of an edition was compared with its rows, and what is known to differ.
type DriftStatus struct {
	// Sentence says how much was proven, and when.
	Sentence string `json:"sentence"`
	// Hour, Day and Week are the shares of the rows, from 0 to 1, whose documents were found to be what the
	// rows make within that time.
	Hour float64 `json:"hour"`
	Day  float64 `json:"day"`
	Week float64 `json:"week"`
	// Content is the share of the compared documents, from 0 to 1, whose whole content was compared: of the others, their
	// fingerprints were.
	Content float64 `json:"content"`
	// CheckedAt is the time since which all rows and documents were compared; missing before the first time.
	CheckedAt *time.Time `json:"checkedAt,omitempty"`
	// ScannedAt is when the engine's documents were last looked up in the source.
	ScannedAt *time.Time `json:"scannedAt,omitempty"`
	// Differing documents stand, by kind and by likeliest cause; the oldest was found Since then.
	Differing int64            `json:"differing"`
	Kinds     map[string]int64 `json:"kinds"`
	Causes    map[string]int64 `json:"causes"`
	Since     *time.Time       `json:"since,omitempty"`
	// ApartSince: the counts of rows and documents differ although no change is pending.
	ApartSince *time.Time `json:"apartSince,omitempty"`
}

// Drift is all that is known of the drift of an edition.
type Drift struct {
	Index   string      `json:"index"`
	Edition string      `json:"edition"`
	Rows    int64       `json:"rows"`
	Status  DriftStatus `json:"status"`
	// Segments are ranges of rows in the order of their keys.
	Segments []DriftSegment `json:"segments"`
	// Differences are the first of those that stand, of the kind and cause that were asked for; there are
	// Matching.
	Differences []Differing `json:"differences"`
	Matching    int64       `json:"matching"`
	// Causes say in sentences what the causes of those that stand mean.
	Causes []CauseSentence `json:"causes"`
	// Orders are checks and repairs that were asked for, the newest first.
	Orders []DriftOrder `json:"orders"`
}

// DriftSegment is a range of rows that was compared; At is missing where it never was.
type DriftSegment struct {
	Rows      int64      `json:"rows"`
	Differing int64      `json:"differing"`
	At        *time.Time `json:"at,omitempty"`
}

// Differing is a document that is not what its row makes.
type Differing struct {
	Key     string    `json:"key"`
	Kind    string    `json:"kind"    enum:"missing,stale,altered,orphaned"`
	Cause   string    `json:"cause"`
	FoundAt time.Time `json:"foundAt"`
}

// CauseSentence says what a cause means and what to do.
type CauseSentence struct {
	Cause    string `json:"cause"`
	Count    int64  `json:"count"`
	Sentence string `json:"sentence"`
}

// What can be asked for about the drift of an index.
const (
	DriftCheck  = "check"
	DriftRepair = "repair"
	DriftStop   = "stop"
)

// DriftAction asks for a check, for a repair, or that one of them stops.
type DriftAction struct {
	Action string `json:"action"              enum:"check,repair,stop"`
	// Edition is which one; without it the one that answers.
	Edition string `json:"edition,omitempty"`
	// For a check: Sample is how many documents are compared, spread over the keys, After and Upto bound the
	// keys, Content is the share that is compared as a whole, from 0 to 1, and Documents how many are compared
	// a second at most. Repair says what to do with those that differ; default: what the definition says.
	Sample    int64    `json:"sample,omitempty"`
	After     string   `json:"after,omitempty"`
	Upto      string   `json:"upto,omitempty"`
	Content   *float64 `json:"content,omitempty"`
	Documents int64    `json:"documents,omitempty"`
	Repair    string   `json:"repair,omitempty"    enum:",report,all"`
	// For a repair: the Keys, or those that were found of a Kind and Cause.
	Keys  []string `json:"keys,omitempty"`
	Kind  string   `json:"kind,omitempty"      enum:",missing,stale,altered,orphaned"`
	Cause string   `json:"cause,omitempty"`
	// Deletes: more documents may be deleted than one in a hundred, and ten.
	Deletes bool `json:"deletes,omitempty"`
	// ID is which order stops.
	ID int64 `json:"id,omitempty"`
}

// DriftOrder is a check or a repair that was asked for, and what came of it.
type DriftOrder struct {
	ID      int64       `json:"id"`
	Index   string      `json:"index"`
	Edition string      `json:"edition"`
	Asked   DriftAction `json:"asked"`
	By      string      `json:"by"`
	AskedAt time.Time   `json:"askedAt"`
	BeganAt *time.Time  `json:"beganAt,omitempty"`
	EndedAt *time.Time  `json:"endedAt,omitempty"`
	// Rows are to be compared, Compared those that were, and Scanned the documents of the engine that were
	// looked up in the source. Fetched of them were read as a whole; Requests were sent to the engine in addition to
	// those that list its documents.
	Rows     int64 `json:"rows"`
	Compared int64 `json:"compared"`
	Scanned  int64 `json:"scanned"`
	Fetched  int64 `json:"fetched"`
	Requests int64 `json:"requests"`
	// Differing documents were found, by kind and by likeliest cause. Unsettled ones differ, while changes
	// were pending for too long to tell why.
	Differing int64            `json:"differing"`
	Kinds     map[string]int64 `json:"kinds"`
	Causes    map[string]int64 `json:"causes"`
	Unsettled int64            `json:"unsettled"`
	// Repaired were built and sent again and are right now; Held were not, so that not more are deleted or
	// repaired without a person's word than may be.
	Repaired int64 `json:"repaired"`
	Held     int64 `json:"held"`
	// Most is the largest share of rows that may differ, with 95 in 100 certainty, by what was found.
	Most     float64 `json:"most"`
	Problem  string  `json:"problem,omitempty"`
	Sentence string  `json:"sentence"`
}

// Traced is why a record is, or is not, in an index as it is.
type Traced struct {
	Index   string `json:"index"`
	Edition string `json:"edition"`
	Key     string `json:"key"`
	// Verdict is one sentence, and Next what to do; empty when there is nothing to.
	Verdict string `json:"verdict"`
	Next    string `json:"next,omitempty"`
	// State is good, waiting, outside, refused, missing, stale, altered, orphaned or none.
	State string `json:"state"                enum:"good,waiting,outside,refused,missing,stale,altered,orphaned,none"`
	// Unseen says what the capture of the source cannot see of this row; only where the engine differs and rows are polled.
	Unseen []string `json:"unseen"`
	// Row: there is a row with this key. Inside: where lets it into the index.
	Row    bool `json:"row"`
	Inside bool `json:"inside"`
	// Changes of it that are in the journal.
	Changes []WaitingChange `json:"changes"`
	// Built is the document as it would be built now, Stored the one in the engine, each null when there is
	// none, and Fields are those in which they differ.
	Built  json.RawMessage   `json:"built"`
	Stored json.RawMessage   `json:"stored"`
	Fields []FieldDifference `json:"fields"`
	// Failed is its entry among the failed documents.
	Failed *FailedDetail `json:"failed,omitempty"`
	// Difference is what a check has found.
	Difference *Differing    `json:"difference,omitempty"`
	Origins    []FieldOrigin `json:"origins"`
	// Deliveries are the outcomes of builds of the document for changes, where the process that was asked feeds
	// the index; FedBy is the address of the one that does, and knows them, where it does not.
	Deliveries *Deliveries `json:"deliveries,omitempty"`
	FedBy      string      `json:"fedBy,omitempty"`
}

// Deliveries are the outcomes of builds of a document for changes since a time, newest first. A fill is not among them.
type Deliveries struct {
	Since time.Time  `json:"since"`
	Last  []Delivery `json:"last"`
}

// Delivery is the outcome of one build of a document.
type Delivery struct {
	At time.Time `json:"at"`
	// ChangedAt is when the oldest of the changes was made that it was built for.
	ChangedAt *time.Time `json:"changedAt,omitempty"`
	Outcome   string     `json:"outcome"             enum:"sent,deleted,unchanged,refused"`
	Bytes     int        `json:"bytes"`
}

// WaitingChange is a change that is not delivered yet.
type WaitingChange struct {
	Source string    `json:"source"`
	Table  string    `json:"table"`
	Key    string    `json:"key"`
	Op     string    `json:"op"`
	At     time.Time `json:"at"`
}

// Alert is the data of an event that is sent when an index passes a limit, and when that is over.
type Alert struct {
	Index string `json:"index"`
	// About is lag, failed, differing or blocked.
	About  string `json:"about"    enum:"lag,failed,differing,blocked"`
	Raised bool   `json:"raised"`
	// Sentence describes the index, and Since is when the limit was passed.
	Sentence string    `json:"sentence"`
	Since    time.Time `json:"since"`
}
