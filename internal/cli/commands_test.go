package cli_test

import (
	"encoding/json"
	"fmt"
	"net"
	"net/http"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"gopkg.in/yaml.v3"

	"pingo/internal/api"
	"pingo/internal/lab/demo"
	"pingo/internal/lab/pgtest"
)

// What a person does in the first five minutes, with the real binary.
func TestFirstFiveMinutes(t *testing.T) {
	w := newWorld(t)
	lodge := pgtest.Connect(t, w.pg.URL("lodge"))
	if err := demo.Load(t.Context(), lodge, 300, 3); err != nil {
		t.Fatal(err)
	}
	pgtest.Exec(t, lodge, "UPDATE huts SET retired_at = NULL WHERE id IN (7, 8)")
	w.serve()
	file := w.write(demo.Definition)
	if out := w.must("status"); !strings.Contains(out, "There is no index yet") {
		t.Error(out)
	}
	out, _, code := w.run("check", file)
	if code != 5 {
		t.Errorf("check of a new index: exit %d", code)
	}
	for _, want := range []string{"source lodge", "PostgreSQL 1", "engine main", "capture in lodge: changes of public.amenities", "index huts in main: new: a first edition is filled", "notes.written_at", "position", "geo", "search 10 by prefix, sort", "the fields name, region.name, keeper.full_name, amenities", `"pingo_fingerprint"`, "about"} {
		if !strings.Contains(out, want) {
			t.Errorf("check does not say %q:\n%s", want, out)
		}
	}
	var journal bool
	if err := lodge.QueryRow(t.Context(), "SELECT to_regnamespace('pingo_capture') IS NOT NULL").Scan(&journal); err != nil ||
		journal {
		t.Error("check has touched the source", err)
	}
	if sql := w.must("capture", "show", file); !strings.Contains(
		sql,
		"_update AFTER UPDATE ON ",
	) ||
		!strings.Contains(sql, "GRANT SELECT ON") {
		t.Error(sql)
	}
	if _, errs, code := w.run("apply", file); code != 2 || !strings.Contains(errs, "pass --yes") {
		t.Errorf("apply with no one to ask: %d %s", code, errs)
	}
	if out := w.must("apply", file, "--yes"); !strings.Contains(out, "Definition version 1 is in force") {
		t.Error(out)
	}
	pgtest.Exec(t, lodge, "UPDATE huts SET name = 'Marmot Observatory' WHERE id = 7")
	w.eventually(time.Second, "a change made by hand is found", func() error {
		if out := w.must("search", "huts", "marmot", "obs"); !strings.Contains(out, "7 ") ||
			!strings.Contains(out, "1 found") {
			return fmt.Errorf("%s", out)
		}
		return nil
	})
	if out := w.must("preview", "huts", "7"); !strings.Contains(out, `"name": "Marmot Observatory"`) ||
		!strings.Contains(out, "is what the row makes now") ||
		strings.Contains(out, "@firnline") {
		t.Error(out)
	}
	if out := w.must("preview", "huts", "99999"); !strings.Contains(out, "No matching row and no document") {
		t.Error(out)
	}
	if out := w.must("status"); !strings.Contains(out, "huts is in sync") {
		t.Error(out)
	}
	var status api.Status
	if err := json.Unmarshal([]byte(w.must("status", "-o", "json")), &status); err != nil ||
		status.Indexes[0].State != api.StateInSync ||
		!status.Indexes[0].Live {
		t.Errorf("%+v %v", status, err)
	}
	var plain map[string]any
	if err := yaml.Unmarshal([]byte(w.must("status", "-o", "yaml")), &plain); err != nil ||
		plain["state"] != "in sync" {
		t.Errorf("%v %v", plain, err)
	}
	if out := w.must("check", file); !strings.Contains(out, "index huts in main: unchanged") {
		t.Error(out)
	}
	if out := w.must("preview", "huts", "--sample", "2"); strings.Count(out, "pingo_fingerprint") != 2 ||
		!strings.Contains(out, "first_name || ' ' || last_name of public.keepers") {
		t.Error(out)
	}
	if out := w.must("search", "huts", "--filter", "region.country=Aurelia", "--sort", "-altitude_m", "--facet", "amenities", "-n", "3"); !strings.Contains(
		out,
		"drinking water",
	) ||
		!strings.Contains(out, "3 shown") {
		t.Error(out)
	}
	if _, errs, code := w.run("search", "huts", "--sort", "alttude_m"); code != 1 ||
		!strings.Contains(errs, `no field "alttude_m" with the role sort: did you mean "altitude_m"?`) {
		t.Errorf("%d %s", code, errs)
	}

	// Other weights are taken into use immediately; another field means a reindex, during
	// which the name answers without a pause.
	lighter := w.write(strings.Replace(demo.Definition, "search: 10", "search: 5", 1))
	if out, _, code := w.run("check", lighter); code != 4 ||
		!strings.Contains(out, "in place  name weighs 5 instead of 10 in searches") {
		t.Errorf("%d %s", code, out)
	}
	if out := w.must("apply", "--yes", lighter); !strings.Contains(out, "version 2") {
		t.Error(out)
	}
	// What would take something away is not done by accident.
	for _, c := range []struct{ find, put, want string }{
		{"  huts:\n", "  cabins:\n", "index huts: the definition no longer has it"},
		{"where: retired_at IS NULL", "where: retired_at IS NULL AND id < 9", "it would have"},
	} {
		if _, errs, code := w.run("apply", "--yes", w.write(strings.Replace(demo.Definition, c.find, c.put, 1))); code != 3 ||
			!strings.Contains(errs, c.want) ||
			!strings.Contains(errs, "--accept huts") {
			t.Errorf("%d %s", code, errs)
		}
	}
	first := w.edition("huts")
	stop, gaps := make(chan struct{}), make(chan int)
	go func() {
		n := 0
		for {
			select {
			case <-stop:
				gaps <- n
				return
			default:
				hits, err := w.client.Search(t.Context(), "huts", api.Query{Text: "marmot observatory", Limit: 1})
				if err != nil || hits.Total != 1 {
					n++
				}
			}
		}
	}()
	smaller := strings.Replace(demo.Definition, "      beds:        { filter: true }\n", "", 1)
	if out, _, code := w.run("check", w.write(smaller)); code != 5 ||
		!strings.Contains(out, "index huts in main: reindex") ||
		!strings.Contains(out, "reindex   beds is no longer a field") {
		t.Errorf("%d %s", code, out)
	}
	w.must("apply", "--yes", w.write(smaller))
	w.index(
		10*time.Second,
		"the second edition answers",
		"huts",
		func(ix api.IndexStatus) bool { return strings.HasPrefix(ix.Edition, "huts-e2-") && ix.Fill == nil },
	)
	close(stop)
	if n := <-gaps; n > 0 {
		t.Errorf("%d searches found nothing during the reindex", n)
	}
	if out := w.must("preview", "huts", "7"); strings.Contains(out, `"beds"`) ||
		!strings.Contains(out, " 7: The document in the engine is what the row makes now") {
		t.Error(out)
	}
	if response, err := http.Head(w.engine.URL + "/" + first); err != nil || response.StatusCode != 200 {
		t.Errorf("the first edition, which can answer again: %v %v", response, err)
	}
	if removal, err := w.client.PlanRemoval(t.Context(), ""); err != nil ||
		!slices.Equal(removal.Indexes, []string{"huts"}) {
		t.Errorf("what removal would do: %+v %v", removal, err)
	}
	if _, errs, code := w.run("capture", "remove"); code != 2 ||
		!strings.Contains(errs, "The index huts will no longer be kept in sync. pingo apply installs capture again and refills") {
		t.Errorf("capture remove with no one to ask: %d %s", code, errs)
	}
	if out := w.must("capture", "remove", "--yes", "--source", "lodge"); !strings.Contains(
		out,
		"Removed capture from lodge, with",
	) ||
		!strings.Contains(out, "The index huts will no longer be kept in sync until pingo apply") {
		t.Error(out)
	}
	if err := lodge.QueryRow(t.Context(), "SELECT to_regnamespace('pingo_capture') IS NOT NULL").Scan(&journal); err != nil ||
		journal {
		t.Error("capture remove has left something", err)
	}
	// Without it changes go unnoticed: it is reported, and applying again repairs it.
	pgtest.Exec(t, lodge, "UPDATE huts SET name = 'Unseen Hut' WHERE id = 8")
	w.index(5*time.Second, "it says that capture is gone", "huts", func(ix api.IndexStatus) bool {
		return ix.State == api.StateBlocked && strings.Contains(ix.Sentence, "capture was removed") &&
			strings.Contains(strings.ToLower(ix.Sentence), "run pingo apply")
	})
	if _, errs, code := w.run("capture", "install"); code != 1 || !strings.Contains(errs, "changes are missing") {
		t.Errorf("capture install: %d %s", code, errs)
	}
	_, _, differences, err := demo.Compare(t.Context(), lodge, demo.Files(), "huts", w.lookup)
	if err != nil || len(differences) == 0 {
		t.Errorf("a difference made on purpose is not seen: %v", err)
	}
	w.must("apply", "--yes", file)
	w.index(
		10*time.Second,
		"it is true again",
		"huts",
		func(ix api.IndexStatus) bool {
			return ix.State == api.StateInSync && !strings.HasPrefix(ix.Edition, "huts-e2-")
		},
	)
	w.equal(lodge, "huts")
	// A trigger that a person disables is noticed, and not forgotten when it is enabled.
	before := w.edition("huts")
	var trigger string
	if err := lodge.QueryRow(t.Context(), "SELECT tgname FROM pg_trigger WHERE tgrelid = 'guest_notes'::regclass AND tgname LIKE 'pingo%insert'").Scan(&trigger); err != nil {
		t.Fatal(err)
	}
	pgtest.Exec(
		t,
		lodge,
		"ALTER TABLE guest_notes DISABLE TRIGGER "+trigger+"; INSERT INTO guest_notes (hut_id, body, written_at, approved) VALUES (8, 'Nobody read this.', now(), true)",
	)
	disabled := func(ix api.IndexStatus) bool {
		return ix.State == api.StateBlocked && strings.Contains(ix.Sentence, "Out of sync for") &&
			strings.Contains(ix.Sentence, "triggers of Pingo on public.guest_notes were dropped or disabled")
	}
	w.index(8*time.Second, "it says that a trigger is disabled", "huts", disabled)
	if _, errs, code := w.run("capture", "install"); code != 1 || !strings.Contains(errs, "changes are missing") {
		t.Errorf("capture install: %d %s", code, errs)
	}
	pgtest.Exec(t, lodge, "ALTER TABLE guest_notes ENABLE ALWAYS TRIGGER "+trigger)
	w.index(time.Second, "it remembers", "huts", disabled)
	if out, _, code := w.run("check", file); code != 5 ||
		!strings.Contains(out, "reindex   triggers of Pingo on public.guest_notes were dropped or disabled") {
		t.Errorf("%d %s", code, out)
	}
	w.must("apply", "--yes", file)
	w.index(
		10*time.Second,
		"it is true after that",
		"huts",
		func(ix api.IndexStatus) bool { return ix.State == api.StateInSync && ix.Edition != before },
	)
	w.equal(lodge, "huts")
	// A person deletes the edition in the engine.
	now := w.edition("huts")
	r, err := http.NewRequest(http.MethodDelete, w.engine.URL+"/"+now, nil)
	if err != nil {
		t.Fatal(err)
	}
	if response, err := http.DefaultClient.Do(r); err != nil || response.StatusCode != 200 {
		t.Fatal(response, err)
	}
	pgtest.Exec(t, lodge, "UPDATE huts SET name = 'Nobody Home' WHERE id = 8")
	w.index(10*time.Second, "another edition takes its place", "huts", func(ix api.IndexStatus) bool {
		return ix.State == api.StateInSync && ix.Live && ix.Edition != now
	})
	if log := w.log.String(); !strings.Contains(log, "the engine no longer has this edition") {
		t.Error("the log does not tell why")
	}
	w.equal(lodge, "huts")
	if out := w.must("schema"); !json.Valid([]byte(out)) {
		t.Error("the schema is not JSON")
	}
	if out := w.must("version"); !strings.HasPrefix(out, "pingo ") {
		t.Error(out)
	}
	if out := w.must("completion", "bash"); !strings.Contains(out, "pingo") {
		t.Error(out)
	}
}

