// Package outgoing decides which addresses Pingo connects to. The author of a definition names the addresses of sources,
// engines, feeds and receivers of alerts; the administrator of the service says which of them are allowed.
package outgoing

import (
	"context"
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"path"
	"slices"
	"strings"
	"syscall"
	"time"
)

// Dialer connects to an address, as net.Dialer.DialContext does.
type Dialer func(ctx context.Context, network, address string) (net.Conn, error)

// ClosedError refuses all connections to where Pingo otherwise connects to, since a person asked for it.
type ClosedError struct{ Reason string }

func (e *ClosedError) Error() string { return e.Reason }

// Addresses are those that Pingo may connect to. The zero value allows sources and engines to be anywhere, and fetched
// records, feeds and receivers of alerts to be at public addresses.
type Addresses struct {
	given    bool
	anywhere bool
	names    []string // patterns, in lower case
	networks []netip.Prefix
}

// Anywhere is no limit at all: for what runs next to its own definitions, such as the demo.
var Anywhere = Addresses{anywhere: true}

// Parse reads a list of host names, patterns of them such as *.firnline.example, addresses and networks such as
// 10.0.0.0/8. An empty list is the zero value.
func Parse(list []string) (Addresses, error) {
	a := Addresses{given: len(list) > 0}
	for _, text := range list {
		if prefix, err := netip.ParsePrefix(text); err == nil {
			a.networks = append(a.networks, prefix.Masked())
			continue
		}
		if address, err := netip.ParseAddr(strings.Trim(text, "[]")); err == nil {
			a.networks = append(a.networks, netip.PrefixFrom(address.Unmap(), address.Unmap().BitLen()))
			continue
		}
		name := strings.ToLower(strings.TrimSuffix(text, "."))
		if _, err := path.Match(name, ""); err != nil || name == "" || strings.ContainsAny(name, "/: ") {
			return a, fmt.Errorf(
				"%q is not a host name, a pattern of names such as *.firnline.example, an address or a network such as 10.0.0.0/8",
				text,
			)
		}
		a.names = append(a.names, name)
	}
	return a, nil
}

// RefusedError says that Pingo may not connect to an address.
type RefusedError struct {
	// Address is the address of the name Host.
	Address, Host string
	// Given: the addresses that are allowed were given with --allow-address.
	Given bool
}

func (e *RefusedError) Error() string {
	why := "it is not a public address"
	if e.Given {
		why = "it is not among the addresses given with --allow-address"
	}
	return fmt.Sprintf(
		"Pingo does not connect to %s (%s): %s. Start pingo serve with --allow-address %[1]s if it is intended",
		e.Host, e.Address, why)
}

// Dial connects to sources and engines: anywhere, unless addresses were given.
func (a Addresses) Dial(ctx context.Context, network, address string) (net.Conn, error) {
	return a.dial(ctx, network, address, !a.given)
}

// DialPublic connects to what a definition has Pingo fetch from or report to: to public addresses, or to those that were
// given.
func (a Addresses) DialPublic(ctx context.Context, network, address string) (net.Conn, error) {
	return a.dial(ctx, network, address, false)
}

// dial checks the address that a name resolves to, when the connection is made: a name may have another address at
// each look-up.
func (a Addresses) dial(ctx context.Context, network, address string, anywhere bool) (net.Conn, error) {
	host, _, err := net.SplitHostPort(address)
	if err != nil {
		host = address
	}
	named := a.named(host)
	d := &net.Dialer{
		Timeout: 5 * time.Second, KeepAlive: 10 * time.Second,
		ControlContext: func(_ context.Context, network, resolved string, _ syscall.RawConn) error {
			if anywhere || a.anywhere || named {
				return nil
			}
			if !strings.HasPrefix(network, "tcp") {
				return &RefusedError{Address: resolved, Host: host, Given: a.given}
			}
			at, err := netip.ParseAddrPort(resolved)
			if err != nil || !a.allowed(at.Addr().Unmap().WithZone("")) {
				return &RefusedError{Address: resolved, Host: host, Given: a.given}
			}
			return nil
		},
	}
	return d.DialContext(ctx, network, address)
}

func (a Addresses) named(host string) bool {
	host = strings.ToLower(strings.TrimSuffix(host, "."))
	return slices.ContainsFunc(a.names, func(pattern string) bool {
		ok, err := path.Match(pattern, host)
		return ok && err == nil
	})
}

func (a Addresses) allowed(address netip.Addr) bool {
	if a.given {
		return slices.ContainsFunc(a.networks, func(p netip.Prefix) bool { return p.Contains(address) })
	}
	return public(address)
}

// notPublic are the networks of the registries of special addresses (RFC 6890 and its updates) that net/netip has no
// word for, and those that embed addresses of version 4.
var notPublic = prefixes("0.0.0.0/8", "100.64.0.0/10", "192.0.0.0/24", "192.0.2.0/24", "192.88.99.0/24", "198.18.0.0/15", "198.51.100.0/24",
	"203.0.113.0/24", "240.0.0.0/4", "64:ff9b::/96", "64:ff9b:1::/48", "100::/64", "2001::/23", "2001:db8::/32", "2002::/16", "::/96")

func prefixes(list ...string) (out []netip.Prefix) {
	for _, text := range list {
		out = append(out, netip.MustParsePrefix(text))
	}
	return out
}

func public(a netip.Addr) bool {
	special := slices.ContainsFunc(notPublic, func(p netip.Prefix) bool { return p.Contains(a) })
	return a.IsGlobalUnicast() && !a.IsPrivate() && !special
}

// Client is an HTTP client of what a definition has Pingo fetch from or report to. It uses no proxy, which would look up
// names itself, and follows a redirect only where redirects is set, to the same host and without a Referer.
func Client(dial Dialer, timeout time.Duration, redirects bool) *http.Client {
	return &http.Client{
		Timeout: timeout,
		Transport: &http.Transport{
			DialContext: dial, TLSHandshakeTimeout: 10 * time.Second, IdleConnTimeout: time.Minute, ForceAttemptHTTP2: true,
		},
		CheckRedirect: func(r *http.Request, before []*http.Request) error {
			first := before[0].URL
			if !redirects || len(before) > 5 || r.URL.Host != first.Host || r.URL.Scheme != first.Scheme {
				return http.ErrUseLastResponse
			}
			r.Header.Del("Referer")
			return nil
		},
	}
}
