package server

import (
	"net/http"
	"sync"

	"github.com/labstack/echo/v4"
	"gopkg.in/yaml.v3"

	"pingo/internal/api"
)

var openAPIDocument = sync.OnceValues(func() (map[string]any, error) {
	var document map[string]any
	return document, yaml.Unmarshal(api.OpenAPI, &document)
})

func openAPI(c echo.Context) error {
	document, err := openAPIDocument()
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, document)
}
