package change

import "time"

// Throttle bounds how often a key is sent: a few times a second, however often it changes.
// The zero value is ready.
type Throttle struct {
	began time.Time
	sent  map[string]int
}

const (
	throttleWindow = time.Second
	// ThrottleSends is how often a key may be sent in a second.
	ThrottleSends = 4
)

// Admit notes that a key is about to be sent. When it was sent too often recently it
// must wait instead; wait is for how long.
func (t *Throttle) Admit(key string, now time.Time) (wait time.Duration) {
	if t.sent == nil {
		t.sent = map[string]int{}
	}
	if now.Sub(t.began) >= throttleWindow {
		t.began = now
		clear(t.sent)
	}
	if t.sent[key] >= ThrottleSends {
		return t.began.Add(throttleWindow).Sub(now)
	}
	t.sent[key]++
	return 0
}
