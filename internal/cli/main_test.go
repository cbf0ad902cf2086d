package cli_test

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"log"
	"math/rand/v2"
	"net"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"pingo/internal/api"
	"pingo/internal/client"
	"pingo/internal/lab/collectionsnode"
	"pingo/internal/lab/demo"
	"pingo/internal/lab/osnode"
	"pingo/internal/lab/ostest"
	"pingo/internal/lab/pgtest"
	"pingo/internal/lab/standin"
	"pingo/internal/lab/taskserver"
	"pingo/internal/pgserver"
	_ "pingo/internal/programs" // the binary is made of it, so a change of it runs these tests again
)

// binary is the real one, built from this tree.
var binary string

func TestMain(m *testing.M) {
	dir, err := os.MkdirTemp("", "pingo-bin-")
	if err != nil {
		panic(err)
	}
	binary = filepath.Join(dir, "pingo")
	if out, err := exec.Command("go", "build", "-o", binary, "pingo/cmd/pingo").CombinedOutput(); err != nil {
		fmt.Fprintf(os.Stderr, "building: %v\n%s", err, out)
		os.Exit(1)
	}
	code := m.Run()
	os.RemoveAll(dir)
	os.Exit(code)
}

// world is a source, an engine and records around the real binary.
type world struct {
	t       *testing.T
	pg      *pgserver.Server
	pgDir   string
	engine  *httptest.Server
	standin *standin.Server         // the engine, or nil with a real one
	node    *osnode.Server          // the real one
	tasks   bool                    // the engine is a simulated one of the kind tasks
	typed   *collectionsnode.Server // the engine, if it is a server of typed collections
	address string
	env     []string
	args    []string // more of pingo serve
	client  *client.Client
	service *exec.Cmd
	second  *exec.Cmd // another one on the same records
	log     *lockedBuffer
}

type lockedBuffer struct {
	mu sync.Mutex
	b  bytes.Buffer
}

func (l *lockedBuffer) Write(p []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.b.Write(p)
}

func (l *lockedBuffer) String() string {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.b.String()
}

func newWorld(t *testing.T) *world {
	t.Helper()
	stand := &standin.Server{}
	w := newWorldOn(t, stand)
	w.standin = stand
	return w
}

// newRealWorld has a real OpenSearch server for its engine, behind the faults of a stand-in.
func newRealWorld(t *testing.T) *world {
	t.Helper()
	ostest.Wanted(t)
	node, err := osnode.Start(t.Context(), osnode.Options{Dir: t.TempDir()})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { node.Kill() })
	w := newWorldOn(t, behindFaults(t, node.URL()))
	w.node = node
	return w
}

// newCollectionsWorld has a real server of typed collections for its engine, behind the faults of a stand-in.
func newCollectionsWorld(t *testing.T) *world {
	t.Helper()
	server := collectionsnode.ForTest(t)
	w := newWorldOn(t, behindFaults(t, server.URL()))
	w.typed, w.env = server, append(w.env, "SEARCH_KEY="+server.Key)
	return w
}

// newTasksWorld has a simulated server of the kind tasks for its engine, behind the faults of a stand-in.
func newTasksWorld(t *testing.T) *world {
	t.Helper()
	server := httptest.NewServer(&taskserver.Server{Key: "key", Takes: time.Millisecond})
	t.Cleanup(server.Close)
	w := newWorldOn(t, behindFaults(t, server.URL))
	w.tasks, w.env = true, append(w.env, "SEARCH_KEY=key")
	return w
}

// behindFaults is a server behind the faults of a stand-in.
func behindFaults(t *testing.T, address string) http.Handler {
	t.Helper()
	target, err := url.Parse(address)
	if err != nil {
		t.Fatal(err)
	}
	proxy := httputil.NewSingleHostReverseProxy(target)
	// What reaches no one is a connection that is lost, not an answer.
	proxy.ErrorHandler = func(http.ResponseWriter, *http.Request, error) { panic(http.ErrAbortHandler) }
	return standin.Before(proxy)
}

