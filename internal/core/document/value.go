package document

import (
	"bytes"
	"encoding/binary"
	"encoding/json"
	"strconv"

	"pingo/internal/core/shape"
)

// appendValue appends one field's neutral value as JSON. NULL, NaN, infinities, and
// numbers beyond a double's range become null, since engines have no number for them.
func appendValue(dst []byte, f *shape.Field, v []byte) []byte {
	switch {
	case v == nil:
		return append(dst, "null"...)
	case f.Array:
		return append(dst, v...)
	}
	return AppendJSON(dst, f.Type, v)
}

// longest is how many digits a number may have that surely fits into a double.
const longest = 300

// AppendJSON appends one neutral value, which is no list, as JSON.
func AppendJSON(dst []byte, t shape.Type, v []byte) []byte {
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
	case shape.Boolean, shape.Object:
		return append(dst, v...)
	case shape.Date, shape.Timestamp:
		if bytes.HasSuffix(v, []byte("infinity")) {
			return append(dst, "null"...)
		}
		return append(append(append(dst, '"'), v...), '"')
	case shape.Geo:
		if !place(v) {
			return append(dst, "null"...)
		}
		return append(dst, v...)
	}
	return appendBytes(dst, v)
}

// place reports whether a value is a list of two numbers: NULL, NaN and infinities in
// it are written with letters.
func place(v []byte) bool {
	return len(v) >= len("[0,0]") && bytes.Count(v, []byte(",")) == 1 && !bytes.ContainsAny(v, "nNI")
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
	if !f.Array || len(v) == 0 {
		word(v)
		return dst
	}
	decoder := json.NewDecoder(bytes.NewReader(v))
	decoder.UseNumber()
	for {
		token, err := decoder.Token()
		if err != nil {
			return dst // the end of the list
		}
		switch token := token.(type) {
		case string:
			word([]byte(token))
		case json.Number:
			word([]byte(token))
		case bool:
			word(strconv.AppendBool(nil, token))
		}
	}
}

func appendString(dst []byte, s string) []byte { return appendBytes(dst, []byte(s)) }

// appendBytes appends valid UTF-8 as a JSON string.
func appendBytes(dst, v []byte) []byte { return append(appendEscaped(append(dst, '"'), v), '"') }

// plain reports whether certainly none of eight bytes is below ' ', '"' or '\\'. It is "Determine if a word has a byte
// less than n" of the Bit Twiddling Hacks: another byte may be taken for one of these, never one of these for another.
func plain(w uint64) bool {
	const ones, tops = 0x0101010101010101, 0x8080808080808080
	quote, backslash := w^(ones*'"'), w^(ones*'\\')
	return ((w-ones*' ')&^w|(quote-ones)&^quote|(backslash-ones)&^backslash)&tops == 0
}

func appendEscaped(dst, v []byte) []byte {
	start := 0
	for i := 0; i < len(v); i++ {
		for i+8 <= len(v) && plain(binary.LittleEndian.Uint64(v[i:])) {
			i += 8
		}
		if i == len(v) {
			break
		}
		b := v[i]
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
