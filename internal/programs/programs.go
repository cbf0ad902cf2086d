// Package programs is the commands that run something on this machine: the service, the
// demo, a stand-in engine, and what needs no service.
package programs

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/pprof"
	"net/netip"
	"os"
	"runtime/debug"
	"slices"
	"strings"
	"syscall"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"pingo/console"
	"pingo/internal/cli"
	"pingo/internal/kinds"
	"pingo/internal/lab/demo"
	"pingo/internal/lab/standin"
	"pingo/internal/lab/taskserver"
	"pingo/internal/outgoing"
	"pingo/internal/pgserver"
	"pingo/internal/records"
	"pingo/internal/server"
)

// Commands makes the commands, by the names of their groups.
func Commands(a *cli.App) map[string][]*cobra.Command {
	return map[string][]*cobra.Command{
		cli.GroupRun:    {serve(a), demoCommand(a), standinCommand(a)},
		cli.GroupDefine: {schema(a)},
		cli.BelowToken:  {tokenReset(a)},
	}
}

// schema prints the definition language.
func schema(a *cli.App) *cobra.Command {
	return &cobra.Command{
		Use:     "schema",
		Short:   "Print the definition language's JSON Schema, for editors",
		Args:    cli.Exactly(0, "no arguments"),
		Long:    "Prints the JSON Schema (2020-12) of definition files. It is JSON unless YAML is asked for.",
		Example: "  pingo schema > pingo.schema.json\n  pingo schema -o yaml",
		RunE: func(*cobra.Command, []string) error {
			text := kinds.All().Language().Schema()
			return a.Print(json.RawMessage(text), func() { a.Out.Write(text) })
		},
	}
}

func logger(w io.Writer, format string, level slog.Leveler) (*slog.Logger, error) {
	options := &slog.HandlerOptions{Level: level}
	switch format {
	case "text":
		return slog.New(slog.NewTextHandler(w, options)), nil
	case "json":
		return slog.New(slog.NewJSONHandler(w, options)), nil
	}
	return nil, cli.UsageError{Err: fmt.Errorf("--log-format is text or json, not %q", format)}
}

// listen opens a port, and says what to do when it is taken.
func listen(address string) (net.Listener, error) {
	l, err := net.Listen("tcp", address)
	switch {
	case errors.Is(err, syscall.EADDRINUSE):
		return nil, fmt.Errorf(
			"%s is in use by another program: stop that, or choose another port with --listen",
			address,
		)
	case errors.Is(err, syscall.EACCES):
		return nil, fmt.Errorf(
			"%s may not be listened on by this user: choose a port above 1023 with --listen",
			address,
		)
	case err != nil:
		return nil, fmt.Errorf(
			"%s cannot be listened on: write HOST:PORT, such as 127.0.0.1:7464 (%w)",
			address,
			err,
		)
	}
	return l, nil
}

// reached is the flags of serve for its address and its clients.
type reached struct {
	address, certificate, key string
	names, proxies            []string
	insecure                  bool
}

func (r *reached) flags(flags *pflag.FlagSet) {
	flags.StringVar(&r.address, "listen", "127.0.0.1:7464", "address to listen on")
	flags.StringVar(&r.certificate, "tls-cert", "", "file with a certificate (PEM): serve over TLS")
	flags.StringVar(&r.key, "tls-key", "", "file with the certificate's key (PEM)")
	flags.BoolVar(&r.insecure, "insecure-http", false, "allow connections from other machines without TLS")
	flags.StringSliceVar(
		&r.names,
		"public-name",
		nil,
		"host name that browsers reach the service by, besides addresses and this machine's own",
	)
	flags.StringSliceVar(
		&r.proxies,
		"trusted-proxy",
		nil,
		"address or range (CIDR) of a proxy whose X-Forwarded headers are true",
	)
}

