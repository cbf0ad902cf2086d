package alarm

import (
	"bytes"
	"encoding/json"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	cloudevents "github.com/cloudevents/sdk-go/v2"
	standardwebhooks "github.com/standard-webhooks/standard-webhooks/libraries/go"

	"pingo/internal/api"
	"pingo/internal/core/alert"
	"pingo/internal/outgoing"
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
	send(t.Context(), outgoing.Client(nil, answerWithin, false), alert.Event{
		Reading: alert.Reading{
			Index:    "huts",
			What:     alert.Differing,
			Over:     true,
			Sentence: "3 documents differ",
		}, Raised: true, Since: time.Now(),
	}, func() (Target, error) { return to, nil }, slog.New(slog.NewTextHandler(&log, nil)))
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

func TestReadings(t *testing.T) {
	for want, ix := range map[string]api.IndexStatus{
		"":           {State: api.StateInSync, LagMS: 5000, Drift: &api.DriftStatus{}},
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
