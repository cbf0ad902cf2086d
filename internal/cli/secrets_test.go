package cli_test

import (
	"errors"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"pingo/internal/api"
	"pingo/internal/lab/pgtest"
)

// A secret that changes in its file is used without a restart, and without another apply.
func TestSecretsThatChange(t *testing.T) {
	w := newWorld(t)
	target, err := url.Parse(w.engine.URL)
	if err != nil {
		t.Fatal(err)
	}
	var password atomic.Value
	password.Store("first")
	through := httputil.NewSingleHostReverseProxy(target)
	guarded := httptest.NewServer(http.HandlerFunc(func(rw http.ResponseWriter, r *http.Request) {
		if _, given, _ := r.BasicAuth(); given != password.Load() {
			http.Error(rw, `{"error":{"type":"security_exception","reason":"unable to authenticate"},"status":401}`, http.StatusUnauthorized)
			return
		}
		through.ServeHTTP(rw, r)
	}))
	defer guarded.Close()
	dir := t.TempDir()
	rotate := func() {
		t.Helper()
		address := strings.Replace(guarded.URL, "http://", "http://pingo:"+password.Load().(string)+"@", 1)
		if err := os.WriteFile(filepath.Join(dir, "search"), []byte(address+"\n"), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	rotate()
	lodge := pgtest.Connect(t, w.pg.URL("lodge"))
	pgtest.Exec(t, lodge, "CREATE TABLE tarns (id int PRIMARY KEY, name text); INSERT INTO tarns VALUES (1, 'Blea')")
	w.args = []string{"--secrets-dir", dir}
	w.serve()
	w.must("apply", "--yes", w.write("sources: { lodge: { kind: postgres, url: \"${LODGE_URL}\" } }\nengines: { main: { kind: opensearch, url: \"${file:search}\" } }\nindexes: { tarns: { engine: main, rows: lodge.tarns, fields: [name] } }\n"))

	password.Store("second")
	pgtest.Exec(t, lodge, "INSERT INTO tarns VALUES (2, 'Angle')")
	w.index(20*time.Second, "the engine refuses the old password", "tarns", func(ix api.IndexStatus) bool { return ix.State == api.StateBlocked })
	rotate()
	w.index(20*time.Second, "the new password is used", "tarns", func(ix api.IndexStatus) bool { return ix.State == api.StateInSync })
	w.must("wait", "tarns")
	w.eventually(5*time.Second, "the row is found", func() error {
		if out := w.must("search", "tarns", "Angle"); !strings.Contains(out, "Angle") {
			return errors.New(out)
		}
		return nil
	})
	if log := w.log.String(); strings.Contains(log, "first@") || strings.Contains(log, "second") {
		t.Error("a password is in the log")
	}
}
