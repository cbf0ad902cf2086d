package manual

import (
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/spf13/cobra"

	"pingo/internal/cli"
	"pingo/internal/programs"
)

var (
	inline   = regexp.MustCompile("`((?:bin/)?pingo [^`]+)`")
	inBlock  = regexp.MustCompile(`(?m)^(?:    |\$ )?\s*(?:[A-Z_]+=\S+ +)*((?:bin/)?pingo [a-z].*)$`)
	chained  = regexp.MustCompile(`\s(?:&&|\|\||\||;|>|&)(?:\s|$)|\s#`)
	optional = regexp.MustCompile(`[\[\]…]`)
)

// Every command line of the manual names a command and flags that exist.
func TestCommandLinesOfTheManual(t *testing.T) {
	checked := 0
	for _, pattern := range []string{"../../README.md", docs + "/*.md", docs + "/*/*.md"} {
		pages, err := filepath.Glob(pattern)
		if err != nil {
			t.Fatal(err)
		}
		for _, page := range pages {
			text, err := os.ReadFile(page)
			if err != nil {
				t.Fatal(err)
			}
			var lines []string
			for _, m := range inline.FindAllStringSubmatch(string(text), -1) {
				lines = append(lines, m[1])
			}
			for _, m := range inBlock.FindAllStringSubmatch(string(text), -1) {
				lines = append(lines, m[1])
			}
			for _, line := range lines {
				for _, command := range chained.Split(line, -1) {
					if command = strings.TrimPrefix(strings.TrimSpace(command), "bin/"); strings.HasPrefix(command, "pingo ") {
						checked++
						if wrong := wrongWith(command); wrong != "" {
							t.Errorf("%s: %s: %s", page, command, wrong)
						}
					}
				}
			}
		}
	}
	if checked < 150 {
		t.Errorf("only %d command lines were found", checked)
	}
}

// wrongWith says what no such command line has; empty when nothing is wrong.
func wrongWith(line string) string {
	words := strings.Fields(optional.ReplaceAllString(strings.ReplaceAll(line, `\|`, " "), " "))[1:]
	root := cli.Commands(programs.Commands)
	root.InitDefaultHelpCmd()
	root.InitDefaultCompletionCmd()
	c, rest, err := root.Find(words)
	if err != nil {
		return err.Error()
	}
	if c == root && !strings.HasPrefix(words[0], "-") {
		return "there is no such command"
	}
	if c.HasSubCommands() && len(rest) > 0 && !strings.HasPrefix(rest[0], "-") && c != root {
		return "there is no command " + rest[0] + " below " + c.CommandPath()
	}
	for _, word := range rest {
		name, is := strings.CutPrefix(word, "--")
		if name, _, _ = strings.Cut(name, "="); is && name != "" && !hasFlag(c, name) {
			return "there is no flag --" + name
		}
	}
	return ""
}

func hasFlag(c *cobra.Command, name string) bool {
	name = strings.TrimRight(name, "`.,:;)\"'")
	return name == "help" || c.Flags().Lookup(name) != nil || c.InheritedFlags().Lookup(name) != nil
}
