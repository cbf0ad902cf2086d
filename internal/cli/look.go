package cli

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"pingo/internal/engine/wire"
	"pingo/internal/flow"
)

func (a *app) status() *cobra.Command {
	var watch bool
	cmd := &cobra.Command{
		Use: "status", Short: "Say how every index is: true, behind, filling, waiting or blocked", Args: exactly(0, "no arguments"),
		Long:    "Says in a sentence what goes on, then each index with its rows in the source, its documents in the engine, and its lag.\nA lag is the time from a change's writing in the source to the engine's acknowledgement.",
		Example: "  pingo status\n  pingo status --watch\n  pingo status -o json",
		RunE: func(cmd *cobra.Command, _ []string) error {
			for {
				status, err := a.client().Status(cmd.Context())
				if err != nil {
					return err
				}
				if watch && a.output == "table" {
					fmt.Fprint(a.out, "\x1b[H\x1b[2J")
				}
				if err := a.print(status, func() { a.showStatus(status) }); err != nil || !watch {
					return err
				}
				select {
				case <-cmd.Context().Done():
					return nil
				case <-time.After(time.Second):
				}
			}
		},
	}
	cmd.Flags().BoolVarP(&watch, "watch", "w", false, "again every second, until Ctrl-C")
	return cmd
}

func (a *app) showStatus(s *flow.Status) {
	fmt.Fprintln(a.out, s.Sentence)
	if len(s.Indexes) > 0 {
		fmt.Fprintln(a.out)
		t := a.table(table.Row{"index", "state", "rows", "documents", "failed", "lag now", "lag p50", "lag p99", "docs/s"}, 3, 4, 5, 6, 7, 8, 9)
		for _, ix := range s.Indexes {
			t.AppendRow(table.Row{ix.Name, ix.State, number(ix.Rows), number(ix.Documents), humanize.Comma(ix.Failed), milliseconds(ix.LagMS, true),
				milliseconds(ix.Lag.P50, ix.Lag.Changes > 0), milliseconds(ix.Lag.P99, ix.Lag.Changes > 0), fmt.Sprintf("%.1f", ix.PerSecond)})
		}
		t.Render()
		for _, ix := range s.Indexes {
			if ix.State != flow.StateTrue || ix.Failed > 0 {
				fmt.Fprintf(a.out, "\n%s: %s\n", ix.Name, ix.Sentence)
			}
		}
	}
	if len(s.Sources) > 0 {
		fmt.Fprintln(a.out)
		t := a.table(table.Row{"source", "changes noticed", "per second", "on the way", "journal", "oldest", "grows", "size", "limit", "fed by"}, 2, 3, 4, 5, 6, 7, 8, 9)
		for _, src := range s.Sources {
			row := table.Row{src.Name, humanize.Comma(src.Noticed), fmt.Sprintf("%.1f", src.PerSecond), humanize.Comma(int64(src.InFlight)), "–", "–", "–", "–", "–", "–"}
			if j := src.Journal; j != nil {
				row[4], row[6], row[7], row[8] = humanize.Comma(j.Waiting), fmt.Sprintf("%+.1f/s", j.GrowsPerSecond), humanize.Bytes(uint64(j.Bytes)), humanize.Bytes(uint64(j.LimitBytes))
				if j.Oldest != nil {
					row[5] = s.At.Sub(*j.Oldest).Round(time.Millisecond).String()
				}
			}
			for _, p := range s.Processes {
				if slices.Contains(p.Sources, src.Name) {
					row[9] = p.Address
				}
			}
			t.AppendRow(row)
		}
		t.Render()
	}
	for _, src := range s.Sources {
		if src.Journal != nil && src.Journal.Warning != "" {
			fmt.Fprintf(a.out, "\nsource %s: %s\n", src.Name, src.Journal.Warning)
		}
	}
	for _, eng := range s.Engines {
		if eng.Trouble != nil {
			fmt.Fprintf(a.out, "\nengine %s does not answer since %s: %s\n", eng.Name, eng.Trouble.Since.Local().Format(time.TimeOnly), eng.Trouble.Message)
		}
	}
}

