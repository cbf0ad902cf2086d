package webhook

import (
	"bytes"
	"context"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"maps"
	"net/http"
	"net/http/httptest"
	"reflect"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	cloudevents "github.com/cloudevents/sdk-go/v2"
	standardwebhooks "github.com/standard-webhooks/standard-webhooks/libraries/go"

	"pingo/internal/core/change"
	"pingo/internal/core/definition"
	"pingo/internal/core/document"
	"pingo/internal/core/shape"
	"pingo/internal/lab/pgtest"
	"pingo/internal/records"
	"pingo/internal/source"
	"pingo/internal/source/sourcetest"
)

func TestMain(m *testing.M) { pgtest.Main(m) }

const (
	secret  = "whsec_MfKQ9r8GKYqrTwjUPD8ILPZIo2LaLaSw"
	another = "whsec_C2FVsBQIhrscChlQIMV+b5sSYspob7oD"
)

// station is a source whose senders are identified by their signatures.
const station = `{"signing_secrets": ["` + secret + `", "` + another + `"], "max_request": "64KB", "records": {
	"bulletins": {"types": {"updated": ["firnline.bulletin.*"], "deleted": ["firnline.bulletin.withdrawn"], "merged": ["firnline.bulletin.corrected"]}, "schema": {"properties": {
		"title": {"type": "string"}, "trail_id": {"type": "string"}, "snow_cm": {"type": ["integer", "null"]}, "open": {"type": "boolean"}, "on": {"type": "string", "format": "date"},
		"tags": {"type": "array", "items": {"type": "string"}}, "place": {"type": "array", "items": {"type": "number"}}}}},
	"trails": {"types": {"updated": ["firnline.trail"], "deleted": ["firnline.trail.gone"]}}}}`

type world struct {
	*testing.T
	src *source.Source
	url string
}

func newWorld(t *testing.T, options string) *world {
	t.Helper()
	w := &world{T: t, url: pgtest.URL(t)}
	rec, err := records.Open(t.Context(), w.url)
	if err != nil {
		t.Fatal(err)
	}
	rec.Close()
	w.src = w.open("conditions", options)
	return w
}

func (w *world) open(name, options string) *source.Source {
	w.Helper()
	src, err := Kind.Open(
		source.Config{Name: name, Options: []byte(options), Records: w.url, ConnectTimeout: 5 * time.Second},
	)
	if err != nil {
		w.Fatal(err)
	}
	w.Cleanup(src.Close)
	return src
}

func (w *world) hook() *Hook { return w.src.Intake.(*Hook) }

// send sends a signed request, and says what happened to its events.
func (w *world) send(id, contentType, body string) (status int, outcomes string) {
	w.Helper()
	headers, err := w.hook().Sign(id, time.Now(), []byte(body))
	if err != nil {
		w.Fatal(err)
	}
	headers["content-type"] = contentType
	return w.receive(headers, "", body)
}

func (w *world) receive(headers map[string]string, path, body string) (int, string) {
	w.Helper()
	header := map[string][]string{}
	for name, value := range headers {
		header[name] = []string{value}
	}
	reply, err := w.src.Intake.Receive(
		w.Context(),
		source.Request{
			Method: http.MethodPost,
			Path:   path,
			Header: header,
			Body:   []byte(body),
			Secure: true,
			Known:  true,
			At:     time.Now(),
		},
	)
	if err != nil {
		w.Fatal(err)
	}
	var words []string
	for _, r := range reply.Receipts {
		words = append(words, string(r.Outcome))
	}
	return reply.Status, strings.Join(words, " ")
}

func event(id, kind, subject string, at int, data string) string {
	return fmt.Sprintf(
		`{"specversion": "1.0", "id": %q, "source": "station-7", "type": %q, "subject": %q, "time": "2021-05-04T10:%02d:00Z", "data": %s}`,
		id,
		kind,
		subject,
		at,
		data,
	)
}

const bulletin = "firnline.bulletin.updated"

func (w *world) compile(indexes string) []*shape.Shape {
	w.Helper()
	text := "sources: { conditions: { kind: webhook, unsigned: allowed, records: { a: {} } } }\nengines: { main: { kind: any, url: \"any://h\" } }\nindexes:\n" + indexes
	def, findings := definition.Parse([]definition.File{{Name: "d.yaml", Text: text}}, definition.Kinds{
		Sources: []definition.Kind{{Name: Kind.Name, Captures: Kind.Captures, Keys: Kind.Keys}},
		Engines: []definition.Kind{{Name: "any", Schemes: []string{"any"}, Keys: `{}`}},
	}, nil)
	if len(findings) > 0 {
		w.Fatal(findings)
	}
	var out []*shape.Shape
	for _, ix := range def.Indexes {
		s, findings, err := source.Compile(w.Context(), ix, source.Only(w.src))
		if err != nil {
			w.Fatal(err)
		}
		if len(findings) > 0 {
			w.Fatal(findings)
		}
		out = append(out, s)
	}
	return out
}

