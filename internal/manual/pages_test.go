package manual

import (
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"pingo/internal/api"
)

var (
	link    = regexp.MustCompile(`!?\[[^\]]*\]\(([^)\s]+)\)`)
	heading = regexp.MustCompile(`(?m)^#{1,4} (.*)$`)
	notWord = regexp.MustCompile(`[^\p{L}\p{N}_\- ]`)
	fence   = regexp.MustCompile("(?s)```.*?```")
)

// anchors are the headings of a page, as links name them.
func anchors(text string) map[string]bool {
	out := map[string]bool{"": true}
	for _, m := range heading.FindAllStringSubmatch(fence.ReplaceAllString(text, ""), -1) {
		title := link.ReplaceAllStringFunc(m[1], func(l string) string { return l[1:strings.Index(l, "]")] })
		out[strings.ReplaceAll(notWord.ReplaceAllString(strings.ToLower(title), ""), " ", "-")] = true
	}
	return out
}

// Every link leads to a page and a heading that exist. The index leads to every page, and no page is longer than a reader reads.
func TestPages(t *testing.T) {
	pages := map[string]string{}
	for _, pattern := range []string{"../../README.md", docs + "/*.md", docs + "/*/*.md"} {
		found, err := filepath.Glob(pattern)
		if err != nil {
			t.Fatal(err)
		}
		for _, path := range found {
			text, err := os.ReadFile(path)
			if err != nil {
				t.Fatal(err)
			}
			pages[path] = string(text)
		}
	}
	const mostWords, mostLines = 1500, 120
	if n := strings.Count(pages["../../README.md"], "\n"); n > mostLines {
		t.Errorf("README.md has %d lines", n)
	}
	fromIndex := map[string]bool{}
	for path, text := range pages {
		if n := len(strings.Fields(text)); n > mostWords {
			t.Errorf("%s has %d words", path, n)
		}
		for _, m := range link.FindAllStringSubmatch(text, -1) {
			if strings.Contains(m[1], "://") {
				continue
			}
			file, anchor, _ := strings.Cut(m[1], "#")
			to := filepath.Join(filepath.Dir(path), file)
			if file == "" {
				to = path
			}
			if strings.HasSuffix(path, "docs/index.md") {
				fromIndex[to] = true
			}
			if _, err := os.Stat(to); err != nil {
				t.Errorf("%s links to %s, which is not there", path, m[1])
			} else if page, is := pages[to]; is && !anchors(page)[anchor] {
				t.Errorf("%s links to %s, which has no such heading", path, m[1])
			}
		}
	}
	for path := range pages {
		if path != "../../README.md" && !strings.HasSuffix(path, "docs/index.md") && !fromIndex[path] {
			t.Errorf("docs/index.md does not list %s", path)
		}
	}
}

// The manual explains every type of problem that the API's description has an answer for.
func TestProblemTypesAreExplained(t *testing.T) {
	text, err := os.ReadFile(docs + "/reference/http-api.md")
	if err != nil {
		t.Fatal(err)
	}
	for code := 400; code < 600; code++ {
		name := strings.ToLower(strings.ReplaceAll(http.StatusText(code), " ", "-"))
		if strings.Contains(string(api.OpenAPI), fmt.Sprintf("\"%d\":", code)) && !strings.Contains(string(text), ":"+name+"`") {
			t.Errorf("urn:pingo:problem:%s is not explained", name)
		}
	}
}