// safe refuses to listen where tokens and documents could be read on the network, unless that is intended.
func (r *reached) safe(l net.Listener, o server.Options) error {
	address, ok := l.Addr().(*net.TCPAddr)
	if !ok || address.IP.IsLoopback() || o.Certificate != nil || len(o.Proxies) > 0 || r.insecure {
		return nil
	}
	return cli.UsageError{Err: fmt.Errorf(
		"--listen %s is beyond this machine and without TLS, so tokens and documents could be read on the network: add --tls-cert and --tls-key, or --trusted-proxy for a proxy with TLS; --insecure-http listens all the same",
		r.address)}
}

// options reads the flags into o.
func (r *reached) options(o *server.Options) error {
	for _, text := range r.proxies {
		prefix, err := netip.ParsePrefix(text)
		if address, notAddress := netip.ParseAddr(text); notAddress == nil {
			prefix, err = netip.PrefixFrom(address, address.BitLen()), nil
		}
		if err != nil {
			return cli.UsageError{
				Err: fmt.Errorf("--trusted-proxy is an address or a range such as 10.0.0.0/8, not %q", text),
			}
		}
		o.Proxies = append(o.Proxies, prefix.Masked())
	}
	o.Names = r.names
	if (r.certificate == "") != (r.key == "") {
		return cli.UsageError{Err: errors.New("--tls-cert and --tls-key belong together")}
	}
	if r.certificate == "" {
		return nil
	}
	var err error
	o.Certificate, err = server.LoadCertificate(r.certificate, r.key, o.Log)
	return err
}

// warn says when tokens can be read on the way.
func (r *reached) warn(l net.Listener, o server.Options) {
	address, ok := l.Addr().(*net.TCPAddr)
	if ok && !address.IP.IsLoopback() && o.Certificate == nil && len(o.Proxies) == 0 {
		o.Log.Warn(
			"listening without TLS: tokens and documents can be read on the network; use --tls-cert, or a proxy with TLS and --trusted-proxy",
		)
	}
}

// kept is the flags that say where records are kept.
type kept struct{ url, dir string }

func (k *kept) flags(flags *pflag.FlagSet) {
	flags.StringVar(
		&k.url,
		"records-url",
		os.Getenv("PINGO_RECORDS_URL"),
		"PostgreSQL database for Pingo's own records (PINGO_RECORDS_URL)",
	)
	flags.StringVar(&k.dir, "records-dir", "", "run a private PostgreSQL for the records in this folder")
	// The environment may hold a password, which help must not show.
	flags.Lookup("records-url").DefValue = ""
}

func (k *kept) check() error {
	if (k.url == "") == (k.dir == "") {
		return cli.UsageError{
			Err: errors.New(
				"say where records are kept: either --records-dir DIR for a private PostgreSQL, or --records-url (PINGO_RECORDS_URL)",
			),
		}
	}
	return nil
}

// profile answers on an address of loopback with what Go's profiler knows of the process, and changes the level of its log,
// until the context ends.
func profile(ctx context.Context, address string, level *slog.LevelVar, log *slog.Logger) error {
	host, _, err := net.SplitHostPort(address)
	if ip, notAddress := netip.ParseAddr(host); err != nil || notAddress != nil || !ip.IsLoopback() {
		return cli.UsageError{
			Err: fmt.Errorf(
				"--debug-listen is an address of loopback such as 127.0.0.1:6060, not %q: profiles hold data",
				address,
			),
		}
	}
	l, err := listen(address)
	if err != nil {
		return err
	}
	mux := http.NewServeMux()
	mux.HandleFunc("/debug/pprof/", pprof.Index)
	mux.HandleFunc("/debug/pprof/profile", pprof.Profile)
	mux.HandleFunc("/debug/pprof/trace", pprof.Trace)
	mux.HandleFunc("GET /debug/log-level", func(w http.ResponseWriter, _ *http.Request) { fmt.Fprintln(w, level.Level()) })
	mux.HandleFunc("PUT /debug/log-level", func(w http.ResponseWriter, r *http.Request) {
		text, err := io.ReadAll(http.MaxBytesReader(w, r.Body, 100))
		if err == nil {
			err = level.UnmarshalText(bytes.TrimSpace(text))
		}
		if err != nil {
			http.Error(w, "the body is a level: debug, info, warn or error", http.StatusBadRequest)
			return
		}
		log.Info("log level changed", "level", level.Level())
		fmt.Fprintln(w, level.Level())
	})
	log.Info("profiles", "url", "http://"+l.Addr().String()+"/debug/pprof/")
	go func() {
		if err := serveHTTP(ctx, l, onlyHere(mux)); err != nil {
			log.Error("profiles no longer served", "error", err)
		}
	}()
	return nil
}

