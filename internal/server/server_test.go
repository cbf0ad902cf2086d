package server

import (
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/labstack/echo/v4"

	"github.com/jackc/pgx/v5"

	"pingo/internal/api"
	"pingo/internal/flow"
	"pingo/internal/flow/connect"
	"pingo/internal/kinds"
	"pingo/internal/lab/pgtest"
	"pingo/internal/lab/standin"
	"pingo/internal/records"
)

func TestMain(m *testing.M) { pgtest.Main(m) }

// newServer gives the handler of a service without any definition, and an admin's token.
func newServer(t testing.TB) (http.Handler, string) {
	t.Helper()
	s, token := newServerWith(t, Options{})
	return s.http.Handler, token
}

func newServerWith(t testing.TB, o Options) (*Server, string) {
	t.Helper()
	rec, err := records.Open(t.Context(), pgtest.URL(t))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { rec.Close() })
	log := slog.New(slog.DiscardHandler)
	service, err := flow.New(t.Context(), rec, kinds.All(), connect.Everything, nil, "http://127.0.0.1:1", log)
	if err != nil {
		t.Fatal(err)
	}
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		service.Run(t.Context())
	}()
	t.Cleanup(func() { <-ended })
	for deadline := time.Now().Add(20 * time.Second); service.Ready() != nil && time.Now().Before(deadline); {
		time.Sleep(5 * time.Millisecond)
	}
	token, err := FirstToken(t.Context(), rec)
	if err != nil {
		t.Fatal(err)
	}
	if o.Log == nil {
		o.Log = log
	}
	o.Version, o.Console = "test", fstest.MapFS{
		"index.html":    {Data: []byte("<title>Pingo</title>")},
		"assets/app.js": {Data: []byte("1")},
		"secret/.env":   {Data: []byte("never")},
	}
	s, err := New(service, rec, o)
	if err != nil {
		t.Fatal(err)
	}
	return s, token
}

func ask(h http.Handler, token, method, target, body string) *http.Response {
	r := httptest.NewRequest(method, target, strings.NewReader(body))
	r.Host = "127.0.0.1:7464"
	if token != "" {
		r.Header.Set("Authorization", "Bearer "+token)
	}
	w := httptest.NewRecorder()
	h.ServeHTTP(w, r)
	return w.Result()
}

