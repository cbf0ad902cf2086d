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
	ID string
	// Pattern is the words of the refusal without what differs from document to document.
	Pattern string
	// Field is the document's field at fault, as far as the words tell.
	Field string
	// Explanation says what it means and what to do.
	Explanation string
}

// CauseOf makes a cause, whose ID follows from kind and pattern.
func CauseOf(kind, pattern, field, explanation string) Cause {
	return Cause{
		fmt.Sprintf("%08x", uint32(xxhash.Sum64String(kind+"\n"+pattern))),
		pattern,
		field,
		explanation,
	}
}

// AsTheEngineSays explains a refusal of an unknown kind.
const AsTheEngineSays = "The engine rejects the document with the given reason. Fix the row or the engine, then retry."

var (
	quoted  = regexp.MustCompile(`\B'[^']*'|"[^"]*"`) // not the ' of a word such as field's
	numbers = regexp.MustCompile(`SQLSTATE \w+|\d+`)
)

// Pattern takes quoted words and numbers out of a refusal's words, but for the codes of a database's errors.
func Pattern(reason string) string {
	return numbers.ReplaceAllStringFunc(quoted.ReplaceAllString(reason, "…"), func(m string) string {
		if strings.HasPrefix(m, "SQLSTATE") {
			return m
		}
		return "#"
	})
}

// WrongType explains a value that does not fit its field.
func WrongType(kind, pattern, field, is string) Cause {
	return CauseOf(
		kind,
		pattern,
		field,
		fmt.Sprintf(
			"The engine keeps %s as %s, and the value is not one. Correct the row, or give the field a type that fits (type: or sql: in the definition, and a reindex).",
			field,
			is,
		),
	)
}

// UnknownField explains a field that the edition was not made for.
func UnknownField(kind, pattern, field string) Cause {
	return CauseOf(
		kind,
		pattern,
		field,
		fmt.Sprintf(
			"The edition does not know the field %s. Its mapping was changed, or it belongs to another definition. Run a reindex to recreate it.",
			field,
		),
	)
}
