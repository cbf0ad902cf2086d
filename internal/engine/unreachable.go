package engine

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"net/url"
	"syscall"

	"pingo/internal/core/retry"
)

// Unreachable puts the failure of an HTTP request that no answer came to into a sentence; at is the server, as people know
// it. The end of the caller's context stays as it is.
func Unreachable(at string, err error) error {
	var untrusted *tls.CertificateVerificationError
	if errors.As(err, &untrusted) {
		return &Failure{Outcome: retry.Blocked, Message: fmt.Sprintf(
			"the certificate of %s is not trusted: %s. If your own authority signed it, start pingo serve with SSL_CERT_FILE=/path/to/its.pem",
			at,
			untrusted.Err,
		)}
	}
	var why error
	var dial *net.OpError
	var dns *net.DNSError
	var timeout interface{ Timeout() bool }
	switch {
	case errors.Is(err, context.Canceled):
		return err
	case errors.As(err, &dns):
		why = errors.New("no such host " + dns.Name)
	case errors.Is(err, syscall.ECONNREFUSED):
		why = syscall.ECONNREFUSED
	case errors.As(err, &timeout) && timeout.Timeout():
		why = errors.New("no answer in time")
	case errors.As(err, &dial):
		why = dial.Err
	default:
		why = err
		var in *url.Error
		if errors.As(err, &in) {
			why = in.Err
		}
	}
	return fmt.Errorf(
		"%s does not answer (%w): look at the url's host and port, and whether the engine runs",
		at,
		why,
	)
}
