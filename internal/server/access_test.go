package server

import (
	"bufio"
	"bytes"
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"encoding/pem"
	"fmt"
	"io"
	"log/slog"
	"math/big"
	"net"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"pingo/internal/api"
	"pingo/internal/lab/pgtest"
)

// visit is a request of a person.
type visit struct {
	method, target, body string
	from                 string // an address; 127.0.0.1 when empty
	headers              []string
	cookie               *http.Cookie
}

func (v visit) to(h http.Handler) *http.Response {
	if v.method == "" {
		v.method = "GET"
	}
	if !strings.HasPrefix(v.target, "http") {
		v.target = "http://127.0.0.1:7464" + v.target
	}
	r := httptest.NewRequest(v.method, v.target, strings.NewReader(v.body))
	r.RemoteAddr = "127.0.0.1:1"
	if v.from != "" {
		r.RemoteAddr = net.JoinHostPort(v.from, "1")
	}
	for i := 0; i < len(v.headers); i += 2 {
		r.Header.Set(v.headers[i], v.headers[i+1])
	}
	if v.cookie != nil {
		r.AddCookie(v.cookie)
	}
	w := httptest.NewRecorder()
	h.ServeHTTP(w, r)
	return w.Result()
}

func signIn(t *testing.T, h http.Handler, token string, headers ...string) *http.Cookie {
	t.Helper()
	response := visit{method: "POST", target: "/api/session", body: `{"token":"` + token + `"}`, headers: headers}.to(h)
	if response.StatusCode != 200 || len(response.Cookies()) != 1 {
		t.Fatalf("signing in: %d %v", response.StatusCode, response.Cookies())
	}
	return response.Cookies()[0]
}

