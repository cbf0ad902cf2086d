package engine

import (
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"
)

// A server whose answer never ends does not fill the memory.
func TestEndlessAnswer(t *testing.T) {
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		for part := make([]byte, 1<<20); ; {
			if _, err := w.Write(part); err != nil {
				return
			}
		}
	}))
	defer s.Close()
	client := HTTPClient(Config{}, time.Minute, 1)
	defer client.CloseIdleConnections()
	answer, err := client.Get(s.URL)
	if err != nil {
		t.Fatal(err)
	}
	defer answer.Body.Close()
	if n, err := io.Copy(io.Discard, answer.Body); err == nil || n > maxAnswer || !strings.Contains(err.Error(), "more than 256 MiB") {
		t.Errorf("%d bytes: %v", n, err)
	}
}
