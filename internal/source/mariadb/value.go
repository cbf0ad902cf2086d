package mariadb

import (
	"encoding/json"
	"fmt"
	"strings"

	"pingo/internal/core/document"
	"pingo/internal/core/shape"
)

// writerOf gives what turns MariaDB's text of a column's values, in UTC, into their neutral
// form; nil where they are the same.
func writerOf(c shape.Column) document.Writer {
	if c.Key {
		return nil // the statement has it written as keys are
	}
	switch base(c.Form) {
	case "bool", "bit1":
		return appendBoolean
	case "datetime":
		return appendTime
	case "timestamp":
		return func(dst, v []byte) []byte { return append(appendTime(dst, v), 'Z') }
	case "set":
		return appendSet
	case "json":
		return appendOneLine
	}
	return nil
}

func appendBoolean(dst, v []byte) []byte {
	if string(v) == "0" {
		return append(dst, "false"...)
	}
	return append(dst, "true"...)
}

// appendTime writes 2031-05-04 10:20:30.500000 as 2031-05-04T10:20:30.5.
func appendTime(dst, v []byte) []byte {
	s := string(v)
	if strings.Contains(s, ".") {
		s = strings.TrimRight(strings.TrimRight(s, "0"), ".")
	}
	return append(dst, strings.Replace(s, " ", "T", 1)...)
}

// appendSet writes a set's members, between which commas stand, as a list.
func appendSet(dst, v []byte) []byte {
	dst = append(dst, '[')
	if len(v) > 0 {
		for i, member := range strings.Split(string(v), ",") {
			if i > 0 {
				dst = append(dst, ',')
			}
			dst = document.AppendJSON(dst, shape.Keyword, []byte(member))
		}
	}
	return append(dst, ']')
}

// appendOneLine replaces line breaks, which stand only between the tokens of JSON.
func appendOneLine(dst, v []byte) []byte {
	at := len(dst)
	dst = append(dst, v...)
	for i := at; i < len(dst); i++ {
		if dst[i] == '\n' || dst[i] == '\r' {
			dst[i] = ' '
		}
	}
	return dst
}

// literal writes the text of a key's or link's value as SQL, for comparing with a column of a
// type.
func literal(native, value string) string {
	kind, _, _ := strings.Cut(native, "(")
	kind, _, _ = strings.Cut(kind, " ")
	switch {
	case kind == "binary" || kind == "varbinary":
		if strings.Trim(value, "0123456789abcdef") == "" && len(value)%2 == 0 && value != "" {
			return "x'" + value + "'"
		}
	case strings.HasSuffix(kind, "int") || kind == "decimal" || kind == "boolean" || kind == "bit" || kind == "year":
		if value != "" && strings.Trim(value, "-.0123456789") == "" && strings.LastIndex(value, "-") <= 0 &&
			strings.Count(value, ".") <= 1 &&
			strings.Trim(value, "-.") != "" {
			return value
		}
	}
	return text(value)
}

// jsonTable is a table of tuples of texts, to be joined with: its columns pingo_p0, pingo_p1 … are of some
// types, compared as columns of some forms are, and give the texts back as they were given.
func jsonTable(forms, natives []string, tuples [][]string) string {
	columns := make([]string, len(forms))
	for i, form := range forms {
		kind := "longtext"
		switch charset, collation := comparison(form); {
		case collation != "":
			kind = fmt.Sprintf("text CHARACTER SET %s COLLATE %s", charset, collation)
		case treatmentOf(form).becomes == shape.Integer && base(form) != "bit", base(form) == "decimal":
			kind = natives[i]
		}
		columns[i] = fmt.Sprintf("pingo_p%d %s PATH '$[%[1]d]'", i, kind)
	}
	list, err := json.Marshal(tuples)
	if err != nil {
		panic(fmt.Sprintf("mariadb: texts that cannot be written as JSON: %v", err))
	}
	return fmt.Sprintf(
		"JSON_TABLE(%s, '$[*]' COLUMNS (%s)) pingo_given",
		text(string(list)),
		strings.Join(columns, ", "),
	)
}