// onlyHere answers requests of programs on this machine, and none of a page that a name leads here.
func onlyHere(h http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		host := r.Host
		if name, _, err := net.SplitHostPort(host); err == nil {
			host = name
		}
		ip, err := netip.ParseAddr(strings.Trim(host, "[]"))
		site := r.Header.Get("Sec-Fetch-Site")
		if host != "localhost" && (err != nil || !ip.IsLoopback()) || r.Header.Get("Origin") != "" || site != "" && site != "none" {
			http.Error(w, "profiles are for programs on this machine: ask at its loopback address", http.StatusForbidden)
			return
		}
		h.ServeHTTP(w, r)
	})
}

func serve(a *cli.App) *cobra.Command {
	var logFormat, logLevel, debug, most string
	var at reached
	var where kept
	var secrets server.Secrets
	var addresses []string
	cmd := &cobra.Command{
		Use: "serve", Short: "Run the service", Args: cli.Exactly(0, "no arguments"),
		Long: `Runs the service. It stores its records in a PostgreSQL database and listens on loopback by
default. The first start prints an admin token, once.

Definitions refer to secrets as ${NAME} and ${file:path}. --secrets-env and --secrets-dir list
the variables and files that definitions may use.

Without --allow-address, sources and engines may have any address; feeds, fetched records and
receivers of alerts must have public addresses. With --allow-address, Pingo connects only to
the listed addresses.`,
		Example: `  pingo serve --records-dir ./records
  PINGO_RECORDS_URL=postgres://… pingo serve --secrets-env 'LODGE_*,SEARCH_URL'
  pingo serve --records-dir ./records --secrets-dir /run/secrets --log-format json
  pingo serve --records-dir ./records --allow-address '*.db.firnline.example,10.20.0.0/16'
  pingo serve --records-dir ./records --listen 0.0.0.0:7464 --tls-cert cert.pem --tls-key key.pem
  pingo serve --records-dir ./records --trusted-proxy 10.0.0.2 --public-name pingo.firnline.example`,
		RunE: func(cmd *cobra.Command, _ []string) error {
			var level slog.LevelVar
			if err := level.UnmarshalText([]byte(logLevel)); err != nil {
				return cli.UsageError{Err: fmt.Errorf("--log-level is debug, info, warn or error, not %q", logLevel)}
			}
			log, err := logger(a.Err, logFormat, &level)
			if err != nil {
				return err
			}
			if err := where.check(); err != nil {
				return err
			}
			if err := secrets.Check(); err != nil {
				return cli.UsageError{Err: err}
			}
			if secrets.Addresses, err = outgoing.Parse(addresses); err != nil {
				return cli.UsageError{Err: fmt.Errorf("--allow-address: %w", err)}
			}
			o := server.Options{Console: console.Files(), Version: cli.Version, Log: log, Secrets: secrets}
			if err := at.options(&o); err != nil {
				return err
			}
			if o.Memory, err = memory(most); err != nil {
				return err
			}
			keepTo(o.Memory)
			l, err := listen(at.address)
			if err != nil {
				return err
			}
			defer l.Close()
			if err := at.safe(l, o); err != nil {
				return err
			}
			if debug != "" {
				if err := profile(cmd.Context(), debug, &level, log); err != nil {
					return err
				}
			}
			if where.dir != "" {
				pg, err := pgserver.Start(cmd.Context(), pgserver.Options{Dir: where.dir})
				if err != nil {
					return err
				}
				defer func() {
					if err := pg.Stop(); err != nil {
						log.Error("stopping the private PostgreSQL", "error", err)
					}
				}()
				pg.Supervise(cmd.Context(), func(err error) {
					if err == nil {
						log.Error("private PostgreSQL ended, starting it again")
						return
					}
					log.Error("private PostgreSQL not started", "error", err)
				})
				if err := pg.CreateDatabase(cmd.Context(), "pingo"); err != nil {
					return err
				}
				where.url = pg.URL("pingo")
			}
			rec, err := records.Open(cmd.Context(), where.url)
			if err != nil {
				return err
			}
			defer rec.Close()
			token, err := server.FirstToken(cmd.Context(), rec)
			if err != nil {
				return err
			}
			url := "http://" + l.Addr().String()
			if o.Certificate != nil {
				url = "https://" + l.Addr().String()
			}
			if token != "" {
				fmt.Fprintf(
					a.Out,
					"The first admin token, shown this once:\n\n  export PINGO_URL=%s PINGO_TOKEN=%s\n\n",
					url,
					token,
				)
			}
			log.Info("listening", "url", url, "given to definitions", secrets, "memory", humanize.Bytes(uint64(o.Memory)))
			at.warn(l, o)
			return server.Run(cmd.Context(), rec, l, o)
		},
	}
	flags := cmd.Flags()
	where.flags(flags)
	at.flags(flags)
	flags.StringSliceVar(
		&secrets.Variables,
		"secrets-env",
		list("PINGO_SECRETS_ENV"),
		"variables that definitions may refer to, by names or patterns such as LODGE_* (PINGO_SECRETS_ENV)",
	)
	flags.StringSliceVar(
		&secrets.Dirs,
		"secrets-dir",
		list("PINGO_SECRETS_DIR"),
		"folder whose files definitions may refer to (PINGO_SECRETS_DIR)",
	)
	flags.StringSliceVar(
		&addresses,
		"allow-address",
		list("PINGO_ALLOW_ADDRESS"),
		"the only addresses to connect to for definitions: host names, patterns such as *.firnline.example, and networks such as 10.0.0.0/8 (PINGO_ALLOW_ADDRESS)",
	)
	flags.StringVar(&logFormat, "log-format", "text", "text or json")
	flags.StringVar(&logLevel, "log-level", cmp.Or(os.Getenv("PINGO_LOG_LEVEL"), "info"),
		"debug, info, warn or error; the debug address changes it at run time (PINGO_LOG_LEVEL)")
	flags.StringVar(
		&most,
		"memory",
		os.Getenv("PINGO_MEMORY"),
		"how much memory to do with, such as 512MB (PINGO_MEMORY; default 256MB, or less where the control group has less)",
	)
	flags.StringVar(
		&debug,
		"debug-listen",
		"",
		"loopback address for Go profiles and the log level (default: none)",
	)
	return cmd
}

