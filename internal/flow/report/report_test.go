package report

import (
	"strings"
	"testing"
	"time"

	"pingo/internal/api"
)

// in sync is said only when nothing is known to be otherwise.
func TestInSyncIsWhatIsKnown(t *testing.T) {
	now := time.Now()
	ago := func(d time.Duration) *time.Time { at := now.Add(-d); return &at }
	rows, documents := int64(10), int64(11)
	for _, c := range []struct {
		lag, p99 float64 // in milliseconds
		drift    *api.DriftStatus
		state    string
		words    string
	}{
		{0, 0, nil, api.StateInSync, "The engine has every change that Pingo has read so far."},
		{200, 100, nil, api.StateInSync, "except those of the last 200 ms."},
		{400, 100, nil, api.StateCatchingUp, "Behind by 400 ms: 3 documents are waiting"},
		{400, 500, nil, api.StateInSync, "except those of the last 400 ms."},
		{3100, 60_000, nil, api.StateCatchingUp, "Behind by 3 s"},
		{0, 0, &api.DriftStatus{Differing: 3, Kinds: map[string]int64{"missing": 2, "orphaned": 1}}, api.StateDiffers, "3 documents do not match the database: 2 missing, 1 without a row."},
		{0, 0, &api.DriftStatus{ApartSince: ago(time.Minute)}, api.StateDiffers, "11 documents for 10 rows for 1 min 0 s"},
		{0, 0, &api.DriftStatus{ApartSince: ago(time.Minute), CheckedAt: ago(time.Hour)}, api.StateDiffers, "A comparison is looking for the difference"},
		{0, 0, &api.DriftStatus{ApartSince: ago(time.Hour), CheckedAt: ago(time.Minute)}, api.StateInSync, "The engine has every change"},
	} {
		s := &api.IndexStatus{
			Name: "huts", LagMS: c.lag, Lag: api.Percentiles{P99: c.p99}, Waiting: 3, Drift: c.drift, ReadAt: &now,
			Rows: &rows, Documents: &documents,
		}
		Describe(s, now)
		if s.State != c.state || !strings.Contains(s.Sentence, c.words) {
			t.Errorf("%+v: %s: %s", c, s.State, s.Sentence)
		}
	}
}
