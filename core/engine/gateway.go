// Package engine is a gateway, compiled, and what it decides about a packet or a set: the nine steps, a file each, with what it
// remembers (state.go) and what happens (event.go). Read Gateway.Decide first: a Visit arrives, asks its flow at each step, and
// leaves as a Decision.
package engine

import (
	"net/netip"
	"time"

	"hollowbridge/core/flow"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
	"hollowbridge/core/table"
)

// A Gateway is one gateway, compiled: what decides about the packets that come to it. It is
// never changed, and may be asked by many goroutines at once, each with a State that may be.
type Gateway struct {
	*network.Gateway
	own          table.ByAddress[network.Interface]
	ownSet       table.AddressSet
	claims       *table.Claims
	claimed      []claimed          // by which rules
	forged       []table.AddressSet // for each interface, the sources that cannot arrive by it
	clients      []table.AddressSet // of each interface, the addresses of its VPN clients
	prefixes     []table.AddressSet // of each interface
	routes       *table.Routes
	zones        []int // of each interface, its number in the matchers' sets
	trust        []int // of each interface
	destinations []natTable[redirect]
	sources      []natTable[pools]
	openings     []*table.Table // of mappings, where the network has some
	mapped       []*Mapping     // those
	holdings     []holding      // ports that they keep
	filter       *table.Table
	ways         []ownRoutes      // of each interface
	addresses    []pools          // of each interface, the first one of each family
	unsent       header.Addresses // outside addresses of rules that nobody sends here
	digests      *network.GatewayDigests
	madeOf       network.GatewayDigests // of the lists that the tables were made of
	location     *time.Location
}

// Renamed returns what rules of an earlier revision of the gateway are called in this one, see network.RenamedRules; nothing where a
// network was not sealed.
func (g *Gateway) Renamed(before *Gateway) map[network.RuleID]network.RuleID {
	if g.digests == nil || before.digests == nil {
		return nil
	}
	return network.RenamedRules(before.Gateway, g.Gateway, before.digests, g.digests)
}

// Location returns where the hours of the gateway's rules are.
func (g *Gateway) Location() *time.Location { return g.location }

// MomentAt returns the moment of a time, where the hours of the gateway's rules are.
func (g *Gateway) MomentAt(t time.Time) network.Moment { return network.MomentAt(t.In(g.location)) }

// ownRoutes are the ways out by an interface, for sessions that must stay on it.
type ownRoutes struct{ beside, upstream, clients table.Route }

// An Arrival is a packet that comes to a gateway.
type Arrival struct {
	In     *network.Interface
	Packet header.Packet
	Part   header.Part
	Sender netip.Addr // of an ICMP error, who sent it; the packet is the answer to the quoted one
	Size   int        // in bytes, to be counted; 0 where nobody counts
	At     network.Moment
}

// An Action is what a gateway does with a packet.
type Action uint8

// The actions.
const (
	Forwards Action = iota // it leaves by an interface
	Takes                  // the gateway itself takes it
	Stops                  // it ends here
)

// A Message is what tells a client that its packet was stopped.
type Message uint8

// The messages.
const (
	NoMessage    Message = iota
	ResetMessage         // a TCP reset (RFC 9293)
	ErrorMessage         // an ICMP error, which quotes the packet (RFC 792, RFC 4443)
)

// RefusedBy returns how a port that nobody listens on, or a reject rule, is told.
func RefusedBy(protocol header.Protocol) Message {
	if protocol == header.TCP {
		return ResetMessage
	}
	return ErrorMessage
}

// A Decision is what a gateway does with a packet, and why.
type Decision struct {
	Action  Action
	Outcome Outcome // where it Stops
	Step    StepKind
	Rule    *network.Rule      // that stopped it
	Packet  header.Packet      // as it leaves, or as the gateway takes it
	Sender  netip.Addr         // as in Arrival; invalid once a translation has given the message the packet's own
	Out     *network.Interface // by which it leaves
	Via     netip.Addr         // the next hop; invalid where the destination itself is on the segment
	Tells   Message            // what its sender is told where it Stops

	Follows  bool          // it belongs to a session that was there before
	Redirect *network.Rule // that translates its destination, or nil
	Permit   *network.Rule // the filter rule that lets it through, or nil
	Source   *network.Rule // that translates its source, or nil

	way *table.Route
}

// Route returns the route by which a packet leaves.
func (d *Decision) Route() *table.Route { return d.way }

// Decide takes a packet through the gateway: the nine steps. It changes nothing but the
// state, and allocates nothing. What happens is added to the log, in which the decision lies too:
// until the log is used again.
func (g *Gateway) Decide(a *Arrival, state State, log *Log) *Decision {
	v := log.Visit()
	v.Enter(g, a, state, false)
	v.flow.Begin(a.Packet)
	d := v.Decide()
	if d.Action != Forwards { // what is left of another packet
		d.Out, d.Via, d.way = nil, netip.Addr{}, nil
	}
	d.Follows, d.Redirect, d.Permit, d.Source = v.follows, v.forward, v.permit, v.source
	if v.follows {
		d.Redirect, d.Permit, d.Source = v.session.Redirect, v.session.Permit, v.session.Source
	}
	return d
}

// Answer takes the gateway's own answer to a packet that it took on its way: as Decide, but it
// belongs to a session or goes nowhere.
func (g *Gateway) Answer(a *Arrival, state State, log *Log) (d *Decision, ok bool) {
	v := log.Visit()
	v.Enter(g, &Arrival{Part: a.Part, Sender: a.Sender, Size: a.Size, At: a.At}, state, false)
	v.flow.Begin(a.Packet)
	return v.Answer()
}

