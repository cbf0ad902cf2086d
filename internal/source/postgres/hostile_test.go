package postgres

import (
	"context"
	"fmt"
	neturl "net/url"
	"slices"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"

	"pingo/internal/core/shape"
	"pingo/internal/lab/pgtest"
	"pingo/internal/source"
)

// as is the URL of a database for another role, which is made.
func as(t *testing.T, conn *pgx.Conn, url, role string) string {
	t.Helper()
	pgtest.Exec(t, conn, fmt.Sprintf("CREATE ROLE %s LOGIN PASSWORD 'x'", role))
	dropAfter(t, url, role)
	u, err := neturl.Parse(url)
	if err != nil {
		t.Fatal(err)
	}
	u.User = neturl.UserPassword(role, "x")
	return u.String()
}

// dropAfter drops a role, which is one of the whole server, when the test ends.
func dropAfter(t *testing.T, url, role string) {
	t.Cleanup(func() {
		ctx := context.Background()
		conn, err := pgx.Connect(ctx, url)
		if err != nil {
			t.Fatal(err)
		}
		defer conn.Close(ctx)
		if _, err := conn.Exec(ctx, fmt.Sprintf("REASSIGN OWNED BY %[1]s TO CURRENT_USER; DROP OWNED BY %[1]s; DROP ROLE %[1]s", role)); err != nil {
			t.Fatal(err)
		}
	})
}

// text reads one text.
func text(t *testing.T, conn *pgx.Conn, sql string, args ...any) (s string) {
	t.Helper()
	if err := conn.QueryRow(t.Context(), "SELECT coalesce(("+sql+")::text, '')", args...).Scan(&s); err != nil {
		t.Fatal(sql, err)
	}
	return s
}

// Names of tables and columns are not SQL, whatever they are, in what is installed and in what is printed.
func TestNamesAreNeverRun(t *testing.T) {
	names := []string{
		"$pingo$; ALTER ROLE mallory1 SUPERUSER; --", "$pingo1$$pingo$; ALTER ROLE mallory1 SUPERUSER; --", "a\nALTER ROLE mallory1 SUPERUSER; --",
		`"; ALTER ROLE mallory1 SUPERUSER; --`, `'; ALTER ROLE mallory1 SUPERUSER; --`, `\'; ALTER ROLE mallory1 SUPERUSER; --`, "$$", "%s %1$s %%I", "{a,b}", "pingo_capture",
	}
	for _, script := range []bool{false, true} {
		t.Run(fmt.Sprint("script ", script), func(t *testing.T) { namesAreNeverRun(t, names, script) })
	}
}

func namesAreNeverRun(t *testing.T, names []string, script bool) {
	url := pgtest.URL(t)
	conn := pgtest.Connect(t, url)
	as(t, conn, url, "mallory1")
	pgtest.Exec(t, conn, fmt.Sprintf("ALTER DATABASE %s SET check_function_bodies = off", pgx.Identifier{conn.Config().Database}.Sanitize()))
	p := open(t, url)
	var need []shape.Captured
	for _, name := range names {
		n := pgx.Identifier{name}.Sanitize()
		pgtest.Exec(t, conn, fmt.Sprintf("CREATE TABLE %[1]s (%[1]s text PRIMARY KEY, other int)", n))
		need = append(need, captured(name, []string{name}, []string{name, "other"}, []string{name}))
	}
	if script {
		sql, err := p.Capture.Script(t.Context(), need)
		if err != nil {
			t.Fatal(err)
		}
		plain := pgtest.Connect(t, url)
		pgtest.Exec(t, plain, "SET standard_conforming_strings = off")
		pgtest.Exec(t, plain, sql)
	}
	if _, err := install(t, p, need); err != nil {
		t.Fatal(err)
	}
	var want []string
	for _, name := range names {
		n := pgx.Identifier{name}.Sanitize()
		pgtest.Exec(t, conn, fmt.Sprintf("INSERT INTO %[1]s VALUES ('k', 1); UPDATE %[1]s SET other = 2; DELETE FROM %[1]s", n))
		want = append(want, name+" insert k", name+" update k", name+" delete k")
	}
	got := read(t, p)
	for i, line := range got {
		got[i], _, _ = strings.Cut(line, " "+strings.Fields(line)[len(strings.Fields(line))-1])
	}
	for _, line := range want {
		if !slices.ContainsFunc(got, func(g string) bool { return strings.HasPrefix(g, line) }) {
			t.Errorf("script %v: %q was not noted: %q", script, line, got)
		}
	}
	if super := text(t, conn, "SELECT rolsuper FROM pg_roles WHERE rolname = 'mallory1'"); super != "false" {
		t.Fatalf("script %v: a name was run", script)
	}
}

