package cli

import (
	"fmt"
	"strconv"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"
)

func (a *App) tokenCommand() *cobra.Command {
	tokens := &cobra.Command{
		Use: "token", Short: "Create, list and remove access tokens, and end sessions",
		Long: `Roles: a viewer reads everything, an operator rebuilds, repairs and retries, an admin changes definitions, capture and tokens.
Pingo stores tokens as hashes and shows a new one once. A console session ends after 12 hours, after 30 minutes without use,
and with its token.`,
		Example: `  pingo token create dashboards --role viewer --days 90
  pingo token list
  pingo token remove dashboards
  pingo token sessions`,
	}
	tokens.AddCommand(a.tokenCreate(), a.tokenList(), a.tokenRemove(), a.tokenSessions())
	return tokens
}

func (a *App) tokenCreate() *cobra.Command {
	role, days := "viewer", 0
	cmd := &cobra.Command{
		Use: "create NAME", Short: "Create a token and show it once", Args: Exactly(1, "a name"),
		Example: "  pingo token create dashboards --role viewer\n  pingo token create visitor --days 7",
		RunE: func(cmd *cobra.Command, args []string) error {
			var expires *time.Time
			switch {
			case days < 0:
				return UsageError{
					Err: fmt.Errorf("--days is after how many days the token expires, 0 for never, not %d", days),
				}
			case days > 0:
				at := time.Now().AddDate(0, 0, days)
				expires = &at
			}
			t, err := a.client().CreateToken(cmd.Context(), args[0], role, expires)
			if err != nil {
				return err
			}
			return a.Print(t, func() { fmt.Fprintln(a.Out, t.Token) })
		},
	}
	cmd.Flags().StringVar(&role, "role", role, "viewer, operator or admin")
	cmd.Flags().IntVar(&days, "days", days, "number of days until the token expires (default: never)")
	return cmd
}

func (a *App) tokenList() *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List tokens", Args: Exactly(0, "no arguments"), Example: "  pingo token list",
		RunE: func(cmd *cobra.Command, _ []string) error {
			list, err := a.client().Tokens(cmd.Context())
			if err != nil {
				return err
			}
			return a.Print(list, func() {
				t := a.table(table.Row{"name", "role", "made", "last used", "expires"})
				for _, x := range list {
					t.AppendRow(table.Row{
						x.Name, x.Role, x.CreatedAt.Local().Format(time.DateTime), timeOr(x.UsedAt, "never"), timeOr(x.ExpiresAt, "never"),
					})
				}
				t.Render()
			})
		},
	}
}

func timeOr(t *time.Time, or string) string {
	if t == nil {
		return or
	}
	return t.Local().Format(time.DateTime)
}

func (a *App) tokenRemove() *cobra.Command {
	var yes bool
	cmd := &cobra.Command{
		Use:   "remove NAME",
		Short: "Remove a token and end its sessions",
		Args:  Exactly(1, "a name"), Example: "  pingo token remove dashboards",
		RunE: func(cmd *cobra.Command, args []string) error {
			if !yes {
				if err := confirm(a.Err, fmt.Sprintf("Remove token %s? Its users lose access immediately.", args[0])); err != nil {
					return err
				}
			}
			if err := a.client().RemoveToken(cmd.Context(), args[0]); err != nil {
				return err
			}
			return a.Print(
				map[string]string{"removed": args[0]},
				func() { fmt.Fprintf(a.Out, "Token %s is removed.\n", args[0]) },
			)
		},
	}
	yesFlag(cmd, &yes)
	return cmd
}

func (a *App) tokenSessions() *cobra.Command {
	end := ""
	cmd := &cobra.Command{
		Use: "sessions", Short: "List console sessions, or end one", Args: Exactly(0, "no arguments"),
		Example: "  pingo token sessions\n  pingo token sessions --end 12",
		RunE: func(cmd *cobra.Command, _ []string) error {
			if end != "" {
				id, err := strconv.ParseInt(end, 10, 64)
				if err != nil {
					return UsageError{Err: fmt.Errorf("--end takes the number of a session, not %q", end)}
				}
				if err := a.client().EndSession(cmd.Context(), id); err != nil {
					return err
				}
				return a.Print(
					map[string]int64{"ended": id},
					func() { fmt.Fprintf(a.Out, "Session %d has ended.\n", id) },
				)
			}
			list, err := a.client().Sessions(cmd.Context())
			if err != nil {
				return err
			}
			return a.Print(list, func() {
				if len(list) == 0 {
					fmt.Fprintln(a.Out, "No one is signed in to the console.")
					return
				}
				t := a.table(table.Row{"session", "token", "role", "began", "last used", "ends"}, 1)
				for _, x := range list {
					t.AppendRow(table.Row{
						x.ID, x.Token, x.Role, timeOr(&x.BeganAt, ""), timeOr(&x.UsedAt, ""), timeOr(&x.EndsAt, ""),
					})
				}
				t.Render()
			})
		},
	}
	cmd.Flags().StringVar(&end, "end", "", "number of the session to end")
	return cmd
}
