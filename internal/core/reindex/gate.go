package reindex

import (
	"fmt"
	"slices"
	"strings"

	"github.com/dustin/go-humanize"
)

// Gate is a condition that a filled edition must meet before it is switched to.
type Gate struct {
	// Name is complete, refused, size, content or expect.
	Name   string `json:"name"`
	Passed bool   `json:"passed"`
	// Sentence has the numbers.
	Sentence string `json:"sentence"`
}

// Counted is what an edition has.
type Counted struct {
	Documents int64 // that searches find
	Failed    int64 // that the engine refused, or that cannot be built
}

const (
	// strays is how many documents may be missing in a count, while rows come and go: this number, or one in
	// strayShare of the rows.
	strays, strayShare = 10, 100
	// shrinkShare is the part of the live edition's documents that another one may lack: one in this number.
	shrinkShare = 10
)

// Limit is how many documents of a first edition may fail: the larger of a share of the rows and a number.
type Limit struct {
	Share  float64
	Number int64
}

// of is the limit for a number of rows.
func (l Limit) of(rows int64) int64 { return max(l.Number, int64(l.Share*float64(rows))) }

// First judges an edition of an index that has none that is live.
func First(rows int64, fresh Counted, limit Limit) []Gate {
	return append(Judge(rows, fresh, nil, ""), Gate{
		Name:   "refused",
		Passed: fresh.Failed == 0 || fresh.Failed <= limit.of(rows) && fresh.Documents > 0,
		Sentence: fmt.Sprintf(
			"%s of %s documents failed, and %s may fail", count(fresh.Failed), count(rows), count(limit.of(rows))),
	})
}

// Judge compares a filled edition with the rows in the source, and with the edition that answers; live
// is nil when none does. lacks says why the live one is no measure, since it is known to be wrong; empty
// when it is one. Where there is nothing to lose, all gates pass.
func Judge(rows int64, fresh Counted, live *Counted, lacks string) []Gate {
	measured := live != nil && lacks == ""
	missing := rows - fresh.Documents - fresh.Failed
	gates := []Gate{{
		Name:   "complete",
		Passed: live == nil || missing <= max(strays, rows/strayShare),
		Sentence: fmt.Sprintf(
			"%s rows, %s documents, %s failed", count(rows), count(fresh.Documents), count(fresh.Failed)),
	}}
	if live == nil {
		return gates
	}
	against := ""
	if lacks != "" {
		against = ", which is wrong itself: " + lacks
	}
	return append(gates, Gate{
		Name:   "refused",
		Passed: !measured || fresh.Failed <= live.Failed,
		Sentence: fmt.Sprintf(
			"%s failed documents, %s in the live edition%s", count(fresh.Failed), count(live.Failed), against),
	}, Gate{
		Name: "size",
		// A failed document may be there in the live edition, as it was before.
		Passed: !measured || live.Documents-fresh.Documents-fresh.Failed <= max(strays, live.Documents/shrinkShare),
		Sentence: fmt.Sprintf(
			"%s documents, %s in the live edition%s", count(fresh.Documents), count(live.Documents), against),
	})
}

// Names of gates that are judged apart from the others.
const (
	GateContent = "content"
	GateExpect  = "expect"
)

// Content is the gate of the documents that were compared with their rows, out of all rows; keys are
// those that differ though they were built once more, and more says that there are others.
func Content(compared, rows int64, keys []string, more int64) Gate {
	g := Gate{Name: GateContent, Passed: len(keys) == 0 && more == 0}
	g.Sentence = fmt.Sprintf("%s of %s documents compared with their rows", count(compared), count(rows))
	if g.Passed {
		g.Sentence += ", all the same"
		return g
	}
	const told = 5
	g.Sentence += fmt.Sprintf(
		", %s differ: %s",
		count(int64(len(keys))+more),
		strings.Join(keys[:min(told, len(keys))], ", "),
	)
	if len(keys) > told || more > 0 {
		g.Sentence += " and others"
	}
	return g
}

// Searches is the gate of searches whose outcome is known: how many there were, sentences about those that do not find what
// they should, and how many others do not either, but no worse than in the live edition.
func Searches(all int, failed []string, asBefore int) Gate {
	g := Gate{
		Name:     GateExpect,
		Passed:   len(failed) == 0,
		Sentence: fmt.Sprintf("%d of %d searches find what they should", all-len(failed)-asBefore, all),
	}
	if asBefore > 0 {
		g.Sentence += fmt.Sprintf(", and %d fail in the live edition as well", asBefore)
	}
	const told = 3
	for _, words := range failed[:min(told, len(failed))] {
		g.Sentence += "; " + words
	}
	if more := len(failed) - told; more > 0 {
		g.Sentence += fmt.Sprintf("; and %d more: pingo expect lists them", more)
	}
	return g
}

func count(n int64) string { return humanize.Comma(n) }

// Stopped reports whether a gate of some name is there and has not passed.
func Stopped(gates []Gate, name string) bool {
	return slices.ContainsFunc(gates, func(g Gate) bool { return g.Name == name && !g.Passed })
}

// Passed reports whether all gates are.
func Passed(gates []Gate) bool {
	return !slices.ContainsFunc(gates, func(g Gate) bool { return !g.Passed })
}
