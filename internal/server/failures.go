package server

import (
	"net/http"
	"regexp"
	"sync"
	"time"

	"github.com/labstack/echo/v4"
	"golang.org/x/time/rate"
)

// failures counts what was tried in vain, by the address that it came from.
type failures struct {
	mu   sync.Mutex // guards what follows
	from map[string]*rate.Limiter
}

const (
	// wrongTokens is the burst of wrong tokens that one address may send; it may send one more each second.
	wrongTokens = 30
	// mostAddresses bounds how many are remembered.
	mostAddresses = 10_000
)

func newFailures() *failures { return &failures{from: map[string]*rate.Limiter{}} }

func (f *failures) of(address string) *rate.Limiter {
	f.mu.Lock()
	defer f.mu.Unlock()
	l := f.from[address]
	if l == nil {
		if len(f.from) >= mostAddresses {
			clear(f.from)
		}
		l = rate.NewLimiter(rate.Every(time.Second), wrongTokens)
		f.from[address] = l
	}
	return l
}

// tokenForm is that of every token: what has another one needs no look at the records.
var tokenForm = regexp.MustCompile(`^pingo_[A-Za-z0-9_-]{32}$`)

// mayTry refuses credentials without asking the records: a token of no form, and any that is not known to this process
// where too many were wrong that came from the same address.
func (a *access) mayTry(c echo.Context, by credential) error {
	a.mu.Lock()
	_, was := a.known[by]
	a.mu.Unlock()
	if was { // it was good a while ago, so it costs those who share the address nothing
		return nil
	}
	limit := a.wrong.of(c.RealIP())
	if limit.Tokens() < 1 {
		c.Response().Header().Set("Retry-After", "5")
		return problemf(http.StatusTooManyRequests, "too many tokens or sessions from %s were not known: wait a moment", c.RealIP())
	}
	if token, ok := bearer(c.Request()); ok && !tokenForm.MatchString(token) {
		limit.Allow()
		return unauthorized(c, "this token is not known, or has expired: ask an admin for one (pingo token create)")
	}
	return nil
}

// failed counts a credential that was not known.
func (a *access) failed(c echo.Context) { a.wrong.of(c.RealIP()).Allow() }
