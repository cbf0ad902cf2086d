// Package faults puts a seeded scheduler between the flow and models of all that it talks to.
// Of every call it decides how long the call and the answer are in flight, whether it
// fails before or after it was carried out, or is never answered; and it kills, pauses and cuts
// off the processes that make them. It runs in virtual time, inside of a synctest bubble.
package faults

import (
	"context"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"sync"
	"time"

	"github.com/cespare/xxhash/v2"
)

// World decides by its seed the outcome of each call.
type World struct {
	seed   uint64
	trace  io.Writer // nil for none
	began  time.Time
	faulty map[string]float64       // the share of calls to a peer that fail, from 0 to 1
	slow   map[string]time.Duration // how long they take, at most, but for a few

	mu     sync.Mutex // guards what follows
	counts map[string]uint64
	calm   bool
	calls  uint64 // the sum of hashes of what was called, and when
}

// NewWorld makes a world; all that happens in it follows from its seed. Each call is written to
// trace, unless that is nil.
func NewWorld(seed uint64, trace io.Writer) *World {
	r := rand.New(rand.NewPCG(seed, 1))
	w := &World{seed: seed, trace: trace, began: time.Now(), counts: map[string]uint64{}}
	w.faulty, w.slow = map[string]float64{}, map[string]time.Duration{}
	for _, peer := range []string{"records", "source", "engine"} {
		w.faulty[peer] = []float64{0, 0.01, 0.05, 0.2}[r.IntN(4)]
		w.slow[peer] = []time.Duration{time.Millisecond, 20 * time.Millisecond, 200 * time.Millisecond, time.Second}[r.IntN(4)]
	}
	return w
}

// Calm makes every call succeed without delay from now on.
func (w *World) Calm() {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.calm = true
}

// Trace is a number that tells two runs apart.
func (w *World) Trace() uint64 {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.calls
}

// fate is the outcome of a call.
type fate struct {
	there, back time.Duration
	fails       failure
	// half: of what can be carried out in parts, only the first half is.
	half bool
}

type failure int

const (
	works     failure = iota
	failsSoon         // and nothing is carried out
	failsLate         // it is carried out, and its answer is lost
	silent            // it is carried out, and answered after the caller has given up
)

// noAnswer is how long a caller waits for an answer that does not come.
const noAnswer = 20 * time.Second

func (w *World) fate(p *Process, peer, call string) fate {
	name := p.name + " " + peer + " " + call
	w.mu.Lock()
	defer w.mu.Unlock()
	w.counts[name]++
	n := w.counts[name]
	r := rand.New(rand.NewPCG(w.seed, xxhash.Sum64String(name)+n))
	f := fate{there: jitter(r), back: jitter(r)}
	if !w.calm {
		most := int64(w.slow[peer])
		f.there += time.Duration(r.Int64N(most))
		f.back += time.Duration(r.Int64N(most))
		if r.IntN(50) == 0 { // something is held up on the way
			f.there += time.Duration(r.Int64N(int64(4 * time.Second)))
		}
		if r.Float64() < w.faulty[peer] {
			f.fails = failure(1 + r.IntN(3))
			f.half = r.IntN(3) == 0
		}
	}
	now := time.Since(w.began)
	w.calls += xxhash.Sum64String(fmt.Sprintf("%s %d %d", name, n, now)) // in any order at one moment
	if w.trace != nil {
		fmt.Fprintf(w.trace, "%12.6f %s #%d %+v\n", now.Seconds(), name, n, f)
	}
	return f
}

// jitter is short, and hardly ever the same twice: what happens at the same moment may happen
// in any order.
func jitter(r *rand.Rand) time.Duration {
	return time.Duration(1 + r.Int64N(int64(400*time.Microsecond)))
}

// Process is one that talks to the world.
type Process struct {
	world *World
	name  string

	mu      sync.Mutex // guards what follows
	dead    bool
	resumed chan struct{}        // closed when it is not paused
	cut     map[string]time.Time // until when it does not reach a peer
}

// Process is a new one.
func (w *World) Process(name string) *Process {
	p := &Process{world: w, name: name, resumed: make(chan struct{}), cut: map[string]time.Time{}}
	close(p.resumed)
	return p
}

// Kill ends a process: nothing that it begins from now on has an effect. What is on the way
// arrives.
func (p *Process) Kill() {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.dead = true
}

// Pause stops a process before its next step, until Resume.
func (p *Process) Pause() {
	p.mu.Lock()
	defer p.mu.Unlock()
	select {
	case <-p.resumed:
		p.resumed = make(chan struct{})
	default: // it is paused already
	}
}

// Paused reports whether the process is paused.
func (p *Process) Paused() bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	select {
	case <-p.resumed:
		return false
	default:
		return true
	}
}

// Resume lets a paused process go on.
func (p *Process) Resume() {
	p.mu.Lock()
	defer p.mu.Unlock()
	select {
	case <-p.resumed:
	default:
		close(p.resumed)
	}
}

// Cut keeps a process from reaching a peer for some time.
func (p *Process) Cut(peer string, d time.Duration) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.cut[peer] = time.Now().Add(d)
}

var (
	errDead   = errors.New("the process is dead")
	errFault  = errors.New("connection lost")
	errSilent = errors.New("no answer")
)

// awake waits while the process is paused, and reports whether it is alive. Those who waited go
// on one after the other, each at its own moment, so that their order is always the same.
func (p *Process) awake(name string) bool {
	for {
		p.mu.Lock()
		dead, resumed := p.dead, p.resumed
		p.mu.Unlock()
		if dead {
			return false
		}
		select {
		case <-resumed:
			return true
		default:
		}
		<-resumed
		r := rand.New(rand.NewPCG(p.world.seed, xxhash.Sum64String(p.name+" awakes "+name)))
		time.Sleep(jitter(r))
	}
}

func (p *Process) reaches(peer string) bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	return !time.Now().Before(p.cut[peer])
}

// call carries something out in the world, as fate has it. do receives whether it is to be done
// by half. What a call gives is for who called alone.
func call[T any](ctx context.Context, p *Process, peer, name string, do func(half bool) (T, error)) (T, error) {
	type answer struct {
		value T
		err   error
	}
	var none T
	if !p.awake(name) {
		return none, errDead
	}
	if err := ctx.Err(); err != nil {
		return none, err
	}
	f := p.world.fate(p, peer, name)
	answers := make(chan answer, 1)
	go func() {
		time.Sleep(f.there)
		var a answer
		if f.fails == failsSoon || !p.reaches(peer) {
			a.err = errFault
		} else {
			a.value, a.err = do(f.half)
		}
		time.Sleep(f.back)
		switch {
		case f.fails == silent:
			time.Sleep(noAnswer)
			a.err = errSilent
		case f.fails == failsLate:
			a.err = errFault
		}
		answers <- a
	}()
	select {
	case <-ctx.Done():
		return none, ctx.Err()
	case a := <-answers:
		if !p.awake(name + ", answered") {
			return none, errDead
		}
		if a.err != nil {
			return none, a.err
		}
		return a.value, nil
	}
}

// do is call for what gives nothing.
func (p *Process) do(ctx context.Context, peer, name string, do func() error) error {
	_, err := call(ctx, p, peer, name, func(bool) (struct{}, error) { return struct{}{}, do() })
	return err
}
