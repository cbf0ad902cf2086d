package document

import (
	"hash/maphash"
	"strconv"
	"time"
)

// Seen remembers which content an engine acknowledged last for a key, so that the same
// is not sent again. It forgets the keys that were not met for longest, and all of them
// after a while: another client may have changed a document in the engine, or the engine
// may have lost it. It is not safe for concurrent use; the zero value is ready.
type Seen struct {
	seed       maphash.Seed
	young, old map[uint64]uint64
	began      time.Time // when young did
}

// How many keys a generation holds, and how long it grows; there are two.
const (
	seenKeys = 16384
	seenFor  = 30 * time.Second
)

const deleted = 1 // is the content of a document that was deleted

// Has reports whether the engine has exactly this document; a nil body is none at all.
func (s *Seen) Has(key string, body []byte, now time.Time) bool {
	if s.young == nil {
		return false
	}
	s.age(now)
	id := maphash.String(s.seed, key)
	content, ok := s.young[id]
	if !ok {
		content, ok = s.old[id]
	}
	wanted, known := contentOf(body)
	return ok && known && content == wanted
}

// Note says that the engine acknowledged a document.
func (s *Seen) Note(key string, body []byte, now time.Time) {
	content, known := contentOf(body)
	if !known {
		s.Forget(key)
		return
	}
	if s.young == nil {
		s.seed, s.young, s.began = maphash.MakeSeed(), map[uint64]uint64{}, now
	}
	s.age(now)
	s.young[maphash.String(s.seed, key)] = content
}

// age begins another generation when the young one has grown for long enough.
func (s *Seen) age(now time.Time) {
	switch grown := now.Sub(s.began); {
	case grown >= 2*seenFor:
		s.old, s.young, s.began = nil, map[uint64]uint64{}, now
	case grown >= seenFor || len(s.young) >= seenKeys:
		s.old, s.young, s.began = s.young, make(map[uint64]uint64, len(s.young)), now
	}
}

// Forget says that it is not known what the engine has.
func (s *Seen) Forget(key string) {
	if s.young != nil {
		id := maphash.String(s.seed, key)
		delete(s.young, id)
		delete(s.old, id)
	}
}

// Clear forgets everything.
func (s *Seen) Clear() { s.young, s.old = nil, nil }

func contentOf(body []byte) (content uint64, known bool) {
	if body == nil {
		return deleted, true
	}
	content, err := strconv.ParseUint(Fingerprint(body), 16, 64)
	return content, err == nil
}
