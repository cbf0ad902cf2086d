package standin

import (
	"encoding/json"
	"flag"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"pingo/internal/lab/ostest"
)

func TestMain(m *testing.M) { ostest.Main(m) }

var record = flag.Bool("record", false, "TestRealAnswers writes down what the real server answers")

const table = "testdata/answers.txt"

// The stand-in answers as a real server was seen to answer.
func TestAnswersAsARealServer(t *testing.T) {
	server := httptest.NewServer(&Server{})
	defer server.Close()
	cases := readCases(t)
	if wrong := askAll(t, server.URL, cases, false); wrong > 0 {
		t.Errorf("%d of %d requests are answered otherwise by a real server", wrong, len(cases))
	}
}

// A real server answers as is written down.
func TestRealAnswers(t *testing.T) {
	url := ostest.Server(t).URL()
	cases := readCases(t)
	if *record {
		var b strings.Builder
		for _, c := range cases {
			fmt.Fprintf(&b, "%s\n%s\n\n", c.text, "= "+strings.Join(answerTo(t, url, c), "\n= "))
		}
		if err := os.WriteFile(table, []byte(b.String()), 0o644); err != nil {
			t.Fatal(err)
		}
		return
	}
	if wrong := askAll(t, url, cases, true); wrong > 0 {
		t.Errorf("%d of %d answers are not as they are written down", wrong, len(cases))
	}
}

// exchange is one request of the table and its answer, a line for each part of it.
type exchange struct {
	line   int
	text   string // as it is in the table, with comments
	method string
	path   string
	body   string
	answer []string
}

// repeated writes long things short: «k*513», and # is the number of the repetition.
var repeated = regexp.MustCompile(`«([^«»]+)\*(\d+)»`)

func readCases(t *testing.T) []exchange {
	t.Helper()
	file, err := os.ReadFile(table)
	if err != nil {
		t.Fatal(err)
	}
	var out []exchange
	line := 1
	for block := range strings.SplitSeq(string(file), "\n\n") {
		c := exchange{line: line}
		line += strings.Count(block, "\n") + 2
		var text, body []string
		for l := range strings.SplitSeq(strings.Trim(block, "\n"), "\n") {
			switch answer, is := strings.CutPrefix(l, "= "); {
			case is:
				c.answer = append(c.answer, answer)
				continue
			case strings.HasPrefix(l, "# "), l == "":
			case c.method == "":
				c.method, c.path, _ = strings.Cut(l, " ")
			default:
				body = append(body, l)
			}
			text = append(text, l)
		}
		if c.method == "" {
			continue
		}
		c.text, c.body = strings.Join(text, "\n"), strings.Join(body, "\n")
		c.body = repeated.ReplaceAllStringFunc(c.body, func(s string) string {
			m := repeated.FindStringSubmatch(s)
			n, _ := strconv.Atoi(m[2])
			var b strings.Builder
			for i := range n {
				b.WriteString(strings.ReplaceAll(m[1], "#", strconv.Itoa(i)))
			}
			return b.String()
		})
		c.body = strings.NewReplacer("«tab»", "\t", "«byte»", "\x80").Replace(c.body)
		if c.method == "VALUES" { // of one field, each in a document of its own
			field, values := c.path, c.body
			c.method, c.path = "POST", "/same/_bulk"
			c.body = ""
			for i, v := range strings.Split(values, "\n") {
				c.body += fmt.Sprintf(`{"index":{"_id":"%s-%d"}}`+"\n", field, i)
				c.body += fmt.Sprintf(`{%q:%s}`+"\n", field, v)
			}
		} else if strings.HasSuffix(c.path, "_bulk") || strings.Contains(c.path, "_bulk?") {
			c.body += "\n"
		}
		out = append(out, c)
	}
	return out
}

// askAll asks a server and counts what it answers otherwise. Unless the words are to be exact,
// what happened and the kinds of errors count.
func askAll(t *testing.T, url string, cases []exchange, exact bool) (wrong int) {
	t.Helper()
	for _, c := range cases {
		got := answerTo(t, url, c)
		if !exact {
			got, c.answer = gists(got), gists(c.answer)
		}
		if !slices.Equal(got, c.answer) {
			wrong++
			for i := range max(len(got), len(c.answer)) {
				have, want := "nothing", "nothing"
				if i < len(got) {
					have = got[i]
				}
				if i < len(c.answer) {
					want = c.answer[i]
				}
				if have != want {
					asked := strings.Split(c.text, "\n")
					if c.path == "/same/_bulk" && len(c.answer) == len(asked) { // values of one field
						asked = []string{asked[0], asked[i]}
					}
					t.Errorf(
						"%s:%d: %.300s\n got %s\nwant %s",
						table,
						c.line,
						strings.Join(asked, "\n"),
						have,
						want,
					)
				}
			}
		}
	}
	return wrong
}

var reasons = regexp.MustCompile(`_exception: (failed to parse field \[.*?\] of type \[.*?\])?.*?( < |$)`)

func gists(lines []string) []string {
	out := make([]string, len(lines))
	for i, l := range lines {
		out[i] = reasons.ReplaceAllString(l, "_exception $1$2")
		if at := strings.Index(out[i], " : "); at > 0 { // an error in plain words
			out[i] = out[i][:at]
		}
		if causes := strings.Split(out[i], " < "); len(causes) > 2 {
			out[i] = strings.Join(causes[:2], " < ")
		}
	}
	return out
}

