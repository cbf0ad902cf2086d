package mariadb

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"math"
	"regexp"
	"slices"
	"strings"

	"github.com/go-sql-driver/mysql"

	"pingo/internal/core/shape"
)

// treatment is how Pingo reads a type; docs/reference/types.md has the same table.
type treatment struct {
	becomes shape.Type
	array   bool
	// readAs reads a value whose own text would not do; %s is the column.
	readAs string
	// refused says what to do instead of indexing it.
	refused string
	// keyAs reads a value as keys and links hold it; sameInKeys: documents hold that, too.
	keyAs      string
	sameInKeys bool
	// unlinkable says why it cannot be in keys and links.
	unlinkable string
}

const (
	plainText = "CAST(%s AS CHAR)"
	number    = "(%s + 0)"
	hex       = "LOWER(HEX(%s))"
	noZero    = "IF(%[1]s = 0 OR MONTH(%[1]s) = 0 OR DAYOFMONTH(%[1]s) = 0, NULL, %[1]s)"
	manyTexts = "equal values may be written differently"
	bytes     = "leave it out, or write sql: HEX(column)"
)

var treatments = map[string]treatment{
	"tinyint": integer, "smallint": integer, "mediumint": integer, "int": integer, "bigint": integer,
	"zerofill": {becomes: shape.Integer, readAs: number, keyAs: "CAST(%s + 0 AS CHAR)", sameInKeys: true},
	"year":     {becomes: shape.Integer, readAs: number, keyAs: "CAST(%s + 0 AS CHAR)", sameInKeys: true},
	"bit":      {becomes: shape.Integer, readAs: number, keyAs: "CAST(%s + 0 AS CHAR)", sameInKeys: true},
	"bool":     {becomes: shape.Boolean, keyAs: plainText},
	"bit1":     {becomes: shape.Boolean, readAs: number, keyAs: "CAST(%s + 0 AS CHAR)"},
	"decimal":  {becomes: shape.Decimal, keyAs: plainText, sameInKeys: true},
	"float": {
		becomes:    shape.Decimal,
		unlinkable: manyTexts,
	}, "double": {becomes: shape.Decimal, unlinkable: manyTexts},
	"date":     {becomes: shape.Date, readAs: noZero, keyAs: plainText},
	"datetime": {becomes: shape.Timestamp, readAs: noZero, keyAs: "REPLACE(CAST(%s AS CHAR), ' ', 'T')"},
	"timestamp": {
		becomes: shape.Timestamp, readAs: noZero,
		unlinkable: "its text depends on the time zone of each session; a datetime will do",
	},
	"time": {becomes: shape.Keyword, keyAs: plainText, sameInKeys: true},
	"char": {becomes: shape.Keyword, keyAs: plainText, sameInKeys: true}, "varchar": anyText,
	"tinytext": anyText, "text": anyText, "mediumtext": anyText, "longtext": anyText,
	"enum": {becomes: shape.Keyword, keyAs: plainText, sameInKeys: true},
	"set":  {becomes: shape.Keyword, array: true, unlinkable: "a set has many values"},
	"json": {becomes: shape.Object, unlinkable: manyTexts},
	"uuid": {
		becomes:    shape.Keyword,
		keyAs:      plainText,
		sameInKeys: true,
	}, "inet4": {becomes: shape.Keyword, keyAs: plainText, sameInKeys: true},
	"inet6":  {becomes: shape.Keyword, keyAs: plainText, sameInKeys: true},
	"binary": {refused: bytes, keyAs: hex}, "varbinary": {refused: bytes, keyAs: hex},
	"tinyblob": refusedBytes, "blob": refusedBytes, "mediumblob": refusedBytes, "longblob": refusedBytes,
	"point": {
		becomes:    shape.Geo,
		readAs:     "CONCAT('[', ST_X(%[1]s), ',', ST_Y(%[1]s), ']')",
		unlinkable: manyTexts,
	},
}

