package server

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"gopkg.in/yaml.v3"

	"pingo/internal/api"
	"pingo/internal/lab/pgtest"
	"pingo/internal/lab/standin"
)

// described is what openapi.yaml says of the calls.
type described struct {
	Paths map[string]map[string]struct {
		Parameters []struct {
			Name     string
			In       string
			Required bool
			Schema   struct{ Type string }
		}
		RequestBody any `yaml:"requestBody"`
		Security    *[]any
		Responses   map[string]any
	}
}

func document(t testing.TB) described {
	t.Helper()
	var d described
	if err := yaml.Unmarshal(api.OpenAPI, &d); err != nil {
		t.Fatal(err)
	}
	return d
}

// What is described is there, and what is there is described.
func TestEveryRouteIsDescribed(t *testing.T) {
	s, _ := newServerWith(t, Options{})
	var routes, paths []string
	for _, r := range s.echo.Routes() {
		if r.Path == "/*" || strings.HasSuffix(r.Path, "*") ||
			!slices.Contains([]string{"GET", "POST", "PUT", "PATCH", "DELETE"}, r.Method) {
			continue // the console's files, and what groups answer for nothing
		}
		parts := strings.Split(r.Path, "/")
		for i, p := range parts {
			if strings.HasPrefix(p, ":") {
				parts[i] = "{" + p[1:] + "}"
			}
		}
		routes = append(routes, r.Method+" "+strings.Join(parts, "/"))
	}
	for path, methods := range document(t).Paths {
		for method := range methods {
			paths = append(paths, strings.ToUpper(method)+" "+path)
		}
	}
	slices.Sort(routes)
	slices.Sort(paths)
	if !slices.Equal(slices.Compact(routes), paths) {
		t.Errorf("routes:    %q\ndescribed: %q", routes, paths)
	}
}

// odd are values that a parameter or a part of a body may have and should not.
var odd = []string{
	"",
	" ",
	"0",
	"-1",
	"99999999999999999999",
	"1e3",
	"huts",
	"-",
	"~",
	"a,b,c",
	"../../etc",
	"%",
	"null",
	"\u202e\u0301",
	strings.Repeat("x", 5000),
	"' OR 1=1 --",
	"\x00",
	"\xff",
	"{}",
	"true",
}

const smallDefinition = `
sources:
  lodge: { kind: postgres, url: "${LODGE_URL}" }
engines:
  main: { kind: opensearch, url: "${SEARCH_URL}" }
indexes:
  huts:
    engine: main
    rows: lodge.huts
    fields:
      name: { search: 2, sort: true }
      beds: { filter: true, facet: true }
`

// applyHuts gives a service an index of twenty huts, and returns the URL of their database.
func applyHuts(t *testing.T, h http.Handler, token string) string {
	t.Helper()
	lodge := pgtest.URL(t)
	pgtest.Exec(
		t,
		pgtest.Connect(t, lodge),
		`CREATE TABLE huts (id int PRIMARY KEY, name text, beds int);
		INSERT INTO huts SELECT i, 'Grim Ridge ' || i, i FROM generate_series(1, 20) i`,
	)
	engine := httptest.NewServer(&standin.Server{})
	t.Cleanup(engine.Close)
	t.Setenv("LODGE_URL", lodge)
	t.Setenv("SEARCH_URL", engine.URL)
	body, err := json.Marshal(api.Files{Files: []api.File{{Name: "pingo.yaml", Text: smallDefinition}}})
	if err != nil {
		t.Fatal(err)
	}
	if r := ask(h, token, "POST", "/api/definition/apply", string(body)); r.StatusCode != http.StatusOK {
		t.Fatal(r.Status)
	}
	for deadline := time.Now().Add(time.Minute); ; time.Sleep(20 * time.Millisecond) {
		if r := ask(h, token, "GET", "/api/indexes/huts/preview/3", ""); r.StatusCode == http.StatusOK {
			break
		} else if time.Now().After(deadline) {
			t.Fatal(r.Status)
		}
	}
	return lodge
}

