package server

import (
	"bufio"
	"bytes"
	"compress/gzip"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/andybalholm/brotli"

	"pingo/internal/api"
	"pingo/internal/core/definition"
	"pingo/internal/lab/standin"
)

// Answers have the methods, statuses and headers that HTTP asks for.
func TestAnswersAsHTTPSays(t *testing.T) {
	s, token := newServerWith(t, Options{})
	h := s.http.Handler
	do := func(method, target, body string, headers ...string) *http.Response {
		t.Helper()
		r := httptest.NewRequest(method, "http://127.0.0.1"+target, strings.NewReader(body))
		r.Header.Set("Authorization", "Bearer "+token)
		for i := 0; i < len(headers); i += 2 {
			r.Header.Set(headers[i], headers[i+1])
		}
		w := httptest.NewRecorder()
		h.ServeHTTP(w, r)
		return w.Result()
	}
	problem := func(r *http.Response, status int) {
		t.Helper()
		var p api.Problem
		if err := json.NewDecoder(r.Body).Decode(&p); err != nil || r.StatusCode != status || p.Status != status || p.Detail == "" || p.Type != problemType(status) || r.Header.Get("Content-Type") != "application/problem+json" {
			t.Errorf("%d %+v %v, want %d", r.StatusCode, p, err, status)
		}
	}
	// A method that is not answered, and what is.
	for target, allowed := range map[string]string{"/api/status": "GET", "/api/definition/check": "POST", "/health": "GET", "/api/tokens/first": "DELETE"} {
		r := do("PATCH", target, "{}")
		if allow := r.Header.Get("Allow"); !strings.Contains(allow, allowed) {
			t.Errorf("%s: Allow %q", target, allow)
		}
		problem(r, http.StatusMethodNotAllowed)
	}
	// HEAD is GET without a body, also of what never ends.
	for target, kind := range map[string]string{"/health": "application/json", "/ready": "application/json", "/metrics": "text/plain", "/api/status": "application/json", "/api/events": "text/event-stream", "/": "text/html", "/openapi.json": "application/json"} {
		if r := do("HEAD", target, ""); r.StatusCode != 200 || !strings.HasPrefix(r.Header.Get("Content-Type"), kind) {
			t.Errorf("HEAD %s: %d %v", target, r.StatusCode, r.Header)
		}
	}
	problem(do("POST", "/api/definition/check", "a=b", "Content-Type", "application/x-www-form-urlencoded"), http.StatusUnsupportedMediaType)
	problem(do("GET", "/wp-admin/setup.php", ""), http.StatusNotFound)
	problem(do("GET", "/api/nowhere", ""), http.StatusNotFound)
	for shown, challenge := range map[string]string{"": `Bearer realm="pingo"`, "Bearer pingo_" + strings.Repeat("x", 32): `Bearer realm="pingo", error="invalid_token"`, "Bearer x": `Bearer realm="pingo", error="invalid_token"`} {
		r := do("GET", "/api/status", "", "Authorization", shown)
		if got := r.Header.Get("WWW-Authenticate"); got != challenge {
			t.Errorf("%q: %q", shown, got)
		}
		problem(r, http.StatusUnauthorized)
	}
	// An answer that the caller has is not sent again.
	for _, target := range []string{"/api/tokens", "/", "/api/definition/versions"} {
		first := do("GET", target, "")
		tag := first.Header.Get("ETag")
		if first.StatusCode != 200 || tag == "" {
			t.Errorf("%s: %d %v", target, first.StatusCode, first.Header)
		}
		for known, want := range map[string]int{tag: 304, `W/"x", ` + tag: 304, `W/"x"`: 200} {
			r := do("GET", target, "", "If-None-Match", known)
			body, _ := io.ReadAll(r.Body)
			if r.StatusCode != want || (len(body) == 0) != (want == 304) {
				t.Errorf("%s with %s: %d, %d bytes", target, known, r.StatusCode, len(body))
			}
		}
	}
	// What is large is compressed.
	for encoding, reader := range map[string]func(io.Reader) (io.Reader, error){
		"gzip": func(r io.Reader) (io.Reader, error) { return gzip.NewReader(r) },
		"br":   func(r io.Reader) (io.Reader, error) { return brotli.NewReader(r), nil },
	} {
		r := do("GET", "/openapi.json", "", "Accept-Encoding", encoding)
		z, err := reader(r.Body)
		if err != nil || r.Header.Get("Content-Encoding") != encoding || !strings.Contains(r.Header.Get("Vary"), "Accept-Encoding") {
			t.Fatal(r.Header, err)
		}
		if body, err := io.ReadAll(z); err != nil || !json.Valid(body) {
			t.Error(err)
		}
	}
	// A server that is asked too much, or has nothing to ask, says when to come again.
	do("GET", "/metrics", "")
	s.records.Close()
	s.access.mu.Lock()
	for by, known := range s.access.known { // as if a while had passed
		known.until = time.Now().Add(-time.Minute)
		s.access.known[by] = known
	}
	s.access.mu.Unlock()
	r := do("GET", "/metrics", "")
	if text, err := io.ReadAll(r.Body); err != nil || r.StatusCode != 200 || !strings.Contains(string(text), "pingo_records_up 0") || !strings.Contains(string(text), `pingo_build_info{go="go`) {
		t.Errorf("metrics without records: %d %.300s %v", r.StatusCode, text, err)
	}
	if r := do("GET", "/api/status", ""); r.StatusCode != http.StatusServiceUnavailable {
		t.Errorf("the status without records: %d", r.StatusCode)
	}
	r = do("GET", "/ready", "")
	if r.Header.Get("Retry-After") == "" {
		t.Error("no Retry-After")
	}
	problem(r, http.StatusServiceUnavailable)
}

