package postgres

import (
	"fmt"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"pingo/internal/pgerror"
)

// mostPrepared is how many statements are prepared on a connection: the server keeps the plans of each.
const mostPrepared = 128

// plannedFor is how long a plan is used: a table that was empty when it was made may have grown since. It is a variable
// for tests.
var plannedFor = 30 * time.Second

// statements are those that are prepared on a connection.
type statements struct {
	names      map[string]named // by their text
	made, most int              // each has a name of its own
}

// named is a statement that was prepared at some time.
type named struct {
	name string
	at   time.Time
}

// preparedOn are the statements that are prepared on a connection. None is where the url says so
// (default_query_exec_mode), since a pooler may give each transaction another session.
func preparedOn(conn *pgx.Conn) *statements {
	const at = "pingo reads"
	data := conn.PgConn().CustomData()
	known, _ := data[at].(*statements)
	if known == nil {
		known = &statements{names: map[string]named{}}
		if conn.Config().DefaultQueryExecMode == pgx.QueryExecModeCacheStatement {
			known.most = mostPrepared
		}
		data[at] = known
	}
	return known
}

// outdated reports whether a statement that was prepared is not what it was, since the schema has changed, or is gone,
// since the connection was given to another session.
func outdated(err error) bool {
	switch pgerror.Code(err) {
	case "0A000", "26000", "42P05":
		return true
	}
	return false
}

// mostFew is how many tuples are worth a statement of their own.
const mostFew = 16

// few is the condition that columns hold one of a few tuples, given as a list for each column. There are few such
// conditions, for 1, 4 and 16 tuples, and 1 where there are several columns: a server that has planned them a few times
// uses the plan again, since it can foresee how many rows there will be. It cannot for a list of any length.
func few(columns, types []string, lists [][]string) (condition string, params [][]byte, any bool) {
	n := len(lists[0])
	if n > mostFew || n > 1 && (len(columns) > 1 || len(types) == 0) { // of a list the server cannot tell the type
		return "", nil, false
	}
	places := 1
	for places < n {
		places *= 4
	}
	conditions := make([]string, len(columns))
	for i, column := range columns {
		marks := make([]string, places)
		for j := range marks {
			params = append(params, []byte(lists[i][min(j, n-1)]))
			if marks[j] = fmt.Sprintf("$%d", len(params)); i < len(types) {
				marks[j] += "::" + typeName(types[i])
			}
		}
		if conditions[i] = quoteName(column) + " = " + marks[0]; places > 1 {
			conditions[i] = quoteName(column) + " = ANY(ARRAY[" + strings.Join(marks, ", ") + "])"
		}
	}
	return strings.Join(conditions, " AND "), params, true
}