func (w *world) install(shapes []*shape.Shape) {
	w.Helper()
	if _, err := w.src.Capture.Install(w.Context(), "one", shape.Capture(shapes[0].Source, shapes)); err != nil {
		w.Fatal(err)
	}
	found, err := w.src.Claimed(w.Context())
	if err != nil {
		w.Fatal(err)
	}
	if err := w.src.Claim(w.Context(), found, change.Claim{Service: "one", Holder: "A", Epoch: 1, Mark: 1, History: found.History}); err != nil {
		w.Fatal(err)
	}
}

func (w *world) documents(s *shape.Shape) map[string]string {
	w.Helper()
	set := document.NewSet(s.Trees[0])
	if err := w.src.ReadRange(w.Context(), set, nil, nil); err != nil {
		w.Fatal(err)
	}
	return sourcetest.Documents(w, set)
}

const indexes = `
  bulletins:
    engine: main
    rows: conditions.bulletins
    fields: [title, snow_cm, open, on, tags]
    related: { trail: { one: trails, on: { _key: trail_id }, fields: [name] } }
  trails:
    engine: main
    rows: conditions.trails
    fields: [name]
    related: { bulletins: { many: bulletins, on: { trail_id: _key }, list: title } }
`

// What is sent is a source like any other: records become documents, relate to each other, and
// their changes lead to what they touch, also to what they touched before.
func TestEventsBecomeDocuments(t *testing.T) {
	w := newWorld(t, station)
	if status, out := w.send("m0", "application/cloudevents+json", event("t1", "firnline.trail", "T1", 0, `{"name": "Ridge"}`)); status != 200 ||
		out != "accepted" {
		t.Fatal(status, out)
	}
	shapes := w.compile(indexes)
	w.install(shapes)
	batch := "[" + strings.Join([]string{
		event(
			"b1",
			bulletin,
			"7",
			1,
			`{"title": "Fresh snow", "trail_id": "T1", "snow_cm": 40, "open": true, "on": "2031-05-04", "tags": ["a", "b"], "place": [8.5, 46]}`,
		),
		event("b2", bulletin, "8", 1, `{"title": "Ice", "trail_id": "T1"}`),
		event("b3", bulletin, "8", 2, `{"title": "Ice gone", "trail_id": "T2", "snow_cm": null}`),
		event("b4", "firnline.bulletin.corrected", "7", 3, `{"snow_cm": 45, "open": null}`),
		event("b5", bulletin, "9", 3, `{"title": "Old"}`),
		event("b6", "firnline.bulletin.withdrawn", "9", 4, `null`),
	}, ",") + "]"
	if status, out := w.send("m1", "application/cloudevents-batch+json", batch); status != 200 ||
		out != strings.TrimSpace(strings.Repeat("accepted ", 6)) {
		t.Fatal(status, out)
	}
	want := map[string]string{
		"7": `{"on":"2031-05-04","open":null,"snow_cm":45,"tags":["a","b"],"title":"Fresh snow","trail":{"name":"Ridge"}}`,
		"8": `{"on":null,"open":null,"snow_cm":null,"tags":null,"title":"Ice gone","trail":null}`,
	}
	if got := w.documents(shapes[0]); !maps.Equal(got, want) {
		t.Errorf("bulletins: %v", got)
	}
	if got := w.documents(shapes[1]); got["T1"] != `{"bulletins":["Fresh snow"],"name":"Ridge"}` {
		t.Errorf("trails: %v", got)
	}
	changes, err := w.src.Changes(t.Context(), 100)
	if err != nil {
		t.Fatal(err)
	}
	links := map[string]bool{}
	for _, c := range changes {
		for _, v := range c.Values([]string{"trail_id"}) {
			links[strings.Join(c.Key, "|")+" "+v[0]] = true
		}
	}
	for _, link := range []string{"7 T1", "8 T1", "8 T2"} {
		if !links[link] {
			t.Errorf("no change leads from %s: %v", link, links)
		}
	}
	for _, c := range changes {
		if w.src.Label(c.Table) != "bulletins" {
			t.Errorf("a change of %s", c.Table)
		}
	}

	// The same again changes nothing; what is older neither, and a deleted one does not come back.
	if _, out := w.send("m1", "application/cloudevents-batch+json", batch); out != strings.TrimSpace(
		strings.Repeat("duplicate ", 6),
	) {
		t.Errorf("the same again: %s", out)
	}
	for id, e := range map[string]string{
		"m2": event("b7", bulletin, "7", 0, `{"title": "Stale"}`),
		"m3": event("b8", bulletin, "9", 1, `{"title": "Late"}`),
	} {
		if _, out := w.send(id, "application/cloudevents+json", e); out != "old" {
			t.Errorf("%s: %s", e, out)
		}
	}
	if got := w.documents(shapes[0]); !maps.Equal(got, want) {
		t.Errorf("bulletins after that: %v", got)
	}
	if changes, err := w.src.Changes(t.Context(), 100); err != nil || len(changes) > 0 {
		t.Errorf("changes after that: %+v %v", changes, err)
	}
	// What is linked by the key of a record follows it: when it becomes another, goes, or comes again.
	for i, trail := range []string{
		event("t2", "firnline.trail", "T1", 10, `{"name": "Ridge way"}`),
		event("t3", "firnline.trail.gone", "T1", 11, `null`),
		event("t4", "firnline.trail", "T1", 12, `{"name": "Ridge"}`),
	} {
		if status, out := w.send(fmt.Sprint("k", i), "application/cloudevents+json", trail); status != 200 || out != "accepted" {
			t.Fatal(status, out)
		}
		changes, err := w.src.Changes(t.Context(), 100)
		if err != nil || len(changes) != 1 || !reflect.DeepEqual(changes[0].Values([]string{"_key"}), [][]string{{"T1"}}) {
			t.Errorf("after %s: %+v %v", trail, changes, err)
		}
	}
	// Also after the deletion is long past, as far as it is remembered.
	if err := w.hook().Store.Purge(t.Context(), 0, 0, 0); err != nil {
		t.Fatal(err)
	}
	if list, err := w.src.Intake.Receipts(t.Context(), 0, 10, ""); err != nil || len(list) > 0 {
		t.Errorf("receipts after all were forgotten: %v %v", list, err)
	}
}

