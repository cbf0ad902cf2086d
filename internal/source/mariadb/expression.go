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
	// quoted: it is in backquotes, so it is a name.
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
			return nil, "a ? is a placeholder, and there is no value for it"
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
		"the value of %s is another one at each call": "rand uuid uuid_short random_bytes sys_guid",
		"the value of %s depends on who asks":         "current_user user session_user system_user current_role database schema version",
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

// steady are the functions of the server that expressions may call: they read nothing but what they are given. Among them
// are the words of the language that a parenthesis may follow.
var steady = func() map[string]bool {
	out := map[string]bool{}
	for name := range strings.FieldsSeq(`and or not xor in is like between case when then else end div mod regexp rlike binary using as distinct
		interval exists any all some over partition order by separator escape values null true false asc desc
		char character varchar nchar national decimal dec numeric signed unsigned integer int double float date time datetime year
		abs acos adddate addtime aes_decrypt aes_encrypt ascii asin atan atan2 avg bin bit_and bit_count bit_length bit_or bit_xor cast ceil
		ceiling chr char_length character_length charset coalesce coercibility collation compress concat concat_ws conv convert convert_tz cos
		cot count crc32 crc32c datediff date_add date_format date_sub day dayname dayofmonth dayofweek dayofyear decode_oracle degrees elt
		exp export_set extract extractvalue field find_in_set floor format from_base64 from_days from_unixtime geomfromtext geometryfromtext
		st_geomfromtext st_astext st_asgeojson st_geomfromgeojson st_x st_y st_distance st_distance_sphere st_within st_contains st_area
		st_centroid st_geomfromwkb st_aswkb x y point astext asbinary get_format greatest group_concat hex hour if ifnull inet_aton inet_ntoa
		inet6_aton inet6_ntoa insert instr is_ipv4 is_ipv6 is_ipv4_compat is_ipv4_mapped isnull json_array json_array_append json_array_insert
		json_compact json_contains json_contains_path json_depth json_detailed json_equals json_exists json_extract json_insert json_keys
		json_length json_loose json_merge json_merge_patch json_merge_preserve json_normalize json_object json_overlaps json_pretty json_query
		json_quote json_remove json_replace json_search json_set json_type json_unquote json_valid json_value last_day lcase least left length
		lengthb ln locate log log10 log2 lower lpad ltrim make_set makedate maketime max md5 microsecond mid min minute month monthname nullif
		nvl nvl2 oct octet_length ord period_add period_diff pi position pow power quarter quote radians regexp_instr regexp_replace
		regexp_substr repeat replace reverse right round row rpad rtrim second sec_to_time sformat sha sha1 sha2 sign sin soundex space
		sqrt str_to_date strcmp subdate substr substring substring_index subtime sum tan timediff time_format time_to_sec timestamp
		timestampadd timestampdiff to_base64 to_char to_days to_seconds trim truncate ucase uncompress uncompressed_length unhex
		updatexml upper uuid_to_bin week weekday weekofyear weight_string yearweek column_get column_json column_list column_exists natural_sort_key`) {
		out[name] = true
	}
	return out
}()

// own is what the catalogue says of a function of the application.
type own struct {
	// pure: it is declared deterministic, and to read nothing.
	pure bool
	// invoker: it runs with the rights of whoever calls it.
	invoker bool
}

// reads lists the columns of a table that an expression names, those that it may mean among them,
// and the functions that it calls and that are not known to depend on nothing but what they are given. stored are the
// application's own functions.
func reads(list []word, table *shape.Table, stored map[string]own) (columns []string, shifts []shape.Shift) {
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
		shift := shape.Shift{Function: lower}
		format, shifting := shiftingFunctions[lower]
		known, theirs := stored[lower]
		switch {
		case theirs && known.invoker:
			shift.Why = fmt.Sprintf("the function %s is declared SQL SECURITY INVOKER, so it would run with Pingo's rights", w.text)
			shift.Never = true
		case theirs && !known.pure:
			shift.Why = fmt.Sprintf("the function %s is not declared DETERMINISTIC and NO SQL, so it may read tables whose changes it does not show", w.text)
		case theirs:
		case shifting:
			shift.Why = fmt.Sprintf(format, lower+"()")
		case !steady[lower] || w.quoted:
			shift.Why = fmt.Sprintf("the function %s is not one that Pingo calls, since it may read more than the row or change something", w.text)
			shift.Never = true
		}
		if shift.Why != "" && !slices.Contains(shifts, shift) {
			shifts = append(shifts, shift)
		}
	}
	slices.Sort(columns)
	return columns, shifts
}
