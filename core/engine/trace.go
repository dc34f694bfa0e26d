package engine

import (
	"hollowbridge/core/header"
	"hollowbridge/core/network"
)

// A StepKind is one of the steps of a trace.
type StepKind string

// The steps: the nine of a gateway, those outside, and the way back.
const (
	StepUpstream    StepKind = "upstream"
	StepArrive      StepKind = "arrive"
	StepSession     StepKind = "session"
	StepDestination StepKind = "destination"
	StepItself      StepKind = "itself"
	StepRoute       StepKind = "route"
	StepFilter      StepKind = "filter"
	StepTurnBack    StepKind = "turn-back"
	StepSource      StepKind = "source"
	StepLeave       StepKind = "leave"
	StepHost        StepKind = "host"
	StepBack        StepKind = "back"
)

// A Step is one thing that happened to the packet.
type Step struct {
	At    string // gateway or host
	Kind  StepKind
	Label string // what happened, in a word
	Rule  string // the rule that did it, or empty
	Route string // the prefix of the route that was taken, or default
	Text  string
	Back  bool // on the way back
}

// A Trace is a verdict with everything that led to it.
type Trace struct {
	Connection Connection
	Verdict
	Steps []Step
	Why   []string // sentences, for any outcome but reached
	Stood Standing // where it stood at the last gateway on the way in
	Near  []Near   // the rules that nearly matched where it ended
}

// Trace walks one connection and writes down every step.
func (w *Walk) Trace(c Connection) *Trace {
	t := &Trace{Connection: c}
	w.trace = t
	w.run(c)
	t.Verdict = w.verdict
	t.Near = w.near()
	if g := w.stood.gateway; g != nil {
		t.Stood = Standing{g.Gateway, w.stood.in, w.stood.out, nil, w.stood.before, w.stood.after}
		if w.stood.forward != nil {
			t.Stood.Forward = w.stood.forward.rule
		}
	}
	w.trace = nil
	w.sessions = w.sessions[:w.earlier]
	return t
}

// A Standing is how a packet stood at a gateway: where it came in and would leave,
// what redirected it, and how it was before and after that.
type Standing struct {
	Gateway       *network.Gateway
	In, Out       *network.Interface
	Forward       *network.NATRule
	Before, After header.Packet
}
