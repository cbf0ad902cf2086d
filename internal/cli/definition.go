package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"sort"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/schollz/progressbar/v3"
	"github.com/spf13/cobra"
	"golang.org/x/term"

	"pingo/internal/core/definition"
	"pingo/internal/core/fill"
	"pingo/internal/flow"
	"pingo/internal/server"
)

// readFiles reads definition files: files, folders of .yaml files, or - for
// standard input. Without any it is pingo.yaml.
func readFiles(paths []string) ([]definition.File, error) {
	if len(paths) == 0 {
		paths = []string{"pingo.yaml"}
	}
	var out []definition.File
	for _, path := range paths {
		if path == "-" {
			b, err := io.ReadAll(os.Stdin)
			if err != nil {
				return nil, err
			}
			out = append(out, definition.File{Name: "standard input", Text: string(b)})
			continue
		}
		list := []string{path}
		info, err := os.Stat(path)
		if err != nil {
			return nil, fmt.Errorf("the definition %s cannot be read: %w", path, errors.Unwrap(err))
		}
		if info.IsDir() {
			list = nil
			for _, pattern := range []string{"*.yaml", "*.yml"} {
				found, err := filepath.Glob(filepath.Join(path, pattern))
				if err != nil {
					return nil, err
				}
				list = append(list, found...)
			}
			if len(list) == 0 {
				return nil, fmt.Errorf("the folder %s has no .yaml files in it", path)
			}
			sort.Strings(list)
		}
		for _, file := range list {
			b, err := os.ReadFile(file)
			if err != nil {
				return nil, fmt.Errorf("the definition %s cannot be read: %w", file, err)
			}
			out = append(out, definition.File{Name: file, Text: string(b)})
		}
	}
	return out, nil
}

func (a *app) check() *cobra.Command {
	return &cobra.Command{
		Use: "check [FILE|FOLDER|-]…", Short: "Say what applying a definition would do, touching nothing",
		Long:    "Reads a definition (pingo.yaml unless named), asks its sources and engines, and says what applying it would do.\nEvery mistake is named with file, line and column.\n\nExit codes: 0 nothing would change, 3 it cannot be applied, 4 settings of live editions would change,\n5 editions would be filled or indexes no longer be followed.",
		Example: "  pingo check\n  pingo check search/\n  pingo check pingo.yaml -o json",
		RunE: func(cmd *cobra.Command, args []string) error {
			files, err := readFiles(args)
			if err != nil {
				return err
			}
			plan, err := a.client().Check(cmd.Context(), files)
			if err != nil {
				return err
			}
			if err := a.print(plan, func() { a.showPlan(plan) }); err != nil {
				return err
			}
			switch {
			case plan.Refused():
				return errRefused
			case plan.Fills():
				return exitWith(exitFills)
			case plan.Changes():
				return exitWith(exitInPlace)
			}
			return nil
		},
	}
}

func (a *app) showPlan(p *flow.Plan) {
	for _, f := range p.Findings {
		fmt.Fprintln(a.out, f)
	}
	answers := func(kind string, list []flow.Answer) {
		for _, x := range list {
			mark := "answers"
			if !x.Answers {
				mark = "fails  "
			}
			fmt.Fprintf(a.out, "%s %-10s %s  %s\n", kind, x.Name, mark, x.Words)
			for i, sql := range x.Missing {
				if i == 0 {
					fmt.Fprintln(a.out, "  Pingo lacks rights there. Run these, or what pingo capture show --file prints, as the tables' owner:")
				}
				fmt.Fprintln(a.out, "    "+sql)
			}
		}
	}
	answers("source", p.Sources)
	answers("engine", p.Engines)
	if p.Refused() {
		fmt.Fprintln(a.out, "\nThis definition cannot be applied yet.")
		return
	}
	for _, c := range p.Capture {
		fmt.Fprintf(a.out, "\ncapture in %s: triggers on %s\n", c.Source, strings.Join(c.Tables, ", "))
		for _, advice := range c.Advice {
			fmt.Fprintf(a.out, "  %s: %s\n", advice.Table, advice.Message)
			if advice.SQL != "" {
				fmt.Fprintln(a.out, "    "+advice.SQL)
			}
		}
	}
	for _, ix := range p.Indexes {
		a.showIndexPlan(ix)
	}
}

