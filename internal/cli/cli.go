// Package cli is the command line: Cobra commands on the API's client. It imports nothing
// else of ours but the API's types; commands that run something are handed in.
package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"regexp"
	"strings"
	"syscall"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/spf13/cobra"
	"golang.org/x/term"
	"gopkg.in/yaml.v3"

	"pingo/internal/client"
)

// Version of this build.
const Version = "0.1.0"

// The exit codes.
const (
	exitOK      = 0
	exitError   = 1
	exitUsage   = 2
	exitRefused = 3 // a definition has findings, or a check of the demo is false
	// What check says of a definition that can be applied and would change something.
	exitInPlace = 4 // settings of live editions
	exitFills   = 5 // editions are filled, or indexes are no longer followed
)

// exitWith ends a command with a code after it has said all there is to say.
type exitWith int

func (e exitWith) Error() string { return fmt.Sprintf("exit code %d", int(e)) }

// errRefused ends a command with exitRefused after it has said why.
var errRefused = errors.New("refused")

// UsageError is a mistake in the command line itself.
type UsageError struct{ Err error }

func (u UsageError) Error() string { return u.Err.Error() }

// App is what all commands share.
type App struct {
	// Out and Err show what would act on a terminal.
	Out, Err io.Writer

	// terminal and bars are the same for what is meant to act on it: to clear it, and progress bars.
	terminal, bars io.Writer

	url    string
	token  string
	output string
	colour bool // of what is written to Out
}

// The groups of commands.
const (
	GroupRun    = "run"
	GroupDefine = "define"
	groupLook   = "look"
	groupSend   = "send"
	groupOther  = "other"
	// BelowToken is no group: what is in it are commands of pingo token.
	BelowToken = "token"
)

// Main runs the command line and returns the exit code. more makes the commands that run
// something on this machine, by group.
func Main(more func(a *App) map[string][]*cobra.Command) int {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	a := &App{terminal: os.Stdout, bars: os.Stderr, colour: coloured(os.Stdout)}
	a.Out, a.Err = visible{os.Stdout, a.colour}, visible{os.Stderr, false}
	root := a.root(more(a))
	ran, err := root.ExecuteContextC(ctx)
	var usage UsageError
	var code exitWith
	switch {
	case err == nil:
		return exitOK
	case errors.Is(err, errRefused):
		return exitRefused
	case errors.As(err, &code):
		return int(code)
	case errors.As(err, &usage),
		strings.HasPrefix(err.Error(), "unknown command"),
		strings.HasPrefix(err.Error(), "unknown subcommand"),
		strings.HasPrefix(err.Error(), "required flag"):
		fmt.Fprintf(a.Err, "pingo: %v\nSee %s --help.\n", err, ran.CommandPath())
		return exitUsage
	case ctx.Err() != nil && errors.Is(err, context.Canceled):
		return exitError
	}
	fmt.Fprintf(a.Err, "pingo: %v\n", err)
	return exitError
}

// Commands is the command line with its commands and flags, for what describes it.
func Commands(more func(a *App) map[string][]*cobra.Command) *cobra.Command {
	a := &App{}
	return a.root(more(a))
}

// coloured reports whether a file is a terminal where colour is wanted.
func coloured(f *os.File) bool {
	return term.IsTerminal(int(f.Fd())) && os.Getenv("NO_COLOR") == "" && os.Getenv("TERM") != "dumb"
}

func (a *App) root(more map[string][]*cobra.Command) *cobra.Command {
	root := &cobra.Command{
		Use:   "pingo",
		Short: "Keep search indexes in sync with databases",
		Long: `Pingo keeps search indexes in sync with databases.

Try it:            pingo demo
On your database:  pingo serve, then pingo check and pingo apply on a definition

All commands except serve, demo, standin, schema and version talk to a running
pingo serve: PINGO_URL says where it is, PINGO_TOKEN holds a token for it.

Exit codes: 0 done, 1 failed, 2 the command line is wrong, 3 refused with findings.
check also has 4 and 5, for what it would change.`,
		SilenceErrors: true, SilenceUsage: true,
	}
	root.SetOut(a.Out)
	root.SetErr(a.Err)
	root.SetFlagErrorFunc(func(_ *cobra.Command, err error) error { return UsageError{Err: err} })
	flags := root.PersistentFlags()
	flags.StringVar(
		&a.url,
		"url",
		envOr("PINGO_URL", "http://127.0.0.1:7464"),
		"where pingo serve answers (PINGO_URL)",
	)
	flags.StringVarP(&a.output, "output", "o", "table", "table, json or yaml")
	a.token = os.Getenv("PINGO_TOKEN")
	root.PersistentPreRunE = func(*cobra.Command, []string) error {
		switch a.output {
		case "table", "json", "yaml":
			return nil
		}
		return UsageError{Err: fmt.Errorf("--output is table, json or yaml, not %q", a.output)}
	}
	root.AddGroup(
		&cobra.Group{ID: GroupRun, Title: "Running:"},
		&cobra.Group{ID: GroupDefine, Title: "Definitions:"},
		&cobra.Group{ID: groupLook, Title: "Looking:"},
		&cobra.Group{ID: groupSend, Title: "Sending:"},
		&cobra.Group{ID: groupOther, Title: "Other:"},
	)
	add := func(group string, commands ...*cobra.Command) {
		for _, c := range commands {
			c.GroupID = group
			root.AddCommand(c)
		}
	}
	add(GroupDefine, a.check(), a.apply(), a.definition(), a.reindex(), a.capture(), a.source(), a.drop(), a.export(), a.uninstall())
	add(
		groupLook,
		a.status(),
		a.search(),
		a.wait(),
		a.expect(),
		a.preview(),
		a.trace(),
		a.drift(),
		a.repair(),
		a.failed(),
		a.leftovers(),
	)
	add(groupSend, a.hooks(), a.load())
	tokens := a.tokenCommand()
	tokens.AddCommand(more[BelowToken]...)
	add(groupOther, tokens, a.version())
	for group, commands := range more {
		if group != BelowToken {
			add(group, commands...)
		}
	}
	a.completions(root)
	onlyKnown(root)
	if a.colour {
		cobra.AddTemplateFunc("heading", func(s string) string { return text.Bold.Sprint(s) })
		template := headings.ReplaceAllString(root.UsageTemplate(), `{{heading "$1"}}$2`)
		root.SetUsageTemplate(strings.ReplaceAll(template, "{{.Title}}", "{{heading .Title}}"))
	}
	root.SetHelpCommandGroupID(groupOther)
	root.SetCompletionCommandGroupID(groupOther)
	return root
}

