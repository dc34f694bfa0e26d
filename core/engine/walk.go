package engine

import (
	"net/netip"
	"slices"

	"hollowbridge/core/header"
	"hollowbridge/core/network"
)

// A Connection is a question: this packet, put on the way at this place.
type Connection struct {
	Packet header.Packet
	From   Place
	Moment network.Moment
}

// A Verdict is what became of a connection.
type Verdict struct {
	Outcome   Outcome
	At        Site          // where it ended
	Step      StepKind      // the step that ended it
	Rule      *network.Rule // the rule that ended it, or nil
	To        Site          // who it was delivered to: a gateway or a machine
	Delivered header.Packet // as it was delivered; zero if it was not
	Answered  header.Packet // the answer as the client gets it; zero if it gets none
	Told      bool          // the client is told that it was refused, or that the destination can't be reached
	Handed    int           // how many relays took it and handed it on before it ended
}

// EndedAt reports whether the connection ended at a gateway.
func (v *Verdict) EndedAt(g *network.Gateway) bool { return v.At.Gateway == g && g != nil }

// mostGateways is how many gateways a packet passes before it counts as going round.
const mostGateways = 32

// mostRelays is how many relays a connection is handed on by before it counts as
// going round.
const mostRelays = 32

// A Walk takes connections through an engine, one after the other: over the internet and
// segments from gateway to gateway, where Decide says what happens, to machines, and back.
// It keeps the sessions they leave only if Remember is called. It is not safe for use by
// several goroutines; make one for each.
type Walk struct {
	engine *Engine

	visit   *visit // of the log
	flow    *flow  // of the visit
	state   memory
	states  []State // of each gateway, where they are not the memory
	asks    Decider // that decides in place of the engine, or nil
	failed  error   // of it
	size    int     // of the packet, in bytes
	usual   int     // of one that carries nothing
	log     Log
	machine Place  // that the packet has come to
	calls   []call // the earlier connections, as the machines know them that began them

	moment   network.Moment
	beside   bool // the client is beside any of the uplinks, see Place.Beside
	verdict  Verdict
	back     bool      // the answer is on its way
	passages []passage // gateways passed in this direction
	legs     []leg
	carriers []carrier
	links    []*link // of the machine that sends
	refusal  refusal
	part     header.Part
	sender   netip.Addr   // of an ICMP error, until a translation changes it
	watch    func(*Stand) // is told, where set, how the packet stood at each gateway on the way in
	settled  bool         // the machine waits for the packet: nothing answers it
	untaken  bool         // no machine takes the connection of the last leg
	telling  int          // the event with which somebody tells the client, or negative
}

// A passage is a packet that arrived at an interface.
type passage struct {
	in     *network.Interface
	packet image
}

// A leg is the way from a client to a machine: the first from the client of the
// connection, any other from a relay.
type leg struct {
	from      Place
	sent      image
	to        Place
	gateway   *Gateway           // set where a gateway itself answers
	by        *network.Interface // where it came in at that gateway
	delivered image              // as it came
}

// A call is a connection as the machine knows it that began it.
type call struct {
	from   Place
	packet image
}

// A carrier is an uplink's network that has translated a source.
type carrier struct {
	uplink *network.Interface
	packet image // as it left
}

// A refusal is a packet that somebody refused with a word to its sender.
type refusal struct {
	packet header.Packet      // as it came to who refused it
	by     *network.Interface // where it came in, if a gateway refused it
	router *network.Segment   // what is behind the inside router that refused it
	how    Message            // none where nobody did
}

// A nextPlace is where a packet is next: arriving at a gateway, delivered to a
// machine, taken by a gateway, or nowhere because it ended.
type nextPlace struct {
	in      *network.Interface
	machine *Place // the walk's, until the packet goes on
	gateway *Gateway
	kind    nextKind
}

type nextKind uint8

const (
	ended nextKind = iota
	atGateway
	atMachine
	takenByGateway
)

// NewWalk returns a walk without sessions.
func (e *Engine) NewWalk() *Walk {
	w := &Walk{engine: e}
	w.visit = w.log.Visit()
	w.flow = w.visit.Flow()
	w.state = NewMemory(w.flow)
	return w
}

// NewWalkOver returns a walk whose gateways remember in states of their own: connections go
// through them as through running ones, packet by packet, and leave their sessions there.
// Remember does the same as Verdict then.
func (e *Engine) NewWalkOver(state func(*network.Gateway) State) *Walk {
	w := e.NewWalk()
	w.states = make([]State, len(e.gateways))
	for i, g := range e.gateways {
		w.states[i] = state(g.Gateway)
	}
	return w
}

// A Decider decides about a packet in place of an engine's gateway: as one does that runs
// elsewhere. An arrival without an interface is the gateway's own answer.
type Decider func(g *network.Gateway, a *Arrival) (Decision, error)

// NewWalkBy returns a walk whose gateways somebody else decides for, who also remembers their
// sessions: connections go through them packet by packet.
//
// What carries nothing is said to be size bytes long.
func (e *Engine) NewWalkBy(asks Decider, size int) *Walk {
	w := e.NewWalk()
	w.asks, w.usual = asks, size
	return w
}

