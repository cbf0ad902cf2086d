package cli

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/spf13/cobra"

	"pingo/internal/api"
)

func (a *App) status() *cobra.Command {
	var watch bool
	cmd := &cobra.Command{
		Use:   "status",
		Short: "Show the state of every index",
		Args:  Exactly(0, "no arguments"),
		Long: `Shows one sentence for all, then each index with its state, rows in the source, documents in the engine, and lag: the time
from the commit of a change to the engine's acknowledgement.`,
		Example: "  pingo status\n  pingo status --watch\n  pingo status -o json",
		RunE: func(cmd *cobra.Command, _ []string) error {
			for {
				status, err := a.client().Status(cmd.Context())
				if err != nil {
					return err
				}
				if watch && a.output == "table" {
					fmt.Fprint(a.terminal, "\x1b[H\x1b[2J")
				}
				if err := a.Print(status, func() { a.showStatus(status) }); err != nil || !watch {
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
	cmd.Flags().BoolVarP(&watch, "watch", "w", false, "refresh every second, until Ctrl-C")
	return cmd
}

func (a *App) showStatus(s *api.Status) {
	fmt.Fprintln(a.Out, s.Sentence)
	if len(s.Indexes) > 0 {
		fmt.Fprintln(a.Out)
		t := a.table(
			table.Row{
				"index",
				"state",
				"rows",
				"documents",
				"failed",
				"lag now",
				"lag p50",
				"lag p99",
				"docs/s",
				"proven",
			},
			3,
			4,
			5,
			6,
			7,
			8,
			9,
		)
		for _, ix := range s.Indexes {
			t.AppendRow(
				table.Row{
					ix.Name,
					a.state(ix.State),
					number(ix.Rows),
					number(ix.Documents),
					humanize.Comma(ix.Failed),
					milliseconds(ix.LagMS, true),
					milliseconds(
						ix.Lag.P50,
						ix.Lag.Changes > 0,
					),
					milliseconds(ix.Lag.P99, ix.Lag.Changes > 0),
					fmt.Sprintf("%.1f", ix.PerSecond),
					proven(ix.Drift),
				},
			)
		}
		t.Render()
		for _, ix := range s.Indexes {
			if ix.State != api.StateInSync || ix.Failed > 0 || ix.Recounting {
				fmt.Fprintf(a.Out, "\n%s: %s\n", ix.Name, ix.Sentence)
			}
		}
	}
	for _, p := range s.Processes {
		if p.ClockAheadMS != 0 {
			fmt.Fprintf(a.Out, "\nThe clock of the process at %s differs from the records database's by %s. Lag is wrong by that, and signed events may be refused. Synchronise the clocks.\n",
				p.Address, (time.Duration(p.ClockAheadMS) * time.Millisecond).Abs().Round(time.Second))
		}
	}
	if len(s.Sources) > 0 {
		fmt.Fprintln(a.Out)
		t := a.table(
			table.Row{
				"source",
				"changes",
				"per second",
				"in flight",
				"journal",
				"oldest",
				"grows",
				"size",
				"limit",
				"fed by",
			},
			2,
			3,
			4,
			5,
			6,
			7,
			8,
			9,
		)
		for _, src := range s.Sources {
			row := table.Row{
				src.Name,
				humanize.Comma(src.Noticed),
				fmt.Sprintf("%.1f", src.PerSecond),
				humanize.Comma(int64(src.InFlight)),
				"–",
				"–",
				"–",
				"–",
				"–",
				"–",
			}
			if j := src.Journal; j != nil {
				row[4], row[6], row[7], row[8] = humanize.Comma(
					j.Changes,
				), fmt.Sprintf(
					"%+.1f/s",
					math.Round(j.GrowsPerSecond*10)/10+0, // never -0.0
				), humanize.Bytes(
					uint64(j.Bytes),
				), humanize.Bytes(
					uint64(j.LimitBytes),
				)
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
			fmt.Fprintf(a.Out, "\nsource %s: %s\n", src.Name, src.Journal.Warning)
		}
	}
	for _, eng := range s.Engines {
		if eng.Trouble != nil {
			fmt.Fprintf(
				a.Out,
				"\nengine %s has not answered since %s: %s\n",
				eng.Name,
				eng.Trouble.Since.Local().Format(time.TimeOnly),
				eng.Trouble.Message,
			)
		}
	}
}

// proven says how much of an index was compared with its rows, in a column.
func proven(d *api.DriftStatus) string {
	if d == nil {
		return "–"
	}
	sentence := strings.TrimPrefix(d.Sentence, "proven equal: ")
	if share, more, partly := strings.Cut(sentence, " by fingerprint and "); partly { // in short
		content, within, _ := strings.Cut(more, " by content ")
		return share + " " + within + ", content " + content
	}
	return sentence
}

// state is a state in the colour of what it means.
func (a *App) state(state string) string {
	if !a.colour {
		return state
	}
	switch state {
	case api.StateInSync:
		return text.FgGreen.Sprint(state)
	case api.StateBlocked:
		return text.FgRed.Sprint(state)
	}
	return text.FgYellow.Sprint(state)
}

func (a *App) trace() *cobra.Command {
	var change bool
	var source string
	cmd := &cobra.Command{
		Use:   "trace INDEX KEY, or trace --change TABLE KEY",
		Short: "Explain why a record is, or is not, in an index",
		Args:  Exactly(2, "an index and a key, or with --change a table and the key of one of its rows"),
		Long: `Checks whether the row exists, whether it passes the where filter, which of its changes are pending, whether its document
failed, and how the document in the engine differs from the row. Prints one sentence and the next step. With --change, lists
the documents that a change of the row would rebuild. Join the values of a composite key by commas.`,
		Example: `  pingo trace huts 42
  pingo trace --change keepers 7
  pingo trace --change hut_amenities 42,3 --source lodge
  pingo trace --change regions 5 -o json`,
		RunE: func(cmd *cobra.Command, args []string) error {
			if change {
				traced, err := a.client().TraceChange(cmd.Context(), source, args[0], args[1])
				if err != nil {
					return err
				}
				return a.Print(traced, func() { a.showTrace(traced) })
			}
			traced, err := a.client().Trace(cmd.Context(), args[0], args[1])
			if err != nil {
				return err
			}
			return a.Print(traced, func() { a.showTraced(traced) })
		},
	}
	cmd.Flags().BoolVar(&change, "change", false, "trace a change of a row")
	cmd.Flags().
		StringVar(&source, "source", "", "with --change: the source of the table (default: the only one)")
	return cmd
}

// keysShown bounds how wide the keys of documents make a table.
const keysShown = 50

func (a *App) showTrace(traced *api.ChangeTrace) {
	t := a.table(
		table.Row{
			"index",
			"documents",
			"what a change of " + traced.Table + " " + traced.Key + " would do",
			"first keys",
		},
		2,
	)
	for _, ix := range traced.Indexes {
		keys := ""
		for i, key := range ix.Keys {
			if i > 0 && len(keys)+len(key) > keysShown {
				keys += " …"
				break
			}
			keys = strings.TrimSpace(keys + " " + key)
		}
		t.AppendRow(table.Row{ix.Index, humanize.Comma(ix.Documents), ix.Verdict, keys})
	}
	t.Render()
}

func indented(doc json.RawMessage) string {
	if isNull(doc) {
		return "no document"
	}
	var b bytes.Buffer
	if json.Indent(&b, doc, "", "  ") != nil {
		return string(doc)
	}
	return b.String()
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

func (a *App) search() *cobra.Command {
	limit := 10
	var filters, order, facets []string
	var any bool
	edition := ""
	cmd := &cobra.Command{
		Use: "search INDEX TEXT…", Short: "Search an index",
		Long: `Finds documents that have every word in a searched field, and quoted phrases as they are. Without text, lists documents.
A filter is one of

  FIELD=VALUE  FIELD=ONE|ANOTHER  FIELD=FROM..TO  FIELD>=VALUE  FIELD<VALUE
  FIELD=near(LATITUDE,LONGITUDE,RADIUS)  FIELD=within(SOUTH,WEST,NORTH,EAST)

where a day may be a month or a year, and means all of it.`,
		Example: `  pingo search huts stone ridge
  pingo search huts winter -o json
  pingo search huts '"stone hut" tarn'
  pingo search huts bothy refuge --any
  pingo search huts --filter 'altitude_m>=2000' --filter opens_on=2031-07 --sort -altitude_m
  pingo search huts --filter winter_room=true --facet region.country`,
		Args: func(cmd *cobra.Command, args []string) error {
			if len(args) == 0 {
				return UsageError{Err: fmt.Errorf("%s takes an index and words to look for", cmd.CommandPath())}
			}
			return nil
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			if limit < 1 || limit > api.MaxHits {
				return UsageError{
					Err: fmt.Errorf("--limit is a number from 1 to %d, not %d", api.MaxHits, limit),
				}
			}
			q := api.Query{
				Text:    strings.Join(args[1:], " "),
				Any:     any,
				Filters: filters,
				Sort:    order,
				Facets:  facets,
				Limit:   limit,
				Edition: edition,
			}
			hits, err := a.client().Search(cmd.Context(), args[0], q)
			if err != nil {
				return err
			}
			return a.Print(hits, func() { a.showHits(args[0], hits, facets) })
		},
	}
	cmd.Flags().StringArrayVar(&filters, "filter", nil, "only documents that pass a filter, such as 'FIELD>=VALUE'")
	cmd.Flags().BoolVar(&any, "any", false, "match any word instead of all")
	cmd.Flags().StringArrayVar(&order, "sort", nil, "sort by FIELD, or by -FIELD in descending order")
	cmd.Flags().StringVar(&edition, "edition", "", "search this edition instead of the live one")
	cmd.Flags().StringArrayVar(&facets, "facet", nil, "count the values of FIELD in all matching documents")
	cmd.Flags().IntVarP(&limit, "limit", "n", limit, fmt.Sprintf("maximum number of documents, 1 to %d", api.MaxHits))
	return cmd
}

func (a *App) showHits(index string, hits *api.Hits, facets []string) {
	if len(hits.Hits) == 0 {
		fmt.Fprintln(a.Out, "Nothing found.")
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
		fmt.Fprintf(a.Out, "\n%s: %s\n", path, strings.Join(counts, ", "))
	}
	fmt.Fprintf(
		a.Out,
		"\n%s found, %d shown. A whole document: pingo preview %s %s\n",
		humanize.Comma(hits.Total),
		len(hits.Hits),
		index,
		hits.Hits[0].Key,
	)
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

func (a *App) preview() *cobra.Command {
	var sample int
	cmd := &cobra.Command{
		Use: "preview INDEX [KEY]", Short: "Show the document of a row, and the one in the engine",
		Long: `The key is the primary key of the row. Join the values of a composite key by commas. In an index with several rows,
put the name of the rows first: hut,42. Shows the origin of each value.`,
		Example: `  pingo preview huts 42
  pingo preview finder hut,42 -o json
  pingo preview huts --sample 3`,
		Args: func(cmd *cobra.Command, args []string) error {
			if sample == 0 && len(args) != 2 || sample > 0 && len(args) != 1 {
				return UsageError{
					Err: fmt.Errorf(
						"%s takes an index and a key, or an index and --sample N",
						cmd.CommandPath(),
					),
				}
			}
			return nil
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			if sample > 0 {
				list, err := a.client().Sample(cmd.Context(), args[0], sample)
				if err != nil {
					return err
				}
				return a.Print(list, func() {
					for i := range list {
						a.showPreview(&list[i], i == len(list)-1)
					}
				})
			}
			p, err := a.client().Preview(cmd.Context(), args[0], args[1])
			if err != nil {
				return err
			}
			return a.Print(p, func() { a.showPreview(p, true) })
		},
	}
	cmd.Flags().IntVar(&sample, "sample", 0, "show this number of documents instead of the one with a key")
	return cmd
}

func (a *App) showPreview(p *api.Preview, origins bool) {
	if !isNull(p.Built) {
		fmt.Fprintf(a.Out, "%s\n\n", indented(p.Built))
	}
	fmt.Fprintf(a.Out, "%s %s: %s\n\n", p.Edition, p.Key, p.Verdict)
	if !p.Same {
		fmt.Fprintf(a.Out, "in the engine:\n%s\n\n", indented(p.Stored))
	}
	if !origins {
		return
	}
	t := a.table(table.Row{"field", "type", "comes from"})
	for _, o := range p.Origins {
		t.AppendRow(table.Row{o.Path, o.TypeName(), shorten(o.From, 80)})
	}
	t.Render()
}

func isNull(doc json.RawMessage) bool { return len(doc) == 0 || string(doc) == "null" }
