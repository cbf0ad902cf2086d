// Package server is Pingo's face over HTTP: the API, the event stream, metrics and
// the console's files.
package server

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"path"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/labstack/echo/v4"
	"github.com/labstack/echo/v4/middleware"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promhttp"
	"golang.org/x/sync/singleflight"

	"pingo/internal/api"
	"pingo/internal/flow"
	"pingo/internal/flow/connect"
	"pingo/internal/flow/define"
	"pingo/internal/flow/inspect"
	"pingo/internal/flow/receive"
	"pingo/internal/records"
	"pingo/internal/source"
)

// Server serves one flow.
type Server struct {
	flow    *flow.Service
	receive *receive.Receiver
	hooking *hooking
	echo    *echo.Echo
	// knows reports whether a host is a name of this service, or an address.
	knows    func(host string) bool
	received *prometheus.CounterVec // events, by source and outcome
	records  *records.Records
	access   *access
	log      *slog.Logger
	version  string
	closing  chan struct{} // closed by closeOnce

	closeOnce sync.Once
	http      *http.Server
	serve     func(net.Listener) error

	planning singleflight.Group
	planned  atomic.Pointer[plan]

	mu      sync.Mutex     // guards what follows
	streams map[string]int // of events that are open, by who reads them
}

// Secrets are what definitions may have of the machine that the service runs on.
type Secrets = connect.Secrets

// Options say how a service is reached, and what it shows.
type Options struct {
	// Console holds the console's built files.
	Console fs.FS
	Version string
	Log     *slog.Logger
	// Secrets are what definitions may have of this machine.
	Secrets Secrets
	// Memory is how many bytes the process should do with; half of it is for what fills and checks read.
	Memory int64
	// Names are those that browsers reach the service by, in addition to addresses and the machine's own name.
	Names []string
	// Proxies are whose word for where a request came from is taken.
	Proxies []netip.Prefix
	// Certificate of TLS; nil answers without.
	Certificate *Certificate
}

// New makes a server.
func New(f *flow.Service, rec *records.Records, o Options) (*Server, error) {
	s := &Server{
		flow:     f,
		receive:  &receive.Receiver{Connections: f.Inspect.Connections},
		hooking:  newHooking(),
		received: newReceived(),
		records:  rec,
		access:   newAccess(rec),
		log:      o.Log,
		version:  o.Version,
		streams:  map[string]int{},
		closing:  make(chan struct{}),
	}
	s.knows = knownNames(o.Names)
	e := echo.New()
	e.HideBanner, e.HidePort = true, true
	e.HTTPErrorHandler = s.problem
	e.IPExtractor = realAddress(o.Proxies)
	e.Use(middleware.Recover(), behind(o.Proxies), middleware.SecureWithConfig(middleware.SecureConfig{
		HSTSMaxAge: int((365 * 24 * time.Hour).Seconds()), HSTSExcludeSubdomains: true, // where there is TLS
		ContentTypeNosniff: "nosniff", ReferrerPolicy: "no-referrer",
		ContentSecurityPolicy: "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; " +
			"frame-ancestors 'none'; base-uri 'none'; form-action 'self'",
	}), uncached, named(s.knows), middleware.BodyLimitWithConfig(middleware.BodyLimitConfig{
		Limit:   "4M",
		Skipper: func(c echo.Context) bool { return strings.HasPrefix(c.Request().URL.Path, hooksPath) }, // they have their own
	}), readable)
	s.echo = e
	s.routes(e)
	if err := s.console(e, o.Console); err != nil {
		return nil, err
	}
	smaller, err := compressed(headAsGet(e))
	if err != nil {
		return nil, err
	}
	s.http = &http.Server{
		Handler:           smaller,
		ReadHeaderTimeout: 10 * time.Second,
		ReadTimeout:       30 * time.Second,
		WriteTimeout:      maxWait*time.Second + time.Minute, // a slower reader is cut off
		IdleTimeout:       2 * time.Minute,
		MaxHeaderBytes:    64 << 10,
		ErrorLog:          slog.NewLogLogger(o.Log.Handler(), slog.LevelDebug),
	}
	s.serve = s.http.Serve
	if o.Certificate != nil {
		s.http.TLSConfig = o.Certificate.config()
		s.serve = func(l net.Listener) error { return s.http.ServeTLS(l, "", "") }
	}
	return s, nil
}

