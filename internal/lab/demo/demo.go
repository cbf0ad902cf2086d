// Package demo is Firnline, an invented co-operative that looks after mountain
// huts: its data, its changes, and a whole Pingo around it.
package demo

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"os"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"

	"pingo/internal/api"
	"pingo/internal/client"
	"pingo/internal/lab/osnode"
	"pingo/internal/lab/standin"
	"pingo/internal/pgserver"
	"pingo/internal/records"
	"pingo/internal/server"
)

// Options say how the demo runs.
type Options struct {
	// Port of the service, of the stand-in engine and of PostgreSQL; 0 takes a free one.
	Port, EnginePort, DatabasePort int
	// Seed of the invented data and changes.
	Seed int64
	// Once runs the example through instead of going on.
	Once bool
	// Engine is the kind of search engine: standin, or opensearch for a real one.
	Engine string

	Console    fs.FS
	Version    string
	Executable string
	Log        *slog.Logger
	// Say tells the person who watches.
	Say func(format string, args ...any)
}

// world is everything that a demo has started.
type world struct {
	dir       string
	postgres  *pgserver.Server
	records   *records.Records
	client    *client.Client
	engineURL string
	node      *osnode.Server // the engine, when it is a real one
	stand     *http.Server   // else
	lodge     *pgx.Conn
	stop      context.CancelFunc
	running   sync.WaitGroup
	failed    chan error
}

// start starts records, source, engine and service, and loads the data.
func start(ctx context.Context, o Options) (w *world, err error) {
	w = &world{failed: make(chan error, 2)}
	defer func() {
		if err != nil {
			w.close(o.Log)
		}
	}()
	service, err := listen(o.Port, "--port")
	if err != nil {
		return w, err
	}
	engine, err := listen(o.EnginePort, "--engine-port")
	if err != nil {
		service.Close()
		return w, err
	}
	if o.DatabasePort != 0 {
		probe, err := listen(o.DatabasePort, "--database-port")
		if err != nil {
			return w, err
		}
		probe.Close()
	}
	if w.dir, err = os.MkdirTemp("", "pingo-demo-"); err != nil {
		return w, err
	}
	o.Say("Starting PostgreSQL …")
	if err := os.Chmod(w.dir, 0o711); err != nil {
		return w, err
	}
	w.postgres, err = pgserver.Start(ctx, pgserver.Options{Dir: w.dir + "/postgres", Port: o.DatabasePort})
	if err != nil {
		return w, err
	}
	for _, name := range []string{"pingo", "lodge", "tables"} {
		if err := w.postgres.CreateDatabase(ctx, name); err != nil {
			return w, fmt.Errorf("creating database %s: %w", name, err)
		}
	}
	if w.lodge, err = pgx.Connect(ctx, w.postgres.URL("lodge")); err != nil {
		return w, err
	}
	o.Say("Inventing %d huts …", Huts)
	if err := Load(ctx, w.lodge, Huts, o.Seed); err != nil {
		return w, err
	}
	if err := w.startEngine(ctx, o, engine); err != nil {
		return w, err
	}
	os.Setenv("LODGE_URL", w.postgres.URL("lodge"))
	os.Setenv("SEARCH_URL", w.engineURL)
	os.Setenv("TABLES_URL", w.postgres.URL("tables"))
	if w.records, err = records.Open(ctx, w.postgres.URL("pingo")); err != nil {
		return w, err
	}
	token, err := server.FirstToken(ctx, w.records)
	if err != nil {
		return w, err
	}
	w.client = &client.Client{URL: "http://" + service.Addr().String(), Token: token}
	// The flow ends before what it rests on, so it does not end with ctx itself.
	running, stop := context.WithCancel(context.WithoutCancel(ctx))
	w.stop = stop
	w.running.Go(func() {
		if err := server.Run(running, w.records, service, o.Console, o.Version, o.Log); err != nil {
			w.failed <- err
		}
	})
	return w, nil
}

// startEngine starts the search engine at the address of a listener.
func (w *world) startEngine(ctx context.Context, o Options, at net.Listener) (err error) {
	w.engineURL = "http://" + at.Addr().String()
	if o.Engine == "opensearch" {
		o.Say("Starting OpenSearch …")
		port := at.Addr().(*net.TCPAddr).Port
		if err := at.Close(); err != nil {
			return err
		}
		w.node, err = osnode.Start(ctx, osnode.Options{Dir: w.dir + "/opensearch", Port: port})
		return err
	}
	w.stand = &http.Server{
		Handler:           &standin.Server{},
		ReadHeaderTimeout: 10 * time.Second,
		ErrorLog:          slog.NewLogLogger(slog.DiscardHandler, slog.LevelError),
	}
	go w.stand.Serve(at)
	return nil
}

func listen(port int, flag string) (net.Listener, error) {
	l, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", port))
	if errors.Is(err, syscall.EADDRINUSE) {
		return nil, fmt.Errorf(
			"port %d is in use by another program: choose another with %s, or leave %[2]s out to take a free one",
			port,
			flag,
		)
	}
	return l, err
}