// Whatever is wrong with a request, its answer is a problem that says what.
func TestWrongRequestsSayWhat(t *testing.T) {
	h, token := newServer(t)
	for _, c := range []struct {
		method, target, body string
		status               int
		want                 string
	}{
		{"GET", "/api/nothing", "", 404, "there is nothing at /api/nothing"},
		{"PUT", "/api/status", "", 405, "PUT is not answered at /api/status: use one of GET, HEAD"},
		{"GET", "/api/definition", "", 404, "no definition was applied yet: pingo apply does that"},
		{"GET", "/api/definition/versions/0", "", 400, `a version is a number from 1, not \"0\"`},
		{"GET", "/api/definition/versions/99999999999999999999", "", 400, "a version is a number from 1"},
		{"GET", "/api/definition/versions/7", "", 404, "there is no definition version 7"},
		{"GET", "/api/indexes/huts/search?q=x", "", 404, "huts"},
		{"GET", "/api/indexes/huts/search?limit=0", "", 400, "limit is a number from 1 to 100"},
		{"GET", "/api/indexes/huts/search?limit=1e3", "", 400, "limit is a number from 1 to 100"},
		{"GET", "/api/indexes/huts/search?filter=kind", "", 400, "a filter is FIELD=VALUE"},
		{"GET", "/api/indexes/huts/history?minutes=-5", "", 400, "minutes is a number from 1 to 44640"},
		{"GET", "/api/indexes/huts/failed?limit=1001", "", 400, "limit is a number from 1 to 1000"},
		{"GET", "/api/indexes/a%00b/failed", "", 400, "zero"},
		{"GET", "/api/indexes/huts/preview/%ff%fe", "", 400, "UTF-8"},
		{"GET", "/api/failed?index=%c3%28", "", 400, "UTF-8"},
		{"POST", "/api/definition/check", "", 400, "the request's body cannot be read"},
		{"POST", "/api/definition/check", "{", 400, "the request's body cannot be read"},
		{"POST", "/api/definition/check", `{"files":[],"fils":[]}`, 400, `unknown field \"fils\"`},
		{"POST", "/api/definition/check", `{"files":[]} and more`, 400, "the request's body cannot be read"},
		{"POST", "/api/definition/check", `{"files":"` + strings.Repeat("x", 5<<20) + `"}`, 413, "Request Entity Too Large"},
		{"POST", "/api/tokens", `{"name":"../../etc","role":"admin"}`, 400, "a token has a name of letters"},
		{"POST", "/api/tokens", `{"name":"a","role":"root"}`, 400, "one of the roles viewer, operator, admin"},
		{"POST", "/api/tokens", `{"name":"a\u0000b","role":"admin"}`, 400, "zero"},
		{"DELETE", "/api/tokens/nobody", "", 404, `there is no token \"nobody\"`},
		{"POST", "/api/indexes/huts/failed/retry", `{}`, 400, "say which failed documents are meant"},
		{"POST", "/api/session", `{"token":"pingo_wrong"}`, 401, "this token is not known"},
	} {
		response := ask(h, token, c.method, c.target, c.body)
		body, err := io.ReadAll(response.Body)
		var p api.Problem
		if err != nil || json.Unmarshal(body, &p) != nil || p.Status != c.status || response.StatusCode != c.status ||
			!strings.Contains(string(body), c.want) ||
			p.Title == "" {
			t.Errorf("%s %s: %d %s, want %d %s", c.method, c.target, response.StatusCode, body, c.status, c.want)
		}
		if response.Header.Get("Content-Type") != "application/problem+json" ||
			response.Header.Get("X-Content-Type-Options") != "nosniff" {
			t.Errorf("%s %s: headers %v", c.method, c.target, response.Header)
		}
	}
}

// A key arrives as it is, whatever it holds.
func TestKeysInPaths(t *testing.T) {
	e := echo.New()
	e.GET("/x/:key", func(c echo.Context) error {
		key, err := keyOf(c)
		if err != nil {
			return err
		}
		return c.String(http.StatusOK, key)
	})
	for _, key := range []string{"7", "a%41", "100%", "%2F", "%", "a/b", "ä/ü %", "a b+c", "a,b", `"x"`, "?#&", "..", "%zz/"} {
		w := httptest.NewRecorder()
		e.ServeHTTP(w, httptest.NewRequest("GET", "/x/"+url.PathEscape(key), nil))
		if w.Code != http.StatusOK || w.Body.String() != key {
			t.Errorf("%q came as %q (%d)", key, w.Body, w.Code)
		}
	}
}

// The console's session is a cookie that scripts cannot read and other sites cannot send;
// files are the console's alone.
func TestConsoleAndSession(t *testing.T) {
	h, token := newServer(t)
	response := ask(h, "", "POST", "/api/session", `{"token":" `+token+` "}`)
	cookies := response.Cookies()
	if response.StatusCode != 200 || len(cookies) != 1 || !cookies[0].HttpOnly ||
		cookies[0].SameSite != http.SameSiteStrictMode ||
		cookies[0].MaxAge <= 0 {
		t.Fatalf("%d %v", response.StatusCode, cookies)
	}
	with := func(value string) int {
		r := httptest.NewRequest("GET", "http://127.0.0.1/api/session", nil)
		r.AddCookie(&http.Cookie{Name: cookies[0].Name, Value: value})
		w := httptest.NewRecorder()
		h.ServeHTTP(w, r)
		return w.Code
	}
	if with(cookies[0].Value) != 200 || with("pingo_other") != 401 || with("") != 401 {
		t.Error("a session is not what its cookie says")
	}
	for _, authorization := range []string{"", "Bearer", "Bearer ", "Basic " + token, token, "Bearer " + token + "x", "bearer " + token} {
		r := httptest.NewRequest("GET", "http://127.0.0.1/api/status", nil)
		r.Header.Set("Authorization", authorization)
		w := httptest.NewRecorder()
		if h.ServeHTTP(w, r); w.Code != 401 {
			t.Errorf("%q: %d", authorization, w.Code)
		}
	}
	for target, want := range map[string]string{"/": "Pingo", "/indexes/huts": "Pingo", "/sources/a/b": "Pingo", "/assets/app.js": "1", "/../../etc/passwd": "", "/assets/%2e%2e/%2e%2e/etc/passwd": "", "/assets/": "", "/assets/none.js": ""} {
		response := ask(h, "", "GET", target, "")
		body, _ := io.ReadAll(response.Body)
		if strings.Contains(string(body), "root:") ||
			want != "" && (response.StatusCode != 200 || !strings.Contains(string(body), want)) ||
			want == "" && response.StatusCode == 200 && !strings.Contains(string(body), "Pingo") {
			t.Errorf("%s: %d %s", target, response.StatusCode, body)
		}
		if !strings.Contains(response.Header.Get("Content-Security-Policy"), "default-src 'self'") {
			t.Errorf("%s: %v", target, response.Header)
		}
	}
}

