package postgres

import (
	"context"
	"fmt"
	"strings"

	"github.com/jackc/pgx/v5"

	"pingo/internal/core/shape"
	"pingo/internal/pgerror"
	"pingo/internal/pgsession"
)

// steady are the functions of the server itself that are not immutable, and that expressions and views may call all the
// same: they read nothing but what they are given and settings, which Pingo fixes.
var steady = strings.Fields(`age anytextcat textanycat array_to_json array_to_string concat concat_ws convert convert_from convert_to
	date date_add date_cmp_timestamptz date_eq_timestamptz date_ge_timestamptz date_gt_timestamptz date_le_timestamptz
	date_lt_timestamptz date_ne_timestamptz date_part date_subtract date_trunc enum_first enum_last enum_range extract format
	generate_series in_range interval_pl_timestamptz json_agg json_build_array json_build_object json_object_agg json_populate_record
	json_populate_recordset json_to_record json_to_recordset json_to_tsvector jsonb_agg jsonb_build_array jsonb_build_object
	jsonb_object_agg jsonb_path_exists_tz jsonb_path_match_tz jsonb_path_query_array_tz jsonb_path_query_first_tz
	jsonb_path_query_tz jsonb_populate_record jsonb_populate_recordset jsonb_to_record jsonb_to_recordset jsonb_to_tsvector
	json_agg_strict jsonb_agg_strict json_object_agg_strict json_object_agg_unique json_object_agg_unique_strict
	jsonb_object_agg_strict jsonb_object_agg_unique jsonb_object_agg_unique_strict
	length make_timestamptz money numeric overlaps pg_typeof phraseto_tsquery plainto_tsquery quote_literal quote_nullable
	row_to_json time timestamp timestamp_cmp_timestamptz timestamp_eq_timestamptz timestamp_ge_timestamptz
	timestamp_gt_timestamptz timestamp_le_timestamptz timestamp_lt_timestamptz timestamp_ne_timestamptz timestamptz
	timestamptz_cmp_date timestamptz_cmp_timestamp timestamptz_eq_date timestamptz_eq_timestamp timestamptz_ge_date
	timestamptz_ge_timestamp timestamptz_gt_date timestamptz_gt_timestamp timestamptz_le_date timestamptz_le_timestamp
	timestamptz_lt_date timestamptz_lt_timestamp timestamptz_mi_interval timestamptz_ne_date timestamptz_ne_timestamp
	timestamptz_pl_interval timetz timezone to_char to_date to_json to_jsonb to_number to_timestamp to_tsquery to_tsvector
	ts_headline ts_match_tq ts_match_tt websearch_to_tsquery xml xml_is_well_formed`)

// allowable are those whose value is another one each time or for each who asks, and that have no effects.
var allowable = strings.Fields(`now transaction_timestamp statement_timestamp clock_timestamp timeofday random gen_random_uuid
	uuidv4 uuidv7 current_user session_user current_database current_schema version`)

// shifting lists the functions that a view, or one that it reads, calls and that are not known to depend on nothing but
// what they are given. Of the server's own, those that are immutable or steady are left out, and those that are not
// allowable can never be allowed: they read files, tables or the state of the server, or change something. Functions of
// others must be immutable, else they may read tables.
func shifting(ctx context.Context, tx pgx.Tx, view uint32) ([]shape.Shift, error) {
	rows, err := tx.Query(ctx, under+`, tree AS (
			SELECT r.ev_action::text AS text FROM under JOIN pg_rewrite r ON r.ev_class = under.oid
		), called AS (
			SELECT DISTINCT m[1]::oid AS oid FROM tree, regexp_matches(tree.text, ':(?:funcid|opfuncid|aggfnoid|winfnoid) (\d+)', 'g') m
		)
		SELECT p.proname, CASE
			WHEN p.oid >= `+firstOther+` AND p.provolatile = 'v' THEN format('the function %s is declared volatile, so its value may be another one at each call', p.proname)
			WHEN p.oid >= `+firstOther+` THEN format('the function %s is not declared immutable, so it may read tables whose changes it does not show', p.proname)
			WHEN p.proname <> ALL($3) AND NOT (p.proname = 'age' AND p.pronargs = 1)
				THEN format('the function %s() is not one that Pingo calls, since it may read more than the row or change something', p.proname)
			WHEN p.provolatile = 'v' THEN format('the value of %s() is another one at each call', p.proname)
			WHEN p.proname IN ('now', 'transaction_timestamp', 'statement_timestamp', 'age') THEN format('the value of %s() changes with the time', p.proname)
			ELSE format('the value of %s() depends on who asks', p.proname) END,
			p.oid < `+firstOther+` AND p.proname <> ALL($3) AND NOT (p.proname = 'age' AND p.pronargs = 1)
		FROM called JOIN pg_proc p ON p.oid = called.oid
		WHERE p.provolatile <> 'i' AND (p.oid >= `+firstOther+` OR p.proname <> ALL($2) OR p.proname = 'age' AND p.pronargs = 1)
		UNION
		SELECT CASE WHEN m[1]::int < 10 THEN 'now' ELSE 'current_user' END,
			CASE WHEN m[1]::int < 10 THEN 'the value of now() changes with the time' ELSE 'the value of current_user depends on who asks' END, false
		FROM tree, regexp_matches(tree.text, 'SQLVALUEFUNCTION :op (\d+)', 'g') m
		ORDER BY 1, 2`, view, steady, allowable)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByPos[shape.Shift])
}

