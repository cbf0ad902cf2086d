package cli_test

import (
	"crypto/sha1"
	"crypto/x509"
	"encoding/base64"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"net"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"reflect"
	"regexp"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"pingo/internal/api"
	"pingo/internal/core/definition"
	"pingo/internal/lab/ostest"
	"pingo/internal/lab/pgtest"
)

// The whole example runs on a real engine as it does on the stand-in.
func TestRealDemo(t *testing.T) {
	ostest.Wanted(t)
	demoOn(t, "opensearch", "collections")
}

// The whole example runs on an engine that answers with tasks.
func TestDemoOnTasks(t *testing.T) { demoOn(t, "tasks") }

func demoOn(t *testing.T, engines ...string) {
	w := &world{t: t, env: os.Environ()}
	for _, engine := range engines {
		out := w.must("demo", "--once", "--engine", engine, "-o", "json")
		var s struct {
			OK        bool
			Documents int64
		}
		if err := json.Unmarshal([]byte(out), &s); err != nil || !s.OK || s.Documents < 1000 {
			t.Errorf("%s: %v\n%s", engine, err, out)
		}
	}
}

var cookbookPart = regexp.MustCompile("(?s)```(sql|yaml|json)\n(.*?)```|(Document|No document|Refused:) `([^`]+)`")

// The cookbook's documents are in a real engine as the cookbook has them.
func TestRealCookbook(t *testing.T) {
	w := newRealWorld(t)
	var text []byte
	for _, page := range []string{"cookbook.md", "cookbook-several.md"} {
		part, err := os.ReadFile("../../docs/howto/" + page)
		if err != nil {
			t.Fatal(err)
		}
		text = append(text, part...)
	}
	lodge := pgtest.Connect(t, w.pg.URL("lodge"))
	w.serve()
	applied, index, wanted, compared := false, "", "", 0
	stored := func(key string) map[string]any {
		p, err := w.client.Preview(t.Context(), index, key)
		if err != nil {
			t.Fatalf("%s %s: %v", index, key, err)
		}
		var doc map[string]any
		if len(p.Stored) > 0 {
			if err := json.Unmarshal(p.Stored, &doc); err != nil {
				t.Fatal(err)
			}
		}
		delete(doc, definition.FingerprintField)
		return doc
	}
	for _, part := range cookbookPart.FindAllStringSubmatch(string(text), -1) {
		switch {
		case part[1] == "sql":
			if applied { // what is captured may not be changed under Pingo yet
				w.must("capture", "remove", "--yes")
			}
			pgtest.Exec(t, lodge, part[2])
		case part[1] == "yaml":
			rest := part[2]
			if !strings.HasPrefix(rest, "engines:\n") {
				rest = "engines:\n" + rest
			}
			rest = strings.Replace(
				rest,
				"engines:\n",
				"engines:\n  main: { kind: opensearch, url: \"${SEARCH_URL}\" }\n",
				1,
			)
			files := []api.File{
				{Name: "d.yaml", Text: "sources: { lodge: { kind: postgres, url: \"${LODGE_URL}\" } }\n" + rest},
			}
			plan, err := w.client.Check(t.Context(), files)
			if err != nil {
				t.Fatalf("%v\n%s", err, rest)
			}
			if len(plan.Findings) > 0 { // it is there to be refused
				continue
			}
			accept := []string{} // the index of the example before may be in this one no more
			if index != "" {
				accept = append(accept, index)
			}
			w.eventually(5*time.Second, "the example is applied", func() error {
				_, err := w.client.Apply(t.Context(), files, accept...)
				return err
			})
			applied = true
			for _, i := range plan.Indexes {
				if i.Change != api.ChangeRemoved {
					index = i.Name
				}
			}
			w.eventually(10*time.Second, "the example answers", func() error {
				now, err := w.client.Check(t.Context(), files)
				if err == nil && slices.ContainsFunc(now.Indexes, func(i api.IndexPlan) bool {
					return i.Name == index && i.Change != api.ChangeNone
				}) {
					err = errors.New("another edition is being filled")
				}
				return err
			})
			w.index(
				10*time.Second,
				"the example is filled",
				index,
				func(ix api.IndexStatus) bool { return ix.Live && ix.Fill == nil },
			)
		case part[3] == "No document":
			if doc := stored(part[4]); doc != nil {
				t.Errorf("document %s is there: %v", part[4], doc)
			}
		case part[3] == "Document":
			wanted = part[4]
		case part[1] == "json":
			var want map[string]any
			if err := json.Unmarshal([]byte(part[2]), &want); err != nil {
				t.Fatal(err)
			}
			if have := stored(wanted); !reflect.DeepEqual(want, have) {
				t.Errorf("document %s is\n%v\nthe docs say\n%s", wanted, have, part[2])
			}
			compared++
		}
	}
	if compared < 7 {
		t.Errorf("only %d documents were compared", compared)
	}
}