// A property of another type than the schema says fails the read of its record alone; another
// schema makes another view, and who reads the earlier one goes on.
func TestAnotherSchemaIsAnotherView(t *testing.T) {
	station := strings.Replace(station, `"schema": {`, `"violations": "accepted", "schema": {`, 1)
	w := newWorld(t, station)
	w.send("m0", "application/cloudevents+json", event("t1", "firnline.trail", "T1", 0, `{"name": "Ridge"}`))
	shapes := w.compile(indexes)
	w.install(shapes)
	w.send(
		"m1",
		"application/cloudevents-batch+json",
		"["+event(
			"1",
			bulletin,
			"7",
			1,
			`{"title": "Snow", "snow_cm": "much"}`,
		)+","+event(
			"2",
			bulletin,
			"8",
			1,
			`{"title": "Ice", "snow_cm": 3}`,
		)+"]",
	)
	set := document.NewSet(shapes[0].Trees[0])
	if err := w.src.ReadKeys(t.Context(), set, [][]string{{"7"}, {"8"}}); source.FaultOf(
		err,
	) != source.BadValue {
		t.Errorf("a text where a number should be: %v", err)
	}
	set.Reset()
	if err := w.src.ReadKeys(t.Context(), set, [][]string{{"8"}}); err != nil {
		t.Error(err)
	}
	before := w.src
	w.src = w.open(
		"conditions",
		strings.Replace(
			station,
			`"snow_cm": {"type": ["integer", "null"]}`,
			`"snow_cm": {"type": "string"}, "more": {"type": "number"}`,
			1,
		),
	)
	later := w.compile(indexes)
	w.src = before
	if later[0].Hash() == shapes[0].Hash() ||
		later[1].Trees[0].Root().Table != shapes[1].Trees[0].Root().Table {
		t.Error("another type of a property does not show, or one of another record does")
	}
	if got := w.documents(later[0]); !strings.Contains(got["7"], `"snow_cm":"much"`) {
		t.Errorf("by the new schema: %v", got)
	}
	w.send("m2", "application/cloudevents+json", event("3", bulletin, "8", 2, `{"title": "Ice", "snow_cm": 4}`))
	changes, err := w.src.Changes(t.Context(), 100)
	if err != nil || len(changes) == 0 {
		t.Fatal(changes, err)
	}
	c := changes[len(changes)-1]
	if !c.Touches([]string{"snow_cm"}) {
		t.Errorf("a record that was sent again touches no one: %+v", c)
	}
	for _, s := range []*shape.Shape{shapes[0], later[0]} {
		if !slices.Contains(append([]shape.Ref{c.Table}, c.Also...), s.Trees[0].Root().Table) {
			t.Errorf("the change is not one of %s: %+v", s.Trees[0].Root().Table, c)
		}
	}
}

