package query

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"time"

	"pingo/internal/core/shape"
)

var iso = regexp.MustCompile(
	`^([+-]?\d{4,6})(?:-(\d\d)(?:-(\d\d)(?:[T ](\d\d)(?::?(\d\d)(?::?(\d\d)(?:[.,](\d{1,9}))?)?)?(Z|[+-]\d\d(?::?\d\d)?)?)?)?)?$`,
)

// moment reads a day or moment as ISO 8601 writes it, with parts left out from the right. It
// gives when what is named begins, and when what follows it does: the same for a moment with
// a fraction of a second. Without an offset it is in UTC.
func moment(text string) (first, next time.Time, err error) {
	m := iso.FindStringSubmatch(text)
	if m == nil {
		return first, next, fmt.Errorf(
			"%q is no day or moment, such as 2031, 2031-06, 2031-06-01 or 2031-06-01T10:20:30Z",
			text,
		)
	}
	part := func(i, otherwise int) int {
		if m[i] == "" {
			return otherwise
		}
		n, _ := strconv.Atoi(m[i]) // they are digits
		return n
	}
	year, month, day := part(1, 0), part(2, 1), part(3, 1)
	hour, minute, second := part(4, 0), part(5, 0), part(6, 0)
	nanos, _ := strconv.Atoi((m[7] + "000000000")[:9])
	zone := time.UTC
	if offset := m[8]; offset != "" && offset != "Z" {
		digits := strings.ReplaceAll(offset[1:], ":", "") + "00"
		hours, _ := strconv.Atoi(digits[:2])
		minutes, _ := strconv.Atoi(digits[2:4])
		seconds := hours*3600 + minutes*60
		if offset[0] == '-' {
			seconds = -seconds
		}
		zone = time.FixedZone("", seconds)
	}
	first = time.Date(year, time.Month(month), day, hour, minute, second, nanos, zone)
	if first.Month() != time.Month(month) || first.Day() != day || hour > 23 || minute > 59 || second > 59 {
		return first, next, fmt.Errorf("%q does not exist in the calendar", text)
	}
	switch {
	case m[7] != "":
		next = first
	case m[6] != "":
		next = first.Add(time.Second)
	case m[5] != "":
		next = first.Add(time.Minute)
	case m[4] != "":
		next = first.Add(time.Hour)
	case m[3] != "":
		next = first.AddDate(0, 0, 1)
	case m[2] != "":
		next = first.AddDate(0, 1, 0)
	default:
		next = first.AddDate(1, 0, 0)
	}
	return first.UTC(), next.UTC(), nil
}

// bound writes a moment as the documents have it: a day, or a moment in UTC.
func bound(t shape.Type, at time.Time, open bool) *Bound {
	year := fmt.Sprintf("%04d", at.Year())
	switch {
	case at.Year() < 0:
		year = fmt.Sprintf("-%04d", -at.Year())
	case at.Year() > 9999:
		year = "+" + year
	}
	if t == shape.Date {
		return &Bound{year + at.Format("-01-02"), open}
	}
	return &Bound{year + at.Format("-01-02T15:04:05.999999999Z"), open}
}

// lastOf is the end of what a day or moment names.
func lastOf(t shape.Type, first, next time.Time) *Bound {
	if next.Equal(first) || t == shape.Date && next.Before(first.AddDate(0, 0, 1)) {
		return bound(t, first, false)
	}
	return bound(t, next, true)
}
