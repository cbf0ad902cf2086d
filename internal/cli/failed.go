package cli

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"pingo/internal/flow"
)

func (a *app) failed() *cobra.Command {
	failed := &cobra.Command{
		Use: "failed", Short: "List, show, retry and dismiss documents that an engine refused",
		Long: "A refused document harms nobody else: it is kept with the engine's words, gathered with others of the same cause, and\n" +
			"tried again when its row changes. When it is accepted, it leaves the list by itself.",
		Example: "  pingo failed list\n  pingo failed show huts 42\n  pingo failed retry huts --cause 5b951ac2\n  pingo failed dismiss huts 42",
	}
	var cause string
	list := &cobra.Command{
		Use: "list [INDEX]", Short: "List failed documents by cause, or those of an index one by one",
		Example: "  pingo failed list\n  pingo failed list huts\n  pingo failed list huts --cause 5b951ac2 -o json",
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) > 1 {
				return usageError{errors.New("pingo failed list takes one index, or none for all")}
			}
			index := strings.Join(args, "")
			groups, err := a.client().FailedGroups(cmd.Context(), index)
			if err != nil {
				return err
			}
			if index == "" {
				return a.print(groups, func() { a.showGroups(groups) })
			}
			documents, err := a.client().Failed(cmd.Context(), index, cause)
			if err != nil {
				return err
			}
			return a.print(documents, func() {
				a.showGroups(groups)
				if len(documents) == 0 {
					return
				}
				fmt.Fprintln(a.out)
				t := a.table(table.Row{"key", "cause", "attempts", "last", "the engine's words"}, 3)
				for _, f := range documents {
					t.AppendRow(table.Row{f.Key, f.Cause, f.Attempts, f.LastAt.Local().Format(time.DateTime), shorten(f.Reason, 100)})
				}
				t.Render()
			})
		},
	}
	list.Flags().StringVar(&cause, "cause", "", "only those of a cause")
	show := &cobra.Command{
		Use: "show INDEX KEY", Short: "Show a failed document, why it was refused, and what its row makes now", Args: exactly(2, "an index and a key"),
		Example: "  pingo failed show huts 42",
		RunE: func(cmd *cobra.Command, args []string) error {
			f, err := a.client().FailedDocument(cmd.Context(), args[0], args[1])
			if err != nil {
				return err
			}
			return a.print(f, func() { a.showFailed(f) })
		},
	}
	failed.AddCommand(list, show, a.treatFailed("retry", "Build and send failed documents again", "Sent again: %s. What came of it: pingo failed list"),
		a.treatFailed("dismiss", "Forget failed documents that were not accepted", "Dismissed: %s."))
	return failed
}

func (a *app) treatFailed(how, short, done string) *cobra.Command {
	var cause string
	var all bool
	cmd := &cobra.Command{
		Use: how + " INDEX [KEY]…", Short: short,
		Example: fmt.Sprintf("  pingo failed %s huts 42\n  pingo failed %[1]s huts --cause 5b951ac2\n  pingo failed %[1]s huts --all", how),
		RunE: func(cmd *cobra.Command, args []string) error {
			ways := 0
			for _, given := range []bool{len(args) > 1, cause != "", all} {
				if given {
					ways++
				}
			}
			if len(args) == 0 || ways != 1 {
				return usageError{fmt.Errorf("%s takes an index, and then keys, or --cause, or --all", cmd.CommandPath())}
			}
			n, err := a.client().TreatFailed(cmd.Context(), how, args[0], args[1:], cause)
			if err != nil {
				return err
			}
			return a.print(map[string]int{"documents": n}, func() { fmt.Fprintf(a.out, done+"\n", documents(int64(n))) })
		},
	}
	cmd.Flags().StringVar(&cause, "cause", "", "all of a cause, as pingo failed list names it")
	cmd.Flags().BoolVar(&all, "all", false, "all of the index")
	return cmd
}

func (a *app) showGroups(groups []flow.FailedGroup) {
	if len(groups) == 0 {
		fmt.Fprintln(a.out, "No document is refused.")
		return
	}
	for i, g := range groups {
		if i > 0 {
			fmt.Fprintln(a.out)
		}
		fmt.Fprintf(a.out, "%s  cause %s: %s since %s\n  %s\n  %s\n", g.Index, g.Cause.ID, documents(g.Documents), g.FirstAt.Local().Format(time.DateTime), g.Pattern, g.Explanation)
	}
}

func documents(n int64) string {
	if n == 1 {
		return "1 document"
	}
	return humanize.Comma(n) + " documents"
}

func (a *app) showFailed(f *flow.FailedDocument) {
	fmt.Fprintf(a.out, "%s %s was refused %d times, last at %s.\n\nThe engine's words (%s):\n  %s\n\n%s\n%s\n\nAs it was sent:\n", f.Index, f.Key, f.Attempts, f.LastAt.Local().Format(time.DateTime), f.Kind, f.Reason, f.Cause.Explanation, f.Words)
	var b bytes.Buffer
	if json.Indent(&b, f.Document, "", "  ") != nil {
		b.Write(f.Document)
	}
	field := `"` + f.Cause.Field[strings.LastIndexByte(f.Cause.Field, '.')+1:] + `":`
	for _, line := range strings.Split(b.String(), "\n") {
		mark := "  "
		if f.Cause.Field != "" && strings.HasPrefix(strings.TrimSpace(line), field) {
			mark = "> "
		}
		fmt.Fprintln(a.out, mark+line)
	}
}
