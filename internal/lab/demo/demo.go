// Package demo is Firnline, an invented co-operative that looks after mountain
// huts and trails: its data, its changes, and a whole Pingo around it.
package demo

import (
	"context"
	"crypto/rand"
	"database/sql"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	mathrand "math/rand/v2"
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
	"pingo/internal/flow/connect"
	"pingo/internal/lab/collectionsnode"
	"pingo/internal/lab/mariaserver"
	"pingo/internal/lab/osnode"
	"pingo/internal/lab/standin"
	"pingo/internal/lab/taskserver"
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
	// Engine is the search engine: standin, a simulated one of kind opensearch; tasks, a simulated one of that kind; or a kind
	// for a real one, opensearch or collections.
	Engine string

	Console    fs.FS
	Version    string
	Executable string
	Log        *slog.Logger
	// Say tells the person who watches.
	Say func(format string, args ...any)
}

// node is a real search engine that runs.
type node interface{ Stop() error }

// world is everything that a demo has started.
type world struct {
	dir       string
	postgres  *pgserver.Server
	records   *records.Records
	client    *client.Client
	engineURL string
	node      node         // the engine, when it is a real one
	stand     *http.Server // else
	engine    string       // as Options says
	lodge     *pgx.Conn
	maria     *mariaserver.Server
	paths     *sql.DB
	station   *Station
	stop      context.CancelFunc
	running   sync.WaitGroup
	failed    chan error
}