// list reads a variable that holds several words with commas between them.
func list(variable string) []string {
	text := os.Getenv(variable)
	if text == "" {
		return nil
	}
	return strings.Split(text, ",")
}

// tokenReset is the way back in for whoever administers the host.
func tokenReset(a *cli.App) *cobra.Command {
	var where kept
	name := "reset"
	cmd := &cobra.Command{
		Use: "reset", Short: "Create an admin token without signing in",
		Args: cli.Exactly(0, "no arguments"),
		Long: `Creates an admin token directly in the records database and shows it once. Use it if you have
lost every admin token. It needs the URL or the folder of the records, but no token and no running
service. It replaces a token of the same name and ends its sessions.`,
		Example: `  pingo token reset --records-dir ./records
  PINGO_RECORDS_URL=postgres://… pingo token reset --name on-call`,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if err := where.check(); err != nil {
				return err
			}
			if where.dir != "" {
				var leave func() error
				var err error
				if where.url, leave, err = pgserver.Reach(cmd.Context(), where.dir, "pingo"); err != nil {
					return err
				}
				defer leave()
			}
			rec, err := records.Open(cmd.Context(), where.url)
			if err != nil {
				return err
			}
			defer rec.Close()
			token, err := server.ResetToken(cmd.Context(), rec, name)
			if err != nil {
				return err
			}
			return a.Print(map[string]string{"name": name, "token": token}, func() { fmt.Fprintln(a.Out, token) })
		},
	}
	where.flags(cmd.Flags())
	cmd.Flags().StringVar(&name, "name", name, "name of the token")
	return cmd
}

