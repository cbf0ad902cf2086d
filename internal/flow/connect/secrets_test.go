package connect

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// A definition gets what was given to definitions, and nothing else of the machine, whichever way it asks.
func TestSecretsAreThoseThatWereGiven(t *testing.T) {
	top := t.TempDir()
	dir := filepath.Join(top, "secrets")
	for name, text := range map[string]string{"secrets/lodge": "in\n", "secrets/deep/x": "deep", "other": "out", "secrets/large": strings.Repeat("x", largestSecret+1)} {
		if err := os.MkdirAll(filepath.Dir(filepath.Join(top, name)), 0o700); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(top, name), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	for from, to := range map[string]string{"escape": "../other", "absolute": filepath.Join(top, "other"), "within": "deep/x"} {
		if err := os.Symlink(to, filepath.Join(dir, from)); err != nil {
			t.Fatal(err)
		}
	}
	t.Setenv("LODGE_URL", "a")
	t.Setenv("LODGE_KEY", "b")
	t.Setenv("MACHINE_KEY", "never")
	s := Secrets{Variables: []string{"LODGE_*", "NOT_SET"}, Dirs: []string{dir}}
	if err := s.Check(); err != nil {
		t.Fatal(err)
	}
	const not = "not given to definitions"
	for reference, want := range map[string]string{
		"LODGE_URL": "a", "LODGE_KEY": "b", "file:lodge": "in", "file:deep/x": "deep", "file:within": "deep",
		"file:" + dir + "/lodge": "in", "file:" + dir + "/deep/../lodge": "in",
	} {
		if got, err := s.Lookup(reference); err != nil || got != want {
			t.Errorf("${%s}: %q (%v), want %q", reference, got, err, want)
		}
	}
	for reference, why := range map[string]string{
		"MACHINE_KEY": not, "PATH": not, "": not, "NOT_SET": "is not set", "file:none": "no such file", "file:large": "larger than",
		"file:../other": not, "file:" + top + "/other": not, "file:/etc/passwd": not, "file:" + dir + "/../other": not, "file:": not,
		"file:escape": "escapes", "file:absolute": "escapes", "file:deep": "is a directory",
	} {
		if got, err := s.Lookup(reference); err == nil || got != "" || !strings.Contains(err.Error(), why) {
			t.Errorf("${%s}: %q (%v), want %q", reference, got, err, why)
		}
	}
	if _, err := (Secrets{}).Lookup("LODGE_URL"); err == nil ||
		!strings.Contains(err.Error(), "--secrets-env LODGE_URL") {
		t.Errorf("without anything given: %v", err)
	}
	for _, wrong := range []Secrets{{Variables: []string{"[a"}}, {Variables: []string{""}}, {Dirs: []string{"relative"}}, {Dirs: []string{top + "/other"}}} {
		if wrong.Check() == nil {
			t.Errorf("%v was taken", wrong)
		}
	}
}