// A session is not the token; it ends when a person signs out, when its time is over, when no one uses it, when an admin
// ends it, and with its token. Its secret is not stored.
func TestSessionsEnd(t *testing.T) {
	s, token := newServerWith(t, Options{})
	h := s.http.Handler
	db := pgtest.Connect(t, s.records.URL())
	in := func(c *http.Cookie) bool {
		s.access.forget() // as if five seconds had passed
		return visit{target: "/api/status", cookie: c}.to(h).StatusCode == 200
	}
	change := func(sql string) {
		t.Helper()
		if _, err := db.Exec(t.Context(), sql); err != nil {
			t.Fatal(err)
		}
	}
	for what, end := range map[string]func(*http.Cookie){
		"signing out": func(c *http.Cookie) {
			out := visit{method: "DELETE", target: "/api/session", cookie: c}.to(h)
			if out.StatusCode != 204 || out.Cookies()[0].MaxAge >= 0 {
				t.Errorf("signing out: %d %v", out.StatusCode, out.Cookies())
			}
		},
		"its time":  func(*http.Cookie) { change("UPDATE session SET ends_at = now()") },
		"no use":    func(*http.Cookie) { change("UPDATE session SET used_at = now() - interval '31 minutes'") },
		"the token": func(*http.Cookie) { ask(h, token, "DELETE", "/api/tokens/second", "") },
		"expiry":    func(*http.Cookie) { change("UPDATE token SET expires_at = now() WHERE name = 'second'") },
		"an admin": func(*http.Cookie) {
			var id int64
			if err := db.QueryRow(t.Context(), "SELECT max(id) FROM pingo_records.session").Scan(&id); err != nil {
				t.Fatal(err)
			}
			if got := ask(h, token, "DELETE", fmt.Sprint("/api/sessions/", id), "").StatusCode; got != 204 {
				t.Errorf("an admin ends a session: %d", got)
			}
		},
	} {
		second := read[api.CreatedToken](
			t,
			ask(h, token, "POST", "/api/tokens", `{"name":"second","role":"viewer"}`),
		).Token
		cookie := signIn(t, h, second)
		if cookie.Value == second || !in(cookie) {
			t.Fatalf("%s: the cookie is the token, or lets no one in", what)
		}
		if ask(h, cookie.Value, "GET", "/api/status", "").StatusCode != 401 ||
			in(&http.Cookie{Name: cookie.Name, Value: second}) {
			t.Errorf("a session is taken for a token, or a token for a session")
		}
		var stored int
		if err := db.QueryRow(t.Context(), "SELECT count(*) FROM pingo_records.session WHERE position($1::bytea in hash) > 0 OR session::text LIKE '%' || $2 || '%'",
			[]byte(cookie.Value), cookie.Value).Scan(&stored); err != nil ||
			stored != 0 {
			t.Errorf("the secret is in the records: %d, %v", stored, err)
		}
		if list := read[[]api.OpenSession](t, ask(h, token, "GET", "/api/sessions", "")); len(list) != 1 ||
			list[0].Token != "second" {
			t.Errorf("%s: sessions %+v", what, list)
		}
		end(cookie)
		if in(cookie) {
			t.Errorf("%s does not end a session", what)
		}
		if list := read[[]api.OpenSession](t, ask(h, token, "GET", "/api/sessions", "")); len(list) != 0 {
			t.Errorf("%s: sessions %+v", what, list)
		}
		ask(h, token, "DELETE", "/api/tokens/second", "")
	}
	if got := ask(h, token, "POST", "/api/tokens", `{"name":"late","role":"viewer","expiresAt":"2020-01-01T00:00:00Z"}`); got.StatusCode != 400 {
		t.Errorf("a token that expired before it began: %d", got.StatusCode)
	}
	soon := time.Now().Add(300 * time.Millisecond).Format(time.RFC3339Nano)
	short := read[api.CreatedToken](
		t,
		ask(h, token, "POST", "/api/tokens", `{"name":"short","role":"admin","expiresAt":"`+soon+`"}`),
	).Token
	if ask(h, short, "GET", "/api/status", "").StatusCode != 200 {
		t.Error("a token is refused before it expires")
	}
	time.Sleep(400 * time.Millisecond)
	if s.access.forget(); ask(h, short, "GET", "/api/status", "").StatusCode != 401 {
		t.Error("a token is taken after it expired")
	}
	if got := ask(h, token, "DELETE", "/api/tokens/first", ""); got.StatusCode != 409 {
		t.Errorf("the last admin's token that has not expired: %d", got.StatusCode)
	}
	again, err := ResetToken(t.Context(), s.records, "first")
	if err != nil {
		t.Fatal(err)
	}
	if s.access.forget(); ask(h, token, "GET", "/api/tokens", "").StatusCode != 401 ||
		ask(h, again, "GET", "/api/tokens", "").StatusCode != 200 {
		t.Error("a token that was reset is still taken, or the new one is not")
	}
}

func read[T any](t *testing.T, r *http.Response) (v T) {
	t.Helper()
	body, _ := io.ReadAll(r.Body)
	if err := json.Unmarshal(body, &v); err != nil || r.StatusCode >= 300 {
		t.Fatalf("%d %s %v", r.StatusCode, body, err)
	}
	return v
}

// Names that lead here without being ours are refused to browsers: a page could use them.
func TestNamesThatAreNotOurs(t *testing.T) {
	s, token := newServerWith(t, Options{Names: []string{"Pingo.firnline.example"}})
	own, err := os.Hostname()
	if err != nil {
		t.Fatal(err)
	}
	for target, want := range map[string]int{
		"http://127.0.0.1:7464/api/status": 401, "http://[::1]:7464/api/status": 401, "http://localhost/api/status": 401,
		"http://pingo.firnline.example/api/status": 401, "http://" + own + ":7464/api/status": 401,
		"http://rebound.example:7464/api/status": 421, "http://rebound.example/": 421, "http://localhost.rebound.example/": 421,
		"http://rebound.example/health": 200, "http://rebound.example/ready": 200,
	} {
		if got := (visit{target: target}).to(s.http.Handler).StatusCode; got != want {
			t.Errorf("%s: %d, want %d", target, got, want)
		}
	}
	hook := visit{method: "POST", target: "http://rebound.example/hooks/none"} // its events are signed
	if got := hook.to(s.http.Handler).StatusCode; got != 404 {
		t.Errorf("an event by another name: %d", got)
	}
	with := visit{target: "http://pingo:7464/api/status", headers: []string{"Authorization", "Bearer " + token}}
	if got := with.to(s.http.Handler).StatusCode; got != 200 {
		t.Errorf("a token by another name: %d", got)
	}
}