// What others made in Pingo's schema before Pingo, or may change there, is refused: at check, when capture is installed,
// when its script is printed or run, and when the journal is claimed.
func TestObjectsOfOthersAreRefused(t *testing.T) {
	const trap = `CREATE TABLE pingo_capture.owner (service text PRIMARY KEY, holder text, epoch bigint, mark bigint NOT NULL DEFAULT 0);
		CREATE FUNCTION public.take() RETURNS trigger LANGUAGE plpgsql AS $$BEGIN INSERT INTO public.taken VALUES (current_user); RETURN NEW; END$$;
		CREATE TRIGGER take BEFORE INSERT OR UPDATE ON pingo_capture.owner FOR EACH ROW EXECUTE FUNCTION public.take();`
	for name, c := range map[string]struct{ before, want string }{
		"schema":  {"SET ROLE mallory2; CREATE SCHEMA pingo_capture; " + trap + "RESET ROLE", "it belongs to mallory2"},
		"table":   {"CREATE SCHEMA pingo_capture; GRANT USAGE, CREATE ON SCHEMA pingo_capture TO mallory2; SET ROLE mallory2; " + trap + "RESET ROLE; REVOKE CREATE ON SCHEMA pingo_capture FROM mallory2", "the table pingo_capture.owner belongs to mallory2"},
		"create":  {"CREATE SCHEMA pingo_capture; GRANT CREATE ON SCHEMA pingo_capture TO PUBLIC", "everyone may create in it"},
		"trigger": {"CREATE SCHEMA pingo_capture; GRANT ALL ON SCHEMA pingo_capture TO mallory2; SET ROLE mallory2; " + trap + "RESET ROLE; REVOKE CREATE ON SCHEMA pingo_capture FROM mallory2; ALTER TABLE pingo_capture.owner OWNER TO CURRENT_USER", "has the trigger take"},
		"default": {"CREATE SCHEMA pingo_capture; CREATE TABLE pingo_capture.refreshed (layout int PRIMARY KEY, mark text DEFAULT public.word()); ALTER FUNCTION public.word() OWNER TO mallory2", "evaluates the function public.word() of another role"},
		"type":    {"CREATE SCHEMA pingo_capture; CREATE TYPE pingo_capture.journal AS ENUM ('a'); ALTER TYPE pingo_capture.journal OWNER TO mallory2", "the type pingo_capture.journal belongs to mallory2"},
	} {
		t.Run(name, func(t *testing.T) {
			url := pgtest.URL(t)
			conn := pgtest.Connect(t, url)
			as(t, conn, url, "mallory2")
			pgtest.Exec(t, conn, fmt.Sprintf(`GRANT CREATE ON DATABASE %s TO mallory2; GRANT CREATE ON SCHEMA public TO mallory2;
				CREATE FUNCTION public.word() RETURNS text LANGUAGE sql AS $$SELECT 'x'$$;
				CREATE TABLE taken (by text); GRANT INSERT ON taken TO PUBLIC; CREATE TABLE huts (id int PRIMARY KEY, name text)`, pgx.Identifier{conn.Config().Database}.Sanitize()))
			p := open(t, url)
			need := []shape.Captured{captured("huts", []string{"id"}, []string{"id", "name"}, nil)}
			script, err := p.Capture.Script(t.Context(), need)
			if err != nil {
				t.Fatal(err)
			}
			pgtest.Exec(t, conn, c.before)
			missing, err := p.Capture.MissingRights(t.Context(), need)
			if err != nil || !strings.Contains(strings.Join(missing, "\n"), c.want) {
				t.Errorf("check: %q %v", missing, err)
			}
			if _, err := p.Capture.Install(t.Context(), "one", need); err == nil || !strings.Contains(err.Error(), c.want) {
				t.Errorf("install: %v", err)
			}
			if _, err := p.Capture.Script(t.Context(), need); err == nil || !strings.Contains(err.Error(), c.want) {
				t.Errorf("script: %v", err)
			}
			if name == "schema" || name == "table" { // an old script meets it
				if _, err := conn.Exec(t.Context(), script); err == nil || !strings.Contains(err.Error(), "belongs to another role") {
					t.Errorf("running the script: %v", err)
				}
				pgtest.Exec(t, conn, "ROLLBACK")
			}
			if taken := text(t, conn, "SELECT string_agg(by, ' ') FROM taken"); taken != "" {
				t.Errorf("code of another role ran as %s", taken)
			}
		})
	}
	t.Run("claim", func(t *testing.T) {
		url := pgtest.URL(t)
		conn := pgtest.Connect(t, url)
		as(t, conn, url, "mallory2")
		pgtest.Exec(t, conn, "CREATE TABLE huts (id int PRIMARY KEY, name text)")
		p := open(t, url)
		if _, err := install(t, p, []shape.Captured{captured("huts", []string{"id"}, []string{"id"}, nil)}); err != nil {
			t.Fatal(err)
		}
		pgtest.Exec(t, conn, "ALTER TABLE pingo_capture.journal OWNER TO mallory2")
		now, err := p.Claimed(t.Context())
		if err == nil {
			err = p.Claim(t.Context(), now, now)
		}
		if err == nil || source.FaultOf(err) != source.SchemaChanged || !strings.Contains(err.Error(), "ALTER TABLE pingo_capture.journal OWNER TO") {
			t.Error(err)
		}
	})
}

