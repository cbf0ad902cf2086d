package server

import (
	_ "embed"
	"net/http"
	"sync"

	"github.com/labstack/echo/v4"
	"gopkg.in/yaml.v3"
)

//go:embed openapi.yaml
var openAPIText []byte

var openAPIDocument = sync.OnceValues(func() (map[string]any, error) {
	var document map[string]any
	return document, yaml.Unmarshal(openAPIText, &document)
})

func openAPI(c echo.Context) error {
	document, err := openAPIDocument()
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, document)
}
