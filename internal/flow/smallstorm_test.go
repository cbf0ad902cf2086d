package flow_test

import (
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"io"
	"log/slog"
	"maps"
	"math/rand/v2"
	"os"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"pingo/internal/api"
	"pingo/internal/core/definition"
	"pingo/internal/core/reindex"
	"pingo/internal/core/retry"
	"pingo/internal/core/shape"
	"pingo/internal/engine"
	"pingo/internal/flow"
	"pingo/internal/kinds"
	"pingo/internal/lab/faults"
	"pingo/internal/lab/model"
	"pingo/internal/lab/tiny"
	"pingo/internal/records"
	"pingo/internal/source"
)

var (
	stormSeed     = flag.Uint64("small-storm.seed", 1, "the first seed of the small storm")
	stormEpisodes = flag.Int("small-storm.episodes", 150, "how many episodes it has, each of the next seed")
	stormTrace    = flag.Bool("small-storm.trace", false, "print every call and every line of the log")
)

const stormDefinition = `
sources:
  lodge: { kind: tiny, url: "tiny://lodge" }
  paths: { kind: tiny, url: "tiny://paths" }
engines:
  main: { kind: tiny, url: "tiny://main" }
  side: { kind: plain, url: "plain://side" }
indexes:
  huts:
    engine: main
    rows: lodge.huts
    fields: [n]
    related:
      region: { one: regions, on: { id: region_id }, fields: [n] }
  beds:
    engine: side
    rows: lodge.huts
    fields: [n]
  trails:
    engine: main
    rows: paths.huts
    fields: [n]
    related:
      region: { one: regions, on: { id: region_id }, fields: [n] }
`

// Numbers that something is wrong with.
const (
	refusedNumber = "7"  // engines refuse it
	badNumber     = "13" // such a row cannot be read
)

// TestSmallStorm runs the flow of several processes between models whose every call a seed
// delays, fails, or loses, and has everything happen to it that can. In the end every edition
// equals its source, but for what is a recorded failed document; and never did the status say
// that an index is in sync that was not.
func TestSmallStorm(t *testing.T) {
	replayable(t)
	for i := range *stormEpisodes {
		seed := *stormSeed + uint64(i)
		if !t.Run(fmt.Sprint(seed), func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) { newEpisode(t, seed).run() })
		}) {
			t.Fatalf("again with: make small-storm SEED=%d EPISODES=1", seed)
		}
	}
}

// replayable lets nothing but the seed decide what happens next: one processor, and no waits
// of random length.
func replayable(t *testing.T) {
	processors, jitter := runtime.GOMAXPROCS(1), retry.Jitter
	retry.Jitter = 0
	t.Cleanup(func() {
		runtime.GOMAXPROCS(processors)
		retry.Jitter = jitter
	})
}

// A seed replays: the same calls are made at the same moments. Nearly all do; where two editions
// of one index ask the source for the same thing at the same moment, nobody can tell the two calls
// apart, and either may be the slower one.
func TestSmallStormReplays(t *testing.T) {
	if raced {
		t.Skip("the race detector lets goroutines run in an order of its own")
	}
	replayable(t)
	different := 0
	for seed := range uint64(20) {
		var traces [2]uint64
		for i := range traces {
			synctest.Test(t, func(t *testing.T) {
				e := newEpisode(t, 1000+seed)
				e.run()
				traces[i] = e.world.Trace()
			})
		}
		if traces[0] != traces[1] {
			t.Logf("seed %d: %x and %x", 1000+seed, traces[0], traces[1])
			different++
		}
	}
	if different > 3 {
		t.Errorf("%d of 20 seeds did not replay", different)
	}
}

