// Package pgerror puts the failures of PostgreSQL, which is a kind of source, a kind of
// engine, and where the records are, into sentences with what to do.
package pgerror

import (
	"errors"
	"fmt"
	"io"
	"net"
	"strings"
	"syscall"

	"github.com/jackc/pgx/v5/pgconn"

	"pingo/internal/outgoing"
	"pingo/internal/pgsession"
)

// Explain puts a connection's or statement's failure into a sentence.
func Explain(err error) error {
	if errors.Is(err, pgsession.ErrPooler) {
		return pgsession.ErrPooler
	}
	var closed *outgoing.ClosedError
	if errors.As(err, &closed) {
		return closed
	}
	var pg *pgconn.PgError
	if errors.As(err, &pg) {
		switch pg.Code {
		case "08P01":
			if strings.Contains(pg.Message, "startup parameter") { // poolers say so, and no server
				return fmt.Errorf("%w (%s)", pgsession.ErrPooler, pg.Message)
			}
		case "28P01", "28000":
			return fmt.Errorf(
				"PostgreSQL refused the user or password (%w): look at the url's user and password",
				said{pg},
			)
		case "3D000":
			return fmt.Errorf("PostgreSQL has no such database (%w): look at the end of the url", said{pg})
		case "42703", "42P01", "3F000":
			return fmt.Errorf(
				"PostgreSQL says %w: a column or table of the definition was renamed or dropped; put it back, or apply a definition that knows its new name",
				pg,
			)
		case "42501":
			if pg.Routine == "check_enable_rls" {
				return fmt.Errorf(
					"PostgreSQL says %w: rows that it hides would be taken for deleted, so nothing is read; let the user bypass row-level security (ALTER ROLE … BYPASSRLS), or make it a member of the table's owner",
					pg,
				)
			}
			return fmt.Errorf("PostgreSQL says %w: pingo capture show prints the grants that are needed", pg)
		case "25006":
			return fmt.Errorf(
				"PostgreSQL takes no writes (%w): it is a standby, or default_transaction_read_only is on; give Pingo the address of the primary, or let it write",
				said{pg},
			)
		case "53300":
			return fmt.Errorf(
				"PostgreSQL has no connection left (%w): raise max_connections or close others",
				said{pg},
			)
		case "57P03":
			return fmt.Errorf("PostgreSQL is not ready yet (%w)", said{pg})
		}
		return fmt.Errorf("PostgreSQL says %w", pg)
	}
	var connect *pgconn.ConnectError
	var network *net.OpError
	if !errors.As(err, &connect) && !errors.As(err, &network) {
		return err
	}
	where := "PostgreSQL"
	if connect != nil && connect.Config != nil {
		where = fmt.Sprintf("PostgreSQL at %s:%d", connect.Config.Host, connect.Config.Port)
	}
	return fmt.Errorf(
		"%s does not answer (%s): look at the url's host and port, and whether the server runs",
		where,
		unreachable(err),
	)
}

// said is an error of PostgreSQL that shows its message only.
type said struct{ *pgconn.PgError }

func (s said) Error() string { return s.Message }
func (s said) Unwrap() error { return s.PgError }

// unreachable puts the reason why a connection failed into a few words.
func unreachable(err error) string {
	var dns *net.DNSError
	var timeout interface{ Timeout() bool }
	switch {
	case errors.As(err, &dns):
		return "no such host " + dns.Name
	case errors.Is(err, syscall.ECONNREFUSED):
		return "connection refused"
	case errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF), errors.Is(err, syscall.ECONNRESET):
		return "the connection was closed"
	case errors.As(err, &timeout) && timeout.Timeout():
		return "no answer in time"
	}
	lines := strings.Split(err.Error(), "\n")
	return strings.TrimSpace(lines[len(lines)-1])
}

// Code is PostgreSQL's code for an error, empty when it is none of PostgreSQL's.
func Code(err error) string {
	var pg *pgconn.PgError
	if errors.As(err, &pg) {
		return pg.Code
	}
	return ""
}

// InURL is the failure to read a url, without the url, which may hold secrets.
func InURL(err error) error {
	var parse *pgconn.ParseConfigError
	if !errors.As(err, &parse) {
		return err
	}
	text := parse.Error() // cannot parse `url`: why
	if at := strings.LastIndex(text, "`: "); at >= 0 {
		text = text[at+len("`: "):]
	}
	return errors.New(text)
}
