package server

import "testing"

// A server may be closed twice.
func TestClosingTwice(t *testing.T) {
	s, _ := newServerWith(t, Options{})
	for range 2 {
		if err := s.Close(); err != nil {
			t.Error(err)
		}
	}
}