// Serve answers on a listener until Close.
func (s *Server) Serve(l net.Listener) error {
	if err := s.serve(l); !errors.Is(err, http.ErrServerClosed) {
		return err
	}
	return nil
}

// Close ends event streams, and waits a moment for requests under way. It may be called again.
func (s *Server) Close() error {
	s.closeOnce.Do(func() { close(s.closing) })
	ctx, cancel := context.WithTimeout(context.Background(), 3*time.Second)
	defer cancel()
	return s.http.Shutdown(ctx)
}

// routes lists the whole API; openapi.yaml describes it.
func (s *Server) routes(e *echo.Echo) {
	e.GET("/health", func(c echo.Context) error {
		return c.JSON(http.StatusOK, api.Health{Status: "ok", Version: s.version})
	})
	e.GET("/ready", s.ready)
	e.GET("/openapi.json", openAPI)
	e.GET("/metrics", echo.WrapHandler(s.metrics()), s.need(api.RoleViewer)) // also while the records are away: see find

	for _, path := range []string{hooksPath + ":source", hooksPath + ":source/*"} {
		e.Match([]string{http.MethodPost, http.MethodPut, http.MethodDelete}, path, s.hook)
	}

	// The number of concurrent requests, and the time of each: looks into databases and searches, and checks.
	looks, searches, checks := atOnce(6, 30*time.Second), atOnce(16, 30*time.Second), atOnce(2, time.Minute)
	waits := atOnce(100, (maxWait+10)*time.Second)

	root := e.Group("/api", ownPages, tagged)
	root.POST("/session", s.signIn, middleware.BodyLimit("8K")) // anybody may send it
	root.DELETE("/session", s.signOut)
	viewer := root.Group("", s.need(api.RoleViewer))
	viewer.GET("/session", func(c echo.Context) error { return c.JSON(http.StatusOK, caller(c).Session) })
	viewer.GET("/status", func(c echo.Context) error { return c.JSON(http.StatusOK, s.flow.Status()) })
	viewer.GET("/events", s.events, middleware.Gzip()) // a second is much like the one before
	viewer.GET("/definition", s.definition)
	viewer.GET("/definition/plan", s.planInForce)
	viewer.GET("/definition/versions", s.versions)
	viewer.GET("/definition/versions/:version", s.definition)
	viewer.GET("/indexes/:index/search", s.search, searches)
	viewer.GET("/indexes/:index/wait", s.wait, waits)
	viewer.GET("/leftovers", s.leftovers, looks)
	viewer.GET("/indexes/:index/preview/:key", s.preview, looks)
	viewer.GET("/indexes/:index/sample", s.sample, looks)
	viewer.GET("/indexes/:index/history", s.history)
	runs := &inspect.Reindexes{Inspector: s.flow.Inspect}
	viewer.GET("/indexes/:index/reindex", ofIndex(runs.Runs))
	viewer.GET("/indexes/:index/reindex/estimate", ofIndex(runs.Estimate), looks)
	viewer.GET("/indexes/:index/expect", ofIndex(runs.Expect), looks)
	viewer.GET("/indexes/:index/compare", compare(runs), looks)
	drifts := flow.Drifts(s.flow)
	viewer.GET("/indexes/:index/drift", showDrift(drifts))
	viewer.GET("/indexes/:index/drift/:id", driftOrder(drifts))
	viewer.GET("/indexes/:index/trace/:key", func(c echo.Context) error {
		key, err := keyOf(c)
		if err != nil {
			return err
		}
		traced, err := drifts.Trace(c.Request().Context(), c.Param("index"), key)
		if err != nil {
			return err
		}
		return c.JSON(http.StatusOK, traced)
	}, looks)
	viewer.GET("/sources/:source/changes", s.recent)
	viewer.GET("/sources/:source/trace", s.traceChange, looks)
	viewer.GET("/failed", s.failedGroups)
	viewer.GET("/indexes/:index/failed", s.failed)
	viewer.GET("/indexes/:index/failed/:key", s.failedDocument, looks)
	viewer.GET("/sources/:source/receipts", s.receipts)
	viewer.GET("/sources/:source/records", s.heldRecords)
	operator := root.Group("", s.need(api.RoleOperator))
	operator.POST("/sources/:source/disconnect", s.disconnect)
	operator.DELETE("/sources/:source/disconnect", s.reconnect)
	operator.POST("/sources/:source/records/:record/load", s.load)
	operator.POST("/sources/:source/records/:record/listing", s.beginLoad)
	operator.DELETE("/sources/:source/records/:record/listing", s.endLoad)
	operator.POST(
		"/indexes/:index/failed/retry",
		func(c echo.Context) error { return s.treatFailed(c, s.flow.RetryFailed) },
	)
	operator.POST(
		"/indexes/:index/failed/dismiss",
		func(c echo.Context) error { return s.treatFailed(c, s.flow.DismissFailed) },
	)
	operator.POST("/indexes/:index/reindex", reindex(s.flow))
	operator.POST("/indexes/:index/drift", askDrift(s.flow, drifts))
	admin := root.Group("", s.need(api.RoleAdmin))
	admin.POST("/sources/:source/sign", s.sign)
	admin.POST("/definition/check", s.check, checks)
	admin.POST("/definition/apply", s.apply)
	admin.POST("/definition/capture-script", s.captureScriptFor, checks)
	admin.DELETE("/leftovers/:engine/:edition", func(c echo.Context) error {
		if err := s.flow.Inspect.RemoveLeftover(c.Request().Context(), c.Param("engine"), c.Param("edition")); err != nil {
			return err
		}
		return c.NoContent(http.StatusNoContent)
	})
	admin.GET("/indexes/:index/removal", func(c echo.Context) error {
		out, err := s.remover().PlanIndex(c.Request().Context(), c.Param("index"))
		if err != nil {
			return err
		}
		return c.JSON(http.StatusOK, out)
	})
	admin.DELETE("/indexes/:index", func(c echo.Context) error {
		out, err := s.remover().Index(c.Request().Context(), c.Param("index"), caller(c).Name)
		if err != nil {
			return err
		}
		return c.JSON(http.StatusOK, out)
	})
	admin.GET("/export", func(c echo.Context) error {
		out, err := define.Export(c.Request().Context(), s.flow.Define)
		if err != nil {
			return err
		}
		return c.JSON(http.StatusOK, out)
	})
	admin.GET("/capture", s.captureScript)
	admin.POST("/capture", s.installCapture)
	admin.GET("/capture/removal", s.planRemoval)
	admin.DELETE("/capture", s.removeCapture)
	admin.GET("/tokens", s.tokens)
	admin.POST("/tokens", s.createToken)
	admin.DELETE("/tokens/:name", s.removeToken)
	admin.GET("/sessions", s.sessions)
	admin.DELETE("/sessions/:id", s.endSession)
}

