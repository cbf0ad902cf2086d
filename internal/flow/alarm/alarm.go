// Package alarm tells people, in the log and through a webhook, when indexes pass limits and when that is over.
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
	"net/url"
	"time"

	cloudevents "github.com/cloudevents/sdk-go/v2"
	"github.com/dustin/go-humanize/english"
	"github.com/google/uuid"
	standardwebhooks "github.com/standard-webhooks/standard-webhooks/libraries/go"

	"pingo/internal/api"
	"pingo/internal/core/alert"
	"pingo/internal/core/retry"
	"pingo/internal/core/stats"
	"pingo/internal/outgoing"
	"pingo/internal/records"
)

// Target is where events are sent.
type Target struct {
	// URL is empty when they are only logged. Secret signs them, as Standard Webhooks has it.
	URL, Secret string
	Limits      alert.Limits
}

const (
	lookEvery = 2 * time.Second
	// mostWaiting events wait to be sent; more are only logged.
	mostWaiting = 100
	// tryFor is how long sending one is tried.
	tryFor = 10 * time.Minute
	// unsavedFor is how long an event that cannot be recorded is held back: another process may have told it.
	unsavedFor = 30 * time.Second
	// takeOverEvery is how often a process looks for alerts that another one could not send.
	takeOverEvery = 10 * time.Second
	// answerWithin bounds one try.
	answerWithin = 10 * time.Second
)

// Store records alerts, so that any process can say when one is over, and sends what another one could not.
type Store interface {
	RaisedAlerts(ctx context.Context) ([]records.Alert, error)
	SaveAlert(ctx context.Context, process string, a records.Alert) (news bool, err error)
	AlertSent(ctx context.Context, a records.Alert) error
	TakeOverAlerts(ctx context.Context, process string) ([]records.Alert, error)
}

// Options say what is watched, and where alerts are sent.
type Options struct {
	// Process is the name of this process in the records.
	Process string
	Indexes func() []api.IndexStatus
	Target  func() (Target, error)
	// Dial makes the connections that events are sent by.
	Dial  outgoing.Dialer
	Store Store
	Log   *slog.Logger
}

// alarms is what Run works with.
type alarms struct {
	Options
	watch alert.Watch
	// unsaved events could not be recorded yet; waiting ones are to be sent.
	unsaved []unsaved
	waiting chan records.Alert
}

// unsaved is an event that could not be recorded yet.
type unsaved struct {
	records.Alert
	at   time.Time // when it occurred
	told bool
}

// Run watches indexes until the context ends. Every process watches all indexes; the one that records an event
// sends it. While the records do not answer, each process sends what it sees.
func Run(ctx context.Context, o Options) {
	a := &alarms{Options: o, waiting: make(chan records.Alert, mostWaiting)}
	client := outgoing.Client(o.Dial, answerWithin, false) // a signed event is for the address that the definition has
	sent := make(chan struct{})
	go func() {
		defer close(sent)
		for {
			select {
			case <-ctx.Done():
				return
			case e := <-a.waiting:
				a.send(ctx, client, e)
			}
		}
	}()
	defer func() { <-sent }()
	var raised []records.Alert
	err := retry.Until(ctx, func() (err error) {
		raised, err = o.Store.RaisedAlerts(ctx)
		return err
	}, func(error, int) {})
	if err != nil {
		return // the context has ended
	}
	for _, r := range raised {
		a.watch.Restore(alert.Reading{Index: r.Index, What: r.About, Over: true, Sentence: r.Sentence}, r.Since)
	}
	var trouble, unrecorded stats.TroubleSpot // so that a lasting failure is logged once
	var tookOver time.Time
	for retry.Sleep(ctx, lookEvery) {
		to, err := o.Target()
		switch {
		case err == nil:
			trouble.Clear()
		case trouble.Report(err.Error(), true):
			o.Log.Warn("alerts are not sent", "reason", err)
		}
		now := time.Now()
		for _, e := range a.watch.Look(now, readings(o.Indexes(), to.Limits)) {
			a.unsaved = append(a.unsaved, unsaved{at: now, Alert: records.Alert{
				Index: e.Index, About: e.What, Raised: e.Raised, Sentence: e.Sentence, Since: e.Since,
			}})
		}
		err = a.save(ctx)
		if err == nil && time.Since(tookOver) > takeOverEvery {
			tookOver = time.Now()
			err = a.takeOver(ctx)
		}
		switch {
		case err == nil:
			unrecorded.Clear()
		case ctx.Err() == nil && unrecorded.Report(err.Error(), true):
			o.Log.Warn("alerts not recorded", "reason", err)
		}
	}
}

// save records events, and sends those that are new. Events that cannot be recorded for long are sent as well.
func (a *alarms) save(ctx context.Context) error {
	for len(a.unsaved) > 0 {
		e := a.unsaved[0]
		news, err := a.Store.SaveAlert(ctx, a.Process, e.Alert)
		if err != nil {
			a.tellUnsaved(ctx)
			return err
		}
		a.unsaved = a.unsaved[1:]
		switch {
		case news && e.told:
			a.noteSent(ctx, e.Alert)
		case news:
			a.tell(ctx, e.Alert)
		}
	}
	return nil
}

// tellUnsaved tells events that could not be recorded for unsavedFor, once each. Other processes may tell them as well.
func (a *alarms) tellUnsaved(ctx context.Context) {
	for i := range a.unsaved {
		if e := &a.unsaved[i]; !e.told && (time.Since(e.at) >= unsavedFor || len(a.unsaved) > mostWaiting) {
			e.told = true
			a.tell(ctx, e.Alert)
		}
	}
	a.unsaved = a.unsaved[max(0, len(a.unsaved)-mostWaiting):]
}

