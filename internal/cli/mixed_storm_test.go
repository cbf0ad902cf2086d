package cli_test

import (
	"bytes"
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"math/rand/v2"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	_ "github.com/jackc/pgx/v5/stdlib" // for database/sql
	standardwebhooks "github.com/standard-webhooks/standard-webhooks/libraries/go"

	"pingo/internal/api"
	"pingo/internal/lab/mariaserver"
	"pingo/internal/lab/mariatest"
	"pingo/internal/lab/pgtest"
)

const mixedDefinition = `
sources:
  lodge: { kind: postgres, url: "${LODGE_URL}" }
  moor:
    kind: postgres
    url: "${MOOR_URL}"
    capture: outbox
    outbox: { table: outbox, operation: op, done: mark }
  paths: { kind: mariadb, url: "${PATHS_URL}" }
  fords:
    kind: mariadb
    url: "${FORDS_URL}"
    capture: outbox
    outbox: { table: outbox, operation: op, body: body, at: at, records: { fords: { schema: { properties: { n: { type: integer }, name: { type: string } } } } } }
  conditions:
    kind: webhook
    signing_secrets: ["${CONDITIONS_SECRET}"]
    records: { bulletins: { key: /key, type: /type, body: /body, version: /version, schema: { properties: { n: { type: integer }, name: { type: string } } } } }
engines:
  main: { kind: opensearch, url: "${SEARCH_URL}" }
indexes:
  huts:  { engine: main, rows: lodge.items, fields: [n, name], related: { parts: { many: parts, on: { item: id }, list: no } } }
  moors: { engine: main, rows: moor.items, fields: [n, name], related: { parts: { many: parts, on: { item: id }, list: no } } }
  trails: { engine: main, rows: paths.items, fields: [n, name], related: { parts: { many: parts, on: { item: id }, list: no } } }
  fords: { engine: main, rows: fords.fords, fields: [n, name] }
  bulletins: { engine: main, rows: conditions.bulletins, fields: [n, name] }
  all: # from three sources
    engine: main
    rows:
      hut:
        table: lodge.items
        fields: [n, name]
        related:
          bulletin: { one: bulletins, source: conditions, on: { _key: id }, fields: [n] }
      trail:
        table: paths.items
        fields: [n, name]
        related:
          hut:
            one: items
            source: lodge
            on: { id: id }
            fields: [n]
            related: { parts: { many: parts, source: paths, on: { item: id }, list: no } }
      bulletin:
        table: conditions.bulletins
        fields: [n, name]
        related: { parts: { many: parts, source: paths, on: { item: _key }, list: no } }
`

// Rows of items, and of parts that belong to them, in a database.
const mixedTables = `
CREATE TABLE items (id varchar(20) PRIMARY KEY, n int NOT NULL, name varchar(50));
CREATE TABLE parts (item varchar(20) NOT NULL, no int NOT NULL, PRIMARY KEY (item, no), FOREIGN KEY (item) REFERENCES items (id) ON DELETE CASCADE ON UPDATE CASCADE)`

// mixed is a world with a source of each kind and way.
type mixed struct {
	*world
	maria *mariaserver.Server
	db    map[string]*sql.DB // by source
	urls  map[string]string  // of all servers, by their variables

	mu     sync.Mutex // guards what follows
	newest map[string]event
	events int
}

// event is one of a sender's.
type event struct {
	Type    string         `json:"type"`
	Key     string         `json:"key"`
	Version int            `json:"version"`
	Body    map[string]any `json:"body"`
}

const (
	mixedSecret = "whsec_MfKQ9r8GKYqrTwjUPD8ILPZIo2LaLaSw"
	mixedItems  = 300
)