func answerTo(t *testing.T, url string, c exchange) []string {
	t.Helper()
	if c.method == "WAIT" { // a number of seconds
		n, _ := strconv.Atoi(c.path)
		time.Sleep(time.Duration(n) * time.Second)
		return []string{"waited"}
	}
	path := strings.ReplaceAll(c.path, " ", "%20")
	request, err := http.NewRequest(c.method, url+path, strings.NewReader(c.body))
	if err != nil {
		t.Fatal(err)
	}
	if c.body != "" {
		request.Header.Set("Content-Type", "application/json")
	}
	response, err := http.DefaultClient.Do(request)
	if err != nil {
		t.Fatalf("%s: %v", c.text, err)
	}
	defer response.Body.Close()
	body, err := io.ReadAll(response.Body)
	if err != nil {
		t.Fatal(err)
	}
	return summary(response.StatusCode, body)
}

type said struct {
	Type     string `json:"type"`
	Reason   string `json:"reason"`
	CausedBy *said  `json:"caused_by"`
	Roots    []said `json:"root_cause"`
}

var (
	uuids  = regexp.MustCompile(`(/[A-Za-z0-9_-]{22}|@[0-9a-f]+)\]`)
	source = regexp.MustCompile(`( at \[Source|\n|; nested|: \[?line: |, allowed: ).*`)
)

// words are an error's, without what differs between two servers.
func (s *said) words() string {
	out := s.Type + ": " + fmt.Sprintf(
		"%.160s",
		source.ReplaceAllString(uuids.ReplaceAllString(s.Reason, "]"), ""),
	)
	if len(s.Roots) > 0 && s.Roots[0].Type != s.Type {
		out += " < " + s.Roots[0].words()
	}
	if c := s.CausedBy; c != nil && c.Type != "json_parse_exception" && c.Type != "input_coercion_exception" &&
		!(len(s.Roots) > 0 && s.Roots[0].Type == c.Type) {
		out += " < " + c.words()
	}
	return out
}

// short says what is the same many times once.
func short(lines []string) []string {
	var out []string
	for i := 0; i < len(lines); {
		n := 1
		for i+n < len(lines) && lines[i+n] == lines[i] {
			n++
		}
		if n >= 50 {
			out = append(out, fmt.Sprintf("%s (%d times)", lines[i], n))
		} else {
			out = append(out, lines[i:i+n]...)
		}
		i += n
	}
	return out
}

// summary is what of an answer is the same on all servers that are alike.
func summary(status int, body []byte) []string {
	var a struct {
		Error        json.RawMessage `json:"error"`
		Acknowledged *bool           `json:"acknowledged"`
		Count        *int            `json:"count"`
		Found        *bool           `json:"found"`
		Result       string          `json:"result"`
		Version      any             `json:"_version"`
		Items        []map[string]struct {
			Status int    `json:"status"`
			Result string `json:"result"`
			Error  *said  `json:"error"`
		} `json:"items"`
		Docs []struct {
			ID    string `json:"_id"`
			Found bool   `json:"found"`
			Error *said  `json:"error"`
		} `json:"docs"`
		Hits *struct {
			Total struct {
				Value int `json:"value"`
			} `json:"total"`
			Hits []struct {
				ID   string `json:"_id"`
				Sort []any  `json:"sort"`
			} `json:"hits"`
		} `json:"hits"`
		Aggregations map[string]struct {
			Buckets []struct {
				Key  any    `json:"key"`
				Text string `json:"key_as_string"`
				N    int    `json:"doc_count"`
			} `json:"buckets"`
		} `json:"aggregations"`
	}
	head := strconv.Itoa(status)
	if len(body) == 0 {
		return []string{head}
	}
	if err := json.Unmarshal(body, &a); err != nil {
		return []string{head + " other"}
	}
	switch {
	case a.Error != nil:
		var s said
		if json.Unmarshal(a.Error, &s) != nil {
			json.Unmarshal(a.Error, &s.Reason)
		}
		return []string{head + " " + s.words()}
	case a.Acknowledged != nil:
		return []string{head + " ok"}
	case a.Items != nil:
		out := []string{head}
		for _, item := range a.Items {
			for action, i := range item {
				line := fmt.Sprintf("%s %d %s", action, i.Status, i.Result)
				if i.Error != nil {
					line = fmt.Sprintf("%s %d %s", action, i.Status, i.Error.words())
				}
				out = append(out, line)
			}
		}
		return short(out)
	case a.Count != nil:
		return []string{fmt.Sprintf("%s count %d", head, *a.Count)}
	case a.Docs != nil:
		out := []string{head}
		for _, d := range a.Docs {
			line := fmt.Sprintf("%s found %v", d.ID, d.Found)
			if d.Error != nil {
				line = d.ID + " " + d.Error.words()
			}
			out = append(out, line)
		}
		return out
	case a.Hits != nil:
		ids := []string{}
		for _, h := range a.Hits.Hits {
			id := h.ID
			if len(h.Sort) > 0 {
				id += fmt.Sprint(h.Sort)
			}
			ids = append(ids, id)
		}
		if len(a.Hits.Hits) > 0 && len(a.Hits.Hits[0].Sort) == 0 {
			slices.Sort(ids)
		}
		out := []string{fmt.Sprintf("%s total %d: %s", head, a.Hits.Total.Value, strings.Join(ids, " "))}
		for name, agg := range a.Aggregations {
			line := name
			for _, b := range agg.Buckets {
				line += fmt.Sprintf(" %v(%s)=%d", b.Key, b.Text, b.N)
			}
			out = append(out, line)
		}
		slices.Sort(out[1:])
		return out
	case a.Found != nil:
		return []string{fmt.Sprintf("%s found %v", head, *a.Found)}
	case a.Result != "":
		return []string{fmt.Sprintf("%s %s version %v", head, a.Result, a.Version)}
	}
	return []string{head}
}
