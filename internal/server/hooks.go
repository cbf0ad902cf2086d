package server

import (
	"io"
	"net/http"
	"net/netip"
	"strconv"
	"strings"
	"time"

	"github.com/labstack/echo/v4"

	"pingo/internal/api"
	"pingo/internal/source"
)

// hooksPath is where events are sent to: a source's name follows, and what the source makes of the
// rest.
const hooksPath = "/hooks/"

// hooksAtOnce bounds the requests of senders that are read at the same time: nobody knows who sends
// until the whole of a request was read.
const hooksAtOnce = 32

// hook takes in one request of a sender. It is answered when what it holds is on disk.
func (s *Server) hook(c echo.Context) error {
	select {
	case s.hooking <- struct{}{}:
		defer func() { <-s.hooking }()
	default:
		c.Response().Header().Set("Retry-After", "1")
		return problemf(
			http.StatusTooManyRequests,
			"%d requests are being read already: send it again in a moment",
			hooksAtOnce,
		)
	}
	request := c.Request()
	name := c.Param("source")
	limit, err := s.receive.Limit(name)
	if err != nil {
		return err
	}
	// One byte more than allowed shows that there is more.
	body, err := io.ReadAll(io.LimitReader(request.Body, limit+1))
	if err != nil {
		return problemf(http.StatusBadRequest, "the request ended before its body did: send it again")
	}
	if request.ContentLength > int64(len(body)) && int64(len(body)) <= limit {
		return problemf(http.StatusBadRequest, "the request ended before its body did: send it again")
	}
	path := strings.Trim(strings.TrimPrefix(request.URL.Path, hooksPath+name), "/")
	status, reply, err := s.receive.Receive(request.Context(), name, source.Request{
		Method: request.Method, Path: path, Header: request.Header, Body: body, Secure: unread(c), At: time.Now(),
	})
	if err != nil && status != 0 {
		s.received.WithLabelValues(name, "not kept").Inc()
		s.log.Warn("event not kept", "source", name, "error", err)
		return problemf(status, "%v", err)
	}
	if err != nil {
		return err
	}
	for outcome, n := range map[source.Outcome]int{
		source.Accepted: reply.Accepted, source.Duplicate: reply.Duplicate, source.Old: reply.Old, "refused": reply.Refused,
	} {
		s.received.WithLabelValues(name, string(outcome)).Add(float64(n))
	}
	if status == http.StatusTooManyRequests {
		c.Response().Header().Set("Retry-After", "1")
	}
	return c.JSON(status, reply)
}

// unread reports whether nobody on the way can read a request.
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