// Without a schema, columns are what was received, and what is missing is explained.
func TestTypesOfWhatWasReceived(t *testing.T) {
	w := newWorld(t, `{"unsigned": "allowed", "records": {"stations": {"key": "/id"}}}`)
	facts, err := w.src.Facts(t.Context(), []string{"stations"}, nil)
	if err != nil || !strings.Contains(facts.Tables["stations"].Hint, "nothing of stations was received yet") {
		t.Fatalf("%+v %v", facts.Tables["stations"], err)
	}
	for i, body := range []string{
		`{"id": 1, "name": "Peak", "height": 2100, "on": true, "tags": ["x"], "more": {"a": 1}, "mixed": 1}`,
		`[{"id": 2, "name": "Saddle", "height": 1800.5, "tags": [], "mixed": "one"}, {"id": "x y", "name": null}, {"name": "no key"}, 7]`,
		`{"id": 3, "name": "Moor", "nul": "\u0000"}`,
	} {
		status, out := w.receive(map[string]string{"content-type": "application/json"}, "", body)
		if want := []string{"accepted", "accepted accepted unreadable unreadable", "unreadable"}[i]; out != want {
			t.Errorf("%s: %d %s", body, status, out)
		}
	}
	if facts, err = w.src.Facts(t.Context(), []string{"stations"}, nil); err != nil {
		t.Fatal(err)
	}
	got := map[string]string{}
	for _, c := range facts.Tables["stations"].Columns {
		got[c.Name] = c.Form
	}
	want := map[string]string{
		"_key":   "text",
		"_at":    "timestamptz",
		"id":     "text",
		"name":   "text",
		"height": "numeric",
		"on":     "bool",
		"tags":   "text[]",
		"more":   "jsonb",
		"mixed":  "text",
	}
	if !maps.Equal(got, want) {
		t.Errorf("columns: %v", got)
	}
	if hint := facts.Tables["stations"].Hint; !strings.Contains(hint, "mixed (number in 1, string in 1)") {
		t.Error(hint)
	}
	for path, want := range map[string]string{"stations/9": "accepted", "other/9": "unreadable"} {
		if _, out := w.receive(map[string]string{"content-type": "application/json"}, path, `{"name": "Spur"}`); out != want {
			t.Errorf("%s: %s", path, out)
		}
	}
	if _, out := w.receive(nil, "stations/9", ""); out != "accepted" { // an empty body deletes
		t.Error(out)
	}
	held, err := w.src.Intake.Records(t.Context())
	if err != nil || len(held) != 1 || held[0].Rows != 3 || held[0].Deleted != 1 {
		t.Errorf("%+v %v", held, err)
	}

	// A file is loaded, and what it has no longer is deleted.
	at, err := w.src.Intake.Clock(t.Context(), "stations")
	if err != nil {
		t.Fatal(err)
	}
	receipts, err := w.src.Intake.Load(
		t.Context(),
		"stations",
		[]source.Loaded{
			{Line: 1, Body: []byte(`{"id": 1, "name": "Peak"}`)},
			{Line: 2, Body: []byte(`7`)},
			{Line: 3, Body: []byte(`{"id": 4}`)},
		},
	)
	if err != nil || len(receipts) != 3 || receipts[0].Outcome != source.Unreadable || receipts[0].Line != 2 {
		t.Fatalf("%+v %v", receipts, err)
	}
	if n, err := w.src.Intake.Replace(t.Context(), "stations", at); n != 2 || err != nil {
		t.Errorf("%d deleted, %v", n, err)
	}
	if held, _ = w.src.Intake.Records(t.Context()); held[0].Rows != 2 {
		t.Errorf("%+v", held)
	}
}

// Requests that come at the same time share a statement, and each is answered as if it came alone.
func TestManySendersAtOnce(t *testing.T) {
	w := newWorld(t, `{"unsigned": "allowed", "rate_limit": 100000, "records": {"bulletins": {}, "trails": {}}}`)
	const senders, keys = 240, 20
	var work sync.WaitGroup
	var mu sync.Mutex // guards seen
	seen := map[string]int{}
	send := func(i int, id, path string) {
		data := fmt.Sprintf(`{"n": %d}`, i)
		if i%24 == 23 {
			data = `{"n": "\u0000"}` // which PostgreSQL does not keep
		}
		headers := map[string]string{"content-type": "application/cloudevents+json", "webhook-id": id}
		body := event(fmt.Sprint(i), "updated", "", i/60, data)
		if path == "trails" { // in their order
			headers["content-type"], body = "application/json", data
		}
		_, out := w.receive(headers, fmt.Sprintf("%s/k%d", path, i%keys), body)
		mu.Lock()
		defer mu.Unlock()
		seen[path+" "+out]++
	}
	for i := range senders {
		for range 2 { // the second is the same request, sent again before the first is answered
			work.Go(func() { send(i, fmt.Sprintf("m%d", i), "bulletins") })
		}
		work.Go(func() { send(i, fmt.Sprintf("t%d", i), "trails") })
	}
	work.Wait()
	refused := senders / 24
	if n := seen["bulletins accepted"] + seen["bulletins old"]; n != senders-refused ||
		seen["bulletins duplicate"] != senders-refused || seen["bulletins unreadable"] != 2*refused ||
		seen["trails accepted"] != senders-refused || seen["trails unreadable"] != refused {
		t.Errorf("%v", seen)
	}
	receipts, err := w.src.Intake.Receipts(t.Context(), 0, 10*senders, "")
	if err != nil {
		t.Fatal(err)
	}
	numbers := map[int64]bool{}
	for _, r := range receipts {
		numbers[r.Seq] = true
		if r.Outcome == source.Accepted && (r.Event == "" || r.Key == "" || r.Events != 1) {
			t.Errorf("%+v", r)
		}
	}
	if len(numbers) != len(receipts) || len(receipts) < 3*senders {
		t.Errorf("%d receipts, of %d numbers", len(receipts), len(numbers))
	}
	got := w.documents(w.compile("  i: { engine: main, rows: conditions.bulletins, fields: [n] }\n")[0])
	for k := range keys {
		var n int // one of the newest minute
		if _, err := fmt.Sscanf(got[fmt.Sprintf("k%d", k)], `{"n":%d}`, &n); err != nil || n/60 != senders/60-1 {
			t.Errorf("k%d: %s %v", k, got[fmt.Sprintf("k%d", k)], err)
		}
	}
}