// on is a definition for the kind of the world's engine.
func (w *world) on(files []api.File) []api.File {
	switch {
	case w.typed != nil:
		return demo.On("collections", files)
	case w.tasks:
		return demo.On("tasks", files)
	}
	return files
}

// newWorldOn is a world of its own, next to those of other tests: most of them wait most of the time.
func newWorldOn(t *testing.T, engine http.Handler) *world {
	t.Helper()
	t.Parallel()
	w := &world{t: t, pgDir: filepath.Join(pgtest.Dir(t), "pg"), log: &lockedBuffer{}}
	w.startPostgres(0)
	t.Cleanup(func() { w.pg.Stop() })
	for _, name := range []string{"pingo", "lodge", "tables"} {
		if err := w.pg.CreateDatabase(t.Context(), name); err != nil {
			t.Fatal(err)
		}
	}
	w.engine = httptest.NewServer(engine)
	w.engine.Config.ErrorLog = log.New(io.Discard, "", 0) // connections that are lost on purpose
	t.Cleanup(w.engine.Close)
	w.address = freeAddress(t)
	through := newDescribed(t, w.address)
	w.env = append(os.Environ(), "PINGO_RECORDS_URL="+w.pg.URL("pingo"), "PINGO_URL="+through.URL, "PINGO_SECRETS_ENV=*",
		"LODGE_URL="+w.pg.URL("lodge"), "SEARCH_URL="+w.engine.URL, "TABLES_URL="+w.pg.URL("tables"))
	w.client = &client.Client{URL: through.URL}
	t.Cleanup(func() {
		for _, service := range []*exec.Cmd{w.service, w.second} {
			if service != nil {
				service.Process.Signal(syscall.SIGTERM)
				service.Wait()
			}
		}
		if t.Failed() {
			t.Logf("the service's log:\n%s", w.log)
		}
	})
	return w
}

// lookup finds what the service is given by the environment.
func (w *world) lookup(reference string) (string, error) {
	for _, variable := range slices.Backward(w.env) {
		if value, is := strings.CutPrefix(variable, reference+"="); is {
			return value, nil
		}
	}
	return "", fmt.Errorf("the world has no %s", reference)
}

func (w *world) startPostgres(port int) {
	w.t.Helper()
	var err error
	w.pg, err = pgserver.Start(
		context.Background(),
		pgserver.Options{Dir: w.pgDir, Port: port, Settings: pgtest.Settings},
	)
	if err != nil {
		w.t.Fatal(err)
	}
}

// freeAddress is one where no one listens. It is below the ports that the system gives out by itself:
// else it might be given to the proxy that leads to it, which would then lead to itself.
func freeAddress(t *testing.T) string {
	t.Helper()
	for range 100 {
		l, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", 20_000+rand.IntN(10_000)))
		if err == nil {
			defer l.Close()
			return l.Addr().String()
		}
	}
	t.Fatal("a hundred ports are in use")
	return ""
}

var printedToken = regexp.MustCompile(`PINGO_TOKEN=(\S+)`)

// serve starts the service and waits until it works.
func (w *world) serve() {
	w.t.Helper()
	w.service = w.process(w.address)
	w.eventually(20*time.Second, "the service answers", func() error {
		if m := printedToken.FindStringSubmatch(w.log.String()); m != nil && w.client.Token == "" {
			w.client.Token = m[1]
			w.env = append(w.env, "PINGO_TOKEN="+m[1])
		}
		_, err := w.client.Status(w.t.Context())
		return err
	})
}

// process starts pingo serve at an address.
func (w *world) process(address string) *exec.Cmd {
	w.t.Helper()
	cmd := exec.Command(binary, append([]string{"serve", "--listen", address}, w.args...)...)
	cmd.Env, cmd.Stdout, cmd.Stderr = w.env, w.log, w.log
	if err := cmd.Start(); err != nil {
		w.t.Fatal(err)
	}
	return cmd
}

// kill ends the service as a power cut would.
func (w *world) kill() {
	w.service.Process.Kill()
	w.service.Wait()
}

