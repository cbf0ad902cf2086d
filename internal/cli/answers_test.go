package cli_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"mime"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"strconv"
	"strings"
	"sync"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"gopkg.in/yaml.v3"

	"pingo/internal/api"
)

// described compares what the service answers with what openapi.yaml says of it.
type described struct {
	paths    map[string]map[string]any
	document any
	compiler *jsonschema.Compiler

	mu      sync.Mutex
	schemas map[string]*jsonschema.Schema
}

// newDescribed starts a proxy of a service that fails the test when an answer that goes
// through it is none that is described.
func newDescribed(t *testing.T, address string) *httptest.Server {
	t.Helper()
	d := &described{schemas: map[string]*jsonschema.Schema{}, compiler: jsonschema.NewCompiler()}
	d.compiler.AssertFormat()
	var document struct{ Paths map[string]map[string]any }
	var whole any
	err := yaml.Unmarshal(api.OpenAPI, &document)
	if err == nil {
		err = yaml.Unmarshal(api.OpenAPI, &whole)
	}
	if err != nil {
		t.Fatal(err)
	}
	text, err := json.Marshal(whole)
	if err != nil {
		t.Fatal(err)
	}
	if d.document, err = jsonschema.UnmarshalJSON(bytes.NewReader(text)); err != nil {
		t.Fatal(err)
	}
	if err := d.compiler.AddResource("openapi.json", d.document); err != nil {
		t.Fatal(err)
	}
	d.paths = document.Paths
	target := &url.URL{Scheme: "http", Host: address}
	proxy := &httputil.ReverseProxy{Rewrite: func(r *httputil.ProxyRequest) {
		r.SetURL(target)
		r.Out.Host = r.In.Host
		r.Out.Header.Del("Accept-Encoding") // what is compressed cannot be compared; the transport asks for it, and decodes it
	}}
	proxy.ModifyResponse = func(r *http.Response) error {
		if err := d.check(r); err != nil {
			t.Errorf("%s %s: %v", r.Request.Method, r.Request.URL.Path, err)
		}
		return nil
	}
	proxy.ErrorHandler = func(w http.ResponseWriter, _ *http.Request, _ error) {
		panic(http.ErrAbortHandler) // as no one there would answer
	}
	server := httptest.NewServer(proxy)
	t.Cleanup(server.Close)
	return server
}

// path is the described path that a request goes to, "" when it is none of the API.
func (d *described) path(asked string) string {
	best, literal := "", -1
	parts := strings.Split(asked, "/")
	for path := range d.paths {
		pattern := strings.Split(path, "/")
		same := 0
		for i, p := range pattern {
			switch {
			case len(pattern) != len(parts), p != parts[i] && !strings.HasPrefix(p, "{"):
				same = -1
			case p == parts[i] && same >= 0:
				same++
			}
			if same < 0 {
				break
			}
		}
		if same > literal {
			best, literal = path, same
		}
	}
	return best
}

func (d *described) check(r *http.Response) error {
	path := d.path(r.Request.URL.EscapedPath())
	if path == "" {
		return nil // the console's files
	}
	method := strings.ToLower(r.Request.Method)
	place := []string{"paths", path, method, "responses", strconv.Itoa(r.StatusCode)}
	answer, ok := d.at(place).(map[string]any)
	if !ok {
		return fmt.Errorf("status %d is not described", r.StatusCode)
	}
	if reference, is := answer["$ref"].(string); is {
		place = strings.Split(strings.TrimPrefix(reference, "#/"), "/")
		answer, _ = d.at(place).(map[string]any)
	}
	contents, _ := answer["content"].(map[string]any)
	if r.StatusCode == http.StatusNoContent || len(contents) == 0 {
		if r.ContentLength > 0 {
			return fmt.Errorf("status %d has a body that is not described", r.StatusCode)
		}
		return nil
	}
	kind, _, err := mime.ParseMediaType(r.Header.Get("Content-Type"))
	if _, ok := contents[kind]; err != nil || !ok {
		return fmt.Errorf("content type %q is not described", r.Header.Get("Content-Type"))
	}
	if !strings.HasSuffix(kind, "json") {
		return nil
	}
	schema, err := d.schema(append(place, "content", kind, "schema"))
	if err != nil {
		return err
	}
	body, err := io.ReadAll(r.Body)
	if err != nil {
		return nil // the service ended while it answered
	}
	r.Body = io.NopCloser(bytes.NewReader(body))
	v, err := jsonschema.UnmarshalJSON(bytes.NewReader(body))
	if err == nil {
		err = schema.Validate(v)
	}
	if err != nil {
		return fmt.Errorf("%w\n%.2000s", err, body)
	}
	return nil
}

func (d *described) at(place []string) any {
	v := d.document
	for _, name := range place {
		object, _ := v.(map[string]any)
		v = object[name]
	}
	return v
}

func (d *described) schema(place []string) (*jsonschema.Schema, error) {
	pointer := ""
	for _, name := range place {
		name = strings.ReplaceAll(strings.ReplaceAll(name, "~", "~0"), "/", "~1")
		pointer += "/" + url.PathEscape(name)
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	if s, ok := d.schemas[pointer]; ok {
		return s, nil
	}
	s, err := d.compiler.Compile("openapi.json#" + pointer)
	d.schemas[pointer] = s
	return s, err
}
