package cli_test

import (
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"crypto/x509"
	"encoding/pem"

	"pingo/internal/api"
	"pingo/internal/lab/demo"
	"pingo/internal/lab/pgtest"
	"pingo/internal/lab/standin"
)

// metrics gets what Prometheus would.
func (w *world) metrics() string {
	w.t.Helper()
	request, err := http.NewRequestWithContext(w.t.Context(), http.MethodGet, w.client.URL+"/metrics", nil)
	if err != nil {
		w.t.Fatal(err)
	}
	request.Header.Set("Authorization", "Bearer "+w.client.Token)
	response, err := http.DefaultClient.Do(request)
	if err != nil {
		w.t.Fatal(err)
	}
	defer response.Body.Close()
	body, err := io.ReadAll(response.Body)
	if err != nil || response.StatusCode != 200 {
		w.t.Fatal(response.Status, err)
	}
	return string(body)
}

// A change can be foreseen, is followed to its outcome, and shows in the status, in
// the metrics and, later, in the history; so do a deep journal and an engine that is away.
func TestWhatGoesOnIsTold(t *testing.T) {
	w := newWorld(t)
	lodge := pgtest.Connect(t, w.pg.URL("lodge"))
	if err := demo.Load(t.Context(), lodge, 300, 1); err != nil {
		t.Fatal(err)
	}
	w.serve()
	text := strings.Replace(demo.Definition, "capture: triggers", "capture: triggers\n    journal_limit: 1MB", 1)
	w.must("apply", "--yes", w.write(text))
	w.index(20*time.Second, "filled", "huts", func(ix api.IndexStatus) bool { return ix.Live })

	// Foreseen, and then done.
	var expected int
	if err := lodge.QueryRow(t.Context(), "SELECT count(*) FROM huts WHERE keeper_id = 3").Scan(&expected); err != nil {
		t.Fatal(err)
	}
	traced, err := w.client.TraceChange(t.Context(), "", "keepers", "3")
	if err != nil || len(traced.Indexes) != 1 || traced.Indexes[0].Documents != int64(expected) ||
		len(traced.Indexes[0].Keys) != min(expected, 20) ||
		expected == 0 {
		t.Errorf("%+v %v, not %d", traced, err, expected)
	}
	for args, want := range map[string]string{
		"trace --change huts 7":             "Pingo would rebuild one document.",
		"trace --change keepers 9999":       "No document depends on it",
		"trace --change keprs 3":            `did you mean "keepers"?`,
		"trace --change hut_amenities 7":    "a key has 2 parts joined by commas",
		"trace --change keepers three":      "three",
		"trace keepers 3":                   "not known",
		"trace --change --source x huts 7":  `source "x" is not known`,
		"trace --change firnline.nowhere 7": "is not known",
	} {
		out, errs, code := w.run(strings.Fields(args)...)
		if !strings.Contains(out+errs, want) ||
			(code == 0) != strings.HasPrefix(want, "Pingo would") && (code == 0) != strings.HasPrefix(want, "No ") {
			t.Errorf("pingo %s: %d %s%s", args, code, out, errs)
		}
	}
	pgtest.Exec(t, lodge, "UPDATE keepers SET last_name = 'Grim' WHERE id = 3")
	// Of these the second and third leave the document as it was.
	pgtest.Exec(t, lodge, "UPDATE huts SET name = 'Zinne' WHERE id = 7")
	for range 2 {
		time.Sleep(300 * time.Millisecond)
		pgtest.Exec(
			t,
			lodge,
			"UPDATE huts SET name = 'Turm' WHERE id = 7; UPDATE huts SET name = 'Zinne' WHERE id = 7",
		)
	}
	w.eventually(10*time.Second, "the outcome of the changes is reported", func() error {
		list, err := w.client.Recent(t.Context(), "lodge")
		if err != nil {
			return err
		}
		var keeper, same bool
		for _, f := range list {
			keeper = keeper ||
				f.Table == "keepers" && f.Key == "3" && f.Op == "update" && f.Sent == int64(expected) && f.LagMS != nil &&
					*f.LagMS < 60_000
			same = same || f.Table == "huts" && f.Key == "7" && f.Unchanged == 1
		}
		if !keeper || !same {
			return fmt.Errorf("%+v", list)
		}
		return nil
	})
	// Counted, by people and by machines.
	w.index(5*time.Second, "what was not sent is counted", "huts", func(ix api.IndexStatus) bool {
		return ix.Unchanged > 0 && ix.Built == ix.Delivered+ix.Unchanged+ix.Refused && ix.Lag.P99 >= ix.Lag.P95 &&
			ix.Lag.P95 >= ix.Lag.P50
	})
	rules, err := os.ReadFile("../../docs/alerts.yaml")
	if err != nil {
		t.Fatal(err)
	}
	manual, err := os.ReadFile("../../docs/reference/metrics.md")
	if err != nil {
		t.Fatal(err)
	}
	var known string
	w.eventually(10*time.Second, "the journal was read", func() error {
		if known = w.metrics(); !strings.Contains(known, "pingo_source_journal_limit_bytes") {
			return errors.New(known)
		}
		return nil
	})
	names := regexp.MustCompile(`pingo_[a-z_]+`)
	for _, name := range names.FindAllString(string(rules), -1) {
		if !strings.Contains(known, name) {
			t.Errorf("the alert rules name %s, which is no metric", name)
		}
	}
	for _, name := range regexp.MustCompile(`# TYPE (pingo_[a-z_]+)`).FindAllStringSubmatch(known, -1) {
		if !strings.Contains(string(manual), "`"+name[1]) {
			t.Errorf("docs/reference/metrics.md does not say what %s is", name[1])
		}
	}
	w.eventually(30*time.Second, "the history has points", func() error {
		list, err := w.client.History(t.Context(), "huts", 5)
		if err != nil || len(list) == 0 {
			return fmt.Errorf("%+v %w", list, err)
		}
		return nil
	})
	// The engine goes away under load: the index waits, the journal empties into the
	// backlog, and what the definition allows the journal to hold is reported when it is passed.
	w.fault(`{"unavailable": -1}`)
	pgtest.Exec(t, lodge, "UPDATE huts SET beds = beds + 1")
	w.eventually(20*time.Second, "the engine is reported as away", func() error {
		status, err := w.client.Status(t.Context())
		if err != nil || len(status.Engines) != 1 || status.Engines[0].Trouble == nil ||
			status.Indexes[0].State != api.StateWaiting ||
			status.Indexes[0].LagMS == 0 {
			return fmt.Errorf("%+v %w", status, err)
		}
		return nil
	})
	if text := w.metrics(); !strings.Contains(text, `pingo_engine_down{engine="main"} 1`) ||
		!strings.Contains(text, `pingo_index_trouble{engine="main",index="huts",kind="waiting",source="lodge"} 1`) {
		t.Error(text)
	}
	w.fault(`{}`)
	w.index(
		20*time.Second,
		"it catches up",
		"huts",
		func(ix api.IndexStatus) bool { return ix.State == api.StateInSync && ix.Waiting == 0 },
	)
	if rows := w.equal(lodge, "huts"); rows == 0 {
		t.Error("nothing was compared")
	}

	// Work that is not committed keeps the journal from being worked off, and fills it.
	blocked := pgtest.Connect(t, w.pg.URL("lodge"))
	pgtest.Exec(t, blocked, "BEGIN; LOCK TABLE keepers") // so that nothing can be read
	for range 60 {
		pgtest.Exec(t, lodge, "UPDATE huts SET beds = beds + 1")
	}
	w.eventually(20*time.Second, "a journal past its limit is reported", func() error {
		out, errs, _ := w.run("status")
		if !strings.Contains(out, "more than its limit of 1.0 MB") {
			return errors.New(out + errs)
		}
		return nil
	})
	pgtest.Exec(t, blocked, "ROLLBACK")
	w.index(
		60*time.Second,
		"it is worked off",
		"huts",
		func(ix api.IndexStatus) bool { return ix.State == api.StateInSync && ix.Waiting == 0 },
	)
}

