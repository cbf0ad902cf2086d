package connect

import (
	"context"
	"sync"
)

// Names are the turns to move the public names of an engine. The zero value is ready.
type Names struct {
	mu    sync.Mutex // guards turns
	turns map[string]Turn
}

// Turn is that of one name.
func (n *Names) Turn(name string) Turn {
	n.mu.Lock()
	defer n.mu.Unlock()
	if n.turns == nil {
		n.turns = map[string]Turn{}
	}
	if n.turns[name] == nil {
		n.turns[name] = make(Turn, 1)
	}
	return n.turns[name]
}

// Turn is the right to move a public name, for one at a time: a channel that holds one.
type Turn chan struct{}

// Take waits for the turn; false when the context ended.
func (t Turn) Take(ctx context.Context) bool {
	select {
	case t <- struct{}{}:
		return true
	case <-ctx.Done():
		return false
	}
}

// Give gives the turn back.
func (t Turn) Give() { <-t }
