package server

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"
	"net/http"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/labstack/echo/v4"
	"github.com/labstack/echo/v4/middleware"

	"pingo/internal/api"
	"pingo/internal/records"
)

// NewToken makes a token: what is handed out, and the hash that is stored.
func NewToken() (token string, hash []byte) {
	random := make([]byte, 24)
	rand.Read(random)
	token = "pingo_" + base64.RawURLEncoding.EncodeToString(random)
	return token, hashOf(token)
}

// hashOf needs no salt or slowness: a token is 192 random bits.
func hashOf(token string) []byte {
	sum := sha256.Sum256([]byte(token))
	return sum[:]
}

// newSecret makes what a cookie holds of a session, and the hash that is stored.
func newSecret() (secret string, hash []byte) {
	random := make([]byte, 32)
	rand.Read(random)
	secret = base64.RawURLEncoding.EncodeToString(random)
	return secret, hashOf(secret)
}

// A session ends after a time, and earlier when it is not used.
const (
	sessionLength = 12 * time.Hour
	sessionIdle   = 30 * time.Minute
)

// access checks tokens and sessions; it remembers each for a moment, so that a page's many
// requests are not as many reads.
type access struct {
	records *records.Records
	tries   middleware.RateLimiterStore // to sign in, by address
	wrong   *failures                   // tokens that were not known, by address

	mu    sync.Mutex // guards what follows
	known map[credential]remembered
}

// credential is what lets a request in: a token, or a cookie's session.
type credential struct {
	session bool
	hash    string
}

type remembered struct {
	caller Caller
	until  time.Time
}

// Other processes may accept a revoked session for up to this long.
const remember = 5 * time.Second

// Caller is who makes a request.
type Caller struct {
	api.Session
	credential credential
	id         int64 // of the session, 0 for a token
}

func newAccess(rec *records.Records) *access {
	return &access{
		records: rec,
		known:   map[credential]remembered{},
		wrong:   newFailures(),
		tries: middleware.NewRateLimiterMemoryStoreWithConfig(middleware.RateLimiterMemoryStoreConfig{
			Rate: 1, Burst: 20, ExpiresIn: 10 * time.Minute,
		}),
	}
}

// errNotChecked replaces the reason why access cannot be checked, which strangers must not learn.
var errNotChecked = problemf(http.StatusServiceUnavailable,
	"Pingo cannot check the token because the records database does not answer: try again in a moment")

// find returns the holder of a credential; nil if there is none.
func (a *access) find(ctx context.Context, by credential) (*Caller, error) {
	a.mu.Lock()
	r, ok := a.known[by]
	a.mu.Unlock()
	if ok && time.Now().Before(r.until) {
		return &r.caller, nil
	}
	return a.look(ctx, by, true)
}

// look asks the records who has a credential. With use, that counts as a use of it.
func (a *access) look(ctx context.Context, by credential, use bool) (*Caller, error) {
	caller := Caller{credential: by}
	until := time.Now().Add(remember)
	if by.session {
		s, err := a.records.SessionByHash(ctx, []byte(by.hash), sessionIdle, use)
		if s == nil || err != nil {
			return nil, err
		}
		caller.Session, caller.id = api.Session{Name: s.Token, Role: s.Role}, s.ID
	} else {
		t, err := a.records.TokenByHash(ctx, []byte(by.hash))
		if t == nil || err != nil {
			return nil, err
		}
		caller.Session = api.Session{Name: t.Name, Role: t.Role}
	}
	a.mu.Lock()
	if len(a.known) > 1000 {
		clear(a.known)
	}
	a.known[by] = remembered{caller, until}
	a.mu.Unlock()
	return &caller, nil
}

// metricsLater is how long a token that was good may read metrics while the records cannot be asked.
const metricsLater = time.Hour

// lately is who had a credential when the records were last asked, where they cannot be asked now.
func (a *access) lately(by credential, err error) (*Caller, error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if r, ok := a.known[by]; ok && time.Since(r.until) < metricsLater {
		return &r.caller, nil
	}
	return nil, err
}

// forget makes the next request of each credential ask the records.
func (a *access) forget() {
	a.mu.Lock()
	defer a.mu.Unlock()
	for by, r := range a.known {
		r.until = time.Time{}
		a.known[by] = r
	}
}

// still reports whether a caller of a long request may go on.
func (a *access) still(c *Caller) bool {
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Second)
	defer cancel()
	a.mu.Lock()
	r, ok := a.known[c.credential]
	a.mu.Unlock()
	if ok && time.Now().Before(r.until) {
		return true
	}
	found, err := a.look(ctx, c.credential, false) // an open stream is no sign that a person is there
	return err != nil || found != nil
}

