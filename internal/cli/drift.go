package cli

import (
	"context"
	"fmt"
	"maps"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/schollz/progressbar/v3"
	"github.com/spf13/cobra"

	"pingo/internal/api"
)

func (a *App) drift() *cobra.Command {
	drift := &cobra.Command{
		Use: "drift", Short: "Compare the documents of an index with the rows of the database",
		Long: `Finds documents that are missing, stale, altered in the engine, or without a row. Pingo compares every index continuously
and slowly in the background; pingo drift check compares it now. Differences that a pending change explains do not count.`,
		Example: `  pingo drift show huts
  pingo drift check huts
  pingo drift check huts --sample 5000
  pingo drift check huts --repair`,
	}
	drift.AddCommand(a.driftShow(), a.driftCheck(), a.driftStop())
	return drift
}

func (a *App) driftShow() *cobra.Command {
	var kind, cause string
	var limit int
	cmd := &cobra.Command{
		Use: "show INDEX", Short: "Show the results of comparisons: proven share, differences, causes", Args: Exactly(1, "an index"),
		Example: "  pingo drift show huts\n  pingo drift show huts --kind missing --limit 1000",
		RunE: func(cmd *cobra.Command, args []string) error {
			d, err := a.client().Drift(cmd.Context(), args[0], kind, cause, limit)
			if err != nil {
				return err
			}
			return a.Print(d, func() { a.showDrift(d) })
		},
	}
	cmd.Flags().StringVar(&kind, "kind", "", "only documents that are missing, stale, altered or orphaned")
	cmd.Flags().StringVar(&cause, "cause", "", "only documents with this cause")
	cmd.Flags().IntVar(&limit, "limit", 20, "maximum number of documents to list")
	return cmd
}

func (a *App) showDrift(d *api.Drift) {
	fmt.Fprintf(a.Out, "%s: %s.\n", d.Edition, d.Status.Sentence)
	if d.Status.CheckedAt != nil {
		down := func(share float64) string { return fmt.Sprintf("%g%%", math.Floor(share*1000)/10) } // never up to all
		fmt.Fprintf(a.Out, "  %s within an hour · %s within a day · %s within a week, of %s rows\n",
			down(d.Status.Hour), down(d.Status.Day), down(d.Status.Week), humanize.Comma(d.Rows))
	}
	if d.Status.Differing == 0 {
		fmt.Fprintln(a.Out, "No document is known to differ.")
	}
	for _, c := range d.Causes {
		fmt.Fprintf(a.Out, "\n%s: %s\n  %s\n", c.Cause, documents(c.Count), c.Sentence)
	}
	if len(d.Differences) > 0 {
		fmt.Fprintln(a.Out)
		t := a.table(table.Row{"key", "kind", "likeliest cause", "found"})
		for _, x := range d.Differences {
			t.AppendRow(table.Row{x.Key, x.Kind, x.Cause, x.FoundAt.Local().Format(time.DateTime)})
		}
		t.Render()
		if more := d.Matching - int64(len(d.Differences)); more > 0 {
			fmt.Fprintf(a.Out, "and %s more\n", humanize.Comma(more))
		}
		fmt.Fprintf(a.Out, "pingo repair %s fixes them; pingo trace %s KEY explains one.\n", d.Index, d.Index)
	}
	if len(d.Orders) > 0 {
		fmt.Fprintln(a.Out)
		t := a.table(table.Row{"#", "asked", "by", "what", "came of it"}, 1)
		for _, o := range d.Orders[:min(10, len(d.Orders))] {
			t.AppendRow(table.Row{o.ID, o.AskedAt.Local().Format(time.DateTime), o.By, o.Asked.Action, o.Sentence})
		}
		t.Render()
	}
}

func (a *App) driftCheck() *cobra.Command {
	var noWait, repair, report bool
	var content string
	action := api.DriftAction{Action: api.DriftCheck}
	cmd := &cobra.Command{
		Use: "check INDEX", Short: "Compare an index with the database now", Args: Exactly(1, "an index"),
		Long: `Compares all rows and documents, or a part. Exit code 1: documents differ and were not repaired.`,
		Example: `  pingo drift check huts
  pingo drift check huts --sample 5000
  pingo drift check huts --after 1000 --upto 2000 --content 10%
  pingo drift check huts --repair --documents 500`,
		RunE: func(cmd *cobra.Command, args []string) error {
			if content != "" {
				percent, err := strconv.ParseFloat(strings.TrimSuffix(content, "%"), 64)
				if err != nil || !strings.HasSuffix(content, "%") || !(percent >= 0 && percent <= 100) {
					return UsageError{Err: fmt.Errorf("--content is a share such as 10%%, not %q", content)}
				}
				share := percent / 100
				action.Content = &share
			}
			switch {
			case repair && report:
				return UsageError{Err: fmt.Errorf("--repair and --report say two things")}
			case repair:
				action.Repair = "all"
			case report:
				action.Repair = "report"
			}
			return a.order(cmd.Context(), args[0], action, noWait)
		},
	}
	f := cmd.Flags()
	f.Int64Var(&action.Sample, "sample", 0, "compare a sample of this number of documents")
	f.StringVar(&action.After, "after", "", "compare keys greater than this one")
	f.StringVar(&action.Upto, "upto", "", "compare keys up to and including this one")
	f.StringVar(&action.Edition, "edition", "", "compare this edition instead of the live one")
	f.StringVar(&content, "content", "", "share of documents whose content is compared, such as 10% (default: 100%)")
	f.Int64Var(&action.Documents, "documents", 0, "maximum number of documents per second")
	f.BoolVar(&repair, "repair", false, "repair differences")
	f.BoolVar(&report, "report", false, "repair nothing, even if the definition enables repairs")
	f.BoolVar(&action.Deletes, "deletes", false, "with --repair: allow deleting more than 1% of the documents")
	f.BoolVar(&noWait, "no-wait", false, "return before it ends")
	return cmd
}

