package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/spf13/cobra"

	"pingo/internal/api"
)

func (a *App) reindex() *cobra.Command {
	reindex := &cobra.Command{
		Use: "reindex", Short: "Rebuild an index while the live one serves searches, switch, roll back",
		Long: `Fills another edition of the index while the live edition stays in sync. Pingo switches to it when it passes its gates: its
documents match their rows, it has no more failed documents than the live edition, it is not much smaller, and it passes the
expected searches. Otherwise your decision is needed: fix the failures, switch anyway, or cancel it. Pingo keeps the previous edition
in sync for keep_previous, so that a rollback is immediate.`,
		Example: `  pingo reindex start huts
  pingo reindex watch huts
  pingo reindex compare huts
  pingo reindex switch huts
  pingo reindex rollback huts`,
	}
	reindex.AddCommand(
		a.reindexStart(),
		a.reindexShow(),
		a.reindexWatch(),
		a.reindexPace(),
		a.reindexSimple(
			"pause",
			"Pause a fill, or a change of most documents; other changes continue",
			api.ReindexPause,
			"Paused %s. Run pingo reindex resume to continue.\n",
		),
		a.reindexSimple(
			"resume",
			"Resume a paused fill, or start one that waits for its time",
			api.ReindexResume,
			"Resumed %s.\n",
		),
		a.reindexCompare(),
		a.reindexSwitch(),
		a.reindexRollback(),
		a.reindexCancel(),
		a.reindexDrop(),
	)
	return reindex
}

// reindexSimple is a command that does one thing to the edition of an index that is being filled.
func (a *App) reindexSimple(name, short, action, done string) *cobra.Command {
	return &cobra.Command{
		Use: name + " INDEX", Short: short, Args: Exactly(1, "an index"),
		Example: "  pingo reindex " + name + " huts",
		RunE: func(cmd *cobra.Command, args []string) error {
			out, err := a.client().Reindex(cmd.Context(), args[0], api.ReindexAction{Action: action})
			if err != nil {
				return err
			}
			return a.Print(out, func() { fmt.Fprintf(a.Out, done, out.Edition) })
		},
	}
}

// paceFlags are those that say how fast an edition may be filled.
func paceFlags(cmd *cobra.Command, p *api.Pace, bytes *string) {
	f := cmd.Flags()
	f.Int64Var(&p.Documents, "documents", 0, "maximum number of documents per second")
	f.StringVar(bytes, "bytes", "", "maximum number of bytes per second, such as 2MB")
	f.IntVar(&p.Workers, "workers", 0, "maximum number of parallel chunks")
	f.StringVar(&p.Hours, "hours", "", "hours of the day for filling, such as 22:00-06:00")
}

// paceSet is a pace as its flags say; nil when none does.
func paceSet(p api.Pace, bytes string) (*api.Pace, error) {
	if bytes != "" {
		n, err := humanize.ParseBytes(bytes)
		if err != nil {
			return nil, UsageError{Err: fmt.Errorf("--bytes is a size such as 2MB, not %q", bytes)}
		}
		p.Bytes = int64(n)
	}
	if p == (api.Pace{}) {
		return nil, nil
	}
	return &p, nil
}

func (a *App) reindexStart() *cobra.Command {
	var noWait, estimate bool
	var pace api.Pace
	var bytes, at string
	start := &cobra.Command{
		Use: "start INDEX", Short: "Fill another edition of the same definition", Args: Exactly(1, "an index"),
		Example: "  pingo reindex start huts --estimate\n  pingo reindex start huts\n  pingo reindex start huts --documents 2000 --no-wait",
		RunE: func(cmd *cobra.Command, args []string) error {
			if estimate {
				e, err := a.client().Estimate(cmd.Context(), args[0])
				if err != nil {
					return err
				}
				return a.Print(e, func() { a.showEstimate(e) })
			}
			action := api.ReindexAction{Action: api.ReindexStart}
			var err error
			if action.Pace, err = paceSet(pace, bytes); err != nil {
				return err
			}
			if at != "" {
				when, err := time.ParseInLocation("15:04", at, time.Local)
				if err != nil {
					return UsageError{Err: fmt.Errorf("--at is a time such as 22:00, not %q", at)}
				}
				now := time.Now()
				when = time.Date(now.Year(), now.Month(), now.Day(), when.Hour(), when.Minute(), 0, 0, time.Local)
				if !when.After(now) {
					when = when.AddDate(0, 0, 1)
				}
				action.At = &when
			}
			done, err := a.client().Reindex(cmd.Context(), args[0], action)
			if err != nil {
				return err
			}
			if noWait {
				return a.Print(done, func() {
					fmt.Fprintf(
						a.Out,
						"%s is being filled: pingo reindex show %s says how far it is.\n",
						done.Edition,
						done.Index,
					)
				})
			}
			return a.finished(cmd.Context(), done, false)
		},
	}
	paceFlags(start, &pace, &bytes)
	start.Flags().BoolVar(&noWait, "no-wait", false, "return before the edition is filled")
	start.Flags().BoolVar(&estimate, "estimate", false, "estimate the cost without starting")
	start.Flags().StringVar(&at, "at", "", "start at this time of day, such as 22:00")
	return start
}