// Signatures are those of the reference library, both ways; everything else is refused, and leaves
// a receipt and nothing else.
func TestSignatures(t *testing.T) {
	w := newWorld(t, station)
	theirs, err := standardwebhooks.NewWebhook(another) // the second secret counts, too
	if err != nil {
		t.Fatal(err)
	}
	body := event("1", bulletin, "7", 1, `{"title": "Snow"}`)
	signed := func(id string, at time.Time, body string) map[string]string {
		signature, err := theirs.Sign(id, at, []byte(body))
		if err != nil {
			t.Fatal(err)
		}
		return map[string]string{
			"Webhook-Id":        id,
			"Webhook-Timestamp": fmt.Sprint(at.Unix()),
			"Webhook-Signature": signature,
			"Content-Type":      "application/cloudevents+json",
		}
	}
	if status, out := w.receive(signed("m1", time.Now(), body), "", body); status != 200 || out != "accepted" {
		t.Errorf("theirs: %d %s", status, out)
	}
	ours, err := w.hook().Sign("m2", time.Now(), []byte(body))
	if err != nil {
		t.Fatal(err)
	}
	first, err := standardwebhooks.NewWebhook(secret)
	if err != nil {
		t.Fatal(err)
	}
	header := http.Header{}
	for name, value := range ours {
		header.Set(name, value)
	}
	if err := first.Verify([]byte(body), header); err != nil {
		t.Errorf("ours: %v", err)
	}
	with := func(changed ...string) map[string]string {
		h := signed("m3", time.Now(), body)
		for i := 0; i < len(changed); i += 2 {
			h[changed[i]] = changed[i+1]
		}
		return h
	}
	stranger := base64.StdEncoding.EncodeToString(
		sign([]byte("a stranger's secret"), "m3", fmt.Sprint(time.Now().Unix()), []byte(body)),
	)
	for name, c := range map[string]struct {
		headers map[string]string
		body    string
		status  int
		outcome string
	}{
		"no signature":       {with("Webhook-Signature", ""), body, 401, "bad-signature"},
		"another secret":     {with("Webhook-Signature", "v1,"+stranger), body, 401, "bad-signature"},
		"another version":    {with("Webhook-Signature", "v2,"+stranger), body, 401, "bad-signature"},
		"no base64":          {with("Webhook-Signature", "v1,%%% v1"), body, 401, "bad-signature"},
		"another id":         {with("Webhook-Id", "m4"), body, 401, "bad-signature"},
		"another time":       {with("Webhook-Timestamp", "1"), body, 401, "bad-signature"},
		"no time":            {with("Webhook-Timestamp", "now"), body, 401, "bad-signature"},
		"a changed body":     {with(), body + " ", 401, "bad-signature"},
		"a cut body":         {with(), body[:len(body)-9], 401, "bad-signature"},
		"expired":            {signed("m5", time.Now().Add(-time.Hour), body), body, 401, "out-of-time"},
		"early":              {signed("m6", time.Now().Add(time.Hour), body), body, 401, "out-of-time"},
		"nothing":            {map[string]string{}, "", 401, "bad-signature"},
		"a password":         {map[string]string{"Authorization": "Basic cGluZ286cGluZ28="}, body, 401, "bad-signature"},
		"too large":          {signed("m7", time.Now(), strings.Repeat(" ", 65_001)), strings.Repeat(" ", 65_001), 413, "too-large"},
		"no JSON":            {signed("m8", time.Now(), "{"), "{", 400, "unreadable"},
		"no CloudEvent":      {signed("m9", time.Now(), "{}"), "{}", 400, "unreadable"},
		"another encoding":   {signed("ma", time.Now(), "<a/>"), "<a/>", 400, "unreadable"},
		"of no record":       {signed("mb", time.Now(), event("9", "weather", "1", 1, "{}")), event("9", "weather", "1", 1, "{}"), 400, "unreadable"},
		"a replayed message": {signed("m1", time.Now(), body), body, 200, "duplicate"},
	} {
		if name == "another encoding" {
			c.headers["Content-Type"] = "application/xml"
		}
		status, out := w.receive(c.headers, "", c.body)
		if status != c.status || out != c.outcome {
			t.Errorf("%s: %d %s", name, status, out)
		}
	}
	held, err := w.src.Intake.Records(t.Context())
	if err != nil || held[0].Rows != 1 || held[1].Rows != 0 {
		t.Errorf("%+v %v", held, err)
	}
	list, err := w.src.Intake.Receipts(t.Context(), 0, 100, "out-of-time")
	if err != nil || len(list) != 2 || list[0].Reason == "" || list[0].Event == "" {
		t.Errorf("receipts: %+v %v", list, err)
	}
}

