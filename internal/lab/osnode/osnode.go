// Package osnode runs real OpenSearch servers on loopback, from what `make engines`
// installed: for tests and for the demo.
package osnode

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"
)

// Options say how a server is run.
type Options struct {
	// Dir holds data and log. It is made when missing.
	Dir string
	// Port on 127.0.0.1; 0 takes a free one.
	Port int
	// HeapMB is the size of the heap; 0 means 512.
	HeapMB int
	// Cores are those that the server runs on, as taskset names them; empty means all.
	Cores string
	// Settings are the node's own, as name=value. Without a discovery.type among them
	// the node is alone.
	Settings []string
}

// Server is a running server.
type Server struct {
	options Options
	process *exec.Cmd
	exit    chan struct{} // closed when the process has ended
}

// installed finds what `make engines` installed.
func installed() (string, error) {
	home := os.Getenv("PINGO_ENGINES")
	if home == "" {
		cache, err := os.UserCacheDir()
		if err != nil {
			return "", err
		}
		home = filepath.Join(cache, "pingo", "engines")
	}
	home = filepath.Join(home, "opensearch-2.19.1")
	if _, err := os.Stat(filepath.Join(home, "ready")); err != nil {
		return "", fmt.Errorf("no OpenSearch is installed in %s: run make engines", home)
	}
	return home, nil
}

// Start starts a server and returns when it takes requests. The caller stops it.
func Start(ctx context.Context, o Options) (*Server, error) {
	if o.Port == 0 {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			return nil, err
		}
		o.Port = l.Addr().(*net.TCPAddr).Port
		l.Close()
	}
	s := &Server{options: o}
	return s, s.Restart(ctx)
}

// Restart starts a server that has ended, with its port and data.
func (s *Server) Restart(ctx context.Context) error {
	home, err := installed()
	if err != nil {
		return err
	}
	o := s.options
	if err := os.MkdirAll(filepath.Join(o.Dir, "config"), 0o755); err != nil {
		return err
	}
	log, err := os.OpenFile(filepath.Join(o.Dir, "log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o644)
	if err != nil {
		return err
	}
	defer log.Close()
	heap := o.HeapMB
	if heap == 0 {
		heap = 512
	}
	arguments := []string{
		fmt.Sprintf("-Xms%dm", heap), fmt.Sprintf("-Xmx%dm", heap), "-XX:+UseG1GC",
		"-Djava.awt.headless=true", "-Dfile.encoding=UTF-8", "-Dio.netty.noUnsafe=true",
		"-Dlog4j2.configurationFile=" + filepath.Join(home, "log4j2.properties"),
		"-cp", filepath.Join(home, "classes") + ":" + filepath.Join(home, "lib", "*"), "SearchNode", o.Dir,
		"http.port=" + strconv.Itoa(o.Port),
	}
	if !slices.ContainsFunc(o.Settings, func(s string) bool { return len(s) > 9 && s[:9] == "discovery" }) {
		arguments = append(arguments, "discovery.type=single-node", "transport.port=0")
	}
	command := append(append([]string{"java"}, arguments...), o.Settings...)
	if o.Cores != "" {
		command = append([]string{"taskset", "-c", o.Cores}, command...)
	}
	s.process = exec.Command(command[0], command[1:]...)
	s.process.Stdout, s.process.Stderr = log, log
	s.process.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL, Setpgid: true}
	if err := s.process.Start(); err != nil {
		return err
	}
	s.exit = make(chan struct{})
	go func() { s.process.Wait(); close(s.exit) }()
	for deadline := time.Now().Add(5 * time.Minute); ; {
		if s.ready(ctx) {
			return nil
		}
		select {
		case <-s.exit:
			return fmt.Errorf("OpenSearch ended as soon as it was started; its log is %s", log.Name())
		case <-ctx.Done():
			return errors.Join(ctx.Err(), s.Kill())
		case <-time.After(100 * time.Millisecond):
		}
		if time.Now().After(deadline) {
			return errors.Join(
				fmt.Errorf("OpenSearch does not answer after 5 minutes; its log is %s", log.Name()),
				s.Kill(),
			)
		}
	}
}

func (s *Server) ready(ctx context.Context) bool {
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, s.URL()+"/_cluster/health?timeout=5s", nil)
	if err != nil {
		return false
	}
	response, err := http.DefaultClient.Do(request)
	if err != nil {
		return false
	}
	defer response.Body.Close()
	return response.StatusCode == http.StatusOK
}

// URL is where the server is reached.
func (s *Server) URL() string { return fmt.Sprintf("http://127.0.0.1:%d", s.options.Port) }

// ProcessorTime is what the server has used since it was started.
func (s *Server) ProcessorTime() (time.Duration, error) {
	stat, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", s.process.Process.Pid))
	if err != nil {
		return 0, err
	}
	fields := strings.Fields(string(stat[bytes.LastIndexByte(stat, ')')+1:]))
	var ticks int64 // 100 a second, of user and system time
	for _, f := range fields[11:13] {
		n, err := strconv.ParseInt(f, 10, 64)
		if err != nil {
			return 0, err
		}
		ticks += n
	}
	return time.Duration(ticks) * 10 * time.Millisecond, nil
}

// Stop ends the server in order.
func (s *Server) Stop() error {
	if err := s.process.Process.Signal(syscall.SIGTERM); err != nil && !errors.Is(err, os.ErrProcessDone) {
		return err
	}
	select {
	case <-s.exit:
		return nil
	case <-time.After(30 * time.Second):
		return s.Kill()
	}
}

// Kill ends the server as a crash does.
func (s *Server) Kill() error {
	if err := s.process.Process.Kill(); err != nil && !errors.Is(err, os.ErrProcessDone) {
		return err
	}
	<-s.exit
	return nil
}
