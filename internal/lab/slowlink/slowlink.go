// Package slowlink puts time between a client and a server on loopback, as a network does.
package slowlink

import (
	"errors"
	"io"
	"net"
	"sync"
	"sync/atomic"
	"time"
)

// Link is a proxy whose bytes arrive later than they were sent, in order.
type Link struct {
	listener net.Listener
	target   string
	delay    func() time.Duration
	turns    atomic.Int64

	mu    sync.Mutex // guards what follows
	conns map[net.Conn]bool
	ended bool
}

// Start listens on loopback for connections to a target. delay is how long bytes are on
// their way, each way; it is asked for each piece.
func Start(target string, delay func() time.Duration) (*Link, error) {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	l := &Link{listener: listener, target: target, delay: delay, conns: map[net.Conn]bool{}}
	go l.accept()
	return l, nil
}

// Addr is where it listens.
func (l *Link) Addr() string { return l.listener.Addr().String() }

// Turns is how often a client has spoken since its server did, or first: the round trips, of one connection after
// another.
func (l *Link) Turns() int64 { return l.turns.Load() }

// Close ends the link and all connections over it.
func (l *Link) Close() {
	l.listener.Close()
	l.mu.Lock()
	defer l.mu.Unlock()
	l.ended = true
	for c := range l.conns {
		c.Close()
	}
}

func (l *Link) accept() {
	for {
		client, err := l.listener.Accept()
		if err != nil {
			return
		}
		go l.connect(client)
	}
}

func (l *Link) connect(client net.Conn) {
	time.Sleep(l.delay())
	server, err := net.Dial("tcp", l.target)
	if err != nil {
		client.Close()
		return
	}
	l.mu.Lock()
	l.conns[client], l.conns[server] = true, true
	ended := l.ended
	l.mu.Unlock()
	if ended {
		l.Close()
	}
	var both sync.WaitGroup
	var asked atomic.Bool // and the server has not answered
	both.Go(func() {
		l.pass(client, server, func() {
			if !asked.Swap(true) {
				l.turns.Add(1)
			}
		})
	})
	both.Go(func() { l.pass(server, client, func() { asked.Store(false) }) })
	both.Wait()
	client.Close()
	server.Close()
	l.mu.Lock()
	delete(l.conns, client)
	delete(l.conns, server)
	l.mu.Unlock()
}

// piece is bytes in flight.
type piece struct {
	bytes []byte
	at    time.Time // when they arrive
}

// pass reads from one side, says so, and writes to the other, later. It closes the other for
// writing when there is no more.
func (l *Link) pass(from, to net.Conn, spoke func()) {
	pieces := make(chan piece, 1024)
	go func() {
		defer close(pieces)
		for {
			b := make([]byte, 32<<10)
			n, err := from.Read(b)
			if n > 0 {
				spoke()
				pieces <- piece{b[:n], time.Now().Add(l.delay())}
			}
			if err != nil {
				return
			}
		}
	}()
	for p := range pieces {
		time.Sleep(time.Until(p.at))
		if _, err := to.Write(p.bytes); err != nil {
			from.Close()
			for range pieces { // so that the reader ends
			}
			break
		}
	}
	if half, ok := to.(*net.TCPConn); ok {
		if err := half.CloseWrite(); err != nil && !errors.Is(err, io.EOF) {
			to.Close()
		}
	}
}