// redefinable lists the functions that a view calls and that are not the server's own.
func redefinable(ctx context.Context, tx pgx.Tx, view uint32) ([]string, error) {
	rows, err := tx.Query(ctx, `SELECT DISTINCT p.oid::regprocedure::text FROM pg_rewrite r,
			regexp_matches(r.ev_action::text, ':(?:funcid|opfuncid|aggfnoid|winfnoid) (\d+)', 'g') m JOIN pg_proc p ON p.oid = m[1]::oid
		WHERE r.ev_class = $1 AND p.oid >= `+firstOther+` ORDER BY 1`, view)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowTo[string])
}

// functionDefinition tells a function's definition, and those of the functions that it is known to call, from others. It is
// empty when there is no such function.
func functionDefinition(ctx context.Context, db interface {
	QueryRow(ctx context.Context, sql string, args ...any) pgx.Row
}, signature string) (hash string, err error) {
	err = db.QueryRow(ctx, `WITH RECURSIVE called(oid) AS (
			SELECT to_regprocedure($1)::oid
			UNION SELECT d.refobjid FROM called JOIN pg_depend d ON d.classid = 'pg_proc'::regclass AND d.objid = called.oid AND d.refclassid = 'pg_proc'::regclass
		) SELECT coalesce(md5(string_agg(concat_ws(' ', p.oid::regprocedure, p.prorettype::regtype, p.prosrc, pg_get_function_sqlbody(p.oid), p.proconfig, p.probin), ';' ORDER BY p.oid::regprocedure::text)), '')
		FROM called JOIN pg_proc p ON p.oid = called.oid`, signature).Scan(&hash)
	return hash, err
}

// ambiguous says what is wrong with an expression whose meaning depends on names that Pingo does not look up, or that
// would run a cast that another role made. view is the SELECT of the view probed.
func ambiguous(ctx context.Context, tx pgx.Tx, view string, probed, table uint32, columns []string) (problem string, err error) {
	// to_json and its like call such casts, too, which no catalogue shows.
	err = tx.QueryRow(ctx, `SELECT coalesce(min(format('column %I has the type %s, whose cast to %s is the function %s of the role %I: cast it in a generated column instead',
			a.attname, t.oid::regtype, c.casttarget::regtype, p.oid::regprocedure, pg_get_userbyid(p.proowner))), '')
		FROM pg_attribute a JOIN pg_type t ON t.oid = a.atttypid OR t.typarray = a.atttypid
		JOIN pg_cast c ON c.castsource = t.oid AND c.castmethod = 'f'
		JOIN pg_proc p ON p.oid = c.castfunc JOIN pg_roles r ON r.oid = p.proowner
		WHERE a.attrelid = $1 AND a.attname = ANY($2) AND t.oid >= `+firstOther+` AND NOT r.rolsuper AND r.rolname <> current_user
		  AND NOT EXISTS (SELECT FROM pg_depend d WHERE d.classid = 'pg_type'::regclass AND d.objid = t.oid AND d.deptype = 'e')`,
		table, columns).Scan(&problem)
	if err != nil || problem != "" {
		return problem, err
	}
	// A type of an extension brings operators and functions of its own: without their schema others are found, such as
	// those of text for citext, which tell capital letters apart.
	var schemas []string
	err = tx.QueryRow(ctx, `SELECT coalesce(array_agg(DISTINCT n.nspname::text), '{}') FROM pg_attribute a
		JOIN pg_type t ON t.oid = a.atttypid AND t.typtype = 'b' AND t.typelem = 0 JOIN pg_namespace n ON n.oid = t.typnamespace AND n.nspname <> 'pg_catalog'
		WHERE a.attrelid = $1 AND a.attname = ANY($2)`, table, columns).Scan(&schemas)
	if err != nil || len(schemas) == 0 {
		return "", err
	}
	point, err := tx.Begin(ctx)
	if err != nil {
		return "", err
	}
	defer point.Rollback(context.WithoutCancel(ctx))
	path := "pg_catalog"
	for _, s := range schemas {
		path += ", " + quoteName(s)
	}
	if _, err := point.Exec(ctx, "SET LOCAL search_path = "+path+", pg_temp"); err != nil {
		return "", err
	}
	if _, err := point.Exec(ctx, "CREATE TEMPORARY VIEW pingo_wider AS "+view); err != nil {
		if pgerror.Code(err) != "" {
			return "", nil // it is clear without those names alone
		}
		return "", err
	}
	if _, err := point.Exec(ctx, "SET LOCAL search_path = "+pgsession.Path); err != nil {
		return "", err
	}
	var wider string
	err = point.QueryRow(ctx, `WITH called AS (
			SELECT DISTINCT r.ev_class = $1 AS ours, m[1]::oid AS oid FROM pg_rewrite r,
				regexp_matches(r.ev_action::text, ':(?:funcid|opfuncid|aggfnoid|winfnoid) (\d+)', 'g') m
			WHERE r.ev_class IN ($1, 'pg_temp.pingo_wider'::regclass)
		) SELECT coalesce(min(c.oid::regprocedure::text), '') FROM called c WHERE NOT c.ours AND c.oid NOT IN (SELECT oid FROM called WHERE ours)`, probed).
		Scan(&wider)
	if err != nil || wider == "" {
		return "", err
	}
	return fmt.Sprintf("it may mean %s, which only stands outside pg_catalog: write its schema, as in OPERATOR(public.=) or public.lower(…), or cast the column to a built-in type", wider), nil
}