// What a proxy says counts when it is a trusted one: then cookies are for TLS alone, and addresses are the callers'.
func TestProxies(t *testing.T) {
	proxies := []netip.Prefix{netip.MustParsePrefix("10.0.0.0/24")}
	s, token := newServerWith(t, Options{Proxies: proxies, Names: []string{"pingo.firnline.example"}})
	h := s.http.Handler
	https := []string{
		"X-Forwarded-Proto",
		"https",
		"X-Forwarded-For",
		"192.0.2.7",
		"X-Forwarded-Host",
		"pingo.firnline.example",
	}
	enter := func(from string) *http.Response {
		return visit{
			method: "POST",
			target: "http://backend:7464/api/session",
			body:   `{"token":"` + token + `"}`,
			from:   from,
			headers: append(
				[]string{"Content-Type", "application/json", "Origin", "https://pingo.firnline.example"},
				https...),
		}.to(h)
	}
	in := enter("10.0.0.2")
	if in.StatusCode != 200 || in.Cookies()[0].Name != "__Host-pingo_session" || !in.Cookies()[0].Secure ||
		!strings.Contains(in.Header.Get("Strict-Transport-Security"), "max-age=") {
		t.Fatalf("through a trusted proxy: %d %v", in.StatusCode, in.Header)
	}
	page := visit{target: "http://backend:7464/api/session", from: "10.0.0.2", headers: https, cookie: in.Cookies()[0]}
	if got := page.to(h).StatusCode; got != 200 {
		t.Errorf("a session through the proxy: %d", got)
	}
	if got := enter("10.0.1.2").StatusCode; got != 421 {
		t.Errorf("through another one: %d", got)
	}
	for i := range 25 { // of one address behind the proxy
		got := visit{
			method:  "POST",
			target:  "/api/session",
			body:    `{"token":"wrong"}`,
			from:    "10.0.0.2",
			headers: []string{"X-Forwarded-For", "192.0.2.8"},
		}.to(h)
		if want := 401; i < 20 && got.StatusCode != want || i == 24 && got.StatusCode != 429 {
			t.Errorf("attempt %d: %d", i, got.StatusCode)
		}
	}
	if got := enter("10.0.0.2").StatusCode; got != 200 {
		t.Errorf("another address while one is held up: %d", got)
	}
}

