package server

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"
	"mime"
	"net/http"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/labstack/echo/v4"

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

// access checks tokens; it remembers each for a moment, so that a page's many
// requests are not as many writes.
type access struct {
	records *records.Records
	mu      sync.Mutex
	known   map[string]remembered
}

type remembered struct {
	token *records.Token
	until time.Time
}

const remember = 5 * time.Second

// Caller is who makes a request.
type Caller struct {
	api.Session
	key string
}

func newAccess(rec *records.Records) *access {
	return &access{records: rec, known: map[string]remembered{}}
}

func (a *access) find(ctx context.Context, token string) (*Caller, error) {
	hash := hashOf(token)
	key := string(hash)
	a.mu.Lock()
	r, ok := a.known[key]
	a.mu.Unlock()
	if !ok || time.Now().After(r.until) {
		t, err := a.records.TokenByHash(ctx, hash)
		if err != nil {
			return nil, err
		}
		if t == nil {
			return nil, nil
		}
		r = remembered{t, time.Now().Add(remember)}
		a.mu.Lock()
		if len(a.known) > 1000 {
			clear(a.known)
		}
		a.known[key] = r
		a.mu.Unlock()
	}
	return &Caller{api.Session{Name: r.token.Name, Role: r.token.Role}, key}, nil
}

func (a *access) forget() {
	a.mu.Lock()
	clear(a.known)
	a.mu.Unlock()
}

// still reports whether a caller of a long request may go on.
func (a *access) still(c *Caller) bool {
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Second)
	defer cancel()
	a.mu.Lock()
	r, ok := a.known[c.key]
	a.mu.Unlock()
	if ok && time.Now().Before(r.until) {
		return true
	}
	t, err := a.records.TokenByHash(ctx, []byte(c.key))
	if err == nil && t != nil {
		a.mu.Lock()
		a.known[c.key] = remembered{t, time.Now().Add(remember)}
		a.mu.Unlock()
	}
	return err != nil || t != nil
}

const cookieName = "pingo_session"

// need lets callers through whose role is at least the one given.
func (a *access) need(role string) echo.MiddlewareFunc {
	return func(next echo.HandlerFunc) echo.HandlerFunc {
		return func(c echo.Context) error {
			token, ok := strings.CutPrefix(c.Request().Header.Get("Authorization"), "Bearer ")
			if !ok {
				cookie, err := c.Cookie(cookieName)
				if err != nil {
					return problemf(
						http.StatusUnauthorized,
						"a token is needed: set PINGO_TOKEN, or sign in to the console with one",
					)
				}
				token = cookie.Value
			}
			found, err := a.find(c.Request().Context(), token)
			if err != nil {
				return err
			}
			if found == nil {
				return problemf(
					http.StatusUnauthorized,
					"this token is not known: ask an admin for one (pingo token create)",
				)
			}
			if slices.Index(api.Roles, found.Role) < slices.Index(api.Roles, role) {
				return problemf(
					http.StatusForbidden,
					"token %s has the role %s, and this needs %s",
					found.Name,
					found.Role,
					role,
				)
			}
			c.Set("caller", found)
			return next(c)
		}
	}
}

// ownPages lets requests change something only where a page of another origin could not have made them: with a token
// that no browser adds by itself; or, where a cookie is what lets them in, from a page of ours, and as JSON, which
// no form sends.
func ownPages(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c echo.Context) error {
		r := c.Request()
		switch r.Method {
		case http.MethodGet, http.MethodHead, http.MethodOptions:
			return next(c)
		}
		if strings.HasPrefix(r.Header.Get("Authorization"), "Bearer ") {
			return next(c)
		}
		own := true
		switch site, origin := r.Header.Get("Sec-Fetch-Site"), r.Header.Get("Origin"); {
		case site != "": // the browser knows best, also behind a proxy
			own = site == "same-origin" || site == "none"
		case origin != "":
			from, err := url.Parse(origin)
			own = err == nil && from.Host == r.Host
		}
		if !own {
			return problemf(http.StatusForbidden, "this request was made by a page of another site: use the console, or a token")
		}
		if _, err := c.Cookie(cookieName); err != nil {
			return next(c) // nothing lets it in by itself
		}
		if kind, _, err := mime.ParseMediaType(r.Header.Get("Content-Type")); r.ContentLength != 0 && (err != nil || kind != "application/json") {
			return problemf(http.StatusBadRequest, "the body is to be JSON: send it with Content-Type: application/json")
		}
		return next(c)
	}
}

func caller(c echo.Context) *Caller {
	found, _ := c.Get("caller").(*Caller)
	return found
}

// signIn checks a token and keeps it in a cookie that scripts cannot read.
func (s *Server) signIn(c echo.Context) error {
	body, err := bind[api.SignIn](c)
	if err != nil {
		return err
	}
	found, err := s.access.find(c.Request().Context(), strings.TrimSpace(body.Token))
	if err != nil {
		return err
	}
	if found == nil {
		time.Sleep(300 * time.Millisecond) // guessing is hopeless; this keeps it quiet, too
		return problemf(http.StatusUnauthorized, "this token is not known")
	}
	c.SetCookie(
		&http.Cookie{
			Name:     cookieName,
			Value:    strings.TrimSpace(body.Token),
			Path:     "/",
			HttpOnly: true,
			SameSite: http.SameSiteStrictMode,
			Secure:   c.IsTLS(),
			MaxAge:   int((12 * time.Hour).Seconds()),
		},
	)
	return c.JSON(http.StatusOK, found.Session)
}

func (s *Server) signOut(c echo.Context) error {
	c.SetCookie(
		&http.Cookie{
			Name:     cookieName,
			Path:     "/",
			HttpOnly: true,
			SameSite: http.SameSiteStrictMode,
			MaxAge:   -1,
		},
	)
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
	token, hash := NewToken()
	if err := s.records.CreateToken(c.Request().Context(), body.Name, body.Role, hash); err != nil {
		return err
	}
	return c.JSON(http.StatusCreated, api.CreatedToken{Name: body.Name, Role: body.Role, Token: token})
}

func (s *Server) removeToken(c echo.Context) error {
	there, err := s.records.RemoveToken(c.Request().Context(), c.Param("name"))
	if errors.Is(err, records.ErrLastAdmin) {
		return problemf(http.StatusConflict, "%s is the last token of an admin, and without one nobody could make another: make one first (pingo token create NAME --role admin)", c.Param("name"))
	}
	if err != nil {
		return err
	}
	s.access.forget()
	if !there {
		return problemf(http.StatusNotFound, "there is no token %q", c.Param("name"))
	}
	return c.NoContent(http.StatusNoContent)
}

// FirstToken makes an admin token when there is none at all; empty otherwise.
func FirstToken(ctx context.Context, rec *records.Records) (string, error) {
	list, err := rec.Tokens(ctx)
	if err != nil || len(list) > 0 {
		return "", err
	}
	token, hash := NewToken()
	if err := rec.CreateToken(ctx, "first", api.RoleAdmin, hash); err != nil {
		return "", fmt.Errorf("making the first token: %w", err)
	}
	return token, nil
}
