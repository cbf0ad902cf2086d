package change

import "time"

// Pace bounds how often a key is sent: a few times a second, however often it changes.
// The zero value is ready.
type Pace struct {
	began time.Time
	sent  map[string]int
}

const (
	paceWindow = time.Second
	// PaceSends is how often a key may be sent in a second.
	PaceSends = 4
)

// Sends notes that a key is about to be sent. When it was sent too often of late it
// must wait instead; wait is for how long.
func (p *Pace) Sends(key string, now time.Time) (wait time.Duration) {
	if p.sent == nil {
		p.sent = map[string]int{}
	}
	if now.Sub(p.began) >= paceWindow {
		p.began = now
		clear(p.sent)
	}
	if p.sent[key] >= PaceSends {
		return p.began.Add(paceWindow).Sub(now)
	}
	p.sent[key]++
	return 0
}
