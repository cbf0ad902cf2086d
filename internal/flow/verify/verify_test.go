package verify

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"testing"
	"testing/synctest"

	"pingo/internal/core/shape"
	"pingo/internal/source"
)

// seen is a capture that is found as it was listed, look by look.
type seen struct {
	source.Capture
	looks [][]source.Gap
}

func (s *seen) Gaps(context.Context, []shape.Captured) ([]source.Gap, error) {
	if len(s.looks) == 0 {
		return nil, errors.New("away")
	}
	now := s.looks[0]
	s.looks = s.looks[1:]
	return now, nil
}

// What a person does to capture is told by how it stands in the end, and nothing that was seen on the way is forgotten.
func TestWhatIsHalfDoneIsLookedAtAgain(t *testing.T) {
	gap := func(table, reason string, deliberate bool) source.Gap {
		return source.Gap{Table: shape.Ref{Name: table}, Reason: reason, Deliberate: deliberate}
	}
	dropped, removed, altered := gap(
		"huts",
		"triggers dropped",
		true,
	), gap(
		"huts",
		"capture removed",
		true,
	), gap(
		"huts",
		"altered",
		false,
	)
	for _, c := range []struct {
		looks [][]source.Gap
		want  string
	}{
		{[][]source.Gap{{}}, ""},
		{[][]source.Gap{{altered}}, "altered"}, // one look is enough
		{[][]source.Gap{{dropped}, {removed, gap("keepers", "capture removed", true)}}, "capture removed, capture removed"},
		{[][]source.Gap{{dropped}, {}}, "triggers dropped"}, // it was made again: what happened meanwhile is not known
		{[][]source.Gap{{dropped}}, "triggers dropped"},     // the source went away
	} {
		synctest.Test(t, func(t *testing.T) {
			capture := &seen{looks: c.looks}
			gaps, err := (&Capture{Capture: capture}).gaps(t.Context(), nil)
			var reasons []string
			for _, g := range gaps {
				reasons = append(reasons, g.Reason)
			}
			if got := strings.Join(reasons, ", "); err != nil || got != c.want || len(capture.looks) > 0 {
				t.Errorf("%s: %q (%v), want %q", fmt.Sprint(c.looks), got, err, c.want)
			}
		})
	}
}