// tell logs and sends an alert.
func (a *alarms) tell(ctx context.Context, r records.Alert) {
	level, message := slog.LevelInfo, "alert over"
	if r.Raised {
		level, message = slog.LevelWarn, "alert"
	}
	a.Log.Log(ctx, level, message, "index", r.Index, "about", r.About, "reason", r.Sentence, "since", r.Since)
	a.queue(r)
}

// takeOver sends what processes that ended had to send.
func (a *alarms) takeOver(ctx context.Context) error {
	list, err := a.Store.TakeOverAlerts(ctx, a.Process)
	for _, r := range list {
		a.queue(r)
	}
	return err
}

func (a *alarms) queue(r records.Alert) {
	select {
	case a.waiting <- r:
	default:
		a.Log.Error("alert not sent: too many wait", "index", r.Index, "about", r.About)
	}
}

// readings say how indexes stand towards limits.
func readings(indexes []api.IndexStatus, limits alert.Limits) []alert.Reading {
	var out []alert.Reading
	for i := range indexes {
		ix := &indexes[i]
		add := func(what string, over bool, sentence string, args ...any) {
			out = append(
				out,
				alert.Reading{Index: ix.Name, What: what, Over: over, Sentence: fmt.Sprintf(sentence, args...)},
			)
		}
		first := len(out)
		lag := time.Duration(ix.LagMS * float64(time.Millisecond))
		add(
			alert.Lag,
			lag > limits.Lag,
			"the oldest change that is not in the engine is %s old; the limit is %s",
			lag.Round(time.Second),
			limits.Lag,
		)
		add(
			alert.Failed,
			ix.Failed > limits.Failed,
			"%s failed; the limit is %d",
			english.Plural(int(ix.Failed), "document", ""),
			limits.Failed,
		)
		differing := int64(0)
		if ix.Drift != nil {
			differing = ix.Drift.Differing
		}
		add(
			alert.Differing,
			differing > limits.Differing,
			"%s not what the rows make; the limit is %d",
			english.Plural(int(differing), "document is", "documents are"),
			limits.Differing,
		)
		for i := first; i < len(out); i++ { // a process that has just begun knows nothing of these yet
			out[i].Unknown = ix.ReadAt == nil
		}
		add(alert.Blocked, ix.State == api.StateBlocked || ix.State == api.StateWaiting, "%s", ix.Sentence)
		out[len(out)-1].Holds = limits.Blocked
	}
	return out
}

// send sends one event, and tries again for a while. Without a target the log has told it.
func (a *alarms) send(ctx context.Context, client *http.Client, r records.Alert) {
	event := cloudevents.NewEvent()
	event.SetID(uuid.NewString())
	event.SetSource("pingo")
	event.SetSubject(r.Index)
	event.SetTime(time.Now())
	event.SetType("pingo.index.over")
	if r.Raised {
		event.SetType("pingo.index.alert")
	}
	err := event.SetData(cloudevents.ApplicationJSON, api.Alert{
		Index: r.Index, About: r.About, Raised: r.Raised, Sentence: r.Sentence, Since: r.Since,
	})
	var body []byte
	if err == nil {
		body, err = json.Marshal(event)
	}
	if err != nil {
		a.Log.Error("alert not written", "reason", err)
		return
	}
	within, stop := context.WithTimeout(ctx, tryFor)
	defer stop()
	err = retry.Until(within, func() error {
		to, err := a.Target()
		if err != nil || to.URL == "" {
			return err
		}
		return post(within, client, to, event.ID(), body)
	}, func(err error, failures int) {
		if failures == 2 {
			a.Log.Warn("alert not sent yet", "index", r.Index, "about", r.About, "reason", err)
		}
	})
	if err != nil && ctx.Err() != nil {
		return // another process takes it over
	}
	if err != nil {
		a.Log.Error("alert given up", "index", r.Index, "about", r.About)
	}
	a.noteSent(ctx, r)
}

// noteSent records that an alert was sent.
func (a *alarms) noteSent(ctx context.Context, r records.Alert) {
	if err := a.Store.AlertSent(ctx, r); err != nil && ctx.Err() == nil {
		a.Log.Warn("alert not recorded as sent", "index", r.Index, "about", r.About, "reason", err)
	}
}

func post(ctx context.Context, client *http.Client, to Target, id string, body []byte) error {
	signer, err := standardwebhooks.NewWebhook(to.Secret)
	if err != nil {
		return fmt.Errorf("the secret of the alerts is none of Standard Webhooks (whsec_ and base64): %w", err)
	}
	now := time.Now()
	signature, err := signer.Sign(id, now, body)
	if err != nil {
		return err
	}
	r, err := http.NewRequestWithContext(ctx, http.MethodPost, to.URL, bytes.NewReader(body))
	if err != nil {
		return fmt.Errorf("the address of the alerts cannot be read")
	}
	r.Header.Set("Content-Type", cloudevents.ApplicationCloudEventsJSON)
	r.Header.Set("Webhook-Id", id)
	r.Header.Set("Webhook-Timestamp", fmt.Sprint(now.Unix()))
	r.Header.Set("Webhook-Signature", signature)
	answer, err := client.Do(r)
	if err != nil {
		var failed *url.Error
		if errors.As(err, &failed) { // without the address, which may hold a secret
			err = failed.Err
		}
		return fmt.Errorf("the receiver of alerts does not answer: %w", err)
	}
	defer answer.Body.Close()
	_, _ = io.Copy(io.Discard, io.LimitReader(answer.Body, 64<<10)) // so that the connection is used again
	if answer.StatusCode > 299 {
		return fmt.Errorf("the receiver of alerts answered %s", answer.Status)
	}
	return nil
}
