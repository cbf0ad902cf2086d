package report

import (
	"strings"
	"testing"
	"time"

	"pingo/internal/api"
)

// in sync is reported only when nothing is known to be otherwise.
func TestInSyncIsWhatIsKnown(t *testing.T) {
	now := time.Now()
	ago := func(d time.Duration) *time.Time { at := now.Add(-d); return &at }
	rows, documents := int64(10), int64(11)
	for _, c := range []struct {
		lag, p99 float64 // in milliseconds
		drift    *api.DriftStatus
		state    string
		words    string
		counted  bool
	}{
		{0, 0, nil, api.StateInSync, "The engine has every change that Pingo has read so far.", false},
		{200, 100, nil, api.StateInSync, "except those of the last 200 ms.", false},
		{400, 100, nil, api.StateCatchingUp, "Behind by 400 ms: 3 documents are waiting", false},
		{400, 500, nil, api.StateInSync, "except those of the last 400 ms.", false},
		{3100, 60_000, nil, api.StateCatchingUp, "Behind by 3 s", false},
		{0, 0, &api.DriftStatus{Differing: 3, Kinds: map[string]int64{"missing": 2, "orphaned": 1}}, api.StateDiffers, "3 documents do not match the database: 2 missing, 1 without a row.", false},
		{0, 0, &api.DriftStatus{ApartSince: ago(time.Minute)}, api.StateDiffers, "11 documents for 10 rows for 1 min 0 s", false},
		{0, 0, &api.DriftStatus{ApartSince: ago(time.Minute), CheckedAt: ago(time.Hour)}, api.StateDiffers, "A comparison is looking for the difference", false},
		{0, 0, &api.DriftStatus{ApartSince: ago(time.Hour), CheckedAt: ago(time.Minute)}, api.StateInSync, "The engine has every change", false},
		{0, 0, nil, api.StateInSync, "so far. Pingo counted the rows 9 s ago and the documents 2 s ago, and is counting both again.", true},
		{0, 0, &api.DriftStatus{ApartSince: ago(time.Hour), CheckedAt: ago(time.Minute)}, api.StateInSync, "so far.", true},
	} {
		s := &api.IndexStatus{
			Name: "huts", LagMS: c.lag, Lag: api.Percentiles{P99: c.p99}, Waiting: 3, Drift: c.drift, ReadAt: &now,
			Rows: &rows, Documents: &documents,
		}
		if c.counted {
			s.CountedAt, s.DocumentsCountedAt = ago(9*time.Second), ago(2*time.Second)
		}
		Describe(s, now)
		if s.State != c.state || !strings.Contains(s.Sentence, c.words) || s.Recounting != strings.Contains(s.Sentence, "counting both") {
			t.Errorf("%+v: %s: %s", c, s.State, s.Sentence)
		}
	}
}

// Behind a backlog the status says at which rate it shrinks, and until when.
func TestBacklogsHaveAnEnd(t *testing.T) {
	now := time.Now()
	for _, c := range []struct {
		waiting   int
		perSecond float64
		want      string
	}{
		{25_000, 1200, "Behind by 12 s: 25,000 documents are waiting to be delivered at 1,200 a second, about 21 s left."},
		{1000, 1200, "Behind by 12 s: 1,000 documents are waiting to be delivered."},
		{25_000, 0, "Behind by 12 s: 25,000 documents are waiting to be delivered."},
	} {
		s := &api.IndexStatus{Name: "huts", LagMS: 12_000, Waiting: c.waiting, PerSecond: c.perSecond, ReadAt: &now}
		if Describe(s, now); s.Sentence != c.want {
			t.Error(s.Sentence)
		}
	}
}

// A filled edition waits for a person only if the service does: with switch: always it becomes live whatever its gates say.
func TestReadyEditions(t *testing.T) {
	now := time.Now()
	failed := []api.Gate{{Name: "size", Sentence: "it has 3 documents of 10"}}
	for _, c := range []struct {
		byHand       bool
		gates        []api.Gate
		state, words string
	}{
		{false, failed, api.StateFilling, "is ready and is about to become live."},
		{false, nil, api.StateFilling, "is ready and is about to become live."},
		{true, nil, api.StateWaiting, "Your decision is needed: run pingo reindex switch huts"},
		{true, failed, api.StateWaiting, "failed a gate: it has 3 documents of 10."},
	} {
		s := &api.IndexStatus{Name: "huts", Live: true, ReadAt: &now, Fill: &api.FillStatus{State: api.FillReady, ByHand: c.byHand, Gates: c.gates}}
		if Describe(s, now); s.State != c.state || !strings.Contains(s.Sentence, c.words) {
			t.Errorf("%+v: %s: %s", c, s.State, s.Sentence)
		}
	}
}
