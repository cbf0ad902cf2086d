package retry

import (
	"fmt"
	"regexp"
	"strings"

	"github.com/cespare/xxhash/v2"
)

// Cause is what several refusals have in common.
type Cause struct {
	// ID is short and the same for the same cause.
	ID string `json:"id"`
	// Pattern is the engine's words without what differs from document to document.
	Pattern string `json:"pattern"`
	// Field is the document's field at fault, as far as the words tell.
	Field string `json:"field,omitempty"`
	// Explanation says what it means and what to do.
	Explanation string `json:"explanation"`
}

var (
	quoted  = regexp.MustCompile(`\B'[^']*'|"[^"]*"`) // not the ' of a word such as field's
	numbers = regexp.MustCompile(`\d+`)

	notOfType    = regexp.MustCompile(`failed to parse field \[([^\]]+)\] of type \[([^\]]+)\]`)
	unknownField = regexp.MustCompile(`introduction of \[([^\]]+)\] within \[([^\]]+)\]`)
	tableType    = regexp.MustCompile(`^field (\S+) is (\S+), which .* is not$`)
	tableUnknown = regexp.MustCompile(`^the document has a field (\S+), which the edition does not$`)
)

// CauseOf reads a refusal: the engine's kind of error and its words.
func CauseOf(kind, reason string) Cause {
	pattern := reason
	if m := tableType.FindStringSubmatch(reason); m != nil {
		pattern = fmt.Sprintf("field %s is %s, which … is not", m[1], m[2])
	}
	pattern = numbers.ReplaceAllString(quoted.ReplaceAllString(pattern, "…"), "#")
	c := Cause{ID: fmt.Sprintf("%08x", uint32(xxhash.Sum64String(kind+"\n"+pattern))), Pattern: pattern}
	typed := func(field, kind string) {
		c.Field = field
		c.Explanation = fmt.Sprintf("The engine keeps %s as %s, and the value is none. Correct the row, or give the field a type that fits (type: or sql: in the definition, and a reindex).", field, kind)
	}
	unknown := func(field string) {
		c.Field = field
		c.Explanation = fmt.Sprintf("The edition does not know the field %s. Somebody changed its mapping, or it is of another definition: a reindex makes it anew.", field)
	}
	switch {
	case kind == "source":
		c.Explanation = "The row cannot be read: an expression of the definition fails on its values. Correct the row or the expression."
	case kind == "request":
		c.Explanation = "The engine does not take a request with this document alone in it. It is too large or malformed for it: put less into the document (limit: on long lists), or raise the engine's limit."
	case strings.Contains(reason, "id is too long"):
		c.Explanation = "The key is longer than the 512 bytes that the engine takes. A shorter primary key is needed."
	default:
		if m := notOfType.FindStringSubmatch(reason); m != nil {
			typed(m[1], m[2])
		} else if m := tableType.FindStringSubmatch(reason); m != nil {
			typed(m[1], m[2])
		} else if m := unknownField.FindStringSubmatch(reason); m != nil {
			unknown(strings.TrimPrefix(m[2]+"."+m[1], "_doc."))
		} else if m := tableUnknown.FindStringSubmatch(reason); m != nil {
			unknown(m[1])
		} else {
			c.Explanation = "The engine refuses the document for the reason that it gives. When row or engine are mended, retry it."
		}
	}
	return c
}
