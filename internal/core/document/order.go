package document

import (
	"bytes"
	"cmp"
	"slices"

	"pingo/internal/core/shape"
)

// sort puts the rows that share a link in the node's order.
func (s *Set) sort(node int) {
	rows, l, by := &s.nodes[node], &s.links[node], s.tree.Nodes[node].InOrder
	compare := func(a, b int32) int {
		for _, term := range by {
			c := compareText(term, rows.Value(int(a), term.At), rows.Value(int(b), term.At))
			if term.Descending {
				c = -c
			}
			if c != 0 {
				return c
			}
		}
		return 0
	}
	for key, row := range l.first {
		if l.next[row] < 0 {
			continue
		}
		chain := l.sorted[:0]
		for ; row >= 0; row = l.next[row] {
			chain = append(chain, row)
		}
		slices.SortStableFunc(chain, compare)
		l.first[key] = chain[0]
		for i, row := range chain {
			l.next[row] = -1
			if i > 0 {
				l.next[chain[i-1]] = row
			}
		}
		l.sorted = chain
	}
}

// compareText compares two values by their neutral forms. NULL is above everything, or below.
func compareText(by shape.By, a, b []byte) int {
	switch t := by.Type; {
	case a == nil || b == nil:
		if by.NullsLow {
			a, b = b, a
		}
		return cmp.Compare(isNull(a), isNull(b))
	case t == shape.Integer:
		return compareIntegers(a, b)
	case t == shape.Date || t == shape.Timestamp:
		return compareTimes(a, b)
	}
	return bytes.Compare(a, b)
}

func isNull(v []byte) int {
	if v == nil {
		return 1
	}
	return 0
}

// compareIntegers compares numbers of any length in their plain form.
func compareIntegers(a, b []byte) int {
	below := len(a) > 0 && a[0] == '-'
	if below != (len(b) > 0 && b[0] == '-') {
		if below {
			return -1
		}
		return 1
	}
	c := cmp.Or(cmp.Compare(len(a), len(b)), bytes.Compare(a, b))
	if below {
		return -c
	}
	return c
}

// compareTimes compares dates and times in ISO 8601, all of one time zone: a year of
// four digits or more, with a sign where it needs one, and the infinities.
func compareTimes(a, b []byte) int {
	if fourDigits(a) && fourDigits(b) {
		return bytes.Compare(trimZone(a), trimZone(b))
	}
	aEra, aYear, aRest := splitTime(a)
	bEra, bYear, bRest := splitTime(b)
	c := cmp.Or(cmp.Compare(len(aYear), len(bYear)), bytes.Compare(aYear, bYear))
	if aEra == beforeZero {
		c = -c
	}
	return cmp.Or(cmp.Compare(aEra, bEra), c, bytes.Compare(trimZone(aRest), trimZone(bRest)))
}

// fourDigits reports whether a time is of a year of four digits without a sign, as nearly all are.
func fourDigits(v []byte) bool { return len(v) > 4 && v[4] == '-' && v[0] >= '0' && v[0] <= '9' }

// trimZone takes the Z off, which would be above the fraction of a second.
func trimZone(v []byte) []byte { return bytes.TrimSuffix(v, []byte("Z")) }

// The eras of times, in their order.
const (
	minusInfinity = iota
	beforeZero
	yearZeroOn
	infinity
)

func splitTime(v []byte) (era int, year, rest []byte) {
	switch string(v) {
	case "-infinity":
		return minusInfinity, nil, nil
	case "infinity":
		return infinity, nil, nil
	}
	era = yearZeroOn
	switch v[0] {
	case '-':
		era, v = beforeZero, v[1:]
	case '+':
		v = v[1:]
	}
	year, rest, _ = bytes.Cut(v, []byte("-"))
	return era, year, rest
}
