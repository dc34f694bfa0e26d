package engine

import (
	"fmt"
	"net/netip"

	"hollowbridge/core/flowset"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
)

// A Verdict is what became of a connection.
type Verdict struct {
	Outcome   Outcome
	At        string        // the gateway or host where it ended; "the internet" outside
	Step      StepKind      // the step that ended it
	Rule      *network.Rule // the rule that ended it, or nil
	Host      string        // who it was delivered to, empty if nobody
	Delivered header.Packet // as it was delivered; zero if it was not
	Answered  header.Packet // the answer as the client gets it; zero if it gets none
	Told      bool          // the client is told that it was refused, or that the destination can't be reached
	Handed    int           // how many relays took it and handed it on before it ended
}

// mostGateways is how many gateways a packet passes before it counts as going round.
const mostGateways = 32

// mostRelays is how many relays a connection is handed on by before it counts as
// going round.
const mostRelays = 32

// A Walk takes connections through an engine, one after the other. It keeps the
// sessions they leave only if Remember is called. It is not safe for use by
// several goroutines; make one for each.
type Walk struct {
	engine   *Engine
	sessions []session // those of earlier connections, then those of this one
	earlier  int       // how many are of earlier connections
	calls    []call    // the earlier connections, as the machines know them that began them

	moment   network.Moment
	verdict  Verdict
	back     bool      // the answer is on its way
	passages []passage // gateways passed in this direction
	used     []int     // which sessions the first packet of this leg goes by
	legs     []leg
	carriers []carrier
	relayed  header.Packet // what a relay sends on
	refusal  refusal
	telling  message       // what tells the client of a refusal, while it is on its way
	teller   netip.Addr    // its outer source, until a translation changes it
	seen     header.Packet // by the filter, where that differs
	stood    standing      // at the last gateway on the way in
	settled  bool          // the machine waits for the packet: nothing answers it
	region   *region       // what goes the same way; nil for a walk of one connection
	trace    *Trace        // where steps are written down; nil for a bare verdict
}

// A passage is a packet that arrived at an interface.
type passage struct {
	in     *network.Interface
	packet header.Packet
}

// A leg is the way from a client to a machine: the first from the client of the
// connection, any other from a relay.
type leg struct {
	from      Place
	packet    header.Packet // as it was sent
	to        Place
	gateway   *gateway      // set where a gateway itself answers
	delivered header.Packet // as it came
}

// A call is a connection as the machine knows it that began it.
type call struct {
	from   Place
	packet header.Packet
}

// A carrier is an uplink's network that has translated a source.
type carrier struct {
	uplink *network.Interface
	packet header.Packet // as it left
}

// A refusal is a packet that somebody refused with a word to its sender.
type refusal struct {
	packet header.Packet      // as it came to who refused it; zero where nobody did
	by     *network.Interface // where it came in, if a gateway refused it
	how    message
}

// A message is what tells a client of a refusal.
type message uint8

const (
	nothing   message = iota
	reset             // of a TCP connection
	icmpError         // which quotes the packet (RFC 792, RFC 4443)
)

// refusedBy returns how a port that nobody listens on, or a reject rule, is told.
func refusedBy(protocol header.Protocol) message {
	if protocol == header.TCP {
		return reset
	}
	return icmpError
}

// A position is where a packet is next: arriving at a gateway, delivered to a
// machine, or nowhere because it ended.
type position struct {
	gateway *gateway
	in      *network.Interface
	machine Place
	kind    positionKind
}

type positionKind uint8

const (
	ended positionKind = iota
	atGateway
	atMachine
	answeredByGateway
)

// NewWalk returns a walk without sessions.
func (e *Engine) NewWalk() *Walk { return &Walk{engine: e} }

// Verdict walks one connection. It allocates nothing once the walk is warm.
func (w *Walk) Verdict(c Connection) Verdict {
	w.trace = nil
	w.run(c)
	w.sessions = w.sessions[:w.earlier]
	return w.verdict
}

// Remember walks one connection and keeps the sessions it leaves at gateways, so
// that later connections find them. One that was stopped leaves none.
func (w *Walk) Remember(c Connection) Verdict {
	w.trace = nil
	w.run(c)
	if w.verdict.Outcome != Reached && w.verdict.Outcome != Unanswered {
		w.sessions = w.sessions[:w.earlier]
	} else {
		for _, l := range w.legs {
			w.calls = append(w.calls, call{l.from, l.packet})
		}
	}
	w.earlier = len(w.sessions)
	return w.verdict
}

// run walks a connection: leg by leg there, back, and, for TCP, there again. A relay
// answers its client before it hands the connection on.
func (w *Walk) run(c Connection) {
	w.sessions = w.sessions[:w.earlier]
	w.moment, w.verdict = c.Moment, Verdict{}
	w.stood, w.settled = standing{}, false
	w.legs, w.carriers = w.legs[:0], w.carriers[:0]
	w.refusal, w.telling, w.teller = refusal{}, nothing, netip.Addr{}
	var answered header.Packet
	for from, p := c.From, c.Packet; ; {
		w.back = false
		next, taken := w.there(from, p)
		if !taken {
			w.stopped()
			return
		}
		if w.settled {
			return
		}
		onward := w.region.now()
		if !w.comesBack() || !w.shakesHands() {
			return
		}
		if len(w.legs) == 1 {
			answered = w.legs[0].packet.Answer()
		}
		if next == nil {
			w.verdict.Answered = answered
			return
		}
		w.region.resume(onward)
		last := &w.legs[len(w.legs)-1]
		if len(w.legs) > mostRelays {
			w.back = false
			w.end(Loop, last.to.Name(), StepHost, nil)
			if w.trace != nil {
				w.why("Relays hand the connection on %d times: they hand it to each other.", mostRelays)
			}
			return
		}
		from, p = last.to, *next
		w.verdict.Handed = len(w.legs)
	}
}