// Triggers run with the rights of a role that can do nothing but note changes, and call no cast that a type's owner made.
func TestTriggersLendNoRights(t *testing.T) {
	url := pgtest.URL(t)
	conn, p := pgtest.Connect(t, url), open(t, url)
	mallory := as(t, conn, url, "mallory3")
	pgtest.Exec(t, conn, `GRANT CREATE ON SCHEMA public TO mallory3; CREATE TABLE taken (by text); GRANT INSERT ON taken TO PUBLIC; CREATE TABLE secrets (word text)`)
	hers := pgtest.Connect(t, mallory)
	pgtest.Exec(t, hers, `CREATE TYPE kind AS ENUM ('hut', 'bivouac'); CREATE DOMAIN short AS kind;
		CREATE TABLE huts (id kind PRIMARY KEY, short short, name text);
		CREATE FUNCTION as_text(kind) RETURNS text LANGUAGE plpgsql AS $$BEGIN INSERT INTO public.taken VALUES (current_user); RETURN 'another'; END$$;
		CREATE CAST (kind AS text) WITH FUNCTION as_text(kind) AS IMPLICIT; CREATE CAST (kind AS varchar) WITH FUNCTION as_text(kind) AS IMPLICIT`)
	if _, err := install(t, p, []shape.Captured{captured("huts", []string{"id"}, []string{"id", "short", "name"}, []string{"short"})}); err != nil {
		t.Fatal(err)
	}
	pgtest.Exec(t, hers, "INSERT INTO huts VALUES ('hut', 'bivouac', 'a'); UPDATE huts SET id = 'bivouac', short = 'hut'")
	if got := strings.Join(read(t, p), "; "); got != "huts insert hut short[bivouac]; huts update bivouac was hut short[bivouac hut]" {
		t.Error(got)
	}
	if taken := text(t, conn, "SELECT string_agg(by, ' ') FROM taken"); taken != "" {
		t.Errorf("a cast ran as %s", taken)
	}
	if owners := text(t, conn, "SELECT string_agg(DISTINCT pg_get_userbyid(proowner)::text, ' ') FROM pg_proc WHERE pronamespace = 'pingo_capture'::regnamespace AND prosecdef"); owners != "pingo_journal" {
		t.Error("trigger functions belong to ", owners)
	}
	may := text(t, conn, `SELECT string_agg(format('%s %s', c.oid::regclass, p), ', ' ORDER BY 1) FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
		CROSS JOIN unnest(ARRAY['SELECT', 'INSERT', 'UPDATE', 'DELETE', 'TRUNCATE', 'TRIGGER']) p
		WHERE n.nspname IN ('public', 'pingo_capture') AND c.relkind = 'r' AND c.relname <> 'taken' AND has_table_privilege('pingo_journal', c.oid, p)`)
	if may != "pingo_capture.journal INSERT" {
		t.Error("the role of triggers may ", may)
	}
	if creates := text(t, conn, "SELECT has_schema_privilege('pingo_journal', 'pingo_capture', 'CREATE')"); creates != "false" {
		t.Error("the role of triggers may create functions")
	}
}

