package alarm

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	cloudevents "github.com/cloudevents/sdk-go/v2"
	standardwebhooks "github.com/standard-webhooks/standard-webhooks/libraries/go"

	"pingo/internal/api"
	"pingo/internal/core/alert"
	"pingo/internal/outgoing"
	"pingo/internal/records"
)

// An event arrives once a receiver takes it, signed as others verify it; no log has the address.
func TestEventsAreSignedAndSentAgain(t *testing.T) {
	const secret = "whsec_MfKQ9r8GKYqrTwjUPD8ILPZIo2LaLaSw"
	verifier, err := standardwebhooks.NewWebhook(secret)
	if err != nil {
		t.Fatal(err)
	}
	var asked atomic.Int64
	taken := make(chan api.Alert, 1)
	receiver := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if asked.Add(1) < 3 {
			http.Redirect(w, r, "/elsewhere", http.StatusTemporaryRedirect)
			return
		}
		body, err := io.ReadAll(r.Body)
		if err == nil {
			err = verifier.Verify(body, r.Header)
		}
		var e cloudevents.Event
		var a api.Alert
		if err == nil {
			err = json.Unmarshal(body, &e)
		}
		if err == nil {
			err = e.DataAs(&a)
		}
		if err != nil || e.Type() != "pingo.index.alert" || e.Subject() != "huts" ||
			e.ID() != r.Header.Get("Webhook-Id") ||
			r.Header.Get("Content-Type") != "application/cloudevents+json" {
			t.Errorf("%v: %s", err, body)
		}
		taken <- a
	}))
	defer receiver.Close()
	var log bytes.Buffer
	to := Target{URL: receiver.URL + "/secret-path", Secret: secret}
	store := &memory{}
	a := &alarms{Options: Options{Target: func() (Target, error) { return to, nil }, Store: store, Log: slog.New(slog.NewTextHandler(&log, nil))}}
	a.send(t.Context(), outgoing.Client(nil, answerWithin, false), records.Alert{
		Index: "huts", About: alert.Differing, Raised: true, Sentence: "3 documents differ", Since: time.Now(),
	})
	if store.sent != 1 {
		t.Errorf("recorded as sent %d times", store.sent)
	}
	if a := <-taken; a.Index != "huts" || a.About != "differing" || !a.Raised || a.Sentence != "3 documents differ" ||
		asked.Load() != 3 {
		t.Errorf("%+v after %d requests", a, asked.Load())
	}
	if !strings.Contains(log.String(), "alert not sent yet") || strings.Contains(log.String(), "secret") {
		t.Error(log.String())
	}
	to.Secret = "no base64!"
	if err := post(t.Context(), outgoing.Client(nil, answerWithin, false), to, "1", nil); err == nil ||
		!strings.Contains(err.Error(), "none of Standard Webhooks") {
		t.Error(err)
	}
	to.Secret, to.URL = secret, "http://127.0.0.1:1/secret-path"
	if err := post(t.Context(), outgoing.Client(nil, answerWithin, false), to, "1", nil); err == nil || strings.Contains(err.Error(), "secret") {
		t.Error(err)
	}
}

// memory is a store of one alert, without a database.
type memory struct {
	mu             sync.Mutex
	alert          *records.Alert
	sender         string
	unsent         bool
	sent, recorded int
	down           bool // nothing can be recorded
}

func (m *memory) RaisedAlerts(context.Context) ([]records.Alert, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.alert == nil {
		return nil, nil
	}
	return []records.Alert{*m.alert}, nil
}

func (m *memory) SaveAlert(_ context.Context, process string, a records.Alert) (bool, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.down {
		return false, errors.New("the records do not answer")
	}
	if (m.alert != nil && m.alert.Raised) == a.Raised {
		return false, nil
	}
	m.alert, m.sender, m.unsent = &a, process, true
	m.recorded++
	return true, nil
}

func (m *memory) AlertSent(context.Context, records.Alert) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.sent++
	m.unsent = false
	return nil
}

func (m *memory) TakeOverAlerts(_ context.Context, process string) ([]records.Alert, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if !m.unsent || m.sender == process {
		return nil, nil
	}
	m.sender = process
	return []records.Alert{*m.alert}, nil
}