// Answer is Gateway.Answer of the flow that is at the gateway.
func (v *Visit) Answer() (d *Decision, ok bool) {
	v.redirect, v.before, v.decision.Tells = nil, v.flow.Image(), NoMessage
	ok = v.known()
	return &v.decision, ok
}

// Refuse sends the gateway's own refusal of a packet on its way, by the uplink that the packet came in by, or by the
// routes. An ICMP error has the address of the interface by which it leaves.
func (v *Visit) Refuse() *Decision {
	way := v.sessionRoute(v.in)
	if way == nil {
		return &v.decision
	}
	if v.part == header.Reports {
		v.sender, _ = way.Out.Address(v.flow.Family())
	}
	v.leave(way)
	return &v.decision
}

// TakeOver makes what somebody else has decided about the packet this gateway's decision.
func (v *Visit) TakeOver(d Decision) *Decision {
	v.stood, v.before = false, v.flow.Image()
	if v.decision = d; d.Action == Stops {
		v.note(d.Step, Stopped, d.Rule)
		return &v.decision
	}
	v.flow.Begin(d.Packet)
	if d.Action == Forwards {
		v.decision.way = v.wayBy(d.Out, d.Via)
	}
	v.out = d.Out
	v.note(StepLeave, Passes, nil).Before = v.before.Packet
	return &v.decision
}

// wayBy returns the way that leaves by an interface to a next hop.
func (v *Visit) wayBy(out *network.Interface, via netip.Addr) *table.Route {
	r := v.flow.By(v.routes)
	up := &v.ways[out.Index]
	switch {
	case r != nil && !r.Blackhole && r.Out == out && r.Via == via:
		return r
	case out.FacesInternet(v.flow.Family()) && via.IsValid():
		return &up.upstream
	case out.FacesInternet(v.flow.Family()):
		return &up.beside
	}
	return &table.Route{Out: out, Via: via}
}

// A Visit is a flow at a gateway.
type Visit struct {
	*Gateway
	in     *network.Interface
	flow   flow.Flow
	part   header.Part
	sender netip.Addr
	size   int
	moment network.Moment
	state  State
	log    *Log
	back   bool // for events

	before   flow.Image       // as it came
	redirect *redirect        // what redirects it, or nil
	forward  *network.Rule    // the rule that does, or nil
	whole    *network.NATRule // the same; to look at it is to wait for memory
	permit   *network.Rule    // the filter rule that lets it through, or nil
	source   *network.Rule    // the rule that translates its source, or nil
	grant    Grant            // of its translated source, or one that is not alone and has no ticket
	after    header.Packet    // as it is after the third step,
	stood    bool             // where it came to that
	stray    bool             // it passes without a session, so nothing translates it
	out      *network.Interface
	session  Session // that it belongs to, or begins
	follows  bool    // it belongs to one
	lease    Lease   // that it asks for
	decision Decision
}

// Flow returns the flow that is at the gateway.
func (v *Visit) Flow() *flow.Flow { return &v.flow }

// Came returns the packet as it came.
func (v *Visit) Came() header.Packet { return v.before.Packet }

// Enter makes a visit one of a packet that arrives; the packet itself is the flow's. Back is for events.
func (v *Visit) Enter(g *Gateway, a *Arrival, state State, back bool) {
	v.Gateway, v.in, v.part, v.sender, v.size, v.moment, v.state, v.back = g, a.In, a.Part, a.Sender, a.Size, a.At, state, back
}

// Decide is the nine steps.
func (v *Visit) Decide() *Decision {
	v.decide()
	return &v.decision
}

// decide is the nine steps. Each returns false where the packet ends.
func (v *Visit) decide() {
	v.redirect, v.whole, v.forward, v.permit, v.source, v.out, v.stood = nil, nil, nil, nil, nil, nil, false
	v.follows, v.stray = false, false
	v.decision.Tells, v.grant.Alone, v.grant.Ticket = NoMessage, false, Ticket{}
	if !v.arrive() {
		return
	}
	v.before = v.flow.Image()
	if v.known() {
		return
	}
	stray, ok := v.strays()
	if v.stray = stray; !ok || !stray && !v.translateDestination() {
		return
	}
	v.after, v.stood = v.flow.Now(), true
	if v.isItself() {
		v.itself()
		return
	}
	way := v.route()
	if way == nil {
		return
	}
	v.out = way.Out
	if !v.permits(way.Out) || !v.turns(way.Out) {
		return
	}
	if !stray {
		if way = v.translateSource(way); way == nil || !v.keep(way.Out, false) {
			return
		}
	}
	v.leave(way)
}

func (v *Visit) site() network.Site { return network.Site{Gateway: v.Gateway.Gateway} }

// note writes down what happens here.
func (v *Visit) note(step StepKind, what What, rule *network.Rule) *Event {
	if !v.log.Keeps {
		return &v.log.unkept
	}
	return v.log.Add(Event{Step: step, What: what, At: v.site(), Back: v.back, Rule: rule, In: v.in, Out: v.out, After: v.flow.Now()})
}

// stop ends the packet here.
func (v *Visit) stop(o Outcome, step StepKind, rule *network.Rule) {
	v.decision.Action, v.decision.Outcome, v.decision.Step, v.decision.Rule = Stops, o, step, rule
}

// tell lets the sender know that the destination can't be reached (RFC 1812, 5.2.7.1).
func (v *Visit) tell() {
	if !v.Handling.UnreachableSilent {
		v.decision.Tells = ErrorMessage
	}
}

// Between returns what conditions are compared in for packets from one interface to another.
func (g *Gateway) Between(in, out *network.Interface, at network.Moment) table.Scope {
	return table.Scope{FromZone: g.zones[in.Index], ToZone: g.zones[out.Index], Moment: at}
}
