package server

import (
	"net/http"
	"slices"
	"strconv"
	"strings"

	"github.com/labstack/echo/v4"

	"pingo/internal/api"
	"pingo/internal/flow"
	"pingo/internal/flow/inspect"
)

// shownDifferences is the default number of differences in an answer, and mostDifferences the largest.
const shownDifferences, mostDifferences = 100, 10_000

func showDrift(d *inspect.Drifts) echo.HandlerFunc {
	return func(c echo.Context) error {
		limit, err := limitOf(c, shownDifferences, mostDifferences)
		if err != nil {
			return err
		}
		found, err := d.Show(c.Request().Context(), c.Param("index"), inspect.DriftAsked{
			Edition: c.QueryParam("edition"), Kind: c.QueryParam("kind"), Cause: c.QueryParam("cause"), Limit: limit,
		})
		if err != nil {
			return err
		}
		return c.JSON(http.StatusOK, found)
	}
}

func driftOrder(d *inspect.Drifts) echo.HandlerFunc {
	return func(c echo.Context) error {
		id, err := strconv.ParseInt(c.Param("id"), 10, 64)
		if err != nil {
			return problemf(http.StatusBadRequest, "a check has a number, not %q", c.Param("id"))
		}
		order, err := d.Order(c.Request().Context(), c.Param("index"), id)
		if err != nil {
			return err
		}
		return c.JSON(http.StatusOK, order)
	}
}

var driftActions = []string{api.DriftCheck, api.DriftRepair, api.DriftStop}

func askDrift(f *flow.Service, d *inspect.Drifts) echo.HandlerFunc {
	return func(c echo.Context) error {
		asked, err := bind[api.DriftAction](c)
		if err != nil {
			return err
		}
		switch {
		case !slices.Contains(driftActions, asked.Action):
			return problemf(
				http.StatusBadRequest,
				"the action is one of %s, not %q",
				strings.Join(driftActions, ", "),
				asked.Action,
			)
		case !slices.Contains([]string{"", "report", "all"}, asked.Repair):
			return problemf(http.StatusBadRequest, "repair is report or all, not %q", asked.Repair)
		case asked.Content != nil && (*asked.Content < 0 || *asked.Content > 1):
			return problemf(http.StatusBadRequest, "content is a share from 0 to 1, not %g", *asked.Content)
		case asked.Sample < 0 || asked.Documents < 0:
			return problemf(http.StatusBadRequest, "sample and documents are numbers above 0, or left out")
		case asked.Sample > 0 && (asked.After != "" || asked.Upto != ""):
			return problemf(http.StatusBadRequest, "a sample is spread over all keys: leave out after and upto")
		}
		order, err := d.Do(c.Request().Context(), c.Param("index"), caller(c).Name, asked)
		if err != nil {
			return err
		}
		flow.ReconcileNow(f)
		return c.JSON(http.StatusOK, order)
	}
}
