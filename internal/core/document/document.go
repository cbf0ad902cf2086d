package document

import (
	"fmt"
	"strings"

	"github.com/cespare/xxhash/v2"

	"pingo/internal/core/definition"
	"pingo/internal/core/shape"
)

const fingerprintDigits = 16

var head = `{"` + definition.FingerprintField + `":"`

// Append appends the document of one root row to dst: a JSON object without line
// breaks that begins with the fingerprint of all that follows it. All nodes below
// the root must have been linked.
func (s *Set) Append(dst []byte, row int) []byte {
	dst = append(dst, head...)
	at := len(dst)
	dst = append(dst, "0000000000000000\""...)
	body := len(dst)
	dst = s.object(dst, s.shape.Root(), row, true)
	const digits = "0123456789abcdef"
	sum := xxhash.Sum64(dst[body:])
	for i := fingerprintDigits - 1; i >= 0; i-- {
		dst[at+i] = digits[sum&15]
		sum >>= 4
	}
	return dst
}

// Fingerprint reads the fingerprint out of a document made by Append.
func Fingerprint(doc []byte) string {
	if len(doc) < len(head)+fingerprintDigits || string(doc[:len(head)]) != head {
		return ""
	}
	return string(doc[len(head) : len(head)+fingerprintDigits])
}

// object appends the members of a node's row and the closing brace; opened says
// that the object has begun and has a member.
func (s *Set) object(dst []byte, n *shape.Node, row int, opened bool) []byte {
	if !opened {
		dst = append(dst, '{')
	}
	start := len(dst)
	member := func(name string) {
		if opened || len(dst) > start {
			dst = append(dst, ',')
		}
		dst = appendString(dst, name)
		dst = append(dst, ':')
	}
	rows := &s.nodes[n.ID]
	for i := range n.Fields {
		f := &n.Fields[i]
		member(f.Name)
		dst = appendValue(dst, f, rows.Value(row, f.At))
	}
	for _, id := range n.Children {
		child := s.shape.Nodes[id]
		member(child.Name)
		dst = s.related(dst, child, rows.Value(row, child.Link.OursAt))
	}
	return append(dst, '}')
}

func (s *Set) related(dst []byte, n *shape.Node, link []byte) []byte {
	l := &s.links[n.ID]
	row := int32(-1)
	if link != nil {
		if first, ok := l.first[string(link)]; ok {
			row = first
		}
	}
	if !n.Many {
		if row < 0 {
			return append(dst, "null"...)
		}
		return s.object(dst, n, int(row), false)
	}
	dst = append(dst, '[')
	for i := 0; row >= 0 && (n.Limit == 0 || i < n.Limit); i, row = i+1, l.next[row] {
		if i > 0 {
			dst = append(dst, ',')
		}
		if n.List {
			dst = appendValue(dst, &n.Fields[0], s.nodes[n.ID].Value(int(row), n.Fields[0].At))
		} else {
			dst = s.object(dst, n, int(row), false)
		}
	}
	return append(dst, ']')
}

// AppendKey appends the key of a root row in its text form.
func (s *Set) AppendKey(dst []byte, row int) []byte {
	for i := range s.shape.Root().Key {
		if i > 0 {
			dst = append(dst, ',')
		}
		dst = appendKeyPart(dst, s.nodes[0].Value(row, i))
	}
	return dst
}

// Key is the text form of a key: the values of its columns joined by commas. A ~
// in a value is written ~0, a comma ~1, and an empty value ~2, so that the form
// can be read back and is never empty.
func Key(parts ...string) string {
	var dst []byte
	for i, p := range parts {
		if i > 0 {
			dst = append(dst, ',')
		}
		dst = appendKeyPart(dst, []byte(p))
	}
	return string(dst)
}

func appendKeyPart(dst, v []byte) []byte {
	if len(v) == 0 {
		return append(dst, "~2"...)
	}
	for _, b := range v {
		switch b {
		case '~':
			dst = append(dst, "~0"...)
		case ',':
			dst = append(dst, "~1"...)
		default:
			dst = append(dst, b)
		}
	}
	return dst
}

var unescape = strings.NewReplacer("~2", "", "~1", ",", "~0", "~")

// ParseKey reads the text form of a key with so many columns.
func ParseKey(key string, columns int) ([]string, error) {
	parts := strings.Split(key, ",")
	if len(parts) != columns {
		return nil, fmt.Errorf("key %q has %d parts, but the table's key has %d columns", key, len(parts), columns)
	}
	for i, p := range parts {
		parts[i] = unescape.Replace(p)
	}
	return parts, nil
}