// Err returns why a Decider did not decide, if that was so in the last connection.
func (w *Walk) Err() error { return w.failed }

// Verdict walks one connection. It allocates nothing once the walk is warm.
func (w *Walk) Verdict(c Connection) Verdict {
	w.run(c)
	w.state.Forget()
	return w.verdict
}

// Watched is Verdict, and tells how the packet stood at each gateway on the way in.
func (w *Walk) Watched(c Connection, watch func(*Stand)) Verdict {
	w.watch = watch
	defer func() { w.watch = nil }()
	return w.Verdict(c)
}

// An Account is what became of a connection, with everything that happened on its way.
type Account struct {
	Verdict
	Way      []Event       // until it ended
	Tells    bool          // somebody sends word of that to the client,
	Telling  []Event       // and this happened to it
	TakenBy  Place         // the machine that took the client's own connection, where a relay's
	HandedOn header.Packet // connection ended: as the relay began that; zero where there is none
}

// Account walks one connection, and tells how the packet stood at each gateway on the way in. The events are those of the
// walk, until its next connection.
func (w *Walk) Account(c Connection, watch func(*Stand)) Account {
	w.log.Keeps = true
	a := Account{Verdict: w.Watched(c, watch), Way: w.log.Events, Tells: w.telling >= 0}
	w.log.Keeps = false
	if a.Tells {
		a.Way, a.Telling = a.Way[:w.telling], a.Way[w.telling:]
	}
	if w.untaken && len(w.legs) > 1 {
		a.TakenBy, a.HandedOn = w.legs[0].to, w.legs[len(w.legs)-1].sent.Packet
	}
	return a
}

// A Course is where a connection went.
type Course struct {
	Verdict
	From, To Place // where the client is, and the last machine that it came to
	Behind   bool  // it came through a gateway at least, or a relay
}

// Flow returns the flow that is on its way: of a set, where it is made that.
func (w *Walk) Flow() *flow { return w.flow }

// Follow walks the connection that the walk's flow is of, from a machine that may be beside any of the uplinks.
func (w *Walk) Follow(c Connection, beside bool) {
	w.beside = beside
	w.run(c)
}

// Course returns where the connection went that was followed last.
func (w *Walk) Course() Course {
	return Course{w.verdict, w.legs[0].from, w.legs[len(w.legs)-1].to, len(w.legs) > 1 || len(w.passages) > 0}
}

// Remember walks one connection and keeps the sessions it leaves at gateways, so
// that later connections find them. One that was stopped leaves none.
func (w *Walk) Remember(c Connection) Verdict {
	w.run(c)
	if w.verdict.Outcome != Reached && w.verdict.Outcome != Unanswered {
		w.state.Forget()
	} else {
		for i := range w.legs {
			w.calls = append(w.calls, call{w.legs[i].from, w.legs[i].sent})
		}
	}
	w.state.Settle()
	return w.verdict
}

// run walks a connection: leg by leg there, back, and, for TCP, there again. A relay
// answers its client before it hands the connection on.
func (w *Walk) run(c Connection) {
	w.log.Reset()
	w.failed, w.size = nil, w.usual
	w.state.Forget()
	w.moment, w.verdict = c.Moment, Verdict{}
	w.settled, w.untaken, w.telling = false, false, -1
	w.legs, w.carriers = w.legs[:0], w.carriers[:0]
	w.refusal, w.sender = refusal{}, netip.Addr{}
	w.flow.begin(c.Packet)
	for from := c.From; ; {
		w.goes(header.Begins)
		onward, taken := w.there(from)
		if !taken {
			w.stopped()
			return
		}
		if w.settled {
			return
		}
		next := w.flow.image()
		if !w.comesBack() || !w.shakesHands() {
			return
		}
		if !onward {
			w.verdict.Answered = w.legs[0].sent.Answer()
			return
		}
		w.flow.become(&next, false)
		last := &w.legs[len(w.legs)-1]
		if len(w.legs) > mostRelays {
			w.goes(header.Begins)
			w.end(Loop, Site{Machine: last.to}, StepHost, nil)
			w.note(StepHost, RelaysTooFar, w.verdict.At).Count = mostRelays
			return
		}
		from = last.to
		w.verdict.Handed = len(w.legs)
	}
}

// goes says what the packet is in its connection, and so which way it goes.
func (w *Walk) goes(part header.Part) {
	w.part, w.back = part, part != header.Begins && part != header.Continues
	w.state.Turn(w.back)
	w.flow.turn(w.back)
}

// there walks the way in of one leg. It returns whether the last machine takes the
// connection, and whether its relay hands it on to another one: as the flow is then.
func (w *Walk) there(from Place) (onward, taken bool) {
	w.passages = w.passages[:0]
	w.state.Begin()
	n := len(w.legs)
	w.legs = slices.Grow(w.legs, 1)[:n+1]
	this := &w.legs[n] // all of it is set where it stands
	this.from, this.sent, this.gateway, this.by, this.to = from, w.flow.image(), nil, nil, Place{}
	at := w.carry(w.send(from))
	this.delivered = w.flow.image()
	w.flow.deliver()
	switch at.kind {
	case ended:
		return false, false
	case takenByGateway:
		this.gateway, this.by = at.gateway, w.passages[len(w.passages)-1].in
		w.verdict.Delivered = w.flow.now()
		return false, true
	}
	this.to = *at.machine
	return w.atHost(this.to)
}