// finished waits until an edition answers, or says why it does not, and what it came to.
func (a *App) finished(ctx context.Context, done *api.Reindexed, patient bool) error {
	if err := a.waitForFill(ctx, []string{done.Index}, patient, done.Shown); err != nil {
		return err
	}
	runs, err := a.client().Runs(ctx, done.Index)
	if err != nil {
		return err
	}
	for _, r := range runs {
		if r.Edition == done.Edition {
			return a.Print(r, func() { a.showRun(&r) })
		}
	}
	return fmt.Errorf("%s is gone: it was cancelled, or another edition took its place", done.Edition)
}

func (a *App) showEstimate(e *api.Estimate) {
	fmt.Fprintf(a.Out, "A rebuild of %s reads %s and sends as many documents.\n", e.Index, countOfRows(e.Rows))
	if e.Bytes > 0 {
		fmt.Fprintf(a.Out, "  size  %s\n", humanize.Bytes(uint64(e.Bytes)))
	}
	if e.Seconds > 0 {
		fmt.Fprintf(a.Out, "  time  %s, since %s\n", inWords(e.Seconds), e.Rests)
	} else {
		fmt.Fprintln(a.Out, "  time  not known: no fill tells")
	}
}

// inWords rounds seconds to what a person reads.
func inWords(seconds float64) string {
	d := time.Duration(seconds * float64(time.Second))
	switch {
	case d < 10*time.Second:
		return fmt.Sprintf("%.1f s", d.Seconds())
	case d < time.Minute:
		return fmt.Sprintf("%.0f s", d.Seconds())
	case d < time.Hour:
		return fmt.Sprintf("%d min %d s", int(d.Minutes()), int(d.Seconds())%60)
	}
	return fmt.Sprintf("%d h %d min", int(d.Hours()), int(d.Minutes())%60)
}