func (s *Server) remover() *define.Remover { return &define.Remover{Definer: s.flow.Define} }

func problemf(status int, format string, args ...any) *api.Problem {
	return &api.Problem{
		Type: problemType(status), Title: http.StatusText(status), Status: status, Detail: fmt.Sprintf(format, args...),
	}
}

// problem answers with an error as application/problem+json.
func (s *Server) problem(err error, c echo.Context) {
	if c.Response().Committed {
		return
	}
	var p *api.Problem
	var fromEcho *echo.HTTPError
	var bad *inspect.BadRequest
	switch {
	case errors.As(err, &p):
	case errors.As(err, &fromEcho):
		method, path := c.Request().Method, c.Request().URL.Path
		methods := allowed(c.Echo(), path)
		if fromEcho.Code == http.StatusNotFound && len(methods) > 0 && !slices.Contains(methods, method) {
			fromEcho = echo.ErrMethodNotAllowed
			c.Response().Header().Set("Allow", strings.Join(methods, ", "))
		}
		p = problemf(fromEcho.Code, "%v", fromEcho.Message)
		if fromEcho.Code == http.StatusMethodNotAllowed {
			p.Detail = fmt.Sprintf("%s is not answered at %s: use one of %s", method, path, c.Response().Header().Get("Allow"))
		}
		if fromEcho.Code == http.StatusNotFound {
			p.Detail = "there is nothing at " + c.Request().URL.Path
			if method := c.Request().Method; method != http.MethodGet {
				p.Detail = "there is nothing to " + method + " at " + c.Request().URL.Path
			}
		}
	case errors.Is(err, inspect.ErrUnknown), errors.Is(err, source.ErrNoRecord):
		p = problemf(http.StatusNotFound, "%v", err)
	case errors.Is(err, inspect.ErrNotReady), errors.Is(err, define.ErrSlow):
		p = problemf(http.StatusServiceUnavailable, "%v", err)
	case errors.As(err, &bad):
		p = problemf(http.StatusBadRequest, "%v", err)
	case errors.Is(err, inspect.ErrNotYet),
		errors.Is(err, define.ErrNeedsFill),
		errors.Is(err, define.ErrNotNow),
		errors.Is(err, records.ErrExists):
		p = problemf(http.StatusConflict, "%v", err)
	default:
		// A source or engine that does not do what it should.
		p = problemf(http.StatusBadGateway, "%v", err)
		s.log.Warn("request failed", "method", c.Request().Method, "path", c.Request().URL.Path, "error", err)
	}
	later := p.Status == http.StatusServiceUnavailable || p.Status == http.StatusTooManyRequests
	if h := c.Response().Header(); later && h.Get("Retry-After") == "" {
		h.Set("Retry-After", "2")
	}
	body, err := json.Marshal(p)
	if err != nil {
		s.log.Error("writing a problem", "error", err)
	}
	if err := c.Blob(p.Status, "application/problem+json", body); err != nil {
		s.log.Debug("answer not sent", "error", err)
	}
}