// A column that is renamed after apply stops its index with a reason, loses nothing, and
// holds up no other; once it is back, or the definition knows its new name, all go on.
func TestARenamedColumnStopsItsIndex(t *testing.T) {
	w := newWorld(t)
	lodge := pgtest.Connect(t, w.pg.URL("lodge"))
	if err := demo.Load(t.Context(), lodge, 300, 5); err != nil {
		t.Fatal(err)
	}
	pgtest.Exec(t, lodge, "UPDATE huts SET retired_at = NULL WHERE id IN (7, 8)")
	w.serve()
	definition := demo.Definition + "\n  places: { engine: main, rows: lodge.regions, fields: { name: { search: 1 } } }\n"
	w.must("apply", "--yes", w.write(definition))
	stopped := func(ix api.IndexStatus) bool {
		return ix.State == api.StateBlocked && strings.Contains(ix.Sentence, "column \"summary\" does not exist") &&
			strings.Contains(ix.Sentence, "Nothing is lost")
	}
	pgtest.Exec(t, lodge, "ALTER TABLE huts RENAME summary TO about")
	pgtest.Exec(
		t,
		lodge,
		"UPDATE huts SET name = 'Lost Property Hut' WHERE id = 7; DELETE FROM huts WHERE id = 9; UPDATE regions SET name = 'Found Land' WHERE id = 3",
	)
	w.index(5*time.Second, "it says why it is stopped", "huts", stopped)
	w.eventually(2*time.Second, "another index goes on", func() error {
		if out := w.must("search", "places", "found land"); !strings.Contains(out, "1 found") {
			return fmt.Errorf("%s", out)
		}
		return nil
	})
	if out := w.must("search", "huts", "lost property"); !strings.Contains(out, "Nothing found") {
		t.Error(out)
	}
	pgtest.Exec(t, lodge, "ALTER TABLE huts RENAME about TO summary")
	w.index(
		10*time.Second,
		"it goes on by itself",
		"huts",
		func(ix api.IndexStatus) bool { return ix.State == api.StateInSync && empty(t, lodge) },
	)
	w.equal(lodge, "huts")

	pgtest.Exec(
		t,
		lodge,
		"ALTER TABLE huts RENAME summary TO about; UPDATE huts SET name = 'Twice Lost' WHERE id = 8",
	)
	w.index(5*time.Second, "it is stopped again", "huts", stopped)
	renamed := w.write(
		strings.Replace(definition, "summary:     { search: 2 }", "summary:     { column: about, search: 2 }", 1),
	)
	if out, _, code := w.run("check", renamed); code != 5 ||
		!strings.Contains(out, "summary comes from public.huts.about instead of public.huts.summary") {
		t.Errorf("%d %s", code, out)
	}
	w.must("apply", "--yes", renamed)
	w.index(10*time.Second, "an edition that knows the new name answers", "huts", func(ix api.IndexStatus) bool {
		return ix.State == api.StateInSync && strings.HasPrefix(ix.Edition, "huts-e2-")
	})
	if out := w.must("search", "huts", "twice lost"); !strings.Contains(out, "1 found") {
		t.Error(out)
	}
}