// episode is one storm.
type episode struct {
	*testing.T
	random    *rand.Rand
	world     *faults.World
	sources   map[string]*tiny.Database
	engines   map[string]engine.Engine
	records   *model.Records
	processes []*process
	log       io.Writer
	// restored is what is put back to older copies. Were it both at once, and all processes
	// that know died meanwhile, nobody could tell.
	restored string

	mu sync.Mutex // guards what follows
	// changed is when the document of a key of an index last became another one.
	changed map[string]time.Time
	wanted  map[string]map[string]string // by index and key
	events  []string
	forgot  time.Time // when the records forgot what they knew
}

type process struct {
	*faults.Process
	number, starts int
	service        *flow.Service // nil while it does not run
	stop           context.CancelFunc
	ended          chan struct{}
}

func number(v string) *string { return &v }

var indexes = map[string]struct{ source, engine string }{
	"huts": {"lodge", "main"}, "beds": {"lodge", "side"}, "trails": {"paths", "main"},
}

func newEpisode(t *testing.T, seed uint64) *episode {
	e := &episode{
		T:       t,
		random:  rand.New(rand.NewPCG(seed, 2)),
		sources: map[string]*tiny.Database{},
		engines: map[string]engine.Engine{"main": tiny.NewEngine(), "side": tiny.NewPlainEngine()},
		records: model.NewRecords(),
		changed: map[string]time.Time{},
		wanted:  map[string]map[string]string{},
		log:     io.Discard,
	}
	e.restored = []string{"", "source", "records"}[e.random.IntN(3)]
	var trace io.Writer
	if *stormTrace {
		trace, e.log = os.Stdout, os.Stdout
	}
	e.world = faults.NewWorld(seed, trace)
	for name := range indexes {
		e.wanted[name] = map[string]string{}
	}
	for _, name := range []string{"lodge", "paths"} {
		db := tiny.NewDatabase()
		db.Create("regions", []string{"id"}, "id integer", "n integer")
		db.Create("huts", []string{"id"}, "id integer", "n integer", "region_id integer")
		tx := db.Begin()
		for i := range 3 {
			tx.Put("regions", nil, func(map[string]*string) map[string]*string {
				return map[string]*string{"id": number(strconv.Itoa(i)), "n": number(strconv.Itoa(i))}
			})
		}
		for i := range e.random.IntN(30) {
			tx.Put("huts", nil, e.hut(i))
		}
		tx.Commit()
		e.sources[name] = db
	}
	return e
}

// hut makes a hut, or changes one.
func (e *episode) hut(id int) func(row map[string]*string) map[string]*string {
	n, region := strconv.Itoa(e.random.IntN(40)), strconv.Itoa(e.random.IntN(4))
	if n == badNumber && e.random.IntN(2) == 0 {
		n = refusedNumber
	}
	move := e.random.IntN(3) == 0
	return func(row map[string]*string) map[string]*string {
		out := maps.Clone(row)
		if out == nil {
			out = map[string]*string{"id": number(strconv.Itoa(id)), "region_id": &region}
		}
		out["n"] = &n
		if move {
			out["region_id"] = &region
		}
		return out
	}
}

// kinds are what a process reaches.
func (e *episode) kinds(p *faults.Process) *kinds.Set {
	bad := func(row map[string]*string) bool { return row["n"] != nil && *row["n"] == badNumber }
	refuses := func(body []byte) bool { return strings.Contains(string(body), `{"n":`+refusedNumber+`,`) }
	host := func(url string) string { _, host, _ := strings.Cut(url, "://"); return host }
	engineKind := func(name string) engine.Kind {
		k := tiny.EngineKind()
		k.Name, k.Schemes = name, []string{name}
		k.Open = func(c engine.Config) (engine.Engine, error) {
			return faults.Engine(p, e.engines[host(c.URL)], refuses), nil
		}
		return k
	}
	set := &kinds.Set{Engines: []engine.Kind{engineKind("tiny"), engineKind("plain")}}
	k := e.sources["lodge"].SourceKind()
	k.Open = func(c source.Config) (*source.Source, error) {
		return faults.Source(p, e.sources[host(c.URL)], bad), nil
	}
	set.Sources = []source.Kind{k}
	return set
}

