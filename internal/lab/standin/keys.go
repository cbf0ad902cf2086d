package standin

import (
	"encoding/binary"
	"fmt"
	"math"
	"math/big"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"
)

// Keys represent values in an index: strings that sort as the values do. Whole numbers,
// dates (milliseconds since 1970) and doubles take eight bytes, places two doubles,
// booleans one letter; words and keywords are themselves.

func longKey(v int64) string {
	return string(binary.BigEndian.AppendUint64(nil, uint64(v)^1<<63))
}

func doubleKey(v float64) string {
	bits := math.Float64bits(v)
	if bits>>63 == 1 {
		bits = ^bits
	} else {
		bits |= 1 << 63
	}
	return string(binary.BigEndian.AppendUint64(nil, bits))
}

func booleanKey(v bool) string {
	if v {
		return "1"
	}
	return "0"
}

func placeKey(lat, lon float64) string { return doubleKey(lat) + doubleKey(lon) }

func longOf(key string) int64 { return int64(binary.BigEndian.Uint64([]byte(key)) ^ 1<<63) }

func doubleOf(key string) float64 {
	bits := binary.BigEndian.Uint64([]byte(key))
	if bits>>63 == 1 {
		return math.Float64frombits(bits &^ (1 << 63))
	}
	return math.Float64frombits(^bits)
}

func (f *field) whole() bool { return f.Type == "long" || f.Type == "integer" }
func (f *field) real() bool  { return f.Type == "double" || f.Type == "float" }

// shown is a key as answers show its value, and as text where the interface has both.
func (f *field) shown(key string) (value any, text string) {
	switch {
	case f.whole():
		return longOf(key), ""
	case f.real():
		return doubleOf(key), ""
	case f.Type == "date":
		return longOf(key), time.UnixMilli(longOf(key)).UTC().Format("2006-01-02T15:04:05.000Z")
	case f.Type == "boolean":
		return int(key[0] - '0'), strconv.FormatBool(key == "1")
	}
	return key, ""
}

// maxTerm is the longest value in bytes that an index of whole values takes.
const maxTerm = 32766

// keys gives what a value of a field is found by. why without a kind refuses it without
// saying more; why with a status is the whole answer.
func (f *field) keys(kind tokenKind, text string, a *analysis) (out []string, why *apiError) {
	if f.Index != nil && !*f.Index && f.Type == "keyword" {
		return nil, nil // kept in the document only
	}
	switch f.Type {
	case "text":
		return a.of(f, false).words(text), nil
	case "keyword":
		if f.IgnoreAbove > 0 && utf8.RuneCountInString(text) > f.IgnoreAbove {
			return nil, nil
		}
		if len(text) > maxTerm {
			return nil, &apiError{400, "illegal_argument_exception", fmt.Sprintf(
				"Document contains at least one immense term in field=%q (whose UTF8 encoding is longer than the max length %d), all of which were skipped.",
				f.path,
				maxTerm,
			),
				&apiError{
					kind:   "max_bytes_length_exceeded_exception",
					reason: fmt.Sprintf("bytes can be at most %d in length; got %d", maxTerm, len(text)),
				}}
		}
		return a.of(f, false).words(text), nil
	}
	if kind == stringToken && text == "" && f.Type != "date" && f.Type != "boolean" {
		return nil, nil // no value
	}
	switch f.Type {
	case "boolean":
		if kind == numberToken {
			return nil, &apiError{}
		}
		if text != "true" && text != "false" && text != "" {
			return nil, &apiError{
				kind:   "illegal_argument_exception",
				reason: fmt.Sprintf("Failed to parse value [%s] as only [true] or [false] are allowed.", text),
			}
		}
		return []string{booleanKey(text == "true")}, nil
	case "date":
		ms, _, err := f.dateOf(kind, text)
		if err != nil {
			return nil, err
		}
		return []string{longKey(ms)}, nil
	}
	if kind == trueToken || kind == falseToken {
		return nil, &apiError{}
	}
	if kind == numberToken && len(text) > maxDigits {
		return nil, tooManyDigits([]byte(text))
	}
	if f.real() {
		v, err := parseDouble(text)
		if err != nil {
			return nil, &apiError{
				kind:   "number_format_exception",
				reason: fmt.Sprintf("For input string: %q", text),
			}
		}
		if math.IsInf(v, 0) || math.IsNaN(v) {
			name := map[bool]string{true: "NaN", false: strings.TrimPrefix(strings.Replace(fmt.Sprint(v), "Inf", "Infinity", 1), "+")}[math.IsNaN(v)]
			return nil, &apiError{
				kind:   "illegal_argument_exception",
				reason: fmt.Sprintf("[%s] supports only finite values, but got [%s]", f.Type, name),
			}
		}
		return []string{doubleKey(v)}, nil
	}
	v, fits, ok := f.parseWhole(text)
	switch {
	case !ok:
		return nil, &apiError{
			kind:   "illegal_argument_exception",
			reason: fmt.Sprintf("For input string: %q", text),
		}
	case !fits:
		return nil, &apiError{}
	}
	return []string{longKey(v)}, nil
}

