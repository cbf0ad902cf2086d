package flow

import (
	"context"
	"time"
)

// sampleEvery is how often the state of an index is remembered.
const sampleEvery = 10 * time.Second

// Moment is how an index was during the time until it was taken.
type Moment struct {
	At       time.Time   `json:"at"`
	Lag      Percentiles `json:"lag"`
	OldestMS float64     `json:"oldestMs"` // age of the oldest change that was not in the engine
	Waiting  int         `json:"waiting"`
	// What the engine took, was spared and refused, per second.
	Applied float64 `json:"applied"`
	Spared  float64 `json:"spared"`
	Refused float64 `json:"refused"`
	Noticed float64 `json:"noticed"` // changes of the source
	Journal int64   `json:"journal"` // changes in the journal
}

// remember keeps samples of a source's indexes in the records until its work ends.
func (s *Service) remember(h *holding) {
	type before struct {
		at                                time.Time
		lags                              int
		applied, spared, refused, noticed int64
	}
	last := map[*editionFlow]before{}
	for {
		sleep(h.ctx, sampleEvery)
		if h.ctx.Err() != nil {
			return
		}
		s.mu.RLock()
		editions := h.editions
		s.mu.RUnlock()
		now := time.Now()
		for _, pair := range pairs(editions) {
			e := pair.live
			if e == nil {
				e = pair.filling
			}
			sample := Moment{At: now, Waiting: e.waiting()}
			if oldest := e.oldest(); !oldest.IsZero() {
				sample.OldestMS = max(0, float64(now.Sub(oldest))/float64(time.Millisecond))
			}
			if j := h.stream.journal.get(); j != nil {
				sample.Journal = j.Waiting
			}
			b := before{at: now, applied: e.applied.sum(), spared: e.spared.sum(), refused: e.refusals.sum(), noticed: h.stream.noticed.sum()}
			then, known := last[e]
			sample.Lag, b.lags = e.lag.since(then.lags)
			last[e] = b
			if !known {
				continue
			}
			seconds := now.Sub(then.at).Seconds()
			rate := func(now, then int64) float64 { return float64(now-then) / seconds }
			sample.Applied, sample.Spared, sample.Refused, sample.Noticed = rate(b.applied, then.applied), rate(b.spared, then.spared), rate(b.refused, then.refused), rate(b.noticed, then.noticed)
			if err := s.records.SaveSample(h.ctx, e.record.Index, now, sample); err != nil && h.ctx.Err() == nil {
				h.stream.log.Warn("remembering how an index was", "index", e.record.Index, "error", err)
			}
		}
	}
}

// History lists the samples of an index of the last so many minutes, oldest first.
func (s *Service) History(ctx context.Context, index string, minutes int) ([]Moment, error) {
	if _, err := s.index(ctx, index); err != nil {
		return nil, err
	}
	out := []Moment{}
	err := s.records.Samples(ctx, index, time.Duration(minutes)*time.Minute, &out)
	return out, err
}
