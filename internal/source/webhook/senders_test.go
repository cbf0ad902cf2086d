package webhook

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"strings"
	"testing"

	cloudevents "github.com/cloudevents/sdk-go/v2"
	"github.com/cloudevents/sdk-go/v2/binding"
	cehttp "github.com/cloudevents/sdk-go/v2/protocol/http"

	"pingo/internal/source"
)

// sent is one request of a sender, and what it must do: update a record, delete it, or be refused.
type sent struct {
	SDK, Mode, Want string
	Headers         map[string]string
	Body            []byte
}

func readSent(t *testing.T, r io.Reader) (out []sent) {
	t.Helper()
	lines := bufio.NewScanner(r)
	lines.Buffer(nil, 1<<20)
	for lines.Scan() {
		var s sent
		if err := json.Unmarshal(lines.Bytes(), &s); err != nil {
			t.Fatal(err)
		}
		out = append(out, s)
	}
	return out
}

// sentByGo are the requests of the SDK for Go.
func sentByGo(t *testing.T) (out []sent) {
	t.Helper()
	add := func(mode, want string, r *http.Request, err error) {
		t.Helper()
		if err != nil {
			t.Fatal(mode, err)
		}
		s := sent{SDK: "go", Mode: mode, Want: want, Headers: map[string]string{}}
		for name := range r.Header {
			s.Headers[strings.ToLower(name)] = r.Header.Get(name)
		}
		if r.Body != nil {
			if s.Body, err = io.ReadAll(r.Body); err != nil {
				t.Fatal(err)
			}
		}
		out = append(out, s)
	}
	const issued, withdrawn = "firnline.bulletin.issued", "firnline.bulletin.withdrawn"
	snow := map[string]string{"title": "Fresh snow"}
	for _, c := range []struct {
		mode, want, event, content string
		data                       any
	}{
		{"object", "updated", issued, cloudevents.ApplicationJSON, snow}, {"bytes of JSON", "updated", issued, cloudevents.ApplicationJSON, []byte(`{"title":"Fresh snow"}`)},
		{"bytes", "refused", issued, "application/octet-stream", []byte{0, 1, 2}}, {"text", "refused", issued, cloudevents.TextPlain, "Fresh snow"},
		{"XML", "refused", issued, cloudevents.ApplicationXML, []byte("<title/>")}, {"no data", "refused", issued, "", nil}, {"null", "refused", issued, cloudevents.ApplicationJSON, []byte("null")},
		{"deleted", "deleted", withdrawn, "", nil}, {"deleted with data", "deleted", withdrawn, cloudevents.ApplicationJSON, snow},
	} {
		e := cloudevents.NewEvent()
		e.SetID("e1")
		e.SetSource("/stations/velm")
		e.SetSubject("7")
		e.SetType(c.event)
		if c.data != nil {
			if err := e.SetData(c.content, c.data); err != nil {
				t.Fatal(err)
			}
		}
		for way, in := range map[string]context.Context{"binary": binding.WithForceBinary(t.Context()), "structured": binding.WithForceStructured(t.Context())} {
			r, err := http.NewRequest(http.MethodPost, "http://station.example", nil)
			if err == nil {
				err = cehttp.WriteRequest(in, binding.ToMessage(&e), r)
			}
			add(way+", "+c.mode, c.want, r, err)
		}
		r, err := cehttp.NewHTTPRequestFromEvents(t.Context(), "http://station.example", []cloudevents.Event{e})
		add("batch, "+c.mode, c.want, r, err)
	}
	return out
}

// Each mode of the official SDKs does what the type of its event says, or is refused with a receipt that says why; only
// what says that a record was deleted deletes it.
func TestWhatSendersSend(t *testing.T) {
	recorded, err := os.Open("testdata/senders/sent.jsonl")
	if err != nil {
		t.Fatal(err)
	}
	defer recorded.Close()
	all := append(readSent(t, recorded), sentByGo(t)...)
	for program, file := range map[string]string{"python3": "send.py", "node": "send.mjs"} {
		run := exec.CommandContext(t.Context(), program, file)
		run.Dir = "testdata/senders"
		if out, err := run.Output(); err == nil { // where the SDK is installed
			all = append(all, readSent(t, bytes.NewReader(out))...)
		}
	}
	if len(all) < 50 {
		t.Fatalf("only %d requests", len(all))
	}
	h, err := newHook([]byte(`{"unsigned": "allowed", "max_future": "999999h", "records": {"bulletins": {"types": {"updated": ["firnline.bulletin.issued"], "deleted": ["firnline.bulletin.withdrawn"]}}}}`))
	if err != nil {
		t.Fatal(err)
	}
	for _, s := range all {
		r := source.Request{Method: http.MethodPost, Header: map[string][]string{}, Body: s.Body}
		for name, value := range s.Headers {
			r.Header[http.CanonicalHeaderKey(name)] = []string{value}
		}
		what := fmt.Sprintf("%s, %s: ", s.SDK, s.Mode)
		events, cloud, reason := split(&r)
		if reason != "" || len(events) != 1 || !cloud {
			if s.Want != "refused" || reason == "" {
				t.Error(what, len(events), reason)
			}
			continue
		}
		e, err := h.read(events[0], cloud, "", r.Method)
		switch {
		case err != nil:
			if s.Want != "refused" {
				t.Error(what, err)
			}
		case string(e.Op) != s.Want || e.Key != "7":
			t.Errorf("%s%s of %q, want %s", what, e.Op, e.Key, s.Want)
		case s.Want == "updated":
			var body map[string]string
			if err := json.Unmarshal(e.Body, &body); err != nil || body["title"] != "Fresh snow" {
				t.Errorf("%s%s %v", what, e.Body, err)
			}
		}
	}
	for body, want := range map[string]string{
		`{"id": "7"}`: "does not say that it was deleted", `{"id": "7", "body": null}`: "does not say that it was deleted", `{"id": "7", "body": {"title": "x"}}`: "", ``: "",
	} {
		h.records[0].Types = nil
		key, at := "/id", "/body"
		h.records[0].Key, h.records[0].Body = &key, &at
		path := ""
		if body == "" {
			path = "bulletins/7"
		}
		e, err := h.read(json.RawMessage(body), false, path, http.MethodPost)
		if want != "" && (err == nil || !strings.Contains(err.Error(), want)) || want == "" && err != nil {
			t.Errorf("%s: %s %v", body, e.Op, err)
		}
	}
}