// Code that runs when rows are read can write nothing, and changes nothing of Pingo's session for later.
func TestReadingLeavesNothingBehind(t *testing.T) {
	url := pgtest.URL(t)
	conn, p := pgtest.Connect(t, url), open(t, url)
	pgtest.Exec(t, conn, `CREATE TABLE huts (id int PRIMARY KEY, name text); INSERT INTO huts VALUES (1, 'a'), (2, 'b'); CREATE TABLE taken (by text);
		CREATE FUNCTION poison(text) RETURNS text LANGUAGE plpgsql IMMUTABLE AS $$BEGIN
			PERFORM set_config('search_path', 'evil', false); PERFORM set_config('DateStyle', 'German', false); PERFORM set_config('default_transaction_read_only', 'off', false);
			BEGIN SET transaction_read_only = off; EXCEPTION WHEN OTHERS THEN NULL; END;
			BEGIN INSERT INTO public.taken VALUES (current_user); EXCEPTION WHEN OTHERS THEN NULL; END;
			BEGIN CREATE TEMPORARY TABLE pg_class (a int); EXCEPTION WHEN OTHERS THEN NULL; END;
			RETURN $1; END$$;
		CREATE VIEW shown AS SELECT id, poison(name) AS name FROM huts WHERE poison(name) IS NOT NULL`)
	s, _, findings := compile(t, p, "  x: { engine: e, rows: s.shown, key: id, where: \"public.poison(name) <> ''\", fields: { name: { sql: \"public.poison(name)\" } } }\n")
	if len(findings) > 0 {
		t.Fatal(findings)
	}
	tree := s.Trees[0]
	for range 3 {
		if n, err := p.Count(t.Context(), tree); err != nil || n != 2 {
			t.Error(n, err)
		}
		if n, err := p.DuplicateKeys(t.Context(), tree); err != nil || n != 0 {
			t.Error(n, err)
		}
		if docs := documents(t, p, s, 2); len(docs) != 2 {
			t.Error(docs)
		}
		if end, err := p.ChunkEnd(t.Context(), tree, nil, 1); err != nil || len(end) != 1 {
			t.Error(end, err)
		}
	}
	pool := p.Reader.(*Reader).pool
	for range 20 { // in each session
		if rows, err := pool.Query(t.Context(), "SELECT count(poison(name)) FROM public.huts"); err == nil {
			rows.Next()
			rows.Close()
			t.Error("a name outside pg_catalog is found")
		}
		var n int
		if err := pool.QueryRow(t.Context(), "SELECT count(public.poison(name)) FROM public.huts").Scan(&n); err != nil || n != 2 {
			t.Fatal(n, err)
		}
		var path, style string
		if err := pool.QueryRow(t.Context(), "SELECT current_setting('search_path'), current_setting('DateStyle')").Scan(&path, &style); err != nil || path != "pg_catalog, pg_temp" || !strings.HasPrefix(style, "ISO") {
			t.Fatalf("a session of Pingo has search_path %q and DateStyle %q (%v)", path, style, err)
		}
	}
	if taken := text(t, conn, "SELECT string_agg(by, ' ') FROM taken"); taken != "" {
		t.Errorf("code in a view wrote as %s", taken)
	}
}

