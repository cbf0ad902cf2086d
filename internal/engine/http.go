package engine

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"syscall"
	"time"

	"pingo/internal/core/retry"
)

// maxAnswer bounds an answer, in bytes: a request for documents asks for less, and one that never ends would fill the memory.
const maxAnswer = 256 << 20

// HTTPClient makes the client of an engine with an HTTP interface. It dials as the configuration says, keeps at most connections
// of them open without use, gives a request up after timeout, and follows no redirects: headers with secrets are for the
// address that the definition has. Reading an answer of more than 256 MiB fails.
func HTTPClient(c Config, timeout time.Duration, connections int) *http.Client {
	transport := &http.Transport{
		MaxIdleConnsPerHost: connections,
		IdleConnTimeout:     time.Minute,
		DialContext:         (&net.Dialer{Timeout: 5 * time.Second}).DialContext,
		WriteBufferSize:     64 << 10,
	}
	if c.Dial != nil {
		transport.DialContext = c.Dial
	}
	return &http.Client{
		Timeout:       timeout,
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
		Transport:     bounded{transport},
	}
}

// bounded bounds the bodies of answers.
type bounded struct{ *http.Transport }

func (b bounded) RoundTrip(r *http.Request) (*http.Response, error) {
	response, err := b.Transport.RoundTrip(r)
	if err == nil {
		response.Body = &boundedBody{response.Body, maxAnswer}
	}
	return response, err
}

type boundedBody struct {
	io.ReadCloser
	left int64
}

func (b *boundedBody) Read(p []byte) (int, error) {
	n, err := b.ReadCloser.Read(p)
	if b.left -= int64(n); b.left < 0 {
		return 0, errors.New("its answer has more than 256 MiB")
	}
	return n, err
}

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
