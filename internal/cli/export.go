package cli

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"pingo/internal/api"
)

func (a *App) export() *cobra.Command {
	return &cobra.Command{
		Use: "export FOLDER", Short: "Export the definition, and the steps to remove Pingo", Args: Exactly(1, "a folder"),
		Long: `Writes the current definition and leaving.md into a folder. leaving.md has the SQL that removes Pingo from each source, and
lists the indexes that stay in the engines. Changes nothing, and overwrites no files.`,
		Example: "  pingo export leaving/",
		RunE: func(cmd *cobra.Command, args []string) error {
			x, err := a.client().Export(cmd.Context())
			if err != nil {
				return err
			}
			if err := os.MkdirAll(args[0], 0o755); err != nil {
				return err
			}
			files := []api.File{{Name: "leaving.md", Text: leaving(x)}}
			for _, f := range x.Files {
				name := filepath.Base(f.Name)
				if ext := filepath.Ext(name); ext != ".yaml" && ext != ".yml" {
					name = "pingo.yaml" // it came from standard input or the console
				}
				files = append(files, api.File{Name: name, Text: f.Text})
			}
			var written []string
			for _, f := range files {
				path := filepath.Join(args[0], f.Name)
				out, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
				if err != nil {
					return fmt.Errorf("%s is not written: %w", path, err)
				}
				_, err = out.WriteString(f.Text)
				if closed := out.Close(); err == nil {
					err = closed
				}
				if err != nil {
					return fmt.Errorf("%s is not written: %w", path, err)
				}
				written = append(written, path)
			}
			return a.Print(written, func() { fmt.Fprintln(a.Out, "Written: "+strings.Join(written, ", ")) })
		},
	}
}

// leaving says what is of Pingo in sources and engines, and how it goes.
func leaving(x *api.Export) string {
	var b strings.Builder
	fmt.Fprintf(
		&b,
		"# Leaving Pingo\n\nThe other files in this folder are version %d of the definition.\n\n## Sources\n",
		x.Version,
	)
	for _, s := range x.Sources {
		fmt.Fprintf(&b, "\n### %s\n\n", s.Source)
		if s.Missing != "" {
			fmt.Fprintf(&b, "What is of Pingo in it is not known: %s. Export again when it answers.\n", s.Missing)
			continue
		}
		if s.Script == "" {
			fmt.Fprintln(&b, "Nothing of Pingo is in it.")
			continue
		}
		fmt.Fprintf(
			&b,
			"`pingo capture remove --source %s` does this, or run it in the database of `%s` after pingo serve has ended:\n\n```sql\n%s```\n",
			s.Source,
			s.Database,
			s.Script,
		)
	}
	fmt.Fprint(&b, "\n## Engines\n\nThese indexes stay in the engine, without further updates, until you delete them:\n\n")
	for _, e := range x.Editions {
		answers := ""
		if e.Answers {
			answers = ", which answers under the name " + e.Index
		}
		fmt.Fprintf(&b, "- engine %s: %s%s\n", e.Engine, e.Edition, answers)
	}
	for _, e := range x.Engines {
		if e.Leaves != "" {
			fmt.Fprintf(&b, "\nIn engine %s (`%s`), Pingo also leaves %s.\n", e.Engine, e.Address, e.Leaves)
		}
	}
	fmt.Fprint(&b, "\n## Records\n\nYou can drop the database of PINGO_RECORDS_URL.\n")
	return b.String()
}
