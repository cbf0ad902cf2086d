// Package receive takes in what is sent to sources: events, rows of files. Any process does, also
// one that does not hold the source.
package receive

import (
	"context"
	"fmt"
	"net/http"
	"time"

	"pingo/internal/api"
	"pingo/internal/core/definition"
	"pingo/internal/flow/connect"
	"pingo/internal/flow/inspect"
	"pingo/internal/source"
)

// Receiver takes in what is sent.
type Receiver struct{ Connections *connect.Connections }

// intake is that of a source, or says that there is none. An empty name is the only source to
// which something is sent.
func (r *Receiver) intake(name string) (source.Intake, error) {
	def := r.Connections.Definition()
	var known []string
	var found source.Intake
	for _, src := range def.Sources {
		opened := r.Connections.Source(src.Name)
		if opened == nil || opened.Intake == nil {
			continue
		}
		known = append(known, src.Name)
		if src.Name == name || name == "" {
			found = opened.Intake
		}
	}
	switch {
	case name == "" && len(known) > 1:
		return nil, &inspect.BadRequest{Err: fmt.Errorf("events are sent to the sources %v: name one", known)}
	case found == nil && len(known) == 0:
		return nil, fmt.Errorf(
			"%w: nothing is sent to any source of the definition in force",
			inspect.ErrUnknown,
		)
	case found == nil:
		return nil, fmt.Errorf(
			"%w: nothing is sent to a source %q: %s",
			inspect.ErrUnknown,
			name,
			definition.Nearest(name, known),
		)
	}
	return found, nil
}

// Limit is how many bytes a request to a source may have.
func (r *Receiver) Limit(name string) (int64, error) {
	in, err := r.intake(name)
	if err != nil {
		return 0, err
	}
	return in.Limit(), nil
}

// Receive takes in one request, and returns what it is answered with.
func (r *Receiver) Receive(
	ctx context.Context,
	name string,
	request source.Request,
) (status int, reply api.HookReply, err error) {
	in, err := r.intake(name)
	if err != nil {
		return 0, reply, err
	}
	got, err := in.Receive(ctx, request)
	if err != nil {
		return http.StatusServiceUnavailable, reply, fmt.Errorf(
			"what was sent could not be kept, so send it again: %w",
			err,
		)
	}
	reply.Receipts = []api.Receipt{}
	for _, receipt := range got.Receipts {
		switch receipt.Outcome {
		case source.Accepted:
			reply.Accepted++
			continue // the sender knows what it sent
		case source.Duplicate:
			reply.Duplicate++
			continue
		case source.Old:
			reply.Old++
			continue
		}
		reply.Refused++
		if len(reply.Receipts) < mostShown {
			reply.Receipts = append(reply.Receipts, shown(receipt))
		}
	}
	return got.Status, reply, nil
}

// mostShown bounds how many refused events an answer tells of.
const mostShown = 100

func shown(r source.Receipt) api.Receipt {
	return api.Receipt{
		Number: r.Seq, At: r.At, Event: r.Event, Record: r.Record, Key: r.Key, Op: r.Op, Outcome: string(r.Outcome),
		Reason: r.Reason, Bytes: r.Bytes, Line: r.Line, Events: r.Events,
	}
}

// Receipts lists the outcomes of events, the newest first, at most n of those below a number.
func (r *Receiver) Receipts(
	ctx context.Context,
	name string,
	below int64,
	n int,
	outcome string,
) ([]api.Receipt, error) {
	in, err := r.intake(name)
	if err != nil {
		return nil, err
	}
	list, err := in.Receipts(ctx, below, n, outcome)
	if err != nil {
		return nil, err
	}
	out := make([]api.Receipt, len(list))
	for i, receipt := range list {
		out[i] = shown(receipt)
	}
	return out, nil
}

// Held says what is held of each record of a source.
func (r *Receiver) Held(ctx context.Context, name string) ([]api.HeldRecord, error) {
	in, err := r.intake(name)
	if err != nil {
		return nil, err
	}
	list, err := in.Records(ctx)
	if err != nil {
		return nil, err
	}
	out := make([]api.HeldRecord, len(list))
	for i, h := range list {
		out[i] = api.HeldRecord{Record: h.Record, Rows: h.Rows, Deleted: h.Deleted, Newest: h.Newest}
	}
	return out, nil
}

// Sign gives the headers of a signed request with a body.
func (r *Receiver) Sign(name, id string, body []byte) (map[string]string, error) {
	in, err := r.intake(name)
	if err != nil {
		return nil, err
	}
	headers, err := in.Sign(id, time.Now(), body)
	if err != nil {
		return nil, &inspect.BadRequest{Err: err}
	}
	return headers, nil
}

// Load takes in rows of a file. It returns those that were not accepted, and how many were.
func (r *Receiver) Load(ctx context.Context, name, record string, rows []api.LoadedRow) (*api.Loaded, error) {
	in, err := r.intake(name)
	if err != nil {
		return nil, err
	}
	given := make([]source.Loaded, len(rows))
	for i, row := range rows {
		given[i] = source.Loaded{Line: row.Line, Body: row.Body}
	}
	receipts, err := in.Load(ctx, record, given)
	if err != nil {
		return nil, err
	}
	out := &api.Loaded{Refused: []api.Receipt{}}
	for _, receipt := range receipts {
		switch receipt.Outcome {
		case source.Accepted:
			out.Accepted++
		case source.Old:
			out.Old++
		default:
			out.Refused = append(out.Refused, shown(receipt))
		}
	}
	return out, nil
}

// BeginLoad is the time of the records' database, for EndLoad.
func (r *Receiver) BeginLoad(ctx context.Context, name, record string) (*api.LoadBegun, error) {
	in, err := r.intake(name)
	if err != nil {
		return nil, err
	}
	at, err := in.Clock(ctx, record)
	return &api.LoadBegun{Record: record, At: at}, err
}

// EndLoad deletes the records that were not loaded since a time. It returns how many.
func (r *Receiver) EndLoad(ctx context.Context, name string, begun api.LoadBegun) (int64, error) {
	in, err := r.intake(name)
	if err != nil {
		return 0, err
	}
	return in.Replace(ctx, begun.Record, begun.At)
}
