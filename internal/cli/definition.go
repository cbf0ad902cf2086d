package cli

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"sort"
	"strconv"
	"strings"

	"github.com/dustin/go-humanize"
	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"
	"golang.org/x/term"

	"pingo/internal/api"
)

// readFiles reads definition files: files, folders of .yaml files, or - for
// standard input. Without any it is pingo.yaml.
func readFiles(paths []string) ([]api.File, error) {
	if len(paths) == 0 {
		paths = []string{"pingo.yaml"}
	}
	var out []api.File
	for _, path := range paths {
		if path == "-" {
			b, err := io.ReadAll(os.Stdin)
			if err != nil {
				return nil, err
			}
			out = append(out, api.File{Name: "standard input", Text: string(b)})
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
			out = append(out, api.File{Name: file, Text: string(b)})
		}
	}
	return out, nil
}

func (a *App) check() *cobra.Command {
	var indexes, after []string
	cmd := &cobra.Command{
		Use: "check [FILE|FOLDER|-]…", Short: "Check a definition without changing anything",
		Long: `Reads a definition (default: pingo.yaml), connects to its sources and engines, and reports what pingo apply would do.
Reports every mistake with file, line and column. With --index, only the sources and engines of that index are asked.

--after tries the definition against the schema that a migration makes. Pingo runs the statements of the file that change the
structure in a transaction, and rolls it back. They lock tables for a moment: use a copy of the database, such as the one of a
pipeline, and a source URL of the tables' owner. PostgreSQL only.

Exit codes: 0 no changes, 3 the definition has errors, 4 apply would change settings of live editions,
5 apply would fill editions or drop indexes from the definition.`,
		Example: "  pingo check\n  pingo check search/\n  pingo check --index huts\n  pingo check --after lodge=migration.sql\n  pingo check pingo.yaml -o json",
		RunE: func(cmd *cobra.Command, args []string) error {
			files, err := readFiles(args)
			if err != nil {
				return err
			}
			migrations, err := readMigrations(after)
			if err != nil {
				return err
			}
			plan, err := a.client().CheckAfter(cmd.Context(), files, migrations, indexes...)
			if err != nil {
				return err
			}
			if err := a.Print(plan, func() { a.showPlan(plan) }); err != nil {
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
	cmd.Flags().StringArrayVar(&after, "after", nil, "a source and a file with SQL, SOURCE=FILE: check for the schema after this migration (repeatable)")
	cmd.Flags().StringArrayVar(&indexes, "index", nil, "check only this index (repeatable)")
	return cmd
}

// readMigrations reads what --after names, by source.
func readMigrations(after []string) (map[string]api.File, error) {
	out := map[string]api.File{}
	for _, pair := range after {
		source, file, ok := strings.Cut(pair, "=")
		if !ok || source == "" || file == "" {
			return nil, UsageError{Err: fmt.Errorf("--after is SOURCE=FILE, such as lodge=migration.sql, not %q", pair)}
		}
		if _, twice := out[source]; twice {
			return nil, UsageError{Err: fmt.Errorf("--after names source %s twice: put its migrations into one file, in their order", source)}
		}
		text, err := os.ReadFile(file)
		if err != nil {
			return nil, fmt.Errorf("the migration %s cannot be read: %w", file, errors.Unwrap(err))
		}
		out[source] = api.File{Name: file, Text: string(text)}
	}
	return out, nil
}

func (a *App) showPlan(p *api.Plan) {
	for _, f := range p.Findings {
		fmt.Fprintln(a.Out, f)
	}
	answers := func(kind string, list []api.Endpoint) {
		for _, x := range list {
			mark, recognized := "answers", ""
			if !x.Answers {
				mark = "fails  "
			}
			if x.Recognized {
				recognized = fmt.Sprintf(" (recognized as kind %s)", x.Kind)
			}
			fmt.Fprintf(a.Out, "%s %-10s %s  %s%s\n", kind, x.Name, mark, x.Message, recognized)
			for i, sql := range x.Missing {
				if i == 0 {
					fmt.Fprintln(
						a.Out,
						"  Pingo lacks rights there. Run this as an administrator of the database:",
					)
				}
				fmt.Fprintln(a.Out, "    "+sql)
			}
		}
	}
	answers("source", p.Sources)
	answers("engine", p.Engines)
	if len(p.Secrets) > 0 {
		fmt.Fprintf(a.Out, "secrets           %s; this service gives definitions %s\n", strings.Join(p.Secrets, ", "), p.Given)
	}
	if p.Refused() {
		fmt.Fprintln(a.Out, "\nThis definition cannot be applied yet.")
		if len(p.Applicable) > 0 {
			fmt.Fprintf(a.Out, "These indexes can be applied alone: pingo apply --index %s\n", strings.Join(p.Applicable, " --index "))
		}
		return
	}
	for _, c := range p.Capture {
		fmt.Fprintf(
			a.Out,
			"\ncapture in %s: changes of %s are noticed\n",
			c.Source,
			strings.Join(c.Tables, ", "),
		)
		for _, advice := range c.Advice {
			fmt.Fprintf(a.Out, "  %s: %s\n", advice.Table, advice.Message)
			if advice.Statement != "" {
				fmt.Fprintln(a.Out, "    "+advice.Statement)
			}
		}
	}
	var unchanged []string
	for _, ix := range p.Indexes {
		if ix.Change == api.ChangeNone && len(p.Indexes) > 1 {
			unchanged = append(unchanged, ix.Name)
			continue
		}
		a.showIndexPlan(ix)
	}
	if len(unchanged) > 0 {
		fmt.Fprintf(a.Out, "\nunchanged: %s\n", strings.Join(unchanged, ", "))
	}
}

func (a *App) showIndexPlan(ix api.IndexPlan) {
	what := map[string]string{
		api.ChangeNew:     "new: a first edition is filled, then answers under the name",
		api.ChangeNone:    "unchanged",
		api.ChangeInPlace: "changed in place, effective immediately",
		api.ChangeReindex: "reindex: Pingo fills a new edition, switches to it, and drops the old one",
		api.ChangeRemoved: "removed from the definition: Pingo stops updating it, and its live edition stays in the engine",
	}
	fmt.Fprintf(a.Out, "\nindex %s in %s: %s\n", ix.Name, ix.Engine, what[ix.Change])
	if ix.Guard != "" {
		fmt.Fprintf(a.Out, "  Accept this by name (--accept %s), since %s.\n", ix.Name, ix.Guard)
	}
	if ix.Change == api.ChangeRemoved {
		return
	}
	if ix.AfterMigration {
		fmt.Fprintln(a.Out, "  For the schema after the migration. Pingo read no rows.")
	} else {
		fmt.Fprintf(a.Out, "  %s, about %s of documents", countOfRows(ix.Rows), humanize.Bytes(uint64(ix.Bytes)))
		if ix.Operations > 0 {
			fmt.Fprintf(a.Out, ", %s to send", humanize.Comma(ix.Operations))
		}
		fmt.Fprintln(a.Out)
	}
	for _, d := range ix.Differences {
		mark := "reindex "
		if d.InPlace {
			mark = "in place"
		}
		fmt.Fprintf(a.Out, "  %s  %s\n", mark, strings.TrimSpace(d.Path+" "+d.What))
	}
	for _, note := range ix.Notes {
		fmt.Fprintf(a.Out, "  note: %s\n", note)
	}
	t := a.table(table.Row{"  field", "type", "for", "from"})
	for _, f := range ix.Fields {
		kind, path := f.TypeName(), f.Path
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
		fmt.Fprintf(a.Out, "  %s  %s\n", sample.Key, shorten(string(sample.Document), 110))
	}
}

func shorten(s string, width int) string {
	if line := []rune(s); len(line) > width {
		return string(line[:width-1]) + "…"
	}
	return s
}

func (a *App) apply() *cobra.Command {
	var yes, noWait bool
	var accept, indexes []string
	version := 0
	cmd := &cobra.Command{
		Use:   "apply [FILE|FOLDER|-]…",
		Short: "Apply a definition: install capture, fill indexes, keep them in sync",
		Long: `Shows the plan and asks for confirmation. Then installs capture, fills new and changed indexes, and waits until they are
live. Scripts pass --yes. Name an index with --accept if the definition no longer has it, or if it would lose more than half
of its documents. With --index, Pingo takes only that index from the files, with the sources and engines that are new, and
leaves the other indexes as they are.`,
		Example: `  pingo apply
  pingo apply --index huts
  pingo apply pingo.yaml --yes
  pingo apply --yes --no-wait -o json
  pingo apply --yes --accept old_huts
  pingo apply --version 3`,
		RunE: func(cmd *cobra.Command, args []string) error {
			c := a.client()
			files, err := a.toApply(cmd, args, version)
			if err != nil {
				return err
			}
			if !yes {
				plan, err := c.Check(cmd.Context(), files, indexes...)
				if err != nil {
					return err
				}
				a.showPlan(plan)
				if plan.Refused() {
					return errRefused
				}
				if err := confirm(a.Err, "\nApply this?"); err != nil {
					return err
				}
			}
			applied, err := c.ApplyIndexes(cmd.Context(), files, indexes, accept...)
			var p *api.Problem
			if errors.As(err, &p) && p.Plan != nil && p.Plan.Refused() {
				if err := a.Print(p.Plan, func() { a.showPlan(p.Plan) }); err != nil {
					return err
				}
				return errRefused
			}
			if errors.As(err, &p) && p.Plan != nil { // it would take something away that was not accepted
				fmt.Fprintf(a.Err, "pingo: %v\n", err)
				return errRefused
			}
			if err != nil {
				return err
			}
			if !noWait {
				if err := a.waitForFill(cmd.Context(), indexes, false, applied.Shown); err != nil {
					return err
				}
			}
			status, err := c.Status(cmd.Context())
			if err != nil {
				return err
			}
			return a.Print(applied, func() {
				for _, ix := range status.Indexes {
					if !noWait && ix.Documents != nil && (len(indexes) == 0 || slices.Contains(indexes, ix.Name)) {
						fmt.Fprintf(
							a.Out,
							"%s: %s rows, %s documents in %s\n",
							ix.Name,
							number(ix.Rows),
							number(ix.Documents),
							ix.Edition,
						)
					}
				}
				fmt.Fprintf(a.Out, "Definition version %d is in force.\n", applied.Version)
			})
		},
	}
	yesFlag(cmd, &yes)
	cmd.Flags().
		StringArrayVar(&accept, "accept", nil, "an index that may leave the definition or lose more than half of its documents")
	cmd.Flags().StringArrayVar(&indexes, "index", nil, "apply only this index (repeatable)")
	cmd.Flags().BoolVar(&noWait, "no-wait", false, "return before the editions are filled")
	cmd.Flags().IntVar(&version, "version", 0, "apply an earlier version again; see pingo definition list")
	return cmd
}

// toApply reads the files that are named, or those of an earlier version.
func (a *App) toApply(cmd *cobra.Command, args []string, version int) ([]api.File, error) {
	if !cmd.Flags().Changed("version") {
		return readFiles(args)
	}
	if len(args) > 0 {
		return nil, UsageError{Err: errors.New("say either files or --version, not both")}
	}
	v, err := a.versionOf(cmd.Context(), []string{strconv.Itoa(version)}, 0)
	if err != nil {
		return nil, err
	}
	return v.Files, nil
}

// confirm asks a person; scripts must say --yes.
//
// Every command that deletes something, or changes what searches find, asks, and takes --yes.
func confirm(to io.Writer, question string) error {
	if !term.IsTerminal(int(os.Stdin.Fd())) {
		return UsageError{
			Err: errors.New(
				"not interactive: pass --yes to confirm",
			),
		}
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

// yesFlag adds --yes to a command that asks.
func yesFlag(cmd *cobra.Command, yes *bool) {
	cmd.Flags().BoolVarP(yes, "yes", "y", false, "do not ask for confirmation")
}

func (a *App) capture() *cobra.Command {
	capture := &cobra.Command{
		Use: "capture", Short: "Show, install or remove the capture of a source",
		Long: `Capture is what Pingo installs in a source database to record changes: a journal, and triggers on each table that the
definition reads. pingo apply installs it. These commands show, reinstall and remove it.`,
		Example: `  pingo capture show
  pingo capture show pingo.yaml --source lodge
  pingo capture install --source lodge
  pingo capture remove --source lodge`,
	}
	source := ""
	capture.PersistentFlags().StringVar(&source, "source", "", "the source (default: the only one)")
	show := &cobra.Command{
		Use: "show [FILE|FOLDER|-]…", Short: "Print the capture as SQL, with the least grants that Pingo needs",
		Long:    "Prints the SQL that pingo apply runs for the current definition, or for the definition in the named files.",
		Example: "  pingo capture show\n  pingo capture show pingo.yaml --source lodge > for-the-dba.sql",
		RunE: func(cmd *cobra.Command, args []string) error {
			var files []api.File
			if len(args) > 0 {
				var err error
				if files, err = readFiles(args); err != nil {
					return err
				}
			}
			script, err := a.client().CaptureScript(cmd.Context(), source, files)
			if err != nil {
				return err
			}
			return a.Print(api.Script{Script: script}, func() { fmt.Fprint(a.Out, script) })
		},
	}
	install := &cobra.Command{
		Use: "install", Short: "Install missing parts of the capture", Args: Exactly(0, "no arguments; --source names the source"),
		Example: "  pingo capture install\n  pingo capture install --source lodge",
		RunE: func(cmd *cobra.Command, _ []string) error {
			if err := a.client().InstallCapture(cmd.Context(), source); err != nil {
				return err
			}
			return a.Print(
				map[string]bool{"installed": true},
				func() { fmt.Fprintln(a.Out, "Capture is installed.") },
			)
		},
	}
	var yes bool
	remove := &cobra.Command{
		Use:     "remove",
		Short:   "Remove all triggers and the journal",
		Args:    Exactly(0, "no arguments; --source names the source"),
		Example: "  pingo capture remove --source lodge\n  pingo capture remove --source lodge --yes",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c := a.client()
			if !yes {
				plan, err := c.PlanRemoval(cmd.Context(), source)
				if err != nil {
					return err
				}
				fmt.Fprintln(
					a.Err,
					removal(
						plan,
						"Removing capture from %s drops %s that wait in its journal. %s no longer be kept in sync. pingo apply installs capture again and refills them.",
					),
				)
				if err := confirm(a.Err, "Remove capture?"); err != nil {
					return err
				}
			}
			removed, err := c.RemoveCapture(cmd.Context(), source)
			if err != nil {
				return err
			}
			return a.Print(removed, func() {
				fmt.Fprintln(
					a.Out,
					removal(
						removed,
						"Removed capture from %s, with %s that waited in its journal. %s no longer be kept in sync until pingo apply installs capture again and refills them.",
					),
				)
			})
		},
	}
	yesFlag(remove, &yes)
	capture.AddCommand(show, install, remove)
	return capture
}

// removal puts what a removal does to its source, changes and indexes into a sentence.
func removal(r *api.CaptureRemoval, format string) string {
	changes, indexes := humanize.Comma(r.Changes)+" changes", "No index will"
	if r.Changes == 1 {
		changes = "1 change"
	}
	switch len(r.Indexes) {
	case 0:
	case 1:
		indexes = "The index " + r.Indexes[0] + " will"
	default:
		indexes = "The indexes " + strings.Join(r.Indexes, ", ") + " will"
	}
	return fmt.Sprintf(format, r.Source, changes, indexes)
}

// countOfRows is a number of rows.
func countOfRows(n int64) string {
	if n == 1 {
		return "1 row"
	}
	return humanize.Comma(n) + " rows"
}