// onlyKnown makes groups of commands refuse words that name none of them, and print their help without one.
func onlyKnown(c *cobra.Command) {
	for _, sub := range c.Commands() {
		onlyKnown(sub)
	}
	if !c.HasParent() || !c.HasSubCommands() || c.Runnable() {
		return
	}
	c.RunE = func(cmd *cobra.Command, args []string) error {
		if len(args) == 0 {
			return cmd.Help()
		}
		message := fmt.Sprintf("unknown subcommand %q for %q", args[0], cmd.CommandPath())
		if like := cmd.SuggestionsFor(args[0]); len(like) > 0 {
			message += ": did you mean " + strings.Join(like, " or ") + "?"
		}
		return UsageError{Err: errors.New(message)}
	}
	c.SuggestionsMinimumDistance = 2
}

// headings are the lines of Cobra's usage template that name a part of it.
var headings = regexp.MustCompile(`(?m)^([A-Z][A-Za-z ]+:)(.*)$`)

func envOr(name, or string) string {
	if v := os.Getenv(name); v != "" {
		return v
	}
	return or
}

func (a *App) client() *client.Client { return &client.Client{URL: a.url, Token: a.token} }

// Exactly checks the number of arguments, and says what they are.
func Exactly(n int, what string) cobra.PositionalArgs {
	return func(cmd *cobra.Command, args []string) error {
		if len(args) != n {
			return UsageError{Err: fmt.Errorf("%s takes %s", cmd.CommandPath(), what)}
		}
		return nil
	}
}

// Print writes v as JSON or YAML, or calls human for a table.
func (a *App) Print(v any, human func()) error {
	switch a.output {
	case "json":
		encoder := json.NewEncoder(a.Out)
		encoder.SetIndent("", "  ")
		encoder.SetEscapeHTML(false)
		return encoder.Encode(v)
	case "yaml":
		b, err := json.Marshal(v)
		if err != nil {
			return err
		}
		var plain any
		if err := yaml.Unmarshal(b, &plain); err != nil { // JSON is YAML; this keeps its names
			return err
		}
		encoder := yaml.NewEncoder(a.Out)
		encoder.SetIndent(2)
		return encoder.Encode(plain)
	}
	human()
	return nil
}

// table starts a table with plain lines; numbers is which columns are numbers.
func (a *App) table(header table.Row, numbers ...int) table.Writer {
	t := table.NewWriter()
	t.SetOutputMirror(a.Out)
	style := table.StyleDefault
	style.Options = table.OptionsNoBordersAndSeparators
	style.Format.Header = text.FormatDefault
	style.Box.PaddingLeft, style.Box.PaddingRight = "", "   "
	if a.colour {
		style.Color.Header = text.Colors{text.Bold}
	}
	t.SetStyle(style)
	t.AppendHeader(header)
	var columns []table.ColumnConfig
	for _, n := range numbers {
		columns = append(
			columns,
			table.ColumnConfig{Number: n, Align: text.AlignRight, AlignHeader: text.AlignRight},
		)
	}
	t.SetColumnConfigs(columns)
	return t
}

// watched reports whether a person looks at the terminal.
func watched() bool {
	return term.IsTerminal(int(os.Stderr.Fd())) && os.Getenv("TERM") != "dumb"
}

func (a *App) version() *cobra.Command {
	return &cobra.Command{
		Use: "version", Short: "Print the version", Args: Exactly(0, "no arguments"),
		Example: "  pingo version\n  pingo version -o json",
		RunE: func(*cobra.Command, []string) error {
			return a.Print(
				map[string]string{"version": Version},
				func() { fmt.Fprintln(a.Out, "pingo", Version) },
			)
		},
	}
}
