// Package postgres is the engine of kind postgres: editions are tables of a
// PostgreSQL database, and a public name is a view of one of them.
package postgres

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"regexp"
	"strings"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"

	"pingo/internal/core/retry"
	"pingo/internal/core/shape"
	"pingo/internal/engine"
	"pingo/internal/pgerror"
	"pingo/internal/pgsession"
)

// Engine is one database. Make one with Open.
type Engine struct {
	pool pgsession.Pool
	mu   sync.Mutex // guards what follows
	// layouts of the editions that were delivered to.
	layouts map[string]*layout
	swept   map[string]time.Time
}

// The schema of all objects that Pingo creates.
const schema = "pingo_search"

const schemaSQL = `
CREATE TABLE IF NOT EXISTS pingo_search.pingo_editions (name text PRIMARY KEY, shape jsonb NOT NULL);
CREATE TABLE IF NOT EXISTS pingo_search.pingo_synonyms (edition text NOT NULL, said tsquery NOT NULL, means tsquery NOT NULL);
`

// Kind is what there is to know of this kind of engine.
var Kind = engine.Kind{
	Name: "postgres", Schemes: []string{"postgres", "postgresql"}, Keys: `{}`,
	Open:   func(c engine.Config) (engine.Engine, error) { return Open(c) },
	Limits: Limits, InPlace: InPlace, Recognize: recognize,
	Leaves: "the schema pingo_search, with all of it: DROP SCHEMA pingo_search CASCADE",
}

// recognize: no other kind has these schemes, and only PostgreSQL can answer.
func recognize(ctx context.Context, c engine.Config) (bool, error) {
	e, err := Open(c)
	if err != nil {
		return false, err
	}
	defer e.Close()
	if err := e.pool.Ping(ctx); err != nil {
		return false, explain(err)
	}
	return true, nil
}

// RefusesOlderVersions: every row has its document's version.
func (*Engine) RefusesOlderVersions() {}

var (
	wrongType    = regexp.MustCompile(`^field (\S+) is (\S+), which .* is not$`)
	unknownField = regexp.MustCompile(`^the document has a field (\S+), which the edition does not$`)
)

// Explain reads a refusal of a document.
func (*Engine) Explain(kind, reason string) retry.Cause {
	if m := wrongType.FindStringSubmatch(reason); m != nil {
		return retry.WrongType(kind, fmt.Sprintf("field %s is %s, which … is not", m[1], m[2]), m[1], m[2])
	}
	pattern := retry.Pattern(reason)
	if m := unknownField.FindStringSubmatch(reason); m != nil {
		return retry.UnknownField(kind, pattern, m[1])
	}
	return retry.CauseOf(kind, pattern, "", retry.AsTheEngineSays)
}

// Open prepares a pool; it connects when it is first used.
func Open(c engine.Config) (*Engine, error) {
	address, err := pgsession.URL(c.URL, c.Files)
	if err != nil {
		return nil, fmt.Errorf("the url of the engine cannot be used: %w", err)
	}
	config, err := pgxpool.ParseConfig(address)
	if err != nil {
		return nil, fmt.Errorf("the url of the engine cannot be read: %w", pgerror.InURL(err))
	}
	config.MaxConns = 12
	config.MaxConnIdleTime, config.HealthCheckPeriod = 30*time.Second, 15*time.Second
	config.ConnConfig.ConnectTimeout = 5 * time.Second
	if c.Dial != nil {
		config.ConnConfig.DialFunc = pgconn.DialFunc(c.Dial)
	}
	pgsession.Configure(config.ConnConfig, map[string]string{"application_name": "pingo"})
	pgsession.Durable(config.ConnConfig)
	config.BeforeConnect = pgsession.ReadFiles(address)
	pool, err := pgxpool.NewWithConfig(context.Background(), config)
	if err != nil {
		return nil, fmt.Errorf("the url of the engine cannot be used: %w", pgerror.InURL(err))
	}
	return &Engine{pool: pgsession.Pool{Pool: pool}, layouts: map[string]*layout{}, swept: map[string]time.Time{}}, nil
}

// Close gives the connections back.
func (e *Engine) Close() { e.pool.Close() }

