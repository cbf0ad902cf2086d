package standin

import (
	"bytes"
	"errors"
	"fmt"
	"strconv"
)

// scanner reads JSON token by token without making values of it: a bulk request
// is checked against the mapping at the speed of its bytes.
type scanner struct {
	b []byte
	i int
}

type tokenKind byte

const (
	objectToken tokenKind = '{'
	arrayToken  tokenKind = '['
	stringToken tokenKind = '"'
	numberToken tokenKind = '0'
	trueToken   tokenKind = 't'
	falseToken  tokenKind = 'f'
	nullToken   tokenKind = 'n'
)

// errEnd says that JSON ends too early.
var errEnd = errors.New("unexpected end of input")

func (s *scanner) space() {
	for s.i < len(s.b) {
		switch s.b[s.i] {
		case ' ', '\t', '\n', '\r':
			s.i++
		default:
			return
		}
	}
}

func (s *scanner) bad(what string) error {
	return fmt.Errorf("%s at byte %d", what, s.i)
}

// peek tells the kind of the value that begins here.
func (s *scanner) peek() (tokenKind, error) {
	s.space()
	if s.i >= len(s.b) {
		return 0, errEnd
	}
	switch c := s.b[s.i]; {
	case c == '-' || c >= '0' && c <= '9':
		return numberToken, nil
	case c == '{' || c == '[' || c == '"' || c == 't' || c == 'f' || c == 'n':
		return tokenKind(c), nil
	}
	return 0, s.bad("unexpected character " + strconv.QuoteRune(rune(s.b[s.i])))
}

func (s *scanner) take(c byte) bool {
	s.space()
	if s.i < len(s.b) && s.b[s.i] == c {
		s.i++
		return true
	}
	return false
}

// str reads a string and returns what stands between the quotes, escapes and all.
func (s *scanner) str() ([]byte, error) {
	if !s.take('"') {
		return nil, s.bad("expected a string")
	}
	start := s.i
	for s.i < len(s.b) {
		next := bytes.IndexByte(s.b[s.i:], '"')
		if next < 0 {
			break
		}
		end := s.i + next
		slashes := 0
		for end-1-slashes >= start && s.b[end-1-slashes] == '\\' {
			slashes++
		}
		s.i = end + 1
		if slashes%2 == 0 {
			return s.b[start:end], nil
		}
	}
	return nil, s.bad("unterminated string")
}

// scalar reads a string, number, true, false or null and returns its text.
func (s *scanner) scalar(kind tokenKind) ([]byte, error) {
	if kind == stringToken {
		return s.str()
	}
	s.space()
	start := s.i
	for s.i < len(s.b) {
		switch s.b[s.i] {
		case ',', '}', ']', ' ', '\n', '\r', '\t':
			return s.literal(kind, s.b[start:s.i])
		}
		s.i++
	}
	return s.literal(kind, s.b[start:s.i])
}

func (s *scanner) literal(kind tokenKind, v []byte) ([]byte, error) {
	ok := true
	switch kind {
	case trueToken:
		ok = string(v) == "true"
	case falseToken:
		ok = string(v) == "false"
	case nullToken:
		ok = string(v) == "null"
	case numberToken:
		ok = isNumber(v)
	}
	if !ok {
		return nil, s.bad(fmt.Sprintf("unrecognised token %q", v))
	}
	return v, nil
}

// isNumber reports whether v is a number as JSON writes it.
func isNumber(v []byte) bool {
	digits := func() bool {
		n := 0
		for n < len(v) && v[n] >= '0' && v[n] <= '9' {
			n++
		}
		v = v[n:]
		return n > 0
	}
	if len(v) > 0 && v[0] == '-' {
		v = v[1:]
	}
	if len(v) > 1 && v[0] == '0' && v[1] >= '0' && v[1] <= '9' || !digits() {
		return false
	}
	if len(v) > 0 && v[0] == '.' {
		if v = v[1:]; !digits() {
			return false
		}
	}
	if len(v) > 0 && (v[0] == 'e' || v[0] == 'E') {
		if v = v[1:]; len(v) > 0 && (v[0] == '+' || v[0] == '-') {
			v = v[1:]
		}
		if !digits() {
			return false
		}
	}
	return len(v) == 0
}

// object calls member for each key, placed before its value, which it must read.
func (s *scanner) object(member func(key []byte) error) error {
	if !s.take('{') {
		return s.bad("expected an object")
	}
	if s.take('}') {
		return nil
	}
	for {
		key, err := s.str()
		if err != nil {
			return err
		}
		if !s.take(':') {
			return s.bad("expected a colon")
		}
		if err := member(key); err != nil {
			return err
		}
		if s.take('}') {
			return nil
		}
		if !s.take(',') {
			if s.i >= len(s.b) {
				return errEnd
			}
			return s.bad("expected a comma")
		}
	}
}

// array calls element for each element, placed before it.
func (s *scanner) array(element func() error) error {
	if !s.take('[') {
		return s.bad("expected an array")
	}
	if s.take(']') {
		return nil
	}
	for {
		if err := element(); err != nil {
			return err
		}
		if s.take(']') {
			return nil
		}
		if !s.take(',') {
			if s.i >= len(s.b) {
				return errEnd
			}
			return s.bad("expected a comma")
		}
	}
}

// skip reads past one value of any kind.
func (s *scanner) skip() error {
	kind, err := s.peek()
	if err != nil {
		return err
	}
	switch kind {
	case objectToken:
		return s.object(func([]byte) error { return s.skip() })
	case arrayToken:
		return s.array(s.skip)
	}
	_, err = s.scalar(kind)
	return err
}

func unquote(raw []byte) string {
	if bytes.IndexByte(raw, '\\') < 0 {
		return string(raw)
	}
	if s, err := strconv.Unquote(`"` + string(bytes.ReplaceAll(raw, []byte(`\/`), []byte(`/`))) + `"`); err == nil {
		return s
	}
	return string(raw)
}