// The SDK of CloudEvents is understood in all three forms.
func TestCloudEvents(t *testing.T) {
	w := newWorld(t, `{"unsigned": "allowed", "records": {"bulletins": {}}}`)
	server := httptest.NewServer(http.HandlerFunc(func(rw http.ResponseWriter, r *http.Request) {
		var body bytes.Buffer
		if _, err := body.ReadFrom(r.Body); err != nil {
			t.Error(err)
		}
		reply, err := w.src.Intake.Receive(
			r.Context(),
			source.Request{Method: r.Method, Header: r.Header, Body: body.Bytes(), Known: true, At: time.Now()},
		)
		if err != nil {
			t.Error(err)
		}
		rw.WriteHeader(reply.Status)
	}))
	defer server.Close()
	client, err := cloudevents.NewClientHTTP(cloudevents.WithTarget(server.URL))
	if err != nil {
		t.Fatal(err)
	}
	made := func(id, subject, kind string, data any) cloudevents.Event {
		e := cloudevents.NewEvent()
		e.SetID(id)
		e.SetSource("urn:station:7 ü")
		e.SetType(kind)
		e.SetSubject(subject)
		e.SetTime(time.Now())
		if data != nil {
			if err := e.SetData(cloudevents.ApplicationJSON, data); err != nil {
				t.Fatal(err)
			}
		}
		return e
	}
	for name, with := range map[string]func(context.Context) context.Context{"structured": cloudevents.WithEncodingStructured, "binary": cloudevents.WithEncodingBinary} {
		for _, e := range []cloudevents.Event{
			made(name+"1", name, "bulletin.created", map[string]any{"title": name + " \"ü\" 😀"}),
			made(name+"2", name+" gone", "bulletin.updated", map[string]any{"title": "x"}),
			made(name+"3", name+" gone", "bulletin.deleted", nil),
		} {
			if result := client.Send(with(t.Context()), e); !cloudevents.IsACK(result) {
				t.Errorf("%s: %v", name, result)
			}
		}
	}
	batch, err := json.Marshal(
		[]cloudevents.Event{made("b1", "batched", "bulletin.created", map[string]any{"title": "b"})},
	)
	if err != nil {
		t.Fatal(err)
	}
	if status, out := w.receive(map[string]string{"content-type": cloudevents.ApplicationCloudEventsBatchJSON + "; charset=utf-8"}, "", string(batch)); status != 200 ||
		out != "accepted" {
		t.Errorf("batch: %d %s", status, out)
	}
	shapes := w.compile("  bulletins: { engine: main, rows: conditions.bulletins, fields: [title] }\n")
	want := map[string]string{
		"structured": `{"title":"structured \"ü\" 😀"}`,
		"binary":     `{"title":"binary \"ü\" 😀"}`,
		"batched":    `{"title":"b"}`,
	}
	if got := w.documents(shapes[0]); !maps.Equal(got, want) {
		t.Errorf("%v", got)
	}
}

