package document

import (
	"bytes"

	"pingo/internal/core/shape"
)

// appendValue appends one field's value as JSON. Values come as PostgreSQL's text
// output writes them under DateStyle ISO and time zone UTC; other sources send the
// same forms. NULL, NaN and infinities become null, since JSON has no word for them.
func appendValue(dst []byte, f *shape.Field, v []byte) []byte {
	switch {
	case v == nil:
		return append(dst, "null"...)
	case f.Type == shape.Geo:
		return appendGeo(dst, v)
	case f.Array:
		return appendArray(dst, f.Type, v)
	}
	return appendScalar(dst, f.Type, v)
}

func appendScalar(dst []byte, t shape.Type, v []byte) []byte {
	switch t {
	case shape.Integer, shape.Decimal:
		if len(v) == 0 || v[len(v)-1] < '0' || v[len(v)-1] > '9' { // NaN, Infinity
			return append(dst, "null"...)
		}
		return append(dst, v...)
	case shape.Boolean:
		if v[0] == 't' {
			return append(dst, "true"...)
		}
		return append(dst, "false"...)
	case shape.Date, shape.Timestamp:
		return appendTime(dst, v)
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

// appendTime writes 2031-05-04 10:20:30.5+00 as 2031-05-04T10:20:30.5Z.
func appendTime(dst, v []byte) []byte {
	if bytes.HasSuffix(v, []byte("infinity")) {
		return append(dst, "null"...)
	}
	dst = append(dst, '"')
	at := len(dst)
	if utc, ok := bytes.CutSuffix(v, []byte("+00")); ok {
		dst = append(append(dst, utc...), 'Z')
	} else {
		dst = append(dst, v...)
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

// appendArray reads PostgreSQL's array literal: {a,"b \"c\"",NULL,{d}}.
func appendArray(dst []byte, t shape.Type, v []byte) []byte {
	if i := bytes.IndexByte(v, '{'); i > 0 { // [0:2]={…} when it does not begin at 1
		v = v[i:]
	}
	fresh := true // no element of this list yet
	for i := 0; i < len(v); {
		switch c := v[i]; c {
		case '{':
			if !fresh {
				dst = append(dst, ',')
			}
			dst, fresh = append(dst, '['), true
			i++
		case '}':
			dst, fresh = append(dst, ']'), false
			i++
		case ',':
			i++
		default:
			if !fresh {
				dst = append(dst, ',')
			}
			fresh = false
			if c != '"' {
				end := i
				for end < len(v) && v[end] != ',' && v[end] != '}' {
					end++
				}
				if item := v[i:end]; bytes.EqualFold(item, []byte("NULL")) {
					dst = append(dst, "null"...)
				} else {
					dst = appendScalar(dst, t, item)
				}
				i = end
				continue
			}
			var item []byte
			for i++; i < len(v) && v[i] != '"'; i++ {
				if v[i] == '\\' {
					i++
				}
				item = append(item, v[i])
			}
			dst = appendScalar(dst, t, item)
			i++
		}
	}
	return dst
}

func appendString(dst []byte, s string) []byte { return appendBytes(dst, []byte(s)) }

// appendBytes appends valid UTF-8 as a JSON string.
func appendBytes(dst, v []byte) []byte {
	dst = append(dst, '"')
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
	return append(append(dst, v[start:]...), '"')
}