// The mixed storm: changes in databases of two kinds, noticed by triggers and by outboxes with and
// without bodies, and events that come late, twice, in any order, and forged; processes are killed
// and paused, one is far from everything, the engine, the databases and the records fail. In the end every index equals its
// source, and no forged event is in any.
func TestMixedStorm(t *testing.T) {
	seed, length := uint64(time.Now().UnixNano()%100000), 20*time.Second
	if s := os.Getenv("PINGO_STORM_SEED"); s != "" {
		seed, _ = strconv.ParseUint(s, 10, 64)
	}
	if s, err := strconv.Atoi(os.Getenv("PINGO_STORM_SECONDS")); err == nil {
		length = time.Duration(s) * time.Second
	}
	t.Logf("PINGO_STORM_SEED=%d", seed)
	m := newMixed(t)
	m.serve()
	m.eventually(20*time.Second, "the definition is applied", func() error {
		_, err := m.client.Apply(t.Context(), []api.File{{Name: "mixed.yaml", Text: mixedDefinition}})
		return err
	})
	second := freeAddress(t)
	r, kills, port := rand.New(rand.NewPCG(seed, 9)), 0, m.pg.Port()
	near, far := m.env, m.farAway(r, m.urls)
	startSecond := func() {
		m.env = far
		m.second = m.process(second)
		m.env = near
	}
	startSecond()
	ctx, calm := context.WithCancel(context.Background())
	var writers sync.WaitGroup
	for n := range 2 {
		for name := range m.db {
			writers.Go(func() { m.write(ctx, name, rand.New(rand.NewPCG(seed, uint64(100+n)))) })
		}
		writers.Go(func() { m.send(ctx, rand.New(rand.NewPCG(seed, uint64(200+n))), []string{m.address, second}) })
	}
	for end := time.Now().Add(length); time.Now().Before(end); time.Sleep(time.Duration(r.IntN(1200)) * time.Millisecond) {
		m.fault(`{}`)
		switch r.IntN(9) {
		case 0:
			kills++
			m.kill()
			time.Sleep(time.Duration(r.IntN(3000)) * time.Millisecond)
			m.serve()
		case 1:
			kills++
			m.second.Process.Kill()
			m.second.Wait()
			startSecond()
		case 2:
			paused := []*exec.Cmd{m.service, m.second}[r.IntN(2)]
			if err := paused.Process.Signal(syscall.SIGSTOP); err != nil {
				t.Error(err)
			}
			time.Sleep(time.Duration(r.IntN(11000)) * time.Millisecond)
			if err := paused.Process.Signal(syscall.SIGCONT); err != nil {
				t.Error(err)
			}
		case 3:
			m.fault(fmt.Sprintf(`{"lose_answer": %d, "busy": %d, "close": %d}`, r.IntN(5), r.IntN(5), r.IntN(5)))
		case 4:
			m.fault(fmt.Sprintf(`{"slow_ms": %d}`, r.IntN(200)))
		case 5:
			m.fault(`{"unavailable": -1}`)
		case 6: // the records, and two sources
			if err := m.pg.Stop(); err != nil {
				t.Error(err)
			}
			time.Sleep(time.Duration(r.IntN(500)) * time.Millisecond)
			m.startPostgres(port)
		case 7: // what it had committed is there again, as far as its settings say
			m.maria.Kill()
			time.Sleep(time.Duration(r.IntN(500)) * time.Millisecond)
			if err := m.maria.Restart(t.Context()); err != nil {
				t.Fatal(err)
			}
		}
	}
	calm()
	writers.Wait()
	m.fault(`{}`)
	m.compare(seed, kills)
}

func newMixed(t *testing.T) *mixed {
	t.Helper()
	m := &mixed{world: newWorld(t), db: map[string]*sql.DB{}, newest: map[string]event{}}
	m.urls = map[string]string{"PINGO_RECORDS_URL": m.pg.URL("pingo"), "SEARCH_URL": m.engine.URL}
	dir := pgtest.Dir(t)
	var err error
	m.maria, err = mariaserver.Start(
		t.Context(),
		mariaserver.Options{Dir: filepath.Join(dir, "maria"), Settings: []string{"--innodb-buffer-pool-size=64M"}},
	)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { m.maria.Stop() })
	if err := m.pg.CreateDatabase(t.Context(), "moor"); err != nil {
		t.Fatal(err)
	}
	for name, url := range map[string]string{"lodge": m.pg.URL("lodge"), "moor": m.pg.URL("moor"), "paths": m.maria.URL("paths"), "fords": m.maria.URL("fords")} {
		var db *sql.DB
		if strings.HasPrefix(url, "mariadb:") {
			if err := m.maria.CreateDatabase(t.Context(), name); err != nil {
				t.Fatal(err)
			}
			db, err = mariaserver.Open(url)
		} else {
			db, err = sql.Open("pgx", url)
		}
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { db.Close() })
		m.db[name] = db
		for statement := range strings.SplitSeq(mixedTables, ";") {
			mariatest.Exec(t, db, statement)
		}
		for id := range mixedItems {
			mariatest.Exec(t, db, fmt.Sprintf("INSERT INTO items VALUES ('%d', 0, 'first')", id))
		}
		m.urls[strings.ToUpper(name)+"_URL"] = url
		m.env = append(m.env, strings.ToUpper(name)+"_URL="+url)
	}
	mariatest.Exec(
		t,
		m.db["moor"],
		"CREATE TABLE outbox (id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY, record text, record_key text, op text, done_at timestamptz)",
	)
	mariatest.Exec(
		t,
		m.db["fords"],
		"CREATE TABLE outbox (id bigint AUTO_INCREMENT PRIMARY KEY, record text, record_key text, op text, body json, at timestamp(6) DEFAULT current_timestamp(6))",
	)
	m.env = append(m.env, "CONDITIONS_SECRET="+mixedSecret)
	return m
}