// close stops everything in reverse, and leaves nothing behind.
func (w *world) close(log *slog.Logger) {
	if w.stop != nil {
		w.stop()
		w.running.Wait()
	}
	if w.lodge != nil {
		w.lodge.Close(context.Background())
	}
	if w.records != nil {
		w.records.Close()
	}
	if w.stand != nil {
		w.stand.Close()
	}
	if w.node != nil {
		if err := w.node.Stop(); err != nil {
			log.Error("stopping OpenSearch", "error", err)
		}
	}
	if w.postgres != nil {
		if err := w.postgres.Stop(); err != nil {
			log.Error("stopping PostgreSQL", "error", err)
		}
	}
	if w.dir != "" {
		if err := os.RemoveAll(w.dir); err != nil {
			log.Error("removing the demo's folder", "error", err)
		}
	}
}

// indexes of the demo's definition, by name.
var indexes = []string{"finder", "finder_tables", "huts"}

// fill applies the definition and waits until all indexes answer.
func (w *world) fill(ctx context.Context) error {
	for deadline := time.Now().Add(2 * time.Minute); ; {
		_, err := w.client.Apply(ctx, Files())
		if err == nil {
			break
		}
		var p *api.Problem
		if !errors.As(err, &p) || p.Status != http.StatusServiceUnavailable || time.Now().After(deadline) {
			return err
		}
		if err := pause(ctx, 100*time.Millisecond); err != nil {
			return err
		}
	}
	return w.until(ctx, 2*time.Minute, "the first fill", func(s *api.Status) bool {
		for _, ix := range s.Indexes {
			if !ix.Live || ix.Documents == nil {
				return false
			}
		}
		return len(s.Indexes) == len(indexes)
	})
}

// until waits for a state of the service.
func (w *world) until(
	ctx context.Context,
	most time.Duration,
	what string,
	reached func(*api.Status) bool,
) error {
	for deadline := time.Now().Add(most); ; {
		status, err := w.client.Status(ctx)
		if err != nil {
			return err
		}
		if reached(status) {
			return nil
		}
		if time.Now().After(deadline) {
			return fmt.Errorf("%s was not reached within %s: %s", what, most, status.Sentence)
		}
		select {
		case err := <-w.failed:
			return err
		default:
		}
		if err := pause(ctx, 50*time.Millisecond); err != nil {
			return err
		}
	}
}

func pause(ctx context.Context, d time.Duration) error {
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-time.After(d):
		return nil
	}
}

// Run runs the demo until the context ends.
func Run(ctx context.Context, o Options) error {
	w, err := start(ctx, o)
	if err != nil {
		return quiet(ctx, err)
	}
	defer w.close(o.Log)
	o.Say("Filling the indexes %s …", strings.Join(indexes, ", "))
	if err := w.fill(ctx); err != nil {
		return quiet(ctx, err)
	}
	status, err := w.client.Status(ctx)
	if err != nil {
		return quiet(ctx, err)
	}
	program := o.Executable
	o.Say(`
%d huts are searchable, and a gentle stream of changes has begun. The index
finder looks for huts and regions in one box; finder_tables is the same in tables of
PostgreSQL.

  Console    %s/#token=%s

  In another terminal:
    export PINGO_URL=%[2]s PINGO_TOKEN=%[3]s
    %s status
    %[4]s search huts glacier
    %[4]s search finder refuge --facet pingo_rows
    %[4]s preview huts 42

  Change a row by hand, and search again:
    psql '%s' -c "UPDATE huts SET name = 'Marmot Observatory' WHERE id = 42"
    %[4]s wait huts && %[4]s search huts marmot observatory

  Look at the engine itself:
    curl '%[6]s/_cat/indices?v'
    curl '%[6]s/huts/_doc/42?pretty'

Ctrl-C ends everything.`, documentsOf(status), w.client.URL, w.client.Token, program, w.postgres.URL("lodge"), w.engineURL)
	changes := NewChanges(Huts, Huts+1, o.Seed)
	for {
		if _, err := changes.Make(ctx, w.lodge); err != nil {
			return quiet(ctx, fmt.Errorf("making a change: %w", err))
		}
		select {
		case <-ctx.Done():
			o.Say("\nStopping …")
			return nil
		case err := <-w.failed:
			return err
		case <-time.After(400 * time.Millisecond):
		}
	}
}

func documentsOf(s *api.Status) int64 {
	ix := indexOf(s, "huts")
	if ix.Documents == nil {
		return 0
	}
	return *ix.Documents
}

func indexOf(s *api.Status, name string) api.IndexStatus {
	for _, ix := range s.Indexes {
		if ix.Name == name {
			return ix
		}
	}
	return api.IndexStatus{}
}

// quiet: when a person ended it, that is no error.
func quiet(ctx context.Context, err error) error {
	if ctx.Err() != nil {
		return nil
	}
	return err
}

