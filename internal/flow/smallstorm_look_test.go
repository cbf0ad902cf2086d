package flow_test

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"pingo/internal/api"
	"pingo/internal/core/reindex"
	"pingo/internal/records"
)

// look sees which documents have become others.
func (e *episode) look(what string) {
	e.tell("%s", what)
	now := time.Now()
	e.mu.Lock()
	defer e.mu.Unlock()
	for name, ix := range e.indexes {
		wanted := e.documents(ix)
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
func (e *episode) documents(ix index) map[string]string {
	out := map[string]string{}
	for prefix, from := range ix.rows {
		regions := map[string]string{}
		if from[1] != "" {
			e.sources[from[1]].Each("regions", func(row map[string]*string) { regions[*row["id"]] = *row["n"] })
		}
		e.sources[from[0]].Each("huts", func(row map[string]*string) {
			doc := *row["n"]
			if from[1] != "" {
				doc += " in " + regions[*row["region_id"]]
			}
			out[prefix+*row["id"]] = doc
		})
	}
	return out
}

// stored are the documents that an edition has, in the same form.
func (e *episode) stored(index, edition string) map[string]string {
	ctx, eng := context.Background(), e.engines[e.indexes[index].engine]
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
// documents that became others after some time nothing is reported.
func (e *episode) differences(index, edition string, after time.Time) (out []string) {
	failed := map[string]bool{}
	for _, r := range e.editions() {
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
	forgot := time.Since(e.forgot) < staleness // no one knows which documents are failed
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
		names, err := e.engines[e.indexes[ix.Name].engine].Resolve(context.Background(), ix.Name)
		if err != nil || len(names) != 1 {
			e.fail(
				"process %d says that %s is in sync, which is answered by %v (%v)",
				p.number,
				ix.Name,
				names,
				err,
			)
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

func (e *episode) editions() []*records.Edition {
	list, _ := e.records.Editions(context.Background())
	return list
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

// end lets everything work, and waits until all is right.
func (e *episode) end() {
	e.world.Calm()
	e.tell("calm")
	if _, there := e.indexes["places"]; there && !slices.ContainsFunc(e.editions(), func(r *records.Edition) bool { return r.Index == "places" }) {
		e.reindex("places")
	}
	for _, p := range e.processes {
		if p.service == nil {
			e.start(p)
		}
	}
	var wrong []string
	for range 60 {
		time.Sleep(5 * time.Second)
		e.decide()
		e.probe(e.any())
		if wrong = e.wrong(); len(wrong) == 0 || e.Failed() {
			return
		}
	}
	e.fail("five minutes after all was calm:\n%s", strings.Join(wrong, "\n"))
}

// wrong lists what is wrong.
func (e *episode) wrong() (out []string) {
	live := map[string]*records.Edition{}
	for _, r := range e.editions() {
		switch r.State {
		case reindex.Switched:
			live[r.Index] = r
		case reindex.Previous: // it can answer again at any time
			out = append(out, e.differences(r.Index, r.Name(), time.Now())...)
		default:
			out = append(out, fmt.Sprintf("%s is %s", r.Name(), r.State))
		}
	}
	for name, ix := range e.indexes {
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