func (a *App) driftStop() *cobra.Command {
	return &cobra.Command{
		Use: "stop INDEX NUMBER", Short: "Stop a check or a repair", Args: Exactly(2, "an index and the number of a check"),
		Example: "  pingo drift stop huts 7",
		RunE: func(cmd *cobra.Command, args []string) error {
			id, err := strconv.ParseInt(args[1], 10, 64)
			if err != nil {
				return UsageError{
					Err: fmt.Errorf("a check has a number, as pingo drift show lists it, not %q", args[1]),
				}
			}
			o, err := a.client().AskDrift(cmd.Context(), args[0], api.DriftAction{Action: api.DriftStop, ID: id})
			if err != nil {
				return err
			}
			return a.Print(o, func() { fmt.Fprintln(a.Out, o.Sentence) })
		},
	}
}

// order asks for a check or a repair, waits until it ends, and prints its outcome.
func (a *App) order(ctx context.Context, index string, action api.DriftAction, noWait bool) error {
	o, err := a.client().AskDrift(ctx, index, action)
	if err != nil {
		return err
	}
	if noWait {
		return a.Print(o, func() {
			fmt.Fprintf(a.Out, "Number %d was asked for: pingo drift show %s says how far it is.\n", o.ID, index)
		})
	}
	var bar *progressbar.ProgressBar
	said := ""
	for o.EndedAt == nil {
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(200 * time.Millisecond):
		}
		if o, err = a.client().DriftOrder(ctx, index, o.ID); err != nil {
			return err
		}
		switch {
		case o.Problem != "" && o.Problem != said:
			said = o.Problem
			fmt.Fprintln(a.Err, o.Sentence)
		case !watched() || o.Rows == 0:
		default:
			if bar == nil {
				bar = progressbar.NewOptions64(2*max(o.Rows, 1), progressbar.OptionSetWriter(a.bars),
					progressbar.OptionOnCompletion(func() { fmt.Fprintln(a.Err) }))
			}
			bar.Describe(
				fmt.Sprintf(
					"%s of %s rows, %d differ",
					humanize.Comma(o.Compared),
					humanize.Comma(o.Rows),
					o.Differing,
				),
			)
			_ = bar.Set64(min(o.Compared+o.Scanned, 2*max(o.Rows, 1))) // a bar that is not drawn is no failure
		}
	}
	if bar != nil {
		_ = bar.Finish()
	}
	if err := a.Print(o, func() { a.showOrder(o) }); err != nil {
		return err
	}
	if o.Problem != "" || o.Differing > o.Repaired || o.Unsettled > 0 {
		return exitWith(exitError)
	}
	return nil
}

func (a *App) showOrder(o *api.DriftOrder) {
	fmt.Fprintf(a.Out, "%s: %s\n", o.Edition, o.Sentence)
	if o.BeganAt == nil || o.EndedAt == nil {
		return
	}
	for _, cause := range slices.Sorted(maps.Keys(o.Causes)) {
		fmt.Fprintf(a.Out, "  %s: %s\n", cause, documents(o.Causes[cause]))
	}
	if o.Asked.Action != api.DriftCheck {
		return
	}
	fmt.Fprintf(
		a.Out,
		"  took %s; %s of the engine looked up, %s read as a whole, %s requests for the others\n",
		inWords(
			o.EndedAt.Sub(*o.BeganAt).Seconds(),
		),
		documents(o.Scanned),
		humanize.Comma(o.Fetched),
		humanize.Comma(o.Requests),
	)
}