// uncached keeps answers out of caches, unless a handler says otherwise.
func uncached(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c echo.Context) error {
		c.Response().Header().Set("Cache-Control", "no-store")
		return next(c)
	}
}

func (s *Server) ready(c echo.Context) error {
	if err := s.records.Ping(c.Request().Context()); err != nil {
		s.log.Warn("not ready", "error", err)
		return problemf(http.StatusServiceUnavailable, "the records database does not answer; the service's log says why")
	}
	if err := s.flow.Ready(); err != nil {
		s.log.Warn("not ready", "error", err)
		return problemf(http.StatusServiceUnavailable, "this process does not use the definition in force yet; the service's log says why")
	}
	return c.JSON(http.StatusOK, api.Health{Status: "ready"})
}

const (
	streamsOfOne = 20
	streamsOfAll = 200
	// A reader that takes nothing for this long is cut off.
	slowReader = 10 * time.Second
	// retryStream is how long a reader waits before it connects again.
	retryStream = 2 * time.Second
)

// openStream counts a stream of events of a token, its sessions among them; the caller calls the function when it ends.
func (s *Server) openStream(by string) (end func(), err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	all := 0
	for _, n := range s.streams {
		all += n
	}
	if s.streams[by] >= streamsOfOne || all >= streamsOfAll {
		return nil, problemf(http.StatusTooManyRequests, "%d event streams are open, %d of them with this token: close some", all, s.streams[by])
	}
	s.streams[by]++
	return func() {
		s.mu.Lock()
		defer s.mu.Unlock()
		if s.streams[by]--; s.streams[by] == 0 {
			delete(s.streams, by)
		}
	}, nil
}

// events sends the status once a second, until the client leaves.
func (s *Server) events(c echo.Context) error {
	w := c.Response()
	if isHead(c) {
		w.Header().Set("Content-Type", "text/event-stream")
		return c.NoContent(http.StatusOK)
	}
	end, err := s.openStream(caller(c).Name)
	if err != nil {
		return err
	}
	defer end()
	w.Header().Set("Content-Type", "text/event-stream")
	w.Header().Set("X-Accel-Buffering", "no")
	controller := http.NewResponseController(w)
	if err := controller.SetReadDeadline(time.Time{}); err != nil {
		return err
	}
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	for sent, began := 0, time.Now(); ; {
		body, err := json.Marshal(s.flow.Status())
		if err != nil {
			return err
		}
		if err := controller.SetWriteDeadline(time.Now().Add(slowReader)); err != nil {
			return err
		}
		// Each event is the whole status, so whoever comes back after a while has missed nothing.
		sent++
		_, err = fmt.Fprintf(w, "id: %d-%d\nretry: %d\nevent: status\ndata: %s\n\n",
			began.UnixMilli(), sent, retryStream.Milliseconds(), body)
		if err != nil {
			return nil // the listener left
		}
		if err := controller.Flush(); err != nil {
			return nil
		}
		select {
		case <-c.Request().Context().Done():
			return nil
		case <-s.closing:
			return nil
		case <-tick.C:
		}
		if !s.access.still(caller(c)) {
			return nil
		}
	}
}

