package server

import (
	"bytes"
	"errors"
	"io"
	"net/http"
	"net/netip"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/labstack/echo/v4"

	"pingo/internal/api"
	"pingo/internal/source"
)

// hooksPath is where events are sent to: a source's name follows, and what the source makes of the
// rest.
const hooksPath = "/hooks/"

const (
	// hooksAtOnce bounds the requests of senders that are worked on at the same time. One counts once its body is here, so
	// that a slow sender delays no other.
	hooksAtOnce = 32
	// bodiesOfOne bounds the requests from one address whose bodies are read at the same time, and bodiesOfAll those from
	// all.
	bodiesOfOne = 16
	bodiesOfAll = 512
	// bodyBytes bounds what the bodies take together that are read or worked on.
	bodyBytes = 64 << 20
	// bodyWithin is how long a body may take, and turnWithin how long a request waits for others.
	bodyWithin = 10 * time.Second
	turnWithin = 2 * time.Second
)

// hooking counts the requests of senders: a sender is unknown until its whole request was read.
type hooking struct {
	slots chan struct{}

	mu    sync.Mutex // guards what follows
	from  map[string]int
	all   int
	bytes int64
}

func newHooking() *hooking {
	return &hooking{slots: make(chan struct{}, hooksAtOnce), from: map[string]int{}}
}

// enter counts a request from an address until the function that it returns is called.
func (h *hooking) enter(address string) (leave func(), ok bool) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.from[address] >= bodiesOfOne || h.all >= bodiesOfAll {
		return nil, false
	}
	h.from[address]++
	h.all++
	return func() {
		h.mu.Lock()
		defer h.mu.Unlock()
		h.all--
		if h.from[address]--; h.from[address] == 0 {
			delete(h.from, address)
		}
	}, true
}

// take counts bytes, negative ones when they are given back.
func (h *hooking) take(n int64) bool {
	h.mu.Lock()
	defer h.mu.Unlock()
	if n > 0 && h.bytes+n > bodyBytes {
		return false
	}
	h.bytes += n
	return true
}

// read reads a body of at most limit bytes, and one more where there is more. The bytes count until the function that it
// returns is called.
func (h *hooking) read(r io.Reader, limit int64) (body []byte, give func(), err error) {
	const part = 32 << 10
	counted := int64(0)
	give = func() { h.take(-counted) }
	var b bytes.Buffer
	for r := io.LimitReader(r, limit+1); ; {
		if !h.take(part) {
			give()
			return nil, nil, errBusy
		}
		counted += part
		n, err := io.CopyN(&b, r, part)
		if err == io.EOF || n < part && err == nil {
			return b.Bytes(), give, nil
		}
		if err != nil {
			give()
			return nil, nil, err
		}
	}
}

var errBusy = problemf(http.StatusTooManyRequests, "too many requests are being read: send it again in a moment")

