package cli

import (
	"math/rand/v2"
	"strings"
	"testing"
)

// What a comparison of two texts says is enough to make one of the other, and no line is removed only to be added again.
func TestUnified(t *testing.T) {
	lines := []string{"indexes:", "  huts:", "    rows: lodge.huts", "    fields:", "      - name", "      - height: Höhe", "    where: open", ""}
	r := rand.New(rand.NewPCG(1, 2))
	text := func() string {
		var out []string
		for range r.IntN(25) {
			out = append(out, lines[r.IntN(len(lines))])
		}
		return strings.Join(append(out, ""), "\n")
	}
	for range 5000 {
		from, to := text(), text()
		got := unified("from", "to", from, to)
		before, after := map[string]int{}, map[string]int{}
		var block []string
		for line := range strings.Lines(got) {
			switch {
			case strings.HasPrefix(line, "---"), strings.HasPrefix(line, "+++"):
			case strings.HasPrefix(line, "-"):
				before[line[1:]]++
				block = append(block, line[1:])
			case strings.HasPrefix(line, "+"):
				after[line[1:]]++
				if len(block) > 0 && block[0] == line[1:] {
					t.Fatalf("%q is removed and added:\n%s", line[1:], got)
				}
				block = nil
			default:
				block = nil
			}
		}
		for _, l := range strings.SplitAfter(from, "\n") {
			after[l]++
		}
		for _, l := range strings.SplitAfter(to, "\n") {
			before[l]++
		}
		for l, n := range after {
			if before[l] != n {
				t.Fatalf("%q: %d and %d\n%s\nfrom %q to %q", l, before[l], n, got, from, to)
			}
		}
	}
}