func standinCommand(a *cli.App) *cobra.Command {
	address, user := "127.0.0.1:9264", ""
	parent := &cobra.Command{
		Use: "standin", Short: "Run a simulated engine",
		Long:    "Runs a small simulated engine that stores everything in memory, for the demo, for tests and for trying Pingo.",
		Example: "  pingo standin opensearch\n  pingo standin tasks",
	}
	opensearch := &cobra.Command{
		Use:   "opensearch",
		Short: "Simulate an engine with OpenSearch's HTTP interface",
		Args:  cli.Exactly(0, "no arguments"),
		Long: `Simulates the part of OpenSearch's HTTP interface that Pingo and a person with curl use.
To inject faults, POST a JSON object to /_standin/faults: slow_ms, busy (429), unavailable (503),
close, lose_answer (each a number of requests; -1 until cleared), and refuse ({"key": "reason"}).
DELETE clears them.`,
		Example: `  pingo standin opensearch --listen 127.0.0.1:9264
  PINGO_STANDIN_PASSWORD=… pingo standin opensearch --user pingo
  curl -X POST 127.0.0.1:9264/_standin/faults -d '{"busy": 20}'`,
		RunE: func(cmd *cobra.Command, _ []string) error {
			debug.SetGCPercent(50) // what it holds is large, and stays
			engine := &standin.Server{User: user, Password: os.Getenv("PINGO_STANDIN_PASSWORD")}
			if user != "" && engine.Password == "" {
				return cli.UsageError{
					Err: errors.New("with --user, PINGO_STANDIN_PASSWORD must hold the password"),
				}
			}
			l, err := listen(address)
			if err != nil {
				return err
			}
			fmt.Fprintf(a.Out, "The stand-in engine answers at http://%s\n", l.Addr())
			return serveHTTP(cmd.Context(), l, engine)
		},
	}
	opensearch.Flags().StringVar(&address, "listen", address, "address to listen on")
	opensearch.Flags().
		StringVar(&user, "user", "", "require this user, and the password in PINGO_STANDIN_PASSWORD")
	parent.AddCommand(opensearch, standinTasks(a))
	return parent
}

func standinTasks(a *cli.App) *cobra.Command {
	address, takes := "127.0.0.1:9274", time.Duration(0)
	cmd := &cobra.Command{
		Use:   "tasks",
		Short: "Simulate an engine that answers with tasks",
		Args:  cli.Exactly(0, "no arguments"),
		Long: `Simulates the HTTP interface of engines that answer writes with tasks: indexes, documents, settings, searches, tasks,
keys and the exchange of indexes. It keeps everything in memory.`,
		Example: `  pingo standin tasks --listen 127.0.0.1:9274
  PINGO_STANDIN_KEY=… pingo standin tasks --takes 50ms`,
		RunE: func(cmd *cobra.Command, _ []string) error {
			debug.SetGCPercent(50) // what it holds is large, and stays
			l, err := listen(address)
			if err != nil {
				return err
			}
			fmt.Fprintf(a.Out, "The stand-in engine answers at http://%s\n", l.Addr())
			return serveHTTP(cmd.Context(), l, &taskserver.Server{Key: os.Getenv("PINGO_STANDIN_KEY"), Takes: takes})
		},
	}
	cmd.Flags().StringVar(&address, "listen", address, "address to listen on")
	cmd.Flags().DurationVar(&takes, "takes", takes, "how long each task takes at least")
	return cmd
}