// One clear sentence each, with what to do, and no stack trace.
func TestMistakesGetASentence(t *testing.T) {
	w := newWorld(t)
	lodge := pgtest.Connect(t, w.pg.URL("lodge"))
	pgtest.Exec(t, lodge, `CREATE TABLE huts (id int PRIMARY KEY, name text); CREATE TABLE loose (name text);
		CREATE ROLE poor LOGIN PASSWORD 'poor'; GRANT USAGE ON SCHEMA public TO poor; GRANT SELECT ON huts TO poor;`)
	html, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer html.Close()
	go http.Serve(
		html,
		http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { w.Write([]byte("<html>hello</html>")) }),
	)
	with := func(find, put string) string { return strings.Replace(w.pg.URL("lodge"), find, put, 1) }
	secret := regexp.MustCompile(`:([0-9a-f]{32})@`).FindStringSubmatch(w.pg.URL("lodge"))[1]
	w.env = append(
		w.env,
		"WRONG_PORT="+regexp.MustCompile(`:\d+/`).ReplaceAllString(w.pg.URL("lodge"), ":1/"),
		"WRONG_PASSWORD="+with(secret, "guessed-secret"),
		"WRONG_DATABASE="+with(
			"/lodge",
			"/logde",
		),
		"POOR="+with("pingo:"+secret, "poor:poor"),
		"HTML=http://"+html.Addr().String(),
		"NO_ENGINE=http://127.0.0.1:1",
	)
	w.serve()
	const text = "sources: { lodge: { kind: postgres, url: \"${LODGE_URL}\" } }\nengines: { main: { kind: opensearch, url: \"${SEARCH_URL}\" } }\nindexes:\n  huts:\n    engine: main\n    rows: lodge.huts\n    fields: [name]\n"
	for _, c := range []struct{ find, put, want string }{
		{"LODGE_URL", "WRONG_PORT", "does not answer (connection refused): look at the url's host and port"},
		{"LODGE_URL", "WRONG_PASSWORD", "PostgreSQL refused the user or password"},
		{"LODGE_URL", "WRONG_DATABASE", "PostgreSQL has no such database"},
		{"LODGE_URL", "UNSET", "pingo.yaml:1:42: the environment variable UNSET is not set"},
		{"SEARCH_URL", "HTML", "instead of JSON"},
		{"SEARCH_URL", "NO_ENGINE", "does not answer (connection refused)"},
		{"[name]", "[nam]", `pingo.yaml:7:14: table huts has no column "nam" that Pingo may read — did you mean "name"?`},
		{"lodge.huts", "lodge.loose", "pingo.yaml:6:11: table loose has no primary key"},
		{"LODGE_URL", "POOR", "run what pingo capture show FILE prints. It installs the schema pingo_capture."},
		{"lodge.huts", "lodge.hats", `the source has no table "hats" that Pingo may read — did you mean "huts"?`},
	} {
		out, errs, code := w.run("check", w.write(strings.Replace(text, c.find, c.put, 1)))
		if code != 3 || !strings.Contains(out+errs, c.want) {
			t.Errorf("%s → %s: exit %d\n%s%s", c.find, c.put, code, out, errs)
		}
		if strings.Contains(out+errs, "goroutine") || strings.Contains(out+errs, secret) ||
			strings.Contains(out+errs, "guessed-secret") {
			t.Errorf("%s shows what it must not:\n%s%s", c.put, out, errs)
		}
	}
	// A role that may read but not install reads how an administrator can.
	poor := w.write(strings.Replace(text, "LODGE_URL", "POOR", 1))
	if out, errs, code := w.run("apply", "--yes", poor); code != 3 ||
		!strings.Contains(out, "It installs the schema pingo_capture.") ||
		!strings.Contains(out, "It installs triggers on public.huts.") || strings.Contains(out, "GRANT pingo") {
		t.Errorf("missing grants: %d %s%s", code, out, errs)
	}
	pgtest.Exec(t, lodge, w.must("capture", "show", poor))
	w.must("apply", "--yes", poor)

	if _, errs, code := w.run("serve", "--listen", w.address); code != 1 ||
		!strings.Contains(errs, "is in use by another program") {
		t.Errorf("port in use: %d %s", code, errs)
	}
	for args, want := range map[string]string{
		"serve --records-url x --records-dir y":           "say where records are kept",
		"serve --debug-listen 0.0.0.0:6060":               "is an address of loopback",
		"serve --tls-cert x":                              "belong together",
		"serve --log-level loud":                          "--log-level is debug, info, warn or error",
		"serve --trusted-proxy nowhere":                   "is an address or a range",
		"serve --secrets-dir relative":                    "is no folder of secrets",
		"serve --memory 1MB":                              "--memory is a size such as 256MB, and at least 96 MB",
		"serve --records-url postgres://127.0.0.1:1/none": "records database: PostgreSQL at 127.0.0.1:1 does not answer",
		"stauts":                           `unknown command "stauts"`,
		"failed lst":                       `unknown subcommand "lst" for "pingo failed": did you mean list?`,
		"token nothing":                    `unknown subcommand "nothing" for "pingo token"`,
		"serve --listen 0.0.0.0:0":         "is beyond this machine and without TLS",
		"serve --allow-address http://x/y": "is not a host name, a pattern of names",
		"serve --records-url postgres://127.0.0.1:1/x?servicefile=/etc/x": `a parameter "servicefile"`,
		"status -o xml":                   "--output is table, json or yaml",
		"search":                          "takes an index and words",
		"search nothing x":                `index "nothing" is not known: known here: huts`,
		"preview huts 1,2":                "has 2 parts",
		"failed dismiss huts 1":           "not interactive: pass --yes to confirm",
		"leftovers remove main huts-e9":   "not interactive: pass --yes to confirm",
		"reindex rollback huts":           "not interactive: pass --yes to confirm",
		"reindex cancel huts":             "not interactive: pass --yes to confirm",
		"reindex drop huts huts-e1":       "not interactive: pass --yes to confirm",
		"token remove looker":             "not interactive: pass --yes to confirm",
		"check nowhere.yaml":              "the definition nowhere.yaml cannot be read: no such file",
		"token create x --role king":      "one of the roles viewer, operator, admin",
		"status --url http://127.0.0.1:1": "no pingo serve answers at http://127.0.0.1:1",
		"status --url " + w.engine.URL:    "not as a pingo serve does",
	} {
		if out, errs, code := w.run(strings.Fields(args)...); code == 0 || !strings.Contains(errs, want) ||
			strings.Contains(errs, "goroutine") || strings.HasPrefix(want, "unknown subcommand") && code != 2 {
			t.Errorf("pingo %s: exit %d\n%s%s", args, code, out, errs)
		}
	}
}

