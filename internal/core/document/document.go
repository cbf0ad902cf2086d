package document

import (
	"encoding/hex"
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"

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
	if s.tree.Name != "" {
		dst = append(dst, `,"`+definition.RowsField+`":"`...)
		dst = append(append(dst, s.tree.Name...), '"')
	}
	dst = s.object(dst, s.tree.Root(), row, true)
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
	start, names := len(dst), s.names[n.ID]
	member := func(i int) {
		if opened || len(dst) > start {
			dst = append(dst, ',')
		}
		dst = append(dst, names[i]...)
	}
	rows := &s.nodes[n.ID]
	for i := range n.Fields {
		f := &n.Fields[i]
		member(i)
		if f.At < 0 {
			dst = s.combined(dst, n, f, row)
			continue
		}
		dst = appendValue(dst, f, rows.Value(row, f.At))
	}
	for i, id := range n.Children {
		member(len(n.Fields) + i)
		dst = s.related(dst, s.tree.Nodes[id], row)
	}
	return append(dst, '}')
}

func (s *Set) related(dst []byte, n *shape.Node, parentRow int) []byte {
	row := s.first(n, parentRow)
	if !n.Many {
		if row < 0 {
			return append(dst, "null"...)
		}
		return s.object(dst, n, int(row), false)
	}
	dst = append(dst, '[')
	for i := 0; row >= 0 && (n.Limit == 0 || i < n.Limit); i, row = i+1, s.links[n.ID].next[row] {
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

// first finds the first row of a node that belongs to a row of its parent, -1 when
// there is none.
func (s *Set) first(n *shape.Node, parentRow int) int32 {
	if key, ok := s.tuple(n.Parent, parentRow, n.Link.OursAt); ok {
		if row, ok := s.links[n.ID].first[key]; ok {
			return row
		}
	}
	return -1
}

// combined appends the texts that a combined field joins, with blanks between them;
// null when there are none.
func (s *Set) combined(dst []byte, n *shape.Node, f *shape.Field, row int) []byte {
	start := len(dst)
	dst = append(dst, '"')
	var walk func(n *shape.Node, row int, part *shape.Part, depth int)
	walk = func(n *shape.Node, row int, part *shape.Part, depth int) {
		if depth == len(part.Nodes) {
			field := &n.Fields[part.Field]
			dst = appendWords(dst, field, s.nodes[n.ID].Value(row, field.At), len(dst) > start+1)
			return
		}
		child := s.tree.Nodes[part.Nodes[depth]]
		at := s.first(child, row)
		for i := 0; at >= 0 && (child.Limit == 0 || i < child.Limit); i, at = i+1, s.links[child.ID].next[at] {
			walk(child, int(at), part, depth+1)
			if !child.Many {
				break
			}
		}
	}
	for i := range f.Combine {
		walk(n, row, &f.Combine[i], 0)
	}
	if len(dst) == start+1 {
		return append(dst[:start], "null"...)
	}
	return append(dst, '"')
}

// AppendKey appends the key of a root row in its text form.
func (s *Set) AppendKey(dst []byte, row int) []byte {
	if s.tree.Name != "" {
		dst = append(append(dst, s.tree.Name...), ',')
	}
	for i := range s.tree.Root().Key {
		if i > 0 {
			dst = append(dst, ',')
		}
		dst = appendKeyPart(dst, s.nodes[0].Value(row, i))
	}
	return dst
}

// Key is the text form of a key: the tree's name where an index has several, and
// the values of the key's columns, joined by commas. A ~ in a value is written ~0, a
// comma ~1, an empty value ~2, and what no text may have, as the character 0 and bytes that
// are not UTF-8, ~x and two hexadecimal digits for each byte: so that the form can be read
// back, is never empty, and can be kept anywhere.
func Key(t *shape.Tree, values ...string) string {
	var dst []byte
	if t.Name != "" {
		dst = append(append(dst, t.Name...), ',')
	}
	for i, v := range values {
		if i > 0 {
			dst = append(dst, ',')
		}
		dst = appendKeyPart(dst, []byte(v))
	}
	return string(dst)
}

func appendKeyPart(dst, v []byte) []byte {
	if len(v) == 0 {
		return append(dst, "~2"...)
	}
	for i := 0; i < len(v); {
		n := 1
		switch b := v[i]; {
		case b == '~':
			dst = append(dst, "~0"...)
		case b == ',':
			dst = append(dst, "~1"...)
		case b == 0:
			dst = append(dst, "~x00"...)
		case b < utf8.RuneSelf:
			dst = append(dst, b)
		default:
			var r rune
			if r, n = utf8.DecodeRune(v[i:]); r == utf8.RuneError && n == 1 {
				dst = hex.AppendEncode(append(dst, "~x"...), v[i:i+1])
			} else {
				dst = append(dst, v[i:i+n]...)
			}
		}
		i += n
	}
	return dst
}

// keyPart reads a value back. A ~ without a known escape is an ordinary character.
func keyPart(text string) string {
	if !strings.Contains(text, "~") {
		return text
	}
	var dst []byte
	for i := 0; i < len(text); i++ {
		switch rest := text[i:]; {
		case strings.HasPrefix(rest, "~0"):
			dst = append(dst, '~')
		case strings.HasPrefix(rest, "~1"):
			dst = append(dst, ',')
		case strings.HasPrefix(rest, "~2"):
		case strings.HasPrefix(rest, "~x") && len(rest) > 3:
			b, err := hex.DecodeString(rest[2:4])
			if err != nil {
				dst = append(dst, '~')
				continue
			}
			dst = append(dst, b...)
			i += 2
		default:
			dst = append(dst, text[i])
			continue
		}
		i++
	}
	return string(dst)
}

// ParseKey reads the text form of a key: which tree of the shape it is of, and the
// values of its columns.
func ParseKey(s *shape.Shape, key string) (tree int, values []string, err error) {
	values = strings.Split(key, ",")
	if s.Trees[0].Name != "" {
		tree = slices.IndexFunc(s.Trees, func(t *shape.Tree) bool { return t.Name == values[0] })
		if tree < 0 {
			names := make([]string, len(s.Trees))
			for i, t := range s.Trees {
				names[i] = t.Name
			}
			return 0, nil, fmt.Errorf(
				"key %q does not begin with the name of its rows and a comma: %s",
				key,
				strings.Join(names, ", "),
			)
		}
		values = values[1:]
	}
	if columns := len(s.Trees[tree].Root().Key); len(values) != columns {
		return 0, nil, fmt.Errorf(
			"key %q has %d parts, but the table's key has %d columns",
			key,
			len(values),
			columns,
		)
	}
	for i, v := range values {
		values[i] = keyPart(v)
	}
	return tree, values, nil
}
