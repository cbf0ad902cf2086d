package cli

import (
	"fmt"
	"io"
	"regexp"
	"strings"
	"unicode"
	"unicode/utf8"
)

// visible is a writer that shows what would act on a terminal: documents, keys and names are what others wrote. The
// colours that the commands use themselves are let through where colour is wanted.
type visible struct {
	to     io.Writer
	colour bool
}

// Write is all or nothing.
func (v visible) Write(b []byte) (int, error) {
	if _, err := io.WriteString(v.to, shown(string(b), v.colour)); err != nil {
		return 0, err
	}
	return len(b), nil
}

// ownColours are bold, faint, plain and the eight colours of text.
var ownColours = regexp.MustCompile(`^\x1b\[(0|1|2|22|39|3[0-7]|9[0-7])(;(0|1|2|22|39|3[0-7]|9[0-7]))*m`)

// shown writes control characters, and those that turn the direction of text, as \x1b or \u202e.
func shown(text string, colour bool) string {
	var b strings.Builder
	for i := 0; i < len(text); {
		r, size := utf8.DecodeRuneInString(text[i:])
		switch {
		case r == utf8.RuneError && size == 1 && text[i] >= 0x80 && text[i] < 0xa0: // a control character of one byte
			fmt.Fprintf(&b, `\x%02x`, text[i])
		case colour && r == 0x1b && ownColours.MatchString(text[i:]):
			size = len(ownColours.FindString(text[i:]))
			b.WriteString(text[i : i+size])
		case r < 0x20 && r != '\n' && r != '\t', r == 0x7f:
			fmt.Fprintf(&b, `\x%02x`, r)
		case r >= 0x80 && r < 0xa0, unicode.Is(unicode.Bidi_Control, r):
			fmt.Fprintf(&b, `\u%04x`, r)
		default:
			b.WriteString(text[i : i+size])
		}
		i += size
	}
	return b.String()
}
