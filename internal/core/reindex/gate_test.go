package reindex

import (
	"strings"
	"testing"
)

// An edition is switched to when it has what its rows make, and is no worse than the one that answers.
func TestGates(t *testing.T) {
	for name, c := range map[string]struct {
		rows  int64
		fresh Counted
		live  *Counted
		lacks string
		stops string // the gates that do
	}{
		"as good":                {63666, Counted{63666, 0}, &Counted{63660, 0}, "", ""},
		"174 are refused":        {63666, Counted{63492, 174}, &Counted{63666, 0}, "", "refused"},
		"as many as before are":  {63666, Counted{63492, 174}, &Counted{63490, 174}, "", ""},
		"a part is missing":      {63666, Counted{60000, 0}, &Counted{60000, 0}, "", "complete"},
		"a few come meanwhile":   {200, Counted{191, 0}, &Counted{190, 0}, "", ""},
		"it shrinks":             {100, Counted{100, 0}, &Counted{1000, 0}, "", "size"},
		"it shrinks and refuses": {100, Counted{80, 20}, &Counted{1000, 19}, "", "refused size"},
		"a few rows went":        {8, Counted{7, 1}, &Counted{9, 1}, "", ""},
		"the live one is wrong":  {100, Counted{80, 20}, &Counted{1000, 19}, "changes may be missing", ""},
		"there is no live one":   {63666, Counted{10, 174}, nil, "", ""},
	} {
		var stops []string
		gates := Judge(c.rows, c.fresh, c.live, c.lacks)
		for _, g := range gates {
			if !g.Passed {
				stops = append(stops, g.Name)
			}
		}
		if got := strings.Join(stops, " "); got != c.stops || Passed(gates) != (c.stops == "") {
			t.Errorf("%s: %q stops it: %+v", name, got, gates)
		}
	}
	if g := Judge(63666, Counted{63492, 174}, &Counted{63666, 0}, ""); g[1].Sentence != "174 failed documents, 0 in the live edition" {
		t.Errorf("%+v", g)
	}
}

// Every step leads on, and only to where it may.
func TestSteps(t *testing.T) {
	order := []State{Preparing, Filling, CatchingUp, Checking, Ready, Switched, Previous, Returning}
	for i, from := range order {
		for j, to := range order {
			want := j == i+1 || from == Ready && to == Ready || from == Returning && to == Switched
			if from.Leads(to) != want {
				t.Errorf("from %s to %s: %t", from, to, !want)
			}
		}
		if !from.Leads(Cancelled) || Cancelled.Leads(from) {
			t.Errorf("%s and cancelled", from)
		}
		if from.Pending() != (i < 5) || from.Rests() != (from == Switched || from == Previous) {
			t.Errorf("%s is pending: %t, and rests: %t", from, from.Pending(), from.Rests())
		}
	}
}

// A first edition becomes live though some of its documents fail, and waits when too many do.
func TestFirstEditions(t *testing.T) {
	standard := DefaultPolicy.Failed
	for name, c := range map[string]struct {
		rows   int64
		fresh  Counted
		limit  Limit
		passes bool
	}{
		"all is well":            {4000, Counted{4000, 0}, standard, true},
		"an empty table":         {0, Counted{0, 0}, standard, true},
		"a few fail":             {4000, Counted{3960, 40}, standard, true},
		"more than a share":      {4000, Counted{3959, 41}, standard, false},
		"a few of a small table": {20, Counted{10, 10}, standard, true},
		"all of a small table":   {3, Counted{0, 3}, standard, false},
		"all":                    {4000, Counted{0, 4000}, standard, false},
		"none may":               {4000, Counted{3999, 1}, Limit{}, false},
		"a number may":           {4000, Counted{3900, 100}, Limit{Number: 100}, true},
	} {
		gates := First(c.rows, c.fresh, c.limit)
		if Passed(gates) != c.passes {
			t.Errorf("%s: %+v", name, gates)
		}
	}
}
