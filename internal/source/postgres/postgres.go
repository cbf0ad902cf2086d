// Package postgres is the source of kind postgres: an application database in
// PostgreSQL, whose changes triggers note in a journal.
package postgres

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net"
	"strings"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"

	"pingo/internal/core/shape"
	"pingo/internal/pgerror"
	"pingo/internal/pgsession"
	"pingo/internal/source"
	"pingo/internal/source/coalesce"
)

// Kind is what there is to know of this kind of source.
var Kind = source.Kind{
	Name: "postgres", Schemes: []string{"postgres", "postgresql"}, Captures: []string{"triggers"}, Keys: keys,
	Open: Open,
	CannotSee: map[string][]string{"triggers": {
		"Values that change without a row doing so, such as those of now(), are not followed.",
		"A refresh of a materialised view is noticed within ten seconds; its rows change as one.",
		"Tables of other servers are not followed; make their own database a source.",
	}},
}

// database is the connections to a database. Statements name the schema of the journal
// pingo_capture; where it is another one, they are made to.
type database struct {
	pgsession.Pool
	capture string
	// reader is the role whose rights rows are read with; empty: Pingo's own.
	reader string
}

const captureSchema = "pingo_capture"

func (db *database) named(sql string) string {
	if db.capture == captureSchema {
		return sql
	}
	return strings.ReplaceAll(sql, captureSchema, db.capture)
}

// Query is that of the pool.
func (db *database) Query(ctx context.Context, sql string, args ...any) (pgx.Rows, error) {
	return db.Pool.Query(ctx, db.named(sql), args...)
}

// QueryRow is that of the pool.
func (db *database) QueryRow(ctx context.Context, sql string, args ...any) pgx.Row {
	return db.Pool.QueryRow(ctx, db.named(sql), args...)
}

// Exec is that of the pool.
func (db *database) Exec(ctx context.Context, sql string, args ...any) (pgconn.CommandTag, error) {
	return db.Pool.Exec(ctx, db.named(sql), args...)
}

// Reader reads rows.
type Reader struct {
	pool  *database
	plans sync.Map // *shape.Node to *nodeSQL
	locks sync.Map // *shape.Node, the first that is read, to locks
	reads coalesce.Reads
}

// Capture is the triggers and the journal.
type Capture struct {
	pool        *database
	byStatement bool // see needed
}

// poolSize is the default bound for the connections to a source.
const poolSize = 10

// Open prepares connections; they are made when they are first used.
func Open(c source.Config) (*source.Source, error) {
	o, err := readOptions(c)
	if err != nil {
		return nil, err
	}
	pool, err := Connect(c)
	if err != nil {
		return nil, err
	}
	db := &database{pgsession.Pool{Pool: pool}, captureSchema, o.Reader}
	return withReplica(c, o, sourceOf(db, false), db)
}

// Within is a source on connections as Connect makes them, with its journal in a schema of
// some name, which needs no quotes. Its tables have no partitions, and their rows keep their keys and
// are written many at a time.
func Within(pool *pgxpool.Pool, capture string) *source.Source {
	return sourceOf(&database{pgsession.Pool{Pool: pool}, capture, ""}, true)
}

func sourceOf(db *database, byStatement bool) *source.Source {
	return &source.Source{Reader: &Reader{pool: db}, Feed: &Feed{pool: db}, Capture: &Capture{db, byStatement}}
}

// Connect prepares connections whose answers do not depend on how the server is set up. What they commit is on disk.
func Connect(c source.Config) (*pgxpool.Pool, error) {
	return connect(c, pgsession.Path, pgsession.Durable)
}

// ConnectOwn is Connect for a database of Pingo's own, where what is committed is on disk, with another search path.
func ConnectOwn(c source.Config, path string) (*pgxpool.Pool, error) {
	return connect(c, path, pgsession.Durable)
}

func connect(c source.Config, path string, also func(*pgx.ConnConfig)) (*pgxpool.Pool, error) {
	address, err := pgsession.URL(c.URL, c.Files)
	if err != nil {
		return nil, fmt.Errorf("the url of the source cannot be used: %w", err)
	}
	config, err := pgxpool.ParseConfig(address)
	if err != nil {
		return nil, fmt.Errorf("the url of the source cannot be read: %w", pgerror.InURL(err))
	}
	config.MaxConns = int32(cmp.Or(c.MaxConnections, poolSize))
	config.MaxConnIdleTime, config.HealthCheckPeriod = 30*time.Second, 15*time.Second
	config.ConnConfig.ConnectTimeout = c.ConnectTimeout
	// A server that vanished without a word must not be waited for until evening.
	config.ConnConfig.DialFunc = (&net.Dialer{KeepAlive: 10 * time.Second}).DialContext
	if c.Dial != nil {
		config.ConnConfig.DialFunc = pgconn.DialFunc(c.Dial)
	}
	pgsession.Configure(config.ConnConfig, map[string]string{
		"application_name": "pingo", "jit": "off", "max_parallel_workers_per_gather": "0", "search_path": path,
	})
	also(config.ConnConfig)
	config.BeforeConnect = pgsession.ReadFiles(address)
	pool, err := pgxpool.NewWithConfig(context.Background(), config)
	if err != nil {
		return nil, fmt.Errorf("the url of the source cannot be used: %w", pgerror.InURL(err))
	}
	return pool, nil
}

// Close gives the connections back.
func (p *Reader) Close() { p.pool.Close() }

// Describe says which server and database answered, and as whom.
func (p *Reader) Describe(ctx context.Context) (string, error) {
	var version, database, user string
	err := p.pool.QueryRow(ctx, "SELECT current_setting('server_version'), current_database(), current_user").
		Scan(&version, &database, &user)
	if err != nil {
		return "", explain(err)
	}
	version, _, _ = strings.Cut(version, " ")
	return fmt.Sprintf("PostgreSQL %s, database %s, as %s", version, database, user), nil
}

// explain puts a failure into a sentence, and says whose fault it is: a value's, or the
// statement's, which no longer fits the tables.
func explain(err error) error {
	if errors.Is(err, source.ErrTooLarge) {
		return err // it is no answer of the server
	}
	out := &source.Error{Err: pgerror.Explain(err)}
	switch code := pgerror.Code(err); {
	case outdated(err): // it works with a new connection
	case strings.HasPrefix(code, "22"):
		out.Fault = source.BadValue
	case strings.HasPrefix(code, "42"):
		out.Fault = source.SchemaChanged
	}
	return out
}

func quote(r shape.Ref) string        { return pgx.Identifier{r.Schema, r.Name}.Sanitize() }
func quoteName(name string) string    { return pgx.Identifier{name}.Sanitize() }
func wrap(what string, e error) error { return fmt.Errorf("%s: %w", what, explain(e)) }

// literal writes a text as SQL, whatever the session that reads it takes a backslash for.
func literal(text string) string {
	quoted := "'" + strings.ReplaceAll(text, "'", "''") + "'"
	if strings.Contains(text, `\`) {
		return "E" + strings.ReplaceAll(quoted, `\`, `\\`)
	}
	return quoted
}

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

// Label leaves out the schema that names without one mean.
func (p *Reader) Label(table shape.Ref) string {
	if table.Schema == "public" {
		return table.Name
	}
	return table.String()
}
