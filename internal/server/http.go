package server

import (
	"bytes"
	"compress/gzip"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"mime"
	"net/http"
	"slices"
	"strings"

	"github.com/CAFxX/httpcompression"
	"github.com/labstack/echo/v4"

	"pingo/internal/api"
)

// problemType names a sort of problem (RFC 9457). docs/reference/http-api.md describes each.
func problemType(status int) string {
	name := strings.ToLower(strings.ReplaceAll(http.StatusText(status), " ", "-"))
	return "urn:pingo:problem:" + name
}

// headAsGet answers HEAD wherever GET is answered: a handler writes as for GET, and the server, which has the request as
// it came, sends no body.
func headAsGet(h http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Method == http.MethodHead {
			r = r.WithContext(context.WithValue(r.Context(), headKey{}, true))
			r.Method = http.MethodGet
		}
		h.ServeHTTP(w, r)
	})
}

type headKey struct{}

// isHead reports whether a request that is handled as GET is HEAD.
func isHead(c echo.Context) bool { return c.Request().Context().Value(headKey{}) != nil }

// allowed lists the methods that are answered at a path.
func allowed(e *echo.Echo, path string) (methods []string) {
	parts := strings.Split(path, "/")
	for _, r := range e.Routes() {
		pattern := strings.Split(r.Path, "/")
		if r.Path == "/*" || r.Method == echo.RouteNotFound || len(pattern) != len(parts) {
			continue
		}
		fits := true
		for i := range pattern {
			fits = fits && (pattern[i] == parts[i] || strings.HasPrefix(pattern[i], ":") && parts[i] != "")
		}
		if fits && !slices.Contains(methods, r.Method) {
			methods = append(methods, r.Method)
		}
	}
	if slices.Contains(methods, http.MethodGet) {
		methods = append(methods, http.MethodHead)
	}
	slices.Sort(methods)
	return methods
}

// compressed compresses answers to GET that are worth it, with br or gzip. The event stream, which compresses itself, and
// metrics, whose handler does, are left out.
func compressed(h http.Handler) (http.Handler, error) {
	const least = 1 << 10 // bytes
	adapter, err := httpcompression.Adapter(
		httpcompression.BrotliCompressionLevel(4), // about as fast as gzip
		httpcompression.GzipCompressionLevel(gzip.DefaultCompression),
		httpcompression.MinSize(least),
		httpcompression.ContentTypes([]string{
			"application/json", "application/problem+json", "application/schema+json", "text/html", "text/css", "text/javascript", "text/plain", "image/svg+xml",
		}, false),
	)
	if err != nil {
		return nil, err
	}
	smaller := adapter(h)
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Method != http.MethodGet || r.URL.Path == "/api/events" || r.URL.Path == "/metrics" {
			h.ServeHTTP(w, r)
			return
		}
		smaller.ServeHTTP(w, r)
	}), nil
}

// fresh answers 304 where the caller has the answer already, by its ETag.
func fresh(c echo.Context, body []byte) (is bool) {
	sum := sha256.Sum256(body)
	tag := `W/"` + hex.EncodeToString(sum[:12]) + `"`
	c.Response().Header().Set("ETag", tag)
	for known := range strings.SplitSeq(c.Request().Header.Get("If-None-Match"), ",") {
		if known = strings.TrimSpace(known); known == tag || known == "*" {
			return true
		}
	}
	return false
}

// tagged adds an ETag to answers of JSON to GET, and answers 304 where the caller has the same already.
func tagged(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c echo.Context) error {
		if c.Request().Method != http.MethodGet || c.Request().URL.Path == "/api/events" {
			return next(c)
		}
		was := c.Response().Writer
		held := &heldBack{ResponseWriter: was}
		c.Response().Writer = held
		err := next(c)
		c.Response().Writer = was
		if !held.wrote {
			return err
		}
		if held.status == http.StatusOK && strings.HasPrefix(was.Header().Get("Content-Type"), "application/json") && fresh(c, held.body.Bytes()) {
			was.Header().Del("Content-Type")
			was.WriteHeader(http.StatusNotModified)
			return err
		}
		was.WriteHeader(held.status)
		if _, failed := was.Write(held.body.Bytes()); err == nil {
			err = failed
		}
		return err
	}
}

// heldBack keeps an answer until it is whole.
type heldBack struct {
	http.ResponseWriter
	wrote  bool
	status int
	body   bytes.Buffer
}

// WriteHeader notes the status.
func (h *heldBack) WriteHeader(status int) {
	if !h.wrote {
		h.wrote, h.status = true, status
	}
}

// Write keeps a part of the body.
func (h *heldBack) Write(b []byte) (int, error) {
	h.WriteHeader(http.StatusOK)
	return h.body.Write(b)
}

// checkContent refuses a body that says it is something else than JSON.
func checkContent(r *http.Request) error {
	text := r.Header.Get("Content-Type")
	if text == "" {
		return nil
	}
	kind, _, err := mime.ParseMediaType(text)
	if err != nil || kind != "application/json" && !strings.HasSuffix(kind, "+json") {
		return problemf(http.StatusUnsupportedMediaType, "the body is %.100s; send it with Content-Type: application/json", text)
	}
	return nil
}

// unauthorized is 401 with the challenge that HTTP asks for.
func unauthorized(c echo.Context, format string, args ...any) *api.Problem {
	challenge := `Bearer realm="pingo"`
	if _, shown := credentialOf(c); shown {
		challenge += `, error="invalid_token"`
	}
	c.Response().Header().Set("WWW-Authenticate", challenge)
	return problemf(http.StatusUnauthorized, format, args...)
}

// next names the page of a list that follows, for a reader who follows links (RFC 8288).
func next(c echo.Context, parameter, value string) {
	u := *c.Request().URL
	query := u.Query()
	query.Set(parameter, value)
	u.RawQuery = query.Encode()
	c.Response().Header().Set("Link", fmt.Sprintf(`<%s>; rel="next"`, u.RequestURI()))
}
