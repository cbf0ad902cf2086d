package cli_test

import (
	"errors"
	"fmt"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"pingo/internal/api"
)

const stationDefinition = `
sources:
  conditions:
    kind: webhook
    signing_secrets: ["${CONDITIONS_SECRET}"]
    max_request: 64KB
    records: { bulletins: { key: /key, body: /body, schema: { properties: { title: { type: string }, snow_cm: { type: integer } } } } }
engines:
  main: { kind: opensearch, url: "${SEARCH_URL}" }
indexes:
  bulletins: { engine: main, rows: conditions.bulletins, fields: { title: { search: 1 }, snow_cm: { filter: true } } }
`

// A sender's events, and files, are found by searches; what is wrong with them is reported where it
// was sent from, and in a list.
func TestEventsAndFiles(t *testing.T) {
	w := newWorld(t)
	secret, _, _ := w.run("hooks", "secret")
	w.env = append(w.env, "CONDITIONS_SECRET="+strings.TrimSpace(secret))
	w.serve()
	definition := w.write(stationDefinition)
	checked, _, code := w.run("check", definition)
	if code != 5 || !strings.Contains(checked, "events of bulletins have no version") {
		t.Errorf("check: %d\n%s", code, checked)
	}
	if out, _, code := w.run("check", w.write(strings.Replace(stationDefinition, `["${CONDITIONS_SECRET}"]`, `[whsec_MfKQ9r8GKYqrTwjUPD8ILPZIo2LaLaSw]`, 1))); code != 3 ||
		!strings.Contains(out, "secrets are never stored") {
		t.Errorf("a secret that is written out: %d\n%s", code, out)
	}
	if out, _, code := w.run("check", w.write(strings.Replace(stationDefinition, "key: /key", "key: key", 1))); code != 3 ||
		!strings.Contains(out, "pingo.yaml:7:") {
		t.Errorf("an invalid pointer: %d\n%s", code, out)
	}
	w.must("apply", "--yes", definition)
	if out := w.must("hooks", "list", "conditions"); !strings.Contains(out, "No event has come") {
		t.Error(out)
	}
	dir := t.TempDir()
	file := func(name, text string) string {
		path := filepath.Join(dir, name)
		if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		return path
	}
	w.must(
		"hooks",
		"send",
		"conditions",
		file(
			"event.json",
			`[{"key": "1", "body": {"title": "fresh snow", "snow_cm": 40}}, {"key": "2", "body": {"title": "thaw"}}]`,
		),
		"--event",
		"msg_1",
	)
	if out := w.must("hooks", "send", "conditions", file("event.json", `[{"key": "1", "body": {"title": "fresh snow", "snow_cm": 40}}, {"key": "2", "body": {"title": "thaw"}}]`), "--event", "msg_1"); !strings.Contains(
		out,
		"duplicate 2",
	) {
		t.Errorf("sent again: %s", out)
	}
	if out, errs, code := w.run("hooks", "send", "conditions", file("wrong.json", `{"body": {}}`)); code != 1 ||
		!strings.Contains(out, `the key at "/key" is not there`) {
		t.Errorf("%d %s %s", code, out, errs)
	}
	found := func(want string, args ...string) {
		t.Helper()
		w.must("wait", "bulletins")
		if out := w.must(append([]string{"search", "bulletins"}, args...)...); !strings.Contains(out, want) {
			t.Errorf("search %v: %s", args, out)
		}
	}
	found("1 found", "snow")
	text := w.metrics()
	for outcome, n := range map[string]int{"accepted": 2, "duplicate": 2, "refused": 1, "old": 0} {
		if line := fmt.Sprintf("pingo_source_events_total{outcome=%q,source=\"conditions\"} %d\n", outcome, n); !strings.Contains(text, line) {
			t.Errorf("the metrics lack %s", line)
		}
	}
	list := w.must("hooks", "list", "conditions")
	for _, words := range []string{"bulletins: 2 records", "accepted", "duplicate", "unreadable"} {
		if !strings.Contains(list, words) {
			t.Errorf("the list lacks %q:\n%s", words, list)
		}
	}
	receipts, err := w.client.Receipts(t.Context(), "conditions", "unreadable", 0, 10)
	if err != nil || len(receipts) != 1 {
		t.Fatal(receipts, err)
	}
	if out := w.must("hooks", "show", "conditions", fmt.Sprint(receipts[0].Number)); !strings.Contains(
		out,
		"is not there",
	) {
		t.Error(out)
	}
	if _, errs, code := w.run("hooks", "show", "conditions", "999999"); code != 1 ||
		!strings.Contains(errs, "has no receipt") {
		t.Errorf("%d %s", code, errs)
	}

	// Files of all forms; what is refused has its line, and a listing deletes what it has not.
	out, errs, code := w.run(
		"load",
		"conditions",
		"bulletins",
		file("all.ndjson", "{\"key\": \"1\"}\n\n{\"id\": 3, \"title\": \"fog\", \"snow_cm\": 7}\nno json\n"),
		"--replace",
	)
	if code != 1 || !strings.Contains(out, "line 1: the key at \"/id\" is not there") ||
		!strings.Contains(out, "line 4: the row cannot be read") ||
		!strings.Contains(errs, "nothing was deleted") {
		t.Errorf("ndjson: %d %s %s", code, out, errs)
	}
	found("3 found")
	if out := w.must("load", "conditions", "bulletins", file("all.csv", "id,title,snow_cm\n3,fog again,8\n4,\"ice, and \"\"more\"\"\",\n"), "--replace"); !strings.Contains(
		out,
		"Loaded 2 records; deleted 2",
	) {
		t.Error(out)
	}
	found("2 found")
	found("1 found", "--filter", "snow_cm=8")
	if out := w.must("load", "conditions", "bulletins", file("all.json", `[{"id": 5, "title": "wind"}]`)); !strings.Contains(
		out,
		"Loaded 1 records",
	) {
		t.Error(out)
	}
	for _, wrong := range [][]string{
		{"load", "conditions", "trails", filepath.Join(dir, "all.json")}, {"load", "lodge", "bulletins", filepath.Join(dir, "all.json")},
		{"load", "conditions", "bulletins", filepath.Join(dir, "none.json")}, {"load", "conditions", "bulletins", file("x.txt", "")}, {"hooks", "list", "lodge"},
	} {
		if _, errs, code := w.run(wrong...); code == 0 || errs == "" {
			t.Errorf("%v: %d %s", wrong, code, errs)
		}
	}

	// Over HTTP: the right status, and no more than was reported.
	post := func(path, body string) int {
		response, err := http.Post("http://"+w.address+path, "application/json", strings.NewReader(body))
		if err != nil {
			t.Fatal(err)
		}
		response.Body.Close()
		return response.StatusCode
	}
	for _, c := range []struct {
		path, body string
		status     int
	}{
		{"/hooks/conditions", `{"key": "9", "body": {}}`, 401}, {"/hooks/nowhere", "{}", 404},
		{"/hooks/conditions", strings.Repeat(" ", 70_000), 401}, {"/api/sources/conditions/sign", "{}", 401}, {"/api/sources/conditions/records/bulletins/load", "{}", 401},
	} {
		if got := post(c.path, c.body); got != c.status {
			t.Errorf("%s: %d, want %d", c.path, got, c.status)
		}
	}
	var open []net.Conn
	w.eventually(10*time.Second, "too many requests are refused", func() error {
		conn, err := net.Dial("tcp", w.address) // its request does not end, and takes a place
		if err != nil {
			return err
		}
		fmt.Fprint(
			conn,
			"POST /hooks/conditions HTTP/1.1\r\nHost: x\r\nContent-Length: 100\r\nContent-Type: application/json\r\n\r\n{\"key\"",
		)
		open = append(open, conn)
		if got := post("/hooks/conditions", "{}"); got != 429 {
			return fmt.Errorf("%d", got)
		}
		return nil
	})
	for _, conn := range open {
		conn.Close()
	}
	w.eventually(3*time.Second, "and admitted again", func() error {
		if got := post("/hooks/conditions", "{}"); got != 401 {
			return fmt.Errorf("%d", got)
		}
		return nil
	})
	viewer, err := w.client.CreateToken(t.Context(), "watch", "viewer", nil)
	if err != nil {
		t.Fatal(err)
	}
	admin := w.client.Token
	w.client.Token = viewer.Token
	if _, err := w.client.Load(t.Context(), "conditions", "bulletins", []api.LoadedRow{{Line: 1, Body: []byte(`{"id": 6}`)}}); err == nil {
		t.Error("a viewer loads records")
	}
	if _, err := w.client.SendEvent(t.Context(), "conditions", "", "x", "application/json", []byte("{}")); err == nil {
		t.Error("a viewer has events signed")
	}
	if _, err := w.client.HeldRecords(t.Context(), "conditions"); err != nil {
		t.Error(err)
	}
	w.client.Token = admin
	held, err := w.client.HeldRecords(t.Context(), "conditions")
	if err != nil || held[0].Rows != 3 {
		t.Errorf("%+v %v", held, err)
	}

	// What came while no one listened is there after a start, and a reindex is from what is kept.
	w.kill()
	w.serve()
	w.must(
		"apply",
		"--yes",
		w.write(
			strings.Replace(
				stationDefinition,
				"snow_cm: { filter: true }",
				"snow_cm: { filter: true, sort: true }",
				1,
			),
		),
	)
	w.eventually(20*time.Second, "the new edition answers", func() error {
		if out, stderr, _ := w.run("search", "bulletins", "--sort", "snow_cm"); !strings.Contains(out, "3 found") {
			return errors.New(out + stderr)
		}
		return nil
	})
}