// shapes are those of the definition, which never changes.
var shapes = sync.OnceValue(func() map[string]*shape.Shape {
	db := tiny.NewDatabase()
	db.Create("regions", []string{"id"}, "id integer", "n integer")
	db.Create("huts", []string{"id"}, "id integer", "n integer", "region_id integer")
	plain := tiny.EngineKind()
	plain.Name, plain.Schemes = "plain", []string{"plain"}
	set := &kinds.Set{Sources: []source.Kind{db.SourceKind()}, Engines: []engine.Kind{tiny.EngineKind(), plain}}
	def, findings := definition.Parse([]definition.File{{Name: "d.yaml", Text: stormDefinition}}, set.Language(), nil)
	if len(findings) > 0 {
		panic(findings)
	}
	out := map[string]*shape.Shape{}
	for _, ix := range def.Indexes {
		tables, expressions := shape.Questions(ix)
		facts, err := db.Open().Facts(context.Background(), tables, expressions)
		if err != nil {
			panic(err)
		}
		if out[ix.Name], findings = shape.Compile(ix, facts); len(findings) > 0 {
			panic(findings)
		}
	}
	return out
})

func (e *episode) run() {
	ctx := e.Context()
	version, _ := e.records.Apply(ctx, []definition.File{{Name: "d.yaml", Text: stormDefinition}}, nil, "storm")
	e.records.CarriedOut(ctx, version)
	need := map[string][]*shape.Shape{}
	for _, name := range slices.Sorted(maps.Keys(indexes)) {
		s := shapes()[name]
		need[s.Source] = append(need[s.Source], s)
		e.reindex(name)
	}
	for name, db := range e.sources {
		if _, err := db.Open().Capture.Install(ctx, "one", shape.Capture(need[name])); err != nil {
			e.Fatal(err)
		}
	}
	e.look("began")
	for i := range 2 + e.random.IntN(2) {
		p := &process{number: i}
		e.processes = append(e.processes, p)
		e.start(p)
	}
	defer func() {
		for _, p := range e.processes {
			if p.service != nil {
				p.Resume()
				p.stop()
				<-p.ended
			}
		}
		time.Sleep(time.Minute) // what is on its way arrives
	}()
	var work sync.WaitGroup
	happenings := e.happenings()
	for until := time.Now().Add(time.Duration(10+e.random.IntN(30)) * time.Second); time.Now().Before(until); {
		e.step(happenings, &work)
		if e.Failed() {
			return
		}
	}
	work.Wait()
	e.end()
}

func (e *episode) tell(format string, args ...any) {
	e.mu.Lock()
	defer e.mu.Unlock()
	line := time.Now().Format("04:05.000000000 ") + fmt.Sprintf(format, args...)
	e.events = append(e.events, line)
	fmt.Fprintln(e.log, "---", line)
}

func (e *episode) start(p *process) {
	p.starts++
	p.Process = e.world.Process(fmt.Sprintf("%d.%d", p.number, p.starts))
	e.tell("process %d starts", p.number)
	log := slog.New(slog.NewTextHandler(e.log, &slog.HandlerOptions{Level: slog.LevelDebug})).
		With("process", p.number)
	ctx, cancel := context.WithCancel(e.Context())
	p.stop, p.ended = cancel, make(chan struct{})
	rec := faults.Records(p.Process, e.records)
	for {
		service, err := flow.New(ctx, rec, e.kinds(p.Process), fmt.Sprint("here:", p.number), log)
		if err == nil {
			p.service = service
			break
		}
		time.Sleep(time.Second) // who starts it tries again
	}
	ended, service := p.ended, p.service
	go func() {
		service.Run(ctx)
		close(ended)
	}()
}

func (e *episode) kill(p *process) {
	e.tell("process %d is killed", p.number)
	p.Kill()
	p.Resume()
	p.stop()
	<-p.ended
	p.service = nil
}

func (e *episode) any() *process { return e.processes[e.random.IntN(len(e.processes))] }