// With past_limit: remove, a journal that is too large is taken out of the source, and
// its indexes say that they are no longer true, until they are refilled.
func TestAJournalMayGiveUp(t *testing.T) {
	w := newWorld(t)
	lodge := pgtest.Connect(t, w.pg.URL("lodge"))
	if err := demo.Load(t.Context(), lodge, 300, 1); err != nil {
		t.Fatal(err)
	}
	w.serve()
	file := w.write(
		strings.Replace(
			demo.Definition,
			"capture: triggers",
			"capture: triggers\n    journal_limit: 1MB\n    past_limit: remove",
			1,
		),
	)
	w.must("apply", "--yes", file)
	w.index(20*time.Second, "filled", "huts", func(ix api.IndexStatus) bool { return ix.Live })
	blocked := pgtest.Connect(t, w.pg.URL("lodge"))
	pgtest.Exec(t, blocked, "BEGIN; LOCK TABLE keepers")
	for range 60 {
		pgtest.Exec(t, lodge, "UPDATE huts SET beds = beds + 1")
	}
	time.Sleep(4 * time.Second)
	pgtest.Exec(t, blocked, "ROLLBACK")
	w.index(
		30*time.Second,
		"the index says that it is no longer true",
		"huts",
		func(ix api.IndexStatus) bool { return ix.State == api.StateBlocked },
	)
	var gone bool
	if err := lodge.QueryRow(t.Context(), "SELECT to_regclass('pingo_capture.journal') IS NULL").Scan(&gone); err != nil ||
		!gone {
		t.Errorf("the journal is there still, %v", err)
	}
	w.must("apply", "--yes", file)
	w.index(
		30*time.Second,
		"filled anew",
		"huts",
		func(ix api.IndexStatus) bool {
			return !strings.HasPrefix(ix.Edition, "huts-e1-") && ix.State == api.StateInSync
		},
	)
	w.equal(lodge, "huts")
}

