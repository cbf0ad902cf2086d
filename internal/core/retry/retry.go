// Package retry decides what an engine's answer means, and how long to wait
// before the next try.
package retry

import (
	"math/rand/v2"
	"time"
)

// Outcome is what an engine's answer means for a document or a request.
type Outcome int

// The outcomes. Later never counts against the document; Refused is the document's
// own fault; Blocked is the fault of the index, the engine or the credentials.
const (
	Done Outcome = iota
	Newer
	Later
	Refused
	Blocked
)

func (o Outcome) String() string {
	return [...]string{"done", "already newer", "later", "refused", "blocked"}[o]
}

// Classify reads an HTTP status and, where the engine gives one, its word for the
// kind of error.
func Classify(status int, kind string) Outcome {
	switch kind {
	case "version_conflict_engine_exception":
		return Newer
	case "index_not_found_exception", "cluster_block_exception", "security_exception", "index_closed_exception":
		return Blocked
	}
	switch {
	case status >= 200 && status < 300:
		return Done
	case status == 409:
		return Newer
	case status == 408, status == 413, status == 429, status >= 500:
		return Later
	case status == 401, status == 403, status == 404:
		return Blocked
	case status == 400:
		return Refused
	}
	return Blocked
}

// Backoff is the wait before try number attempt, which counts from 1: doubling
// from 50 ms up to 5 s, with jitter so that many do not come back together.
func Backoff(attempt int) time.Duration {
	const first, most = 50 * time.Millisecond, 5 * time.Second
	wait := most
	if attempt < 8 {
		wait = min(most, first<<(max(attempt, 1)-1))
	}
	return wait/2 + rand.N(wait/2)
}