var (
	integer      = treatment{becomes: shape.Integer, keyAs: plainText, sameInKeys: true}
	anyText      = treatment{becomes: shape.Text, keyAs: plainText, sameInKeys: true}
	refusedBytes = treatment{refused: bytes, unlinkable: "it may be too long for a key"}
	otherShape   = treatment{refused: "make a text of it with sql: ST_AsText(column)", unlinkable: manyTexts}
)

// base is the word that treatments know of a form: what a column is stored as, and for texts
// the way in which they are compared.
func base(form string) string {
	word, _, _ := strings.Cut(form, " ")
	return word
}

func treatmentOf(form string) treatment {
	if t, ok := treatments[base(form)]; ok {
		return t
	}
	return otherShape
}

// exactly is the one way to compare texts by which equal ones are the same, to the last blank.
const exactly = "utf8mb4_nopad_bin"

// textForm says how the texts of a column are compared; "" where equal ones are the same anyway.
func comparison(form string) (charset, collation string) {
	parts := strings.Fields(form)
	if len(parts) < 3 || strings.HasSuffix(parts[2], "_nopad_bin") {
		return "", ""
	}
	return parts[1], parts[2]
}

// fill sets what follows from a column's form.
func fill(c *shape.TableColumn) {
	of := treatmentOf(c.Form)
	c.Type, c.Array, c.Refused, c.Unlinkable = of.becomes, of.array, of.refused, of.unlinkable
	c.KeyForm = of.keyAs != "" && !of.sameInKeys
	c.Family = base(c.Form)
	_, collation := comparison(c.Form)
	c.Loose = collation != ""
	switch {
	case c.Type == shape.Integer, base(c.Form) == "bool", base(c.Form) == "bit1":
		c.Family = "integer"
	case base(c.Form) == "char" || c.Type == shape.Text:
		c.Family = "text"
	case c.Type == shape.Decimal || base(c.Form) == "binary":
		c.Family = strings.TrimSuffix(c.Native, " unsigned")
	}
	switch {
	case c.Type == shape.Integer && strings.Contains(c.Native, "int"):
		c.Across = &shape.Across{As: c.Native, Type: shape.Integer, Least: math.MinInt64, Most: math.MaxUint64}
	case c.Family == "text":
		c.Across = &shape.Across{As: c.Native, Type: shape.Text}
	case c.Family == "uuid":
		c.Across = &shape.Across{As: c.Native, Type: shape.Keyword}
	}
}

// Facts asks the catalogue about tables, and the server about expressions: each is prepared,
// which carries nothing out.
func (p *Reader) Facts(
	ctx context.Context,
	tables []string,
	expressions []shape.Expression,
) (shape.Facts, error) {
	facts := shape.Facts{
		Tables:      map[string]*shape.Table{},
		Expressions: map[shape.Expression]shape.ExpressionFacts{},
		Denied:      map[string]string{},
		NullsLow:    true,
	}
	if err := p.list(ctx, &facts, tables); err != nil {
		return facts, wrap("reading the catalogue", err)
	}
	for name, t := range facts.Tables {
		var err error
		if t.Columns, err = p.db.columns(ctx, t.Ref); err != nil {
			return facts, wrap("reading the columns of "+name, err)
		}
		if t.Key, err = p.db.primaryKey(ctx, t.Ref); err != nil {
			return facts, wrap("reading the key of "+name, err)
		}
	}
	if len(expressions) == 0 {
		return facts, nil
	}
	stored, err := p.storedFunctions(ctx)
	if err != nil {
		return facts, wrap("reading the functions", err)
	}
	for _, expression := range expressions {
		t := facts.Tables[expression.Table]
		if t == nil {
			continue
		}
		if facts.Expressions[expression], err = p.probe(ctx, expression, t, stored); err != nil {
			return facts, wrap("asking about "+expression.Text, err)
		}
	}
	return facts, nil
}