func serveHTTP(ctx context.Context, l net.Listener, h http.Handler) error {
	s := &http.Server{
		Handler:           h,
		ReadHeaderTimeout: 10 * time.Second,
		ErrorLog:          slog.NewLogLogger(slog.DiscardHandler, slog.LevelError),
	}
	stop := context.AfterFunc(ctx, func() { s.Close() })
	defer stop()
	if err := s.Serve(l); !errors.Is(err, http.ErrServerClosed) {
		return err
	}
	return nil
}

func demoCommand(a *cli.App) *cobra.Command {
	o := demo.Options{}
	var verbose bool
	cmd := &cobra.Command{
		Use:   "demo",
		Short: "Run Pingo with demo data",
		Args:  cli.Exactly(0, "no arguments"),
		Long: `Starts databases with the huts and trails of Firnline, an invented co-operative, a simulated
engine and the service. Applies a definition, fills the indexes, and changes rows continuously.
Everything runs on loopback; Ctrl-C removes it. --engine opensearch and --engine collections use
the real servers that make engines installs; --engine tasks uses a simulated server of that kind.`,
		Example: `  pingo demo
  pingo demo --port 7470 --engine-port 9270 --database-port 5470
  pingo demo --engine opensearch
  pingo demo --engine collections
  pingo demo --engine tasks
  pingo demo --once
  pingo demo --once -o json`,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if !slices.Contains([]string{"standin", "opensearch", "collections", "tasks"}, o.Engine) {
				return cli.UsageError{Err: fmt.Errorf("--engine is standin, opensearch, collections or tasks, not %q", o.Engine)}
			}
			level := slog.LevelWarn
			if verbose {
				level = slog.LevelInfo
			}
			log, err := logger(a.Err, "text", level)
			if err != nil {
				return err
			}
			o.Console, o.Version, o.Log = console.Files(), cli.Version, log
			o.Say = func(format string, args ...any) { fmt.Fprintf(a.Err, format+"\n", args...) }
			o.Executable, _ = os.Executable()
			if !o.Once {
				return demo.Run(cmd.Context(), o)
			}
			summary, err := demo.RunOnce(cmd.Context(), o)
			if err != nil {
				return err
			}
			if err := a.Print(summary, func() { showSummary(a, summary) }); err != nil {
				return err
			}
			if !summary.OK {
				return errors.New("a check of the demo failed: " + strings.Join(summary.Wrong(), ", "))
			}
			return nil
		},
	}
	flags := cmd.Flags()
	flags.BoolVar(&o.Once, "once", false, "run the demo once, check it, print a summary and exit")
	flags.StringVar(&o.Engine, "engine", "standin", "search engine to run: standin, a real opensearch or collections, or a simulated tasks")
	flags.IntVar(&o.Port, "port", 0, "port of the service and console (default: a free one)")
	flags.IntVar(&o.EnginePort, "engine-port", 0, "port of the engine (default: a free one)")
	flags.IntVar(&o.DatabasePort, "database-port", 0, "port of PostgreSQL (default: a free one)")
	flags.Int64Var(&o.Seed, "seed", 1, "seed of the demo data and changes")
	flags.BoolVarP(&verbose, "verbose", "v", false, "show the service's log")
	return cmd
}

func showSummary(a *cli.App, s *demo.Summary) {
	fmt.Fprintf(
		a.Out,
		"rows %s · documents %s · changes made %s, seen %s · refused %d\n",
		humanize.Comma(s.Rows),
		humanize.Comma(s.Documents),
		humanize.Comma(s.ChangesMade),
		humanize.Comma(s.ChangesSeen),
		s.Refused,
	)
	fmt.Fprintf(a.Out, "lag p50 %.0f ms · p95 %.0f ms · p99 %.0f ms\n\n", s.Lag.P50, s.Lag.P95, s.Lag.P99)
	for _, c := range s.Checks {
		mark := "ok   "
		if !c.OK {
			mark = "WRONG"
		}
		fmt.Fprintf(a.Out, "%s  %s\n", mark, c.Words)
	}
}
