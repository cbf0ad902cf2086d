package webfeed

import (
	"fmt"
	"maps"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"pingo/internal/core/change"
	"pingo/internal/core/shape"
	"pingo/internal/lab/pgtest"
	"pingo/internal/records"
	"pingo/internal/source"
)

func TestMain(m *testing.M) { pgtest.Main(m) }

const (
	rss  = `<?xml version="1.0"?><rss version="2.0"><channel><title>Huts</title>%s</channel></rss>`
	item = `<item><guid>%s</guid><title>%s</title><link>http://firnline.invalid/%[1]s</link><category>snow</category><pubDate>Sun, 04 May 2031 10:00:00 +0200</pubDate></item>`
	atom = `<?xml version="1.0"?><feed xmlns="http://www.w3.org/2005/Atom"><title>Trails</title><id>x</id><updated>2031-05-04T10:00:00Z</updated>
		<entry><id>urn:1</id><title>Ridge &amp; co</title><updated>2031-05-04T10:00:00Z</updated><author><name>Alva</name></author><summary>up</summary></entry></feed>`
	jsonFeed = `{"version": "https://jsonfeed.org/version/1.1", "title": "Tarns", "items": [{"id": "7", "title": "Frozen", "content_text": "ice", "url": "http://firnline.invalid/7"}]}`
)

// served is what the server answers with, and how often it was asked and said that nothing changed.
type served struct {
	body            atomic.Value
	asked, modified atomic.Int64
}

func (s *served) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	s.asked.Add(1)
	body := s.body.Load().(string)
	tag := fmt.Sprintf("%q", fmt.Sprint(len(body)))
	if r.Header.Get("If-None-Match") == tag {
		s.modified.Add(1)
		w.WriteHeader(http.StatusNotModified)
		return
	}
	if body == "" {
		w.WriteHeader(http.StatusServiceUnavailable)
		return
	}
	w.Header().Set("ETag", tag)
	fmt.Fprint(w, body)
}

func opened(t *testing.T, url, options string) *source.Source {
	t.Helper()
	database := pgtest.URL(t)
	rec, err := records.Open(t.Context(), database)
	if err != nil {
		t.Fatal(err)
	}
	rec.Close()
	src, err := Kind.Open(
		source.Config{
			Name:           "news",
			URL:            url,
			Options:        []byte(options),
			Records:        database,
			ConnectTimeout: 5 * time.Second,
		},
	)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(src.Close)
	if _, err := src.Facts(t.Context(), []string{record}, nil); err != nil {
		t.Fatal(err)
	}
	if _, err := src.Capture.Install(t.Context(), "one", []shape.Captured{{Table: shape.Ref{Schema: "intake_news", Name: "entries@1"}}}); err != nil {
		t.Fatal(err)
	}
	found, err := src.Claimed(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	if err := src.Claim(t.Context(), found, change.Claim{Service: "one", Holder: "A", Epoch: 1, Mark: 1, History: found.History}); err != nil {
		t.Fatal(err)
	}
	return src
}

// next pulls the feed once more, and says which entries changed.
func next(t *testing.T, src *source.Source) map[string]bool {
	t.Helper()
	p := src.Feed.(*feed).puller
	p.mu.Lock()
	p.due = time.Time{}
	p.mu.Unlock()
	out := map[string]bool{}
	changes, err := src.Changes(t.Context(), 100)
	if err != nil {
		t.Fatal(err)
	}
	var seqs []int64
	for _, c := range changes {
		out[c.Key[0]] = true
		seqs = append(seqs, c.Seq)
	}
	if err := src.Done(t.Context(), seqs); err != nil {
		t.Fatal(err)
	}
	return out
}

// Entries become records, what has not changed is not asked for again, and those that leave the
// feed are kept or removed as the definition says. A feed that fails has a receipt.
func TestEntriesComeAndGo(t *testing.T) {
	for _, gone := range []string{"keep", "remove"} {
		s := &served{}
		server := httptest.NewServer(s)
		defer server.Close()
		s.body.Store(fmt.Sprintf(rss, fmt.Sprintf(item, "a", "one")+fmt.Sprintf(item, "b", "two")))
		src := opened(t, server.URL, fmt.Sprintf(`{"gone": %q, "every": "1h"}`, gone))
		if words, err := src.Describe(t.Context()); err != nil ||
			!strings.Contains(words, "rss 2.0 with 2 entries: Huts") {
			t.Errorf("%q %v", words, err)
		}
		expect := func(what string, want ...string) {
			t.Helper()
			wanted := map[string]bool{}
			for _, key := range want {
				wanted[key] = true
			}
			if got := next(t, src); !maps.Equal(got, wanted) {
				t.Errorf("%s, %s: %v, want %v", gone, what, got, want)
			}
		}
		expect("the first time", "a", "b")
		if changes, err := src.Changes(t.Context(), 10); err != nil || len(changes) > 0 || s.asked.Load() != 2 {
			t.Errorf("before it is time: %v %v, asked %d times", changes, err, s.asked.Load())
		}
		expect("the same")
		if s.modified.Load() != 1 {
			t.Errorf("%d answers said that nothing changed", s.modified.Load())
		}
		s.body.Store(fmt.Sprintf(rss, fmt.Sprintf(item, "b", "two, corrected")+fmt.Sprintf(item, "c", "three")))
		if gone == "keep" {
			expect("another", "b", "c")
		} else {
			expect("another", "a", "b", "c")
		}
		held, err := src.Intake.Records(t.Context())
		if want := map[string]int64{"keep": 3, "remove": 2}[gone]; err != nil || held[0].Rows != want {
			t.Errorf("%s: %+v %v", gone, held, err)
		}
		s.body.Store("")
		expect("not there")
		s.body.Store("<html>")
		expect("no feed")
		list, err := src.Intake.Receipts(t.Context(), 0, 10, "unreadable")
		if err != nil || len(list) != 2 || !strings.Contains(list[0].Reason, "no RSS, Atom or JSON Feed") ||
			!strings.Contains(list[1].Reason, "503") {
			t.Errorf("receipts: %+v %v", list, err)
		}
	}
}

func TestAllForms(t *testing.T) {
	for _, c := range []struct{ body, key, want string }{
		{fmt.Sprintf(rss, fmt.Sprintf(item, "a", "one")), "a", `{"categories":["snow"],"link":"http://firnline.invalid/a","published":"2031-05-04T08:00:00Z","title":"one"}`},
		{atom, "urn:1", `{"author":"Alva","published":"2031-05-04T10:00:00Z","summary":"up","title":"Ridge \u0026 co","updated":"2031-05-04T10:00:00Z"}`},
		{jsonFeed, "7", `{"content":"ice","link":"http://firnline.invalid/7","title":"Frozen"}`},
	} {
		server := httptest.NewServer(
			http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { fmt.Fprint(w, c.body) }),
		)
		defer server.Close()
		parsed, _, err := (&puller{url: server.URL, client: http.DefaultClient}).fetch(t.Context(), "", "")
		if err != nil || len(parsed.Items) != 1 {
			t.Fatalf("%.60s: %v", c.body, err)
		}
		if e, err := event(parsed.Items[0]); err != nil || e.Key != c.key || string(e.Body) != c.want {
			t.Errorf("%s %s %v", e.Key, e.Body, err)
		}
	}
}