// A reader's rights are those that rows are read with.
func TestReaderHasItsRightsAlone(t *testing.T) {
	url := pgtest.URL(t)
	conn := pgtest.Connect(t, url)
	as(t, conn, url, "weak")
	pgtest.Exec(t, conn, "CREATE TABLE huts (id int PRIMARY KEY, name text); INSERT INTO huts VALUES (1, 'a'); CREATE TABLE hidden (id int PRIMARY KEY); GRANT USAGE ON SCHEMA public TO weak; GRANT SELECT ON huts TO weak")
	p, err := Open(source.Config{URL: url, Options: []byte(`{"reader": "weak"}`)})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(p.Close)
	s, _, findings := compile(t, p, "  x: { engine: e, rows: s.huts, fields: [name] }\n")
	if len(findings) > 0 {
		t.Fatal(findings)
	}
	if docs := documents(t, p, s, 10); len(docs) != 1 {
		t.Error(docs)
	}
	if _, _, findings := compile(t, p, "  x: { engine: e, rows: s.hidden, fields: [id] }\n"); len(findings) != 1 || !strings.Contains(findings[0].Suggestion, "TO weak") {
		t.Error(findings)
	}
	pgtest.Exec(t, conn, "REVOKE SELECT ON huts FROM weak")
	if _, err := p.Count(t.Context(), s.Trees[0]); err == nil {
		t.Error("counted a table that the reader may not read")
	}
}

// Expressions call functions that are known to read nothing but their row; others cannot even be allowed.
func TestFunctionsWithEffectsAreRefused(t *testing.T) {
	url := pgtest.URL(t)
	conn, p := pgtest.Connect(t, url), open(t, url)
	pgtest.Exec(t, conn, `CREATE TABLE huts (id int PRIMARY KEY, name text, at timestamptz, kind text); CREATE TABLE other (word text);
		CREATE TYPE mood AS ENUM ('calm'); ALTER TABLE huts ADD COLUMN mood mood; CREATE EXTENSION citext; ALTER TABLE huts ADD COLUMN code citext;
		CREATE VIEW files AS SELECT id, pg_read_file('PG_VERSION') AS text FROM huts`)
	as(t, conn, url, "mallory4")
	find := func(sql string) string {
		t.Helper()
		_, _, findings := compile(t, p, fmt.Sprintf("  x: { engine: e, rows: s.huts, fields: { name: {}, x: { sql: %q } }, functions_allowed: [pg_read_file, schema_to_xml, pg_reload_conf, set_config, current_setting, nextval, lo_import, query_to_xml, table_to_xml, pg_sleep, pg_advisory_lock, pg_terminate_backend, txid_current, pg_ls_dir, now, random] }\n", sql))
		return strings.Trim(fmt.Sprint(findings), "[]")
	}
	for _, sql := range []string{
		"pg_read_file('PG_VERSION')", "schema_to_xml('public', true, false, '')::text", "pg_reload_conf()::text", "set_config('a.b', 'c', false)", "current_setting('data_directory')",
		"lo_import('/etc/passwd')::text", "query_to_xml('SELECT 1', true, false, '')::text", "pg_sleep(1)::text",
		"pg_advisory_lock(1)::text", "pg_terminate_backend(1)::text", "txid_current()::text", "(SELECT pg_ls_dir('.') LIMIT 1)", "pg_switch_wal()::text", "pg_stat_file('PG_VERSION')::text",
	} {
		if found := find(sql); !strings.Contains(found, "functions_allowed cannot allow this function") {
			t.Errorf("%s: %q", sql, found)
		}
	}
	for _, sql := range []string{"now()::text", "random()::text", "to_char(at, 'YYYY')", "concat(name, '-', kind)", "to_jsonb(name)", "date_trunc('day', at)", "at + interval '1 day'", "format('%s', name)", "upper(name)", "mood::text", "code::text = 'x'"} {
		if found := find(sql); found != "" {
			t.Errorf("%s: %s", sql, found)
		}
	}
	if found := find("code = 'x'"); !strings.Contains(found, "public.citext_eq(public.citext,public.citext)") {
		t.Errorf("an operator that is not looked up: %q", found)
	}
	if found := find("unaccent(name)"); !strings.Contains(found, "write public.unaccent(name)") {
		t.Error(found)
	}
	if _, _, findings := compile(t, p, "  x: { engine: e, rows: s.files, key: id, fields: [text], functions_allowed: [pg_read_file] }\n"); !strings.Contains(fmt.Sprint(findings), "pg_read_file() is not one that Pingo calls") {
		t.Error(findings)
	}
	pgtest.Exec(t, conn, `CREATE FUNCTION as_json(mood) RETURNS json LANGUAGE sql AS $$SELECT '{}'::json$$; CREATE CAST (mood AS json) WITH FUNCTION as_json(mood); ALTER FUNCTION as_json OWNER TO mallory4`)
	if found := find("to_jsonb(mood)"); !strings.Contains(found, "whose cast to json is the function public.as_json(public.mood) of the role mallory4") {
		t.Errorf("a cast that to_jsonb calls: %q", found)
	}
}