// A real engine behind a web server that asks for a user over TLS.
func TestRealEngineBehindTLS(t *testing.T) {
	w := newRealWorld(t)
	forCertificate := httptest.NewTLSServer(nil)
	defer forCertificate.Close()
	dir := pgtest.Dir(t)
	file := func(name string, text []byte) {
		t.Helper()
		if err := os.WriteFile(filepath.Join(dir, name), text, 0o644); err != nil {
			t.Fatal(err)
		}
	}
	key, err := x509.MarshalPKCS8PrivateKey(forCertificate.TLS.Certificates[0].PrivateKey)
	if err != nil {
		t.Fatal(err)
	}
	file(
		"certificate.pem",
		pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: forCertificate.Certificate().Raw}),
	)
	file("key.pem", pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: key}))
	password := sha1.Sum([]byte("crevasse"))
	file("users", []byte("firn:{SHA}"+base64.StdEncoding.EncodeToString(password[:])+"\n"))
	address := freeAddress(t)
	var modules strings.Builder
	for _, name := range []string{"mpm_event", "ssl", "proxy", "proxy_http", "auth_basic", "authn_core", "authn_file", "authz_core", "authz_user"} {
		fmt.Fprintf(&modules, "LoadModule %s_module /usr/lib/apache2/modules/mod_%[1]s.so\n", name)
	}
	file("web.conf", []byte(modules.String()+fmt.Sprintf(`ServerName lodge.invalid
Listen %[1]s
PidFile %[2]s/pid
ErrorLog %[2]s/errors
User www-data
Group www-data
SSLEngine on
SSLCertificateFile %[2]s/certificate.pem
SSLCertificateKeyFile %[2]s/key.pem
<Location "/">
  AuthType Basic
  AuthName "search"
  AuthBasicProvider file
  AuthUserFile %[2]s/users
  Require valid-user
  ProxyPass %[3]s/
</Location>
`, address, dir, w.node.URL())))
	web := exec.Command("/usr/sbin/apache2", "-d", dir, "-f", filepath.Join(dir, "web.conf"), "-D", "FOREGROUND")
	web.Stderr = w.log
	if err := web.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		web.Process.Signal(syscall.SIGTERM)
		web.Wait()
	})
	w.eventually(5*time.Second, "the web server answers", func() error {
		conn, err := net.Dial("tcp", address)
		if err == nil {
			conn.Close()
		}
		return err
	})
	engineBehindTLS(t, w, "https://"+address, forCertificate.Certificate())
}

// A truncated table leaves nothing behind in an index of several shards, which is more than one
// page of a listing.
func TestRealTruncatedRoot(t *testing.T) {
	w := newRealWorld(t)
	lodge := pgtest.Connect(t, w.pg.URL("lodge"))
	pgtest.Exec(t, lodge, "CREATE TABLE tarns (id int PRIMARY KEY, name text); "+
		"INSERT INTO tarns SELECT i, 'Tarn ' || i FROM generate_series(1, 7000) i")
	w.serve()
	w.must("apply", "--yes", w.write(`
sources: { lodge: { kind: postgres, url: "${LODGE_URL}" } }
engines: { main: { kind: opensearch, url: "${SEARCH_URL}" } }
indexes:
  tarns: { engine: main, rows: lodge.tarns, fields: { name: { search: 1 } }, engine_settings: { number_of_shards: 3 } }
`))
	w.must("wait", "tarns")
	pgtest.Exec(t, lodge, "TRUNCATE tarns; INSERT INTO tarns VALUES (7, 'Last Tarn')")
	w.must("wait", "tarns")
	hits, err := w.client.Search(t.Context(), "tarns", api.Query{Limit: 10})
	if err != nil || hits.Total != 1 || hits.Hits[0].Key != "7" {
		t.Errorf("%+v %v", hits, err)
	}
}
