package postgres

import (
	"bytes"
	"fmt"
	"strconv"
	"strings"

	"pingo/internal/core/document"
	"pingo/internal/core/shape"
)

// writerOf gives what turns PostgreSQL's text of a column's values, under DateStyle ISO
// and in UTC, into their neutral form; nil where they are the same.
func writerOf(c shape.Column) document.Writer {
	element, list := strings.CutSuffix(c.Form, "[]")
	switch {
	case c.Key:
		return nil // the statement has it written as keys are
	case list && c.Type == shape.Geo && !c.Array: // [lon, lat] as a list of numbers
		return func(dst, v []byte) []byte { return appendList(dst, shape.Decimal, "", v) }
	case list:
		return func(dst, v []byte) []byte { return appendList(dst, c.Type, element, v) }
	}
	return scalarWriter(element)
}

func scalarWriter(form string) document.Writer {
	switch form {
	case "bool":
		return appendBoolean
	case "date", "timestamp", "timestamptz":
		return appendTime
	case "point":
		return appendPoint
	case "json", "jsonb", "hstore":
		return appendOneLine
	}
	return nil
}

func appendBoolean(dst, v []byte) []byte { return strconv.AppendBool(dst, v[0] == 't') }

// appendTime writes 2031-05-04 10:20:30.5+00 as 2031-05-04T10:20:30.5Z, and years
// that have not four digits as ISO 8601 does: 12000 is +12000, 44 BC is -0043.
func appendTime(dst, v []byte) []byte {
	if bytes.HasSuffix(v, []byte("infinity")) {
		return append(dst, v...)
	}
	v, before := bytes.CutSuffix(v, []byte(" BC"))
	digits := max(bytes.IndexByte(v, '-'), 0)
	switch {
	case before:
		year, _ := strconv.Atoi(string(v[:digits]))
		if year > 1 {
			dst = append(dst, '-')
		}
		dst = fmt.Appendf(dst, "%04d", year-1)
	case digits > 4:
		dst = append(append(dst, '+'), v[:digits]...)
	default:
		dst = append(dst, v[:digits]...)
	}
	at := len(dst)
	if utc, ok := bytes.CutSuffix(v[digits:], []byte("+00")); ok {
		dst = append(append(dst, utc...), 'Z')
	} else {
		dst = append(dst, v[digits:]...)
	}
	if i := bytes.IndexByte(dst[at:], ' '); i >= 0 {
		dst[at+i] = 'T'
	}
	return dst
}

// appendPoint writes (8.5,46.1) as [8.5,46.1].
func appendPoint(dst, v []byte) []byte {
	return append(append(append(dst, '['), bytes.Trim(v, "()")...), ']')
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

// appendList writes an array literal as a JSON list of values of a type. Places that are invalid
// are left out: engines have nothing for them in a list.
func appendList(dst []byte, t shape.Type, form string, v []byte) []byte {
	write := scalarWriter(form)
	var neutral, item []byte
	first := true // no element of this list yet
	scanArray(v, func(token byte, text []byte) {
		item = item[:0]
		switch {
		case token == '{':
			item = append(item, '[')
		case token == '}':
			first = false
			dst = append(dst, ']')
			return
		case token == 'n':
			item = append(item, "null"...)
		case write != nil:
			neutral = write(neutral[:0], text)
			item = document.AppendJSON(item, t, neutral)
		default:
			item = document.AppendJSON(item, t, text)
		}
		if t == shape.Geo && string(item) == "null" {
			return
		}
		if !first {
			dst = append(dst, ',')
		}
		first = token == '{'
		dst = append(dst, item...)
	})
	return dst
}

// scanArray reads an array literal such as {a,"b \"c\"",NULL,{d}}: each is called with
// { and } where lists begin and end, v for values and n for NULL.
func scanArray(v []byte, each func(token byte, item []byte)) {
	if i := bytes.IndexByte(v, '{'); i > 0 { // [0:2]={…} when it does not begin at 1
		v = v[i:]
	}
	for i := 0; i < len(v); {
		switch c := v[i]; c {
		case '{', '}':
			each(c, nil)
			i++
		case ',':
			i++
		case '"':
			item := []byte{}
			for i++; i < len(v) && v[i] != '"'; i++ {
				if v[i] == '\\' && i+1 < len(v) {
					i++
				}
				item = append(item, v[i])
			}
			each('v', item)
			i++
		default:
			end := i
			for end < len(v) && v[end] != ',' && v[end] != '}' {
				end++
			}
			if bytes.EqualFold(v[i:end], []byte("NULL")) {
				each('n', nil)
			} else {
				each('v', v[i:end])
			}
			i = end
		}
	}
}
