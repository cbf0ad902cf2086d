package flow

import (
	"encoding/json"
	"log/slog"
	"strings"
	"testing"
	"time"

	"pingo/internal/api"
	"pingo/internal/core/definition"
	"pingo/internal/core/reindex"
	"pingo/internal/flow/connect"
	"pingo/internal/flow/deliver"
	"pingo/internal/flow/lease"
	"pingo/internal/flow/rebuild"
	"pingo/internal/kinds"
	"pingo/internal/lab/model"
	"pingo/internal/records"
)

// An index is reported from the moment that it is applied, whether a process feeds it, or
// has told of it, or not.
func TestEveryIndexOfTheDefinitionHasAState(t *testing.T) {
	s := &Service{connections: connect.New(kinds.All(), "", connect.Everything, nil), ready: make(chan struct{}), held: map[string]*holder{}}
	def, findings := s.connections.Parse([]definition.File{{Name: "pingo.yaml", Text: `
sources:
  lodge: { kind: postgres, url: "postgres://pingo@127.0.0.1:1/lodge" }
engines:
  main: { kind: opensearch, url: "http://127.0.0.1:1" }
indexes:
  huts: { engine: main, rows: lodge.huts, fields: [name] }
`}})
	if len(findings) > 0 {
		t.Fatal(findings)
	}
	change, err := s.connections.Prepare(def)
	if err != nil {
		t.Fatal(err)
	}
	s.connections.Use(change)
	defer s.connections.CloseSource("lodge")
	s.applied = &records.Applied{Version: 1}
	told := func(leases ...lease.State) {
		t.Helper()
		s.keepStatuses(nil, leases)
		st := s.Status()
		if len(st.Indexes) != 1 || st.Indexes[0].Name != "huts" || st.Indexes[0].Engine != "main" ||
			st.State != api.StateWaiting || !strings.Contains(st.Sentence, "huts is waiting") {
			t.Errorf("%+v: %+v", leases, st)
		}
	}
	if st := s.Status(); st.State != api.StateWaiting || !strings.Contains(st.Sentence, "has just started") {
		t.Errorf("before the definition is read: %+v", st)
	}
	close(s.ready)
	told()
	told(lease.State{Lease: &records.Lease{Source: "lodge"}, Free: true, Since: time.Now()})
	told(lease.State{Lease: &records.Lease{Source: "lodge", Holder: "another"}, Since: time.Now()})

	// What the holder before has said last is none of the present one's words (small storm, seed 50200191).
	status, err := json.Marshal(heldStatus{
		By: "before", Indexes: []api.IndexStatus{{Name: "huts", Engine: "main", State: api.StateInSync}}, Source: api.SourceStatus{},
	})
	if err != nil {
		t.Fatal(err)
	}
	told(lease.State{
		Lease: &records.Lease{Source: "lodge", Holder: "another", Status: status}, Since: time.Now(), Heard: time.Now(),
	})
}

// That changes are missing in an edition is not forgotten over a list of editions that was read
// before it was recorded (small storm, seed 6106262).
func TestWhatIsMissingIsNotForgotten(t *testing.T) {
	record := &records.Edition{Index: "huts", Number: 1, State: reindex.Switched, Shape: model.Shape()}
	f := &fed{record: record}
	log := slog.New(slog.DiscardHandler)
	f.Edition = deliver.New(record, nil, &connect.Engine{}, nil, nil, log)
	f.Fill = rebuild.New(rebuild.Options{Record: record, Edition: f.Edition, Log: log})
	h := &holder{sources: sources{{name: "lodge"}}, editions: map[editionName]*fed{{"huts", 1}: f}}
	s := &Service{held: map[string]*holder{"lodge": h}, connections: connect.New(kinds.All(), "", connect.Everything, nil)}
	older := []records.EditionState{{Index: "huts", Number: 1, State: reindex.Switched, Source: "lodge"}}
	f.Edition.Missed.Note(&records.Missed{Reason: "the source was put back", Refill: true})
	if err := s.followEditions(t.Context(), older); err != nil {
		t.Fatal(err)
	}
	if f.Edition.Missed.Load() == nil {
		t.Error("forgotten")
	}
}