// Senders that cannot sign are identified by what they can do, where no one can read that.
func TestSendersThatCannotSign(t *testing.T) {
	w := newWorld(
		t,
		`{"basic": {"user": "st:ation", "password": "pass"}, "path_secret": "0123456789abcdefgh", "records": {"bulletins": {"key": "/id"}}}`,
	)
	basic := map[string]string{
		"authorization": "Basic " + base64.StdEncoding.EncodeToString([]byte("st:ation:pass")),
	}
	for name, c := range map[string]struct {
		headers map[string]string
		path    string
		want    string
	}{
		"basic": {basic, "", "accepted"}, "path": {nil, "0123456789abcdefgh/bulletins", "accepted"},
		"wrong path": {nil, "0123456789abcdefgX", "bad-signature"}, "none": {nil, "", "bad-signature"},
		"wrong password": {map[string]string{"authorization": "Basic eDp5"}, "", "bad-signature"},
	} {
		if _, out := w.receive(c.headers, c.path, fmt.Sprintf(`{"id": %q}`, name)); out != c.want {
			t.Errorf("%s: %s", name, out)
		}
	}
	reply, err := w.src.Intake.Receive(
		t.Context(),
		source.Request{Path: "0123456789abcdefgh", Body: []byte(`{"id": 1}`), At: time.Now()},
	)
	if err != nil || reply.Status != 401 || !strings.Contains(reply.Receipts[0].Reason, "TLS") {
		t.Errorf("without TLS: %+v %v", reply, err)
	}
	advice, err := w.src.Capture.Advice(t.Context(), nil, nil)
	if err != nil || len(advice) != 4 || advice[3].Kind != "received" {
		t.Errorf("%+v %v", advice, err)
	}
	for _, wrong := range []string{`{}`, `{"unsigned": "allowed"}`, `{"signing_secrets": ["whsec_x"], "records": {"a": {}}}`, `{"path_secret": "short", "records": {"a": {}}}`} {
		if _, err := newHook([]byte(wrong)); err == nil {
			t.Errorf("%s is taken", wrong)
		}
	}
}

// Whatever is sent, the parser has an answer, and what it reads it can keep.
func FuzzRead(f *testing.F) {
	h, err := newHook(
		[]byte(
			strings.Replace(
				station,
				`"types": {"updated": ["firnline.trail"], "deleted": ["firnline.trail.gone"]}`,
				`"types": {"updated": ["firnline.trail"], "deleted": ["firnline.trail.gone"]}, "key": "/a/0", "version": "/v"`,
				1,
			),
		),
	)
	if err != nil {
		f.Fatal(err)
	}
	f.Add("application/json", event("1", bulletin, "7", 1, `{"a": 1}`), "bulletins/7", "")
	f.Add("application/cloudevents+json", event("1", "firnline.trail", "7", 1, `[]`), "", "")
	f.Add(
		"application/cloudevents-batch+json; charset=utf-8",
		"["+event("1", "firnline.trail", "7", 1, `[]`)+"]",
		"",
		"v1,AAAA",
	)
	f.Add("", `{"type": "firnline.trail", "a": ["k"], "v": 1e5}`, "trails", "v1,")
	f.Fuzz(func(t *testing.T, kind, body, path, signature string) {
		r := &source.Request{
			Header: map[string][]string{
				"content-type":   {kind},
				"ce-specversion": {path},
				headerID:         {"i"},
				headerTime:       {"1"},
				headerSignature:  {signature},
			},
			Body: []byte(body), At: time.Unix(1, 0),
		}
		if outcome, reason := h.verify(r); reason == "" || outcome != source.BadSignature {
			t.Error("a forged request is taken")
		}
		if path == "" {
			delete(r.Header, "ce-specversion")
		}
		events, cloud, reason := split(r)
		if reason != "" {
			return
		}
		for _, text := range events {
			e, err := h.read(text, cloud, path, http.MethodPost)
			if err != nil {
				continue
			}
			if e.Key == "" || e.Record == "" || e.Op == "" || e.Op != "deleted" && !json.Valid(e.Body) {
				t.Errorf("%q is read as %+v", text, e)
			}
		}
	})
}

// Where nothing tells who sends, a page that a person has open cannot send either.
func TestPagesSendNothing(t *testing.T) {
	w := newWorld(t, `{"unsigned": "allowed", "records": {"bulletins": {"key": "/id"}}}`)
	send := func(headers map[string]string, host string, known bool) int {
		header := map[string][]string{}
		for name, value := range headers {
			header[name] = []string{value}
		}
		reply, err := w.src.Intake.Receive(t.Context(), source.Request{Method: "POST", Header: header, Host: host, Known: known, Body: []byte(`{"id": 1}`), At: time.Now()})
		if err != nil {
			t.Fatal(err)
		}
		return reply.Status
	}
	for _, c := range []struct {
		headers map[string]string
		host    string
		known   bool
		want    int
	}{
		{nil, "127.0.0.1:7464", true, 200}, {map[string]string{"Sec-Fetch-Site": "cross-site"}, "127.0.0.1:7464", true, 403}, {map[string]string{"Sec-Fetch-Site": "same-site"}, "127.0.0.1:7464", true, 403},
		{map[string]string{"Origin": "https://evil.example"}, "127.0.0.1:7464", true, 403}, {map[string]string{"Origin": "null"}, "127.0.0.1:7464", true, 403},
		{map[string]string{"Origin": "http://127.0.0.1:7464", "Sec-Fetch-Site": "same-origin"}, "127.0.0.1:7464", true, 200}, {nil, "evil.example", false, 403},
	} {
		if got := send(c.headers, c.host, c.known); got != c.want {
			t.Errorf("%v at %s: %d, want %d", c.headers, c.host, got, c.want)
		}
	}
}

