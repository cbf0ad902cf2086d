package cli

import (
	"fmt"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"
)

func (a *App) wait() *cobra.Command {
	most := 30 * time.Second
	cmd := &cobra.Command{
		Use: "wait INDEX", Short: "Wait until searches find all committed changes",
		Long: `Returns when searches find every change that was committed before the call. For tests and scripts. After --timeout, fails and
reports the pending changes.`,
		Example: `  pingo wait huts && pingo search huts stone`,
		Args:    Exactly(1, "an index"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if most < time.Second || most > 5*time.Minute {
				return UsageError{Err: fmt.Errorf("--timeout is a time from 1s to 5m, not %s", most)}
			}
			waited, err := a.client().Wait(cmd.Context(), args[0], int(most.Seconds()))
			if err != nil {
				return err
			}
			err = a.Print(waited, func() {
				if waited.Found {
					fmt.Fprintf(a.Out, "%s is up to date. Waited %s.\n",
						waited.Index, milliseconds(float64(waited.Milliseconds), true))
				}
			})
			if err == nil && !waited.Found {
				return fmt.Errorf(
					"timed out: %s is not up to date after %s: %s",
					waited.Index,
					most,
					waited.WaitsFor,
				)
			}
			return err
		},
	}
	cmd.Flags().DurationVar(&most, "timeout", most, "maximum time to wait, 1s to 5m")
	return cmd
}

func (a *App) leftovers() *cobra.Command {
	leftovers := &cobra.Command{
		Use: "leftovers", Short: "List and remove unknown editions in the engines",
		Long: `An edition is left over when its index was removed while the engine was down, or when the records were recreated. The list
also has the editions of other Pingo services on the same engine. Remove only editions that no service uses.`,
	}
	list := &cobra.Command{
		Use: "list", Short: "List leftover editions",
		Args: Exactly(0, "no arguments"),
		RunE: func(cmd *cobra.Command, _ []string) error {
			all, err := a.client().Leftovers(cmd.Context())
			if err != nil {
				return err
			}
			return a.Print(all, func() {
				if len(all) == 0 {
					fmt.Fprintln(a.Out, "Nothing is left over: the records know every edition in the engines.")
					return
				}
				t := a.table(table.Row{"engine", "edition", "documents", "answers"}, 3)
				for _, l := range all {
					t.AppendRow(table.Row{l.Engine, l.Edition, humanize.Comma(l.Documents), l.Answers})
				}
				t.Render()
				fmt.Fprintf(
					a.Out,
					"\nTo delete one: pingo leftovers remove %s %s\n",
					all[0].Engine,
					all[0].Edition,
				)
			})
		},
	}
	var yes bool
	remove := &cobra.Command{
		Use: "remove ENGINE EDITION", Short: "Delete a leftover edition from its engine",
		Example: `  pingo leftovers remove main huts-e3-k7w2qd`,
		Args:    Exactly(2, "an engine and an edition"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if !yes {
				if err := confirm(a.Err, fmt.Sprintf("Delete edition %s from engine %s?", args[1], args[0])); err != nil {
					return err
				}
			}
			if err := a.client().RemoveLeftover(cmd.Context(), args[0], args[1]); err != nil {
				return err
			}
			fmt.Fprintf(a.Out, "Edition %s is deleted from engine %s.\n", args[1], args[0])
			return nil
		},
	}
	yesFlag(remove, &yes)
	leftovers.AddCommand(list, remove)
	return leftovers
}
