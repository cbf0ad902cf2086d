package document

import (
	"bytes"
	"fmt"
	"strconv"

	"pingo/internal/core/shape"
)

// appendValue appends one field's value as JSON. Values come as PostgreSQL's text
// output writes them under DateStyle ISO and time zone UTC; other sources send the
// same forms. NULL, NaN, infinities, and numbers beyond a double's range become null,
// since engines have no number for them.
func appendValue(dst []byte, f *shape.Field, v []byte) []byte {
	switch {
	case v == nil:
		return append(dst, "null"...)
	case f.Array:
		return appendArray(dst, f.Type, v)
	}
	return appendScalar(dst, f.Type, v)
}

// longest is how many digits a number may have that surely fits into a double.
const longest = 300

func appendScalar(dst []byte, t shape.Type, v []byte) []byte {
	switch t {
	case shape.Integer, shape.Decimal:
		if len(v) == 0 || v[len(v)-1] < '0' || v[len(v)-1] > '9' { // NaN, Infinity
			return append(dst, "null"...)
		}
		if len(v) > longest {
			if _, err := strconv.ParseFloat(string(v), 64); err != nil {
				return append(dst, "null"...)
			}
		}
		return append(dst, v...)
	case shape.Boolean:
		if v[0] == 't' {
			return append(dst, "true"...)
		}
		return append(dst, "false"...)
	case shape.Date, shape.Timestamp:
		return appendTime(dst, v)
	case shape.Geo:
		return appendGeo(dst, v)
	case shape.Object:
		// Line breaks stand only between the tokens of JSON, never inside them.
		at := len(dst)
		dst = append(dst, v...)
		for i := at; i < len(dst); i++ {
			if dst[i] == '\n' || dst[i] == '\r' {
				dst[i] = ' '
			}
		}
		return dst
	}
	return appendBytes(dst, v)
}

// appendTime writes 2031-05-04 10:20:30.5+00 as 2031-05-04T10:20:30.5Z, and years
// that have not four digits as ISO 8601 does: 12000 is +12000, 44 BC is -0043.
func appendTime(dst, v []byte) []byte {
	if bytes.HasSuffix(v, []byte("infinity")) {
		return append(dst, "null"...)
	}
	dst = append(dst, '"')
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
	return append(dst, '"')
}

// appendGeo writes {8.5,46.1} or (8.5,46.1), longitude first, as [8.5,46.1].
func appendGeo(dst, v []byte) []byte {
	if len(v) < 5 || bytes.ContainsAny(v, "NI") { // NULL, NaN, Infinity
		return append(dst, "null"...)
	}
	dst = append(dst, '[')
	dst = append(dst, v[1:len(v)-1]...)
	return append(dst, ']')
}

// appendArray writes PostgreSQL's array literal as a JSON array.
func appendArray(dst []byte, t shape.Type, v []byte) []byte {
	fresh := true // no element of this list yet
	scanArray(v, func(token byte, item []byte) {
		if !fresh && token != '}' {
			dst = append(dst, ',')
		}
		fresh = token == '{'
		switch token {
		case '{':
			dst = append(dst, '[')
		case '}':
			dst = append(dst, ']')
		case 'n':
			dst = append(dst, "null"...)
		default:
			dst = appendScalar(dst, t, item)
		}
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
			var item []byte
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

// appendWords appends a value's text to that of a combined field, after a blank when
// others stand before it.
func appendWords(dst []byte, f *shape.Field, v []byte, others bool) []byte {
	word := func(v []byte) {
		if len(v) == 0 {
			return
		}
		if others {
			dst = append(dst, ' ')
		}
		dst, others = appendEscaped(dst, v), true
	}
	if !f.Array {
		word(v)
		return dst
	}
	scanArray(v, func(token byte, item []byte) {
		if token == 'v' {
			word(item)
		}
	})
	return dst
}

func appendString(dst []byte, s string) []byte { return appendBytes(dst, []byte(s)) }

// appendBytes appends valid UTF-8 as a JSON string.
func appendBytes(dst, v []byte) []byte { return append(appendEscaped(append(dst, '"'), v), '"') }

func appendEscaped(dst, v []byte) []byte {
	start := 0
	for i, b := range v {
		if b >= 0x20 && b != '"' && b != '\\' {
			continue
		}
		dst = append(dst, v[start:i]...)
		switch b {
		case '"', '\\':
			dst = append(dst, '\\', b)
		case '\n':
			dst = append(dst, '\\', 'n')
		case '\r':
			dst = append(dst, '\\', 'r')
		case '\t':
			dst = append(dst, '\\', 't')
		default:
			const digits = "0123456789abcdef"
			dst = append(dst, '\\', 'u', '0', '0', digits[b>>4], digits[b&15])
		}
		start = i + 1
	}
	return append(dst, v[start:]...)
}