// Whatever is in a request, its answer has a documented status, and is a problem
// object when it is none of success.
func TestOddRequestsGetDocumentedAnswers(t *testing.T) {
	h, token := newServer(t)
	t.Run("without a definition", func(t *testing.T) { requestOddly(t, h, token, nil) })
	applyHuts(t, h, token)
	known := map[string]string{"index": "huts", "source": "lodge", "table": "huts", "key": "3", "version": "1", "seconds": "1"}
	t.Run("with one", func(t *testing.T) { requestOddly(t, h, token, known) })
}

// requestOddly makes requests with odd values, one at a time; known are values that are
// not odd.
func requestOddly(t *testing.T, h http.Handler, token string, known map[string]string) {
	asked := 0
	for path, methods := range document(t).Paths {
		for method, op := range methods {
			if path == "/api/events" {
				continue // an endless stream
			}
			try := func(values map[string]string, body, as string) {
				target, query := path, url.Values{}
				for _, p := range op.Parameters {
					v, given := values[p.Name]
					if !given {
						v, given = known[p.Name], known[p.Name] != ""
					}
					switch {
					case p.In == "path":
						if !given {
							v = "x"
						}
						target = strings.ReplaceAll(target, "{"+p.Name+"}", url.PathEscape(v))
					case given:
						query.Set(p.Name, v)
					}
				}
				if strings.Contains(target, "//") || strings.HasSuffix(target, "/") && path != "/" {
					return // another address
				}
				if len(query) > 0 {
					target += "?" + query.Encode()
				}
				response := ask(h, as, strings.ToUpper(method), target, body)
				asked++
				_, documented := op.Responses[strconv.Itoa(response.StatusCode)]
				var p api.Problem
				switch {
				case !documented:
					t.Errorf("%s %.200s %.60q: %d is not documented", method, target, body, response.StatusCode)
				case response.StatusCode >= 500 && response.StatusCode != http.StatusServiceUnavailable:
					t.Errorf("%s %.200s %.60q: %d", method, target, body, response.StatusCode)
				case response.StatusCode < 400:
				case response.Header.Get("Content-Type") != "application/problem+json" || json.NewDecoder(response.Body).Decode(&p) != nil || p.Status != response.StatusCode || p.Detail == "":
					t.Errorf(
						"%s %.200s %.60q: %d is no problem object: %+v",
						method,
						target,
						body,
						response.StatusCode,
						p,
					)
				}
			}
			try(nil, "", token)
			try(nil, "", "pingo_nobody")
			try(nil, "", "")
			for _, p := range op.Parameters {
				for _, v := range odd {
					try(map[string]string{p.Name: v}, "", token)
				}
			}
			if op.RequestBody == nil {
				continue
			}
			bodies := []string{
				"",
				"{",
				"null",
				"[]",
				"1",
				`"x"`,
				"{}",
				`{"unknown":1}`,
				`{"files":null}`,
				`{"files":[{"name":1}]}`,
				`{"files":[{"name":"a","text":"sources: {}"}]}`,
				`{"keys":[""],"cause":"\u0000"}`,
				`{"all":true}`,
				`{"name":"x","role":"root"}`,
				`{"token":[]}`,
				`{"token":"x"} {}`,
				strings.Repeat("[", 5000),
				`{"token":"` + strings.Repeat("x", 5<<20) + `"}`,
			}
			for _, v := range odd {
				for _, name := range []string{"token", "name", "cause", "source"} {
					bodies = append(bodies, fmt.Sprintf(`{%q:%q}`, name, v))
				}
			}
			for _, body := range bodies {
				try(nil, body, token)
			}
		}
	}
	if asked < 1000 {
		t.Errorf("only %d requests were made", asked)
	}
}
