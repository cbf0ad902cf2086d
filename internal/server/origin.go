package server

import (
	"mime"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"os"
	"slices"
	"strings"

	"github.com/labstack/echo/v4"
)

// ownPages lets requests change something only where a page of another origin could not have made them: with a token
// that no browser adds by itself; or, where a cookie is what lets them in, from a page of ours, and as JSON, which
// no form sends.
func ownPages(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c echo.Context) error {
		r := c.Request()
		switch r.Method {
		case http.MethodGet, http.MethodHead, http.MethodOptions:
			return next(c)
		}
		if _, ok := bearer(r); ok {
			return next(c)
		}
		own := true
		switch site, origin := r.Header.Get("Sec-Fetch-Site"), r.Header.Get("Origin"); {
		case site != "": // the browser knows best, also behind a proxy
			own = site == "same-origin" || site == "none"
		case origin != "":
			from, err := url.Parse(origin)
			own = err == nil && from.Host == r.Host
		}
		if !own {
			return problemf(
				http.StatusForbidden,
				"this request was made by a page of another site: use the console, or a token",
			)
		}
		if _, err := c.Cookie(cookieNameOf(c)); err != nil {
			return next(c) // nothing lets it in by itself
		}
		if kind, _, err := mime.ParseMediaType(r.Header.Get("Content-Type")); r.ContentLength != 0 &&
			(err != nil || kind != "application/json") {
			return problemf(
				http.StatusUnsupportedMediaType,
				"the body is to be JSON: send it with Content-Type: application/json",
			)
		}
		return next(c)
	}
}

// forwarded are the headers in which a proxy says how it was asked, and which count from trusted ones only.
var forwarded = []string{
	echo.HeaderXForwardedProto, echo.HeaderXForwardedProtocol, echo.HeaderXForwardedSsl, echo.HeaderXUrlScheme,
	echo.HeaderXForwardedFor, echo.HeaderXRealIP, "X-Forwarded-Host",
}

// behind takes what trusted proxies say of a request for true, and forgets what others say.
func behind(proxies []netip.Prefix) echo.MiddlewareFunc {
	return func(next echo.HandlerFunc) echo.HandlerFunc {
		return func(c echo.Context) error {
			r := c.Request()
			peer, err := netip.ParseAddrPort(r.RemoteAddr)
			trusted := err == nil &&
				slices.ContainsFunc(proxies, func(p netip.Prefix) bool { return p.Contains(peer.Addr().Unmap()) })
			if host := r.Header.Get("X-Forwarded-Host"); trusted && host != "" {
				r.Host = host
			}
			if !trusted {
				for _, name := range forwarded {
					r.Header.Del(name)
				}
			}
			return next(c)
		}
	}
}

// realAddress finds the address that a request came from, through trusted proxies.
func realAddress(proxies []netip.Prefix) echo.IPExtractor {
	trust := []echo.TrustOption{echo.TrustLoopback(false), echo.TrustLinkLocal(false), echo.TrustPrivateNet(false)}
	for _, p := range proxies {
		trust = append(
			trust,
			echo.TrustIPRange(&net.IPNet{IP: p.Addr().AsSlice(), Mask: net.CIDRMask(p.Bits(), p.Addr().BitLen())}),
		)
	}
	return echo.ExtractIPFromXFFHeader(trust...)
}

// overTLS reports whether a request came over TLS, to here or to a trusted proxy.
func overTLS(c echo.Context) bool { return c.Scheme() == "https" }

// knownNames makes the function that reports whether a host, with a port or without, is this service's: an address, this
// machine's name, or one of some names.
func knownNames(names []string) func(host string) bool {
	known := map[string]bool{"localhost": true}
	if own, err := os.Hostname(); err == nil {
		known[strings.ToLower(own)] = true
	}
	for _, name := range names {
		known[strings.ToLower(name)] = true
	}
	return func(host string) bool {
		if name, _, err := net.SplitHostPort(host); err == nil {
			host = name
		}
		host = strings.ToLower(strings.Trim(host, "[]"))
		_, notAddress := netip.ParseAddr(host)
		return notAddress == nil || known[host]
	}
}

// named refuses requests to names that are not this service's, since a page can make its own name lead here. A process that
// shows a token is let through: no browser does that by itself.
func named(knows func(host string) bool) echo.MiddlewareFunc {
	return func(next echo.HandlerFunc) echo.HandlerFunc {
		return func(c echo.Context) error {
			r := c.Request()
			host := r.Host
			_, token := bearer(r)
			path := r.URL.Path
			if knows(host) || token || path == "/health" || path == "/ready" ||
				strings.HasPrefix(path, hooksPath) {
				return next(c)
			}
			return problemf(
				http.StatusMisdirectedRequest,
				"this service does not know the name %q: start it with --public-name %[1]s if it is meant to be reached by it",
				host,
			)
		}
	}
}
