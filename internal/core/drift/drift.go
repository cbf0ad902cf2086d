// Package drift knows what may be wrong between a database and an index, why, and how much was proven
// right, and when. It does no I/O.
package drift

import (
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"github.com/robfig/cron/v3"
)

// Kind says how a document differs from its row.
type Kind string

// The kinds. Stale documents were made of another state of the row; altered ones carry the row's fingerprint
// and hold something else.
const (
	Missing  Kind = "missing"
	Stale    Kind = "stale"
	Altered  Kind = "altered"
	Orphaned Kind = "orphaned"
)

// Cause is the likeliest reason for a difference.
type Cause string

// The causes.
const (
	// ByEngine: something other than Pingo wrote to the engine.
	ByEngine Cause = "changed in the engine"
	// Emptied: most documents are missing, so the engine's index must have been emptied or recreated.
	Emptied Cause = "engine's index emptied"
	// Unnoticed: the row changed while its changes were not noticed.
	Unnoticed Cause = "change not noticed"
	// Unstable: an expression of the definition has another value each time.
	Unstable Cause = "value changes by itself"
	// Clock: time went on since the last refresh of an index whose values or rows depend on it.
	Clock Cause = "time went on"
	// Unrepaired: it was built and sent again, and the engine holds something else all the same.
	Unrepaired Cause = "repair did not help"
)

// Evidence is what is known of a difference.
type Evidence struct {
	Kind Kind
	// Ours: the document in the engine is one that Pingo wrote, whole.
	Ours bool
	// Unstable: the definition has an expression whose value changes by itself. Refreshed: the index is compared and
	// repaired for it repeatedly. Entering: such an expression decides which rows belong in the index.
	Unstable, Refreshed, Entering bool
}

// CauseOf is the likeliest cause of a difference by itself.
func CauseOf(e Evidence) Cause {
	timely := e.Unstable && e.Refreshed
	switch {
	case e.Kind == Missing && timely && e.Entering:
		return Clock
	case e.Kind == Missing, e.Kind == Altered, !e.Ours:
		return ByEngine
	case timely && (e.Kind == Stale || e.Entering): // it changed, or left
		return Clock
	case e.Unstable && e.Kind == Stale:
		return Unstable
	}
	return Unnoticed
}

// Found is what a check has found in documents: how many rows it compared, and how many differed of each
// kind and cause.
type Found struct {
	Compared int64           `json:"compared"`
	Kinds    map[Kind]int64  `json:"kinds,omitempty"`
	Causes   map[Cause]int64 `json:"causes,omitempty"`
}

// CauseOfMissing is the likeliest cause of documents that are missing, given the number of rows compared: one
// that was deleted in the engine and one whose row came unnoticed look the same, so what else was found
// there decides.
func (f *Found) CauseOfMissing() Cause {
	missing := f.Kinds[Missing]
	switch {
	case missing > 10 && missing*2 > f.Compared:
		return Emptied
	case f.Causes[Unnoticed] > 0 && f.Causes[ByEngine] == missing:
		return Unnoticed
	}
	return ByEngine
}

// Sentences say what a cause means, and what to do in addition to a repair.
var Sentences = map[Cause]string{
	ByEngine:   "Something other than Pingo wrote to or deleted from the engine's index: check who else has write access.",
	Emptied:    "The engine's index was emptied, or deleted and recreated: check the engine, and reindex if the mapping differs.",
	Unnoticed:  "Rows changed while capture was disabled or went round: look who disables triggers or restores tables.",
	Unstable:   "An expression of the definition has another value each time, so documents grow old by themselves: set refresh, or take it out.",
	Clock:      "Values or rows that depend on the time are put right when the index is refreshed: shorten refresh if that is too late.",
	Unrepaired: "The engine kept something else than it was sent: look at its pipelines, templates and versions.",
}

// Confidence is the largest share of rows that may differ, with 95 in 100 certainty, when a number of
// compared rows did, out of all rows: the upper end of Wilson's score interval with the correction for a
// finite population (E. B. Wilson, 1927).
func Confidence(differing, compared, rows int64) float64 {
	if compared == 0 {
		return 1
	}
	n, p := float64(compared), min(1, float64(differing)/float64(compared)) // documents without a row come on top
	if compared >= rows {
		return p
	}
	const z = 1.6449 // one-sided
	left := math.Sqrt(float64(rows-compared) / float64(max(rows-1, 1)))
	spread := z * left * math.Sqrt(p*(1-p)/n+z*z/(4*n*n))
	return min(1, (p+z*z/(2*n)+spread)/(1+z*z/n))
}

