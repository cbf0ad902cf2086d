package mariadb

import (
	"database/sql"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"reflect"
	"strconv"
	"strings"
	"testing"
	"time"

	"pingo/internal/core/document"
	"pingo/internal/core/shape"
	"pingo/internal/source/sourcetest"
)

// Whatever a definition of this world looks like, documents are those that plain questions for each
// row give, read by keys and by ranges; and whatever changes in it is found from what was noted.
// PINGO_PROPERTY_SEED repeats one.
func TestRandomDefinitions(t *testing.T) {
	seed := uint64(time.Now().UnixNano() % 100000)
	if s := os.Getenv("PINGO_PROPERTY_SEED"); s != "" {
		seed, _ = strconv.ParseUint(s, 10, 64)
	}
	t.Logf("PINGO_PROPERTY_SEED=%d", seed)
	for n := range uint64(6) {
		t.Run(fmt.Sprint(n), func(t *testing.T) { randomDefinition(t, rand.New(rand.NewPCG(seed, n))) })
	}
}

// related is one table of a random definition, as YAML and as a plain question.
type related struct {
	name, yaml string
	many       bool
	question   string // with ? for the root's key
}

func randomDefinition(t *testing.T, r *rand.Rand) {
	pick := func(list ...string) string { return list[r.IntN(len(list))] }
	// Keys are numbers, texts that are compared loosely, to the byte, or in another character set.
	key := pick(
		"int",
		"varchar(20) COLLATE utf8mb4_general_ci",
		"varchar(20) COLLATE utf8mb4_nopad_bin",
		"varchar(20) CHARACTER SET latin1 COLLATE latin1_swedish_ci",
		"char(20) COLLATE utf8mb4_unicode_ci",
	)
	w := newWorld(t, fmt.Sprintf(
		`SET NAMES utf8mb4;
		CREATE TABLE roots (id %[1]s PRIMARY KEY, n int, word varchar(20));
		CREATE TABLE kids (id int PRIMARY KEY, root %[1]s, n int, word varchar(20), KEY (root));
		CREATE TABLE marks (id %[2]s PRIMARY KEY, word varchar(20));
		CREATE TABLE ties (root %[1]s, mark %[2]s, n int, PRIMARY KEY (root, mark), KEY (mark))`,
		key,
		pick("int", "varchar(20) COLLATE utf8mb4_general_ci"),
	), "  roots: { engine: main, rows: paths.roots, fields: [n] }\n")
	order := pick("", "n", "n DESC", "word, id", "word DESC, n")
	limit := r.IntN(4)
	where := pick("", "n > 3", "word <> 'b'", "n IS NOT NULL AND word LIKE 'a%'")
	kids := related{name: "kids", many: true}
	kids.yaml = "kids: { many: kids, on: { root: id }, fields: [id, n, word]"
	kids.question = "SELECT id, n, word FROM kids WHERE root = ?"
	if where != "" {
		kids.yaml += fmt.Sprintf(", where: %q", where)
		kids.question += " AND (" + where + ")"
	}
	kids.question += " ORDER BY "
	if order != "" {
		kids.yaml += fmt.Sprintf(", order: %q", order)
		kids.question += order + ", "
	}
	kids.question += "id"
	if limit > 0 && order != "" {
		kids.yaml += fmt.Sprintf(", limit: %d", limit)
		kids.question += fmt.Sprintf(" LIMIT %d", limit)
	}
	kids.yaml += " }"
	marks := related{name: "marks", many: true}
	marks.yaml = "marks: { many: marks, through: { table: ties, on: { root: id }, to: { id: mark } }, fields: [word] }"
	marks.question = "SELECT marks.word FROM ties JOIN marks ON marks.id = ties.mark WHERE ties.root = ? ORDER BY marks.id"
	if r.IntN(2) == 0 {
		marks.yaml = strings.Replace(marks.yaml, "mark } }", "mark }, where: n = 1 }", 1)
		marks.question = strings.Replace(marks.question, "WHERE", "WHERE ties.n = 1 AND", 1)
	}
	parts := []related{kids, marks}
	r.Shuffle(2, func(i, j int) { parts[i], parts[j] = parts[j], parts[i] })
	parts = parts[:1+r.IntN(2)]
	var yaml []string
	for _, p := range parts {
		yaml = append(yaml, p.yaml)
	}
	shapes, findings := compiled(
		t,
		w.src,
		fmt.Sprintf(
			"  roots: { engine: main, rows: paths.roots, fields: [n, word], related: { %s } }\n",
			strings.Join(yaml, ", "),
		),
	)
	if len(findings) > 0 {
		t.Fatal(findings)
	}
	s := shapes[0]
	if _, err := w.src.Capture.Install(t.Context(), "one", shape.Capture(shapes[0].Source, shapes)); err != nil {
		t.Fatal(err)
	}
	value := func() string {
		if key == "int" {
			return strconv.Itoa(r.IntN(12))
		}
		return "'" + pick("a", "A", "b", "B ", "ä", "Ä", "c d", "10", "e''x", "f\\\\", "ß", "z") + "'"
	}
	change := func() string {
		n, word := pick("NULL", "1", "4", "7"), pick("NULL", "'a'", "'ab'", "'b'")
		switch r.IntN(11) {
		case 0, 1:
			return fmt.Sprintf("REPLACE INTO roots VALUES (%s, %s, %s)", value(), n, word)
		case 2, 3:
			return fmt.Sprintf(
				"INSERT INTO kids VALUES (%d, %s, %s, %s) ON DUPLICATE KEY UPDATE root = VALUES(root), n = VALUES(n)",
				r.IntN(40),
				value(),
				n,
				word,
			)
		case 4:
			return fmt.Sprintf(
				"INSERT INTO marks VALUES (%d, %s) ON DUPLICATE KEY UPDATE word = VALUES(word)",
				r.IntN(9),
				word,
			)
		case 5, 6:
			return fmt.Sprintf("INSERT IGNORE INTO ties VALUES (%s, %d, 1)", value(), r.IntN(9))
		case 7:
			return fmt.Sprintf("DELETE FROM %s WHERE %s", pick("kids", "ties"), pick("n = 1", "n IS NULL", "n = 7"))
		case 8:
			return fmt.Sprintf("UPDATE ties SET n = %d WHERE mark = %d", 1+r.IntN(2), r.IntN(9))
		case 9:
			return fmt.Sprintf("UPDATE IGNORE kids SET root = %s WHERE id = %d", value(), r.IntN(40))
		default:
			return fmt.Sprintf("UPDATE IGNORE roots SET id = %s, word = %s WHERE id = %s", value(), word, value())
		}
	}
	known := map[string]string{}
	for range 25 {
		for range 1 + r.IntN(12) {
			w.exec("SET NAMES utf8mb4; " + change())
		}
		want := plainDocuments(t, w.db, parts)
		if got := w.documents(s); !same(t, got, want) {
			t.Fatalf("%s, %s\nby ranges %v\nwant      %v", key, yaml, got, want)
		}
		// What has changed is what the noted changes lead to, or a part of that.
		for id := range sourcetest.Touched(w, w.src, s) {
			delete(known, id)
			set := document.NewSet(s.Trees[0])
			_, values, err := document.ParseKey(s, id)
			if err != nil {
				t.Fatal(err)
			}
			if err := w.src.ReadKeys(t.Context(), set, [][]string{values}); err != nil {
				t.Fatal(err)
			}
			for key, doc := range w.made(set) {
				known[key] = doc
			}
		}
		if !same(t, known, want) {
			t.Fatalf("%s, %s\nfollowed %v\nwant     %v", key, yaml, known, want)
		}
	}
}

