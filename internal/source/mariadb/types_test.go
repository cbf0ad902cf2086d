package mariadb

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	"pingo/internal/core/definition"
	"pingo/internal/core/document"
	"pingo/internal/core/shape"
)

// Every type has a stated treatment: what documents hold, and what keys and links do, which the
// triggers write exactly as the reader reads it.
func TestTypes(t *testing.T) {
	cases := []struct{ name, column, value, document, key string }{
		{"tinyint", "tinyint", "-128", "-128", "-128"},
		{
			"bigint unsigned",
			"bigint unsigned",
			"18446744073709551615",
			"18446744073709551615",
			"18446744073709551615",
		},
		{"zerofill", "int(6) unsigned zerofill", "7", "7", "7"},
		{"year", "year", "2031", "2031", "2031"},
		{"boolean", "boolean", "true", "true", "1"},
		{"bit(1)", "bit(1)", "b'1'", "true", "1"},
		{"bit(9)", "bit(9)", "b'100000001'", "257", "257"},
		{
			"decimal",
			"decimal(30,2)",
			"1234567890123456789012345678.50",
			"1234567890123456789012345678.50",
			"1234567890123456789012345678.50",
		},
		{"double", "double", "1e300", "1e300", ""},
		{"date", "date", "'2031-05-04'", `"2031-05-04"`, "2031-05-04"},
		{"zero date", "date", "'0000-00-00'", "null", "0000-00-00"},
		{"date in part", "date", "'2031-05-00'", "null", "2031-05-00"},
		{
			"datetime",
			"datetime(6)",
			"'2031-05-04 10:20:30.5'",
			`"2031-05-04T10:20:30.5"`,
			"2031-05-04T10:20:30.500000",
		},
		{"timestamp", "timestamp", "'2031-05-04 10:20:30'", `"2031-05-04T08:20:30Z"`, ""},
		{"time", "time", "'-12:30:00'", `"-12:30:00"`, "-12:30:00"},
		{"char", "char(4)", "'ab'", `"ab"`, "ab"},
		{"varchar", "varchar(40) CHARACTER SET latin1", "'Köln \\\\ ''x'", `"Köln \\ 'x"`, `Köln \ 'x`},
		{"text beyond the plane", "varchar(40) CHARACTER SET utf8mb4", "'😀\"\n'", `"😀\"\n"`, "😀\"\n"},
		{"enum", "enum('easy','hard')", "'hard'", `"hard"`, "hard"},
		{"set", "set('dog','bike')", "'bike,dog'", `["dog","bike"]`, ""},
		{"no set", "set('dog','bike')", "''", `[]`, ""},
		{"json", "json", "'{\"a\": [1,\\n2]}'", `{"a":[1,2]}`, ""},
		{
			"uuid",
			"uuid",
			"'123e4567-e89b-12d3-a456-426614174000'",
			`"123e4567-e89b-12d3-a456-426614174000"`,
			"123e4567-e89b-12d3-a456-426614174000",
		},
		{"inet6", "inet6", "'::1'", `"::1"`, "::1"},
		{"point", "point", "POINT(8.5, 46.25)", `[8.5,46.25]`, ""},
		{"binary", "binary(3)", "x'00ff41'", "refused", "00ff41"},
		{"varbinary", "varbinary(8)", "x'41'", "refused", "41"},
		{"blob", "blob", "'x'", "refused", ""},
		{"polygon", "polygon", "ST_GeomFromText('POLYGON((0 0,1 0,1 1,0 0))')", "refused", ""},
	}
	tables := "SET sql_mode = '', time_zone = '+02:00', NAMES utf8mb4;"
	indexes := ""
	for i, c := range cases {
		tables += fmt.Sprintf("CREATE TABLE t%d (id int PRIMARY KEY, v %s);", i, c.column)
		if c.key != "" {
			tables += fmt.Sprintf("CREATE TABLE k%d (v %s PRIMARY KEY, n int);", i, c.column)
			indexes += fmt.Sprintf("  k%d: { engine: main, rows: paths.k%d, fields: [n] }\n", i, i)
		}
		if c.document != "refused" {
			indexes += fmt.Sprintf("  t%d: { engine: main, rows: paths.t%d, fields: [v] }\n", i, i)
		}
	}
	w := newWorld(t, tables, indexes)
	conn, err := w.db.Conn(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	for i, c := range cases {
		insert := fmt.Sprintf(
			"SET sql_mode = '', time_zone = '+02:00', NAMES utf8mb4; INSERT INTO t%d VALUES (1, %s);",
			i,
			c.value,
		)
		if c.key != "" {
			insert += fmt.Sprintf("INSERT INTO k%d VALUES (%s, 1);", i, c.value)
		}
		if _, err := conn.ExecContext(t.Context(), insert); err != nil {
			t.Fatalf("%s: %v", c.name, err)
		}
	}
	noted := map[string]string{}
	changes, err := w.src.Changes(t.Context(), 1000)
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range changes {
		noted[c.Table.Name] = strings.Join(c.Key, "|")
	}
	byIndex := map[string]*shape.Shape{}
	for _, s := range w.shapes {
		byIndex[s.Index] = s
	}
	for i, c := range cases {
		if s := byIndex[fmt.Sprintf("t%d", i)]; s != nil {
			var doc map[string]json.RawMessage
			if err := json.Unmarshal([]byte(w.documents(s)["1"]), &doc); err != nil {
				t.Fatal(err)
			}
			var got, want any
			if err := json.Unmarshal(doc["v"], &got); err != nil {
				t.Fatal(err)
			}
			if err := json.Unmarshal([]byte(c.document), &want); err != nil {
				t.Fatal(err)
			}
			if fmt.Sprint(got) != fmt.Sprint(want) {
				t.Errorf("%s: the document holds %s, want %s", c.name, doc["v"], c.document)
			}
		}
		if c.key == "" {
			continue
		}
		if got := noted[fmt.Sprintf("k%d", i)]; got != c.key {
			t.Errorf("%s: the trigger wrote %q, want %q", c.name, got, c.key)
		}
		set := document.NewSet(byIndex[fmt.Sprintf("k%d", i)].Trees[0])
		if err := w.src.ReadKeys(t.Context(), set, [][]string{{c.key}}); err != nil {
			t.Fatalf("%s: %v", c.name, err)
		}
		if got := w.made(set); len(got) != 1 || got[document.Key(set.Tree(), c.key)] == "" {
			t.Errorf("%s: by its key there is %v", c.name, got)
		}
	}
	for i, c := range cases {
		if c.document == "refused" {
			if _, findings := compiled(t, w.src, fmt.Sprintf("  x: { engine: main, rows: paths.t%d, fields: [v] }\n", i)); len(
				findings,
			) != 1 ||
				findings[0].Suggestion == "" {
				t.Errorf("%s: %v", c.name, findings)
			}
		}
	}
}

// What an expression yields and reads is known before anything runs, and what is none is refused.
func TestExpressions(t *testing.T) {
	w := newWorld(
		t,
		`CREATE TABLE trails (id int PRIMARY KEY, name varchar(50), Length_km decimal(6,2), lon double, lat double, at datetime);
		CREATE FUNCTION peeks() RETURNS int READS SQL DATA RETURN 1; CREATE FUNCTION doubles(n int) RETURNS int DETERMINISTIC NO SQL RETURN 2 * n;
		CREATE VIEW long_trails AS SELECT * FROM trails WHERE Length_km > 20`,
		"  t: { engine: main, rows: paths.trails, fields: [name] }\n",
	)
	one := func(field string) (*shape.Shape, definition.Findings) {
		shapes, findings := compiled(
			t,
			w.src,
			"  t: { engine: main, rows: paths.trails, fields: { x: "+field+" } }\n",
		)
		return shapes[0], findings
	}
	for sql, want := range map[string]string{
		"concat(name, ' (', length_km, ' km)')":           "text [id name Length_km]",
		"doubles(id)":                                     "integer [id]",
		"POINT(lon, lat)":                                 "geo [id lat lon]",
		"EXTRACT(YEAR FROM at)":                           "integer [id at]",
		"name LIKE '%;-- x' AND Length_km > (1 + 2) * 3":  "integer [id Length_km name]",
		"`Length_km` * 1.5":                               "decimal [id Length_km]",
		"json_extract(concat('{\"a\":', id, '}'), '$.a')": "text [id]",
		"DATE(at)": "date [at id]",
	} {
		s, findings := one(fmt.Sprintf("{ sql: %q }", sql))
		if len(findings) > 0 {
			t.Errorf("%s: %v", sql, findings)
			continue
		}
		root := s.Trees[0].Root()
		depends := map[string]bool{}
		for _, c := range root.Depends {
			depends[c] = true
		}
		kind, list, _ := strings.Cut(want, " ")
		for name := range strings.FieldsSeq(strings.Trim(list, "[]")) {
			if !depends[name] {
				t.Errorf("%s does not depend on %s: %v", sql, name, root.Depends)
			}
			delete(depends, name)
		}
		if string(root.Fields[0].Type) != kind || len(depends) > 0 {
			t.Errorf("%s is %s and reads %v, too", sql, root.Fields[0].Type, depends)
		}
	}
	for sql, want := range map[string]string{
		"1); DROP TABLE trails; SELECT (1": "closes what was not opened",
		"1) AS v FROM trails -- ":          "closes what was not opened",
		"1 /* x":                           "comment",
		"(1":                               "not closed",
		"'a":                               "does not end",
		"(SELECT count(*) FROM trails)":    "reads other rows",
		"nothing + 1":                      "Unknown column",
		"now()":                            "changes with the time",
		"id + current_timestamp":           "changes with the time",
		"RAND ()":                          "another one at each call",
		"peeks()":                          "not declared DETERMINISTIC",
		"@x":                               "variable",
	} {
		if _, findings := one(fmt.Sprintf("{ sql: %q }", sql)); !strings.Contains(fmt.Sprint(findings), want) {
			t.Errorf("%s: %v", sql, findings)
		}
	}
	if _, findings := compiled(t, w.src, "  t: { engine: main, rows: paths.long_trails, fields: [name] }\n"); !strings.Contains(
		fmt.Sprint(findings),
		"is a view",
	) {
		t.Errorf("a view: %v", findings)
	}
}
