package document

import (
	"hash/maphash"
	"strconv"
)

// Seen remembers which content an engine acknowledged last for a key, so that the same
// is not sent again. It forgets the keys that were not met for longest. It is not safe
// for concurrent use; the zero value is ready.
type Seen struct {
	seed       maphash.Seed
	young, old map[uint64]uint64
}

// seenKeys is how many keys a generation holds; there are two.
const seenKeys = 16384

const deleted = 1 // stands for the content of a document that is gone

// Has reports whether the engine has exactly this document; a nil body is none at all.
func (s *Seen) Has(key string, body []byte) bool {
	if s.young == nil {
		return false
	}
	id := maphash.String(s.seed, key)
	content, ok := s.young[id]
	if !ok {
		content, ok = s.old[id]
	}
	now, known := contentOf(body)
	return ok && known && content == now
}

// Note says that the engine acknowledged a document.
func (s *Seen) Note(key string, body []byte) {
	content, known := contentOf(body)
	if !known {
		s.Forget(key)
		return
	}
	if s.young == nil {
		s.seed, s.young = maphash.MakeSeed(), map[uint64]uint64{}
	}
	if len(s.young) >= seenKeys {
		s.old, s.young = s.young, make(map[uint64]uint64, seenKeys)
	}
	s.young[maphash.String(s.seed, key)] = content
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