// Wrong tokens are counted by the address that they come from, and soon cost nothing.
func TestWrongTokensAreLimited(t *testing.T) {
	var log bytes.Buffer
	s, token := newServerWith(t, Options{Log: slog.New(slog.NewTextHandler(&log, nil))})
	statuses := map[int]int{}
	for i := range 3 * wrongTokens {
		statuses[ask(s.http.Handler, fmt.Sprintf("pingo_%032d", i), "GET", "/api/status", "").StatusCode]++
	}
	if statuses[401] < wrongTokens || statuses[401] > wrongTokens+5 || statuses[401]+statuses[429] != 3*wrongTokens {
		t.Errorf("%v", statuses)
	}
	if n := strings.Count(log.String(), "token refused"); n != statuses[401] {
		t.Errorf("%d of %d are in the log", n, statuses[401])
	}
	r := httptest.NewRequest("GET", "http://127.0.0.1/api/status", nil)
	r.RemoteAddr = "192.0.2.9:1"
	r.Header.Set("Authorization", "Bearer "+token)
	w := httptest.NewRecorder()
	if s.http.Handler.ServeHTTP(w, r); w.Code != 200 {
		t.Errorf("from another address: %d", w.Code)
	}
}

// Senders that send nothing hold up no one else.
func TestSlowSendersHoldUpNobody(t *testing.T) {
	s, token := newServerWith(t, Options{})
	engine := httptest.NewServer(&standin.Server{})
	t.Cleanup(engine.Close)
	definition := fmt.Sprintf(`
sources:
  conditions: { kind: webhook, unsigned: allowed, records: { bulletins: { key: /id, schema: { properties: { title: { type: string } } } } } }
engines:
  main: { kind: opensearch, url: %q }
indexes:
  bulletins: { engine: main, rows: conditions.bulletins, fields: [title] }
`, engine.URL)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	go s.Serve(l)
	defer s.Close()
	body, _ := json.Marshal(api.Files{Files: []api.File{{Name: "pingo.yaml", Text: definition}}})
	if r := ask(s.http.Handler, token, "POST", "/api/definition/apply", string(body)); r.StatusCode != 200 {
		text, _ := io.ReadAll(r.Body)
		t.Fatal(r.Status, string(text))
	}
	var slow []net.Conn
	defer func() {
		for _, c := range slow {
			c.Close()
		}
	}()
	refused := 0
	for range 3 * hooksAtOnce {
		conn, err := net.Dial("tcp", l.Addr().String())
		if err != nil {
			t.Fatal(err)
		}
		slow = append(slow, conn)
		fmt.Fprintf(conn, "POST /hooks/conditions HTTP/1.1\r\nHost: 127.0.0.1\r\nContent-Length: 100\r\nContent-Type: application/json\r\n\r\n{")
	}
	for _, conn := range slow[:3*hooksAtOnce] { // those of one address beyond a number must come again
		conn.SetReadDeadline(time.Now().Add(50 * time.Millisecond))
		if answer, err := http.ReadResponse(bufio.NewReader(conn), nil); err == nil && answer.StatusCode == 429 {
			refused++
		}
	}
	if want := 3*hooksAtOnce - bodiesOfOne; refused != want {
		t.Errorf("%d slow senders of one address were refused, want %d", refused, want)
	}
	send := func(from string) int {
		r := httptest.NewRequest("POST", "http://127.0.0.1/hooks/conditions", strings.NewReader(`{"id": 1, "title": "x"}`))
		r.RemoteAddr = from
		w := httptest.NewRecorder()
		s.http.Handler.ServeHTTP(w, r)
		return w.Code
	}
	var sending sync.WaitGroup
	for i := range 50 {
		sending.Go(func() {
			if got := send(fmt.Sprintf("192.0.2.%d:1", i)); got != 200 {
				t.Errorf("another sender: %d", got)
			}
		})
	}
	sending.Wait()
	for _, conn := range slow {
		conn.Close()
	}
	for deadline := time.Now().Add(5 * time.Second); ; time.Sleep(10 * time.Millisecond) {
		s.hooking.mu.Lock()
		all, held := s.hooking.all, s.hooking.bytes
		s.hooking.mu.Unlock()
		if all == 0 && held == 0 {
			break
		}
		if time.Now().After(deadline) {
			t.Fatalf("%d requests and %d bytes are still counted", all, held)
		}
	}
	// Strangers learn nothing of what else there is.
	for _, target := range []string{"/hooks/lodge", "/hooks/nowhere", "/hooks/nowhere/x"} {
		r := ask(s.http.Handler, "", "POST", target, "{}")
		text, _ := io.ReadAll(r.Body)
		if r.StatusCode != 404 || strings.Contains(string(text), "conditions") {
			t.Errorf("%s: %d %s", target, r.StatusCode, text)
		}
	}
}

