// Package postgres is the source of kind postgres: an application database in
// PostgreSQL, whose changes triggers note in a journal.
package postgres

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"

	"pingo/internal/core/shape"
)

// Postgres is a source. Make one with Open.
type Postgres struct {
	pool    *pgxpool.Pool
	journal journal
	plans   sync.Map // *shape.Node to *nodeSQL
}

// poolSize bounds the connections that Pingo takes from a source.
const poolSize = 10

// Open prepares a pool; it connects when it is first used.
func Open(url string, connectTimeout time.Duration) (*Postgres, error) {
	config, err := pgxpool.ParseConfig(url)
	if err != nil {
		return nil, fmt.Errorf("the url of the source cannot be read: %w", hidePassword(err))
	}
	config.MaxConns = poolSize
	config.MaxConnIdleTime = time.Minute
	config.ConnConfig.ConnectTimeout = connectTimeout
	// A server that vanished without a word must not be waited for until evening.
	config.ConnConfig.DialFunc = (&net.Dialer{KeepAlive: 10 * time.Second}).DialContext
	for name, value := range map[string]string{
		"application_name": "pingo", "DateStyle": "ISO", "TimeZone": "UTC", "IntervalStyle": "iso_8601",
		"extra_float_digits": "1", "bytea_output": "hex", "statement_timeout": "0", "lock_timeout": "2s",
		"idle_in_transaction_session_timeout": "60s", "jit": "off", "max_parallel_workers_per_gather": "0",
	} {
		config.ConnConfig.RuntimeParams[name] = value
	}
	pool, err := pgxpool.NewWithConfig(context.Background(), config)
	if err != nil {
		return nil, fmt.Errorf("the url of the source cannot be used: %w", hidePassword(err))
	}
	return &Postgres{pool: pool}, nil
}

// Close gives the connections back.
func (p *Postgres) Close() { p.pool.Close() }

// Describe says which server and database answered, and as whom.
func (p *Postgres) Describe(ctx context.Context) (string, error) {
	var version, database, user string
	err := p.pool.QueryRow(ctx, "SELECT current_setting('server_version'), current_database(), current_user").Scan(&version, &database, &user)
	if err != nil {
		return "", Explain(err)
	}
	version, _, _ = strings.Cut(version, " ")
	return fmt.Sprintf("PostgreSQL %s, database %s, as %s", version, database, user), nil
}

// Explain puts a connection's or statement's failure into a sentence with what to do.
func Explain(err error) error {
	var pg *pgconn.PgError
	if errors.As(err, &pg) {
		switch pg.Code {
		case "28P01", "28000":
			return fmt.Errorf("PostgreSQL refused the user or password (%s): look at the url's user and password", pg.Message)
		case "3D000":
			return fmt.Errorf("PostgreSQL has no such database (%s): look at the end of the url", pg.Message)
		case "42703", "42P01", "3F000":
			return fmt.Errorf("PostgreSQL says %w: a column or table of the definition was renamed or dropped; put it back, or apply a definition that knows its new name", pg)
		case "42501":
			return fmt.Errorf("PostgreSQL says %w: pingo capture show prints the grants that are needed", pg)
		case "53300":
			return fmt.Errorf("PostgreSQL has no connection left (%s): raise max_connections or close others", pg.Message)
		case "57P03":
			return fmt.Errorf("PostgreSQL is not ready yet (%s)", pg.Message)
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
	return fmt.Errorf("%s does not answer (%s): look at the url's host and port, and whether the server runs", where, unreachable(err))
}

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

// DataFault reports whether err is PostgreSQL's complaint about a value (class 22),
// not about the statement.
func DataFault(err error) bool {
	var pg *pgconn.PgError
	return errors.As(err, &pg) && strings.HasPrefix(pg.Code, "22")
}

// Misfit reports whether err is PostgreSQL's complaint about a table, column or right
// that a statement needs and that is not there (class 42).
func Misfit(err error) bool {
	var pg *pgconn.PgError
	return errors.As(err, &pg) && strings.HasPrefix(pg.Code, "42")
}

func hidePassword(err error) error {
	var parse *pgconn.ParseConfigError
	if errors.As(err, &parse) {
		return errors.New(parse.Error()) // its text has the password replaced
	}
	return err
}

func quote(r shape.Ref) string        { return pgx.Identifier{r.Schema, r.Name}.Sanitize() }
func quoteName(name string) string    { return pgx.Identifier{name}.Sanitize() }
func literal(text string) string      { return "'" + strings.ReplaceAll(text, "'", "''") + "'" }
func wrap(what string, e error) error { return fmt.Errorf("%s: %w", what, Explain(e)) }

func quoteNames(names []string, prefix string) string {
	return strings.Join(quoted(names, prefix, ""), ", ")
}

func quoted(names []string, prefix, suffix string) []string {
	out := make([]string, len(names))
	for i, n := range names {
		out[i] = prefix + quoteName(n) + suffix
	}
	return out
}

// textArray writes values as PostgreSQL's array literal.
func textArray(values []string) []byte {
	size := 2
	for _, v := range values {
		size += len(v) + 3
	}
	dst := append(make([]byte, 0, size), '{')
	for i, v := range values {
		if i > 0 {
			dst = append(dst, ',')
		}
		dst = append(dst, '"')
		for j := 0; j < len(v); j++ {
			if v[j] == '"' || v[j] == '\\' {
				dst = append(dst, '\\')
			}
			dst = append(dst, v[j])
		}
		dst = append(dst, '"')
	}
	return append(dst, '}')
}