// there walks the way in of one leg. It returns whether the last machine takes the
// connection, and what its relay sends on to another one, if it does.
func (w *Walk) there(from Place, p header.Packet) (next *header.Packet, taken bool) {
	w.passages, w.used = w.passages[:0], w.used[:0]
	w.legs = append(w.legs, leg{from: from, packet: p})
	w.region.beginLeg()
	at := w.carry(w.send(from, &p), &p)
	this := &w.legs[len(w.legs)-1]
	this.delivered = p
	w.region.endLeg()
	switch at.kind {
	case ended:
		return nil, false
	case answeredByGateway:
		this.gateway = at.gateway
		w.verdict.Delivered = p
		return nil, true
	}
	this.to = at.machine
	return w.atHost(at.machine, p)
}

// stopped ends a connection that did not get there: the client is told, where somebody
// does that. A client whose connection a relay has taken hears nothing of what becomes
// of the relay's own.
func (w *Walk) stopped() {
	switch {
	case len(w.legs) > 1:
		if w.trace != nil {
			taker := w.legs[0].to.Name()
			first := fmt.Sprintf("The client's own connection is taken by %s, whose relay hands it on; the relay's connection to %s ends here.", taker, w.legs[len(w.legs)-1].packet.To())
			w.trace.Why = append([]string{first}, w.trace.Why...)
		}
	case w.refusal.packet.Source.IsValid() && w.region == nil:
		w.tell()
	}
}

// carry moves a packet from gateway to gateway until it ends or is delivered.
func (w *Walk) carry(at position, p *header.Packet) position {
	for at.kind == atGateway {
		for i := range w.passages {
			if w.passages[i].in == at.in && w.region.samePassage(i, w.passages[i].packet == *p) {
				w.end(Loop, at.gateway.Name, StepRoute, nil)
				if w.trace != nil {
					w.why("The packet comes to %s a second time, unchanged: the gateways' routes send it round.", at.gateway.Name)
				}
				return position{}
			}
		}
		if len(w.passages) == mostGateways {
			w.end(Loop, at.gateway.Name, StepRoute, nil)
			if w.trace != nil {
				w.why("It has passed %d gateways and is not there yet.", mostGateways)
			}
			return position{}
		}
		w.passages = append(w.passages, passage{at.in, *p})
		w.region.pass(len(w.passages))
		at = w.pass(at.gateway, at.in, p)
	}
	return at
}

// pass takes a packet through one gateway: the nine steps.
func (w *Walk) pass(g *gateway, in *network.Interface, p *header.Packet) position {
	if !w.arrive(g, in, p) {
		return position{}
	}
	if s, forward := w.session(g, p); s != nil {
		return w.follow(g, s, forward, p)
	}
	stray, ok := w.stray(g, p)
	if !ok {
		return position{}
	}
	before := *p
	w.region.arrived()
	var forward *redirect
	if !stray {
		if forward, ok = w.translateDestination(g, in, p); !ok {
			return position{}
		}
	}
	if !w.back {
		w.stood = standing{gateway: g, in: in, forward: forward, before: before, after: *p}
	}
	own := g.own.of(p.Destination) != nil
	w.region.address(flowset.Destination, p.Destination, g.ownSet, own)
	if own || w.claimed(g.claims, p.Destination) {
		return w.itself(g, in, before, p)
	}
	r := w.route(g, p)
	if r == nil {
		return position{}
	}
	if !w.back {
		w.stood.out = r.out
	}
	if !w.permit(g, in, r.out, forward, &before, p) {
		return position{}
	}
	if r.out == in && !g.Handling.TurnBack {
		w.end(Dropped, g.Name, StepTurnBack, nil)
		if w.trace != nil {
			w.why("It would leave by %s, where it came in, and %s does not turn packets back.", in.Name, g.Name)
		}
		return position{}
	}
	if r.out == in {
		if w.trace != nil {
			w.note(g.Name, StepTurnBack, "turns", "", "back: leaves by "+in.Name+", where it came in")
		}
	}
	if stray {
		return w.leave(g, r, p)
	}
	r = w.translateSource(g, in, r, forward, p)
	if r == nil {
		return position{}
	}
	w.keep(session{gateway: g, in: in, out: r.out, before: before, after: *p})
	return w.leave(g, r, p)
}

// claimed reports whether an address is among outside addresses of rules that are
// active now.
func (w *Walk) claimed(list []claim, a netip.Addr) bool {
	for i := range list {
		c := &list[i]
		if c.rule != nil && !c.rule.Active(w.moment) {
			continue
		}
		claimed := c.set.Contains(a)
		if w.region.address(flowset.Destination, a, c.set.Addresses, claimed); claimed {
			return true
		}
	}
	return false
}

// end sets how the walk ends. Whatever goes wrong on the way back means that the
// answer is lost.
func (w *Walk) end(o Outcome, at string, step StepKind, rule *network.Rule) {
	if w.back {
		o = Unanswered
	}
	w.verdict.Outcome, w.verdict.At, w.verdict.Step, w.verdict.Rule = o, at, step, rule
	w.verdict.Answered = header.Packet{}
}

// why writes down the reason of the end. It is called only where w.trace is set,
// so that a bare verdict builds no text.
func (w *Walk) why(format string, args ...any) {
	w.trace.Why = append(w.trace.Why, fmt.Sprintf(format, args...))
}

// note writes down a step. It is called only where w.trace is set.
func (w *Walk) note(at string, kind StepKind, label, rule, text string) {
	w.trace.Steps = append(w.trace.Steps, Step{At: at, Kind: kind, Label: label, Rule: rule, Text: text, Back: w.back})
}