// A process that does not use the definition in force says so to probes and senders: a source may be in it that is not
// known here.
func TestAProcessThatCannotUseTheDefinition(t *testing.T) {
	s, _ := newServerWith(t, Options{})
	get := func(method, target string) *http.Response {
		w := httptest.NewRecorder()
		s.http.Handler.ServeHTTP(w, httptest.NewRequest(method, "http://127.0.0.1"+target, strings.NewReader("{}")))
		return w.Result()
	}
	until := func(want int, method, target string) (r *http.Response) {
		t.Helper()
		for deadline := time.Now().Add(20 * time.Second); time.Now().Before(deadline); time.Sleep(20 * time.Millisecond) {
			if r = get(method, target); r.StatusCode == want {
				return r
			}
		}
		t.Fatalf("%s %s: %d, want %d", method, target, r.StatusCode, want)
		return r
	}
	until(200, "GET", "/ready")
	until(404, "POST", "/hooks/conditions")
	if _, err := s.records.Apply(t.Context(), []definition.File{{Name: "a.yaml", Text: "sources: { conditions: { kind: of a newer version } }\n"}}, nil, "another user"); err != nil {
		t.Fatal(err)
	}
	for method, target := range map[string]string{"GET": "/ready", "POST": "/hooks/conditions"} {
		if r := until(503, method, target); r.Header.Get("Retry-After") == "" {
			t.Errorf("%s %s: no Retry-After", method, target)
		}
	}
}
