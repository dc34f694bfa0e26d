package engine

import (
	"fmt"

	"hollowbridge/core/header"
	"hollowbridge/core/network"
)

// A Trace is a verdict with everything that led to it.
type Trace struct {
	Connection Connection
	Verdict
	Steps  []Step
	Why    []string           // sentences, for any outcome but reached
	Stood  Standing           // where it stood at the last gateway on the way in
	Passed []*network.Gateway // on the way in, in order
	Ended  header.Packet      // as it was at last on the way in
	Near   []Near             // the rules that nearly matched where it ended
	Unsent bool               // by the file nobody on the internet sends its destination here

	Candidates []Candidate // see TraceAll
}

// Trace walks one connection and tells every step.
func (w *Walk) Trace(c Connection) *Trace {
	w.log.Keeps, w.stands = true, true
	w.run(c)
	w.log.Keeps, w.stands = false, false
	t := &Trace{Connection: c, Verdict: w.verdict}
	if w.untaken && len(w.legs) > 1 {
		last := w.legs[len(w.legs)-1].sent
		t.Why = append(t.Why, fmt.Sprintf("The client's own connection is taken by %s, whose relay hands it on; the relay's connection to %s ends here.", w.legs[0].to.Name(), last.To()))
	}
	way, telling := w.log.Events, []Event{}
	if w.telling >= 0 {
		way, telling = way[:w.telling], way[w.telling:]
	}
	t.tell(way)
	if w.telling >= 0 && !t.Told {
		t.Why = append(t.Why, "The client is not even told:")
	}
	t.tell(telling)
	t.Near = w.near()
	if s := &w.stood; s.gateway != nil {
		seen := s.seen()
		t.Stood = Standing{s.gateway.Gateway, s.in, s.out, s.forward, s.before.Packet, s.after, seen}
	}
	w.state.sessions = w.state.sessions[:w.state.earlier]
	return t
}

// tell puts events into words.
func (t *Trace) tell(events []Event) {
	for i := range events {
		if s, ok := events[i].Told(); ok {
			t.Steps = append(t.Steps, s)
		}
		t.Why = append(t.Why, events[i].Why()...)
		e := &events[i]
		if e.Back {
			continue
		}
		t.Unsent = t.Unsent || e.What == NotSentHere
		if t.Ended = e.After; e.What == Arrives {
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
