package reindex

import "time"

// Policy is what a definition says of refills of an index.
type Policy struct {
	// Begin is when a changed definition is filled: Now, OnCommand, or a time of day such as 02:00.
	Begin string
	// Switch is when a filled edition answers: SwitchChecked, OnCommand or SwitchAlways.
	Switch string
	// KeepPrevious is how long the edition that answered before is kept in sync.
	KeepPrevious time.Duration
	Pace         Pace
	// Compare is how much of a filled edition is compared with its rows: CompareSample, CompareAll or
	// CompareNone.
	Compare string
	// Failed is how many documents of a first edition may fail.
	Failed Limit
	// Expect is what searches must find before an edition answers.
	Expect []Expectation
}

// Expectation is a search with its expected outcome.
type Expectation struct {
	// Search is what is searched for.
	Search string
	// Finds is the key that must be found, and Among how many of the first hits it must be.
	Finds string
	Among int
}

// What a policy may say.
const (
	Now           = "now"
	OnCommand     = "on command"
	SwitchChecked = "checked" // when its gates have passed
	SwitchAlways  = "always"  // whatever its gates say
)

// How much a policy may have compared.
const (
	CompareSample = "sample" // some thousand documents, spread over the keys
	CompareAll    = "all"
	CompareNone   = "none"
)

// DefaultPolicy holds where a definition says nothing.
var DefaultPolicy = Policy{Begin: Now, Switch: SwitchChecked, KeepPrevious: time.Hour, Compare: CompareSample, Failed: Limit{Share: 0.01, Number: 10}}

// Begins is when an edition is to be filled that is recorded now: nil means immediately, and paused that a person
// is to say so.
func (p Policy) Begins(now time.Time) (at *time.Time, paused bool) {
	switch p.Begin {
	case Now:
		return nil, false
	case OnCommand:
		return nil, true
	}
	clock, err := time.Parse("15:04", p.Begin)
	if err != nil {
		return nil, true // a definition does not say so
	}
	next := nextAt(now, clock.Hour()*60+clock.Minute())
	return &next, false
}
