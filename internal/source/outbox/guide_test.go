package outbox_test

import (
	"net"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
)

var blocks = regexp.MustCompile("(?s)```([a-z]+)\n(.*?)```")

// Each example of the guide is run as it stands there, where its interpreter and its driver are,
// and what it did is noticed.
func TestExamplesOfTheGuide(t *testing.T) {
	guide, err := os.ReadFile("../../../docs/howto/outbox.md")
	if err != nil {
		t.Fatal(err)
	}
	examples := map[string]string{}
	for _, m := range blocks.FindAllStringSubmatch(string(guide), -1) {
		examples[m[1]] = m[2]
	}
	const driver = "/usr/share/java/mariadb-java-client.jar"
	for _, e := range []struct {
		language, kind, file string
		there                []string // a command that succeeds where it can be run
		run                  []string
	}{
		{"go", "postgres", "main.go", []string{"go", "version"}, []string{"go", "run", "FILE"}},
		{"python", "postgres", "example.py", []string{"/usr/bin/python3", "-c", "import psycopg2"}, []string{"/usr/bin/python3", "FILE"}},
		{"php", "mariadb", "example.php", []string{"php", "-r", "new PDO('mysql:host=127.0.0.1;port=1') ?? 0;"}, []string{"php", "FILE"}},
		{"ruby", "mariadb", "example.rb", []string{"ruby", "-e", "require 'mysql2'"}, []string{"ruby", "FILE"}},
		{"java", "mariadb", "Example.java", []string{"ls", driver}, []string{"java", "-cp", driver, "FILE"}},
	} {
		if examples[e.language] == "" {
			t.Errorf("the guide has no example in %s", e.language)
			continue
		}
		t.Run(e.language, func(t *testing.T) {
			out, err := exec.Command(e.there[0], e.there[1:]...).CombinedOutput()
			if err != nil && !strings.Contains(string(out), "Connection refused") {
				t.Skipf("%s or its driver is not here: %v %.200s", e.language, err, out)
			}
			w := newIn(t, e.kind)
			w.start(
				`{"outbox": {"table": "outbox", "operation": "operation"}}`,
				"CREATE TABLE trails (id int PRIMARY KEY, name varchar(50))",
				"INSERT INTO trails VALUES (7, 'Old Way')",
			)
			w.claim()
			file := filepath.Join(t.TempDir(), e.file)
			if err := os.WriteFile(file, []byte(examples[e.language]), 0o644); err != nil {
				t.Fatal(err)
			}
			u, err := url.Parse(w.url)
			if err != nil {
				t.Fatal(err)
			}
			host, port, err := net.SplitHostPort(u.Host)
			if err != nil {
				t.Fatal(err)
			}
			password, _ := u.User.Password()
			name := strings.TrimPrefix(u.Path, "/")
			cmd := exec.Command(e.run[0], append(e.run[1:len(e.run)-1:len(e.run)-1], file)...)
			cmd.Env = append(
				os.Environ(),
				"DATABASE_URL="+w.url,
				"DATABASE_HOST="+host,
				"DATABASE_PORT="+port,
				"DATABASE_NAME="+name,
				"DATABASE_USER="+u.User.Username(),
				"DATABASE_PASSWORD="+password,
				"DATABASE_DSN=mysql:host="+host+";port="+port+";dbname="+name,
				"DATABASE_JDBC=jdbc:mariadb://"+u.Host+u.Path,
			)
			if out, err := cmd.CombinedOutput(); err != nil {
				t.Fatalf("%v: %s", err, out)
			}
			if got, _ := w.changes(); len(got) != 1 || got[0] != "update trails 7" {
				t.Errorf("noticed %q", got)
			}
			if w.count("SELECT count(*) FROM trails WHERE name = 'Ridge Way'") != 1 {
				t.Error("the row was not changed")
			}
		})
	}
}