// list fills in the tables that were named, and the names of all there are.
func (p *Reader) list(ctx context.Context, facts *shape.Facts, named []string) error {
	rows, err := p.db.texts(
		ctx,
		`SELECT TABLE_SCHEMA, TABLE_NAME, TABLE_TYPE, coalesce(t.ENGINE, ''), coalesce(TRANSACTIONS = 'YES', t.ENGINE IS NULL)
		FROM information_schema.TABLES t LEFT JOIN information_schema.ENGINES e ON e.ENGINE = t.ENGINE
		WHERE TABLE_SCHEMA NOT IN ('information_schema', 'mysql', 'performance_schema', 'sys') AND TABLE_SCHEMA NOT LIKE 'pingo\\_capture\\_%' AND TABLE_TYPE <> 'SEQUENCE'
		ORDER BY TABLE_SCHEMA, TABLE_NAME`,
	)
	if err != nil {
		return err
	}
	for _, row := range rows {
		ref := shape.Ref{Schema: row[0], Name: row[1]}
		written := []string{ref.String()}
		if ref.Schema == p.db.name {
			written = append(written, ref.Name)
		}
		facts.Known = append(facts.Known, written...)
		for _, name := range written {
			if slices.Contains(named, name) {
				t := &shape.Table{
					Ref:     ref,
					Foreign: slices.Contains([]string{"CONNECT", "FEDERATED", "SPIDER", "MERGE", "MRG_MyISAM"}, row[3]),
					Opaque:  row[2] == "VIEW",
				}
				if p.transactions && !t.Foreign && row[4] != "1" {
					t.Refused = fmt.Sprintf("is kept by %s, which has no transactions: a statement that fails keeps some of its changes, and Pingo loses them", row[3])
					t.Instead = fmt.Sprintf("run ALTER TABLE %s ENGINE = InnoDB, use capture: outbox or poll, or set tables_without_transactions: allowed for the source and compare on a schedule (drift)", quote(ref))
				}
				facts.Tables[name] = t
			}
		}
	}
	return nil
}

var display = regexp.MustCompile(`^((?:tiny|small|medium|big)?int)\(\d+\)`)

func (db *database) columns(ctx context.Context, t shape.Ref) ([]shape.TableColumn, error) {
	// The server opens all of its tables for what does not name the schema and the table as constants.
	rows, err := db.texts(
		ctx,
		fmt.Sprintf(
			`SELECT c.COLUMN_NAME, c.DATA_TYPE, c.COLUMN_TYPE, coalesce(c.CHARACTER_SET_NAME, ''), coalesce(c.COLLATION_NAME, ''),
			EXISTS (SELECT 1 FROM information_schema.CHECK_CONSTRAINTS k WHERE k.CONSTRAINT_SCHEMA = %[1]s AND k.TABLE_NAME = %[2]s
				AND k.LEVEL = 'Column' AND k.CONSTRAINT_NAME = c.COLUMN_NAME AND k.CHECK_CLAUSE = concat('json_valid(`+"`', c.COLUMN_NAME, '`"+`)'))
		FROM information_schema.COLUMNS c WHERE c.TABLE_SCHEMA = %[1]s AND c.TABLE_NAME = %[2]s ORDER BY c.ORDINAL_POSITION`,
			text(t.Schema),
			text(t.Name),
		),
	)
	if err != nil {
		return nil, err
	}
	out := make([]shape.TableColumn, len(rows))
	for i, row := range rows {
		c := &out[i]
		c.Name, c.Form, c.Native = row[0], row[1], row[2]
		switch {
		case row[5] == "1":
			c.Form, c.Native = "json", "json"
		case strings.HasSuffix(c.Native, "zerofill"):
			c.Form = "zerofill"
		case c.Native == "tinyint(1)":
			c.Form, c.Native = "bool", "boolean"
		case c.Native == "bit(1)":
			c.Form = "bit1"
		case row[4] != "" && (c.Form == "char" || treatmentOf(c.Form).becomes == shape.Text):
			c.Form += " " + row[3] + " " + row[4]
		default:
			c.Native = display.ReplaceAllString(c.Native, "$1") // a width for display says nothing
		}
		fill(c)
	}
	return out, nil
}

