package outgoing

import (
	"errors"
	"net"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"strings"
	"testing"
	"time"
)

func TestPublicAddresses(t *testing.T) {
	for text, want := range map[string]bool{
		"8.8.8.8": true, "2606:4700::1": true, "127.0.0.1": false, "127.8.8.8": false, "10.1.2.3": false, "172.16.0.1": false, "192.168.1.1": false, "169.254.169.254": false,
		"100.64.0.1": false, "0.0.0.0": false, "255.255.255.255": false, "224.0.0.1": false, "::1": false, "::": false, "fe80::1": false, "fc00::1": false, "::ffff:127.0.0.1": false,
		"64:ff9b::7f00:1": false, "::7f00:1": false, "2002:7f00:1::": false, "198.18.0.1": false, "ff02::1": false, "192.0.2.1": false,
	} {
		if got := public(netip.MustParseAddr(text).Unmap()); got != want {
			t.Errorf("%s: public %v, want %v", text, got, want)
		}
	}
}

// The address that a name resolves to decides, and a name that was given is let through.
func TestDial(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	port := l.Addr().(*net.TCPAddr).Port
	for _, c := range []struct {
		given             string
		host              string
		sources, fetching bool
	}{
		{"", "127.0.0.1", true, false}, {"", "localhost", true, false}, {"127.0.0.0/8", "localhost", true, true}, {"127.0.0.0/8", "127.0.0.1", true, true},
		{"10.0.0.0/8", "127.0.0.1", false, false}, {"10.0.0.0/8", "localhost", false, false}, {"localhost", "LOCALHOST", true, true}, {"local*", "localhost", true, true},
		{"localhost", "127.0.0.1", false, false}, {"*.example", "localhost", false, false}, {"127.0.0.1", "::ffff:127.0.0.1", true, true},
	} {
		var list []string
		if c.given != "" {
			list = strings.Split(c.given, ",")
		}
		a, err := Parse(list)
		if err != nil {
			t.Fatal(err)
		}
		for what, try := range map[string]struct {
			dial Dialer
			want bool
		}{"source": {a.Dial, c.sources}, "fetch": {a.DialPublic, c.fetching}} {
			conn, err := try.dial(t.Context(), "tcp", net.JoinHostPort(c.host, itoa(port)))
			var refused *RefusedError
			if err == nil {
				conn.Close()
			}
			if (err == nil) != try.want || err != nil && !errors.As(err, &refused) {
				t.Errorf("given %q, %s at %s: %v, want %v", c.given, what, c.host, err, try.want)
			}
		}
	}
	for _, wrong := range []string{"", "10.0.0.0/99", "http://x", "a b", "[x"} {
		if _, err := Parse([]string{wrong}); err == nil {
			t.Errorf("%q is taken for an address", wrong)
		}
	}
	if conn, err := Anywhere.DialPublic(t.Context(), "tcp", l.Addr().String()); err != nil {
		t.Error(err)
	} else {
		conn.Close()
	}
}

func itoa(n int) string {
	return strings.TrimPrefix(netip.AddrPortFrom(netip.IPv4Unspecified(), uint16(n)).String(), "0.0.0.0:")
}

// A redirect leads to the same host or nowhere, and tells no one where it came from.
func TestRedirects(t *testing.T) {
	var referers []string
	other := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { w.Write([]byte("other")) }))
	defer other.Close()
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		referers = append(referers, r.Referer())
		switch r.URL.Path {
		case "/near":
			http.Redirect(w, r, "/here", http.StatusFound)
		case "/far":
			http.Redirect(w, r, other.URL, http.StatusFound)
		case "/round":
			http.Redirect(w, r, "/round", http.StatusFound)
		}
	}))
	defer server.Close()
	for path, want := range map[string]int{"/near?secret=1": 200, "/far": 302, "/round": 302} {
		answer, err := Client(Anywhere.DialPublic, time.Second, true).Get(server.URL + path)
		if err != nil || answer.StatusCode != want {
			t.Errorf("%s: %v %v", path, answer, err)
		}
	}
	if answer, err := Client(Anywhere.DialPublic, time.Second, false).Get(server.URL + "/near"); err != nil || answer.StatusCode != 302 {
		t.Errorf("%v %v", answer, err)
	}
	if strings.Join(referers, "") != "" {
		t.Errorf("referers: %q", referers)
	}
}