func (a *App) repair() *cobra.Command {
	var dry, yes bool
	action := api.DriftAction{Action: api.DriftRepair}
	cmd := &cobra.Command{
		Use: "repair INDEX [KEY...]", Short: "Rebuild documents that differ, or documents by key",
		Args: func(cmd *cobra.Command, args []string) error {
			if len(args) == 0 {
				return UsageError{
					Err: fmt.Errorf("%s takes an index, and keys if only those are meant", cmd.CommandPath()),
				}
			}
			return nil
		},
		Long: `Rebuilds documents from their current rows and sends them, deletes documents without a row, and compares them again.
Without keys, repairs the documents that the last check found.`,
		Example: `  pingo repair huts 42
  pingo repair huts --dry-run
  pingo repair huts --kind missing
  pingo repair huts --yes`,
		RunE: func(cmd *cobra.Command, args []string) error {
			action.Keys = args[1:]
			if len(action.Keys) == 0 {
				d, err := a.client().Drift(cmd.Context(), args[0], action.Kind, action.Cause, 20)
				if err != nil {
					return err
				}
				if d.Matching == 0 {
					return a.Print(d, func() {
						fmt.Fprintf(
							a.Out,
							"No document of %s is known to differ: %s. pingo drift check %s looks.\n",
							d.Index,
							d.Status.Sentence,
							d.Index,
						)
					})
				}
				if dry {
					return a.Print(d, func() { a.showDrift(d) })
				}
				if !yes {
					question := fmt.Sprintf("Rebuild %s of %s?", documents(d.Matching), d.Edition)
					if n := d.Status.Kinds["orphaned"]; n > 0 {
						question = fmt.Sprintf("Rebuild %s of %s, and delete %s without a row?",
							documents(d.Matching-n), d.Edition, documents(n))
					}
					if err := confirm(a.Err, question); err != nil {
						return err
					}
				}
			} else if dry {
				traced, err := a.client().Trace(cmd.Context(), args[0], action.Keys[0])
				if err != nil {
					return err
				}
				return a.Print(traced, func() { a.showTraced(traced) })
			}
			return a.order(cmd.Context(), args[0], action, false)
		},
	}
	f := cmd.Flags()
	f.StringVar(&action.Kind, "kind", "", "only documents that are missing, stale, altered or orphaned")
	f.StringVar(&action.Cause, "cause", "", "only documents with this cause")
	f.BoolVar(&action.Deletes, "deletes", false, "allow deleting more than 1% of the documents")
	f.BoolVar(&dry, "dry-run", false, "list the documents to repair without repairing them")
	f.BoolVar(&yes, "yes", false, "do not ask for confirmation")
	return cmd
}

// showDeliveries prints the recent builds of a document.
func (a *App) showDeliveries(t *api.Traced) {
	switch {
	case t.FedBy != "":
		fmt.Fprintf(a.Out, "  built     ask the process at %s, which feeds the index\n", t.FedBy)
	case t.Deliveries == nil: // no process feeds it
	case len(t.Deliveries.Last) == 0:
		fmt.Fprintf(a.Out, "  changes   none since %s\n", t.Deliveries.Since.Local().Format(time.DateTime))
	default:
		for _, d := range t.Deliveries.Last {
			took := ""
			if d.ChangedAt != nil {
				took = fmt.Sprintf(", %s after the change", milliseconds(d.At.Sub(*d.ChangedAt).Seconds()*1000, true))
			}
			fmt.Fprintf(a.Out, "  %-9s at %s%s\n", d.Outcome, d.At.Local().Format(time.DateTime), took)
		}
	}
}

func (a *App) showTraced(t *api.Traced) {
	fmt.Fprintf(a.Out, "%s %s: %s\n", t.Edition, t.Key, t.Verdict)
	if t.Next != "" {
		fmt.Fprintln(a.Out, t.Next)
	}
	yes := map[bool]string{true: "yes", false: "no"}
	fmt.Fprintf(a.Out, "\n  row       %s\n", yes[t.Row])
	if t.Row {
		fmt.Fprintf(a.Out, "  in index  %s\n", yes[t.Inside])
	}
	fmt.Fprintf(a.Out, "  document  %s\n", yes[!isNull(t.Stored)])
	for _, c := range t.Changes {
		fmt.Fprintf(a.Out, "  waiting   %s of %s, made at %s\n", c.Op, c.Table, c.At.Local().Format(time.DateTime))
	}
	if f := t.Failed; f != nil {
		fmt.Fprintf(
			a.Out,
			"  failed    %s, last at %s: %s\n",
			times(f.Attempts),
			f.LastAt.Local().Format(time.DateTime),
			f.Reason,
		)
	}
	a.showDeliveries(t)
	if len(t.Fields) > 0 {
		fmt.Fprintln(a.Out, "\n  - in the engine   + as the row makes it now")
		for _, x := range t.Fields {
			if x.Old != nil {
				fmt.Fprintf(a.Out, "  - %s: %s\n", x.Path, x.Old)
			}
			if x.New != nil {
				fmt.Fprintf(a.Out, "  + %s: %s\n", x.Path, x.New)
			}
		}
		return
	}
	switch {
	case !isNull(t.Built):
		fmt.Fprintf(a.Out, "\nas the row makes it now:\n%s\n", indented(t.Built))
	case !isNull(t.Stored):
		fmt.Fprintf(a.Out, "\nin the engine:\n%s\n", indented(t.Stored))
	}
}