func TestAccess(t *testing.T) {
	w := newWorld(t)
	w.serve()
	var created struct{ Token string }
	if err := json.Unmarshal([]byte(w.must("token", "create", "looker", "--role", "viewer", "-o", "json")), &created); err != nil {
		t.Fatal(err)
	}
	get := func(method, path, token string) int {
		t.Helper()
		r, err := http.NewRequest(method, "http://"+w.address+path, strings.NewReader("{}"))
		if err != nil {
			t.Fatal(err)
		}
		if token != "" {
			r.Header.Set("Authorization", "Bearer "+token)
		}
		response, err := http.DefaultClient.Do(r)
		if err != nil {
			t.Fatal(err)
		}
		defer response.Body.Close()
		if response.StatusCode >= 400 && response.Header.Get("Content-Type") != "application/problem+json" {
			t.Errorf("%s %s: %s is no problem object", method, path, response.Header.Get("Content-Type"))
		}
		return response.StatusCode
	}
	// Every call that the API's description names is there, and asks for a token
	// unless the description says otherwise.
	response, err := http.Get("http://" + w.address + "/openapi.json")
	if err != nil {
		t.Fatal(err)
	}
	var api struct {
		Paths map[string]map[string]json.RawMessage
	}
	if err := json.NewDecoder(response.Body).Decode(&api); err != nil {
		t.Fatal(err)
	}
	calls := 0
	for path, methods := range api.Paths {
		for method, raw := range methods {
			var call struct {
				Security *[]any
				Summary  string
			}
			if method == "parameters" || json.Unmarshal(raw, &call) != nil {
				continue
			}
			calls++
			method, path := strings.ToUpper(
				method,
			), strings.NewReplacer("{index}", "x", "{key}", "1", "{name}", "x").
				Replace(path)
			status := get(method, path, "")
			if open := call.Security != nil; open == (status == http.StatusUnauthorized) && path != "/api/session" {
				t.Errorf("%s %s without a token: %d", method, path, status)
			}
			if status := get(method, path, created.Token); strings.Contains(
				call.Summary,
				"Needs the role",
			) != (status == http.StatusForbidden) &&
				path != "/api/events" {
				t.Errorf("%s %s as a viewer: %d", method, path, status)
			}
		}
		if path == "/api/events" {
			continue
		}
	}
	if calls < 20 {
		t.Errorf("only %d calls are described", calls)
	}
	w.must("token", "remove", "looker", "--yes")
	if status := get("GET", "/api/status", created.Token); status != http.StatusUnauthorized {
		t.Errorf("a removed token: %d", status)
	}
	var hashes string
	if err := pgtest.Connect(t, w.pg.URL("pingo")).QueryRow(t.Context(), "SELECT string_agg(t::text, ' ') FROM token t").Scan(&hashes); err != nil ||
		strings.Contains(hashes, w.client.Token) {
		t.Error("a token is stored in clear", err)
	}
	if strings.Count(w.log.String(), w.client.Token) != 1 {
		t.Error("the first token is not shown exactly once")
	}
}
