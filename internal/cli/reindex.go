package cli

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/schollz/progressbar/v3"
	"github.com/spf13/cobra"

	"pingo/internal/api"
)

func (a *App) reindex() *cobra.Command {
	reindex := &cobra.Command{
		Use: "reindex", Short: "Fill an index anew beside the one that answers, switch to it, and back",
		Long: `Another edition of the index is filled while the one that answers is kept in sync. It takes its place when its gates have passed:
it has what its rows make, no more failed documents than the one that answers, is not much smaller, and finds what the
definition expects. One that has not waits for a person, who mends what fails, has it answer all the same, or cancels it.
The edition that answered is kept in sync for as long as keep_previous says, and can answer again at once.`,
		Example: `  pingo reindex start huts
  pingo reindex watch huts
  pingo reindex compare huts
  pingo reindex switch huts
  pingo reindex rollback huts`,
	}
	reindex.AddCommand(
		a.reindexStart(), a.reindexShow(), a.reindexWatch(), a.reindexPace(),
		a.reindexSimple("pause", "Halt the filling; changes still reach it", api.ReindexPause, "%s is paused: pingo reindex resume lets it go on.\n"),
		a.reindexSimple("resume", "Let a halted filling go on, or one begin that waits for that", api.ReindexResume, "%s goes on.\n"),
		a.reindexCompare(), a.reindexSwitch(), a.reindexRollback(),
		a.reindexSimple("cancel", "Drop the edition that is being filled or is ready", api.ReindexCancel, "%s is dropped.\n"),
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
	f.Int64Var(&p.Documents, "documents", 0, "documents a second at most")
	f.StringVar(bytes, "bytes", "", "bytes a second at most, such as 2MB")
	f.IntVar(&p.Workers, "workers", 0, "chunks that are read and sent side by side at most")
	f.StringVar(&p.Hours, "hours", "", "the hours of the day when it may be filled, such as 22:00-06:00")
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
		Use: "start INDEX", Short: "Fill another edition, without a change of the definition", Args: Exactly(1, "an index"),
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
					fmt.Fprintf(a.Out, "%s is being filled: pingo reindex show %s says how far it is.\n", done.Edition, done.Index)
				})
			}
			return a.finished(cmd.Context(), done, false)
		},
	}
	paceFlags(start, &pace, &bytes)
	start.Flags().BoolVar(&noWait, "no-wait", false, "return at once, while it is being filled")
	start.Flags().BoolVar(&estimate, "estimate", false, "say what it would cost, and do nothing")
	start.Flags().StringVar(&at, "at", "", "begin at this time of day, such as 22:00")
	return start
}

