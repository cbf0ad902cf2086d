package alert

import (
	"fmt"
	"testing"
	"time"
)

// What lasts is reported once, and once when it is over; what comes and goes is not told repeatedly.
func TestWatch(t *testing.T) {
	var w Watch
	now := time.Date(2031, 5, 4, 0, 0, 0, 0, time.UTC)
	told := ""
	for second := range 400 {
		over := second >= 5 && second < 9 || // too short
			second >= 20 && second < 120 && second%25 != 0 || // with moments in which it is fine
			second >= 200 && second < 300 && second%2 == 0 // never for long enough
		list := []Reading{{Index: "huts", What: Lag, Over: over}, {Index: "trails", What: Failed, Over: second >= 300},
			{Index: "peaks", What: Blocked, Over: second >= 100 && second < 170, Holds: time.Minute}}
		if second >= 350 { // the index is taken out of the definition
			list = list[:1]
		}
		for _, e := range w.Look(now.Add(time.Duration(second)*time.Second), list) {
			told += fmt.Sprintf("%d %s %s %v; ", second, e.Index, e.What, e.Raised)
		}
	}
	if want := "36 huts lag true; 150 huts lag false; 160 peaks blocked true; 200 peaks blocked false; 310 trails failed true; 380 trails failed false; "; told != want {
		t.Errorf("told %q, not %q", told, want)
	}
	if len(w.known) != 0 {
		t.Errorf("%d are kept", len(w.known))
	}
}