// An engine behind TLS that asks for a user: what is wrong is reported, and what is right works.
func TestEngineBehindTLS(t *testing.T) {
	engine := httptest.NewTLSServer(&standin.Server{User: "firn", Password: "crevasse"})
	t.Cleanup(engine.Close)
	engineBehindTLS(t, newWorld(t), engine.URL, engine.Certificate())
}

func engineBehindTLS(t *testing.T, w *world, engine string, authority *x509.Certificate) {
	lodge := pgtest.Connect(t, w.pg.URL("lodge"))
	pgtest.Exec(
		t,
		lodge,
		"CREATE TABLE huts (id int PRIMARY KEY, name text); INSERT INTO huts VALUES (1, 'Krummhorn')",
	)
	certificate := filepath.Join(t.TempDir(), "authority.pem")
	if err := os.WriteFile(certificate, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: authority.Raw}), 0o600); err != nil {
		t.Fatal(err)
	}
	u, err := url.Parse(engine)
	if err != nil {
		t.Fatal(err)
	}
	u.User = url.UserPassword("firn", "crevasse")
	right := u.String()
	u.User = url.UserPassword("firn", "moraine")
	w.env = append(w.env, "RIGHT="+right, "WRONG="+u.String(), "SSL_CERT_FILE=")
	w.serve()
	definition := func(engine string) string {
		return w.write(
			"sources: { lodge: { kind: postgres, url: \"${LODGE_URL}\" } }\nengines: { main: { kind: opensearch, url: \"${" + engine + "}\" } }\n" +
				"indexes: { huts: { engine: main, rows: lodge.huts, fields: { name: { search: 1 } } } }\n",
		)
	}
	if out, errs, code := w.run("check", definition("RIGHT")); code != 3 ||
		!strings.Contains(out+errs, "is not trusted") ||
		!strings.Contains(out+errs, "SSL_CERT_FILE") {
		t.Errorf("an unknown authority: %d %s%s", code, out, errs)
	}
	w.kill()
	w.env = append(w.env, "SSL_CERT_FILE="+certificate)
	w.serve()
	out, errs, code := w.run("check", definition("WRONG"))
	if code != 3 || !strings.Contains(out+errs, "refused the user or password") ||
		strings.Contains(out+errs+w.log.String(), "moraine") {
		t.Errorf("a wrong password: %d %s%s", code, out, errs)
	}
	w.must("apply", "--yes", definition("RIGHT"))
	w.index(20*time.Second, "filled", "huts", func(ix api.IndexStatus) bool { return ix.Live })
	if out := w.must("search", "huts", "krummhorn"); !strings.Contains(out, "Krummhorn") {
		t.Error(out)
	}
	if strings.Contains(w.log.String(), "crevasse") {
		t.Error("the log holds the password")
	}
}
