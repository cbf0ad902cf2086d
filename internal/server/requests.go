package server

import (
	"bytes"
	"encoding/json"
	"errors"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"unicode/utf8"

	"github.com/labstack/echo/v4"
)

// readable refuses addresses with what no name and no value of a database can hold, so that
// no handler behind it has to.
func readable(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c echo.Context) error {
		u := c.Request().URL
		query, err := url.QueryUnescape(u.RawQuery)
		if err != nil {
			return problemf(http.StatusBadRequest, "the address cannot be read: %v", err)
		}
		for _, text := range []string{u.Path, query} {
			if err := checkText(text); err != nil {
				return problemf(http.StatusBadRequest, "the address cannot be read: %v", err)
			}
		}
		return next(c)
	}
}

func checkText(text string) error {
	switch {
	case !utf8.ValidString(text):
		return errors.New("it is not UTF-8")
	case strings.ContainsRune(text, 0):
		return errors.New("there is a zero character in it")
	}
	return nil
}

// bind reads a request's body: one JSON value that has nothing else than T.
func bind[T any](c echo.Context) (T, error) {
	var v T
	if err := checkContent(c.Request()); err != nil {
		return v, err
	}
	body, err := io.ReadAll(c.Request().Body)
	var tooLarge *echo.HTTPError
	switch {
	case errors.As(err, &tooLarge):
		return v, err
	case err == nil:
		err = checkText(string(body))
	}
	for decoder := json.NewDecoder(bytes.NewReader(body)); err == nil; { // JSON can write a zero as \u0000
		var token json.Token
		if token, err = decoder.Token(); err == nil {
			if text, is := token.(string); is {
				err = checkText(text)
			}
		}
	}
	if err == io.EOF {
		decoder := json.NewDecoder(bytes.NewReader(body))
		decoder.DisallowUnknownFields()
		if err = decoder.Decode(&v); err == nil && decoder.More() {
			err = errors.New("something follows its end")
		}
	}
	if err != nil {
		return v, problemf(http.StatusBadRequest, "the request's body cannot be read: %v", err)
	}
	return v, nil
}

func limitOf(c echo.Context, standard, most int) (int, error) {
	return numberOf(c, "limit", standard, most)
}

// numberOf reads a parameter that is a number from 1 on.
func numberOf(c echo.Context, name string, standard, most int) (int, error) {
	text := c.QueryParam(name)
	if text == "" {
		return standard, nil
	}
	n, err := strconv.Atoi(text)
	if err != nil || n < 1 || n > most {
		return 0, problemf(http.StatusBadRequest, "%s is a number from 1 to %d, not %q", name, most, text)
	}
	return n, nil
}

// keyOf reads a document's key, which may hold anything, from a path. Echo takes the path
// as it was escaped only when that is not how Go would have escaped it.
func keyOf(c echo.Context) (string, error) {
	key := c.Param("key")
	if c.Request().URL.RawPath == "" {
		return key, nil
	}
	key, err := url.PathUnescape(key)
	if err != nil {
		return "", problemf(http.StatusBadRequest, "the key cannot be read: %v", err)
	}
	return key, nil
}
