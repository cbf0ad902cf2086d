package pgsession

import (
	"context"
	"fmt"
	"strings"

	"github.com/jackc/pgx/v5"
)

// Querier is a connection, a pool or a transaction.
type Querier interface {
	Query(ctx context.Context, sql string, args ...any) (pgx.Rows, error)
}

// Intruder is something about a schema of Pingo's that lets another role run code with Pingo's rights.
type Intruder struct {
	// What is a clause, such as "the table pingo_capture.owner belongs to mallory".
	What string
	// Statement undoes it; empty where a person has to look first.
	Statement string
}

// ErrIntruded says that a schema of Pingo's is not Pingo's alone.
type ErrIntruded struct {
	Schema string
	List   []Intruder
}

func (e *ErrIntruded) Error() string {
	var what, statements []string
	for _, i := range e.List {
		what = append(what, i.What)
		if i.Statement != "" {
			statements = append(statements, i.Statement)
		}
	}
	const most = 3
	more := ""
	if n := len(what) - most; n > 0 {
		what, more = what[:most], fmt.Sprintf(", and %d more", n)
	}
	text := fmt.Sprintf("Pingo does not use the schema %s, since another role could run code with Pingo's rights there: %s%s",
		e.Schema, strings.Join(what, "; "), more)
	if len(statements) == 0 {
		return text + ". Drop the schema if it is not in use, then try again"
	}
	return text + ". Check who made it; then run as an administrator: " + strings.Join(statements, " ")
}

// Functions is the role that owns trigger functions, where it exists.
const Functions = "pingo_journal"

// Own returns an *ErrIntruded where a schema exists and another role than Pingo's own, a superuser or, for functions,
// the role Functions can decide what runs when Pingo uses it: as an owner, by a right to create, or by a trigger, a
// rule or a policy.
func Own(ctx context.Context, db Querier, schema string) error {
	rows, err := db.Query(ctx, `
		WITH trusted AS (SELECT oid FROM pg_roles WHERE rolsuper OR rolname = current_user),
		     s AS (SELECT oid, nspname, nspowner, nspacl FROM pg_namespace WHERE nspname = $1),
		     kinds(relkind, words) AS (VALUES ('r', 'TABLE'), ('p', 'TABLE'), ('S', 'SEQUENCE'), ('v', 'VIEW'), ('m', 'MATERIALIZED VIEW'), ('f', 'FOREIGN TABLE')),
		     made AS (SELECT c.oid, c.relname, c.relowner, c.relkind, k.words, format('%I.%I', s.nspname, c.relname) AS named
		              FROM s JOIN pg_class c ON c.relnamespace = s.oid JOIN kinds k ON k.relkind = c.relkind::text)
		SELECT format('it belongs to %I', pg_get_userbyid(nspowner)), format('ALTER SCHEMA %I OWNER TO %I;', nspname, current_user)
		FROM s WHERE nspowner NOT IN (SELECT oid FROM trusted)
		UNION ALL
		SELECT format('%s may create in it', coalesce(quote_ident(g.rolname), 'everyone')), format('REVOKE CREATE ON SCHEMA %I FROM %s;', nspname, coalesce(quote_ident(g.rolname), 'PUBLIC'))
		FROM s CROSS JOIN LATERAL aclexplode(nspacl) a LEFT JOIN pg_roles g ON g.oid = a.grantee
		WHERE a.privilege_type = 'CREATE' AND a.grantee <> nspowner AND a.grantee NOT IN (SELECT oid FROM trusted)
		UNION ALL
		SELECT format('the %s %s belongs to %I', lower(words), named, pg_get_userbyid(relowner)), format('ALTER %s %s OWNER TO %I;', words, named, current_user)
		FROM made WHERE relowner NOT IN (SELECT oid FROM trusted)
		  AND NOT EXISTS (SELECT FROM pg_depend d WHERE d.classid = 'pg_class'::regclass AND d.objid = made.oid AND d.deptype IN ('a', 'i') AND made.relkind = 'S')
		UNION ALL
		SELECT format('the function %s belongs to %I', p.oid::regprocedure, pg_get_userbyid(p.proowner)), format('ALTER FUNCTION %s OWNER TO %I;', p.oid::regprocedure, current_user)
		FROM s JOIN pg_proc p ON p.pronamespace = s.oid
		WHERE p.proowner NOT IN (SELECT oid FROM trusted UNION SELECT oid FROM pg_roles WHERE rolname = $2)
		UNION ALL
		SELECT format('the type %s belongs to %I', t.oid::regtype, pg_get_userbyid(t.typowner)), format('DROP TYPE %s;', t.oid::regtype)
		FROM s JOIN pg_type t ON t.typnamespace = s.oid LEFT JOIN pg_class c ON c.oid = t.typrelid
		WHERE t.typowner NOT IN (SELECT oid FROM trusted) AND t.typelem = 0 AND (t.typrelid = 0 OR c.relkind = 'c')
		UNION ALL
		SELECT format('%s has the trigger %I of another role', made.named, t.tgname), format('DROP TRIGGER %I ON %s;', t.tgname, made.named)
		FROM made JOIN pg_trigger t ON t.tgrelid = made.oid AND NOT t.tgisinternal JOIN pg_proc p ON p.oid = t.tgfoid
		WHERE p.proowner NOT IN (SELECT oid FROM trusted UNION SELECT oid FROM pg_roles WHERE rolname = $2)
		UNION ALL
		SELECT format('%s has the rule %I', made.named, r.rulename), format('DROP RULE %I ON %s;', r.rulename, made.named)
		FROM made JOIN pg_rewrite r ON r.ev_class = made.oid AND r.rulename <> '_RETURN'
		UNION ALL
		SELECT format('%s has the policy %I', made.named, p.polname), format('DROP POLICY %I ON %s;', p.polname, made.named)
		FROM made JOIN pg_policy p ON p.polrelid = made.oid
		UNION ALL
		SELECT format('the table %s evaluates the function %s of another role', made.named, p.oid::regprocedure), ''
		FROM made JOIN pg_depend owns ON owns.refclassid = 'pg_class'::regclass AND owns.refobjid = made.oid
			AND owns.classid IN ('pg_attrdef'::regclass, 'pg_constraint'::regclass, 'pg_class'::regclass)
		JOIN pg_depend calls ON calls.classid = owns.classid AND calls.objid = owns.objid AND calls.refclassid = 'pg_proc'::regclass
		JOIN pg_proc p ON p.oid = calls.refobjid
		WHERE p.proowner NOT IN (SELECT oid FROM trusted)`, schema, Functions)
	if err != nil {
		return fmt.Errorf("reading who owns the schema %s: %w", schema, err)
	}
	list, err := pgx.CollectRows(rows, pgx.RowToStructByPos[Intruder])
	if err != nil {
		return fmt.Errorf("reading who owns the schema %s: %w", schema, err)
	}
	if len(list) > 0 {
		return &ErrIntruded{Schema: schema, List: list}
	}
	return nil
}