// parseWhole reads a whole number, cutting off what follows the decimal point.
func (f *field) parseWhole(text string) (v int64, fits, ok bool) {
	bits := 64
	if f.Type == "integer" {
		bits = 32
	}
	if v, err := strconv.ParseInt(text, 10, bits); err == nil {
		return v, true, true
	}
	if strings.Trim(text, "+-0123456789.eE") != "" {
		return 0, false, false
	}
	exact, _, err := big.ParseFloat(text, 10, 256, big.ToZero)
	if err != nil {
		return 0, false, false
	}
	whole, _ := exact.Int(nil)
	if !whole.IsInt64() || bits == 32 && int64(int32(whole.Int64())) != whole.Int64() {
		return 0, false, true
	}
	return whole.Int64(), true, true
}

// parseDouble reads what Java takes for a double: blanks around it and a letter after it.
func parseDouble(text string) (float64, error) {
	text = strings.TrimSpace(text)
	if strings.Trim(text, "+-") == "Infinity" {
		return strconv.ParseFloat(strings.Replace(text, "Infinity", "Inf", 1), 64)
	}
	if len(text) > 1 && !strings.HasPrefix(text, "0x") {
		text = strings.TrimRight(text, "dDfF")
	}
	v, err := strconv.ParseFloat(text, 64)
	if math.IsInf(v, 0) {
		return v, nil
	}
	return v, err
}

// maxDigits is how long a number may be written.
const maxDigits = 1000

func tooManyDigits(v []byte) *apiError {
	return unreadable(&apiError{kind: "stream_constraints_exception", reason: fmt.Sprintf(
		"Number value length (%d) exceeds the maximum allowed (%d, from `StreamReadConstraints.getMaxNumberLength()`)",
		len(v),
		maxDigits,
	)})
}

func (f *field) format() string {
	if f.Format == "" {
		return "strict_date_optional_time||epoch_millis"
	}
	return f.Format
}

// dateOf gives the first and the last millisecond that a value of a date field means.
func (f *field) dateOf(kind tokenKind, text string) (from, to int64, why *apiError) {
	if text == "" {
		return 0, 0, &apiError{kind: "illegal_argument_exception", reason: "cannot parse empty date"}
	}
	if strings.Contains(f.format(), "epoch_millis") {
		if v, err := strconv.ParseFloat(text, 64); err == nil && (kind == numberToken || len(text) != 4) {
			return int64(v), int64(v), nil
		}
	}
	from, to, err := parseDate(text)
	if err != nil || kind == numberToken && len(text) != 4 || kind == trueToken || kind == falseToken {
		return 0, 0, &apiError{kind: "illegal_argument_exception",
			reason: fmt.Sprintf("failed to parse date field [%s] with format [%s]", text, f.format()),
			cause: &apiError{
				kind:   "date_time_parse_exception",
				reason: fmt.Sprintf("Text '%s' could not be parsed", text),
			}}
	}
	return from, to, nil
}