// A page of another site cannot use the cookie of a person who is signed in, and strangers cannot make the service
// read much.
func TestOtherSitesCannotUseASession(t *testing.T) {
	h, token := newServer(t)
	cookie := ask(h, "", "POST", "/api/session", `{"token":"`+token+`"}`).Cookies()[0]
	create := func(name string, headers ...string) int {
		r := httptest.NewRequest("POST", "http://127.0.0.1:7470/api/tokens", strings.NewReader(`{"name":"`+name+`","role":"viewer"}`))
		r.AddCookie(cookie)
		for i := 0; i < len(headers); i += 2 {
			r.Header.Set(headers[i], headers[i+1])
		}
		w := httptest.NewRecorder()
		h.ServeHTTP(w, r)
		return w.Code
	}
	for i, c := range []struct {
		want    int
		headers []string
	}{
		{415, []string{"Content-Type", "text/plain"}}, {415, nil}, {415, []string{"Content-Type", "application/x-www-form-urlencoded"}},
		{403, []string{"Content-Type", "application/json", "Origin", "http://127.0.0.1:9000"}},
		{403, []string{"Content-Type", "application/json", "Origin", "null"}},
		{403, []string{"Content-Type", "application/json", "Sec-Fetch-Site", "same-site"}},
		{403, []string{"Content-Type", "application/json", "Sec-Fetch-Site", "cross-site", "Origin", "http://127.0.0.1:7470"}},
		{201, []string{"Content-Type", "application/json", "Origin", "http://127.0.0.1:7470"}},
		{201, []string{"Content-Type", "application/json; charset=utf-8", "Sec-Fetch-Site", "same-origin", "Origin", "https://pingo.firnline.example"}},
		{415, []string{"Content-Type", "text/plain", "Authorization", "Bearer " + token, "Origin", "http://127.0.0.1:9000"}},
		{201, []string{"Content-Type", "application/json", "Authorization", "Bearer " + token, "Origin", "http://127.0.0.1:9000"}},
	} {
		if got := create(fmt.Sprint("t", i), c.headers...); got != c.want {
			t.Errorf("%v: %d, want %d", c.headers, got, c.want)
		}
	}
	if got := ask(h, "", "POST", "/api/session", `{"token":"`+strings.Repeat("x", 9000)+`"}`).StatusCode; got != 413 {
		t.Errorf("a large body of a stranger: %d", got)
	}
	if got := ask(h, token, "DELETE", "/api/tokens/first", ""); got.StatusCode != 409 {
		t.Errorf("the last admin's token: %d", got.StatusCode)
	}
	if got := ask(h, token, "DELETE", "/api/tokens/t7", ""); got.StatusCode != 204 {
		t.Errorf("another token: %d", got.StatusCode)
	}
}

