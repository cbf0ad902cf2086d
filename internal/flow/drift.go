package flow

import "pingo/internal/flow/inspect"

// Drifts looks at what is known of the drift of a service's indexes.
func Drifts(s *Service) *inspect.Drifts {
	return &inspect.Drifts{Inspector: s.Inspect, Records: s.records}
}

// LookAtOnce has a service look into the records, which somebody has just written.
func LookAtOnce(s *Service) {
	select {
	case s.wake <- struct{}{}:
	default:
	}
}