// An event that violates the schema is refused when it arrives, with the property, its value and what it must be. So is one
// whose time would outrank every later event.
func TestViolationsAndFutureEventsAreRefused(t *testing.T) {
	w := newWorld(t, station)
	for data, want := range map[string]string{
		`{"title": "Snow", "snow_cm": "much"}`:                 `violates its schema at "/snow_cm" ("much"): got string, want null or integer`,
		`{"title": 7}`:                                         `at "/title" (7): got number, want string`,
		`{"on": "yesterday"}`:                                  `at "/on" ("yesterday"): 'yesterday' is not valid date`,
		`{"tags": ["a", 3]}`:                                   `at "/tags/1" (3): got number, want string`,
		`{"title": null, "snow_cm": null, "other": {"x": 1}}`:  "",
		`{"title": "Snow", "snow_cm": 40, "place": [8.5, 46]}`: "",
	} {
		reply := w.reply(event(data, bulletin, "7", 1, data))
		switch {
		case want == "" && (reply.Status != 200 || reply.Receipts[0].Outcome != source.Accepted):
			t.Errorf("%s: %+v", data, reply)
		case want != "" && (reply.Status != 400 || !strings.Contains(reply.Receipts[0].Reason, want)):
			t.Errorf("%s: %+v, want %s", data, reply, want)
		}
	}
	// A patch has a part of the properties, and null takes one away.
	if reply := w.reply(event("p1", "firnline.bulletin.corrected", "7", 2, `{"snow_cm": "deep"}`)); reply.Status != 400 {
		t.Errorf("a patch: %+v", reply)
	}
	if reply := w.reply(event("p2", "firnline.bulletin.corrected", "7", 3, `{"snow_cm": null}`)); reply.Status != 200 {
		t.Errorf("a patch: %+v", reply)
	}
	late := strings.Replace(event("f1", bulletin, "7", 4, `{"title": "Late"}`), "2021-05-04T10:04:00Z", "2999-01-01T00:00:00Z", 1)
	if reply := w.reply(late); reply.Status != 400 || !strings.Contains(reply.Receipts[0].Reason, `the version at "/time" is 2999-01-01T00:00:00Z, which is more than 5m after the clock here`) {
		t.Errorf("an event from the future: %+v", reply)
	}
	soon := strings.Replace(event("f2", bulletin, "7", 4, `{"title": "Soon"}`), "2021-05-04T10:04:00Z", time.Now().Add(4*time.Minute).UTC().Format(time.RFC3339), 1)
	if reply := w.reply(soon); reply.Status != 200 {
		t.Errorf("an event of a clock that is ahead: %+v", reply)
	}
}

// reply is the answer to a signed CloudEvent.
func (w *world) reply(body string) source.Reply {
	w.Helper()
	headers, err := w.hook().Sign(fmt.Sprint("msg_", time.Now().UnixNano()), time.Now(), []byte(body))
	if err != nil {
		w.Fatal(err)
	}
	header := map[string][]string{"content-type": {"application/cloudevents+json"}}
	for name, value := range headers {
		header[name] = []string{value}
	}
	reply, err := w.src.Intake.Receive(w.Context(), source.Request{Method: http.MethodPost, Header: header, Body: []byte(body), Secure: true, Known: true, At: time.Now()})
	if err != nil {
		w.Fatal(err)
	}
	return reply
}

// A record and a key in the path say what plain JSON is of, and what DELETE deletes, also where types are given.
func TestPathsNameRecordsWithTypes(t *testing.T) {
	w := newWorld(t, strings.Replace(station, `"signing_secrets": ["`+secret+`", "`+another+`"]`, `"unsigned": "allowed"`, 1))
	ask := func(method, body string) source.Reply {
		reply, err := w.src.Intake.Receive(t.Context(), source.Request{
			Method: method, Path: "bulletins/7", Header: map[string][]string{"content-type": {"application/json"}}, Body: []byte(body), Secure: true, Known: true, At: time.Now(),
		})
		if err != nil {
			t.Fatal(err)
		}
		return reply
	}
	if reply := ask(http.MethodPost, `{"title": "Snow"}`); reply.Status != 200 || reply.Receipts[0].Record != "bulletins" {
		t.Errorf("plain JSON: %+v", reply)
	}
	if reply := ask(http.MethodDelete, ""); reply.Status != 200 || reply.Receipts[0].Op != "deleted" {
		t.Errorf("DELETE: %+v", reply)
	}
}
