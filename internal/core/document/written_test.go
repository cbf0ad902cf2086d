package document

import (
	"strings"
	"testing"
)

// A document that an engine returns is distinguished from one that a person has changed, however the engine
// orders its members.
func TestWritten(t *testing.T) {
	set := NewSet(huts())
	set.Rows(0).Add(row("1", "7", `Alm "am" Joch`), nil)
	set.Rows(1).Add(row("7", "North\nridge"), nil)
	set.Rows(2).Add(row("1", "5"), nil)
	set.Rows(2).Add(row("1", "4"), nil)
	set.Rows(3).Add(row("1", "soup"), nil)
	for n := 1; n < 4; n++ {
		set.Link(n)
	}
	doc := string(set.Append(nil, 0))
	if !Written(huts(), []byte(doc)) {
		t.Errorf("as it was sent: %s", doc)
	}
	head, body, _ := strings.Cut(strings.Trim(doc, "{}"), ",")
	other := strings.Replace("{"+body+", "+head+"}", `{"stars":5},{"stars":4}`, `{"stars": 5}, {"stars": 4}`, 1)
	if !Written(huts(), []byte(other)) {
		t.Errorf("in another order: %s", other)
	}
	for _, forged := range []string{
		strings.Replace(doc, "soup", "soap", 1),
		strings.Replace(doc, `"stars":4`, `"stars":3`, 1),
		strings.Replace(doc, head, `"pingo_fingerprint":"0123456789abcdef"`, 1),
		strings.Replace(doc, "{", `{"price":1,`, 1),
		strings.Replace(doc, head+",", "", 1),
		`{"name":"mine"}`, `[]`, `{"pingo_fingerprint":7}`, ``,
	} {
		if forged == doc || Written(huts(), []byte(forged)) {
			t.Errorf("taken for Pingo's own: %s", forged)
		}
	}
}