func (a *app) showIndexPlan(ix flow.IndexPlan) {
	what := map[string]string{
		flow.ChangeNew:     "new: a first edition is filled, then answers under the name",
		flow.ChangeNone:    "unchanged",
		flow.ChangeInPlace: "changed in place, taken into use at once",
		flow.ChangeReindex: "reindex: a new edition is filled beside the one that answers, which is dropped after the switch",
		flow.ChangeRemoved: "no longer in the definition: its changes are not followed any more, and its edition stays in the engine as it is",
	}
	fmt.Fprintf(a.out, "\nindex %s in %s: %s\n", ix.Name, ix.Engine, what[ix.Change])
	if ix.Guard != "" {
		fmt.Fprintf(a.out, "  To be accepted by name, since %s.\n", ix.Guard)
	}
	if ix.Change == flow.ChangeRemoved {
		return
	}
	fmt.Fprintf(a.out, "  %s rows, about %s of documents", humanize.Comma(ix.Rows), humanize.Bytes(uint64(ix.Bytes)))
	if ix.Operations > 0 {
		fmt.Fprintf(a.out, ", %s to send", humanize.Comma(ix.Operations))
	}
	fmt.Fprintln(a.out)
	for _, d := range ix.Differences {
		mark := "reindex "
		if d.InPlace {
			mark = "in place"
		}
		fmt.Fprintf(a.out, "  %s  %s\n", mark, strings.TrimSpace(d.Path+" "+d.What))
	}
	for _, note := range ix.Notes {
		fmt.Fprintf(a.out, "  note: %s\n", note)
	}
	t := a.table(table.Row{"  field", "type", "for", "from"})
	for _, f := range ix.Fields {
		kind, path := string(f.Type), f.Path
		if f.List {
			kind = "list of " + kind
		}
		if f.Rows != "" {
			path = f.Rows + ": " + path
		}
		var uses []string
		if f.Search > 0 {
			uses = append(uses, fmt.Sprintf("search %g by %s", f.Search, f.Match))
		}
		for _, role := range []struct {
			name string
			has  bool
		}{{"filter", f.Filter}, {"sort", f.Sort}, {"facet", f.Facet}} {
			if role.has {
				uses = append(uses, role.name)
			}
		}
		t.AppendRow(table.Row{"  " + path, kind, strings.Join(uses, ", "), shorten(f.From, 60)})
	}
	t.Render()
	for _, sample := range ix.Samples {
		fmt.Fprintf(a.out, "  %s  %s\n", sample.Key, shorten(string(sample.Document), 110))
	}
}

func shorten(s string, width int) string {
	if line := []rune(s); len(line) > width {
		return string(line[:width-1]) + "…"
	}
	return s
}

func (a *app) apply() *cobra.Command {
	var yes, noWait bool
	var accept []string
	cmd := &cobra.Command{
		Use: "apply [FILE|FOLDER|-]…", Short: "Make a definition the one in force: install capture, fill, keep true",
		Long:    "Shows what it will do and asks first; then installs triggers, fills what is new or changed, and waits until the names answer.\nAn index that is no longer in the definition, or would have less than half as many documents as now, must be named with --accept.",
		Example: "  pingo apply\n  pingo apply pingo.yaml --yes\n  pingo apply --yes --no-wait -o json\n  pingo apply --yes --accept old_huts",
		RunE: func(cmd *cobra.Command, args []string) error {
			files, err := readFiles(args)
			if err != nil {
				return err
			}
			c := a.client()
			if !yes {
				plan, err := c.Check(cmd.Context(), files)
				if err != nil {
					return err
				}
				a.showPlan(plan)
				if plan.Refused() {
					return errRefused
				}
				if err := confirm(a.err, "\nApply this?"); err != nil {
					return err
				}
			}
			applied, err := c.Apply(cmd.Context(), files, accept...)
			var p *server.Problem
			if errors.As(err, &p) && p.Plan != nil && p.Plan.Refused() {
				if err := a.print(p.Plan, func() { a.showPlan(p.Plan) }); err != nil {
					return err
				}
				return errRefused
			}
			if err != nil {
				return err
			}
			if !noWait {
				if err := a.waitForFill(cmd.Context()); err != nil {
					return err
				}
			}
			status, err := c.Status(cmd.Context())
			if err != nil {
				return err
			}
			return a.print(applied, func() {
				for _, ix := range status.Indexes {
					if !noWait && ix.Documents != nil {
						fmt.Fprintf(a.out, "%s: %s rows, %s documents in %s\n", ix.Name, number(ix.Rows), number(ix.Documents), ix.Edition)
					}
				}
				fmt.Fprintf(a.out, "Definition version %d is in force.\n", applied.Version)
			})
		},
	}
	cmd.Flags().BoolVarP(&yes, "yes", "y", false, "do not ask")
	cmd.Flags().StringArrayVar(&accept, "accept", nil, "an index that may be given up, or shrink to less than half")
	cmd.Flags().BoolVar(&noWait, "no-wait", false, "return at once, while editions are being filled")
	return cmd
}

// confirm asks a person; scripts must say --yes.
func confirm(to io.Writer, question string) error {
	if !term.IsTerminal(int(os.Stdin.Fd())) {
		return usageError{errors.New("nobody can be asked here: say --yes")}
	}
	fmt.Fprintf(to, "%s [y/N] ", question)
	answer, err := bufio.NewReader(os.Stdin).ReadString('\n')
	if err != nil {
		return err
	}
	if a := strings.ToLower(strings.TrimSpace(answer)); a != "y" && a != "yes" {
		return errors.New("nothing was done")
	}
	return nil
}