// Check is one thing that must hold.
type Check struct {
	Name  string `json:"name"`
	Words string `json:"words"`
	OK    bool   `json:"ok"`
}

// Summary is what a run of the whole example came to.
type Summary struct {
	Rows        int64           `json:"rows"`
	Documents   int64           `json:"documents"`
	ChangesMade int64           `json:"changesMade"`
	ChangesSeen int64           `json:"changesSeen"`
	Refused     int64           `json:"refused"`
	Lag         api.Percentiles `json:"lagMs"`
	Checks      []Check         `json:"checks"`
	OK          bool            `json:"ok"`
}

func (s *Summary) check(name string, ok bool, words string, args ...any) {
	s.Checks = append(s.Checks, Check{name, fmt.Sprintf(words, args...), ok})
}

// compare checks every document of every index, and keeps the counts of huts.
func (s *Summary) compare(ctx context.Context, w *world, name, when string) error {
	for _, index := range indexes {
		rows, documents, differences, err := Compare(ctx, w.lodge, Files(), index)
		if err != nil {
			return err
		}
		s.Rows, s.Documents = int64(rows), int64(documents)
		s.check(
			name+" "+index,
			rows == documents && len(differences) == 0,
			"%s, %d rows and %d documents in %s, %d differences",
			when,
			rows,
			documents,
			index,
			len(differences),
		)
	}
	return nil
}

// Wrong lists the names of the checks that do not hold.
func (s *Summary) Wrong() []string {
	var out []string
	for _, c := range s.Checks {
		if !c.OK {
			out = append(out, c.Name)
		}
	}
	return out
}

// changesOnce is how many changes a run of the whole example makes.
const changesOnce = 300

// RunOnce runs the whole example and checks it.
func RunOnce(ctx context.Context, o Options) (*Summary, error) {
	w, err := start(ctx, o)
	if err != nil {
		return nil, err
	}
	defer w.close(o.Log)
	s := &Summary{}
	if err := w.fill(ctx); err != nil {
		return nil, err
	}
	if err := s.compare(ctx, w, "filled", "after the first fill"); err != nil {
		return nil, err
	}
	o.Say("Making %d changes …", changesOnce)
	changes := NewChanges(Huts, Huts+1, o.Seed)
	for range changesOnce {
		if _, err := changes.Make(ctx, w.lodge); err != nil {
			return nil, fmt.Errorf("making a change: %w", err)
		}
		s.ChangesMade++
		if err := pause(ctx, 3*time.Millisecond); err != nil {
			return nil, err
		}
	}
	took, err := w.searchable(ctx)
	if err != nil {
		return nil, err
	}
	s.ChangesMade++
	if took > 0 {
		s.check("searchable", true, "a change made by hand was found by a search after %d ms", took.Milliseconds())
	} else {
		s.check("searchable", false, "a change made by hand was found by no search within a minute")
	}
	if _, err := w.lodge.Exec(ctx, "UPDATE huts SET visits_counted = visits_counted + 1"); err != nil {
		return nil, err
	}
	if err := w.until(ctx, time.Minute, "the end of all changes", func(st *api.Status) bool {
		return st.Sources[0].Noticed >= s.ChangesMade && st.Sources[0].InFlight == 0
	}); err != nil {
		return nil, err
	}
	if err := s.compare(ctx, w, "equal", "after all changes"); err != nil {
		return nil, err
	}
	status, err := w.client.Status(ctx)
	if err != nil {
		return nil, err
	}
	var left int64
	if err := w.lodge.QueryRow(ctx, "SELECT count(*) FROM pingo_capture.journal").Scan(&left); err != nil {
		return nil, err
	}
	ix := indexOf(status, "huts")
	s.Refused, s.Lag = ix.Failed, ix.Lag
	s.ChangesSeen = status.Sources[0].Noticed
	s.check(
		"seen",
		s.ChangesSeen == s.ChangesMade,
		"every change was seen once, and updates of a column that no document uses not at all",
	)
	s.check("journal", left == 0, "the journal is empty again")
	s.check("refused", ix.Failed == 0, "the engine refused no document")
	s.OK = len(s.Wrong()) == 0
	return s, nil
}

// searchable changes a name and measures how long it takes until a search finds it; 0 when
// none does.
func (w *world) searchable(ctx context.Context) (time.Duration, error) {
	if _, err := w.lodge.Exec(ctx, "UPDATE huts SET name = 'Marmot Observatory', retired_at = NULL WHERE id = 42"); err != nil {
		return 0, err
	}
	for began := time.Now(); time.Since(began) < time.Minute; {
		hits, err := w.client.Search(ctx, "huts", api.Query{Text: "marmot observatory", Limit: 3})
		if err != nil {
			return 0, err
		}
		if hits.Total == 1 && hits.Hits[0].Key == "42" {
			return time.Since(began), nil
		}
		if err := pause(ctx, 10*time.Millisecond); err != nil {
			return 0, err
		}
	}
	return 0, nil
}