// definition answers with a version, the one in force unless another is asked for.
func (s *Server) definition(c echo.Context) error {
	version := 0
	if text := c.Param("version"); text != "" {
		var err error
		if version, err = strconv.Atoi(text); err != nil || version < 1 {
			return problemf(http.StatusBadRequest, "a version is a number from 1, not %q", text)
		}
	}
	applied, err := s.records.DefinitionVersion(c.Request().Context(), version)
	if err != nil {
		return err
	}
	if applied == nil && version > 0 {
		return problemf(http.StatusNotFound, "there is no definition version %d", version)
	}
	if applied == nil {
		return problemf(http.StatusNotFound, "no definition was applied yet: pingo apply does that")
	}
	return c.JSON(http.StatusOK, versionOf(applied))
}

func (s *Server) versions(c echo.Context) error {
	list, err := s.records.DefinitionVersions(c.Request().Context())
	if err != nil {
		return err
	}
	out := make([]api.DefinitionVersion, len(list))
	for i, v := range list {
		out[i] = versionOf(v)
	}
	return c.JSON(http.StatusOK, out)
}

func versionOf(v *records.Applied) api.DefinitionVersion {
	out := api.DefinitionVersion{
		Version:    v.Version,
		AppliedAt:  v.AppliedAt,
		AppliedBy:  v.AppliedBy,
		CarriedOut: v.CarriedOut,
	}
	for _, f := range v.Files {
		out.Files = append(out.Files, api.File(f))
	}
	return out
}

func (s *Server) check(c echo.Context) error {
	body, err := bind[api.Files](c)
	if err != nil {
		return err
	}
	plan, err := s.flow.Define.Check(c.Request().Context(), body)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, plan)
}

func (s *Server) apply(c echo.Context) error {
	body, err := bind[api.Files](c)
	if err != nil {
		return err
	}
	plan, version, err := s.flow.Apply(c.Request().Context(), define.Request{
		Files: body.Files, Indexes: body.Indexes, Accept: body.Accept, By: caller(c).Name,
	})
	if errors.Is(err, define.ErrRefused) {
		p := problemf(http.StatusUnprocessableEntity, "%v", err)
		p.Findings, p.Plan = plan.Findings, plan
		return p
	}
	if errors.Is(err, define.ErrGuarded) {
		p := problemf(http.StatusConflict, "%v", err)
		p.Plan = plan
		return p
	}
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, api.Applied{Version: version, Plan: plan})
}

func (s *Server) captureScriptFor(c echo.Context) error {
	body, err := bind[api.Files](c)
	if err != nil {
		return err
	}
	script, err := s.flow.Define.CaptureScriptFor(c.Request().Context(), body.Files, body.Source)
	if errors.Is(err, define.ErrRefused) {
		return problemf(http.StatusUnprocessableEntity, "%v", err)
	}
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, api.Script{Script: script})
}

// captureScript, like all calls for capture, takes the only source when none is named.
func (s *Server) captureScript(c echo.Context) error {
	script, err := s.flow.Define.CaptureScript(c.Request().Context(), c.QueryParam("source"))
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, api.Script{Script: script})
}

func (s *Server) installCapture(c echo.Context) error {
	if err := s.flow.Define.InstallCapture(c.Request().Context(), c.QueryParam("source")); err != nil {
		return err
	}
	return c.NoContent(http.StatusNoContent)
}

// maxDisconnected is for how long a source may be disconnected, in seconds.
const maxDisconnected = 24 * 60 * 60

func (s *Server) disconnect(c echo.Context) error {
	body, err := bind[api.Disconnect](c)
	if err != nil {
		return err
	}
	if body.Seconds < 1 || body.Seconds > maxDisconnected {
		return problemf(http.StatusBadRequest, "seconds is from 1 to %d, not %d", maxDisconnected, body.Seconds)
	}
	out, err := flow.Disconnect(c.Request().Context(), s.flow, s.records, c.Param("source"), time.Duration(body.Seconds)*time.Second)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, out)
}

