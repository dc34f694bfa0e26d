package walk

import (
	"net/netip"
	"slices"

	"hollowbridge/core/engine"
	"hollowbridge/core/flow"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
)

// A Connection is a question: this packet, put on the way at this place.
type Connection struct {
	Packet header.Packet
	From   network.Place
	Moment network.Moment
}

// A Verdict is what became of a connection.
type Verdict struct {
	Outcome   engine.Outcome
	At        network.Site    // where it ended
	Step      engine.StepKind // the step that ended it
	Rule      *network.Rule   // the rule that ended it, or nil
	To        network.Site    // who it was delivered to: a gateway or a machine
	Delivered header.Packet   // as it was delivered; zero if it was not
	Answered  header.Packet   // the answer as the client gets it; zero if it gets none
	Told      bool            // the client is told that it was refused, or that the destination can't be reached
	Handed    int             // how many relays took it and handed it on before it ended
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

	visit   *engine.Visit // of the log
	flow    *flow.Flow    // of the visit
	state   engine.Memory
	states  []engine.State // of each gateway, where they are not the memory
	asks    Decider        // that decides in place of the engine, or nil
	failed  error          // of it
	size    int            // of the packet, in bytes
	usual   int            // of one that carries nothing
	log     engine.Log
	machine network.Place // that the packet has come to
	calls   []call        // the earlier connections, as the machines know them that began them

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
	sender   netip.Addr          // of an ICMP error, until a translation changes it
	watch    func(*engine.Stand) // is told, where set, how the packet stood at each gateway on the way in
	settled  bool                // the machine waits for the packet: nothing answers it
	untaken  bool                // no machine takes the connection of the last leg
	telling  int                 // the event with which somebody tells the client, or negative
}

// A passage is a packet that arrived at an interface.
type passage struct {
	in     *network.Interface
	packet flow.Image
}

// A leg is the way from a client to a machine: the first from the client of the
// connection, any other from a relay.
type leg struct {
	from      network.Place
	sent      flow.Image
	to        network.Place
	gateway   *engine.Gateway    // set where a gateway itself answers
	by        *network.Interface // where it came in at that gateway
	delivered flow.Image         // as it came
}

// A call is a connection as the machine knows it that began it.
type call struct {
	from   network.Place
	packet flow.Image
}

// A carrier is an uplink's network that has translated a source.
type carrier struct {
	uplink *network.Interface
	packet flow.Image // as it left
}

// A refusal is a packet that somebody refused with a word to its sender.
type refusal struct {
	packet header.Packet      // as it came to who refused it
	by     *network.Interface // where it came in, if a gateway refused it
	router *network.Segment   // what is behind the inside router that refused it
	how    engine.Message     // none where nobody did
}

// A nextPlace is where a packet is next: arriving at a gateway, delivered to a
// machine, taken by a gateway, or nowhere because it ended.
type nextPlace struct {
	in      *network.Interface
	machine *network.Place // the walk's, until the packet goes on
	gateway *engine.Gateway
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
	w.state = engine.NewMemory(w.flow)
	return w
}

// NewWalkOver returns a walk whose gateways remember in states of their own: connections go
// through them as through running ones, packet by packet, and leave their sessions there.
// Remember does the same as Verdict then.
func (e *Engine) NewWalkOver(state func(*network.Gateway) engine.State) *Walk {
	w := e.NewWalk()
	w.states = make([]engine.State, len(e.gateways))
	for i, g := range e.gateways {
		w.states[i] = state(g.Gateway)
	}
	return w
}

// A Decider decides about a packet in place of an engine's gateway: as one does that runs
// elsewhere. An arrival without an interface is the gateway's own answer.
type Decider func(g *network.Gateway, a *engine.Arrival) (engine.Decision, error)

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
func (w *Walk) Watched(c Connection, watch func(*engine.Stand)) Verdict {
	w.watch = watch
	defer func() { w.watch = nil }()
	return w.Verdict(c)
}

// An Account is what became of a connection, with everything that happened on its way.
type Account struct {
	Verdict
	Way      []engine.Event // until it ended
	Tells    bool           // somebody sends word of that to the client,
	Telling  []engine.Event // and this happened to it
	TakenBy  network.Place  // the machine that took the client's own connection, where a relay's
	HandedOn header.Packet  // connection ended: as the relay began that; zero where there is none
}

// Account walks one connection, and tells how the packet stood at each gateway on the way in. The events are those of the
// walk, until its next connection.
func (w *Walk) Account(c Connection, watch func(*engine.Stand)) Account {
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
	From, To network.Place // where the client is, and the last machine that it came to
	Behind   bool          // it came through a gateway at least, or a relay
}

