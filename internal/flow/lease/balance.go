package lease

import (
	"slices"
	"time"

	"pingo/internal/records"
)

// State is a lease as a process sees it.
type State struct {
	*records.Lease
	// Free: no process holds it, since then.
	Free  bool
	Since time.Time
	// Heard is a time since when its beat was seen to have moved on; zero when it never was.
	// What the records say of it may be of any age until then: they may have been restored.
	Heard time.Time
}

// Observer tells by their beats which leases and processes are alive: one that has not moved
// for as long as a lease lasts is dead. It counts by the clock of its own process, which goes
// on evenly. The zero value is ready.
type Observer struct {
	// Above has by source an epoch that the next lease of this process must be above.
	Above map[string]int64
	// Older are the sources of which the records were seen to have gone back, and do not say
	// so yet.
	Older map[string]bool

	leases    map[string]sight[records.Lease]
	looked    time.Time // when the leases were last read
	processes map[string]sight[records.Process]
}

// sight is what something was like, since when, and when it was last seen to move on.
type sight[T any] struct {
	was   T
	since time.Time
	heard time.Time
}

// RaiseAbove notes an epoch that the next lease on a source must be above.
func (o *Observer) RaiseAbove(source string, epoch int64) {
	if o.Above == nil {
		o.Above = map[string]int64{}
	}
	o.Above[source] = max(o.Above[source], epoch)
}

// NoteOlder notes that the records have gone back, and with them all leases.
func (o *Observer) NoteOlder(leases []State) {
	if o.Older == nil {
		o.Older = map[string]bool{}
	}
	for _, l := range leases {
		o.Older[l.Source] = true
	}
}

// Leases says how the leases are now that they have just been read.
func (o *Observer) Leases(leases []*records.Lease, now time.Time) []State {
	seen := map[string]sight[records.Lease]{}
	out := make([]State, len(leases))
	for i, l := range leases {
		s, known := o.leases[l.Source]
		switch {
		case !known || s.was.Holder != l.Holder || s.was.Epoch != l.Epoch || s.was.Beat > l.Beat:
			s = sight[records.Lease]{was: *l, since: now}
		case s.was.Beat < l.Beat:
			s = sight[records.Lease]{was: *l, since: now, heard: o.looked} // it moved at any time since then
		}
		seen[l.Source] = s
		out[i].Lease, out[i].Free, out[i].Since, out[i].Heard = l, l.Holder == "", s.since, s.heard
		if end := s.since.Add(Time); !out[i].Free && !now.Before(end) {
			out[i].Free, out[i].Since = true, end
		}
	}
	o.leases, o.looked = seen, now
	return out
}

// Processes tells the processes that are alive from those that are dead.
func (o *Observer) Processes(processes []records.Process, now time.Time) (alive, dead []records.Process) {
	seen := map[string]sight[records.Process]{}
	for _, p := range processes {
		s, known := o.processes[p.ID]
		if !known || s.was.Beat != p.Beat {
			s = sight[records.Process]{was: p, since: now}
		}
		seen[p.ID] = s
		if now.Before(s.since.Add(Time)) {
			alive = append(alive, p)
		} else {
			dead = append(dead, p)
		}
	}
	o.processes = seen
	return alive, dead
}

// TakeAfter is how long a free source waits for a process that has less to do.
const TakeAfter = 3 * time.Second

// Together unites sets of names that have one in common. The names of each are sorted.
func Together(sets [][]string) (out [][]string) {
	for _, set := range sets {
		united := slices.Clone(set)
		out = slices.DeleteFunc(out, func(known []string) bool {
			common := slices.ContainsFunc(known, func(name string) bool { return slices.Contains(set, name) })
			if common {
				united = append(united, known...)
			}
			return common
		})
		slices.Sort(united)
		out = append(out, slices.Compact(united))
	}
	return out
}

// Balance says which sources a process gives up and which free ones it tries to take, so that each process gets its share of
// those that are fed. fed lists those together that one process must have; held are the ones that it has now. Where shares
// cannot be equal, one of the processes with most gives up a source while another has too few.
func Balance(
	fed, held [][]string,
	leases []State,
	processes int,
	now time.Time,
) (give, take [][]string) {
	processes = max(1, processes)
	share, least := (len(fed)+processes-1)/processes, len(fed)/processes
	if least > 0 && len(held) > least && len(held) <= share && givesToOthers(fed, held, leases, processes) {
		share = len(held) - 1
	}
	has := func(list [][]string, names []string) bool {
		return slices.ContainsFunc(list, func(x []string) bool { return slices.Equal(x, names) })
	}
	var given []string // they are free in a moment, but not yet
	have := 0
	for _, names := range held {
		if !has(fed, names) || have >= share {
			give, given = append(give, names), append(given, names...)
			continue
		}
		have++
	}
	for _, names := range fed {
		taken, waits := false, false
		for _, name := range names {
			at := slices.IndexFunc(leases, func(l State) bool { return l.Source == name })
			taken = taken || slices.Contains(given, name) || at >= 0 && !leases[at].Free
			waits = waits || at >= 0 && now.Sub(leases[at].Since) < TakeAfter
		}
		switch {
		case taken || has(held, names):
		case have >= min(share, max(1, least)) && waits:
		default:
			take = append(take, names)
			have++
		}
	}
	return give, take
}

// givesToOthers reports whether a process has fewer sources than its share, and this one is the one to give one up: the
// last by name of those that have most.
func givesToOthers(fed, held [][]string, leases []State, processes int) bool {
	holderOf := func(names []string) string {
		at := slices.IndexFunc(leases, func(l State) bool { return l.Source == names[0] })
		if at < 0 || leases[at].Free {
			return ""
		}
		return leases[at].Holder
	}
	counts, free := map[string]int{}, 0
	for _, names := range fed {
		if holder := holderOf(names); holder != "" {
			counts[holder]++
		} else {
			free++
		}
	}
	enough, most := 0, ""
	for holder, n := range counts {
		if n >= len(fed)/processes {
			enough++
		}
		if n > counts[most] || n == counts[most] && holder > most {
			most = holder
		}
	}
	return free == 0 && enough < processes && most == holderOf(held[0])
}