// some is one of the sources.
func (e *episode) some() (string, *tiny.Database) {
	name := []string{"lodge", "paths"}[e.random.IntN(2)]
	return name, e.sources[name]
}

// happening is something that happens now and then, as often as its weight says.
type happening struct {
	weight int
	do     func(work *sync.WaitGroup)
}

// happenings are what happens in this episode: much of one thing in one, of another in the next.
func (e *episode) happenings() []happening {
	often := func(most int, do func(work *sync.WaitGroup)) happening { return happening{e.random.IntN(most), do} }
	out := []happening{
		{60, e.write},
		{25, func(*sync.WaitGroup) { e.probe(e.any()) }},
		often(15, func(*sync.WaitGroup) {
			name, db := e.some()
			db.Truncate("huts")
			e.look("truncated huts of " + name)
		}),
		often(10, func(*sync.WaitGroup) {
			if p := e.any(); p.service == nil {
				e.start(p)
			} else {
				e.kill(p)
			}
		}),
		often(10, e.pause),
		often(8, func(*sync.WaitGroup) {
			if p := e.any(); p.service != nil {
				peer := []string{"records", "source", "engine"}[e.random.IntN(3)]
				d := time.Duration(e.random.Int64N(int64(15 * time.Second)))
				e.tell("process %d does not reach the %s for %v", p.number, peer, d)
				p.Cut(peer, d)
			}
		}),
		often(12, func(*sync.WaitGroup) { e.reindex([]string{"huts", "beds", "trails"}[e.random.IntN(3)]) }),
	}
	switch e.restored {
	case "source":
		out = append(out, happening{1, e.restoreSource})
	case "records":
		out = append(out, happening{1, e.restoreRecords})
	}
	return out
}

// step lets some time pass, and something happen.
func (e *episode) step(happenings []happening, work *sync.WaitGroup) {
	time.Sleep(time.Duration(e.random.Int64N(int64(300 * time.Millisecond))))
	all := 0
	for _, h := range happenings {
		all += h.weight
	}
	n := e.random.IntN(all)
	for _, h := range happenings {
		if n -= h.weight; n < 0 {
			h.do(work)
			return
		}
	}
}

func (e *episode) pause(work *sync.WaitGroup) {
	p := e.any()
	if p.service == nil {
		return
	}
	d := time.Duration(e.random.Int64N(int64(12 * time.Second)))
	e.tell("process %d is paused for %v", p.number, d)
	p.Pause()
	paused := p.Process
	work.Go(func() {
		time.Sleep(d)
		paused.Resume()
	})
}

// restoreSource puts a source back to what it is now, in a while.
func (e *episode) restoreSource(work *sync.WaitGroup) {
	name, db := e.some()
	older := db.Copy()
	d := time.Duration(3+e.random.IntN(10)) * time.Second
	work.Go(func() {
		time.Sleep(d)
		then, _ := older.Journal()
		// Where no mark tells, only another line of history does.
		db.Restore(older, !then.Behind(e.records.Claims()[name]))
		e.look(fmt.Sprintf("source %s was put back by %v, to %+v", name, d, then))
	})
}

// restoreRecords puts the records back to what they are now, in a while.
func (e *episode) restoreRecords(work *sync.WaitGroup) {
	older, claims := e.records.Copy(), e.records.Claims()
	d, on := time.Duration(3+e.random.IntN(10))*time.Second, e.random.IntN(2) == 0
	work.Go(func() {
		time.Sleep(d)
		for source, c := range e.records.Claims() {
			// A claim that has moved by less than two marks tells nobody anything.
			on = on || c.Epoch == claims[source].Epoch && c.Mark < claims[source].Mark+2
		}
		e.records.Restore(older, on)
		e.mu.Lock()
		e.forgot = time.Now()
		e.mu.Unlock()
		e.tell("the records were put back by %v", d)
	})
}

