package flow

import (
	"fmt"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/dustin/go-humanize"

	"pingo/internal/core/change"
)

// became is what became of a document.
type became int

const (
	sent became = iota + 1
	gone
	same
	refused
)

// tell counts it for the changes that waited.
func (b became) tell(tickets []*change.Ticket) {
	for _, t := range tickets {
		if t.Tally == nil {
			continue
		}
		switch b {
		case sent:
			t.Tally.Sent.Add(1)
		case gone:
			t.Tally.Gone.Add(1)
		case same:
			t.Tally.Same.Add(1)
		case refused:
			t.Tally.Refused.Add(1)
		}
	}
}

// tail follows the last changes of a source to what becomes of them.
type tail struct {
	mu   sync.Mutex
	last []*followed // newest last
}

const tailLength = 50

type followed struct {
	change change.Change
	tally  change.Tally
	done   atomic.Int64 // lag in microseconds, once it is done
}

// Followed is a change and what became of it.
type Followed struct {
	At    time.Time `json:"at"`
	Op    string    `json:"op"`
	Table string    `json:"table"`
	Key   string    `json:"key"`
	// How many documents it touched, by what became of them.
	Sent    int64 `json:"sent"`
	Deleted int64 `json:"deleted"`
	Same    int64 `json:"same"`
	Refused int64 `json:"refused"`
	Owed    int64 `json:"owed"`
	// LagMS is from its commit until everything that it touched was acknowledged, or
	// written to the backlog; null while it is not.
	LagMS *float64 `json:"lagMs"`
	Words string   `json:"words"`
}

// follow takes up the last of some changes; the others are nil.
func (t *tail) follow(changes []change.Change) []*followed {
	out := make([]*followed, len(changes))
	t.mu.Lock()
	defer t.mu.Unlock()
	for i := max(0, len(changes)-tailLength); i < len(changes); i++ {
		out[i] = &followed{change: changes[i]}
		t.last = append(t.last, out[i])
	}
	if extra := len(t.last) - tailLength; extra > 0 {
		t.last = append([]*followed(nil), t.last[extra:]...)
	}
	return out
}

func (f *followed) finished() {
	if f != nil {
		f.done.Store(max(1, time.Since(f.change.At).Microseconds()))
	}
}

// recent lists the last changes, newest first.
func (t *tail) recent() []Followed {
	t.mu.Lock()
	defer t.mu.Unlock()
	out := make([]Followed, 0, len(t.last))
	for i := len(t.last) - 1; i >= 0; i-- {
		f := t.last[i]
		c := &f.change
		x := Followed{At: c.At, Op: c.Op.String(), Table: c.Table.Name, Key: strings.Join(c.Key, ","),
			Sent: f.tally.Sent.Load(), Deleted: f.tally.Gone.Load(), Same: f.tally.Same.Load(), Refused: f.tally.Refused.Load(), Owed: f.tally.Owed.Load()}
		if c.Table.Schema != "public" {
			x.Table = c.Table.String()
		}
		if done := f.done.Load(); done > 0 {
			lag := float64(done) / 1000
			x.LagMS = &lag
		}
		x.Words = x.words()
		out = append(out, x)
	}
	return out
}

func (f *Followed) words() string {
	var parts []string
	for _, part := range []struct {
		n    int64
		what string
	}{{f.Sent, "sent"}, {f.Deleted, "deleted"}, {f.Same, "unchanged"}, {f.Refused, "refused"}, {f.Owed, "in the backlog"}} {
		if part.n > 0 {
			parts = append(parts, humanize.Comma(part.n)+" "+part.what)
		}
	}
	switch {
	case len(parts) > 0 && f.LagMS == nil:
		return strings.Join(parts, ", ") + ", more on their way"
	case len(parts) > 0:
		return strings.Join(parts, ", ")
	case f.LagMS == nil:
		return "on its way"
	}
	return "built together with others, or touches no document"
}

// Recent lists the last changes of a source, newest first, with what became of each.
func (s *Service) Recent(name string) ([]Followed, error) {
	s.mu.RLock()
	defer s.mu.RUnlock()
	if h := s.held[name]; h != nil {
		return h.stream.tail.recent(), nil
	}
	if p, ok := s.elsewhere[name]; ok {
		return append([]Followed{}, p.Recent...), nil
	}
	return nil, fmt.Errorf("source %q is %w", name, ErrUnknown)
}
