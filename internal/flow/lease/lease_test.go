package lease

import (
	"fmt"
	"testing"
	"time"

	"pingo/internal/records"
)

func TestSourcesAreShared(t *testing.T) {
	now := time.Now()
	free := func(source string, since time.Duration) records.LeaseState {
		return records.LeaseState{Source: source, Free: true, Since: now.Add(-since)}
	}
	taken := func(source string) records.LeaseState { return records.LeaseState{Source: source, Holder: "other"} }
	for _, c := range []struct {
		what      string
		fed, held []string
		leases    []records.LeaseState
		processes int
		want      string
	}{
		{"the first process takes all", []string{"a", "b"}, nil, nil, 1, "[] [a b]"},
		{"what others hold stays theirs", []string{"a", "b"}, nil, []records.LeaseState{taken("a"), free("b", time.Minute)}, 2, "[] [b]"},
		{"a second process gets a share", []string{"a", "b", "c"}, []string{"a", "b", "c"}, nil, 2, "[c] []"},
		{"what is fed no longer is given up", []string{"b"}, []string{"a", "b"}, nil, 1, "[a] []"},
		{"a free source waits for the one with less to do", []string{"a", "b"}, []string{"a"}, []records.LeaseState{free("b", time.Second)}, 2, "[] []"},
		{"but not for ever", []string{"a", "b"}, []string{"a"}, []records.LeaseState{free("b", time.Minute)}, 2, "[] [b]"},
	} {
		give, take := Balance(c.fed, c.held, c.leases, c.processes, now)
		if got := fmt.Sprint(give, take); got != c.want {
			t.Errorf("%s: %s, want %s", c.what, got, c.want)
		}
	}
}

// A lease ends before its versions would be those of the next epoch.
func TestVersionsNeverReachTheNextEpoch(t *testing.T) {
	l := New(&records.Lease{Source: "lodge", Epoch: 7})
	if first, second := l.NextVersion(), l.NextVersion(); first != 7<<32|1 || second != 7<<32|2 {
		t.Errorf("%d %d", first, second)
	}
	l.taken.Store(versions - 2)
	if v := l.NextVersion(); v >= 8<<32 {
		t.Errorf("version %d", v)
	}
	for range 3 {
		if v := l.NextVersion(); v >= 8<<32 {
			t.Errorf("version %d", v)
		}
	}
	select {
	case <-l.Lost():
	default:
		t.Error("the lease is still held")
	}
	if l.Holds() {
		t.Error("it is held again")
	}
}