func (s *Server) reconnect(c echo.Context) error {
	if err := flow.Reconnect(c.Request().Context(), s.flow, s.records, c.Param("source")); err != nil {
		return err
	}
	return c.NoContent(http.StatusNoContent)
}

func (s *Server) planRemoval(c echo.Context) error {
	removal, err := s.remover().PlanCapture(c.Request().Context(), c.QueryParam("source"))
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, removal)
}

func (s *Server) removeCapture(c echo.Context) error {
	removal, err := s.remover().Capture(c.Request().Context(), c.QueryParam("source"))
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, removal)
}

func (s *Server) search(c echo.Context) error {
	limit, err := limitOf(c, 10, api.MaxHits)
	if err != nil {
		return err
	}
	values := c.QueryParams()
	q := api.Query{
		Text:    values.Get("q"),
		Any:     values.Get("any") == "true",
		Limit:   limit,
		Filters: values["filter"],
		Sort:    values["sort"],
		Facets:  values["facet"],
		Edition: values.Get("edition"),
	}
	hits, err := s.flow.Inspect.Search(c.Request().Context(), c.Param("index"), q)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, hits)
}

// maxWait is how long a request may wait for an index, in seconds.
const maxWait = 300

func (s *Server) wait(c echo.Context) error {
	seconds, err := numberOf(c, "seconds", 30, maxWait)
	if err != nil {
		return err
	}
	waited, err := flow.WaitFor(c.Request().Context(), s.flow, c.Param("index"), time.Duration(seconds)*time.Second)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, waited)
}

func (s *Server) leftovers(c echo.Context) error {
	list, err := s.flow.Inspect.Leftovers(c.Request().Context())
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, list)
}

func (s *Server) preview(c echo.Context) error {
	key, err := keyOf(c)
	if err != nil {
		return err
	}
	preview, err := s.flow.Inspect.Preview(c.Request().Context(), c.Param("index"), key)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, preview)
}

// sample previews the first documents of an index.
func (s *Server) sample(c echo.Context) error {
	limit, err := limitOf(c, 3, 50)
	if err != nil {
		return err
	}
	ctx := c.Request().Context()
	keys, err := s.flow.Inspect.SampleKeys(ctx, c.Param("index"), limit)
	if err != nil {
		return err
	}
	list := []*api.Preview{}
	for _, key := range keys {
		preview, err := s.flow.Inspect.Preview(ctx, c.Param("index"), key)
		if err != nil {
			return err
		}
		list = append(list, preview)
	}
	return c.JSON(http.StatusOK, list)
}

// history says how an index was over the last minutes.
func (s *Server) history(c echo.Context) error {
	minutes, err := numberOf(c, "minutes", 60, 31*1440)
	if err != nil {
		return err
	}
	list, err := s.flow.Inspect.History(c.Request().Context(), c.Param("index"), minutes)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, list)
}

// recent lists the last changes of a source and the outcome of each.
func (s *Server) recent(c echo.Context) error {
	list, err := s.flow.Recent(c.Param("source"))
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, list)
}

// traceChange tells which documents a change of a row would touch. The source - stands
// for the only one.
func (s *Server) traceChange(c echo.Context) error {
	traced, err := s.flow.Inspect.TraceChange(
		c.Request().Context(),
		strings.TrimPrefix(c.Param("source"), "-"),
		c.QueryParam("table"),
		c.QueryParam("key"),
	)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, traced)
}

func (s *Server) failed(c echo.Context) error {
	limit, err := limitOf(c, 50, 1000)
	if err != nil {
		return err
	}
	after, err := failedAfter(c.QueryParam("after"))
	if err != nil {
		return err
	}
	failed, err := s.flow.Inspect.FailedDocuments(
		c.Request().Context(),
		c.Param("index"),
		c.QueryParam("cause"),
		after,
		limit,
	)
	if err != nil {
		return err
	}
	if len(failed) == limit {
		last := failed[limit-1]
		cursor := last.LastAt.UTC().Format(time.RFC3339Nano) + " " + last.Key
		next(c, "after", base64.RawURLEncoding.EncodeToString([]byte(cursor)))
	}
	return c.JSON(http.StatusOK, failed)
}