// write changes a database until the context ends, in transactions that are long, or rolled back,
// and writes into its outbox as an application does.
func (m *mixed) write(ctx context.Context, name string, r *rand.Rand) {
	for ctx.Err() == nil {
		tx, err := m.db[name].BeginTx(ctx, nil)
		if err != nil {
			time.Sleep(50 * time.Millisecond)
			continue
		}
		for range 1 + r.IntN(3) {
			if err = m.change(ctx, tx, name, r); err != nil {
				break
			}
			if r.IntN(4) == 0 {
				time.Sleep(time.Duration(r.IntN(20)) * time.Millisecond)
			}
		}
		if err != nil || r.IntN(8) == 0 {
			tx.Rollback()
		} else {
			tx.Commit() // when it fails no one knows, and the comparison reads what happened to it
		}
		time.Sleep(time.Duration(r.IntN(8)) * time.Millisecond)
	}
}

func (m *mixed) change(ctx context.Context, tx *sql.Tx, name string, r *rand.Rand) error {
	id, n := strconv.Itoa(r.IntN(mixedItems)), 1+r.IntN(1_000_000)
	op, body := "updated", fmt.Sprintf(`{"n": %d, "name": "item %s"}`, n, id)
	var err error
	exec := func(statement string) {
		if err == nil {
			_, err = tx.ExecContext(ctx, statement)
		}
	}
	upsert := fmt.Sprintf(
		"INSERT INTO items VALUES ('%s', %d, 'item %[1]s') ON CONFLICT (id) DO UPDATE SET n = %[2]d, name = 'item %[1]s'",
		id,
		n,
	)
	if name == "paths" || name == "fords" {
		upsert = fmt.Sprintf(
			"INSERT INTO items VALUES ('%s', %d, 'item %[1]s') ON DUPLICATE KEY UPDATE n = %[2]d, name = 'item %[1]s'",
			id,
			n,
		)
	}
	switch k := r.IntN(20); {
	case k < 3:
		op, body = "deleted", ""
		exec(fmt.Sprintf("DELETE FROM items WHERE id = '%s'", id))
	case k < 8:
		exec(upsert)
		exec(fmt.Sprintf("DELETE FROM parts WHERE item = '%s' AND no = %d", id, r.IntN(9)))
	case k < 12:
		exec(upsert)
		exec(
			fmt.Sprintf(
				"INSERT INTO parts SELECT '%s', %d WHERE NOT EXISTS (SELECT 1 FROM parts WHERE item = '%[1]s' AND no = %[2]d)",
				id,
				r.IntN(9),
			),
		)
	case k == 12 && (name == "lodge" || name == "paths"): // cascades to its parts
		exec(
			fmt.Sprintf(
				"UPDATE items SET id = '%s x' WHERE id = '%[1]s' AND NOT EXISTS (SELECT 1 FROM (SELECT id FROM items) i WHERE id = '%[1]s x')",
				id,
			),
		)
	default:
		exec(upsert)
	}
	switch name {
	case "moor":
		exec(fmt.Sprintf("INSERT INTO outbox (record, record_key, op) VALUES ('items', '%s', '%s')", id, op))
	case "fords":
		value := "NULL"
		if body != "" {
			value = "'" + body + "'"
		}
		exec(
			fmt.Sprintf(
				"INSERT INTO outbox (record, record_key, op, body) VALUES ('fords', '%s', '%s', %s)",
				id,
				op,
				value,
			),
		)
		if r.IntN(50) == 0 {
			exec("INSERT INTO outbox (record, record_key, op, body) VALUES ('fords', 'poison', 'updated', '[]')")
		}
	}
	return err
}

