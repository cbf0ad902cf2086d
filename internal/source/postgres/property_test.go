package postgres

import (
	"fmt"
	"math/rand/v2"
	"os"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"pingo/internal/core/document"
	"pingo/internal/core/shape"
	"pingo/internal/lab/pgtest"
	"pingo/internal/lab/plainsql"
	"pingo/internal/source/sourcetest"
)

// world is a random schema with data and a definition over it.
type world struct {
	r      *rand.Rand
	tables []randomTable
}

type randomTable struct {
	name    string
	key     []string
	columns []randomColumn
}

type randomColumn struct{ name, kind string }

// kinds of columns with values for them; few enough that rows meet.
var kinds = map[string][]string{
	"integer": {
		"0",
		"1",
		"2",
		"-3",
		"-12",
		"12",
		"NULL",
	}, "text": {"'a'", "'b'", "'c d'", "'~,'", "''", "NULL"}, "boolean": {"true", "false", "NULL"},
	"numeric": {
		"1.50",
		"-0.001",
		"'NaN'",
		"12345678901234567890.1",
		"NULL",
	}, "timestamptz": {"'2031-06-01 10:20:30.5+02'", "'0044-03-15 BC'", "'infinity'", "'-infinity'", "'12031-01-01'", "'0044-07-15 BC'", "'0043-01-01 BC'", "NULL"},
	"date": {
		"'2031-06-01'",
		"'0001-01-01 BC'",
		"'2031-06-02'",
		"NULL",
	}, "text[]": {"'{}'", `'{a,NULL,"b \"c\""}'`, "NULL"}, "integer[]": {"'{{1,2},{3,4}}'", "'{}'"}, "jsonb": {`'{"a": [1, {"b": null}]}'`, "'3'", "NULL"},
	"point": {
		"'(8.5,46.25)'",
		"NULL",
	}, "uuid": {"'6f1d6ab4-35fd-4b5c-8a39-0b3f7c2a9e11'", "NULL"}, "interval": {"'1 day 2 hours'", "NULL"}, "double precision": {"0.1", "'-Infinity'", "1e300", "NULL"},
}

var kindNames = []string{
	"integer",
	"text",
	"boolean",
	"numeric",
	"timestamptz",
	"date",
	"text[]",
	"integer[]",
	"jsonb",
	"point",
	"uuid",
	"interval",
	"double precision",
}

func (w *world) pick(n int) int        { return w.r.IntN(n) }
func (w *world) value(k string) string { return kinds[k][w.pick(len(kinds[k]))] }

// newRandom makes tables that can be tied by integers and texts, and fills them.
func newRandom(t *testing.T, conn *pgx.Conn, seed uint64) *world {
	w := &world{r: rand.New(rand.NewPCG(seed, 3))}
	for i := range 4 {
		table := randomTable{name: fmt.Sprintf("Table %d", i), key: []string{"id"}}
		table.columns = []randomColumn{
			{"id", "integer"},
			{"Other id", "text"},
			{"i1", "integer"},
			{"i2", "integer"},
			{"t1", "text"},
		}
		if w.pick(2) == 0 {
			table.key = []string{"Other id", "id"}
		}
		for n := range 2 + w.pick(5) {
			table.columns = append(
				table.columns,
				randomColumn{fmt.Sprintf("select %d", n), kindNames[w.pick(len(kindNames))]},
			)
		}
		var columns []string
		for _, c := range table.columns {
			columns = append(columns, quoteName(c.name)+" "+c.kind)
		}
		pgtest.Exec(
			t,
			conn,
			fmt.Sprintf(
				"CREATE TABLE %s (%s, PRIMARY KEY (%s))",
				quoteName(table.name),
				strings.Join(columns, ", "),
				quoteNames(table.key, ""),
			),
		)
		w.tables = append(w.tables, table)
		for range 12 {
			pgtest.Exec(t, conn, w.insert(&w.tables[i]))
		}
	}
	return w
}

func (w *world) insert(table *randomTable) string {
	values := []string{fmt.Sprint(w.pick(15)), kinds["text"][w.pick(5)]}
	for _, c := range table.columns[2:] {
		values = append(values, w.value(c.kind))
	}
	return fmt.Sprintf(
		"INSERT INTO %s VALUES (%s) ON CONFLICT DO NOTHING",
		quoteName(table.name),
		strings.Join(values, ", "),
	)
}

// order makes up what the rows of a table are ordered by.
func (w *world) order(table *randomTable) string {
	var terms []string
	for range 1 + w.pick(2) {
		c := table.columns[w.pick(len(table.columns))]
		if c.kind == "jsonb" || c.kind == "point" {
			continue
		}
		terms = append(terms, quoteName(c.name)+[]string{"", " DESC", " asc", " DESC NULLS LAST"}[w.pick(4)])
	}
	return strings.Join(append(terms, "i1 desc"), ", ")
}

