package stream

import (
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/dustin/go-humanize"

	"pingo/internal/api"
	"pingo/internal/core/change"
	"pingo/internal/core/shape"
)

// recent follows the last changes of a source to their outcomes.
type recent struct {
	label func(shape.Ref) string

	mu   sync.Mutex // guards last
	last []*traced  // newest last
}

const recentLength = 50

// traced is a change whose outcome is counted.
type traced struct {
	change change.Change
	tally  change.Tally
	done   atomic.Int64 // lag in microseconds, once it is done
}

// add takes up the last of some changes; the others are nil.
func (r *recent) add(changes []change.Change) []*traced {
	out := make([]*traced, len(changes))
	r.mu.Lock()
	defer r.mu.Unlock()
	for i := max(0, len(changes)-recentLength); i < len(changes); i++ {
		out[i] = &traced{change: changes[i]}
		r.last = append(r.last, out[i])
	}
	if extra := len(r.last) - recentLength; extra > 0 {
		r.last = append([]*traced(nil), r.last[extra:]...)
	}
	return out
}

func (t *traced) finished() {
	if t != nil {
		t.done.Store(max(1, time.Since(t.change.At).Microseconds()))
	}
}

// Recent lists the last changes, newest first, with the outcome of each.
func (s *Stream) Recent() []api.RecentChange {
	s.recent.mu.Lock()
	defer s.recent.mu.Unlock()
	out := make([]api.RecentChange, 0, len(s.recent.last))
	for i := len(s.recent.last) - 1; i >= 0; i-- {
		t := s.recent.last[i]
		c := &t.change
		x := api.RecentChange{
			At:        c.At,
			Op:        c.Op.String(),
			Table:     s.recent.label(c.Table),
			Key:       strings.Join(c.Key, ","),
			Sent:      t.tally.Sent.Load(),
			Deleted:   t.tally.Deleted.Load(),
			Unchanged: t.tally.Unchanged.Load(),
			Refused:   t.tally.Refused.Load(),
			Backlog:   t.tally.Backlog.Load(),
		}
		if done := t.done.Load(); done > 0 {
			lag := float64(done) / 1000
			x.LagMS = &lag
		}
		x.Result = result(&x)
		out = append(out, x)
	}
	return out
}

func result(c *api.RecentChange) string {
	var parts []string
	for _, part := range []struct {
		n    int64
		what string
	}{{c.Sent, "sent"}, {c.Deleted, "deleted"}, {c.Unchanged, "unchanged"}, {c.Refused, "refused"}, {c.Backlog, "in the backlog"}} {
		if part.n > 0 {
			parts = append(parts, humanize.Comma(part.n)+" "+part.what)
		}
	}
	switch {
	case len(parts) > 0 && c.LagMS == nil:
		return strings.Join(parts, ", ") + ", more pending"
	case len(parts) > 0:
		return strings.Join(parts, ", ")
	case c.LagMS == nil:
		return "pending"
	}
	return "built together with others, or touches no document"
}