// finished waits until an edition answers, or says why it does not, and what it came to.
func (a *App) finished(ctx context.Context, done *api.Reindexed, patient bool) error {
	if err := a.waitForFill(ctx, done.Index, patient); err != nil {
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
	fmt.Fprintf(a.Out, "Filling %s anew reads %s rows and sends as many documents.\n", e.Index, humanize.Comma(e.Rows))
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
		Use: "show INDEX", Short: "Tell of its editions: how far they are, their gates, and what became of them", Args: Exactly(1, "an index"),
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
	fmt.Fprintf(a.Out, "\n  documents  %s sent in %s requests, %s unchanged, %s failed; %s read\n",
		humanize.Comma(f.Delivered), humanize.Comma(f.Requests), humanize.Comma(f.Unchanged), humanize.Comma(f.Failed),
		humanize.Bytes(uint64(f.Bytes)))
}

// roles say in words what an edition is.
var roles = map[string]string{
	"switched": "answers", "previous": "answered before", "returning": "is about to answer again", "ready": "is ready",
}

func (a *App) showRun(r *api.Run) {
	role := roles[r.State]
	if role == "" {
		role = "is " + r.State
	}
	fmt.Fprintf(a.Out, "%s %s; made by definition version %d.\n", r.Edition, role, r.Definition)
	if r.BeganAt != nil && r.FilledAt != nil {
		fmt.Fprintf(a.Out, "  filled     %s rows, %s, in %s\n",
			humanize.Comma(r.Rows), humanize.Bytes(uint64(r.Bytes)), inWords(r.FilledAt.Sub(*r.BeganAt).Seconds()))
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
		Use: "watch INDEX", Short: "Follow it until the edition answers or waits for a person", Args: Exactly(1, "an index"),
		Example: "  pingo reindex watch huts",
		RunE: func(cmd *cobra.Command, args []string) error {
			ix, err := a.indexStatus(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			if ix.Fill == nil {
				return fmt.Errorf("no edition of %s is being filled; %s answers", ix.Name, ix.Edition)
			}
			return a.finished(cmd.Context(), &api.Reindexed{Index: ix.Name, Edition: ix.Fill.Edition}, true)
		},
	}
}

func (a *App) reindexPace() *cobra.Command {
	var pace api.Pace
	var bytes string
	cmd := &cobra.Command{
		Use: "pace INDEX", Short: "Change how fast it is filled, while it runs", Args: Exactly(1, "an index"),
		Long: `Bounds how fast the edition is filled that is being filled now, from the next chunk on. Without flags the definition's pace
holds again. Whatever the pace, Pingo slows down by itself when the engine is busy or the source answers slowly.`,
		Example: "  pingo reindex pace huts --documents 500\n  pingo reindex pace huts --bytes 2MB --workers 1\n  pingo reindex pace huts",
		RunE: func(cmd *cobra.Command, args []string) error {
			set, err := paceSet(pace, bytes)
			if err != nil {
				return err
			}
			done, err := a.client().Reindex(cmd.Context(), args[0], api.ReindexAction{Action: api.ReindexPace, Pace: set})
			if err != nil {
				return err
			}
			return a.Print(done, func() { fmt.Fprintf(a.Out, "%s is filled at another pace from now on.\n", done.Edition) })
		},
	}
	paceFlags(cmd, &pace, &bytes)
	return cmd
}

func (a *App) reindexSwitch() *cobra.Command {
	var yes bool
	cmd := &cobra.Command{
		Use: "switch INDEX", Short: "Have the edition that is ready answer, whatever its gates say", Args: Exactly(1, "an index"),
		Example: "  pingo reindex switch huts\n  pingo reindex switch huts --yes",
		RunE: func(cmd *cobra.Command, args []string) error {
			ix, err := a.indexStatus(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			if ix.Fill != nil && !yes {
				fmt.Fprintln(a.Err, ix.Sentence)
				if err := confirm(a.Err, fmt.Sprintf("\nHave %s answer instead of %s?", ix.Fill.Edition, ix.Edition)); err != nil {
					return err
				}
			}
			done, err := a.client().Reindex(cmd.Context(), args[0], api.ReindexAction{Action: api.ReindexSwitch})
			if err != nil {
				return err
			}
			return a.Print(done, func() { fmt.Fprintf(a.Out, "%s is about to answer for %s.\n", done.Edition, done.Index) })
		},
	}
	cmd.Flags().BoolVarP(&yes, "yes", "y", false, "do not ask")
	return cmd
}

func (a *App) reindexRollback() *cobra.Command {
	var to string
	cmd := &cobra.Command{
		Use: "rollback INDEX", Short: "Have the edition answer again that did before", Args: Exactly(1, "an index"),
		Long: `The edition that answered before was kept in sync, by its own version of the definition, and answers again at once. The one
that answers now is kept for as long, so the same command leads forward again.`,
		Example: "  pingo reindex rollback huts",
		RunE: func(cmd *cobra.Command, args []string) error {
			done, err := a.client().Reindex(cmd.Context(), args[0], api.ReindexAction{Action: api.ReindexRollback, Edition: to})
			if err != nil {
				return err
			}
			return a.finished(cmd.Context(), done, false)
		},
	}
	cmd.Flags().StringVar(&to, "to", "", "the edition, as pingo reindex show names it (default: the one that answered last)")
	return cmd
}

func (a *App) reindexCompare() *cobra.Command {
	var rows int
	cmd := &cobra.Command{
		Use: "compare INDEX", Short: "Show how documents differ between the edition that answers and the other one", Args: Exactly(1, "an index"),
		Long: `Compares the documents of some rows, spread over the keys, in the edition that answers and the one that is to take its place,
or that answered before: which fields differ, in how many documents, and how.`,
		Example: "  pingo reindex compare huts\n  pingo reindex compare huts --rows 100000",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client().Compare(cmd.Context(), args[0], rows)
			if err != nil {
				return err
			}
			return a.Print(c, func() { a.showComparison(c) })
		},
	}
	cmd.Flags().IntVar(&rows, "rows", 2000, "how many rows at most")
	return cmd
}

func (a *App) showComparison(c *api.Comparison) {
	fmt.Fprintf(a.Out, "%s of %s rows compared, %s (old) with %s (new): %s the same, %s differ, %s in the old one only, %s in the new one only.\n",
		humanize.Comma(c.Compared), humanize.Comma(c.Rows), c.Old, c.New,
		humanize.Comma(c.Same), humanize.Comma(c.Differ), humanize.Comma(c.OnlyOld), humanize.Comma(c.OnlyNew))
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
		Use: "expect INDEX", Short: "Run the searches that the definition expects something of", Args: Exactly(1, "an index"),
		Long: `The definition may say, under expect, which key a search must find among the first hits. These searches run before another
edition answers, and at any time with this command. Exit code 1 says that one does not find what it should.`,
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
				return fmt.Errorf("%d searches do not find what they should in the edition that answers", failed)
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

// waitForFill shows how far editions are until none is being filled; those of one index when it is
// named. It fails for those that wait for a person. What does not go on for now, since it is paused or its
// time has not come, is waited for by the patient only.
func (a *App) waitForFill(ctx context.Context, index string, patient bool) error {
	p := &fillProgress{app: a}
	defer p.finish()
	for {
		status, err := a.client().Status(ctx)
		if err != nil {
			return err
		}
		var open *api.IndexStatus
		var stopped error
		for i := range status.Indexes {
			ix := &status.Indexes[i]
			switch {
			case ix.Fill == nil || index != "" && ix.Name != index:
			case ix.Fill.State == api.FillReady && (ix.Fill.ByHand || len(ix.Fill.Stopped()) > 0):
				stopped = errors.Join(stopped, fmt.Errorf("%s: %w: %s", ix.Fill.Edition, errStopped, ix.Sentence))
			case ix.Fill.Halted && !patient:
				fmt.Fprintln(a.Err, ix.Sentence)
				return stopped
			case open == nil:
				open = ix
			}
		}
		if open == nil {
			return stopped
		}
		p.show(open)
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(200 * time.Millisecond):
		}
	}
}

// fillProgress shows how far an edition is: a bar on a terminal, else a line now and then.
type fillProgress struct {
	app             *App
	bar             *progressbar.ProgressBar
	barOf, lastLine string
	said            time.Time
}

func (p *fillProgress) finish() {
	if p.bar != nil {
		p.bar.Finish()
	}
}

func (p *fillProgress) show(ix *api.IndexStatus) {
	a, f := p.app, ix.Fill
	switch {
	case ix.Trouble != nil || f.Halted:
		if line := ix.Sentence; ix.Name+f.Waits != p.lastLine && (ix.Trouble == nil || ix.Trouble.Message != p.lastLine) {
			p.lastLine = ix.Name + f.Waits
			if ix.Trouble != nil {
				p.lastLine = ix.Trouble.Message
			}
			fmt.Fprintf(a.Err, "\n%s: %s\n", ix.Name, line)
		}
	case !watched():
		if line := f.Edition + f.State; line != p.lastLine || time.Since(p.said) > 5*time.Second {
			left := ""
			if f.LeftMS > 0 {
				left = ", " + inWords(float64(f.LeftMS)/1000) + " left"
			}
			fmt.Fprintf(a.Err, "%s: %s, %s of %s rows%s\n", f.Edition, f.State, humanize.Comma(f.Rows), humanize.Comma(f.Expected), left)
			p.lastLine, p.said = line, time.Now()
		}
	case f.State == api.FillFilling:
		if p.barOf != f.Edition {
			p.bar, p.barOf = progressbar.NewOptions64(
				max(f.Expected, 1),
				progressbar.OptionSetWriter(a.Err),
				progressbar.OptionShowCount(),
				progressbar.OptionSetPredictTime(false), // Pingo's own is steadier
				progressbar.OptionOnCompletion(func() { fmt.Fprintln(a.Err) }),
			), f.Edition
		}
		about := f.Edition
		if f.LeftMS > 0 {
			about += fmt.Sprintf("  %s rows/s, %s left", humanize.Comma(int64(f.PerSecond)), inWords(float64(f.LeftMS)/1000))
		}
		p.bar.Describe(about)
		p.bar.Set64(min(f.Rows, max(f.Expected, 1)))
	}
}
