package definition

import (
	"fmt"
	"net/url"
	"regexp"
	"strings"
)

// Secret is a text that may hold ${NAME} or ${file:path}. What is written is
// kept and shown; Pingo reads its value when a connection is made.
type Secret struct {
	Written string
	Pos     Pos
}

var reference = regexp.MustCompile(`\$\{([^}]*)\}`)

// Lookup gives the value of a reference: the text between ${ and }. The error
// says why there is none.
type Lookup func(reference string) (string, error)

// Reveal replaces every reference by its value.
func (s Secret) Reveal(look Lookup) (string, error) {
	var failed error
	out := reference.ReplaceAllStringFunc(s.Written, func(m string) string {
		v, err := look(m[2 : len(m)-1])
		if err != nil && failed == nil {
			failed = err
		}
		return v
	})
	return out, failed
}

// writtenPassword reports whether a URL carries a password, or another secret, in clear.
func writtenPassword(written string) bool {
	u, err := url.Parse(reference.ReplaceAllString(written, "x"))
	if err != nil {
		return false
	}
	_, query, _ := strings.Cut(written, "?")
	query, _, _ = strings.Cut(query, "#")
	for part := range strings.SplitSeq(query, "&") {
		name, value, _ := strings.Cut(part, "=")
		if name, err := url.QueryUnescape(name); err == nil && secretName(name) && value != "" && !reference.MatchString(value) &&
			!strings.HasPrefix(value, "/") && !strings.HasPrefix(value, "%2F") { // a file's name is none
			return true
		}
	}
	if u.User == nil {
		return false
	}
	if _, has := u.User.Password(); !has {
		return false
	}
	at := strings.LastIndex(written, "@")
	colon := strings.Index(written, "://")
	if at < 0 || colon < 0 || at < colon {
		return false
	}
	_, password, _ := strings.Cut(written[colon+3:at], ":")
	return !reference.MatchString(password)
}

// secretURL checks the url of a source or engine, which begins with one of some schemes.
// A url that is not there was complained about already.
func (d *decoder) secretURL(value scalar, what string, schemes []string) Secret {
	s := Secret{Written: value.text, Pos: value.pos}
	if value.text == "" {
		return s
	}
	if writtenPassword(value.text) {
		d.find(
			value.pos,
			fmt.Sprintf("the %s's url has a password or key written out; secrets are never stored", what),
			"put the URL into an environment variable and write ${NAME}, or into a file and write ${file:path}",
		)
		return s
	}
	revealed, err := d.reveal(s)
	if err != nil {
		d.find(value.pos, err.Error(), "set it where pingo serve runs, then try again")
		return s
	}
	u, err := url.Parse(revealed)
	if err != nil || u.Host == "" && u.Query().Get("host") == "" {
		d.find(
			value.pos,
			fmt.Sprintf("the %s's url cannot be read as a URL", what),
			"it looks like "+schemes[0]+"://user:password@host:port/…",
		)
		return s
	}
	for _, scheme := range schemes {
		if u.Scheme == scheme {
			return s
		}
	}
	d.find(
		value.pos,
		fmt.Sprintf("the %s's url begins with %s://, which this kind does not speak", what, u.Scheme),
		"begin it with "+strings.Join(schemes, ":// or ")+"://",
	)
	return s
}
