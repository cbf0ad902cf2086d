package cli

import (
	"bytes"
	"testing"
)

func TestWhatActsOnATerminalIsShown(t *testing.T) {
	for text, want := range map[string]string{
		"plain\ttext\n": "plain\ttext\n", "Hütte \U0001f3d4": "Hütte \U0001f3d4", "\x1b[2J\x1b]0;title\a": `\x1b[2J\x1b]0;title\x07`, "a\rb": `a\x0db`, "\x9b31m": `\x9b31m`, "\u009b31m": `\u009b31m`,
		"abc\u202edef": `abc\u202edef`, "\x1b[8mhidden": `\x1b[8mhidden`, "\x7f": `\x7f`, "\x1b[1mbold\x1b[0m": "\x1b[1mbold\x1b[0m", "\x1b[1;31mred\x1b[0m": "\x1b[1;31mred\x1b[0m", "\x1b[1;8m": `\x1b[1;8m`,
	} {
		var out bytes.Buffer
		if n, err := (visible{&out, true}).Write([]byte(text)); err != nil || n != len(text) || out.String() != want {
			t.Errorf("%q: %q (%d, %v), want %q", text, out.String(), n, err, want)
		}
	}
	if got := shown("\x1b[1mbold", false); got != `\x1b[1mbold` {
		t.Errorf("without colour: %q", got)
	}
}
