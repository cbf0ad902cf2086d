// Package collectionsnode runs real servers of typed collections on loopback, from what `make engines` installed: for tests
// and for the demo.
package collectionsnode

import (
	"bytes"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"syscall"
	"testing"
	"time"
)

// Server is a running server.
type Server struct {
	// Key is the server's key.
	Key  string
	dir  string
	port int

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
	server := filepath.Join(home, "collections-0.24.1", "server")
	if _, err := os.Stat(server); err != nil {
		return "", fmt.Errorf("no server of typed collections is installed in %s: run make engines", home)
	}
	return server, nil
}

// Start starts a server with its data in a folder, and returns when it takes requests. The caller stops it. Port 0 takes a
// free one.
func Start(ctx context.Context, dir string, port int) (*Server, error) {
	if port == 0 {
		var err error
		if port, err = freePort(); err != nil {
			return nil, err
		}
	}
	s := &Server{Key: rand.Text(), dir: dir, port: port}
	return s, s.Restart(ctx)
}

func freePort() (int, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return 0, err
	}
	return l.Addr().(*net.TCPAddr).Port, l.Close()
}

// Restart starts a server that has ended, with its port and data.
func (s *Server) Restart(ctx context.Context) error {
	program, err := installed()
	if err != nil {
		return err
	}
	data := filepath.Join(s.dir, "data")
	if err := os.MkdirAll(data, 0o700); err != nil {
		return err
	}
	log, err := os.OpenFile(filepath.Join(s.dir, "log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	defer log.Close()
	peers, err := freePort()
	if err != nil {
		return err
	}
	s.process = exec.Command(program, "--data-dir="+data, "--api-key="+s.Key, "--api-address=127.0.0.1", "--api-port="+strconv.Itoa(s.port),
		"--peering-address=127.0.0.1", "--peering-port="+strconv.Itoa(peers), "--enable-cors=false")
	s.process.Stdout, s.process.Stderr = log, log
	s.process.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL, Setpgid: true}
	if err := s.process.Start(); err != nil {
		return err
	}
	s.exit = make(chan struct{})
	go func() { s.process.Wait(); close(s.exit) }()
	for deadline := time.Now().Add(2 * time.Minute); ; {
		if s.ready(ctx) {
			return nil
		}
		select {
		case <-s.exit:
			return fmt.Errorf("the server ended as soon as it was started; its log is %s", log.Name())
		case <-ctx.Done():
			return errors.Join(ctx.Err(), s.Kill())
		case <-time.After(100 * time.Millisecond):
		}
		if time.Now().After(deadline) {
			return errors.Join(fmt.Errorf("the server does not answer after 2 minutes; its log is %s", log.Name()), s.Kill())
		}
	}
}

func (s *Server) ready(ctx context.Context) bool {
	ctx, cancel := context.WithTimeout(ctx, 2*time.Second)
	defer cancel()
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, s.URL()+"/health", nil)
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
func (s *Server) URL() string { return fmt.Sprintf("http://127.0.0.1:%d", s.port) }

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

var named = regexp.MustCompile("valid `([A-Za-z0-9-]+)` header must be sent")

// KeyHeader is the header in which a server wants its key: it says so to a request without one. It is empty if the server
// does not answer.
func KeyHeader(url string) string {
	response, err := http.Get(url + "/collections")
	if err != nil {
		return ""
	}
	defer response.Body.Close()
	said, err := io.ReadAll(io.LimitReader(response.Body, 1<<16))
	if m := named.FindSubmatch(said); err == nil && m != nil {
		return string(m[1])
	}
	return ""
}

// Export reads all documents of a collection, each as a line of JSON.
func Export(ctx context.Context, url, key, collection string) (lines [][]byte, err error) {
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, url+"/collections/"+collection+"/documents/export", nil)
	if err != nil {
		return nil, err
	}
	request.Header.Set(KeyHeader(url), key)
	response, err := http.DefaultClient.Do(request)
	if err != nil {
		return nil, err
	}
	defer response.Body.Close()
	all, err := io.ReadAll(response.Body)
	if err == nil && response.StatusCode != http.StatusOK {
		err = fmt.Errorf("%s: %s: %.500s", url, response.Status, all)
	}
	if all = bytes.TrimSpace(all); err != nil || len(all) == 0 {
		return nil, err
	}
	return bytes.Split(all, []byte("\n")), nil
}

// ForTest starts a server that ends with the test, which is skipped unless PINGO_TEST_ENGINES is set, as make test-engines
// does.
func ForTest(t testing.TB) *Server {
	t.Helper()
	if os.Getenv("PINGO_TEST_ENGINES") == "" {
		t.Skip("make test-engines runs this with a real server")
	}
	s, err := Start(t.Context(), t.TempDir(), 0)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if err := s.Kill(); err != nil {
			t.Error(err)
		}
	})
	return s
}