// No request makes the service fail: what is wrong with it is the caller's to hear.
func FuzzRequests(f *testing.F) {
	h, token := newServer(f)
	f.Add("GET", "/api/indexes/huts/search", "q=a&filter=b%3Dc&sort=-d&limit=5&facet=e", "")
	f.Add("GET", "/api/indexes/hu%00ts/preview/%ff", "", "")
	f.Add("GET", "/api/sources/-/trace", "table=a.b&key=1", "")
	f.Add(
		"POST",
		"/api/definition/check",
		"",
		`{"files":[{"name":"a.yaml","text":"sources: {a: {kind: postgres, url: \"${X}\"}}"}]}`,
	)
	f.Add("POST", "/api/definition/capture-sql", "", `{"files":[],"source":"\u0000"}`)
	f.Add("POST", "/api/indexes/x/failed/dismiss", "", `{"keys":["\u0000"],"all":true}`)
	f.Add("POST", "/api/tokens", "", `{"name":"a","role":"viewer"}`)
	f.Add("DELETE", "/api/capture", "source=%00", "")
	f.Add("GET", "/api/indexes/x/history", "minutes=10", "")
	f.Fuzz(func(t *testing.T, method, path, query, body string) {
		if path == "/api/events" || strings.ContainsAny(path+query, " #?\r\n\t") {
			return // a stream never ends; the others are no request lines
		}
		r, err := http.NewRequest(method, "http://127.0.0.1"+path+"?"+query, strings.NewReader(body))
		if err != nil {
			return
		}
		r.Header.Set("Authorization", "Bearer "+token)
		w := httptest.NewRecorder()
		h.ServeHTTP(w, r)
		if w.Code >= 500 && w.Code != http.StatusServiceUnavailable {
			t.Errorf("%s %s %q: %d %s", method, r.URL, body, w.Code, w.Body)
		}
		if w.Code >= 400 && w.Header().Get("Content-Type") != "application/problem+json" {
			t.Errorf("%s %s %q: %d is no problem", method, r.URL, body, w.Code)
		}
	})
}

// Whatever a definition says, checking it gives a plan or findings, each with its place.
func FuzzDefinitions(f *testing.F) {
	h, token := newServer(f)
	lodge := pgtest.URL(f)
	conn, err := pgx.Connect(f.Context(), lodge)
	if err != nil {
		f.Fatal(err)
	}
	if _, err := conn.Exec(f.Context(), "CREATE TABLE huts (id int PRIMARY KEY, name text, beds int)"); err != nil {
		f.Fatal(err)
	}
	conn.Close(f.Context())
	engine := httptest.NewServer(&standin.Server{})
	f.Cleanup(engine.Close)
	f.Setenv("LODGE_URL", lodge)
	f.Setenv("SEARCH_URL", engine.URL)
	f.Add(smallDefinition)
	for _, line := range []string{"engines:\n  main: { kind: opensearch, url: \"${SEARCH_URL}\" }\n", "  main: { kind: opensearch, url: \"${SEARCH_URL}\" }\n", "    engine: main\n", "    rows: lodge.huts\n", "      name: { search: 2, sort: true }\n"} {
		f.Add(strings.Replace(smallDefinition, line, "", 1))
	}
	for was, is := range map[string]string{"engines:": "engine:", "engine: main": "engine: [main]", "rows: lodge.huts": "rows: { a: lodge.huts, b: nowhere.huts }", "kind: postgres": "kind: mariadb", "lodge.huts": "main.huts", "indexes:": "indexes: {}\nnothing:"} {
		f.Add(strings.Replace(smallDefinition, was, is, 1))
	}
	f.Fuzz(func(t *testing.T, text string) {
		if strings.Contains(text, "://") {
			return // only what the environment names is asked
		}
		body, err := json.Marshal(api.Files{Files: []api.File{{Name: "d.yaml", Text: text}}})
		if err != nil {
			t.Fatal(err)
		}
		r := ask(h, token, "POST", "/api/definition/check", string(body))
		said, _ := io.ReadAll(r.Body)
		var plan api.Plan
		switch {
		case r.StatusCode == 400 || r.StatusCode == 503:
		case r.StatusCode != 200 || json.Unmarshal(said, &plan) != nil:
			t.Errorf("%q: %d %s", text, r.StatusCode, said)
		}
		for _, found := range plan.Findings {
			if found.At.File != "d.yaml" || found.At.Line == 0 {
				t.Errorf("%q: without a place: %+v", text, found)
			}
		}
	})
}
