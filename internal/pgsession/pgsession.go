// Package pgsession makes what PostgreSQL answers independent of how a server, a database and a role are set up, and
// texts such that it can keep them. A source, an engine and the records are each in a PostgreSQL that others look after.
package pgsession

import (
	"context"
	"errors"
	"maps"
	"strings"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
)

// Path is the search path of Pingo's sessions. Functions and operators that Pingo does not qualify are those of the
// server itself: no other role can create in pg_catalog, and pg_temp, which comes last, is never searched for them.
const Path = "pg_catalog, pg_temp"

// Records is the schema of Pingo's own tables, and RecordsPath the search path of sessions that name them without it:
// the functions and operators of the server come first there, too.
const (
	Records     = "pingo_records"
	RecordsPath = Records + ", pg_temp"
)

// settings are what ALTER SYSTEM, ALTER DATABASE or ALTER ROLE may have set to something else.
var settings = map[string]string{
	"search_path":                         Path,
	"check_function_bodies":               "on",
	"xmloption":                           "content",
	"client_encoding":                     "UTF8",
	"standard_conforming_strings":         "on",
	"quote_all_identifiers":               "off",
	"array_nulls":                         "on",
	"transform_null_equals":               "off",
	"DateStyle":                           "ISO",
	"TimeZone":                            "UTC",
	"IntervalStyle":                       "iso_8601",
	"extra_float_digits":                  "1",
	"bytea_output":                        "hex",
	"xmlbinary":                           "base64",
	"statement_timeout":                   "0",
	"lock_timeout":                        "2s",
	"idle_in_transaction_session_timeout": "60s",
	"idle_session_timeout":                "0", // a session may hold a lock while others are worked with
	// Rows that a policy hides would be taken for gone: reading them fails instead.
	"row_security": "off",
	// What is read under SERIALIZABLE makes transactions of others fail.
	"default_transaction_isolation": "read committed",
}

// ErrPooler means that the address is a pooler that drops the settings of Pingo's sessions.
var ErrPooler = errors.New(
	"the url leads to a connection pooler, which does not pass on the settings that Pingo begins its sessions with: give Pingo the address of the server itself, or see docs/howto/behind-a-pooler.md",
)

// reported is one of the settings that a server reports by itself when a session begins.
const reported = "IntervalStyle"

// Configure has connections begin with these settings, and more of them. One that begins without them fails with
// ErrPooler.
func Configure(config *pgx.ConnConfig, more map[string]string) {
	config.RuntimeParams = maps.Clone(settings) // and nothing of what variables such as PGOPTIONS added
	maps.Copy(config.RuntimeParams, more)
	config.AfterConnect = func(ctx context.Context, conn *pgconn.PgConn) error {
		if conn.ParameterStatus(reported) != settings[reported] {
			return ErrPooler
		}
		if conn.ParameterStatus("server_encoding") == "SQL_ASCII" {
			// Nothing is converted there, and one text that is not UTF-8 would have every read refused that comes upon it.
			_, err := conn.Exec(ctx, "SET client_encoding = SQL_ASCII").ReadAll()
			return err
		}
		return nil
	}
}

// ReadFiles returns a hook that reads the password file and the certificates of an address for each new connection. A password
// or key that changes in its file is used without a restart.
func ReadFiles(address string) func(context.Context, *pgx.ConnConfig) error {
	return func(_ context.Context, config *pgx.ConnConfig) error {
		fresh, err := pgx.ParseConfig(address)
		if err != nil {
			return err
		}
		config.Password, config.TLSConfig, config.Fallbacks = fresh.Password, fresh.TLSConfig, fresh.Fallbacks
		return nil
	}
}

// Durable has connections on which what is acknowledged rests: a commit returns when it is on disk, whatever the server,
// the database or the role is set to. A setting that waits for standbys, too, stays. It follows Configure.
func Durable(config *pgx.ConnConfig) {
	before := config.AfterConnect
	config.AfterConnect = func(ctx context.Context, conn *pgconn.PgConn) error {
		if err := before(ctx, conn); err != nil {
			return err
		}
		_, err := conn.Exec(ctx, "SELECT set_config('synchronous_commit', 'on', false) WHERE current_setting('synchronous_commit') IN ('off', 'local')").ReadAll()
		return err
	}
}

// Text makes a text such that PostgreSQL can keep it, which takes neither the character 0 nor what is not UTF-8: what is
// lost of it is marked.
func Text(text string) string {
	return strings.ReplaceAll(strings.ToValidUTF8(text, "\uFFFD"), "\x00", "\uFFFD")
}
