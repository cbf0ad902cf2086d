package server

import (
	"context"
	"net/http"
	"slices"
	"strings"

	"github.com/labstack/echo/v4"

	"pingo/internal/api"
	"pingo/internal/flow"
	"pingo/internal/flow/inspect"
)

// ofIndex answers with what there is to say of an index.
func ofIndex[T any](look func(ctx context.Context, index string) (T, error)) echo.HandlerFunc {
	return func(c echo.Context) error {
		found, err := look(c.Request().Context(), c.Param("index"))
		if err != nil {
			return err
		}
		return c.JSON(http.StatusOK, found)
	}
}

// comparedRows is how many rows are compared unless a number is asked for, and mostCompared at most.
const comparedRows, mostCompared = 2000, 1_000_000

func compare(looks *inspect.Reindexes) echo.HandlerFunc {
	return func(c echo.Context) error {
		most, err := numberOf(c, "rows", comparedRows, mostCompared)
		if err != nil {
			return err
		}
		compared, err := looks.Compare(c.Request().Context(), c.Param("index"), most)
		if err != nil {
			return err
		}
		return c.JSON(http.StatusOK, compared)
	}
}

var reindexActions = []string{
	api.ReindexStart, api.ReindexCancel, api.ReindexSwitch, api.ReindexPause, api.ReindexResume, api.ReindexPace, api.ReindexRollback,
	api.ReindexDrop,
}

func reindex(f *flow.Service) echo.HandlerFunc {
	return func(c echo.Context) error {
		asked, err := bind[api.ReindexAction](c)
		if err != nil {
			return err
		}
		if !slices.Contains(reindexActions, asked.Action) {
			return problemf(
				http.StatusBadRequest, "the action is one of %s, not %q", strings.Join(reindexActions, ", "), asked.Action)
		}
		done, err := flow.Reindex(c.Request().Context(), f, c.Param("index"), asked)
		if err != nil {
			return err
		}
		return c.JSON(http.StatusOK, done)
	}
}
