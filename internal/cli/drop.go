package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"pingo/internal/api"
)

func (a *App) drop() *cobra.Command {
	var yes bool
	cmd := &cobra.Command{
		Use: "drop INDEX", Short: "Drop an index: its definition, editions, public name and capture", Args: Exactly(1, "an index"),
		Long: `Removes an index from the current definition. Deletes its editions and its public name in the engine, its failed documents,
and the capture of tables that no other index reads. Shows what it deletes, and asks for confirmation.

Remove the index from your definition files too: otherwise the next pingo apply creates it again.`,
		Example: "  pingo drop huts\n  pingo drop huts --yes",
		RunE: func(cmd *cobra.Command, args []string) error {
			c := a.client()
			if !yes {
				plan, err := c.PlanDrop(cmd.Context(), args[0])
				if err != nil {
					return err
				}
				fmt.Fprint(a.Err, "This deletes:\n", removalOf(plan))
				if err := confirm(a.Err, "\nDrop "+args[0]+"?"); err != nil {
					return err
				}
			}
			dropped, err := c.Drop(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			return a.Print(dropped, func() {
				fmt.Fprintf(a.Out, "Deleted:\n%s", removalOf(dropped))
				if dropped.Pending != "" {
					fmt.Fprintf(a.Out, "Not complete: %s.\n", dropped.Pending)
				}
				if dropped.Script != "" {
					fmt.Fprintf(a.Out, "Run this as an administrator of the database:\n\n%s\n", dropped.Script)
				}
				fmt.Fprintf(a.Out, "Definition version %d is in force. Remove %s from your files too: otherwise the next pingo apply creates it again.\n",
					dropped.Version, args[0])
			})
		},
	}
	yesFlag(cmd, &yes)
	return cmd
}

// removalOf lists what goes with an index, a line each.
func removalOf(r *api.IndexRemoval) string {
	var b strings.Builder
	fmt.Fprintf(&b, "  index %s, with its failed documents\n", r.Index)
	for _, e := range r.Editions {
		live := ""
		if e.Answers {
			live = ", which is live as " + e.Index
		}
		fmt.Fprintf(&b, "  edition %s in engine %s%s\n", e.Edition, e.Engine, live)
	}
	for _, s := range r.Sources {
		what := "the capture of " + strings.Join(s.Tables, ", ")
		if s.All {
			what = "all capture: no other index reads this source"
		}
		fmt.Fprintf(&b, "  source %s: %s\n", s.Source, what)
	}
	return b.String()
}

func (a *App) uninstall() *cobra.Command {
	var yes bool
	cmd := &cobra.Command{
		Use: "uninstall", Short: "Delete everything that Pingo created in sources and engines", Args: Exactly(0, "no arguments"),
		Long: `Drops all indexes with their editions and public names, removes capture from all sources, and says what is left to delete by
hand. Run pingo export first to keep the definition.`,
		Example: "  pingo export leaving/ && pingo uninstall\n  pingo uninstall --yes",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, ctx := a.client(), cmd.Context()
			x, err := c.Export(ctx)
			if err != nil {
				return err
			}
			status, err := c.Status(ctx)
			if err != nil {
				return err
			}
			if !yes {
				for _, ix := range status.Indexes {
					plan, err := c.PlanDrop(ctx, ix.Name)
					if err != nil {
						return err
					}
					fmt.Fprint(a.Err, removalOf(plan))
				}
				if err := confirm(a.Err, "\nDelete all of this? Searches on these names fail afterwards."); err != nil {
					return err
				}
			}
			out := uninstalled{Dropped: []*api.IndexRemoval{}, Left: []string{}}
			for _, ix := range status.Indexes {
				dropped, err := c.Drop(ctx, ix.Name)
				if err != nil {
					return fmt.Errorf("index %s: %w", ix.Name, err)
				}
				out.Dropped = append(out.Dropped, dropped)
				if dropped.Pending != "" && dropped.Script == "" { // the whole capture is removed below
					out.Left = append(out.Left, dropped.Pending)
				}
			}
			for _, s := range x.Sources {
				if s.Script == "" && s.Missing == "" {
					continue // nothing of Pingo is in it
				}
				if _, err := c.RemoveCapture(ctx, s.Source); err != nil {
					out.Left = append(out.Left, fmt.Sprintf("the capture in source %s: Pingo could not remove it (%v). Run this as an administrator of the database:\n\n%s", s.Source, err, s.Script))
				}
			}
			for _, e := range x.Engines {
				if e.Leaves != "" {
					out.Left = append(out.Left, fmt.Sprintf("engine %s (%s) keeps %s", e.Engine, e.Address, e.Leaves))
				}
			}
			return a.Print(out, func() {
				fmt.Fprintln(a.Out, "Deleted:")
				for _, d := range out.Dropped {
					fmt.Fprint(a.Out, removalOf(d))
				}
				fmt.Fprintln(a.Out, "What is left:")
				for _, left := range out.Left {
					fmt.Fprintf(a.Out, "  %s\n", left)
				}
				fmt.Fprintln(a.Out, "  the records: stop pingo serve, then drop the database of PINGO_RECORDS_URL or delete the folder of --records-dir")
			})
		},
	}
	yesFlag(cmd, &yes)
	return cmd
}

// uninstalled is what pingo uninstall deleted, and what is left to do by hand.
type uninstalled struct {
	Dropped []*api.IndexRemoval `json:"dropped"`
	Left    []string            `json:"left"`
}