// send sends events until the context ends and all were taken in, to one process or another: some
// twice, some late, and between them forged ones.
func (m *mixed) send(ctx context.Context, r *rand.Rand, addresses []string) {
	hook, err := standardwebhooks.NewWebhook(mixedSecret)
	if err != nil {
		m.t.Error(err)
		return
	}
	type message struct {
		id   string
		body []byte
	}
	post := func(msg message, forged bool) bool {
		now := time.Now()
		signature, err := hook.Sign(msg.id, now, msg.body)
		if err != nil {
			m.t.Error(err)
		}
		if forged {
			signature = "v1,AAAA" + signature[7:]
		}
		request, err := http.NewRequest(
			http.MethodPost,
			"http://"+addresses[r.IntN(len(addresses))]+"/hooks/conditions",
			bytes.NewReader(msg.body),
		)
		if err != nil {
			m.t.Error(err)
			return false
		}
		for name, value := range map[string]string{"webhook-id": msg.id, "webhook-timestamp": strconv.FormatInt(now.Unix(), 10), "webhook-signature": signature, "content-type": "application/json"} {
			request.Header.Set(name, value)
		}
		client := &http.Client{Timeout: 5 * time.Second}
		response, err := client.Do(request)
		if err != nil {
			return false
		}
		defer response.Body.Close()
		text, _ := io.ReadAll(response.Body)
		if forged && response.StatusCode == http.StatusOK {
			m.t.Errorf("a forged event is taken: %s", text)
		}
		if !forged && response.StatusCode >= 400 && response.StatusCode < 500 &&
			response.StatusCode != http.StatusNotFound {
			m.t.Errorf("an event is refused: %d %s", response.StatusCode, text)
			return true // sending it again would not help
		}
		return response.StatusCode == http.StatusOK
	}
	var late []message
	for ctx.Err() == nil || len(late) > 0 {
		if ctx.Err() == nil {
			var list []event
			m.mu.Lock()
			for range 1 + r.IntN(5) {
				key := strconv.Itoa(r.IntN(mixedItems))
				e := event{
					"updated",
					key,
					m.newest[key].Version + 1,
					map[string]any{"n": r.IntN(1_000_000), "name": "event " + key},
				}
				if r.IntN(6) == 0 {
					e.Type, e.Body = "deleted", nil
				}
				m.newest[key] = e
				m.events++
				list = append(list, e)
			}
			number := m.events
			m.mu.Unlock()
			body, err := json.Marshal(list)
			if err != nil {
				m.t.Error(err)
			}
			late = append(late, message{fmt.Sprintf("msg_%d_%d", number, r.IntN(1_000_000_000)), body})
			if r.IntN(10) == 0 {
				post(message{"forged", []byte(`[{"key": "forged", "version": 1, "body": {"n": 1}}]`)}, true)
			}
		}
		if ctx.Err() == nil && len(late) < 20 && r.IntN(2) == 0 {
			continue // some wait, and others come before them
		}
		i := r.IntN(len(late))
		if !post(late[i], false) {
			time.Sleep(50 * time.Millisecond)
			continue
		}
		if r.IntN(5) > 0 { // else it is sent again
			late = slices.Delete(late, i, i+1)
		}
		time.Sleep(time.Duration(r.IntN(10)) * time.Millisecond)
	}
}

// compare waits until all is quiet, and compares every index with its source.
func (m *mixed) compare(seed uint64, kills int) {
	want := map[string]map[string]any{"bulletins": {}}
	for key, e := range m.newest {
		if e.Body != nil {
			want["bulletins"][key] = e.Body
		}
	}
	for source, index := range map[string]string{"lodge": "huts", "moor": "moors", "paths": "trails", "fords": "fords"} {
		docs, err := m.documents(source, index != "fords")
		if err != nil {
			m.t.Fatal(err)
		}
		want[index] = docs
	}
	if fords := want["fords"]; fords != nil { // the first rows had no row in the outbox
		maps.DeleteFunc(fords, func(_ string, doc any) bool { return doc.(map[string]any)["name"] == "first" })
	}
	want["all"] = across(want)
	for index := range want {
		m.index(60*time.Second, "all is quiet", index, func(ix api.IndexStatus) bool {
			status, err := m.client.Status(m.t.Context())
			return err == nil && ix.Fill == nil && ix.Live && ix.Failed == 0 && ix.Waiting == 0 &&
				ix.State == "in sync" &&
				!slices.ContainsFunc(status.Sources, func(s api.SourceStatus) bool { return s.InFlight > 0 })
		})
	}
	for index, docs := range want {
		var have map[string]any
		different := ""
		m.eventually(3*time.Second, "equal", func() error { // what is searched is refreshed once a second
			var err error
			if have, err = m.searchAll(index); err != nil {
				return err
			}
			different = differences(docs, have)
			if different != "" {
				return fmt.Errorf("%s: %s", index, different)
			}
			return nil
		})
		if len(docs) < 50 {
			m.t.Errorf("%s has only %d documents", index, len(docs))
		}
	}
	var changes int64
	if status, err := m.client.Status(m.t.Context()); err == nil {
		for _, s := range status.Sources {
			changes += s.Noticed
		}
	}
	m.t.Logf("seed %d: %d events, %d changes since the last starts, %d kills", seed, m.events, changes, kills)
}