// hook takes in one request of a sender. It is answered when what it holds is on disk. Strangers may ask: what goes wrong
// is in the log, and the answer tells nothing of other sources and of where the records are.
func (s *Server) hook(c echo.Context) error {
	request := c.Request()
	name := c.Param("source")
	limit, err := s.receive.Limit(name)
	if err != nil && s.flow.Ready() != nil { // there may be such a source
		return problemf(http.StatusServiceUnavailable, "this process receives nothing yet: send it again")
	}
	if err != nil {
		return problemf(http.StatusNotFound, "nothing is received at %s", request.URL.Path)
	}
	controller := http.NewResponseController(c.Response())
	leave, ok := s.hooking.enter(c.RealIP())
	if !ok {
		// Else the server reads the body first, which may not come.
		if err := controller.SetReadDeadline(time.Now()); err != nil && !errors.Is(err, http.ErrNotSupported) {
			return err
		}
		return errBusy
	}
	defer leave()
	if err := controller.SetReadDeadline(time.Now().Add(bodyWithin)); err != nil && !errors.Is(err, http.ErrNotSupported) {
		return err
	}
	body, give, err := s.hooking.read(request.Body, limit)
	if errors.Is(err, errBusy) {
		return errBusy
	}
	if err == nil {
		defer give()
	}
	if err != nil || request.ContentLength > int64(len(body)) && int64(len(body)) <= limit {
		return problemf(http.StatusBadRequest, "the request ended before its body did: send it again")
	}
	waited := time.NewTimer(turnWithin)
	defer waited.Stop()
	select {
	case s.hooking.slots <- struct{}{}:
		defer func() { <-s.hooking.slots }()
	case <-request.Context().Done():
		return request.Context().Err()
	case <-waited.C:
		return errBusy
	}
	path := strings.Trim(strings.TrimPrefix(request.URL.Path, hooksPath+name), "/")
	status, reply, err := s.receive.Receive(request.Context(), name, source.Request{
		Method: request.Method, Path: path, Header: request.Header, Host: request.Host, Known: s.knows(request.Host),
		Body: body, Secure: unread(c), At: time.Now(),
	})
	if errors.Is(err, source.ErrNoRecord) { // a source that is read
		return problemf(http.StatusNotFound, "nothing is received at %s", request.URL.Path)
	}
	if err != nil {
		s.received.WithLabelValues(name, "not kept").Inc()
		s.log.Warn("event not kept", "source", name, "error", err)
		return problemf(http.StatusServiceUnavailable, "the request could not be kept: send it again")
	}
	for outcome, n := range map[source.Outcome]int{
		source.Accepted: reply.Accepted, source.Duplicate: reply.Duplicate, source.Old: reply.Old, "refused": reply.Refused,
	} {
		s.received.WithLabelValues(name, string(outcome)).Add(float64(n))
	}
	if status == http.StatusTooManyRequests {
		c.Response().Header().Set("Retry-After", "1")
	}
	if status == http.StatusUnauthorized {
		c.Response().Header().Set("WWW-Authenticate", `Signature realm="pingo hooks"`)
	}
	return c.JSON(status, reply)
}

// unread reports whether no program between sender and Pingo can read a request.
func unread(c echo.Context) bool {
	from, err := netip.ParseAddr(c.RealIP())
	return overTLS(c) || err == nil && from.IsLoopback()
}

func (s *Server) receipts(c echo.Context) error {
	limit, err := limitOf(c, 50, 1000)
	if err != nil {
		return err
	}
	below := int64(0)
	if text := c.QueryParam("below"); text != "" {
		if below, err = strconv.ParseInt(text, 10, 64); err != nil || below < 1 {
			return problemf(http.StatusBadRequest, "below is the number of a receipt, not %q", text)
		}
	}
	list, err := s.receive.
		Receipts(c.Request().Context(), c.Param("source"), below, limit, c.QueryParam("outcome"))
	if err != nil {
		return err
	}
	if len(list) == limit {
		next(c, "below", strconv.FormatInt(list[limit-1].Number, 10))
	}
	return c.JSON(http.StatusOK, list)
}

func (s *Server) heldRecords(c echo.Context) error {
	list, err := s.receive.Held(c.Request().Context(), c.Param("source"))
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, list)
}

func (s *Server) sign(c echo.Context) error {
	body, err := bind[api.Sign](c)
	if err != nil {
		return err
	}
	headers, err := s.receive.Sign(c.Param("source"), body.Event, []byte(body.Body))
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, api.Signed{Headers: headers})
}

func (s *Server) load(c echo.Context) error {
	body, err := bind[api.Load](c)
	if err != nil {
		return err
	}
	loaded, err := s.receive.
		Load(c.Request().Context(), c.Param("source"), c.Param("record"), body.Rows)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, loaded)
}

func (s *Server) beginLoad(c echo.Context) error {
	begun, err := s.receive.BeginLoad(c.Request().Context(), c.Param("source"), c.Param("record"))
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, begun)
}

func (s *Server) endLoad(c echo.Context) error {
	begun, err := bind[api.LoadBegun](c)
	if err != nil {
		return err
	}
	if begun.Record != c.Param("record") || begun.At.IsZero() {
		return problemf(http.StatusBadRequest, "a listing is ended with what it was begun with")
	}
	n, err := s.receive.EndLoad(c.Request().Context(), c.Param("source"), begun)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, api.DocumentCount{Documents: int(n)})
}
