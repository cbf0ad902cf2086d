// Package cli is the command line: Cobra commands on the API's client.
package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
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

// usageError is a mistake in the command line itself.
type usageError struct{ error }

// app is what all commands share.
type app struct {
	out    io.Writer
	err    io.Writer
	url    string
	token  string
	output string
}

// Main runs the command line and returns the exit code.
func Main() int {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	a := &app{out: os.Stdout, err: os.Stderr}
	root := a.root()
	err := root.ExecuteContext(ctx)
	var usage usageError
	var code exitWith
	switch {
	case err == nil:
		return exitOK
	case errors.Is(err, errRefused):
		return exitRefused
	case errors.As(err, &code):
		return int(code)
	case errors.As(err, &usage), strings.HasPrefix(err.Error(), "unknown command"), strings.HasPrefix(err.Error(), "required flag"):
		fmt.Fprintf(a.err, "pingo: %v\nSee pingo --help.\n", err)
		return exitUsage
	case ctx.Err() != nil && errors.Is(err, context.Canceled):
		return exitError
	}
	fmt.Fprintf(a.err, "pingo: %v\n", err)
	return exitError
}

func (a *app) root() *cobra.Command {
	root := &cobra.Command{
		Use:   "pingo",
		Short: "Keeps search indexes true to the databases they are made from",
		Long: `Pingo keeps search indexes true to the databases they are made from.

Try it:            pingo demo
On your database:  pingo serve, then pingo check and pingo apply on a definition

Commands but serve, demo, standin, schema and version talk to a running
pingo serve: PINGO_URL says where it is, PINGO_TOKEN holds a token for it.

Exit codes: 0 done, 1 failed, 2 the command line is wrong, 3 refused with findings;
check also has 4 and 5, for what it would change.`,
		SilenceErrors: true, SilenceUsage: true,
	}
	root.SetOut(a.out)
	root.SetErr(a.err)
	root.SetFlagErrorFunc(func(_ *cobra.Command, err error) error { return usageError{err} })
	flags := root.PersistentFlags()
	flags.StringVar(&a.url, "url", envOr("PINGO_URL", "http://127.0.0.1:7464"), "where pingo serve answers (PINGO_URL)")
	flags.StringVarP(&a.output, "output", "o", "table", "table, json or yaml")
	a.token = os.Getenv("PINGO_TOKEN")
	root.PersistentPreRunE = func(*cobra.Command, []string) error {
		switch a.output {
		case "table", "json", "yaml":
			return nil
		}
		return usageError{fmt.Errorf("--output is table, json or yaml, not %q", a.output)}
	}
	root.AddGroup(&cobra.Group{ID: "run", Title: "Running:"}, &cobra.Group{ID: "define", Title: "Definitions:"}, &cobra.Group{ID: "look", Title: "Looking:"}, &cobra.Group{ID: "other", Title: "Other:"})
	add := func(group string, commands ...*cobra.Command) {
		for _, c := range commands {
			c.GroupID = group
			root.AddCommand(c)
		}
	}
	add("run", a.serve(), a.demo(), a.standin())
	add("define", a.check(), a.apply(), a.capture(), a.schema())
	add("look", a.status(), a.search(), a.preview(), a.trace(), a.failed())
	add("other", a.tokenCommand(), a.version())
	root.SetHelpCommandGroupID("other")
	root.SetCompletionCommandGroupID("other")
	return root
}

func envOr(name, or string) string {
	if v := os.Getenv(name); v != "" {
		return v
	}
	return or
}

func (a *app) client() *client.Client { return &client.Client{URL: a.url, Token: a.token} }

// exactly checks the number of arguments, and says what they are.
func exactly(n int, what string) cobra.PositionalArgs {
	return func(cmd *cobra.Command, args []string) error {
		if len(args) != n {
			return usageError{fmt.Errorf("%s takes %s", cmd.CommandPath(), what)}
		}
		return nil
	}
}

// print writes v as JSON or YAML, or calls human for a table.
func (a *app) print(v any, human func()) error {
	switch a.output {
	case "json":
		encoder := json.NewEncoder(a.out)
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
		encoder := yaml.NewEncoder(a.out)
		encoder.SetIndent(2)
		return encoder.Encode(plain)
	}
	human()
	return nil
}

// table starts a table with plain lines; numbers is which columns are numbers.
func (a *app) table(header table.Row, numbers ...int) table.Writer {
	t := table.NewWriter()
	t.SetOutputMirror(a.out)
	style := table.StyleDefault
	style.Options = table.OptionsNoBordersAndSeparators
	style.Format.Header = text.FormatDefault
	style.Box.PaddingLeft, style.Box.PaddingRight = "", "   "
	t.SetStyle(style)
	t.AppendHeader(header)
	var columns []table.ColumnConfig
	for _, n := range numbers {
		columns = append(columns, table.ColumnConfig{Number: n, Align: text.AlignRight, AlignHeader: text.AlignRight})
	}
	t.SetColumnConfigs(columns)
	return t
}

// watched reports whether a person looks at the terminal.
func watched() bool {
	return term.IsTerminal(int(os.Stderr.Fd())) && os.Getenv("TERM") != "dumb"
}

func (a *app) version() *cobra.Command {
	return &cobra.Command{
		Use: "version", Short: "Print the version", Args: exactly(0, "no arguments"),
		Example: "  pingo version\n  pingo version -o json",
		RunE: func(*cobra.Command, []string) error {
			return a.print(map[string]string{"version": Version}, func() { fmt.Fprintln(a.out, "pingo", Version) })
		},
	}
}