// write changes some rows in a transaction that may take its time, or be rolled back.
func (e *episode) write(work *sync.WaitGroup) {
	name, db := e.some()
	tx := db.Begin()
	var what []string
	for range 1 + e.random.IntN(4) {
		id := e.random.IntN(40)
		key := []string{strconv.Itoa(id)}
		switch n := e.random.IntN(10); {
		case n < 6:
			what = append(what, "write "+key[0])
			tx.Put("huts", key, e.hut(id))
		case n < 8:
			what = append(what, "delete "+key[0])
			tx.Put("huts", key, func(map[string]*string) map[string]*string { return nil })
		default:
			region, n := strconv.Itoa(e.random.IntN(4)), strconv.Itoa(e.random.IntN(100))
			what = append(what, "region "+region)
			tx.Put("regions", []string{region}, func(map[string]*string) map[string]*string {
				return map[string]*string{"id": &region, "n": &n}
			})
		}
	}
	wait := time.Duration(0)
	if e.random.IntN(3) == 0 {
		wait = time.Duration(e.random.Int64N(int64(8 * time.Second)))
	}
	if e.random.IntN(10) == 0 {
		return // rolled back
	}
	work.Go(func() {
		time.Sleep(wait)
		tx.Commit()
		e.look(name + ": " + strings.Join(what, ", "))
	})
}

func (e *episode) reindex(name string) {
	if _, err := e.records.NewEdition(context.Background(), shapes()[name], indexes[name].engine, 1); err != nil {
		e.Fatal(err)
	}
	e.tell("reindex of %s", name)
}

// look sees which documents have become others.
func (e *episode) look(what string) {
	e.tell("%s", what)
	now := time.Now()
	e.mu.Lock()
	defer e.mu.Unlock()
	for name, ix := range indexes {
		wanted := e.documents(name, e.sources[ix.source].Copy())
		for key := range e.wanted[name] {
			if wanted[key] != e.wanted[name][key] {
				e.changed[name+" "+key] = now
			}
		}
		for key := range wanted {
			if wanted[key] != e.wanted[name][key] {
				e.changed[name+" "+key] = now
			}
		}
		e.wanted[name] = wanted
	}
}

// documents are those that an index should have, in a plain form.
func (e *episode) documents(index string, db *tiny.Database) map[string]string {
	regions := map[string]string{}
	for _, row := range db.Rows("regions") {
		regions[*row["id"]] = *row["n"]
	}
	out := map[string]string{}
	for _, row := range db.Rows("huts") {
		doc := *row["n"]
		if index != "beds" {
			doc += " in " + regions[*row["region_id"]]
		}
		out[*row["id"]] = doc
	}
	return out
}

// stored are the documents that an edition has, in the same form.
func (e *episode) stored(index, edition string) map[string]string {
	ctx, eng := context.Background(), e.engines[indexes[index].engine]
	var keys []string
	if err := eng.Scan(ctx, edition, func(key, _ string) error { keys = append(keys, key); return nil }); err != nil {
		e.Fatal(err)
	}
	docs, err := eng.Get(ctx, edition, keys)
	if err != nil {
		e.Fatal(err)
	}
	out := map[string]string{}
	for key, doc := range docs {
		var d struct {
			N      json.Number
			Region *struct{ N json.Number }
		}
		if err := json.Unmarshal(doc, &d); err != nil {
			e.Fatal(err)
		}
		out[key] = d.N.String()
		if index != "beds" {
			out[key] += " in "
			if d.Region != nil {
				out[key] += d.Region.N.String()
			}
		}
	}
	return out
}