// An alert that a process raised before it was killed is ended by another one, once, and only when the index is known to be
// well again; what the killed process had not sent yet, the other one sends.
func TestAlertsOutliveTheirProcess(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		store := &memory{}
		var types []string
		receiver := func(ix *api.IndexStatus, process string, takes *bool, lasts time.Duration) {
			ctx, cancel := context.WithTimeout(t.Context(), lasts)
			defer cancel()
			Run(ctx, Options{
				Process: process, Store: store, Log: slog.New(slog.DiscardHandler),
				Indexes: func() []api.IndexStatus { return []api.IndexStatus{*ix} },
				Target: func() (Target, error) {
					if !*takes {
						return Target{Limits: alert.DefaultLimits}, errors.New("no target yet")
					}
					return Target{Limits: alert.DefaultLimits}, nil
				},
			})
			types = append(types, fmt.Sprintf("%s: recorded %d, sent %d", process, store.recorded, store.sent))
		}
		now := time.Now()
		takes := false
		ix := &api.IndexStatus{Name: "huts", State: api.StateInSync, Failed: 7, ReadAt: &now}
		receiver(ix, "A", &takes, time.Minute) // raised, and killed before it is sent
		takes = true
		receiver(&api.IndexStatus{Name: "huts", State: api.StateCatchingUp}, "B", &takes, time.Minute) // it knows nothing yet
		ix.Failed = 0
		receiver(ix, "B", &takes, time.Minute)
		receiver(ix, "C", &takes, time.Minute)
		want := []string{"A: recorded 1, sent 0", "B: recorded 1, sent 1", "B: recorded 2, sent 2", "C: recorded 2, sent 2"}
		if !slices.Equal(types, want) {
			t.Errorf("%q, want %q", types, want)
		}
	})
}

// While the records do not answer, an alert is logged and sent all the same, once; then it is recorded.
func TestAlertsWithoutRecords(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		store, now := &memory{down: true}, time.Now()
		var log bytes.Buffer
		ctx, cancel := context.WithCancel(t.Context())
		ended := make(chan struct{})
		go func() {
			defer close(ended)
			Run(ctx, Options{
				Process: "A", Store: store, Log: slog.New(slog.NewTextHandler(&log, nil)),
				Indexes: func() []api.IndexStatus {
					return []api.IndexStatus{{Name: "huts", State: api.StateInSync, Failed: 7, ReadAt: &now}}
				},
				Target: func() (Target, error) { return Target{Limits: alert.DefaultLimits}, nil },
			})
		}()
		time.Sleep(2 * time.Minute)
		synctest.Wait()
		if store.sent != 1 || strings.Count(log.String(), "msg=alert ") != 1 {
			t.Errorf("sent %d times without the records, and logged:\n%s", store.sent, log.String())
		}
		store.mu.Lock()
		store.down = false
		store.mu.Unlock()
		time.Sleep(time.Minute)
		cancel()
		<-ended
		if store.recorded != 1 || store.unsent || strings.Count(log.String(), "msg=alert ") != 1 {
			t.Errorf("recorded %d times, to be sent again: %v, and logged:\n%s", store.recorded, store.unsent, log.String())
		}
	})
}

func TestReadings(t *testing.T) {
	for want, ix := range map[string]api.IndexStatus{
		"":           {ReadAt: new(time.Time), State: api.StateInSync, LagMS: 5000, Drift: &api.DriftStatus{}},
		"lag ":       {State: api.StateCatchingUp, LagMS: 61_000},
		"failed ":    {State: api.StateInSync, Failed: 1},
		"differing ": {State: api.StateDiffers, Drift: &api.DriftStatus{Differing: 2}},
		"blocked ":   {State: api.StateBlocked, Sentence: "100% full"},
	} {
		got := ""
		for _, r := range readings([]api.IndexStatus{ix}, alert.DefaultLimits) {
			if r.Over {
				got += r.What + " "
			}
			if r.What == alert.Blocked && (r.Holds != time.Minute || r.Sentence != ix.Sentence) {
				t.Errorf("%+v", r)
			}
		}
		if got != want {
			t.Errorf("%q instead of %q", got, want)
		}
	}
}