// Flow returns the flow that is on its way: of a set, where it is made that.
func (w *Walk) Flow() *flow.Flow { return w.flow }

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
	if w.verdict.Outcome != engine.Reached && w.verdict.Outcome != engine.Unanswered {
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
	w.flow.Begin(c.Packet)
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
		next := w.flow.Image()
		if !w.comesBack() || !w.shakesHands() {
			return
		}
		if !onward {
			w.verdict.Answered = w.legs[0].sent.Answer()
			return
		}
		w.flow.Become(&next, false)
		last := &w.legs[len(w.legs)-1]
		if len(w.legs) > mostRelays {
			w.goes(header.Begins)
			w.end(engine.Loop, network.Site{Machine: last.to}, engine.StepHost, nil)
			w.note(engine.StepHost, engine.RelaysTooFar, w.verdict.At).Room = mostRelays
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
	w.flow.Turn(w.back)
}

// there walks the way in of one leg. It returns whether the last machine takes the
// connection, and whether its relay hands it on to another one: as the flow is then.
func (w *Walk) there(from network.Place) (onward, taken bool) {
	w.passages = w.passages[:0]
	w.state.Begin()
	n := len(w.legs)
	w.legs = slices.Grow(w.legs, 1)[:n+1]
	this := &w.legs[n] // all of it is set where it stands
	this.from, this.sent, this.gateway, this.by, this.to = from, w.flow.Image(), nil, nil, network.Place{}
	at := w.carry(w.send(from))
	this.delivered = w.flow.Image()
	w.flow.Deliver()
	switch at.kind {
	case ended:
		return false, false
	case takenByGateway:
		this.gateway, this.by = at.gateway, w.passages[len(w.passages)-1].in
		w.verdict.Delivered = w.flow.Now()
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
	if len(w.legs) == 1 && w.refusal.how != engine.NoMessage && w.flow.IsOne() {
		w.tell()
	}
}

// carry moves the packet from gateway to gateway until it ends or is delivered.
func (w *Walk) carry(at nextPlace) nextPlace {
	for at.kind == atGateway {
		g := w.engine.gateways[at.in.Gateway.Index]
		for i := range w.passages {
			if w.passages[i].in == at.in && w.flow.Is(&w.passages[i].packet, false) {
				w.end(engine.Loop, network.Site{Gateway: g.Gateway}, engine.StepRoute, nil)
				w.note(engine.StepRoute, engine.RoundAgain, w.verdict.At)
				return nextPlace{}
			}
		}
		if len(w.passages) == mostGateways {
			w.end(engine.Loop, network.Site{Gateway: g.Gateway}, engine.StepRoute, nil)
			w.note(engine.StepRoute, engine.TooFar, w.verdict.At).Room = mostGateways
			return nextPlace{}
		}
		w.passages = append(w.passages, passage{at.in, w.flow.Image()})
		at = w.pass(g, at.in)
	}
	return at
}

// enter makes a gateway ready to decide about the packet.
func (w *Walk) enter(g *engine.Gateway, in *network.Interface) {
	w.state.StandAt(g)
	state := engine.State(&w.state)
	if w.states != nil {
		state = w.states[g.Index]
	}
	w.visit.Enter(g, &engine.Arrival{In: in, Part: w.part, Sender: w.sender, Size: w.size, At: w.moment}, state, w.back)
}

// pass takes the packet through one gateway.
func (w *Walk) pass(g *engine.Gateway, in *network.Interface) nextPlace {
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
func (w *Walk) ask(g *engine.Gateway, in *network.Interface) nextPlace {
	d, err := w.asks(g.Gateway, &engine.Arrival{In: in, Packet: w.flow.Now(), Part: w.part, Sender: w.sender, Size: w.size, At: w.moment})
	if err != nil {
		w.failed = err
		d = engine.Decision{Action: engine.Stops, Outcome: engine.Dropped, Step: engine.StepSession}
	}
	return w.decided(g, in, w.visit.TakeOver(d))
}

// decided goes on as a gateway decided.
func (w *Walk) decided(g *engine.Gateway, in *network.Interface, d *engine.Decision) nextPlace {
	at := network.Site{Gateway: g.Gateway}
	switch d.Action {
	case engine.Forwards:
		w.sender = d.Sender
		return w.leave(g, d.Route())
	case engine.Takes:
		w.verdict.Outcome, w.verdict.At = engine.Reached, at
		if !w.back { // an answer that a gateway takes came from where the packet was delivered
			w.verdict.To = at
		}
		return nextPlace{kind: takenByGateway, gateway: g}
	default:
		w.end(d.Outcome, at, d.Step, d.Rule)
		switch {
		case d.Step == engine.StepArrive && d.Outcome == engine.Unrouted: // the gateway before it finds nobody there
			w.unreachable(len(w.passages) - 2)
		case d.Tells != engine.NoMessage && !w.back:
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
		w.refusal = refusal{packet: last.packet.Packet, by: last.in, how: engine.ErrorMessage}
	}
}

// end sets how the walk ends. Whatever goes wrong on the way back means that the
// answer is lost.
func (w *Walk) end(o engine.Outcome, at network.Site, step engine.StepKind, rule *network.Rule) {
	if w.back {
		o = engine.Unanswered
	}
	w.verdict.Outcome, w.verdict.At, w.verdict.Step, w.verdict.Rule = o, at, step, rule
	w.verdict.Answered = header.Packet{}
}

// note writes down what happens outside of gateways.
func (w *Walk) note(step engine.StepKind, what engine.What, at network.Site) *engine.Event {
	if !w.log.Keeps {
		return w.log.Unkept()
	}
	return w.log.Add(engine.Event{Step: step, What: what, At: at, Back: w.back, After: w.flow.Now()})
}