// The name that a browser takes only over TLS, for this host alone, is used where there is TLS.
const (
	cookieName       = "pingo_session"
	secureCookieName = "__Host-" + cookieName
)

func cookieNameOf(c echo.Context) string {
	if overTLS(c) {
		return secureCookieName
	}
	return cookieName
}

// credentialOf is what a request shows.
func credentialOf(c echo.Context) (by credential, shown bool) {
	if token, ok := bearer(c.Request()); ok {
		return credential{hash: string(hashOf(token))}, true
	}
	if cookie, err := c.Cookie(cookieNameOf(c)); err == nil {
		return credential{session: true, hash: string(hashOf(cookie.Value))}, true
	}
	return credential{}, false
}

func bearer(r *http.Request) (token string, ok bool) {
	return strings.CutPrefix(r.Header.Get("Authorization"), "Bearer ")
}

// need lets callers through whose role is at least the one given.
func (s *Server) need(role string) echo.MiddlewareFunc {
	return func(next echo.HandlerFunc) echo.HandlerFunc {
		return func(c echo.Context) error {
			by, shown := credentialOf(c)
			if !shown {
				return unauthorized(c, "a token is needed: set PINGO_TOKEN, or sign in to the console with one")
			}
			if err := s.access.mayTry(c, by); err != nil {
				return err
			}
			found, err := s.access.find(c.Request().Context(), by)
			if err != nil && c.Path() == "/metrics" {
				found, err = s.access.lately(by, err)
			}
			if err != nil {
				return s.notChecked(err)
			}
			if found == nil && by.session {
				return unauthorized(c, "the session has ended: sign in again")
			}
			if found == nil {
				s.access.failed(c)
				s.log.Warn("token refused", "from", c.RealIP())
				return unauthorized(c, "this token is not known, or has expired: ask an admin for one (pingo token create)")
			}
			if slices.Index(api.Roles, found.Role) < slices.Index(api.Roles, role) {
				return problemf(http.StatusForbidden,
					"token %s has the role %s, and this needs %s", found.Name, found.Role, role)
			}
			c.Set("caller", found)
			return next(c)
		}
	}
}

func (s *Server) notChecked(err error) error {
	s.log.Warn("access not checked", "error", err)
	return errNotChecked
}

func caller(c echo.Context) *Caller {
	found, _ := c.Get("caller").(*Caller)
	return found
}

// signIn checks a token and begins a session, whose secret is in a cookie that scripts cannot read.
func (s *Server) signIn(c echo.Context) error {
	if allowed, _ := s.access.tries.Allow(c.RealIP()); !allowed {
		c.Response().Header().Set("Retry-After", "1")
		return problemf(
			http.StatusTooManyRequests,
			"too many attempts to sign in came from %s: wait a moment",
			c.RealIP(),
		)
	}
	body, err := bind[api.SignIn](c)
	if err != nil {
		return err
	}
	ctx := c.Request().Context()
	found, err := s.access.find(ctx, credential{hash: string(hashOf(strings.TrimSpace(body.Token)))})
	if err != nil {
		return s.notChecked(err)
	}
	if found == nil {
		s.log.Warn("sign-in refused", "from", c.RealIP())
		return unauthorized(c, "this token is not known, or has expired")
	}
	secret, hash := newSecret()
	if err := s.records.BeginSession(ctx, found.Name, hash, sessionLength); err != nil {
		return s.notChecked(err)
	}
	s.log.Info("signed in", "token", found.Name, "from", c.RealIP())
	setCookie(c, secret, sessionLength)
	return c.JSON(http.StatusOK, found.Session)
}

// setCookie keeps a session's secret, or takes it away when the length is negative.
func setCookie(c echo.Context, secret string, length time.Duration) {
	c.SetCookie(&http.Cookie{
		Name: cookieNameOf(c), Value: secret, Path: "/", MaxAge: int(length.Seconds()),
		HttpOnly: true, SameSite: http.SameSiteStrictMode, Secure: overTLS(c),
	})
}

// signOut ends the session, so that a copy of its cookie is worth nothing either.
func (s *Server) signOut(c echo.Context) error {
	if cookie, err := c.Cookie(cookieNameOf(c)); err == nil {
		if err := s.records.EndSessionByHash(c.Request().Context(), hashOf(cookie.Value)); err != nil {
			return s.notChecked(err)
		}
		s.access.forget()
	}
	setCookie(c, "", -time.Second)
	return c.NoContent(http.StatusNoContent)
}

