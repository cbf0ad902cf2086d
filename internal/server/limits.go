package server

import (
	"context"
	"errors"
	"net/http"
	"strings"
	"time"

	"github.com/labstack/echo/v4"

	"pingo/internal/api"
)

// turn is how long a request waits for others of its sort to end.
const turn = 2 * time.Second

// atOnce answers at most n requests at a time, each within a time, so that no client can take all of the service or of
// the databases behind it.
func atOnce(n int, each time.Duration) echo.MiddlewareFunc {
	slots := make(chan struct{}, n)
	return func(next echo.HandlerFunc) echo.HandlerFunc {
		return func(c echo.Context) error {
			asked := c.Request().Context()
			waited := time.NewTimer(turn)
			defer waited.Stop()
			select {
			case slots <- struct{}{}:
			case <-asked.Done():
				return asked.Err()
			case <-waited.C:
				c.Response().Header().Set("Retry-After", "1")
				return problemf(
					http.StatusServiceUnavailable,
					"%d requests like this one are being answered already: try again in a moment",
					n,
				)
			}
			defer func() { <-slots }()
			ctx, cancel := context.WithTimeout(asked, each)
			defer cancel()
			c.SetRequest(c.Request().WithContext(ctx))
			err := next(c)
			if err != nil && errors.Is(ctx.Err(), context.DeadlineExceeded) && asked.Err() == nil {
				peer, known := strings.CutSuffix(err.Error(), ": "+context.DeadlineExceeded.Error())
				if !known {
					peer = "a source, an engine or the records database"
				}
				return problemf(http.StatusServiceUnavailable, "timed out after %v waiting for %s: try again", each, peer)
			}
			return err
		}
	}
}

// freshPlan is how long the plan of the definition in force is shown again.
const freshPlan = 5 * time.Second

// plan is the plan of the definition in force as it was made last.
type plan struct {
	version int
	made    time.Time
	plan    *api.Plan
}

// planInForce checks the definition in force, for its shapes and samples: once for all who ask at a time.
func (s *Server) planInForce(c echo.Context) error {
	// The client may leave while others still wait for the answer.
	ctx := context.WithoutCancel(c.Request().Context())
	made, err, _ := s.planning.Do("", func() (any, error) {
		applied, err := s.records.Definition(ctx)
		if err != nil {
			return nil, err
		}
		if applied == nil {
			return nil, problemf(http.StatusNotFound, "no definition was applied yet: pingo apply does that")
		}
		if last := s.planned.Load(); last != nil && last.version == applied.Version &&
			time.Since(last.made) < freshPlan {
			return last.plan, nil
		}
		p, err := s.flow.Define.Check(ctx, api.Files{Files: versionOf(applied).Files})
		if err != nil {
			return nil, err
		}
		s.planned.Store(&plan{applied.Version, time.Now(), p})
		return p, nil
	})
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, made)
}
