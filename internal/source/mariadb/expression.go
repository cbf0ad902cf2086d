package mariadb

import (
	"fmt"
	"slices"
	"strings"

	"pingo/internal/core/shape"
)

// word is one token of an expression that is no number, text or sign.
type word struct {
	text string
	// quoted: it stands in backquotes, so it is a name.
	quoted bool
	// called: a parenthesis follows.
	called bool
}

// words splits an expression into its words. A complaint says why it can be no expression over
// one table's columns: the server has no way to ask that it would not carry out as well.
func words(expression string) (out []word, complaint string) {
	depth := 0
	named := false // a word came last, so a parenthesis calls it
	s := expression
	for i := 0; i < len(s); {
		c, after := s[i], named
		named = false
		switch {
		case c == '\'' || c == '"' || c == '`':
			end := i + 1
			for end < len(s) && s[end] != c {
				if s[end] == '\\' && c != '`' {
					end++
				}
				end++
			}
			if end >= len(s) {
				return nil, "a text or name in it does not end"
			}
			if c == '`' {
				out, named = append(out, word{text: s[i+1 : end], quoted: true}), true
			}
			i = end + 1
		case c == ';':
			return nil, "a ; ends a statement, and an expression is only a part of one"
		case c == '#', strings.HasPrefix(s[i:], "--"), strings.HasPrefix(s[i:], "/*"):
			return nil, "it has a comment in it, or two signs that begin one"
		case c == '@':
			return nil, "the value of a variable is another one in each session"
		case c == '?':
			return nil, "a ? stands for a value that is not given"
		case c == '(':
			depth++
			if after {
				out[len(out)-1].called = true
			}
			i++
		case c == ')':
			if depth--; depth < 0 {
				return nil, "a ) closes what was not opened"
			}
			i++
		case letter(c):
			end := i
			for end < len(s) && (letter(s[end]) || digit(s[end])) {
				end++
			}
			out, named = append(out, word{text: s[i:end]}), true
			i = end
		case digit(c):
			for i < len(s) && (letter(s[i]) || digit(s[i]) || s[i] == '.') {
				i++
			}
		default:
			named = after && (c == ' ' || c == '\n' || c == '\t' || c == '\r')
			i++
		}
	}
	if depth > 0 {
		return nil, "a ( is not closed"
	}
	for _, w := range out {
		if upper := strings.ToUpper(w.text); !w.quoted &&
			(upper == "SELECT" || upper == "TABLE" || upper == "VALUES" && !w.called) {
			return nil, "it reads other rows as well, whose changes would go unnoticed"
		}
	}
	return out, ""
}

func letter(c byte) bool {
	return c == '_' || c == '$' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= 0x80
}

func digit(c byte) bool { return c >= '0' && c <= '9' }

// shiftingFunctions are those whose value may change although no row does, with why.
var shiftingFunctions = func() map[string]string {
	out := map[string]string{}
	for why, names := range map[string]string{
		"the value of %s changes with the time":       "now current_timestamp localtime localtimestamp sysdate curdate current_date curtime current_time utc_date utc_time utc_timestamp unix_timestamp",
		"the value of %s is another one at each call": "rand uuid uuid_short random_bytes sys_guid nextval setval lastval benchmark sleep get_lock release_lock is_free_lock is_used_lock row_count found_rows last_insert_id master_pos_wait master_gtid_wait load_file",
		"the value of %s depends on who asks":         "current_user user session_user system_user current_role connection_id database schema version",
	} {
		for name := range strings.FieldsSeq(names) {
			out[name] = why
		}
	}
	return out
}()

// withoutCall are the functions that need no parentheses.
var withoutCall = []string{
	"current_timestamp",
	"localtime",
	"localtimestamp",
	"current_date",
	"current_time",
	"utc_date",
	"utc_time",
	"utc_timestamp",
	"current_user",
	"current_role",
}

// reads lists the columns of a table that an expression names, those that it may mean among them,
// and the functions that it calls whose value may change although no row does. stored are the
// application's own functions, those that are deterministic and read nothing left out.
func reads(list []word, table *shape.Table, stored map[string]bool) (columns []string, shifts []shape.Shift) {
	for _, w := range list {
		lower := strings.ToLower(w.text)
		if !w.called {
			for _, c := range table.Columns {
				if strings.EqualFold(c.Name, w.text) && !slices.Contains(columns, c.Name) {
					columns = append(columns, c.Name)
				}
			}
		}
		if w.quoted && !w.called || !w.called && !slices.Contains(withoutCall, lower) {
			continue
		}
		why := ""
		if format, is := shiftingFunctions[lower]; is {
			why = fmt.Sprintf(format, lower+"()")
		}
		if stored[lower] {
			why = fmt.Sprintf(
				"the function %s is not declared DETERMINISTIC and NO SQL, so it may read tables whose changes it does not show",
				w.text,
			)
		}
		if why != "" && !slices.Contains(shifts, shape.Shift{Function: lower, Why: why}) {
			shifts = append(shifts, shape.Shift{Function: lower, Why: why})
		}
	}
	slices.Sort(columns)
	return columns, shifts
}
