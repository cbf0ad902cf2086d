// Bench measures Pingo against what it is compared with, all in one run on one
// machine: make bench.
package main

import (
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"

	"pingo/internal/lab/demo"
	"pingo/internal/pgserver"
)

// Result is one measurement and, where it is compared, the ratio.
type Result struct {
	Name  string  `json:"name"`
	Value float64 `json:"value"`
	Unit  string  `json:"unit"`
	Note  string  `json:"note,omitempty"`
}

type bench struct {
	rows    int
	binary  string
	dir     string
	source  *pgserver.Server
	url     string // of the source
	results []Result
}

func main() {
	rows := flag.Int("rows", 300_000, "rows of the root table")
	only := flag.String(
		"only",
		"",
		"of fill, documents, changes, writes, real, apart, standin, events, ways, pace, drift, idle, quiet, memory, together, free, hand and busy, joined by commas; when empty all but apart, which is started with a core less",
	)
	out := flag.String("out", "bench/results.json", "where the figures go")
	flag.Parse()
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt)
	defer stop()
	if err := run(ctx, *rows, *only, *out); err != nil {
		fmt.Fprintln(os.Stderr, "bench:", err)
		os.Exit(1)
	}
}

func run(ctx context.Context, rows int, only, out string) error {
	b := &bench{rows: rows, binary: "bin/pingo"}
	var err error
	if b.dir, err = os.MkdirTemp("", "pingo-bench-"); err != nil {
		return err
	}
	defer os.RemoveAll(b.dir)
	if err := os.Chmod(b.dir, 0o711); err != nil {
		return err
	}
	say("loading %d huts with all that belongs to them …", rows)
	b.source, err = pgserver.Start(
		ctx,
		pgserver.Options{
			Dir:      filepath.Join(b.dir, "source"),
			Settings: []string{"shared_buffers=1GB", "max_wal_size=4GB", "checkpoint_timeout=1h"},
		},
	)
	if err != nil {
		return err
	}
	defer b.source.Stop()
	if err := b.source.CreateDatabase(ctx, "lodge"); err != nil {
		return err
	}
	b.url = b.source.URL("lodge")
	conn, err := pgx.Connect(ctx, b.url)
	if err != nil {
		return err
	}
	defer conn.Close(ctx)
	if err := demo.Load(ctx, conn, rows, 1); err != nil {
		return err
	}
	if _, err := conn.Exec(ctx, "VACUUM ANALYZE"); err != nil {
		return err
	}
	for _, part := range []struct {
		name    string
		measure func(context.Context, *pgx.Conn) error
	}{
		{"fill", b.fill}, {"documents", b.documents}, {"changes", b.changes}, {"writes", b.writes}, {"real", b.real}, {"apart", b.apart}, {"standin", b.standin},
		{"events", b.events}, {"ways", b.ways}, {"pace", b.pace}, {"drift", b.drift}, {"idle", b.idle}, {"quiet", b.idleLarge},
		{"memory", b.memory}, {"together", b.together}, {"free", b.free}, {"hand", b.hand}, {"busy", b.busy},
	} {
		if only == "" && part.name == "apart" || only != "" && !slices.Contains(strings.Split(only, ","), part.name) {
			continue
		}
		if err := part.measure(ctx, conn); err != nil {
			return fmt.Errorf("%s: %w", part.name, err)
		}
	}
	body, err := json.MarshalIndent(
		map[string]any{
			"at":      time.Now().UTC().Format(time.DateOnly),
			"cores":   runtime.NumCPU(),
			"rows":    rows,
			"results": b.results,
		},
		"",
		"  ",
	)
	if err != nil {
		return err
	}
	return os.WriteFile(out, append(body, '\n'), 0o644)
}

func say(format string, args ...any) { fmt.Printf(format+"\n", args...) }

func (b *bench) report(name string, value float64, unit, note string, args ...any) {
	r := Result{name, value, unit, fmt.Sprintf(note, args...)}
	b.results = append(b.results, r)
	say("%-52s %12.2f %-8s %s", r.Name, r.Value, r.Unit, r.Note)
}

// process starts the binary; the first line that it prints is passed to ready.
func (b *bench) process(ctx context.Context, env []string, args ...string) (*exec.Cmd, error) {
	cmd := exec.CommandContext(ctx, b.binary, args...)
	cmd.Env = append(os.Environ(), env...)
	cmd.Cancel = func() error { return cmd.Process.Signal(syscall.SIGTERM) }
	log, err := os.Create(filepath.Join(b.dir, args[0]+".log"))
	if err != nil {
		return nil, err
	}
	cmd.Stdout, cmd.Stderr = log, log
	return cmd, cmd.Start()
}

func end(cmd *exec.Cmd) {
	cmd.Process.Signal(syscall.SIGTERM)
	cmd.Wait()
}

// peakMemory is the most memory that a process ever held, in MB.
func peakMemory(pid int) (float64, error) {
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	if err != nil {
		return 0, err
	}
	for _, line := range strings.Split(string(text), "\n") {
		var kb float64
		if n, _ := fmt.Sscanf(line, "VmHWM: %f kB", &kb); n == 1 {
			return kb / 1024, nil
		}
	}
	return 0, fmt.Errorf("process %d does not tell its peak memory", pid)
}
