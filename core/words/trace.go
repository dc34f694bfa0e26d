// Package words tells what happened to a connection: the events of a walk as sentences (words.go), the rules that nearly matched
// (near.go), each rule that was met (candidates.go), what can be done (remedy.go). Read TraceOf first.
package words

import (
	"fmt"

	"hollowbridge/core/engine"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
	"hollowbridge/core/walk"
)

// A Trace is a verdict with everything that led to it.
type Trace struct {
	Connection walk.Connection
	walk.Verdict
	Steps  []Step
	Why    []string           // sentences, for any outcome but reached
	Stood  Standing           // where it stood at the last gateway on the way in
	Passed []*network.Gateway // on the way in, in order
	Ended  header.Packet      // as it was at last on the way in
	Near   []Near             // the rules that nearly matched where it ended
	Unsent bool               // by the file nobody on the internet sends its destination here

	Candidates []Candidate // see TraceAll
}

// TraceOf walks one connection and tells every step.
func TraceOf(w *walk.Walk, c walk.Connection) *Trace { return traceOf(w, c, nil) }

// traceOf is TraceOf; watch is told as well how the packet stood at each gateway, where it is set.
func traceOf(w *walk.Walk, c walk.Connection, watch func(*engine.Stand)) *Trace {
	var s *engine.Stand
	a := w.Account(c, func(at *engine.Stand) {
		if s = at; watch != nil {
			watch(at)
		}
	})
	t := &Trace{Connection: c, Verdict: a.Verdict}
	if a.HandedOn != (header.Packet{}) {
		t.Why = append(t.Why, fmt.Sprintf("The client's own connection is taken by %s, whose relay hands it on; the relay's connection to %s ends here.", a.TakenBy.Name(), a.HandedOn.To()))
	}
	t.tell(a.Way)
	if a.Tells && !t.Told {
		t.Why = append(t.Why, "The client is not even told:")
	}
	t.tell(a.Telling)
	t.Near = nearOf(&t.Verdict, s)
	if s != nil {
		t.Stood = Standing{s.Gateway.Gateway, s.In, s.Out, s.Forward, s.Before, s.After, s.Seen()}
	}
	return t
}

// tell puts events into words.
func (t *Trace) tell(events []engine.Event) {
	for i := range events {
		if s, ok := Told(&events[i]); ok {
			t.Steps = append(t.Steps, s)
		}
		t.Why = append(t.Why, Why(&events[i])...)
		e := &events[i]
		if e.Back {
			continue
		}
		t.Unsent = t.Unsent || e.What == engine.NotSentHere
		if t.Ended = e.After; e.What == engine.Arrives {
			t.Passed = append(t.Passed, e.At.Gateway)
		}
	}
}

// A Standing is how a packet stood at a gateway: where it came in and would leave,
// what redirected it, how it was before and after that, and how its filter sees it.
type Standing struct {
	Gateway       *network.Gateway
	In, Out       *network.Interface
	Forward       *network.NATRule
	Before, After header.Packet
	Seen          header.Packet
}
