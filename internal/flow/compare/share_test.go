package compare

import (
	"math"
	"testing"
)

// A share of many small ranges is as large as one of a large range, whatever came before.
func TestShares(t *testing.T) {
	for _, of := range []float64{0, 0.1, 0.25, 1} {
		for round := range 3 {
			share, n := &Share{Of: of, From: of * float64(round)}, 0
			for range 1000 {
				if share.Next() {
					n++
				}
			}
			if math.Abs(float64(n)-1000*of) > 1 {
				t.Errorf("%g of 1000 in round %d: %d", of, round, n)
			}
		}
	}
}
