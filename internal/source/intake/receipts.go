package intake

import (
	"context"
	"errors"
	"fmt"
	"time"

	"pingo/internal/source"
)

// OnlyReceipts is the intake of a source to which nothing is sent, since it is read: it has receipts
// of what could not be.
func OnlyReceipts(s *Store) source.Intake { return &receipts{s} }

type receipts struct{ *Store }

var errNotSent = errors.New("nothing is sent to this source: it is read")

func (r *receipts) Receive(context.Context, source.Request) (source.Reply, error) {
	return source.Reply{}, fmt.Errorf("%w: %w", source.ErrNoRecord, errNotSent)
}

func (r *receipts) Load(context.Context, string, []source.Loaded) ([]source.Receipt, error) {
	return nil, fmt.Errorf("%w: %w", source.ErrNoRecord, errNotSent)
}

func (r *receipts) Limit() int64 { return 1 << 10 }

func (r *receipts) Sign(string, time.Time, []byte) (map[string]string, error) { return nil, errNotSent }
