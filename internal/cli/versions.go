package cli

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/aymanbagabas/go-udiff"
	"github.com/aymanbagabas/go-udiff/lcs"
	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/spf13/cobra"

	"pingo/internal/api"
)

func (a *App) definition() *cobra.Command {
	definition := &cobra.Command{
		Use: "definition", Short: "List, show and compare applied versions of the definition",
		Long: `Each applied definition is a version. pingo apply --version applies an earlier version again.`,
		Example: `  pingo definition list
  pingo definition show 3
  pingo definition diff 3
  pingo apply --version 3`,
	}
	list := &cobra.Command{
		Use: "list", Short: "List the versions, the newest first", Args: Exactly(0, "no arguments"),
		Example: "  pingo definition list\n  pingo definition list -o json",
		RunE: func(cmd *cobra.Command, _ []string) error {
			versions, err := a.client().DefinitionVersions(cmd.Context())
			if err != nil {
				return err
			}
			return a.Print(versions, func() {
				if len(versions) == 0 {
					fmt.Fprintln(a.Out, "No definition was applied yet: pingo apply does that.")
					return
				}
				t := a.table(table.Row{"version", "applied", "by", ""}, 1)
				for i, v := range versions {
					state := ""
					switch {
					case i == 0 && v.CarriedOut:
						state = "in force"
					case i == 0:
						state = "in force, being carried out"
					}
					t.AppendRow(table.Row{v.Version, v.AppliedAt.Local().Format(time.DateTime), v.AppliedBy, state})
				}
				t.Render()
			})
		},
	}
	show := &cobra.Command{
		Use: "show [VERSION]", Short: "Print the current definition, or a version",
		Args:    cobra.MaximumNArgs(1),
		Example: "  pingo definition show\n  pingo definition show 3 > earlier.yaml",
		RunE: func(cmd *cobra.Command, args []string) error {
			v, err := a.versionOf(cmd.Context(), args, 0)
			if err != nil {
				return err
			}
			return a.Print(v, func() {
				for i, f := range v.Files { // as pingo check - reads them
					if i > 0 {
						fmt.Fprintln(a.Out, "---")
					}
					if len(v.Files) > 1 {
						fmt.Fprintf(a.Out, "# %s\n", f.Name)
					}
					fmt.Fprint(a.Out, strings.TrimRight(f.Text, "\n")+"\n")
				}
			})
		},
	}
	diff := &cobra.Command{
		Use: "diff [FROM [TO]]", Short: "Show the differences between two versions",
		Long: `Compares the previous version with the current one, FROM with the current one, or FROM with TO.`,
		Args: cobra.MaximumNArgs(2),
		Example: `  pingo definition diff
  pingo definition diff 3
  pingo definition diff 3 5`,
		RunE: func(cmd *cobra.Command, args []string) error {
			to, err := a.versionOf(cmd.Context(), args, 1)
			if err != nil {
				return err
			}
			if len(args) == 0 {
				if to.Version == 1 {
					return errors.New("there is one version only, so there is nothing to compare it with")
				}
				args = []string{strconv.Itoa(to.Version - 1)}
			}
			from, err := a.versionOf(cmd.Context(), args, 0)
			if err != nil {
				return err
			}
			changes := compare(from, to)
			return a.Print(changes, func() {
				if len(changes) == 0 {
					fmt.Fprintf(a.Out, "Versions %d and %d are the same.\n", from.Version, to.Version)
				}
				for _, c := range changes {
					a.showDiff(c.Diff)
				}
			})
		},
	}
	definition.AddCommand(list, show, diff)
	return definition
}

// versionOf fetches the version that the argument at some place names, or the one in force.
func (a *App) versionOf(ctx context.Context, args []string, at int) (*api.DefinitionVersion, error) {
	if len(args) <= at {
		return a.client().Definition(ctx, 0)
	}
	n, err := strconv.Atoi(args[at])
	if err != nil || n < 1 {
		return nil, UsageError{Err: fmt.Errorf("a version is a number from 1, not %q: pingo definition list shows them", args[at])}
	}
	return a.client().Definition(ctx, n)
}

// changedFile is a file that two versions of a definition have differently.
type changedFile struct {
	Name string `json:"name"`
	// Diff is in the unified format.
	Diff string `json:"diff"`
}

// compare compares files of the same name, in whatever folder they were; one file with one, whatever
// it was called.
func compare(from, to *api.DefinitionVersion) []changedFile {
	nameOf := func(f api.File) string {
		if len(from.Files) == 1 && len(to.Files) == 1 {
			return path.Base(to.Files[0].Name)
		}
		return path.Base(f.Name)
	}
	texts := func(v *api.DefinitionVersion) map[string]string {
		out := map[string]string{}
		for _, f := range v.Files {
			out[nameOf(f)] += strings.TrimRight(f.Text, "\n") + "\n"
		}
		return out
	}
	before, after := texts(from), texts(to)
	both := maps.Clone(before)
	maps.Copy(both, after)
	out := []changedFile{}
	for _, name := range slices.Sorted(maps.Keys(both)) {
		if before[name] == after[name] {
			continue
		}
		out = append(out, changedFile{Name: name, Diff: unified(
			fmt.Sprintf("%s (version %d)", name, from.Version), fmt.Sprintf("%s (version %d)", name, to.Version),
			before[name], after[name])})
	}
	return out
}

// unified is the difference between two texts, line by line, in the unified format with three lines of context.
//
// The library compares characters and then widens each difference to its lines, which removes and adds lines that did not change.
// Here each distinct line represents a character.
func unified(fromName, toName, from, to string) string {
	known := map[string]rune{}
	numbered := func(lines []string) []rune {
		out := make([]rune, len(lines))
		for i, l := range lines {
			if _, there := known[l]; !there {
				known[l] = rune(len(known))
			}
			out[i] = known[l]
		}
		return out
	}
	removed, added := strings.SplitAfter(from, "\n"), strings.SplitAfter(to, "\n")
	var edits []udiff.Edit
	at, line := 0, 0
	for _, d := range lcs.DiffRunes(numbered(removed), numbered(added)) {
		at += len(strings.Join(removed[line:d.Start], ""))
		gone := len(strings.Join(removed[d.Start:d.End], ""))
		edits = append(edits, udiff.Edit{Start: at, End: at + gone, New: strings.Join(added[d.ReplStart:d.ReplEnd], "")})
		at, line = at+gone, d.End
	}
	out, err := udiff.ToUnified(fromName, toName, from, edits, udiff.DefaultContextLines)
	if err != nil {
		panic(err) // the edits do not overlap and lie within the text
	}
	return out
}

func (a *App) showDiff(diff string) {
	for line := range strings.Lines(diff) {
		colour := text.Reset
		switch {
		case !a.colour || strings.HasPrefix(line, "+++") || strings.HasPrefix(line, "---"):
		case strings.HasPrefix(line, "+"):
			colour = text.FgGreen
		case strings.HasPrefix(line, "-"):
			colour = text.FgRed
		}
		line = strings.TrimSuffix(line, "\n")
		if colour != text.Reset {
			line = colour.Sprint(line)
		}
		fmt.Fprintln(a.Out, line)
	}
}