// failedAfter reads where a list goes on, as its Link has it.
func failedAfter(cursor string) (*records.Failed, error) {
	if cursor == "" {
		return nil, nil
	}
	text, err := base64.RawURLEncoding.DecodeString(cursor)
	at, key, _ := strings.Cut(string(text), " ")
	f := &records.Failed{Key: key}
	if err == nil {
		f.LastAt, err = time.Parse(time.RFC3339Nano, at)
	}
	if err != nil || key == "" || checkText(key) != nil {
		return nil, problemf(http.StatusBadRequest, "after is taken from the Link header of the page before, not %.100q", cursor)
	}
	return f, nil
}

func (s *Server) failedGroups(c echo.Context) error {
	groups, err := s.flow.Inspect.FailedGroups(c.Request().Context(), c.QueryParam("index"))
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, groups)
}

func (s *Server) failedDocument(c echo.Context) error {
	key, err := keyOf(c)
	if err != nil {
		return err
	}
	f, err := s.flow.Inspect.FailedDocument(c.Request().Context(), c.Param("index"), key)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, f)
}

func (s *Server) treatFailed(
	c echo.Context,
	treat func(ctx context.Context, index string, which api.FailedSelection) (int, error),
) error {
	which, err := bind[api.FailedSelection](c)
	if err != nil {
		return err
	}
	if !which.All && which.Cause == "" && len(which.Keys) == 0 {
		return problemf(http.StatusBadRequest, "say which failed documents are meant: keys, cause, or all")
	}
	n, err := treat(c.Request().Context(), c.Param("index"), which)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, api.DocumentCount{Documents: n})
}

// pages are the first parts of the paths of the console's pages.
var pages = []string{"", "index.html", "indexes", "sources", "definition", "failed", "access"}

// console serves the console's files, and its pages, which find out themselves what to show.
func (s *Server) console(e *echo.Echo, files fs.FS) error {
	index, err := fs.ReadFile(files, "index.html")
	if err != nil {
		index = []byte(
			"<!doctype html><title>Pingo</title><p>This binary was built without its console: run make build.",
		)
	}
	static := http.FileServerFS(files)
	e.GET("/*", func(c echo.Context) error {
		name := strings.TrimPrefix(path.Clean(c.Request().URL.Path), "/")
		if info, err := fs.Stat(files, name); err == nil && !info.IsDir() && name != "index.html" {
			if strings.HasPrefix(name, "assets/") {
				c.Response().Header().Set("Cache-Control", "public, max-age=31536000, immutable")
			}
			static.ServeHTTP(c.Response(), c.Request())
			return nil
		}
		if !slices.Contains(pages, strings.Split(name, "/")[0]) {
			if strings.Contains(c.Request().Header.Get("Accept"), "text/html") { // a person, whom the console shows the way
				return c.HTMLBlob(http.StatusNotFound, index)
			}
			return echo.ErrNotFound
		}
		c.Response().Header().Set("Cache-Control", "no-cache")
		if fresh(c, index) {
			return c.NoContent(http.StatusNotModified)
		}
		return c.HTMLBlob(http.StatusOK, index)
	})
	return nil
}

func (s *Server) metrics() http.Handler {
	registry := prometheus.NewRegistry()
	build := prometheus.NewGaugeFunc(prometheus.GaugeOpts{
		Name: "pingo_build_info", Help: "1, with the version of the program.", ConstLabels: prometheus.Labels{"version": s.version, "go": runtime.Version()},
	}, func() float64 { return 1 })
	registry.MustRegister(
		build,
		prometheus.NewGaugeFunc(prometheus.GaugeOpts{Name: "pingo_records_up", Help: "1 while the records database answers this process."}, func() float64 {
			ctx, cancel := context.WithTimeout(context.Background(), 2*time.Second)
			defer cancel()
			return yes(s.records.Ping(ctx) == nil)
		}),
		collectors.NewGoCollector(),
		collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}),
		&exporter{s.flow},
		s.received,
	)
	return promhttp.HandlerFor(registry, promhttp.HandlerOpts{})
}