// change makes up one statement that changes a row or some.
func (w *world) change() string {
	table := &w.tables[w.pick(len(w.tables))]
	where := fmt.Sprintf("id = %d", w.pick(15))
	switch w.pick(6) {
	case 0, 1:
		return w.insert(table)
	case 2:
		return fmt.Sprintf("DELETE FROM %s WHERE %s", quoteName(table.name), where)
	case 3:
		return fmt.Sprintf(
			`UPDATE %s SET id = id + 20, i1 = %s WHERE %s AND NOT EXISTS (SELECT FROM %[1]s x WHERE x.id > 15)`,
			quoteName(table.name),
			w.value("integer"),
			where,
		)
	}
	c := table.columns[2+w.pick(len(table.columns)-2)]
	return fmt.Sprintf(
		"UPDATE %s SET %s = %s WHERE %s",
		quoteName(table.name),
		quoteName(c.name),
		w.value(c.kind),
		where,
	)
}

// node writes fields and relations of a table, a number of levels deep, and returns the
// paths of fields that can be combined.
func (w *world) node(b *strings.Builder, indent string, table *randomTable, depth int, limit *int) []string {
	var paths []string
	fmt.Fprintf(b, "%sfields:\n", indent)
	for i, c := range table.columns {
		if i > 0 && w.pick(3) == 0 {
			continue
		}
		name := fmt.Sprintf("f%d", i)
		fmt.Fprintf(b, "%s  %s: { column: %q }\n", indent, name, c.name)
		if c.kind != "jsonb" && c.kind != "point" && c.kind != "boolean" && c.kind != "double precision" &&
			c.kind != "interval" {
			paths = append(paths, name)
		}
	}
	fmt.Fprintf(b, "%s  made: { sql: \"coalesce(i1, 0) + i2\" }\n%[1]s  said: { sql: \"upper(t1) || id\" }\n", indent)
	paths = append(paths, "said")
	var related strings.Builder
	for n := range 3 {
		if depth == 0 || *limit == 0 || w.pick(3) == 0 {
			continue
		}
		*limit--
		name := fmt.Sprintf("r%d", n)
		other := &w.tables[w.pick(len(w.tables))]
		many := w.pick(2) == 0
		fmt.Fprintf(&related, "%s  %s:\n", indent, name)
		kind := map[bool]string{true: "many", false: "one"}[many]
		fmt.Fprintf(&related, "%s    %s: %q\n", indent, kind, other.name)
		integers, texts := []string{"id", "i1", "i2"}, []string{"Other id", "t1"}
		pair := func() string {
			if w.pick(3) == 0 { // tied by two columns
				return fmt.Sprintf(
					"{ %s: %s, %q: %q }",
					integers[w.pick(3)],
					integers[w.pick(3)],
					texts[w.pick(2)],
					texts[w.pick(2)],
				)
			}
			if w.pick(3) == 0 {
				return fmt.Sprintf("{ %q: %q }", texts[w.pick(2)], texts[w.pick(2)])
			}
			return fmt.Sprintf("{ %s: %s }", integers[w.pick(3)], integers[w.pick(3)])
		}
		if many && w.pick(3) == 0 {
			fmt.Fprintf(
				&related,
				"%s    through: { table: %q, on: %s, to: %s%s }\n",
				indent,
				w.tables[w.pick(len(w.tables))].name,
				pair(),
				pair(),
				[]string{"", `, where: "i1 > 0 AND t1 IS NOT NULL"`}[w.pick(2)],
			)
		} else {
			fmt.Fprintf(&related, "%s    on: %s\n", indent, pair())
		}
		if w.pick(3) == 0 {
			fmt.Fprintf(&related, "%s    where: i2 IS NOT NULL AND i2 < 3\n", indent)
		}
		if many {
			if w.pick(2) == 0 {
				fmt.Fprintf(&related, "%s    order: '%s'\n", indent, w.order(other))
				if w.pick(2) == 0 {
					fmt.Fprintf(&related, "%s    limit: %d\n", indent, 1+w.pick(3))
				}
			}
			if w.pick(3) == 0 {
				fmt.Fprintf(&related, "%s    list: t1\n", indent)
				paths = append(paths, name)
				continue
			}
		}
		for _, p := range w.node(&related, indent+"    ", other, depth-1, limit) {
			paths = append(paths, name+"."+p)
		}
	}
	var combine []string
	for _, p := range paths {
		if w.pick(3) == 0 {
			combine = append(combine, p)
		}
	}
	if len(combine) > 0 {
		fmt.Fprintf(b, "%s  all: { combine: [%s] }\n", indent, strings.Join(combine, ", "))
	}
	if related.Len() > 0 {
		fmt.Fprintf(b, "%srelated:\n%s", indent, related.String())
	}
	return paths
}