// across is what the documents from three sources should be, made from those of one.
func across(want map[string]map[string]any) map[string]any {
	out := map[string]any{}
	part := func(index, id, name string, none any) any {
		if doc, is := want[index][id].(map[string]any); is {
			return doc[name]
		}
		return none
	}
	each := func(index, rows string, more func(id string, doc map[string]any)) {
		for id, from := range want[index] {
			doc := map[string]any{"n": from.(map[string]any)["n"], "name": from.(map[string]any)["name"]}
			more(id, doc)
			out[rows+","+id] = doc
		}
	}
	each("huts", "hut", func(id string, doc map[string]any) {
		doc["bulletin"] = nil
		if n := part("bulletins", id, "n", nil); n != nil {
			doc["bulletin"] = map[string]any{"n": n}
		}
	})
	each("trails", "trail", func(id string, doc map[string]any) {
		doc["hut"] = nil
		if n := part("huts", id, "n", nil); n != nil {
			doc["hut"] = map[string]any{"n": n, "parts": part("trails", id, "parts", []any{})}
		}
	})
	each("bulletins", "bulletin", func(id string, doc map[string]any) {
		doc["parts"] = part("trails", id, "parts", []any{})
	})
	return out
}

func differences(want, have map[string]any) string {
	var out []string
	for key, doc := range want {
		if !reflect.DeepEqual(normal(doc), normal(have[key])) {
			out = append(out, fmt.Sprintf("%s is %v, want %v", key, have[key], doc))
		}
	}
	for key := range have {
		if _, is := want[key]; !is {
			out = append(out, key+" should not be there")
		}
	}
	slices.Sort(out)
	if len(out) > 5 {
		out = append(out[:5], fmt.Sprintf("and %d more", len(out)-5))
	}
	return strings.Join(out, "; ")
}

// normal is a document as it comes out of JSON.
func normal(doc any) any {
	b, err := json.Marshal(doc)
	if err != nil {
		return err
	}
	var out any
	if err := json.Unmarshal(b, &out); err != nil {
		return err
	}
	return out
}

// documents is what a source's rows should make.
func (m *mixed) documents(source string, withParts bool) (map[string]any, error) {
	out := map[string]any{}
	rows, err := m.db[source].Query("SELECT id, n, name FROM items")
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var id, name string
		var n int
		if err := rows.Scan(&id, &n, &name); err != nil {
			return nil, err
		}
		doc := map[string]any{"n": n, "name": name}
		if withParts {
			doc["parts"] = []any{}
		}
		out[id] = doc
	}
	if err := rows.Err(); err != nil || !withParts {
		return out, err
	}
	parts, err := m.db[source].Query("SELECT item, no FROM parts ORDER BY item, no")
	if err != nil {
		return nil, err
	}
	defer parts.Close()
	for parts.Next() {
		var item string
		var no int
		if err := parts.Scan(&item, &no); err != nil {
			return nil, err
		}
		doc := out[item].(map[string]any)
		doc["parts"] = append(doc["parts"].([]any), no)
	}
	return out, parts.Err()
}

// searchAll reads all documents of an index, as the engine has them now.
func (m *mixed) searchAll(index string) (map[string]any, error) {
	if response, err := http.Post(m.engine.URL+"/"+index+"/_refresh", "application/json", nil); err == nil {
		response.Body.Close()
	}
	response, err := http.Post(
		m.engine.URL+"/"+index+"/_search",
		"application/json",
		strings.NewReader(`{"size": 5000}`),
	)
	if err != nil {
		return nil, err
	}
	defer response.Body.Close()
	var found struct {
		Hits struct {
			Hits []struct {
				ID     string         `json:"_id"`
				Source map[string]any `json:"_source"`
			} `json:"hits"`
		} `json:"hits"`
	}
	if err := json.NewDecoder(response.Body).Decode(&found); err != nil {
		return nil, err
	}
	out := map[string]any{}
	for _, h := range found.Hits.Hits {
		maps.DeleteFunc(h.Source, func(name string, _ any) bool { return strings.HasPrefix(name, "pingo_") })
		out[h.ID] = h.Source
	}
	return out, nil
}
