// Package reindex holds what filling an edition rests on: its steps, how large chunks are and how fast
// they may follow each other, which keys the stream has built since a chunk was read, how long it will
// take, and what it must come to before it answers.
package reindex

import "slices"

// State is a step of an edition's life.
type State string

// The steps, in order. A switched edition answers under the public name.
const (
	Preparing  State = "preparing"
	Filling    State = "filling"
	CatchingUp State = "catching up"
	Checking   State = "checking"
	// Ready editions are complete. They are switched to when their gates have passed, or a person
	// says so.
	Ready    State = "ready"
	Switched State = "switched"
	// Previous editions have answered, and are kept in sync so that they can again.
	Previous State = "previous"
	// Returning editions are about to answer again, since a person said so.
	Returning State = "returning"
	// Cancelled editions are dropped by whoever feeds them.
	Cancelled State = "cancelled"
)

// next has the steps that may follow each.
var next = map[State][]State{
	Preparing:  {Filling, Cancelled},
	Filling:    {CatchingUp, Cancelled},
	CatchingUp: {Checking, Cancelled},
	Checking:   {Ready, Cancelled},
	Ready:      {Ready, Switched, Cancelled}, // Ready again, when the gates are judged again
	Switched:   {Previous, Cancelled},
	Previous:   {Returning, Cancelled},
	Returning:  {Switched, Cancelled},
}

// Leads reports whether a step may follow another.
func (s State) Leads(to State) bool { return slices.Contains(next[s], to) }

// Rests reports whether an edition stays at a step until another edition or a person moves it on.
func (s State) Rests() bool { return s == Switched || s == Previous || s == Cancelled }

// Unfilled reports whether chunks of an edition may still be open.
func (s State) Unfilled() bool { return s == Preparing || s == Filling }

// Pending reports whether an edition has never been live, and is about to be.
func (s State) Pending() bool { return !s.Rests() && s != Returning }