// Policy is what a definition says of how an index is checked.
type Policy struct {
	// Every is how long a sweep over the whole index takes at most; 0 makes none.
	Every time.Duration
	// At is a cron expression for full checks; empty for none.
	At string
	// Repair says what to do with differences: ReportOnly, RepairAll, or RepairFew of them.
	Repair string
	// Few is how many a check may repair by itself under RepairFew.
	Few int64
	// Content is the share of documents whose whole content is compared, not only their fingerprint.
	Content float64
	// Documents is how many documents a second a check compares at most; 0 is no bound.
	Documents int64
	// Refresh is how often all documents are compared and repaired, because values change with the time; 0 is
	// never.
	Refresh time.Duration
	// Functions are those of the definition whose value may change although no row does.
	Functions []string
}

// Names reports whether an expression seems to call one of the functions.
func (p *Policy) Names(expression string) bool {
	return slices.ContainsFunc(p.Functions, func(name string) bool {
		return strings.Contains(strings.ToLower(expression), strings.ToLower(name))
	})
}

// ParseSchedule reads a cron expression of five fields.
func ParseSchedule(text string) (cron.Schedule, error) {
	return cron.NewParser(cron.Minute | cron.Hour | cron.Dom | cron.Month | cron.Dow).Parse(text)
}

// What a policy may say of repairs.
const (
	ReportOnly = "report"
	RepairAll  = "all"
	RepairFew  = "few"
)

// DefaultPolicy holds where a definition says nothing.
var DefaultPolicy = Policy{Every: 24 * time.Hour, Repair: ReportOnly, Content: 0.1}

// MostDeleted is how many documents a repair deletes without a person's word: a share of them all, and ten in
// any case.
func MostDeleted(documents int64) int64 { return max(10, documents/100) }

// Summary is a phrase with the number of differing documents of each kind.
func Summary(kinds map[Kind]int64) string {
	words := map[Kind]string{
		Missing: "missing", Stale: "stale", Altered: "altered in the engine", Orphaned: "without a row",
	}
	out := ""
	for _, k := range []Kind{Missing, Stale, Altered, Orphaned} {
		if kinds[k] == 0 {
			continue
		}
		if out != "" {
			out += ", "
		}
		out += fmt.Sprintf("%d %s", kinds[k], words[k])
	}
	return out
}

// Asked is what a check or a repair is to do.
type Asked struct {
	// Repair: documents that were found before are built and sent again, nothing else is compared.
	Repair bool `json:"repair,omitempty"`
	// Most is how many documents are compared, spread over the keys; 0 is all.
	Most int64 `json:"most,omitempty"`
	// After and Upto bound the keys that are compared; empty bounds nothing.
	After string `json:"after,omitempty"`
	Upto  string `json:"upto,omitempty"`
	// Content is the share that is compared as a whole, and Documents how many are compared a second at
	// most; without them the definition's hold. A person's check of everything has 1.
	Content   *float64 `json:"content,omitempty"`
	Documents int64    `json:"documents,omitempty"`
	// Keys, Kind and Cause say what is repaired; empty says nothing.
	Keys  []string `json:"keys,omitempty"`
	Kind  Kind     `json:"kind,omitempty"`
	Cause Cause    `json:"cause,omitempty"`
	// Repairs is what to do with differences that a check finds: a value of Policy.Repair, or empty for that of
	// the definition.
	Repairs string `json:"mend,omitempty"`
	// Deletes: more documents may be deleted than MostDeleted.
	Deletes bool `json:"deletes,omitempty"`
}

// Whole reports whether all of an edition is compared.
func (a *Asked) Whole() bool { return !a.Repair && a.Most == 0 && a.After == "" && a.Upto == "" }

// Outcome is how far a check or a repair is, and what came of it.
type Outcome struct {
	Found
	// Rows are to be compared; Scanned is the number of documents that were searched in the source.
	Rows    int64 `json:"rows"`
	Scanned int64 `json:"scanned"`
	// Fetched documents were read as a whole, in a number of Requests to the engine without those of the scan.
	Fetched  int64 `json:"fetched"`
	Requests int64 `json:"requests"`
	// Unsettled differ, while changes were pending for too long to tell why.
	Unsettled int64 `json:"unsettled"`
	// Repaired were built and sent again and are right now; Held were not, so that not more are deleted or
	// repaired without a person's word than may be.
	Repaired int64 `json:"repaired"`
	Held     int64 `json:"held"`
	// Resent were right, and sent again since a person named them; Absent are named keys of no row and no document.
	Resent int64 `json:"resent,omitempty"`
	Absent int64 `json:"absent,omitempty"`
	// Began: the edition's round is that of this check, and goes on after a restart.
	Began bool `json:"began,omitempty"`
	// Problem is why it does not go on, or has ended before its end.
	Problem string `json:"problem,omitempty"`
}

// Differing is how many documents differed.
func (f *Found) Differing() (n int64) {
	for _, k := range f.Kinds {
		n += k
	}
	return n
}

// Add takes in a difference.
func (f *Found) Add(kind Kind, cause Cause) {
	if f.Kinds == nil {
		f.Kinds, f.Causes = map[Kind]int64{}, map[Cause]int64{}
	}
	f.Kinds[kind]++
	f.Causes[cause]++
}
