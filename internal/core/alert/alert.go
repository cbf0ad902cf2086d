// Package alert decides when a limit has been exceeded for long enough to raise an alert, and when the alert is over.
package alert

import (
	"cmp"
	"slices"
	"time"
)

// Limits are the values of an index above which an alert is raised.
type Limits struct {
	// Lag is how old its oldest change may be, and Blocked for how long it may be blocked or wait.
	Lag, Blocked time.Duration
	// Failed documents and Differing ones that there may be.
	Failed, Differing int64
}

// DefaultLimits hold where a definition says nothing.
var DefaultLimits = Limits{Lag: time.Minute, Blocked: time.Minute}

// What a limit is about.
const (
	Lag       = "lag"
	Blocked   = "blocked"
	Failed    = "failed"
	Differing = "differing"
)

// Reading is how an index stands towards one limit.
type Reading struct {
	Index, What string
	Over        bool
	// Unknown: it is not known whether it is over, so what was known before stays.
	Unknown bool
	// Holds is how long the limit must be exceeded before the alert is raised, if that is longer than raiseAfter.
	Holds time.Duration
	// Sentence describes the value and its limit.
	Sentence string
}

// Event is that a limit was passed, or is no more.
type Event struct {
	Reading
	Raised bool
	// Since is since when the limit was passed.
	Since time.Time
}

// raiseAfter is how long a limit must be exceeded before an alert is raised, and clearAfter how long it must be met before the
// alert is over: a value that varies around a limit raises one alert.
const (
	raiseAfter = 10 * time.Second
	clearAfter = 30 * time.Second
)

// Watch tells events from readings. The zero value is ready. It is not safe for concurrent use.
type Watch struct {
	known map[string]*alarm
}

type alarm struct {
	over, fine time.Time // since when it is so, zero when it is not
	raised     bool
	since      time.Time
	last       Reading
}

// Restore takes in an alert that was raised before, as by another process.
func (w *Watch) Restore(r Reading, since time.Time) {
	if w.known == nil {
		w.known = map[string]*alarm{}
	}
	w.known[r.Index+" "+r.What] = &alarm{over: since, raised: true, since: since, last: r}
}

// Look takes in all readings, and lists the events to report, in order. An alert without a reading is over.
func (w *Watch) Look(now time.Time, readings []Reading) (out []Event) {
	if w.known == nil {
		w.known = map[string]*alarm{}
	}
	seen := map[string]bool{}
	for _, r := range readings {
		id := r.Index + " " + r.What
		seen[id] = true
		if r.Unknown {
			continue
		}
		a := w.known[id]
		if a == nil {
			if !r.Over {
				continue
			}
			a = &alarm{}
			w.known[id] = a
		}
		out = append(out, a.look(now, r)...)
		if !a.raised && !r.Over {
			delete(w.known, id)
		}
	}
	for id, a := range w.known {
		if seen[id] {
			continue
		}
		r := a.last
		r.Over, r.Sentence = false, "no process reports it any longer"
		out = append(out, a.look(now, r)...)
		if !a.raised {
			delete(w.known, id)
		}
	}
	slices.SortFunc(
		out,
		func(a, b Event) int { return cmp.Or(cmp.Compare(a.Index, b.Index), cmp.Compare(a.What, b.What)) },
	)
	return out
}

func (a *alarm) look(now time.Time, r Reading) []Event {
	a.last = r
	if r.Over {
		a.fine = time.Time{}
		if a.over.IsZero() {
			a.over = now
		}
		if a.raised || now.Sub(a.over) < max(raiseAfter, r.Holds) {
			return nil
		}
		a.raised, a.since = true, a.over
		return []Event{{r, true, a.since}}
	}
	a.over = time.Time{}
	if a.fine.IsZero() {
		a.fine = now
	}
	if !a.raised || now.Sub(a.fine) < clearAfter {
		return nil
	}
	a.raised = false
	return []Event{{r, false, a.since}}
}
