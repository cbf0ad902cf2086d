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
	"github.com/google/uuid"
	standardwebhooks "github.com/standard-webhooks/standard-webhooks/libraries/go"

	"pingo/internal/api"
	"pingo/internal/core/alert"
	"pingo/internal/core/retry"
	"pingo/internal/core/stats"
	"pingo/internal/outgoing"
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
	// answerWithin bounds one try.
	answerWithin = 10 * time.Second
)

// Run watches indexes until the context ends. Events are sent by connections that dial makes.
func Run(
	ctx context.Context,
	indexes func() []api.IndexStatus,
	target func() (Target, error),
	dial outgoing.Dialer,
	log *slog.Logger,
) {
	client := outgoing.Client(dial, answerWithin, false) // a signed event is for the address that the definition has
	var watch alert.Watch
	waiting := make(chan alert.Event, mostWaiting)
	sent := make(chan struct{})
	go func() {
		defer close(sent)
		for {
			select {
			case <-ctx.Done():
				return
			case e := <-waiting:
				send(ctx, client, e, target, log)
			}
		}
	}()
	var trouble stats.TroubleSpot // so that what lasts is said once
	for retry.Sleep(ctx, lookEvery) {
		to, err := target()
		switch {
		case err == nil:
			trouble.Clear()
		case trouble.Report(err.Error(), true):
			log.Warn("alerts are not sent", "reason", err)
		}
		now := time.Now()
		for _, e := range watch.Look(now, readings(indexes(), to.Limits)) {
			level, message := slog.LevelInfo, "alert over"
			if e.Raised {
				level, message = slog.LevelWarn, "alert"
			}
			log.Log(ctx, level, message, "index", e.Index, "about", e.What, "reason", e.Sentence, "since", e.Since)
			if to.URL == "" {
				continue
			}
			select {
			case waiting <- e:
			default:
				log.Error("alert not sent: too many wait", "index", e.Index, "about", e.What)
			}
		}
	}
	<-sent
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
		lag := time.Duration(ix.LagMS * float64(time.Millisecond))
		add(
			alert.Lag,
			lag > limits.Lag,
			"the oldest change that is not in the engine is %s old, and may be %s",
			lag.Round(time.Second),
			limits.Lag,
		)
		add(
			alert.Failed,
			ix.Failed > limits.Failed,
			"there are %d failed documents, and may be %d",
			ix.Failed,
			limits.Failed,
		)
		differing := int64(0)
		if ix.Drift != nil {
			differing = ix.Drift.Differing
		}
		add(
			alert.Differing,
			differing > limits.Differing,
			"%d documents are not what their rows make, and may be %d",
			differing,
			limits.Differing,
		)
		add(alert.Blocked, ix.State == api.StateBlocked || ix.State == api.StateWaiting, "%s", ix.Sentence)
		out[len(out)-1].Holds = limits.Blocked
	}
	return out
}

// send sends one event, and tries again for a while.
func send(ctx context.Context, client *http.Client, e alert.Event, target func() (Target, error), log *slog.Logger) {
	event := cloudevents.NewEvent()
	event.SetID(uuid.NewString())
	event.SetSource("pingo")
	event.SetSubject(e.Index)
	event.SetTime(time.Now())
	event.SetType("pingo.index.over")
	if e.Raised {
		event.SetType("pingo.index.alert")
	}
	err := event.SetData(cloudevents.ApplicationJSON, api.Alert{
		Index: e.Index, About: e.What, Raised: e.Raised, Sentence: e.Sentence, Since: e.Since,
	})
	var body []byte
	if err == nil {
		body, err = json.Marshal(event)
	}
	if err != nil {
		log.Error("alert not written", "reason", err)
		return
	}
	within, stop := context.WithTimeout(ctx, tryFor)
	defer stop()
	err = retry.Until(within, func() error {
		to, err := target()
		if err != nil || to.URL == "" {
			return err
		}
		return post(within, client, to, event.ID(), body)
	}, func(err error, failures int) {
		if failures == 2 {
			log.Warn("alert not sent yet", "index", e.Index, "about", e.What, "reason", err)
		}
	})
	if err != nil && ctx.Err() == nil {
		log.Error("alert given up", "index", e.Index, "about", e.What)
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
