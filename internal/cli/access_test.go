package cli_test

import (
	"context"
	"crypto/x509"
	"encoding/pem"
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/cdproto/network"
	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/chromedp"
)

// certificate writes one and its key into files. No authority has signed it.
func certificate(t *testing.T) (file, key string) {
	t.Helper()
	made := httptest.NewTLSServer(nil)
	defer made.Close()
	private, err := x509.MarshalPKCS8PrivateKey(made.TLS.Certificates[0].PrivateKey)
	if err != nil {
		t.Fatal(err)
	}
	dir := t.TempDir()
	file, key = filepath.Join(dir, "cert.pem"), filepath.Join(dir, "key.pem")
	for name, block := range map[string]*pem.Block{
		file: {Type: "CERTIFICATE", Bytes: made.Certificate().Raw}, key: {Type: "PRIVATE KEY", Bytes: private},
	} {
		if err := os.WriteFile(name, pem.EncodeToMemory(block), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	return file, key
}

// The console works over TLS of the service's own, and behind a proxy that speaks TLS: a user who signs in has a cookie for TLS
// alone, what is done on its pages is taken for its own, the way out ends the session, and other pages get nowhere.
func TestConsoleOverTLS(t *testing.T) {
	const name = "pingo.firnline.example"
	file, key := certificate(t)
	for _, way := range []string{"its own certificate", "a proxy"} {
		t.Run(way, func(t *testing.T) {
			w := newWorld(t)
			target := "https://" + name + ":" + port(w.address)
			if way == "a proxy" {
				debug := freeAddress(t)
				w.args = []string{"--trusted-proxy", "127.0.0.1", "--public-name", name, "--debug-listen", debug}
				defer func() {
					profiles, err := http.Get("http://" + debug + "/debug/pprof/heap?debug=1")
					if err != nil || profiles.StatusCode != 200 {
						t.Errorf("profiles: %v %v", profiles, err)
					}
					for level, want := range map[string]int{"debug": 200, "loud": 400} {
						asked, err := http.NewRequest(http.MethodPut, "http://"+debug+"/debug/log-level", strings.NewReader(level))
						if err != nil {
							t.Fatal(err)
						}
						if answer, err := http.DefaultClient.Do(asked); err != nil || answer.StatusCode != want {
							t.Errorf("log level %s: %v %v", level, answer, err)
						}
					}
					if !strings.Contains(w.log.String(), "log level changed") {
						t.Error("the change of the log level is not logged")
					}
				}()
				proxy := httptest.NewTLSServer(
					&httputil.ReverseProxy{FlushInterval: -1, Rewrite: func(r *httputil.ProxyRequest) {
						r.SetURL(
							&url.URL{Scheme: "http", Host: w.address},
						) // and the name that the proxy knows the service by
						r.SetXForwarded()
					}},
				)
				t.Cleanup(proxy.Close)
				target = "https://" + name + ":" + port(proxy.Listener.Addr().String())
				w.serve()
			} else {
				// Commands and tests trust no certificate that no one signed: they report it.
				w.env = append(w.env, "SSL_CERT_FILE="+file, "PINGO_URL=https://"+w.address)
				w.args = []string{"--tls-cert", file, "--tls-key", key, "--public-name", name}
				w.service = w.process(w.address)
				w.eventually(20*time.Second, "the first token", func() error {
					m := printedToken.FindStringSubmatch(w.log.String())
					if m == nil {
						return fmt.Errorf("no token yet")
					}
					w.client.Token, w.env = m[1], append(w.env, "PINGO_TOKEN="+m[1])
					return nil
				})
				if out := w.must("token", "list"); !strings.Contains(out, "first") {
					t.Errorf("the command line over TLS: %s", out)
				}
			}
			ctx := browser(
				t,
				chromedp.Flag("ignore-certificate-errors", true),
				chromedp.Flag("host-resolver-rules", "MAP *.example 127.0.0.1"),
			)
			text := func() (text string) {
				if err := chromedp.Run(ctx, chromedp.Evaluate(`document.body ? document.body.innerText : ""`, &text)); err != nil {
					return ""
				}
				return text
			}
			shows := func(words string) {
				t.Helper()
				w.eventually(10*time.Second, words, func() error {
					if text := text(); !strings.Contains(text, words) {
						return fmt.Errorf("no %q in %q", words, text)
					}
					return nil
				})
			}
			do := func(actions ...chromedp.Action) {
				t.Helper()
				if err := chromedp.Run(ctx, actions...); err != nil {
					t.Fatal(err)
				}
			}
			session := func() (found *network.Cookie) {
				t.Helper()
				do(chromedp.ActionFunc(func(ctx context.Context) error {
					list, err := network.GetCookies().Do(ctx)
					for _, c := range list {
						if strings.Contains(c.Name, "pingo") {
							found = c
						}
					}
					return err
				}))
				return found
			}
			do(chromedp.Navigate(target + "/access#token=" + w.client.Token))
			shows("first (you)")
			cookie := session()
			if cookie == nil || !cookie.Secure || !cookie.HTTPOnly || cookie.Name != "__Host-pingo_session" ||
				cookie.SameSite != "Strict" {
				t.Fatalf("the session's cookie: %+v", cookie)
			}
			do(chromedp.SendKeys("form input", "dashboards\r", chromedp.ByQuery))
			shows("This is token dashboards. It is shown this once")
			do(chromedp.Click(`button[aria-label="Remove token dashboards"]`, chromedp.ByQuery))
			shows("Remove token dashboards?")
			do(chromedp.Click(`//div[@role="dialog"]//button[.="Remove"]`, chromedp.BySearch))
			w.eventually(10*time.Second, "the token is gone", func() error {
				if text := text(); strings.Contains(text, "Remove token") ||
					strings.Contains(text, "dashboards\tviewer") {
					return fmt.Errorf("%q", text)
				}
				return nil
			})
			// A page of another port in the same browser can neither read nor change anything.
			other := httptest.NewTLSServer(
				http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { fmt.Fprint(w, "<p>other") }),
			)
			defer other.Close()
			var outcome string
			do(
				chromedp.Navigate(
					"https://"+name+":"+port(other.Listener.Addr().String()),
				), // same site, so the cookie goes along
				chromedp.Evaluate(
					fmt.Sprintf(
						`Promise.all(['GET', 'POST'].map((method) => fetch('%s/api/tokens', {method, mode: 'no-cors', credentials: 'include',
					body: method === 'POST' ? '{"name":"stolen","role":"admin"}' : undefined}).then((r) => r.type, (e) => 'refused'))).then((x) => x.join())`,
						target,
					),
					&outcome,
					func(p *runtime.EvaluateParams) *runtime.EvaluateParams { return p.WithAwaitPromise(true) },
				),
			)
			do(chromedp.Navigate(target + "/access"))
			shows("first (you)")
			if text := text(); strings.Contains(text, "stolen") || strings.Contains(outcome, "basic") {
				t.Errorf("another page made a token or read an answer: %s %q", outcome, text)
			}
			do(chromedp.Click(`//header//button[contains(., "Sign out")]`, chromedp.BySearch))
			shows("Sign in to Pingo")
			if left := session(); left != nil {
				t.Errorf("a cookie is left: %+v", left)
			}
			do(
				network.SetCookie(cookie.Name, cookie.Value).WithURL(target).WithSecure(true).WithPath("/"),
				chromedp.Navigate(target),
			)
			shows("Sign in to Pingo") // a copy of the cookie is worth nothing
		})
	}
}

func port(address string) string { return address[strings.LastIndex(address, ":")+1:] }