func (s *Server) sessions(c echo.Context) error {
	list, err := s.records.Sessions(c.Request().Context(), sessionIdle)
	if err != nil {
		return err
	}
	out := make([]api.OpenSession, len(list))
	for i, x := range list {
		out[i] = api.OpenSession{
			ID: x.ID, Token: x.Token, Role: x.Role, BeganAt: x.BeganAt, UsedAt: x.UsedAt, EndsAt: x.EndsAt,
			Own: x.ID == caller(c).id,
		}
	}
	return c.JSON(http.StatusOK, out)
}

func (s *Server) endSession(c echo.Context) error {
	id, err := strconv.ParseInt(c.Param("id"), 10, 64)
	if err != nil {
		return problemf(http.StatusBadRequest, "a session is a number, not %q", c.Param("id"))
	}
	there, err := s.records.EndSession(c.Request().Context(), id)
	if err != nil {
		return err
	}
	s.access.forget()
	if !there {
		return problemf(http.StatusNotFound, "there is no session %d: pingo token sessions lists them", id)
	}
	s.log.Info("session ended", "session", id, "by", caller(c).Name)
	return c.NoContent(http.StatusNoContent)
}

func (s *Server) tokens(c echo.Context) error {
	list, err := s.records.Tokens(c.Request().Context())
	if err != nil {
		return err
	}
	out := make([]api.Token, len(list))
	for i, t := range list {
		out[i] = api.Token(t)
	}
	return c.JSON(http.StatusOK, out)
}

var tokenName = regexp.MustCompile(`^[a-zA-Z0-9][a-zA-Z0-9._-]{0,63}$`)

func (s *Server) createToken(c echo.Context) error {
	body, err := bind[api.NewToken](c)
	if err != nil {
		return err
	}
	if !tokenName.MatchString(body.Name) || !slices.Contains(api.Roles, body.Role) {
		return problemf(
			http.StatusBadRequest,
			"a token has a name of letters, digits, points, _ and -, and one of the roles %s",
			strings.Join(api.Roles, ", "),
		)
	}
	if body.ExpiresAt != nil && time.Until(*body.ExpiresAt) <= 0 {
		return problemf(
			http.StatusBadRequest,
			"a token cannot expire in the past, at %s",
			body.ExpiresAt.UTC().Format(time.RFC3339),
		)
	}
	token, hash := NewToken()
	if err := s.records.CreateToken(c.Request().Context(), body.Name, body.Role, hash, body.ExpiresAt); err != nil {
		return err
	}
	s.log.Info("token made", "token", body.Name, "role", body.Role, "by", caller(c).Name)
	return c.JSON(http.StatusCreated,
		api.CreatedToken{Name: body.Name, Role: body.Role, Token: token, ExpiresAt: body.ExpiresAt})
}

func (s *Server) removeToken(c echo.Context) error {
	there, err := s.records.RemoveToken(c.Request().Context(), c.Param("name"))
	if errors.Is(err, records.ErrLastAdmin) {
		return problemf(
			http.StatusConflict,
			"%s is the last admin token: create another one first (pingo token create NAME --role admin)",
			c.Param("name"),
		)
	}
	if err != nil {
		return err
	}
	s.access.forget()
	if !there {
		return problemf(http.StatusNotFound, "there is no token %q", c.Param("name"))
	}
	s.log.Info("token removed", "token", c.Param("name"), "by", caller(c).Name)
	return c.NoContent(http.StatusNoContent)
}

// FirstToken makes an admin token when there is none at all; empty otherwise.
func FirstToken(ctx context.Context, rec *records.Records) (string, error) {
	list, err := rec.Tokens(ctx)
	if err != nil || len(list) > 0 {
		return "", err
	}
	token, hash := NewToken()
	if err := rec.CreateToken(ctx, "first", api.RoleAdmin, hash, nil); err != nil {
		return "", fmt.Errorf("making the first token: %w", err)
	}
	return token, nil
}

// ResetToken makes an admin token without the service, for administrators who have lost every token. One of that name ends.
func ResetToken(ctx context.Context, rec *records.Records, name string) (string, error) {
	if !tokenName.MatchString(name) {
		return "", fmt.Errorf("a token has a name of letters, digits, points, _ and -, not %q", name)
	}
	token, hash := NewToken()
	if err := rec.ResetToken(ctx, name, api.RoleAdmin, hash); err != nil {
		return "", fmt.Errorf("making the token: %w", err)
	}
	return token, nil
}