func same(t *testing.T, got map[string]string, want map[string]any) bool {
	t.Helper()
	if len(got) != len(want) {
		return false
	}
	for key, doc := range want {
		var decoded any
		if json.Unmarshal([]byte(got[key]), &decoded) != nil {
			return false
		}
		text, err := json.Marshal(doc)
		if err != nil {
			t.Fatal(err)
		}
		var wanted any
		if err := json.Unmarshal(text, &wanted); err != nil {
			t.Fatal(err)
		}
		if !reflect.DeepEqual(decoded, wanted) {
			return false
		}
	}
	return true
}

// plainDocuments asks for each row what belongs to it.
func plainDocuments(t *testing.T, db *sql.DB, parts []related) map[string]any {
	t.Helper()
	ask := func(question string, args ...any) (out []map[string]any) {
		conn, err := db.Conn(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		defer conn.Close()
		if _, err := conn.ExecContext(t.Context(), "SET NAMES utf8mb4"); err != nil {
			t.Fatal(err)
		}
		rows, err := conn.QueryContext(t.Context(), question, args...)
		if err != nil {
			t.Fatal(question, err)
		}
		defer rows.Close()
		names, err := rows.Columns()
		if err != nil {
			t.Fatal(err)
		}
		for rows.Next() {
			values, into := make([]sql.NullString, len(names)), make([]any, len(names))
			for i := range values {
				into[i] = &values[i]
			}
			if err := rows.Scan(into...); err != nil {
				t.Fatal(err)
			}
			row := map[string]any{}
			for i, name := range names {
				if row[name] = any(nil); values[i].Valid {
					row[name] = values[i].String
					if n, err := strconv.Atoi(values[i].String); err == nil && name != "word" && name != "key" {
						row[name] = n
					}
				}
			}
			out = append(out, row)
		}
		return out
	}
	out := map[string]any{}
	for _, root := range ask("SELECT CAST(id AS CHAR) AS `key`, n, word FROM roots") {
		key := root["key"].(string)
		delete(root, "key")
		for _, p := range parts {
			list := ask(p.question, key)
			if list == nil {
				list = []map[string]any{}
			}
			root[p.name] = list
		}
		out[document.Key(&shape.Tree{}, key)] = root
	}
	return out
}