// waitForFill shows how far the editions are until all of them answer: as a bar when
// a person looks, as plain lines otherwise.
func (a *app) waitForFill(ctx context.Context) error {
	var bar *progressbar.ProgressBar
	var barOf, lastLine string
	var said time.Time
	defer func() {
		if bar != nil {
			bar.Finish()
		}
	}()
	for {
		status, err := a.client().Status(ctx)
		if err != nil {
			return err
		}
		var open *flow.IndexStatus
		for i := range status.Indexes {
			if status.Indexes[i].Fill != nil {
				open = &status.Indexes[i]
				break
			}
		}
		if open == nil {
			return nil
		}
		f := open.Fill
		switch {
		case open.Trouble != nil:
			if open.Trouble.Message != lastLine {
				lastLine = open.Trouble.Message
				fmt.Fprintf(a.err, "\n%s: %s\n", open.Name, open.Sentence)
			}
		case !watched():
			if line := f.Edition + string(f.State); line != lastLine || time.Since(said) > 5*time.Second {
				fmt.Fprintf(a.err, "%s: %s, %s of %s rows\n", f.Edition, f.State, humanize.Comma(f.Rows), humanize.Comma(f.Expected))
				lastLine, said = line, time.Now()
			}
		case f.State == fill.Filling:
			if barOf != f.Edition {
				bar, barOf = progressbar.NewOptions64(max(f.Expected, 1), progressbar.OptionSetWriter(a.err), progressbar.OptionSetDescription(f.Edition),
					progressbar.OptionShowCount(), progressbar.OptionSetItsString("rows"), progressbar.OptionShowIts(), progressbar.OptionOnCompletion(func() { fmt.Fprintln(a.err) })), f.Edition
			}
			bar.Set64(min(f.Rows, max(f.Expected, 1)))
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(200 * time.Millisecond):
		}
	}
}

func (a *app) schema() *cobra.Command {
	return &cobra.Command{
		Use: "schema", Short: "Print the definition language's JSON Schema, for editors", Args: exactly(0, "no arguments"),
		Example: "  pingo schema > pingo.schema.json",
		RunE: func(*cobra.Command, []string) error {
			_, err := a.out.Write(definition.Schema)
			return err
		},
	}
}

func (a *app) capture() *cobra.Command {
	capture := &cobra.Command{
		Use: "capture", Short: "Show, install or remove what notices changes in a source",
		Long:    "Capture is a schema pingo_capture with a journal, and five small triggers on each table that a definition reads.\npingo apply installs it; these commands are for looking, for hands that install it themselves, and for cleaning up.",
		Example: "  pingo capture show\n  pingo capture show lodge --file pingo.yaml\n  pingo capture install lodge\n  pingo capture remove lodge",
	}
	var paths []string
	source := func(args []string) string {
		if len(args) == 0 {
			return ""
		}
		return args[0]
	}
	atMostOne := func(cmd *cobra.Command, args []string) error {
		if len(args) > 1 {
			return usageError{fmt.Errorf("%s takes one source, or none when there is only one", cmd.CommandPath())}
		}
		return nil
	}
	show := &cobra.Command{
		Use: "show [SOURCE]", Short: "Print the SQL, with the least grants that Pingo needs", Args: atMostOne,
		Example: "  pingo capture show\n  pingo capture show lodge --file pingo.yaml > for-the-dba.sql",
		RunE: func(cmd *cobra.Command, args []string) error {
			var files []definition.File
			if len(paths) > 0 {
				var err error
				if files, err = readFiles(paths); err != nil {
					return err
				}
			}
			sql, err := a.client().CaptureSQL(cmd.Context(), source(args), files)
			if err != nil {
				return err
			}
			return a.print(map[string]string{"sql": sql}, func() { fmt.Fprint(a.out, sql) })
		},
	}
	show.Flags().StringArrayVar(&paths, "file", nil, "a definition that was not applied yet")
	install := &cobra.Command{
		Use: "install [SOURCE]", Short: "Install what is missing", Args: atMostOne,
		Example: "  pingo capture install lodge",
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := a.client().InstallCapture(cmd.Context(), source(args)); err != nil {
				return err
			}
			return a.print(map[string]bool{"installed": true}, func() { fmt.Fprintln(a.out, "Capture is installed.") })
		},
	}
	var yes bool
	remove := &cobra.Command{
		Use: "remove [SOURCE]", Short: "Remove triggers and journal without trace", Args: atMostOne,
		Example: "  pingo capture remove lodge --yes",
		RunE: func(cmd *cobra.Command, args []string) error {
			if !yes {
				if err := confirm(a.err, "Changes that wait in the journal are dropped, and no more are noticed until it is installed again and\nthe indexes are filled anew. Remove capture?"); err != nil {
					return err
				}
			}
			if err := a.client().RemoveCapture(cmd.Context(), source(args)); err != nil {
				return err
			}
			return a.print(map[string]bool{"removed": true}, func() { fmt.Fprintln(a.out, "Capture is removed.") })
		},
	}
	remove.Flags().BoolVarP(&yes, "yes", "y", false, "do not ask")
	capture.AddCommand(show, install, remove)
	return capture
}