func (db *database) primaryKey(ctx context.Context, t shape.Ref) ([]string, error) {
	rows, err := db.texts(ctx, fmt.Sprintf(`SELECT COLUMN_NAME FROM information_schema.STATISTICS
		WHERE TABLE_SCHEMA = %s AND TABLE_NAME = %s AND INDEX_NAME = 'PRIMARY' ORDER BY SEQ_IN_INDEX`, text(t.Schema), text(t.Name)))
	var key []string
	for _, row := range rows {
		key = append(key, row[0])
	}
	return key, err
}

// storedFunctions are the application's own functions. One that several databases have is what the worst of them is.
func (p *Reader) storedFunctions(ctx context.Context) (map[string]own, error) {
	rows, err := p.db.texts(
		ctx,
		`SELECT lower(ROUTINE_NAME), min(IS_DETERMINISTIC = 'YES' AND SQL_DATA_ACCESS IN ('NO SQL', 'CONTAINS SQL')), max(SECURITY_TYPE = 'INVOKER')
		FROM information_schema.ROUTINES WHERE ROUTINE_TYPE = 'FUNCTION' AND ROUTINE_SCHEMA NOT IN ('sys', 'mysql') GROUP BY 1`,
	)
	out := map[string]own{}
	for _, row := range rows {
		out[row[0]] = own{pure: row[1] == "1", invoker: row[2] == "1"}
	}
	return out, err
}

// probe asks MariaDB for the type of an expression. Its words tell which columns it reads.
func (p *Reader) probe(
	ctx context.Context,
	expression shape.Expression,
	table *shape.Table,
	stored map[string]own,
) (shape.ExpressionFacts, error) {
	var answer shape.ExpressionFacts
	list, complaint := words(expression.Text)
	if complaint != "" {
		answer.Problem = complaint
		return answer, nil
	}
	query := map[shape.Role]string{
		shape.Value:     "SELECT (%s\n) AS value FROM %s LIMIT 0",
		shape.Condition: "SELECT 1 AS value FROM %[2]s WHERE (%[1]s\n) LIMIT 0",
		shape.Ordering:  "SELECT 1 AS value FROM %[2]s ORDER BY %[1]s\n LIMIT 0",
	}[expression.Role]
	answer.Columns, answer.Shifting = reads(list, table, stored)
	for _, w := range list {
		if name := strings.ToLower(w.text); w.called && !slices.Contains(answer.Functions, name) {
			if _, theirs := stored[name]; theirs {
				answer.Functions = append(answer.Functions, name)
			}
		}
	}
	if slices.ContainsFunc(answer.Shifting, func(s shape.Shift) bool { return s.Never }) {
		return answer, nil // not even prepared
	}
	err := p.db.reading(ctx, func(tx *sql.Tx) error {
		statement, err := tx.PrepareContext(ctx, fmt.Sprintf(query, expression.Text, tableOnly(table.Ref)))
		if err != nil {
			return err
		}
		defer statement.Close()
		if expression.Role != shape.Value {
			return nil // to carry it out would evaluate what is the same for all rows
		}
		rows, err := statement.QueryContext(ctx) // it ends at its limit before anything is evaluated
		if err != nil {
			return err
		}
		defer rows.Close()
		types, err := rows.ColumnTypes()
		if err == nil {
			answer.TableColumn = yields(types[0])
		}
		return err
	})
	var said *mysql.MySQLError
	if errors.As(err, &said) {
		answer.Problem = strings.TrimSuffix(said.Message, ".")
		return answer, nil
	}
	if err != nil {
		return answer, err
	}
	return answer, nil
}

// yields is what the server says of a value that it would return.
func yields(t *sql.ColumnType) shape.TableColumn {
	name := strings.ToLower(t.DatabaseTypeName())
	c := shape.TableColumn{Native: name}
	name = strings.TrimPrefix(name, "unsigned ")
	switch name {
	case "geometry":
		name = "point"
	case "null":
		name = "text"
	}
	c.Form = name
	fill(&c)
	return c
}