func (a *App) reindexShow() *cobra.Command {
	return &cobra.Command{
		Use: "show INDEX", Short: "Show the editions of an index: progress, gates, history", Args: Exactly(1, "an index"),
		Example: "  pingo reindex show huts\n  pingo reindex show huts -o json",
		RunE: func(cmd *cobra.Command, args []string) error {
			ix, err := a.indexStatus(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			runs, err := a.client().Runs(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			shown := struct {
				Fill *api.FillStatus `json:"fill"`
				Runs []api.Run       `json:"editions"`
			}{ix.Fill, runs}
			return a.Print(shown, func() {
				fmt.Fprintln(a.Out, ix.Sentence)
				if f := ix.Fill; f != nil {
					a.showFill(f)
				}
				for i := range runs {
					fmt.Fprintln(a.Out)
					a.showRun(&runs[i])
				}
			})
		},
	}
}

func (a *App) showFill(f *api.FillStatus) {
	fmt.Fprintf(a.Out, "  rows       %s of %s", humanize.Comma(f.Rows), humanize.Comma(f.Expected))
	if f.PerSecond > 0 {
		fmt.Fprintf(a.Out, ", %s a second", humanize.Comma(int64(f.PerSecond)))
	}
	if f.LeftMS > 0 {
		fmt.Fprintf(a.Out, ", %s left", inWords(float64(f.LeftMS)/1000))
	}
	if f.Helpers > 0 {
		fmt.Fprintf(a.Out, ", with %s", otherProcesses(f.Helpers))
	}
	fmt.Fprintf(a.Out, "\n  documents  %s sent in %s requests, %s unchanged, %s failed; %s read\n",
		humanize.Comma(f.Delivered), humanize.Comma(f.Requests), humanize.Comma(f.Unchanged), humanize.Comma(f.Failed),
		humanize.Bytes(uint64(f.Bytes)))
}

// otherProcesses is a phrase with the number of other processes.
func otherProcesses(n int) string {
	if n == 1 {
		return "another process"
	}
	return fmt.Sprintf("%d other processes", n)
}

// roles are phrases for the states of an edition.
var roles = map[string]string{
	"switched": "is live", "previous": "was live before", "returning": "is about to become live again", "ready": "is ready",
}

func (a *App) showRun(r *api.Run) {
	role := roles[r.State]
	if role == "" {
		role = "is " + r.State
	}
	fmt.Fprintf(a.Out, "%s %s, from definition version %d.\n", r.Edition, role, r.Definition)
	if r.BeganAt != nil && r.FilledAt != nil {
		fmt.Fprintf(a.Out, "  filled     %s, %s, in %s\n",
			countOfRows(r.Rows), humanize.Bytes(uint64(r.Bytes)), inWords(r.FilledAt.Sub(*r.BeganAt).Seconds()))
	}
	if r.KeptUntil != nil && r.State == "previous" {
		fmt.Fprintf(a.Out, "  kept       until %s\n", r.KeptUntil.Local().Format(time.DateTime))
	}
	a.showGates(r.Gates)
	for _, e := range r.Events {
		fmt.Fprintf(a.Out, "  %s  %s\n", e.At.Local().Format(time.DateTime), e.What)
	}
}

func (a *App) reindexWatch() *cobra.Command {
	return &cobra.Command{
		Use: "watch INDEX", Short: "Follow a fill until the edition is live or waits for a decision", Args: Exactly(1, "an index"),
		Example: "  pingo reindex watch huts",
		RunE: func(cmd *cobra.Command, args []string) error {
			ix, err := a.indexStatus(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			if ix.Fill == nil {
				return fmt.Errorf("no edition of %s is being filled; %s is live", ix.Name, ix.Edition)
			}
			return a.finished(cmd.Context(), &api.Reindexed{Index: ix.Name, Edition: ix.Fill.Edition}, true)
		},
	}
}

func (a *App) reindexPace() *cobra.Command {
	var pace api.Pace
	var bytes string
	cmd := &cobra.Command{
		Use: "pace INDEX", Short: "Change the pace of a running fill", Args: Exactly(1, "an index"),
		Long: `Limits the pace of the current fill from the next chunk on. Without flags, restores the pace of the definition. Pingo also
slows down when the engine is busy or the source is slow.`,
		Example: "  pingo reindex pace huts --documents 500\n  pingo reindex pace huts --bytes 2MB --workers 1\n  pingo reindex pace huts",
		RunE: func(cmd *cobra.Command, args []string) error {
			set, err := paceSet(pace, bytes)
			if err != nil {
				return err
			}
			done, err := a.client().
				Reindex(cmd.Context(), args[0], api.ReindexAction{Action: api.ReindexPace, Pace: set})
			if err != nil {
				return err
			}
			return a.Print(
				done,
				func() { fmt.Fprintf(a.Out, "%s is filled at another pace from now on.\n", done.Edition) },
			)
		},
	}
	paceFlags(cmd, &pace, &bytes)
	return cmd
}

func (a *App) reindexSwitch() *cobra.Command {
	var yes bool
	cmd := &cobra.Command{
		Use: "switch INDEX", Short: "Switch to the edition that is ready, even if gates failed", Args: Exactly(1, "an index"),
		Example: "  pingo reindex switch huts\n  pingo reindex switch huts --yes",
		RunE: func(cmd *cobra.Command, args []string) error {
			ix, err := a.indexStatus(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			if ix.Fill != nil && !yes {
				fmt.Fprintln(a.Err, ix.Sentence)
				if err := confirm(a.Err, fmt.Sprintf("\nMake %s live instead of %s?", ix.Fill.Edition, ix.Edition)); err != nil {
					return err
				}
			}
			done, err := a.client().Reindex(cmd.Context(), args[0], api.ReindexAction{Action: api.ReindexSwitch})
			if err != nil {
				return err
			}
			return a.Print(
				done,
				func() { fmt.Fprintf(a.Out, "%s is about to answer for %s.\n", done.Edition, done.Index) },
			)
		},
	}
	yesFlag(cmd, &yes)
	return cmd
}

func (a *App) reindexRollback() *cobra.Command {
	action := api.ReindexAction{Action: api.ReindexRollback}
	var yes bool
	cmd := &cobra.Command{
		Use: "rollback INDEX", Short: "Return to the previous edition", Args: Exactly(1, "an index"),
		Long: `Makes the previous edition live again, immediately. Pingo kept it in sync by its own version of the definition. The current
edition becomes the previous one, so the same command undoes the rollback. An edition that is being filled, or waits for a decision,
stands against a rollback: --cancel deletes it in the same step.`,
		Example: "  pingo reindex rollback huts\n  pingo reindex rollback huts --cancel",
		RunE: func(cmd *cobra.Command, args []string) error {
			if !yes {
				question := fmt.Sprintf("Make %s the live edition of %s?", cmp.Or(action.Edition, "the previous edition"), args[0])
				ix, err := a.indexStatus(cmd.Context(), args[0])
				if err != nil {
					return err
				}
				if ix.Fill != nil && ix.Live {
					question = fmt.Sprintf("%s is %s. Delete it? %s", ix.Fill.Edition, ix.Fill.State, question)
				}
				if err := confirm(a.Err, question); err != nil {
					return err
				}
				action.Cancel = ix.Fill != nil
			}
			done, err := a.client().Reindex(cmd.Context(), args[0], action)
			if err != nil {
				return err
			}
			return a.finished(cmd.Context(), done, false)
		},
	}
	cmd.Flags().StringVar(&action.Edition, "to", "", "the edition; see pingo reindex show (default: the previous one)")
	cmd.Flags().BoolVar(&action.Cancel, "cancel", false, "delete the edition that is being filled or waits for a decision")
	yesFlag(cmd, &yes)
	return cmd
}

func (a *App) reindexCancel() *cobra.Command {
	var yes bool
	cmd := a.reindexSimple("cancel", "Cancel a fill and delete its edition", api.ReindexCancel, "Cancelled %s.\n")
	do := cmd.RunE
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		if !yes {
			if err := confirm(a.Err, fmt.Sprintf("Delete the edition of %s that is not live yet?", args[0])); err != nil {
				return err
			}
		}
		return do(cmd, args)
	}
	yesFlag(cmd, &yes)
	return cmd
}

func (a *App) reindexDrop() *cobra.Command {
	var yes bool
	cmd := &cobra.Command{
		Use: "drop INDEX EDITION", Short: "Delete a previous edition before keep_previous ends", Args: Exactly(2, "an index and an edition"),
		Long: `Deletes a previous edition from the engine before keep_previous ends, and with it the possibility to return to it. Pingo
no longer sends changes to it. The live edition does not change.`,
		Example: "  pingo reindex drop huts huts-e1 --yes",
		RunE: func(cmd *cobra.Command, args []string) error {
			if !yes {
				if err := confirm(a.Err, fmt.Sprintf("Delete %s? A rollback to it is then impossible.", args[1])); err != nil {
					return err
				}
			}
			done, err := a.client().
				Reindex(cmd.Context(), args[0], api.ReindexAction{Action: api.ReindexDrop, Edition: args[1]})
			if err != nil {
				return err
			}
			return a.Print(done, func() { fmt.Fprintf(a.Out, "Pingo deletes %s.\n", done.Edition) })
		},
	}
	yesFlag(cmd, &yes)
	return cmd
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
func (a *App) indexStatus(ctx context.Context, name string) (*api.IndexStatus, error) {
	status, err := a.client().Status(ctx)
	if err != nil {
		return nil, err
	}
	if ix := status.Index(name); ix != nil {
		return ix, nil
	}
	return nil, fmt.Errorf("there is no index %q: pingo status lists them", name)
}
