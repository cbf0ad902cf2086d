package cli

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"pingo/internal/api"
	"pingo/internal/client"
)

func (a *App) failed() *cobra.Command {
	failed := &cobra.Command{
		Use: "failed", Short: "List, show, retry and dismiss documents that an engine rejected",
		Long: "A rejected document does not delay others. Pingo records it with the engine's message, groups it by cause, and retries it\n" +
			"when its row changes. It leaves the list when the engine accepts it.",
		Example: `  pingo failed list
  pingo failed show huts 42
  pingo failed retry huts --cause 5b951ac2
  pingo failed dismiss huts 42`,
	}
	var cause string
	list := &cobra.Command{
		Use: "list [INDEX]", Short: "List failed documents by cause, or those of an index one by one",
		Example: `  pingo failed list
  pingo failed list huts
  pingo failed list huts --cause 5b951ac2 -o json`,
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) > 1 {
				return UsageError{Err: errors.New("pingo failed list takes one index, or none for all")}
			}
			index := strings.Join(args, "")
			groups, err := a.client().FailedGroups(cmd.Context(), index)
			if err != nil {
				return err
			}
			if index == "" {
				return a.Print(groups, func() { a.showGroups(groups) })
			}
			documents, err := a.client().Failed(cmd.Context(), index, cause)
			if err != nil {
				return err
			}
			return a.Print(documents, func() {
				a.showGroups(groups)
				if len(documents) == 0 {
					return
				}
				fmt.Fprintln(a.Out)
				t := a.table(table.Row{"key", "cause", "attempts", "last", "reason"}, 3)
				for _, f := range documents {
					t.AppendRow(
						table.Row{
							f.Key,
							f.Cause,
							f.Attempts,
							f.LastAt.Local().Format(time.DateTime),
							shorten(f.Reason, 100),
						},
					)
				}
				t.Render()
			})
		},
	}
	list.Flags().StringVar(&cause, "cause", "", "only documents with this cause")
	show := &cobra.Command{
		Use:     "show INDEX KEY",
		Short:   "Show a failed document, the engine's message, and the document that its row makes now",
		Args:    Exactly(2, "an index and a key"),
		Example: "  pingo failed show huts 42",
		RunE: func(cmd *cobra.Command, args []string) error {
			f, err := a.client().FailedDocument(cmd.Context(), args[0], args[1])
			if err != nil {
				return err
			}
			return a.Print(f, func() { a.showFailed(f) })
		},
	}
	failed.AddCommand(
		list,
		show,
		a.treatFailed(
			"retry",
			"Build and send failed documents again",
			"Sent again: %s. What came of it: pingo failed list",
			(*client.Client).RetryFailed,
		),
		a.treatFailed(
			"dismiss",
			"Remove failed documents from the list",
			"Dismissed: %s.",
			(*client.Client).DismissFailed,
		),
	)
	return failed
}

func (a *App) treatFailed(
	how, short, done string,
	treat func(c *client.Client, ctx context.Context, index string, which api.FailedSelection) (int, error),
) *cobra.Command {
	var cause string
	var all, yes bool
	cmd := &cobra.Command{
		Use: how + " INDEX [KEY]…", Short: short,
		Example: fmt.Sprintf(
			"  pingo failed %s huts 42\n  pingo failed %[1]s huts --cause 5b951ac2\n  pingo failed %[1]s huts --all",
			how,
		),
		RunE: func(cmd *cobra.Command, args []string) error {
			ways := 0
			for _, given := range []bool{len(args) > 1, cause != "", all} {
				if given {
					ways++
				}
			}
			if len(args) == 0 || ways != 1 {
				return UsageError{
					Err: fmt.Errorf(
						"%s takes an index, and then keys, or --cause, or --all",
						cmd.CommandPath(),
					),
				}
			}
			if how == "dismiss" && !yes {
				if err := confirm(a.Err, "Remove these documents from the list?"); err != nil {
					return err
				}
			}
			n, err := treat(
				a.client(),
				cmd.Context(),
				args[0],
				api.FailedSelection{Keys: args[1:], Cause: cause, All: all},
			)
			if err != nil {
				return err
			}
			return a.Print(
				api.DocumentCount{Documents: n},
				func() { fmt.Fprintf(a.Out, done+"\n", documents(int64(n))) },
			)
		},
	}
	cmd.Flags().StringVar(&cause, "cause", "", "all documents with this cause; see pingo failed list")
	cmd.Flags().BoolVar(&all, "all", false, "all failed documents of the index")
	if how == "dismiss" {
		yesFlag(cmd, &yes)
	}
	return cmd
}

func (a *App) showGroups(groups []api.FailedGroup) {
	if len(groups) == 0 {
		fmt.Fprintln(a.Out, "No document is failed.")
		return
	}
	for i, g := range groups {
		if i > 0 {
			fmt.Fprintln(a.Out)
		}
		fmt.Fprintf(
			a.Out,
			"%s  cause %s: %s since %s\n  %s\n  %s\n",
			g.Index,
			g.Cause,
			documents(g.Documents),
			g.FirstAt.Local().Format(time.DateTime),
			g.Pattern,
			g.Explanation,
		)
	}
}

func documents(n int64) string {
	if n == 1 {
		return "1 document"
	}
	return humanize.Comma(n) + " documents"
}

func (a *App) showFailed(f *api.FailedDetail) {
	fmt.Fprintf(
		a.Out,
		"%s %s failed %s, last at %s.\n\nReason (%s):\n  %s\n\n%s\n%s\n",
		f.Index,
		f.Key,
		times(f.Attempts),
		f.LastAt.Local().Format(time.DateTime),
		f.Kind,
		f.Reason,
		f.Explanation,
		f.Verdict,
	)
	if isNull(f.Document) {
		return // none could be built
	}
	fmt.Fprintln(a.Out, "\nAs it was sent:")
	field := `"` + f.Field[strings.LastIndexByte(f.Field, '.')+1:] + `":`
	for _, line := range strings.Split(indented(f.Document), "\n") {
		mark := "  "
		if f.Field != "" && strings.HasPrefix(strings.TrimSpace(line), field) {
			mark = "> "
		}
		fmt.Fprintln(a.Out, mark+line)
	}
}

func times(n int) string {
	switch n {
	case 1:
		return "once"
	case 2:
		return "twice"
	}
	return humanize.Comma(int64(n)) + " times"
}
