package cli

import (
	"fmt"
	"pingo/internal/api"

	"github.com/dustin/go-humanize"
	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"
)

func (a *App) reindexCompare() *cobra.Command {
	var rows int
	cmd := &cobra.Command{
		Use: "compare INDEX", Short: "Compare the documents of the live edition and another one", Args: Exactly(1, "an index"),
		Long: `Compares a sample of documents in the live edition with the next edition, or with the previous one if there is no next
one. Lists the fields that differ, the number of documents, and examples.`,
		Example: "  pingo reindex compare huts\n  pingo reindex compare huts --rows 100000",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client().Compare(cmd.Context(), args[0], rows)
			if err != nil {
				return err
			}
			return a.Print(c, func() { a.showComparison(c) })
		},
	}
	cmd.Flags().IntVar(&rows, "rows", 2000, "maximum number of rows")
	return cmd
}

func (a *App) showComparison(c *api.Comparison) {
	fmt.Fprintf(
		a.Out,
		"%s of %s rows compared, %s (old) with %s (new): %s the same, %s differ, %s in the old one only, %s in the new one only.\n",
		humanize.Comma(c.Compared),
		humanize.Comma(c.Rows),
		c.Old,
		c.New,
		humanize.Comma(c.Same),
		humanize.Comma(c.Differ),
		humanize.Comma(c.OnlyOld),
		humanize.Comma(c.OnlyNew),
	)
	if len(c.Fields) > 0 {
		fmt.Fprintln(a.Out)
		t := a.table(table.Row{"field", "changed", "added", "gone"}, 2, 3, 4)
		for _, f := range c.Fields {
			t.AppendRow(table.Row{f.Path, humanize.Comma(f.Changed), humanize.Comma(f.Added), humanize.Comma(f.Gone)})
		}
		t.Render()
	}
	const shown = 5
	for i, d := range c.Documents {
		if i == shown {
			fmt.Fprintf(a.Out, "\n-o json has %d documents that differ.\n", len(c.Documents))
			break
		}
		only := ""
		if d.Only != "" {
			only = " is in the " + d.Only + " one only"
		}
		fmt.Fprintf(a.Out, "\n%s%s\n", d.Key, only)
		for _, f := range d.Fields {
			if f.Old != nil {
				fmt.Fprintf(a.Out, "  - %s: %s\n", f.Path, shortened(string(f.Old)))
			}
			if f.New != nil {
				fmt.Fprintf(a.Out, "  + %s: %s\n", f.Path, shortened(string(f.New)))
			}
		}
	}
}

func shortened(text string) string {
	const most = 100
	if r := []rune(text); len(r) > most {
		return string(r[:most]) + "…"
	}
	return text
}

func (a *App) expect() *cobra.Command {
	return &cobra.Command{
		Use: "expect INDEX", Short: "Run the expected searches of the definition", Args: Exactly(1, "an index"),
		Long: `The key expect of the definition lists searches and the keys that they must find among the first hits. Pingo runs these
searches before it switches to another edition. This command runs them now. Exit code 1: a search misses its key.`,
		Example: "  pingo expect huts",
		RunE: func(cmd *cobra.Command, args []string) error {
			x, err := a.client().Expect(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			failed := 0
			if err := a.Print(x, func() { a.showExpected(x) }); err != nil {
				return err
			}
			for _, in := range x.Editions {
				for _, s := range in.Searches {
					if in.Answers && !s.Met {
						failed++
					}
				}
			}
			if failed > 0 {
				return fmt.Errorf("%d searches do not find what they should in the live edition", failed)
			}
			return nil
		},
	}
}

func (a *App) showExpected(x *api.Expected) {
	for _, in := range x.Editions {
		role := "is ready"
		if in.Answers {
			role = "answers"
		}
		fmt.Fprintf(a.Out, "%s %s\n", in.Edition, role)
		if len(in.Searches) == 0 {
			fmt.Fprintln(a.Out, "  The definition expects nothing: write expect below the index.")
		}
		for _, s := range in.Searches {
			met := "met  "
			if !s.Met {
				met = "fails"
			}
			fmt.Fprintf(a.Out, "  %s  %s\n", met, s.Sentence)
		}
	}
}
