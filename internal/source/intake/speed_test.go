package intake_test

import (
	"context"
	"fmt"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"pingo/internal/core/shape"
	"pingo/internal/lab/pgtest"
	"pingo/internal/records"
	"pingo/internal/source/intake"
)

func TestMain(m *testing.M) { pgtest.Main(m) }

func TestSpeed(t *testing.T) {
	url := pgtest.URL(t)
	rec, err := records.Open(t.Context(), url)
	if err != nil {
		t.Fatal(err)
	}
	rec.Close()
	for _, trig := range []bool{false, true} {
		s, err := intake.Open(url, "x", []intake.Record{{Name: "b", Schema: []byte(`{"properties":{"title":{"type":"string"}}}`)}}, time.Second)
		if err != nil {
			t.Fatal(err)
		}
		if trig {
			if _, err := s.Source().Capture.Install(t.Context(), "o", []shape.Captured{{Table: shape.Ref{Schema: "intake_x", Name: "b@1"}}}); err != nil {
				t.Fatal(err)
			}
		}
		var n atomic.Int64
		var done atomic.Int64
		began := time.Now()
		var wg sync.WaitGroup
		for range 4 {
			wg.Go(func() {
				for time.Since(began) < 4*time.Second {
					events := make([]intake.Event, 1000)
					for i := range events {
						k := n.Add(1)
						events[i] = intake.Event{ID: fmt.Sprintf("%v s %d", trig, k), Record: "b", Key: fmt.Sprintf("%v%d", trig, k), Op: intake.Updated, Version: "5", Body: []byte(`{"title": "Fresh snow at peak", "snow_cm": 4, "way_open": true, "hazards": ["ice", "fog"], "station": "station 9"}`)}
					}
					if _, err := s.Accept(context.Background(), events); err != nil {
						t.Error(err)
						return
					}
					done.Add(1000)
				}
			})
		}
		wg.Wait()
		fmt.Println("triggers", trig, float64(done.Load())/time.Since(began).Seconds())
		s.Close()
	}
}
