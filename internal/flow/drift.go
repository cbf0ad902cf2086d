package flow

import (
	"slices"

	"pingo/internal/api"
	"pingo/internal/flow/inspect"
	"pingo/internal/records"
)

// Drifts looks at what is known of the drift of a service's indexes.
func Drifts(s *Service) *inspect.Drifts {
	return &inspect.Drifts{
		Inspector: s.Inspect,
		Records:   s.records,
		Deliveries: func(record *records.Edition, key string) (*api.Deliveries, string) {
			return deliveries(s, record, key)
		},
	}
}

// deliveries lists the recent builds of a document; if another process feeds the edition, it returns its address.
func deliveries(s *Service, record *records.Edition, key string) (known *api.Deliveries, fedBy string) {
	f := s.fed(record)
	if f == nil {
		for _, p := range s.Status().Processes {
			if slices.Contains(p.Sources, record.Shape.Source) {
				return nil, p.Address
			}
		}
		return nil, ""
	}
	list, since := f.Edition.Stats.Latest.Of(key)
	known = &api.Deliveries{Since: since, Last: []api.Delivery{}}
	for _, d := range list[:min(len(list), shownDeliveries)] {
		shown := api.Delivery{At: d.At, Outcome: d.Outcome, Bytes: d.Bytes}
		if !d.Changed.IsZero() {
			shown.ChangedAt = &d.Changed
		}
		known.Last = append(known.Last, shown)
	}
	return known, ""
}

// shownDeliveries bounds the builds of one document in an answer.
const shownDeliveries = 10

// ReconcileNow makes a service read the records immediately, because they were just written.
func ReconcileNow(s *Service) {
	select {
	case s.wake <- struct{}{}:
	default:
	}
}