// For random schemas, data and definitions: documents made node by node equal those
// that one SQL statement makes, by range and by key, and every document that a change
// of rows changes is found from what the journal says of it.
//
// PINGO_PROPERTY_SEED repeats one.
func TestDocumentsAndRoutesOfRandomDefinitions(t *testing.T) {
	first, runs := uint64(time.Now().UnixNano()%1_000_000), 12
	if s, err := strconv.ParseUint(os.Getenv("PINGO_PROPERTY_SEED"), 10, 64); err == nil {
		first, runs = s, 1
	}
	built, inVain := 0, 0
	for i := range runs {
		seed := first + uint64(i)
		t.Run(fmt.Sprintf("PINGO_PROPERTY_SEED=%d", seed), func(t *testing.T) {
			touched, needless := randomRun(t, seed)
			built, inVain = built+touched, inVain+needless
		})
	}
	t.Logf("%d documents built, %d of them in vain", built, inVain)
	if runs > 1 && (built < 30 || inVain*4 > built*3) {
		t.Error("too few were built, or too many in vain")
	}
}

// randomRun returns how many documents changes of rows would have had built, and how many of those did not
// change.
func randomRun(t *testing.T, seed uint64) (built, inVain int) {
	url := pgtest.URL(t)
	conn, p := pgtest.Connect(t, url), open(t, url)
	w := newRandom(t, conn, seed)
	var b strings.Builder
	b.WriteString("  x:\n    engine: e\n    rows:\n")
	for n := range 1 + w.pick(2) {
		table := &w.tables[w.pick(len(w.tables))]
		fmt.Fprintf(&b, "      rows%d:\n        table: \"s.%s\"\n", n, table.name)
		if w.pick(3) == 0 {
			b.WriteString("        where: i1 IS DISTINCT FROM 2\n")
		}
		limit := 6
		w.node(&b, "        ", table, 3, &limit)
	}
	s, ix, findings := compile(t, p, b.String())
	for _, f := range findings {
		// Names may mean other types in the second table; that is refused, rightly.
		if strings.Contains(f.Message, "an index has one type for a name") ||
			strings.Contains(f.Message, "is a field in rows") ||
			strings.Contains(f.Message, "is a related table") {
			one, _, _ := strings.Cut(b.String(), "      rows1:")
			b.Reset()
			b.WriteString(one)
			s, ix, findings = compile(t, p, one)
			break
		}
	}
	if len(findings) > 0 {
		t.Fatalf("%v\n%s", findings, b.String())
	}
	second := pgtest.Connect(t, url) // its settings are those of the comparison
	compare := func(when string) map[string]string {
		t.Helper()
		want, err := plainsql.Documents(t.Context(), second, ix)
		if err != nil {
			t.Fatal(err)
		}
		byRange := documents(t, p, s, 1+w.pick(9))
		have := map[string]any{}
		for k, d := range byRange {
			if have[k], err = plainsql.Decode([]byte(d)); err != nil {
				t.Fatalf("%s: %v", d, err)
			}
		}
		if differences := plainsql.Compare(want, have); len(differences) > 0 {
			t.Fatalf("%s: %s %s\n%s", when, differences[0].Key, differences[0].What, b.String())
		}
		return byRange
	}
	before := compare("at first")
	for key, d := range before { // the same by keys
		tree, values, err := document.ParseKey(s, key)
		if err != nil {
			t.Fatal(err)
		}
		set := document.NewSet(s.Trees[tree])
		if err := p.ReadKeys(t.Context(), set, [][]string{values}); err != nil || set.Rows(0).Len() != 1 ||
			string(set.Append(nil, 0)) != d {
			t.Fatalf(
				"%s by key: %v, %d rows, %s\ninstead of %s\n%s",
				key,
				err,
				set.Rows(0).Len(),
				set.Append(nil, 0),
				d,
				b.String(),
			)
		}
	}
	if _, err := install(t, p, shape.Capture(s.Source, []*shape.Shape{s})); err != nil {
		t.Fatal(err)
	}
	for range 12 {
		sql := w.change()
		pgtest.Exec(t, conn, sql)
		touched := sourcetest.Touched(t, p, s)
		after := compare(sql)
		for key := range touched {
			built++
			if before[key] == after[key] {
				inVain++
			}
		}
		for _, side := range []map[string]string{before, after} {
			for key := range side {
				if before[key] != after[key] && !touched[key] {
					t.Fatalf(
						"%s changes %s without its being found:\n%s\n%s\n%s",
						sql,
						key,
						before[key],
						after[key],
						b.String(),
					)
				}
			}
		}
		before = after
	}
	return built, inVain
}