// differences are those between an edition and its source, but for failed documents. Of
// documents that became others after some time nothing is said.
func (e *episode) differences(index, edition string, after time.Time) (out []string) {
	failed := map[string]bool{}
	list, _ := e.records.Editions(context.Background())
	for _, r := range list {
		if r.Name() == edition {
			keys, _ := e.records.FailedKeys(context.Background(), r, "")
			for _, key := range keys {
				failed[key] = true
			}
		}
	}
	stored := e.stored(index, edition)
	e.mu.Lock()
	defer e.mu.Unlock()
	wanted := e.wanted[index]
	keys := map[string]bool{}
	for key := range stored {
		keys[key] = true
	}
	for key := range wanted {
		keys[key] = true
	}
	for _, key := range slices.Sorted(maps.Keys(keys)) {
		if stored[key] != wanted[key] && !failed[key] && !e.changed[index+" "+key].After(after) {
			out = append(
				out,
				fmt.Sprintf("%s %s: %q, in the source %q since %s", edition, key, stored[key], wanted[key],
					e.changed[index+" "+key].Format("04:05.000")),
			)
		}
	}
	return out
}

// staleness is how old the word of a process may be of what another one holds, and how long it
// may take until something is noticed, or is known not to be.
const staleness = 12 * time.Second

// probe asks a process how things stand, and whether that is so.
func (e *episode) probe(p *process) {
	e.mu.Lock()
	forgot := time.Since(e.forgot) < staleness // nobody knows which documents are failed
	e.mu.Unlock()
	if p.service == nil || p.Paused() || forgot {
		return
	}
	st := p.service.Status()
	for _, ix := range st.Indexes {
		if ix.State != api.StateInSync || ix.Edition == "" {
			continue
		}
		// The edition that the status tells of may have been replaced a moment ago.
		names, err := e.engines[indexes[ix.Name].engine].Resolve(context.Background(), ix.Name)
		if err != nil || len(names) != 1 {
			e.fail("process %d says that %s is in sync, which is answered by %v (%v)", p.number, ix.Name, names, err)
			return
		}
		if d := e.differences(ix.Name, names[0], time.Now().Add(-staleness)); len(d) > 0 {
			e.fail(
				"process %d says that %s is in sync: %s\n%s",
				p.number,
				ix.Name,
				ix.Sentence,
				strings.Join(d, "\n"),
			)
		}
	}
}

func (e *episode) fail(format string, args ...any) {
	e.mu.Lock()
	events := strings.Join(e.events, "\n")
	e.mu.Unlock()
	if e.Failed() {
		return // once is enough
	}
	e.Errorf("%s\nat %s, after:\n%s", fmt.Sprintf(format, args...), time.Now().Format("04:05.000"), events)
}

// end lets everything work, and waits until all is as it should be.
func (e *episode) end() {
	e.world.Calm()
	e.tell("calm")
	for _, p := range e.processes {
		if p.service == nil {
			e.start(p)
		}
	}
	var wrong []string
	for range 60 {
		time.Sleep(5 * time.Second)
		e.probe(e.any())
		if wrong = e.wrong(); len(wrong) == 0 || e.Failed() {
			return
		}
	}
	e.fail("five minutes after all was calm:\n%s", strings.Join(wrong, "\n"))
}

// wrong lists what is not as it should be.
func (e *episode) wrong() (out []string) {
	live := map[string]*records.Edition{}
	list, _ := e.records.Editions(context.Background())
	for _, r := range list {
		if r.State == reindex.Switched {
			live[r.Index] = r
		} else {
			out = append(out, fmt.Sprintf("%s is %s", r.Name(), r.State))
		}
	}
	for name, ix := range indexes {
		names, _ := e.engines[ix.engine].Resolve(context.Background(), name)
		if live[name] == nil || !slices.Equal(names, []string{live[name].Name()}) {
			out = append(out, fmt.Sprintf("%s is answered by %v", name, names))
			continue
		}
		out = append(out, e.differences(name, live[name].Name(), time.Now())...)
	}
	for name, db := range e.sources {
		if _, rows := db.Copy().Journal(); len(rows) > 0 {
			out = append(out, fmt.Sprintf("%d changes are left in the journal of %s", len(rows), name))
		}
	}
	st := e.any().service.Status()
	for _, ix := range st.Indexes {
		if ix.State != api.StateInSync {
			out = append(out, ix.Name+" is "+ix.State+": "+ix.Sentence)
		}
	}
	return out
}