// parseDate reads ISO 8601 with parts left out from the right, as
// strict_date_optional_time does. It returns the first and the last millisecond of what
// is named.
func parseDate(text string) (from, to int64, err error) {
	bad := fmt.Errorf("%q is no date", text)
	rest := text
	number := func(digits int) (int, bool) {
		if len(rest) < digits {
			return 0, false
		}
		n := 0
		for _, c := range []byte(rest[:digits]) {
			if c < '0' || c > '9' {
				return 0, false
			}
			n = n*10 + int(c-'0')
		}
		rest = rest[digits:]
		return n, true
	}
	take := func(c string) bool {
		if strings.HasPrefix(rest, c) {
			rest = rest[1:]
			return true
		}
		return false
	}
	sign, digits := 1, 4
	if strings.HasPrefix(rest, "+") || strings.HasPrefix(rest, "-") {
		if rest[0] == '-' {
			sign = -1
		}
		rest = rest[1:]
		digits = strings.IndexByte(rest+"-", '-')
		if digits < 4 || digits > 9 {
			return 0, 0, bad
		}
	}
	year, ok := number(digits)
	if !ok {
		return 0, 0, bad
	}
	year *= sign
	month, day, hour, minute, second, ms := 1, 1, 0, 0, 0, 0
	// What is left out of a day is its beginning and its end; a month and a year alone mean
	// their first day.
	end := func() time.Time { return time.Date(year, time.Month(month), day+1, 0, 0, 0, 0, time.UTC) }
	if take("-") {
		if month, ok = number(2); !ok || month < 1 || month > 12 {
			return 0, 0, bad
		}
		if take("-") {
			if day, ok = number(2); !ok || day < 1 ||
				day > time.Date(year, time.Month(month)+1, 0, 0, 0, 0, 0, time.UTC).Day() {
				return 0, 0, bad
			}
		}
	}
	at := func() time.Time {
		return time.Date(year, time.Month(month), day, hour, minute, second, ms*1e6, time.UTC)
	}
	timed, offset := take("T"), time.Duration(0)
	if timed && rest != "" {
		if hour, ok = number(2); !ok || hour > 23 {
			return 0, 0, bad
		}
		end = func() time.Time { return at().Add(time.Hour) }
		if take(":") {
			if minute, ok = number(2); !ok || minute > 59 {
				return 0, 0, bad
			}
			end = func() time.Time { return at().Add(time.Minute) }
			if take(":") {
				if second, ok = number(2); !ok || second > 59 {
					return 0, 0, bad
				}
				end = func() time.Time { return at().Add(time.Second) }
				if take(".") || take(",") {
					digits := len(rest) - len(strings.TrimLeft(rest, "0123456789"))
					if digits < 1 || digits > 9 {
						return 0, 0, bad
					}
					ms, _ = strconv.Atoi((rest[:digits] + "00")[:3])
					rest = rest[digits:]
					end = func() time.Time { return at().Add(time.Millisecond) }
				}
			}
		}
		switch {
		case take("Z"):
		case strings.HasPrefix(rest, "+"), strings.HasPrefix(rest, "-"):
			sign := time.Duration(1)
			if rest[0] == '-' {
				sign = -1
			}
			rest = rest[1:]
			for i, unit := range []time.Duration{time.Hour, time.Minute, time.Second} {
				if i > 0 && rest != "" {
					take(":")
				}
				if i == 0 || rest != "" {
					n, ok := number(2)
					if !ok || i == 0 && n > 18 || i > 0 && n > 59 {
						return 0, 0, bad
					}
					offset += sign * time.Duration(n) * unit
				}
			}
		}
	}
	if rest != "" {
		return 0, 0, bad
	}
	return at().Add(-offset).UnixMilli(), end().Add(-offset).UnixMilli() - 1, nil
}