// explain makes a failure of what the database said, or did not say.
func explain(err error) error {
	var pg *pgconn.PgError
	if !errors.As(err, &pg) {
		if errors.Is(err, context.Canceled) {
			return err
		}
		reason := err.Error()
		if lines := strings.Split(reason, "\n"); len(lines) > 1 {
			reason = strings.TrimSpace(lines[len(lines)-1])
		}
		return &engine.Failure{
			Outcome: retry.Later,
			Message: fmt.Sprintf(
				"the engine's PostgreSQL does not answer (%s): look at the url's host and port, and whether the server runs",
				reason,
			),
		}
	}
	f := &engine.Failure{
		Outcome: retry.Later,
		Kind:    pg.Code,
		Message: "the engine's PostgreSQL says " + pg.Message,
	}
	switch {
	case strings.HasPrefix(pg.Code, "28"):
		f.Outcome, f.Message = retry.Blocked, f.Message+": look at the url's user and password"
	case pg.Code == "3D000":
		f.Outcome, f.Message = retry.Blocked, f.Message+": look at the end of the url"
	case pg.Code == "42501":
		f.Outcome, f.Message = retry.Blocked, f.Message+": let the url's user create in its database (GRANT CREATE ON DATABASE …), or make it the owner of the schema "+schema
	case strings.HasPrefix(pg.Code, "42"),
		strings.HasPrefix(pg.Code, "0A"),
		strings.HasPrefix(pg.Code, "2B"),
		pg.Code == "25006",
		pg.Code == "53100":
		f.Outcome = retry.Blocked // what a statement needs is not there, or may not be written
	case strings.HasPrefix(pg.Code, "22"), strings.HasPrefix(pg.Code, "54"):
		f.Outcome = retry.Refused
	}
	return f
}

// Describe says which server and database answered, and whether editions can be made.
func (e *Engine) Describe(ctx context.Context) (string, error) {
	var version, database, user string
	var may bool
	err := e.pool.QueryRow(ctx, `SELECT current_setting('server_version'), current_database(), current_user,
		CASE WHEN to_regnamespace('pingo_search') IS NULL THEN has_database_privilege(current_database(), 'CREATE')
		     ELSE has_schema_privilege('pingo_search', 'CREATE') END`).Scan(&version, &database, &user, &may)
	if err != nil {
		return "", explain(err)
	}
	if err := own(ctx, e.pool); err != nil {
		return "", err
	}
	if !may {
		return "", &engine.Failure{
			Outcome: retry.Blocked,
			Message: fmt.Sprintf(
				"%s may not make tables in database %s: GRANT CREATE ON DATABASE %s TO %s, or make it the owner of the schema %s",
				user,
				database,
				name(database),
				name(user),
				schema,
			),
		}
	}
	version, _, _ = strings.Cut(version, " ")
	return fmt.Sprintf("PostgreSQL %s, database %s, as %s", version, database, user), nil
}

// own refuses a schema in which others decide what runs.
func own(ctx context.Context, db pgsession.Querier) error {
	err := pgsession.Own(ctx, db, schema)
	var intruded *pgsession.ErrIntruded
	if errors.As(err, &intruded) {
		return &engine.Failure{Outcome: retry.Blocked, Message: err.Error()}
	}
	if err != nil {
		return explain(err)
	}
	return nil
}

func name(n string) string      { return pgx.Identifier{n}.Sanitize() }
func qualified(n string) string { return pgx.Identifier{schema, n}.Sanitize() }
func literal(s string) string   { return "'" + strings.ReplaceAll(s, "'", "''") + "'" }

// InPlace: synonyms are rows that queries look up; the text search configuration is
// in every stored word.
func InPlace(old, new *shape.Shape) bool {
	a, err1 := json.Marshal(old.Settings)
	b, err2 := json.Marshal(new.Settings)
	return err1 == nil && err2 == nil && string(a) == string(b)
}

// maxIndexName leaves room in an identifier for the edition's number.
const maxIndexName = 50

// Limits says what a definition asks for that this engine cannot do.
func Limits(s *shape.Shape) (refused, notes []string) {
	if len(s.Index) > maxIndexName {
		refused = append(
			refused,
			fmt.Sprintf(
				"the name %s is longer than %d letters, more than PostgreSQL has room for with an edition's number",
				s.Index,
				maxIndexName,
			),
		)
	}
	for setting, value := range s.Settings {
		if _, text := value.(string); setting != configSetting || !text {
			refused = append(
				refused,
				fmt.Sprintf(
					"engine_settings has %q, but an engine of kind postgres knows only %s, the name of a text search configuration",
					setting,
					configSetting,
				),
			)
		}
	}
	if n := len(weightsOf(s)); n > 4 {
		notes = append(
			notes,
			fmt.Sprintf(
				"there are %d different search weights, but PostgreSQL ranks by four; the smallest ones count alike",
				n,
			),
		)
	}
	return refused, notes
}

// transaction runs f in a transaction.
func (e *Engine) transaction(ctx context.Context, f func(pgx.Tx) error) error {
	err := pgx.BeginFunc(ctx, e.pool, f)
	var known *engine.Failure
	if err == nil || errors.As(err, &known) {
		return err
	}
	return explain(err)
}
