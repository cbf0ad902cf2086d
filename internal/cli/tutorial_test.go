package cli_test

import (
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
)

var tutorialSteps = regexp.MustCompile("(?s)```(sh|yaml)\n(.*?)```")

// The tutorial does what it says, as a reader types it. The server and the engine are the test's own.
func TestTutorial(t *testing.T) {
	text, err := os.ReadFile(filepath.Join("..", "..", "docs", "tutorial", "first-index.md"))
	if err != nil {
		t.Fatal(err)
	}
	w := newWorld(t)
	at, err := url.Parse(w.pg.URL("first"))
	if err != nil {
		t.Fatal(err)
	}
	password, _ := at.User.Password()
	dir := t.TempDir()
	if err := os.Symlink(binary, filepath.Join(dir, "pingo")); err != nil {
		t.Fatal(err)
	}
	w.env = append(w.env, "PGHOST="+at.Hostname(), "PGPORT="+at.Port(), "PGUSER="+at.User.Username(), "PGPASSWORD="+password,
		"FIRST_URL="+at.String(), "PATH="+dir+":"+os.Getenv("PATH"))
	w.serve()
	steps := tutorialSteps.FindAllStringSubmatch(string(text), -1)
	if len(steps) < 8 {
		t.Fatalf("%d steps", len(steps))
	}
	found := map[string]string{"stove": "Grim Hut", "palace": "Grim Palace", "south ridge": "Marmot Shelter"}
	for _, step := range steps {
		if step[1] == "yaml" {
			if err := os.WriteFile(filepath.Join(dir, "pingo.yaml"), []byte(step[2]), 0o600); err != nil {
				t.Fatal(err)
			}
			continue
		}
		if strings.Contains(step[2], "pingo serve") {
			continue // it runs
		}
		if strings.Contains(step[2], "dropdb") {
			w.kill() // as the text before says
		}
		cmd := exec.CommandContext(t.Context(), "bash", "-c", "set -e\n"+strings.Replace(step[2], "pingo check", "pingo check || [ $? = 5 ]", 1))
		cmd.Dir, cmd.Env = dir, w.env
		out, err := cmd.CombinedOutput()
		if err != nil {
			t.Fatalf("%s\n%v: %s", step[2], err, out)
		}
		for words, want := range found {
			if strings.Contains(step[2], `"`+words+`"`) {
				delete(found, words)
				if !strings.Contains(string(out), want) {
					t.Errorf("%s\nhas no %s: %s", step[2], want, out)
				}
			}
		}
	}
	if len(found) > 0 {
		t.Errorf("the tutorial does not search for %v", found)
	}
}