func (a *app) trace() *cobra.Command {
	var change bool
	var source string
	cmd := &cobra.Command{
		Use: "trace --change TABLE KEY", Short: "Say which documents a change of a row would touch, without touching them", Args: exactly(2, "a table and the key of one of its rows"),
		Long:    "Follows the ways from a row up to documents, as a change of it would be followed, and counts what would be built anew.\nThe values of a key with several columns are joined by commas.",
		Example: "  pingo trace --change keepers 7\n  pingo trace --change hut_amenities 42,3\n  pingo trace --change regions 5 -o json",
		RunE: func(cmd *cobra.Command, args []string) error {
			if !change {
				return usageError{errors.New("say what to trace: pingo trace --change TABLE KEY; pingo preview INDEX KEY looks at one document")}
			}
			traced, err := a.client().TraceChange(cmd.Context(), source, args[0], args[1])
			if err != nil {
				return err
			}
			return a.print(traced, func() {
				t := a.table(table.Row{"index", "documents", "what a change of " + traced.Table + " " + traced.Key + " would do", "the first of them"}, 2)
				for _, ix := range traced.Indexes {
					keys := strings.Join(ix.Keys[:min(5, len(ix.Keys))], "  ")
					if len(ix.Keys) > 5 {
						keys += " …"
					}
					t.AppendRow(table.Row{ix.Index, humanize.Comma(ix.Documents), ix.Words, keys})
				}
				t.Render()
			})
		},
	}
	cmd.Flags().BoolVar(&change, "change", false, "trace a change of a row")
	cmd.Flags().StringVar(&source, "source", "", "the source of the table (default: the only one)")
	return cmd
}

func number(n *int64) string {
	if n == nil {
		return "–"
	}
	return humanize.Comma(*n)
}

func milliseconds(ms float64, known bool) string {
	switch {
	case !known:
		return "–"
	case ms < 1000:
		return fmt.Sprintf("%.0f ms", ms)
	}
	return fmt.Sprintf("%.1f s", ms/1000)
}

func (a *app) search() *cobra.Command {
	limit := 10
	var filters, order, facets []string
	cmd := &cobra.Command{
		Use: "search INDEX TEXT…", Short: "Look for words in an index",
		Long:    "Finds documents in which every word stands in some searched field, as the field matches. Without text it lists documents.",
		Example: "  pingo search huts stone ridge\n  pingo search huts winter -o json\n  pingo search huts --filter winter_room=true --sort -altitude_m --facet region.country",
		Args: func(cmd *cobra.Command, args []string) error {
			if len(args) == 0 {
				return usageError{fmt.Errorf("%s takes an index and words to look for", cmd.CommandPath())}
			}
			return nil
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			q := wire.Query{Text: strings.Join(args[1:], " "), Facets: facets, Limit: limit}
			for _, text := range filters {
				path, value, ok := strings.Cut(text, "=")
				if !ok {
					return usageError{fmt.Errorf("--filter is FIELD=VALUE, not %q", text)}
				}
				q.Filters = append(q.Filters, wire.Filter{Path: path, Value: value})
			}
			for _, text := range order {
				path, down := strings.CutPrefix(text, "-")
				q.Order = append(q.Order, wire.Order{Path: path, Descending: down})
			}
			hits, err := a.client().Search(cmd.Context(), args[0], q)
			if err != nil {
				return err
			}
			return a.print(hits, func() { a.showHits(hits, facets) })
		},
	}
	cmd.Flags().StringArrayVar(&filters, "filter", nil, "only documents with FIELD=VALUE")
	cmd.Flags().StringArrayVar(&order, "sort", nil, "order by FIELD, or by -FIELD downwards")
	cmd.Flags().StringArrayVar(&facets, "facet", nil, "count the values of FIELD over all that is found")
	cmd.Flags().IntVarP(&limit, "limit", "n", limit, "how many documents")
	return cmd
}

func (a *app) showHits(hits *wire.Hits, facets []string) {
	if hits.Total == 0 {
		fmt.Fprintln(a.out, "Nothing found.")
		return
	}
	t := a.table(table.Row{"key", "score", "document"}, 2)
	for _, h := range hits.Hits {
		t.AppendRow(table.Row{h.Key, fmt.Sprintf("%.2f", h.Score), digest(h.Document)})
	}
	t.Render()
	for _, path := range facets {
		var counts []string
		for _, f := range hits.Facets[path] {
			counts = append(counts, fmt.Sprintf("%s %s", f.Value, humanize.Comma(f.Documents)))
		}
		fmt.Fprintf(a.out, "\n%s: %s\n", path, strings.Join(counts, ", "))
	}
	fmt.Fprintf(a.out, "\n%s found, %d shown. The whole document: pingo preview INDEX KEY\n", humanize.Comma(hits.Total), len(hits.Hits))
}

// digest shows the beginning of a document's own fields on a line.
func digest(doc json.RawMessage) string {
	const width = 90
	var b strings.Builder
	decoder := json.NewDecoder(bytes.NewReader(doc))
	decoder.Token()
	for decoder.More() && b.Len() < width {
		name, err := decoder.Token()
		if err != nil {
			break
		}
		var value json.RawMessage
		if decoder.Decode(&value) != nil {
			break
		}
		var text string
		if strings.HasPrefix(fmt.Sprint(name), "pingo_") || json.Unmarshal(value, &text) != nil || text == "" {
			continue
		}
		if b.Len() > 0 {
			b.WriteString(" · ")
		}
		b.WriteString(text)
	}
	return shorten(b.String(), width)
}

