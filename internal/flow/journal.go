package flow

import (
	"fmt"
	"sync"
	"time"

	"github.com/dustin/go-humanize"
)

// journalLook is what was last seen of a journal's depth.
type journalLook struct {
	mu      sync.Mutex
	now     *JournalStatus
	earlier []JournalStatus // of the last minute
}

func (j *journalLook) get() *JournalStatus {
	j.mu.Lock()
	defer j.mu.Unlock()
	return j.now
}

// lookAtJournal measures a journal, and does what the definition says when it is too large.
func (s *Service) lookAtJournal(h *holding) error {
	st := h.stream
	s.mu.RLock()
	def := s.definition.Source(st.name)
	s.mu.RUnlock()
	if def == nil {
		return nil
	}
	depth, err := st.source.JournalDepth(h.ctx)
	if err != nil {
		return err
	}
	now := &JournalStatus{Depth: depth, LimitBytes: def.JournalLimit, LookedAt: time.Now()}
	j := &st.journal
	j.mu.Lock()
	if len(j.earlier) > 0 {
		then := j.earlier[0]
		now.GrowsPerSecond = float64(now.Waiting-then.Waiting) / now.LookedAt.Sub(then.LookedAt).Seconds()
	}
	j.earlier = append(j.earlier, *now)
	for now.LookedAt.Sub(j.earlier[0].LookedAt) > time.Minute {
		j.earlier = j.earlier[1:]
	}
	// What is left of the table's file after a flood is no reason to worry.
	tooLarge := depth.Bytes > def.JournalLimit && depth.Waiting*400 > def.JournalLimit/4
	if tooLarge {
		now.Warning = fmt.Sprintf("the journal holds %s changes in %s, more than its limit of %s", humanize.Comma(depth.Waiting), humanize.Bytes(uint64(depth.Bytes)), humanize.Bytes(uint64(def.JournalLimit)))
		if def.PastLimit == "keep" {
			now.Warning += "; they are kept, so see that the disk does not fill up, and why they are not worked off"
		}
	}
	news := tooLarge && (j.now == nil || j.now.Warning == "")
	j.now = now
	j.mu.Unlock()
	if news {
		st.log.Warn("the journal is too large", "changes", depth.Waiting, "bytes", depth.Bytes, "limit", def.JournalLimit)
	}
	if tooLarge && def.PastLimit == "remove" {
		st.log.Error("capture is removed, as past_limit says: its indexes are no longer kept true", "changes", depth.Waiting)
		return st.source.RemoveCapture(h.ctx)
	}
	return nil
}
