package journal

import (
	"testing"
	"time"
)

// However many ranges are known to be committed, none is forgotten before its changes are read.
func TestCommittedRangesAreNotForgotten(t *testing.T) {
	for name, above := range map[string]func(upto int64) int64{
		"one after the other": func(upto int64) int64 { return upto - 10 },
		"from the start on":   func(int64) int64 { return 0 },
	} {
		c, began := &Cursor{}, time.Now()
		for upto := int64(10); upto <= 10*mostHorizons*8; upto += 10 {
			c.AllCommitted(above(upto), upto)
			for seq := int64(1); seq <= upto; seq += 7 {
				if by, known := c.CommittedBy(seq); !known || by.Before(began) {
					t.Fatalf("%s: change %d of %d: known %t, by %s", name, seq, upto, known, by)
				}
			}
			if _, known := c.CommittedBy(upto + 1); known {
				t.Fatalf("%s: change %d is taken for committed, above %d", name, upto+1, upto)
			}
		}
		if len(c.horizons) > mostHorizons {
			t.Errorf("%s: %d ranges are kept", name, len(c.horizons))
		}
	}
}