func (a *app) preview() *cobra.Command {
	var sample int
	cmd := &cobra.Command{
		Use: "preview INDEX [KEY]", Short: "Show a document as it would be built now, beside the one in the engine",
		Long:    "The key is the root row's primary key; the parts of a key of several columns are joined by commas, and in an index\nwith several rows the name of the rows comes first: hut,42. Says where each value comes from.",
		Example: "  pingo preview huts 42\n  pingo preview finder hut,42 -o json\n  pingo preview huts --sample 3",
		Args: func(cmd *cobra.Command, args []string) error {
			if sample == 0 && len(args) != 2 || sample > 0 && len(args) != 1 {
				return usageError{fmt.Errorf("%s takes an index and a key, or an index and --sample N", cmd.CommandPath())}
			}
			return nil
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			if sample > 0 {
				list, err := a.client().Sample(cmd.Context(), args[0], sample)
				if err != nil {
					return err
				}
				return a.print(list, func() {
					for i := range list {
						a.showPreview(&list[i], i == len(list)-1)
					}
				})
			}
			p, err := a.client().Preview(cmd.Context(), args[0], args[1])
			if err != nil {
				return err
			}
			return a.print(p, func() { a.showPreview(p, true) })
		},
	}
	cmd.Flags().IntVar(&sample, "sample", 0, "the first so many documents instead of that of a key")
	return cmd
}

func (a *app) showPreview(p *flow.Preview, origins bool) {
	indent := func(doc json.RawMessage) string {
		var b bytes.Buffer
		if json.Indent(&b, doc, "", "  ") != nil {
			return string(doc)
		}
		return b.String()
	}
	fmt.Fprintln(a.out, indent(p.Built))
	fmt.Fprintf(a.out, "\n%s %s: %s\n\n", p.Edition, p.Key, p.Words)
	if !p.Same {
		fmt.Fprintf(a.out, "in the engine:\n%s\n\n", indent(p.Stored))
	}
	if !origins {
		return
	}
	t := a.table(table.Row{"field", "type", "comes from"})
	for _, o := range p.Origins {
		t.AppendRow(table.Row{o.Path, o.Type, shorten(o.From, 80)})
	}
	t.Render()
}

func (a *app) tokenCommand() *cobra.Command {
	tokens := &cobra.Command{
		Use: "token", Short: "Make, list and remove access tokens",
		Long:    "A viewer sees everything, an operator mends, an admin changes definitions, capture and tokens.\nTokens are stored as hashes; a new one is shown once.",
		Example: "  pingo token create dashboards --role viewer\n  pingo token list\n  pingo token remove dashboards",
	}
	role := "viewer"
	create := &cobra.Command{
		Use: "create NAME", Short: "Make a token and show it, this once", Args: exactly(1, "a name"),
		Example: "  pingo token create dashboards --role viewer",
		RunE: func(cmd *cobra.Command, args []string) error {
			t, err := a.client().CreateToken(cmd.Context(), args[0], role)
			if err != nil {
				return err
			}
			return a.print(t, func() { fmt.Fprintln(a.out, t.Token) })
		},
	}
	create.Flags().StringVar(&role, "role", role, "viewer, operator or admin")
	list := &cobra.Command{
		Use: "list", Short: "List tokens", Args: exactly(0, "no arguments"), Example: "  pingo token list",
		RunE: func(cmd *cobra.Command, _ []string) error {
			list, err := a.client().Tokens(cmd.Context())
			if err != nil {
				return err
			}
			return a.print(list, func() {
				t := a.table(table.Row{"name", "role", "made", "last used"})
				for _, x := range list {
					used := "never"
					if x.UsedAt != nil {
						used = x.UsedAt.Local().Format(time.DateTime)
					}
					t.AppendRow(table.Row{x.Name, x.Role, x.CreatedAt.Local().Format(time.DateTime), used})
				}
				t.Render()
			})
		},
	}
	remove := &cobra.Command{
		Use: "remove NAME", Short: "Take a token back", Args: exactly(1, "a name"), Example: "  pingo token remove dashboards",
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := a.client().RemoveToken(cmd.Context(), args[0]); err != nil {
				return err
			}
			return a.print(map[string]string{"removed": args[0]}, func() { fmt.Fprintf(a.out, "Token %s is removed.\n", args[0]) })
		},
	}
	tokens.AddCommand(create, list, remove)
	return tokens
}