// TLS of the service's own, with a certificate that is renewed while it runs.
func TestCertificate(t *testing.T) {
	dir := t.TempDir()
	file, key := filepath.Join(dir, "cert.pem"), filepath.Join(dir, "key.pem")
	write := func(serial int64, at time.Time) {
		private, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
		if err != nil {
			t.Fatal(err)
		}
		template := &x509.Certificate{
			SerialNumber: big.NewInt(serial),
			NotAfter:     time.Now().Add(time.Hour),
			IPAddresses:  []net.IP{net.IPv4(127, 0, 0, 1)},
		}
		cert, err1 := x509.CreateCertificate(rand.Reader, template, template, private.Public(), private)
		secret, err2 := x509.MarshalPKCS8PrivateKey(private)
		if err1 != nil || err2 != nil {
			t.Fatal(err1, err2)
		}
		for name, block := range map[string]*pem.Block{file: {Type: "CERTIFICATE", Bytes: cert}, key: {Type: "PRIVATE KEY", Bytes: secret}} {
			if err := os.WriteFile(name, pem.EncodeToMemory(block), 0o600); err != nil {
				t.Fatal(err)
			}
			if err := os.Chtimes(name, at, at); err != nil {
				t.Fatal(err)
			}
		}
	}
	log := &bytes.Buffer{}
	if _, err := LoadCertificate(file, key, slog.New(slog.DiscardHandler)); err == nil {
		t.Error("a certificate that is not there was loaded")
	}
	write(1, time.Now().Add(-time.Hour))
	certificate, err := LoadCertificate(file, key, slog.New(slog.NewTextHandler(log, nil)))
	if err != nil {
		t.Fatal(err)
	}
	s, token := newServerWith(t, Options{Certificate: certificate})
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	served := make(chan error, 1)
	go func() { served <- s.Serve(l) }()
	defer func() {
		s.Close()
		if err := <-served; err != nil {
			t.Error(err)
		}
	}()
	serial := func() int64 {
		t.Helper()
		conn, err := tls.Dial("tcp", l.Addr().String(), &tls.Config{InsecureSkipVerify: true})
		if err != nil {
			t.Fatal(err)
		}
		defer conn.Close()
		fmt.Fprintf(
			conn,
			"POST /api/session HTTP/1.1\r\nHost: 127.0.0.1\r\nContent-Length: %d\r\n\r\n{\"token\":\"%s\"}",
			len(token)+12,
			token,
		)
		answer, err := http.ReadResponse(bufio.NewReader(conn), nil)
		if err != nil {
			t.Fatal(err)
		}
		if c := answer.Cookies(); answer.StatusCode != 200 || len(c) != 1 || !c[0].Secure ||
			c[0].Name != secureCookieName {
			t.Errorf("signing in over TLS: %d %v", answer.StatusCode, c)
		}
		return conn.ConnectionState().PeerCertificates[0].SerialNumber.Int64()
	}
	if got := serial(); got != 1 {
		t.Errorf("certificate %d", got)
	}
	write(2, time.Now())
	if got := serial(); got != 2 {
		t.Errorf("certificate %d after it was renewed", got)
	}
	if err := os.WriteFile(file, []byte("half of"), 0o600); err != nil {
		t.Fatal(err)
	}
	if got := serial(); got != 2 || !strings.Contains(log.String(), "renewed certificate not used") {
		t.Errorf("certificate %d while the files are wrong; log: %s", got, log)
	}
	if _, err := tls.Dial("tcp", l.Addr().String(), &tls.Config{InsecureSkipVerify: true, MaxVersion: tls.VersionTLS11}); err == nil {
		t.Error("TLS 1.1 was spoken")
	}
}

// Strangers hear that something is wrong, and not where.
func TestStrangersHearNoAddresses(t *testing.T) {
	s, token := newServerWith(t, Options{})
	s.records.Close()
	for _, v := range []visit{
		{target: "/ready"}, {target: "/api/status", headers: []string{"Authorization", "Bearer " + token}},
		{method: "POST", target: "/api/session", body: `{"token":"` + token + `"}`},
		{target: "/api/status", cookie: &http.Cookie{Name: cookieName, Value: "x"}}, {method: "DELETE", target: "/api/session", cookie: &http.Cookie{Name: cookieName, Value: "x"}},
	} {
		response := v.to(s.http.Handler)
		body, _ := io.ReadAll(response.Body)
		if response.StatusCode != 503 || !strings.Contains(string(body), "the records database does not answer") ||
			strings.Contains(string(body), "sql") || strings.Contains(string(body), "127.0.0.1") {
			t.Errorf("%s %s: %d %s", v.method, v.target, response.StatusCode, body)
		}
	}
}

