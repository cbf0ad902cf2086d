package pgsession_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"

	"pingo/internal/pgsession"
)

// A URL gives the driver what is in it, and nothing that is on this machine.
func TestURLsTakeNothingFromThisMachine(t *testing.T) {
	home := t.TempDir()
	write := func(name, text string) string {
		path := filepath.Join(home, name)
		if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		return path
	}
	passwords := write(".pgpass", "*:*:*:*:stolen")
	services := write(".pg_service.conf", "[stolen]\nhost=stolen.example\npassword=stolen\n")
	t.Setenv("HOME", home)
	for name, value := range map[string]string{
		"PGPASSWORD": "stolen", "PGPASSFILE": passwords, "PGSERVICE": "stolen", "PGSERVICEFILE": services, "PGSSLKEY": passwords, "PGSSLCERT": passwords, "PGSSLROOTCERT": passwords,
		"PGOPTIONS": "-c search_path=stolen", "PGTZ": "stolen", "PGHOST": "stolen.example", "PGSSLPASSWORD": "stolen", "PGAPPNAME": "stolen", "PGSSLMODE": "verify-full", "PGTARGETSESSIONATTRS": "read-only",
	} {
		t.Setenv(name, value)
	}
	given := func(name string) (string, error) {
		if name == "ca.pem" {
			return filepath.Join(home, "ca.pem"), nil
		}
		return "", fmt.Errorf("the file %s is not given to definitions", name)
	}
	for url, want := range map[string]string{
		"postgres://u@127.0.0.1/app": "", "postgres://u:p@h:5433/app?sslmode=disable&application_name=x": "", "postgresql:///app": "", "postgres://u:p@a,b/app?target_session_attrs=any": "",
		"postgres://u@h/app?passfile=/etc/passwd": "the file in passfile", "postgres://u@h/app?servicefile=/etc/x&service=y": `a parameter "service`, "postgres://u@h/app?search_path=evil": `a parameter "search_path"`,
		"postgres://u@h/app?options=-c%20a=b": `a parameter "options"`, "postgres://u@h/app?sslkey=/etc/ssl/private/key.pem": "the file in sslkey", "postgres://u@h/app?sslpassword=x": "a parameter",
		"postgres://u@h/app?pool_max_conns=99": "a parameter", "host=stolen.example": "is not a URL", "postgres://u@h/app?sslrootcert=../../etc/passwd": "the file in sslrootcert", "mysql://u@h/app": "is not a URL",
	} {
		clean, err := pgsession.URL(url, given)
		if want != "" {
			if err == nil || !strings.Contains(err.Error(), want) {
				t.Errorf("%s: %v, want %q", url, err, want)
			}
			continue
		}
		if err != nil {
			t.Errorf("%s: %v", url, err)
			continue
		}
		config, err := pgx.ParseConfig(clean)
		if err != nil {
			t.Errorf("%s: %v", url, err)
			continue
		}
		pgsession.Configure(config, nil)
		if all := fmt.Sprintf("%+v %v %+v", config.Config, config.RuntimeParams, config.TLSConfig); strings.Contains(all, "stolen") || config.Password != "" && config.Password != "p" {
			t.Errorf("%s took something: %s", url, all)
		}
	}
	if _, err := pgsession.URL("postgres://u@h/app?sslrootcert=ca.pem&sslmode=verify-full", given); err != nil {
		t.Error(err)
	}
	if _, err := pgsession.URL("postgres://u@h/app?sslrootcert=ca.pem", nil); err == nil {
		t.Error("a file was taken that no one gave")
	}
}
