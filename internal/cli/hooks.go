package cli

import (
	"bufio"
	"bytes"
	"context"
	"crypto/rand"
	"encoding/base64"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/schollz/progressbar/v3"
	"github.com/spf13/cobra"

	"pingo/internal/api"
)

func (a *App) hooks() *cobra.Command {
	hooks := &cobra.Command{
		Use: "hooks", Short: "List received events, send a test event, create a secret",
		Long: `Senders post events to /hooks/SOURCE of a source of kind webhook. Pingo writes a receipt for each event: accepted, or the
reason why not. It keeps receipts for seven days, and at most 10,000 of rejected events.`,
	}
	hooks.AddCommand(a.hooksList(), a.hooksShow(), a.hooksSend(), a.hooksSecret())
	return hooks
}

func (a *App) hooksList() *cobra.Command {
	var outcome string
	limit := 50
	cmd := &cobra.Command{
		Use: "list SOURCE", Short: "List the newest receipts, and the stored records",
		Example: `  pingo hooks list conditions
  pingo hooks list conditions --outcome unreadable -o json`,
		Args: Exactly(1, "a source"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if limit < 1 || limit > 1000 {
				return UsageError{Err: fmt.Errorf("--limit is a number from 1 to 1000, not %d", limit)}
			}
			held, err := a.client().HeldRecords(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			receipts, err := a.client().Receipts(cmd.Context(), args[0], outcome, 0, limit)
			if err != nil {
				return err
			}
			return a.Print(receipts, func() {
				for _, h := range held {
					newest := "nothing yet"
					if h.Newest != nil {
						newest = "the newest of " + h.Newest.Local().Format(time.DateTime)
					}
					fmt.Fprintf(a.Out, "%s: %s records, %s.\n", h.Record, humanize.Comma(h.Rows), newest)
				}
				if len(receipts) == 0 {
					fmt.Fprintf(a.Out, "\nNo event has come. To send one: pingo hooks send %s FILE\n", args[0])
					return
				}
				fmt.Fprintln(a.Out)
				t := a.table(table.Row{"number", "at", "outcome", "record", "key", "op", "event", "reason"}, 1)
				for _, r := range receipts {
					t.AppendRow(table.Row{
						r.Number, r.At.Local().Format(time.DateTime), r.Outcome, r.Record, keyOrCount(r), r.Op, shorten(r.Event, 30), shorten(r.Reason, 70),
					})
				}
				t.Render()
			})
		},
	}
	cmd.Flags().
		StringVar(&outcome, "outcome", "", "only accepted, duplicate, old, unreadable, bad-signature, out-of-time, too-large or too-many")
	cmd.Flags().IntVar(&limit, "limit", limit, "maximum number of receipts, 1 to 1000")
	return cmd
}

// keyOrCount is the key of an event, or how many were accepted together.
func keyOrCount(r api.Receipt) string {
	if r.Events > 1 {
		return humanize.Comma(int64(r.Events)) + " events"
	}
	return r.Key
}

func (a *App) hooksShow() *cobra.Command {
	return &cobra.Command{
		Use: "show SOURCE NUMBER", Short: "Show a receipt in full",
		Example: "  pingo hooks show conditions 42",
		Args:    Exactly(2, "a source and the number of a receipt"),
		RunE: func(cmd *cobra.Command, args []string) error {
			var number int64
			if _, err := fmt.Sscan(args[1], &number); err != nil || number < 1 {
				return UsageError{Err: fmt.Errorf("%q is no number of a receipt", args[1])}
			}
			list, err := a.client().Receipts(cmd.Context(), args[0], "", number+1, 1)
			if err != nil {
				return err
			}
			if len(list) == 0 || list[0].Number != number {
				return fmt.Errorf(
					"source %s has no receipt %d: pingo hooks list %[1]s shows which it has",
					args[0],
					number,
				)
			}
			r := list[0]
			return a.Print(r, func() {
				for _, line := range [][2]string{
					{"at", r.At.Local().Format(time.RFC3339)}, {"outcome", r.Outcome}, {"reason", r.Reason}, {"event", r.Event},
					{"record", r.Record}, {"key", keyOrCount(r)}, {"op", r.Op}, {"size", humanize.Bytes(uint64(r.Bytes))},
				} {
					if line[1] != "" {
						fmt.Fprintf(a.Out, "%-8s %s\n", line[0], line[1])
					}
				}
			})
		},
	}
}

func (a *App) hooksSend() *cobra.Command {
	var record, key, event, contentType string
	cmd := &cobra.Command{
		Use: "send SOURCE FILE|-", Short: "Sign an event and send it, as a sender does",
		Long: `Signs the file with the first secret of the source, and posts it to the service's /hooks path. A file with specversion is
a CloudEvent.`,
		Example: `  echo '{"title": "Fresh snow", "snow_cm": 40}' | pingo hooks send conditions - --record bulletins --key 7
  pingo hooks send conditions event.json`,
		Args: Exactly(2, "a source, and a file or -"),
		RunE: func(cmd *cobra.Command, args []string) error {
			body, err := readFile(args[1], 64<<20)
			if err != nil {
				return err
			}
			path := ""
			if record != "" {
				path = "/" + record
				if key != "" {
					path += "/" + key
				}
			} else if key != "" {
				return UsageError{Err: errors.New("--key names a record of --record")}
			}
			if event == "" {
				event = "msg_" + rand.Text()
			}
			if contentType == "" {
				contentType = kindOf(body)
			}
			reply, err := a.client().SendEvent(cmd.Context(), args[0], path, event, contentType, body)
			if err != nil {
				return err
			}
			if err := a.Print(reply, func() {
				fmt.Fprintf(a.Out, "Accepted %d, duplicate %d, old %d, refused %d.\n", reply.Accepted, reply.Duplicate, reply.Old, reply.Refused)
				for _, r := range reply.Receipts {
					fmt.Fprintf(a.Out, "%s: %s\n", r.Outcome, r.Reason)
				}
			}); err != nil {
				return err
			}
			if reply.Refused > 0 {
				return fmt.Errorf("%d events were refused", reply.Refused)
			}
			return nil
		},
	}
	flags := cmd.Flags()
	flags.StringVar(&record, "record", "", "send to the path of this record")
	flags.StringVar(&key, "key", "", "and of this key")
	flags.StringVar(&event, "event", "", "ID of the event (default: a new ID)")
	flags.StringVar(
		&contentType,
		"content-type",
		"",
		"of the file (default: application/json, or that of CloudEvents)",
	)
	return cmd
}

// kindOf tells CloudEvents from other JSON.
func kindOf(body []byte) string {
	var event struct {
		SpecVersion string `json:"specversion"`
	}
	var batch []json.RawMessage
	if json.Unmarshal(body, &batch) == nil && len(batch) > 0 {
		if json.Unmarshal(batch[0], &event) == nil && event.SpecVersion != "" {
			return "application/cloudevents-batch+json"
		}
	} else if json.Unmarshal(body, &event) == nil && event.SpecVersion != "" {
		return "application/cloudevents+json"
	}
	return "application/json"
}

func (a *App) hooksSecret() *cobra.Command {
	return &cobra.Command{
		Use: "secret", Short: "Create a signing secret",
		Long: `Creates a secret in the format of the Standard Webhooks specification. Give it to the sender, and to the environment of
pingo serve. To replace a secret, list both in signing_secrets until the sender uses the new one; then remove the old one.`,
		Example: "  pingo hooks secret > station.secret",
		Args:    Exactly(0, "no arguments"),
		RunE: func(*cobra.Command, []string) error {
			random := make([]byte, 32)
			rand.Read(random)
			secret := "whsec_" + base64.StdEncoding.EncodeToString(random)
			return a.Print(map[string]string{"secret": secret}, func() { fmt.Fprintln(a.Out, secret) })
		},
	}
}

func readFile(name string, most int64) ([]byte, error) {
	in, err := openFile(name)
	if err != nil {
		return nil, err
	}
	defer in.Close()
	body, err := io.ReadAll(io.LimitReader(in, most+1))
	if err == nil && int64(len(body)) > most {
		err = fmt.Errorf("%s is larger than %s", name, humanize.Bytes(uint64(most)))
	}
	return body, err
}

func openFile(name string) (io.ReadCloser, error) {
	if name == "-" {
		return io.NopCloser(os.Stdin), nil
	}
	f, err := os.Open(name)
	if err != nil {
		return nil, fmt.Errorf("the file cannot be read: %w", err)
	}
	return f, nil
}

// load puts the rows of a file into a source to which records are sent.
func (a *App) load() *cobra.Command {
	var format string
	var replace bool
	cmd := &cobra.Command{
		Use: "load SOURCE RECORD FILE|-", Short: "Load records from a file into a webhook source",
		Long: `Loads NDJSON (one object per line), a JSON list, or CSV with a header. Each row is the body of a record. The key of the
definition names the field with the record's key; default: id. --replace deletes all records that the file does not have.
Lists rejected rows with their line numbers.`,
		Example: `  pingo load conditions bulletins bulletins.ndjson
  pingo load conditions bulletins bulletins.csv --replace
  curl -s http://127.0.0.1:8080/all.json | pingo load conditions bulletins - --format json`,
		Args: Exactly(3, "a source, a record, and a file or -"),
		RunE: func(cmd *cobra.Command, args []string) error {
			in, err := openFile(args[2])
			if err != nil {
				return err
			}
			defer in.Close()
			if format == "" {
				if format = formatOf(args[2]); format == "" {
					return UsageError{Err: errors.New("say what the file is: --format ndjson, json or csv")}
				}
			}
			rows, err := rowsOf(format, bufio.NewReaderSize(in, 1<<20))
			if err != nil {
				return err
			}
			return a.loadRows(cmd.Context(), args[0], args[1], rows, replace)
		},
	}
	cmd.Flags().StringVar(&format, "format", "", "ndjson, json or csv (default: by the file's name)")
	cmd.Flags().BoolVar(&replace, "replace", false, "delete the records that are not in the file")
	return cmd
}

func formatOf(name string) string {
	for suffix, format := range map[string]string{".ndjson": "ndjson", ".jsonl": "ndjson", ".json": "json", ".csv": "csv"} {
		if strings.HasSuffix(strings.ToLower(name), suffix) {
			return format
		}
	}
	return ""
}

// rowReader gives the next row of a file; io.EOF after the last. One that cannot be read has no
// body.
type rowReader func() (api.LoadedRow, error)

const longestRow = 16 << 20

func rowsOf(format string, in *bufio.Reader) (rowReader, error) {
	var line int64
	switch format {
	case "ndjson":
		lines := bufio.NewScanner(in)
		lines.Buffer(make([]byte, 64<<10), longestRow)
		return func() (api.LoadedRow, error) {
			for lines.Scan() {
				line++
				text := bytes.TrimSpace(lines.Bytes())
				if len(text) == 0 {
					continue
				}
				row := api.LoadedRow{Line: line}
				if json.Valid(text) {
					row.Body = bytes.Clone(text)
				}
				return row, nil
			}
			if err := lines.Err(); err != nil {
				return api.LoadedRow{}, fmt.Errorf("line %d cannot be read: %w", line+1, err)
			}
			return api.LoadedRow{}, io.EOF
		}, nil
	case "json":
		decoder := json.NewDecoder(in)
		if token, err := decoder.Token(); err != nil || token != json.Delim('[') {
			return nil, errors.New("the file is no JSON list: write [ {…}, {…} ], or say --format ndjson")
		}
		return func() (api.LoadedRow, error) {
			if !decoder.More() {
				return api.LoadedRow{}, io.EOF
			}
			line++
			var body json.RawMessage
			if err := decoder.Decode(&body); err != nil {
				return api.LoadedRow{}, fmt.Errorf("item %d of the list cannot be read: %w", line, err)
			}
			return api.LoadedRow{Line: line, Body: body}, nil
		}, nil
	case "csv":
		reader := csv.NewReader(in)
		names, err := reader.Read()
		if err != nil {
			return nil, fmt.Errorf(
				"the first line of the file, which names its columns, cannot be read: %w",
				err,
			)
		}
		names = append([]string(nil), names...)
		names[0] = strings.TrimPrefix(names[0], "\ufeff")
		return func() (api.LoadedRow, error) {
			fields, err := reader.Read()
			at, _ := reader.FieldPos(0)
			row := api.LoadedRow{Line: int64(at)}
			if errors.Is(err, csv.ErrFieldCount) {
				return row, nil
			}
			if err != nil {
				return row, err
			}
			body := map[string]*string{}
			for i, name := range names {
				if body[name] = nil; fields[i] != "" {
					body[name] = &fields[i]
				}
			}
			row.Body, err = json.Marshal(body)
			return row, err
		}, nil
	}
	return nil, UsageError{Err: fmt.Errorf("--format is ndjson, json or csv, not %q", format)}
}

const (
	loadRows  = 1000
	loadBytes = 2 << 20 // a request may have 4 MB
)

func (a *App) loadRows(ctx context.Context, source, record string, next rowReader, replace bool) error {
	begun, err := a.client().BeginListing(ctx, source, record)
	if err != nil {
		return err
	}
	total := &api.Loaded{Refused: []api.Receipt{}}
	bar := a.loadBar(record)
	var rows []api.LoadedRow
	size := 0
	send := func() error {
		if len(rows) == 0 {
			return nil
		}
		got, err := a.client().Load(ctx, source, record, rows)
		if err != nil {
			return fmt.Errorf(
				"lines before %d are loaded, and loading them again does no harm: %w",
				rows[0].Line,
				err,
			)
		}
		total.Accepted, total.Old = total.Accepted+got.Accepted, total.Old+got.Old
		total.Refused = append(total.Refused, got.Refused...)
		if bar != nil {
			bar.Add(len(rows))
		}
		rows, size = nil, 0
		return nil
	}
	for {
		row, err := next()
		if errors.Is(err, io.EOF) {
			break
		}
		if err == nil && row.Body == nil {
			total.Refused = append(
				total.Refused,
				api.Receipt{Line: row.Line, Outcome: "unreadable", Reason: "the row cannot be read"},
			)
			continue
		}
		if err == nil && size+len(row.Body) > loadBytes || len(rows) >= loadRows {
			err = errors.Join(err, send())
		}
		if err != nil {
			return errors.Join(err, send())
		}
		rows, size = append(rows, row), size+len(row.Body)
	}
	if err := send(); err != nil {
		return err
	}
	if bar != nil {
		bar.Finish()
		fmt.Fprintln(a.Err)
	}
	deleted := 0
	switch {
	case replace && len(total.Refused) > 0:
		err = fmt.Errorf(
			"%s refused, so nothing was deleted: correct the file and load it again",
			refusedRows(len(total.Refused)),
		)
	case replace:
		if deleted, err = a.client().EndListing(ctx, source, begun); err != nil {
			return err
		}
	case len(total.Refused) > 0:
		err = fmt.Errorf("%s refused", refusedRows(len(total.Refused)))
	}
	if failed := a.Print(total, func() {
		fmt.Fprintf(a.Out, "Loaded %s records", humanize.Comma(int64(total.Accepted)))
		if total.Old > 0 {
			fmt.Fprintf(a.Out, "; %s are newer here already", humanize.Comma(int64(total.Old)))
		}
		if deleted > 0 {
			fmt.Fprintf(a.Out, "; deleted %s that are not in the file", humanize.Comma(int64(deleted)))
		}
		fmt.Fprintln(a.Out, ".")
		for i, r := range total.Refused {
			if i == 20 {
				fmt.Fprintf(a.Out, "… and %d more\n", len(total.Refused)-i)
				break
			}
			fmt.Fprintf(a.Out, "line %d: %s\n", r.Line, r.Reason)
		}
	}); failed != nil {
		return failed
	}
	return err
}

// loadBar shows how many rows were loaded to a person who watches.
func (a *App) loadBar(record string) *progressbar.ProgressBar {
	if !watched() {
		return nil
	}
	return progressbar.NewOptions64(
		-1,
		progressbar.OptionSetWriter(
			a.bars,
		),
		progressbar.OptionSetDescription(record),
		progressbar.OptionShowCount(),
		progressbar.OptionSetItsString("rows"),
		progressbar.OptionShowIts(),
	)
}

func refusedRows(n int) string {
	if n == 1 {
		return "1 row was"
	}
	return fmt.Sprintf("%s rows were", humanize.Comma(int64(n)))
}