// The text of a key is the same whoever writes, whatever the settings of their session.
func TestTextsOfKeysAreThoseOfNobodysSession(t *testing.T) {
	url := pgtest.URL(t)
	conn, p := pgtest.Connect(t, url), open(t, url)
	types := map[string]string{ // with a value
		"tstzrange": "'[2031-05-04 10:00+02, 2031-05-05 10:00+02)'", "tsrange": "'[2031-05-04 10:00, 2031-05-05)'", "daterange": "'[2031-05-04, 2031-05-06)'",
		"tstzmultirange": "'{[2031-05-04 10:00+02, 2031-05-05 10:00+02)}'", "timestamptz": "'2031-05-04 10:00+02'", "timestamp": "'2031-05-04 10:00'", "date": "'2031-05-04'", "time": "'10:00:00.5'",
		"regclass": "'public.anchor'", "regtype": "'public.kind'", "uuid": "gen_random_uuid()", "inet": "'10.0.0.1/8'", "bool": "true", "int4range": "'[1,5)'", "numeric(10,2)": "1.5", `"char"`: "'a'", "name": "'a b'", "bpchar": "'a '",
		"kind": "'x'", "whens": "'[2031-05-04 10:00+02, 2031-05-05 10:00+02)'", "moment": "'2031-05-04 10:00+02'",
	}
	pgtest.Exec(t, conn, "CREATE TYPE kind AS ENUM ('x'); CREATE TABLE anchor (id int); CREATE TYPE whens AS RANGE (subtype = timestamptz); CREATE DOMAIN moment AS timestamptz")
	var need []shape.Captured
	keys := map[string]string{}
	for native, value := range types {
		table := strings.NewReplacer(`"`, "", "(", "_", ")", "", ",", "_").Replace("t_" + native)
		pgtest.Exec(t, conn, fmt.Sprintf("CREATE TABLE %s (id %s PRIMARY KEY, name text)", table, native))
		pgtest.Exec(t, conn, fmt.Sprintf("INSERT INTO %s VALUES (%s, 'a')", table, value))
		s, _, findings := compile(t, p, fmt.Sprintf("  x: { engine: e, rows: s.%s, fields: [name] }\n", table))
		if len(findings) > 0 {
			t.Fatal(native, findings)
		}
		for key := range documents(t, p, s, 10) {
			keys[table] = strings.ReplaceAll(key, "~1", ",")
		}
		need = append(need, shape.Capture(s.Source, []*shape.Shape{s})...)
	}
	if _, err := install(t, p, need); err != nil {
		t.Fatal(err)
	}
	for _, settings := range []string{
		"SET TimeZone = 'Asia/Kathmandu'; SET DateStyle = 'German, DMY'", "SET TimeZone = 'America/St_Johns'; SET DateStyle = 'SQL, MDY'; SET extra_float_digits = -5; SET bytea_output = 'escape'",
		"SET DateStyle = 'Postgres, YMD'; SET IntervalStyle = 'postgres_verbose'; SET lc_monetary = 'C'; SET xmloption = 'document'; SET search_path = public", "SET search_path = pg_catalog; SET quote_all_identifiers = on",
	} {
		app := pgtest.Connect(t, url)
		pgtest.Exec(t, app, settings)
		for table := range keys {
			pgtest.Exec(t, app, fmt.Sprintf("UPDATE public.%s SET name = name || 'x'", table))
		}
		for _, line := range read(t, p) {
			table, rest, _ := strings.Cut(line, " update ")
			if rest != keys[table] {
				t.Errorf("%s: the document is %s, and the journal says %s under %s", table, keys[table], rest, settings)
			}
		}
	}
}