// Event streams are counted, and one that no one reads is closed.
func TestEventStreamsAreBounded(t *testing.T) {
	s, token := newServerWith(t, Options{})
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	go s.Serve(l)
	defer s.Close()
	var open []net.Conn
	stream := func() int {
		conn, err := net.Dial("tcp", l.Addr().String())
		if err != nil {
			t.Fatal(err)
		}
		open = append(open, conn)
		fmt.Fprintf(conn, "GET /api/events HTTP/1.1\r\nHost: 127.0.0.1\r\nAuthorization: Bearer %s\r\n\r\n", token)
		answer, err := http.ReadResponse(bufio.NewReader(conn), nil)
		if err != nil {
			t.Fatal(err)
		}
		return answer.StatusCode
	}
	for i := range streamsOfOne {
		if got := stream(); got != 200 {
			t.Fatalf("stream %d: %d", i, got)
		}
	}
	if got := stream(); got != http.StatusTooManyRequests {
		t.Errorf("one more: %d", got)
	}
	for _, conn := range open {
		conn.Close()
	}
	ended := func() bool {
		s.mu.Lock()
		defer s.mu.Unlock()
		return len(s.streams) == 0
	}
	for deadline := time.Now().Add(10 * time.Second); !ended(); time.Sleep(20 * time.Millisecond) {
		if time.Now().After(deadline) {
			t.Fatalf("streams whose readers left: %v", s.streams)
		}
	}
	if got := stream(); got != 200 {
		t.Errorf("after the others left: %d", got)
	}
	open[len(open)-1].Close()

	// Nothing lies between the ends of a pipe: a side that does not read holds up the other one.
	here, there := net.Pipe()
	defer here.Close()
	pipe := &onePipe{make(chan net.Conn, 1), l.Addr()}
	pipe.conns <- there
	go s.Serve(pipe)
	fmt.Fprintf(here, "GET /api/events HTTP/1.1\r\nHost: 127.0.0.1\r\nAuthorization: Bearer %s\r\n\r\n", token)
	if _, err := here.Read(make([]byte, 10)); err != nil {
		t.Fatal(err)
	}
	if ended() {
		t.Fatal("the slow reader's stream is not counted")
	}
	for deadline := time.Now().Add(slowReader + 20*time.Second); !ended(); time.Sleep(50 * time.Millisecond) {
		if time.Now().After(deadline) {
			t.Fatal("a reader that reads nothing is still being waited for")
		}
	}
}

// onePipe is a listener whom one connection reaches.
type onePipe struct {
	conns chan net.Conn
	addr  net.Addr
}

func (p *onePipe) Accept() (net.Conn, error) {
	conn, ok := <-p.conns
	if !ok {
		return nil, net.ErrClosed
	}
	return conn, nil
}
func (p *onePipe) Close() error   { close(p.conns); return nil }
func (p *onePipe) Addr() net.Addr { return p.addr }

// However many ask for plans, looks and searches at the same time, they share few connections to a source; and who waits for a
// database that takes long hears that this is the reason.
func TestNobodyTakesAllOfASource(t *testing.T) {
	s, token := newServerWith(t, Options{})
	h := s.http.Handler
	lodge := applyHuts(t, h, token)
	db := pgtest.Connect(t, lodge)
	ctx, stop := context.WithCancel(t.Context())
	var asking sync.WaitGroup
	var answered atomic.Int64
	for i := range 60 {
		asking.Go(func() {
			for ctx.Err() == nil {
				target := []string{"/api/definition/plan", "/api/indexes/huts/preview/3", "/api/indexes/huts/trace/4", "/api/indexes/huts/sample"}[i%4]
				switch r := ask(h, token, "GET", target, ""); r.StatusCode {
				case 200:
					answered.Add(1)
				case 503:
				default:
					t.Errorf("%s: %d", target, r.StatusCode)
					return
				}
			}
		})
	}
	most := 0
	for range 40 {
		var n int
		if err := db.QueryRow(t.Context(), "SELECT count(*) FROM pg_stat_activity WHERE datname = current_database() AND application_name = 'pingo'").Scan(&n); err != nil {
			t.Fatal(err)
		}
		most = max(most, n)
		time.Sleep(50 * time.Millisecond)
	}
	stop()
	asking.Wait()
	if most > 13 || answered.Load() < 50 { // ten of the work on the source, three of a check
		t.Errorf("%d connections at the same time, for %d answers", most, answered.Load())
	}

	s.flow.Define.CheckWithin = 300 * time.Millisecond
	lock, err := db.Begin(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	defer lock.Rollback(t.Context())
	if _, err := lock.Exec(t.Context(), "LOCK TABLE huts"); err != nil {
		t.Fatal(err)
	}
	body, _ := json.Marshal(api.Files{Files: []api.File{{Name: "pingo.yaml", Text: smallDefinition}}})
	r := ask(h, token, "POST", "/api/definition/check", string(body))
	said, _ := io.ReadAll(r.Body)
	if r.StatusCode != 503 || !strings.Contains(string(said), "timed out because sources and engines are slow") ||
		!strings.Contains(string(said), "at index huts") {
		t.Errorf("a check that takes long: %d %s", r.StatusCode, said)
	}
}