// start starts records, source, engine and service, and loads the data.
func start(ctx context.Context, o Options) (w *world, err error) {
	w = &world{failed: make(chan error, 2), engine: o.Engine}
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
	if err := w.startPaths(ctx, o); err != nil {
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
	w.station = NewStation(w.client, o.Seed)
	// The flow ends before what it rests on, so it does not end with ctx itself.
	running, stop := context.WithCancel(context.WithoutCancel(ctx))
	w.stop = stop
	w.running.Go(func() {
		if err := server.Run(running, w.records, service, server.Options{
			Console: o.Console, Version: o.Version, Log: o.Log, Secrets: connect.Everything,
		}); err != nil {
			w.failed <- err
		}
	})
	return w, nil
}

// startPaths starts the database of trails and fills it, and makes the secret that stations sign
// with.
func (w *world) startPaths(ctx context.Context, o Options) (err error) {
	o.Say("Starting MariaDB …")
	w.maria, err = mariaserver.Start(
		ctx,
		mariaserver.Options{Dir: w.dir + "/mariadb", Settings: []string{"--innodb-buffer-pool-size=32M"}},
	)
	if err != nil {
		return err
	}
	if err := w.maria.CreateDatabase(ctx, "paths"); err != nil {
		return err
	}
	if w.paths, err = mariaserver.Open(w.maria.URL("paths")); err != nil {
		return err
	}
	o.Say("Inventing %d trails …", Trails)
	if err := LoadPaths(ctx, w.paths, Trails, o.Seed); err != nil {
		return err
	}
	os.Setenv("PATHS_URL", w.maria.URL("paths"))
	secret := make([]byte, 32)
	rand.Read(secret)
	os.Setenv("CONDITIONS_SECRET", "whsec_"+base64.StdEncoding.EncodeToString(secret))
	return nil
}

// startEngine starts the search engine at the address of a listener.
func (w *world) startEngine(ctx context.Context, o Options, at net.Listener) (err error) {
	w.engineURL = "http://" + at.Addr().String()
	if o.Engine == "opensearch" || o.Engine == "collections" {
		port := at.Addr().(*net.TCPAddr).Port
		if err := at.Close(); err != nil {
			return err
		}
		if o.Engine == "collections" {
			o.Say("Starting a server of typed collections …")
			server, err := collectionsnode.Start(ctx, w.dir+"/collections", port)
			if err != nil {
				return err
			}
			w.node = server
			return os.Setenv("SEARCH_KEY", server.Key)
		}
		o.Say("Starting OpenSearch …")
		server, err := osnode.Start(ctx, osnode.Options{Dir: w.dir + "/opensearch", Port: port})
		if err != nil {
			return err
		}
		w.node = server
		return nil
	}
	var handler http.Handler = &standin.Server{}
	if o.Engine == "tasks" {
		key := make([]byte, 16)
		rand.Read(key)
		if err := os.Setenv("SEARCH_KEY", hex.EncodeToString(key)); err != nil {
			return err
		}
		handler = &taskserver.Server{Key: hex.EncodeToString(key)}
	}
	w.stand = &http.Server{
		Handler:           handler,
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
			log.Error("stopping the engine", "error", err)
		}
	}
	if w.paths != nil {
		w.paths.Close()
	}
	if w.maria != nil {
		if err := w.maria.Stop(); err != nil {
			log.Error("stopping MariaDB", "error", err)
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

// indexes of the demo's definition, by name, and those of lodge alone.
var (
	indexes      = []string{"bulletins", "finder", "finder_tables", "huts", "places", "trails"}
	lodgeIndexes = []string{"finder", "finder_tables", "huts"}
)

// fill applies the definition and waits until all indexes answer.
func (w *world) fill(ctx context.Context) error {
	for deadline := time.Now().Add(2 * time.Minute); ; {
		_, err := w.client.Apply(ctx, On(w.engine, WholeFiles()))
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
%d huts and %d trails are searchable, and rows change continuously. The huts are in PostgreSQL with
triggers. The trails are in MariaDB with an outbox. Weather stations send bulletins as events, and a
large batch each minute. The index finder searches huts and regions; finder_tables is the same index
in tables of PostgreSQL; places searches the records of all three sources. One bulletin has words
where a number should be, so its document failed.

  Console    %s/#token=%s

  In another terminal:
    export PINGO_URL=%[3]s PINGO_TOKEN=%[4]s
    %s status
    %[5]s search huts glacier
    %[5]s search finder refuge --facet pingo_rows
    %[5]s search places ridge --facet pingo_rows
    %[5]s preview huts 42
    %[5]s search trails ridge --facet grade
    %[5]s hooks list conditions
    %[5]s failed list bulletins

  Send a bulletin:
    echo '{"specversion": "1.0", "id": "by-hand-1", "source": "urn:me", "subject": "b1", "time": "'$(date -u +%%FT%%TZ)'",
      "type": "firnline.bulletin.issued", "data": {"title": "Marmots on the way", "snow_cm": 3}}' | %[5]s hooks send conditions -

  Change a row by hand, and search again:
    psql '%s' -c "UPDATE huts SET name = 'Marmot Observatory' WHERE id = 42"
    %[5]s wait huts && %[5]s search huts marmot observatory

  Look at the engine itself:
%[7]s

Ctrl-C ends everything.`, documentsOf(status, "huts"), documentsOf(status, "trails"), w.client.URL, w.client.Token, program, w.postgres.URL("lodge"), w.looks())
	changes, random := NewChanges(Huts, Huts+1, o.Seed), mathrand.New(mathrand.NewPCG(uint64(o.Seed), 7))
	if err := w.station.SendRefused(ctx); err != nil {
		return quiet(ctx, err)
	}
	for n := 0; ; n++ {
		_, err := changes.Make(ctx, w.lodge)
		if err == nil && n%3 == 1 {
			err = ChangePaths(ctx, w.paths, random)
		}
		switch {
		case err != nil:
		case n%150 == 60: // a storm of them
			err = w.station.Send(ctx, stormOfEvents)
		case n%5 == 2:
			err = w.station.Send(ctx, 1)
		}
		if err != nil {
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

// looks are commands that ask the engine itself.
func (w *world) looks() string {
	if w.engine == "collections" {
		return fmt.Sprintf("    curl -H '%s: %s' '%s/collections/huts/documents/42'", collectionsnode.KeyHeader(w.engineURL), os.Getenv("SEARCH_KEY"), w.engineURL)
	}
	if w.engine == "tasks" {
		return fmt.Sprintf("    curl -H 'Authorization: Bearer %s' '%s/indexes/huts/search?q=ridge&limit=3'", os.Getenv("SEARCH_KEY"), w.engineURL)
	}
	return fmt.Sprintf("    curl '%[1]s/_cat/indices?v'\n    curl '%[1]s/huts/_doc/42?pretty'", w.engineURL)
}

// stormOfEvents is the number of bulletins in the batch of each minute.
const stormOfEvents = 300

func documentsOf(s *api.Status, index string) int64 {
	ix := indexOf(s, index)
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

func sourceOf(s *api.Status, name string) api.SourceStatus {
	for _, src := range s.Sources {
		if src.Name == name {
			return src
		}
	}
	return api.SourceStatus{}
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
	for _, index := range lodgeIndexes {
		rows, documents, differences, err := Compare(ctx, w.lodge, On(w.engine, Files()), index, connect.Everything.Lookup)
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
	return s.compareOthers(ctx, w, name, when)
}

// compareOthers checks the indexes of the other sources.
func (s *Summary) compareOthers(ctx context.Context, w *world, name, when string) error {
	trails, err := w.station.trailDocuments(ctx, w.paths)
	if err != nil {
		return err
	}
	bulletins := w.station.bulletinDocuments()
	places, err := placeDocuments(ctx, w.lodge, trails, bulletins)
	if err != nil {
		return err
	}
	for index, want := range map[string]map[string]any{"trails": trails, "bulletins": bulletins, "places": places} {
		differences, err := compareWith(ctx, w.engine, w.engineURL, index, want)
		if err != nil {
			return err
		}
		s.check(
			name+" "+index,
			len(differences) == 0,
			"%s, %d documents in %s, %d differences",
			when,
			len(want),
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
	changes, random := NewChanges(Huts, Huts+1, o.Seed), mathrand.New(mathrand.NewPCG(uint64(o.Seed), 7))
	for _, events := range []int{1, 1, stormOfEvents, 1, 40} {
		if err := w.station.Send(ctx, events); err != nil {
			return nil, err
		}
	}
	for range changesOnce {
		if _, err := changes.Make(ctx, w.lodge); err != nil {
			return nil, fmt.Errorf("making a change: %w", err)
		}
		s.ChangesMade++
		if err := ChangePaths(ctx, w.paths, random); err != nil {
			return nil, fmt.Errorf("changing a trail: %w", err)
		}
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
		s.check(
			"searchable",
			true,
			"a change made by hand was found by a search after %d ms",
			took.Milliseconds(),
		)
	} else {
		s.check("searchable", false, "a change made by hand was found by no search within a minute")
	}
	if _, err := w.lodge.Exec(ctx, "UPDATE huts SET visits_counted = visits_counted + 1"); err != nil {
		return nil, err
	}
	if err := w.until(ctx, time.Minute, "the end of all changes", func(st *api.Status) bool {
		lodge := sourceOf(st, "lodge")
		return lodge.Noticed >= s.ChangesMade && lodge.InFlight == 0
	}); err != nil {
		return nil, err
	}
	for _, index := range []string{"trails", "bulletins", "places"} {
		if waited, err := w.client.Wait(ctx, index, 60); err != nil || !waited.Found {
			return nil, errors.Join(err, fmt.Errorf("index %s did not catch up within a minute", index))
		}
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
	s.ChangesSeen = sourceOf(status, "lodge").Noticed
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