// With what the script grants, and nothing else, Pingo follows changes, and can do no more than that.
func TestThePrintedGrantsAreEnough(t *testing.T) {
	url := pgtest.URL(t)
	conn := pgtest.Connect(t, url)
	guest := as(t, conn, url, "guest")
	pgtest.Exec(t, conn, `CREATE ROLE app5; SET ROLE app5; RESET ROLE; GRANT CREATE ON SCHEMA public TO app5; SET ROLE app5;
		CREATE TABLE regions (id int PRIMARY KEY, name text); CREATE TABLE huts (id int PRIMARY KEY, name text, region_id int REFERENCES regions); CREATE TABLE secrets (word text); RESET ROLE`)
	dropAfter(t, url, "app5")
	p := open(t, guest)
	need := []shape.Captured{captured("huts", []string{"id"}, []string{"id", "name", "region_id"}, []string{"region_id"}), captured("regions", []string{"id"}, []string{"id", "name"}, nil)}
	missing, err := p.Capture.MissingRights(t.Context(), need)
	if err != nil || len(missing) != 3 || strings.Contains(strings.Join(missing, ""), "GRANT app5") {
		t.Errorf("before: %q %v", missing, err)
	}
	script, err := p.Capture.Script(t.Context(), need)
	if err != nil {
		t.Fatal(err)
	}
	pgtest.Exec(t, conn, script)
	pgtest.Exec(t, conn, script) // again, as after a lock timeout
	if missing, err := p.Capture.MissingRights(t.Context(), need); err != nil || len(missing) > 0 {
		t.Errorf("after: %q %v", missing, err)
	}
	if made, err := install(t, p, need); err != nil || len(made) > 0 {
		t.Fatal(made, err)
	}
	if gaps, err := p.Capture.Gaps(t.Context(), need); err != nil || len(gaps) > 0 {
		t.Errorf("gaps: %+v %v", gaps, err)
	}
	if advice, err := p.Capture.Advice(t.Context(), need, nil); err != nil || slices.ContainsFunc(advice, func(a source.Advice) bool { return a.Kind == "rights" }) {
		t.Errorf("advice: %+v %v", advice, err)
	}
	pgtest.Exec(t, conn, "SET ROLE app5; INSERT INTO regions VALUES (1, 'Tarn'); INSERT INTO huts VALUES (1, 'a', 1); UPDATE huts SET name = 'b'; DELETE FROM huts; RESET ROLE")
	if got := read(t, p); len(got) != 4 {
		t.Error(got)
	}
	s, _, findings := compile(t, p, "  x: { engine: e, rows: s.regions, fields: [name] }\n")
	if len(findings) > 0 || len(documents(t, p, s, 10)) != 1 {
		t.Error(findings)
	}
	if depth, err := p.Depth(t.Context()); err != nil || depth.Changes != 0 {
		t.Errorf("%+v %v", depth, err)
	}
	theirs := pgtest.Connect(t, guest)
	for _, sql := range []string{
		"INSERT INTO huts VALUES (2)", "UPDATE huts SET name = 'x'", "DELETE FROM huts", "TRUNCATE huts", "SELECT * FROM secrets", "CREATE TABLE public.x (a int)", "CREATE SCHEMA x",
		"CREATE ROLE x", "COPY huts TO PROGRAM 'true'", "ALTER TABLE huts DISABLE TRIGGER ALL", "SET ROLE app5", "SET ROLE pingo_journal", "CREATE TRIGGER t AFTER INSERT ON huts EXECUTE FUNCTION pingo_capture.x()",
	} {
		if _, err := theirs.Exec(t.Context(), sql); err == nil {
			t.Errorf("Pingo's role may: %s", sql)
		}
	}
	// A superuser hears how to be less.
	advice, err := open(t, url).Capture.Advice(t.Context(), need, nil)
	if err != nil || !slices.ContainsFunc(advice, func(a source.Advice) bool { return strings.Contains(a.Message, "superuser") }) {
		t.Errorf("as a superuser: %+v %v", advice, err)
	}
	pgtest.Exec(t, conn, "GRANT app5 TO guest; ALTER ROLE guest CREATEDB")
	advice, err = p.Capture.Advice(t.Context(), need, nil)
	if text := fmt.Sprint(advice); err != nil || !strings.Contains(text, "REVOKE app5 FROM guest;") || !strings.Contains(text, "ALTER ROLE guest NOCREATEDB;") {
		t.Errorf("with more than the grants: %s %v", text, err)
	}
}
