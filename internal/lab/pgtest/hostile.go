package pgtest

import (
	"testing"

	"github.com/jackc/pgx/v5"
)

// Hostile makes a database in which whoever looks a name up by the search path runs another role's code: a schema that
// comes first has functions, aggregates and operators like those of the server, better matches of them, tables like
// those of the catalogue, and types. All code there fails with "evil ran".
func Hostile(t testing.TB) (url string) {
	t.Helper()
	url = URL(t)
	conn := Connect(t, url)
	Exec(t, conn, hostileSQL)
	conn.Close(t.Context())
	plain, err := pgx.Connect(t.Context(), url)
	if err != nil {
		t.Fatal(err)
	}
	defer plain.Close(t.Context())
	for _, trap := range []string{"SELECT split_part('a'::pg_catalog.name, ',', 1)", "SELECT 1 + 1", "SELECT lower('x')", "SELECT pg_catalog.count(1) FROM pg_class HAVING pg_catalog.count(1) OPERATOR(pg_catalog.=) 0"} {
		var found any
		err := plain.QueryRow(t.Context(), trap).Scan(&found)
		if _, empty := found.(int64); err == nil && !empty {
			t.Fatalf("the trap for %s does not work", trap)
		}
	}
	return url
}

const hostileSQL = `
CREATE SCHEMA evil;
DO $do$
DECLARE f record; args text;
BEGIN
	FOR f IN SELECT p.oid, p.proname, p.proargtypes, format_type(p.prorettype, NULL) AS result, p.proretset FROM pg_proc p
		WHERE p.pronamespace = 'pg_catalog'::regnamespace AND p.prokind IN ('f', 'a', 'w')
		  AND NOT EXISTS (SELECT FROM unnest(p.proargtypes || ARRAY[p.prorettype]) x(oid) JOIN pg_type t ON t.oid = x.oid
			WHERE t.typname IN ('internal', 'cstring', 'trigger', 'event_trigger', 'any', 'language_handler', 'fdw_handler', 'table_am_handler', 'index_am_handler', 'tsm_handler', 'record', '_record') OR t.typname LIKE 'any%')
	LOOP
		FOR args IN
			WITH as_is AS (SELECT coalesce(string_agg(format_type(x, NULL), ', ' ORDER BY i), '') AS a FROM unnest(f.proargtypes) WITH ORDINALITY u(x, i))
			SELECT a FROM as_is UNION SELECT replace(a, 'text', 'name') FROM as_is UNION SELECT replace(a, 'text', 'character varying') FROM as_is
		LOOP
			BEGIN
				EXECUTE format('CREATE FUNCTION evil.%I(%s) RETURNS %s LANGUAGE plpgsql AS $f$BEGIN RAISE EXCEPTION ''evil ran''; END$f$',
					f.proname, args, CASE WHEN f.proretset THEN 'SETOF ' ELSE '' END || f.result);
			EXCEPTION WHEN OTHERS THEN NULL;
			END;
		END LOOP;
	END LOOP;
	FOR f IN SELECT o.oprname, format_type(o.oprleft, NULL) AS l, format_type(o.oprright, NULL) AS r, p.proname, o.oprleft FROM pg_operator o JOIN pg_proc p ON p.oid = o.oprcode
		WHERE o.oprnamespace = 'pg_catalog'::regnamespace
	LOOP
		BEGIN
			EXECUTE format('CREATE OPERATOR evil.%s (%s RIGHTARG = %s, FUNCTION = evil.%I)', f.oprname,
				CASE WHEN f.oprleft = 0 THEN '' ELSE 'LEFTARG = ' || f.l || ',' END, f.r, f.proname);
		EXCEPTION WHEN OTHERS THEN NULL;
		END;
	END LOOP;
	FOR f IN SELECT c.relname FROM pg_class c WHERE c.relnamespace = 'pg_catalog'::regnamespace AND c.relname IN
		('pg_class', 'pg_namespace', 'pg_type', 'pg_proc', 'pg_trigger', 'pg_index', 'pg_roles', 'pg_rewrite', 'pg_depend', 'pg_inherits', 'pg_settings', 'pg_constraint')
	LOOP
		EXECUTE format('CREATE VIEW evil.%I AS SELECT * FROM pg_catalog.%1$I WHERE false', f.relname);
	END LOOP;
	FOREACH args IN ARRAY ARRAY['oid', 'regclass', 'regnamespace', 'regprocedure', 'timestamptz', 'name', 'uuid', 'tsquery', 'regconfig', 'jsonb', 'text'] LOOP
		EXECUTE format('CREATE DOMAIN evil.%I AS pg_catalog.point', args);
	END LOOP;
	EXECUTE format('ALTER DATABASE %I SET search_path = evil, public, pg_catalog', current_database());
END $do$;
`