// run runs a command of the binary and returns what it printed and its exit code.
func (w *world) run(args ...string) (stdout, stderr string, code int) {
	w.t.Helper()
	ctx, cancel := context.WithTimeout(w.t.Context(), 90*time.Second)
	defer cancel()
	cmd := exec.CommandContext(ctx, binary, args...)
	var out, errs bytes.Buffer
	cmd.Env, cmd.Stdout, cmd.Stderr = w.env, &out, &errs
	if err := cmd.Run(); err != nil && cmd.ProcessState == nil {
		w.t.Fatal(err)
	}
	return out.String(), errs.String(), cmd.ProcessState.ExitCode()
}

// must is run for a command that has to succeed.
func (w *world) must(args ...string) string {
	w.t.Helper()
	out, errs, code := w.run(args...)
	if code != 0 {
		w.t.Fatalf("pingo %s: exit %d\n%s%s", strings.Join(args, " "), code, out, errs)
	}
	return out
}

// patience is by how much deadlines are longer than a quick machine needs: they end tests
// that would never end, and say nothing about speed.
const patience = 10

func (w *world) eventually(most time.Duration, what string, try func() error) {
	w.t.Helper()
	var err error
	most *= patience
	for deadline := time.Now().Add(most); time.Now().Before(deadline); time.Sleep(30 * time.Millisecond) {
		if err = try(); err == nil {
			return
		}
	}
	w.t.Fatalf("%s: not within %s: %v", what, most, err)
}

// index waits until an index is as wanted.
func (w *world) index(most time.Duration, what, name string, ok func(api.IndexStatus) bool) {
	w.t.Helper()
	w.eventually(most, what, func() error {
		status, err := w.client.Status(w.t.Context())
		if err != nil {
			return err
		}
		for _, ix := range status.Indexes {
			if ix.Name == name && ok(ix) {
				return nil
			}
		}
		b, _ := json.Marshal(status)
		return fmt.Errorf("%s", b)
	})
}

// edition is the name of the edition that answers for an index.
func (w *world) edition(index string) (name string) {
	w.t.Helper()
	w.index(10*time.Second, "an edition answers", index, func(ix api.IndexStatus) bool {
		name = ix.Edition
		return ix.Live
	})
	return name
}

// fault makes the stand-in misbehave; an empty object ends it.
func (w *world) fault(object string) {
	w.t.Helper()
	response, err := http.Post(w.engine.URL+"/_standin/faults", "application/json", strings.NewReader(object))
	if err != nil {
		w.t.Fatal(err)
	}
	io.Copy(io.Discard, response.Body)
	response.Body.Close()
	if response.StatusCode != 200 {
		w.t.Fatal(response.Status)
	}
}

// equal compares all documents of an index with what lodge's rows make, as the demo's
// definition says.
func (w *world) equal(lodge *pgx.Conn, index string) (rows int) {
	w.t.Helper()
	rows, documents, differences, err := demo.Compare(w.t.Context(), lodge, w.on(demo.Files()), index, w.lookup)
	if err != nil {
		w.t.Fatal(err)
	}
	for _, d := range differences[:min(5, len(differences))] {
		w.t.Errorf("%s %s: %.500s", index, d.Key, d.What)
	}
	if len(differences) > 0 || rows != documents {
		w.t.Errorf("%s: %d rows, %d documents, %d differences", index, rows, documents, len(differences))
	}
	return rows
}

// equalTo is equal for another definition, with a number of known differences.
func (w *world) equalTo(lodge *pgx.Conn, text, index string, known int) {
	w.t.Helper()
	_, _, differences, err := demo.Compare(w.t.Context(), lodge, []api.File{{Name: "pingo.yaml", Text: text}}, index, w.lookup)
	if err != nil || len(differences) != known {
		w.t.Errorf("%s: %d differences instead of %d, %v", index, len(differences), known, err)
	}
}

// write puts a definition into a file and returns its path.
func (w *world) write(text string) string {
	w.t.Helper()
	path := filepath.Join(w.t.TempDir(), "pingo.yaml")
	if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
		w.t.Fatal(err)
	}
	return path
}
