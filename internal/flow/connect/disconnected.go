package connect

import (
	"context"
	"fmt"
	"maps"
	"net"
	"slices"
	"sync"
	"time"

	"pingo/internal/outgoing"
)

// Disconnected are the sources that a person disconnected for a time. The zero value has none.
type Disconnected struct {
	mu    sync.RWMutex // guards what follows
	until map[string]time.Time
}

// set replaces the sources, and returns those that are new.
func (d *Disconnected) set(sources map[string]time.Time) (fresh []string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	for _, name := range slices.Sorted(maps.Keys(sources)) {
		if _, already := d.until[name]; !already {
			fresh = append(fresh, name)
		}
	}
	d.until = sources
	return fresh
}

// Sentence says which of some sources is disconnected, and until when; it is empty if none is.
func (d *Disconnected) Sentence(sources ...string) string {
	d.mu.RLock()
	defer d.mu.RUnlock()
	for _, name := range sources {
		if until, is := d.until[name]; is {
			return fmt.Sprintf("%s is disconnected until %s. To reconnect now, run: pingo source connect %[1]s", name, until.UTC().Format("15:04:05 MST"))
		}
	}
	return ""
}

// dial connects to a source unless it is disconnected.
func (d *Disconnected) dial(source string, dial outgoing.Dialer) outgoing.Dialer {
	return func(ctx context.Context, network, address string) (net.Conn, error) {
		if reason := d.Sentence(source); reason != "" {
			return nil, &outgoing.ClosedError{Reason: reason}
		}
		return dial(ctx, network, address)
	}
}
