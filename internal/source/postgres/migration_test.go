package postgres

import (
	"fmt"
	"slices"
	"testing"
)

// Statements end at semicolons outside of texts, names, bodies and comments.
func TestSplittingMigrations(t *testing.T) {
	for sql, want := range map[string][]string{
		"":             nil,
		" -- nothing;": nil,
		"BEGIN;\n\nALTER TABLE a ADD b int; -- c;d\nCOMMIT": {"1 2 BEGIN", "3 0 ALTER TABLE a ADD b int", "4 2 COMMIT"},
		"SELECT 'it''s; not'; DROP TABLE \"a;b\"":           {"1 1 SELECT 'it''s; not'", "1 0 DROP TABLE \"a;b\""},
		"SELECT E'a\\';b'; drop table x":                    {"1 1 SELECT E'a\\';b'", "1 0 drop table x"},
		"CREATE FUNCTION f() RETURNS int AS $q$ BEGIN; $$ ; $$ END; $q$ LANGUAGE plpgsql;\nUPDATE a SET b = $1; ": {
			"1 0 CREATE FUNCTION f() RETURNS int AS $q$ BEGIN; $$ ; $$ END; $q$ LANGUAGE plpgsql", "2 1 UPDATE a SET b = $1"},
		"/* a; /* b; */ c; */ CREATE TABLE note$a$ (e text); ROLLBACK TO x": {"1 0 CREATE TABLE note$a$ (e text)", "1 3 ROLLBACK TO x"},
		"DO $$ BEGIN END $$; 'unfinished ;":                                 {"1 1 DO $$ BEGIN END $$", "1 1 'unfinished ;"},
	} {
		var got []string
		for _, s := range splitMigration(sql) {
			got = append(got, fmt.Sprintf("%d %d %s", s.line, kindOf(s.text), s.text))
		}
		if !slices.Equal(got, want) {
			t.Errorf("%s:\n%q\nwant\n%q", sql, got, want)
		}
	}
}
