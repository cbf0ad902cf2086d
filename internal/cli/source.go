package cli

import (
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"
)

// source lets go of a source's database for a time.
func (a *App) source() *cobra.Command {
	source := &cobra.Command{
		Use: "source", Short: "Disconnect from a source for a time, and reconnect",
		Long: `PostgreSQL drops, renames or copies a database only while no session is connected to it. pingo source disconnect closes
all of Pingo's. Capture keeps recording changes, and Pingo delivers them when it reconnects.`,
		Example: "  pingo source disconnect lodge --for 5m\n  pingo source connect lodge",
	}
	var lasts time.Duration
	disconnect := &cobra.Command{
		Use: "disconnect SOURCE", Short: "Close all connections to a source for a time",
		Args:    Exactly(1, "a source"),
		Example: "  pingo source disconnect lodge --for 5m",
		RunE: func(cmd *cobra.Command, args []string) error {
			if lasts < time.Second || lasts > 24*time.Hour {
				return UsageError{Err: errors.New("--for is from 1s to 24h")}
			}
			out, err := a.client().Disconnect(cmd.Context(), args[0], lasts)
			if err != nil {
				return err
			}
			return a.Print(out, func() {
				fmt.Fprintf(a.Out, "Disconnected from %s until %s.", out.Source, out.Until.Local().Format("15:04:05"))
				if len(out.Indexes) > 0 {
					fmt.Fprintf(a.Out, " Until then these indexes wait: %s.", strings.Join(out.Indexes, ", "))
				}
				fmt.Fprintf(a.Out, "\nOther processes of the service disconnect within two seconds. To reconnect earlier, run: pingo source connect %s\n", out.Source)
			})
		},
	}
	disconnect.Flags().DurationVar(&lasts, "for", 5*time.Minute, "how long, at most 24h")
	connect := &cobra.Command{
		Use: "connect SOURCE", Short: "Reconnect to a source",
		Args:    Exactly(1, "a source"),
		Example: "  pingo source connect lodge",
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := a.client().Connect(cmd.Context(), args[0]); err != nil {
				return err
			}
			return a.Print(map[string]bool{"connected": true}, func() { fmt.Fprintf(a.Out, "Reconnecting to %s.\n", args[0]) })
		},
	}
	source.AddCommand(disconnect, connect)
	return source
}
