package engine

import (
	"net/netip"

	"hollowbridge/core/flow"
	"hollowbridge/core/header"
	"hollowbridge/core/network"
	"hollowbridge/core/table"
)

// A Visit is a flow at a gateway: what came, what each step has found about it, and the memory in which answers are given.
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

	found

	session  Session // that it belongs to, where it follows one, or begins
	lease    Lease   // that it asks for
	decision Decision
}

// found is what the steps have found about a packet, each its own part, which stands in its file. It is made anew for each packet.
type found struct {
	before flow.Image // as it came
	recognized
	redirected
	routed
	permit *network.Rule // the filter rule that lets it through, or nil
	hidden
}

// Decide is the nine steps, each of which says whether the packet goes on. One of a session skips to the ninth.
func (v *Visit) Decide() *Decision {
	v.found, v.decision.Tells = found{}, NoMessage
	switch goes := v.arrive() && v.recognize(); {
	case !goes:
	case v.follows:
		if !v.isFiltered() || v.permits() {
			v.leave()
		}
	case v.translateDestination() && v.passesBy() && v.route() && v.permits() && v.turns() && v.translateSource() && v.begin():
		v.leave()
	}
	return &v.decision
}

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
	v.found, v.decision.Tells = found{before: v.flow.Image()}, NoMessage
	if v.follow() && (!v.isFiltered() || v.permits()) {
		v.leave()
	}
	return &v.decision, v.follows
}

// Refuse sends the gateway's own refusal of a packet on its way, by the uplink that the packet came in by, or by the
// routes. An ICMP error has the address of the interface by which it leaves.
func (v *Visit) Refuse() *Decision {
	if v.way = v.sessionRoute(v.in); v.way == nil {
		return &v.decision
	}
	if v.part == header.Reports {
		v.sender, _ = v.way.Out.Address(v.flow.Family())
	}
	v.leave()
	return &v.decision
}

// TakeOver makes what somebody else has decided about the packet this gateway's decision.
func (v *Visit) TakeOver(d Decision) *Decision {
	v.found = found{before: v.flow.Image()}
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

// Flow returns the flow that is at the gateway.
func (v *Visit) Flow() *flow.Flow { return &v.flow }

// Came returns the packet as it came.
func (v *Visit) Came() header.Packet { return v.before.Packet }

// Enter makes a visit one of a packet that arrives; the packet itself is the flow's. Back is for events.
func (v *Visit) Enter(g *Gateway, a *Arrival, state State, back bool) {
	v.Gateway, v.in, v.part, v.sender, v.size, v.moment, v.state, v.back = g, a.In, a.Part, a.Sender, a.Size, a.At, state, back
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

// take ends the packet here, at the gateway itself.
func (v *Visit) take() { v.decision.Action, v.decision.Packet = Takes, v.flow.Now() }

// tell lets the sender know that the destination can't be reached (RFC 1812, 5.2.7.1).
func (v *Visit) tell() {
	if !v.Handling.UnreachableSilent {
		v.decision.Tells = ErrorMessage
	}
}