// stopped ends a connection that did not get there: the client is told, where somebody
// does that. A client whose connection a relay has taken hears nothing of what becomes
// of the relay's own.
func (w *Walk) stopped() {
	w.untaken = true
	if len(w.legs) == 1 && w.refusal.how != NoMessage && w.flow.isOne() {
		w.tell()
	}
}

// carry moves the packet from gateway to gateway until it ends or is delivered.
func (w *Walk) carry(at nextPlace) nextPlace {
	for at.kind == atGateway {
		g := w.engine.gateways[at.in.Gateway.Index]
		for i := range w.passages {
			if w.passages[i].in == at.in && w.flow.is(&w.passages[i].packet, false) {
				w.end(Loop, Site{Gateway: g.Gateway}, StepRoute, nil)
				w.note(StepRoute, RoundAgain, w.verdict.At)
				return nextPlace{}
			}
		}
		if len(w.passages) == mostGateways {
			w.end(Loop, Site{Gateway: g.Gateway}, StepRoute, nil)
			w.note(StepRoute, TooFar, w.verdict.At).Count = mostGateways
			return nextPlace{}
		}
		w.passages = append(w.passages, passage{at.in, w.flow.image()})
		at = w.pass(g, at.in)
	}
	return at
}

// enter makes a gateway ready to decide about the packet.
func (w *Walk) enter(g *Gateway, in *network.Interface) {
	w.state.StandAt(g)
	state := State(&w.state)
	if w.states != nil {
		state = w.states[g.Index]
	}
	w.visit.Enter(g, &Arrival{In: in, Part: w.part, Sender: w.sender, Size: w.size, At: w.moment}, state, w.back)
}

// pass takes the packet through one gateway.
func (w *Walk) pass(g *Gateway, in *network.Interface) nextPlace {
	w.enter(g, in)
	if w.asks != nil {
		return w.ask(g, in)
	}
	d := w.visit.Decide()
	if w.watch != nil && !w.back {
		if s, ok := w.visit.Stand(); ok {
			w.watch(s)
		}
	}
	return w.decided(g, in, d)
}

// ask lets somebody else decide about a packet.
func (w *Walk) ask(g *Gateway, in *network.Interface) nextPlace {
	d, err := w.asks(g.Gateway, &Arrival{In: in, Packet: w.flow.now(), Part: w.part, Sender: w.sender, Size: w.size, At: w.moment})
	if err != nil {
		w.failed = err
		d = Decision{Action: Stops, Outcome: Dropped, Step: StepSession}
	}
	return w.decided(g, in, w.visit.TakeOver(d))
}

// decided goes on as a gateway decided.
func (w *Walk) decided(g *Gateway, in *network.Interface, d *Decision) nextPlace {
	at := Site{Gateway: g.Gateway}
	switch d.Action {
	case Forwards:
		w.sender = d.Sender
		return w.leave(g, d.Route())
	case Takes:
		w.verdict.Outcome, w.verdict.At = Reached, at
		if !w.back { // an answer that a gateway takes came from where the packet was delivered
			w.verdict.To = at
		}
		return nextPlace{kind: takenByGateway, gateway: g}
	default:
		w.end(d.Outcome, at, d.Step, d.Rule)
		switch {
		case d.Step == StepArrive && d.Outcome == Unrouted: // the gateway before it finds nobody there
			w.unreachable(len(w.passages) - 2)
		case d.Tells != NoMessage && !w.back:
			w.refusal = refusal{packet: w.visit.Came(), by: in, how: d.Tells}
		}
	}
	return nextPlace{}
}

// unreachable notes that the gateway of a passage tells the client that the destination
// can't be reached (RFC 1812, 5.2.7.1), if there was one.
func (w *Walk) unreachable(number int) {
	if w.back || number < 0 {
		return
	}
	if last := &w.passages[number]; !last.in.Gateway.Handling.UnreachableSilent {
		w.refusal = refusal{packet: last.packet.Packet, by: last.in, how: ErrorMessage}
	}
}

// end sets how the walk ends. Whatever goes wrong on the way back means that the
// answer is lost.
func (w *Walk) end(o Outcome, at Site, step StepKind, rule *network.Rule) {
	if w.back {
		o = Unanswered
	}
	w.verdict.Outcome, w.verdict.At, w.verdict.Step, w.verdict.Rule = o, at, step, rule
	w.verdict.Answered = header.Packet{}
}

// note writes down what happens outside of gateways.
func (w *Walk) note(step StepKind, what What, at Site) *Event {
	if !w.log.Keeps {
		return w.log.Unkept()
	}
	return w.log.Add(Event{Step: step, What: what, At: at, Back: w.back, After: w.flow.now()})
}
