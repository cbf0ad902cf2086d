package inspect

import (
	"encoding/json"
	"strings"
	"testing"
	"time"

	"pingo/internal/api"
	"pingo/internal/core/shape"
)

// What is in flight is reported before anybody is advised to repair anything.
func TestVerdictsOfATrace(t *testing.T) {
	now := time.Now()
	tree := &shape.Tree{Nodes: []*shape.Node{{Where: "open", Fields: []shape.Field{{Name: "n", Type: shape.Integer}}}}}
	const doc = `{"pingo_fingerprint":"0123456789abcdef","n":1}`
	differs := []api.FieldDifference{{Path: "n"}}
	printed := append([]api.FieldDifference{{Path: "pingo_fingerprint"}}, differs...)
	since := now.Add(-40 * time.Second)
	for _, c := range []struct {
		row, inside          bool
		stored               string
		fields               []api.FieldDifference
		changes              int
		way                  way
		failed               bool
		state, verdict, next string
	}{
		{row: true, inside: true, stored: doc, state: "good", verdict: "holds what the row makes"},
		{row: true, stored: "null", state: "outside", verdict: "keeps it out of the index: open", next: "where"},
		{stored: "null", state: "none", verdict: "No row and no document"},
		{row: true, inside: true, stored: "null", state: "missing", verdict: "no document of it", next: "pingo repair huts 7"},
		{row: true, stored: doc, state: "orphaned", verdict: "although where excludes it", next: "pingo repair"},
		{stored: doc, state: "orphaned", verdict: "but the row does not exist", next: "pingo repair"},
		{row: true, inside: true, stored: doc, fields: differs, state: "altered", verdict: "carries the row's fingerprint", next: "pingo repair"},
		{row: true, inside: true, stored: doc, fields: printed, state: "stale", verdict: "Something other than Pingo", next: "pingo repair"},
		{row: true, inside: true, stored: "null", changes: 1, state: "waiting", verdict: "(update, made now)", next: "pingo wait"},
		{
			row: true, inside: true, stored: doc, fields: printed, way: way{changes: 3, oldest: &since}, state: "waiting",
			verdict: "3 changes are on the way, the oldest made 40 seconds ago", next: "long transaction",
		},
		{
			row: true, inside: true, stored: "null", way: way{missed: "a trigger was disabled"}, state: "waiting",
			verdict: "Changes may be missing in huts-e1: a trigger was disabled", next: "pingo status huts",
		},
		{row: true, inside: true, stored: "null", failed: true, state: "refused", verdict: "failed: no number", next: "pingo failed retry huts 7"},
	} {
		x := &api.Traced{
			Index: "huts", Edition: "huts-e1", Key: "7", Row: c.row, Inside: c.inside, Stored: json.RawMessage(c.stored), Fields: c.fields,
		}
		for range c.changes {
			x.Changes = append(x.Changes, api.WaitingChange{Op: "update", At: now})
		}
		if c.failed {
			x.Failed = &api.FailedDetail{Explanation: "no number"}
		}
		verdict(x, tree, c.way, now)
		if x.State != c.state || !strings.Contains(x.Verdict, c.verdict) || !strings.Contains(x.Next, c.next) ||
			c.next == "" && x.Next != "" {
			t.Errorf("%+v: %s: %s %s", c, x.State, x.Verdict, x.Next)
		}
	}
}
