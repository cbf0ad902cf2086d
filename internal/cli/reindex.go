package cli

import (
	"errors"
	"fmt"

	"github.com/spf13/cobra"

	"pingo/internal/api"
)

func (a *App) reindex() *cobra.Command {
	reindex := &cobra.Command{
		Use: "reindex", Short: "Fill an index anew beside the one that answers, and switch to it",
		Long: `Another edition of the index is filled while the one that answers is kept in sync. It takes its place when its gates have passed:
it has what its rows make, no more failed documents than the one that answers, and is not much smaller.
One that has not waits for a person, who mends what fails, has it answer all the same, or cancels it.`,
		Example: `  pingo reindex start huts
  pingo reindex show huts
  pingo reindex switch huts
  pingo reindex cancel huts`,
	}
	var noWait, yes bool
	start := &cobra.Command{
		Use: "start INDEX", Short: "Fill another edition, without a change of the definition", Args: Exactly(1, "an index"),
		Example: "  pingo reindex start huts\n  pingo reindex start huts --no-wait",
		RunE: func(cmd *cobra.Command, args []string) error {
			done, err := a.client().Reindex(cmd.Context(), args[0], api.ReindexStart)
			if err != nil {
				return err
			}
			if !noWait {
				if err := a.waitForFill(cmd.Context()); err != nil {
					return err
				}
			}
			return a.Print(done, func() {
				if noWait {
					fmt.Fprintf(a.Out, "%s is being filled: pingo reindex show %s says how far it is.\n", done.Edition, done.Index)
					return
				}
				fmt.Fprintf(a.Out, "%s answers for %s.\n", done.Edition, done.Index)
			})
		},
	}
	start.Flags().BoolVar(&noWait, "no-wait", false, "return at once, while it is being filled")
	show := &cobra.Command{
		Use: "show INDEX", Short: "Say how far it is, and which gates have passed", Args: Exactly(1, "an index"),
		Example: "  pingo reindex show huts\n  pingo reindex show huts -o json",
		RunE: func(cmd *cobra.Command, args []string) error {
			ix, err := a.indexStatus(cmd, args[0])
			if err != nil {
				return err
			}
			return a.Print(ix.Fill, func() {
				if ix.Fill == nil {
					fmt.Fprintf(a.Out, "No edition of %s is being filled; %s answers.\n", ix.Name, ix.Edition)
					return
				}
				fmt.Fprintln(a.Out, ix.Sentence)
				a.showGates(ix.Fill.Gates)
			})
		},
	}
	switchTo := &cobra.Command{
		Use: "switch INDEX", Short: "Have the edition that is ready answer, whatever its gates say", Args: Exactly(1, "an index"),
		Example: "  pingo reindex switch huts\n  pingo reindex switch huts --yes",
		RunE: func(cmd *cobra.Command, args []string) error {
			ix, err := a.indexStatus(cmd, args[0])
			if err != nil {
				return err
			}
			if ix.Fill != nil && !yes {
				fmt.Fprintln(a.Err, ix.Sentence)
				if err := confirm(a.Err, fmt.Sprintf("\nHave %s answer, and drop %s?", ix.Fill.Edition, ix.Edition)); err != nil {
					return err
				}
			}
			done, err := a.client().Reindex(cmd.Context(), args[0], api.ReindexSwitch)
			if err != nil {
				return err
			}
			return a.Print(done, func() { fmt.Fprintf(a.Out, "%s is about to answer for %s.\n", done.Edition, done.Index) })
		},
	}
	switchTo.Flags().BoolVarP(&yes, "yes", "y", false, "do not ask")
	cancel := &cobra.Command{
		Use: "cancel INDEX", Short: "Drop the edition that is being filled or is ready", Args: Exactly(1, "an index"),
		Example: "  pingo reindex cancel huts",
		RunE: func(cmd *cobra.Command, args []string) error {
			done, err := a.client().Reindex(cmd.Context(), args[0], api.ReindexCancel)
			if err != nil {
				return err
			}
			return a.Print(done, func() { fmt.Fprintf(a.Out, "%s is dropped.\n", done.Edition) })
		},
	}
	reindex.AddCommand(start, show, switchTo, cancel)
	return reindex
}

// errStopped says that an edition is filled and does not answer, since it is worse than the one that does.
var errStopped = errors.New("not switched to")

func (a *App) showGates(gates []api.Gate) {
	for _, g := range gates {
		passed := "passed"
		if !g.Passed {
			passed = "stops it"
		}
		fmt.Fprintf(a.Out, "  %-9s %-8s %s\n", g.Name, passed, g.Sentence)
	}
}

// indexStatus is how an index is.
func (a *App) indexStatus(cmd *cobra.Command, name string) (*api.IndexStatus, error) {
	status, err := a.client().Status(cmd.Context())
	if err != nil {
		return nil, err
	}
	for i := range status.Indexes {
		if status.Indexes[i].Name == name {
			return &status.Indexes[i], nil
		}
	}
	return nil, fmt.Errorf("there is no index %q: pingo status lists them", name)
}
