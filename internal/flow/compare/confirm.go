package compare

import (
	"context"
)

// Confirming says how documents that differ are compared again.
type Confirming struct {
	// CaughtUp waits until every change committed so far is delivered.
	CaughtUp func(ctx context.Context) error
	// Failing reports whether a document is failed, which is no difference.
	Failing func(key string) bool
	// Repair has documents built and sent once more before they count; nil when they are to count as they
	// are.
	Repair func(ctx context.Context, keys []string) error
}

const (
	// MostLooks is how often differing documents are compared while their rows are written.
	MostLooks = 8
	// proven is how many looks in a row must show the same row, and another document.
	proven = 2
)

// Confirm looks again at documents that differ, and lists those that differ all the same. A document of a
// row that is being written is not there yet at every look, so it counts only when its row made the same at
// looks between which all changes had arrived.
func (e *Edition) Confirm(ctx context.Context, suspects []Different, c Confirming) (wrong []Different, err error) {
	made, same, enough := map[string]string{}, map[string]int{}, proven
	if c.Repair != nil {
		enough++ // the first look was before it
	}
	for look := 0; len(suspects) > 0 && look < MostLooks; look++ {
		keys := make([]string, len(suspects))
		for i, d := range suspects {
			keys[i], made[d.Key] = d.Key, d.Made
		}
		if look == 1 && c.Repair != nil {
			if err := c.Repair(ctx, keys); err != nil {
				return nil, err
			}
		}
		if err := c.CaughtUp(ctx); err != nil {
			return nil, err
		}
		now, err := e.Keys(ctx, keys)
		if err != nil {
			return nil, err
		}
		suspects = nil
		for _, d := range now {
			switch {
			case c.Failing(d.Key):
			case d.Made != made[d.Key]:
				same[d.Key] = 0
				suspects = append(suspects, d)
			default:
				if same[d.Key]++; same[d.Key] >= enough {
					wrong = append(wrong, d)
					continue
				}
				suspects = append(suspects, d)
			}
		}
	}
	return wrong, nil
}
